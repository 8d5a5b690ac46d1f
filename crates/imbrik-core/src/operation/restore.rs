//! The plan for one card: a copy of the source, or one with resized volumes or another identity.

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
use imbrik_fs::{ResizeOptions, resizable_kinds};
use imbrik_store::{
    ReadAt, Tally, Window,
    error::{Class, Error, Result},
    progress::{Cancel, Watch},
    units::Span,
};
use std::{fmt, sync::Arc, time::Duration};

/// A target card and its present content.
pub struct CardTarget {
    /// The card as listed.
    pub card: Card,
    /// The survey of its present content.
    pub survey: Survey,
    /// The partition that is written instead of the whole card.
    pub into: Option<Span>,
}

impl CardTarget {
    /// Surveys `card`, all of which will be written.
    ///
    /// # Errors
    /// When it can't be read.
    pub fn look(host: &dyn Host, card: Card) -> Result<Self> {
        let survey = Survey::of(&*host.open_source(&card)?)?;
        Ok(Self { card, survey, into: None })
    }

    /// The span of the card that is written.
    #[must_use]
    pub fn place(&self) -> Span {
        self.into.unwrap_or(Span::whole(self.card.size))
    }
}

/// The volumes that are resized.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sizes {
    /// No volume is resized.
    pub keep: bool,
    /// One volume grows to fill the card, even if the source is not known to fill its own.
    pub fill: bool,
    /// The volumes that can shrink if necessary, by their indexes in [`Survey::parts`]; if empty, the last one that
    /// can.
    pub take_from: Vec<usize>,
    /// The volume that grows if there is space; by default the last one that can.
    pub give_to: Option<usize>,
}

/// Options for the content of a card.
#[derive(Clone)]
pub struct RestoreOptions<'a> {
    /// The volumes that are resized.
    pub sizes: Sizes,
    /// The identity of a copy.
    pub identity: Identity,
    /// True if free space is cleared.
    pub wipe: bool,
    /// Resources for resizing.
    pub resize: ResizeOptions<'a>,
}

impl<'a> RestoreOptions<'a> {
    /// The defaults: unchanged, or fitted to a smaller card, and grown if the source filled its own card; all in
    /// memory.
    #[must_use]
    pub fn new(cancel: &'a Cancel) -> Self {
        Self {
            sizes: Sizes::default(),
            identity: Identity::default(),
            wipe: false,
            resize: ResizeOptions::in_memory(cancel),
        }
    }
}

/// Why a plan is not possible.
#[derive(Debug)]
#[non_exhaustive]
pub enum PlanRefusal {
    /// The card is to be filled, but the source must be copied byte by byte.
    Exact,
    /// The card is to be filled, but no volume can grow.
    NoneCanGrow,
    /// The identity can't be set.
    Identity(Error),
    /// Any other error, by its class: the source doesn't fit, is truncated, or can't be read.
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
            Self::Exact => f.write_str("an exact image is kept byte for byte"),
            Self::NoneCanGrow => {
                write!(f, "no volume can grow: none is one of {}", resizable_kinds())
            }
            Self::Identity(error) | Self::Failed(error) => error.fmt(f),
        }
    }
}

impl std::error::Error for PlanRefusal {}

/// Notes on sizes for the user.
#[derive(Debug)]
#[non_exhaustive]
pub enum SizeNote {
    /// The card has the size of the source: there is nothing to fill.
    NothingToFill,
    /// The last volume should have grown, but can't.
    LastKeepsItsSize(Error),
}

/// The planned content of a card, verified and not written yet.
pub struct RestorePlan {
    /// The finished card or partition, and its differences from the source.
    pub plan: Plan,
    /// The survey of the finished card.
    pub after: Survey,
    /// The references of its boot files, if these or their targets were changed.
    pub references: Option<Vec<Reference>>,
    /// The free space of its systems.
    pub room: Vec<Room>,
    /// Notes on sizes.
    pub notes: Vec<SizeNote>,
}

impl RestorePlan {
    /// Plans to write `source` to `target`.
    ///
    /// # Errors
    /// When the plan is not possible or not allowed; nothing was written.
    pub fn new(
        source: &Source,
        target: &CardTarget,
        options: &RestoreOptions<'_>,
    ) -> std::result::Result<Self, PlanRefusal> {
        let mut notes = Vec::new();
        let mut plan = Sizing { source, target, options }.plan(&mut notes)?;
        if !options.identity.is_empty() {
            let means = ResizeOptions { as_found: false, ..options.resize };
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

    /// Checks the boot references of the whole `card` after its partition at `into` is written.
    ///
    /// # Errors
    /// When the card can't be read.
    pub fn refer_around(&mut self, card: Arc<dyn ReadAt>, into: Span) -> Result<()> {
        let part: Arc<dyn ReadAt> = Arc::new(self.plan.view.clone());
        let whole = View::whole(card).with_store(&[into], &part, into.start());
        self.references = Some(references(&whole, &Survey::of(&whole)?)?);
        Ok(())
    }

    /// Claims the card, writes it, and reads it back.
    ///
    /// # Errors
    /// With the state of the card.
    pub fn write(
        &self,
        host: &dyn Host,
        target: &CardTarget,
        source: &Source,
        options: WriteOptions,
        watch: Watch<'_>,
    ) -> std::result::Result<WrittenToCard, WriteFailure> {
        // The card of the plan, to be compared with the present one by the claim.
        let planned = Planned::new(target.card.clone(), &target.survey);
        let tally = Tally::default();
        let work =
            write::CardWriting { view: &self.plan.view, place: target.place(), options, tally };
        work.run(host, &planned, source.origin(options.damage), watch)
    }

    /// Waits until the card of `target`, which disappeared while it was written, is connected again, under any path;
    /// `None` if that takes longer than `how_long`. A card is the same if its metadata are those from before the first
    /// write, or if it was partly written by this plan: with an empty first tile, and with the next tile that isn't
    /// empty. Writing continues with [`WriteOptions::differing`].
    ///
    /// # Errors
    /// When waiting is cancelled.
    pub fn wait_for_target(
        &self,
        host: &dyn Host,
        target: &CardTarget,
        how_long: Duration,
        watch: Watch<'_>,
    ) -> Result<Option<CardTarget>> {
        // All unrecognised cards have the same metadata.
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
            // A smaller card is accepted if the data fit.
            (Err(error), Some(occupancy)) if error.class() == Class::NoRoom => {
                let take_from = sizes.take_from.clone();
                let smaller = Fit::Card { size, take_from, give_to: None };
                return self.fit(occupancy, &smaller).map_err(|why| {
                    PlanRefusal::Failed(match why.class() {
                        Class::NoRoom | Class::Cancelled => why,
                        _ => {
                            let both = Error::no_room(format!("{error}; {why}"));
                            match error.shortfall() {
                                Some(shortfall) => both.with_shortfall(shortfall),
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
        let Some(index) = sizes.give_to.or_else(|| survey.last_resizable()) else {
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
        Plan::fit(content, &self.source.survey, occupancy, fit, self.options.resize)
    }

    /// Returns whether a volume may be resized without a request.
    fn may_resize(&self) -> bool {
        self.source.may_resize && !self.options.sizes.keep && self.target.into.is_none()
    }
}
