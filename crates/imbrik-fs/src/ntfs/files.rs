//! Reading the files of an NTFS volume: the implementation of [`Files`].
//!
//! A file consists of its file record and the records in its attribute list; a folder is a B-tree of names, with the
//! root in the record. DOS names are omitted. Compressed, encrypted or externally stored content is reported and
//! refused.

use super::{
    Attributes, DATA, OWN_RECORDS, OwnFiles, RECORD_IN_USE, attributes, fixed_up_as,
    runs_with_holes,
};
use crate::{
    examined::State,
    files::{
        DOS_FLAGS, EachEntry, EachStretch, FileAttribute, FileFlags, FileId, FileInfo, FileKind,
        FileTime, Files, FolderEntry, Stretch, fill,
    },
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::{
    cell::RefCell,
    collections::{BTreeSet, HashMap},
    ops::ControlFlow,
    rc::Rc,
};

/// The record of the root directory.
const ROOT: u64 = 5;
/// Attribute types: times, attribute list, names, a folder's tree and its blocks, reparse point.
const STANDARD: u32 = 0x10;
const LIST: u32 = 0x20;
const NAME: u32 = 0x30;
const INDEX_ROOT: u32 = 0x90;
const INDEX_BLOCKS: u32 = 0xa0;
const REPARSE: u32 = 0xc0;
/// Flags of an attribute.
const COMPRESSED: u16 = 0x00ff;
const ENCRYPTED: u16 = 0x4000;
/// A record's flag: it is a folder.
const IS_FOLDER: u16 = 2;
/// How a folder's tree of names is called, in UTF-16.
const BY_NAME: &[u8] = b"$\0I\x003\x000\0";
/// The space of names that only DOS uses.
const DOS: u8 = 2;
/// The supported reparse points: a symbolic link, and a folder of another volume.
const SYMLINK: u32 = 0xa000_000c;
const JUNCTION: u32 = 0xa000_0003;
/// The number in a reference to a record; the rest is a sequence number.
const NUMBER: u64 = 0xffff_ffff_ffff;
/// The seconds between 1601, the epoch of its times, and 1970; and their unit per second.
const EPOCH: i64 = 11_644_473_600;
const PARTS: i64 = 10_000_000;
/// More records than that no file has.
const MOST_RECORDS: usize = 4096;
/// The maximum length in bytes of an attribute list, reparse point or stream; longer ones are not read.
const MOST_IN_MEMORY: u64 = 1 << 20;
const MOST_STREAM: u64 = 64 << 10;
/// How deep a folder's tree is at most.
const DEEPEST: usize = 32;
/// The maximum number of cached files.
const KEPT: usize = 512;

/// A volume whose files are read.
pub(super) struct Reader<'a> {
    own: OwnFiles<'a>,
    kept: RefCell<HashMap<u64, Rc<Record>>>,
    faults: RefCell<BTreeSet<String>>,
}

/// A file: all of its records.
struct Record {
    number: u64,
    flags: u16,
    /// Each with its attributes, the file's own first.
    parts: Vec<Vec<u8>>,
}

/// An attribute in a record.
#[derive(Clone, Copy)]
struct Attribute<'r> {
    raw: &'r [u8],
}

impl<'r> Attribute<'r> {
    fn kind(self) -> u32 {
        bytes::le_u32(self.raw, 0).unwrap_or(u32::MAX)
    }

