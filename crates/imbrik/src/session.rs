//! The context of a command: the user, the terminal, the cards.

use crate::{
    args::Global,
    config::Config,
    confirm::{self, Policy},
    exit::Exit,
    failure::{Failure, Outcome},
    fleet::Fleet,
    interrupt::Interrupt,
    pipe,
    render::{Out, listed, only_plain, progress::Progress, quoted, waiting},
    resolve,
};
use imbrik_core::{
    Class,
    card::{Card, Standing, standing},
    fs::ResizeOptions,
    image::{Image, Owner, Unpack},
    layout::{Lost, View, lost_in},
    progress::Watch,
    store::ReadAt,
    units::Span,
};
use std::{
    borrow::Cow,
    cell::Cell,
    env,
    ffi::OsString,
    fs::{self, File},
    io::{self, BufRead, BufReader, IsTerminal},
    path::{self, Path, PathBuf},
    sync::Arc,
};

const UNWRITTEN: &str = "Nothing was written.";

/// The environment of the process, read once: no other code reads it.
#[derive(Clone, Debug)]
pub(crate) struct Environment {
    pub(crate) rack: Option<PathBuf>,
    pub(crate) color: bool,
    pub(crate) config_folder: Option<PathBuf>,
    pub(crate) owner: Option<Owner>,
    /// The folder for large temporary files.
    pub(crate) temporary: PathBuf,
    pub(crate) interrupt: Interrupt,
    /// True if there is a user at a terminal.
    pub(crate) asks: bool,
    /// The path of the log.
    pub(crate) log: Option<PathBuf>,
}

impl Environment {
    pub(crate) fn of_process() -> Self {
        let set = |name: &str| env::var_os(name).filter(|value| !value.is_empty());
        let owner = sudo_caller();
        let home = match owner {
            Some(owner) => home_of(owner.uid, Path::new("/etc/passwd")),
            None => set("HOME").map(PathBuf::from),
        };
        let locale = ["LC_ALL", "LC_CTYPE", "LANG"].into_iter().find_map(set);
        let locale = locale.map(|name| name.to_string_lossy().to_ascii_lowercase());
        // Without a word on it, a terminal of today is taken for one that knows UTF-8.
        let is_plain = locale.is_some_and(|name| !name.contains("utf-8") && !name.contains("utf8"));
        if is_plain {
            only_plain();
        }
        let xdg = set("XDG_CONFIG_HOME").filter(|_| owner.is_none()).map(PathBuf::from);
        Self {
            rack: set("IMBRIK_RACK").map(PathBuf::from),
            color: set("NO_COLOR").is_none() && set("TERM") != Some(OsString::from("dumb")),
            config_folder: xdg.or_else(|| home.map(|home| home.join(".config"))),
            owner,
            // Unlike /tmp, which often lives in memory, this is made for large files.
            temporary: set("TMPDIR").map_or_else(|| "/var/tmp".into(), PathBuf::from),
            interrupt: Interrupt::listen(),
            asks: io::stdin().is_terminal() && io::stderr().is_terminal(),
            log: set("IMBRIK_LOG").map(PathBuf::from),
        }
    }
}

/// The person who called `sudo`: images belong to them.
fn sudo_caller() -> Option<Owner> {
    let number = |name| env::var(name).ok()?.parse().ok();
    let is_root = rustix::process::geteuid().is_root();
    let (uid, gid) = number("SUDO_UID").zip(number("SUDO_GID"))?;
    is_root.then_some(Owner { uid, gid })
}

/// The home folder of a user, from the password file.
fn home_of(uid: u32, passwd: &Path) -> Option<PathBuf> {
    let text = fs::read_to_string(passwd).ok()?;
    let mut users = text.lines().map(|line| line.split(':').collect::<Vec<_>>());
    users.find_map(|user| match user[..] {
        [_, _, number, _, _, home, ..] if number.parse() == Ok(uid) => Some(home.into()),
        _ => None,
    })
}

/// The terminal that the program was started from, whatever its input and output are.
fn terminal() -> io::Result<File> {
    File::open("/dev/tty")
}

/// A command under way.
pub(crate) struct Session {
    pub(crate) out: Out,
    pub(crate) config: Config,
    pub(crate) fleet: Fleet,
    pub(crate) environment: Environment,
    /// True if an image comes from standard input, so that answers must come from the terminal.
    input_is_image: Cell<bool>,
}

