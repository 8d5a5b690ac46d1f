//! xz images (the .xz file format 1.2.1): one stream a tile.
//!
//! Every stream ends in an index of its blocks, so that any file of streams and blocks of moderate
//! size can be read at any place: it is walked from its end.
//!
//! ```text
//! stream header (12) │ blocks … │ index │ footer: CRC-32 (4) │ backward size (4) │ flags (2) │ "YZ"
//! ```

use super::{
    format::{Format, Inside, Packed, Packer, UseContent, Writing},
    gz::read_exactly,
    members::{Decoder, MemberKind, decoder},
};
use crate::image::{
    frames::{Codec, FramedStore, Frames, MOST_CONTENT, MOST_FRAMES},
    tile::TILE,
};
use imbrik_store::{
    ReadAt,
    bytes::{self, is_zero},
    error::{Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use liblzma::{
    bufread::XzDecoder,
    stream::{Check, Filters, LzmaOptions, Stream},
    write::XzEncoder,
};
use std::{collections::BTreeMap, io::Write, ops::RangeInclusive, sync::Arc};

const HEADER: u64 = 12;
const FOOTER: u64 = 12;
const MAGIC: &[u8] = b"\xfd7zXZ\0";
/// The longest index that is read: two numbers a block.
const MOST_INDEX: u64 = 64 << 20;
/// The maximum padding in bytes: more is invalid, and slow to skip.
const MOST_PADDING: u64 = 1 << 20;
/// Memory a decoder may take: the largest preset needs 65 MiB.
pub(super) const MOST_MEMORY: u64 = 192 << 20;

const MEMBERS: MemberKind = MemberKind {
    name: "xz",
    first_bytes: &[0xfd],
    start: |source| {
        let stream = Stream::new_stream_decoder(MOST_MEMORY, 0)?;
        Ok(Box::new(XzDecoder::new_stream(source, stream)))
    },
};

decoder!(XzDecoder<Packed>);

/// xz files.
pub(super) struct Xz;

impl Format for Xz {
    fn name(&self) -> &'static str {
        MEMBERS.name
    }

    fn is_at(&self, head: &[u8]) -> bool {
        head.starts_with(MAGIC)
    }

    fn endings(&self) -> &'static [&'static str] {
        &["xz"]
    }

    fn writing(&self) -> Option<&'static dyn Writing> {
        Some(&Self)
    }

    fn look(&self, file: &Arc<dyn ReadAt>) -> Result<Inside> {
        let framed = frames(&**file)?
            .map(|(frames, codec)| FramedStore::new(Arc::clone(file), Box::new(codec), frames));
        Ok(Inside { framed, ..Inside::default() })
    }

    fn verify(&self, file: &Arc<dyn ReadAt>) -> Result<Option<String>> {
        let damaged = streams(&**file)?.into_iter().find(|stream| !stream.has_valid_header);
        Ok(damaged.map(|stream| {
            format!("the header of the stream at {} has a wrong checksum", stream.span.start())
        }))
    }

    fn decode(&self, file: Packed, _entry: Option<&str>, work: UseContent<'_>) -> Result<()> {
        const { &MEMBERS }.decode(file, work)
    }
}

impl Writing for Xz {
    fn word(&self) -> &'static str {
        "xz"
    }

    fn about(&self) -> &'static str {
        "xz with random access"
    }

    fn levels(&self) -> Option<RangeInclusive<i32>> {
        Some(0..=9)
    }

    fn usual_level(&self) -> i32 {
        6
    }

    fn packer(&self, level: i32, _card: ByteLen) -> Result<Option<Box<dyn Packer>>> {
        let level = u32::try_from(level).unwrap_or(6);
        Ok(Some(Box::new(move |tile: &[u8]| pack(tile, level))))
    }
}

/// Compresses `content` as a separate stream, with a preset from 0 to 9.
///
/// # Errors
/// When the codec fails for want of memory.
fn pack(content: &[u8], level: u32) -> std::io::Result<Vec<u8>> {
    let mut options = LzmaOptions::new_preset(level)?;
    // More dictionary than content only costs memory, and every core pays for its own.
    let most = u32::try_from(TILE.get()).unwrap_or(1 << 22);
    options.dict_size(most);
    let mut filters = Filters::new();
    filters.lzma2(&options);
    let stream = Stream::new_stream_encoder(&filters, Check::Crc64)?;
    let mut encoder = XzEncoder::new_stream(Vec::new(), stream);
    encoder.write_all(content)?;
    encoder.finish()
}

/// A block that is not in a separate stream.
struct Block {
    /// Which check the stream uses: the second byte of its flags.
    check: u8,
    /// Its length without padding.
    unpadded: u64,
}

/// Decodes streams of one block, and single blocks.
#[derive(Default)]
struct XzCodec {
    blocks: BTreeMap<ByteOffset, Block>,
}

