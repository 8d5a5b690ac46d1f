//! A set of block or inode numbers, a bit each.

#![expect(
    clippy::arithmetic_side_effects,
    reason = "every number is clipped to the set's length first, which is far below 2^63"
)]

/// A range of consecutive numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) struct Run {
    /// The first.
    pub(super) first: u64,
    /// How many.
    pub(super) len: u64,
}

impl Run {
    /// `len` numbers from `first`.
    pub(super) const fn new(first: u64, len: u64) -> Self {
        Self { first, len }
    }

    /// The numbers from `first` up to, but not including, `end`; empty unless `end` is larger.
    pub(super) const fn between(first: u64, end: u64) -> Self {
        Self { first, len: end.saturating_sub(first) }
    }

    /// The end, exclusive.
    pub(super) const fn end(self) -> u64 {
        self.first.saturating_add(self.len)
    }
}

/// Adds a number to a list of runs.
pub(super) fn push(runs: &mut Vec<Run>, number: u64) {
    match runs.last_mut() {
        Some(last) if last.end() == number => last.len += 1,
        _ => runs.push(Run::new(number, 1)),
    }
}

/// A set of numbers below a bound.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Bits {
    words: Vec<u64>,
    len: u64,
}

const WORD: u64 = 64;

/// The bits of a word from `from` up to `to`, both at most 64.
fn mask(from: u64, to: u64) -> u64 {
    let below = |bit: u64| if bit >= WORD { u64::MAX } else { (1u64 << bit) - 1 };
    below(to) & !below(from)
}

impl Bits {
    /// The empty set of numbers below `len`.
    pub(super) fn new(len: u64) -> Self {
        let words = usize::try_from(len.div_ceil(WORD)).unwrap_or(0);
        Self { words: vec![0; words], len }
    }

    /// Numbers from here on are never in it.
    pub(super) fn len(&self) -> u64 {
        self.len
    }

    /// Calls `work` with each word that contains numbers of `run`, and a mask of their bits.
    fn over(&mut self, run: Run, mut work: impl FnMut(&mut u64, u64)) {
        let end = run.end().min(self.len);
        let mut at = run.first;
        while at < end {
            let start = at - at % WORD;
            let to = (end - start).min(WORD);
            let index = usize::try_from(at / WORD).unwrap_or(usize::MAX);
            if let Some(word) = self.words.get_mut(index) {
                work(word, mask(at - start, to));
            }
            at = start + to;
        }
    }

    /// Adds the numbers of `run`, and returns whether all of them were new and below the limit.
    pub(super) fn add(&mut self, run: Run) -> bool {
        let mut is_new = run.end() <= self.len;
        self.over(run, |word, bits| {
            is_new &= *word & bits == 0;
            *word |= bits;
        });
        is_new
    }

    /// Takes the numbers of `run` out.
    pub(super) fn remove(&mut self, run: Run) {
        self.over(run, |word, bits| *word &= !bits);
    }

    /// Returns whether `number` is in it.
    pub(super) fn contains(&self, number: u64) -> bool {
        number < self.len && self.word(number / WORD) >> (number % WORD) & 1 == 1
    }

    fn word(&self, index: u64) -> u64 {
        let index = usize::try_from(index).unwrap_or(usize::MAX);
        self.words.get(index).copied().unwrap_or(0)
    }

    /// How many numbers of `run` are in it.
    pub(super) fn count_in(&self, run: Run) -> u64 {
        let end = run.end().min(self.len);
        let (mut at, mut count) = (run.first, 0);
        while at < end {
            let start = at - at % WORD;
            let to = (end - start).min(WORD);
            count += u64::from((self.word(at / WORD) & mask(at - start, to)).count_ones());
            at = start + to;
        }
        count
    }

    /// The clusters of `len` numbers each, counted from the start of `within`, that have one of it.
    pub(super) fn in_clusters(&self, within: Run, len: u64) -> Self {
        let mut clusters = Self::new(within.len.div_ceil(len));
        for run in self.runs(within) {
            let first = (run.first - within.first) / len;
            let end = (run.end() - within.first).div_ceil(len);
            clusters.add(Run::new(first, end - first));
        }
        clusters
    }

    /// How many numbers are in it.
    pub(super) fn count(&self) -> u64 {
        self.words.iter().map(|word| u64::from(word.count_ones())).sum()
    }

