//! Messages: each error has a state and a next step; and conveniences that avoid errors.

use crate::harness::{
    Bench, CARD, Run, all_are, flip, is_root, put, sized, tool, valid, wait_for_message,
};
use serde_json::Value;
use std::{
    fs,
    path::Path,
    process::{Command, Stdio},
    thread,
    time::Duration,
};

fn slot(name: &str, size: u64, more: &str) -> String {
    format!("[[slot]]\nname = \"{name}\"\nsize = {size}\n{more}\n")
}

fn bench() -> Bench {
    let bench = Bench::with_card(&[slot("b", CARD, ""), slot("c", 2 * CARD, "")].concat());
    bench.good("save rack:a hive.img.zst");
    bench
}

/// All lines of JSON of a run, each valid.
fn objects(run: &Run) -> Vec<Value> {
    let lines: Vec<Value> =
        run.stdout.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    lines.iter().for_each(valid);
    lines
}

/// Each mistake with its exit code, expected text, and text that must not appear.
#[test]
fn usage_errors_say_what_to_do_instead() {
    let bench = bench();
    fs::create_dir(bench.path("images")).unwrap();
    let before = bench.list("");
    let mut hints = 0;
    for (words, code, said, unsaid) in [
        ("restore hive.img.zst rack:c --give-to 7 --plan", 2, "has no partition 7", "sudo"),
        ("restore hive.img.zst rack:c --take-from 5 --plan", 2, "has no partition 5", "sudo"),
        ("fit hive.img.zst x.img.zst --give-to 7", 2, "has no partition 7", "sudo"),
        ("fit hive.img.zst x.img.zst --take-from 7", 2, "has no partition 7", "sudo"),
        (
            "fit hive.img.zst x.img.zst --room 500",
            2,
            "500 has no unit: write 500MB",
            "is not a unit",
        ),
        ("fit hive.img.zst x.img.zst --to 16", 2, "16 has no unit", "is not a unit"),
        (
            "save rack:a newfolder",
            2,
            "write newfolder/; for an image, write newfolder.img.zst",
            "sudo",
        ),
        ("repack hive.img.zst newfolder", 2, "write newfolder/; for an image", "sudo"),
        ("fit hive.img.zst newfolder", 2, "write newfolder/; for an image", "sudo"),
        ("save rack:a missing/newfolder/", 1, "creating the folder missing/newfolder/", "sudo"),
        ("check missing.img", 2, "image missing.img does not exist", "imbrik check"),
        ("restore missing.img rack:b", 2, "image missing.img does not exist", "imbrik check"),
        ("fit missing.img x.img.zst", 2, "image missing.img does not exist", "imbrik check"),
        ("repack missing.img x.img.zst", 2, "does not exist", "imbrik check"),
        ("show missing.img", 2, "called missing.img", "imbrik check"),
        (
            "repack . x.img.zst",
            2,
            "is a folder, not an image. Nothing was done. Name the image in it.",
            "copy",
        ),
        ("save rack:a x.img.zst --also rack:b", 4, "Check the plan with --plan", "sudo"),
        ("fit hive.img.zst x.img.zst --part 1 --room 9TB", 5, "Ask for less room.", "sudo"),
        ("save rack:a /sys/x.img.zst", 5, "/sys has 0 bytes free", "Run it with sudo"),
        ("restore hive.img.zst rack:b --as-new a,b", 2, "2 names are given for 1 card", "sudo"),
        ("restore hive.img.zst rack:b --host x- --yes", 2, "up to 63 letters, digits", "sudo"),
        ("check hive.img.zst --expect xyz", 2, "is not a hash: it has 3 characters", "known"),
        ("verify hive.img.zst", 2, "Use `imbrik check`", "similar"),
        ("write hive.img.zst rack:b", 2, "Use `imbrik restore`", "similar"),
        ("shrink hive.img.zst", 2, "Use `imbrik fit`", "similar"),
        ("hash hive.img.zst", 2, "Use `imbrik check`", "similar"),
        ("list", 2, "Use `imbrik cards`", "similar"),
        ("info rack:a", 2, "Use `imbrik show`", "similar"),
        ("backup rack:a", 2, "Use `imbrik save`", "similar"),
        ("", 2, "`imbrik cards` shows which card is which, `imbrik demo`", "sudo"),
    ] {
        let run = bench.imbrik(words).expect(code).says(said);
        let root = tool!("id", "-u").trim() == "0";
        assert!(!run.err_has(unsaid) || !root, "{words}: {}", run.stderr);
        assert!(!run.err_has("os error") && !run.err_has("?."), "{}", run.stderr);
        assert_eq!(bench.list(""), before, "{words}");
        // What a message suggests can be typed.
        let said = run.stderr.replace('\n', " ").split_whitespace().collect::<Vec<_>>().join(" ");
        for hint in said.split('`').skip(1).step_by(2) {
            let is_complete = hint.starts_with("imbrik ") && !hint.contains('…');
            let has_place = hint
                .split(' ')
                .any(|word| word.len() > 1 && word.bytes().all(|byte| byte.is_ascii_uppercase()));
            if is_complete && !has_place && !hint.ends_with("demo") {
                let code = bench.imbrik(hint.trim_start_matches("imbrik ")).code;
                // A command named without its arguments is explained.
                let is_letter = |byte: u8| byte.is_ascii_lowercase() || byte == b' ';
                let is_name = hint.bytes().all(is_letter);
                assert!(code != 2 || is_name, "{words}: `{hint}`");
                hints += 1;
            }
        }
        // The same for programs, on every exit code.
        let words = format!("{words} --json");
        let told = objects(&bench.imbrik(&words).expect(code));
        assert_eq!(told.last().unwrap()["exit"], code, "{words}");
    }
    assert!(hints > 20, "{hints} hints");
}

