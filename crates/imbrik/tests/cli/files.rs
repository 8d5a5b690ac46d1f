//! `imbrik files`: listing, extracting, adding and comparing files. The kernel's mount and GNU tar judge.

use crate::harness::{Bench, Run, flat, is_root, noise, sized, tool};
use serde_json::{Value, json};
use std::{
    fs,
    os::unix::fs::{PermissionsExt, symlink},
    path::Path,
    process::{Command, Stdio},
};

const TREE: &str = include_str!("../../../imbrik-fs/tests/all/support/odd-tree.sh");
const ATTRIBUTES: &str = include_str!("../../../imbrik-fs/tests/all/support/odd-attributes.sh");

fn shell(at: &Path, script: &str) -> String {
    let run = Command::new("sh").args(["-ec", script]).current_dir(at).output().unwrap();
    assert!(run.status.success(), "{script}: {}", String::from_utf8_lossy(&run.stderr));
    String::from_utf8_lossy(&run.stdout).into_owned()
}

/// A volume, mounted while something is done in it.
fn within(bench: &Bench, volume: &str, script: &str) {
    let mounted = bench.path("mounted");
    fs::create_dir_all(&mounted).unwrap();
    tool!("mount", "-o", "loop", bench.path(volume), &mounted);
    shell(&mounted, script);
    tool!("umount", &mounted);
}

/// Compares a tar stream, or a folder, with a volume as the kernel shows it.
fn is_as_mounted(bench: &Bench, volume: &str, make: &str) {
    let mounted = bench.path("mounted");
    fs::create_dir_all(&mounted).unwrap();
    tool!("mount", "-o", "loop,ro,noatime", bench.path(volume), &mounted);
    let script = format!("{make} | tar --compare --xattrs --acls -C mounted -f - 2>&1");
    let script = format!("set -o pipefail; {script}");
    let run =
        Command::new("bash").args(["-c", &script]).current_dir(bench.path("")).output().unwrap();
    tool!("umount", &mounted);
    let told = String::from_utf8_lossy(&run.stdout);
    assert!(run.status.success() && told.trim().is_empty(), "{volume}: {told}");
}

/// Fails if any extracted file differs from the kernel's view: owner, permissions, time in nanoseconds, attributes,
/// links, holes, devices.
#[test]
fn extracted_files_match_the_kernel() {
    if !is_root("extracted_files_match_the_kernel") {
        return;
    }
    let imbrik = env!("CARGO_BIN_EXE_imbrik");
    let large = "setfattr -n user.large -v $(head -c 40000 /dev/zero | tr '\\0' v) hive/holes\n\
                 fallocate -l 2M hive/unwritten; printf x >> hive/unwritten";
    for (number, (make, more)) in [
        ("mkfs.ext4 -q -b 1024", ATTRIBUTES.to_owned()),
        ("mkfs.ext4 -q -b 4096 -O inline_data,ea_inode", format!("{ATTRIBUTES}\n{large}")),
        ("mkfs.ext2 -q -b 1024 -I 128", String::new()),
    ]
    .into_iter()
    .enumerate()
    {
        let bench = Bench::empty();
        sized(&bench.path("v"), 96 << 20);
        shell(&bench.path(""), &format!("{make} v"));
        within(&bench, "v", &format!("{TREE}\n{more}"));
        is_as_mounted(&bench, "v", &format!("{imbrik} files get v / - 2>/dev/null"));
        if number == 0 {
            // Packed, out of an image, and into a folder.
            bench.good("repack v v.img.zst");
            for (name, unpack) in
                [("a.tar.zst", "zstd -dqc"), ("a.tar.gz", "gzip -dc"), ("a.tar", "cat")]
            {
                bench.good(&format!("files get v.img.zst / {name}"));
                is_as_mounted(&bench, "v", &format!("{unpack} {name}"));
            }
            bench.good("files get v.img.zst / out");
            is_as_mounted(&bench, "v", "tar -cf - --xattrs --acls -C out .");
            let holes = "du -k out/hive/holes | cut -f1";
            assert!(shell(&bench.path(""), holes).trim().parse::<u64>().unwrap() < 100);
            let same = "[ out/hive/weight -ef out/hive/07/weight-again ]";
            shell(&bench.path(""), same);
        }
    }
}

