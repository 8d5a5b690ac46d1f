//! Resizing FAT and exFAT volumes: created and filled by the system, judged by its checkers, and read by its drivers.
//! The test itself verifies what the checker ignores (exFAT's bitmap).

use crate::support::{is_root, sh};
use imbrik_fs::{
    self as fs, NewSize, OpenVolume, ResizeOptions, ResizeWarning, ResizedVolume, VolumeFinding,
};
use imbrik_store::{
    Class, FileStore, ReadAt, Result, SparseStore, WriteAt,
    progress::Cancel,
    read_vec,
    units::{ByteLen, ByteOffset},
};
use proptest::prelude::*;
use std::{
    collections::BTreeSet,
    fs::{File, OpenOptions},
    os::unix::fs::FileExt,
    path::Path,
    process::Command,
    sync::Arc,
};

const SMALLEST: NewSize = NewSize::Smallest { room: ByteLen::ZERO };

/// A folder with files that two can take turns to write, names of all kinds, and deep folders.
fn files(dir: &Path, kib: usize) {
    let tree = dir.join("tree");
    let mut state = 88172645463325252u64;
    let mut noise = |len: usize| -> Vec<u8> {
        let words = (0..len.div_ceil(8)).flat_map(|_| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state.to_le_bytes()
        });
        words.take(len).collect()
    };
    for hive in 0..6 {
        let folder = tree.join(format!("hive {hive}/brood/sounds of the night"));
        std::fs::create_dir_all(&folder).unwrap();
        for n in 0..8 {
            let len = kib * 1024 / 60 * (n % 3) + n * 777;
            std::fs::write(folder.join(format!("Röhre {n}, recorded in May.wav")), noise(len))
                .unwrap();
        }
    }
    let crowd = tree.join("crowd");
    std::fs::create_dir_all(&crowd).unwrap();
    for n in 0..150 {
        std::fs::write(crowd.join(format!("MEAS{n:04}.TXT")), n.to_string()).unwrap();
    }
    for n in 0..8 {
        std::fs::write(dir.join(format!("going{n}")), noise(kib * 1024 / 24)).unwrap();
    }
}

/// An exFAT volume, mounted at `m` through a loop device; both are released when dropped.
struct Mount<'a> {
    dir: &'a Path,
    device: String,
}

impl<'a> Mount<'a> {
    fn of(dir: &'a Path, volume: &str, options: &str) -> Self {
        let device = sh(&format!("losetup -f --show {volume}"), dir).trim().to_owned();
        let this = Self { dir, device };
        sh(&format!("mkdir -p m; mount.exfat-fuse -o {options} {} m >&2", this.device), dir);
        this
    }
}

impl Drop for Mount<'_> {
    fn drop(&mut self) {
        // The driver writes its last data after the unmount: until then it holds the device.
        let line = format!(
            "umount m; for i in $(seq 200); do fuser -s {0} || break; sleep 0.02; done; \
             losetup -d {0}; for i in $(seq 200); do losetup {0} 2>/dev/null || break; sleep 0.02; done",
            self.device
        );
        let line = format!("PATH=$PATH:/usr/sbin:/sbin; {line}");
        let _ = Command::new("sh").args(["-c", &line]).current_dir(self.dir).output();
    }
}

/// A kind of volume: how it is made, filled, judged and read.
#[derive(Clone, Copy)]
struct Kind {
    make: &'static str,
    kib: u64,
    files_kib: usize,
}

impl Kind {
    fn is_exfat(&self) -> bool {
        self.make.starts_with("mkfs.exfat")
    }

    /// The volume `v`, filled so that it has holes, and files in pieces.
    fn made(&self) -> tempfile::TempDir {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        File::create(at.join("v")).unwrap().set_len(self.kib << 10).unwrap();
        sh(&format!("{} v >/dev/null", self.make), at);
        files(at, self.files_kib);
        if self.is_exfat() {
            let mount = Mount::of(at, "v", "rw");
            sh("cp going* m/; rm m/going[02]; cp -r tree/hi* m/; rm m/going[46]", at);
            sh("cp -r tree/crowd m/; rm m/going*", at);
            drop(mount);
        } else {
            sh("mcopy -i v going* ::; mdel -i v ::going0 ::going2", at);
            sh("mcopy -m -s -i v tree/hi* ::; mdel -i v ::going4 ::going6", at);
            sh("mcopy -m -s -i v tree/crowd ::; mdel -i v ::going1 ::going3 ::going5 ::going7", at);
        }
        self.judged(at, "v");
        dir
    }

