//! Whether a card holds what it claims, and how fast it is.
//!
//! Nothing on it is lost: marks go only into space that no volume has in use, and what stood there is put
//! back. On a card whose addresses wrap around, a mark also lands somewhere else; so each mark's place is
//! read before it is written, and put back in the reverse order: whatever it really was gets back what
//! it had.
//!
//! ```text
//! 1  read:   is the card's start found again at 2ⁿ?                           then it wraps there
//! 2  write:  a mark a stretch, as long as the field is ──┐  and the ends       a mark that is not there: it ends
//! 3  read:   the field ◄── a mark in it is one too many ─┘                     then it wraps
//! ```

use crate::{
    card::{Card, Host, TargetCard},
    layout::{Content, Occupancy, Plan, Survey},
    transfer::{Planned, claim},
};
use imbrik_fs::State;
use imbrik_store::{
    Counted, ReadAt, Tally, WriteAt,
    error::{Error, Result},
    exact::Exact as _,
    for_pieces,
    progress::{Event, Step, Watch},
    units::{ByteLen, ByteOffset, Span},
};
use std::{
    fmt,
    sync::Arc,
    time::{Duration, Instant},
};

/// The longest and the shortest field: a stretch without a hole that is filled and read.
const MOST_FIELD: ByteLen = ByteLen::mib(64);
const LEAST_FIELD: ByteLen = ByteLen::mib(1);
/// Bytes of a mark, and of a small write.
const MARK: u64 = 4096;
const SECTOR: usize = 512;
/// How many marks are on the card at a time, and in all at most.
const BATCH: usize = 256;
const MOST_MARKS: u64 = 4096;
/// In which pieces is read and written at length.
const PIECE: ByteLen = ByteLen::mib(1);
/// At how many places of the card the rate of reading is measured.
const PLACES: u64 = 64;
const SMALL_WRITES: u64 = 128;
/// The smallest size at which a card may wrap.
const LEAST_WRAP: u64 = 1 << 20;

/// What is asked of a card.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct WeighOptions {
    /// Whether all of the card may be overwritten, and is left blank.
    pub erase: bool,
    /// Whether all that may be written is filled and read back, and left as zeros.
    pub full: bool,
    /// Whether what was written is left as zeros instead of what stood there.
    pub zero: bool,
    /// Whether a disk that is no card may be written.
    pub allow_fixed: bool,
}

/// Why a card cannot be weighed.
#[derive(Debug)]
#[non_exhaustive]
pub enum WeighRefusal {
    /// It has no space that is known to be unused.
    NoSpace {
        /// The longest stretch that there is.
        longest: ByteLen,
    },
    /// Anything else.
    Failed(Error),
}

impl fmt::Display for WeighRefusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoSpace { longest } => write!(
                f,
                "of the card, only {longest} in one piece are known to be unused; {LEAST_FIELD} are needed"
            ),
            Self::Failed(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for WeighRefusal {}

impl From<Error> for WeighRefusal {
    fn from(error: Error) -> Self {
        Self::Failed(error)
    }
}

/// How a card holds less than it claims.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Shortfall {
    /// Its addresses wrap around: behind so many bytes, it begins anew.
    Wraps(ByteLen),
    /// What is written from this place on is not there afterwards; in front of it, it is.
    Ends(ByteOffset),
}

/// What a card turned out to be.
#[derive(Clone, Debug)]
pub struct Weighed {
    /// What it claims to hold.
    pub claimed: ByteLen,
    /// How it holds less; `None` when nothing told that.
    pub shortfall: Option<Shortfall>,
    /// How many places were marked.
    pub marks: u64,
    /// How much was written and read back, byte by byte.
    pub proved: ByteLen,
    /// Bytes a second of a long read, and of a long write; `None` where it did not come to that.
    pub read_rate: Option<u64>,
    /// Bytes a second of a long write.
    pub write_rate: Option<u64>,
    /// Small writes a second, each made sure of.
    pub small_writes: Option<u64>,
    /// Bytes a second of reading, by place.
    pub places: Vec<(ByteOffset, u64)>,
    /// What was read and written in all.
    pub tally: Tally,
    /// How long it took.
    pub took: Duration,
}

/// A card that is to be weighed, and where it may be written.
pub struct WeighPlan {
    card: Card,
    survey: Survey,
    /// What may be written, in order and joined.
    pub free: Vec<Span>,
    options: WeighOptions,
}

