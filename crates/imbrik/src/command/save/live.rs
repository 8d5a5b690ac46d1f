//! `imbrik save --live`: a card that is in use.

use super::{
    Done, SaveSource, UNTOUCHED, UNWRITTEN, announce, content,
    earlier::{self, Earlier, OnShelf},
    manifest, plan, proposed_stem,
};
use crate::{
    args::SaveArgs,
    exit::Exit,
    failure::{self, Explain, Failure, Outcome},
    packing::{self, Destination},
    pipe,
    render::{json, quoted},
    running_card::{FAILS, Freezes, InUse, MOST_PASSES, card_in_use},
    session::Session,
};
use imbrik_core::{
    Class, Error,
    image::{Image, Output, Pack, can_share_blocks},
    operation::{ImageContent, ImagePlan},
    progress::Watch,
    store::{ReadAt, Recorded},
    transfer::{OnDamage, OnUnfinished, Reuse, SaveOptions, Saved, Snapshot, save, save_again},
    units::{ByteLen, Span, common},
};
use jiff::Timestamp;
use std::{
    fs,
    path::{Path, PathBuf},
    sync::Arc,
    time::Instant,
};

pub(super) fn run(session: &Session, args: &SaveArgs) -> Outcome<Exit> {
    let started = Instant::now();
    let Some(name) = &args.card else {
        return Err(Failure::usage("which card? --live saves a card in use")
            .state(UNTOUCHED)
            .next("For this machine's own: imbrik save --live / FOLDER"));
    };
    let card = card_in_use(session, name)?;
    if args.image.as_deref().is_some_and(pipe::is_pipe) {
        return Err(Failure::usage("a card in use can't be saved to a pipe")
            .state(UNTOUCHED)
            .next("Name a file or a folder on another disk."));
    }
    let options = SaveOptions {
        damage: OnDamage::Stop,
        unfinished: OnUnfinished::Remove,
        ..packing::options(session, &args.packing, args.image.as_deref())?
    };
    let folder = packing::folder_for(session, args.image.as_deref())?;
    let card = InUse::of(session, &card, args.freeze_limit, Some(folder))?;
    Live { args, card }.save(options, started)
}

/// A card that is in use, on its way into an image.
struct Live<'a> {
    args: &'a SaveArgs,
    card: InUse<'a>,
}

/// A copy of a running card; its file has no name, and is removed with this value.
struct Copy {
    image: Arc<Image>,
    /// The parts that are as intact as in an earlier image.
    trusted: Vec<Span>,
}

