//! Compares the files of volumes as read by the library with those shown by the kernel's mount, the FUSE driver and
//! mtools: every path with its type, owner, permissions, size, names, times, attributes and content. Fails on any
//! difference.

use crate::support::{is_root, sh};
use imbrik_fs::{FileId, FileKind, FileTime, Files, Onward, OpenVolume, Walked};
use imbrik_store::{
    Class, FileStore, ReadAt, read_vec,
    units::{ByteLen, ByteOffset, Span},
};
use std::{
    collections::BTreeMap,
    ffi::OsStr,
    fs::{File, Metadata},
    ops::ControlFlow,
    os::unix::{
        ffi::OsStrExt,
        fs::{FileTypeExt, MetadataExt},
        net::UnixListener,
    },
    path::Path,
    sync::Arc,
};

/// A line for each path, from the root down.
type Tree = BTreeMap<Vec<u8>, String>;

/// Which properties of a file are compared.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Told {
    /// All that there is.
    Everything,
    /// The properties of FAT, exFAT and NTFS.
    NoOwners,
}

fn attributes(all: &mut [(Vec<u8>, Vec<u8>)]) -> String {
    all.sort();
    let one = |(name, value): &(Vec<u8>, Vec<u8>)| {
        format!(" {}={}", String::from_utf8_lossy(name), blake3::hash(value).to_hex())
    };
    all.iter().map(one).collect()
}

fn time_text(time: Option<FileTime>) -> String {
    time.map_or(String::new(), |time| format!(" {}.{:09}", time.seconds, time.nanoseconds))
}

fn found(files: &dyn Files, file: FileId, told: Told) -> String {
    let info = files.info(file).unwrap();
    let content = match info.kind {
        FileKind::File | FileKind::Link => {
            let read = files.read(file, usize::MAX).unwrap();
            assert_eq!(read.len() as u64, info.size);
            // The same, read at random, and by its pieces.
            let content = files.content_of(file).unwrap();
            assert!(read_vec(&content, ByteOffset::ZERO, read.len()).unwrap() == read);
            let mut pieces = vec![0; read.len()];
            for span in content.written() {
                let (from, to) = (span.start().get() as usize, span.end().get() as usize);
                content.read_at(span.start(), &mut pieces[from..to]).unwrap();
            }
            assert!(pieces == read);
            blake3::hash(&read).to_hex().to_string()
        }
        _ => String::new(),
    };
    let kind = format!("{:?}", info.kind);
    if told == Told::NoOwners {
        let size = if info.kind == FileKind::Folder { 0 } else { info.size };
        return format!("{kind} {size}{} {content}", time_text(info.modified));
    }
    let ownership = info.ownership.unwrap();
    let mut all: Vec<_> = files.attributes(file).unwrap();
    let mut all: Vec<_> = all.drain(..).map(|one| (one.name, one.value)).collect();
    format!(
        "{kind} {:o} {}:{} {} x{}{}{}{} {content}{}",
        ownership.permissions,
        ownership.owner,
        ownership.group,
        info.size,
        info.links,
        time_text(info.modified),
        time_text(info.changed),
        time_text(info.accessed),
        attributes(&mut all),
    )
}

/// Everything below `folder`, which is called `path`.
fn walk(files: &dyn Files, folder: FileId, path: &[u8], told: Told, tree: &mut Tree) {
    let mut entries = Vec::new();
    files
        .entries(folder, &mut |entry| {
            entries.push((entry.name.to_vec(), entry.file));
            Ok(ControlFlow::Continue(()))
        })
        .unwrap();
    for (name, file) in entries {
        let path = [path, b"/", &name].concat();
        let is_folder = files.info(file).unwrap().kind == FileKind::Folder;
        let old = tree.insert(path.clone(), found(files, file, told));
        assert_eq!(old, None, "{} is there twice", String::from_utf8_lossy(&path));
        if is_folder {
            walk(files, file, &path, told, tree);
        }
    }
}

