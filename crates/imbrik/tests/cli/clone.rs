//! `imbrik clone`, and many targets at once.

use crate::harness::{Bench, CARD, all_are, flat, is_root, places_of, put, sized, tool};
use std::{fs, time::Instant};

fn slot(name: &str, size: u64, more: &str) -> String {
    format!("[[slot]]\nname = \"{name}\"\nsize = {size}\n{more}\n")
}

/// The volumes of a card of the harness are clean, and the second holds its readings.
fn is_good(bench: &Bench, card: &str) {
    let shown = bench.good(&format!("show rack:{card} --json")).json();
    let parts = shown["content"]["partitions"].as_array().unwrap().clone();
    let bytes = bench.bytes(format!("rack/{card}.img"));
    for (index, part) in parts.iter().enumerate() {
        let start = part["start"].as_u64().unwrap() as usize;
        let len = part["size"].as_u64().unwrap() as usize;
        let volume = bench.path(format!("judged-{card}"));
        fs::write(&volume, &bytes[start..start + len]).unwrap();
        match index {
            0 => drop(tool!("fsck.fat", "-n", volume)),
            _ => {
                tool!("e2fsck", "-fn", &volume);
                let readings = tool!("debugfs", "-R", "stat /readings", volume);
                assert!(readings.contains("Size: 3145728"), "{readings}");
            }
        }
    }
    tool!("sfdisk", "--verify", bench.path(format!("rack/{card}.img")));
}

#[test]
fn one_read_serves_cards_of_all_sizes() {
    let more = [slot("b", CARD / 2, ""), slot("c", CARD, ""), slot("d", CARD * 3, "")].concat();
    let bench = Bench::with_card(&more);
    let before = bench.bytes("rack/a.img");
    let one = bench.good("clone rack:a rack:c --yes");
    // No other file exists, and the source is unchanged.
    assert_eq!(bench.list("."), ["rack"]);
    assert!(bench.bytes("rack/a.img") == before);
    one.shows("rack:c now holds hive-07").shows("Read ");
    is_good(&bench, "c");
    let run = bench.good("clone rack:a rack:b rack:c rack:d --yes");
    let run = run.shows("All 3 cards now hold hive-07").shows("partition 2 grows to");
    assert!(!run.out_has("Card 2 of 3"), "one row per card\n{}", run.stdout);
    bench.good("clone rack:a rack:b rack:c rack:d --plan --verbose").shows("Card 2 of 3");
    for card in ["b", "c", "d"] {
        is_good(&bench, card);
    }
    let events = bench.good("clone rack:a rack:b rack:c --yes --json");
    let lines: Vec<serde_json::Value> =
        events.stdout.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let results: Vec<_> = lines.iter().map(|line| line["result"].as_str().unwrap()).collect();
    assert_eq!(results, ["plan", "plan", "done", "done"]);
    assert_eq!(lines[3]["card"], "rack:c");
}

#[test]
fn restore_to_many_cards_continues_when_one_is_removed() {
    let more =
        [slot("b", CARD, ""), slot("c", CARD, "pulled_after = 9000000"), slot("d", CARD * 2, "")]
            .concat();
    let bench = Bench::with_card(&more);
    bench.good("save rack:a hive.img.zst");
    for words in [
        "restore hive.img.zst rack:b rack:c rack:d --yes",
        "clone rack:a rack:b rack:c rack:d --yes",
    ] {
        let run = bench.imbrik(words).expect(1).says("1 of 3 cards failed, 2 are done");
        assert!(run.out_has("rack:c    failed:"), "{run:?}");
        assert!(run.out_has("has no partition table now"), "{run:?}");
        is_good(&bench, "b");
        is_good(&bench, "d");
        assert!(all_are(&bench.bytes("rack/c.img")[..512], 0));
    }
}

