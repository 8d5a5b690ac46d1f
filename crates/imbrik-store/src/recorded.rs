//! A permanent record of the data that were read from a store at one time.

use super::{ReadAt, Spill, check_range, read_up_to};
use crate::{
    error::{Error, Result},
    for_pieces,
    units::{ByteLen, ByteOffset, SectorSize, Span, joined},
};
use std::{
    path::Path,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

/// The size of a page, in bytes.
const PAGE: u64 = 4096;
/// How much is read in one request at most.
const REQUEST: ByteLen = ByteLen::mib(1);

/// The result of reading ranges that are not recorded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Beyond {
    /// It is read, and recorded from then on.
    Recorded,
    /// They are read from the store each time, in their present state.
    AsItIs,
    /// It is an error: nothing of it is known.
    Refused,
}

/// A store that records the reads of another one, in pages of 4 KiB, in memory up to a limit and beyond that in a
/// temporary file: recorded data are never read again, whatever happens to the other store.
pub struct Recorded {
    inner: Arc<dyn ReadAt>,
    state: Mutex<State>,
}

struct State {
    pages: Spill,
    beyond: Beyond,
}

impl Recorded {
    /// Creates an empty record; `most` bytes stay in memory, and more goes into a temporary file in `folder`.
    #[must_use]
    pub fn new(inner: Arc<dyn ReadAt>, most: ByteLen, folder: Option<&Path>) -> Self {
        let pages = Spill::new(PAGE, most, folder);
        Self { inner, state: Mutex::new(State { pages, beyond: Beyond::Recorded }) }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sets how ranges that are not recorded are read from now on.
    pub fn set_beyond(&self, beyond: Beyond) {
        self.state().beyond = beyond;
    }

    /// The recorded ranges, in order and joined.
    #[must_use]
    pub fn spans(&self) -> Vec<Span> {
        let end = ByteOffset::new(self.size().get());
        let span = |page: u64| {
            let at = ByteOffset::new(page.saturating_mul(PAGE));
            Span::between(at, at.saturating_add(ByteLen::new(PAGE)).min(end))
        };
        joined(self.state().pages.list().map(span).collect())
    }

    /// Replaces the recorded data at `at` by `bytes`.
    ///
    /// # Errors
    /// When the rest of their pages can't be read, or the record can't be stored.
    pub fn amend(&self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        let (mut at, mut rest) = (at, bytes);
        while !rest.is_empty() {
            let page = at.get().checked_div(PAGE).unwrap_or(0);
            let (skip, len) = inside(at.get(), rest.len());
            let start = ByteOffset::new(page.saturating_mul(PAGE));
            let mut whole = read_up_to(self, start, inside(0, usize::MAX).1)?;
            whole.resize(inside(0, usize::MAX).1, 0);
            let (now, later) = rest.split_at(len);
            if let Some(place) = whole.get_mut(skip..skip.saturating_add(len)) {
                place.copy_from_slice(now);
            }
            self.state().pages.put(page, whole)?;
            at = at.saturating_add(ByteLen::of(now));
            rest = later;
        }
        Ok(())
    }

    /// Reads `span` in long requests, so that it is recorded.
    ///
    /// # Errors
    /// When it cannot be read or stored.
    pub fn take(&self, span: Span) -> Result<()> {
        let mut buffer = Vec::new();
        for_pieces(span, REQUEST, |piece| {
            buffer.resize(piece.len().to_usize().unwrap_or(0), 0);
            self.read_at(piece.start(), &mut buffer)
        })
    }

    /// Returns whether the recorded data within `span` equal the present content of the store.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn still_stands(&self, span: Span) -> Result<bool> {
        let mut buffers = [const { Vec::new() }; 2];
        let mut is_same = true;
        for recorded in self.spans().into_iter().filter_map(|recorded| recorded.intersect(span)) {
            for_pieces(recorded, REQUEST, |piece| {
                let [was, is] = &mut buffers;
                for buffer in [&mut *was, &mut *is] {
                    buffer.resize(piece.len().to_usize().unwrap_or(0), 0);
                }
                self.read_at(piece.start(), was)?;
                self.inner.read_at(piece.start(), is)?;
                is_same &= was == is;
                Ok(())
            })?;
        }
        Ok(is_same)
    }
}

/// The offset of `at` in its page, and how many of `rest` bytes are in that page.
fn inside(at: u64, rest: usize) -> (usize, usize) {
    let skip = at.checked_rem(PAGE).unwrap_or(0);
    let there = usize::try_from(PAGE.saturating_sub(skip)).unwrap_or(0);
    (usize::try_from(skip).unwrap_or(0), there.min(rest))
}

