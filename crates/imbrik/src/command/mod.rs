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
mod wipe;

use crate::{
    args::{self, Cli, CloneArgs, Command, ShelfAddArgs, ShelfArgs, ShelfCommand},
    exit::Exit,
    failure::{self, Failure, Outcome},
    log,
    render::{Out, layout},
    resolve,
    session::{Environment, Session},
    usage_error,
};
use clap::Parser;
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
                Some(Command::Restore(args)) => match args.as_clone() {
                    Some(clone) if is_of_cards(&session, &clone) => clone::run(&session, &clone),
                    _ => restore::run(&session, &args),
                },
                Some(Command::Clone(args)) => match args.as_restore() {
                    Some(restore) if restore.image.is_file() => restore::run(&session, &restore),
                    _ => clone::run(&session, &args),
                },
                Some(Command::Repack(args)) => repack::run(&session, &args),
                Some(Command::Fit(args)) => fit::run(&session, &args),
                Some(Command::Mend(args)) => mend::run(&session, &args),
                Some(Command::Weigh(args)) => weigh::run(&session, &args),
                Some(Command::Wipe(args)) => wipe::run(&session, &args),
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

/// Returns whether the source and all targets of `args` are cards.
fn is_of_cards(session: &Session, args: &CloneArgs) -> bool {
    let all = args.cards.iter().chain([&args.source]);
    all.into_iter().all(|name| resolve::not_a_card(&session.fleet, name).is_err())
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
    usage_error::report(error, typed, environment)
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
