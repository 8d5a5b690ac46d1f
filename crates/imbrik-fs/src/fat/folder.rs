//! Directory entries (sections 6 and 7 of the specification): 32 bytes each, preceded by the parts of a long name, the
//! last part first.

use super::boot::{BootSector, Width};
use crate::{bits::Run, clusters::span_of};
use imbrik_store::{
    ReadAt, bytes,
    error::Result,
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::ops::Range;

/// Entry size in bytes.
pub(super) const ENTRY: usize = 32;
pub(super) const ATTR_FOLDER: u8 = 0x10;
pub(super) const ATTR_VOLUME_ID: u8 = 0x08;
pub(super) const ATTR_LONG_NAME: u8 = 0x0f;
/// The attribute bits that distinguish a part of a long name from a file.
const ATTR_MASK: u8 = 0x3f;
/// The maximum size of a folder in bytes: 65,536 entries.
const MOST: u64 = 65_536 * 32;
/// The flag for the last part of a long name, which is stored first.
const LAST_PIECE: u8 = 0x40;
/// The flags for lower case without a long name: of the base and of the extension.
const SMALL_BASE: u8 = 0x08;
const SMALL_EXTENSION: u8 = 0x10;

/// The bytes of an entry.
pub(super) type Raw = [u8; ENTRY];

/// Entries with their offsets in the volume, in order.
pub(super) type Records = Vec<(ByteOffset, Raw)>;

/// The use of an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Use {
    /// The end of the folder.
    End,
    /// A removed entry.
    Free,
    /// A part of a long name.
    LongName,
    /// The label of the volume.
    Label,
    /// A file or a folder.
    File,
}

/// The use of `raw`.
pub(super) fn use_of(raw: &Raw) -> Use {
    match (raw[0], raw[11]) {
        (0, _) => Use::End,
        (0xe5, _) => Use::Free,
        (_, attributes) if attributes & ATTR_MASK == ATTR_LONG_NAME => Use::LongName,
        (_, attributes) if attributes & ATTR_VOLUME_ID != 0 => Use::Label,
        _ => Use::File,
    }
}

/// Returns whether `raw` describes a folder.
pub(super) fn is_folder(raw: &Raw) -> bool {
    raw[11] & ATTR_FOLDER != 0
}

/// `DIR_FileSize`, in bytes.
pub(super) fn size_of(raw: &Raw) -> u64 {
    bytes::le_u32(raw, 28).map_or(0, u64::from)
}

/// `NAME.EXT` from the first eleven bytes of an entry.
pub(super) fn short_name(raw: &[u8]) -> Option<Vec<u8>> {
    let (name, extension) = (raw.get(..8)?.trim_ascii_end(), raw.get(8..11)?.trim_ascii_end());
    Some(match extension {
        [] => name.to_vec(),
        extension => [name, b".", extension].concat(),
    })
}

/// Characters 0x80 to 0xff of code page 437, the one of DOS in the United States and the default of Linux.
const CODE_PAGE_437: &str = "ÇüéâäàåçêëèïîìÄÅÉæÆôöòûùÿÖÜ¢£¥₧ƒáíóúñÑªº¿⌐¬½¼¡«»░▒▓│┤╡╢╖╕╣║╗╝╜╛┐└┴┬├─┼╞╟╚╔╩╦╠═╬╧╨╤╥╙╘╒╓╫╪┘┌█▄▌▐▀αßΓπΣσµτΦΘΩδ∞φε∩≡±≥≤⌠⌡÷≈°∙·√ⁿ²■\u{a0}";

/// A short name as text. A volume does not record its code page: this is the one that Linux assumes.
fn decoded(name: &[u8]) -> String {
    let decoded = name.iter().map(|byte| match byte.checked_sub(0x80) {
        Some(index) => CODE_PAGE_437.chars().nth(index.into()).unwrap_or('?'),
        None => char::from(*byte),
    });
    decoded.collect()
}