/// Fails if cards are written to one after the other, or wait for the slowest. A busy machine can slow down single runs,
/// but hardly all of three.
#[test]
fn many_cards_take_little_longer_than_one() {
    // So slow that waiting takes most of the time, even on a busy machine.
    let slow = "write_rate = 2500000";
    let more = ["b", "c", "d"].map(|name| slot(name, CARD, slow)).concat();
    let bench = Bench::with_card(&more);
    let timed = |words: &str| {
        let started = Instant::now();
        bench.good(words);
        started.elapsed().as_secs_f64()
    };
    let is_at_once = (0..3).any(|_| {
        let one = timed("clone rack:a rack:b --yes");
        let three = timed("clone rack:a rack:b rack:c rack:d --yes");
        eprintln!("{three:.2} s for three, {one:.2} s for one");
        three <= one * 1.3 + 0.3
    });
    assert!(is_at_once);
    // A much slower card ends later, and delays no other.
    let faster = "write_rate = 7500000";
    let more = [slot("b", CARD, faster), slot("c", CARD, slow)].concat();
    bench.write_rack(&[slot("a", CARD, ""), more].concat());
    let is_undelayed = (0..3).any(|_| {
        let run = bench.good("clone rack:a rack:b rack:c --yes --no-check --json");
        let seconds: Vec<f64> = run
            .stdout
            .lines()
            .map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap())
            .filter_map(|line| line["seconds"].as_f64())
            .collect();
        eprintln!("{seconds:?}");
        seconds[0] * 1.8 < seconds[1]
    });
    assert!(is_undelayed);
}

/// Fails if the source is not checked again: the copy would mix two states of it silently.
#[test]
fn clone_warns_when_the_source_is_mounted_meanwhile() {
    let bench = Bench::with_card(&slot("b", CARD, "write_rate = 4000000"));
    let at = bench.bytes("rack/a.img");
    let place = places_of(&at, &[0x53, 0xef]).find(|at| at % 512 == 56);
    let mounts = place.unwrap() as u64 - 56 + 52;
    let mut command = bench.command("clone rack:a rack:b --yes".split_whitespace());
    let child = command
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let started = Instant::now();
    while bench
        .path("rack/b.img")
        .metadata()
        .map_or(0, |b| std::os::unix::fs::MetadataExt::blocks(&b))
        < 8192
    {
        assert!(started.elapsed().as_secs() < 30, "it never began");
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    put(&bench.path("rack/a.img"), mounts, &[9, 0]);
    let output = child.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(3), "{said}");
    assert!(flat(&said).contains("what was written contains data from different times"), "{said}");
}

#[test]
fn clone_detects_the_source_among_targets_under_any_name() {
    let bench = Bench::with_card(&slot("b", CARD, ""));
    bench.imbrik("clone rack:a rack:a --yes").expect(2).says("both the source and a target");
    bench.imbrik("clone rack:a rack:b rack:b --yes").expect(2).says("named twice");
    bench.imbrik("clone rack:b rack:a --yes").expect(4).says("is blank").says("source comes first");
    bench.imbrik("clone rack:a --yes").expect(2);
    bench.imbrik("clone rack:a x.img --yes").expect(2);
    bench.imbrik("clone x.img rack:b --yes").expect(2);
    bench.imbrik("clone rack:a rack:b").expect(4).says("there is no terminal to ask on");
    // Two slots over one file, also under another name of it.
    fs::hard_link(bench.path("rack/a.img"), bench.path("rack/same.img")).unwrap();
    bench.write_rack(&[slot("a", CARD, ""), slot("same", CARD, "")].concat());
    bench.imbrik("clone rack:a rack:same --yes").expect(2).says("the same medium");
    if is_root("clone_detects_the_source_among_targets_under_any_name") {
        let device = tool!("losetup", "-f", "--show", bench.path("rack/a.img")).trim().to_owned();
        let run = bench.imbrik(&format!("clone rack:a {device} --yes --allow-fixed"));
        tool!("losetup", "-d", device);
        run.expect(2).says("the same medium");
    }
}

#[test]
fn clone_warns_when_source_and_target_may_be_swapped() {
    let bench = Bench::with_card(&slot("b", CARD, ""));
    bench.good("clone rack:a rack:b --yes");
    // The other card was used since.
    let volume = bench.path("ext");
    let bytes = bench.bytes("rack/b.img");
    fs::write(&volume, &bytes[34816 * 512..]).unwrap();
    let then = "E2FSPROGS_FAKE_TIME=4102358400";
    tool!("env", then, "debugfs", "-w", "-R", "set_super_value mnt_count 3", &volume);
    put(&bench.path("rack/b.img"), 34816 * 512, &fs::read(&volume).unwrap());
    bench.good("clone rack:a rack:b --plan").shows("are source and target swapped?");
    let other = bench.good("clone rack:b rack:a --plan");
    assert!(!other.out_has("are source and target swapped"), "{other:?}");
}

