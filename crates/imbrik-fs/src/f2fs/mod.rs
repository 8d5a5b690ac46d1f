//! F2FS: the first superblock, at 1 KiB.

use crate::{Volume, VolumeKind, filesystem::Filesystem, ids::uuid_text};
use imbrik_store::{
    ReadAt, bytes,
    error::Result,
    read_up_to,
    units::{ByteLen, ByteOffset},
};

const F2FS: VolumeKind = VolumeKind::new("F2FS");

/// F2FS volumes.
pub(crate) struct F2fs;

impl Filesystem for F2fs {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[F2FS]
    }

    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        let superblock = read_up_to(store, ByteOffset::new(1024), 2048)?;
        if bytes::le_u32(&superblock, 0) != Some(0xf2f5_2010) {
            return Ok(None);
        }
        let block = bytes::le_u32(&superblock, 16).and_then(|log| 1u64.checked_shl(log));
        let size =
            bytes::le_u64(&superblock, 36).zip(block).and_then(|(n, len)| n.checked_mul(len));
        Ok(Some(Volume {
            kind: F2FS,
            label: superblock.get(124..124 + 1024).and_then(bytes::text_utf16),
            uuid: bytes::array(&superblock, 108).and_then(uuid_text),
            size: ByteLen::new(size.unwrap_or(0)),
        }))
    }
}
