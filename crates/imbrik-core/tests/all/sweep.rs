//! No single damage loses a file.
//!
//! For a volume of every kind, everything that is read to determine its used space is damaged, one place at a time: a
//! flipped bit, a block of zeros or garbage, a stale block from before files were replaced, two swapped blocks. Then
//! the volume is saved, and restored over old bytes. Every file that the system's own tool reads from the damaged
//! volume, before or after the system's checker repaired it, must be the same in the result. FAT and F2FS, which the
//! kernel of a test machine may not mount, are also mounted by user-mode Linux. `IMBRIK_SWEEP=n` tests `n` damages of
//! each kind; the default is a small sample.

use crate::support::{in_user_mode_linux, is_root, sh};
use imbrik_core::{
    Result,
    layout::{Content, Finding, Occupancy, Survey},
    store::{ReadAt, SparseStore, read_vec},
    units::{ByteLen, ByteOffset},
};
use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::Path,
    process::{Command, Stdio},
    sync::{Arc, Mutex},
};

/// The old content of the card.
const OLD: u8 = 0xee;
/// The default number of damages.
const SAMPLE: usize = 24;

/// The system's tool that reads a kind's files.
#[derive(Clone, Copy, PartialEq)]
enum Reader {
    Debugfs,
    /// Once the system's checker has replayed the journal.
    DebugfsReplayed,
    Mtools,
    Ntfscat,
    /// Through a loop device: needs root.
    ExfatFuse,
    /// Inode by inode.
    DumpF2fs,
    BtrfsRestore,
}

/// Exit code of `timeout` when the time is up.
const TIMED_OUT: i32 = 124;

struct Kind {
    name: &'static str,
    mib: u64,
    /// Creates the volume `v`.
    make: &'static str,
    /// Fills it from `tree`.
    fill: &'static str,
    /// Replaces files, so that metadata have an older state.
    age: &'static str,
    reader: Reader,
}

const MCOPY: &str = "mcopy -s -i v tree/* ::";
const NTFSCP: &str = "for f in brood.wav weights.txt; do ntfscp -q -f v tree/$f /$f; done";
const FUSE: &str = "d=$(losetup -f --show v); mkdir -p m; mount.exfat-fuse -o rw $d m >&2; \
                    cp -r tree/* m/; umount m; while fuser -s $d; do sleep 0.02; done; losetup -d $d";

/// As that, and the flag of a volume that is mounted.
const FUSE_DIRTY: &str = "d=$(losetup -f --show v); mkdir -p m; mount.exfat-fuse -o rw $d m >&2; \
                    cp -r tree/* m/; umount m; while fuser -s $d; do sleep 0.02; done; losetup -d $d; \
                    printf '\\002' | dd of=v bs=1 seek=106 conv=notrunc status=none";

/// Files of the same lengths take the place of others: counts of free blocks stay the same.
const EXT_AGE: &str = "printf 'write more/second.wav second.wav\\nrm brood.wav\\nmkdir late\\n\
                       write tree/weights.txt late/weights.txt\\nrm weights.txt\\nrm hive/day3.csv\\n\
                       write tree/hive/day3.csv hive/day9.csv\\n' | debugfs -w v";
const FAT_AGE: &str = "mcopy -i v more/second.wav ::; mdel -i v ::brood.wav; mmd -i v ::late; \
                       mcopy -i v tree/weights.txt ::late/; mdel -i v ::weights.txt";
const FUSE_AGE: &str = "d=$(losetup -f --show v); mkdir -p m; mount.exfat-fuse -o rw $d m >&2; \
                        cp more/second.wav m/; rm m/brood.wav; mkdir m/late; cp m/weights.txt m/late/; \
                        rm m/weights.txt; umount m; while fuser -s $d; do sleep 0.02; done; losetup -d $d";
const NTFS_AGE: &str =
    "ntfscp -q -f v tree/hive/day3.csv /day3.csv; ntfscp -q -f v more/second.wav /weights.txt";
const BTRFS_AGE: &str = "mkdir -p m; mount -o loop v m; cp more/second.wav m/; rm m/brood.wav; mkdir m/late; \
                         cp m/weights.txt m/late/; rm m/weights.txt; umount m";

const fn ext(name: &'static str, mib: u64, make: &'static str) -> Kind {
    Kind { name, mib, make, fill: "true", age: EXT_AGE, reader: Reader::Debugfs }
}

const fn fat(name: &'static str, mib: u64, make: &'static str) -> Kind {
    Kind { name, mib, make, fill: MCOPY, age: FAT_AGE, reader: Reader::Mtools }
}

