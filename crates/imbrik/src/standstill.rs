//! The process that makes filesystems stand still for another one, and lets them go on in any case.

use imbrik_core::card::{Freezer, MountedVolume, freeze_on_demand};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use std::{
    ffi::OsString,
    io,
    path::PathBuf,
    process::{Command, ExitCode},
    sync::{Arc, atomic::AtomicBool},
    time::Duration,
};

/// What this process is told first, besides how many milliseconds it may take, and what is mounted where. No
/// command: nobody types it.
const WORD: &str = "stand-still";

/// Does that, when it is what was asked for.
pub(crate) fn run(typed: &[OsString]) -> Option<ExitCode> {
    let [_, word, limit, mounts @ ..] = typed else { return None };
    if word != WORD {
        return None;
    }
    let limit = Duration::from_millis(limit.to_str()?.parse().ok()?);
    // It outlives what ends the others, and ends with its input: a terminal's Ctrl-C must not reach it.
    let _ = rustix::process::setsid();
    for signal in [SIGHUP, SIGINT, SIGTERM] {
        let _ = signal_hook::flag::register(signal, Arc::new(AtomicBool::new(false)));
    }
    let mounts: Vec<_> = mounts.iter().map(PathBuf::from).collect();
    let done = freeze_on_demand(&mounts, limit, io::stdin(), io::stdout());
    Some(if done.is_ok() { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// Starts it for `volumes`, which it lets go on after `limit` at the latest.
pub(crate) fn start(volumes: &[MountedVolume], limit: Duration) -> imbrik_core::Result<Freezer> {
    let mounts: Vec<_> = volumes.iter().map(|volume| volume.at.clone()).collect();
    // Whatever becomes of the file that this program was started from, it is the same program.
    let mut process = Command::new("/proc/self/exe");
    process.arg(WORD).arg(limit.as_millis().to_string()).args(&mounts);
    Freezer::start(&mut process, mounts, limit)
}
