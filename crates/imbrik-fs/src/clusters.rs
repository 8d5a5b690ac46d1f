//! The clusters of a volume at new places: what FAT and exFAT have in common when they get another
//! size. Clusters are counted from 0 here.

use super::{
    DerivedVolume, Moved, Reshaped,
    bits::{Bits, Run},
    placement::{Holes, Moves, place},
};
use imbrik_store::{
    Concatenated, ReadAt,
    error::{Class, Error, Result},
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::sync::Arc;

/// Where the clusters of a volume were, and where they are now.
pub(super) struct Clusters {
    /// Bytes a cluster.
    pub(super) len: ByteLen,
    /// Where the first stood, and stands now, from the volume's start.
    pub(super) was: ByteOffset,
    pub(super) is: ByteOffset,
    /// How many there were, and are now.
    pub(super) had: u64,
    pub(super) count: u64,
    /// Those that get another number.
    pub(super) moves: Moves,
}

impl Clusters {
    fn bytes(&self, clusters: u64) -> ByteLen {
        self.len.checked_mul(clusters).unwrap_or_default()
    }

    /// Where cluster `number` of the source stands in the source.
    pub(super) fn old_place(&self, number: u64) -> ByteOffset {
        self.was.saturating_add(self.bytes(number))
    }

    /// Where cluster `number` stands in the volume that is made.
    pub(super) fn new_place(&self, number: u64) -> ByteOffset {
        self.is.saturating_add(self.bytes(number))
    }

    /// Where a byte of the source's clusters goes.
    pub(super) fn follow(&self, at: ByteOffset) -> ByteOffset {
        let ahead = at.saturating_since(self.was).get();
        let number = ahead.checked_div(self.len.get()).unwrap_or(0);
        let inside = ahead.checked_rem(self.len.get()).unwrap_or(0);
        self.new_place(self.moves.target_of(number)).saturating_add(ByteLen::new(inside))
    }

    /// The end of the last cluster.
    pub(super) fn end(&self) -> ByteOffset {
        self.new_place(self.count)
    }

    /// Adds the content of all clusters, out of `store`.
    pub(super) fn push_onto(&self, pieced: &mut Concatenated, store: &Arc<dyn ReadAt>) {
        self.moves.sources(Run::new(0, self.count), |_, from| {
            let there = self.had.saturating_sub(from.first).min(from.len);
            pieced.push(store, self.old_place(from.first), self.bytes(there));
            pieced.push_zeros(self.bytes(from.len.saturating_sub(there)));
        });
    }

    /// What comes from elsewhere in the source, in order.
    fn moved(&self) -> Vec<Moved> {
        let mut moved = Vec::new();
        self.moves.sources(Run::new(0, self.count), |to, from| {
            let there = self.had.saturating_sub(from.first).min(from.len);
            let start = self.new_place(to.first);
            let from = self.old_place(from.first);
            if start != from && there > 0 {
                let to = Span::between(start, start.saturating_add(self.bytes(there)));
                moved.push(Moved { to, from });
            }
        });
        moved
    }

    /// The volume that was made of them, which is `draft`: made anew in `rewritten` and in front of
    /// the clusters.
    pub(super) fn reshaped(
        &self,
        draft: Arc<dyn ReadAt>,
        mut rewritten: Vec<Span>,
        limit: Option<String>,
    ) -> Reshaped {
        rewritten.push(Span::between(ByteOffset::ZERO, self.is));
        Reshaped {
            volume: DerivedVolume { store: draft, rewritten: joined(rewritten) },
            moved: self.moved(),
            had_to_move: self.copied(),
            copied: self.copied(),
            inodes_moved: 0,
            aside: ByteLen::ZERO,
            limit,
            warnings: Vec::new(),
            kept_faults: Vec::new(),
        }
    }

    /// How many bytes get another number.
    fn copied(&self) -> ByteLen {
        self.bytes(self.moves.by_target().iter().map(|one| one.len).sum())
    }
}

/// An error that a look at a finished volume found: it is the plan's, not the source's.
pub(super) fn would_be_wrong(error: Error) -> Error {
    match error.class() {
        Class::Corrupt | Class::Unsupported => {
            Error::bug(format!("the reshaped volume would be wrong: {error}"))
        }
        _ => error,
    }
}

/// The fewest clusters, at least `fewest`, that hold all of `used`, none of them in a `bad` one.
pub(super) fn fewest(used: &Bits, bad: &Bits, fewest: u64) -> u64 {
    let needed = used.count();
    let mut count = fewest.max(needed).min(used.len());
    loop {
        let lost = bad.count_in(Run::new(0, count));
        let enough = needed.saturating_add(lost).max(fewest).min(used.len());
        if enough <= count {
            return count;
        }
        count = enough;
    }
}

/// The moves after which all of `used` lies among the first `count` clusters. `whole` are runs that
/// should stay in one piece; each of them that reaches over the end goes as a whole when there is
/// a hole for it.
///
/// # Errors
/// [`imbrik_store::Class::NoRoom`] with the missing bytes.
pub(super) fn moves(
    used: &Bits,
    bad: &Bits,
    whole: &[Run],
    count: u64,
    len: ByteLen,
) -> Result<Moves> {
    let lacks = |lacking: u64| {
        let lacking = len.checked_mul(lacking).unwrap_or_default();
        Error::no_room(format!("{lacking} are missing for what is in it"))
    };
    // To keep a run in one piece takes more room than its end alone, so that others may lack it.
    try_moves(used, bad, whole, count).or_else(|_| try_moves(used, bad, &[], count)).map_err(lacks)
}

fn try_moves(
    used: &Bits,
    bad: &Bits,
    whole: &[Run],
    count: u64,
) -> std::result::Result<Moves, u64> {
    let within = Run::new(0, count);
    let behind = Run::new(count, used.len().saturating_sub(count));
    let mut taken = used.clone();
    for run in bad.runs(within) {
        taken.add(run);
    }
    let mut rigid = Vec::new();
    let mut rest = used.clone();
    for run in whole.iter().filter(|run| run.end() > count) {
        rest.remove(*run);
        let has_hole = taken.holes(within).any(|hole| hole.len >= run.len);
        let first = if has_hole { run.first } else { run.first.max(count) };
        rigid.push(Run::new(first, run.end().saturating_sub(first)));
    }
    rigid.extend(rest.runs(behind));
    place(&mut Holes::of(&taken, within), rigid, Vec::new())
}
