//! Each fault with each command: the exit code, the message, and the state afterwards. Nothing may be lost.

use crate::harness::{Bench, CARD, Run, all_are, flip, is_root, noise, put, sized, tool};
use serde_json::json;
use std::{cell::RefCell, fs, path::PathBuf};

/// A range of the card with part of a file.
const BAD: [u64; 2] = [2 << 20, 8_192];

const SAVE: &str = "save rack:a out/new.img.zst";
const SAVE_RAW: &str = "save rack:a out/new.img";
const SAVE_EXACT: &str = "save rack:a out/new.img.zst --exact";
const SAVE_FITTED: &str = "save rack:a out/new.img.zst --fit";
const CLONE: &str = "clone rack:a rack:b --yes";
const AGAINST: &str = "check old.img.zst --against rack:a";
const SHOW: &str = "show rack:a";
const MEND: &str = "mend lacking.img.zst rack:a";
const WEIGH: &str = "weigh rack:a";
const RESTORE: &str = "restore old.img.zst rack:b --yes";
const REPACK: &str = "repack old.img.zst out/new.img.gz";
const FIT: &str = "fit old.img.zst out/new.img.zst";
const CHECK: &str = "check old.img.zst";
const SHOW_IMAGE: &str = "show old.img.zst";

/// Created once: a card, an image of it, one with missing data, and a card full of old bytes.
struct Base {
    bench: Bench,
    card: Vec<u8>,
    shortfall: Vec<u8>,
    /// The failed expectations.
    wrong: RefCell<Vec<String>>,
}

impl Base {
    fn new() -> Self {
        let bench = Bench::with_card("");
        let card = bench.bytes("rack/a.img");
        bench.good("save rack:a old.img.zst");
        let mut base = Self { bench, card, shortfall: Vec::new(), wrong: RefCell::default() };
        base.rack(&format!("unreadable = {}", json!([BAD])), "");
        base.bench.imbrik("save rack:a lacking.img.zst").expect(6);
        base.shortfall = base.bench.bytes("lacking.img.zst");
        base.rack("", "");
        fs::create_dir(base.bench.path("out")).unwrap();
        base
    }

    fn rack(&self, a: &str, b: &str) {
        let slot = |name: &str, lines: &str| {
            let size =
                if lines.contains("size") { String::new() } else { format!("size = {CARD}\n") };
            format!("[[slot]]\nname = \"{name}\"\n{size}{lines}\n")
        };
        self.bench.write_rack(&format!("{}{}", slot("a", a), slot("b", b)));
    }

    /// Restores the initial state.
    fn reset(&self) {
        self.rack("", "");
        fs::write(self.bench.path("rack/b.img"), vec![0xee; CARD as usize]).unwrap();
        if self.bench.bytes("rack/a.img") != self.card {
            fs::write(self.bench.path("rack/a.img"), &self.card).unwrap();
        }
        fs::write(self.bench.path("lacking.img.zst"), &self.shortfall).unwrap();
        for name in self.bench.list("out") {
            fs::remove_file(self.bench.path("out").join(name)).unwrap();
        }
    }

    /// The files that must not change.
    fn kept(&self) -> Vec<(PathBuf, Vec<u8>)> {
        let names = ["old.img.zst", "lacking.img.zst"].into_iter();
        let bytes = |name| Some((self.bench.path(name), fs::read(self.bench.path(name)).ok()?));
        names.filter_map(bytes).collect()
    }

    /// Runs a command, expects `code` and `words`, and checks the state afterwards.
    fn cell(&self, fault: &str, command: &str, code: i32, words: &str) {
        let bench = &self.bench;
        let kept = self.kept();
        let run = bench.imbrik(command);
        self.judge(fault, command, &run, &[code], words, kept);
    }

