//! A store of which some spans are not to be read: they are zeros.

use super::{ReadAt, check_range};
use crate::{
    error::Result,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};

/// `inner` with zeros in place of some spans, such as what is damaged in an image.
pub struct Blanked<S> {
    inner: S,
    /// In order and joined.
    spans: Vec<Span>,
}

impl<S: ReadAt> Blanked<S> {
    /// Zeros over `spans`, which are in order and joined.
    pub fn new(inner: S, spans: Vec<Span>) -> Self {
        Self { inner, spans }
    }
}

impl<S: ReadAt> ReadAt for Blanked<S> {
    fn size(&self) -> ByteLen {
        self.inner.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size())?;
        let end = at.saturating_add(ByteLen::of(buf));
        let mut at = at;
        let mut rest = buf;
        while at < end {
            let next = self.spans.partition_point(|span| span.end() <= at);
            let next = self.spans.get(next).filter(|span| span.start() < end);
            let is_blank = next.is_some_and(|span| span.start() <= at);
            let to = match next {
                Some(span) if is_blank => span.end().min(end),
                Some(span) => span.start(),
                None => end,
            };
            let len = to.saturating_since(at).to_usize().unwrap_or(0).min(rest.len());
            let (now, later) = rest.split_at_mut(len);
            if is_blank {
                now.fill(0)
            } else {
                self.inner.read_at(at, now)?
            }
            rest = later;
            at = to;
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
    use crate::{SparseStore, read_vec, units::joined};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn zeros_stand_in_the_spans_and_nothing_else_changes(
            spans in proptest::collection::vec((0u64..900, 1u64..90), 0..6),
            at in 0usize..900,
            len in 0usize..124,
        ) {
            let bytes = vec![7u8; 1024];
            let span = |(at, len)| Span::new(ByteOffset::new(at), ByteLen::new(len)).unwrap();
            let spans = joined(spans.into_iter().map(span).collect());
            let mut expected = bytes.clone();
            for span in &spans {
                expected[span.start().get() as usize..span.end().get() as usize].fill(0);
            }
            let store = Blanked::new(SparseStore::of(&bytes), spans);
            let found = read_vec(&store, ByteOffset::new(at as u64), len).unwrap();
            prop_assert_eq!(found, &expected[at..at + len]);
        }
    }
}
