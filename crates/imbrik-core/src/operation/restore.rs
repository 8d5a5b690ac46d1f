//! The plan for one card: as the source was, or with volumes of other sizes, an identity of its own.

use super::{
    comeback::{is_half_written, wait_for},
    source::Source,
    write::{self, WriteFailure, WriteOptions, WrittenToCard},
};
use crate::{
    card::{Card, Host},
    layout::{
        Fit, Identity, Occupancy, Plan, Reference, Room, Survey, TargetSize, View, WORTH_GROWING,
        references, room,
    },
    transfer::Planned,
};
use imbrik_fs::{ReshapeOptions, reshaped_kinds};
use imbrik_store::{
    ReadAt, Tally, Window,
    error::{Class, Error, Result},
    progress::{Cancel, Watch},
    units::Span,
};
use std::{fmt, sync::Arc, time::Duration};

/// A card that is to be written, and what is on it now.
pub struct CardTarget {
    /// The card as it was listed.
    pub card: Card,
    /// What is on it now.
    pub survey: Survey,
    /// The partition that is written instead of the whole card.
    pub into: Option<Span>,
}

impl CardTarget {
    /// Looks at `card`, all of which is to be written.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn look(host: &dyn Host, card: Card) -> Result<Self> {
        let survey = Survey::of(&*host.open_source(&card)?)?;
        Ok(Self { card, survey, into: None })
    }

    /// What of the card is written.
    #[must_use]
    pub fn place(&self) -> Span {
        self.into.unwrap_or(Span::whole(self.card.size))
    }
}

/// Which volumes get other sizes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sizes {
    /// None.
    pub keep: bool,
    /// One takes what the card has left, also where the source doesn't say so of itself.
    pub fill: bool,
    /// Which give room when it lacks, by their places in [`Survey::parts`]; the last that can, where
    /// none is named.
    pub take_from: Vec<usize>,
    /// Which takes room when it is left; the last that can, where none is named.
    pub give_to: Option<usize>,
}

/// What a card is to become.
#[derive(Clone)]
pub struct RestoreOptions<'a> {
    /// Which volumes get other sizes.
    pub sizes: Sizes,
    /// What a copy gets of its own.
    pub identity: Identity,
    /// Whether the unused is cleared, too.
    pub wipe: bool,
    /// What a reshape has to work with.
    pub reshape: ReshapeOptions<'a>,
}

impl<'a> RestoreOptions<'a> {
    /// The usual: the source as it is, or fitted where the card is smaller, and grown where the source
    /// filled its own; all in memory.
    #[must_use]
    pub fn new(cancel: &'a Cancel) -> Self {
        Self {
            sizes: Sizes::default(),
            identity: Identity::default(),
            wipe: false,
            reshape: ReshapeOptions::in_memory(cancel),
        }
    }
}

/// Why there is no plan.
#[derive(Debug)]
#[non_exhaustive]
pub enum PlanRefusal {
    /// It is to be filled, and every byte of it is to stay as it is.
    Exact,
    /// It is to be filled, and no volume of it can grow.
    NoneCanGrow,
    /// The identity cannot be given.
    Identity(Error),
    /// Anything else, by its class: it doesn't fit, is cut short, cannot be read.
    Failed(Error),
}

impl From<Error> for PlanRefusal {
    fn from(error: Error) -> Self {
        Self::Failed(error)
    }
}

