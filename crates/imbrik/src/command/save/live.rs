//! `imbrik save --live`: a card that is in use.

use super::{
    Done, SaveSource, UNTOUCHED, UNWRITTEN, announce, content,
    earlier::{Earlier, OnShelf},
    manifest, off_the_card, plan, proposed_stem,
};
use crate::{
    args::SaveArgs,
    exit::Exit,
    failure::{self, Explain, Failure, Outcome},
    log,
    packing::{self, Destination},
    pipe,
    render::{json, listed, quoted, size, time},
    resolve,
    session::Session,
    standstill,
};
use imbrik_core::{
    Class, Error,
    card::{Card, Freezer, Host as _, MountedVolume},
    image::{Image, Output, Pack},
    operation::{ImageContent, ImagePlan},
    progress::Watch,
    store::{Counted, ReadAt, Recorded, Tally},
    transfer::{
        Moment, OnDamage, OnUnfinished, Reuse, RunningCard, SaveOptions, Saved, lies_on_any, save,
        save_again,
    },
    units::{ByteLen, Span, common, joined},
};
use jiff::Timestamp;
use std::{
    fs,
    path::{Path, PathBuf},
    sync::Arc,
    time::{Duration, Instant},
};

/// How long filesystems stand still at most, unless something else is asked for.
const LIMIT: Duration = Duration::from_secs(5);
/// For so long they may at most be read meanwhile, as far as that can be judged.
const AIM: Duration = Duration::from_millis(700);
/// A card reads at least so many bytes a second, however fast what was read could be packed.
const LEAST_RATE: f64 = 20e6;
/// How often what changed is copied again until so little is left that the card can stand still for it.
const MOST_PASSES: usize = 8;
/// What to do about a card that cannot be saved while it is in use.
const WAY_OUT: &str = "Shut the machine down, and save its card on another one.";
const GOES_ON: &str = "The card goes on as before; no image was made.";

/// What becomes of a card that is in use.
pub(super) struct Stood {
    /// How long it stood still each time.
    pub(super) times: Vec<Duration>,
    /// When the image was.
    pub(super) at: Timestamp,
    /// What was read while it stood still, besides what describes the files.
    pub(super) changed: ByteLen,
    /// Which filesystems cannot be stopped, and which can.
    unstoppable: Vec<String>,
    stopped: Vec<String>,
}

impl Stood {
    /// Tells of it, for people.
    pub(super) fn lines(&self) -> Vec<String> {
        let times: Vec<_> =
            self.times.iter().map(|time| format!("{:.2} s", time.as_secs_f64())).collect();
        let read = match self.changed.is_zero() {
            true => "nothing had changed in between".to_owned(),
            false => format!("read {} that had changed", size::short(self.changed)),
        };
        let mut lines = vec![format!("Moment    {}", time::to_the_second(self.at))];
        if !self.stopped.is_empty() {
            let stopped = listed(&self.stopped);
            lines.push(format!("Stood     still for {}: {stopped}; {read}", times.join(" and ")));
        }
        for name in &self.unstoppable {
            lines.push(format!(
                "Steady    {name} cannot be stopped: it was read until it stayed the same"
            ));
        }
        lines
    }

    /// How long at most, behind a comma.
    pub(super) fn in_brief(&self) -> String {
        let longest = self.times.iter().max().copied().unwrap_or_default();
        format!(", stood still for {:.1} s at most", longest.as_secs_f64())
    }

    /// The same for programs.
    pub(super) fn json(&self) -> json::Stood {
        json::Stood {
            at: self.at.to_string(),
            seconds: self.times.iter().map(Duration::as_secs_f64).collect(),
            read_bytes: self.changed.get(),
            stopped: self.stopped.clone(),
            unstoppable: self.unstoppable.clone(),
        }
    }
}

