//! The boot sector of FAT volumes (section 3 of the specification).

use crate::clusters::Link;
use imbrik_store::{
    bytes,
    units::{ByteLen, ByteOffset, Span},
};

/// The bits of a 32-bit entry that are not its own.
pub(super) const TOP: u32 = 0xf000_0000;

/// How wide the entries of the file allocation table are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Width {
    Bits12,
    Bits16,
    Bits32,
}

impl Width {
    /// The number of bits per entry.
    pub(super) fn bits(self) -> u64 {
        match self {
            Self::Bits12 => 12,
            Self::Bits16 => 16,
            Self::Bits32 => 32,
        }
    }

    /// Returns whether `entry` can be the first of a table: a media byte below ones. It need not be the media byte of
    /// the boot sector.
    pub(super) fn is_media(self, entry: u32) -> bool {
        let ones = self.bad() | 0x8;
        entry | 0xff == ones | 0xff && matches!(entry & 0xff, 0xf0 | 0xf8..=0xff)
    }

    /// The meaning of an entry in a volume of `clusters` clusters, ignoring the top four bits of 32-bit ones.
    pub(super) fn link(self, raw: u32, clusters: u64) -> Link {
        let value = if self == Self::Bits32 { raw & !TOP } else { raw };
        match value {
            0 => Link::Free,
            _ if value == self.bad() => Link::Bad,
            _ if value > self.bad() => Link::Last,
            _ => match u64::from(value).checked_sub(2) {
                Some(next) if next < clusters => Link::To(next),
                _ => Link::Wrong(value),
            },
        }
    }

    /// The entry that marks a cluster as bad: nothing of the volume is in it.
    pub(super) fn bad(self) -> u32 {
        match self {
            Self::Bits12 => 0xff7,
            Self::Bits16 => 0xfff7,
            Self::Bits32 => 0x0fff_fff7,
        }
    }
}

/// A boot sector with consistent values.
#[derive(Debug)]
pub(super) struct BootSector {
    pub(super) width: Width,
    /// The number of clusters, and their size.
    pub(super) clusters: u64,
    pub(super) cluster: ByteLen,
    /// `BPB_BytsPerSec` and `BPB_SecPerClus`.
    pub(super) sector: u64,
    pub(super) sec_per_clus: u64,
    /// `BPB_RsvdSecCnt`: the sectors before the tables.
    pub(super) reserved: u64,
    /// `BPB_NumFATs`, and the sectors of each.
    pub(super) table_count: u64,
    pub(super) table_sectors: u64,
    /// The sectors of the root directory of FAT12 and FAT16; 0 on FAT32.
    pub(super) root_sectors: u64,
    /// The root directory's first cluster on FAT32, as the tables count; 0 on others.
    pub(super) root_cluster: u32,
    /// `BPB_ExtFlags`, `BPB_FSInfo` and `BPB_BkBootSec`; 0 but on FAT32.
    pub(super) ext_flags: u16,
    pub(super) fs_info: u64,
    pub(super) backup: u64,
    first_table: ByteOffset,
    table_len: ByteLen,
    data_start: ByteOffset,
    /// `BS_VolID`, 0 if it has none.
    pub(super) serial: u32,
    /// `BS_VolLab`, without the placeholder that tools write for "none".
    pub(super) label: Option<String>,
    pub(super) volume_len: ByteLen,
    /// The offset of the root directory, or of its first cluster.
    pub(super) root_directory: ByteOffset,
}

