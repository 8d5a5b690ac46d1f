//! Volumes that were not unmounted, and files deleted while they were open.

use super::volumes::{Mount, fill_tree, judged, made, noise, resized, run, same, tool, tree_of};
use crate::support::is_root;
use imbrik_core::{
    Class,
    fs::{NewSize, OpenVolume, ResizeWarning},
    store::{FileStore, ReadAt},
    units::ByteLen,
};
use std::{fs, path::Path, sync::Arc};

const SMALLEST: NewSize = NewSize::Smallest { room: ByteLen::ZERO };

/// Copies `v` while it is mounted, with deleted files that are still open.
fn pulled_out(dir: &Path) {
    let mount = Mount::of(dir, "v", "noatime").unwrap();
    fill_tree(mount.path(), 6 << 20, 300);
    let open: Vec<_> = (0..3)
        .map(|n| {
            let path = mount.path().join(format!("hive {n:02}/open"));
            fs::write(&path, noise(300_000, n)).unwrap();
            let _ = run(
                "setfattr",
                &["-n", "user.notes", "-v", &"honey ".repeat(60), "open"],
                path.parent().unwrap(),
            );
            let file = fs::File::open(&path).unwrap();
            tool("sync", &["-f", "."], mount.path());
            fs::remove_file(&path).unwrap();
            file
        })
        .collect();
    fs::write(mount.path().join("last"), noise(50_000, 9)).unwrap();
    tool("sync", &["-f", "."], mount.path());
    tool("cp", &["--sparse=always", "v", "dirty"], dir);
    drop(open);
}

#[test]
fn dirty_volume_shrinks_to_the_state_the_kernel_recovers() {
    if !is_root("dirty_volume_shrinks_to_the_state_the_kernel_recovers") {
        return;
    }
    for options in [
        "-t ext4 -b 1024",
        "-t ext4 -b 1024 -O ^orphan_file",
        "-t ext4 -b 4096 -O ^flex_bg -g 4096",
        "-t ext3 -b 1024",
    ] {
        let made = made(options, 96 << 10);
        let dir = made.path();
        pulled_out(dir);
        for goal in [SMALLEST, NewSize::Bytes(ByteLen::mib(60)), NewSize::Bytes(ByteLen::mib(400))]
        {
            resized(dir, "dirty", "w", goal).unwrap_or_else(|e| panic!("{options}: {e}"));
            judged(dir, "w");
            tool("cp", &["--sparse=always", "dirty", "recovered"], dir);
            run("e2fsck", &["-fy", "recovered"], dir);
            same(&tree_of(dir, "recovered"), &tree_of(dir, "w"), options);
        }
    }
}

#[test]
fn references_to_inode_and_block_numbers_are_reported() {
    if !is_root("references_to_inode_and_block_numbers_are_reported") {
        return;
    }
    let made = made("-t ext4 -b 1024 -O ^flex_bg", 96 << 10);
    let dir = made.path();
    let mount = Mount::of(dir, "v", "noatime").unwrap();
    fill_tree(mount.path(), 6 << 20, 300);
    drop(mount);
    let (shape, _) = resized(dir, "v", "w", SMALLEST).unwrap();
    assert!(shape.warnings.is_empty() && shape.inodes_moved > 0);
    for hive in 0..24 {
        let file = format!("\"hive {hive:02}/name\"");
        tool("debugfs", &["-w", "-R", &format!("ea_set {file} security.evm 123"), "v"], dir);
    }
    let volume = fs::File::options().write(true).open(dir.join("v")).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&volume, b"\xeb\x58", 0).unwrap();
    let (shape, _) = resized(dir, "v", "w", SMALLEST).unwrap();
    let [ResizeWarning::SignedFiles { count }, ResizeWarning::BootCode] = shape.warnings[..] else {
        panic!("{:?}", shape.warnings)
    };
    assert!((1..=24).contains(&count), "{count}");
}

#[test]
fn error_flag_is_kept_and_a_real_fault_is_named() {
    let made = made("-t ext4 -b 1024", 20 << 10);
    let dir = made.path();
    tool("debugfs", &["-w", "-R", "ssv state 3", "v"], dir);
    let (shape, found) = resized(dir, "v", "w", SMALLEST).unwrap();
    assert_eq!(shape.warnings, [ResizeWarning::StillMarkedAsFaulty]);
    assert_eq!(found.usage.findings, [imbrik_fs::VolumeFinding::MarkedAsFaulty { faults: 0 }]);
    let said = tool("dumpe2fs", &["-h", "w"], dir);
    assert!(said.contains("Filesystem state:         clean with errors"), "{said}");
    run("e2fsck", &["-fy", "w"], dir);
    judged(dir, "w");
    tool("debugfs", &["-w", "-R", "sif lost+found links_count 7", "v"], dir);
    let error = resized(dir, "v", "w", SMALLEST).map(|_| ()).unwrap_err();
    assert!(error.to_string().contains("it counts 7 links"), "{error}");
    // That does not affect block ownership: its free space can be skipped nevertheless.
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join("v")).unwrap());
    let volume = OpenVolume::open(Arc::clone(&store)).unwrap().unwrap();
    let examined = || volume.examine().unwrap().usage;
    assert_eq!(examined().whole_because, None);
    assert!(examined().findings.contains(&imbrik_fs::VolumeFinding::MarkedAsFaulty { faults: 1 }));
    tool("debugfs", &["-w", "-R", "sif lost+found blocks 2", "v"], dir);
    assert!(examined().whole_because.is_some_and(|why| why.contains("count of blocks is wrong")));
}

#[test]
fn unsupported_features_are_refused_by_name() {
    for (options, why) in [
        ("-t ext4 -O bigalloc -C 16384", "bigalloc"),
        ("-t ext4 -O mmp", "mmp"),
        ("-t ext4 -O journal_dev", "journal"),
    ] {
        let made = made(options, 64 << 10);
        let error = resized(made.path(), "v", "w", SMALLEST).map(|_| ()).unwrap_err();
        assert_eq!(error.class(), Class::Unsupported, "{options}: {error}");
        assert!(error.to_string().contains(why), "{options}: {error}");
    }
}
