//! Every container, in and out, through files and pipes.

use crate::harness::{Bench, CARD, flip, interrupt, noise, tool};
use std::{fs, io::Write, process::Stdio};

/// A rack with a card that is saved exactly as `hive.img`, so that its bytes can be compared.
fn bench() -> Bench {
    let bench = Bench::with_card(&format!("[[slot]]\nname = \"b\"\nsize = {CARD}\n"));
    bench.good("save rack:a hive.img --exact");
    assert!(bench.bytes("hive.img") == bench.bytes("rack/a.img"));
    bench
}

fn sh(bench: &Bench, line: &str) -> String {
    tool!("sh", "-c", format!("cd {} && {line}", bench.path("").display()))
}

#[test]
fn written_containers_are_plain_files_for_other_tools() {
    let bench = bench();
    for (name, unpack) in
        [("x.img.gz", "gzip -dc"), ("x.img.xz", "xz -dc"), ("x.img.zst", "zstd -dqc")]
    {
        bench.good(&format!("save rack:a {name} --exact"));
        sh(&bench, &format!("{unpack} {name} | cmp - hive.img && sha256sum -c {name}.sha256"));
        let shown = bench.good(&format!("show {name} --json")).json();
        assert_eq!(shown["content"]["host"], "hive-07");
        bench.good(&format!("restore {name} rack:b --yes"));
        assert!(bench.bytes("rack/b.img") == bench.bytes("hive.img"), "{name}");
    }
}

#[test]
fn images_without_companion_files_show_and_restore() {
    let bench = bench();
    for name in ["x.img.gz", "x.img.xz", "x.img"] {
        bench.good(&format!("save rack:a {name}"));
        for end in ["manifest.json", "sha256"] {
            fs::remove_file(bench.path(format!("{name}.{end}"))).unwrap();
        }
        // Read at random all the same: nothing is unpacked.
        let run = bench.good(&format!("show {name}"));
        assert!(!run.err_has("unpacking"), "{}", run.stderr);
        run.shows("hive-07").shows("HIVE-BOOT");
        bench.good(&format!("restore {name} rack:b --yes"));
        bench.good(&format!("check {name} --against rack:b")).shows("no digests to compare");
    }
}

#[test]
#[ignore = "long: run by ./test --full"]
fn repack_changes_no_byte_and_copies_frames() {
    let bench = bench();
    bench.good("save rack:a a.img.zst --note before");
    let mut last = "a.img.zst".to_owned();
    for name in ["b.img.gz", "c.img.xz", "d.img", "e.img.zst"] {
        let run = bench.good(&format!("repack {last} {name}"));
        run.shows("each tile compared with its digest");
        bench.good(&format!("check {name}")).shows(": before");
        last = name.to_owned();
    }
    let same = |name: &str| bench.good(&format!("check {name} --against rack:a"));
    same("b.img.gz");
    same("e.img.zst");
    let run = bench.good("repack e.img.zst f.img.zst --json").json();
    assert!(run["frames_reused"].as_u64().unwrap() > 2, "{run}");
    let run = bench.good("repack e.img.zst g.img.zst --level 9 --json").json();
    assert_eq!(run["frames_reused"], 0);
    sh(&bench, "zstd -tq f.img.zst g.img.zst && zstd -dqc f.img.zst | cmp - d.img");
    // A folder, and a name that is there already.
    bench.good("repack b.img.gz . --pack xz").shows("b.img.xz");
    bench.imbrik("repack b.img.gz c.img.xz").expect(4).says("exists already");
    bench.good("repack b.img.gz c.img.xz --replace");
}

#[test]
fn repack_refuses_a_damaged_image() {
    let bench = bench();
    bench.good("save rack:a a.img.gz");
    let len = bench.bytes("a.img.gz").len() as u64;
    flip(&bench.path("a.img.gz"), len / 2);
    bench.imbrik("repack a.img.gz b.img.zst").expect(3).says("no image b.img.zst was written");
    assert!(!bench.path("b.img.zst").exists());
    bench.imbrik("repack a.img.gz - --pack raw").expect(3).says("is incomplete");
}

#[test]
fn foreign_images_are_read_under_any_name() {
    let bench = bench();
    for (made, name) in [
        ("gzip -1c hive.img", "x.iso"),
        ("xz -0c hive.img", "x.bin"),
        ("bzip2 -1c hive.img", "x"),
        ("xz -0c --format=lzma hive.img", "x.img"),
        ("zstd -qc hive.img", "x.img"),
        ("rm -f z.zip; zip -q1 z.zip hive.img && cat z.zip", "y.img"),
        ("rm -f z.7z; 7z a -mx=1 z.7z hive.img >/dev/null && cat z.7z", "y"),
    ] {
        sh(&bench, &format!("({made}) > {name}"));
        let run = bench.good(&format!("check {name}"));
        assert!(run.out_has("no digests"), "{made}: {}", run.stdout);
        bench.good(&format!("restore {name} rack:b --yes"));
        assert!(bench.bytes("rack/b.img") == bench.bytes("hive.img"), "{made}");
        bench.good(&format!("check {name} --against rack:a"));
    }
}

