//! Volumes: which filesystem, or what else, stands in a partition or on a bare card.
//!
//! [`recognise`] goes by content alone. A recogniser reads a few kilobytes of metadata, believes no
//! number in them, and answers `None` for anything that isn't plainly its own.

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
mod clusters;
mod exfat;
mod ext4;
mod f2fs;
mod fat;
mod luks;
mod ntfs;
mod place;
mod placement;
mod swap;
mod usage;

pub use usage::Usage;

use imbrik_store::{
    ReadAt, Window,
    error::{Class, Error, Result},
    progress::Cancel,
    units::{ByteLen, ByteOffset, Span},
};
use std::{fmt, path::Path, sync::Arc};

/// What a volume says of itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Volume {
    /// Which filesystem, or what else.
    pub kind: VolumeKind,
    /// Its label; `None` when it has none.
    pub label: Option<String>,
    /// Its id, written as the system's tools write it; `None` when it has none.
    pub uuid: Option<String>,
    /// How long it says it is. May exceed its partition when one of the two is wrong.
    pub size: ByteLen,
}

/// The kinds of volumes that are known by name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum VolumeKind {
    /// ext2: no journal.
    Ext2,
    /// ext3: a journal, and nothing newer.
    Ext3,
    /// ext4.
    Ext4,
    /// FAT with 12-bit entries.
    Fat12,
    /// FAT with 16-bit entries.
    Fat16,
    /// FAT with 32-bit entries.
    Fat32,
    /// exFAT.
    ExFat,
    /// NTFS.
    Ntfs,
    /// btrfs.
    Btrfs,
    /// F2FS.
    F2fs,
    /// A Linux swap area.
    Swap,
    /// A LUKS container: encrypted, so nothing is known of what is inside.
    Luks,
}

impl VolumeKind {
    /// The kinds that [`reshape`] gives another size, in words.
    pub const RESHAPED: &'static str = "ext2, ext3, ext4, FAT, exFAT and swap";

    /// Whether volumes of this kind can get another size.
    ///
    /// # Errors
    /// [`Class::Unsupported`] when not, with the kind.
    pub fn can_be_reshaped(self) -> Result<()> {
        match self {
            Self::Ntfs | Self::Btrfs | Self::F2fs | Self::Luks => {
                Err(Error::unsupported(format!("{self} keeps its size")))
            }
            _ => Ok(()),
        }
    }

    /// Whether it is one of ext2, ext3 and ext4.
    #[must_use]
    pub fn is_ext(self) -> bool {
        matches!(self, Self::Ext2 | Self::Ext3 | Self::Ext4)
    }

    /// Whether it is one of FAT12, FAT16 and FAT32.
    #[must_use]
    pub fn is_fat(self) -> bool {
        matches!(self, Self::Fat12 | Self::Fat16 | Self::Fat32)
    }
}

impl fmt::Display for VolumeKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Ext2 => "ext2",
            Self::Ext3 => "ext3",
            Self::Ext4 => "ext4",
            Self::Fat12 => "FAT12",
            Self::Fat16 => "FAT16",
            Self::Fat32 => "FAT32",
            Self::ExFat => "exFAT",
            Self::Ntfs => "NTFS",
            Self::Btrfs => "btrfs",
            Self::F2fs => "F2FS",
            Self::Swap => "swap",
            Self::Luks => "LUKS",
        })
    }
}

/// Names the volume in `store` by its content; `None` when it is none of those known.
///
/// Those with the strongest marks come first: a FAT boot sector can be left over under a newer
/// filesystem, a LUKS header cannot.
///
/// # Errors
/// When the store cannot be read.
pub fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let recognisers = [
        luks::recognise,
        btrfs::recognise,
        swap::recognise,
        ext4::recognise,
        f2fs::recognise,
        exfat::recognise,
        ntfs::recognise,
        fat::recognise,
    ];
    for recognise in recognisers {
        if let Some(volume) = recognise(store)? {
            return Ok(Some(volume));
        }
    }
    Ok(None)
}

