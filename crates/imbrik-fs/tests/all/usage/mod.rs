//! The used space of F2FS and btrfs volumes: everything else is overwritten with old bytes, and the system's checkers,
//! tools and kernel judge the result.

mod stale;

use crate::support::{is_root, sh};
use imbrik_fs::{OpenVolume, State, Usage};
use imbrik_store::{FileStore, ReadAt, read_vec, units::Span};
use std::{
    collections::HashSet,
    fs::{self, File, OpenOptions},
    os::unix::fs::FileExt,
    path::Path,
    sync::Arc,
};

/// Old bytes are written before this offset of a large volume: all of its metadata are there.
const FRONT: u64 = 400 << 20;

/// Examines the volume `v` of `dir`; `w` becomes a card of old bytes to which its used space was written.
fn over_old_bytes(dir: &Path) -> (State, Usage) {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join("v")).unwrap());
    let volume = OpenVolume::open(Arc::clone(&store)).unwrap().expect("a volume");
    let found = volume.examine().unwrap();
    let card = File::create(dir.join("w")).unwrap();
    card.set_len(store.size().get()).unwrap();
    let old = vec![0xee; 1 << 20];
    for at in (0..store.size().get().min(FRONT)).step_by(old.len()) {
        let len = old.len().min((store.size().get() - at) as usize);
        card.write_all_at(&old[..len], at).unwrap();
    }
    let pieces = |spans: &[Span]| -> Vec<(u64, usize)> {
        let ends = spans.iter().map(|span| (span.start().get(), span.end().get()));
        ends.flat_map(|(start, end)| {
            (start..end).step_by(1 << 20).map(move |at| (at, (end - at).min(1 << 20) as usize))
        })
        .collect()
    };
    for (at, len) in pieces(&found.usage.used) {
        let bytes = read_vec(&*store, imbrik_store::units::ByteOffset::new(at), len).unwrap();
        card.write_all_at(&bytes, at).unwrap();
    }
    for (at, len) in pieces(&found.usage.cleared) {
        card.write_all_at(&vec![0; len], at).unwrap();
    }
    (found.state, found.usage)
}

/// The used space of the volume `v` of `dir`.
fn usage(dir: &Path) -> Usage {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join("v")).unwrap());
    OpenVolume::open(store).unwrap().expect("a volume").examine().unwrap().usage
}

/// Made-up recordings in `tree`, and more in `more`.
fn tree(dir: &Path) {
    let line = "mkdir -p tree/hive more; for n in $(seq 300); do head -c $((n * 333)) /dev/urandom \
                >tree/hive/$n; done; head -c 9000000 /dev/urandom >tree/brood.wav; \
                head -c 5000000 /dev/urandom >more/second.wav; ln -s brood.wav tree/latest";
    sh(line, dir);
}

/// A block of a volume, changed.
fn change(path: &Path, at: u64, work: impl FnOnce(&mut [u8; 4096])) {
    let file = OpenOptions::new().read(true).write(true).open(path).unwrap();
    let mut block = [0; 4096];
    file.read_exact_at(&mut block, at).unwrap();
    work(&mut block);
    file.write_all_at(&block, at).unwrap();
}

/// The complaints of the F2FS checker.
fn complaints(dir: &Path, volume: &str) -> String {
    sh(&format!("fsck.f2fs --dry-run {volume} | grep -a -E 'Fail|ASSERT|orrupt' || true"), dir)
        .replace("[FSCK] other corrupted bugs                           [Ok..]\n", "")
}

/// The number of complete blocks of files in `folder` that are nowhere at the start of `w`: no tool here reads all
/// files of F2FS.
fn blocks_missing(dir: &Path, folder: &str) -> usize {
    let card = File::open(dir.join("w")).unwrap();
    let mut piece = vec![0; 1 << 20];
    let mut there = HashSet::new();
    for at in (0..card.metadata().unwrap().len().min(FRONT)).step_by(piece.len()) {
        let read = card.read_at(&mut piece, at).unwrap();
        there.extend(piece[..read].chunks_exact(4096).map(blake3::hash));
    }
    let files = sh(&format!("find {folder} -type f"), dir);
    let files = files.lines().map(|path| fs::read(dir.join(path)).unwrap());
    let missing = files.map(|content| {
        let blocks = content.chunks_exact(4096).map(blake3::hash);
        blocks.filter(|block| !there.contains(block)).count()
    });
    missing.sum()
}

