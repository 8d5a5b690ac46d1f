//! Will it start? What the files on a card say about where things are, and whether they are there.
//!
//! Read are the kernel's command line, the configuration of common boot loaders, and `/etc/fstab`.
//! A reference that cannot be resolved from the card, such as one to a network share, is ignored.

use super::{
    survey::{Part, Survey},
    view::View,
};
use imbrik_fs::Usage;
use imbrik_store::{
    ReadAt, Window,
    error::{Result, if_readable},
    exact::Exact as _,
    units::{ByteLen, Span},
};
use std::sync::Arc;

/// The files with references, from the root of a volume.
pub(super) const PLACES: [&str; 15] = [
    "cmdline.txt",
    "uEnv.txt",
    "syslinux.cfg",
    "syslinux/syslinux.cfg",
    "boot/syslinux/syslinux.cfg",
    "boot/syslinux.cfg",
    "extlinux/extlinux.conf",
    "grub/grub.cfg",
    "boot/cmdline.txt",
    "boot/uEnv.txt",
    "boot/extlinux/extlinux.conf",
    "boot/firmware/cmdline.txt",
    "boot/grub/grub.cfg",
    "boot/loader.conf",
    FSTAB,
];
/// Folders with a file for each entry of a loader's menu.
pub(super) const ENTRIES: [&str; 2] = ["loader/entries", "boot/loader/entries"];
const FSTAB: &str = "etc/fstab";
/// The maximum number of files that are read on a volume: they may include each other.
const MOST_PLACES: usize = 200;
/// A system needs some room to start.
const LEAST_ROOM: ByteLen = ByteLen::new(64_000_000);
/// The longest of these files that is read, in bytes.
const MOST: usize = 1 << 20;

/// Something that a file on the card refers to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reference {
    /// The file, and the partition that holds it: "cmdline.txt on partition 1".
    pub from: String,
    /// Its text, such as `root=PARTUUID=48560007-02`.
    pub what: String,
    /// True if that is on this card.
    pub is_found: bool,
}

/// All references on the card in `store`, in the order of the partitions in `survey`. An unreadable volume has none.
///
/// # Errors
/// When the store can't be read.
pub fn references(store: &dyn ReadAt, survey: &Survey) -> Result<Vec<Reference>> {
    let mut found = Vec::new();
    for part in &survey.parts {
        found.extend(if_readable(references_in(part, store, survey))?.unwrap_or_default());
    }
    Ok(found)
}

fn references_in(part: &Part, store: &dyn ReadAt, survey: &Survey) -> Result<Vec<Reference>> {
    let mut found = Vec::new();
    let place = part.span.intersect(Span::whole(survey.size));
    if let (Some(volume), Some(place)) = (&part.volume, place) {
        let window = Window::new(store, place)?;
        let Some(files) = volume.files(&window)? else { return Ok(found) };
        let mut places: Vec<String> = PLACES.iter().map(|path| (*path).to_owned()).collect();
        for folder in ENTRIES {
            let found = files.names(&names_of(folder))?.unwrap_or_default();
            let found = found.into_iter().filter_map(|name| String::from_utf8(name).ok());
            let entries = found.filter(|name| name.to_ascii_lowercase().ends_with(".conf"));
            places.extend(entries.map(|name| format!("{folder}/{name}")));
        }
        let mut next = 0usize;
        while let Some(path) = places.get(next).cloned() {
            next = next.plus(1)?;
            let Some(bytes) = files.small_file(&names_of(&path), MOST)? else {
                continue;
            };
            let text = String::from_utf8_lossy(&bytes);
            for more in included(&path, &text) {
                if places.len() < MOST_PLACES && !places.contains(&more) {
                    places.push(more);
                }
            }
            let from = format!("{path} on {}", part.title());
            let mut add = |what: String, is_found: bool| {
                let reference = Reference { from: from.clone(), what, is_found };
                if !found.contains(&reference) {
                    found.push(reference);
                }
            };
            let in_entries = ENTRIES.iter().any(|folder| path.starts_with(folder));
            for (what, name) in if path == FSTAB { in_fstab(&text) } else { in_loader(&text) } {
                if let Some(is_found) = is_on_card(survey, &name) {
                    add(what, is_found);
                }
            }
            if in_entries || path.ends_with("linux.conf") || path.ends_with("linux.cfg") {
                for file in files_in(&text) {
                    // A loader searches the folder of its configuration, and the root.
                    let beside = beside(&path, file);
                    let found =
                        [names_of(file), names_of(&beside)].map(|names| files.has_entry(&names));
                    let [from_root, from_folder] = found;
                    match (from_root?, from_folder?) {
                        (Some(true), _) | (_, Some(true)) => add(file.to_owned(), true),
                        (None, _) | (_, None) => {}
                        (Some(false), Some(false)) => add(file.to_owned(), false),
                    }
                }
            }
        }
    }
    Ok(found)
}

fn names_of(path: &str) -> Vec<&[u8]> {
    path.split('/').filter(|name| !name.is_empty()).map(str::as_bytes).collect()
}

