//! Copies files out of a volume into a sink.

use super::find::{Found, below};
use imbrik_fs::{
    FileAttribute, FileContent, FileId, FileInfo, FileKind, Files, Onward, Walked, WalkedEntry,
};
use imbrik_store::{
    ReadAt,
    error::Result,
    exact::Exact as _,
    for_pieces,
    progress::{Event, Step, Watch},
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::collections::HashMap;

/// The longest target of a link, in bytes.
const LONGEST_TARGET: usize = 65_536;
/// The granularity at which unreadable data are skipped.
const GIVEN_UP: ByteLen = ByteLen::kib(4);

/// A file or folder to copy, and its name at the destination.
#[derive(Clone, Debug)]
pub struct Chosen {
    /// The file.
    pub found: Found,
    /// Path at the destination, names joined by `/`; empty for a folder whose content goes directly into the
    /// destination.
    pub name: Vec<u8>,
}

/// A file or folder that is handed to a sink.
pub struct Item<'a> {
    /// Path at the destination, names joined by `/`; empty for the destination folder itself.
    pub path: &'a [u8],
    /// Its metadata.
    pub info: &'a FileInfo,
    /// Its extended attributes.
    pub attributes: &'a [FileAttribute],
    /// Its content.
    pub content: ItemContent<'a>,
}

/// The content of an item.
pub enum ItemContent<'a> {
    /// The following items, until [`TreeSink::leave`].
    Folder,
    /// The data of a regular file.
    File(&'a mut (dyn Reading + 'a)),
    /// A hard link to an earlier item with this path.
    SameAs(&'a [u8]),
    /// The target of a symbolic link.
    Link(&'a [u8]),
    /// None: a device, a pipe or a socket.
    Special,
}

/// The result of handing an item to a sink.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Took {
    /// The item was copied completely.
    All,
    /// The item was copied without some of its properties, for this reason.
    Partly(String),
    /// The item was not copied, for this reason. Its content is skipped.
    Not(String),
    /// The item was not copied, because its name exists already.
    Exists,
}

/// The destination of files that are copied out of a volume.
pub trait TreeSink {
    /// Receives an item.
    ///
    /// # Errors
    /// When no further item can be received.
    fn take(&mut self, item: Item<'_>) -> Result<Took>;

    /// Completes the folder that was received last and not completed yet.
    ///
    /// # Errors
    /// When no further item can be received.
    fn leave(&mut self) -> Result<Took>;
}

/// The content of a file that is being copied. Unreadable ranges are zeros, and reported afterwards.
pub trait Reading {
    /// The size of the file.
    fn size(&self) -> ByteLen;

    /// The ranges that are not holes, in order and joined.
    fn written(&self) -> Vec<Span>;

    /// Reads `buf` at `at`.
    ///
    /// # Errors
    /// When the card was removed, or the operation was cancelled.
    fn read(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<()>;
}

struct OnItsWay<'a> {
    content: FileContent<'a>,
    lost: ByteLen,
    progress: &'a mut dyn Advance,
}

/// Receives progress.
trait Advance {
    /// Reports that `by` more bytes were read.
    fn advance(&mut self, by: ByteLen) -> Result<()>;
}

struct Progress<'a> {
    done: ByteLen,
    watch: Watch<'a>,
}

impl Advance for Progress<'_> {
    fn advance(&mut self, by: ByteLen) -> Result<()> {
        self.watch.cancel.check()?;
        self.done = self.done.plus(by)?;
        self.watch.observer.on(&Event::Advanced { done: self.done });
        Ok(())
    }
}

impl Reading for OnItsWay<'_> {
    fn size(&self) -> ByteLen {
        self.content.size()
    }

    fn written(&self) -> Vec<Span> {
        joined(self.content.written().collect())
    }

    fn read(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        if let Err(error) = self.content.read_at(at, buf) {
            if !error.is_local() {
                return Err(error);
            }
            self.read_in_pieces(at, buf)?;
        }
        self.progress.advance(ByteLen::of(buf))
    }
}

