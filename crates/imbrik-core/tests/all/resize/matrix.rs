//! Volumes of all kinds through all sizes.

use super::volumes::{
    Mount, fill_tree, judged, len_of, made, noise, resized, run, same, tool, tree_of,
};
use crate::support::is_root;
use imbrik_core::{fs::NewSize, units::ByteLen};
use std::{fs, os::unix::fs::FileExt, path::Path};

const SMALLEST: NewSize = NewSize::Smallest { room: ByteLen::ZERO };
const MIB: u64 = 1 << 20;

fn log(words: &str) {
    if std::env::var_os("IMBRIK_TELL").is_some() {
        eprintln!("{words}");
    }
}

fn is_full() -> bool {
    std::env::var_os("IMBRIK_MATRIX").is_some()
}

/// How a volume is made and filled.
#[derive(Clone, Copy)]
struct Case {
    options: &'static str,
    /// A feature that is turned on when the files are in it, since the kernel here cannot mount it
    /// for writing.
    later: &'static str,
    mib: u64,
    /// Bytes of files, and names in the crowded folder.
    budget: usize,
    entries: usize,
    /// How far it is filled in addition, in percent; the first files are deleted again, so that the rest is in the last
    /// groups.
    full: u64,
}

const USUAL: Case =
    Case { options: "-t ext4", later: "", mib: 96, budget: 8 << 20, entries: 400, full: 0 };

impl Case {
    fn made(&self) -> tempfile::TempDir {
        let dir = made(self.options, self.mib << 10);
        let at = dir.path();
        let mount = Mount::of(at, "v", "noatime");
        let mount = mount.unwrap_or_else(|| panic!("{}: it cannot be mounted", self.options));
        self.fill_up(mount.path());
        fill_tree(mount.path(), self.budget, self.entries);
        drop(mount);
        if !self.later.is_empty() {
            tool("tune2fs", &["-O", self.later, "v"], at);
            run("e2fsck", &["-fy", "v"], at);
        }
        judged(at, "v");
        dir
    }

    fn fill_up(&self, at: &Path) {
        let piece = noise(1 << 20, 3);
        let mut files = 0u64;
        while files < self.mib * self.full / 100 {
            // Each in a separate folder, so that they are spread over the groups.
            let folder = at.join(format!("old {files:05}"));
            fs::create_dir(&folder).unwrap();
            if fs::write(folder.join("recording"), &piece).is_err() {
                break;
            }
            files += 1;
        }
        for file in 0..files * 4 / 5 {
            fs::remove_dir_all(at.join(format!("old {file:05}"))).unwrap();
        }
    }

    /// Through all sizes: each is judged by the checker, mounted and compared.
    fn goes_through_all_sizes(&self) {
        let made = self.made();
        let dir = made.path();
        let before = tree_of(dir, "v");
        let len = self.mib * MIB;
        let what = format!("{} {} {}", self.options, self.later, self.full);
        let (shape, found) =
            resized(dir, "v", "w", SMALLEST).unwrap_or_else(|error| panic!("{what}: {error}"));
        let least = len_of(dir, "w");
        log(&format!(
            "{what}: {least} of {} MiB, {} in use, {} had to move, {} did, {} inodes",
            self.mib,
            found.usage.in_use(),
            shape.had_to_move,
            shape.copied,
            shape.inodes_moved
        ));
        let moves_little = |had: ByteLen, did: ByteLen| did.get() <= had.get() * 105 / 100 + MIB;
        assert!(moves_little(shape.had_to_move, shape.copied), "{what}");
        // No free space is left, except where the number of inodes is the limit.
        let used = found.usage.in_use().get();
        let limits = ["-N", "-I 1024", "stable_inodes"];
        let decided_by_inodes = limits.iter().any(|limit| self.options.contains(limit));
        assert!(decided_by_inodes || least.get() <= used * 1005 / 1000 + MIB, "{what}: {least}");
        judged(dir, "w");
        same(&before, &tree_of(dir, "w"), &what);
        // At its smallest size, existing blocks can be overwritten.
        if writes(dir, "w", overwrite) {
            judged(dir, "w");
        }
        resized(dir, "v", "w", NewSize::Smallest { room: ByteLen::mib(4) }).unwrap();
        judged(dir, "w");
        if writes(dir, "w", create) {
            judged(dir, "w");
        } else {
            eprintln!("NOT WRITTEN TO: the kernel here mounts no {what} for writing");
        }
        // The full matrix tests all sizes; here each kind is tested with some, and together they cover all.
        let all = [(len + least.get()) / 2, len + 4096, len * 13 / 10, len * 4, len * 40];
        let sizes: Vec<u64> = match (is_full(), self.options.len() % 2) {
            (true, _) => all.to_vec(),
            (false, 0) => vec![all[0], all[1], all[4]],
            (false, _) => vec![all[0], all[2], all[3]],
        };
        for size in sizes {
            let goal = NewSize::Bytes(ByteLen::new(size));
            let (shape, _) = resized(dir, "v", "w", goal)
                .unwrap_or_else(|error| panic!("{what} to {size}: {error}"));
            log(&format!("  {size}: {} had to move, {} did", shape.had_to_move, shape.copied));
            assert!(moves_little(shape.had_to_move, shape.copied), "{what} to {size}");
            judged(dir, "w");
            same(&before, &tree_of(dir, "w"), &what);
            // Some of the grown volumes are resized by the system's own tool.
            if size > len + 4096 && size <= len * 4 {
                resized_by_the_system(dir, &before, &what);
            }
        }
    }
}

