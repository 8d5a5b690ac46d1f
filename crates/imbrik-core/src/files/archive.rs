//! Files into a tar stream (POSIX.1-2001, the pax interchange format).
//!
//! Data that don't fit into a header are in pax records before it: long names, times in nanoseconds, large sizes and
//! numbers, attributes (`SCHILY.xattr.*`), and sparse files as in GNU tar (`GNU.sparse.*`, format 1.0).

use super::take::{Item, ItemContent, Reading, Took, TreeSink};
use flate2::{Compression, write::GzEncoder};
use imbrik_fs::{FileFlags, FileInfo, FileKind, FileTime};
use imbrik_store::{
    error::{Error, Result},
    exact::Exact as _,
    units::{ByteLen, ByteOffset, Span},
};
use std::{
    io::{self, Read, Write},
    os::unix::ffi::OsStrExt,
    path::Path,
};
use tar::{Builder, EntryType, Header};

/// The minimum length of a hole that is left out: its entry takes about as much space.
const LEAST_HOLE: ByteLen = ByteLen::kib(4);

/// How a tar stream is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ArchivePacking {
    /// Uncompressed.
    None,
    /// As a Zstandard frame.
    Zstd,
    /// As a gzip member.
    Gzip,
}

impl ArchivePacking {
    /// The one that the name of a file asks for: `.tar`, `.tar.zst`, `.tzst`, `.tar.gz`, `.tgz`; `None`
    /// for any other name.
    #[must_use]
    pub fn of_name(name: &Path) -> Option<Self> {
        let name = name.file_name()?.as_bytes().to_ascii_lowercase();
        let ends: [(&[u8], Self); 5] = [
            (b".tar", Self::None),
            (b".tar.zst", Self::Zstd),
            (b".tzst", Self::Zstd),
            (b".tar.gz", Self::Gzip),
            (b".tgz", Self::Gzip),
        ];
        ends.into_iter()
            .find(|(end, _)| name.len() > end.len() && name.ends_with(end))
            .map(|(_, it)| it)
    }
}

/// The block size of a tar stream, in bytes.
const RECORD: u64 = 512;

/// A tar stream of extracted files.
pub struct ToArchive<W: Write> {
    builder: Builder<Packer<W>>,
}

enum Packer<W: Write> {
    None(W),
    Zstd(zstd::Encoder<'static, W>),
    Gzip(GzEncoder<W>),
}

impl<W: Write> Write for Packer<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Self::None(to) => to.write(bytes),
            Self::Zstd(to) => to.write(bytes),
            Self::Gzip(to) => to.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        match self {
            Self::None(to) => to.flush(),
            Self::Zstd(to) => to.flush(),
            Self::Gzip(to) => to.flush(),
        }
    }
}

impl<W: Write> ToArchive<W> {
    /// A stream to `to`.
    ///
    /// # Errors
    /// When there is not enough memory for compression.
    pub fn new(to: W, packing: ArchivePacking) -> Result<Self> {
        let packer = match packing {
            ArchivePacking::None => Packer::None(to),
            ArchivePacking::Zstd => Packer::Zstd(zstd::Encoder::new(to, 0).map_err(failed)?),
            ArchivePacking::Gzip => Packer::Gzip(GzEncoder::new(to, Compression::default())),
        };
        Ok(Self { builder: Builder::new(packer) })
    }

    /// Ends the stream; returns its target.
    ///
    /// # Errors
    /// When its end cannot be written.
    pub fn into_inner(self) -> Result<W> {
        let ended = match self.builder.into_inner().map_err(failed)? {
            Packer::None(to) => Ok(to),
            Packer::Zstd(packer) => packer.finish(),
            Packer::Gzip(packer) => packer.finish(),
        };
        ended.map_err(failed)
    }
}

fn failed(error: io::Error) -> Error {
    Error::io("writing the archive", error)
}

/// An entry that is being made.
struct Entry {
    header: Header,
    records: Vec<(String, Vec<u8>)>,
}