    fn judged(&self, dir: &Path, volume: &str) {
        if self.is_exfat() {
            let said = sh(&format!("fsck.exfat -n {volume} 2>&1"), dir);
            assert!(said.contains("clean") && !said.contains("ERROR"), "{said}");
            check_bitmap(&dir.join(volume));
        } else {
            let said = sh(&format!("fsck.fat -n {volume} 2>&1"), dir);
            let is_silent = said.lines().all(|line| {
                line.starts_with("fsck.fat ") || line.starts_with(volume) || line.is_empty()
            });
            assert!(is_silent, "{said}");
        }
    }

    /// Every name, time and content.
    fn tree(&self, dir: &Path, volume: &str) -> String {
        let list = "find . -printf '%p %y %s %TY%Tm%Td%TH%TM\\n' | grep -v '^\\. ' | sort; \
                    find . -type f -print0 | sort -z | xargs -0 b2sum";
        if self.is_exfat() {
            let _mount = Mount::of(dir, volume, "ro");
            return sh(&format!("cd m; {list}"), dir);
        }
        sh("rm -rf out; mkdir out", dir);
        sh(&format!("mcopy -m -s -n -i {volume} :: out/"), dir);
        // The times of folders are those of the copy.
        let files = list.replacen("find . ", "find . -type f ", 1);
        sh(&format!("cd out; {files}; find . -type d | sort"), dir)
    }

    fn resized(&self, dir: &Path, from: &str, to: &str, goal: NewSize) -> Result<ResizedVolume> {
        resized(dir, from, to, goal)
    }

    fn goes_through_all_sizes(&self) {
        let made = self.made();
        let dir = made.path();
        let before = self.tree(dir, "v");
        let what = self.make;
        let len = self.kib << 10;
        self.resized(dir, "v", "w", SMALLEST).unwrap_or_else(|e| panic!("{what}: {e}"));
        self.judged(dir, "w");
        assert!(before == self.tree(dir, "w"), "{what}: the trees differ");
        let least = std::fs::metadata(dir.join("w")).unwrap().len();
        let is_free = used_share(&dir.join("w"));
        if std::env::var_os("IMBRIK_TELL").is_some() {
            eprintln!("{what}: {least} of {len}, {is_free:.3} of its clusters in use");
        }
        // A byte less is refused, with the bytes that are missing.
        let goal = NewSize::Bytes(ByteLen::new(least - 1));
        let error = self.resized(dir, "v", "x", goal).err().expect("it does not fit");
        assert_eq!(error.class(), Class::NoRoom, "{what}: {error}");
        // Each kind is tested with some of the sizes, and together they cover all.
        let all = [(len + least) / 2, len, len + 4096, len * 13 / 10, len * 4, len * 40];
        let odd = self.make.len() % 2;
        let sizes = all.into_iter().enumerate().filter(|(at, _)| *at == 0 || at % 2 == odd);
        let sizes = sizes.map(|(_, size)| size);
        for size in sizes {
            let goal = NewSize::Bytes(ByteLen::new(size));
            let shape =
                self.resized(dir, "w", "x", goal).unwrap_or_else(|e| panic!("{what} {size}: {e}"));
            let got = shape.volume.store.size().get();
            assert!(got <= size, "{what}: {got} of {size}");
            let is_limited = shape.limit.is_some();
            assert!(is_limited || got + (got >> 6) + (1 << 18) >= size, "{what}: {got} of {size}");
            self.judged(dir, "x");
            assert!(before == self.tree(dir, "x"), "{what} {size}: the trees differ");
            // And back again.
            self.resized(dir, "x", "y", SMALLEST).unwrap();
            self.judged(dir, "y");
            assert!(before == self.tree(dir, "y"), "{what} {size} and back: the trees differ");
        }
        // A grown one is written to by others.
        if !self.is_exfat() {
            sh("mcopy -m -i x tree/crowd/MEAS0007.TXT ::new.txt", dir);
            self.judged(dir, "x");
        }
    }
}

