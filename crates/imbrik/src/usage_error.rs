//! Explains a command line that can't be run, in the same form as every other failure.

use crate::{
    args::{self, Cli},
    exit::Exit,
    failure::Failure,
    render::{Out, json, listed},
    session::Environment,
};
use clap::{
    Command, CommandFactory,
    error::{ContextKind, ContextValue, ErrorKind},
};
use std::ffi::OsString;

const NOTHING: &str = "Nothing was done.";

/// Other words for commands, and the command for each.
const COMMANDS: [(&str, &str); 54] = [
    ("backup", "save"),
    ("burn", "restore"),
    ("cat", "files get"),
    ("compare", "check"),
    ("compress", "repack"),
    ("convert", "repack"),
    ("copy", "clone"),
    ("cp", "files get"),
    ("create", "save"),
    ("devices", "cards"),
    ("diff", "files diff"),
    ("du", "files list"),
    ("dump", "save"),
    ("expand", "fit"),
    ("export", "files get"),
    ("extract", "files get"),
    ("flash", "restore"),
    ("get", "files get"),
    ("grow", "fit"),
    ("hash", "check"),
    ("history", "shelf list"),
    ("info", "show"),
    ("inspect", "show"),
    ("list", "cards"),
    ("load", "restore"),
    ("ls", "files list"),
    ("mount", "files get"),
    ("mv", "files rename"),
    ("prune", "shelf thin"),
    ("put", "files put"),
    ("read", "save"),
    ("recover", "mend"),
    ("rescue", "save"),
    ("resize", "fit"),
    ("rm", "files remove"),
    ("rotate", "shelf thin"),
    ("shrink", "fit"),
    ("status", "cards"),
    ("test", "check"),
    ("verify", "check"),
    ("write", "restore"),
    ("files add", "files put"),
    ("files cat", "files get"),
    ("files copy", "files carry"),
    ("files cp", "files get"),
    ("files extract", "files get"),
    ("files ls", "files list"),
    ("files mkdir", "files folder"),
    ("files mv", "files rename"),
    ("files rm", "files remove"),
    ("shelf delete", "shelf remove"),
    ("shelf ls", "shelf list"),
    ("shelf rm", "shelf remove"),
    ("shelf status", "shelf due"),
];

/// Words that are neither commands nor options, and advice for each.
const EXPLAINED: [(&str, &str); 24] = [
    ("eject", "A card can be taken out as soon as the command that used it says so."),
    ("erase", "To overwrite a card with zeros, see `imbrik wipe --help`."),
    ("format", "No command formats a card; `imbrik restore` writes an image to it."),
    ("repair", "Filesystems are not repaired; `imbrik mend` adds missing data to an image."),
    ("unmount", "Commands that need it have --unmount."),
    ("--compress", "Use --pack KIND and --level LEVEL."),
    ("--dry-run", "Use --plan."),
    ("--expand", "Use --fill; a volume that filled its card fills the next one anyway."),
    ("--force", "Use --yes to answer the question, or --replace for an existing image."),
    ("--grow", "Use --fill; a volume that filled its card fills the next one anyway."),
    ("--no-verify", "Use --no-check."),
    ("--output", "The image follows the card: imbrik save CARD IMAGE."),
    ("--overwrite", "Use --replace for an existing image."),
    ("--partition", "Use --only PART to save a partition, or --into PART to restore one."),
    ("--quiet", "Progress is on standard error: add 2>/dev/null."),
    ("--shrink", "Use --fit when you save, or `imbrik fit` afterwards."),
    ("--size", "Use `imbrik fit IMAGE --to SIZE`."),
    ("--verify", "save, restore and clone read back what they write, unless --no-check is given."),
    ("-f", "Use --yes to answer the question, or --replace for an existing image."),
    ("-n", "Use --plan."),
    ("-o", "The image follows the card: imbrik save CARD IMAGE."),
    ("-p", "Use --only PART to save a partition, or --into PART to restore one."),
    ("-q", "Progress is on standard error: add 2>/dev/null."),
    ("-y", "Use --yes."),
];

/// Prints what is wrong with the command line, and what to type instead.
pub(crate) fn report(error: &clap::Error, typed: &[OsString], environment: &Environment) -> Exit {
    let words: Vec<&str> = typed.iter().skip(1).filter_map(|word| word.to_str()).collect();
    let path = command_path(&words);
    let failure = explained(error, &path);
    let is_json = words.contains(&"--json");
    let name = if path.is_empty() { "imbrik" } else { &path };
    let out = Out::new(is_json, environment.color);
    out.failure_as(&json::failure(name, &failure), &failure);
    Exit::Usage
}

/// The known command and subcommand in `words`: "files list".
fn command_path(words: &[&str]) -> String {
    let mut path = Vec::new();
    let mut at: Command = Cli::command();
    for word in words {
        match at.find_subcommand(word).cloned() {
            Some(command) => {
                path.push(*word);
                at = command;
            }
            None if path.is_empty() && word.starts_with('-') => {}
            None => break,
        }
    }
    path.join(" ")
}

