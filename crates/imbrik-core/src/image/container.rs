//! Containers, by content and by name.

use super::formats::{FORMATS, Format, RAW, USUAL, Writing};
use std::{fmt, hash, ops::RangeInclusive, path::Path};

/// The format of a file, by its content.
#[derive(Clone, Copy)]
pub struct Container(&'static dyn Format);

impl Container {
    /// The container of a file that starts with `head`.
    #[must_use]
    pub fn of(head: &[u8]) -> Self {
        Self(FORMATS.into_iter().find(|format| format.is_at(head)).unwrap_or(RAW.0))
    }

    /// The container for a file name's extension; `None` if it has none.
    #[must_use]
    pub fn of_name(path: &Path) -> Option<Self> {
        let ending = path.extension()?.to_str()?.to_ascii_lowercase();
        let told = |format: &&dyn Format| format.endings().contains(&ending.as_str());
        FORMATS.into_iter().find(told).map(Self)
    }

    /// Returns whether the file contains the card's bytes directly.
    #[must_use]
    pub fn is_raw(self) -> bool {
        self.0.name() == RAW.0.name()
    }

    /// How it is written; `None` when it is only read.
    #[must_use]
    pub fn pack(self) -> Option<Pack> {
        self.0.writing().map(|writing| Pack { format: self.0, writing })
    }

    pub(super) fn format(self) -> &'static dyn Format {
        self.0
    }
}

impl PartialEq for Container {
    fn eq(&self, other: &Self) -> bool {
        self.0.name() == other.0.name()
    }
}

impl Eq for Container {}

impl hash::Hash for Container {
    fn hash<H: hash::Hasher>(&self, state: &mut H) {
        self.0.name().hash(state);
    }
}

impl fmt::Debug for Container {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0.name())
    }
}

impl fmt::Display for Container {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.0.name())
    }
}

/// A container that is written.
#[derive(Clone, Copy)]
pub struct Pack {
    format: &'static dyn Format,
    writing: &'static dyn Writing,
}

impl Pack {
    /// Iterates over all containers.
    pub fn all() -> impl Iterator<Item = Self> {
        FORMATS.into_iter().filter_map(|format| Container(format).pack())
    }

    /// The default for written images.
    #[must_use]
    pub fn usual() -> Self {
        Self { format: USUAL.0, writing: USUAL.1 }
    }

    /// The raw card, with holes for zeros.
    #[must_use]
    pub fn raw() -> Self {
        Self { format: RAW.0, writing: RAW.1 }
    }

    /// The container that a file name asks for; `None` when it asks for none that is written.
    #[must_use]
    pub fn of_name(path: &Path) -> Option<Self> {
        Container::of_name(path)?.pack()
    }

    /// Its name on the command line: `zst`.
    #[must_use]
    pub fn word(self) -> &'static str {
        self.writing.word()
    }

    /// A short description, to help users choose.
    #[must_use]
    pub fn about(self) -> &'static str {
        self.writing.about()
    }

    /// Its extension: `img.zst`.
    #[must_use]
    pub fn extension(self) -> String {
        match self.is_raw() {
            true => "img".to_owned(),
            false => format!("img.{}", self.word()),
        }
    }

    /// The container that its files are recognised as.
    #[must_use]
    pub fn container(self) -> Container {
        Container(self.format)
    }

    /// Returns whether an unfinished image can be resumed.
    #[must_use]
    pub fn can_be_gone_on_with(self) -> bool {
        self.is_raw() || self.writing.codec().is_some()
    }

    /// Returns whether a tile can be in several frames, with padding between them.
    pub(crate) fn can_be_in_pieces(self) -> bool {
        self.writing.padding(8).is_some()
    }

    /// Returns whether frames of an image of one card size can be copied into an image of another size.
    pub(crate) fn frames_fit_any_card(self) -> bool {
        !self.writing.frames_tell_the_card()
    }

    /// Returns whether it is the raw card.
    #[must_use]
    pub fn is_raw(self) -> bool {
        self.container().is_raw()
    }

    /// Returns whether such an image contains its manifest; otherwise it is stored next to it.
    #[must_use]
    pub fn holds_manifest(self) -> bool {
        self.writing.holds_manifest()
    }

    /// The levels of its codec, from fast to small; `None` when it has none.
    #[must_use]
    pub fn levels(self) -> Option<RangeInclusive<i32>> {
        self.writing.levels()
    }

    /// The default level.
    #[must_use]
    pub fn usual_level(self) -> i32 {
        self.writing.usual_level()
    }

    pub(super) fn writing(self) -> &'static dyn Writing {
        self.writing
    }
}

impl PartialEq for Pack {
    fn eq(&self, other: &Self) -> bool {
        self.word() == other.word()
    }
}

impl Eq for Pack {}

impl fmt::Debug for Pack {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn content_decides_the_format_and_not_the_name() {
        assert_eq!(Container::of(b"\x28\xb5\x2f\xfd\0"), Container(USUAL.0));
        assert_eq!(Container::of(b"\x5e\x2a\x4d\x18"), Container(USUAL.0));
        assert_eq!(
            Container::of(b"\x1f\x8b\x08\x00"),
            Container::of_name(Path::new("x.gz")).unwrap()
        );
        assert_eq!(Container::of(b"\x28\xb5"), Container(RAW.0));
        assert_eq!(Container::of(b""), Container(RAW.0));
    }

    #[test]
    fn extension_selects_the_container() {
        assert_eq!(Pack::of_name(Path::new("hive-07.img.ZST")), Some(Pack::usual()));
        assert_eq!(Pack::of_name(Path::new("hive.07.img")), Some(Pack::raw()));
        assert_eq!(Pack::of_name(Path::new("hive-07")), None);
        assert_eq!(
            Pack::of_name(Path::new("hive-07.img.xz")),
            Pack::all().find(|pack| pack.word() == "xz")
        );
        assert_eq!(Pack::of_name(Path::new("hive-07.img.bz2")), None);
    }
}
