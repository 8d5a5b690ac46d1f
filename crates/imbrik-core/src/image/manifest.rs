//! The manifest: the metadata of an image. Specified in `docs/image-format.md`.

use super::{
    pieces::PieceHashes,
    tile::{TILE, TileDigest, tile_count},
};
use crate::{
    layout::{Lost, LostWhat, Part, Survey},
    table::PartitionKind,
};
use imbrik_store::{
    error::{Error, Result},
    units::{ByteLen, ByteOffset, Span, joined},
};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// The version of the format that is written, and the newest one that is read.
const VERSION: u32 = 1;

/// The maximum number of tiles (64 GiB of content) whose pieces are listed, since they take a kilobyte per tile.
const MOST_IN_PIECES: usize = 1 << 14;

/// The maximum number of lost files that are listed.
const MOST_LISTED: usize = 10_000;

/// The metadata of an image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Manifest {
    /// The version of this format: 1.
    pub imbrik_manifest: u32,
    /// The program and version that made the image.
    pub made_by: String,
    /// The start of the save.
    pub made_at: Timestamp,
    /// Size of the card in bytes.
    pub card_size: u64,
    /// Sector size of the card in bytes.
    pub sector_size: u64,
    /// The model, as reported by the card or the reader.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub card_model: Option<String>,
    /// The host name in the files of the card.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// The operating system on the card.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub system: Option<String>,
    /// The label of the card.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// The note of the user.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// The partition that it is an image of; absent for a whole card.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub only: Option<ListedPart>,
    /// The card's separate boot areas, which are not in the image.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left_out: Vec<String>,
    /// The partition table; absent when there was none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub table: Option<ListedTable>,
    /// The partitions and their volumes.
    pub partitions: Vec<ListedPart>,
    /// True if the last partition extended to the end of its card.
    pub reaches_end: bool,
    /// The size to which the card, or the source image, was fitted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fitted: Option<ListedFit>,
    /// True if it contains every sector of the card; otherwise free space is zeros.
    #[serde(default)]
    pub exact: bool,
    /// True if short free ranges between used ones are zeros, too.
    #[serde(default, skip_serializing_if = "is_not_set")]
    pub holes_are_zeros: bool,
    /// True if the card was in use when it was saved, and its filesystems were frozen.
    #[serde(default, skip_serializing_if = "is_not_set")]
    pub in_use: bool,
    /// Unreadable ranges `[offset, bytes]`, which are zeros.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unreadable: Vec<(u64, u64)>,
    /// Files that these ranges belong to, if known.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub lost: Vec<ListedLoss>,
    /// The tiles and their digests.
    pub tiles: TileList,
}

/// A file that is lost completely or partly: [`Lost`].
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ListedLoss {
    /// The title of the partition; absent between partitions.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part: Option<String>,
    /// Path of the file or folder from the root of the partition; invalid UTF-8 is replaced.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// True if it is a folder with missing entries.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub folder: bool,
    /// Lost bytes; absent if the metadata of the file are lost.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lost: Option<u64>,
    /// Size of the file in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
}

impl ListedLoss {
    fn of(lost: &Lost) -> Self {
        let text = |path: &[u8]| Some(String::from_utf8_lossy(path).into_owned());
        let mut this = Self {
            part: lost.part.clone(),
            path: None,
            folder: matches!(lost.what, LostWhat::OfFolder { .. }),
            lost: None,
            size: None,
        };
        match &lost.what {
            LostWhat::OfFile { path, len, size } => {
                (this.path, this.lost, this.size) = (text(path), Some(len.get()), Some(size.get()));
            }
            LostWhat::OfFolder { path, len } => {
                (this.path, this.lost) = (text(path), Some(len.get()));
            }
            LostWhat::Whole { path } => this.path = text(path),
            LostWhat::Elsewhere { len } => this.lost = Some(len.get()),
        }
        this
    }

    /// The manifest as text.
    #[must_use]
    pub fn lost(&self) -> Lost {
        let path = self.path.as_ref().map(|path| path.clone().into_bytes());
        let len = ByteLen::new(self.lost.unwrap_or(0));
        let what = match (path, self.lost, self.folder) {
            (None, _, _) => LostWhat::Elsewhere { len },
            (Some(path), None, _) => LostWhat::Whole { path },
            (Some(path), Some(_), true) => LostWhat::OfFolder { path, len },
            (Some(path), Some(_), false) => {
                let size = ByteLen::new(self.size.unwrap_or(0));
                LostWhat::OfFile { path, len, size }
            }
        };
        Lost { part: self.part.clone(), what }
    }
}

