//! NTFS: the boot sector, the label from the volume's own file record, and which clusters are in
//! use. After the published layout of its metadata files.
//!
//! The boot sector is accepted if its backup after the last cluster is the same, and the first file records if
//! `$MFTMirr` has the same. A cluster counts as unused if `$Bitmap` calls it free and no file record in use has it in a
//! run. If the bitmap calls clusters of the volume's own files free, or a used record is invalid, the whole volume
//! counts as used.

mod files;

use crate::{
    Examined, State, Usage, Volume, VolumeKind,
    bits::{Bits, Run},
    files::Files,
    filesystem::Filesystem,
    finding::VolumeFinding,
    hidden_sectors::hidden_sectors,
    usage::cluster_spans,
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Class, Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset, Span},
};
use std::sync::Arc;

const NTFS: VolumeKind = VolumeKind::new("NTFS");

/// NTFS volumes.
pub(crate) struct Ntfs;

impl Filesystem for Ntfs {
    fn kinds(&self) -> &'static [VolumeKind] {
        &[NTFS]
    }

    fn recognise(&self, store: &dyn ReadAt) -> Result<Option<Volume>> {
        recognise(store)
    }

    /// It is in the last sector of its partition.
    fn copies(&self, len: u64) -> Vec<(u64, u64)> {
        len.checked_sub(512).map(|at| (at, 0)).into_iter().collect()
    }

    fn examine(&self, store: &Arc<dyn ReadAt>, _kind: VolumeKind) -> Result<Examined> {
        examine(&**store)
    }

    fn files<'a>(&self, store: &'a dyn ReadAt) -> Result<Option<Box<dyn Files + 'a>>> {
        match files::Reader::open(store) {
            Ok(reader) => Ok(Some(Box::new(reader))),
            // If its own files are invalid, no others can be found.
            Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn at_another_place(
        &self,
        store: &dyn ReadAt,
        from: ByteOffset,
        to: ByteOffset,
    ) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
        let boot = read_up_to(store, ByteOffset::ZERO, 512)?;
        let sector = u64::from(bytes::le_u16(&boot, 11).unwrap_or(512));
        let copy = bytes::le_u64(&boot, 40).and_then(|count| count.checked_mul(sector));
        hidden_sectors(store, [Some(0), copy], sector, from, to)
    }
}

/// The records of some metadata files in the master file table.
const TABLE_RECORD: u64 = 0;
const MIRROR_RECORD: u64 = 1;
const LOG_RECORD: u64 = 2;
const VOLUME_RECORD: u64 = 3;
const BITMAP_RECORD: u64 = 6;
/// Attributes: the label, the volume's flags, a file's content.
const VOLUME_NAME: u32 = 0x60;
const VOLUME_INFORMATION: u32 = 0x70;
const DATA: u32 = 0x80;
const VOLUME_IS_DIRTY: u16 = 1;
/// The longest bitmap: a bit for each of 2^32 clusters.
const MOST_BITMAP: u64 = 1 << 29;
/// Records below this are the volume's own.
const OWN_RECORDS: u64 = 24;
/// How many records `$MFTMirr` holds at least.
const MIRRORED: u64 = 4;
/// A record's flag: it is in use.
const RECORD_IN_USE: u16 = 1;
/// How much of the file table is read at once.
const PIECE: u64 = 256 << 10;
/// File records are fixed up in pieces of this many bytes.
const FIXUP_STEP: usize = 512;

/// Names an NTFS volume.
fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
    let Some(boot) = BootSector::read(store)? else { return Ok(None) };
    let table = ByteLen::new(boot.table.saturating_mul(boot.cluster));
    let record = boot.record.saturating_mul(VOLUME_RECORD);
    let at = ByteOffset::ZERO.saturating_add(table).saturating_add(ByteLen::new(record));
    let label = match read_up_to(store, at, 1024) {
        Ok(record) => name_in(&record),
        Err(error) if error.class() == Class::Corrupt => None,
        Err(error) => return Err(error),
    };
    Ok(Some(Volume {
        kind: NTFS,
        label,
        uuid: (boot.serial != 0).then(|| format!("{:016X}", boot.serial)),
        // The backup boot sector follows the last counted sector.
        size: ByteLen::new(boot.sector.saturating_mul(boot.sectors.saturating_add(1))),
    }))
}

/// The needed fields of the boot sector.
#[derive(PartialEq, Eq)]
struct BootSector {
    /// The sector size in bytes, and the number of sectors.
    sector: u64,
    sectors: u64,
    /// The cluster size in bytes.
    cluster: u64,
    /// The first cluster of the master file table, and the record size in bytes.
    table: u64,
    record: u64,
    serial: u64,
}

