//! Cards with bad sectors where they do most harm: in tables, boot sectors and the metadata of volumes.

use crate::harness::{Bench, CARD, noise, places_of, put, sized, tool};
use serde_json::json;
use std::{fs, path::Path};

const FAT: u64 = 2048 * 512;
const EXT: u64 = 34816 * 512;

/// The locations of metadata of the small card: a name, the offset, and the length.
fn places(card: &Path, folder: &Path) -> Vec<(&'static str, u64, u64)> {
    let bytes = fs::read(card).unwrap();
    let word =
        |at: u64| u64::from(u16::from_le_bytes([bytes[at as usize], bytes[at as usize + 1]]));
    let table = FAT + word(FAT + 14) * 512;
    let second = table + word(FAT + 22) * 512;
    let volume = folder.join("volume");
    fs::write(&volume, &bytes[EXT as usize..]).unwrap();
    let told = tool!("dumpe2fs", volume);
    let number = |line: &str, after: &str| -> u64 {
        let line = told.lines().find(|found| found.contains(line)).unwrap();
        let rest = &line[line.find(after).unwrap() + after.len()..];
        let digits: String = rest.trim_start().chars().take_while(char::is_ascii_digit).collect();
        digits.parse().unwrap()
    };
    let block = number("Block size:", "Block size:");
    let at = |number: u64| EXT + number * block;
    vec![
        ("the table", 0, 512),
        ("FAT's boot sector", FAT, 512),
        ("FAT's first table", table + 8192, 512),
        ("FAT's second table", second + 512, 512),
        ("ext's superblock", EXT + 1024, 512),
        ("ext's descriptors", at(number("Group descriptors at", "Group descriptors at")), 512),
        ("ext's block bitmap", at(number("Block bitmap at", "Block bitmap at")), 512),
        ("ext's inode bitmap", at(number("Inode bitmap at", "Inode bitmap at")), 512),
        ("ext's inodes", at(number("Inode table at", "Inode table at")), 1024),
    ]
}

fn saved(bench: &Bench, words: &str, code: i32) -> (Vec<u8>, serde_json::Value) {
    let line = format!("save rack:a hive.img.zst --replace --json {words}");
    let told = bench.imbrik(&line).expect(code).json();
    let back = bench.path("back");
    tool!("zstd", "-dqf", bench.path("hive.img.zst"), "-o", back);
    (fs::read(back).unwrap(), told)
}

/// Fails if a bad sector in metadata ends the save, or frees anything without proof.
#[test]
#[ignore = "long: run by ./test --full"]
fn card_with_a_bad_metadata_sector_is_saved_except_for_that_sector() {
    let bench = Bench::with_card("");
    let (healthy, _) = saved(&bench, "", 0);
    let card = bench.bytes("rack/a.img");
    for (name, at, len) in places(&bench.path("rack/a.img"), &bench.path("")) {
        let slot = |fault: &str| {
            bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {CARD}\n{fault}\n"));
        };
        slot(&format!("unreadable = [[{at}, {len}]]"));
        for words in ["", "--exact"] {
            let (image, told) = saved(&bench, words, 6);
            assert_eq!(told["unreadable"], json!([[at, len]]), "{name}");
            let mut expected = card.clone();
            expected[at as usize..][..len as usize].fill(0);
            // The affected volume is copied in full; of the other, its used space.
            let (from, to) = match at {
                0 => (0, CARD),
                FAT..EXT if name.contains("table") => (0, 0),
                FAT..EXT => (FAT, EXT),
                _ => (EXT, CARD),
            };
            let (from, to) = (from as usize, to as usize);
            assert!(image[from..to] == expected[from..to], "{name} {words}");
            let mut healthy = healthy.clone();
            healthy[at as usize..][..len as usize].fill(0);
            let is_there = healthy.iter().zip(&image).all(|(was, is)| *was == 0 || was == is);
            assert!(is_there, "{name} {words}: something in use is missing");
        }
        // Sectors that read at the third try are no loss.
        slot(&format!("flaky = [[{at}, {len}, 3]]"));
        let (image, told) = saved(&bench, "", 0);
        assert!(image == healthy && told["unreadable"] == json!([]), "{name}");
        assert_eq!(told["read_whole"], json!([]), "{name}");
    }
}

