//! The index of a hashed folder: finding the block of a name, and updating the index for new names.
//!
//! A full leaf is split, as by the kernel; if its node is full as well, the whole index is rebuilt. If that is
//! impossible, the folder becomes one without an index, which every system can read.

use super::{Editor, OpenInode};
use crate::ext4::structure::{
    dirhash::NameHash,
    folder::{self, IndexRoot},
};
use imbrik_store::{
    error::{Error, Result},
    exact::Exact as _,
};

/// Half MD4: what a folder gets where the superblock names no known content.
const USUAL_HASH: u8 = 1;
/// How far leaves are filled when an index is rebuilt, in percent: full ones would all have to be split for new names.
const FILLED: usize = 80;
/// Of a hash in an index: the leaf before has names with the same hash.
const GOES_ON: u32 = 1;

/// An entry, with its hash.
struct Hashed {
    hash: u32,
    name: Vec<u8>,
    inode: u32,
    kind: u8,
}

impl Hashed {
    /// Bytes of its record.
    fn len(&self) -> usize {
        self.name.len().saturating_add(8).next_multiple_of(4)
    }
}

/// The lowest hash of a child of a node, and the child's block in the folder.
type Child = (u32, u32);

/// A node on the way: its block in the folder, its children, and which of these is on the way.
type OnWay = (u32, Vec<Child>, usize);

/// The path to the leaf of a hash.
struct Way {
    hash_version: u8,
    /// The nodes, the root first.
    nodes: Vec<OnWay>,
    /// The leaf, by its block in the folder.
    leaf: u32,
}

