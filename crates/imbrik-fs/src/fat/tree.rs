//! A close look at a FAT volume: every folder, every chain, once.

use super::{
    ATTR_LONG_NAME, ATTR_VOLUME_ID,
    boot::{BootSector, Width},
    files::{ATTR_FOLDER, short_name},
    table::{Link, Table},
};
use crate::bits::{Bits, Run, push};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    progress::Cancel,
    read_vec,
    units::{ByteLen, ByteOffset, Span},
};

/// The longest folder: 65,536 entries.
const MOST_FOLDER: u64 = 65_536 * 32;
const ENTRY: usize = 32;

/// A place where a folder's entry names a first cluster.
pub(super) struct Pointer {
    /// Where the entry stands in the volume.
    pub(super) at: ByteOffset,
    /// The cluster, counted from 0.
    pub(super) first: u64,
}

/// What was found.
pub(super) struct Census {
    /// What the table calls used, and bad.
    pub(super) used: Bits,
    pub(super) bad: Bits,
    pub(super) pointers: Vec<Pointer>,
    /// How many used clusters no entry leads to.
    pub(super) lost: u64,
    /// The digest of all entries and chains, clusters told by the source's numbers.
    pub(super) fingerprint: blake3::Hash,
}

/// A folder that is still to be looked at.
enum Folder {
    /// The root of FAT12 and FAT16, which has a place of its own.
    Fixed(Span),
    /// One that starts at a cluster.
    Chain(u64),
}

struct Look<'a> {
    store: &'a dyn ReadAt,
    boot: &'a BootSector,
    table: &'a Table,
    source_of: &'a dyn Fn(u64) -> u64,
    owned: Bits,
    pointers: Vec<Pointer>,
    hasher: blake3::Hasher,
    waiting: Vec<Folder>,
}

impl Census {
    /// Looks at the volume in `store`; `source_of` tells the number that a cluster has in the
    /// source.
    ///
    /// # Errors
    /// When it cannot be read, or stopping was requested; [`imbrik_store::Class::Corrupt`] with the first
    /// contradiction.
    pub(super) fn of(
        store: &dyn ReadAt,
        boot: &BootSector,
        table: &Table,
        source_of: &dyn Fn(u64) -> u64,
        cancel: &Cancel,
    ) -> Result<Self> {
        let mut used = Bits::new(boot.clusters);
        let mut bad = Bits::new(boot.clusters);
        for number in 0..boot.clusters {
            let one = Run::new(number, 1);
            let _ = match table.link(number) {
                Link::Free => continue,
                Link::Bad => bad.add(one),
                Link::Last | Link::To(_) => used.add(one),
                Link::Wrong(value) => {
                    return Err(Error::corrupt(format!(
                        "its allocation table leads from cluster {} to {value}, which is none",
                        number.saturating_add(2)
                    )));
                }
            };
        }
        let root = match boot.width {
            Width::Bits32 => Folder::Chain(
                u64::from(boot.root_cluster)
                    .checked_sub(2)
                    .ok_or_else(|| Error::corrupt("its root directory has no cluster"))?,
            ),
            _ => Folder::Fixed(Span::between(boot.root_directory, boot.data().start())),
        };
        let mut look = Look {
            store,
            boot,
            table,
            source_of,
            owned: Bits::new(boot.clusters),
            pointers: Vec::new(),
            hasher: blake3::Hasher::new(),
            waiting: vec![root],
        };
        while let Some(folder) = look.waiting.pop() {
            cancel.check()?;
            look.folder(&folder)?;
        }
        let lost = used.count().saturating_sub(look.owned.count());
        Ok(Self { used, bad, lost, pointers: look.pointers, fingerprint: look.hasher.finalize() })
    }
}