    /// Checks the result of a command, which is one of `codes`, its message, and the state afterwards.
    fn judge(
        &self,
        fault: &str,
        command: &str,
        run: &Run,
        codes: &[i32],
        words: &str,
        kept: Vec<(PathBuf, Vec<u8>)>,
    ) {
        let (bench, code) = (&self.bench, run.code);
        let told = format!("{fault}: {command}: {}\n{}", run.stdout, run.stderr);
        if !codes.contains(&code) {
            self.wrong(format!("{code} instead of {codes:?}: {told}"));
            return;
        }
        self.must(
            run.err_has(words) || run.out_has(words),
            &format!("{words:?} is not said: {told}"),
        );
        // An error has a state and a next step.
        if ![0, 6].contains(&code) && run.stderr.contains("imbrik: ") {
            let lines = run.stderr.lines().filter(|line| line.starts_with("  ")).count();
            self.must(lines >= 2, &told);
        }
        let is_as_it_was = bench.bytes("rack/a.img") == self.card;
        // After a removal during the test, free space may have changed.
        if command == WEIGH && run.err_has("removed during the test") {
            self.rack("", "");
            let held = bench.imbrik(AGAINST);
            self.must(held.code == 0, &format!("what is in use was changed: {told}"));
        } else {
            self.must(is_as_it_was, &format!("the card was changed: {told}"));
        }
        for (path, bytes) in kept {
            let is_mended = command == MEND && code != 1;
            self.must(is_mended || fs::read(&path).unwrap() == bytes, &told);
        }
        // A name is that of a whole image, or of none.
        for name in ["out/new.img.zst", "out/new.img.gz", "out/new.img"] {
            if bench.path(name).is_file() {
                let is_told = [0, 6].contains(&code)
                    || run.err_has("The image is complete, but its checksum");
                self.must(is_told, &format!("{name} is there: {told}"));
                bench.good(&format!("check {name}"));
                for beside in ["", ".sha256", ".imbrik.json"] {
                    let _ = fs::remove_file(bench.path(format!("{name}{beside}")));
                }
            } else {
                self.must(
                    !command.split(' ').any(|word| word == name) || ![0, 6].contains(&code),
                    &told,
                );
            }
            for left in [".part", ".part.notes"] {
                let _ = fs::remove_file(bench.path(format!("{name}{left}")));
            }
        }
        // A card is unchanged, has no table, or has the intended content.
        if command == RESTORE || command == CLONE {
            let now = bench.bytes("rack/b.img");
            let is_untouched = all_are(&now[..CARD.min(now.len() as u64) as usize], 0xee);
            let is_blank = now.len() > 512 && all_are(&now[..512], 0);
            match code {
                0 | 6 => self.must(!is_untouched && !is_blank, &told),
                // It has less capacity than it claims, and that is reported.
                3 if run.err_has("did not keep") => {}
                _ => self.must(is_untouched || is_blank, &told),
            }
        }
    }

    fn must(&self, holds: bool, told: &str) {
        if !holds {
            self.wrong(told.to_owned());
        }
    }

    fn wrong(&self, told: String) {
        self.wrong.borrow_mut().push(told);
    }

    fn each(&self, fault: &str, a: &str, b: &str, cells: &[(&str, i32, &str)]) -> usize {
        for (command, code, words) in cells {
            self.reset();
            self.rack(a, b);
            if b.contains("size") {
                let size: u64 =
                    b.split("size = ").nth(1).unwrap().split('\n').next().unwrap().parse().unwrap();
                fs::File::options()
                    .write(true)
                    .open(self.bench.path("rack/b.img"))
                    .unwrap()
                    .set_len(size)
                    .unwrap();
            }
            self.cell(fault, command, *code, words);
        }
        cells.len()
    }
}

