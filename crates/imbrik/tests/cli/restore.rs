//! `imbrik restore`

use crate::harness::{Bench, CARD, all_are, flip, noise, put, sized, tool};
use std::{fs, path::Path};

/// A bench with an image of the card and a slot `b` of `size`, full of stale bytes.
fn with_target(size: u64, about: &str) -> Bench {
    let bench = Bench::with_card(&format!("[[slot]]\nname = \"b\"\nsize = {size}\n{about}\n"));
    bench.good("save rack:a hive.img.zst --no-check --exact");
    fs::write(bench.path("rack/b.img"), vec![0xee; usize::try_from(size).unwrap()]).unwrap();
    bench
}

fn is_stale(bench: &Bench) -> bool {
    all_are(&bench.bytes("rack/b.img"), 0xee)
}

#[test]
fn restore_to_an_equal_size_is_identical() {
    let bench = with_target(CARD, "");
    let run = bench.good("restore hive.img.zst rack:b --yes");
    run.shows("safe to take the card out").shows("choose Cancel").says("3 of 3: reading back");
    assert!(bench.bytes("rack/b.img") == bench.bytes("rack/a.img"));
}

#[test]
fn restore_to_a_bigger_card_leaves_no_stale_byte() {
    let bench = with_target(CARD + (9 << 20), "");
    let run = bench.good("restore hive.img.zst rack:b --yes --json");
    let (card, source) = (bench.bytes("rack/b.img"), bench.bytes("rack/a.img"));
    assert!(card[..source.len()] == source);
    assert!(all_are(&card[source.len()..][..8 << 20], 0xee), "left as it was");
    assert!(all_are(&card[card.len() - (1 << 20)..], 0), "no old backup table");
    let done = run.json();
    for name in ["card_size", "card_bytes_read", "card_bytes_written", "image_bytes", "seconds"] {
        assert!(done[name].is_number(), "{name} in {done}");
    }
    bench.good("check hive.img.zst --against rack:b");
}

#[test]
fn card_one_sector_too_small_is_refused_with_figures() {
    let last = 34816 * 512 + 96256 * 512;
    let bench = with_target(last - 512, "");
    bench
        .imbrik("restore hive.img.zst rack:b --yes --keep-size")
        .expect(5)
        .says("512 bytes too small");
    assert!(is_stale(&bench));
    let fits = with_target(last, "");
    fits.good("restore hive.img.zst rack:b --yes").shows("left out");
    assert!(fits.bytes("rack/b.img") == fits.bytes("rack/a.img")[..last as usize]);
}

#[test]
fn nothing_is_written_without_a_confirmation() {
    let bench = with_target(CARD, "");
    bench.imbrik("restore hive.img.zst rack:b").expect(4).says("there is no terminal to ask on");
    bench.good("restore hive.img.zst rack:b --plan").shows("Afterwards").shows("hive-07");
    bench.imbrik("restore hive.img.zst rack:b --json").expect(4);
    let wrong = bench.on_terminal("restore hive.img.zst rack:b", "yes\n");
    assert_eq!(wrong.code, 4, "{wrong:#?}");
    assert!(wrong.out_has("its size, 67.6 MB"), "{}", wrong.stdout);
    assert!(is_stale(&bench));
    bench.on_terminal("restore hive.img.zst rack:b", "67.6mb\n").expect(0);
    let again = bench.on_terminal("restore hive.img.zst rack:b", "HIVE-07\n").expect(0);
    assert!(again.out_has("its host name, hive-07"), "{}", again.stdout);
}

#[test]
fn protected_target_is_refused() {
    let cases = [
        ("read_only = true", "write-protected"),
        ("mounted_at = [\"/media/x\"]", "is mounted at /media/x"),
        ("mounted_at = [\"/\"]", "the running system is on it"),
        ("mounted_at = [\"/boot/efi\"]", "the running system is on it"),
    ];
    for (about, words) in cases {
        let bench = with_target(CARD, about);
        bench.imbrik("restore hive.img.zst rack:b --yes").expect(4).says(words);
        bench.imbrik("restore hive.img.zst rack:b --yes --allow-fixed").expect(4);
        assert!(is_stale(&bench), "{about}");
    }
    let bench = with_target(CARD, "mounted_at = [\"/media/x\"]");
    bench.good("restore hive.img.zst rack:b --yes --unmount").says("Unmounted /media/x");
}

