//! The survey of a card or an image: its table, partitions and volumes. It reads metadata only.

use crate::{
    layout::Finding,
    table::{self, Mbr, PartitionKind, Table},
};
use imbrik_fs::{Files, OpenVolume, Volume, recognise, recognise_by_copy};
use imbrik_store::{
    Patient, ReadAt, Window,
    bytes::is_zero,
    error::{Result, if_readable},
    read_up_to,
    units::{ByteLen, ByteOffset, SectorSize, Span, joined},
};
use std::sync::Arc;

/// The content of a card or an image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Survey {
    /// Its size.
    pub size: ByteLen,
    /// The sector size of its table; that of the store without a table.
    pub sector: SectorSize,
    /// Its partition table; `None` for a bare volume and for unknown content.
    pub table: Option<Table>,
    /// Its partitions, sorted by number; a volume on a bare card is a partition without a number.
    pub parts: Vec<Part>,
    /// The ranges outside of all partitions, in order. They contain tables and boot loaders.
    pub gaps: Vec<Span>,
    /// The host name, if a volume contains one.
    pub host: Option<String>,
    /// The name of the operating system, if a volume contains one.
    pub system: Option<String>,
    /// The last write to one of its volumes, in seconds since 1970, if recorded.
    pub written: Option<u64>,
    /// The sum of the mount counts of its volumes, if recorded.
    pub mounts: u64,
    /// Findings about the table and the volumes.
    pub findings: Vec<Finding>,
    /// Unreadable ranges of metadata, in order and joined. A volume with such a range is read as a whole.
    pub unreadable: Vec<Span>,
    /// Why it can only be copied as a whole, and no volume resized; `None` if its volumes can be examined separately.
    pub whole_because: Option<&'static str>,
    /// True if nothing was recognised and the first MiB is zeros.
    pub is_blank: bool,
}

/// The free space that partitioning tools leave after the last partition of a full card.
const LEFT_BEHIND: ByteLen = ByteLen::mib(4);

/// Bytes that are read of unrecognised content to find out whether the card is blank.
const BLANK_HEAD: usize = 1 << 20;

/// A partition and its content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// Its number in the table; `None` for a volume on a bare card.
    pub number: Option<u32>,
    /// Its location, which may extend past the end of the card: see [`Survey::findings`].
    pub span: Span,
    /// Its type in the table.
    pub kind: Option<PartitionKind>,
    /// Its name in the table.
    pub name: Option<String>,
    /// Its id in the table (`PARTUUID`).
    pub uuid: Option<String>,
    /// True if it is marked as bootable.
    pub bootable: bool,
    /// The volume in it, recognised by content; `None` if it is unknown.
    pub volume: Option<Volume>,
}

impl Survey {
    /// Returns whether `again`, a later survey, shows that the card was written to or exchanged.
    #[must_use]
    pub fn has_changed(&self, again: &Self) -> bool {
        let told = |survey: &Self| (survey.fingerprint(), survey.written, survey.mounts);
        // Ranges that could be read at only one of the times are not evidence.
        self.unreadable == again.unreadable && told(self) != told(again)
    }

    /// Surveys `store`. Unreadable sectors are not an error: they are retried, then replaced by backup copies of the
    /// metadata, or ignored.
    ///
    /// # Errors
    /// When the card is gone, or access is denied.
    pub fn of(store: &dyn ReadAt) -> Result<Self> {
        let patient = Patient::blank(store);
        let mut survey = Self::of_readable(&patient)?;
        survey.unreadable = patient.lost();
        survey.ask_volumes(&Patient::new(store))?;
        if survey.unreadable.is_empty() {
            return Ok(survey);
        }
        survey.is_blank = false;
        survey.take_copies(&patient)?;
        for (place, len) in survey.places_of(&survey.unreadable) {
            survey.findings.push(Finding::Unreadable { len, place });
        }
        Ok(survey)
    }

    /// Recognises volumes with unreadable metadata by their backup copies.
    fn take_copies(&mut self, store: &dyn ReadAt) -> Result<()> {
        for part in &mut self.parts {
            let place = part.span.intersect(Span::whole(self.size));
            let Some(place) = place.filter(|place| touches(&self.unreadable, *place)) else {
                continue;
            };
            if part.volume.is_none() {
                part.volume = recognise_by_copy(&Window::new(store, place)?)?;
                if part.volume.is_some() {
                    self.findings.push(Finding::NamedByCopy { title: part.full_title() });
                }
            }
        }
        Ok(())
    }

