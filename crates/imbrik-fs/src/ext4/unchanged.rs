//! Which files of a volume have the content that they had before, by their inodes.
//!
//! Every write to a file changes its inode, at least the change time. So an inode that is identical except for its
//! access time has the same content in the same blocks, if these conditions hold:
//!
//! - *The system wrote both in order.* After a power loss, content can be on the card whose inode is not.
//! - *Its clock went forward.* Boards without a clock start at the same time each boot, so a second change could get
//!   the time of the first. The times of both superblocks must be in order, and a file is not judged by a time long
//!   before the volume was created, or shortly before it was examined. A folder is not judged if a checker ran in
//!   between.
//! - *Nothing was written past the filesystem.* Swap files, and blocks for the variables of a boot loader, are written
//!   without a change of the inode.
//! - *No power loss hid a write in place.* `fdatasync` writes data at once, but the modification time only with the
//!   next commit, which the mount option `commit=` can delay by many minutes. A power loss in between leaves new content
//!   under an old inode, and the volume looks clean after its next mount and unmount. So once a volume was mounted again,
//!   only files that are written once are judged: see [`is_written_once`].

use super::{
    structure::{
        Opened, group_of,
        inode::{MapKind, RawInode},
        inode_in,
        map::{Piece, map_of},
    },
    superblock::RawSuperblock,
};
use crate::{bits::Bits, unchanged::Unchanged};
use imbrik_store::{
    ReadAt, bytes,
    error::{Class, Error, Result},
    progress::Cancel,
    units::{ByteOffset, Span, joined},
};
use std::sync::Arc;

/// The inode of the blocks that are reserved for more descriptors.
const RESIZE: u32 = 7;
/// How long before the last write of the superblock a change must be, in seconds, so that a later one would show.
const MARGIN: i64 = 2;
/// How far in the future the time of a file may be: clocks are corrected by a little.
const DAY: i64 = 24 * 60 * 60;
/// How much older than the volume its files may be: files copied into a new volume keep their times.
const YEAR: i64 = 365 * 24 * 60 * 60;
/// The block size of variables that boot loaders write in place, past the filesystem.
const VARIABLES: u64 = 1024;
/// How long after its creation a file that is written once may still be written, in seconds: longer than usual
/// commit intervals.
const WRITTEN_ONCE: i64 = 15 * 60;
/// Files that are written in place consist of records of a multiple of this many bytes.
const RECORD: u64 = 512;
/// The page size of a swap file, which has its signature at the end of the first page.
const PAGE: u64 = 4096;
const SWAP_MARKS: [&[u8; 10]; 2] = [b"SWAPSPACE2", b"SWAP-SPACE"];

/// The times in a superblock, in seconds since 1970.
struct Clock {
    made: i64,
    mounted: i64,
    written: i64,
    mounts: u16,
    /// The time of the last check.
    checked: i64,
}

impl Clock {
    /// Out of `s_mkfs_time`, `s_mtime`, `s_wtime`, `s_mnt_count` and `s_lastcheck`.
    fn of(raw: &[u8]) -> Self {
        let time = |low: usize, high: usize| {
            let low = bytes::le_u32(raw, low).map_or(0, i64::from);
            let high = bytes::u8(raw, high).map_or(0, i64::from);
            low | high << 32
        };
        let made = time(0x108, 0x276);
        Self {
            made,
            // 0 until it is.
            mounted: Some(time(0x2c, 0x275)).filter(|time| *time != 0).unwrap_or(made),
            written: time(0x30, 0x274),
            mounts: bytes::le_u16(raw, 0x34).unwrap_or(0),
            checked: time(0x40, 0x277),
        }
    }

    /// Returns whether the clock went forward since `before`, according to these times.
    fn goes_on_from(&self, before: &Self) -> bool {
        let is_same_mount = self.mounted == before.mounted && self.mounts == before.mounts;
        let in_order = |clock: &Self| clock.made <= clock.mounted && clock.mounted <= clock.written;
        self.made > 0
            && self.made == before.made
            && in_order(before)
            && in_order(self)
            && before.written <= self.written
            && (is_same_mount || before.written <= self.mounted)
    }
}

/// The content of the volume in `store` that is unchanged since `before`, an earlier state of it.
///
/// # Errors
/// When one of them cannot be read, or stopping was requested.
pub(super) fn unchanged(
    store: &Arc<dyn ReadAt>,
    before: &Arc<dyn ReadAt>,
    cancel: &Cancel,
) -> Result<Unchanged> {
    match judged(store, before, cancel) {
        Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
            Ok(Unchanged::unknown(error.to_string()))
        }
        judged => judged,
    }
}

fn was_left_in_order(store: &dyn ReadAt) -> Result<bool> {
    let superblock = RawSuperblock::read(store)?;
    Ok(superblock.is_some_and(|it| !it.needs_recovery() && it.was_unmounted() && !it.has_errors()))
}