fn tree_of(volume: &Path, told: Told) -> Tree {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(volume).unwrap());
    let open = OpenVolume::open(store).unwrap().unwrap();
    let files = open.files().unwrap().unwrap();
    let mut tree = Tree::new();
    walk(&*files, files.root(), b"", told, &mut tree);
    assert_eq!(files.faults(), [""; 0]);
    // The library's own walk gives the same, in the order of names.
    let mut paths = Vec::new();
    files
        .walk(files.root(), &mut |walked| {
            let Walked::Entry(entry) = walked else { panic!("a fault in {}", volume.display()) };
            let parts = entry.path.iter().filter(|byte| **byte == b'/').count();
            let is_root = entry.path.is_empty();
            assert_eq!(entry.depth, if is_root { 0 } else { parts + 1 });
            if !is_root {
                paths.push([b"/", entry.path].concat());
            }
            Ok(Onward::Into)
        })
        .unwrap();
    let parts = |path: &Vec<u8>| path.split(|byte| *byte == b'/').map(<[u8]>::to_vec).collect();
    let by_parts: Vec<Vec<Vec<u8>>> = paths.iter().map(parts).collect();
    assert!(by_parts.is_sorted());
    paths.sort();
    assert!(paths.iter().eq(tree.keys()));
    tree
}

/// The properties of a path according to the system.
fn shown(path: &Path, data: &Metadata, told: Told) -> String {
    let kind = data.file_type();
    let device = (rustix::fs::major(data.rdev()), rustix::fs::minor(data.rdev()));
    let of = |content: &[u8]| blake3::hash(content).to_hex().to_string();
    let (kind, content) = match () {
        () if kind.is_dir() => (FileKind::Folder, String::new()),
        () if kind.is_symlink() => {
            (FileKind::Link, of(std::fs::read_link(path).unwrap().as_os_str().as_bytes()))
        }
        () if kind.is_fifo() => (FileKind::Pipe, String::new()),
        () if kind.is_socket() => (FileKind::Socket, String::new()),
        () if kind.is_char_device() => {
            (FileKind::CharacterDevice(device.0, device.1), String::new())
        }
        () if kind.is_block_device() => (FileKind::BlockDevice(device.0, device.1), String::new()),
        () => (FileKind::File, of(&std::fs::read(path).unwrap())),
    };
    let time = |seconds, nanoseconds: i64| {
        time_text(Some(FileTime { seconds, nanoseconds: nanoseconds as u32 }))
    };
    let modified = time(data.mtime(), data.mtime_nsec());
    if told == Told::NoOwners {
        let size = if kind == FileKind::Folder { 0 } else { data.size() };
        return format!("{kind:?} {size}{modified} {content}");
    }
    format!(
        "{kind:?} {:o} {}:{} {} x{}{modified}{}{} {content}{}",
        data.mode() & 0o7777,
        data.uid(),
        data.gid(),
        data.size(),
        data.nlink(),
        time(data.ctime(), data.ctime_nsec()),
        time(data.atime(), data.atime_nsec()),
        attributes(&mut attributes_shown(path)),
    )
}

fn attributes_shown(path: &Path) -> Vec<(Vec<u8>, Vec<u8>)> {
    let mut names = vec![0; 1 << 16];
    let len = rustix::fs::llistxattr(path, &mut names[..]).unwrap();
    let names = names[..len].split(|byte| *byte == 0).filter(|name| !name.is_empty());
    let value = |name: &[u8]| {
        let mut value = vec![0; 1 << 17];
        let len = rustix::fs::lgetxattr(path, OsStr::from_bytes(name), &mut value[..]).unwrap();
        value.truncate(len);
        (name.to_vec(), value)
    };
    names.map(value).collect()
}

