//! Cards in use: loop devices with mounted filesystems and constant writes.

use crate::{
    harness::{Bench, is_root, noise, sized, times, tool},
    loops::{Loop, Mount},
};
use std::{
    fs::{self, File, OpenOptions},
    io::Write,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    thread::{self, JoinHandle},
    time::{Duration, Instant},
};

/// How many writers there are.
const WRITERS: usize = 5;

/// Writers that number their steps.
struct Load {
    ends: Arc<AtomicBool>,
    /// The last step that each has done.
    steps: Arc<[AtomicU64; WRITERS]>,
    /// The longest that one step of the quickest took, in microseconds.
    longest: Arc<AtomicU64>,
    writers: Vec<JoinHandle<()>>,
    sqlite: Option<Child>,
}

fn number(path: &Path) -> u64 {
    fs::read_to_string(path).unwrap().trim().parse().unwrap()
}

impl Load {
    fn on(at: &Path) -> Self {
        let mut load = Self {
            ends: Arc::default(),
            steps: Arc::default(),
            longest: Arc::default(),
            writers: Vec::new(),
            sqlite: None,
        };
        for folder in ["names", "window"] {
            fs::create_dir_all(at.join(folder)).unwrap();
        }
        // Lines at the end of a file, some of them flushed.
        let mut log = OpenOptions::new().append(true).create(true).open(at.join("log")).unwrap();
        load.writer(0, 400, move |step| {
            // One call, so that it is there or not.
            let line = format!("{step} hive-07 weighs {}\n", 40_000 + step % 977);
            log.write_all(line.as_bytes()).unwrap();
            if step % 64 == 0 {
                log.sync_data().unwrap();
            }
        });
        // A file that is replaced by renaming.
        let folder = at.join("names");
        load.writer(1, 2000, move |step| {
            let new = folder.join("new");
            let mut file = File::create(&new).unwrap();
            writeln!(file, "{step}").unwrap();
            file.sync_all().unwrap();
            fs::rename(new, folder.join("current")).unwrap();
        });
        // Two files that are written in place, one after the other, each page at another place.
        let open = |name: &str| {
            let file = File::create(at.join(name)).unwrap();
            file.set_len(1 << 20).unwrap();
            file.write_all_at(&vec![0; 1 << 20], 0).unwrap();
            file
        };
        let (first, second) = (open("first"), open("second"));
        let longest = Arc::clone(&load.longest);
        load.writer(2, 100, move |step| {
            let begun = Instant::now();
            let place = (step % 256) * 4096;
            first.write_all_at(&step.to_le_bytes(), place).unwrap();
            second.write_all_at(&step.to_le_bytes(), place).unwrap();
            let took = begun.elapsed().as_micros();
            longest.fetch_max(u64::try_from(took).unwrap(), Ordering::Relaxed);
        });
        // Files that come and go: the last twenty.
        let folder = at.join("window");
        load.writer(3, 700, move |step| {
            fs::write(folder.join(step.to_string()), vec![step as u8; 5000]).unwrap();
            if step > 20 {
                fs::remove_file(folder.join((step - 20).to_string())).unwrap();
            }
        });
        // A database with a sum that never changes.
        let database = at.join("hive.db");
        let mut sqlite = Command::new("sqlite3");
        sqlite.arg(&database).stdin(Stdio::piped()).stdout(Stdio::null());
        let mut sqlite = sqlite.spawn().expect("sqlite3: ./test installs it");
        let mut say = sqlite.stdin.take().unwrap();
        say.write_all(
            b"create table frames(id integer primary key, honey integer);
              with recursive n(x) as (select 1 union all select x + 1 from n where x < 50)
              insert into frames select x, 1000 from n;\n",
        )
        .unwrap();
        load.sqlite = Some(sqlite);
        load.writer(4, 3000, move |step| {
            let (from, to) = (step % 50 + 1, step * 7 % 50 + 1);
            let all = format!(
                "begin; update frames set honey = honey - 1 where id = {from}; \
                 update frames set honey = honey + 1 where id = {to}; commit;\n"
            );
            say.write_all(all.as_bytes()).unwrap();
        });
        thread::sleep(Duration::from_millis(300));
        load
    }

    /// Calls `step` with 1, 2, 3 …, with a pause of so many microseconds.
    fn writer(&mut self, index: usize, pause: u64, mut step: impl FnMut(u64) + Send + 'static) {
        let (ends, steps) = (Arc::clone(&self.ends), Arc::clone(&self.steps));
        self.writers.push(thread::spawn(move || {
            for number in 1.. {
                if ends.load(Ordering::Relaxed) {
                    return;
                }
                step(number);
                steps[index].store(number, Ordering::SeqCst);
                thread::sleep(Duration::from_micros(pause));
            }
        }));
    }

