//! `--wait`: a card that is removed during the run, and inserted again.

use crate::harness::{Bench, CARD, Run, noise, put};
use std::{
    fs,
    io::{BufRead, BufReader, Read},
    process::Stdio,
};

const SAVE: &str = "save rack:a new.img.zst --exact";

fn slot(name: &str, file: &str, lines: &str) -> String {
    format!("[[slot]]\nname = \"{name}\"\nsize = {CARD}\nfile = \"{file}\"\n{lines}\n")
}

/// Runs a command, and does something once it waits for the card.
fn meanwhile(bench: &Bench, words: &str, once_it_waits: &dyn Fn()) -> Run {
    let mut command = bench.command(words.split(' '));
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut told = BufReader::new(child.stderr.take().unwrap());
    let (mut stderr, mut has_waited) = (String::new(), false);
    while told.read_line(&mut stderr).unwrap() > 0 {
        if !has_waited && stderr.contains("waiting for the card to come back") {
            has_waited = true;
            once_it_waits();
        }
    }
    let mut stdout = String::new();
    child.stdout.take().unwrap().read_to_string(&mut stdout).unwrap();
    let code = child.wait().unwrap().code().unwrap();
    assert!(has_waited, "it did not wait: {stderr}");
    Run { code, stdout, stderr }
}

fn a_bench() -> Bench {
    let bench = Bench::with_card("");
    put(&bench.path("rack/a.img"), 40 << 20, &noise(20 << 20));
    bench.write_rack(&slot("a", "a.img", ""));
    bench
}

/// Fails if saved data are lost or read again, or the image mixes two cards.
#[test]
fn save_resumes_when_the_card_returns_under_another_name() {
    let bench = a_bench();
    bench.write_rack(&slot("a", "a.img", "pulled_after = 50000000"));
    let back = || bench.write_rack(&slot("elsewhere", "a.img", ""));
    let run = meanwhile(&bench, &format!("{SAVE} --wait=60s --json"), &back).expect(0);
    let resumed = run.json()["resumed_bytes"].as_u64().unwrap();
    assert!(resumed > 30 << 20, "{resumed}");
    bench.good("check new.img.zst --against rack:elsewhere");
}

/// Fails if another card is taken for the removed one.
#[test]
fn wait_rejects_a_different_card_of_the_same_size() {
    let bench = a_bench();
    fs::copy(bench.path("rack/a.img"), bench.path("rack/other.img")).unwrap();
    // The identifier of the table, by which the two differ.
    put(&bench.path("rack/other.img"), 440, b"oak!");
    bench.write_rack(&slot("a", "a.img", "pulled_after = 50000000"));
    let other = || bench.write_rack(&slot("a", "other.img", ""));
    let run = meanwhile(&bench, &format!("{SAVE} --wait=2s"), &other).expect(1);
    run.says("does not answer").says("--resume");
    assert!(bench.path("new.img.zst.part").exists() && !bench.path("new.img.zst").exists());
    // Without a wait, it is reported at once, and the data saved so far are kept.
    bench.write_rack(&slot("a", "a.img", ""));
    bench.good(&format!("{SAVE} --resume"));
}

/// Fails if a card is written from its start again, or another card is written.
#[test]
fn restore_resumes_only_on_the_same_card() {
    let bench = a_bench();
    bench.good("save rack:a old.img.zst --exact");
    let source = slot("a", "a.img", "");
    let stale = || fs::write(bench.path("rack/b.img"), vec![0xee; CARD as usize]).unwrap();
    stale();
    let pulled = format!("{source}{}", slot("b", "b.img", "pulled_after = 60000000"));
    bench.write_rack(&pulled);
    let back = || bench.write_rack(&format!("{source}{}", slot("c", "b.img", "")));
    let words = "restore old.img.zst rack:b --yes --wait=60s --json";
    let run = meanwhile(&bench, words, &back).expect(0);
    let done = run.stdout.lines().last().unwrap();
    let done: serde_json::Value = serde_json::from_str(done).unwrap();
    assert_eq!(done["card"], "rack:c");
    assert!(done["card_bytes_found"].as_u64().unwrap() > 10 << 20, "{done}");
    assert!(bench.bytes("rack/b.img") == bench.bytes("rack/a.img"));

    // Another card of that size, full of something else, and a blank one.
    for filler in [0xdd, 0] {
        stale();
        fs::write(bench.path("rack/d.img"), vec![filler; CARD as usize]).unwrap();
        bench.write_rack(&pulled);
        let other = || bench.write_rack(&format!("{source}{}", slot("b", "d.img", "")));
        let words = "restore old.img.zst rack:b --yes --wait=2s";
        meanwhile(&bench, words, &other).expect(1).says("no partition table");
        assert!(bench.bytes("rack/d.img").iter().all(|byte| *byte == filler));
    }
}

/// Fails if a card that keeps disappearing at the same place is waited for forever.
#[test]
fn card_that_keeps_disappearing_is_abandoned() {
    let bench = a_bench();
    bench.good("save rack:a old.img.zst --exact");
    fs::write(bench.path("rack/b.img"), vec![0xee; CARD as usize]).unwrap();
    let pulled = slot("b", "b.img", "pulled_after = 12000000");
    bench.write_rack(&format!("{}{pulled}", slot("a", "a.img", "")));
    bench
        .imbrik("restore old.img.zst rack:b --yes --wait=20s")
        .expect(1)
        .says("no partition table");
}
