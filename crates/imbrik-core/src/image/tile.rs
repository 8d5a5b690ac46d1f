//! Tiles: the fixed-size parts of a card that are hashed and compressed.

use super::pieces::{KnownPiece, PieceHashes};
use imbrik_store::{
    Buffer,
    bytes::is_zero,
    units::{ByteLen, ByteOffset, Span},
};

/// The size of a tile in bytes: 4 MiB. Only the last one of a card is shorter.
pub const TILE: ByteLen = ByteLen::mib(4);

/// The part of a tile in a separate frame if images are kept over time: 256 KiB. Only changed pieces are compressed
/// again; all others share their blocks on the disk.
pub const PIECE: ByteLen = ByteLen::kib(256);

/// The digest of a tile's content: its BLAKE3 hash, or that it is all zeros.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TileDigest {
    /// Every byte is zero.
    Zero,
    /// The hash of its content.
    Hash(blake3::Hash),
}

/// The content of a tile. A tile of zeros is never [`TileData::Bytes`].
#[derive(Debug)]
pub enum TileData {
    /// These bytes.
    Bytes(Buffer),
    /// This many bytes of zeros.
    Zeros(ByteLen),
}

impl TileData {
    /// The content of `buffer`, and its digest.
    #[must_use]
    pub fn of(buffer: Buffer) -> (Self, TileDigest) {
        if is_zero(&buffer) {
            (Self::Zeros(ByteLen::of(&buffer)), TileDigest::Zero)
        } else {
            let hash = blake3::hash(&buffer);
            (Self::Bytes(buffer), TileDigest::Hash(hash))
        }
    }

    /// The same, with the digests of its pieces; the content of those in `known`, in order, is ignored.
    #[must_use]
    pub fn in_pieces(buffer: Buffer, known: &[KnownPiece]) -> (Self, TileDigest, PieceHashes) {
        match PieceHashes::of_tile(&buffer, known) {
            Some((hash, pieces)) if !known.is_empty() || !is_zero(&buffer) => {
                (Self::Bytes(buffer), TileDigest::Hash(hash), pieces)
            }
            _ => {
                let (data, digest) = Self::of(buffer);
                (data, digest, PieceHashes::default())
            }
        }
    }
}

/// The number of tiles of a card of `size`.
#[must_use]
pub fn tile_count(size: ByteLen) -> u64 {
    size.get().div_ceil(TILE.get())
}

/// The range of tile `index` on a card of `size`; `None` past its end.
#[must_use]
pub fn tile_span(index: u64, size: ByteLen) -> Option<Span> {
    let start = ByteOffset::new(index.checked_mul(TILE.get())?);
    let end = ByteOffset::new(start.checked_add(TILE)?.get().min(size.get()));
    let span = Span::between(start, end);
    (!span.is_empty()).then_some(span)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tiles_cover_a_card_and_the_last_may_be_short() {
        let size = ByteLen::new(TILE.get() * 2 + 1);
        assert_eq!(tile_count(size), 3);
        assert_eq!(tile_span(2, size).unwrap().len(), ByteLen::new(1));
        assert_eq!(tile_span(3, size), None);
        assert_eq!(tile_span(u64::MAX, size), None);
        assert_eq!((tile_count(ByteLen::ZERO), tile_span(0, ByteLen::ZERO)), (0, None));
    }
}
