//! The steps in which an edited volume is written in place, so that a power loss at any time leaves the old files or
//! the new ones.

use crate::edit::EditedVolume;
use imbrik_store::{
    ReadAt,
    error::Result,
    read_vec,
    units::{ByteLen, ByteOffset, Span},
};

/// Data that are written in any order, and flushed before the next step.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CommitStep {
    /// New content, as the edited volume has it.
    pub content: Vec<Span>,
    /// Bytes, and where they go.
    pub bytes: Vec<(ByteOffset, Vec<u8>)>,
}

/// In which order a volume is written in its place.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Commit {
    /// One after the other.
    pub steps: Vec<CommitStep>,
    /// The state after a power loss.
    pub after_a_cut: AfterACut,
}

/// The state after a power loss during a commit.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum AfterACut {
    /// The old files or the new ones: the volume's journal sees to it.
    #[default]
    OldOrNew,
    /// Each name is the old or the new one; the volume is marked as not unmounted, and a checker frees blocks that
    /// belong to no file.
    ToBeChecked,
}

impl CommitStep {
    /// Adds the bytes of `span`, as `store` has them.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(crate) fn push(&mut self, store: &dyn ReadAt, span: Span) -> Result<()> {
        let len = span.len().to_usize().unwrap_or(usize::MAX);
        self.bytes.push((span.start(), read_vec(store, span.start(), len)?));
        Ok(())
    }

    /// Adds bytes at a place.
    pub(crate) fn put(&mut self, at: u64, bytes: impl Into<Vec<u8>>) {
        self.bytes.push((ByteOffset::new(at), bytes.into()));
    }
}

/// The changed ranges, without file content and without `others`, a short list.
pub(crate) fn metadata(edited: &EditedVolume, others: &[Span]) -> Vec<Span> {
    let mut left = edited.metadata.clone();
    for hole in others {
        left = left.into_iter().flat_map(|span| without(span, *hole)).collect();
    }
    left
}

/// Splits `spans`: the ranges within, in pieces of `unit`, and the rest.
pub(crate) fn parted(
    spans: &[Span],
    is_within: impl Fn(ByteOffset) -> bool,
    unit: ByteLen,
) -> (Vec<Span>, Vec<Span>) {
    let (mut inside, mut outside) = (Vec::new(), Vec::new());
    for span in spans {
        let mut at = span.start();
        while at < span.end() {
            let next = at.get().saturating_add(1).next_multiple_of(unit.get().max(1));
            let end = ByteOffset::new(next).min(span.end());
            let piece = Span::between(at, end);
            if is_within(at) {
                inside.push(piece)
            } else {
                outside.push(piece)
            }
            at = end;
        }
    }
    (inside, outside)
}

/// Bytes of an entry in a folder of FAT and exFAT.
const ENTRY: usize = 32;

/// The steps that write the entries in `spans`: first new entries, then changed and removed ones. So a file that is
/// renamed or moved to another folder has a name at any time.
pub(crate) fn entries_in_order(
    old: &dyn ReadAt,
    new: &dyn ReadAt,
    spans: &[Span],
    is_free: fn(u8) -> bool,
) -> Result<[CommitStep; 2]> {
    let (mut added, mut rest) = (CommitStep::default(), CommitStep::default());
    for span in spans {
        let len = span.len().to_usize().unwrap_or(usize::MAX);
        let (mut between, now) =
            (read_vec(old, span.start(), len)?, read_vec(new, span.start(), len)?);
        // After the end of a folder, all entries are free, whatever they hold.
        let mut is_after_end = false;
        for (was, is) in between.chunks_mut(ENTRY).zip(now.chunks(ENTRY)) {
            let first = was.first().copied().unwrap_or_default();
            is_after_end |= first == 0;
            if is_after_end || is_free(first) || is.first() == Some(&0) {
                was.copy_from_slice(is);
            }
        }
        if between != now {
            rest.bytes.push((span.start(), now));
        }
        added.bytes.push((span.start(), between));
    }
    Ok([added, rest])
}

/// `span` without `hole`.
fn without(span: Span, hole: Span) -> impl Iterator<Item = Span> {
    let before = Span::between(span.start(), hole.start().clamp(span.start(), span.end()));
    let behind = Span::between(hole.end().clamp(span.start(), span.end()), span.end());
    [before, behind].into_iter().filter(|span| !span.is_empty())
}
