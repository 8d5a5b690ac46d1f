//! The engine of Imbrik: reads, plans and writes the cards of single-board computers.
//!
//! Everything that moves a card's bytes is the same journey, and the modules stand in its order:
//!
//! ```text
//! open a store → survey it → plan the target → read the plan as a view → transfer it into a sink
//!     store        layout         layout               layout                  transfer
//! ```
//!
//! Below the road lie [`units`] and [`error`]; beside it the [`card`]s themselves, the partition
//! [`table`]s, the volumes ([`fs`]) and the [`image`] containers. A module uses only those named
//! before it in this list: `units`, `error`, `bytes`, `progress`, `store`, `card`, `table`, `fs`,
//! `layout`, `image`, `transfer`.
//!
//! The crate prints nothing, asks nothing and never ends the process: it emits
//! [`progress::Event`]s, takes a [`progress::Cancel`], and returns values.
//!
//! # Promises
//!
//! Input is hostile. No size or offset found in a file is trusted, no allocation grows with a
//! number read from disk unless it is bounded, and damaged input gives an [`error::Error`], never
//! a panic.

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

pub mod card;
pub mod image;
pub mod layout;
pub mod operation;
pub mod table;
pub mod transfer;

pub use imbrik_fs as fs;
pub use imbrik_store::{self as store, Class, Error, Result, error, if_readable, progress, units};