impl BootSector {
    fn read(store: &dyn ReadAt) -> Result<Option<Self>> {
        Ok(Self::decode(&read_up_to(store, ByteOffset::ZERO, 512)?))
    }

    fn decode(raw: &[u8]) -> Option<Self> {
        if raw.get(3..11)? != b"NTFS    " || bytes::le_u16(raw, 510)? != 0xaa55 {
            return None;
        }
        let sector = u64::from(bytes::le_u16(raw, 11)?);
        // Above 0x80, both fields are negative powers of two; 128 sectors are a cluster of 64 KiB.
        let power = |byte: u8| 1u64.checked_shl(256u32.checked_sub(byte.into())?);
        let cluster = match bytes::u8(raw, 13)? {
            sectors @ ..=0x80 => sector.checked_mul(sectors.into())?,
            exponent => sector.checked_mul(power(exponent)?)?,
        };
        let record = match bytes::u8(raw, 64)? {
            clusters @ ..0x80 => cluster.checked_mul(clusters.into())?,
            exponent => power(exponent)?,
        };
        Some(Self {
            sector,
            sectors: bytes::le_u64(raw, 40)?,
            cluster,
            table: bytes::le_u64(raw, 48)?,
            record,
            serial: bytes::le_u64(raw, 72)?,
        })
    }
}

/// The used space, and the state. A volume that was not unmounted cleanly, or with invalid metadata, counts as used in
/// full.
///
/// # Errors
/// When the store cannot be read.
fn examine(store: &dyn ReadAt) -> Result<Examined> {
    let found = match OwnFiles::open(store) {
        Ok(files) => files.state().and_then(|state| Ok((state, files.usage(state)?))),
        Err(error) => Err(error),
    };
    let (state, usage) = match found {
        Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
            (State::Unknown, Usage::distrusted(store.size(), &error))
        }
        found => found?,
    };
    Ok(Examined { state, usage, recovered: None, least: None })
}

/// The metadata files of a volume.
struct OwnFiles<'a> {
    store: &'a dyn ReadAt,
    boot: BootSector,
    /// The ranges of the master file table.
    table: Vec<Span>,
}

impl<'a> OwnFiles<'a> {
    fn open(store: &'a dyn ReadAt) -> Result<Self> {
        let boot = BootSector::read(store)?;
        let boot = boot.ok_or_else(|| Error::corrupt("its boot sector is gone"))?;
        let is_sound = boot.sector.is_power_of_two()
            && (256..=4096).contains(&boot.sector)
            && boot.cluster.is_power_of_two()
            && (boot.sector..=2 << 20).contains(&boot.cluster)
            && boot.record.is_power_of_two()
            && (512..=4096).contains(&boot.record);
        let len = ByteLen::new(boot.sector.saturating_mul(boot.sectors));
        if !is_sound || len > store.size() {
            return Err(Error::corrupt("its boot sector's numbers contradict each other"));
        }
        let first = Span::new(
            ByteOffset::new(boot.table.saturating_mul(boot.cluster)),
            ByteLen::new(boot.record),
        );
        let table = vec![first.ok_or_else(|| Error::corrupt("its file table lies outside"))?];
        let copy = ByteOffset::new(len.get());
        let copy = BootSector::decode(&read_up_to(store, copy, 512)?);
        if copy.as_ref() != Some(&boot) {
            return Err(Error::corrupt("its boot sector and the copy of that differ"));
        }
        let mut this = Self { store, boot, table };
        this.table = this.content_of(TABLE_RECORD)?.0;
        this.compare_mirror()?;
        Ok(this)
    }

    /// Compares the first records with their copies.
    fn compare_mirror(&self) -> Result<()> {
        let (mirror, len) = self.content_of(MIRROR_RECORD)?;
        let held = MIRRORED.saturating_mul(self.boot.record);
        let start = |spans: &[Span]| {
            let first = spans.first().filter(|first| first.len().get() >= held && len >= held);
            first.map(|first| {
                read_up_to(self.store, first.start(), usize::try_from(held).unwrap_or(0))
            })
        };
        match (start(&mirror).transpose()?, start(&self.table).transpose()?) {
            (Some(copy), Some(own)) if copy == own => Ok(()),
            _ => Err(Error::corrupt("its first file records and the copies of them differ")),
        }
    }

