//! The journal of an ext volume: its location, its log, and the volume after a replay.

mod fast;
mod log;
mod place;
mod replayed;
mod write;

pub(super) use fast::{Change, Name};
pub(super) use log::{Journal, put_journal_len, put_journal_uuid};
pub(super) use place::JournalPlace;
pub(super) use replayed::Replayed;
