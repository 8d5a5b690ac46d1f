//! Which bytes of a volume are in use.

use super::bits::{Bits, Run};
use crate::finding::VolumeFinding;
use imbrik_store::{
    error::Error,
    units::{ByteLen, ByteOffset, Span, joined},
};

/// Which bytes of a volume have to be read. What is in neither list is free and may hold anything.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Usage {
    /// In use, in order and joined, in bytes from the volume's start.
    pub used: Vec<Span>,
    /// Allocated, but never used or void: not read, and always written as zeros. Counts before
    /// `used` where both cover a byte.
    pub cleared: Vec<Span>,
    /// Bytes of `used` that belong to no file: superblocks, tables, bitmaps, the journal. Zero if the filesystem has
    /// its metadata in files or between them.
    pub metadata: ByteLen,
    /// Why the whole volume counts as used, when its own word is not taken for it.
    pub whole_because: Option<String>,
    /// Differences between its structures; blocks that either of them calls used count as used.
    pub findings: Vec<VolumeFinding>,
}

impl Usage {
    /// These spans are in use, those are cleared.
    pub(super) fn of(used: Vec<Span>, cleared: Vec<Span>) -> Self {
        Self {
            used: joined(used),
            cleared: joined(cleared),
            metadata: ByteLen::ZERO,
            whole_because: None,
            findings: Vec::new(),
        }
    }

    /// All `size` bytes count as used.
    pub(super) fn whole(size: ByteLen, because: impl Into<String>) -> Self {
        Self {
            used: vec![Span::whole(size)],
            cleared: Vec::new(),
            metadata: ByteLen::ZERO,
            whole_because: Some(because.into()),
            findings: Vec::new(),
        }
    }

    /// All `size` bytes count as used, because of an inconsistency.
    pub(super) fn distrusted(size: ByteLen, error: &Error) -> Self {
        Self::whole(size, error.to_string())
    }

    /// How many bytes are in use.
    #[must_use]
    pub fn in_use(&self) -> ByteLen {
        self.used.iter().map(|span| span.len()).sum()
    }

    /// How many bytes the files have, as `df` counts them.
    #[must_use]
    pub fn in_files(&self) -> ByteLen {
        self.in_use().saturating_sub(self.metadata)
    }

    /// How many bytes of `volume` are free. A partition may be longer than its volume: what follows it is copied, but is
    /// not part of it.
    #[must_use]
    pub fn free_in(&self, volume: Span) -> ByteLen {
        let inside = self.used.iter().filter_map(|span| span.intersect(volume));
        volume.len().saturating_sub(inside.map(Span::len).sum())
    }

    /// How many bytes have to be read: the used without the cleared.
    #[must_use]
    pub fn read(&self) -> ByteLen {
        let used = self.in_use();
        let mut both = ByteLen::ZERO;
        let mut cleared = self.cleared.iter().peekable();
        for used in &self.used {
            while let Some(next) = cleared.peek() {
                let common = next.intersect(*used).map_or(ByteLen::ZERO, Span::len);
                both = both.saturating_add(common);
                if next.end() > used.end() {
                    break;
                }
                cleared.next();
            }
        }
        used.saturating_sub(both)
    }
}

/// The ranges of the clusters in `set`, which are numbered from 0, have `cluster` bytes, and start at `start`.
pub(super) fn cluster_spans(set: &Bits, start: ByteOffset, cluster: ByteLen) -> Vec<Span> {
    let place = |number: u64| start.saturating_add(cluster.checked_mul(number).unwrap_or_default());
    let runs = set.runs(Run::new(0, set.len()));
    runs.map(|run| Span::between(place(run.first), place(run.end()))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    fn span(start: u64, end: u64) -> Span {
        Span::between(ByteOffset::new(start), ByteOffset::new(end))
    }

    #[test]
    fn clusters_are_converted_to_spans() {
        let mut set = Bits::new(7);
        for number in [0, 1, 4, 6] {
            set.add(Run::new(number, 1));
        }
        let spans = cluster_spans(&set, ByteOffset::new(100), ByteLen::new(10));
        assert_eq!(spans, [span(100, 120), span(140, 150), span(160, 170)]);
    }

    #[test]
    fn cleared_ranges_are_not_read() {
        let usage = Usage::of(
            vec![span(0, 100), span(200, 300)],
            vec![span(10, 20), span(90, 210), span(250, 260), span(400, 500)],
        );
        assert_eq!(usage.read(), ByteLen::new(200 - 10 - 10 - 10 - 10));
    }
}
