//! The GUID partition table: two copies, each with checksums.
//!
//! After UEFI 2.10, section 5.3. A protective master boot record in sector 0, the primary header in sector 1, followed
//! by the entry array; at the very end of the card the backup header, preceded by its array:
//!
//! ```text
//! header   0 "EFI PART"   8 revision   12 header size   16 CRC of the header   24 own sector
//!         32 other header's sector     40 first usable  48 last usable         56 disk GUID
//!         72 array's first sector      80 entry count   84 entry size          88 CRC of the array
//! entry    0 type GUID   16 own GUID   32 first sector  40 last sector  48 attributes  56 name
//! ```

use super::{Partition, PartitionKind, mbr};
use crate::table::TableFinding;
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    exact::Exact as _,
    read_up_to,
    units::{ByteLen, ByteOffset, Lba, SectorCount, SectorSize, Span},
};
use uuid::Uuid;

const MAGIC: &[u8] = b"EFI PART";
const HEADER: usize = 92;
const ENTRY: usize = 128;
/// The largest entry array that is read: 8192 entries. Tools write 128.
const MOST_ENTRY_BYTES: usize = 1 << 20;

/// A GUID partition table, read from whichever copy is sound.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gpt {
    sector: SectorSize,
    protective: Vec<u8>,
    header: Header,
    entries: Vec<u8>,
    partitions: Vec<GptPartition>,
    findings: Vec<TableFinding>,
    backup_end: ByteOffset,
}

/// One used entry of the array.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GptPartition {
    /// Its place in the array, from 1.
    pub number: u32,
    /// Its type.
    pub kind: Uuid,
    /// Its own id.
    pub guid: Uuid,
    /// Its first sector.
    pub first: Lba,
    /// Its last sector, included.
    pub last: Lba,
    /// The attribute bits as found.
    pub attributes: u64,
    /// Its name; `None` when empty.
    pub name: Option<String>,
}

/// A header with valid checksums.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Header {
    raw: Vec<u8>,
    my_lba: Lba,
    alternate: Lba,
    first_usable: Lba,
    last_usable: Lba,
    disk_guid: Uuid,
    entries_lba: Lba,
    entry_count: u32,
    entry_size: u32,
}

impl Header {
    /// Decodes a header, and verifies its checksum and its location. `Ok(None)` without a signature.
    fn decode(bytes: &[u8], at: Lba) -> std::result::Result<Option<Self>, String> {
        if !bytes.starts_with(MAGIC) {
            return Ok(None);
        }
        let short = || "header is truncated".to_owned();
        let size = bytes::le_u32(bytes, 12).ok_or_else(short)?;
        let raw = usize::try_from(size)
            .ok()
            .filter(|size| (HEADER..=bytes.len()).contains(size))
            .and_then(|size| bytes.get(..size))
            .ok_or_else(|| format!("header says that it is {size} bytes long"))?;
        let found = bytes::le_u32(raw, 16).ok_or_else(short)?;
        let computed = crc_of_header(raw).ok_or_else(short)?;
        if found != computed {
            return Err(format!("header checksum is {found:#010x}, computed {computed:#010x}"));
        }
        let u64_at = |at| bytes::le_u64(raw, at).ok_or_else(short);
        let header = Self {
            my_lba: Lba::new(u64_at(24)?),
            alternate: Lba::new(u64_at(32)?),
            first_usable: Lba::new(u64_at(40)?),
            last_usable: Lba::new(u64_at(48)?),
            disk_guid: guid(raw, 56).ok_or_else(short)?,
            entries_lba: Lba::new(u64_at(72)?),
            entry_count: bytes::le_u32(raw, 80).ok_or_else(short)?,
            entry_size: bytes::le_u32(raw, 84).ok_or_else(short)?,
            raw: raw.to_vec(),
        };
        if header.my_lba != at {
            return Err(format!("header at {at} records its position as {}", header.my_lba));
        }
        if header.array_len().is_none() {
            return Err(format!(
                "header says {} entries of {} bytes",
                header.entry_count, header.entry_size
            ));
        }
        Ok(Some(header))
    }

