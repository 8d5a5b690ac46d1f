//! Which bytes of a volume are in use.

use crate::{
    error::Error,
    units::{ByteLen, Span, joined},
};

/// Which bytes of a volume have to be read. What is in neither list is free and may hold anything.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Usage {
    /// In use, in order and joined, in bytes from the volume's start.
    pub used: Vec<Span>,
    /// Allocated, but never used or void: not read, and always written as zeros. Counts before
    /// `used` where both cover a byte.
    pub cleared: Vec<Span>,
    /// Why the whole volume counts as used, when its own word is not taken for it.
    pub whole_because: Option<String>,
}

impl Usage {
    /// These spans are in use, those are cleared.
    pub(super) fn of(used: Vec<Span>, cleared: Vec<Span>) -> Self {
        Self { used: joined(used), cleared: joined(cleared), whole_because: None }
    }

    /// All `size` bytes count as used.
    pub(super) fn whole(size: ByteLen, because: impl Into<String>) -> Self {
        Self {
            used: vec![Span::whole(size)],
            cleared: Vec::new(),
            whole_because: Some(because.into()),
        }
    }

    /// All `size` bytes count as used, because of what was found wrong.
    pub(super) fn distrusted(size: ByteLen, error: &Error) -> Self {
        Self::whole(size, error.to_string())
    }

    /// How many bytes are in use.
    #[must_use]
    pub fn in_use(&self) -> ByteLen {
        self.used.iter().map(|span| span.len()).sum()
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

/// Collects the used clusters of a volume into spans.
pub(super) struct ClusterRuns {
    data: Span,
    cluster: ByteLen,
    from: Option<u64>,
    behind: u64,
    spans: Vec<Span>,
}

impl ClusterRuns {
    /// Clusters of `cluster` bytes from the start of `data`.
    pub(super) fn new(data: Span, cluster: ByteLen) -> Self {
        Self { data, cluster, from: None, behind: 0, spans: Vec::new() }
    }

    /// The cluster `number`, counted from 0; they come in order.
    pub(super) fn push(&mut self, number: u64, is_used: bool) {
        match (is_used, self.from) {
            (true, None) => self.from = Some(number),
            (false, Some(_)) => self.close(),
            _ => {}
        }
        if is_used {
            self.behind = number.saturating_add(1);
        }
    }

    fn close(&mut self) {
        let Some(from) = self.from.take() else { return };
        let place = |number: u64| {
            let ahead = self.cluster.checked_mul(number).unwrap_or_default();
            self.data.start().saturating_add(ahead)
        };
        self.spans.push(Span::between(place(from), place(self.behind)));
    }

    /// The spans of all that were used.
    pub(super) fn finish(mut self) -> Vec<Span> {
        self.close();
        self.spans
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::ByteOffset;

    fn span(start: u64, end: u64) -> Span {
        Span::between(ByteOffset::new(start), ByteOffset::new(end))
    }

    #[test]
    fn clusters_become_spans() {
        let mut runs = ClusterRuns::new(span(100, 200), ByteLen::new(10));
        for (number, is_used) in [true, true, false, false, true, false, true].iter().enumerate() {
            runs.push(number as u64, *is_used);
        }
        assert_eq!(runs.finish(), [span(100, 120), span(140, 150), span(160, 170)]);
    }

    #[test]
    fn what_is_cleared_is_not_read() {
        let usage = Usage::of(
            vec![span(0, 100), span(200, 300)],
            vec![span(10, 20), span(90, 210), span(250, 260), span(400, 500)],
        );
        assert_eq!(usage.read(), ByteLen::new(200 - 10 - 10 - 10 - 10));
    }
}