    /// The name in UTF-16.
    fn name(self) -> Option<&'r [u8]> {
        let len = usize::from(bytes::u8(self.raw, 9)?).checked_mul(2)?;
        let at = usize::from(bytes::le_u16(self.raw, 10)?);
        self.raw.get(at..at.checked_add(len)?)
    }

    fn is(self, kind: u32, name: &[u8]) -> bool {
        self.kind() == kind && self.name() == Some(name)
    }

    fn flags(self) -> u16 {
        bytes::le_u16(self.raw, 12).unwrap_or(0)
    }

    fn is_resident(self) -> bool {
        bytes::u8(self.raw, 8) == Some(0)
    }

    /// The value of a resident one.
    fn value(self) -> Option<&'r [u8]> {
        let len = usize::try_from(bytes::le_u32(self.raw, 16)?).ok()?;
        let at = usize::from(bytes::le_u16(self.raw, 20)?);
        self.is_resident().then(|| self.raw.get(at..at.checked_add(len)?))?
    }

    /// The first and the last cluster of the content that this attribute record maps.
    fn range(self) -> Option<(u64, u64)> {
        Some((bytes::le_u64(self.raw, 16)?, bytes::le_u64(self.raw, 24)?))
    }
}

impl Record {
    fn wrong(&self, what: &str) -> Error {
        Error::corrupt(format!("file record {}: {what}", self.number))
    }

    fn attributes(&self) -> impl Iterator<Item = Attribute<'_>> {
        self.parts.iter().flat_map(|part| attributes(part)).map(|raw| Attribute { raw })
    }

    /// The parts of the attribute of that type and name, in the order of the content they map.
    fn all(&self, kind: u32, name: &[u8]) -> Vec<Attribute<'_>> {
        let mut all: Vec<_> = self.attributes().filter(|one| one.is(kind, name)).collect();
        all.sort_by_key(|one| if one.is_resident() { 0 } else { one.range().map_or(0, |it| it.0) });
        all
    }

    fn first(&self, kind: u32, name: &[u8]) -> Option<Attribute<'_>> {
        self.all(kind, name).first().copied()
    }

    /// The length of an attribute's content, and its initialised length.
    fn len_of(&self, kind: u32, name: &[u8]) -> Option<(u64, u64)> {
        let first = self.first(kind, name)?;
        match first.value() {
            Some(value) => {
                let len = u64::try_from(value.len()).ok()?;
                Some((len, len))
            }
            None => Some((bytes::le_u64(first.raw, 48)?, bytes::le_u64(first.raw, 56)?)),
        }
    }

    fn is_folder(&self) -> bool {
        self.flags & IS_FOLDER != 0
    }

    /// The type and path of a reparse point.
    fn stands_for(&self) -> Option<(u32, Option<Vec<u8>>)> {
        let value = self.first(REPARSE, b"")?.value()?;
        let tag = bytes::le_u32(value, 0)?;
        let ahead = match tag {
            SYMLINK => 20usize,
            JUNCTION => 16,
            _ => return Some((tag, None)),
        };
        let path = || {
            // The one for people, else the other.
            let place = |at: usize| {
                let offset = usize::from(bytes::le_u16(value, at)?);
                let len = usize::from(bytes::le_u16(value, at.checked_add(2)?)?);
                let from = ahead.checked_add(offset)?;
                value.get(from..from.checked_add(len)?).filter(|path| !path.is_empty())
            };
            place(12).or_else(|| place(8)).map(utf8)
        };
        Some((tag, path()))
    }
}

/// Converts UTF-16 to UTF-8; lone surrogates become three bytes, so that different names stay different.
fn utf8(text: &[u8]) -> Vec<u8> {
    let units = text.as_chunks::<2>().0.iter().map(|unit| u16::from_le_bytes(*unit));
    let mut out = Vec::new();
    for found in char::decode_utf16(units) {
        match found {
            Ok(c) => out.extend_from_slice(c.encode_utf8(&mut [0; 4]).as_bytes()),
            Err(lone) => {
                let [high, low] = lone.unpaired_surrogate().to_be_bytes();
                out.push(0xe0 | high >> 4);
                out.push(0x80 | (high & 0xf) << 2 | low >> 6);
                out.push(0x80 | low & 0x3f);
            }
        }
    }
    out
}

fn time(value: &[u8], at: usize) -> Option<FileTime> {
    let parts = i64::try_from(bytes::le_u64(value, at)?).ok()?;
    let seconds = parts.div_euclid(PARTS).checked_sub(EPOCH)?;
    let rest = u32::try_from(parts.rem_euclid(PARTS)).ok()?;
    Some(FileTime { seconds, nanoseconds: rest.saturating_mul(100) })
}

