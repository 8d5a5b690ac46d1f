//! `imbrik fit`, `save --fit`, and volumes that fill their cards.

use crate::harness::{Bench, flip, is_root, noise, put, sized, tool};
use std::{fs, path::Path};

const SECTOR: u64 = 512;

/// A volume: its first sector, its sectors, its kind.
type Volume = (u64, u64, &'static str);

/// A file of a card with a table (as sfdisk writes it) and volumes: (first sector, sectors, kind).
fn layout(bench: &Bench, name: &str, sectors: u64, table: &str, volumes: &[Volume]) {
    let card = bench.path(name);
    sized(&card, sectors * SECTOR);
    if !table.is_empty() {
        fs::write(bench.path("table"), table).unwrap();
        let line = format!("sfdisk -q {} < {}", card.display(), bench.path("table").display());
        tool!("sh", "-c", line);
    }
    let files = bench.path("files");
    fs::create_dir_all(files.join("etc")).unwrap();
    fs::write(files.join("etc/hostname"), "hive-07\n").unwrap();
    for n in 0..40usize {
        fs::create_dir_all(files.join(format!("day {}", n % 7))).unwrap();
        fs::write(files.join(format!("day {}/{n}.wav", n % 7)), noise(n * 2500)).unwrap();
    }
    for (first, count, kind) in volumes {
        let volume = bench.path("volume");
        sized(&volume, count * SECTOR);
        match *kind {
            "ext4" => drop(tool!("mkfs.ext4", "-q", "-L", "hive-07", "-d", files, volume)),
            "fat" => {
                let (hidden, name) = (first.to_string(), "HIVE-BOOT");
                tool!("mkfs.vfat", "-h", hidden, "-n", name, volume);
                tool!("mcopy", "-i", volume, files.join("etc/hostname"), "::name.txt");
            }
            "exfat" => drop(tool!("mkfs.exfat", volume)),
            _ => fs::write(&volume, noise((count * SECTOR) as usize)).unwrap(),
        }
        put(&card, first * SECTOR, &fs::read(&volume).unwrap());
    }
}

/// The volume in a partition of a raw card, as a separate file, and its first sector.
fn volume(bench: &Bench, card: &str, number: usize) -> (std::path::PathBuf, u64) {
    let shown = bench.good(&format!("show {card} --json")).json();
    let part = &shown["content"]["partitions"][number];
    let (start, len) = (part["start"].as_u64().unwrap(), part["size"].as_u64().unwrap());
    let bytes = bench.bytes(card);
    let out = bench.path(format!("volume-{number}"));
    fs::write(&out, &bytes[start as usize..(start + len) as usize]).unwrap();
    (out, start / SECTOR)
}

/// The ext volume is clean and holds the files it was made with.
fn holds_the_files(bench: &Bench, volume: &Path) {
    tool!("e2fsck", "-fn", volume);
    let out = bench.path("out");
    let _ = fs::remove_dir_all(&out);
    fs::create_dir(&out).unwrap();
    tool!("debugfs", "-R", format!("rdump / {}", out.display()), volume);
    let _ = fs::remove_dir_all(out.join("lost+found"));
    tool!("diff", "-r", bench.path("files"), out);
}

/// The bytes of the FAT boot sector's count of hidden sectors.
fn hidden(volume: &Path) -> u64 {
    let bytes = fs::read(volume).unwrap();
    u32::from_le_bytes(bytes[28..32].try_into().unwrap()).into()
}

const PLAIN: &str = "label: dos\nstart=2048,size=32768,type=6\nstart=34816,type=83\n";
const PLAIN_SECTORS: u64 = 34816 + 160_000;

fn plain(bench: &Bench, name: &str) {
    let volumes = [(2048, 32768, "fat"), (34816, 160_000, "ext4")];
    layout(bench, name, PLAIN_SECTORS, PLAIN, &volumes);
}

#[test]
fn fit_minimises_an_image_and_restore_fills_the_card() {
    let size = 150u64 << 20;
    let bench = Bench::with_card(&format!("[[slot]]\nname = \"b\"\nsize = {size}\n"));
    plain(&bench, "rack/a.img");
    bench.write_rack(&format!(
        "[[slot]]\nname = \"a\"\nsize = {}\n[[slot]]\nname = \"b\"\nsize = {size}\n",
        PLAIN_SECTORS * SECTOR
    ));
    bench.good("save rack:a hive.img.zst --note today");
    let before = bench.bytes("hive.img.zst");
    bench
        .good("fit hive.img.zst --smallest")
        .shows("shrinks from 81.9 MB")
        .shows("Fits      cards of")
        .shows("so any sold as 1 GB")
        .shows("imbrik restore");
    assert!(bench.bytes("hive.img.zst") == before, "the source stays as it is");
    let fitted = "hive-fitted.img.zst";
    tool!("zstd", "-tq", bench.path(fitted));
    let folder = bench.path("");
    tool!("sh", "-c", format!("cd {} && sha256sum -c {fitted}.sha256", folder.display()));
    bench.good(&format!("check {fitted}"));
    bench.good(&format!("show {fitted}")).shows("today").shows("fitted from a card of 99.7 MB");
    // Repeating it has no effect: it has its smallest size.
    let again = bench.good(&format!("fit {fitted} again.img.zst --smallest --json")).stdout;
    let sizes: Vec<u64> = again
        .lines()
        .map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap())
        .filter_map(|line| line["card_size"].as_u64())
        .collect();
    bench.good(&format!("repack {fitted} small.img"));
    assert_eq!(sizes, [bench.bytes("small.img").len() as u64]);
    let (root, _) = volume(&bench, "small.img", 1);
    holds_the_files(&bench, &root);
    tool!("sfdisk", "--verify", bench.path("small.img"));
    // On a bigger card it takes all the room, full of old bytes as that is.
    fs::write(bench.path("rack/b.img"), vec![0xee; size as usize]).unwrap();
    bench.good(&format!("restore {fitted} rack:b --yes")).shows("grows from");
    bench.good(&format!("check {fitted} --against rack:b"));
    tool!("sfdisk", "--verify", bench.path("rack/b.img"));
    fs::copy(bench.path("rack/b.img"), bench.path("b.img")).unwrap();
    let (root, start) = volume(&bench, "b.img", 1);
    holds_the_files(&bench, &root);
    assert!(start * SECTOR + root.metadata().unwrap().len() > size - (2 << 20));
    bench.good(&format!("restore {fitted} rack:b --yes --keep-size"));
    fs::copy(bench.path("rack/b.img"), bench.path("b.img")).unwrap();
    assert_eq!(volume(&bench, "b.img", 1).0.metadata().unwrap().len(), {
        volume(&bench, "small.img", 1).0.metadata().unwrap().len()
    });
}