    /// Returns whether some metadata in `span` could not be read.
    #[must_use]
    pub fn is_unreadable_in(&self, span: Span) -> bool {
        touches(&self.unreadable, span)
    }

    /// Reads host name, system and times from the volumes.
    fn ask_volumes(&mut self, store: &dyn ReadAt) -> Result<()> {
        for part in &self.parts {
            let place = part.span.intersect(Span::whole(self.size));
            let (Some(volume), Some(place)) = (&part.volume, place) else { continue };
            let window = Window::new(store, place)?;
            let files = if_readable(volume.files(&window))?.flatten();
            let files = files.as_deref();
            let told = (
                if_readable(host_in(files))?.flatten(),
                if_readable(system_in(files))?.flatten(),
                if_readable(volume.history(&window))?.unwrap_or_default(),
            );
            self.host = self.host.take().or(told.0);
            self.system = self.system.take().or(told.1);
            self.written = self.written.max(told.2.written);
            self.mounts = self.mounts.saturating_add(told.2.mounts);
        }
        Ok(())
    }

    fn of_readable(store: &dyn ReadAt) -> Result<Self> {
        let size = store.size();
        let found = table::read(store)?;
        let bare = match &found {
            Some(table) if !table.partitions().is_empty() => None,
            _ => recognise(store)?,
        };
        let mut findings = Vec::new();
        let (table, parts) = match (found, bare) {
            (_, Some(volume)) => (None, vec![Part::bare(volume, size)]),
            (Some(table), None) => {
                findings.extend(table.findings().iter().cloned().map(Finding::Table));
                let parts = table.partitions().into_iter().map(|partition| {
                    let inside = partition.span.intersect(Span::whole(size));
                    let volume = match inside {
                        Some(span) => recognise(&Window::new(store, span)?)?,
                        None => None,
                    };
                    Ok(Part {
                        number: Some(partition.number),
                        span: partition.span,
                        kind: Some(partition.kind),
                        name: partition.name,
                        uuid: partition.uuid,
                        bootable: partition.bootable,
                        volume,
                    })
                });
                let parts = parts.collect::<Result<Vec<_>>>()?;
                (Some(table), parts)
            }
            (None, None) => (None, Vec::new()),
        };
        for part in &parts {
            part.look_for_faults(size, &mut findings);
        }
        let whole_because = whole_because(store, table.as_ref(), &parts)?;
        let sector = table.as_ref().map_or(store.sector_size(), Table::sector_size);
        let gaps = gaps_between(&parts, size);
        let is_unknown = table.is_none() && parts.is_empty() && whole_because.is_none();
        let is_blank = is_unknown && is_zero(&read_up_to(store, ByteOffset::ZERO, BLANK_HEAD)?);
        Ok(Self {
            size,
            sector,
            table,
            parts,
            gaps,
            host: None,
            system: None,
            written: None,
            mounts: 0,
            findings,
            unreadable: Vec::new(),
            whole_because,
            is_blank,
        })
    }

    /// Returns whether its last partition extends to the end of the card, except for the space that tools leave: up to
    /// an erase block, or the backup of a GPT.
    #[must_use]
    pub fn reaches_end(&self) -> bool {
        let last = self.parts.iter().map(|part| part.span.end()).max();
        last.is_some_and(|last| self.size.saturating_sub(ByteLen::new(last.get())) <= LEFT_BEHIND)
    }

    /// Returns whether nothing was recognised.
    #[must_use]
    pub fn is_unknown(&self) -> bool {
        self.table.is_none() && self.parts.is_empty() && self.whole_because.is_none()
    }

    /// Bytes that are missing after the end of the store, according to the table or, on a bare card, the volume: the
    /// image is truncated.
    #[must_use]
    pub fn missing(&self) -> ByteLen {
        let needed = self.parts.iter().map(|part| match (&self.table, &part.volume) {
            (None, Some(volume)) => volume.size,
            _ => ByteLen::new(part.span.end().get()),
        });
        needed.max().unwrap_or_default().saturating_sub(self.size)
    }

    /// The minimum size of a card for all partitions at their present places and, with a GPT, its backup.
    #[must_use]
    pub fn needed(&self) -> ByteLen {
        let last = self.parts.iter().map(|part| part.span.end()).max().unwrap_or_default();
        let end = match &self.table {
            Some(Table::Gpt(gpt)) => {
                let copy = gpt.backup_span().map_or(ByteLen::ZERO, Span::len);
                last.saturating_add(copy)
            }
            _ => last,
        };
        ByteLen::new(end.get())
    }

    /// The name of the card for users: its host name, or else its label.
    #[must_use]
    pub fn name(&self) -> Option<&str> {
        self.host.as_deref().or(self.label())
    }

