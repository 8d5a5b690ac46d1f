//! A thousand edits at random, against a model: the system's checkers say nothing after each batch, and
//! the kernel, or the system's tools, see the same tree as the model.

use super::{NOW, keep, volume};
use crate::support::{is_root, sh};
use imbrik_fs::{EditOptions, FileEdit, FileKind, FileMeta, Onward, Walked};
use imbrik_store::{Class, ReadAt, SparseStore, progress::Cancel, read_vec, units::ByteOffset};
use proptest::{
    prelude::*,
    strategy::ValueTree as _,
    test_runner::{Config, RngAlgorithm, TestRng, TestRunner},
};
use std::{collections::BTreeMap, ops::Bound, path::Path, sync::Arc};

/// What stands under a path, names joined by `/`.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Node {
    Folder,
    File(Vec<u8>),
    Link(Vec<u8>),
}

type Tree = BTreeMap<String, Node>;

/// A kind of volume: how it is made, how it is judged, and how its system reads it.
struct Kind {
    name: &'static str,
    make: &'static str,
    has_links: bool,
    judge: fn(&Path),
    tree: fn(&Path) -> Tree,
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

/// What stands below a folder of this system.
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
                Node::File(std::fs::read(&path).unwrap())
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
    sh("rm -rf m; mkdir m; mdir -b -i v :: | grep -q . && mcopy -s -n -i v '::*' m || true", at);
    tree_in(&at.join("m"))
}

fn mounted_exfat(at: &Path) -> Tree {
    sh("mkdir -p m; losetup -r -f --show v > d; mount.exfat-fuse -o ro $(cat d) m >/dev/null", at);
    let tree = tree_in(&at.join("m"));
    sh(LET_GO, at);
    sh("losetup -d $(cat d)", at);
    tree
}

const fn ext(name: &'static str, make: &'static str) -> Kind {
    Kind { name, make, has_links: true, judge: judged_ext, tree: mounted }
}

const fn fat(name: &'static str, make: &'static str) -> Kind {
    Kind { name, make, has_links: false, judge: judged_fat, tree: copied_out }
}

const KINDS: [Kind; 12] = [
    ext("ext4, 4 KiB", "truncate -s 64M v; mke2fs -q -t ext4 -b 4096 v"),
    ext("ext4, 1 KiB", "truncate -s 48M v; mke2fs -q -t ext4 -b 1024 v"),
    ext("ext4 without checksums", "truncate -s 48M v; mke2fs -q -t ext4 -O ^metadata_csum v"),
    ext("ext4 with data in inodes", "truncate -s 48M v; mke2fs -q -t ext4 -O inline_data -I 512 v"),
    ext(
        "ext4 without a journal, with quotas",
        "truncate -s 48M v; mke2fs -q -t ext4 -O ^has_journal,quota -E quotatype=usrquota:grpquota v",
    ),
    ext("ext4 without extents", "truncate -s 48M v; mke2fs -q -t ext4 -O ^extent,^64bit -b 1024 v"),
    ext("ext3", "truncate -s 48M v; mke2fs -q -t ext3 -b 1024 v"),
    ext("ext2", "truncate -s 48M v; mke2fs -q -t ext2 -O ^dir_index -b 1024 v"),
    fat("FAT12", "truncate -s 8M v; mkfs.vfat -F 12 v >/dev/null"),
    fat("FAT16", "truncate -s 40M v; mkfs.vfat -F 16 -s 2 v >/dev/null"),
    fat("FAT32", "truncate -s 48M v; mkfs.vfat -F 32 -s 1 v >/dev/null"),
    Kind {
        name: "exFAT",
        make: "truncate -s 48M v; mkfs.exfat -c 4k v >/dev/null",
        has_links: false,
        judge: judged_exfat,
        tree: mounted_exfat,
    },
];

/// An edit, as numbers that say what is meant once it is known what there is.
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

