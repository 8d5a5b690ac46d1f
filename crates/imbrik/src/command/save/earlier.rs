//! An earlier image of the card, from which unchanged data are reused.

use super::SaveSource;
use crate::{
    args::SaveArgs,
    exit::Exit,
    failure::{Explain, Failure, Outcome},
    packing::Destination,
    render::{Out, count, json, quoted, size, time},
    session::Session,
};
use imbrik_core::{
    Error,
    image::{Limit, ListedPart, Manifest, OutputDisk, shares_blocks},
    layout::{Occupancy, View},
    shelf::{
        CardIdentity, FileState, Listing, Lock, MARK, Remarks, Shelf, found_damaged, is_ahead,
    },
    store::ReadAt as _,
    transfer::{Reuse, SaveOptions, Saved},
    units::{ByteLen, Span},
};
use jiff::Timestamp;
use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

/// The shelf of an image, locked until the image is complete.
pub(super) struct OnShelf {
    listing: Listing,
    _lock: Lock,
}

impl OnShelf {
    /// Locks the shelf that `to` is on; `None` when it is on none. With `is_wanted`, it must be on one.
    ///
    /// # Errors
    /// When another process has it locked, and when it was unmounted since `to` was chosen.
    pub(super) fn lock(to: &Destination, is_wanted: bool) -> Outcome<Option<Self>> {
        let Destination::File(path, chosen, _) = to else { return Ok(None) };
        let folder = path.parent().unwrap_or(Path::new("."));
        let gone = || {
            Failure::new(Exit::Failed, format!("{} is not a shelf any more", quoted(folder)))
                .state(super::UNTOUCHED)
                .next("Its disk or share was unmounted: mount it and try again.")
        };
        if !folder.join(MARK).is_file() {
            return if is_wanted { Err(gone()) } else { Ok(None) };
        }
        let shelf = Shelf::open(folder).state(super::UNTOUCHED)?;
        let lock = shelf.lock().state(super::UNTOUCHED).next("Wait until that is done.")?;
        if chosen.is_some() && *chosen != lock.folder().ok() {
            return Err(gone());
        }
        let listing = shelf.list(Timestamp::now()).state(super::UNTOUCHED)?;
        Ok(Some(Self { listing, _lock: lock }))
    }

    /// The newest image of the card that is not known to be damaged. Warns about oddities of the images there.
    pub(super) fn before(&self, session: &Session, wanted: &SaveSource) -> Option<PathBuf> {
        let mut manifest = Manifest::new(&wanted.survey, "", Timestamp::UNIX_EPOCH);
        manifest.only = wanted.only.as_ref().map(ListedPart::of);
        let card = CardIdentity::from_manifest(&manifest);
        self.tell_of_namesakes(session, &card);
        tell_of_clocks(session, self.listing.newest(&card).map(|image| image.made_at), wanted);
        self.listing.base_for(&card).map(|image| image.path.clone())
    }

    /// Marks the images in which something of `damaged` is damaged. Returns their names.
    fn mark_damaged(&self, session: &Session, damaged: &[Span]) -> Vec<String> {
        let mut names = Vec::new();
        let found = self.listing.damaged_in(damaged);
        for (image, error) in found.unread {
            let name = quoted(image.path.file_name().unwrap_or_default().as_ref());
            session.out.warn(&format!("It is unknown if {name} shares the damage: {error}."));
        }
        for image in found.damaged {
            let remarks = found_damaged(image, Timestamp::now());
            if let Err(error) = image.remember(&remarks, session.environment.owner) {
                session.out.warn(&format!("{error}."));
            }
            names.push(quoted(image.path.file_name().unwrap_or_default().as_ref()));
        }
        names
    }

    /// Says that other cards with the same name have images on the shelf.
    fn tell_of_namesakes(&self, session: &Session, card: &CardIdentity) {
        let cards = self.listing.cards_named(&card.name);
        let others: Vec<_> = cards
            .into_iter()
            .filter(|other| *other != card)
            .map(|other| format!("{} ({})", other.full_name(), size::short(other.size)))
            .collect();
        if !others.is_empty() {
            session.out.note(&format!(
                "This card is {} on the shelf: other cards are named {} too, and their images are kept \
                 separately: {}.",
                card.full_name(),
                card.name,
                others.join(", ")
            ));
        }
    }
}