/// Resizes `from` and writes it to `to` as a card would get it, over old bytes.
fn resized(dir: &Path, from: &str, to: &str, goal: NewSize) -> Result<ResizedVolume> {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join(from)).unwrap());
    let volume = OpenVolume::open(Arc::clone(&store))?.expect("a volume");
    let (resized, found) = volume.resize(goal, ResizeOptions::in_memory(&Cancel::new()))?;
    let view = &resized.volume.store;
    // A file that is replaced is written to the disk at once.
    let _ = std::fs::remove_file(dir.join(to));
    File::create(dir.join(to)).unwrap();
    let out = OpenOptions::new().write(true).open(dir.join(to)).unwrap();
    let len = view.size().get();
    out.set_len(len).unwrap();
    let old = vec![0xee; 1 << 20];
    for at in (0..len.min(64 << 20)).step_by(old.len()) {
        let piece = (len - at).min(old.len() as u64) as usize;
        out.write_all_at(&old[..piece], at).unwrap();
    }
    // As the plan reads it: rewritten, moved, or unchanged.
    for span in &found.usage.used {
        let bytes = read_vec(&**view, span.start(), span.len().to_usize().unwrap())?;
        out.write_all_at(&bytes, span.start().get()).unwrap();
    }
    let covered = |at: u64| {
        resized
            .volume
            .rewritten
            .iter()
            .any(|span| (span.start().get()..span.end().get()).contains(&at))
    };
    for moved in &resized.moved {
        for at in (moved.to.start().get()..moved.to.end().get()).step_by(512) {
            let is_used = found
                .usage
                .used
                .iter()
                .any(|span| (span.start().get()..span.end().get()).contains(&at));
            if !covered(at) && is_used && at % 8192 == 0 {
                let from = moved.from.get() + at - moved.to.start().get();
                let old = read_vec(&*store, ByteOffset::new(from), 512)?;
                assert!(old == read_vec(&**view, ByteOffset::new(at), 512)?, "moved to {at}");
            }
        }
    }
    Ok(resized)
}

/// The share of clusters that are in use.
fn used_share(path: &Path) -> f64 {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(path).unwrap());
    let volume = OpenVolume::open(Arc::clone(&store)).unwrap().unwrap();
    let found = volume.examine().unwrap();
    found.usage.in_use().get() as f64 / store.size().get() as f64
}

/// The clusters that folders and files have, found by a plain walk, are those of the bitmap.
fn check_bitmap(path: &Path) {
    let raw = std::fs::read(path).unwrap();
    let u32_at = |at: usize| u32::from_le_bytes(raw[at..at + 4].try_into().unwrap());
    let u64_at = |at: usize| u64::from_le_bytes(raw[at..at + 8].try_into().unwrap());
    let sector = 1usize << raw[108];
    let cluster = sector << raw[109];
    let (table, heap) = (u32_at(80) as usize * sector, u32_at(88) as usize * sector);
    let count = u32_at(92);
    assert_eq!(u64_at(72) as usize * sector, raw.len());
    let place = |number: u32| heap + (number as usize - 2) * cluster;
    let chain = |first: u32, len: u64, plain: bool| -> Vec<u32> {
        if plain {
            return (first..first + len.div_ceil(cluster as u64) as u32).collect();
        }
        let mut all = vec![first];
        while u32_at(table + 4 * *all.last().unwrap() as usize) != u32::MAX {
            all.push(u32_at(table + 4 * *all.last().unwrap() as usize));
        }
        all
    };
    let (mut used, mut bitmap) = (BTreeSet::new(), Vec::new());
    let mut claim = |clusters: &[u32]| {
        for number in clusters {
            assert!((2..count + 2).contains(number) && used.insert(*number), "cluster {number}");
        }
    };
    let root = chain(u32_at(96), 0, false);
    claim(&root);
    let mut folders = vec![root];
    while let Some(folder) = folders.pop() {
        let bytes: Vec<u8> =
            folder.iter().flat_map(|n| raw[place(*n)..place(*n) + cluster].to_vec()).collect();
        let mut is_folder = false;
        for entry in bytes.chunks(32).take_while(|entry| entry[0] != 0) {
            let first = u32::from_le_bytes(entry[20..24].try_into().unwrap());
            let len = u64::from_le_bytes(entry[24..32].try_into().unwrap());
            match entry[0] {
                0x81 => {
                    bitmap = chain(first, len, false);
                    assert_eq!(len, u64::from(count.div_ceil(8)));
                    claim(&bitmap);
                }
                0x82 => claim(&chain(first, len, false)),
                0x85 => is_folder = entry[4] & 0x10 != 0,
                0xc0 if first != 0 && len > 0 => {
                    let clusters = chain(first, len, entry[1] & 2 != 0);
                    assert!(clusters.len() as u64 >= len.div_ceil(cluster as u64));
                    claim(&clusters);
                    if is_folder {
                        folders.push(clusters);
                    }
                }
                _ => {}
            }
        }
    }
    let bytes: Vec<u8> =
        bitmap.iter().flat_map(|n| raw[place(*n)..place(*n) + cluster].to_vec()).collect();
    for number in 2..count + 2 {
        let bit = (number - 2) as usize;
        let is_set = bytes[bit / 8] >> (bit % 8) & 1 == 1;
        assert_eq!(is_set, used.contains(&number), "cluster {number}");
    }
}

