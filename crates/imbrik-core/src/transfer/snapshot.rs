//! A consistent snapshot of a card in use.
//!
//! Reading all of it while its filesystems are frozen would take too long. So they are frozen briefly, and only
//! metadata are read; the content of files is copied while the system runs, possibly torn; then they are frozen again,
//! and everything that changed since is read again. Unchanged content is the same in the copy as at the time of the
//! second freeze: see [`imbrik_fs::OpenVolume::unchanged_since`].

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

/// Recorded bytes that stay in memory.
const MOST_IN_MEMORY: ByteLen = ByteLen::mib(96);
/// Holes up to this length are read along when ranges of an earlier snapshot are read again.
const SHORT: ByteLen = ByteLen::kib(64);
/// How often filesystems that can't be frozen are read until they stay the same.
const MOST_LOOKS: u32 = 8;
/// The increase of the delay between two such attempts.
const PAUSE: Duration = Duration::from_millis(100);
/// The unit of recording.
const PAGE: ByteLen = ByteLen::new(4096);

/// A card with mounted volumes.
pub struct RunningCard {
    /// The card.
    pub card: Arc<dyn ReadAt>,
    /// Its mounted volumes, in the order in which they are frozen.
    pub volumes: Vec<MountedVolume>,
    /// A folder for data that don't fit into memory, on none of these volumes. Without it, all of them stay in memory.
    pub folder: Option<PathBuf>,
}

/// The data of a card in use that were read at one time.
pub struct Snapshot {
    /// Reads as the card did at that time in recorded ranges; other ranges read as the card is now, or not at all.
    pub store: Arc<Recorded>,
    /// The survey at that time.
    pub survey: Survey,
    /// Its used space at that time.
    pub occupancy: Occupancy,
    /// The time of the freeze.
    pub at: Timestamp,
    /// The duration of the freeze.
    pub frozen_for: Duration,
    /// Content that was unchanged since the earlier snapshot, in order and joined.
    pub known: Vec<Span>,
    /// Used bytes besides that content and metadata.
    pub changed: ByteLen,
    /// True if all of these were read.
    pub is_whole: bool,
    /// Mounted partitions of which changes can't be detected.
    pub not_judged: Vec<NotJudged>,
    /// Mount points that can't be frozen: they were read until they stayed the same.
    pub unstoppable: Vec<Span>,
}

/// A mounted partition of which changes can't be detected: all of it is read during the freeze.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotJudged {
    /// Its location on the card.
    pub span: Span,
    /// Its used space.
    pub used: ByteLen,
    /// Its title, and the reason.
    pub why: String,
}

impl RunningCard {
    /// Freezes the mounted volumes and reads their metadata. If there was an earlier snapshot `before`, and no more
    /// than `most` bytes changed since, reads the changes as well. `had` is the part of the earlier used space that was
    /// copied; the rest counts as changed.
    ///
    /// Filesystems that can't be frozen are flushed, and read until they are the same before and after the freeze of
    /// the others.
    ///
    /// # Errors
    /// - [`crate::Class::Refused`] when a volume can't be frozen, or never stays the same.
    /// - [`crate::Class::Mismatch`] when it was thawed too early, or its partitions changed.
    /// - When the card can't be read.
    pub fn snapshot(
        &self,
        before: Option<(&Snapshot, &[Span])>,
        most: ByteLen,
        freezer: &mut dyn Freeze,
        cancel: &Cancel,
    ) -> Result<Snapshot> {
        let mut restless = None;
        for looks in 0..MOST_LOOKS {
            thread::sleep(PAUSE.saturating_mul(looks));
            cancel.check()?;
            let folder = self.folder.as_deref();
            let store = Recorded::new(Arc::clone(&self.card), MOST_IN_MEMORY, folder);
            let (before, had) = before.unzip();
            let look = Look { running: self, store: Arc::new(store), before, had, most, cancel };
            freezer.flush()?;
            // Filesystems that can't be frozen can be read before the freeze.
            look.ahead()?;
            cancel.check()?;
            let frozen = freezer.freeze()?;
            let at = Timestamp::now();
            let found = look.all();
            let frozen_for = freezer.thaw();
            let (found, frozen_for) = (found?, frozen_for?);
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
                return Ok(look.seen(found, at, frozen_for, unstoppable));
            }
            tracing::info!("a volume that cannot be frozen changed while it was read");
        }
        let restless = self.volumes.iter().find(|volume| restless == Some(volume.span));
        let name = restless.map_or_else(String::new, |volume| {
            format!("{} ({})", volume.at.display(), volume.kind)
        });
        Err(Error::refused(format!("{name} can't be frozen, and keeps changing while it is read")))
    }

    fn is_mounted(&self, part: &Part) -> bool {
        self.volumes.iter().any(|volume| volume.span.intersect(part.span).is_some())
    }
}

