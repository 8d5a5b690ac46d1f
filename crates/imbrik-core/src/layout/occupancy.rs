//! What of a card has to be read, and written: the used and cleared bytes of every volume, and all
//! that lies outside of volumes.

use super::{
    survey::Survey,
    view::{Content, Segment},
};
use crate::{
    error::Result,
    fs::{self, Usage},
    store::{ReadAt, Window},
    units::{ByteLen, ByteOffset, Span, joined},
};

/// A hole shorter than this is read through: a request of its own costs a card more time than the
/// bytes do.
const SHORTEST_HOLE: ByteLen = ByteLen::kib(64);

/// Which parts of a card matter.
#[derive(Clone, Debug)]
pub struct Occupancy {
    /// The whole card, in order and without a hole: copied, cleared or unused.
    pub segments: Vec<Segment>,
    /// Why a volume, or the card, is read whole, a sentence each.
    pub read_whole: Vec<String>,
}

impl Occupancy {
    /// Looks at every volume that `survey` found in `store`.
    ///
    /// A card whose partitions overlap or reach past its end is taken whole: a byte could belong
    /// to two volumes that disagree about it.
    ///
    /// # Errors
    /// When the store cannot be read where its metadata stand.
    pub fn of(store: &dyn ReadAt, survey: &Survey) -> Result<Self> {
        let card = Span::whole(survey.size);
        let mut parts: Vec<_> = survey.parts.iter().collect();
        parts.sort_by_key(|part| part.span);
        let overlap = parts.windows(2).any(|pair| match pair {
            [before, after] => before.span.intersect(after.span).is_some(),
            _ => false,
        });
        if overlap || parts.iter().any(|part| !card.contains(part.span)) {
            let why = "the card is read whole: its partitions overlap or reach past its end";
            return Ok(Self { segments: vec![copied(card)], read_whole: vec![why.to_owned()] });
        }
        let mut segments = Vec::new();
        let mut read_whole = Vec::new();
        let mut at = ByteOffset::ZERO;
        for part in parts {
            let Some(volume) = &part.volume else { continue };
            let usage = fs::usage(&Window::new(store, part.span)?, volume)?;
            if let Some(why) = &usage.whole_because {
                read_whole.push(format!("{} is read whole: {why}", part.title()));
            }
            segments.push(copied(Span::between(at, part.span.start())));
            segments.extend(segments_of(&usage, part.span));
            at = part.span.end();
        }
        segments.push(copied(Span::between(at, card.end())));
        Ok(Self { segments: simplified(segments), read_whole })
    }
}

fn copied(span: Span) -> Segment {
    Segment { span, content: Content::Copied { from: span.start() } }
}

/// The segments of a volume that lies at `place`.
fn segments_of(usage: &Usage, place: Span) -> Vec<Segment> {
    let moved = |span: &Span| {
        let start = place.start().saturating_add(ByteLen::new(span.start().get()));
        Span::between(start, start.saturating_add(span.len())).intersect(place)
    };
    let cleared = joined(usage.cleared.iter().filter_map(moved).collect());
    let mut segments: Vec<_> =
        cleared.iter().map(|span| Segment { span: *span, content: Content::Cleared }).collect();
    for used in usage.used.iter().filter_map(moved) {
        let mut at = used.start();
        let first = cleared.partition_point(|span| span.end() <= used.start());
        let inside = cleared.get(first..).unwrap_or_default().iter();
        for hole in inside.take_while(|hole| hole.start() < used.end()) {
            segments.push(copied(Span::between(at, hole.start())));
            at = hole.end();
        }
        segments.push(copied(Span::between(at, used.end())));
    }
    segments.retain(|segment| !segment.span.is_empty());
    segments.sort_by_key(|segment| segment.span);
    let mut whole = Vec::new();
    let mut at = place.start();
    for segment in segments {
        let gap = Span::between(at, segment.span.start());
        whole.push(Segment { span: gap, content: Content::Unused });
        at = segment.span.end();
        whole.push(segment);
    }
    whole.push(Segment { span: Span::between(at, place.end()), content: Content::Unused });
    whole
}

/// The same segments, short holes filled and neighbours joined.
fn simplified(segments: Vec<Segment>) -> Vec<Segment> {
    let mut out: Vec<Segment> = Vec::new();
    for segment in segments {
        if segment.span.is_empty() {
            continue;
        }
        let is_copied = |content: &Content| matches!(content, Content::Copied { .. });
        let short = segment.span.len() < SHORTEST_HOLE;
        let segment = if short { copied(segment.span) } else { segment };
        match out.last_mut() {
            Some(last) if is_copied(&last.content) && is_copied(&segment.content) => {
                last.span = Span::between(last.span.start(), segment.span.end());
            }
            _ => out.push(segment),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn spans(of: &[(u64, u64)]) -> Vec<Span> {
        let span = |(at, len): &(u64, u64)| {
            Span::new(ByteOffset::new(at * 4096), ByteLen::new(len * 4096)).unwrap()
        };
        joined(of.iter().map(span).collect())
    }

    proptest! {
        #[test]
        fn segments_cover_the_volume_and_never_lose_a_used_byte(
            used in proptest::collection::vec((0u64..1000, 1u64..90), 0..20),
            cleared in proptest::collection::vec((0u64..1000, 1u64..90), 0..10),
        ) {
            let place = Span::between(ByteOffset::new(1 << 20), ByteOffset::new(5 << 20));
            let (used, cleared) = (spans(&used), spans(&cleared));
            let usage = Usage { used: used.clone(), cleared: cleared.clone(), whole_because: None };
            let segments = simplified(segments_of(&usage, place));
            let mut at = place.start();
            for segment in &segments {
                prop_assert_eq!(segment.span.start(), at);
                at = segment.span.end();
            }
            prop_assert_eq!(at, place.end());
            let holds = |spans: &[Span], byte: u64| {
                let point = Span::between(ByteOffset::new(byte), ByteOffset::new(byte + 1));
                spans.iter().any(|span| span.intersect(point).is_some())
            };
            for segment in &segments {
                for byte in (segment.span.start().get()..segment.span.end().get()).step_by(4096) {
                    let byte = byte - place.start().get();
                    match segment.content {
                        Content::Unused => {
                            prop_assert!(!holds(&used, byte) && !holds(&cleared, byte));
                        }
                        Content::Cleared => prop_assert!(holds(&cleared, byte)),
                        _ => {}
                    }
                }
            }
        }
    }
}
