//! The ranges of a card that have to be read and written: used and cleared bytes of every volume, and everything
//! outside of volumes.

use super::{
    survey::Survey,
    view::{Content, Segment},
};
use crate::layout::Finding;
use imbrik_fs::Examined;
use imbrik_store::{
    ReadAt,
    error::{Class, Result},
    progress::Cancel,
    units::{ByteLen, ByteOffset, Span, joined, without},
};
use std::sync::Arc;

/// Shorter holes are read: a request takes a card more time than that many bytes.
pub(crate) const SHORTEST_HOLE: ByteLen = ByteLen::kib(64);

/// Which parts of a card matter.
#[derive(Clone)]
pub struct Occupancy {
    /// The complete card, in order and without a hole: copied, rewritten, cleared or unused. Holes between copied
    /// ranges that are not worth a request are copied, too.
    pub segments: Vec<Segment>,
    /// These holes are unused space. In order and joined.
    pub holes: Vec<Span>,
    /// The result of examining each known volume, with its index in [`Survey::parts`]. Empty if the card is copied in
    /// full.
    pub volumes: Vec<(usize, Examined)>,
    /// Why a volume, or the card, is read whole, a sentence each.
    pub read_whole: Vec<String>,
    /// Differences between structures of a volume.
    pub findings: Vec<Finding>,
}

impl Occupancy {
    /// Examines every volume in `survey` of `store`.
    ///
    /// If partitions overlap or extend past the end, the card is copied in full: a byte could belong to two volumes
    /// that disagree about it.
    ///
    /// # Errors
    /// When the metadata in the store cannot be read.
    pub fn of(store: &Arc<dyn ReadAt>, survey: &Survey) -> Result<Self> {
        let card = Span::whole(survey.size);
        if let Some(why) = survey.whole_because {
            let read_whole = vec![format!("the card is copied in full: {why}")];
            let (volumes, findings) = (Vec::new(), Vec::new());
            let (segments, holes) = (vec![copied(card)], Vec::new());
            return Ok(Self { segments, holes, volumes, read_whole, findings });
        }
        let mut parts: Vec<_> = survey.parts.iter().enumerate().collect();
        parts.sort_by_key(|(_, part)| part.span);
        let mut segments = Vec::new();
        let mut volumes = Vec::new();
        let (mut read_whole, mut findings) = (Vec::new(), Vec::new());
        let mut at = ByteOffset::ZERO;
        for (index, part) in parts {
            let Some(open) = part.open(store)? else { continue };
            let found = match survey.is_unreadable_in(part.span) {
                true => {
                    Examined::unreadable(part.span.len(), "some of its metadata cannot be read")
                }
                false => match open.examine() {
                    Err(error) if error.concerns_a_range() => {
                        Examined::unreadable(part.span.len(), error.to_string())
                    }
                    found => found?,
                },
            };
            if let Some(why) = &found.usage.whole_because {
                read_whole.push(format!("{} is copied in full: {why}", part.full_title()));
            }
            let told = found.usage.findings.iter().cloned();
            findings.extend(told.map(|what| Finding::Volume { title: part.full_title(), what }));
            segments.push(copied(Span::between(at, part.span.start())));
            segments.extend(segments_of(&found, part.span));
            volumes.push((index, found));
            at = part.span.end();
        }
        segments.push(copied(Span::between(at, card.end())));
        for why in &read_whole {
            tracing::info!(%why, "read whole");
        }
        for finding in &findings {
            tracing::info!(%finding, "odd");
        }
        let (segments, holes) = simplified(segments);
        Ok(Self { segments, holes, volumes, read_whole, findings })
    }

    /// Determines the smallest size of each resizable volume, in bytes. Returns the reasons for the others.
    ///
    /// # Errors
    /// When the store cannot be read, or `cancel` was requested.
    pub fn find_smallest(
        &mut self,
        store: &Arc<dyn ReadAt>,
        survey: &Survey,
        cancel: &Cancel,
    ) -> Result<Vec<String>> {
        let mut cannot = Vec::new();
        for (index, found) in &mut self.volumes {
            let part = survey.parts.get(*index).filter(|part| part.is_resizable());
            let Some(part) = part.filter(|_| found.usage.whole_because.is_none()) else { continue };
            let Some(open) = part.open(store)? else { continue };
            match open.smallest(found, cancel) {
                Ok(least) => found.least = Some(least),
                Err(error)
                    if error.concerns_a_range()
                        || matches!(error.class(), Class::Corrupt | Class::Unsupported) =>
                {
                    found.least = None;
                    cannot.push(format!("{} cannot be resized: {error}", part.full_title()));
                }
                Err(error) if error.class() == Class::NoRoom => {}
                Err(error) => return Err(error),
            }
        }
        Ok(cannot)
    }

