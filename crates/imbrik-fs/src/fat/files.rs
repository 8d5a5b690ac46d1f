//! Reading the files of a FAT volume: the implementation of [`Files`].

use super::{
    boot::BootSector,
    folder::{self, ENTRY, FolderPlace, Named, Raw, is_dots, is_folder, size_of},
    table::TableOnCard,
    usage::spans_of,
};
use crate::{
    bits::Run,
    clusters,
    dos_time::{file_time, with_hundredths},
    files::{
        DOS_FLAGS, EachEntry, EachStretch, FileFlags, FileId, FileInfo, FileKind, Files,
        FolderEntry, Stretch,
    },
};
use imbrik_store::{
    Keep, Pages, ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::ops::ControlFlow;

/// The number of the root directory, which has no entry: no entry is at the volume's first byte.
const ROOT: u64 = 0;
/// The page size for reading and caching entries, in bytes; no entry crosses a page boundary.
const PAGE: u64 = 4096;
const MOST_KEPT: ByteLen = ByteLen::mib(1);

/// A volume whose files are read.
pub(super) struct Reader<'a> {
    store: &'a dyn ReadAt,
    boot: BootSector,
    table: TableOnCard<'a>,
    pages: Pages,
}

impl<'a> Reader<'a> {
    /// The volume in `store`, with the boot sector `boot`; `None` if it has no allocation table.
    pub(super) fn new(store: &'a dyn ReadAt, boot: BootSector) -> Option<Self> {
        let place = boot.tables().nth(boot.active_table())?;
        let table = TableOnCard::new(store, &boot, place);
        Some(Self { store, boot, table, pages: Pages::new(MOST_KEPT, Keep::Last) })
    }

    /// The entry of `file`; `None` for the root directory.
    fn raw(&self, file: FileId) -> Result<Option<Raw>> {
        if file.number == ROOT {
            return Ok(None);
        }
        let page = self.pages.get_or_make(file.number / PAGE, || {
            let at = file.number.saturating_sub(file.number % PAGE);
            let len = usize::try_from(PAGE).unwrap_or(0);
            read_up_to(self.store, ByteOffset::new(at), len).map(Into::into)
        })?;
        let from = usize::try_from(file.number % PAGE).unwrap_or(0);
        let raw = bytes::array::<ENTRY>(&page, from);
        raw.map(Some).ok_or_else(|| Error::corrupt("an entry is past the end of the volume"))
    }

    /// The clusters of the chain from `first`, up to its end or a broken link.
    fn chain(&self, first: u64) -> Result<Vec<Run>> {
        let link = &mut |number| self.table.link(number);
        Ok(clusters::follow(first, self.boot.clusters, link, &mut |_| Ok(()))?.runs)
    }

    fn place(&self, folder: FileId) -> Result<Option<FolderPlace>> {
        Ok(match self.raw(folder)? {
            None => self.boot.root(),
            Some(raw) if is_folder(&raw) => self.boot.first_of(&raw).map(FolderPlace::Chain),
            Some(_) => return Err(Error::corrupt("it is no folder")),
        })
    }

    /// The ranges of the entries of `folder`.
    fn spans(&self, folder: FileId) -> Result<Vec<Span>> {
        match self.place(folder)? {
            None => Err(Error::corrupt("a folder has no cluster")),
            Some(place) => spans_of(&self.boot, &self.table, place),
        }
    }
}

impl Files for Reader<'_> {
    fn root(&self) -> FileId {
        FileId::of(ROOT)
    }

    fn entries(&self, folder: FileId, each: EachEntry<'_>) -> Result<()> {
        let records = folder::read(self.store, self.spans(folder)?)?;
        for one in folder::named(&records).filter(|one| !is_dots(one.raw)) {
            let file = FileId::of(one.at.get());
            if each(FolderEntry { name: &one.name(), file })?.is_break() {
                break;
            }
        }
        Ok(())
    }

    /// By its long or its short name; case doesn't matter.
    fn look_up(&self, folder: FileId, name: &[u8]) -> Result<Option<FileId>> {
        let records = folder::read(self.store, self.spans(folder)?)?;
        let mut files = folder::named(&records).filter(|one| !is_dots(one.raw));
        let found = files.find(|one: &Named<'_>| one.is_called(name));
        Ok(found.map(|one| FileId::of(one.at.get())))
    }

    fn info(&self, file: FileId) -> Result<FileInfo> {
        let raw = self.raw(file)?;
        let kind = match raw.as_ref().is_none_or(is_folder) {
            true => FileKind::Folder,
            false => FileKind::File,
        };
        let half = |at| raw.as_ref().and_then(|raw| bytes::le_u16(raw, at)).unwrap_or(0);
        let hundredths = raw.as_ref().map_or(0, |raw| raw[13]);
        let created = file_time(half(16), half(14));
        Ok(FileInfo {
            kind,
            size: raw.as_ref().filter(|raw| !is_folder(raw)).map_or(0, size_of),
            links: 1,
            ownership: None,
            flags: FileFlags::from_bits(raw.as_ref().map_or(0, |raw| raw[11].into()), &DOS_FLAGS),
            modified: file_time(half(24), half(22)),
            accessed: file_time(half(18), 0),
            changed: None,
            created: created.map(|at| with_hundredths(at, hundredths)),
        })
    }

    fn content(&self, file: FileId, each: EachStretch<'_>) -> Result<()> {
        let Some(raw) = self.raw(file)?.filter(|raw| !is_folder(raw)) else {
            let mut at = 0u64;
            for span in self.spans(file)? {
                if each(at, Stretch::InVolume(span))?.is_break() {
                    break;
                }
                at = at.saturating_add(span.len().get());
            }
            return Ok(());
        };
        let Some(first) = self.boot.first_of(&raw).filter(|_| size_of(&raw) > 0) else {
            return Ok(());
        };
        let mut at = 0u64;
        for run in self.chain(first)? {
            let span = self.boot.span_of(run);
            if at >= size_of(&raw) || each(at, Stretch::InVolume(span))? == ControlFlow::Break(()) {
                return Ok(());
            }
            at = at.saturating_add(span.len().get());
        }
        match at < size_of(&raw) {
            true => Err(Error::corrupt("its chain of clusters is shorter than its content")),
            false => Ok(()),
        }
    }

    fn store(&self) -> &dyn ReadAt {
        self.store
    }
}