    /// The label of the card: that of its largest labelled volume.
    #[must_use]
    pub fn label(&self) -> Option<&str> {
        let labelled = self.parts.iter().filter_map(|part| {
            let label = part.volume.as_ref()?.label.as_deref()?;
            Some((part.span.len(), label))
        });
        labelled.max_by_key(|(len, _)| *len).map(|(_, label)| label)
    }

    /// The ids of its table and volumes. Two connected cards with a common id confuse systems that mount by id.
    #[must_use]
    pub fn ids(&self) -> Vec<String> {
        let table = self.table.iter().map(Table::id).filter(|id| !id.trim_matches('0').is_empty());
        let volumes = self.parts.iter().filter_map(|part| part.volume.as_ref()?.uuid.clone());
        table.chain(volumes).collect()
    }

    /// The bytes of `spans`, which are joined, in each partition and outside of all, in card order: "partition 2 (ext4,
    /// hive-07)".
    #[must_use]
    pub fn places_of(&self, spans: &[Span]) -> Vec<(String, ByteLen)> {
        let parts = self.parts.iter().map(|part| (part.span, part.full_title()));
        let gaps =
            self.gaps.iter().map(|gap| (*gap, format!("unallocated space at {}", gap.start())));
        let mut places: Vec<_> = parts.chain(gaps).collect();
        places.sort_by_key(|(place, _)| *place);
        let inside = |place: Span| -> ByteLen {
            spans.iter().filter_map(|span| span.intersect(place)).map(Span::len).sum()
        };
        let counted = places.into_iter().map(|(place, title)| (title, inside(place)));
        counted.filter(|(_, len)| !len.is_zero()).collect()
    }

    /// A digest of the ids of table and volumes, to verify later that the card is the same.
    #[must_use]
    pub fn fingerprint(&self) -> String {
        let mut hasher = blake3::Hasher::new();
        let table = self.table.as_ref().map(|table| (table.name(), table.id()));
        hasher.update(format!("{} {table:?}", self.size).as_bytes());
        for part in &self.parts {
            hasher.update(format!("{:?} {} {:?}", part.number, part.span, part.volume).as_bytes());
        }
        hasher.finalize().to_hex().as_str().chars().take(32).collect()
    }
}

fn touches(spans: &[Span], place: Span) -> bool {
    spans.iter().any(|span| span.intersect(place).is_some())
}

impl Part {
    /// The location on the card of `spans` of its volume, limited to the partition.
    pub(crate) fn on_card(&self, spans: impl IntoIterator<Item = Span>) -> Vec<Span> {
        let start = ByteLen::new(self.span.start().get());
        let moved = spans.into_iter().filter_map(|span| {
            let from = span.start().checked_add(start)?;
            Span::between(from, span.end().checked_add(start)?).intersect(self.span)
        });
        moved.collect()
    }

    fn bare(volume: Volume, size: ByteLen) -> Self {
        Self {
            number: None,
            span: Span::whole(size),
            kind: None,
            name: None,
            uuid: None,
            bootable: false,
            volume: Some(volume),
        }
    }

    /// Opens its volume in `card`; `None` if the content is unknown, or the partition is past the end of the card.
    ///
    /// # Errors
    /// None for a card of the surveyed size.
    pub fn open(&self, card: &Arc<dyn ReadAt>) -> Result<Option<OpenVolume>> {
        let place = self.span.intersect(Span::whole(card.size()));
        let (Some(volume), Some(place)) = (&self.volume, place) else { return Ok(None) };
        let window: Arc<dyn ReadAt> = Arc::new(Window::new(Arc::clone(card), place)?);
        Ok(Some(OpenVolume::known(window, volume.clone())))
    }

    /// "partition 2", or "the volume" on a bare card.
    #[must_use]
    pub fn title(&self) -> String {
        self.number.map_or("the volume".to_owned(), |number| format!("partition {number}"))
    }

    /// "partition 2 (ext4, hive-07)".
    #[must_use]
    pub fn full_title(&self) -> String {
        let facts = self.volume.iter().flat_map(|volume| {
            [Some(volume.kind.to_string()), volume.label.clone()].into_iter().flatten()
        });
        let facts: Vec<_> = facts.collect();
        match facts[..] {
            [] => self.title(),
            _ => format!("{} ({})", self.title(), facts.join(", ")),
        }
    }

