//! Files of the format that came before xz ("LZMA alone"), which are only read.
//!
//! ```text
//! properties (1) │ dictionary (4) │ length of the content (8), or all ones │ 0 (1) │ …
//! ```

use super::{
    format::{Format, Packed, UseContent, broken},
    xz::MOST_MEMORY,
};
use imbrik_store::{
    bytes,
    error::{Error, Result},
};
use liblzma::{bufread::XzDecoder, stream::Stream};
use std::io::BufRead as _;

/// The properties that every encoder uses: the format has no mark.
const USUAL_PROPERTIES: u8 = 0x5d;
/// The maximum length of content: longer ones are not of a card.
const MOST_CONTENT: u64 = 1 << 42;

/// Files in the older format.
pub(super) struct Lzma;

impl Format for Lzma {
    fn name(&self) -> &'static str {
        "lzma"
    }

    fn is_at(&self, head: &[u8]) -> bool {
        let dictionary = bytes::le_u32(head, 1).filter(|len| len.is_power_of_two());
        let content = bytes::le_u64(head, 5);
        (bytes::u8(head, 0), bytes::u8(head, 13)) == (Some(USUAL_PROPERTIES), Some(0))
            && dictionary.is_some_and(|len| len >= 4096)
            && content.is_some_and(|len| len == u64::MAX || len < MOST_CONTENT)
    }

    fn endings(&self) -> &'static [&'static str] {
        &["lzma"]
    }

    fn decode(&self, file: Packed, _entry: Option<&str>, work: UseContent<'_>) -> Result<()> {
        let stream = Stream::new_lzma_decoder(MOST_MEMORY)
            .map_err(|e| Error::io("starting to unpack", e.into()))?;
        let mut decoder = XzDecoder::new_stream(file, stream);
        work(&mut decoder)?;
        let mut rest = decoder.into_inner();
        match rest.fill_buf().map(<[u8]>::is_empty) {
            Ok(true) => Ok(()),
            Ok(false) => Err(Error::corrupt(
                "bytes follow the end of the content: another member, which this format does not have, or garbage",
            )),
            Err(error) => Err(broken(error)),
        }
    }
}
