//! Backups over time: nothing that a rule keeps is removed, and no damage spreads or is forgotten.

use crate::harness::{Bench, Run, flip, is_root, put, tool};
use serde_json::Value;
use std::{
    fs,
    path::{Path, PathBuf},
};

/// Dates a raw image on the shelf `days` days back; a negative number is in the future.
fn date(bench: &Bench, name: &str, days: i64) {
    let at = tool!("date", "-u", "-d", format!("{days} days ago"), "+%Y-%m-%dT%H:%M:%S.000000000Z");
    let beside = bench.path(format!("shelf/{name}.manifest.json"));
    let mut manifest: Value = serde_json::from_str(&fs::read_to_string(&beside).unwrap()).unwrap();
    manifest["made_at"] = at.trim().into();
    fs::write(beside, manifest.to_string()).unwrap();
}

/// A shelf and a card `a`; `b` is another board with the same host name.
fn bench() -> Bench {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 83886080\n");
    fs::create_dir(bench.path("shelf")).unwrap();
    bench.good("shelf make shelf");
    fs::copy(bench.path("rack/a.img"), bench.path("rack/b.img")).unwrap();
    let card = bench.path("rack/b.img");
    fs::OpenOptions::new().write(true).open(&card).unwrap().set_len(83_886_080).unwrap();
    tool!("sfdisk", "-q", "--disk-id", card, "0x48560099");
    // The volume's own id.
    let ext = bench.path("ext");
    fs::write(&ext, &fs::read(&card).unwrap()[34816 * 512..(34816 + 96256) * 512]).unwrap();
    tool!("tune2fs", "-U", "11111111-2222-4333-8444-555555555555", ext);
    put(&card, 34816 * 512, &fs::read(&ext).unwrap());
    bench
}

fn images(told: &Value) -> Vec<(String, String)> {
    let text = |one: &Value, key: &str| one[key].as_str().unwrap().to_owned();
    let all = told["images"].as_array().unwrap().iter();
    all.map(|one| (text(one, "card"), text(one, "status"))).collect()
}

/// Fails when cards are identified by their names: the rules would remove all images of the board that is not
/// saved any more, and `due` would not miss it.
#[test]
fn boards_with_equal_host_names_are_different_cards() {
    let bench = bench();
    for (slot, days) in [("a", [20, 21, 22, 23]), ("b", [0, 1, 2, 3])] {
        bench.good(&format!("save rack:{slot} {slot}.img.zst --no-check"));
        for day in days {
            bench.good(&format!("repack {slot}.img.zst shelf/night-{day}.img"));
            date(&bench, &format!("night-{day}.img"), day);
        }
    }
    bench.run(["shelf", "keep", "shelf", "2 newest"]).expect(0);
    let list = bench.good("shelf list shelf --json").json();
    let fates = images(&list);
    assert_eq!(fates.iter().filter(|(_, status)| status == "remove").count(), 4, "{fates:?}");
    let cards: std::collections::BTreeSet<_> = fates.iter().map(|(card, _)| card).collect();
    assert_eq!(cards.len(), 2, "{cards:?}");
    bench.good("shelf thin shelf --yes");
    let left = bench.list("shelf");
    for day in [0, 1, 20, 21] {
        let name = format!("night-{day}.img");
        assert!(left.iter().any(|found| *found == *name), "{name} of {left:?}");
    }
    let run = bench.imbrik("shelf due shelf").expect(7);
    run.shows("was last saved 20 days ago").says("2 cards are named hive-07");
    // A name that both have is refused, with both names that work.
    let run = bench
        .imbrik("check shelf/hive-07")
        .expect(2)
        .says("2 cards on the shelf are named hive-07");
    for card in cards {
        assert!(run.err_has(card), "{card}: {}", run.stderr);
        bench.good(&format!("check shelf/{card}"));
    }
    bench.good("save rack:b shelf --no-check").says("other cards are named hive-07 too");
    // The base is an image of the same card.
    tool!("sh", "-c", format!("rm {}/*.zst", bench.path("shelf").display()));
    let told = bench.good("save rack:b shelf --no-check --json").json();
    let base = told["reused"]["image"].as_str().unwrap();
    assert!(base.ends_with("night-0.img") || base.ends_with("night-1.img"), "{base}");
}