/// Fails if a fault leads to an unexpected exit code, a false or missing message, or the loss of an existing image or
/// card.
#[test]
#[ignore = "long: run by ./test --full"]
fn fault_table_gives_the_expected_exit_codes_and_loses_nothing() {
    let base = Base::new();
    let mut cells = 0;
    let bad = format!("unreadable = {}", json!([BAD]));
    cells += base.each(
        "a bad place",
        &bad,
        "",
        &[
            (SAVE, 6, "could not be read"),
            (SAVE_RAW, 6, "could not be read"),
            (SAVE_EXACT, 6, "could not be read"),
            (SAVE_FITTED, 6, "could not be read"),
            ("save rack:a out/new.img.zst --strict", 1, "cannot be read"),
            (CLONE, 6, "could not be read"),
            (AGAINST, 3, "could not be read"),
            (SHOW, 0, "hive-07"),
            (MEND, 6, "no missing data could be read"),
            (WEIGH, 0, "kept their data"),
        ],
    );
    cells += base.each(
        "a place that needs three tries",
        &format!("flaky = {}", json!([[BAD[0], 512, 3]])),
        "",
        &[
            (SAVE, 0, "Next"),
            (SAVE_RAW, 0, "Next"),
            (CLONE, 0, "now holds"),
            (AGAINST, 0, "holds the same"),
            (SHOW, 0, "hive-07"),
            (MEND, 0, "Mended"),
        ],
    );
    cells += base.each(
        "a table that cannot be read",
        "unreadable = [[0, 512]]",
        "",
        &[
            (SAVE, 6, "could not be read"),
            (SHOW, 0, "cannot be read"),
            (MEND, 4, "no data that is readable"),
            (WEIGH, 4, "--erase"),
        ],
    );
    cells += base.each(
        "pulled out at once",
        "pulled_after = 2000",
        "",
        &[
            (SAVE, 1, "does not answer"),
            (SAVE_FITTED, 1, "does not answer"),
            (CLONE, 1, "does not answer"),
            (AGAINST, 1, "does not answer"),
            (SHOW, 1, "does not answer"),
            (MEND, 1, "does not answer"),
            (WEIGH, 1, "does not answer"),
        ],
    );
    cells += base.each(
        "pulled out in the middle",
        "pulled_after = 5000000",
        "",
        &[
            (SAVE, 1, "--resume"),
            (SAVE_EXACT, 1, "--resume"),
            (CLONE, 1, "does not answer"),
            (AGAINST, 1, "does not answer"),
            (WEIGH, 1, "does not answer"),
        ],
    );
    cells += base.each(
        "a card that is read-only",
        "read_only = true",
        "",
        &[(SAVE, 0, "Next"), (CLONE, 0, "now holds"), (WEIGH, 4, "write-protected")],
    );
    cells += base.each(
        "a card in use",
        "mounted_at = [\"/media/hive\"]",
        "",
        &[
            (SAVE, 4, "--unmount"),
            (CLONE, 4, "--unmount"),
            (MEND, 4, "--unmount"),
            (WEIGH, 4, "--unmount"),
            (SHOW, 0, "hive-07"),
        ],
    );
    for (fault, b, code, words) in [
        ("a card that wraps around", "wraps_at = 33554432", 3, "did not keep"),
        ("a card that keeps half", "keeps = 20971520", 3, "did not keep"),
        ("a target pulled out at once", "pulled_after = 2000", 1, "does not answer"),
        ("a target pulled out in the middle", "pulled_after = 6000000", 1, "no partition table"),
        ("a target that is read-only", "read_only = true", 4, "write-protected"),
        ("a target in use", "mounted_at = [\"/media/hive\"]", 4, "--unmount"),
        ("a target that is far too small", "size = 1048576", 5, "too small"),
    ] {
        cells += base.each(fault, "", b, &[(RESTORE, code, words), (CLONE, code, words)]);
    }
    cells += damaged_images(&base);
    cells += names(&base);
    println!("{cells} cells");
    let wrong = base.wrong.borrow();
    assert!(wrong.is_empty(), "{} of {cells}:\n{}", wrong.len(), wrong.join("\n"));
    assert!(cells >= 60, "{cells}");
}

/// The damage to an image, and the exit code and text of each command.
type Damage<'a> = (&'a str, &'a dyn Fn(), [(i32, &'a str); 6]);

fn damaged_images(base: &Base) -> usize {
    let bench = &base.bench;
    let image = bench.path("old.img.zst");
    let whole = fs::read(&image).unwrap();
    let faults: [Damage<'_>; 5] = [
        (
            "an image that is cut",
            &|| fs::write(&image, &whole[..whole.len() / 2]).unwrap(),
            [
                (3, "truncated"),
                (3, "truncated"),
                (3, "truncated"),
                (3, "truncated"),
                (3, "truncated"),
                (3, "truncated"),
            ],
        ),
        (
            "an image with a flipped bit",
            &|| flip(&image, whole.len() as u64 / 2),
            [
                (3, "damaged"),
                (3, "damaged"),
                (3, "damaged"),
                (3, "damaged"),
                (3, "damaged"),
                (3, "damaged"),
            ],
        ),
        (
            "an image of no length",
            &|| fs::write(&image, b"").unwrap(),
            [(3, "empty"), (3, "empty"), (3, "empty"), (3, "empty"), (3, "empty"), (3, "empty")],
        ),
        (
            "a letter instead of an image",
            &|| fs::write(&image, b"dear keeper\n").unwrap(),
            [
                (4, "is a text"),
                (4, "can be resized"),
                (0, "no digests to compare with"),
                (3, "does not match"),
                (0, "no known content"),
                (3, "does not match"),
            ],
        ),
        (
            "no image",
            &|| fs::remove_file(&image).unwrap(),
            [
                (2, "old.img.zst"),
                (2, "old.img.zst"),
                (2, "old.img.zst"),
                (2, "old.img.zst"),
                (2, "old.img.zst"),
                (2, "old.img.zst"),
            ],
        ),
    ];
    let mut cells = 0;
    for (fault, damage, ends) in faults {
        let commands = [RESTORE, FIT, REPACK, CHECK, SHOW_IMAGE, AGAINST];
        for (command, (code, words)) in commands.into_iter().zip(ends) {
            base.reset();
            fs::write(&image, &whole).unwrap();
            damage();
            base.cell(fault, command, code, words);
            cells += 1;
        }
    }
    fs::write(&image, &whole).unwrap();
    cells
}

