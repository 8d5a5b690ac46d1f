//! A folder in memory: its slots, and the names in it.

use crate::bits::Run;
use imbrik_store::{
    Edited,
    error::{Error, Result},
    units::{ByteLen, ByteOffset, Span},
};
use std::{collections::HashMap, ops::Range};

/// Bytes an entry.
pub(crate) const ENTRY: usize = 32;

/// The smallest unit that a card writes as a whole, in bytes.
const SECTOR: usize = 512;

/// An entry's bytes, or the room for one.
pub(crate) type Slot = [u8; ENTRY];

/// A folder in memory.
pub(crate) struct OpenFolder {
    pub(crate) key: u64,
    /// Where each of them stands in the volume, with its bytes.
    slots: Vec<(ByteOffset, Slot)>,
    /// Its clusters; none for a folder that has a place of its own.
    pub(crate) runs: Vec<Run>,
    /// The longest it can become, in bytes.
    pub(crate) most: u64,
    /// Where its own set stands.
    pub(crate) own: Option<(u64, Range<usize>)>,
    /// By folded name, where the set stands.
    names: HashMap<String, Range<usize>>,
    /// Whether a slot is free.
    is_free: fn(&Slot) -> bool,
    /// No slot in front of this one is free.
    free_from: usize,
    /// Behind the first empty slot, all are: its number.
    end: usize,
}

impl OpenFolder {
    /// The one of these slots.
    pub(crate) fn new(
        key: u64,
        slots: Vec<(ByteOffset, Slot)>,
        runs: Vec<Run>,
        most: u64,
        is_free: fn(&Slot) -> bool,
    ) -> Self {
        let end = slots.iter().position(|(_, slot)| slot.first() == Some(&0));
        let end = end.unwrap_or(slots.len());
        let names = HashMap::new();
        Self { key, slots, runs, most, own: None, names, is_free, free_from: 0, end }
    }

    /// Whether it has a place of its own, and no clusters.
    pub(crate) fn is_fixed(&self) -> bool {
        self.runs.is_empty()
    }

    /// A set.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Bug`] when it has none there.
    pub(crate) fn set(&self, range: &Range<usize>) -> Result<Vec<Slot>> {
        let found = self.slots.get(range.clone());
        let found = found.ok_or_else(|| Error::bug("a set stands behind its folder's end"))?;
        Ok(found.iter().map(|(_, slot)| *slot).collect())
    }

    /// Where the set called so stands.
    pub(crate) fn find(&self, folded: &str) -> Option<Range<usize>> {
        self.names.get(folded).cloned()
    }

    /// Whether something is called so.
    pub(crate) fn has(&self, folded: &str) -> bool {
        self.names.contains_key(folded)
    }

    /// Where all sets stand, each once.
    pub(crate) fn sets(&self) -> impl Iterator<Item = Range<usize>> {
        let mut all: Vec<_> = self.names.values().cloned().collect();
        all.sort_unstable_by_key(|range| range.start);
        all.dedup();
        all.into_iter()
    }

    /// Has names lead to a set.
    pub(crate) fn learn(&mut self, names: Vec<String>, range: Range<usize>) {
        for name in names {
            // The first one of a name is the one that systems find.
            self.names.entry(name).or_insert_with(|| range.clone());
        }
    }

    /// Has names lead nowhere.
    pub(super) fn unlearn(&mut self, names: &[String], range: &Range<usize>) {
        for name in names {
            if self.names.get(name) == Some(range) {
                self.names.remove(name);
            }
        }
        self.free_from = self.free_from.min(range.start);
    }

    /// The first of `count` free slots in a row: in one sector where they fit into one, since a sector is written as a
    /// whole or not at all, and half a set would cost a name.
    pub(super) fn room_for(&mut self, count: usize) -> Option<usize> {
        let in_one_sector = (count <= SECTOR / ENTRY).then(|| self.free_slots(count, true));
        match in_one_sector {
            // A folder that can't grow is filled to its end.
            Some(None) if self.is_fixed() => self.free_slots(count, false),
            Some(found) => found,
            None => self.free_slots(count, false),
        }
    }

    fn free_slots(&mut self, count: usize, in_one_sector: bool) -> Option<usize> {
        let mut free = 0usize;
        let mut is_first = true;
        let mut sector = None;
        for index in self.free_from..self.slots.len() {
            let (at, slot) = self.slots.get(index)?;
            if index < self.end && !(self.is_free)(slot) {
                free = 0;
                continue;
            }
            if is_first {
                self.free_from = index;
                is_first = false;
            }
            let this = at.get().checked_div(SECTOR.try_into().ok()?);
            if in_one_sector && sector != this {
                free = 0;
            }
            sector = this;
            free = free.saturating_add(1);
            if free == count {
                return index.checked_add(1)?.checked_sub(count);
            }
        }
        None
    }

    /// Marks the slots between the end of the folder and `start` as free: an empty one would end it.
    ///
    /// # Errors
    /// When they cannot be written.
    pub(super) fn extend_to(&mut self, start: usize, free: Slot, draft: &mut Edited) -> Result<()> {
        for index in self.end..start {
            self.put_slot(index, free, draft)?;
        }
        self.end = self.end.max(start);
        Ok(())
    }

    /// Puts a set where there is room for it.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(super) fn put(&mut self, start: usize, set: &[Slot], draft: &mut Edited) -> Result<()> {
        let places = self.slots.iter_mut().skip(start);
        for ((at, slot), new) in places.zip(set) {
            *slot = *new;
            draft.put(*at, new)?;
        }
        Ok(())
    }

    /// Puts one slot.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(crate) fn put_slot(&mut self, at: usize, slot: Slot, draft: &mut Edited) -> Result<()> {
        self.put(at, &[slot], draft)
    }

    /// What stands behind the end is not to be taken for entries: where a set was put that ends at
    /// `behind`, nothing of what follows there counts.
    ///
    /// # Errors
    /// When it cannot be written.
    pub(super) fn end_behind(&mut self, behind: usize, draft: &mut Edited) -> Result<()> {
        if behind <= self.end {
            return Ok(());
        }
        self.end = behind;
        match self.slots.get(behind).map(|(_, slot)| slot.first()) {
            None | Some(Some(0)) => Ok(()),
            Some(_) => self.put_slot(behind, [0; ENTRY], draft),
        }
    }

    /// It has more room, at `span`, which is zeros.
    pub(super) fn grow(&mut self, runs: Vec<Run>, span: Span) {
        self.runs = runs;
        self.slots.extend(empty_slots(span));
    }
}

/// The slots of a place of zeros.
fn empty_slots(span: Span) -> impl Iterator<Item = (ByteOffset, Slot)> {
    let count = span.len().to_usize().unwrap_or(0) / ENTRY;
    (0..count).map(move |index| {
        let ahead = ByteLen::from_usize(index.saturating_mul(ENTRY));
        (span.start().saturating_add(ahead), [0; ENTRY])
    })
}

/// Whether FAT and exFAT take a name: no letter that they keep for themselves, and nothing at its end
/// that their systems leave out.
pub(crate) fn is_dos_name(name: &str) -> bool {
    let is_odd = |c: char| c.is_control() || "\"*/:<>?\\|".contains(c);
    let units = name.encode_utf16().count();
    (1..=255).contains(&units) && !name.contains(is_odd) && !name.ends_with(['.', ' '])
}
