//! A card that is in use, as it is at one moment.
//!
//! All of it cannot be read while it stands still: that would take too long. So it is stopped for a moment,
//! in which only what describes its files is read; their content is copied while it runs, torn as it may be;
//! and at the next moment all that changed since is read again. What did not change in between is in
//! that copy as it is at the later moment: see [`imbrik_fs::OpenVolume::unchanged_since`].

use crate::{
    card::{Freeze, MountedVolume},
    layout::{Content, Occupancy, Part, Survey},
};
use imbrik_store::{
    Beyond, ReadAt, Recorded,
    error::{Error, Result},
    progress::Cancel,
    units::{ByteLen, Span, common, joined, without},
};
use jiff::Timestamp;
use std::{
    path::{Path, PathBuf},
    sync::Arc,
    thread,
    time::Duration,
};

/// How much of what is read stays in memory.
const MOST_IN_MEMORY: ByteLen = ByteLen::mib(96);
/// What was read of a moment before is read in pieces that are joined over holes as short as this.
const SHORT: ByteLen = ByteLen::kib(64);
/// How often what cannot be stopped is looked at until it stays the same.
const MOST_LOOKS: u32 = 8;
/// How much longer each time until it is looked at again.
const PAUSE: Duration = Duration::from_millis(100);
/// What is recorded together.
const PAGE: ByteLen = ByteLen::new(4096);

/// A card of which something is mounted.
pub struct RunningCard {
    /// How it is read.
    pub card: Arc<dyn ReadAt>,
    /// What is mounted of it, in the order in which it is frozen.
    pub volumes: Vec<MountedVolume>,
    /// Where what has no room in memory may go: on none of them. Without it, all stays in memory.
    pub folder: Option<PathBuf>,
}

/// What of a card in use was read at one moment.
pub struct Moment {
    /// Reads like the card at that moment where it was read then; elsewhere as it is later, or not at all.
    pub store: Arc<Recorded>,
    /// What was on it.
    pub survey: Survey,
    /// What of it was in use.
    pub occupancy: Occupancy,
    /// When that was.
    pub at: Timestamp,
    /// How long its filesystems stood still.
    pub stood_still: Duration,
    /// What of its content was as at the moment before, in order and joined.
    pub known: Vec<Span>,
    /// How much else there was in use, besides what describes the files.
    pub changed: ByteLen,
    /// Whether all of that was read at that moment.
    pub is_whole: bool,
    /// Of which mounted partitions it cannot be told what changed.
    pub not_judged: Vec<NotJudged>,
    /// Where that stands which cannot be stopped: it was read until it stayed the same.
    pub unstoppable: Vec<Span>,
}

/// A mounted partition of which it cannot be told what changed: all of it is read while it stands still.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotJudged {
    /// Where it stands.
    pub span: Span,
    /// What is in use of it.
    pub used: ByteLen,
    /// Its title, and why.
    pub why: String,
}

impl RunningCard {
    /// Stops what is mounted, and reads what describes files; and, where there was a moment `before` and no
    /// more than `most` changed since, that, too. Of what was in use at that moment, `had` was copied afterwards;
    /// the rest counts as changed.
    ///
    /// What cannot be stopped is flushed, and read until it stays the same from before the moment until after it.
    ///
    /// # Errors
    /// - [`crate::Class::Refused`] when something mounted cannot be frozen, or never stays the same.
    /// - [`crate::Class::Mismatch`] when it was thawed too early, or its partitions are others than before.
    /// - When the card cannot be read.
    pub fn moment(
        &self,
        before: Option<(&Moment, &[Span])>,
        most: ByteLen,
        freezer: &mut dyn Freeze,
        cancel: &Cancel,
    ) -> Result<Moment> {
        let mut restless = None;
        for looks in 0..MOST_LOOKS {
            thread::sleep(PAUSE.saturating_mul(looks));
            cancel.check()?;
            let folder = self.folder.as_deref();
            let store = Recorded::new(Arc::clone(&self.card), MOST_IN_MEMORY, folder);
            let (before, had) = before.unzip();
            let look = Look { running: self, store: Arc::new(store), before, had, most, cancel };
            freezer.flush()?;
            // What cannot be stopped may as well be read while the rest runs.
            look.ahead()?;
            cancel.check()?;
            let frozen = freezer.freeze()?;
            let at = Timestamp::now();
            let found = look.all();
            let stood_still = freezer.thaw();
            let (found, stood_still) = (found?, stood_still?);
            let states = self.volumes.iter().zip(frozen);
            let unstoppable: Vec<_> =
                states.filter(|(_, is_frozen)| !is_frozen).map(|(volume, _)| volume.span).collect();
            if !unstoppable.is_empty() {
                freezer.flush()?;
            }
            restless = None;
            for span in &unstoppable {
                if !look.store.still_stands(*span)? {
                    restless = Some(*span);
                }
            }
            if restless.is_none() {
                look.unmount(&found.survey, &unstoppable)?;
                return Ok(look.seen(found, at, stood_still, unstoppable));
            }
            tracing::info!("what cannot be stopped changed while it was read");
        }
        let restless = self.volumes.iter().find(|volume| restless == Some(volume.span));
        let name = restless.map_or_else(String::new, |volume| {
            format!("{} ({})", volume.at.display(), volume.kind)
        });
        Err(Error::refused(format!(
            "{name} cannot be stopped, and never stays the same while it is read"
        )))
    }