#[test]
fn fat_is_resized_to_many_sizes() {
    for (make, kib, files_kib) in [
        ("mkfs.vfat -F 12 -n COMBS", 4 << 10, 1500),
        ("mkfs.vfat -F 16 -s 4 -n COMBS", 40 << 10, 8000),
        ("mkfs.vfat -F 16 -f 1 -R 8 -s 2", 20 << 10, 4000),
        ("mkfs.vfat -F 32 -s 1 -n COMBS", 64 << 10, 9000),
        ("mkfs.vfat -F 32 -s 1 -a", 40 << 10, 4000),
        ("mkfs.vfat -F 32 -s 1 -S 4096", 300 << 10, 9000),
    ] {
        Kind { make, kib, files_kib }.goes_through_all_sizes();
    }
}

#[test]
fn exfat_is_resized_to_many_sizes() {
    if !is_root("exfat_is_resized_to_many_sizes") {
        return;
    }
    for (make, kib, files_kib) in [
        ("mkfs.exfat -L combs -c 4K", 32 << 10, 8000),
        ("mkfs.exfat -c 512", 16 << 10, 4000),
        ("mkfs.exfat -c 32K -b 64K", 64 << 10, 9000),
    ] {
        Kind { make, kib, files_kib }.goes_through_all_sizes();
    }
}

#[test]
fn fat_width_is_kept_when_resizing() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    for (make, kib) in [("-F 12", 1000u64), ("-F 16 -s 1", 3000), ("-F 32 -s 1", 34_000)] {
        File::create(at.join("v")).unwrap().set_len(kib << 10).unwrap();
        sh(&format!("mkfs.vfat {make} v >/dev/null"), at);
        let kind = |volume: &str| {
            let store = FileStore::open(&at.join(volume)).unwrap();
            fs::recognise(&store).unwrap().unwrap().kind
        };
        for goal in [SMALLEST, NewSize::Bytes(ByteLen::mib(3000))] {
            let shape = resized(at, "v", "w", goal).unwrap();
            assert_eq!(kind("v"), kind("w"), "{make}");
            let is_limited = matches!(goal, NewSize::Bytes(_)) && !make.contains("32");
            assert_eq!(shape.limit.is_some(), is_limited, "{make} {:?}", shape.limit);
            sh("fsck.fat -n w", at);
        }
    }
}