#[test]
#[ignore = "long: run by ./test --full"]
fn f2fs_restored_over_old_bytes_is_clean() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    // Beyond some 900 MB the node table has more than one pair of segments.
    for (mib, about) in [
        (120, ""),
        (200, "-O extra_attr,inode_checksum,sb_checksum"),
        (200, "-O extra_attr,quota,project_quota"),
        (200, "-O extra_attr,compression"),
        (200, "-O encrypt,verity,lost_found -s 2 -z 2"),
        (5000, ""),
    ] {
        let make = format!(
            "rm -f v; truncate -s {mib}M v; mkfs.f2fs -q -f {about} v; sload.f2fs -f tree v"
        );
        sh(&make, at);
        for more in ["true", "sload.f2fs -f more v"] {
            sh(more, at);
            let (state, usage) = over_old_bytes(at);
            assert_eq!(usage.whole_because, None, "{about}");
            assert_eq!(state, State::Clean, "{about}");
            assert!(usage.in_use().get() < 60 << 20, "{about}: {}", usage.in_use());
            assert_eq!(complaints(at, "w"), "", "{about} {more}");
            assert_eq!(blocks_missing(at, "tree"), 0, "{about} {more}");
            assert_eq!(blocks_missing(at, "more") == 0, more != "true", "{about} {more}");
        }
    }
    // The checker does report errors: without the first summaries, for example.
    sh(
        "cp --sparse=always v w; dd if=/dev/zero of=w bs=1M seek=6 count=8 conv=notrunc status=none",
        at,
    );
    assert_ne!(complaints(at, "w"), "");
}

#[test]
fn inconsistent_or_dirty_f2fs_is_copied_in_full() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    sh("truncate -s 120M v; mkfs.f2fs -q -f v; sload.f2fs -f tree v; cp v sound", at);
    let why = || over_old_bytes(at).1.whole_because;
    assert_eq!(why(), None);
    let raw = fs::read(at.join("sound")).unwrap();
    let field = |at: usize| u64::from(u32::from_le_bytes(raw[at..at + 4].try_into().unwrap()));
    let (cp, sit, nat) = (field(1024 + 76), field(1024 + 80), field(1024 + 84));
    let sum = |block: &[u8]| {
        let mut sum = 0xf2f5_2010u32;
        for byte in block {
            sum ^= u32::from(*byte);
            for _ in 0..8 {
                sum = if sum & 1 == 1 { sum >> 1 ^ 0xedb8_8320 } else { sum >> 1 };
            }
        }
        sum
    };
    // In every block of both checkpoints that has a checksum.
    let in_checkpoints = |work: &dyn Fn(&mut [u8; 4096])| {
        for pack in [cp, cp + 512] {
            let total = u64::from(u32::from_le_bytes(
                raw[(pack * 4096 + 136) as usize..][..4].try_into().unwrap(),
            ));
            for block in [pack, pack + total - 1] {
                change(&at.join("v"), block * 4096, |block| {
                    work(block);
                    let sealed = sum(&block[..4092]).to_le_bytes();
                    block[4092..].copy_from_slice(&sealed);
                });
            }
        }
    };
    let again = || assert!(fs::copy(at.join("sound"), at.join("v")).is_ok());
    in_checkpoints(&|_| {});
    assert_eq!(why(), None, "sealing alone changes nothing");
    in_checkpoints(&|block| block[132] &= !1);
    assert!(why().unwrap().contains("not unmounted"));
    again();
    in_checkpoints(&|block| block[132] |= 0x10);
    assert!(why().unwrap().contains("found errors"));
    again();
    in_checkpoints(&|block| block[16] ^= 1);
    assert!(why().unwrap().contains("its checkpoint says"));
    again();
    in_checkpoints(&|block| block[144] ^= 1);
    assert!(why().unwrap().contains("nodes, and its checkpoint counts"));
    again();
    change(&at.join("v"), cp * 4096, |block| block[200] ^= 1);
    assert!(why().unwrap().contains("one of its two checkpoints is not whole"));
    again();
    change(&at.join("v"), 0, |block| block[1024 + 50] ^= 1);
    assert!(why().unwrap().contains("its two superblocks differ"));
    again();
    // Maps in which one block is lost and another one added: the counts match, and the nodes don't. Both copies of the
    // table are changed, because the test does not know which one is valid.
    for copy in [sit, sit + (nat - sit) / 2] {
        change(&at.join("v"), copy * 4096, |block| {
            for entry in block.chunks_exact_mut(74) {
                let map = &mut entry[2..66];
                let used = map.iter().position(|byte| *byte == 0xff);
                if let (Some(used), Some(free)) = (used, map.iter().position(|byte| *byte == 0)) {
                    map.swap(used, free);
                }
            }
        });
    }
    let why = why().unwrap();
    assert!(why.contains("node ") && why.ends_with("which is free"), "{why}");
}

