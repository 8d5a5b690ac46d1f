//! On a terminal: questions that are answered, refused, interrupted and hung up on.

use crate::harness::{Bench, Run, all_are};
use std::{fs, os::unix::ffi::OsStrExt, process::Command, thread, time::Duration};

const SLOT: &str = "[[slot]]\nname = \"b\"\nsize = 80000000\nwrite_rate = 4000000\n";

fn bench() -> Bench {
    let bench = Bench::with_card(SLOT);
    bench.good("save rack:a hive.img.zst");
    bench
}

/// Sends a signal to the program that runs in the folder of `bench`.
fn signal(bench: &Bench, signal: &str) {
    let folder = bench.path("").canonicalize().unwrap();
    for process in fs::read_dir("/proc").unwrap().flatten() {
        let at = process.path();
        let is_ours = fs::read_link(at.join("cwd")).is_ok_and(|cwd| cwd == folder)
            && fs::read_link(at.join("exe"))
                .is_ok_and(|exe| exe.as_os_str().as_bytes().ends_with(b"/imbrik"));
        if is_ours {
            let pid = process.file_name();
            assert!(Command::new("kill").arg(signal).arg(pid).status().unwrap().success());
        }
    }
}

fn is_untouched(bench: &Bench, run: &Run) {
    assert_eq!(run.code, 130, "{run:?}");
    assert!(run.out_has("imbrik: interrupted."), "{run:?}");
    assert!(run.out_has("Nothing was written."), "{run:?}");
    assert!(!bench.path("rack/b.img").exists() || all_are(&bench.bytes("rack/b.img"), 0));
}

/// Fails if a signal has no effect at a question, or later input is taken for an answer.
#[test]
fn interrupt_ends_a_question_at_once() {
    for interrupt in ["-INT", "-TERM", "-HUP", "typed"] {
        let bench = bench();
        let act = || {
            if interrupt != "typed" {
                signal(&bench, interrupt)
            }
        };
        let typed = if interrupt == "typed" { "\u{3}" } else { "" };
        let run = bench.in_dialogue("restore hive.img.zst rack:b", &[("Type", &act, typed)]);
        is_untouched(&bench, &run);
        // The word that would confirm it comes too late.
        let late = format!("{typed}80MB\n80 MB\n");
        let run = bench.in_dialogue("restore hive.img.zst rack:b", &[("Type", &act, &late)]);
        is_untouched(&bench, &run);
    }
}

#[test]
fn swap_question_reports_progress() {
    let bench = bench();
    let steps: [(&str, &dyn Fn(), &str); 1] = [("press Enter", &|| {}, "\u{3}")];
    let run = bench.in_dialogue("clone rack:a --swap", &steps);
    assert_eq!(run.code, 130, "{run:?}");
    assert!(run.out_has("No card was written"), "{run:?}");
    let left = fs::read_dir(bench.path("")).unwrap().flatten();
    let left = left.filter(|entry| entry.file_name().as_bytes().starts_with(b"imbrik-"));
    assert_eq!(left.count(), 0, "a temporary image is left");
}

/// Fails if the state of the card is not reported after a second interrupt.
#[test]
fn second_interrupt_reports_the_state_of_the_card() {
    let bench = bench();
    let twice = || {
        thread::sleep(Duration::from_millis(700));
        signal(&bench, "-INT");
        thread::sleep(Duration::from_millis(5));
        signal(&bench, "-INT");
    };
    let words = "restore hive.img.zst rack:b --yes --no-check";
    let run = bench.in_dialogue(words, &[("writing", &twice, "")]);
    assert_eq!(run.code, 130, "{run:?}");
    let told = run.out_has("no partition table");
    assert!(told, "{run:?}");
}

/// Fails if text in a note, a label or a name reaches the terminal unescaped.
#[test]
fn foreign_text_cannot_control_the_terminal() {
    let bench = Bench::with_slot_a("model = \"Willow\\u001b[31m\\u202e\"", "");
    bench.run([
        "save",
        "rack:a",
        "x.img.zst",
        "--note",
        "wet\u{1b}]0;owned\u{7}\u{202e}night\u{9b}2J",
    ]);
    let evil =
        |c: char| c.is_control() && !"\n\r\t".contains(c) || ('\u{202a}'..'\u{202f}').contains(&c);
    for words in
        ["show x.img.zst", "check x.img.zst", "cards", "show x.img.zst --json", "cards --json"]
    {
        let run = bench.imbrik(words);
        let shown = format!("{}{}", run.stdout, run.stderr);
        assert!(!shown.contains(evil), "{words}: {shown:?}");
        let is_json = words.ends_with("--json");
        assert!(shown.contains(if is_json { "\\u202e" } else { "\\u{202e}" }), "{words}: {shown}");
    }
    // Nor does a question, with colours on.
    let steps: [(&str, &dyn Fn(), &str); 1] = [("ype", &|| {}, "no\n")];
    let run = bench.in_dialogue("restore x.img.zst rack:a", &steps);
    assert!(!run.out_has("\u{1b}[31m") && !run.stdout.contains('\u{202e}'), "{run:?}");
}