impl<'a> Reader<'a> {
    /// The volume in `store`.
    ///
    /// # Errors
    /// When its own files are invalid.
    pub(super) fn open(store: &'a dyn ReadAt) -> Result<Self> {
        let own = OwnFiles::open(store)?;
        let mut faults = BTreeSet::new();
        if own.state()? != State::Clean {
            faults.insert("it was not unmounted: what its log holds is not shown".to_owned());
        }
        Ok(Self { own, kept: RefCell::default(), faults: RefCell::new(faults) })
    }

    /// The file with the record that `reference` names.
    fn record(&self, reference: FileId) -> Result<Rc<Record>> {
        let number = reference.number;
        let [uses, _] = reference.more;
        if let Some(kept) = self.kept.borrow().get(&number) {
            return Ok(Rc::clone(kept));
        }
        let wrong = |what: &str| Error::corrupt(format!("file record {number}: {what}"));
        let base = self.own.record(number)?;
        let flags = bytes::le_u16(&base, 22).unwrap_or(0);
        if flags & RECORD_IN_USE == 0 || bytes::le_u64(&base, 32).unwrap_or(0) & NUMBER != 0 {
            return Err(wrong("it is no file's"));
        }
        if uses != 0 && bytes::le_u16(&base, 16).map(u64::from) != Some(uses) {
            return Err(wrong("it belongs to another file by now"));
        }
        let mut record = Record { number, flags, parts: vec![base] };
        self.must_end(&record)?;
        let mut others = BTreeSet::new();
        if record.first(LIST, b"").is_some() {
            let list = self.all_of(&record, LIST, b"", MOST_IN_MEMORY)?;
            let mut at = 0usize;
            while at < list.len() {
                let next = bytes::le_u16(&list, at.saturating_add(4)).map(usize::from);
                let other = bytes::le_u64(&list, at.saturating_add(16));
                let (Some(next @ 26..), Some(other)) = (next, other) else {
                    return Err(wrong("its list of attributes is invalid"));
                };
                others.insert(other & NUMBER);
                at = at.saturating_add(next);
            }
        }
        others.remove(&number);
        if others.len() > MOST_RECORDS {
            return Err(wrong("it has too many records"));
        }
        for other in others {
            let part = self.own.record(other)?;
            let of = bytes::le_u64(&part, 32).unwrap_or(0) & NUMBER;
            if of != number || bytes::le_u16(&part, 22).unwrap_or(0) & RECORD_IN_USE == 0 {
                return Err(wrong("a part of it belongs to another file"));
            }
            record.parts.push(part);
        }
        self.must_end(&record)?;
        let record = Rc::new(record);
        let mut kept = self.kept.borrow_mut();
        if kept.len() >= KEPT {
            kept.clear();
        }
        kept.insert(number, Rc::clone(&record));
        Ok(record)
    }

    /// The attributes of each record end where they say.
    fn must_end(&self, record: &Record) -> Result<()> {
        for part in &record.parts {
            let mut all: Attributes<'_> = attributes(part);
            all.by_ref().for_each(drop);
            if !all.came_to_its_end {
                return Err(record.wrong("its attributes have no end"));
            }
        }
        Ok(())
    }

