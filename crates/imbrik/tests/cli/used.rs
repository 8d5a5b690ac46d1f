//! Only what is in use is read and written, and nothing that is in use is lost.
//!
//! Every volume goes through an image onto a card full of old bytes: what was skipped and mattered
//! would show. The system's checkers judge, and the files are compared.

use crate::harness::{Bench, noise, tool};
use std::{fs, path::Path};

const OLD: u8 = 0xee;

/// A rack with the bare volume that `line` makes in slot `a`, and a card full of old bytes of the
/// same size in slot `b`.
fn bench(mib: u64, line: &str) -> Bench {
    let bench = Bench::empty();
    fs::create_dir(bench.path("rack")).unwrap();
    let size = mib << 20;
    crate::harness::sized(&bench.path("rack/a.img"), size);
    // Old bytes where the volume is not yet, as on a card that was used before.
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

/// Saves, restores, and answers how many bytes of the card were read.
fn through_an_image(bench: &Bench) -> u64 {
    let saved = bench.good("save rack:a x.img.zst --json").json();
    bench.good("check x.img.zst --against rack:a");
    bench.good("restore x.img.zst rack:b --yes");
    bench.good("check x.img.zst --against rack:b");
    saved["card_bytes_read"].as_u64().unwrap()
}

#[test]
fn ext_volumes_of_all_ages_come_out_clean_and_equal() {
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
fn fat_volumes_come_out_clean_and_equal() {
    for (mib, about) in [(4, "-F 12"), (64, "-F 16"), (100, "-F 32"), (100, "-F 32 -f 1 -s 2")] {
        let source = tempfile::tempdir().unwrap();
        fs::write(source.path().join("KERNEL"), noise(1_500_000)).unwrap();
        fs::write(source.path().join("gone"), noise(300_000)).unwrap();
        fs::write(source.path().join("a long name.txt"), "board").unwrap();
        // A deleted file in front leaves a fragmented one behind.
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
fn a_volume_that_cannot_be_trusted_is_read_whole_and_that_is_said() {
    let damages: [(&str, u64, &str); 4] = [
        ("mkfs.ext4 -q -F FILE", 1024 + 0x78, "superblock's checksum is wrong"),
        ("mkfs.ext4 -q -F -b 4096 FILE", 4096 + 0x18, "descriptor checksum is"),
        ("mkfs.vfat -F 16 FILE >/dev/null", 4 * 512, "allocation table is damaged"),
        ("mkfs.exfat FILE >/dev/null", 40, "boot checksum is"),
    ];
    for (line, at, why) in damages {
        let bench = bench(64, line);
        let at = if line.contains("vfat") {
            // The first byte of the first table, which stands behind the reserved sectors.
            u64::from(bench.bytes("rack/a.img")[14]) * 512
        } else {
            at
        };
        crate::harness::flip(&bench.path("rack/a.img"), at);
        let run = bench.good("save rack:a x.img.zst").says("is read whole").says(why);
        assert!(run.stdout.contains("67.1 MB (64 MiB) of the card are in use"), "{}", run.stdout);
        tool!("zstd", "-dq", bench.path("x.img.zst"), "-o", bench.path("back"));
        assert!(bench.bytes("back") == bench.bytes("rack/a.img"), "{line}");
    }
}

#[test]
fn an_exfat_that_was_not_unmounted_is_read_whole() {
    let bench = bench(64, "mkfs.exfat FILE >/dev/null");
    // VolumeFlags: not part of the boot checksum, since it changes with every mount.
    crate::harness::put(&bench.path("rack/a.img"), 106, &[2]);
    bench.good("save rack:a x.img.zst").says("it was not unmounted cleanly");
    tool!("zstd", "-dq", bench.path("x.img.zst"), "-o", bench.path("back"));
    assert!(bench.bytes("back") == bench.bytes("rack/a.img"));
}

#[test]
fn a_wiped_restore_leaves_no_old_byte_and_an_exact_image_is_exact() {
    let bench = bench(64, "mkfs.ext4 -q -F FILE");
    bench.good("save rack:a x.img.zst");
    bench.good("restore x.img.zst rack:b --yes --wipe");
    let card = bench.bytes("rack/b.img");
    assert!(!card.windows(4096).step_by(4096).any(|block| block.iter().all(|byte| *byte == OLD)));
    tool!("e2fsck", "-fn", bench.path("rack/b.img"));
    bench.good("save rack:a exact.img.zst --exact");
    bench.good("restore exact.img.zst rack:b --yes");
    assert!(bench.bytes("rack/b.img") == bench.bytes("rack/a.img"));
}