const fn exfat(name: &'static str, make: &'static str, fill: &'static str) -> Kind {
    let age = if fill.len() == FUSE.len() { FUSE_AGE } else { "true" };
    Kind { name, mib: 8, make, fill, age, reader: Reader::ExfatFuse }
}

const fn ntfs(name: &'static str, make: &'static str) -> Kind {
    Kind { name, mib: 8, make, fill: NTFSCP, age: NTFS_AGE, reader: Reader::Ntfscat }
}

const fn f2fs(name: &'static str, make: &'static str) -> Kind {
    Kind {
        name,
        mib: 64,
        make,
        fill: "sload.f2fs -f tree v >/dev/null",
        age: "sload.f2fs -f more v >/dev/null",
        reader: Reader::DumpF2fs,
    }
}

const fn btrfs(name: &'static str, mib: u64, make: &'static str) -> Kind {
    Kind { name, mib, make, fill: "true", age: BTRFS_AGE, reader: Reader::BtrfsRestore }
}

const KINDS: [Kind; 40] = [
    ext("ext2", 8, "mkfs.ext2 -q -F -b 1024 -d tree v"),
    ext("ext2 of 4 KiB", 8, "mkfs.ext2 -q -F -b 4096 -d tree v"),
    ext("ext2 in groups", 20, "mkfs.ext2 -q -F -b 1024 -g 4096 -O ^resize_inode -d tree v"),
    ext("ext2 sparse_super2", 20, "mkfs.ext2 -q -F -b 1024 -O sparse_super2 -d tree v"),
    ext("ext3", 10, "mkfs.ext3 -q -F -b 1024 -d tree v"),
    ext("ext3 of 4 KiB", 10, "mkfs.ext3 -q -F -b 4096 -d tree v"),
    ext("ext3 in groups", 20, "mkfs.ext3 -q -F -b 1024 -g 4096 -O ^resize_inode -d tree v"),
    ext("ext4", 10, "mkfs.ext4 -q -F -b 1024 -d tree v"),
    ext("ext4 of 2 KiB", 10, "mkfs.ext4 -q -F -b 2048 -d tree v"),
    ext("ext4 of 4 KiB", 10, "mkfs.ext4 -q -F -b 4096 -d tree v"),
    ext("ext4 in groups", 20, "mkfs.ext4 -q -F -b 1024 -g 4096 -O ^resize_inode -d tree v"),
    ext("ext4 with uninit_bg", 20, "mkfs.ext4 -q -F -b 1024 -O ^metadata_csum,uninit_bg -d tree v"),
    ext(
        "ext4 without checksums",
        10,
        "mkfs.ext4 -q -F -b 1024 -O ^metadata_csum,^uninit_bg -d tree v",
    ),
    ext(
        "ext4 with indirect maps",
        20,
        "mkfs.ext4 -q -F -b 1024 -O ^metadata_csum,^uninit_bg,^flex_bg,^extent,^64bit -d tree v",
    ),
    ext("ext4 of old", 10, "mkfs.ext4 -q -F -b 1024 -I 128 -O ^64bit,^flex_bg -d tree v"),
    ext("ext4 inline_data", 10, "mkfs.ext4 -q -F -b 1024 -O inline_data -d tree v"),
    ext("ext4 meta_bg", 20, "mkfs.ext4 -q -F -b 1024 -O meta_bg,^resize_inode -d tree v"),
    ext("ext4 bigalloc", 20, "mkfs.ext4 -q -F -b 1024 -C 8192 -O bigalloc -d tree v 2>&1"),
    ext("ext4 no journal", 10, "mkfs.ext4 -q -F -b 1024 -O ^has_journal -d tree v"),
    ext("ext4 csum_seed", 10, "mkfs.ext4 -q -F -b 1024 -O metadata_csum_seed,ea_inode -d tree v"),
    ext("ext4 quota", 10, "mkfs.ext4 -q -F -b 1024 -O quota,project -d tree v"),
    Kind {
        name: "ext4 to replay",
        mib: 20,
        make: "mkfs.ext4 -q -F -b 1024 -O ^metadata_csum -d tree v; head -c 4096 tree/brood.wav >b; \
               printf 'jo\\njw -b 18000-18003 b\\njc\\n' | debugfs -w v",
        fill: "true",
        age: "true",
        reader: Reader::DebugfsReplayed,
    },
    fat("FAT12", 6, "mkfs.vfat -F 12 -s 8 v >/dev/null"),
    fat("FAT12 small clusters", 4, "mkfs.vfat -F 12 -s 4 v >/dev/null"),
    fat("FAT16", 8, "mkfs.vfat -F 16 -s 2 v >/dev/null"),
    fat("FAT16 with one table", 8, "mkfs.vfat -F 16 -s 2 -f 1 v >/dev/null"),
    fat("FAT16 large clusters", 40, "mkfs.vfat -F 16 -s 16 v >/dev/null"),
    fat("FAT32", 36, "mkfs.vfat -F 32 -s 1 v >/dev/null"),
    fat("FAT32 with one table", 36, "mkfs.vfat -F 32 -s 1 -f 1 v >/dev/null"),
    exfat("exFAT", "mkfs.exfat v >/dev/null", FUSE),
    exfat("exFAT small clusters", "mkfs.exfat -c 512 v >/dev/null", FUSE),
    exfat("exFAT not unmounted", "mkfs.exfat -c 4K v >/dev/null", FUSE_DIRTY),
    ntfs("NTFS", "mkfs.ntfs -q -F -f v 2>/dev/null"),
    ntfs("NTFS of 512 bytes", "mkfs.ntfs -q -F -f -c 512 v 2>/dev/null"),
    f2fs("F2FS", "mkfs.f2fs -q v"),
    f2fs("F2FS extra_attr", "mkfs.f2fs -q -O extra_attr,inode_checksum,sb_checksum v"),
    f2fs("F2FS quota", "mkfs.f2fs -q -O extra_attr,quota,project_quota v"),
    btrfs("btrfs", 32, "mkfs.btrfs -q --mixed -r tree v 2>/dev/null"),
    btrfs(
        "btrfs with its trees twice",
        120,
        "mkfs.btrfs -q -n 4096 -m dup -d single -r tree v 2>/dev/null",
    ),
    btrfs("btrfs single", 120, "mkfs.btrfs -q -m single -d single -r tree v 2>/dev/null"),
];

