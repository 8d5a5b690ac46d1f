//! Error messages for users: what happened, what state things are in, and what to do next.

use crate::exit::Exit;
use imbrik_core::{Class, Error};
use std::io;

/// A failed command.
#[derive(Clone, Debug)]
pub(crate) struct Failure {
    pub(crate) exit: Exit,
    /// One sentence, lowercase and without a full stop.
    pub(crate) what: String,
    /// One sentence, or nothing where nothing could have changed.
    pub(crate) state: String,
    /// A sentence; may be empty.
    pub(crate) next: String,
}

pub(crate) type Outcome<T> = std::result::Result<T, Failure>;

impl Failure {
    pub(crate) fn new(exit: Exit, what: impl Into<String>) -> Self {
        Self { exit, what: what.into(), state: String::new(), next: String::new() }
    }

    pub(crate) fn usage(what: impl Into<String>) -> Self {
        Self::new(Exit::Usage, what)
    }

    pub(crate) fn refused(what: impl Into<String>) -> Self {
        Self::new(Exit::Refused, what)
    }

    /// Sets the state that things are in, unless it is set already: the first one is more specific.
    pub(crate) fn state(mut self, state: impl Into<String>) -> Self {
        if self.state.is_empty() {
            self.state = state.into();
        }
        self
    }

    /// Sets the next step, unless it is set already.
    pub(crate) fn next(mut self, next: impl Into<String>) -> Self {
        if self.next.is_empty() {
            self.next = next.into();
        }
        self
    }
}

/// The next step after a bug.
const BUG: &str = "This is a bug in Imbrik. Please report it with this line.";

/// A system call that failed while doing `what`.
pub(crate) fn system(what: impl Into<String>, error: io::Error) -> Failure {
    Error::io(what, error).into()
}

impl From<Error> for Failure {
    fn from(error: Error) -> Self {
        let next = match error.class() {
            Class::Denied if rustix::process::geteuid().is_root() => {
                "Root may not do this either: the disk may be read-only or on the network, or the file is protected."
            }
            Class::Denied => "Run it with sudo, or get permission for that file or device.",
            Class::Bug => BUG,
            Class::Gone => {
                "Plug the card in again, find its name with `imbrik cards`, and try again."
            }
            _ => "",
        };
        let failure = Self::new(error.class().into(), error.to_string());
        if next.is_empty() { failure } else { failure.next(next) }
    }
}

/// Adds the caller's knowledge to an error of any kind.
pub(crate) trait Explain<T> {
    /// Sets the state that things are in.
    fn state(self, state: impl Into<String>) -> Outcome<T>;
    /// Sets the next step.
    fn next(self, next: impl Into<String>) -> Outcome<T>;
}

impl<T, E: Into<Failure>> Explain<T> for std::result::Result<T, E> {
    fn state(self, state: impl Into<String>) -> Outcome<T> {
        self.map_err(|error| error.into().state(state))
    }

    fn next(self, next: impl Into<String>) -> Outcome<T> {
        self.map_err(|error| error.into().next(next))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hint_about_root_is_left_out_for_root() {
        let failure = Failure::from(Error::new(Class::Denied, "opening x: permission denied"));
        let is_root = rustix::process::geteuid().is_root();
        assert_eq!(failure.next.contains("sudo"), !is_root, "{}", failure.next);
    }
}
