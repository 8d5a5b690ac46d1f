//! NTFS: the boot sector, the label from the volume's own file record, and which clusters are in
//! use by `$Bitmap`. After the published layout of its metadata files.

use super::{ClusterRuns, Examined, State, Usage, Volume, VolumeKind};
use crate::{
    bytes,
    error::{Class, Error, Result},
    store::{ReadAt, read_up_to},
    units::{ByteLen, ByteOffset, Span},
};

/// The records of some metadata files in the master file table.
const TABLE_RECORD: u64 = 0;
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
/// Files records are fixed up in pieces of this many bytes.
const FIXUP_STEP: usize = 512;

/// Names an NTFS volume.
pub(super) fn recognise(store: &dyn ReadAt) -> Result<Option<Volume>> {
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
        kind: VolumeKind::Ntfs,
        label,
        uuid: (boot.serial != 0).then(|| format!("{:016X}", boot.serial)),
        // The backup boot sector stands behind the last counted sector.
        size: ByteLen::new(boot.sector.saturating_mul(boot.sectors.saturating_add(1))),
    }))
}

/// What of the boot sector is needed.
struct BootSector {
    /// Bytes a sector, and how many there are.
    sector: u64,
    sectors: u64,
    /// Bytes a cluster.
    cluster: u64,
    /// The first cluster of the master file table, and bytes a record of it.
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
        // From 0x80 on, both fields are negative powers of two.
        let power = |byte: u8| 1u64.checked_shl(256u32.checked_sub(byte.into())?);
        let cluster = match bytes::u8(raw, 13)? {
            sectors @ ..0x80 => sector.checked_mul(sectors.into())?,
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

/// What is in use, and the state. A volume that was not unmounted cleanly, or whose metadata make
/// no sense, counts as a whole.
///
/// # Errors
/// When the store cannot be read.
pub(super) fn examine(store: &dyn ReadAt) -> Result<Examined> {
    let found = match Files::open(store) {
        Ok(files) => files.state().and_then(|state| Ok((state, files.usage(state)?))),
        Err(error) => Err(error),
    };
    let (state, usage) = match found {
        Err(error) if matches!(error.class(), Class::Corrupt | Class::Unsupported) => {
            (State::Unknown, Usage::distrusted(store.size(), &error))
        }
        found => found?,
    };
    Ok(Examined { state, usage, settled: None, least: None })
}

/// The metadata files of a volume.
struct Files<'a> {
    store: &'a dyn ReadAt,
    boot: BootSector,
    /// Where the master file table lies.
    table: Vec<Span>,
}

impl<'a> Files<'a> {
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
        let mut this = Self { store, boot, table };
        this.table = this.content_of(TABLE_RECORD)?.0;
        Ok(this)
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

    /// Where the content of the file in record `number` lies, and how long it is.
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
        Ok((spans.collect::<Option<Vec<_>>>().ok_or_else(damaged)?, len))
    }

    /// Clean only when the volume's own mark and its log both say so.
    fn state(&self) -> Result<State> {
        let record = self.record(VOLUME_RECORD)?;
        let flags = attribute(&record, VOLUME_INFORMATION).and_then(|attribute| {
            let value = usize::from(bytes::le_u16(attribute, 20)?);
            bytes::le_u16(attribute, value.checked_add(10)?)
        });
        let flags = flags.ok_or_else(|| Error::corrupt("its flags are not to be found"))?;
        let (log, _) = self.content_of(LOG_RECORD)?;
        let start = log.first().map(|piece| piece.start()).unwrap_or_default();
        let pages = read_up_to(self.store, start, 8192)?;
        let is_settled = pages.chunks(4096).all(is_closed);
        let is_clean = flags & VOLUME_IS_DIRTY == 0 && is_settled;
        Ok(if is_clean { State::Clean } else { State::Unclean })
    }