fn shown_below(folder: &Path, name: &[u8], told: Told, tree: &mut Tree) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let entry = entry.unwrap();
        let path = [name, b"/", entry.file_name().as_bytes()].concat();
        let data = entry.path().symlink_metadata().unwrap();
        if data.is_dir() {
            shown_below(&entry.path(), &path, told, tree);
        }
        tree.insert(path, shown(&entry.path(), &data, told));
    }
}

/// Both trees, path by path.
#[track_caller]
fn are_alike(found: &Tree, shown: &Tree, at_least: usize) {
    assert!(shown.len() >= at_least, "only {} paths", shown.len());
    for (path, line) in shown {
        let path = String::from_utf8_lossy(path);
        assert_eq!(found.get(path.as_bytes()).or(Some(line)), Some(line), "{path}");
    }
    let names = |tree: &Tree| -> Vec<String> {
        tree.keys().map(|path| String::from_utf8_lossy(path).into_owned()).collect()
    };
    assert_eq!(names(found), names(shown));
}

/// A tree with everything that an ext volume can have.
const ODD: &str = include_str!("support/odd-tree.sh");

/// Attributes, where there is room for them.
const ATTRIBUTES: &str = include_str!("support/odd-attributes.sh");

/// Creates and fills an ext volume, and compares it with its mount.
fn ext(make: &str, more: &str) {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    File::create(at.join("v")).unwrap().set_len(96 << 20).unwrap();
    sh(&format!("{make} v >&2; mkdir m; mount -o loop v m"), at);
    let mounted = at.join("m");
    sh(ODD, &mounted);
    sh(more, &mounted);
    drop(UnixListener::bind(mounted.join("hive/socket")).unwrap());
    sh("umount m; mount -o loop,ro,noatime v m", at);
    let mut tree = Tree::new();
    shown_below(&mounted, b"", Told::Everything, &mut tree);
    sh("umount m", at);
    are_alike(&tree_of(&at.join("v"), Told::Everything), &tree, 1520);
}

#[test]
fn every_file_of_ext_is_as_its_system_shows_it() {
    if !is_root("every_file_of_ext_is_as_its_system_shows_it") {
        return;
    }
    let large = format!(
        "{ATTRIBUTES}\nsetfattr -n user.large -v $(head -c 40000 /dev/zero | tr '\\0' v) hive/holes\n\
         fallocate -l 2M hive/unwritten; printf x >> hive/unwritten"
    );
    for (make, more) in [
        ("mkfs.ext4 -q -b 1024", ATTRIBUTES),
        ("mkfs.ext4 -q -b 4096 -O inline_data,ea_inode", &*large),
        ("mkfs.ext4 -q -b 1024 -I 128 -O ^metadata_csum,^64bit,^extents", ""),
        ("mkfs.ext3 -q -b 2048", ATTRIBUTES),
        ("mkfs.ext2 -q -b 1024 -I 128", ""),
        ("mkfs.ext4 -q -b 4096 -O ^has_journal,bigalloc,inline_data", ATTRIBUTES),
    ] {
        ext(make, more);
    }
}