#[test]
fn damaged_image_is_detected_before_writing() {
    let bench = with_target(CARD, "");
    let whole = bench.bytes("hive.img.zst");
    for at in [1_000_000, whole.len() - 1_000_000] {
        flip(&bench.path("hive.img.zst"), at as u64);
        let run = bench.imbrik("restore hive.img.zst rack:b --yes").expect(3);
        run.says("the image is damaged").says("Nothing was written");
        flip(&bench.path("hive.img.zst"), at as u64);
    }
    fs::write(bench.path("hive.img.zst"), &whole[..whole.len() / 2]).unwrap();
    bench.imbrik("restore hive.img.zst rack:b --yes").expect(3).says("truncated");
    fs::write(bench.path("hive.img.zst"), "").unwrap();
    bench.imbrik("restore hive.img.zst rack:b --yes").expect(3).says("is empty");
    fs::write(bench.path("hive.img.zst"), noise(1 << 20)).unwrap();
    bench.imbrik("restore hive.img.zst rack:b --yes").expect(4).says("no known content");
    assert!(is_stale(&bench));
    bench.good("restore hive.img.zst rack:b --yes --as-is");
}

#[test]
fn damage_found_only_while_writing_leaves_no_table() {
    let bench = with_target(CARD, "");
    bench.good("save rack:a hive.img --exact --no-check");
    flip(&bench.path("hive.img"), 2_000_000);
    let run = bench.imbrik("restore hive.img rack:b --yes --no-check").expect(3);
    run.says("the image is damaged").says("Nothing was written");
    assert!(is_stale(&bench));
    flip(&bench.path("hive.img"), 2_000_000);
    flip(&bench.path("hive.img"), 30_000_000);
    let run = bench.imbrik("restore hive.img rack:b --yes --no-check").expect(3);
    run.says("the image is damaged").says("no partition table");
    assert!(all_are(&bench.bytes("rack/b.img")[..1 << 20], 0));
}

#[test]
fn card_with_less_capacity_than_claimed_is_detected() {
    let bench = with_target(CARD, "wraps_at = 33554432");
    bench
        .imbrik("restore hive.img.zst rack:b --yes")
        .expect(3)
        .says("did not keep the written data")
        .says("cannot be relied on");
    // All of it is data: later data overwrite the start.
    fs::write(bench.path("noise.img"), noise(CARD as usize)).unwrap();
    bench
        .imbrik("restore noise.img rack:b --as-is --yes")
        .expect(3)
        .says("Its addresses wrap around at 33.6 MB (32 MiB)")
        .says("imbrik weigh");
}

#[test]
fn removed_card_or_interrupt_leaves_no_table() {
    let bench = with_target(CARD, "pulled_after = 40000000");
    let run = bench.imbrik("restore hive.img.zst rack:b --yes").expect(1);
    run.says("does not answer").says("no partition table");
    assert!(all_are(&bench.bytes("rack/b.img")[..1 << 20], 0));
    let slow = with_target(CARD, "write_rate = 20000000");
    let card = slow.path("rack/b.img");
    let begun = || fs::read(&card).unwrap()[5 << 20..6 << 20].iter().any(|byte| *byte != 0xee);
    let run = slow.interrupted("restore hive.img.zst rack:b --yes", begun).expect(130);
    run.says("no partition table").says("Restore once more");
    assert!(all_are(&slow.bytes("rack/b.img")[..1 << 20], 0));
    slow.good("restore hive.img.zst rack:b --yes --no-check");
    assert!(slow.bytes("rack/b.img") == slow.bytes("rack/a.img"));
}

#[test]
fn source_as_target_is_refused() {
    let bench = with_target(CARD, "");
    bench.imbrik("restore rack:b hive.img.zst --yes").expect(2).says("a card is needed here");
    bench.imbrik("restore hive.img.zst hive.img.zst --yes").expect(2).says("(an image)");
    bench.imbrik("restore rack/a.img rack:b --yes").expect(2).says("file of a slot");
    bench.imbrik("restore hive.img.zst").expect(2);
    assert!(is_stale(&bench));
}

