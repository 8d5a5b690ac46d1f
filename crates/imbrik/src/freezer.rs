//! The process that freezes filesystems for another one, and the thawing of leftovers of such a process.

use imbrik_core::card::{Freezer, MountedVolume, freeze_on_demand, frozen_by, thaw_recorded};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use std::{
    ffi::OsString,
    io,
    path::{Path, PathBuf},
    process::{Command, ExitCode},
    sync::{Arc, atomic::AtomicBool},
    time::Duration,
};

/// The first argument of the process that freezes, followed by a limit in milliseconds and the mount points. Nobody
/// types it.
const FREEZE: &str = "stand-still";
/// The only argument of a process that thaws leftovers of killed processes: for `ExecStopPost=`.
pub(crate) const THAW: &str = "thaw-leftovers";
/// The folder in which processes record frozen filesystems. It is in memory and empty after a restart, when nothing is
/// frozen either.
const RECORDS: &str = "/run/imbrik";

/// Runs one of these processes, if its arguments are given.
pub(crate) fn run(typed: &[OsString]) -> Option<ExitCode> {
    match typed {
        [_, word] if word == THAW => {
            for at in thaw_leftovers() {
                eprintln!(
                    "imbrik: {} was still frozen after a run was killed: thawed.",
                    at.display()
                );
            }
            Some(ExitCode::SUCCESS)
        }
        [_, word, limit, mounts @ ..] if word == FREEZE => freeze(limit.to_str()?, mounts),
        _ => None,
    }
}

fn freeze(limit: &str, mounts: &[OsString]) -> Option<ExitCode> {
    let limit = Duration::from_millis(limit.parse().ok()?);
    // It survives signals to the others, and ends with its input: a terminal's Ctrl-C must not reach it.
    let _ = rustix::process::setsid();
    for signal in [SIGHUP, SIGINT, SIGTERM] {
        let _ = signal_hook::flag::register(signal, Arc::new(AtomicBool::new(false)));
    }
    let mounts: Vec<_> = mounts.iter().map(PathBuf::from).collect();
    let records = Some(Path::new(RECORDS));
    let done = freeze_on_demand(&mounts, limit, records, io::stdin(), io::stdout());
    Some(if done.is_ok() { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// Starts the process that freezes `volumes`, and thaws them after `limit` at the latest.
pub(crate) fn start(volumes: &[MountedVolume], limit: Duration) -> imbrik_core::Result<Freezer> {
    let mounts: Vec<_> = volumes.iter().map(|volume| volume.at.clone()).collect();
    // Whatever happens to the file that this program was started from, it is the same program.
    let mut process = Command::new("/proc/self/exe");
    process.arg(FREEZE).arg(limit.as_millis().to_string()).args(&mounts);
    Freezer::start(&mut process, &mounts, limit, Some(Path::new(RECORDS)))
}

/// Thaws leftovers of earlier processes that were killed.
pub(crate) fn thaw_leftovers() -> Vec<PathBuf> {
    thaw_recorded(Path::new(RECORDS), FREEZE)
}

/// The process of this program that has `at` frozen.
pub(crate) fn holder(at: &Path) -> Option<u32> {
    frozen_by(Path::new(RECORDS), FREEZE, at)
}
