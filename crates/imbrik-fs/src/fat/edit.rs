//! A small file put into a FAT volume, and a serial number of its own.

use super::{
    boot::{BootSector, Width},
    folder::{
        self, ATTR_LONG_NAME, ENTRY, FolderPlace, Records, Use, is_folder, name_sum, named,
        short_name, use_of,
    },
    table::Table,
};
use crate::{
    FilePut,
    bits::Run,
    clusters::{Link, follow},
    dos_time::dos_time,
};
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Error, Result},
    exact::Exact as _,
    read_vec,
    units::{ByteLen, ByteOffset},
};
use std::sync::Arc;

const ARCHIVE: u8 = 0x20;

/// The volume in `store` with a file put into it.
///
/// # Errors
/// As [`crate::put_file`].
pub(crate) fn put_file(store: &Arc<dyn ReadAt>, put: &FilePut) -> Result<Edited> {
    let sector = read_vec(&**store, ByteOffset::ZERO, 512)?;
    let boot =
        BootSector::decode(&sector).ok_or_else(|| Error::corrupt("its boot sector is gone"))?;
    let table = Table::read(&**store, &boot)?;
    let mut editor =
        Editor { draft: Edited::new(Arc::clone(store)), boot, table, taken: 0, given_back: 0 };
    editor.put(put)?;
    editor.finish()?;
    Ok(editor.draft)
}

/// The volume in `store` with the serial number `serial`, in both boot sectors.
///
/// # Errors
/// When the store cannot be read; [`imbrik_store::Class::Unsupported`] when it has none.
pub(crate) fn with_serial(store: &Arc<dyn ReadAt>, serial: u32) -> Result<Edited> {
    let sector = read_vec(&**store, ByteOffset::ZERO, 512)?;
    let boot =
        BootSector::decode(&sector).ok_or_else(|| Error::corrupt("its boot sector is gone"))?;
    let at = if boot.width == Width::Bits32 { 67u64 } else { 39 };
    let mut draft = Edited::new(Arc::clone(store));
    let backup = Some(boot.backup).filter(|at| *at > 0 && *at < boot.reserved);
    for copy in [Some(0), backup].into_iter().flatten() {
        let start = copy.times(boot.sector)?;
        let found = read_vec(&draft, ByteOffset::new(start), 512)?;
        let signed = usize::try_from(at).ok().and_then(|at| bytes::u8(&found, at.checked_sub(1)?));
        match signed {
            Some(0x29) => draft.put(ByteOffset::new(start.plus(at)?), &serial.to_le_bytes())?,
            _ if copy == 0 => return Err(Error::unsupported("it has no serial number")),
            _ => {}
        }
    }
    Ok(draft)
}

struct Editor {
    draft: Edited,
    boot: BootSector,
    table: Table,
    taken: u64,
    given_back: u64,
}

impl Editor {
    fn put(&mut self, put: &FilePut) -> Result<()> {
        let (name, folders) =
            put.path.split_last().ok_or_else(|| Error::usage("a file needs a name"))?;
        let root = self.boot.root();
        let mut place = root.ok_or_else(|| Error::corrupt("its root directory has no cluster"))?;
        for part in folders {
            let records = self.records(place)?;
            let found = named(&records).find(|one| one.is_called(part));
            let found = found.ok_or_else(|| {
                let part = String::from_utf8_lossy(part);
                Error::usage(format!("there is no folder {part} for it"))
            })?;
            if !is_folder(found.raw) {
                return Err(Error::unsupported("a file stands where a folder is meant"));
            }
            let first = self.boot.first_of(found.raw);
            place = FolderPlace::Chain(first.ok_or_else(|| Error::corrupt("a folder is empty"))?);
        }
        let records = self.records(place)?;
        let found = named(&records).find(|one| one.is_called(name));
        let found = found.map(|one| (one.at, is_folder(one.raw)));
        let at = match found {
            Some((_, true)) => {
                return Err(Error::unsupported("something else stands in its place"));
            }
            Some((at, false)) => at,
            None => self.add_entry(place, records, name, put.now)?,
        };
        self.put_content(at, &put.content, put.now)
    }