/// Fails if a list differs from the kernel's.
#[test]
fn file_list_matches_the_kernel() {
    if !is_root("file_list_matches_the_kernel") {
        return;
    }
    let bench = Bench::empty();
    sized(&bench.path("v"), 96 << 20);
    tool!("mkfs.ext4", "-q", bench.path("v"));
    within(&bench, "v", TREE);
    let run = bench.good("files list v / --recursive --json");
    let mut listed: Vec<String> = run
        .stdout
        .lines()
        .map(|line| serde_json::from_str::<Value>(line).unwrap())
        .filter(|line| line["result"] == "entry")
        .map(|line| {
            let size =
                if line["kind"] == "file" { line["size"].to_string() } else { String::new() };
            let name = match line["path_hex"].as_str() {
                Some(hex) => hex.to_owned(),
                None => line["path"].as_str().unwrap()[1..].to_owned(),
            };
            format!(
                "{name} {} {} {} {size}",
                line["mode"].as_str().unwrap(),
                line["owner"],
                line["links"]
            )
        })
        .collect();
    run.json();
    let mounted = bench.path("mounted");
    tool!("mount", "-o", "loop,ro", bench.path("v"), &mounted);
    let mut shown = Vec::new();
    let mut waiting = vec![mounted.clone()];
    while let Some(folder) = waiting.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            use std::os::unix::{ffi::OsStrExt, fs::MetadataExt};
            let path = entry.unwrap().path();
            let data = path.symlink_metadata().unwrap();
            let below = path.strip_prefix(&mounted).unwrap().as_os_str().as_bytes();
            let name = match std::str::from_utf8(below) {
                Ok(name) => name.to_owned(),
                Err(_) => below.iter().map(|byte| format!("{byte:02x}")).collect(),
            };
            let size = if data.is_file() { data.len().to_string() } else { String::new() };
            let mode = data.mode() & 0o7777;
            shown.push(format!("{name} {mode:04o} {} {} {size}", data.uid(), data.nlink()));
            if data.is_dir() {
                waiting.push(path);
            }
        }
    }
    tool!("umount", &mounted);
    listed.sort();
    shown.sort();
    assert!(shown.len() > 1500);
    assert_eq!(listed, shown);
}

/// A small volume with a tree made by mkfs: no root is needed for it.
fn volume(bench: &Bench, name: &str, script: &str) {
    let tree = bench.path("tree");
    let _ = fs::remove_dir_all(&tree);
    fs::create_dir(&tree).unwrap();
    shell(&tree, script);
    sized(&bench.path(name), 16 << 20);
    tool!("mkfs.ext4", "-q", "-F", "-b", "1024", "-L", "hive-07", "-d", &tree, bench.path(name));
}

const HIVE: &str = "mkdir -p etc srv/brood srv/empty home/keeper
echo 'keeper:x:1000:1000::/home/keeper:/bin/sh' > etc/passwd
echo hive-07 > etc/hostname; echo 23.5 > srv/weight.csv; ln -s weight.csv srv/link
head -c 300000 /dev/zero | tr '\\0' b > srv/brood/may.wav; printf x > 'srv/brood/new
line'; chmod 640 etc/passwd; touch -d '2026-05-06 07:08:09Z' etc/hostname";

#[test]
fn file_list_is_readable_and_patterns_match() {
    let bench = Bench::empty();
    volume(&bench, "v", HIVE);
    let utc = |words: &str| {
        let mut command = bench.command(words.split(' '));
        Run::of(&command.env("TZ", "UTC").output().unwrap()).expect(0)
    };
    let run = utc("files list v /etc");
    assert!(run.stdout.contains("8  2026-05-06 07:08  hostname\n"), "{}", run.stdout);
    assert!(run.stdout.contains("-rw-r-----"), "{}", run.stdout);
    utc("files list v /srv").shows("link -> weight.csv");
    // A name that would end the line, and one that leads along a link.
    assert!(utc("files list v /srv/brood").stdout.contains("  new\\nline\n"));
    utc("files list v hive-07:/srv/*.csv").shows("/srv/weight.csv");
    utc("files list v /srv/link/").shows("/srv/weight.csv");
    let sizes = utc("files list v / --sizes");
    assert!(sizes.stdout.contains("300 kB  100 %  6 files  /\n"), "{}", sizes.stdout);
    bench.imbrik("files list v /srv/none").expect(2).says("/srv/none does not exist in the volume");
    bench.imbrik("files list v 2:/etc").expect(2).says("has no partition 2");
    bench.imbrik("files list none /etc").expect(2).says("no card or image");
    // Reading only the first lines gives no error about a broken pipe.
    let imbrik = env!("CARGO_BIN_EXE_imbrik");
    let script = format!("set -o pipefail; {imbrik} files list v / --recursive | head -n 1");
    let run =
        Command::new("bash").args(["-c", &script]).current_dir(bench.path("")).output().unwrap();
    assert!(run.stderr.is_empty(), "{}", String::from_utf8_lossy(&run.stderr));
}

