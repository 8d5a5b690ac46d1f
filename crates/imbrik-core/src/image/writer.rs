//! Writes an image: tiles in order, then the manifest.

use super::{
    container::Pack,
    encode::Encoded,
    formats::FrameLens,
    hashing::Hashing,
    manifest::Manifest,
    open::manifest_path,
    part_file::{FolderId, Owner, PartFile},
    standing::{BLOCK, Standing},
    sums::{Sum, SumFile, SumKind, Sums},
    tile::{PIECE, TILE},
    unfinished::{Notes, Unfinished},
};
use imbrik_store::{
    FileStore,
    bytes::is_zero,
    error::{Error, Result},
    exact::{Exact as _, invariant_error},
    for_pieces,
    units::{ByteLen, Span},
};
use rustix::fs::{Advice, fadvise};
use std::{
    fs,
    io::Write,
    num::NonZeroU64,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    sync::Arc,
};

/// The granularity of holes in a raw image, in bytes.
const HOLE: usize = 64 << 10;

/// Shorter data are buffered instead of being written separately, in bytes: an empty card has thousands of short
/// frames.
const GATHERED: usize = 64 << 10;

/// The maximum length of a single copy, so that progress is visible.
const LONGEST_RUN: ByteLen = ByteLen::mib(16);

/// The destination of an image.
pub enum Output<'a> {
    /// A file of this name, with its checksum files and, for containers without room for one, its manifest next to it.
    File(&'a Path),
    /// The same, but only while the folder is the one that was inspected before.
    FileIn(&'a Path, FolderId),
    /// A pipe. There are no files next to it, and it can't be read back.
    Pipe(Box<dyn Write>),
}

impl Output<'_> {
    /// The name of the file; `None` for a pipe.
    #[must_use]
    pub fn path(&self) -> Option<&Path> {
        match self {
            Self::File(name) | Self::FileIn(name, _) => Some(name),
            Self::Pipe(_) => None,
        }
    }
}

/// A frame of a whole tile of at least this length starts at a multiple of the block size, where the format allows it,
/// so that other files can share its blocks. This costs less than 1 %.
const ALIGNED: ByteLen = ByteLen::kib(256);
/// The same for a piece of a tile; this costs a few percent at most.
const ALIGNED_PIECE: ByteLen = ByteLen::kib(64);

/// Bytes that are written before the system is asked to write them back.
const AHEAD: u64 = 64 << 20;

/// An incomplete image: `NAME.part` until it is published, or data in a pipe.
pub struct ImageWriter {
    place: Opened,
    pack: Pack,
    /// Checksums of the written data, on a separate thread.
    hashing: Hashing,
    frames: Vec<FrameLens>,
    /// Size of the file so far, with holes.
    len: ByteLen,
    /// Bytes that the system copied from another file.
    copied: ByteLen,
    /// The end of the file that is buffered ...
    gathered: Vec<u8>,
    /// ... or not copied yet.
    run: Option<Run>,
    /// Bytes that the system was asked to write back.
    asked: ByteLen,
    side_manifest: Option<Vec<u8>>,
    notes: Option<Notes>,
}

/// Frames, and their padding, that are in another file in the same form, and are copied together.
struct Run {
    /// The first of them.
    first: Standing,
    /// Their location in that file.
    span: Span,
}

enum Opened {
    File { part: PartFile, name: PathBuf, owner: Option<Owner>, replace: bool },
    Pipe(Box<dyn Write>),
}

/// A complete image on the medium that doesn't have its name yet.
pub struct Written {
    writer: ImageWriter,
    /// The checksums of the file.
    pub sums: Vec<Sum>,
    /// Size of the file in bytes, with holes.
    pub len: ByteLen,
    /// Bytes that the system copied from another file.
    pub copied: ByteLen,
}

