//! The objects of `imbrik files`.

use super::hex_unless_text;
use imbrik_core::{files, fs};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

/// What a file is.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum FileKind {
    File,
    Folder,
    Link,
    CharacterDevice,
    BlockDevice,
    Pipe,
    Socket,
    Other,
}

/// A file or folder of a volume.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ListedFile {
    /// The partition's number; null for a volume on a bare card.
    pub(crate) part: Option<u32>,
    /// From the volume's root down; what is no UTF-8 in it is replaced.
    pub(crate) path: String,
    /// The same without the first `/`, in hexadecimal, when it is no UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) path_hex: Option<String>,
    pub(crate) kind: FileKind,
    pub(crate) size: u64,
    /// How many names it has.
    pub(crate) links: u64,
    /// The permissions, in octal; null where nobody owns anything, as are the next four.
    pub(crate) mode: Option<String>,
    pub(crate) owner: Option<u32>,
    pub(crate) group: Option<u32>,
    /// As the volume's own list of users has it.
    pub(crate) owner_name: Option<String>,
    pub(crate) group_name: Option<String>,
    /// Seconds since 1970, UTC, with nine digits behind the point; for FAT of a clock without a zone.
    pub(crate) modified: Option<String>,
    /// Where a link leads.
    pub(crate) target: Option<String>,
    /// Major and minor number.
    pub(crate) device: Option<[u32; 2]>,
}

/// How much room a folder takes with all that is below it.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FolderSize {
    /// The partition's number; null for a volume on a bare card.
    pub(crate) part: Option<u32>,
    /// From the volume's root down; what is no UTF-8 in it is replaced.
    pub(crate) path: String,
    /// The same without the first `/`, in hexadecimal, when it is no UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) path_hex: Option<String>,
    /// Of content; holes are none.
    pub(crate) bytes: u64,
    /// How many files are below it, those with several names once.
    pub(crate) files: u64,
}

/// The end of a listing.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FilesListed {
    /// How many files and folders were looked at.
    pub(crate) entries: u64,
    /// How many could not be.
    pub(crate) faults: u64,
}

/// Why something was not taken as it is.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum LeftOutBecause {
    Damage,
    Exists,
    CannotBe,
}

/// Something that was not taken, or not as it is.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FileLeftOut {
    pub(crate) path: String,
    /// The same without the first `/`, in hexadecimal, when it is no UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) path_hex: Option<String>,
    pub(crate) why: String,
    pub(crate) because: LeftOutBecause,
}

/// Files that were got out of a card or an image.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FilesGot {
    pub(crate) to: String,
    /// The partitions they are from; null for a volume on a bare card.
    pub(crate) partitions: Vec<Option<u32>>,
    pub(crate) files: u64,
    pub(crate) folders: u64,
    /// Of content; holes are none.
    pub(crate) bytes: u64,
    /// What was read of a card; 0 for an image.
    pub(crate) card_bytes_read: u64,
    pub(crate) left_out: Vec<FileLeftOut>,
    pub(crate) seconds: f64,
}

/// What became of a file.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum FileChange {
    Added,
    Removed,
    Renamed,
    Changed,
    NotCompared,
}

/// In what a file differs.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum FileAspect {
    Kind,
    Content,
    Permissions,
    Owner,
    Attributes,
    /// How many names it has, or with which files it shares its content.
    Links,
    /// Its flags, such as immutable or hidden.
    Flags,
    /// Only the time of the last change, of one whose content is the same.
    Modified,
}

/// A file or folder that is not as it was.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FileDifference {
    /// The partition's number; null for a volume on a bare card.
    pub(crate) part: Option<u32>,
    /// From the volume's root down; what is no UTF-8 in it is replaced.
    pub(crate) path: String,
    /// The same without the first `/`, in hexadecimal, when it is no UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) path_hex: Option<String>,
    pub(crate) change: FileChange,
    /// What it is; null where it could not be compared.
    pub(crate) kind: Option<FileKind>,
    /// Of one that changed.
    pub(crate) aspects: Vec<FileAspect>,
    /// How long it was, and is, of one that changed.
    pub(crate) sizes: Option<[u64; 2]>,
    /// What it was called, of one that was renamed.
    pub(crate) from: Option<String>,
    /// Of what was added or removed: how many files, itself included, and how long they are together.
    pub(crate) files: Option<u64>,
    pub(crate) bytes: Option<u64>,
    /// Why it could not be compared.
    pub(crate) why: Option<String>,
}

/// A partition that only one of the two has, or whose files are looked into in one of them only.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct OnlyThere {
    pub(crate) partition: String,
    /// `the first` or `the second`.
    pub(crate) only_in: String,
}

/// What a comparison of files adds up to.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FilesCompared {
    pub(crate) before: String,
    pub(crate) after: String,
    pub(crate) added: u64,
    pub(crate) removed: u64,
    pub(crate) renamed: u64,
    /// In what is in them.
    pub(crate) changed: u64,
    /// Only in owner, permissions, attributes or time of change.
    pub(crate) only_metadata: u64,
    pub(crate) not_compared: u64,
    /// Files that are the same in all of that.
    pub(crate) same: u64,
    /// Contents that were not read, since the digests of the images' tiles are the same.
    pub(crate) same_by_digests: u64,
    pub(crate) seconds: f64,
}

