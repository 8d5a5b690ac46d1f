//! Entry sets and cluster chains of FAT, for changing files; and changing the serial number.

use super::{
    boot::{BootSector, Width},
    folder::{
        self, ATTR_FOLDER, ATTR_LONG_NAME, ENTRY, FolderPlace, Use, is_dots, is_folder, name_sum,
        named, short_name, use_of,
    },
    table::Table,
};
use crate::{
    bits::{Bits, Run},
    cluster_edit::{
        self, ClusterSpace, FolderKey, OpenFolder, SetFormat, SetKind, SetTimes, Slot, is_dos_name,
    },
    clusters::{Link, follow},
    dos_time::dos_time,
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
use std::sync::Arc;

const ARCHIVE: u8 = 0x20;
/// A fixed root directory: no cluster has this number.
const FIXED_ROOT: FolderKey = u64::MAX;

/// The volume in `store` with `edits` done to its files.
///
/// # Errors
/// As [`crate::OpenVolume::edit`].
pub(crate) fn edit(
    store: &Arc<dyn ReadAt>,
    edits: &[FileEdit],
    options: EditOptions,
) -> Result<EditedVolume> {
    let boot = boot_of(store)?;
    let table = Table::read(&**store, &boot)?;
    let mut used = Bits::new(boot.clusters);
    for number in 0..boot.clusters {
        if table.link(number) != Link::Free {
            used.add(Run::new(number, 1));
        }
    }
    let format = Fat { boot, table };
    cluster_edit::edit(store, format, ClusterSpace::of(used), edits, options)
}

fn boot_of(store: &Arc<dyn ReadAt>) -> Result<BootSector> {
    let sector = read_vec(&**store, ByteOffset::ZERO, 512)?;
    BootSector::decode(&sector).ok_or_else(|| Error::corrupt("its boot sector is gone"))
}

/// The volume in `store` with the serial number `serial`, in both boot sectors.
///
/// # Errors
/// When the store cannot be read; [`imbrik_store::Class::Unsupported`] when it has none.
pub(crate) fn with_serial(store: &Arc<dyn ReadAt>, serial: u32) -> Result<Edited> {
    let boot = boot_of(store)?;
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

struct Fat {
    boot: BootSector,
    table: Table,
}

impl Fat {
    /// The clusters of the chain that starts at `first`.
    fn chain(&self, first: u64) -> Result<Vec<Run>> {
        let link = &mut |number| Ok(self.table.link(number));
        follow(first, self.boot.clusters, link, &mut |_| Ok(()))?.whole()
    }

    /// Has all tables say `value` of cluster `number`.
    fn put_value(&mut self, draft: &mut Edited, number: u64, value: u32) -> Result<()> {
        let place = self.table.put(number, value)?;
        let bytes = read_vec(&self.table, place.start(), place.len().to_usize().unwrap_or(0))?;
        for table in self.boot.tables().collect::<Vec<_>>() {
            let ahead = ByteLen::new(place.start().get());
            draft.put(table.start().plus(ahead)?, &bytes)?;
        }
        Ok(())
    }

    /// Has a short entry name a first cluster.
    fn put_first(&self, raw: &mut Slot, first: Option<u64>) -> Result<()> {
        let first = first.map_or(Ok(0), |first| first.plus(2)?.exact_as::<u32>())?;
        let [a, b, c, d] = first.to_le_bytes();
        let _ = bytes::put(raw, 26, [a, b]);
        if self.boot.width == Width::Bits32 {
            let _ = bytes::put(raw, 20, [c, d]);
        }
        Ok(())
    }

    /// Builds the entries of a long name, and the short entry `own` with a unique name in `folder`.
    fn named_set(&self, folder: &OpenFolder, name: &str, mut own: Slot) -> Result<Vec<Slot>> {
        if !is_dos_name(name) {
            return Err(Error::usage("such a name cannot be on a FAT volume"));
        }
        let short = short_for(name, folder);
        let units: Vec<u16> = name.encode_utf16().collect();
        let is_plain = short_name(&short).as_deref() == Some(name.as_bytes());
        let mut set = if is_plain { Vec::new() } else { long_entries(&units, &short) };
        own.get_mut(..11).unwrap_or_default().copy_from_slice(&short);
        // The case of the characters is in the long name.
        let _ = bytes::put(&mut own, 12, [0]);
        set.push(own);
        Ok(set)
    }
}

impl SetFormat for Fat {
    fn cluster(&self) -> ByteLen {
        self.boot.cluster
    }

    fn span_of(&self, run: Run) -> Span {
        self.boot.span_of(run)
    }

    fn longest(&self) -> u64 {
        u32::MAX.into()
    }

    fn free_slot(&self) -> Slot {
        let mut slot = [0; ENTRY];
        slot[0] = 0xe5;
        slot
    }

    fn root(&self) -> FolderKey {
        match self.boot.root() {
            Some(FolderPlace::Chain(first)) => first,
            _ => FIXED_ROOT,
        }
    }

    fn read_folder(
        &self,
        draft: &Edited,
        key: FolderKey,
        _: Option<&[Slot]>,
    ) -> Result<OpenFolder> {
        let (spans, runs) = match self.boot.root() {
            None => return Err(Error::corrupt("its root directory has no cluster")),
            Some(FolderPlace::Fixed(span)) if key == FIXED_ROOT => (vec![span], Vec::new()),
            Some(_) => {
                let runs = self.chain(key)?;
                (runs.iter().map(|run| self.boot.span_of(*run)).collect(), runs)
            }
        };
        let most = self.boot.most_of_a_folder();
        let all: ByteLen = spans.iter().map(|span| span.len()).sum();
        if all > most {
            return Err(Error::corrupt("a folder is too long"));
        }
        let records = folder::read(draft, spans)?;
        let mut sets = Vec::new();
        for one in named(&records).filter(|one| !is_dots(one.raw)) {
            sets.push((one.names(), one.slots.clone()));
        }
        let is_free = |slot: &Slot| matches!(use_of(slot), Use::Free | Use::End);
        let mut folder = OpenFolder::new(key, records, runs, most.get(), is_free);
        for (names, range) in sets {
            folder.learn(names.iter().map(|name| self.folded(name)).collect(), range);
        }
        Ok(folder)
    }

    fn folded(&self, name: &str) -> String {
        name.to_lowercase()
    }

    fn kind_of(&self, set: &[Slot]) -> Option<SetKind> {
        let own = set.last().filter(|own| use_of(own) == Use::File)?;
        Some(if is_folder(own) { SetKind::Folder } else { SetKind::File })
    }

    fn clusters_of(&self, set: &[Slot]) -> Result<Vec<Run>> {
        match set.last().and_then(|own| self.boot.first_of(own)) {
            Some(first) => self.chain(first),
            None => Ok(Vec::new()),
        }
    }

    fn new_set(
        &self,
        folder: &OpenFolder,
        name: &str,
        kind: SetKind,
        times: SetTimes,
    ) -> Result<Vec<Slot>> {
        let attributes = if kind == SetKind::Folder { ATTR_FOLDER } else { ARCHIVE };
        self.named_set(folder, name, own_entry(attributes, times))
    }

    fn renamed(&self, folder: &OpenFolder, set: &[Slot], name: &str) -> Result<Vec<Slot>> {
        let own = set.last().ok_or_else(|| Error::bug("a set is empty"))?;
        self.named_set(folder, name, *own)
    }

    fn names_of(&self, set: &[Slot]) -> Vec<String> {
        let records: Vec<_> = set.iter().map(|slot| (ByteOffset::ZERO, *slot)).collect();
        let names = named(&records).flat_map(|one| one.names());
        names.map(|name| self.folded(&name)).collect()
    }

    fn put_flags(&self, set: &mut [Slot], flags: FileFlags) {
        if let Some(attributes) = set.last_mut().and_then(|own| own.get_mut(11)) {
            let bits = flags.to_bits((*attributes).into(), &DOS_FLAGS);
            *attributes = u8::try_from(bits).unwrap_or(*attributes);
        }
    }

    fn touch(&self, set: &mut [Slot], modified: FileTime) {
        if let Some(own) = set.last_mut() {
            let (date, time) = dos_time(modified.seconds);
            let _ = bytes::put(own, 22, time.to_le_bytes());
            let _ = bytes::put(own, 24, date.to_le_bytes());
        }
    }

    fn bind(
        &mut self,
        draft: &mut Edited,
        set: Option<&mut [Slot]>,
        runs: &[Run],
        len: u64,
    ) -> Result<()> {
        let mut all = runs.iter().flat_map(|run| run.first..run.end()).peekable();
        let first = all.peek().copied();
        let end = match self.boot.width {
            Width::Bits12 => 0xfff,
            Width::Bits16 => 0xffff,
            Width::Bits32 => 0x0fff_ffff,
        };
        while let Some(number) = all.next() {
            let value = all.peek().map_or(Ok(end), |next| next.plus(2)?.exact_as())?;
            self.put_value(draft, number, value)?;
        }
        if let Some(own) = set.and_then(|set| set.last_mut()) {
            self.put_first(own, first)?;
            if !is_folder(own) {
                let _ = bytes::put(own, 28, len.exact_as::<u32>()?.to_le_bytes());
            }
        }
        Ok(())
    }

    fn tells_len_of_folders(&self) -> bool {
        false
    }

    fn first_slots(&self, key: FolderKey, above: FolderKey, times: SetTimes) -> Vec<Slot> {
        let dots = |name: &[u8; 11], first| {
            let mut own = own_entry(ATTR_FOLDER, times);
            own.get_mut(..11).unwrap_or_default().copy_from_slice(name);
            let _ = self.put_first(&mut own, first);
            own
        };
        // Of the folder above, the root has no number there.
        let above = Some(above).filter(|above| *above != self.root());
        vec![dots(b".          ", Some(key)), dots(b"..         ", above)]
    }

    fn put_above(
        &self,
        folder: &mut OpenFolder,
        above: FolderKey,
        draft: &mut Edited,
    ) -> Result<()> {
        let second = folder.set(&(1..2))?.first().copied();
        let mut second = second
            .filter(|slot| short_name(slot).as_deref() == Some(b".."))
            .ok_or_else(|| Error::corrupt("a folder does not know which one it is in"))?;
        self.put_first(&mut second, Some(above).filter(|above| *above != self.root()))?;
        folder.put_slot(1, second, draft)
    }

    fn clear(&self, slot: &mut Slot) {
        let _ = bytes::put(slot, 0, [0xe5]);
    }

    /// The tables, and the count of free clusters, where there is one.
    fn finish(&mut self, draft: &mut Edited, space: &ClusterSpace) -> Result<()> {
        let taken = space.taken().count().exact_as::<u64>()?;
        let mut freed = 0u64;
        for number in space.freed().flat_map(|run| run.first..run.end()) {
            freed = freed.plus(u64::from(space.was_used(number)))?;
            self.put_value(draft, number, 0)?;
        }
        let boot = &self.boot;
        let copies = [boot.fs_info, boot.backup.plus(boot.fs_info)?];
        for copy in copies.into_iter().filter(|at| *at > 0 && *at < boot.reserved) {
            let at = ByteOffset::new(copy.times(boot.sector)?);
            let info = read_vec(&*draft, at, 512)?;
            let signed = bytes::le_u32(&info, 0) == Some(0x4161_5252)
                && bytes::le_u32(&info, 484) == Some(0x6141_7272);
            let free = bytes::le_u32(&info, 488).filter(|free| *free != u32::MAX && signed);
            let Some(free) = free else { continue };
            // Nobody looked whether that count is right: it is a hint, and stays one.
            let now = u64::from(free).saturating_add(freed).saturating_sub(taken);
            let now = u32::try_from(now).unwrap_or(u32::MAX);
            draft.put(at.plus(ByteLen::new(488))?, &now.to_le_bytes())?;
        }
        Ok(())
    }
}

/// A short entry without a name.
fn own_entry(attributes: u8, times: SetTimes) -> Slot {
    let mut own = [0u8; ENTRY];
    let (date, time) = dos_time(times.now.seconds);
    let (changed, at) = dos_time(times.modified.seconds);
    let _ = bytes::put(&mut own, 11, [attributes]);
    for (place, value) in [(14, time), (16, date), (18, date), (22, at), (24, changed)] {
        let _ = bytes::put(&mut own, place, value.to_le_bytes());
    }
    own
}

/// The eleven bytes of a short name for `name` that nothing in the folder has.
fn short_for(name: &str, folder: &OpenFolder) -> [u8; 11] {
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
        // Only ASCII comes into a generated name.
        let name = short_name(short).unwrap_or_default();
        folder.has(&String::from_utf8_lossy(&name).to_lowercase())
    };
    let whole = if extension.is_empty() { base.clone() } else { format!("{base}.{extension}") };
    let short = made(&base);
    let fits = base.len() <= 8 && extension.len() <= 3 && !base.is_empty();
    if fits && whole.eq_ignore_ascii_case(name) && !is_taken(&short) {
        return short;
    }
    let base = if base.is_empty() { "FILE".to_owned() } else { base };
    let numbered = (1..1_000_000u32).map(|number| {
        let tail = format!("~{number}");
        let keep = 8usize.saturating_sub(tail.len());
        made(&format!("{}{tail}", base.chars().take(keep).collect::<String>()))
    });
    numbered.into_iter().find(|short| !is_taken(short)).unwrap_or(short)
}

/// The entries of a long name, the last part first, in the order on disk before the short one.
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