/// Resizes `w` with the system's own tool: up, down, and up again. Our result must be as the tool expects it.
fn resized_by_the_system(dir: &Path, before: &str, what: &str) {
    let len = len_of(dir, "w").get();
    for size in [len * 5 / 4, len * 3 / 4, len * 2] {
        let file = fs::OpenOptions::new().write(true).open(dir.join("w")).unwrap();
        file.set_len(size.max(len_of(dir, "w").get())).unwrap();
        let done = run("resize2fs", &["-f", "w", &format!("{}K", size >> 10)], dir);
        if !done.status.success() {
            // Some kinds it doesn't take at all.
            let said = String::from_utf8_lossy(&done.stderr).into_owned();
            let last = said.lines().last().unwrap_or_default();
            eprintln!("NOT RUN: the system's resizer leaves {what} at {size}: {last}");
            return;
        }
        // It leaves trees that could be narrower, without updating quota files.
        let check = run("e2fsck", &["-fn", "w"], dir);
        let said = String::from_utf8_lossy(&check.stdout).into_owned();
        let is_its_own = |line: &str| line.contains("could be ") || line.contains("quota info");
        let complaint = said.lines().find(|line| line.contains('?') && !is_its_own(line));
        assert_eq!(complaint, None, "{what} at {size}: {said}");
        same(before, &tree_of(dir, "w"), what);
    }
}

/// Mounts a volume writable and runs `work`; `false` if the kernel refuses.
fn writes(dir: &Path, volume: &str, work: fn(&Path)) -> bool {
    let Some(mount) = Mount::of(dir, volume, "noatime") else { return false };
    work(mount.path());
    true
}

fn overwrite(at: &Path) {
    let file = fs::OpenOptions::new().write(true).open(at.join("hive 07/brood/3.wav")).unwrap();
    let len = usize::try_from(file.metadata().unwrap().len()).unwrap();
    file.write_all_at(&noise(len, 99), 0).unwrap();
    file.sync_all().unwrap();
}

fn create(at: &Path) {
    fs::write(at.join("new"), noise(2 << 20, 5)).unwrap();
    fs::create_dir(at.join("new folder")).unwrap();
    fs::remove_file(at.join("hive 02/brood/1.wav")).unwrap();
}

fn all(test: &str, cases: &[Case]) {
    if is_root(test) {
        cases.iter().for_each(Case::goes_through_all_sizes);
    }
}

/// A test for each group of cases, so that they run at the same time.
macro_rules! tests {
    ($($name:ident: $cases:expr,)*) => {$(
        #[test]
        fn $name() {
            all(stringify!($name), &$cases);
        }
    )*};
}

fn with(options: &'static str) -> Case {
    Case { options, ..USUAL }
}