fn judged(store: &Arc<dyn ReadAt>, before: &Arc<dyn ReadAt>, cancel: &Cancel) -> Result<Unchanged> {
    if !was_left_in_order(&**store)? {
        return Ok(Unchanged::unknown("it was not unmounted in an orderly way"));
    }
    if !was_left_in_order(&**before)? {
        return Ok(Unchanged::unknown("it was not unmounted in an orderly way before"));
    }
    let now = Opened::to_look_at(Arc::clone(store))?;
    let then = Opened::to_look_at(Arc::clone(before))?;
    let (a, b) = (&now.superblock, &then.superblock);
    let is_the_same = a.uuid == b.uuid
        && a.seed == b.seed
        && (a.block_len, a.inode_len) == (b.block_len, b.inode_len)
        && a.inodes_per_group == b.inodes_per_group
        && now.raw.get(0x5c..0x68) == then.raw.get(0x5c..0x68);
    if !is_the_same {
        return Ok(Unchanged::unknown("it is another volume than before"));
    }
    let (clock, clock_before) = (Clock::of(&now.raw), Clock::of(&then.raw));
    if !clock.goes_on_from(&clock_before) {
        return Ok(Unchanged::unknown(
            "its times are not in order: the clock of its board may have been reset",
        ));
    }
    let mut look = Look {
        now: &now,
        then: &then,
        from: clock.made.saturating_sub(YEAR),
        until: clock_before.written.saturating_sub(MARGIN),
        newest: 0,
        owned: now.metadata()?,
        spans: Vec::new(),
        files: 0,
        judges_folders: clock.checked == clock_before.checked,
        was_mounted_between: (clock.mounted, clock.mounts)
            != (clock_before.mounted, clock_before.mounts),
    };
    now.each_inode(|inode, is_used| {
        cancel.check()?;
        if is_used { look.take(&inode) } else { Ok(()) }
    })?;
    if look.judges_folders {
        look.reserved()?;
    }
    if look.newest > clock.written.saturating_add(DAY) {
        return Ok(Unchanged::unknown("files in it are from later than its clock"));
    }
    Ok(Unchanged { spans: joined(look.spans), files: look.files, ..Unchanged::default() })
}

struct Look<'a> {
    now: &'a Opened,
    then: &'a Opened,
    /// Changes from before that say nothing.
    from: i64,
    /// Nor do those from then on.
    until: i64,
    /// The newest time of change that was seen.
    newest: i64,
    owned: Bits,
    spans: Vec<Span>,
    files: u64,
    /// True unless a checker may have rewritten folders without changing their inodes.
    judges_folders: bool,
    /// True if a power loss could have happened between the two states.
    was_mounted_between: bool,
}

