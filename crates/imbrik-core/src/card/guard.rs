//! The guard: which cards may be written to, and why the others may not.

use super::{Bus, Card, Use};
use std::{
    fmt,
    path::{Path, PathBuf},
};

/// Permission to write a card, or the reason for refusing it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Standing {
    /// It may be written.
    Ready,
    /// It may be written once these are unmounted.
    Mounted(Vec<PathBuf>),
    /// It is a fixed disk: only with the explicit permission to write to one.
    Fixed(&'static str),
    /// It may not be written.
    Refused(Reason),
}

/// Why a card may not be written, whatever the options.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Reason {
    /// The running system uses it in this way.
    System(String),
    /// Another layer uses it.
    Held {
        /// The part of the card that is held.
        device: String,
        /// The layer's device.
        by: String,
    },
    /// It is write-protected.
    ReadOnly,
    /// The reader is empty.
    Empty,
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::System(what) => write!(f, "the running system is on it ({what})"),
            Self::Held { device, by } => write!(f, "{device} is in use by {by}"),
            Self::ReadOnly => f.write_str("it is write-protected"),
            Self::Empty => f.write_str("no card is in it"),
        }
    }
}

impl Standing {
    /// The reason why the card called `name` may not be written now; `None` if it may.
    #[must_use]
    pub fn refusal(&self, name: impl fmt::Display) -> Option<String> {
        match self {
            Self::Ready => None,
            Self::Mounted(mounts) => {
                let at = mounts.iter().map(|at| at.display().to_string()).collect::<Vec<_>>();
                Some(format!("{name} is mounted at {}", at.join(", ")))
            }
            Self::Fixed(why) => Some(format!("{name} is {why}, not a card")),
            Self::Refused(reason) => Some(format!("{name} cannot be written to: {reason}")),
        }
    }
}

/// Places without which the running system would stop.
fn is_of_the_system(at: &Path) -> bool {
    ["/usr", "/var", "/etc", "/nix"].iter().any(|place| at == Path::new(place))
        || at == Path::new("/")
        || at.starts_with("/boot")
        || at.starts_with("/efi")
        // Mount points of a live system, and of the disk that contains its file.
        || ["/cdrom", "/run/live", "/lib/live", "/usr/lib/live", "/run/initramfs", "/isodevice"]
            .iter()
            .any(|place| at.starts_with(place))
}

/// Decides whether `card` may be written; `allow_fixed` is the user's permission to write to a
/// fixed disk. Nothing permits writing to the disk of the running system.
#[must_use]
pub fn standing(card: &Card, allow_fixed: bool) -> Standing {
    let system = card.uses.iter().find_map(|used| match used {
        Use::Swap { device } => Some(format!("swap on {device}")),
        Use::Mounted { device, at } if is_of_the_system(at) => {
            Some(format!("{device} is mounted at {}", at.display()))
        }
        Use::Mounted { .. } | Use::Held { .. } => None,
    });
    if let Some(what) = system {
        return Standing::Refused(Reason::System(what));
    }
    let held = card.uses.iter().find_map(|used| match used {
        Use::Held { device, by } => Some((device.clone(), by.clone())),
        Use::Mounted { .. } | Use::Swap { .. } => None,
    });
    if let Some((device, by)) = held {
        return Standing::Refused(Reason::Held { device, by });
    }
    if card.size.is_zero() {
        return Standing::Refused(Reason::Empty);
    }
    if card.read_only {
        return Standing::Refused(Reason::ReadOnly);
    }
    if let Some(why) = why_fixed(card)
        && !allow_fixed
    {
        return Standing::Fixed(why);
    }
    match card.mounts() {
        mounts if mounts.is_empty() => Standing::Ready,
        mounts => Standing::Mounted(mounts),
    }
}

/// The reason why a card counts as a fixed disk; `None` for a removable one.
fn why_fixed(card: &Card) -> Option<&'static str> {
    match card.bus {
        Bus::SdSlot | Bus::Rack => None,
        _ if card.removable => None,
        Bus::Emmc => Some("an eMMC, usually soldered"),
        Bus::Usb(_) => Some("a USB disk that is not marked as removable"),
        Bus::Nvme => Some("an NVMe disk"),
        Bus::Ata => Some("a SATA disk"),
        Bus::Virtual => Some("a virtual disk"),
        Bus::Loop(_) => Some("a loop device"),
        Bus::Scsi | Bus::Other => Some("a fixed disk"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::units::{ByteLen, SectorSize};

    fn card(bus: Bus, removable: bool, uses: Vec<Use>) -> Card {
        Card {
            id: "usb-1".into(),
            path: "/dev/sdb".into(),
            size: ByteLen::mib(1000),
            sector: SectorSize::B512,
            model: None,
            serial: None,
            bus,
            removable,
            read_only: false,
            partitions: Vec::new(),
            uses,
            sequence: None,
            read_rate: None,
            write_rate: None,
            boot_areas: Vec::new(),
        }
    }

    fn mounted(at: &str) -> Use {
        Use::Mounted { device: "sdb1".into(), at: at.into() }
    }

    #[test]
    fn nothing_permits_writing_to_the_running_system() {
        let swap = Use::Swap { device: "sdb2".into() };
        let places = ["/", "/boot/efi", "/boot", "/usr", "/cdrom", "/run/live/medium"];
        for used in places.map(mounted).into_iter().chain([swap]) {
            let card = card(Bus::Usb(None), true, vec![mounted("/media/a"), used]);
            for allow_fixed in [false, true] {
                let found = standing(&card, allow_fixed);
                assert!(matches!(found, Standing::Refused(Reason::System(_))), "{found:?}");
            }
        }
    }

    #[test]
    fn a_mounted_card_may_be_written_once_it_is_unmounted() {
        let card = card(Bus::SdSlot, false, vec![mounted("/media/b"), mounted("/media/a")]);
        let expected = Standing::Mounted(vec!["/media/a".into(), "/media/b".into()]);
        assert_eq!(standing(&card, false), expected);
    }

    #[test]
    fn fixed_disk_needs_permission_and_a_disk_in_use_is_refused() {
        let held = Use::Held { device: "sdb1".into(), by: "dm-0".into() };
        for bus in [Bus::Nvme, Bus::Virtual, Bus::Emmc, Bus::Usb(Some(5000))] {
            let fixed = card(bus.clone(), false, vec![]);
            assert!(matches!(standing(&fixed, false), Standing::Fixed(_)));
            assert_eq!(standing(&fixed, true), Standing::Ready);
            let held = card(bus, false, vec![held.clone()]);
            assert!(matches!(standing(&held, true), Standing::Refused(Reason::Held { .. })));
        }
    }
}
