//! Every folder of a volume: checksums of blocks, entries, the index, and the number of names of each inode.
//!
//! These checks don't concern blocks: a volume with such faults can keep them on request.

use super::Faults;
use crate::{
    bits::{Bits, Run},
    ext4::structure::{
        Opened, attributes,
        dirhash::NameHash,
        folder::{self, NamedInode},
        inode::{CASEFOLD_FLAG, ROOT, RawInode},
        map::map_of,
        metadata_cache::Block,
    },
};
use imbrik_store::{bytes, error::Result, progress::Cancel};
use std::collections::{BTreeMap, HashSet};

/// The root folder.
/// More links than these are not counted: a folder then has one.
const MOST_LINKS: u32 = 64_998;
/// The deepest index.
const MOST_LEVELS: u8 = 3;

/// Data about each used inode, to be compared with the folders. Their size depends on the number of used inodes, not on
/// the capacity.
#[derive(Default)]
pub(super) struct Tree {
    /// Their numbers, in order.
    numbers: Vec<u32>,
    /// The type of each inode, as in directory entries; 0 if unused.
    kinds: Vec<u8>,
    /// The link count in each inode.
    links: Vec<u16>,
    folders: Vec<u32>,
}

/// The data from the folders.
struct Names {
    /// How many names lead to each of the tree's inodes, "." and ".." included.
    count: Vec<u16>,
    /// The folder that names each folder.
    parents: BTreeMap<u32, u32>,
    /// The folder that each folder calls "..".
    above: BTreeMap<u32, u32>,
}

impl Tree {
    /// Notes an inode that is in use and that names lead to; they come in the order of their
    /// numbers.
    pub(super) fn note(&mut self, inode: &RawInode) {
        self.numbers.push(inode.number);
        self.kinds.push(inode.entry_kind());
        self.links.push(inode.links());
        if inode.is_folder() {
            self.folders.push(inode.number);
        }
    }

    fn index(&self, number: u32) -> Option<usize> {
        self.numbers.binary_search(&number).ok()
    }

    fn kind_of(&self, number: u32) -> u8 {
        self.index(number).and_then(|at| self.kinds.get(at)).copied().unwrap_or(0)
    }

    /// Reads every folder, and compares it with the data about inodes.
    ///
    /// # Errors
    /// When the volume cannot be read, or stopping was requested, and those of `faults`.
    pub(super) fn compare(
        &self,
        opened: &Opened,
        faults: &mut Faults,
        cancel: &Cancel,
    ) -> Result<()> {
        let mut names = Names {
            count: vec![0; self.kinds.len()],
            parents: BTreeMap::new(),
            above: BTreeMap::new(),
        };
        if self.kind_of(ROOT) != 2 {
            faults.push("it has no root folder".into())?;
        }
        for number in &self.folders {
            cancel.check()?;
            let inode = opened.inode(*number)?;
            let mut look = Look { tree: self, opened, inode: &inode, names: &mut names, faults };
            look.folder()?;
        }
        self.compare_parents(&names, faults)?;
        self.compare_links(opened, &names, faults)?;
        Ok(())
    }

    /// Every folder has one name, calls the folder of that name "..", and hangs on the root.
    fn compare_parents(&self, names: &Names, faults: &mut Faults) -> Result<()> {
        let mut hangs: HashSet<u32> = HashSet::from([ROOT]);
        for folder in &self.folders {
            let parent = match *folder {
                ROOT => Some(ROOT),
                folder => names.parents.get(&folder).copied(),
            };
            let above = names.above.get(folder).copied();
            match parent {
                None => faults.push(format!("folder {folder}: no name leads to it"))?,
                Some(parent) if above.is_some_and(|above| above != parent) => {
                    faults.push(format!(
                        "folder {folder}: its \"..\" is {}, but its name is in {parent}",
                        above.unwrap_or(0)
                    ))?;
                }
                Some(_) => {}
            }
            let mut way = Vec::new();
            let mut at = *folder;
            while !hangs.contains(&at) {
                if way.contains(&at) || way.len() > self.folders.len() {
                    faults.push(format!("folder {folder}: it is inside of itself"))?;
                    break;
                }
                way.push(at);
                match names.parents.get(&at) {
                    Some(parent) => at = *parent,
                    None => break,
                }
            }
            hangs.extend(way);
        }
        Ok(())
    }

    fn compare_links(&self, opened: &Opened, names: &Names, faults: &mut Faults) -> Result<()> {
        let superblock = &opened.superblock;
        let said = self.kinds.iter().zip(&self.links).zip(&names.count);
        for (number, ((kind, links), found)) in self.numbers.iter().zip(said) {
            let is_named = *number >= superblock.first_inode || *number == ROOT;
            if *kind == 0 || !is_named {
                continue;
            }
            let is_many = *kind == 2
                && superblock.has_dir_nlink()
                && *links == 1
                && u32::from(*found) > MOST_LINKS;
            if found != links && !is_many {
                faults.push(format!(
                    "inode {number}: it counts {links} {}, {found} {} to it",
                    if *links == 1 { "link" } else { "links" },
                    if *found == 1 { "name leads" } else { "names lead" }
                ))?;
            }
        }
        Ok(())
    }
}