#[test]
fn btrfs_restored_over_old_bytes_is_clean() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    for (mib, about, is_whole) in [
        (300, "", false),
        (300, "-m single -d single", false),
        (300, "-m dup -d dup", false),
        (120, "--mixed", false),
        (300, "-n 4096 -O ^no-holes,^extref", false),
        (300, "-R quota,^free-space-tree", false),
        (300, "--csum sha256", true),
    ] {
        let make = format!("rm -f v; truncate -s {mib}M v; mkfs.btrfs -q {about} -r tree v 2>&1");
        sh(&make, at);
        let (state, usage) = over_old_bytes(at);
        assert_eq!(usage.whole_because.is_some(), is_whole, "{about}: {usage:?}");
        assert_eq!(usage.findings, [], "{about}");
        assert!(is_whole || state == State::Clean, "{about}");
        assert!(is_whole || usage.in_use().get() < 100 << 20, "{about}: {}", usage.in_use());
        sh("btrfs check --check-data-csum w 2>&1", at);
        sh("rm -rf out; mkdir out; btrfs restore -S w out >/dev/null; diff -r tree out", at);
    }
    // The judge can say no.
    sh("dd if=/dev/zero of=w bs=1M seek=20 count=60 conv=notrunc status=none", at);
    sh("! btrfs check --check-data-csum w 2>/dev/null", at);
}

