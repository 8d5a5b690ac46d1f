//! The view: a plan that is readable like the finished card.
//!
//! A view is a list of segments that cover the target without gaps. Nothing in the source is changed, and nothing is
//! copied: each segment is read from its source on demand.

use imbrik_store::{
    PieceOf, ReadAt, SparseStore, check_range,
    error::{Error, Result},
    next_data_in, read_pieces,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::{fmt, sync::Arc};

/// The source of the bytes of a segment.
#[derive(Clone)]
pub enum Content {
    /// The source store, from offset `from`.
    Copied {
        /// The offset of the segment in the source.
        from: ByteOffset,
    },
    /// Generated metadata of the plan.
    Rewritten {
        /// The store that generates them on demand.
        store: Arc<dyn ReadAt>,
        /// The offset of the segment in that store.
        from: ByteOffset,
    },
    /// Zeros, always written: old data must never remain.
    Cleared,
    /// Free space: undefined on the target, zeros in an image.
    Unused,
}

impl fmt::Debug for Content {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Copied { from } => write!(f, "copied from {from}"),
            Self::Rewritten { .. } => f.write_str("rewritten"),
            Self::Cleared => f.write_str("cleared"),
            Self::Unused => f.write_str("unused"),
        }
    }
}

impl Content {
    /// The content `ahead` bytes after its start.
    fn skipped(&self, ahead: ByteLen) -> Self {
        match self {
            Self::Copied { from } => Self::Copied { from: from.saturating_add(ahead) },
            Self::Rewritten { store, from } => {
                Self::Rewritten { store: Arc::clone(store), from: from.saturating_add(ahead) }
            }
            Self::Cleared => Self::Cleared,
            Self::Unused => Self::Unused,
        }
    }
}

/// A range of the target and its source.
#[derive(Clone, Debug)]
pub struct Segment {
    /// Its location on the target.
    pub span: Span,
    /// Its source.
    pub content: Content,
}

impl Segment {
    /// The part of it in `span`; `None` if it is empty.
    pub(super) fn clipped(&self, span: Span) -> Option<Self> {
        let both = self.span.intersect(span)?;
        let ahead = both.start().saturating_since(self.span.start());
        Some(Self { span: both, content: self.content.skipped(ahead) })
    }
}

/// A plan as a readable card.
#[derive(Clone)]
pub struct View {
    source: Arc<dyn ReadAt>,
    size: ByteLen,
    segments: Vec<Segment>,
}

impl View {
    /// A copy of `source`.
    #[must_use]
    pub fn whole(source: Arc<dyn ReadAt>) -> Self {
        let size = source.size();
        Self::on_card_of(size, source)
    }

    /// `source` at the start of a card of `size`: the rest of the card is free space, and data that don't fit are left
    /// out.
    #[must_use]
    pub fn on_card_of(size: ByteLen, source: Arc<dyn ReadAt>) -> Self {
        let copied = Span::whole(size.min(source.size()));
        let rest = Span::between(copied.end(), ByteOffset::new(size.get()));
        let mut segments = vec![
            Segment { span: copied, content: Content::Copied { from: ByteOffset::ZERO } },
            Segment { span: rest, content: Content::Unused },
        ];
        segments.retain(|segment| !segment.span.is_empty());
        Self { source, size, segments }
    }

    /// The view of a card of `size` with these segments, truncated at its end.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when they don't cover the card in order without gaps.
    pub fn of_segments(
        size: ByteLen,
        source: Arc<dyn ReadAt>,
        segments: &[Segment],
    ) -> Result<Self> {
        let card = Span::whole(size);
        let segments: Vec<_> = segments.iter().filter_map(|s| s.clipped(card)).collect();
        let mut at = ByteOffset::ZERO;
        for segment in &segments {
            if segment.span.start() != at {
                return Err(Error::corrupt(format!("the plan has a hole at {at}")));
            }
            at = segment.span.end();
        }
        if at != card.end() {
            return Err(Error::corrupt(format!("the plan ends at {at}, the card at {size}")));
        }
        Ok(Self { source, size, segments })
    }

