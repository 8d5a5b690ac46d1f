//! The JSON objects that the program prints and documents.

#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// `[offset, length]` in bytes.
pub(crate) type SpanPair = [u64; 2];

/// `[offset in bytes, bytes per second]`.
pub(crate) type RatePair = [u64; 2];

/// Hexadecimal digests by the name of the hash.
pub(crate) type Sums = BTreeMap<String, String>;

/// A failure.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Failed {
    /// Exit code.
    pub(crate) exit: u8,
    /// The error, as a sentence.
    pub(crate) what: String,
    /// The state of card and image; empty if nothing could have changed.
    pub(crate) state: String,
    /// The next step; may be empty.
    pub(crate) next: String,
    /// The card that failed or was skipped, of several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) card: Option<String>,
    /// The image that could not be checked, of several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) image: Option<String>,
}

/// All connected cards. With `--watch`, the card that was plugged in.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Cards {
    pub(crate) cards: Vec<Card>,
    /// Count of empty slots of readers; absent with `--watch`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) empty_slots: Option<usize>,
}

/// A card, or another disk.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Card {
    /// Stays the same while the card is in the same reader.
    pub(crate) id: String,
    /// The name for commands: a device, or `rack:SLOT`.
    pub(crate) path: String,
    pub(crate) size: u64,
    pub(crate) sector_size: u64,
    pub(crate) model: Option<String>,
    pub(crate) serial: Option<String>,
    pub(crate) bus: Bus,
    /// Speed of a USB connection, in megabits per second.
    pub(crate) bus_megabits: Option<u32>,
    pub(crate) removable: bool,
    pub(crate) read_only: bool,
    /// Current uses.
    pub(crate) uses: Vec<InUse>,
    /// The permission to write to it.
    pub(crate) target: MayBeWritten,
    /// The reason if writing is not allowed, or only with an option.
    pub(crate) reason: Option<String>,
    /// The content; null if it could not be read, absent if another field has it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) content: Option<Option<Content<Partition>>>,
    /// Images of this card on the configured shelf; absent if there are none or the shelf was not searched.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) shelf: Option<super::CardOnShelf>,
}

/// The kind of connection.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum Bus {
    Usb,
    SdSlot,
    Emmc,
    Nvme,
    Sata,
    Scsi,
    Virtual,
    Loop,
    Rack,
    Other,
}

/// A use of a card or of a part of it.
#[derive(Serialize)]
#[serde(untagged)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum InUse {
    /// A mounted volume.
    Mounted { device: String, mounted_at: String },
    /// Swap space in use.
    Swap { device: String, swap: bool },
    /// Another device layer uses it.
    Held { device: String, held_by: String },
}

/// The permission to write to a card.
#[derive(Serialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum MayBeWritten {
    /// Allowed.
    Ready,
    /// Allowed after unmounting.
    Mounted,
    /// Only with `--allow-fixed`.
    Fixed,
    /// Never allowed.
    Refused,
}

/// The content of a card or an image.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema), schemars(rename = "ContentOf{P}"))]
pub(crate) struct Content<P> {
    /// The partition table; null without one.
    pub(crate) table: Option<Table>,
    /// The host name, if a volume contains one.
    pub(crate) host: Option<String>,
    /// The name of the operating system, if a volume contains one.
    pub(crate) system: Option<String>,
    /// The label of the largest labelled volume.
    pub(crate) label: Option<String>,
    /// True if it is blank.
    pub(crate) blank: bool,
    pub(crate) partitions: Vec<P>,
    /// Oddities, one sentence each.
    pub(crate) findings: Vec<String>,
}

/// A partition table.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Table {
    /// `MBR` or `GPT`.
    pub(crate) kind: String,
    pub(crate) id: String,
}

/// A partition.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Partition {
    /// The partition number; null for a volume on a bare card.
    pub(crate) number: Option<u32>,
    pub(crate) start: u64,
    pub(crate) size: u64,
    /// The type in the table.
    #[serde(rename = "type")]
    pub(crate) kind: Option<String>,
    /// The name in a GPT.
    pub(crate) name: Option<String>,
    /// The volume in it; null if it was not recognised.
    pub(crate) volume: Option<Volume>,
}