    /// Calls `work` with the number of every record in use and the runs of its attributes.
    fn each_run(&self, work: &mut dyn FnMut(u64, Run)) -> Result<()> {
        let len = usize::try_from(self.boot.record).unwrap_or(1).max(1);
        let mut number = 0u64;
        for piece in &self.table {
            let mut at = piece.start();
            while at < piece.end() {
                let rest = Span::between(at, piece.end()).len();
                let bytes = rest.get().min(PIECE);
                let read = read_up_to(self.store, at, usize::try_from(bytes).unwrap_or(0))?;
                for raw in read.chunks(len) {
                    self.runs_of_record(number, raw, work)?;
                    number = number.saturating_add(1);
                }
                at = at.saturating_add(ByteLen::new(bytes.max(1)));
            }
        }
        Ok(())
    }

    fn runs_of_record(
        &self,
        number: u64,
        raw: &[u8],
        work: &mut dyn FnMut(u64, Run),
    ) -> Result<()> {
        let flags = bytes::le_u16(raw, 22).unwrap_or(0);
        if raw.starts_with(b"BAAD") || raw.starts_with(b"FILE") && flags & RECORD_IN_USE != 0 {
            let damaged = || Error::corrupt(format!("its file record {number} is damaged"));
            let record = fixed_up(raw.to_vec()).ok_or_else(damaged)?;
            let clusters = self.clusters();
            let mut rest = attributes(&record);
            for attribute in &mut rest {
                if bytes::u8(attribute, 8) != Some(1) {
                    continue;
                }
                for (first, count) in mapped(attribute).ok_or_else(damaged)? {
                    let run = Run::new(first, count);
                    if run.end() > clusters {
                        return Err(damaged());
                    }
                    work(number, run);
                }
            }
            if !rest.came_to_its_end {
                return Err(damaged());
            }
        }
        Ok(())
    }

    /// How many clusters the volume has.
    fn clusters(&self) -> u64 {
        let len = self.boot.sectors.checked_mul(self.boot.sector);
        len.and_then(|len| len.checked_div(self.boot.cluster)).unwrap_or(0)
    }

    /// The record `number`, its fixups undone.
    fn record(&self, number: u64) -> Result<Vec<u8>> {
        let missing = || Error::corrupt(format!("its file record {number} is damaged"));
        let mut skip = number.saturating_mul(self.boot.record);
        for piece in &self.table {
            if skip < piece.len().get() {
                let at = piece.start().saturating_add(ByteLen::new(skip));
                let len = usize::try_from(self.boot.record).unwrap_or(0);
                let raw = read_up_to(self.store, at, len)?;
                return fixed_up(raw).ok_or_else(missing);
            }
            skip = skip.saturating_sub(piece.len().get());
        }
        Err(missing())
    }

    /// The ranges of the content of the file in record `number`, and its length.
    fn content_of(&self, number: u64) -> Result<(Vec<Span>, u64)> {
        let record = self.record(number)?;
        let damaged = || Error::corrupt(format!("the map of its file record {number} is damaged"));
        let attribute = attribute(&record, DATA).ok_or_else(damaged)?;
        let (runs, len) = runs_of(attribute).ok_or_else(damaged)?;
        let spans = runs.into_iter().map(|(first, count)| {
            let start = first.checked_mul(self.boot.cluster)?;
            let len = count.checked_mul(self.boot.cluster)?;
            let span = Span::new(ByteOffset::new(start), ByteLen::new(len))?;
            Span::whole(self.store.size()).contains(span).then_some(span)
        });
        let spans = spans.collect::<Option<Vec<_>>>().ok_or_else(damaged)?;
        let mapped: ByteLen = spans.iter().map(|span| span.len()).sum();
        if mapped.get() < len {
            return Err(Error::unsupported(format!(
                "file record {number} maps only {mapped} of its {} (an attribute list has the rest)",
                ByteLen::new(len)
            )));
        }
        Ok((spans, len))
    }

    /// Clean only when the volume's own mark and its log both say so.
    fn state(&self) -> Result<State> {
        let record = self.record(VOLUME_RECORD)?;
        let flags = attribute(&record, VOLUME_INFORMATION).and_then(|attribute| {
            let value = usize::from(bytes::le_u16(attribute, 20)?);
            bytes::le_u16(attribute, value.checked_add(10)?)
        });
        let flags = flags.ok_or_else(|| Error::corrupt("its flags were not found"))?;
        let (log, _) = self.content_of(LOG_RECORD)?;
        let start = log.first().map(|piece| piece.start()).unwrap_or_default();
        let pages = read_up_to(self.store, start, 8192)?;
        let is_log_closed = pages.chunks(4096).all(is_closed);
        let is_clean = flags & VOLUME_IS_DIRTY == 0 && is_log_closed;
        Ok(if is_clean { State::Clean } else { State::Unclean })
    }

