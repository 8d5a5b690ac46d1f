//! Ctrl-C and its relatives.

use crate::exit::Exit;
use imbrik_core::progress::Cancel;
use signal_hook::{
    consts::{SIGHUP, SIGINT, SIGTERM},
    iterator::Signals,
};
use std::{
    io::{self, Write},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
};

/// Turns signals into a request to stop. At a prompt, where no work is under way, the program ends
/// at once; a second signal ends it at once anywhere.
#[derive(Clone, Debug, Default)]
pub(crate) struct Interrupt {
    pub(crate) cancel: Cancel,
    prompting: Arc<AtomicBool>,
}

impl Interrupt {
    /// Starts to listen. Where that is impossible, signals keep their usual effect.
    pub(crate) fn listen() -> Self {
        let this = Self::default();
        let Ok(mut signals) = Signals::new([SIGINT, SIGTERM, SIGHUP]) else { return this };
        let (cancel, prompting) = (this.cancel.clone(), Arc::clone(&this.prompting));
        std::thread::spawn(move || {
            for (count, _) in signals.forever().enumerate() {
                if count > 0 || prompting.load(Ordering::SeqCst) {
                    // A terminal that went away is often the very reason.
                    let _ = writeln!(io::stderr().lock());
                    std::process::exit(Exit::Interrupted.code().into());
                }
                cancel.request();
            }
        });
        this
    }

    /// Runs `ask`, during which a signal ends the program at once.
    pub(crate) fn while_asking<T>(&self, ask: impl FnOnce() -> T) -> T {
        self.prompting.store(true, Ordering::SeqCst);
        let answer = ask();
        self.prompting.store(false, Ordering::SeqCst);
        answer
    }
}