impl BootSector {
    /// Decodes the first 512 bytes; `None` unless they are a FAT boot sector in order.
    pub(super) fn decode(raw: &[u8]) -> Option<Self> {
        let jump = (bytes::u8(raw, 0)?, bytes::u8(raw, 2)?);
        if !matches!(jump, (0xeb, 0x90) | (0xe9, _)) || bytes::le_u16(raw, 510)? != 0xaa55 {
            return None;
        }
        let byts_per_sec = u64::from(bytes::le_u16(raw, 11)?);
        let sec_per_clus = u64::from(bytes::u8(raw, 13)?);
        let rsvd_sec_cnt = u64::from(bytes::le_u16(raw, 14)?);
        let num_fats = u64::from(bytes::u8(raw, 16)?);
        let root_ent_cnt = u64::from(bytes::le_u16(raw, 17)?);
        let media = bytes::u8(raw, 21)?;
        let fat_sz_16 = u64::from(bytes::le_u16(raw, 22)?);
        let tot_sec = match bytes::le_u16(raw, 19)? {
            0 => u64::from(bytes::le_u32(raw, 32)?),
            small => u64::from(small),
        };
        let is_sound = matches!(byts_per_sec, 512 | 1024 | 2048 | 4096)
            && sec_per_clus.is_power_of_two()
            && rsvd_sec_cnt > 0
            && (1..=2).contains(&num_fats)
            && (media == 0xf0 || media >= 0xf8);
        if !is_sound {
            return None;
        }
        // FATSz16 = 0 means FAT32 whatever the count of clusters.
        let is_32 = fat_sz_16 == 0;
        let fat_sz = if is_32 { u64::from(bytes::le_u32(raw, 36)?) } else { fat_sz_16 };
        let root_dir_sectors = root_ent_cnt.checked_mul(32)?.div_ceil(byts_per_sec);
        let first_root = rsvd_sec_cnt.checked_add(num_fats.checked_mul(fat_sz)?)?;
        let first_data = first_root.checked_add(root_dir_sectors)?;
        let clusters = tot_sec.checked_sub(first_data)?.checked_div(sec_per_clus)?;
        if fat_sz == 0 || clusters == 0 {
            return None;
        }
        let width = match clusters {
            _ if is_32 => Width::Bits32,
            ..4085 => Width::Bits12,
            _ => Width::Bits16,
        };
        let root_sector = if is_32 {
            let root_clus = u64::from(bytes::le_u32(raw, 44)?).checked_sub(2)?;
            first_data.checked_add(root_clus.checked_mul(sec_per_clus)?)?
        } else {
            first_root
        };
        // A table too short for its clusters describes another volume than this.
        let table_bits = clusters.checked_add(2)?.checked_mul(width.bits())?;
        if table_bits.div_ceil(8) > fat_sz.checked_mul(byts_per_sec)? {
            return None;
        }
        let extended = if is_32 { 64usize } else { 36 };
        let signed = bytes::u8(raw, extended.checked_add(2)?)? == 0x29;
        let (id_at, label_at) = (extended.checked_add(3)?, extended.checked_add(7)?);
        let label = raw.get(label_at..label_at.checked_add(11)?).filter(|_| signed);
        let of_32 = |at: usize| if is_32 { bytes::le_u16(raw, at) } else { Some(0) };
        Some(Self {
            sector: byts_per_sec,
            sec_per_clus,
            reserved: rsvd_sec_cnt,
            table_sectors: fat_sz,
            root_sectors: root_dir_sectors,
            root_cluster: if is_32 { bytes::le_u32(raw, 44)? } else { 0 },
            ext_flags: of_32(40)?,
            fs_info: of_32(48)?.into(),
            backup: of_32(50)?.into(),
            width,
            clusters,
            cluster: ByteLen::new(sec_per_clus.checked_mul(byts_per_sec)?),
            first_table: ByteOffset::new(rsvd_sec_cnt.checked_mul(byts_per_sec)?),
            table_len: ByteLen::new(fat_sz.checked_mul(byts_per_sec)?),
            table_count: num_fats,
            data_start: ByteOffset::new(first_data.checked_mul(byts_per_sec)?),
            serial: if signed { bytes::le_u32(raw, id_at)? } else { 0 },
            label: label.filter(|label| *label != b"NO NAME    ").and_then(bytes::text),
            volume_len: ByteLen::new(tot_sec.checked_mul(byts_per_sec)?),
            root_directory: ByteOffset::new(root_sector.checked_mul(byts_per_sec)?),
        })
    }
}

