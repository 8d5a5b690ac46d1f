//! Volumes made and filled by the system, and judged by it.

use crate::support::system_tool;
use imbrik_core::{
    Result,
    fs::{Examined, NewSize, OpenVolume, ResizeOptions, ResizedVolume},
    progress::Cancel,
    store::{FileStore, ReadAt, read_vec},
    units::{ByteLen, Span},
};
use rustix::fs::FallocateFlags;
use std::{
    fs::{self, File, OpenOptions},
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    process::{Command, Output},
    sync::Arc,
};

pub(crate) fn run(name: &str, args: &[&str], dir: &Path) -> Output {
    let output = system_tool(name).args(args).current_dir(dir).output().unwrap();
    assert_ne!(output.status.code(), Some(127), "{name} is missing; ./test installs it");
    output
}

/// As [`run`], but it must work.
pub(crate) fn tool(name: &str, args: &[&str], dir: &Path) -> String {
    let output = run(name, args, dir);
    assert!(output.status.success(), "{name} {args:?}: {output:?}");
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// An empty volume `v` of `kib` KiB.
pub(crate) fn made(options: &str, kib: u64) -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    File::create(dir.path().join("v")).unwrap().set_len(kib << 10).unwrap();
    let mut args = vec!["-q", "-F", "-E", "lazy_itable_init=1"];
    args.extend(options.split_whitespace());
    args.push("v");
    tool("mke2fs", &args, dir.path());
    dir
}

/// A volume mounted through a loop device; both are released when dropped.
pub(crate) struct Mount(PathBuf);

impl Mount {
    pub(crate) fn of(dir: &Path, volume: &str, options: &str) -> Option<Self> {
        let at = dir.join(format!("{volume}.mnt"));
        std::fs::create_dir_all(&at).unwrap();
        let path = at.display().to_string();
        let options = format!("loop,{options}");
        // Other tests attach loop devices at the same time, and may take the free one first.
        for _ in 0..100 {
            let done = run("mount", &["-t", "ext4", "-o", &options, volume, &path], dir);
            if done.status.success() {
                return Some(Self(at));
            }
            let message = String::from_utf8_lossy(&done.stderr);
            if !message.contains("loop device") {
                eprintln!("{volume}: {message}");
                return None;
            }
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
        panic!("no loop device was free")
    }

    pub(crate) fn path(&self) -> &Path {
        &self.0
    }
}

impl Drop for Mount {
    fn drop(&mut self) {
        // A process that another test starts may inherit open files of this mount for a short time.
        for _ in 0..100 {
            let done = Command::new("umount").arg(&self.0).output();
            if done.is_ok_and(|output| output.status.success()) {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(20));
        }
    }
}

/// Resizes the volume in `from` and writes it to `to` as a card would get it, over old bytes.
pub(crate) fn resized(
    dir: &Path,
    from: &str,
    to: &str,
    goal: NewSize,
) -> Result<(ResizedVolume, Examined)> {
    resized_with(dir, from, to, goal, ResizeOptions::in_memory(&Cancel::new()))
}

/// The same with other means.
pub(crate) fn resized_with(
    dir: &Path,
    from: &str,
    to: &str,
    goal: NewSize,
    work: ResizeOptions<'_>,
) -> Result<(ResizedVolume, Examined)> {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join(from)).unwrap());
    let volume = OpenVolume::open(Arc::clone(&store))?.expect("a volume");
    let (resized, found) = volume.resize(goal, work)?;
    let view = Arc::clone(&resized.volume.store);
    // A file that is replaced is written to the disk at once.
    let _ = fs::remove_file(dir.join(to));
    let out = File::create(dir.join(to)).unwrap();
    let len = view.size();
    out.set_len(len.get()).unwrap();
    drop(out);
    let out = OpenOptions::new().write(true).open(dir.join(to)).unwrap();
    if len < ByteLen::mib(300) {
        fill(&out, Span::whole(len), 0xee);
    } else {
        // A large one would take too long: everything is in its first part.
        fill(&out, Span::whole(ByteLen::mib(64)), 0xee);
    }
    for span in &found.usage.used {
        let mut at = span.start();
        while at < span.end() {
            let piece = span.end().saturating_since(at).to_usize().unwrap().min(1 << 20);
            out.write_all_at(&read_vec(&*view, at, piece)?, at.get()).unwrap();
            at = at.saturating_add(ByteLen::from_usize(piece));
        }
    }
    for span in &found.usage.cleared {
        fill(&out, *span, 0);
    }
    Ok((resized, found))
}

