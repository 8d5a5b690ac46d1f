//! Edits written in their place, and cut: after every step, and after some writes of the next one.

use super::{NOW, keep, volume};
use crate::support::{is_root, sh};
use imbrik_fs::{AfterACut, Commit, EditOptions, EditedVolume, FileEdit, FileMeta};
use imbrik_store::{ReadAt, SparseStore, read_vec};
use std::{collections::BTreeMap, fs::OpenOptions, os::unix::fs::FileExt, path::Path, sync::Arc};

fn names(path: &str) -> Vec<Vec<u8>> {
    path.split('/').map(|name| name.as_bytes().to_vec()).collect()
}

fn put(path: &str, content: &[u8]) -> FileEdit {
    let content: Arc<dyn ReadAt> = Arc::new(SparseStore::of(content));
    FileEdit::Put { path: names(path), content, meta: FileMeta::default() }
}

/// All writes of a step, in the order in which a card might keep them.
fn writes(step: &imbrik_fs::CommitStep, edited: &EditedVolume) -> Vec<(u64, Vec<u8>)> {
    let content = step.content.iter().map(|span| {
        let len = span.len().to_usize().unwrap();
        (span.start().get(), read_vec(&*edited.volume.store, span.start(), len).unwrap())
    });
    let bytes = step.bytes.iter().map(|(at, bytes)| (at.get(), bytes.clone()));
    content.chain(bytes).collect()
}

fn write(at: &Path, name: &str, writes: &[(u64, Vec<u8>)]) {
    let file = OpenOptions::new().write(true).open(at.join(name)).unwrap();
    for (place, bytes) in writes {
        file.write_all_at(bytes, *place).unwrap();
    }
}

/// The content of the volume: every file with its bytes.
type Seen = BTreeMap<String, Vec<u8>>;

fn seen_in(top: &Path) -> Seen {
    let mut all = Seen::new();
    let mut waiting = vec![top.to_path_buf()];
    while let Some(folder) = waiting.pop() {
        for entry in std::fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            let name = path.strip_prefix(top).unwrap().to_str().unwrap().to_owned();
            match path.is_dir() {
                true if name == "lost+found" => {}
                true => {
                    all.insert(name, Vec::new());
                    waiting.push(path);
                }
                false => {
                    // The checker of exFAT can leave one of two names of a file unreadable.
                    all.insert(name, std::fs::read(&path).unwrap_or_default());
                }
            }
        }
    }
    all
}

const LET_GO: &str = "for i in $(seq 99); do umount m && break; sleep 0.02; done";

struct Kind {
    make: &'static str,
    /// The checker in repair mode: it may only make permitted repairs.
    mend: &'static str,
    see: fn(&Path) -> Seen,
    after: AfterACut,
}

/// Its system mounts it, and so replays its journal.
fn by_kernel(at: &Path) -> Seen {
    sh("mkdir -p m; mount -o loop cut m", at);
    let all = seen_in(&at.join("m"));
    sh(LET_GO, at);
    sh("e2fsck -fn cut", at);
    all
}

fn by_mtools(at: &Path) -> Seen {
    sh("rm -rf m; mkdir m; mcopy -s -n -i cut '::*' m; fsck.fat -n cut", at);
    seen_in(&at.join("m"))
}

fn by_fuse(at: &Path) -> Seen {
    sh(
        "mkdir -p m; losetup -r -f --show cut > d; mount.exfat-fuse -o ro $(cat d) m >/dev/null",
        at,
    );
    let all = seen_in(&at.join("m"));
    sh(LET_GO, at);
    sh("losetup -d $(cat d); fsck.exfat -n cut", at);
    all
}

const NO_MENDING: &str = "true";

const KINDS: [Kind; 10] = [
    Kind {
        make: "truncate -s 24M v; mke2fs -q -t ext4 -b 1024 v",
        mend: NO_MENDING,
        see: by_kernel,
        after: AfterACut::OldOrNew,
    },
    Kind {
        make: "truncate -s 64M v; mke2fs -q -t ext4 -b 4096 v",
        mend: NO_MENDING,
        see: by_kernel,
        after: AfterACut::OldOrNew,
    },
    // The checksums of the log that the kernel gives it at the first mount.
    Kind {
        make: "truncate -s 64M v; mke2fs -q -t ext4 -b 4096 v; mkdir m; mount -o loop v m; \
               touch m/x; umount m",
        mend: NO_MENDING,
        see: by_kernel,
        after: AfterACut::OldOrNew,
    },
    Kind {
        make: "truncate -s 24M v; mke2fs -q -t ext4 -b 1024 -O ^64bit,^metadata_csum v; mkdir m; \
               mount -o loop,journal_checksum v m; touch m/x; umount m",
        mend: NO_MENDING,
        see: by_kernel,
        after: AfterACut::OldOrNew,
    },
    Kind {
        make: "truncate -s 24M v; mke2fs -q -t ext3 -b 1024 v",
        mend: NO_MENDING,
        see: by_kernel,
        after: AfterACut::OldOrNew,
    },
    Kind {
        make: "truncate -s 24M v; mke2fs -q -t ext4 -O ^has_journal v",
        mend: "e2fsck -fy cut >/dev/null || [ $? = 1 ]",
        see: by_kernel,
        after: AfterACut::ToBeChecked,
    },
    Kind {
        make: "truncate -s 24M v; mke2fs -q -t ext2 -b 1024 v",
        mend: "e2fsck -fy cut >/dev/null || [ $? = 1 ]",
        see: by_kernel,
        after: AfterACut::ToBeChecked,
    },
    Kind {
        make: "truncate -s 20M v; mkfs.vfat -F 16 -s 2 v >/dev/null",
        mend: "fsck.fat -a cut >/dev/null || [ $? = 1 ]; rm -rf FSCK*",
        see: by_mtools,
        after: AfterACut::ToBeChecked,
    },
    Kind {
        make: "truncate -s 40M v; mkfs.vfat -F 32 -s 1 v >/dev/null",
        mend: "fsck.fat -a cut >/dev/null || [ $? = 1 ]",
        see: by_mtools,
        after: AfterACut::ToBeChecked,
    },
    Kind {
        make: "truncate -s 24M v; mkfs.exfat -c 4k v >/dev/null",
        mend: "fsck.exfat -y cut >/dev/null || [ $? = 1 ]",
        see: by_fuse,
        after: AfterACut::ToBeChecked,
    },
];

