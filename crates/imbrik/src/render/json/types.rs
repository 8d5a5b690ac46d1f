//! The objects, as they are printed and documented.

#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// `[first byte, bytes]`
pub(crate) type SpanPair = [u64; 2];

/// `[first byte, bytes a second]`
pub(crate) type RatePair = [u64; 2];

/// By the name of the hash, its hexadecimal digits.
pub(crate) type Sums = BTreeMap<String, String>;

/// A failure.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Failed {
    /// The exit code.
    pub(crate) exit: u8,
    /// What happened, a sentence.
    pub(crate) what: String,
    /// What state things are in; empty where nothing could have changed.
    pub(crate) state: String,
    /// What to do next; empty where the first says it all.
    pub(crate) next: String,
    /// The card that failed or was left out, of several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) card: Option<String>,
    /// The image that could not be checked, of several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) image: Option<String>,
}

/// All cards that are plugged in. With `--watch`, the one that was put in.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Cards {
    pub(crate) cards: Vec<Card>,
    /// How many slots of readers are empty; not told with `--watch`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) empty_slots: Option<usize>,
}

/// A card, or another disk.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Card {
    /// The same each time it is in the same reader.
    pub(crate) id: String,
    /// As it is typed: a device, or `rack:SLOT`.
    pub(crate) path: String,
    pub(crate) size: u64,
    pub(crate) sector_size: u64,
    pub(crate) model: Option<String>,
    pub(crate) serial: Option<String>,
    pub(crate) bus: Bus,
    /// How fast a USB connection is, in megabits a second.
    pub(crate) bus_megabits: Option<u32>,
    pub(crate) removable: bool,
    pub(crate) read_only: bool,
    /// What uses it now.
    pub(crate) uses: Vec<InUse>,
    /// Whether it may be written to.
    pub(crate) target: MayBeWritten,
    /// Why not, or not without more.
    pub(crate) reason: Option<String>,
    /// What is on it; null when it could not be read, absent where another field tells.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) content: Option<Option<Content<Partition>>>,
    /// What the shelf of the configuration has of it, where that was looked up; absent where it has nothing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) shelf: Option<super::CardOnShelf>,
}

/// How it is connected.
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
    /// A volume that is mounted.
    Mounted { device: String, mounted_at: String },
    /// Memory is swapped to it.
    Swap { device: String, swap: bool },
    /// Another layer stands on it.
    Held { device: String, held_by: String },
}

/// Whether a card may be written to.
#[derive(Serialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum MayBeWritten {
    /// It may.
    Ready,
    /// Once it is unmounted.
    Mounted,
    /// Only with `--allow-fixed`.
    Fixed,
    /// Never.
    Refused,
}

/// What is on a card or in an image.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema), schemars(rename = "ContentOf{P}"))]
pub(crate) struct Content<P> {
    /// Its partition table; null without one.
    pub(crate) table: Option<Table>,
    /// The name of its host, when a volume tells.
    pub(crate) host: Option<String>,
    /// The name of its system, when a volume tells.
    pub(crate) system: Option<String>,
    /// The label of its largest volume that has one.
    pub(crate) label: Option<String>,
    /// Whether nothing is on it.
    pub(crate) blank: bool,
    pub(crate) partitions: Vec<P>,
    /// What is odd about it, a sentence each.
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
    /// Its number; null for a volume on a bare card.
    pub(crate) number: Option<u32>,
    pub(crate) start: u64,
    pub(crate) size: u64,
    /// What the table says it is for.
    #[serde(rename = "type")]
    pub(crate) kind: Option<String>,
    /// Its name in a GPT.
    pub(crate) name: Option<String>,
    /// The volume in it; null when it was not recognised.
    pub(crate) volume: Option<Volume>,
}

/// A volume.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Volume {
    /// Such as `ext4` or `FAT32`.
    pub(crate) kind: String,
    pub(crate) label: Option<String>,
    pub(crate) uuid: Option<String>,
    pub(crate) size: u64,
}

/// A card or an image, looked at closely.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Shown {
    /// The card, when it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) card: Option<Card>,
    /// The image, when it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) image: Option<ImageFacts>,
    pub(crate) size: u64,
    pub(crate) content: Content<LookedInto>,
    /// What lies outside of all partitions.
    pub(crate) gaps: Vec<Gap>,
    /// What its files name to start from.
    pub(crate) references: Vec<Reference>,
    /// Of a card that the shelf of the configuration has images of, what that has; otherwise null.
    pub(crate) shelf: Option<super::ShownOnShelf>,
    /// Bytes in use.
    pub(crate) used: u64,
    /// The smallest card on which all stays where it is.
    pub(crate) smallest_card: u64,
    /// The smallest with the last volume shrunk; null when none can be.
    pub(crate) smallest_card_for_the_data: Option<u64>,
    /// The smallest with every volume as small as it goes.
    pub(crate) smallest_card_of_all: u64,
    /// Why it can only be taken as it is; null when it need not be.
    pub(crate) taken_whole_because: Option<String>,
    pub(crate) card_bytes_read: u64,
    pub(crate) seconds: f64,
    /// The picture that was drawn.
    pub(crate) map: Option<String>,
}