#[test]
fn clone_of_a_card_with_bad_sectors_copies_the_rest() {
    let bench = Bench::with_slot_a(
        "unreadable = [[19000000, 8192]]",
        &[slot("b", CARD, ""), slot("c", CARD, "")].concat(),
    );
    let run = bench.imbrik("clone rack:a rack:b rack:c --yes");
    assert!([0, 6].contains(&run.code), "{run:?}");
    // Bad sectors in used space are reported.
    let bench = Bench::with_slot_a("unreadable = [[200704, 1024]]", &slot("b", CARD, ""));
    bench.imbrik("clone rack:a rack:b --yes").expect(6).shows("could not be read");
}

#[test]
#[ignore = "long: run by ./test --full"]
fn large_card_is_cloned_to_a_smaller_one_at_the_cost_of_used_space() {
    if !is_root("large_card_is_cloned_to_a_smaller_one_at_the_cost_of_used_space") {
        return;
    }
    let bench = Bench::empty();
    fs::create_dir(bench.path("rack")).unwrap();
    let size = 64u64 << 30;
    bench.write_rack(&[slot("a", size, ""), slot("b", size / 2, "")].concat());
    let card = bench.path("rack/a.img");
    sized(&card, size);
    let files = bench.path("files");
    fs::create_dir(&files).unwrap();
    let sound = crate::harness::noise(32 << 20);
    for n in 0..48 {
        fs::write(files.join(format!("{n}.wav")), &sound).unwrap();
    }
    tool!("mkfs.ext4", "-q", "-L", "hive-64", "-d", files, &card);
    let (run, peak) = bench.measured("clone rack:a rack:b --yes --no-check --json");
    assert!(peak <= 192 << 10, "{peak} KiB");
    assert_eq!(bench.list("."), ["files", "rack"]);
    let done: serde_json::Value = serde_json::from_str(run.stdout.lines().last().unwrap()).unwrap();
    let volume = bench.good("show rack:a --json").json();
    let used = volume["content"]["partitions"][0]["used"].as_u64().unwrap();
    let written = done["card_bytes_written"].as_u64().unwrap();
    let read = done["source_bytes_read"].as_u64().unwrap();
    assert!(read <= used * 105 / 100, "{read} read of {used}");
    // A simulated card has no command for zeroing: zeros are not written again.
    let cleared = done["card_bytes_cleared"].as_u64().unwrap();
    let already = done["card_bytes_zero_already"].as_u64().unwrap();
    assert!(cleared > 700 << 20 && already >= cleared, "{already} of {cleared}");
    assert!(written <= used * 105 / 100, "{written} written, {cleared} cleared, {used}");
    tool!("e2fsck", "-fn", bench.path("rack/b.img"));
}