    /// The length of the entry array in bytes; `None` if the values are outside of the supported range.
    fn array_len(&self) -> Option<usize> {
        let size = usize::try_from(self.entry_size).ok()?;
        let count = usize::try_from(self.entry_count).ok()?;
        let len = size.checked_mul(count)?;
        (size >= ENTRY && size.is_power_of_two() && len <= MOST_ENTRY_BYTES).then_some(len)
    }
}

fn crc_of_header(raw: &[u8]) -> Option<u32> {
    let mut raw = raw.to_vec();
    bytes::put(&mut raw, 16, [0; 4])?;
    Some(crc32fast::hash(&raw))
}

fn guid(raw: &[u8], at: usize) -> Option<Uuid> {
    bytes::array(raw, at).map(Uuid::from_bytes_le)
}

impl Gpt {
    /// Returns whether its protective record shares its table with real partitions, so that some systems
    /// go by the one and some by the other.
    #[must_use]
    pub fn is_hybrid(&self) -> bool {
        mbr::is_protective(&self.protective)
            && mbr::protective_for(&self.protective, SectorCount::new(1)).is_none()
    }

    /// Returns whether every real partition of a hybrid's protective record is one of this table, too.
    #[must_use]
    pub fn is_mirrored(&self) -> bool {
        let own: Vec<mbr::Extent> = self.partitions.iter().filter_map(extent).collect();
        mbr::shared_entries(&self.protective).all(|shared| own.contains(&shared))
    }

    /// Reads the table of `store` with sectors of `sector`; `None` without any signature.
    ///
    /// # Errors
    /// When the store cannot be read.
    pub fn read(store: &dyn ReadAt, sector: SectorSize) -> Result<Option<Self>> {
        let protective = read_up_to(store, ByteOffset::ZERO, mbr::RECORD)?;
        let last = Lba::new(sector.sectors_in(store.size()).get().saturating_sub(1));
        let mut findings = Vec::new();
        let primary = read_copy(store, sector, Lba::new(1))?;
        // The backup is where the primary says, or at the end of the card. Without a primary and without a protective
        // record, a backup is the leftover of an overwritten table.
        let told = primary.as_ref().ok().and_then(Option::as_ref).map(|(h, _)| h.alternate);
        if matches!(primary, Ok(None)) && !mbr::is_protective(&protective) {
            return Ok(None);
        }
        let mut backup = read_copy(store, sector, told.unwrap_or(last))?;
        if told.is_some_and(|told| told != last) && !matches!(backup, Ok(Some(_))) {
            backup = read_copy(store, sector, last)?;
        }
        let (header, entries) = match (primary, backup) {
            (Ok(Some(primary)), backup) => {
                match backup {
                    Ok(Some((_, entries))) if entries != primary.1 => {
                        findings.push(TableFinding::BackupDiffers);
                    }
                    Ok(Some(_)) => {}
                    Ok(None) => findings.push(TableFinding::BackupMissing),
                    Err(why) => findings.push(TableFinding::BackupDamaged { why }),
                }
                primary
            }
            (Err(why), Ok(Some(backup))) => {
                findings.push(TableFinding::PrimaryDamaged { why });
                backup
            }
            (Ok(None), Ok(Some(backup))) => {
                findings.push(TableFinding::PrimaryMissing);
                backup
            }
            // A protective record without a valid copy in this sector size.
            _ => return Ok(None),
        };
        if mbr::protective_for(&protective, SectorCount::new(1)).is_none() {
            findings.push(match mbr::is_protective(&protective) {
                true => TableFinding::Hybrid,
                false => TableFinding::NotProtected,
            });
        }
        let partitions = decode_entries(&header, &entries);
        let end_of_backup = header.my_lba.max(header.alternate).checked_add(SectorCount::new(1));
        let backup_end =
            end_of_backup.and_then(|end| sector.offset_of(end)).unwrap_or(ByteOffset::ZERO);
        Ok(Some(Self { sector, protective, header, entries, partitions, findings, backup_end }))
    }

