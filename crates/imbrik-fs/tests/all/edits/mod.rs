//! Adding files to volumes, and changing ids of volumes: judged by the system's checkers, read by its drivers.

mod cuts;
mod random;
mod unchanged;

use crate::support::{in_user_mode_linux, is_root, sh};
use imbrik_fs::{
    DerivedVolume, EditOptions, FileEdit, FileMeta, FileTime, OpenVolume, ResizeOptions,
};
use imbrik_store::{
    Class, FileStore, ReadAt, Result, SparseStore,
    progress::Cancel,
    read_vec,
    units::{ByteLen, ByteOffset},
};
use proptest::prelude::*;
use std::{
    fs::{File, OpenOptions},
    os::unix::fs::FileExt,
    path::Path,
    sync::Arc,
};

const NOW: EditOptions = EditOptions {
    now: FileTime { seconds: 1_790_000_000, nanoseconds: 123_456_789 },
    keeps_old: false,
};

/// An ext volume `v` of 48 MiB with a hashed folder, made with `options`.
fn ext(options: &str) -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    sh("mkdir -p files/etc/ssh files/deep/er; echo hive-07 > files/etc/hostname", at);
    sh("for i in $(seq 400); do echo $i > \"files/etc/measurement of the night $i\"; done", at);
    sh(
        "head -c 300000 /dev/zero | tr '\\0' x > files/deep/large; ln -s hostname files/etc/link",
        at,
    );
    File::create(at.join("v")).unwrap().set_len(48 << 20).unwrap();
    sh(&format!("mke2fs -q -F {options} -d files v; e2fsck -fyD v || [ $? = 1 ]"), at);
    dir
}

fn volume(dir: &Path) -> OpenVolume {
    let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(&dir.join("v")).unwrap());
    OpenVolume::open(store).unwrap().expect("a volume")
}

/// Writes the differences into the file, as onto a card.
fn keep(dir: &Path, derived: &DerivedVolume) {
    let mut pieces = Vec::new();
    for span in &derived.rewritten {
        let len = span.len().to_usize().unwrap();
        pieces.push((span.start().get(), read_vec(&*derived.store, span.start(), len).unwrap()));
    }
    let file = OpenOptions::new().write(true).open(dir.join("v")).unwrap();
    for (at, bytes) in pieces {
        file.write_all_at(&bytes, at).unwrap();
    }
}

fn put(dir: &Path, path: &str, content: &[u8]) -> Result<()> {
    let path = path.split('/').map(|name| name.as_bytes().to_vec()).collect();
    let content = Arc::new(SparseStore::of(content));
    let edit = FileEdit::Put { path, content, meta: FileMeta::default() };
    volume(dir).edit(&[edit], NOW).map(|edited| keep(dir, &edited.volume))
}

fn judged(dir: &Path) {
    let said = sh("e2fsck -fn v 2>&1", dir);
    assert!(!said.contains('?') && !said.contains("should be"), "{said}");
}

fn cat(dir: &Path, path: &str) -> Vec<u8> {
    sh(&format!("debugfs -R 'dump \"/{path}\" out' v 2>&1"), dir);
    std::fs::read(dir.join("out")).unwrap()
}

/// All files of an ext volume but those edited, with their attributes.
fn others(dir: &Path) -> String {
    let line = "mkdir -p m; mount -o loop,ro v m; cd m; \
                find . -path ./etc/ssh -prune -o ! -name new\\* ! -name hostname ! -path ./etc \
                  ! -name grown\\* -printf '%p %M %U %G %s %n %T@ %l\\n' | sort; \
                find . -type f ! -name new\\* ! -name hostname ! -name grown\\* -print0 | sort -z | \
                  xargs -0 b2sum; cd ..; \
                for i in $(seq 99); do umount m && break; sleep 0.02; done";
    sh(line, dir)
}

const KINDS: [&str; 9] = [
    "-t ext4",
    "-t ext4 -b 1024",
    "-t ext4 -O ^metadata_csum",
    "-t ext4 -O ^metadata_csum,uninit_bg",
    "-t ext4 -O metadata_csum_seed",
    "-t ext4 -O ^64bit,^flex_bg -I 128",
    "-t ext3 -b 1024",
    "-t ext2",
    "-t ext4 -O ^extent,^64bit -b 2048",
];

