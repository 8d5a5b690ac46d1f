//! What is mounted of a card that is in use, and what makes it stand still.

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
    /// Where it lies on the card.
    pub span: Span,
}

/// Makes mounted filesystems stand still for a moment.
pub trait Freeze {
    /// Has them write out what they have in memory.
    ///
    /// # Errors
    /// When one of them can't.
    fn flush(&mut self) -> Result<()>;

    /// Has them write out what they have in memory, and stops whatever writes to them. Answers for each
    /// whether that is so: those of a kind that cannot be stopped were only flushed.
    ///
    /// # Errors
    /// When one of them can't: nothing is stopped then.
    fn freeze(&mut self) -> Result<Vec<bool>>;

    /// Lets them go on, and answers for how long they stood still.
    ///
    /// # Errors
    /// [`crate::Class::Mismatch`] when they were let go before, so that what was read meanwhile is not of one moment.
    fn thaw(&mut self) -> Result<Duration>;
}