    fn usage(&self, state: State) -> Result<Usage> {
        let size = self.store.size();
        if state != State::Clean {
            return Ok(Usage::whole(size, "it was not unmounted cleanly"));
        }
        let clusters = self.clusters();
        let (bitmap, len) = self.content_of(BITMAP_RECORD)?;
        if len < clusters.div_ceil(8) || len > MOST_BITMAP {
            return Err(Error::corrupt("its bitmap is too short for its clusters"));
        }
        let cluster = ByteLen::new(self.boot.cluster);
        let data = Span::whole(cluster.checked_mul(clusters).unwrap_or_default());
        // The backup boot sector is after the last cluster.
        let mut used = vec![Span::between(data.end(), ByteOffset::new(size.get()))];
        let mut marked = Bits::new(clusters);
        let mut number = 0u64;
        for piece in &bitmap {
            let bytes = read_up_to(self.store, piece.start(), piece.len().to_usize().unwrap_or(0))?;
            for bit in bytes.iter().flat_map(|byte| (0..8).map(move |bit| byte >> bit & 1)) {
                if bit == 1 {
                    marked.add(Run::new(number, 1));
                }
                number = number.saturating_add(1);
            }
        }
        if number < clusters {
            return Err(Error::corrupt("its bitmap ends early"));
        }
        let had = marked.clone();
        let mut knows_its_own = true;
        self.each_run(&mut |number, run| {
            knows_its_own &= number >= OWN_RECORDS || had.count_in(run) == run.len;
            marked.add(run);
        })?;
        if !knows_its_own {
            return Err(Error::corrupt("its bitmap does not even know its own metadata"));
        }
        let unmarked = marked.count().saturating_sub(had.count());
        used.extend(cluster_spans(&marked, ByteOffset::ZERO, cluster));
        let mut usage = Usage::of(used, Vec::new());
        if unmarked > 0 {
            let len = cluster.checked_mul(unmarked).unwrap_or_default();
            usage.findings.push(VolumeFinding::CalledFree { by: "bitmap", files: "hold", len });
        }
        Ok(usage)
    }
}

/// Returns whether a page of the log says that nothing in it is to be done: it was closed, or is empty.
fn is_closed(page: &[u8]) -> bool {
    if page.iter().all(|byte| *byte == 0xff) {
        return true;
    }
    let closed = || {
        let area = usize::from(bytes::le_u16(page, 24)?);
        let in_use = bytes::le_u16(page, area.checked_add(12)?)?;
        let flags = bytes::le_u16(page, area.checked_add(14)?)?;
        Some(flags & 2 != 0 || in_use == u16::MAX)
    };
    page.starts_with(b"RSTR") && closed().unwrap_or(false)
}

/// Applies the fixups to a file record: the last two bytes of each of its sectors are stored separately, and replaced
/// by a number that must match.
fn fixed_up(raw: Vec<u8>) -> Option<Vec<u8>> {
    fixed_up_as(raw, b"FILE")
}

/// The same for a block of another kind, which begins with `mark`.
fn fixed_up_as(mut raw: Vec<u8>, mark: &[u8; 4]) -> Option<Vec<u8>> {
    if !raw.starts_with(mark) {
        return None;
    }
    let at = usize::from(bytes::le_u16(&raw, 4)?);
    let number = bytes::le_u16(&raw, at)?;
    for piece in 1..=raw.len().checked_div(FIXUP_STEP)? {
        let kept = bytes::array::<2>(&raw, at.checked_add(piece.checked_mul(2)?)?)?;
        let end = piece.checked_mul(FIXUP_STEP)?;
        let place = raw.get_mut(end.checked_sub(2)?..end)?;
        if place != number.to_le_bytes() {
            return None;
        }
        place.copy_from_slice(&kept);
    }
    Some(raw)
}

/// The attributes of a record, one after the other.
struct Attributes<'a> {
    record: &'a [u8],
    at: Option<usize>,
    /// True if the end mark after the last of them was found.
    came_to_its_end: bool,
}

fn attributes(record: &[u8]) -> Attributes<'_> {
    let at = bytes::le_u16(record, 20).map(usize::from);
    Attributes { record, at, came_to_its_end: false }
}

impl<'a> Iterator for Attributes<'a> {
    type Item = &'a [u8];

    fn next(&mut self) -> Option<Self::Item> {
        let at = self.at.take()?;
        if bytes::le_u32(self.record, at)? == u32::MAX {
            self.came_to_its_end = true;
            return None;
        }
        let len = usize::try_from(bytes::le_u32(self.record, at.checked_add(4)?)?).ok()?;
        let end = at.checked_add(len).filter(|_| len >= 24)?;
        self.at = Some(end);
        self.record.get(at..end)
    }
}

