//! The master boot record, and its chain of extended boot records.
//!
//! The first sector holds boot code, a 32-bit disk signature, four entries and a mark:
//!
//! ```text
//!   0  boot code (440)
//! 440  disk signature (4, little-endian)
//! 446  4 entries of 16: status, CHS start (3), type, CHS end (3), first sector (4), count (4)
//! 510  0x55 0xaa
//! ```
//!
//! An entry of type 0x05, 0x0f or 0x85 is an extended partition. Its first sector is a record of the same format: entry
//! 0 is a logical partition, relative to that record, and entry 1 is the next record, relative to the start of the
//! extended partition.

use super::{Partition, PartitionKind, Relaid};
use crate::table::TableFinding;
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    read_up_to,
    units::{ByteLen, ByteOffset, Lba, SectorCount, SectorSize, Span},
};

/// Bytes of a record, whatever the sector size.
pub(super) const RECORD: usize = 512;
const SIGNATURE: usize = 440;
const ENTRIES: usize = 446;
const ENTRY: usize = 16;
const MARK: usize = 510;
/// More logical partitions than any system numbers; a longer chain is a loop or an attack.
const MOST_LOGICAL: usize = 128;

/// A master boot record with its logical partitions.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Mbr {
    sector: SectorSize,
    record: Vec<u8>,
    partitions: Vec<MbrPartition>,
    chain: Vec<Link>,
    findings: Vec<TableFinding>,
}

/// A record of the chain of logical partitions.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Link {
    at: Lba,
    record: Vec<u8>,
    /// The number of its partition.
    logical: Option<u32>,
}

/// The same at its new place.
struct MovedLink {
    at: Lba,
    record: Vec<u8>,
    /// The range of its partition.
    span: Span,
}

/// An entry of a master boot record or of its chain.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MbrPartition {
    /// 1 to 4 for the record's own entries, from 5 along the chain.
    pub number: u32,
    /// The type byte.
    pub kind: u8,
    /// True if it is marked active.
    pub active: bool,
    /// Its first sector, from the start of the card.
    pub start: Lba,
    /// How many sectors it has.
    pub sectors: SectorCount,
}

impl MbrPartition {
    /// Returns whether it is only the container of logical partitions.
    #[must_use]
    pub fn is_extended(&self) -> bool {
        matches!(self.kind, 0x05 | 0x0f | 0x85)
    }
}

/// An entry as found, `None` when the slot is empty; numbers are relative to whatever holds it.
struct MbrEntry {
    status: u8,
    kind: u8,
    first: u32,
    count: u32,
}

fn entry(record: &[u8], index: usize) -> Option<MbrEntry> {
    let at = index.checked_mul(ENTRY)?.checked_add(ENTRIES)?;
    let raw: [u8; ENTRY] = bytes::array(record, at)?;
    let entry = MbrEntry {
        status: bytes::u8(&raw, 0)?,
        kind: bytes::u8(&raw, 4)?,
        first: bytes::le_u32(&raw, 8)?,
        count: bytes::le_u32(&raw, 12)?,
    };
    (entry.kind != 0 && entry.count != 0).then_some(entry)
}

/// Returns whether a record has the signature and plausible entries. The boot sector of a volume has the same
/// signature, with code or text in place of the entries.
pub(super) fn is_table(record: &[u8]) -> bool {
    bytes::le_u16(record, MARK) == Some(0xaa55)
        && (0..4usize).all(|index| {
            let status = record.get(ENTRIES.saturating_add(index.saturating_mul(ENTRY))).copied();
            matches!(status, Some(0 | 0x80))
        })
        && (0..4).filter_map(|index| entry(record, index)).all(|entry| entry.first != 0)
}

/// Returns whether any of the four entries is a GPT's protective one.
pub(super) fn is_protective(record: &[u8]) -> bool {
    is_table(record) && (0..4).filter_map(|i| entry(record, i)).any(|e| e.kind == 0xee)
}

