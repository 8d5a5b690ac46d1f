//! Checksums of a file in the making, on a thread of their own.
//!
//! A hash is a chain: no second core helps it, and it takes longer than all else that is done with a
//! tile. So whoever writes the file hands over what was written, and goes on.

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
    /// Goes on with `sums`. Without any there is no thread.
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
                    // Whoever writes them hands them over one by one.
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
            // Where it ended early, it tells why at the end.
            let _ = running.pieces.send(piece);
        }
    }

    /// The checksums of all pieces.
    ///
    /// # Errors
    /// When what stands in another file cannot be read; [`crate::Class::Bug`] when the thread is gone.
    pub(super) fn finish(self) -> Result<Vec<Sum>> {
        let Some(Running { pieces, sums }) = self.0 else { return Ok(Vec::new()) };
        drop(pieces);
        sums.join().map_err(|_| Error::bug("the hash ended before its file did"))?
    }
}
