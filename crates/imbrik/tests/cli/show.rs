//! The content of a card or an image as text, as JSON, and drawn.

use crate::harness::{Bench, CARD, noise, put, sized, tool};
use std::fs;

#[test]
fn a_card_is_shown_with_its_gaps_volumes_and_limits() {
    let bench = Bench::with_card("");
    let run = bench.good("show rack:a");
    for words in [
        "hive-07",
        "MBR 48560007",
        "HIVE-BOOT",
        "PARTUUID 48560007-02",
        "clean",
        "Limits         partition 1: no smaller than 8.45 MB (FAT16 needs 4,101 clusters)",
        "Smallest card",
        "Fits           any card sold as 1 GB or more",
        "┗ 2  hive-07, ext4",
        "┗ 1  HIVE-BOOT, FAT16",
    ] {
        assert!(run.out_has(words), "{words}\n{}", run.stdout);
    }
    let shown = bench.good("show rack:a --json").json();
    let parts = shown["content"]["partitions"].as_array().unwrap();
    assert_eq!(parts.len(), 2);
    for part in parts {
        let (used, free) = (part["used"].as_u64().unwrap(), part["free"].as_u64().unwrap());
        assert_eq!(used + free, part["size"].as_u64().unwrap());
        assert!(part["smallest"].as_u64().unwrap() <= part["size"].as_u64().unwrap());
    }
    // The free space according to the system's own tool, without metadata.
    let free = parts[1]["free"].as_u64().unwrap();
    bench.good("save rack:a x.img --exact");
    let ext = bench.bytes("x.img")[34816 * 512..][..96256 * 512].to_vec();
    fs::write(bench.path("ext"), ext).unwrap();
    let header = tool!("dumpe2fs", "-h", bench.path("ext"));
    let of = |key: &str| -> u64 {
        let line = header.lines().find(|line| line.starts_with(key)).unwrap();
        line.split_whitespace().last().unwrap().parse().unwrap()
    };
    assert_eq!(free, of("Free blocks:") * of("Block size:"));
    assert_eq!(shown["gaps"][0]["start"], 0);
    assert!(shown["gaps"][0]["used"].as_u64().unwrap() >= 100_000);
}

#[test]
fn little_of_a_large_card_is_read_to_show_it() {
    let bench = Bench::empty();
    fs::create_dir(bench.path("rack")).unwrap();
    let size = 64u64 << 30;
    sized(&bench.path("rack/a.img"), size);
    tool!("mkfs.ext4", "-q", "-F", "-L", "combs", bench.path("rack/a.img"));
    bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {size}\n"));
    let shown = bench.good("show rack:a --json").json();
    let read = shown["card_bytes_read"].as_u64().unwrap();
    assert!(read < size / 1000, "{read}");
    assert!(shown["seconds"].as_f64().unwrap() < 1.0, "{shown}");
    bench.good("save rack:a x.img.zst --no-check");
    assert!(bench.good("show x.img.zst --json").json()["seconds"].as_f64().unwrap() < 1.0);
}

#[test]
fn map_is_drawn_as_svg_and_png() {
    let bench = Bench::with_card("");
    bench.good("show rack:a --map a.svg").shows("a.svg");
    let svg = String::from_utf8(bench.bytes("a.svg")).unwrap();
    assert!(svg.contains("<svg") && svg.contains("hive-07, ext4") && svg.contains("HIVE-BOOT"));
    bench.good("show rack:a --map a.png");
    let png = bench.bytes("a.png");
    assert!(png.starts_with(b"\x89PNG"));
    assert_eq!(png[16..24], [0, 0, 5, 0, 0, 0, 3, 32], "1280 by 800");
    bench.imbrik("show rack:a --map a.png").expect(4).says("exists already");
    bench.good("show rack:a --map a.png --replace");
    bench.imbrik("show rack:a --map a.jpg").expect(2).says(".svg or .png");
    bench.imbrik("show rack:a --map none/a.png").expect(1);
}