#[test]
fn bad_sector_in_a_table_is_reported_and_its_copy_used() {
    let bench = Bench::with_card("");
    let all = places(&bench.path("rack/a.img"), &bench.path(""));
    let shown = |name: &str| {
        let (_, at, len) = all.iter().find(|place| place.0 == name).unwrap();
        let fault = format!("unreadable = [[{at}, {len}]]");
        bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {CARD}\n{fault}\n"));
        bench.good("show rack:a")
    };
    shown("ext's superblock").shows("hive-07").shows("of metadata in partition 2 (ext4, hive-07)");
    shown("ext's block bitmap").shows("cannot be read");
    shown("the table").shows("cannot be read");
}

/// Fails if one intact table of two is not used, or a bad one frees anything.
#[test]
fn fat_with_a_bad_sector_in_one_table_uses_the_other() {
    let bench = Bench::with_card("");
    let card = bench.path("rack/a.img");
    sized(&card, 0);
    sized(&card, CARD);
    tool!("mkfs.vfat", "-F", "32", "-s", "1", &card);
    let files = noise(2 << 20);
    fs::write(bench.path("sound"), &files).unwrap();
    tool!("mcopy", "-i", &card, bench.path("sound"), "::one");
    tool!("mcopy", "-i", &card, bench.path("sound"), "::two");
    let bytes = fs::read(&card).unwrap();
    let table = 512 * u64::from(u16::from_le_bytes([bytes[14], bytes[15]]));
    let slot = |bad: &str| {
        bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {CARD}\n{bad}\n"));
    };
    let (healthy, _) = saved(&bench, "", 0);
    // After the first 64 KiB, where signatures of volumes are searched.
    let bad = (64 << 10).max(table) + 10_240;
    slot(&format!("unreadable = [[{bad}, 512]]"));
    bench.good("show rack:a").shows("one of its allocation tables cannot be read");
    let (image, told) = saved(&bench, "", 6);
    assert_eq!(told["read_whole"], json!([]));
    let mut expected = healthy;
    expected[bad as usize..][..512].fill(0);
    assert!(image == expected, "by the second table, the same is in use");
    slot(&format!("unreadable = [[{bad}, 512], [{}, 512]]", bad + second_table(&bytes)));
    let (_, told) = saved(&bench, "", 6);
    assert_eq!(told["read_whole"].as_array().unwrap().len(), 1, "{told}");
}

/// The offset of the second table of a FAT32 volume from the first, in bytes.
fn second_table(boot: &[u8]) -> u64 {
    512 * u64::from(u32::from_le_bytes(boot[36..40].try_into().unwrap()))
}

/// Fails if the backup of the table is not searched for.
#[test]
fn a_gpt_with_a_bad_first_header_is_read_from_its_backup() {
    let bench = Bench::with_card("");
    let card = bench.path("rack/a.img");
    let volume = bench.bytes("rack/a.img").split_off(EXT as usize);
    sized(&card, 0);
    sized(&card, CARD);
    tool!("sgdisk", "-n", "1:34816:130000", "-t", "1:8300", &card);
    put(&card, EXT, &volume[..(130_001 - 34_816) * 512]);
    for bad in ["[[512, 512]]", "[[1024, 512]]"] {
        bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {CARD}\nunreadable = {bad}\n"));
        bench.good("show rack:a").shows("the backup is used").shows("GPT");
        bench.imbrik("save rack:a --replace hive.img.zst").expect(6);
    }
}