impl Look<'_> {
    fn take(&mut self, inode: &RawInode) -> Result<()> {
        let superblock = &self.now.superblock;
        if inode.number < superblock.first_inode
            || !(inode.is_file() || self.judges_folders && inode.is_folder())
        {
            return Ok(());
        }
        inode.check(superblock)?;
        let Some(changed) = inode.changed() else { return Ok(()) };
        self.newest = self.newest.max(changed.seconds);
        let map = map_of(&self.now.meta, superblock, inode, &mut |run| {
            let is_free = run.end() <= superblock.blocks && self.owned.add(run);
            is_free.then_some(()).ok_or_else(|| inode.wrong("it has blocks of another owner"))
        })?;
        let is_judged = (self.from..self.until).contains(&changed.seconds)
            && inode.size() != VARIABLES
            && inode.map_kind(superblock)? != MapKind::None
            && (inode.is_folder()
                || !self.was_mounted_between
                || is_written_once(inode, &map.pieces, superblock.block_len));
        if !is_judged || !self.is_as_before(inode, &map.pieces)? {
            return Ok(());
        }
        self.files = self.files.saturating_add(u64::from(inode.is_file()));
        for piece in map.pieces.iter().filter(|piece| !piece.is_unwritten) {
            let at = |block: u64| {
                let at = block.checked_mul(superblock.block_len);
                at.map(ByteOffset::new).ok_or_else(|| inode.wrong("a block lies outside"))
            };
            let run = piece.run();
            self.spans.push(Span::between(at(run.first)?, at(run.end())?));
        }
        if self.spans.len() >= 1 << 16 {
            self.spans = joined(std::mem::take(&mut self.spans));
        }
        Ok(())
    }

    /// The blocks reserved for more descriptors, if the resize inode is unchanged: using them changes it and the
    /// superblock.
    fn reserved(&mut self) -> Result<()> {
        let (now, then) = (&self.now.superblock, &self.then.superblock);
        let count = now.reserved_gdt_blocks;
        if !now.has_geometry_of(then) || count != then.reserved_gdt_blocks || now.uses_meta_bg() {
            return Ok(());
        }
        let inodes = [self.now, self.then].map(|opened| opened.inode(RESIZE));
        let [Ok(is), Ok(was)] = inodes else { return Ok(()) };
        if judged_by(&is) != judged_by(&was) {
            return Ok(());
        }
        for group in (0..now.groups()).filter(|group| now.has_superblock(*group)) {
            let leading = now.leading_blocks(group).min(now.group_len(group));
            let Some(before) = leading.checked_sub(count) else { continue };
            let first = now.group_start(group).saturating_add(before);
            self.spans.extend(now.span(first, count));
        }
        Ok(())
    }

    /// Returns whether an inode and its map are what they were, and nobody wrote past them.
    fn is_as_before(&self, inode: &RawInode, pieces: &[Piece]) -> Result<bool> {
        let superblock = &self.then.superblock;
        let group = usize::try_from(group_of(superblock, inode.number)).unwrap_or(usize::MAX);
        let Some(group) = self.then.groups.get(group) else { return Ok(false) };
        let was = match inode_in(&self.then.meta, superblock, group, inode.number) {
            Err(error) if matches!(error.class(), Class::Corrupt | Class::Mismatch) => {
                return Ok(false);
            }
            was => was?,
        };
        if judged_by(inode) != judged_by(&was) || was.check(superblock).is_err() {
            return Ok(false);
        }
        let before = map_of(&self.then.meta, superblock, &was, &mut |run| {
            let is_inside = run.end() <= superblock.blocks;
            is_inside.then_some(()).ok_or_else(|| Error::corrupt("a block lies outside"))
        });
        match before {
            Ok(before) if before.pieces == pieces => {}
            Err(error) if !matches!(error.class(), Class::Corrupt | Class::Mismatch) => {
                return Err(error);
            }
            _ => return Ok(false),
        }
        Ok(inode.is_folder() || !self.may_be_swap(inode, pieces)?)
    }

    /// Returns whether it was a swap file: whole pages without a hole, and the signature.
    fn may_be_swap(&self, inode: &RawInode, pieces: &[Piece]) -> Result<bool> {
        let block_len = self.then.superblock.block_len;
        let has = pieces.iter().map(|piece| piece.len).sum::<u64>().saturating_mul(block_len);
        if !inode.size().is_multiple_of(PAGE) || has < inode.size() || inode.size() < 2 * PAGE {
            return Ok(false);
        }
        let mark = |page: u64| page.saturating_sub(10);
        // Pages of machines are of 4, 16 or 64 KiB.
        for page in [PAGE, 4 * PAGE, 16 * PAGE] {
            let at = mark(page);
            let logical = at.checked_div(block_len).unwrap_or(0);
            let holds = pieces.iter().find(|piece| {
                (piece.logical..piece.logical.saturating_add(piece.len)).contains(&logical)
            });
            let Some(piece) = holds else { continue };
            let block = piece.physical.saturating_add(logical.saturating_sub(piece.logical));
            let inside = usize::try_from(at.checked_rem(block_len).unwrap_or(0)).unwrap_or(0);
            let block = match self.then.meta.block(block) {
                Err(error) if matches!(error.class(), Class::Corrupt | Class::Mismatch) => {
                    return Ok(true);
                }
                block => block?,
            };
            let found = block.get(inside..inside.saturating_add(10)).unwrap_or_default();
            if SWAP_MARKS.iter().any(|mark| mark.as_slice() == found) {
                return Ok(true);
            }
        }
        Ok(false)
    }
}

/// Returns whether nothing suggests that a file is written again after it was created: it was last changed within
/// [`WRITTEN_ONCE`] of its creation, nothing is preallocated for it, and its size is not a multiple of
/// [`RECORD`]. Databases, disk images, swap files and ring buffers fail at least one of these.
fn is_written_once(inode: &RawInode, pieces: &[Piece], block_len: u64) -> bool {
    let Some((created, modified)) = inode.created().zip(inode.modified()) else { return false };
    let end = inode.size().div_ceil(block_len.max(1));
    let is_preallocated = pieces
        .iter()
        .any(|piece| piece.is_unwritten || piece.logical.saturating_add(piece.len) > end);
    modified.seconds <= created.seconds.saturating_add(WRITTEN_ONCE)
        && !inode.size().is_multiple_of(RECORD)
        && !is_preallocated
}

/// The compared bytes of an inode: all except the access time and checksums.
fn judged_by(inode: &RawInode) -> Vec<u8> {
    let mut raw = inode.raw.clone();
    let extra = bytes::le_u16(&raw, 0x80).map_or(0, usize::from);
    let mut blank = |from: usize, to: usize| {
        if let Some(bytes) = raw.get_mut(from..to) {
            bytes.fill(0);
        }
    };
    blank(0x08, 0x0c);
    blank(0x7c, 0x7e);
    if extra >= 4 {
        blank(0x82, 0x84);
    }
    if extra >= 0x10 {
        blank(0x8c, 0x90);
    }
    raw
}
