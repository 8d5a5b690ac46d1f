//! The commands: each parses nothing and prints little; it calls the core and hands on.

mod cards;
mod check;
mod clone;
mod demo;
mod fit;
mod fits;
mod home;
mod repack;
mod restore;
mod save;
mod show;
mod write;

use crate::{
    args::{Cli, Command},
    exit::Exit,
    failure::{Failure, Outcome},
    render::Out,
    session::{Environment, Session},
};
use clap::Parser;
use std::ffi::OsString;

/// Runs what was typed and answers how it ended.
pub(crate) fn run(typed: Vec<OsString>, environment: Environment) -> Exit {
    let cli = match Cli::try_parse_from(typed) {
        Ok(cli) => cli,
        Err(error) => {
            // Help goes to standard output and is no failure; a reader that went away is none.
            let _ = error.print();
            return if error.use_stderr() { Exit::Usage } else { Exit::Done };
        }
    };
    let name = match &cli.command {
        None => "imbrik",
        Some(Command::Cards(_)) => "cards",
        Some(Command::Show(_)) => "show",
        Some(Command::Save(_)) => "save",
        Some(Command::Check(_)) => "check",
        Some(Command::Restore(_)) => "restore",
        Some(Command::Clone(_)) => "clone",
        Some(Command::Repack(_)) => "repack",
        Some(Command::Fit(_)) => "fit",
        Some(Command::Demo(_)) => "demo",
    };
    let outcome = match cli.command {
        Some(Command::Demo(args)) => demo::run(&args, &environment),
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
                Some(Command::Demo(_)) => Ok(Exit::Done),
            };
            outcome.and_then(|exit| output_is_whole(&session.out, exit))
        }),
    };
    outcome.unwrap_or_else(|failure| {
        Out::new(cli.global.json, environment.color).failure(name, &failure);
        failure.exit
    })
}

/// A result that could not be written out is a failure of its own.
fn output_is_whole(out: &Out, exit: Exit) -> Outcome<Exit> {
    match out.broken() {
        None => Ok(exit),
        Some(error) => {
            Err(Failure::new(Exit::Failed, format!("writing the output failed: {error}"))
                .state("The work itself was done."))
        }
    }
}