#[test]
#[ignore = "long: run by ./test --full"]
fn partitions_after_the_resized_one_are_moved() {
    let mbr = "label: dos\nstart=2048,size=120000,type=83\nstart=124928,size=40960,type=6\nstart=167936,size=20480,type=7\nstart=190464,size=2048,type=da\n";
    let logical = "label: dos\nstart=2048,size=120000,type=83\nstart=126976,size=69632,type=5\nstart=129024,size=32768,type=6\nstart=165888,size=30720,type=83\n";
    let gpt = "label: gpt\nstart=2048,size=120000,type=L\nstart=124928,size=40960,type=U\nstart=167936,size=20480,type=L\n";
    let cases: [(&str, u64, &[Volume]); 3] = [
        (
            mbr,
            200_000,
            &[
                (2048, 120_000, "ext4"),
                (124_928, 40_960, "fat"),
                (167_936, 20_480, "exfat"),
                (190_464, 2048, "raw"),
            ],
        ),
        (
            logical,
            200_000,
            &[(2048, 120_000, "ext4"), (129_024, 32_768, "fat"), (165_888, 30_720, "raw")],
        ),
        (
            gpt,
            200_000,
            &[(2048, 120_000, "ext4"), (124_928, 40_960, "fat"), (167_936, 20_480, "raw")],
        ),
    ];
    for (table, sectors, volumes) in cases {
        let bench = Bench::empty();
        layout(&bench, "card.img", sectors, table, volumes);
        let before = bench.bytes("card.img");
        let part = 1 + volumes.iter().position(|(.., kind)| *kind == "ext4").unwrap();
        for (options, smaller) in
            [("--smallest", true), ("--to 150MB", false), ("--room 3MB", true), ("--to 90MB", true)]
        {
            // Every table both ways; the rest once.
            let is_rest = options.ends_with("3MB") || options.ends_with("90MB");
            if is_rest && table != mbr {
                continue;
            }
            bench.good(&format!("fit card.img out.img --replace --part {part} {options}"));
            let after = bench.bytes("out.img");
            assert_eq!(after.len() < before.len(), smaller, "{table} {options}");
            if let Some(size) = options.strip_prefix("--to ") {
                let size: u64 = size.trim_end_matches("MB").parse().unwrap();
                assert_eq!(after.len() as u64, size * 1_000_000 / SECTOR * SECTOR);
            }
            assert!(
                after[SECTOR as usize..1 << 20] == before[SECTOR as usize..1 << 20] || table == gpt
            );
            let card = bench.path("out.img");
            tool!("sfdisk", "--verify", card);
            if table == gpt {
                assert!(tool!("sgdisk", "-v", card).contains("No problems found"), "{options}");
            }
            for (index, (first, count, kind)) in volumes.iter().enumerate() {
                let (file, start) = volume(&bench, "out.img", index);
                match *kind {
                    "ext4" => holds_the_files(&bench, &file),
                    "fat" => {
                        tool!("fsck.fat", "-n", file);
                        assert_eq!(hidden(&file), start, "{table} {options}");
                        assert!(tool!("mtype", "-i", file, "::name.txt").contains("hive-07"));
                    }
                    "exfat" => drop(tool!("fsck.exfat", "-n", file)),
                    _ => {
                        let was = (first * SECTOR) as usize;
                        let was = &before[was..was + (count * SECTOR) as usize];
                        assert!(fs::read(&file).unwrap() == was, "{table} {options}");
                    }
                }
                let is_aligned = start % 2048 == first % 2048;
                assert!(is_aligned, "{table} {options}: {start}");
            }
            bench.good("check out.img");
        }
    }
}

