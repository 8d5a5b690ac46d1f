//! Random edits against a model of the tree, on many kinds of volumes. The system's checkers report nothing after each
//! batch, and the kernel (user-mode Linux for FAT) and the system's tools read the tree of the model.

use super::{NOW, keep, volume};
use crate::support::{in_user_mode_linux, is_root, sh};
use imbrik_fs::{EditOptions, FileEdit, FileFlags, FileKind, FileMeta, Onward, Walked};
use imbrik_store::{Class, ReadAt, SparseStore, progress::Cancel, read_vec, units::ByteOffset};
use proptest::{
    prelude::*,
    strategy::ValueTree as _,
    test_runner::{Config, RngAlgorithm, TestRng, TestRunner},
};
use std::{
    collections::BTreeMap,
    ops::Bound,
    os::unix::fs::MetadataExt as _,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

/// A user and a group.
type Owner = (u32, u32);

#[derive(Clone, Debug, PartialEq, Eq)]
enum Node {
    Folder,
    File(Vec<u8>, Owner),
    Link(Vec<u8>),
}

type Tree = BTreeMap<String, Node>;

/// A kind of volume.
struct Kind {
    name: &'static str,
    make: &'static str,
    /// True if it has links and owners.
    is_unix: bool,
    /// Runs its checker.
    judge: fn(&Path),
    /// Reads its tree with tools of the system.
    trees: &'static [fn(&Path) -> Tree],
}

fn judged_ext(at: &Path) {
    let said = sh("e2fsck -fn v 2>&1", at);
    assert!(!said.contains('?') && !said.contains("should be"), "{said}");
}

fn judged_fat(at: &Path) {
    let said = sh("fsck.fat -n v 2>&1", at);
    assert_eq!(said.lines().count(), 2, "{said}");
}

fn judged_exfat(at: &Path) {
    let said = sh("fsck.exfat -n v 2>&1", at);
    assert!(said.contains("clean") && !said.contains("ERROR"), "{said}");
}

/// The tree below a folder of this system.
fn tree_in(top: &Path) -> Tree {
    let mut tree = Tree::new();
    let mut waiting = vec![top.to_path_buf()];
    while let Some(folder) = waiting.pop() {
        for entry in std::fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            let name = path.strip_prefix(top).unwrap().to_str().unwrap().to_owned();
            if name == "lost+found" {
                continue;
            }
            let data = std::fs::symlink_metadata(&path).unwrap();
            let node = if data.is_symlink() {
                let target = std::fs::read_link(&path).unwrap();
                Node::Link(target.to_str().unwrap().as_bytes().to_vec())
            } else if data.is_dir() {
                waiting.push(path);
                Node::Folder
            } else {
                Node::File(std::fs::read(&path).unwrap(), (data.uid(), data.gid()))
            };
            tree.insert(name, node);
        }
    }
    tree
}

const LET_GO: &str = "for i in $(seq 99); do umount m && break; sleep 0.02; done";

fn mounted(at: &Path) -> Tree {
    sh("mkdir -p m; mount -o loop,ro v m", at);
    let tree = tree_in(&at.join("m"));
    sh(LET_GO, at);
    tree
}

fn copied_out(at: &Path) -> Tree {
    sh("rm -rf m; mkdir m; mdir -a -b -i v :: | grep -q . && mcopy -s -n -i v '::*' m || true", at);
    tree_in(&at.join("m"))
}

fn mounted_exfat(at: &Path) -> Tree {
    sh("mkdir -p m; losetup -r -f --show v > d; mount.exfat-fuse -o ro $(cat d) m >/dev/null", at);
    let tree = tree_in(&at.join("m"));
    sh(LET_GO, at);
    sh("losetup -d $(cat d)", at);
    tree
}

fn mounted_fat(at: &Path) -> Tree {
    let script = "mount -t vfat -o ro,loop,utf8 v /mnt/v; rm -rf m; cp -r /mnt/v m; umount /mnt/v";
    in_user_mode_linux(script, "vfat nls_cp437 nls_iso8859-1 nls_utf8 nls_ascii", at);
    tree_in(&at.join("m"))
}

macro_rules! ext {
    ($options:literal) => {
        Kind {
            name: $options,
            make: concat!("truncate -s 64M v; mke2fs -q ", $options, " v"),
            is_unix: true,
            judge: judged_ext,
            trees: &[mounted],
        }
    };
}

macro_rules! fat {
    ($mib:literal, $options:literal) => {
        Kind {
            name: concat!("FAT of ", $mib, " MiB with ", $options),
            make: concat!("truncate -s ", $mib, "M v; mkfs.vfat ", $options, " v >/dev/null"),
            is_unix: false,
            judge: judged_fat,
            trees: &[copied_out, mounted_fat],
        }
    };
}

