//! Estimates whether an image will fit where it is to be written.

use super::spool::temporary;
use imbrik_store::{
    error::{Error, Result},
    units::ByteLen,
};
use std::{fs::File, path::Path};

const TMPFS: u64 = 0x0102_1994;
const RAMFS: u64 = 0x8584_58f6;
const MSDOS: u64 = 0x4d44;

/// The filesystem of an image's destination.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OutputDisk {
    /// Bytes that the caller may still write there.
    pub free: ByteLen,
    /// The largest file it can hold, where that is known to be small.
    pub largest_file: Option<ByteLen>,
    /// True if it lives in memory and is gone when the machine is switched off.
    pub in_memory: bool,
}

/// The reason why a file of some size can't be written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Limit {
    /// The filesystem can hold no file larger than this.
    LargestFile(ByteLen),
    /// The free space in bytes.
    Free(ByteLen),
}

/// Returns whether a file in `folder` could have blocks of the disk in common with `image`.
#[must_use]
pub fn shares_blocks(image: &Path, folder: &Path) -> bool {
    let (Ok(image), Ok(there)) = (File::open(image), temporary(folder)) else { return false };
    rustix::fs::ioctl_ficlone(&there, &image).is_ok()
}

/// Returns whether files in `folder` can have blocks of the disk in common.
#[must_use]
pub fn can_share_blocks(folder: &Path) -> bool {
    let (Ok(one), Ok(other)) = (temporary(folder), temporary(folder)) else { return false };
    rustix::fs::ioctl_ficlone(&other, &one).is_ok()
}

impl OutputDisk {
    /// Inspects the filesystem of `folder`.
    ///
    /// # Errors
    /// When the system can't report it.
    pub fn of(folder: &Path) -> Result<Self> {
        let failed = |errno: rustix::io::Errno| {
            Error::io(format!("looking at {}", folder.display()), errno.into())
        };
        let stat = rustix::fs::statvfs(folder).map_err(failed)?;
        let kind = rustix::fs::statfs(folder).map_err(failed)?.f_type;
        let kind = u64::try_from(kind).unwrap_or(0) & 0xffff_ffff;
        Ok(Self {
            free: ByteLen::new(stat.f_frsize.saturating_mul(stat.f_bavail)),
            largest_file: (kind == MSDOS).then_some(ByteLen::new(u32::MAX.into())),
            in_memory: matches!(kind, TMPFS | RAMFS),
        })
    }

    /// The reason why a file of `len` can't be written here; `None` if it can.
    #[must_use]
    pub fn limit_for(&self, len: ByteLen) -> Option<Limit> {
        match self.largest_file {
            Some(largest) if len > largest => Some(Limit::LargestFile(largest)),
            _ if len > self.free => Some(Limit::Free(self.free)),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn file_size_limit_is_checked_before_free_space() {
        let place = OutputDisk {
            free: ByteLen::mib(100),
            largest_file: Some(ByteLen::mib(50)),
            in_memory: false,
        };
        assert_eq!(place.limit_for(ByteLen::mib(60)), Some(Limit::LargestFile(ByteLen::mib(50))));
        assert_eq!(place.limit_for(ByteLen::mib(50)), None);
        let roomy = OutputDisk { largest_file: None, ..place };
        assert_eq!(roomy.limit_for(ByteLen::mib(101)), Some(Limit::Free(ByteLen::mib(100))));
    }
}
