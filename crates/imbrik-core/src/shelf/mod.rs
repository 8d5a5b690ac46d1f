//! A shelf: a folder of images that are kept by rules.
//!
//! All information is in the images. Next to an image there can be a file with remarks, and one file marks the folder
//! as a shelf and contains its rules. So a folder under which a disk is not mounted is not a shelf, and nothing is
//! written to it.

mod damage;
mod extents;
mod identity;
mod remarks;
mod removal;
mod rules;

use crate::{
    image::{FolderId, Image, Owner, Pack, PartFile, SumKind, manifest_path, notes_path},
    layout::Survey,
};
pub use damage::{SharedDamage, found_damaged};
pub use identity::{CardIdentity, card_name};
use imbrik_store::{
    error::{Class, Error, Result},
    units::ByteLen,
};
use jiff::{Timestamp, tz::TimeZone};
pub use remarks::{FileState, Remarks};
pub use removal::Removal;
pub use rules::{Fate, Kept, Rules, is_ahead};
use rustix::fs::FlockOperation;
use serde::{Deserialize, Serialize};
use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet},
    fs::{self, File},
    os::unix::fs::{FileExt as _, MetadataExt as _},
    path::{Path, PathBuf},
};

/// The name of the file that marks a shelf.
pub const MARK: &str = "shelf.toml";
/// A longer file is not a valid mark.
const MOST_MARK: u64 = 64 << 10;
/// The default age of the newest image, in days, after which a card is overdue.
const DUE: u32 = 7;

/// A folder of images that are kept by rules.
#[derive(Clone, Debug)]
pub struct Shelf {
    folder: PathBuf,
    /// The rules by which images are kept.
    pub rules: Rules,
    /// The age of the newest image, in days, after which a card is overdue.
    pub due: u32,
}

/// The content of the mark.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Mark {
    keep: Option<String>,
    due_days: Option<u32>,
}

/// An image on a shelf.
#[derive(Clone, Debug)]
pub struct Shelved {
    /// Its path.
    pub path: PathBuf,
    /// The identity of its card.
    pub card: CardIdentity,
    /// The name of the card, unique on the shelf: `hive-07`, or `hive-07#3fa2c1` where cards share the name.
    pub card_label: String,
    /// The time of the save.
    pub made_at: Timestamp,
    /// The size of the card.
    pub card_size: ByteLen,
    /// The size of the file.
    pub len: ByteLen,
    /// The disk space that removing it would free: blocks that no other file shares.
    pub own: ByteLen,
    /// The note of the user.
    pub note: Option<String>,
    /// The number of bytes of the card that could not be read.
    pub unreadable: ByteLen,
    /// The remarks on it.
    pub remarks: Remarks,
    /// The state of its file when it was listed, and the digest of its manifest.
    known: (FileState, Option<blake3::Hash>),
}

/// A file that looks like an image and can't be listed, and the reason.
#[derive(Clone, Debug)]
pub struct Stranger {
    /// Its path.
    pub path: PathBuf,
    /// The end of a sentence.
    pub why: String,
}

/// The content of a shelf.
#[derive(Clone, Debug, Default)]
pub struct Listing {
    /// The images, by card and then from newest to oldest; those dated in the future come last.
    pub images: Vec<Shelved>,
    /// Files that look like images and are not listed.
    pub unrecognised: Vec<Stranger>,
    /// Incomplete images.
    pub unfinished: Vec<Unfinished>,
}

/// An incomplete image.
#[derive(Clone, Debug)]
pub struct Unfinished {
    /// Its path.
    pub path: PathBuf,
    /// The last write to it.
    pub changed_at: Timestamp,
    /// The disk space that it takes.
    pub len: ByteLen,
}

/// Locks the shelf against other processes, and keeps its folder open, so that a share can't be replaced by the empty
/// folder under its mount point unnoticed.
#[derive(Debug)]
pub struct Lock {
    folder: File,
}