/// A map of more than 10,000 pieces: all of them are followed.
#[test]
fn file_of_very_many_extents_is_read_in_full() {
    if !is_root("file_of_very_many_extents_is_read_in_full") {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    File::create(at.join("v")).unwrap().set_len(64 << 20).unwrap();
    sh("mkfs.ext4 -q -b 1024 v; mkdir m; mount -o loop v m", at);
    let file = File::create(at.join("m/pieces")).unwrap();
    for n in 0..12_000u64 {
        use std::os::unix::fs::FileExt;
        file.write_all_at(&n.to_le_bytes(), n * 2048).unwrap();
    }
    drop(file);
    let mut tree = Tree::new();
    sh("umount m; mount -o loop,ro v m", at);
    shown_below(&at.join("m"), b"", Told::Everything, &mut tree);
    sh("umount m", at);
    let extents = sh("debugfs -R 'ex /pieces' v 2>/dev/null | wc -l", at);
    let count: usize = extents.trim().parse().unwrap();
    assert!(count > 10_000, "{count}");
    are_alike(&tree_of(&at.join("v"), Told::Everything), &tree, 2);
}

/// Damage is reported, and everything readable is read.
#[test]
fn wrong_checksum_is_reported_and_skipped() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    File::create(at.join("v")).unwrap().set_len(8 << 20).unwrap();
    sh("mkfs.ext4 -q v; echo 23.5 > weight; debugfs -w -R 'write weight weight' v 2>/dev/null", at);
    sh("debugfs -w -R 'set_inode_field weight checksum 0' v 2>/dev/null", at);
    let open = OpenVolume::open(Arc::new(FileStore::open(&at.join("v")).unwrap())).unwrap();
    let open = open.unwrap();
    let files = open.files().unwrap().unwrap();
    assert_eq!(files.small_file(&[b"weight"], 99).unwrap().unwrap(), b"23.5\n");
    let faults = files.faults();
    assert!(matches!(&faults[..], [one] if one.ends_with("its checksum is wrong")), "{faults:?}");
    // Changing the volume is refused for the same reason.
    let error = open.check(&imbrik_store::progress::Cancel::new()).unwrap_err();
    assert_eq!(error.class(), Class::Corrupt);
    // A link's target may not exist; a missing file is reported as missing.
    sh("debugfs -w -R 'symlink link weight' v 2>/dev/null", at);
    let open = OpenVolume::open(Arc::new(FileStore::open(&at.join("v")).unwrap())).unwrap();
    let open = open.unwrap();
    let files = open.files().unwrap().unwrap();
    assert_eq!(files.has_entry(&[b"link", b"x"]).unwrap(), None);
    assert_eq!(files.has_entry(&[b"weight", b"x"]).unwrap(), Some(false));
    assert_eq!(files.has_entry(&[b"nothing"]).unwrap(), Some(false));
}

const PLAIN: &str = r"
mkdir -p t/hive/brood t/crowd
i=0; while [ $i -lt 300 ]; do echo $i > t/crowd/MEAS$i.TXT; i=$((i+1)); done
head -c 700000 /dev/urandom > 't/hive/brood/sounds of the night, Röhre 1.wav'
echo 23.5 > t/hive/weight.csv; : > t/hive/none; printf x > t/hive/UPPER.TXT
find t -exec touch -d '2026-05-06 07:08:10' {} +
";

#[test]
fn every_file_of_fat_is_as_mtools_show_it() {
    for (make, mib) in [
        ("mkfs.fat -F 12 -S 512 -s 8", 8),
        ("mkfs.fat -F 16", 32),
        ("mkfs.fat -F 32 -s 1", 40),
        ("mkfs.fat -F 32 -s 8", 300),
    ] {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        File::create(at.join("v")).unwrap().set_len(mib << 20).unwrap();
        sh(&format!("{make} v >&2"), at);
        sh(PLAIN, at);
        // A fragmented file: others are created and removed before it.
        sh("head -c 600000 /dev/zero > z; for n in 1 2 3; do mcopy -i v z ::z$n; done", at);
        sh("mdel -i v ::z2; TZ=UTC mcopy -i v -s -m t/* ::; mdel -i v ::z1 ::z3", at);
        sh("mkdir m; TZ=UTC mcopy -i v -s -m '::*' m/", at);
        let mut tree = Tree::new();
        // The times of folders are those of creating them with mtools, twice.
        let files_only = |tree: Tree| -> Tree {
            let cut = |line: String| match line.strip_prefix("Folder") {
                Some(_) => "Folder".to_owned(),
                None => line,
            };
            tree.into_iter().map(|(path, line)| (path, cut(line))).collect()
        };
        shown_below(&at.join("m"), b"", Told::NoOwners, &mut tree);
        let found = tree_of(&at.join("v"), Told::NoOwners);
        are_alike(&files_only(found), &files_only(tree), 305);
        let open = OpenVolume::open(Arc::new(FileStore::open(&at.join("v")).unwrap())).unwrap();
        let open = open.unwrap();
        let files = open.files().unwrap().unwrap();
        let path: &[&[u8]] = &[b"HIVE", b"Weight.CSV"];
        assert_eq!(files.small_file(path, 99).unwrap().unwrap(), b"23.5\n", "case does not matter");
        assert_eq!(files.has_entry(&[b"hive", b"weight.csv", b"x"]).unwrap(), Some(false));
    }
}