/// What is known of an image.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ImageFacts {
    pub(crate) path: String,
    pub(crate) container: String,
    /// Bytes of the file.
    pub(crate) bytes: u64,
    /// When it was made.
    pub(crate) made_at: Option<String>,
    /// The size of the card that it was fitted from.
    pub(crate) fitted_from_card_size: Option<u64>,
    pub(crate) note: Option<String>,
    /// What is wrong with what it says of itself, a sentence each.
    pub(crate) findings: Vec<String>,
}

/// A partition that was looked into.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct LookedInto {
    #[serde(flatten)]
    pub(crate) partition: Partition,
    /// Bytes in use; null where nobody knows.
    pub(crate) used: Option<u64>,
    /// Bytes that are free; null where nobody knows.
    pub(crate) free: Option<u64>,
    /// How its volume was left.
    pub(crate) state: Option<String>,
    pub(crate) read_whole_because: Option<String>,
    /// How small it could become; null when it stays as it is.
    pub(crate) smallest: Option<u64>,
    /// What keeps it from being smaller.
    pub(crate) limit: Option<String>,
}

/// What lies outside of all partitions.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Gap {
    pub(crate) start: u64,
    pub(crate) size: u64,
    pub(crate) used: u64,
    /// Whether all of it was looked at: of a long one, only the start is.
    pub(crate) looked_at_all: bool,
}

/// Something that a file names.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Reference {
    /// The file, and the partition that holds it.
    pub(crate) from: String,
    /// What it names.
    pub(crate) what: String,
    pub(crate) found: bool,
}

/// What would be saved.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct SavePlan {
    pub(crate) card: Card,
    /// How long the card of the image will be.
    pub(crate) card_size: u64,
    pub(crate) bytes_to_read: u64,
    pub(crate) image: String,
    /// Judged by samples.
    pub(crate) likely_image_bytes: u64,
    pub(crate) likely_seconds: f64,
}

/// A card that was saved. With `--also`, a second image has an object of its own, and a spare one
/// of the command `clone`.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Saved {
    pub(crate) card: String,
    /// Of the card, or with `--only` of the partition.
    pub(crate) card_size: u64,
    /// With `--fit`, how long a card must be for the image.
    pub(crate) fitted_card_size: Option<u64>,
    /// What is read whole, and why, a sentence each.
    pub(crate) read_whole: Vec<String>,
    /// What two structures of a volume tell differently, a sentence each.
    pub(crate) findings: Vec<String>,
    pub(crate) card_bytes_read: u64,
    pub(crate) card_requests: u64,
    /// Always 0.
    pub(crate) card_bytes_written: u64,
    /// Bytes in use on the card.
    pub(crate) used_bytes: u64,
    #[serde(flatten)]
    pub(crate) made: MadeImage,
    /// Bytes of the card in tiles of zeros.
    pub(crate) zero_bytes: u64,
    /// What could not be read, and is zeros in the image.
    pub(crate) unreadable: Vec<SpanPair>,
    /// Whose that was, as far as it can be told.
    pub(crate) lost: Vec<Lost>,
    /// What was read beside and between bad places, in small pieces.
    pub(crate) rescued_bytes: u64,
    /// With `--resume`, how much of the card was in the image already.
    pub(crate) resumed_bytes: u64,
    /// Whether places that could not be read were not tried to the end.
    pub(crate) was_cut_short: bool,
    /// With `--reuse`, what was taken over from the earlier image; otherwise null.
    pub(crate) reused: Option<Reused>,
    /// With `--live`, when and for how long the card stood still; otherwise null.
    pub(crate) stood: Option<Stood>,
}

/// A card that was in use stood still.
#[derive(Clone, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Stood {
    /// The moment that the image is of.
    pub(crate) at: String,
    /// For how long, each time: that moment was the last.
    pub(crate) seconds: Vec<f64>,
    /// What was read meanwhile, besides what describes the files.
    pub(crate) read_bytes: u64,
    /// Where the filesystems are mounted that stood still.
    pub(crate) stopped: Vec<String>,
    /// And those that cannot be stopped: they were read until they stayed the same.
    pub(crate) unstoppable: Vec<String>,
}