    /// The same view with all free space cleared.
    #[must_use]
    pub fn wiped(mut self) -> Self {
        for segment in &mut self.segments {
            if matches!(segment.content, Content::Unused) {
                segment.content = Content::Cleared;
            }
        }
        self
    }

    /// The same view with another content of `span`. Ranges outside of the view are ignored.
    #[must_use]
    pub fn with(mut self, span: Span, content: Content) -> Self {
        let Some(span) = span.intersect(Span::whole(self.size)) else { return self };
        let before = Span::whole(ByteLen::new(span.start().get()));
        let behind = Span::between(span.end(), ByteOffset::new(self.size.get()));
        let mut segments: Vec<_> =
            self.segments.iter().filter_map(|segment| segment.clipped(before)).collect();
        segments.push(Segment { span, content });
        segments.extend(self.segments.iter().filter_map(|segment| segment.clipped(behind)));
        self.segments = segments;
        self
    }

    /// The same view with `spans`, which are in order and joined, read from `store`, which starts at the offset
    /// `start`.
    #[must_use]
    pub fn with_store(
        mut self,
        spans: &[Span],
        store: &Arc<dyn ReadAt>,
        start: ByteOffset,
    ) -> Self {
        let whole = Span::whole(self.size);
        let mut segments = Vec::new();
        let mut at = ByteOffset::ZERO;
        for span in spans.iter().filter_map(|span| span.intersect(whole)) {
            segments.extend(self.segments_in(Span::between(at, span.start())));
            let from = ByteOffset::new(span.start().saturating_since(start).get());
            let content = Content::Rewritten { store: Arc::clone(store), from };
            segments.push(Segment { span, content });
            at = span.end();
        }
        segments.extend(self.segments_in(Span::between(at, whole.end())));
        self.segments = segments;
        self
    }

    /// The same view with `bytes` at `at`.
    #[must_use]
    pub fn with_bytes(self, at: ByteOffset, bytes: &[u8]) -> Self {
        let span = Span::between(at, at.saturating_add(ByteLen::of(bytes)));
        let store: Arc<dyn ReadAt> = Arc::new(SparseStore::of(bytes));
        self.with(span, Content::Rewritten { store, from: ByteOffset::ZERO })
    }

    /// The view for reading back from `target`.
    #[must_use]
    pub fn read_back_from(&self, target: Arc<dyn ReadAt>) -> Self {
        let back = self.segments.iter().map(|segment| Segment {
            span: segment.span,
            content: match segment.content {
                Content::Unused => Content::Unused,
                _ => Content::Copied { from: segment.span.start() },
            },
        });
        Self { source: target, size: self.size, segments: back.collect() }
    }

    /// The store of copied segments.
    #[must_use]
    pub fn source(&self) -> &Arc<dyn ReadAt> {
        &self.source
    }

    /// All segments, in order, without a hole.
    #[must_use]
    pub fn segments(&self) -> &[Segment] {
        &self.segments
    }

    /// The segments in `span`, truncated to it.
    pub fn segments_in(&self, span: Span) -> impl Iterator<Item = Segment> {
        let first = self.segments.partition_point(|segment| segment.span.end() <= span.start());
        self.segments
            .get(first..)
            .unwrap_or_default()
            .iter()
            .map_while(move |segment| segment.clipped(span))
    }

