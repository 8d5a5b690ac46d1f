//! How fast a card is.

use super::{MARK, PIECE, PLACES, SMALL_WRITES, Weighed, Weighing};
use imbrik_store::{
    ReadAt, WriteAt,
    error::{Error, Result},
    exact::Exact as _,
    for_pieces, if_readable,
    units::{ByteLen, ByteOffset, Span},
};
use std::time::{Duration, Instant};

impl Weighing<'_> {
    /// Measures the rates of sequential reads and writes, and of small writes, in the field.
    pub(super) fn measure(&self, field: Span, weighed: &mut Weighed) -> Result<()> {
        let mut old = Vec::new();
        let took = timed(|| {
            for_pieces(field, PIECE, |piece| {
                let mut bytes = vec![0; piece.len().to_usize().unwrap_or(0)];
                self.store.read_at(piece.start(), &mut bytes)?;
                old.push((piece.start(), bytes));
                Ok(())
            })
        })?;
        weighed.read_rate = Some(per_second(field.len().get(), took));
        let done = self.write_field(field, weighed);
        let old = match self.plan.options.zero || self.plan.options.full || self.plan.options.erase
        {
            true => old.into_iter().map(|(at, bytes)| (at, vec![0; bytes.len()])).collect(),
            false => old,
        };
        self.put_back(old)?;
        done
    }

    fn write_field(&self, field: Span, weighed: &mut Weighed) -> Result<()> {
        let noise = |at: ByteOffset, len: usize| {
            let mut bytes = vec![0; len];
            let mut hasher = blake3::Hasher::new();
            hasher.update(&self.nonce).update(&at.get().to_le_bytes());
            hasher.finalize_xof().fill(&mut bytes);
            bytes
        };
        let took = timed(|| {
            for_pieces(field, PIECE, |piece| {
                self.watch.cancel.check()?;
                let bytes = noise(piece.start(), piece.len().to_usize().unwrap_or(0));
                self.store.write_at(piece.start(), &bytes)
            })?;
            self.store.flush()
        })?;
        weighed.write_rate = Some(per_second(field.len().get(), took));
        let medium = self.medium()?;
        for_pieces(field, PIECE, |piece| {
            let len = piece.len().to_usize().unwrap_or(0);
            let mut found = vec![0; len];
            medium.read_at(piece.start(), &mut found)?;
            if found != noise(piece.start(), len) {
                return Err(Error::mismatch(format!(
                    "the card did not keep what was written in {piece}"
                )));
            }
            weighed.proved = weighed.proved.plus(piece.len())?;
            Ok(())
        })?;
        let blocks = (field.len().get() / MARK).max(1);
        let took = timed(|| {
            for index in 0..SMALL_WRITES {
                self.watch.cancel.check()?;
                // Far apart, and never in order.
                let block = index.wrapping_mul(0x9e37_79b9_7f4a_7c15).checked_rem(blocks);
                let block = block.unwrap_or(0);
                let at = field.start().plus(ByteLen::new(block.times(MARK)?))?;
                self.store.write_at(at, &noise(at, usize::try_from(MARK).unwrap_or(0)))?;
                self.store.flush()?;
            }
            Ok(())
        })?;
        weighed.small_writes = Some(per_second(SMALL_WRITES, took));
        Ok(())
    }

    /// The rate of reading at places all over the card. A place that cannot be read has none.
    pub(super) fn rates(&self) -> Result<Vec<(ByteOffset, u64)>> {
        let size = self.plan.card.size;
        let step = size.get().div_ceil(PLACES).max(1);
        let len = PIECE.min(ByteLen::new(step)).to_usize().unwrap_or(0);
        let mut bytes = vec![0; len];
        let mut rates = Vec::new();
        let last = size.saturating_sub(ByteLen::from_usize(len)).get();
        for at in (0..PLACES).map(|index| index.saturating_mul(step)).take_while(|at| *at <= last) {
            self.watch.cancel.check()?;
            let at = ByteOffset::new(at);
            let began = Instant::now();
            if if_readable(self.store.read_at(at, &mut bytes))?.is_some() {
                rates.push((at, per_second(len.exact_as()?, began.elapsed())));
            }
        }
        Ok(rates)
    }
}

/// How long `work` takes.
fn timed(work: impl FnOnce() -> Result<()>) -> Result<Duration> {
    let began = Instant::now();
    work()?;
    Ok(began.elapsed())
}

/// The rate per second; the largest number if no time has passed.
fn per_second(count: u64, took: Duration) -> u64 {
    let rate = u128::from(count).saturating_mul(1_000_000_000).checked_div(took.as_nanos());
    rate.and_then(|rate| u64::try_from(rate).ok()).unwrap_or(u64::MAX)
}