fn fill(file: &File, span: Span, byte: u8) {
    let piece = vec![byte; 1 << 20];
    let mut at = span.start();
    while at < span.end() {
        let len = span.end().saturating_since(at).to_usize().unwrap().min(piece.len());
        file.write_all_at(&piece[..len], at.get()).unwrap();
        at = at.saturating_add(ByteLen::from_usize(len));
    }
}

/// Runs the system's checker, which must find nothing.
pub(crate) fn judged(dir: &Path, volume: &str) {
    let check = run("e2fsck", &["-fn", volume], dir);
    let said = String::from_utf8_lossy(&check.stdout).into_owned();
    let warned = String::from_utf8_lossy(&check.stderr).into_owned();
    assert!(check.status.success(), "{said}{warned}");
    // A complaint that the checker passes over would still be one.
    let complains = said.contains('?') || said.contains("should be") || warned.contains("ARNING");
    assert!(!complains, "{said}{warned}");
}

/// All that is in a tree: modes, owners, times, links, names, attributes, holes and contents.
pub(crate) fn tree(at: &Path) -> String {
    let line = "find . -printf '%p %M %U %G %s %n %T@ %l\\n' | sort; \
                find . -type b,c -exec stat -c '%n %t %T' {} + | sort; \
                find . -type f -print0 | sort -z | xargs -0 -r b2sum; \
                getfattr -R -h -d -m - . 2>/dev/null; \
                find . -links +1 -type f -printf '%i %p\\n' | sort";
    let mut all = tool("sh", &["-c", line], at);
    let mut files: Vec<_> = tool("find", &[".", "-type", "f", "-size", "+64k"], at)
        .lines()
        .map(str::to_owned)
        .collect();
    files.sort();
    for file in files {
        all += &format!("{file} {:?}\n", holes(&at.join(&file)));
    }
    all
}

/// Which inodes names share, without their numbers: those may change.
pub(crate) fn without_numbers(tree: &str) -> String {
    let mut groups: std::collections::BTreeMap<&str, Vec<&str>> = Default::default();
    let mut lines = Vec::new();
    for line in tree.lines() {
        match line.split_once(' ') {
            Some((number, name)) if number.bytes().all(|b| b.is_ascii_digit()) => {
                groups.entry(number).or_default().push(name);
            }
            _ => lines.push(line.to_owned()),
        }
    }
    let mut shared: Vec<_> = groups.into_values().map(|names| names.join(" = ")).collect();
    shared.sort();
    lines.extend(shared);
    lines.join("\n")
}

/// The data ranges of a file, according to the system.
fn holes(path: &Path) -> Vec<(u64, u64)> {
    use rustix::fs::{SeekFrom, seek};
    let Ok(file) = File::open(path) else { return Vec::new() };
    let (mut at, mut found) = (0, Vec::new());
    while let Ok(start) = seek(&file, SeekFrom::Data(at)) {
        let end = seek(&file, SeekFrom::Hole(start)).unwrap();
        found.push((start, end));
        at = end;
    }
    found
}

/// The tree of a volume: through a mount, or, if the kernel can't mount it, as extracted by `debugfs`.
pub(crate) fn tree_of(dir: &Path, volume: &str) -> String {
    if let Some(mount) = Mount::of(dir, volume, "ro,noload") {
        return without_numbers(&tree(mount.path()));
    }
    let out = tempfile::tempdir_in(dir).unwrap();
    let at = out.path().display().to_string();
    tool("debugfs", &["-R", &format!("rdump / {at}"), volume], dir);
    // That keeps neither the times of links nor attributes.
    let line = "find . -printf '%p %M %s %l\\n' | sort; \
                find . -type f -print0 | sort -z | xargs -0 -r b2sum";
    tool("sh", &["-c", line], out.path())
}

