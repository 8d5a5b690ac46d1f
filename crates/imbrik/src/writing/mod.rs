//! Writing cards: common to `restore` and `clone`.
//!
//! A [`Source`] is an image or a card with its survey; each card to write is a [`PlannedCard`] with its plan. All plans
//! are shown, one question is asked, then one [`job`] per card runs in parallel. A failing card does not affect the
//! others.

mod chosen;
mod job;
mod plan;
mod request;
mod summary;

use crate::{
    args::{IdentityArgs, WriteArgs},
    confirm::Policy,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    pipe,
    render::{json, listed, progress::Board, quoted, size, survey},
    resolve,
    running_card::Freezes,
    session::Session,
};
pub(crate) use chosen::{Chosen, may_be_written};
use imbrik_core::{
    card::{Card, Standing, standing},
    image::{Image, ListedPart},
    layout::{Change, Identity, Survey, View},
    operation::{self, CardTarget, RestorePlan, WrittenToCard, damage_in},
    progress::Watch,
    store::{Cached, Keep, ReadAt, Tally, Window},
    transfer::FirstTile,
    units::{ByteLen, Span},
};
use job::Job;
pub(crate) use job::MOST_TIMES;
use request::Request;
use std::{
    cell::RefCell,
    path::{Path, PathBuf},
    sync::Arc,
    thread,
    time::Instant,
};

const UNTOUCHED: &str = "Nothing was written to the card.";
/// The size of the cache for cards that are written in parallel.
const KEPT: ByteLen = ByteLen::mib(48);

/// The kind of source.
#[derive(Clone, Copy)]
pub(crate) enum SourceKind<'a> {
    Image(&'a Image),
    Card(&'a Card),
    /// A card that was read earlier, from a temporary image; and its name.
    Kept(&'a Image, &'a str),
}

impl<'a> SourceKind<'a> {
    /// The image that it is read from, when it is one.
    fn image(self) -> Option<&'a Image> {
        match self {
            Self::Image(image) | Self::Kept(image, _) => Some(image),
            Self::Card(_) => None,
        }
    }
}

/// The source of the content for the cards.
pub(crate) struct Source<'a> {
    pub(crate) from: SourceKind<'a>,
    /// Its survey and used space.
    pub(crate) known: operation::Source,
    /// The number of bytes read from a card.
    pub(crate) tally: Option<Tally>,
    /// The freezes of a card in use.
    pub(crate) frozen: Option<Freezes>,
}

impl<'a> Source<'a> {
    /// A card with its `survey`, read through `content`.
    ///
    /// # Errors
    /// When it cannot be read.
    pub(crate) fn of_card(
        card: &'a Card,
        content: Arc<dyn ReadAt>,
        survey: Survey,
        tally: Option<Tally>,
    ) -> Outcome<Self> {
        let known = operation::Source::of_card(content, survey).state(UNTOUCHED)?;
        Ok(Self { from: SourceKind::Card(card), known, tally, frozen: None })
    }
}

impl Source<'_> {
    /// Its name on the command line.
    fn title(&self) -> String {
        match self.from {
            SourceKind::Image(image) => pipe::title(image.path()),
            SourceKind::Card(card) => card.path.display().to_string(),
            SourceKind::Kept(_, whose) => format!("the card of {whose}"),
        }
    }

    fn path(&self) -> PathBuf {
        match self.from {
            SourceKind::Image(image) => image.path().to_owned(),
            SourceKind::Card(card) => card.path.clone(),
            SourceKind::Kept(image, _) => image.path().to_owned(),
        }
    }

    /// The same for programs: an image by its whole path.
    fn json_path(&self) -> String {
        match self.from {
            SourceKind::Card(card) => card.path.to_string_lossy().into_owned(),
            SourceKind::Image(image) | SourceKind::Kept(image, _) => json::path(image.path()),
        }
    }

    /// Whose system it is: "hive-07", or "the content of x.img".
    pub(crate) fn whose(&self) -> String {
        match self.known.survey.name() {
            Some(name) => name.to_owned(),
            None => format!("the content of {}", self.title()),
        }
    }
}

/// A partition that is written instead of the whole card.
struct IntoPart {
    number: Option<u32>,
    span: Span,
    title: String,
    /// Its present content.
    now: Survey,
}

