//! bzip2 files, which are only read.

use super::{
    format::{Format, Packed, UseContent},
    members::{Decoder, MemberKind, decoder},
};
use bzip2::bufread::BzDecoder;
use imbrik_store::error::Result;

const MEMBERS: MemberKind = MemberKind {
    name: "bzip2",
    first_bytes: b"B",
    start: |source| Ok(Box::new(BzDecoder::new(source))),
};

decoder!(BzDecoder<Packed>);

/// bzip2 files.
pub(super) struct Bzip2;

impl Format for Bzip2 {
    fn name(&self) -> &'static str {
        MEMBERS.name
    }

    fn is_at(&self, head: &[u8]) -> bool {
        head.starts_with(b"BZh")
    }

    fn endings(&self) -> &'static [&'static str] {
        &["bz2"]
    }

    fn decode(&self, file: Packed, _entry: Option<&str>, work: UseContent<'_>) -> Result<()> {
        const { &MEMBERS }.decode(file, work)
    }
}
