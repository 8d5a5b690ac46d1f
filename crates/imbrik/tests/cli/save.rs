//! `imbrik save`

use crate::harness::{Bench, CARD, is_root, noise, places_of, put, sized, tool};
use std::{
    ffi::{OsStr, OsString},
    fs,
    os::unix::{ffi::OsStrExt, fs::MetadataExt},
};

#[test]
fn standard_tools_decode_and_check_every_container() {
    let bench = Bench::with_card("");
    bench.good("save rack:a hive.img.zst").shows("imbrik restore").shows("SHA-256");
    tool!("zstd", "-tq", bench.path("hive.img.zst"));
    let folder = bench.path("");
    let check = format!("cd {} && sha256sum -c --strict hive.img.zst.sha256", folder.display());
    tool!("sh", "-c", check);
    tool!("zstd", "-dqf", bench.path("hive.img.zst"), "-o", bench.path("back"));
    assert!(bench.bytes("back") == bench.bytes("rack/a.img"));
    assert_eq!(bench.path("hive.img.zst").metadata().unwrap().mode() & 0o777, 0o600);
    assert_eq!(bench.path("hive.img.zst.sha256").metadata().unwrap().mode() & 0o777, 0o600);
}

#[test]
fn a_raw_image_has_holes_and_its_manifest_beside_it() {
    let bench = Bench::with_card("");
    bench.good("save rack:a hive.img --sum md5,sha1 --sum sha512 --sum blake3");
    assert!(bench.bytes("hive.img") == bench.bytes("rack/a.img"));
    let meta = bench.path("hive.img").metadata().unwrap();
    assert!(meta.blocks() * 512 < CARD / 2, "{} blocks", meta.blocks());
    for (tool_name, sum) in [("md5sum", "md5"), ("sha1sum", "sha1"), ("sha512sum", "sha512")] {
        let line = format!("cd {} && {tool_name} -c hive.img.{sum}", bench.path("").display());
        tool!("sh", "-c", line);
    }
    assert!(bench.path("hive.img.blake3").exists() && !bench.path("hive.img.sha256").exists());
    let manifest: serde_json::Value =
        serde_json::from_slice(&bench.bytes("hive.img.manifest.json")).unwrap();
    assert_eq!(manifest["card_size"], CARD);
    assert_eq!(manifest["partitions"][1]["volume"]["label"], "hive-07");
    bench.good("check hive.img").shows("match their digests");
}

#[test]
fn proposed_names_are_numbered() {
    let bench = Bench::with_card("");
    fs::create_dir(bench.path("images")).unwrap();
    bench.good("save rack:a images");
    bench.good("save rack:a images --no-check");
    let date = tool!("date", "+%F");
    let date = date.trim();
    let expected = ["", ".sha256"].map(|end| format!("hive-07-{date}.img.zst{end}"));
    let second = ["", ".sha256"].map(|end| format!("hive-07-{date}-2.img.zst{end}"));
    let mut all: Vec<_> = expected.into_iter().chain(second).map(OsString::from).collect();
    all.sort();
    assert_eq!(bench.list("images"), all);
}

#[test]
fn with_one_card_plugged_in_no_argument_is_needed() {
    let bench = Bench::with_card("");
    bench.good("save").shows("hive-07-");
    bench.good("save named.img.zst");
    assert!(bench.path("named.img.zst").exists());
    let two = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 1048576\n");
    two.imbrik("save").expect(2).says("2 cards are connected");
}

#[test]
fn existing_image_is_replaced_only_on_request() {
    let bench = Bench::with_card("");
    fs::write(bench.path("hive.img.zst"), "precious").unwrap();
    fs::write(bench.path("hive.img.zst.md5"), "of the old one").unwrap();
    bench.imbrik("save rack:a hive.img.zst").expect(4).says("exists already");
    assert_eq!(bench.bytes("hive.img.zst"), b"precious");
    bench.good("save rack:a hive.img.zst --replace");
    tool!("zstd", "-tq", bench.path("hive.img.zst"));
    assert!(!bench.path("hive.img.zst.md5").exists(), "a checksum of the old image is left");
}

#[test]
fn names_with_spaces_and_non_utf8_bytes_work() {
    let bench = Bench::with_card("");
    let name = OsStr::from_bytes(b"bee's hive \xff 7.img.zst");
    let run = bench.run([OsStr::new("save"), OsStr::new("rack:a"), name]).expect(0);
    assert!(run.out_has(r"$'"), "{}", run.stdout);
    bench.run([OsStr::new("check"), name]).expect(0).shows("matches");
    let line = format!("cd {} && sha256sum -c *.sha256", bench.path("").display());
    tool!("sh", "-c", line);
}