impl Lock {
    /// The folder of the lock.
    ///
    /// # Errors
    /// When it can't be inspected.
    pub fn folder(&self) -> Result<FolderId> {
        FolderId::from_file(&self.folder)
    }
}

impl Shelf {
    /// Opens the shelf in `folder`.
    ///
    /// # Errors
    /// [`Class::Refused`] when it has no mark: its disk is not mounted, or it never was a shelf; [`Class::Corrupt`]
    /// when the mark is invalid.
    pub fn open(folder: &Path) -> Result<Self> {
        let path = folder.join(MARK);
        match fs::metadata(&path) {
            Ok(found) if found.is_file() && found.len() <= MOST_MARK => {}
            Ok(_) => {
                return Err(Error::corrupt(format!(
                    "{} is not the mark of a shelf",
                    path.display()
                )));
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                return Err(Error::refused(format!(
                    "{} is not a shelf, or its disk is not mounted: it has no {MARK}",
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

    /// Makes `folder` a shelf with the default rules, and pins the images in it, because the user did not agree that
    /// rules remove them. Returns their number.
    ///
    /// # Errors
    /// [`Class::Refused`] when it is a shelf already; when it can't be written to.
    pub fn make(folder: &Path, owner: Option<Owner>, now: Timestamp) -> Result<(Self, usize)> {
        let this = Self { folder: folder.to_owned(), rules: Rules::default(), due: DUE };
        if folder.join(MARK).symlink_metadata().is_ok() {
            return Err(Error::refused(format!("{} is a shelf already", folder.display())));
        }
        let images = this.list(now)?.images;
        for image in &images {
            set_pinned(&image.path, true, owner)?;
        }
        this.write(false, owner)?;
        Ok((this, images.len()))
    }

    /// Writes its rules.
    ///
    /// # Errors
    /// When they can't be written; the old ones are kept.
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

    /// Its folder.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Locks it against changes by other processes.
    ///
    /// # Errors
    /// [`Class::Refused`] when another process has the lock.
    pub fn lock(&self) -> Result<Lock> {
        let io = |e| Error::io(format!("opening {}", self.folder.display()), e);
        let folder = File::open(&self.folder).map_err(io)?;
        match rustix::fs::flock(&folder, FlockOperation::NonBlockingLockExclusive) {
            Err(rustix::io::Errno::WOULDBLOCK) => Err(Error::refused(format!(
                "another run is at work on the shelf {}",
                self.folder.display()
            ))),
            // Some filesystems don't support locks.
            _ => Ok(Lock { folder }),
        }
    }

    /// Lists the images; only their manifests are read. Images dated after `now` come last.
    ///
    /// # Errors
    /// When the folder cannot be read.
    pub fn list(&self, now: Timestamp) -> Result<Listing> {
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
                    listing.unrecognised.push(Stranger { path, why: error.to_string() });
                }
            }
        }
        listing.images.sort_by_cached_key(|image| {
            let age = (is_ahead(image.made_at, now), Reverse(image.made_at));
            (image.card.clone(), age, image.path.clone())
        });
        listing.label_cards();
        listing.unfinished.sort_by(|a, b| a.path.cmp(&b.path));
        listing.unrecognised.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(listing)
    }

    /// The fate of each image of `listing` if rules are applied `now`, with days in the time zone `zone`.
    #[must_use]
    pub fn fates(&self, listing: &Listing, now: Timestamp, zone: &TimeZone) -> Vec<Fate> {
        let mut fates = Vec::new();
        for (_, images) in listing.by_card() {
            let kept: Vec<Kept> = images.iter().map(|image| image.kept()).collect();
            fates.extend(self.rules.fates(&kept, now, zone));
        }
        fates
    }

    /// Removes an incomplete image with its notes.
    ///
    /// # Errors
    /// When it can't be removed.
    pub fn remove_unfinished(&self, left: &Unfinished, _lock: &Lock) -> Result<()> {
        if is_being_written(&left.path) {
            return Ok(());
        }
        fs::remove_file(&left.path)
            .map_err(|e| Error::io(format!("removing {}", left.path.display()), e))?;
        // A missing file is fine.
        let _ = fs::remove_file(notes_path(&left.path));
        tracing::info!(left = %left.path.display(), "the unfinished image was removed");
        Ok(())
    }

    /// Removes an image with all files next to it.
    ///
    /// # Errors
    /// When the image can't be removed; the files next to it are kept.
    pub fn remove(&self, image: &Shelved, _lock: &Lock) -> Result<()> {
        fs::remove_file(&image.path)
            .map_err(|e| Error::io(format!("removing {}", image.path.display()), e))?;
        let sums = SumKind::ALL.into_iter().map(|kind| kind.path_beside(&image.path));
        let beside = [manifest_path(&image.path), Remarks::path(&image.path)];
        for path in sums.chain(beside) {
            // A missing file is fine.
            let _ = fs::remove_file(path);
        }
        tracing::info!(image = %image.path.display(), "taken off the shelf");
        Ok(())
    }
}

/// Returns whether another process is writing the incomplete image at `path`.
fn is_being_written(path: &Path) -> bool {
    let Ok(file) = File::open(path) else { return false };
    let locked = rustix::fs::flock(&file, FlockOperation::NonBlockingLockExclusive);
    matches!(locked, Err(rustix::io::Errno::WOULDBLOCK))
}

/// The minimum age of an incomplete image before it is removed, in seconds: it can be resumed for two days.
const LEFT: i64 = 2 * 24 * 60 * 60;

impl Unfinished {
    /// Returns whether it is too old to be resumed.
    #[must_use]
    pub fn is_given_up(&self, now: Timestamp) -> bool {
        now.as_second().saturating_sub(self.changed_at.as_second()) > LEFT
    }
}

impl Listing {
    /// Gives cards that share a name different labels.
    fn label_cards(&mut self) {
        let shared: BTreeSet<String> = self.shared_names().into_keys().map(str::to_owned).collect();
        for image in &mut self.images {
            image.card_label = match shared.contains(&image.card.name) {
                true => image.card.full_name(),
                false => image.card.name.clone(),
            };
        }
    }

    /// The cards with the name, or the name with code, `name`.
    #[must_use]
    pub fn cards_named(&self, name: &str) -> Vec<&CardIdentity> {
        let is_named = |card: &&CardIdentity| card.name == name || card.full_name() == name;
        self.by_card().into_keys().filter(is_named).collect()
    }

    /// Host names that more than one card has.
    #[must_use]
    pub fn shared_names(&self) -> BTreeMap<&str, Vec<&CardIdentity>> {
        let mut names: BTreeMap<&str, Vec<&CardIdentity>> = BTreeMap::new();
        for card in self.by_card().into_keys() {
            names.entry(&card.name).or_default().push(card);
        }
        names.retain(|_, cards| cards.len() > 1);
        names
    }

    /// The images of each card.
    #[must_use]
    pub fn by_card(&self) -> BTreeMap<&CardIdentity, Vec<&Shelved>> {
        let mut cards: BTreeMap<&CardIdentity, Vec<&Shelved>> = BTreeMap::new();
        for image in &self.images {
            cards.entry(&image.card).or_default().push(image);
        }
        cards
    }

    /// The newest image of `card` that is not known to be damaged. One dated in the future is used only if there is no
    /// other.
    #[must_use]
    pub fn newest(&self, card: &CardIdentity) -> Option<&Shelved> {
        let mut images = self.images.iter().filter(|image| image.card == *card);
        images.find(|image| image.remarks.is_sound())
    }

    /// The newest image that is not known to be damaged of `card`, or else of a similar card.
    #[must_use]
    pub fn base_for(&self, card: &CardIdentity) -> Option<&Shelved> {
        let similar = || {
            let images = self.images.iter().filter(|image| image.card.resembles(card));
            images.filter(|image| image.remarks.is_sound()).max_by_key(|image| image.made_at)
        };
        self.newest(card).or_else(similar)
    }

    /// The images of the card that `survey` describes, from the newest on; none for a card without ids.
    #[must_use]
    pub fn of_card(&self, survey: &Survey) -> Vec<&Shelved> {
        let card = CardIdentity::from_survey(survey);
        let is_of = |image: &&Shelved| image.card == card && !card.ids.is_empty();
        self.images.iter().filter(is_of).collect()
    }

    /// The `count` images that were not checked for the longest time `now`. An image that was never checked counts
    /// from when it was made: if those came first, a new image each night would keep the others from their turn.
    /// Dates in the future cannot be right and come first.
    #[must_use]
    pub fn longest_unchecked(&self, count: usize, now: Timestamp) -> Vec<&Shelved> {
        let known_good_at = |image: &Shelved| image.remarks.checked.unwrap_or(image.made_at);
        let mut images: Vec<_> = self.images.iter().collect();
        images.sort_by_key(|image| {
            (Some(known_good_at(image)).filter(|at| *at <= now), image.made_at)
        });
        images.truncate(count);
        images
    }
}

impl Shelved {
    /// Writes `remarks` next to the image. A check refers to the file as of the listing.
    ///
    /// # Errors
    /// When they cannot be written; [`Class::Mismatch`] when the file changed since it was listed.
    pub fn remember(&self, remarks: &Remarks, owner: Option<Owner>) -> Result<()> {
        let (file, digest) = &self.known;
        if FileState::read(&self.path)? != *file {
            let name = self.path.display();
            return Err(Error::mismatch(format!("{name} was changed meanwhile")));
        }
        remarks.write(&self.path, *digest, file.clone(), owner)
    }

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

/// The incomplete image at `path`. Files named `.part` of other programs, such as downloads in progress, have no
/// notes and are left alone.
fn unfinished(path: PathBuf) -> Option<Unfinished> {
    let name = path.file_name()?.to_str()?.strip_suffix(".part")?;
    let copied = name.strip_suffix(".copy");
    Pack::of_name(Path::new(copied.unwrap_or(name)))?;
    if copied.is_none() && !notes_path(&path).is_file() {
        return None;
    }
    let meta = fs::symlink_metadata(&path).ok().filter(fs::Metadata::is_file)?;
    let changed_at = Timestamp::try_from(meta.modified().ok()?).ok()?;
    let len = ByteLen::new(meta.blocks().saturating_mul(512));
    Some(Unfinished { path, changed_at, len })
}

/// Pins the image at `path`, so that no rule removes it, or unpins it.
///
/// # Errors
/// When the image or its remarks cannot be read, or the remarks cannot be written.
pub fn set_pinned(path: &Path, pinned: bool, owner: Option<Owner>) -> Result<()> {
    let file = FileState::read(path)?;
    let image = Image::open(path, None)?;
    let remarks = Remarks { pinned, ..Remarks::read(&image, &file)? };
    remarks.write(path, image.manifest_digest(), file, owner)
}

fn shelved(path: &Path) -> Result<Shelved> {
    let image = Image::open(path, None)?;
    let manifest = image.manifest();
    let manifest = manifest.ok_or_else(|| Error::new(Class::Unsupported, "it has no digests"))?;
    let len = image.file().size();
    let file = File::open(path).map_err(|e| Error::io(format!("opening {}", path.display()), e))?;
    let meta = file.metadata().map_err(|e| Error::io(format!("opening {}", path.display()), e))?;
    let taken = ByteLen::new(meta.blocks().saturating_mul(512));
    let state = FileState::from_metadata(&meta);
    let remarks = Remarks::read(&image, &state)?;
    let card = CardIdentity::from_manifest(manifest);
    Ok(Shelved {
        path: path.to_owned(),
        card_label: card.name.clone(),
        card,
        made_at: manifest.made_at,
        card_size: ByteLen::new(manifest.card_size),
        len,
        own: extents::own(&file).unwrap_or(taken),
        note: manifest.note.clone(),
        unreadable: manifest.unreadable_spans().iter().map(|span| span.len()).sum(),
        remarks,
        known: (state, image.manifest_digest()),
    })
}