impl ImageWriter {
    /// Starts an image.
    ///
    /// # Errors
    /// As [`PartFile::create`].
    pub fn create(
        to: Output<'_>,
        pack: Pack,
        sums: &[SumKind],
        replace: bool,
        owner: Option<Owner>,
    ) -> Result<Self> {
        let place = match to {
            Output::Pipe(pipe) => Opened::Pipe(pipe),
            Output::File(name) => {
                let part = PartFile::create(name, replace, owner)?;
                Opened::File { part, name: name.to_owned(), owner, replace }
            }
            Output::FileIn(name, folder) => {
                let part = PartFile::create_in(name, Some(folder), replace, owner)?;
                Opened::File { part, name: name.to_owned(), owner, replace }
            }
        };
        Ok(Self {
            place,
            pack,
            hashing: Hashing::start(Sums::new(sums))?,
            frames: Vec::new(),
            len: ByteLen::ZERO,
            copied: ByteLen::ZERO,
            gathered: Vec::new(),
            run: None,
            asked: ByteLen::ZERO,
            side_manifest: None,
            notes: None,
        })
    }

    /// Writes notes with `manifest` next to the image, so that it can be resumed if it is interrupted. A pipe has no
    /// notes.
    ///
    /// # Errors
    /// When they can't be written.
    pub fn note(&mut self, manifest: &Manifest) -> Result<()> {
        if let Opened::File { part, .. } = &self.place {
            self.notes = Some(Notes::begin(part, manifest)?);
        }
        Ok(())
    }

    /// Resumes an incomplete image after its first `tiles` tiles; later data are removed.
    ///
    /// # Errors
    /// When it can't be read or truncated.
    pub fn go_on(
        unfinished: Unfinished,
        tiles: usize,
        name: &Path,
        pack: Pack,
        sums: &[SumKind],
        replace: bool,
        owner: Option<Owner>,
    ) -> Result<Self> {
        let Unfinished { part, mut frames, .. } = unfinished;
        let wanted = TILE.times(tiles.exact_as::<u64>()?)?;
        let mut kept = ByteLen::ZERO;
        frames.retain(|frame| {
            let is_wanted = kept < wanted;
            kept = kept.saturating_add(ByteLen::new(frame.content.into()));
            is_wanted
        });
        let packed = frames.iter().map(|frame| ByteLen::new(frame.packed.into())).sum();
        let len = match pack.is_raw() {
            true => TILE.times(tiles.exact_as::<u64>()?)?,
            false => packed,
        };
        let notes = Some(Notes::go_on(&part)?);
        let io = |e| Error::io(format!("going on with {}", part.path().display()), e);
        part.file().set_len(len.get()).map_err(io)?;
        let mut sums = Sums::new(sums);
        let kept = FileStore::from_file(part.file().try_clone().map_err(io)?)?;
        sums.update_from(&kept, |_| Ok(()))?;
        let hashing = Hashing::start(sums)?;
        let place = Opened::File { part, name: name.to_owned(), owner, replace };
        let (copied, gathered, side_manifest) = (ByteLen::ZERO, Vec::new(), None);
        let asked = len;
        Ok(Self {
            place,
            pack,
            hashing,
            frames,
            len,
            copied,
            gathered,
            run: None,
            asked,
            side_manifest,
            notes,
        })
    }

    /// Records unreadable ranges of the next tile in the notes.
    ///
    /// # Errors
    /// When they can't be written.
    pub fn lost(&mut self, spans: &[Span]) -> Result<()> {
        self.notes.as_mut().map_or(Ok(()), |notes| notes.add(spans))
    }

    /// Keeps the incomplete file for a later resume, if it has at least one tile, and notes.
    pub fn keep(mut self) {
        // Data that can't be written are saved again on resume.
        let _ = self.flush_run();
        let is_something = !self.len.is_zero() && self.notes.is_some();
        if let Opened::File { part, .. } = self.place
            && is_something
        {
            // Data that did not reach the medium are detected on resume.
            let _ = part.keep();
        }
    }

    /// Appends the next tile.
    ///
    /// # Errors
    /// When it can't be written: [`crate::Class::NoRoom`] when the disk is full.
    pub fn append(&mut self, tile: Encoded) -> Result<()> {
        if let Encoded::Several(pieces) = tile {
            return pieces.into_iter().try_for_each(|piece| self.append(piece));
        }
        match &tile {
            Encoded::Packed { frame, content } => self.append_frame(frame, *content)?,
            Encoded::PackedZeros { frame } => self.append_frame(frame, TILE)?,
            Encoded::Standing(standing) => self.append_standing(standing)?,
            Encoded::Several(_) => {}
            Encoded::Plain(tile) => self.append_plain(tile)?,
            Encoded::Zeros(len) => self.append_zeros(*len)?,
        }
        self.write_behind();
        self.hashing.update(tile);
        Ok(())
    }