    fn look_for_faults(&self, size: ByteLen, findings: &mut Vec<Finding>) {
        let beyond = self.span.end().saturating_since(ByteOffset::new(size.get()));
        if !beyond.is_zero() {
            findings.push(Finding::PastTheEnd { title: self.title(), by: beyond });
        }
        if let Some(volume) = &self.volume {
            let over = volume.size.saturating_sub(self.span.len());
            if !over.is_zero() {
                let title = self.number.map(|_| self.title());
                findings.push(Finding::TooLong { kind: volume.kind, title, by: over });
            }
        }
    }
}

/// The offset of the volume descriptors of an optical disc, and their signature.
const OPTICAL_AT: u64 = 32_769;
const OPTICAL_MARK: &[u8] = b"CD001";

/// The reason why a card can only be copied as a whole.
fn whole_because(
    store: &dyn ReadAt,
    table: Option<&Table>,
    parts: &[Part],
) -> Result<Option<&'static str>> {
    let card = Span::whole(store.size());
    let mut spans: Vec<_> = parts.iter().map(|part| part.span).collect();
    spans.sort();
    let overlap = spans.windows(2).any(|pair| match pair {
        [before, after] => before.intersect(*after).is_some(),
        _ => false,
    });
    if overlap || spans.iter().any(|span| !card.contains(*span)) {
        return Ok(Some("its partitions overlap or reach past its end"));
    }
    let mark = read_up_to(store, ByteOffset::new(OPTICAL_AT), OPTICAL_MARK.len())?;
    let is_optical = mark == OPTICAL_MARK;
    let Some(table) = table else {
        let why =
            (is_optical && parts.is_empty()).then_some("it has the layout of an optical disc");
        return Ok(why);
    };
    if spans.first().is_some_and(|span| span.start() == ByteOffset::ZERO) {
        return Ok(Some("a partition covers the table itself"));
    }
    if matches!(table, Table::Gpt(gpt) if gpt.is_hybrid() && !gpt.is_mirrored()) {
        return Ok(Some("its two tables (a hybrid) name different partitions"));
    }
    if is_optical {
        return Ok(Some("it has a partition table and the layout of an optical disc"));
    }
    // A volume that is larger than the first gap is not a leftover before the partitions.
    let first = spans.first().map_or(card.end(), |span| span.start());
    let bare = recognise(store)?;
    let reaches = bare.is_some_and(|volume| volume.size > ByteLen::new(first.get()));
    Ok(reaches.then_some("it has a partition table and a volume at its first byte"))
}

fn gaps_between(parts: &[Part], size: ByteLen) -> Vec<Span> {
    let mut gaps = Vec::new();
    let mut at = ByteOffset::ZERO;
    let end = ByteOffset::new(size.get());
    for taken in joined(parts.iter().map(|part| part.span).collect()) {
        gaps.push(Span::between(at, taken.start().min(end)));
        at = taken.end();
    }
    gaps.push(Span::between(at, end));
    gaps.retain(|gap| !gap.is_empty());
    gaps
}

/// The size limit of files that are read, in bytes.
const MOST_FILE: usize = 4096;

/// The first line of `/etc/hostname`, if it is a valid name.
fn host_in(files: Option<&dyn Files>) -> Result<Option<String>> {
    let Some(files) = files else { return Ok(None) };
    let file = files.small_file(&[b"etc", b"hostname"], MOST_FILE)?;
    let text = String::from_utf8(file.unwrap_or_default()).unwrap_or_default();
    let name = text.lines().map(str::trim).find(|line| !line.is_empty() && !line.starts_with('#'));
    let is_name = |name: &&str| {
        name.len() <= 253 && name.chars().all(|c| c.is_ascii_alphanumeric() || "-._".contains(c))
    };
    Ok(name.filter(is_name).map(str::to_owned))
}

/// The pretty name in `/etc/os-release`, or in the file that it usually links to.
fn system_in(files: Option<&dyn Files>) -> Result<Option<String>> {
    let Some(files) = files else { return Ok(None) };
    let paths: [&[&[u8]]; 2] = [&[b"etc", b"os-release"], &[b"usr", b"lib", b"os-release"]];
    for path in paths {
        let file = files.small_file(path, MOST_FILE)?;
        let text = String::from_utf8_lossy(&file.unwrap_or_default()).into_owned();
        let value = text.lines().find_map(|line| line.strip_prefix("PRETTY_NAME="));
        let name = value.map(|value| value.trim().trim_matches(['"', '\'']));
        let name = name.map(|name| name.chars().filter(|c| !c.is_control()).take(80).collect());
        if let Some(name) = name.filter(|name: &String| !name.is_empty()) {
            return Ok(Some(name));
        }
    }
    Ok(None)
}

