//! Zeroing parts of a card, without rewriting zeros.

use imbrik_store::{
    Pool, WriteAt,
    bytes::is_zero,
    error::Result,
    for_pieces,
    units::{ByteLen, Span},
};

/// The unit of reading and writing.
const PIECE: ByteLen = ByteLen::mib(1);

/// The maximum number of pieces that are written without being read, before one is read again.
const MOST_UNSEEN: u32 = 63;

/// Clears spans of a card, writing as little as there is need for.
///
/// A card reads three to ten times as fast as it writes. So if it has no command for zeroing, a piece is read first,
/// and not written if it is zero: on a new card, or after an earlier restore. If piece after piece contains data, fewer
/// and fewer are read.
pub(super) struct Clearing {
    pool: Pool,
    /// The number of consecutive pieces that were read and contained data, as a power of two minus one.
    unseen_next: u32,
    /// The number of pieces to write without reading them first.
    unseen_left: u32,
}

impl Clearing {
    pub(super) fn new() -> Self {
        Self { pool: Pool::new(PIECE.to_usize().unwrap_or(0)), unseen_next: 0, unseen_left: 0 }
    }

    /// Zeroes `span` of `card`; returns the number of bytes that were zero already.
    ///
    /// # Errors
    /// As for [`WriteAt::zero_at`]. What cannot be read is written.
    pub(super) fn clear(&mut self, card: &dyn WriteAt, span: Span) -> Result<ByteLen> {
        let mut found = ByteLen::ZERO;
        if card.zeroes_by_itself(span)? {
            return Ok(found);
        }
        for_pieces(span, PIECE, |piece| {
            if self.is_to_be_seen() && self.is_zero(card, piece) {
                found = found.plus(piece.len())?;
                return Ok(());
            }
            card.zero_at(piece)
        })?;
        Ok(found)
    }

    fn is_to_be_seen(&mut self) -> bool {
        match self.unseen_left.checked_sub(1) {
            Some(left) => {
                self.unseen_left = left;
                false
            }
            None => true,
        }
    }

    fn is_zero(&mut self, card: &dyn WriteAt, piece: Span) -> bool {
        let mut buffer = self.pool.take(piece.len().to_usize().unwrap_or(0));
        // Without retries: an unreadable piece is written, which may repair it.
        let is = card.read_once(piece.start(), &mut buffer).is_ok() && is_zero(&buffer);
        self.unseen_next = match is {
            true => 0,
            false => (self.unseen_next << 1 | 1).min(MOST_UNSEEN),
        };
        self.unseen_left = self.unseen_next;
        is
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{
        Counted, ReadAt, SparseStore, Tally, read_vec,
        testing::{Faults, Faulty},
        units::ByteOffset,
    };
    use proptest::prelude::*;

    fn mib(start: u64, len: u64) -> Span {
        Span::new(ByteOffset::new(start << 20), ByteLen::mib(len)).unwrap()
    }

    /// Clears in steps, as tiles come.
    fn clear(card: &dyn WriteAt, span: Span) -> (ByteLen, Tally) {
        let tally = Tally::default();
        let counted = Counted::new(card, &tally);
        let mut clearing = Clearing::new();
        let mut found = ByteLen::ZERO;
        for_pieces(span, ByteLen::mib(4), |tile| {
            found = found.plus(clearing.clear(&counted, tile)?)?;
            Ok(())
        })
        .unwrap();
        (found, tally)
    }

    /// Fails if zeros are rewritten, or a full card is read completely.
    #[test]
    fn zeros_are_not_rewritten_and_a_full_card_is_hardly_read() {
        let blank = SparseStore::new(ByteLen::mib(300));
        let (found, tally) = clear(&blank, mib(0, 300));
        assert_eq!((found, tally.written()), (ByteLen::mib(300), ByteLen::ZERO));
        let full = SparseStore::of(&vec![0xee; 300 << 20]);
        let (found, tally) = clear(&full, mib(0, 300));
        assert_eq!((found, tally.written()), (ByteLen::ZERO, ByteLen::mib(300)));
        assert!(tally.read() <= ByteLen::mib(11), "{}", tally.read());
        assert!(is_zero(&read_vec(&full, ByteOffset::ZERO, 300 << 20).unwrap()));
    }

    #[test]
    fn unreadable_ranges_are_overwritten() {
        let faults = Faults { unreadable: vec![mib(3, 1)], ..Faults::default() };
        let card = Faulty::new(SparseStore::of(&vec![0xee; 8 << 20]), faults);
        clear(&card, mib(0, 8));
        assert!(is_zero(&read_vec(card.inner(), ByteOffset::ZERO, 8 << 20).unwrap()));
    }

    proptest! {
        /// After clearing any part of any card, that part is zero, and no other byte has changed.
        #[test]
        fn span_is_zeroed_and_its_neighbours_unchanged(
            stale in prop::collection::vec((0u64..24 << 20, 1usize..2 << 20), 0..12),
            start in 0u64..24 << 20,
            len in 1u64..24 << 20,
        ) {
            let size = ByteLen::mib(24);
            let card = SparseStore::new(size);
            for (at, len) in stale {
                let len = len.min(usize::try_from(size.get() - at).unwrap());
                card.write_at(ByteOffset::new(at), &vec![0xee; len]).unwrap();
            }
            let mut expected = read_vec(&card, ByteOffset::ZERO, 24 << 20).unwrap();
            let end = (start + len).min(card.size().get());
            clear(&card, Span::between(ByteOffset::new(start), ByteOffset::new(end)));
            expected[usize::try_from(start).unwrap()..usize::try_from(end).unwrap()].fill(0);
            prop_assert!(read_vec(&card, ByteOffset::ZERO, 24 << 20).unwrap() == expected);
        }
    }
}
