//! The two traits for reading and writing at an offset.

use crate::{
    error::{Error, Result},
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use std::sync::Arc;

/// Something readable at an offset.
///
/// A store has a fixed size, and reading it changes nothing. Reads may come from several threads
/// at once.
pub trait ReadAt: Send + Sync {
    /// How many bytes it holds.
    fn size(&self) -> ByteLen;

    /// Fills `buf` from `at`.
    ///
    /// # Errors
    /// When any byte of the range cannot be read, or it reaches past the end; `buf` then holds
    /// anything.
    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()>;

    /// The same without retries, for callers that schedule retries themselves. A store that never retries reads as
    /// usual.
    ///
    /// # Errors
    /// As for [`ReadAt::read_at`].
    fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        self.read_at(at, buf)
    }

    /// The next range at or after `from` that may contain data; `None` if all the rest is zeros. A store without that
    /// knowledge returns the whole rest.
    ///
    /// # Errors
    /// When the store cannot be asked any more.
    fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
        let rest = Span::between(from, ByteOffset::new(self.size().get()));
        Ok((!rest.is_empty()).then_some(rest))
    }

    /// The unit in which the store itself reads and writes.
    fn sector_size(&self) -> SectorSize {
        SectorSize::B512
    }
}

/// Something writable at an offset.
///
/// Written data are certain only after [`WriteAt::flush`]: until then, a power loss may keep any part of them.
pub trait WriteAt: ReadAt {
    /// Writes `bytes` at `at`.
    ///
    /// # Errors
    /// When not all of it could be written, or it reaches past the end; the range then holds
    /// anything.
    fn write_at(&self, at: ByteOffset, bytes: &[u8]) -> Result<()>;

    /// Writes zeros over `span`.
    ///
    /// # Errors
    /// As for [`WriteAt::write_at`].
    fn zero_at(&self, span: Span) -> Result<()> {
        static ZEROS: [u8; 1 << 16] = [0; 1 << 16];
        for_pieces(span, ByteLen::of(&ZEROS), |piece| {
            let len = piece.len().to_usize().unwrap_or(ZEROS.len());
            self.write_at(piece.start(), ZEROS.get(..len).unwrap_or(&ZEROS))
        })
    }

    /// Lets the medium zero `span` without a data transfer; returns whether it did. A medium without such a command is
    /// unchanged.
    ///
    /// # Errors
    /// When it can't be asked any more.
    fn zeroes_by_itself(&self, _span: Span) -> Result<bool> {
        Ok(false)
    }

    /// Syncs all written data to the medium.
    ///
    /// # Errors
    /// When the medium reports an error; data written since the last flush are uncertain then.
    fn flush(&self) -> Result<()>;
}

/// A pointer to a store is a store.
macro_rules! forward {
    ($($pointer:ty),*) => {$(
        impl<S: ReadAt + ?Sized> ReadAt for $pointer {
            fn size(&self) -> ByteLen {
                (**self).size()
            }
            fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
                (**self).read_at(at, buf)
            }
            fn read_once(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
                (**self).read_once(at, buf)
            }
            fn next_data(&self, from: ByteOffset) -> Result<Option<Span>> {
                (**self).next_data(from)
            }
            fn sector_size(&self) -> SectorSize {
                (**self).sector_size()
            }
        }

        impl<S: WriteAt + ?Sized> WriteAt for $pointer {
            fn write_at(&self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
                (**self).write_at(at, bytes)
            }
            fn zero_at(&self, span: Span) -> Result<()> {
                (**self).zero_at(span)
            }
            fn zeroes_by_itself(&self, span: Span) -> Result<bool> {
                (**self).zeroes_by_itself(span)
            }
            fn flush(&self) -> Result<()> {
                (**self).flush()
            }
        }
    )*};
}

forward!(&S, Arc<S>);

/// Reads `len` bytes at `at` into a fresh vector.
///
/// # Errors
/// When they cannot be read. A caller bounds `len`: it is never a number read from disk.
pub fn read_vec(store: &dyn ReadAt, at: ByteOffset, len: usize) -> Result<Vec<u8>> {
    let mut buf = vec![0; len];
    store.read_at(at, &mut buf)?;
    Ok(buf)
}

/// Reads up to `len` bytes at `at`, fewer only at the end of the store.
///
/// # Errors
/// When they cannot be read.
pub fn read_up_to(store: &dyn ReadAt, at: ByteOffset, len: usize) -> Result<Vec<u8>> {
    let end = ByteOffset::new(store.size().get());
    match ByteLen::from_usize(len).min(end.saturating_since(at)).to_usize() {
        None | Some(0) => Ok(Vec::new()),
        Some(len) => read_vec(store, at, len),
    }
}

/// Checks that `len` bytes at `at` are inside a store of `size`.
///
/// # Errors
/// A [`crate::Class::Corrupt`] error with the figures: a range past the end always comes from a
/// number that something else got wrong.
pub fn check_range(at: ByteOffset, len: ByteLen, size: ByteLen) -> Result<()> {
    match at.checked_add(len) {
        Some(end) if end.get() <= size.get() => Ok(()),
        _ => Err(Error::corrupt(format!("{len} at {at} reach past the end at {size}"))),
    }
}

/// Calls `work` for `span` in pieces of at most `most`.
///
/// # Errors
/// The first error of `work`.
pub fn for_pieces(
    span: Span,
    most: ByteLen,
    mut work: impl FnMut(Span) -> Result<()>,
) -> Result<()> {
    let mut at = span.start();
    while at < span.end() {
        let piece = Span::between(at, at.saturating_add(most).min(span.end()));
        work(piece)?;
        at = piece.end();
    }
    Ok(())
}