impl Entry {
    fn new(path: &[u8], info: &FileInfo) -> Self {
        let mut header = Header::new_ustar();
        let mut entry_records = Vec::new();
        let mut path = if path.is_empty() { b".".to_vec() } else { path.to_vec() };
        if info.kind == FileKind::Folder {
            path.push(b'/');
        }
        if let Some(ownership) = info.ownership {
            header.set_mode(ownership.permissions.into());
            for (key, id) in [("uid", ownership.owner), ("gid", ownership.group)] {
                if id > 0o7_777_777 {
                    entry_records.push((key.to_owned(), id.to_string().into_bytes()));
                }
            }
            header.set_uid(ownership.owner.into());
            header.set_gid(ownership.group.into());
        } else {
            header.set_mode(if info.kind == FileKind::Folder { 0o755 } else { 0o644 });
        }
        let seconds = info.modified.map_or(0, |time| time.seconds);
        header.set_mtime(u64::try_from(seconds).unwrap_or(0).min(0o77_777_777_777));
        header.set_size(0);
        let mut entry = Self { header, records: entry_records };
        entry.name(&path);
        for (key, time) in [("mtime", info.modified), ("atime", info.accessed)] {
            let time = time.filter(|time| key != "mtime" || !fits(*time));
            entry.records.extend(time.map(|time| (key.to_owned(), decimal(time).into_bytes())));
        }
        entry
    }

    fn name(&mut self, path: &[u8]) {
        self.text("path", path, |ustar| &mut ustar.name);
    }

    /// Writes a text into a field of the header, and into a pax record if the field is too short or has no defined
    /// encoding.
    fn text(
        &mut self,
        key: &str,
        text: &[u8],
        field: impl Fn(&mut tar::UstarHeader) -> &mut [u8; 100],
    ) {
        if text.len() > 100 || !text.is_ascii() {
            self.records.retain(|(known, _)| known != key);
            self.records.push((key.to_owned(), text.to_vec()));
        }
        if let Some(ustar) = self.header.as_ustar_mut() {
            let field = field(ustar);
            field.fill(0);
            let tail = text.get(text.len().saturating_sub(field.len())..).unwrap_or_default();
            for (to, from) in field.iter_mut().zip(tail) {
                *to = *from;
            }
        }
    }

    fn size(&mut self, size: u64) {
        if size > 0o77_777_777_777 {
            self.records.push(("size".to_owned(), size.to_string().into_bytes()));
        }
        self.header.set_size(size);
    }

    fn write<W: Write>(mut self, to: &mut Builder<W>, content: impl Read) -> Result<()> {
        let records = self.records.iter().map(|(key, value)| (&key[..], &value[..]));
        if !self.records.is_empty() {
            to.append_pax_extensions(records).map_err(failed)?;
        }
        self.header.set_cksum();
        to.append(&self.header, content).map_err(failed)
    }
}

/// Returns whether a time fits into the header.
fn fits(time: FileTime) -> bool {
    time.nanoseconds == 0 && (0..=0o77_777_777_777).contains(&time.seconds)
}

/// Seconds with nine decimal digits, also before 1970.
fn decimal(time: FileTime) -> String {
    let whole = i128::from(time.seconds).saturating_mul(1_000_000_000);
    let nanos = whole.saturating_add(time.nanoseconds.into());
    let sign = if nanos < 0 { "-" } else { "" };
    let nanos = nanos.unsigned_abs();
    format!("{sign}{}.{:09}", nanos / 1_000_000_000, nanos % 1_000_000_000)
}

/// The stored parts of a file, including short holes. Each starts at a block of the stream, and all but the last end at
/// one, as GNU tar requires.
fn kept(content: &dyn Reading) -> Vec<Span> {
    let whole = Span::whole(content.size());
    let mut kept: Vec<Span> = Vec::new();
    for span in content.written() {
        let ahead = span.start().get().checked_rem(RECORD).unwrap_or(0);
        let start = span.start().get().saturating_sub(ahead);
        let end = span.end().get().checked_next_multiple_of(RECORD).map(ByteOffset::new);
        let end = end.unwrap_or(whole.end()).min(whole.end());
        match kept.last_mut() {
            Some(last) if span.start().saturating_since(last.end()) < LEAST_HOLE => {
                *last = Span::between(last.start(), end.max(last.end()));
            }
            _ => kept.push(Span::between(ByteOffset::new(start), end)),
        }
    }
    kept
}

/// Some consecutive parts of a file.
struct Parts<'a> {
    content: &'a mut dyn Reading,
    parts: std::vec::IntoIter<Span>,
    now: Option<Span>,
    failed: Option<Error>,
}

