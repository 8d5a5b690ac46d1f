//! Saving and restoring a single partition; and writing only differences.

use crate::harness::{Bench, CARD, noise, put, tool};
use std::fs;

fn bench() -> Bench {
    let bench = Bench::with_card(&format!("[[slot]]\nname = \"b\"\nsize = {CARD}\n"));
    fs::copy(bench.path("rack/a.img"), bench.path("rack/b.img")).unwrap();
    bench
}

#[test]
fn single_partition_is_saved_and_restored() {
    let bench = bench();
    let before = bench.bytes("rack/b.img");
    let run =
        bench.good("save rack:a boot.img --only HIVE-BOOT --exact --note kernel --json").json();
    assert_eq!(run["card_size"], 32768 * 512);
    assert!(run["next"].as_str().unwrap().ends_with("CARD --into 1"), "{run}");
    assert!(bench.bytes("boot.img") == before[2048 * 512..34816 * 512]);
    bench.good("show boot.img").shows("the image of partition 1 alone").shows(": kernel");
    // The place has other content now.
    put(&bench.path("rack/b.img"), 2048 * 512, &noise(32768 * 512));
    bench.imbrik("restore boot.img rack:b --into 3 --yes").expect(2).says("has no partition 3");
    bench
        .imbrik("restore boot.img rack:b --into 1")
        .expect(4)
        .says("there is no terminal to ask on");
    let run = bench.good("restore boot.img rack:b --into 1 --yes");
    run.shows("partition 1 of rack:b now holds");
    assert!(bench.bytes("rack/b.img") == before);
}

/// Fails when anything but the partition is written, or the partition of another number.
#[test]
fn partition_of_a_whole_image_is_restored() {
    let bench = bench();
    let before = bench.bytes("rack/b.img");
    bench.good("save rack:a whole.img.zst");
    put(&bench.path("rack/b.img"), 2048 * 512, &noise(32768 * 512));
    put(&bench.path("rack/b.img"), 34816 * 512, &noise(4096));
    let restore = "restore whole.img.zst rack:b --only HIVE-BOOT";
    bench.good(&format!("{restore} --plan")).shows("partition 1");
    let run = bench.good(&format!("{restore} --yes"));
    run.shows("partition 1 of rack:b now holds").says("checking every tile");
    let after = bench.bytes("rack/b.img");
    assert!(after[..2048 * 512] == before[..2048 * 512], "the table is as it was");
    assert!(after[34816 * 512..][..4096] == noise(4096), "the other partition is as it was");
    tool!(
        "sh",
        "-c",
        "tail -c +1048577 $0 | head -c 16777216 >$1; fsck.fat -n $1",
        bench.path("rack/b.img"),
        bench.path("fat")
    );
    // The other one doesn't fit into the first.
    let run = bench.imbrik("restore whole.img.zst rack:b --only 2 --into 1 --yes").expect(5);
    run.says("too small");
    bench.imbrik("restore whole.img.zst rack:b --only 7 --yes").expect(2).says("no partition 7");
    // An image of one volume has no number that a partition of the card could have.
    bench.good("save rack:a ext.img.zst --only hive-07");
    let run = bench.imbrik("restore ext.img.zst rack:b --only hive-07 --yes").expect(2);
    run.says("has no partition number");
    let run = bench.imbrik("restore whole.img.zst rack:b rack:a --only 1 --yes").expect(2);
    run.says("to one card at a time");
    assert!(bench.bytes("rack/b.img") == after);
    bench.good("restore whole.img.zst rack:b --only 2 --yes");
    bench.good("check whole.img.zst --against rack:b");
}

/// Fails when a volume that stays as it is is said to grow, or to be full, in a longer partition.
#[test]
fn volume_in_a_longer_partition_keeps_its_size_and_free_space() {
    let size = CARD * 3;
    let bench = Bench::with_card(&format!("[[slot]]\nname = \"b\"\nsize = {size}\n"));
    bench.good("save rack:a whole.img.zst");
    let grown = bench.good("restore whole.img.zst rack:b --yes");
    assert!(grown.out_has("grows from"), "{}", grown.stdout);
    let plan = bench.good("restore whole.img.zst rack:b --only 2 --plan");
    assert!(!plan.out_has("grows") && !plan.out_has("no free space"), "{}", plan.stdout);
    plan.shows("are left unchanged");
    bench.good("restore whole.img.zst rack:b --only 2 --yes");
    let line = "tail -c +17825793 $0 >$1; e2fsck -fn $1";
    tool!("sh", "-c", line, bench.path("rack/b.img"), bench.path("ext"));
}

#[test]
fn proposed_name_contains_the_partition() {
    let bench = bench();
    bench.good("save rack:a . --only 1");
    let names = bench.list("");
    let name = names.iter().map(|name| name.to_string_lossy()).find(|name| name.contains("hive"));
    assert!(name.is_some_and(|name| name.starts_with("hive-07-hive-boot-2")), "{names:?}");
}

#[test]
fn image_unsuitable_for_a_partition_is_refused() {
    let bench = bench();
    let before = bench.bytes("rack/b.img");
    bench.good("save rack:a whole.img.zst");
    bench.good("save rack:a ext.img.zst --only hive-07");
    bench.imbrik("restore whole.img.zst rack:b --into 1 --yes").expect(4).says("of a whole card");
    let run = bench.imbrik("restore ext.img.zst rack:b --into 1 --yes").expect(5);
    run.says("the partition is 32.5 MB (32505856 bytes) too small");
    assert!(bench.bytes("rack/b.img") == before);
    // Without a place it is a volume on a bare card.
    bench.good("restore ext.img.zst rack:b --yes");
    tool!("e2fsck", "-fn", bench.path("rack/b.img"));
    bench.good("show rack:b").shows("one volume on the whole card");
}

#[test]
fn changed_restore_writes_and_counts_only_differences() {
    let bench = bench();
    bench.good("save rack:a x.img.zst");
    put(&bench.path("rack/b.img"), 40_000_000, b"changed");
    let run = bench.good("restore x.img.zst rack:b --yes --differing --json").json();
    let (written, found) =
        (run["card_bytes_written"].as_u64().unwrap(), run["card_bytes_found"].as_u64().unwrap());
    assert!(written < 10 << 20 && found > 2 << 20, "{run}");
    bench.good("check x.img.zst --against rack:b");
    bench.good("restore x.img.zst rack:b --yes --differing").shows("differed and were written");
    bench.imbrik("restore x.img.zst rack:b --yes --differing --wipe").expect(2);
}

#[test]
fn the_volumes_that_differ_are_named() {
    let bench = bench();
    bench.good("save rack:a x.img.zst --exact");
    put(&bench.path("rack/b.img"), 512 * 20, b"loader");
    put(&bench.path("rack/b.img"), 34816 * 512 + 2048, &noise(9000));
    let run = bench.imbrik("check x.img.zst --against rack:b").expect(3);
    let run = run.shows("in unallocated space at byte 0").shows("in partition 2 (ext4, hive-07)");
    assert!(!run.out_has("in partition 1"), "{}", run.stdout);
}

/// Fails when the image of a partition takes a whole card without a word.
#[test]
fn restoring_a_partition_image_to_a_card_warns_first() {
    let bench = bench();
    bench.good("save rack:a part.img.zst --only 2");
    let words = "the image of partition 2 (ext4, hive-07) alone";
    let run = bench.good("restore part.img.zst rack:b --plan");
    run.shows(words).shows("--into 2");
    let run = bench.good("restore part.img.zst rack:b --plan --into 2");
    assert!(!run.out_has(words), "{run:?}");
}
