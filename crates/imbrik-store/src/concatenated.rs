//! A store of consecutive ranges of other stores.

use super::{ReadAt, check_range};
use crate::{
    error::{Error, Result},
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::{fmt, sync::Arc};

/// A store of consecutive ranges of other stores.
#[derive(Clone)]
pub struct Concatenated {
    size: ByteLen,
    sector: SectorSize,
    pieces: Vec<Piece>,
}

/// A range of a concatenated store, with its source store and the offset there; `None` for zeros.
pub type PieceOf<'a> = (Span, Option<(&'a dyn ReadAt, ByteOffset)>);

/// Reads `buf` at `at` out of pieces that follow each other without a hole, the first of which holds
/// `at`, each through `read`.
///
/// # Errors
/// When one of the stores cannot be read; [`crate::Class::Corrupt`] when they have a hole.
pub fn read_pieces<'a>(
    pieces: impl Iterator<Item = PieceOf<'a>>,
    at: ByteOffset,
    buf: &mut [u8],
    read: impl Fn(&dyn ReadAt, ByteOffset, &mut [u8]) -> Result<()>,
) -> Result<()> {
    let wanted = Span::between(at, at.saturating_add(ByteLen::of(buf)));
    let (mut at, mut rest) = (at, buf);
    for (span, from) in pieces {
        let Some(both) = span.intersect(wanted).filter(|both| both.start() == at) else { break };
        let len = both.len().to_usize().unwrap_or(0).min(rest.len());
        let (now, later) = rest.split_at_mut(len);
        let ahead = both.start().saturating_since(span.start());
        match from {
            Some((store, from)) => read(store, from.saturating_add(ahead), now)?,
            None => now.fill(0),
        }
        at = both.end();
        rest = later;
    }
    match rest {
        [] => Ok(()),
        _ => Err(Error::corrupt(format!("the pieces have a hole in {wanted}"))),
    }
}

/// The next range at or after `from` that may contain data, in consecutive pieces, the first of which contains `from`.
///
/// # Errors
/// When one of the stores cannot be read.
pub fn next_data_in<'a>(
    pieces: impl Iterator<Item = PieceOf<'a>>,
    from: ByteOffset,
) -> Result<Option<Span>> {
    for (span, source) in pieces {
        let Some((store, start)) = source else { continue };
        let skipped = from.saturating_since(span.start()).min(span.len());
        let at = start.saturating_add(skipped);
        let end = start.saturating_add(span.len());
        if let Some(data) = store.next_data(at)?
            && let Some(data) = data.intersect(Span::between(at, end))
        {
            let ahead = data.start().saturating_since(start);
            let found = span.start().saturating_add(ahead);
            return Ok(Some(Span::between(found, found.saturating_add(data.len()))));
        }
    }
    Ok(None)
}

#[derive(Clone)]
struct Piece {
    span: Span,
    /// The source; `None` for zeros.
    from: Option<(Arc<dyn ReadAt>, ByteOffset)>,
}

impl fmt::Debug for Concatenated {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} pieces, {} in all", self.pieces.len(), self.size)
    }
}

impl Concatenated {
    /// Creates an empty store with sectors of `sector`.
    #[must_use]
    pub fn new(sector: SectorSize) -> Self {
        Self { size: ByteLen::ZERO, sector, pieces: Vec::new() }
    }

    /// Appends `len` bytes of `store` from offset `from`. Bytes past its end are zeros.
    pub fn push(&mut self, store: &Arc<dyn ReadAt>, from: ByteOffset, len: ByteLen) {
        let there = ByteOffset::new(store.size().get()).saturating_since(from).min(len);
        self.add(Some((Arc::clone(store), from)), there);
        self.push_zeros(len.saturating_sub(there));
    }

    /// `store` with zeros in place of `spans`, which are in order and joined: its damaged ranges.
    #[must_use]
    pub fn with_zeros(store: &Arc<dyn ReadAt>, spans: &[Span]) -> Self {
        let mut this = Self::new(store.sector_size());
        let end = ByteOffset::new(store.size().get());
        for span in spans.iter().filter_map(|span| span.intersect(Span::whole(store.size()))) {
            let at = ByteOffset::new(this.size.get());
            this.push(store, at, span.start().saturating_since(at));
            this.push_zeros(span.len());
        }
        let at = ByteOffset::new(this.size.get());
        this.push(store, at, end.saturating_since(at));
        this
    }

    /// Adds `len` zeros.
    pub fn push_zeros(&mut self, len: ByteLen) {
        self.add(None, len);
    }

    /// The pieces from the one that holds `at` on.
    fn pieces_from(&self, at: ByteOffset) -> impl Iterator<Item = PieceOf<'_>> {
        let first = self.pieces.partition_point(|piece| piece.span.end() <= at);
        let pieces = self.pieces.get(first..).unwrap_or_default().iter();
        pieces.map(|piece| (piece.span, piece.from.as_ref().map(|(store, at)| (&**store, *at))))
    }

    fn add(&mut self, from: Option<(Arc<dyn ReadAt>, ByteOffset)>, len: ByteLen) {
        let start = ByteOffset::new(self.size.get());
        let span = Span::between(start, start.saturating_add(len));
        if !span.is_empty() {
            self.size = self.size.saturating_add(len);
            self.pieces.push(Piece { span, from });
        }
    }
}

impl ReadAt for Concatenated {
    fn size(&self) -> ByteLen {
        self.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        read_pieces(self.pieces_from(at), at, buf, |store, at, buf| store.read_at(at, buf))
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        next_data_in(self.pieces_from(from), from)
    }

    fn sector_size(&self) -> SectorSize {
        self.sector
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{SparseStore, read_vec, units::joined};
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn spans_read_as_zeros_and_the_rest_is_unchanged(
            spans in proptest::collection::vec((0u64..1100, 1u64..90), 0..6),
            at in 0usize..900,
            len in 0usize..124,
        ) {
            let bytes = vec![7u8; 1024];
            let span = |(at, len)| Span::new(ByteOffset::new(at), ByteLen::new(len)).unwrap();
            let spans = joined(spans.into_iter().map(span).collect());
            let mut expected = bytes.clone();
            for byte in spans.iter().flat_map(|span| span.start().get()..span.end().get()) {
                expected.iter_mut().skip(byte as usize).take(1).for_each(|byte| *byte = 0);
            }
            let store: Arc<dyn ReadAt> = Arc::new(SparseStore::of(&bytes));
            let store = Concatenated::with_zeros(&store, &spans);
            prop_assert_eq!(store.size(), ByteLen::new(1024));
            let found = read_vec(&store, ByteOffset::new(at as u64), len).unwrap();
            prop_assert_eq!(found, &expected[at..at + len]);
            // Everything outside of the reported data is zeros.
            let mut behind = ByteOffset::ZERO;
            while let Some(data) = store.next_data(behind).unwrap() {
                let skipped = &expected[behind.get() as usize..data.start().get() as usize];
                prop_assert!(skipped.iter().all(|byte| *byte == 0));
                behind = data.end();
            }
            prop_assert!(expected[behind.get() as usize..].iter().all(|byte| *byte == 0));
        }
    }
}
