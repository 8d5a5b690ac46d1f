//! `imbrik shelf nightly`: saving a card automatically every night.

use super::{UNTOUCHED, open};
use crate::{
    args::ShelfNightlyArgs,
    exit::Exit,
    failure::{self, Failure, Outcome},
    render::{json, quoted},
    session::Session,
};
use std::{
    fs,
    io::Write as _,
    path::{Path, PathBuf},
};

const NAME: &str = "imbrik-nightly";
/// The path of the log, in a folder that systemd creates.
const LOG: &str = "/var/log/imbrik/nightly.log";
const LOG_OF_CRON: &str = "/var/log/imbrik-nightly.log";
/// How many images are checked a night: sixty a month.
const CHECKED: usize = 2;

pub(super) fn run(session: &Session, args: &ShelfNightlyArgs) -> Outcome<Exit> {
    let shelf = open(session, Some(&args.folder))?;
    let there = |path: &Path| {
        fs::canonicalize(path)
            .map_err(|error| failure::system(quoted(path), error).state(UNTOUCHED))
    };
    let folder = there(shelf.folder())?;
    let source = match args.source.is_dir() {
        true => there(&args.source)?,
        // A device may be another one by then; a name of the card stays.
        false => args.source.clone(),
    };
    let program = std::env::current_exe()
        .map_err(|error| failure::system("finding this program", error).state(UNTOUCHED))?;
    let night = Night { program, folder, source, args };
    if args.cron {
        let line = night.cron()?;
        if session.out.is_json() {
            told(session, "printed", Vec::new(), Some(line));
        } else {
            session.out.verbatim(&line);
        }
        return Ok(Exit::Done);
    }
    let units =
        [(format!("{NAME}.service"), night.service()?), (format!("{NAME}.timer"), night.timer())];
    if args.install {
        return install(session, &args.units, &units, args.replace);
    }
    if session.out.is_json() {
        let units = units.into_iter().map(|(name, text)| json::ShelfUnit { path: name, text });
        told(session, "printed", units.collect(), None);
        return Ok(Exit::Done);
    }
    for (name, text) in &units {
        session.out.verbatim(&format!("# {}\n{text}", args.units.join(name).display()));
    }
    session.out.note("Nothing was written: --install puts these two files there.");
    Ok(Exit::Done)
}

fn told(session: &Session, result: &str, units: Vec<json::ShelfUnit>, cron: Option<String>) {
    let more = json::ShelfNightly { units, cron };
    session.out.line(&json::object("shelf", result, more).to_string());
}

/// The command for every night.
struct Night<'a> {
    program: PathBuf,
    folder: PathBuf,
    source: PathBuf,
    args: &'a ShelfNightlyArgs,
}

impl Night<'_> {
    /// The arguments of the program.
    fn words(&self) -> Vec<String> {
        let words = ["shelf", "add", "--live", "--brief", "--thin", "--check"];
        let mut words: Vec<_> = words.map(str::to_owned).to_vec();
        words.push(CHECKED.to_string());
        if let Some(limit) = self.args.freeze_limit {
            words.push("--freeze-limit".to_owned());
            words.push(format!("{}s", limit.0.as_secs()));
        }
        words
    }

    fn service(&self) -> Outcome<String> {
        let program = for_a_unit(&self.program)?;
        let (folder, source) = (for_a_unit(&self.folder)?, for_a_unit(&self.source)?);
        let words = self.words().join(" ");
        Ok(filled(
            include_str!("nightly.service"),
            &[
                ("{program}", &program),
                ("{words}", &words),
                ("{log}", LOG),
                ("{folder}", &folder),
                ("{source}", &source),
            ],
        ))
    }

    fn timer(&self) -> String {
        filled(include_str!("nightly.timer"), &[("{at}", &self.args.at.to_string())])
    }

    /// A line for a crontab: minute, hour, user, and command.
    fn cron(&self) -> Outcome<String> {
        let place = |path: &Path| {
            // There, a percent sign is the end of the line.
            let text = quoted(path).replace('%', "\\%");
            // The shell of cron does not know $'...'.
            match path.to_str().is_some() && !text.contains('\n') && !text.contains("$'") {
                true => Ok(text),
                false => Err(unspeakable(path)),
            }
        };
        let words = self.words().join(" ");
        let (program, folder, source) =
            (place(&self.program)?, place(&self.folder)?, place(&self.source)?);
        let at = self.args.at;
        let (minute, hour) = (at.minute, at.hour);
        Ok(format!(
            "{minute} {hour} * * * root {program} {words} --log {LOG_OF_CRON} {folder} {source}\n"
        ))
    }
}

