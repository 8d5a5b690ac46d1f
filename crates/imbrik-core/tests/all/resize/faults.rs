//! Faults that don't concern block ownership: in folders, their indexes, links, attributes and special inodes. Each is
//! reported, and the volume is not resized; if they are to be kept, the checker reports nothing about the result that
//! it did not report about the source.

use super::volumes::{made, noise, resized, resized_with, run, tool};
use imbrik_core::{
    Class,
    fs::{NewSize, ResizeOptions},
    progress::Cancel,
    units::ByteLen,
};
use std::{
    collections::BTreeMap,
    fs::{self, File},
    os::unix::fs::FileExt,
    path::Path,
    sync::Mutex,
};

const SMALLEST: NewSize = NewSize::Smallest { room: ByteLen::ZERO };
const BLOCK: u64 = 1024;

/// A volume that is damaged by hand.
struct Volume {
    dir: tempfile::TempDir,
}

/// Undamaged volumes by the options of mke2fs.
static SOUND: Mutex<BTreeMap<&str, Vec<u8>>> = Mutex::new(BTreeMap::new());

impl Volume {
    /// A copy of the volume with these options. It is created once, and can be resized.
    fn new(options: &'static str) -> Self {
        let mut sound = SOUND.lock().unwrap();
        let bytes = sound.entry(options).or_insert_with(|| {
            let volume = Self::sound(options);
            let dir = volume.path();
            resized(dir, "v", "w", SMALLEST).unwrap_or_else(|error| panic!("undamaged: {error}"));
            fs::read(dir.join("v")).unwrap()
        });
        let dir = tempfile::tempdir().unwrap();
        fs::write(dir.path().join("v"), bytes).unwrap();
        Self { dir }
    }

    fn sound(options: &str) -> Self {
        let dir = made(options, 12 << 10);
        let at = dir.path();
        let from = at.join("files");
        fs::create_dir_all(from.join("hive/inner")).unwrap();
        fs::create_dir_all(from.join("crowd")).unwrap();
        for (n, name) in ["one", "two", "hive/three", "hive/inner/four"].into_iter().enumerate() {
            fs::write(from.join(name), noise(30_000, n as u64)).unwrap();
        }
        for n in 0..200 {
            fs::write(from.join(format!("crowd/measurement number {n:04}")), "").unwrap();
        }
        std::os::unix::fs::symlink("one", from.join("short")).unwrap();
        std::os::unix::fs::symlink("comb/".repeat(30), from.join("long")).unwrap();
        let mut args = vec!["-q", "-F", "-d", "files"];
        args.extend(options.split_whitespace());
        args.push("v");
        tool("mke2fs", &args, at);
        let this = Self { dir };
        this.tell("mknod pipe p");
        this.tell("mknod sensor c 240 7");
        this.tell("ea_set one user.weight 41.7");
        this.tell("ea_set one user.queen marked");
        let large = if options.contains("ea_inode") { 3000 } else { 600 };
        fs::write(this.path().join("notes"), "honey ".repeat(large / 6)).unwrap();
        this.tell("ea_set -f notes two user.notes");
        run("e2fsck", &["-fyD", "v"], this.path());
        this
    }

    fn path(&self) -> &Path {
        self.dir.path()
    }

    fn tell(&self, command: &str) {
        run("debugfs", &["-w", "-R", command, "v"], self.path());
    }

    /// The number of an inode.
    fn inode(&self, name: &str) -> u32 {
        let said = tool("debugfs", &["-R", &format!("stat {name}"), "v"], self.path());
        said.split("Inode: ").nth(1).unwrap().split_whitespace().next().unwrap().parse().unwrap()
    }

    /// The byte of the volume where block `number` of a file starts.
    fn block(&self, name: &str, number: usize) -> u64 {
        let blocks = tool("debugfs", &["-R", &format!("blocks {name}"), "v"], self.path());
        let block: u64 = blocks.split_whitespace().nth(number).unwrap().parse().unwrap();
        block * BLOCK
    }

    /// The offset of an inode in the volume.
    fn inode_at(&self, name: &str) -> u64 {
        let said = tool("debugfs", &["-R", &format!("imap {name}"), "v"], self.path());
        let number =
            |mark: &str| said.split(mark).nth(1).unwrap().split([',', '\n']).next().unwrap();
        let block: u64 = number("at block ").trim().parse().unwrap();
        block * BLOCK + u64::from_str_radix(number("offset 0x").trim(), 16).unwrap()
    }

