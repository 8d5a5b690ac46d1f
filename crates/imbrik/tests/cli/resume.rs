//! `imbrik save --resume`: resuming an interrupted save.

use crate::harness::{Bench, CARD, flip, noise, put, tool};
use serde_json::json;
use std::fs;

fn slot(bench: &Bench, lines: &str) {
    bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {CARD}\n{lines}\n"));
}

/// A save of a card that is removed after so many bytes.
fn stopped(bench: &Bench, name: &str, after: u64, lines: &str) {
    slot(bench, &format!("pulled_after = {after}\n{lines}"));
    bench
        .imbrik(&format!("save rack:a {name} --exact --replace"))
        .expect(1)
        .says(&format!("{name}.part"))
        .says("--resume");
    slot(bench, lines);
    assert!(bench.path(format!("{name}.part")).exists());
}

fn raw(bench: &Bench, image: &str) -> Vec<u8> {
    bench.good(&format!("repack {image} raw.img --replace"));
    bench.bytes("raw.img")
}

/// The only other files are its checksum and, for a raw image, its manifest.
fn is_tidy(bench: &Bench) {
    let left: Vec<_> = bench
        .list(".")
        .into_iter()
        .map(|name| name.into_string().unwrap())
        .filter(|name| name.contains(".part"))
        .collect();
    assert!(left.is_empty(), "{left:?}");
}

/// Fails if saved data are read again, or the result differs from that of an uninterrupted save.
#[test]
fn resumed_save_equals_an_uninterrupted_one() {
    let bench = Bench::with_card("");
    slot(&bench, "");
    bench.good("save rack:a direct.img.zst --exact");
    let direct = raw(&bench, "direct.img.zst");
    for name in ["one.img.zst", "one.img.gz", "one.img"] {
        let mut before = 0;
        for after in [14 << 20, 40 << 20] {
            stopped(&bench, name, after, "");
            let told = bench.good(&format!("save rack:a {name} --exact --resume --json")).json();
            let resumed = told["resumed_bytes"].as_u64().unwrap();
            assert!(resumed > before && resumed <= after, "{name}: {resumed} of {after}");
            before = resumed;
            bench.good(&format!("check {name} --against rack:a"));
            assert!(raw(&bench, name) == direct, "{name}");
            is_tidy(&bench);
            for beside in ["", ".sha256", ".imbrik.json"] {
                let _ = fs::remove_file(bench.path(format!("{name}{beside}")));
            }
        }
    }
    // Without a leftover, it starts from scratch. Formats that can't be resumed are reported.
    bench.good("save rack:a new.img.zst --exact --resume");
    bench.imbrik("save rack:a new.img.xz --exact --resume").expect(2).says("cannot be resumed");
}

/// Fails if tiles of two cards, or of two states of a card, are in one image.
#[test]
fn resume_refuses_a_changed_or_different_card() {
    let bench = Bench::with_card("");
    let card = bench.path("rack/a.img");
    let sound = bench.bytes("rack/a.img");
    stopped(&bench, "one.img.zst", 30 << 20, "");
    let left = bench.bytes("one.img.zst.part");
    let is_refused = |words: &str| {
        let said = bench.imbrik("save rack:a one.img.zst --exact --resume").expect(4);
        said.says(words).says("removed");
        assert!(bench.bytes("one.img.zst.part") == left, "{words}");
    };
    // A file more in the FAT volume; another superblock; another card.
    fs::write(bench.path("new"), vec![7; 5_000]).unwrap();
    tool!("mcopy", "-i", format!("{}@@{}", card.display(), 1 << 20), bench.path("new"), "::NEW");
    is_refused("something else");
    fs::write(&card, &sound).unwrap();
    // The time of the last write in the ext volume's superblock.
    put(&card, 34816 * 512 + 1024 + 0x30, &[1, 2, 3, 4]);
    is_refused("something else");
    fs::write(&card, &sound).unwrap();
    put(&card, 440, &[1, 2, 3, 4]);
    is_refused("another card");
    fs::write(&card, &sound).unwrap();
    // Taken in another way.
    bench.imbrik("save rack:a one.img.zst --resume").expect(4).says("in another way");
    bench.good("save rack:a one.img.zst --exact --resume");
    is_tidy(&bench);
}

