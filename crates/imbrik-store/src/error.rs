//! One error for the whole core, sorted by what the caller can do about it.
//!
//! An error's text is lowercase, without a full stop, gives numbers with their units, and sets
//! what was found against what was expected. Each layer that knows a place (a file, a partition, a
//! byte) puts it in front with [`Error::at`]. The state things are in and what to do next are
//! added by whoever runs the command: only it knows them.

use crate::units::ByteLen;
use std::{fmt, io};

/// A [`std::result::Result`] with the core's [`Error`].
pub type Result<T> = std::result::Result<T, Error>;

/// What the caller can do about an error.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Class {
    /// A device or file could not be read or written; another try, reader or card may help.
    Io,
    /// The device went away in the middle: it was pulled out or lost power.
    Gone,
    /// The system does not permit it; more rights help.
    Denied,
    /// A device or file ends before the place that it says it has: another reader may read more of
    /// it, and what stands in front of the end is as good as it was.
    Ended,
    /// What was read contradicts its own specification.
    Corrupt,
    /// What was read is sound, but Imbrik does not know how to handle it.
    Unsupported,
    /// Two things that should be equal are not.
    Mismatch,
    /// It does not fit: the target is too small or its filesystem is full.
    NoRoom,
    /// It could be done, and Imbrik refuses, because it would destroy something.
    Refused,
    /// The request itself makes no sense: a wrong name, a wrong kind of thing.
    Usage,
    /// The user asked to stop.
    Cancelled,
    /// Imbrik contradicts itself: whatever was read, this should not happen.
    Bug,
}

/// What went wrong, and where: the one error of all of Imbrik's libraries.
///
/// Ask it for its [`class`](Error::class), for the [`places`](Error::places) where it happened and,
/// when something does not fit, for [how much lacks](Error::lacks). The sentence is for people.
pub struct Error {
    class: Class,
    what: Box<What>,
}

/// What is not asked for on the way of what goes well.
struct What {
    text: String,
    /// From the outermost in.
    places: Vec<String>,
    lacks: Option<ByteLen>,
    cause: Option<io::Error>,
}

impl Error {
    /// An error of `class` with the sentence `text`.
    pub fn new(class: Class, text: impl Into<String>) -> Self {
        Self::of(class, text.into(), None)
    }

    fn of(class: Class, text: String, cause: Option<io::Error>) -> Self {
        Self { class, what: Box::new(What { text, places: Vec::new(), lacks: None, cause }) }
    }

    /// What was read contradicts its own specification.
    pub fn corrupt(text: impl Into<String>) -> Self {
        Self::new(Class::Corrupt, text)
    }

    /// What was read is sound but not handled by Imbrik.
    pub fn unsupported(text: impl Into<String>) -> Self {
        Self::new(Class::Unsupported, text)
    }

    /// Two things that should be equal are not.
    pub fn mismatch(text: impl Into<String>) -> Self {
        Self::new(Class::Mismatch, text)
    }

    /// Something does not fit.
    pub fn no_room(text: impl Into<String>) -> Self {
        Self::new(Class::NoRoom, text)
    }

    /// Imbrik will not do this, because it would destroy something.
    pub fn refused(text: impl Into<String>) -> Self {
        Self::new(Class::Refused, text)
    }

    /// The request makes no sense.
    pub fn usage(text: impl Into<String>) -> Self {
        Self::new(Class::Usage, text)
    }

    /// Imbrik contradicts itself.
    pub fn bug(text: impl Into<String>) -> Self {
        Self::new(Class::Bug, text)
    }

    /// The user asked to stop.
    #[must_use]
    pub fn cancelled() -> Self {
        Self::new(Class::Cancelled, "stopped before it was done")
    }

    /// A call to the system failed while doing `what` ("reading", "opening /dev/sdb").
    ///
    /// The class follows from the system's answer: a full disk is [`Class::NoRoom`], a missing
    /// right [`Class::Denied`], a device that went away [`Class::Gone`].
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

    /// The same error, with the place where it happened in front of those that it has: a file, a
    /// card, a partition, a byte.
    #[must_use]
    pub fn at(mut self, place: impl fmt::Display) -> Self {
        self.what.places.insert(0, place.to_string());
        self
    }

    /// The same error, which is about so much too little.
    #[must_use]
    pub fn lacking(mut self, len: ByteLen) -> Self {
        self.what.lacks = Some(len);
        self
    }

    /// Where it happened, from the outermost place in.
    #[must_use]
    pub fn places(&self) -> &[String] {
        &self.what.places
    }

    /// How much is too little, of a [`Class::NoRoom`] that counts bytes.
    #[must_use]
    pub fn lacks(&self) -> Option<ByteLen> {
        self.what.lacks
    }

    /// What the caller can do about it.
    #[must_use]
    pub fn class(&self) -> Class {
        self.class
    }

    /// Whether it is about one place of what was read, so that others may still be readable.
    #[must_use]
    pub fn is_of_a_place(&self) -> bool {
        matches!(self.class, Class::Io | Class::Ended)
    }

    /// Whether it tells of one place only, so that everything else can be read all the same.
    #[must_use]
    pub fn is_local(&self) -> bool {
        matches!(
            self.class(),
            Class::Corrupt | Class::Unsupported | Class::Io | Class::Ended | Class::Mismatch
        )
    }

    /// The same error under another class, where the caller knows better what it means.
    #[must_use]
    pub fn with_class(mut self, class: Class) -> Self {
        self.class = class;
        self
    }
}

/// The whole sentence, the system's answer included: `source()` therefore stays empty.
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

/// What was found; nothing where that could not be read, though other places may be.
///
/// # Errors
/// All others.
pub fn if_readable<T>(found: Result<T>) -> Result<Option<T>> {
    match found {
        Err(error) if error.is_of_a_place() => Ok(None),
        found => found.map(Some),
    }
}

impl From<rustix::io::Errno> for Error {
    fn from(errno: rustix::io::Errno) -> Self {
        Self::io("the system refused", errno.into())
    }
}

/// The system's answer in words, without the number that only programmers look up.
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
    fn a_place_stands_in_front_of_the_text() {
        let error = Error::corrupt("table checksum is 0x1a, computed 0x5e")
            .at("byte 1024")
            .at("partition 2");
        assert_eq!(
            error.to_string(),
            "partition 2: byte 1024: table checksum is 0x1a, computed 0x5e"
        );
        assert_eq!(error.class(), Class::Corrupt);
        assert_eq!(error.places(), ["partition 2", "byte 1024"]);
        assert_eq!(error.lacks(), None);
        let full = Error::no_room("3 MB are missing").lacking(ByteLen::new(3_000_000)).at("a card");
        assert_eq!(full.lacks(), Some(ByteLen::new(3_000_000)));
    }

    #[test]
    fn the_systems_answer_decides_the_class() {
        let of = |raw| Error::io("writing", io::Error::from_raw_os_error(raw));
        assert_eq!(of(28).class(), Class::NoRoom);
        assert_eq!(of(13).class(), Class::Denied);
        assert_eq!(of(19).class(), Class::Gone);
        assert_eq!(of(16).class(), Class::Refused);
        assert_eq!(of(5).class(), Class::Io);
        assert_eq!(of(28).to_string(), "writing: no space left on device");
    }

    #[test]
    fn it_stays_small_enough_to_return_by_value() {
        assert!(size_of::<Error>() <= 16, "{} bytes", size_of::<Error>());
    }
}