/// A partition table in a manifest.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ListedTable {
    /// "MBR" or "GPT".
    pub kind: String,
    /// The MBR's signature (8 hexadecimal digits) or the GPT's disk GUID.
    pub id: String,
}

/// A partition in a manifest.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ListedPart {
    /// Its number; absent for a volume on a bare card.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number: Option<u32>,
    /// Its offset in bytes.
    pub start: u64,
    /// Its length in bytes.
    pub size: u64,
    /// Its type in the table: the type byte of an MBR as `0x83`, or the type GUID of a GPT.
    #[serde(rename = "type", default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
    /// Its name in a GPT.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The volume in it; absent when it was not recognised.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub volume: Option<ListedVolume>,
}

/// How a card was fitted to another size.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ListedFit {
    /// Size of the original card in bytes.
    pub card_size: u64,
    /// The number of the resized partition; absent for a volume on a bare card.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub partition: Option<u32>,
    /// Original size of the partition in bytes.
    pub partition_size: u64,
}

/// A volume in a manifest.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ListedVolume {
    /// Its kind, such as "ext4" or "FAT32".
    pub kind: String,
    /// Its label.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Its id in the notation of the system's tools.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub uuid: Option<String>,
}

/// The tiles of an image: those of zeros as runs, and a digest of each other one, in order.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TileList {
    /// Tile size in bytes: 4194304.
    pub size: u64,
    /// Count of tiles.
    pub count: u64,
    /// Runs of zero tiles, `[first tile, count]`.
    pub zero: Vec<(u64, u64)>,
    /// BLAKE3 of the other tiles, hexadecimal.
    pub blake3: Vec<String>,
    /// The chaining values of the pieces of each of these, concatenated, hexadecimal; empty for tiles without known
    /// values. Absent if there are none.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub pieces: Vec<String>,
}

impl TileList {
    /// Lists `digests`, one per tile in order, and the known values of pieces unless there are too many.
    #[must_use]
    pub fn of(digests: &[TileDigest], pieces: &[PieceHashes]) -> Self {
        let mut zero: Vec<(u64, u64)> = Vec::new();
        let mut blake3 = Vec::new();
        for (index, digest) in (0u64..).zip(digests) {
            match (digest, zero.last_mut()) {
                (TileDigest::Hash(hash), _) => blake3.push(hash.to_hex().to_string()),
                (TileDigest::Zero, Some((first, count)))
                    if first.saturating_add(*count) == index =>
                {
                    *count = count.saturating_add(1);
                }
                (TileDigest::Zero, _) => zero.push((index, 1)),
            }
        }
        let is_any = pieces.iter().any(|known| !known.values().is_empty());
        let hashed = digests.iter().zip(pieces).filter(|(digest, _)| **digest != TileDigest::Zero);
        let pieces = match is_any && blake3.len() <= MOST_IN_PIECES {
            true => hashed.map(|(_, known)| hex(known.values())).collect(),
            false => Vec::new(),
        };
        let count = ByteLen::from_usize(digests.len()).get();
        Self { size: TILE.get(), count, zero, blake3, pieces }
    }

    /// The known values of the pieces of each tile, in order, whose digests are `digests`.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when the list is inconsistent with them.
    pub fn pieces(&self, digests: &[TileDigest]) -> Result<Vec<PieceHashes>> {
        if self.pieces.is_empty() {
            return Ok(vec![PieceHashes::default(); digests.len()]);
        }
        let mut listed = self.pieces.iter();
        let pieces = digests.iter().map(|digest| match digest {
            TileDigest::Zero => Some(PieceHashes::default()),
            TileDigest::Hash(_) => PieceHashes::of(values(listed.next()?)?, digest),
        });
        let pieces: Option<Vec<_>> = pieces.collect();
        pieces
            .filter(|_| listed.next().is_none())
            .ok_or_else(|| Error::corrupt("the manifest's list of pieces contradicts its digests"))
    }

