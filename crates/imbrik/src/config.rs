//! The configuration: `imbrik/config.toml` in the caller's configuration folder.
//!
//! ```toml
//! images = "/home/keeper/cards"   # where images go when no folder is named
//! level = 6                       # zstd level
//! sums = ["sha256", "blake3"]     # checksum files
//! rack = "/home/keeper/rack"      # simulated cards for cards
//! ```

use crate::failure::{self, Failure, Outcome};
use serde::Deserialize;
use std::{
    fs, io,
    path::{Path, PathBuf},
};

/// Settings that apply to all commands. Options on the command line take precedence.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Config {
    pub(crate) images: Option<PathBuf>,
    pub(crate) level: Option<i32>,
    pub(crate) sums: Option<Vec<String>>,
    pub(crate) rack: Option<PathBuf>,
}

impl Config {
    /// Reads the configuration in `folder`; without one, everything is as usual.
    pub(crate) fn read(folder: Option<&Path>) -> Outcome<Self> {
        let Some(path) = folder.map(|folder| folder.join("imbrik/config.toml")) else {
            return Ok(Self::default());
        };
        let text = match fs::read_to_string(&path) {
            Ok(text) => text,
            // An unreadable file belongs to another user: the home folder is not the caller's.
            Err(e)
                if matches!(
                    e.kind(),
                    io::ErrorKind::NotFound | io::ErrorKind::PermissionDenied
                ) =>
            {
                return Ok(Self::default());
            }
            Err(e) => {
                return Err(failure::system(format!("reading {}", path.display()), e));
            }
        };
        toml::from_str(&text).map_err(|e| {
            Failure::usage(format!("{}: {}", path.display(), e.message()))
                .next("Correct the file, or move it away.")
        })
    }
}