#[test]
fn one_file_goes_to_a_pipe_to_a_name_or_into_a_folder() {
    let bench = Bench::empty();
    volume(&bench, "v", HIVE);
    let card = Bench::with_card("");
    assert_eq!(bench.good("files get v /etc/hostname -").stdout, "hive-07\n");
    bench.good("files get v /etc/hostname name.txt");
    assert_eq!(bench.bytes("name.txt"), b"hive-07\n");
    fs::create_dir(bench.path("out")).unwrap();
    bench.good("files get v /etc/hostname out");
    assert_eq!(bench.bytes("out/hostname"), b"hive-07\n");
    // Existing files are kept, unless they are to be replaced.
    fs::write(bench.path("out/hostname"), "a letter").unwrap();
    let told = bench.imbrik("files get v /etc out/hostname").expect(4);
    assert!(told.err_has("exists already") || told.err_has("unchanged"), "{}", told.stderr);
    bench.imbrik("files get v /etc/hostname out").expect(4).says("exists already");
    assert_eq!(bench.bytes("out/hostname"), b"a letter");
    bench.good("files get v /etc/hostname out --replace");
    assert_eq!(bench.bytes("out/hostname"), b"hive-07\n");
    // A folder, under its own name, under another, and joined with one that is there.
    bench.good("files get v /srv out");
    bench.good("files get v /srv as-this");
    assert_eq!(bench.list("as-this"), bench.list("out/srv"));
    assert_eq!(bench.bytes("as-this/brood/may.wav").len(), 300_000);
    assert_eq!(fs::read_link(bench.path("as-this/link")).unwrap(), Path::new("weight.csv"));
    let told = bench.imbrik("files get v /srv /etc out2 --json").expect(0).json();
    assert_eq!((told["files"].clone(), told["folders"].clone()), (json!(6), json!(4)));
    bench.imbrik("files get v /none out").expect(2).says("/none does not exist");
    bench.imbrik("files get v /etc none/deeper").expect(2).says("folder none does not exist");
    bench.imbrik("files get v / x.tar").expect(0);
    bench.imbrik("files get v / x.tar").expect(4).says("--replace");
    // On a card: the volume must be named, and only the requested data are read.
    card.imbrik("files get rack:a /etc out").expect(2).says("which volume?");
    let told = card.imbrik("files get rack:a 2:/etc/hostname out --json").expect(0).json();
    let read = told["card_bytes_read"].as_u64().unwrap();
    assert!(read < 2 << 20, "{read}");
}

/// Fails when files go elsewhere than into the current folder, or when an archive of another kind becomes a folder.
#[test]
fn files_without_a_destination_go_into_the_current_folder() {
    let bench = Bench::empty();
    volume(&bench, "v", HIVE);
    bench.good("files get v /etc/hostname");
    assert!(bench.path("hostname").is_file());
    bench.imbrik("files get v /etc/hostname").expect(4);
    fs::remove_file(bench.path("hostname")).unwrap();
    let card = Bench::with_card("");
    card.good("files get rack:a 2:/etc/hostname 2:/readings");
    assert!(card.path("hostname").is_file() && card.path("readings").is_file());
    bench.imbrik("files get v /").expect(2).says("needs a destination");
    for name in ["etc.zip", "etc.7z", "etc.tar.xz", "etc.tar.bz2"] {
        bench.imbrik(&format!("files get v /srv {name}")).expect(2).says("are not written");
        assert!(!bench.path(name).exists());
    }
}