fn names(base: &Base) -> usize {
    let bench = &base.bench;
    let mut cells = 0;
    base.reset();
    for command in [SAVE, REPACK, FIT] {
        let away = command.replace("out/", "away/");
        base.cell("no folder", &away, 1, "Create the folder first");
        cells += 1;
    }
    for command in [SAVE_FITTED, REPACK, FIT] {
        for name in ["out/new.img.zst", "out/new.img.gz"] {
            fs::write(bench.path(name), "a letter").unwrap();
        }
        let run = bench.imbrik(command);
        let told = format!("a file of that name: {command}: {}", run.stderr);
        base.must(run.code == 4 && run.err_has("exists already"), &told);
        let is_there = |name: &str| bench.bytes(name) == b"a letter";
        base.must(is_there("out/new.img.zst") && is_there("out/new.img.gz"), &told);
        cells += 1;
    }
    base.reset();
    if !is_root("fault_table_gives_the_expected_exit_codes_and_loses_nothing") {
        return cells;
    }
    let out = bench.path("out");
    tool!("mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", &out);
    for command in [SAVE, SAVE_RAW, SAVE_EXACT, SAVE_FITTED, REPACK, FIT] {
        base.cell("a full disk", command, 5, "free");
        cells += 1;
    }
    tool!("mount", "-o", "remount,ro,size=64m", &out);
    for command in [SAVE, SAVE_RAW, REPACK, FIT] {
        base.cell("a disk that is read-only", command, 1, "read-only");
        cells += 1;
    }
    tool!("umount", &out);
    cells
}

/// A loop device that is detached, and one that another program holds, while the program works.
#[test]
#[ignore = "long: run by ./test --full"]
fn removed_or_busy_device_is_reported() {
    if !is_root("removed_or_busy_device_is_reported") {
        return;
    }
    let bench = Bench::with_card("");
    let card = bench.path("rack/a.img");
    // A filesystem without space for the loop device's file: writing fails.
    let small = bench.path("small");
    fs::create_dir(&small).unwrap();
    tool!("mount", "-t", "tmpfs", "-o", "size=8m", "tmpfs", &small);
    sized(&small.join("card.img"), CARD);
    let device = tool!("losetup", "--find", "--show", small.join("card.img"));
    let device = device.trim();
    bench.good("save rack:a old.img.zst --exact");
    put(&card, 40 << 20, &noise(20 << 20));
    bench.good("save rack:a full.img.zst --exact");
    let run = bench.imbrik(&format!("restore full.img.zst {device} --yes --allow-fixed"));
    assert_ne!(run.code, 0, "{}", run.stderr);
    assert!(run.err_has("no partition table") || run.err_has("did not keep"), "{}", run.stderr);
    tool!("losetup", "-d", device);
    tool!("umount", &small);
}

/// Fails if a failed nightly run leaves no trace, or foreign text in a log can control the terminal of its reader.
#[test]
fn log_records_decisions_retries_and_the_result() {
    let bench = Bench::with_slot_a(&format!("unreadable = {}", json!([BAD])), "");
    bench.imbrik("save rack:a one.img.zst --log night.log").expect(6);
    let log = String::from_utf8(bench.bytes("night.log")).unwrap();
    for words in
        ["begun", "save rack:a one.img.zst", "a journey begins", "a place did not answer", "code=6"]
    {
        assert!(log.contains(words), "{words}: {log}");
    }
    assert!(log.lines().all(|line| line.starts_with("20") && line.contains("Z ")), "{log}");
    // Another run appends to it; the environment names it, too.
    let mut command = bench.command(["check", "none\u{1b}[2J.img"]);
    command.env("IMBRIK_LOG", "night.log");
    assert_eq!(command.output().unwrap().status.code(), Some(2));
    let more = bench.bytes("night.log");
    assert!(more.len() > log.len() && !more.contains(&0x1b));
    assert!(String::from_utf8_lossy(&more[log.len()..]).contains("does not exist"));
    bench.imbrik("cards --log none/night.log").expect(1).says("opening the log");
}