/// A few files of several lengths, and a folder of them.
fn tree(dir: &Path) {
    let mut state = 0x2545_f491_4f6c_dd1du64;
    let mut noise = |len: usize| -> Vec<u8> {
        let words = (0..len.div_ceil(8)).flat_map(|_| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            state.to_le_bytes()
        });
        words.take(len).collect()
    };
    let tree = dir.join("tree");
    fs::create_dir_all(tree.join("hive")).unwrap();
    fs::create_dir_all(dir.join("more")).unwrap();
    fs::write(dir.join("more/second.wav"), noise(1_200_000)).unwrap();
    fs::write(tree.join("brood.wav"), noise(1_200_000)).unwrap();
    fs::write(tree.join("weights.txt"), noise(90_000)).unwrap();
    for n in 0..8 {
        fs::write(tree.join(format!("hive/day{n}.csv")), noise(300 + n * 9_000)).unwrap();
    }
}

/// A store that records its reads.
struct Noted {
    inner: SparseStore,
    reads: Mutex<Vec<(u64, u64)>>,
}

impl ReadAt for Noted {
    fn size(&self) -> ByteLen {
        self.inner.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        self.reads.lock().unwrap().push((at.get(), at.get() + buf.len() as u64));
        self.inner.read_at(at, buf)
    }
}

/// The bytes that are read to determine the used space.
fn looked_at(bytes: &[u8]) -> Vec<u64> {
    let noted = Arc::new(Noted { inner: SparseStore::of(bytes), reads: Mutex::default() });
    let store: Arc<dyn ReadAt> = Arc::clone(&noted) as Arc<dyn ReadAt>;
    let survey = Survey::of(&*store).unwrap();
    // The survey also searches for signatures of other kinds: only the later reads count.
    noted.reads.lock().unwrap().clear();
    let occupancy = Occupancy::of(&store, &survey).unwrap();
    assert_eq!(occupancy.read_whole, [] as [String; 0], "the undamaged one is not read whole");
    let mut all: Vec<u64> = Vec::new();
    for (from, to) in noted.reads.lock().unwrap().iter() {
        all.extend(*from..*to);
    }
    all.sort_unstable();
    all.dedup();
    all
}

/// The content of a card of old bytes after a save and a restore, and whether all of it was read.
fn through_an_image(bytes: &[u8]) -> (Vec<u8>, bool) {
    let (image, whole) = carried(bytes, 0);
    (carried(&image, OLD).0, whole)
}

