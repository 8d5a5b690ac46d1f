//! Entry sets and cluster chains of exFAT, for changing files (sections 4, 6 and 7 of the specification).

use super::{
    boot::BootSector,
    folders::{BITMAP, Chains, ENTRY, Set, UP_CASE, each_set, read_bitmap, stream_of},
    up_case::UpCase,
};
use crate::{
    bits::{Bits, Run},
    cluster_edit::{
        self, ClusterSpace, FolderKey, OpenFolder, SetFormat, SetKind, SetTimes, Slot, is_dos_name,
    },
    clusters::span_of,
    dos_time::{dos_time, recordable},
    edit::{EditOptions, EditedVolume, FileEdit},
    files::{DOS_FLAGS, FileFlags, FileTime},
};
use imbrik_store::{
    Edited, ReadAt, bytes,
    error::{Error, Result},
    exact::Exact as _,
    read_vec,
    units::{ByteLen, ByteOffset, Span},
};
use std::{
    collections::{BTreeMap, HashMap},
    ops::ControlFlow,
    sync::Arc,
};

const FILE: u8 = 0x85;
const STREAM: u8 = 0xc0;
const NAME: u8 = 0xc1;
const IN_USE: u8 = 0x80;
const IS_FOLDER: u16 = 0x10;
const ARCHIVE: u16 = 0x20;
/// A stream flag: it may have clusters, and they are contiguous without a chain.
const MAY_HAVE: u8 = 1;
const NO_CHAIN: u8 = 2;
/// A time stamp's zone: UTC.
const UTC: u8 = 0x80;
/// The longest folder.
const MOST_FOLDER: u64 = 256 << 20;
/// The offset of the percentage of used clusters in the boot sector, and the value for "unknown".
const PERCENT_AT: u64 = 112;
const NOT_KNOWN: u8 = 0xff;

/// The volume in `store` with `edits` done to its files.
///
/// # Errors
/// As [`crate::OpenVolume::edit`].
pub(crate) fn edit(
    store: &Arc<dyn ReadAt>,
    edits: &[FileEdit],
    options: EditOptions,
) -> Result<EditedVolume> {
    let head = read_vec(&**store, ByteOffset::ZERO, 512)?;
    let boot =
        BootSector::decode(&head).ok_or_else(|| Error::corrupt("its boot sector is gone"))?;
    if boot.table_count != 1 {
        return Err(Error::unsupported("it has two allocation tables"));
    }
    let Tables { root, bitmap, used, up_case } = tables_of(store, &boot)?;
    let links = BTreeMap::new();
    let format = ExFat { store: Arc::clone(store), boot, links, root, bitmap, up_case };
    cluster_edit::edit(store, format, ClusterSpace::of(used), edits, options)
}

/// The volume's own tables.
pub(super) struct Tables {
    /// The root directory's clusters.
    root: Vec<Run>,
    /// The allocation bitmap's.
    pub(super) bitmap: Vec<Run>,
    /// The clusters that its bitmap calls used.
    pub(super) used: Bits,
    /// The up-case table, and its length in bytes.
    pub(super) up_case: UpCase,
}

/// The tables of the volume in `store`.
///
/// # Errors
/// When they cannot be read; [`imbrik_store::Class::Corrupt`] when one of them is missing.
pub(super) fn tables_of(store: &Arc<dyn ReadAt>, boot: &BootSector) -> Result<Tables> {
    let chains = Chains::of(&**store, boot);
    let root = chains.follow(boot.root_cluster)?;
    let (mut bitmap, mut up_case) = (None, None);
    each_set(&**store, boot, &root, &mut |set| {
        match set.kind() {
            BITMAP => bitmap = Some(set),
            UP_CASE => up_case = Some(set),
            _ => {}
        }
        Ok(ControlFlow::Continue(()))
    })?;
    let checksum = up_case.as_ref().and_then(|set| bytes::le_u32(set.entries().first()?, 4));
    let runs_of = |set: Option<Set>, what: &str| -> Result<(Vec<Run>, u64)> {
        let not_found = || Error::corrupt(format!("its {what} was not found"));
        let set = set.ok_or_else(not_found)?;
        let stream = set.entries().first().map_or(Ok(None), |entry| stream_of(entry, boot))?;
        let stream = stream.ok_or_else(not_found)?;
        Ok((chains.clusters_of(stream)?, stream.len))
    };
    let (bitmap, len) = runs_of(bitmap, "allocation bitmap")?;
    let used = read_bitmap(&**store, boot, &bitmap, len)?;
    let (runs, len) = runs_of(up_case, "up-case table")?;
    let up_case = UpCase::read(&**store, boot, &runs, len, checksum)?;
    Ok(Tables { root, bitmap, used, up_case })
}

