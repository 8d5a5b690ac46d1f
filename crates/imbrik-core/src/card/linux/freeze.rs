//! Freezing filesystems: `FIFREEZE` and `FITHAW` of Linux.
//!
//! A filesystem that is never thawed would block the machine. So a second process freezes, and always thaws: on
//! request, when the time limit is over, and when its parent ends. The parent thaws if that process ends or does not
//! answer in time. In case both are killed, the frozen filesystems are recorded: see
//! [`thaw_recorded`](super::frozen::thaw_recorded).

use super::{frozen::FrozenRecord, ioctl};
use crate::card::Freeze;
use imbrik_store::error::{Class, Error, Result};
use std::{
    fs::File,
    io::{BufRead, BufReader, Read, Write},
    path::{Path, PathBuf},
    process::{Child, ChildStdin, Command, Stdio},
    sync::{
        Arc, Condvar, Mutex, MutexGuard, PoisonError,
        mpsc::{self, Receiver, RecvTimeoutError},
    },
    thread,
    time::{Duration, Instant},
};

/// How long an answer may take in addition to the time limit of a freeze: the freeze flushes all earlier writes to the
/// card first.
const MOST_FLUSHING: Duration = Duration::from_secs(600);

/// The requests to the other process, and its answers.
mod word {
    pub(super) const READY: &str = "ready";
    pub(super) const FLUSH: &str = "flush";
    pub(super) const FLUSHED: &str = "flushed";
    pub(super) const FREEZE: &str = "freeze";
    pub(super) const FROZEN: &str = "frozen";
    pub(super) const THAW: &str = "thaw";
    pub(super) const THAWED: &str = "thawed";
    pub(super) const LATE: &str = "late";
    pub(super) const FAILED: &str = "failed";
    pub(super) const BUSY: &str = "busy";
}

/// A mounted filesystem, held open so that it stays mounted.
struct Mounted {
    at: PathBuf,
    folder: File,
    is_frozen: bool,
}

impl Mounted {
    fn open(at: &Path) -> Result<Self> {
        Ok(Self { at: at.to_owned(), folder: Self::open_folder(at)?, is_frozen: false })
    }

    fn open_folder(at: &Path) -> Result<File> {
        File::open(at).map_err(|e| Error::io(format!("opening {}", at.display()), e))
    }

    fn flush(&self) -> Result<()> {
        rustix::fs::syncfs(&self.folder)
            .map_err(|e| Error::io(format!("flushing {}", self.at.display()), e.into()))
    }

    /// Freezes it where its kind can be frozen.
    ///
    /// # Errors
    /// [`Class::Usage`] with the mount point when another process has it frozen.
    fn freeze(&mut self) -> Result<()> {
        match ioctl::freeze(&self.folder) {
            Ok(()) => self.is_frozen = true,
            Err(rustix::io::Errno::OPNOTSUPP | rustix::io::Errno::NOTTY) => self.flush()?,
            Err(rustix::io::Errno::BUSY) => {
                return Err(Error::usage(self.at.display().to_string()));
            }
            Err(errno) => {
                return Err(Error::io(format!("freezing {}", self.at.display()), errno.into()));
            }
        }
        Ok(())
    }

    /// Returns whether it was frozen until now.
    fn thaw(&mut self) -> bool {
        let was_frozen = self.is_frozen;
        self.is_frozen = false;
        !was_frozen || ioctl::thaw(&self.folder).is_ok()
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        self.thaw();
    }
}

/// Thaws all, in reverse order; returns whether each was frozen until now.
fn thaw_all(mounted: &mut [Mounted]) -> bool {
    let were_frozen: Vec<_> = mounted.iter_mut().rev().map(Mounted::thaw).collect();
    were_frozen.into_iter().all(|was_frozen| was_frozen)
}

