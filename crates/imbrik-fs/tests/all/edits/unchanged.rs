//! Content that is reported as unchanged is identical, whatever happened to the files in between.

use super::{ext, keep, volume};
use crate::support::{is_root, sh};
use imbrik_fs::{EditOptions, FileEdit, FileMeta, FileTime, OpenVolume};
use imbrik_store::{FileStore, ReadAt, SparseStore, progress::Cancel, read_vec};
use std::{fs::File, path::Path, sync::Arc, time::SystemTime};

/// The same numbers in every run.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, most: u64) -> u64 {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % most
    }
}

fn path(text: &str) -> Vec<Vec<u8>> {
    text.split('/').map(|name| name.as_bytes().to_vec()).collect()
}

/// A FAT volume `v` with more than 1 GiB in use, so that it is judged, and files that are long enough for that.
fn fat() -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    File::create(dir.path().join("v")).unwrap().set_len(1400 << 20).unwrap();
    sh(
        "mkfs.fat -F 32 -s 32 v; truncate -s 1100M filler; mcopy -i v filler ::; fallocate -d v; mmd -i v ::etc; \
         for n in 1 2 3 4 5 6; do head -c 1500000 /dev/urandom > long; touch -d \"2026-0$n-03 0$n:17\" long; \
         mcopy -m -i v long \"::etc/measurement of the night $n\"; done; \
         echo x > hostname; mcopy -i v hostname ::etc/hostname",
        dir.path(),
    );
    dir
}

/// Something that is done to a file that is there, or to a new one.
fn edit(dice: &mut Dice, names: u64, len: usize) -> FileEdit {
    let name = format!("etc/measurement of the night {}", dice.roll(names) + 1);
    let content = |dice: &mut Dice, len: usize| {
        let byte = dice.roll(255) as u8;
        Arc::new(SparseStore::of(&vec![byte + 1; len]))
    };
    let meta = FileMeta::default();
    match dice.roll(5) {
        0 => FileEdit::Remove { path: path(&name) },
        // Mostly of the same length, so that only the time shows the change.
        1..4 => FileEdit::Put { path: path(&name), content: content(dice, len), meta },
        _ => {
            let name = format!("etc/new {}", dice.roll(9));
            let len = 1 + dice.roll(60_000) as usize;
            FileEdit::Put { path: path(&name), content: content(dice, len), meta }
        }
    }
}

/// The present volume; later changes of `v` are not visible.
fn snapshot(dir: &Path) -> OpenVolume {
    let copy = tempfile::NamedTempFile::new_in(dir).unwrap().into_temp_path();
    sh(&format!("cp --sparse=auto v {}", copy.display()), dir);
    // Unlinked once it is open.
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&copy).unwrap());
    OpenVolume::open(store).unwrap().unwrap()
}

/// Edits volume `v` many times; returns how often content was reported as unchanged, and how often less than before the
/// edit.
fn judged(dir: &Path, names: u64, len: usize) -> (u32, u32) {
    let mut dice = Dice(names);
    let clock = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap().as_secs();
    let mut now = i64::try_from(clock).unwrap() + 100;
    let (mut said, mut fewer) = (0, 0);
    for step in 0..25 {
        let before = snapshot(dir);
        let all = before.unchanged_since(&before, &Cancel::new()).unwrap();
        // Soon, much later, at once, and by a clock that went back.
        now += [30, 86_400, 0, 1, -500][usize::try_from(dice.roll(5)).unwrap()];
        let options = EditOptions {
            now: FileTime { seconds: now, nanoseconds: 4_000_000 * (step % 7) },
            keeps_old: false,
        };
        for _ in 0..=dice.roll(4) {
            // A removed file cannot be removed again.
            if let Ok(edited) = volume(dir).edit(&[edit(&mut dice, names, len)], options) {
                keep(dir, &edited.volume);
            }
        }
        let after = snapshot(dir);
        let found = after.unchanged_since(&before, &Cancel::new()).unwrap();
        for span in &found.spans {
            let len = span.len().to_usize().unwrap();
            let read =
                |volume: &OpenVolume| read_vec(&**volume.store(), span.start(), len).unwrap();
            assert!(read(&after) == read(&before), "step {step}: {span} is another content");
        }
        said += u32::from(found.files > 0);
        fewer += u32::from(found.files < all.files);
    }
    (said, fewer)
}

/// Fails if a file is judged by too little: its length alone, an earlier time, a map whose blocks belong to another
/// file now.
#[test]
fn unchanged_ranges_are_identical() {
    if !is_root("unchanged_ranges_are_identical") {
        return;
    }
    for options in ["-t ext4", "-t ext4 -b 1024", "-t ext3", "-t ext2", "-t ext4 -I 128 -O ^64bit"]
    {
        let dir = ext(options);
        let (said, fewer) = judged(dir.path(), 400, 2);
        assert!(said > 10 && fewer > 5, "{options}: {said} times, {fewer} times fewer");
    }
    let dir = fat();
    let (said, fewer) = judged(dir.path(), 6, 1_500_000);
    assert!(said > 2 && fewer > 5, "FAT: {said} times, {fewer} times fewer");
}