/// A survey of a frozen card.
struct Look<'a> {
    running: &'a RunningCard,
    store: Arc<Recorded>,
    before: Option<&'a Snapshot>,
    /// The part of it that was copied.
    had: Option<&'a [Span]>,
    most: ByteLen,
    cancel: &'a Cancel,
}

/// The result of the survey.
struct Found {
    survey: Survey,
    occupancy: Occupancy,
    known: Vec<Span>,
    changed: ByteLen,
    is_whole: bool,
    not_judged: Vec<NotJudged>,
}

impl Look<'_> {
    /// Reads the filesystems that can't be frozen, before the freeze.
    fn ahead(&self) -> Result<()> {
        let Some(before) = self.before else { return Ok(()) };
        // A page that also contains data of another volume is not read before that one is frozen.
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

    /// The content of the mounted partition `part` that is unchanged since the earlier snapshot.
    fn judged(&self, part: &Part, not_judged: &mut Vec<NotJudged>) -> Result<Vec<Span>> {
        let store: Arc<dyn ReadAt> = Arc::<Recorded>::clone(&self.store);
        let Some(now) = part.open(&store)? else { return Ok(Vec::new()) };
        let then = match self.before {
            // Metadata are recorded for the comparison with the next snapshot.
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

    /// Metadata are mostly at the same places as before: these are read in long pieces.
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
        let is_another = |before: &Snapshot| before.survey.fingerprint() != survey.fingerprint();
        if self.before.is_some_and(is_another) {
            return Err(Error::mismatch("its partitions have changed"));
        }
        let occupancy = Occupancy::of(&store, &survey)?;
        let mounted = joined(self.running.volumes.iter().map(|volume| volume.span).collect());
        // According to the system, no process writes to the rest.
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
        // Metadata were recorded by now.
        let rest = without(&without(&used, &known), &self.store.spans());
        let changed = rest.iter().map(|span| span.len()).sum();
        let is_whole = self.before.is_some() && changed <= self.most;
        if is_whole {
            self.take(&rest)?;
        }
        Ok(Found { survey, occupancy, known, changed, is_whole, not_judged })
    }

    /// A volume that stayed the same for a while is as consistent as if it had been unmounted then, and is marked as
    /// such.
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
        frozen_for: Duration,
        unstoppable: Vec<Span>,
    ) -> Snapshot {
        let Found { survey, occupancy, known, changed, is_whole, mut not_judged } = found;
        // Filesystems that can't be frozen are read first.
        not_judged.retain(|one| !unstoppable.contains(&one.span));
        let beyond = if is_whole { Beyond::Refused } else { Beyond::AsItIs };
        self.store.set_beyond(beyond);
        tracing::info!(%changed, is_whole, ms = frozen_for.as_millis(), "frozen");
        let store = self.store;
        Snapshot {
            store,
            survey,
            occupancy,
            at,
            frozen_for,
            known,
            changed,
            is_whole,
            not_judged,
            unstoppable,
        }
    }
}

/// The partition of `earlier` at the location of `part`.
fn counterpart<'a>(part: &Part, earlier: &'a Survey) -> Option<&'a Part> {
    earlier.parts.iter().find(|before| before.span == part.span)
}

/// Returns whether the folder `at` is on one of `volumes`, so that nothing could be written there during the freeze.
#[must_use]
pub fn lies_on_any(at: &Path, volumes: &[MountedVolume]) -> bool {
    use std::os::unix::fs::MetadataExt as _;
    let device = |path: &Path| std::fs::metadata(path).map(|found| found.dev()).ok();
    let Some(here) = device(at) else { return false };
    volumes.iter().any(|volume| device(&volume.at) == Some(here))
}
