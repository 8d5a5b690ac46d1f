//! Real block devices, mounts and files: loop devices stand for cards.

use crate::{
    harness::{Bench, is_root, noise, put, sized, tool},
    loops::{Loop, Mount},
};
use std::{
    fs,
    os::unix::fs::{MetadataExt, PermissionsExt},
    path::{Path, PathBuf},
    process::Command,
};

const BOOT: u64 = 4 << 20;
const ROOT: u64 = 68 << 20;
const SIZE: u64 = 512 << 20;

/// A card with a FAT and an ext4 volume, the second filled with real files through a mount.
fn real_card(bench: &Bench) -> PathBuf {
    let card = bench.path("card");
    sized(&card, SIZE);
    let table = "label: dos\nstart=8192,size=131072,type=c,bootable\nstart=139264,type=83\n";
    fs::write(bench.path("table"), table).unwrap();
    let line = format!("sfdisk -q {} < {}", card.display(), bench.path("table").display());
    tool!("sh", "-c", line);
    let fat = bench.path("fat");
    sized(&fat, ROOT - BOOT);
    tool!("mkfs.vfat", "-F", "32", "-n", "HIVE-BOOT", fat);
    crate::harness::put(&card, BOOT, &fs::read(&fat).unwrap());
    let root = Loop::at(&card, ROOT);
    tool!("mkfs.ext4", "-q", "-L", "hive-07", root.0);
    let mount = Mount::of(&root, bench.path("mnt"), "noatime");
    tool!("cp", "-a", "/etc", mount.0);
    tool!("cp", "-a", "/usr/share/doc", mount.0);
    for number in 0..24 {
        fs::write(mount.0.join(format!("brood-{number}.wav")), noise(8 << 20)).unwrap();
    }
    fs::write(mount.0.join("private"), "key").unwrap();
    fs::set_permissions(mount.0.join("private"), fs::Permissions::from_mode(0o600)).unwrap();
    std::os::unix::fs::symlink("brood-1.wav", mount.0.join("latest")).unwrap();
    fs::hard_link(mount.0.join("private"), mount.0.join("same")).unwrap();
    tool!("setfattr", "-n", "user.hive", "-v", "seven", mount.0.join("private"));
    tool!("setfattr", "-n", "trusted.comb", "-v", noise_text(), mount.0.join("brood-2.wav"));
    drop(mount);
    card
}

/// An attribute too long for its inode.
fn noise_text() -> String {
    "honey ".repeat(100)
}

/// All that is in a tree: modes, owners, times, links, names, attributes and the hash of every
/// content.
fn tree(at: &Path) -> String {
    let line = format!(
        "cd {} && find . -printf '%p %M %U %G %s %n %T@ %l\\n' | sort && find . -type f -print0 | sort -z | xargs -0 b2sum; getfattr -R -h -d -m - . 2>/dev/null | sort",
        at.display()
    );
    tool!("sh", "-c", line)
}

#[test]
#[ignore = "long: run by ./test --full"]
fn real_card_is_saved_and_restored_to_a_bigger_one() {
    if !is_root("real_card_is_saved_and_restored_to_a_bigger_one") {
        return;
    }
    let bench = Bench::empty();
    let file = real_card(&bench);
    let card = Loop::on(&file);
    bench.good(&format!("save {} hive.img.zst", card.name()));
    tool!("zstd", "-tq", bench.path("hive.img.zst"));
    let folder = bench.path("");
    let sums = format!("cd {} && sha256sum -c hive.img.zst.sha256", folder.display());
    tool!("sh", "-c", sums);
    bench.good(&format!("save {} exact.img.zst --exact", card.name()));
    let same = format!("zstd -dcq {}exact.img.zst | cmp - {}", folder.display(), card.name());
    tool!("sh", "-c", same);

    // Not a blank one: whatever is not written shows its old bytes.
    sized(&bench.path("bigger"), SIZE + (100 << 20));
    tool!(
        "sh",
        "-c",
        format!("tr '\\0' '\\356' </dev/zero | head -c 640000000 >{}bigger", folder.display())
    );
    let bigger = Loop::on(&bench.path("bigger"));
    let words = format!("restore hive.img.zst {} --yes", bigger.name());
    bench.imbrik(&words).expect(4).says("--allow-fixed");
    bench.good(&format!("{words} --allow-fixed"));
    bench.good(&format!("check hive.img.zst --against {}", bigger.name()));
    tool!("sfdisk", "--verify", bench.path("bigger"));
    let (before, after) = (Loop::at(&file, ROOT), Loop::at(&bench.path("bigger"), ROOT));
    tool!("e2fsck", "-fn", after.0);
    let before = Mount::of(&before, bench.path("before"), "ro,noload");
    let after = Mount::of(&after, bench.path("after"), "ro,noload");
    assert_eq!(tree(&before.0), tree(&after.0));
}

