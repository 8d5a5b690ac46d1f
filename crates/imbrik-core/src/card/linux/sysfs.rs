//! Block devices in sysfs.

use super::{
    Roots,
    mounts::{self, Mount},
};
use crate::card::{Bus, Card, CardPartition, Listing, MountedVolume, Use};
use imbrik_store::{
    error::{Error, Result},
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
};

/// sysfs counts in sectors of this many bytes, whatever the device's own are.
const UNIT: u64 = 512;
/// The maximum number of nested layers: more would be a loop in a simulated tree.
const MOST_LAYERS: u32 = 16;

/// All cards and disks, and the number of empty slots.
pub(super) fn list(roots: &Roots) -> Result<Listing> {
    let usage = Usage::read(roots)?;
    let folder = roots.sys.join("block");
    let failed = |e| Error::io(format!("reading {}", folder.display()), e);
    let mut names = Vec::new();
    for entry in fs::read_dir(&folder).map_err(failed)? {
        names.extend(entry.map_err(failed)?.file_name().into_string());
    }
    names.sort_by_key(|name| (name.len(), name.clone()));
    let mut listing = Listing::default();
    for name in names.iter().filter(|name| may_be_a_card(name)) {
        let card = card(roots, &usage, name, &names);
        match (card.size.is_zero(), &card.bus) {
            (false, _) => listing.cards.push(card),
            (true, Bus::Loop(_)) => {}
            (true, _) => listing.empty_slots = listing.empty_slots.saturating_add(1),
        }
    }
    tell_equal_ids_apart(&mut listing.cards);
    Ok(listing)
}

/// Everything but layers over other devices, memory, and parts of an eMMC.
fn may_be_a_card(name: &str) -> bool {
    let layers = ["dm-", "md", "zram", "ram", "sr", "fd", "nbd", "mtd", "bcache", "zd"];
    !layers.iter().any(|layer| name.starts_with(layer)) && emmc_of(name).is_none()
}

/// The eMMC that a boot or protected area belongs to: `mmcblk0boot1` is one of `mmcblk0`.
fn emmc_of(name: &str) -> Option<&str> {
    let inside = name.strip_prefix("mmcblk")?;
    let digits = inside.find(|c: char| !c.is_ascii_digit())?;
    let area = inside.get(digits..)?;
    let whole = name.len().checked_sub(area.len())?;
    (area.starts_with("boot") || area.starts_with("rpmb")).then(|| name.get(..whole))?
}

/// A file of one line, `None` when it is missing or empty.
fn line(path: &Path) -> Option<String> {
    let text = String::from_utf8_lossy(&fs::read(path).ok()?).trim().to_owned();
    (!text.is_empty()).then_some(text)
}

fn number<T: std::str::FromStr>(path: &Path) -> Option<T> {
    line(path)?.parse().ok()
}

fn card(roots: &Roots, usage: &Usage, name: &str, all: &[String]) -> Card {
    let folder = roots.sys.join("block").join(name);
    let device = folder.join("device");
    let real = fs::canonicalize(&folder).unwrap_or_else(|_| folder.clone());
    let usb = usb_device(&real);
    let bus = bus(&folder, &real, name, usb.as_deref());
    let of_usb = |file| usb.as_ref().and_then(|usb| line(&usb.join(file)));
    let vendor = line(&device.join("vendor")).filter(|vendor| !vendor.starts_with("0x"));
    let model = line(&device.join("model"))
        .or_else(|| line(&device.join("name")))
        .or_else(|| of_usb("product"));
    let serial = of_usb("serial")
        .or_else(|| line(&device.join("serial")))
        .or_else(|| line(&folder.join("serial")));
    let partitions = partitions(roots, usage, &folder);
    let devices: Vec<_> = std::iter::once(name.to_owned())
        .chain(partitions.iter().map(|part| part.device.clone()))
        .collect();
    let mut card = Card {
        id: String::new(),
        path: roots.dev.join(name),
        size: sectors(&folder.join("size")),
        sector: number(&folder.join("queue/logical_block_size"))
            .and_then(SectorSize::new)
            .unwrap_or(SectorSize::B512),
        model: match (vendor, model) {
            (Some(vendor), Some(model)) => Some(format!("{vendor} {model}")),
            (vendor, model) => model.or(vendor),
        },
        serial,
        removable: number::<u8>(&folder.join("removable")) == Some(1),
        read_only: number::<u8>(&folder.join("ro")) == Some(1),
        uses: devices.iter().flat_map(|device| usage.of(roots, device, MOST_LAYERS)).collect(),
        partitions,
        sequence: number(&folder.join("diskseq")),
        read_rate: None,
        write_rate: None,
        boot_areas: all
            .iter()
            .filter(|area| emmc_of(area) == Some(name) && area.contains("boot"))
            .cloned()
            .collect(),
        bus,
    };
    card.id = id_of(&card, name, &real, usb.as_deref());
    card
}