#[test]
fn archives_without_a_plain_image_are_refused_with_a_remedy() {
    let bench = bench();
    fs::write(bench.path("two.img"), noise(4000)).unwrap();
    fs::write(bench.path("readme.txt"), "about").unwrap();
    sh(
        &bench,
        "zip -q a.zip hive.img two.img && zip -q b.zip hive.img readme.txt && gzip -k two.img && zip -q c.zip two.img.gz && zip -q d.zip -P key hive.img && 7z a e.7z hive.img two.img >/dev/null && gzip -c two.img.gz > f.gz",
    );
    let unpack = "unpack";
    bench.imbrik("show a.zip").expect(1).says("2 files").says(unpack);
    bench.good("show b.zip").shows("hive-07");
    bench.imbrik("show c.zip").expect(1).says("a gzip file").says(unpack);
    bench.imbrik("show d.zip").expect(1).says(unpack);
    bench.imbrik("show e.7z").expect(1).says("2 files").says(unpack);
    bench.imbrik("show f.gz").expect(1).says("a gzip file").says(unpack);
}

#[test]
fn images_are_read_from_and_written_to_pipes() {
    let bench = bench();
    let program = env!("CARGO_BIN_EXE_imbrik");
    let imbrik = format!("IMBRIK_RACK=rack {program}");
    sh(&bench, &format!("{imbrik} save rack:a - --pack raw --exact 2>said | cmp - hive.img"));
    let said = String::from_utf8(bench.bytes("said")).unwrap();
    assert!(said.contains("standard output") && said.contains("SHA-256"), "{said}");
    sh(&bench, &format!("{imbrik} save rack:a - 2>said > p.img.zst && zstd -tq p.img.zst"));
    bench.good("check p.img.zst").shows("match their digests");
    for made in ["cat p.img.zst", "gzip -1c hive.img", "cat hive.img"] {
        sh(&bench, &format!("{made} | {imbrik} restore - rack:b --yes >/dev/null 2>said"));
        bench.good("check p.img.zst --against rack:b");
    }
    sh(&bench, &format!("cat p.img.zst | {imbrik} show - 2>said | grep -q HIVE-BOOT"));
    sh(
        &bench,
        &format!(
            "xz -0c hive.img | {imbrik} repack - - --pack gz 2>said | gzip -dc | cmp - hive.img"
        ),
    );
    bench.imbrik("save rack:a - --json").expect(2).says("both want standard output");
    bench.on_terminal("show -", "").expect(2).shows("standard input is a terminal");
    bench.on_terminal("save rack:a -", "").expect(2).shows("standard output is a terminal");
}

#[test]
fn closed_or_silent_pipe_ends_with_a_clear_message() {
    let bench = bench();
    let mut command = bench.command(["save", "rack:a", "-", "--pack", "raw", "--exact"]);
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(said.contains("is incomplete") && !said.contains("panicked"), "{said}");
    // The other end is open and silent.
    let mut command = bench.command(["show", "-"]);
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    child.stdin.as_mut().unwrap().write_all(b"half").unwrap();
    interrupt(&child);
    let input = child.stdin.take();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    drop(input);
}

#[test]
#[ignore = "long: run by ./test --full"]
fn decompression_bomb_uses_little_memory() {
    let bench = bench();
    // A gibibyte of zeros in a megabyte: it unpacks to next to nothing on the disk.
    sh(&bench, "head -c 1073741824 /dev/zero | gzip -1c > bomb.gz");
    let (_, peak) = bench.measured("show bomb.gz");
    assert!(peak < 160 << 10, "{peak} KiB");
}

#[test]
fn full_disk_while_unpacking_is_reported_with_a_remedy() {
    let bench = bench();
    sh(&bench, "gzip -1c hive.img > x.gz");
    let mut command = bench.command(["show", "x.gz"]);
    let output = command.env("TMPDIR", "/proc").output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(said.contains("making a temporary file in /proc"), "{said}");
    assert!(bench.list("").len() < 20);
}

#[test]
fn pasted_hash_is_compared_with_the_file_and_its_content() {
    let bench = bench();
    bench.good("save rack:a x.img.gz --exact");
    for (line, says) in [
        ("sha256sum x.img.gz", "matches the given SHA-256"),
        ("md5sum hive.img", "its content, unpacked, matches the given MD5"),
        ("sha1sum hive.img", "matches the given SHA-1"),
        ("sha512sum x.img.gz", "matches the given SHA-512"),
    ] {
        let hash = sh(&bench, line).split(' ').next().unwrap().to_owned();
        bench.good(&format!("check x.img.gz --expect {hash}")).shows(says);
    }
    let wrong = "a".repeat(64);
    let run = bench.imbrik(&format!("check x.img.gz --expect {wrong}")).expect(3);
    run.shows("neither compressed nor decompressed").shows("not the expected image");
    bench.imbrik("check x.img.gz --expect abc").expect(2).says("it has 3 characters");
}

#[test]
fn a_checksum_file_is_made_for_an_image_that_has_none() {
    let bench = bench();
    sh(&bench, "xz -0c hive.img > x.img.xz");
    bench.good("check x.img.xz --sum sha256").shows("x.img.xz.sha256");
    sh(&bench, "sha256sum -c x.img.xz.sha256");
    bench.good("check x.img.xz --sum md5").shows("SHA-256 matches");
    sh(&bench, "md5sum -c x.img.xz.md5");
    let len = bench.bytes("x.img.xz").len();
    fs::write(bench.path("y.img.xz"), &bench.bytes("x.img.xz")[..len / 2]).unwrap();
    bench.imbrik("check y.img.xz --sum sha256").expect(3);
    assert!(!bench.path("y.img.xz.sha256").exists(), "no checksum of a broken image");
}
