//! A card at another size: one volume is reshaped, and what stands behind it moves along.
//!
//! ```text
//! before  │ table │ boot │ root …………………………………… │ data │
//! after   │ table │ boot │ root …… │ data │
//!           kept    kept   reshaped  shifted as a whole, a multiple of what it is aligned to
//! ```

use super::{Change, Content, Occupancy, Part, Plan, Segment, Survey, View};
use crate::{
    error::{Class, Error, Result},
    fs::{self, Examined, Goal, Reshaped, Work},
    store::{ReadAt, Window},
    table::Table,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;

/// Partitions that move keep to multiples of this at most: the erase block of common cards.
const MOST_ALIGNED: u64 = 4 << 20;
/// The end of a partition that fills its card is a multiple of this.
const END_ALIGNED: u64 = 1 << 20;

/// To which size a card is fitted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fit {
    /// The volume as small as it can be, with so many bytes of room more.
    Smallest {
        /// Bytes.
        room: ByteLen,
    },
    /// A card of so many bytes: the volume takes what the others leave.
    Card(ByteLen),
    /// As [`Fit::Card`], with the partition ending at a given place instead of as late as possible.
    CardUpTo {
        /// Bytes of the card.
        card: ByteLen,
        /// The partition's end.
        end: ByteOffset,
    },
}

impl Survey {
    /// The place in [`Survey::parts`] of the last partition whose volume can be reshaped; `None`
    /// when there is none.
    #[must_use]
    pub fn last_reshapable(&self) -> Option<usize> {
        let parts = self.parts.iter().enumerate();
        let can = parts.filter(|(_, part)| part.can_be_reshaped());
        can.max_by_key(|(_, part)| part.span.end()).map(|(index, _)| index)
    }
}

impl Part {
    /// Whether its volume is of a kind that can be reshaped.
    #[must_use]
    pub fn can_be_reshaped(&self) -> bool {
        self.volume.as_ref().is_some_and(|volume| volume.kind.can_be_reshaped().is_ok())
    }
}

impl Plan {
    /// `source`, of which `survey` tells what it holds, fitted to another size by reshaping the
    /// volume in the partition at `index` of [`Survey::parts`].
    ///
    /// # Errors
    /// - When the source cannot be read where its metadata stand, or stopping was requested.
    /// - [`crate::Class::NoRoom`] when the data don't fit, with the missing bytes.
    /// - [`crate::Class::Unsupported`] and [`crate::Class::Corrupt`] when the volume or the table
    ///   cannot be reshaped, with the reason.
    pub fn fit(
        source: Arc<dyn ReadAt>,
        survey: &Survey,
        occupancy: &Occupancy,
        index: usize,
        fit: Fit,
        work: Work<'_>,
    ) -> Result<Self> {
        if let Some(why) = survey.whole_because {
            return Err(Error::unsupported(why));
        }
        let part =
            survey.parts.get(index).ok_or_else(|| Error::usage("there is no such partition"))?;
        let volume = part.volume.as_ref().ok_or_else(|| {
            Error::unsupported(format!("what is in {} is not known", part.title()))
        })?;
        let place =
            part.span.intersect(Span::whole(source.size())).filter(|span| *span == part.span);
        let place = place.ok_or_else(|| Error::refused("the image is cut short"))?;
        let window: Arc<dyn ReadAt> = Arc::new(Window::new(Arc::clone(&source), place)?);
        let card = Card { survey, index, place };
        let reshaped = card.goal(fit).and_then(|goal| fs::reshape(&window, volume, goal, work));
        let (reshaped, found) = reshaped.map_err(|error| match (error.class(), fit) {
            (Class::NoRoom, Fit::Card(size) | Fit::CardUpTo { card: size, .. }) => {
                let least = Fit::Smallest { room: ByteLen::ZERO };
                let least = Self::fit(Arc::clone(&source), survey, occupancy, index, least, work);
                least.map_or(error, |least| {
                    let needed = least.view.size();
                    Error::no_room(format!(
                        "a card of {size} is {} too small: the data need {needed}",
                        needed.saturating_sub(size),
                    ))
                })
            }
            _ => error.at(part.full_title()),
        })?;
        let len = reshaped.settled.store.size();
        let end = match (fit, survey.table.is_some()) {
            (Fit::Smallest { .. }, _) | (_, false) => {
                let sector = survey.sector.bytes();
                place.start().saturating_add(up_to(len, sector))
            }
            _ => place.start().saturating_add(card.room(fit)?),
        };
        card.plan(&source, occupancy, &reshaped, &found, fit, end)
    }
}

