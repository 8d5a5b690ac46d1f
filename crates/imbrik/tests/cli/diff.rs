//! `imbrik files diff` against a model: the kernel changes a volume at random, and its view before and after is
//! compared here independently.

use crate::harness::{Bench, flat, is_root, sized, times, tool};
use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    fs,
    os::unix::fs::{FileTypeExt as _, MetadataExt as _},
    path::Path,
    process::Command,
    time::SystemTime,
};

/// The kernel's data about a file. Each field is one aspect of a difference.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Facts {
    kind: &'static str,
    content: Vec<u8>,
    permissions: u32,
    owner: (u32, u32),
    attributes: String,
    flags: String,
    modified: (i64, i64),
    /// The inode and the time of its creation.
    identity: (u64, SystemTime),
    names: u64,
}

type Tree = BTreeMap<String, Facts>;

fn facts(top: &Path) -> Tree {
    let mut tree = Tree::new();
    let mut waiting = vec![top.to_path_buf()];
    while let Some(folder) = waiting.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let path = entry.unwrap().path();
            let data = fs::symlink_metadata(&path).unwrap();
            let kind = data.file_type();
            let device = data.rdev().to_string().into_bytes();
            let (kind, content) = if kind.is_symlink() {
                ("link", fs::read_link(&path).unwrap().into_os_string().into_encoded_bytes())
            } else if kind.is_dir() {
                waiting.push(path.clone());
                ("folder", Vec::new())
            } else if kind.is_fifo() {
                ("pipe", Vec::new())
            } else if kind.is_char_device() {
                ("device", device)
            } else {
                ("file", fs::read(&path).unwrap())
            };
            let has_flags = matches!(kind, "file" | "folder");
            // The first column, without what the filesystem sets itself.
            let flags = if has_flags { tool!("lsattr", "-d", &path) } else { String::new() };
            let flags = flags.split(' ').next().unwrap().replace(['-', 'e', 'I'], "");
            let attributes = tool!("getfattr", "-h", "-d", "-m", "-", "--absolute-names", &path);
            tree.insert(
                path.strip_prefix(top).unwrap().to_str().unwrap().to_owned(),
                Facts {
                    kind,
                    content,
                    permissions: data.mode() & 0o7777,
                    owner: (data.uid(), data.gid()),
                    attributes: attributes.lines().skip(1).collect(),
                    flags,
                    modified: (data.mtime(), data.mtime_nsec()),
                    identity: (data.ino(), data.created().unwrap()),
                    names: data.nlink(),
                },
            );
        }
    }
    tree.remove("lost+found");
    tree
}

/// The aspects in which two files differ, as the output names them. Hard links are judged by their groups.
fn aspects(a: &Facts, b: &Facts) -> BTreeSet<&'static str> {
    if a.kind != b.kind {
        return BTreeSet::from(["kind"]);
    }
    let is_timed = matches!(a.kind, "file" | "link") && a.content == b.content;
    let pairs = [
        (a.content != b.content, "content"),
        (a.permissions != b.permissions, "permissions"),
        (a.owner != b.owner, "owner"),
        (a.attributes != b.attributes, "attributes"),
        (a.flags != b.flags, "flags"),
        (is_timed && a.modified != b.modified, "modified"),
    ];
    pairs.into_iter().filter(|(differs, _)| *differs).map(|(_, name)| name).collect()
}

/// Lines of shell that change a tree at random. Each may fail, where its file is gone.
fn changes(seed: u64, count: u64) -> String {
    let mut state = seed;
    let mut next = |most: u64| {
        state =
            state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % most
    };
    let mut lines = String::new();
    for number in 0..count {
        let file = format!("d{}/f{}", next(4), next(12));
        let (folder, n) = (next(4), next(1000));
        let line = match next(18) {
            0 => format!("chmod {} {file}", 400 + n % 4 * 100),
            1 => format!("chown -h {n}:7 {file}"),
            2 => format!("touch -h -d @{} {file}", 1_700_000_000 + n),
            3 => format!("setfattr -n user.hive -v {n} {file}"),
            4 => format!("chattr +dA {file}"),
            5 => format!("chattr +i {file}"),
            6 => format!("mv {file} d{folder}/moved{number}"),
            7 => format!(
                "mkdir -p new{number}/deep; mv {file} new{number}/deep; touch new{number}/more"
            ),
            8 => format!("mv d{folder} d{folder}-renamed; mkdir d{folder}; echo x >d{folder}/f1"),
            9 => format!("mkdir -p up{number}; mv d{folder}/sub up{number}/"),
            10 => format!("echo {n} > {file}"),
            11 => format!("cp -a {file} copy; mv copy {file}"),
            12 => format!("ln {file} d{folder}/linked{number}"),
            13 => format!("rm -f {file}"),
            14 => format!("rm -f {file}; ln -s f{n} {file}"),
            15 => format!("rm -f {file}; mknod {file} c 1 {}", n % 9),
            16 => {
                format!("touch d{folder}/empty{number}; mv d{folder}/pipe d{folder}/pipe{number}")
            }
            _ => format!("rm -r d{folder}/sub"),
        };
        lines += &format!("{{ {line}; }} 2>/dev/null || true\n");
    }
    lines
}

/// The path of a file after the reported renames.
fn renamed(renames: &BTreeMap<String, String>, path: &str) -> String {
    let ends = path.match_indices('/').map(|(at, _)| at).chain([path.len()]);
    let longest = ends.filter_map(|end| Some((end, renames.get(&path[..end])?))).next_back();
    longest.map_or(path.to_owned(), |(end, to)| format!("{to}{}", &path[end..]))
}

