//! The program killed at random times, as by `kill -9` or a power loss.
//!
//! `IMBRIK_KILLS=n` ends each command n times; without it, a few times.

use crate::harness::{Bench, CARD, all_are};
use serde_json::json;
use std::{
    fs,
    process::Stdio,
    thread,
    time::{Duration, Instant},
};

/// Runs a command and kills it after `after`; returns whether it had ended before.
fn killed(bench: &Bench, words: &str, after: Duration) -> bool {
    let mut command = bench.command(words.split(' '));
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let started = Instant::now();
    while started.elapsed() < after {
        if child.try_wait().unwrap().is_some() {
            return true;
        }
        thread::sleep(Duration::from_millis(1));
    }
    let is_over = child.try_wait().unwrap().is_some();
    let _ = child.kill();
    child.wait().unwrap();
    is_over
}

fn raw(bench: &Bench, image: &str) -> Vec<u8> {
    bench.good(&format!("repack {image} raw.img --replace"));
    bench.bytes("raw.img")
}

/// Fails if an incomplete image has its final name, a resumed save differs from an uninterrupted one, or an incomplete
/// card looks complete.
#[test]
#[ignore = "long: run by ./test --full"]
fn killed_run_leaves_a_complete_image_or_none_and_a_complete_card_or_no_table() {
    let kills: u64 =
        std::env::var("IMBRIK_KILLS").map_or(3, |count| count.parse().expect("a number"));
    let bench = Bench::with_card(&format!("[[slot]]\nname = \"b\"\nsize = {CARD}\n"));
    let slots = |a: &str| {
        let b = format!("[[slot]]\nname = \"b\"\nsize = {CARD}\n");
        bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {CARD}\n{a}\n{b}"));
    };
    slots(&format!("unreadable = {}", json!([[2 << 20, 8_192], [20 << 20, 512]])));
    bench.imbrik("save rack:a lacking.img.zst --exact").expect(6);
    let shortfall = bench.bytes("lacking.img.zst");
    let lacks = raw(&bench, "lacking.img.zst");
    slots("");
    bench.good("save rack:a direct.img.zst --exact");
    bench.good("fit direct.img.zst fitted.img.zst");
    let card = bench.bytes("rack/a.img");
    let fitted = raw(&bench, "fitted.img.zst");
    // The permitted content under the name afterwards, besides none.
    let cases: [(&str, &str, &[&Vec<u8>]); 5] = [
        ("save rack:a new.img.zst --exact --resume", "new.img.zst", &[&card]),
        ("fit direct.img.zst new.img.zst", "new.img.zst", &[&fitted]),
        ("repack direct.img.zst new.img.gz", "new.img.gz", &[&card]),
        ("mend lacking.img.zst rack:a", "lacking.img.zst", &[&lacks, &card]),
        ("restore direct.img.zst rack:b --yes", "", &[]),
    ];
    let mut ended = [0u64; 2];
    for (command, name, right) in cases {
        let forget = || {
            for beside in ["", ".sha256", ".part", ".part.notes"] {
                let _ = fs::remove_file(bench.path(format!("{name}{beside}")));
            }
            if name == "lacking.img.zst" {
                fs::write(bench.path(name), &shortfall).unwrap();
            }
            fs::write(bench.path("rack/b.img"), vec![0xee; CARD as usize]).unwrap();
        };
        forget();
        let started = Instant::now();
        bench.good(command);
        let mut all = started.elapsed();
        for kill in 0..kills {
            // A save is resumed; other commands start from scratch.
            if !command.starts_with("save") || kill % 3 == 0 {
                forget();
            }
            // Spread over its time, and never at the same place of it.
            let part =
                (kill as f64 + 0.37) / kills as f64 + 0.11 * (kill % 7) as f64 / kills as f64;
            let after = all.mul_f64(part);
            let is_over = killed(&bench, command, after);
            ended[usize::from(is_over)] += 1;
            if is_over {
                // It took longer when it was timed.
                all = all.min(after).mul_f64(0.8);
            }
            if name.is_empty() {
                let now = bench.bytes("rack/b.img");
                let is_untouched = all_are(&now, 0xee);
                assert!(is_untouched || all_are(&now[..512], 0) || now == card, "{command} {part}");
            } else if bench.path(name).exists() {
                bench.good(&format!("check {name}"));
                let found = raw(&bench, name);
                assert!(right.iter().any(|right| found == **right), "{command} {part}");
            }
        }
        if command.starts_with("save") {
            if !bench.path(name).exists() {
                bench.good(command);
            }
            assert!(raw(&bench, name) == card, "what was gone on with is something else");
        }
    }
    println!("{} were ended, {} ended before", ended[0], ended[1]);
    assert!(ended[0] > 0 && ended[0] >= ended[1], "{ended:?}");
}
