//! Block devices, read and written past the system's page cache.
//!
//! Direct I/O has three advantages here: progress shows the data on the card, a read-back reads the medium, and saving
//! a card does not fill the page cache.

use super::{LinuxHost, ioctl, mounts};
use crate::card::{Card, Host, TargetCard};
use imbrik_store::{
    ALIGNMENT, Buffer, Pool, ReadAt, WriteAt,
    bytes::is_zero,
    check_range,
    error::{Class, Error, Result},
    for_pieces,
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use rustix::fs::{FallocateFlags, OFlags};
use std::{
    fs::{File, OpenOptions},
    io::{Seek, SeekFrom},
    os::unix::fs::{FileExt, FileTypeExt, OpenOptionsExt},
    path::{Path, PathBuf},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

/// The largest request that is made for bytes that are not aligned.
const BOUNCE: usize = 1 << 20;
/// The minimum length for zeroing commands, and the length of the sample that is read to verify them.
const LEAST_ZEROED: ByteLen = ByteLen::kib(64);
const SAMPLE: ByteLen = ByteLen::new(4096);
/// How long a desktop may take to mount the volumes of a card after it was closed.
const DESKTOP: Duration = Duration::from_millis(1500);

/// A block device, open with direct I/O.
#[derive(Debug)]
pub(super) struct DeviceStore {
    path: PathBuf,
    file: File,
    size: ByteLen,
    sector: SectorSize,
    pool: Pool,
    /// True until the device reports that it has no command for zeroing, or a sample shows that it does not work.
    zeroes: AtomicBool,
}

fn open(card: &Card, write: bool, flags: OFlags) -> Result<File> {
    let path = &card.path;
    let failed = |e| Error::io(format!("opening {}", path.display()), e);
    let flags = flags | OFlags::DIRECT;
    let file = OpenOptions::new()
        .read(true)
        .write(write)
        .custom_flags(i32::try_from(flags.bits()).unwrap_or(0))
        .open(path)
        .map_err(failed)?;
    let kind = file.metadata().map_err(failed)?.file_type();
    if !kind.is_block_device() {
        return Err(Error::usage(format!("{} is not a block device", path.display())));
    }
    Ok(file)
}

impl DeviceStore {
    /// Opens a card for reading only.
    pub(super) fn open_read(card: &Card) -> Result<Self> {
        Self::new(card, open(card, false, OFlags::empty())?)
    }

    /// The same, and nothing can mount the card meanwhile, unless something uses it already.
    pub(super) fn open_read_alone(card: &Card) -> Result<Self> {
        match open(card, false, OFlags::EXCL) {
            Err(error) if error.class() == Class::Refused => Self::open_read(card),
            file => Self::new(card, file?),
        }
    }

    /// Opens a card for writing; fails while anything else has it mounted or claimed.
    fn open_write(card: &Card) -> Result<Self> {
        let file = open(card, true, OFlags::EXCL).map_err(|error| match error.class() {
            Class::Refused => {
                Error::refused(format!("{} is in use by something else", card.path.display()))
            }
            _ => error,
        })?;
        Self::new(card, file).map_err(|error| match error.class() {
            Class::Mismatch => error.with_class(Class::Refused),
            _ => error,
        })
    }

    /// Verifies that the opened device is the card: another one may have taken its name.
    fn new(card: &Card, file: File) -> Result<Self> {
        let mut there = &file;
        let end = there.seek(SeekFrom::End(0));
        let end = end.map_err(|e| Error::io(format!("opening {}", card.path.display()), e))?;
        let sequence = ioctl::sequence(&file);
        let is_another = matches!((sequence, card.sequence), (Some(is), Some(was)) if is != was);
        if is_another || ByteLen::new(end) != card.size {
            return Err(Error::mismatch(format!(
                "{} is a different card now",
                card.path.display()
            )));
        }
        Ok(Self {
            path: card.path.clone(),
            file,
            size: card.size,
            sector: card.sector,
            pool: Pool::new(BOUNCE),
            zeroes: AtomicBool::new(true),
        })
    }

    fn is_aligned(&self, at: ByteOffset, bytes: &[u8]) -> bool {
        let sector = self.sector.len();
        at.is_aligned_to(sector)
            && ByteOffset::new(ByteLen::of(bytes).get()).is_aligned_to(sector)
            && bytes.as_ptr().align_offset(ALIGNMENT.min(512)) == 0
    }

    /// Calls `work` for `span` in pieces, each with an aligned buffer around it, the buffer's
    /// place on the device, and where in the buffer the piece starts.
    fn bounce(
        &self,
        span: Span,
        mut work: impl FnMut(Span, &mut Buffer, ByteOffset, usize) -> Result<()>,
    ) -> Result<()> {
        let sector = self.sector.bytes();
        let most = ByteLen::from_usize(BOUNCE).saturating_sub(ByteLen::new(2 * 4096));
        for_pieces(span, most, |piece| {
            let first = piece.start().get().checked_div(sector).unwrap_or(0);
            let last = piece.end().get().div_ceil(sector);
            let start = ByteOffset::new(first.saturating_mul(sector));
            let end = ByteOffset::new(last.saturating_mul(sector));
            let mut buffer =
                self.pool.take(end.saturating_since(start).to_usize().unwrap_or(BOUNCE));
            self.read_direct(start, &mut buffer)?;
            let skip = piece.start().saturating_since(start).to_usize().unwrap_or(0);
            work(piece, &mut buffer, start, skip)
        })
    }

    fn read_direct(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        let done = self.file.read_exact_at(buf, at.get());
        done.map_err(|e| self.failed(format!("reading {} at {at}", ByteLen::of(buf)), e))
    }

    fn write_direct(&self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        let done = self.file.write_all_at(bytes, at.get());
        done.map_err(|e| self.failed(format!("writing {} at {at}", ByteLen::of(bytes)), e))
    }

    /// Distinguishes a bad sector from a removed card: a read returns the same error for both, but a removed card
    /// cannot be opened again.
    fn failed(&self, what: String, cause: std::io::Error) -> Error {
        let error = Error::io(what, cause);
        match File::open(&self.path) {
            Err(_) if error.class() == Class::Io => error.with_class(Class::Gone),
            _ => error,
        }
    }
}

impl ReadAt for DeviceStore {
    fn size(&self) -> ByteLen {
        self.size
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<()> {
        check_range(at, ByteLen::of(buf), self.size)?;
        if self.is_aligned(at, buf) {
            return self.read_direct(at, buf);
        }
        let span = Span::between(at, at.saturating_add(ByteLen::of(buf)));
        self.bounce(span, |piece, buffer, _, skip| {
            let from = piece.start().saturating_since(at).to_usize().unwrap_or(0);
            let len = piece.len().to_usize().unwrap_or(0);
            let target = buf.get_mut(from..from.saturating_add(len));
            let source = buffer.get(skip..skip.saturating_add(len));
            if let (Some(target), Some(source)) = (target, source) {
                target.copy_from_slice(source);
            }
            Ok(())
        })
    }

    fn sector_size(&self) -> SectorSize {
        self.sector
    }
}

impl WriteAt for DeviceStore {
    fn write_at(&self, at: ByteOffset, bytes: &[u8]) -> Result<()> {
        check_range(at, ByteLen::of(bytes), self.size)?;
        if self.is_aligned(at, bytes) {
            return self.write_direct(at, bytes);
        }
        let span = Span::between(at, at.saturating_add(ByteLen::of(bytes)));
        self.bounce(span, |piece, buffer, start, skip| {
            let from = piece.start().saturating_since(at).to_usize().unwrap_or(0);
            let len = piece.len().to_usize().unwrap_or(0);
            let target = buffer.get_mut(skip..skip.saturating_add(len));
            let source = bytes.get(from..from.saturating_add(len));
            if let (Some(target), Some(source)) = (target, source) {
                target.copy_from_slice(source);
            }
            self.write_direct(start, buffer)
        })
    }

    fn zero_at(&self, span: Span) -> Result<()> {
        check_range(span.start(), span.len(), self.size)?;
        if self.zeroes_by_itself(span)? {
            return Ok(());
        }
        let mut zeros = self.pool.take(BOUNCE);
        zeros.fill(0);
        for_pieces(span, ByteLen::from_usize(BOUNCE), |piece| {
            let len = piece.len().to_usize().unwrap_or(BOUNCE);
            self.write_at(piece.start(), zeros.get(..len).unwrap_or_default())
        })
    }

    /// Returns whether samples are zero; the kernel call never falls back to writing.
    fn zeroes_by_itself(&self, span: Span) -> Result<bool> {
        let is_worth_it = span.len() >= LEAST_ZEROED
            && span.start().is_aligned_to(SAMPLE)
            && span.end().is_aligned_to(SAMPLE);
        if !is_worth_it || !self.zeroes.load(Ordering::Relaxed) {
            return Ok(false);
        }
        let flags = FallocateFlags::PUNCH_HOLE | FallocateFlags::KEEP_SIZE;
        let asked = rustix::fs::fallocate(&self.file, flags, span.start().get(), span.len().get());
        let mut does = asked.is_ok();
        let last = span.len().saturating_sub(SAMPLE).get();
        for ahead in [0, last / 2, last] {
            // It may report success and keep the old data.
            let ahead = ahead.saturating_sub(ahead.checked_rem(SAMPLE.get()).unwrap_or(0));
            let mut sample = self.pool.take(SAMPLE.to_usize().unwrap_or(0));
            if does {
                self.read_direct(span.start().saturating_add(ByteLen::new(ahead)), &mut sample)?;
                does = is_zero(&sample);
            }
        }
        if !does {
            tracing::info!(%span, was_refused = asked.is_err(), "the device has no command for zeroing");
            self.zeroes.store(false, Ordering::Relaxed);
        }
        Ok(does)
    }

    fn flush(&self) -> Result<()> {
        self.file.sync_all().map_err(|e| Error::io("flushing the card", e))
    }
}

/// A block device that is open for writing, exclusively: nothing can mount it until it is closed.
pub(super) struct DeviceTarget {
    store: DeviceStore,
    card: Card,
    host: LinuxHost,
}

impl DeviceTarget {
    pub(super) fn open(card: &Card, host: LinuxHost) -> Result<Self> {
        Ok(Self { store: DeviceStore::open_write(card)?, card: card.clone(), host })
    }

    /// Unmounts new mounts of the card during the time that a desktop takes.
    fn unmount_newcomers(host: &LinuxHost, card: &Card) -> Result<Vec<PathBuf>> {
        let until = Instant::now().checked_add(DESKTOP);
        let mut unmounted = Vec::new();
        loop {
            if is_mounted(host, &card.path)
                && let Some(now) = host.list()?.cards.iter().find(|now| now.path == card.path)
            {
                unmounted.extend(host.unmount(now)?);
            }
            if until.is_none_or(|until| Instant::now() >= until) {
                return Ok(unmounted);
            }
            std::thread::sleep(Duration::from_millis(100));
        }
    }
}

/// Returns whether anything of a device is mounted: cheap enough to ask again and again.
fn is_mounted(host: &LinuxHost, device: &Path) -> bool {
    let mounts = mounts::read(&host.roots).unwrap_or_default();
    let device = device.to_string_lossy();
    mounts.iter().any(|mount| mount.source.to_string_lossy().starts_with(&*device))
}

impl TargetCard for DeviceTarget {
    fn store(&self) -> &dyn WriteAt {
        &self.store
    }

    fn medium(&self) -> Result<Arc<dyn ReadAt>> {
        Ok(Arc::new(DeviceStore::open_read(&self.card)?))
    }

    fn let_go(self: Box<Self>) -> Result<Vec<PathBuf>> {
        let Self { store, card, host } = *self;
        ioctl::reread_table(&store.file);
        drop(store);
        if matches!(card.bus, crate::card::Bus::Loop(_)) {
            return Ok(Vec::new());
        }
        Self::unmount_newcomers(&host, &card)
    }
}