/// What was taken over from an earlier image of a card.
#[derive(Clone, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Reused {
    pub(crate) image: String,
    /// Files that are as they were, by what describes them.
    pub(crate) unchanged_files: u64,
    /// Their content, which was not read of the card.
    pub(crate) unchanged_bytes: u64,
    /// Bytes of the card in tiles that were taken over as packed, without being read anywhere.
    pub(crate) unread_bytes: u64,
    /// All tiles that were taken over as packed.
    pub(crate) tiles_taken_over: u64,
    /// Why partitions were read afresh, a sentence each.
    pub(crate) read_afresh: Vec<String>,
}

/// An image into which was put what it lacked.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Mended {
    pub(crate) card: String,
    pub(crate) card_bytes_read: u64,
    /// What it lacked before.
    pub(crate) lacked_bytes: u64,
    /// The image as it is now; null when nothing could be put in.
    pub(crate) image: Option<MadeImage>,
    /// What it still lacks.
    pub(crate) unreadable: Vec<SpanPair>,
    /// Whose that is, as far as it can be told.
    pub(crate) lost: Vec<Lost>,
    /// Whether that was not tried to the end.
    pub(crate) was_cut_short: bool,
}

/// A card that was weighed.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Weighed {
    /// The exit code.
    pub(crate) code: u8,
    pub(crate) card: String,
    pub(crate) claimed_bytes: u64,
    /// What it really holds; null when nothing told that it is less than that.
    pub(crate) real_bytes: Option<u64>,
    /// How it holds less.
    pub(crate) shortfall: Option<Shortfall>,
    pub(crate) marks: u64,
    /// How much of the card the marks cover. With less than 90 % of it, the exit code is 3.
    pub(crate) tested_bytes: u64,
    /// Written and read back, byte by byte.
    pub(crate) proved_bytes: u64,
    /// Bytes a second.
    pub(crate) read_rate: Option<u64>,
    /// Bytes a second.
    pub(crate) write_rate: Option<u64>,
    /// Writes of 4 KiB a second, each made sure of.
    pub(crate) small_writes: Option<u64>,
    /// `[first byte, bytes a second]` of reading, all over the card.
    pub(crate) rates: Vec<RatePair>,
    pub(crate) card_bytes_read: u64,
    pub(crate) card_bytes_written: u64,
    pub(crate) seconds: f64,
    /// The picture that was drawn.
    pub(crate) map: Option<String>,
}

/// How a card holds less than it claims.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
#[serde(rename_all = "lowercase")]
pub(crate) enum Shortfall {
    /// Behind what it holds, it begins anew.
    Wraps,
    /// What is written behind that is not kept.
    Ends,
}

/// Whose the bytes were that could not be read.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Lost {
    /// The partition; null between partitions.
    pub(crate) part: Option<String>,
    pub(crate) what: LostWhat,
    /// From the root of the partition down.
    pub(crate) path: Option<String>,
    /// Null when that is not known: what describes a file is lost.
    pub(crate) lost_bytes: Option<u64>,
    /// Of a file, how many bytes it has.
    pub(crate) size_bytes: Option<u64>,
}

/// What is lost.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
#[serde(rename_all = "lowercase")]
pub(crate) enum LostWhat {
    /// Bytes of a file.
    File,
    /// Entries of a folder.
    Folder,
    /// What describes a file or a folder, and so all of it.
    Whole,
    /// Metadata, or what no file that was found has.
    Elsewhere,
}

/// An image that was made.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct MadeImage {
    /// Its path; `-` through a pipe.
    pub(crate) image: String,
    /// Bytes of the file, holes included.
    pub(crate) image_bytes: u64,
    /// Bytes that it takes on its disk; null through a pipe.
    pub(crate) image_disk_bytes: Option<u64>,
    /// From where it was read back; null when it was not.
    pub(crate) image_read_from: Option<ReadFrom>,
    /// What of it was read back.
    pub(crate) image_bytes_read_back: u64,
    /// What of it the system copied out of an earlier image, or has in common with that.
    pub(crate) image_bytes_copied: u64,
    pub(crate) seconds: f64,
    pub(crate) sums: Sums,
    /// A line to type next.
    pub(crate) next: String,
}

/// From where an image was read back.
#[derive(Serialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum ReadFrom {
    /// From its disk.
    Medium,
    /// The system had some of it in memory.
    Memory,
}