/// What was done to a file or folder.
#[derive(Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum FileChanged {
    /// It was put in.
    Put,
    /// A folder was made.
    Folder,
    /// It got another name.
    Renamed,
    /// It is gone.
    Removed,
}

/// Something that was done.
#[derive(Clone, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FileDone {
    pub(crate) what: FileChanged,
    pub(crate) path: String,
    /// The new name; null but for one that was renamed.
    pub(crate) to: Option<String>,
    /// Files, links and devices, folders, and bytes of content, of all that it is.
    pub(crate) files: u64,
    pub(crate) folders: u64,
    pub(crate) bytes: u64,
    /// How long the file was in whose place it is; null for a new one.
    pub(crate) replaced_bytes: Option<u64>,
}

/// A card or an image whose files were changed.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FilesChanged {
    pub(crate) target: String,
    /// How long the image is now; null for a card.
    pub(crate) image_bytes: Option<u64>,
    /// What was written to the card; null for an image.
    pub(crate) bytes_written: Option<u64>,
    /// The partition; null for a volume on a bare card.
    pub(crate) partition: Option<u32>,
    pub(crate) done: Vec<FileDone>,
    /// What was not taken in, or not as it is.
    pub(crate) left_out: Vec<FileLeftOut>,
    /// How many frames of the image were taken over as they are; null for a card.
    pub(crate) frames_taken_over: Option<u64>,
    pub(crate) seconds: f64,
}

/// A private file.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct PrivateFile {
    pub(crate) partition: Option<u32>,
    pub(crate) path: String,
    pub(crate) why: String,
    /// How it was recognised.
    pub(crate) by: String,
    /// Whether that is more than a guess.
    pub(crate) is_certain: bool,
    /// What happens to it in a copy without private data: `left out`, `redacted`, or
    /// `emptied`.
    pub(crate) in_a_copy: &'static str,
}

/// Private files in known places and of known forms.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct PrivateShown {
    pub(crate) source: String,
    pub(crate) private: Vec<PrivateFile>,
    /// Volumes, files and folders that were not searched, since they can't be read.
    pub(crate) not_looked_into: Vec<String>,
    pub(crate) seconds: f64,
}

impl FileKind {
    pub(crate) fn of(kind: fs::FileKind) -> Self {
        match kind {
            fs::FileKind::File => Self::File,
            fs::FileKind::Folder => Self::Folder,
            fs::FileKind::Link => Self::Link,
            fs::FileKind::CharacterDevice(..) => Self::CharacterDevice,
            fs::FileKind::BlockDevice(..) => Self::BlockDevice,
            fs::FileKind::Pipe => Self::Pipe,
            fs::FileKind::Socket => Self::Socket,
            _ => Self::Other,
        }
    }
}

impl FileDifference {
    pub(crate) fn of(part: Option<u32>, found: &files::Difference) -> Self {
        let text = |path: &[u8]| format!("/{}", String::from_utf8_lossy(path));
        let mut this = Self {
            part,
            path: text(&found.path),
            path_hex: hex_unless_text(&found.path),
            change: FileChange::NotCompared,
            kind: None,
            aspects: Vec::new(),
            sizes: None,
            from: None,
            files: None,
            bytes: None,
            why: None,
        };
        match &found.change {
            files::Change::Added(kind, below) | files::Change::Removed(kind, below) => {
                let is_new = matches!(found.change, files::Change::Added(..));
                this.change = if is_new { FileChange::Added } else { FileChange::Removed };
                this.kind = Some(FileKind::of(*kind));
                this.files = Some(below.files);
                this.bytes = Some(below.bytes.get());
            }
            files::Change::Renamed(kind, from) => {
                this.change = FileChange::Renamed;
                this.kind = Some(FileKind::of(*kind));
                this.from = Some(text(from));
            }
            files::Change::Changed(kind, sizes, aspects) => {
                this.change = FileChange::Changed;
                this.kind = Some(FileKind::of(*kind));
                this.sizes = Some(*sizes);
                this.aspects = aspects.iter().map(|aspect| FileAspect::of(*aspect)).collect();
            }
            files::Change::NotCompared(why) => this.why = Some(why.clone()),
        }
        this
    }
}

impl FileAspect {
    fn of(aspect: files::Aspect) -> Self {
        match aspect {
            files::Aspect::Kind => Self::Kind,
            files::Aspect::Content => Self::Content,
            files::Aspect::Permissions => Self::Permissions,
            files::Aspect::Owner => Self::Owner,
            files::Aspect::Attributes => Self::Attributes,
            files::Aspect::Flags => Self::Flags,
            files::Aspect::Links => Self::Links,
            files::Aspect::Modified => Self::Modified,
        }
    }
}

impl FileLeftOut {
    pub(crate) fn of(one: &files::LeftOut) -> Self {
        Self {
            path: format!("/{}", String::from_utf8_lossy(&one.path)),
            path_hex: hex_unless_text(&one.path),
            why: one.why.clone(),
            because: LeftOutBecause::of(one.because),
        }
    }
}

impl LeftOutBecause {
    pub(crate) fn of(because: files::Because) -> Self {
        match because {
            files::Because::Damage => Self::Damage,
            files::Because::Exists => Self::Exists,
            files::Because::CannotBe => Self::CannotBe,
        }
    }
}
