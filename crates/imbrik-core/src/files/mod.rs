//! Files of a card or an image: finding, extracting, adding and comparing them.
//!
//! ```text
//!  Tree          a volume as its own system would have it, its journal replayed
//!  find          what a path leads to: names, patterns, links on the way
//!  take_out ──►  TreeSink: a folder of this machine, or a tar stream
//!  Brought       what is to be put in, from this machine or from another volume
//! ```
//!
//! Listing files of a folder in an image, with this crate alone:
//!
//! ```no_run
//! use imbrik_core::{files::{Tree, find}, image::Image, layout::Survey};
//! use std::path::Path;
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let image = Image::open(Path::new("hive-07.img.zst"), None)?;
//! let survey = Survey::of(&**image.content())?;
//! let last = survey.parts.last().expect("it has a partition");
//! let tree = Tree::open(image.content(), last)?.expect("its files can be read");
//! let files = tree.files()?;
//! for found in find(&*files, b"/etc/*.conf")? {
//!     println!("{} has {} bytes", found.path.escape_ascii(), files.info(found.file)?.size);
//! }
//! # Ok(())
//! # }
//! ```

mod archive;
mod bring;
mod compare;
mod find;
mod folder;
mod owners;
mod take;

pub use archive::{ArchivePacking, ToArchive};
pub use bring::{Brought, Given, names};
pub use compare::{
    Aspect, Below, Change, Difference, Differences, KnownSame, Side, compare, stands_in_same,
};
pub use find::{Found, below, find};
pub use folder::ToFolder;
pub use owners::Owners;
pub use take::{
    Because, Chosen, Item, ItemContent, LeftOut, Reading, Taken, Took, TreeSink, take_out,
    weight_of,
};

use crate::layout::Part;
use imbrik_fs::{Files, OpenVolume, RecoveredVolume};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
};
use std::sync::Arc;

/// The files of a partition, as its own system would have them once it mounts it.
pub struct Tree {
    recovered: RecoveredVolume,
    title: String,
}

impl Tree {
    /// The files of `part` of `card`; `None` if its filesystem is not supported.
    ///
    /// # Errors
    /// When the card cannot be read.
    pub fn open(card: &Arc<dyn ReadAt>, part: &Part) -> Result<Option<Self>> {
        let Some(volume) = part.open(card)? else { return Ok(None) };
        if volume.files()?.is_none() {
            return Ok(None);
        }
        Ok(Some(Self { recovered: volume.recovered()?, title: part.full_title() }))
    }

    /// The files.
    ///
    /// # Errors
    /// When the card cannot be read.
    pub fn files(&self) -> Result<Box<dyn Files + '_>> {
        let files = self.recovered.volume.files()?;
        files.ok_or_else(|| Error::unsupported("its files cannot be read"))
    }

    /// The volume, recovered.
    #[must_use]
    pub fn volume(&self) -> &OpenVolume {
        &self.recovered.volume
    }

    /// "partition 2 (ext4, hive-07)".
    #[must_use]
    pub fn title(&self) -> &str {
        &self.title
    }

    /// Returns whether its journal was replayed: the result is newer than the volume on the card.
    #[must_use]
    pub fn was_replayed(&self) -> bool {
        self.recovered.was_replayed
    }

    /// The reason why the volume is shown unrecovered, although its journal should have been replayed.
    #[must_use]
    pub fn recovery_error(&self) -> Option<&Error> {
        self.recovered.recovery_error.as_ref()
    }
}