/// Flips a bit in the middle of an image on the shelf, which is in a frame of data.
fn damage(bench: &Bench, name: &str) -> PathBuf {
    let image = bench.path("shelf").join(name);
    flip(&image, fs::metadata(&image).unwrap().len() / 2);
    image
}

fn newest(bench: &Bench) -> String {
    let list = bench.good("shelf list shelf --json").json();
    let path = list["images"][0]["image"].as_str().unwrap().to_owned();
    Path::new(&path).file_name().unwrap().to_str().unwrap().to_owned()
}

/// Fails when a frame is copied without being verified: every later image of a healthy card would be damaged.
#[test]
fn damage_in_the_newest_image_is_reported_and_does_not_spread() {
    let bench = bench();
    for pack in ["", " --level 1"] {
        bench.good(&format!("save rack:a shelf{pack}"));
        bench.good("save rack:a shelf");
        let damaged = newest(&bench);
        damage(&bench, &damaged);
        let run = bench.imbrik("shelf add shelf rack:a").expect(3);
        run.says(&format!("{damaged} is damaged")).says("read from the card again");
        let repaired = newest(&bench);
        assert_ne!(repaired, damaged);
        bench.good(&format!("check shelf/{repaired}"));
        bench.imbrik(&format!("check shelf/{damaged}")).expect(3);
        // It is remembered, and not used any more.
        bench.imbrik("shelf due shelf").expect(7).shows(&format!("{damaged} is damaged"));
        let run = bench.good("shelf add shelf rack:a --verbose").shows(&repaired);
        assert!(!run.out_has(&damaged), "{}", run.stdout);
    }
    // A raw image as the base.
    bench.good("save rack:a raw.img");
    flip(&bench.path("raw.img"), 34816 * 512 + (4 << 20));
    let run = bench.imbrik("save rack:a new.img.zst --reuse raw.img");
    // The tile of a raw image is verified when something of it is needed.
    assert_eq!(run.code == 3, run.err_has("raw.img is damaged"), "{run:?}");
    bench.good("check new.img.zst");
    bench.good("check --against rack:a new.img.zst");
}

fn due(bench: &Bench) -> Run {
    bench.imbrik("shelf due shelf")
}

/// Fails if a result is kept or dropped by comparing times of different clocks.
#[test]
fn check_result_is_valid_until_the_image_changes() {
    let bench = bench();
    bench.good("save rack:a shelf");
    let name = newest(&bench);
    let image = bench.path("shelf").join(&name);
    let sound = fs::read(&image).unwrap();
    damage(&bench, &name);
    bench.imbrik("shelf check shelf").expect(3);
    // The clock of the file server is ahead, and the file was touched.
    tool!("touch", "-d", "2 days", image);
    due(&bench).expect(7).shows("is damaged");
    let run = bench.good("shelf add shelf rack:a --json").json();
    assert_eq!(run["reused"], Value::Null, "{run}");
    // Repaired, and checked again.
    fs::write(&image, &sound).unwrap();
    due(&bench).expect(7).shows("is damaged");
    bench.good("shelf check shelf");
    due(&bench).expect(0);
    // A damaged copy with an old time takes its place.
    let mut copy = sound.clone();
    let middle = copy.len() / 2;
    copy[middle] ^= 1;
    let time = tool!("stat", "-c", "@%Y", image);
    fs::remove_file(&image).unwrap();
    fs::write(&image, &copy).unwrap();
    tool!("touch", "-d", time.trim(), image);
    let list = bench.good("shelf list shelf --json").json();
    let one = list["images"].as_array().unwrap().iter();
    let mut one = one.filter(|one| one["image"].as_str().unwrap().ends_with(&name));
    assert_eq!(one.next().unwrap()["checked_at"], Value::Null, "{list}");
    // A pin is about an image, not about a name.
    bench.good(&format!("shelf pin shelf/{name}"));
    bench.good(&format!("save rack:b {name} --no-check"));
    fs::copy(bench.path(&name), &image).unwrap();
    let list = bench.good("shelf list shelf --json").json();
    assert!(images(&list).iter().all(|(_, status)| status != "pinned"), "{list}");
}