/// Returns whether a path, or the nearest folder above it that is listed at all, is in `set` and not in `moved`.
fn is_listed(set: &BTreeSet<String>, moved: &BTreeSet<&String>, path: &str) -> bool {
    let ends = path.match_indices('/').map(|(at, _)| at).chain([path.len()]);
    let mut nearest = ends.map(|end| path[..end].to_owned());
    let nearest = nearest.rfind(|path| set.contains(path) || moved.contains(path));
    nearest.is_some_and(|path| set.contains(&path))
}

/// Fails when a difference is missing, a false one is reported, or a file that the kernel renamed is reported as
/// removed and added.
#[test]
fn differences_match_the_model() {
    if !is_root("differences_match_the_model") {
        return;
    }
    let bench = Bench::empty();
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for seed in 0..times("IMBRIK_DIFFS", 6) as u64 {
        sized(&bench.path("a"), 32 << 20);
        tool!("mkfs.ext4", "-q", "-F", bench.path("a"));
        let mounted = |volume: &str, script: &str| {
            let at = bench.path("m");
            fs::create_dir_all(&at).unwrap();
            tool!("mount", "-o", "loop,noatime", bench.path(volume), &at);
            let run = Command::new("bash").args(["-c", script]).current_dir(&at).status().unwrap();
            assert!(run.success());
            let tree = facts(&at);
            tool!("umount", &at);
            tree
        };
        let before = mounted(
            "a",
            "for d in 0 1 2 3; do mkdir -p d$d/sub; mkfifo d$d/pipe; ln -s pipe d$d/link
             for f in $(seq 0 11); do head -c $((f * 700)) /dev/urandom > d$d/f$f; done
             echo $d > d$d/sub/one; ln d$d/f5 d$d/sub/five; ln d$d/f6 d$d/six; done",
        );
        fs::copy(bench.path("a"), bench.path("b")).unwrap();
        let script = changes(seed, 30);
        let after = mounted("b", &script);
        let run = bench.imbrik("files diff a b --json").expect(3);
        let told = |line: &str| serde_json::from_str::<serde_json::Value>(line).unwrap();
        let lines: Vec<_> =
            run.stdout.lines().map(told).filter(|line| line["result"] == "difference").collect();
        let (mut added, mut removed) = (BTreeSet::new(), BTreeSet::new());
        let (mut renames, mut changed) = (BTreeMap::new(), BTreeMap::new());
        for line in &lines {
            let path = line["path"].as_str().unwrap()[1..].to_owned();
            let change = line["change"].as_str().unwrap();
            *counts.entry(change.to_owned()).or_default() += 1;
            match change {
                "added" => _ = added.insert(path),
                "removed" => _ = removed.insert(path),
                "renamed" => {
                    let from = line["from"].as_str().unwrap()[1..].to_owned();
                    assert!(renames.insert(from, path).is_none(), "renamed twice: {line}");
                }
                _ => {
                    let all = line["aspects"].as_array().unwrap().iter();
                    let all: BTreeSet<String> =
                        all.map(|aspect| aspect.as_str().unwrap().to_owned()).collect();
                    for aspect in &all {
                        *counts.entry(aspect.clone()).or_default() += 1;
                    }
                    changed.insert(path, all);
                }
            }
        }
        let context = || format!("seed {seed}:\n{script}\n{}", flat(&run.stdout));
        let (sources, targets) = (renames.keys().collect(), renames.values().collect());
        let mut kept = BTreeMap::new();
        for (path, was) in &before {
            let to = renamed(&renames, path);
            let Some(is) = after.get(&to).filter(|_| !is_listed(&removed, &sources, path)) else {
                assert!(
                    is_listed(&removed, &sources, path),
                    "/{path} is not reported: {}",
                    context()
                );
                continue;
            };
            let mut reported = changed.remove(&to).unwrap_or_default();
            let has_links = reported.remove("links");
            assert!(!has_links || was.names > 1 || is.names > 1, "/{to}: {}", context());
            assert!(
                reported.iter().map(String::as_str).eq(aspects(was, is)),
                "/{to}: {reported:?} is reported, {:?} expected: {}",
                aspects(was, is),
                context()
            );
            if was.kind != "folder" && is.kind == was.kind {
                assert!(was.names == is.names || has_links, "/{to}: {}", context());
                kept.insert(to, (was.identity.0, is.identity.0, has_links));
            }
        }
        assert!(changed.is_empty(), "{changed:?}: {}", context());
        for (path, is) in &after {
            let came = before.iter().find(|(from, _)| renamed(&renames, from) == **path);
            let is_kept = came.is_some_and(|(from, _)| !is_listed(&removed, &sources, from));
            assert!(is_kept != is_listed(&added, &targets, path), "/{path}: {}", context());
            // A file that the kernel moved, and nothing else has the same content.
            let moved = before.iter().find(|(_, was)| was.identity == is.identity);
            if let Some((from, was)) = moved
                && (was.kind, &was.content) == (is.kind, &is.content)
                && was.names == is.names
                && !after.contains_key(from)
            {
                assert!(is_kept, "/{from} was moved to /{path}: {}", context());
            }
        }
        // Files that shared their content and no longer do, or the other way round.
        let mut partner = HashMap::new();
        for (path, (was, is, has_links)) in &kept {
            for key in [(0, *was), (1, *is)] {
                let (_, other, links) =
                    *partner.entry(key).or_insert((path, (*was, *is), *has_links));
                assert!(other == (*was, *is) || *has_links || links, "/{path}: {}", context());
            }
        }
    }
    for what in [
        "added",
        "removed",
        "renamed",
        "changed",
        "kind",
        "content",
        "permissions",
        "owner",
        "attributes",
        "flags",
        "links",
        "modified",
    ] {
        assert!(counts.contains_key(what), "{what} never occurred: {counts:?}");
    }
}