#[test]
fn card_swapped_during_the_question_is_not_written() {
    if !is_root("card_swapped_during_the_question_is_not_written") {
        return;
    }
    let bench = Bench::with_card("");
    bench.good("save rack:a hive.img.zst");
    // Two blank cards of the same size: only the kernel can distinguish them.
    let (first, second) = (bench.path("first"), bench.path("second"));
    sized(&first, 96 << 20);
    sized(&second, 96 << 20);
    let card = Loop::on(&first);
    let exchange = || {
        tool!("losetup", "-d", &card.0);
        tool!("losetup", &card.0, &second);
    };
    let words = format!("restore hive.img.zst {} --allow-fixed", card.name());
    let run = bench.in_dialogue(&words, &[("continue:", &exchange, "101 MB\n")]);
    assert_eq!(run.code, 4, "{}", run.stdout);
    assert!(run.out_has("no longer the card that the plan was made for"), "{}", run.stdout);
    assert!(fs::read(&second).unwrap().iter().all(|byte| *byte == 0), "it was written to");
}

#[test]
fn mounted_and_system_disks_are_refused() {
    if !is_root("mounted_and_system_disks_are_refused") {
        return;
    }
    let bench = Bench::empty();
    sized(&bench.path("card"), 32 << 20);
    let card = Loop::on(&bench.path("card"));
    tool!("mkfs.ext4", "-q", "-L", "combs", card.0);
    fs::write(bench.path("x.img"), fs::read(bench.path("card")).unwrap()).unwrap();
    let mount = Mount::of(&card, bench.path("here"), "noatime");
    let words = format!("restore x.img {} --yes --allow-fixed", card.name());
    bench.imbrik(&words).expect(4).says("is mounted at");
    let onto_itself = format!("save {} here/x.img.zst", card.name());
    bench.imbrik(&onto_itself).expect(4);
    bench.good(&format!("{words} --unmount")).says("Unmounted");
    drop(mount);

    tool!("mkswap", card.0);
    tool!("swapon", card.0);
    let run = bench.imbrik(&words);
    tool!("swapoff", card.0);
    run.expect(4).says("swap on loop");

    let root = tool!("findmnt", "-no", "SOURCE", "/");
    if root.starts_with("/dev/") {
        let whole = tool!("lsblk", "-no", "PKNAME", root.trim());
        let whole = whole.lines().find(|name| !name.is_empty()).map(|name| format!("/dev/{name}"));
        let whole = whole.unwrap_or_else(|| root.trim().to_owned());
        let words = format!("restore x.img {whole} --yes --allow-fixed --unmount");
        bench.imbrik(&words).expect(4).says("the running system is on it");
    }
}

#[test]
fn write_protection_and_missing_permission_are_reported() {
    if !is_root("write_protection_and_missing_permission_are_reported") {
        return;
    }
    let bench = Bench::with_card("");
    bench.good("save rack:a hive.img.zst --no-check");
    sized(&bench.path("card"), 80 << 20);
    let device = tool!("losetup", "-f", "--show", "-r", bench.path("card"));
    let card = Loop(device.trim().into());
    let words = format!("restore hive.img.zst {} --yes --allow-fixed", card.name());
    bench.imbrik(&words).expect(4).says("write-protected");

    // Without root: the program is copied to a folder for all users.
    fs::copy(env!("CARGO_BIN_EXE_imbrik"), bench.path("imbrik")).unwrap();
    for path in ["", "imbrik"] {
        fs::set_permissions(bench.path(path), fs::Permissions::from_mode(0o755)).unwrap();
    }
    fs::set_permissions(bench.path("rack"), fs::Permissions::from_mode(0o700)).unwrap();
    let line = format!(
        "cd {} && exec setpriv --reuid 65534 --regid 65534 --clear-groups ./imbrik save {} /tmp/never.img.zst",
        bench.path("").display(),
        card.name()
    );
    let output = std::process::Command::new("sh").args(["-c", &line]).output().unwrap();
    let message = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(1), "{message}");
    assert!(message.contains("permission denied") && message.contains("sudo"), "{message}");
}