    /// One digest per tile, in order.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when the list is inconsistent.
    pub fn digests(&self) -> Result<Vec<TileDigest>> {
        let corrupt = |what: &str| Error::corrupt(format!("the manifest's tile list {what}"));
        let hashes = ByteLen::from_usize(self.blake3.len()).get();
        let all = self.zero.iter().try_fold(hashes, |sum, (_, count)| sum.checked_add(*count));
        if all != Some(self.count) {
            return Err(corrupt("does not add up"));
        }
        let zero_tiles =
            self.zero.iter().flat_map(|(first, count)| *first..first.saturating_add(*count));
        let mut zero_tiles = zero_tiles.peekable();
        let mut hashes = self.blake3.iter();
        let mut digests = Vec::new();
        for index in 0..self.count {
            if zero_tiles.next_if_eq(&index).is_some() {
                digests.push(TileDigest::Zero);
                continue;
            }
            let hex = hashes.next().ok_or_else(|| corrupt("is out of order"))?;
            let hash =
                blake3::Hash::from_hex(hex).map_err(|_| corrupt("contains an invalid digest"))?;
            digests.push(TileDigest::Hash(hash));
        }
        Ok(digests)
    }
}

fn hex(values: &[[u8; 32]]) -> String {
    values.iter().map(|value| blake3::Hash::from_bytes(*value).to_hex().to_string()).collect()
}