impl OnItsWay<'_> {
    fn read_in_pieces(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let whole = Span::between(at, at.plus(ByteLen::of(buf))?);
        for_pieces(whole, GIVEN_UP, |piece| {
            let from = piece.start().saturating_since(at).to_usize().unwrap_or(usize::MAX);
            let len = piece.len().to_usize().unwrap_or(0);
            let place = buf.get_mut(from..from.saturating_add(len)).unwrap_or_default();
            match self.content.read_at(piece.start(), place) {
                Err(error) if error.is_local() => {
                    place.fill(0);
                    self.lost = self.lost.plus(piece.len())?;
                    Ok(())
                }
                read => read,
            }
        })
    }
}

/// A file that was not copied, or not completely.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeftOut {
    /// Path from the root of the volume, names joined by `/`.
    pub path: Vec<u8>,
    /// The reason as a sentence.
    pub why: String,
    /// The kind of reason.
    pub because: Because,
}

/// The kind of reason why a file was not copied completely.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Because {
    /// It is damaged or unreadable.
    Damage,
    /// Its name exists already at the destination.
    Exists,
    /// The destination doesn't support such a file or one of its properties.
    CannotBe,
}

/// The result of copying.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Taken {
    /// Count of files, links and devices.
    pub files: u64,
    /// Count of folders.
    pub folders: u64,
    /// Bytes of content without holes.
    pub bytes: ByteLen,
    /// Files that were not copied, or not completely.
    pub left_out: Vec<LeftOut>,
}

/// The size of the content of `chosen`, for progress and for a check of the free space. Unreadable files are not
/// counted.
///
/// # Errors
/// When the card was removed, or the operation was cancelled.
pub fn weight_of(files: &dyn Files, chosen: &[Chosen], watch: Watch<'_>) -> Result<ByteLen> {
    let mut sum = ByteLen::ZERO;
    let mut seen = std::collections::HashSet::new();
    for one in chosen {
        files.walk(one.found.file, &mut |walked| {
            watch.cancel.check()?;
            if let Walked::Entry(WalkedEntry { file, info, .. }) = walked
                && info.kind == FileKind::File
                && (info.links < 2 || seen.insert(file.number()))
            {
                let content = files.content_of(file);
                let written = content.map(|content| content.written().map(Span::len).sum());
                sum = sum.saturating_add(written.unwrap_or_default());
            }
            Ok(Onward::Into)
        })?;
    }
    Ok(sum)
}

/// Copies `chosen` with everything below it, `total` bytes, into `sink`.
///
/// # Errors
/// When the card is gone, the sink fails, or stopping was requested.
pub fn take_out(
    files: &dyn Files,
    chosen: &[Chosen],
    total: ByteLen,
    sink: &mut dyn TreeSink,
    watch: Watch<'_>,
) -> Result<Taken> {
    watch.observer.on(&Event::Started { step: Step::TakingOut, total });
    let mut taking = Taking {
        files,
        sink,
        progress: Progress { done: ByteLen::ZERO, watch },
        firsts: HashMap::new(),
        open: Vec::new(),
        taken: Taken::default(),
    };
    for one in chosen {
        files.walk(one.found.file, &mut |walked| {
            taking.progress.watch.cancel.check()?;
            match walked {
                Walked::Entry(entry) => taking.entry(one, &entry),
                Walked::Fault { path, error } => {
                    let path = below(&one.found.path, path);
                    let why = error.to_string();
                    taking.taken.left_out.push(LeftOut { path, why, because: Because::Damage });
                    Ok(Onward::Past)
                }
            }
        })?;
        taking.leave_to(0)?;
    }
    let Taking { taken, .. } = taking;
    watch.observer.on(&Event::Finished);
    Ok(taken)
}

struct Taking<'a, 'w> {
    files: &'a dyn Files,
    sink: &'a mut dyn TreeSink,
    progress: Progress<'w>,
    /// The first destination path of each file with several hard links.
    firsts: HashMap<u64, Vec<u8>>,
    /// Folders that were received and not completed yet, by their paths in the volume.
    open: Vec<Vec<u8>>,
    taken: Taken,
}

