//! A shelf: a folder of images that are kept over time.
//!
//! The images tell all that there is to know; beside each stand remarks on it, if there are any, and one file
//! marks the folder as a shelf and holds its rules. So a folder under which a disk is not mounted is no
//! shelf, and nothing is put into it.

mod extents;
mod remarks;
mod rules;

use crate::{
    image::{Image, Manifest, Owner, Pack, PartFile, SumKind, manifest_path},
    layout::Survey,
};
use imbrik_store::{
    error::{Class, Error, Result},
    units::ByteLen,
};
use jiff::{Timestamp, tz::TimeZone};
pub use remarks::Remarks;
pub use rules::{Fate, Kept, Rules};
use rustix::fs::FlockOperation;
use serde::{Deserialize, Serialize};
use std::{
    collections::BTreeMap,
    fs::{self, File},
    os::unix::fs::{FileExt as _, MetadataExt as _},
    path::{Path, PathBuf},
};

/// The file that marks a shelf.
pub const MARK: &str = "shelf.toml";
/// A mark longer than this is none.
const MOST_MARK: u64 = 64 << 10;
/// How old the newest image of a card may be until the next one is overdue, in days, unless that is set.
const DUE: u32 = 7;

/// A folder of images that are kept over time.
#[derive(Clone, Debug)]
pub struct Shelf {
    folder: PathBuf,
    /// Which images stay.
    pub rules: Rules,
    /// How old the newest image of a card may be until the next one is overdue, in days.
    pub due: u32,
}

/// What stands in the mark.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Mark {
    keep: Option<String>,
    due_days: Option<u32>,
}

/// An image on a shelf.
#[derive(Clone, Debug)]
pub struct Shelved {
    /// Where it stands.
    pub path: PathBuf,
    /// Whose card it is of: the host, or else what people know the card by.
    pub card: String,
    /// When it was made.
    pub made_at: Timestamp,
    /// How long the card is.
    pub card_size: ByteLen,
    /// How long the file is.
    pub len: ByteLen,
    /// How much of the disk would be free without it: what no other file shares.
    pub own: ByteLen,
    /// What its owner wanted to remember.
    pub note: Option<String>,
    /// Whether some of the card could not be read.
    pub lacks: ByteLen,
    /// The ids of its table and its volumes.
    pub ids: Vec<String>,
    /// What is remembered of it.
    pub remarks: Remarks,
}

/// A file among the images that is none, or not to be read, and why.
#[derive(Clone, Debug)]
pub struct Stranger {
    /// Where it stands.
    pub path: PathBuf,
    /// In a sentence's end.
    pub why: String,
}

/// All that stands on a shelf.
#[derive(Clone, Debug, Default)]
pub struct Listing {
    /// The images, by card and then from the newest on.
    pub images: Vec<Shelved>,
    /// What looks like an image and is not listed.
    pub strangers: Vec<Stranger>,
    /// What is left of images that did not become whole.
    pub unfinished: Vec<Unfinished>,
}

/// What is left of an image that did not become whole.
#[derive(Clone, Debug)]
pub struct Unfinished {
    /// Where it stands.
    pub path: PathBuf,
    /// When somebody last wrote to it.
    pub changed_at: Timestamp,
    /// What it takes on the disk.
    pub len: ByteLen,
}

/// Nobody else changes the shelf as long as it is there.
#[derive(Debug)]
pub struct Lock {
    _folder: File,
}

impl Shelf {
    /// The shelf in `folder`.
    ///
    /// # Errors
    /// [`Class::Refused`] when it has no mark: what should be mounted there is not, or it never was a shelf;
    /// [`Class::Corrupt`] when the mark makes no sense.
    pub fn open(folder: &Path) -> Result<Self> {
        let path = folder.join(MARK);
        match fs::metadata(&path) {
            Ok(found) if found.is_file() && found.len() <= MOST_MARK => {}
            Ok(_) => {
                return Err(Error::corrupt(format!("{} is no mark of a shelf", path.display())));
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                return Err(Error::refused(format!(
                    "{} is no shelf, or its disk is not mounted: it has no {MARK}",
                    folder.display()
                )));
            }
            Err(error) => return Err(Error::io(format!("reading {}", path.display()), error)),
        }
        let text = fs::read_to_string(&path)
            .map_err(|e| Error::io(format!("reading {}", path.display()), e))?;
        let mark: Mark = toml::from_str(&text)
            .map_err(|e| Error::corrupt(format!("{}: {}", path.display(), e.message())))?;
        let rules = mark.keep.map_or(Ok(Rules::default()), |keep| keep.parse());
        let rules = rules.map_err(|e: Error| Error::corrupt(format!("{}: {e}", path.display())))?;
        Ok(Self { folder: folder.to_owned(), rules, due: mark.due_days.unwrap_or(DUE) })
    }

