//! `imbrik weigh`

use crate::harness::{Bench, CARD, all_are, noise, put, sized, tool};
use imbrik_core::{
    store::{FileStore, ReadAt, read_vec},
    units::ByteOffset,
};
use std::{fs, path::Path};

const GIB: u64 = 1 << 30;
const CLAIMED: u64 = 64 * GIB;

/// A new card: one FAT32 volume over its whole claimed size, with a file; in slot `w`.
fn large(bench: &Bench) -> std::path::PathBuf {
    let card = bench.path("rack/w.img");
    sized(&card, CLAIMED);
    tool!("mkfs.vfat", "-F", "32", "-s", "64", "-n", "BROOD", &card);
    fs::write(bench.path("brood.wav"), noise(3 << 20)).unwrap();
    tool!("mcopy", "-i", &card, bench.path("brood.wav"), "::brood.wav");
    card
}

fn slot(bench: &Bench, lines: &str) {
    bench.write_rack(&format!("[[slot]]\nname = \"w\"\nsize = {CLAIMED}\n{lines}\n"));
}

/// A digest of a card's content, in which holes are zeros.
fn content(card: &Path) -> blake3::Hash {
    let store = FileStore::open(card).unwrap();
    let mut hasher = blake3::Hasher::new();
    let mut at = ByteOffset::ZERO;
    while let Some(data) = store.next_data(at).unwrap() {
        for block in (data.start().get() / 4096..data.end().get().div_ceil(4096)).map(|n| n * 4096)
        {
            let bytes = read_vec(&store, ByteOffset::new(block), 4096).unwrap();
            if !all_are(&bytes, 0) {
                hasher.update(&block.to_le_bytes()).update(&bytes);
            }
        }
        at = data.end();
    }
    hasher.finalize()
}

/// Fails if an honest card is doubted, a dishonest one accepted, or any byte has changed afterwards.
#[test]
fn weigh_detects_false_capacity_without_harming_data() {
    let bench = Bench::with_card("");
    let card = large(&bench);
    let before = content(&card);
    // The address at which it wraps around, or after which it keeps nothing; or neither.
    let cases: [(&str, Option<(&str, u64)>); 6] = [
        ("", None),
        ("wraps_at = 8589934592", Some(("wraps", 8 * GIB))),
        ("wraps_at = 7800000512", Some(("wraps", 7_800_000_512))),
        ("wraps_at = 31999999488", Some(("wraps", 31_999_999_488))),
        ("keeps = 8589934592", Some(("ends", 8 * GIB))),
        ("keeps = 63000000000", Some(("ends", 63_000_000_000))),
    ];
    for (lines, lie) in cases {
        slot(&bench, lines);
        let run = bench.imbrik("weigh rack:w --json").expect(if lie.is_some() { 3 } else { 0 });
        let told = run.json();
        let moved =
            ["card_bytes_read", "card_bytes_written"].map(|name| told[name].as_u64().unwrap());
        assert!(moved.iter().sum::<u64>() < 1_000_000_000, "{lines}: {moved:?}");
        match lie {
            None => assert!(told["real_bytes"].is_null() && told["shortfall"].is_null()),
            Some((how, real)) => {
                let found = told["real_bytes"].as_u64().unwrap();
                assert_eq!(told["shortfall"], how, "{lines}");
                // Within a cluster of the real capacity: only unused places are marked.
                let off = if how == "wraps" { 0 } else { 64 << 10 };
                assert!(found.abs_diff(real) <= off, "{lines}: {found}");
            }
        }
        assert_eq!(content(&card), before, "{lines}");
    }
    slot(&bench, "wraps_at = 7800000512");
    bench.imbrik("weigh rack:w").expect(3).shows("only 7.8 GB").shows("do not rely on this card");
    slot(&bench, "");
    bench.good("weigh rack:w --map rates.png").shows("kept their data");
    bench.imbrik("weigh rack:w --map rates.png").expect(4).says("exists already");
    bench.good("weigh rack:w --map rates.svg");
    assert_eq!(content(&card), before);
    tool!("fsck.fat", "-n", &card);
}