    fn is_mounted(&self, part: &Part) -> bool {
        self.volumes.iter().any(|volume| volume.span.intersect(part.span).is_some())
    }
}

/// A look at a card that stands still.
struct Look<'a> {
    running: &'a RunningCard,
    store: Arc<Recorded>,
    before: Option<&'a Moment>,
    /// What of that was copied.
    had: Option<&'a [Span]>,
    most: ByteLen,
    cancel: &'a Cancel,
}

/// What was found at it.
struct Found {
    survey: Survey,
    occupancy: Occupancy,
    known: Vec<Span>,
    changed: ByteLen,
    is_whole: bool,
    not_judged: Vec<NotJudged>,
}

impl Look<'_> {
    /// Reads, before the moment, of what cannot be stopped then.
    fn ahead(&self) -> Result<()> {
        let Some(before) = self.before else { return Ok(()) };
        // A page with something of another volume is not read before that stands still.
        let is_alone =
            |span: &&Span| span.start().is_aligned_to(PAGE) && span.end().is_aligned_to(PAGE);
        for span in before.unstoppable.iter().filter(is_alone) {
            for part in before.survey.parts.iter().filter(|part| part.span == *span) {
                let store: Arc<dyn ReadAt> = Arc::<Recorded>::clone(&self.store);
                let Some(open) = part.open(&store)? else { continue };
                let used = part.on_card(open.examine()?.usage.used);
                let mut not_judged = Vec::new();
                let known = self.judged(part, &mut not_judged)?;
                self.take(&without(&joined(used), &joined(known)))?;
            }
        }
        Ok(())
    }

    fn take(&self, spans: &[Span]) -> Result<()> {
        for span in spans {
            self.cancel.check()?;
            self.store.take(*span)?;
        }
        Ok(())
    }

    /// What of `part`, which is mounted, is as at the moment before.
    fn judged(&self, part: &Part, not_judged: &mut Vec<NotJudged>) -> Result<Vec<Span>> {
        let store: Arc<dyn ReadAt> = Arc::<Recorded>::clone(&self.store);
        let Some(now) = part.open(&store)? else { return Ok(Vec::new()) };
        let then = match self.before {
            // What describes the files is read for the sake of the next moment.
            None => part.open(&store)?,
            Some(before) => match counterpart(part, &before.survey) {
                None => None,
                Some(earlier) => {
                    let store: Arc<dyn ReadAt> = Arc::<Recorded>::clone(&before.store);
                    earlier.open(&store)?
                }
            },
        };
        let Some(then) = then else { return Ok(Vec::new()) };
        let found = now.unchanged_since(&then, self.cancel)?;
        if let Some(why) = found.why_not {
            let (span, why) = (part.span, format!("{}: {why}", part.full_title()));
            not_judged.push(NotJudged { span, used: ByteLen::ZERO, why });
        }
        if self.before.is_none() {
            return Ok(Vec::new());
        }
        Ok(part.on_card(found.spans))
    }

    /// What describes the files is mostly where it was: that is read in long pieces.
    fn as_before(&self) -> Result<()> {
        let Some(before) = self.before else { return Ok(()) };
        let mut pieces: Vec<Span> = Vec::new();
        for span in before.store.spans() {
            match pieces.last_mut() {
                Some(last) if span.start().saturating_since(last.end()) <= SHORT => {
                    *last = Span::between(last.start(), span.end());
                }
                _ => pieces.push(span),
            }
        }
        let mounted = self.running.volumes.iter();
        let stopped = mounted.map(|volume| volume.span);
        let stopped: Vec<_> = stopped.filter(|span| !before.unstoppable.contains(span)).collect();
        let inside =
            pieces.iter().flat_map(|piece| stopped.iter().map(|span| span.intersect(*piece)));
        self.take(&inside.flatten().collect::<Vec<_>>())
    }

    fn all(&self) -> Result<Found> {
        self.as_before()?;
        let store: Arc<dyn ReadAt> = Arc::<Recorded>::clone(&self.store);
        let survey = Survey::of(&*store)?;
        let is_another = |before: &Moment| before.survey.fingerprint() != survey.fingerprint();
        if self.before.is_some_and(is_another) {
            return Err(Error::mismatch("its partitions are others than a moment ago"));
        }
        let occupancy = Occupancy::of(&store, &survey)?;
        let mounted = joined(self.running.volumes.iter().map(|volume| volume.span).collect());
        // Nobody writes to the rest, as far as the system knows.
        let mut known = match self.before {
            None => Vec::new(),
            Some(_) => without(&[Span::whole(survey.size)], &mounted),
        };
        let mut not_judged = Vec::new();
        for part in survey.parts.iter().filter(|part| self.running.is_mounted(part)) {
            known.extend(self.judged(part, &mut not_judged)?);
        }
        for one in &mut not_judged {
            one.used = occupancy.used_in(one.span);
        }
        let known = common(&joined(known), self.had.unwrap_or_default());
        let copied = occupancy.segments.iter().filter_map(|segment| match segment.content {
            Content::Copied { .. } => Some(segment.span),
            _ => None,
        });
        let used = without(&joined(copied.collect()), &occupancy.holes);
        // What describes the files was read by now.
        let rest = without(&without(&used, &known), &self.store.spans());
        let changed = rest.iter().map(|span| span.len()).sum();
        let is_whole = self.before.is_some() && changed <= self.most;
        if is_whole {
            self.take(&rest)?;
        }
        Ok(Found { survey, occupancy, known, changed, is_whole, not_judged })
    }

    /// What stayed the same for a while is as sound as if it had been unmounted then, and is to say so.
    fn unmount(&self, survey: &Survey, unstoppable: &[Span]) -> Result<()> {
        for part in survey.parts.iter().filter(|part| unstoppable.contains(&part.span)) {
            let store: Arc<dyn ReadAt> = Arc::<Recorded>::clone(&self.store);
            let Some(open) = part.open(&store)? else { continue };
            for (at, bytes) in open.unmounted()? {
                self.store.amend(part.span.start().plus(ByteLen::new(at.get()))?, &bytes)?;
            }
        }
        Ok(())
    }

    fn seen(
        self,
        found: Found,
        at: Timestamp,
        stood_still: Duration,
        unstoppable: Vec<Span>,
    ) -> Moment {
        let Found { survey, occupancy, known, changed, is_whole, mut not_judged } = found;
        // What cannot be stopped is read before the rest is.
        not_judged.retain(|one| !unstoppable.contains(&one.span));
        let beyond = if is_whole { Beyond::Refused } else { Beyond::AsItIs };
        self.store.set_beyond(beyond);
        tracing::info!(%changed, is_whole, ms = stood_still.as_millis(), "stood still");
        let store = self.store;
        Moment {
            store,
            survey,
            occupancy,
            at,
            stood_still,
            known,
            changed,
            is_whole,
            not_judged,
            unstoppable,
        }
    }
}

/// The partition of `earlier` that stands where `part` does.
fn counterpart<'a>(part: &Part, earlier: &'a Survey) -> Option<&'a Part> {
    earlier.parts.iter().find(|before| before.span == part.span)
}

/// Whether the folder `at` lies on one of `volumes`, so that nothing could be written there meanwhile.
#[must_use]
pub fn lies_on_any(at: &Path, volumes: &[MountedVolume]) -> bool {
    use std::os::unix::fs::MetadataExt as _;
    let device = |path: &Path| std::fs::metadata(path).map(|found| found.dev()).ok();
    let Some(here) = device(at) else { return false };
    volumes.iter().any(|volume| device(&volume.at) == Some(here))
}