impl ReadAt for Recorded {
    fn size(&self) -> ByteLen {
        self.inner.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let len = ByteLen::of(buf);
        check_range(at, len, self.size())?;
        let end = at.saturating_add(len).get();
        let (mut at, mut rest) = (at.get(), buf);
        let mut state = self.state();
        while !rest.is_empty() {
            let page = at.checked_div(PAGE).unwrap_or(0);
            let next = state.pages.next(page);
            if next == Some(page) {
                let bytes = state.pages.get(page)?.unwrap_or_default();
                let (skip, len) = inside(at, rest.len());
                let (now, later) = rest.split_at_mut(len);
                let bytes = bytes.get(skip..skip.saturating_add(len)).unwrap_or_default();
                if bytes.len() == len {
                    now.copy_from_slice(bytes);
                }
                at = at.saturating_add(ByteLen::from_usize(len).get());
                rest = later;
                continue;
            }
            let until = next.map_or(end, |next| next.saturating_mul(PAGE)).min(end);
            match state.beyond {
                Beyond::Refused => {
                    return Err(Error::bug(format!(
                        "{} at {} were not read in the snapshot",
                        ByteLen::new(until.saturating_sub(at)),
                        ByteOffset::new(at)
                    )));
                }
                Beyond::AsItIs => {
                    let len = usize::try_from(until.saturating_sub(at)).unwrap_or(0);
                    let (now, later) = rest.split_at_mut(len.min(rest.len()));
                    self.inner.read_at(ByteOffset::new(at), now)?;
                    (at, rest) = (until, later);
                }
                Beyond::Recorded => {
                    let first = page.saturating_mul(PAGE);
                    let last = until.div_ceil(PAGE).saturating_mul(PAGE).min(self.size().get());
                    let last = last.min(first.saturating_add(REQUEST.get()));
                    let len = usize::try_from(last.saturating_sub(first)).unwrap_or(0);
                    let mut bytes = vec![0; len];
                    self.inner.read_at(ByteOffset::new(first), &mut bytes)?;
                    for (number, bytes) in (page..).zip(bytes.chunks(inside(0, usize::MAX).1)) {
                        let mut bytes = bytes.to_vec();
                        bytes.resize(inside(0, usize::MAX).1, 0);
                        state.pages.put(number, bytes)?;
                    }
                }
            }
        }
        Ok(())
    }

    fn sector_size(&self) -> SectorSize {
        self.inner.sector_size()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{SparseStore, WriteAt, read_vec};
    use proptest::prelude::*;

    const LEN: u64 = 3 * 4096 * 100 + 512;

    fn at_byte(at: u64, seed: u8) -> u8 {
        (at / 251) as u8 ^ seed
    }

    fn content(seed: u8) -> Vec<u8> {
        (0..LEN).map(|at| at_byte(at, seed)).collect()
    }

    proptest! {
        /// Fails if a recorded byte is read from the store again.
        #[test]
        fn recorded_reads_ignore_later_writes(
            reads in proptest::collection::vec((0..LEN, 1u64..40_000), 1..12),
            beyond in prop_oneof![Just(Beyond::AsItIs), Just(Beyond::Refused)],
            again in (0..LEN, 1u64..200_000),
        ) {
            let old = content(0);
            let base = Arc::new(SparseStore::of(&old));
            let folder = tempfile::tempdir().unwrap();
            let most = ByteLen::kib(64);
            let store = Recorded::new(Arc::<SparseStore>::clone(&base), most, Some(folder.path()));
            for (at, len) in reads {
                let len = len.min(LEN - at) as usize;
                let read = read_vec(&store, ByteOffset::new(at), len).unwrap();
                prop_assert!(read == old[at as usize..at as usize + len]);
            }
            store.set_beyond(beyond);
            let all = Span::whole(store.size());
            prop_assert!(store.still_stands(all).unwrap());
            base.write_at(ByteOffset::ZERO, &content(0x55)).unwrap();
            prop_assert!(!store.still_stands(all).unwrap());
            let kept = store.spans();
            for span in &kept {
                let len = span.len().to_usize().unwrap();
                let at = span.start().get() as usize;
                let read = read_vec(&store, span.start(), len).unwrap();
                prop_assert!(read == old[at..at + len]);
            }
            if let Some(first) = kept.first() {
                let at = first.end().get() - 3;
                store.amend(ByteOffset::new(at), b"bee").unwrap();
                prop_assert_eq!(read_vec(&store, ByteOffset::new(at), 3).unwrap(), b"bee");
                store.amend(ByteOffset::new(at), &old[at as usize..at as usize + 3]).unwrap();
            }
            let (at, len) = (again.0, again.1.min(LEN - again.0));
            let read = read_vec(&store, ByteOffset::new(at), len as usize);
            let wanted = Span::new(ByteOffset::new(at), ByteLen::new(len)).unwrap();
            let is_kept = kept.iter().any(|span| span.intersect(wanted) == Some(wanted));
            match (read, beyond) {
                (Ok(read), _) => {
                    let is_of = |at: u64| kept.iter().any(|span| (span.start().get()..span.end().get()).contains(&at));
                    for (at, byte) in (at..).zip(read) {
                        let seed = if is_of(at) { 0 } else { 0x55 };
                        prop_assert_eq!(byte, at_byte(at, seed));
                    }
                    prop_assert!(is_kept || beyond == Beyond::AsItIs);
                }
                (Err(_), beyond) => prop_assert!(!is_kept && beyond == Beyond::Refused),
            }
        }
    }
}
