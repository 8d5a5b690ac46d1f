//! Checksums of a file while it is written, in a separate thread.
//!
//! A hash can't be computed in parallel, and takes longer than all other work for a tile. So the writer passes on the
//! written data and continues.

use super::{
    encode::Encoded,
    sums::{Sum, Sums},
};
use imbrik_store::error::{Error, Result};
use std::{
    sync::mpsc::{SyncSender, sync_channel},
    thread,
};

/// How many pieces wait at most, of a tile each: memory does not follow the card.
const WAITING: usize = 3;

/// Checksums that are on their way.
pub(super) struct Hashing(Option<Running>);

struct Running {
    pieces: SyncSender<Encoded>,
    sums: thread::JoinHandle<Result<Vec<Sum>>>,
}

impl Hashing {
    /// Continues `sums`. Without any, no thread is started.
    ///
    /// # Errors
    /// When the system has no thread left.
    pub(super) fn start(mut sums: Sums) -> Result<Self> {
        if sums.is_empty() {
            return Ok(Self(None));
        }
        let (pieces, waiting) = sync_channel(WAITING);
        let hash = move || {
            for piece in waiting {
                match piece {
                    Encoded::Packed { frame, .. } => sums.update(&frame),
                    Encoded::PackedZeros { frame } => sums.update(&frame),
                    Encoded::Standing(standing) => standing.read(|bytes| sums.update(bytes))?,
                    // The writer passes them on one by one.
                    Encoded::Several(_) => return Err(Error::bug("pieces came in one")),
                    Encoded::Plain(tile) => sums.update(&tile),
                    Encoded::Zeros(len) => sums.update_zeros(len),
                }
            }
            Ok(sums.finish())
        };
        let sums = thread::Builder::new().name("hash".to_owned()).spawn(hash);
        let sums = sums.map_err(|e| Error::io("starting a thread", e))?;
        Ok(Self(Some(Running { pieces, sums })))
    }

    /// The next piece of the file.
    pub(super) fn update(&self, piece: Encoded) {
        if let Some(running) = &self.0 {
            // If the thread ended early, `finish` returns its error.
            let _ = running.pieces.send(piece);
        }
    }

    /// The checksums of all pieces.
    ///
    /// # Errors
    /// When data in another file cannot be read; [`crate::Class::Bug`] when the thread has ended.
    pub(super) fn finish(self) -> Result<Vec<Sum>> {
        let Some(Running { pieces, sums }) = self.0 else { return Ok(Vec::new()) };
        drop(pieces);
        sums.join().map_err(|_| Error::bug("the hash ended before its file did"))?
    }
}