macro_rules! exfat {
    ($options:literal) => {
        Kind {
            name: concat!("exFAT with ", $options),
            make: concat!("truncate -s 64M v; mkfs.exfat ", $options, " v >/dev/null"),
            is_unix: false,
            judge: judged_exfat,
            trees: &[mounted_exfat],
        }
    };
}

const KINDS: [Kind; 41] = [
    ext!("-t ext4 -b 4096"),
    ext!("-t ext4 -b 1024"),
    ext!("-t ext4 -b 2048 -I 1024"),
    ext!("-t ext4 -O ^metadata_csum"),
    ext!("-t ext4 -O ^metadata_csum,uninit_bg -b 1024"),
    ext!("-t ext4 -O metadata_csum_seed,large_dir"),
    ext!("-t ext4 -O inline_data -I 512"),
    ext!("-t ext4 -O inline_data,^has_journal -b 1024 -I 1024"),
    ext!("-t ext4 -O ^has_journal"),
    ext!("-t ext4 -O ^has_journal,quota -E quotatype=usrquota:grpquota"),
    ext!("-t ext4 -O quota,project -b 1024"),
    ext!("-t ext4 -O quota,^metadata_csum -E quotatype=usrquota -b 1024"),
    ext!("-t ext4 -O quota,orphan_file,ea_inode"),
    ext!("-t ext4 -O ^extent,^64bit -b 1024"),
    ext!("-t ext4 -O meta_bg,^resize_inode -b 1024"),
    ext!("-t ext4 -O sparse_super2 -b 1024"),
    ext!("-t ext4 -O ^flex_bg,^dir_index"),
    ext!("-t ext4 -O ^dir_nlink,^extra_isize -I 128"),
    ext!("-t ext4 -g 8192 -b 1024 -N 4096"),
    ext!("-t ext4 -O ea_inode,large_dir,^huge_file"),
    ext!("-t ext3 -b 1024"),
    ext!("-t ext3 -O ^dir_index"),
    ext!("-t ext2 -O ^dir_index -b 1024"),
    ext!("-t ext2 -I 128"),
    ext!("-t ext2 -O ^filetype,^sparse_super,^resize_inode -b 1024"),
    fat!("24", "-F 12 -s 16"),
    fat!("8", "-F 12 -f 1 -r 64"),
    fat!("16", "-F 12 -s 32 -S 1024"),
    fat!("48", "-F 16 -s 2"),
    fat!("64", "-F 16 -s 4 -r 1024 -a"),
    fat!("64", "-F 16 -s 8 -S 2048"),
    fat!("48", "-F 32 -s 1"),
    fat!("64", "-F 32 -s 1 -f 1"),
    fat!("300", "-F 32 -s 8 -S 512"),
    fat!("300", "-F 32 -s 1 -S 4096"),
    exfat!("-c 4k"),
    exfat!("-c 512"),
    exfat!("-c 1k -b 64k"),
    exfat!("-c 32k"),
    exfat!("-c 128k"),
    exfat!("-c 16k -L HONEY"),
];

/// An edit as numbers, which are interpreted when the tree is known.
type Raw = (u8, u16, u16, u16);

/// A name: short ones, long ones, and such of other scripts.
fn name(number: u16) -> String {
    let n = number % 40;
    match number % 5 {
        0 => format!("h{n}"),
        1 => format!("readings of the night {n}.csv"),
        2 => format!("brood-sounds-from-beneath-the-lid-of-hive-{n}-which-hum-{}", "m".repeat(90)),
        3 => format!("Höhe über dem Boden {n}"),
        _ => format!("NIGHT{n}.LOG"),
    }
}

fn names(path: &str) -> Vec<Vec<u8>> {
    path.split('/').filter(|name| !name.is_empty()).map(|name| name.as_bytes().to_vec()).collect()
}

fn below(folder: &str, name: &str) -> String {
    if folder.is_empty() { name.to_owned() } else { format!("{folder}/{name}") }
}

/// Something that there is, or should not be found.
fn pick(tree: &Tree, number: u16, is: fn(&Node) -> bool) -> Option<String> {
    let all: Vec<&String> =
        tree.iter().filter(|(_, node)| is(node)).map(|(path, _)| path).collect();
    let index = usize::from(number).checked_rem(all.len())?;
    Some(all[index].clone())
}

fn folder(tree: &Tree, number: u16) -> String {
    match number % 4 {
        0 => String::new(),
        _ => pick(tree, number, |node| *node == Node::Folder).unwrap_or_default(),
    }
}