/// A store that several readers share at their own pace: data read by one are available to the others.
pub(crate) fn shared(content: &Arc<dyn ReadAt>) -> Arc<dyn ReadAt> {
    Arc::new(Cached::new(Arc::clone(content), KEPT, Keep::Last))
}

/// A planned card.
pub(crate) struct PlannedCard {
    /// The card, and its present content.
    target: CardTarget,
    into: Option<IntoPart>,
    plan: RestorePlan,
    /// The new host name.
    host: Option<String>,
    /// The partition in an image of a single partition.
    only: Option<ListedPart>,
}

impl PlannedCard {
    /// The card's name on the command line.
    pub(crate) fn name(&self) -> String {
        self.target.card.path.display().to_string()
    }

    /// The future content.
    pub(crate) fn view(&self) -> &View {
        &self.plan.plan.view
    }

    /// The differences from the source.
    pub(crate) fn changes(&self) -> &[Change] {
        &self.plan.plan.changes
    }

    /// The present content of the target.
    fn now(&self) -> &Survey {
        self.into.as_ref().map_or(&self.target.survey, |into| &into.now)
    }

    /// Returns whether the image of one partition would take the whole card.
    fn is_alone(&self) -> bool {
        self.into.is_none() && self.only.is_some()
    }

    /// The target: the card, or a partition of it.
    fn goal(&self) -> String {
        self.goal_at(&self.target.card.path)
    }

    /// The same for a card that is now called `path`.
    fn goal_at(&self, path: &Path) -> String {
        let card = path.display();
        match &self.into {
            None => card.to_string(),
            Some(into) => format!("{} of {card}", into.title),
        }
    }

    /// Seconds to write and to read back.
    fn likely_seconds(&self, args: &WriteArgs) -> (f64, f64) {
        let bytes = self.plan.plan.view.written().get() as f64;
        let write = bytes / self.target.card.likely_write_rate() as f64;
        let read = bytes / self.target.card.likely_read_rate() as f64;
        (write, if args.no_check { 0.0 } else { read })
    }
}

/// Some cards to be written.
pub(crate) struct Writing<'a> {
    pub(crate) session: &'a Session,
    /// The command's name.
    pub(crate) command: &'static str,
    pub(crate) args: &'a WriteArgs,
    /// How many copies were made before, one after the other; `None` when all are made at once.
    pub(crate) made: Option<usize>,
    /// True if the user may be asked whether a copy is for another board.
    asks: bool,
    /// How the cards ended that were left out, since they cannot be written.
    skipped: RefCell<Vec<Exit>>,
}

impl<'a> Writing<'a> {
    pub(crate) fn new(session: &'a Session, command: &'static str, args: &'a WriteArgs) -> Self {
        Self { session, command, args, made: None, asks: true, skipped: RefCell::default() }
    }

    /// The same without asking if a copy is for another board.
    pub(crate) fn unasked(self) -> Self {
        Self { asks: false, ..self }
    }

    /// The same for one copy more, of which `made` were made before.
    pub(crate) fn after(&self, made: usize) -> Self {
        Self { made: Some(made), ..Self::new(self.session, self.command, self.args) }
    }
}

