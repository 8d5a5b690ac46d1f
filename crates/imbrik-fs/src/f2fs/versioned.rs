//! A table with two copies of each block, and a bit that selects the valid one.

use super::{BLOCK, place};
use imbrik_store::{ReadAt, bytes::is_zero, error::Result, exact::invariant_error, read_vec};

/// How many blocks are read at once.
const PIECE: u64 = 64;

/// Runs of blocks: the first one, and the end.
pub(super) type Runs = Vec<(u64, u64)>;

/// Which blocks of the tables are in use, and which hold nothing but zeros.
#[derive(Default)]
pub(super) struct Blocks {
    pub(super) used: Runs,
    pub(super) zero: Runs,
}

/// A table.
pub(super) struct Versioned<'a> {
    /// Its first block.
    pub(super) first: u64,
    /// So many blocks of the first copy are followed by as many of the second, and so on.
    pub(super) stride: u64,
    /// A bit a block, the highest of a byte first: set when the second copy counts.
    pub(super) versions: &'a [u8],
}

impl Versioned<'_> {
    fn place(&self, block: u64) -> u64 {
        let pairs = block.checked_div(self.stride).unwrap_or(0).saturating_mul(self.stride);
        let ahead = if bit(self.versions, block) { self.stride } else { 0 };
        self.first.saturating_add(block).saturating_add(pairs).saturating_add(ahead)
    }

    /// Calls `work` for each block that counts, of the first `count`, with its number and its bytes.
    /// Adds each to `blocks`.
    pub(super) fn each(
        &self,
        store: &dyn ReadAt,
        count: u64,
        blocks: &mut Blocks,
        mut work: impl FnMut(u64, &[u8]) -> Result<()>,
    ) -> Result<()> {
        let mut number = 0;
        while number < count {
            let start = self.place(number);
            let most = count.saturating_sub(number).min(PIECE);
            let run = (1..most).take_while(|more| {
                self.place(number.saturating_add(*more)) == start.saturating_add(*more)
            });
            let run = u64::try_from(run.count()).unwrap_or(0).saturating_add(1);
            let len = usize::try_from(run).ok().and_then(|run| run.checked_mul(BLOCK));
            let len =
                len.ok_or_else(|| invariant_error("a table is read in pieces that are too long"))?;
            let piece = read_vec(store, place(start), len)?;
            for (block, at) in piece.chunks(BLOCK).zip(start..) {
                let runs = if is_zero(block) { &mut blocks.zero } else { &mut blocks.used };
                runs.push((at, at.saturating_add(1)));
                work(number, block)?;
                number = number.saturating_add(1);
            }
        }
        Ok(())
    }
}

/// Bit `number`, the highest of a byte first.
pub(super) fn bit(bytes: &[u8], number: u64) -> bool {
    let byte = usize::try_from(number / 8).ok().and_then(|at| bytes.get(at));
    byte.is_some_and(|byte| byte & (0x80 >> (number % 8)) != 0)
}