impl Session {
    pub(crate) fn start(global: &Global, environment: Environment) -> Outcome<Self> {
        let config = Config::read(environment.config_folder.as_deref())?;
        let named = [
            (&global.rack, "--rack"),
            (&environment.rack, "IMBRIK_RACK"),
            (&config.rack, "the configuration"),
        ];
        let named = named.into_iter().find_map(|(rack, by)| Some((rack.clone()?, by)));
        // A relative name depends on the current folder: the message contains the absolute one.
        let rack = named.as_ref().map(|(rack, _)| path::absolute(rack).unwrap_or(rack.clone()));
        let fleet = match Fleet::open(rack.as_deref()) {
            Ok(fleet) => fleet,
            Err(failure) if global.rack.is_some() => return Err(failure),
            Err(failure) => {
                let by = named.map(|(rack, by)| format!(" ({by} says {})", quoted(&rack)));
                let what = failure.what + &by.unwrap_or_default();
                let no_rack = Some(Failure { what, ..failure });
                Fleet { no_rack, ..Fleet::open(None)? }
            }
        };
        Ok(Self {
            out: Out::new(global.json, environment.color).with(global.verbose, global.rack.clone()),
            fleet,
            config,
            environment,
            input_is_image: Cell::new(false),
        })
    }

    /// The files in the unreadable `spans` of `view`. Reports the reason if they can't be determined.
    pub(crate) fn lost_in(&self, view: &View, spans: &[Span]) -> Vec<Lost> {
        if spans.is_empty() {
            return Vec::new();
        }
        let view: Arc<dyn ReadAt> = Arc::new(view.clone());
        let found = lost_in(&view, spans, &self.environment.interrupt.cancel);
        found.unwrap_or_else(|error| {
            self.out.warn(&format!("The names of lost files could not be determined: {error}."));
            Vec::new()
        })
    }

    /// Runs `work`, which prints nothing. On a terminal, shows `what` if it takes a while.
    pub(crate) fn waiting<T>(&self, what: &'static str, work: impl FnOnce() -> T) -> T {
        match io::stderr().is_terminal() && !self.out.is_brief() {
            true => waiting::spinning(what, work),
            false => work(),
        }
    }

    /// A progress display for a transfer of `steps` steps.
    pub(crate) fn progress(&self, steps: usize) -> Progress {
        match self.out.is_brief() {
            true => Progress::silent(),
            false => Progress::new(steps, self.environment.color),
        }
    }

    /// Opens the image `path`, `-` for standard input. An image without random access is unpacked first, with its own
    /// progress.
    pub(crate) fn open_image(&self, path: &Path) -> Outcome<Image> {
        let path = &*self.image_path(path)?;
        let progress = self.progress(1);
        let cancel = &self.environment.interrupt.cancel;
        let watch = Watch { observer: &progress, cancel };
        let in_archive = resolve::in_archive(path);
        let entry = in_archive.as_ref().map(|(_, entry)| entry.as_str());
        let path = in_archive.as_ref().map_or(path, |(archive, _)| archive);
        let unpack = Unpack { folder: &self.environment.temporary, watch, entry };
        let opened = if pipe::is_pipe(path) {
            self.input_is_image.set(true);
            let mut input = pipe::Input::open(cancel.clone())?;
            Image::from_pipe(&mut input, unpack)
        } else {
            resolve::must_be_an_image(&self.fleet, path)?;
            resolve::must_be_there(path)?;
            Image::open(path, Some(unpack))
        };
        opened.map_err(|error| match error.class() {
            // Damage is a result of checking the image, whichever command found it.
            Class::Corrupt | Class::Ended | Class::Mismatch => {
                Failure { exit: Exit::Mismatch, ..Failure::from(error) }
            }
            Class::NoRoom => Failure::from(error)
                .next("Set TMPDIR to a folder on a disk with more room, and repeat."),
            _ => Failure::from(error),
        })
    }

