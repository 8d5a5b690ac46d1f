//! `imbrik check`

use crate::harness::{Bench, CARD, flip, noise, put, sized};
use std::fs::{self, File};

fn saved(name: &str) -> Bench {
    let bench = Bench::with_card("");
    bench.good(&format!("save rack:a {name} --no-check"));
    bench
}

#[test]
fn a_whole_image_is_called_whole_also_under_another_name() {
    let bench = saved("hive.img.zst");
    bench.good("check hive.img.zst --against rack:a").shows("is whole").shows("holds the same");
    fs::rename(bench.path("hive.img.zst"), bench.path("hive.bin")).unwrap();
    bench.good("check hive.bin").shows("no checksum file").shows("match their digests");
}

#[test]
fn a_flipped_bit_anywhere_is_found() {
    for name in ["hive.img.zst", "hive.img"] {
        let bench = saved(name);
        fs::remove_file(bench.path(format!("{name}.sha256"))).unwrap();
        let len = bench.path(name).metadata().unwrap().len();
        for part in 1..12 {
            let at = len * part / 12;
            flip(&bench.path(name), at);
            let run = bench.imbrik(&format!("check {name}")).expect(3);
            assert!(!format!("{run:?}").contains("is whole"), "byte {at}: {run:#?}");
            flip(&bench.path(name), at);
        }
        bench.good(&format!("check {name}"));
    }
}

#[test]
fn a_damaged_tile_is_told_by_its_bytes_and_the_checksum_by_its_name() {
    let bench = saved("hive.img");
    flip(&bench.path("hive.img"), 5_000_000);
    bench
        .imbrik("check hive.img")
        .expect(3)
        .shows("SHA-256 does not match")
        .shows("1 of 17 tiles do not match")
        .shows("bytes 4194304 to 8388607 of the card's content");
    let json = bench.imbrik("check hive.img --json").expect(3).json();
    assert_eq!(json["differing"], serde_json::json!([[4_194_304, 4_194_304]]));
    assert_eq!(json["checksum_differs"], "sha256");
}

#[test]
fn truncated_empty_and_renamed_images_are_told_apart() {
    let bench = saved("hive.img.zst");
    let whole = bench.bytes("hive.img.zst");
    for part in [1, 5, 10, 1000, whole.len() / 2, whole.len() - 1] {
        fs::write(bench.path("cut.img.zst"), &whole[..part]).unwrap();
        let run = bench.imbrik("check cut.img.zst").expect(if part < 4 { 0 } else { 3 });
        assert!(part < 4 || !run.stdout.contains("is whole"), "{part}: {run:#?}");
    }
    fs::write(bench.path("empty.img"), "").unwrap();
    bench.imbrik("check empty.img").expect(3).says("is empty");
    fs::write(bench.path("random.img"), noise(100_000)).unwrap();
    bench.good("check random.img").shows("no digests to compare");
    bench.imbrik("check .").expect(2).says("a folder, not an image");
    bench.imbrik("check missing.img").expect(1).says("no such file");
    fs::write(bench.path("x.gz"), b"\x1f\x8b\x08\0rest").unwrap();
    bench.imbrik("check x.gz").expect(3).says("cut short");
}

#[test]
fn a_manifest_that_speaks_of_something_else_is_found() {
    let bench = saved("hive.img");
    File::options().append(true).open(bench.path("hive.img")).unwrap().set_len(CARD + 512).unwrap();
    fs::remove_file(bench.path("hive.img.sha256")).unwrap();
    bench.imbrik("check hive.img").expect(3).shows("the manifest speaks of a card of");
}

#[test]
fn a_card_that_was_used_since_differs_by_its_sectors() {
    let bench = saved("hive.img.zst");
    put(&bench.path("rack/a.img"), 2_000_000, b"new");
    let run = bench.imbrik("check hive.img.zst --against rack:a --json").expect(3);
    assert_eq!(run.json()["card_differing"], serde_json::json!([[1_999_872, 512]]));
    let run = bench.imbrik("check hive.img.zst --against rack:a").expect(3);
    run.shows("bytes 1999872 to 2000383 of the card").shows("is whole, and not what the card");
}

#[test]
fn a_smaller_card_is_no_match_and_a_card_is_no_image() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 1048576\n");
    bench.good("save rack:a hive.img.zst --no-check");
    bench.imbrik("check hive.img.zst --against rack:b").expect(3).says("too small");
    bench.imbrik("check rack:a").expect(2).says("an image is wanted here");
    bench.imbrik("check rack/a.img").expect(2).says("Name it as rack:SLOT");
    sized(&bench.path("other"), 10);
    bench.imbrik("check hive.img.zst --against other").expect(2).says("files are images");
}
