//! Ctrl-C and its relatives.

use crate::{exit::Exit, render::note};
use imbrik_core::progress::Cancel;
use signal_hook::{
    consts::{SIGHUP, SIGINT, SIGTERM},
    iterator::Signals,
};
use std::{
    io::{self, Write},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};

/// How long a signal may take from the system to the thread that listens.
const ON_ITS_WAY: Duration = Duration::from_millis(50);

/// Turns signals into a cancel request. At a question, when no work is in progress, the program ends at once; a second
/// signal ends it at once at any time.
#[derive(Clone, Debug, Default)]
pub(crate) struct Interrupt {
    pub(crate) cancel: Cancel,
    now: Arc<Mutex<Now>>,
}

/// The state of the program when a signal arrives.
#[derive(Debug, Default)]
struct Now {
    /// True while the user is asked.
    is_asking: bool,
    /// The state that things are in, for a user who does not wait for the end.
    state: String,
}

impl Interrupt {
    /// Starts to listen. Where that is impossible, signals keep their usual effect.
    pub(crate) fn listen() -> Self {
        let this = Self::default();
        let Ok(mut signals) = Signals::new([SIGINT, SIGTERM, SIGHUP]) else { return this };
        let listener = this.clone();
        std::thread::spawn(move || {
            for (count, _) in signals.forever().enumerate() {
                let now = listener.now();
                if count > 0 || now.is_asking {
                    // A terminal that went away is often the very reason.
                    let _ = writeln!(io::stderr(), "\nimbrik: interrupted.");
                    if !now.state.is_empty() {
                        note(&format!("  {}", now.state));
                    }
                    std::process::exit(Exit::Interrupted.code().into());
                }
                listener.cancel.request();
            }
        });
        this
    }

    fn now(&self) -> MutexGuard<'_, Now> {
        self.now.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sets the state that things are in from now on, as a sentence.
    pub(crate) fn set_state(&self, state: impl Into<String>) {
        self.now().state = state.into();
    }

    /// Runs `ask`; a signal meanwhile ends the program at once and reports `state`.
    pub(crate) fn while_asking<T>(&self, state: &str, ask: impl FnOnce() -> T) -> T {
        *self.now() = Now { is_asking: true, state: state.to_owned() };
        let answer = ask();
        // A signal that came before the answer may still be on its way to the listener.
        std::thread::sleep(ON_ITS_WAY);
        *self.now() = Now::default();
        answer
    }
}