struct ExFat {
    store: Arc<dyn ReadAt>,
    boot: BootSector,
    /// The new table values of linked clusters.
    links: BTreeMap<u64, u32>,
    /// The root's clusters.
    root: Vec<Run>,
    /// The bitmap's.
    bitmap: Vec<Run>,
    up_case: UpCase,
}

impl ExFat {
    /// Builds the entry set of a name, with `first` and `stream` as its first entries.
    fn named_set(&self, name: &str, mut first: Slot, mut stream: Slot) -> Result<Vec<Slot>> {
        if !is_dos_name(name) {
            return Err(Error::usage("such a name cannot be on an exFAT volume"));
        }
        let units: Vec<u16> = name.encode_utf16().collect();
        let pieces = units.chunks(15);
        let more = pieces.len().plus(1)?;
        let _ = bytes::put(&mut first, 1, [more.exact_as::<u8>()?]);
        let _ = bytes::put(&mut stream, 3, [units.len().exact_as::<u8>()?]);
        let _ = bytes::put(&mut stream, 4, self.up_case.hash(&units).to_le_bytes());
        let mut set = vec![first, stream];
        for piece in pieces {
            let mut entry = [0u8; ENTRY];
            let _ = bytes::put(&mut entry, 0, [NAME]);
            for (at, unit) in (2..).step_by(2).zip(piece) {
                let _ = bytes::put(&mut entry, at, unit.to_le_bytes());
            }
            set.push(entry);
        }
        seal(&mut set);
        Ok(set)
    }
}

/// The entry set, as for reading.
fn as_set(slots: &[Slot]) -> Set {
    let places = vec![ByteOffset::ZERO; slots.len()];
    Set { raw: slots.concat(), places, holdings: Vec::new() }
}

/// Updates the checksum of a set.
fn seal(slots: &mut [Slot]) {
    let sum = as_set(slots).checksum();
    if let Some(first) = slots.first_mut() {
        let _ = bytes::put(first, 2, sum.to_le_bytes());
    }
}

/// Writes a time into an entry: the timestamp, its hundredths if there is a field for them, and its time zone.
fn put_time(entry: &mut Slot, at: usize, hundredths: Option<usize>, zone: usize, time: FileTime) {
    let seconds = recordable(time.seconds);
    let (date, clock) = dos_time(seconds);
    let stamp = u32::from(date) << 16 | u32::from(clock);
    let _ = bytes::put(entry, at, stamp.to_le_bytes());
    if let Some(at) = hundredths {
        let odd = u32::from(seconds % 2 == 1).saturating_mul(100);
        let part = if seconds == time.seconds { time.nanoseconds } else { 0 };
        let more = odd.saturating_add((part / 10_000_000).min(99));
        let _ = bytes::put(entry, at, [u8::try_from(more).unwrap_or(0)]);
    }
    let _ = bytes::put(entry, zone, [UTC]);
}

impl SetFormat for ExFat {
    fn cluster(&self) -> ByteLen {
        self.boot.cluster
    }

    fn span_of(&self, run: Run) -> Span {
        span_of(run, self.boot.data().start(), self.boot.cluster)
    }

    fn longest(&self) -> u64 {
        u64::MAX
    }

    fn free_slot(&self) -> Slot {
        let mut slot = [0; ENTRY];
        slot[0] = FILE & !IN_USE;
        slot
    }

    fn root(&self) -> FolderKey {
        self.boot.root_cluster
    }