impl Writing<'_> {
    /// Plans, shows, asks, writes and proves.
    ///
    /// # Errors
    /// An error that concerns all cards, or that of the only card.
    pub(crate) fn go(
        &self,
        mut source: Source<'_>,
        cards: Vec<Chosen>,
        into: Option<&str>,
    ) -> Outcome<Exit> {
        if cards.len() > 1 {
            if into.is_some() {
                return Err(Failure::usage("a single partition is written to one card at a time")
                    .state(UNTOUCHED));
            }
            source.known.content = shared(&source.known.content);
        }
        match self.prepare(&source, cards, into)? {
            Some(targets) => {
                let exit = self.write(&source, &targets, None)?;
                self.with_skipped(exit)
            }
            None => self.with_skipped(Exit::Done),
        }
    }

    /// Plans, shows and asks; returns nothing if only the plan was requested.
    ///
    /// # Errors
    /// Before anything is written.
    pub(crate) fn prepare(
        &self,
        source: &Source<'_>,
        cards: Vec<Chosen>,
        into: Option<&str>,
    ) -> Outcome<Option<Vec<PlannedCard>>> {
        let asked = self.ask_for_identity(source, cards.len())?;
        let identity = asked.as_ref().unwrap_or(&self.args.identity);
        let mut targets: Vec<PlannedCard> = Vec::new();
        // A name that was just typed is for this card.
        let before = self.made.filter(|_| asked.is_none());
        let named = cards.iter().map(|chosen| chosen.number).max().unwrap_or(0);
        let named = named.max(cards.len() + self.skipped.borrow().len());
        let count = if before.is_some() { None } else { Some(named) };
        for Chosen { card, number } in cards {
            let path = card.path.clone();
            let number = before.unwrap_or(0) + number;
            let identity = identity.of(number, count, &source.known.survey, &source.path())?;
            let target = self.target(source, card, into, &identity, asked.is_some());
            let name = path.display().to_string();
            match target.map_err(|failure| of_card(failure, &name, named)) {
                Ok(target) => targets.push(target),
                Err(failure) => self.skip(&path, named, failure)?,
            }
        }
        self.must_be_any(targets.is_empty())?;
        self.show(source, &targets);
        if self.args.plan {
            self.session.out.only_planned();
            return Ok(None);
        }
        self.confirm_and_unmount(&targets)?;
        Ok(Some(targets))
    }

    /// Plans `source` for the card of `target`, which was partly written.
    ///
    /// # Errors
    /// As for [`Writing::prepare`].
    pub(crate) fn again(&self, source: &Source<'_>, target: &PlannedCard) -> Outcome<PlannedCard> {
        let card = resolve::card(&self.session.fleet, &target.target.card.path)?;
        let count = Some(1);
        let identity = self.args.identity.of(1, count, &source.known.survey, &source.path())?;
        self.target(source, card, None, &identity, false)
    }

    /// The card of `target`, to be read.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub(crate) fn store(&self, target: &PlannedCard) -> imbrik_core::Result<Arc<dyn ReadAt>> {
        let card = &target.target.card;
        self.session.fleet.host_of(card).open_source(card)
    }

    /// Writes `target` except for its first tile, and returns that: the content of the card is not final, so it gets no
    /// partition table.
    ///
    /// # Errors
    /// With the state of the card.
    pub(crate) fn copy(
        &self,
        source: &Source<'_>,
        target: &PlannedCard,
    ) -> Outcome<Option<Vec<u8>>> {
        let host = self.session.fleet.host_of(&target.target.card);
        let progress = self.session.progress(if self.args.no_check { 1 } else { 2 });
        let cancel = &self.session.environment.interrupt.cancel;
        let first_tile = FirstTile::Withheld;
        let job = Job { host, card: target, source, args: self.args, first_tile };
        Ok(job.run(Watch { observer: &progress, cancel })?.first_tile)
    }

    /// Plans only to find reasons for a refusal.
    ///
    /// # Errors
    /// As for [`Writing::prepare`].
    pub(crate) fn try_plan(&self, source: &Source<'_>, cards: &[Chosen]) -> Outcome<()> {
        let identity = &self.args.identity;
        for Chosen { card, number } in cards {
            let identity =
                identity.of(*number, Some(cards.len()), &source.known.survey, &source.path())?;
            let name = card.path.display().to_string();
            let target = self.target(source, card.clone(), None, &identity, false);
            target.map_err(|failure| of_card(failure, &name, cards.len()))?;
        }
        Ok(())
    }

    /// On a terminal, a clone is asked whether it is for another board.
    fn ask_for_identity(&self, source: &Source<'_>, count: usize) -> Outcome<Option<IdentityArgs>> {
        let is_told =
            !self.asks || self.args.yes || self.args.plan || !self.args.identity.is_empty();
        if is_told
            || matches!(source.from, SourceKind::Image(_))
            || source.known.survey.host.is_none()
        {
            return Ok(None);
        }
        let example = if count > 1 { "such as hive-{n}" } else { "such as hive-11" };
        let question = format!(
            "A copy for the same board keeps ids, keys and host name. Press Enter for that, or type \
             the host name of another board, {example}: "
        );
        let answer = self.session.ask(&question, UNTOUCHED);
        let name = answer.trim();
        Ok((!name.is_empty()).then(|| IdentityArgs {
            as_new: name.split(',').map(|name| name.trim().to_owned()).collect(),
            ..IdentityArgs::default()
        }))
    }

    fn target(
        &self,
        source: &Source<'_>,
        card: Card,
        into: Option<&str>,
        identity: &Identity,
        is_typed: bool,
    ) -> Outcome<PlannedCard> {
        if let Some(image) = source.from.image().filter(|image| !pipe::is_pipe(image.path()))
            && self.session.fleet.lies_on(image.path(), &card)
        {
            let what = format!("{} lies on the card itself", quoted(image.path()));
            return Err(Failure::refused(what)
                .state(UNTOUCHED)
                .next("Copy the image to another disk first, or name another card."));
        }
        let on_card = self.session.fleet.look(&card).state(UNTOUCHED)?;
        let into = match into {
            None => None,
            Some(name) => Some(self.into(&card, &on_card, name, &source.known.survey)?),
        };
        let place = into.as_ref().map(|into| into.span);
        let target = CardTarget { card, survey: on_card, into: place };
        let host = identity.host.clone();
        let identity = identity.clone();
        let request = Request { args: self.args, source, target: &target, identity, is_typed };
        let mut plan = request.plan(self.session)?;
        if let Some(place) = place {
            let now = self.session.fleet.source(&target.card, &Tally::default(), false);
            now.and_then(|now| plan.refer_around(now, place)).state(UNTOUCHED)?;
        }
        let only = source.known.only.clone();
        Ok(PlannedCard { target, into, plan, host, only })
    }

    /// The partition `name` of `card`, into which a volume may be put.
    fn into(
        &self,
        card: &Card,
        on_card: &Survey,
        name: &str,
        source: &Survey,
    ) -> Outcome<IntoPart> {
        let part = resolve::part(on_card, name, &card.path).state(UNTOUCHED)?;
        if source.table.is_some() {
            return Err(Failure::refused(
                "the image is of a whole card and has its own partition table",
            )
            .state(UNTOUCHED)
            .next(
                "Name one of its partitions with --only, or leave --into out for the whole card.",
            ));
        }
        if let Some(why) = on_card.whole_because {
            return Err(Failure::refused(format!(
                "no partition of this card can be written: {why}"
            ))
            .state(UNTOUCHED)
            .next("Restore a whole card instead."));
        }
        let store = self.session.fleet.source(card, &Tally::default(), false).state(UNTOUCHED)?;
        let now = Survey::of(&Window::new(store, part.span)?).state(UNTOUCHED)?;
        Ok(IntoPart { number: part.number, span: part.span, title: part.full_title(), now })
    }

    /// Asks before the cards are overwritten, and unmounts them after that.
    fn confirm_and_unmount(&self, targets: &[PlannedCard]) -> Outcome<()> {
        let mut mounted = Vec::new();
        for target in targets {
            if let Standing::Mounted(mounts) = standing(&target.target.card, self.args.allow_fixed)
            {
                mounted.push((&target.target.card, mounts));
            }
        }
        if let Some((card, mounts)) = mounted.first()
            && !self.args.unmount
            && self.session.policy(false) != Policy::Ask
        {
            self.session.make_unmounted(card, mounts, false).state(UNTOUCHED)?;
        }
        let mut names: Vec<String> = targets.iter().map(word).collect();
        names.sort();
        names.dedup();
        let word = listed(&names);
        let question = match targets {
            [target] => format!(
                "Everything on {} will be overwritten{}. Type {}, {word}, to continue: ",
                target.goal(),
                match target.is_alone() {
                    true => ": it becomes one volume without a table",
                    false => "",
                },
                what_it_is(target.now())
            ),
            _ => format!(
                "Everything on these {} cards will be overwritten. Type their present names, {word}, \
                 to continue: ",
                targets.len()
            ),
        };
        self.session.confirm_by_typing(&word, &question, self.args.yes)?;
        for (card, mounts) in &mounted {
            self.session.make_unmounted(card, mounts, self.args.unmount).state(UNTOUCHED)?;
        }
        Ok(())
    }

    /// Writes and verifies the cards, and reports the result of each. With a `board`, their progress is shown next to
    /// that of another operation.
    ///
    /// # Errors
    /// The failure of the only card, or that some of several failed.
    pub(crate) fn write(
        &self,
        source: &Source<'_>,
        targets: &[PlannedCard],
        board: Option<&Board>,
    ) -> Outcome<Exit> {
        let started = Instant::now();
        let cancel = &self.session.environment.interrupt.cancel;
        // A temporary image was just proved.
        let is_checked = self.args.no_check || !source.known.damaged.is_empty();
        let checks_image = matches!(source.from, SourceKind::Image(_)) && !is_checked;
        let steps = match (self.args.no_check, checks_image && targets.len() == 1) {
            (true, _) => 1,
            (false, true) => 3,
            (false, false) => 2,
        };
        let alone = self.session.progress(if targets.len() == 1 { steps } else { 1 });
        if let (SourceKind::Image(image), true) = (source.from, checks_image) {
            check_image(image, Watch { observer: &alone, cancel })?;
        }
        let fleet = &self.session.fleet;
        let jobs: Vec<_> = targets
            .iter()
            .map(|card| Job {
                first_tile: FirstTile::Written,
                host: fleet.host_of(&card.target.card),
                card,
                source,
                args: self.args,
            })
            .collect();
        let interrupt = &self.session.environment.interrupt;
        interrupt.set_state(left_behind(targets));
        let results: Vec<Outcome<WrittenToCard>> = match (&jobs[..], board) {
            ([job], None) => vec![job.run(Watch { observer: &alone, cancel })],
            (jobs, board) => {
                drop(alone);
                let own = Board::new(self.session.environment.color);
                let board = board.unwrap_or(&own);
                let names: Vec<_> = targets
                    .iter()
                    .map(|target| target.target.card.path.display().to_string())
                    .collect();
                let lines: Vec<_> = names.iter().map(|name| board.line(name, &names)).collect();
                thread::scope(|scope| {
                    let running = jobs.iter().zip(&lines).map(|(job, observer)| {
                        scope.spawn(move || job.run(Watch { observer, cancel }))
                    });
                    let running: Vec<_> = running.collect();
                    running
                        .into_iter()
                        .map(|job| match job.join() {
                            Ok(result) => result,
                            Err(panic) => std::panic::resume_unwind(panic),
                        })
                        .collect()
                })
            }
        };
        interrupt.set_state("");
        self.sum_up(source, targets, results, started.elapsed())
    }
}

