//! Images based on earlier ones: they equal those of a full save, and cost only changes.

use crate::harness::{Bench, is_root, noise, places_of, put, sized, times, tool};
use serde_json::Value;
use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
    thread::sleep,
    time::Duration,
};

const LEN: u64 = 600 << 20;
const FAT_AT: u64 = 2048 * 512;
const EXT_AT: u64 = FAT_AT + (40 << 20);

/// A volume of a card, mounted by the kernel until it is dropped.
struct Mounted {
    device: String,
    at: PathBuf,
}

impl Mounted {
    fn of(bench: &Bench, card: &str) -> Self {
        let at = bench.path("mounted");
        fs::create_dir_all(&at).unwrap();
        let offset = EXT_AT.to_string();
        let device = tool!("losetup", "-f", "--show", "-o", offset, bench.path(card));
        let device = device.trim().to_owned();
        tool!("mount", device, at);
        Self { device, at }
    }

    /// Waits until later writes have other timestamps.
    fn settle(&self) {
        tool!("sync", "-f", self.at);
        sleep(Duration::from_millis(3100));
        fs::write(self.at.join("uptime"), "3\n").unwrap();
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        for (tool, what) in [("umount", self.at.as_os_str()), ("losetup", self.device.as_ref())] {
            let mut command = Command::new(tool);
            if tool == "losetup" {
                command.arg("-d");
            }
            let _ = command.arg(what).status();
        }
    }
}

/// A card with a FAT and an ext4 volume of `files` files, mounted once.
fn bench(files: usize) -> Bench {
    let bench = Bench::empty();
    fs::create_dir(bench.path("rack")).unwrap();
    bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {LEN}\nfile = \"a.img\"\n"));
    let card = bench.path("rack/a.img");
    sized(&card, LEN);
    let table =
        format!("printf '2048,81920,c\\n83968,,83\\n' | sfdisk -q -X dos {}", card.display());
    tool!("sh", "-c", table);
    sized(&bench.path("fat"), 40 << 20);
    tool!("mkfs.fat", "-F", "16", "-n", "BOOT", bench.path("fat"));
    fs::write(bench.path("kernel"), noise(5 << 20)).unwrap();
    fs::write(bench.path("settings"), "hive=7\n").unwrap();
    tool!("touch", "-d", "2026-03-01", bench.path("kernel"));
    tool!("mcopy", "-m", "-i", bench.path("fat"), bench.path("kernel"), "::kernel.bin");
    tool!("mcopy", "-i", bench.path("fat"), bench.path("settings"), "::config.txt");
    put(&card, FAT_AT, &fs::read(bench.path("fat")).unwrap());
    sized(&bench.path("ext"), LEN - EXT_AT);
    tool!("mkfs.ext4", "-q", "-L", "hive-07", bench.path("ext"));
    put(&card, EXT_AT, &fs::read(bench.path("ext")).unwrap());
    let mounted = Mounted::of(&bench, "rack/a.img");
    let mut random = Dice(7);
    for number in 0..files {
        let folder = mounted.at.join(format!("day-{}", number % 19));
        fs::create_dir_all(&folder).unwrap();
        let content = content(&mut random);
        fs::write(folder.join(format!("weights-{number}")), content).unwrap();
    }
    mounted.settle();
    drop(mounted);
    bench
}

/// The same numbers in every run.
struct Dice(u64);

impl Dice {
    /// Less than `most`.
    fn roll(&mut self, most: u64) -> u64 {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % most
    }
}

/// Content that does not repeat itself.
fn content(random: &mut Dice) -> Vec<u8> {
    let mut content = vec![0; random.roll(200_000) as usize + 1];
    let key = random.roll(u64::MAX).to_le_bytes();
    blake3::Hasher::new().update(&key).finalize_xof().fill(&mut content);
    content
}

/// The changes on a card in a day.
fn a_day(at: &Path, random: &mut Dice, changes: usize) {
    let mut files = Vec::new();
    for folder in fs::read_dir(at).unwrap().map(|entry| entry.unwrap().path()) {
        if folder.file_name().unwrap().to_str().unwrap().starts_with("day-") {
            files.extend(fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()));
        }
    }
    for change in 0..changes {
        let file = files[random.roll(files.len() as u64) as usize].clone();
        match random.roll(6) {
            0 => drop(fs::remove_file(&file)),
            1 => drop(fs::rename(&file, at.join(format!("day-3/moved-{change}")))),
            2 if file.exists() => {
                let mut old = fs::read(&file).unwrap();
                old.extend(content(random));
                fs::write(&file, old).unwrap();
            }
            3 if file.exists() => {
                // In its place, nothing else of it changed.
                let len = fs::metadata(&file).unwrap().len();
                put(&file, random.roll(len), &[random.roll(256) as u8]);
            }
            4 => drop(fs::create_dir_all(at.join(format!("day-{}", random.roll(99))))),
            _ => fs::write(&file, content(random)).unwrap(),
        }
    }
}

