//! `imbrik wipe`

use crate::harness::{Bench, all_are, interrupt, noise, sized};
use std::{fs, process::Stdio, thread, time::Duration};

const SIZE: usize = 64 << 20;

/// A rack whose only card `a` is full of noise.
fn full(about: &str) -> Bench {
    let bench = Bench::with_slot_a(about, "");
    fs::write(bench.path("rack/a.img"), noise(SIZE)).unwrap();
    bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {SIZE}\n{about}\n"));
    bench
}

/// Fails when a byte of the card survives, when less is read back than claimed, or when a plan writes.
#[test]
fn wiped_card_has_only_zeros() {
    let bench = full("");
    let before = bench.bytes("rack/a.img");
    bench.good("wipe rack:a --plan").shows("every sector becomes zeros").shows("unknown data");
    bench.imbrik("wipe rack:a").expect(4).says("add --yes");
    bench.on_terminal("wipe rack:a", "hive-99\n").expect(4);
    assert!(bench.bytes("rack/a.img") == before);
    let done = bench.good("wipe rack:a --yes --json").json();
    assert_eq!(done["result"], "done");
    assert_eq!(done["read_back"], true);
    assert_eq!(done["card_bytes_written"], (SIZE + 512 + (1 << 20) - 512) as u64);
    let card = bench.bytes("rack/a.img");
    assert!(card.len() == SIZE && all_are(&card, 0));
    bench.good("wipe rack:a --yes").shows("zero already").shows("Safe to remove");
    bench.good("show rack:a").shows("blank");
    bench.good("wipe rack:a --yes --no-check").shows("Verified  no (--no-check)");
}

/// Fails when a card is wiped that may not be written, or when a bad or missing one causes a panic.
#[test]
fn bad_and_protected_cards_are_reported() {
    let bench = full("");
    bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {SIZE}\nread_only = true\n"));
    bench.imbrik("wipe rack:a --yes").expect(4);
    bench.imbrik("wipe rack:b --yes").expect(2);
    bench.imbrik("wipe rack/a.img --yes").expect(2);
    let card = bench.bytes("rack/a.img");
    assert!(card == noise(SIZE));
    // Sectors that can't be read back may have kept their data.
    bench.write_rack(&format!(
        "[[slot]]\nname = \"a\"\nsize = {SIZE}\nunreadable = [[1000000, 4096]]\n"
    ));
    let run = bench.imbrik("wipe rack:a --yes").expect(3);
    assert!(run.err_has("could not be read back") && !run.out_has("Verified"), "{run:?}");
    sized(&bench.path("rack/a.img"), 0);
    assert_ne!(bench.imbrik("wipe rack:a --yes").code, 101);
}

/// Fails when a card is unmounted that is not wiped then, or a mounted one is wiped.
#[test]
fn mounted_card_is_unmounted_only_after_the_confirmation() {
    let bench = full("");
    let mounted = "mounted_at = [\"/media/hive\"]";
    bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {SIZE}\n{mounted}\n"));
    bench.imbrik("wipe rack:a --yes").expect(4).says("is mounted at /media/hive");
    bench.good("wipe rack:a --plan").shows("at /media/hive: unmount it, or add --unmount");
    let run = bench.on_terminal("wipe rack:a --unmount", "hive-99\n").expect(4);
    assert!(!run.out_has("Unmounted"), "{run:?}");
    assert!(bench.bytes("rack/a.img") == noise(SIZE));
    let run = bench.imbrik("wipe rack:a --unmount --yes").expect(0);
    assert!(run.err_has("Unmounted /media/hive"), "{run:?}");
    assert!(all_are(&bench.bytes("rack/a.img"), 0));
}

/// Fails when an interrupted wipe leaves a partition table.
#[test]
fn interrupted_wipe_leaves_no_table() {
    let bench = Bench::with_slot_a("write_rate = 20000000", "");
    let mut command = bench.command(["wipe", "rack:a", "--yes"]);
    command.stdout(Stdio::null()).stderr(Stdio::piped());
    let child = command.spawn().unwrap();
    thread::sleep(Duration::from_millis(600));
    interrupt(&child);
    let output = child.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    match output.status.code() {
        Some(130) => assert!(said.contains("rack:a"), "{said}"),
        // The small card was done before.
        code => assert_eq!(code, Some(0), "{said}"),
    }
    let card = bench.bytes("rack/a.img");
    assert!(all_are(&card[..512], 0) || said.contains("Nothing was written"), "{said}");
}