impl Taking<'_, '_> {
    fn leave_to(&mut self, depth: usize) -> Result<()> {
        while self.open.len() > depth {
            let took = self.sink.leave()?;
            let path = self.open.pop().unwrap_or_default();
            if let Took::Partly(why) | Took::Not(why) = took {
                self.left_out(path, why, Because::CannotBe);
            }
        }
        Ok(())
    }

    fn entry(&mut self, chosen: &Chosen, entry: &WalkedEntry<'_>) -> Result<Onward> {
        self.leave_to(entry.depth)?;
        let goes_to = below(&chosen.name, entry.path);
        let path = below(&chosen.found.path, entry.path);
        let took = match self.took(&goes_to, &path, entry.file, &entry.info) {
            Err(error) if error.is_local() => {
                self.left_out(path, error.to_string(), Because::Damage);
                return Ok(Onward::Past);
            }
            // An error of the sink ends the copy, whatever its class.
            took => took??,
        };
        match took {
            Took::Not(why) => {
                self.left_out(path, why, Because::CannotBe);
                return Ok(Onward::Past);
            }
            Took::Exists => {
                self.left_out(path, "it exists already".to_owned(), Because::Exists);
                return Ok(Onward::Past);
            }
            Took::Partly(why) => self.left_out(path.clone(), why, Because::CannotBe),
            Took::All => {}
        }
        if entry.info.kind == FileKind::Folder {
            self.open.push(path);
            self.taken.folders = self.taken.folders.plus(1)?;
        } else {
            self.taken.files = self.taken.files.plus(1)?;
            if entry.info.links > 1 {
                self.firsts.entry(entry.file.number()).or_insert(goes_to);
            }
        }
        Ok(Onward::Into)
    }

    fn left_out(&mut self, path: Vec<u8>, why: String, because: Because) {
        self.taken.left_out.push(LeftOut { path, why, because });
    }

    /// Hands an item to the sink. The outer result is for errors of the volume, the inner one for errors of the sink.
    fn took(
        &mut self,
        goes_to: &[u8],
        path: &[u8],
        file: FileId,
        info: &FileInfo,
    ) -> Result<Result<Took>> {
        let attributes = match self.files.attributes(file) {
            Err(error) if error.is_local() => {
                self.left_out(path.to_vec(), format!("its attributes: {error}"), Because::Damage);
                Vec::new()
            }
            attributes => attributes?,
        };
        let attributes = &attributes[..];
        let item = |content| Item { path: goes_to, info, attributes, content };
        let first = self.firsts.get(&file.number()).filter(|_| info.links > 1);
        match (info.kind, first) {
            (FileKind::Folder, _) => Ok(self.sink.take(item(ItemContent::Folder))),
            (_, Some(first)) => Ok(self.sink.take(item(ItemContent::SameAs(first)))),
            (FileKind::Link, _) => {
                let target = self.files.read(file, LONGEST_TARGET)?;
                Ok(self.sink.take(item(ItemContent::Link(&target))))
            }
            (FileKind::File, _) => {
                let content = self.files.content_of(file)?;
                let before = self.progress.done;
                let progress = &mut self.progress;
                let mut reading = OnItsWay { content, lost: ByteLen::ZERO, progress };
                let took = self.sink.take(Item {
                    path: goes_to,
                    info,
                    attributes,
                    content: ItemContent::File(&mut reading),
                });
                let lost = reading.lost;
                let read = self.progress.done.saturating_sub(before);
                self.taken.bytes = self.taken.bytes.plus(read)?;
                if !lost.is_zero() && matches!(took, Ok(Took::All | Took::Partly(_))) {
                    let why = format!("{lost} of it cannot be read, and are zeros");
                    self.left_out(path.to_vec(), why, Because::Damage);
                }
                Ok(took)
            }
            _ => Ok(self.sink.take(item(ItemContent::Special))),
        }
    }
}