    fn place(&self, cluster: u64) -> ByteOffset {
        let ahead = self.boot.cluster.checked_mul(cluster).unwrap_or_default();
        self.boot.data().start().saturating_add(ahead)
    }

    /// The clusters of the chain that starts at `first`.
    fn chain(&self, first: u64) -> Result<Vec<u64>> {
        let link = &mut |number| Ok(self.table.link(number));
        let chain = follow(first, self.boot.clusters, link, &mut |_| Ok(()))?.whole()?;
        Ok(chain.into_iter().flat_map(|run| run.first..run.end()).collect())
    }

    fn records(&self, place: FolderPlace) -> Result<Records> {
        let spans = match place {
            FolderPlace::Fixed(span) => vec![span],
            FolderPlace::Chain(first) => {
                let clusters = self.chain(first)?.into_iter();
                clusters.map(|one| self.boot.span_of(Run::new(one, 1))).collect()
            }
        };
        let all: ByteLen = spans.iter().map(|span| span.len()).sum();
        match all > self.boot.most_of_a_folder() {
            true => Err(Error::corrupt("a folder is too long")),
            false => folder::read(&self.draft, spans),
        }
    }

    /// Adds an entry for a new, empty file; answers where its short entry stands.
    fn add_entry(
        &mut self,
        place: FolderPlace,
        mut entries: Records,
        name: &[u8],
        now: u64,
    ) -> Result<ByteOffset> {
        let text = std::str::from_utf8(name).map_err(|_| Error::usage("the name is no UTF-8"))?;
        let units: Vec<u16> = text.encode_utf16().collect();
        let is_odd = |c: char| c.is_control() || "\"*/:<>?\\|".contains(c);
        if units.is_empty() || units.len() > 255 || text.contains(is_odd) {
            return Err(Error::usage("such a name cannot be on a FAT volume"));
        }
        let short = short_for(text, &entries);
        let is_plain = short_name(&short).as_deref() == Some(name);
        let mut set: Vec<[u8; ENTRY]> =
            if is_plain { Vec::new() } else { long_entries(&units, &short) };
        let mut own = [0u8; ENTRY];
        own.get_mut(..11).unwrap_or_default().copy_from_slice(&short);
        let (date, time) = dos_time(now);
        let _ = bytes::put(&mut own, 11, [ARCHIVE]);
        for (at, value) in [(14, time), (16, date), (18, date), (22, time), (24, date)] {
            let _ = bytes::put(&mut own, at, value.to_le_bytes());
        }
        set.push(own);
        loop {
            // Behind the first empty entry, all are.
            let end = entries.iter().position(|(_, entry)| use_of(entry) == Use::End);
            let end = end.unwrap_or(entries.len());
            let free = |index: usize| {
                let entry = entries.get(index);
                entry.is_some_and(|(_, entry)| index >= end || use_of(entry) == Use::Free)
            };
            let room = (0..entries.len())
                .find(|start| (*start..start.saturating_add(set.len())).all(&free));
            if let Some(start) = room {
                let mut last = ByteOffset::ZERO;
                for ((at, _), bytes) in entries.iter().skip(start).zip(&set) {
                    self.draft.put(*at, bytes)?;
                    last = *at;
                }
                // What stood behind the end is not to be taken for entries.
                let behind = start.plus(set.len())?;
                if behind > end
                    && let Some((at, _)) = entries.get(behind)
                {
                    self.draft.put(*at, &[0])?;
                }
                return Ok(last);
            }
            let FolderPlace::Chain(first) = place else {
                return Err(Error::no_room("the root directory is full"));
            };
            let mut clusters = self.chain(first)?;
            let new = self.take(clusters.last().copied().unwrap_or(0))?;
            let zeros = vec![0; self.boot.cluster.to_usize().unwrap_or(0)];
            self.draft.put(self.place(new), &zeros)?;
            clusters.push(new);
            self.put_chain(&clusters)?;
            entries = self.records(place)?;
        }
    }