    /// Notes for the user: volumes that are copied in full, and differences between structures.
    pub fn notes(&self) -> impl Iterator<Item = String> {
        let findings = self.findings.iter().map(ToString::to_string);
        self.read_whole.iter().cloned().chain(findings)
    }

    /// The number of bytes of `span` that are used: read, or rewritten.
    #[must_use]
    pub fn used_in(&self, span: Span) -> ByteLen {
        let first = self.segments.partition_point(|segment| segment.span.end() <= span.start());
        let near = self.segments.get(first..).unwrap_or_default().iter();
        let inside = near.map_while(|segment| Some((segment.span.intersect(span)?, segment)));
        let used = inside.filter(|(_, segment)| {
            matches!(segment.content, Content::Copied { .. } | Content::Rewritten { .. })
        });
        used.map(|(both, _)| both.len()).sum()
    }

    /// The result of examining the volume at `index` of [`Survey::parts`].
    #[must_use]
    pub fn volume(&self, index: usize) -> Option<&Examined> {
        self.volumes.iter().find(|(at, _)| *at == index).map(|(_, found)| found)
    }
}

fn copied(span: Span) -> Segment {
    Segment { span, content: Content::Copied { from: span.start() } }
}

/// The segments of a volume at `place`.
pub(super) fn segments_of(found: &Examined, place: Span) -> Vec<Segment> {
    let moved = |span: &Span| {
        let start = place.start().checked_add(ByteLen::new(span.start().get()))?;
        Span::between(start, start.checked_add(span.len())?).intersect(place)
    };
    let all = |spans: &[Span]| joined(spans.iter().filter_map(moved).collect());
    let cleared = all(&found.usage.cleared);
    let used = without(&all(&found.usage.used), &cleared);
    let mut segments: Vec<_> =
        cleared.iter().map(|span| Segment { span: *span, content: Content::Cleared }).collect();
    match &found.recovered {
        None => segments.extend(used.into_iter().map(copied)),
        Some(recovered) => {
            let newer = all(&recovered.rewritten);
            let old = without(&used, &newer);
            let newer = without(&used, &old).into_iter().map(|span| {
                let from = span.start().saturating_since(place.start());
                let from = ByteOffset::new(from.get());
                let store = Arc::clone(&recovered.store);
                Segment { span, content: Content::Rewritten { store, from } }
            });
            segments.extend(newer);
            segments.extend(old.into_iter().map(copied));
        }
    }
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
    whole.retain(|segment| !segment.span.is_empty());
    whole
}

/// The same segments, short holes filled and neighbours joined, and these holes.
fn simplified(segments: Vec<Segment>) -> (Vec<Segment>, Vec<Span>) {
    let mut out: Vec<Segment> = Vec::new();
    let mut holes = Vec::new();
    for segment in segments {
        if segment.span.is_empty() {
            continue;
        }
        let is_copied = |content: &Content| matches!(content, Content::Copied { .. });
        let is_rewritten = matches!(segment.content, Content::Rewritten { .. });
        let short = segment.span.len() < SHORTEST_HOLE && !is_rewritten;
        if short && !is_copied(&segment.content) {
            holes.push(segment.span);
        }
        let segment = if short { copied(segment.span) } else { segment };
        match out.last_mut() {
            Some(last) if is_copied(&last.content) && is_copied(&segment.content) => {
                last.span = Span::between(last.span.start(), segment.span.end());
            }
            _ => out.push(segment),
        }
    }
    (out, joined(holes))
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_fs::{State, Usage};
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
            let usage = Usage { used: used.clone(), cleared: cleared.clone(), metadata: ByteLen::ZERO, whole_because: None, findings: Vec::new() };
            let found = Examined { state: State::Clean, usage, recovered: None, least: None };
            let (segments, holes) = simplified(segments_of(&found, place));
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
            for hole in &holes {
                for byte in (hole.start().get()..hole.end().get()).step_by(4096) {
                    let byte = byte - place.start().get();
                    prop_assert!(!holds(&used, byte) || holds(&cleared, byte));
                }
            }
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
