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
    /// Whether all of the card may be overwritten, and is left without a table.
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
    /// How much of the card the marks cover: a card that wraps or ends elsewhere may go unnoticed.
    pub tested: ByteLen,
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
    let unused = unused.map(|segment| segment.span).filter(|span| is_sound(*span));
    Ok(joined(unused.chain(unallocated(survey)).collect()))
}

/// What no partition has: without what is in front of the first, where boot loaders are, and the last MiB, where
/// copies of tables are. What is written there is put back like everything else.
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
    /// The least part of a card, in percent, that must be tested to say anything about its capacity.
    const LEAST_TESTED: u64 = 90;

    /// Part of the card that was tested, in percent.
    #[must_use]
    pub fn tested_percent(&self) -> u64 {
        let part = self.tested.get().saturating_mul(100);
        part.checked_div(self.claimed.get()).unwrap_or(0)
    }

    /// Whether enough of the card was tested to say that it holds what it claims, or a shortfall was found.
    #[must_use]
    pub fn has_verdict(&self) -> bool {
        self.shortfall.is_some() || self.tested_percent() >= Self::LEAST_TESTED
    }
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

    /// Takes away what tells of tables and volumes at a card's start and end.
    fn clear_ends(&self) -> Result<()> {
        let card = Span::whole(self.plan.card.size);
        let end = self.plan.card.size.saturating_sub(PIECE);
        let tail = Span::between(ByteOffset::new(end.get()), card.end());
        for span in [Span::whole(PIECE.min(card.len())), tail] {
            self.store.zero_at(span)?;
        }
        self.store.flush()
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
}
