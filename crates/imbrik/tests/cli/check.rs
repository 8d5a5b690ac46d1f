//! `imbrik check`

use crate::harness::{Bench, CARD, flip, noise, put, sized, tool};
use std::fs::{self, File};

fn saved(name: &str) -> Bench {
    let bench = Bench::with_card("");
    bench.good(&format!("save rack:a {name} --no-check"));
    bench
}

#[test]
fn intact_image_passes_check_under_another_name() {
    let bench = saved("hive.img.zst");
    bench.good("check hive.img.zst --against rack:a").shows("is intact").shows("holds the same");
    fs::rename(bench.path("hive.img.zst"), bench.path("hive.bin")).unwrap();
    bench.good("check hive.bin").shows("no checksum file").shows("match their digests");
}

/// Fails when a card with other ids is named, or one with the same ids is not.
#[test]
fn check_names_the_cards_with_the_same_ids() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 200000000\n");
    bench.good("save rack:a hive.img.zst");
    bench.good("check hive.img.zst").shows("rack:a has the same ids");
    bench.good("restore hive.img.zst rack:b --ids fresh --yes");
    bench.good("check hive.img.zst").shows("rack:a has the same ids");
    bench.good("restore hive.img.zst rack:b --yes");
    bench.good("check hive.img.zst").shows("rack:a and rack:b have the same ids");
    assert_eq!(
        bench.good("check hive.img.zst --json").json()["cards"].as_array().unwrap().len(),
        2
    );
}

/// Fails when one partition can't be compared alone, or several images with a card.
#[test]
fn check_compares_one_partition_and_several_images() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 200000000\n");
    bench.good("save rack:a hive.img.zst");
    bench.good("restore hive.img.zst rack:b --yes");
    bench.good("files put rack:b hive.img.zst.sha256 1:/ --yes");
    bench.good("save rack:b other.img.zst");
    let whole = bench.imbrik("check hive.img.zst --against rack:b").expect(3);
    whole.shows("partition 1");
    bench
        .good("check hive.img.zst --against rack:b --only 2")
        .shows("partition 2 of rack:b holds the same");
    bench.imbrik("check hive.img.zst --against rack:b --only 1").expect(3);
    bench.imbrik("check hive.img.zst --against rack:b --only 7").expect(2).says("no partition 7");
    bench.imbrik("check hive.img.zst --only 1").expect(2).says("--against");
    bench.imbrik("check hive.img.zst --against other.img.zst --only 2").expect(2);
    let both = bench.imbrik("check hive.img.zst other.img.zst --against rack:b").expect(3);
    both.shows("rack:b holds the same").shows("rack:b differs").shows("1 of 2 images did not pass");
}

#[test]
fn check_detects_any_flipped_bit() {
    for name in ["hive.img.zst", "hive.img"] {
        let bench = saved(name);
        fs::remove_file(bench.path(format!("{name}.sha256"))).unwrap();
        let len = bench.path(name).metadata().unwrap().len();
        for part in 1..12 {
            let at = len * part / 12;
            flip(&bench.path(name), at);
            let run = bench.imbrik(&format!("check {name}")).expect(3);
            assert!(!format!("{run:?}").contains("is intact"), "byte {at}: {run:#?}");
            flip(&bench.path(name), at);
        }
        bench.good(&format!("check {name}"));
    }
}

#[test]
fn check_names_the_damaged_range_and_the_failed_checksum() {
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
fn check_distinguishes_truncated_empty_and_renamed_images() {
    let bench = saved("hive.img.zst");
    let whole = bench.bytes("hive.img.zst");
    for part in [1, 5, 10, 1000, whole.len() / 2, whole.len() - 1] {
        fs::write(bench.path("cut.img.zst"), &whole[..part]).unwrap();
        let run = bench.imbrik("check cut.img.zst").expect(3);
        assert!(!run.out_has("is intact"), "{part}: {run:#?}");
    }
    fs::write(bench.path("empty.img"), "").unwrap();
    bench.imbrik("check empty.img").expect(3).says("is empty");
    fs::write(bench.path("random.img"), noise(100_000)).unwrap();
    bench.imbrik("check random.img").expect(3).shows("no digests to compare");
    bench.imbrik("check .").expect(3).shows("3 of 4 images did not pass");
    bench.imbrik("check missing.img").expect(2).says("image missing.img does not exist");
    fs::write(bench.path("x.gz"), b"\x1f\x8b\x08\0rest").unwrap();
    bench.imbrik("check x.gz").expect(3).says("truncated");
}

#[test]
fn check_detects_a_manifest_of_another_image() {
    let bench = saved("hive.img");
    File::options().append(true).open(bench.path("hive.img")).unwrap().set_len(CARD + 512).unwrap();
    fs::remove_file(bench.path("hive.img.sha256")).unwrap();
    bench.imbrik("check hive.img").expect(3).shows("the manifest describes a card of");
}

#[test]
fn check_against_a_changed_card_counts_differing_sectors() {
    let bench = saved("hive.img.zst");
    put(&bench.path("rack/a.img"), 2_000_000, b"new");
    let run = bench.imbrik("check hive.img.zst --against rack:a --json").expect(3);
    assert_eq!(run.json()["card_differing"], serde_json::json!([[1_999_872, 512]]));
    let run = bench.imbrik("check hive.img.zst --against rack:a").expect(3);
    run.shows("bytes 1999872 to 2000383 of the card")
        .shows("is intact, but the card holds something else");
}

#[test]
fn check_rejects_a_smaller_card_and_a_card_in_place_of_an_image() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 1048576\n");
    bench.good("save rack:a hive.img.zst --no-check");
    bench.imbrik("check hive.img.zst --against rack:b").expect(3).says("too small");
    bench.imbrik("check rack:a").expect(2).says("an image is needed here");
    bench.imbrik("check rack/a.img").expect(2).says("Name it as rack:SLOT");
    sized(&bench.path("other"), 10);
    bench
        .imbrik("check hive.img.zst --against other")
        .expect(3)
        .shows("but the other image holds something else");
    bench.imbrik("check hive.img.zst --against nothing").expect(2).says("no card is called");
}

