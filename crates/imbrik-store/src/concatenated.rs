//! A store made of pieces of others, one behind the other.

use super::{ReadAt, check_range};
use crate::{
    error::{Error, Result},
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::{fmt, sync::Arc};

/// A store made of pieces of others, one behind the other.
#[derive(Clone)]
pub struct Concatenated {
    size: ByteLen,
    sector: SectorSize,
    pieces: Vec<Piece>,
}

#[derive(Clone)]
struct Piece {
    span: Span,
    /// Where it comes from; zeros when from nowhere.
    from: Option<(Arc<dyn ReadAt>, ByteOffset)>,
}

impl fmt::Debug for Concatenated {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} pieces, {} in all", self.pieces.len(), self.size)
    }
}

impl Concatenated {
    /// No piece yet. It says that it works in sectors of `sector`.
    #[must_use]
    pub fn new(sector: SectorSize) -> Self {
        Self { size: ByteLen::ZERO, sector, pieces: Vec::new() }
    }

    /// Adds the first `len` bytes of `store` from `from` on. What lies behind its end is zeros.
    pub fn push(&mut self, store: &Arc<dyn ReadAt>, from: ByteOffset, len: ByteLen) {
        let there = ByteOffset::new(store.size().get()).saturating_since(from).min(len);
        self.add(Some((Arc::clone(store), from)), there);
        self.push_zeros(len.saturating_sub(there));
    }

    /// Adds `len` zeros.
    pub fn push_zeros(&mut self, len: ByteLen) {
        self.add(None, len);
    }

    fn add(&mut self, from: Option<(Arc<dyn ReadAt>, ByteOffset)>, len: ByteLen) {
        let start = ByteOffset::new(self.size.get());
        let span = Span::between(start, start.saturating_add(len));
        if !span.is_empty() {
            self.size = self.size.saturating_add(len);
            self.pieces.push(Piece { span, from });
        }
    }
}

impl ReadAt for Concatenated {
    fn size(&self) -> ByteLen {
        self.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        let wanted = Span::between(at, at.saturating_add(ByteLen::of(buf)));
        let first = self.pieces.partition_point(|piece| piece.span.end() <= at);
        let mut rest = buf;
        for piece in self.pieces.get(first..).unwrap_or_default() {
            let Some(both) = piece.span.intersect(wanted) else { break };
            let len = both.len().to_usize().unwrap_or(0).min(rest.len());
            let (now, later) = rest.split_at_mut(len);
            let ahead = both.start().saturating_since(piece.span.start());
            match &piece.from {
                Some((store, from)) => store.read_at(from.saturating_add(ahead), now)?,
                None => now.fill(0),
            }
            rest = later;
        }
        match rest {
            [] => Ok(()),
            _ => Err(Error::corrupt(format!("the pieces have a hole in {wanted}"))),
        }
    }

    fn sector_size(&self) -> SectorSize {
        self.sector
    }
}