/// A full disk and a folder that cannot be written leave no half file.
#[test]
fn extraction_without_enough_space_is_refused() {
    if !is_root("extraction_without_enough_space_is_refused") {
        return;
    }
    let bench = Bench::empty();
    volume(&bench, "v", HIVE);
    let out = bench.path("out");
    fs::create_dir(&out).unwrap();
    tool!("mount", "-t", "tmpfs", "-o", "size=200k", "tmpfs", &out);
    bench.imbrik("files get v /srv out").expect(5).says("Nothing was extracted");
    assert!(bench.list("out").is_empty());
    // A file to be replaced exists until the new one is complete.
    fs::write(out.join("may.wav"), vec![7; 150_000]).unwrap();
    volume(&bench, "w", "head -c 100000 /dev/zero | tr '\\0' b > may.wav");
    let run = bench.imbrik("files get w /may.wav out --replace");
    assert_ne!(run.code, 0, "{run:?}");
    assert!(bench.bytes("out/may.wav") == vec![7; 150_000] && bench.list("out").len() == 1);
    fs::remove_file(out.join("may.wav")).unwrap();
    // An archive that turns out to be too long.
    let run = bench.imbrik("files get v / out/x.tar").expect(5);
    assert!(run.err_has("No archive"), "{}", run.stderr);
    assert!(bench.list("out").is_empty());
    tool!("mount", "-o", "remount,ro", &out);
    bench.imbrik("files get v /etc out").expect(1);
    tool!("umount", &out);
}

/// Fails if a name or a link of a volume leads out of the folder, or reading an invalid volume does not terminate.
#[test]
fn hostile_tree_writes_nothing_outside_and_terminates() {
    let bench = Bench::empty();
    volume(&bench, "v", HIVE);
    let outside = bench.path("outside");
    fs::create_dir(&outside).unwrap();
    // A link and a folder of the same name, so that the folder's content would be written through the link; a name with
    // an escape sequence; the names of other folders; a folder in itself; an endless file.
    let commands = format!(
        "symlink door {}\nmkdir other\nwrite tree/etc/hostname other/inside\n\
         write tree/etc/hostname up\nwrite tree/etc/hostname slash\nln other door\n\
         mkdir circle\nln circle circle/circle\nwrite tree/etc/hostname huge\n\
         set_inode_field huge size 1152921504606846976\nsymlink a b\nsymlink b a\n",
        outside.display()
    );
    fs::write(bench.path("commands"), commands).unwrap();
    let debugfs = Command::new("/usr/sbin/debugfs")
        .args(["-w", "-f", "commands", "v"])
        .current_dir(bench.path(""))
        .output()
        .unwrap();
    assert!(debugfs.status.success());
    // Names that debugfs does not create: they replace others of the same length.
    let mut bytes = bench.bytes("v");
    for (from, to) in [(b"up\0\0".as_slice(), b"..\0\0".as_slice()), (b"slash", b"/esc\x1b")] {
        let places: Vec<usize> = bytes
            .windows(from.len())
            .enumerate()
            .filter(|(_, at)| *at == from)
            .map(|(at, _)| at)
            .collect();
        for at in places {
            bytes[at..at + to.len()].copy_from_slice(to);
        }
    }
    fs::write(bench.path("v"), bytes).unwrap();
    for dest in ["out", "again", "-", "x.tar"] {
        let run = bench.imbrik(&format!("files get v / {dest}"));
        assert!([0, 4, 5, 6].contains(&run.code), "{run:?}");
        assert!(!run.stderr.contains('\u{1b}'), "{}", run.stderr);
    }
    assert!(fs::read_dir(&outside).unwrap().next().is_none(), "something came out of the folder");
    assert!(!bench.path("esc").exists());
    let listed = bench.imbrik("files list v / --recursive");
    assert!(listed.code == 6 && !listed.stdout.contains('\u{1b}'), "{listed:?}");
    assert!(listed.err_has("names that no file can have"), "{}", listed.stderr);
    bench.imbrik("files list v /a/x").expect(1).says("form a loop");
    // The huge one by itself: it cannot be, or all of it are zeros.
    let run = bench.imbrik("files get v /huge huge");
    assert!([0, 5, 6].contains(&run.code), "{run:?}");
    // A folder of this machine that is replaced by a link.
    let _ = fs::remove_dir_all(bench.path("out"));
    fs::create_dir(bench.path("out")).unwrap();
    symlink(&outside, bench.path("out/srv")).unwrap();
    bench.imbrik("files get v /srv out").expect(4).says("exists already");
    bench.imbrik("files get v /srv out --replace").expect(4);
    assert!(fs::read_dir(&outside).unwrap().next().is_none());
}

