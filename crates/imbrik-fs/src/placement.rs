//! Which blocks move, and where to.
//!
//! Blocks move only if they are past the new end, or where metadata will be. The longest runs go into the smallest
//! holes that hold them, so that long holes remain for long runs; a run that fits nowhere fills the longest hole, and
//! its rest is placed next. Blocks that can be split without a cost, those of indirect maps and single ones, come last.
//! Blocks in the same hole keep the order of the source, so that reading the target in order reads the source nearly in
//! order.

use super::bits::{Bits, Run};
use std::collections::{BTreeSet, BinaryHeap};

/// Some blocks in a row that move together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Move {
    pub(super) from: u64,
    pub(super) to: u64,
    pub(super) len: u64,
}

impl Move {
    fn source(self) -> Run {
        Run::new(self.from, self.len)
    }

    fn target(self) -> Run {
        Run::new(self.to, self.len)
    }
}

/// All moves, findable from both sides.
#[derive(Clone, Debug, Default)]
pub(super) struct Moves {
    by_source: Vec<Move>,
    by_target: Vec<Move>,
}

impl Moves {
    pub(super) fn of(mut moves: Vec<Move>) -> Self {
        moves.retain(|one| one.len > 0);
        moves.sort_unstable_by_key(|one| one.to);
        let by_target = moves.clone();
        moves.sort_unstable_by_key(|one| one.from);
        Self { by_source: moves, by_target }
    }

    /// In the target's order.
    pub(super) fn by_target(&self) -> &[Move] {
        &self.by_target
    }

    /// The new number of `block` of the source, which is the same if it does not move.
    pub(super) fn target_of(&self, block: u64) -> u64 {
        let mut target = block;
        self.targets(Run::new(block, 1), |_, to| target = to.first);
        target
    }

    /// Calls `work` with each part of `run`, a run of the source, and its new location.
    pub(super) fn targets(&self, run: Run, work: impl FnMut(Run, Run)) {
        split(&self.by_source, |one| (one.from, one.to), run, work);
    }

    /// Calls `work` with each part of `run`, a run of the target, and its location in the source, which is the same for
    /// unmoved parts.
    pub(super) fn sources(&self, run: Run, work: impl FnMut(Run, Run)) {
        split(&self.by_target, |one| (one.to, one.from), run, work);
    }
}

/// Splits `run` at the boundaries of `moves`; `sides` returns a move's source and target.
fn split(
    moves: &[Move],
    sides: impl Fn(&Move) -> (u64, u64),
    run: Run,
    mut work: impl FnMut(Run, Run),
) {
    let mut at = run.first;
    let first = moves.partition_point(|one| Run::new(sides(one).0, one.len).end() <= run.first);
    for one in moves.get(first..).unwrap_or_default() {
        let (near, far) = sides(one);
        if near >= run.end() {
            break;
        }
        let start = near.max(at);
        let end = Run::new(near, one.len).end().min(run.end());
        let before = Run::between(at, start);
        if before.len > 0 {
            work(before, before);
        }
        let here = Run::between(start, end);
        let ahead = Run::between(near, start).len;
        work(here, Run::new(Run::new(far, ahead).end(), here.len));
        at = end;
    }
    if at < run.end() {
        let rest = Run::between(at, run.end());
        work(rest, rest);
    }
}

/// Free blocks, by length and by place.
pub(super) struct Holes {
    by_len: BTreeSet<(u64, u64)>,
}

impl Holes {
    /// The holes in `taken` among the blocks of `within`.
    pub(super) fn of(taken: &Bits, within: Run) -> Self {
        Self { by_len: taken.holes(within).map(|hole| (hole.len, hole.first)).collect() }
    }

    /// A single block out of the smallest hole.
    pub(super) fn take_one(&mut self) -> Option<u64> {
        self.take(1).map(|run| run.first)
    }

    /// Up to `len` blocks: out of the smallest hole that has them all, or else all of the longest.
    fn take(&mut self, len: u64) -> Option<Run> {
        let hole = self.by_len.range((len, 0)..).next().or_else(|| self.by_len.last()).copied()?;
        self.by_len.remove(&hole);
        let (free, first) = hole;
        let taken = Run::new(first, free.min(len));
        let left = Run::between(taken.end(), Run::new(first, free).end());
        if left.len > 0 {
            self.by_len.insert((left.len, left.first));
        }
        Some(taken)
    }
}