/// Where a second copy of what names a volume stands, in bytes from its start, and how far in front
/// of that copy its volume would start: ext in the second group of 1, 2 or 4 KiB blocks, FAT32 in
/// sector 6 and exFAT in sector 12, of 512 bytes or 4 KiB.
const COPIES: [(u64, u64); 7] = [
    (8193 << 10, 1024),
    (16_384 << 11, 1024),
    (32_768 << 12, 1024),
    (6 * 512, 0),
    (6 * 4096, 0),
    (12 * 512, 0),
    (12 * 4096, 0),
];

/// Names the volume in `store` by a second copy of its superblock or boot sector, where the first
/// cannot be read.
///
/// # Errors
/// When the store cannot be read.
pub fn recognise_by_copy(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let end = ByteOffset::new(store.size().get());
    // NTFS keeps it in the last sector of its partition.
    let last = store.size().get().checked_sub(512).map(|at| (at, 0));
    for (at, ahead) in COPIES.into_iter().chain(last) {
        let start = ByteOffset::new(at.saturating_sub(ahead));
        if start >= end {
            continue;
        }
        let window = Window::new(store, Span::between(start, end))?;
        let found = match ahead {
            0 => [exfat::recognise, ntfs::recognise, fat::recognise]
                .into_iter()
                .find_map(|recognise| recognise(&window).transpose()),
            _ => ext4::recognise_copy(&window).transpose(),
        };
        if let Some(volume) = found.transpose()?.filter(|found| found.size <= store.size()) {
            return Ok(Some(volume));
        }
    }
    Ok(None)
}

/// What state a volume was left in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum State {
    /// Unmounted as it should be.
    Clean,
    /// Not unmounted: its journal holds newer blocks.
    ToReplay,
    /// Not unmounted, and it has no journal that would tell what is newer.
    Unclean,
    /// Its system found errors in it.
    Errors,
    /// Its kind is not looked into.
    Unknown,
}

impl fmt::Display for State {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Clean => "clean",
            Self::ToReplay => "journal to replay",
            Self::Unclean => "not unmounted",
            Self::Errors => "has errors",
            Self::Unknown => "not looked into",
        })
    }
}

/// A volume with newer blocks in its journal, as it will be once they are in their places.
#[derive(Clone)]
pub struct Settled {
    /// The whole volume, readable.
    pub store: Arc<dyn ReadAt>,
    /// Where it differs from what is in place, in order and joined.
    pub rewritten: Vec<Span>,
}

/// How large a volume is to become.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Goal {
    /// So many bytes, or a little less: only whole blocks count, and a last group that would be too
    /// short for what it must hold is left out.
    Size(ByteLen),
    /// As small as its content allows, with so many bytes of room more.
    Smallest {
        /// Bytes, beyond what the volume's system keeps for itself.
        room: ByteLen,
    },
}

/// What a reshape has to work with.
#[derive(Clone, Copy, Debug)]
pub struct Work<'a> {
    /// The request to stop.
    pub cancel: &'a Cancel,
    /// A folder for what has no room in memory; without one, all of it stays there.
    pub temporary: Option<&'a Path>,
    /// How many bytes of blocks made anew stay in memory.
    pub memory: ByteLen,
    /// Whether faults in folders, attributes and links are kept as they are found, and told, instead
    /// of refused. Which blocks are whose must be sound all the same.
    pub as_found: bool,
}

impl<'a> Work<'a> {
    /// The usual bound on what stays in memory.
    pub const MEMORY: ByteLen = ByteLen::mib(32);

    /// Work in memory alone.
    #[must_use]
    pub const fn in_memory(cancel: &'a Cancel) -> Self {
        Self { cancel, temporary: None, memory: Self::MEMORY, as_found: false }
    }
}

/// Blocks of a reshaped volume that come from elsewhere in its source.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Moved {
    /// Where they are now, in bytes from the volume's start.
    pub to: Span,
    /// Where they were.
    pub from: ByteOffset,
}