/// Reports damage in the image that a save reused, and in the images on its shelf that share it.
pub(super) fn report_damage(
    session: &Session,
    shelf: Option<&OnShelf>,
    saved: &Saved,
    earlier: Option<&Earlier>,
) {
    let (damaged, Some(earlier)) = (&saved.reused.damaged, earlier) else { return };
    if damaged.is_empty() {
        return;
    }
    let len: ByteLen = damaged.iter().map(|span| span.len()).sum();
    let name = quoted(earlier.reuse.image.path().file_name().unwrap_or_default().as_ref());
    let mut names = shelf.map_or(Vec::new(), |shelf| shelf.mark_damaged(session, damaged));
    if names.is_empty() {
        names.push(name.clone());
    }
    session.out.in_brief(format!("DAMAGE in {}", names.join(", ")));
    session.out.warn(&format!(
        "{name} is damaged: {} of the card do not match their digests. They were read from the card again, so \
         the new image is not affected. Damaged there: {}. `imbrik check IMAGE` shows which files of an image \
         are affected.",
        size::both(len),
        names.join(", ")
    ));
}

/// Warns if the newest image of the card, or the content of the card, is dated in the future.
fn tell_of_clocks(session: &Session, newest: Option<Timestamp>, wanted: &SaveSource) {
    let now = Timestamp::now();
    let written = wanted.survey.written.and_then(|seconds| i64::try_from(seconds).ok());
    let written = written.and_then(|seconds| Timestamp::from_second(seconds).ok());
    let what = match (newest, written) {
        (Some(at), _) if is_ahead(at, now) => ("The newest image of this card is dated", at),
        (_, Some(at)) if is_ahead(at, now) => ("The card was last written to on", at),
        _ => return,
    };
    session.out.warn(&format!(
        "{} {}, in the future: check the clock of this computer. Images with such a date do not count as \
         recent, and no rule removes them.",
        what.0,
        time::date_and_time(what.1)
    ));
}

/// If `is_kept`, chooses options for an image that is stored next to others, so that the next one can reuse much of it.
/// Hashing the file would read all of it, which such images avoid: no checksum file is written unless requested.
pub(super) fn kept(session: &Session, args: &SaveArgs, is_kept: bool, options: &mut SaveOptions) {
    options.in_pieces = is_kept;
    if is_kept && args.packing.sum.is_empty() && session.config.sums.is_none() {
        options.sums.clear();
    }
}

/// An earlier image of the card, and the data that can be reused.
pub(super) struct Earlier {
    pub(super) reuse: Reuse,
    /// When the image was last checked, if that was the file that is there.
    checked: Option<Timestamp>,
}

impl Earlier {
    /// The image `name`, compared with the card; with `--reread` or `--exact`, all of the card is read.
    pub(super) fn of(
        session: &Session,
        args: &SaveArgs,
        name: &Path,
        wanted: &SaveSource,
    ) -> Outcome<Self> {
        let image = Arc::new(session.open_image(name).state(super::UNTOUCHED)?);
        let remarks = FileState::read(name).and_then(|file| Remarks::read(&image, &file));
        let checked = remarks.ok().and_then(|remarks| remarks.checked);
        let (source, survey) = (&wanted.source, &wanted.survey);
        let is_judged = !args.reread && !args.exact;
        let reuse = match is_judged {
            false => Reuse::nothing(image, source),
            true => Occupancy::of(source, survey).and_then(|occupancy| {
                let cancel = &session.environment.interrupt.cancel;
                Reuse::of(image, source, survey, &occupancy, cancel)
            }),
        };
        let mut reuse = reuse.map_err(|error: Error| {
            let next = match error.class() {
                imbrik_core::Class::Unsupported => {
                    format!("Add digests: imbrik repack {} FILE.img.zst", quoted(name))
                }
                _ => String::new(),
            };
            Failure::from(error).state(super::UNWRITTEN).next(next)
        })?;
        for why in &reuse.read_in_full {
            session.out.note(&format!("{}.", super::sentence(why)));
        }
        if args.fit {
            // In a fitted image, data are at other offsets.
            reuse.same.clear();
        }
        Ok(Self { reuse, checked })
    }