#[test]
#[ignore = "long: run by ./test --full"]
fn fit_converts_between_containers_in_one_pass() {
    let bench = Bench::empty();
    plain(&bench, "card.img");
    let folder = bench.path("");
    let shell = |line: &str| tool!("sh", "-c", format!("cd {} && {line}", folder.display()));
    shell("gzip -k card.img; xz -k -0 card.img; zip -q card.zip card.img");
    bench.good("fit card.img want.img --smallest");
    let want = bench.bytes("want.img");
    for (from, to) in [
        ("card.img.gz", "a.img.zst"),
        ("card.img.xz", "b.img.gz"),
        ("card.zip", "c.img.xz"),
        ("card.img", "d.img"),
    ] {
        bench.good(&format!("fit {from} {to} --smallest"));
        let unpack = match to {
            "a.img.zst" => "zstd -dc",
            "b.img.gz" => "gzip -dc",
            "c.img.xz" => "xz -dc",
            _ => "cat",
        };
        shell(&format!("{unpack} {to} > unpacked"));
        assert!(bench.bytes("unpacked") == want, "{from} to {to}");
    }
    let imbrik = env!("CARGO_BIN_EXE_imbrik");
    shell(&format!(
        "gzip -dc card.img.gz | {imbrik} fit - - --smallest --pack gz | gzip -dc > unpacked"
    ));
    assert!(bench.bytes("unpacked") == want, "through pipes");
    bench.imbrik("fit -").expect(2).says("needs a name");
    // Without a name, it is written next to the old one, which is never replaced.
    let before = bench.bytes("card.img.xz");
    bench.good("fit card.img.xz");
    assert!(bench.path("card-fitted.img.zst").exists());
    bench.good("fit card.zip --replace");
    bench.good("fit card.img.xz --smallest --replace");
    assert!(bench.bytes("card.img.xz") == before);
    bench.good("fit card.img.gz card.img.gz --smallest --replace");
    shell("gzip -dc card.img.gz > unpacked");
    assert!(bench.bytes("unpacked") == want);
}