#[test]
fn ext_files_are_replaced_and_added() {
    if !is_root("ext_files_are_replaced_and_added") {
        return;
    }
    for options in KINDS {
        let dir = ext(options);
        let at = dir.path();
        let before = others(at);
        // Shorter, longer than its blocks, of no length, and back.
        for len in [5usize, 9000, 0, 60_000, 300] {
            let content: Vec<u8> = (0..len).map(|n| (n % 251) as u8).collect();
            match put(at, "etc/hostname", &content) {
                Ok(()) => {}
                Err(error) => panic!("{options} {len}: {error}"),
            }
            judged(at);
            assert!(cat(at, "etc/hostname") == content, "{options} {len}");
        }
        // New files: in a hashed folder, in an empty one, and so many that it needs more blocks.
        put(at, "etc/new", b"by hand\n").unwrap();
        judged(at);
        for n in 0..40 {
            let name =
                format!("etc/ssh/new with a name of some length, which fills a block {n:03}");
            put(at, &name, n.to_string().as_bytes()).unwrap_or_else(|e| panic!("{options}: {e}"));
        }
        judged(at);
        assert_eq!(cat(at, "etc/new"), b"by hand\n");
        assert!(before == others(at), "{options}: other files differ");
        let listed = sh("debugfs -R 'ls -l /etc/ssh' v 2>/dev/null", at);
        assert_eq!(listed.matches("new with").count(), 40, "{options}");
        let said = sh("debugfs -R 'stat /etc/new' v 2>/dev/null", at);
        assert!(said.contains("Mode:  0644") && said.contains("Links: 1"), "{said}");
        // The kernel continues to use it.
        sh(
            "mkdir -p m; mount -o loop v m; echo more >> m/etc/new; rm m/etc/ssh/new*7; sync; \
            for i in $(seq 99); do umount m && break; sleep 0.02; done",
            at,
        );
        judged(at);
    }
}

#[test]
fn inline_data_is_replaced_and_extended() {
    if !is_root("inline_data_is_replaced_and_extended") {
        return;
    }
    for (options, needs_blocks) in
        [("-I 256", 3), ("-I 512", 2), ("-I 512 -O ^metadata_csum", 2), ("-I 1024 -b 1024", 2)]
    {
        let dir = ext(&format!("-t ext4 -O inline_data {options}"));
        let at = dir.path();
        // Attributes next to inline data, some before it and some after, and folders with entries in both places.
        sh(
            "mkdir -p m; mount -o loop v m; setfattr -n user.a -v one m/etc/hostname; \
             mkdir m/hives; for n in 1 2 3; do echo $n > m/hives/hive-0$n; done; \
             for n in $(seq 90); do printf %s $n >> m/weights; done; \
             setfattr -n user.b -v two m/weights; setfattr -n user.c -v three m/hives; sync; \
             for i in $(seq 99); do umount m && break; sleep 0.02; done",
            at,
        );
        judged(at);
        let is_inline = |path: &str| {
            let said = sh(&format!("debugfs -R 'stat {path}' v 2>/dev/null"), at);
            said.contains("Flags: 0x10000000")
        };
        let before = others(at);
        assert!(is_inline("/etc/hostname") && is_inline("/hives") && is_inline("/etc/ssh"));
        for len in [5usize, 60, 61, 9000, 0, 100] {
            let content: Vec<u8> = (0..len).map(|n| (n % 251) as u8).collect();
            put(at, "etc/hostname", &content).unwrap_or_else(|e| panic!("{options} {len}: {e}"));
            judged(at);
            let read = cat(at, "etc/hostname");
            assert!(read.starts_with(&content) && (len < 61 || read.len() == len), "{len}");
            assert_eq!(is_inline("/etc/hostname"), len <= 60 && !content.is_empty(), "{len}");
        }
        // One that does not fit in the 60 bytes of the inode.
        assert_eq!(is_inline("/weights"), needs_blocks == 2, "{options}");
        put(at, "weights", b"41.7\n").unwrap();
        // Folders get new entries, and keep the existing ones.
        for folder in ["hives", "etc/ssh", "deep/er"] {
            for n in 0..3 {
                put(at, &format!("{folder}/new {n}"), b"brood\n").unwrap();
                judged(at);
            }
        }
        let listed = sh(
            "mkdir -p m; mount -o loop,ro v m; cd m; find hives etc/ssh deep/er | sort; \
             getfattr -R -d etc/hostname weights hives 2>/dev/null; cat weights hives/*; cd ..; \
             for i in $(seq 99); do umount m && break; sleep 0.02; done",
            at,
        );
        let expected = "deep/er\ndeep/er/new 0\ndeep/er/new 1\ndeep/er/new 2\netc/ssh\n\
                        etc/ssh/new 0\netc/ssh/new 1\netc/ssh/new 2\nhives\nhives/hive-01\n\
                        hives/hive-02\nhives/hive-03\nhives/new 0\nhives/new 1\nhives/new 2\n\
                        # file: etc/hostname\nuser.a=\"one\"\n\n# file: weights\n\
                        user.b=\"two\"\n\n# file: hives\nuser.c=\"three\"\n\n\
                        41.7\n1\n2\n3\nbrood\nbrood\nbrood\n";
        assert_eq!(listed, expected, "{options}");
        assert_eq!(before.lines().count(), others(at).lines().count(), "{options}");
    }
}

