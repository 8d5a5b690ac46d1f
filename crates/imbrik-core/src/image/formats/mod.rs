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

/// All of them.
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

/// What a file is that is nothing else.
pub(super) const RAW: (&dyn Format, &dyn Writing) = (&raw::Raw, &raw::Raw);
/// What is written unless another is asked for.
pub(super) const USUAL: (&dyn Format, &dyn Writing) = (&zst::Zst, &zst::Zst);