#[test]
fn the_last_json_object_holds_the_figures() {
    let bench = Bench::with_card("");
    let run = bench.good("save rack:a hive.img.zst --json");
    let done = run.json();
    assert_eq!((&done["command"], &done["result"]), (&"save".into(), &"done".into()));
    assert_eq!(done["card_size"], CARD);
    assert_eq!(done["card_bytes_written"], 0);
    assert_eq!(done["image_bytes"], bench.path("hive.img.zst").metadata().unwrap().len());
    assert!(done["card_bytes_read"].as_u64().unwrap() <= CARD + (4 << 20));
    assert!(done["seconds"].as_f64().unwrap() > 0.0);
    let listed = bench.bytes("hive.img.zst.sha256");
    let hash = done["sums"]["sha256"].as_str().unwrap();
    assert_eq!(listed, format!("{hash}  hive.img.zst\n").as_bytes());
}

#[test]
fn unreadable_sectors_become_zeros_and_set_the_exit_code() {
    let bad = "unreadable = [[20971520, 4096]]\nflaky = [[5242880, 512, 3]]";
    let bench = Bench::with_slot_a(bad, "");
    let run = bench.imbrik("save rack:a hive.img.zst --exact --json").expect(6);
    assert_eq!(run.json()["unreadable"], serde_json::json!([[20_971_520, 4096]]));
    let mut expected = bench.bytes("rack/a.img");
    expected[20_971_520..][..4096].fill(0);
    tool!("zstd", "-dq", bench.path("hive.img.zst"), "-o", bench.path("back"));
    assert!(bench.bytes("back") == expected, "the flaky sector is there, the bad one zero");
    bench.good("check hive.img.zst").shows("could not be read when it was saved");
}

#[test]
fn save_of_a_removed_card_can_be_resumed() {
    let bench = Bench::with_slot_a("pulled_after = 30000000", "");
    bench
        .imbrik("save rack:a hive.img.zst --exact")
        .expect(1)
        .says("does not answer")
        .says("hive.img.zst.part")
        .says("Plug the card in again")
        .says("--resume");
    assert_eq!(bench.list(""), ["hive.img.zst.part", "hive.img.zst.part.notes", "rack"]);
    // Formats that can't be resumed leave no file.
    bench
        .imbrik("save rack:a other.img.xz --exact")
        .expect(1)
        .says("no image other.img.xz was written");
    assert_eq!(bench.list("").len(), 3);
}

#[test]
fn interrupt_leaves_no_image_under_its_final_name() {
    let bench = Bench::with_slot_a("read_rate = 10000000", "");
    let part = bench.path("hive.img.zst.part");
    let begun = || part.metadata().is_ok_and(|meta| meta.len() > 0);
    bench
        .interrupted("save rack:a hive.img.zst", begun)
        .expect(130)
        .says("stopped before it was done")
        .says("--resume");
    assert_eq!(bench.list(""), ["hive.img.zst.part", "hive.img.zst.part.notes", "rack"]);
}

#[test]
fn a_mounted_card_is_refused_until_it_is_unmounted() {
    let bench = Bench::with_slot_a("mounted_at = [\"/media/hive\", \"/media/hive-boot\"]", "");
    bench.imbrik("save rack:a").expect(4).says("is mounted at").says("--unmount");
    assert_eq!(bench.list(""), ["rack"]);
    bench.good("save rack:a one.img.zst --unmount").says("Unmounted /media/hive");
    let asked = bench.on_terminal("save rack:a two.img.zst", "y\n").expect(0);
    assert!(asked.out_has("Unmount both? [Y/n]"), "{}", asked.stdout);
    let refused = bench.on_terminal("save rack:a three.img.zst", "n\n");
    assert_eq!(refused.code, 4);
    assert!(!bench.path("three.img.zst").exists());
}

#[test]
fn source_as_target_is_refused() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 1048576\n");
    fs::write(bench.path("old.img"), "x").unwrap();
    bench.imbrik("save old.img rack:a").expect(2).says("(an image)");
    bench.imbrik("save rack:a rack:b").expect(2).says("an image is needed here");
    bench.imbrik("save rack:z x.img").expect(2).says("no such slot");
    bench.imbrik("save nothing x.img").expect(2).says("no card is called nothing");
    bench.imbrik("save rack:a rack/b.img --replace").expect(4).says("file of a slot");
    bench.imbrik("save rack:a x.img.bz2").expect(2).says("are not written");
    bench.imbrik("save rack:a x.img.gz --level 12").expect(2).says("gzip has 1 to 9");
    bench.imbrik("save rack:a x.img.zst --pack raw").expect(2).says("--pack says");
    bench.imbrik("save rack:a none/x.img").expect(1).says("Create the folder first");
}

#[test]
fn large_empty_card_is_saved_with_few_reads() {
    let bench = Bench::empty();
    fs::create_dir(bench.path("rack")).unwrap();
    sized(&bench.path("rack/a.img"), 64 << 30);
    bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {}\n", 64u64 << 30));
    let done = bench.good("save rack:a --json empty.img.zst").json();
    assert!(done["seconds"].as_f64().unwrap() < 20.0, "{done}");
    assert!(done["card_bytes_read"].as_u64().unwrap() < 8 << 20, "{done}");
    bench.good("check empty.img.zst --against rack:a");
}

