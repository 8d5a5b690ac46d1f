//! The content of a card, read from another card to which it was copied.

use crate::{
    image::TILE,
    layout::{Content, View},
};
use imbrik_store::{
    Beyond, ReadAt, Recorded, check_range,
    error::{Error, Result},
    units::{ByteLen, ByteOffset, SectorSize, Span, common, joined},
};
use std::sync::Arc;

/// How much data of a card is kept in memory before it is overwritten.
const MOST_IN_MEMORY: ByteLen = ByteLen::mib(256);

/// A card whose content is read from another card to which it was copied unchanged.
pub struct Placed {
    copy: Arc<dyn ReadAt>,
    size: ByteLen,
    /// The ranges of the first card, in order, and their offset on the other one.
    pieces: Vec<(Span, ByteOffset)>,
}

/// The ranges that a view copies from its source, and their offset in the view; in order of the source.
fn copied(view: &View) -> Vec<(Span, ByteOffset)> {
    let pieces = view.segments_in(Span::whole(view.size())).filter_map(|segment| {
        let Content::Copied { from } = segment.content else { return None };
        Some((Span::new(from, segment.span.len())?, segment.span.start()))
    });
    let mut pieces: Vec<_> = pieces.collect();
    pieces.sort_by_key(|(span, _)| span.start());
    pieces
}

impl Placed {
    /// Out of `copy`, to which `view`, made of a card of `size`, was written.
    #[must_use]
    pub fn of(view: &View, size: ByteLen, copy: Arc<dyn ReadAt>) -> Self {
        Self { copy, size, pieces: copied(view) }
    }

    /// The available ranges of the first card, in order and joined.
    #[must_use]
    pub fn spans(&self) -> Vec<Span> {
        joined(self.pieces.iter().map(|(span, _)| *span).collect())
    }

    /// The same, after reading into memory the data that writing `view`, made of `known` and more, to the other card
    /// would overwrite.
    ///
    /// # Errors
    /// When it cannot be read; [`crate::Class::NoRoom`] when that is too much.
    pub fn kept_for(self, view: &View, known: &[Span]) -> Result<Arc<dyn ReadAt>> {
        let mut moves = Vec::new();
        for (span, to) in copied(view) {
            for known in common(&[span], known) {
                let to = to.saturating_add(known.start().saturating_since(span.start()));
                self.each(known, |part, at| {
                    let due = to.saturating_add(part.start().saturating_since(known.start()));
                    // The first tile is overwritten first.
                    if at != Some(due) || due < ByteOffset::new(TILE.get()) {
                        moves.push(part);
                    }
                });
            }
        }
        let len: ByteLen = moves.iter().map(|span| span.len()).sum();
        if len > MOST_IN_MEMORY {
            return Err(Error::no_room(format!(
                "{len} of it have moved meanwhile, and do not fit in memory"
            )));
        }
        let kept = Recorded::new(Arc::new(self), MOST_IN_MEMORY, None);
        for span in joined(moves) {
            kept.take(span)?;
        }
        kept.set_beyond(Beyond::AsItIs);
        Ok(Arc::new(kept))
    }

    /// Calls `visit` for the parts of `span`, each with its offset on the other card.
    fn each(&self, span: Span, mut visit: impl FnMut(Span, Option<ByteOffset>)) {
        let mut at = span.start();
        let first = self.pieces.partition_point(|(piece, _)| piece.end() <= at);
        for (piece, to) in self.pieces.get(first..).unwrap_or_default() {
            let Some(both) = piece.intersect(Span::between(at, span.end())) else { break };
            if both.start() > at {
                visit(Span::between(at, both.start()), None);
            }
            let ahead = both.start().saturating_since(piece.start());
            visit(both, Some(to.saturating_add(ahead)));
            at = both.end();
        }
        if at < span.end() {
            visit(Span::between(at, span.end()), None);
        }
    }
}