fn carried(bytes: &[u8], unused: u8) -> (Vec<u8>, bool) {
    let store: Arc<dyn ReadAt> = Arc::new(SparseStore::of(bytes));
    let survey = Survey::of(&*store).unwrap();
    let occupancy = Occupancy::of(&store, &survey).unwrap();
    let mut out = bytes.to_vec();
    for segment in &occupancy.segments {
        let (from, to) = (segment.span.start().get() as usize, segment.span.end().get() as usize);
        match &segment.content {
            Content::Copied { .. } => {}
            Content::Rewritten { store, from: at } => {
                let made = read_vec(&**store, *at, to - from).unwrap();
                out[from..to].copy_from_slice(&made);
            }
            Content::Cleared => out[from..to].fill(0),
            Content::Unused => out[from..to].fill(unused),
        }
    }
    (out, !occupancy.read_whole.is_empty() || survey.parts.is_empty())
}

/// The digest of each file, by path.
type Tree = BTreeMap<String, blake3::Hash>;

/// Every file that the system's tool reads; `None` when it ran out of time.
fn files(kind: &Kind, dir: &Path, volume: &str) -> Option<Tree> {
    let run = |line: &str| {
        // A damaged length or a folder within itself would fill the memory.
        let line = format!("PATH=$PATH:/usr/sbin:/sbin; ulimit -f 131072; {line}");
        let mut command = Command::new("sh");
        command.args(["-c", &line]).current_dir(dir).stdin(Stdio::null());
        command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap().code()
    };
    run("rm -rf out; mkdir out");
    let code = match kind.reader {
        Reader::Debugfs => run(&format!("timeout 5 debugfs -R 'rdump / out' {volume}")),
        Reader::DebugfsReplayed => run(&format!(
            "cp {volume} c; timeout 5 e2fsck -y -E journal_only c; \
             timeout 5 debugfs -R 'rdump / out' c"
        )),
        Reader::Mtools => {
            run(&format!("MTOOLS_SKIP_CHECK=1 timeout 5 mcopy -s -n -i {volume} :: out/"))
        }
        Reader::Ntfscat => run(&format!(
            "for f in brood.wav weights.txt; do timeout 5 ntfscat -f {volume} /$f >out/$f; done"
        )),
        Reader::ExfatFuse => run(&format!(
            "d=$(losetup -r -f --show {volume}); mkdir -p m; timeout 5 mount.exfat-fuse -o ro $d m && \
             cp -r m/. out/; umount m; for i in $(seq 100); do fuser -s $d || break; sleep 0.01; \
             done; losetup -d $d; for i in $(seq 100); do losetup $d || break; sleep 0.01; done"
        )),
        Reader::DumpF2fs => run(&format!(
            "cd out; for i in 3 4 5 6 7 8 9 a b c d e f 10 11 12; do \
             echo y | timeout 5 dump.f2fs -i $i ../{volume}; done"
        )),
        Reader::BtrfsRestore => run(&format!("timeout 5 btrfs restore -i {volume} out")),
    };
    if code == Some(TIMED_OUT) {
        return None;
    }
    let mut found = BTreeMap::new();
    let mut folders = vec![dir.join("out")];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            // The tool may list names of a damaged folder that can't be opened.
            let Ok(kind) = fs::symlink_metadata(&path) else { continue };
            if kind.is_dir() {
                folders.push(path);
            } else if kind.is_file() {
                let content = fs::read(&path).unwrap();
                found.insert(path.display().to_string(), blake3::hash(&content));
            }
        }
    }
    Some(found)
}

/// A single damage.
#[derive(Clone, Copy, Debug)]
enum Damage {
    /// A bit of a byte is flipped.
    Bit(usize, u8),
    /// A block holds zeros.
    Zeros(usize),
    /// A block holds garbage.
    Garbage(usize),
    /// The last write of a block was lost.
    Stale(usize),
    /// Two blocks hold each other's content.
    Swapped(usize, usize),
}

impl Damage {
    fn apply(self, volume: &mut [u8], old: &[u8], unit: usize) {
        let block = |number: usize| number * unit..(number + 1) * unit;
        match self {
            Self::Bit(byte, bit) => volume[byte] ^= 1 << bit,
            Self::Zeros(number) => volume[block(number)].fill(0),
            Self::Garbage(number) => {
                let mut state = number as u64 | 1 << 40;
                for byte in &mut volume[block(number)] {
                    state = state.wrapping_mul(0x5851_f42d_4c95_7f2d).wrapping_add(99);
                    *byte = (state >> 56) as u8;
                }
            }
            Self::Stale(number) => volume[block(number)].copy_from_slice(&old[block(number)]),
            Self::Swapped(one, other) => {
                let kept = volume[block(one)].to_vec();
                volume.copy_within(block(other), one * unit);
                volume[block(other)].copy_from_slice(&kept);
            }
        }
    }
}