/// Fails when an image from the future counts as recent, or hides that a card was not saved for long.
#[test]
fn image_from_the_future_does_not_count_as_recent() {
    let bench = bench();
    bench.good("save rack:a a.img.zst --no-check");
    for day in [40, -900] {
        bench.good(&format!("repack a.img.zst shelf/night{day}.img"));
        date(&bench, &format!("night{day}.img"), day);
    }
    bench.run(["shelf", "keep", "shelf", "1 newest"]).expect(0);
    due(&bench).expect(7).shows("hive-07 was last saved 40 days ago");
    let list = bench.good("shelf list shelf --json").json();
    let fates: Vec<_> = images(&list).into_iter().map(|(_, status)| status).collect();
    assert_eq!(fates, ["newest", "future-date"]);
    fs::remove_file(bench.path("shelf/night40.img")).unwrap();
    due(&bench).expect(7).shows("in the future");
    bench.good("save rack:a shelf --no-check").says("in the future: check the clock");
    due(&bench).expect(7);
    bench.good("shelf check shelf");
    due(&bench).expect(0);
}

/// Fails if a folder with images of the user is thinned by rules that the user did not choose.
#[test]
fn images_present_at_shelf_creation_are_pinned() {
    let bench = Bench::with_card("");
    fs::create_dir(bench.path("shelf")).unwrap();
    bench.good("save rack:a a.img.zst --no-check");
    for day in 1..=5 {
        bench.good(&format!("repack a.img.zst shelf/by-hand-{day}.img"));
        date(&bench, &format!("by-hand-{day}.img"), day * 100);
    }
    bench.good("shelf make shelf").shows("5 images that were in the folder already are pinned");
    bench.run(["shelf", "keep", "shelf", "1 newest"]).expect(0);
    bench.good("shelf add shelf rack:a --thin").shows("No image to remove, 6 kept");
    assert_eq!(
        bench.list("shelf").iter().filter(|name| name.to_str().unwrap().ends_with(".img")).count(),
        5
    );
}

/// A full disk, unmounted when it is dropped.
struct Disk(PathBuf);

impl Disk {
    fn mount(at: PathBuf, mib: u64) -> Self {
        fs::create_dir_all(&at).unwrap();
        tool!("mount", "-t", "tmpfs", "-o", format!("size={mib}M"), "tmpfs", at);
        Self(at)
    }
}