    fn now(&self) -> Vec<u64> {
        self.steps.iter().map(|step| step.load(Ordering::SeqCst)).collect()
    }
}

impl Drop for Load {
    fn drop(&mut self) {
        self.ends.store(true, Ordering::Relaxed);
        for writer in self.writers.drain(..) {
            writer.join().unwrap();
        }
        // Its input ended with its writer.
        if let Some(mut sqlite) = self.sqlite.take() {
            sqlite.wait().unwrap();
        }
    }
}

/// Returns whether the data that writers left in `at` are of one time between `start` and `end`.
fn is_of_one_snapshot(at: &Path, start: &[u64], end: &[u64]) {
    let within = |index: usize, step: u64| {
        // A step in progress is visible when it is done, and counted a little later.
        let range = start[index]..=end[index] + 1;
        assert!(range.contains(&step), "writer {index}: {step} is not in {range:?}");
    };
    let log = fs::read_to_string(at.join("log")).unwrap();
    assert!(log.ends_with('\n'), "a line is torn");
    let lines = (1u64..).zip(log.lines());
    for (step, line) in lines.clone() {
        assert_eq!(line, format!("{step} hive-07 weighs {}", 40_000 + step % 977));
    }
    within(0, lines.count() as u64);
    within(1, number(&at.join("names/current")));
    let steps = |name: &str| {
        let bytes = fs::read(at.join(name)).unwrap();
        let places =
            bytes.chunks(4096).map(|page| u64::from_le_bytes(page[..8].try_into().unwrap()));
        places.collect::<Vec<_>>()
    };
    let (first, second) = (steps("first"), steps("second"));
    let (newest, behind) = (*first.iter().max().unwrap(), *second.iter().max().unwrap());
    assert!(newest == behind || newest == behind + 1, "{newest} and {behind}");
    within(2, newest);
    // Every page is the last that was written to its place up to then.
    for (steps, newest) in [(first, newest), (second, behind)] {
        for (place, step) in (0u64..).zip(steps) {
            let due = newest - (newest + 256 - place) % 256;
            assert_eq!(step, if newest < 256 { step.min(due) } else { due }, "page {place}");
        }
    }
    let mut window: Vec<u64> = fs::read_dir(at.join("window"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_str().unwrap().parse().unwrap())
        .collect();
    window.sort_unstable();
    let newest = *window.last().unwrap();
    within(3, newest);
    let oldest = window[0];
    assert_eq!(window, (oldest..=newest).collect::<Vec<_>>(), "a file of the window is missing");
    assert!(window.len() <= 21, "{window:?}");
    for step in &window {
        let content = fs::read(at.join("window").join(step.to_string())).unwrap();
        let is_new = *step == newest && content.len() < 5000;
        assert!(is_new || content == vec![*step as u8; 5000], "{step}");
    }
    // As after a crash, the database rolls back, and needs to write for that.
    let apart = tempfile::tempdir().unwrap();
    let line = format!("cp {}/hive.db* {}", at.display(), apart.path().display());
    tool!("sh", "-c", line);
    let database = apart.path().join("hive.db");
    let told = tool!(
        "sqlite3",
        database,
        "pragma integrity_check; select sum(honey), count(*) from frames;"
    );
    assert_eq!(told, "ok\n50000|50\n");
}

/// A card in use: a table, an unmounted volume, and one with constant writes.
struct InUse {
    bench: Bench,
    mount: Option<Mount>,
    part: Option<Loop>,
    card: Loop,
}

/// The offset of the volume in use.
const START: u64 = 34 << 20;

impl InUse {
    fn with(content: usize, made: &str) -> Self {
        Self::in_bench(Bench::empty(), content, made)
    }

    fn in_bench(bench: Bench, content: usize, made: &str) -> Self {
        let file = bench.path("card");
        sized(&file, 600 << 20);
        let table = "label: dos\nstart=2048,size=65536,type=c,bootable\nstart=69632,type=83\n";
        fs::write(bench.path("table"), table).unwrap();
        let card = Loop::on(&file);
        let line = format!("sfdisk -q {} < {}", file.display(), bench.path("table").display());
        tool!("sh", "-c", line);
        sized(&bench.path("fat"), 32 << 20);
        tool!("mkfs.vfat", "-n", "HIVE-BOOT", bench.path("fat"));
        crate::harness::put(&file, 1 << 20, &fs::read(bench.path("fat")).unwrap());
        let part = Loop::at(&card.0, START);
        tool!("sh", "-c", format!("{made} -L hive-07 {}", part.name()));
        let mount = Mount::of(&part, bench.path("mnt"), "noatime");
        fs::create_dir(mount.0.join("etc")).unwrap();
        fs::write(mount.0.join("etc/hostname"), "hive-07\n").unwrap();
        for number in 0..content {
            fs::write(mount.0.join(format!("brood-{number}.wav")), noise(4 << 20)).unwrap();
        }
        tool!("sync", "-f", mount.0);
        // Writes within the resolution of timestamps can't be distinguished.
        thread::sleep(Duration::from_millis(2500));
        Self { bench, mount: Some(mount), part: Some(part), card }
    }

    fn at(&self) -> PathBuf {
        self.mount.as_ref().unwrap().0.clone()
    }

    /// The volume in use, as the image `name` has it, mounted; after the system's checker.
    fn mounted(&self, name: &str) -> (Mount, Loop) {
        let raw = self.bench.path("raw");
        let image = self.bench.path(name);
        tool!("zstd", "-dqfo", raw, image);
        let volume = Loop::at(&raw, START);
        tool!("e2fsck", "-fn", volume.0);
        (Mount::of(&volume, self.bench.path("seen"), "ro"), volume)
    }
}

impl Drop for InUse {
    fn drop(&mut self) {
        self.mount = None;
        self.part = None;
    }
}

/// The maximum number of bytes read during a freeze. Its duration depends on other processes, so the tests count bytes;
/// `scripts/live-cost` measures the time.
const FROZEN_READS: u64 = 24 << 20;
/// Seconds that a writer may be held up beyond the longest freeze.
const SLACK: f64 = 5.0;

/// Saves it under load so many times, each time based on the previous image; fails on the first image that is not a
/// snapshot.
fn saved_under_load(images: usize) {
    let card = InUse::with(24, "mkfs.ext4 -q -F");
    let load = Load::on(&card.at());
    for number in 0..images {
        load.longest.store(0, Ordering::Relaxed);
        let start = load.now();
        let more = match number {
            0 => String::new(),
            _ => format!("--reuse image-{}.img.zst", number - 1),
        };
        let words =
            format!("save --live {} image-{number}.img.zst --json {more}", card.card.name());
        let saved = card.bench.good(&words).json();
        let end = load.now();
        let longest = load.longest.load(Ordering::Relaxed) as f64 / 1e6;
        let frozen = saved["frozen"]["seconds"].as_array().unwrap();
        let frozen: Vec<_> = frozen.iter().map(|time| time.as_f64().unwrap()).collect();
        assert!(frozen.len() >= 2, "{saved}");
        let most = frozen.iter().copied().fold(0.0, f64::max);
        let read = saved["frozen"]["read_bytes"].as_u64().unwrap();
        assert!(read > 0 && read < FROZEN_READS, "{read} bytes read while frozen, {frozen:?}");
        assert!(longest < most + SLACK, "a writer was held up for {longest} s, {frozen:?}");
        assert!(
            start.iter().zip(&end).all(|(start, end)| start < end),
            "somebody stopped: {end:?}"
        );
        let (mount, volume) = card.mounted(&format!("image-{number}.img.zst"));
        is_of_one_snapshot(&mount.0, &start, &end);
        drop(mount);
        drop(volume);
        let checked = card.bench.good(&format!("check image-{number}.img.zst"));
        assert!(!checked.out_has("were unmounted") && !checked.out_has("it was unmounted"));
        if number > 0 {
            fs::remove_file(card.bench.path(format!("image-{}.img.zst", number - 1))).unwrap();
        }
    }
    // The first must have been written over in the same pages several times, else nothing was tested.
    assert!(load.now()[2] > 1000, "{:?}", load.now());
}

#[test]
fn live_save_under_load_is_a_snapshot() {
    if is_root("live_save_under_load_is_a_snapshot") {
        saved_under_load(times("IMBRIK_LIVE_IMAGES", 3));
    }
}

/// Fails if a card gets content of two times, data are overwritten before they are read, or the copy's identity is
/// lost.
#[test]
fn live_clone_under_load_is_a_snapshot() {
    if !is_root("live_clone_under_load_is_a_snapshot") {
        return;
    }
    let card = InUse::with(12, "mkfs.ext4 -q -F");
    let bench = &card.bench;
    fs::create_dir(bench.path("rack")).unwrap();
    let slot =
        |name: &str, mib: u64| format!("[[slot]]\nname = \"{name}\"\nsize = {}\n", mib << 20);
    bench.write_rack(&[slot("same", 600), slot("big", 900), slot("small", 500)].concat());
    // Not blank: whatever is not written shows its old bytes.
    for (name, mib) in [("same", 600), ("big", 900)] {
        fs::write(bench.path(format!("rack/{name}.img")), vec![0xee; mib << 20]).unwrap();
    }
    let name = card.card.name();
    bench
        .imbrik(&format!("clone --live {name} rack:small --yes"))
        .expect(4)
        .says("the same size or larger");
    bench
        .imbrik(&format!("clone --live {name} rack:big rack:same --yes"))
        .expect(2)
        .says("one card only");
    let load = Load::on(&card.at());
    for (to, more) in [("same", ""), ("big", "--as-new hive-11")] {
        let start = load.now();
        let words = format!("clone --live {name} rack:{to} --yes {more}");
        let run = bench.good(&words);
        let end = load.now();
        assert!(run.out_has("Frozen    "), "{run:?}");
        let volume = Loop::at(&bench.path(format!("rack/{to}.img")), START);
        tool!("e2fsck", "-fn", volume.0);
        let mount = Mount::of(&volume, bench.path("seen"), "ro");
        is_of_one_snapshot(&mount.0, &start, &end);
        let host = if more.is_empty() { "hive-07\n" } else { "hive-11\n" };
        assert_eq!(fs::read_to_string(mount.0.join("etc/hostname")).unwrap(), host);
        for number in 0..12 {
            assert!(
                fs::read(mount.0.join(format!("brood-{number}.wav"))).unwrap() == noise(4 << 20)
            );
        }
        let len: u64 = tool!("blockdev", "--getsize64", volume.0).trim().parse().unwrap();
        let blocks = tool!("df", "--output=size", "-B1", mount.0);
        let has: u64 = blocks.lines().last().unwrap().trim().parse().unwrap();
        assert!(has > len / 10 * 9, "it did not grow: {has} of {len}");
    }
}

/// Fails if a target with content from different times has a partition table: a board would boot from it. Kills the
/// program at many points, and requires that some are between the first write and the last.
#[test]
#[ignore = "long: run by ./test --full"]
fn killed_live_clone_leaves_no_partition_table_over_torn_content() {
    if !is_root("killed_live_clone_leaves_no_partition_table_over_torn_content") {
        return;
    }
    let card = InUse::with(12, "mkfs.ext4 -q -F");
    let bench = &card.bench;
    fs::create_dir(bench.path("rack")).unwrap();
    // Slow writes leave time between the passes.
    bench.write_rack("[[slot]]\nname = \"same\"\nsize = 629145600\nwrite_rate = 60000000\n");
    let target = bench.path("rack/same.img");
    let name = card.card.name();
    let _load = Load::on(&card.at());
    let first_sector = || {
        let mut sector = [0; 512];
        File::open(&target).unwrap().read_exact_at(&mut sector, 0).unwrap();
        sector
    };
    let said = bench.path("said");
    let (mut torn, mut step) = (0, 0);
    // On a busy machine the clone may give up, because the freeze would take too long: it is tried again.
    for attempt in 0.. {
        assert!(
            attempt < 40,
            "killed {torn} times, never finished: {}",
            fs::read_to_string(&said).unwrap_or_default()
        );
        fs::write(&target, vec![0xee; 600 << 20]).unwrap();
        let mut run = bench.command(["clone", "--live", &name, "rack:same", "--yes"]);
        let errors = File::create(&said).unwrap();
        let mut run = run.stdout(Stdio::null()).stderr(errors).spawn().unwrap();
        while first_sector() == [0xee; 512] && run.try_wait().unwrap().is_none() {
            thread::sleep(Duration::from_millis(5));
        }
        thread::sleep(Duration::from_millis(step * 500));
        let ended = run.try_wait().unwrap();
        run.kill().unwrap();
        run.wait().unwrap();
        let sector = first_sector();
        if ended.is_none() && sector == [0; 512] {
            torn += 1;
            step += 1;
        }
        if sector != [0; 512] && sector != [0xee; 512] {
            // The table is the last write: everything else must be on the card by then.
            tool!("e2fsck", "-fn", Loop::at(&target, START).0);
            step += 1;
        }
        if ended.is_some_and(|status| status.success()) {
            assert!(sector != [0; 512] && sector != [0xee; 512], "finished without a table");
            break;
        }
    }
    assert!(torn > 2, "killed only {torn} times between the first write and the last");
}

/// Several volumes of a card are frozen together. Fails if one of them changes while another one is read; hangs if they
/// wait for each other.
#[test]
fn volumes_of_a_card_are_frozen_together() {
    if !is_root("volumes_of_a_card_are_frozen_together") {
        return;
    }
    let bench = Bench::empty();
    let file = bench.path("card");
    sized(&file, 160 << 20);
    let starts = [1u64 << 20, 80 << 20];
    let table = "label: gpt\nstart=2048,size=161792\nstart=163840,size=161792\n";
    fs::write(bench.path("table"), table).unwrap();
    tool!("sh", "-c", format!("sfdisk -q {0}/card < {0}/table", bench.path("").display()));
    let card = Loop::on(&file);
    let parts = starts.map(|start| Loop::at(&card.0, start));
    let [a, b] = &parts;
    tool!(
        "sh",
        "-c",
        format!("mkfs.ext4 -q -F {} 79M; mkfs.ext4 -q -F {} 79M", a.name(), b.name())
    );
    let mounts =
        [("a", a), ("b", b)].map(|(name, part)| Mount::of(part, bench.path(name), "noatime"));
    // A volume in a file of the second one, mounted on a folder of the first.
    let inner = bench.path("b/inner");
    sized(&inner, 16 << 20);
    tool!("mkfs.ext4", "-q", "-F", inner);
    let inside = Loop::on(&inner);
    let deep = Mount::of(&inside, bench.path("a/deep"), "noatime");
    let open = |name: &str| File::create(bench.path(name)).unwrap();
    let (first, second) = (open("a/first"), open("b/second"));
    let ends = Arc::new(AtomicBool::new(false));
    let told = Arc::clone(&ends);
    let busy = thread::spawn(move || {
        for step in 1u64.. {
            if told.load(Ordering::Relaxed) {
                return;
            }
            first.write_all_at(&step.to_le_bytes(), (step % 64) * 4096).unwrap();
            second.write_all_at(&step.to_le_bytes(), (step % 64) * 4096).unwrap();
            thread::sleep(Duration::from_micros(50));
        }
    });
    let mut seen = Vec::new();
    for number in 0..3 {
        let saved = bench.good(&format!("save --live {} i.img.zst --replace", card.name()));
        assert!(saved.out_has(" and ") && saved.out_has("Frozen"), "{saved:?}");
        tool!("zstd", "-dqfo", bench.path("raw"), bench.path("i.img.zst"));
        let newest = [(0, "first"), (1, "second")].map(|(index, name): (usize, &str)| {
            let volume = Loop::at(&bench.path("raw"), starts[index]);
            tool!("e2fsck", "-fn", volume.0);
            let mount = Mount::of(&volume, bench.path("seen"), "ro");
            let bytes = fs::read(mount.0.join(name)).unwrap();
            let steps =
                bytes.chunks(4096).map(|page| u64::from_le_bytes(page[..8].try_into().unwrap()));
            steps.max().unwrap()
        });
        let [first, second] = newest;
        assert!(first == second || first == second + 1, "image {number}: {newest:?}");
        seen.push(first);
    }
    assert!(seen.is_sorted() && seen[0] > 100, "{seen:?}");
    // A mount that covers its mount point is not mistaken for it: it is mounted elsewhere, too.
    fs::create_dir(bench.path("c")).unwrap();
    tool!("mount", "--bind", bench.path("a"), bench.path("c"));
    tool!("mount", "-t", "tmpfs", "tmpfs", bench.path("a"));
    let saved = bench.imbrik(&format!("save --live {} i.img.zst --replace", card.name()));
    tool!("umount", bench.path("a"));
    tool!("umount", bench.path("c"));
    let told = crate::harness::flat(&saved.expect(0).stdout);
    let places = [bench.path("b"), bench.path("c")].map(|at| at.display().to_string());
    assert!(places.iter().all(|place| told.contains(place.as_str())), "{told}");
    ends.store(true, Ordering::Relaxed);
    busy.join().unwrap();
    drop(deep);
    drop(inside);
    drop(mounts);
}

/// Which process is killed or stopped.
#[derive(Clone, Copy)]
enum Who {
    Program,
    Freezer,
    Both,
}

/// The freezing process of the run with the process id `id`; empty if it has none.
fn freezer_of(id: &str) -> String {
    let found = tool!("sh", "-c", format!("pgrep -P {id} -f stand-still || true"));
    found.trim().to_owned()
}

/// A thread that writes to a file on the volume in use, over and over.
struct Writer {
    stops: Arc<AtomicBool>,
    writes: Arc<AtomicU64>,
    folder: PathBuf,
    /// Its folder in `/proc`.
    task: PathBuf,
}

impl Writer {
    fn on(folder: &Path) -> Self {
        let file = File::create(folder.join("heart")).unwrap();
        let (stops, writes) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
        let (told, counted) = (Arc::clone(&stops), Arc::clone(&writes));
        let (give, task) = std::sync::mpsc::channel();
        thread::spawn(move || {
            give.send(fs::read_link("/proc/thread-self").unwrap()).unwrap();
            while !told.load(Ordering::Relaxed) {
                file.write_all_at(b"beat", 0).unwrap();
                counted.fetch_add(1, Ordering::SeqCst);
                thread::sleep(Duration::from_micros(300));
            }
        });
        let task = Path::new("/proc").join(task.recv().unwrap());
        Self { stops, writes, folder: folder.to_owned(), task }
    }

    /// Returns whether it writes within `time`.
    fn writes_within(&self, time: Duration) -> bool {
        let (before, until) = (self.writes.load(Ordering::SeqCst), Instant::now() + time);
        while Instant::now() < until {
            if self.writes.load(Ordering::SeqCst) > before + 1 {
                return true;
            }
            thread::sleep(Duration::from_micros(200));
        }
        false
    }

    /// Returns whether it has waited in the kernel for 6 ms. On a busy machine it may also wait for its turn: then it doesn't
    /// count as blocked.
    fn is_blocked(&self) -> bool {
        let before = self.writes.load(Ordering::SeqCst);
        (0..12).all(|_| {
            thread::sleep(Duration::from_micros(500));
            let status = fs::read_to_string(self.task.join("stat")).unwrap_or_default();
            // The state follows the name, which is in parentheses.
            let is_waiting = status.rsplit(") ").next().is_some_and(|rest| rest.starts_with('D'));
            is_waiting && self.writes.load(Ordering::SeqCst) == before
        })
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        self.stops.store(true, Ordering::Relaxed);
        // The volume can't be unmounted before the file is closed, and after a failed test it may be frozen.
        while self.task.exists() {
            if thread::panicking() {
                let _ = Command::new("fsfreeze").arg("-u").arg(&self.folder).output();
            }
            thread::sleep(Duration::from_millis(1));
        }
    }
}

/// Fails when a filesystem stays frozen after one or both processes of a live save were killed or stopped.
///
#[test]
fn killed_live_save_leaves_no_frozen_filesystem() {
    if !is_root("killed_live_save_leaves_no_frozen_filesystem") {
        return;
    }
    // In memory: a freeze waits for everything that is being written to the disk, by other tests, too.
    let card = InUse::in_bench(Bench::in_memory(4 << 30), 4, "mkfs.ext4 -q -F");
    let writer = Writer::on(&card.at());
    let limit = Duration::from_secs(4);
    let mut still_frozen = 0;
    // Each process alone is killed or stopped; then both are killed at once, and the next run thaws.
    for (signal, who, wanted) in [
        ("-KILL", Who::Program, 8),
        ("-STOP", Who::Program, 2),
        ("-KILL", Who::Freezer, 8),
        ("-STOP", Who::Freezer, 2),
        ("-KILL", Who::Both, 8),
    ] {
        let (mut hit, mut tries) = (0, 0);
        while hit < wanted || (matches!(who, Who::Both) && still_frozen == 0) {
            tries += 1;
            assert!(tries < 300, "no freeze was seen: {hit} of {wanted} runs were interrupted");
            let words =
                format!("save --live {} k.img.zst --freeze-limit 4s --replace", card.card.name());
            let mut run = card.bench.command(words.split(' '));
            let mut run = run.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
            let id = run.id().to_string();
            while run.try_wait().unwrap().is_none() {
                if !writer.is_blocked() {
                    continue;
                }
                let freezer = match who {
                    Who::Program => String::new(),
                    _ => freezer_of(&id),
                };
                let victims = match who {
                    Who::Program => vec![id.as_str()],
                    _ if freezer.is_empty() => continue,
                    Who::Freezer => vec![freezer.as_str()],
                    Who::Both => vec![freezer.as_str(), id.as_str()],
                };
                // Stopped first: else the one that is killed last would thaw.
                let stop = if matches!(who, Who::Both) { "kill -STOP" } else { "true" };
                let victims = victims.join(" ");
                let line = format!("{stop} {victims}; kill {signal} {victims} || true");
                tool!("sh", "-c", line);
                let begun = Instant::now();
                if matches!(who, Who::Both) {
                    run.wait().unwrap();
                    still_frozen += u64::from(!writer.writes_within(Duration::from_millis(100)));
                    card.bench.run(["thaw-leftovers"]).expect(0);
                }
                let most = if signal == "-KILL" { limit } else { limit + Duration::from_secs(3) };
                assert!(
                    writer.writes_within(most),
                    "{signal}: still frozen after {most:?} at a limit of {limit:?}"
                );
                let took = begun.elapsed();
                assert!(took < most, "{signal}: frozen for {took:?} at a limit of {limit:?}");
                if matches!(who, Who::Freezer) && signal == "-STOP" {
                    tool!("sh", "-c", format!("kill -CONT {freezer} || true"));
                }
                hit += 1;
                break;
            }
            if signal == "-STOP" && matches!(who, Who::Program) {
                // Resumed, it reports that the data it read are not a snapshot.
                tool!("sh", "-c", format!("kill -CONT {id} || true"));
                let ended = run.wait().unwrap();
                let code = ended.code().unwrap();
                assert!(code == 0 || code == 4 || code == 3, "{ended}");
            }
            let _ = run.kill();
            run.wait().unwrap();
        }
    }
    drop(writer);
    assert!(still_frozen > 0, "no process was killed while the filesystem was frozen");
    // Nothing is left that holds it.
    tool!("fsfreeze", "-f", card.at());
    tool!("fsfreeze", "-u", card.at());
}

#[test]
fn output_on_the_frozen_card_is_refused_or_deferred() {
    if !is_root("output_on_the_frozen_card_is_refused_or_deferred") {
        return;
    }
    let card = InUse::with(2, "mkfs.ext4 -q -F");
    let name = card.card.name();
    let at = card.at();
    for image in [at.join("x.img.zst"), at.join("etc")] {
        let words = ["save", "--live", &name, image.to_str().unwrap()];
        card.bench.run(words).expect(4).says("lies on the card itself");
    }
    // A file on it that is mounted elsewhere is still on it.
    let inner = at.join("inner");
    sized(&inner, 64 << 20);
    tool!("mkfs.ext4", "-q", "-F", inner);
    let inside = Loop::on(&inner);
    let mount = Mount::of(&inside, card.bench.path("inner"), "noatime");
    card.bench
        .imbrik(&format!("save --live {name} inner/"))
        .expect(4)
        .says("lies on the card itself");
    drop((mount, inside));
    // Output and log on the frozen card are written after the thaw.
    let mut run = card.bench.command(["save", "--live", &name, "x.img.zst", "--log"]);
    run.arg(at.join("log")).stdout(File::create(at.join("out")).unwrap());
    let run = run.stderr(File::create(at.join("err")).unwrap()).status().unwrap();
    assert!(run.success());
    assert!(fs::read_to_string(at.join("out")).unwrap().contains("Frozen    "));
    assert!(fs::read_to_string(at.join("log")).unwrap().contains("frozen"));
    // Frozen by another process: left unchanged.
    tool!("fsfreeze", "-f", at);
    let refused = card.bench.imbrik(&format!("save --live {name} y.img.zst"));
    tool!("fsfreeze", "-u", at);
    refused.expect(4).says("frozen already").says("fsfreeze -u");
    card.bench.imbrik("save --live").expect(2).says("which card?");
    card.bench.imbrik(&format!("save --live {name} -")).expect(2).says("pipe");
    let other = Loop::on(&card.bench.path("fat"));
    card.bench
        .imbrik(&format!("save --live {} y.img.zst", other.name()))
        .expect(2)
        .says("no volume of");
    assert!(!card.bench.path("y.img.zst").exists());
    let left = card.bench.list("");
    assert!(!left.iter().any(|name| name.to_string_lossy().contains(".copy")), "{left:?}");
}

/// Fails if an unfreezable kind counts as frozen, or the wait has no end.
#[test]
fn volume_that_cannot_be_frozen_is_read_until_unchanged() {
    if !is_root("volume_that_cannot_be_frozen_is_read_until_unchanged") {
        return;
    }
    let bench = Bench::empty();
    let (file, at) = (bench.path("card"), bench.path("mnt"));
    sized(&file, 64 << 20);
    tool!("mkfs.exfat", file);
    let card = Loop::on(&file);
    fs::create_dir(&at).unwrap();
    tool!("mount.exfat-fuse", "-o", "rw", card.0, at);
    fs::write(at.join("brood.wav"), noise(9 << 20)).unwrap();
    fs::write(at.join("weights"), noise(70_000)).unwrap();
    let name = card.name();
    let saved = bench.good(&format!("save --live {name} a.img.zst"));
    assert!(saved.out_has("can't be frozen: read until it was unchanged"), "{saved:?}");
    assert!(!saved.out_has("Frozen"), "{saved:?}");
    tool!("zstd", "-dqfo", bench.path("seen"), bench.path("a.img.zst"));
    // Silent, also about a volume that was not unmounted.
    tool!("fsck.exfat", "-n", bench.path("seen"));
    bench.good("files get a.img.zst / out");
    for name in ["brood.wav", "weights"] {
        assert!(fs::read(at.join(name)).unwrap() == bench.bytes(format!("out/{name}")), "{name}");
    }
    let ends = Arc::new(AtomicBool::new(false));
    let (told, weights) = (Arc::clone(&ends), at.join("weights"));
    let busy = thread::spawn(move || {
        for step in 0u64.. {
            if told.load(Ordering::Relaxed) {
                return;
            }
            let file = OpenOptions::new().write(true).open(&weights).unwrap();
            file.write_all_at(&step.to_le_bytes(), 0).unwrap();
            drop(file);
            thread::sleep(Duration::from_millis(5));
        }
    });
    // The writer may be held up for so long that the volume stays the same.
    let refused = (0..20).find_map(|_| {
        let run = bench.imbrik(&format!("save --live {name} b.img.zst"));
        assert!([0, 4].contains(&run.code), "{run:?}");
        assert_eq!(bench.path("b.img.zst").exists(), run.code == 0);
        let _ = fs::remove_file(bench.path("b.img.zst"));
        (run.code == 4).then_some(run)
    });
    refused.expect("a volume that always changes was saved 20 times").says("keeps changing");
    ends.store(true, Ordering::Relaxed);
    busy.join().unwrap();
    tool!("umount", at);
}

/// Fails if a unit is invalid to the system, or a night with its command line comes to nothing.
#[test]
fn timer_units_are_complete() {
    if !is_root("timer_units_are_complete") {
        return;
    }
    let card = InUse::with(2, "mkfs.ext4 -q -F");
    let (bench, at) = (&card.bench, card.at());
    let shelf = bench.path("my 100% shelf");
    fs::create_dir(&shelf).unwrap();
    bench.run(["shelf", "make", shelf.to_str().unwrap()]).expect(0);
    fs::create_dir(bench.path("units")).unwrap();
    let nightly = |more: &[&str]| {
        let words = ["shelf", "nightly", at.to_str().unwrap(), shelf.to_str().unwrap()];
        bench.run(words.iter().chain(more))
    };
    nightly(&[]).expect(0).shows("ProtectSystem=strict").shows("OnCalendar=*-*-* 03:30:00");
    nightly(&["--at", "3h"]).expect(2).says("is not a time of day");
    let units = bench.path("units");
    let install = ["--install", "--units", units.to_str().unwrap()];
    nightly(&install).expect(0).shows("systemctl enable --now imbrik-nightly.timer");
    let (service, timer) =
        (units.join("imbrik-nightly.service"), units.join("imbrik-nightly.timer"));
    tool!("systemd-analyze", "verify", service, timer);
    // The same again is nothing new; something else is.
    nightly(&install).expect(0);
    let later = [&install[..], &["--at", "4:05"]].concat();
    nightly(&later).expect(4).says("exists with other content");
    nightly(&[&later[..], &["--replace"]].concat()).expect(0);
    assert!(fs::read_to_string(timer).unwrap().contains("04:05:00"));
    // Runs the command in the unit, as systemd would parse it.
    let text = fs::read_to_string(service).unwrap();
    let line = text.lines().find_map(|line| line.strip_prefix("ExecStart=")).unwrap();
    let log = bench.path("nightly.log");
    let line =
        line.replace("%%", "%").replace("/var/log/imbrik/nightly.log", log.to_str().unwrap());
    for night in 0..3 {
        fs::write(at.join("readings"), format!("night {night}\n")).unwrap();
        let out = Command::new("sh").args(["-c", &line]).output().unwrap();
        let (told, error) =
            (String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
        assert!(out.status.success() && error.is_empty(), "{out:?}");
        assert_eq!(told.lines().count(), 1, "{told}");
        assert!(told.starts_with("hive-07-"), "{told}");
        assert!(told.contains("frozen") && told.contains("checked, OK"), "{told}");
    }
    assert!(fs::read_to_string(log).unwrap().matches("ended code=0").count() == 3);
    // An unmounted share: a line about it, and an exit code other than 0.
    fs::remove_file(shelf.join("shelf.toml")).unwrap();
    let out = Command::new("sh").args(["-c", &line]).output().unwrap();
    assert_eq!(out.status.code(), Some(4), "{out:?}");
    assert!(String::from_utf8_lossy(&out.stderr).contains("is not a shelf"), "{out:?}");
    let cron = nightly(&["--cron"]);
    cron.expect(4);
}