impl Mbr {
    /// Reads the record of `store` with sectors of `sector`; `None` if it has no record.
    ///
    /// # Errors
    /// When the store cannot be read. A broken or endless chain ends at the fault, which is one of the findings.
    pub fn read(store: &dyn ReadAt, sector: SectorSize) -> Result<Option<Self>> {
        let record = read_up_to(store, ByteOffset::ZERO, RECORD)?;
        if !is_table(&record) {
            return Ok(None);
        }
        let mut mbr = Self {
            sector,
            partitions: Vec::new(),
            chain: Vec::new(),
            findings: Vec::new(),
            record,
        };
        for (index, number) in (0..4).zip(1..) {
            if let Some(entry) = entry(&mbr.record, index) {
                mbr.partitions.push(MbrPartition {
                    number,
                    kind: entry.kind,
                    active: entry.status == 0x80,
                    start: Lba::new(entry.first.into()),
                    sectors: SectorCount::new(entry.count.into()),
                });
            }
        }
        let containers: Vec<_> =
            mbr.partitions.iter().copied().filter(MbrPartition::is_extended).collect();
        for container in containers {
            mbr.follow_chain(store, container)?;
        }
        mbr.look_for_overlaps();
        Ok(Some(mbr))
    }

    fn follow_chain(&mut self, store: &dyn ReadAt, container: MbrPartition) -> Result<()> {
        let mut at = container.start;
        let mut seen = vec![at];
        while let Some(offset) = self.sector.offset_of(at) {
            let record = read_up_to(store, offset, RECORD)?;
            if bytes::le_u16(&record, MARK) != Some(0xaa55) {
                self.findings.push(TableFinding::ChainBreaks { at });
                break;
            }
            let mut link = Link { at, record: record.clone(), logical: None };
            if let Some(logical) = entry(&record, 0)
                && let Some(start) = at.checked_add(SectorCount::new(logical.first.into()))
            {
                let logicals = self.partitions.iter().filter(|p| p.number > 4).count();
                let number = u32::try_from(logicals).unwrap_or(u32::MAX).saturating_add(5);
                link.logical = Some(number);
                self.partitions.push(MbrPartition {
                    number,
                    kind: logical.kind,
                    active: logical.status == 0x80,
                    start,
                    sectors: SectorCount::new(logical.count.into()),
                });
            }
            self.chain.push(link);
            let Some(next) = entry(&record, 1) else { break };
            let Some(next) = container.start.checked_add(SectorCount::new(next.first.into()))
            else {
                break;
            };
            if seen.contains(&next) || seen.len() >= MOST_LOGICAL {
                self.findings.push(TableFinding::ChainIsACircle { at: next });
                break;
            }
            seen.push(next);
            at = next;
        }
        Ok(())
    }

    fn look_for_overlaps(&mut self) {
        let mut parts = self.partitions();
        parts.sort_by_key(|part| part.span);
        for pair in parts.windows(2) {
            if let [before, after] = pair
                && before.span.intersect(after.span).is_some()
            {
                let (first, second) = (before.number, after.number);
                self.findings.push(TableFinding::Overlap { first, second });
            }
        }
    }

    /// The disk signature: systems build `PARTUUID`s from it.
    #[must_use]
    pub fn signature(&self) -> u32 {
        bytes::le_u32(&self.record, SIGNATURE).unwrap_or(0)
    }

    /// The changes that give the table the disk signature `signature`.
    #[must_use]
    pub fn with_signature(signature: u32) -> Vec<(ByteOffset, Vec<u8>)> {
        let at = ByteOffset::new(ByteLen::from_usize(SIGNATURE).get());
        vec![(at, signature.to_le_bytes().to_vec())]
    }

    /// The same table on a card of `size` bytes, with some partitions, each by its number, at new
    /// places. The container of logical partitions and the chain of their records follow; a
    /// container without any that has no room any more is truncated, or left out.
    ///
    /// # Errors
    /// [`crate::Class::Unsupported`] when the format can't represent an offset, or the chain is invalid.
    pub fn with_spans(&self, spans: &[(u32, Span)], size: ByteLen) -> Result<Relaid> {
        let containers = self.partitions.iter().filter(|part| part.is_extended()).count();
        let logicals = spans.iter().any(|(number, _)| *number > 4);
        if logicals && (containers != 1 || !self.findings.is_empty()) {
            return Err(Error::unsupported("the chain of its logical partitions is invalid"));
        }
        self.replaced(spans, size).ok_or_else(|| {
            Error::unsupported("a partition would lie where this table cannot count to")
        })
    }

