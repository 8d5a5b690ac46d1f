//! The structure of Zstandard frames (RFC 8878, section 3.1), as needed to find their ends.

use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset},
};

const FRAME_MAGIC: u32 = 0xfd2f_b528;
/// The skippable frame that holds the manifest; the seek table's is 0x184D2A5E by its own format.
pub(super) const MANIFEST_MAGIC: u32 = 0x184d_2a59;
/// The skippable frames of zeros between others.
pub(super) const PADDING_MAGIC: u32 = 0x184d_2a50;
/// The first bytes of a manifest's frame: the numbers of skippable frames are free for any use.
pub(super) const MANIFEST_TAG: &[u8; 16] = b"imbrik-manifest\n";

/// The header of a skippable frame with `magic` and a content of `len` bytes.
pub(super) fn skippable_header(magic: u32, len: u32) -> [u8; 8] {
    let mut header = [0; 8];
    let (first, second) = header.split_at_mut(4);
    first.copy_from_slice(&magic.to_le_bytes());
    second.copy_from_slice(&len.to_le_bytes());
    header
}

/// The length of a frame in the file, and of its content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct FrameHead {
    /// Bytes in the file.
    pub(super) packed: ByteLen,
    /// Bytes of content: 0 for a skippable frame, `None` when the frame doesn't say.
    pub(super) content: Option<ByteLen>,
}

/// Finds the end of the frame at `at` by walking its blocks, without decoding any.
///
/// # Errors
/// [`crate::Class::Corrupt`] when the frame is missing, or extends past the end of the file.
pub(super) fn shape(file: &dyn ReadAt, at: ByteOffset) -> Result<FrameHead> {
    let cut = || Error::corrupt(format!("the frame at {at} is truncated"));
    let head = read_up_to(file, at, 18)?;
    let magic = bytes::le_u32(&head, 0).ok_or_else(cut)?;
    let end = ByteOffset::new(file.size().get());
    if magic & 0xffff_fff0 == 0x184d_2a50 {
        let len = bytes::le_u32(&head, 4).ok_or_else(cut)?;
        let packed = ByteLen::new(u64::from(len).saturating_add(8));
        if at.saturating_add(packed) > end {
            return Err(cut());
        }
        return Ok(FrameHead { packed, content: Some(ByteLen::ZERO) });
    }
    if magic != FRAME_MAGIC {
        return Err(Error::corrupt(format!("no Zstandard frame at {at}")));
    }
    let descriptor = bytes::u8(&head, 4).ok_or_else(cut)?;
    let single_segment = descriptor & 0x20 != 0;
    let window = usize::from(!single_segment);
    let dictionary = match descriptor & 3 {
        3 => 4,
        len => usize::from(len),
    };
    let size_at = 5usize.saturating_add(window).saturating_add(dictionary);
    let (size_len, content) = match (descriptor >> 6, single_segment) {
        (0, false) => (0u64, None),
        (0, true) => (1, bytes::u8(&head, size_at).map(u64::from)),
        (1, _) => (2, bytes::le_u16(&head, size_at).map(|size| u64::from(size).wrapping_add(256))),
        (2, _) => (4, bytes::le_u32(&head, size_at).map(u64::from)),
        _ => (8, bytes::le_u64(&head, size_at)),
    };
    if size_len > 0 && content.is_none() {
        return Err(cut());
    }
    let header = ByteLen::from_usize(size_at).saturating_add(ByteLen::new(size_len));
    let mut block = at.saturating_add(header);
    loop {
        let raw: [u8; 3] = read_up_to(file, block, 3)?.try_into().map_err(|_| cut())?;
        let value = u32::from_le_bytes([raw[0], raw[1], raw[2], 0]);
        let (last, kind, size) = (value & 1 == 1, (value >> 1) & 3, u64::from(value >> 3));
        let len = match kind {
            1 => 1,
            0 | 2 => size,
            _ => return Err(Error::corrupt(format!("the frame at {at} has a damaged block"))),
        };
        block = block.saturating_add(ByteLen::new(len.saturating_add(3)));
        if block > end {
            return Err(cut());
        }
        if last {
            break;
        }
    }
    let checksum = if descriptor & 4 != 0 { 4 } else { 0 };
    let behind = block.saturating_add(ByteLen::new(checksum));
    if behind > end {
        return Err(cut());
    }
    Ok(FrameHead { packed: behind.saturating_since(at), content: content.map(ByteLen::new) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::SparseStore;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn parser_finds_the_end_that_the_encoder_wrote(
            content in proptest::collection::vec(any::<u8>(), 0..5000),
            run in 0usize..400_000,
            checksum in any::<bool>(),
        ) {
            let mut content = content;
            content.resize(content.len() + run, 7);
            let mut encoder = zstd::bulk::Compressor::new(1).unwrap();
            let flag = zstd::zstd_safe::CParameter::ChecksumFlag(checksum);
            encoder.set_parameter(flag).unwrap();
            let packed = encoder.compress(&content).unwrap();
            let mut file = packed.clone();
            file.extend_from_slice(b"more");
            let found = shape(&SparseStore::of(&file), ByteOffset::ZERO).unwrap();
            prop_assert_eq!(found.packed, ByteLen::of(&packed));
            prop_assert_eq!(found.content, Some(ByteLen::of(&content)));
            for cut in 0..packed.len().min(64) {
                let short = &packed[..packed.len() - 1 - cut];
                prop_assert!(shape(&SparseStore::of(short), ByteOffset::ZERO).is_err());
            }
        }
    }
}