/// The first attribute of `kind` without a name in a record.
fn attribute(record: &[u8], kind: u32) -> Option<&[u8]> {
    attributes(record)
        .find(|raw| bytes::le_u32(raw, 0) == Some(kind) && bytes::u8(raw, 9) == Some(0))
}

/// The runs of a non-resident attribute as (first cluster, clusters), and the content's length;
/// `None` when they are invalid, have holes, or go on in another record.
fn runs_of(attribute: &[u8]) -> Option<(Vec<(u64, u64)>, u64)> {
    if bytes::u8(attribute, 8)? != 1 || bytes::le_u64(attribute, 16)? != 0 {
        return None;
    }
    let last = bytes::le_u64(attribute, 24)?;
    let runs = mapped(attribute)?;
    let held: u64 = runs.iter().map(|(_, count)| count).sum();
    (held == last.checked_add(1)?).then_some((runs, bytes::le_u64(attribute, 48)?))
}

/// The runs of this part of a non-resident attribute, without its holes; `None` if they are invalid.
fn mapped(attribute: &[u8]) -> Option<Vec<(u64, u64)>> {
    let runs = runs_with_holes(attribute)?;
    Some(runs.into_iter().filter_map(|(count, first)| Some((first?, count))).collect())
}

/// The same with its holes: the number of clusters, and the first of them; none for a hole.
fn runs_with_holes(attribute: &[u8]) -> Option<Vec<(u64, Option<u64>)>> {
    let (lowest, highest) = (bytes::le_u64(attribute, 16)?, bytes::le_u64(attribute, 24)?);
    let mut rest = attribute.get(usize::from(bytes::le_u16(attribute, 32)?)..)?;
    let mut runs = Vec::new();
    let (mut first, mut seen) = (0i64, lowest);
    loop {
        let (head, behind) = rest.split_first()?;
        if *head == 0 {
            break;
        }
        let (len_bytes, offset_bytes) = (usize::from(head & 15), usize::from(head >> 4));
        let (count, behind) = behind.split_at_checked(len_bytes)?;
        let (offset, behind) = behind.split_at_checked(offset_bytes)?;
        let count = u64::try_from(signed(count)?).ok().filter(|count| *count > 0)?;
        seen = seen.checked_add(count)?;
        let place = match offset {
            [] => None,
            offset => {
                first = first.checked_add(signed(offset)?)?;
                Some(u64::try_from(first).ok()?)
            }
        };
        runs.push((count, place));
        rest = behind;
    }
    // An empty one records the cluster before 0 as its last.
    (seen == highest.wrapping_add(1)).then_some(runs)
}

/// A little-endian number of one to eight bytes with a sign.
fn signed(bytes: &[u8]) -> Option<i64> {
    let top = bytes.last()?;
    let mut wide = [if top & 0x80 == 0 { 0 } else { 0xff }; 8];
    wide.get_mut(..bytes.len())?.copy_from_slice(bytes);
    Some(i64::from_le_bytes(wide))
}

/// The label among a file record's attributes.
fn name_in(record: &[u8]) -> Option<String> {
    if !record.starts_with(b"FILE") {
        return None;
    }
    let mut at = usize::from(bytes::le_u16(record, 20)?);
    loop {
        let kind = bytes::le_u32(record, at)?;
        let len = usize::try_from(bytes::le_u32(record, at.checked_add(4)?)?).ok()?;
        if kind == VOLUME_NAME {
            let size = usize::try_from(bytes::le_u32(record, at.checked_add(16)?)?).ok()?;
            let value = at.checked_add(bytes::le_u16(record, at.checked_add(20)?)?.into())?;
            return bytes::text_utf16(record.get(value..value.checked_add(size)?)?);
        }
        if kind == u32::MAX || len < 16 {
            return None;
        }
        at = at.checked_add(len)?;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn run_offsets_are_signed() {
        assert_eq!(signed(&[0x80]), Some(-128));
        assert_eq!(signed(&[0x34, 0x12]), Some(0x1234));
        assert_eq!(signed(&[0xff, 0xff, 0xff]), Some(-1));
        assert_eq!(signed(&[]), None);
        assert_eq!(signed(&[0; 9]), None);
    }

    #[test]
    fn log_is_clean_when_empty_or_marked_clean() {
        let mut page = vec![0; 4096];
        assert!(!is_closed(&page));
        page[..4].copy_from_slice(b"RSTR");
        page[24] = 0x30;
        assert!(!is_closed(&page));
        page[0x30 + 14] = 2;
        assert!(is_closed(&page));
        assert!(is_closed(&[0xff; 4096]));
    }
}