    /// Calls `each` for the ranges of an attribute's content on the volume, in order.
    fn each_stretch(
        &self,
        record: &Record,
        kind: u32,
        name: &[u8],
        each: EachStretch<'_>,
    ) -> Result<()> {
        let wrong = || record.wrong("its map is invalid");
        let parts = record.all(kind, name);
        let Some(first) = parts.first() else { return Ok(()) };
        if let Some(value) = first.value() {
            return each(0, Stretch::Here(value)).map(|_| ());
        }
        match first.flags() {
            flags if flags & ENCRYPTED != 0 => {
                return Err(Error::unsupported("it is encrypted"));
            }
            flags if flags & COMPRESSED != 0 => {
                return Err(Error::unsupported("it is compressed by NTFS"));
            }
            _ => {}
        }
        let (_, written) = record.len_of(kind, name).ok_or_else(wrong)?;
        let cluster = self.own.boot.cluster;
        let mut at = 0u64;
        for part in parts {
            let (from, to) = part.range().ok_or_else(wrong)?;
            if from.checked_mul(cluster) != Some(at) {
                return Err(record.wrong("a part of its map is missing"));
            }
            for (count, place) in runs_with_holes(part.raw).ok_or_else(wrong)? {
                let len = count.checked_mul(cluster).ok_or_else(wrong)?;
                // Past the initialised size, content is zeros, whatever is on the volume.
                let holds = written.saturating_sub(at).min(len);
                if let Some(place) = place.filter(|_| holds > 0) {
                    let start = place.checked_mul(cluster).map(ByteOffset::new);
                    let end = place.checked_add(count).filter(|end| *end <= self.own.clusters());
                    let span = start.and_then(|start| Span::new(start, ByteLen::new(holds)));
                    let (Some(span), Some(_)) = (span, end) else { return Err(wrong()) };
                    if each(at, Stretch::InVolume(span))?.is_break() {
                        return Ok(());
                    }
                }
                at = at.checked_add(len).ok_or_else(wrong)?;
            }
            let end = to.wrapping_add(1).checked_mul(cluster);
            if end != Some(at) {
                return Err(wrong());
            }
        }
        Ok(())
    }

    /// The whole content of an attribute of at most `most` bytes.
    fn all_of(&self, record: &Record, kind: u32, name: &[u8], most: u64) -> Result<Vec<u8>> {
        let len = record.len_of(kind, name).map_or(0, |(len, _)| len);
        if len > most {
            return Err(record.wrong("an attribute is too long"));
        }
        let mut content = vec![0; usize::try_from(len).unwrap_or(0)];
        self.each_stretch(record, kind, name, &mut |at, stretch| {
            fill(self.own.store, &mut content, at, stretch)
        })?;
        Ok(content)
    }
}

/// A folder's tree of names.
struct Tree<'t, 'a> {
    reader: &'t Reader<'a>,
    record: &'t Record,
    /// The location and length of its blocks.
    blocks: Vec<(u64, Span)>,
    block_len: u64,
    seen: BTreeSet<u64>,
}

impl Tree<'_, '_> {
    fn wrong(&self) -> Error {
        self.record.wrong("its tree of names is invalid")
    }

    /// The block that the tree calls `number`.
    fn block(&mut self, number: u64) -> Result<Vec<u8>> {
        if !self.seen.insert(number) {
            return Err(self.wrong());
        }
        let cluster = self.reader.own.boot.cluster;
        // Blocks that are shorter than a cluster are counted in sectors of 512 bytes.
        let unit = if self.block_len < cluster { 512 } else { cluster };
        let at = number.checked_mul(unit).ok_or_else(|| self.wrong())?;
        let end = at.checked_add(self.block_len).ok_or_else(|| self.wrong())?;
        let mut raw = Vec::new();
        let mut next = at;
        for (from, span) in &self.blocks {
            let behind = from.saturating_add(span.len().get());
            if next < end && (*from..behind).contains(&next) {
                let len = behind.min(end).saturating_sub(next);
                let start = span.start().saturating_add(ByteLen::new(next.saturating_sub(*from)));
                let len_here = usize::try_from(len).unwrap_or(0);
                raw.extend(read_up_to(self.reader.own.store, start, len_here)?);
                next = next.saturating_add(len);
            }
        }
        let is_it = |raw: &Vec<u8>| bytes::le_u64(raw, 16) == Some(number);
        fixed_up_as(raw, b"INDX").filter(is_it).ok_or_else(|| self.wrong())
    }

