//! Cards: the devices that images are saved from and restored to.
//!
//! A [`Host`] lists cards and opens them: [`LinuxHost`] real ones, [`Rack`] simulated ones. [`standing`] is the only
//! place that decides whether a card may be written to.

mod freeze;
mod guard;
mod linux;
mod rack;

pub use freeze::{Freeze, MountedVolume};
pub use guard::{Reason, Standing, standing};
pub use linux::{Freezer, LinuxHost, Roots, freeze_on_demand, frozen_by, thaw_recorded};
pub use rack::Rack;

use imbrik_store::{
    ReadAt, WriteAt,
    error::Result,
    units::{ByteLen, SectorSize, Span},
};
use std::{fmt, path::PathBuf, sync::Arc};

/// A card, or a disk that could be mistaken for one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Card {
    /// An identifier that stays the same in other ports, if the hardware provides one.
    pub id: String,
    /// Its name for commands: a device path, or `rack:SLOT`.
    pub path: PathBuf,
    /// Its size; zero for an empty slot of a reader.
    pub size: ByteLen,
    /// Its sector size.
    pub sector: SectorSize,
    /// Vendor and model, as reported by the device.
    pub model: Option<String>,
    /// Its serial number, or that of the reader.
    pub serial: Option<String>,
    /// The kind of connection.
    pub bus: Bus,
    /// True if the system reports it as removable.
    pub removable: bool,
    /// True if it is write-protected.
    pub read_only: bool,
    /// Its partitions as reported by the system.
    pub partitions: Vec<CardPartition>,
    /// Its current uses.
    pub uses: Vec<Use>,
    /// A number that the kernel assigns to each inserted medium.
    pub sequence: Option<u64>,
    /// Read rate in bytes per second, if known.
    pub read_rate: Option<u64>,
    /// Write rate in bytes per second, if known.
    pub write_rate: Option<u64>,
    /// Separate boot areas of an eMMC, which are not part of it.
    pub boot_areas: Vec<String>,
}

/// A partition as reported by the system.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CardPartition {
    /// Its number.
    pub number: u32,
    /// The name of its device, such as `sdb1`.
    pub device: String,
    /// Its location.
    pub span: Span,
    /// Its filesystem, from the system's database.
    pub filesystem: Option<String>,
    /// Its label, from the system's database.
    pub label: Option<String>,
    /// Its mount points.
    pub mounted_at: Vec<PathBuf>,
}

/// The connection of a card.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Bus {
    /// USB, with its speed in megabits per second.
    Usb(Option<u32>),
    /// A slot for SD cards in the machine itself.
    SdSlot,
    /// An eMMC: soldered, or in a module.
    Emmc,
    /// NVMe.
    Nvme,
    /// SATA or PATA.
    Ata,
    /// Other SCSI devices.
    Scsi,
    /// A virtual disk.
    Virtual,
    /// A loop device, with the path of its file.
    Loop(PathBuf),
    /// A slot of a rack.
    Rack,
    /// Anything else.
    Other,
}

impl fmt::Display for Bus {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Usb(None) => f.write_str("USB"),
            Self::Usb(Some(speed @ 1000..)) => {
                write!(f, "USB, {} Gbit/s", f64::from(*speed) / 1000.0)
            }
            Self::Usb(Some(speed)) => write!(f, "USB, {speed} Mbit/s"),
            Self::SdSlot => f.write_str("SD slot"),
            Self::Emmc => f.write_str("eMMC"),
            Self::Nvme => f.write_str("NVMe"),
            Self::Ata => f.write_str("SATA"),
            Self::Scsi => f.write_str("SCSI"),
            Self::Virtual => f.write_str("virtual disk"),
            Self::Loop(_) => f.write_str("loop device"),
            Self::Rack => f.write_str("rack"),
            Self::Other => f.write_str("other"),
        }
    }
}

/// A use of a card or of one of its partitions.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Use {
    /// Mounted.
    Mounted {
        /// The device, such as `sdb1`, or that of a layer above.
        device: String,
        /// The mount point.
        at: PathBuf,
    },
    /// Used as swap.
    Swap {
        /// The device.
        device: String,
    },
    /// Used by another layer (LVM, RAID, encryption, a loop device).
    Held {
        /// The device in use.
        device: String,
        /// The device of the layer.
        by: String,
    },
}

