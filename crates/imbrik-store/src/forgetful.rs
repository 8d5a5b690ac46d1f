//! A store that loses unflushed data, like a card on power loss: for tests.

use super::{ReadAt, SparseStore, WriteAt};
use crate::{
    error::{Class, Error, Result},
    units::{ByteLen, ByteOffset},
};
use std::sync::{Mutex, PoisonError};

/// The unit that a medium writes completely or not at all, in bytes.
const UNIT: usize = 512;

/// A store in memory that loses power after a number of requests. Flushed data survive; of later writes, any part may
/// survive, in any order.
#[derive(Debug)]
pub struct Forgetful {
    kept: SparseStore,
    state: Mutex<State>,
}

#[derive(Debug)]
struct State {
    unflushed: Vec<(ByteOffset, Vec<u8>)>,
    /// How many writes and flushes are left.
    requests: u64,
}

impl Forgetful {
    /// A store with the content of `kept`, which loses power after `requests` writes and flushes.
    #[must_use]
    pub fn new(kept: SparseStore, requests: u64) -> Self {
        let state = State { unflushed: Vec::new(), requests };
        Self { kept, state: Mutex::new(state) }
    }

    /// How many writes and flushes are left.
    #[must_use]
    pub fn requests_left(&self) -> u64 {
        self.state.lock().unwrap_or_else(PoisonError::into_inner).requests
    }

    /// The content after the power loss: all flushed data, and each later unit for which `keeps` returns true.
    ///
    /// # Errors
    /// When the memory cannot be written.
    pub fn left(self, mut keeps: impl FnMut() -> bool) -> Result<SparseStore> {
        let Self { kept, state } = self;
        let state = state.into_inner().unwrap_or_else(PoisonError::into_inner);
        for (at, bytes) in state.unflushed {
            let mut place = at;
            for unit in bytes.chunks(UNIT) {
                if keeps() {
                    kept.write_at(place, unit)?;
                }
                place = place.saturating_add(ByteLen::of(unit));
            }
        }
        Ok(kept)
    }

    fn request(&self, then: impl FnOnce(&mut State) -> Result<()>) -> Result<()> {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(left) = state.requests.checked_sub(1) else {
            return Err(Error::new(Class::Gone, "the power is cut"));
        };
        state.requests = left;
        then(&mut state)
    }
}

impl ReadAt for Forgetful {
    fn size(&self) -> ByteLen {
        self.kept.size()
    }

    /// Written data are readable at once, flushed or not.
    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        self.kept.read_at(at, buf)?;
        let end = at.get().saturating_add(ByteLen::of(buf).get());
        for (start, bytes) in &state.unflushed {
            let start = start.get();
            for place in
                start.max(at.get())..start.saturating_add(ByteLen::of(bytes).get()).min(end)
            {
                let from = usize::try_from(place.saturating_sub(start)).unwrap_or(usize::MAX);
                let to = usize::try_from(place.saturating_sub(at.get())).unwrap_or(usize::MAX);
                if let (Some(to), Some(byte)) = (buf.get_mut(to), bytes.get(from)) {
                    *to = *byte;
                }
            }
        }
        Ok(())
    }
}

impl WriteAt for Forgetful {
    fn write_at(&self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        self.request(|state| {
            state.unflushed.push((at, bytes.to_vec()));
            Ok(())
        })
    }

    fn flush(&self) -> Result<()> {
        self.request(|state| {
            for (at, bytes) in std::mem::take(&mut state.unflushed) {
                self.kept.write_at(at, &bytes)?;
            }
            Ok(())
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Fails if a power loss keeps what it must not, or loses flushed data.
    #[test]
    fn flushed_writes_survive_and_unflushed_ones_may_not() {
        let written = |requests| {
            let store = Forgetful::new(SparseStore::new(ByteLen::new(4096)), requests);
            let done = store
                .write_at(ByteOffset::new(512), &[1; 512])
                .and_then(|()| store.flush())
                .and_then(|()| store.write_at(ByteOffset::new(1024), &[2; 1024]));
            (store, done)
        };
        let (store, done) = written(3);
        done.unwrap();
        let mut now = [0; 1];
        store.read_at(ByteOffset::new(2047), &mut now).unwrap();
        assert_eq!(now, [2]);
        let mut turn = false;
        let left = store.left(|| {
            turn = !turn;
            turn
        });
        let mut found = [0; 2048];
        left.unwrap().read_at(ByteOffset::ZERO, &mut found).unwrap();
        assert_eq!([found[511], found[512], found[1024], found[1536]], [0, 1, 2, 0]);
        let (store, done) = written(1);
        assert_eq!(done.unwrap_err().class(), Class::Gone);
        assert_eq!(store.requests_left(), 0);
    }
}