#[test]
fn aged_and_torn_btrfs_is_read_by_the_kernel_over_old_bytes() {
    if !is_root("aged_and_torn_btrfs_is_read_by_the_kernel_over_old_bytes") {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    let age = "truncate -s 500M v; mkfs.btrfs -q v 2>&1; mkdir m; mount -o loop v m; \
               cp -r tree m/one; btrfs -q subvolume snapshot m m/snap; rm -r m/one/hive; \
               for n in $(seq 40); do head -c $((n * 50000)) /dev/urandom >m/grown$n; sync; done; \
               rm m/grown?; btrfs -q balance start --full-balance m; cp more/second.wav m/; \
               truncate -s 3M m/second.wav; (cd m; find . -type f | sort | xargs b2sum) >sums; \
               umount m";
    sh(age, at);
    let (state, usage) = over_old_bytes(at);
    assert_eq!((state, &usage.whole_because, usage.findings.len()), (State::Clean, &None, 0));
    let judged = "btrfs check --check-data-csum w 2>&1; mount -o loop w m; (cd m; b2sum --quiet -c \
                  ../sums); btrfs -q scrub start -B m; cp more/second.wav m/new; umount m; \
                  btrfs check --check-data-csum w 2>&1";
    sh(judged, at);
    // Power loss right after a sync of a file: its data are in a log, which the kernel replays.
    sh(
        "mount -o loop v m; cp more/second.wav m/kept; sync m/kept; cp --sparse=always v t; umount m; mv t v",
        at,
    );
    let (state, usage) = over_old_bytes(at);
    assert_eq!((state, &usage.whole_because), (State::ToReplay, &None));
    sh(
        "mount -o loop w m; cmp m/kept more/second.wav; (cd m; b2sum --quiet -c ../sums); umount m; \
        btrfs check --check-data-csum w 2>&1",
        at,
    );
}

/// Fails when extents are believed that don't add up, or when a doubt of them costs more than the
/// chunks.
#[test]
fn btrfs_whose_extents_are_damaged_keeps_all_of_its_chunks() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    sh("truncate -s 300M v; mkfs.btrfs -q -m single -d single -r tree v 2>&1", at);
    let sound = over_old_bytes(at).1;
    // The offset of a tree's single block on the device.
    let place = |tree: &str| -> u64 {
        let dump =
            format!("btrfs inspect-internal dump-tree -t {tree} v | grep -a -m1 -E '^(leaf|node)'");
        let said = sh(&dump, at);
        let logical = said.split_whitespace().nth(1).unwrap();
        let said = sh(&format!("btrfs-map-logical -l {logical} v"), at);
        let physical = said.split("physical ").nth(1).unwrap();
        physical.split_whitespace().next().unwrap().parse().unwrap()
    };
    let (extents, chunks) = (place("extent"), place("chunk"));
    let damage = |place: u64| change(&at.join("v"), place, |block| block[3000] ^= 1);
    damage(extents);
    let usage = over_old_bytes(at).1;
    assert_eq!(usage.whole_because, None);
    assert!(
        usage.findings[0].to_string().contains("all that is given out to chunks"),
        "{:?}",
        usage.findings
    );
    assert!(usage.in_use() > sound.in_use());
    // Without a chunk tree nothing is known.
    damage(chunks);
    let why = over_old_bytes(at).1.whole_because.unwrap();
    assert!(why.contains("is not what its tree says"), "{why}");
}

/// Fails when metadata count as files, or files as metadata: the kernel of ext4 and the checkers of FAT and exFAT count
/// what the files use.
#[test]
fn space_of_files_is_what_the_system_counts() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    let fresh = |make: &str| sh(&format!("rm -f v; truncate -s 96M v; {make}"), at);
    let counted = || {
        let usage = usage(at);
        assert!(usage.whole_because.is_none() && usage.metadata < usage.in_use());
        usage.in_files().get()
    };
    if is_root("counting of ext4's files by the kernel") {
        for options in ["-t ext2 -b 1024", "-t ext4 -b 1024", "-t ext4", "-t ext4 -J size=8"] {
            // Otherwise, the kernel counts blocks that are reserved for longer descriptors as files.
            fresh(&format!("mke2fs -q -F {options} -O ^resize_inode -d tree v"));
            let df =
                "mkdir -p m; mount -o loop,ro v m; df -B1 --output=used m | tail -n 1; umount m";
            let kernel: u64 = sh(df, at).trim().parse().unwrap();
            assert_eq!(counted(), kernel, "{options}");
        }
    }
    for fat in ["-F 12 -s 64", "-F 16", "-F 32 -s 1"] {
        fresh(&format!("mkfs.vfat {fat} v >/dev/null; mcopy -s -i v tree/* ::"));
        // "v: 12 files, 345/4075 clusters"
        let told = sh("fsck.fat -n v | tail -n 1", at);
        let clusters: u64 = told.split([' ', '/']).nth(3).unwrap().parse().unwrap();
        let bytes = fs::read(at.join("v")).unwrap();
        let cluster = u64::from(u16::from_le_bytes([bytes[11], bytes[12]])) * u64::from(bytes[13]);
        assert_eq!(counted(), clusters * cluster, "{fat}: {told}");
    }
}