fn up_to(len: ByteLen, unit: u64) -> ByteLen {
    ByteLen::new(len.get().next_multiple_of(unit.max(1)))
}

/// A card one of whose volumes is reshaped.
struct Card<'a> {
    survey: &'a Survey,
    index: usize,
    /// Where the volume's partition lies.
    place: Span,
}

impl Card<'_> {
    /// The partitions behind the reshaped one.
    fn behind(&self) -> impl Iterator<Item = &Part> {
        self.survey.parts.iter().filter(|part| part.span.start() >= self.place.end())
    }

    /// The end of the last partition.
    fn last_end(&self) -> ByteOffset {
        self.behind().map(|part| part.span.end()).max().unwrap_or(self.place.end())
    }

    /// What everything behind the partition moves by a multiple of.
    fn aligned(&self) -> u64 {
        let starts = self.behind().map(|part| part.span.start().get());
        let powers = starts.map(|start| 1u64.checked_shl(start.trailing_zeros()).unwrap_or(1));
        powers.min().unwrap_or(1).clamp(self.survey.sector.bytes(), MOST_ALIGNED)
    }

    fn backup_len(&self) -> ByteLen {
        self.survey.table.as_ref().map_or(ByteLen::ZERO, Table::backup_len)
    }

    /// How long the partition becomes on a card of a given size.
    fn room(&self, fit: Fit) -> Result<ByteLen> {
        let (card, end) = match fit {
            Fit::Smallest { .. } => return Ok(self.place.len()),
            Fit::Card(card) => (card, None),
            Fit::CardUpTo { card, end } => (card, Some(end)),
        };
        let most = card.saturating_sub(self.backup_len()).get();
        let tail = self.last_end().saturating_since(self.place.end()).get();
        let unit = self.aligned();
        let end = match (end, tail) {
            (Some(end), _) => end.get(),
            (None, 0) if self.survey.table.is_none() => most,
            (None, 0) => most.saturating_sub(most.checked_rem(END_ALIGNED).unwrap_or(0)),
            (None, _) => {
                // What is behind moves by whole units from where it was.
                let now = self.place.end().get();
                let last = most.saturating_sub(tail);
                let units = now.abs_diff(last);
                match last >= now {
                    true => now
                        .saturating_add(units.saturating_sub(units.checked_rem(unit).unwrap_or(0))),
                    false => now.saturating_sub(units.next_multiple_of(unit)),
                }
            }
        };
        match ByteOffset::new(end).since(self.place.start()) {
            Some(len) if end.saturating_add(tail) <= most && !len.is_zero() => Ok(len),
            _ => Err(Error::no_room("the card is too small for what stands beside the volume")),
        }
    }

    fn goal(&self, fit: Fit) -> Result<Goal> {
        Ok(match fit {
            Fit::Smallest { room } => Goal::Smallest { room },
            Fit::Card(_) | Fit::CardUpTo { .. } => Goal::Size(self.room(fit)?),
        })
    }

    /// The plan in which the partition ends at `end`.
    fn plan(
        &self,
        source: &Arc<dyn ReadAt>,
        occupancy: &Occupancy,
        reshaped: &Reshaped,
        found: &Examined,
        fit: Fit,
        end: ByteOffset,
    ) -> Result<Plan> {
        let survey = self.survey;
        // Everything behind moves as a whole; when there is room left, it stays in front of it.
        let unit = self.aligned();
        let (was, is) = (self.place.end().get(), end.get());
        let back = was.saturating_sub(is);
        let back = back.saturating_sub(back.checked_rem(unit).unwrap_or(0));
        let on = is.saturating_sub(was).next_multiple_of(unit);
        let shifted = |at: ByteOffset| {
            let at = at.get().saturating_sub(back).saturating_add(on);
            ByteOffset::new(at)
        };
        let last_end = match self.behind().next() {
            Some(_) => shifted(self.last_end()),
            None => end,
        };
        let size = match fit {
            Fit::Card(card) | Fit::CardUpTo { card, .. } => card,
            Fit::Smallest { .. } => up_to(ByteLen::new(last_end.get()), survey.sector.bytes())
                .saturating_add(self.backup_len()),
        };
        let mut segments: Vec<Segment> = occupancy
            .segments
            .iter()
            .filter_map(|segment| {
                segment.clipped(Span::whole(ByteLen::new(self.place.start().get())))
            })
            .collect();
        let volume_end = self.place.start().saturating_add(reshaped.settled.store.size());
        segments.extend(segments_of(reshaped, found, self.place.start()));
        let tail = Span::between(self.place.end(), self.last_end());
        let is_followed = self.behind().next().is_some();
        let tail_start = if is_followed { shifted(tail.start()) } else { end };
        segments.push(Segment {
            span: Span::between(volume_end, tail_start),
            content: Content::Cleared,
        });
        if is_followed {
            for segment in occupancy.segments.iter().filter_map(|segment| segment.clipped(tail)) {
                let span =
                    Span::between(shifted(segment.span.start()), shifted(segment.span.end()));
                segments.push(Segment { span, content: segment.content });
            }
        }
        let rest = Span::between(last_end, ByteOffset::new(size.get()));
        segments.push(Segment { span: rest, content: Content::Cleared });
        segments.retain(|segment| !segment.span.is_empty());
        let mut view = View::of_segments(size, Arc::clone(source), &segments)?;
        let mut changes = Vec::new();
        let mut spans = Vec::new();
        for (index, part) in survey.parts.iter().enumerate() {
            let Some(number) = part.number else { continue };
            if index == self.index {
                spans.push((number, Span::between(self.place.start(), end)));
            } else if part.span.start() >= self.place.end() && (back > 0 || on > 0) {
                let to = Span::between(shifted(part.span.start()), shifted(part.span.end()));
                spans.push((number, to));
                changes.push(Change::Shifted { title: part.full_title(), to: to.start() });
                if let Some(volume) = &part.volume {
                    let window = Window::new(Arc::clone(source), part.span)?;
                    let edits =
                        fs::at_another_place(&window, volume, part.span.start(), to.start())?;
                    for (at, bytes) in edits {
                        let at = to.start().saturating_add(ByteLen::new(at.get()));
                        view = view.with_bytes(at, &bytes);
                    }
                }
            }
        }
        if let Some(table) = &survey.table {
            for (at, bytes) in table.with_spans(&spans, size)? {
                view = view.with_bytes(at, &bytes);
            }
            if matches!(table, Table::Gpt(_)) {
                changes.push(Change::GptMoved);
            }
        }
        let title = survey.parts.get(self.index).map(Part::full_title).unwrap_or_default();
        let to = end.saturating_since(self.place.start());
        changes.insert(
            0,
            Change::Resized {
                title,
                from: self.place.len(),
                to,
                moved: reshaped.copied,
                inodes: reshaped.inodes_moved,
            },
        );
        changes.extend(reshaped.warnings.iter().cloned().map(Change::Warning));
        if !reshaped.aside.is_zero() {
            changes.push(Change::PutAside(reshaped.aside));
        }
        Ok(Plan { view, changes })
    }
}

