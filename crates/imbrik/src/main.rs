//! Imbrik saves, checks and restores the cards of single-board computers.
//!
//! The command line: parses arguments, calls `imbrik-core`, and shows the results.

mod args;
mod card_sizes;
mod command;
mod complete;
mod config;
mod confirm;
mod drawing;
mod exit;
mod failure;
mod fit_plan;
mod fleet;
mod freezer;
mod identity;
mod interrupt;
mod log;
mod opened;
mod packing;
mod pipe;
mod recognised;
mod render;
mod resolve;
mod running_card;
mod session;
mod source_guard;
mod usage_error;
mod writing;

use clap::CommandFactory;
use clap_complete::CompleteEnv;
use std::process::ExitCode;

fn main() -> ExitCode {
    // Answers a completion request of a shell, and exits.
    CompleteEnv::with_factory(args::Cli::command).complete();
    let typed: Vec<_> = std::env::args_os().collect();
    if let Some(exit) = freezer::run(&typed) {
        return exit;
    }
    let environment = session::Environment::of_process();
    command::run(typed, environment).into()
}