#[test]
fn a_card_is_saved_fitted_in_one_pass() {
    let bench = Bench::with_card("");
    plain(&bench, "rack/a.img");
    bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {}\n", PLAIN_SECTORS * SECTOR));
    bench.good("save rack:a whole.img.zst");
    bench.good("fit whole.img.zst want.img");
    let done = bench.good("save rack:a hive.img.zst --fit --json").json();
    let (read, used) = (&done["card_bytes_read"], &done["used_bytes"]);
    let (read, used) = (read.as_u64().unwrap(), used.as_u64().unwrap());
    // The small demo volume's tables weigh more than they would on a real one.
    assert!(read <= used * 105 / 100 + (1 << 20), "{read} read for {used}");
    bench.good("repack hive.img.zst hive.img");
    assert!(bench.bytes("hive.img") == bench.bytes("want.img"));
    assert_eq!(done["card_size"], PLAIN_SECTORS * SECTOR);
    assert_eq!(done["fitted_card_size"], bench.bytes("hive.img").len() as u64);
    bench.good("save rack:a room.img.zst --fit --room 20MB").shows("Fits      cards of");
    let shown = bench.good("show room.img.zst --json").json();
    let root = &shown["content"]["partitions"][1];
    assert!(root["free"].as_u64().unwrap() >= 19_000_000, "{root}");
    bench.imbrik("save rack:a x.img.zst --fit --exact").expect(2);
    bench.imbrik("save rack:a x.img.zst --room 1MB").expect(2);
    bench.good("save rack:a boot.img --fit --only 1");
    tool!("fsck.fat", "-n", bench.path("boot.img"));
    bench.good("save rack:a only.img --fit --only 2");
    tool!("e2fsck", "-fn", bench.path("only.img"));
}

/// The free space of the second partition of an image, as `dumpe2fs` counts it.
fn free_of(bench: &Bench, image: &str) -> u64 {
    bench.good(&format!("repack {image} free.img --replace"));
    let (root, _) = volume(bench, "free.img", 1);
    tool!("e2fsck", "-fn", &root);
    let told = tool!("dumpe2fs", "-h", root);
    let number = |head: &str| -> u64 {
        let line = told.lines().find(|line| line.starts_with(head)).unwrap();
        line.rsplit(' ').next().unwrap().parse().unwrap()
    };
    number("Free blocks:") * number("Block size:")
}

/// Fails when a fitted image has less free space than it says, or when the default makes a volume larger.
#[test]
fn fit_leaves_free_space() {
    let bench = Bench::empty();
    plain(&bench, "card.img");
    let before = bench.bytes("card.img").len();
    let had = free_of(&bench, "card.img");
    // By default, some; in a small volume, half of what it has.
    bench.good("fit card.img usual.img").shows("shrinks from");
    let usual = free_of(&bench, "usual.img");
    assert!(usual > had / 3 && usual < had * 2 / 3, "{usual} of {had}");
    bench.good("fit card.img none.img --smallest");
    assert!(free_of(&bench, "none.img") < 300_000);
    // As much as requested: less than it has, and more.
    for room in [had / 4, had + 30_000_000, had + 200_000_000] {
        bench.good(&format!("fit card.img room.img --room {room}B --replace"));
        let free = free_of(&bench, "room.img");
        assert!(free >= room && free < room + room / 10 + 2_000_000, "{free} for {room}");
        let is_larger = bench.bytes("room.img").len() > before;
        assert_eq!(is_larger, room > had);
        tool!("sfdisk", "--verify", bench.path("room.img"));
    }
    bench.good("fit card.img to.img --to 80MB --room 5MB");
    assert!(free_of(&bench, "to.img") >= 5_000_000);
    bench.imbrik("fit card.img x.img --to 80MB --room 70MB").expect(5).says("less than 70 MB");
    bench.imbrik("fit card.img x.img --to 80MB --smallest").expect(2);
    bench.imbrik("fit card.img x.img --room 999TB").expect(1).says("are more than the supported");
    // A volume that is full keeps its size.
    bench.good("fit none.img full.img");
    assert_eq!(bench.bytes("full.img").len(), bench.bytes("none.img").len());
    // FAT volumes can be enlarged, up to a limit of their cluster size.
    bench.good("fit card.img fat.img --part 1 --room 90MB");
    let (boot, _) = volume(&bench, "fat.img", 0);
    tool!("fsck.fat", "-n", boot);
    bench.imbrik("fit card.img x.img --part 1 --room 900GB").expect(5).says("has at most");
}