#[test]
fn every_file_of_exfat_is_as_its_driver_shows_it() {
    if !is_root("every_file_of_exfat_is_as_its_driver_shows_it") {
        return;
    }
    for make in ["mkfs.exfat -c 512", "mkfs.exfat -c 4K", "mkfs.exfat -c 128K"] {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        File::create(at.join("v")).unwrap().set_len(100 << 20).unwrap();
        sh(&format!("{make} v >&2; {PLAIN}"), at);
        let device = sh("losetup -f --show v", at).trim().to_owned();
        let mount = |options: &str| {
            sh(&format!("mkdir -p m; mount.exfat-fuse -o {options} {device} m >&2"), at)
        };
        let unmount = || {
            sh(&format!("umount m; while fuser -s {device}; do sleep 0.02; done"), at);
        };
        mount("rw");
        sh("head -c 600000 /dev/zero > z; cp z m/z1; cp z m/z2; cp z m/z3; rm m/z2", at);
        sh("cp -rp t/* m/; rm m/z1 m/z3; truncate -s 200000 m/hive/none", at);
        unmount();
        mount("ro");
        let mut tree = Tree::new();
        shown_below(&at.join("m"), b"", Told::NoOwners, &mut tree);
        unmount();
        sh(&format!("losetup -d {device}"), at);
        are_alike(&tree_of(&at.join("v"), Told::NoOwners), &tree, 305);
        let open = OpenVolume::open(Arc::new(FileStore::open(&at.join("v")).unwrap())).unwrap();
        let open = open.unwrap();
        let files = open.files().unwrap().unwrap();
        let path: &[&[u8]] = &[b"Hive", b"WEIGHT.csv"];
        assert_eq!(files.small_file(path, 99).unwrap().unwrap(), b"23.5\n");
    }
}