#[test]
fn image_shorter_than_its_table_is_refused_with_figures() {
    let bench = with_target(CARD, "");
    fs::write(bench.path("short.img"), &bench.bytes("rack/a.img")[..50_000_000]).unwrap();
    bench
        .imbrik("restore short.img rack:b --yes")
        .expect(4)
        .says("the image is truncated")
        .says("17.1 MB (17108864 bytes) are missing");
    assert!(is_stale(&bench));
}

#[test]
fn partition_table_at_an_offset_requires_a_choice() {
    let bench = with_target(CARD, "");
    let mut prefaced = noise(4096);
    prefaced.extend(bench.bytes("rack/a.img"));
    fs::write(bench.path("odd.img"), prefaced).unwrap();
    bench.imbrik("restore odd.img rack:b --yes").expect(4).says("--starts-at 4096");
    assert!(is_stale(&bench));
    bench.good("restore odd.img rack:b --yes --wipe --starts-at 4096");
    assert!(bench.bytes("rack/b.img") == bench.bytes("rack/a.img"));
}

/// A GPT card of 32 MiB with two partitions, created by the system's own tool.
fn gpt_image(path: &Path) {
    sized(path, 32 << 20);
    tool!("sgdisk", "-n1:2048:+8M", "-n2:0:+8M", "-c1:boot", "-t1:ef00", path);
    put(path, 2048 * 512, &noise(100_000));
}

#[test]
fn gpt_backup_is_moved_to_the_end_of_the_card() {
    let (small, same, big) = (32 << 20, 32 << 20, (48 << 20) + 512);
    let slots = format!(
        "[[slot]]\nname = \"b\"\nsize = {same}\n[[slot]]\nname = \"c\"\nsize = {big}\n\
         [[slot]]\nname = \"d\"\nsize = {}\n",
        small - (8 << 20)
    );
    let bench = Bench::with_card(&slots);
    gpt_image(&bench.path("gpt.img"));
    let before = bench.bytes("gpt.img");
    bench.good("restore gpt.img rack:b --yes");
    assert!(bench.bytes("rack/b.img") == before);
    for (slot, size) in [("c", big), ("d", small - (8 << 20))] {
        bench.good(&format!("restore gpt.img rack:{slot} --yes --verbose")).shows("backup GPT");
        let card = bench.path(format!("rack/{slot}.img"));
        let verdict = tool!("sgdisk", "-v", card);
        assert!(verdict.contains("No problems found"), "{verdict}");
        tool!("sfdisk", "--verify", card);
        let after = bench.bytes(format!("rack/{slot}.img"));
        assert_eq!(after.len() as u64, size);
        let parts = 2048 * 512..(2048 + 2 * 16384) * 512;
        assert!(after[parts.clone()] == before[parts]);
        bench.good(&format!("check gpt.img --against rack:{slot}"));
    }
}

#[test]
fn table_for_another_sector_size_is_refused() {
    let bench = with_target(CARD, "sector_size = 4096");
    bench.imbrik("restore hive.img.zst rack:b --yes").expect(1).says("sectors of 4096 bytes");
    assert!(is_stale(&bench));
}

/// A card of `size` bytes full of old bytes in slot `b`.
fn with_bigger(size: u64, table: &str) -> Bench {
    let bench = Bench::with_card(&format!("[[slot]]\nname = \"b\"\nsize = {size}\n"));
    if table == "gpt" {
        let line = "label: gpt\nstart=2048,size=32768,type=U\nstart=34816,size=90000,type=L\n";
        let card = bench.path("rack/a.img");
        let bytes = fs::read(&card).unwrap();
        fs::write(bench.path("table"), line).unwrap();
        let script = format!(
            "truncate -s {CARD} {0} && sfdisk -q {0} < {1}",
            card.display(),
            bench.path("table").display()
        );
        tool!("sh", "-c", script);
        put(&card, 2048 * 512, &bytes[2048 * 512..34816 * 512]);
        let ext = bench.path("ext");
        crate::harness::sized(&ext, 90000 * 512);
        tool!("mkfs.ext4", "-q", "-L", "hive-07", ext);
        put(&card, 34816 * 512, &fs::read(&ext).unwrap());
    }
    fs::write(bench.path("rack/b.img"), vec![0xee; size as usize]).unwrap();
    bench.good("save rack:a hive.img.zst");
    bench
}