/// Compares two trees.
pub(crate) fn same(before: &str, after: &str, what: &str) {
    if before != after {
        let differing = before.lines().zip(after.lines()).find(|(a, b)| a != b);
        panic!("{what}: the trees differ: {differing:?}");
    }
}

/// Bytes that don't pack, always the same.
pub(crate) fn noise(len: usize, seed: u64) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let words = (0..len.div_ceil(8)).flat_map(|_| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state.to_le_bytes()
    });
    words.take(len).collect()
}

/// The end of the volume's place in bytes.
pub(crate) fn len_of(dir: &Path, volume: &str) -> ByteLen {
    ByteLen::new(std::fs::metadata(dir.join(volume)).unwrap().len())
}

/// Fills a mounted volume with everything that a tree can have.
pub(crate) fn fill_tree(at: &Path, budget: usize, entries: usize) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::create_dir_all(at.join("hives")).unwrap();
    for hive in 0..24u64 {
        let folder = at.join(format!("hive {hive:02}"));
        std::fs::create_dir_all(folder.join("brood/sounds")).unwrap();
        let each = budget / 24 / 12;
        for n in 0..8usize {
            let len = (each * (n % 4 + 1)) / 2 + n * 777;
            std::fs::write(folder.join(format!("brood/{n}.wav")), noise(len, hive * 64 + n as u64))
                .unwrap();
        }
        std::fs::write(folder.join("name"), format!("hive-{hive:02}\n")).unwrap();
        std::os::unix::fs::symlink("brood/1.wav", folder.join("latest")).unwrap();
        let long = "comb/".repeat(30);
        std::os::unix::fs::symlink(long, folder.join("far")).unwrap();
        std::fs::hard_link(folder.join("brood/1.wav"), folder.join("brood/same")).unwrap();
        std::fs::set_permissions(folder.join("name"), std::fs::Permissions::from_mode(0o640))
            .unwrap();
        let _ = run("setfattr", &["-n", "user.weight", "-v", "41.7", "name"], &folder);
        let value = "honey ".repeat(60 + (hive as usize % 3) * 10);
        let _ = run("setfattr", &["-n", "user.notes", "-v", &value, "brood/2.wav"], &folder);
        let _ = run("setfattr", &["-n", "user.notes", "-v", &value, "brood/3.wav"], &folder);
        let large = "wax ".repeat(1500);
        let _ = run("setfattr", &["-n", "user.large", "-v", &large, "brood/4.wav"], &folder);
    }
    // Two files that grow alternately have many extents; one of them is deleted, and leaves holes.
    let (log, going) = (at.join("weights.log"), at.join("going"));
    let files = [File::create(&log).unwrap(), File::create(&going).unwrap()];
    for piece in 0..(budget as u64 / 4 / 8192).min(2500) {
        for file in &files {
            let _ = rustix::fs::fallocate(file, FallocateFlags::empty(), piece * 4096, 4096);
        }
        files[0].write_all_at(&noise(4096, piece), piece * 4096).unwrap();
    }
    std::fs::remove_file(going).unwrap();
    let sparse = File::create(at.join("sparse")).unwrap();
    for n in 0..40u64 {
        sparse.write_all_at(&noise(5000, n), n * 300_000).unwrap();
    }
    let _ = run("fallocate", &["-l", "300000", "reserved"], at);
    let _ = run("fallocate", &["-n", "-o", "100000", "-l", "200000", "name-reserved"], at);
    let _ = run("mknod", &["sensor", "c", "240", "7"], at);
    let _ = run("mknod", &["disk", "b", "260", "70000"], at);
    let _ = run("mkfifo", &["pipe"], at);
    let _ = run("chown", &["-R", "1234:70001", "hive 03"], at);
    let crowd = at.join("crowd");
    std::fs::create_dir(&crowd).unwrap();
    for n in 0..entries {
        let name = crowd.join(format!("measurement number {n:06}"));
        if n % 50 == 0 {
            std::fs::write(&name, n.to_string()).unwrap();
        } else {
            let first = crowd.join(format!("measurement number {:06}", n - n % 50));
            std::fs::hard_link(first, name).unwrap();
        }
    }
}