/// The lower case of a character of the code page, where that has it.
fn lower(c: char) -> char {
    let mut lower = c.to_lowercase();
    let in_page = |c: &char| c.is_ascii() || CODE_PAGE_437.contains(*c);
    lower.next().filter(in_page).unwrap_or(c)
}

/// Returns whether `raw` is `.` or `..`.
pub(super) fn is_dots(raw: &Raw) -> bool {
    matches!(short_name(raw).as_deref(), Some(b"." | b".."))
}

/// The checksum that connects the parts of a long name with their short name.
pub(super) fn name_sum(short: &[u8]) -> u8 {
    short.iter().take(11).fold(0u8, |sum, byte| sum.rotate_right(1).wrapping_add(*byte))
}

/// The location of a folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum FolderPlace {
    /// The root of FAT12 and FAT16, which is outside of the clusters.
    Fixed(Span),
    /// One that starts at a cluster, counted from 0.
    Chain(u64),
}

impl BootSector {
    /// The location of the root directory; `None` if its cluster number is invalid.
    pub(super) fn root(&self) -> Option<FolderPlace> {
        match self.width {
            Width::Bits32 => u64::from(self.root_cluster).checked_sub(2).map(FolderPlace::Chain),
            _ => Some(FolderPlace::Fixed(Span::between(self.root_directory, self.data().start()))),
        }
    }

    /// The location of a run of clusters.
    pub(super) fn span_of(&self, run: Run) -> Span {
        span_of(run, self.data().start(), self.cluster)
    }

    /// The maximum size of a folder.
    pub(super) fn most_of_a_folder(&self) -> ByteLen {
        ByteLen::new(MOST.max(self.cluster.get()))
    }
}

/// The entries in `spans`, in this order.
///
/// # Errors
/// When the volume cannot be read.
pub(super) fn read(store: &dyn ReadAt, spans: impl IntoIterator<Item = Span>) -> Result<Records> {
    let mut records = Vec::new();
    for span in spans {
        let content = read_up_to(store, span.start(), span.len().to_usize().unwrap_or(0))?;
        for (index, raw) in content.as_chunks::<ENTRY>().0.iter().enumerate() {
            let ahead = ByteLen::from_usize(index.saturating_mul(ENTRY));
            records.push((span.start().saturating_add(ahead), *raw));
        }
    }
    Ok(records)
}

/// A file or folder, with its long name.
pub(super) struct Named<'a> {
    /// The offset of its short entry.
    pub(super) at: ByteOffset,
    pub(super) raw: &'a Raw,
    /// The indexes of its records: the parts of its long name, and its short entry.
    pub(super) slots: Range<usize>,
    long: Option<String>,
}

impl Named<'_> {
    /// Its name, as systems show it.
    pub(super) fn name(&self) -> Vec<u8> {
        match &self.long {
            Some(long) => long.clone().into_bytes(),
            None => self.shown_short_name(),
        }
    }

    /// All names by which it is found.
    pub(super) fn names(&self) -> Vec<String> {
        self.long.iter().cloned().chain([self.short_name()]).collect()
    }

    fn short_name(&self) -> String {
        let mut raw = *self.raw;
        // The mark of a free entry replaces this byte at the start of a name.
        if raw[0] == 0x05 {
            raw[0] = 0xe5;
        }
        decoded(&short_name(&raw).unwrap_or_default())
    }

    fn shown_short_name(&self) -> Vec<u8> {
        let name = self.short_name();
        let case = self.raw[12];
        // Without a dot, all of it is the base.
        let (base, extension) = name.split_at(name.rfind('.').unwrap_or(name.len()));
        let shown = |part: &str, is_small| match is_small {
            true => part.chars().map(lower).collect(),
            false => part.to_owned(),
        };
        let base = shown(base, case & SMALL_BASE != 0);
        (base + &shown(extension, case & SMALL_EXTENSION != 0)).into_bytes()
    }

    /// Returns whether its long or its short name is `wanted`, ignoring case.
    pub(super) fn is_called(&self, wanted: &[u8]) -> bool {
        let lower = String::from_utf8_lossy(wanted).to_lowercase();
        self.long.as_ref().is_some_and(|long| long.to_lowercase() == lower)
            || self.short_name().to_lowercase() == lower
    }
}

