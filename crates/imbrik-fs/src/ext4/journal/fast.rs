//! Fast commits: the last changes of a volume, stored after the log as records of changes instead of blocks. After the
//! kernel's documentation ("Journal", section "Fast commits").
//!
//! They are a chain of tags, each with its length. Each commit ends in a tail with a checksum over all
//! tags since the tail before; the first starts with a head. Everything in them is little-endian.
//!
//! ```text
//! head │ inode │ range │ entry │ … │ tail │ inode │ … │ tail │ …
//! ```

use super::log::{Journal, damaged};
use crate::ext4::{
    checksum::crc32c,
    structure::map::{MOST_WRITTEN, Piece},
};
use imbrik_store::{
    bytes,
    error::{Error, Result},
};

const ADD_RANGE: u16 = 1;
const DEL_RANGE: u16 = 2;
const CREATE: u16 = 3;
const LINK: u16 = 4;
const UNLINK: u16 = 5;
const INODE: u16 = 6;
const PAD: u16 = 7;
const TAIL: u16 = 8;
const HEAD: u16 = 9;
/// Bytes of a tag before its value.
const TAG: usize = 4;
/// The shortest inode, in bytes.
const LEAST_INODE: usize = 128;
const MOST_NAME: usize = 255;

/// Something that a fast commit did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::ext4) enum Change {
    /// The fields of an inode; its blocks are recorded as ranges.
    Inode { number: u32, raw: Vec<u8> },
    /// An extent was added to a file.
    Mapped { inode: u32, piece: Piece },
    /// A part of a file, counted in blocks, is a hole.
    Unmapped { inode: u32, logical: u64, len: u64 },
    /// An inode that is new got its first name.
    Created(Name),
    /// An inode got one more name.
    Linked(Name),
    /// An inode lost a name.
    Unlinked(Name),
}

/// A name in a folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(in crate::ext4) struct Name {
    pub(in crate::ext4) folder: u32,
    pub(in crate::ext4) inode: u32,
    pub(in crate::ext4) name: Vec<u8>,
}

/// The effect of a tag on parsing.
enum Step {
    Change(Change),
    Nothing,
    /// The transaction, and the checksum of all tags before.
    Tail(u32, u32),
    /// Features, and the transaction.
    Head(u32, u32),
}

/// Reads a chain of tags.
struct Reading {
    /// The next transaction of the log.
    expected: u32,
    is_first: bool,
    sum: u32,
    /// The changes confirmed by a tail, and those that wait for one.
    done: Vec<Change>,
    tails: u32,
    waiting: Vec<Change>,
}

impl Reading {
    fn new(expected: u32) -> Self {
        let (done, waiting) = (Vec::new(), Vec::new());
        Self { expected, is_first: true, sum: 0, done, tails: 0, waiting }
    }

    /// Processes the tags of a block; returns whether more may follow.
    fn block(&mut self, block: &[u8]) -> Result<bool> {
        if std::mem::take(&mut self.is_first) && bytes::le_u16(block, 0) != Some(HEAD) {
            return Ok(false);
        }
        let mut at = 0usize;
        while let Some(value_at) = at.checked_add(TAG).filter(|end| *end <= block.len()) {
            let kind = bytes::le_u16(block, at).unwrap_or(0);
            let len = usize::from(bytes::le_u16(block, at.saturating_add(2)).unwrap_or(0));
            let end = value_at.saturating_add(len);
            let value = block.get(value_at..end);
            let Some(step) = value.and_then(|value| step(kind, value)) else {
                return self.ends("a tag is invalid");
            };
            let mut add = |end: usize| {
                self.sum = crc32c(self.sum, block.get(at..end).unwrap_or_default());
            };
            match step {
                Step::Head(features, _) if features != 0 => {
                    return Err(Error::unsupported(format!(
                        "its fast commits have a feature that is not known: {features:#x}"
                    )));
                }
                // An older chain.
                Step::Head(_, transaction) if transaction != self.expected => return Ok(false),
                Step::Head(..) | Step::Nothing => add(end),
                Step::Change(change) => {
                    add(end);
                    self.waiting.push(change);
                }
                Step::Tail(transaction, sum) => {
                    add(value_at.saturating_add(4));
                    if transaction != self.expected || sum != self.sum {
                        return self.ends("its checksum is wrong");
                    }
                    self.done.append(&mut self.waiting);
                    self.tails = self.tails.saturating_add(1);
                    self.sum = 0;
                }
            }
            at = end;
        }
        Ok(true)
    }

    /// A truncated chain is valid up to its last tail. A chain without a tail was not truncated by a power loss: the
    /// kernel refuses it, too.
    fn ends(&self, why: &str) -> Result<bool> {
        match self.tails {
            0 => Err(damaged(&format!("the first of its fast commits: {why}"))),
            _ => Ok(false),
        }
    }
}

