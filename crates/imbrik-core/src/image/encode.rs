//! Encoding of tiles: the part of writing an image that runs on all cores at once.

use super::{
    container::Pack,
    gz,
    tile::{TILE, TileData},
    xz,
};
use imbrik_store::{
    Buffer,
    bytes::is_zero,
    error::{Error, Result},
    units::ByteLen,
};
use std::sync::{Arc, OnceLock};
use zstd::{bulk::Compressor, zstd_safe::CParameter};

/// How an image is to be packed.
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
        let level = u32::try_from(self.level).unwrap_or(0);
        let packer = match self.pack {
            Pack::Raw => Packer::Raw,
            Pack::Zst => Packer::Zst(start().map_err(|e| Error::io("starting to compress", e))?),
            Pack::Gz => Packer::Gz { level, card: self.card },
            Pack::Xz => Packer::Xz { level },
        };
        Ok(Encoder { packer, zero_tile: Arc::clone(&self.zero_tile) })
    }
}

/// The codec of one thread.
enum Packer {
    Raw,
    Zst(Compressor<'static>),
    Gz { level: u32, card: ByteLen },
    Xz { level: u32 },
}

impl Packer {
    fn pack(&mut self, bytes: &[u8]) -> Result<Vec<u8>> {
        let packed = match self {
            Self::Raw => Ok(bytes.to_vec()),
            Self::Zst(compressor) => compressor.compress(bytes),
            Self::Gz { level, card } => gz::pack(bytes, *card, *level),
            Self::Xz { level } => xz::pack(bytes, *level),
        };
        packed.map_err(|e| Error::io("compressing", e))
    }
}

/// `bytes` as they would be packed, to judge how long that is.
///
/// # Errors
/// When the codec fails, which takes a lack of memory.
pub(crate) fn sampled(pack: Pack, level: i32, bytes: &[u8]) -> Result<usize> {
    match pack {
        // A hole takes no room.
        Pack::Raw if is_zero(bytes) => Ok(0),
        Pack::Raw => Ok(bytes.len()),
        pack => {
            let mut encoder = Encoding::new(pack, level, ByteLen::of(bytes)).encoder()?;
            encoder.packer.pack(bytes).map(|packed| packed.len())
        }
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
    packer: Packer,
    zero_tile: Arc<OnceLock<Arc<[u8]>>>,
}

impl Encoder {
    /// Encodes `tile`.
    ///
    /// # Errors
    /// When the codec fails, which takes a lack of memory.
    pub fn encode(&mut self, tile: TileData) -> Result<Encoded> {
        match (&self.packer, tile) {
            (Packer::Raw, TileData::Bytes(bytes)) => Ok(Encoded::Plain(bytes)),
            (Packer::Raw, TileData::Zeros(len)) => Ok(Encoded::Zeros(len)),
            (_, TileData::Bytes(bytes)) => {
                let frame = self.packer.pack(&bytes)?;
                Ok(Encoded::Packed { frame, content: ByteLen::of(&bytes) })
            }
            (_, TileData::Zeros(TILE)) => {
                let frame = match self.zero_tile.get() {
                    Some(frame) => Arc::clone(frame),
                    None => {
                        let frame: Arc<[u8]> = self.packer.pack(&zeros(TILE))?.into();
                        Arc::clone(self.zero_tile.get_or_init(|| frame))
                    }
                };
                Ok(Encoded::PackedZeros { frame })
            }
            (_, TileData::Zeros(len)) => {
                Ok(Encoded::Packed { frame: self.packer.pack(&zeros(len))?, content: len })
            }
        }
    }
}

/// At most a tile of zeros.
fn zeros(len: ByteLen) -> Vec<u8> {
    vec![0; len.min(TILE).to_usize().unwrap_or(0)]
}