fn before(at: &Path) {
    let some = [
        FileEdit::Folder { path: names("hive"), meta: FileMeta::default() },
        FileEdit::Folder { path: names("old"), meta: FileMeta::default() },
        put("hive/weights.csv", &[b'1'; 5000]),
        put("hive/brood.wav", &[7; 60_000]),
        put("old/settings.txt", b"port=7\n"),
        put("notes.txt", b"as it was\n"),
        FileEdit::Folder { path: names("tight"), meta: FileMeta::default() },
        FileEdit::Folder { path: names("large"), meta: FileMeta::default() },
    ];
    // Folders that fill their block, so that the next name moves others: of 1 KiB, and of 4 KiB.
    let small = (0..59).map(|n| put(&format!("tight/n{n:02}"), b"x"));
    let large = (0..250).map(|n| put(&format!("large/n{n:03}"), b"x"));
    let all: Vec<FileEdit> = some.into_iter().chain(small).chain(large).collect();
    keep(at, &volume(at).edit(&all, NOW).unwrap().volume);
}

fn edits() -> Vec<FileEdit> {
    let mut all = vec![
        put("hive/weights.csv", &[b'2'; 9000]),
        put("notes.txt", b"as it is\n"),
        FileEdit::Folder { path: names("new"), meta: FileMeta::default() },
        FileEdit::Remove { path: names("hive/brood.wav") },
        FileEdit::Rename { from: names("old/settings.txt"), to: names("new/settings.txt") },
        FileEdit::Remove { path: names("old") },
        // A block that looks like a journal block.
        put("new/looks like a journal", &0xc03b_3998u32.to_be_bytes().repeat(300)),
    ];
    all.extend((0..60).map(|n| put(&format!("new/log of the night {n}"), &[n as u8; 3000])));
    for folder in ["tight", "large"] {
        all.extend((0..9).map(|n| put(&format!("{folder}/more{n}"), b"y")));
        let (from, to) = (format!("{folder}/n07"), format!("{folder}/renamed"));
        let from = if folder == "large" { "large/n007".to_owned() } else { from };
        all.push(FileEdit::Rename { from: names(&from), to: names(&to) });
    }
    all
}

/// Names before and after a rename.
const RENAMED: [(&str, &str); 3] = [
    ("old/settings.txt", "new/settings.txt"),
    ("tight/n07", "tight/renamed"),
    ("large/n007", "large/renamed"),
];

/// The number of random subsets of each step's writes: `IMBRIK_CUTS=n`, or a few. `IMBRIK_CUTS_KIND=text` only tests
/// volumes whose recipe contains that text.
fn subsets() -> usize {
    std::env::var("IMBRIK_CUTS").ok().and_then(|count| count.parse().ok()).unwrap_or(1)
}

struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 >> 20
    }
}

/// Each name that is there is old or new, each that the edits don't touch is there, and of two names of a rename one.
fn is_old_or_new(make: &str, seen: &Seen, old: &Seen, new: &Seen) {
    for (path, content) in seen.iter().filter(|(path, _)| !path.starts_with("FSCK")) {
        let is_one = old.get(path) == Some(content) || new.get(path) == Some(content);
        // If both names of a file exist, the checkers of FAT and exFAT give the content to one of them.
        let other = RENAMED.iter().find(|(from, to)| path == from || path == to);
        let other = other.map(|(from, to)| if path == from { to } else { from });
        let has_other = other.and_then(|other| seen.get(*other)).is_some_and(|content| {
            old.values().any(|whole| whole == content) && !content.is_empty()
        });
        let is_one = is_one || (content.is_empty() && has_other);
        assert!(is_one, "{make}: {path} has {} bytes", content.len());
    }
    for (path, content) in old {
        let is_kept = new.get(path) != Some(content) || seen.contains_key(path);
        assert!(is_kept, "{make}: {path} is lost");
    }
    for (from, to) in RENAMED {
        let is_there = seen.contains_key(from) || seen.contains_key(to);
        assert!(is_there, "{make}: neither {from} nor {to} is there");
    }
}

