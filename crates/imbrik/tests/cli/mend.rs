//! `imbrik mend`, and how `save` handles sectors that are hard to read.

use crate::harness::{Bench, CARD, noise, put, sized, tool};
use serde_json::json;

/// Bad places of slot `a`: in the boot code, in the FAT volume, in the ext volume.
const BAD: [[u64; 2]; 3] = [[40_960, 1_024], [2 << 20, 8_192], [40 << 20, 512]];

fn slot(bench: &Bench, lines: &str) {
    bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {CARD}\n{lines}\n"));
}

fn bad() -> String {
    format!("unreadable = {}", json!(BAD))
}

/// The image as a raw card.
fn raw(bench: &Bench, image: &str) -> Vec<u8> {
    bench.good(&format!("repack {image} raw.img --replace"));
    bench.bytes("raw.img")
}

/// Fails if missing data are still missing, anything else has changed, or the files next to the image are those of the
/// old one.
#[test]
fn mend_adds_missing_data_once_it_is_readable() {
    let bench = Bench::with_card("");
    for name in ["one.img.zst", "one.img.gz", "one.img.xz", "one.img"] {
        slot(&bench, &bad());
        bench.imbrik(&format!("save rack:a {name} --exact --sum sha256,blake3")).expect(6);
        let told = bench.imbrik(&format!("mend {name} rack:a --json")).expect(6).json();
        assert_eq!(
            (&told["image"], &told["lacked_bytes"]),
            (&json!(null), &json!(9_728)),
            "{name}"
        );
        // The first of them can be read now.
        slot(&bench, &format!("unreadable = {}", json!(BAD[1..])));
        let told = bench.imbrik(&format!("mend {name} rack:a --json")).expect(6).json();
        assert_eq!(told["unreadable"], json!(BAD[1..]), "{name}");
        bench.good(&format!("check {name}")).shows("without 8.7 kB of its card");
        slot(&bench, "");
        bench.good(&format!("mend {name} rack:a"));
        bench.good(&format!("check {name} --against rack:a")).shows("holds the same");
        assert!(raw(&bench, name) == bench.bytes("rack/a.img"), "{name}");
        let beside = |sum: &str| bench.path(format!("{name}.{sum}")).exists();
        assert_eq!(["sha256", "sha512", "blake3"].map(beside), [true, false, true], "{name}");
        bench.good(&format!("mend {name} rack:a")).shows("Nothing is missing in");
    }
}

/// Fails if another card, or one that was used since, is accepted.
#[test]
fn mend_refuses_a_different_card() {
    let bench = Bench::with_card(&format!("[[slot]]\nname = \"b\"\nsize = {CARD}\n"));
    let b = format!("[[slot]]\nname = \"b\"\nsize = {CARD}\n");
    slot(&bench, &format!("{}\n{b}", bad()));
    bench.imbrik("save rack:a one.img.zst").expect(6);
    let before = bench.bytes("one.img.zst");
    let is_refused = |words: &str| {
        bench.imbrik("mend one.img.zst rack:b").expect(4).says(words).says("is unchanged");
        assert!(bench.bytes("one.img.zst") == before, "{words}");
    };
    // A blank one; one with other ids; one with a file more; one with another content.
    is_refused("another card");
    slot(&bench, &b);
    bench.good("clone rack:a rack:b --ids fresh --yes");
    is_refused("has the id");
    let copy = || std::fs::copy(bench.path("rack/a.img"), bench.path("rack/b.img")).unwrap();
    copy();
    let fat = format!("{}@@{}", bench.path("rack/b.img").display(), 1 << 20);
    std::fs::write(bench.path("new"), vec![7; 5_000]).unwrap();
    tool!("mcopy", "-i", fat, bench.path("new"), "::NEW");
    is_refused("was used since");
    copy();
    // In the middle of the kernel, at the start of the second tile.
    put(&bench.path("rack/b.img"), (4 << 20) + 100, b"another content");
    is_refused("holds something else");
    // A copy of it, on a larger card.
    copy();
    std::fs::File::options()
        .write(true)
        .open(bench.path("rack/b.img"))
        .unwrap()
        .set_len(CARD * 2)
        .unwrap();
    slot(&bench, &format!("{}\n[[slot]]\nname = \"b\"\nsize = {}\n", bad(), CARD * 2));
    bench.good("mend one.img.zst rack:b");
    slot(&bench, "");
    bench.good("check one.img.zst --against rack:a");
    bench.good("save rack:a small.img.zst --fit");
    bench.good("mend small.img.zst rack:a").shows("Nothing is missing in");
    bench.imbrik("mend - rack:a").expect(2).says("it is not a file");
    std::fs::copy(bench.path("rack/a.img"), bench.path("plain.img")).unwrap();
    bench.imbrik("mend plain.img rack:a").expect(2).says("does not record what is missing");
}

