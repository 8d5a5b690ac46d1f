//! Tables and volumes made by the system's own tools are recognised as the system recognises them.

use imbrik_core::{
    fs::{Volume, recognise},
    layout::Survey,
    store::FileStore,
    table::Table,
};
use std::{
    fs::{self, File},
    path::Path,
    process::Command,
};
use tempfile::TempDir;

/// Runs a tool of the system. A missing one fails the test with the remedy.
#[track_caller]
fn tool(line: &str, at: &Path) -> String {
    let line = line.replace("FILE", &format!("'{}'", at.display()));
    let mut command = Command::new("sh");
    command.args(["-c", &format!("PATH=$PATH:/usr/sbin:/sbin; {line}")]);
    let output = command.output().unwrap();
    assert!(output.status.success(), "{line}: {output:?}; ./test installs what is needed");
    String::from_utf8_lossy(&output.stdout).into_owned()
}

struct Made {
    _dir: TempDir,
    path: std::path::PathBuf,
}

fn made(mib: u64, line: &str) -> Made {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("volume");
    File::create(&path).unwrap().set_len(mib << 20).unwrap();
    tool(line, &path);
    Made { _dir: dir, path }
}

impl Made {
    fn volume(&self) -> Volume {
        recognise(&FileStore::open(&self.path).unwrap()).unwrap().expect("not recognised")
    }

    fn survey(&self) -> Survey {
        Survey::of(&FileStore::open(&self.path).unwrap()).unwrap()
    }

    fn blkid(&self, tag: &str) -> String {
        tool(&format!("blkid -p -o value -s {tag} FILE"), &self.path).trim().to_owned()
    }
}

#[test]
fn labels_and_ids_match_blkid() {
    let cases = [
        ("ext2", 8, "mkfs.ext2 -q -L queen FILE"),
        ("ext3", 16, "mkfs.ext3 -q -L queen FILE"),
        ("ext4", 16, "mkfs.ext4 -q -L queen FILE"),
        ("ext4", 64, "mkfs.ext4 -q -b 1024 -O ^64bit,^metadata_csum -L queen FILE"),
        ("FAT12", 4, "mkfs.vfat -F 12 -n QUEEN FILE"),
        ("FAT16", 32, "mkfs.vfat -F 16 -n QUEEN FILE"),
        ("FAT32", 64, "mkfs.vfat -F 32 -n QUEEN FILE"),
        ("FAT32", 300, "mkfs.vfat -F 32 -S 4096 -n QUEEN FILE"),
        ("exFAT", 32, "mkfs.exfat -L queen FILE"),
        ("NTFS", 16, "mkfs.ntfs -q -F -L queen FILE"),
        ("btrfs", 128, "mkfs.btrfs -q -L queen FILE"),
        ("F2FS", 64, "mkfs.f2fs -q -l queen FILE"),
        ("swap", 8, "mkswap -L queen FILE"),
        ("swap", 8, "mkswap -p 65536 -L queen FILE"),
        (
            "LUKS",
            32,
            "printf x | cryptsetup luksFormat -q --pbkdf pbkdf2 --pbkdf-force-iterations 1000 --label queen FILE -",
        ),
    ];
    for (kind, mib, line) in cases {
        let made = made(mib, line);
        let volume = made.volume();
        assert_eq!(volume.kind.name(), kind, "{line}");
        assert_eq!(volume.label.unwrap_or_default(), made.blkid("LABEL"), "{line}");
        assert_eq!(volume.uuid.unwrap_or_default(), made.blkid("UUID"), "{line}");
        let size = volume.size.get();
        assert!(size <= mib << 20 && size > (mib << 20) * 9 / 10, "{line}: {size}");
    }
}

#[test]
fn volume_without_a_table_is_shown_as_one_partition() {
    for line in
        ["mkfs.vfat -F 32 FILE", "mkfs.exfat FILE", "mkfs.ext4 -q FILE", "mkfs.ntfs -q -F FILE"]
    {
        let survey = made(64, line).survey();
        assert_eq!((survey.table, survey.parts.len()), (None, 1), "{line}");
        assert_eq!(survey.parts[0].number, None);
        assert!(survey.gaps.is_empty());
    }
}

#[test]
fn tables_match_sfdisk_and_sgdisk() {
    let dos = "label: dos\\nlabel-id: 0xb3e51234\\nsize=8M,type=c,bootable\\nsize=4M,type=82\\n\
               size=40M,type=f\\nsize=8M,type=83\\nsize=8M,type=83\\n";
    let gpt = "label: gpt\\nlabel-id: 7B1EE000-0000-4000-8000-000048560007\\nsize=8M,name=boot\\nsize=16M,type=S\\n";
    for script in [dos, gpt] {
        let made = made(64, &format!("printf '{script}' | sfdisk -q FILE"));
        reads_as_listed(&made, &made.path, 512);
    }
}

/// Only a device reports sectors of 4096 bytes to the tool: a loop device simulates one.
#[test]
fn a_table_in_large_sectors_is_read_from_its_image() {
    if tool("id -u", Path::new("")).trim() != "0" {
        assert!(std::env::var_os("CI").is_none(), "this needs root, and CI must run it");
        eprintln!("NOT RUN: a_table_in_large_sectors_is_read_from_its_image needs root");
        return;
    }
    let made = made(64, "true");
    let device = tool("losetup -b 4096 -f --show FILE", &made.path);
    let device = Path::new(device.trim());
    tool("printf 'label: gpt\\nsize=8M,name=boot\\nsize=16M\\n' | sfdisk -q FILE", device);
    let checked = std::panic::catch_unwind(|| reads_as_listed(&made, device, 4096));
    tool("losetup -d FILE", device);
    checked.unwrap();
}

#[track_caller]
fn reads_as_listed(made: &Made, device: &Path, sector: u64) {
    let survey = made.survey();
    let listed = tool("sfdisk -lqo Start,Sectors,Type FILE", device);
    let expected: Vec<(u64, u64)> = listed
        .lines()
        .filter(|line| !line.contains("Ext'd"))
        .filter_map(|line| {
            let mut fields = line.split_whitespace().map(str::parse);
            Some((fields.next()?.ok()?, fields.next()?.ok()?))
        })
        .collect();
    let parts = survey.parts.iter();
    let found: Vec<_> =
        parts.map(|p| (p.span.start().get() / sector, p.span.len().get() / sector)).collect();
    assert_eq!(found, expected, "{listed}");
    assert!(!found.is_empty());
    assert_eq!(survey.findings, []);
    let id = tool("sfdisk --disk-id FILE", device).trim().to_lowercase();
    let id = id.trim_start_matches("0x").to_owned();
    assert_eq!(survey.table.as_ref().map(Table::id), Some(id));
}

#[test]
fn a_gpt_with_one_copy_overwritten_is_still_read() {
    let script = "label: gpt\\nsize=8M\\nsize=8M\\n";
    let made = made(64, &format!("printf '{script}' | sfdisk -q FILE"));
    let whole = fs::read(&made.path).unwrap();
    let sound = made.survey();
    for (range, words) in [
        (512..1024, "the primary table is missing"),
        (1024..2048, "the primary table is damaged"),
        (whole.len() - 512..whole.len(), "the backup table is missing"),
    ] {
        let mut damaged = whole.clone();
        damaged[range].fill(0);
        fs::write(&made.path, damaged).unwrap();
        let found = made.survey();
        assert_eq!(found.parts, sound.parts);
        assert!(found.findings[0].to_string().starts_with(words), "{:?}", found.findings);
    }
}