    /// The offset of the block with the attributes of "two".
    fn attributes(&self) -> u64 {
        let said = tool("debugfs", &["-R", "stat two", "v"], self.path());
        let block = said.split("File ACL: ").nth(1).unwrap().split_whitespace().next().unwrap();
        block.parse::<u64>().unwrap() * BLOCK
    }

    /// The byte of the volume where block `index` of a file starts.
    fn block_of(&self, name: &str, index: usize) -> u64 {
        let said = tool("debugfs", &["-R", &format!("blocks {name}"), "v"], self.path());
        said.split_whitespace().nth(index).unwrap().parse::<u64>().unwrap() * BLOCK
    }

    fn read(&self, at: u64, len: usize) -> Vec<u8> {
        let mut bytes = vec![0; len];
        File::open(self.path().join("v")).unwrap().read_exact_at(&mut bytes, at).unwrap();
        bytes
    }

    fn put(&self, at: u64, bytes: &[u8]) {
        let file = File::options().write(true).open(self.path().join("v")).unwrap();
        file.write_all_at(bytes, at).unwrap();
    }

    /// The offset of the entry `name` in the first block of a folder.
    fn entry(&self, folder: &str, name: &str) -> u64 {
        let block = self.block(folder, 0);
        let bytes = self.read(block, BLOCK as usize);
        let at = bytes.windows(name.len()).position(|window| window == name.as_bytes()).unwrap();
        block + at as u64 - 8
    }

    fn complaints(&self, volume: &str) -> usize {
        let check = run("e2fsck", &["-fn", volume], self.path());
        let said = String::from_utf8_lossy(&check.stdout).into_owned();
        said.lines().filter(|line| line.contains('?') || line.contains("should be")).count()
    }
}

type Damage = fn(&Volume);

const PLAIN: &str = "-t ext4 -b 1024 -O ^metadata_csum,^inline_data";
const VALUES: &str = "-t ext4 -b 1024 -O ^metadata_csum,ea_inode";
const QUOTA: &str = "-t ext4 -b 1024 -O ^metadata_csum,quota";
const SUMMED: &str = "-t ext4 -b 1024";