/// Fails when a cut leaves anything but the old files or the new ones.
#[test]
fn power_loss_with_a_journal_leaves_the_old_or_the_new_files() {
    cut(|kind| kind.after == AfterACut::OldOrNew);
}

/// Fails when a cut loses an untouched file, when a touched one has content that was never its own, or when the checker
/// finds more than it may repair.
#[test]
fn power_loss_without_a_journal_loses_no_file_of_ext() {
    cut(|kind| kind.after == AfterACut::ToBeChecked && kind.make.contains("mke2fs"));
}

/// Fails for the same reasons.
#[test]
fn power_loss_loses_no_file_of_fat16() {
    cut(|kind| kind.make.contains("-F 16"));
}

/// Fails for the same reasons.
#[test]
fn power_loss_loses_no_file_of_fat32() {
    cut(|kind| kind.make.contains("-F 32"));
}

/// Fails for the same reasons.
#[test]
fn power_loss_loses_no_file_of_exfat() {
    cut(|kind| kind.make.contains("mkfs.exfat"));
}

/// Interrupts the edits of these kinds at every step.
fn cut(of: impl Fn(&Kind) -> bool) {
    if !is_root("power loss while volumes are edited") {
        return;
    }
    let mut dice = Dice(0x1234_5678_9abc);
    let mut all = 0;
    for kind in KINDS.iter().filter(|kind| of(kind)) {
        let only = std::env::var("IMBRIK_CUTS_KIND");
        if only.is_ok_and(|only| !kind.make.contains(&only)) {
            continue;
        }
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        sh(kind.make, at);
        before(at);
        sh("cp v before; cp v cut", at);
        let old = (kind.see)(at);
        let all_edits = edits();
        let stages: Vec<&[FileEdit]> = match kind.after {
            AfterACut::OldOrNew => vec![&all_edits],
            AfterACut::ToBeChecked => FileEdit::stages(&all_edits).collect(),
        };
        assert!(stages.len() > 3 || kind.after == AfterACut::OldOrNew);
        // The volume after all writes.
        sh("cp v start", at);
        for stage in &stages {
            keep(
                at,
                &volume(at).edit(stage, EditOptions { keeps_old: true, ..NOW }).unwrap().volume,
            );
        }
        sh("mv v once; cp once cut", at);
        let new = (kind.see)(at);
        assert_ne!(old, new);
        sh("mv start v", at);
        let (mut olds, mut news, mut cuts) = (0, 0, 0);
        for stage in stages {
            let known = volume(at);
            let edited = known.edit(stage, EditOptions { keeps_old: true, ..NOW }).unwrap();
            let Commit { steps, after_a_cut } = known.commit(&edited).unwrap();
            assert_eq!(after_a_cut, kind.after, "{}", kind.make);
            sh("cp v before", at);
            let mut written: Vec<(u64, Vec<u8>)> = Vec::new();
            for (number, step) in steps.iter().enumerate() {
                let all = writes(step, &edited);
                // Some from the start, all, and any of it: a card reorders writes.
                let mut parts = vec![all[..all.len() / 3].to_vec(), all.clone()];
                for _ in 0..subsets() {
                    let some = all.iter().filter(|_| dice.next() & 1 == 0);
                    parts.push(some.cloned().collect());
                }
                for part in &parts {
                    cuts += 1;
                    // A file that is replaced is written to the disk at once.
                    sh("rm -f cut; cp before cut", at);
                    write(at, "cut", &written);
                    write(at, "cut", part);
                    sh(kind.mend, at);
                    let seen = (kind.see)(at);
                    olds += u32::from(seen == old);
                    news += u32::from(seen == new);
                    if seen != old && seen != new {
                        assert_eq!(kind.after, AfterACut::ToBeChecked, "{}", kind.make);
                        let first = stage.first();
                        let what = format!("{}: {first:?}, step {number}", kind.make);
                        is_old_or_new(&what, &seen, &old, &new);
                    }
                }
                written.extend(all);
            }
            // All steps together are the edited volume.
            sh("cp v whole", at);
            write(at, "whole", &written);
            keep(at, &edited.volume);
            match kind.after {
                AfterACut::OldOrNew => {
                    let differs = sh("cmp -l whole v | wc -l", at);
                    let in_journal = differs.trim().parse::<u64>().unwrap();
                    assert!(in_journal > 0, "the journal was written");
                }
                AfterACut::ToBeChecked => {
                    sh("cmp whole v", at);
                }
            }
        }
        assert!(olds > 3 && news > 1, "{}: {olds} old, {news} new", kind.make);
        eprintln!("{}: {cuts} cuts, {olds} old, {news} new", kind.make);
        all += cuts;
    }
    assert!(all > 0 || std::env::var_os("IMBRIK_CUTS_KIND").is_some(), "no such kind");
}
