//! A store that caches another one, so that a card is read only once for several readers: in succession (an allocation
//! table that is parsed first and copied later), or side by side (many cards written from one image).

use super::{Keep, Lookup, Pages, ReadAt, check_range};
use crate::{
    error::Result,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::sync::Arc;

/// The size of a page, in bytes.
const PAGE: u64 = 4096;

/// A store that caches pages of 4 KiB of another one, up to a limit.
///
/// It never reads more than requested, and each range that is not cached in one request, so that an unreadable sector
/// affects nothing else. Readers that advance together read every byte once; a reader that falls behind by more than
/// the cache reads for itself, and delays no other.
pub struct Cached<S> {
    inner: S,
    pages: Pages,
}

impl<S> Cached<S> {
    /// Caches at most `most` bytes of `inner`; beyond that, `keep` decides which pages are dropped.
    pub fn new(inner: S, most: ByteLen, keep: Keep) -> Self {
        Self { inner, pages: Pages::new(most, keep) }
    }
}

/// Page `number` in the bytes read from offset `at`; `None` if they contain only part of it.
fn page_in(number: u64, at: ByteOffset, read: &[u8]) -> Option<&[u8]> {
    let from = usize::try_from(number.checked_mul(PAGE)?.checked_sub(at.get())?).ok()?;
    read.get(from..from.checked_add(usize::try_from(PAGE).ok()?)?)
}

impl<S: ReadAt> Cached<S> {
    /// Fills `buf`, using `read` for ranges that are not cached.
    fn fill(
        &self,
        at: ByteOffset,
        buf: &mut [u8],
        read: impl Fn(ByteOffset, &mut [u8]) -> Result<()>,
    ) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size())?;
        let end = at.saturating_add(ByteLen::of(buf));
        let last = end.get().div_ceil(PAGE);
        let whole = at.get().div_ceil(PAGE)..end.get() / PAGE;
        let (mut at, mut rest) = (at, buf);
        while !rest.is_empty() {
            let number = at.get() / PAGE;
            let len = match self.pages.find(number..last, whole.clone()) {
                Lookup::Page(page) => {
                    let skip = usize::try_from(at.get() % PAGE).unwrap_or(usize::MAX);
                    let there = page.get(skip..).unwrap_or_default();
                    let len = there.len().min(rest.len());
                    let (now, _) = rest.split_at_mut(len);
                    now.copy_from_slice(there.get(..len).unwrap_or_default());
                    len
                }
                Lookup::Absent(absent) => {
                    let behind = ByteOffset::new(absent.row().end.saturating_mul(PAGE)).min(end);
                    let len = behind.saturating_since(at).to_usize().unwrap_or(usize::MAX);
                    let len = len.min(rest.len());
                    let (now, _) = rest.split_at_mut(len);
                    read(at, now)?;
                    absent
                        .put(|number| page_in(number, at, now).map(|page| Arc::new(page.to_vec())));
                    len
                }
            };
            let (_, later) = rest.split_at_mut(len);
            at = at.saturating_add(ByteLen::from_usize(len));
            rest = later;
        }
        Ok(())
    }
}

impl<S: ReadAt> ReadAt for Cached<S> {
    fn size(&self) -> ByteLen {
        self.inner.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        self.fill(at, buf, |at, buf| self.inner.read_at(at, buf))
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        self.fill(at, buf, |at, buf| self.inner.read_once(at, buf))
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
    use crate::{
        Counted, SparseStore, Tally, WriteAt, read_vec,
        testing::{Faults, Faulty},
    };
    use proptest::prelude::*;

    const LEN: usize = 1 << 20;

    fn content() -> Vec<u8> {
        (0..LEN).map(|i| (i / 251 % 256) as u8).collect()
    }

    #[test]
    fn cached_pages_are_not_read_again() {
        let tally = Tally::default();
        let counted = Counted::new(SparseStore::of(&content()), &tally);
        let store = Cached::new(counted, ByteLen::kib(96), Keep::First);
        let at = ByteOffset::new(98_304);
        let _ = read_vec(&store, at, 98_304).unwrap();
        let _ = read_vec(&store, at, 98_304).unwrap();
        assert_eq!(tally.read(), ByteLen::new(98_304));
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

    #[test]
    fn unaligned_read_is_a_single_request() {
        let tally = Tally::default();
        let counted = Counted::new(SparseStore::of(&content()), &tally);
        let store = Cached::new(counted, ByteLen::mib(1), Keep::Last);
        let _ = read_vec(&store, ByteOffset::new(512), 200_000).unwrap();
        assert_eq!(tally.reads(), 1);
        let _ = read_vec(&store, ByteOffset::ZERO, 200_704).unwrap();
        assert_eq!(tally.reads(), 3, "its two edges");
    }

    proptest! {
        #[test]
        fn reads_are_correct_after_any_earlier_reads(
            reads in proptest::collection::vec((0usize..LEN, 0usize..300_000), 1..20),
            keep in prop_oneof![Just(Keep::First), Just(Keep::Last)],
        ) {
            let content = content();
            let store = Cached::new(SparseStore::of(&content), ByteLen::kib(500), keep);
            for (at, len) in reads {
                let len = len.min(LEN - at);
                let found = read_vec(&store, ByteOffset::new(at as u64), len).unwrap();
                prop_assert!(found == content[at..at + len]);
            }
        }
    }

    fn source(len: u64) -> SparseStore {
        let store = SparseStore::new(ByteLen::new(len));
        for at in (0..len / 1000).map(|n| n * 1000) {
            store.write_at(ByteOffset::new(at), &at.to_le_bytes()).unwrap();
        }
        store
    }

    #[test]
    fn concurrent_readers_read_every_byte_once() {
        const STEP: u64 = 128 << 10;
        let (tally, len) = (Tally::default(), 20 * STEP + 77);
        let counted = Counted::new(source(len), &tally);
        let shared = Cached::new(counted, ByteLen::mib(1), Keep::Last);
        let expected = read_vec(&source(len), ByteOffset::ZERO, len as usize).unwrap();
        let gate = std::sync::Barrier::new(3);
        std::thread::scope(|scope| {
            for _ in 0..3 {
                scope.spawn(|| {
                    for piece in 0..20u64 {
                        gate.wait();
                        let at = piece * STEP;
                        let read = read_vec(&shared, ByteOffset::new(at), STEP as usize).unwrap();
                        assert!(read == expected[at as usize..(at + STEP) as usize]);
                    }
                });
            }
        });
        assert_eq!(tally.read(), ByteLen::new(len - 77));
        // Dropped pages are read again.
        read_vec(&shared, ByteOffset::ZERO, 9).unwrap();
        assert_eq!(tally.read(), ByteLen::new(len - 77 + 9));
    }

    #[test]
    fn only_what_was_asked_for_must_be_readable() {
        let bad = Span::between(ByteOffset::new(PAGE), ByteOffset::new(PAGE + 512));
        let faults = Faults { unreadable: vec![bad], ..Faults::default() };
        let store = Faulty::new(source(4 * PAGE), faults);
        let store = Cached::new(store, ByteLen::mib(1), Keep::Last);
        assert!(read_vec(&store, ByteOffset::new(PAGE - 100), 100).is_ok());
        assert!(read_vec(&store, ByteOffset::new(PAGE + 512), 4096).is_ok());
        assert!(read_vec(&store, ByteOffset::new(PAGE), 512).is_err());
        // A failed read leaves no reservation.
        assert!(read_vec(&store, ByteOffset::new(PAGE), 4096).is_err());
        assert!(read_vec(&store, ByteOffset::new(PAGE), 4096).is_err());
    }
}