/// A call to the system, and how it fails.
const CALLS: [(&str, &str); 9] = [
    ("fsync", "EIO"),
    ("fdatasync", "EIO"),
    ("rename,renameat,renameat2", "EIO"),
    ("rename,renameat,renameat2", "EROFS"),
    ("pwrite64", "ENOSPC"),
    ("pwrite64", "EIO"),
    ("ftruncate", "EFBIG"),
    ("fallocate", "EOPNOTSUPP"),
    ("flock", "ENOLCK"),
];

/// Fails if any failing system call leaves an incomplete image under its name, removes an existing file, or is not
/// reported.
#[test]
#[ignore = "long: run by ./test --full"]
fn failing_system_calls_lose_nothing() {
    let base = Base::new();
    let bench = &base.bench;
    if !is_root("failing_system_calls_lose_nothing") {
        return;
    }
    let most: u32 = std::env::var("IMBRIK_CALLS").map_or(2, |count| count.parse().unwrap());
    let (mut failed, mut passed) = (0, 0);
    for command in [SAVE, SAVE_RAW, REPACK, FIT, MEND, RESTORE, CLONE] {
        for (calls, error) in CALLS {
            for nth in 1..=most {
                base.reset();
                let kept = base.kept();
                let Some(run) = with_failing(bench, command, calls, error, nth) else { break };
                match run.code {
                    0 => passed += 1,
                    _ => failed += 1,
                }
                // Optional calls may fail: a hole, a lock, the sync of a folder.
                let fault = format!("{error} at call {nth} of {calls}");
                base.judge(&fault, command, &run, &[0, 1, 4, 5], "", kept);
                let words = |name: &str| name.starts_with("new.img");
                let left = bench.list("out");
                let is_known = left.iter().all(|name| words(name.to_str().unwrap()));
                base.must(is_known, &format!("{fault}: {command} left {left:?}"));
            }
        }
    }
    replaced(&base, most);
    println!("{failed} commands failed, {passed} did not need the call");
    let wrong = base.wrong.borrow();
    assert!(wrong.is_empty(), "{}:\n{}", wrong.len(), wrong.join("\n"));
    assert!(failed > 40 && passed > 5, "{failed} failed, {passed} passed");
}

/// Runs a command whose `nth` call of one of `calls` fails; `None` if there was no such call.
fn with_failing(bench: &Bench, command: &str, calls: &str, error: &str, nth: u32) -> Option<Run> {
    let trace = bench.path("trace");
    let mut strace = std::process::Command::new("strace");
    let program = bench.command(command.split(' '));
    strace.args(["-f", "-qq", "--seccomp-bpf", "-o"]).arg(&trace);
    strace.args(["-e", &format!("trace={calls}")]);
    strace.args(["-e", &format!("inject={calls}:error={error}:when={nth}")]);
    strace.arg(program.get_program()).args(program.get_args());
    strace.current_dir(bench.path("")).stdin(std::process::Stdio::null());
    for (name, value) in program.get_envs() {
        match value {
            Some(value) => strace.env(name, value),
            None => strace.env_remove(name),
        };
    }
    let run = Run::of(&strace.output().expect("strace, of Debian's strace, is needed"));
    fs::read_to_string(&trace).unwrap().contains("INJECTED").then_some(run)
}

/// An image is replaced, with its manifest and its checksum: afterwards all three are of the old or of the new one, or
/// an error is reported.
fn replaced(base: &Base, most: u32) {
    let bench = &base.bench;
    base.reset();
    bench.good("save rack:a out/kept.img");
    for (calls, error) in CALLS {
        for nth in 1..=most {
            let command = "save rack:a out/kept.img --replace";
            let Some(run) = with_failing(bench, command, calls, error, nth) else { break };
            let told = format!("{error} at call {nth} of {calls}: {command}: {}", run.stderr);
            base.must([0, 1, 5].contains(&run.code), &told);
            let is_told = run.err_has("The image is complete, but its checksum");
            let sides = ["kept.img.manifest.json", "kept.img.sha256"];
            let is_there = |name: &&str| bench.path("out").join(name).exists();
            base.must(is_told || sides.iter().all(is_there), &format!("sides are gone: {told}"));
            if is_told {
                bench.good("save rack:a out/kept.img --replace");
            }
            let check = bench.imbrik("check out/kept.img");
            base.must(check.code == 0, &format!("{told}\n{}{}", check.stdout, check.stderr));
        }
    }
}