/// A volume.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Volume {
    /// The filesystem, such as `ext4` or `FAT32`.
    pub(crate) kind: String,
    pub(crate) label: Option<String>,
    pub(crate) uuid: Option<String>,
    pub(crate) size: u64,
}

/// Details of a card or an image.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Shown {
    /// The card, if it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) card: Option<Card>,
    /// The image, if it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) image: Option<ImageFacts>,
    pub(crate) size: u64,
    pub(crate) content: Content<InspectedVolume>,
    /// Data outside of all partitions.
    pub(crate) gaps: Vec<Gap>,
    /// References of boot files.
    pub(crate) references: Vec<Reference>,
    /// Images of this card on the configured shelf; null if there are none.
    pub(crate) shelf: Option<super::ShownOnShelf>,
    /// Used bytes.
    pub(crate) used: u64,
    /// The size of the smallest card on which no volume has to shrink.
    pub(crate) smallest_card: u64,
    /// The size of the smallest card if the last volume shrinks; null if it can't.
    pub(crate) smallest_card_for_the_data: Option<u64>,
    /// The size of the smallest card if all volumes shrink.
    pub(crate) smallest_card_of_all: u64,
    /// Why it can only be copied as a whole; null if that is not necessary.
    pub(crate) copied_whole_because: Option<String>,
    pub(crate) card_bytes_read: u64,
    pub(crate) seconds: f64,
    /// The file of the map.
    pub(crate) map: Option<String>,
}

/// Properties of an image.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ImageFacts {
    pub(crate) path: String,
    pub(crate) container: String,
    /// Size of the file in bytes.
    pub(crate) bytes: u64,
    /// Time of creation.
    pub(crate) made_at: Option<String>,
    /// The size of the card before fitting.
    pub(crate) fitted_from_card_size: Option<u64>,
    pub(crate) note: Option<String>,
    /// Errors in its manifest, one sentence each.
    pub(crate) findings: Vec<String>,
}

/// Details of a partition.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct InspectedVolume {
    #[serde(flatten)]
    pub(crate) partition: Partition,
    /// Used bytes, with the metadata; null if unknown.
    pub(crate) used: Option<u64>,
    /// Bytes of `used` that belong to no file, such as tables and the journal; 0 if they are not separate, null if
    /// unknown.
    pub(crate) metadata: Option<u64>,
    /// Free bytes; null if unknown.
    pub(crate) free: Option<u64>,
    /// State after the last use.
    pub(crate) state: Option<String>,
    pub(crate) read_whole_because: Option<String>,
    /// Minimum size in bytes; null if it can't be resized.
    pub(crate) smallest: Option<u64>,
    /// The reason for the minimum size.
    pub(crate) limit: Option<String>,
}

/// Data outside of all partitions.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Gap {
    pub(crate) start: u64,
    pub(crate) size: u64,
    pub(crate) used: u64,
    /// True if all of it was read: of a long range, only the start is.
    pub(crate) looked_at_all: bool,
}

/// A reference in a boot file.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Reference {
    /// The file, and its partition.
    pub(crate) from: String,
    /// The referenced file or device.
    pub(crate) what: String,
    pub(crate) found: bool,
}

/// The plan of a save.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct SavePlan {
    pub(crate) card: Card,
    /// The card size that is stored in the image.
    pub(crate) card_size: u64,
    pub(crate) bytes_to_read: u64,
    pub(crate) image: String,
    /// An estimate from samples.
    pub(crate) likely_image_bytes: u64,
    pub(crate) likely_seconds: f64,
}

