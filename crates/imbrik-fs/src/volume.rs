//! The description of a volume, from its own metadata.

use imbrik_store::units::ByteLen;
use std::fmt;

/// The description of a volume, from its own metadata.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Volume {
    /// The filesystem, or another kind.
    pub kind: VolumeKind,
    /// Its label; `None` when it has none.
    pub label: Option<String>,
    /// Its id, written as the system's tools write it; `None` when it has none.
    pub uuid: Option<String>,
    /// The recorded length. It can exceed that of the partition if one of them is wrong.
    pub size: ByteLen,
}

/// A kind of volume, by the name that people give it. Two are the same when their names are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct VolumeKind(&'static str);

impl VolumeKind {
    /// A kind called `name`: only filesystems in the registry define kinds.
    pub(crate) const fn new(name: &'static str) -> Self {
        Self(name)
    }

    /// Its name: `ext4`, `FAT32`.
    #[must_use]
    pub const fn name(self) -> &'static str {
        self.0
    }
}

impl fmt::Display for VolumeKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.0)
    }
}
