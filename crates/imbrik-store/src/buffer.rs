//! Buffers for large transfers: aligned as direct I/O demands, and used again and again.

use std::{
    ops::{Deref, DerefMut},
    sync::{Arc, Mutex, PoisonError},
};

/// The alignment of memory for direct I/O, in bytes: a page satisfies every device.
pub const ALIGNMENT: usize = 4096;

/// Hands out buffers of one size and takes them back when they are dropped, so that a transfer of
/// any length lives on the few it has in flight.
#[derive(Clone, Debug)]
pub struct Pool {
    size: usize,
    free: Arc<Mutex<Vec<Vec<u8>>>>,
}

impl Pool {
    /// A pool of buffers of `size` bytes.
    #[must_use]
    pub fn new(size: usize) -> Self {
        Self { size, free: Arc::default() }
    }

    /// A buffer of `len` bytes, at most the pool's size, holding anything.
    #[must_use]
    pub fn take(&self, len: usize) -> Buffer {
        let memory = self.free.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let memory = memory.unwrap_or_else(|| vec![0; self.size.saturating_add(ALIGNMENT)]);
        let start = memory.as_ptr().align_offset(ALIGNMENT).min(ALIGNMENT);
        Buffer { memory, start, len: len.min(self.size), pool: self.clone() }
    }
}

/// Aligned memory on loan from a [`Pool`].
#[derive(Debug)]
pub struct Buffer {
    memory: Vec<u8>,
    start: usize,
    len: usize,
    pool: Pool,
}

impl Deref for Buffer {
    type Target = [u8];
    fn deref(&self) -> &[u8] {
        self.memory.get(self.start..self.start.saturating_add(self.len)).unwrap_or_default()
    }
}

impl DerefMut for Buffer {
    fn deref_mut(&mut self) -> &mut [u8] {
        self.memory.get_mut(self.start..self.start.saturating_add(self.len)).unwrap_or_default()
    }
}

impl Drop for Buffer {
    fn drop(&mut self) {
        let memory = std::mem::take(&mut self.memory);
        self.pool.free.lock().unwrap_or_else(PoisonError::into_inner).push(memory);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn buffers_are_aligned_and_reused() {
        let pool = Pool::new(10_000);
        let (first, second) = (pool.take(10_000), pool.take(512));
        for buffer in [&first, &second] {
            assert_eq!(buffer.as_ptr().align_offset(ALIGNMENT), 0);
        }
        assert_eq!((first.len(), second.len()), (10_000, 512));
        drop((first, second));
        let _again = pool.take(1);
        assert_eq!(pool.free.lock().unwrap().len(), 1, "one of the two is in use again");
    }
}
