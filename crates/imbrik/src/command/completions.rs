//! `imbrik completions`: scripts for completing commands in a shell.

use crate::{
    args::CompletionsArgs,
    exit::Exit,
    failure::{self, Failure, Outcome},
};
use clap_complete::env::Shells;
use std::io::{self, ErrorKind, Write};

/// What the script for bash lacks.
const BASH: &[u8] = include_bytes!("completions.bash");

pub(crate) fn run(args: &CompletionsArgs, is_json: bool) -> Outcome<Exit> {
    if is_json {
        return Err(
            Failure::usage("completions are a shell script, not JSON").next("Leave --json out.")
        );
    }
    let shells = Shells::builtins();
    let name = args.shell.to_string();
    let completer = shells
        .completer(&name)
        .ok_or_else(|| Failure::usage(format!("there are no completions for {name}")))?;
    let mut script = Vec::new();
    let written = completer
        .write_registration("COMPLETE", "imbrik", "imbrik", "imbrik", &mut script)
        .and_then(|()| script.write_all(if name == "bash" { BASH } else { b"" }))
        .and_then(|()| io::stdout().lock().write_all(&script));
    match written {
        // A closed output pipe is not an error.
        Err(error) if error.kind() != ErrorKind::BrokenPipe => {
            Err(failure::system("writing the script", error))
        }
        _ => Ok(Exit::Done),
    }
}
