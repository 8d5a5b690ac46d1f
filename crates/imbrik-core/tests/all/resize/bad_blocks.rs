//! A volume keeps its list of bad blocks: those that are still in it are unchanged, and no data are moved onto them.

use super::volumes::{Mount, fill_tree, judged, len_of, made, resized, same, tool, tree_of};
use crate::support::is_root;
use imbrik_core::{Class, fs::NewSize, units::ByteLen};
use std::path::Path;

/// The list, as the system's own tool reads it.
fn listed(dir: &Path, volume: &str) -> Vec<u64> {
    let said = tool("dumpe2fs", &["-b", volume], dir);
    said.split_whitespace().map(|number| number.parse().unwrap()).collect()
}

/// A volume with these bad blocks.
fn with(bad: &[u64], options: &str, kib: u64) -> tempfile::TempDir {
    let list = tempfile::NamedTempFile::new().unwrap();
    let lines: String = bad.iter().map(|block| format!("{block}\n")).collect();
    std::fs::write(list.path(), lines).unwrap();
    made(&format!("{options} -l {}", list.path().display()), kib)
}

#[test]
#[ignore = "long: run by ./test --full"]
fn bad_blocks_stay_where_they_are() {
    if !is_root("bad_blocks_stay_where_they_are") {
        return;
    }
    for (options, block_len) in [
        ("-t ext4 -b 1024", 1024),
        ("-t ext4 -b 4096", 4096),
        ("-t ext2 -b 1024", 1024),
        ("-t ext3 -b 2048 -O ^resize_inode", 2048),
    ] {
        // So many that the list has separate blocks, all over the volume.
        let blocks = (96 << 20) / block_len;
        let all = (0..400).map(|n| blocks / 5 + n * (blocks * 4 / 5 / 400));
        // Not at the start of groups: with those, mke2fs creates volumes that its own checker reports.
        let bad: Vec<u64> = all.filter(|block| block % (block_len * 8) > 1000).collect();
        let made = with(&bad, options, 96 << 10);
        let dir = made.path();
        let mount = Mount::of(dir, "v", "noatime").unwrap();
        fill_tree(mount.path(), 20 << 20, 300);
        drop(mount);
        judged(dir, "v");
        let bad = listed(dir, "v");
        assert!(bad.len() > 300, "{options}: {bad:?}");
        let tree = tree_of(dir, "v");
        let mut cut = 0;
        for goal in [
            NewSize::Smallest { room: ByteLen::ZERO },
            NewSize::Bytes(ByteLen::mib(61)),
            NewSize::Bytes(ByteLen::mib(200)),
        ] {
            resized(dir, "v", "w", goal).unwrap_or_else(|e| panic!("{options}, {goal:?}: {e}"));
            judged(dir, "w");
            same(&tree, &tree_of(dir, "w"), options);
            let end = len_of(dir, "w").get() / block_len;
            let left: Vec<u64> = bad.iter().copied().filter(|block| *block < end).collect();
            cut += usize::from(left.len() < bad.len());
            assert_eq!(listed(dir, "w"), left, "{options}, {goal:?}");
        }
        assert!(cut > 0, "{options}: no list got shorter");
    }
}

#[test]
fn metadata_on_a_bad_block_is_refused() {
    // The backup of the descriptors in group 1 would extend to it when it grows.
    let made = with(&[8195], "-t ext4 -b 1024 -O ^resize_inode", 64 << 10);
    let error = resized(made.path(), "v", "w", NewSize::Bytes(ByteLen::mib(256))).map(drop);
    let error = error.unwrap_err();
    assert!(error.to_string().contains("block 8195 is on its list of bad blocks"), "{error}");
    assert_eq!(error.class(), Class::NoRoom);
}
