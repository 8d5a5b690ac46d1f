//! Filesystems that stand still for a moment: `FIFREEZE` and `FITHAW` of Linux.
//!
//! A filesystem that was never thawed would stop the machine. So it is another process that freezes, and
//! thaws in any case: when it is told to, when the time is over, and when whoever told it is gone. Both speak in lines through
//! pipes. What is frozen is thawed by whoever started that process, too, should it end.

use super::ioctl;
use crate::card::Freeze;
use imbrik_store::error::{Class, Error, Result};
use std::{
    fs::File,
    io::{BufRead, BufReader, Read, Write},
    path::{Path, PathBuf},
    process::{Child, ChildStdin, Command, Stdio},
    sync::mpsc::{self, Receiver, RecvTimeoutError},
    thread,
    time::{Duration, Instant},
};

/// How long an answer may take beyond the time for which something is frozen: before that, all that was
/// written up to then goes to the card.
const MOST_FLUSHING: Duration = Duration::from_secs(600);

/// What is asked of the other process, and what it answers.
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
}

/// A mounted filesystem, held open so that it stays mounted.
struct Mounted {
    at: PathBuf,
    folder: File,
    is_frozen: bool,
}

impl Mounted {
    fn open(at: &Path) -> Result<Self> {
        let folder = File::open(at);
        let folder = folder.map_err(|e| Error::io(format!("opening {}", at.display()), e))?;
        Ok(Self { at: at.to_owned(), folder, is_frozen: false })
    }

    fn flush(&self) -> Result<()> {
        rustix::fs::syncfs(&self.folder)
            .map_err(|e| Error::io(format!("flushing {}", self.at.display()), e.into()))
    }

    /// Freezes it where its kind can be frozen.
    fn freeze(&mut self) -> Result<()> {
        match ioctl::freeze(&self.folder) {
            Ok(()) => self.is_frozen = true,
            Err(rustix::io::Errno::OPNOTSUPP | rustix::io::Errno::NOTTY) => self.flush()?,
            Err(rustix::io::Errno::BUSY) => {
                return Err(Error::refused(format!(
                    "{} is frozen already, by something else",
                    self.at.display()
                )));
            }
            Err(errno) => {
                return Err(Error::io(format!("freezing {}", self.at.display()), errno.into()));
            }
        }
        Ok(())
    }

    /// Answers whether it was frozen up to now.
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

/// Thaws all, the one that was frozen last first; answers whether each was frozen up to now.
fn thaw_all(mounted: &mut [Mounted]) -> bool {
    let were_frozen: Vec<_> = mounted.iter_mut().rev().map(Mounted::thaw).collect();
    were_frozen.into_iter().all(|was_frozen| was_frozen)
}

/// The other process: freezes `mounts` in their order when `input` asks for it, each time for at most `limit`,
/// and answers on `output`. Ends when `input` does, with everything thawed.
///
/// # Errors
/// When it can no longer answer.
pub fn freeze_on_demand(
    mounts: &[PathBuf],
    limit: Duration,
    input: impl Read + Send + 'static,
    mut output: impl Write,
) -> Result<()> {
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
                if let Err(error) = mounted.iter_mut().try_for_each(Mounted::freeze) {
                    thaw_all(&mut mounted);
                    say(format!("{} {error}", word::FAILED))?;
                    continue;
                }
                let are: Vec<_> =
                    mounted.iter().map(|one| if one.is_frozen { "1" } else { "0" }).collect();
                let answered = say(format!("{} {}", word::FROZEN, are.join("")));
                let left = limit.saturating_sub(begun.elapsed());
                let asked = answered.map(|()| told.recv_timeout(left));
                let was_frozen = thaw_all(&mut mounted);
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

/// Filesystems that another process freezes and thaws.
pub struct Freezer {
    mounts: Vec<PathBuf>,
    process: Child,
    input: Option<ChildStdin>,
    answers: Receiver<String>,
    limit: Duration,
    is_frozen: bool,
}

impl Freezer {
    /// Starts `process`, which runs [`freeze_on_demand`] for `mounts` and `limit` with its standard input and
    /// output.
    ///
    /// # Errors
    /// When it cannot be started, or one of `mounts` cannot be opened.
    pub fn start(process: &mut Command, mounts: Vec<PathBuf>, limit: Duration) -> Result<Self> {
        let spawned = process.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut process =
            spawned.spawn().map_err(|e| Error::io("starting what freezes and thaws", e))?;
        let (tell, answers) = mpsc::channel();
        if let Some(output) = process.stdout.take() {
            thread::spawn(move || {
                for line in BufReader::new(output).lines().map_while(std::result::Result::ok) {
                    if tell.send(line).is_err() {
                        return;
                    }
                }
            });
        }
        let input = process.stdin.take();
        let mut this = Self { mounts, process, input, answers, limit, is_frozen: false };
        this.answer(word::READY)?;
        Ok(this)
    }

    fn ask(&mut self, what: &str) -> Result<()> {
        let asked = match &mut self.input {
            Some(input) => writeln!(input, "{what}").and_then(|()| input.flush()),
            None => Err(std::io::ErrorKind::BrokenPipe.into()),
        };
        asked.map_err(|_| self.gone())
    }

    /// What freezes is gone: it thawed when it ended, unless it was killed.
    fn gone(&mut self) -> Error {
        self.thaw_here();
        Error::new(Class::Io, "what freezes and thaws was ended")
    }

    /// Thaws without it.
    fn thaw_here(&mut self) {
        if std::mem::take(&mut self.is_frozen) {
            for at in self.mounts.iter().rev() {
                if let Ok(folder) = File::open(at) {
                    let _ = ioctl::thaw(&folder);
                }
            }
        }
    }

    /// What stands behind `word` in the answer.
    fn answer(&mut self, word: &str) -> Result<String> {
        let answer = match self.answers.recv_timeout(self.limit.saturating_add(MOST_FLUSHING)) {
            Ok(answer) => answer,
            Err(_) => return Err(self.gone()),
        };
        let (first, rest) = answer.split_once(' ').unwrap_or((&answer, ""));
        match first {
            word::LATE => Err(Error::mismatch(format!(
                "it was thawed before all was read, after {:.1} s",
                rest.parse::<f64>().unwrap_or(0.0) / 1e6
            ))),
            word::FAILED => Err(Error::refused(rest.to_owned())),
            first if first == word => Ok(rest.to_owned()),
            _ => Err(Error::bug(format!("an answer that was not asked for: {answer}"))),
        }
    }
}

impl Freeze for Freezer {
    fn flush(&mut self) -> Result<()> {
        self.ask(word::FLUSH)?;
        self.answer(word::FLUSHED).map(|_| ())
    }

    fn freeze(&mut self) -> Result<Vec<bool>> {
        // From now on: whatever becomes of the other process, nothing stays frozen.
        self.is_frozen = true;
        self.ask(word::FREEZE)?;
        let frozen = self.answer(word::FROZEN);
        self.is_frozen = frozen.is_ok();
        Ok(frozen?.chars().map(|one| one == '1').collect())
    }

    fn thaw(&mut self) -> Result<Duration> {
        self.ask(word::THAW)?;
        let held = self.answer(word::THAWED);
        self.is_frozen = false;
        Ok(Duration::from_micros(held?.parse().unwrap_or(u64::MAX)))
    }
}

impl Drop for Freezer {
    fn drop(&mut self) {
        // Without its input, it thaws and ends.
        self.input = None;
        let _ = self.process.wait();
        self.thaw_here();
    }
}