impl Read for Parts<'_> {
    fn read(&mut self, buf: &mut [u8]) -> io::Result<usize> {
        let now = match self.now.take().filter(|now| !now.is_empty()) {
            Some(now) => now,
            None => match self.parts.next() {
                Some(next) => next,
                None => return Ok(0),
            },
        };
        let len = now.len().min(ByteLen::of(buf));
        let middle = now.start().saturating_add(len);
        let (piece, rest) = (Span::between(now.start(), middle), Span::between(middle, now.end()));
        let count = len.to_usize().unwrap_or(0);
        let target = buf.get_mut(..count).unwrap_or_default();
        if let Err(error) = self.content.read(piece.start(), target) {
            self.failed = Some(error);
            return Err(io::Error::other("the content cannot be read"));
        }
        self.now = Some(rest);
        Ok(count)
    }
}

impl<W: Write> ToArchive<W> {
    fn file(&mut self, mut entry: Entry, path: &[u8], content: &mut dyn Reading) -> Result<()> {
        let parts = kept(content);
        let (size, whole) = (content.size(), Span::whole(content.size()));
        let held: ByteLen = parts.iter().map(|part| part.len()).sum();
        let mut map = Vec::new();
        if held < size {
            let mut lines: Vec<(u64, u64)> =
                parts.iter().map(|part| (part.start().get(), part.len().get())).collect();
            if parts.last().is_none_or(|last| last.end() < whole.end()) {
                lines.push((size.get(), 0));
            }
            map = format!("{}\n", lines.len()).into_bytes();
            for (at, len) in lines {
                map.extend(format!("{at}\n{len}\n").into_bytes());
            }
            map.resize(map.len().next_multiple_of(512), 0);
            let realsize = size.get().to_string();
            let records: [(&str, &[u8]); 4] = [
                ("GNU.sparse.major", b"1"),
                ("GNU.sparse.minor", b"0"),
                ("GNU.sparse.name", path),
                ("GNU.sparse.realsize", realsize.as_bytes()),
            ];
            entry.records.retain(|(key, _)| key != "path");
            let records = records.map(|(key, value)| (key.to_owned(), value.to_vec()));
            entry.records.extend(records);
        }
        entry.size(held.get().plus(ByteLen::of(&map).get())?);
        entry.header.set_entry_type(EntryType::Regular);
        let mut content = Parts { content, parts: parts.into_iter(), now: None, failed: None };
        let written = entry.write(&mut self.builder, map.chain(&mut content));
        match content.failed {
            Some(error) => Err(error),
            None => written,
        }
    }
}

/// The value of a `SCHILY.fflags` record, as `tar` programs on Linux read it.
fn archive_flags(flags: FileFlags) -> String {
    let names = [
        (FileFlags::APPEND_ONLY, "sappnd"),
        (FileFlags::IMMUTABLE, "schg"),
        (FileFlags::NO_DUMP, "nodump"),
        (FileFlags::NO_ATIME, "noatime"),
    ];
    let set = names.iter().filter(|(flag, _)| flags.contains(*flag)).map(|(_, name)| *name);
    set.collect::<Vec<_>>().join(",")
}

impl<W: Write> TreeSink for ToArchive<W> {
    fn take(&mut self, item: Item<'_>) -> Result<Took> {
        let mut entry = Entry::new(item.path, item.info);
        let mut not_kept = Vec::new();
        for attribute in item.attributes {
            match std::str::from_utf8(&attribute.name) {
                Ok(name) if !name.contains('=') => {
                    entry.records.push((format!("SCHILY.xattr.{name}"), attribute.value.clone()));
                }
                _ => not_kept.push(String::from_utf8_lossy(&attribute.name).into_owned()),
            }
        }
        let flags = archive_flags(item.info.flags);
        if !flags.is_empty() {
            entry.records.push(("SCHILY.fflags".to_owned(), flags.into_bytes()));
        }
        let kind = match item.content {
            ItemContent::File(content) => {
                self.file(entry, item.path, content)?;
                return Ok(took(&not_kept));
            }
            ItemContent::Folder => EntryType::Directory,
            ItemContent::SameAs(first) => {
                entry.text("linkpath", first, |ustar| &mut ustar.linkname);
                EntryType::Link
            }
            ItemContent::Link(target) => {
                entry.text("linkpath", target, |ustar| &mut ustar.linkname);
                EntryType::Symlink
            }
            ItemContent::Special => match item.info.kind {
                FileKind::CharacterDevice(major, minor) => {
                    device(&mut entry.header, major, minor)?;
                    EntryType::Char
                }
                FileKind::BlockDevice(major, minor) => {
                    device(&mut entry.header, major, minor)?;
                    EntryType::Block
                }
                FileKind::Pipe => EntryType::Fifo,
                _ => return Ok(Took::Not("a tar stream has no sockets".to_owned())),
            },
        };
        entry.header.set_entry_type(kind);
        entry.write(&mut self.builder, io::empty())?;
        Ok(took(&not_kept))
    }

