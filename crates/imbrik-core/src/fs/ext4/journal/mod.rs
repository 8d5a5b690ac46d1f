//! The journal of an ext volume: its log, what the volume is once that is replayed, and which of its
//! blocks are void.

mod body;
mod log;
mod replayed;

pub(super) use body::void_body;
pub(super) use log::{Journal, put_journal_len};
pub(super) use replayed::Replayed;
