//! Remarks on an image of a shelf, in a file next to it: whether it is pinned, and the result of the last check.
//!
//! ```toml
//! image = "9f86d0…"                  # BLAKE3 of the manifest of the image
//! pinned = true
//! checked = "2026-11-27T02:10:00Z"   # by the clock of the computer that read the image
//! whole = true                       # the result
//!
//! [file]                             # the file that was checked
//! size = 118472704
//! modified = "1795745400.123456789"
//! changed = "1795745400.223456789"
//! ```
//!
//! Remarks are about one image, not about a name: another file of the same name is not pinned, and not checked. Times
//! of the file are compared for equality only, since the clock of a file server may be wrong.

use crate::image::{Image, Owner, PartFile};
use imbrik_store::error::{Error, Result};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::{
    fs::{self, Metadata},
    io,
    os::unix::fs::{FileExt as _, MetadataExt as _},
    path::{Path, PathBuf},
};

/// Longer files are not remarks, in bytes.
const MOST: u64 = 64 << 10;

/// The remarks on an image.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Remarks {
    /// True when no rule removes it.
    pub pinned: bool,
    /// When all of it was last read and compared with its digests, by the clock of the computer that did it.
    pub checked: Option<Timestamp>,
    /// The result: whether it was intact. A failed check is remembered until a check of the same image passes.
    pub whole: Option<bool>,
}

/// The file next to an image.
#[derive(Default, Serialize, Deserialize)]
struct Stored {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    image: Option<String>,
    #[serde(default)]
    pinned: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    checked: Option<Timestamp>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    whole: Option<bool>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    file: Option<FileState>,
}

/// The state of a file. It changes when the file is written, copied or exchanged.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileState {
    size: u64,
    modified: String,
    changed: String,
}

impl FileState {
    /// The state of an open file.
    #[must_use]
    pub fn from_metadata(found: &Metadata) -> Self {
        let time = |seconds: i64, nanoseconds: i64| format!("{seconds}.{nanoseconds:09}");
        Self {
            size: found.len(),
            modified: time(found.mtime(), found.mtime_nsec()),
            changed: time(found.ctime(), found.ctime_nsec()),
        }
    }

    /// The state of the file at `path`.
    ///
    /// # Errors
    /// When it cannot be inspected.
    pub fn read(path: &Path) -> Result<Self> {
        let found = fs::metadata(path);
        let found = found.map_err(|e| Error::io(format!("opening {}", path.display()), e))?;
        Ok(Self::from_metadata(&found))
    }
}

impl Remarks {
    /// Path of the remarks on `image`.
    #[must_use]
    pub fn path(image: &Path) -> PathBuf {
        let mut name = image.as_os_str().to_owned();
        name.push(".remarks.toml");
        name.into()
    }

    /// The remarks on `image`, whose file is in state `file`; the default if there are no remarks, or they are about
    /// another image.
    ///
    /// # Errors
    /// When they cannot be read or parsed: then it is unknown whether the image is pinned.
    pub fn read(image: &Image, file: &FileState) -> Result<Self> {
        let stored = Stored::read(image.path())?;
        let digest = image.manifest_digest().map(|digest| digest.to_hex().to_string());
        if stored.image.is_some() && stored.image != digest {
            return Ok(Self::default());
        }
        let is_same_file = stored.file.as_ref() == Some(file);
        let is_known = stored.whole == Some(false) || is_same_file;
        Ok(Self {
            pinned: stored.pinned,
            checked: stored.checked.filter(|_| is_known),
            whole: stored.whole.filter(|_| is_known),
        })
    }

    /// Writes them next to `image`, replacing older ones. `digest` is that of its manifest, `file` the state of its
    /// file before it was checked.
    ///
    /// # Errors
    /// When they cannot be written; older ones stay unchanged then.
    pub(super) fn write(
        &self,
        image: &Path,
        digest: Option<blake3::Hash>,
        file: FileState,
        owner: Option<Owner>,
    ) -> Result<()> {
        let path = Self::path(image);
        let stored = Stored {
            image: digest.map(|digest| digest.to_hex().to_string()),
            pinned: self.pinned,
            checked: self.checked,
            whole: self.whole,
            file: self.checked.map(|_| file),
        };
        let text = toml::to_string(&stored).map_err(|_| Error::bug("remarks cannot be encoded"))?;
        let part = PartFile::create(&path, true, owner)?;
        let written = part.file().write_all_at(text.as_bytes(), 0);
        written.map_err(|e| Error::io(format!("writing {}", path.display()), e))?;
        part.publish()
    }

    /// Returns false when the image is known to be damaged.
    #[must_use]
    pub fn is_sound(&self) -> bool {
        self.whole != Some(false)
    }
}

impl Stored {
    fn read(image: &Path) -> Result<Self> {
        let path = Remarks::path(image);
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
}