    /// The disk's own id.
    #[must_use]
    pub fn disk_guid(&self) -> Uuid {
        self.header.disk_guid
    }

    /// The used entries.
    #[must_use]
    pub fn entries(&self) -> &[GptPartition] {
        &self.partitions
    }

    /// The end of the card for which the table was written: after its backup header.
    #[must_use]
    pub fn card_end(&self) -> ByteOffset {
        self.backup_end
    }

    pub(super) fn partitions(&self) -> Vec<Partition> {
        let parts = self.partitions.iter().filter_map(|entry| {
            let count = entry.last.get().checked_sub(entry.first.get())?.checked_add(1)?;
            Some(Partition {
                number: entry.number,
                span: self.sector.span_of(entry.first, SectorCount::new(count))?,
                kind: PartitionKind::Gpt(entry.kind),
                name: entry.name.clone(),
                uuid: Some(entry.guid.to_string()),
                bootable: entry.attributes & 4 != 0,
            })
        });
        parts.collect()
    }

    pub(super) fn sector_size(&self) -> SectorSize {
        self.sector
    }

    pub(super) fn findings(&self) -> &[TableFinding] {
        &self.findings
    }

    /// How many sectors the entry array takes.
    fn array_sectors(&self) -> u64 {
        ByteLen::of(&self.entries).get().div_ceil(self.sector.bytes())
    }

    /// The range of the present backup: array and header.
    ///
    /// `None` when the header's own numbers are invalid.
    #[must_use]
    pub fn backup_span(&self) -> Option<Span> {
        let backup = self.header.my_lba.max(self.header.alternate);
        let first = backup.get().checked_sub(self.array_sectors())?;
        let count = self.array_sectors().checked_add(1)?;
        self.sector.span_of(Lba::new(first), SectorCount::new(count))
    }

    /// The same table with some partitions, each by its number, at new places.
    ///
    /// # Errors
    /// [`crate::Class::Unsupported`] when the card has no such partition, or it would have no sector.
    pub fn with_spans(&self, spans: &[(u32, Span)]) -> Result<Self> {
        let mut new = self.clone();
        for (number, span) in spans {
            new.put_span(*number, *span).ok_or_else(|| {
                Error::unsupported(format!("partition {number} cannot lie at {span} in this table"))
            })?;
        }
        if self.is_hybrid() && !spans.is_empty() {
            let both = self.partitions.iter().zip(&new.partitions);
            let moves: Vec<_> =
                both.filter_map(|(was, is)| Some((extent(was)?, extent(is)?))).collect();
            let record = mbr::hybrid_following(&self.protective, &moves);
            new.protective = record.ok_or_else(|| {
                Error::unsupported("its hybrid of two tables cannot follow its partitions")
            })?;
        }
        Ok(new)
    }

    fn put_span(&mut self, number: u32, span: Span) -> Option<()> {
        let sector = self.sector.bytes();
        let first = span.start().get().checked_div(sector)?;
        let last = span.end().get().checked_div(sector)?.checked_sub(1)?;
        let size = usize::try_from(self.header.entry_size).ok()?;
        let at = usize::try_from(number.checked_sub(1)?).ok()?.checked_mul(size)?;
        let part = self.partitions.iter_mut().find(|part| part.number == number)?;
        (part.first, part.last) = (Lba::new(first), Lba::new(last));
        bytes::put(&mut self.entries, at.checked_add(32)?, first.to_le_bytes())?;
        bytes::put(&mut self.entries, at.checked_add(40)?, last.to_le_bytes())?;
        (first <= last).then_some(())
    }