    fn replaced(&self, spans: &[(u32, Span)], size: ByteLen) -> Option<Relaid> {
        let mut record = self.record.clone();
        let mut relaid = Relaid::default();
        for (number, span) in spans.iter().filter(|(number, _)| *number <= 4) {
            let index = usize::try_from(number.checked_sub(1)?).ok()?;
            self.put_entry(&mut record, index, Lba::new(0), *span)?;
        }
        let chain_moves = spans.iter().any(|(number, _)| *number > 4);
        for container in self.partitions.iter().filter(|part| part.is_extended()) {
            let index = usize::try_from(container.number.checked_sub(1)?).ok()?;
            let span = if chain_moves {
                self.move_chain(spans, &mut relaid.edits)
            } else {
                self.room_for(container, spans, size)
            };
            match span? {
                span if !span.is_empty() => {
                    self.put_entry(&mut record, index, Lba::new(0), span)?;
                }
                _ => {
                    let at = index.checked_mul(ENTRY)?.checked_add(ENTRIES)?;
                    bytes::put(&mut record, at, [0; ENTRY])?;
                    relaid.left_out.push(container.number);
                }
            }
        }
        if record != self.record {
            relaid.edits.push((ByteOffset::ZERO, record));
        }
        relaid.edits.sort_by_key(|(at, _)| *at);
        Some(relaid)
    }

    /// Builds the records of a chain with partitions at `spans`; returns their ranges.
    fn move_chain(
        &self,
        spans: &[(u32, Span)],
        edits: &mut Vec<(ByteOffset, Vec<u8>)>,
    ) -> Option<Span> {
        let links = self.moved_links(spans)?;
        let start = links.first()?.at;
        for (index, link) in links.iter().enumerate() {
            let mut record = link.record.clone();
            self.put_entry(&mut record, 0, link.at, link.span)?;
            match links.get(index.checked_add(1)?) {
                Some(next) => {
                    let reach = Span::between(self.sector.offset_of(next.at)?, next.span.end());
                    self.put_entry(&mut record, 1, start, reach)?;
                }
                None => bytes::put(&mut record, ENTRIES.checked_add(ENTRY)?, [0; ENTRY])?,
            }
            edits.push((self.sector.offset_of(link.at)?, record));
        }
        let end = links.iter().map(|link| link.span.end()).max()?;
        Some(Span::between(self.sector.offset_of(start)?, end))
    }

    /// The chain, with every record at the same distance before its partition. Records without a partition, which some
    /// tools leave when they delete one, are omitted.
    fn moved_links(&self, spans: &[(u32, Span)]) -> Option<Vec<MovedLink>> {
        let links = self.chain.iter().filter_map(|link| Some((link, link.logical?)));
        let moved = links.map(|(link, number)| {
            let part = self.partitions.iter().find(|part| part.number == number)?;
            let was = self.sector.span_of(part.start, part.sectors)?;
            let span = spans.iter().find(|(number, _)| *number == part.number);
            let span = span.map_or(was, |(_, span)| *span);
            let ahead = part.start.get().checked_sub(link.at.get())?;
            let first = self.sector.sectors_in(ByteLen::new(span.start().get())).get();
            let at = Lba::new(first.checked_sub(ahead)?);
            Some(MovedLink { at, record: link.record.clone(), span })
        });
        moved.collect()
    }

    /// The space of an extended partition with unmoved partitions that remains when others are at `spans` and the card
    /// ends at `size`; empty if none remains.
    fn room_for(
        &self,
        container: &MbrPartition,
        spans: &[(u32, Span)],
        size: ByteLen,
    ) -> Option<Span> {
        let whole = self.sector.span_of(container.start, container.sectors)?;
        let mut end = whole.end().min(ByteOffset::new(size.get()));
        for (_, place) in spans.iter().filter(|(_, place)| place.intersect(whole).is_some()) {
            // A partition is where its first record was: no space is left.
            end = end.min(place.start().max(whole.start()));
        }
        for part in self.partitions.iter().filter(|part| part.number > 4) {
            let inside = self.sector.span_of(part.start, part.sectors)?.intersect(whole);
            end = end.max(inside.map_or(end, Span::end));
        }
        Some(Span::between(whole.start(), end.max(whole.start())))
    }