fn same_content(bench: &Bench, a: &str, b: &str) {
    let line = format!("zstd -dqc {a} > a.raw; zstd -dqc {b} > b.raw; cmp a.raw b.raw");
    let run = Command::new("bash").args(["-c", &line]).current_dir(bench.path("")).output();
    let run = run.unwrap();
    assert!(run.status.success(), "{a} and {b}: {}", String::from_utf8_lossy(&run.stdout));
}

/// The tiles and pieces listed in an image.
fn tiles(bench: &Bench, image: &str) -> Value {
    let file = bench.bytes(image);
    let start = places_of(&file, b"{\"imbrik_manifest\"").last().unwrap();
    let mut values = serde_json::Deserializer::from_slice(&file[start..]).into_iter::<Value>();
    values.next().unwrap().unwrap()["tiles"].clone()
}

/// Nights of random changes: fails if a byte of an image differs from that of a full save, a digest is wrong, or it
/// costs as much.
fn nights(count: usize) {
    if !is_root("reuse") {
        return;
    }
    let bench = bench(500);
    // Split into frames, like every image that reuses another.
    fs::create_dir(bench.path("shelf")).unwrap();
    bench.good("shelf make shelf");
    bench.good("save rack:a shelf --no-check");
    let mut names = bench.list("shelf").into_iter();
    let first = names.find(|name| name.to_string_lossy().ends_with(".img.zst")).unwrap();
    fs::rename(bench.path("shelf").join(first), bench.path("night-0.img.zst")).unwrap();
    let mut random = Dice(11);
    let mut reused = 0;
    for night in 1..=count {
        let mounted = Mounted::of(&bench, "rack/a.img");
        a_day(&mounted.at, &mut random, 12);
        mounted.settle();
        drop(mounted);
        let (last, new) = (night - 1, format!("night-{night}.img.zst"));
        let run = bench.good(&format!("save rack:a {new} --reuse night-{last}.img.zst --json"));
        let told = run.json();
        let (read, used) =
            (told["card_bytes_read"].as_u64().unwrap(), told["used_bytes"].as_u64().unwrap());
        assert!(read * 5 < used, "night {night}: {read} of {used} were read: {told}");
        assert_eq!(told["reused"]["read_in_full"], Value::Array(Vec::new()));
        reused += told["reused"]["unread_bytes"].as_u64().unwrap();
        let [back, all] =
            ["image_bytes_read_back", "image_bytes"].map(|k| told[k].as_u64().unwrap());
        assert!(back * 3 < all, "night {night}: {back} of {all} were read back");
        bench.good("save rack:a full.img.zst --no-check --sum md5 --replace");
        same_content(&bench, &new, "full.img.zst");
        bench.good(&format!("check {new}"));
        bench.good(&format!("save rack:a all.img.zst --reuse {new} --reread --replace"));
        let [made, all] = [&new, "all.img.zst"].map(|image| tiles(&bench, image));
        assert!(made == all, "night {night}: other tiles, or pieces of them, are listed");
        assert!(!made["pieces"].as_array().unwrap().is_empty());
    }
    assert!(reused > 0, "no tile was taken over unread");
}

#[test]
fn incremental_saves_cost_what_changed_and_equal_a_full_save() {
    nights(times("IMBRIK_NIGHTS", 3));
}