    /// The same table under another id, and with others for its partitions, each by its number.
    ///
    /// # Errors
    /// [`crate::Class::Unsupported`] when the card has no such partition.
    pub fn with_guids(&self, disk: Uuid, partitions: &[(u32, Uuid)]) -> Result<Self> {
        let mut new = self.clone();
        let mut put = || {
            bytes::put(&mut new.header.raw, 56, disk.to_bytes_le())?;
            for (number, guid) in partitions {
                let size = usize::try_from(new.header.entry_size).ok()?;
                let at = usize::try_from(number.checked_sub(1)?).ok()?.checked_mul(size)?;
                let part = new.partitions.iter_mut().find(|part| part.number == *number)?;
                part.guid = *guid;
                bytes::put(&mut new.entries, at.checked_add(16)?, guid.to_bytes_le())?;
            }
            Some(())
        };
        put().ok_or_else(|| Error::unsupported("the table has no place for these ids"))?;
        Ok(new)
    }

    /// How much of the end of a card the backup copy takes.
    #[must_use]
    pub fn backup_len(&self) -> ByteLen {
        let sectors = self.array_sectors().saturating_add(1);
        self.sector.len_of(SectorCount::new(sectors)).unwrap_or_default()
    }

    /// The changes for the same table on a card of `size` bytes. Both copies are rewritten, the backup at the very end
    /// of the card, and the protective record covers the card.
    ///
    /// # Errors
    /// [`crate::Class::NoRoom`] when a partition reaches past the last usable sector of such a
    /// card.
    pub fn on_card_of(&self, size: ByteLen) -> Result<Vec<(ByteOffset, Vec<u8>)>> {
        let no_room = || Error::no_room(format!("a card of {size} has no room for this table"));
        let sectors = self.sector.sectors_in(size).get();
        let array = self.array_sectors();
        let last = sectors.checked_sub(1).ok_or_else(no_room)?;
        let backup_array = last.checked_sub(array).ok_or_else(no_room)?;
        let last_usable = backup_array.checked_sub(1).ok_or_else(no_room)?;
        if let Some(over) = self.partitions.iter().find(|part| part.last.get() > last_usable) {
            return Err(Error::no_room(format!(
                "partition {} ends at {}, the last usable one would be sector {last_usable}",
                over.number, over.last
            )));
        }
        let primary_array = if self.header.my_lba < self.header.alternate {
            self.header.entries_lba.get()
        } else {
            2
        };
        let header = |my: u64, other: u64, array: u64| {
            let mut raw = self.header.raw.clone();
            bytes::put(&mut raw, 24, my.to_le_bytes())?;
            bytes::put(&mut raw, 32, other.to_le_bytes())?;
            bytes::put(&mut raw, 48, last_usable.to_le_bytes())?;
            bytes::put(&mut raw, 72, array.to_le_bytes())?;
            bytes::put(&mut raw, 88, crc32fast::hash(&self.entries).to_le_bytes())?;
            let crc = crc_of_header(&raw)?;
            bytes::put(&mut raw, 16, crc.to_le_bytes())?;
            raw.resize(usize::try_from(self.sector.bytes()).ok()?, 0);
            Some(raw)
        };
        let at = |lba: u64| self.sector.offset_of(Lba::new(lba));
        let edits = || {
            let mut entries = self.entries.clone();
            entries.resize(usize::try_from(array.checked_mul(self.sector.bytes())?).ok()?, 0);
            let mut edits = vec![
                (at(1)?, header(1, last, primary_array)?),
                (at(primary_array)?, entries.clone()),
                (at(backup_array)?, entries),
                (at(last)?, header(last, 1, backup_array)?),
            ];
            let count = SectorCount::new(sectors);
            let record = match self.is_hybrid() {
                true => {
                    let was = self.sector.sectors_in(ByteLen::new(self.backup_end.get()));
                    mbr::hybrid_on(&self.protective, was, count)
                }
                false => mbr::protective_for(&self.protective, count),
            };
            edits.splice(0..0, record.map(|record| (ByteOffset::ZERO, record)));
            Some(edits)
        };
        edits().ok_or_else(no_room)
    }
}

fn extent(part: &GptPartition) -> Option<mbr::Extent> {
    let count = part.last.get().checked_sub(part.first.get())?.checked_add(1)?;
    Some((part.first.get(), count))
}