#[test]
fn device_claimed_by_another_process_is_refused() {
    if !is_root("device_claimed_by_another_process_is_refused") {
        return;
    }
    let bench = Bench::with_card("");
    bench.good("save rack:a hive.img.zst --no-check");
    sized(&bench.path("card"), 80 << 20);
    let card = Loop::on(&bench.path("card"));
    // A loop device on the loop device: a layer above, as LVM or encryption would be.
    let above = Loop::on(&card.0);
    let words = format!("restore hive.img.zst {} --yes --allow-fixed", card.name());
    let above_name = above.0.file_name().unwrap().to_string_lossy().into_owned();
    bench.imbrik(&words).expect(4).says(&format!("in use by {above_name}"));
    drop(above);
    bench.good(&words);
}

/// Sectors of 512 bytes that the kernel read from a loop device so far.
fn sectors_read(device: &Loop) -> u64 {
    let name = device.0.file_name().unwrap().to_string_lossy().into_owned();
    let stat = fs::read_to_string(format!("/sys/block/{name}/stat")).unwrap();
    stat.split_whitespace().nth(2).unwrap().parse().unwrap()
}

/// A restored volume with a destroyed first superblock is repaired by its backup, and one that gets a gigabyte of new
/// files, and loses power meanwhile, by its journal: nothing old is found in its tables either way.
fn lives_on(bench: &Bench, card: &Loop) {
    let copy = |name: &str| {
        tool!("cp", "--sparse=always", bench.path("other"), bench.path(name));
        bench.path(name)
    };
    let check = |how: &[&str], volume: &Path| {
        let run = Command::new("/usr/sbin/e2fsck").args(how).arg(volume).output().unwrap();
        (run.status.code(), String::from_utf8_lossy(&run.stdout).into_owned())
    };
    let headless = copy("headless");
    put(&headless, 1024, &[0; 1024]);
    let (code, told) = check(&["-fy", "-b", "32768", "-B", "4096"], &headless);
    // Only data that a backup does not contain: counts, and the used blocks of groups.
    assert!(code.is_some_and(|code| code < 2), "{told}");
    for word in ["garbage", "corrupt", "invalid", "illegal", "Unattached", "orphan"] {
        assert!(!told.contains(word), "{word}: {told}");
    }
    assert_eq!(check(&["-fn"], &headless).0, Some(0));
    fs::remove_file(headless).unwrap();

    let mount = Mount::of(card, bench.path("taking"), "noatime,commit=1");
    let sound = noise(10 << 20);
    for number in 0..100 {
        fs::write(mount.0.join(format!("night-{number}.wav")), &sound).unwrap();
        if number == 60 {
            tool!("sync", "-f", &mount.0);
        }
    }
    // As after a power loss: the present content of the medium, with the volume still mounted.
    std::thread::sleep(std::time::Duration::from_secs(2));
    let cut = copy("cut-off");
    let (code, told) = check(&["-fy"], &cut);
    assert!(code.is_some_and(|code| code < 2) && told.contains("recovering journal"), "{told}");
    assert_eq!(check(&["-fn"], &cut).0, Some(0));
    fs::remove_file(cut).unwrap();
}

