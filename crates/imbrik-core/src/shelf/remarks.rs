//! What is remembered of an image on a shelf beside it: whether it stays, and when it was checked.
//!
//! ```toml
//! pinned = true
//! checked = "2026-11-27T02:10:00Z"   # when all of it was last read
//! whole = true                       # what came of that
//! ```

use crate::image::{Owner, PartFile};
use imbrik_store::error::{Error, Result};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::{
    fs, io,
    os::unix::fs::FileExt as _,
    path::{Path, PathBuf},
};

/// Remarks longer than this are none.
const MOST: u64 = 64 << 10;

/// What is remembered of an image beside it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Remarks {
    /// Whether it stays whatever the rules say.
    #[serde(default)]
    pub pinned: bool,
    /// When all of it was last read and held against its digests.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub checked: Option<Timestamp>,
    /// What came of that: whether it was whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub whole: Option<bool>,
}

impl Remarks {
    /// Where those on `image` stand.
    #[must_use]
    pub fn path(image: &Path) -> PathBuf {
        let mut name = image.as_os_str().to_owned();
        name.push(".remarks.toml");
        name.into()
    }

    /// Those on `image`; without any, nothing is remembered.
    ///
    /// # Errors
    /// When they cannot be read or make no sense: whether the image is pinned is not known then.
    pub fn read(image: &Path) -> Result<Self> {
        let path = Self::path(image);
        let io = |e| Error::io(format!("reading {}", path.display()), e);
        match fs::metadata(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Self::default()),
            found => {
                if found.map_err(io)?.len() > MOST {
                    return Err(Error::corrupt(format!("{} is too long", path.display())));
                }
            }
        }
        let text = fs::read_to_string(&path).map_err(io)?;
        toml::from_str(&text)
            .map_err(|e| Error::corrupt(format!("{}: {}", path.display(), e.message())))
    }

    /// Puts them beside `image`, in place of what is there.
    ///
    /// # Errors
    /// When they cannot be written; what was there stays then.
    pub fn write(&self, image: &Path, owner: Option<Owner>) -> Result<()> {
        let path = Self::path(image);
        let text = toml::to_string(self).map_err(|_| Error::bug("remarks cannot be written"))?;
        let part = PartFile::create(&path, true, owner)?;
        let written = part.file().write_all_at(text.as_bytes(), 0);
        written.map_err(|e| Error::io(format!("writing {}", path.display()), e))?;
        part.publish()
    }

    /// Whether nothing is known to be wrong with the image.
    #[must_use]
    pub fn is_sound(&self) -> bool {
        self.whole != Some(false)
    }
}
