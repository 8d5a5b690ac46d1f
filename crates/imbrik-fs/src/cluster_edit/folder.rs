//! A folder in memory: its slots and names.

use crate::bits::Run;
use imbrik_store::{
    Edited,
    error::{Error, Result},
    units::{ByteLen, ByteOffset, Span},
};
use std::{collections::HashMap, ops::Range};

/// Size of an entry in bytes.
pub(crate) const ENTRY: usize = 32;

/// The smallest unit that a card writes as a whole, in bytes.
const SECTOR: usize = 512;

/// The bytes of an entry, or of a free slot.
pub(crate) type Slot = [u8; ENTRY];

/// A folder in memory.
pub(crate) struct OpenFolder {
    pub(crate) key: u64,
    /// Each slot with its offset in the volume.
    slots: Vec<(ByteOffset, Slot)>,
    /// Its clusters; empty for a root directory outside of the clusters.
    pub(crate) runs: Vec<Run>,
    /// Its maximum size, in bytes.
    pub(crate) most: u64,
    /// The position of the folder's entry set in its parent.
    pub(crate) own: Option<(u64, Range<usize>)>,
    /// The positions of sets by case-folded name.
    names: HashMap<String, Range<usize>>,
    /// Returns whether a slot is free.
    is_free: fn(&Slot) -> bool,
    /// No slot before this one is free.
    free_from: usize,
    /// The number of the first slot at which the folder ends: all further slots are unused.
    end: usize,
}

impl OpenFolder {
    /// A folder with these slots.
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

    /// Returns whether it is a root directory outside of the clusters.
    pub(crate) fn is_fixed(&self) -> bool {
        self.runs.is_empty()
    }

    /// Reads a set.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Bug`] when the range is past the end of the folder.
    pub(crate) fn set(&self, range: &Range<usize>) -> Result<Vec<Slot>> {
        let found = self.slots.get(range.clone());
        let found =
            found.ok_or_else(|| Error::bug("an entry set follows the end of its folder"))?;
        Ok(found.iter().map(|(_, slot)| *slot).collect())
    }

    /// Finds a set by its case-folded name.
    pub(crate) fn find(&self, folded: &str) -> Option<Range<usize>> {
        self.names.get(folded).cloned()
    }

    /// Returns whether a case-folded name exists.
    pub(crate) fn has(&self, folded: &str) -> bool {
        self.names.contains_key(folded)
    }

    /// The ranges of all sets, each once.
    pub(crate) fn sets(&self) -> impl Iterator<Item = Range<usize>> {
        let mut all: Vec<_> = self.names.values().cloned().collect();
        all.sort_unstable_by_key(|range| range.start);
        all.dedup();
        all.into_iter()
    }

    /// Adds the names of a set.
    pub(crate) fn learn(&mut self, names: Vec<String>, range: Range<usize>) {
        for name in names {
            // Systems find the first one of two equal names.
            self.names.entry(name).or_insert_with(|| range.clone());
        }
    }

    /// Removes the names of a set.
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
        let fits = count <= SECTOR / ENTRY;
        match self.free_slots(count, fits) {
            // A folder that can't grow is filled to its end.
            None if fits && self.is_fixed() => self.free_slots(count, false),
            found => found,
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

    /// Writes a set at `start`.
    ///
    /// # Errors
    /// When it can't be written.
    pub(super) fn put(&mut self, start: usize, set: &[Slot], draft: &mut Edited) -> Result<()> {
        let places = self.slots.iter_mut().skip(start);
        for ((at, slot), new) in places.zip(set) {
            *slot = *new;
            draft.put(*at, new)?;
        }
        Ok(())
    }

    /// Writes one slot.
    ///
    /// # Errors
    /// When it can't be written.
    pub(crate) fn put_slot(&mut self, at: usize, slot: Slot, draft: &mut Edited) -> Result<()> {
        self.put(at, &[slot], draft)
    }

    /// Ends the folder at `behind`, the end of a new set, if it ended before that: old bytes after the end must not be
    /// read as entries.
    ///
    /// # Errors
    /// When it can't be written.
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

    /// Extends it by the cluster at `span`, which is zeroed.
    pub(super) fn grow(&mut self, runs: Vec<Run>, span: Span) {
        self.runs = runs;
        self.slots.extend(empty_slots(span));
    }
}

/// The free slots of a zeroed span.
fn empty_slots(span: Span) -> impl Iterator<Item = (ByteOffset, Slot)> {
    let count = span.len().to_usize().unwrap_or(0) / ENTRY;
    (0..count).map(move |index| {
        let ahead = ByteLen::from_usize(index.saturating_mul(ENTRY));
        (span.start().saturating_add(ahead), [0; ENTRY])
    })
}

/// Returns whether a name is allowed on FAT and exFAT: no reserved characters, and no dot or blank at its end, which
/// their systems remove.
pub(crate) fn is_dos_name(name: &str) -> bool {
    let is_odd = |c: char| c.is_control() || "\"*/:<>?\\|".contains(c);
    let units = name.encode_utf16().count();
    (1..=255).contains(&units) && !name.contains(is_odd) && !name.ends_with(['.', ' '])
}