    fn read_folder(
        &self,
        draft: &Edited,
        key: FolderKey,
        set: Option<&[Slot]>,
    ) -> Result<OpenFolder> {
        let runs = match set {
            Some(set) => self.clusters_of(set)?,
            None => self.root.clone(),
        };
        let len = runs.iter().map(|run| run.len).sum::<u64>().times(self.boot.cluster.get())?;
        if len > MOST_FOLDER {
            return Err(Error::corrupt("a folder is too long"));
        }
        let mut slots = Vec::new();
        for run in &runs {
            let span = self.span_of(*run);
            let content = read_vec(draft, span.start(), span.len().to_usize().unwrap_or(0))?;
            for (index, slot) in content.as_chunks::<ENTRY>().0.iter().enumerate() {
                let ahead = ByteLen::from_usize(index.times(ENTRY)?);
                slots.push((span.start().plus(ahead)?, *slot));
            }
        }
        let mut sets = Vec::new();
        let places: HashMap<_, _> =
            slots.iter().enumerate().map(|(index, (at, _))| (*at, index)).collect();
        each_set(draft, &self.boot, &runs, &mut |set| {
            let start = set.places.first().and_then(|at| places.get(at)).copied();
            if let Some(start) = start.filter(|_| set.is_file()) {
                sets.push((set.name(), start..start.plus(set.places.len())?));
            }
            Ok(ControlFlow::Continue(()))
        })?;
        let is_free = |slot: &Slot| slot.first().is_some_and(|kind| kind & IN_USE == 0);
        let mut folder = OpenFolder::new(key, slots, runs, MOST_FOLDER, is_free);
        for (name, range) in sets {
            folder.learn(vec![self.folded(&String::from_utf8_lossy(&name))], range);
        }
        Ok(folder)
    }

    fn folded(&self, name: &str) -> String {
        let units: Vec<u16> = name.encode_utf16().map(|unit| self.up_case.of(unit)).collect();
        String::from_utf16_lossy(&units)
    }

    fn kind_of(&self, set: &[Slot]) -> Option<SetKind> {
        let set = as_set(set);
        match (set.is_file(), set.is_folder()) {
            (false, _) => None,
            (true, false) => Some(SetKind::File),
            (true, true) => Some(SetKind::Folder),
        }
    }

    fn clusters_of(&self, set: &[Slot]) -> Result<Vec<Run>> {
        let stream = set.get(1).map_or(Ok(None), |entry| stream_of(entry, &self.boot))?;
        match stream {
            Some(stream) => {
                let chains = Chains::of(&*self.store, &self.boot);
                chains.with_links(&self.links).clusters_of(stream)
            }
            None => Ok(Vec::new()),
        }
    }

    fn new_set(
        &self,
        _folder: &OpenFolder,
        name: &str,
        kind: SetKind,
        times: SetTimes,
    ) -> Result<Vec<Slot>> {
        let (mut first, mut stream) = ([0u8; ENTRY], [0u8; ENTRY]);
        let attributes = if kind == SetKind::Folder { IS_FOLDER } else { ARCHIVE };
        let _ = bytes::put(&mut first, 0, [FILE]);
        let _ = bytes::put(&mut first, 4, attributes.to_le_bytes());
        put_time(&mut first, 8, Some(20), 22, times.now);
        put_time(&mut first, 12, Some(21), 23, times.modified);
        put_time(&mut first, 16, None, 24, times.now);
        let _ = bytes::put(&mut stream, 0, [STREAM, MAY_HAVE]);
        self.named_set(name, first, stream)
    }

    fn renamed(&self, _folder: &OpenFolder, set: &[Slot], name: &str) -> Result<Vec<Slot>> {
        let wrong = || Error::corrupt("an entry set is truncated");
        let (first, stream) = (set.first().ok_or_else(wrong)?, set.get(1).ok_or_else(wrong)?);
        let mut renamed = self.named_set(name, *first, *stream)?;
        // Vendor entries after the name move with it.
        let more = set.iter().skip(2).filter(|entry| entry.first() != Some(&NAME));
        renamed.extend(more);
        let count = renamed.len().minus(1)?.exact_as::<u8>()?;
        if let Some(first) = renamed.first_mut() {
            let _ = bytes::put(first, 1, [count]);
        }
        seal(&mut renamed);
        Ok(renamed)
    }