/// Items that only root can create are left out and reported for other users.
#[test]
fn extraction_without_root_copies_what_is_permitted() {
    if !is_root("extraction_without_root_copies_what_is_permitted") {
        return;
    }
    let bench = Bench::empty();
    sized(&bench.path("v"), 96 << 20);
    tool!("mkfs.ext4", "-q", bench.path("v"));
    within(&bench, "v", &format!("{TREE}\n{ATTRIBUTES}"));
    fs::set_permissions(bench.path(""), fs::Permissions::from_mode(0o777)).unwrap();
    let mut command = Command::new("setpriv");
    command.args(["--reuid=12345", "--regid=12345", "--clear-groups"]);
    command.arg(env!("CARGO_BIN_EXE_imbrik")).args("files get v / out --json".split(' '));
    let run = command.current_dir(bench.path("")).stdin(Stdio::null()).output().unwrap();
    let run = Run::of(&run).expect(0);
    let told = run.json();
    let left: Vec<&str> = told["left_out"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["path"].as_str().unwrap())
        .collect();
    for device in ["/hive/old", "/hive/new", "/hive/zero"] {
        assert!(left.contains(&device), "{left:?}");
    }
    assert_eq!(bench.bytes("out/hive/weight"), b"23.5\n");
    let kept = tool!("getfattr", "--only-values", "-n", "user.hive", bench.path("out/hive/weight"));
    assert_eq!(kept, "07");
}

/// Fails if a change is missed, or one is reported that did not happen.
#[test]
fn diff_lists_changed_files() {
    let bench = Bench::empty();
    volume(&bench, "a", HIVE);
    volume(
        &bench,
        "b",
        &format!(
            "{HIVE}\necho hive-08 > etc/hostname; rm srv/link; mkdir -p var/log; echo x > var/log/one; \
             echo y > var/log/two; mv srv/brood/may.wav srv/brood/june.wav; chmod 600 srv/weight.csv; \
             rm -r home; echo > home"
        ),
    );
    let run = bench.imbrik("files diff a b --json").expect(3);
    run.json();
    let lines = run.stdout.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
    let found: Vec<String> = lines
        .filter(|line| line["result"] == "difference")
        // The modification times of files that both tools write differ.
        .filter(|line| line["aspects"] != json!(["modified"]))
        .map(|line| {
            let aspects: Vec<&str> =
                line["aspects"].as_array().unwrap().iter().map(|a| a.as_str().unwrap()).collect();
            let aspects: Vec<&str> =
                aspects.into_iter().filter(|aspect| *aspect != "modified").collect();
            let from = line["from"].as_str().unwrap_or_default();
            let line = format!(
                "{} {} {from}{}",
                line["change"].as_str().unwrap(),
                line["path"].as_str().unwrap(),
                aspects.join("+")
            );
            line.trim().to_owned()
        })
        .collect();
    let expected = [
        "changed /etc/hostname content",
        "changed /home kind",
        "renamed /srv/brood/june.wav /srv/brood/may.wav",
        "removed /srv/link",
        "changed /srv/weight.csv permissions",
        "added /var",
    ];
    assert_eq!(found, expected);
    bench.imbrik("files diff a b --stat").expect(3).shows("/srv");
    bench.imbrik("files diff a b").expect(3).shows("added /var/ 2 files, 4 bytes");
    bench.good("repack a a.img.zst");
    bench.good("repack a a2.img.gz");
    bench.good("files diff a.img.zst a2.img.gz").shows("All files are the same");
    // Data with equal digests of their tiles are not read.
    let run = bench.good("files diff a.img.zst a2.img.gz");
    assert!(flat(&run.stderr).contains("0 bytes in"), "{}", run.stderr);
    run.shows("not read: the digests");
    bench.imbrik("files diff a b /srv/none").expect(2).says("/srv/none does not exist");
}

#[test]
fn undone_hard_link_and_time_of_a_link_are_reported() {
    let bench = Bench::empty();
    let times = "touch -d 2026-01-01 f g";
    volume(&bench, "a", &format!("echo x > f; ln f g; {times}; ln -s f l; touch -hd 2026-01-01 l"));
    volume(&bench, "b", &format!("echo x > f; cp f g; {times}; ln -s f l; touch -hd 2026-02-02 l"));
    bench
        .imbrik("files diff a b")
        .expect(3)
        .shows("/f hard links")
        .shows("/g hard links")
        .shows("/l modification time only");
    bench.good("files diff a a").shows("All files are the same");
}