/// A stream, as its index describes it.
struct XzStream {
    span: Span,
    check: u8,
    /// True if the header matches its checksum, which is not needed to read the blocks.
    has_valid_header: bool,
    /// Of each block: its length without padding, and the length of its content.
    blocks: Vec<(u64, u64)>,
}

/// The blocks of a file; `None` when one is too large to be read at random.
///
/// # Errors
/// [`crate::Class::Corrupt`] when it is truncated or contradicts itself.
fn frames(file: &dyn ReadAt) -> Result<Option<(Frames, XzCodec)>> {
    let mut frames = Frames::default();
    let mut codec = XzCodec::default();
    for stream in &streams(file)? {
        let whole = stream.blocks.len() == 1;
        let mut at = stream.span.start().saturating_add(ByteLen::new(HEADER));
        for (unpadded, content) in &stream.blocks {
            let padded = unpadded.next_multiple_of(4);
            let block = Span::between(at, at.saturating_add(ByteLen::new(padded)));
            let content = ByteLen::new(*content);
            if content > MOST_CONTENT {
                return Ok(None);
            }
            if !whole {
                codec.blocks.insert(at, Block { check: stream.check, unpadded: *unpadded });
            }
            if !content.is_zero() {
                frames.push(if whole { stream.span } else { block }, content)?;
            }
            at = block.end();
        }
    }
    Ok(Some((frames, codec)))
}

/// The streams of a file, in order.
///
/// # Errors
/// As [`frames`].
fn streams(file: &dyn ReadAt) -> Result<Vec<XzStream>> {
    let mut streams = Vec::new();
    let mut padding = 0u64;
    let mut end = ByteOffset::new(file.size().get());
    while end > ByteOffset::ZERO {
        // Streams may be padded with zeros, four at a time.
        if padding < MOST_PADDING && word_before(file, end)? == 0 {
            end = ByteOffset::new(end.get().saturating_sub(4));
            padding = padding.saturating_add(4);
            continue;
        }
        let stream = stream_before(file, end)?;
        end = stream.span.start();
        streams.push(stream);
    }
    streams.reverse();
    Ok(streams)
}

fn cut_short() -> Error {
    Error::corrupt("the xz file is truncated, or has trailing data")
}

fn word_before(file: &dyn ReadAt, end: ByteOffset) -> Result<u32> {
    let at = end.get().checked_sub(4).ok_or_else(cut_short)?;
    bytes::le_u32(&read_up_to(file, ByteOffset::new(at), 4)?, 0).ok_or_else(cut_short)
}

/// The stream with the footer that ends at `end`.
fn stream_before(file: &dyn ReadAt, end: ByteOffset) -> Result<XzStream> {
    let footer_at = end.get().checked_sub(FOOTER).ok_or_else(cut_short)?;
    let footer = read_up_to(file, ByteOffset::new(footer_at), 12)?;
    let crc = bytes::le_u32(&footer, 0).ok_or_else(cut_short)?;
    let body = footer.get(4..10).ok_or_else(cut_short)?;
    if !footer.ends_with(b"YZ") || crc32fast::hash(body) != crc {
        return Err(cut_short());
    }
    let backward = u64::from(bytes::le_u32(&footer, 4).ok_or_else(cut_short)?);
    let index_len = backward.saturating_add(1).saturating_mul(4);
    let index_at = footer_at.checked_sub(index_len).ok_or_else(cut_short)?;
    if index_len > MOST_INDEX {
        return Err(Error::corrupt("the index of the xz file is too long"));
    }
    let len = usize::try_from(index_len).unwrap_or(0);
    let blocks = decode_index(&read_up_to(file, ByteOffset::new(index_at), len)?)
        .ok_or_else(|| Error::corrupt("the index of the xz file is damaged"))?;
    let body: u64 = blocks.iter().fold(0u64, |sum, (unpadded, _)| {
        sum.saturating_add(unpadded.checked_next_multiple_of(4).unwrap_or(u64::MAX))
    });
    let start = index_at.checked_sub(body).and_then(|at| at.checked_sub(HEADER));
    let start = ByteOffset::new(start.ok_or_else(cut_short)?);
    let header = read_up_to(file, start, 12)?;
    let flags = footer.get(8..10);
    if !header.starts_with(MAGIC) || header.get(6..8) != flags {
        return Err(cut_short());
    }
    let check = bytes::u8(&footer, 9).unwrap_or(0);
    let crc = flags.map(crc32fast::hash);
    let has_valid_header = bytes::le_u32(&header, 8) == crc;
    Ok(XzStream { span: Span::between(start, end), check, has_valid_header, blocks })
}