    /// Writes `span` to an entry of `record`, whose numbers are relative to `base`.
    fn put_entry(&self, record: &mut [u8], index: usize, base: Lba, span: Span) -> Option<()> {
        let start = self.sector.sectors_in(ByteLen::new(span.start().get())).get();
        let first = start.checked_sub(base.get())?;
        put_extent(record, index, (first, self.sector.sectors_in(span.len()).get()))
    }

    /// The entries as found, containers included.
    #[must_use]
    pub fn entries(&self) -> &[MbrPartition] {
        &self.partitions
    }

    pub(super) fn partitions(&self) -> Vec<Partition> {
        let real = self.partitions.iter().filter(|entry| !entry.is_extended());
        real.filter_map(|entry| {
            Some(Partition {
                number: entry.number,
                span: self.sector.span_of(entry.start, entry.sectors)?,
                kind: PartitionKind::Mbr(entry.kind),
                name: None,
                uuid: (self.signature() != 0)
                    .then(|| format!("{:08x}-{:02x}", self.signature(), entry.number)),
                bootable: entry.active,
            })
        })
        .collect()
    }

    pub(super) fn sector_size(&self) -> SectorSize {
        self.sector
    }

    pub(super) fn findings(&self) -> &[TableFinding] {
        &self.findings
    }
}

/// The protective record of a GPT, changed to cover a card of `sectors`; `None` when it shares its
/// table with real partitions (a hybrid).
pub(super) fn protective_for(record: &[u8], sectors: SectorCount) -> Option<Vec<u8>> {
    let real = (0..4).filter_map(|index| entry(record, index)).filter(|e| e.kind != 0xee).count();
    let index = (0..4).find(|index| entry(record, *index).is_some_and(|e| e.kind == 0xee))?;
    if real > 0 {
        return None;
    }
    let mut record = record.to_vec();
    let at = ENTRIES.checked_add(ENTRY.checked_mul(index)?)?;
    let count = u32::try_from(sectors.get().saturating_sub(1)).unwrap_or(u32::MAX);
    bytes::put(&mut record, at.checked_add(12)?, count.to_le_bytes())?;
    Some(record)
}

/// Consecutive sectors: the first, and their number.
pub(super) type Extent = (u64, u64);

/// The entries of a hybrid record that are no protective ones.
pub(super) fn shared_entries(record: &[u8]) -> impl Iterator<Item = Extent> + '_ {
    let real = (0..4).filter_map(|index| entry(record, index)).filter(|entry| entry.kind != 0xee);
    real.map(|entry| (entry.first.into(), entry.count.into()))
}

/// Has an entry of `record` be `extent`; `None` when that cannot be counted.
fn put_extent(record: &mut [u8], index: usize, (first, count): Extent) -> Option<()> {
    let (first, count) = (u32::try_from(first).ok()?, u32::try_from(count).ok()?);
    let at = index.checked_mul(ENTRY)?.checked_add(ENTRIES)?;
    // The old way to count ends at 8 GB; this is its word for "further on".
    let far = [0xfe, 0xff, 0xff];
    let was = entry(record, index)?;
    if was.first != first {
        bytes::put(record, at.checked_add(1)?, far)?;
    }
    if was.first != first || was.count != count {
        bytes::put(record, at.checked_add(5)?, far)?;
    }
    bytes::put(record, at.checked_add(8)?, first.to_le_bytes())?;
    bytes::put(record, at.checked_add(12)?, count.to_le_bytes())
}

