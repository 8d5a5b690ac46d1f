//! Volumes: recognises the filesystem in a partition or on a bare card, determines its used space, reads its files, and
//! resizes, edits or renames the volume.
//!
//! Volumes are recognised by content. Every number is validated before it is used. Nothing in a store is ever changed:
//! an edited or resized volume is a new store that reads like the finished one. A volume with inconsistent metadata
//! counts as used completely.
//!
//! ```text
//!                     OpenVolume                 a store, and its volume
//!                     registry                   one line per filesystem
//!   ┌──────┬──────┬──────┼──────┬──────┬──────┬──────┐
//!  ext4   FAT   exFAT   NTFS  btrfs   F2FS   swap   LUKS       one folder each, none uses another
//!   └──────┴──────┴──────┼──────┴──────┴──────┴──────┘
//!              Filesystem, Files, Resize        the traits, with cautious defaults
//!       Volume, Examined, Usage, ResizedVolume        the results
//!       bits, placement, clusters                sets of blocks, and their moves
//! ```
//!
//! A new filesystem is a folder with one `impl Filesystem`, and a line in `registry`.
//!
//! Files are read through [`Files`], for every filesystem, without mounting it and without root:
//!
//! ```no_run
//! use imbrik_fs::{FileKind, OpenVolume};
//! use imbrik_store::FileStore;
//! use std::{ops::ControlFlow, path::Path, sync::Arc};
//!
//! # fn main() -> imbrik_store::Result<()> {
//! let store = Arc::new(FileStore::open(Path::new("hive-07.ext4"))?);
//! let volume = OpenVolume::open(store)?.expect("it holds a volume");
//! let files = volume.files()?.expect("its files can be read");
//! let etc = files.at(&[b"etc"])?.expect("it has a folder etc");
//! files.entries(etc, &mut |entry| {
//!     let info = files.info(entry.file)?;
//!     if info.kind == FileKind::File {
//!         println!("{} has {} bytes", entry.name.escape_ascii(), info.size);
//!     }
//!     Ok(ControlFlow::Continue(()))
//! })?;
//! # Ok(())
//! # }
//! ```
//!
//! Edits work the same way: the result is a new store that reads like the finished volume and is checked before it is
//! used. In place, it is written in steps:
//!
//! ```no_run
//! use imbrik_fs::{EditOptions, FileEdit, FileMeta, FileTime, OpenVolume};
//! use imbrik_store::{FileStore, SparseStore, progress::Cancel};
//! use std::{path::Path, sync::Arc};
//!
//! # fn main() -> imbrik_store::Result<()> {
//! let store = Arc::new(FileStore::open(Path::new("hive-07.ext4"))?);
//! let volume = OpenVolume::open(store)?.expect("it holds a volume").recovered()?.volume;
//! let path = vec![b"etc".to_vec(), b"hostname".to_vec()];
//! let content = Arc::new(SparseStore::of(b"hive-11\n"));
//! let edits = [
//!     FileEdit::Put { path, content, meta: FileMeta::default() },
//!     FileEdit::Remove { path: vec![b"tmp".to_vec(), b"weights.csv".to_vec()] },
//! ];
//! let now = FileTime { seconds: 1_795_714_202, nanoseconds: 0 };
//! let edited = volume.edit(&edits, EditOptions { now, keeps_old: true })?;
//! let new = OpenVolume::open(Arc::clone(&edited.volume.store))?.expect("it holds a volume");
//! new.check_edited(&volume, &Cancel::new())?;
//! println!("{} steps, {} bytes of new content", volume.commit(&edited)?.steps.len(),
//!     edited.content.iter().map(|span| span.len().get()).sum::<u64>());
//! # Ok(())
//! # }
//! ```
//!
//! A volume at another size is a view of the old one:
//!
//! ```no_run
//! use imbrik_fs::{NewSize, OpenVolume, ResizeOptions};
//! use imbrik_store::{FileStore, ReadAt, progress::Cancel, units::ByteLen};
//! use std::{path::Path, sync::Arc};
//!
//! # fn main() -> imbrik_store::Result<()> {
//! let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(Path::new("hive-07.ext4"))?);
//! let volume = OpenVolume::open(store)?.expect("it holds a volume");
//! let size = NewSize::Smallest { room: ByteLen::mib(64) };
//! let cancel = Cancel::new();
//! let (resized, found) = volume.resize(size, ResizeOptions::in_memory(&cancel))?;
//! println!("{} instead of {}", resized.volume.store.size(), volume.store().size());
//! println!("{} are in use", found.usage.in_use());
//! # Ok(())
//! # }
//! ```

#![forbid(clippy::print_stdout, clippy::print_stderr, clippy::exit)]
#![cfg_attr(
    not(test),
    warn(
        clippy::arithmetic_side_effects,
        clippy::as_conversions,
        clippy::unwrap_used,
        clippy::indexing_slicing
    )
)]

mod bits;
mod btrfs;
mod cluster_edit;
mod clusters;
mod commit;
mod content;
mod dos_time;
mod edit;
mod examined;
mod exfat;
mod ext4;
mod f2fs;
mod fat;
mod files;
mod filesystem;
mod finding;
mod hidden_sectors;
mod ids;
mod luks;
mod md;
mod ntfs;
mod open;
mod placement;
mod registry;
mod resized;
mod swap;
mod unchanged;
mod usage;
mod volume;
mod walk;

pub use commit::{AfterACut, Commit, CommitStep};
pub use content::FileContent;
pub use edit::{EditOptions, EditedVolume, FileEdit, FileMeta, FilePath};
pub use examined::{DerivedVolume, Examined, Least, State};
pub use files::{
    EachEntry, EachStretch, FileAttribute, FileFlags, FileId, FileInfo, FileKind, FileTime, Files,
    FolderEntry, Ownership, Stretch,
};
pub use filesystem::History;
pub use finding::{GrowthLimit, ResizeWarning, VolumeFinding};
pub use open::{OpenVolume, RecoveredVolume};
pub use registry::{recognise, recognise_by_copy, resizable_kinds};
pub use resized::{Moved, NewSize, ResizeOptions, ResizedVolume};
pub use unchanged::Unchanged;
pub use usage::Usage;
pub use volume::{Volume, VolumeKind};
pub use walk::{Onward, Walked, WalkedEntry, is_name};