/// Fails if a readable image without digests is called intact.
#[test]
fn check_reports_intact_only_with_digests() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 200000000\n");
    let card = bench.bytes("rack/a.img");
    let write = |name: &str, bytes: &[u8]| std::fs::write(bench.path(name), bytes).unwrap();
    // An image from another program: complete, but without digests.
    write("plain.img", &card);
    let run = bench.good("check plain.img");
    let run = run
        .shows("is readable; it has no digests")
        .shows("Volumes    2 volumes, both were unmounted");
    assert!(!run.out_has("is intact"), "{run:?}");
    // With a matching hash, it is the file that was hashed.
    bench.good("check plain.img --sum sha256");
    bench.good("check plain.img").shows("is intact");
    // Half of it, which a restore refuses, too.
    write("half.img", &card[..card.len() / 2]);
    let run = bench.imbrik("check half.img").expect(3);
    run.shows("is truncated: ").shows("are missing at its end");
    bench.imbrik("restore half.img rack:b --yes").expect(4).says("the image is truncated");
    let json = bench.imbrik("check half.img --json").json();
    assert_eq!((json["verdict"].as_str(), json["exit"].as_u64()), (Some("truncated"), Some(3)));
    assert!(json["missing_bytes"].as_u64().unwrap() > 1_000_000, "{json}");
    // So is a volume without a table.
    let volume = bench.path("volume");
    sized(&volume, 120 << 20);
    tool!("mkfs.ext4", "-q", &volume);
    let bytes = bench.bytes("volume");
    write("bare.img", &bytes);
    bench.good("check bare.img").shows("Volumes    1 volume, it was unmounted");
    write("bare.img", &bytes[..80 << 20]);
    bench.imbrik("check bare.img").expect(3).shows("is truncated: 41.9 MB");
    bench.imbrik("restore bare.img rack:b --yes").expect(4).says("its volume needs 126 MB");
    // Data that are not a card.
    write("noise.img", &noise(300_000));
    write("page.img", b"<html><body>404: the image is not here any more</body></html>");
    tool!("xz", "-k", bench.path("page.img"));
    write(
        "page.sha256",
        b"d2a84f4b8b650937ec8f73cd8be2c74add5a911ba64df27458ed8229da804a26  a.img\n",
    );
    for name in ["noise.img", "page.img", "page.img.xz", "page.sha256"] {
        let run = bench.imbrik(&format!("check {name}")).expect(3);
        assert!(run.out_has("no known content") || run.out_has("not the image of a card"));
    }
    // Saved with digests, even that is intact.
    write("rack/b.img", &noise(200_000_000));
    bench.good("save rack:b noise.img.zst");
    bench.good("check noise.img.zst").shows("is intact");
}

#[test]
fn check_reports_volumes_that_were_not_unmounted() {
    let bench = Bench::empty();
    let volume = bench.path("v.img");
    for (state, words) in [("2", "is marked as having errors"), ("0", "was not unmounted")] {
        let _ = std::fs::remove_file(&volume);
        sized(&volume, 20 << 20);
        tool!("mkfs.ext2", "-q", &volume);
        tool!("debugfs", "-w", "-R", format!("ssv state {state}"), &volume);
        bench.good("check v.img").shows(words);
    }
}

/// Fails when an image of the folder is left out, or another file is taken for one.
#[test]
fn images_of_a_folder_are_checked() {
    let bench = Bench::with_card("");
    fs::create_dir(bench.path("cards")).unwrap();
    bench.imbrik("check cards").expect(2).says("no image is in the folder cards");
    bench.good("save rack:a cards/one.img.zst");
    for other in ["notes.txt", "photos.zip", "backup.tar.gz", "one.img.zst.part"] {
        fs::write(bench.path("cards").join(other), "queen seen").unwrap();
    }
    bench.good("check cards").shows("cards/one.img.zst is intact");
    bench.good("repack cards/one.img.zst cards/two.img");
    bench.good("check cards").shows("Both images passed.");
    let mut bytes = bench.bytes("cards/one.img.zst");
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    fs::write(bench.path("cards/one.img.zst"), bytes).unwrap();
    bench.imbrik("check cards").expect(3).shows("1 of 2 images did not pass");
}