#[test]
fn uninitialised_groups_provide_space() {
    for options in
        ["", "-O ^flex_bg", "-O ^metadata_csum,uninit_bg", "-O ^64bit,metadata_csum_seed"]
    {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        // Sixteen inodes a group: the first group's are soon in use.
        sh(&format!("truncate -s 48M v; mke2fs -q -t ext4 -b 1024 -N 96 {options} v"), at);
        let unused = || sh("dumpe2fs v 2>/dev/null", at).matches("INODE_UNINIT, BLOCK").count();
        let before = unused();
        assert!(before >= 2, "{options}");
        for n in 0..60usize {
            let content = vec![n as u8; n * 700];
            put(at, &format!("night {n}"), &content)
                .unwrap_or_else(|e| panic!("{options} {n}: {e}"));
            if n % 10 == 5 {
                judged(at);
            }
            assert!(cat(at, &format!("night {n}")) == content, "{options} {n}");
        }
        assert!(unused() < before, "{options}: none of them was used");
        judged(at);
    }
}

#[test]
fn impossible_additions_are_refused_with_a_reason() {
    let dir = ext("-t ext4");
    let at = dir.path();
    let said = |path: &str, content: &[u8]| put(at, path, content).unwrap_err();
    assert_eq!(said("etc/link", b"x").class(), Class::Unsupported);
    assert_eq!(said("etc/ssh", b"x").class(), Class::Unsupported);
    assert_eq!(said("etc/none/x", b"x").class(), Class::Usage);
    assert_eq!(said("etc/link/x", b"x").class(), Class::Unsupported);
    assert_eq!(said("", b"x").class(), Class::Usage);
    let large = vec![7; 60 << 20];
    assert_eq!(said("etc/large", &large).class(), Class::NoRoom);
    judged(at);
    // Content in the inode, if it fits.
    let dir = ext("-t ext4 -O inline_data");
    let at = dir.path();
    put(at, "etc/hostname", b"hive-11\n").unwrap();
    // debugfs extracts all 60 bytes of such a file, whatever its size.
    assert!(cat(at, "etc/hostname").starts_with(b"hive-11\n\0"));
    assert!(sh("debugfs -R 'stat /etc/hostname' v", at).contains("Size: 8\n"));
    judged(at);
}

