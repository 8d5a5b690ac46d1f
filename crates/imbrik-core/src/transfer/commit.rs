//! A volume that is changed in its place: step by step, each on the medium before the next.

use imbrik_fs::{Commit, CommitStep};
use imbrik_store::{
    ReadAt, WriteAt,
    error::{Error, Result},
    for_pieces,
    progress::Cancel,
    read_vec,
    units::{ByteLen, ByteOffset, Span},
};

/// The alignment of writes in bytes: cards have no smaller units.
const UNIT: u64 = 4096;
/// In which pieces content is copied.
const PIECE: ByteLen = ByteLen::mib(1);

/// Writes a volume at `place` of `target` in the steps of `commit`; `new` is its future content. Reports every written
/// byte. New content comes first, without any reference to it: until then, it can be cancelled.
///
/// # Errors
/// When it cannot be written, or the operation was cancelled: the card is in the state after a power loss then.
pub fn write_commit(
    target: &dyn WriteAt,
    place: Span,
    commit: &Commit,
    new: &dyn ReadAt,
    cancel: &Cancel,
    tell: &mut dyn FnMut(ByteLen),
) -> Result<()> {
    for step in &commit.steps {
        for span in &step.content {
            for_pieces(*span, PIECE, |piece| {
                cancel.check()?;
                let len = piece.len().to_usize().unwrap_or(0);
                let bytes = read_vec(new, piece.start(), len)?;
                write(target, place, piece.start(), &bytes)?;
                tell(piece.len());
                Ok(())
            })?;
        }
        for (at, bytes) in &step.bytes {
            write(target, place, *at, bytes)?;
            tell(ByteLen::of(bytes));
        }
        target.flush()?;
    }
    Ok(())
}

/// How much a commit writes.
#[must_use]
pub fn len_of_commit(commit: &Commit) -> ByteLen {
    let of = |step: &CommitStep| {
        let content: ByteLen = step.content.iter().map(|span| span.len()).sum();
        let bytes: ByteLen = step.bytes.iter().map(|(_, bytes)| ByteLen::of(bytes)).sum();
        content.saturating_add(bytes)
    };
    commit.steps.iter().map(of).sum()
}

/// Writes bytes of a volume, together with the rest of their units on the card.
fn write(target: &dyn WriteAt, place: Span, at: ByteOffset, bytes: &[u8]) -> Result<()> {
    let start = place.start().saturating_add(ByteLen::new(at.get()));
    let wanted = Span::between(start, start.saturating_add(ByteLen::of(bytes)));
    if wanted.intersect(place) != Some(wanted) {
        return Err(Error::bug("a volume would be written outside of its place"));
    }
    let whole = Span::whole(target.size());
    let down = |at: u64| ByteOffset::new(at.saturating_sub(at % UNIT));
    let up = ByteOffset::new(wanted.end().get().next_multiple_of(UNIT));
    let around = Span::between(down(wanted.start().get()), up);
    let around = around.intersect(whole).unwrap_or(wanted);
    if around == wanted {
        return target.write_at(start, bytes);
    }
    let mut all = read_vec(target, around.start(), around.len().to_usize().unwrap_or(0))?;
    let ahead = start.saturating_since(around.start()).to_usize().unwrap_or(usize::MAX);
    let inside = all.get_mut(ahead..ahead.saturating_add(bytes.len()));
    inside.ok_or_else(|| Error::bug("a piece of a card is short"))?.copy_from_slice(bytes);
    target.write_at(around.start(), &all)
}