    fn names_of(&self, set: &[Slot]) -> Vec<String> {
        vec![self.folded(&String::from_utf8_lossy(&as_set(set).name()))]
    }

    fn put_flags(&self, set: &mut [Slot], flags: FileFlags) {
        if let Some(attributes) = set.first_mut().and_then(|first| first.get_mut(4)) {
            let bits = flags.to_bits((*attributes).into(), &DOS_FLAGS);
            *attributes = u8::try_from(bits).unwrap_or(*attributes);
        }
    }

    fn touch(&self, set: &mut [Slot], modified: FileTime) {
        if let Some(first) = set.first_mut() {
            put_time(first, 12, Some(21), 23, modified);
        }
        seal(set);
    }

    fn bind(
        &mut self,
        draft: &mut Edited,
        set: Option<&mut [Slot]>,
        runs: &[Run],
        len: u64,
    ) -> Result<()> {
        // The root has no entry that could say that it has no chain.
        let is_plain = runs.len() == 1 && set.is_some();
        if !is_plain {
            let mut all = runs.iter().flat_map(|run| run.first..run.end()).peekable();
            while let Some(number) = all.next() {
                let next = all.peek().map_or(Ok(u32::MAX), |next| next.plus(2)?.exact_as())?;
                let ahead = ByteLen::new(number.plus(2)?.times(4)?);
                draft.put(self.boot.table.start().plus(ahead)?, &next.to_le_bytes())?;
                self.links.insert(number, next);
            }
        }
        let Some(set) = set else { return Ok(()) };
        if let Some(stream) = set.get_mut(1) {
            let first = runs.first().map_or(Ok(0), |run| run.first.plus(2)?.exact_as::<u32>())?;
            let flags = if is_plain { MAY_HAVE | NO_CHAIN } else { MAY_HAVE };
            let _ = bytes::put(stream, 1, [flags]);
            let _ = bytes::put(stream, 8, len.to_le_bytes());
            let _ = bytes::put(stream, 20, first.to_le_bytes());
            let _ = bytes::put(stream, 24, len.to_le_bytes());
        }
        seal(set);
        Ok(())
    }

    fn tells_len_of_folders(&self) -> bool {
        true
    }

    fn first_slots(&self, _: FolderKey, _: FolderKey, _: SetTimes) -> Vec<Slot> {
        Vec::new()
    }

    fn clear(&self, slot: &mut Slot) {
        if let Some(kind) = slot.first_mut() {
            *kind &= !IN_USE;
        }
    }

    /// Writes the bitmap, and the percentage in the boot sector.
    fn finish(&mut self, draft: &mut Edited, space: &ClusterSpace) -> Result<()> {
        let taken = space.taken().map(|number| (number, true));
        let freed =
            space.freed().flat_map(|run| run.first..run.end()).map(|number| (number, false));
        let mut in_use = space.in_use();
        for (number, is_used) in taken.chain(freed).collect::<Vec<_>>() {
            let at = self.bit_at(number / 8)?;
            let mut byte = read_vec(&*draft, at, 1)?;
            let bit = 1u8 << (number % 8);
            for byte in &mut byte {
                *byte = if is_used { *byte | bit } else { *byte & !bit };
            }
            draft.put(at, &byte)?;
        }
        let at = ByteOffset::new(PERCENT_AT);
        let told = read_vec(&*draft, at, 1)?;
        if told.first() != Some(&NOT_KNOWN) {
            in_use = in_use.saturating_mul(100).checked_div(self.boot.clusters).unwrap_or(0);
            draft.put(at, &[u8::try_from(in_use).unwrap_or(100).min(100)])?;
        }
        Ok(())
    }
}

impl ExFat {
    /// The offset of byte `number` of the bitmap.
    fn bit_at(&self, number: u64) -> Result<ByteOffset> {
        let cluster = self.boot.cluster.get();
        let mut left = number;
        for run in &self.bitmap {
            let len = run.len.times(cluster)?;
            if left < len {
                return self.span_of(*run).start().plus(ByteLen::new(left));
            }
            left = left.minus(len)?;
        }
        Err(Error::corrupt("its allocation bitmap is too short for its clusters"))
    }
}