    fn usage(&self, state: State) -> Result<Usage> {
        let size = self.store.size();
        if state != State::Clean {
            return Ok(Usage::whole(size, "it was not unmounted cleanly"));
        }
        let clusters = self
            .boot
            .sectors
            .checked_mul(self.boot.sector)
            .and_then(|len| len.checked_div(self.boot.cluster))
            .unwrap_or(0);
        let (bitmap, len) = self.content_of(BITMAP_RECORD)?;
        if len < clusters.div_ceil(8) || len > MOST_BITMAP {
            return Err(Error::corrupt("its bitmap is too short for its clusters"));
        }
        let cluster = ByteLen::new(self.boot.cluster);
        let data = Span::whole(cluster.checked_mul(clusters).unwrap_or_default());
        // Behind the last cluster stands the backup of the boot sector.
        let mut used = vec![Span::between(data.end(), ByteOffset::new(size.get()))];
        let mut runs = ClusterRuns::new(data, cluster);
        let mut number = 0u64;
        for piece in &bitmap {
            let bytes = read_up_to(self.store, piece.start(), piece.len().to_usize().unwrap_or(0))?;
            for bit in bytes.iter().flat_map(|byte| (0..8).map(move |bit| byte >> bit & 1)) {
                if number >= clusters {
                    break;
                }
                runs.push(number, bit == 1);
                number = number.saturating_add(1);
            }
        }
        let spans = runs.finish();
        let holds = |span: &Span| spans.iter().any(|used| used.contains(*span));
        if number < clusters || !bitmap.iter().chain(&self.table).all(holds) {
            return Err(Error::corrupt("its bitmap does not even know its own metadata"));
        }
        used.extend(spans);
        Ok(Usage::of(used, Vec::new()))
    }
}

/// Whether a page of the log says that nothing in it is to be done: it was closed, or is empty.
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

/// A file record with the last two bytes of its every piece put back: they are kept apart, and a
/// number that must agree stands in their place.
fn fixed_up(mut raw: Vec<u8>) -> Option<Vec<u8>> {
    if !raw.starts_with(b"FILE") {
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

/// The first attribute of `kind` without a name in a record.
fn attribute(record: &[u8], kind: u32) -> Option<&[u8]> {
    let mut at = usize::from(bytes::le_u16(record, 20)?);
    loop {
        let found = bytes::le_u32(record, at)?;
        let len = usize::try_from(bytes::le_u32(record, at.checked_add(4)?)?).ok()?;
        if found == u32::MAX || len < 24 {
            return None;
        }
        let raw = record.get(at..at.checked_add(len)?)?;
        if found == kind && bytes::u8(raw, 9)? == 0 {
            return Some(raw);
        }
        at = at.checked_add(len)?;
    }
}

/// The runs of a non-resident attribute as (first cluster, clusters), and the content's length;
/// `None` when they make no sense, have holes, or go on in another record.
fn runs_of(attribute: &[u8]) -> Option<(Vec<(u64, u64)>, u64)> {
    if bytes::u8(attribute, 8)? != 1 || bytes::le_u64(attribute, 16)? != 0 {
        return None;
    }
    let last = bytes::le_u64(attribute, 24)?;
    let len = bytes::le_u64(attribute, 48)?;
    let mut rest = attribute.get(usize::from(bytes::le_u16(attribute, 32)?)..)?;
    let mut runs = Vec::new();
    let (mut first, mut seen) = (0i64, 0u64);
    loop {
        let (head, behind) = rest.split_first()?;
        if *head == 0 {
            break;
        }
        let (len_bytes, offset_bytes) = (usize::from(head & 15), usize::from(head >> 4));
        let (count, behind) = behind.split_at_checked(len_bytes)?;
        let (offset, behind) = behind.split_at_checked(offset_bytes)?;
        let count = u64::try_from(signed(count)?).ok().filter(|count| *count > 0)?;
        first = first.checked_add(signed(offset)?)?;
        runs.push((u64::try_from(first).ok()?, count));
        seen = seen.checked_add(count)?;
        rest = behind;
    }
    (seen == last.checked_add(1)?).then_some((runs, len))
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
    fn numbers_of_runs_have_a_sign() {
        assert_eq!(signed(&[0x80]), Some(-128));
        assert_eq!(signed(&[0x34, 0x12]), Some(0x1234));
        assert_eq!(signed(&[0xff, 0xff, 0xff]), Some(-1));
        assert_eq!(signed(&[]), None);
        assert_eq!(signed(&[0; 9]), None);
    }

    #[test]
    fn a_log_is_closed_when_it_is_empty_or_says_so() {
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