#[test]
fn inconsistent_tables_and_folders_are_refused() {
    let kind = Kind { make: "mkfs.vfat -F 16 -s 4", kib: 40 << 10, files_kib: 4000 };
    let made = kind.made();
    let at = made.path();
    let raw = std::fs::read(at.join("v")).unwrap();
    let u16_at = |at: usize| usize::from(u16::from_le_bytes([raw[at], raw[at + 1]]));
    let table = u16_at(14) * 512;
    let len = u16_at(22) * 512;
    // The cluster of the first file of some length, and the one after it.
    let used = (2..4000).find(|n| u16_at(table + 2 * n) == n + 1).unwrap();
    let put = |cluster: usize, value: u16| {
        let mut raw = raw.clone();
        for copy in [table, table + len] {
            raw[copy + 2 * cluster..][..2].copy_from_slice(&value.to_le_bytes());
        }
        std::fs::write(at.join("broken"), raw).unwrap();
        let error = resized(at, "broken", "w", SMALLEST).err().expect("it is broken");
        assert_eq!(error.class(), Class::Corrupt, "{error}");
        error.to_string()
    };
    assert!(put(used, used as u16).contains("is another's"), "a circle");
    assert!(put(used, 0).contains("breaks off"), "a free cluster");
    assert!(put(used, 0xfff0).contains("an invalid number"), "a number that is none");
    let mut one = raw.clone();
    one[table + 2 * used] ^= 1;
    std::fs::write(at.join("broken"), one).unwrap();
    let error = resized(at, "broken", "w", SMALLEST).err().unwrap();
    assert!(error.to_string().contains("tables differ"), "{error}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]
    #[test]
    fn random_damage_is_refused_or_harmless(
        which in 0usize..2,
        hits in proptest::collection::vec((0u64..200_000, any::<u8>()), 1..12),
        grows in any::<bool>(),
    ) {
        static VOLUMES: std::sync::OnceLock<Vec<Vec<u8>>> = std::sync::OnceLock::new();
        let volumes = VOLUMES.get_or_init(|| {
            ["mkfs.vfat -F 16 -s 1", "mkfs.exfat -c 512"].map(|make| {
                let dir = tempfile::tempdir().unwrap();
                File::create(dir.path().join("v")).unwrap().set_len(3 << 20).unwrap();
                sh(&format!("{make} v >/dev/null"), dir.path());
                files(dir.path(), 200);
                if which == 0 {
                    let _ = Command::new("mcopy").args(["-s", "-i", "v", "tree", "::"])
                        .current_dir(dir.path()).output();
                }
                std::fs::read(dir.path().join("v")).unwrap()
            }).to_vec()
        });
        let store = SparseStore::of(&volumes[which]);
        for (at, byte) in hits {
            // The first part contains the metadata.
            store.write_at(ByteOffset::new(at), &[byte]).unwrap();
        }
        let store: Arc<dyn ReadAt> = Arc::new(store);
        let Some(volume) = OpenVolume::open(Arc::clone(&store)).unwrap() else { return Ok(()) };
        let goal = if grows { NewSize::Bytes(ByteLen::mib(20)) } else { SMALLEST };
        let cancel = Cancel::new();
        if let Ok((resized, found)) = volume.resize(goal, ResizeOptions::in_memory(&cancel)) {
            let size = resized.volume.store.size();
            prop_assert!(size <= ByteLen::mib(20));
            for span in &found.usage.used {
                read_vec(&*resized.volume.store, span.start(), span.len().to_usize().unwrap()).unwrap();
            }
        }
    }
}

/// Reads a loader's file as its boot sector does: the first sector, and those that this one lists.
fn as_the_boot_sector_reads_it(volume: &[u8]) -> Vec<u8> {
    let u16_at = |raw: &[u8], at: usize| usize::from(u16::from_le_bytes([raw[at], raw[at + 1]]));
    let u32_at = |raw: &[u8], at: usize| u32::from_le_bytes(raw[at..at + 4].try_into().unwrap());
    let sector = |number: u64| &volume[number as usize * 512..(number as usize + 1) * 512];
    // The offset of the number in the boot sector is only recorded in the file, which is found by its checksum.
    let magic = 0x3eb2_02fe_u32.to_le_bytes();
    let first = (1..volume.len() as u64 / 512)
        .find(|number| {
            let area = sector(*number).windows(4).position(|four| four == magic);
            area.is_some_and(|area| area < 64 && u16_at(sector(*number), area + 8) > 1)
                && (0..500).any(|at| u32_at(volume, at) == *number as u32)
        })
        .expect("the boot sector leads to no loader");
    let area = sector(first).windows(4).position(|four| four == magic).unwrap();
    let count = u16_at(sector(first), area + 8);
    let words = u32_at(sector(first), area + 12) as usize;
    let further = u16_at(sector(first), area + 22);
    // The list itself gives the rest after the first sector: it is read from the file's clusters, which are contiguous
    // in this test, or the checksum is wrong.
    let mut content = sector(first).to_vec();
    let near = &volume[first as usize * 512..];
    let (list, entries) = (u16_at(near, further + 10), u16_at(near, further + 12));
    for entry in 0..entries {
        let at = list + entry * 10;
        let number = u64::from_le_bytes(near[at..at + 8].try_into().unwrap());
        for ahead in 0..u16_at(near, at + 8) as u64 {
            content.extend_from_slice(sector(number + ahead));
        }
    }
    assert_eq!(content.len(), count * 512, "as many sectors as the file has");
    let sum = content[..words * 4]
        .chunks(4)
        .fold(0u32, |sum, word| sum.wrapping_add(u32::from_le_bytes(word.try_into().unwrap())));
    assert_eq!(sum, 0x3eb2_02fe, "the sum over it");
    content
}

/// Fails when the list is unchanged: the card would not start.
#[test]
fn boot_loader_with_a_sector_list_is_found_after_a_move() {
    for (make, kib) in [("mkfs.vfat -F 16 -s 4", 40 << 10), ("mkfs.vfat -F 32 -s 1", 48 << 10)] {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        sh(&format!("truncate -s {kib}K v; {make} v >/dev/null"), at);
        // It is after the files that are removed.
        sh("head -c 9000000 /dev/urandom >first; mcopy -i v first ::; syslinux -i v", at);
        sh("mdel -i v ::first; echo one >small; mcopy -i v small ::", at);
        let file = |volume: &str| {
            sh(&format!("rm -f l; mcopy -n -i {volume} ::ldlinux.sys l"), at);
            std::fs::read(at.join("l")).unwrap()
        };
        let kind = Kind { make, kib, files_kib: 0 };
        let before = as_the_boot_sector_reads_it(&std::fs::read(at.join("v")).unwrap());
        assert!(file("v").starts_with(&before));
        let mut moved = 0;
        for goal in
            [SMALLEST, NewSize::Bytes(ByteLen::kib(kib * 2)), NewSize::Bytes(ByteLen::kib(kib * 6))]
        {
            let resized = match kind.resized(at, "v", "w", goal) {
                Ok(resized) => resized,
                Err(error) => panic!("{make}: {error}"),
            };
            assert_eq!(resized.warnings, [], "{make}");
            // The installer does not update FAT32's backup boot sector, which the checker reports.
            let said = sh("fsck.fat -n w 2>&1 || true", at);
            let is_known = |line: &str| {
                line.starts_with("fsck.fat ")
                    || line.starts_with("w:")
                    || line.is_empty()
                    || line.contains("boot sector")
                    || line.contains("mostly harmless")
                    || line.contains("(offset:")
                    || line.starts_with("  ")
            };
            assert!(said.lines().all(is_known), "{said}");
            let volume = std::fs::read(at.join("w")).unwrap();
            let read = as_the_boot_sector_reads_it(&volume);
            assert!(file("w").starts_with(&read), "{make}: the file is another one");
            moved += usize::from(read != before);
        }
        assert!(moved > 0, "{make}: it moved nowhere");
        // A damaged list is reported.
        let mut broken = std::fs::read(at.join("v")).unwrap();
        let place = broken.windows(512).position(|some| some == &before[..512]).unwrap();
        broken[place + 2000] ^= 1;
        std::fs::write(at.join("v"), broken).unwrap();
        let resized = kind.resized(at, "v", "w", SMALLEST).unwrap();
        let is_told = matches!(resized.warnings[..], [ResizeWarning::LoaderLeftBehind { .. }]);
        assert!(is_told, "{:?}", resized.warnings);
    }
}

#[test]
fn differing_labels_are_reported() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    for (make, label_at) in [("-F 16", 43), ("-F 32 -s 1", 71)] {
        sh(&format!("rm -f v; truncate -s 40M v; mkfs.vfat {make} -n HIVE v >/dev/null"), at);
        let found = |file: &Path| {
            let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(file).unwrap());
            let volume = OpenVolume::open(Arc::clone(&store)).unwrap().unwrap();
            volume.examine().unwrap().usage.findings
        };
        assert!(found(&at.join("v")).is_empty(), "{make}");
        let file = OpenOptions::new().write(true).open(at.join("v")).unwrap();
        file.write_all_at(b"OAK", label_at).unwrap();
        // Nor is the copy of the boot sector wrong by that.
        let (in_root, in_boot) = ("HIVE".to_owned(), "OAKE".to_owned());
        assert_eq!(found(&at.join("v")), [VolumeFinding::TwoLabels { in_root, in_boot }]);
    }
}
