//! Reading what can be read of a damaged source.

use crate::layout::{Content, View};
use imbrik_store::{Pieces, ReadAt, error::Result, progress::Cancel, units::Span};

/// What happens when a piece of the source cannot be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Damage {
    /// The transfer ends.
    Stop,
    /// Zeros take its place, and its span is noted.
    Note,
}

/// Reads `span` of `view` into `buf`, which has its length; answers what could not be read, as
/// spans of the view.
///
/// # Errors
/// With [`Damage::Stop`] the first failure; with [`Damage::Note`] only those that no other piece
/// would escape, such as a card that was pulled out.
pub(super) fn read(
    view: &View,
    span: Span,
    buf: &mut [u8],
    damage: Damage,
    cancel: &Cancel,
) -> Result<Vec<Span>> {
    if damage == Damage::Stop {
        return view.read_at(span.start(), buf).map(|()| Vec::new());
    }
    let mut lost = Vec::new();
    let mut rest = buf;
    for segment in view.segments_in(span) {
        let len = segment.span.len().to_usize().unwrap_or(0).min(rest.len());
        let (now, later) = rest.split_at_mut(len);
        match segment.content {
            Content::Copied { from } => {
                let mut pieces = Pieces {
                    source: &**view.source(),
                    cancel,
                    is_known: &|_| false,
                    most: usize::MAX,
                    lost: Vec::new(),
                };
                pieces.read(from, now)?;
                lost.extend(pieces.lost.into_iter().map(|bad| {
                    let ahead = bad.start().saturating_since(from);
                    let start = segment.span.start().saturating_add(ahead);
                    Span::between(start, start.saturating_add(bad.len()))
                }));
            }
            _ => view.read_at(segment.span.start(), now)?,
        }
        rest = later;
    }
    Ok(lost)
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{
        SparseStore,
        error::Class,
        testing::{Faults, Faulty, Flaky},
        units::{ByteLen, ByteOffset, joined},
    };
    use std::sync::Arc;

    fn span(start: u64, len: u64) -> Span {
        Span::new(ByteOffset::new(start), ByteLen::new(len)).unwrap()
    }

    fn salvage(faults: Faults, size: usize) -> (Vec<u8>, Result<Vec<Span>>) {
        let store = Faulty::new(SparseStore::of(&vec![7; size]), faults);
        let view = View::whole(Arc::new(store));
        let mut buf = vec![1; size];
        let whole = Span::whole(ByteLen::from_usize(size));
        let lost = read(&view, whole, &mut buf, Damage::Note, &Cancel::new());
        (buf, lost)
    }

    #[test]
    fn only_the_sectors_that_cannot_be_read_are_lost() {
        let bad = vec![span(5_000, 1), span(102_400, 1_024)];
        let faults = Faults { unreadable: bad, ..Faults::default() };
        let (bytes, lost) = salvage(faults, 1 << 20);
        assert_eq!(joined(lost.unwrap()), [span(4_608, 512), span(102_400, 1_024)]);
        assert_eq!(bytes.iter().filter(|byte| **byte == 0).count(), 3 * 512);
        assert_eq!(bytes.iter().filter(|byte| **byte == 7).count(), (1 << 20) - 3 * 512);
    }

    #[test]
    fn a_sector_that_answers_at_the_third_try_is_saved() {
        let flaky = vec![Flaky { span: span(512, 512), tries: 3 }];
        let (_, lost) = salvage(Faults { flaky, ..Faults::default() }, 1024);
        assert_eq!(lost.unwrap(), []);
    }

    #[test]
    fn a_card_that_was_pulled_out_is_not_taken_for_bad_sectors() {
        let faults = Faults { pulled_after: Some(ByteLen::new(100)), ..Faults::default() };
        let (_, lost) = salvage(faults, 1 << 20);
        assert_eq!(lost.unwrap_err().class(), Class::Gone);
    }
}
