//! Node blocks: the addresses of the data blocks that a file has.

use super::BLOCK;
use imbrik_store::bytes;

/// Offset of the footer.
const FOOTER: usize = BLOCK - 24;
/// Node numbers or addresses in a block that is not an inode, and its bytes that hold them.
const PER_BLOCK: u32 = 1018;
const BLOCK_ADDRESSES: std::ops::Range<usize> = 0..1018 * 4;
/// Position of an inode's double indirect node: after two direct nodes, and two indirect ones with the nodes that
/// each of them names.
const DOUBLE_INDIRECT: u32 = 5 + 2 * PER_BLOCK;
/// The position in the file of a node that holds extended attributes.
const XATTR_POSITION: u32 = u32::MAX >> 3;
/// The offset of the addresses in an inode, and their number.
const ADDRESSES: usize = 360;
const INODE_ADDRESSES: usize = 923;
/// `i_inline`.
const INLINE_XATTR: u8 = 0x01;
const INLINE_DATA: u8 = 0x02;
const INLINE_DENTRY: u8 = 0x04;
const EXTRA_ATTR: u8 = 0x20;
/// Addresses that inline extended attributes take unless the inode stores a number.
const DEFAULT_INLINE_XATTR: usize = 50;
/// Values of an address that name no block: not allocated yet, and the head of a compressed cluster.
const NO_BLOCK: [u32; 3] = [0, u32::MAX, u32::MAX - 1];

/// A node block of 4 KiB.
pub(super) struct Node<'a>(pub(super) &'a [u8]);

impl Node<'_> {
    /// The node's own number, from its footer.
    pub(super) fn number(&self) -> Option<u32> {
        bytes::le_u32(self.0, FOOTER)
    }

    /// Calls `each` with the address of every data block that the node names. `has_xattr_size` is whether
    /// inodes store the size of their inline extended attributes. Returns `None` when the block is too short.
    pub(super) fn data_blocks(
        &self,
        has_xattr_size: bool,
        mut each: impl FnMut(u32),
    ) -> Option<()> {
        let range = match bytes::le_u32(self.0, FOOTER + 4)? == self.number()? {
            true => self.inode_addresses(has_xattr_size)?,
            false if self.holds_addresses()? => BLOCK_ADDRESSES,
            false => 0..0,
        };
        for address in self.0.get(range)?.as_chunks::<4>().0 {
            let address = u32::from_le_bytes(*address);
            if !NO_BLOCK.contains(&address) {
                each(address);
            }
        }
        Some(())
    }

    /// Returns whether a node that is not an inode is a direct one.
    fn holds_addresses(&self) -> Option<bool> {
        let position = bytes::le_u32(self.0, FOOTER + 8)? >> 3;
        let is_indirect = match position.checked_sub(DOUBLE_INDIRECT + 1) {
            None => [3, 4 + PER_BLOCK, DOUBLE_INDIRECT].contains(&position),
            Some(below) => below.is_multiple_of(PER_BLOCK + 1),
        };
        Some(position != XATTR_POSITION && !is_indirect)
    }

    /// Byte range of an inode's addresses.
    fn inode_addresses(&self, has_xattr_size: bool) -> Option<std::ops::Range<usize>> {
        let kind = bytes::le_u16(self.0, 0)? & 0xf000;
        let inline = bytes::u8(self.0, 3)?;
        let has_addresses =
            matches!(kind, 0x8000 | 0x4000 | 0xa000) && inline & (INLINE_DATA | INLINE_DENTRY) == 0;
        if !has_addresses {
            return Some(0..0);
        }
        let extra = match inline & EXTRA_ATTR {
            0 => 0,
            _ => usize::from(bytes::le_u16(self.0, ADDRESSES)?) / 4,
        };
        let xattr = match inline & INLINE_XATTR {
            _ if has_xattr_size => usize::from(bytes::le_u16(self.0, ADDRESSES + 2)?),
            0 => 0,
            _ => DEFAULT_INLINE_XATTR,
        };
        let start = ADDRESSES.checked_add(extra.checked_mul(4)?)?;
        let end = INODE_ADDRESSES.checked_sub(xattr)?.checked_mul(4)?.checked_add(ADDRESSES)?;
        (start <= end).then_some(start..end)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn node(number: u32, inode: u32, position: u32) -> Vec<u8> {
        let mut block = vec![0; BLOCK];
        block[FOOTER..FOOTER + 4].copy_from_slice(&number.to_le_bytes());
        block[FOOTER + 4..FOOTER + 8].copy_from_slice(&inode.to_le_bytes());
        block[FOOTER + 8..FOOTER + 12].copy_from_slice(&(position << 3).to_le_bytes());
        block
    }

    fn addresses(block: &[u8]) -> Vec<u32> {
        let mut all = Vec::new();
        Node(block).data_blocks(false, |address| all.push(address)).unwrap();
        all
    }

    #[test]
    fn addresses_come_from_inodes_and_direct_nodes_only() {
        for (position, expected) in [
            (1, vec![77]),
            (2, vec![77]),
            (3, vec![]),
            (4, vec![77]),
            (4 + 1018, vec![]),
            (5 + 2 * 1018, vec![]),
            (6 + 2 * 1018, vec![]),
            (7 + 2 * 1018, vec![77]),
            (6 + 2 * 1018 + 1019, vec![]),
            (XATTR_POSITION, vec![]),
        ] {
            let mut block = node(9, 5, position);
            block[40..44].copy_from_slice(&77u32.to_le_bytes());
            assert_eq!(addresses(&block), expected, "{position}");
        }
        let mut inode = node(5, 5, 0);
        inode[..2].copy_from_slice(&0x81a4u16.to_le_bytes());
        inode[ADDRESSES..ADDRESSES + 12]
            .copy_from_slice(&[0xff, 0xff, 0xff, 0xff, 7, 0, 0, 0, 0, 0, 0, 0]);
        assert_eq!(addresses(&inode), [7]);
        inode[3] = INLINE_DATA;
        assert_eq!(addresses(&inode), [0u32; 0]);
        // A device node keeps its number where others have addresses.
        inode[3] = 0;
        inode[..2].copy_from_slice(&0x21a4u16.to_le_bytes());
        assert_eq!(addresses(&inode), [0u32; 0]);
    }
}