/// Fails if a slow card is called fast, or the tested data are not restored after an interrupt.
#[test]
fn weigh_reports_a_slow_card_and_restores_data_when_interrupted() {
    let bench = Bench::with_slot_a("write_rate = 4000000\nrequest_time = 0.02", "");
    let before = bench.bytes("rack/a.img");
    let run = bench.good("weigh rack:a");
    run.shows("too slow for a system card");
    assert!(bench.bytes("rack/a.img") == before);
    let started = std::time::Instant::now();
    let run = bench.interrupted("weigh rack:a", || started.elapsed().as_millis() > 1500);
    run.expect(130);
    assert!(bench.bytes("rack/a.img") == before);
}

/// A card with a small partition only, as left by images for small cards: fails if the rest is not tested, and a
/// verdict is given for the whole card.
#[test]
fn weigh_tests_unpartitioned_space_and_judges_only_above_90_percent() {
    let bench = Bench::with_card("");
    fs::copy(bench.path("rack/a.img"), bench.path("rack/w.img")).unwrap();
    let claim = |lines: &str| {
        bench.write_rack(&format!("[[slot]]\nname = \"w\"\nsize = {}\n{lines}\n", 8 * GIB));
        let card = fs::OpenOptions::new().write(true).open(bench.path("rack/w.img")).unwrap();
        card.set_len(8 * GIB).unwrap();
    };
    claim("");
    let before = content(&bench.path("rack/w.img"));
    let told = bench.good("weigh rack:w --json").json();
    assert!(told["tested_bytes"].as_u64().unwrap() > 7 * GIB, "{told}");
    claim("wraps_at = 1073741824");
    bench.imbrik("weigh rack:w").expect(3).shows("only 1.07 GB").shows("addresses wrap around");
    assert_eq!(content(&bench.path("rack/w.img")), before);
    // Most of the card is an unknown partition: no verdict is possible.
    claim("");
    let line =
        format!("echo '131072,,83' | sfdisk -q --append {}", bench.path("rack/w.img").display());
    tool!("sh", "-c", line);
    let run = bench.imbrik("weigh rack:w").expect(3);
    run.shows("not known: only").shows("none: too little of the card could be tested");
}

/// Fails if anything is written outside of unused space.
#[test]
fn weigh_writes_only_unused_space_unless_erase_is_given() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 67633152\n");
    bench.imbrik("weigh rack:b").expect(4).says("--erase");
    // A volume that was not unmounted, and one with a contradiction, are not written.
    let sound = bench.bytes("rack/a.img");
    bench.good("weigh rack:a --zero");
    bench.good("save rack:a one.img.zst");
    fs::write(bench.path("rack/a.img"), &sound).unwrap();
    bench.good("check one.img.zst --against rack:a");
    bench.good("weigh rack:a --full").shows("written and read back");
    bench.good("check one.img.zst --against rack:a");
    fs::write(bench.path("rack/a.img"), &sound).unwrap();
    put(&bench.path("rack/a.img"), 34816 * 512 + 1024 + 0x3a, &[0, 0]);
    // Most of the card is in use then: it is tested, and not judged.
    let only_fat = bench.imbrik("weigh rack:a --full --json").expect(3).json();
    assert!(only_fat["shortfall"].is_null(), "{only_fat}");
    assert!(only_fat["verified_bytes"].as_u64().unwrap() <= 2 * (16 << 20), "{only_fat}");
    bench.imbrik("weigh rack:b --erase").expect(4).says("--yes");
    bench.good("weigh rack:b --erase --full --yes").shows("every byte was written and read back");
    assert!(all_are(&bench.bytes("rack/b.img"), 0));
    bench.write_rack(&format!("[[slot]]\nname = \"b\"\nsize = {CARD}\nwraps_at = {}\n", 40 << 20));
    bench.imbrik("weigh rack:b --erase --full --yes").expect(3).shows("only 41.9 MB");
}
