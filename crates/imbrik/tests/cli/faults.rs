//! Each fault against each command: how it ends, what is said, and what there is afterwards. Nothing is
//! lost in any of them.

use crate::harness::{Bench, CARD, all_are, flip, is_root, noise, put, sized, tool};
use serde_json::json;
use std::{cell::RefCell, fs, path::PathBuf};

/// A place of the card at which a file stands.
const BAD: [u64; 2] = [2 << 20, 8_192];

const SAVE: &str = "save rack:a out/new.img.zst";
const SAVE_RAW: &str = "save rack:a out/new.img";
const SAVE_EXACT: &str = "save rack:a out/new.img.zst --exact";
const SAVE_FITTED: &str = "save rack:a out/new.img.zst --fit";
const CLONE: &str = "clone rack:a rack:b --yes";
const AGAINST: &str = "check old.img.zst --against rack:a";
const SHOW: &str = "show rack:a";
const MEND: &str = "mend lacking.img.zst rack:a";
const WEIGH: &str = "weigh rack:a";
const RESTORE: &str = "restore old.img.zst rack:b --yes";
const REPACK: &str = "repack old.img.zst out/new.img.gz";
const FIT: &str = "fit old.img.zst out/new.img.zst";
const CHECK: &str = "check old.img.zst";
const SHOW_IMAGE: &str = "show old.img.zst";

/// What is made once: a card, an image of it, one that lacks something, and a card that is full of old
/// bytes.
struct Base {
    bench: Bench,
    card: Vec<u8>,
    lacking: Vec<u8>,
    /// What does not hold.
    wrong: RefCell<Vec<String>>,
}

impl Base {
    fn new() -> Self {
        let bench = Bench::with_card("");
        let card = bench.bytes("rack/a.img");
        bench.good("save rack:a old.img.zst");
        let mut base = Self { bench, card, lacking: Vec::new(), wrong: RefCell::default() };
        base.rack(&format!("unreadable = {}", json!([BAD])), "");
        base.bench.imbrik("save rack:a lacking.img.zst").expect(6);
        base.lacking = base.bench.bytes("lacking.img.zst");
        base.rack("", "");
        fs::create_dir(base.bench.path("out")).unwrap();
        base
    }

    fn rack(&self, a: &str, b: &str) {
        let slot = |name: &str, lines: &str| {
            let size =
                if lines.contains("size") { String::new() } else { format!("size = {CARD}\n") };
            format!("[[slot]]\nname = \"{name}\"\n{size}{lines}\n")
        };
        self.bench.write_rack(&format!("{}{}", slot("a", a), slot("b", b)));
    }

    /// All is as it was in the beginning.
    fn reset(&self) {
        self.rack("", "");
        fs::write(self.bench.path("rack/b.img"), vec![0xee; CARD as usize]).unwrap();
        if self.bench.bytes("rack/a.img") != self.card {
            fs::write(self.bench.path("rack/a.img"), &self.card).unwrap();
        }
        fs::write(self.bench.path("lacking.img.zst"), &self.lacking).unwrap();
        for name in self.bench.list("out") {
            fs::remove_file(self.bench.path("out").join(name)).unwrap();
        }
    }

