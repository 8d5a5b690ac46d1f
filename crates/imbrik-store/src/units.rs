//! Positions, lengths and sectors: numbers that cannot be mixed up.
//!
//! Offset + length = offset, offset − offset = length, both checked. Sectors are converted to bytes only through a
//! [`SectorSize`]. The inner numbers are private; use [`ByteOffset::get`] and [`ByteLen::get`].

mod spans;

pub use spans::{common, joined, without};
use std::fmt;

/// A position in bytes from the start of a store.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ByteOffset(u64);

/// A number of bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ByteLen(u64);

impl ByteOffset {
    /// The start of a store.
    pub const ZERO: Self = Self(0);

    /// The position `bytes` from the start.
    #[must_use]
    pub const fn new(bytes: u64) -> Self {
        Self(bytes)
    }

    /// Bytes from the start.
    #[must_use]
    pub const fn get(self) -> u64 {
        self.0
    }

    /// The position `len` further on; `None` when 64 bits cannot hold it.
    #[must_use]
    pub const fn checked_add(self, len: ByteLen) -> Option<Self> {
        match self.0.checked_add(len.0) {
            Some(bytes) => Some(Self(bytes)),
            None => None,
        }
    }

    /// The position `len` further on, or the last one there is.
    #[must_use]
    pub const fn saturating_add(self, len: ByteLen) -> Self {
        Self(self.0.saturating_add(len.0))
    }

    /// The distance from `earlier`; `None` if `earlier` is larger.
    #[must_use]
    pub const fn since(self, earlier: Self) -> Option<ByteLen> {
        match self.0.checked_sub(earlier.0) {
            Some(bytes) => Some(ByteLen(bytes)),
            None => None,
        }
    }

    /// The distance from `earlier`, zero if `earlier` is larger.
    #[must_use]
    pub const fn saturating_since(self, earlier: Self) -> ByteLen {
        ByteLen(self.0.saturating_sub(earlier.0))
    }

    /// Returns whether this is a whole multiple of `unit` from the start; `false` for a unit of nothing.
    #[must_use]
    pub const fn is_aligned_to(self, unit: ByteLen) -> bool {
        matches!(self.0.checked_rem(unit.0), Some(0))
    }
}

impl ByteLen {
    /// Zero bytes.
    pub const ZERO: Self = Self(0);

    /// A number of bytes.
    #[must_use]
    pub const fn new(bytes: u64) -> Self {
        Self(bytes)
    }

    /// `count` KiB (1024 bytes each); the largest length when 64 bits cannot hold it.
    #[must_use]
    pub const fn kib(count: u64) -> Self {
        Self(count.saturating_mul(1 << 10))
    }

    /// `count` MiB (1,048,576 bytes each); the largest length when 64 bits cannot hold it.
    #[must_use]
    pub const fn mib(count: u64) -> Self {
        Self(count.saturating_mul(1 << 20))
    }

    /// The length of something in memory.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Self {
        Self::from_usize(bytes.len())
    }

    /// A length in memory. A `usize` never exceeds 64 bits on a supported system.
    #[must_use]
    pub fn from_usize(bytes: usize) -> Self {
        Self(u64::try_from(bytes).unwrap_or(u64::MAX))
    }

    /// The number of bytes.
    #[must_use]
    pub const fn get(self) -> u64 {
        self.0
    }

    /// The length as `usize`; `None` if it does not fit.
    #[must_use]
    pub fn to_usize(self) -> Option<usize> {
        usize::try_from(self.0).ok()
    }

    /// Returns whether it is nothing.
    #[must_use]
    pub const fn is_zero(self) -> bool {
        self.0 == 0
    }

    /// Both together; `None` when 64 bits cannot hold it.
    #[must_use]
    pub const fn checked_add(self, other: Self) -> Option<Self> {
        match self.0.checked_add(other.0) {
            Some(bytes) => Some(Self(bytes)),
            None => None,
        }
    }

    /// Both together, or the largest length there is.
    #[must_use]
    pub const fn saturating_add(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }

    /// Subtracts `other`, with zero as the minimum.
    #[must_use]
    pub const fn saturating_sub(self, other: Self) -> Self {
        Self(self.0.saturating_sub(other.0))
    }

    /// `count` times this; `None` when 64 bits cannot hold it.
    #[must_use]
    pub const fn checked_mul(self, count: u64) -> Option<Self> {
        match self.0.checked_mul(count) {
            Some(bytes) => Some(Self(bytes)),
            None => None,
        }
    }
}