/// A volume that was not unmounted is shown as it will be, once its system mounts it.
#[test]
fn journal_is_replayed_before_extraction() {
    if !is_root("journal_is_replayed_before_extraction") {
        return;
    }
    let bench = Bench::empty();
    sized(&bench.path("v"), 64 << 20);
    tool!("mkfs.ext4", "-q", bench.path("v"));
    let mounted = bench.path("mounted");
    fs::create_dir(&mounted).unwrap();
    tool!("mount", "-o", "loop,commit=1", bench.path("v"), &mounted);
    for number in 0..20 {
        fs::write(mounted.join(format!("log-{number}")), noise(20_000)).unwrap();
    }
    tool!("sync");
    tool!("cp", bench.path("v"), bench.path("cut"));
    tool!("umount", &mounted);
    let run = bench.good("files list cut /").says("its journal is taken into account");
    assert!(run.out_has("log-19"), "{}", run.stdout);
    assert_eq!(
        bench.good("files get cut /log-7 -").stdout.len(),
        bench.good("files get v /log-7 -").stdout.len()
    );
    // An edit replays it first, in a raw image as in a compressed one.
    bench.good("repack cut cut.img.zst");
    fs::write(bench.path("note"), "brood").unwrap();
    for image in ["cut", "cut.img.zst"] {
        bench.good(&format!("files put {image} note /")).says("its journal is replayed first");
        assert_eq!(bench.good(&format!("files get {image} /note -")).stdout, "brood", "{image}");
        assert!(!bench.good(&format!("files list {image} /")).err_has("journal"), "{image}");
    }
    tool!("e2fsck", "-fn", bench.path("cut"));
    for number in 0..20 {
        let log = bench.good(&format!("files get cut /log-{number} -")).stdout.len();
        assert_eq!(log, bench.good(&format!("files get v /log-{number} -")).stdout.len());
    }
}

/// A tree as large as a system's: it is extracted unchanged, and as fast as with tar.
#[test]
#[ignore = "long: run by ./test --full"]
fn complete_system_is_extracted_unchanged() {
    if !is_root("complete_system_is_extracted_unchanged") {
        return;
    }
    let bench = Bench::empty();
    sized(&bench.path("v"), 4 << 30);
    tool!("mkfs.ext4", "-q", bench.path("v"));
    within(
        &bench,
        "v",
        "cp -a /etc /bin /sbin .; mkdir usr var; cp -a /usr/bin /usr/sbin /usr/share usr; cp -a /var/lib/dpkg var",
    );
    let count = bench.good("files list v / --recursive --json").json()["entries"].as_u64().unwrap();
    assert!(count > 10_000, "{count}");
    is_as_mounted(
        &bench,
        "v",
        &format!("{} files get v / - 2>/dev/null", env!("CARGO_BIN_EXE_imbrik")),
    );
}

/// Ctrl-C at any time leaves complete files, or none, and no archive under its name.
#[test]
fn interrupted_extraction_leaves_complete_files_and_no_archive() {
    let slow = "read_rate = 3000000";
    let bench = Bench::empty();
    fs::create_dir(bench.path("rack")).unwrap();
    volume(&bench, "rack/a.img", "for n in 1 2 3 4; do head -c 2500000 /dev/urandom > n$n; done");
    bench.write_rack(&format!("[[slot]]\nname = \"a\"\nsize = {}\n{slow}\n", 16 << 20));
    let whole = 2_500_000;
    let run = bench.interrupted("files get rack:a / out", || bench.path("out/n2").exists());
    assert_eq!(run.code, 130, "{run:?}");
    run.says("The files extracted so far are in out, each of them complete");
    let lens: Vec<u64> = bench
        .list("out")
        .iter()
        .filter_map(|name| fs::metadata(bench.path("out").join(name)).ok())
        .filter(fs::Metadata::is_file)
        .map(|data| data.len())
        .collect();
    assert!(lens.contains(&whole) && lens.iter().all(|len| *len == whole), "{lens:?}");
    assert!(lens.len() < 4, "{lens:?}");
    let begun = || bench.path("x.tar.zst.part").exists();
    let run = bench.interrupted("files get rack:a / x.tar.zst", begun);
    assert_eq!(run.code, 130, "{run:?}");
    run.says("No archive x.tar.zst was created");
    assert!(!bench.path("x.tar.zst").exists() && !bench.path("x.tar.zst.part").exists());
}

