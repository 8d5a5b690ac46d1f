//! A volume at another size is one that the system's checker finds nothing to say about, that its
//! kernel mounts and writes to, and that holds exactly the same tree.

mod support;

use imbrik_core::{fs::Goal, units::ByteLen};
use std::{os::unix::fs::FileExt, path::Path};
use support::{Mount, fill_tree, is_root, judged, len_of, made, noise, reshaped, same, tree_of};

const SMALLEST: Goal = Goal::Smallest { room: ByteLen::ZERO };

fn log(words: &str) {
    if std::env::var_os("IMBRIK_TELL").is_some() {
        eprintln!("{words}");
    }
}

/// Through all sizes: each is judged by the checker, mounted and compared.
fn journey(options: &str, mib: u64, budget: usize, entries: usize) {
    let dir = made(options, mib << 10);
    let dir = dir.path();
    let Some(mount) = Mount::of(dir, "v", "noatime") else {
        panic!("{options}: the kernel cannot mount it");
    };
    fill_tree(mount.path(), budget, entries);
    drop(mount);
    judged(dir, "v");
    let before = tree_of(dir, "v").unwrap();
    let len = mib << 20;
    let (shape, found) =
        reshaped(dir, "v", "w", SMALLEST).unwrap_or_else(|error| panic!("{options}: {error}"));
    let least = len_of(dir, "w");
    log(&format!(
        "{options}: {least} of {} MiB, {} in use, {} had to move, {} did, {} inodes",
        mib,
        found.usage.in_use(),
        shape.had_to_move,
        shape.copied,
        shape.inodes_moved
    ));
    judged(dir, "w");
    same(&before, &tree_of(dir, "w").unwrap(), options);
    // At its smallest it can be written to where it has blocks already.
    overwrite(dir, "w");
    judged(dir, "w");
    let more = Goal::Smallest { room: ByteLen::mib(4) };
    reshaped(dir, "v", "w", more).unwrap();
    judged(dir, "w");
    create(dir, "w");
    judged(dir, "w");
    let sizes =
        [(len + least.get()) / 2, len - (1 << 20), len + 4096, len * 13 / 10, len * 4, len * 40];
    for size in sizes {
        let (shape, _) = reshaped(dir, "v", "w", Goal::Size(ByteLen::new(size)))
            .unwrap_or_else(|error| panic!("{options} to {size}: {error}"));
        log(&format!("  {size}: {} had to move, {} did", shape.had_to_move, shape.copied));
        judged(dir, "w");
        same(&before, &tree_of(dir, "w").unwrap(), options);
    }
}

fn overwrite(dir: &Path, volume: &str) {
    let mount = Mount::of(dir, volume, "noatime").unwrap();
    let file =
        std::fs::OpenOptions::new().write(true).open(mount.path().join("hive 07/brood/3.wav"));
    let file = file.unwrap();
    let len = file.metadata().unwrap().len();
    file.write_all_at(&noise(usize::try_from(len).unwrap(), 99), 0).unwrap();
    file.sync_all().unwrap();
}

fn create(dir: &Path, volume: &str) {
    let mount = Mount::of(dir, volume, "noatime").unwrap();
    std::fs::write(mount.path().join("new"), noise(2 << 20, 5)).unwrap();
    std::fs::create_dir(mount.path().join("new folder")).unwrap();
    std::fs::remove_file(mount.path().join("hive 02/brood/1.wav")).unwrap();
}

#[test]
fn first_look() {
    if !is_root("first_look") {
        return;
    }
    let options = std::env::var("OPTIONS").unwrap_or("-t ext4".into());
    journey(&options, 120, 20 << 20, 500);
}