/// The freezing process: freezes `mounts` in order on requests from `input`, each time for at most `limit`, and answers
/// on `output`. Records frozen filesystems in the folder `records`. Ends with `input`, after thawing everything.
///
/// # Errors
/// When it can no longer answer.
pub fn freeze_on_demand(
    mounts: &[PathBuf],
    limit: Duration,
    records: Option<&Path>,
    input: impl Read + Send + 'static,
    mut output: impl Write,
) -> Result<()> {
    let record = records.map(|folder| FrozenRecord::new(folder, std::process::id()));
    let lost = |e| Error::io("answering", e);
    let mut say = |text: String| {
        let line = format!("{}\n", text.replace('\n', " "));
        output.write_all(line.as_bytes()).and_then(|()| output.flush()).map_err(lost)
    };
    let opened: Result<Vec<_>> = mounts.iter().map(|at| Mounted::open(at)).collect();
    let mut mounted = match opened {
        Ok(mounted) => mounted,
        Err(error) => return say(format!("{} {error}", word::FAILED)),
    };
    let (tell, told) = mpsc::channel();
    thread::spawn(move || {
        for line in BufReader::new(input).lines().map_while(std::result::Result::ok) {
            if tell.send(line).is_err() {
                return;
            }
        }
    });
    say(word::READY.to_owned())?;
    while let Ok(line) = told.recv() {
        match line.as_str() {
            word::FLUSH => match mounted.iter().try_for_each(Mounted::flush) {
                Ok(()) => say(word::FLUSHED.to_owned())?,
                Err(error) => say(format!("{} {error}", word::FAILED))?,
            },
            word::FREEZE => {
                let begun = Instant::now();
                let recorded = record.as_ref().map_or(Ok(()), |record| {
                    record.write(mounted.iter().map(|one| one.at.as_path()))
                });
                let frozen =
                    recorded.and_then(|()| mounted.iter_mut().try_for_each(Mounted::freeze));
                if let Err(error) = frozen {
                    thaw_all(&mut mounted);
                    record.iter().for_each(FrozenRecord::remove);
                    let word =
                        if error.class() == Class::Usage { word::BUSY } else { word::FAILED };
                    say(format!("{word} {error}"))?;
                    continue;
                }
                let are: Vec<_> =
                    mounted.iter().map(|one| if one.is_frozen { "1" } else { "0" }).collect();
                let answered = say(format!("{} {}", word::FROZEN, are.join("")));
                let left = limit.saturating_sub(begun.elapsed());
                let asked = answered.map(|()| told.recv_timeout(left));
                let was_frozen = thaw_all(&mut mounted);
                record.iter().for_each(FrozenRecord::remove);
                let held = begun.elapsed().as_micros();
                match asked? {
                    Ok(_) if was_frozen => say(format!("{} {held}", word::THAWED))?,
                    Ok(_) | Err(RecvTimeoutError::Timeout) => {
                        say(format!("{} {held}", word::LATE))?
                    }
                    Err(RecvTimeoutError::Disconnected) => return Ok(()),
                }
            }
            // An answer that came too late to be awaited: it was thawed long before.
            _ => {}
        }
    }
    Ok(())
}

/// Mounted filesystems that another process freezes and thaws. This process watches it: when it is killed or
/// stopped while they are frozen, they are thawed from here.
pub struct Freezer {
    process: Child,
    input: Option<ChildStdin>,
    answers: Receiver<String>,
    limit: Duration,
    guard: Arc<Guard>,
    held: Option<PathBuf>,
}

/// How long after the limit this process thaws by itself.
const GRACE: Duration = Duration::from_millis(500);
/// How long the other process may take to end.
const MOST_ENDING: Duration = Duration::from_secs(5);
/// How long an answer is waited for until the guard is asked.
const STEP: Duration = Duration::from_millis(50);
/// How often it is asked whether the other process has ended.
const POLL: Duration = Duration::from_millis(5);

/// The state that both threads of this process share.
struct Guard {
    mounts: Vec<File>,
    record: Option<FrozenRecord>,
    limit: Duration,
    state: Mutex<GuardState>,
    changed: Condvar,
}

#[derive(Default)]
struct GuardState {
    /// Since when something may be frozen.
    frozen_since: Option<Instant>,
    /// True if the guard thawed it.
    was_thawed: bool,
    /// True if the other process has ended.
    is_alone: bool,
    is_over: bool,
}

impl Guard {
    fn state(&self) -> MutexGuard<'_, GuardState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn set(&self, change: impl FnOnce(&mut GuardState)) {
        change(&mut self.state());
        self.changed.notify_all();
    }

    /// Thaws everything, if something may still be frozen.
    fn thaw(&self, state: &mut GuardState) {
        if state.frozen_since.take().is_some() {
            for folder in self.mounts.iter().rev() {
                // Filesystems that the other process thawed are not frozen any more.
                let _ = ioctl::thaw(folder);
            }
            state.was_thawed = true;
            if let Some(record) = &self.record {
                record.remove();
            }
        }
    }

    /// Thaws when the other process ends, or the limit is over.
    fn watch(&self) {
        let mut state = self.state();
        while !state.is_over {
            let left = state.frozen_since.map(|since| {
                let limit = self.limit.saturating_add(GRACE);
                if state.is_alone { Duration::ZERO } else { limit.saturating_sub(since.elapsed()) }
            });
            state = match left {
                Some(Duration::ZERO) => {
                    self.thaw(&mut state);
                    state
                }
                Some(left) => {
                    let waited = self.changed.wait_timeout(state, left);
                    waited.unwrap_or_else(PoisonError::into_inner).0
                }
                None => self.changed.wait(state).unwrap_or_else(PoisonError::into_inner),
            };
        }
    }
}