fn sectors(path: &Path) -> ByteLen {
    ByteLen::new(number::<u64>(path).unwrap_or(0).saturating_mul(UNIT))
}

/// The USB device above a block device: the nearest folder that has a vendor number.
fn usb_device(real: &Path) -> Option<PathBuf> {
    real.ancestors().find(|folder| folder.join("idVendor").exists()).map(Path::to_owned)
}

fn bus(folder: &Path, real: &Path, name: &str, usb: Option<&Path>) -> Bus {
    if let Some(usb) = usb {
        return Bus::Usb(number(&usb.join("speed")));
    }
    if name.starts_with("loop") {
        return Bus::Loop(line(&folder.join("loop/backing_file")).unwrap_or_default().into());
    }
    let path = real.to_string_lossy();
    match name {
        _ if name.starts_with("mmcblk") => match line(&folder.join("device/type")).as_deref() {
            Some("MMC") => Bus::Emmc,
            _ => Bus::SdSlot,
        },
        _ if name.starts_with("nvme") => Bus::Nvme,
        _ if name.starts_with("vd") || name.starts_with("xvd") => Bus::Virtual,
        _ if path.contains("/virtio") || path.contains("/vbd-") => Bus::Virtual,
        _ if path.contains("/ata") => Bus::Ata,
        _ if name.starts_with("sd") => Bus::Scsi,
        _ => Bus::Other,
    }
}

/// An id made of the hardware's own description, or else of its port.
fn id_of(card: &Card, name: &str, real: &Path, usb: Option<&Path>) -> String {
    let serial = card.serial.as_deref().map(slug).filter(|serial| !serial.is_empty());
    let place = usb.and_then(Path::file_name).map(|place| slug(&place.to_string_lossy()));
    match (&card.bus, serial, place) {
        (Bus::Usb(_), Some(serial), _) => {
            // A reader with several slots has one serial number; the slot is the unit's last digit.
            let unit = real
                .ancestors()
                .filter_map(|folder| folder.file_name()?.to_str())
                .find(|part| part.split(':').count() == 4 && !part.contains('.'))
                .and_then(|address| address.rsplit(':').next())
                .filter(|unit| *unit != "0")
                .map_or(String::new(), |unit| format!("-slot{unit}"));
            format!("usb-{serial}{unit}")
        }
        (Bus::Usb(_), None, Some(place)) => format!("usb-at-{place}"),
        (Bus::SdSlot, Some(serial), _) => {
            format!("sd-{}", serial.trim_start_matches("0x"))
        }
        (Bus::Emmc, Some(serial), _) => format!("emmc-{}", serial.trim_start_matches("0x")),
        (Bus::Nvme, Some(serial), _) => format!("nvme-{serial}"),
        (_, Some(serial), _) => format!("disk-{serial}"),
        (_, None, _) => format!("disk-{name}"),
    }
}

/// Letters and digits in lowercase, runs of anything else as one hyphen.
fn slug(text: &str) -> String {
    let words = text.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
    words.collect::<Vec<_>>().join("-").to_ascii_lowercase()
}

fn tell_equal_ids_apart(cards: &mut [Card]) {
    let mut seen: BTreeMap<String, u32> = BTreeMap::new();
    for card in cards.iter() {
        let count = seen.entry(card.id.clone()).or_default();
        *count = count.saturating_add(1);
    }
    for card in cards.iter_mut().filter(|card| seen.get(&card.id).is_some_and(|n| *n > 1)) {
        let name = card.path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        card.id = format!("{}-at-{name}", card.id);
    }
}

