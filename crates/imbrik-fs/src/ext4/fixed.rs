//! The blocks that a volume's own metadata take at places which its superblock and its descriptors
//! name: superblocks, descriptors, bitmaps and inode tables.

use super::{group::Group, superblock::Superblock};
use crate::bits::Run;
use imbrik_store::error::{Error, Result};

/// The runs of such blocks, in order, none of them on another.
pub(super) struct Fixed(Vec<Run>);

impl Fixed {
    /// Those of a volume with these descriptors.
    ///
    /// # Errors
    /// [`imbrik_store::Class::Corrupt`] when two of them overlap, or one is outside of the volume.
    pub(super) fn of(superblock: &Superblock, groups: &[Group]) -> Result<Self> {
        let mut all: Vec<(Run, u64)> = Vec::new();
        for (number, group) in (0u64..).zip(groups) {
            let leading = superblock.leading_blocks(number).min(superblock.group_len(number));
            let runs = [
                Run::new(superblock.group_start(number), leading),
                Run::new(group.block_bitmap, 1),
                Run::new(group.inode_bitmap, 1),
                Run::new(group.inode_table, superblock.table_blocks()),
            ];
            all.extend(runs.into_iter().filter(|run| run.len > 0).map(|run| (run, number)));
        }
        all.sort_unstable();
        let mut behind = superblock.first_data_block;
        for (run, number) in &all {
            if run.first < behind || run.end() > superblock.blocks {
                return Err(Error::corrupt(format!(
                    "group {number}: its metadata overlap with others or lie outside"
                )));
            }
            behind = run.end();
        }
        Ok(Self(all.into_iter().map(|(run, _)| run).collect()))
    }

    /// The ranges within `within`, in order.
    pub(super) fn within(&self, within: Run) -> impl Iterator<Item = Run> + '_ {
        let first = self.0.partition_point(|run| run.end() <= within.first);
        let near = self.0.get(first..).unwrap_or_default().iter();
        near.take_while(move |run| run.first < within.end()).map(move |run| {
            let start = run.first.max(within.first);
            Run::new(start, run.end().min(within.end()).saturating_sub(start))
        })
    }

    /// Returns whether `run` has a block in common with them.
    pub(super) fn touches(&self, run: Run) -> bool {
        self.within(run).next().is_some()
    }

    /// All runs, in order.
    pub(super) fn runs(&self) -> &[Run] {
        &self.0
    }
}