/// `text` with placeholders in braces replaced; replacements are not expanded again.
fn filled(text: &str, with: &[(&str, &str)]) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find('{') {
        let (before, behind) = rest.split_at(at);
        out.push_str(before);
        let (len, value) = match with.iter().find(|(name, _)| behind.starts_with(name)) {
            Some((name, value)) => (name.len(), *value),
            None => (1, "{"),
        };
        out.push_str(value);
        rest = behind.get(len..).unwrap_or_default();
    }
    out + rest
}

fn unspeakable(path: &Path) -> Failure {
    Failure::usage(format!("{} has characters that such a file cannot contain", quoted(path)))
        .state(UNTOUCHED)
        .next("Rename it with letters, digits, dots and dashes.")
}

/// A path as a unit file needs it, where `%` has a meaning.
fn for_a_unit(path: &Path) -> Outcome<String> {
    // `$` is doubled in ExecStart= and not in RequiresMountsFor=: no text is right in both.
    let is_plain = |text: &&str| !text.chars().any(|c| c.is_control() || c == '$');
    let text = path.to_str().filter(is_plain).ok_or_else(|| unspeakable(path))?;
    let escaped = text.replace('%', "%%");
    let plain = |c: char| c.is_alphanumeric() || "/._-+:@,=%".contains(c);
    Ok(match escaped.chars().all(plain) {
        true => escaped,
        false => format!("\"{}\"", escaped.replace('\\', "\\\\").replace('"', "\\\"")),
    })
}

/// Puts `units` into the folder `place`.
fn install(
    session: &Session,
    place: &Path,
    units: &[(String, String)],
    replace: bool,
) -> Outcome<Exit> {
    for (name, text) in units {
        let path = place.join(name);
        let there = fs::read_to_string(&path).ok();
        if there.is_some_and(|there| there != *text) && !replace {
            return Err(Failure::refused(format!("{} exists with other content", quoted(&path)))
                .state("It is unchanged; nothing was written.")
                .next("Check it, and add --replace to overwrite it."));
        }
    }
    let mut written = Vec::new();
    for (name, text) in units {
        let path = place.join(name);
        let put = || -> std::io::Result<()> {
            let mut file = tempfile::NamedTempFile::new_in(place)?;
            file.write_all(text.as_bytes())?;
            let mode = std::os::unix::fs::PermissionsExt::from_mode(0o644);
            file.as_file().set_permissions(mode)?;
            file.as_file().sync_all()?;
            file.persist(&path)?;
            Ok(())
        };
        put().map_err(|error| {
            failure::system(format!("writing {}", quoted(&path)), error)
                .state("The previous file is unchanged.")
        })?;
        written.push(json::ShelfUnit { path: json::path(&path), text: text.clone() });
    }
    if session.out.is_json() {
        told(session, "installed", written, None);
        return Ok(Exit::Done);
    }
    for unit in &written {
        session.out.line(&format!("Written   {}", unit.path));
    }
    session.out.next(&format!("systemctl daemon-reload && systemctl enable --now {NAME}.timer"));
    session.out.command(
        "Try it    ",
        &format!("systemctl start {NAME}.service && journalctl -u {NAME} -n 5"),
    );
    Ok(Exit::Done)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn placeholders_in_values_are_not_expanded() {
        let with = [("{folder}", "/mnt/{source}"), ("{source}", "/")];
        assert_eq!(filled("a {folder} b {source} {c}", &with), "a /mnt/{source} b / {c}");
    }

    #[test]
    fn names_in_units_are_escaped() {
        let of = |text: &str| for_a_unit(Path::new(text)).map_err(|_| ());
        assert_eq!(of("/mnt/cards"), Ok("/mnt/cards".to_owned()));
        assert_eq!(of("/mnt/my cards"), Ok("\"/mnt/my cards\"".to_owned()));
        assert_eq!(of("/mnt/100%"), Ok("/mnt/100%%".to_owned()));
        assert_eq!(of("/mnt/$HOME"), Err(()));
        assert_eq!(of("/mnt/a\"b\\c"), Ok("\"/mnt/a\\\"b\\\\c\"".to_owned()));
        assert_eq!(of("/mnt/a\nExecStart=x"), Err(()));
    }
}
