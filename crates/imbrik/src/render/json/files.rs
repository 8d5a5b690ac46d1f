//! The JSON objects of `imbrik files`.

use super::hex_unless_text;
use imbrik_core::{files, fs};
#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

/// The type of a file.
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
    /// The partition number; null for a volume on a bare card.
    pub(crate) part: Option<u32>,
    /// Path from the volume's root; invalid UTF-8 is replaced.
    pub(crate) path: String,
    /// The path without the first `/`, in hexadecimal, if it is not UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) path_hex: Option<String>,
    pub(crate) kind: FileKind,
    pub(crate) size: u64,
    /// Count of hard links.
    pub(crate) links: u64,
    /// Permissions in octal; this and the next four are null on filesystems without owners.
    pub(crate) mode: Option<String>,
    pub(crate) owner: Option<u32>,
    pub(crate) group: Option<u32>,
    /// Names from the volume's own list of users.
    pub(crate) owner_name: Option<String>,
    pub(crate) group_name: Option<String>,
    /// Seconds since 1970, UTC, with nine decimals; for FAT, local time without a zone.
    pub(crate) modified: Option<String>,
    /// The target of a link.
    pub(crate) target: Option<String>,
    /// Major and minor number.
    pub(crate) device: Option<[u32; 2]>,
}

/// The size of a folder with everything below it.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FolderSize {
    /// The partition number; null for a volume on a bare card.
    pub(crate) part: Option<u32>,
    /// Path from the volume's root; invalid UTF-8 is replaced.
    pub(crate) path: String,
    /// The path without the first `/`, in hexadecimal, if it is not UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) path_hex: Option<String>,
    /// Bytes of content without holes.
    pub(crate) bytes: u64,
    /// Count of files below it; hard links count once.
    pub(crate) files: u64,
}

/// The end of a listing.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FilesListed {
    /// Count of listed files and folders.
    pub(crate) entries: u64,
    /// Count of unreadable ones.
    pub(crate) faults: u64,
}

/// Why a file was not copied completely.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum LeftOutBecause {
    Damage,
    Exists,
    CannotBe,
}

/// A file that was not copied, or not completely.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FileLeftOut {
    pub(crate) path: String,
    /// The path without the first `/`, in hexadecimal, if it is not UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) path_hex: Option<String>,
    pub(crate) why: String,
    pub(crate) because: LeftOutBecause,
}

/// Files that were copied out of a card or an image.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FilesGot {
    pub(crate) to: String,
    /// Their partitions; null for a volume on a bare card.
    pub(crate) partitions: Vec<Option<u32>>,
    pub(crate) files: u64,
    pub(crate) folders: u64,
    /// Bytes of content without holes.
    pub(crate) bytes: u64,
    /// Bytes that were read from a card; 0 for an image.
    pub(crate) card_bytes_read: u64,
    pub(crate) left_out: Vec<FileLeftOut>,
    pub(crate) seconds: f64,
}

/// The kind of difference.
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

/// A property in which two versions of a file differ.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum FileAspect {
    Kind,
    Content,
    Permissions,
    Owner,
    Attributes,
    /// The number of hard links, or the files that share the content.
    Links,
    /// The flags, such as immutable or hidden.
    Flags,
    /// The modification time, of a file whose content is equal.
    Modified,
}

/// A file or folder that differs.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FileDifference {
    /// The partition number; null for a volume on a bare card.
    pub(crate) part: Option<u32>,
    /// Path from the volume's root; invalid UTF-8 is replaced.
    pub(crate) path: String,
    /// The path without the first `/`, in hexadecimal, if it is not UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) path_hex: Option<String>,
    pub(crate) change: FileChange,
    /// The type; null if it could not be compared.
    pub(crate) kind: Option<FileKind>,
    /// The properties that differ, of a changed file.
    pub(crate) aspects: Vec<FileAspect>,
    /// The old and the new size in bytes, of a changed file.
    pub(crate) sizes: Option<[u64; 2]>,
    /// The old path, of a renamed file.
    pub(crate) from: Option<String>,
    /// For added and removed ones: the count of files, and their total size in bytes.
    pub(crate) files: Option<u64>,
    pub(crate) bytes: Option<u64>,
    /// Why it could not be compared.
    pub(crate) why: Option<String>,
}

/// A partition that is readable in only one of the two.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct OnlyThere {
    pub(crate) partition: String,
    /// `the first` or `the second`.
    pub(crate) only_in: String,
}

/// The result of a comparison of files.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FilesCompared {
    pub(crate) before: String,
    pub(crate) after: String,
    pub(crate) added: u64,
    pub(crate) removed: u64,
    pub(crate) renamed: u64,
    /// Files with changed content.
    pub(crate) changed: u64,
    /// Files of which only owner, permissions, attributes, flags, links or modification time changed.
    pub(crate) only_metadata: u64,
    pub(crate) not_compared: u64,
    /// Files that are equal in all of that.
    pub(crate) same: u64,
    /// Contents that were not read, because the digests of their tiles are equal.
    pub(crate) same_by_digests: u64,
    pub(crate) seconds: f64,
}

/// The kind of edit.
#[derive(Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum FileChanged {
    /// The file was added.
    Put,
    /// A folder was created.
    Folder,
    /// The file was renamed.
    Renamed,
    /// The file was removed.
    Removed,
}

/// An edit.
#[derive(Clone, Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FileDone {
    pub(crate) what: FileChanged,
    pub(crate) path: String,
    /// The new path, of a renamed file; otherwise null.
    pub(crate) to: Option<String>,
    /// Count of files, links and devices, count of folders, and bytes of content.
    pub(crate) files: u64,
    pub(crate) folders: u64,
    pub(crate) bytes: u64,
    /// The size of the replaced file; null for a new one.
    pub(crate) replaced_bytes: Option<u64>,
}

/// A card or an image whose files were edited.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct FilesChanged {
    pub(crate) target: String,
    /// The size of the new image; null for a card.
    pub(crate) image_bytes: Option<u64>,
    /// Bytes that were written to the card; null for an image.
    pub(crate) bytes_written: Option<u64>,
    /// The partition; null for a volume on a bare card.
    pub(crate) partition: Option<u32>,
    pub(crate) done: Vec<FileDone>,
    /// Files that were not added, or not completely.
    pub(crate) left_out: Vec<FileLeftOut>,
    /// Count of frames that were copied unchanged; null for a card.
    pub(crate) frames_reused: Option<u64>,
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
    /// True if it is more than a guess.
    pub(crate) is_certain: bool,
    /// The treatment in a copy without private data: `left out`, `redacted`, or `emptied`.
    pub(crate) in_a_copy: &'static str,
}

/// Private files in known places and of known forms.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct PrivateShown {
    pub(crate) source: String,
    pub(crate) private: Vec<PrivateFile>,
    /// Volumes, files and folders that were not searched, because they can't be read.
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