type Copy = std::result::Result<Option<(Header, Vec<u8>)>, String>;

/// Reads the copy with its header at `at`: the inner result distinguishes missing from damaged.
fn read_copy(store: &dyn ReadAt, sector: SectorSize, at: Lba) -> Result<Copy> {
    let Some(offset) = sector.offset_of(at) else {
        return Ok(Err(format!("header is recorded at {at}")));
    };
    let sector_len = sector.bytes().exact_as::<usize>()?;
    let bytes = read_up_to(store, offset, sector_len)?;
    let header = match Header::decode(&bytes, at) {
        Ok(Some(header)) => header,
        Ok(None) => return Ok(Ok(None)),
        Err(why) => return Ok(Err(why)),
    };
    let (Some(offset), Some(len)) = (sector.offset_of(header.entries_lba), header.array_len())
    else {
        return Ok(Err("entry array lies outside the card".to_owned()));
    };
    let entries = read_up_to(store, offset, len)?;
    let found = bytes::le_u32(&header.raw, 88).unwrap_or(0);
    let computed = crc32fast::hash(&entries);
    Ok(if entries.len() != len {
        Err("entry array reaches past the card's end".to_owned())
    } else if found != computed {
        Err(format!("entry array checksum is {found:#010x}, computed {computed:#010x}"))
    } else {
        Ok(Some((header, entries)))
    })
}

fn decode_entries(header: &Header, entries: &[u8]) -> Vec<GptPartition> {
    let size = usize::try_from(header.entry_size).unwrap_or(usize::MAX).max(ENTRY);
    let decode = |(number, raw): (u32, &[u8])| {
        let kind = guid(raw, 0)?;
        let entry = GptPartition {
            number,
            kind,
            guid: guid(raw, 16)?,
            first: Lba::new(bytes::le_u64(raw, 32)?),
            last: Lba::new(bytes::le_u64(raw, 40)?),
            attributes: bytes::le_u64(raw, 48)?,
            name: bytes::text_utf16(raw.get(56..ENTRY)?),
        };
        (!kind.is_nil() && entry.first <= entry.last).then_some(entry)
    };
    (1..).zip(entries.chunks_exact(size)).filter_map(decode).collect()
}

