//! Random damage: refused, or right by the system's checker; never a panic, and never a volume that is
//! worse than its source.

use super::volumes::{made, noise, resized, run, tool};
use imbrik_core::{fs::NewSize, units::ByteLen};
use std::fs;

#[test]
#[ignore = "long: run by ./test --full"]
fn damaged_metadata_is_refused_or_kept_without_further_harm() {
    let (mut refused, mut done) = (0, 0);
    for (options, seed) in [
        ("-t ext4 -b 1024", 1u64),
        ("-t ext4 -b 1024 -O ^metadata_csum,^flex_bg", 2),
        ("-t ext3 -b 1024", 3),
        ("-t ext2 -b 1024", 4),
    ] {
        let made = made(&format!("{options} -N 256"), 10 << 10);
        let dir = made.path();
        let from = dir.join("files");
        for folder in 0..6 {
            fs::create_dir_all(from.join(format!("hive-{folder}"))).unwrap();
            for n in 0..8u64 {
                let path = from.join(format!("hive-{folder}/{n}"));
                fs::write(path, noise(12_000 * (n as usize + 1) / 2, n)).unwrap();
            }
        }
        let mut args: Vec<&str> = options.split_whitespace().collect();
        args.extend(["-q", "-F", "-N", "256", "-d", "files", "v"]);
        tool("mke2fs", &args, dir);
        let plain = fs::read(dir.join("v")).unwrap();
        let dump = tool("dumpe2fs", &["v"], dir);
        let tables: Vec<usize> = dump
            .lines()
            .filter_map(|line| {
                line.split("Inode table at ").nth(1)?.split('-').next()?.parse().ok()
            })
            .collect();
        let dice = noise(8 * 400, seed);
        let dice: Vec<u64> =
            dice.as_chunks::<8>().0.iter().map(|bytes| u64::from_le_bytes(*bytes)).collect();
        for pair in dice.chunks(2).take(50) {
            let mut bytes = plain.clone();
            // The superblock and the descriptors, the tables, or anywhere.
            let at = match pair[0] % 4 {
                0 => 1024 + (pair[0] >> 8) as usize % 4096,
                1 | 2 => {
                    let table = tables[(pair[0] >> 8) as usize % tables.len()];
                    table * 1024 + (pair[0] >> 16) as usize % 8192
                }
                _ => (pair[0] >> 8) as usize % bytes.len(),
            };
            bytes[at] ^= 1 << (pair[1] % 8);
            if pair[1] & 256 != 0 {
                bytes[at] = (pair[1] >> 32) as u8;
            }
            fs::write(dir.join("v"), &bytes).unwrap();
            let size = ByteLen::kib(5 << 10).get() + pair[1] % 40_000_000;
            let goals =
                [NewSize::Smallest { room: ByteLen::ZERO }, NewSize::Bytes(ByteLen::new(size))];
            for goal in goals {
                if fs::metadata(dir.join("v")).is_err() {
                    continue;
                }
                let store = imbrik_core::store::FileStore::open(&dir.join("v")).unwrap();
                if imbrik_core::fs::recognise(&store).unwrap().is_none() {
                    refused += 1;
                    continue;
                }
                let is_ext = resized(dir, "v", "w", goal);
                if is_ext.is_err() {
                    refused += 1;
                    continue;
                }
                done += 1;
                let is_clean =
                    |volume: &str| run("e2fsck", &["-fn", volume], dir).status.code() == Some(0);
                assert!(is_clean("w") || !is_clean("v"), "{options}: byte {at}, {pair:?}");
            }
        }
    }
    assert!(refused > 30 && done > 30, "{refused} refused, {done} done");
}