/// Fails if a truncated or damaged tile is kept.
#[test]
fn resume_discards_damaged_frames() {
    let bench = Bench::with_card("");
    slot(&bench, "");
    bench.good("save rack:a direct.img.zst --exact");
    let direct = raw(&bench, "direct.img.zst");
    for name in ["one.img.zst", "one.img.gz"] {
        stopped(&bench, name, 40 << 20, "");
        let part = bench.path(format!("{name}.part"));
        let left = fs::read(&part).unwrap();
        let notes = bench.bytes(format!("{name}.part.notes"));
        let again = |wanted: std::ops::RangeInclusive<u64>| {
            let told =
                bench.good(&format!("save rack:a {name} --exact --resume --replace --json")).json();
            let resumed = told["resumed_bytes"].as_u64().unwrap();
            assert!(wanted.contains(&resumed), "{name}: {resumed}");
            assert!(raw(&bench, name) == direct, "{name}");
            fs::write(&part, &left).unwrap();
            fs::write(bench.path(format!("{name}.part.notes")), &notes).unwrap();
        };
        again(20 << 20..=40 << 20);
        // Truncated in the middle of a frame, garbage after it, and a flipped bit in the second tile.
        fs::write(&part, &left[..left.len() - 7]).unwrap();
        again(4 << 20..=40 << 20);
        fs::write(&part, [&left[..], &[0; 70_000][..]].concat()).unwrap();
        again(20 << 20..=40 << 20);
        let first = left.len() as u64 / 3;
        flip(&part, first);
        again(0..=36 << 20);
        fs::write(&part, b"").unwrap();
        again(0..=0);
        fs::remove_file(bench.path(format!("{name}.part.notes"))).unwrap();
        again(0..=0);
    }
}

/// Fails if a sector that was unreadable in the first run counts as read in the second.
#[test]
fn resume_keeps_the_list_of_bad_sectors() {
    let bench = Bench::with_card("");
    let bad = format!("unreadable = {}", json!([[2 << 20, 8_192], [50 << 20, 512]]));
    slot(&bench, &bad);
    let direct = bench.imbrik("save rack:a direct.img.zst --exact --json").expect(6).json();
    stopped(&bench, "one.img.zst", 34 << 20, &bad);
    let told = bench.imbrik("save rack:a one.img.zst --exact --resume --json").expect(6).json();
    assert!(told["resumed_bytes"].as_u64().unwrap() > 0);
    assert_eq!((&told["unreadable"], &told["lost"]), (&direct["unreadable"], &direct["lost"]));
    assert!(raw(&bench, "one.img.zst") == raw(&bench, "direct.img.zst"));
}

/// Fails if an interrupted save leaves nothing, or an incomplete image under its name.
#[test]
fn interrupted_save_can_be_resumed() {
    let bench = Bench::with_slot_a("read_rate = 8000000", "");
    let part = bench.path("one.img.zst.part");
    let is_well_on = || part.metadata().is_ok_and(|found| found.len() > 1 << 20);
    let run = bench.interrupted("save rack:a one.img.zst --exact", is_well_on);
    let run = run.expect(130);
    assert!(run.err_has("To resume, run: imbrik save rack:a"), "{}", run.stderr);
    assert!(part.exists() && !bench.path("one.img.zst").exists());
    bench.good("save rack:a one.img.zst --exact --resume").shows("Resumed");
    bench.good("check one.img.zst --against rack:a");
    is_tidy(&bench);
}

/// Fails if all kept data are read again to verify that they are of this card.
#[test]
fn resume_compares_samples_with_the_card() {
    const LEN: u64 = 400 << 20;
    let bench = Bench::with_card("");
    fs::write(bench.path("rack/a.img"), noise(LEN as usize)).unwrap();
    let slot = |lines: &str| {
        bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {LEN}\n{lines}\n"));
    };
    slot(&format!("pulled_after = {}", 330 << 20));
    bench.imbrik("save rack:a one.img.zst --exact --level 1").expect(1);
    slot("");
    let line = "save rack:a one.img.zst --exact --level 1 --resume --json";
    let told = bench.good(line).json();
    let number = |name: &str| told[name].as_u64().unwrap();
    assert!(number("resumed_bytes") > 280 << 20, "{}", number("resumed_bytes"));
    let read = number("card_bytes_read");
    assert!(read < LEN - number("resumed_bytes") + (80 << 20), "{read}");
    assert!(raw(&bench, "one.img.zst") == bench.bytes("rack/a.img"));
}