impl WeighPlan {
    /// Looks at `card` for space that may be written: what no volume that is sound and was unmounted has in
    /// use, or all of it.
    ///
    /// # Errors
    /// When there is too little, or the card cannot be read.
    pub fn new(
        host: &dyn Host,
        card: Card,
        options: WeighOptions,
    ) -> std::result::Result<Self, WeighRefusal> {
        let source = host.open_source(&card)?;
        let survey = Survey::of(&*source)?;
        let free = match options.erase {
            true => vec![Span::whole(card.size)],
            false => unused(&source, &survey)?,
        };
        let longest = free.iter().map(|span| span.len()).max().unwrap_or_default();
        if longest < LEAST_FIELD {
            return Err(WeighRefusal::NoSpace { longest });
        }
        Ok(Self { card, survey, free, options })
    }

    /// What is on the card.
    #[must_use]
    pub fn survey(&self) -> &Survey {
        &self.survey
    }

    /// Claims the card, weighs it, and lets it go.
    ///
    /// # Errors
    /// When it is not the card that was looked at any more, cannot be read or written, or stopping was
    /// requested. Whatever happens, what stood in the marked places is put back first.
    pub fn run(&self, host: &dyn Host, watch: Watch<'_>) -> Result<Weighed> {
        let planned = Planned::new(self.card.clone(), &self.survey);
        let card = claim(host, &planned, self.options.allow_fixed)?;
        let tally = Tally::default();
        let done = Weighing {
            card: &*card,
            store: Counted::new(card.store(), &tally),
            tally: tally.clone(),
            plan: self,
            nonce: nonce(),
            watch,
        }
        .run();
        card.let_go()?;
        done
    }
}

/// The bytes that stand nowhere but in the marks of this run.
fn nonce() -> [u8; 16] {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let now = now.map_or(0, |now| now.as_nanos());
    let hash = blake3::hash(format!("{now} {}", std::process::id()).as_bytes());
    let mut nonce = [0; 16];
    nonce.iter_mut().zip(hash.as_bytes()).for_each(|(to, from)| *to = *from);
    nonce
}

/// What no volume has in use that was unmounted, and of which nothing is odd.
fn unused(source: &Arc<dyn ReadAt>, survey: &Survey) -> Result<Vec<Span>> {
    let occupancy = Occupancy::of(source, survey)?;
    let is_sound = |place: Span| {
        (0..).zip(&survey.parts).any(|(index, part)| {
            part.span.contains(place)
                && occupancy.volume(index).is_some_and(|found| {
                    found.state == State::Clean
                        && found.usage.whole_because.is_none()
                        && found.usage.findings.is_empty()
                })
        })
    };
    let plan = Plan::save(Arc::clone(source), &occupancy)?;
    let segments = plan.view.segments().iter();
    let unused = segments.filter(|segment| matches!(segment.content, Content::Unused));
    Ok(unused.map(|segment| segment.span).filter(|span| is_sound(*span)).collect())
}

/// A card at work.
struct Weighing<'a> {
    card: &'a dyn TargetCard,
    store: Counted<&'a dyn WriteAt>,
    tally: Tally,
    plan: &'a WeighPlan,
    nonce: [u8; 16],
    watch: Watch<'a>,
}

/// What stood in places that were written, in the order of writing.
type Before = Vec<(ByteOffset, Vec<u8>)>;

