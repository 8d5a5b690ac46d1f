//! A volume as it is after its journal was replayed, read through the log.

use super::log::{Logged, MAGIC, Replay, damaged};
use imbrik_store::{
    ReadAt,
    error::Result,
    units::{ByteLen, ByteOffset, Span},
};
use std::collections::BTreeMap;

/// A volume as it is after a replay.
pub(in crate::ext4) struct Replayed<S> {
    store: S,
    block_len: u64,
    blocks: BTreeMap<u64, Newer>,
}

/// The content of a block that is not the one in its place.
enum Newer {
    Logged(Logged),
    Made(Vec<u8>),
}

impl<S: ReadAt> Replayed<S> {
    /// `store` with the blocks of `replay`.
    pub(in crate::ext4) fn new(store: S, block_len: u64, replay: Replay) -> Self {
        let logged = replay.blocks.into_iter();
        let mut blocks: BTreeMap<_, _> =
            logged.map(|(block, logged)| (block, Newer::Logged(logged))).collect();
        blocks.insert(replay.head.0, Newer::Made(replay.head.1));
        Self { store, block_len, blocks }
    }

    /// Where the blocks lie whose content is not the one in their place, in order.
    pub(in crate::ext4) fn changed_spans(&self) -> Vec<Span> {
        let place = |block: u64| ByteOffset::new(block.saturating_mul(self.block_len));
        self.blocks
            .keys()
            .map(|block| Span::between(place(*block), place(block.saturating_add(1))))
            .collect()
    }

    /// Gives `block` the content `bytes`.
    pub(in crate::ext4) fn put(&mut self, block: u64, bytes: Vec<u8>) {
        self.blocks.insert(block, Newer::Made(bytes));
    }

    /// Reads `block` from byte `inside` on.
    fn read_newer(&self, newer: &Newer, inside: u64, buf: &mut [u8]) -> Result<()> {
        let skip = usize::try_from(inside).unwrap_or(usize::MAX);
        match newer {
            Newer::Made(bytes) => {
                let part = bytes.get(skip..skip.saturating_add(buf.len()));
                buf.copy_from_slice(part.ok_or_else(|| damaged("a block is too short"))?);
            }
            Newer::Logged(logged) => {
                let at = logged.at.saturating_add(ByteLen::new(inside));
                self.store.read_at(at, buf)?;
                if logged.is_escaped {
                    let magic = MAGIC.to_be_bytes();
                    let first = magic.get(skip..).unwrap_or_default();
                    for (place, byte) in buf.iter_mut().zip(first) {
                        *place = *byte;
                    }
                }
            }
        }
        Ok(())
    }
}

impl<S: ReadAt> ReadAt for Replayed<S> {
    fn size(&self) -> ByteLen {
        self.store.size()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let end = at.saturating_add(ByteLen::of(buf));
        let first = at.get().checked_div(self.block_len).unwrap_or(0);
        let mut at = at;
        let mut rest = buf;
        for (block, newer) in self.blocks.range(first..) {
            let start = ByteOffset::new(block.saturating_mul(self.block_len));
            if start >= end {
                break;
            }
            let (old, more) = std::mem::take(&mut rest)
                .split_at_mut(start.saturating_since(at).to_usize().unwrap_or(0));
            if !old.is_empty() {
                self.store.read_at(at, old)?;
                at = start;
            }
            let inside = at.saturating_since(start);
            let room = self.block_len.saturating_sub(inside.get());
            let room = usize::try_from(room).unwrap_or(0).min(more.len());
            let (now, later) = more.split_at_mut(room);
            self.read_newer(newer, inside.get(), now)?;
            at = at.saturating_add(ByteLen::of(now));
            rest = later;
        }
        if rest.is_empty() { Ok(()) } else { self.store.read_at(at, rest) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use imbrik_store::{SparseStore, read_vec};

    #[test]
    fn newer_blocks_show_wherever_a_read_begins_and_ends() {
        let mut plain: Vec<u8> = (0..4096u32).map(|i| (i / 7) as u8).collect();
        let store = SparseStore::of(&plain);
        let at = ByteOffset::new(3072);
        let replay = Replay {
            blocks: BTreeMap::from([(1, Logged { at, is_escaped: true })]),
            head: (2, vec![9; 512]),
            fast: Vec::new(),
        };
        let mut replayed = Replayed::new(store, 512, replay);
        replayed.put(4, vec![7; 512]);
        let copy = plain[3072..3584].to_vec();
        plain[512..1024].copy_from_slice(&copy);
        plain[512..516].copy_from_slice(&MAGIC.to_be_bytes());
        plain[1024..1536].fill(9);
        plain[2048..2560].fill(7);
        for (from, to) in [(0, 4096), (513, 515), (514, 1030), (500, 2050), (1536, 2048), (9, 9)] {
            let found = read_vec(&replayed, ByteOffset::new(from as u64), to - from).unwrap();
            assert_eq!(found, plain[from..to], "{from} to {to}");
        }
        let starts: Vec<_> =
            replayed.changed_spans().iter().map(|span| span.start().get()).collect();
        assert_eq!(starts, [512, 1024, 2048]);
    }
}