/// Resolves a path in the file at `path`: from the root, or from that file's folder.
fn beside(path: &str, file: &str) -> String {
    match (file.strip_prefix('/'), path.rsplit_once('/')) {
        (Some(from_root), _) => from_root.to_owned(),
        (None, Some((folder, _))) => format!("{folder}/{file}"),
        (None, None) => file.to_owned(),
    }
}

/// The files that a loader's configuration at `path` includes.
pub(super) fn included(path: &str, text: &str) -> Vec<String> {
    if !path.ends_with("linux.conf") && !path.ends_with(".cfg") {
        return Vec::new();
    }
    let lines = text.lines().filter_map(|line| line.trim().split_once(char::is_whitespace));
    let files = lines.filter_map(|(key, value)| {
        let is_one = ["include", "menu"].iter().any(|word| key.eq_ignore_ascii_case(word));
        let value = value.trim();
        // "MENU INCLUDE file", optionally with a title.
        let value = match value.get(..8).filter(|word| word.eq_ignore_ascii_case("include ")) {
            Some(_) => value.get(8..)?,
            None if key.eq_ignore_ascii_case("menu") => return None,
            None => value,
        };
        is_one.then(|| value.split_whitespace().next())?
    });
    files.filter(|file| !file.contains("..")).map(|file| beside(path, file)).collect()
}

/// How much room a volume with a system on it has.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Room {
    /// Which: "partition 2 (ext4, hive-07)".
    pub title: String,
    /// Bytes that are free.
    pub free: ByteLen,
    /// True if that is so little that its system may not even start: under 2 %, or 64 MB.
    pub is_tight: bool,
}

/// The free space of volumes with a system on the card that `view` reads as. An unreadable volume is omitted.
///
/// # Errors
/// When the view's source can't be read.
pub fn room(view: &View, survey: &Survey) -> Result<Vec<Room>> {
    let store: Arc<dyn ReadAt> = Arc::new(view.clone());
    let mut rooms = Vec::new();
    for part in &survey.parts {
        let Some(open) = part.open(&store)? else { continue };
        let usage = || -> Result<Option<Usage>> {
            let mut has_system = false;
            let Some(files) = open.files()? else { return Ok(None) };
            for path in ["etc/fstab", "etc/os-release", "etc/passwd"] {
                has_system |= files.has_entry(&names_of(path))? == Some(true);
            }
            Ok(if has_system { Some(open.examine()?.usage) } else { None })
        };
        let Some(usage) = if_readable(usage())?.flatten() else { continue };
        if usage.whole_because.is_none() {
            // The partition may be longer: what follows the volume is copied, but is not its own.
            let volume = Span::whole(open.volume().size.min(open.store().size()));
            let free = usage.free_in(volume);
            let is_tight = free < LEAST_ROOM || free.get() < volume.len().get() / 50;
            rooms.push(Room { title: part.full_title(), free, is_tight });
        }
    }
    Ok(rooms)
}

/// The devices in a mount table, with their names for messages. Optional mounts are omitted.
fn in_fstab(text: &str) -> Vec<(String, String)> {
    let lines = text.lines().map(str::trim).filter(|line| !line.starts_with('#'));
    let fields = lines.map(|line| line.split_whitespace().collect::<Vec<_>>());
    let wanted = fields.filter_map(|fields| match fields[..] {
        [device, at, _, options, ..] => {
            let may_miss = options.split(',').any(|word| matches!(word, "nofail" | "noauto"));
            (!may_miss).then(|| (format!("{device} at {at}"), device.to_owned()))
        }
        _ => None,
    });
    wanted.collect()
}

/// The devices that a command line or a loader's configuration names.
fn in_loader(text: &str) -> Vec<(String, String)> {
    let mut found = Vec::new();
    for line in text.lines().map(str::trim).filter(|line| !line.starts_with('#')) {
        let words: Vec<_> = line.split_whitespace().map(|word| word.trim_matches('"')).collect();
        for word in &words {
            for key in ["root=", "resume=", "rootdev="] {
                if let Some(name) = word.strip_prefix(key) {
                    found.push(((*word).to_owned(), name.to_owned()));
                }
            }
        }
        if let (Some(&"search"), Some(id)) = (words.first(), words.last())
            && words.contains(&"--fs-uuid")
        {
            found.push((format!("search --fs-uuid {id}"), format!("UUID={id}")));
        }
    }
    found
}

/// The files that a loader is to load.
fn files_in(text: &str) -> Vec<&str> {
    let lines = text.lines().filter_map(|line| line.trim().split_once(char::is_whitespace));
    let wanted = lines.filter(|(key, _)| {
        ["kernel", "linux", "initrd", "fdt", "devicetree"]
            .iter()
            .any(|known| key.eq_ignore_ascii_case(known))
    });
    // Several initial disks are separated by commas; a path upwards leads out of the inspected folder.
    let files = wanted.flat_map(|(_, value)| value.trim().split(','));
    files.filter(|file| !file.contains("..") && !file.contains(':')).collect()
}

