//! Only used space is read and written, and nothing in it is lost.
//!
//! Every volume is saved and restored to a card full of old bytes, so that wrongly skipped data are detected. The
//! system's checkers judge, and the files are compared.

use crate::harness::{Bench, all_are, noise, places_of, tool};
use std::{fs, path::Path};

const OLD: u8 = 0xee;

/// A rack with the volume that `line` creates in slot `a`, and a card of the same size full of old bytes in slot `b`.
fn bench(mib: u64, line: &str) -> Bench {
    let bench = Bench::empty();
    fs::create_dir(bench.path("rack")).unwrap();
    let size = mib << 20;
    crate::harness::sized(&bench.path("rack/a.img"), size);
    // Old bytes under the new volume, as on a used card.
    fs::write(bench.path("rack/a.img"), vec![0xa5; size as usize]).unwrap();
    let line = line.replace("FILE", "rack/a.img");
    tool!("sh", "-c", format!("cd {} && {line}", bench.path("").display()));
    fs::write(bench.path("rack/b.img"), vec![OLD; size as usize]).unwrap();
    bench.write_rack(&format!(
        "[[slot]]\nname = \"a\"\nsize = {size}\n[[slot]]\nname = \"b\"\nsize = {size}\n"
    ));
    bench
}

/// Made-up files: some large, many small, one sparse, links.
fn files(at: &Path) {
    fs::create_dir_all(at.join("hive/sounds")).unwrap();
    fs::write(at.join("hive/brood.wav"), noise(3_000_000)).unwrap();
    for number in 0..200 {
        fs::write(at.join(format!("hive/sounds/{number}")), noise(number * 37)).unwrap();
    }
    let sparse = fs::File::create(at.join("hive/sparse")).unwrap();
    sparse.set_len(5_000_000).unwrap();
    std::os::unix::fs::symlink("brood.wav", at.join("hive/latest")).unwrap();
    fs::hard_link(at.join("hive/brood.wav"), at.join("hive/same.wav")).unwrap();
}

/// Saves, restores, and returns the number of bytes read from the card.
fn through_an_image(bench: &Bench) -> u64 {
    let saved = bench.good("save rack:a x.img.zst --json").json();
    bench.good("check x.img.zst --against rack:a");
    bench.good("restore x.img.zst rack:b --yes");
    bench.good("check x.img.zst --against rack:b");
    saved["card_bytes_read"].as_u64().unwrap()
}

#[test]
#[ignore = "long: run by ./test --full"]
fn ext_volumes_of_all_versions_are_saved_clean_and_equal() {
    for (mib, about) in [
        (64, "ext4"),
        (200, "ext4 -b 1024"),
        (64, "ext4 -b 2048"),
        (300, "ext4 -O ^metadata_csum,uninit_bg"),
        (64, "ext4 -O ^metadata_csum,^uninit_bg"),
        (64, "ext4 -O ^64bit -I 128"),
        (300, "ext4 -O ^flex_bg"),
        (300, "ext4 -O meta_bg,^resize_inode -b 1024"),
        (64, "ext4 -O ^has_journal"),
        (64, "ext4 -O inline_data"),
        (128, "ext4 -O bigalloc -C 16384"),
        (300, "ext4 -O sparse_super2 -b 1024"),
        (64, "ext4 -O orphan_file,metadata_csum_seed"),
        (64, "ext4 -O ^sparse_super,^resize_inode -b 1024"),
        (64, "ext3"),
        (64, "ext2 -b 1024"),
    ] {
        let line = format!(
            "mkdir files && cp -a ../files-of-the-test/. files; mkfs.{about} -q -F -d files FILE"
        );
        let source = tempfile::tempdir().unwrap();
        files(source.path());
        let line = line.replace("../files-of-the-test", &source.path().display().to_string());
        let bench = bench(mib, &line);
        let read = through_an_image(&bench);
        tool!("e2fsck", "-fn", bench.path("rack/b.img"));
        assert!(read < (mib << 20) / 2, "{about}: {read} bytes of {mib} MiB read");
        for slot in ["a", "b"] {
            fs::create_dir(bench.path(format!("{slot}-files"))).unwrap();
            let dump = format!("rdump / {}", bench.path(format!("{slot}-files")).display());
            tool!("debugfs", "-R", dump, bench.path(format!("rack/{slot}.img")));
        }
        let both = format!("cd {} && diff -r a-files b-files", bench.path("").display());
        tool!("sh", "-c", both);
        let skipped = bench.bytes("rack/b.img").iter().filter(|byte| **byte == OLD).count();
        assert!(skipped > 1 << 20, "{about}: the unused was written, too");
    }
}