/// A saved card. With `--also`, a second image is a separate object, and a written card an object of the command
/// `clone`.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Saved {
    pub(crate) card: String,
    /// Size of the card, or with `--only` of the partition.
    pub(crate) card_size: u64,
    /// With `--fit`, the minimum size of a card for the image.
    pub(crate) fitted_card_size: Option<u64>,
    /// Volumes that are read as a whole, with the reason, one sentence each.
    pub(crate) read_whole: Vec<String>,
    /// Contradictions between structures of a volume, one sentence each.
    pub(crate) findings: Vec<String>,
    pub(crate) card_bytes_read: u64,
    pub(crate) card_requests: u64,
    /// Always 0.
    pub(crate) card_bytes_written: u64,
    /// Used bytes of the card.
    pub(crate) used_bytes: u64,
    #[serde(flatten)]
    pub(crate) made: MadeImage,
    /// Bytes of the card in tiles of zeros.
    pub(crate) zero_bytes: u64,
    /// Unreadable ranges, which are zeros in the image.
    pub(crate) unreadable: Vec<SpanPair>,
    /// Files that the unreadable ranges belong to, if known.
    pub(crate) lost: Vec<Lost>,
    /// Bytes that were read in small pieces next to unreadable ranges.
    pub(crate) rescued_bytes: u64,
    /// With `--resume`, bytes of the card that were in the image already.
    pub(crate) resumed_bytes: u64,
    /// True if retries of unreadable ranges were stopped early.
    pub(crate) was_cut_short: bool,
    /// With `--reuse`, data from the earlier image; otherwise null.
    pub(crate) reused: Option<Reused>,
    /// With `--live`, times of the freezes; otherwise null.
    pub(crate) frozen: Option<Freezes>,
}

/// Freezes of a card in use.
#[derive(Clone, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Freezes {
    /// The time that the image shows.
    pub(crate) at: String,
    /// Duration of each freeze; the image shows the last one.
    pub(crate) seconds: Vec<f64>,
    /// Bytes that were read during the freezes, without metadata.
    pub(crate) read_bytes: u64,
    /// Mount points of the frozen filesystems.
    pub(crate) stopped: Vec<String>,
    /// Mount points of filesystems that can't be frozen: they were read until they stayed the same.
    pub(crate) unstoppable: Vec<String>,
}

/// Data from an earlier image of the card.
#[derive(Clone, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Reused {
    pub(crate) image: String,
    /// Files that are unchanged according to their metadata.
    pub(crate) unchanged_files: u64,
    /// Bytes of their content, which were not read from the card.
    pub(crate) unchanged_bytes: u64,
    /// Bytes of the card in reused tiles that were not read at all.
    pub(crate) unread_bytes: u64,
    /// Tiles, or frames, that were reused.
    pub(crate) tiles_reused: u64,
    /// Why partitions were read in full, one sentence each.
    pub(crate) read_in_full: Vec<String>,
}

/// An image in which missing ranges were filled in.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Mended {
    pub(crate) card: String,
    pub(crate) card_bytes_read: u64,
    /// Missing ranges before.
    pub(crate) lacked_bytes: u64,
    /// The new image; null if no range could be read.
    pub(crate) image: Option<MadeImage>,
    /// Ranges that are still missing.
    pub(crate) unreadable: Vec<SpanPair>,
    /// Files that these ranges belong to, if known.
    pub(crate) lost: Vec<Lost>,
    /// True if retries were stopped early.
    pub(crate) was_cut_short: bool,
}

/// A tested card.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Weighed {
    /// Exit code.
    pub(crate) code: u8,
    pub(crate) card: String,
    pub(crate) claimed_bytes: u64,
    /// The real capacity; null if it is not known to be less than claimed.
    pub(crate) real_bytes: Option<u64>,
    /// How capacity is missing.
    pub(crate) shortfall: Option<Shortfall>,
    pub(crate) marks: u64,
    /// Bytes of the card that the test covers. Below 90 % of it, the exit code is 3.
    pub(crate) tested_bytes: u64,
    /// Bytes that were written and read back.
    pub(crate) verified_bytes: u64,
    /// Bytes per second.
    pub(crate) read_rate: Option<u64>,
    /// Bytes per second.
    pub(crate) write_rate: Option<u64>,
    /// Writes of 4 KiB per second, each flushed.
    pub(crate) small_writes: Option<u64>,
    /// `[offset in bytes, bytes per second]` of reading, all over the card.
    pub(crate) rates: Vec<RatePair>,
    pub(crate) card_bytes_read: u64,
    pub(crate) card_bytes_written: u64,
    pub(crate) seconds: f64,
    /// The file of the plot.
    pub(crate) map: Option<String>,
}