/// A hybrid record with its entries moved along with their partitions. A protective entry that ended at the start of a
/// partition ends there again.
///
/// `None` if an entry refers to none of them, or the result would overlap or exceed the range of numbers.
pub(super) fn hybrid_following(record: &[u8], moves: &[(Extent, Extent)]) -> Option<Vec<u8>> {
    let mut new = record.to_vec();
    let mut protective = Vec::new();
    for index in 0..4usize {
        let Some(was) = entry(record, index) else { continue };
        let (first, count) = (u64::from(was.first), u64::from(was.count));
        let now = if was.kind == 0xee {
            let behind = first.checked_add(count)?;
            let next = moves.iter().find(|((start, _), _)| *start == behind);
            let end = next.map_or(behind, |(_, (start, _))| *start);
            let now = (first, end.checked_sub(first)?);
            protective.push(now);
            now
        } else {
            moves.iter().find(|(from, _)| *from == (first, count)).map(|(_, to)| *to)?
        };
        put_extent(&mut new, index, now)?;
    }
    let overlaps =
        |a: Extent, b: Extent| a.0 < b.0.saturating_add(b.1) && b.0 < a.0.saturating_add(a.1);
    let is_sound =
        shared_entries(&new).all(|one| protective.iter().all(|other| !overlaps(one, *other)));
    is_sound.then_some(new)
}

/// A hybrid record on a card of `is` sectors: a protective entry that reached to the end of the one
/// of `was` sectors reaches to the end again.
pub(super) fn hybrid_on(record: &[u8], was: SectorCount, is: SectorCount) -> Option<Vec<u8>> {
    let mut new = record.to_vec();
    for index in 0..4usize {
        let Some(found) = entry(record, index).filter(|found| found.kind == 0xee) else { continue };
        let end = u64::from(found.first).checked_add(found.count.into())?;
        if end == was.get() || found.count == u32::MAX {
            let at = index.checked_mul(ENTRY)?.checked_add(ENTRIES)?.checked_add(12)?;
            let count = is.get().checked_sub(found.first.into())?;
            let count = u32::try_from(count).unwrap_or(u32::MAX);
            bytes::put(&mut new, at, count.to_le_bytes())?;
        }
    }
    Some(new)
}