/// The segments of a reshaped volume that starts at `start` on source and target alike.
fn segments_of(reshaped: &Reshaped, found: &Examined, start: ByteOffset) -> Vec<Segment> {
    let len = reshaped.settled.store.size();
    let place = Span::between(start, start.saturating_add(len));
    let mut segments = Vec::new();
    let mut moved = reshaped.moved.iter().peekable();
    for segment in super::occupancy::segments_of(found, place) {
        let Content::Copied { .. } = segment.content else {
            segments.push(segment);
            continue;
        };
        // A part of it that comes from elsewhere.
        let mut at = segment.span.start();
        while let Some(next) = moved.peek() {
            let to = Span::between(
                start.saturating_add(ByteLen::new(next.to.start().get())),
                start.saturating_add(ByteLen::new(next.to.end().get())),
            );
            if to.start() >= segment.span.end() {
                break;
            }
            if let Some(both) = to.intersect(Span::between(at, segment.span.end())) {
                let before = Span::between(at, both.start());
                segments.push(Segment { span: before, content: Content::Copied { from: at } });
                let ahead = both.start().saturating_since(to.start());
                let from =
                    start.saturating_add(ByteLen::new(next.from.get())).saturating_add(ahead);
                segments.push(Segment { span: both, content: Content::Copied { from } });
                at = both.end();
            }
            if to.end() > segment.span.end() {
                break;
            }
            moved.next();
        }
        let rest = Span::between(at, segment.span.end());
        segments.push(Segment { span: rest, content: Content::Copied { from: at } });
    }
    segments.retain(|segment| !segment.span.is_empty());
    segments
}