/// Fails if a bad sector ends a save that may continue, or does not end a strict one.
#[test]
fn strict_save_stops_at_the_first_bad_sector() {
    let bench = Bench::with_card(&format!("[[slot]]\nname = \"b\"\nsize = {CARD}\n"));
    let b = format!("[[slot]]\nname = \"b\"\nsize = {CARD}\n");
    slot(&bench, &format!("unreadable = {}\n{b}", json!([[50 << 20, 512]])));
    bench.imbrik("save rack:a one.img.zst --exact --strict").expect(1).says("cannot be read");
    assert!(!bench.list(".").iter().any(|name| name.to_string_lossy().ends_with(".zst")));
    bench.imbrik("save rack:a one.img.zst --exact").expect(6);
    slot(&bench, &format!("flaky = {}\n{b}", json!([[50 << 20, 512, 3]])));
    bench.good("save rack:a two.img.zst --exact --strict");
    bench.imbrik("save rack:a x --strict --patience 3s").expect(2);
    bench.imbrik("save rack:a x --patience 3").expect(2).says("3s, 3min or 3h");
}

/// Fails if bad sectors are retried before the rest is safe, or a second try recovers less than the first would have.
#[test]
fn save_without_patience_can_be_mended_later() {
    let bench = Bench::with_card("");
    slot(&bench, &bad());
    let told =
        bench.imbrik("save rack:a hasty.img.zst --exact --patience 0 --json").expect(6).json();
    assert_eq!(told["was_cut_short"], true);
    let spans = told["unreadable"].as_array().unwrap().clone();
    let lost: u64 = spans.iter().map(|span| span[1].as_u64().unwrap()).sum();
    assert!(lost > 9_728 && lost <= 4 << 20, "{lost}");
    bench
        .imbrik("save rack:a hasty.img.zst --exact --replace --patience 0")
        .expect(6)
        .shows("a longer --patience");
    let told = bench.imbrik("mend hasty.img.zst rack:a --json").expect(6).json();
    assert_eq!(told["unreadable"], json!(BAD));
    bench.imbrik("save rack:a direct.img.zst --exact").expect(6);
    assert!(raw(&bench, "hasty.img.zst") == raw(&bench, "direct.img.zst"));
    bench.good("check hasty.img.zst").shows("without 9.73 kB");
}

