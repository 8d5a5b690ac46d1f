//! An earlier image of the card, of which what did not change is taken over.

use super::SaveSource;
use crate::{
    args::SaveArgs,
    failure::{Explain, Failure, Outcome},
    packing::Destination,
    render::{count, json, quoted, size},
    session::Session,
};
use imbrik_core::{
    Error,
    image::{Limit, ListedPart, Manifest, OutputDisk, shares_blocks},
    layout::{Occupancy, View},
    shelf::{Lock, MARK, Shelf, card_of},
    store::ReadAt as _,
    transfer::{Reuse, SaveOptions, Saved},
    units::{ByteLen, Span},
};
use jiff::Timestamp;
use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

/// The shelf that an image goes onto, held as long as that takes.
pub(super) struct OnShelf {
    shelf: Shelf,
    _lock: Lock,
}

impl OnShelf {
    /// The shelf that `to` is on; `None` when it is on none.
    pub(super) fn of(to: &Destination) -> Outcome<Option<Self>> {
        let Destination::File(path) = to else { return Ok(None) };
        let folder = path.parent().filter(|folder| folder.join(MARK).is_file());
        let Some(folder) = folder else { return Ok(None) };
        let shelf = Shelf::open(folder).state(super::UNTOUCHED)?;
        let lock = shelf.lock().state(super::UNTOUCHED).next("Wait until that is done.")?;
        Ok(Some(Self { shelf, _lock: lock }))
    }

    /// The newest sound image of the card that is there.
    pub(super) fn before(&self, wanted: &SaveSource) -> Option<PathBuf> {
        let mut manifest = Manifest::new(&wanted.survey, "", Timestamp::UNIX_EPOCH);
        manifest.only = wanted.only.as_ref().map(ListedPart::of);
        let listing = self.shelf.list().ok()?;
        listing.newest(&card_of(&manifest)).map(|image| image.path.clone())
    }
}

/// Has an image that is kept beside others, if `is_kept`, be one of which the next can take over much. A hash of
/// the file would be a read of all of it, which is what is to be saved: none is made unless it is asked for.
pub(super) fn kept(session: &Session, args: &SaveArgs, is_kept: bool, options: &mut SaveOptions) {
    options.in_pieces = is_kept;
    if is_kept && args.packing.sum.is_empty() && session.config.sums.is_none() {
        options.sums.clear();
    }
}

/// An earlier image of the card, and what of the card it has.
pub(super) struct Earlier {
    pub(super) reuse: Reuse,
}

impl Earlier {
    /// The image `name`, held against the card; with `--reread` or `--exact`, all of the card is read.
    pub(super) fn of(
        session: &Session,
        args: &SaveArgs,
        name: &Path,
        wanted: &SaveSource,
    ) -> Outcome<Self> {
        let image = Arc::new(session.open_image(name).state(super::UNTOUCHED)?);
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
                    format!("Give it some: imbrik repack {} FILE.img.zst", quoted(name))
                }
                _ => String::new(),
            };
            Failure::from(error).state(super::UNWRITTEN).next(next)
        })?;
        for why in &reuse.read_afresh {
            session.out.note(&format!("{}.", super::sentence(why)));
        }
        if args.fit {
            // What is fitted stands elsewhere.
            reuse.same.clear();
        }
        Ok(Self { reuse })
    }

    /// Says beforehand what is copied on the disk, and whether that may get tight.
    pub(super) fn tell_of_room(
        &self,
        session: &Session,
        to: &Destination,
        view: &View,
    ) -> Outcome<()> {
        let Destination::File(image) = to else { return Ok(()) };
        let folder = image.parent().unwrap_or(Path::new("/"));
        let place = OutputDisk::of(folder).state(super::UNTOUCHED)?;
        let used = view.copied_in(Span::whole(view.size()));
        let new = used.saturating_sub(self.known());
        let earlier = self.reuse.image.file().size().min(used);
        let likely = match shares_blocks(self.reuse.image.path(), folder) {
            true => new,
            false => {
                let how = match session.fleet.machine.is_on_network(folder) {
                    true => {
                        "copied: by the machine that it is on where that offers it, else over the network and back"
                    }
                    false => "copied on it",
                };
                session.out.note(&format!(
                    "The disk of {} shares no blocks between these files: up to {} are {how}.",
                    quoted(folder),
                    size::short(earlier)
                ));
                new.saturating_add(earlier)
            }
        };
        if let Some(Limit::Free(free)) = place.limit_for(likely) {
            session.out.warn(&format!(
                "it may get tight: the image may take {}, and {} has {} free.",
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

    /// Tells, for people, what was taken over.
    pub(super) fn lines(&self, saved: &Saved) -> Vec<String> {
        let name = quoted(self.reuse.image.path());
        let unread: ByteLen = saved.taken_over.unread.iter().map(|span| span.len()).sum();
        let mut lines = Vec::new();
        if !self.known().is_zero() {
            lines.push(format!(
                "Reused    {}, {} among them, as {name} has them, by their times, sizes and places",
                size::short(self.known()),
                count(self.reuse.files, "file")
            ));
        }
        if !self.reuse.compared.is_zero() {
            lines.push(format!(
                "Compared  {} more are the same, read of both",
                size::short(self.reuse.compared)
            ));
        }
        if !unread.is_zero() {
            lines.push(format!(
                "Kept      {} of the card as packed there, unread: as sound as it is there",
                size::short(unread)
            ));
        }
        let read: ByteLen = saved.taken_over.read.iter().map(|span| span.len()).sum();
        if !read.is_zero() {
            lines.push(format!(
                "Same      {} of the card, read and found the same, taken over as packed there",
                size::short(read)
            ));
        }
        if saved.sums.is_empty() {
            lines.push(
                "Sum       no checksum file: it takes a read of the whole image, `imbrik check --sum` makes one"
                    .to_owned(),
            );
        }
        lines
    }

    /// The same for programs.
    pub(super) fn json(&self, saved: &Saved) -> json::Reused {
        json::Reused {
            image: json::path(self.reuse.image.path()),
            unchanged_files: self.reuse.files,
            unchanged_bytes: self.known().get(),
            unread_bytes: saved.taken_over.unread.iter().map(|span| span.len().get()).sum(),
            tiles_taken_over: saved.taken_over.tiles(),
            read_afresh: self.reuse.read_afresh.clone(),
        }
    }
}
