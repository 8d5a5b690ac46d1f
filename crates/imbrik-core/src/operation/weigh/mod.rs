//! Test of the real capacity and speed of a card.
//!
//! No data are lost: test marks are written only to free space, and the old content is restored. On a card whose
//! addresses wrap around, a mark also overwrites another place; so the place of each mark is read before it is written,
//! and restored in the reverse order: every physical place gets back what it had.
//!
//! ```text
//! 1  read:   is the card's start found again at 2ⁿ?                           if so, it wraps there
//! 2  write:  one mark per stretch of the field's length ──┐ and at the ends    a missing mark: it ends there
//! 3  read:   the field ◄── a mark in it is an alias ──────┘                     then it wraps
//! ```

mod fill;
mod marks;
mod measure;

use crate::{
    card::{Card, Host, TargetCard},
    layout::{Content, Occupancy, Plan, Survey},
    transfer::{Planned, claim},
};
use imbrik_fs::State;
use imbrik_store::{
    Counted, ReadAt, Tally, WriteAt,
    error::{Error, Result},
    progress::{Event, Step, Watch},
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::{
    fmt,
    sync::Arc,
    time::{Duration, Instant},
};

/// The maximum and minimum length of the field: a contiguous range that is filled and read.
const MOST_FIELD: ByteLen = ByteLen::mib(64);
const LEAST_FIELD: ByteLen = ByteLen::mib(1);
/// The size of a mark, and of a small write, in bytes.
const MARK: u64 = 4096;
const SECTOR: usize = 512;
/// The number of marks on the card at the same time, and in total.
const BATCH: usize = 256;
const MOST_MARKS: u64 = 4096;
/// The size of sequential reads and writes.
const PIECE: ByteLen = ByteLen::mib(1);
/// The number of places at which the read rate is measured.
const PLACES: u64 = 64;
const SMALL_WRITES: u64 = 128;
/// The smallest size after which addresses can wrap around.
const LEAST_WRAP: u64 = 1 << 20;

/// Options of a test.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct WeighOptions {
    /// True if the whole card may be overwritten; it is left without a partition table.
    pub erase: bool,
    /// True if all writable space is filled and read back, and left as zeros.
    pub full: bool,
    /// True if written ranges are left as zeros instead of being restored.
    pub zero: bool,
    /// True if disks that are not cards may be written.
    pub allow_fixed: bool,
}

/// Why a card can't be tested.
#[derive(Debug)]
#[non_exhaustive]
pub enum WeighRefusal {
    /// It has not enough contiguous space that is known to be free.
    NoSpace {
        /// The longest free range.
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

/// How a card has less capacity than it claims.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Shortfall {
    /// Addresses wrap around after this size.
    Wraps(ByteLen),
    /// Data written at this offset or later are lost; data before it are kept.
    Ends(ByteOffset),
}

/// The result of a test.
#[derive(Clone, Debug)]
pub struct Weighed {
    /// The claimed size.
    pub claimed: ByteLen,
    /// How capacity is missing; `None` if that was not found.
    pub shortfall: Option<Shortfall>,
    /// The number of marks.
    pub marks: u64,
    /// The part of the card that the marks cover: a card that wraps or ends elsewhere can go unnoticed.
    pub tested: ByteLen,
    /// Bytes that were written and read back.
    pub proved: ByteLen,
    /// Sequential read rate in bytes per second; `None` if it was not measured.
    pub read_rate: Option<u64>,
    /// Sequential write rate in bytes per second.
    pub write_rate: Option<u64>,
    /// Small writes per second, each flushed.
    pub small_writes: Option<u64>,
    /// Read rates in bytes per second, by offset.
    pub places: Vec<(ByteOffset, u64)>,
    /// Bytes that were read and written in total.
    pub tally: Tally,
    /// The duration.
    pub took: Duration,
}

/// A card to be tested, and the space that may be written.
pub struct WeighPlan {
    card: Card,
    survey: Survey,
    /// Writable space, in order and joined.
    pub free: Vec<Span>,
    options: WeighOptions,
}

impl WeighPlan {
    /// Finds writable space on `card`: the free space of consistent, unmounted volumes, or all of it.
    ///
    /// # Errors
    /// When there is too little, or the card can't be read.
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

    /// The survey of the card.
    #[must_use]
    pub fn survey(&self) -> &Survey {
        &self.survey
    }