tests! {
    ext4_without_64bit: [with("-t ext4 -O ^64bit")],
    ext4_without_metadata_csum: [
        with("-t ext4 -b 1024 -O ^metadata_csum"),
        with("-t ext4 -b 1024 -O ^metadata_csum,uninit_bg"),
    ],
    ext4_without_flex_bg: [
        with("-t ext4 -b 2048 -O ^flex_bg"),
        with("-t ext4 -b 1024 -O ^flex_bg,^resize_inode"),
    ],
    ext4_with_many_reserved_blocks: [with("-t ext4 -O ^orphan_file,^metadata_csum_seed -m 12")],
    ext4_without_a_journal: [with("-t ext4 -O ^has_journal")],
    ext4_with_small_inodes: [with("-t ext4 -I 128")],
    full_ext4: [Case { full: 100, ..with("-t ext4 -b 1024 -O ^flex_bg") }],
    ext4_filled_to_70_percent: [Case { full: 70, mib: 256, ..with("-t ext4 -b 4096 -g 4096") }],
    ext3_filled_to_60_percent: [Case { full: 60, ..with("-t ext3 -b 1024") }],
    crowded_folder: [Case { entries: 30_000, ..with("-t ext4 -b 1024 -O ^flex_bg") }],
}

#[test]
#[ignore = "long: run by ./test --full"]
fn ext4_with_rare_features() {
    all(
        "ext4_with_rare_features",
        &[
            with("-t ext4 -O sparse_super2,^resize_inode"),
            with("-t ext4 -O meta_bg,^resize_inode"),
            with("-t ext4 -O inline_data -I 256"),
            with("-t ext4 -O inline_data,^flex_bg -I 1024 -b 1024"),
            with("-t ext4 -O ea_inode,^flex_bg"),
            with("-t ext4 -O large_dir,fast_commit"),
            with("-t ext4 -O stable_inodes,^flex_bg"),
            with("-t ext4 -O encrypt,verity -N 1300"),
            Case { later: "quota", ..with("-t ext4 -O ^flex_bg -b 1024") },
            Case { later: "casefold", ..USUAL },
        ],
    );
}

#[test]
#[ignore = "long: run by ./test --full"]
fn ext2_ext3_and_blocks_of_4_kib() {
    all(
        "ext2_ext3_and_blocks_of_4_kib",
        &[
            with("-t ext3 -b 1024"),
            with("-t ext2"),
            with("-t ext2 -b 1024 -O ^sparse_super,^resize_inode"),
            Case { mib: 300, ..with("-t ext3 -b 4096") },
            Case { mib: 300, ..with("-t ext4 -b 4096 -g 8192") },
            Case { mib: 300, ..with("-t ext4 -b 4096 -O ^flex_bg -E stride=16,stripe_width=64") },
        ],
    );
}

/// Sizes and kinds that take too long for every run.
#[test]
fn the_full_matrix() {
    if !is_full() {
        eprintln!("NOT RUN: the full matrix; scripts/matrix runs it");
        return;
    }
    for gib in [4, 16, 64] {
        let case = Case { mib: gib << 10, budget: 400 << 20, entries: 30_000, ..USUAL };
        all("the_full_matrix", &[case]);
    }
    let blocks = ["-b 1024", "-b 2048", "-b 4096"];
    let features = [
        "",
        "-O ^64bit",
        "-O ^metadata_csum",
        "-O ^metadata_csum,uninit_bg",
        "-O ^flex_bg",
        "-O ^resize_inode",
        "-O sparse_super2,^resize_inode",
        "-O ^has_journal",
        "-O inline_data",
        "-O ea_inode",
        "-O ^flex_bg,^64bit,^metadata_csum",
    ];
    for block in blocks {
        for feature in features {
            for (mib, full) in [(256, 0), (256, 50), (300, 95)] {
                let options = format!("-t ext4 {block} {feature}");
                let options: &'static str = Box::leak(options.into_boxed_str());
                let case = Case { options, mib, full, budget: 30 << 20, entries: 3000, later: "" };
                all("the_full_matrix", &[case]);
            }
        }
    }
}