#[test]
#[ignore = "long: run by ./test --full"]
fn reads_of_a_large_card_follow_used_space_as_counted_by_the_kernel() {
    if !is_root("reads_of_a_large_card_follow_used_space_as_counted_by_the_kernel") {
        return;
    }
    let bench = Bench::empty();
    sized(&bench.path("card"), 64 << 30);
    let card = Loop::on(&bench.path("card"));
    tool!("mkfs.ext4", "-q", "-L", "hive-07", card.0);
    let mount = Mount::of(&card, bench.path("mnt"), "noatime");
    // Each folder goes to another group, so the files are all over the card.
    for number in 0..50 {
        let folder = mount.0.join(format!("week-{number}"));
        fs::create_dir(&folder).unwrap();
        fs::write(folder.join("brood.wav"), noise(5 << 20)).unwrap();
        fs::write(folder.join("gone.wav"), noise(2 << 20)).unwrap();
    }
    tool!("sync");
    for number in 0..50 {
        fs::remove_file(mount.0.join(format!("week-{number}/gone.wav"))).unwrap();
    }
    drop(mount);
    let before = sectors_read(&card);
    let saved = bench.good(&format!("save {} x.img.zst --no-check --json", card.name())).json();
    let read = (sectors_read(&card) - before) * 512;
    let used = saved["used_bytes"].as_u64().unwrap();
    // 250 MiB of files, and the bitmaps and live inode tables of 512 groups.
    assert!((250 << 20..400 << 20).contains(&used), "{used} bytes in use");
    assert!(read * 100 <= used * 105, "{read} bytes read for {used} in use");
    // The kernel counts whole sectors, also for the few small reads of the survey.
    let counted = saved["card_bytes_read"].as_u64().unwrap();
    assert!(counted <= read && read - counted < 64 << 10, "{counted} counted, {read} read");

    sized(&bench.path("other"), 64 << 30);
    // Old data are where tables will be: at the start of each flexible group.
    for number in 0..512u64 {
        put(&bench.path("other"), number << 27, &[0xee; 80 << 10]);
    }
    let other = Loop::on(&bench.path("other"));
    let words = format!("restore x.img.zst {} --yes --allow-fixed --json", other.name());
    let restored = bench.good(&words).json();
    assert!(restored["card_bytes_written"].as_u64().unwrap() < 3 << 30, "{restored}");
    // The device zeroes by a command: no zeros are sent to it.
    let taken = fs::metadata(bench.path("other")).unwrap().blocks() * 512;
    let stale = 512 * (80 << 10);
    assert!((taken - stale) * 100 <= used * 105, "{taken} bytes taken for {used} in use");
    tool!("e2fsck", "-fn", other.0);
    // The same fitted, in one pass, and onto a card of a hundredth of the size.
    let start = sectors_read(&card);
    bench.good(&format!("save {} fitted.img.zst --fit --no-check --json", card.name()));
    let read = (sectors_read(&card) - start) * 512;
    assert!(read * 100 <= used * 105, "{read} bytes read for {used} in use");
    sized(&bench.path("small"), 640 << 20);
    let small = Loop::on(&bench.path("small"));
    bench.good(&format!("restore fitted.img.zst {} --yes --allow-fixed", small.name()));
    tool!("e2fsck", "-fn", small.0);
    let before = Mount::of(&card, bench.path("before"), "ro,noload");
    let before = tree(&before.0);
    for (device, at) in [(&other, "after"), (&small, "fitted")] {
        let after = Mount::of(device, bench.path(at), "ro,noload");
        assert_eq!(before, tree(&after.0), "{at}");
    }
    lives_on(&bench, &other);
}

#[test]
fn exact_image_keeps_an_unreplayed_journal() {
    if !is_root("exact_image_keeps_an_unreplayed_journal") {
        return;
    }
    let bench = Bench::empty();
    sized(&bench.path("card"), 128 << 20);
    let card = Loop::on(&bench.path("card"));
    tool!("mkfs.ext4", "-q", card.0);
    let mount = Mount::of(&card, bench.path("mnt"), "noatime,commit=1");
    for number in 0..40 {
        fs::write(mount.0.join(format!("log-{number}")), noise(20_000)).unwrap();
    }
    // As after a power loss: the present content of the medium, with the volume still mounted.
    tool!("sync");
    tool!("cp", bench.path("card"), bench.path("cut"));
    drop(mount);
    let cut = Loop::on(&bench.path("cut"));
    let header = tool!("dumpe2fs", "-h", cut.0);
    assert!(header.contains("needs_recovery"), "{header}");
    bench.good(&format!("save {} x.img.zst --exact", cut.name()));
    tool!("zstd", "-dq", bench.path("x.img.zst"), "-o", bench.path("back"));
    assert!(bench.bytes("back") == bench.bytes("cut"));
}

