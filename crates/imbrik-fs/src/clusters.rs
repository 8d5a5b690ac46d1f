//! Moving clusters: the parts of resizing that FAT and exFAT have in common. Clusters are counted from 0 here.

use super::{
    DerivedVolume, GrowthLimit, Moved, ResizedVolume,
    bits::{Bits, Run, push},
    placement::{Holes, Moves, place},
};
use imbrik_store::{
    Concatenated, Keep, Pages, ReadAt, bytes,
    error::{Class, Error, Result},
    exact::Exact as _,
    read_up_to,
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::sync::Arc;

/// The location of a run of clusters of `len` bytes, the first of which starts at `data`.
pub(super) fn span_of(run: Run, data: ByteOffset, len: ByteLen) -> Span {
    let bytes = |clusters| len.checked_mul(clusters).unwrap_or_default();
    let start = data.saturating_add(bytes(run.first));
    Span::between(start, start.saturating_add(bytes(run.len)))
}

/// A value of an allocation table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Link {
    /// A free cluster.
    Free,
    /// A bad cluster.
    Bad,
    /// The last cluster of its chain.
    Last,
    /// The next cluster of the chain, counted from 0.
    To(u64),
    /// An invalid number.
    Wrong(u32),
}

/// The clusters of a file or folder, in order.
pub(super) struct Chain {
    /// Up to the end, or to where the chain is broken.
    pub(super) runs: Vec<Run>,
    /// The cluster at which the chain is broken: it doesn't exist, or its value in the table is invalid.
    pub(super) broken_at: Option<u64>,
}

impl Chain {
    /// The clusters of a complete chain.
    ///
    /// # Errors
    /// [`Class::Corrupt`] with the place where it is broken.
    pub(super) fn whole(self) -> Result<Vec<Run>> {
        match self.broken_at {
            None => Ok(self.runs),
            Some(number) => {
                let number = number.plus(2)?;
                Err(Error::corrupt(format!("a chain breaks off at cluster {number}")))
            }
        }
    }
}

/// Follows the chain that starts at cluster `first` of `clusters`, by the values of `link`. `own` is called with every
/// cluster before it is added; a cyclic chain counts as broken, unless `own` refuses it earlier.
///
/// # Errors
/// Those of `link` and `own`.
pub(super) fn follow(
    first: u64,
    clusters: u64,
    link: &mut dyn FnMut(u64) -> Result<Link>,
    own: &mut dyn FnMut(u64) -> Result<()>,
) -> Result<Chain> {
    follow_some(clusters, first, clusters, link, own)
}

/// The same without `own`, for at most `most` clusters.
///
/// # Errors
/// Those of `link`.
pub(super) fn follow_up_to(
    most: u64,
    first: u64,
    clusters: u64,
    link: &mut dyn FnMut(u64) -> Result<Link>,
) -> Result<Chain> {
    follow_some(most, first, clusters, link, &mut |_| Ok(()))
}

fn follow_some(
    most: u64,
    first: u64,
    clusters: u64,
    link: &mut dyn FnMut(u64) -> Result<Link>,
    own: &mut dyn FnMut(u64) -> Result<()>,
) -> Result<Chain> {
    let mut chain = Chain { runs: Vec::new(), broken_at: None };
    let mut number = first;
    for _ in 0..most {
        if number >= clusters {
            break;
        }
        own(number)?;
        push(&mut chain.runs, number);
        match link(number)? {
            Link::To(next) => number = next,
            Link::Last => return Ok(chain),
            Link::Free | Link::Bad | Link::Wrong(_) => break,
        }
    }
    chain.broken_at = Some(number);
    Ok(chain)
}

/// An allocation table that is read on demand.
pub(super) struct TableReader<'a> {
    store: &'a dyn ReadAt,
    place: Span,
    pages: Pages,
}

impl<'a> TableReader<'a> {
    /// Bytes that are read together: a multiple of entries of 12, 16 and 32 bits.
    const PAGE: u64 = 12 << 10;
    /// Bytes of the table that are cached.
    const MOST: ByteLen = ByteLen::mib(4);

    /// The table at `place` in `store`.
    pub(super) fn new(store: &'a dyn ReadAt, place: Span) -> Self {
        Self { store, place, pages: Pages::new(Self::MOST, Keep::Last) }
    }

    /// The bytes from offset `at` of the table; `None` past its end.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub(super) fn bytes<const N: usize>(&self, at: u64) -> Result<Option<[u8; N]>> {
        let page = at / Self::PAGE;
        let page = self.pages.get_or_make(page, || {
            let ahead = ByteLen::new(page.times(Self::PAGE)?);
            let start = self.place.start().plus(ahead)?;
            let len = self.place.end().saturating_since(start).min(ByteLen::new(Self::PAGE));
            read_up_to(self.store, start, len.to_usize().unwrap_or(0)).map(Into::into)
        })?;
        let inside = usize::try_from(at % Self::PAGE).unwrap_or(usize::MAX);
        Ok(bytes::array(&page, inside))
    }
}

