//! Choosing the length of each volume.

use super::{Placed, up_to};
use crate::layout::{Occupancy, Part, Survey};
use imbrik_fs::{Examined, NewSize, ResizeOptions, ResizedVolume};
use imbrik_store::{
    ReadAt,
    error::{Class, Error, Result},
    units::{ByteLen, ByteOffset, Span},
};
use std::{collections::BTreeMap, sync::Arc};

/// Partitions that move keep to multiples of this at most: the erase block of common cards.
const MOST_ALIGNED: u64 = 4 << 20;
/// The end of a partition that fills its card is a multiple of this.
const END_ALIGNED: u64 = 1 << 20;
/// Less than this is not worth growing a volume for.
pub const WORTH_GROWING: ByteLen = ByteLen::mib(1);

/// The minimum of free space, in bytes, that a volume keeps if none was requested.
const USUAL_ROOM: u64 = 128_000_000;

/// Decides the lengths of the volumes of a card.
pub(super) struct Chooser<'a> {
    pub(super) source: &'a Arc<dyn ReadAt>,
    pub(super) survey: &'a Survey,
    pub(super) options: ResizeOptions<'a>,
}

/// Lengths of partitions that differ from those they have, by their place in the survey.
type Lens = BTreeMap<usize, ByteLen>;

