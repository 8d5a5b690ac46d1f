//! The up-case table (section 7.2 of the specification): how names are compared, and hashed.

use super::boot::BootSector;
use crate::{bits::Run, clusters::span_of};
use imbrik_store::{
    ReadAt,
    error::{Error, Result},
    read_vec,
};

/// In a compressed table, the next number is a count of characters that map to themselves.
const OWN_CAPITALS: u16 = 0xffff;
/// The maximum length of the table in bytes: one code unit per character, written as two at most.
const MOST: u64 = 4 * 0x1_0000;

/// The up-case mapping of all characters.
pub(super) struct UpCase(Vec<u16>);

impl UpCase {
    /// The table of `len` bytes in the clusters `runs`, which must match `checksum`.
    ///
    /// # Errors
    /// When it cannot be read; [`imbrik_store::Class::Corrupt`] when it is too long or does not match its
    /// checksum.
    pub(super) fn read(
        store: &dyn ReadAt,
        boot: &BootSector,
        runs: &[Run],
        len: u64,
        checksum: Option<u32>,
    ) -> Result<Self> {
        if len > MOST {
            return Err(Error::corrupt("its up-case table is too long"));
        }
        let mut raw = Vec::new();
        for run in runs {
            let span = span_of(*run, boot.data().start(), boot.cluster);
            raw.extend(read_vec(store, span.start(), span.len().to_usize().unwrap_or(0))?);
        }
        raw.truncate(usize::try_from(len).unwrap_or(0));
        let computed =
            raw.iter().fold(0u32, |sum, byte| sum.rotate_right(1).wrapping_add(u32::from(*byte)));
        match checksum == Some(computed) {
            true => Ok(Self::decode(&raw)),
            false => Err(Error::corrupt("its up-case table does not match its checksum")),
        }
    }

    fn decode(raw: &[u8]) -> Self {
        let mut capitals: Vec<u16> = Vec::new();
        let mut numbers = raw.as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair));
        let own = |at: usize| u16::try_from(at).unwrap_or(u16::MAX);
        while let Some(number) = numbers.next() {
            match number {
                // The last character can't be part of a compressed range.
                OWN_CAPITALS if capitals.len() < usize::from(u16::MAX) => {
                    for _ in 0..numbers.next().unwrap_or(0) {
                        capitals.push(own(capitals.len()));
                    }
                }
                capital => capitals.push(capital),
            }
        }
        Self(capitals)
    }

    /// The upper case of a character; the same if the table does not map it.
    pub(super) fn of(&self, unit: u16) -> u16 {
        self.0.get(usize::from(unit)).copied().unwrap_or(unit)
    }

    /// The hash of a name (section 7.6.4).
    pub(super) fn hash(&self, name: &[u16]) -> u16 {
        let bytes = name.iter().flat_map(|unit| self.of(*unit).to_le_bytes());
        bytes.fold(0u16, |hash, byte| hash.rotate_right(1).wrapping_add(u16::from(byte)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn compressed_upcase_table_omits_identity_mappings() {
        // A range of 97 characters, then A and B for a and b; nothing after that.
        let raw: Vec<u8> =
            [0xffff, 97, 65, 66u16].iter().flat_map(|unit| unit.to_le_bytes()).collect();
        let table = UpCase::decode(&raw);
        let capitals =
            |name: &str| name.encode_utf16().map(|unit| table.of(unit)).collect::<Vec<_>>();
        assert_eq!(capitals("abc-Ab"), capitals("ABc-aB"));
        assert_ne!(capitals("c"), capitals("C"));
        let hash = |name: &str| table.hash(&name.encode_utf16().collect::<Vec<_>>());
        assert_eq!(hash("ab"), hash("AB"));
        // By hand: 65 is added, turned, 0 is added, turned, …
        assert_eq!(hash("a"), 0x8020);
    }
}