    /// The first number from `from` up to `end` that is in the set (`wanted`), or outside of it; `end` without one.
    fn next(&self, from: u64, end: u64, wanted: bool) -> u64 {
        let mut at = from;
        while at < end {
            let word = if wanted { self.word(at / WORD) } else { !self.word(at / WORD) };
            let rest = word & mask(at % WORD, WORD);
            let start = at - at % WORD;
            if rest != 0 {
                return (start + u64::from(rest.trailing_zeros())).min(end);
            }
            at = start + WORD;
        }
        end
    }

    fn runs_of(&self, within: Run, wanted: bool) -> impl Iterator<Item = Run> + '_ {
        let end = within.end().min(self.len);
        let mut at = within.first;
        std::iter::from_fn(move || {
            let first = self.next(at, end, wanted);
            if first >= end {
                return None;
            }
            at = self.next(first, end, !wanted);
            Some(Run::new(first, at - first))
        })
    }

    /// The runs of numbers in `within` that are in it, in order.
    pub(super) fn runs(&self, within: Run) -> impl Iterator<Item = Run> + '_ {
        self.runs_of(within, true)
    }

    /// The runs of numbers in `within` that are not in it, in order.
    pub(super) fn holes(&self, within: Run) -> impl Iterator<Item = Run> + '_ {
        self.runs_of(within, false)
    }

    /// The same numbers, with the limit increased to `len`, if that is larger.
    pub(super) fn reaching(mut self, len: u64) -> Self {
        self.len = self.len.max(len);
        self.words.resize(usize::try_from(self.len.div_ceil(WORD)).unwrap_or(0), 0);
        self
    }

    /// The numbers of `run` as a bitmap of `bytes` bytes, the lowest number in the lowest bit. Bits after the run are
    /// set, as required after the end of a group.
    pub(super) fn bitmap(&self, run: Run, bytes: usize) -> Vec<u8> {
        let mut bitmap = vec![0u8; bytes];
        for inside in self.runs(run) {
            set_bits(&mut bitmap, inside.first - run.first, inside.end() - run.first);
        }
        let all = u64::try_from(bytes).unwrap_or(0).saturating_mul(8);
        set_bits(&mut bitmap, run.len, all);
        bitmap
    }
}

/// Sets the bits from `from` up to `to`.
fn set_bits(bitmap: &mut [u8], from: u64, to: u64) {
    let place = |bit: u64| usize::try_from(bit / 8).unwrap_or(usize::MAX);
    let mut at = from;
    while at < to {
        let whole = to - to % 8;
        if at.is_multiple_of(8) && at < whole {
            let end = place(whole).min(bitmap.len());
            if let Some(bytes) = bitmap.get_mut(place(at)..end) {
                bytes.fill(0xff);
            }
            at = whole;
            continue;
        }
        if let Some(byte) = bitmap.get_mut(place(at)) {
            *byte |= 1 << (at % 8);
        }
        at += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    proptest! {
        #[test]
        fn bit_set_matches_a_model(
            len in 1u64..400,
            edits in proptest::collection::vec((any::<bool>(), 0u64..420, 0u64..150), 0..20),
            within in (0u64..420, 0u64..420),
        ) {
            let mut bits = Bits::new(len);
            let mut set = BTreeSet::new();
            for (adds, first, count) in edits {
                let run = Run::new(first, count);
                let inside: Vec<_> = (first..first + count).filter(|n| *n < len).collect();
                if adds {
                    let is_new = first + count <= len && inside.iter().all(|n| !set.contains(n));
                    prop_assert_eq!(bits.add(run), is_new);
                    set.extend(inside);
                } else {
                    bits.remove(run);
                    inside.iter().for_each(|n| { set.remove(n); });
                }
            }
            let within = Run::new(within.0, within.1);
            let listed = |runs: Vec<Run>| -> Vec<u64> {
                runs.into_iter().flat_map(|run| run.first..run.end()).collect()
            };
            let (there, not): (Vec<_>, Vec<_>) =
                (within.first..within.end()).filter(|n| *n < len).partition(|n| set.contains(n));
            prop_assert_eq!(bits.count(), set.len() as u64);
            prop_assert_eq!(bits.count_in(within), there.len() as u64);
            prop_assert_eq!(listed(bits.runs(within).collect()), there.clone());
            prop_assert_eq!(listed(bits.holes(within).collect()), not);
            let bitmap = bits.bitmap(within, 60);
            for bit in 0..480u64 {
                let is_set = bitmap[(bit / 8) as usize] >> (bit % 8) & 1 == 1;
                let expected = bit >= within.len || set.contains(&(within.first + bit));
                prop_assert_eq!(is_set, expected, "bit {}", bit);
            }
        }
    }
}
