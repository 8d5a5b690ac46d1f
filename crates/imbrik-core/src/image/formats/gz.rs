//! gzip images (RFC 1952): one member per tile, with its length in an extra field, so that the file has random access
//! without an index.
//!
//! ```text
//! 1f 8b 08 flags │ mtime (4) │ xfl │ os │ xlen (2) │ 'I' 'K' 16 0 │
//! member (4) │ content (4) │ card (8) │ … deflate … │ CRC-32 (4) │ content (4)
//! ```
//!
//! All numbers are little-endian: the length of the member, of its content, and of the card, so that missing members at
//! the end are detected.

use super::{
    format::{Format, FrameLens, Inside, Packed, Packer, UseContent, Writing},
    members::{Decoder, MemberKind, decoder},
};
use crate::image::frames::{Codec, FramedStore, Frames, MOST_CONTENT};
use flate2::{Compression, GzBuilder, bufread::GzDecoder};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::{
    io::{Read, Write},
    ops::RangeInclusive,
    sync::Arc,
};

const MAGIC: &[u8] = &[0x1f, 0x8b, 8];
const HAS_EXTRA: u8 = 4;
/// The extra field of our members: its id and its length.
const FIELD: [u8; 4] = [b'I', b'K', 16, 0];
/// The start and end of the field's three numbers in a member.
const NUMBERS_AT: usize = 16;
const NUMBERS_END: usize = 32;

const MEMBERS: MemberKind = MemberKind {
    name: "gzip",
    first_bytes: &[0x1f],
    start: |source| Ok(Box::new(GzDecoder::new(source))),
};

decoder!(GzDecoder<Packed>);

/// gzip files.
pub(super) struct Gzip;

impl Format for Gzip {
    fn name(&self) -> &'static str {
        MEMBERS.name
    }

    fn is_at(&self, head: &[u8]) -> bool {
        head.starts_with(MAGIC)
    }

    fn endings(&self) -> &'static [&'static str] {
        &["gz"]
    }

    fn writing(&self) -> Option<&'static dyn Writing> {
        Some(&Self)
    }

    fn look(&self, file: &Arc<dyn ReadAt>) -> Result<Inside> {
        let framed = frames(&**file)?;
        let framed =
            framed.map(|frames| FramedStore::new(Arc::clone(file), Box::new(GzCodec), frames));
        Ok(Inside { framed, ..Inside::default() })
    }

    fn decode(&self, file: Packed, _entry: Option<&str>, work: UseContent<'_>) -> Result<()> {
        const { &MEMBERS }.decode(file, work)
    }
}

impl Writing for Gzip {
    fn frame_at(&self, file: &dyn ReadAt, at: ByteOffset) -> Option<FrameLens> {
        let found = decode(&read_up_to(file, at, NUMBERS_END).ok()?)?;
        Some(FrameLens {
            packed: found.packed.get().try_into().ok().filter(|packed| *packed > 0)?,
            content: found.content.get().try_into().ok()?,
        })
    }

    fn codec(&self) -> Option<Box<dyn Codec>> {
        Some(Box::new(GzCodec))
    }

    fn frames_tell_the_card(&self) -> bool {
        true
    }

    fn word(&self) -> &'static str {
        "gz"
    }

    fn about(&self) -> &'static str {
        "gzip with random access"
    }

    fn levels(&self) -> Option<RangeInclusive<i32>> {
        Some(1..=9)
    }

    fn usual_level(&self) -> i32 {
        6
    }

    fn packer(&self, level: i32, card: ByteLen) -> Result<Option<Box<dyn Packer>>> {
        let level = u32::try_from(level).unwrap_or(6);
        Ok(Some(Box::new(move |tile: &[u8]| pack(tile, card, level))))
    }
}

/// Compresses `content`, a part of a card of `card` bytes, as a separate member.
///
/// # Errors
/// When it is longer than a member can say.
fn pack(content: &[u8], card: ByteLen, level: u32) -> std::io::Result<Vec<u8>> {
    let mut extra = FIELD.to_vec();
    extra.extend_from_slice(&[0; 4]);
    let too_long = |_| std::io::Error::other("the content is too long for a member");
    extra.extend_from_slice(&u32::try_from(content.len()).map_err(too_long)?.to_le_bytes());
    extra.extend_from_slice(&card.get().to_le_bytes());
    let builder = GzBuilder::new().extra(extra);
    let mut encoder = builder.write(Vec::new(), Compression::new(level));
    encoder.write_all(content)?;
    let mut member = encoder.finish()?;
    let len = u32::try_from(member.len()).map_err(too_long)?.to_le_bytes();
    if let Some(place) = member.get_mut(NUMBERS_AT..NUMBERS_AT.saturating_add(4)) {
        place.copy_from_slice(&len);
    }
    Ok(member)
}

/// The lengths that a member records.
struct Member {
    packed: ByteLen,
    content: ByteLen,
    card: ByteLen,
}

fn decode(head: &[u8]) -> Option<Member> {
    let is_ours = head.starts_with(MAGIC)
        && bytes::u8(head, 3)? == HAS_EXTRA
        && bytes::le_u16(head, 10)? == 20
        && head.get(12..16)? == FIELD;
    if !is_ours {
        return None;
    }
    Some(Member {
        packed: ByteLen::new(bytes::le_u32(head, 16)?.into()),
        content: ByteLen::new(bytes::le_u32(head, 20)?.into()),
        card: ByteLen::new(bytes::le_u64(head, 24)?),
    })
}

/// The members of a file of ours; `None` for one of others, which can only be decoded from its
/// start.
///
/// # Errors
/// [`crate::Class::Corrupt`] when a file of ours is truncated or its members contradict each other.
fn frames(file: &dyn ReadAt) -> Result<Option<Frames>> {
    let end = ByteOffset::new(file.size().get());
    let mut frames = Frames::default();
    let mut at = ByteOffset::ZERO;
    let mut card = None;
    while at < end {
        let member = decode(&read_up_to(file, at, NUMBERS_END)?);
        let Some(member) = member.filter(|member| member.packed > ByteLen::ZERO) else {
            // Other programs may have appended a member.
            return Ok(None);
        };
        let packed = Span::between(at, at.saturating_add(member.packed));
        if packed.end() > end {
            return Err(Error::corrupt(format!("the gzip member at {at} is truncated")));
        }
        if member.content > MOST_CONTENT || card.is_some_and(|card| card != member.card) {
            return Err(Error::corrupt(format!("the gzip member at {at} is not of this image")));
        }
        card = Some(member.card);
        frames.push(packed, member.content)?;
        at = packed.end();
    }
    match card {
        Some(card) if card != frames.size() => Err(Error::corrupt(format!(
            "it is truncated: it has {} of the card's {card}",
            frames.size()
        ))),
        _ => Ok(Some(frames)),
    }
}

/// Decodes gzip members.
struct GzCodec;

impl Codec for GzCodec {
    fn decode(&self, packed: &[u8], _: Span, out: &mut [u8]) -> std::result::Result<(), String> {
        read_exactly(GzDecoder::new(packed), out)
    }
}

/// Fills `out` from `decoder`, which must end there.
pub(super) fn read_exactly(
    mut decoder: impl Read,
    out: &mut [u8],
) -> std::result::Result<(), String> {
    decoder.read_exact(out).map_err(|e| e.to_string())?;
    // The checksum follows the content, and is read only now.
    match decoder.read(&mut [0]).map_err(|e| e.to_string())? {
        0 => Ok(()),
        _ => Err("its content is longer than recorded".to_owned()),
    }
}