pub(super) fn type_words(kind: Uuid) -> Option<&'static str> {
    Some(match kind.to_string().as_str() {
        "c12a7328-f81f-11d2-ba4b-00a0c93ec93b" => "EFI system",
        "21686148-6449-6e6f-744e-656564454649" => "boot loader",
        "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7" => "basic data",
        "0fc63daf-8483-4772-8e79-3d69d8477de4" => "Linux",
        "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f" => "Linux swap",
        "e6d6d379-f507-44c2-a23c-238f2a3df928" => "Linux LVM",
        "a19d880f-05fc-4d3b-a006-743f0f84911e" => "Linux RAID",
        "bc13c2ff-59e6-4262-a352-b275fd6f7172" => "Linux extended boot",
        "b921b045-1df0-41c3-af44-4c6f280d3fae" => "Linux root",
        "933ac7e1-2eb4-4f13-b844-0e14e2aef915" => "Linux home",
        "8da63339-0007-60c0-c436-083ac8230908" => "reserved",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{SparseStore, WriteAt};
    use proptest::prelude::*;

    const LINUX: &str = "0fc63daf-8483-4772-8e79-3d69d8477de4";

    /// A table for a card of `size`, written without any of the code above but the checksums.
    fn card(sector: SectorSize, size: ByteLen, parts: &[(u64, u64)]) -> SparseStore {
        let store = SparseStore::new(size).with_sector_size(sector);
        let mut entries = vec![0; 128 * ENTRY];
        for (index, (first, last)) in parts.iter().enumerate() {
            let raw = &mut entries[index * ENTRY..][..ENTRY];
            raw[..16].copy_from_slice(&Uuid::parse_str(LINUX).unwrap().to_bytes_le());
            raw[16] = u8::try_from(index).unwrap() + 1;
            raw[32..40].copy_from_slice(&first.to_le_bytes());
            raw[40..48].copy_from_slice(&last.to_le_bytes());
            raw[56..60].copy_from_slice(b"h\0i\0");
        }
        let sectors = sector.sectors_in(size).get();
        let array = (entries.len() as u64).div_ceil(sector.bytes());
        let mut raw = vec![0; usize::try_from(sector.bytes()).unwrap()];
        for (my, other, at) in [(1, sectors - 1, 2), (sectors - 1, 1, sectors - 1 - array)] {
            raw[..8].copy_from_slice(MAGIC);
            raw[8..12].copy_from_slice(&0x10000u32.to_le_bytes());
            raw[12..16].copy_from_slice(&92u32.to_le_bytes());
            for (at, value) in
                [(24, my), (32, other), (40, 2 + array), (48, sectors - 2 - array), (72, at)]
            {
                raw[at..at + 8].copy_from_slice(&u64::to_le_bytes(value));
            }
            raw[56] = 0x77;
            raw[80..84].copy_from_slice(&128u32.to_le_bytes());
            raw[84..88].copy_from_slice(&128u32.to_le_bytes());
            raw[88..92].copy_from_slice(&crc32fast::hash(&entries).to_le_bytes());
            let crc = crc_of_header(&raw[..92]).unwrap();
            raw[16..20].copy_from_slice(&crc.to_le_bytes());
            store.write_at(sector.offset_of(Lba::new(my)).unwrap(), &raw).unwrap();
            store.write_at(sector.offset_of(Lba::new(at)).unwrap(), &entries).unwrap();
        }
        let mut record = vec![0; 512];
        record[450] = 0xee;
        record[454] = 1;
        record[458..462].copy_from_slice(&u32::MAX.to_le_bytes());
        record[510..].copy_from_slice(&[0x55, 0xaa]);
        store.write_at(ByteOffset::ZERO, &record).unwrap();
        store
    }

    fn flip(store: &SparseStore, at: u64) {
        let mut byte = [0];
        store.read_at(ByteOffset::new(at), &mut byte).unwrap();
        store.write_at(ByteOffset::new(at), &[byte[0] ^ 0x40]).unwrap();
    }

    #[test]
    fn damaged_header_is_reported_and_its_backup_used() {
        let size = ByteLen::mib(64);
        let sound = card(SectorSize::B512, size, &[(2048, 4095)]);
        let gpt = Gpt::read(&sound, SectorSize::B512).unwrap().unwrap();
        assert_eq!(gpt.findings(), []);
        for (at, finding) in [
            (512 + 56, "the primary table is damaged, the backup is used"),
            (1024 + 32, "the primary table is damaged, the backup is used"),
            (size.get() - 512 + 60, "the backup table is damaged"),
            (512, "the primary table is missing, the backup is used"),
            (size.get() - 512, "the backup table is missing"),
        ] {
            let damaged = card(SectorSize::B512, size, &[(2048, 4095)]);
            flip(&damaged, at);
            let found = Gpt::read(&damaged, SectorSize::B512).unwrap().unwrap();
            assert!(found.findings()[0].to_string().starts_with(finding), "{:?}", found.findings());
            assert_eq!(found.partitions(), gpt.partitions());
        }
    }

    #[test]
    fn flipping_any_header_bit_is_detected() {
        let size = ByteLen::mib(64);
        for bit in 0..92 * 8 {
            let store = card(SectorSize::B512, size, &[(2048, 4095)]);
            let at = 512 + bit / 8;
            let mut byte = [0];
            store.read_at(ByteOffset::new(at), &mut byte).unwrap();
            store.write_at(ByteOffset::new(at), &[byte[0] ^ (1 << (bit % 8))]).unwrap();
            let found = Gpt::read(&store, SectorSize::B512).unwrap().unwrap();
            assert!(!found.findings().is_empty(), "bit {bit} was not noticed");
        }
    }

    #[test]
    fn a_table_that_does_not_fit_is_refused_with_the_sectors() {
        let store = card(SectorSize::B512, ByteLen::mib(64), &[(2048, 131_000)]);
        let gpt = Gpt::read(&store, SectorSize::B512).unwrap().unwrap();
        let error = gpt.on_card_of(ByteLen::new(131_033 * 512)).unwrap_err();
        assert_eq!(
            error.to_string(),
            "partition 1 ends at sector 131000, the last usable one would be sector 130999"
        );
        assert!(gpt.on_card_of(ByteLen::new(131_034 * 512)).is_ok());
        assert!(gpt.on_card_of(ByteLen::new(100)).is_err());
    }

    proptest! {
        #[test]
        fn table_written_to_another_card_parses_to_the_same_partitions(
            wide in any::<bool>(),
            old in 20_000u64..400_000,
            new in 20_000u64..4_000_000,
            cuts in proptest::collection::btree_set(64u64..19_000, 2..9),
        ) {
            let sector = if wide { SectorSize::B4096 } else { SectorSize::B512 };
            let cuts: Vec<_> = cuts.into_iter().collect();
            let parts: Vec<_> = cuts.chunks_exact(2).map(|c| (c[0], c[1] - 1)).collect();
            let size = |sectors: u64| ByteLen::new(sectors * sector.bytes());
            let gpt = Gpt::read(&card(sector, size(old), &parts), sector).unwrap().unwrap();
            let target = SparseStore::new(size(new)).with_sector_size(sector);
            for (at, bytes) in gpt.on_card_of(size(new)).unwrap() {
                target.write_at(at, &bytes).unwrap();
            }
            let moved = Gpt::read(&target, sector).unwrap().unwrap();
            prop_assert_eq!(moved.findings(), []);
            prop_assert_eq!(moved.partitions(), gpt.partitions());
            prop_assert_eq!(moved.disk_guid(), gpt.disk_guid());
            prop_assert_eq!(moved.card_end().get(), size(new).get());
        }

        #[test]
        fn random_bytes_never_panic(bytes in proptest::collection::vec(any::<u8>(), 0..3000)) {
            let _ = Gpt::read(&SparseStore::of(&bytes), SectorSize::B512);
            let mut table = bytes;
            table.resize(4096, 0);
            table[512..520].copy_from_slice(MAGIC);
            let _ = Gpt::read(&SparseStore::of(&table), SectorSize::B512);
        }
    }

    proptest! {
        #[test]
        fn moved_partitions_are_written_to_both_copies(
            first in 2048u64..40_000,
            len in 1u64..40_000,
            further in 1u64..3,
        ) {
            let size = ByteLen::mib(64);
            let store = card(SectorSize::B512, size, &[(2048, 4095), (4096, 8191)]);
            let gpt = Gpt::read(&store, SectorSize::B512).unwrap().unwrap();
            let to = SectorSize::B512.span_of(Lba::new(first), SectorCount::new(len)).unwrap();
            let moved = gpt.with_spans(&[(2, to)]).unwrap();
            let size = ByteLen::mib(64 * further);
            let target = SparseStore::new(size);
            for (at, bytes) in moved.on_card_of(size).unwrap() {
                target.write_at(at, &bytes).unwrap();
            }
            for damaged in [None, Some(512u64), Some(size.get() - 512)] {
                if let Some(at) = damaged {
                    target.write_at(ByteOffset::new(at), &[0; 512]).unwrap();
                }
                let found = Gpt::read(&target, SectorSize::B512).unwrap();
                if let Some(found) = found {
                    let spans: Vec<_> = found.partitions().iter().map(|part| part.span).collect();
                    prop_assert_eq!(spans, [gpt.partitions()[0].span, to]);
                } else {
                    prop_assert_eq!(damaged, Some(size.get() - 512), "both copies are gone");
                }
            }
            prop_assert!(gpt.with_spans(&[(9, to)]).is_err());
        }
    }
}