/// Powers of 1000, as printed on cards.
const DECIMAL: [&str; 7] = ["bytes", "kB", "MB", "GB", "TB", "PB", "EB"];
/// Powers of 1024, as many programs count.
const BINARY: [&str; 7] = ["bytes", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"];

impl ByteLen {
    /// "16 GB": three digits that count, in powers of 1000, as printed on cards.
    #[must_use]
    pub fn decimal(self) -> String {
        scaled(self.0, 1000, &DECIMAL)
    }

    /// "14.9 GiB": three digits that count, in powers of 1024.
    #[must_use]
    pub fn binary(self) -> String {
        scaled(self.0, 1024, &BINARY)
    }
}

fn scaled(bytes: u64, step: u128, units: &[&'static str]) -> String {
    let mut unit = 1u128;
    let mut name = 0usize;
    let bytes = u128::from(bytes);
    let thousandths = |unit: u128| {
        let half = unit / 2;
        bytes.saturating_mul(1000).saturating_add(half).checked_div(unit).unwrap_or(0)
    };
    // 999.5 would be shown as 1000.
    while thousandths(unit) >= 999_500 && name.saturating_add(1) < units.len() {
        unit = unit.saturating_mul(step);
        name = name.saturating_add(1);
    }
    let value = thousandths(unit);
    let (decimals, rounded) = match value {
        _ if name == 0 => (0, value / 1000),
        ..9_995 => (2, value.saturating_add(5) / 10),
        9_995..99_950 => (1, value.saturating_add(50) / 100),
        _ => (0, value.saturating_add(500) / 1000),
    };
    let base = 10u128.pow(decimals);
    let (whole, part) = (rounded.checked_div(base), rounded.checked_rem(base));
    let (whole, part) = (whole.unwrap_or(rounded), part.unwrap_or(0));
    let width = usize::try_from(decimals).unwrap_or(0);
    let number = match part {
        0 => whole.to_string(),
        part => format!("{whole}.{part:0width$}").trim_end_matches('0').to_owned(),
    };
    match (number.as_str(), units.get(name)) {
        ("1", Some(&"bytes")) => "1 byte".to_owned(),
        (number, unit) => format!("{number} {}", unit.unwrap_or(&"bytes")),
    }
}

impl std::iter::Sum for ByteLen {
    fn sum<I: Iterator<Item = Self>>(iter: I) -> Self {
        iter.fold(Self::ZERO, Self::saturating_add)
    }
}

impl fmt::Display for ByteOffset {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "byte {}", self.0)
    }
}

/// Large lengths are shown twice: rounded and in bytes.
impl fmt::Display for ByteLen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            1 => f.write_str("1 byte"),
            bytes @ ..100_000 => write!(f, "{bytes} bytes"),
            bytes => write!(f, "{} ({bytes} bytes)", self.decimal()),
        }
    }
}

/// A contiguous piece of a store. Its end fits in 64 bits.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Span {
    start: ByteOffset,
    len: ByteLen,
}

impl Span {
    /// `len` bytes from `start`; `None` when the end does not fit in 64 bits.
    #[must_use]
    pub const fn new(start: ByteOffset, len: ByteLen) -> Option<Self> {
        match start.checked_add(len) {
            Some(_) => Some(Self { start, len }),
            None => None,
        }
    }

    /// The first `len` bytes of a store.
    #[must_use]
    pub const fn whole(len: ByteLen) -> Self {
        Self { start: ByteOffset::ZERO, len }
    }

    /// From `start` up to, but not including, `end`; empty unless `end` is larger.
    #[must_use]
    pub const fn between(start: ByteOffset, end: ByteOffset) -> Self {
        Self { start, len: end.saturating_since(start) }
    }

    /// The start.
    #[must_use]
    pub const fn start(self) -> ByteOffset {
        self.start
    }

    /// How long it is.
    #[must_use]
    pub const fn len(self) -> ByteLen {
        self.len
    }

    /// The end, exclusive.
    #[must_use]
    pub const fn end(self) -> ByteOffset {
        self.start.saturating_add(self.len)
    }

    /// Returns whether it holds no byte.
    #[must_use]
    pub const fn is_empty(self) -> bool {
        self.len.is_zero()
    }

    /// The common range; `None` if it is empty.
    #[must_use]
    pub fn intersect(self, other: Self) -> Option<Self> {
        let both = Self::between(self.start.max(other.start), self.end().min(other.end()));
        (!both.is_empty()).then_some(both)
    }

    /// Returns whether `other` lies wholly inside.
    #[must_use]
    pub fn contains(self, other: Self) -> bool {
        self.start <= other.start && other.end() <= self.end()
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.end().get().checked_sub(1) {
            Some(last) if last > self.start.get() => {
                write!(f, "bytes {} to {last}", self.start.get())
            }
            _ => write!(f, "byte {}", self.start.get()),
        }
    }
}

/// The size of a sector: a power of two from 512 to 4096 bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SectorSize(u16);

impl SectorSize {
    /// 512 bytes: cards, sticks and nearly all else.
    pub const B512: Self = Self(512);
    /// 4096 bytes: some large sticks and disks.
    pub const B4096: Self = Self(4096);

    /// The size `bytes`; `None` unless it is a power of two from 512 to 4096.
    #[must_use]
    pub fn new(bytes: u64) -> Option<Self> {
        match u16::try_from(bytes) {
            Ok(size @ (512 | 1024 | 2048 | 4096)) => Some(Self(size)),
            _ => None,
        }
    }

