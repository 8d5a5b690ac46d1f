//! zip archives that hold one image.

use super::{
    archive::{MOST_ENTRIES, only_image},
    format::{Format, Packed, Stream, UseContent, broken},
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::ByteOffset,
};
use std::sync::Arc;
use zip::{CompressionMethod, ZipArchive, result::ZipError};

/// Length of the header before an entry, without its name.
const HEADER: usize = 30;

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

    /// Compares the header before each entry with the central directory, which is enough to read it here.
    fn verify(&self, file: &Arc<dyn ReadAt>) -> Result<Option<String>> {
        let stream = Stream::of(Arc::clone(file), Arc::default());
        let Ok(mut archive) = ZipArchive::new(stream) else { return Ok(None) };
        for index in 0..archive.len().min(MOST_ENTRIES) {
            let Ok(entry) = archive.by_index_raw(index) else { continue };
            let at = ByteOffset::new(entry.header_start());
            let name = entry.name_raw();
            let header = read_up_to(&**file, at, HEADER.saturating_add(name.len()))?;
            let half = |at| bytes::le_u16(&header, at);
            let word = |at| bytes::le_u32(&header, at).map(u64::from);
            let method = match entry.compression() {
                CompressionMethod::Stored => 0,
                CompressionMethod::Deflated => 8,
                _ => continue,
            };
            // Sizes follow the content of an entry that was written as a stream.
            let is_streamed = half(6).is_some_and(|flags| flags & 8 != 0);
            let sizes = (word(14), word(18), word(22));
            let listed = (u64::from(entry.crc32()), entry.compressed_size(), entry.size());
            let is_long = sizes.1 == Some(u32::MAX.into()) || sizes.2 == Some(u32::MAX.into());
            let is_right = word(0) == Some(0x0403_4b50)
                && half(8) == Some(method)
                && header.get(HEADER..) == Some(name)
                && (is_streamed
                    || is_long
                    || sizes == (Some(listed.0), Some(listed.1), Some(listed.2)));
            if !is_right {
                return Ok(Some(format!(
                    "the header at {at} differs from the archive's directory"
                )));
            }
        }
        Ok(None)
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
        _ => Error::corrupt("the zip archive is damaged or incomplete"),
    }
}
