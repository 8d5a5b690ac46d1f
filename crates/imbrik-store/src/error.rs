//! The error type of all libraries, classified by the caller's options.
//!
//! The text of an error is lowercase, has no full stop, gives numbers with units, and compares the found with the
//! expected value. Each layer that knows a place (a file, a partition, an offset) adds it in front with [`Error::at`].
//! The state of card and image and the next step are added by the command, which knows them.

use crate::units::ByteLen;
use std::{fmt, io};

/// A [`std::result::Result`] with the core's [`Error`].
pub type Result<T> = std::result::Result<T, Error>;

/// Classes of errors, by the caller's options.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Class {
    /// A device or file could not be read or written; a retry, or another reader or card, can help.
    Io,
    /// The device was unplugged or lost power.
    Gone,
    /// The system denies access; more permissions help.
    Denied,
    /// A device or file is shorter than expected: another reader may read more of it, and the data before the end are
    /// not affected.
    Ended,
    /// The data are inconsistent or violate their specification.
    Corrupt,
    /// The data are valid, but not supported.
    Unsupported,
    /// Two things that should be equal differ.
    Mismatch,
    /// The target is too small, or its filesystem is full.
    NoRoom,
    /// Imbrik refuses, because something would be destroyed.
    Refused,
    /// The request is invalid: a wrong name or a wrong kind of object.
    Usage,
    /// The user cancelled.
    Cancelled,
    /// An internal error (invariant violation), whatever the data are.
    Bug,
}

/// The error type of all libraries: what went wrong, and where.
///
/// An error has a [`class`](Error::class), [`places`](Error::places) and, if space is missing, [the missing
/// bytes](Error::shortfall). The text is for people.
pub struct Error {
    class: Class,
    what: Box<What>,
}

/// Fields that are not needed unless an error is examined.
struct What {
    text: String,
    /// From the outermost to the innermost.
    places: Vec<String>,
    shortfall: Option<ByteLen>,
    cause: Option<io::Error>,
}

impl Error {
    /// An error of `class` with the text `text`.
    pub fn new(class: Class, text: impl Into<String>) -> Self {
        Self::of(class, text.into(), None)
    }

    fn of(class: Class, text: String, cause: Option<io::Error>) -> Self {
        Self { class, what: Box::new(What { text, places: Vec::new(), shortfall: None, cause }) }
    }

    /// Inconsistent data.
    pub fn corrupt(text: impl Into<String>) -> Self {
        Self::new(Class::Corrupt, text)
    }

    /// Valid data that are not supported.
    pub fn unsupported(text: impl Into<String>) -> Self {
        Self::new(Class::Unsupported, text)
    }

    /// Two things that should be equal differ.
    pub fn mismatch(text: impl Into<String>) -> Self {
        Self::new(Class::Mismatch, text)
    }

    /// Something does not fit.
    pub fn no_room(text: impl Into<String>) -> Self {
        Self::new(Class::NoRoom, text)
    }

    /// Refused, because something would be destroyed.
    pub fn refused(text: impl Into<String>) -> Self {
        Self::new(Class::Refused, text)
    }

    /// An invalid request.
    pub fn usage(text: impl Into<String>) -> Self {
        Self::new(Class::Usage, text)
    }

    /// An internal error.
    pub fn bug(text: impl Into<String>) -> Self {
        Self::new(Class::Bug, text)
    }

    /// The user cancelled.
    #[must_use]
    pub fn cancelled() -> Self {
        Self::new(Class::Cancelled, "stopped before it was done")
    }

    /// A system call failed while doing `what` ("reading", "opening /dev/sdb").
    ///
    /// The class follows from the error number: a full disk is [`Class::NoRoom`], a missing permission
    /// [`Class::Denied`], an unplugged device [`Class::Gone`].
    pub fn io(what: impl Into<String>, cause: io::Error) -> Self {
        let class = match cause.kind() {
            io::ErrorKind::PermissionDenied => Class::Denied,
            io::ErrorKind::StorageFull
            | io::ErrorKind::QuotaExceeded
            | io::ErrorKind::FileTooLarge => Class::NoRoom,
            io::ErrorKind::UnexpectedEof => Class::Ended,
            _ => match cause.raw_os_error().map(rustix::io::Errno::from_raw_os_error) {
                Some(
                    rustix::io::Errno::NODEV
                    | rustix::io::Errno::NXIO
                    | rustix::io::Errno::NOMEDIUM
                    | rustix::io::Errno::SHUTDOWN,
                ) => Class::Gone,
                Some(rustix::io::Errno::BUSY) => Class::Refused,
                _ => Class::Io,
            },
        };
        Self::of(class, what.into(), Some(cause))
    }