impl Freezer {
    /// Starts `process`, which runs [`freeze_on_demand`] for `mounts`, `limit` and `records` with its standard input
    /// and output.
    ///
    /// # Errors
    /// When it cannot be started, or one of `mounts` cannot be opened.
    pub fn start(
        process: &mut Command,
        mounts: &[PathBuf],
        limit: Duration,
        records: Option<&Path>,
    ) -> Result<Self> {
        let opened: Result<Vec<_>> = mounts.iter().map(|at| Mounted::open_folder(at)).collect();
        let spawned = process.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut process =
            spawned.spawn().map_err(|e| Error::io("starting the freezing process", e))?;
        let guard = Arc::new(Guard {
            mounts: opened?,
            record: records.map(|folder| FrozenRecord::new(folder, process.id())),
            limit,
            state: Mutex::default(),
            changed: Condvar::new(),
        });
        let (tell, answers) = mpsc::channel();
        if let Some(output) = process.stdout.take() {
            let guard = Arc::clone(&guard);
            thread::spawn(move || {
                for line in BufReader::new(output).lines().map_while(std::result::Result::ok) {
                    if tell.send(line).is_err() {
                        break;
                    }
                }
                guard.set(|state| state.is_alone = true);
            });
        }
        let watched = Arc::clone(&guard);
        thread::spawn(move || watched.watch());
        let input = process.stdin.take();
        let mut this = Self { process, input, answers, limit, guard, held: None };
        this.answer(word::READY)?;
        Ok(this)
    }

    /// The mount point that could not be frozen since another process has it frozen.
    #[must_use]
    pub fn held_elsewhere(&self) -> Option<&Path> {
        self.held.as_deref()
    }

    fn ask(&mut self, what: &str) -> Result<()> {
        let asked = match &mut self.input {
            Some(input) => writeln!(input, "{what}").and_then(|()| input.flush()),
            None => Err(std::io::ErrorKind::BrokenPipe.into()),
        };
        asked.map_err(|_| self.gone())
    }

    /// The other process has ended.
    fn gone(&mut self) -> Error {
        let mut state = self.guard.state();
        self.guard.thaw(&mut state);
        Error::new(Class::Io, "the freezing process was killed")
    }

    /// The next answer; gives up when the guard had to thaw.
    fn next_answer(&mut self) -> Result<String> {
        let (started, most) = (Instant::now(), self.limit.saturating_add(MOST_FLUSHING));
        loop {
            match self.answers.recv_timeout(STEP) {
                Ok(answer) => return Ok(answer),
                Err(RecvTimeoutError::Timeout) if self.guard.state().was_thawed => {
                    return Err(late(self.limit));
                }
                Err(RecvTimeoutError::Timeout) if started.elapsed() < most => {}
                Err(_) if self.guard.state().was_thawed => return Err(late(self.limit)),
                Err(_) => return Err(self.gone()),
            }
        }
    }

    /// The rest of the answer after `word`.
    fn answer(&mut self, word: &str) -> Result<String> {
        let answer = self.next_answer()?;
        let (first, rest) = answer.split_once(' ').unwrap_or((&answer, ""));
        match first {
            word::LATE => Err(late(Duration::from_micros(rest.parse().unwrap_or(0)))),
            word::FAILED => Err(Error::refused(rest.to_owned())),
            word::BUSY => {
                self.held = Some(PathBuf::from(rest));
                Err(Error::refused(format!("{rest} is frozen already")))
            }
            first if first == word => Ok(rest.to_owned()),
            _ => Err(Error::bug(format!("unexpected answer: {answer}"))),
        }
    }
}

fn late(after: Duration) -> Error {
    Error::mismatch(format!(
        "it was thawed before all was read, after {:.1} s",
        after.as_secs_f64()
    ))
}

impl Freeze for Freezer {
    fn flush(&mut self) -> Result<()> {
        self.ask(word::FLUSH)?;
        self.answer(word::FLUSHED).map(|_| ())
    }

    fn freeze(&mut self) -> Result<Vec<bool>> {
        self.guard.set(|state| {
            state.frozen_since = Some(Instant::now());
            state.was_thawed = false;
        });
        self.ask(word::FREEZE)?;
        let frozen = self.answer(word::FROZEN);
        if frozen.is_err() {
            // The other process has thawed everything.
            self.guard.set(|state| state.frozen_since = None);
        }
        Ok(frozen?.chars().map(|one| one == '1').collect())
    }

    fn thaw(&mut self) -> Result<Duration> {
        self.ask(word::THAW)?;
        let held = self.answer(word::THAWED);
        self.guard.set(|state| state.frozen_since = None);
        Ok(Duration::from_micros(held?.parse().unwrap_or(u64::MAX)))
    }
}

impl Drop for Freezer {
    fn drop(&mut self) {
        // Without its input, it thaws and ends; unless it is stopped.
        self.input = None;
        let started = Instant::now();
        while matches!(self.process.try_wait(), Ok(None)) {
            if started.elapsed() >= MOST_ENDING {
                let _ = self.process.kill();
                let _ = self.process.wait();
                break;
            }
            thread::sleep(POLL);
        }
        let mut state = self.guard.state();
        self.guard.thaw(&mut state);
        state.is_over = true;
        self.guard.changed.notify_all();
    }
}