#[test]
fn fat_volumes_are_saved_clean_and_equal() {
    for (mib, about) in [(4, "-F 12"), (64, "-F 16"), (100, "-F 32"), (100, "-F 32 -f 1 -s 2")] {
        let source = tempfile::tempdir().unwrap();
        fs::write(source.path().join("KERNEL"), noise(1_500_000)).unwrap();
        fs::write(source.path().join("gone"), noise(300_000)).unwrap();
        fs::write(source.path().join("a long name.txt"), "board").unwrap();
        // A deleted file before it makes the next one fragmented.
        let line = format!(
            "mkfs.vfat {about} -n HIVE FILE >/dev/null && cd {0} && A=$OLDPWD/FILE; A=$OLDPWD/rack/a.img; \
             mcopy -i $A gone KERNEL 'a long name.txt' :: && mdel -i $A ::gone && mcopy -i $A KERNEL ::SECOND",
            source.path().display()
        );
        let bench = bench(mib, &line);
        let read = through_an_image(&bench);
        tool!("fsck.fat", "-n", bench.path("rack/b.img"));
        assert!(read < 9 << 20, "{about}: {read}");
        for name in ["KERNEL", "SECOND", "a long name.txt"] {
            let of = |slot: &str| {
                let card = bench.path(format!("rack/{slot}.img"));
                let out = bench.path(format!("{slot}-out"));
                tool!("mcopy", "-n", "-o", "-i", card, format!("::{name}"), out);
                fs::read(out).unwrap()
            };
            assert!(of("a") == of("b"), "{about}: {name}");
        }
    }
}

#[test]
fn exfat_and_swap_keep_their_metadata() {
    let bench = bench(200, "mkfs.exfat -L combs FILE >/dev/null");
    let read = through_an_image(&bench);
    assert!(read < 40 << 20, "{read}");
    tool!("fsck.exfat", "-n", bench.path("rack/b.img"));
    let swap = self::bench(64, "mkswap -L combs FILE");
    assert!(through_an_image(&swap) < 8 << 20);
    let label = tool!("blkid", "-p", "-o", "value", "-s", "LABEL", swap.path("rack/b.img"));
    assert_eq!(label.trim(), "combs");
}

#[test]
fn inconsistent_volume_is_copied_in_full_with_a_warning() {
    let damages: [(&str, u64, &str); 4] = [
        ("mkfs.ext4 -q -F FILE", 1024 + 0x78, "superblock's checksum is wrong"),
        ("mkfs.ext4 -q -F -b 4096 FILE", 4096 + 0x18, "descriptor checksum is"),
        ("mkfs.vfat -F 16 FILE >/dev/null", 4 * 512, "allocation table is damaged"),
        ("mkfs.exfat FILE >/dev/null", 40, "boot checksum is"),
    ];
    for (line, at, why) in damages {
        let bench = bench(64, line);
        let at = if line.contains("vfat") {
            // The first byte of the first table, after the reserved sectors.
            u64::from(bench.bytes("rack/a.img")[14]) * 512
        } else {
            at
        };
        crate::harness::flip(&bench.path("rack/a.img"), at);
        let run = bench.good("save rack:a x.img.zst").says("is copied in full").says(why);
        assert!(run.out_has("Used 67.1 MB (64 MiB);"), "{}", run.stdout);
        tool!("zstd", "-dq", bench.path("x.img.zst"), "-o", bench.path("back"));
        assert!(bench.bytes("back") == bench.bytes("rack/a.img"), "{line}");
    }
}

#[test]
fn dirty_exfat_uses_bitmap_and_folders() {
    let bench = bench(64, "mkfs.exfat FILE >/dev/null");
    // VolumeFlags: not part of the boot checksum, since it changes with every mount.
    crate::harness::put(&bench.path("rack/a.img"), 106, &[2]);
    let read = through_an_image(&bench);
    assert!(read < 4 << 20, "{read}");
    // It is as dirty as before: a save changes nothing of a volume without a journal.
    assert_eq!(bench.bytes("rack/b.img")[106], 2);
}