#[test]
fn cards_are_distinguished_without_root() {
    if !is_root("cards_are_distinguished_without_root") {
        return;
    }
    let bench = Bench::empty();
    sized(&bench.path("card"), 8 << 20);
    let card = Loop::on(&bench.path("card"));
    fs::copy(env!("CARGO_BIN_EXE_imbrik"), bench.path("imbrik")).unwrap();
    for path in ["", "imbrik"] {
        fs::set_permissions(bench.path(path), fs::Permissions::from_mode(0o755)).unwrap();
    }
    let line = format!(
        "cd {} && exec setpriv --reuid 65534 --regid 65534 --clear-groups ./imbrik cards --json",
        bench.path("").display()
    );
    let shown = tool!("sh", "-c", line);
    let shown: serde_json::Value = serde_json::from_str(shown.trim()).unwrap();
    let cards = shown["cards"].as_array().unwrap();
    let seen = cards.iter().find(|seen| seen["path"] == card.name()).unwrap();
    assert_eq!((&seen["size"], &seen["target"]), (&(8u64 << 20).into(), &"fixed".into()));
    assert!(seen["content"].is_null(), "it could not be read: {seen}");
}

/// Writes files, deletes some, and deletes one that is open: a system at work. Returns the open file.
fn write_to(at: &Path) -> fs::File {
    let early = at.join("early");
    fs::create_dir(&early).unwrap();
    for number in 0..300 {
        fs::write(early.join(format!("reading-{number}")), noise(number * 61 + 1)).unwrap();
    }
    tool!("sync", "-f", at);
    for number in (0..300).step_by(3) {
        fs::remove_file(early.join(format!("reading-{number}"))).unwrap();
    }
    fs::create_dir(at.join("late")).unwrap();
    for number in 0..200 {
        fs::write(at.join("late").join(format!("sound-{number}")), noise(20_000)).unwrap();
    }
    fs::rename(at.join("early/reading-1"), at.join("late/moved")).unwrap();
    let open = fs::File::create(at.join("open")).unwrap();
    open.set_len(0).unwrap();
    fs::write(at.join("open"), noise(700_000)).unwrap();
    fs::remove_file(at.join("open")).unwrap();
    // The data are in the journal, and hardly any of them at their place.
    tool!("sync", "-f", at);
    open
}

#[test]
fn copy_of_a_mounted_card_matches_kernel_recovery() {
    if !is_root("copy_of_a_mounted_card_matches_kernel_recovery") {
        return;
    }
    for about in ["", "-O ^metadata_csum", "-b 1024 -O orphan_file", "-O ^64bit,^orphan_file"] {
        let bench = Bench::empty();
        let size = 192 << 20;
        fs::create_dir(bench.path("rack")).unwrap();
        sized(&bench.path("live"), size);
        let line = format!("mkfs.ext4 -q {about} {}", bench.path("live").display());
        tool!("sh", "-c", line);
        let device = Loop::on(&bench.path("live"));
        let mount = Mount::of(&device, bench.path("mnt"), "noatime");
        let open = write_to(&mount.0);
        tool!("cp", "--sparse=always", bench.path("live"), bench.path("rack/a.img"));
        drop(open);
        drop(mount);
        drop(device);
        let old = "tr '\\0' '\\356' </dev/zero | head -c 201326592";
        tool!("sh", "-c", format!("{old} >{}", bench.path("rack/b.img").display()));
        bench.write_rack(&format!(
            "[[slot]]\nname = \"a\"\nsize = {size}\n[[slot]]\nname = \"b\"\nsize = {size}\n"
        ));
        let header = tool!("dumpe2fs", "-h", bench.path("rack/a.img"));
        assert!(header.contains("needs_recovery"), "{about}: the test makes no dirty volume");
        let run = bench.good("save rack:a x.img.zst");
        assert!(!run.err_has("read whole"), "{about}: {}", run.stderr);
        assert!(bench.bytes("live").len() as u64 == size);
        bench.good("restore x.img.zst rack:b --yes");
        bench.good("check x.img.zst --against rack:a");
        bench.good("check x.img.zst --against rack:b");
        // The kernel's own recovery of the raw copy is the judge.
        let trees = ["a", "b"].map(|slot| {
            let device = Loop::on(&bench.path(format!("rack/{slot}.img")));
            let mount = Mount::of(&device, bench.path(slot), "noatime");
            tree(&mount.0)
        });
        assert!(trees[0] == trees[1], "{about}: the trees differ");
        assert!(trees[0].contains("moved") && !trees[0].contains("reading-0 "), "{about}");
        tool!("e2fsck", "-fn", bench.path("rack/b.img"));
    }
}