/// A card with 50 bad regions of 512 bytes to 4 MiB. Fails if a readable byte is not in the image, much more is read
/// than necessary, or a file name differs from that of the system's own tool. `IMBRIK_BAD=full` uses a card of 1.5 GB;
/// the default is a third of that.
#[test]
#[ignore = "long: run by ./test --full"]
fn save_with_fifty_bad_regions_keeps_readable_data_and_names_files() {
    const BLOCK: u64 = 4096;
    let is_full = std::env::var("IMBRIK_BAD").is_ok_and(|how| how == "full");
    let (card_len, folders, step) =
        if is_full { (1500 << 20, 5, 28 << 20) } else { (500 << 20, 1, 9 << 20) };
    let bench = Bench::with_card("");
    let files = bench.path("files");
    for folder in 0..folders {
        std::fs::create_dir_all(files.join(format!("hive-{folder}"))).unwrap();
        for file in 0..8 {
            let path = files.join(format!("hive-{folder}/brood {file}.wav"));
            let mut sound = noise(30 << 20);
            sound.rotate_left((folder * 4_000_037 + file * 700_001) % (30 << 20));
            std::fs::write(path, sound).unwrap();
        }
    }
    let card = bench.path("rack/a.img");
    sized(&card, card_len);
    tool!("mkfs.ext4", "-q", "-F", "-b", "4096", "-L", "hive-07", "-d", files, &card);
    std::fs::remove_dir_all(&files).unwrap();
    let slot = |lines: &str| {
        bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {card_len}\n{lines}\n"));
    };
    slot("");
    bench.good("save rack:a whole.img");
    // From a sector to half a MiB, and two of 4 MiB, anywhere but in the first metadata of the card.
    let len = |n: u64| if n % 25 == 7 { 4 << 20 } else { 512 << (n * 5 % 11) };
    let spans: Vec<[u64; 2]> =
        (0..50u64).map(|n| [(20 << 20) + n * step + n * n * 512, len(n)]).collect();
    slot(&format!("unreadable = {}", json!(spans)));
    let told = bench.imbrik("save rack:a bad.img --json").expect(6).json();
    let (mut whole, bad) = (bench.bytes("whole.img"), bench.bytes("bad.img"));
    let number = |value: &serde_json::Value| value.as_u64().unwrap();
    for span in told["unreadable"].as_array().unwrap() {
        let (at, len) = (number(&span[0]), number(&span[1]));
        let is_bad =
            |sector: u64| spans.iter().any(|[start, len]| (*start..start + len).contains(&sector));
        assert!((at..at + len).step_by(512).all(is_bad), "{span} can be read");
        whole[at as usize..(at + len) as usize].fill(0);
    }
    assert!(whole == bad, "a byte that can be read is lost");
    let lost: u64 = told["unreadable"].as_array().unwrap().iter().map(|s| number(&s[1])).sum();
    let readable = number(&told["used_bytes"]) - lost;
    let asked = number(&told["card_bytes_read"]);
    let more = asked.saturating_sub(readable) as f64 / readable as f64;
    println!("{asked} asked for {readable}: {:.2} % more", more * 100.0);
    // A third of the card has as many bad regions, each with the same cost.
    let most = if is_full { 0.03 } else { 0.09 };
    assert!(more <= most, "{asked} asked for {readable}: {more}");
    let debugfs = |line: String| {
        let path = bench.path("commands");
        std::fs::write(&path, line).unwrap();
        tool!("sh", "-c", format!("debugfs -f {} {}", path.display(), card.display()))
    };
    let blocks: Vec<String> = spans
        .iter()
        .flat_map(|[at, len]| at / BLOCK..(at + len).div_ceil(BLOCK))
        .map(|block| block.to_string())
        .collect();
    // It takes lines of some kilobytes.
    let lines = blocks.chunks(500).map(|some| format!("icheck {}\n", some.join(" ")));
    let said = debugfs(lines.collect());
    let columns = |line: &str| -> Option<(u64, String)> {
        let (first, rest) = line.split_once('\t')?;
        Some((first.parse().ok()?, rest.to_owned()))
    };
    let inodes: std::collections::BTreeSet<String> = said
        .lines()
        .filter_map(columns)
        .map(|(_, inode)| inode)
        .filter(|inode| inode.parse::<u64>().is_ok_and(|inode| inode > 11))
        .collect();
    let inodes: Vec<_> = inodes.into_iter().collect();
    let said = debugfs(format!("ncheck {}\n", inodes.join(" ")));
    let mut expected: Vec<String> =
        said.lines().filter_map(columns).map(|(_, path)| path).collect();
    let of_files = |lost: &&serde_json::Value| lost["what"] == "file";
    let lost = told["lost"].as_array().unwrap().iter().filter(of_files);
    let mut named: Vec<String> =
        lost.map(|lost| lost["path"].as_str().unwrap().to_owned()).collect();
    expected.sort();
    named.sort();
    assert_eq!(named, expected);
    assert!(named.len() > folders * 4, "{}", named.len());
}