fn content(number: u16) -> Vec<u8> {
    let len = match number % 7 {
        0 => 0,
        1..=3 => usize::from(number % 160),
        4 | 5 => usize::from(number % 9000),
        _ => usize::from(number) * 3,
    };
    (0..len).map(|at| (at * 7 + usize::from(number)) as u8).collect()
}

/// Content of up to 8 MiB, every second 64 KiB of it zeros.
fn large_content(number: usize, factor: usize) -> Vec<u8> {
    let len = number * factor;
    let byte = |at: usize| if at >> 16 & 1 == 0 { (at * 3) as u8 | 1 } else { 0 };
    (0..len).map(byte).collect()
}

/// Few users and many groups.
fn owner(number: u16) -> Owner {
    (u32::from(number % 7) * 70_000, u32::from(number % 211) * 977)
}

/// Everything at `path` and below it.
fn subtree(tree: &Tree, path: &str) -> Vec<String> {
    let inside = format!("{path}/");
    let from = (Bound::Included(path.to_owned()), Bound::Unbounded);
    let all = tree.range::<String, _>(from).map(|(path, _)| path);
    all.filter(|one| *one == path || one.starts_with(&inside)).cloned().collect()
}

/// An edit, and the tree after it; `None` if it must be refused.
fn meant(raw: Raw, tree: &Tree, is_unix: bool) -> (FileEdit, Option<Tree>) {
    let (what, a, b, c) = raw;
    let place = below(&folder(tree, a), &name(b));
    let mut after = tree.clone();
    match what % 16 {
        0..=5 => {
            // A new one, or one that is there.
            let there = pick(tree, c, |node| matches!(node, Node::File(..)));
            let place = there.filter(|_| what % 2 == 0).unwrap_or(place);
            let bytes = match a % 50 {
                0 if is_unix => large_content(c.into(), 128),
                0 => large_content(c.into(), 16),
                _ => content(c),
            };
            let owner = if is_unix { owner(c) } else { (0, 0) };
            let known = after.insert(place.clone(), Node::File(bytes.clone(), owner));
            let is_fine = matches!(known, None | Some(Node::File(..)));
            let content: Arc<dyn ReadAt> = Arc::new(SparseStore::of(&bytes));
            let flags = match c % 4 {
                0 => Some(FileFlags::NO_DUMP.with(FileFlags::HIDDEN)),
                1 => Some(FileFlags::NO_ATIME.with(FileFlags::READ_ONLY)),
                2 => Some(FileFlags::NONE),
                _ => None,
            };
            let meta = FileMeta { owner: is_unix.then_some(owner), flags, ..FileMeta::default() };
            (FileEdit::Put { path: names(&place), content, meta }, is_fine.then_some(after))
        }
        6..=8 => {
            let known = after.insert(place.clone(), Node::Folder);
            let is_fine = matches!(known, None | Some(Node::Folder));
            let meta = FileMeta { owner: is_unix.then(|| owner(c)), ..FileMeta::default() };
            let edit = FileEdit::Folder { path: names(&place), meta };
            (edit, is_fine.then_some(after))
        }
        9 if is_unix => {
            let target = format!("../{}", name(c).repeat(1 + usize::from(c % 3))).into_bytes();
            let known = after.insert(place.clone(), Node::Link(target.clone()));
            let meta = FileMeta::default();
            let edit = FileEdit::Link { path: names(&place), target, meta };
            (edit, known.is_none().then_some(after))
        }
        9..=12 => {
            let from = pick(tree, c, |_| true).unwrap_or_else(|| name(c));
            let moved = subtree(tree, &from);
            let inside = format!("{from}/");
            let is_same = place == from;
            let is_fine = !moved.is_empty()
                && (is_same || !tree.contains_key(&place) && !place.starts_with(&inside));
            for old in &moved {
                let node = after.remove(old).unwrap();
                after.insert(format!("{place}{}", &old[from.len()..]), node);
            }
            let edit = FileEdit::Rename { from: names(&from), to: names(&place) };
            (edit, is_fine.then_some(after))
        }
        _ => {
            // Mostly files: a tree that is cut all the time does not grow.
            let file = pick(tree, c, |node| *node != Node::Folder);
            let any = pick(tree, b, |_| true);
            let gone = if what % 16 == 15 { any } else { file };
            let gone = gone.unwrap_or_else(|| name(c));
            let all = subtree(tree, &gone);
            for path in &all {
                after.remove(path);
            }
            (FileEdit::Remove { path: names(&gone) }, (!all.is_empty()).then_some(after))
        }
    }
}