/// An image in which nothing is missing.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct NothingToMend {
    pub(crate) image: String,
}

/// A card before it is wiped.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct WipePlan {
    pub(crate) card: String,
    pub(crate) card_size: u64,
    /// What is on it.
    pub(crate) content: Content<Partition>,
    /// True if the zeros are read back.
    pub(crate) read_back: bool,
}

/// A wiped card.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Wiped {
    pub(crate) card: String,
    pub(crate) card_size: u64,
    /// Bytes that were zero already, and not written.
    pub(crate) zero_already: u64,
    /// True if the zeros were read back.
    pub(crate) read_back: bool,
    pub(crate) card_bytes_read: u64,
    pub(crate) card_bytes_written: u64,
    pub(crate) seconds: f64,
}

/// How a card has less capacity than it claims.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
#[serde(rename_all = "lowercase")]
pub(crate) enum Shortfall {
    /// Addresses past the real capacity wrap around to the start.
    Wraps,
    /// Data written past the real capacity are lost.
    Ends,
}

/// Files with unreadable data.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Lost {
    /// The partition; null between partitions.
    pub(crate) part: Option<String>,
    pub(crate) what: LostWhat,
    /// Path from the root of the partition.
    pub(crate) path: Option<String>,
    /// Null if unknown, because the metadata of the file are lost.
    pub(crate) lost_bytes: Option<u64>,
    /// Size of a file in bytes.
    pub(crate) size_bytes: Option<u64>,
}

/// The kind of lost data.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
#[serde(rename_all = "lowercase")]
pub(crate) enum LostWhat {
    /// Content of a file.
    File,
    /// Entries of a folder.
    Folder,
    /// Metadata, and therefore all of a file or folder.
    All,
    /// Metadata of the volume, or data of an unknown file.
    Elsewhere,
}

/// A new image.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct MadeImage {
    /// Its path; `-` for a pipe.
    pub(crate) image: String,
    /// Size of the file in bytes, with holes.
    pub(crate) image_bytes: u64,
    /// Bytes on the disk; null for a pipe.
    pub(crate) image_disk_bytes: Option<u64>,
    /// The source of the data for verification; null if it was not read back.
    pub(crate) image_read_from: Option<ReadFrom>,
    /// Bytes that were read back.
    pub(crate) image_bytes_read_back: u64,
    /// Bytes that were copied from an earlier image by the system, or are shared with it.
    pub(crate) image_bytes_copied: u64,
    pub(crate) seconds: f64,
    pub(crate) sums: Sums,
    /// A command to continue with.
    pub(crate) next: String,
}

/// The source of data that were read back.
#[derive(Serialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum ReadFrom {
    /// The disk.
    Medium,
    /// Partly the memory of the system.
    Memory,
}

/// A checked image.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Checked {
    /// Exit code.
    pub(crate) exit: u8,
    pub(crate) verdict: Verdict,
    /// Missing bytes at the end; null if the image is damaged.
    pub(crate) missing_bytes: Option<u64>,
    /// States of the volumes after their last use.
    pub(crate) volumes: Vec<VolumeState>,
    pub(crate) image: String,
    pub(crate) container: String,
    pub(crate) card_size: u64,
    /// Checksum files next to it.
    pub(crate) checksums: Vec<String>,
    /// A checksum file that doesn't match.
    pub(crate) checksum_differs: Option<String>,
    /// The checksum file that was created.
    pub(crate) checksum_made: Option<String>,
    /// The data that the given hash matches; null if none was given.
    pub(crate) expected: Option<ExpectedOf>,
    /// True if the image has digests of its tiles.
    pub(crate) has_digests: bool,
    /// Ranges with damaged content.
    pub(crate) differing: Vec<SpanPair>,
    /// Errors in its manifest, one sentence each.
    pub(crate) findings: Vec<String>,
    /// Count of boot references.
    pub(crate) references: usize,
    pub(crate) references_missing: usize,
    /// The card or image that it was compared with.
    pub(crate) against: Option<String>,
    /// Ranges that differ; null without a comparison.
    pub(crate) card_differing: Option<Vec<SpanPair>>,
    /// Volumes and gaps that differ, with the bytes that do.
    pub(crate) card_differing_places: Option<Vec<(String, u64)>>,
    pub(crate) card_bytes_read: u64,
    /// The connected cards with the same ids; empty with `--against`, and for a damaged image.
    pub(crate) cards: Vec<String>,
    pub(crate) seconds: f64,
}

