//! What a close look at a volume finds.

use crate::usage::Usage;
use imbrik_store::{
    Edited, ReadAt,
    units::{ByteLen, Span},
};
use std::{fmt, sync::Arc};

/// What state a volume was left in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum State {
    /// Unmounted as it should be.
    Clean,
    /// Not unmounted: its journal holds newer blocks.
    ToReplay,
    /// Not unmounted, and it has no journal that would tell what is newer.
    Unclean,
    /// Its system found errors in it.
    Errors,
    /// Its kind is not looked into.
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
    /// Where it differs from the other one, in order and joined.
    pub rewritten: Vec<Span>,
}

/// An edited volume: what was changed is what is rewritten.
impl From<Edited> for DerivedVolume {
    fn from(edited: Edited) -> Self {
        let rewritten = edited.spans();
        Self { store: Arc::new(edited), rewritten }
    }
}

/// What a close look at a volume found.
#[derive(Clone)]
pub struct Examined {
    /// What state it was left in.
    pub state: State,
    /// Which of its bytes are in use, once it is recovered.
    pub usage: Usage,
    /// What a replay of its journal changes; `None` when there is nothing to replay, or it cannot
    /// be, so that the whole volume counts as used.
    pub recovered: Option<DerivedVolume>,
    /// How small it could become; `None` for what is not resized.
    pub least: Option<Least>,
}

impl Examined {
    /// A volume of `size` bytes, all of which count as used, since it cannot be looked at.
    #[must_use]
    pub fn unreadable(size: ByteLen, because: impl Into<String>) -> Self {
        let usage = Usage::whole(size, because);
        Self { state: State::Unknown, usage, recovered: None, least: None }
    }
}

/// The smallest size of a volume that holds the same files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Least {
    /// Bytes.
    pub size: ByteLen,
    /// What keeps it from being smaller, in a few words.
    pub limit: &'static str,
    /// Whether there is a plan for that very size; otherwise it is a lower bound.
    pub is_exact: bool,
}