impl Look<'_> {
    fn folder(&mut self, folder: &Folder) -> Result<()> {
        let pieces = match folder {
            Folder::Fixed(span) => vec![*span],
            Folder::Chain(first) => {
                let runs = self.chain(*first, "a folder")?;
                let mut pieces = Vec::new();
                for run in runs {
                    let span = |run: Run| {
                        let len = |n| self.boot.cluster.checked_mul(n).unwrap_or_default();
                        let start = self.boot.data().start().saturating_add(len(run.first));
                        Span::between(start, start.saturating_add(len(run.len)))
                    };
                    pieces.push(span(run));
                }
                pieces
            }
        };
        let all: ByteLen = pieces.iter().map(|span| span.len()).sum();
        if all.get() > MOST_FOLDER.max(self.boot.cluster.get()) {
            return Err(Error::corrupt(format!("a folder is {all} long")));
        }
        for span in pieces {
            let content = read_vec(self.store, span.start(), span.len().to_usize().unwrap_or(0))?;
            for (index, entry) in content.as_chunks::<ENTRY>().0.iter().enumerate() {
                if entry.first() == Some(&0) {
                    return Ok(());
                }
                let ahead = ByteLen::from_usize(index.saturating_mul(ENTRY));
                self.entry(span.start().saturating_add(ahead), entry)?;
            }
        }
        Ok(())
    }

    fn entry(&mut self, at: ByteOffset, entry: &[u8; ENTRY]) -> Result<()> {
        let attributes = bytes::u8(entry, 11).unwrap_or(0);
        let is_long_name = attributes & 0x3f == ATTR_LONG_NAME;
        if entry.first() == Some(&0xe5) {
            return Ok(());
        }
        if is_long_name || attributes & ATTR_VOLUME_ID != 0 {
            self.hasher.update(entry);
            return Ok(());
        }
        let name = short_name(entry).unwrap_or_default();
        let title = String::from_utf8_lossy(&name).into_owned();
        let first = self.boot.first_of(entry);
        if first.is_none() && bytes::le_u16(entry, 26) == Some(1) {
            return Err(Error::corrupt(format!("{title} starts at cluster 1, which is none")));
        }
        // All of it but the cluster, and what only systems of old kept in the high half.
        let mut plain = *entry;
        for at in [20, 26] {
            if at == 26 || self.boot.width == Width::Bits32 {
                let _ = bytes::put(&mut plain, at, [0, 0]);
            }
        }
        self.hasher.update(&plain);
        let Some(first) = first else { return self.empty(&title, entry) };
        self.pointers.push(Pointer { at, first });
        if name == b"." || name == b".." {
            let told = (self.source_of)(first);
            self.hasher.update(&told.to_le_bytes());
            return Ok(());
        }
        if attributes & ATTR_FOLDER != 0 {
            self.waiting.push(Folder::Chain(first));
            return Ok(());
        }
        let runs = self.chain(first, &title)?;
        let held: u64 = runs.iter().map(|run| run.len).sum();
        let size = u64::from(bytes::le_u32(entry, 28).unwrap_or(0));
        let needed = size.div_ceil(self.boot.cluster.get().max(1));
        if needed > held {
            return Err(Error::corrupt(format!(
                "{title} is {size} bytes long, its chain has {held} clusters for that"
            )));
        }
        Ok(())
    }

    fn empty(&self, title: &str, entry: &[u8]) -> Result<()> {
        let is_folder = bytes::u8(entry, 11).unwrap_or(0) & ATTR_FOLDER != 0;
        let is_dots = title == "..";
        match bytes::le_u32(entry, 28) {
            Some(0) if !is_folder || is_dots => Ok(()),
            _ => Err(Error::corrupt(format!("{title} has no cluster"))),
        }
    }

    /// The clusters of the chain that starts at `first`, in runs: each once, and nobody else's.
    fn chain(&mut self, first: u64, whose: &str) -> Result<Vec<Run>> {
        let mut runs: Vec<Run> = Vec::new();
        let mut told: Vec<Run> = Vec::new();
        let mut number = first;
        loop {
            if !self.owned.add(Run::new(number, 1)) {
                return Err(Error::corrupt(format!(
                    "cluster {} of {whose} is another's, or there is none such",
                    number.saturating_add(2)
                )));
            }
            push(&mut runs, number);
            push(&mut told, (self.source_of)(number));
            match self.table.link(number) {
                Link::To(next) => number = next,
                Link::Last => break,
                Link::Free | Link::Bad | Link::Wrong(_) => {
                    return Err(Error::corrupt(format!(
                        "the chain of {whose} breaks off at cluster {}",
                        number.saturating_add(2)
                    )));
                }
            }
        }
        for run in told {
            self.hasher.update(&run.first.to_le_bytes());
            self.hasher.update(&run.len.to_le_bytes());
        }
        Ok(runs)
    }
}
