//! The hashes of names that an indexed folder is ordered by (`dx_hash_info` in the kernel's
//! documentation of directory entries): legacy, half MD4 and TEA, each with signed or unsigned
//! characters.

use crate::ext4::superblock::Superblock;

/// The initial values of half MD4 and TEA if the superblock has no seed.
const START: [u32; 4] = [0x6745_2301, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476];
/// The hash that marks the end: no name has it.
const END: u32 = 0xffff_fffe;

/// How a folder hashes names.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::ext4) struct NameHash {
    kind: HashKind,
    is_signed: bool,
    seed: [u32; 4],
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum HashKind {
    Legacy,
    HalfMd4,
    Tea,
}

impl NameHash {
    /// The hash function of a folder's root with the number `hash_version`; `None` if it is unknown, or the superblock
    /// does not record whether characters are signed.
    pub(in crate::ext4) fn of(hash_version: u8, superblock: &Superblock) -> Option<Self> {
        let kind = match hash_version {
            0 => HashKind::Legacy,
            1 => HashKind::HalfMd4,
            2 => HashKind::Tea,
            _ => return None,
        };
        let seed = superblock.hash_seed;
        let seed = if seed == [0; 4] { START } else { seed };
        Some(Self { kind, is_signed: superblock.has_signed_hashes?, seed })
    }

    /// The hash of `name`; its lowest bit is never set.
    pub(in crate::ext4) fn hash(self, name: &[u8]) -> u32 {
        let hash = match self.kind {
            HashKind::Legacy => self.legacy(name),
            HashKind::HalfMd4 => {
                let mut state = self.seed;
                let mut rest = name;
                while !rest.is_empty() {
                    half_md4(&mut state, &self.words::<8>(rest));
                    rest = rest.get(32..).unwrap_or_default();
                }
                let [_, second, ..] = state;
                second
            }
            HashKind::Tea => {
                let mut state = self.seed;
                let mut rest = name;
                while !rest.is_empty() {
                    tea(&mut state, &self.words::<4>(rest));
                    rest = rest.get(16..).unwrap_or_default();
                }
                let [first, ..] = state;
                first
            }
        };
        match hash & !1 {
            END => END.wrapping_sub(2),
            hash => hash,
        }
    }

    fn character(self, byte: u8) -> u32 {
        match self.is_signed {
            true => i32::from(byte.cast_signed()).cast_unsigned(),
            false => byte.into(),
        }
    }

    fn legacy(self, name: &[u8]) -> u32 {
        let (mut last, mut before) = (0x12a3_fe2du32, 0x37ab_e8f9u32);
        for byte in name {
            let mixed = last ^ self.character(*byte).wrapping_mul(7_152_373);
            let mut hash = before.wrapping_add(mixed);
            if hash & 0x8000_0000 != 0 {
                hash = hash.wrapping_sub(0x7fff_ffff);
            }
            (before, last) = (last, hash);
        }
        last << 1
    }

    /// The first `4 * N` characters as words, filled up with the name's length.
    fn words<const N: usize>(self, name: &[u8]) -> [u32; N] {
        let len = u32::try_from(name.len()).unwrap_or(0);
        let pad = len | len << 8;
        let pad = pad | pad << 16;
        let mut words = [pad; N];
        let most = N.saturating_mul(4);
        let name = name.get(..most).unwrap_or(name);
        for (word, four) in words.iter_mut().zip(name.chunks(4)) {
            for byte in four {
                *word = self.character(*byte).wrapping_add(*word << 8);
            }
        }
        words
    }
}

