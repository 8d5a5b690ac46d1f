//! The census of a FAT volume: every folder and every chain, once.

use super::{
    boot::{BootSector, Width},
    folder::{self, FolderPlace, Raw, Use, is_dots, is_folder, short_name, size_of, use_of},
    table::Table,
};
use crate::{
    bits::{Bits, Run, push},
    clusters::{Link, follow},
};
use imbrik_store::{
    ReadAt, bytes,
    error::{Error, Result},
    progress::Cancel,
    units::{ByteLen, ByteOffset},
};

/// A directory entry with a first cluster.
pub(super) struct Pointer {
    /// The offset of the entry in the volume.
    pub(super) at: ByteOffset,
    /// The cluster, counted from 0.
    pub(super) first: u64,
}

/// The result of a census.
pub(super) struct Census {
    /// The clusters that the table calls used, and bad.
    pub(super) used: Bits,
    pub(super) bad: Bits,
    pub(super) pointers: Vec<Pointer>,
    /// How many used clusters no entry leads to.
    pub(super) lost: u64,
    /// The digest of all entries and chains, with the source's cluster numbers.
    pub(super) fingerprint: blake3::Hash,
}

struct Look<'a> {
    store: &'a dyn ReadAt,
    boot: &'a BootSector,
    table: &'a Table,
    source_of: &'a dyn Fn(u64) -> u64,
    owned: Bits,
    pointers: Vec<Pointer>,
    hasher: blake3::Hasher,
    waiting: Vec<FolderPlace>,
}

impl Census {
    /// Reads the volume in `store`; `source_of` converts cluster numbers to the source's.
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
                        "its allocation table leads from cluster {} to {value}, an invalid number",
                        number.saturating_add(2)
                    )));
                }
            };
        }
        let root =
            boot.root().ok_or_else(|| Error::corrupt("its root directory has no cluster"))?;
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
            look.folder(folder)?;
        }
        let lost = used.count().saturating_sub(look.owned.count());
        Ok(Self { used, bad, lost, pointers: look.pointers, fingerprint: look.hasher.finalize() })
    }
}

impl Look<'_> {
    fn folder(&mut self, place: FolderPlace) -> Result<()> {
        let spans = match place {
            FolderPlace::Fixed(span) => vec![span],
            FolderPlace::Chain(first) => {
                let runs = self.chain(first, "a folder")?;
                runs.into_iter().map(|run| self.boot.span_of(run)).collect()
            }
        };
        let all: ByteLen = spans.iter().map(|span| span.len()).sum();
        if all > self.boot.most_of_a_folder() {
            return Err(Error::corrupt(format!("a folder is {all} long")));
        }
        for (at, raw) in &folder::read(self.store, spans)? {
            match use_of(raw) {
                Use::End => break,
                Use::Free => {}
                Use::LongName | Use::Label => drop(self.hasher.update(raw)),
                Use::File => self.entry(*at, raw)?,
            }
        }
        Ok(())
    }

    fn entry(&mut self, at: ByteOffset, entry: &Raw) -> Result<()> {
        let name = short_name(entry).unwrap_or_default();
        let title = String::from_utf8_lossy(&name).into_owned();
        let first = self.boot.first_of(entry);
        if first.is_none() && bytes::le_u16(entry, 26) == Some(1) {
            return Err(Error::corrupt(format!("{title} starts at cluster 1, an invalid number")));
        }
        // The whole entry without the cluster, and without the high half, which only old systems used otherwise.
        let mut plain = *entry;
        for at in [20, 26] {
            if at == 26 || self.boot.width == Width::Bits32 {
                let _ = bytes::put(&mut plain, at, [0, 0]);
            }
        }
        self.hasher.update(&plain);
        let Some(first) = first else { return self.empty(&title, entry) };
        self.pointers.push(Pointer { at, first });
        if is_dots(entry) {
            let told = (self.source_of)(first);
            self.hasher.update(&told.to_le_bytes());
            return Ok(());
        }
        if is_folder(entry) {
            self.waiting.push(FolderPlace::Chain(first));
            return Ok(());
        }
        let runs = self.chain(first, &title)?;
        let held: u64 = runs.iter().map(|run| run.len).sum();
        let size = size_of(entry);
        let needed = size.div_ceil(self.boot.cluster.get().max(1));
        if needed > held {
            return Err(Error::corrupt(format!(
                "{title} is {size} bytes long, its chain has {held} clusters for that"
            )));
        }
        Ok(())
    }

    fn empty(&self, title: &str, entry: &Raw) -> Result<()> {
        match size_of(entry) {
            0 if !is_folder(entry) || title == ".." => Ok(()),
            _ => Err(Error::corrupt(format!("{title} has no cluster"))),
        }
    }

    /// The clusters of the chain that starts at `first`, in runs: each once, and owned by no other chain.
    fn chain(&mut self, first: u64, whose: &str) -> Result<Vec<Run>> {
        let (owned, source_of, table) = (&mut self.owned, self.source_of, self.table);
        let mut told: Vec<Run> = Vec::new();
        let chain = follow(
            first,
            self.boot.clusters,
            &mut |number| Ok(table.link(number)),
            &mut |number| {
                push(&mut told, source_of(number));
                match owned.add(Run::new(number, 1)) {
                    true => Ok(()),
                    false => Err(Error::corrupt(format!(
                        "cluster {} of {whose} is another's",
                        number.saturating_add(2)
                    ))),
                }
            },
        )?;
        if let Some(number) = chain.broken_at {
            return Err(Error::corrupt(format!(
                "the chain of {whose} breaks off at cluster {}",
                number.saturating_add(2)
            )));
        }
        for run in told {
            self.hasher.update(&run.first.to_le_bytes());
            self.hasher.update(&run.len.to_le_bytes());
        }
        Ok(chain.runs)
    }
}
