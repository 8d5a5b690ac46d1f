//! Encoding of tiles: the part of writing an image that runs on all cores at once.

use super::{
    container::Pack,
    formats::{Packer, packed_len},
    standing::Standing,
    tile::{TILE, TileData},
};
use imbrik_store::{
    Buffer,
    error::{Error, Result},
    units::ByteLen,
};
use std::sync::{Arc, OnceLock};

/// The format and level for encoding.
#[derive(Clone, Debug)]
pub struct Encoding {
    pack: Pack,
    level: i32,
    /// How long the card is: gzip members say it.
    card: ByteLen,
    /// The packed form of a full tile of zeros: made once, written for every such tile.
    zero_tile: Arc<OnceLock<Arc<[u8]>>>,
}

impl Encoding {
    /// Packs a card of `card` bytes into `pack` at `level`; one outside of [`Pack::levels`] is
    /// clamped.
    #[must_use]
    pub fn new(pack: Pack, level: i32, card: ByteLen) -> Self {
        let levels = pack.levels().unwrap_or(0..=0);
        let level = level.clamp(*levels.start(), *levels.end());
        Self { pack, level, card, zero_tile: Arc::default() }
    }

    /// The container.
    #[must_use]
    pub fn pack(&self) -> Pack {
        self.pack
    }

    /// An encoder for one thread.
    ///
    /// # Errors
    /// When the codec cannot be started for want of memory.
    pub fn encoder(&self) -> Result<Encoder> {
        let packer = self.pack.writing().packer(self.level, self.card)?;
        Ok(Encoder { packer, zero_tile: Arc::clone(&self.zero_tile) })
    }
}

/// Compresses `bytes`, to estimate the length.
///
/// # Errors
/// When the codec fails, for insufficient memory.
pub(crate) fn sampled(pack: Pack, level: i32, bytes: &[u8]) -> Result<usize> {
    let encoding = Encoding::new(pack, level, ByteLen::of(bytes));
    packed_len(encoding.encoder()?.packer, bytes)
}

/// A tile, ready to be written.
#[derive(Debug)]
pub enum Encoded {
    /// A separate frame.
    Packed {
        /// The frame.
        frame: Vec<u8>,
        /// Bytes of content in it.
        content: ByteLen,
    },
    /// The same frame as for every other full tile of zeros.
    PackedZeros {
        /// The frame.
        frame: Arc<[u8]>,
    },
    /// The tile in the file of another image.
    Standing(Standing),
    /// The tile in pieces, in order.
    Several(Vec<Encoded>),
    /// The uncompressed tile.
    Plain(Buffer),
    /// This many bytes of zeros.
    Zeros(ByteLen),
}

/// Encodes tiles, one after the other, on one thread.
pub struct Encoder {
    packer: Option<Box<dyn Packer>>,
    zero_tile: Arc<OnceLock<Arc<[u8]>>>,
}

impl Encoder {
    /// Encodes part of a tile as a separate frame.
    ///
    /// # Errors
    /// As [`Encoder::encode`]; [`crate::Class::Bug`] for a container without frames.
    pub fn encode_piece(&mut self, bytes: &[u8]) -> Result<Encoded> {
        let packer = self.packer.as_mut();
        let packer = packer.ok_or_else(|| Error::bug("a raw image has no pieces"))?;
        let frame = packer.pack(bytes).map_err(|e| Error::io("compressing", e))?;
        Ok(Encoded::Packed { frame, content: ByteLen::of(bytes) })
    }

    /// Encodes `tile`.
    ///
    /// # Errors
    /// When the codec fails, for insufficient memory.
    pub fn encode(&mut self, tile: TileData) -> Result<Encoded> {
        let Some(packer) = &mut self.packer else {
            return Ok(match tile {
                TileData::Bytes(bytes) => Encoded::Plain(bytes),
                TileData::Zeros(len) => Encoded::Zeros(len),
            });
        };
        let mut pack = |bytes: &[u8]| packer.pack(bytes).map_err(|e| Error::io("compressing", e));
        match tile {
            TileData::Bytes(bytes) => {
                let frame = pack(&bytes)?;
                Ok(Encoded::Packed { frame, content: ByteLen::of(&bytes) })
            }
            TileData::Zeros(TILE) => {
                let frame = match self.zero_tile.get() {
                    Some(frame) => Arc::clone(frame),
                    None => {
                        let frame: Arc<[u8]> = pack(&zeros(TILE))?.into();
                        Arc::clone(self.zero_tile.get_or_init(|| frame))
                    }
                };
                Ok(Encoded::PackedZeros { frame })
            }
            TileData::Zeros(len) => Ok(Encoded::Packed { frame: pack(&zeros(len))?, content: len }),
        }
    }
}

/// At most a tile of zeros.
fn zeros(len: ByteLen) -> Vec<u8> {
    vec![0; len.min(TILE).to_usize().unwrap_or(0)]
}