impl Editor<'_> {
    /// How names in a folder are hashed; `None` when that is not known.
    fn hash_of(&self, root: &IndexRoot) -> Option<NameHash> {
        NameHash::of(root.hash_version, self.superblock())
    }

    /// Returns whether the index of a folder can be kept.
    pub(super) fn can_keep_index(&self, open: &OpenInode) -> Result<bool> {
        let Some(first) = open.blocks().first().copied() else { return Ok(false) };
        let root = folder::index_root(&self.space.block(first)?);
        Ok(root.is_some_and(|root| root.levels <= 1 && self.hash_of(&root).is_some()))
    }

    fn node(&self, open: &OpenInode, blocks: &[u64], at: u32) -> Result<Vec<Child>> {
        let wrong = || open.inode.wrong("its index is invalid");
        let block = blocks.get(at.exact_as::<usize>()?).ok_or_else(wrong)?;
        let content = self.space.block(*block)?;
        let has_tail = self.superblock().has_metadata_csum();
        let node = folder::index_node(&content, has_tail).ok_or_else(wrong)?;
        Ok(node.children)
    }

    /// The way to the first leaf that may have a name.
    fn way_to(&self, open: &OpenInode, blocks: &[u64], name: &[u8]) -> Result<(Way, u32)> {
        let wrong = || open.inode.wrong("its index is invalid");
        let first = *blocks.first().ok_or_else(wrong)?;
        let root = folder::index_root(&self.space.block(first)?).ok_or_else(wrong)?;
        let hash = self.hash_of(&root).ok_or_else(wrong)?.hash(name);
        let mut way = Way { hash_version: root.hash_version, nodes: Vec::new(), leaf: 0 };
        for _ in 0..=root.levels {
            let children = self.node(open, blocks, way.leaf)?;
            let on = child_of(&children, hash);
            let (_, next) = *children.get(on).ok_or_else(wrong)?;
            way.nodes.push((way.leaf, children, on));
            way.leaf = next;
        }
        Ok((way, hash))
    }

    /// The leaves that may have a name, by their blocks in the folder.
    fn leaves_for(&self, open: &OpenInode, blocks: &[u64], name: &[u8]) -> Result<Vec<u32>> {
        let (way, hash) = self.way_to(open, blocks, name)?;
        let mut leaves = vec![way.leaf];
        let goes_on = |child: &&Child| child.0 & !GOES_ON == hash && child.0 & GOES_ON != 0;
        let Some((_, children, on)) = way.nodes.last() else { return Ok(leaves) };
        let behind = children.iter().skip(on.saturating_add(1));
        leaves.extend(behind.take_while(goes_on).map(|(_, leaf)| *leaf));
        let is_last = on.plus(leaves.len())? == children.len();
        if let [(_, nodes, on), _] = &way.nodes[..]
            && is_last
        {
            for (_, node) in nodes.iter().skip(on.saturating_add(1)).take_while(goes_on) {
                let children = self.node(open, blocks, *node)?;
                let same = children.iter().enumerate();
                let same = same.take_while(|(at, child)| *at == 0 || goes_on(child));
                leaves.extend(same.map(|(_, (_, leaf))| *leaf));
            }
        }
        Ok(leaves)
    }

    /// The block of a hashed folder that has an entry called `name`, and the inode that it names.
    ///
    /// # Errors
    /// When the index is invalid.
    pub(super) fn find_hashed(&self, open: &OpenInode, name: &[u8]) -> Result<Option<(u64, u32)>> {
        let blocks = open.blocks();
        let wrong = || open.inode.wrong("a block of the folder is invalid");
        for leaf in self.leaves_for(open, &blocks, name)? {
            let block = *blocks.get(leaf.exact_as::<usize>()?).ok_or_else(wrong)?;
            let content = self.space.block(block)?;
            let entries = folder::entries(&content, 0).ok_or_else(wrong)?;
            if let Some(found) = entries.iter().find(|entry| entry.name == name) {
                return Ok(Some((block, found.inode)));
            }
        }
        Ok(None)
    }

    /// Adds an entry to a hashed folder.
    ///
    /// # Errors
    /// When the index is invalid, or no block is free.
    pub(super) fn add_hashed(
        &mut self,
        open: &mut OpenInode,
        name: &[u8],
        inode: u32,
        kind: u8,
    ) -> Result<()> {
        let wrong = || Error::corrupt("the index of a folder is invalid");
        let seed = open.inode.seed(self.superblock());
        let has_tail = self.superblock().has_metadata_csum();
        let mut blocks = open.blocks();
        let (way, hash) = self.way_to(open, &blocks, name)?;
        let block = *blocks.get(way.leaf.exact_as::<usize>()?).ok_or_else(wrong)?;
        let mut content = self.space.block(block)?;
        if folder::insert(&mut content, name, inode, kind, has_tail).is_some() {
            return self.put_folder_block(block, content, seed);
        }
        let new = || Hashed { hash, name: name.to_vec(), inode, kind };
        let (node_at, mut children, on) = way.nodes.last().cloned().ok_or_else(wrong)?;
        let (root_room, room) =
            folder::index_rooms(self.space.block_len(), has_tail).ok_or_else(wrong)?;
        let room = if node_at == 0 { root_room } else { room };
        let hasher = NameHash::of(way.hash_version, self.superblock()).ok_or_else(wrong)?;
        if children.len() >= room {
            return self.make_index(open, &way, Some(new()));
        }
        let mut entries = hashed(&content, hasher).ok_or_else(wrong)?;
        entries.push(new());
        entries.sort_by(|a, b| (a.hash, &a.name).cmp(&(b.hash, &b.name)));
        let all: usize = entries.iter().map(Hashed::len).fold(0, usize::saturating_add);
        let mut left = 0usize;
        let middle = entries.iter().position(|entry| {
            left = left.saturating_add(entry.len());
            left > all / 2
        });
        let middle = middle.unwrap_or(1).clamp(1, entries.len().saturating_sub(1).max(1));
        let (low, high) = entries.split_at(middle);
        let (Some(low), Some(high_block)) = (self.leaf(low), self.leaf(high)) else {
            return self.make_index(open, &way, Some(new()));
        };
        let before = entries.get(middle.saturating_sub(1)).map(|entry| entry.hash);
        let first = entries.get(middle).map(|entry| entry.hash).ok_or_else(wrong)?;
        let goes_on = if before == Some(first) { GOES_ON } else { 0 };
        let behind = blocks.last().copied().unwrap_or(0);
        let taken = self.space.take(behind)?;
        let logical = blocks.len().exact_as::<u32>()?;
        blocks.push(taken);
        self.put_folder_block(block, low, seed)?;
        self.put_folder_block(taken, high_block, seed)?;
        children.insert(on.plus(1)?, (first | goes_on, logical));
        let node = *blocks.get(node_at.exact_as::<usize>()?).ok_or_else(wrong)?;
        let mut content = self.space.block(node)?;
        folder::put_index_node(&mut content, &children, has_tail).ok_or_else(wrong)?;
        self.put_folder_block(node, content, seed)?;
        open.put_blocks(&blocks);
        let size = blocks.len().exact_as::<u64>()?;
        open.inode.put_size(size.times(self.superblock().block_len)?);
        Ok(())
    }

    /// A leaf of these entries; `None` when they have no room.
    fn leaf(&self, entries: &[Hashed]) -> Option<Vec<u8>> {
        let has_tail = self.superblock().has_metadata_csum();
        let mut block = folder::empty(self.space.block_len(), has_tail);
        for one in entries {
            folder::insert(&mut block, &one.name, one.inode, one.kind, has_tail)?;
        }
        Some(block)
    }

    /// Converts a plain folder with a single block to a hashed one, with `entry` added; returns whether that is
    /// possible.
    ///
    /// # Errors
    /// When the folder is invalid, or no block is free.
    pub(super) fn start_index(
        &mut self,
        open: &mut OpenInode,
        name: &[u8],
        inode: u32,
        kind: u8,
    ) -> Result<bool> {
        if !self.superblock().has_dir_index() || open.blocks().len() != 1 {
            return Ok(false);
        }
        let told = self.space.opened.raw.get(0xfc).copied().unwrap_or(USUAL_HASH);
        let known = |version| NameHash::of(version, self.superblock());
        let version = if known(told).is_some() { told } else { USUAL_HASH };
        let Some(hasher) = known(version) else { return Ok(false) };
        let way = Way { hash_version: version, nodes: Vec::new(), leaf: 0 };
        let new = Hashed { hash: hasher.hash(name), name: name.to_vec(), inode, kind };
        self.make_index(open, &way, Some(new))?;
        open.inode.set_index();
        Ok(true)
    }

    /// Rebuilds the index of a folder, with `new` added.
    fn make_index(&mut self, open: &mut OpenInode, way: &Way, new: Option<Hashed>) -> Result<()> {
        let wrong = || Error::corrupt("a folder is invalid");
        let hasher = NameHash::of(way.hash_version, self.superblock()).ok_or_else(wrong)?;
        let has_tail = self.superblock().has_metadata_csum();
        let len = self.space.block_len();
        let mut blocks = open.blocks();
        let mut entries: Vec<Hashed> = new.into_iter().collect();
        let mut parent = None;
        for block in &blocks {
            let content = self.space.block(*block)?;
            if folder::is_node(&content) {
                parent = parent.or_else(|| parent_in(&content));
                continue;
            }
            for entry in hashed(&content, hasher).ok_or_else(wrong)? {
                match &entry.name[..] {
                    b"." => {}
                    b".." => parent = Some(entry.inode),
                    _ => entries.push(entry),
                }
            }
        }
        entries.sort_by(|a, b| (a.hash, &a.name).cmp(&(b.hash, &b.name)));
        let room = len.saturating_sub(if has_tail { folder::TAIL } else { 0 });
        let most = room.saturating_mul(FILLED) / 100;
        let mut leaves: Vec<(u32, Vec<Hashed>)> = Vec::new();
        let (mut filled, mut last) = (usize::MAX, None);
        for entry in entries {
            let own = entry.len();
            if filled.saturating_add(own) > most {
                let goes_on = if last == Some(entry.hash) { GOES_ON } else { 0 };
                leaves.push((entry.hash | goes_on, Vec::new()));
                filled = 0;
            }
            last = Some(entry.hash);
            filled = filled.saturating_add(own);
            if let Some((_, leaf)) = leaves.last_mut() {
                leaf.push(entry);
            }
        }
        let (root_room, node_room) = folder::index_rooms(len, has_tail).ok_or_else(wrong)?;
        let is_deep = leaves.len() > root_room;
        // Nodes get free space for more entries, too.
        let a_node = node_room.saturating_mul(FILLED) / 100;
        let nodes = if is_deep { leaves.len().div_ceil(a_node.max(1)) } else { 0 };
        if nodes > root_room {
            return Err(Error::no_room("its folder has too many names for an index"));
        }
        let needed = nodes.plus(leaves.len())?.plus(1)?;
        while blocks.len() < needed {
            let near = blocks.last().copied().unwrap_or_else(|| self.home_of(open.inode.number));
            blocks.push(self.space.take(near)?);
        }
        for block in blocks.split_off(needed) {
            self.space.give_back(block)?;
        }
        let seed = open.inode.seed(self.superblock());
        let first_leaf = nodes.plus(1)?;
        let mut children = Vec::new();
        for (index, (hash, entries)) in leaves.iter().enumerate() {
            let at = first_leaf.plus(index)?;
            let content = self.leaf(entries).ok_or_else(wrong)?;
            self.put_folder_block(*blocks.get(at).ok_or_else(wrong)?, content, seed)?;
            children.push((*hash, at.exact_as::<u32>()?));
        }
        if is_deep {
            let below = std::mem::take(&mut children);
            for (index, some) in below.chunks(a_node.max(1)).enumerate() {
                let at = index.plus(1)?;
                let mut content = vec![0; len];
                folder::put_index_node(&mut content, some, has_tail).ok_or_else(wrong)?;
                self.put_folder_block(*blocks.get(at).ok_or_else(wrong)?, content, seed)?;
                let (hash, _) = some.first().ok_or_else(wrong)?;
                children.push((*hash, at.exact_as::<u32>()?));
            }
        }
        let root = IndexRoot { hash_version: way.hash_version, levels: u8::from(is_deep) };
        let parent = parent.ok_or_else(wrong)?;
        let kind = self.kind_of(2);
        let made = folder::empty_index_root(len, open.inode.number, parent, kind, &root);
        let mut content = made.ok_or_else(wrong)?;
        folder::put_index_node(&mut content, &children, has_tail).ok_or_else(wrong)?;
        self.put_folder_block(*blocks.first().ok_or_else(wrong)?, content, seed)?;
        open.put_blocks(&blocks);
        let size = blocks.len().exact_as::<u64>()?;
        open.inode.put_size(size.times(self.superblock().block_len)?);
        Ok(())
    }
}

/// The child of a node for a hash: the last one whose own hash is not larger.
fn child_of(children: &[Child], hash: u32) -> usize {
    let above = children.iter().skip(1).take_while(|(lowest, _)| *lowest <= hash).count();
    above.min(children.len().saturating_sub(1))
}

/// The entries of a leaf, with their hashes; `None` when they are invalid.
fn hashed(block: &[u8], hasher: NameHash) -> Option<Vec<Hashed>> {
    let entries = folder::entries(block, 0)?.into_iter().map(|entry| Hashed {
        hash: hasher.hash(entry.name),
        name: entry.name.to_vec(),
        inode: entry.inode,
        kind: entry.kind,
    });
    Some(entries.collect())
}

/// The parent folder, from the root of an index.
fn parent_in(root: &[u8]) -> Option<u32> {
    folder::index_root(root)?;
    imbrik_store::bytes::le_u32(root, 12)
}
