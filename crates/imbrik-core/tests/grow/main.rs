//! A volume at a larger size is one that the system's checker finds nothing to say about, with the
//! same files in it, and nothing of it has moved.

use imbrik_core::{
    fs,
    store::{FileStore, ReadAt, read_vec},
    units::ByteLen,
};
use proptest::prelude::*;
use std::{
    fs::File,
    path::Path,
    process::{Command, Output},
    sync::Arc,
};

fn tool(name: &str, args: &[&str], dir: &Path) -> Output {
    let mut command = Command::new(name);
    command.args(args).current_dir(dir).env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin");
    command.output().unwrap_or_else(|e| panic!("{name}: {e}; ./test installs it"))
}

/// A volume `v` of `kib` KiB with some files in it.
fn volume(options: &str, kib: u64) -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    let files = dir.path().join("files");
    std::fs::create_dir_all(files.join("hive/sounds")).unwrap();
    for number in 0..60usize {
        let content = vec![number as u8; number * 977];
        std::fs::write(files.join(format!("hive/sounds/{number}")), content).unwrap();
    }
    File::create(dir.path().join("v")).unwrap().set_len(kib << 10).unwrap();
    let mut args = vec!["-q", "-F", "-d", "files"];
    args.extend(options.split_whitespace());
    args.push("v");
    let made = tool("mke2fs", &args, dir.path());
    assert!(made.status.success(), "{options}: {made:?}");
    dir
}

/// Grows `v` into `w` of `kib` KiB and answers whether that was possible; then `w` is judged.
fn grown(dir: &Path, kib: u64) -> Result<(), String> {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join("v")).unwrap());
    let volume = fs::recognise(&*store).unwrap().unwrap();
    let found = fs::grow(&store, &volume, ByteLen::kib(kib)).map_err(|e| e.to_string())?;
    let view = found.settled.unwrap().store;
    let len = view.size();
    assert!(len <= ByteLen::kib(kib));
    let out = File::create(dir.join("w")).unwrap();
    out.set_len(len.get()).unwrap();
    for span in &found.usage.used {
        let mut at = span.start();
        while at < span.end() {
            let piece = span.end().saturating_since(at).to_usize().unwrap().min(1 << 20);
            let bytes = read_vec(&*view, at, piece).unwrap();
            std::os::unix::fs::FileExt::write_all_at(&out, &bytes, at.get()).unwrap();
            at = at.saturating_add(ByteLen::from_usize(piece));
        }
    }
    let check = tool("e2fsck", &["-fn", "w"], dir);
    let said = String::from_utf8_lossy(&check.stdout).into_owned();
    assert!(check.status.success(), "{said}");
    // A complaint that the checker passes over would still be one.
    assert!(!said.contains('?') && !said.contains("should be"), "{said}");
    for (volume, into) in [("v", "a"), ("w", "b")] {
        std::fs::create_dir_all(dir.join(into)).unwrap();
        tool("debugfs", &["-R", &format!("rdump / {into}"), volume], dir);
    }
    let same = tool("diff", &["-r", "a", "b"], dir);
    assert!(same.status.success(), "{same:?}");
    Ok(())
}

#[test]
fn volumes_of_all_ages_grow_and_the_checker_is_silent() {
    for (options, kib) in [
        ("-t ext4", 150 << 10),
        ("-t ext4 -b 1024", 40 << 10),
        ("-t ext4 -b 1024", 41_235),
        ("-t ext4 -b 2048", 90_001),
        ("-t ext4 -O ^flex_bg", 150 << 10),
        ("-t ext4 -O ^64bit", 150 << 10),
        ("-t ext4 -O ^metadata_csum", 150 << 10),
        ("-t ext4 -O ^metadata_csum,uninit_bg", 150 << 10),
        ("-t ext4 -O ^metadata_csum,uninit_bg,^64bit -b 1024", 30 << 10),
        ("-t ext4 -O metadata_csum_seed,orphan_file", 150 << 10),
        ("-t ext4 -I 128 -O ^64bit", 150 << 10),
        ("-t ext4 -O ^has_journal", 150 << 10),
        ("-t ext4 -m 12", 150 << 10),
        ("-t ext3", 150 << 10),
        ("-t ext2 -b 1024", 20 << 10),
        ("-t ext2 -b 1024 -O ^sparse_super,^resize_inode", 20 << 10),
    ] {
        let dir = volume(options, kib);
        // By a few blocks, by a third, to four and to forty times.
        for to in [kib + 4, kib * 13 / 10, kib * 4, kib * 40] {
            match grown(dir.path(), to) {
                Ok(()) => {}
                Err(why) => assert!(
                    why.contains("no room to speak of") || why.contains("are reserved for them"),
                    "{options}: {why}"
                ),
            }
        }
        if !options.contains("^resize_inode") {
            grown(dir.path(), kib * 2).unwrap();
        }
    }
}

#[test]
fn what_cannot_grow_is_refused_by_name() {
    for (options, why) in [
        ("-t ext4 -O bigalloc -C 16384", "bigalloc"),
        ("-t ext4 -O meta_bg,^resize_inode", "meta_bg"),
        ("-t ext4 -O sparse_super2,^resize_inode", "sparse_super2"),
        ("-t ext4 -b 1024 -O ^resize_inode", "are reserved for them"),
    ] {
        let dir = volume(options, 150 << 10);
        let said = grown(dir.path(), 4 << 20).unwrap_err();
        assert!(said.contains(why), "{options}: {said}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(30))]

    #[test]
    fn any_size_grows_to_any_larger_one(
        kib in 9_000u64..70_000,
        factor in 101u64..900,
        kind in 0usize..4,
    ) {
        let kinds = ["-t ext4 -b 1024", "-t ext4 -b 4096", "-t ext3 -b 1024", "-t ext4 -b 1024 -O ^flex_bg,^metadata_csum"];
        let dir = volume(kinds[kind], kib);
        if let Err(why) = grown(dir.path(), kib * factor / 100) {
            prop_assert!(why.contains("no room to speak of") || why.contains("reserved"), "{}", why);
        }
    }
}
