//! Integers in byte strings, with the width and the byte order in the name.
//!
//! Every function takes an offset and returns `None` past the end, so a decoder of hostile bytes reads as plainly as
//! its specification and cannot panic.

/// The `N` bytes at `at`.
pub fn array<const N: usize>(bytes: &[u8], at: usize) -> Option<[u8; N]> {
    bytes.get(at..at.checked_add(N)?)?.try_into().ok()
}

/// The byte at `at`.
pub fn u8(bytes: &[u8], at: usize) -> Option<u8> {
    bytes.get(at).copied()
}

/// The 16-bit integer at `at`, little end first.
pub fn le_u16(bytes: &[u8], at: usize) -> Option<u16> {
    array(bytes, at).map(u16::from_le_bytes)
}

/// The 32-bit integer at `at`, little end first.
pub fn le_u32(bytes: &[u8], at: usize) -> Option<u32> {
    array(bytes, at).map(u32::from_le_bytes)
}

/// The 64-bit integer at `at`, little end first.
pub fn le_u64(bytes: &[u8], at: usize) -> Option<u64> {
    array(bytes, at).map(u64::from_le_bytes)
}

/// The 16-bit integer at `at`, big end first.
pub fn be_u16(bytes: &[u8], at: usize) -> Option<u16> {
    array(bytes, at).map(u16::from_be_bytes)
}

/// Puts `value` at `at`; `None`, and nothing written, past the end.
pub fn put<const N: usize>(bytes: &mut [u8], at: usize, value: [u8; N]) -> Option<()> {
    bytes.get_mut(at..at.checked_add(N)?)?.copy_from_slice(&value);
    Some(())
}

/// Returns whether every byte is zero.
///
/// Compares in strides that the compiler turns into wide loads: this runs over every byte of every
/// card.
pub fn is_zero(bytes: &[u8]) -> bool {
    let (strides, rest) = bytes.as_chunks::<64>();
    strides.iter().all(|stride| stride.iter().fold(0, |seen, byte| seen | byte) == 0)
        && rest.iter().all(|byte| *byte == 0)
}

/// Parses a name field up to the first NUL, without trailing spaces; `None` if it is empty.
///
/// Bytes that are no UTF-8 are shown as the replacement character: such a text is for people, it
/// names nothing.
pub fn text(field: &[u8]) -> Option<String> {
    let end = field.iter().position(|byte| *byte == 0).unwrap_or(field.len());
    let text = String::from_utf8_lossy(field.get(..end)?);
    let text: String = text.trim_end().chars().filter(|c| !c.is_control()).collect();
    (!text.is_empty()).then_some(text)
}

/// A UTF-16 little-endian name field, ended by NUL or its end; `None` when empty.
pub fn text_utf16(field: &[u8]) -> Option<String> {
    let units = field.as_chunks::<2>().0.iter().map(|unit| u16::from_le_bytes(*unit));
    let text: String = char::decode_utf16(units.take_while(|unit| *unit != 0))
        .map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER))
        .filter(|c| !c.is_control())
        .collect();
    let text = text.trim_end();
    (!text.is_empty()).then(|| text.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reading_past_the_end_returns_none() {
        let bytes = [1, 2, 3, 4];
        assert_eq!(le_u32(&bytes, 0), Some(0x0403_0201));
        assert_eq!(be_u16(&bytes, 2), Some(0x0304));
        assert_eq!(le_u32(&bytes, 1), None);
        assert_eq!(le_u16(&bytes, usize::MAX), None);
        assert_eq!(put(&mut [0; 3], 2, [1, 2]), None);
    }

    #[test]
    fn single_nonzero_byte_is_found_at_any_offset() {
        for len in [0, 1, 63, 64, 65, 1000] {
            let mut bytes = vec![0; len];
            assert!(is_zero(&bytes));
            for at in 0..len {
                bytes[at] = 1;
                assert!(!is_zero(&bytes), "byte {at} of {len}");
                bytes[at] = 0;
            }
        }
    }

    #[test]
    fn names_end_at_nul_without_trailing_spaces_and_control_characters() {
        assert_eq!(text(b"HIVE-BOOT  "), Some("HIVE-BOOT".into()));
        assert_eq!(text(b"a\x1b[2Jb\0junk"), Some("a[2Jb".into()));
        assert_eq!(text(b"   "), None);
        assert_eq!(text_utf16(b"h\0i\0\0\0x\0"), Some("hi".into()));
    }
}