/// The cards of a host.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Listing {
    /// Cards and disks.
    pub cards: Vec<Card>,
    /// Count of empty slots of readers.
    pub empty_slots: usize,
}

/// Lists cards and opens them.
pub trait Host: Send + Sync {
    /// The connected cards.
    ///
    /// # Errors
    /// When the system can't list them.
    fn list(&self) -> Result<Listing>;

    /// Opens a card for reading only.
    ///
    /// # Errors
    /// [`crate::Class::Denied`] without permission, [`crate::Class::Gone`] when it is no longer connected,
    /// [`crate::Class::Mismatch`] when another card is in its place.
    fn open_source(&self, card: &Card) -> Result<Arc<dyn ReadAt>>;

    /// Opens a card for a long read: it can't be mounted until the result is dropped, unless it is in use already.
    ///
    /// # Errors
    /// As [`Host::open_source`].
    fn hold_source(&self, card: &Card) -> Result<Arc<dyn ReadAt>> {
        self.open_source(card)
    }

    /// Opens a card for writing, exclusively, until it is released.
    ///
    /// # Errors
    /// [`crate::Class::Refused`] when it is in use; else as [`Host::open_source`].
    fn open_target(&self, card: &Card) -> Result<Box<dyn TargetCard>>;

    /// Unmounts all volumes of a card. Returns their mount points.
    ///
    /// # Errors
    /// When one of them is busy.
    fn unmount(&self, card: &Card) -> Result<Vec<PathBuf>>;
}

/// A card that is open for writing, exclusively.
pub trait TargetCard: Send + Sync {
    /// Its content. Written data are durable only after a flush.
    fn store(&self) -> &dyn WriteAt;

    /// The same card, read from the medium instead of the page cache.
    ///
    /// # Errors
    /// When it can't be opened that way.
    fn medium(&self) -> Result<Arc<dyn ReadAt>>;

    /// Releases the card, and unmounts volumes that a desktop mounts at that time. Returns their mount points.
    ///
    /// # Errors
    /// When a volume can't be unmounted: the content is correct, but the card is not yet safe to remove.
    fn let_go(self: Box<Self>) -> Result<Vec<PathBuf>>;
}

impl Card {
    /// Its mount points, directly or through another layer.
    #[must_use]
    pub fn mounts(&self) -> Vec<PathBuf> {
        let mounts = self.uses.iter().filter_map(|used| match used {
            Use::Mounted { at, .. } => Some(at.clone()),
            Use::Swap { .. } | Use::Held { .. } => None,
        });
        let mut mounts: Vec<_> = mounts.collect();
        mounts.sort();
        mounts.dedup();
        mounts
    }

    /// Returns whether `other` is the same medium in the same place, according to properties that are available without
    /// reading it.
    #[must_use]
    pub fn is_same_medium_as(&self, other: &Self) -> bool {
        let facts = |card: &Self| {
            (
                card.path.clone(),
                card.size,
                card.model.clone(),
                card.serial.clone(),
                card.sequence,
                card.sector,
            )
        };
        facts(self) == facts(other)
    }

    /// The expected write rate in bytes per second: the known one, or the usual one of such a connection.
    #[must_use]
    pub fn likely_write_rate(&self) -> u64 {
        self.write_rate.unwrap_or(match self.bus {
            Bus::Usb(Some(..=100)) => 1_000_000,
            Bus::Usb(_) | Bus::SdSlot => 20_000_000,
            Bus::Emmc => 60_000_000,
            _ => 200_000_000,
        })
    }

    /// The expected read rate in bytes per second; see [`Card::likely_write_rate`].
    #[must_use]
    pub fn likely_read_rate(&self) -> u64 {
        self.read_rate.unwrap_or(match self.bus {
            Bus::Usb(Some(..=100)) => 1_000_000,
            Bus::Usb(Some(..=1000)) => 35_000_000,
            Bus::Usb(_) | Bus::SdSlot => 80_000_000,
            Bus::Emmc => 120_000_000,
            _ => 400_000_000,
        })
    }
}