/// The parts of a long name that were read so far.
#[derive(Default)]
struct Pieces {
    units: Vec<u16>,
    /// The number of the last part; 0 if it is missing, or the numbers are not consecutive.
    number: u8,
    sum: u8,
}

impl Pieces {
    fn take(&mut self, raw: &Raw) {
        let (number, sum) = (raw[0], raw[13]);
        let is_next = match number & LAST_PIECE {
            0 => number.checked_add(1) == Some(self.number) && sum == self.sum,
            _ => {
                self.units.clear();
                true
            }
        };
        self.number = if is_next { number & !LAST_PIECE } else { 0 };
        self.sum = sum;
        let parts = [raw.get(1..11), raw.get(14..26), raw.get(28..32)];
        let mut piece: Vec<u16> = parts
            .into_iter()
            .flatten()
            .flat_map(|part| part.as_chunks::<2>().0)
            .map(|unit| u16::from_le_bytes(*unit))
            .take_while(|unit| *unit != 0)
            .collect();
        piece.append(&mut self.units);
        self.units = piece;
    }

    /// The name for `raw`; `None` if the parts don't belong to it.
    fn name_of(&mut self, raw: &Raw) -> Option<String> {
        let pieces = std::mem::take(self);
        let is_its = pieces.number == 1 && pieces.sum == name_sum(raw);
        is_its.then(|| String::from_utf16_lossy(&pieces.units))
    }
}

/// The files and folders among `records`, with their long names.
pub(super) fn named(records: &[(ByteOffset, Raw)]) -> impl Iterator<Item = Named<'_>> {
    let mut pieces = Pieces::default();
    let used = records.iter().enumerate().take_while(|(_, (_, raw))| use_of(raw) != Use::End);
    used.filter_map(move |(index, (at, raw))| match use_of(raw) {
        Use::LongName => {
            pieces.take(raw);
            None
        }
        Use::File => {
            let long = pieces.name_of(raw);
            let before = long.as_ref().map_or(0, |name| name.encode_utf16().count().div_ceil(13));
            let slots = index.saturating_sub(before)..index.saturating_add(1);
            Some(Named { at: *at, raw, slots, long })
        }
        Use::End | Use::Free | Use::Label => {
            pieces = Pieces::default();
            None
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(records: &[Raw]) -> Records {
        records.iter().map(|raw| (ByteOffset::ZERO, *raw)).collect()
    }

    fn file(short: &[u8; 11], case: u8) -> Raw {
        let mut raw = [0; ENTRY];
        raw[..11].copy_from_slice(short);
        (raw[11], raw[12]) = (0x20, case);
        raw
    }

    fn names(records: &[Raw]) -> Vec<String> {
        let names = at(records);
        named(&names).map(|one| String::from_utf8_lossy(&one.name()).into_owned()).collect()
    }

    #[test]
    fn long_name_applies_only_to_its_own_entry() {
        let short = file(b"BROODS~1TXT", 0);
        let units: Vec<u16> = "brood-sounds-2026.txt".encode_utf16().collect();
        let mut set = crate::fat::edit::long_entries(&units, short[..11].try_into().unwrap());
        set.push(short);
        assert_eq!(names(&set), ["brood-sounds-2026.txt"]);
        // Another program renamed the file, and knew nothing of long names.
        set[2] = file(b"OTHER   TXT", 0);
        assert_eq!(names(&set), ["OTHER.TXT"]);
        // One of the parts is missing.
        let rest = [set[1], short];
        assert_eq!(names(&rest), ["BROODS~1.TXT"]);
    }

    #[test]
    fn lower_case_flags_apply_without_a_long_name() {
        let records = [file(b"CONFIG  TXT", 0x18), file(b"KERNEL  IMG", 0x10), [0; 32]];
        assert_eq!(names(&records), ["config.txt", "KERNEL.img"]);
        assert!(named(&at(&records)).next().unwrap().is_called(b"Config.TXT"));
    }
}