#[test]
fn card_with_bad_sectors_is_overwritten_and_then_verified() {
    let bench = Bench::with_card("");
    bench.good("save rack:a hive.img.zst");
    for (name, at, len) in places(&bench.path("rack/a.img"), &bench.path("")) {
        let b = format!("[[slot]]\nname = \"b\"\nsize = {CARD}\n");
        let bad = format!("unreadable = [[{at}, {len}]]");
        fs::copy(bench.path("rack/a.img"), bench.path("rack/b.img")).unwrap();
        bench.write_rack(&format!("{b}{bad}\n"));
        bench.good("restore hive.img.zst rack:b --yes --no-check");
        // Without a read-back nothing is verified; an unreadable sector in a read-back is reported.
        bench.imbrik("restore hive.img.zst rack:b --yes").expect(3).says("did not keep");
        bench.write_rack(&format!("{b}flaky = [[{at}, {len}, 3]]\n"));
        assert_eq!(bench.imbrik("restore hive.img.zst rack:b --yes").code, 0, "{name}");
    }
}

/// The small card with a file in each volume; returns the offsets of part of the ext file, of its folder's entries, of
/// the metadata of another file, and of part of the FAT file.
fn with_files(bench: &Bench) -> [u64; 4] {
    let card = bench.path("rack/a.img");
    let volume = bench.path("volume");
    fs::write(&volume, &bench.bytes("rack/a.img")[EXT as usize..]).unwrap();
    // No other file of the card has this piece of it.
    let mut sound = noise(300_000);
    sound.reverse();
    fs::write(bench.path("may.wav"), &sound).unwrap();
    let commands = "mkdir srv\nmkdir srv/brood\nmkdir notes\nwrite may.wav srv/brood/may.wav\n\
                    write may.wav notes/may\n";
    fs::write(bench.path("commands"), commands).unwrap();
    let dir = bench.path("");
    let debugfs = |words: &[&str]| {
        let mut command = std::process::Command::new("debugfs");
        let done = command.args(words).arg(&volume).current_dir(&dir);
        let done = done.env("PATH", "/usr/sbin:/sbin:/usr/bin:/bin").output().unwrap();
        String::from_utf8_lossy(&done.stdout).into_owned()
    };
    debugfs(&["-w", "-f", "commands"]);
    put(&card, EXT, &fs::read(&volume).unwrap());
    let told = tool!("dumpe2fs", &volume);
    let block = told.lines().find_map(|line| line.strip_prefix("Block size:")).unwrap();
    let block: u64 = block.trim().parse().unwrap();
    let blocks = |path: &str| -> Vec<u64> {
        let told = debugfs(&["-R", &format!("blocks {path}")]);
        told.split_whitespace().map(|number| EXT + number.parse::<u64>().unwrap() * block).collect()
    };
    let told = debugfs(&["-R", "imap /notes/may"]);
    let (_, place) = told.split_once("located at block ").unwrap();
    let (number, offset) = place.split_once(", offset 0x").unwrap();
    let inside = u64::from_str_radix(offset.trim(), 16).unwrap();
    let inode = EXT + number.parse::<u64>().unwrap() * block + inside / 512 * 512;
    tool!("mcopy", "-i", format!("{}@@{FAT}", card.display()), bench.path("may.wav"), "::may.wav");
    let bytes = fs::read(&card).unwrap();
    let fat = places_of(&bytes[..EXT as usize], &sound[100_000..100_512]).next().unwrap() as u64;
    [blocks("/srv/brood/may.wav")[7], blocks("/srv/brood")[0], inode, fat / 512 * 512]
}