#[test]
fn rack_elsewhere_is_named_by_its_full_path() {
    let bench = bench();
    fs::create_dir(bench.path("sub")).unwrap();
    let mut command = bench.command(["cards"]);
    let run = command.current_dir(bench.path("sub")).output().unwrap();
    let said = String::from_utf8_lossy(&run.stderr).replace("\n  ", " ");
    let path = bench.path("sub").canonicalize().unwrap().join("rack");
    assert!(said.contains(path.to_str().unwrap()), "{said}");
    assert!(said.contains("IMBRIK_RACK says rack"), "{said}");
}

#[test]
fn interrupt_is_not_blamed_on_the_card() {
    let bench = bench();
    bench.write_rack(&slot("b", CARD, "write_rate = 3000000"));
    let card = bench.path("rack/b.img");
    let run = bench.interrupted("restore hive.img.zst rack:b --yes", || {
        fs::read(&card).is_ok_and(|bytes| !all_are(&bytes, 0))
    });
    let run = run.expect(130).says("--differing skips data that are already on it");
    assert!(!run.err_has("bad"), "{}", run.stderr);
    sized(&card, 0);
    sized(&card, CARD);
    let run = bench.interrupted("restore hive.img.zst rack:b --yes --json", || {
        fs::read(&card).is_ok_and(|bytes| !all_are(&bytes, 0))
    });
    assert_eq!(objects(&run.expect(130)).last().unwrap()["exit"], 130);
}

#[test]
fn an_image_on_the_card_that_it_would_overwrite_is_refused() {
    let bench = bench();
    let at = bench.path("").canonicalize().unwrap();
    let about = format!("mounted_at = [{:?}]", at.to_str().unwrap());
    bench.write_rack(&slot("b", CARD, &about));
    let image = at.join("hive.img.zst");
    let words = ["restore", image.to_str().unwrap(), "rack:b", "--yes", "--unmount"];
    bench.run(words).expect(4).says("lies on the card itself");
}

