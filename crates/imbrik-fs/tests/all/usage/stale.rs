//! Stale metadata with valid checksums: blocks of a reachable file are never skipped.

use super::{change, over_old_bytes, tree, usage};
use crate::support::{is_root, sh};
use imbrik_fs::{OpenVolume, Usage};
use imbrik_store::{
    FileStore, ReadAt,
    units::{ByteLen, ByteOffset, Span},
};
use std::{fs, os::unix::fs::FileExt as _, path::Path, sync::Arc};

/// Returns whether every byte of `span` is read and not cleared.
fn is_read(usage: &Usage, span: Span) -> bool {
    let inside = |one: &Span| one.intersect(span) == Some(span);
    usage.used.iter().any(inside) && usage.cleared.iter().all(|one| one.intersect(span).is_none())
}

/// Blocks of a file, by the system's tool.
fn blocks(dir: &Path, name: &str) -> Vec<u64> {
    let said = sh(&format!("debugfs -R 'blocks {name}' v 2>/dev/null"), dir);
    said.split_whitespace().map(|number| number.parse().unwrap()).collect()
}

/// Replaces files by others of equal length, and then takes back each write of a metadata block by itself. Fails when
/// a bitmap is believed against an inode, or an inode bitmap against a directory.
#[test]
fn blocks_that_a_reachable_ext_file_maps_are_read_whatever_the_bitmaps_say() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    sh(
        "mkdir tree more; head -c 1200000 /dev/urandom >tree/brood.wav; \
        head -c 1200000 /dev/urandom >more/second.wav; for n in 1 2 3; do head -c 90000 /dev/urandom \
        >tree/day$n; done",
        at,
    );
    for (options, size) in [
        ("-t ext2 -b 1024", 1024),
        ("-t ext3 -b 1024", 1024),
        ("-t ext4 -b 1024", 1024),
        ("-t ext4 -b 4096 -O ^metadata_csum", 4096),
        ("-t ext2 -b 1024 -N 4000", 1024),
    ] {
        sh(&format!("rm -f v; truncate -s 12M v; mke2fs -q -F {options} -d tree v; cp v old"), at);
        sh(
            "printf 'write more/second.wav second\\nrm brood.wav\\nmkdir late\\nwrite tree/day1 late/day4\\n\
             rm day2\\nwrite tree/day3 day5\\n' | debugfs -w v 2>&1; cp v new; e2fsck -fn v",
            at,
        );
        let (old, new) = (fs::read(at.join("old")).unwrap(), fs::read(at.join("new")).unwrap());
        let names = ["second", "late", "late/day4", "day3", "day5", "day1"];
        let data: Vec<u64> = names.iter().flat_map(|name| blocks(at, name)).collect();
        let (mut tried, mut found) = (0, 0);
        for block in (0..old.len() / size).filter(|block| !data.contains(&(*block as u64))) {
            let bytes = block * size..(block + 1) * size;
            if old[bytes.clone()] == new[bytes.clone()] {
                continue;
            }
            tried += 1;
            fs::write(at.join("v"), &new).unwrap();
            let file = fs::OpenOptions::new().write(true).open(at.join("v")).unwrap();
            file.write_all_at(&old[bytes.clone()], bytes.start as u64).unwrap();
            let usage = usage(at);
            found += usize::from(!usage.findings.is_empty() || usage.whole_because.is_some());
            for name in ["second", "late", "late/day4", "day3", "day5", "day1", "brood.wav", "day2"]
            {
                // The map of a deleted file may point anywhere.
                let inside = |number: &u64| *number < (old.len() / size) as u64;
                for number in blocks(at, name).into_iter().filter(inside) {
                    let start = ByteOffset::new(number * size as u64);
                    let span = Span::new(start, ByteLen::from_usize(size)).unwrap();
                    assert!(
                        is_read(&usage, span),
                        "{options}, block {block}: {name} loses {number}"
                    );
                }
            }
        }
        assert!(tried > 5 && found > 0, "{options}: {tried} stale blocks, {found} noticed");
    }
}