/// The tree according to our own reader.
fn ours(at: &Path) -> Tree {
    let volume = volume(at);
    let files = volume.files().unwrap().unwrap();
    let mut tree = Tree::new();
    let walked = files.walk(files.root(), &mut |one| {
        let Walked::Entry(one) = one else { panic!("a folder is invalid") };
        let path = String::from_utf8(one.path.to_vec()).unwrap();
        if path == "lost+found" {
            return Ok(Onward::Past);
        }
        let read = || {
            let content = files.content_of(one.file).unwrap();
            read_vec(&content, ByteOffset::ZERO, content.size().to_usize().unwrap()).unwrap()
        };
        let node = match one.info.kind {
            FileKind::Folder => Node::Folder,
            FileKind::Link => Node::Link(read()),
            _ => Node::File(
                read(),
                one.info.ownership.map_or((0, 0), |whose| (whose.owner, whose.group)),
            ),
        };
        if !path.is_empty() {
            tree.insert(path, node);
        }
        Ok(Onward::Into)
    });
    walked.unwrap();
    tree
}

fn differs(found: &Tree, expected: &Tree) -> Option<String> {
    let wrong = expected.iter().find(|(path, node)| found.get(*path) != Some(node));
    let more = found.keys().find(|path| !expected.contains_key(*path));
    let said = |node: Option<&Node>| match node {
        Some(Node::File(bytes, owner)) => format!("{} bytes of {owner:?}", bytes.len()),
        other => format!("{other:?}"),
    };
    match (wrong, more) {
        (None, None) => None,
        (Some((path, node)), _) => {
            Some(format!("{path}: {} is {}", said(Some(node)), said(found.get(path))))
        }
        (_, Some(path)) => Some(format!("{path} should not be there")),
    }
}

/// Edits in batches on a volume of one kind; returns the numbers of completed and refused edits.
fn edited(kind: &Kind, edits: &[Raw], batch: usize, keeps_old: bool) -> (usize, usize) {
    let dir = tempfile::tempdir().unwrap();
    let at = dir.path();
    sh(kind.make, at);
    let mut tree = Tree::new();
    let (mut done, mut refused) = (0, 0);
    let options = EditOptions { keeps_old, ..NOW };
    for some in edits.chunks(batch) {
        let known = volume(at);
        let mut wanted = Vec::new();
        for raw in some {
            let (edit, after) = meant(*raw, &tree, kind.is_unix);
            match after {
                Some(after) => {
                    tree = after;
                    wanted.push(edit);
                }
                None => {
                    // With all that was to be done before it, and that edit alone fails.
                    let before = known.edit(&wanted, options).unwrap();
                    let store = Arc::clone(&before.volume.store);
                    let then = imbrik_fs::OpenVolume::open(store).unwrap().unwrap();
                    let error = then.edit(std::slice::from_ref(&edit), options).unwrap_err();
                    let class = error.class();
                    assert!(
                        matches!(class, Class::Usage | Class::Unsupported),
                        "{edit:?}: {error}"
                    );
                    refused += 1;
                }
            }
        }
        done += wanted.len();
        let edited = known.edit(&wanted, options);
        let edited = edited.unwrap_or_else(|error| panic!("{}: {error}: {wanted:?}", kind.name));
        keep(at, &edited.volume);
        let checked = volume(at).check(&Cancel::new());
        checked.unwrap_or_else(|error| panic!("{}: {error}: {wanted:?}", kind.name));
        (kind.judge)(at);
        let wrong = differs(&ours(at), &tree);
        assert!(wrong.is_none(), "{}: {}: {wanted:?}", kind.name, wrong.unwrap_or_default());
    }
    for read in kind.trees {
        let wrong = differs(&read(at), &tree);
        assert!(wrong.is_none(), "{}: its system reads {}", kind.name, wrong.unwrap_or_default());
    }
    (done, refused)
}

/// Random edits from fixed seeds, the same in every run.
fn edits(count: usize, seed: u8) -> Vec<Raw> {
    let rng = TestRng::from_seed(RngAlgorithm::ChaCha, &[seed; 32]);
    let mut runner = TestRunner::new_with_rng(Config::default(), rng);
    let all = proptest::collection::vec(any::<Raw>(), count..=count);
    all.new_tree(&mut runner).unwrap().current()
}