#[test]
fn image_problems_are_distinguished() {
    let bench = bench();
    // Its manifest is damaged: it is still not an image of another program.
    let bytes = bench.bytes("hive.img.zst");
    let at = bytes.windows(17).rposition(|window| window == b"{\"imbrik_manifest").unwrap();
    fs::write(bench.path("odd.img.zst"), &bytes).unwrap();
    flip(&bench.path("odd.img.zst"), at as u64);
    let run =
        bench.imbrik("restore odd.img.zst rack:b --plan").shows("its manifest cannot be read");
    assert!(!run.out_has("another program"), "{}", run.stdout);
    // A checksum file that was edited.
    let sum = bench.path("hive.img.zst.sha256");
    let line = fs::read_to_string(&sum).unwrap();
    let other = if line.starts_with('0') { "1" } else { "0" };
    fs::write(&sum, format!("{other}{}", &line[1..])).unwrap();
    bench
        .imbrik("check hive.img.zst")
        .expect(3)
        .shows("hive.img.zst is intact by its own digests; hive.img.zst.sha256 is wrong");
    let told = bench.imbrik("check hive.img.zst --json").expect(3).json();
    assert_eq!((&told["verdict"], &told["checksum_differs"]), (&"intact".into(), &"sha256".into()));
    // Common files that people take for images.
    tool!("tar", "-C", bench.path(""), "-cf", bench.path("x.tar"), "hive.img.zst");
    tool!("tar", "-C", bench.path(""), "-czf", bench.path("x.tar.gz"), "hive.img.zst");
    fs::write(bench.path("page.img.xz"), "<!DOCTYPE html><h1>404</h1>").unwrap();
    for (name, kind) in
        [("x.tar", "a tar archive"), ("x.tar.gz", "a tar archive"), ("page.img.xz", "a web page")]
    {
        bench.imbrik(&format!("check {name}")).expect(3).shows(kind);
        bench.imbrik(&format!("restore {name} rack:b --yes")).expect(4).says(kind);
    }
}

#[test]
fn restore_writes_only_differences() {
    let bench = bench();
    bench.good("restore hive.img.zst rack:b --yes");
    let again = bench.good("restore hive.img.zst rack:b --yes --differing --json").json();
    assert_eq!(again["card_bytes_written"], 0, "{again}");
    put(&bench.path("rack/b.img"), 1000, b"x");
    let first = bench.good("restore hive.img.zst rack:b --yes --differing --json").json();
    assert_ne!(first["card_bytes_written"], 0, "{first}");
    assert!(bench.bytes("rack/b.img")[..512] == bench.bytes("rack/a.img")[..512]);
}

#[test]
fn names_count_from_any_number_and_with_leading_zeros() {
    let bench = bench();
    fs::write(bench.path("conf"), "n={n} {host}\n").unwrap();
    let words = "clone rack:a rack:b rack:c --as-new hive-{n:02} --first 9 --json --plan";
    let plans = objects(&bench.good(words));
    let hosts: Vec<_> = plans.iter().map(|plan| plan["host"].as_str().unwrap()).collect();
    assert_eq!(hosts, ["hive-09", "hive-10"]);
    bench.good("restore hive.img.zst rack:b --first 4 --set conf=1:/n{n}.txt --yes");
    let fat = bench.bytes("rack/b.img")[2048 * 512..34816 * 512].to_vec();
    fs::write(bench.path("fat"), fat).unwrap();
    let text = tool!("mtype", "-i", bench.path("fat"), "::n4.txt");
    assert_eq!(text, "n=4 hive-07\n");
}

#[test]
fn skip_option_leaves_out_unwritable_cards() {
    let bench = Bench::with_card(
        &[slot("b", CARD, "read_only = true"), slot("c", CARD, ""), slot("d", 4 << 20, "")]
            .concat(),
    );
    bench.good("save rack:a hive.img.zst");
    bench.imbrik("restore hive.img.zst rack:b rack:c --yes").expect(4).says("write-protected");
    bench.imbrik("restore hive.img.zst rack:c rack:d --yes").expect(5).says("rack:d:");
    let words = "restore hive.img.zst rack:b rack:c rack:d --yes --skip-failed --host a,b,d";
    let run = bench.imbrik(words).expect(1).says("2 cards were left out");
    run.shows("write-protected").shows("rack:c now holds b, a copy of hive-07");
    let words = "restore hive.img.zst rack:b rack:c --yes --skip-failed --json";
    let told = objects(&bench.imbrik(words).expect(4));
    let results: Vec<_> = told.iter().map(|told| told["result"].as_str().unwrap()).collect();
    assert_eq!(results, ["failed", "plan", "done", "failed"], "{told:#?}");
    let words = "restore hive.img.zst rack:b rack:c --plan --skip-failed";
    bench.imbrik(words).expect(4).says("1 card was left out. Nothing was written");
    let none = bench.imbrik("restore hive.img.zst rack:b rack:d --yes --skip-failed");
    none.expect(4).says("none of the cards can be written");
}