    /// Makes `folder` a shelf, with the usual rules.
    ///
    /// # Errors
    /// [`Class::Refused`] when it is one already; when it cannot be written to.
    pub fn make(folder: &Path, owner: Option<Owner>) -> Result<Self> {
        let this = Self { folder: folder.to_owned(), rules: Rules::default(), due: DUE };
        this.write(false, owner)?;
        Ok(this)
    }

    /// Writes its rules down.
    ///
    /// # Errors
    /// When they cannot be written; what was there stays then.
    pub fn save(&self, _lock: &Lock, owner: Option<Owner>) -> Result<()> {
        self.write(true, owner)
    }

    fn write(&self, replace: bool, owner: Option<Owner>) -> Result<()> {
        let path = self.folder.join(MARK);
        let mark = Mark { keep: Some(self.rules.to_string()), due_days: Some(self.due) };
        let text = toml::to_string(&mark).map_err(|_| Error::bug("rules cannot be written"))?;
        let text = format!(
            "# Images of cards are kept here over time. This file marks the folder.\n{text}"
        );
        let part = PartFile::create(&path, replace, owner)?;
        let written = part.file().write_all_at(text.as_bytes(), 0);
        written.map_err(|e| Error::io(format!("writing {}", path.display()), e))?;
        part.publish()
    }

    /// Where it is.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Keeps others from changing it.
    ///
    /// # Errors
    /// [`Class::Refused`] when somebody else is at it.
    pub fn lock(&self) -> Result<Lock> {
        let io = |e| Error::io(format!("opening {}", self.folder.display()), e);
        let folder = File::open(&self.folder).map_err(io)?;
        match rustix::fs::flock(&folder, FlockOperation::NonBlockingLockExclusive) {
            Err(rustix::io::Errno::WOULDBLOCK) => Err(Error::refused(format!(
                "another run is at work on the shelf {}",
                self.folder.display()
            ))),
            // A filesystem that knows no locks has none.
            _ => Ok(Lock { _folder: folder }),
        }
    }

    /// All that stands on it. Of the images, only what they know of themselves is read.
    ///
    /// # Errors
    /// When the folder cannot be read.
    pub fn list(&self) -> Result<Listing> {
        let io = |e| Error::io(format!("reading {}", self.folder.display()), e);
        let mut listing = Listing::default();
        for entry in fs::read_dir(&self.folder).map_err(io)? {
            let path = entry.map_err(io)?.path();
            let is_image = Pack::of_name(&path).is_some() && path.is_file();
            if !is_image {
                listing.unfinished.extend(unfinished(path));
                continue;
            }
            match shelved(&path) {
                Ok(image) => listing.images.push(image),
                Err(error) => {
                    listing.strangers.push(Stranger { path, why: error.to_string() });
                }
            }
        }
        listing.images.sort_by(|a, b| {
            let order = (&a.card, std::cmp::Reverse(a.made_at), &a.path);
            order.cmp(&(&b.card, std::cmp::Reverse(b.made_at), &b.path))
        });
        listing.unfinished.sort_by(|a, b| a.path.cmp(&b.path));
        listing.strangers.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(listing)
    }

    /// What becomes of each image of `listing` when it is thinned `now`, with days as they are in `zone`.
    #[must_use]
    pub fn fates(&self, listing: &Listing, now: Timestamp, zone: &TimeZone) -> Vec<Fate> {
        let mut fates = Vec::new();
        for (_, images) in listing.by_card() {
            let kept: Vec<Kept> = images.iter().map(|image| image.kept()).collect();
            fates.extend(self.rules.fates(&kept, now, zone));
        }
        fates
    }

    /// Removes what is left of an image that did not become whole, with what stands beside it.
    ///
    /// # Errors
    /// When it cannot be removed.
    pub fn remove_unfinished(&self, left: &Unfinished, _lock: &Lock) -> Result<()> {
        fs::remove_file(&left.path)
            .map_err(|e| Error::io(format!("removing {}", left.path.display()), e))?;
        let mut notes = left.path.clone().into_os_string();
        notes.push(".notes");
        // Missing is as good as removed.
        let _ = fs::remove_file(notes);
        tracing::info!(left = %left.path.display(), "what was not finished is removed");
        Ok(())
    }

    /// Takes an image off it, with all that stands beside it.
    ///
    /// # Errors
    /// When the image cannot be removed; what stands beside it stays then.
    pub fn remove(&self, image: &Shelved, _lock: &Lock) -> Result<()> {
        fs::remove_file(&image.path)
            .map_err(|e| Error::io(format!("removing {}", image.path.display()), e))?;
        let sums = SumKind::ALL.into_iter().map(|kind| kind.path_beside(&image.path));
        let beside = [manifest_path(&image.path), Remarks::path(&image.path)];
        for path in sums.chain(beside) {
            // Missing is as good as removed.
            let _ = fs::remove_file(path);
        }
        tracing::info!(image = %image.path.display(), "taken off the shelf");
        Ok(())
    }
}