/// A volume at another size, as a view.
#[derive(Clone)]
pub struct Reshaped {
    /// The whole volume, readable, and where it holds metadata that were made anew or are at hand.
    pub settled: Settled,
    /// What comes from elsewhere in the source, in order; the rest is where it was.
    pub moved: Vec<Moved>,
    /// How many bytes had to move: what lies behind the new end, or where metadata stand now.
    pub had_to_move: ByteLen,
    /// How many bytes get a new place.
    pub copied: ByteLen,
    /// How many inodes get another number, since their groups go.
    pub inodes_moved: u64,
    /// How much of what was made anew stands in a temporary file.
    pub aside: ByteLen,
    /// What kept it from growing as far as was asked for, in words; `None` when nothing did.
    pub limit: Option<String>,
    /// What its owner should know, a sentence each.
    pub warnings: Vec<String>,
    /// The faults in folders, attributes and links that were kept as they were found.
    pub kept_faults: Vec<String>,
}

/// A small file to be put into a volume.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FilePut {
    /// Names from the root down; folders must be there.
    pub path: Vec<Vec<u8>>,
    /// All of it.
    pub content: Vec<u8>,
    /// Its permissions, where the kind of volume has any. `None` leaves those of a file that is
    /// there, and gives a new one 0644.
    pub mode: Option<u16>,
    /// When it was changed, in seconds since 1970.
    pub now: u64,
}

/// What a close look at a volume found.
#[derive(Clone)]
pub struct Examined {
    /// What state it was left in.
    pub state: State,
    /// Which of its bytes are in use, once it is settled.
    pub usage: Usage,
    /// What a replay of its journal changes; `None` when there is nothing to replay, or it cannot
    /// be, so that the whole volume counts as used.
    pub settled: Option<Settled>,
    /// How small it could become; `None` for what is not reshaped.
    pub least: Option<Least>,
}

impl Examined {
    /// A volume of `size` bytes, all of which count as used, since it cannot be looked at.
    #[must_use]
    pub fn unreadable(size: ByteLen, because: impl Into<String>) -> Self {
        let usage = Usage::whole(size, because);
        Self { state: State::Unknown, usage, settled: None, least: None }
    }
}

/// The smallest size of a volume that holds the same files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Least {
    /// Bytes.
    pub size: ByteLen,
    /// What keeps it from being smaller, in a few words.
    pub limit: &'static str,
    /// Whether there is a plan for that very size; otherwise it is a lower bound.
    pub is_exact: bool,
}

/// Looks closely at `volume`, which stands in `store`. Where its own metadata cannot be trusted,
/// or nothing is known of its kind, all of its bytes count as used.
///
/// # Errors
/// When the store cannot be read.
pub fn examine(store: &Arc<dyn ReadAt>, volume: &Volume) -> Result<Examined> {
    let plain = |state: State, usage: Usage| Examined { state, usage, settled: None, least: None };
    match volume.kind {
        VolumeKind::Ext2 | VolumeKind::Ext3 | VolumeKind::Ext4 => {
            let state = ext4::state(&**store)?;
            let settled = match ext4::settle(Arc::clone(store)) {
                Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
                    return Ok(plain(state, Usage::distrusted(store.size(), &error)));
                }
                settled => settled?,
            };
            let whole = settled.as_ref().map_or(store, |settled| &settled.store);
            let (usage, least) = ext4::usage(whole)?;
            Ok(Examined { state, usage, settled, least })
        }
        VolumeKind::Fat12 | VolumeKind::Fat16 | VolumeKind::Fat32 => fat::examine(&**store),
        VolumeKind::ExFat => exfat::examine(&**store),
        VolumeKind::Ntfs => ntfs::examine(&**store),
        VolumeKind::Swap => swap::examine(&**store),
        VolumeKind::Btrfs | VolumeKind::F2fs | VolumeKind::Luks => {
            let because = format!("what {} has in use is not known", volume.kind);
            Ok(plain(State::Unknown, Usage::whole(store.size(), because)))
        }
    }
}

