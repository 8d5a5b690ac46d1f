//! Folders that go away, hang or are full while an image is written to them: a filesystem that another program
//! serves stands for a share.

use crate::{
    harness::{Bench, is_root, sized, tool},
    loops::Loop,
};
use std::{
    fs,
    path::PathBuf,
    process::{Command, Stdio},
    thread,
    time::{Duration, Instant},
};

/// A folder that another program serves.
struct Share {
    at: PathBuf,
    device: Loop,
}

impl Share {
    fn on(bench: &Bench, len: u64) -> Self {
        let file = bench.path("disk");
        sized(&file, len);
        tool!("mkfs.exfat", file);
        let at = bench.path("share");
        fs::create_dir(&at).unwrap();
        let share = Self { at, device: Loop::on(&file) };
        share.mount();
        share
    }

    fn mount(&self) {
        tool!("mount.exfat-fuse", "-o", "rw", self.device.0, self.at);
    }

    fn signal(&self, signal: &str) {
        tool!("pkill", signal, "-f", format!("mount.exfat-fuse -o rw {} ", self.device.name()));
    }

    /// As after a restart of the server.
    fn comes_back(&self) {
        let _ = Command::new("umount").arg(&self.at).status();
        let begun = Instant::now();
        let is_open = || {
            let fuser = Command::new("fuser").arg("-s").arg(&self.device.0).output();
            fuser.unwrap().status.success()
        };
        while is_open() {
            assert!(begun.elapsed() < Duration::from_secs(10), "its program stays");
            thread::sleep(Duration::from_millis(20));
        }
        // The result of the repair is irrelevant here.
        Command::new("fsck.exfat").arg("-ys").arg(&self.device.0).output().unwrap();
        self.mount();
    }
}

impl Drop for Share {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(&self.at).status();
    }
}

/// Runs `words`; once the unfinished image has a certain length, runs `then`.
fn in_the_middle(bench: &Bench, words: &str, then: impl FnOnce()) -> (Option<i32>, String) {
    let mut run = bench.command(words.split(' '));
    let run = run.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap();
    let is_begun = || {
        let names = fs::read_dir(bench.path("share")).unwrap();
        names.flatten().any(|name| {
            let is_part = name.path().to_string_lossy().ends_with(".part");
            is_part && name.metadata().is_ok_and(|meta| meta.len() > 1 << 20)
        })
    };
    let begun = Instant::now();
    while !is_begun() {
        assert!(begun.elapsed() < Duration::from_secs(30), "it never began");
        thread::sleep(Duration::from_millis(10));
    }
    then();
    let out = run.wait_with_output().unwrap();
    (out.status.code(), String::from_utf8_lossy(&out.stderr).into_owned())
}

/// Fails if a lost share costs an existing image, is taken for a failing card, or obstructs the next night.
#[test]
fn lost_share_fails_cleanly_and_the_next_night_succeeds() {
    if !is_root("lost_share_fails_cleanly_and_the_next_night_succeeds") {
        return;
    }
    let bench = Bench::with_slot_a("read_rate = 12000000", "");
    let share = Share::on(&bench, 120 << 20);
    bench.good("shelf make share");
    bench.good("shelf add share rack:a --brief");
    let first = bench.list("share");
    let words = "shelf add share rack:a --reread --brief";
    // The changes are read slowly enough for that.
    let touch = |number: u8| {
        let noise: Vec<u8> =
            crate::harness::noise(9 << 20).iter().map(|byte| byte ^ number).collect();
        crate::harness::put(&bench.path("rack/a.img"), 40 << 20, &noise);
    };
    touch(1);
    let (code, told) = in_the_middle(&bench, words, || share.signal("-KILL"));
    assert!(code == Some(1), "{code:?}: {told}");
    assert!(
        crate::harness::flat(&told)
            .contains("is not there any more: mount its disk or share again"),
        "{told}"
    );
    // Not mounted: nothing is put under it.
    let _ = Command::new("umount").arg(&share.at).status();
    bench.imbrik(words).expect(4).says("is not a shelf");
    assert!(bench.list("share").is_empty());
    share.comes_back();
    // It hangs for a while.
    let (code, told) = in_the_middle(&bench, words, || {
        share.signal("-STOP");
        thread::sleep(Duration::from_secs(2));
        share.signal("-CONT");
    });
    assert!(code == Some(0) && told.is_empty(), "{code:?}: {told}");
    let there = bench.list("share");
    assert!(first.iter().all(|name| there.contains(name)), "{there:?}");
    bench.good("shelf check share").shows("2 images read");
    bench.good("shelf list share").shows("2 images of 1 card");
    // Full, and in use by another process.
    let free = tool!("df", "--output=avail", "-B1", share.at);
    let free: u64 = free.lines().last().unwrap().trim().parse().unwrap();
    fs::write(share.at.join("filler"), vec![1; usize::try_from(free - (1 << 20)).unwrap()])
        .unwrap();
    touch(2);
    bench.imbrik(words).expect(5);
    fs::remove_file(share.at.join("filler")).unwrap();
    let lock = fs::File::open(&share.at).unwrap();
    lock.lock().unwrap();
    bench.imbrik(words).expect(4).says("another run is at work on the shelf");
    drop(lock);
    bench.good(words);
    bench.good("shelf check share").shows("3 images read");
}

/// Fails if leftovers stay forever, or are removed while they can still be resumed.
#[test]
fn leftovers_are_removed_after_two_days() {
    let bench = Bench::with_card("");
    fs::create_dir(bench.path("shelf")).unwrap();
    bench.good("shelf make shelf");
    let names = ["a.img.zst.part", "b.img.zst.copy.part", "c.img.zst.part", "notes.part"];
    for name in names {
        fs::write(bench.path("shelf").join(name), b"left").unwrap();
    }
    // A download in progress of another program has no notes.
    fs::write(bench.path("shelf/download.img.xz.part"), b"left").unwrap();
    tool!("touch", "-d", "3 days ago", bench.path("shelf/download.img.xz.part"));
    for name in ["a", "c"] {
        fs::write(bench.path(format!("shelf/{name}.img.zst.part.notes")), b"{}").unwrap();
    }
    for name in ["a.img.zst.part", "b.img.zst.copy.part", "notes.part"] {
        tool!("touch", "-d", "3 days ago", bench.path("shelf").join(name));
    }
    bench.good("shelf list shelf").says("c.img.zst.part is the leftover of an incomplete image");
    bench.good("shelf thin shelf --plan").shows("Remove a.img.zst.part incomplete since");
    let told = bench.good("shelf thin shelf --yes --json").json();
    assert_eq!(told["unfinished"].as_array().unwrap().len(), 2, "{told}");
    let left = bench.list("shelf");
    assert_eq!(
        left,
        [
            "c.img.zst.part",
            "c.img.zst.part.notes",
            "download.img.xz.part",
            "notes.part",
            "shelf.toml"
        ]
    );
}