#[test]
fn save_to_a_full_disk_can_be_resumed() {
    if !is_root("save_to_a_full_disk_can_be_resumed") {
        return;
    }
    let bench = Bench::with_card("[[slot]]\nname = \"full\"\nsize = 16777216\n");
    fs::write(bench.path("rack/full.img"), noise(16 << 20)).unwrap();
    fs::create_dir(bench.path("small")).unwrap();
    tool!("mount", "-t", "tmpfs", "-o", "size=4m", "tmpfs", bench.path("small"));
    let hopeless = bench.imbrik("save rack:full small/full.img.zst");
    let tight = bench.imbrik("save rack:a small/hive.img.zst");
    let left = bench.list("small");
    for name in ["hive.img.zst.part", "hive.img.zst.part.notes"] {
        let _ = fs::remove_file(bench.path("small").join(name));
    }
    let raw = bench.imbrik("save rack:a small/hive.img");
    // Room is made.
    tool!("mount", "-o", "remount,size=64m", bench.path("small"));
    let more = bench.imbrik("save rack:a small/hive.img --resume");
    let checked = bench.imbrik("check small/hive.img --against rack:a");
    tool!("umount", bench.path("small"));
    hopeless.expect(5).says("(4 MiB) free").says("Nothing was written");
    tight.expect(5).says("space may run out").says("no space left").says("is in memory");
    raw.expect(5).says("no space left").says("Free some space, then resume").says("--resume");
    assert_eq!(left, ["hive.img.zst.part", "hive.img.zst.part.notes"]);
    more.expect(0);
    checked.expect(0).shows("holds the same");
}

#[test]
fn image_belongs_to_the_user_of_sudo() {
    if !is_root("image_belongs_to_the_user_of_sudo") {
        return;
    }
    let bench = Bench::with_card("");
    let mut command = bench.command(["save", "rack:a", "hive.img.zst"]);
    command.env("SUDO_UID", "12345").env("SUDO_GID", "12346");
    assert!(command.output().unwrap().status.success());
    for name in ["hive.img.zst", "hive.img.zst.sha256"] {
        let meta = bench.path(name).metadata().unwrap();
        assert_eq!((meta.uid(), meta.gid(), meta.mode() & 0o777), (12345, 12346, 0o600));
    }
}

/// Fails if the card is not checked again: the image would mix two states of it silently.
#[test]
fn save_reports_a_card_that_changes_meanwhile() {
    let bench = Bench::with_slot_a("read_rate = 4000000", "");
    let card = bench.path("rack/a.img");
    let at = bench.bytes("rack/a.img");
    // The write time of the ext volume's superblock, in a partition of the card.
    let place = places_of(&at, &[0x53, 0xef]).find(|at| at % 512 == 56);
    let wtime = place.unwrap() as u64 - 56 + 48;
    let mut command = bench.command("save rack:a x.img.zst".split_whitespace());
    let child = command
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let started = std::time::Instant::now();
    while !bench.path("x.img.zst.part").exists() {
        assert!(started.elapsed().as_secs() < 30, "it never began");
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    put(&card, wtime, &[1, 2, 3, 4]);
    let output = child.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(3), "{said}");
    assert!(said.contains("was changed or exchanged while it was read"), "{said}");
}

/// Fails when a read-back from memory is passed off as one from the disk.
#[test]
fn read_back_reports_whether_it_reached_the_disk() {
    let bench = Bench::with_card("");
    let on_disk = tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap();
    let in_memory = tempfile::tempdir_in("/dev/shm").unwrap();
    let saved = |folder: &std::path::Path, more: &str| {
        let path = folder.join("x.img.zst").display().to_string();
        bench.good(&format!("save rack:a {path} --replace --json {more}"))
    };
    let from = |run: &crate::harness::Run| run.json()["image_read_from"].clone();
    // A busy kernel may keep some pages in memory that it was told to drop; then the program says so.
    let mut tries = std::iter::repeat_with(|| saved(on_disk.path(), "")).take(5);
    let disk = tries.find(|run| from(run) == "medium").expect("a read-back from the disk");
    assert!(!disk.err_has("copy in memory"), "{disk:?}");
    let memory = saved(in_memory.path(), "");
    assert_eq!(from(&memory), "memory");
    memory.says("compared with the system's copy in memory");
    assert_eq!(from(&saved(in_memory.path(), "--no-check")), serde_json::Value::Null);
}

/// Fails when a plan or a failed save leaves a folder, or when a new folder is not created.
#[test]
fn save_creates_a_new_folder() {
    let bench = Bench::with_card("");
    bench.good("save rack:a new/ --plan");
    bench.imbrik("save rack:z new/").expect(2);
    bench.imbrik("save rack:a new/ --level 99").expect(2);
    assert!(!bench.path("new").exists());
    bench.good("save rack:a new/");
    assert_eq!(bench.list("new").len(), 2);
    bench.good("save rack:a new/");
    assert_eq!(bench.list("new").len(), 4);
    fs::write(bench.path("file"), "").unwrap();
    assert_ne!(bench.imbrik("save rack:a file/").code, 0);
    assert_ne!(bench.imbrik("save rack:a none/below/").code, 0);
    assert!(!bench.path("none").exists());
}