/// The size in bytes of a write in a volume of this kind.
fn unit(kind: &Kind, volume: &[u8]) -> usize {
    match kind.reader {
        Reader::Debugfs | Reader::DebugfsReplayed => 1024 << volume[1024 + 0x18],
        Reader::Mtools | Reader::ExfatFuse => 512,
        Reader::Ntfscat => 1024,
        Reader::DumpF2fs | Reader::BtrfsRestore => 4096,
    }
}

/// `count` damages of all kinds to the `bytes` that are read: all stale blocks first.
fn damages(volume: &[u8], old: &[u8], bytes: &[u64], unit: usize, count: usize) -> Vec<Damage> {
    let mut blocks: Vec<usize> = bytes.iter().map(|byte| *byte as usize / unit).collect();
    blocks.dedup();
    blocks.retain(|block| (block + 1) * unit <= volume.len());
    let block = |number: usize| number * unit..(number + 1) * unit;
    let stale = blocks.iter().filter(|number| volume[block(**number)] != old[block(**number)]);
    let mut all: Vec<Damage> = stale.map(|number| Damage::Stale(*number)).collect();
    let step = all.len().div_ceil(count / 2).max(1);
    all = all.into_iter().step_by(step).collect();
    let is_told = |byte: &&u64| !matches!(volume[**byte as usize], 0 | 0xff);
    let told: Vec<u64> = bytes.iter().filter(is_told).copied().collect();
    let rest = count.saturating_sub(all.len());
    for n in 0..rest {
        let spread = |len: usize| (n * len / rest).min(len - 1);
        let number = blocks[spread(blocks.len())];
        let other = blocks[(spread(blocks.len()) * 7 + n + 1) % blocks.len()];
        all.push(match n % 8 {
            0..=2 => Damage::Bit(told[spread(told.len())] as usize, ((n * 5 + 3) % 8) as u8),
            3 | 4 => Damage::Bit(bytes[spread(bytes.len())] as usize, ((n * 5 + 3) % 8) as u8),
            5 => Damage::Zeros(number),
            6 => Damage::Garbage(number),
            _ => Damage::Swapped(number, other),
        });
    }
    all
}

/// Every file that the system's tool reads after the system's checker repaired a copy of `volume`; `None` without a
/// checker, or when it ran out of time.
fn repaired(kind: &Kind, dir: &Path, volume: &str) -> Option<Tree> {
    let checker = match kind.reader {
        Reader::Debugfs => "e2fsck -fy",
        Reader::Mtools => "fsck.fat -a",
        _ => return None,
    };
    let line = format!("PATH=$PATH:/usr/sbin:/sbin; cp {volume} f; exec timeout 3 {checker} f");
    let mut command = Command::new("sh");
    command.args(["-c", &line]).current_dir(dir).stdin(Stdio::null());
    let status = command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
    // fsck.fat compares each name with each other one: with garbage in a folder that takes minutes.
    if status.code() == Some(TIMED_OUT) { None } else { files(kind, dir, "f") }
}

/// Each file's sum, and its path within the volume.
type Sums<'a> = BTreeSet<(&'a [u8], &'a [u8])>;

/// Damaged volumes and their results that wait to be mounted by user-mode Linux, which takes seconds to start.
#[derive(Default)]
struct KernelBatch {
    waiting: Vec<Damage>,
    /// Pairs in which the kernel found files.
    judged: usize,
}

impl KernelBatch {
    /// Volumes per run. Each uses up to 64 MiB of memory, twice.
    const PAIRS: usize = 16;

