//! `imbrik cards`

use crate::harness::{Bench, CARD, wait_for_message};
use std::{fs, process::Stdio};

#[test]
fn cards_lists_partitions_and_volumes() {
    let more = "[[slot]]\nname = \"b\"\nsize = 16000000000\nmodel = \"Willow\"\nread_only = true\n";
    let bench = Bench::with_slot_a("model = \"Sorrel\"", more);
    let run = bench.good("cards");
    run.shows("rack:a  67.6 MB (64.5 MiB) · Sorrel")
        .shows("\n  hive-07\n")
        .shows("HIVE-BOOT")
        .shows("ext4")
        .shows("16 GB (14.9 GiB) · Willow")
        .shows("write-protected");
    let json = bench.good("cards --json").json();
    let card = &json["cards"][0];
    assert_eq!((&card["path"], &card["size"]), (&"rack:a".into(), &CARD.into()));
    assert_eq!(card["content"]["partitions"][1]["volume"]["kind"], "ext4");
    assert_eq!(card["content"]["table"]["id"], "48560007");
    assert_eq!(card["target"], "ready");
    assert_eq!(json["cards"][1]["target"], "refused");
}

#[test]
fn cards_with_equal_ids_are_reported() {
    let bench = Bench::with_card(&format!("[[slot]]\nname = \"b\"\nsize = {CARD}\n"));
    fs::copy(bench.path("rack/a.img"), bench.path("rack/b.img")).unwrap();
    bench.good("cards").says("rack:a and rack:b have the same ids");
}

#[test]
fn watch_ends_with_the_inserted_card() {
    let bench = Bench::with_card("");
    let mut command = bench.command(["cards", "--watch"]);
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    wait_for_message(&mut child, "Put the card in now.");
    let rack = fs::read_to_string(bench.path("rack/rack.toml")).unwrap();
    let new = bench.path("rack/new.toml");
    fs::write(&new, format!("{rack}\n[[slot]]\nname = \"late\"\nsize = 1048576\n")).unwrap();
    fs::rename(new, bench.path("rack/rack.toml")).unwrap();
    let output = child.wait_with_output().unwrap();
    let shown = String::from_utf8(output.stdout).unwrap();
    assert!(output.status.success());
    assert!(shown.contains("rack:late") && !shown.contains("rack:a"), "{shown}");
}

#[test]
fn interrupt_ends_the_wait() {
    let bench = Bench::with_card("");
    bench.interrupted("cards --watch", || true).expect(130);
}

#[test]
fn invalid_rack_is_reported_with_its_line() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\n");
    bench.imbrik("cards").expect(2).says("rack.toml").says("missing field `size`");
    bench.imbrik("cards --rack nowhere").expect(1).says("nowhere/rack.toml").says("imbrik demo");
}
