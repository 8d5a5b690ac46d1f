//! 7z archives that hold one image.

use super::{
    archive::{MOST_ENTRIES, only_image},
    format::{Format, Packed, UseContent, broken},
    xz::MOST_MEMORY,
};
use imbrik_store::error::{Error, Result};
use std::io;

/// 7z archives.
pub(super) struct SevenZip;

impl Format for SevenZip {
    fn name(&self) -> &'static str {
        "7z"
    }

    fn is_at(&self, head: &[u8]) -> bool {
        head.starts_with(b"7z\xbc\xaf\x27\x1c")
    }

    fn endings(&self) -> &'static [&'static str] {
        &["7z"]
    }

    fn decode(&self, file: Packed, entry: Option<&str>, work: UseContent<'_>) -> Result<()> {
        let failed = |error: sevenz_rust2::Error| match error {
            sevenz_rust2::Error::Io(error, _) => broken(error),
            sevenz_rust2::Error::PasswordRequired | sevenz_rust2::Error::MaybeBadPassword(_) => {
                Error::unsupported("this 7z archive is encrypted: unpack it first")
            }
            sevenz_rust2::Error::UnsupportedCompressionMethod(how) => Error::unsupported(format!(
                "this 7z archive is packed with {how}, which is not read: unpack it first"
            )),
            _ => Error::corrupt("the 7z archive is damaged or incomplete"),
        };
        let mut archive = {
            let most = usize::try_from(MOST_MEMORY >> 10).unwrap_or(usize::MAX);
            let none = sevenz_rust2::Password::empty();
            sevenz_rust2::ArchiveReader::new_with_memory_limit(file, none, most).map_err(failed)?
        };
        let files = archive.archive().files.iter().filter(|entry| !entry.is_directory());
        let names: Vec<String> = files.map(|entry| entry.name().to_owned()).collect();
        if names.len() > MOST_ENTRIES {
            return Err(Error::unsupported(
                "this 7z archive has too many entries: unpack it first",
            ));
        }
        let name = names.get(only_image(&names, "7z", entry)?).cloned().unwrap_or_default();
        let mut result = None;
        archive
            .for_each_entries(|entry, content| {
                if entry.name() == name {
                    result = Some(work(content));
                    return Ok(false);
                }
                // Entries may share a stream, so that those in front have to be passed through.
                io::copy(content, &mut io::sink())?;
                Ok(true)
            })
            .map_err(failed)?;
        result.unwrap_or_else(|| {
            Err(Error::corrupt("the 7z archive is damaged: an entry is missing"))
        })
    }
}