impl ReadAt for Placed {
    fn size(&self) -> ByteLen {
        self.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        let span = Span::between(at, at.saturating_add(ByteLen::of(buf)));
        let mut rest = buf;
        let mut done = Ok(());
        self.each(span, |part, place| {
            let len = part.len().to_usize().unwrap_or(usize::MAX).min(rest.len());
            let (now, later) = std::mem::take(&mut rest).split_at_mut(len);
            match place {
                Some(place) if done.is_ok() => done = self.copy.read_at(place, now),
                Some(_) => {}
                // Unknown data are not needed; recording reads whole pages.
                None => now.fill(0),
            }
            rest = later;
        });
        done
    }

    fn sector_size(&self) -> SectorSize {
        self.copy.sector_size()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::layout::Segment;
    use imbrik_store::{SparseStore, WriteAt, read_vec};
    use proptest::prelude::*;

    const PAGE: u64 = 4096;
    const PAGES: u64 = 3000;

    /// A view of a card that puts its pages in pieces at other places.
    fn view(card: &Arc<dyn ReadAt>, cuts: &[u64], swaps: &[(usize, usize)]) -> View {
        let mut cuts: Vec<u64> = cuts.iter().map(|cut| cut % PAGES).chain([0, PAGES]).collect();
        cuts.sort_unstable();
        cuts.dedup();
        let mut pieces: Vec<(u64, u64)> = cuts.windows(2).map(|two| (two[0], two[1])).collect();
        for (a, b) in swaps {
            let count = pieces.len();
            pieces.swap(a % count, b % count);
        }
        let mut at = 0;
        let segments: Vec<_> = pieces
            .iter()
            .enumerate()
            .map(|(index, (from, to))| {
                let span =
                    Span::new(ByteOffset::new(at), ByteLen::new((to - from) * PAGE)).unwrap();
                at += (to - from) * PAGE;
                let content = match index % 5 {
                    3 => Content::Unused,
                    _ => Content::Copied { from: ByteOffset::new(from * PAGE) },
                };
                Segment { span, content }
            })
            .collect();
        View::of_segments(card.size(), Arc::clone(card), &segments).unwrap()
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]

        /// Writes a card to another one by one plan, then by a second one from the data there: fails if data are
        /// overwritten before they are read.
        #[test]
        fn data_is_read_before_its_place_is_overwritten(
            cuts in proptest::collection::vec(any::<u64>(), 1..12),
            swaps in proptest::collection::vec((any::<usize>(), any::<usize>()), 0..6),
            again in proptest::collection::vec((any::<usize>(), any::<usize>()), 0..3),
        ) {
            let bytes: Vec<u8> = (0..PAGES).flat_map(|page| [(page % 251) as u8; PAGE as usize]).collect();
            let card: Arc<dyn ReadAt> = Arc::new(SparseStore::of(&bytes));
            let first = view(&card, &cuts, &swaps);
            let other = Arc::new(SparseStore::new(card.size()));
            let all = read_vec(&first, ByteOffset::ZERO, bytes.len()).unwrap();
            other.write_at(ByteOffset::ZERO, &all).unwrap();
            let placed = Placed::of(&first, card.size(), Arc::<SparseStore>::clone(&other));
            let known = placed.spans();
            let second = view(&card, &cuts, &[&swaps[..], &again[..]].concat());
            let kept = placed.kept_for(&second, &known).unwrap();
            // In the order of writing a card: its start is cleared first, then the rest in order, its start last.
            other.write_at(ByteOffset::ZERO, &vec![0xee; TILE.to_usize().unwrap()]).unwrap();
            for segment in second.segments_in(Span::whole(second.size())) {
                let Content::Copied { from } = segment.content else { continue };
                let from = Span::new(from, segment.span.len()).unwrap();
                for span in common(&[from], &known) {
                    let ahead = span.start().get() - from.start().get();
                    let read = read_vec(&*kept, span.start(), span.len().to_usize().unwrap()).unwrap();
                    let due = &bytes[span.start().get() as usize..span.end().get() as usize];
                    prop_assert!(read == due);
                    other.write_at(segment.span.start().saturating_add(ByteLen::new(ahead)), &read).unwrap();
                }
            }
        }
    }
}
