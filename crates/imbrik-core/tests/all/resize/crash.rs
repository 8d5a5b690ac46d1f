//! Volumes copied while they are written to, with files deleted and truncated while open: saved, fitted, or with a new
//! id, they are clean to the checker at once, and their tree, with every attribute read by the kernel, equals the
//! kernel's own recovery of the same copy.
//!
//! `IMBRIK_CRASHES=n` tests n copies of each kind; the default is a few.

use super::volumes::{Mount, judged, made, noise, resized, run, same, tool, tree, without_numbers};
use crate::support::is_root;
use imbrik_core::{
    fs::{NewSize, OpenVolume, ResizeOptions},
    layout::{Content, Occupancy, Survey},
    progress::Cancel,
    store::{FileStore, ReadAt, read_vec},
    units::{ByteLen, ByteOffset},
};
use std::{
    fs::File,
    os::unix::fs::FileExt,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
};

/// How a volume is made, and mounted.
const KINDS: [(&str, &str); 9] = [
    ("-t ext4 -b 1024 -O orphan_file", "data=ordered"),
    ("-t ext4 -b 1024 -O ^orphan_file", "data=journal"),
    ("-t ext4 -b 4096 -O ea_inode,^orphan_file", "data=ordered"),
    ("-t ext4 -b 1024 -O ea_inode,orphan_file,inline_data", "data=writeback"),
    ("-t ext4 -b 1024 -O ea_inode,^metadata_csum", "data=ordered"),
    ("-t ext4 -b 1024 -O ea_inode,metadata_csum_seed", "data=journal"),
    ("-t ext4 -b 2048 -O inline_data,^metadata_csum_seed", "data=ordered"),
    ("-t ext4 -b 1024 -O fast_commit", "data=ordered"),
    ("-t ext3 -b 1024", "data=ordered"),
];

/// Creates, renames, truncates and deletes files with attributes, until it is stopped.
fn load(at: &Path, stop: &AtomicBool) {
    let mut open = Vec::new();
    for round in 0u64.. {
        if stop.load(Ordering::Relaxed) {
            break;
        }
        let folder = at.join(format!("hive {:02}", round % 7));
        let _ = std::fs::create_dir_all(&folder);
        let path = folder.join(format!("day {}", round % 40));
        if std::fs::write(&path, noise((round as usize * 7919) % 60_000, round)).is_err() {
            continue;
        }
        let value = "honey ".repeat([3, 40, 500, 900][round as usize % 4]);
        let name = path.file_name().unwrap().to_str().unwrap().to_owned();
        let _ = run("setfattr", &["-n", "user.notes", "-v", &value, &name], &folder);
        match round % 5 {
            0 => {
                // Deleted while it is open.
                if let Ok(file) = File::open(&path) {
                    open.push(file);
                }
                let _ = std::fs::remove_file(&path);
            }
            1 => {
                let _ = std::fs::rename(&path, folder.join(format!("day {}", round % 11)));
            }
            2 => {
                if let Ok(file) = File::options().write(true).open(&path) {
                    let _ = file.set_len(round * 977 % 30_000);
                    let _ = file.sync_all();
                }
            }
            _ => {}
        }
        if open.len() > 12 {
            open.remove(0);
        }
        if round % 9 == 0 {
            let _ = run("sync", &["-f", "."], at);
        }
    }
}

/// A folder on a filesystem that copies a file atomically.
pub(crate) struct Host(tempfile::TempDir);

impl Host {
    pub(crate) fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        File::create(at.join("host")).unwrap().set_len(3 << 30).unwrap();
        tool("mkfs.btrfs", &["-q", "host"], at);
        std::fs::create_dir(at.join("on")).unwrap();
        tool("mount", &["-o", "loop", "host", "on"], at);
        Self(dir)
    }

    pub(crate) fn path(&self) -> std::path::PathBuf {
        self.0.path().join("on")
    }
}

impl Drop for Host {
    fn drop(&mut self) {
        for _ in 0..200 {
            if run("umount", &["on"], self.0.path()).status.success() {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
    }
}

fn occupied(dir: &Path, volume: &str) -> (Arc<dyn ReadAt>, Occupancy) {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join(volume)).unwrap());
    let survey = Survey::of(&*store).unwrap();
    let occupancy = Occupancy::of(&store, &survey).unwrap();
    (store, occupancy)
}