#[test]
fn swap_clones_with_a_single_reader() {
    let bench = Bench::with_card("");
    bench.imbrik("clone rack:a --swap").expect(4).says("needs a terminal");
    let before = bench.bytes("rack/a.img");
    let nothing: &dyn Fn() = &|| {};
    let blank = || {
        fs::rename(bench.path("rack/a.img"), bench.path("first.img")).unwrap();
        sized(&bench.path("rack/a.img"), CARD);
    };
    // An earlier copy for the same board, used since: the same ids, another time.
    let spare = || {
        fs::rename(bench.path("rack/a.img"), bench.path("second.img")).unwrap();
        let bytes = bench.bytes("first.img");
        let volume = bench.path("ext");
        fs::write(&volume, &bytes[34816 * 512..]).unwrap();
        let then = "E2FSPROGS_FAKE_TIME=981158400";
        tool!("env", then, "debugfs", "-w", "-R", "set_super_value mnt_count 3", &volume);
        fs::write(bench.path("rack/a.img"), &bytes).unwrap();
        put(&bench.path("rack/a.img"), 34816 * 512, &fs::read(&volume).unwrap());
        fs::remove_file(volume).unwrap();
    };
    let run = bench.in_dialogue(
        "clone rack:a --swap",
        &[
            // The same card is still in the reader.
            ("press Enter; or type q", nothing, "\n"),
            ("is the source", nothing, ""),
            ("Insert another card", &blank, "\n"),
            ("host name of another board", nothing, "\n"),
            ("Type its size", nothing, "67.6 MB\n"),
            ("Another one?", &spare, "\n"),
            ("host name of another board", nothing, "hive-31\n"),
            ("Type its host name", nothing, "hive-07\n"),
            ("Another one?", nothing, "q\n"),
        ],
    );
    assert_eq!(run.code, 0, "{}", run.stdout);
    assert!(run.out_has("now holds hive-07"), "{}", run.stdout);
    assert!(bench.bytes("first.img") == before, "the card that was read is as it was");
    is_good(&bench, "a");
    assert_eq!(bench.good("show rack:a --json").json()["content"]["host"], "hive-31");
    fs::rename(bench.path("second.img"), bench.path("rack/a.img")).unwrap();
    is_good(&bench, "a");
    // Of the temporary image, nothing is left.
    let left: Vec<_> = bench.list(".").into_iter().filter(|name| *name != "config").collect();
    assert_eq!(left, ["first.img", "judged-a", "rack"]);
}

/// Fails if successive copies get the same name, or the last one is offered to be overwritten.
#[test]
fn successive_copies_are_numbered() {
    let bench = Bench::with_card("");
    let nothing: &dyn Fn() = &|| {};
    let next = |name: &'static str| {
        let (rack, keep) = (bench.path("rack/a.img"), bench.path(name));
        move || {
            fs::rename(&rack, &keep).unwrap();
            sized(&rack, CARD);
        }
    };
    let (first, second, third) = (next("first.img"), next("second.img"), next("third.img"));
    let run = bench.in_dialogue(
        "clone rack:a --swap --as-new hive-2{n}",
        &[
            ("press Enter; or type q", &first, "\n"),
            ("Type its size", nothing, "67.6 MB\n"),
            // Still in the reader.
            ("Another one?", nothing, "\n"),
            ("was written just now", nothing, ""),
            ("Insert another card", &second, "\n"),
            // A wrong word: the next question says what to do, and nothing else does.
            ("Type its size", nothing, "no\n"),
            ("Insert another card", nothing, "\n"),
            ("Type its size", nothing, "67.6 MB\n"),
            ("Another one?", nothing, "q\n"),
        ],
    );
    assert_eq!(run.code, 0, "{}", run.stdout);
    assert!(!run.out_has("Run it again"), "{}", run.stdout);
    let host =
        |card: &str| bench.good(&format!("show {card} --json")).json()["content"]["host"].clone();
    assert_eq!((host("second.img"), host("rack:a")), ("hive-21".into(), "hive-22".into()));
    // One name is for one card.
    let run = bench.in_dialogue(
        "clone rack:a --swap --as-new hive-30",
        &[
            ("press Enter; or type q", &third, "\n"),
            ("Type its size", nothing, "67.6 MB\n"),
            ("Another one?", &next("fourth.img"), "\n"),
            ("2 cards would have the name hive-30", nothing, ""),
            ("Insert another card", nothing, "q\n"),
        ],
    );
    assert_ne!(run.code, 0, "{}", run.stdout);
    assert_eq!(host("fourth.img"), "hive-30");
}