/// An older block of the segment table: counts and nodes agree, a segment of data is called free.
#[test]
fn f2fs_segment_with_data_that_its_table_calls_free_is_read() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    sh("truncate -s 120M v; mkfs.f2fs -q -f v; sload.f2fs -f tree v", at);
    assert_eq!(over_old_bytes(at).1.whole_because, None);
    let raw = fs::read(at.join("v")).unwrap();
    let field = |at: usize| u64::from(u32::from_le_bytes(raw[at..at + 4].try_into().unwrap()));
    let (sit, nat) = (field(1024 + 80), field(1024 + 84));
    let mut swapped = 0;
    for copy in [sit, sit + (nat - sit) / 2] {
        change(&at.join("v"), copy * 4096, |block| {
            let entries = block.as_chunks_mut::<74>().0;
            let full =
                entries.iter().position(|one| one[..2] == [0x00, 0x06] || one[..2] == [0x00, 0x02]);
            let free = entries.iter().position(|one| one[2..66] == [0; 64]);
            if let (Some(full), Some(free)) = (full, free) {
                entries.swap(full, free);
                swapped += 1;
            }
        });
    }
    assert!(swapped > 0, "no full segment of data");
    let why = over_old_bytes(at).1.whole_because.unwrap();
    assert!(why.contains("has data in block") && why.ends_with("which is free"), "{why}");
}

/// The first record of the file table maps less than its size: the rest is in an attribute list.
#[test]
fn ntfs_file_table_that_is_only_mapped_in_part_is_read_in_full() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    sh(
        "truncate -s 16M v; mkfs.ntfs -q -F -f v 2>/dev/null; ntfscp -q -f v tree/brood.wav /brood.wav",
        at,
    );
    assert_eq!(usage(at).whole_because, None);
    let mut raw = fs::read(at.join("v")).unwrap();
    let cluster = usize::from(raw[13]) * 512;
    let number =
        |raw: &[u8], at: usize| u64::from_le_bytes(raw[at..at + 8].try_into().unwrap()) as usize;
    for table in [number(&raw, 48) * cluster, number(&raw, 56) * cluster] {
        let mut attribute = table + usize::from(raw[table + 20]);
        while raw[attribute] != 0x80 {
            attribute += usize::from(raw[attribute + 4]);
        }
        let size = number(&raw, attribute + 48) as u64 * 3;
        raw[attribute + 48..attribute + 56].copy_from_slice(&size.to_le_bytes());
    }
    fs::write(at.join("v"), &raw).unwrap();
    let why = usage(at).whole_because.unwrap();
    assert!(why.contains("maps only"), "{why}");
}

#[test]
fn btrfs_with_a_stale_first_superblock_is_read_in_full() {
    if !is_root("btrfs_with_a_stale_first_superblock_is_read_in_full") {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    sh(
        "truncate -s 200M v; mkfs.btrfs -q -r tree v 2>&1; head -c 69632 v | tail -c 4096 >first; mkdir m; \
         mount -o loop v m; cp more/second.wav m/; umount m",
        at,
    );
    assert_eq!(usage(at).whole_because, None);
    sh("dd if=first of=v bs=4096 seek=16 conv=notrunc status=none", at);
    let why = usage(at).whole_because.unwrap();
    assert!(why.contains("its superblock is of generation"), "{why}");
}

/// Resizing it, or skipping free space of its filesystem, would destroy the member of the array.
#[test]
fn raid_member_with_its_superblock_at_the_end_is_copied_in_full_and_not_resized() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    sh("truncate -s 16M v; mkfs.ext4 -q -F v 12M", at);
    assert_eq!(sh("blkid -p -o value -s TYPE v", at).trim(), "ext4");
    let mut raw = vec![0u8; 4096];
    let fields = [
        (0, 0xa92b_4efcu32),
        (8, 90),
        (20, 77),
        (28, 1),
        (32, 12 << 10),
        (36, 2),
        (40, 2),
        (52, 1),
        (56, 2),
    ];
    for (at, value) in fields {
        raw[at..at + 4].copy_from_slice(&value.to_le_bytes());
    }
    let sum: u64 =
        raw.as_chunks::<4>().0.iter().map(|word| u64::from(u32::from_le_bytes(*word))).sum();
    raw[152..156].copy_from_slice(&((sum as u32).wrapping_add((sum >> 32) as u32)).to_le_bytes());
    let file = fs::OpenOptions::new().write(true).open(at.join("v")).unwrap();
    file.write_all_at(&raw, (16 << 20) - (64 << 10)).unwrap();
    assert_eq!(sh("blkid -p -o value -s TYPE v", at).trim(), "linux_raid_member");
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&at.join("v")).unwrap());
    let volume = OpenVolume::open(store).unwrap().unwrap();
    assert_eq!(volume.volume().kind.name(), "RAID member");
    assert!(!volume.volume().kind.is_resizable());
    assert_eq!(volume.examine().unwrap().usage.in_use(), ByteLen::mib(16));
}