/// The volume in `store`, `volume`, at another size, as a view of the store: nothing in the store
/// changes, and no copy of its data is made. The tree is the same to the last attribute.
///
/// The source is looked at closely beforehand, every inode of it, and so is what comes out: each
/// checksum, each bitmap against each reachable block, and the content against the source's.
/// Answers the view with what is in use of it.
///
/// ```no_run
/// use imbrik_core::{fs, progress::Cancel, store::{FileStore, ReadAt}, units::ByteLen};
/// use std::{path::Path, sync::Arc};
///
/// # fn main() -> imbrik_core::Result<()> {
/// let store: Arc<dyn ReadAt> = Arc::new(FileStore::open(Path::new("hive-07.ext4"))?);
/// let volume = fs::recognise(&*store)?.expect("it holds a volume");
/// let goal = fs::Goal::Smallest { room: ByteLen::mib(64) };
/// let cancel = Cancel::new();
/// let work = fs::Work::in_memory(&cancel);
/// let (reshaped, found) = fs::reshape(&store, &volume, goal, work)?;
/// println!("{} instead of {}", reshaped.settled.store.size(), store.size());
/// println!("{} are in use", found.usage.in_use());
/// # Ok(())
/// # }
/// ```
///
/// # Errors
/// - When the store cannot be read, or stopping was requested.
/// - [`Class::Unsupported`] with the kind or the feature that is in the way, and
///   [`Class::Corrupt`] with the first contradiction in the volume.
/// - [`Class::NoRoom`] when the content doesn't fit, with the missing bytes.
pub fn reshape(
    store: &Arc<dyn ReadAt>,
    volume: &Volume,
    goal: Goal,
    work: Work<'_>,
) -> Result<(Reshaped, Examined)> {
    volume.kind.can_be_reshaped()?;
    let now = examine(store, volume)?;
    let base = now.settled.as_ref().map_or(store, |settled| &settled.store);
    let replayed = now.settled.as_ref().map_or(&[][..], |settled| &settled.rewritten);
    if let Some(why) = now.usage.whole_because {
        // What a closer look trips over tells whether that is damage.
        let closer = reshape_kind(volume.kind, store, &[], goal, work);
        let class = closer.err().map_or(Class::Unsupported, |error| error.class());
        return Err(Error::new(class, why));
    }
    let reshaped = reshape_kind(volume.kind, base, replayed, goal, work)?;
    let found = examine(&reshaped.settled.store, volume)?;
    if let Some(why) = found.usage.whole_because {
        return Err(Error::bug(format!("the reshaped volume would be wrong: {why}")));
    }
    let settled = Some(reshaped.settled.clone());
    Ok((reshaped, Examined { settled, ..found }))
}

fn reshape_kind(
    kind: VolumeKind,
    store: &Arc<dyn ReadAt>,
    replayed: &[Span],
    goal: Goal,
    work: Work<'_>,
) -> Result<Reshaped> {
    match kind {
        VolumeKind::Fat12 | VolumeKind::Fat16 | VolumeKind::Fat32 => {
            fat::reshape(store, goal, work.cancel)
        }
        VolumeKind::ExFat => exfat::reshape(store, goal, work.cancel),
        VolumeKind::Swap => swap::reshape(store, goal),
        _ => ext4::reshape(Arc::clone(store), replayed, goal, work),
    }
}

/// How often `volume`, which stands in `store`, was mounted since it was checked; 0 when it counts
/// nothing.
///
/// # Errors
/// When the store cannot be read.
pub fn mount_count(store: &dyn ReadAt, volume: &Volume) -> Result<u64> {
    match volume.kind.is_ext() {
        true => ext4::mount_count(store),
        false => Ok(0),
    }
}

/// When `volume`, which stands in `store`, was last written to, in seconds since 1970; `None` when it
/// doesn't tell.
///
/// # Errors
/// When the store cannot be read.
pub fn last_written(store: &dyn ReadAt, volume: &Volume) -> Result<Option<u64>> {
    match volume.kind.is_ext() {
        true => ext4::last_written(store),
        false => Ok(None),
    }
}