#[test]
fn fit_refuses_one_byte_below_the_minimum() {
    let bench = Bench::empty();
    plain(&bench, "card.img");
    bench.good("fit card.img least.img --smallest");
    let least = bench.bytes("least.img").len();
    let said = bench.imbrik("fit card.img x.img --to 18MB --take-from 2").expect(5);
    assert!(said.err_has(&format!("({least} bytes)")), "{}", said.stderr);
    bench.imbrik("fit card.img x.img --to 1MB").expect(5).says("too small");
    bench.imbrik("fit card.img x.img --to 0B").expect(5);
    // The end of a partition that fills a card is a multiple of 1 MiB.
    let rounded = least.next_multiple_of(1 << 20);
    bench.good(&format!("fit card.img x.img --to {rounded}B"));
    let less = least - 512;
    let said = bench.imbrik(&format!("fit card.img y.img --to {less}B --take-from hive-07"));
    said.expect(5)
        .says("partition 2 (ext4, hive-07) needs at least")
        .says("were not allowed to shrink");
    // The first volume shrinks by what the second cannot.
    bench
        .good(&format!("fit card.img z.img --to {less}B --verbose"))
        .shows("the others can't shrink further");
    bench.imbrik("fit card.img y.img --to 12XB").expect(2).says("is not a unit");
    bench.imbrik("fit card.img y.img --part 9").expect(2);
    layout(&bench, "fat.img", 40_000, "", &[(0, 40_000, "fat")]);
    bench.good("fit fat.img fitted.img");
    tool!("fsck.fat", "-n", bench.path("fitted.img"));
    layout(&bench, "other.img", 40_000, "label: dos\nstart=64\n", &[(64, 1000, "noise")]);
    bench.imbrik("fit other.img").expect(4).says("ext2, ext3, ext4, FAT");
    sized(&bench.path("empty.img"), 0);
    bench.imbrik("fit empty.img").expect(3).says("is empty");
    bench.imbrik("fit nothing.img").expect(2);
    assert!(!bench.path("y.img").exists());
}

#[test]
fn volume_without_a_table_fits_and_fills() {
    let bench = Bench::empty();
    layout(&bench, "bare.img", 120_000, "", &[(0, 120_000, "ext4")]);
    bench.good("fit bare.img small.img --smallest");
    holds_the_files(&bench, &bench.path("small.img"));
    bench.good("fit small.img large.img --to 1GB");
    holds_the_files(&bench, &bench.path("large.img"));
    assert_eq!(bench.path("large.img").metadata().unwrap().len(), 1_000_000_000);
}

#[test]
fn inconsistent_volume_is_not_resized() {
    let bench = Bench::empty();
    plain(&bench, "card.img");
    bench.good("repack card.img card.img.zst");
    // A bit in the block bitmap of the volume's first group.
    let (root, _) = volume(&bench, "card.img", 1);
    let dump = tool!("dumpe2fs", root);
    let at = dump.split("Block bitmap at ").nth(1).unwrap();
    let block: u64 = at.split([' ', ',']).next().unwrap().parse().unwrap();
    let size = dump.split("Block size:").nth(1).unwrap().split_whitespace().next().unwrap();
    flip(&bench.path("card.img"), 34816 * SECTOR + block * size.parse::<u64>().unwrap() + 700);
    let said = bench.imbrik("fit card.img x.img").expect(1);
    assert!(said.err_has("bitmap"), "{}", said.stderr);
    assert!(said.err_has("restore the image unchanged"), "{}", said.stderr);
    assert!(!bench.path("x.img").exists());
    // A damaged container has a different message.
    flip(&bench.path("card.img.zst"), bench.bytes("card.img.zst").len() as u64 / 2);
    let said = bench.imbrik("fit card.img.zst x.img --replace");
    assert!(matches!(said.code, 1 | 3), "{said:?}");
    assert!(!bench.path("x.img").exists());
}