/// Bytes of a gap that are searched for data.
const GAP_HEAD: usize = 4 << 20;
/// The step of that search, in bytes.
const GAP_STEP: usize = 4096;

/// Counts the bytes of `gap` in blocks of 4 KiB that are not zeros, and returns whether all of it was read: of a long
/// one, only the first 4 MiB are.
///
/// # Errors
/// When the store cannot be read.
pub fn gap_in_use(store: &dyn ReadAt, gap: Span) -> Result<(ByteLen, bool)> {
    let len = gap.len().to_usize().unwrap_or(usize::MAX).min(GAP_HEAD);
    let head = read_up_to(store, gap.start(), len)?;
    let used = head.chunks(GAP_STEP).filter(|piece| !is_zero(piece)).map(ByteLen::of).sum();
    let rest = gap.start().saturating_add(ByteLen::from_usize(len));
    let is_all =
        rest >= gap.end() || store.next_data(rest)?.is_none_or(|data| data.start() >= gap.end());
    Ok((used, is_all))
}

/// The largest offset at which an image is searched for after a prefix, in bytes.
const PREFACE: usize = 4 << 20;

/// Searches for a table at a higher offset, in case something was prepended to the image. Returns the offset of the
/// image itself.
///
/// The result is a guess: the caller asks the user before using it.
///
/// # Errors
/// When the store cannot be read.
pub fn table_behind_a_preface(store: &dyn ReadAt) -> Result<Option<ByteOffset>> {
    let head = read_up_to(store, ByteOffset::ZERO, PREFACE)?;
    let marked = head.as_chunks::<512>().0.iter().map(|sector| sector.ends_with(&[0x55, 0xaa]));
    let step = SectorSize::B512.len();
    for (index, _) in (0u64..).zip(marked).skip(1).filter(|(_, marked)| *marked) {
        let at = ByteOffset::new(step.get().saturating_mul(index));
        let rest = Span::between(at, ByteOffset::new(store.size().get()));
        let image = Window::new(store, rest)?;
        if let Some(mbr) = Mbr::read(&image, SectorSize::B512)?
            && is_plausible(&Table::Mbr(mbr), rest.len())
        {
            return Ok(Some(at));
        }
    }
    Ok(None)
}

/// Returns whether the locations of all partitions of a table are plausible.
fn is_plausible(table: &Table, size: ByteLen) -> bool {
    let parts = table.partitions();
    !parts.is_empty()
        && table.findings().is_empty()
        && parts.iter().all(|part| Span::whole(size).contains(part.span))
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{SparseStore, WriteAt};

    /// A card of 64 MiB with one Linux partition from sector 2048 of `sectors`.
    fn card(sectors: u32) -> Vec<u8> {
        let mut record = vec![0; 512];
        record[440..444].copy_from_slice(&0x4856_0007_u32.to_le_bytes());
        record[450] = 0x83;
        record[454..458].copy_from_slice(&2048u32.to_le_bytes());
        record[458..462].copy_from_slice(&sectors.to_le_bytes());
        record[510..].copy_from_slice(&[0x55, 0xaa]);
        record
    }

    fn store(record: &[u8], at: u64) -> SparseStore {
        let store = SparseStore::new(ByteLen::mib(64));
        store.write_at(ByteOffset::new(at), record).unwrap();
        store
    }

    #[test]
    fn gaps_are_all_that_no_partition_covers() {
        let survey = Survey::of(&store(&card(2048), 0)).unwrap();
        let gaps: Vec<_> = survey.gaps.iter().map(|g| (g.start().get(), g.end().get())).collect();
        assert_eq!(gaps, [(0, 1 << 20), (2 << 20, 64 << 20)]);
        assert_eq!(survey.needed(), ByteLen::mib(2));
        assert_eq!(survey.ids(), ["48560007"]);
    }

    #[test]
    fn a_partition_past_the_end_is_a_finding_with_figures() {
        let survey = Survey::of(&store(&card(131_072), 0)).unwrap();
        let words: Vec<String> = survey.findings.iter().map(ToString::to_string).collect();
        assert_eq!(words, ["partition 1 reaches 1.05 MB (1048576 bytes) past the end"]);
    }

    #[test]
    fn partition_table_at_an_offset_is_found() {
        let prefaced = store(&card(2048), 65_536);
        assert!(Survey::of(&prefaced).unwrap().is_unknown());
        assert_eq!(table_behind_a_preface(&prefaced).unwrap(), Some(ByteOffset::new(65_536)));
        let none = SparseStore::new(ByteLen::mib(64));
        assert_eq!(table_behind_a_preface(&none).unwrap(), None);
    }
}
