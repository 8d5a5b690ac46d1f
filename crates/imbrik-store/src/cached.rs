//! Remembers what was read in long pieces, so that a card is asked but once for an allocation table
//! that is looked at first and copied afterwards.

use super::{ReadAt, check_range};
use crate::{
    error::Result,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
};

/// Shorter pieces are not worth a request less.
const SHORTEST: ByteLen = ByteLen::kib(64);

/// A store that keeps what was read from another in pieces of 64 KiB and more, until it holds a
/// certain amount.
pub struct Cached<S> {
    inner: S,
    most: ByteLen,
    pieces: Mutex<Pieces>,
}

#[derive(Default)]
struct Pieces {
    held: ByteLen,
    /// By where they start; they don't overlap.
    list: BTreeMap<ByteOffset, Arc<[u8]>>,
}

impl Pieces {
    /// The piece that holds `at`, or else the next one behind it.
    fn near(&self, at: ByteOffset) -> Option<(ByteOffset, Arc<[u8]>)> {
        let before = self.list.range(..=at).next_back();
        let holds = before.filter(|(start, bytes)| start.saturating_add(ByteLen::of(bytes)) > at);
        let found = holds.or_else(|| self.list.range(at..).next());
        found.map(|(start, bytes)| (*start, Arc::clone(bytes)))
    }
}

impl<S> Cached<S> {
    /// Remembers at most `most` bytes of `inner`.
    pub fn new(inner: S, most: ByteLen) -> Self {
        Self { inner, most, pieces: Mutex::default() }
    }
}

impl<S: ReadAt> Cached<S> {
    fn near(&self, at: ByteOffset) -> Option<(ByteOffset, Arc<[u8]>)> {
        self.pieces.lock().unwrap_or_else(PoisonError::into_inner).near(at)
    }

    /// Reads what nobody remembers.
    fn read_anew(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        self.inner.read_at(at, buf)?;
        let len = ByteLen::of(buf);
        let mut pieces = self.pieces.lock().unwrap_or_else(PoisonError::into_inner);
        let held = pieces.held.saturating_add(len);
        if len >= SHORTEST && held <= self.most {
            pieces.held = held;
            pieces.list.insert(at, Arc::from(&*buf));
        }
        Ok(())
    }
}

impl<S: ReadAt> ReadAt for Cached<S> {
    fn size(&self) -> ByteLen {
        self.inner.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size())?;
        let mut at = at;
        let mut rest = buf;
        while !rest.is_empty() {
            let end = at.saturating_add(ByteLen::of(rest));
            let near = self.near(at).filter(|(start, _)| *start < end);
            let ahead = near.as_ref().map_or(end, |(start, _)| (*start).max(at));
            let room = ahead.saturating_since(at).to_usize().unwrap_or(0).min(rest.len());
            let (unknown, more) = rest.split_at_mut(room);
            if !unknown.is_empty() {
                self.read_anew(at, unknown)?;
            }
            at = at.saturating_add(ByteLen::of(unknown));
            rest = more;
            let Some((start, bytes)) = near else { continue };
            let skip = at.saturating_since(start).to_usize().unwrap_or(0);
            let known = bytes.get(skip..).unwrap_or_default();
            let len = known.len().min(rest.len());
            let (now, later) = rest.split_at_mut(len);
            now.copy_from_slice(known.get(..len).unwrap_or_default());
            at = at.saturating_add(ByteLen::of(now));
            rest = later;
        }
        Ok(())
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        self.inner.next_data(from)
    }

    fn sector_size(&self) -> SectorSize {
        self.inner.sector_size()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Counted, SparseStore, Tally, read_vec};
    use proptest::prelude::*;

    const LEN: usize = 1 << 20;

    fn content() -> Vec<u8> {
        (0..LEN).map(|i| (i / 251 % 256) as u8).collect()
    }

    #[test]
    fn what_was_read_once_is_not_asked_for_again() {
        let tally = Tally::default();
        let counted = Counted::new(SparseStore::of(&content()), &tally);
        let store = Cached::new(counted, ByteLen::kib(200));
        let at = ByteOffset::new(100_000);
        let _ = read_vec(&store, at, 100_000).unwrap();
        let _ = read_vec(&store, at, 100_000).unwrap();
        assert_eq!(tally.read(), ByteLen::new(100_000));
        let all = read_vec(&store, ByteOffset::ZERO, LEN).unwrap();
        assert!(all == content());
        assert_eq!(tally.read(), ByteLen::from_usize(LEN), "every byte once");
        let _ = read_vec(&store, ByteOffset::new(500_000), 10).unwrap();
        assert_eq!(
            tally.read(),
            ByteLen::from_usize(LEN + 10),
            "not more than was allowed is kept"
        );
    }

    proptest! {
        #[test]
        fn every_read_is_right_whatever_was_read_before(
            reads in proptest::collection::vec((0usize..LEN, 0usize..300_000), 1..20),
        ) {
            let content = content();
            let store = Cached::new(SparseStore::of(&content), ByteLen::kib(500));
            for (at, len) in reads {
                let len = len.min(LEN - at);
                let found = read_vec(&store, ByteOffset::new(at as u64), len).unwrap();
                prop_assert!(found == content[at..at + len]);
            }
        }
    }
}