    /// The kernel's name of the filesystem, for kinds that are judged this way.
    fn filesystem(kind: &Kind) -> Option<&'static str> {
        match kind.reader {
            Reader::Mtools => Some("vfat"),
            Reader::DumpF2fs => Some("f2fs"),
            _ => None,
        }
    }

    /// Adds the volumes `d` and `r` in `dir`.
    fn add(&mut self, kind: &Kind, dir: &Path, damage: Damage) {
        if Self::filesystem(kind).is_none() {
            return;
        }
        for volume in ["d", "r"] {
            let name = format!("{volume}{}", self.waiting.len());
            fs::rename(dir.join(volume), dir.join(name)).unwrap();
        }
        self.waiting.push(damage);
        if self.waiting.len() == Self::PAIRS {
            self.judge(kind, dir);
        }
    }

    /// Mounts each waiting volume read-only and compares the digests of the files.
    fn judge(&mut self, kind: &Kind, dir: &Path) {
        let Some(filesystem) = Self::filesystem(kind) else { return };
        if self.waiting.is_empty() {
            return;
        }
        // Every program takes long to start there: all volumes are mounted by one, and all files read by one.
        let names = (0..self.waiting.len()).flat_map(|n| [format!("d{n}"), format!("r{n}")]);
        let names: Vec<String> = names.collect();
        let mounts = names
            .iter()
            .map(|name| format!("/mnt/w/{name} /mnt/v/{name} {filesystem} ro,loop 0 0\n"));
        fs::write(dir.join("mounts"), mounts.collect::<String>()).unwrap();
        let script = format!(
            "cd /mnt/v; mkdir {}; mount -a -T /mnt/w/mounts\n\
             for volume in *; do\n  \
               timeout 20 find $volume -type f -print0 >../names-$volume\n  \
               test $? != {TIMED_OUT} || rm ../names-$volume\ndone\n\
             cat ../names-* | xargs -0r b2sum >/mnt/w/sums; cd /mnt/w",
            names.join(" ")
        );
        let modules = format!("nls_cp437 nls_iso8859-1 nls_ascii {filesystem}");
        in_user_mode_linux(&script, &modules, dir);
        let sums = fs::read(dir.join("sums")).unwrap();
        let mut found: BTreeMap<&[u8], Sums<'_>> = BTreeMap::new();
        for line in sums.split(|byte| *byte == b'\n') {
            let Some(gap) = line.iter().position(|byte| *byte == b' ') else { continue };
            let (sum, path) = (&line[..gap], &line[gap + 2..]);
            let end = path.iter().position(|byte| *byte == b'/').unwrap();
            found.entry(&path[..end]).or_default().insert((sum, &path[end..]));
        }
        for (number, damage) in self.waiting.drain(..).enumerate() {
            let [before, after] = ["d", "r"].map(|volume| {
                let name = format!("{volume}{number}");
                fs::remove_file(dir.join(&name)).unwrap();
                // The kernel may not have mounted it.
                found.remove(name.as_bytes()).unwrap_or_default()
            });
            let lost: Vec<_> =
                before.difference(&after).map(|(_, path)| String::from_utf8_lossy(path)).collect();
            assert!(
                lost.is_empty(),
                "{}: with {damage:?}, the kernel no longer reads {lost:?}",
                kind.name
            );
            self.judged += usize::from(!before.is_empty());
        }
    }
}

/// The outcomes for a kind.
#[derive(Default)]
struct Count {
    damages: usize,
    stale: usize,
    whole: usize,
    judged: usize,
    mounted: usize,
}

fn sweep(kind: &Kind) -> Count {
    // In memory, where there is a place for that.
    let shm = Path::new("/dev/shm");
    let dir = match shm.is_dir() {
        true => tempfile::tempdir_in(shm),
        false => tempfile::tempdir(),
    };
    let dir = dir.unwrap();
    let at = dir.path();
    tree(at);
    sh(&format!("truncate -s {}M v; {}; {}", kind.mib, kind.make, kind.fill), at);
    let old = fs::read(at.join("v")).unwrap();
    sh(kind.age, at);
    let sound = fs::read(at.join("v")).unwrap();
    let all = files(kind, at, "v").unwrap();
    assert!(all.len() >= 2, "{}: {all:?}", kind.name);
    let (result, whole) = through_an_image(&sound);
    assert!(!whole && result.contains(&OLD), "{}: nothing was skipped", kind.name);
    fs::write(at.join("r"), &result).unwrap();
    assert_eq!(files(kind, at, "r"), Some(all), "{}: undamaged", kind.name);

    let bytes = looked_at(&sound);
    let asked = std::env::var("IMBRIK_SWEEP").ok().and_then(|count| count.parse().ok());
    let unit = unit(kind, &sound);
    let mut count = Count::default();
    let mut kernel = KernelBatch::default();
    for damage in damages(&sound, &old, &bytes, unit, asked.unwrap_or(SAMPLE)) {
        let mut damaged = sound.clone();
        damage.apply(&mut damaged, &old, unit);
        let (result, whole) = through_an_image(&damaged);
        count.damages += 1;
        count.stale += usize::from(matches!(damage, Damage::Stale(_)));
        count.whole += usize::from(whole);
        if result == damaged {
            continue;
        }
        count.judged += 1;
        fs::write(at.join("d"), &damaged).unwrap();
        fs::write(at.join("r"), &result).unwrap();
        for judge in [files, repaired] {
            let (Some(before), Some(after)) = (judge(kind, at, "d"), judge(kind, at, "r")) else {
                continue;
            };
            let lost = before.iter().filter(|(name, hash)| after.get(*name) != Some(hash));
            let lost: Vec<_> = lost.map(|(name, _)| name).collect();
            assert!(lost.is_empty(), "{}: with {damage:?}, files are lost: {lost:?}", kind.name);
        }
        kernel.add(kind, at, damage);
    }
    kernel.judge(kind, at);
    count.mounted = kernel.judged;
    eprintln!(
        "{:<26} {:>8} bytes read, {:>6} damages, {:>4} stale, {:>6} read in full, {:>6} compared, \
         {:>6} of them mounted by the kernel",
        kind.name,
        bytes.len(),
        count.damages,
        count.stale,
        count.whole,
        count.judged,
        count.mounted
    );
    assert!(
        count.mounted > 0 || KernelBatch::filesystem(kind).is_none() || !is_root(kind.name),
        "{}: the kernel mounted none",
        kind.name
    );
    count
}

