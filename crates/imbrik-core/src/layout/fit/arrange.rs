//! Partitions in their places, put together into a card.
//!
//! If a sum of positions saturates, the segments are no longer consecutive, and
//! [`View::of_segments`](crate::layout::View::of_segments) refuses them.

use super::{Placed, moved_by};
use crate::{
    layout::{Change, Content, Occupancy, Part, Plan, Segment, Survey, View, Warning, occupancy},
    table::Table,
};
use imbrik_fs::{Examined, OpenVolume, ResizedVolume, Volume};
use imbrik_store::{
    ReadAt, Window,
    bytes::is_zero,
    error::Result,
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;

/// How much of a card's end is cleared when nothing reaches it: old backup tables and other headers
/// that are looked for from the end live there.
const TAIL: ByteLen = ByteLen::mib(1);

/// The plan without moves, on a card of `size`, with the segments of `found`; `changes` are the first to be reported.
///
/// # Errors
/// When the table cannot be laid out on such a card.
pub(super) fn as_it_was(
    source: &Arc<dyn ReadAt>,
    survey: &Survey,
    found: &[Segment],
    size: ByteLen,
    changes: Vec<Change>,
) -> Result<Plan> {
    let segments = segments(found, &[], source.size(), size);
    let view = View::of_segments(size, Arc::clone(source), &segments)?;
    let plan = Plan { view, changes };
    let held = source.size();
    match &survey.table {
        // A container of logical partitions may reach further than they do.
        Some(table @ Table::Mbr(_)) if size < held => with_table(plan, table, survey, &[]),
        Some(table @ Table::Gpt(gpt)) if gpt.card_end() != ByteOffset::new(size.get()) => {
            with_table(plan, table, survey, &[])
        }
        _ => Ok(plan),
    }
}

/// The plan with every partition at its new location, on a card of `size`.
pub(super) fn arrange(
    source: &Arc<dyn ReadAt>,
    survey: &Survey,
    occupancy: &Occupancy,
    placed: Vec<Placed>,
    size: ByteLen,
) -> Result<Plan> {
    let segments = segments(&occupancy.segments, &placed, source.size(), size);
    let view = View::of_segments(size, Arc::clone(source), &segments)?;
    let mut plan = Plan { view, changes: Vec::new() };
    for one in &placed {
        let Some(part) = survey.parts.get(one.index) else { continue };
        if let Some((resized, _)) = &one.resized {
            plan.changes.extend(resize_change(part, one, resized));
        } else if one.moves() {
            plan.changes.push(Change::Shifted { title: part.full_title(), to: one.to.start() });
        }
        if let Some(volume) = part.volume.as_ref().filter(|_| one.moves()) {
            plan = with_its_place(plan, source, part, volume, one)?;
        }
    }
    match &survey.table {
        Some(table) => with_table(plan, table, survey, &placed),
        None => Ok(plan),
    }
}

/// All of a card of `size`, from a source of `held` bytes.
fn segments(found: &[Segment], placed: &[Placed], held: ByteLen, size: ByteLen) -> Vec<Segment> {
    let mut segments = Vec::new();
    let (mut was, mut is) = (ByteOffset::ZERO, ByteOffset::ZERO);
    for one in placed {
        // The gap between partitions stays before the following one.
        let gap = Span::between(was, one.from.start());
        let gap_start = one.to.start().get().saturating_sub(gap.len().get());
        let gap_start = ByteOffset::new(gap_start).max(is);
        segments.push(cleared(is, gap_start));
        let kept = one.to.start().saturating_since(gap_start);
        let kept = ByteOffset::new(one.from.start().get().saturating_sub(kept.get()));
        shift(&mut segments, found, Span::between(kept, one.from.start()), gap_start);
        match &one.resized {
            None => shift(&mut segments, found, one.from, one.to.start()),
            Some((resized, examined)) => {
                segments.extend(segments_of(resized, examined, one.from.start(), one.to.start()));
                let len = resized.volume.store.size();
                segments.push(cleared(one.to.start().saturating_add(len), one.to.end()));
            }
        }
        (was, is) = (one.from.end(), one.to.end());
    }
    // A card without placed partitions is unchanged.
    let keeps_its_end = was == is && (is.get() > 0 || placed.is_empty());
    let kept = keeps_its_end.then_some(held.min(size));
    tail(&mut segments, found, is, kept, size);
    segments.retain(|segment| !segment.span.is_empty());
    segments
}

/// Updates the offset that a moved volume records, and warns if it can't be updated.
fn with_its_place(
    mut plan: Plan,
    source: &Arc<dyn ReadAt>,
    part: &Part,
    volume: &Volume,
    one: &Placed,
) -> Result<Plan> {
    let now: Arc<dyn ReadAt> = match &one.resized {
        Some((resized, _)) => Arc::clone(&resized.volume.store),
        None => Arc::new(Window::new(Arc::clone(source), part.span)?),
    };
    let (was, is) = (one.from.start(), one.to.start());
    let open = OpenVolume::known(now, volume.clone());
    for (at, bytes) in open.at_another_place(was, is)? {
        let at = is.plus(ByteLen::new(at.get()))?;
        plan.view = plan.view.with_bytes(at, &bytes);
    }
    let boot_code = match open.boot_code() {
        Some(place) => {
            read_up_to(open.store(), place.start(), place.len().to_usize().unwrap_or(0))?
        }
        None => Vec::new(),
    };
    if !is_zero(&boot_code) {
        plan.changes.push(Change::Warning(Warning::BootCode { title: part.full_title() }));
    }
    Ok(plan)
}

/// Puts the table onto the card of a plan, with its partitions where they were placed.
fn with_table(mut plan: Plan, table: &Table, survey: &Survey, placed: &[Placed]) -> Result<Plan> {
    let size = plan.view.size();
    if let Table::Gpt(gpt) = table {
        // The old backup is unused space, unless something is there now.
        let mut taken: Vec<Span> = placed.iter().map(|one| one.to).collect();
        if placed.is_empty() {
            taken.extend(survey.parts.iter().map(|part| part.span));
        }
        let old = gpt.backup_span().filter(|old| {
            old.end() <= ByteOffset::new(size.get())
                && taken.iter().all(|taken| taken.intersect(*old).is_none())
        });
        if let Some(old) = old {
            plan.view = plan.view.with(old, Content::Cleared);
        }
        plan.changes.push(Change::GptMoved);
    }
    let spans = placed.iter().filter(|one| one.from != one.to);
    let spans: Vec<_> =
        spans.filter_map(|one| Some((survey.parts.get(one.index)?.number?, one.to))).collect();
    let relaid = table.with_spans(&spans, size)?;
    for (at, bytes) in relaid.edits {
        plan.view = plan.view.with_bytes(at, &bytes);
    }
    let left_out = relaid.left_out.into_iter().map(|number| Warning::ContainerLeftOut { number });
    plan.changes.extend(left_out.map(Change::Warning));
    Ok(plan)
}

/// The changes to report for a resized volume.
fn resize_change(part: &Part, one: &Placed, resized: &ResizedVolume) -> Vec<Change> {
    let mut changes = vec![Change::Resized {
        title: part.full_title(),
        from: one.from.len(),
        to: one.to.len(),
        moved: resized.copied,
        inodes: resized.inodes_moved,
        why: one.why,
    }];
    if let Some(limit) = &resized.limit {
        let title = part.full_title();
        changes.push(Change::Warning(Warning::Limited { title, limit: *limit }));
    }
    changes.extend(
        resized
            .warnings
            .iter()
            .cloned()
            .map(|what| Change::Warning(Warning::Volume { title: part.full_title(), what })),
    );
    if !resized.kept_faults.is_empty() {
        let faults = resized.kept_faults.clone();
        changes.push(Change::FaultsKept { title: part.full_title(), faults });
    }
    if !resized.aside.is_zero() {
        changes.push(Change::Spilled(resized.aside));
    }
    changes
}

fn cleared(start: ByteOffset, end: ByteOffset) -> Segment {
    Segment { span: Span::between(start, end.max(start)), content: Content::Cleared }
}

/// Adds the data at `from` of the source, at `to`.
fn shift(segments: &mut Vec<Segment>, found: &[Segment], from: Span, to: ByteOffset) {
    let first = found.partition_point(|segment| segment.span.end() <= from.start());
    let near = found.get(first..).unwrap_or_default().iter();
    for segment in near.map_while(|segment| segment.clipped(from)) {
        let start = moved_by(segment.span.start(), from.start(), to);
        let span = Span::between(start, start.saturating_add(segment.span.len()));
        segments.push(Segment { span, content: segment.content });
    }
}

/// Adds the space after the last partition, which ends at `end`: the old content up to `kept`, unless the end of the
/// partition moved, and zeros where old headers are searched for.
fn tail(
    segments: &mut Vec<Segment>,
    found: &[Segment],
    end: ByteOffset,
    kept: Option<ByteLen>,
    size: ByteLen,
) {
    let mut at = end;
    if let Some(kept) = kept {
        let kept = Span::between(end, ByteOffset::new(kept.get()).max(end));
        shift(segments, found, kept, end);
        at = kept.end();
    }
    let rest = Span::between(at, ByteOffset::new(size.get()).max(at));
    let (unused, cleared) = parts_of_tail(rest);
    segments.push(Segment { span: unused, content: Content::Unused });
    segments.push(Segment { span: cleared, content: Content::Cleared });
}

/// Splits the unused end of a card: the part that keeps its content, and the part to clear.
pub(super) fn parts_of_tail(rest: Span) -> (Span, Span) {
    let unused = rest.len().saturating_sub(TAIL);
    let from = rest.start().saturating_add(unused);
    (Span::between(rest.start(), from), Span::between(from, rest.end()))
}

/// The segments of a resized volume that started at `was` and starts at `is`.
fn segments_of(
    resized: &ResizedVolume,
    found: &Examined,
    was: ByteOffset,
    is: ByteOffset,
) -> Vec<Segment> {
    let len = resized.volume.store.size();
    let place = Span::between(is, is.saturating_add(len));
    let source = |inside: ByteOffset| was.saturating_add(ByteLen::new(inside.get()));
    let inside = |at: ByteOffset| ByteOffset::new(at.saturating_since(is).get());
    let stays = |at: ByteOffset| Content::Copied { from: source(inside(at)) };
    let mut segments = Vec::new();
    let mut moved = resized.moved.iter().peekable();
    for segment in occupancy::segments_of(found, place) {
        let Content::Copied { .. } = segment.content else {
            segments.push(segment);
            continue;
        };
        // A part of it that comes from elsewhere.
        let mut at = segment.span.start();
        while let Some(next) = moved.peek() {
            let to = Span::between(
                is.saturating_add(ByteLen::new(next.to.start().get())),
                is.saturating_add(ByteLen::new(next.to.end().get())),
            );
            if to.start() >= segment.span.end() {
                break;
            }
            if let Some(both) = to.intersect(Span::between(at, segment.span.end())) {
                segments
                    .push(Segment { span: Span::between(at, both.start()), content: stays(at) });
                let ahead = both.start().saturating_since(to.start());
                let from = source(next.from).saturating_add(ahead);
                segments.push(Segment { span: both, content: Content::Copied { from } });
                at = both.end();
            }
            if to.end() > segment.span.end() {
                break;
            }
            moved.next();
        }
        segments.push(Segment { span: Span::between(at, segment.span.end()), content: stays(at) });
    }
    segments
}