/// Decodes the output of [`hex`]; `None` if it is invalid.
fn values(hex: &str) -> Option<Vec<[u8; 32]>> {
    let (values, rest) = hex.as_bytes().as_chunks::<64>();
    let value = |hex: &[u8; 64]| Some(*blake3::Hash::from_hex(hex).ok()?.as_bytes());
    rest.is_empty().then(|| values.iter().map(value).collect()).flatten()
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks for it")]
fn is_not_set(value: &bool) -> bool {
    !value
}

impl Manifest {
    /// The manifest of an image of the card with the survey `survey`, started at `made_at`.
    #[must_use]
    pub fn new(survey: &Survey, made_by: &str, made_at: Timestamp) -> Self {
        Self {
            imbrik_manifest: VERSION,
            made_by: made_by.to_owned(),
            made_at,
            card_size: survey.size.get(),
            sector_size: survey.sector.bytes(),
            card_model: None,
            host: survey.host.clone(),
            system: survey.system.clone(),
            label: survey.label().map(str::to_owned),
            note: None,
            only: None,
            left_out: Vec::new(),
            table: survey
                .table
                .as_ref()
                .map(|table| ListedTable { kind: table.name().to_owned(), id: table.id() }),
            partitions: survey.parts.iter().map(ListedPart::of).collect(),
            reaches_end: survey.reaches_end(),
            fitted: None,
            exact: false,
            holes_are_zeros: false,
            in_use: false,
            unreadable: Vec::new(),
            lost: Vec::new(),
            tiles: TileList::of(&[], &[]),
        }
    }

    /// The fields that identify the card and the options of the save, as JSON: all except times, program version, notes
    /// and results.
    pub(super) fn head(&self) -> String {
        let head = Self {
            made_by: String::new(),
            made_at: Timestamp::UNIX_EPOCH,
            note: None,
            unreadable: Vec::new(),
            lost: Vec::new(),
            tiles: TileList::of(&[], &[]),
            ..self.clone()
        };
        String::from_utf8_lossy(&head.encode()).into_owned()
    }

    /// Sets the digests of the tiles, the known values of their pieces, and the unreadable ranges.
    #[must_use]
    pub fn with_content(
        mut self,
        digests: &[TileDigest],
        pieces: &[PieceHashes],
        unreadable: Vec<Span>,
    ) -> Self {
        self.tiles = TileList::of(digests, pieces);
        let spans = joined(unreadable).into_iter();
        self.unreadable = spans.map(|span| (span.start().get(), span.len().get())).collect();
        self
    }

    /// Adds files with unreadable data, up to 10,000 in total.
    #[must_use]
    pub fn with_lost(mut self, lost: &[Lost]) -> Self {
        let room = MOST_LISTED.saturating_sub(self.lost.len());
        self.lost.extend(lost.iter().take(room).map(ListedLoss::of));
        self
    }

    /// The name of the card for users: its host name, or else its label.
    #[must_use]
    pub fn name(&self) -> Option<&str> {
        self.host.as_deref().or(self.label.as_deref())
    }

    /// The unreadable ranges.
    #[must_use]
    pub fn unreadable_spans(&self) -> Vec<Span> {
        let spans = self.unreadable.iter();
        spans.filter_map(|(at, len)| Span::new(ByteOffset::new(*at), ByteLen::new(*len))).collect()
    }

    /// The manifest as JSON.
    #[must_use]
    pub fn encode(&self) -> Vec<u8> {
        // Strings, numbers and lists can always be serialised as JSON.
        serde_json::to_vec(self).unwrap_or_default()
    }

    /// Parses and validates a manifest.
    ///
    /// # Errors
    /// [`crate::Class::Corrupt`] when it is invalid or inconsistent, and [`crate::Class::Unsupported`] when it is of a
    /// newer version.
    pub fn decode(json: &[u8]) -> Result<Self> {
        #[derive(Deserialize)]
        struct Version {
            imbrik_manifest: u32,
        }
        let corrupt =
            |e: serde_json::Error| Error::corrupt(format!("the manifest is damaged: {e}"));
        let version: Version = serde_json::from_slice(json).map_err(corrupt)?;
        if version.imbrik_manifest > VERSION {
            return Err(Error::unsupported(format!(
                "the manifest is of version {}, this program reads up to {VERSION}",
                version.imbrik_manifest
            )));
        }
        let manifest: Self = serde_json::from_slice(json).map_err(corrupt)?;
        let expected = tile_count(ByteLen::new(manifest.card_size));
        if manifest.tiles.size != TILE.get() || manifest.tiles.count != expected {
            return Err(Error::corrupt(format!(
                "the manifest lists {} tiles of {} bytes for a card of {} bytes",
                manifest.tiles.count, manifest.tiles.size, manifest.card_size
            )));
        }
        Ok(manifest)
    }
}

impl ListedPart {
    /// The entry for `part`.
    #[must_use]
    pub fn of(part: &Part) -> Self {
        Self {
            number: part.number,
            start: part.span.start().get(),
            size: part.span.len().get(),
            kind: part.kind.map(|kind| match kind {
                PartitionKind::Mbr(byte) => format!("{byte:#04x}"),
                PartitionKind::Gpt(guid) => guid.to_string(),
            }),
            name: part.name.clone(),
            volume: part.volume.as_ref().map(|volume| ListedVolume {
                kind: volume.kind.to_string(),
                label: volume.label.clone(),
                uuid: volume.uuid.clone(),
            }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::image::TileData;
    use imbrik_store::error::Class;
    use proptest::prelude::*;

    fn digest(seed: u8) -> TileDigest {
        match seed {
            0 => TileDigest::Zero,
            seed => TileDigest::Hash(blake3::hash(&[seed])),
        }
    }

    proptest! {
        #[test]
        fn tile_lists_survive_the_round_trip(seeds in proptest::collection::vec(0u8..3, 0..60)) {
            let digests: Vec<_> = seeds.into_iter().map(digest).collect();
            let list = TileList::of(&digests, &[]);
            let json = serde_json::to_vec(&list).unwrap();
            let again: TileList = serde_json::from_slice(&json).unwrap();
            prop_assert_eq!(again.digests().unwrap(), digests);
        }

        /// Most random lists are inconsistent; an accepted one has a digest for each tile.
        #[test]
        fn random_tile_lists_are_refused_or_have_one_digest_per_tile(
            count in 0u64..12,
            zero in proptest::collection::vec((0u64..12, 0u64..6), 0..4),
            hashes in 0usize..12,
        ) {
            let hash = blake3::hash(b"brood").to_hex().to_string();
            let blake3 = vec![hash; hashes];
            let list = TileList { size: TILE.get(), count, zero, blake3, pieces: Vec::new() };
            if let Ok(digests) = list.digests() {
                prop_assert_eq!(digests.len() as u64, count);
                let found = digests.iter().filter(|digest| **digest != TileDigest::Zero).count();
                prop_assert_eq!(found, hashes);
            }
        }
    }

    #[test]
    fn tile_list_must_cover_the_card() {
        let hash = blake3::hash(b"brood").to_hex().to_string();
        let list = |count: u64, zero: Vec<(u64, u64)>, hashes: usize| {
            let blake3 = vec![hash.clone(); hashes];
            let pieces = Vec::new();
            TileList { size: TILE.get(), count, zero, blake3, pieces }.digests().is_ok()
        };
        assert!(list(5, vec![(1, 2)], 3) && list(0, vec![], 0));
        assert!(!list(5, vec![(1, 2)], 2), "a tile without a digest");
        assert!(!list(5, vec![(3, 2), (1, 1)], 2), "out of order");
        assert!(!list(u64::MAX, vec![(0, u64::MAX), (0, 1)], 0), "more than can be counted");
    }

    #[test]
    fn piece_lists_are_kept_and_those_of_other_tiles_refused() {
        let tile: Vec<u8> = (0..700_000u32).map(|at| (at / 300) as u8).collect();
        let pool = imbrik_store::Pool::new(tile.len());
        let mut buffer = pool.take(tile.len());
        buffer.copy_from_slice(&tile);
        let (_, digest, known) = TileData::in_pieces(buffer, &[]);
        let unknown = PieceHashes::default();
        let digests = [TileDigest::Zero, digest, digest];
        let pieces = [unknown.clone(), known.clone(), unknown.clone()];
        let list = TileList::of(&digests, &pieces);
        assert_eq!(list.pieces.len(), 2);
        let json = serde_json::to_vec(&list).unwrap();
        let mut again: TileList = serde_json::from_slice(&json).unwrap();
        assert_eq!(again.pieces(&digests).unwrap(), pieces);
        for wrong in ["00", &"0".repeat(64 * 3), &again.pieces[0][64..]] {
            let list = TileList { pieces: vec![wrong.to_owned(), String::new()], ..again.clone() };
            assert_eq!(list.pieces(&digests).unwrap_err().class(), Class::Corrupt, "{wrong}");
        }
        again.pieces.push(String::new());
        assert!(again.pieces(&digests).is_err(), "one too many");
        assert_eq!(
            TileList::of(&digests, &[unknown.clone(), unknown.clone(), unknown]).pieces,
            [""; 0]
        );
    }

    #[test]
    fn unreadable_ranges_survive_a_round_trip() {
        let (len, size) = (ByteLen::new(512), ByteLen::new(300_000));
        let path = b"/srv/brood/may.wav".to_vec();
        let lost = [
            LostWhat::OfFile { path: path.clone(), len, size },
            LostWhat::OfFolder { path: b"/srv".to_vec(), len },
            LostWhat::Whole { path },
            LostWhat::Elsewhere { len },
        ];
        for what in lost {
            for part in [None, Some("partition 2".to_owned())] {
                let lost = Lost { part, what: what.clone() };
                let json = serde_json::to_vec(&ListedLoss::of(&lost)).unwrap();
                let again: ListedLoss = serde_json::from_slice(&json).unwrap();
                assert_eq!(again.lost(), lost);
            }
        }
    }

    #[test]
    fn an_empty_card_of_64_gib_has_a_short_manifest() {
        let list = TileList::of(&vec![TileDigest::Zero; 16384], &[]);
        assert_eq!(serde_json::to_vec(&list).unwrap().len(), 61);
    }

    #[test]
    fn newer_version_and_wrong_count_are_refused() {
        let newer = Manifest::decode(br#"{"imbrik_manifest":9}"#).unwrap_err();
        assert_eq!(newer.class(), imbrik_store::Class::Unsupported);
        let survey = Survey {
            size: ByteLen::mib(8),
            sector: imbrik_store::units::SectorSize::B512,
            table: None,
            parts: Vec::new(),
            gaps: Vec::new(),
            host: None,
            system: None,
            findings: Vec::new(),
            unreadable: Vec::new(),
            written: None,
            mounts: 0,
            whole_because: None,
            is_blank: true,
        };
        let manifest = Manifest::new(&survey, "imbrik", Timestamp::UNIX_EPOCH);
        assert!(Manifest::decode(&manifest.encode()).is_err(), "no tiles for 8 MiB");
        let manifest = manifest.with_content(&[TileDigest::Zero; 2], &[], Vec::new());
        assert_eq!(Manifest::decode(&manifest.encode()).unwrap(), manifest);
    }
}
