//! Volumes after a power loss right after a fast commit: the save contains exactly what the system showed then, is
//! clean to the checker, and equals the kernel's recovery of the same copy.
//!
//! `IMBRIK_CRASHES=n` tests n copies of each kind; the default is a few.

use super::{
    crash::{Host, renamed, saved},
    volumes::{Mount, judged, made, noise, resized, run, same, tool, tree, without_numbers},
};
use crate::support::is_root;
use imbrik_core::{fs::NewSize, units::ByteLen};
use std::{
    fs::{File, OpenOptions},
    os::unix::fs::{FileExt, PermissionsExt},
    path::{Path, PathBuf},
};

/// How a volume is made, and whether files are deleted while they are open: the kernel of today mounts
/// hardly a copy with that.
const KINDS: [(&str, bool); 6] = [
    ("-t ext4 -b 1024 -O fast_commit", false),
    ("-t ext4 -b 1024 -O fast_commit,orphan_file", true),
    ("-t ext4 -b 4096 -O fast_commit,inline_data", false),
    ("-t ext4 -b 2048 -O fast_commit,^metadata_csum", true),
    ("-t ext4 -b 4096 -I 128 -O fast_commit,^64bit,^flex_bg", false),
    ("-t ext4 -b 4096 -O fast_commit,ea_inode,metadata_csum_seed", true),
];

/// Pseudo-random numbers, always the same.
struct Dice(u64);

impl Dice {
    fn below(&mut self, end: usize) -> usize {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        (self.0 >> 33) as usize % end
    }

    fn pick<'a, T>(&mut self, of: &'a [T]) -> Option<&'a T> {
        if of.is_empty() { None } else { of.get(self.below(of.len())) }
    }
}

/// A volume that is written to.
struct Load {
    at: PathBuf,
    dice: Dice,
    count: usize,
    folders: Vec<PathBuf>,
    files: Vec<PathBuf>,
    open: Vec<File>,
    deletes_open: bool,
}

impl Load {
    fn on(at: &Path, deletes_open: bool) -> Self {
        let hives = at.join("hives");
        std::fs::create_dir(&hives).unwrap();
        let (folders, files, open) = (vec![hives], Vec::new(), Vec::new());
        Self { at: at.into(), dice: Dice(7), count: 0, folders, files, open, deletes_open }
    }

    fn opened(path: &Path) -> File {
        OpenOptions::new().read(true).write(true).open(path).unwrap()
    }

    /// Writes a new file into a folder, and syncs it to the medium.
    fn add_file(&mut self, folder: &Path) {
        let path = folder.join(format!("night-{}", self.count));
        std::fs::write(&path, noise(self.dice.below(9000), self.count as u64)).unwrap();
        Self::opened(&path).sync_all().unwrap();
        self.files.push(path);
    }

    /// Does one thing, and syncs it to the medium.
    fn step(&mut self) {
        self.count += 1;
        let n = self.count;
        let folder = self.dice.pick(&self.folders).unwrap().clone();
        let file = self.dice.pick(&self.files).cloned();
        match (self.dice.below(14), file) {
            (0..=3, _) | (_, None) => self.add_file(&folder),
            (4 | 5, Some(path)) => {
                let file = Self::opened(&path);
                let piece = noise(1 + self.dice.below(5000), n as u64);
                file.write_all_at(&piece, self.dice.below(90_000) as u64).unwrap();
                file.sync_all().unwrap();
            }
            (6, Some(path)) => {
                let file = Self::opened(&path);
                file.set_len(self.dice.below(20_000) as u64).unwrap();
                file.sync_all().unwrap();
            }
            (7, Some(path)) => {
                let to = folder.join(format!("moved-{n}"));
                std::fs::rename(&path, &to).unwrap();
                self.files.retain(|one| *one != path);
                self.files.push(to);
            }
            (8, Some(path)) => {
                std::fs::remove_file(&path).unwrap();
                self.files.retain(|one| *one != path);
            }
            (9, Some(path)) => {
                let to = folder.join(format!("linked-{n}"));
                std::fs::hard_link(&path, &to).unwrap();
                self.files.push(to);
            }
            (10, Some(path)) if self.deletes_open => {
                self.open.push(File::open(&path).unwrap());
                std::fs::remove_file(&path).unwrap();
                self.files.retain(|one| *one != path);
                if self.open.len() > 4 {
                    self.open.remove(0);
                }
            }
            (11, _) if self.folders.len() < 12 => {
                let path = folder.join(format!("hive-{n}"));
                std::fs::create_dir(&path).unwrap();
                self.folders.push(path);
            }
            (12, _) if self.folders.len() > 1 => {
                // Only an empty folder can be removed.
                if std::fs::remove_dir(&folder).is_ok() {
                    self.folders.retain(|one| *one != folder);
                }
            }
            (_, Some(path)) => {
                let mode = std::fs::Permissions::from_mode(0o600 + self.dice.below(8) as u32);
                std::fs::set_permissions(&path, mode).unwrap();
            }
        }
    }