impl Weighing<'_> {
    fn run(&self) -> Result<Weighed> {
        let started = Instant::now();
        let mut weighed = Weighed {
            claimed: self.plan.card.size,
            shortfall: None,
            marks: 0,
            proved: ByteLen::ZERO,
            read_rate: None,
            write_rate: None,
            small_writes: None,
            places: Vec::new(),
            tally: self.tally.clone(),
            took: Duration::ZERO,
        };
        let observer = self.watch.observer;
        let field = self.field();
        observer.on(&Event::Started { step: Step::Weighing, total: ByteLen::new(4) });
        let advanced = |done| observer.on(&Event::Advanced { done: ByteLen::new(done) });
        weighed.shortfall = self.wraps_at_a_power_of_two()?;
        advanced(1);
        if weighed.shortfall.is_none() {
            weighed.shortfall = self.mark(field, &mut weighed.marks)?;
        }
        advanced(2);
        if weighed.shortfall.is_none() {
            self.measure(field, &mut weighed)?;
            advanced(3);
            weighed.places = self.rates()?;
        }
        advanced(4);
        observer.on(&Event::Finished);
        if self.plan.options.full && weighed.shortfall.is_none() {
            weighed.shortfall = self.fill(&mut weighed.proved)?;
        }
        if self.plan.options.erase && weighed.shortfall.is_none() {
            self.store.zero_at(Span::whole(ByteLen::mib(1)))?;
            self.store.flush()?;
        }
        weighed.took = started.elapsed();
        tracing::info!(shortfall = ?weighed.shortfall, marks = weighed.marks, "the card is weighed");
        Ok(weighed)
    }

    /// The stretch that is filled: the longest unused one in the first half, or else anywhere.
    fn field(&self) -> Span {
        let half = ByteOffset::new(self.plan.card.size.get() / 2);
        let free = &self.plan.free;
        let first = free.iter().filter(|span| span.start() < half).max_by_key(|span| span.len());
        let any = free.iter().max_by_key(|span| span.len());
        let longest = first.filter(|span| span.len() >= LEAST_FIELD).or(any);
        let longest = longest.copied().unwrap_or_default();
        let end = longest.start().saturating_add(MOST_FIELD).min(longest.end());
        let whole = |at: ByteOffset| at.get().saturating_sub(at.get() % MARK);
        let start = ByteOffset::new(longest.start().get().next_multiple_of(MARK));
        Span::between(start, ByteOffset::new(whole(end)))
    }

    fn medium(&self) -> Result<Counted<Arc<dyn ReadAt>>> {
        Ok(Counted::new(self.card.medium()?, &self.tally))
    }

    /// Whether what stands at the card's start is found again at a power of two, and is not zeros.
    fn wraps_at_a_power_of_two(&self) -> Result<Option<Shortfall>> {
        let size = self.plan.card.size.get();
        let mut start = vec![0; 64 << 10];
        let mut there = start.clone();
        self.store.read_at(ByteOffset::ZERO, &mut start)?;
        let distinct = start.chunks(SECTOR).filter(|sector| sector.iter().any(|byte| *byte != 0));
        // One sector may be a backup of the first.
        if distinct.count() < 2 {
            return Ok(None);
        }
        let mut wrap = LEAST_WRAP;
        while wrap.saturating_add(ByteLen::of(&start).get()) <= size {
            let found = self.store.read_at(ByteOffset::new(wrap), &mut there);
            if imbrik_store::if_readable(found)?.is_some() && start == there {
                return Ok(Some(Shortfall::Wraps(ByteLen::new(wrap))));
            }
            wrap = wrap.times(2)?;
        }
        Ok(None)
    }

    /// The content of mark `number`: each sector tells whose it is, and which.
    fn content(&self, number: u64) -> Vec<u8> {
        let mut mark = Vec::new();
        for sector in 0..MARK / 512 {
            let mut bytes = self.nonce.to_vec();
            bytes.extend(number.to_le_bytes());
            bytes.extend(sector.to_le_bytes());
            while let Some(more) = SECTOR.checked_sub(bytes.len()).filter(|more| *more > 0) {
                let copy: Vec<u8> = bytes.iter().copied().take(more).collect();
                bytes.extend(copy);
            }
            mark.extend(bytes);
        }
        mark
    }

    /// The number of the mark, and of its sector, that `sector` is of.
    fn read_mark(&self, sector: &[u8]) -> Option<(u64, u64)> {
        let rest = sector.strip_prefix(&self.nonce)?;
        let number = imbrik_store::bytes::le_u64(rest, 0)?;
        Some((number, imbrik_store::bytes::le_u64(rest, 8)?))
    }

    /// Where marks go: one in each stretch as long as the field, at powers of two, and at the very end.
    fn places(&self, field: Span) -> Vec<ByteOffset> {
        let size = self.plan.card.size.get();
        let stretch = field.len().get().max(size.div_ceil(MOST_MARKS)).max(MARK);
        let mut wanted: Vec<u64> = (0..size.div_ceil(stretch))
            .map(|index| index.saturating_mul(stretch))
            .chain((20..63).map(|power| 1u64 << power).take_while(|at| *at < size))
            .collect();
        wanted.push(size.saturating_sub(MARK));
        let mut places: Vec<ByteOffset> = wanted
            .into_iter()
            .filter_map(|at| self.free_at(at, at.saturating_add(stretch)))
            .chain(self.plan.free.last().and_then(|last| {
                let at = last.end().get().checked_sub(MARK)?;
                self.free_at(at.saturating_sub(at % MARK), at.saturating_add(1))
            }))
            .filter(|at| !field.contains(Span::between(*at, at.saturating_add(ByteLen::new(MARK)))))
            .collect();
        places.sort_unstable();
        places.dedup();
        places
    }

    /// The first place for a mark from `at` up to `end` that may be written.
    fn free_at(&self, at: u64, end: u64) -> Option<ByteOffset> {
        let free = &self.plan.free;
        let first = free.partition_point(|span| span.end().get() <= at);
        free.get(first..)?.iter().take_while(|span| span.start().get() < end).find_map(|span| {
            let start = span.start().get().max(at).next_multiple_of(MARK);
            let fits = start < end && start.checked_add(MARK)? <= span.end().get();
            fits.then(|| ByteOffset::new(start))
        })
    }

    /// Writes `bytes` at `at`, once what stands there was taken down.
    fn write(&self, at: ByteOffset, bytes: &[u8], before: &mut Before) -> Result<()> {
        let mut old = vec![0; bytes.len()];
        self.store.read_at(at, &mut old)?;
        before.push((at, old));
        self.store.write_at(at, bytes)
    }

    /// Puts back what stood in places that were written, the last one first.
    fn put_back(&self, before: Before) -> Result<()> {
        for (at, old) in before.into_iter().rev() {
            self.store.write_at(at, &old)?;
        }
        self.store.flush()
    }

    /// Does `work` with what is written in it put back, however it ends.
    fn with_it_put_back<T>(&self, work: impl FnOnce(&mut Before) -> Result<T>) -> Result<T> {
        let mut before = Before::new();
        let done = work(&mut before);
        self.put_back(before)?;
        done
    }

    /// Marks places all over the card, and looks whether they are there, and nowhere else.
    fn mark(&self, field: Span, count: &mut u64) -> Result<Option<Shortfall>> {
        let places = self.places(field);
        let mut last_good = None;
        for batch in places.chunks(BATCH) {
            self.watch.cancel.check()?;
            *count = count.saturating_add(batch.len().fitting()?);
            tracing::debug!(marks = batch.len(), from = ?batch.first(), "marks are written");
            let found = self.with_it_put_back(|before| self.mark_some(field, batch, before))?;
            match found {
                None => last_good = batch.last().copied(),
                Some(Shortfall::Ends(at)) => {
                    return self.refined(field, last_good, at).map(Some);
                }
                wraps => return Ok(wraps),
            }
        }
        Ok(None)
    }

    fn mark_some(
        &self,
        field: Span,
        places: &[ByteOffset],
        before: &mut Before,
    ) -> Result<Option<Shortfall>> {
        for (number, at) in (0u64..).zip(places) {
            self.write(*at, &self.content(number), before)?;
        }
        self.store.flush()?;
        let medium = self.medium()?;
        // How far each mark is from where it also is.
        let mut apart: Vec<u64> = Vec::new();
        let mut ends = None;
        let mut note = |sector: &[u8], at: ByteOffset| {
            let Some((number, inside)) = self.read_mark(sector) else { return };
            let index = usize::try_from(number).unwrap_or(usize::MAX);
            let Some(place) = places.get(index) else { return };
            let meant = place.get().saturating_add(inside.saturating_mul(512));
            apart.extend(Some(meant.abs_diff(at.get())).filter(|apart| *apart > 0));
        };
        let mut sector = vec![0; SECTOR];
        for (number, at) in (0u64..).zip(places) {
            let read = imbrik_store::if_readable(medium.read_at(*at, &mut sector))?;
            note(&sector, *at);
            let is_any = read.is_some() && self.read_mark(&sector).is_some();
            let is_there = is_any && self.read_mark(&sector) == Some((number, 0));
            if !is_there && !is_any && ends.is_none() {
                ends = Some(*at);
            }
        }
        let mut bytes = vec![0; PIECE.to_usize().unwrap_or(0)];
        for_pieces(field, PIECE, |piece| {
            let len = piece.len().to_usize().unwrap_or(0).min(bytes.len());
            let part = bytes.get_mut(..len).unwrap_or_default();
            if imbrik_store::if_readable(medium.read_at(piece.start(), part))?.is_some() {
                for (index, sector) in (0u64..).zip(part.chunks(SECTOR)) {
                    note(sector, piece.start().plus(ByteLen::new(index.times(512)?))?);
                }
            }
            Ok(())
        })?;
        // Twice around is twice as far: the least is once.
        let wraps = apart.iter().copied().min().map(|apart| Shortfall::Wraps(ByteLen::new(apart)));
        Ok(wraps.or(ends.map(Shortfall::Ends)))
    }

    /// Where a card really ends that lost a mark at `bad` and kept one at `good`.
    fn refined(&self, field: Span, good: Option<ByteOffset>, bad: ByteOffset) -> Result<Shortfall> {
        let (mut good, mut bad) = (good.unwrap_or(field.end()).min(bad), bad);
        while bad.get().saturating_sub(good.get()) > 2 * MARK {
            self.watch.cancel.check()?;
            let middle = good.get().midpoint(bad.get());
            let Some(at) = self.free_at(middle, bad.get()).filter(|at| *at < bad) else { break };
            // That it doesn't wrap is known by now.
            let alone = Span::default();
            let found = self.with_it_put_back(|before| self.mark_some(alone, &[at], before))?;
            match found {
                None => good = at.max(good),
                Some(Shortfall::Ends(_)) => bad = at,
                Some(wraps) => return Ok(wraps),
            }
        }
        Ok(Shortfall::Ends(bad))
    }

    /// How fast the field is read and written, at length and in small pieces.
    fn measure(&self, field: Span, weighed: &mut Weighed) -> Result<()> {
        let mut old = Vec::new();
        let took = timed(|| {
            for_pieces(field, PIECE, |piece| {
                let mut bytes = vec![0; piece.len().to_usize().unwrap_or(0)];
                self.store.read_at(piece.start(), &mut bytes)?;
                old.push((piece.start(), bytes));
                Ok(())
            })
        })?;
        weighed.read_rate = Some(per_second(field.len().get(), took));
        let done = self.write_field(field, weighed);
        let old = match self.plan.options.zero || self.plan.options.full || self.plan.options.erase
        {
            true => old.into_iter().map(|(at, bytes)| (at, vec![0; bytes.len()])).collect(),
            false => old,
        };
        self.put_back(old)?;
        done
    }

    fn write_field(&self, field: Span, weighed: &mut Weighed) -> Result<()> {
        let noise = |at: ByteOffset, len: usize| {
            let mut bytes = vec![0; len];
            let mut hasher = blake3::Hasher::new();
            hasher.update(&self.nonce).update(&at.get().to_le_bytes());
            hasher.finalize_xof().fill(&mut bytes);
            bytes
        };
        let took = timed(|| {
            for_pieces(field, PIECE, |piece| {
                self.watch.cancel.check()?;
                let bytes = noise(piece.start(), piece.len().to_usize().unwrap_or(0));
                self.store.write_at(piece.start(), &bytes)
            })?;
            self.store.flush()
        })?;
        weighed.write_rate = Some(per_second(field.len().get(), took));
        let medium = self.medium()?;
        for_pieces(field, PIECE, |piece| {
            let len = piece.len().to_usize().unwrap_or(0);
            let mut found = vec![0; len];
            medium.read_at(piece.start(), &mut found)?;
            if found != noise(piece.start(), len) {
                return Err(Error::mismatch(format!(
                    "the card did not keep what was written in {piece}"
                )));
            }
            weighed.proved = weighed.proved.plus(piece.len())?;
            Ok(())
        })?;
        let blocks = (field.len().get() / MARK).max(1);
        let took = timed(|| {
            for index in 0..SMALL_WRITES {
                self.watch.cancel.check()?;
                // Far apart, and never in order.
                let block = index.wrapping_mul(0x9e37_79b9_7f4a_7c15).checked_rem(blocks);
                let block = block.unwrap_or(0);
                let at = field.start().plus(ByteLen::new(block.times(MARK)?))?;
                self.store.write_at(at, &noise(at, usize::try_from(MARK).unwrap_or(0)))?;
                self.store.flush()?;
            }
            Ok(())
        })?;
        weighed.small_writes = Some(per_second(SMALL_WRITES, took));
        Ok(())
    }

    /// The rate of reading at places all over the card. A place that cannot be read has none.
    fn rates(&self) -> Result<Vec<(ByteOffset, u64)>> {
        let size = self.plan.card.size;
        let step = size.get().div_ceil(PLACES).max(1);
        let len = PIECE.min(ByteLen::new(step)).to_usize().unwrap_or(0);
        let mut bytes = vec![0; len];
        let mut rates = Vec::new();
        let last = size.saturating_sub(ByteLen::from_usize(len)).get();
        for at in (0..PLACES).map(|index| index.saturating_mul(step)).take_while(|at| *at <= last) {
            self.watch.cancel.check()?;
            let at = ByteOffset::new(at);
            let began = Instant::now();
            if imbrik_store::if_readable(self.store.read_at(at, &mut bytes))?.is_some() {
                rates.push((at, per_second(len.fitting()?, began.elapsed())));
            }
        }
        Ok(rates)
    }

    /// Fills all that may be written, reads it back, and leaves zeros.
    fn fill(&self, proved: &mut ByteLen) -> Result<Option<Shortfall>> {
        let observer = self.watch.observer;
        let all: ByteLen = self.plan.free.iter().map(|span| span.len()).sum();
        let total = ByteLen::new(all.get().times(3)?);
        observer.on(&Event::Started { step: Step::Filling, total });
        let mut done = ByteLen::ZERO;
        let mut advance = |len: ByteLen| {
            done = done.saturating_add(len);
            observer.on(&Event::Advanced { done });
            self.watch.cancel.check()
        };
        let content = |piece: Span| {
            let sectors = piece.start().get() / 512..piece.end().get() / 512;
            let mut bytes = Vec::with_capacity(piece.len().to_usize().unwrap_or(0));
            for sector in sectors {
                let words = [sector, sector ^ u64::from_le_bytes([0x5a; 8])];
                let [a, b] = words.map(u64::to_le_bytes);
                for _ in 0..SECTOR / 32 {
                    bytes.extend(self.nonce);
                    bytes.extend(a);
                    bytes.extend(b);
                }
            }
            bytes
        };
        let pieces = |work: &mut dyn FnMut(Span) -> Result<()>| {
            let whole = |span: &Span| {
                let start = span.start().get().next_multiple_of(512);
                let end = span.end().get().saturating_sub(span.end().get() % 512);
                Span::between(ByteOffset::new(start), ByteOffset::new(end))
            };
            self.plan
                .free
                .iter()
                .map(whole)
                .try_for_each(|span| for_pieces(span, PIECE, &mut *work))
        };
        let mut shortfall = None;
        let filled = pieces(&mut |piece| {
            self.store.write_at(piece.start(), &content(piece))?;
            advance(piece.len())
        })
        .and_then(|()| self.store.flush())
        .and_then(|()| {
            let medium = self.medium()?;
            pieces(&mut |piece| {
                let mut found = vec![0; piece.len().to_usize().unwrap_or(0)];
                let read = imbrik_store::if_readable(medium.read_at(piece.start(), &mut found))?;
                if shortfall.is_none() && (read.is_none() || found != content(piece)) {
                    shortfall = Some(self.told_by(piece, &found, &content(piece)));
                } else if shortfall.is_none() {
                    *proved = proved.plus(piece.len())?;
                }
                advance(piece.len())
            })
        });
        let cleared = pieces(&mut |piece| {
            self.store.zero_at(piece)?;
            // What was begun is brought to its end.
            let _ = advance(piece.len());
            Ok(())
        });
        observer.on(&Event::Finished);
        filled.and(cleared).and_then(|()| self.store.flush())?;
        Ok(shortfall)
    }

    /// What tells a piece that does not hold what was written: another place's content, or none.
    fn told_by(&self, piece: Span, found: &[u8], expected: &[u8]) -> Shortfall {
        let sectors = found.chunks(SECTOR).zip(expected.chunks(SECTOR));
        for (index, (found, expected)) in (0u64..).zip(sectors) {
            if found == expected {
                continue;
            }
            let at = piece.start().get().saturating_add(index.saturating_mul(512));
            let other = found.strip_prefix(&self.nonce);
            let other = other.and_then(|rest| imbrik_store::bytes::le_u64(rest, 0));
            return match other.map(|sector| sector.saturating_mul(512).abs_diff(at)) {
                Some(apart @ 1..) => Shortfall::Wraps(ByteLen::new(apart)),
                _ => Shortfall::Ends(ByteOffset::new(at)),
            };
        }
        Shortfall::Ends(piece.start())
    }
}

/// How long `work` takes.
fn timed(work: impl FnOnce() -> Result<()>) -> Result<Duration> {
    let began = Instant::now();
    work()?;
    Ok(began.elapsed())
}

/// How much that is in a second; the largest number where it took no time.
fn per_second(count: u64, took: Duration) -> u64 {
    let rate = u128::from(count).saturating_mul(1_000_000_000).checked_div(took.as_nanos());
    rate.and_then(|rate| u64::try_from(rate).ok()).unwrap_or(u64::MAX)
}