/// The damage to each kind of volume, and the expected text.
const FAULTS: [(&str, &str, Damage, &str); 60] = [
    (
        "a folder's . is another",
        PLAIN,
        |v| v.put(v.block("hive", 0), &[12, 0, 0, 0]),
        "its \".\" is another inode",
    ),
    (
        "a folder's .. is another",
        PLAIN,
        |v| v.put(v.block("hive/inner", 0) + 12, &[2, 0, 0, 0]),
        "its \"..\" is 2",
    ),
    (
        "a folder's . has another name",
        PLAIN,
        |v| v.put(v.block("hive", 0) + 8, b"x"),
        "does not start with",
    ),
    (
        "a folder's .. has another name",
        PLAIN,
        |v| v.put(v.block("hive", 0) + 20, b"x."),
        "does not start with",
    ),
    (
        "a folder's . is a file",
        PLAIN,
        |v| v.put(v.block("hive", 0) + 7, &[1]),
        "said to be no folders",
    ),
    (
        "a folder's .. is a link",
        PLAIN,
        |v| v.put(v.block("hive", 0) + 19, &[7]),
        "said to be no folders",
    ),
    ("a folder starts with nothing", PLAIN, |v| v.put(v.block("hive", 0), &[0; 4]), "\"..\""),
    (
        "an entry leads outside",
        PLAIN,
        |v| v.put(v.entry("hive", "three"), &[0xff; 4]),
        "in use by nothing",
    ),
    (
        "an entry leads to a free inode",
        PLAIN,
        |v| v.put(v.entry("hive", "three"), &[0x10, 4, 0, 0]),
        "in use by nothing",
    ),
    (
        "an entry leads to a reserved inode",
        PLAIN,
        |v| v.put(v.entry("hive", "three"), &[8, 0, 0, 0]),
        "in use by nothing",
    ),
    (
        "an entry leads to the root",
        PLAIN,
        |v| v.put(v.entry("hive", "inner"), &[2, 0, 0, 0]),
        "in use by nothing",
    ),
    (
        "an entry is of another kind",
        PLAIN,
        |v| v.put(v.entry("hive", "three") + 7, &[2]),
        "of another kind",
    ),
    (
        "an entry is of no kind",
        PLAIN,
        |v| v.put(v.entry("hive", "three") + 7, &[0]),
        "of another kind",
    ),
    (
        "a name with a slash",
        PLAIN,
        |v| v.put(v.entry("hive", "three") + 10, b"/"),
        "an invalid name",
    ),
    (
        "a name with a zero",
        PLAIN,
        |v| v.put(v.entry("hive", "three") + 10, &[0]),
        "an invalid name",
    ),
    (
        "a name of no length",
        PLAIN,
        |v| v.put(v.entry("hive", "three") + 6, &[0]),
        "an invalid name",
    ),
    ("a second .", PLAIN, |v| v.put(v.entry("hive", "three") + 6, b"\x01\x01."), "an invalid name"),
    (
        "a second ..",
        PLAIN,
        |v| v.put(v.entry("hive", "three") + 6, b"\x02\x01.."),
        "an invalid name",
    ),
    (
        "an entry shorter than its name",
        PLAIN,
        |v| v.put(v.entry("hive", "three") + 4, &[8, 0]),
        "is invalid",
    ),
    (
        "an entry of odd length",
        PLAIN,
        |v| v.put(v.entry("hive", "three") + 4, &[17, 0]),
        "is invalid",
    ),
    (
        "an entry of no length",
        PLAIN,
        |v| v.put(v.entry("hive", "three") + 4, &[0, 0]),
        "is invalid",
    ),
    (
        "an entry past the end",
        PLAIN,
        |v| v.put(v.entry("hive", "three") + 4, &[0, 8]),
        "is invalid",
    ),
    (
        "two entries of one name",
        PLAIN,
        |v| v.put(v.entry("/", "two") + 8, b"one"),
        "two entries have the name \"one\"",
    ),
    ("a folder of two names", PLAIN, |v| v.tell("ln hive again"), "has another name, too"),
    ("a folder without a name", PLAIN, |v| v.tell("unlink hive"), "no name leads to it"),
    (
        "a folder inside of itself",
        PLAIN,
        |v| {
            v.tell("ln hive hive/self");
            v.put(v.block("hive", 0) + 12, &v.inode("hive").to_le_bytes());
            v.tell("unlink hive")
        },
        "inside of itself",
    ),
    (
        "a folder longer than its blocks",
        PLAIN,
        |v| v.tell("sif hive size 2048"),
        "not that of its blocks",
    ),
    ("a folder of no length", PLAIN, |v| v.tell("sif hive size 0"), "not that of its blocks"),
    (
        "an index where there is none",
        PLAIN,
        |v| v.tell("sif hive flags 0x81000"),
        "its index has no root",
    ),
    (
        "an index without the feature",
        PLAIN,
        |v| v.tell("feature ^dir_index"),
        "the feature for that is off",
    ),
    (
        "an index root of another length",
        PLAIN,
        |v| v.put(v.block("crowd", 0) + 29, &[9]),
        "its index has no root",
    ),
    (
        "an index root with flags",
        PLAIN,
        |v| v.put(v.block("crowd", 0) + 31, &[1]),
        "its index has no root",
    ),
    (
        "an index by an unknown hash",
        PLAIN,
        |v| v.put(v.block("crowd", 0) + 28, &[9]),
        "a hash that is not known",
    ),
    (
        "an index by another hash",
        PLAIN,
        |v| v.put(v.block("crowd", 0) + 28, &[2]),
        "not where its index puts them",
    ),
    (
        "an index of more levels",
        PLAIN,
        |v| v.put(v.block("crowd", 0) + 30, &[1]),
        "its index is invalid",
    ),
    ("an index too deep", PLAIN, |v| v.put(v.block("crowd", 0) + 30, &[9]), "too deep"),
    (
        "an index of another room",
        PLAIN,
        |v| v.put(v.block("crowd", 0) + 32, &[100]),
        "its index is invalid",
    ),
    (
        "an index with more than its room",
        PLAIN,
        |v| v.put(v.block("crowd", 0) + 34, &[0xff]),
        "its index is invalid",
    ),
    (
        "an index of nothing",
        PLAIN,
        |v| v.put(v.block("crowd", 0) + 34, &[0, 0]),
        "its index is invalid",
    ),
    (
        "an index that leaves a block out",
        PLAIN,
        |v| {
            let at = v.block("crowd", 0) + 34;
            let n = v.read(at, 1)[0];
            v.put(at, &[n - 1])
        },
        "leaves out blocks",
    ),
    (
        "an index out of order",
        PLAIN,
        |v| v.put(v.block("crowd", 0) + 40 + 8, &[0; 4]),
        "its index is invalid",
    ),
    (
        "an index with a block twice",
        PLAIN,
        |v| {
            let at = v.block("crowd", 0) + 36;
            let first = v.read(at, 4);
            v.put(at + 8, &first)
        },
        "its index is invalid",
    ),
    (
        "an index that leads outside",
        PLAIN,
        |v| v.put(v.block("crowd", 0) + 36, &[200]),
        "its index is invalid",
    ),
    (
        "names in another leaf",
        PLAIN,
        |v| {
            let at = v.block("crowd", 1);
            let mut block = v.read(at, BLOCK as usize);
            for from in 0..block.len() - 4 {
                if block[from..].starts_with(b"meas") {
                    block[from] = b'M';
                }
            }
            v.put(at, &block);
        },
        "not where its index puts them",
    ),
    (
        "a file that counts more names",
        PLAIN,
        |v| v.tell("sif one links_count 2"),
        "counts 2 links, 1 name leads",
    ),
    ("a file of more names", PLAIN, |v| v.tell("ln one hive/alias"), "counts 1 link, 2 names"),
    (
        "a folder that counts more",
        PLAIN,
        |v| v.tell("sif hive links_count 9"),
        "counts 9 links, 3 names",
    ),
    ("a short link too long", PLAIN, |v| v.tell("sif short size 40"), "target is invalid"),
    ("a link to nothing", PLAIN, |v| v.tell("sif short size 0"), "target is invalid"),
    (
        "a long link with a zero",
        PLAIN,
        |v| v.put(v.block("long", 0) + 9, &[0]),
        "target is invalid",
    ),
    (
        "a link that cannot be changed",
        PLAIN,
        |v| v.tell("sif short flags 0x10"),
        "flags of something else",
    ),
    (
        "a pipe of some length",
        PLAIN,
        |v| v.tell("sif pipe size 100"),
        "is not a file, but has a length",
    ),
    ("a device with a tree", PLAIN, |v| v.tell("sif sensor flags 0x80000"), "has the flags of one"),
    (
        "a file of no kind",
        PLAIN,
        |v| v.tell("sif one mode 0130644"),
        "its count of blocks is wrong",
    ),
    ("content behind the end", PLAIN, |v| v.tell("sif one size 10"), "content after its end"),
    (
        "additional fields of odd length",
        PLAIN,
        |v| v.tell("sif one extra_isize 3"),
        "its additional fields",
    ),
    ("a root that is none", PLAIN, |v| v.tell("sif / mode 0100755"), "no root folder"),
    (
        "attributes in an inode past its end",
        PLAIN,
        |v| {
            let at = v.inode_at("one") + 128 + 32 + 4;
            v.put(at + 2, &[0xf0, 0])
        },
        "its attributes are invalid",
    ),
    (
        "values in an inode on each other",
        PLAIN,
        |v| {
            let at = v.inode_at("one") + 128 + 32 + 4;
            v.put(at + 2, &[8, 0])
        },
        "its attributes are invalid",
    ),
    (
        "a folder's block with another sum",
        SUMMED,
        |v| v.put(v.entry("hive", "three") + 12, b"x"),
        "checksum of a block of its entries",
    ),
];