#[test]
fn clone_writes_an_image_and_a_card_in_one_read() {
    let bench = Bench::with_card(&slot("b", CARD * 2, ""));
    bench
        .imbrik("save rack:a x.img.zst --also rack:b")
        .expect(4)
        .says("there is no terminal to ask on");
    bench.imbrik("save rack:a x.img.zst --also rack:a --yes").expect(2).says("is the source card");
    bench.imbrik("save rack:a - --also rack:b --yes").expect(2);
    assert!(!bench.path("x.img.zst").exists());
    let run = bench.good("save rack:a hive.img.zst --also rack:b --yes");
    run.shows("rack:b now holds hive-07").shows("Image ");
    is_good(&bench, "b");
    bench.good("check hive.img.zst --against rack:b");
    // One read is all that the card sees.
    let read = |run: crate::harness::Run| {
        let done: serde_json::Value =
            serde_json::from_str(run.stdout.lines().last().unwrap()).unwrap();
        done["card_bytes_read"].as_u64().unwrap()
    };
    let alone = read(bench.good("save rack:a one.img.zst --json"));
    let both = read(bench.good("save rack:a two.img.zst --also rack:b --yes --json"));
    assert!(both <= alone * 105 / 100 + (1 << 20), "{both} read for both, {alone} for one");
    let both = bench.good("save rack:a three.img.zst --also four.img.gz");
    both.shows("Also ");
    bench.good("check four.img.gz");
    bench.good("repack three.img.zst three.img");
    bench.good("repack four.img.gz four.img");
    assert!(bench.bytes("three.img") == bench.bytes("four.img"));
    bench.imbrik("save rack:a five.img.zst --also five.img.zst").expect(2).says("same name");
    // If the card fails, the image is complete, and the exit code reports the failure.
    bench.write_rack(&[slot("a", CARD, ""), slot("b", CARD, "pulled_after = 5000000")].concat());
    let run = bench.imbrik("save rack:a six.img.zst --also rack:b --yes");
    assert_eq!(run.code, 1, "{run:?}");
    let run = run.shows("Image     ").shows("six.img.zst").shows("SHA-256");
    run.says("no partition table now");
    bench.good("check six.img.zst");
}

#[test]
fn interrupted_clone_leaves_no_partition_table() {
    let slow = "write_rate = 3000000";
    let bench = Bench::with_card(&[slot("b", CARD, slow), slot("c", CARD, slow)].concat());
    let begun = || {
        let bytes = fs::read(bench.path("rack/b.img")).unwrap_or_default();
        bytes.get(4 << 20..).is_some_and(|rest| !all_are(rest, 0))
    };
    let run = bench.interrupted("clone rack:a rack:b rack:c --yes", begun);
    assert_eq!(run.code, 130, "{run:?}");
    for card in ["b", "c"] {
        let head = bench.bytes(format!("rack/{card}.img"));
        assert!(all_are(&head[..512], 0), "{card} looks whole");
    }
    assert_eq!(bench.list("."), ["rack"]);
    // A closed output pipe ends nothing.
    let bench = Bench::with_card(&slot("b", CARD, ""));
    let line = format!(
        "{} clone rack:a rack:b --yes 2>/dev/null | true; exit ${{PIPESTATUS[0]}}",
        env!("CARGO_BIN_EXE_imbrik")
    );
    let mut command = std::process::Command::new("bash");
    command.args(["-c", &line]).env("IMBRIK_RACK", bench.path("rack"));
    assert!(command.status().unwrap().success());
    is_good(&bench, "b");
}

#[test]
fn clone_copies_an_inconsistent_volume_unchanged() {
    let bench = Bench::with_card(&[slot("b", CARD, ""), slot("c", CARD / 2, "")].concat());
    // A bit of the block bitmap of the ext volume.
    let bytes = bench.bytes("rack/a.img");
    let volume = bench.path("ext");
    fs::write(&volume, &bytes[34816 * 512..]).unwrap();
    let dump = tool!("dumpe2fs", &volume);
    let number = |key: &str| -> u64 {
        let rest = dump.split(key).nth(1).unwrap().trim_start();
        rest.split([' ', ',', '\n']).next().unwrap().parse().unwrap()
    };
    let at = 34816 * 512 + number("Block bitmap at ") * number("Block size:") + 700;
    crate::harness::flip(&bench.path("rack/a.img"), at);
    let before = bench.bytes("rack/a.img");
    let run = bench.good("clone rack:a rack:b --yes");
    assert!(run.err_has("is copied in full"), "{run:?}");
    assert!(bench.bytes("rack/b.img") == before, "as it was, to the byte");
    // To a smaller card it does not go, and the refusal names the reason.
    let run = bench.imbrik("clone rack:a rack:c --yes").expect(5);
    run.says("these can't be resized").says("bitmap").says("Nothing was written");
    let run = bench.imbrik("clone rack:a rack:b --yes --as-new hive-31");
    assert_ne!(run.code, 0, "{run:?}");
    assert!(bench.bytes("rack/b.img") == before, "nothing was written");
}
