//! zip archives that hold one image.

use super::{
    archive::{MOST_ENTRIES, only_image},
    format::{Format, Packed, UseContent, broken},
};
use imbrik_store::error::{Error, Result};
use zip::{CompressionMethod, ZipArchive, result::ZipError};

/// zip archives.
pub(super) struct Zip;

impl Format for Zip {
    fn name(&self) -> &'static str {
        "zip"
    }

    fn is_at(&self, head: &[u8]) -> bool {
        head.starts_with(b"PK\x03\x04")
    }

    fn endings(&self) -> &'static [&'static str] {
        &["zip"]
    }

    fn decode(&self, file: Packed, entry: Option<&str>, work: UseContent<'_>) -> Result<()> {
        let mut archive = ZipArchive::new(file).map_err(zip_error)?;
        if archive.len() > MOST_ENTRIES {
            return Err(Error::unsupported(
                "this zip archive has too many entries: unpack it first",
            ));
        }
        let mut names = Vec::new();
        for index in 0..archive.len() {
            let entry = archive.by_index_raw(index).map_err(zip_error)?;
            names.push(String::from_utf8_lossy(entry.name_raw()).into_owned());
        }
        let mut entry = archive.by_index(only_image(&names, "zip", entry)?).map_err(zip_error)?;
        if !matches!(entry.compression(), CompressionMethod::Stored | CompressionMethod::Deflated) {
            let how = entry.compression();
            return Err(Error::unsupported(format!(
                "this zip archive is packed with {how}, which is not read: unpack it first"
            )));
        }
        work(&mut entry)
    }
}

fn zip_error(error: ZipError) -> Error {
    match error {
        ZipError::Io(error) => broken(error),
        ZipError::UnsupportedArchive(why) => Error::unsupported(format!(
            "this zip archive cannot be read: {}; unpack it first",
            why.to_lowercase()
        )),
        // The library's own words name parts of the format that only its authors know.
        _ => Error::corrupt("the zip archive is damaged, or not all of it is there"),
    }
}
