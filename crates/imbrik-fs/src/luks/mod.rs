//! LUKS: the header of an encrypted container, after the LUKS1 and LUKS2 on-disk formats. The content is encrypted and
//! unknown.

use crate::{Volume, VolumeKind, filesystem::Filesystem};
use imbrik_store::{ReadAt, bytes, error::Result, read_up_to, units::ByteOffset};

const LUKS: VolumeKind = VolumeKind::new("LUKS");

/// LUKS containers.
pub(crate) struct Luks;

impl Filesystem for Luks {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[LUKS]
    }

    /// The label (version 2 only) and the UUID are not encrypted.
    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        let header = read_up_to(store, ByteOffset::ZERO, 512)?;
        if !header.starts_with(b"LUKS\xba\xbe") {
            return Ok(None);
        }
        let label = match bytes::be_u16(&header, 6) {
            Some(2) => header.get(24..72).and_then(bytes::text),
            _ => None,
        };
        let uuid = header.get(168..208).and_then(bytes::text);
        Ok(Some(Volume { kind: LUKS, label, uuid, size: store.size() }))
    }
}