    /// Asks the system to write back the data, and to drop them from its cache. Otherwise all of them would be written
    /// back at the end, and displace the data of other processes.
    fn write_behind(&mut self) {
        let Opened::File { part, .. } = &self.place else { return };
        let Some(len) = NonZeroU64::new(self.len.get().saturating_sub(self.asked.get())) else {
            return;
        };
        if len.get() >= AHEAD {
            // This is only advice.
            let _ = fadvise(part.file(), self.asked.get(), Some(len), Advice::DontNeed);
            self.asked = self.len;
        }
    }

    fn append_frame(&mut self, frame: &[u8], content: ByteLen) -> Result<()> {
        self.begin_frame(ByteLen::of(frame), content)?;
        self.write(frame)
    }

    /// Adds a frame to the seek table, with padding before it when it is long.
    fn begin_frame(&mut self, packed: ByteLen, content: ByteLen) -> Result<()> {
        if let Some(padding) = self.padding(packed, content)? {
            self.list(ByteLen::of(&padding), ByteLen::ZERO)?;
            self.write(&padding)?;
            self.hashing.update(Encoded::Packed { frame: padding, content: ByteLen::ZERO });
        }
        self.list(packed, content)
    }

    fn list(&mut self, packed: ByteLen, content: ByteLen) -> Result<()> {
        let too_long = |_| invariant_error("a frame is longer than its format allows");
        self.frames.push(FrameLens {
            packed: u32::try_from(packed.get()).map_err(too_long)?,
            content: u32::try_from(content.get()).map_err(too_long)?,
        });
        Ok(())
    }

    /// The padding before the next frame, so that it starts at a multiple of the block size.
    fn padding(&self, packed: ByteLen, content: ByteLen) -> Result<Option<Vec<u8>>> {
        let long = if content <= PIECE { ALIGNED_PIECE } else { ALIGNED };
        let over = self.len.get() % BLOCK;
        if packed < long || over == 0 {
            return Ok(None);
        }
        // A header fits in any case.
        let shortfall = BLOCK.saturating_sub(over);
        let shortfall = if shortfall < 8 { shortfall.plus(BLOCK)? } else { shortfall };
        Ok(self.pack.writing().padding(shortfall.exact_as()?))
    }

    /// Adds reused data from another file: as a frame, or as bytes of the card with their holes.
    fn append_standing(&mut self, standing: &Standing) -> Result<()> {
        let Standing { packed, content, .. } = *standing;
        if let Opened::Pipe(_) = self.place {
            self.begin_frame(packed.len(), content)?;
            let mut written = Ok(());
            standing.read(|bytes| {
                if written.is_ok() {
                    written = self.write(bytes);
                }
            })?;
            return written;
        }
        if self.pack.is_raw() {
            let at = self.len;
            let mut from = packed.start();
            while let Some(data) = standing.next_data(from)? {
                let ahead = data.start().saturating_since(packed.start());
                self.copy(standing, data, at.plus(ahead)?)?;
                from = data.end();
            }
            self.len = at.plus(content)?;
            return Ok(());
        }
        let padding = self.padding(packed.len(), content)?;
        let goes_on = |run: &&mut Run| run.goes_on_with(standing, padding.as_deref());
        match self.run.as_mut().filter(goes_on) {
            Some(run) => {
                run.span = Span::between(run.span.start(), packed.end());
                if let Some(padding) = padding {
                    let len = ByteLen::of(&padding);
                    self.len = self.len.plus(len)?;
                    self.list(len, ByteLen::ZERO)?;
                    self.hashing.update(Encoded::Packed { frame: padding, content: ByteLen::ZERO });
                }
                self.list(packed.len(), content)?;
            }
            None => {
                self.begin_frame(packed.len(), content)?;
                self.flush_run()?;
                self.run = Some(Run { first: standing.clone(), span: packed });
            }
        }
        self.len = self.len.plus(packed.len())?;
        Ok(())
    }