    /// Walks the entries after the header at `head` of `node`, and all below them, by name.
    fn walk(
        &mut self,
        node: &[u8],
        head: usize,
        depth: usize,
        each: EachEntry<'_>,
    ) -> Result<ControlFlow<()>> {
        if depth > DEEPEST {
            return Err(self.wrong());
        }
        let field = |ahead: usize| {
            let at = head.checked_add(ahead)?;
            usize::try_from(bytes::le_u32(node, at)?).ok()
        };
        let (Some(first), Some(len)) = (field(0), field(4)) else { return Err(self.wrong()) };
        let mut at = head.saturating_add(first);
        let end = head.saturating_add(len).min(node.len());
        loop {
            let entry = node.get(at..end).unwrap_or_default();
            let (Some(len @ 16..), Some(flags)) =
                (bytes::le_u16(entry, 8).map(usize::from), bytes::le_u16(entry, 12))
            else {
                return Err(self.wrong());
            };
            let entry = entry.get(..len).ok_or_else(|| self.wrong())?;
            if flags & 1 != 0 {
                let below = len.checked_sub(8).and_then(|at| bytes::le_u64(entry, at));
                let below = below.ok_or_else(|| self.wrong())?;
                let block = self.block(below)?;
                if self.walk(&block, 24, depth.saturating_add(1), each)?.is_break() {
                    return Ok(ControlFlow::Break(()));
                }
            }
            if flags & 2 != 0 {
                return Ok(ControlFlow::Continue(()));
            }
            if self.entry(entry, each)?.is_break() {
                return Ok(ControlFlow::Break(()));
            }
            at = at.saturating_add(len);
        }
    }

    fn entry(&self, entry: &[u8], each: EachEntry<'_>) -> Result<ControlFlow<()>> {
        let name = || {
            let reference = bytes::le_u64(entry, 0)?;
            let space = bytes::u8(entry, 16usize.checked_add(65)?)?;
            let len = usize::from(bytes::u8(entry, 16usize.checked_add(64)?)?).checked_mul(2)?;
            let name = entry.get(82..82usize.checked_add(len)?)?;
            Some((reference, space, name))
        };
        let (reference, space, name) = name().ok_or_else(|| self.wrong())?;
        let number = reference & NUMBER;
        // The volume's own files, and the folder itself.
        if space == DOS || number < OWN_RECORDS {
            return Ok(ControlFlow::Continue(()));
        }
        let name = utf8(name);
        if name.is_empty() || name.contains(&b'/') || name.contains(&0) {
            return Err(self.wrong());
        }
        let file = FileId { number, more: [reference >> 48, 0] };
        each(FolderEntry { name: &name, file })
    }
}