impl fmt::Display for PlanRefusal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Exact => f.write_str("an exact image stays as it is, to the byte"),
            Self::NoneCanGrow => {
                write!(f, "no volume can grow: none is one of {}", reshaped_kinds())
            }
            Self::Identity(error) | Self::Failed(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for PlanRefusal {}

/// What whoever asked for sizes should know.
#[derive(Debug)]
#[non_exhaustive]
pub enum SizeNote {
    /// The card is as large as the source: there is nothing to fill.
    NothingToFill,
    /// The last volume would have filled the card, and cannot.
    LastKeepsItsSize(Error),
}

/// What a card will hold, decided and proved, and not yet written.
pub struct RestorePlan {
    /// The finished card, or partition, and what differs from the source.
    pub plan: Plan,
    /// What is on it afterwards.
    pub after: Survey,
    /// What its files refer to, when they, or what is around them, were changed.
    pub references: Option<Vec<Reference>>,
    /// How much room its systems have afterwards.
    pub room: Vec<Room>,
    /// What should be known of the sizes.
    pub notes: Vec<SizeNote>,
}

impl RestorePlan {
    /// Plans `source` onto `target`.
    ///
    /// # Errors
    /// When it cannot be, or may not; nothing was written.
    pub fn new(
        source: &Source,
        target: &CardTarget,
        options: &RestoreOptions<'_>,
    ) -> std::result::Result<Self, PlanRefusal> {
        let mut notes = Vec::new();
        let mut plan = Sizing { source, target, options }.plan(&mut notes)?;
        if !options.identity.is_empty() {
            let means = ReshapeOptions { as_found: false, ..options.reshape };
            let edited = plan.with_identity(&options.identity, means);
            plan = edited.map_err(PlanRefusal::Identity)?;
        }
        if options.wipe {
            plan.view = plan.view.wiped();
        }
        let after = Survey::of(&plan.view)?;
        let references = match options.identity.is_empty() {
            true => None,
            false => Some(references(&plan.view, &after)?),
        };
        let room = room(&plan.view, &after)?;
        Ok(Self { plan, after, references, room, notes })
    }

    /// Asks what the files on the whole of `card` refer to, once its partition at `into` is written.
    ///
    /// # Errors
    /// When the card cannot be read.
    pub fn refer_around(&mut self, card: Arc<dyn ReadAt>, into: Span) -> Result<()> {
        let part: Arc<dyn ReadAt> = Arc::new(self.plan.view.clone());
        let whole = View::whole(card).with_store(&[into], &part, into.start());
        self.references = Some(references(&whole, &Survey::of(&whole)?)?);
        Ok(())
    }

    /// Claims the card, writes it, and proves it.
    ///
    /// # Errors
    /// With what state the card is in.
    pub fn write(
        &self,
        host: &dyn Host,
        target: &CardTarget,
        source: &Source,
        options: WriteOptions,
        watch: Watch<'_>,
    ) -> std::result::Result<WrittenToCard, WriteFailure> {
        // The card of the plan, not whatever is there by now: that is what the claim compares.
        let planned = Planned::new(target.card.clone(), &target.survey);
        let tally = Tally::default();
        let work =
            write::CardWriting { view: &self.plan.view, place: target.place(), options, tally };
        work.run(host, &planned, source.origin(options.damage), watch)
    }

    /// Waits until the card of `target`, which went away while it was written, is there again, under
    /// whatever path; `None` when it is not within `how_long`. It is that card when it tells of itself
    /// what it told before the first byte was written, or when it is half written with this very plan:
    /// without a start, and with the first tile behind that has anything in it. Writing goes on with
    /// [`WriteOptions::differing`].
    ///
    /// # Errors
    /// When the waiting is stopped.
    pub fn wait_for_target(
        &self,
        host: &dyn Host,
        target: &CardTarget,
        how_long: Duration,
        watch: Watch<'_>,
    ) -> Result<Option<CardTarget>> {
        // Cards on which nothing is known all tell the same.
        let is_known = !target.survey.parts.is_empty();
        let before = is_known.then(|| target.survey.fingerprint());
        let card = wait_for(host, &target.card, how_long, watch, |card| {
            let store = host.open_source(card)?;
            if before.as_ref() == Some(&Survey::of(&*store)?.fingerprint()) {
                return Ok(true);
            }
            is_half_written(&self.plan.view, &Window::new(store, target.place())?)
        })?;
        let Some(card) = card else { return Ok(None) };
        Ok(Some(CardTarget { into: target.into, ..CardTarget::look(host, card)? }))
    }
}

struct Sizing<'a> {
    source: &'a Source,
    target: &'a CardTarget,
    options: &'a RestoreOptions<'a>,
}

impl Sizing<'_> {
    fn plan(&self, notes: &mut Vec<SizeNote>) -> std::result::Result<Plan, PlanRefusal> {
        let Source { content, survey, .. } = self.source;
        let occupancy = self.source.occupancy.as_ref();
        let sizes = &self.options.sizes;
        let size = self.target.place().len();
        let target = TargetSize { size, sector: self.target.card.sector };
        let plain = Plan::restore(Arc::clone(content), survey, occupancy, target);
        let plain = match (plain, occupancy.filter(|_| self.may_resize())) {
            // A smaller card is used when the data fit.
            (Err(error), Some(occupancy)) if error.class() == Class::NoRoom => {
                let take_from = sizes.take_from.clone();
                let smaller = Fit::Card { size, take_from, give_to: None };
                return self.fit(occupancy, &smaller).map_err(|why| {
                    PlanRefusal::Failed(match why.class() {
                        Class::NoRoom | Class::Cancelled => why,
                        _ => {
                            let both = Error::no_room(format!("{error}; {why}"));
                            match error.lacks() {
                                Some(lacks) => both.lacking(lacks),
                                None => both,
                            }
                        }
                    })
                });
            }
            (plain, _) => plain?,
        };
        let asked = sizes.fill || sizes.give_to.is_some();
        let fills = asked || (self.may_resize() && self.source.fills);
        let Some(occupancy) = occupancy.filter(|_| fills) else {
            return if asked { Err(PlanRefusal::Exact) } else { Ok(plain) };
        };
        let Some(index) = sizes.give_to.or_else(|| survey.last_reshapable()) else {
            return if asked { Err(PlanRefusal::NoneCanGrow) } else { Ok(plain) };
        };
        if size.saturating_sub(survey.needed()) < WORTH_GROWING {
            notes.extend(asked.then_some(SizeNote::NothingToFill));
            return Ok(plain);
        }
        let larger = Fit::Card { size, take_from: Vec::new(), give_to: Some(index) };
        match self.fit(occupancy, &larger) {
            Ok(plan) => Ok(plan),
            Err(error) if asked || error.class() == Class::Cancelled => {
                let words = format!("the volume cannot grow: {error}");
                Err(PlanRefusal::Failed(Error::new(error.class(), words)))
            }
            Err(error) => {
                notes.push(SizeNote::LastKeepsItsSize(error));
                Ok(plain)
            }
        }
    }

    fn fit(&self, occupancy: &Occupancy, fit: &Fit) -> Result<Plan> {
        let content = Arc::clone(&self.source.content);
        Plan::fit(content, &self.source.survey, occupancy, fit, self.options.reshape)
    }

    /// Whether a volume may get another size without having been asked for.
    fn may_resize(&self) -> bool {
        self.source.may_resize && !self.options.sizes.keep && self.target.into.is_none()
    }
}
