//! Stores that are read and written at an offset, the lowest layer of Imbrik.
//!
//! There are two traits, [`ReadAt`] and [`WriteAt`], and small stores that compose: a partition is a [`Window`] of a
//! card, [`Cached`] avoids repeated reads, [`Patient`] retries failed reads, and changed content is an [`Edited`] store
//! or assembled from ranges of other stores ([`Concatenated`]).
//!
//! ```text
//!  Window        Patient        Cached         Edited          one store's bytes, seen differently
//!     └─────────────┴──────┬───────┴──────────────┘
//!                    ReadAt, WriteAt                           a size, a read, the next data, a write
//!     ┌─────────────┬──────┴───────┬──────────────┐
//!  FileStore     SparseStore     Concatenated        your own        where bytes come from
//! ```
//!
//! Offsets and lengths are [`units`] with checked arithmetic; errors are an [`Error`] with a [`Class`] for the caller;
//! [`bytes`] parses integers from untrusted data; [`progress`] reports long operations and cancels them.
//!
//! ```
//! use imbrik_store::{ReadAt, SparseStore, Window, WriteAt, read_vec};
//! use imbrik_store::units::{ByteLen, ByteOffset, Span};
//!
//! # fn main() -> imbrik_store::Result<()> {
//! let card = SparseStore::new(ByteLen::mib(64));
//! card.write_at(ByteOffset::new(1 << 20), b"brood")?;
//! let place = Span::between(ByteOffset::new(1 << 20), ByteOffset::new(2 << 20));
//! let partition = Window::new(&card, place)?;
//! assert_eq!(partition.size(), ByteLen::mib(1));
//! assert_eq!(read_vec(&partition, ByteOffset::ZERO, 5)?, b"brood");
//! # Ok(())
//! # }
//! ```
//!
//! The crate prints nothing, asks nothing and never ends the process.

#![forbid(clippy::print_stdout, clippy::print_stderr, clippy::exit)]
#![cfg_attr(
    not(test),
    warn(
        clippy::arithmetic_side_effects,
        clippy::as_conversions,
        clippy::unwrap_used,
        clippy::indexing_slicing
    )
)]

mod buffer;
pub mod bytes;
mod cached;
mod concatenated;
mod counted;
mod edited;
pub mod error;
pub mod exact;
mod faulty;
mod file;
mod forgetful;
mod pages;
mod patient;
pub mod progress;
mod recorded;
mod rescue;
mod sparse;
mod spill;
mod store;
pub mod units;
mod unopened;
mod window;

pub use buffer::{ALIGNMENT, Buffer, Pool};
pub use cached::Cached;
pub use concatenated::{Concatenated, PieceOf, next_data_in, read_pieces};
pub use counted::{Counted, Tally};
pub use edited::Edited;
pub use error::{Class, Error, Result, if_readable};
pub use file::FileStore;
pub use pages::{Absent, Keep, Lookup, Page, Pages};
pub use patient::Patient;
pub use recorded::{Beyond, Recorded};
pub use rescue::{Left, Rescue};
pub use sparse::SparseStore;
pub use spill::Spill;
pub use store::{ReadAt, WriteAt, check_range, for_pieces, read_up_to, read_vec};
pub use unopened::UnopenedFile;
pub use window::Window;

/// Stores that misbehave on request, for simulated cards and for tests.
pub mod testing {
    pub use crate::{
        faulty::{Faults, Faulty, Flaky},
        forgetful::Forgetful,
    };
}