    /// Claims the card, tests it, and releases it.
    ///
    /// # Errors
    /// When it is another card by now, can't be read or written, or stopping was requested. In any case, the old
    /// content of marked places is restored first.
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

/// Random bytes that occur only in the marks of this run.
fn nonce() -> [u8; 16] {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let now = now.map_or(0, |now| now.as_nanos());
    let hash = blake3::hash(format!("{now} {}", std::process::id()).as_bytes());
    let mut nonce = [0; 16];
    nonce.iter_mut().zip(hash.as_bytes()).for_each(|(to, from)| *to = *from);
    nonce
}

/// The free space of volumes that were unmounted and have no oddities.
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
    let unused = unused.map(|segment| segment.span).filter(|span| is_sound(*span));
    Ok(joined(unused.chain(unallocated(survey)).collect()))
}

/// Space outside of all partitions, without the range before the first one, which can contain boot loaders, and the
/// last MiB, which contains backups of tables. It is restored like the rest.
fn unallocated(survey: &Survey) -> Vec<Span> {
    let first = survey.parts.iter().map(|part| part.span.start()).min();
    let Some(first) = first.filter(|_| survey.table.is_some() && survey.whole_because.is_none())
    else {
        return Vec::new();
    };
    let end = ByteOffset::new(survey.size.saturating_sub(PIECE).get());
    let room = Span::between(first, end);
    let gaps = survey.gaps.iter().filter_map(|gap| gap.intersect(room));
    gaps.filter(|gap| gap.len() >= LEAST_FIELD).collect()
}

impl Weighed {
    /// The minimum part of a card, in percent, that must be tested for a statement about its capacity.
    const LEAST_TESTED: u64 = 90;

    /// The tested part of the card, in percent.
    #[must_use]
    pub fn tested_percent(&self) -> u64 {
        let part = self.tested.get().saturating_mul(100);
        part.checked_div(self.claimed.get()).unwrap_or(0)
    }

    /// Returns whether enough of the card was tested to say that it has its claimed capacity, or a shortfall was found.
    #[must_use]
    pub fn has_verdict(&self) -> bool {
        self.shortfall.is_some() || self.tested_percent() >= Self::LEAST_TESTED
    }
}

/// A card that is being tested.
struct Weighing<'a> {
    card: &'a dyn TargetCard,
    store: Counted<&'a dyn WriteAt>,
    tally: Tally,
    plan: &'a WeighPlan,
    nonce: [u8; 16],
    watch: Watch<'a>,
}

/// The old content of written places, in the order of writing.
type Before = Vec<(ByteOffset, Vec<u8>)>;

impl Weighing<'_> {
    fn run(&self) -> Result<Weighed> {
        let started = Instant::now();
        let mut weighed = Weighed {
            claimed: self.plan.card.size,
            shortfall: None,
            marks: 0,
            tested: ByteLen::ZERO,
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
            weighed.tested = self.covered(field);
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
            self.clear_ends()?;
        }
        weighed.took = started.elapsed();
        tracing::info!(shortfall = ?weighed.shortfall, marks = weighed.marks, "the card is weighed");
        Ok(weighed)
    }

    /// Removes the signatures of tables and volumes at the start and end of a card.
    fn clear_ends(&self) -> Result<()> {
        let card = Span::whole(self.plan.card.size);
        let end = self.plan.card.size.saturating_sub(PIECE);
        let tail = Span::between(ByteOffset::new(end.get()), card.end());
        for span in [Span::whole(PIECE.min(card.len())), tail] {
            self.store.zero_at(span)?;
        }
        self.store.flush()
    }

    /// The range that is filled: the longest free one in the first half, or else anywhere.
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

    /// Writes `bytes` at `at`, after saving the old content.
    fn write(&self, at: ByteOffset, bytes: &[u8], before: &mut Before) -> Result<()> {
        let mut old = vec![0; bytes.len()];
        self.store.read_at(at, &mut old)?;
        before.push((at, old));
        self.store.write_at(at, bytes)
    }

    /// Restores the old content of written places, the last one first.
    fn put_back(&self, before: Before) -> Result<()> {
        for (at, old) in before.into_iter().rev() {
            self.store.write_at(at, &old)?;
        }
        self.store.flush()
    }

    /// Runs `work`, and restores all written places, whatever its result.
    fn with_it_put_back<T>(&self, work: impl FnOnce(&mut Before) -> Result<T>) -> Result<T> {
        let mut before = Before::new();
        let done = work(&mut before);
        self.put_back(before)?;
        done
    }
}