    /// Runs a command, which ends in `code` and says `words`, and looks what there is then.
    fn cell(&self, fault: &str, command: &str, code: i32, words: &str) {
        let bench = &self.bench;
        let kept: Vec<(PathBuf, Vec<u8>)> = ["old.img.zst", "lacking.img.zst"]
            .into_iter()
            .filter_map(|name| Some((bench.path(name), fs::read(bench.path(name)).ok()?)))
            .collect();
        let run = bench.imbrik(command);
        let told = format!("{fault}: {command}: {}\n{}", run.stdout, run.stderr);
        if run.code != code {
            self.wrong(format!("{} instead of {code}: {told}", run.code));
            return;
        }
        self.must(
            run.err_has(words) || run.out_has(words),
            &format!("{words:?} is not said: {told}"),
        );
        // What failed says what state things are in, and what to do.
        if ![0, 6].contains(&code) && run.stderr.contains("imbrik: ") {
            let lines = run.stderr.lines().filter(|line| line.starts_with("  ")).count();
            self.must(lines >= 2, &told);
        }
        let is_as_it_was = bench.bytes("rack/a.img") == self.card;
        // Pulled out in the middle, what no volume has in use may hold something else.
        if command == WEIGH && run.err_has("pulled out in the middle") {
            self.rack("", "");
            let held = bench.imbrik(AGAINST);
            self.must(held.code == 0, &format!("what is in use was changed: {told}"));
        } else {
            self.must(is_as_it_was, &format!("the card was changed: {told}"));
        }
        for (path, bytes) in kept {
            let is_mended = command == MEND && code != 1;
            self.must(is_mended || fs::read(&path).unwrap() == bytes, &told);
        }
        // A name is that of a whole image, or of none.
        for name in ["out/new.img.zst", "out/new.img.gz", "out/new.img"] {
            if bench.path(name).is_file() {
                self.must([0, 6].contains(&code), &format!("{name} is there: {told}"));
                bench.good(&format!("check {name}"));
                for beside in ["", ".sha256", ".imbrik.json"] {
                    let _ = fs::remove_file(bench.path(format!("{name}{beside}")));
                }
            } else {
                self.must(
                    !command.split(' ').any(|word| word == name) || ![0, 6].contains(&code),
                    &told,
                );
            }
            for left in [".part", ".part.notes"] {
                let _ = fs::remove_file(bench.path(format!("{name}{left}")));
            }
        }
        // A card is as it was, has no table, or is what was to be.
        if command == RESTORE || command == CLONE {
            let now = bench.bytes("rack/b.img");
            let is_untouched = all_are(&now[..CARD.min(now.len() as u64) as usize], 0xee);
            let is_blank = now.len() > 512 && all_are(&now[..512], 0);
            match code {
                0 | 6 => self.must(!is_untouched && !is_blank, &told),
                // It holds less than it claims, and that is told.
                3 if run.err_has("did not keep") => {}
                _ => self.must(is_untouched || is_blank, &told),
            }
        }
    }

    fn must(&self, holds: bool, told: &str) {
        if !holds {
            self.wrong(told.to_owned());
        }
    }

    fn wrong(&self, told: String) {
        self.wrong.borrow_mut().push(told);
    }

    fn each(&self, fault: &str, a: &str, b: &str, cells: &[(&str, i32, &str)]) -> usize {
        for (command, code, words) in cells {
            self.reset();
            self.rack(a, b);
            if b.contains("size") {
                let size: u64 =
                    b.split("size = ").nth(1).unwrap().split('\n').next().unwrap().parse().unwrap();
                fs::File::options()
                    .write(true)
                    .open(self.bench.path("rack/b.img"))
                    .unwrap()
                    .set_len(size)
                    .unwrap();
            }
            self.cell(fault, command, *code, words);
        }
        cells.len()
    }
}