    /// Syncs everything that was done so far to the medium.
    fn settle(&mut self) {
        let path = self.at.join("last");
        std::fs::write(&path, format!("{}\n", self.count)).unwrap();
        Self::opened(&path).sync_all().unwrap();
    }
}

/// A tree without the properties of folders that are not recorded: their times, and their number of blocks. The kernel
/// doesn't count the links of folders created in fast commits either.
fn told(tree: &str) -> String {
    let line = |line: &str| match line.split_once(" d") {
        Some((path, rest)) if path.starts_with('.') => {
            let owners = rest.split(' ').take(3).collect::<Vec<_>>().join(" ");
            format!("{path} d{owners}")
        }
        _ => line.to_owned(),
    };
    without_numbers(tree).lines().map(line).collect::<Vec<_>>().join("\n")
}

/// Fast commits in the journal of a volume.
#[derive(Clone, Copy, PartialEq)]
enum FastCommits {
    Absent,
    /// Of a transaction before the last one.
    Stale,
    /// After the last transaction.
    Newest,
}

fn fast_commits(dir: &Path, volume: &str) -> FastCommits {
    let said = tool("debugfs", &["-R", "logdump", volume], dir);
    let number = |line: &str, before: &str| -> Option<u32> {
        let rest = line.split_once(before)?.1;
        rest.split([',', ' ']).next()?.parse().ok()
    };
    let log = said.lines().filter_map(|line| number(line, "expected sequence ")).next_back();
    let head = said.lines().find(|line| line.starts_with("tag HEAD"));
    match (log, head.and_then(|line| number(line, "tid "))) {
        (Some(log), Some(fast)) if fast == log + 1 => FastCommits::Newest,
        (_, Some(_)) => FastCommits::Stale,
        (_, None) => FastCommits::Absent,
    }
}

#[test]
#[ignore = "long: run by ./test --full"]
fn fast_commits_are_replayed() {
    if !is_root("fast_commits_are_replayed") {
        return;
    }
    let asked = std::env::var("IMBRIK_CRASHES").ok().and_then(|count| count.parse().ok());
    let copies: usize = asked.unwrap_or(3);
    let (mut fast, mut by_kernel, mut refused_by_kernel) = (0, 0, 0);
    for (options, deletes_open) in KINDS {
        let host = Host::new();
        let on = host.path();
        let dir = on.as_path();
        let made = made(options, 48 << 10);
        std::fs::copy(made.path().join("v"), dir.join("v")).unwrap();
        let mount = Mount::of(dir, "v", "noatime").unwrap();
        let mut load = Load::on(mount.path(), deletes_open);
        load.settle();
        tool("sync", &["-f", "."], mount.path());
        let mut expected = Vec::new();
        for copy in 0..copies {
            // The first copy has fast commits of new files only, which every kernel replays. What it refuses of the
            // others depends on when its own commits happen.
            if copy == 0 {
                for _ in 0..3 {
                    load.count += 1;
                    load.add_file(&load.folders[0].clone());
                }
            } else {
                for _ in 0..9 + load.dice.below(50) {
                    load.step();
                }
            }
            load.settle();
            tool("cp", &["--reflink=always", "v", &format!("crash{copy}")], dir);
            expected.push(told(&tree(mount.path())));
        }
        drop(load);
        drop(mount);
        for (copy, expected) in expected.iter().enumerate() {
            let what = format!("{options} {copy}");
            let crash = format!("crash{copy}");
            let found = fast_commits(dir, &crash);
            let is_fast = found == FastCommits::Newest;
            fast += usize::from(is_fast);
            let whole = saved(dir, &crash, "s");
            assert!(whole.is_empty(), "{what}: {whole:?}");
            judged(dir, "s");
            resized(dir, &crash, "f", NewSize::Smallest { room: ByteLen::mib(4) })
                .unwrap_or_else(|e| panic!("{what}: {e}"));
            judged(dir, "f");
            renamed(dir, "s", "i");
            for ours in ["s", "f", "i"] {
                let mount = Mount::of(dir, ours, "noatime").unwrap();
                same(expected, &told(&tree(mount.path())), &format!("{what}: {ours}"));
                std::fs::write(mount.path().join("more"), noise(300_000, 1)).unwrap();
                drop(mount);
                judged(dir, ours);
            }
            tool("cp", &["--sparse=always", &crash, "kernel"], dir);
            match Mount::of(dir, "kernel", "noatime") {
                Some(mount) => {
                    same(expected, &told(&tree(mount.path())), &format!("{what}: the kernel"));
                    by_kernel += usize::from(is_fast);
                }
                None => {
                    // It doesn't replay all fast commits that it writes.
                    let may_refuse = found != FastCommits::Absent && copy > 0;
                    assert!(may_refuse, "{what}: the kernel does not mount it");
                    refused_by_kernel += 1;
                }
            }
            let _ = run("rm", &["kernel"], dir);
        }
    }
    assert!(fast > 2 && by_kernel > 0, "{fast} in fast commits, {by_kernel} by the kernel");
    eprintln!(
        "{fast} in fast commits, {by_kernel} also by the kernel, {refused_by_kernel} not by it"
    );
}