#[test]
fn wipe_leaves_no_old_byte_and_exact_restores_every_byte() {
    let bench = bench(64, "mkfs.ext4 -q -F FILE");
    bench.good("save rack:a x.img.zst");
    bench.good("restore x.img.zst rack:b --yes --wipe");
    let card = bench.bytes("rack/b.img");
    assert!(!card.chunks(4096).any(|block| all_are(block, OLD)));
    tool!("e2fsck", "-fn", bench.path("rack/b.img"));
    bench.good("save rack:a exact.img.zst --exact");
    bench.good("restore exact.img.zst rack:b --yes");
    assert!(bench.bytes("rack/b.img") == bench.bytes("rack/a.img"));
}

#[test]
fn lost_chains_of_a_fat_volume_count_as_used() {
    let bench = bench(
        64,
        "mkfs.vfat -F 16 FILE >/dev/null && head -c 900000 /bin/bash >brood && mcopy -i FILE brood ::",
    );
    // The entry was removed, its clusters were not: as after a crash.
    let card = bench.path("rack/a.img");
    let bytes = fs::read(&card).unwrap();
    let entry = places_of(&bytes, b"BROOD      ").next().unwrap();
    crate::harness::put(&card, entry as u64, &[0xe5]);
    through_an_image(&bench);
    let content = fs::read("/bin/bash").unwrap();
    let card = bench.bytes("rack/b.img");
    assert!(
        places_of(&card, &content[8192..12288]).next().is_some(),
        "what a lost chain holds was skipped"
    );
    let mut check = std::process::Command::new("fsck.fat");
    check.arg("-n").arg(bench.path("rack/b.img")).env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin");
    let said = check.output().unwrap();
    let text = String::from_utf8_lossy(&said.stdout).into_owned();
    assert!(
        text.contains("eclaimed") || text.contains("rphaned") || text.contains("nused"),
        "{text}"
    );
}

fn le32(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap())
}

/// The clusters of an exFAT volume that its bitmap calls used: the test's own reader, along the chain of the bitmap's
/// clusters.
fn used_clusters(volume: &[u8]) -> Vec<(usize, usize)> {
    let sector = 1usize << volume[108];
    let cluster = sector << volume[109];
    let table = le32(volume, 80) as usize * sector;
    let heap = le32(volume, 88) as usize * sector;
    let place = |number: u32| heap + (number as usize - 2) * cluster;
    let root = place(le32(volume, 96));
    let entry = (0..cluster / 32).map(|i| root + i * 32).find(|at| volume[*at] == 0x81).unwrap();
    let mut number = le32(volume, entry + 20);
    let mut bitmap = Vec::new();
    while number != u32::MAX {
        bitmap.extend_from_slice(&volume[place(number)..place(number) + cluster]);
        number = le32(volume, table + number as usize * 4);
    }
    let count = le32(volume, 92) as usize;
    let used = (0..count).filter(|n| bitmap[n / 8] >> (n % 8) & 1 == 1);
    used.map(|n| (heap + n * cluster, cluster)).collect()
}

