//! Digests of the pieces of a tile: part of its BLAKE3 tree.

use super::tile::{PIECE, TILE, TileDigest};
use blake3::hazmat::{
    ChainingValue, HasherExt as _, Mode, merge_subtrees_non_root, merge_subtrees_root,
};
use imbrik_store::{
    bytes::is_zero,
    units::{ByteLen, Span},
};
use std::sync::OnceLock;

/// The chaining values (section 2.1 of the BLAKE3 paper) of the pieces of a tile, in order: the digest of the tile
/// follows from them, even if only some pieces were read. Empty if unknown, and for a tile that is not longer than a
/// piece.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PieceHashes(Vec<ChainingValue>);

/// A piece of a tile with a known digest.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KnownPiece {
    /// Which one, counted from 0.
    pub number: usize,
    /// Its chaining value.
    value: ChainingValue,
}

impl KnownPiece {
    /// Returns whether it consists of `bytes`.
    #[must_use]
    pub fn holds(&self, bytes: &[u8]) -> bool {
        value_of(self.number, bytes) == self.value
    }

    /// Its range in `tile`; `None` if it is past the end.
    #[must_use]
    pub fn span(&self, tile: Span) -> Option<Span> {
        piece_span(tile, self.number)
    }
}

impl PieceHashes {
    /// Takes `values`, one a piece of a tile that has `digest`, or none.
    ///
    /// `None` when they contradict it.
    #[must_use]
    pub fn of(values: Vec<ChainingValue>, digest: &TileDigest) -> Option<Self> {
        let is_right = values.is_empty()
            || matches!(digest, TileDigest::Hash(hash) if root(&values) == Some(*hash));
        is_right.then_some(Self(values))
    }

    /// Those of a tile that holds `bytes`, and its digest; of pieces that are `known`, in order, the bytes do not
    /// matter. `None` when it is no longer than a piece.
    pub(super) fn of_tile(bytes: &[u8], known: &[KnownPiece]) -> Option<(blake3::Hash, Self)> {
        let mut known = known.iter().peekable();
        let values: Vec<_> = bytes
            .chunks(piece_len())
            .enumerate()
            .map(|(number, bytes)| match known.next_if(|piece| piece.number == number) {
                Some(piece) => piece.value,
                None => match zero_values().get(number).filter(|_| is_whole_of_zeros(bytes)) {
                    Some(zeros) => *zeros,
                    None => value_of(number, bytes),
                },
            })
            .collect();
        Some((root(&values)?, Self(values)))
    }

    /// One a piece, or none.
    #[must_use]
    pub fn values(&self) -> &[ChainingValue] {
        &self.0
    }

    /// The pieces of `tile` at the `wanted` positions. Omits a short last piece of a card, and pieces of zeros: only
    /// reading shows that a whole tile is zeros.
    pub(crate) fn known(
        &self,
        tile: Span,
        mut wanted: impl FnMut(Span) -> bool,
    ) -> Vec<KnownPiece> {
        let values = self.0.iter().zip(zero_values()).enumerate();
        let filled = values.filter(|(_, (value, zeros))| value != zeros);
        let known = filled.map(|(number, (value, _))| KnownPiece { number, value: *value });
        let is_wanted = |piece: &KnownPiece| {
            piece.span(tile).is_some_and(|span| span.len() == PIECE && wanted(span))
        };
        known.filter(is_wanted).collect()
    }
}

/// The range of piece `number` of `tile`.
fn piece_span(tile: Span, number: usize) -> Option<Span> {
    let ahead = ByteLen::new(PIECE.get().checked_mul(u64::try_from(number).ok()?)?);
    Span::new(tile.start().checked_add(ahead)?, PIECE)?.intersect(tile)
}

fn piece_len() -> usize {
    PIECE.to_usize().unwrap_or(usize::MAX)
}

fn value_of(number: usize, bytes: &[u8]) -> ChainingValue {
    let ahead = PIECE.get().saturating_mul(u64::try_from(number).unwrap_or(u64::MAX));
    blake3::Hasher::new().set_input_offset(ahead).update(bytes).finalize_non_root()
}

