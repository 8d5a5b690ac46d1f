//! btrfs: the first superblock, at 64 KiB.

use crate::{Volume, VolumeKind, filesystem::Filesystem, ids::uuid_text};
use imbrik_store::{
    ReadAt, bytes,
    error::Result,
    read_up_to,
    units::{ByteLen, ByteOffset},
};

const BTRFS: VolumeKind = VolumeKind::new("btrfs");

/// btrfs volumes.
pub(crate) struct Btrfs;

impl Filesystem for Btrfs {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[BTRFS]
    }

    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        let superblock = read_up_to(store, ByteOffset::new(0x1_0000), 4096)?;
        if superblock.get(0x40..0x48) != Some(b"_BHRfS_M") {
            return Ok(None);
        }
        Ok(Some(Volume {
            kind: BTRFS,
            label: superblock.get(0x12b..0x22b).and_then(bytes::text),
            uuid: bytes::array(&superblock, 0x20).and_then(uuid_text),
            size: ByteLen::new(bytes::le_u64(&superblock, 0x70).unwrap_or(0)),
        }))
    }
}