pub(super) fn type_words(kind: u8) -> Option<&'static str> {
    Some(match kind {
        0x01 => "FAT12",
        0x04 | 0x06 | 0x0e => "FAT16",
        0x07 => "NTFS or exFAT",
        0x0b | 0x0c => "FAT32",
        0x82 => "Linux swap",
        0x83 => "Linux",
        0x8e => "Linux LVM",
        0xa2 => "boot loader",
        0xda => "raw data",
        0xee => "GPT protective",
        0xef => "EFI system",
        0xfd => "Linux RAID",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{SparseStore, WriteAt};
    use proptest::prelude::*;

    /// A record with the entries (kind, first, count).
    fn record(entries: &[(u8, u32, u32)]) -> Vec<u8> {
        let mut record = vec![0; RECORD];
        for (index, (kind, first, count)) in entries.iter().enumerate() {
            let at = ENTRIES + index * ENTRY;
            record[at + 4] = *kind;
            record[at + 8..at + 12].copy_from_slice(&first.to_le_bytes());
            record[at + 12..at + 16].copy_from_slice(&count.to_le_bytes());
        }
        record[MARK..].copy_from_slice(&[0x55, 0xaa]);
        record
    }

    fn card(records: &[(u64, Vec<u8>)]) -> SparseStore {
        let store = SparseStore::new(ByteLen::mib(64));
        for (sector, record) in records {
            store.write_at(ByteOffset::new(sector * 512), record).unwrap();
        }
        store
    }

    fn read(store: &SparseStore) -> Mbr {
        Mbr::read(store, SectorSize::B512).unwrap().unwrap()
    }

    #[test]
    fn logical_partitions_are_numbered_along_their_chain() {
        let mbr = read(&card(&[
            (0, record(&[(0x0c, 2048, 4096), (0x0f, 8192, 65536)])),
            (8192, record(&[(0x83, 2048, 1000), (0x05, 4096, 10000)])),
            (8192 + 4096, record(&[(0x82, 64, 500)])),
        ]));
        let found: Vec<_> =
            mbr.partitions().iter().map(|p| (p.number, p.span.start().get() / 512)).collect();
        assert_eq!(found, [(1, 2048), (5, 8192 + 2048), (6, 8192 + 4096 + 64)]);
        assert_eq!(mbr.findings(), []);
    }

    #[test]
    fn cyclic_chain_is_reported() {
        let mbr = read(&card(&[
            (0, record(&[(0x05, 8192, 65536)])),
            (8192, record(&[(0x83, 64, 100), (0x05, 4096, 100)])),
            (8192 + 4096, record(&[(0x83, 64, 100), (0x05, 0xffff_f000 - 0x1000, 100)])),
        ]));
        assert_eq!(mbr.partitions().len(), 2);
        let circle = read(&card(&[
            (0, record(&[(0x05, 8192, 65536)])),
            (8192, record(&[(0x83, 64, 100), (0x05, 4096, 100)])),
            (8192 + 4096, record(&[(0x83, 64, 100), (0x05, 4096, 100)])),
        ]));
        assert_eq!(circle.findings(), [TableFinding::ChainIsACircle { at: Lba::new(12288) }]);
    }

    #[test]
    fn overlapping_partitions_are_named() {
        let mbr = read(&card(&[(0, record(&[(0x83, 2048, 4096), (0x83, 4096, 4096)]))]));
        assert_eq!(mbr.findings(), [TableFinding::Overlap { first: 1, second: 2 }]);
    }

    #[test]
    fn boot_sector_with_text_in_place_of_entries_is_no_table() {
        let mut sector = record(&[]);
        sector[440..].fill(b'x');
        sector[MARK..].copy_from_slice(&[0x55, 0xaa]);
        assert!(Mbr::read(&SparseStore::of(&sector), SectorSize::B512).unwrap().is_none());
        assert!(Mbr::read(&SparseStore::of(b""), SectorSize::B512).unwrap().is_none());
    }

    #[test]
    fn protective_record_follows_the_card_size() {
        let protective = record(&[(0xee, 1, 1000)]);
        let grown = protective_for(&protective, SectorCount::new(5000)).unwrap();
        assert_eq!(entry(&grown, 0).unwrap().count, 4999);
        let huge = protective_for(&protective, SectorCount::new(1 << 40)).unwrap();
        assert_eq!(entry(&huge, 0).unwrap().count, u32::MAX);
        let hybrid = record(&[(0xee, 1, 1000), (0x0c, 2048, 100)]);
        assert_eq!(protective_for(&hybrid, SectorCount::new(5000)), None);
    }

    #[test]
    fn hybrid_entries_follow_the_partitions_they_share() {
        let hybrid = record(&[(0xee, 1, 2047), (0x0c, 2048, 100), (0xee, 4096, 904)]);
        let extents = |record: &[u8]| -> Vec<Extent> {
            let all = (0..4).filter_map(|index| entry(record, index));
            all.map(|entry| (entry.first.into(), entry.count.into())).collect()
        };
        // Moved and longer: the protective entry before it ends at its start.
        let moves = [((2048, 100), (3000, 200)), ((2148, 300), (3200, 300))];
        let moved = hybrid_following(&hybrid, &moves).unwrap();
        assert_eq!(extents(&moved), [(1, 2999), (3000, 200), (4096, 904)]);
        // The one after it reached to the end of the card.
        let on = |sectors| hybrid_on(&hybrid, SectorCount::new(5000), SectorCount::new(sectors));
        assert_eq!(extents(&on(9000).unwrap())[2], (4096, 4904));
        assert_eq!(
            on(9000).map(|new| extents(&new)[..2].to_vec()).unwrap(),
            [(1, 2047), (2048, 100)]
        );
        // Entries that the other table does not have cannot follow, nor may entries overlap.
        assert_eq!(hybrid_following(&hybrid, &[((2048, 101), (2048, 101))]), None);
        assert_eq!(hybrid_following(&hybrid, &[((2048, 100), (2048, 2100))]), None);
        assert_eq!(hybrid_following(&hybrid, &[((2048, 100), (1 << 33, 100))]), None);
    }

    proptest! {
        #[test]
        fn moved_partitions_are_read_back(
            lens in proptest::collection::vec((1u32..3000, 64u32..2048), 1..5),
            own in 1u32..2000,
            shift in -1500i64..40_000,
            grown in 1u64..5000,
        ) {
            // A primary partition, followed by a chain of logical ones, each (length, distance from its record).
            let start = 8192;
            let mut at = start;
            let mut records = Vec::new();
            for (index, (len, ahead)) in lens.iter().enumerate() {
                let mut entries = vec![(0x83, *ahead, *len)];
                let next = at + ahead + len;
                if index + 1 < lens.len() {
                    let (len, ahead) = lens[index + 1];
                    entries.push((0x05, next - start, ahead + len));
                }
                records.push((u64::from(at), record(&entries)));
                at = next;
            }
            let container = (0x0f, start, at - start);
            records.insert(0, (0, record(&[(0x0c, 2048, own), container])));
            let store = card(&records);
            let mbr = read(&store);
            prop_assert_eq!(mbr.findings(), []);
            let before = mbr.partitions();
            let spans: Vec<(u32, Span)> = before
                .iter()
                .map(|part| {
                    let shift = if part.number > 4 { shift * 512 } else { 0 };
                    let start = part.span.start().get().checked_add_signed(shift).unwrap();
                    let end = start + part.span.len().get();
                    (part.number, Span::between(ByteOffset::new(start), ByteOffset::new(end)))
                })
                .collect();
            let mut wanted = spans.clone();
            // The last one is also extended.
            if let Some((_, span)) = wanted.last_mut() {
                let end = span.end().get() + grown * 512;
                *span = Span::between(span.start(), ByteOffset::new(end));
            }
            let moved = SparseStore::new(ByteLen::mib(64));
            for (at, bytes) in mbr.with_spans(&wanted, ByteLen::mib(64)).unwrap().edits {
                moved.write_at(at, &bytes).unwrap();
            }
            let after = read(&moved);
            prop_assert_eq!(after.findings(), []);
            let found: Vec<_> =
                after.partitions().iter().map(|part| (part.number, part.span)).collect();
            prop_assert_eq!(found, wanted.clone());
            let container = after.entries().iter().find(|part| part.is_extended()).unwrap();
            let whole = after.sector.span_of(container.start, container.sectors).unwrap();
            prop_assert_eq!(whole.end(), wanted.last().unwrap().1.end());
            // Without changes, nothing is rewritten.
            let same: Vec<_> = before.iter().map(|part| (part.number, part.span)).collect();
            for (at, bytes) in mbr.with_spans(&same, ByteLen::mib(64)).unwrap().edits {
                let stands = imbrik_store::read_vec(&store, at, bytes.len()).unwrap();
                prop_assert!(bytes == stands, "at {}", at);
            }
        }
    }

    #[test]
    fn empty_extended_partition_fills_the_rest_or_is_removed_with_a_note() {
        let mbr = read(&card(&[
            (0, record(&[(0x83, 2048, 4096), (0x0f, 8192, 4096)])),
            (8192, record(&[])),
        ]));
        let laid = |end: u64, sectors: u64| {
            let span = Span::between(ByteOffset::new(2048 * 512), ByteOffset::new(end * 512));
            let relaid = mbr.with_spans(&[(1, span)], ByteLen::new(sectors * 512)).unwrap();
            let head = relaid.edits.last().map_or(mbr.record.clone(), |(_, head)| head.clone());
            (entry(&head, 1).map(|it| (it.first, it.count)), relaid.left_out.len())
        };
        assert_eq!(laid(6144, 100_000), (Some((8192, 4096)), 0));
        assert_eq!(laid(6144, 10_000), (Some((8192, 1808)), 0));
        assert_eq!(laid(6144, 8000), (None, 1));
        assert_eq!(laid(9000, 100_000), (None, 1));
    }

    #[test]
    fn address_beyond_32_bits_is_refused() {
        let mbr = read(&card(&[(0, record(&[(0x83, 2048, 4096)]))]));
        let far =
            |start: u64, end: u64| Span::between(ByteOffset::new(start), ByteOffset::new(end));
        assert!(mbr.with_spans(&[(1, far(1 << 20, 1 << 50))], ByteLen::mib(64)).is_err());
        assert!(mbr.with_spans(&[(2, far(1 << 20, 1 << 21))], ByteLen::mib(64)).is_err());
        assert!(mbr.with_spans(&[(5, far(1 << 20, 1 << 21))], ByteLen::mib(64)).is_err());
    }
}
