//! The exit codes, in one place.

use imbrik_core::Class;
use std::process::ExitCode;

/// How the program ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Exit {
    /// All done.
    Done,
    /// Something failed.
    Failed,
    /// The command line is invalid.
    Usage,
    /// Two things that should be equal are not.
    Mismatch,
    /// Refused, because something would be destroyed.
    Refused,
    /// It does not fit.
    NoRoom,
    /// Done, but some areas of the card could not be read.
    Unreadable,
    /// Something is overdue.
    Overdue,
    /// Interrupted.
    Interrupted,
}

/// The table of exit codes, as `--help` shows it.
pub(crate) const TABLE: &str = "\
Exit codes:
  0  done
  1  failed
  2  wrong usage
  3  does not match (check, checksum, comparison)
  4  refused for safety
  5  does not fit
  6  done, but with areas that could not be read
  7  something is overdue (shelf due)
  130  interrupted";

impl Exit {
    /// The number that the shell sees.
    pub(crate) fn code(self) -> u8 {
        match self {
            Self::Done => 0,
            Self::Failed => 1,
            Self::Usage => 2,
            Self::Mismatch => 3,
            Self::Refused => 4,
            Self::NoRoom => 5,
            Self::Unreadable => 6,
            Self::Overdue => 7,
            Self::Interrupted => 130,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.code())
    }
}

impl From<Class> for Exit {
    fn from(class: Class) -> Self {
        match class {
            Class::Io
            | Class::Ended
            | Class::Gone
            | Class::Denied
            | Class::Corrupt
            | Class::Unsupported
            | Class::Bug => Self::Failed,
            Class::Mismatch => Self::Mismatch,
            Class::NoRoom => Self::NoRoom,
            Class::Refused => Self::Refused,
            Class::Usage => Self::Usage,
            Class::Cancelled => Self::Interrupted,
            // One that is newer than this program.
            _ => Self::Failed,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_in_the_help_lists_every_code() {
        let all = [
            Exit::Done,
            Exit::Failed,
            Exit::Usage,
            Exit::Mismatch,
            Exit::Refused,
            Exit::NoRoom,
            Exit::Unreadable,
            Exit::Overdue,
            Exit::Interrupted,
        ];
        let codes: Vec<_> = all.iter().map(|exit| exit.code()).collect();
        assert_eq!(codes, [0, 1, 2, 3, 4, 5, 6, 7, 130]);
        for code in codes {
            assert!(TABLE.contains(&format!("\n  {code}  ")), "{code}");
        }
    }
}