#[test]
fn unusual_layouts_are_named_and_copied_in_full() {
    for (oddity, why) in [
        ("optical", "optical disc"),
        ("bare", "a volume at its first byte"),
        ("overlap", "overlap"),
        ("disc", "optical disc"),
    ] {
        let bench = Bench::with_card("");
        let card = bench.path("rack/a.img");
        match oddity {
            "optical" => put(&card, 32768, b"\x01CD001\x01"),
            "bare" => {
                let ext = bench.bytes("rack/a.img")[34816 * 512 + 1024..][..1024].to_vec();
                put(&card, 1024, &ext);
            }
            // The second partition starts inside the first.
            "overlap" => put(&card, 446 + 16 + 8, &4096u32.to_le_bytes()),
            // A hybrid whose first partition covers everything: an invalid table.
            _ => {
                put(&card, 446 + 8, &0u32.to_le_bytes());
                put(&card, 32768, b"\x01CD001\x01");
            }
        }
        bench.good("show rack:a").shows(why);
        let shown = bench.good("show rack:a --json").json();
        assert!(shown["copied_whole_because"].as_str().unwrap().contains(why), "{oddity}");
        bench.good("save rack:a x.img").says("the card is copied in full");
        assert!(bench.bytes("x.img") == bench.bytes("rack/a.img"), "{oddity}");
    }
}

/// A card with files that refer to its partitions.
fn starting(root: &str, fstab: &str) -> Bench {
    let bench = Bench::with_card("");
    let card = bench.path("rack/a.img");
    fs::write(bench.path("cmdline.txt"), format!("console=tty1 {root} rootwait\n")).unwrap();
    fs::create_dir_all(bench.path("extlinux")).unwrap();
    fs::write(
        bench.path("extlinux/extlinux.conf"),
        "LABEL hive\n  LINUX /kernel\n  INITRD /lost.img\n",
    )
    .unwrap();
    let fat = format!("{}@@{}", card.display(), 2048 * 512);
    tool!("mcopy", "-i", fat, bench.path("cmdline.txt"), "::");
    tool!("mcopy", "-s", "-i", fat, bench.path("extlinux"), "::");
    let files = bench.path("files");
    fs::create_dir_all(files.join("etc")).unwrap();
    fs::write(files.join("etc/hostname"), "hive-07\n").unwrap();
    fs::write(files.join("etc/fstab"), fstab).unwrap();
    let ext = bench.path("ext");
    sized(&ext, 96256 * 512);
    tool!("mkfs.ext4", "-q", "-L", "hive-07", "-d", files, ext);
    put(&card, 34816 * 512, &fs::read(&ext).unwrap());
    bench
}

#[test]
fn show_names_boot_references_that_are_missing() {
    let fstab = "PARTUUID=48560007-02 / ext4 defaults 0 1\nLABEL=HIVE-BOOT /boot vfat defaults 0 2\n\
                 proc /proc proc defaults 0 0\nUUID=gone /data ext4 nofail 0 0\n";
    let bench = starting("root=PARTUUID=48560007-02", fstab);
    let run = bench.good("show rack:a");
    // The initial disk that the loader is to load is not there.
    run.shows("1 of 5 not found").shows("/lost.img in extlinux/extlinux.conf");
    let bench = starting("root=PARTUUID=48560007-05", "/dev/mmcblk0p2 / ext4 defaults 0 1\n");
    bench.good("save rack:a x.img.zst");
    for words in ["show x.img.zst", "check x.img.zst", "restore x.img.zst rack:a --plan"] {
        let run = bench.good(words);
        run.shows("2 of 4 not found").shows("root=PARTUUID=48560007-05 in cmdline.txt");
    }
}

#[test]
fn show_rejects_what_is_neither_card_nor_image() {
    let bench = Bench::with_card("");
    bench.imbrik("show nothing").expect(2).says("no card or image is called nothing");
    bench.imbrik("show rack:z").expect(2).says("no such slot");
    bench.imbrik("show .").expect(2).says("a folder");
    fs::write(bench.path("noise.img"), noise(CARD as usize / 64)).unwrap();
    bench.good("show noise.img").shows("no known content");
    sized(&bench.path("blank.img"), 1 << 20);
    bench.good("show blank.img").shows("blank");
}