fn sweep_all(of: impl Fn(&Kind) -> bool) {
    let only = std::env::var("IMBRIK_SWEEP_KIND").ok();
    for kind in KINDS.iter().filter(|kind| of(kind)) {
        if only.as_ref().is_some_and(|only| only != kind.name) {
            continue;
        }
        let count = sweep(kind);
        // Damage is reported, and not everything counts as damage.
        assert!(count.whole > 0 && count.judged > 0, "{}: only one outcome", kind.name);
        assert!(count.stale > 0 || kind.age == "true", "{}: nothing stale", kind.name);
    }
}

/// The reports about the volume `bytes`: why it is copied in full, and which structures differ.
fn told(bytes: &[u8]) -> (Vec<String>, Vec<Finding>) {
    let store: Arc<dyn ReadAt> = Arc::new(SparseStore::of(bytes));
    let survey = Survey::of(&*store).unwrap();
    let occupancy = Occupancy::of(&store, &survey).unwrap();
    (occupancy.read_whole, occupancy.findings)
}

/// Fails when the journal is found by a map that nothing confirms: its body would be cleared, and
/// 16 MiB of other files with it.
#[test]
fn oversized_journal_claim_clears_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    let make = "truncate -s 400M v; for n in $(seq 40); do head -c 4000000 /dev/urandom >tree/$n; \
                done; mkfs.ext4 -q -F -b 1024 -O ^metadata_csum -d tree v";
    sh(make, at);
    let sound = fs::read(at.join("v")).unwrap();
    assert_eq!(told(&sound), (vec![], vec![]));
    // The group's inode table, by its descriptor; the journal is inode 8; its map starts with a
    // head and one extent of 12 bytes each.
    let table = u32::from_le_bytes(sound[2048 + 8..2048 + 12].try_into().unwrap()) as usize * 1024;
    let ee_len = table + 7 * 256 + 0x28 + 12 + 4;
    for bit in [12, 14] {
        let mut damaged = sound.clone();
        damaged[ee_len + bit / 8] ^= 1 << (bit % 8);
        let (whole, _) = told(&damaged);
        let words = "its map and the superblock's copy of that differ";
        assert!(whole.iter().any(|why| why.contains(words)), "bit {bit}: {whole:?}");
        assert!(through_an_image(&damaged).0 == damaged);
        // The same in the copy: then the bitmaps, or the lengths, say something else.
        let mut both = damaged.clone();
        both[1024 + 0x10c + 16 + bit / 8] ^= 1 << (bit % 8);
        let (whole, _) = told(&both);
        assert!(!whole.is_empty() && through_an_image(&both).0 == both, "bit {bit}");
    }
}