    /// Copies `span` of the file of `standing` to `to`.
    fn copy(&mut self, standing: &Standing, span: Span, to: ByteLen) -> Result<()> {
        if let Opened::File { part, .. } = &self.place {
            let copied = standing.copy(span, part.file(), to.get())?;
            copied.map_err(|e| self.failed(e))?;
            self.copied = self.copied.plus(span.len())?;
        }
        Ok(())
    }

    fn append_plain(&mut self, tile: &[u8]) -> Result<()> {
        for piece in tile.chunks(HOLE) {
            match &mut self.place {
                Opened::File { .. } if is_zero(piece) => {}
                Opened::File { part, .. } => {
                    let written = part.file().write_all_at(piece, self.len.get());
                    written.map_err(|e| self.failed(e))?;
                }
                Opened::Pipe(_) => {
                    self.write(piece)?;
                    continue;
                }
            }
            self.len = self.len.plus(ByteLen::of(piece))?;
        }
        Ok(())
    }

    fn append_zeros(&mut self, len: ByteLen) -> Result<()> {
        static ZEROS: [u8; HOLE] = [0; HOLE];
        if let Opened::File { .. } = self.place {
            self.len = self.len.plus(len)?;
            return Ok(());
        }
        for_pieces(Span::whole(len), ByteLen::of(&ZEROS), |piece| {
            let len = piece.len().to_usize().unwrap_or(HOLE);
            self.write(ZEROS.get(..len).unwrap_or(&ZEROS))
        })
    }

    fn write(&mut self, bytes: &[u8]) -> Result<()> {
        if bytes.len() >= GATHERED || self.run.is_some() {
            self.flush_run()?;
        }
        let written = match &mut self.place {
            Opened::File { .. } if bytes.len() < GATHERED => {
                self.gathered.extend_from_slice(bytes);
                Ok(())
            }
            Opened::File { part, .. } => part.file().write_all_at(bytes, self.len.get()),
            Opened::Pipe(pipe) => pipe.write_all(bytes),
        };
        written.map_err(|e| self.failed(e))?;
        self.len = self.len.plus(ByteLen::of(bytes))?;
        match self.gathered.len() {
            ..GATHERED => Ok(()),
            _ => self.flush_run(),
        }
    }

    /// Writes or copies the buffered data.
    fn flush_run(&mut self) -> Result<()> {
        if let Some(run) = self.run.take() {
            return self.copy(&run.first, run.span, self.len.saturating_sub(run.span.len()));
        }
        if let Opened::File { part, .. } = &self.place
            && !self.gathered.is_empty()
        {
            let at = self.len.saturating_sub(ByteLen::of(&self.gathered));
            let written = part.file().write_all_at(&self.gathered, at.get());
            written.map_err(|e| self.failed(e))?;
            self.gathered.clear();
        }
        Ok(())
    }

    fn failed(&self, cause: std::io::Error) -> Error {
        let place = match &self.place {
            Opened::File { part, .. } => part.path().display().to_string(),
            Opened::Pipe(_) => "the pipe".to_owned(),
        };
        Error::io(format!("writing {place}"), cause)
    }

    /// Writes the manifest and syncs the file.
    ///
    /// # Errors
    /// When it can't be written.
    pub fn finish(mut self, manifest: &Manifest) -> Result<Written> {
        let json = manifest.encode();
        match self.pack.writing().tail(&json, &self.frames)? {
            Some(tail) => {
                self.write(&tail)?;
                let content = ByteLen::ZERO;
                self.hashing.update(Encoded::Packed { frame: tail, content });
            }
            None => self.side_manifest = Some(json),
        }
        if let (true, Opened::File { part, .. }) = (self.pack.is_raw(), &self.place) {
            // The file can end in a hole.
            part.file().set_len(self.len.get()).map_err(|e| self.failed(e))?;
        }
        self.flush_run()?;
        match &mut self.place {
            Opened::File { part, .. } => part.sync()?,
            Opened::Pipe(pipe) => {
                let flushed = pipe.flush();
                flushed.map_err(|e| self.failed(e))?;
            }
        }
        let hashing = std::mem::replace(&mut self.hashing, Hashing::start(Sums::new(&[]))?);
        let sums = hashing.finish()?;
        Ok(Written { len: self.len, copied: self.copied, sums, writer: self })
    }
}