/// The volumes resized so far, and the reason for each.
type Shapes = BTreeMap<usize, (ResizedVolume, Examined, &'static str)>;

impl Chooser<'_> {
    /// Resizes one volume to its smallest size with this much free space, or the usual amount; returns the required card
    /// size.
    pub(super) fn smallest(
        &self,
        part: usize,
        room: Option<ByteLen>,
        occupancy: &Occupancy,
    ) -> Result<(ByteLen, Vec<Placed>)> {
        let why = match room {
            None => "some space is left free",
            Some(ByteLen::ZERO) => "as small as its files allow",
            Some(_) => "with the requested free space",
        };
        let (now, usual) = self.usual_room(part, occupancy)?;
        let size = NewSize::Smallest { room: room.unwrap_or(usual) };
        let (mut resized, mut found) = self.resize(part, size)?;
        if room.is_none() && resized.volume.store.size() > now {
            // What the system keeps for itself comes on top.
            (resized, found) = self.resize(part, NewSize::Bytes(now))?;
        }
        if let Some(limit) = &resized.limit {
            let most = limit.most;
            return Err(Error::no_room(format!(
                "a volume of this kind with its clusters has at most {most}"
            )));
        }
        let lens = Lens::from([(part, self.sectors(resized.volume.store.size()))]);
        let placed = lay(self.survey, &lens);
        let size = needed(self.survey, &placed);
        Ok((size, self.with(placed, Shapes::from([(part, (resized, found, why))]))))
    }

    /// The present size of a volume, and the free space that it keeps if none was requested.
    fn usual_room(&self, part: usize, occupancy: &Occupancy) -> Result<(ByteLen, ByteLen)> {
        let now = self.part(part)?.volume.as_ref().map_or(ByteLen::ZERO, |volume| volume.size);
        let Some(found) = occupancy.volume(part) else { return Ok((now, ByteLen::ZERO)) };
        let used = found.usage.in_use().get();
        let half = found.usage.free_in(Span::whole(now)).get() / 2;
        Ok((now, ByteLen::new(half.min(USUAL_ROOM.max(used / 20)))))
    }

    /// On a card of `size`.
    pub(super) fn for_card(
        &self,
        size: ByteLen,
        take_from: &[usize],
        give_to: Option<usize>,
    ) -> Result<Vec<Placed>> {
        let most = size.saturating_sub(self.survey.backup_len());
        let now = lay(self.survey, &Lens::new());
        if last_end(&now) <= most.get() {
            return match give_to {
                Some(part) => self.grown(part, most),
                None => Ok(self.with(now, Shapes::new())),
            };
        }
        let mut lens = Lens::new();
        let mut shapes = Shapes::new();
        let mut cannot = Vec::new();
        for part in self.givers(take_from) {
            let why = match take_from.is_empty() {
                true if shapes.is_empty() => "the card is smaller",
                true => "the others can't shrink further",
                false => "as requested",
            };
            match self.shrunk(part, most, &mut lens) {
                Ok(Some((resized, found))) => {
                    shapes.insert(part, (resized, found, why));
                }
                Ok(None) => {}
                Err(error)
                    if matches!(
                        error.class(),
                        Class::Corrupt | Class::Unsupported | Class::Bug
                    ) =>
                {
                    cannot.push(error.to_string());
                }
                Err(error) => return Err(error),
            }
            let placed = lay(self.survey, &lens);
            if last_end(&placed) <= most.get() {
                return Ok(self.with(placed, shapes));
            }
        }
        Err(self.too_small(size, &lens, &cannot, take_from))
    }

    /// As another card holds the same partitions.
    pub(super) fn like(
        &self,
        size: ByteLen,
        places: &[(Span, Option<ByteLen>)],
    ) -> Result<Vec<Placed>> {
        let mut shapes = Shapes::new();
        let mut placed = lay(self.survey, &Lens::new());
        let mut at = ByteOffset::ZERO;
        for one in &mut placed {
            let (to, len) = places
                .get(one.index)
                .ok_or_else(|| Error::usage("a partition is missing on the other card"))?;
            if to.start() < at || !Span::whole(size).contains(*to) {
                return Err(Error::usage("the partitions are in a different order"));
            }
            if let Some(len) = len {
                let (resized, found) = self.resize(one.index, NewSize::Bytes(*len))?;
                shapes.insert(one.index, (resized, found, "as on the other card"));
            }
            let fits = shapes.contains_key(&one.index) || to.len() >= one.from.len();
            if !fits {
                return Err(Error::no_room("a partition is shorter on the other card"));
            }
            one.to = *to;
            at = to.end();
        }
        Ok(self.with(placed, shapes))
    }

    fn part(&self, index: usize) -> Result<&Part> {
        let part = self.survey.parts.get(index);
        part.ok_or_else(|| Error::usage("the card has no such partition"))
    }

    fn sectors(&self, len: ByteLen) -> ByteLen {
        up_to(len, self.survey.sector.bytes())
    }

    fn resize(&self, index: usize, size: NewSize) -> Result<(ResizedVolume, Examined)> {
        let part = self.part(index)?;
        let open = part.open(self.source)?.ok_or_else(|| {
            Error::unsupported(format!("the content of {} is unknown", part.title()))
        })?;
        open.resize(size, self.options).map_err(|error| match error.class() {
            Class::NoRoom | Class::Cancelled => error,
            _ => error.at(part.full_title()),
        })
    }

    /// The volumes that may give room, in the order in which they are asked.
    fn givers(&self, named: &[usize]) -> Vec<usize> {
        if !named.is_empty() {
            return named.to_vec();
        }
        let parts = self.survey.parts.iter().enumerate();
        let mut can: Vec<_> = parts.filter(|(_, part)| part.is_resizable()).collect();
        // Swap has the size that its owner chose: it is shrunk last.
        can.sort_by_key(|(_, part)| (part.is_swap(), std::cmp::Reverse(part.span.end())));
        can.into_iter().map(|(index, _)| index).collect()
    }

    /// The maximum length of a partition if the last one must end at `most`; `None` if even zero is too long.
    fn longest(&self, part: usize, lens: &Lens, most: ByteLen) -> Option<ByteLen> {
        let sector = self.survey.sector.bytes().max(1);
        let fits = |sectors: u64| {
            let mut lens = lens.clone();
            lens.insert(part, ByteLen::new(sectors.saturating_mul(sector)));
            last_end(&lay(self.survey, &lens)) <= most.get()
        };
        let (mut fit, mut not) = (0u64, most.get().checked_div(sector)?.checked_add(1)?);
        if !fits(0) {
            return None;
        }
        while not.saturating_sub(fit) > 1 {
            let middle = fit.midpoint(not);
            if fits(middle) { fit = middle } else { not = middle }
        }
        let len = ByteLen::new(fit.checked_mul(sector)?);
        Some(self.rounded(part, lens, len)).filter(|len| !len.is_zero())
    }

    /// A length with which a partition that nothing follows ends at a round place.
    fn rounded(&self, part: usize, lens: &Lens, len: ByteLen) -> ByteLen {
        let placed = lay(self.survey, lens);
        let is_last = placed.last().is_some_and(|last| last.index == part);
        let start = placed.iter().find(|one| one.index == part).map(|one| one.to.start());
        let (Some(start), true, true) = (start, is_last, self.survey.table.is_some()) else {
            return len;
        };
        let end = start.saturating_add(len).get();
        let end = end.saturating_sub(end.checked_rem(END_ALIGNED).unwrap_or(0));
        ByteOffset::new(end).saturating_since(start)
    }

    /// Grows one volume into the free space of a card of `most`.
    fn grown(&self, part: usize, most: ByteLen) -> Result<Vec<Placed>> {
        let mut lens = Lens::new();
        let now = self.part(part)?.span.len();
        let len = self.longest(part, &lens, most).unwrap_or(now);
        if len.saturating_sub(now) < WORTH_GROWING {
            return Ok(self.with(lay(self.survey, &lens), Shapes::new()));
        }
        let (resized, found) = self.resize(part, NewSize::Bytes(len))?;
        // Some kinds have a largest size: the partition is no longer then.
        let got = self.sectors(resized.volume.store.size());
        lens.insert(part, if resized.limit.is_some() { got.max(now) } else { len });
        let why = "it fills the card";
        let shapes = Shapes::from([(part, (resized, found, why))]);
        Ok(self.with(lay(self.survey, &lens), shapes))
    }

    /// Shrinks one volume so that everything ends at `most`, or as far as possible. Returns nothing if it can't shrink.
    fn shrunk(
        &self,
        part: usize,
        most: ByteLen,
        lens: &mut Lens,
    ) -> Result<Option<(ResizedVolume, Examined)>> {
        let now = self.part(part)?.span.len();
        // Only trying shows if it holds the data: an estimate would sometimes be wrong.
        if let Some(len) = self.longest(part, lens, most).filter(|len| *len < now) {
            match self.resize(part, NewSize::Bytes(len)) {
                Err(error) if error.class() == Class::NoRoom => {}
                other => {
                    let other = other?;
                    lens.insert(part, len);
                    return Ok(Some(other));
                }
            }
        }
        let (resized, found) = self.resize(part, NewSize::Smallest { room: ByteLen::ZERO })?;
        let len = self.sectors(resized.volume.store.size());
        if len >= now {
            return Ok(None);
        }
        lens.insert(part, len);
        Ok(Some((resized, found)))
    }

    /// The missing space, and the volumes that need it.
    fn too_small(
        &self,
        size: ByteLen,
        lens: &Lens,
        cannot: &[String],
        take_from: &[usize],
    ) -> Error {
        let needed = needed(self.survey, &lay(self.survey, lens));
        let title = |part: &usize| self.survey.parts.get(*part).map(Part::full_title);
        let least = lens
            .iter()
            .filter_map(|(part, len)| Some(format!("{} needs at least {len}", title(part)?)));
        let mut whys: Vec<String> = least.collect();
        whys.extend(cannot.iter().map(|why| format!("these can't be resized: {why}")));
        if !take_from.is_empty() {
            whys.push("other volumes were not allowed to shrink".to_owned());
        }
        let whys =
            if whys.is_empty() { "nothing on it can shrink".to_owned() } else { whys.join("; ") };
        Error::no_room(format!(
            "a card of {size} is {} too small: {needed} are needed; {whys}",
            needed.saturating_sub(size),
        ))
        .with_shortfall(needed.saturating_sub(size))
    }

    fn with(&self, mut placed: Vec<Placed>, mut shapes: Shapes) -> Vec<Placed> {
        for one in &mut placed {
            if let Some((resized, found, why)) = shapes.remove(&one.index) {
                one.resized = Some((resized, found));
                one.why = why;
            }
        }
        placed
    }
}