impl Files for Reader<'_> {
    fn root(&self) -> FileId {
        FileId::of(ROOT)
    }

    fn entries(&self, folder: FileId, each: EachEntry<'_>) -> Result<()> {
        let record = self.record(folder)?;
        let root = record.first(INDEX_ROOT, BY_NAME).and_then(Attribute::value);
        let root = root.ok_or_else(|| record.wrong("it is no folder"))?;
        let block_len = bytes::le_u32(root, 8).map_or(0, u64::from);
        if bytes::le_u32(root, 0) != Some(NAME) || !(512..=65_536).contains(&block_len) {
            return Err(record.wrong("its tree of names is invalid"));
        }
        let mut blocks = Vec::new();
        self.each_stretch(&record, INDEX_BLOCKS, BY_NAME, &mut |at, stretch| {
            if let Stretch::InVolume(span) = stretch {
                blocks.push((at, span));
            }
            Ok(ControlFlow::Continue(()))
        })?;
        let seen = BTreeSet::new();
        let mut tree = Tree { reader: self, record: &record, blocks, block_len, seen };
        tree.walk(root, 16, 0, each).map(|_| ())
    }

    fn info(&self, file: FileId) -> Result<FileInfo> {
        let record = self.record(file)?;
        let times = record.first(STANDARD, b"").and_then(Attribute::value).unwrap_or_default();
        let stands_for = record.stands_for();
        let kind = match (&stands_for, record.is_folder()) {
            (Some((_, Some(_))), _) => FileKind::Link,
            (_, true) => FileKind::Folder,
            (_, false) => FileKind::File,
        };
        let size = match (kind, &stands_for) {
            (FileKind::Link, Some((_, Some(path)))) => u64::try_from(path.len()).unwrap_or(0),
            (FileKind::File, _) => record.len_of(DATA, b"").map_or(0, |(len, _)| len),
            _ => 0,
        };
        let names = record.attributes().filter(|one| one.kind() == NAME);
        let names = names.filter(|one| {
            one.value().and_then(|name| bytes::u8(name, 65)).is_some_and(|space| space != DOS)
        });
        Ok(FileInfo {
            kind,
            size,
            links: u64::try_from(names.count()).unwrap_or(1).max(1),
            ownership: None,
            flags: FileFlags::from_bits(bytes::le_u32(times, 32).unwrap_or(0), &DOS_FLAGS),
            created: time(times, 0),
            modified: time(times, 8),
            changed: time(times, 16),
            accessed: time(times, 24),
        })
    }

    fn content(&self, file: FileId, each: EachStretch<'_>) -> Result<()> {
        let record = self.record(file)?;
        match record.stands_for() {
            Some((_, Some(path))) => return each(0, Stretch::Here(&path)).map(|_| ()),
            Some((tag, None)) if !record.is_folder() => {
                return Err(Error::unsupported(format!(
                    "its content is kept in another way (reparse point {tag:#010x})"
                )));
            }
            _ => {}
        }
        match record.is_folder() {
            true => self.each_stretch(&record, INDEX_BLOCKS, BY_NAME, each),
            false => self.each_stretch(&record, DATA, b"", each),
        }
    }

    /// The alternate data streams, if they are short.
    fn attributes(&self, file: FileId) -> Result<Vec<FileAttribute>> {
        let record = self.record(file)?;
        let mut names = BTreeSet::new();
        for one in record.attributes().filter(|one| one.kind() == DATA) {
            let name = one.name().ok_or_else(|| record.wrong("an attribute has no end"))?;
            names.insert(name.to_vec());
        }
        names.remove(&[][..]);
        let mut all = Vec::new();
        for name in names {
            let len = record.len_of(DATA, &name).map_or(0, |(len, _)| len);
            if len > MOST_STREAM {
                let what = format!(
                    "file record {}: a stream beside its content is too long to be shown",
                    file.number
                );
                self.faults.borrow_mut().insert(what);
                continue;
            }
            let value = self.all_of(&record, DATA, &name, MOST_STREAM)?;
            all.push(FileAttribute { name: [&b"user."[..], &utf8(&name)].concat(), value });
        }
        Ok(all)
    }

    fn faults(&self) -> Vec<String> {
        self.faults.borrow().iter().cloned().collect()
    }

    fn store(&self) -> &dyn ReadAt {
        self.own.store
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lone_surrogates_keep_names_distinct() {
        let of = |units: &[u16]| {
            utf8(&units.iter().flat_map(|unit| unit.to_le_bytes()).collect::<Vec<_>>())
        };
        assert_eq!(of(&[0x68, 0x00fc, 0xd83d, 0xdc1d]), "hü🐝".as_bytes());
        assert_eq!(of(&[0xd83d]), [0xed, 0xa0, 0xbd]);
        assert_ne!(of(&[0xd83d]), of(&[0xd83e]));
    }

    #[test]
    fn times_are_counted_from_1601() {
        let at = |parts: u64| time(&parts.to_le_bytes(), 0).unwrap();
        assert_eq!(at(116_444_736_000_000_000), FileTime { seconds: 0, nanoseconds: 0 });
        assert_eq!(at(116_444_736_012_345_678), FileTime { seconds: 1, nanoseconds: 234_567_800 });
        assert_eq!(time(&u64::MAX.to_le_bytes(), 0), None);
    }
}