    /// The image called `name`: a file, or else the newest intact image of that card, or the one named as `CARD@DATE`
    /// or `CARD@pinned`, on the shelf in the configuration or in the folder before the name.
    pub(crate) fn image_path<'a>(&self, name: &'a Path) -> Outcome<Cow<'a, Path>> {
        match resolve::on_shelf(self.config.images.as_deref(), name)? {
            None => Ok(Cow::Borrowed(name)),
            Some(found) => {
                let title = quoted(&found.path);
                let age = crate::render::time::date_and_time(found.made_at);
                self.out.note(&format!("{} is {title}, saved {age}.", quoted(name)));
                Ok(Cow::Owned(found.path))
            }
        }
    }

    /// Options for resizing; `as_found` keeps faults that don't concern blocks.
    pub(crate) fn resize_options(&self, as_found: bool) -> ResizeOptions<'_> {
        ResizeOptions {
            as_found,
            cancel: &self.environment.interrupt.cancel,
            temporary: Some(&self.environment.temporary),
            memory: ResizeOptions::MEMORY,
        }
    }

    /// How to ask for a confirmation.
    pub(crate) fn policy(&self, yes: bool) -> Policy {
        let has_terminal = match self.input_is_image.get() {
            true => io::stderr().is_terminal() && terminal().is_ok(),
            false => self.environment.asks,
        };
        match (yes, has_terminal && !self.out.is_json()) {
            (true, _) => Policy::Yes,
            (false, true) => Policy::Ask,
            (false, false) => Policy::Nobody,
        }
    }

    /// The source of answers: the terminal itself while an image comes from standard input.
    fn answers(&self) -> Box<dyn BufRead> {
        match terminal() {
            Ok(terminal) if self.input_is_image.get() => Box::new(BufReader::new(terminal)),
            _ => Box::new(io::stdin().lock()),
        }
    }

    /// Refuses to go on if a question can't be asked, in a command that has no plan to look at.
    pub(crate) fn must_be_able_to_ask(&self, yes: bool) -> Outcome<()> {
        if self.policy(yes) != Policy::Nobody {
            return Ok(());
        }
        Err(Failure::refused("this needs confirmation, and there is no terminal to ask on")
            .next("To do it without being asked, add --yes."))
    }

    /// Asks the user to type the name of the data to lose.
    pub(crate) fn confirm_by_typing(&self, word: &str, question: &str, yes: bool) -> Outcome<()> {
        let policy = self.policy(yes);
        self.environment.interrupt.while_asking(UNWRITTEN, || {
            let (mut input, mut output) = (self.answers(), io::stderr());
            confirm::typed(word, question, policy, &mut *input, &mut output)
        })
    }

    /// The answer of the user; empty without a user. `state` is shown if the question is interrupted.
    pub(crate) fn ask(&self, question: &str, state: &str) -> String {
        if self.policy(false) != Policy::Ask {
            return String::new();
        }
        self.environment.interrupt.while_asking(state, || {
            let (mut input, mut output) = (self.answers(), io::stderr());
            confirm::ask(question, &mut *input, &mut output)
        })
    }

    /// Asks that a card may be written, and is not mounted any more.
    pub(crate) fn make_writable(
        &self,
        card: &Card,
        allow_fixed: bool,
        unmount: bool,
    ) -> Outcome<()> {
        match standing(card, allow_fixed) {
            Standing::Ready => Ok(()),
            Standing::Mounted(mounts) => self.make_unmounted(card, &mounts, unmount),
            other => {
                let what = other.refusal(card.path.display()).unwrap_or_default();
                Err(Failure::refused(what).next(
                    "`imbrik cards` shows what uses it. To write to a fixed disk, add --allow-fixed.",
                ))
            }
        }
    }

    /// Asks a question whose default answer is yes. Without a terminal, the answer is no.
    pub(crate) fn agrees(&self, question: &str) -> bool {
        self.policy(false) == Policy::Ask
            && self.environment.interrupt.while_asking(UNWRITTEN, || {
                let (mut input, mut output) = (self.answers(), io::stderr());
                confirm::yes_unless_no(question, &mut *input, &mut output)
            })
    }

    /// Refuses a mounted card at once if nobody can be asked to have it unmounted.
    pub(crate) fn refuse_mounted(&self, card: &Card, told_to: bool) -> Outcome<()> {
        let mounts = card.mounts();
        match mounts.is_empty() || told_to || self.policy(false) == Policy::Ask {
            true => Ok(()),
            false => self.make_unmounted(card, &mounts, false),
        }
    }

    /// Unmounts a card on request or after a question, or refuses with a remedy.
    pub(crate) fn make_unmounted(
        &self,
        card: &Card,
        mounts: &[PathBuf],
        told_to: bool,
    ) -> Outcome<()> {
        let at: Vec<_> = mounts.iter().map(|at| at.display().to_string()).collect();
        let name = card.path.display();
        if !told_to {
            let these = match at.len() {
                1 => "it".to_owned(),
                2 => "both".to_owned(),
                count => format!("all {count}"),
            };
            let question = format!("{name} is mounted at {}. Unmount {these}?", listed(&at));
            if !self.agrees(&question) {
                return Err(Failure::refused(format!("{name} is mounted at {}", at.join(", ")))
                    .state("Nothing was changed.")
                    .next("Unmount it, or repeat the command with --unmount."));
            }
        }
        let gone = self.fleet.host_of(card).unmount(card).map_err(|error| {
            Failure::from(error)
                .state("Nothing was written.")
                .next("Close what uses it (an open folder, a terminal in it) and repeat.")
        })?;
        for at in gone {
            self.out.note(&format!("Unmounted {}", at.display()));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn home_folder_is_found_by_user_id() {
        let file = tempfile::NamedTempFile::new().unwrap();
        let text =
            "root:x:0:0:root:/root:/bin/sh\nbroken\nkeeper:x:1000:1000:K,,,:/home/k:/bin/sh\n";
        fs::write(file.path(), text).unwrap();
        assert_eq!(home_of(1000, file.path()), Some("/home/k".into()));
        assert_eq!(home_of(1001, file.path()), None);
    }
}
