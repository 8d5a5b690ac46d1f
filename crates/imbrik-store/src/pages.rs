//! The one bounded cache: pieces of anything, by number.
//!
//! The user defines what a page is: 4 KiB of a card ([`crate::Cached`]), a block of a filesystem, the content of a
//! compressed frame. Several readers can look up pages at the same time; each page is loaded by one of them, while
//! others load other pages or wait for it. No lock is held while a page is loaded.

use crate::units::ByteLen;
use std::{
    collections::BTreeMap,
    ops::Range,
    sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError},
};

/// The content of a page, shared without copying.
pub type Page = Arc<Vec<u8>>;

/// Which pages are kept if there is not enough space for all.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Keep {
    /// The pages that came first: for a pass over data that are needed again at the very end.
    First,
    /// The most recently used pages.
    Last,
}

/// Pages up to a bound.
pub struct Pages {
    most: ByteLen,
    keep: Keep,
    state: Mutex<State>,
    changed: Condvar,
}

#[derive(Default)]
struct State {
    held: ByteLen,
    /// The number of requests, which measures the age of pages.
    asked: u64,
    slots: BTreeMap<u64, Slot>,
    /// The cached pages, by their last use.
    by_age: BTreeMap<u64, u64>,
}

enum Slot {
    /// A reader is loading it.
    Reserved,
    Held {
        page: Page,
        age: u64,
    },
}

/// The state of consecutive pages.
pub enum Lookup<'a> {
    /// The first of them.
    Page(Page),
    /// The first pages are absent: the caller loads them.
    Absent(Absent<'a>),
}

/// Absent pages, reserved for the holder of this value. Those that were not loaded when it is dropped become available
/// to others.
pub struct Absent<'a> {
    pages: &'a Pages,
    row: Range<u64>,
    reserved: Range<u64>,
}

impl State {
    fn touch(&mut self, number: u64) {
        self.asked = self.asked.saturating_add(1);
        if let Some(Slot::Held { age, .. }) = self.slots.get_mut(&number) {
            self.by_age.remove(age);
            *age = self.asked;
            self.by_age.insert(self.asked, number);
        }
    }

    fn put(&mut self, number: u64, page: Page) {
        self.asked = self.asked.saturating_add(1);
        self.held = self.held.saturating_add(ByteLen::of(&page));
        self.by_age.insert(self.asked, number);
        self.slots.insert(number, Slot::Held { page, age: self.asked });
    }

    /// Drops the least recently used page; returns whether there was one.
    fn drop_oldest(&mut self) -> bool {
        let Some((_, number)) = self.by_age.pop_first() else { return false };
        if let Some(Slot::Held { page, .. }) = self.slots.remove(&number) {
            self.held = self.held.saturating_sub(ByteLen::of(&page));
        }
        true
    }
}

impl Pages {
    /// None so far. Those that are held have at most `most` bytes together; one that is longer than
    /// that is never held.
    #[must_use]
    pub fn new(most: ByteLen, keep: Keep) -> Self {
        Self { most, keep, state: Mutex::default(), changed: Condvar::new() }
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Page `number`, when it is held.
    pub fn get(&self, number: u64) -> Option<Page> {
        let mut state = self.state();
        state.touch(number);
        match state.slots.get(&number)? {
            Slot::Held { page, .. } => Some(Arc::clone(page)),
            Slot::Reserved => None,
        }
    }

    /// The number of the first cached page at or after `number`.
    pub fn next(&self, number: u64) -> Option<u64> {
        let state = self.state();
        let mut held =
            state.slots.range(number..).filter(|(_, slot)| !matches!(slot, Slot::Reserved));
        held.next().map(|(number, _)| *number)
    }

    /// The numbers of the pages that are held, in order.
    pub fn list(&self) -> Vec<u64> {
        let mut list: Vec<u64> = self.state().by_age.values().copied().collect();
        list.sort_unstable();
        list
    }

    /// The first page of `row`, after waiting for its reader; or the absent pages at the start of the row, if no other
    /// reader loads them. Those in `whole` are reserved.
    pub fn find(&self, row: Range<u64>, whole: Range<u64>) -> Lookup<'_> {
        let mut state = self.state();
        loop {
            match state.slots.get(&row.start) {
                Some(Slot::Held { page, .. }) => {
                    let page = Arc::clone(page);
                    state.touch(row.start);
                    return Lookup::Page(page);
                }
                Some(Slot::Reserved) => {
                    state = self.changed.wait(state).unwrap_or_else(PoisonError::into_inner);
                }
                None => break,
            }
        }
        let end = state.slots.range(row.clone()).next().map_or(row.end, |(number, _)| *number);
        let row = row.start..end;
        let is_full = self.keep == Keep::First && state.held >= self.most;
        let reserved = match is_full {
            true => row.start..row.start,
            false => whole.start.max(row.start)..whole.end.min(row.end),
        };
        for number in reserved.clone() {
            state.slots.insert(number, Slot::Reserved);
        }
        Lookup::Absent(Absent { pages: self, row, reserved })
    }