#[test]
fn fast_commits_are_replayed_in_a_save() {
    if !is_root("fast_commits_are_replayed_in_a_save") {
        return;
    }
    let bench = Bench::empty();
    let size = 128 << 20;
    fs::create_dir(bench.path("rack")).unwrap();
    sized(&bench.path("live"), size);
    tool!("mkfs.ext4", "-q", "-O", "fast_commit", bench.path("live"));
    let device = Loop::on(&bench.path("live"));
    let mount = Mount::of(&device, bench.path("mnt"), "noatime");
    for number in 0..20 {
        let file = fs::File::create(mount.0.join(format!("reading-{number}"))).unwrap();
        std::io::Write::write_all(&mut &file, &noise(5000)).unwrap();
        file.sync_all().unwrap();
    }
    tool!("cp", "--sparse=always", bench.path("live"), bench.path("rack/a.img"));
    drop(mount);
    drop(device);
    sized(&bench.path("rack/b.img"), size);
    bench.write_rack(&format!(
        "[[slot]]\nname = \"a\"\nsize = {size}\n[[slot]]\nname = \"b\"\nsize = {size}\n"
    ));
    let listed = tool!("debugfs", "-R", "logdump", bench.path("rack/a.img"));
    assert!(listed.contains("tag CREAT_DENTRY"), "no fast commit tells of it");
    let run = bench.good("save rack:a x.img.zst");
    assert!(!run.err_has("read whole"), "{run:?}");
    bench.good("restore x.img.zst rack:b --yes");
    let device = Loop::on(&bench.path("rack/b.img"));
    tool!("e2fsck", "-fn", device.name());
    let mount = Mount::of(&device, bench.path("b"), "noatime");
    assert_eq!(fs::read(mount.0.join("reading-19")).unwrap(), noise(5000));
}

#[test]
#[ignore = "long: run by ./test --full"]
fn the_kernel_writes_to_a_volume_that_filled_a_card() {
    if !is_root("the_kernel_writes_to_a_volume_that_filled_a_card") {
        return;
    }
    let bench = Bench::empty();
    let file = real_card(&bench);
    let card = Loop::on(&file);
    bench.good(&format!("save {} hive.img.zst", card.name()));
    sized(&bench.path("bigger"), SIZE * 4);
    let bigger = Loop::on(&bench.path("bigger"));
    let words = format!("restore hive.img.zst {} --yes --allow-fixed --fill", bigger.name());
    bench.good(&words);
    bench.good(&format!("check hive.img.zst --against {}", bigger.name()));
    let (old, new) = (Loop::at(&file, ROOT), Loop::at(&bench.path("bigger"), ROOT));
    let before = Mount::of(&old, bench.path("before"), "ro,noload");
    let after = Mount::of(&new, bench.path("after"), "noatime");
    assert_eq!(tree(&before.0), tree(&after.0));
    // More than the old volume could hold at all.
    for number in 0..100 {
        fs::write(after.0.join(format!("new-{number}")), noise(12 << 20)).unwrap();
    }
    let free = tool!("df", "--output=avail", "-k", after.0);
    assert!(free.lines().last().unwrap().trim().parse::<u64>().unwrap() > 100_000, "{free}");
    drop(after);
    tool!("e2fsck", "-fn", new.0);
}