/// Finds locations in `holes` for `rigid` runs, which should not be split, and for `loose` ones, which can be. Returns
/// the moves, or how many blocks have no place.
pub(super) fn place(
    holes: &mut Holes,
    rigid: Vec<Run>,
    mut loose: Vec<Run>,
) -> std::result::Result<Moves, u64> {
    let mut waiting: BinaryHeap<(u64, std::cmp::Reverse<u64>)> =
        rigid.into_iter().map(|run| (run.len, std::cmp::Reverse(run.first))).collect();
    let mut moves = Vec::new();
    let mut shortfall = 0u64;
    while let Some((len, std::cmp::Reverse(from))) = waiting.pop() {
        let Some(place) = holes.take(len) else {
            shortfall = shortfall.saturating_add(len);
            continue;
        };
        moves.push(Move { from, to: place.first, len: place.len });
        let all = Run::new(from, len);
        let rest = Run::between(Run::new(from, place.len).end(), all.end());
        if rest.len > 0 {
            waiting.push((rest.len, std::cmp::Reverse(rest.first)));
        }
    }
    loose.sort_unstable_by_key(|run| (std::cmp::Reverse(run.len), run.first));
    for run in loose {
        let mut run = run;
        while run.len > 0 {
            let Some(place) = holes.take(run.len) else {
                shortfall = shortfall.saturating_add(run.len);
                break;
            };
            moves.push(Move { from: run.first, to: place.first, len: place.len });
            run = Run::between(Run::new(run.first, place.len).end(), run.end());
        }
    }
    match shortfall {
        0 => Ok(Moves::of(in_order(moves))),
        _ => Err(shortfall),
    }
}

/// The same moves, with neighbours in the target sorted by the source.
fn in_order(mut moves: Vec<Move>) -> Vec<Move> {
    moves.sort_unstable_by_key(|one| one.to);
    let mut ordered: Vec<Move> = Vec::with_capacity(moves.len());
    let mut rest = moves.as_mut_slice();
    while let Some(first) = rest.first().copied() {
        let mut end = first.to;
        let side_by_side = rest.iter().take_while(|one| {
            let goes_on = one.to == end;
            end = one.target().end();
            goes_on
        });
        let count = side_by_side.count();
        let (group, behind) = std::mem::take(&mut rest).split_at_mut(count);
        group.sort_unstable_by_key(|one| one.from);
        let mut to = first.to;
        for one in group {
            match ordered.last_mut() {
                Some(last) if last.source().end() == one.from && last.target().end() == to => {
                    last.len = Run::between(last.from, one.source().end()).len;
                }
                _ => ordered.push(Move { from: one.from, to, len: one.len }),
            }
            to = Run::new(to, one.len).end();
        }
        rest = behind;
    }
    ordered
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn placement_is_a_bijection(
            taken in proptest::collection::vec((0u64..500, 1u64..40), 0..30),
            runs in proptest::collection::vec((1u64..40, any::<bool>()), 0..20),
        ) {
            let within = Run::new(0, 500);
            let mut bits = Bits::new(500);
            for (first, len) in taken {
                bits.add(Run::new(first, len.min(500 - first)));
            }
            let free = 500 - bits.count();
            let (mut rigid, mut loose, mut at) = (Vec::new(), Vec::new(), 1000);
            for (len, is_rigid) in runs {
                if is_rigid { &mut rigid } else { &mut loose }.push(Run::new(at, len));
                at += len + len % 2;
            }
            let all: Vec<Run> = rigid.iter().chain(&loose).copied().collect();
            let needed: u64 = all.iter().map(|run| run.len).sum();
            match place(&mut Holes::of(&bits, within), rigid, loose) {
                Err(shortfall) => prop_assert_eq!(shortfall, needed - free),
                Ok(moves) => {
                    prop_assert!(needed <= free);
                    for run in all {
                        moves.targets(run, |part, to| {
                            assert!(bits.add(to), "{to:?} was taken");
                            moves.sources(to, |near, far| {
                                let ahead = near.first - to.first;
                                assert_eq!(far, Run::new(part.first + ahead, near.len));
                            });
                        });
                    }
                    prop_assert_eq!(bits.count(), 500 - free + needed);
                }
            }
        }
    }
}