#[test]
fn an_ext_volume_gets_another_uuid_with_all_its_checksums() {
    if !is_root("an_ext_volume_gets_another_uuid_with_all_its_checksums") {
        return;
    }
    let clustered = ["-t ext4 -O bigalloc -C 16384", "-t ext4 -O bigalloc -b 1024 -C 4096"];
    for options in KINDS.into_iter().chain(clustered) {
        let dir = ext(options);
        let at = dir.path();
        // Extended attributes in separate blocks, deep trees, and deleted inodes.
        sh(
            "mkdir -p m; mount -o loop v m; setfattr -n user.note -v \"$(head -c 900 /dev/zero | tr '\\0' y)\" \
            m/deep/large; for i in $(seq 60); do dd if=/dev/urandom of=m/deep/grown bs=4k count=1 \
            seek=$((i * 3)) conv=notrunc status=none; done; rm -f \"m/etc/measurement of the night 7\"; \
            sync; for i in $(seq 99); do umount m && break; sleep 0.02; done",
            at,
        );
        judged(at);
        let before = others(at);
        let known = volume(at);
        let id: uuid::Uuid = "11111111-2222-4333-8444-555555555555".parse().unwrap();
        let derived = known.with_id(id, ResizeOptions::in_memory(&Cancel::new())).unwrap();
        for store in [known.store(), &derived.store] {
            let open = OpenVolume::known(Arc::clone(store), known.volume().clone());
            open.check(&Cancel::new()).unwrap_or_else(|e| panic!("{options}: {e}"));
        }
        keep(at, &derived);
        judged(at);
        assert!(before == others(at), "{options}: the files differ");
        assert_eq!(sh("blkid -p -o value -s UUID v", at).trim(), id.to_string());
        // Its copies of the superblock are of the same volume.
        sh("dumpe2fs -h v 2>/dev/null | grep -q 'Filesystem UUID:.*11111111-2222'", at);
        // A recovery from a copy gives the same volume.
        let (block, len) = match options {
            kind if kind.contains("bigalloc") => continue,
            kind if kind.contains("1024") => (8193, 1024),
            kind if kind.contains("2048") => (16384, 2048),
            _ => continue,
        };
        let recover = format!("e2fsck -fy -b {block} -B {len} w || [ $? = 1 ]");
        sh(&format!("cp v w; {recover}; e2fsck -fn w"), at);
    }
}

#[test]
fn serial_numbers_are_changed_in_every_copy() {
    for (make, judge) in [
        ("mkfs.vfat -F 12", "fsck.fat -n v"),
        ("mkfs.vfat -F 16", "fsck.fat -n v"),
        ("mkfs.vfat -F 32", "fsck.fat -n v"),
        ("mkfs.exfat", "fsck.exfat -n v"),
        ("mkswap -q", "true"),
    ] {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        File::create(at.join("v")).unwrap().set_len(40 << 20).unwrap();
        sh(
            &format!(
                "truncate -s {} v; {make} v >/dev/null",
                if make.contains("12") { "4M" } else { "40M" }
            ),
            at,
        );
        let known = volume(at);
        let id: uuid::Uuid = "1badcafe-2222-4333-8444-555555555555".parse().unwrap();
        keep(at, &known.with_id(id, ResizeOptions::in_memory(&Cancel::new())).unwrap());
        sh(judge, at);
        let found = sh("blkid -p -o value -s UUID v", at).trim().to_owned();
        let expected = if make.contains("swap") { id.to_string() } else { "1BAD-CAFE".to_owned() };
        assert_eq!(found, expected, "{make}");
    }
}

#[test]
fn fat_files_are_replaced_and_added() {
    for make in ["mkfs.vfat -F 12 -s 1", "mkfs.vfat -F 16 -s 4", "mkfs.vfat -F 32 -s 1"] {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        let mib = if make.contains("12") { 2 } else { 40 };
        File::create(at.join("v")).unwrap().set_len(mib << 20).unwrap();
        sh(&format!("{make} v >/dev/null; mmd -i v ::overlays; echo quiet > cmdline.txt"), at);
        sh("mcopy -i v cmdline.txt ::; mcopy -i v cmdline.txt '::overlays/a long name.dtbo'", at);
        for len in [5usize, 9000, 0, 60_000, 300] {
            let content: Vec<u8> = (0..len).map(|n| (n % 251) as u8).collect();
            put(at, "cmdline.txt", &content).unwrap();
            sh("fsck.fat -n v; mcopy -o -n -i v ::cmdline.txt out", at);
            assert!(std::fs::read(at.join("out")).unwrap() == content, "{make} {len}");
        }
        put(at, "overlays/A LONG NAME.dtbo", b"changed").unwrap();
        put(at, "ssh", b"").unwrap();
        put(at, "hive.txt", b"hive-11\n").unwrap();
        for n in 0..40 {
            let name = format!("overlays/Höhe über dem Boden, number {n}.txt");
            put(at, &name, n.to_string().as_bytes()).unwrap();
        }
        let said = sh("fsck.fat -n v", at);
        assert_eq!(said.lines().count(), 2, "{said}");
        sh("mcopy -o -n -i v '::overlays/Höhe über dem Boden, number 33.txt' out", at);
        assert_eq!(std::fs::read(at.join("out")).unwrap(), b"33");
        sh("mcopy -o -n -i v '::overlays/a long name.dtbo' out", at);
        assert_eq!(std::fs::read(at.join("out")).unwrap(), b"changed");
        assert!(sh("mdir -i v ::", at).to_lowercase().contains("hive     txt"));
        assert_eq!(put(at, "none/x", b"x").unwrap_err().class(), Class::Usage);
        assert_eq!(put(at, "a:b", b"x").unwrap_err().class(), Class::Usage);
        assert_eq!(put(at, "large", &vec![1; 60 << 20]).unwrap_err().class(), Class::NoRoom);
        assert_eq!(put(at, "overlays", b"x").unwrap_err().class(), Class::Unsupported);
    }
}