/// The failure for an error of the parser in the command `path`.
fn explained(error: &clap::Error, path: &str) -> Failure {
    let help = match path {
        "" => "imbrik --help".to_owned(),
        path => format!("imbrik {path} --help"),
    };
    let (what, next) = match error.kind() {
        ErrorKind::InvalidSubcommand => {
            let word = text_of(error, ContextKind::InvalidSubcommand);
            let scoped = format!("{path} {word}").trim_start().to_owned();
            let what = format!("{scoped} is not a command");
            match instead_of(&scoped) {
                Some(next) => return Failure::usage(what).state(NOTHING).next(next),
                None => (what, similar(error, ContextKind::SuggestedSubcommand, path)),
            }
        }
        ErrorKind::UnknownArgument => {
            let word = text_of(error, ContextKind::InvalidArg);
            let option = word.split_once('=').map_or(word.as_str(), |(option, _)| option);
            let what = match word.starts_with('-') {
                true if path.is_empty() => format!("{option} is not an option"),
                true => format!("{option} is not an option of `imbrik {path}`"),
                false => format!("{word} is one argument too many"),
            };
            let next = Some(option).filter(|option| option.starts_with('-')).and_then(instead_of);
            (what, next.or_else(|| similar(error, ContextKind::SuggestedArg, "")))
        }
        ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand => {
            (format!("`imbrik {path}` needs a command"), None)
        }
        _ => (first_sentence(error), None),
    };
    let next = match (next, usage_line(error)) {
        (Some(next), _) => format!("{next} See `{help}`."),
        (None, Some(usage)) => format!("Usage: {usage}; see `{help}`."),
        (None, None) => format!("See `{help}`."),
    };
    Failure::usage(what).state(NOTHING).next(next)
}

/// Advice for a `word` that people are known to try.
fn instead_of(word: &str) -> Option<String> {
    if let Some((_, text)) = EXPLAINED.iter().find(|(other, _)| *other == word) {
        return Some((*text).to_owned());
    }
    let (_, command) = COMMANDS.iter().find(|(other, _)| *other == word)?;
    Some(format!("Use `imbrik {command}`: see `imbrik {command} --help`."))
}

/// The words of the same group that are spelled like the unknown one.
fn similar(error: &clap::Error, kind: ContextKind, path: &str) -> Option<String> {
    let all = match error.get(kind)? {
        ContextValue::String(one) => vec![one.clone()],
        ContextValue::Strings(all) => all.clone(),
        _ => return None,
    };
    // A word that only sounds like it must not lead to overwriting a card.
    let overwrites = |word: &&String| matches!(word.as_str(), "restore" | "clone" | "wipe");
    let all = all.iter().filter(|word| !overwrites(word));
    let names: Vec<String> = all
        .map(|word| match (kind, path) {
            (ContextKind::SuggestedSubcommand, "") => format!("`imbrik {word}`"),
            (ContextKind::SuggestedSubcommand, path) => format!("`imbrik {path} {word}`"),
            _ => word.clone(),
        })
        .collect();
    (!names.is_empty()).then(|| format!("Did you mean {}?", listed(&names)))
}

fn text_of(error: &clap::Error, kind: ContextKind) -> String {
    match error.get(kind) {
        Some(ContextValue::String(text)) => text.clone(),
        _ => String::new(),
    }
}

/// The parser's own words, in one line.
fn first_sentence(error: &clap::Error) -> String {
    let text = args::with_places(&error.render().to_string());
    let lines = text.lines().take_while(|line| !line.is_empty()).map(str::trim);
    let line = lines.collect::<Vec<_>>().join(" ");
    let line = line.trim_start_matches("error: ");
    let line = &line.replace("invalid digit found in string", "it is not a whole number");
    match line.strip_prefix("the following required arguments were not provided: ") {
        Some(missing) => format!("{missing} is missing"),
        None => line.to_owned(),
    }
}

/// How the command is used, if the parser says so.
fn usage_line(error: &clap::Error) -> Option<String> {
    let text = args::with_places(&error.render().to_string());
    text.lines().find_map(|line| line.strip_prefix("Usage: ")).map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::Parser;

    fn failure(line: &str) -> Failure {
        let words: Vec<&str> = line.split(' ').collect();
        let typed = std::iter::once("imbrik").chain(words.iter().copied());
        let error = Cli::try_parse_from(typed).expect_err(line);
        explained(&error, &command_path(&words))
    }

    #[test]
    fn every_synonym_leads_to_an_existing_command() {
        for (word, command) in COMMANDS {
            assert_eq!(command_path(&command.split(' ').collect::<Vec<_>>()), command, "{word}");
            let said = failure(word);
            assert!(said.what.contains("is not a command"), "{word}: {said:?}");
            assert!(said.next.contains(&format!("`imbrik {command}`")), "{word}: {said:?}");
        }
    }

    #[test]
    fn options_that_people_try_lead_to_the_right_one() {
        for (word, text) in EXPLAINED {
            let line = match word.starts_with('-') {
                true => format!("save rack:a {word}"),
                false => word.to_owned(),
            };
            assert!(failure(&line).next.starts_with(text), "{word}: {:?}", failure(&line));
        }
        let said = failure("restore --yess a b");
        assert!(said.next.contains("--yes?"), "{said:?}");
        // An image of that name is no attempt at a command.
        let said = failure("save a b get");
        assert_eq!(said.what, "get is one argument too many");
        assert!(!said.next.contains("files get"), "{said:?}");
        assert!(failure("files lits a").next.contains("`imbrik files list`"));
    }

    #[test]
    fn no_suggestion_by_spelling_leads_to_overwriting_a_card() {
        for word in
            ["rescue", "recover", "restor", "resto", "closn", "clon", "restart", "wip", "swipe"]
        {
            let said = failure(word);
            let commands = ["imbrik restore", "imbrik clone", "imbrik wipe"];
            assert!(!commands.iter().any(|command| said.next.contains(command)), "{said:?}");
        }
    }

    #[test]
    fn missing_and_invalid_values_are_named() {
        let said = failure("restore a");
        assert_eq!(said.what, "<CARD>... is missing");
        assert!(said.next.contains("imbrik restore <IMAGE> <CARD>..."), "{said:?}");
        let said = failure("save a --pack tar");
        assert!(said.what.contains("invalid value 'tar'"), "{said:?}");
        let said = failure("save a --level x");
        assert!(said.what.ends_with("it is not a whole number"), "{said:?}");
    }
}