/// Returns whether it is a complete piece of zeros, which is faster than hashing it.
fn is_whole_of_zeros(bytes: &[u8]) -> bool {
    bytes.len() == piece_len() && is_zero(bytes)
}

/// Those of whole pieces of zeros.
fn zero_values() -> &'static [ChainingValue] {
    static VALUES: OnceLock<Vec<ChainingValue>> = OnceLock::new();
    VALUES.get_or_init(|| {
        let zeros = vec![0; TILE.to_usize().unwrap_or(0)];
        zeros
            .chunks(piece_len())
            .enumerate()
            .map(|(number, piece)| value_of(number, piece))
            .collect()
    })
}

/// The two subtrees of a tree of at least two pieces: the left one is the largest whole one.
fn halves(values: &[ChainingValue]) -> Option<(&[ChainingValue], &[ChainingValue])> {
    let left = values.len().checked_next_power_of_two()?.checked_div(2).filter(|left| *left > 0)?;
    values.split_at_checked(left)
}

fn root(values: &[ChainingValue]) -> Option<blake3::Hash> {
    let (left, right) = halves(values)?;
    Some(merge_subtrees_root(&merged(left)?, &merged(right)?, Mode::Hash))
}

fn merged(values: &[ChainingValue]) -> Option<ChainingValue> {
    match values {
        [one] => Some(*one),
        more => {
            let (left, right) = halves(more)?;
            Some(merge_subtrees_non_root(&merged(left)?, &merged(right)?, Mode::Hash))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::units::ByteOffset;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]

        /// Fails if the digest of a tile depends on which of its pieces were hashed.
        #[test]
        fn digest_of_pieces_equals_that_of_the_content(
            pieces in 1usize..=16, short in 0usize..5000, keeps in any::<u16>(), fill in any::<u8>(),
        ) {
            let len = pieces * piece_len() - short;
            let bytes: Vec<u8> = (0..len).map(|at| (at / 70_000) as u8 ^ fill).collect();
            let tile = Span::new(ByteOffset::new(TILE.get() * 3), ByteLen::from_usize(len)).unwrap();
            let Some((hash, all)) = PieceHashes::of_tile(&bytes, &[]) else {
                prop_assert_eq!(pieces, 1);
                return Ok(());
            };
            prop_assert_eq!(hash, blake3::hash(&bytes));
            let digest = TileDigest::Hash(hash);
            prop_assert_eq!(PieceHashes::of(all.values().to_vec(), &digest), Some(all.clone()));
            let mut number = 0;
            let known = all.known(tile, |_| { number += 1; keeps >> (number % 16) & 1 == 1 });
            let mut others = bytes;
            for piece in &known {
                let at = piece.number * piece_len();
                others[at..at + piece_len()].fill(0xee);
            }
            prop_assert_eq!(PieceHashes::of_tile(&others, &known), Some((hash, all.clone())));
            // With another content or another place, they are of another tile.
            let mut wrong = all.values().to_vec();
            wrong[0][7] ^= 1;
            prop_assert_eq!(PieceHashes::of(wrong, &digest), None);
            let turned: Vec<_> = all.values().iter().rev().copied().collect();
            prop_assert_eq!(PieceHashes::of(turned, &digest), None);
        }
    }

    #[test]
    fn zeros_and_short_pieces_have_no_digest() {
        let mut bytes = vec![0; 3 * piece_len() + 9];
        bytes[piece_len() + 5] = 1;
        let tile = Span::new(ByteOffset::ZERO, ByteLen::of(&bytes)).unwrap();
        let (_, hashes) = PieceHashes::of_tile(&bytes, &[]).unwrap();
        let known: Vec<_> = hashes.known(tile, |_| true).iter().map(|piece| piece.number).collect();
        assert_eq!(known, [1]);
        assert_eq!(hashes.known(tile, |_| false), []);
    }
}