/// Files are read if their metadata can't be trusted: a swap file that the kernel writes past its inode, a volume after
/// a power loss, damaged content of the image. Fails if the image keeps the old bytes.
#[test]
fn reuse_reads_volumes_it_cannot_judge() {
    if !is_root("reuse") {
        return;
    }
    let bench = bench(60);
    let card = bench.path("rack/a.img");
    let mounted = Mounted::of(&bench, "rack/a.img");
    let swap = mounted.at.join("swapfile");
    fs::write(&swap, vec![0; 4 << 20]).unwrap();
    tool!("chmod", "600", swap);
    tool!("mkswap", "-q", swap);
    fs::write(mounted.at.join("day-1/log"), noise(300_000)).unwrap();
    fs::write(mounted.at.join("uboot.env"), noise(1024)).unwrap();
    tool!("sync", "-f", mounted.at);
    let first = |file: &str| {
        let blocks = tool!("filefrag", "-b1", "-v", mounted.at.join(file));
        let line = blocks.lines().find(|line| line.trim_start().starts_with("0:")).unwrap();
        let place = line.split("..").nth(1).unwrap().split(':').next_back().unwrap();
        EXT_AT + place.trim().parse::<u64>().unwrap()
    };
    let places = ["swapfile", "day-1/log", "uboot.env"].map(first);
    mounted.settle();
    drop(mounted);
    bench.good("save rack:a one.img.zst --no-check");
    // Written without the filesystem.
    put(&card, places[0] + (1 << 20), b"a page that was swapped out");
    put(&card, places[2] + 100, b"bootcount=3");
    let run = bench.good("save rack:a two.img.zst --reuse one.img.zst -v");
    run.shows("Unchanged").shows("Copied");
    bench.good("save rack:a full.img.zst --no-check");
    same_content(&bench, "two.img.zst", "full.img.zst");
    // Other writes past the filesystem are not noticed, unless everything is read.
    put(&card, places[1] + 5000, b"from nowhere");
    let told = bench.good("save rack:a three.img.zst --reuse two.img.zst --json").json();
    assert!(told["card_bytes_read"].as_u64().unwrap() < 12 << 20, "{told}");
    same_content(&bench, "three.img.zst", "two.img.zst");
    let told = bench.good("save rack:a four.img.zst --reuse two.img.zst --reread --json").json();
    assert!(told["reused"]["tiles_reused"].as_u64().unwrap() > 0, "{told}");
    bench.good("save rack:a full.img.zst --no-check --replace");
    same_content(&bench, "four.img.zst", "full.img.zst");
    // Cut off in the middle of a write.
    let mounted = Mounted::of(&bench, "rack/a.img");
    fs::write(mounted.at.join("day-2/torn"), noise(90_000)).unwrap();
    tool!("sync", "-f", mounted.at);
    fs::copy(&card, bench.path("cut")).unwrap();
    drop(mounted);
    fs::copy(bench.path("cut"), &card).unwrap();
    let run = bench.good("save rack:a five.img.zst --reuse four.img.zst");
    run.says("is read in full: it was not unmounted in an orderly way");
    bench.good("save rack:a full.img.zst --no-check --replace");
    same_content(&bench, "five.img.zst", "full.img.zst");
    // A raw image that is damaged does not give its damage away.
    bench.good("repack four.img.zst four.img");
    fs::copy(bench.path("cut"), &card).unwrap();
    drop(Mounted::of(&bench, "rack/a.img"));
    bench.good("save rack:a six.img --no-check");
    let raw = bench.path("six.img");
    put(&raw, places[1] + 5000, b"bit rot");
    bench.imbrik("save rack:a seven.img.zst --reuse six.img").expect(3).says("six.img is damaged");
    bench.good("save rack:a full.img.zst --no-check --replace");
    same_content(&bench, "seven.img.zst", "full.img.zst");
    fs::copy(&card, bench.path("foreign.img")).unwrap();
    let run = bench.imbrik("save rack:a x.img.zst --reuse foreign.img").expect(1);
    run.says("has no digests").says("repack");
}

/// Blocks are shared on a filesystem that supports it: fails if frames start at arbitrary offsets.
#[test]
fn reused_image_shares_blocks_on_disk() {
    if !is_root("reuse") {
        return;
    }
    let bench = bench(400);
    sized(&bench.path("disk"), 1 << 30);
    tool!("mkfs.btrfs", "-q", bench.path("disk"));
    fs::create_dir(bench.path("shared")).unwrap();
    tool!("mount", "-o", "loop", bench.path("disk"), bench.path("shared"));
    let used = || {
        tool!("sync", "-f", bench.path("shared"));
        let stat = rustix::fs::statvfs(bench.path("shared")).unwrap();
        (stat.f_blocks - stat.f_bfree) * stat.f_frsize
    };
    let empty = used();
    for pack in ["img.zst", "img"] {
        bench.good(&format!("save rack:a shared/one.{pack} --no-check"));
        let one = used();
        bench.good(&format!("save rack:a shared/two.{pack} --reuse shared/one.{pack}"));
        bench.good(&format!("files put shared/two.{pack} settings 2:/day-1"));
        let (first, more) = (one - empty, used() - one);
        assert!(first > 20 << 20 && more * 6 < first, "{pack}: {first}, then {more}");
        bench.good(&format!("check shared/two.{pack}"));
    }
    tool!("umount", bench.path("shared"));
}