/// Returns whether device `name` is on the card; `None` if that does not depend on the card.
fn is_on_card(survey: &Survey, name: &str) -> Option<bool> {
    let any = |is_it: &dyn Fn(&Part) -> bool| Some(survey.parts.iter().any(is_it));
    let same = |known: Option<&str>, name: &str| {
        known.is_some_and(|known| known.eq_ignore_ascii_case(name.trim_matches('"')))
    };
    let volume_is = |name: &str| {
        any(&|part: &Part| same(part.volume.as_ref().and_then(|v| v.uuid.as_deref()), name))
    };
    let label_is = |name: &str| {
        let name = name.trim_matches('"');
        any(&|part: &Part| part.volume.as_ref().and_then(|v| v.label.as_deref()) == Some(name))
    };
    let part_is = |name: &str| any(&|part: &Part| same(part.uuid.as_deref(), name));
    let named = |name: &str| any(&|part: &Part| part.name.as_deref() == Some(name));
    if name.contains('$') {
        return None;
    }
    for (prefix, by_id) in [
        ("UUID=", "uuid"),
        ("LABEL=", "label"),
        ("PARTUUID=", "partuuid"),
        ("PARTLABEL=", "partlabel"),
    ] {
        let id = name
            .strip_prefix(prefix)
            .or_else(|| name.strip_prefix("/dev/disk/by-")?.strip_prefix(by_id)?.strip_prefix('/'));
        if let Some(id) = id {
            return match by_id {
                "uuid" => volume_is(id),
                "label" => label_is(id),
                "partuuid" => part_is(id),
                _ => named(id),
            };
        }
    }
    // By its place: the card may have another name in its board, its partitions have the same.
    let device = name.strip_prefix("/dev/")?;
    let number = match (device.strip_prefix("mmcblk"), device.strip_prefix("nvme")) {
        (Some(rest), _) | (_, Some(rest)) => rest.rsplit_once('p').map(|(_, number)| number),
        _ => device.strip_prefix("sd").and_then(|rest| rest.get(1..)),
    };
    let number: u32 = number?.parse().ok()?;
    any(&|part: &Part| part.number == Some(number))
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{
        SparseStore, WriteAt,
        units::{ByteLen, ByteOffset},
    };

    fn survey() -> Survey {
        let store = SparseStore::new(ByteLen::mib(8));
        let mut record = vec![0; 512];
        record[440..444].copy_from_slice(&0x4856_0007_u32.to_le_bytes());
        for (entry, first) in [(446, 2048u32), (462, 4096)] {
            record[entry + 4] = 0x83;
            record[entry + 8..entry + 12].copy_from_slice(&first.to_le_bytes());
            record[entry + 12..entry + 16].copy_from_slice(&2048u32.to_le_bytes());
        }
        record[510..].copy_from_slice(&[0x55, 0xaa]);
        store.write_at(ByteOffset::ZERO, &record).unwrap();
        Survey::of(&store).unwrap()
    }

    #[test]
    fn device_references_are_resolved_or_ignored() {
        let survey = survey();
        for (name, expected) in [
            ("PARTUUID=48560007-02", Some(true)),
            ("PARTUUID=48560007-03", Some(false)),
            ("/dev/disk/by-partuuid/48560007-01", Some(true)),
            ("/dev/mmcblk0p2", Some(true)),
            ("/dev/mmcblk1p3", Some(false)),
            ("/dev/sda1", Some(true)),
            ("/dev/nvme0n1p1", Some(true)),
            ("UUID=1234-ABCD", Some(false)),
            ("LABEL=hive", Some(false)),
            ("/dev/nfs", None),
            ("${rootpart}", None),
            ("tmpfs", None),
            ("proc", None),
        ] {
            assert_eq!(is_on_card(&survey, name), expected, "{name}");
        }
    }

    #[test]
    fn references_in_boot_files_are_found() {
        let fstab = "# a remark\nUUID=12 / ext4 defaults 0 1\nLABEL=usb /mnt vfat nofail 0 0\nx\n";
        assert_eq!(in_fstab(fstab), [("UUID=12 at /".to_owned(), "UUID=12".to_owned())]);
        let line = "console=tty1 root=PARTUUID=1-02 rootwait\n  search --no-floppy --fs-uuid ab\n";
        let names: Vec<_> = in_loader(line).into_iter().map(|(_, name)| name).collect();
        assert_eq!(names, ["PARTUUID=1-02", "UUID=ab"]);
        let extlinux = "LABEL a\n  LINUX /vmlinuz\n  INITRD /a,/b\n  FDT ../up.dtb\n";
        assert_eq!(files_in(extlinux), ["/vmlinuz", "/a", "/b"]);
        let menu = "include more.cfg\nMENU INCLUDE /graphics.cfg Title\nMENU TITLE Hives\nX y\n";
        let found = included("syslinux/syslinux.cfg", menu);
        assert_eq!(found, ["syslinux/more.cfg", "graphics.cfg"]);
        assert!(included("etc/fstab", menu).is_empty());
    }
}
