//! Cards: the devices that images are saved from and restored to.
//!
//! A [`Host`] knows which cards there are and opens them: [`LinuxHost`] the real ones, [`Rack`]
//! their stand-ins. What may be written to is decided in one place, by [`standing`].

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

/// A card, or a disk that might be taken for one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Card {
    /// A name that stays the same when it is plugged in elsewhere, as far as the hardware tells.
    pub id: String,
    /// How a command names it: a device path, or `rack:SLOT`.
    pub path: PathBuf,
    /// Bytes it says it holds; nothing when a reader's slot is empty.
    pub size: ByteLen,
    /// The unit in which it reads and writes.
    pub sector: SectorSize,
    /// Maker and model, as it calls itself.
    pub model: Option<String>,
    /// Its serial number, or its reader's.
    pub serial: Option<String>,
    /// How it is connected.
    pub bus: Bus,
    /// Whether the system calls it removable.
    pub removable: bool,
    /// Whether it refuses to be written.
    pub read_only: bool,
    /// Its partitions as the system sees them.
    pub partitions: Vec<CardPartition>,
    /// What the system does with it right now.
    pub uses: Vec<Use>,
    /// A number that the kernel gives to each newly inserted medium.
    pub sequence: Option<u64>,
    /// Bytes a second when reading, where that is known.
    pub read_rate: Option<u64>,
    /// Bytes a second when writing, where that is known.
    pub write_rate: Option<u64>,
    /// Separate boot areas of an eMMC, which are not part of it.
    pub boot_areas: Vec<String>,
}

/// A partition as the system sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CardPartition {
    /// Its number.
    pub number: u32,
    /// The name of its device, such as `sdb1`.
    pub device: String,
    /// Where it lies.
    pub span: Span,
    /// The filesystem in it, when the system's database tells.
    pub filesystem: Option<String>,
    /// Its label, when the system's database tells.
    pub label: Option<String>,
    /// Where it is mounted.
    pub mounted_at: Vec<PathBuf>,
}

/// How a card is connected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Bus {
    /// USB, with the speed of the connection in megabits a second.
    Usb(Option<u32>),
    /// A slot for SD cards in the machine itself.
    SdSlot,
    /// An eMMC: soldered, or in a module.
    Emmc,
    /// NVMe.
    Nvme,
    /// SATA and its forerunners.
    Ata,
    /// SCSI that is none of the others.
    Scsi,
    /// A disk that the machine's host passes through or makes up.
    Virtual,
    /// A file that stands for a disk, by its path.
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

/// What the system does with a card or a partition of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Use {
    /// It is mounted.
    Mounted {
        /// The device, such as `sdb1`; of a layer above when there is one.
        device: String,
        /// Where.
        at: PathBuf,
    },
    /// It is swapped to.
    Swap {
        /// The device.
        device: String,
    },
    /// Another layer (LVM, RAID, encryption, a loop device) stands on it.
    Held {
        /// The device that is held.
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
    /// How many slots of readers are empty.
    pub empty_slots: usize,
}

/// Knows which cards there are, and opens them.
pub trait Host: Send + Sync {
    /// The cards there are now.
    ///
    /// # Errors
    /// When the system does not tell.
    fn list(&self) -> Result<Listing>;

    /// Opens a card for reading only.
    ///
    /// # Errors
    /// [`crate::Class::Denied`] without the right to, [`crate::Class::Gone`] when it is no longer there,
    /// [`crate::Class::Mismatch`] when another card is in its place.
    fn open_source(&self, card: &Card) -> Result<Arc<dyn ReadAt>>;

    /// The same for work that takes long: nothing can mount the card until the answer is dropped,
    /// unless something uses it already.
    ///
    /// # Errors
    /// As [`Host::open_source`].
    fn hold_source(&self, card: &Card) -> Result<Arc<dyn ReadAt>> {
        self.open_source(card)
    }

    /// Opens a card for writing, and keeps everything else off it until it is let go.
    ///
    /// # Errors
    /// [`crate::Class::Refused`] when something else uses it; else as [`Host::open_source`].
    fn open_target(&self, card: &Card) -> Result<Box<dyn TargetCard>>;

    /// Unmounts whatever is mounted from a card; answers from where.
    ///
    /// # Errors
    /// When something still uses one of them.
    fn unmount(&self, card: &Card) -> Result<Vec<PathBuf>>;
}

/// A card open for writing, with everything else kept off it.
pub trait TargetCard: Send + Sync {
    /// Its bytes. What was written is certain only after a flush.
    fn store(&self) -> &dyn WriteAt;

    /// The same card, read from its medium and not from the system's memory.
    ///
    /// # Errors
    /// When it cannot be opened that way.
    fn medium(&self) -> Result<Arc<dyn ReadAt>>;

    /// Lets the card go, and unmounts again what a desktop mounts in that moment; answers what
    /// that was.
    ///
    /// # Errors
    /// When something mounted cannot be unmounted: the card is whole, but not yet safe to take
    /// out.
    fn let_go(self: Box<Self>) -> Result<Vec<PathBuf>>;
}

impl Card {
    /// Where it is mounted, directly or through a layer above.
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

    /// Whether `other` is the same medium in the same place, as far as can be told without reading
    /// it.
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

    /// Bytes a second at which writing it is likely to go: what it told, else what cards on such
    /// a connection usually manage.
    #[must_use]
    pub fn likely_write_rate(&self) -> u64 {
        self.write_rate.unwrap_or(match self.bus {
            Bus::Usb(Some(..=100)) => 1_000_000,
            Bus::Usb(_) | Bus::SdSlot => 20_000_000,
            Bus::Emmc => 60_000_000,
            _ => 200_000_000,
        })
    }

    /// Bytes a second at which reading it is likely to go; see [`Card::likely_write_rate`].
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