const MORE_FAULTS: [(&str, &str, Damage, &str); 13] = [
    (
        "the hash of an attribute",
        PLAIN,
        |v| v.put(v.attributes() + 32 + 12, &[1, 2, 3, 4]),
        "hash of an attribute is wrong",
    ),
    (
        "an attribute past its block",
        PLAIN,
        |v| v.put(v.attributes() + 32 + 8, &[0, 4, 0, 0]),
        "are invalid",
    ),
    (
        "an attribute on its entry",
        PLAIN,
        |v| v.put(v.attributes() + 32 + 2, &[32, 0]),
        "are invalid",
    ),
    (
        "an attribute's long name",
        PLAIN,
        |v| v.put(v.attributes() + 32, &[255]),
        "hash of an attribute is wrong",
    ),
    ("attributes for more inodes", PLAIN, |v| v.put(v.attributes() + 4, &[7]), "shared by others"),
    ("attributes that are none", PLAIN, |v| v.put(v.attributes(), &[7]), "the attributes in block"),
    (
        "a value in an inode without the feature",
        PLAIN,
        |v| v.put(v.attributes() + 32 + 4, &[12, 0, 0, 0]),
        "feature for that is off",
    ),
    (
        "a value that another length is told of",
        VALUES,
        |v| v.tell(&format!("sif <{}> size 2990", value(v))),
        "not the one it names",
    ),
    (
        "a value of another hash",
        VALUES,
        |v| v.tell(&format!("sif <{}> atime 7", value(v))),
        "not the one it names",
    ),
    (
        "a value with another count",
        VALUES,
        |v| v.tell(&format!("sif <{}> version 5", value(v))),
        "it counts 5 attributes",
    ),
    (
        "a quota file that counts for somebody else",
        QUOTA,
        |v| v.tell("sif one uid 1000"),
        "the quota file of users records",
    ),
    (
        "a quota file that counts too much",
        QUOTA,
        |v| {
            let place = v.block_of("<3>", 5) + 16 + 48;
            let had = u64::from_le_bytes(v.read(place, 8)[..8].try_into().unwrap());
            v.put(place, &(had + 1024).to_le_bytes());
        },
        "the quota file of users records",
    ),
    (
        "a value that is a common file",
        VALUES,
        |v| v.tell(&format!("sif <{}> flags 0x80000", value(v))),
        "not the one it names",
    ),
];