#[test]
fn save_plan_reads_little_and_creates_nothing() {
    let bench = bench();
    let before = bench.list("");
    bench.good("save rack:a plan.img.zst --plan").shows("Nothing was written").shows("hive-07");
    let told = bench.good("save rack:a plan.img.zst --plan --json").json();
    let made = bench.good("save rack:a made.img.zst --json").json();
    assert_eq!(told["bytes_to_read"], made["used_bytes"]);
    bench.good("save rack:a plan.img.zst --plan --also rack:b");
    assert!(!bench.path("plan.img.zst").exists());
    assert!(bench.list("").len() == before.len() + 2, "only made.img.zst and its checksum");
}

#[test]
fn damaged_option_writes_the_intact_part_of_an_image() {
    let bench = Bench::with_card(&slot("b", CARD, ""));
    bench.good("save rack:a hive.img.gz --exact");
    let image = bench.path("hive.img.gz");
    // In the middle of the noise that the last volume holds.
    flip(&image, bench.bytes("hive.img.gz").len() as u64 * 3 / 4);
    let run = bench.imbrik("restore hive.img.gz rack:b --yes").expect(3);
    run.says("--damaged writes the intact part");
    assert!(!bench.path("rack/b.img").exists() || all_are(&bench.bytes("rack/b.img"), 0));
    let run = bench.imbrik("restore hive.img.gz rack:b --yes --damaged").expect(6);
    run.shows("damaged in the image").shows("partition 2 (ext4, hive-07)");
    let told = bench.imbrik("restore hive.img.gz rack:b --yes --damaged --json").expect(6).json();
    let bad = told["damaged"].as_array().unwrap();
    let mut expected = bench.bytes("rack/a.img");
    for span in bad {
        let (at, len) = (span[0].as_u64().unwrap() as usize, span[1].as_u64().unwrap() as usize);
        expected[at..at + len].fill(0);
    }
    assert!(!bad.is_empty() && bench.bytes("rack/b.img") == expected);
}

#[test]
fn check_accepts_several_images() {
    let bench = bench();
    fs::copy(bench.path("hive.img.zst"), bench.path("two.img.zst")).unwrap();
    bench.good("check hive.img.zst two.img.zst").shows("Both images passed");
    flip(&bench.path("two.img.zst"), 500_000);
    let run = bench.imbrik("check hive.img.zst two.img.zst missing.img").expect(3);
    run.shows("2 of 3 images did not pass").says("image missing.img does not exist");
    let told = objects(&bench.imbrik("check hive.img.zst two.img.zst no.img --json").expect(3));
    let results: Vec<_> = told.iter().map(|told| told["result"].as_str().unwrap()).collect();
    assert_eq!(results, ["done", "differs", "failed"]);
}