/// The word to be typed before a card is overwritten: its host name, its label or its size.
fn word(target: &PlannedCard) -> String {
    let now = target.now();
    match (&target.into, now.name()) {
        (None, _) => survey::name(Some(now), &target.target.card),
        (Some(_), Some(name)) => name.to_owned(),
        (Some(into), None) => size::short(into.span.len()),
    }
}

fn what_it_is(now: &Survey) -> &'static str {
    match (&now.host, now.label()) {
        (Some(_), _) => "its host name",
        (None, Some(_)) => "its label",
        (None, None) => "its size",
    }
}

/// A failure of one card before any was written; of one of several, with its name.
fn of_card(failure: Failure, name: &str, all: usize) -> Failure {
    let failure = failure.state(UNTOUCHED);
    match all {
        1 => failure,
        _ => Failure { what: format!("{name}: {}", failure.what), ..failure },
    }
}

fn check_image(image: &Image, watch: Watch<'_>) -> Outcome<()> {
    let damage = damage_in(image, watch).state(UNTOUCHED).next("Run the same command again.")?;
    match damage.first() {
        None => Ok(()),
        Some(first) => Err(Failure::new(
            Exit::Mismatch,
            format!("the image is damaged, first at {first} of the card's content"),
        )
        .state(UNTOUCHED)
        .next("Try another copy of the image; --damaged writes the intact part.")),
    }
}

/// The state of cards whose writing was abandoned.
fn left_behind(targets: &[PlannedCard]) -> String {
    let names: Vec<_> = targets.iter().map(PlannedCard::goal).collect();
    let has = if names.len() == 1 { "it has" } else { "each has" };
    let names = listed(&names);
    match targets.iter().any(|target| target.into.is_some()) {
        true => format!(
            "All data on {names} is lost, unless nothing was written yet: its start stays cleared \
             until everything is written, so that nobody takes it for complete."
        ),
        false => format!(
            "All data on {names} is lost, unless nothing was written yet: {has} no partition table \
             until everything is written, so that nobody takes it for a complete card."
        ),
    }
}