#[test]
fn interrupt_or_full_disk_keeps_the_old_image_intact() {
    let bench = Bench::empty();
    let table = "label: dos\nstart=2048,type=83\n";
    layout(&bench, "card.img", 700_000, table, &[(2048, 697_952, "ext4")]);
    let (mut bytes, at) = (bench.bytes("card.img"), 2048 * SECTOR as usize);
    let volume = bench.path("volume");
    fs::write(bench.path("large"), noise(250 << 20)).unwrap();
    tool!("debugfs", "-w", "-R", format!("write {} large", bench.path("large").display()), volume);
    let held = bytes.len() - at;
    bytes[at..].copy_from_slice(&fs::read(&volume).unwrap()[..held]);
    fs::write(bench.path("card.img"), &bytes).unwrap();
    let part = bench.path("card.img.part");
    let begun = || part.metadata().is_ok_and(|meta| meta.len() > 0);
    bench
        .interrupted("fit card.img card.img --replace", begun)
        .expect(130)
        .says("card.img is unchanged");
    assert!(bench.bytes("card.img") == bytes && !part.exists());
    if !is_root("interrupt_or_full_disk_keeps_the_old_image_intact") {
        return;
    }
    fs::create_dir(bench.path("small")).unwrap();
    tool!("mount", "-t", "tmpfs", "-o", "size=4m", "tmpfs", bench.path("small"));
    let said = bench.imbrik("fit card.img small/out.img.zst");
    let left = bench.list("small");
    tool!("umount", bench.path("small"));
    said.expect(5);
    assert!(left.is_empty(), "{left:?}");
    assert!(bench.bytes("card.img") == bytes);
}

/// Fails if an estimate of the smallest size decides which sizes are tried: the volume would then get its smallest
/// size, without a free block, and leave the rest of the card unused.
#[test]
#[ignore = "long: run by ./test --full"]
fn volume_gets_any_requested_size_that_holds_its_data() {
    let bench = Bench::empty();
    for (name, gib) in [("small", 1u64), ("large", 8)] {
        let card = bench.path(format!("{name}.img"));
        sized(&card, gib << 30);
        tool!("mkfs.ext4", "-q", "-L", "hive-07", &card);
        let least = bench.good(&format!("show {name}.img --json")).json();
        let least = least["content"]["partitions"][0]["smallest"].as_u64().unwrap();
        let mut sizes = 0;
        // From the smallest on, in steps that grow.
        for more in [0u64, 3, 27, 243] {
            let size = (least + (more << 20)).next_multiple_of(4096);
            bench.good(&format!("fit {name}.img x.img --to {size}B --replace"));
            let x = bench.path("x.img");
            let header = tool!("dumpe2fs", "-h", &x);
            let field = |name: &str| -> u64 {
                let line = header.lines().find(|line| line.starts_with(name)).unwrap();
                line.rsplit(' ').next().unwrap().parse().unwrap()
            };
            let len = field("Block count:") * field("Block size:");
            // A last group that would be too short for its metadata is left out.
            assert!(len <= size && size - len < 9 << 20, "{name}: {len} of {size}");
            let free = field("Free blocks:") * field("Block size:");
            // Its journal grows with it, and more groups have more tables.
            assert!(free + (24 << 20) >= more << 20, "{name}: {free} free with {more} MiB more");
            tool!("e2fsck", "-fn", &x);
            sizes += 1;
        }
        assert_eq!(sizes, 4);
    }
}

/// Fails if a volume with a fault is refused without a remedy, or the report about the result omits the fault.
#[test]
fn inconsistent_volume_is_refused_or_kept_with_a_warning() {
    let bench = Bench::empty();
    let volume = bench.path("v.img");
    sized(&volume, 64 << 20);
    fs::create_dir(bench.path("files")).unwrap();
    fs::write(bench.path("files/brood"), noise(50_000)).unwrap();
    tool!("mkfs.ext4", "-q", "-d", bench.path("files"), &volume);
    tool!("debugfs", "-w", "-R", "sif brood links_count 7", &volume);
    let words = "it counts 7 links, 1 name leads to it";
    let run = bench.imbrik("fit v.img small.img.zst").expect(1).says(words).says("--as-found");
    assert!(!run.out_has("Proved"), "{run:?}");
    let run = bench.good("fit v.img small.img.zst --as-found");
    let run = run.shows("has faults, which are kept").shows(words);
    let run = run.shows("no fault in directories and links but those above");
    assert!(!run.out_has("each folder, count of links"), "{run:?}");
    // Without faults, none are kept.
    tool!("debugfs", "-w", "-R", "sif brood links_count 1", &volume);
    let run = bench.good("fit v.img sound.img.zst --as-found");
    run.shows("directories and link counts of resized volumes");
}