/// Parses a tag; `None` if it is invalid.
fn step(kind: u16, value: &[u8]) -> Option<Step> {
    let word = |at: usize| bytes::le_u32(value, at);
    let name = || {
        let name = value.get(8..).filter(|name| (1..=MOST_NAME).contains(&name.len()))?;
        Some(Name { folder: word(0)?, inode: word(4)?, name: name.to_vec() })
    };
    Some(match kind {
        ADD_RANGE if value.len() == 16 => {
            let count = u64::from(bytes::le_u16(value, 8)?);
            let high = u64::from(bytes::le_u16(value, 10)?) << 32;
            let is_unwritten = count > MOST_WRITTEN;
            let piece = Piece {
                logical: word(4)?.into(),
                physical: high | u64::from(word(12)?),
                len: if is_unwritten { count.checked_sub(MOST_WRITTEN)? } else { count },
                is_unwritten,
            };
            Step::Change(Change::Mapped { inode: word(0)?, piece })
        }
        DEL_RANGE if value.len() == 12 => Step::Change(Change::Unmapped {
            inode: word(0)?,
            logical: word(4)?.into(),
            len: word(8)?.into(),
        }),
        CREATE => Step::Change(Change::Created(name()?)),
        LINK => Step::Change(Change::Linked(name()?)),
        UNLINK => Step::Change(Change::Unlinked(name()?)),
        INODE => {
            let raw = value.get(4..).filter(|raw| raw.len() >= LEAST_INODE)?;
            Step::Change(Change::Inode { number: word(0)?, raw: raw.to_vec() })
        }
        PAD => Step::Nothing,
        TAIL if value.len() >= 8 => Step::Tail(word(0)?, word(4)?),
        HEAD if value.len() == 8 => Step::Head(word(0)?, word(4)?),
        _ => return None,
    })
}

impl Journal<'_> {
    /// The changes in fast commits since the last transaction, in order; `expected` is the number of the next
    /// transaction.
    ///
    /// # Errors
    /// - When the journal cannot be read.
    /// - [`imbrik_store::Class::Corrupt`] when the first of them is damaged, and
    ///   [`imbrik_store::Class::Unsupported`] when they have an unknown feature.
    pub(super) fn fast_changes(&self, expected: u32) -> Result<Vec<Change>> {
        let mut reading = Reading::new(expected);
        // The first of their blocks is one after the end of the log.
        for number in self.fast_blocks() {
            if !reading.block(&self.read(number)?)? {
                break;
            }
        }
        Ok(reading.done)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn tag(kind: u16, value: &[u8]) -> Vec<u8> {
        let len = (value.len() as u16).to_le_bytes();
        [&kind.to_le_bytes()[..], &len, value].concat()
    }

    fn head(transaction: u32) -> Vec<u8> {
        tag(HEAD, &[[0; 4], transaction.to_le_bytes()].concat())
    }

    /// A block of `tags` with a tail to its end.
    fn block(tags: &[Vec<u8>], transaction: u32) -> Vec<u8> {
        let mut all = tags.concat();
        let len = 1024 - all.len() - TAG;
        all.extend(TAIL.to_le_bytes());
        all.extend((len as u16).to_le_bytes());
        all.extend(transaction.to_le_bytes());
        let sum = crc32c(0, &all);
        all.extend(sum.to_le_bytes());
        all.resize(1024, 0);
        all
    }

    fn read(blocks: &[Vec<u8>], expected: u32) -> Result<Vec<Change>> {
        let mut reading = Reading::new(expected);
        for block in blocks {
            if !reading.block(block)? {
                break;
            }
        }
        Ok(reading.done)
    }

    fn created(inode: u32) -> (Vec<u8>, Change) {
        let (folder, name) = (12u32, b"night".to_vec());
        let value = [&folder.to_le_bytes()[..], &inode.to_le_bytes(), &name].concat();
        (tag(CREATE, &value), Change::Created(Name { folder, inode, name }))
    }

    #[test]
    fn chain_is_valid_up_to_its_last_valid_tail() {
        let ((a, first), (b, second)) = (created(20), created(21));
        let one = block(&[head(7), a.clone()], 7);
        let two = block(std::slice::from_ref(&b), 7);
        assert_eq!(read(&[one.clone(), two.clone()], 7).unwrap(), [first.clone(), second]);
        // Of another transaction, or none at all.
        assert_eq!(read(&[one.clone(), two.clone()], 8).unwrap(), []);
        assert_eq!(read(&[vec![0; 1024]], 7).unwrap(), []);
        // Later damage ends the chain there; a damaged first record is refused.
        for damaged in [two[..20].to_vec(), [&two[..9], &[1], &two[10..]].concat(), vec![0; 1024]] {
            let found = read(&[one.clone(), damaged], 7).unwrap();
            assert_eq!(found, std::slice::from_ref(&first));
        }
        let mut wrong = one.clone();
        wrong[30] ^= 1;
        assert!(read(&[wrong], 7).is_err());
        let mut newer = one;
        newer[TAG] = 1;
        assert_eq!(read(&[newer], 7).unwrap_err().class(), imbrik_store::Class::Unsupported);
    }

    #[test]
    fn range_tags_add_and_remove_extents() {
        let range: Vec<u8> = [
            &13u32.to_le_bytes()[..],
            &5u32.to_le_bytes(),
            &(32768u16 + 3).to_le_bytes(),
            &1u16.to_le_bytes(),
            &9u32.to_le_bytes(),
        ]
        .concat();
        let piece = Piece { logical: 5, physical: (1 << 32) + 9, len: 3, is_unwritten: true };
        let Some(Step::Change(found)) = step(ADD_RANGE, &range) else { panic!() };
        assert_eq!(found, Change::Mapped { inode: 13, piece });
        assert!(step(ADD_RANGE, &range[1..]).is_none() && step(77, &range).is_none());
    }

    proptest! {
        #[test]
        fn random_bytes_parse_without_panic(
            bytes in proptest::collection::vec(any::<u8>(), 0..600),
            len in 1usize..300,
        ) {
            let mut blocks: Vec<Vec<u8>> = bytes.chunks(len).map(<[u8]>::to_vec).collect();
            let _ = read(&blocks, 7);
            if let Some(first) = blocks.first_mut() {
                first.splice(0..0, head(7));
            }
            let _ = read(&blocks, 7);
        }
    }
}
