//! A store that several readers go through at nearly the same time: what one of them has just read,
//! the others need not read again.

use super::{ReadAt, check_range};
use crate::{
    error::Result,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::{
    collections::{BTreeMap, VecDeque},
    sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError},
};

/// Bytes that are kept together.
const PAGE: u64 = 64 << 10;

/// A store that keeps what was read from another last.
///
/// Readers that go the same way side by side read every byte once. One that falls back by more than
/// what is kept reads for itself, and holds up nobody.
pub struct Shared<S> {
    inner: S,
    /// How many pages are kept.
    most: usize,
    pages: Mutex<Pages>,
    loaded: Condvar,
}

#[derive(Default)]
struct Pages {
    /// What is kept; nothing yet for what somebody is just reading.
    list: BTreeMap<u64, Option<Arc<[u8]>>>,
    /// In the order in which they came.
    order: VecDeque<u64>,
}

impl<S: ReadAt> Shared<S> {
    /// Keeps at most `most` bytes of `inner`.
    pub fn new(inner: S, most: ByteLen) -> Self {
        let most = most.get().div_ceil(PAGE).max(1);
        Self {
            inner,
            most: usize::try_from(most).unwrap_or(usize::MAX),
            pages: Mutex::default(),
            loaded: Condvar::new(),
        }
    }

    fn pages(&self) -> MutexGuard<'_, Pages> {
        self.pages.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn span_of(&self, first: u64, count: u64) -> Span {
        let start = ByteOffset::new(first.saturating_mul(PAGE));
        let end = start.saturating_add(ByteLen::new(count.saturating_mul(PAGE)));
        Span::between(start, end.min(ByteOffset::new(self.inner.size().get())))
    }

    /// Reads the pages from `first` up to `end` that nobody else has or reads, as far as they stand
    /// in a row; answers those at hand otherwise.
    fn page(&self, number: u64, end: u64) -> Result<Arc<[u8]>> {
        let mut pages = self.pages();
        loop {
            match pages.list.get(&number) {
                Some(Some(page)) => return Ok(Arc::clone(page)),
                Some(None) => {
                    pages = self.loaded.wait(pages).unwrap_or_else(PoisonError::into_inner);
                }
                None => break,
            }
        }
        let row = (number..end).take_while(|page| !pages.list.contains_key(page));
        let row: Vec<u64> = row.collect();
        for page in &row {
            pages.list.insert(*page, None);
        }
        drop(pages);
        let count = u64::try_from(row.len()).unwrap_or(0);
        let span = self.span_of(number, count);
        let mut bytes = vec![0; span.len().to_usize().unwrap_or(0)];
        let read = self.inner.read_at(span.start(), &mut bytes);
        let mut pages = self.pages();
        let mut wanted = None;
        for (page, bytes) in row.iter().zip(bytes.chunks(usize::try_from(PAGE).unwrap_or(1))) {
            match &read {
                Ok(()) => {
                    let bytes: Arc<[u8]> = Arc::from(bytes);
                    wanted.get_or_insert_with(|| Arc::clone(&bytes));
                    pages.list.insert(*page, Some(bytes));
                    pages.order.push_back(*page);
                }
                // Whoever waits for it tries for itself.
                Err(_) => drop(pages.list.remove(page)),
            }
        }
        while pages.order.len() > self.most {
            if let Some(old) = pages.order.pop_front() {
                pages.list.remove(&old);
            }
        }
        drop(pages);
        self.loaded.notify_all();
        read?;
        Ok(wanted.unwrap_or_else(|| Arc::from(Vec::new())))
    }
}

impl<S: ReadAt> ReadAt for Shared<S> {
    fn size(&self) -> ByteLen {
        self.inner.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size())?;
        let end = at.saturating_add(ByteLen::of(buf));
        let last = end.get().div_ceil(PAGE);
        let mut rest = buf;
        let mut at = at;
        while !rest.is_empty() {
            let number = at.get() / PAGE;
            let page = match self.page(number, last) {
                Ok(page) => page,
                // A row with an unreadable sector: only what was asked for counts.
                Err(_) => return self.inner.read_at(at, rest),
            };
            let skip = usize::try_from(at.get() % PAGE).unwrap_or(0);
            let there = page.get(skip..).unwrap_or_default();
            let len = there.len().min(rest.len());
            let (now, later) = rest.split_at_mut(len);
            now.copy_from_slice(there.get(..len).unwrap_or_default());
            if len == 0 {
                return self.inner.read_at(at, later);
            }
            at = at.saturating_add(ByteLen::from_usize(len));
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
    use crate::{
        Counted, SparseStore, Tally, WriteAt, read_vec,
        testing::{Faults, Faulty},
    };

    fn source(len: u64) -> SparseStore {
        let store = SparseStore::new(ByteLen::new(len));
        for at in (0..len / 1000).map(|n| n * 1000) {
            store.write_at(ByteOffset::new(at), &at.to_le_bytes()).unwrap();
        }
        store
    }

    #[test]
    fn readers_side_by_side_read_every_byte_once() {
        let (tally, len) = (Tally::default(), 40 * PAGE + 77);
        let shared = Shared::new(Counted::new(source(len), &tally), ByteLen::mib(1));
        let expected = read_vec(&source(len), ByteOffset::ZERO, len as usize).unwrap();
        let gate = std::sync::Barrier::new(3);
        std::thread::scope(|scope| {
            for _ in 0..3 {
                scope.spawn(|| {
                    for piece in 0..21u64 {
                        gate.wait();
                        let at = piece * 2 * PAGE;
                        let part = (len - at).min(2 * PAGE) as usize;
                        let read = read_vec(&shared, ByteOffset::new(at), part).unwrap();
                        assert!(read == expected[at as usize..at as usize + part]);
                    }
                });
            }
        });
        assert_eq!(tally.read(), ByteLen::new(len));
        // What is long gone is read again.
        read_vec(&shared, ByteOffset::ZERO, 9).unwrap();
        assert_eq!(tally.read(), ByteLen::new(len + PAGE));
    }

    #[test]
    fn only_what_was_asked_for_must_be_readable() {
        let bad = Span::between(ByteOffset::new(PAGE), ByteOffset::new(PAGE + 512));
        let faults = Faults { unreadable: vec![bad], ..Faults::default() };
        let shared = Shared::new(Faulty::new(source(4 * PAGE), faults), ByteLen::mib(1));
        assert!(read_vec(&shared, ByteOffset::new(PAGE - 100), 100).is_ok());
        assert!(read_vec(&shared, ByteOffset::new(PAGE + 512), 4096).is_ok());
        assert!(read_vec(&shared, ByteOffset::new(PAGE), 512).is_err());
    }
}