/// An image that was checked.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct Checked {
    /// The exit code.
    pub(crate) exit: u8,
    pub(crate) verdict: Verdict,
    /// How much is missing at its end; null when it is damaged.
    pub(crate) missing_bytes: Option<u64>,
    /// How its volumes were left.
    pub(crate) volumes: Vec<VolumeState>,
    pub(crate) image: String,
    pub(crate) container: String,
    pub(crate) card_size: u64,
    /// The checksum files that were found beside it.
    pub(crate) checksums: Vec<String>,
    /// The one of these that is of another file.
    pub(crate) checksum_differs: Option<String>,
    /// The one that was made.
    pub(crate) checksum_made: Option<String>,
    /// What the hash that was given turned out to be of; null when none was.
    pub(crate) expected: Option<ExpectedOf>,
    /// Whether it has digests to compare its tiles with.
    pub(crate) has_digests: bool,
    /// Where its content is not what was saved.
    pub(crate) differing: Vec<SpanPair>,
    /// What is wrong with what it says of itself, a sentence each.
    pub(crate) findings: Vec<String>,
    /// How many references its files hold.
    pub(crate) references: usize,
    pub(crate) references_missing: usize,
    /// The card or image that it was compared with.
    pub(crate) against: Option<String>,
    /// Where that differs; null when it was not compared.
    pub(crate) card_differing: Option<Vec<SpanPair>>,
    /// The volumes and gaps in which it does, with how many bytes.
    pub(crate) card_differing_places: Option<Vec<(String, u64)>>,
    pub(crate) card_bytes_read: u64,
    pub(crate) seconds: f64,
}

/// What is to be thought of an image.
#[derive(Serialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum Verdict {
    /// It is what was saved or hashed.
    Whole,
    /// It can be read, and nothing tells what it should be.
    Readable,
    /// By its own table or volume, something is missing at its end.
    #[serde(rename = "cut short")]
    CutShort,
    /// It can be read, and nothing in it is known.
    Unknown,
    /// It is not what was saved.
    Damaged,
}

/// What a hash turned out to be of.
#[derive(Serialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum ExpectedOf {
    /// The file as it is.
    File,
    /// What is in it.
    Content,
    /// Something else.
    Differs,
}

/// How a volume was left.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct VolumeState {
    pub(crate) partition: Option<u32>,
    pub(crate) state: String,
}

/// An image in another container.
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
    /// Frames that went over as they were.
    pub(crate) tiles_taken_over: u64,
    /// Whether each tile was compared with the digest that the image had of it.
    pub(crate) compared_with_digests: bool,
}

/// What a fit would change.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FitPlan {
    pub(crate) image: String,
    pub(crate) before: Content<Partition>,
    pub(crate) after: Content<Partition>,
    /// A sentence each.
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
    /// Bytes of files that got another place.
    pub(crate) moved_bytes: u64,
    #[serde(flatten)]
    pub(crate) made: MadeImage,
}

/// What would be written to a card, an object each.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct WritePlan {
    /// Null when cloning.
    pub(crate) image: Option<String>,
    /// The image or the card that it comes from.
    pub(crate) source: String,
    pub(crate) card: Card,
    /// The partition that is written; null for the whole card.
    pub(crate) into: Option<String>,
    /// What is on the card, or the partition, afterwards.
    pub(crate) after: Content<Partition>,
    pub(crate) bytes_to_write: u64,
    pub(crate) likely_seconds: f64,
    /// A sentence each.
    pub(crate) changes: Vec<String>,
    pub(crate) references_missing: usize,
    /// The host name that it gets; null when it keeps its own.
    pub(crate) host: Option<String>,
}

/// A card that was written.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct WrittenCard {
    pub(crate) card: String,
    pub(crate) card_size: u64,
    pub(crate) card_bytes_read: u64,
    pub(crate) card_bytes_written: u64,
    /// Zeros that nobody read, among those written.
    pub(crate) card_bytes_cleared: u64,
    /// With `--differing`, what was there already.
    pub(crate) card_bytes_found: u64,
    /// Zeros that were there already, and were not written.
    pub(crate) card_bytes_zero_already: u64,
    /// What was read of the card that was cloned; null for an image.
    pub(crate) source_bytes_read: Option<u64>,
    pub(crate) source: String,
    pub(crate) image: Option<String>,
    pub(crate) image_bytes: Option<u64>,
    /// What could not be read of the source, and is zeros.
    pub(crate) unreadable: Vec<SpanPair>,
    /// What is damaged in the image, and zeros, as was asked for.
    pub(crate) damaged: Vec<SpanPair>,
    /// Whose that all was, as far as it can be told.
    pub(crate) lost: Vec<Lost>,
    /// Whether it was read back and compared.
    pub(crate) read_back: bool,
    pub(crate) seconds: f64,
    /// With `--live`, when and for how long the card that was cloned stood still; otherwise null.
    pub(crate) stood: Option<Stood>,
}