/// A folder that contains itself causes no endless loop, and none is created.
#[test]
fn cyclic_folders_are_refused() {
    let names = |path: &str| path.split('/').map(|name| name.as_bytes().to_vec()).collect();
    let dir = ext("-t ext4");
    let at = dir.path();
    let known = volume(at);
    let files = known.files().unwrap().unwrap();
    let deep = files.at(&[b"deep"]).unwrap().unwrap().number();
    drop(files);
    sh(&format!("debugfs -w -R 'link <{deep}> /deep/er/again' v 2>/dev/null"), at);
    let gone = FileEdit::Remove { path: names("deep") };
    assert_eq!(volume(at).edit(&[gone], NOW).unwrap_err().class(), Class::Corrupt);
    let into = |to: &str| FileEdit::Rename { from: names("deep"), to: names(to) };
    for (make, short) in [("mkfs.vfat -F 16", "ALONGF~1"), ("mkfs.exfat", "A LONG FOLDER")] {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        sh(&format!("truncate -s 24M v; {make} v >/dev/null"), at);
        let folder = |path: &str| FileEdit::Folder { path: names(path), meta: FileMeta::default() };
        let made = volume(at).edit(&[folder("a long folder"), folder("a long folder/b")], NOW);
        keep(at, &made.unwrap().volume);
        for to in [format!("{short}/b/c"), format!("{short}/c"), "a long folder/b/c".to_owned()] {
            let from = names("a long folder");
            let rename = FileEdit::Rename { from, to: names(&to) };
            let error = volume(at).edit(&[rename], NOW).unwrap_err();
            assert!(error.to_string().contains("into itself"), "{make}, {to}: {error}");
        }
    }
    assert_eq!(volume(at).edit(&[into("deep/er/x")], NOW).unwrap_err().class(), Class::Usage);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    #[test]
    fn random_damage_never_panics(
        which in 0usize..2,
        hits in proptest::collection::vec((0u64..400_000, any::<u8>()), 1..16),
    ) {
        static VOLUMES: std::sync::OnceLock<Vec<Vec<u8>>> = std::sync::OnceLock::new();
        let volumes = VOLUMES.get_or_init(|| {
            ["mke2fs -q -F -O ^metadata_csum -d files", "mkfs.vfat -F 16 -s 1"].map(|make| {
                let dir = tempfile::tempdir().unwrap();
                sh("mkdir -p files/etc; echo a > files/etc/hostname", dir.path());
                File::create(dir.path().join("v")).unwrap().set_len(4 << 20).unwrap();
                sh(&format!("{make} v >/dev/null"), dir.path());
                std::fs::read(dir.path().join("v")).unwrap()
            }).to_vec()
        });
        let mut bytes = volumes[which].clone();
        for (at, byte) in hits {
            bytes[at as usize] = byte;
        }
        let store: Arc<dyn ReadAt> = Arc::new(imbrik_store::SparseStore::of(&bytes));
        let Some(known) = OpenVolume::open(Arc::clone(&store)).unwrap() else { return Ok(()) };
        let path = if which == 0 { vec![b"etc".to_vec(), b"new".to_vec()] } else { vec![b"new".to_vec()] };
        let content: Arc<dyn ReadAt> = Arc::new(SparseStore::of(&[7; 5000]));
        let meta = FileMeta { permissions: Some(0o600), ..FileMeta::default() };
        let put = FileEdit::Put { path: path.clone(), content, meta: meta.clone() };
        let to = vec![b"moved".to_vec()];
        let edits = [
            put,
            FileEdit::Folder { path: vec![b"hives".to_vec()], meta },
            FileEdit::Rename { from: path, to: to.clone() },
            FileEdit::Remove { path: to },
        ];
        for derived in [
            known.edit(&edits[..1], NOW).map(|edited| edited.volume),
            known.edit(&edits, NOW).map(|edited| edited.volume),
            known.with_id(uuid::Uuid::from_u128(7), ResizeOptions::in_memory(&Cancel::new())),
        ].into_iter().flatten() {
            let _ = read_vec(&*derived.store, ByteOffset::ZERO, 1 << 20).unwrap();
            prop_assert!(derived.store.size() == ByteLen::from_usize(bytes.len()));
        }
    }
}

