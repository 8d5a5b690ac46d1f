//! A volume that contradicts itself is refused, and the first fault is named.

use super::volumes::{made, noise, resized, run, tool};
use imbrik_core::{Class, fs::NewSize, units::ByteLen};
use std::{fs, path::Path};

/// A volume with three files and a folder, `v`, made with these options.
fn volume(options: &str) -> tempfile::TempDir {
    let made = made(options, 12 << 10);
    let dir = made.path();
    let from = dir.join("files");
    fs::create_dir_all(from.join("hive")).unwrap();
    for (n, name) in ["one", "two", "hive/three"].into_iter().enumerate() {
        fs::write(from.join(name), noise(40_000, n as u64)).unwrap();
    }
    let mut args = vec!["-q", "-F", "-d", "files"];
    args.extend(options.split_whitespace());
    args.push("v");
    tool("mke2fs", &args, dir);
    made
}

/// The number of the inode called `name`, and of its first block.
fn places(dir: &Path, name: &str) -> (u64, u64) {
    let said = tool("debugfs", &["-R", &format!("stat {name}"), "v"], dir);
    let inode = said.split("Inode: ").nth(1).unwrap().split_whitespace().next().unwrap();
    let blocks = tool("debugfs", &["-R", &format!("blocks {name}"), "v"], dir);
    let block = blocks.split_whitespace().next().unwrap();
    (inode.parse().unwrap(), block.parse().unwrap())
}

#[test]
fn each_inconsistency_is_refused_by_name() {
    let plain = "-t ext2 -b 1024";
    let modern = "-t ext4 -b 1024";
    // The commands for debugfs ({i}, {b}: inode and first block of the first file; {b2} of the second).
    let cases: [(&str, &str, &str); 14] = [
        (plain, "sif one blocks 222", "its count of blocks is wrong"),
        (modern, "sif one blocks 222", "its count of blocks is wrong"),
        (plain, "sif one blocks 221", "not a multiple of the block size"),
        (plain, "sif one block[0] {b2}", "not its own"),
        (plain, "sif one block[0] 1", "not its own"),
        (plain, "sif one block[0] 99999999", "past the end of the volume"),
        (plain, "freeb {b}", "the bitmap has"),
        (modern, "freeb {b}", "the bitmap has"),
        (modern, "setb 9000", "the bitmap has"),
        (plain, "freei <{i}>", "its count of free inodes differ"),
        (modern, "sif one links_count 0", "nothing leads to it"),
        (modern, "sif one dtime 1700000000", "was deleted"),
        (plain, "ssv last_orphan 99999", "does not exist"),
        (plain, "sif <1> block[0] 700", "its count of blocks is wrong"),
    ];
    for (options, command, why) in cases {
        let made = volume(options);
        let dir = made.path();
        let ((inode, block), (_, other)) = (places(dir, "one"), places(dir, "two"));
        let command = command
            .replace("{i}", &inode.to_string())
            .replace("{b2}", &other.to_string())
            .replace("{b}", &block.to_string());
        run("debugfs", &["-w", "-R", &command, "v"], dir);
        for goal in [NewSize::Smallest { room: ByteLen::ZERO }, NewSize::Bytes(ByteLen::mib(50))] {
            let error = resized(dir, "v", "w", goal).map(|_| ()).unwrap_err();
            let words = error.to_string();
            assert!(words.contains(why), "{options}, {command}: {words}");
            let is_damage = matches!(error.class(), Class::Corrupt | Class::Unsupported);
            assert!(is_damage, "{options}, {command}: {words}");
        }
    }
}

#[test]
fn a_wrong_checksum_is_named_with_its_inode() {
    for (name, what) in [("one", "its checksum is wrong"), ("hive", "its checksum is wrong")] {
        let made = volume("-t ext4 -b 1024");
        let dir = made.path();
        let said = tool("debugfs", &["-R", &format!("imap {name}"), "v"], dir);
        // "Inode 12 is part of block group 0\n located at block 41, offset 0x0b00"
        let number =
            |mark: &str| said.split(mark).nth(1).unwrap().split([',', '\n']).next().unwrap();
        let block: u64 = number("at block ").trim().parse().unwrap();
        let offset = u64::from_str_radix(number("offset 0x").trim(), 16).unwrap();
        let mut bytes = fs::read(dir.join("v")).unwrap();
        // The change time, which only a checksum covers.
        bytes[(block * 1024 + offset) as usize + 0x10] ^= 1;
        fs::write(dir.join("v"), bytes).unwrap();
        let error = resized(dir, "v", "w", NewSize::Smallest { room: ByteLen::ZERO });
        let words = error.map(|_| ()).unwrap_err().to_string();
        assert!(words.starts_with("inode ") && words.contains(what), "{words}");
    }
}