/// The offsets of partitions with these lengths, in the card's order: unchanged, or shifted by the change of those
/// before them, by a multiple of the alignment. A sum that exceeds 64 bits saturates: it is past the end of any card,
/// and does not fit.
pub(super) fn lay(survey: &Survey, lens: &Lens) -> Vec<Placed> {
    let mut parts: Vec<_> = survey.parts.iter().enumerate().collect();
    parts.sort_by_key(|(_, part)| part.span);
    let sector = survey.sector.bytes();
    let (mut was, mut is) = (0u64, 0u64);
    let place = |(index, part): (usize, &Part)| {
        let start = part.span.start().get();
        let unit = 1u64.checked_shl(start.trailing_zeros()).unwrap_or(1);
        let unit = unit.clamp(sector.min(MOST_ALIGNED), MOST_ALIGNED);
        let back = was.saturating_sub(is);
        let back = back.saturating_sub(back.checked_rem(unit).unwrap_or(0));
        let on = is.saturating_sub(was).next_multiple_of(unit);
        let to = ByteOffset::new(start.saturating_sub(back).saturating_add(on));
        let len = lens.get(&index).copied().unwrap_or(part.span.len());
        let to = Span::between(to, to.saturating_add(len));
        (was, is) = (part.span.end().get(), to.end().get());
        Placed { index, from: part.span, to, resized: None, why: "" }
    };
    parts.into_iter().map(place).collect()
}

/// How long a card must be for partitions in these places, which may be further on than any card is
/// long.
pub(super) fn needed(survey: &Survey, placed: &[Placed]) -> ByteLen {
    let end = up_to(ByteLen::new(last_end(placed)), survey.sector.bytes());
    end.saturating_add(survey.backup_len())
}

fn last_end(placed: &[Placed]) -> u64 {
    placed.iter().map(|one| one.to.end().get()).max().unwrap_or(0)
}