/// In addition to the driver's view: streams as attributes, hard links, compressed files, and a volume that was not
/// unmounted.
#[test]
fn every_file_of_ntfs_is_as_its_driver_shows_it() {
    if !is_root("every_file_of_ntfs_is_as_its_driver_shows_it") {
        return;
    }
    for make in ["mkfs.ntfs -q -F -c 512", "mkfs.ntfs -q -F", "mkfs.ntfs -q -F -c 65536"] {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        File::create(at.join("v")).unwrap().set_len(100 << 20).unwrap();
        sh(&format!("{make} v >&2; {PLAIN}"), at);
        let device = sh("losetup -f --show v", at).trim().to_owned();
        let mount = |options: &str| {
            sh(&format!("mkdir -p m; ntfs-3g -o {options} {device} m >&2"), at);
        };
        let unmount = || {
            sh(&format!("umount m; while fuser -s {device}; do sleep 0.02; done"), at);
        };
        mount("rw");
        sh(
            "cp -rp t/* m/; mkdir m/many m/gone; for i in $(seq 600); do echo $i > m/many/$i-frame.csv; done",
            at,
        );
        sh(
            "for i in $(seq 2 3 600); do rm m/many/$i-frame.csv; done; rmdir m/gone; ln m/many/1-frame.csv m/second",
            at,
        );
        sh(
            "truncate -s 9M m/holes; echo end >> m/holes; printf x | dd of=m/holes bs=1 seek=3000000 conv=notrunc status=none",
            at,
        );
        // In pieces that take several records.
        sh(
            "for i in $(seq 330); do for f in a b; do head -c 4096 /dev/urandom >> m/torn-$f; sync -d m/torn-$f; done; done",
            at,
        );
        sh("setfattr -n user.hive -v seven m/second; head -c 5000 /dev/urandom > m/rest", at);
        unmount();
        mount("ro");
        let mut tree = Tree::new();
        shown_below(&at.join("m"), b"", Told::NoOwners, &mut tree);
        unmount();
        // A compressed file, if the driver supports that.
        let packs = !make.contains("65536");
        if packs {
            mount("compression");
            sh(
                "mkdir m/packed; setfattr -h -v 0x00080000 -n system.ntfs_attrib m/packed; seq 60000 > m/packed/seq",
                at,
            );
            unmount();
        }
        sh(&format!("losetup -d {device}"), at);
        let open = OpenVolume::open(Arc::new(FileStore::open(&at.join("v")).unwrap())).unwrap();
        let open = open.unwrap();
        let files = open.files().unwrap().unwrap();
        if packs {
            let packed = files.at(&[b"packed", b"seq"]).unwrap().unwrap();
            assert_eq!(files.info(packed).unwrap().size, 348_894);
            let error = files.read(packed, 9).unwrap_err();
            assert!(
                error.class() == Class::Unsupported && error.to_string().contains("compressed")
            );
        }
        let mut found = Tree::new();
        for (name, file) in files.list(files.root()).unwrap().iter().filter_map(|name| {
            let file = files.at(&[name]).unwrap()?;
            (name != b"packed").then_some((name.clone(), file))
        }) {
            let path = [b"/", &name[..]].concat();
            found.insert(path.clone(), self::found(&*files, file, Told::NoOwners));
            if files.info(file).unwrap().kind == FileKind::Folder {
                walk(&*files, file, &path, Told::NoOwners, &mut found);
            }
        }
        are_alike(&found, &tree, 700);
        let second = files.at(&[b"second"]).unwrap().unwrap();
        assert_eq!(files.info(second).unwrap().links, 2);
        let streams = files.attributes(second).unwrap();
        assert_eq!(
            (streams[0].name.as_slice(), streams[0].value.as_slice()),
            (&b"user.hive"[..], &b"seven"[..])
        );
        assert_eq!(streams.len(), 1);
        assert!(files.faults().is_empty(), "{:?}", files.faults());
    }
}

/// How much a walk through anything may find before it is too much.
const MOST_FOUND: usize = 20_000;

/// Reads everything in `files`, errors included; returns the number of entries.
fn walk_anything(files: &dyn Files) -> usize {
    let (mut seen, mut count) = (std::collections::HashSet::new(), 0);
    let mut waiting = vec![files.root()];
    while let Some(file) = waiting.pop() {
        if !seen.insert(file) {
            continue;
        }
        let _ = files.info(file);
        let _ = files.read(file, 4096);
        let _ = files.attributes(file);
        let _ = files.entries(file, &mut |entry| {
            count += 1;
            waiting.push(entry.file);
            Ok(if count < MOST_FOUND { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
        });
        if count >= MOST_FOUND {
            break;
        }
    }
    count
}

/// Fails if a flipped bit makes a walk panic, loop or hang.
#[test]
fn walk_of_a_damaged_volume_terminates() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    sh(
        "mkdir t; head -c 50000 /dev/urandom > t/brood; for i in $(seq 40); do echo $i > t/f$i; done",
        at,
    );
    let kinds = [
        "mkfs.ext4 -q -b 1024 -O inline_data -d t v 4M",
        "mkfs.ext2 -q -b 1024 -d t v 4M",
        "truncate -s 8M v; mkfs.fat -F 12 v >&2; mcopy -i v t/* ::; mmd -i v ::d; mcopy -i v t/f1 ::d",
        "truncate -s 40M v; mkfs.fat -F 32 -s 1 v >&2; mcopy -i v t/* ::",
        "truncate -s 4M v; mkfs.exfat -c 512 v >&2",
        "truncate -s 4M v; mkfs.ntfs -q -F v >&2; for f in t/*; do ntfscp -q v $f /${f#t/}; done",
    ];
    let mut state = 88172645463325252u64;
    let mut random = |below: u64| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state % below
    };
    for make in kinds {
        sh(&format!("rm -f v; {make}"), at);
        let sound = std::fs::read(at.join("v")).unwrap();
        // Only allocated bytes: flipped bits in free space have no effect.
        let full: Vec<usize> = (0..sound.len().min(3 << 20)).filter(|at| sound[*at] != 0).collect();
        let mut found = 0;
        for _ in 0..300 {
            let mut bytes = sound.clone();
            for _ in 0..=random(3) {
                bytes[full[random(full.len() as u64) as usize]] ^= 1 << random(8);
            }
            let store: Arc<dyn ReadAt> = Arc::new(imbrik_store::SparseStore::of(&bytes));
            let Ok(Some(open)) = OpenVolume::open(store) else { continue };
            let Ok(Some(files)) = open.files() else { continue };
            found += walk_anything(&*files);
        }
        assert!(found > 300 || make.contains("exfat"), "{make}: only {found} entries were found");
    }
}

