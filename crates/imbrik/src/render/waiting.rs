//! Names what takes long and has no progress of its own.

use indicatif::ProgressBar;
use std::{
    sync::mpsc::{self, RecvTimeoutError},
    thread,
    time::Duration,
};

/// How long nothing is shown.
const QUIET: Duration = Duration::from_millis(400);
/// The time between two pictures of the spinner.
const TICK: Duration = Duration::from_millis(120);

/// Runs `work`, which prints nothing, and shows `what` next to a spinner on standard error if it takes a while.
pub(crate) fn spinning<T>(what: &'static str, work: impl FnOnce() -> T) -> T {
    thread::scope(|scope| {
        let (working, is_over) = mpsc::channel::<()>();
        scope.spawn(move || {
            if is_over.recv_timeout(QUIET) != Err(RecvTimeoutError::Timeout) {
                return;
            }
            let spinner = ProgressBar::new_spinner().with_message(what);
            spinner.enable_steady_tick(TICK);
            // An error: the other end was dropped.
            let _ = is_over.recv();
            spinner.finish_and_clear();
        });
        let result = work();
        drop(working);
        result
    })
}