/// Fails when a name overwrites a file that the same edits put under a name that FAT takes for the same one.
#[test]
fn names_that_are_equal_for_fat_and_exfat_are_refused() {
    let kinds = ["mkfs.vfat -F 16 -s 4", "mkfs.vfat -F 32 -s 1", "mkfs.exfat"];
    for make in kinds {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        sh(&format!("truncate -s 40M v; {make} v >/dev/null"), at);
        let put = |path: &str| FileEdit::Put {
            path: path.split('/').map(|name| name.as_bytes().to_vec()).collect(),
            content: Arc::new(SparseStore::of(path.as_bytes())),
            meta: FileMeta::default(),
        };
        let folder = |name: &str| FileEdit::Folder {
            path: vec![name.as_bytes().to_vec()],
            meta: FileMeta::default(),
        };
        let rename = |from: &str, to: &str| FileEdit::Rename {
            from: vec![from.as_bytes().to_vec()],
            to: vec![to.as_bytes().to_vec()],
        };
        let remove = |name: &str| FileEdit::Remove { path: vec![name.as_bytes().to_vec()] };
        let edit = |edits: &[FileEdit]| volume(at).edit(edits, NOW).map(drop);
        let is_refused = |edits: &[FileEdit], names: [&str; 2]| {
            let error = edit(edits).unwrap_err();
            let text = error.to_string();
            let has_both = names.iter().all(|name| text.contains(&format!("\"{name}\"")));
            assert!(error.class() == Class::Usage && has_both, "{make}: {text}");
        };
        is_refused(&[put("README"), put("readme")], ["README", "readme"]);
        is_refused(&[put("Höhe.txt"), put("HÖHE.TXT")], ["Höhe.txt", "HÖHE.TXT"]);
        is_refused(&[folder("Dir"), put("Dir/x"), folder("dir")], ["Dir", "dir"]);
        is_refused(&[put("a"), put("b"), rename("b", "A")], ["a", "A"]);
        // The same name twice, and names that became free, are no clash.
        edit(&[put("README"), put("README"), rename("README", "readme")]).unwrap();
        edit(&[put("README"), remove("README"), put("readme")]).unwrap();
        let short = [put("honeycomb frames.txt"), put("HONEYC~1.TXT")];
        match make {
            "mkfs.exfat" => edit(&short).unwrap(),
            _ => is_refused(&short, ["honeycomb frames.txt", "HONEYC~1.TXT"]),
        }
        // The other way round, the long name gets another short one.
        edit(&[put("HONEYC~1.TXT"), put("honeycomb frames.txt")]).unwrap();
    }
}

/// Fails when a time that doesn't fit becomes another date: the kernel records the last one that fits.
#[test]
fn times_out_of_range_are_clamped() {
    for (make, seconds, expected) in [
        ("mke2fs -q -t ext2 -I 128", 7_258_118_400, "0x7fffffff"),
        ("mke2fs -q -t ext4 -I 256", 7_258_118_400, "0xb09e1900:00000002"),
        ("mke2fs -q -t ext2 -I 128", -7_258_118_400, "0x80000000"),
    ] {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        sh(&format!("truncate -s 8M v; {make} v"), at);
        let modified = Some(FileTime { seconds, nanoseconds: 0 });
        let edit = FileEdit::Put {
            path: vec![b"x".to_vec()],
            content: Arc::new(SparseStore::of(b"x")),
            meta: FileMeta { modified, ..FileMeta::default() },
        };
        keep(at, &volume(at).edit(&[edit], NOW).unwrap().volume);
        judged(at);
        let shown = sh("debugfs -R 'stat x' v 2>/dev/null | grep mtime", at);
        assert!(shown.contains(expected), "{make}: {shown}");
    }
}