/// Would fail where a fault ends in another code than it should, where something is said that is not so or
/// nothing of what to do, or where an image or a card is lost that was there.
#[test]
#[ignore = "long: run by ./test --full"]
fn every_fault_ends_as_it_should_and_nothing_is_lost() {
    let base = Base::new();
    let mut cells = 0;
    let bad = format!("unreadable = {}", json!([BAD]));
    cells += base.each(
        "a bad place",
        &bad,
        "",
        &[
            (SAVE, 6, "could not be read"),
            (SAVE_RAW, 6, "could not be read"),
            (SAVE_EXACT, 6, "could not be read"),
            (SAVE_FITTED, 6, "could not be read"),
            ("save rack:a out/new.img.zst --strict", 1, "cannot be read"),
            (CLONE, 6, "could not be read"),
            (AGAINST, 3, "could not be read"),
            (SHOW, 0, "hive-07"),
            (MEND, 6, "none of it could be read"),
            (WEIGH, 0, "no sign of less"),
        ],
    );
    cells += base.each(
        "a place that needs three tries",
        &format!("flaky = {}", json!([[BAD[0], 512, 3]])),
        "",
        &[
            (SAVE, 0, "Next"),
            (SAVE_RAW, 0, "Next"),
            (CLONE, 0, "now holds"),
            (AGAINST, 0, "holds the same"),
            (SHOW, 0, "hive-07"),
            (MEND, 0, "Mended"),
        ],
    );
    cells += base.each(
        "a table that cannot be read",
        "unreadable = [[0, 512]]",
        "",
        &[
            (SAVE, 6, "could not be read"),
            (SHOW, 0, "cannot be read"),
            (MEND, 4, "nothing that can be read"),
            (WEIGH, 4, "--erase"),
        ],
    );
    cells += base.each(
        "pulled out at once",
        "pulled_after = 2000",
        "",
        &[
            (SAVE, 1, "does not answer"),
            (SAVE_FITTED, 1, "does not answer"),
            (CLONE, 1, "does not answer"),
            (AGAINST, 1, "does not answer"),
            (SHOW, 1, "does not answer"),
            (MEND, 1, "does not answer"),
            (WEIGH, 1, "does not answer"),
        ],
    );
    cells += base.each(
        "pulled out in the middle",
        "pulled_after = 5000000",
        "",
        &[
            (SAVE, 1, "--resume"),
            (SAVE_EXACT, 1, "--resume"),
            (CLONE, 1, "does not answer"),
            (AGAINST, 1, "does not answer"),
            (WEIGH, 1, "does not answer"),
        ],
    );
    cells += base.each(
        "a card that is read-only",
        "read_only = true",
        "",
        &[(SAVE, 0, "Next"), (CLONE, 0, "now holds"), (WEIGH, 4, "write-protected")],
    );
    cells += base.each(
        "a card in use",
        "mounted_at = [\"/media/hive\"]",
        "",
        &[
            (SAVE, 4, "--unmount"),
            (CLONE, 4, "--unmount"),
            (MEND, 4, "--unmount"),
            (WEIGH, 4, "--unmount"),
            (SHOW, 0, "hive-07"),
        ],
    );
    for (fault, b, code, words) in [
        ("a card that wraps around", "wraps_at = 33554432", 3, "did not keep"),
        ("a card that keeps half", "keeps = 20971520", 3, "did not keep"),
        ("a target pulled out at once", "pulled_after = 2000", 1, "does not answer"),
        ("a target pulled out in the middle", "pulled_after = 6000000", 1, "no partition table"),
        ("a target that is read-only", "read_only = true", 4, "write-protected"),
        ("a target in use", "mounted_at = [\"/media/hive\"]", 4, "--unmount"),
        ("a target that is far too small", "size = 1048576", 5, "too small"),
    ] {
        cells += base.each(fault, "", b, &[(RESTORE, code, words), (CLONE, code, words)]);
    }
    cells += damaged_images(&base);
    cells += names(&base);
    println!("{cells} cells");
    let wrong = base.wrong.borrow();
    assert!(wrong.is_empty(), "{} of {cells}:\n{}", wrong.len(), wrong.join("\n"));
    assert!(cells >= 60, "{cells}");
}

/// What is done to an image, and how each command ends then and what it says.
type Damage<'a> = (&'a str, &'a dyn Fn(), [(i32, &'a str); 6]);

fn damaged_images(base: &Base) -> usize {
    let bench = &base.bench;
    let image = bench.path("old.img.zst");
    let whole = fs::read(&image).unwrap();
    let faults: [Damage<'_>; 5] = [
        (
            "an image that is cut",
            &|| fs::write(&image, &whole[..whole.len() / 2]).unwrap(),
            [
                (3, "cut short"),
                (3, "cut short"),
                (3, "cut short"),
                (3, "cut short"),
                (3, "cut short"),
                (3, "cut short"),
            ],
        ),
        (
            "an image with a flipped bit",
            &|| flip(&image, whole.len() as u64 / 2),
            [
                (3, "damaged"),
                (3, "damaged"),
                (3, "damaged"),
                (3, "damaged"),
                (3, "damaged"),
                (3, "damaged"),
            ],
        ),
        (
            "an image of no length",
            &|| fs::write(&image, b"").unwrap(),
            [(3, "empty"), (3, "empty"), (3, "empty"), (3, "empty"), (3, "empty"), (3, "empty")],
        ),
        (
            "a letter instead of an image",
            &|| fs::write(&image, b"dear keeper\n").unwrap(),
            [
                (4, "is a text"),
                (4, "another size"),
                (0, "no digests of its own"),
                (3, "does not match"),
                (0, "nothing"),
                (3, "does not match"),
            ],
        ),
        (
            "no image",
            &|| fs::remove_file(&image).unwrap(),
            [
                (2, "there is no"),
                (2, "there is no"),
                (2, "there is no"),
                (2, "there is no"),
                (2, "there is no"),
                (2, "there is no"),
            ],
        ),
    ];
    let mut cells = 0;
    for (fault, damage, ends) in faults {
        let commands = [RESTORE, FIT, REPACK, CHECK, SHOW_IMAGE, AGAINST];
        for (command, (code, words)) in commands.into_iter().zip(ends) {
            base.reset();
            fs::write(&image, &whole).unwrap();
            damage();
            base.cell(fault, command, code, words);
            cells += 1;
        }
    }
    fs::write(&image, &whole).unwrap();
    cells
}