#[test]
fn the_last_volume_fills_a_bigger_card() {
    for table in ["mbr", "gpt"] {
        let size = CARD * 3 + 512 * 7;
        let bench = with_bigger(size, table);
        let plan = bench.good("restore hive.img.zst rack:b --plan --keep-size");
        assert!(!plan.out_has("grows from") && !plan.out_has("--fill"));
        // The image records that it filled its card; its content alone doesn't show that.
        let plan = bench.good("restore hive.img.zst rack:b --plan");
        plan.shows("grows from");
        fs::copy(bench.path("rack/a.img"), bench.path("plain.img")).unwrap();
        bench.good("restore plain.img rack:b --plan").shows("with --fill");
        bench.good("restore plain.img rack:b --plan --fill").shows("grows from");
        bench.good("restore hive.img.zst rack:b --yes");
        bench.good("check hive.img.zst --against rack:b");
        let card = bench.path("rack/b.img");
        tool!("sfdisk", "--verify", card);
        if table == "gpt" {
            assert!(tool!("sgdisk", "-v", card).contains("No problems found"));
        }
        let bytes = fs::read(&card).unwrap();
        let shown = bench.good("show rack:b --json").json();
        let part = &shown["content"]["partitions"][1];
        let (start, len) = (part["start"].as_u64().unwrap(), part["size"].as_u64().unwrap());
        assert!(start + len > size - (2 << 20), "{table}: {part}");
        assert!(part["volume"]["size"].as_u64().unwrap() > len - (1 << 20), "{table}: {part}");
        fs::write(bench.path("ext"), &bytes[start as usize..(start + len) as usize]).unwrap();
        tool!("e2fsck", "-fn", bench.path("ext"));
        // The gap before it is unchanged, and so is the first volume.
        let before = bench.bytes("rack/a.img");
        assert!(bytes[512 * 64..2048 * 512] == before[512 * 64..2048 * 512], "{table}");
        fs::write(bench.path("fat"), &bytes[2048 * 512..34816 * 512]).unwrap();
        tool!("fsck.fat", "-n", bench.path("fat"));
    }
}

#[test]
fn fill_is_refused_with_a_reason_where_it_is_impossible() {
    let bench = with_bigger(CARD * 2, "mbr");
    let before = bench.bytes("rack/b.img");
    bench.good("save rack:a exact.img.zst --exact");
    bench.imbrik("restore exact.img.zst rack:b --fill --yes").expect(4).says("kept byte for byte");
    bench.good("restore hive.img.zst rack:a --fill --yes").says("nothing to fill");
    assert!(bench.bytes("rack/b.img") == before);
}

#[test]
fn a_smaller_card_is_used_when_the_data_fit() {
    let last = (34816 + 96256) * 512;
    for (size, fits) in [(last - 512, true), (CARD / 2, true), (CARD / 6, false)] {
        let bench = Bench::with_card(&format!("[[slot]]\nname = \"b\"\nsize = {size}\n"));
        fs::write(bench.path("rack/b.img"), vec![0xee; size as usize]).unwrap();
        bench.good("save rack:a hive.img.zst");
        let run = bench.imbrik("restore hive.img.zst rack:b --yes");
        if !fits {
            run.expect(5).says("too small: ").says("Nothing was written");
            assert!(all_are(&bench.bytes("rack/b.img"), 0xee));
            continue;
        }
        run.expect(0).shows("shrinks from");
        bench.good("check hive.img.zst --against rack:b");
        let card = bench.path("rack/b.img");
        tool!("sfdisk", "--verify", card);
        let bytes = fs::read(&card).unwrap();
        fs::write(bench.path("ext"), &bytes[34816 * 512..]).unwrap();
        tool!("e2fsck", "-fn", bench.path("ext"));
        let readings = tool!("debugfs", "-R", "stat /readings", bench.path("ext"));
        assert!(readings.contains("Size: 3145728"), "{readings}");
        // An exact image is not changed.
        bench.good("save rack:a exact.img.zst --exact");
        bench.imbrik("restore exact.img.zst rack:b --yes").expect(5).says("too small");
    }
}