/// The inode that holds the value of an attribute of "two".
fn value(v: &Volume) -> u32 {
    // Large values are named in the inode.
    let raw = v.read(v.inode_at("two"), 256);
    let at = 128 + 32 + 4;
    u32::from_le_bytes(raw[at + 4..at + 8].try_into().unwrap())
}

/// `IMBRIK_FAULT=words` tests only the faults with these words in their names.
#[test]
fn each_fault_is_named_and_can_be_kept() {
    let (mut kept, mut refused) = (0, 0);
    let mut wrong = Vec::new();
    let only = std::env::var("IMBRIK_FAULT").unwrap_or_default();
    let all = FAULTS.iter().chain(&MORE_FAULTS).filter(|(what, ..)| what.contains(&only));
    for (what, options, damage, words) in all {
        let volume = Volume::new(options);
        let dir = volume.path();
        let sound = fs::read(dir.join("v")).unwrap();
        damage(&volume);
        assert!(sound != fs::read(dir.join("v")).unwrap(), "{what}: nothing was damaged");
        let error = match resized(dir, "v", "w", SMALLEST) {
            Ok(_) => {
                wrong.push(format!("{what}: it was resized"));
                continue;
            }
            Err(error) => error,
        };
        if error.class() != Class::Corrupt || !error.to_string().contains(words) {
            wrong.push(format!("{what}: {error}"));
        }
        // If the fault is kept, the volume does not get worse.
        let cancel = Cancel::new();
        let work = ResizeOptions { as_found: true, ..ResizeOptions::in_memory(&cancel) };
        match resized_with(dir, "v", "w", NewSize::Bytes(ByteLen::mib(16)), work) {
            Ok((resized, _)) => {
                kept += 1;
                let told = resized.kept_faults.iter().any(|fault| fault.contains(words));
                if !told {
                    wrong.push(format!("{what}: kept {:?}", resized.kept_faults));
                }
                let (before, after) = (volume.complaints("v"), volume.complaints("w"));
                if after > before {
                    wrong.push(format!("{what}: {after} complaints instead of {before}"));
                }
            }
            Err(_) => refused += 1,
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
    let is_all = only.is_empty();
    assert!(!is_all || (kept > 40 && refused > 0), "{kept} kept, {refused} refused");
}
