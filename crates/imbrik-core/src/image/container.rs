//! Which container a file is, by its first bytes, and which are written.

use std::{fmt, ops::RangeInclusive, path::Path};

/// What a file is wrapped in, by content.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Container {
    /// No wrapping: the card's bytes themselves.
    Raw,
    /// Zstandard frames.
    Zstd,
    /// gzip members.
    Gzip,
    /// xz streams.
    Xz,
    /// bzip2 streams.
    Bzip2,
    /// A zip archive.
    Zip,
    /// A 7z archive.
    SevenZip,
}

impl Container {
    /// The container whose file starts with `head`.
    #[must_use]
    pub fn of(head: &[u8]) -> Self {
        let marks: [(&[u8], Self); 6] = [
            (b"\x28\xb5\x2f\xfd", Self::Zstd),
            (b"\x1f\x8b\x08", Self::Gzip),
            (b"\xfd7zXZ\0", Self::Xz),
            (b"BZh", Self::Bzip2),
            (b"PK\x03\x04", Self::Zip),
            (b"7z\xbc\xaf\x27\x1c", Self::SevenZip),
        ];
        // A skippable frame: 0x184D2A50 to 0x184D2A5F.
        let skippable = matches!(head, [0x50..=0x5f, 0x2a, 0x4d, 0x18, ..]);
        let marked = marks.iter().find(|(mark, _)| head.starts_with(mark)).map(|(_, kind)| *kind);
        marked.unwrap_or(if skippable { Self::Zstd } else { Self::Raw })
    }
}

impl fmt::Display for Container {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Raw => "raw",
            Self::Zstd => "zstd",
            Self::Gzip => "gzip",
            Self::Xz => "xz",
            Self::Bzip2 => "bzip2",
            Self::Zip => "zip",
            Self::SevenZip => "7z",
        })
    }
}

/// The containers that are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Pack {
    /// The raw card, with holes for zeros.
    Raw,
    /// One Zstandard frame a tile.
    Zst,
    /// One gzip member a tile.
    Gz,
    /// One xz stream a tile.
    Xz,
}

impl Pack {
    /// The container that a file name asks for; `None` when it asks for none that is written.
    #[must_use]
    pub fn of_name(path: &Path) -> Option<Self> {
        let extension = path.extension()?.to_str()?;
        match extension.to_ascii_lowercase().as_str() {
            "zst" | "zstd" => Some(Self::Zst),
            "gz" => Some(Self::Gz),
            "xz" => Some(Self::Xz),
            "img" | "raw" | "bin" | "iso" => Some(Self::Raw),
            _ => None,
        }
    }

    /// What a name of it ends in.
    #[must_use]
    pub fn extension(self) -> &'static str {
        match self {
            Self::Raw => "img",
            Self::Zst => "img.zst",
            Self::Gz => "img.gz",
            Self::Xz => "img.xz",
        }
    }

    /// What a file of it is recognised as.
    #[must_use]
    pub fn container(self) -> Container {
        match self {
            Self::Raw => Container::Raw,
            Self::Zst => Container::Zstd,
            Self::Gz => Container::Gzip,
            Self::Xz => Container::Xz,
        }
    }

    /// The levels of its codec, from fast to small; `None` when it has none.
    #[must_use]
    pub fn levels(self) -> Option<RangeInclusive<i32>> {
        match self {
            Self::Raw => None,
            Self::Zst => Some(1..=22),
            Self::Gz => Some(1..=9),
            Self::Xz => Some(0..=9),
        }
    }

    /// The level used unless another is asked for.
    #[must_use]
    pub fn usual_level(self) -> i32 {
        match self {
            Self::Raw => 0,
            // Fast enough to keep up with a card reader.
            Self::Zst => 3,
            Self::Gz | Self::Xz => 6,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn content_decides_whatever_the_name_says() {
        assert_eq!(Container::of(b"\x28\xb5\x2f\xfd\0"), Container::Zstd);
        assert_eq!(Container::of(b"\x5e\x2a\x4d\x18"), Container::Zstd);
        assert_eq!(Container::of(b"\x1f\x8b\x08\x00"), Container::Gzip);
        assert_eq!(Container::of(b"\x28\xb5"), Container::Raw);
        assert_eq!(Container::of(b""), Container::Raw);
    }

    #[test]
    fn a_name_asks_for_what_it_ends_in() {
        assert_eq!(Pack::of_name(Path::new("hive-07.img.ZST")), Some(Pack::Zst));
        assert_eq!(Pack::of_name(Path::new("hive.07.img")), Some(Pack::Raw));
        assert_eq!(Pack::of_name(Path::new("hive-07")), None);
        assert_eq!(Pack::of_name(Path::new("hive-07.img.xz")), Some(Pack::Xz));
        assert_eq!(Pack::of_name(Path::new("hive-07.img.bz2")), None);
    }
}
