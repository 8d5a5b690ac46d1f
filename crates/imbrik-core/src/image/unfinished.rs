//! An unfinished image of an interrupted run: its content, and the notes next to it.
//!
//! The notes are lines: first the identity of the card and the options of the save (the manifest without its results),
//! then a line `START LENGTH` for each unreadable range.

use super::{
    container::Pack,
    formats::FrameLens,
    frames::{FramedStore, Frames},
    manifest::Manifest,
    part_file::PartFile,
    tile::{TILE, tile_span},
};
use imbrik_store::{
    FileStore, ReadAt, Window,
    error::{Error, Result},
    exact::Exact as _,
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::{
    cmp::Ordering,
    fs::{File, OpenOptions},
    io::Write,
    path::Path,
    sync::Arc,
};

/// The longest notes that are read, in bytes.
const MOST_NOTES: u64 = 64 << 20;

/// Writes notes on an image in the making.
#[derive(Debug)]
pub(super) struct Notes {
    file: File,
}

impl Notes {
    /// Starts the notes of `part` with the data about the card from `manifest`.
    pub(super) fn begin(part: &PartFile, manifest: &Manifest) -> Result<Self> {
        let path = part.notes();
        let failed = |e| Error::io(format!("writing {}", path.display()), e);
        let mut file = OpenOptions::new();
        let file = file.write(true).create(true).truncate(true);
        let mut file =
            std::os::unix::fs::OpenOptionsExt::mode(file, 0o600).open(&path).map_err(failed)?;
        writeln!(file, "{}", manifest.head()).and_then(|()| file.sync_all()).map_err(failed)?;
        Ok(Self { file })
    }

    /// Continues the notes of `part`.
    pub(super) fn go_on(part: &PartFile) -> Result<Self> {
        let path = part.notes();
        let file = OpenOptions::new().append(true).open(&path);
        Ok(Self { file: file.map_err(|e| Error::io(format!("opening {}", path.display()), e))? })
    }

    /// Records unreadable ranges, before their zeros are written.
    pub(super) fn add(&mut self, lost: &[Span]) -> Result<()> {
        let failed = |e| Error::io("writing the list of unreadable ranges", e);
        for span in lost {
            writeln!(self.file, "{} {}", span.start().get(), span.len().get()).map_err(failed)?;
        }
        self.file.sync_data().map_err(failed)
    }
}

/// An unfinished image.
pub struct Unfinished {
    pub(super) part: PartFile,
    pub(super) frames: Vec<FrameLens>,
    head: String,
    /// The complete tiles, found without decoding them.
    pub content: Arc<dyn ReadAt>,
    /// Their unreadable ranges.
    pub open: Vec<Span>,
}

impl Unfinished {
    /// The unfinished image `name` of a card of `size` bytes; `None` if it does not exist or can't be resumed.
    ///
    /// # Errors
    /// As [`PartFile::resume`], and when it cannot be read.
    pub fn open(name: &Path, replace: bool, pack: Pack, size: ByteLen) -> Result<Option<Self>> {
        let Some(part) = PartFile::resume(name, replace)? else { return Ok(None) };
        let Some((head, open)) = notes(&part.notes()) else { return Ok(None) };
        let copy = part.file().try_clone();
        let copy = copy.map_err(|e| Error::io(format!("opening {}", part.path().display()), e))?;
        let file: Arc<dyn ReadAt> = Arc::new(FileStore::from_file(copy)?);
        let (frames, content) = match pack.writing().codec() {
            Some(codec) => {
                let (lens, frames) = whole_frames(&*file, pack, size)?;
                let content: Arc<dyn ReadAt> = Arc::new(FramedStore::new(file, codec, frames));
                (lens, content)
            }
            None if pack.is_raw() => {
                let tiles = file.size().min(size).get().over(TILE.get())?;
                let len = TILE.times(tiles)?;
                let content: Arc<dyn ReadAt> = Arc::new(Window::new(file, Span::whole(len))?);
                (Vec::new(), content)
            }
            None => return Ok(None),
        };
        Ok(Some(Self { part, frames, head, content, open }))
    }

    /// Keeps the unfinished image.
    pub fn leave(self) {
        // Nothing was written to it.
        let _ = self.part.keep();
    }

    /// Returns whether it is of the card, and was created with the options, in `manifest`.
    #[must_use]
    pub fn is_of(&self, manifest: &Manifest) -> bool {
        self.head == manifest.head()
    }
}

/// The notes at `path`; `None` when there are none, or they are invalid. A last line that was cut short
/// is of a tile that is not there.
fn notes(path: &Path) -> Option<(String, Vec<Span>)> {
    let is_short =
        path.symlink_metadata().is_ok_and(|found| found.is_file() && found.len() <= MOST_NOTES);
    let text = std::fs::read_to_string(path).ok().filter(|_| is_short)?;
    let (head, rest) = text.split_once('\n')?;
    let mut open = Vec::new();
    for line in rest.split_inclusive('\n').filter(|line| line.ends_with('\n')) {
        let (start, len) = line.trim_end().split_once(' ')?;
        let start = ByteOffset::new(start.parse().ok()?);
        open.push(Span::new(start, ByteLen::new(len.parse().ok()?))?);
    }
    Some((head.to_owned(), joined(open)))
}

/// The frames at the start of `file` that are all there, a tile each.
fn whole_frames(file: &dyn ReadAt, pack: Pack, size: ByteLen) -> Result<(Vec<FrameLens>, Frames)> {
    let (mut lens, mut frames) = (Vec::new(), Frames::default());
    let mut at = ByteOffset::ZERO;
    let mut index = 0u64;
    // Those of a tile that is not whole yet.
    let mut pending: Vec<(FrameLens, Span)> = Vec::new();
    while let Some(tile) = tile_span(index, size) {
        let Some(frame) = pack.writing().frame_at(file, at) else { break };
        let end = at.saturating_add(ByteLen::new(frame.packed.into()));
        if end.get() > file.size().get() {
            break;
        }
        pending.push((frame, Span::between(at, end)));
        at = end;
        let lens_of = |(frame, _): &(FrameLens, Span)| ByteLen::new(frame.content.into());
        match pending.iter().map(lens_of).sum::<ByteLen>().cmp(&tile.len()) {
            Ordering::Less => continue,
            Ordering::Greater => break,
            Ordering::Equal => {}
        }
        index = index.saturating_add(1);
        for (frame, place) in pending.drain(..) {
            // Padding has no content.
            if frame.content > 0 && frames.push(place, ByteLen::new(frame.content.into())).is_err()
            {
                return Ok((lens, frames));
            }
            lens.push(frame);
        }
    }
    Ok((lens, frames))
}