impl Live<'_> {
    fn save(&mut self, mut options: SaveOptions, started: Instant) -> Outcome<Exit> {
        let session = self.card.session;
        let mut before = self.card.snapshot(None, ByteLen::ZERO)?;
        let mut wanted = wanted(&before);
        let (name, stem) = (self.args.image.as_deref(), proposed_stem(&wanted, self.card.card));
        let to = &Destination::file(session, name, &stem, &self.args.packing, options.pack)?;
        let shelf = OnShelf::lock(to, self.args.onto_shelf)?;
        let name = self.args.reuse.clone().or_else(|| shelf.as_ref()?.before(session, &wanted));
        let earlier = name.map(|name| Earlier::of(session, self.args, &name, &wanted));
        let earlier = earlier.transpose()?;
        earlier::kept(session, self.args, earlier.is_some() || shelf.is_some(), &mut options);
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
            return plan(session, self.card.card, &wanted, &content, to, &options);
        }
        let folder = to.path().parent().unwrap_or(Path::new("/"));
        if !can_share_blocks(folder) {
            session.out.note(&format!(
                "Until the image is complete, a raw copy is stored next to it: both need space in {} for a while.",
                quoted(folder)
            ));
        }
        to.tell_of_network(session, &options);
        announce(session, self.card.card, &wanted, to);
        let begun = Instant::now();
        let reuse = earlier.as_ref().map(|earlier| &earlier.reuse);
        let (mut copy, saved) = self.copied(&first, reuse, &options, to)?;
        earlier::report_damage(session, shelf.as_ref(), &saved, earlier.as_ref());
        let is_damaged = !saved.reused.damaged.is_empty();
        let reused = earlier
            .as_ref()
            .map(|earlier| (earlier.lines(&session.out, &saved), earlier.json(&saved)));
        let took = begun.elapsed();
        let all = [Span::whole(before.survey.size)];
        for _ in 0..MOST_PASSES {
            let most = self.card.most_at_once(took, &before);
            let snapshot = self.card.snapshot(Some((&before, &all)), most)?;
            let cancel = &session.environment.interrupt.cancel;
            let reuse = Reuse::at(copy.image, &snapshot, &before, copy.trusted, cancel);
            let reuse = reuse.map_err(|error| failed(error, to))?;
            let mut wanted = self::wanted(&snapshot);
            wanted.source = Arc::clone(&reuse.source);
            if snapshot.is_whole {
                let frozen = self.card.frozen(&snapshot);
                let exit = self.finish(&wanted, reuse, frozen, reused, &options, to, started)?;
                return Ok(if is_damaged && exit == Exit::Done { Exit::Mismatch } else { exit });
            }
            let plan = all_in_use(session, &wanted)?;
            (copy, _) = self.copied(&plan, Some(&reuse), &options, to)?;
            before = snapshot;
        }
        Err(self.card.never_still())
    }

    /// Copies `plan` while the card runs, next to `to`.
    fn copied(
        &self,
        plan: &ImagePlan,
        reuse: Option<&Reuse>,
        options: &SaveOptions,
        to: &Destination,
    ) -> Outcome<(Copy, Saved)> {
        let session = self.card.session;
        let mut name = to.path().as_os_str().to_owned();
        name.push(".copy");
        let name = PathBuf::from(name);
        let is_usual = options.pack == Pack::usual();
        let (pack, level) = match is_usual {
            true => (options.pack, options.level),
            false => (Pack::usual(), Pack::usual().usual_level()),
        };
        // The image created from it is read back.
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
        let saved = saved.map_err(|error| failed(error, to))?;
        let image = Image::open(&name, None);
        fs::remove_file(&name).map_err(|error| {
            failure::system(format!("removing {}", quoted(&name)), error).state(UNWRITTEN)
        })?;
        let image = Arc::new(image.state(UNWRITTEN)?);
        let taken = saved.reused.all();
        let trusted = match (reuse, saved.reused.unread.is_empty()) {
            (Some(reuse), false) => common(&taken, &reuse.trusted),
            _ => Vec::new(),
        };
        Ok((Copy { image, trusted }, saved))
    }

    /// Writes the image of the snapshot, and reports it.
    #[expect(clippy::too_many_arguments, reason = "everything about a save, reported once")]
    fn finish(
        &self,
        wanted: &SaveSource,
        reuse: Reuse,
        frozen: Freezes,
        reused: Option<(Vec<String>, json::Reused)>,
        options: &SaveOptions,
        to: &Destination,
        started: Instant,
    ) -> Outcome<Exit> {
        let session = self.card.session;
        let content = content(session, self.args, wanted)?;
        let mut reuse = reuse;
        if content.is_fitted() {
            reuse.same.clear();
        }
        let mut manifest = manifest(self.args, self.card.card, wanted, &content);
        manifest.made_at = frozen.at;
        manifest.in_use = true;
        let progress = session.progress(if options.check { 2 } else { 1 });
        let cancel = &session.environment.interrupt.cancel;
        let watch = Watch { observer: &progress, cancel };
        let view = &content.plan.view;
        let saved = save_again(view, &reuse, manifest, to.output()?, options, watch);
        let saved = saved.map_err(|error| failed(error, to))?;
        drop(progress);
        packing::tell_of(session, &saved);
        let (reused_lines, reused) = reused.unzip();
        let done = Done {
            card: self.card.card,
            size: wanted.survey.size,
            fitted: content.is_fitted().then_some(content.after.size),
            only: None,
            occupancy: content.occupancy.as_ref().filter(|_| !content.is_fitted()),
            used: view.copied_in(Span::whole(view.size())),
            pack: options.pack,
            saved: &saved,
            reused,
            reused_lines: reused_lines.unwrap_or_default(),
            frozen: Some(frozen),
            tally: &self.card.tally,
            took: started.elapsed(),
        };
        done.show(session, to);
        Ok(packing::exit(&saved))
    }
}

fn failed(error: Error, to: &Destination) -> Failure {
    let next = match error.class() {
        Class::Io => FAILS,
        _ => packing::what_next(&error),
    };
    let next = to.gone().unwrap_or_else(|| next.to_owned());
    Failure::from(error)
        .state(format!("The card is in use as before; {}.", to.what_is_left()))
        .next(next)
}

/// The source of the save, from a snapshot.
fn wanted(snapshot: &Snapshot) -> SaveSource {
    let source: Arc<dyn ReadAt> = Arc::<Recorded>::clone(&snapshot.store);
    SaveSource { source, survey: snapshot.survey.clone(), only: None }
}

/// All used space, unchanged.
fn all_in_use(session: &Session, wanted: &SaveSource) -> Outcome<ImagePlan> {
    let options = session.resize_options(false);
    ImagePlan::new(&wanted.source, &wanted.survey, ImageContent::InUse, options).state(UNWRITTEN)
}