/// The old and new locations of the clusters of a volume.
pub(super) struct Clusters {
    /// Cluster size in bytes.
    pub(super) len: ByteLen,
    /// The old and new offset of the first one in the volume.
    pub(super) was: ByteOffset,
    pub(super) is: ByteOffset,
    /// The old and new count.
    pub(super) had: u64,
    pub(super) count: u64,
    /// Clusters that get another number.
    pub(super) moves: Moves,
}

impl Clusters {
    /// The same, after a check that the ends of all clusters, before and after, fit into 64 bits.
    ///
    /// # Errors
    /// [`Class::Bug`] when they don't.
    pub(super) fn proved(self) -> Result<Self> {
        self.was.plus(self.len.times(self.had)?)?;
        self.is.plus(self.len.times(self.count)?)?;
        Ok(self)
    }

    fn bytes(&self, clusters: u64) -> ByteLen {
        ByteLen::new(self.len.get().saturating_mul(clusters))
    }

    /// The location of cluster `number` of the source.
    pub(super) fn old_place(&self, number: u64) -> ByteOffset {
        self.was.saturating_add(self.bytes(number))
    }

    /// The location of cluster `number` in the new volume.
    pub(super) fn new_place(&self, number: u64) -> ByteOffset {
        self.is.saturating_add(self.bytes(number))
    }

    /// The new location of a byte of the source's clusters.
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

    /// The part of `run` that the source has: a larger volume has additional clusters.
    fn there(&self, run: Run) -> Run {
        Run::between(run.first, run.end().min(self.had))
    }

    /// Adds the content of all clusters from `store`.
    pub(super) fn push_onto(&self, pieced: &mut Concatenated, store: &Arc<dyn ReadAt>) {
        self.moves.sources(Run::new(0, self.count), |_, from| {
            let there = self.there(from);
            pieced.push(store, self.old_place(from.first), self.bytes(there.len));
            pieced.push_zeros(self.bytes(Run::between(there.len, from.len).len));
        });
    }

    /// Ranges that come from other places of the source, in order.
    fn moved(&self) -> Vec<Moved> {
        let mut moved = Vec::new();
        self.moves.sources(Run::new(0, self.count), |to, from| {
            let there = self.there(from);
            let start = self.new_place(to.first);
            let from = self.old_place(from.first);
            if start != from && there.len > 0 {
                let to = Span::between(start, start.saturating_add(self.bytes(there.len)));
                moved.push(Moved { to, from });
            }
        });
        moved
    }

    /// The new volume `draft`: new content in `rewritten` and before the clusters.
    pub(super) fn resized(
        &self,
        draft: Arc<dyn ReadAt>,
        mut rewritten: Vec<Span>,
        limit: Option<GrowthLimit>,
    ) -> ResizedVolume {
        rewritten.push(Span::between(ByteOffset::ZERO, self.is));
        ResizedVolume {
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

    /// Bytes of clusters that get another number.
    fn copied(&self) -> ByteLen {
        self.bytes(self.moves.by_target().iter().map(|one| one.len).sum())
    }
}

/// An inconsistency of the finished volume: an error of the plan, not of the source.
pub(super) fn would_be_wrong(error: Error) -> Error {
    match error.class() {
        Class::Corrupt | Class::Unsupported => {
            Error::bug(format!("the resized volume would be wrong: {error}"))
        }
        _ => error,
    }
}

/// The error for missing space.
pub(super) fn lacks_room(shortfall: ByteLen) -> Error {
    Error::no_room(format!("{shortfall} short of the space its content needs"))
        .with_shortfall(shortfall)
}

/// The minimum number of clusters, at least `fewest`, for all of `used`, without those in `bad`.
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

/// The moves after which all of `used` is in the first `count` clusters. `whole` are runs that should stay contiguous:
/// each one that extends past the end is moved completely if there is a sufficient hole.
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
    let no_room = |shortfall: u64| {
        let shortfall = len.checked_mul(shortfall).unwrap_or_default();
        lacks_room(shortfall)
    };
    // Keeping a run contiguous needs more space than moving its end, so that others may not fit.
    try_moves(used, bad, whole, count)
        .or_else(|_| try_moves(used, bad, &[], count))
        .map_err(no_room)
}

fn try_moves(
    used: &Bits,
    bad: &Bits,
    whole: &[Run],
    count: u64,
) -> std::result::Result<Moves, u64> {
    let within = Run::new(0, count);
    let behind = Run::between(count, used.len());
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
        rigid.push(Run::between(first, run.end()));
    }
    rigid.extend(rest.runs(behind));
    place(&mut Holes::of(&taken, within), rigid, Vec::new())
}
