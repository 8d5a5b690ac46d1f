//! Counts the traffic of a card, by which Imbrik's performance is measured.

use super::{ReadAt, WriteAt};
use crate::{
    error::Result,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::sync::{
    Arc,
    atomic::{AtomicU64, Ordering},
};

/// Bytes read and written so far, shared with the reporting code.
#[derive(Clone, Debug, Default)]
pub struct Tally(Arc<Counters>);

#[derive(Debug, Default)]
struct Counters {
    read: AtomicU64,
    reads: AtomicU64,
    written: AtomicU64,
    writes: AtomicU64,
}

impl Tally {
    /// Bytes read.
    #[must_use]
    pub fn read(&self) -> ByteLen {
        ByteLen::new(self.0.read.load(Ordering::Relaxed))
    }

    /// How many requests the bytes were read with.
    #[must_use]
    pub fn reads(&self) -> u64 {
        self.0.reads.load(Ordering::Relaxed)
    }

    /// How many requests there were to write, those that failed included.
    #[must_use]
    pub fn writes(&self) -> u64 {
        self.0.writes.load(Ordering::Relaxed)
    }

    /// Bytes written, zeros included, by requests that did not fail.
    #[must_use]
    pub fn written(&self) -> ByteLen {
        ByteLen::new(self.0.written.load(Ordering::Relaxed))
    }
}

/// A store that adds its traffic to a [`Tally`].
#[derive(Debug)]
pub struct Counted<S> {
    inner: S,
    tally: Tally,
}

impl<S> Counted<S> {
    /// Counts the traffic of `inner` in `tally`.
    pub fn new(inner: S, tally: &Tally) -> Self {
        Self { inner, tally: tally.clone() }
    }
}

impl<S: ReadAt> ReadAt for Counted<S> {
    fn size(&self) -> ByteLen {
        self.inner.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        self.tally.0.read.fetch_add(ByteLen::of(buf).get(), Ordering::Relaxed);
        self.tally.0.reads.fetch_add(1, Ordering::Relaxed);
        self.inner.read_at(at, buf)
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        self.inner.next_data(from)
    }

    fn sector_size(&self) -> SectorSize {
        self.inner.sector_size()
    }
}

impl<S: WriteAt> WriteAt for Counted<S> {
    fn write_at(&self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        self.tally.0.writes.fetch_add(1, Ordering::Relaxed);
        self.inner.write_at(at, bytes)?;
        self.tally.0.written.fetch_add(ByteLen::of(bytes).get(), Ordering::Relaxed);
        Ok(())
    }

    fn zero_at(&self, span: Span) -> Result<()> {
        self.tally.0.writes.fetch_add(1, Ordering::Relaxed);
        self.inner.zero_at(span)?;
        self.tally.0.written.fetch_add(span.len().get(), Ordering::Relaxed);
        Ok(())
    }

    fn zeroes_by_itself(&self, span: Span) -> Result<bool> {
        let does = self.inner.zeroes_by_itself(span)?;
        if does {
            self.tally.0.writes.fetch_add(1, Ordering::Relaxed);
            self.tally.0.written.fetch_add(span.len().get(), Ordering::Relaxed);
        }
        Ok(does)
    }

    fn flush(&self) -> Result<()> {
        self.inner.flush()
    }
}
