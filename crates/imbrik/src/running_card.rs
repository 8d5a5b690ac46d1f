//! Cards in use, which are frozen for a short time: common to `save --live` and `clone --live`.

use crate::{
    args::Patience,
    failure::{Explain, Failure, Outcome},
    freezer, log,
    render::{json, listed, quoted, size, time},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class,
    card::{Card, Freezer, Host as _, MountedVolume},
    store::{Counted, ReadAt, Tally},
    transfer::{RunningCard, Snapshot, lies_on_any},
    units::{ByteLen, Span},
};
use jiff::Timestamp;
use std::{
    fs,
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};

const UNTOUCHED: &str = "Nothing was read or written.";
const GOES_ON: &str = "The card is unchanged and in use as before.";
/// The next step for a card that can't be read while in use.
const WAY_OUT: &str = "Shut the machine down, and read its card on another machine.";
/// The next step for a failing card.
pub(crate) const FAILS: &str = "Read a failing card on another machine, where it is not in use.";
/// The default limit for a freeze.
const LIMIT: Duration = Duration::from_secs(5);
/// The estimated maximum duration of a freeze.
const AIM: Duration = Duration::from_millis(700);
/// The minimum assumed read rate of a card in bytes per second, however fast its data were compressed.
const LEAST_RATE: f64 = 20e6;
/// How often changes are copied again until the rest can be read during a freeze.
pub(crate) const MOST_PASSES: usize = 8;

/// A card that is in use.
pub(crate) struct InUse<'a> {
    pub(crate) session: &'a Session,
    pub(crate) card: &'a Card,
    running: RunningCard,
    freezer: Freezer,
    limit: Duration,
    /// The number of bytes read from it.
    pub(crate) tally: Tally,
    /// The duration of each freeze.
    times: Vec<Duration>,
    /// How much had changed at the last freeze.
    changed: Option<ByteLen>,
}

impl<'a> InUse<'a> {
    /// `card`, which has mounted volumes; data read during a freeze are stored in `folder`, on another disk, or in
    /// memory.
    pub(crate) fn of(
        session: &'a Session,
        card: &'a Card,
        limit: Option<Patience>,
        folder: Option<PathBuf>,
    ) -> Outcome<Self> {
        let tally = Tally::default();
        let source = session.fleet.host_of(card).open_source(card).state(UNTOUCHED)?;
        let source: Arc<dyn ReadAt> = Arc::new(Counted::new(source, &tally));
        let volumes = session.fleet.machine.mounted_volumes(card);
        let volumes = volumes.state(UNTOUCHED).next(WAY_OUT)?;
        if volumes.is_empty() {
            return Err(Failure::usage(format!("no volume of {} is mounted", card.path.display()))
                .state(UNTOUCHED)
                .next("Leave --live out: the card is not in use."));
        }
        let limit = limit.map_or(LIMIT, |limit| limit.0);
        if let Some(folder) = &folder {
            lies_elsewhere(session, folder, card, &volumes)?;
        }
        for at in freezer::thaw_leftovers() {
            session.out.warn(&format!(
                "{} was still frozen after an earlier run was killed: it was thawed.",
                quoted(&at)
            ));
        }
        let freezer = freezer::start(&volumes, limit).state(UNTOUCHED)?;
        let running = RunningCard { card: source, volumes, folder };
        let (times, changed) = (Vec::new(), None);
        Ok(Self { session, card, running, freezer, limit, tally, times, changed })
    }

    /// Freezes and reads it, with all writes of this program deferred. Of the used space at the snapshot `before`,
    /// `had` was copied.
    pub(crate) fn snapshot(
        &mut self,
        before: Option<(&Snapshot, &[Span])>,
        most: ByteLen,
    ) -> Outcome<Snapshot> {
        let cancel = &self.session.environment.interrupt.cancel;
        let held = log::hold();
        let snapshot = self.running.snapshot(before, most, &mut self.freezer, cancel);
        drop(held);
        let held = self.freezer.held_elsewhere();
        let snapshot = snapshot.map_err(|error| {
            let next = match error.class() {
                Class::Refused if held.is_some() => frozen_elsewhere(held.unwrap_or(Path::new("/"))),
                Class::Mismatch => format!(
                    "Try again when the system is less busy, or allow a longer freeze: --freeze-limit {}s.",
                    self.limit.as_secs().saturating_mul(4).max(10)
                ),
                Class::Refused | Class::Unsupported => WAY_OUT.to_owned(),
                Class::Io => FAILS.to_owned(),
                _ => String::new(),
            };
            Failure::from(error).state(GOES_ON).next(next)
        })?;
        self.times.push(snapshot.frozen_for);
        if before.is_none() {
            self.may_stand_still_for_all(&snapshot)?;
        }
        Ok(snapshot)
    }

    /// Refuses a card if all of it would have to be read during a freeze, and that would take too long.
    fn may_stand_still_for_all(&self, snapshot: &Snapshot) -> Outcome<()> {
        let Some(first) = snapshot.not_judged.first() else { return Ok(()) };
        let used: ByteLen = snapshot.not_judged.iter().map(|one| one.used).sum();
        let seconds = used.get() as f64 / self.card.likely_read_rate() as f64;
        if seconds < self.limit.as_secs_f64() {
            return Ok(());
        }
        let least = (seconds * 1.5).ceil();
        Err(Failure::refused(format!(
            "its changes can't be tracked while it is read: it would have to be frozen for \
             about {seconds:.0} s ({})",
            first.why
        ))
        .state(GOES_ON)
        .next(format!("{WAY_OUT} Or allow a longer freeze: --freeze-limit {least:.0}s.")))
    }

