//! The content of an image, verified by its checksums: data that don't match are errors.

use super::{
    open::Image,
    tile::{TILE, TileData, TileDigest, tile_span},
};
use imbrik_store::{
    Buffer, Keep, Pages, Pool, ReadAt, check_range,
    error::{Error, Result},
    exact::Exact as _,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::sync::Arc;

/// The size of the cache of verified tiles.
const KEPT: ByteLen = ByteLen::mib(64);

/// The content of an image, with each tile verified before its bytes are returned: by the checksum of its frame, or by
/// its digest if it is not in a frame.
pub(crate) struct Proved {
    content: Arc<dyn ReadAt>,
    digests: Vec<TileDigest>,
    /// True if the container has no checksums.
    is_raw: bool,
    tiles: Pages,
    pool: Pool,
}

impl Proved {
    /// That of `image`; `None` when it has no digests.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when they are invalid.
    pub(crate) fn of(image: &Image) -> Result<Option<Self>> {
        let Some(manifest) = image.manifest() else { return Ok(None) };
        Ok(Some(Self {
            content: Arc::clone(image.content()),
            digests: manifest.tiles.digests()?,
            is_raw: image.container().is_raw(),
            tiles: Pages::new(KEPT, Keep::Last),
            pool: Pool::new(TILE.to_usize().unwrap_or(0)),
        }))
    }

    fn digest(&self, index: u64) -> Option<&TileDigest> {
        self.digests.get(usize::try_from(index).ok()?)
    }

    fn tile(&self, index: u64, span: Span) -> Result<imbrik_store::Page> {
        self.tiles.get_or_make(index, || {
            let mut buffer: Buffer = self.pool.take(span.len().to_usize().unwrap_or(0));
            self.content.read_at(span.start(), &mut buffer)?;
            let page = Arc::new(buffer.to_vec());
            let (_, digest) = TileData::of(buffer);
            match self.digest(index) == Some(&digest) {
                true => Ok(page),
                false => Err(Error::mismatch(format!(
                    "the image is damaged: {span} of the card do not match their digest"
                ))),
            }
        })
    }
}

impl ReadAt for Proved {
    fn size(&self) -> ByteLen {
        self.content.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size())?;
        if !self.is_raw {
            // Frames have checksums, and other frames need not be decoded.
            return self.content.read_at(at, buf);
        }
        let (mut at, mut rest) = (at, buf);
        while !rest.is_empty() {
            let index = at.get().over(TILE.get())?;
            let span = tile_span(index, self.size());
            let span = span.ok_or_else(|| Error::corrupt(format!("no tile holds {at}")))?;
            let len = span.end().saturating_since(at).to_usize().unwrap_or(0).min(rest.len());
            let (now, later) = rest.split_at_mut(len);
            if self.digest(index) == Some(&TileDigest::Zero) {
                now.fill(0);
            } else {
                let tile = self.tile(index, span)?;
                let from = at.saturating_since(span.start()).to_usize().unwrap_or(0);
                let part = tile.get(from..from.saturating_add(len));
                now.copy_from_slice(part.ok_or_else(|| Error::bug("a tile is short"))?);
            }
            at = at.saturating_add(ByteLen::from_usize(len));
            rest = later;
        }
        Ok(())
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        self.content.next_data(from)
    }

    fn sector_size(&self) -> SectorSize {
        self.content.sector_size()
    }
}
