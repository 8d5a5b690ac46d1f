//! Anything that can be read, or written, at an offset: the ground that Imbrik stands on.
//!
//! Two traits are the whole contract, [`ReadAt`] and [`WriteAt`]. The small stores here compose: a
//! partition is a [`Window`] of a card, one that is read more than once is [`Cached`], one
//! that fails now and then is read through [`Patient`], and what shall be different from what is
//! stands in an [`Edited`] store or is put together out of pieces ([`Concatenated`]).
//!
//! ```text
//!  Window        Patient        Cached         Edited          one store's bytes, seen differently
//!     └─────────────┴──────┬───────┴──────────────┘
//!                    ReadAt, WriteAt                           a size, a read, the next data, a write
//!     ┌─────────────┬──────┴───────┬──────────────┐
//!  FileStore     SparseStore     Concatenated        your own        where bytes come from
//! ```
//!
//! Positions and lengths are [`units`], in which nothing overflows; what goes wrong is an [`Error`]
//! of a [`Class`] that tells what can be done about it; [`bytes`] reads integers out of what is not
//! to be trusted; [`progress`] is how long work tells of itself and is stopped.
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

/// Stores that misbehave on request, for stand-in cards and for tests.
pub mod testing {
    pub use crate::{
        faulty::{Faults, Faulty, Flaky},
        forgetful::Forgetful,
    };
}