/// Clusters that a resized volume stays clear of the counts that decide its width.
const CLEARANCE: u64 = 16;

impl BootSector {
    /// The fewest and the most clusters that keep its width, well clear of where that changes.
    pub(super) fn bounds(&self) -> (u64, u64) {
        let (fewest, most) = match self.width {
            Width::Bits12 => (1, 4084u64.saturating_sub(CLEARANCE)),
            Width::Bits16 => {
                (4085u64.saturating_add(CLEARANCE), 65_524u64.saturating_sub(CLEARANCE))
            }
            // A smaller volume keeps its width.
            Width::Bits32 if self.clusters < 65_525 => (1, 65_524u64.saturating_sub(CLEARANCE)),
            Width::Bits32 => {
                (65_525u64.saturating_add(CLEARANCE), 0x0fff_fff5u64.saturating_sub(CLEARANCE))
            }
        };
        (fewest.min(self.clusters), most.max(self.clusters))
    }

    /// The valid table: the first, unless the volume says that they are not mirrored.
    pub(super) fn active_table(&self) -> usize {
        // Bit 7: only one table is written; the low bits select it.
        let alone = self.width == Width::Bits32 && self.ext_flags & 0x80 != 0;
        if alone { usize::from(self.ext_flags & 0xf) } else { 0 }
    }

    /// The first cluster that an entry of a folder names, counted from 0; `None` for none.
    pub(super) fn first_of(&self, entry: &[u8]) -> Option<u64> {
        let high = match self.width {
            Width::Bits32 => u64::from(bytes::le_u16(entry, 20)?) << 16,
            // No cluster in it: old systems keep other things there.
            _ => 0,
        };
        (u64::from(bytes::le_u16(entry, 26)?) | high).checked_sub(2)
    }

    /// The range of the clusters.
    pub(super) fn data(&self) -> Span {
        let len = self.cluster.checked_mul(self.clusters).unwrap_or_default();
        Span::between(self.data_start, self.data_start.saturating_add(len))
    }

    /// The ranges of the copies of the allocation table.
    pub(super) fn tables(&self) -> impl Iterator<Item = Span> {
        (0..self.table_count).map(|index| {
            let ahead = self.table_len.checked_mul(index).unwrap_or_default();
            let start = self.first_table.saturating_add(ahead);
            Span::between(start, start.saturating_add(self.table_len))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A FAT16 boot sector with `tot_sec` sectors.
    fn sector(tot_sec: u16) -> Vec<u8> {
        let mut raw = vec![0; 512];
        raw[..3].copy_from_slice(&[0xeb, 0x3c, 0x90]);
        raw[11..13].copy_from_slice(&512u16.to_le_bytes());
        raw[13] = 4;
        raw[14] = 1;
        raw[16] = 2;
        raw[17..19].copy_from_slice(&512u16.to_le_bytes());
        raw[19..21].copy_from_slice(&tot_sec.to_le_bytes());
        raw[21] = 0xf8;
        raw[22] = 64;
        raw[510..].copy_from_slice(&[0x55, 0xaa]);
        raw
    }

    #[test]
    fn cluster_count_decides_the_fat_width() {
        let first_data = 1 + 2 * 64 + 32;
        let at = |clusters: u16| BootSector::decode(&sector(first_data + clusters * 4)).unwrap();
        assert_eq!(at(4084).width, Width::Bits12);
        assert_eq!(at(4085).width, Width::Bits16);
    }

    #[test]
    fn inconsistent_boot_sector_is_rejected() {
        for (at, value) in [(11, 1), (13, 3), (14, 0), (16, 0), (16, 9), (21, 0x10), (510, 0)] {
            let mut raw = sector(40_000);
            assert!(BootSector::decode(&raw).is_some());
            raw[at] = value;
            assert!(BootSector::decode(&raw).is_none(), "byte {at} = {value}");
        }
        assert!(BootSector::decode(&sector(50)).is_none(), "no room for a single cluster");
    }
}