/// Fails if a card whose driver has died is read as zeros, or the message has no next step.
#[test]
#[ignore = "long: run by ./test --full"]
fn device_that_returns_only_errors_is_reported() {
    if !is_root("device_that_returns_only_errors_is_reported") {
        return;
    }
    let bench = Bench::with_card("");
    bench.good("save rack:a old.img.zst");
    // A file in a FUSE filesystem under a loop device: when the FUSE process is killed, every read and write fails.
    let under = bench.path("under");
    sized(&under, 160 << 20);
    tool!("mkfs.exfat", &under);
    let fuse = tool!("losetup", "--find", "--show", &under);
    let at = bench.path("fuse");
    fs::create_dir(&at).unwrap();
    tool!("mount.exfat-fuse", fuse.trim(), &at);
    fs::copy(bench.path("rack/a.img"), at.join("card.img")).unwrap();
    let device = tool!("losetup", "--find", "--show", "--direct-io=on", at.join("card.img"));
    let device = device.trim();
    bench.good(&format!("check old.img.zst --against {device}"));
    let pid = tool!("pgrep", "-f", &format!("mount.exfat-fuse {}", fuse.trim()));
    for pid in pid.split_whitespace() {
        tool!("kill", "-9", pid);
    }
    let cells = [
        (format!("save {device} new.img.zst --patience 1s"), [1, 6]),
        (format!("save {device} new.img.zst --strict"), [1, 1]),
        (format!("check old.img.zst --against {device}"), [1, 3]),
        (format!("show {device}"), [0, 1]),
        (format!("weigh {device} --allow-fixed"), [1, 4]),
        (format!("restore old.img.zst {device} --yes --allow-fixed"), [1, 1]),
        (format!("clone rack:a {device} --yes --allow-fixed"), [1, 1]),
    ];
    let before = bench.bytes("old.img.zst");
    let mut wrong = Vec::new();
    for (command, codes) in cells {
        let run = bench.imbrik(&command);
        let told = format!("{command}: {}\n{}\n{}", run.code, run.stdout, run.stderr);
        let is_told = run.err_has("read") || run.out_has("read") || run.err_has("writ");
        if !codes.contains(&run.code) || !is_told || bench.bytes("old.img.zst") != before {
            wrong.push(told);
        }
        for name in
            ["new.img.zst", "new.img.zst.part", "new.img.zst.part.notes", "new.img.zst.sha256"]
        {
            let _ = fs::remove_file(bench.path(name));
        }
    }
    tool!("losetup", "-d", device);
    tool!("umount", "-l", &at);
    tool!("losetup", "-d", fuse.trim());
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
}

/// Fails if a frozen folder leads to an incomplete image, or none.
#[test]
#[ignore = "long: run by ./test --full"]
fn a_filesystem_that_is_frozen_for_a_while_is_waited_for() {
    if !is_root("a_filesystem_that_is_frozen_for_a_while_is_waited_for") {
        return;
    }
    let bench = Bench::with_card("");
    sized(&bench.path("under"), 256 << 20);
    tool!("mkfs.ext4", "-q", bench.path("under"));
    let device = tool!("losetup", "--find", "--show", bench.path("under"));
    let out = bench.path("out");
    fs::create_dir(&out).unwrap();
    tool!("mount", device.trim(), &out);
    bench.good("save rack:a old.img.zst");
    for command in [SAVE, SAVE_RAW, FIT] {
        tool!("fsfreeze", "--freeze", &out);
        let mut command = bench.command(command.split(' '));
        let mut child = command.stdout(std::process::Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(700));
        assert!(child.try_wait().unwrap().is_none(), "it did not wait");
        tool!("fsfreeze", "--unfreeze", &out);
        assert_eq!(child.wait().unwrap().code(), Some(0));
        for name in ["new.img.zst", "new.img"] {
            if out.join(name).exists() {
                bench.good(&format!("check out/{name}"));
                for beside in ["", ".sha256", ".manifest.json"] {
                    let _ = fs::remove_file(out.join(format!("{name}{beside}")));
                }
            }
        }
    }
    tool!("umount", &out);
    tool!("losetup", "-d", device.trim());
}