/// The records of an index: each block's length without padding, and of its content.
fn decode_index(index: &[u8]) -> Option<Vec<(u64, u64)>> {
    let crc_at = index.len().checked_sub(4)?;
    let (body, crc) = index.split_at_checked(crc_at)?;
    if bytes::le_u32(crc, 0)? != crc32fast::hash(body) {
        return None;
    }
    let mut rest = body.strip_prefix(&[0])?;
    let count = number(&mut rest)?;
    // Every record takes at least two bytes, so the count is bounded by the index itself.
    if count > u64::try_from(rest.len()).ok()? || usize::try_from(count).ok()? > MOST_FRAMES {
        return None;
    }
    let mut blocks = Vec::new();
    for _ in 0..count {
        let unpadded = number(&mut rest)?;
        let content = number(&mut rest)?;
        if unpadded == 0 || unpadded > u64::MAX / 4 {
            return None;
        }
        blocks.push((unpadded, content));
    }
    (rest.len() < 4 && is_zero(rest)).then_some(blocks)
}

/// A number in the format's variable length: seven bits a byte, the lowest first.
fn number(rest: &mut &[u8]) -> Option<u64> {
    let mut value = 0u64;
    for shift in (0..63).step_by(7) {
        let (byte, behind) = rest.split_first()?;
        *rest = behind;
        value |= u64::from(byte & 0x7f).checked_shl(shift)?;
        if byte & 0x80 == 0 {
            return Some(value);
        }
    }
    None
}

fn encode_number(mut value: u64, out: &mut Vec<u8>) {
    loop {
        let low = u8::try_from(value & 0x7f).unwrap_or(0);
        value >>= 7;
        if value == 0 {
            out.push(low);
            return;
        }
        out.push(low | 0x80);
    }
}

/// A stream that holds just this block.
fn stream_around(block: &[u8], about: &Block, content: usize) -> Vec<u8> {
    let flags = [0, about.check];
    let mut out = MAGIC.to_vec();
    out.extend_from_slice(&flags);
    out.extend_from_slice(&crc32fast::hash(&flags).to_le_bytes());
    out.extend_from_slice(block);
    let mut index = vec![0, 1];
    encode_number(about.unpadded, &mut index);
    encode_number(ByteLen::from_usize(content).get(), &mut index);
    index.resize(index.len().next_multiple_of(4), 0);
    index.extend_from_slice(&crc32fast::hash(&index).to_le_bytes());
    out.extend_from_slice(&index);
    let backward = u32::try_from(index.len() / 4).unwrap_or(1).saturating_sub(1);
    let mut footer = backward.to_le_bytes().to_vec();
    footer.extend_from_slice(&flags);
    out.extend_from_slice(&crc32fast::hash(&footer).to_le_bytes());
    out.extend_from_slice(&footer);
    out.extend_from_slice(b"YZ");
    out
}

impl Codec for XzCodec {
    fn decode(&self, packed: &[u8], at: Span, out: &mut [u8]) -> std::result::Result<(), String> {
        let made;
        let stream = match self.blocks.get(&at.start()) {
            Some(block) => {
                made = stream_around(packed, block, out.len());
                &made[..]
            }
            None => packed,
        };
        let decoder = Stream::new_stream_decoder(MOST_MEMORY, 0).map_err(|e| e.to_string())?;
        read_exactly(XzDecoder::new_stream(stream, decoder), out)
    }

    fn is_complete(&self, at: Span) -> bool {
        !self.blocks.contains_key(&at.start())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::frames::FramedStore;
    use imbrik_store::{SparseStore, read_vec};
    use proptest::prelude::*;
    use std::sync::Arc;

    proptest! {
        #[test]
        fn numbers_survive_the_round_trip(value in 0u64..1 << 62) {
            let mut out = Vec::new();
            encode_number(value, &mut out);
            prop_assert_eq!(number(&mut &out[..]), Some(value));
        }

        #[test]
        fn random_footers_at_the_end_never_panic(
            bytes in proptest::collection::vec(any::<u8>(), 0..200), marked in any::<bool>(),
        ) {
            let mut bytes = bytes;
            if marked && bytes.len() > 12 {
                let end = bytes.len();
                bytes[end - 2..].copy_from_slice(b"YZ");
                let crc = crc32fast::hash(&bytes[end - 8..end - 2]).to_le_bytes();
                bytes[end - 12..end - 8].copy_from_slice(&crc);
            }
            let _ = frames(&SparseStore::of(&bytes));
        }
    }

    #[test]
    fn xz_streams_and_padding_are_parsed_from_the_end() {
        let mut file = pack(b"brood", 1).unwrap();
        file.extend_from_slice(&[0; 8]);
        file.extend(pack(&[7; 100_000], 1).unwrap());
        file.extend(pack(b"", 1).unwrap());
        let store = Arc::new(SparseStore::of(&file));
        let (frames, codec) = frames(&*store).unwrap().unwrap();
        assert_eq!(frames.size(), ByteLen::new(100_005));
        let content = FramedStore::new(store, Box::new(codec), frames);
        let bytes = read_vec(&content, ByteOffset::new(3), 4).unwrap();
        assert_eq!(bytes, [b'o', b'd', 7, 7]);
    }
}