fn partitions(roots: &Roots, usage: &Usage, folder: &Path) -> Vec<CardPartition> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let parts = entries.filter_map(|entry| {
        let path = entry.path();
        let device = entry.file_name().into_string().ok()?;
        let start = ByteOffset::new(sectors(&path.join("start")).get());
        let known = line(&path.join("dev")).map(|dev| udev_facts(roots, &dev)).unwrap_or_default();
        Some(CardPartition {
            number: number(&path.join("partition"))?,
            span: Span::new(start, sectors(&path.join("size")))?,
            filesystem: known.get("ID_FS_TYPE").cloned(),
            label: known.get("ID_FS_LABEL").cloned(),
            mounted_at: usage.mounts_of(&device),
            device,
        })
    });
    let mut parts: Vec<_> = parts.collect();
    parts.sort_by_key(|part| part.number);
    parts
}

/// The properties of device `major:minor` in the device database, which is readable for all users.
fn udev_facts(roots: &Roots, dev: &str) -> BTreeMap<String, String> {
    let text = fs::read(roots.run.join("udev/data").join(format!("b{dev}"))).unwrap_or_default();
    let text = String::from_utf8_lossy(&text).into_owned();
    let facts = text.lines().filter_map(|line| line.strip_prefix("E:")?.split_once('='));
    facts.map(|(key, value)| (key.to_owned(), value.to_owned())).collect()
}

/// The whole device that `name` is or is a part of; `None` when sysfs does not know it.
pub(super) fn whole_device(roots: &Roots, name: &str) -> Option<String> {
    let block = roots.sys.join("block");
    if block.join(name).exists() {
        return Some(name.to_owned());
    }
    let wholes = fs::read_dir(&block).ok()?.flatten();
    let whole = wholes.into_iter().find(|whole| whole.path().join(name).join("partition").exists());
    whole?.file_name().into_string().ok()
}

/// The kernel's name of the device that is mounted.
pub(super) fn device_name(roots: &Roots, mount: &Mount) -> Option<String> {
    let by_number = Usage::names_by_number(roots).remove(&mount.number);
    by_number.or_else(|| mounts::kernel_name(roots, &mount.source))
}

/// Returns whether a mount is visible at its mount point: another one may cover it. Filesystems over several devices
/// have virtual numbers and can't be compared.
fn is_seen(mount: &Mount, is_of_a_device: bool) -> bool {
    let Ok(found) = rustix::fs::stat(&mount.at) else { return false };
    let (major, minor) = (rustix::fs::major(found.st_dev), rustix::fs::minor(found.st_dev));
    !is_of_a_device || format!("{major}:{minor}") == mount.number
}

/// The filesystems of `card` that are mounted, the one that was mounted last first.
pub(super) fn mounted_volumes(roots: &Roots, card: &Card) -> Result<Vec<MountedVolume>> {
    let names = Usage::names_by_number(roots);
    let mut volumes: Vec<MountedVolume> = Vec::new();
    for mount in mounts::read(roots)? {
        let by_number = names.get(&mount.number).cloned();
        let is_known = by_number.is_some();
        let Some(device) = by_number.or_else(|| mounts::kernel_name(roots, &mount.source)) else {
            continue;
        };
        // Of several places, the first: the others are parts of it that are shown elsewhere, too.
        if volumes.iter().any(|known| known.device == device) || !is_seen(&mount, is_known) {
            continue;
        }
        if let Some(span) = place_on(roots, card, &device, MOST_LAYERS) {
            volumes.push(MountedVolume { at: mount.at, device, kind: mount.kind, span });
        }
    }
    volumes.reverse();
    let behind_layers = card.uses.iter().find_map(|used| match used {
        Use::Mounted { device, at } if !volumes.iter().any(|one| one.device == *device) => {
            Some(format!("{} ({device}) is covered by another mount or layer", at.display()))
        }
        _ => None,
    });
    match behind_layers {
        Some(what) => Err(Error::refused(what)),
        None => Ok(volumes),
    }
}

/// The file that the loop device `name` stands for.
pub(super) fn backing_file(roots: &Roots, name: &str) -> Option<PathBuf> {
    let whole = whole_device(roots, name)?;
    line(&roots.sys.join("block").join(whole).join("loop/backing_file")).map(PathBuf::from)
}

