//! The commands: each parses nothing and prints little; it calls the core and hands on.

mod cards;
mod check;
mod clone;
mod completions;
mod demo;
mod files;
mod fit;
mod home;
mod mend;
mod pages;
mod repack;
mod restore;
mod save;
mod shelf;
mod show;
mod weigh;

use crate::{
    args::{self, Cli, Command, ShelfAddArgs, ShelfArgs, ShelfCommand},
    exit::Exit,
    failure::{self, Failure, Outcome},
    log,
    render::{Out, json, layout, note},
    session::{Environment, Session},
};
use clap::{CommandFactory, Parser, error::ErrorKind};
use std::{
    ffi::OsString,
    io::{self, IsTerminal, Write},
};

/// Runs the command line and returns its result.
pub(crate) fn run(typed: Vec<OsString>, environment: Environment) -> Exit {
    let cli = match Cli::try_parse_from(&typed) {
        Ok(cli) => cli,
        Err(error) => return not_run(&error, &typed, &environment),
    };
    let name = cli.command.as_ref().map_or("imbrik", Command::name);
    let log = cli.global.log.as_ref().or(environment.log.as_ref());
    if let Err(failure) = log.map_or(Ok(()), |file| log::keep_in(file, &typed)) {
        Out::new(cli.global.json, environment.color).failure(name, &failure);
        return failure.exit;
    }
    let outcome = match cli.command {
        Some(Command::Demo(args)) => demo::run(&args, cli.global.json, &environment),
        Some(Command::Pages(args)) => pages::run(&args),
        Some(Command::Completions(args)) => completions::run(&args, cli.global.json),
        command => Session::start(&cli.global, environment.clone()).and_then(|session| {
            let outcome = match command {
                None => home::run(&session),
                Some(Command::Cards(args)) => cards::run(&session, &args),
                Some(Command::Show(args)) => show::run(&session, &args),
                Some(Command::Save(args)) => save::run(&session, &args),
                Some(Command::Check(args)) => check::run(&session, &args),
                Some(Command::Restore(args)) => restore::run(&session, &args),
                Some(Command::Clone(args)) => clone::run(&session, &args),
                Some(Command::Repack(args)) => repack::run(&session, &args),
                Some(Command::Fit(args)) => fit::run(&session, &args),
                Some(Command::Mend(args)) => mend::run(&session, &args),
                Some(Command::Weigh(args)) => weigh::run(&session, &args),
                Some(Command::Files(args)) => files::run(&session, &args),
                Some(Command::Shelf(ShelfArgs { what: ShelfCommand::Add(args) })) => {
                    add(&session, &args)
                }
                Some(Command::Shelf(args)) => shelf::run(&session, &args),
                Some(Command::Demo(_) | Command::Pages(_) | Command::Completions(_)) => {
                    Ok(Exit::Done)
                }
            };
            outcome.and_then(|exit| output_is_whole(&session.out, exit))
        }),
    };
    let exit = outcome.unwrap_or_else(|failure| {
        Out::new(cli.global.json, environment.color).failure(name, &failure);
        failure.exit
    });
    tracing::info!(code = exit.code(), "ended");
    exit
}

/// A card saved onto a shelf, and the shelf looked after.
fn add(session: &Session, args: &ShelfAddArgs) -> Outcome<Exit> {
    let meant = shelf::add::meant(session, args)?;
    let leftovers = shelf::add::leftovers(session, args)?;
    let saved = loop {
        match save::run(session, &meant) {
            Ok(saved) => break saved,
            // Each time at least one image went.
            Err(mut failure) => {
                if !shelf::add::make_room(session, args, &leftovers, &mut failure)? {
                    return Err(failure);
                }
            }
        }
    };
    shelf::add::look_after(session, args, saved)
}

/// Synonyms of commands that people may try.
const OTHER_WORDS: [(&str, &str); 30] = [
    ("prune", "shelf thin"),
    ("rotate", "shelf thin"),
    ("history", "shelf list"),
    ("backup", "save"),
    ("read", "save"),
    ("dump", "save"),
    ("create", "save"),
    ("write", "restore"),
    ("flash", "restore"),
    ("burn", "restore"),
    ("load", "restore"),
    ("verify", "check"),
    ("hash", "check"),
    ("test", "check"),
    ("compare", "check"),
    ("diff", "files diff"),
    ("shrink", "fit"),
    ("resize", "fit"),
    ("expand", "fit"),
    ("grow", "fit"),
    ("list", "cards"),
    ("ls", "files list"),
    ("extract", "files get"),
    ("mount", "files get"),
    ("du", "files list"),
    ("devices", "cards"),
    ("info", "show"),
    ("inspect", "show"),
    ("copy", "clone"),
    ("compress", "repack"),
];

/// Shows a help text, or why what was typed is invalid.
fn not_run(error: &clap::Error, typed: &[OsString], environment: &Environment) -> Exit {
    if !error.use_stderr() {
        let text = error.render();
        let plain = args::with_places(&text.to_string());
        let width = layout::width(io::stdout());
        let fits = plain.lines().all(|line| layout::columns(line) <= width);
        let is_terminal = io::stdout().is_terminal();
        if fits || !is_terminal {
            let text = match environment.color && is_terminal {
                true => args::with_places(&text.ansi().to_string()),
                false => plain,
            };
            // A closed output pipe is not an error.
            let _ = write!(io::stdout().lock(), "{text}");
        } else {
            // The parser lays out its texts, but not the line of usage.
            let out = Out::new(false, false);
            plain.lines().for_each(|line| out.line(line));
        }
        return Exit::Done;
    }
    let words = || typed.iter().skip(1).filter_map(|word| word.to_str());
    let unknown = words().find(|word| !word.starts_with('-')).filter(|_| {
        matches!(error.kind(), ErrorKind::InvalidSubcommand | ErrorKind::UnknownArgument)
    });
    let meant = OTHER_WORDS.iter().find(|(other, _)| Some(*other) == unknown);
    if words().any(|word| word == "--json") {
        let plain = args::with_places(&error.render().to_string());
        let what = plain.lines().next().unwrap_or_default().trim_start_matches("error: ");
        let next = match meant {
            Some((_, word)) => format!("Use `imbrik {word}`."),
            None => "See `imbrik --help`.".to_owned(),
        };
        let failure = Failure::usage(what).state("Nothing was done.").next(next);
        let known = words().find(|word| Cli::command().find_subcommand(word).is_some());
        let object = json::failure(known.unwrap_or("imbrik"), &failure);
        Out::new(true, false).line(&object.to_string());
    }
    match meant {
        Some((other, word)) => {
            let failure = Failure::usage(format!("{other} is not a command"))
                .next(format!("Use `imbrik {word}`: see `imbrik {word} --help`."));
            Out::new(false, environment.color).failure("imbrik", &failure);
        }
        // The parser lays its help out, but not its errors.
        None => args::with_places(&error.render().to_string()).lines().for_each(note),
    }
    Exit::Usage
}

/// A result that could not be written is a separate error.
fn output_is_whole(out: &Out, exit: Exit) -> Outcome<Exit> {
    match out.broken() {
        None => Ok(exit),
        Some(error) => {
            let failure = failure::system("writing the output", error);
            // The full disk is that of the output, not of the operation.
            Err(Failure { exit: Exit::Failed, ..failure }
                .state("The operation itself is complete."))
        }
    }
}
