//! Zstandard images: one independent frame a tile, then the manifest and a seek table in skippable
//! frames, which every decoder passes over.
//!
//! After RFC 8878 and the Zstandard seekable format 0.1.0:
//!
//! ```text
//! frame of tile 0 │ frame of tile 1 │ … │ skippable: manifest │ skippable: seek table
//! ```

mod frame;
mod index;
mod seek_table;

pub(super) use frame::{MANIFEST_MAGIC, MANIFEST_TAG, skippable_header};
pub(super) use index::{ZstCodec, ZstIndex};
pub(super) use seek_table::{Entry, encode as encode_seek_table};