/// The range of device `name` on `card`: all of it, a partition, or a loop device over either.
fn place_on(roots: &Roots, card: &Card, name: &str, layers: u32) -> Option<Span> {
    let layers = layers.checked_sub(1)?;
    if card.path.file_name().is_some_and(|whole| whole == name) {
        return Some(Span::whole(card.size));
    }
    if let Some(part) = card.partitions.iter().find(|part| part.device == name) {
        return Some(part.span);
    }
    let folder = roots.sys.join("block").join(name);
    let below = backing_file(roots, name)?;
    let below = place_on(roots, card, &mounts::kernel_name(roots, &below)?, layers)?;
    let ahead = ByteLen::new(number(&folder.join("loop/offset"))?);
    Span::new(below.start().checked_add(ahead)?, sectors(&folder.join("size")))
        .filter(|span| span.end() <= below.end())
}

/// The system's use of its devices, by their kernel names.
struct Usage {
    mounts: BTreeMap<String, BTreeSet<PathBuf>>,
    swaps: BTreeSet<String>,
    loops: BTreeMap<String, Vec<String>>,
}

impl Usage {
    fn read(roots: &Roots) -> Result<Self> {
        let names = Self::names_by_number(roots);
        let mut mounts: BTreeMap<String, BTreeSet<PathBuf>> = BTreeMap::new();
        for mount in mounts::read(roots)? {
            // The number is made up for filesystems over several devices, the source may be a
            // name of another namespace: whichever of the two leads to a device counts.
            let by_number = names.get(&mount.number).cloned();
            let by_source = mounts::kernel_name(roots, &mount.source);
            for name in by_number.into_iter().chain(by_source) {
                mounts.entry(name).or_default().insert(mount.at.clone());
            }
        }
        let swaps = mounts::swaps(roots);
        let swaps = swaps.iter().filter_map(|path| mounts::kernel_name(roots, path)).collect();
        let mut loops: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for name in names.values().filter(|name| name.starts_with("loop")) {
            let file = line(&roots.sys.join("block").join(name).join("loop/backing_file"));
            let on = file.and_then(|file| mounts::kernel_name(roots, Path::new(&file)));
            if let Some(on) = on {
                loops.entry(on).or_default().push(name.clone());
            }
        }
        Ok(Self { mounts, swaps, loops })
    }

    /// `8:17` to `sdb1`, for all devices and partitions.
    fn names_by_number(roots: &Roots) -> BTreeMap<String, String> {
        let mut names = BTreeMap::new();
        let wholes = fs::read_dir(roots.sys.join("block")).into_iter().flatten().flatten();
        for whole in wholes {
            let parts = fs::read_dir(whole.path()).into_iter().flatten().flatten();
            let parts = parts.filter(|part| part.path().join("partition").exists());
            let parts: Vec<_> = parts.map(|part| part.path()).collect();
            for path in std::iter::once(whole.path()).chain(parts) {
                if let (Some(dev), Some(name)) = (line(&path.join("dev")), path.file_name()) {
                    names.insert(dev, name.to_string_lossy().into_owned());
                }
            }
        }
        names
    }

    fn mounts_of(&self, device: &str) -> Vec<PathBuf> {
        self.mounts.get(device).into_iter().flatten().cloned().collect()
    }

    /// The uses of `device`, and of all layers above it.
    fn of(&self, roots: &Roots, device: &str, layers: u32) -> Vec<Use> {
        let mut uses = Vec::new();
        for at in self.mounts_of(device) {
            uses.push(Use::Mounted { device: device.to_owned(), at });
        }
        if self.swaps.contains(device) {
            uses.push(Use::Swap { device: device.to_owned() });
        }
        let Some(layers) = layers.checked_sub(1) else { return uses };
        let block = roots.sys.join("block");
        let whole = whole_device(roots, device).unwrap_or_else(|| device.to_owned());
        let folder =
            if whole == device { block.join(device) } else { block.join(whole).join(device) };
        let holders = fs::read_dir(folder.join("holders")).into_iter().flatten().flatten();
        let holders = holders.filter_map(|holder| holder.file_name().into_string().ok());
        let loops = self.loops.get(device).into_iter().flatten().cloned();
        for by in holders.chain(loops) {
            uses.extend(self.of(roots, &by, layers));
            uses.push(Use::Held { device: device.to_owned(), by });
        }
        uses
    }
}