    /// A free cluster, as near behind `near` as there is one.
    fn take(&mut self, near: u64) -> Result<u64> {
        let all = self.boot.clusters;
        let free = (near..all).chain(0..near).find(|one| self.table.link(*one) == Link::Free);
        let free = free.ok_or_else(|| Error::no_room("no cluster is free"))?;
        self.put_entry(free, None)?;
        self.taken = self.taken.plus(1)?;
        Ok(free)
    }

    /// Has the table say that cluster `number` goes on at `next`, or is the last one.
    fn put_entry(&mut self, number: u64, next: Option<u64>) -> Result<()> {
        let end = match self.boot.width {
            Width::Bits12 => 0xfff,
            Width::Bits16 => 0xffff,
            Width::Bits32 => 0x0fff_ffff,
        };
        let value = next.map_or(Ok(end), |next| next.plus(2)?.fitting())?;
        self.put_value(number, value)
    }

    fn put_value(&mut self, number: u64, value: u32) -> Result<()> {
        let place = self.table.put(number, value)?;
        let bytes = read_vec(&self.table, place.start(), place.len().to_usize().unwrap_or(0))?;
        for table in self.boot.tables().collect::<Vec<_>>() {
            let ahead = ByteLen::new(place.start().get());
            self.draft.put(table.start().plus(ahead)?, &bytes)?;
        }
        Ok(())
    }

    fn put_chain(&mut self, clusters: &[u64]) -> Result<()> {
        let next = clusters.iter().skip(1).map(|next| Some(*next)).chain([None]);
        for (number, next) in clusters.iter().zip(next) {
            self.put_entry(*number, next)?;
        }
        Ok(())
    }

    /// Gives the file whose entry stands at `at` new content.
    fn put_content(&mut self, at: ByteOffset, content: &[u8], now: u64) -> Result<()> {
        let mut entry = read_vec(&self.draft, at, ENTRY)?;
        let mut clusters = match self.boot.first_of(&entry) {
            Some(first) => self.chain(first)?,
            None => Vec::new(),
        };
        let len = self.boot.cluster.to_usize().unwrap_or(1).max(1);
        let needed = content.len().div_ceil(len);
        for number in clusters.split_off(needed.min(clusters.len())) {
            self.put_value(number, 0)?;
            self.given_back = self.given_back.plus(1)?;
        }
        while clusters.len() < needed {
            let near = clusters.last().copied().unwrap_or(0);
            clusters.push(self.take(near)?);
        }
        self.put_chain(&clusters)?;
        for (number, piece) in clusters.iter().zip(content.chunks(len)) {
            let mut piece = piece.to_vec();
            piece.resize(len, 0);
            let place = self.place(*number);
            self.draft.put(place, &piece)?;
        }
        let first = clusters.first().map_or(0, |first| first.saturating_add(2));
        let [a, b, c, d] = first.fitting::<u32>()?.to_le_bytes();
        let size =
            u32::try_from(content.len()).map_err(|_| Error::usage("the file is too long"))?;
        let (date, time) = dos_time(now);
        let _ = bytes::put(&mut entry, 26, [a, b]);
        if self.boot.width == Width::Bits32 {
            let _ = bytes::put(&mut entry, 20, [c, d]);
        }
        let _ = bytes::put(&mut entry, 28, size.to_le_bytes());
        let _ = bytes::put(&mut entry, 22, time.to_le_bytes());
        let _ = bytes::put(&mut entry, 24, date.to_le_bytes());
        self.draft.put(at, &entry)
    }