#[test]
fn checksum_list_is_found_read_and_pasted() {
    let bench = Bench::with_card("");
    bench.good("save rack:a hive.img.zst --sum md5");
    fs::remove_file(bench.path("hive.img.zst.md5")).unwrap();
    fs::copy(bench.path("hive.img.zst"), bench.path("other.img.zst")).unwrap();
    let line = |name: &str| {
        let hash = tool!("sha256sum", bench.path(name));
        format!("{}  {name}\n", hash.split_whitespace().next().unwrap())
    };
    let lines = [line("hive.img.zst"), line("other.img.zst")].concat();
    fs::write(bench.path("SHA256SUMS"), &lines).unwrap();
    bench.good("check hive.img.zst").shows("SHA-256 in SHA256SUMS matches");
    bench.good("check hive.img.zst --expect SHA256SUMS").shows("matches the given SHA-256");
    bench.good("check hive.img.zst other.img.zst --expect SHA256SUMS");
    let pasted = line("hive.img.zst");
    bench.run(["check", "hive.img.zst", "--expect", pasted.trim()]).expect(0);
    fs::copy(bench.path("hive.img.zst"), bench.path("third.img.zst")).unwrap();
    let run = bench.imbrik("check third.img.zst --expect SHA256SUMS").expect(2);
    run.says("no line of it is for third.img.zst");
    bench.good("check third.img.zst").shows("SHA256SUMS has no line for this image");
    let first = pasted.chars().next().unwrap();
    let wrong = lines.replace(first, if first == '0' { "1" } else { "0" });
    fs::write(bench.path("SHA256SUMS"), wrong).unwrap();
    bench.imbrik("check hive.img.zst --expect SHA256SUMS").expect(3);
    let run = bench.imbrik("check hive.img.zst").expect(3);
    run.shows("SHA-256 in SHA256SUMS does not match, but the image is intact");
    fs::remove_file(bench.path("SHA256SUMS")).unwrap();
    // A hash of the content takes one more step than announced; the last one has no number.
    let raw = bench.path("raw");
    tool!("zstd", "-dqf", bench.path("hive.img.zst"), "-o", raw);
    let hash = tool!("sha256sum", raw).split_whitespace().next().unwrap().to_owned();
    let run = bench.good(&format!("check hive.img.zst --expect {hash}"));
    let steps: Vec<_> = run.stderr.lines().filter_map(|line| line.split_once(" of ")).collect();
    let numbers: Vec<_> = steps.iter().map(|(number, _)| *number).collect();
    assert_eq!(numbers, ["1", "2"], "{}", run.stderr);
    run.says("checking every tile");
}

#[test]
fn images_in_different_containers_are_compared() {
    let bench = bench();
    bench.good("repack hive.img.zst hive.img.xz");
    bench.good("check hive.img.zst --against hive.img.xz").shows("hive.img.xz holds the same");
    tool!("zstd", "-dqf", bench.path("hive.img.zst"), "-o", bench.path("raw.img"));
    put(&bench.path("raw.img"), 40_000_000, b"changed");
    let run = bench.imbrik("check hive.img.zst --against raw.img").expect(3);
    run.shows("in partition 2 (ext4, hive-07)").shows("but the other image holds something else");
    sized(&bench.path("short.img"), 0);
    fs::write(bench.path("short.img"), &bench.bytes("raw.img")[..30 << 20]).unwrap();
    let told = bench.imbrik("check hive.img.zst --against short.img --json").expect(3).json();
    let last = told["card_differing"].as_array().unwrap().last().unwrap();
    assert_eq!((&last[0], &last[1]), (&(30u64 << 20).into(), &(CARD - (30 << 20)).into()));
}

#[test]
fn one_image_of_several_in_an_archive_is_named() {
    let bench = bench();
    tool!("zstd", "-dqf", bench.path("hive.img.zst"), "-o", bench.path("one.img"));
    fs::write(bench.path("two.img"), &bench.bytes("one.img")[..40 << 20]).unwrap();
    tool!("zip", "-qj", bench.path("two.zip"), bench.path("one.img"), bench.path("two.img"));
    let run = bench.imbrik("check two.zip").expect(1);
    run.says("2 files that could be the image (one.img, two.img): name one as ARCHIVE:NAME");
    let told = objects(&bench.imbrik("check two.zip --json").expect(1));
    assert_eq!((&told[0]["command"], &told[0]["exit"]), (&"check".into(), &1.into()));
    bench.good("check two.zip:one.img --against one.img").shows("holds the same");
    bench.imbrik("check two.zip:three.img").expect(2).says("there is no three.img in this zip");
    bench.good("restore two.zip:one.img rack:b --yes");
    bench.good("check hive.img.zst --against rack:b");
}

#[test]
fn each_output_of_one_read_has_its_own_json_object() {
    let bench = bench();
    let told = objects(&bench.good("save rack:a x.img.zst --also y.img.gz --json"));
    let images: Vec<_> = told.iter().map(|told| told["image"].as_str().unwrap()).collect();
    assert!(images[0].ends_with("/x.img.zst") && images[1].ends_with("/y.img.gz"), "{images:?}");
    let told = objects(&bench.good("save rack:a z.img.zst --also rack:b --yes --json"));
    let what: Vec<_> = told
        .iter()
        .map(|told| (told["command"].as_str().unwrap(), told["result"].as_str().unwrap()))
        .collect();
    assert_eq!(what, [("clone", "plan"), ("clone", "done"), ("save", "done")]);
    let told = objects(&bench.imbrik("demo --json").expect(2));
    assert_eq!(told[0]["command"], "demo");
    let first = bench.good("cards --json").stdout;
    assert!(
        first.starts_with("{\"imbrik\":1,\"command\":\"cards\",\"result\":\"done\","),
        "{first}"
    );
}