/// A volume whose clock was reset, after a power loss, or that is another one, reports nothing.
#[test]
fn doubtful_ranges_are_not_called_unchanged() {
    if !is_root("doubtful_ranges_are_not_called_unchanged") {
        return;
    }
    let dir = ext("-t ext4");
    // Some time after its files were made.
    sh(
        "E2FSPROGS_FAKE_TIME=$(date -d '1 hour' +%s) debugfs -w -R 'ssv mnt_count 1' v 2>&1",
        dir.path(),
    );
    let before = snapshot(dir.path());
    let why = |line: &str| {
        sh("cp v kept", dir.path());
        sh(&format!("export E2FSPROGS_FAKE_TIME=$(date -d '2 hours' +%s); {line}"), dir.path());
        let found = snapshot(dir.path()).unchanged_since(&before, &Cancel::new()).unwrap();
        sh("mv kept v", dir.path());
        (found.files, found.why_not.unwrap_or_default())
    };
    assert!(why("true").0 > 300);
    for (line, part) in [
        ("E2FSPROGS_FAKE_TIME=978300000 debugfs -w -R 'ssv mnt_count 2' v", "clock"),
        ("debugfs -w -R 'ssv mkfs_time 20010101000000' v", "clock"),
        ("debugfs -w -R 'feature needs_recovery' v", "orderly"),
        ("debugfs -w -R 'ssv state 0' v", "orderly"),
        ("tune2fs -U random v", "another volume"),
        ("debugfs -w -R 'sif /etc/hostname ctime 20400101000000' v", "later than its clock"),
    ] {
        let (files, found) = why(&format!("{line} 2>&1"));
        assert!(files == 0 && found.contains(part), "{line}: {files} files, {found:?}");
    }
}

/// The files of `v` that are judged to be unchanged since `before`, and the reasons for others.
fn unchanged(dir: &Path, before: &OpenVolume) -> (u64, Vec<imbrik_store::units::Span>) {
    let found = snapshot(dir).unchanged_since(before, &Cancel::new()).unwrap();
    assert_eq!(found.why_not, None);
    (found.files, found.spans)
}

/// With a long commit interval, a database page that was written in place and synced before a power loss is new,
/// and its inode is old. Fails when anything but a file that is written once is reused after a remount.
#[test]
fn only_files_written_once_are_called_unchanged_after_a_remount() {
    if !is_root("only_files_written_once_are_called_unchanged_after_a_remount") {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    // Files are dated like those of a system that was set up long ago.
    sh(
        "truncate -s 64M v; mke2fs -q -t ext4 -b 4096 v; mkdir m; mount -o loop v m; \
         head -c 100001 /dev/urandom >m/library.so; head -c 409600 /dev/urandom >m/weights.db; \
         head -c 50001 /dev/urandom >m/log; fallocate -l 300000 m/ring; sync; sleep 4; \
         date >m/now; umount m",
        at,
    );
    let before = snapshot(at);
    let place = |name: &str| -> u64 {
        let said = sh(&format!("debugfs -R 'blocks {name}' v 2>/dev/null"), at);
        said.split_whitespace().next().unwrap().parse::<u64>().unwrap() * 4096
    };
    let has = |spans: &[imbrik_store::units::Span], name: &str| {
        spans.iter().any(|span| (span.start().get()..span.end().get()).contains(&place(name)))
    };
    let (_, spans) = unchanged(at, &before);
    for name in ["library.so", "weights.db", "log"] {
        assert!(has(&spans, name), "{name}: nothing was mounted since");
    }
    // A page is written and synced, and the power is cut before the inode is written.
    sh(
        "mount -o loop,commit=600 v m; python3 -c \"import os; f = os.open('m/weights.db', os.O_WRONLY); \
         os.pwrite(f, b'brood' * 800, 8192); os.fdatasync(f)\"; cp --sparse=always v cut; umount m; mv cut v; \
         mount -o loop v m; umount m; e2fsck -fn v",
        at,
    );
    let found = snapshot(at);
    let page = |volume: &OpenVolume| {
        read_vec(
            &**volume.store(),
            imbrik_store::units::ByteOffset::new(place("weights.db") + 8192),
            4096,
        )
    };
    assert!(page(&found).unwrap() != page(&before).unwrap(), "the page is on the card");
    let (_, spans) = unchanged(at, &before);
    assert!(has(&spans, "library.so"), "a file that is written once");
    assert!(!has(&spans, "weights.db") && !has(&spans, "ring"));
}

/// Boards without a clock, and tools with a fixed date, write new content under an old time.
#[test]
fn fat_files_are_unchanged_only_by_times_that_can_be_trusted() {
    let dir = fat();
    let at = dir.path();
    let before = snapshot(at);
    assert!(unchanged(at, &before).0 >= 5);
    // In place, with the same time.
    sh(
        "head -c 1500000 /dev/urandom > long; touch -d '2026-01-03' long; \
         mcopy -m -o -i v long '::etc/measurement of the night 1'; touch -d '2020-01-01 05:00' long; \
         mcopy -m -o -i v long '::etc/measurement of the night 2'",
        at,
    );
    let before = snapshot(at);
    assert!(unchanged(at, &before).0 <= 4, "midnight and the first of January are not trusted");
    // Little is in use: it is read in full.
    sh("mdel -i v ::filler", at);
    let small = snapshot(at);
    let found = small.unchanged_since(&small, &Cancel::new()).unwrap();
    assert_eq!((found.files, found.why_not), (0, None));
}