/// Fails when a block of the journal's map is believed that nothing confirms: the blocks that an
/// indirect block names have no copy, and no checksum.
#[test]
fn wrong_block_number_in_the_journal_map_clears_no_other_file() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    sh("truncate -s 10M v; mkfs.ext3 -q -F -b 1024 -d tree v", at);
    let sound = fs::read(at.join("v")).unwrap();
    let first = |of: &str, skip: usize| -> usize {
        let said = sh(&format!("debugfs -R 'blocks {of}' v 2>/dev/null"), at);
        said.split_whitespace().nth(skip).unwrap().parse().unwrap()
    };
    // Twelve blocks, then the one that names the next: 4 bytes for each.
    let (map, stranger) = (first("<8>", 12), first("brood.wav", 20));
    let mut damaged = sound.clone();
    let place = map * 1024 + 5 * 4;
    damaged[place..place + 4].copy_from_slice(&u32::try_from(stranger).unwrap().to_le_bytes());
    let (result, _) = through_an_image(&damaged);
    let block = stranger * 1024..(stranger + 1) * 1024;
    assert!(result[block.clone()] == sound[block], "a block of brood.wav was cleared");
    // An error that a system recorded in its journal is reported, too.
    let (whole, findings) = told(&sound);
    assert!(whole.is_empty() && findings.is_empty(), "{whole:?} {findings:?}");
    let mut noted = sound.clone();
    let head = first("<8>", 0) * 1024;
    noted[head + 0x20..head + 0x24].copy_from_slice(&(-5i32).to_be_bytes());
    let (whole, findings) = told(&noted);
    assert!(
        whole.is_empty() && findings.iter().any(|what| what.to_string().contains("the error -5"))
    );
    // If checksums cover the map, its body is cleared if they are valid, and only then.
    sh("truncate -s 0 v; truncate -s 10M v; mkfs.ext4 -q -F -b 1024 -d tree v", at);
    let store: Arc<dyn ReadAt> = Arc::new(SparseStore::of(&fs::read(at.join("v")).unwrap()));
    let survey = Survey::of(&*store).unwrap();
    let occupancy = Occupancy::of(&store, &survey).unwrap();
    let body = first("<8>", 1) as u64 * 1024;
    let is_cleared = occupancy.segments.iter().any(|segment| {
        matches!(segment.content, Content::Cleared)
            && (segment.span.start().get()..segment.span.end().get()).contains(&body)
    });
    assert!(is_cleared, "the body of a clean journal is read");
}

/// Fails when exFAT's bitmap is believed against its folders.
#[test]
fn exfat_bitmap_that_misses_a_file_is_reported() {
    if !is_root("writing exFAT through a loop device") {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    tree(at);
    sh(&format!("truncate -s 8M v; mkfs.exfat v >/dev/null; {FUSE}"), at);
    let mut bytes = fs::read(at.join("v")).unwrap();
    let (whole, findings) = told(&bytes);
    assert!(whole.is_empty() && findings.is_empty(), "{whole:?} {findings:?}");
    let sector = 1usize << bytes[108];
    let cluster = sector << bytes[109];
    let heap = u32::from_le_bytes(bytes[88..92].try_into().unwrap()) as usize * sector;
    // The bitmap is the first thing in the heap; the file of 1.2 MB takes the most of it.
    bytes[heap + 16..heap + 24].fill(0);
    let (whole, findings) = told(&bytes);
    assert!(whole.is_empty(), "{whole:?}");
    let words =
        format!("its bitmap calls {} free that files hold", ByteLen::from_usize(64 * cluster));
    assert!(findings.iter().any(|what| what.to_string().contains(&words)), "{findings:?}");
    let (result, _) = through_an_image(&bytes);
    fs::write(at.join("r"), result).unwrap();
    let kind = KINDS.iter().find(|kind| kind.reader == Reader::ExfatFuse).unwrap();
    assert_eq!(files(kind, at, "r"), files(kind, at, "v"));
}

fn is_ext(kind: &Kind) -> bool {
    matches!(kind.reader, Reader::Debugfs | Reader::DebugfsReplayed)
}

#[test]
fn no_damage_loses_a_file_of_ext2_or_ext3() {
    sweep_all(|kind| is_ext(kind) && !kind.name.starts_with("ext4"));
}

#[test]
fn no_damage_loses_a_file_of_ext4() {
    sweep_all(|kind| is_ext(kind) && kind.name.starts_with("ext4"));
}

#[test]
#[ignore = "long: run by ./test --full"]
fn no_damage_loses_a_file_of_fat_or_ntfs() {
    sweep_all(|kind| matches!(kind.reader, Reader::Mtools | Reader::Ntfscat));
}

#[test]
#[ignore = "long: run by ./test --full"]
fn no_damage_loses_a_file_of_f2fs_or_btrfs() {
    sweep_all(|kind| matches!(kind.reader, Reader::DumpF2fs | Reader::BtrfsRestore));
}

#[test]
#[ignore = "long: run by ./test --full"]
fn no_damage_loses_a_file_of_exfat() {
    if is_root("reading exFAT through a loop device") {
        sweep_all(|kind| kind.reader == Reader::ExfatFuse);
    }
}