pub(super) fn run(session: &Session, args: &SaveArgs) -> Outcome<Exit> {
    let started = Instant::now();
    let Some(name) = &args.card else {
        return Err(Failure::usage("which card? --live saves one that is in use")
            .state(UNTOUCHED)
            .next("For this machine's own: imbrik save --live / FOLDER"));
    };
    let card = card_in_use(session, name)?;
    if args.image.as_deref().is_some_and(pipe::is_pipe) {
        return Err(Failure::usage("a card that is in use is not saved through a pipe")
            .state(UNTOUCHED)
            .next("Name a file or a folder on another disk."));
    }
    let options = SaveOptions {
        damage: OnDamage::Stop,
        unfinished: OnUnfinished::Remove,
        ..packing::options(session, &args.packing, args.image.as_deref())?
    };
    let tally = Tally::default();
    let source = session.fleet.host_of(&card).open_source(&card).state(UNTOUCHED)?;
    let source: Arc<dyn ReadAt> = Arc::new(Counted::new(source, &tally));
    let volumes = session.fleet.machine.mounted_volumes(&card);
    let volumes = volumes.state(UNTOUCHED).next(WAY_OUT)?;
    if volumes.is_empty() {
        return Err(Failure::usage(format!("nothing of {} is mounted", card.path.display()))
            .state(UNTOUCHED)
            .next("Leave --live out: it can be saved as it is."));
    }
    let folder = packing::folder_for(session, args.image.as_deref())?;
    off_the_card(session, &folder, &card)?;
    if lies_on_any(&folder, &volumes) {
        return Err(Failure::refused(format!("{} lies on the card itself", quoted(&folder)))
            .state(UNTOUCHED)
            .next("Name a folder on another disk."));
    }
    let limit = args.freeze_limit.map_or(LIMIT, |limit| limit.0);
    let freezer = standstill::start(&volumes, limit).state(UNTOUCHED)?;
    let card_in_use = RunningCard { card: source, volumes, folder };
    let mut live = Live { session, args, card: &card, running: card_in_use, freezer, limit, tally };
    live.save(options, started)
}

/// The card that `name` names: itself, or the one that the folder `name` lies on.
fn card_in_use(session: &Session, name: &Path) -> Outcome<Card> {
    if !name.is_dir() {
        return resolve::card(&session.fleet, name);
    }
    let machine = &session.fleet.machine;
    let path = fs::canonicalize(name).unwrap_or_else(|_| name.to_owned());
    let on = machine.card_under(&path);
    let cards = machine.list().state(UNTOUCHED)?.cards;
    cards.into_iter().find(|card| Some(&card.path) == on.as_ref()).ok_or_else(|| {
        Failure::usage(format!("{} lies on no card, or behind another layer", quoted(name)))
            .state(UNTOUCHED)
            .next("`imbrik cards` tells what there is.")
    })
}

/// A card that is in use, on its way into an image.
struct Live<'a> {
    session: &'a Session,
    args: &'a SaveArgs,
    card: &'a Card,
    running: RunningCard,
    freezer: Freezer,
    limit: Duration,
    tally: Tally,
}

/// A copy of a card that was made while it ran; it has no name any more, and goes away with this.
struct Copy {
    image: Arc<Image>,
    /// What of it is as sound as in an image before it.
    trusted: Vec<Span>,
}