/// How old what was left of an image that did not become whole must be until it goes, in seconds: whoever wants
/// to go on with it has two days.
const LEFT: i64 = 2 * 24 * 60 * 60;

impl Unfinished {
    /// Whether nobody is likely to go on with it `now`.
    #[must_use]
    pub fn is_given_up(&self, now: Timestamp) -> bool {
        now.as_second().saturating_sub(self.changed_at.as_second()) > LEFT
    }
}

impl Listing {
    /// The images of each card.
    #[must_use]
    pub fn by_card(&self) -> BTreeMap<&str, Vec<&Shelved>> {
        let mut cards: BTreeMap<&str, Vec<&Shelved>> = BTreeMap::new();
        for image in &self.images {
            cards.entry(&image.card).or_default().push(image);
        }
        cards
    }

    /// The newest image of `card` with which nothing is known to be wrong.
    #[must_use]
    pub fn newest(&self, card: &str) -> Option<&Shelved> {
        let mut images = self.images.iter().filter(|image| image.card == card);
        images.find(|image| image.remarks.is_sound())
    }

    /// The images of the very card that `survey` tells of, from the newest on: of its name, and with all of its
    /// ids.
    #[must_use]
    pub fn of_card(&self, survey: &Survey) -> Vec<&Shelved> {
        let manifest = Manifest::new(survey, "", Timestamp::UNIX_EPOCH);
        let (card, ids) = (card_of(&manifest), ids_of(&manifest));
        let is_of = |image: &&Shelved| image.card == card && image.ids == ids && !ids.is_empty();
        self.images.iter().filter(is_of).collect()
    }

    /// Those that were not checked for the longest time, never checked ones first, and among them the oldest.
    #[must_use]
    pub fn longest_unchecked(&self, count: usize) -> Vec<&Shelved> {
        let mut images: Vec<_> = self.images.iter().collect();
        images.sort_by_key(|image| (image.remarks.checked, image.made_at));
        images.truncate(count);
        images
    }
}

impl Shelved {
    fn kept(&self) -> Kept {
        let is_sound = self.remarks.is_sound();
        Kept {
            made_at: self.made_at,
            is_pinned: self.remarks.pinned,
            is_sound,
            checked_at: self.remarks.checked.filter(|_| is_sound),
        }
    }
}

/// What is left of an image that did not become whole, if `path` is that.
fn unfinished(path: PathBuf) -> Option<Unfinished> {
    let name = path.file_name()?.to_str()?.strip_suffix(".part")?;
    let name = name.strip_suffix(".copy").unwrap_or(name);
    Pack::of_name(Path::new(name))?;
    let meta = fs::symlink_metadata(&path).ok().filter(fs::Metadata::is_file)?;
    let changed_at = Timestamp::try_from(meta.modified().ok()?).ok()?;
    let len = ByteLen::new(meta.blocks().saturating_mul(512));
    Some(Unfinished { path, changed_at, len })
}

/// Whose card a manifest tells of, and which partition of it, when it is one.
#[must_use]
pub fn card_of(manifest: &Manifest) -> String {
    let name = manifest.name().unwrap_or("unnamed");
    match manifest.only.as_ref().map(|only| only.number) {
        None => name.to_owned(),
        Some(Some(number)) => format!("{name}, partition {number}"),
        Some(None) => format!("{name}, a partition"),
    }
}

/// The ids of a card's table and of its volumes, in order.
fn ids_of(manifest: &Manifest) -> Vec<String> {
    let table = manifest.table.iter().map(|table| table.id.clone());
    let volumes = manifest.partitions.iter().filter_map(|part| part.volume.as_ref());
    table.chain(volumes.filter_map(|volume| volume.uuid.clone())).collect()
}

fn shelved(path: &Path) -> Result<Shelved> {
    let image = Image::open(path, None)?;
    let manifest = image.manifest();
    let manifest = manifest.ok_or_else(|| Error::new(Class::Unsupported, "it has no digests"))?;
    let len = image.file().size();
    let file = File::open(path).map_err(|e| Error::io(format!("opening {}", path.display()), e))?;
    let meta = file.metadata().map_err(|e| Error::io(format!("opening {}", path.display()), e))?;
    let taken = ByteLen::new(meta.blocks().saturating_mul(512));
    let mut remarks = Remarks::read(path)?;
    // What was checked is not what is there, if it was written to since.
    if remarks.checked.is_some_and(|at| at.as_second() < meta.mtime()) {
        (remarks.checked, remarks.whole) = (None, None);
    }
    Ok(Shelved {
        path: path.to_owned(),
        card: card_of(manifest),
        made_at: manifest.made_at,
        card_size: ByteLen::new(manifest.card_size),
        len,
        own: extents::own(&file).unwrap_or(taken),
        note: manifest.note.clone(),
        lacks: manifest.unreadable_spans().iter().map(|span| span.len()).sum(),
        ids: ids_of(manifest),
        remarks,
    })
}