    /// The count of free clusters follows, where there is one.
    fn finish(&mut self) -> Result<()> {
        let boot = &self.boot;
        let copies = [boot.fs_info, boot.backup.plus(boot.fs_info)?];
        for copy in copies.into_iter().filter(|at| *at > 0 && *at < boot.reserved) {
            let at = ByteOffset::new(copy.times(boot.sector)?);
            let info = read_vec(&self.draft, at, 512)?;
            let signed = bytes::le_u32(&info, 0) == Some(0x4161_5252)
                && bytes::le_u32(&info, 484) == Some(0x6141_7272);
            let free = bytes::le_u32(&info, 488).filter(|free| *free != u32::MAX && signed);
            let Some(free) = free else { continue };
            // Nobody looked whether that count is right: it is a hint, and stays one.
            let now = u64::from(free).saturating_add(self.given_back).saturating_sub(self.taken);
            let now = u32::try_from(now).unwrap_or(u32::MAX);
            self.draft.put(at.plus(ByteLen::new(488))?, &now.to_le_bytes())?;
        }
        Ok(())
    }
}

/// The eleven bytes of a short name for `name` that nothing in the folder has.
fn short_for(name: &str, entries: &Records) -> [u8; 11] {
    let plain = |c: char| c.is_ascii_alphanumeric() || "$%'-_@~`!(){}^#&".contains(c);
    let letters = |text: &str| -> String {
        text.chars().filter(|c| plain(*c)).map(|c| c.to_ascii_uppercase()).collect()
    };
    let (stem, extension) = name.rsplit_once('.').unwrap_or((name, ""));
    let (base, extension) = (letters(stem), letters(extension));
    let made = |base: &str| {
        let mut short = [b' '; 11];
        for (place, byte) in short.iter_mut().zip(base.bytes().take(8)) {
            *place = byte;
        }
        for (place, byte) in short.iter_mut().skip(8).zip(extension.bytes().take(3)) {
            *place = byte;
        }
        short
    };
    let is_taken = |short: &[u8; 11]| {
        entries.iter().any(|(_, entry)| entry.get(..11) == Some(short.as_slice()))
    };
    let whole = if extension.is_empty() { base.clone() } else { format!("{base}.{extension}") };
    let short = made(&base);
    let fits = base.len() <= 8 && extension.len() <= 3 && !base.is_empty();
    if fits && whole.eq_ignore_ascii_case(name) && !is_taken(&short) {
        return short;
    }
    let base = if base.is_empty() { "FILE".to_owned() } else { base };
    let numbered = (1..100_000u32).map(|number| {
        let tail = format!("~{number}");
        let keep = 8usize.saturating_sub(tail.len());
        made(&format!("{}{tail}", base.chars().take(keep).collect::<String>()))
    });
    numbered.into_iter().find(|short| !is_taken(short)).unwrap_or(short)
}

/// The entries of a long name, the last piece first, as they stand before the short one.
pub(super) fn long_entries(units: &[u16], short: &[u8; 11]) -> Vec<[u8; ENTRY]> {
    let sum = name_sum(short);
    let mut entries = Vec::new();
    for (index, piece) in units.chunks(13).enumerate() {
        let mut padded: Vec<u16> = piece.to_vec();
        if padded.len() < 13 {
            padded.push(0);
        }
        padded.resize(13, 0xffff);
        let mut entry = [0u8; ENTRY];
        let number = u8::try_from(index.saturating_add(1)).unwrap_or(0);
        let is_last = index.saturating_add(1) == units.len().div_ceil(13);
        let _ = bytes::put(&mut entry, 0, [if is_last { number | 0x40 } else { number }]);
        let _ = bytes::put(&mut entry, 11, [ATTR_LONG_NAME]);
        let _ = bytes::put(&mut entry, 13, [sum]);
        let places = (1..11).step_by(2).chain((14..26).step_by(2)).chain((28..32).step_by(2));
        for (at, unit) in places.zip(padded) {
            let _ = bytes::put(&mut entry, at, unit.to_le_bytes());
        }
        entries.push(entry);
    }
    entries.reverse();
    entries
}