/// Fails if a damaged file is called intact, or another one is named.
#[test]
fn lost_data_is_reported_with_its_file_names() {
    let bench = Bench::with_card("");
    let [file, folder, inode, fat] = with_files(&bench);
    let slot = |bad: &[u64], more: &str| {
        let spans: Vec<String> = bad.iter().map(|at| format!("[{at}, 512]")).collect();
        let about = format!("size = {CARD}\nunreadable = [{}]", spans.join(", "));
        bench.write_rack(&format!("[[slot]]\nname = \"a\"\n{about}\n{more}"));
    };
    let ext = "partition 2 (ext4, hive-07)";
    let lost = |bad: &[u64]| {
        slot(bad, "");
        let (_, told) = saved(&bench, "", 6);
        told["lost"].as_array().unwrap().clone()
    };
    let of_file = json!({"part": ext, "what": "file", "path": "/srv/brood/may.wav",
        "lost_bytes": 512, "size_bytes": 300_000});
    assert_eq!(lost(&[file]), std::slice::from_ref(&of_file));
    let of_folder = json!({"part": ext, "what": "folder", "path": "/srv/brood",
        "lost_bytes": 512, "size_bytes": null});
    assert!(lost(&[folder]).contains(&of_folder));
    let whole = json!({"part": ext, "what": "all", "path": "/notes/may",
        "lost_bytes": null, "size_bytes": null});
    assert!(lost(&[inode]).contains(&whole));
    // All at once, as text.
    let all = lost(&[file, inode, fat]);
    assert!(all.contains(&of_file) && all.contains(&whole), "{all:?}");
    let in_fat = |lost: &serde_json::Value| {
        lost["path"] == "/may.wav" && lost["lost_bytes"] == 512 && lost["what"] == "file"
    };
    assert!(all.iter().any(in_fat), "{all:?}");
    // A backup gives the location of the files if the superblock and the descriptors are lost, too.
    let placed = places(&bench.path("rack/a.img"), &bench.path(""));
    let at = |name: &str| placed.iter().find(|(one, ..)| *one == name).unwrap().1;
    let heads = [at("ext's superblock"), at("ext's descriptors")];
    for bad in [&heads[..1], &heads[1..], &heads[..]] {
        let all = lost(&[bad, &[file]].concat());
        assert!(all.contains(&of_file), "{bad:?}: {all:?}");
    }
    let table = at("FAT's first table") / 512 * 512;
    assert!(lost(&[table, fat]).iter().any(in_fat));
    slot(&[file, inode, fat], "");
    bench
        .imbrik("save rack:a again.img.zst")
        .expect(6)
        .shows("partition 2 (ext4, hive-07): 512 bytes of 300 kB of /srv/brood/may.wav")
        .shows("partition 2 (ext4, hive-07): /notes/may: its metadata are lost");
    // The same of a clone, and of the damaged tile of an image.
    slot(&[file], &format!("[[slot]]\nname = \"b\"\nsize = {CARD}\n"));
    bench.imbrik("clone rack:a rack:b --yes").expect(6).shows("512 bytes of 300 kB of /srv/brood");
    let told = bench.imbrik("clone rack:a rack:b --yes --json").expect(6).json();
    assert_eq!(told["lost"], json!([of_file]));
    // The image records it, and so do images that reuse it.
    let named = "512 bytes of 300 kB of /srv/brood/may.wav";
    bench.imbrik("save rack:a one.img.zst").expect(6);
    bench.good("check one.img.zst").shows(named);
    bench.good("repack one.img.zst one.img.gz");
    bench.good("check one.img.gz").shows(named);
    bench.good("fit one.img.zst small.img.zst");
    bench.good("check small.img.zst").shows(named);
}

/// Fails if good sectors next to bad ones are abandoned after a number of bad ones.
#[test]
fn image_of_a_failing_card_has_every_readable_sector() {
    let bench = Bench::with_card("");
    let mut card = bench.bytes("rack/a.img");
    // In tables, files, folders and between them, up to nine in one tile.
    let bad: Vec<u64> = (1..60).map(|n| n * n * 37 % 131_000 * 512).collect();
    let spans: Vec<String> = bad.iter().map(|at| format!("[{at}, 512]")).collect();
    let about = format!("size = {CARD}\nunreadable = [{}]", spans.join(", "));
    bench.write_rack(&format!("[[slot]]\nname = \"a\"\n{about}\n"));
    let (image, told) = saved(&bench, "--exact", 6);
    for at in &bad {
        card[*at as usize..][..512].fill(0);
    }
    assert!(image == card, "{}", told["unreadable"]);
    let lost: u64 =
        told["unreadable"].as_array().unwrap().iter().map(|span| span[1].as_u64().unwrap()).sum();
    let mut places = bad;
    places.sort_unstable();
    places.dedup();
    assert_eq!(lost, places.len() as u64 * 512);
}
