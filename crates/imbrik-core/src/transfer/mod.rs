//! The transfer: one pipeline that carries any view into any sink.
//!
//! [`save`] transfers a card to an image, [`write_card`] an image to a card; [`read_back`], [`check_tiles`] and
//! [`compare`] compare expected and actual data.

mod carry;
mod claim;
mod clear;
mod commit;
mod damaged;
mod mend;
mod pipeline;
mod placed;
mod resume;
mod reuse;
mod salvage;
mod save;
mod saved;
mod snapshot;
mod verify;
mod write;

pub use claim::{Planned, claim};
pub use commit::{len_of_commit, write_commit};
pub use mend::{Mended, mend};
pub use placed::Placed;
pub use reuse::Reuse;
pub use save::{Sampled, edited, fit, repack, sample, save, save_again};
pub use saved::{OnDamage, OnUnfinished, ReadBack, Reused, SaveOptions, Saved};
pub use snapshot::{NotJudged, RunningCard, Snapshot, lies_on_any};
pub use verify::{Differences, check_sums, check_tiles, compare, read_back, sums_of};
pub(crate) use write::write_tiles;
pub use write::{FirstTile, Origin, WrittenCard, write_card};