/// The volume in `store`, `volume`, with a file put into it: what stands there is replaced, or a new
/// one is added to its folder. Nothing in the store changes.
///
/// # Errors
/// - When the store cannot be read.
/// - [`Class::Unsupported`] for volumes and files that are not edited, with the reason.
/// - [`Class::Corrupt`] for what makes no sense, [`Class::NoRoom`] when there is no room left.
pub fn put_file(store: &Arc<dyn ReadAt>, volume: &Volume, put: &FilePut) -> Result<Settled> {
    let edited = match volume.kind {
        kind if kind.is_ext() => ext4::put_file(store, put)?,
        kind if kind.is_fat() => fat::put_file(store, put)?,
        kind => return Err(Error::unsupported(format!("nothing is put into {kind}"))),
    };
    let rewritten = edited.spans();
    Ok(Settled { store: Arc::new(edited), rewritten })
}

/// The volume in `store`, `volume`, under another id: the UUID `id`, or as much of it as the kind
/// has room for. Nothing in the store changes.
///
/// # Errors
/// As [`put_file`].
pub fn with_id(
    store: &Arc<dyn ReadAt>,
    volume: &Volume,
    id: uuid::Uuid,
    work: Work<'_>,
) -> Result<Settled> {
    let edited = match volume.kind {
        kind if kind.is_ext() => ext4::with_uuid(store, *id.as_bytes(), work)?,
        kind if kind.is_fat() => fat::with_serial(store, serial_of(id))?,
        VolumeKind::ExFat => exfat::with_serial(store, serial_of(id))?,
        VolumeKind::Swap => swap::with_uuid(store, *id.as_bytes())?,
        kind => return Err(Error::unsupported(format!("{kind} keeps its id"))),
    };
    let rewritten = edited.spans();
    Ok(Settled { store: Arc::new(edited), rewritten })
}

/// A serial out of a UUID; never 0, which means none.
fn serial_of(id: uuid::Uuid) -> u32 {
    id.as_fields().0.max(1)
}

/// What must be written where, in bytes from the volume's start, when `volume`, which stands in
/// `store`, moves on the card from `from` to `to`: some kinds say where they stand.
///
/// # Errors
/// When the store cannot be read.
pub fn at_another_place(
    store: &dyn ReadAt,
    volume: &Volume,
    from: ByteOffset,
    to: ByteOffset,
) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
    place::at_another_place(store, volume, from, to)
}

/// The smallest size that [`reshape`] can give to `volume`, which stands in `store`. Every inode of
/// it is looked at for that; what limits it is told as [`examine`] found it.
///
/// # Errors
/// As for [`reshape`].
pub fn smallest(
    store: &Arc<dyn ReadAt>,
    volume: &Volume,
    found: &Examined,
    cancel: &Cancel,
) -> Result<Least> {
    volume.kind.can_be_reshaped()?;
    let least = found.least.as_ref().ok_or_else(|| Error::unsupported("it is taken whole"))?;
    let base = found.settled.as_ref().map_or(store, |settled| &settled.store);
    let size = match volume.kind {
        VolumeKind::Fat12 | VolumeKind::Fat16 | VolumeKind::Fat32 => fat::smallest(&**base, cancel),
        VolumeKind::ExFat => exfat::smallest(&**base, cancel),
        VolumeKind::Swap => Ok(least.size),
        _ => ext4::smallest(Arc::clone(base), cancel),
    }?;
    Ok(Least { size, is_exact: true, ..least.clone() })
}

/// Looks at every file of `volume`, which stands in `store` and is settled, and compares them with the
/// volume's own bookkeeping. Kinds that are not looked into pass.
///
/// # Errors
/// - When the store cannot be read, or stopping was requested.
/// - [`Class::Corrupt`] with the first contradiction, [`Class::Unsupported`] with a feature that is
///   not known.
pub fn check(store: &Arc<dyn ReadAt>, volume: &Volume, cancel: &Cancel) -> Result<()> {
    match volume.kind {
        VolumeKind::ExFat => exfat::check(&**store, cancel),
        kind if kind.is_fat() => fat::check(&**store, cancel),
        kind if kind.is_ext() => ext4::check(Arc::clone(store), cancel),
        _ => Ok(()),
    }
}