/// Fails when an owner without a quota record is refused, or the kernel and we disagree about the lists in quota files:
/// the kernel frees records and blocks, we use them, and then the kernel again.
#[test]
fn owners_without_a_quota_record_get_one() {
    if !is_root("owners_without_a_quota_record_get_one") {
        return;
    }
    for options in ["quota -b 1024", "quota,project", "quota,^extent,^64bit -E quotatype=usrquota"]
    {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        // With quotas: not every kernel has them.
        let by_kernel = |script: &str| {
            let script = format!(
                "set -e; mount -t ext4 $(losetup -f --show v) /mnt/v; cd /mnt/v; {script}; cd /mnt/w; umount /mnt/v"
            );
            in_user_mode_linux(&script, "ext4 quota_v2", at);
        };
        sh(&format!("truncate -s 64M v; mke2fs -q -t ext4 -N 4096 -O {options} v"), at);
        by_kernel("for n in $(seq 60); do echo x > k$n; chown $((n * 7919)):$n k$n; done; rm k1*");
        let edits: Vec<_> = (0..300u32)
            .map(|n| FileEdit::Put {
                path: vec![format!("hive-{n}").into_bytes()],
                content: Arc::new(SparseStore::of(b"honey")),
                meta: FileMeta { owner: Some((n * n * 131, n << 20)), ..FileMeta::default() },
            })
            .collect();
        for some in edits.chunks(100) {
            let edited = volume(at).edit(some, NOW).unwrap();
            keep(at, &edited.volume);
            judged(at);
        }
        by_kernel(
            "rm hive-1*; for n in $(seq 60); do echo x > l$n; chown $((n * 104729)) l$n; done",
        );
        judged(at);
    }
}

/// Fails when a short name with characters of DOS is read otherwise than Linux reads it, or a file is added next to one
/// whose name is the same to Linux.
#[test]
fn short_names_in_the_dos_code_page_are_read_as_linux_reads_them() {
    if !is_root("short_names_in_the_dos_code_page_are_read_as_linux_reads_them") {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    sh(
        "truncate -s 8M v; mkfs.vfat v >/dev/null; for n in A B C D E; do echo $n > $n; mcopy -i v $n ::${n}PFEL.TXT; done",
        at,
    );
    // Ä, Ñ, Θ in the extension with both cases, and the byte that marks a free entry, once as 0x05.
    let mut bytes = std::fs::read(at.join("v")).unwrap();
    for (old, new, case) in [
        (b"APFEL   TXT", *b"\x8ePFEL   TXT", 0),
        (b"BPFEL   TXT", *b"B\xa5FEL   TXT", 8),
        (b"CPFEL   TXT", *b"CPFEL   T\xe9T", 16),
        (b"DPFEL   TXT", *b"\x05PFEL   TXT", 24),
        (b"EPFEL   TXT", *b"EPFEL\x9a     ", 8),
    ] {
        let place = bytes.windows(11).position(|name| name == old).unwrap();
        bytes[place..place + 11].copy_from_slice(&new);
        bytes[place + 12] = case;
    }
    std::fs::write(at.join("v"), &bytes).unwrap();
    let by_linux = || {
        let script =
            "mount -t vfat -o ro,loop,utf8,codepage=437 v /mnt/v; ls /mnt/v > names; umount /mnt/v";
        in_user_mode_linux(script, "vfat nls_cp437 nls_iso8859-1 nls_utf8 nls_ascii", at);
        let names = std::fs::read_to_string(at.join("names")).unwrap();
        names.lines().map(str::to_owned).collect::<std::collections::BTreeSet<_>>()
    };
    let ours = || {
        let volume = volume(at);
        let files = volume.files().unwrap().unwrap();
        let mut names = std::collections::BTreeSet::new();
        let each = &mut |entry: imbrik_fs::FolderEntry<'_>| {
            names.insert(String::from_utf8(entry.name.to_vec()).unwrap());
            Ok(std::ops::ControlFlow::Continue(()))
        };
        files.entries(files.root(), each).unwrap();
        names
    };
    assert_eq!(ours(), by_linux());
    assert!(ours().contains("ÄPFEL.TXT") && ours().contains("bñfel.TXT"), "{:?}", ours());
    // A file of the same name in any case is replaced; another one gets a unique short name.
    put(at, "äpfel.txt", b"honey").unwrap();
    put(at, "Ägypten.txt", b"wax").unwrap();
    put(at, "epfelÜ", b"brood").unwrap();
    assert_eq!(ours().len(), 6, "{:?}", ours());
    assert_eq!(ours(), by_linux());
    let said = sh("fsck.fat -n v 2>&1", at);
    assert_eq!(said.lines().count(), 2, "{said}");
}
