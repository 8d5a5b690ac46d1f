//! Image containers: how a card's bytes are stored in a file.
//!
//! A container is recognised by its content, not by its name. Written images are plain standard files, specified in
//! `docs/image-format.md`; any decoder restores the raw card.

mod container;
mod encode;
mod finding;
mod formats;
mod frames;
mod hashing;
mod manifest;
mod open;
mod part_file;
mod pieces;
mod proved;
mod room;
mod spool;
mod standing;
mod stranger;
mod sums;
mod tile;
mod unfinished;
mod writer;

pub use container::{Container, Pack};
pub(crate) use encode::sampled;
pub use encode::{Encoded, Encoder, Encoding};
pub use finding::ImageFinding;
pub use manifest::{
    ListedFit, ListedLoss, ListedPart, ListedTable, ListedVolume, Manifest, TileList,
};
pub use open::{Image, Unpack, manifest_path};
pub use part_file::{FolderId, Owner, PartFile, notes_path};
pub use pieces::{KnownPiece, PieceHashes};
pub(crate) use proved::Proved;
pub use room::{Limit, OutputDisk, can_share_blocks, shares_blocks};
pub use standing::Standing;
pub use sums::{Sum, SumFile, SumKind, Sums, pasted, pasted_for};
pub use tile::{PIECE, TILE, TileData, TileDigest, tile_count, tile_span};
pub use unfinished::Unfinished;
pub use writer::{ImageWriter, Output, Written, publish_beside};