/// Saves `from` and restores it as `to`, over old bytes. Returns the reasons why it was copied in full.
pub(crate) fn saved(dir: &Path, from: &str, to: &str) -> Vec<String> {
    let (store, occupancy) = occupied(dir, from);
    let out = File::create(dir.join(to)).unwrap();
    for segment in &occupancy.segments {
        let (at, len) = (segment.span.start(), segment.span.len().to_usize().unwrap());
        let bytes = match &segment.content {
            Content::Copied { from } => read_vec(&*store, *from, len).unwrap(),
            Content::Rewritten { store, from } => read_vec(&**store, *from, len).unwrap(),
            Content::Cleared => vec![0; len],
            Content::Unused => vec![0xee; len],
        };
        out.write_all_at(&bytes, at.get()).unwrap();
    }
    occupancy.read_whole
}

/// Gives the volume `from` a new id, as `to`.
pub(crate) fn renamed(dir: &Path, from: &str, to: &str) {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join(from)).unwrap());
    let volume = OpenVolume::open(Arc::clone(&store)).unwrap().unwrap();
    let id = uuid::Uuid::from_u128(0x1234_5678_9abc_4def_8123_4567_89ab_cdef);
    let derived = volume.with_id(id, ResizeOptions::in_memory(&Cancel::new())).unwrap();
    let len = store.size().to_usize().unwrap();
    std::fs::write(dir.join(to), read_vec(&*derived.store, ByteOffset::ZERO, len).unwrap())
        .unwrap();
}

/// The tree of a volume with all attributes, through a mount that lets the kernel recover it first.
fn recovered(dir: &Path, volume: &str) -> String {
    let mount = Mount::of(dir, volume, "noatime").unwrap_or_else(|| panic!("{volume}"));
    drop(mount);
    let mount = Mount::of(dir, volume, "ro").unwrap();
    let listed = run("getfattr", &["-R", "-h", "-d", "-m", "-", "."], mount.path());
    assert!(listed.stderr.is_empty(), "{volume}: {}", String::from_utf8_lossy(&listed.stderr));
    without_numbers(&tree(mount.path()))
}

#[test]
#[ignore = "long: run by ./test --full"]
fn recovery_after_a_crash_matches_the_kernel() {
    if !is_root("recovery_after_a_crash_matches_the_kernel") {
        return;
    }
    let asked = std::env::var("IMBRIK_CRASHES").ok().and_then(|count| count.parse().ok());
    let copies: usize = asked.unwrap_or(1);
    let (mut with_orphans, mut dirty) = (0, 0);
    for (options, mounted) in KINDS {
        let host = Host::new();
        let on = host.path();
        let dir = on.as_path();
        let made = made(options, 48 << 10);
        std::fs::copy(made.path().join("v"), dir.join("v")).unwrap();
        let mount = Mount::of(dir, "v", &format!("noatime,{mounted}")).unwrap();
        let stop = AtomicBool::new(false);
        std::thread::scope(|scope| {
            scope.spawn(|| load(mount.path(), &stop));
            for copy in 0..copies {
                std::thread::sleep(std::time::Duration::from_millis(300));
                // An atomic copy, as after a power loss.
                tool("cp", &["--reflink=always", "v", &format!("crash{copy}")], dir);
            }
            stop.store(true, Ordering::Relaxed);
        });
        drop(mount);
        for copy in 0..copies {
            let what = format!("{options} {mounted} {copy}");
            let crash = format!("crash{copy}");
            let raw = std::fs::read(dir.join(&crash)).unwrap();
            let word = |at: usize| u32::from_le_bytes(raw[at..at + 4].try_into().unwrap());
            let is_dirty = word(1024 + 0x60) & 0x4 != 0;
            dirty += usize::from(is_dirty);
            let orphans = word(1024 + 0xe8) != 0 || word(1024 + 0x64) & 0x1_0000 != 0;
            with_orphans += usize::from(orphans);
            let whole = saved(dir, &crash, "s");
            assert!(whole.is_empty(), "{what}: {whole:?}");
            judged(dir, "s");
            for goal in
                [NewSize::Smallest { room: ByteLen::mib(4) }, NewSize::Bytes(ByteLen::mib(80))]
            {
                resized(dir, &crash, "f", goal).unwrap_or_else(|e| panic!("{what}: {e}"));
                judged(dir, "f");
            }
            renamed(dir, "s", "i");
            judged(dir, "i");
            tool("cp", &["--sparse=always", &crash, "kernel"], dir);
            let theirs = recovered(dir, "kernel");
            for ours in ["s", "f", "i"] {
                same(&theirs, &recovered(dir, ours), &format!("{what}: {ours}"));
                judged(dir, ours);
            }
        }
    }
    assert!(with_orphans > 0 && dirty > 0, "no copy had an orphan: the test proves nothing");
    eprintln!("{dirty} copies to replay, {with_orphans} with orphans");
}