    /// The sources of the segments, from the one with `at`.
    fn pieces_from(&self, at: ByteOffset) -> impl Iterator<Item = PieceOf<'_>> {
        let first = self.segments.partition_point(|segment| segment.span.end() <= at);
        let segments = self.segments.get(first..).unwrap_or_default().iter();
        segments.map(|segment| {
            let from: Option<(&dyn ReadAt, _)> = match &segment.content {
                Content::Copied { from } => Some((&*self.source, *from)),
                Content::Rewritten { store, from } => Some((&**store, *from)),
                Content::Cleared | Content::Unused => None,
            };
            (segment.span, from)
        })
    }

    /// The parts of `span` that are written to a card: all except free space.
    pub fn written_in(&self, span: Span) -> impl Iterator<Item = Span> {
        let segments = self.segments_in(span);
        let matters = segments.filter(|segment| !matches!(segment.content, Content::Unused));
        matters.map(|segment| segment.span)
    }

    /// Bytes of `span` that are read from the source.
    #[must_use]
    pub fn copied_in(&self, span: Span) -> ByteLen {
        let copied = |segment: &Segment| matches!(segment.content, Content::Copied { .. });
        self.segments_in(span).filter(copied).map(|segment| segment.span.len()).sum()
    }

    /// Used bytes of `span`: copied or generated.
    #[must_use]
    pub fn in_use_in(&self, span: Span) -> ByteLen {
        let used = |segment: &Segment| {
            matches!(segment.content, Content::Copied { .. } | Content::Rewritten { .. })
        };
        self.segments_in(span).filter(used).map(|segment| segment.span.len()).sum()
    }

    /// Bytes of zeros that are written without reading.
    #[must_use]
    pub fn cleared(&self) -> ByteLen {
        let cleared = |segment: &&Segment| matches!(segment.content, Content::Cleared);
        self.segments.iter().filter(cleared).map(|segment| segment.span.len()).sum()
    }

    /// Bytes that are written to a card.
    #[must_use]
    pub fn written(&self) -> ByteLen {
        self.written_in(Span::whole(self.size)).map(Span::len).sum()
    }
}

impl ReadAt for View {
    fn size(&self) -> ByteLen {
        self.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        read_pieces(self.pieces_from(at), at, buf, |store, at, buf| store.read_at(at, buf))
    }

    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        read_pieces(self.pieces_from(at), at, buf, |store, at, buf| store.read_once(at, buf))
    }

    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        next_data_in(self.pieces_from(from), from)
    }

    fn sector_size(&self) -> SectorSize {
        self.source.sector_size()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::read_vec;
    use proptest::prelude::*;

    #[test]
    fn unwritten_ranges_are_not_verified() {
        let view = View::on_card_of(ByteLen::new(100), Arc::new(SparseStore::of(&[1; 40])))
            .with(Span::between(ByteOffset::new(90), ByteOffset::new(100)), Content::Cleared);
        assert_eq!(view.written(), ByteLen::new(50));
        let back = view.read_back_from(Arc::new(SparseStore::of(&[7; 100])));
        let bytes = read_vec(&back, ByteOffset::ZERO, 100).unwrap();
        assert_eq!(bytes.iter().filter(|byte| **byte == 7).count(), 50);
        assert_eq!(bytes[40..90], [0; 50]);
    }

    proptest! {
        #[test]
        fn view_reads_like_an_edited_copy(
            size in 1usize..300,
            source in 0usize..300,
            edits in proptest::collection::vec((0usize..300, 1usize..80, 0u8..4), 0..12),
            cuts in proptest::collection::vec((0usize..300, 0usize..300), 1..6),
        ) {
            let source: Vec<u8> = (0..source).map(|i| u8::try_from(i % 250).unwrap() + 1).collect();
            let mut plain = source.clone();
            plain.resize(size, 0);
            let mut view =
                View::on_card_of(ByteLen::from_usize(size), Arc::new(SparseStore::of(&source)));
            for (at, len, kind) in edits {
                let offset = ByteOffset::new(at as u64);
                let bytes = vec![200 + kind; len];
                view = if kind == 0 {
                    let end = ByteOffset::new((at + len) as u64);
                    view.with(Span::between(offset, end), Content::Cleared)
                } else {
                    view.with_bytes(offset, &bytes)
                };
                for (i, byte) in bytes.iter().enumerate() {
                    if let Some(place) = plain.get_mut(at + i) {
                        *place = if kind == 0 { 0 } else { *byte };
                    }
                }
            }
            for (from, to) in cuts {
                let (from, to) = (from.min(to).min(size), from.max(to).min(size));
                let read = read_vec(&view, ByteOffset::new(from as u64), to - from).unwrap();
                prop_assert_eq!(&read[..], &plain[from..to]);
            }
            let mut at = ByteOffset::ZERO;
            while let Some(data) = view.next_data(at).unwrap() {
                let skipped = &plain[at.get() as usize..data.start().get() as usize];
                prop_assert!(skipped.iter().all(|byte| *byte == 0));
                at = data.end();
            }
            prop_assert!(plain[at.get() as usize..].iter().all(|byte| *byte == 0));
        }
    }
}
