//! A volume after its journal was replayed: blocks of the log at their places.

use super::log::{MAGIC, Replay};
use imbrik_store::{
    Concatenated, Edited, ReadAt, Spill, bytes,
    error::Result,
    exact::invariant_error,
    units::{ByteLen, ByteOffset, Span, joined},
};
use std::sync::Arc;

/// A volume after a replay, in which more blocks can be changed.
pub(in crate::ext4) struct Replayed {
    blocks: Edited,
    /// The ranges of the replayed blocks, in order.
    logged: Vec<Span>,
}

impl Replayed {
    /// `store` with the blocks of `replay`.
    ///
    /// # Errors
    /// When a block with an escaped start in the log cannot be read.
    pub(in crate::ext4) fn new(
        store: &Arc<dyn ReadAt>,
        block_len: u64,
        replay: Replay,
    ) -> Result<Self> {
        let place = |block: u64| ByteOffset::new(block.saturating_mul(block_len));
        let mut pieces = Concatenated::new(store.sector_size());
        let mut logged = Vec::new();
        for (block, newer) in &replay.blocks {
            let span = Span::between(place(*block), place(block.saturating_add(1)));
            let at = ByteOffset::new(pieces.size().get());
            pieces.push(store, at, span.start().saturating_since(at));
            pieces.push(store, newer.at, ByteLen::new(block_len));
            logged.push(span);
        }
        let at = ByteOffset::new(pieces.size().get());
        pieces.push(store, at, ByteOffset::new(store.size().get()).saturating_since(at));
        let units = Spill::new(block_len, ByteLen::ZERO, None);
        let mut blocks = Edited::in_units(Arc::new(pieces), block_len, units);
        for (block, _) in replay.blocks.iter().filter(|(_, newer)| newer.is_escaped) {
            let mut content = blocks.unit(*block)?;
            bytes::put(&mut content, 0, MAGIC.to_be_bytes())
                .ok_or_else(|| invariant_error("a block of a journal is shorter than its mark"))?;
            blocks.put_unit(*block, content)?;
        }
        blocks.put_unit(replay.head.0, replay.head.1)?;
        Ok(Self { blocks, logged })
    }

    /// Gives `block` the content `bytes`.
    ///
    /// # Errors
    /// When that is not a block long.
    pub(in crate::ext4) fn put(&mut self, block: u64, bytes: Vec<u8>) -> Result<()> {
        self.blocks.put_unit(block, bytes)
    }

    /// The present volume.
    pub(in crate::ext4) fn store(&self) -> &dyn ReadAt {
        &self.blocks
    }

    /// The volume, and the ranges of its blocks with other content than on the medium, in order and joined.
    pub(in crate::ext4) fn finished(self) -> (Arc<dyn ReadAt>, Vec<Span>) {
        let changed = joined(self.logged.into_iter().chain(self.blocks.spans()).collect());
        (Arc::new(self.blocks), changed)
    }
}

#[cfg(test)]
mod tests {
    use super::{super::log::Logged, *};
    use imbrik_store::{SparseStore, read_vec};
    use std::collections::BTreeMap;

    #[test]
    fn replayed_blocks_appear_at_any_read_offset() {
        let mut plain: Vec<u8> = (0..4096u32).map(|i| (i / 7) as u8).collect();
        let store = SparseStore::of(&plain);
        let at = ByteOffset::new(3072);
        let replay = Replay {
            blocks: BTreeMap::from([(1, Logged { at, is_escaped: true })]),
            head: (2, vec![9; 512]),
            fast: Vec::new(),
        };
        let store: Arc<dyn ReadAt> = Arc::new(store);
        let mut replayed = Replayed::new(&store, 512, replay).unwrap();
        replayed.put(4, vec![7; 512]).unwrap();
        let (replayed, changed) = replayed.finished();
        let copy = plain[3072..3584].to_vec();
        plain[512..1024].copy_from_slice(&copy);
        plain[512..516].copy_from_slice(&MAGIC.to_be_bytes());
        plain[1024..1536].fill(9);
        plain[2048..2560].fill(7);
        for (from, to) in [(0, 4096), (513, 515), (514, 1030), (500, 2050), (1536, 2048), (9, 9)] {
            let found = read_vec(&replayed, ByteOffset::new(from as u64), to - from).unwrap();
            assert_eq!(found, plain[from..to], "{from} to {to}");
        }
        let changed: Vec<_> =
            changed.iter().map(|span| (span.start().get(), span.end().get())).collect();
        assert_eq!(changed, [(512, 1536), (2048, 2560)]);
    }
}
