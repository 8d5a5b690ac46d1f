//! Which containers there are: a line each, and nothing else names them all.

mod archive;
mod bzip2;
mod format;
mod gz;
mod lzma;
mod members;
mod raw;
mod seven_zip;
mod xz;
mod zip;
mod zst;

pub(super) use format::{Format, FrameLens, Inside, Packer, Stream, Writing, broken, packed_len};
pub(super) use zst::ZstCodec;

/// All formats.
pub(super) const FORMATS: [&dyn Format; 8] = [
    &raw::Raw,
    &zst::Zst,
    &gz::Gzip,
    &xz::Xz,
    &bzip2::Bzip2,
    &lzma::Lzma,
    &zip::Zip,
    &seven_zip::SevenZip,
];

/// The format of a file that is of no other format.
pub(super) const RAW: (&dyn Format, &dyn Writing) = (&raw::Raw, &raw::Raw);
/// The default for written images.
pub(super) const USUAL: (&dyn Format, &dyn Writing) = (&zst::Zst, &zst::Zst);