#[test]
fn fragmented_exfat_bitmap_is_read_along_its_chain() {
    let bench = bench(100, "mkfs.exfat -c 512 FILE >/dev/null");
    let card = bench.path("rack/a.img");
    let mut volume = fs::read(&card).unwrap();
    let table = le32(&volume, 80) as usize * 512;
    let heap = le32(&volume, 88) as usize * 512;
    let root = heap + (le32(&volume, 96) as usize - 2) * 512;
    let entry = (0..16).map(|i| root + i * 32).find(|at| volume[*at] == 0x81).unwrap();
    let first = le32(&volume, entry + 20) as usize;
    let len = u64::from_le_bytes(volume[entry + 24..entry + 32].try_into().unwrap()) as usize;
    let clusters = len.div_ceil(512);
    assert!(clusters > 20, "{clusters}");
    // The second half of the bitmap moves far away, one cluster apart each.
    let far = 150_000usize;
    let bit =
        |n: usize| (first + (n - 2) / 8 / 512, heap + (first - 2) * 512 + (n - 2) / 8, (n - 2) % 8);
    for (step, old) in (first + clusters / 2..first + clusters).enumerate() {
        let new = far + step * 2;
        // The bits of the far clusters are in the part that does not move.
        assert!(bit(new).0 < first + clusters || step == 0);
        let (_, at, shift) = bit(new);
        volume[at] |= 1 << shift;
        let (_, at, shift) = bit(old);
        volume[at] &= !(1 << shift);
    }
    for (step, old) in (first + clusters / 2..first + clusters).enumerate() {
        let new = far + step * 2;
        let (from, to) = (heap + (old - 2) * 512, heap + (new - 2) * 512);
        volume.copy_within(from..from + 512, to);
        volume[from..from + 512].fill(OLD);
        let before = if step == 0 { old - 1 } else { far + (step - 1) * 2 };
        volume[table + before * 4..table + before * 4 + 4]
            .copy_from_slice(&(new as u32).to_le_bytes());
        volume[table + new * 4..table + new * 4 + 4].copy_from_slice(&u32::MAX.to_le_bytes());
        volume[table + old * 4..table + old * 4 + 4].fill(0);
    }
    // A mark in a cluster that only the moved part of the bitmap knows.
    let marked = used_clusters(&volume);
    fs::write(&card, &volume).unwrap();
    let read = through_an_image(&bench);
    assert!(read < 20 << 20, "{read}");
    let out = bench.bytes("rack/b.img");
    for (at, len) in marked {
        assert!(out[at..at + len] == volume[at..at + len], "the cluster at {at}");
    }
    assert!(out[..heap] == volume[..heap]);
    assert!(out.iter().filter(|byte| **byte == OLD).count() > 50 << 20);
}

#[test]
fn clean_ntfs_uses_its_bitmap_and_dirty_ntfs_is_copied_in_full() {
    let source = tempfile::tempdir().unwrap();
    fs::write(source.path().join("brood.wav"), noise(3_000_000)).unwrap();
    let line = format!(
        "mkfs.ntfs -q -F -f -L combs FILE && ntfscp FILE {}/brood.wav brood.wav",
        source.path().display()
    );
    let bench = bench(200, &line);
    let read = through_an_image(&bench);
    assert!(read < 60 << 20, "{read}");
    tool!("ntfsfix", "-n", bench.path("rack/b.img"));
    let line = format!(
        "ntfscat {} brood.wav | cmp - {}",
        bench.path("rack/b.img").display(),
        source.path().join("brood.wav").display()
    );
    tool!("sh", "-c", line);
    let shown = bench.good("show rack:a --json").json();
    assert_eq!(shown["content"]["partitions"][0]["state"], "clean");
    // The log of a volume that was never closed.
    let card = bench.path("rack/a.img");
    let bytes = fs::read(&card).unwrap();
    if let Some(at) = bytes.windows(4).position(|window| window == b"RSTR") {
        crate::harness::put(&card, at as u64 + 0x30 + 12, &[0, 0, 0, 0]);
        bench.good("save rack:a y.img.zst").says("it was not unmounted cleanly");
    }
}

#[test]
#[ignore = "long: run by ./test --full"]
fn fragmented_card_is_read_with_little_overhead() {
    // Every second of many files is deleted: extents and holes of all lengths.
    let source = tempfile::tempdir().unwrap();
    for number in 0..900 {
        fs::write(source.path().join(number.to_string()), noise(3000 + number * 700)).unwrap();
    }
    let gone: String = (0..900).step_by(2).map(|number| format!("rm {number}\\n")).collect();
    let line = format!(
        "mkfs.ext4 -q -F -d {} FILE && printf '{gone}' | debugfs -w FILE >/dev/null 2>&1",
        source.path().display()
    );
    let bench = bench(1200, &line);
    let saved = bench.good("save rack:a x.img.zst --json --no-check").json();
    let of = |key: &str| saved[key].as_u64().unwrap() as f64;
    // On a card of 90 MB/s that needs 0.4 ms per request in addition.
    let took = of("card_bytes_read") / 90e6 + of("card_requests") * 0.0004;
    let least = of("used_bytes") / 90e6;
    assert!(took <= least * 1.2, "{took:.2} s for {least:.2} s of used bytes: {saved}");
    assert!(of("card_bytes_read") <= of("used_bytes") * 1.05, "{saved}");
}