/// The part of a folder's index that was read.
struct Index {
    hash: Option<NameHash>,
    /// For each leaf block of the folder: its lowest hash, and the end of its range.
    leaves: BTreeMap<u64, (u32, u32)>,
    nodes: Bits,
}

/// A folder that is being read.
struct Look<'a> {
    tree: &'a Tree,
    opened: &'a Opened,
    inode: &'a RawInode,
    names: &'a mut Names,
    faults: &'a mut Faults,
}

impl Look<'_> {
    fn fault(&mut self, what: &str) -> Result<()> {
        self.faults.push(format!("folder {}: {what}", self.inode.number))
    }

    fn folder(&mut self) -> Result<()> {
        if self.inode.is_inline() {
            return self.inline();
        }
        let (opened, superblock) = (self.opened, &self.opened.superblock);
        let map = map_of(&opened.meta, superblock, self.inode, &mut |_| Ok(()))?;
        let mut places = Vec::new();
        for piece in &map.pieces {
            let is_next = u64::try_from(places.len()) == Ok(piece.logical);
            if piece.is_unwritten || !is_next {
                return self.fault("it has a hole");
            }
            places.extend(piece.physical..piece.run().end());
        }
        let blocks = u64::try_from(places.len()).unwrap_or(u64::MAX);
        if places.is_empty() || self.inode.size() != blocks.saturating_mul(superblock.block_len) {
            return self.fault("its length is not that of its blocks");
        }
        let index = match self.inode.is_indexed() {
            true if !superblock.has_dir_index() => {
                self.fault("it has an index, and the feature for that is off")?;
                None
            }
            true => self.index(&places)?,
            false => None,
        };
        let seed = self.inode.seed(superblock);
        let mut seen = HashSet::new();
        for (number, place) in (0u64..).zip(&places) {
            let block = opened.meta.block(*place)?;
            if superblock.has_metadata_csum() && !folder::is_sound(&block, seed) {
                self.fault("the checksum of a block of its entries is wrong")?;
                continue;
            }
            let Some(entries) = folder::entries(&block, 0) else {
                self.fault("a block of its entries is invalid")?;
                continue;
            };
            let rest = match number {
                0 => self.dots(&entries)?,
                _ => &entries,
            };
            self.entries(rest, &mut seen)?;
            if let Some(index) = &index {
                self.leaf(index, number, rest)?;
            }
        }
        Ok(())
    }

    /// A folder within its inode: its parent's number, then entries, and more of these in an
    /// attribute.
    fn inline(&mut self) -> Result<()> {
        let inode = self.inode;
        let parent = bytes::le_u32(inode.i_block(), 0).unwrap_or(0);
        self.count_dots(parent);
        let more = attributes::inline_data(inode).and_then(|range| inode.raw.get(range));
        let mut seen = HashSet::new();
        let parts = [Some((inode.i_block(), 4)), more.map(|more| (more, 0))];
        let held = 60usize.saturating_add(more.map_or(0, <[u8]>::len));
        if usize::try_from(inode.size()) != Ok(held) {
            self.fault("its length differs from that of its inline data")?;
        }
        for (part, start) in parts.into_iter().flatten() {
            match folder::entries(part, start) {
                Some(entries) => self.entries(&entries, &mut seen)?,
                None => self.fault("its inline entries are invalid")?,
            }
        }
        Ok(())
    }

    fn count(&mut self, number: u32) {
        let at = self.tree.index(number);
        if let Some(count) = at.and_then(|at| self.names.count.get_mut(at)) {
            *count = count.saturating_add(1);
        }
    }

    fn count_dots(&mut self, parent: u32) {
        self.count(self.inode.number);
        self.count(parent);
        self.names.above.insert(self.inode.number, parent);
    }

    /// Verifies the first two entries; returns the others.
    fn dots<'e>(&mut self, entries: &'e [NamedInode<'e>]) -> Result<&'e [NamedInode<'e>]> {
        let [own, above, rest @ ..] = entries else {
            self.fault("it has no \".\" and \"..\"")?;
            return Ok(entries);
        };
        if own.name != b"." || above.name != b".." {
            self.fault("it does not start with \".\" and \"..\"")?;
            return Ok(entries);
        }
        if own.inode != self.inode.number {
            self.fault("its \".\" is another inode")?;
        }
        if self.opened.superblock.entries_have_types() && (own.kind, above.kind) != (2, 2) {
            self.fault("its \".\" and \"..\" are said to be no folders")?;
        }
        self.count_dots(above.inode);
        Ok(rest)
    }

    fn entries(&mut self, entries: &[NamedInode<'_>], seen: &mut HashSet<Vec<u8>>) -> Result<()> {
        let superblock = &self.opened.superblock;
        let is_plain = !self.inode.is_encrypted();
        for entry in entries {
            let title = String::from_utf8_lossy(entry.name).escape_debug().to_string();
            let is_dots = matches!(entry.name, b"." | b"..");
            let is_odd = entry.name.iter().any(|byte| matches!(byte, 0 | b'/'));
            if entry.name.is_empty() || (is_plain && (is_dots || is_odd)) {
                self.fault(&format!("an entry has an invalid name: \"{title}\""))?;
                continue;
            }
            if !seen.insert(entry.name.to_vec()) {
                self.fault(&format!("two entries have the name \"{title}\""))?;
            }
            let kind = self.tree.kind_of(entry.inode);
            let is_own = entry.inode == ROOT || entry.inode < superblock.first_inode;
            if kind == 0 || is_own {
                self.fault(&format!(
                    "\"{title}\" leads to inode {}, which is in use by nothing that has a name",
                    entry.inode
                ))?;
                continue;
            }
            if superblock.entries_have_types() && entry.kind & 0x7f != kind {
                self.fault(&format!("\"{title}\" is said to be of another kind than its inode"))?;
            }
            self.count(entry.inode);
            if kind == 2 && self.names.parents.insert(entry.inode, self.inode.number).is_some() {
                self.fault(&format!("\"{title}\" is a folder that has another name, too"))?;
            }
        }
        Ok(())
    }

    /// Reads the index from its root; `None` if it is invalid, which was reported.
    fn index(&mut self, places: &[u64]) -> Result<Option<Index>> {
        let first = places.first().copied().unwrap_or(0);
        let block = self.opened.meta.block(first)?;
        let Some(root) = folder::index_root(&block) else {
            self.fault("its index has no root")?;
            return Ok(None);
        };
        if root.levels >= MOST_LEVELS {
            self.fault("its index is too deep")?;
            return Ok(None);
        }
        let is_hashed = !self.inode.is_encrypted() && self.inode.flags() & CASEFOLD_FLAG == 0;
        let hash = NameHash::of(root.hash_version, &self.opened.superblock);
        if root.hash_version > 2 && is_hashed {
            self.fault("its index is ordered by a hash that is not known")?;
            return Ok(None);
        }
        let mut index = Index {
            hash: hash.filter(|_| is_hashed),
            leaves: BTreeMap::new(),
            nodes: Bits::new(u64::try_from(places.len()).unwrap_or(0)),
        };
        index.nodes.add(Run::new(0, 1));
        let is_sound = self.node(&block, places, root.levels, (0, u32::MAX), &mut index)?;
        if !is_sound {
            self.fault("its index is invalid")?;
            return Ok(None);
        }
        let all = index
            .nodes
            .count()
            .saturating_add(u64::try_from(index.leaves.len()).unwrap_or(u64::MAX));
        if all != index.nodes.len() {
            self.fault("its index leaves out blocks of its entries")?;
            return Ok(None);
        }
        Ok(Some(index))
    }

    /// Returns whether a node with `levels` of nodes below it makes sense; its hashes lie in `range`.
    fn node(
        &mut self,
        block: &Block,
        places: &[u64],
        levels: u8,
        range: (u32, u32),
        index: &mut Index,
    ) -> Result<bool> {
        let has_tail = self.opened.superblock.has_metadata_csum();
        let Some(node) = folder::index_node(block, has_tail) else { return Ok(false) };
        let mut children = node.children.iter().peekable();
        let mut is_first = true;
        while let Some((hash, child)) = children.next() {
            let low = if is_first { range.0 } else { *hash };
            is_first = false;
            let high = children.peek().map_or(range.1, |(next, _)| *next);
            // The lowest bit means that the hash continues from the block before.
            let is_ordered = low & !1 <= high & !1 && low & !1 >= range.0 & !1;
            let at = u64::from(*child);
            let place = usize::try_from(at).ok().and_then(|at| places.get(at));
            let (Some(place), true) = (place, is_ordered) else { return Ok(false) };
            if index.nodes.contains(at) || index.leaves.contains_key(&at) {
                return Ok(false);
            }
            match levels.checked_sub(1) {
                None => {
                    index.leaves.insert(at, (low & !1, high));
                }
                Some(below) => {
                    index.nodes.add(Run::new(at, 1));
                    let block = self.opened.meta.block(*place)?;
                    if folder::index_root(&block).is_some()
                        || !self.node(&block, places, below, (low, high), index)?
                    {
                        return Ok(false);
                    }
                }
            }
        }
        Ok(true)
    }

    /// Returns whether the names of a leaf have hashes where the index puts them.
    fn leaf(&mut self, index: &Index, number: u64, entries: &[NamedInode<'_>]) -> Result<()> {
        let Some((low, high)) = index.leaves.get(&number) else {
            return match entries.is_empty() {
                true => Ok(()),
                false => self.fault("there are entries in a node of its index"),
            };
        };
        let Some(hash) = index.hash else { return Ok(()) };
        let is_inside = |entry: &NamedInode<'_>| {
            let hash = hash.hash(entry.name);
            hash >= *low && (hash < *high || hash == *high & !1 && *high & 1 == 1)
        };
        match entries.iter().all(is_inside) {
            true => Ok(()),
            false => self.fault("names are not where its index puts them"),
        }
    }
}