/// Fails if a disk that another program attaches is taken for the inserted card.
#[test]
fn wait_for_a_card_ignores_a_loop_device() {
    if !is_root("wait_for_a_card_ignores_a_loop_device") {
        return;
    }
    let bench = bench();
    let mut command = bench.command(["cards", "--watch"]);
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    wait_for_message(&mut child, "Put the card in now.");
    sized(&bench.path("disk"), 8 << 20);
    let device = tool!("losetup", "-f", "--show", bench.path("disk"));
    thread::sleep(Duration::from_millis(1500));
    bench.write_rack(&[slot("a", CARD, ""), slot("new", CARD, "model = 'Sorrel'")].concat());
    let output = child.wait_with_output().unwrap();
    Command::new("losetup").args(["-d", device.trim()]).status().unwrap();
    let shown = String::from_utf8_lossy(&output.stdout);
    assert!(shown.contains("rack:new") && !shown.contains("loop"), "{shown}");
}

/// Overwriting is confirmed before anything is unmounted, and refusals come before that.
#[test]
fn nothing_is_unmounted_for_a_command_that_is_refused() {
    let about = "mounted_at = [\"/media/hive\"]";
    let bench =
        Bench::with_slot_a(about, &[slot("b", CARD, about), slot("c", 4 << 20, "")].concat());
    bench.good("save rack:a hive.img.zst --unmount").says("Unmounted /media/hive");
    let run = bench.imbrik("save rack:a hive.img.zst --unmount").expect(4).says("exists already");
    assert!(!run.err_has("Unmounted"), "{}", run.stderr);
    let run = bench.imbrik("clone rack:a rack:c --yes --unmount").expect(5);
    assert!(!run.err_has("Unmounted"), "{}", run.stderr);
    let run = bench.imbrik("restore hive.img.zst rack:b --unmount").expect(4);
    assert!(!run.says("there is no terminal to ask on").err_has("Unmounted"));
}

/// The completions for an incomplete line.
fn offered(bench: &Bench, words: &[&str]) -> String {
    let mut command = bench.command(["--", "imbrik"]);
    let output = command.args(words).env("COMPLETE", "fish").output().unwrap();
    assert!(output.status.success(), "{output:?}");
    String::from_utf8(output.stdout).unwrap()
}

/// Fails if a slot, or a partition of the card in the line, is not offered.
#[test]
fn completions_offer_cards_and_partitions() {
    let bench = bench();
    let cards = offered(&bench, &["save", ""]);
    assert!(cards.contains("rack:a\t") && cards.contains("rack:c\t135 MB"), "{cards}");
    let cards = offered(&bench, &["restore", "hive.img.zst", "rack:b"]);
    assert!(cards.contains("rack:b") && !cards.contains("rack:a"), "{cards}");
    let parts = offered(&bench, &["save", "rack:a", "--only", ""]);
    assert!(parts.contains("2\tpartition 2 (ext4, hive-07), 49.3 MB"), "{parts}");
    assert!(parts.contains("HIVE-BOOT\t"), "{parts}");
    let parts = offered(&bench, &["fit", "hive.img.zst", "--part", "hive"]);
    assert!(parts.contains("hive-07\t") && !parts.contains("HIVE-BOOT"), "{parts}");
    let options = offered(&bench, &["restore", "--dam"]);
    assert!(options.contains("--damaged"), "{options}");
    let paths = offered(&bench, &["files", "get", "hive.img.zst", ""]);
    assert!(paths.contains("2:/\t") && paths.contains("HIVE-BOOT:/\t"), "{paths}");
    let paths = offered(&bench, &["files", "get", "hive.img.zst", "2:/etc/h"]);
    assert!(paths.contains("2:/etc/hostname") && !paths.contains("readings"), "{paths}");
    assert!(offered(&bench, &["files", "list", "rack:a", "2:/e"]).contains("2:/etc/"));
    assert!(!offered(&bench, &["files", "list", "rack:a", "2:/none/x"]).contains("2:/"));
}

