//! Mounted volumes of a card in use, and freezing them.

use imbrik_store::{error::Result, units::Span};
use std::{path::PathBuf, time::Duration};

/// A filesystem of a card that is mounted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MountedVolume {
    /// Where; of several places, one.
    pub at: PathBuf,
    /// Its device, such as `mmcblk0p2`.
    pub device: String,
    /// Its kind, as the kernel calls it.
    pub kind: String,
    /// Its range on the card.
    pub span: Span,
}

/// Freezes mounted filesystems for a short time.
pub trait Freeze {
    /// Flushes them.
    ///
    /// # Errors
    /// When one of them can't.
    fn flush(&mut self) -> Result<()>;

    /// Flushes and freezes them. Returns for each of them whether it is frozen: those that can't be frozen were only
    /// flushed.
    ///
    /// # Errors
    /// When one of them can't: nothing is stopped then.
    fn freeze(&mut self) -> Result<Vec<bool>>;

    /// Thaws them, and returns how long they were frozen.
    ///
    /// # Errors
    /// [`crate::Class::Mismatch`] when they were thawed before, so that the data read meanwhile are not a snapshot.
    fn thaw(&mut self) -> Result<Duration>;
}