/// Fails if adding a file changes anything else, checkers report anything, or a failure changes the image.
#[test]
fn a_file_is_put_into_an_image_and_nothing_else_changes() {
    let bench = Bench::with_card("");
    bench.good("save rack:a x.img.zst --note first");
    bench.good("repack x.img.zst before.img.zst");
    fs::write(bench.path("wifi.conf"), "hive").unwrap();
    fs::write(bench.path("may.wav"), noise(700_000)).unwrap();
    for name in ["x.img.zst", "y.img.gz", "z.img"] {
        if name != "x.img.zst" {
            bench.good(&format!("repack before.img.zst {name}"));
        }
        bench.good(&format!("files put {name} wifi.conf 2:/etc/wifi.conf"));
        let told = bench.good(&format!("files put {name} wifi.conf may.wav 1:/ --json")).json();
        assert_eq!(told["done"][1]["replaced_bytes"], Value::Null, "{told}");
        if name == "x.img.zst" {
            assert!(told["frames_reused"].as_u64().unwrap() > 0, "{told}");
        }
        bench.good(&format!("check {name}"));
        let run = bench.imbrik(&format!("files diff before.img.zst {name} --json")).expect(3);
        let lines = run.stdout.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
        let found: Vec<String> = lines
            .filter(|line| line["result"] == "difference")
            .map(|line| {
                format!("{} {}", line["change"].as_str().unwrap(), line["path"].as_str().unwrap())
            })
            .collect();
        assert_eq!(found, ["added /may.wav", "added /wifi.conf", "added /etc/wifi.conf"], "{name}");
        assert_eq!(bench.good(&format!("files get {name} 2:/etc/wifi.conf -")).stdout, "hive");
        bench.good(&format!("repack {name} raw.img --replace"));
        let raw = bench.bytes("raw.img");
        fs::write(bench.path("ext"), &raw[34816 * 512..]).unwrap();
        tool!("e2fsck", "-fn", bench.path("ext"));
        let volume = format!("{}@@1048576", bench.path("raw.img").display());
        let back = Command::new("mcopy").args(["-i", &volume, "::may.wav", "-"]).output().unwrap();
        assert!(back.stdout == noise(700_000), "{name}");
    }
    // Added again: the existing file is replaced, and the image's history records it.
    fs::write(bench.path("wifi.conf"), "hive-07").unwrap();
    bench.good("files put x.img.zst wifi.conf 2:/etc").shows("7 bytes, replaces 4 bytes");
    bench.good("show x.img.zst").shows("first; 2:/etc/wifi.conf added on");
    let whole = bench.bytes("x.img.zst");
    // Failed additions leave it unchanged.
    fs::write(bench.path("large"), noise(60 << 20)).unwrap();
    for (words, code, why) in [
        ("files put x.img.zst large 2:/etc", 5, "Add --grow"),
        ("files put x.img.zst none 2:/etc", 1, "looking at none"),
        ("files put x.img.zst wifi.conf 2:/none/x", 2, "folder \"none\" does not exist"),
        ("files put x.img.zst wifi.conf may.wav 2:/etc/hostname", 2, "is not a folder"),
        ("files put rack:a wifi.conf 2:/etc", 4, "add --yes"),
        ("files put rack:a wifi.conf 2:/etc --grow --yes", 2, "a card cannot grow"),
        ("files put - wifi.conf 2:/etc", 2, "can't be changed"),
        ("files put x.img.zst wifi.conf 1:/ --owner 0:0", 2, "has no owners"),
        ("files put x.img.zst wifi.conf 2:/ --mode 999", 2, "is not a mode"),
        ("files remove x.img.zst 2:/etc/none", 2, "/etc/none does not exist"),
        ("files remove x.img.zst 2:/", 2, "the root folder can't be removed"),
        ("files remove x.img.zst 2:/lost+found", 1, "checkers expect it"),
        ("files remove x.img.zst 1:/kernel 2:/etc", 2, "in one partition"),
        ("files rename x.img.zst 2:/etc 2:/etc/below/it", 2, "cannot be moved into itself"),
        ("files rename x.img.zst 2:/etc 1:/etc", 2, "can only be renamed within its volume"),
        ("files folder x.img.zst 2:/etc", 2, "is there already"),
        ("files carry x.img.zst 2:/none x.img.zst 1:/", 2, "/none does not exist"),
    ] {
        let run = bench.imbrik(words).expect(code);
        assert!(run.err_has(why), "{words}: {}", run.stderr);
        assert!(bench.bytes("x.img.zst") == whole, "{words}");
    }
    // With more room, it is an image of a larger card.
    bench.good("repack x.img.zst w.img.zst");
    bench
        .good("files put w.img.zst large 2:/etc --grow")
        .shows("the image is for a larger card now");
    bench.good("check w.img.zst");
    bench.good("repack w.img.zst raw.img --replace");
    fs::write(bench.path("ext"), &bench.bytes("raw.img")[34816 * 512..]).unwrap();
    tool!("e2fsck", "-fn", bench.path("ext"));
    let back = bench.good("files list w.img.zst 2:/etc/large --json").json();
    assert_eq!(back["entries"], 1, "{back}");
    crate::harness::flip(&bench.path("x.img.zst"), whole.len() as u64 / 2);
    let damaged = bench.bytes("x.img.zst");
    let run = bench.imbrik("files put x.img.zst wifi.conf 1:/");
    assert!(![0, 6].contains(&run.code) && bench.bytes("x.img.zst") == damaged, "{run:?}");
    assert!(!bench.path("x.img.zst.part").exists());
}