/// The small file at `path` (names from the root down) in `volume`, which stands in `store`, up to
/// `most` bytes of it; `None` when there is none or the kind of volume is not looked into.
///
/// # Errors
/// When the store cannot be read.
pub fn small_file(
    store: &dyn ReadAt,
    volume: &Volume,
    path: &[&[u8]],
    most: usize,
) -> Result<Option<Vec<u8>>> {
    match volume.kind {
        VolumeKind::Ext2 | VolumeKind::Ext3 | VolumeKind::Ext4 => {
            ext4::small_file(store, path, most)
        }
        VolumeKind::Fat12 | VolumeKind::Fat16 | VolumeKind::Fat32 => {
            fat::small_file(store, path, most)
        }
        _ => Ok(None),
    }
}

/// The names in the folder at `path` (names from the root down) in `volume`, which stands in `store`;
/// `None` when there is none, or the kind of volume is not looked into.
///
/// # Errors
/// When the store cannot be read.
pub fn names_in(
    store: &dyn ReadAt,
    volume: &Volume,
    path: &[&[u8]],
) -> Result<Option<Vec<Vec<u8>>>> {
    match volume.kind {
        kind if kind.is_ext() => ext4::names(store, path),
        kind if kind.is_fat() => fat::names(store, path),
        _ => Ok(None),
    }
}

/// Whether there is anything at `path` (names from the root down) in `volume`, which stands in
/// `store`; `None` when that is not known: the kind is not looked into, or a link is in the way.
///
/// # Errors
/// When the store cannot be read.
pub fn has_entry(store: &dyn ReadAt, volume: &Volume, path: &[&[u8]]) -> Result<Option<bool>> {
    match volume.kind {
        VolumeKind::Ext2 | VolumeKind::Ext3 | VolumeKind::Ext4 => ext4::has_entry(store, path),
        VolumeKind::Fat12 | VolumeKind::Fat16 | VolumeKind::Fat32 => fat::has_entry(store, path),
        _ => Ok(None),
    }
}

/// A UUID as the system's tools write it; `None` when it is all zeros.
fn uuid_text(raw: [u8; 16]) -> Option<String> {
    let uuid = uuid::Uuid::from_bytes(raw);
    (!uuid.is_nil()).then(|| uuid.to_string())
}

/// A 32-bit volume serial as FAT and exFAT tools write it: `1A2B-3C4D`.
fn serial_text(serial: u32) -> Option<String> {
    let (high, low) = (serial >> 16, serial & 0xffff);
    (serial != 0).then(|| format!("{high:04X}-{low:04X}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::SparseStore;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn random_bytes_behind_any_mark_never_panic(
            bytes in proptest::collection::vec(any::<u8>(), 70_000..70_100),
            mark in 0usize..8,
        ) {
            let (at, magic): (usize, &[u8]) = [
                (0, b"LUKS\xba\xbe".as_slice()), (0x10040, b"_BHRfS_M"), (4086, b"SWAPSPACE2"),
                (1080, b"\x53\xef"), (1024, b"\x10\x20\xf5\xf2"), (3, b"EXFAT   "),
                (3, b"NTFS    "), (510, b"\x55\xaa"),
            ][mark];
            let mut bytes = bytes;
            bytes[at..at + magic.len()].copy_from_slice(magic);
            bytes[510..512].copy_from_slice(b"\x55\xaa");
            let _ = recognise(&SparseStore::of(&bytes));
        }
    }

    #[test]
    fn nothing_is_recognised_in_nothing() {
        for len in [0, 1, 511, 512, 1024, 5000, 70_000] {
            assert_eq!(recognise(&SparseStore::of(&vec![0; len])).unwrap(), None);
        }
    }
}