    /// Page `number`, loaded by `make` if it is not cached.
    ///
    /// # Errors
    /// Those of `make`.
    pub fn get_or_make<E>(
        &self,
        number: u64,
        make: impl FnOnce() -> Result<Page, E>,
    ) -> Result<Page, E> {
        let one = number..number.saturating_add(1);
        match self.find(one.clone(), one) {
            Lookup::Page(page) => Ok(page),
            Lookup::Absent(absent) => {
                let page = make()?;
                absent.put(|_| Some(Arc::clone(&page)));
                Ok(page)
            }
        }
    }
}

impl Absent<'_> {
    /// The pages that are absent.
    #[must_use]
    pub fn row(&self) -> Range<u64> {
        self.row.clone()
    }

    /// Adds the reserved pages for which `page` returns content.
    pub fn put(self, page: impl Fn(u64) -> Option<Page>) {
        for number in self.reserved.clone() {
            let Some(page) = page(number) else { continue };
            let len = ByteLen::of(&page);
            let mut state = self.pages.state();
            let is_over = |state: &State| state.held.saturating_add(len) > self.pages.most;
            while self.pages.keep == Keep::Last && is_over(&state) && state.drop_oldest() {}
            if !is_over(&state) {
                state.put(number, page);
            }
        }
    }
}

impl Drop for Absent<'_> {
    fn drop(&mut self) {
        let mut state = self.pages.state();
        for number in self.reserved.clone() {
            if matches!(state.slots.get(&number), Some(Slot::Reserved)) {
                state.slots.remove(&number);
            }
        }
        drop(state);
        self.pages.changed.notify_all();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::sync::atomic::{AtomicU64, Ordering};

    fn page(number: u64) -> Page {
        vec![number as u8; 10].into()
    }

    fn ask(pages: &Pages, number: u64) -> bool {
        let mut is_new = false;
        let found = pages.get_or_make::<()>(number, || {
            is_new = true;
            Ok(page(number))
        });
        assert_eq!(found, Ok(page(number)));
        is_new
    }

    #[test]
    fn first_or_most_recently_used_pages_are_kept() {
        for (keep, left) in [(Keep::First, [0, 1, 2]), (Keep::Last, [0, 3, 4])] {
            let pages = Pages::new(ByteLen::new(30), keep);
            for number in [0, 1, 2, 0, 3, 0, 4] {
                ask(&pages, number);
            }
            assert_eq!(pages.list(), left);
        }
    }

    #[test]
    fn failed_page_is_freed_and_an_oversized_one_not_cached() {
        let pages = Pages::new(ByteLen::new(15), Keep::Last);
        assert_eq!(pages.get_or_make(7, || Err("no")), Err("no"));
        assert!(ask(&pages, 7) && !ask(&pages, 7));
        let long: Page = vec![1; 16].into();
        let _ = pages.get_or_make::<()>(8, || Ok(Arc::clone(&long)));
        assert!(ask(&pages, 8), "it was not held");
    }

    #[test]
    fn concurrent_readers_load_every_page_once() {
        let pages = Pages::new(ByteLen::new(1000), Keep::Last);
        let made = AtomicU64::new(0);
        std::thread::scope(|scope| {
            for shift in 0..4 {
                let (pages, made) = (&pages, &made);
                scope.spawn(move || {
                    for number in 0..100 {
                        let number = (number + shift * 25) % 100;
                        let found = pages.get_or_make::<()>(number, || {
                            made.fetch_add(1, Ordering::Relaxed);
                            std::thread::yield_now();
                            Ok(page(number))
                        });
                        assert_eq!(found, Ok(page(number)));
                    }
                });
            }
        });
        assert_eq!(made.into_inner(), 100);
    }

    proptest! {
        #[test]
        fn cache_never_exceeds_its_limit(
            asked in proptest::collection::vec((0u64..20, 1u64..6), 1..60),
            most in 0u64..120,
            is_first in any::<bool>(),
        ) {
            let keep = if is_first { Keep::First } else { Keep::Last };
            let pages = Pages::new(ByteLen::new(most), keep);
            for (first, len) in asked {
                match pages.find(first..first + len, first + 1..first + len) {
                    Lookup::Page(found) => prop_assert_eq!(found, page(first)),
                    Lookup::Absent(absent) => {
                        let row = absent.row();
                        prop_assert!(row.start == first && row.end <= first + len);
                        prop_assert!(pages.list().iter().all(|held| !row.contains(held)));
                        absent.put(|number| (number % 7 != 0).then(|| page(number)));
                    }
                }
                let held = pages.list().len() as u64 * 10;
                prop_assert!(held <= most, "{held} of {most}");
                prop_assert!(pages.list().iter().all(|held| held % 7 != 0));
            }
        }
    }
}