/// Fails if the names of a volume without its primary superblock are lost although backups exist, or a backup gives
/// other names.
#[test]
fn volume_without_its_primary_superblock_is_read_by_backups() {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    sh(
        "mkdir t; for n in $(seq 300); do mkdir -p t/d$((n % 7)); echo $n > t/d$((n % 7))/f$n; done",
        at,
    );
    let ext =
        |options: &str, mib: u64| (format!("mkfs.ext4 -q {options} -d t v {mib}M"), 1024, 1024);
    let fat = "truncate -s 40M v; mkfs.fat -F 32 -s 1 v >&2; mcopy -i v -s t/* ::";
    let kinds = [
        ext("-b 1024", 24),
        ext("-b 2048", 96),
        ext("-b 4096", 300),
        ext("-b 1024 -O meta_bg,^resize_inode", 24),
        ext("-b 1024 -O ^metadata_csum,^64bit", 24),
        ext("-b 1024 -O ^metadata_csum,^uninit_bg,sparse_super2", 24),
        (fat.to_owned(), 0, 512),
    ];
    for (make, head, head_len) in kinds {
        sh(&format!("rm -f v; {make}"), at);
        let whole = tree_of(&at.join("v"), Told::NoOwners);
        let sound = std::fs::read(at.join("v")).unwrap();
        // The superblock or boot sector alone, and together with the following metadata: descriptors, or a part of the
        // first table.
        let block = if head == 0 { 0 } else { 1024usize << sound[1024 + 24] };
        let behind = if head == 0 { 32 * 512 } else { block.max(2048) };
        let places = [(head, head_len), (behind, block.max(512))];
        for lost in [&places[..1], &places[1..], &places[..]] {
            let mut bytes = sound.clone();
            for (from, len) in lost {
                assert!(bytes[*from..from + len].iter().any(|byte| *byte != 0), "{make}");
                bytes[*from..from + len].fill(0);
            }
            let spans: Vec<Span> = lost
                .iter()
                .map(|(from, len)| {
                    Span::new(ByteOffset::new(*from as u64), ByteLen::new(*len as u64)).unwrap()
                })
                .collect();
            let store: Arc<dyn ReadAt> = Arc::new(imbrik_store::SparseStore::of(&bytes));
            let open = OpenVolume::open_with_copies(store, &spans).unwrap().unwrap();
            let files = open.files().unwrap().unwrap();
            let mut tree = Tree::new();
            walk(&*files, files.root(), b"", Told::NoOwners, &mut tree);
            assert!(tree == whole && tree.len() > 300, "{make}: {lost:?}");
        }
    }
}