impl Run {
    /// Returns whether `standing` is the next data in its file, after padding of the length `padding`.
    fn goes_on_with(&self, standing: &Standing, padding: Option<&[u8]>) -> bool {
        let behind = self.span.end().checked_add(padding.map_or(ByteLen::ZERO, ByteLen::of));
        Arc::ptr_eq(&self.first.file, &standing.file)
            && padding.is_none_or(|padding| standing.is_padded_with(padding, self.span.end()))
            && behind == Some(standing.packed.start())
            && self.span.len() < LONGEST_RUN
    }
}

impl Written {
    /// The path of the image until it is published; `None` for a pipe.
    #[must_use]
    pub fn path(&self) -> Option<&Path> {
        match &self.writer.place {
            Opened::File { part, .. } => Some(part.path()),
            Opened::Pipe(_) => None,
        }
    }

    /// The manifest that will be stored next to it, if its container has no room for one.
    #[must_use]
    pub fn side_manifest(&self) -> Option<&[u8]> {
        self.writer.side_manifest.as_deref()
    }

    /// Gives the image its name, and adds its checksum files and its manifest. Returns the errors that affected only
    /// these: the image is intact in any case.
    ///
    /// All of them are written before any file is renamed. Files next to an image that is replaced are removed first,
    /// so that no image is ever next to the checksum of another one. For a pipe, nothing is left to do.
    ///
    /// # Errors
    /// When a file can't be written, or the image not renamed; nothing has changed then.
    pub fn publish(self) -> Result<Option<Error>> {
        let ImageWriter { place, side_manifest, .. } = self.writer;
        let Opened::File { part, name, owner, replace } = place else { return Ok(None) };
        let mut sides = Vec::new();
        if let Some(json) = side_manifest {
            sides.push(side(&manifest_path(&name), &json, owner)?);
        }
        for sum in &self.sums {
            sides.push(sum_side(&name, sum, owner)?);
        }
        let old = if replace { Beside::take_away(&name) } else { Beside::default() };
        if let Err(error) = part.publish() {
            old.put_back();
            return Err(error);
        }
        Ok(sides.into_iter().map(PartFile::publish).find_map(Result::err))
    }
}

/// Files next to an image that is replaced.
#[derive(Default)]
struct Beside(Vec<(PathBuf, Vec<u8>)>);

impl Beside {
    fn take_away(image: &Path) -> Self {
        let sums = SumKind::ALL.into_iter().map(|kind| kind.path_beside(image));
        let mut taken = Vec::new();
        for path in sums.chain([manifest_path(image)]) {
            // A missing file is fine; other errors occur again when the new one is renamed.
            if let Ok(bytes) = fs::read(&path)
                && fs::remove_file(&path).is_ok()
            {
                taken.push((path, bytes));
            }
        }
        Self(taken)
    }

    /// Best effort, since the disk may just have failed.
    fn put_back(self) {
        for (path, bytes) in self.0 {
            if let Err(error) = fs::write(&path, bytes) {
                tracing::error!(path = %path.display(), %error, "the previous file next to the image could not be restored");
            }
        }
    }
}

/// Writes the checksum file of `sum` next to `image`. Returns its path.
///
/// # Errors
/// When it can't be written.
pub fn publish_beside(image: &Path, sum: &Sum, owner: Option<Owner>) -> Result<PathBuf> {
    sum_side(image, sum, owner)?.publish()?;
    Ok(sum.kind.path_beside(image))
}

fn sum_side(image: &Path, sum: &Sum, owner: Option<Owner>) -> Result<PartFile> {
    let file_name = image.file_name().unwrap_or(image.as_os_str());
    side(&sum.kind.path_beside(image), &SumFile::of(sum, file_name).encode(), owner)
}

/// A complete file next to an image, on the medium, that doesn't have its name yet.
fn side(path: &Path, bytes: &[u8], owner: Option<Owner>) -> Result<PartFile> {
    let side = PartFile::create(path, true, owner)?;
    let failed = |e| Error::io(format!("writing {}", path.display()), e);
    side.file().write_all_at(bytes, 0).map_err(failed)?;
    side.sync()?;
    Ok(side)
}
