//! The result of examining a volume.

use crate::usage::Usage;
use imbrik_store::{
    Edited, ReadAt,
    units::{ByteLen, Span},
};
use std::{fmt, sync::Arc};

/// The state in which a volume was left.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum State {
    /// Unmounted as it should be.
    Clean,
    /// Not unmounted: its journal holds newer blocks.
    ToReplay,
    /// Not unmounted, and without a journal.
    Unclean,
    /// Its system found errors in it.
    Errors,
    /// Volumes of this kind are not examined.
    Unknown,
}

impl fmt::Display for State {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Clean => "clean",
            Self::ToReplay => "journal to replay",
            Self::Unclean => "not unmounted",
            Self::Errors => "has errors",
            Self::Unknown => "not looked into",
        })
    }
}

/// A volume made of another one: recovered, edited or resized.
#[derive(Clone)]
pub struct DerivedVolume {
    /// The whole volume, readable.
    pub store: Arc<dyn ReadAt>,
    /// The ranges that differ from the original volume, in order and joined.
    pub rewritten: Vec<Span>,
}

/// An edited volume: the changed ranges are the rewritten ones.
impl From<Edited> for DerivedVolume {
    fn from(edited: Edited) -> Self {
        let rewritten = edited.spans();
        Self { store: Arc::new(edited), rewritten }
    }
}

/// The result of examining a volume.
#[derive(Clone)]
pub struct Examined {
    /// Its state.
    pub state: State,
    /// Which of its bytes are in use, once it is recovered.
    pub usage: Usage,
    /// The recovered volume; `None` if there is nothing to replay, or the journal can't be replayed and the whole
    /// volume counts as used.
    pub recovered: Option<DerivedVolume>,
    /// How small it could become; `None` for what is not resized.
    pub least: Option<Least>,
}

impl Examined {
    /// A volume of `size` bytes that can't be examined and counts as used.
    #[must_use]
    pub fn unreadable(size: ByteLen, because: impl Into<String>) -> Self {
        let usage = Usage::whole(size, because);
        Self { state: State::Unknown, usage, recovered: None, least: None }
    }
}

/// The smallest size of a volume that holds the same files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Least {
    /// The size in bytes.
    pub size: ByteLen,
    /// The reason why it can't be smaller, in a few words.
    pub limit: &'static str,
    /// True if there is a plan for that very size; otherwise it is a lower bound.
    pub is_exact: bool,
}
