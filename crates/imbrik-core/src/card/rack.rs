//! The rack: a folder of simulated cards for cards and readers.
//!
//! The folder holds `rack.toml` and one sparse file a slot:
//!
//! ```toml
//! [[slot]]
//! name = "a"                       # rack:a
//! size = 4000000000                # the size it claims, in bytes
//! file = "a.img"                   # its file; the default is NAME.img
//! model = "Willow reader 1"
//! serial = "0001"
//! removable = true                 # the default
//! read_only = false                # the default
//! sector_size = 512                # the default
//! mounted_at = ["/media/hive"]     # the mount points it reports
//! read_rate = 90000000             # bytes per second; no limit by default
//! write_rate = 30000000
//! request_time = 0.0004            # seconds for every request
//! unreadable = [[1048576, 4096]]   # ranges [offset, length] that are never readable
//! flaky = [[2097152, 512, 3]]      # ranges that are readable at the n-th try
//! wraps_at = 1000000000            # its real capacity: addresses past it wrap around
//! keeps = 1000000000               # its real capacity: data written past it are lost
//! pulled_after = 50000000          # it is removed after so many bytes were transferred
//! ```

use super::{Bus, Card, Host, Listing, TargetCard, Use};
use imbrik_store::{
    FileStore, ReadAt, WriteAt,
    error::{Error, Result},
    testing::{Faults, Faulty, Flaky},
    units::{ByteLen, ByteOffset, SectorSize, Span},
};
use rustix::fs::FlockOperation;
use serde::Deserialize;
use std::{
    collections::BTreeSet,
    fs::{self, File, OpenOptions},
    path::{Component, Path, PathBuf},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};