impl Live<'_> {
    fn save(&mut self, mut options: SaveOptions, started: Instant) -> Outcome<Exit> {
        let session = self.session;
        let mut before = self.moment(None, ByteLen::ZERO)?;
        let mut times = vec![before.stood_still];
        self.may_stand_still_for_all(&before)?;
        let mut wanted = wanted(&before);
        let (name, stem) = (self.args.image.as_deref(), proposed_stem(&wanted, self.card));
        let to = &Destination::file(session, name, &stem, &self.args.packing, options.pack)?;
        // Nobody else changes a shelf meanwhile.
        let shelf = OnShelf::of(to)?;
        let name = self.args.reuse.clone().or_else(|| shelf.as_ref()?.before(&wanted));
        let earlier = name.map(|name| Earlier::of(session, self.args, &name, &wanted));
        let earlier = earlier.transpose()?;
        let is_kept = earlier.is_some() || shelf.is_some();
        options.in_pieces = is_kept;
        if is_kept && self.args.packing.sum.is_empty() && session.config.sums.is_none() {
            options.sums.clear();
        }
        if let Some(earlier) = &earlier {
            wanted.source = Arc::clone(&earlier.reuse.source);
        }
        let first = all_in_use(session, &wanted)?;
        match &earlier {
            None => to.judge_room(session, &first.plan.view, &options)?,
            Some(earlier) => earlier.tell_of_room(session, to, &first.plan.view)?,
        }
        if self.args.plan {
            let content = content(session, self.args, &wanted)?;
            return plan(session, self.card, &wanted, &content, to, &options);
        }
        to.tell_of_network(session, &options);
        announce(session, self.card, &wanted, to);
        let begun = Instant::now();
        let reuse = earlier.as_ref().map(|earlier| &earlier.reuse);
        let (mut copy, saved) = self.copied(&first, reuse, &options, to)?;
        let reused = earlier.as_ref().map(|earlier| (earlier.lines(&saved), earlier.json(&saved)));
        let most = self.most_at_once(begun.elapsed());
        for _ in 0..MOST_PASSES {
            let moment = self.moment(Some(&before), most)?;
            times.push(moment.stood_still);
            let cancel = &session.environment.interrupt.cancel;
            let reuse = Reuse::at(copy.image, &moment, &before, copy.trusted, cancel);
            let reuse = reuse.map_err(|error| self.failed(error, to))?;
            let mut wanted = self::wanted(&moment);
            wanted.source = Arc::clone(&reuse.source);
            if moment.is_whole {
                let stood = self.stood(times, &moment);
                return self.finish(&wanted, reuse, stood, reused, &options, to, started);
            }
            let plan = all_in_use(session, &wanted)?;
            (copy, _) = self.copied(&plan, Some(&reuse), &options, to)?;
            before = moment;
        }
        Err(Failure::refused("the card changes faster than it can be read")
            .state(format!("It goes on as before; {}.", to.what_is_left()))
            .next(
                "Save it at a quieter time, or let it stand still for longer: --freeze-limit 30s.",
            ))
    }

    /// What is on the card at one moment, with everything held back that could be written then.
    fn moment(&mut self, before: Option<&Moment>, most: ByteLen) -> Outcome<Moment> {
        let cancel = &self.session.environment.interrupt.cancel;
        let held = log::hold();
        let moment = self.running.moment(before, most, &mut self.freezer, cancel);
        drop(held);
        moment.map_err(|error| {
            let next = match error.class() {
                Class::Mismatch => format!(
                    "Repeat it at a quieter time, or let it stand still for longer: --freeze-limit {}s.",
                    self.limit.as_secs().saturating_mul(4).max(10)
                ),
                Class::Refused | Class::Unsupported => WAY_OUT.to_owned(),
                Class::Io => "A card that fails is saved on another machine, where it is not in use.".to_owned(),
                _ => String::new(),
            };
            Failure::from(error).state(GOES_ON).next(next)
        })
    }

    /// Refuses a card of which all would have to be read while it stands still, and that would take too long.
    fn may_stand_still_for_all(&self, moment: &Moment) -> Outcome<()> {
        let Some(first) = moment.not_judged.first() else { return Ok(()) };
        let used: ByteLen = moment.not_judged.iter().map(|one| one.used).sum();
        let seconds = used.get() as f64 / self.card.likely_read_rate() as f64;
        if seconds < self.limit.as_secs_f64() {
            return Ok(());
        }
        let least = (seconds * 1.5).ceil();
        Err(Failure::refused(format!(
            "what changes in it while it is read cannot be told: it would have to stand still for \
             about {seconds:.0} s ({})",
            first.why
        ))
        .state(GOES_ON)
        .next(format!("{WAY_OUT} Or let it stand still for so long: --freeze-limit {least:.0}s.")))
    }

    fn stood(&self, times: Vec<Duration>, moment: &Moment) -> Stood {
        let is_stopped = |volume: &&MountedVolume| !moment.unstoppable.contains(&volume.span);
        let (stopped, others): (Vec<_>, Vec<_>) = self.running.volumes.iter().partition(is_stopped);
        let names = |volumes: Vec<&MountedVolume>| {
            volumes.iter().map(|volume| quoted(&volume.at)).collect()
        };
        let (at, changed) = (moment.at, moment.changed);
        Stood { times, at, changed, stopped: names(stopped), unstoppable: names(others) }
    }

    /// How much may be read while the card stands still, when what was copied took `took`.
    fn most_at_once(&self, took: Duration) -> ByteLen {
        // What was packed in so many seconds was read in no more.
        let rate = self.tally.read().get() as f64 / took.as_secs_f64().max(0.01);
        let rate = rate.max(LEAST_RATE);
        ByteLen::new((rate * AIM.min(self.limit / 2).as_secs_f64()) as u64)
    }

    /// Copies what `plan` shows while the card runs, beside `to`.
    fn copied(
        &self,
        plan: &ImagePlan,
        reuse: Option<&Reuse>,
        options: &SaveOptions,
        to: &Destination,
    ) -> Outcome<(Copy, Saved)> {
        let session = self.session;
        let mut name = to.path().as_os_str().to_owned();
        name.push(".copy");
        let name = PathBuf::from(name);
        let is_usual = options.pack == Pack::usual();
        let (pack, level) = match is_usual {
            true => (options.pack, options.level),
            false => (Pack::usual(), Pack::usual().usual_level()),
        };
        // It is read back as what it becomes a part of.
        let sums = Vec::new();
        let options =
            SaveOptions { pack, level, sums, check: false, replace: true, ..options.clone() };
        let manifest = plan.manifest(packing::MADE_BY, Timestamp::now());
        let progress = session.progress(1);
        let cancel = &session.environment.interrupt.cancel;
        let watch = Watch { observer: &progress, cancel };
        let (view, output) = (&plan.plan.view, Output::File(&name));
        let saved = match reuse {
            None => save(view, manifest, output, &options, watch),
            Some(reuse) => save_again(view, reuse, manifest, output, &options, watch),
        };
        let saved = saved.map_err(|error| self.failed(error, to))?;
        let image = Image::open(&name, None);
        fs::remove_file(&name).map_err(|error| {
            failure::system(format!("removing {}", quoted(&name)), error).state(UNWRITTEN)
        })?;
        let image = Arc::new(image.state(UNWRITTEN)?);
        let taken = joined([&saved.taken_over.unread[..], &saved.taken_over.read].concat());
        let trusted = match (reuse, saved.taken_over.unread.is_empty()) {
            (Some(reuse), false) => common(&taken, &reuse.trusted),
            _ => Vec::new(),
        };
        Ok((Copy { image, trusted }, saved))
    }

    fn failed(&self, error: Error, to: &Destination) -> Failure {
        let next = match error.class() {
            Class::Io => "A card that fails is saved on another machine, where it is not in use.",
            _ => packing::what_next(&error),
        };
        let next = to.gone().unwrap_or_else(|| next.to_owned());
        Failure::from(error)
            .state(format!("The card goes on as before; {}.", to.what_is_left()))
            .next(next)
    }

    /// Makes the image of the moment that was read, and tells of it.
    #[expect(clippy::too_many_arguments, reason = "all of what a save comes to, told once")]
    fn finish(
        &self,
        wanted: &SaveSource,
        reuse: Reuse,
        stood: Stood,
        reused: Option<(Vec<String>, json::Reused)>,
        options: &SaveOptions,
        to: &Destination,
        started: Instant,
    ) -> Outcome<Exit> {
        let session = self.session;
        let content = content(session, self.args, wanted)?;
        let mut reuse = reuse;
        if content.is_fitted() {
            reuse.same.clear();
        }
        let mut manifest = manifest(self.args, self.card, wanted, &content);
        manifest.made_at = stood.at;
        manifest.in_use = true;
        let progress = session.progress(if options.check { 2 } else { 1 });
        let cancel = &session.environment.interrupt.cancel;
        let watch = Watch { observer: &progress, cancel };
        let view = &content.plan.view;
        let saved = save_again(view, &reuse, manifest, to.output()?, options, watch);
        let saved = saved.map_err(|error| self.failed(error, to))?;
        drop(progress);
        packing::tell_of(session, &saved);
        let (reused_lines, reused) = reused.unzip();
        let done = Done {
            card: self.card,
            size: wanted.survey.size,
            fitted: content.is_fitted().then_some(content.after.size),
            only: None,
            occupancy: content.occupancy.as_ref().filter(|_| !content.is_fitted()),
            used: view.copied_in(Span::whole(view.size())),
            pack: options.pack,
            saved: &saved,
            reused,
            reused_lines: reused_lines.unwrap_or_default(),
            stood: Some(stood),
            tally: &self.tally,
            took: started.elapsed(),
        };
        done.show(session, to);
        Ok(packing::exit(&saved))
    }
}

/// What was found at a moment, to be saved.
fn wanted(moment: &Moment) -> SaveSource {
    let source: Arc<dyn ReadAt> = Arc::<Recorded>::clone(&moment.store);
    SaveSource { source, survey: moment.survey.clone(), only: None }
}

/// All that is in use, as it stands.
fn all_in_use(session: &Session, wanted: &SaveSource) -> Outcome<ImagePlan> {
    let options = session.reshape_options(false);
    ImagePlan::new(&wanted.source, &wanted.survey, ImageContent::InUse, options).state(UNWRITTEN)
}