fn names(base: &Base) -> usize {
    let bench = &base.bench;
    let mut cells = 0;
    base.reset();
    for command in [SAVE, REPACK, FIT] {
        let away = command.replace("out/", "away/");
        base.cell("no folder", &away, 1, "Make the folder first");
        cells += 1;
    }
    for command in [SAVE_FITTED, REPACK, FIT] {
        for name in ["out/new.img.zst", "out/new.img.gz"] {
            fs::write(bench.path(name), "a letter").unwrap();
        }
        let run = bench.imbrik(command);
        let told = format!("a file of that name: {command}: {}", run.stderr);
        base.must(run.code == 4 && run.err_has("exists already"), &told);
        let is_there = |name: &str| bench.bytes(name) == b"a letter";
        base.must(is_there("out/new.img.zst") && is_there("out/new.img.gz"), &told);
        cells += 1;
    }
    base.reset();
    if !is_root("every_fault_ends_as_it_should_and_nothing_is_lost") {
        return cells;
    }
    let out = bench.path("out");
    tool!("mount", "-t", "tmpfs", "-o", "size=2m", "tmpfs", &out);
    for command in [SAVE, SAVE_RAW, SAVE_EXACT, SAVE_FITTED, REPACK, FIT] {
        base.cell("a full disk", command, 5, "free");
        cells += 1;
    }
    tool!("mount", "-o", "remount,ro,size=64m", &out);
    for command in [SAVE, SAVE_RAW, REPACK, FIT] {
        base.cell("a disk that is read-only", command, 1, "read-only");
        cells += 1;
    }
    tool!("umount", &out);
    cells
}

/// A loop device that is detached, and one that another program holds, while the program works.
#[test]
#[ignore = "long: run by ./test --full"]
fn a_device_that_goes_away_or_is_held_is_told() {
    if !is_root("a_device_that_goes_away_or_is_held_is_told") {
        return;
    }
    let bench = Bench::with_card("");
    let card = bench.path("rack/a.img");
    // A filesystem that has no room for what the loop device is to hold: writing ends in an error.
    let small = bench.path("small");
    fs::create_dir(&small).unwrap();
    tool!("mount", "-t", "tmpfs", "-o", "size=8m", "tmpfs", &small);
    sized(&small.join("card.img"), CARD);
    let device = tool!("losetup", "--find", "--show", small.join("card.img"));
    let device = device.trim();
    bench.good("save rack:a old.img.zst --exact");
    put(&card, 40 << 20, &noise(20 << 20));
    bench.good("save rack:a full.img.zst --exact");
    let run = bench.imbrik(&format!("restore full.img.zst {device} --yes --allow-fixed"));
    assert_ne!(run.code, 0, "{}", run.stderr);
    assert!(run.err_has("no partition table") || run.err_has("did not keep"), "{}", run.stderr);
    tool!("losetup", "-d", device);
    tool!("umount", &small);
}

/// Would fail where a night run that failed leaves nothing to go by, or where a stranger's text in a log
/// steers the terminal of whoever reads it.
#[test]
fn a_log_tells_what_was_decided_read_again_and_how_it_ended() {
    let bench = Bench::with_slot_a(&format!("unreadable = {}", json!([BAD])), "");
    bench.imbrik("save rack:a one.img.zst --log night.log").expect(6);
    let log = String::from_utf8(bench.bytes("night.log")).unwrap();
    for words in
        ["begun", "save rack:a one.img.zst", "a journey begins", "a place did not answer", "code=6"]
    {
        assert!(log.contains(words), "{words}: {log}");
    }
    assert!(log.lines().all(|line| line.starts_with("20") && line.contains("Z ")), "{log}");
    // Another run goes on with it; the environment names it, too.
    let mut command = bench.command(["check", "none\u{1b}[2J.img"]);
    command.env("IMBRIK_LOG", "night.log");
    assert_eq!(command.output().unwrap().status.code(), Some(2));
    let more = bench.bytes("night.log");
    assert!(more.len() > log.len() && !more.contains(&0x1b));
    assert!(String::from_utf8_lossy(&more[log.len()..]).contains("there is no image"));
    bench.imbrik("cards --log none/night.log").expect(1).says("opening the log");
}
