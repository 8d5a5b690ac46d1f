//! A range of a store as a separate store: a partition of a card.

use super::{ReadAt, WriteAt, check_range};
use crate::{
    error::Result,
    exact::invariant_error,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};

/// The bytes of `span` in another store, counted from its start.
#[derive(Clone, Debug)]
pub struct Window<S> {
    inner: S,
    span: Span,
}

impl<S: ReadAt> Window<S> {
    /// A window on `span`.
    ///
    /// # Errors
    /// When `span` reaches past the end of `inner`.
    pub fn new(inner: S, span: Span) -> Result<Self> {
        check_range(span.start(), span.len(), inner.size())?;
        Ok(Self { inner, span })
    }

    fn outer(&self, at: ByteOffset, len: ByteLen) -> Result<ByteOffset> {
        check_range(at, len, self.span.len())?;
        self.span
            .start()
            .checked_add(ByteLen::new(at.get()))
            .ok_or_else(|| invariant_error("a window reaches past 64 bits"))
    }
}

impl<S: ReadAt> ReadAt for Window<S> {
    fn size(&self) -> ByteLen {
        self.span.len()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let at = self.outer(at, ByteLen::of(buf))?;
        self.inner.read_at(at, buf)
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let at = self.outer(at, ByteLen::of(buf))?;
        self.inner.read_once(at, buf)
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        let from = self.outer(from, ByteLen::ZERO)?;
        let found = self.inner.next_data(from)?.and_then(|data| data.intersect(self.span));
        Ok(found.map(|data| {
            let start = ByteOffset::new(data.start().saturating_since(self.span.start()).get());
            Span::between(start, start.saturating_add(data.len()))
        }))
    }

    fn sector_size(&self) -> SectorSize {
        self.inner.sector_size()
    }
}

impl<S: WriteAt> WriteAt for Window<S> {
    fn write_at(&self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        let at = self.outer(at, ByteLen::of(bytes))?;
        self.inner.write_at(at, bytes)
    }

    fn zero_at(&self, span: Span) -> Result<()> {
        let start = self.outer(span.start(), span.len())?;
        self.inner.zero_at(Span::between(start, start.saturating_add(span.len())))
    }

    fn zeroes_by_itself(&self, span: Span) -> Result<bool> {
        let start = self.outer(span.start(), span.len())?;
        self.inner.zeroes_by_itself(Span::between(start, start.saturating_add(span.len())))
    }

    fn flush(&self) -> Result<()> {
        self.inner.flush()
    }
}

#[cfg(test)]
mod tests {
    use super::{super::SparseStore, *};

    #[test]
    fn window_is_limited_to_its_span() {
        let store = SparseStore::new(ByteLen::kib(64));
        store.write_at(ByteOffset::new(1000), b"hive").unwrap();
        let span = Span::between(ByteOffset::new(998), ByteOffset::new(1003));
        let window = Window::new(&store, span).unwrap();
        let mut buf = [9; 5];
        window.read_at(ByteOffset::ZERO, &mut buf).unwrap();
        assert_eq!(&buf, b"\0\0hiv");
        assert!(window.read_at(ByteOffset::new(1), &mut buf).is_err());
        assert!(window.write_at(ByteOffset::new(4), b"xy").is_err());
        assert_eq!(window.next_data(ByteOffset::ZERO).unwrap(), Some(Span::whole(ByteLen::new(5))));
        assert!(Window::new(&store, Span::whole(ByteLen::kib(65))).is_err());
    }
}