/// Fails when a copy loses flags or attributes without a word.
#[test]
fn flags_and_attributes_of_devices_are_copied_or_reported() {
    if !is_root("flags_and_attributes_of_devices_are_copied_or_reported") {
        return;
    }
    let bench = Bench::empty();
    for name in ["a", "b"] {
        sized(&bench.path(name), 32 << 20);
        tool!("mkfs.ext4", "-q", bench.path(name));
    }
    within(
        &bench,
        "a",
        "mkdir hive; cd hive; echo x > sealed; echo y > log; mkfifo pipe; mknod zero c 1 5
         for file in pipe zero; do setfattr -n trusted.hive -v 07 $file; done
         chattr +idA sealed; chattr +a log",
    );
    bench.good("files carry a /hive b /");
    tool!("e2fsck", "-fn", bench.path("b"));
    bench.good("files diff a b /hive").shows("All files are the same");
    let flags = |path: &str| tool!("debugfs", "-R", format!("stat {path}"), bench.path("b"));
    assert!(flags("/hive/sealed").contains("Flags: 0x800d0"), "{}", flags("/hive/sealed"));
    assert!(flags("/hive/log").contains("Flags: 0x80020"), "{}", flags("/hive/log"));
    bench
        .good("files get a /hive out")
        .says("flags (immutable, no dump, no atime)")
        .says("flags (append only)");
    for file in ["pipe", "zero"] {
        let at = bench.path("out").join(file);
        assert_eq!(tool!("getfattr", "--only-values", "-n", "trusted.hive", at), "07", "{file}");
    }
    bench.good("files get a /hive hive.tar");
    let read = "import tarfile; print({m.name: m.pax_headers.get('SCHILY.fflags') for m in tarfile.open('hive.tar')})";
    let told = shell(&bench.path(""), &format!("python3 -c \"{read}\""));
    assert!(told.contains("'hive/sealed': 'schg,nodump,noatime'"), "{told}");
    // FAT has its own flags.
    for name in ["f", "g"] {
        sized(&bench.path(name), 32 << 20);
        tool!("mkfs.vfat", bench.path(name));
    }
    fs::write(bench.path("config.txt"), "x").unwrap();
    bench.good("files put f config.txt /");
    tool!("mattrib", "-i", bench.path("f"), "+h", "+r", "::config.txt");
    bench.good("files carry f /config.txt g /");
    assert!(tool!("mattrib", "-i", bench.path("g"), "::config.txt").contains("HR"));
    bench.good("files diff f g").shows("All files are the same");
    tool!("mattrib", "-i", bench.path("g"), "-h", "::config.txt");
    bench.imbrik("files diff f g").expect(3).shows("/config.txt flags");
}