    /// Prepends a location: a file, a card, a partition, an offset.
    #[must_use]
    pub fn at(mut self, place: impl fmt::Display) -> Self {
        self.what.places.insert(0, place.to_string());
        self
    }

    /// Adds the number of missing bytes.
    #[must_use]
    pub fn with_shortfall(mut self, len: ByteLen) -> Self {
        self.what.shortfall = Some(len);
        self
    }

    /// The places where it occurred, from the outermost to the innermost.
    #[must_use]
    pub fn places(&self) -> &[String] {
        &self.what.places
    }

    /// The number of missing bytes, of a [`Class::NoRoom`] with a count.
    #[must_use]
    pub fn shortfall(&self) -> Option<ByteLen> {
        self.what.shortfall
    }

    /// Its class.
    #[must_use]
    pub fn class(&self) -> Class {
        self.class
    }

    /// Returns whether it concerns one place of the data, so that others may be readable.
    #[must_use]
    pub fn concerns_a_range(&self) -> bool {
        matches!(self.class, Class::Io | Class::Ended)
    }

    /// Returns whether it concerns one place only, so that everything else is readable.
    #[must_use]
    pub fn is_local(&self) -> bool {
        matches!(
            self.class(),
            Class::Corrupt | Class::Unsupported | Class::Io | Class::Ended | Class::Mismatch
        )
    }

    /// Changes the class, where the caller knows a better one.
    #[must_use]
    pub fn with_class(mut self, class: Class) -> Self {
        self.class = class;
        self
    }
}

/// The whole sentence with the system's message: `source()` is therefore empty.
impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for place in &self.what.places {
            write!(f, "{place}: ")?;
        }
        f.write_str(&self.what.text)?;
        match &self.what.cause {
            Some(cause) => write!(f, ": {}", plain(cause)),
            None => Ok(()),
        }
    }
}

impl fmt::Debug for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:?}: {self}", self.class)
    }
}

impl std::error::Error for Error {}

/// Converts an error that concerns one place into `None`.
///
/// # Errors
/// All others.
pub fn if_readable<T>(found: Result<T>) -> Result<Option<T>> {
    match found {
        Err(error) if error.concerns_a_range() => Ok(None),
        found => found.map(Some),
    }
}

impl From<rustix::io::Errno> for Error {
    fn from(errno: rustix::io::Errno) -> Self {
        Self::io("the system refused", errno.into())
    }
}

/// The system's message without the error number.
fn plain(cause: &io::Error) -> String {
    let text = cause.to_string();
    let words = text.split(" (os error").next().unwrap_or(&text);
    let mut chars = words.chars();
    match chars.next() {
        Some(first) => first.to_lowercase().chain(chars).collect(),
        None => text,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn location_precedes_the_text() {
        let error = Error::corrupt("table checksum is 0x1a, computed 0x5e")
            .at("byte 1024")
            .at("partition 2");
        assert_eq!(
            error.to_string(),
            "partition 2: byte 1024: table checksum is 0x1a, computed 0x5e"
        );
        assert_eq!(error.class(), Class::Corrupt);
        assert_eq!(error.places(), ["partition 2", "byte 1024"]);
        assert_eq!(error.shortfall(), None);
        let full =
            Error::no_room("3 MB are missing").with_shortfall(ByteLen::new(3_000_000)).at("a card");
        assert_eq!(full.shortfall(), Some(ByteLen::new(3_000_000)));
    }

    #[test]
    fn errno_decides_the_error_class() {
        let of = |raw| Error::io("writing", io::Error::from_raw_os_error(raw));
        assert_eq!(of(28).class(), Class::NoRoom);
        assert_eq!(of(13).class(), Class::Denied);
        assert_eq!(of(19).class(), Class::Gone);
        assert_eq!(of(16).class(), Class::Refused);
        assert_eq!(of(5).class(), Class::Io);
        assert_eq!(of(28).to_string(), "writing: no space left on device");
    }

    #[test]
    fn error_is_small_enough_to_return_by_value() {
        assert!(size_of::<Error>() <= 16, "{} bytes", size_of::<Error>());
    }
}