    fn leave(&mut self) -> Result<Took> {
        Ok(Took::All)
    }
}

fn took(not_kept: &[String]) -> Took {
    match not_kept {
        [] => Took::All,
        not_kept => Took::Partly(format!("taken without its attribute {}", not_kept.join(", "))),
    }
}

fn device(header: &mut Header, major: u32, minor: u32) -> Result<()> {
    let numbers = header.set_device_major(major).and_then(|()| header.set_device_minor(minor));
    numbers.map_err(failed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn fractions_of_times_before_1970_are_kept() {
        let of = |seconds, nanoseconds| decimal(FileTime { seconds, nanoseconds });
        assert_eq!(of(7, 5), "7.000000005");
        assert_eq!(of(-5, 300_000_000), "-4.700000000");
        assert_eq!(of(-1, 0), "-1.000000000");
        assert_eq!(of(0, 1), "0.000000001");
    }

    #[test]
    fn extension_selects_the_archive_format() {
        let of = |name: &str| ArchivePacking::of_name(Path::new(name));
        assert_eq!(of("a/hive.tar"), Some(ArchivePacking::None));
        assert_eq!(of("HIVE.TAR.ZST"), Some(ArchivePacking::Zstd));
        assert_eq!(of("hive.tgz"), Some(ArchivePacking::Gzip));
        assert_eq!((of("hive.zst"), of(".tar"), of("-")), (None, None, None));
    }

    /// A file of zeros except in `parts`.
    struct Holes {
        size: ByteLen,
        parts: Vec<Span>,
    }

    impl Holes {
        fn byte(at: u64) -> u8 {
            (at % 251) as u8 + 1
        }
    }

    impl Reading for Holes {
        fn size(&self) -> ByteLen {
            self.size
        }

        fn written(&self) -> Vec<Span> {
            self.parts.clone()
        }

        fn read(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
            for (at, byte) in (at.get()..).zip(buf) {
                let at = ByteOffset::new(at);
                let is_in = self.parts.iter().any(|part| part.start() <= at && at < part.end());
                *byte = if is_in { Self::byte(at.get()) } else { 0 };
            }
            Ok(())
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]

        /// GNU tar extracts the archived files, whatever holes and names they have.
        #[test]
        fn tar_extracts_the_archived_tree(
            cuts in prop::collection::vec(0u64..300_000, 0..9),
            tail in 0u64..20_000,
            name in "[a-zé ]{1,120}",
        ) {
            let mut cuts = cuts;
            cuts.sort_unstable();
            cuts.dedup();
            let pairs = cuts.chunks_exact(2);
            let parts: Vec<Span> = pairs.map(|pair| {
                Span::between(ByteOffset::new(pair[0]), ByteOffset::new(pair[1]))
            }).collect();
            let size = ByteLen::new(cuts.last().copied().unwrap_or(0) + tail);
            let mut file = Holes { size, parts };
            let info = FileInfo {
                kind: FileKind::File, size: size.get(), links: 1, ownership: None,
                flags: FileFlags::NONE, modified: None, accessed: None, changed: None, created: None,
            };
            let dir = tempfile::tempdir().unwrap();
            let packed = std::fs::File::create(dir.path().join("x.tar")).unwrap();
            let mut sink = ToArchive::new(packed, ArchivePacking::None).unwrap();
            let name = format!("n{name}");
            let path = name.as_bytes();
            let content = ItemContent::File(&mut file);
            let took = sink.take(Item { path, info: &info, attributes: &[], content }).unwrap();
            prop_assert_eq!(took, Took::All);
            sink.into_inner().unwrap();
            let run = std::process::Command::new("tar").args(["-xf", "x.tar"])
                .current_dir(dir.path()).output().unwrap();
            prop_assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
            let mut expected = vec![0; size.to_usize().unwrap()];
            file.read(ByteOffset::ZERO, &mut expected).unwrap();
            prop_assert!(std::fs::read(dir.path().join(&name)).unwrap() == expected);
        }
    }
}