    /// The times and durations of the freezes.
    pub(crate) fn frozen(&self, snapshot: &Snapshot) -> Freezes {
        let is_stopped = |volume: &&MountedVolume| !snapshot.unstoppable.contains(&volume.span);
        let (stopped, others): (Vec<_>, Vec<_>) = self.running.volumes.iter().partition(is_stopped);
        let names = |volumes: Vec<&MountedVolume>| {
            volumes.iter().map(|volume| quoted(&volume.at)).collect()
        };
        let (at, changed, times) = (snapshot.at, snapshot.changed, self.times.clone());
        let is_judged = snapshot.not_judged.is_empty();
        let (stopped, unstoppable) = (names(stopped), names(others));
        Freezes { times, at, changed, is_judged, stopped, unstoppable }
    }

    /// How much may be read during a freeze, if copying everything took `took`.
    pub(crate) fn most_at_once(&mut self, took: Duration, last: &Snapshot) -> ByteLen {
        // Reading the data took no longer than compressing or writing them.
        let rate = self.tally.read().get() as f64 / took.as_secs_f64().max(0.01);
        // If the card changes faster than it is copied, another pass gains nothing.
        let gains = self.changed.is_none_or(|before| {
            last.changed < before.saturating_sub(ByteLen::new(before.get() / 4))
        });
        self.changed = Some(last.changed);
        let aim = if gains { AIM.min(self.limit / 2) } else { self.limit / 2 };
        let most = ByteLen::new((rate.max(LEAST_RATE) * aim.as_secs_f64()) as u64);
        // Volumes whose changes can't be tracked are read in any case.
        last.not_judged.iter().fold(most, |most, one| most.saturating_add(one.used))
    }

    /// That it changes faster than it can be read.
    pub(crate) fn never_still(&self) -> Failure {
        Failure::refused("the card changes faster than it can be read").state(GOES_ON).next(
            "Try again when the system is less busy, or allow a longer freeze: --freeze-limit 30s.",
        )
    }
}

/// The next step for a filesystem that another process has frozen.
fn frozen_elsewhere(at: &Path) -> String {
    match freezer::holder(at) {
        Some(pid) => {
            format!("Another run of imbrik (process {pid}) is reading it: wait until it is done.")
        }
        None => format!(
            "Another program froze it: wait until it is done. If none is at work: fsfreeze -u {}",
            quoted(at)
        ),
    }
}

/// Refuses a folder on the card itself, which can't be written during a freeze.
fn lies_elsewhere(
    session: &Session,
    folder: &Path,
    card: &Card,
    volumes: &[MountedVolume],
) -> Outcome<()> {
    // A share that is mounted on demand is mounted by that; whether there is one shows then.
    let _ = fs::read_dir(folder);
    if session.fleet.lies_on(folder, card) || lies_on_any(folder, volumes) {
        return Err(Failure::refused(format!("{} lies on the card itself", quoted(folder)))
            .state(UNTOUCHED)
            .next("Choose a folder on another disk. If a share should be mounted there, mount it first."));
    }
    Ok(())
}

/// The card called `name`, or the one with the folder `name`.
pub(crate) fn card_in_use(session: &Session, name: &Path) -> Outcome<Card> {
    if !name.is_dir() {
        return resolve::card(&session.fleet, name);
    }
    let machine = &session.fleet.machine;
    let path = fs::canonicalize(name).unwrap_or_else(|_| name.to_owned());
    let on = machine.card_under(&path);
    let cards = machine.list().state(UNTOUCHED)?.cards;
    cards.into_iter().find(|card| Some(&card.path) == on.as_ref()).ok_or_else(|| {
        Failure::usage(format!(
            "{} is not on a card, or is on another layer above one",
            quoted(name)
        ))
        .state(UNTOUCHED)
        .next("List the cards with `imbrik cards`.")
    })
}

/// The freezes of a card in use.
pub(crate) struct Freezes {
    /// The duration of each freeze.
    pub(crate) times: Vec<Duration>,
    /// When the image was.
    pub(crate) at: Timestamp,
    /// The number of bytes read during the freeze, besides metadata.
    pub(crate) changed: ByteLen,
    /// True if the changes of all of it can be tracked.
    is_judged: bool,
    /// Which filesystems cannot be stopped, and which can.
    unstoppable: Vec<String>,
    stopped: Vec<String>,
}

impl Freezes {
    /// The text for users.
    pub(crate) fn lines(&self) -> Vec<String> {
        let times: Vec<_> =
            self.times.iter().map(|time| format!("{:.2} s", time.as_secs_f64())).collect();
        let read = match (self.changed.is_zero(), self.is_judged) {
            (true, _) => "nothing changed in between".to_owned(),
            (false, true) => format!("{} of changes read", size::short(self.changed)),
            // Some of it may be unchanged.
            (false, false) => format!("{} read", size::short(self.changed)),
        };
        let mut lines = vec![format!("Snapshot  {}", time::to_the_second(self.at))];
        if !self.stopped.is_empty() {
            let stopped = listed(&self.stopped);
            lines.push(format!("Frozen    {}: {stopped}; {read}", times.join(" and ")));
        }
        for name in &self.unstoppable {
            lines.push(format!("Steady    {name} can't be frozen: read until it was unchanged"));
        }
        lines
    }

    /// The longest freeze, as the end of a sentence.
    pub(crate) fn in_brief(&self) -> String {
        let longest = self.times.iter().max().copied().unwrap_or_default();
        format!(", frozen for {:.1} s at most", longest.as_secs_f64())
    }

    /// The same for programs.
    pub(crate) fn json(&self) -> json::Freezes {
        json::Freezes {
            at: self.at.to_string(),
            seconds: self.times.iter().map(Duration::as_secs_f64).collect(),
            read_bytes: self.changed.get(),
            stopped: self.stopped.clone(),
            unstoppable: self.unstoppable.clone(),
        }
    }
}