/// Fails when a checker complains after an edit, or a reader finds another tree than the model. `IMBRIK_EDITS` is the
/// number of edits for each kind, by default 100.
#[test]
fn random_edits_match_the_model_on_all_kinds() {
    if !is_root("random_edits_match_the_model_on_all_kinds") {
        return;
    }
    let count = std::env::var("IMBRIK_EDITS").map_or(100, |count| count.parse().unwrap());
    let next = AtomicUsize::new(0);
    let (done, refused) = (AtomicUsize::new(0), AtomicUsize::new(0));
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                while let index @ 0..41 = next.fetch_add(1, Ordering::Relaxed) {
                    let edits = edits(count, index as u8);
                    let (some, others) = edited(&KINDS[index], &edits, 50, index % 4 < 2);
                    done.fetch_add(some, Ordering::Relaxed);
                    refused.fetch_add(others, Ordering::Relaxed);
                }
            });
        }
    });
    let (done, refused) = (done.into_inner(), refused.into_inner());
    println!("{done} edits on {} kinds, {refused} refused", KINDS.len());
    assert!(done > 25 * count && refused > 0, "{done}, {refused}");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, max_shrink_iters: 300, ..Config::default() })]

    /// The same with other edits in every run, in batches of any size.
    #[test]
    fn any_edits_match_the_model(
        kind in 0..KINDS.len(),
        edits in proptest::collection::vec(any::<Raw>(), 1..60),
        batch in 1usize..30,
    ) {
        if is_root("any_edits_match_the_model") {
            let (done, refused) = edited(&KINDS[kind], &edits, batch, batch % 2 == 0);
            prop_assert_eq!(done + refused, edits.len());
        }
    }
}

/// A folder of 30,000 names, made here and made by its system: names come and go, and its index stays.
#[test]
fn a_large_folder_keeps_its_index() {
    if !is_root("a_large_folder_keeps_its_index") {
        return;
    }
    for (options, made_by_us) in [("-b 4096 -O ^metadata_csum", true), ("-b 1024", false)] {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path();
        let all = |range: std::ops::Range<u32>| {
            range.map(|n| format!("log/readings of the night {n}")).collect::<Vec<_>>()
        };
        let put = |path: &String| FileEdit::Put {
            path: names(path),
            content: Arc::new(SparseStore::of(b"")),
            meta: FileMeta::default(),
        };
        let make = format!("truncate -s 64M v; mke2fs -q -t ext4 -N 40000 {options}");
        let mut expected: std::collections::BTreeSet<String> = all(0..30_000).into_iter().collect();
        if made_by_us {
            sh(&format!("{make} v; mkdir f"), at);
            let log = FileEdit::Folder { path: names("log"), meta: FileMeta::default() };
            let edits: Vec<_> = [log].into_iter().chain(expected.iter().map(put)).collect();
            keep(at, &volume(at).edit(&edits, NOW).unwrap().volume);
        } else {
            sh(
                &format!(
                    "{make} v; mkdir m; mount -o loop v m; mkdir m/log; cd m/log; \
                     seq 0 29999 | sed 's/^/readings of the night /' | tr '\\n' '\\0' | \
                     xargs -0 touch; cd ../..; {LET_GO}"
                ),
                at,
            );
        }
        judged_ext(at);
        let is_indexed = || sh("debugfs -R 'htree_dump /log' v 2>&1", at).contains("Root node");
        assert!(is_indexed(), "{options}");
        // Every third file is removed, as many others are added, and some are renamed.
        let mut edits = Vec::new();
        for path in all(0..30_000).iter().step_by(3) {
            expected.remove(path);
            edits.push(FileEdit::Remove { path: names(path) });
        }
        for path in all(30_000..38_000) {
            edits.push(put(&path));
            expected.insert(path);
        }
        for n in (1..3000).step_by(3) {
            let (from, to) =
                (format!("log/readings of the night {n}"), format!("log/night {n} again"));
            expected.remove(&from);
            edits.push(FileEdit::Rename { from: names(&from), to: names(&to) });
            expected.insert(to);
        }
        for some in edits.chunks(4000) {
            keep(at, &volume(at).edit(some, NOW).unwrap().volume);
            judged_ext(at);
        }
        assert!(is_indexed(), "{options}");
        volume(at).check(&Cancel::new()).unwrap();
        let found: std::collections::BTreeSet<String> =
            mounted(at).into_keys().filter(|path| path != "log").collect();
        assert!(found == expected, "{options}: {} names", found.len());
        // The kernel continues to use it: it finds each name by its hash, and adds more.
        sh(
            &format!(
                "mkdir -p m; mount -o loop v m; cd m/log; test -e 'readings of the night 31000'; \
                 for n in $(seq 500); do : > \"from the kernel $n\"; done; \
                 rm 'readings of the night 29998'; cd ../..; {LET_GO}"
            ),
            at,
        );
        judged_ext(at);
    }
}