/// Everything at `path` and below it.
fn subtree(tree: &Tree, path: &str) -> Vec<String> {
    let inside = format!("{path}/");
    let from = (Bound::Included(path.to_owned()), Bound::Unbounded);
    let all = tree.range::<String, _>(from).map(|(path, _)| path);
    all.filter(|one| *one == path || one.starts_with(&inside)).cloned().collect()
}

/// What an edit is, and what becomes of the tree by it; `None` where it must be refused.
fn meant(raw: Raw, tree: &Tree, has_links: bool) -> (FileEdit, Option<Tree>) {
    let (what, a, b, c) = raw;
    let place = below(&folder(tree, a), &name(b));
    let mut after = tree.clone();
    match what % 16 {
        0..=5 => {
            // A new one, or one that is there.
            let there = pick(tree, c, |node| matches!(node, Node::File(_)));
            let place = there.filter(|_| what % 2 == 0).unwrap_or(place);
            let bytes = content(c);
            let known = after.insert(place.clone(), Node::File(bytes.clone()));
            let is_fine = matches!(known, None | Some(Node::File(_)));
            let content: Arc<dyn ReadAt> = Arc::new(SparseStore::of(&bytes));
            let edit = FileEdit::Put { path: names(&place), content, meta: FileMeta::default() };
            (edit, is_fine.then_some(after))
        }
        6..=8 => {
            let known = after.insert(place.clone(), Node::Folder);
            let is_fine = matches!(known, None | Some(Node::Folder));
            let edit = FileEdit::Folder { path: names(&place), meta: FileMeta::default() };
            (edit, is_fine.then_some(after))
        }
        9 if has_links => {
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

/// What our own reader finds.
fn ours(at: &Path) -> Tree {
    let volume = volume(at);
    let files = volume.files().unwrap().unwrap();
    let mut tree = Tree::new();
    let walked = files.walk(files.root(), &mut |one| {
        let Walked::Entry(one) = one else { panic!("a folder makes no sense") };
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
            _ => Node::File(read()),
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
        Some(Node::File(bytes)) => format!("{} bytes", bytes.len()),
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

/// Edits in batches on a volume of one kind; answers how many were done and how many refused.
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
            let (edit, after) = meant(*raw, &tree, kind.has_links);
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
    let wrong = differs(&(kind.tree)(at), &tree);
    assert!(wrong.is_none(), "{}: its system sees {}", kind.name, wrong.unwrap_or_default());
    (done, refused)
}

/// Edits at random that are the same in every run.
fn edits(count: usize, seed: u8) -> Vec<Raw> {
    let rng = TestRng::from_seed(RngAlgorithm::ChaCha, &[seed; 32]);
    let mut runner = TestRunner::new_with_rng(Config::default(), rng);
    let all = proptest::collection::vec(any::<Raw>(), count..=count);
    all.new_tree(&mut runner).unwrap().current()
}

/// Fails when an edit leaves something that a checker would mend, or another tree than was meant.
#[test]
fn a_thousand_edits_leave_what_was_meant() {
    if !is_root("a_thousand_edits_leave_what_was_meant") {
        return;
    }
    std::thread::scope(|scope| {
        let half = |which: usize| {
            for (index, kind) in KINDS.iter().enumerate().filter(|(index, _)| index % 2 == which) {
                let seed = index as u8;
                let (done, refused) = edited(kind, &edits(1000, seed), 50, index % 4 < 2);
                assert!(done > 700 && refused > 20, "{}: {done}, {refused}", kind.name);
            }
        };
        scope.spawn(move || half(1));
        half(0);
    });
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, max_shrink_iters: 300, ..Config::default() })]

    /// The same in single steps, from other numbers every time.
    #[test]
    fn any_edits_leave_what_was_meant(
        kind in 0..KINDS.len(),
        edits in proptest::collection::vec(any::<Raw>(), 1..60),
        batch in 1usize..30,
    ) {
        if is_root("any_edits_leave_what_was_meant") {
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
        // Every third one goes, as many others come, and some get other names.
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
        // The kernel goes on with it: it finds each by its hash, and adds more.
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
