//! The engine of Imbrik: reads, plans and writes the cards of single-board computers.
//!
//! All operations transfer data through the same stages, and the modules follow their order:
//!
//! ```text
//!  card, table ──► layout ────────────────► image ──────► transfer ───► operation
//!  sources and     survey, occupancy,       containers,   from a view   request, plan,
//!  targets         plan, view               manifest      into a sink   outcome
//!       └──────────────┴──── imbrik-fs (volumes), imbrik-store (bytes) ────┘
//! ```
//!
//! A module uses only those to the left of it. Complete tasks are in [`operation`]:
//! its front page restores a card. The crates below are at hand as [`fs`] and [`store`].
//!
//! ```no_run
//! use imbrik_core::{image::Image, layout::Survey};
//! use std::path::Path;
//!
//! # fn main() -> imbrik_core::Result<()> {
//! let image = Image::open(Path::new("hive-07.img.zst"), None)?;
//! let survey = Survey::of(&**image.content())?;
//! for part in &survey.parts {
//!     println!("{}: {}", part.full_title(), part.span.len());
//! }
//! # Ok(())
//! # }
//! ```
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
pub mod files;
pub mod image;
pub mod layout;
pub mod operation;
pub mod shelf;
pub mod table;
pub mod transfer;

pub use imbrik_fs as fs;
pub use imbrik_store::{self as store, Class, Error, Result, error, if_readable, progress, units};