/// The result of a check.
#[derive(Serialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum Verdict {
    /// The content matches digests or a hash.
    Intact,
    /// It is readable, and has nothing to compare the content with.
    Readable,
    /// Data are missing at the end, according to its partition table or volume.
    Truncated,
    /// It is readable, and its content is not recognised.
    Unknown,
    /// The image is damaged.
    Damaged,
}

/// The data that a hash matches.
#[derive(Serialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum ExpectedOf {
    /// The file.
    File,
    /// The decoded content.
    Content,
    /// Neither the file nor its content has this checksum.
    Differs,
}

/// The state of a volume after its last use.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct VolumeState {
    pub(crate) partition: Option<u32>,
    pub(crate) state: String,
}

/// An image in another container format.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Repacked {
    pub(crate) from: String,
    pub(crate) from_container: String,
    pub(crate) from_bytes: u64,
    pub(crate) card_size: u64,
    #[serde(flatten)]
    pub(crate) made: MadeImage,
    pub(crate) tiles: u64,
    /// Frames that were copied unchanged.
    pub(crate) frames_reused: u64,
    /// True if each tile was compared with its digest in the old image.
    pub(crate) compared_with_digests: bool,
}

/// The plan of a fit.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FitPlan {
    pub(crate) image: String,
    pub(crate) before: Content<Partition>,
    pub(crate) after: Content<Partition>,
    /// One sentence each.
    pub(crate) changes: Vec<String>,
    pub(crate) bytes_to_read: u64,
}

/// An image for a card of another size.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Fitted {
    pub(crate) from: String,
    pub(crate) from_card_size: u64,
    pub(crate) card_size: u64,
    /// Bytes of files that moved.
    pub(crate) moved_bytes: u64,
    #[serde(flatten)]
    pub(crate) made: MadeImage,
}

/// The plan of a write, one object per card.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct WritePlan {
    /// Null for a clone.
    pub(crate) image: Option<String>,
    /// The source: an image or a card.
    pub(crate) source: String,
    pub(crate) card: Card,
    /// The partition that is written; null for the whole card.
    pub(crate) into: Option<String>,
    /// The content of the card or the partition afterwards.
    pub(crate) after: Content<Partition>,
    pub(crate) bytes_to_write: u64,
    pub(crate) likely_seconds: f64,
    /// One sentence each.
    pub(crate) changes: Vec<String>,
    pub(crate) references_missing: usize,
    /// The new host name; null if it is kept.
    pub(crate) host: Option<String>,
}

/// A written card.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct WrittenCard {
    pub(crate) card: String,
    pub(crate) card_size: u64,
    pub(crate) card_bytes_read: u64,
    pub(crate) card_bytes_written: u64,
    /// Written zeros that were not read from anywhere.
    pub(crate) card_bytes_cleared: u64,
    /// With `--differing`, bytes that were on the card already.
    pub(crate) card_bytes_found: u64,
    /// Zeros that were on the card already, and were not written.
    pub(crate) card_bytes_zero_already: u64,
    /// Bytes that were read from the cloned card; null for an image.
    pub(crate) source_bytes_read: Option<u64>,
    pub(crate) source: String,
    pub(crate) image: Option<String>,
    pub(crate) image_bytes: Option<u64>,
    /// Unreadable ranges of the source, which are zeros.
    pub(crate) unreadable: Vec<SpanPair>,
    /// Damaged ranges of the image, which are zeros as requested.
    pub(crate) damaged: Vec<SpanPair>,
    /// Files that these ranges belong to, if known.
    pub(crate) lost: Vec<Lost>,
    /// True if it was read back and compared.
    pub(crate) read_back: bool,
    pub(crate) seconds: f64,
    /// With `--live`, times of the freezes; otherwise null.
    pub(crate) frozen: Option<Freezes>,
}
