//! Encoding of tiles: the part of writing an image that runs on all cores at once.

use super::{
    container::Pack,
    tile::{TILE, TileData},
};
use crate::{
    error::{Error, Result},
    store::Buffer,
    units::ByteLen,
};
use std::sync::{Arc, OnceLock};
use zstd::{bulk::Compressor, zstd_safe::CParameter};

/// How an image is to be packed.
#[derive(Clone, Debug)]
pub struct Encoding {
    pack: Pack,
    level: i32,
    /// The packed form of a full tile of zeros: made once, written for every such tile.
    zero_tile: Arc<OnceLock<Arc<[u8]>>>,
}

impl Encoding {
    /// The levels that zstd knows.
    pub const LEVELS: std::ops::RangeInclusive<i32> = 1..=22;
    /// The level used unless another is asked for: fast enough to keep up with a card reader.
    pub const LEVEL: i32 = 3;

    /// Packs into `pack` at zstd `level`, from 1 (fast) to 22 (small); others are clamped.
    #[must_use]
    pub fn new(pack: Pack, level: i32) -> Self {
        let level = level.clamp(*Self::LEVELS.start(), *Self::LEVELS.end());
        Self { pack, level, zero_tile: Arc::default() }
    }

    /// The container that comes out.
    #[must_use]
    pub fn pack(&self) -> Pack {
        self.pack
    }

    /// An encoder for one thread.
    ///
    /// # Errors
    /// When the codec cannot be started for want of memory.
    pub fn encoder(&self) -> Result<Encoder> {
        let start = || {
            let mut compressor = Compressor::new(self.level)?;
            // A checksum a frame lets `zstd -t` prove the content, not only the shape.
            compressor.set_parameter(CParameter::ChecksumFlag(true))?;
            Ok(compressor)
        };
        let compressor = match self.pack {
            Pack::Zst => Some(start().map_err(|e| Error::io("starting to compress", e))?),
            Pack::Raw => None,
        };
        Ok(Encoder { compressor, zero_tile: Arc::clone(&self.zero_tile) })
    }
}

/// A tile, ready to be written.
#[derive(Debug)]
pub enum Encoded {
    /// A frame of its own.
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
    /// The tile as it is.
    Plain(Buffer),
    /// So many zeros.
    Zeros(ByteLen),
}

/// Encodes tiles, one after the other, on one thread.
pub struct Encoder {
    compressor: Option<Compressor<'static>>,
    zero_tile: Arc<OnceLock<Arc<[u8]>>>,
}

impl Encoder {
    /// Encodes `tile`.
    ///
    /// # Errors
    /// When the codec fails, which takes a lack of memory.
    pub fn encode(&mut self, tile: TileData) -> Result<Encoded> {
        let Some(compressor) = &mut self.compressor else {
            return Ok(match tile {
                TileData::Bytes(bytes) => Encoded::Plain(bytes),
                TileData::Zeros(len) => Encoded::Zeros(len),
            });
        };
        let mut pack =
            |bytes: &[u8]| compressor.compress(bytes).map_err(|e| Error::io("compressing", e));
        match tile {
            TileData::Bytes(bytes) => {
                Ok(Encoded::Packed { frame: pack(&bytes)?, content: ByteLen::of(&bytes) })
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