impl Drop for Disk {
    fn drop(&mut self) {
        let _ = std::process::Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

/// Fails if each night ends with a full disk although images could be removed, or leftovers of failed nights fill it.
#[test]
fn full_disk_is_freed_by_removing_images_that_no_rule_keeps() {
    if !is_root("full_disk_is_freed_by_removing_images_that_no_rule_keeps") {
        return;
    }
    let bench = bench();
    let _disk = Disk::mount(bench.path("disk"), 40);
    bench.good("save rack:a old.img.zst --no-check");
    bench.good("shelf make disk");
    bench.run(["shelf", "keep", "disk", "1 newest"]).expect(0);
    for _ in 0..4 {
        bench.good("save rack:a disk --no-check");
    }
    let free = tool!("df", "--output=avail", "-B1", bench.path("disk"));
    let free: usize = free.lines().last().unwrap().trim().parse().unwrap();
    fs::write(bench.path("disk/filler"), vec![1; free - (1 << 20)]).unwrap();
    let run = bench.imbrik("shelf add disk rack:a").expect(5);
    run.says("To free at least").says("imbrik shelf thin disk");
    assert!(bench.list("disk").iter().all(|name| !name.to_str().unwrap().ends_with(".part")));
    bench.good("shelf add disk rack:a --thin").says("The disk is full. Removing 3 images");
    // Nothing can be removed any more.
    let free = tool!("df", "--output=avail", "-B1", bench.path("disk"));
    let free: usize = free.lines().last().unwrap().trim().parse().unwrap();
    fs::write(bench.path("disk/more"), vec![1; free - (1 << 20)]).unwrap();
    bench.run(["shelf", "keep", "disk", "20 newest"]).expect(0);
    bench.imbrik("shelf add disk rack:a --thin").expect(5).says("Free space on its disk");
    // The removable images are not enough.
    fs::remove_file(bench.path("disk/more")).unwrap();
    bench.good("repack old.img.zst disk/old.img.zst --level 19");
    bench.run(["shelf", "keep", "disk", "1 newest"]).expect(0);
    let free = tool!("df", "--output=avail", "-B1", bench.path("disk"));
    let free: usize = free.lines().last().unwrap().trim().parse().unwrap();
    fs::write(bench.path("disk/more"), vec![1; free - 4096]).unwrap();
    let run = bench.imbrik("shelf add disk rack:a --thin").expect(5);
    run.says("Removing 1 image").says("No image was added").says("Free space on its disk");
    assert!(bench.list("disk").iter().all(|name| !name.to_str().unwrap().contains(".part")));
}

/// Fails when an image is written into the empty folder under a mount point.
#[test]
fn shelf_that_was_unmounted_meanwhile_gets_nothing() {
    if !is_root("shelf_that_was_unmounted_meanwhile_gets_nothing") {
        return;
    }
    // The card answers slowly, so that there is time between the plan and the first write.
    let bench = Bench::with_slot_a("read_rate = 3000000", "");
    let disk = Disk::mount(bench.path("disk"), 60);
    bench.good("shelf make disk");
    let mut child = bench.command(["shelf", "add", "disk", "rack:a"]);
    child.stderr(std::process::Stdio::piped()).stdout(std::process::Stdio::piped());
    let child = child.spawn().unwrap();
    std::thread::sleep(std::time::Duration::from_millis(150));
    drop(disk);
    let run = Run::of(&child.wait_with_output().unwrap());
    assert_eq!(bench.list("disk"), Vec::<std::ffi::OsString>::new(), "{run:?}");
}

/// A GPT on a card that is larger than its image, and an image of one partition: fails when a card that holds the
/// same is called different.
#[test]
fn card_that_holds_the_image_is_not_called_different() {
    let bench = Bench::with_card("[[slot]]\nname = \"big\"\nsize = 134217728\n");
    bench.good("save rack:a mbr.img --exact");
    // The same volumes under a GPT.
    let card = bench.path("gpt.img");
    fs::copy(bench.path("mbr.img"), &card).unwrap();
    fs::OpenOptions::new().write(true).open(&card).unwrap().set_len(80 << 20).unwrap();
    let table = "label: gpt\nstart=2048,size=32768\nstart=34816,size=96256\n";
    let text = bench.path("table");
    fs::write(&text, table).unwrap();
    tool!("sh", "-c", format!("sfdisk -q {} < {}", card.display(), text.display()));
    // Copied byte by byte onto a bigger card.
    put(&bench.path("rack/big.img"), 0, &fs::read(&card).unwrap());
    bench
        .good("check gpt.img --against rack:big")
        .shows("holds the same")
        .shows("not extended to the end");
    flip(&bench.path("rack/big.img"), 34816 * 512 + (5 << 20));
    bench
        .imbrik("check gpt.img --against rack:big")
        .expect(3)
        .shows("but the card holds something else");
    // A restore puts the backup at the end: damage there is a difference.
    bench.good("restore gpt.img rack:big --yes --keep-size");
    bench.good("check gpt.img --against rack:big");
    flip(&bench.path("rack/big.img"), 134_217_728 - 512 + 100);
    bench.imbrik("check gpt.img --against rack:big").expect(3);
    // One partition, restored into a partition of another card.
    bench.good("save rack:a --only 2 root.img.zst");
    bench.good("restore mbr.img rack:big --yes --keep-size");
    bench.good("restore root.img.zst rack:big --into 2 --yes");
    bench
        .good("check root.img.zst --against rack:big")
        .shows("partition 2 of rack:big holds the same");
    flip(&bench.path("rack/big.img"), 34816 * 512 + (5 << 20));
    bench.imbrik("check root.img.zst --against rack:big").expect(3);
}

/// Fails when a file is called whole that another decoder refuses, or readable when its container is damaged.
#[test]
fn file_that_other_decoders_refuse_is_called_damaged() {
    let bench = Bench::with_card("");
    bench.good("save rack:a hive.img.zst");
    let sound = bench.bytes("hive.img.zst");
    let find = |text: &[u8]| sound.windows(text.len()).rposition(|bytes| bytes == text).unwrap();
    let manifest = find(b"imbrik-manifest\n") - 8;
    let table = find(&0x184d_2a5eu32.to_le_bytes());
    let (mut refused, mut accepted) = (0, 0);
    for at in (manifest..manifest + 8).chain(table..table + 8) {
        for bit in 0..8 {
            let mut bytes = sound.clone();
            bytes[at] ^= 1 << bit;
            fs::write(bench.path("y.img.zst"), &bytes).unwrap();
            let mut judge = std::process::Command::new("zstd");
            let judged = judge.arg("-tq").arg(bench.path("y.img.zst")).output().unwrap();
            let is_refused = !judged.status.success();
            let run = bench.imbrik("check y.img.zst");
            assert!(!is_refused || run.code == 3, "byte {at}, bit {bit}: {run:?}");
            refused += u32::from(is_refused);
            accepted += u32::from(!is_refused && run.code == 0);
        }
    }
    assert!(refused > 40 && accepted > 0, "{refused} refused, {accepted} accepted by both");
    // Raw bytes after the end of an .lzma file, a damaged xz header, a zip with inconsistent headers.
    fs::write(bench.path("v"), bench.bytes("rack/a.img")).unwrap();
    let make = "xz -k v; xz -k --format=lzma v; zip -q v.zip v";
    tool!("sh", "-c", format!("cd {}; {make}", bench.path("").display()));
    for (name, at) in [("v.xz", 9), ("v.zip", 15)] {
        bench.good(&format!("check {name}")).shows("is readable");
        flip(&bench.path(name), at);
        let run = bench.imbrik(&format!("check {name}")).expect(3);
        assert!(run.out_has("other programs reject") || run.err_has("check that one"), "{run:?}");
    }
    bench.good("check v.lzma").shows("is readable");
    let twice = [bench.bytes("v.lzma"), bench.bytes("v.lzma")].concat();
    fs::write(bench.path("v.lzma"), twice).unwrap();
    bench.imbrik("check v.lzma").expect(3).says("bytes follow the end of the content");
}

/// Fails when ids that stay are not mentioned.
#[test]
fn volume_that_keeps_its_id_is_named() {
    let bench = Bench::with_card("[[slot]]\nname = \"b\"\nsize = 67633152\n");
    // Three tables: not recognised, and its serial number stays.
    let fat = bench.path("fat");
    fs::write(&fat, vec![0; 32768 * 512]).unwrap();
    tool!("mkfs.fat", "-f", "3", &fat);
    put(&bench.path("rack/a.img"), 2048 * 512, &fs::read(&fat).unwrap());
    let run = bench.good("clone rack:a rack:b --ids fresh --plan");
    run.shows("partition 1").shows("keeps its id: its content is not recognised");
    // A swap that holds a hibernated system.
    let swap = bench.path("swap");
    fs::write(&swap, vec![0; 32768 * 512]).unwrap();
    tool!("mkswap", "-q", &swap);
    put(&swap, 4086, b"S1SUSPEND\0");
    put(&bench.path("rack/a.img"), 2048 * 512, &fs::read(&swap).unwrap());
    bench.good("clone rack:a rack:b --ids fresh --plan").shows("keeps its id");
}