/// A folder of simulated cards.
#[derive(Debug)]
pub struct Rack {
    folder: PathBuf,
    /// The slots as of the last listing.
    slots: Mutex<Vec<Slot>>,
    unmounted: Mutex<BTreeSet<PathBuf>>,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct RackFile {
    #[serde(default)]
    slot: Vec<SlotFile>,
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct SlotFile {
    name: String,
    size: u64,
    file: Option<PathBuf>,
    model: Option<String>,
    serial: Option<String>,
    #[serde(default = "yes")]
    removable: bool,
    #[serde(default)]
    read_only: bool,
    #[serde(default = "half_kib")]
    sector_size: u64,
    #[serde(default)]
    mounted_at: Vec<PathBuf>,
    read_rate: Option<u64>,
    write_rate: Option<u64>,
    #[serde(default)]
    request_time: f64,
    #[serde(default)]
    unreadable: Vec<(u64, u64)>,
    #[serde(default)]
    flaky: Vec<(u64, u64, u32)>,
    wraps_at: Option<u64>,
    keeps: Option<u64>,
    pulled_after: Option<u64>,
}

fn yes() -> bool {
    true
}

fn half_kib() -> u64 {
    512
}

#[derive(Clone, Debug)]
struct Slot {
    card: Card,
    file: PathBuf,
    faults: Faults,
}

/// The prefix of slot paths.
const PREFIX: &str = "rack:";

impl Rack {
    /// Reads the rack in `folder`.
    ///
    /// # Errors
    /// [`crate::Class::Usage`] when `rack.toml` is missing or is invalid, with the line.
    pub fn open(folder: &Path) -> Result<Self> {
        let slots = Mutex::new(Self::read(folder)?);
        Ok(Self { folder: folder.to_owned(), slots, unmounted: Mutex::default() })
    }

    fn read(folder: &Path) -> Result<Vec<Slot>> {
        let path = folder.join("rack.toml");
        let text = fs::read_to_string(&path)
            .map_err(|e| Error::io(format!("reading the rack {}", path.display()), e))?;
        let wrong = |what: String| Error::usage(format!("{}: {what}", path.display()));
        let rack: RackFile = toml::from_str(&text).map_err(|e| wrong(e.to_string()))?;
        let mut names = BTreeSet::new();
        let mut slots = Vec::new();
        for slot in rack.slot {
            if !names.insert(slot.name.clone()) {
                return Err(wrong(format!("two slots are called {}", slot.name)));
            }
            slots.push(Slot::new(folder, slot).map_err(|e| wrong(e.to_string()))?);
        }
        Ok(slots)
    }

    fn slots(&self) -> MutexGuard<'_, Vec<Slot>> {
        self.slots.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Returns whether `path` names a slot of a rack rather than a file.
    #[must_use]
    pub fn is_slot(path: &Path) -> bool {
        path.to_str().is_some_and(|path| path.starts_with(PREFIX))
    }

    /// The files of all slots: no image may overwrite them.
    #[must_use]
    pub fn files(&self) -> Vec<PathBuf> {
        self.slots().iter().map(|slot| slot.file.clone()).collect()
    }

    /// The file of `card`; `None` if it is not in the rack.
    #[must_use]
    pub fn file_of(&self, card: &Card) -> Option<PathBuf> {
        self.slot(card).ok().map(|slot| slot.file)
    }

    fn slot(&self, card: &Card) -> Result<Slot> {
        let slot = self.slots().iter().find(|slot| slot.card.path == card.path).cloned();
        slot.ok_or_else(|| Error::usage(format!("the rack has no slot {}", card.path.display())))
    }

    fn open_slot(slot: &Slot, write: bool) -> Result<Faulty<FileStore>> {
        let at = |e| Error::io(format!("opening {}", slot.card.path.display()), e);
        let file = OpenOptions::new().read(true).write(write).open(&slot.file).map_err(at)?;
        let store = FileStore::from_file(file)?.with_sector_size(slot.card.sector);
        Ok(Faulty::new(store, slot.faults.clone()))
    }
}

impl Slot {
    fn new(folder: &Path, slot: SlotFile) -> Result<Self> {
        let file = slot.file.unwrap_or_else(|| PathBuf::from(format!("{}.img", slot.name)));
        if !matches!(file.components().collect::<Vec<_>>()[..], [Component::Normal(_)]) {
            return Err(Error::usage(format!(
                "slot {}: its file must be in the rack's folder",
                slot.name
            )));
        }
        let span = |at, len| {
            Span::new(ByteOffset::new(at), ByteLen::new(len))
                .ok_or_else(|| Error::usage(format!("slot {}: a span is too large", slot.name)))
        };
        let sector = SectorSize::new(slot.sector_size)
            .filter(|sector| sector.sectors_in(ByteLen::new(slot.size)).get() > 0)
            .filter(|sector| ByteOffset::new(slot.size).is_aligned_to(sector.len()))
            .ok_or_else(|| {
                Error::usage(format!(
                    "slot {}: {} bytes are not a multiple of its {}-byte sectors",
                    slot.name, slot.size, slot.sector_size
                ))
            })?;
        let unreadable = slot.unreadable.iter().map(|(at, len)| span(*at, *len));
        let flaky = slot
            .flaky
            .iter()
            .map(|(at, len, tries)| Ok(Flaky { span: span(*at, *len)?, tries: *tries }));
        let request_time = Duration::try_from_secs_f64(slot.request_time)
            .map_err(|_| Error::usage(format!("slot {}: no such request_time", slot.name)))?;
        let faults = Faults {
            unreadable: unreadable.collect::<Result<_>>()?,
            flaky: flaky.collect::<Result<_>>()?,
            wraps_at: slot.wraps_at.map(ByteLen::new),
            keeps: slot.keeps.map(ByteLen::new),
            pulled_after: slot.pulled_after.map(ByteLen::new),
            read_rate: slot.read_rate,
            write_rate: slot.write_rate,
            request_time,
        };
        let path = folder.join(file);
        let file = OpenOptions::new()
            .read(true)
            .append(true)
            .create(true)
            .open(&path)
            .or_else(|_| File::open(&path))
            .map_err(|e| Error::io(format!("opening {}", path.display()), e))?;
        let held = file.metadata().map_err(|e| Error::io("asking for the size", e))?.len();
        if held != slot.size {
            file.set_len(slot.size)
                .map_err(|e| Error::io(format!("sizing {}", path.display()), e))?;
        }
        let name = format!("{PREFIX}{}", slot.name);
        let mounted = slot.mounted_at.into_iter();
        let card = Card {
            id: name.clone(),
            path: PathBuf::from(&name),
            size: ByteLen::new(slot.size),
            sector,
            model: slot.model,
            serial: slot.serial,
            bus: Bus::Rack,
            removable: slot.removable,
            read_only: slot.read_only,
            partitions: Vec::new(),
            uses: mounted.map(|at| Use::Mounted { device: name.clone(), at }).collect(),
            sequence: None,
            read_rate: slot.read_rate,
            write_rate: slot.write_rate,
            boot_areas: Vec::new(),
        };
        Ok(Self { card, file: path, faults })
    }
}

impl Host for Rack {
    fn list(&self) -> Result<Listing> {
        let unmounted = self.unmounted.lock().unwrap_or_else(PoisonError::into_inner);
        let mut slots = self.slots();
        *slots = Self::read(&self.folder)?;
        let cards = slots.iter().map(|slot| {
            let mut card = slot.card.clone();
            if unmounted.contains(&card.path) {
                card.uses.clear();
            }
            card
        });
        Ok(Listing { cards: cards.collect(), empty_slots: 0 })
    }

    fn open_source(&self, card: &Card) -> Result<Arc<dyn ReadAt>> {
        let slot = self.slot(card)?;
        Ok(Arc::new(Self::open_slot(&slot, false)?))
    }

    fn open_target(&self, card: &Card) -> Result<Box<dyn TargetCard>> {
        let slot = self.slot(card)?;
        if slot.card.read_only {
            return Err(Error::refused(format!("{} is write-protected", card.path.display())));
        }
        let lock = File::open(&slot.file)
            .map_err(|e| Error::io(format!("opening {}", card.path.display()), e))?;
        rustix::fs::flock(&lock, FlockOperation::NonBlockingLockExclusive).map_err(|errno| {
            Error::refused(format!("{} is in use: {errno}", card.path.display()))
        })?;
        Ok(Box::new(RackTarget { store: Arc::new(Self::open_slot(&slot, true)?), _lock: lock }))
    }

    fn unmount(&self, card: &Card) -> Result<Vec<PathBuf>> {
        let mut unmounted = self.unmounted.lock().unwrap_or_else(PoisonError::into_inner);
        unmounted.insert(card.path.clone());
        Ok(card.mounts())
    }
}

/// A slot that is open for writing. The read-back reads the same simulated card, including its losses and wrapped
/// addresses.
struct RackTarget {
    store: Arc<Faulty<FileStore>>,
    _lock: File,
}

impl TargetCard for RackTarget {
    fn store(&self) -> &dyn WriteAt {
        &self.store
    }

    fn medium(&self) -> Result<Arc<dyn ReadAt>> {
        let _ = self.store.inner().drop_cache()?;
        Ok(Arc::<Faulty<FileStore>>::clone(&self.store))
    }

    fn let_go(self: Box<Self>) -> Result<Vec<PathBuf>> {
        Ok(Vec::new())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rack(text: &str) -> (tempfile::TempDir, Result<Rack>) {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("rack.toml"), text).unwrap();
        let rack = Rack::open(folder.path());
        (folder, rack)
    }

    #[test]
    fn slot_behaves_like_a_card() {
        let (_folder, rack) = rack("[[slot]]\nname='a'\nsize=1048576\nmodel='Willow'\n");
        let rack = rack.unwrap();
        let card = rack.list().unwrap().cards.remove(0);
        assert_eq!((card.path.to_str(), card.size), (Some("rack:a"), ByteLen::mib(1)));
        let target = rack.open_target(&card).unwrap();
        assert!(rack.open_target(&card).is_err(), "one writer at a time");
        target.store().write_at(ByteOffset::new(10), b"wax").unwrap();
        let mut buf = [0; 3];
        target.medium().unwrap().read_at(ByteOffset::new(10), &mut buf).unwrap();
        assert_eq!(&buf, b"wax");
    }

    #[test]
    fn invalid_rack_is_refused_with_its_file() {
        for text in [
            "[[slot]]\nname='a'\n",
            "[[slot]]\nname='a'\nsize=1000\n",
            "[[slot]]\nname='a'\nsize=0\n",
            "[[slot]]\nname='a'\nsize=512\nfile='../x.img'\n",
            "[[slot]]\nname='a'\nsize=512\ncolour='red'\n",
            "[[slot]]\nname='a'\nsize=512\n[[slot]]\nname='a'\nsize=512\n",
            "[[slot]]\nname='a'\nsize=512\nrequest_time=-1.0\n",
            "not toml",
        ] {
            let (_folder, rack) = rack(text);
            let error = rack.unwrap_err();
            assert_eq!(error.class(), imbrik_store::Class::Usage, "{text}");
            assert!(error.to_string().contains("rack.toml"), "{error}");
        }
    }
}