    /// The sector size in bytes.
    #[must_use]
    pub fn bytes(self) -> u64 {
        u64::from(self.0)
    }

    /// One sector as a length.
    #[must_use]
    pub fn len(self) -> ByteLen {
        ByteLen(self.bytes())
    }

    /// The offset of sector `lba`; `None` if it does not fit in 64 bits.
    #[must_use]
    pub fn offset_of(self, lba: Lba) -> Option<ByteOffset> {
        lba.0.checked_mul(self.bytes()).map(ByteOffset)
    }

    /// How long `count` sectors are; `None` when 64 bits cannot hold it.
    #[must_use]
    pub fn len_of(self, count: SectorCount) -> Option<ByteLen> {
        count.0.checked_mul(self.bytes()).map(ByteLen)
    }

    /// `count` sectors from `start` in bytes; `None` when 64 bits cannot hold it.
    #[must_use]
    pub fn span_of(self, start: Lba, count: SectorCount) -> Option<Span> {
        Span::new(self.offset_of(start)?, self.len_of(count)?)
    }

    /// How many whole sectors fit into `len`.
    #[must_use]
    pub fn sectors_in(self, len: ByteLen) -> SectorCount {
        SectorCount(len.0.checked_div(self.bytes()).unwrap_or(0))
    }
}

impl fmt::Display for SectorSize {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} bytes", self.0)
    }
}

/// The number of a sector from the start of a card (logical block address).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Lba(u64);

/// A number of sectors.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SectorCount(u64);

impl Lba {
    /// The sector with this number.
    #[must_use]
    pub const fn new(number: u64) -> Self {
        Self(number)
    }

    /// Its number.
    #[must_use]
    pub const fn get(self) -> u64 {
        self.0
    }

    /// The sector `count` further on; `None` when 64 bits cannot hold it.
    #[must_use]
    pub const fn checked_add(self, count: SectorCount) -> Option<Self> {
        match self.0.checked_add(count.0) {
            Some(number) => Some(Self(number)),
            None => None,
        }
    }
}

impl SectorCount {
    /// A number of sectors.
    #[must_use]
    pub const fn new(count: u64) -> Self {
        Self(count)
    }

    /// The number.
    #[must_use]
    pub const fn get(self) -> u64 {
        self.0
    }
}

impl fmt::Display for Lba {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "sector {}", self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn span(start: u64, len: u64) -> Span {
        Span::new(ByteOffset::new(start), ByteLen::new(len)).unwrap()
    }

    #[test]
    fn a_position_past_64_bits_is_refused() {
        assert_eq!(ByteOffset::new(u64::MAX).checked_add(ByteLen::new(1)), None);
        assert_eq!(Span::new(ByteOffset::new(u64::MAX), ByteLen::new(1)), None);
        assert_eq!(SectorSize::B512.offset_of(Lba::new(u64::MAX / 511)), None);
    }

    #[test]
    fn spans_overlap_only_where_they_share_a_byte() {
        assert_eq!(span(0, 10).intersect(span(10, 5)), None);
        assert_eq!(span(0, 10).intersect(span(8, 5)), Some(span(8, 2)));
        assert!(span(0, 10).contains(span(10, 0)));
        assert!(!span(0, 10).contains(span(9, 2)));
    }

    #[test]
    fn sector_sizes_outside_the_standard_are_refused() {
        for bytes in [0, 1, 511, 513, 1536, 8192, 65536 + 512] {
            assert_eq!(SectorSize::new(bytes), None, "{bytes}");
        }
        assert_eq!(SectorSize::new(4096), Some(SectorSize::B4096));
    }

    #[test]
    fn sizes_are_shown_in_everyday_units() {
        for (bytes, decimal, binary) in [
            (0, "0 bytes", "0 bytes"),
            (1, "1 byte", "1 byte"),
            (999, "999 bytes", "999 bytes"),
            (1_000, "1 kB", "0.98 KiB"),
            (1_050_000, "1.05 MB", "1 MiB"),
            (999_600, "1 MB", "976 KiB"),
            (15_931_539_456, "15.9 GB", "14.8 GiB"),
            (16_000_000_000, "16 GB", "14.9 GiB"),
            (312_000_000, "312 MB", "298 MiB"),
            (u64::MAX, "18.4 EB", "16 EiB"),
        ] {
            let len = ByteLen::new(bytes);
            assert_eq!((len.decimal().as_str(), len.binary().as_str()), (decimal, binary));
        }
    }

    #[test]
    fn text_gives_the_unit() {
        assert_eq!(ByteLen::new(1).to_string(), "1 byte");
        assert_eq!(ByteLen::new(99_999).to_string(), "99999 bytes");
        assert_eq!(ByteLen::new(58_720_256).to_string(), "58.7 MB (58720256 bytes)");
        assert_eq!(ByteOffset::new(7).to_string(), "byte 7");
        assert_eq!(span(512, 512).to_string(), "bytes 512 to 1023");
        assert_eq!(span(512, 1).to_string(), "byte 512");
    }
}
