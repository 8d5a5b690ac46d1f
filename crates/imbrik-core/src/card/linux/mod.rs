//! Cards on Linux: sysfs, the mount table, the swap list, and the devices themselves.

mod device;
mod freeze;
mod frozen;
mod ioctl;
mod mounts;
mod sysfs;

use super::{Card, Host, Listing, MountedVolume, TargetCard};
use device::{DeviceStore, DeviceTarget};
pub use freeze::{Freezer, freeze_on_demand};
pub use frozen::{frozen_by, thaw_recorded};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
};
use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

/// The maximum number of nested filesystems.
const MOST_LAYERS: usize = 16;

/// The locations of the system's folders: tests use simulated machines.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Roots {
    /// `/sys`
    pub sys: PathBuf,
    /// `/proc`
    pub proc: PathBuf,
    /// `/dev`
    pub dev: PathBuf,
    /// `/run`
    pub run: PathBuf,
}

impl Default for Roots {
    fn default() -> Self {
        Self::under(Path::new("/"))
    }
}

impl Roots {
    /// The folders of a machine with its files under `root`.
    #[must_use]
    pub fn under(root: &Path) -> Self {
        let folder = |name| root.join(name);
        Self { sys: folder("sys"), proc: folder("proc"), dev: folder("dev"), run: folder("run") }
    }
}

/// The cards of this machine.
#[derive(Clone, Debug, Default)]
pub struct LinuxHost {
    roots: Roots,
}

impl LinuxHost {
    /// The cards that the machine under `roots` has.
    #[must_use]
    pub fn new(roots: Roots) -> Self {
        Self { roots }
    }

    /// The card of the device `name`, and whether the device is only a part of it; `None` if it is not a known block
    /// device.
    ///
    /// `name` is a kernel name such as `sdb` or `sdb1`.
    #[must_use]
    pub fn card_of(&self, name: &str) -> Option<(PathBuf, bool)> {
        let whole = sysfs::whole_device(&self.roots, name)?;
        let is_part = whole != name;
        Some((self.roots.dev.join(whole), is_part))
    }

    /// The card of the file at `path`, if it is on one.
    #[must_use]
    pub fn card_under(&self, path: &Path) -> Option<PathBuf> {
        let mount = self.mount_over(path)?;
        let name = sysfs::device_name(&self.roots, &mount)?;
        self.card_of(&name).map(|(card, _)| card)
    }
}

impl LinuxHost {
    /// The mounted filesystems of `card`, in the order in which they are to be frozen: a filesystem in a file of
    /// another one comes first.
    ///
    /// # Errors
    /// [`crate::Class::Refused`] when a mounted filesystem is on a layer, such as encryption, and not directly on the
    /// card.
    pub fn mounted_volumes(&self, card: &Card) -> Result<Vec<MountedVolume>> {
        sysfs::mounted_volumes(&self.roots, card)
    }

    /// The device of the filesystem at `path`, and its mount point; `None` if it has no device, as in memory or on the
    /// network.
    #[must_use]
    pub fn mounted_under(&self, path: &Path) -> Option<(String, PathBuf)> {
        let mount = self.mount_over(path)?;
        Some((sysfs::device_name(&self.roots, &mount)?, mount.at))
    }

    /// The cards that store the file at `path`: the one of its filesystem, and those of files and devices below it.
    #[must_use]
    pub fn cards_under(&self, path: &Path) -> Vec<PathBuf> {
        let mut cards = Vec::new();
        let mut paths = vec![path.to_owned()];
        for _ in 0..MOST_LAYERS {
            let Some(path) = paths.pop() else { break };
            let Some(mount) = self.mount_over(&path) else { continue };
            if let Some(upper) = mount.upper() {
                paths.push(upper);
                continue;
            }
            let mut device = sysfs::device_name(&self.roots, &mount);
            while let Some(name) = device.take().filter(|_| cards.len() < MOST_LAYERS) {
                cards.extend(self.card_of(&name).map(|(card, _)| card));
                if let Some(file) = sysfs::backing_file(&self.roots, &name) {
                    device = mounts::kernel_name(&self.roots, &file);
                    paths.extend(device.is_none().then_some(file));
                }
            }
        }
        cards
    }

    /// Returns whether the file at `path` is on another machine: its filesystem is one of a network, or another program
    /// stands for it.
    #[must_use]
    pub fn is_on_network(&self, path: &Path) -> bool {
        self.mount_over(path).is_some_and(|mount| mount.is_of_a_network())
    }

    fn mount_over(&self, path: &Path) -> Option<mounts::Mount> {
        let mounts = mounts::read(&self.roots).ok()?;
        let path = std::path::absolute(path).ok()?;
        let over = mounts.into_iter().filter(|mount| path.starts_with(&mount.at));
        over.max_by_key(|mount| mount.at.as_os_str().len())
    }
}

impl Host for LinuxHost {
    fn list(&self) -> Result<Listing> {
        sysfs::list(&self.roots)
    }

    fn open_source(&self, card: &Card) -> Result<Arc<dyn ReadAt>> {
        Ok(Arc::new(DeviceStore::open_read(card)?))
    }

    fn hold_source(&self, card: &Card) -> Result<Arc<dyn ReadAt>> {
        Ok(Arc::new(DeviceStore::open_read_alone(card)?))
    }

    fn open_target(&self, card: &Card) -> Result<Box<dyn TargetCard>> {
        Ok(Box::new(DeviceTarget::open(card, self.clone())?))
    }

    fn unmount(&self, card: &Card) -> Result<Vec<PathBuf>> {
        let mut mounts = card.mounts();
        // Nested mounts come first.
        mounts.sort_by_key(|at| std::cmp::Reverse(at.components().count()));
        for at in &mounts {
            rustix::mount::unmount(at, rustix::mount::UnmountFlags::empty())
                .map_err(|errno| Error::io(format!("unmounting {}", at.display()), errno.into()))?;
        }
        Ok(mounts)
    }
}