/// Fails when bash gets words that it would not insert: it splits them at colons, and escapes nothing itself.
#[test]
fn bash_completes_after_colons_and_escaped_spaces() {
    let bench = bench();
    fs::copy(bench.path("hive.img.zst"), bench.path("my card.img.zst")).unwrap();
    let script = r#"
        eval "$(imbrik completions bash)"
        COMP_WORDBREAKS=$' \t\n"\'><=;|&(:'
        for COMP_LINE in 'imbrik show rack:' 'imbrik show my\ c' 'imbrik files get my\ card.img.zst 2:/etc/ho'; do
            COMP_POINT=${#COMP_LINE} COMP_WORDS=($COMP_LINE) COMP_CWORD=2 COMPREPLY=()
            _imbrik imbrik "" "" 2>/dev/null
            printf '%s\n' "$COMP_LINE => ${COMPREPLY[*]}"
        done"#;
    let imbrik = Path::new(env!("CARGO_BIN_EXE_imbrik")).parent().unwrap();
    let path = format!("{}:/usr/bin:/bin", imbrik.display());
    let mut command = Command::new("bash");
    command.args(["-c", script]).current_dir(bench.path("")).env("PATH", path);
    command.env("IMBRIK_RACK", "rack").env("XDG_CONFIG_HOME", bench.path("config"));
    let said = String::from_utf8(command.output().unwrap().stdout).unwrap();
    assert!(said.contains("rack: => a b c"), "{said}");
    assert!(said.contains(r"my\ c => my\ card.img.zst"), "{said}");
    assert!(said.contains("2:/etc/ho => /etc/hostname"), "{said}");
}

/// Fails when `docs/trouble.md` explains a message that the program no longer has.
#[test]
fn explained_messages_exist() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let (mut texts, mut folders) = (String::new(), vec![root.join("crates")]);
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() && !path.ends_with("tests") && !path.ends_with("target") {
                folders.push(path);
            } else if path.extension().is_some_and(|extension| extension == "rs") {
                // Strings go on after the blanks of the next line.
                let text = fs::read_to_string(path).unwrap();
                for line in text.lines() {
                    let line = line.trim_start();
                    texts += line.strip_suffix('\\').unwrap_or(line);
                    if !line.ends_with('\\') {
                        texts.push('\n');
                    }
                }
            }
        }
    }
    let document = fs::read_to_string(root.join("docs/trouble.md")).unwrap();
    let quotes: Vec<_> = document
        .lines()
        .filter(|line| line.starts_with("**\""))
        .flat_map(|line| line.split('"').skip(1).step_by(2))
        .collect();
    assert!(quotes.len() > 30, "{quotes:?}");
    let parts = |quote: &str| -> Vec<String> {
        // What follows a colon can be the system's own message.
        let quote = quote.split(": no such").next().unwrap_or_default();
        quote.split('…').map(|part| part.trim().to_owned()).filter(|part| part.len() > 3).collect()
    };
    let gone: Vec<_> = quotes
        .iter()
        .filter(|quote| !parts(quote).iter().all(|part| texts.contains(part)))
        .collect();
    assert!(gone.is_empty(), "{gone:#?}");
}

/// Fails when a card can't be restored from, or an image can't be cloned from, where only the other word was typed.
#[test]
fn clone_and_restore_take_cards_and_images() {
    let bench = bench();
    bench.good("clone hive.img.zst rack:b --yes");
    bench.good("check hive.img.zst --against rack:b").shows("holds the same");
    bench.good("wipe rack:b --yes");
    bench.good("restore rack:a rack:b --yes");
    bench.good("check hive.img.zst --against rack:b").shows("holds the same");
    bench.imbrik("restore rack:a rack:b --only 2 --yes").expect(2).says("an image is needed here");
    bench.imbrik("clone hive.img.zst rack:b --swap").expect(2);
    bench.imbrik("clone hive.img.zst rack:b --strict").expect(2).says("a card is needed here");
    bench.imbrik("clone rack/a.img rack:b --yes").expect(2).says("it is a card, not an image");
}