    /// Reports in advance what will be copied on the disk, and if space may run out.
    pub(super) fn tell_of_room(
        &self,
        session: &Session,
        to: &Destination,
        view: &View,
    ) -> Outcome<()> {
        let Destination::File(image, ..) = to else { return Ok(()) };
        let folder = image.parent().unwrap_or(Path::new("/"));
        let place = OutputDisk::of(folder).state(super::UNTOUCHED)?;
        let used = view.copied_in(Span::whole(view.size()));
        let new = used.saturating_sub(self.known());
        let earlier = self.reuse.image.file().size().min(used);
        let likely = match shares_blocks(self.reuse.image.path(), folder) {
            true => new,
            false => {
                let how = match session.fleet.machine.is_on_network(folder) {
                    true => "copied, by the file server where it can do that",
                    false => "copied",
                };
                session.out.note(&format!(
                    "No reflinks on the disk of {}: up to {} are {how}.",
                    quoted(folder),
                    size::short(earlier)
                ));
                new.saturating_add(earlier)
            }
        };
        if let Some(Limit::Free(free)) = place.limit_for(likely) {
            session.out.warn(&format!(
                "There is probably not enough space: the image may take {}, and {} has {} free.",
                size::both(likely),
                quoted(folder),
                size::both(free)
            ));
        }
        Ok(())
    }

    fn known(&self) -> ByteLen {
        self.reuse.known.iter().map(|span| span.len()).sum()
    }

    /// The text about reused data.
    pub(super) fn lines(&self, out: &Out, saved: &Saved) -> Vec<String> {
        let name = quoted(self.reuse.image.path());
        let unread: ByteLen = saved.reused.unread.iter().map(|span| span.len()).sum();
        let mut lines = Vec::new();
        if !self.known().is_zero() {
            let files = match self.reuse.files {
                0 => String::new(),
                files => format!(" in {}", count(files, "file")),
            };
            let compared = match self.reuse.compared {
                ByteLen::ZERO => String::new(),
                compared => format!("; {} compared", size::short(compared)),
            };
            lines.push(format!(
                "Unchanged {}{files} by file metadata, not read{compared}",
                size::short(self.known())
            ));
        }
        for part in &self.reuse.by_names {
            lines.push(format!(
                "          {part}: compared by name, size, time and position; a file that was rewritten in \
                 place with its old time is not noticed (--reread)"
            ));
        }
        if !self.reuse.compared.is_zero() && (out.is_verbose() || self.known().is_zero()) {
            lines.push(format!(
                "Compared  {} more, read from the card and from the image: identical",
                size::short(self.reuse.compared)
            ));
        }
        if !unread.is_zero() && (out.is_verbose() || !saved.reused.is_verified) {
            lines.push(match (saved.reused.is_verified, self.checked) {
                (true, _) => format!(
                    "Copied    {} from {name}, each tile verified first",
                    size::short(unread)
                ),
                (false, Some(at)) => format!(
                    "Shared    {} with {name}, not verified now; last checked {}",
                    size::short(unread),
                    time::date_and_time(at)
                ),
                (false, None) => format!(
                    "Shared    {} with {name}, not verified now and never checked",
                    size::short(unread)
                ),
            });
        }
        let read: ByteLen = saved.reused.read.iter().map(|span| span.len()).sum();
        if !read.is_zero() && out.is_verbose() {
            lines.push(format!("Reused    {} that were read and are unchanged", size::short(read)));
        }
        lines
    }

    /// The same for programs.
    pub(super) fn json(&self, saved: &Saved) -> json::Reused {
        json::Reused {
            image: json::path(self.reuse.image.path()),
            unchanged_files: self.reuse.files,
            unchanged_bytes: self.known().get(),
            unread_bytes: saved.reused.unread.iter().map(|span| span.len().get()).sum(),
            tiles_reused: saved.reused.tiles(),
            read_in_full: self.reuse.read_in_full.clone(),
        }
    }
}
