//! All of a card that may be written: filled, read back, and cleared.

use super::{PIECE, SECTOR, Shortfall, Weighing};
use imbrik_store::{
    ReadAt, WriteAt,
    error::Result,
    exact::Exact as _,
    for_pieces, if_readable,
    progress::{Event, Step},
    units::{ByteLen, ByteOffset, Span},
};

impl Weighing<'_> {
    /// Fills all that may be written, reads it back, and leaves zeros.
    pub(super) fn fill(&self, proved: &mut ByteLen) -> Result<Option<Shortfall>> {
        let observer = self.watch.observer;
        let all: ByteLen = self.plan.free.iter().map(|span| span.len()).sum();
        let total = ByteLen::new(all.get().times(3)?);
        observer.on(&Event::Started { step: Step::Filling, total });
        let mut done = ByteLen::ZERO;
        let mut advance = |len: ByteLen| {
            done = done.saturating_add(len);
            observer.on(&Event::Advanced { done });
            self.watch.cancel.check()
        };
        let content = |piece: Span| {
            let sectors = piece.start().get() / 512..piece.end().get() / 512;
            let mut bytes = Vec::with_capacity(piece.len().to_usize().unwrap_or(0));
            for sector in sectors {
                let words = [sector, sector ^ u64::from_le_bytes([0x5a; 8])];
                let [a, b] = words.map(u64::to_le_bytes);
                for _ in 0..SECTOR / 32 {
                    bytes.extend(self.nonce);
                    bytes.extend(a);
                    bytes.extend(b);
                }
            }
            bytes
        };
        let pieces = |work: &mut dyn FnMut(Span) -> Result<()>| {
            let whole = |span: &Span| {
                let start = span.start().get().next_multiple_of(512);
                let end = span.end().get().saturating_sub(span.end().get() % 512);
                Span::between(ByteOffset::new(start), ByteOffset::new(end))
            };
            self.plan
                .free
                .iter()
                .map(whole)
                .try_for_each(|span| for_pieces(span, PIECE, &mut *work))
        };
        let mut shortfall = None;
        let filled = pieces(&mut |piece| {
            self.store.write_at(piece.start(), &content(piece))?;
            advance(piece.len())
        })
        .and_then(|()| self.store.flush())
        .and_then(|()| {
            let medium = self.medium()?;
            pieces(&mut |piece| {
                let mut found = vec![0; piece.len().to_usize().unwrap_or(0)];
                let read = if_readable(medium.read_at(piece.start(), &mut found))?;
                if shortfall.is_none() && (read.is_none() || found != content(piece)) {
                    shortfall = Some(self.told_by(piece, &found, &content(piece)));
                } else if shortfall.is_none() {
                    *proved = proved.plus(piece.len())?;
                }
                advance(piece.len())
            })
        });
        let cleared = pieces(&mut |piece| {
            self.store.zero_at(piece)?;
            // A started test is completed.
            let _ = advance(piece.len());
            Ok(())
        });
        observer.on(&Event::Finished);
        filled.and(cleared).and_then(|()| self.store.flush())?;
        Ok(shortfall)
    }

    /// Interprets a piece with other data than were written: those of another offset, or none.
    fn told_by(&self, piece: Span, found: &[u8], expected: &[u8]) -> Shortfall {
        let sectors = found.chunks(SECTOR).zip(expected.chunks(SECTOR));
        for (index, (found, expected)) in (0u64..).zip(sectors) {
            if found == expected {
                continue;
            }
            let at = piece.start().get().saturating_add(index.saturating_mul(512));
            let other = found.strip_prefix(&self.nonce);
            let other = other.and_then(|rest| imbrik_store::bytes::le_u64(rest, 0));
            return match other.map(|sector| sector.saturating_mul(512).abs_diff(at)) {
                Some(apart @ 1..) => Shortfall::Wraps(ByteLen::new(apart)),
                _ => Shortfall::Ends(ByteOffset::new(at)),
            };
        }
        Shortfall::Ends(piece.start())
    }
}