/// Fails when an archive is unpacked for a card that is refused anyway.
#[test]
fn unwritable_card_is_refused_before_an_image_is_unpacked() {
    let bench = bench();
    bench.write_rack(&slot("b", CARD, "read_only = true"));
    bench.good("repack hive.img.zst hive.img");
    tool!("gzip", "-1", bench.path("hive.img"));
    let run = bench.imbrik("restore hive.img.gz rack:b --yes").expect(4);
    assert!(!run.err_has("unpack"), "{}", run.stderr);
    let mounted = slot("b", CARD, "mounted_at = [\"/media/hive\"]");
    bench.write_rack(&mounted);
    let plan = bench.good("restore hive.img.zst rack:b --plan");
    plan.shows("mounted at /media/hive; it must be unmounted first");
}

#[test]
fn a_package_gets_a_manual_and_completions() {
    let bench = Bench::empty();
    bench.good("pages usr");
    let manual = bench.list("usr/share/man/man1");
    assert_eq!(manual.len(), 36, "{manual:?}");
    let page = String::from_utf8(bench.bytes("usr/share/man/man1/imbrik-files-get.1")).unwrap();
    assert!(page.contains("imbrik files get"), "{page}");
    let page = String::from_utf8(bench.bytes("usr/share/man/man1/imbrik-clone.1")).unwrap();
    assert!(page.contains("hive\\-{n}") && !page.contains('‹'), "{page}");
    for name in [
        "bash-completion/completions/imbrik",
        "zsh/vendor-completions/_imbrik",
        "fish/vendor_completions.d/imbrik.fish",
    ] {
        assert!(!bench.bytes(format!("usr/share/{name}")).is_empty(), "{name}");
    }
}

#[test]
fn completions_are_generated_for_the_named_shell() {
    let bench = Bench::empty();
    let run = bench.good("completions bash");
    fs::write(bench.path("script"), &run.stdout).unwrap();
    tool!("bash", "-n", bench.path("script"));
    let line = format!(". {}; complete -p imbrik", bench.path("script").display());
    assert!(tool!("bash", "-c", line).contains("complete "), "{}", run.stdout);
    bench.imbrik("completions cobol").expect(2).says("bash");
    bench.imbrik("completions bash --json").expect(2);
}

/// Fails if the progress of a raw image stops while its holes are hashed, or the description of a container is that of
/// another one.
#[test]
fn show_describes_each_container_correctly() {
    let bench = Bench::with_card("");
    let raw = bench.good("save rack:a x.img --json");
    let taken = raw.json()["image_disk_bytes"].as_u64().unwrap();
    assert!((1..CARD / 2).contains(&taken), "{taken}");
    let run = bench.good("save rack:a y.img");
    let read = run.stderr.lines().skip_while(|line| !line.contains("reading the card")).nth(1);
    assert!(read.is_some_and(|line| line.contains("67.6 MB in")), "{}", run.stderr);
    assert!(run.out_has("on the disk, the rest is holes"), "{}", run.stdout);
    for name in ["y.img", "z.img.gz", "z.img.xz"] {
        let run = bench.good(&format!("save rack:a {name} --replace"));
        assert!(
            run.out_has("next to it contains its digests: keep both together"),
            "{}",
            run.stdout
        );
    }
    assert!(!bench.good("save rack:a z.img.zst").out_has("keep both together"));
    // Through a pipe, there are no files next to it, and the transferred bytes are counted.
    let line = format!(
        "cat z.img.zst | {} check - 2>said; {} save rack:a - 2>>said | cat >/dev/null",
        env!("CARGO_BIN_EXE_imbrik"),
        env!("CARGO_BIN_EXE_imbrik")
    );
    let script = Command::new("sh")
        .args(["-c", &line])
        .current_dir(bench.path(""))
        .env("IMBRIK_RACK", "rack")
        .output()
        .unwrap();
    let said = String::from_utf8(bench.bytes("said")).unwrap();
    assert!(said.contains("to standard output") && !said.contains("0 bytes in"), "{said}");
    assert!(String::from_utf8_lossy(&script.stdout).contains("the image from the pipe is intact"));
}