fn half_md4(state: &mut [u32; 4], words: &[u32; 8]) {
    const ROUNDS: [(u32, [u32; 4], [usize; 8]); 3] = [
        (0, [3, 7, 11, 19], [0, 1, 2, 3, 4, 5, 6, 7]),
        (0x5a82_7999, [3, 5, 9, 13], [1, 3, 5, 7, 0, 2, 4, 6]),
        (0x6ed9_eba1, [3, 9, 11, 15], [3, 7, 2, 6, 1, 5, 0, 4]),
    ];
    let [mut a, mut b, mut c, mut d] = *state;
    for (round, (constant, shifts, order)) in ROUNDS.iter().enumerate() {
        for (index, shift) in order.iter().zip(shifts.iter().cycle()) {
            let mixed = match round {
                0 => d ^ (b & (c ^ d)),
                1 => (b & c).wrapping_add((b ^ c) & d),
                _ => b ^ c ^ d,
            };
            let word = words.get(*index).copied().unwrap_or(0).wrapping_add(*constant);
            let next = a.wrapping_add(mixed).wrapping_add(word).rotate_left(*shift);
            (a, b, c, d) = (d, next, b, c);
        }
    }
    for (place, value) in state.iter_mut().zip([a, b, c, d]) {
        *place = place.wrapping_add(value);
    }
}

fn tea(state: &mut [u32; 4], words: &[u32; 4]) {
    let [mut left, mut right, ..] = *state;
    let [a, b, c, d] = *words;
    let mut sum = 0u32;
    for _ in 0..16 {
        sum = sum.wrapping_add(0x9e37_79b9);
        let mix = |half: u32, low: u32, high: u32| {
            (half << 4).wrapping_add(low) ^ half.wrapping_add(sum) ^ (half >> 5).wrapping_add(high)
        };
        left = left.wrapping_add(mix(right, a, b));
        right = right.wrapping_add(mix(left, c, d));
    }
    for (place, value) in state.iter_mut().zip([left, right]) {
        *place = place.wrapping_add(value);
    }
}

/// The hash of the entry of an attribute (`ext4_xattr_hash_entry`): its name, then words of its
/// value. Old systems took the characters of the name with a sign.
pub(in crate::ext4) fn of_attribute(name: &[u8], words: &[u32], is_signed: bool) -> u32 {
    let turn = |hash: u32, by: u32, value: u32| hash.rotate_left(by) ^ value;
    let mut hash = 0u32;
    for byte in name {
        let character = match is_signed {
            true => i32::from(byte.cast_signed()).cast_unsigned(),
            false => u32::from(*byte),
        };
        hash = turn(hash, 5, character);
    }
    words.iter().fold(hash, |hash, word| turn(hash, 16, *word))
}

/// The words of an attribute's value, filled up with zeros.
pub(in crate::ext4) fn words_of(value: &[u8]) -> Vec<u32> {
    let word = |four: &[u8]| {
        let mut whole = [0; 4];
        whole.iter_mut().zip(four).for_each(|(to, from)| *to = *from);
        u32::from_le_bytes(whole)
    };
    value.chunks(4).map(word).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The output of `debugfs -R "dx_hash -h KIND -s SEED NAME"`.
    #[test]
    fn name_hashes_match_debugfs() {
        let seed = [0x0403_0201, 0x0807_0605, 0x0c0b_0a09, 0x100f_0e0d];
        let hash = |kind, seed, is_signed, name: &str| {
            NameHash { kind, is_signed, seed }.hash(name.as_bytes())
        };
        let long = "a name of more than thirty-two characters, so that it goes through twice";
        let of = |kind| hash(kind, START, true, "brood.wav");
        assert_eq!(
            (of(HashKind::Legacy), of(HashKind::HalfMd4), of(HashKind::Tea)),
            (0x57c5_edf0, 0x5b38_be2e, 0x9438_8302)
        );
        let of = |kind| hash(kind, seed, true, long);
        assert_eq!(
            (of(HashKind::Legacy), of(HashKind::HalfMd4), of(HashKind::Tea)),
            (0x99e9_067c, 0x1b0b_09fe, 0x3b9d_f744)
        );
        let of = |is_signed| hash(HashKind::HalfMd4, START, is_signed, "R\u{f6}hre");
        assert_eq!((of(true), of(false)), (0x33d8_c81a, 0xf08f_a7ae));
    }
}
