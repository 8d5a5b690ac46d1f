//! The journal of an ext volume: where it is, its log, and what the volume is once that is replayed.

mod fast;
mod log;
mod place;
mod replayed;
mod write;

pub(super) use fast::{Change, Name};
pub(super) use log::{Journal, put_journal_len, put_journal_uuid};
pub(super) use place::JournalPlace;
pub(super) use replayed::Replayed;
