//! Changing the files of a card in place.

use crate::{
    card::{Card, Host, TargetCard},
    layout::{Part, Survey},
    transfer::{Planned, claim, len_of_commit, write_commit},
};
use imbrik_fs::{AfterACut, Commit, EditOptions, EditedVolume, FileEdit, FileTime, OpenVolume};
use imbrik_store::{
    ReadAt, Window,
    error::{Error, Result},
    for_pieces,
    progress::{Cancel, Event, Step, Watch},
    read_vec,
    units::{ByteLen, Span, joined, without},
};
use jiff::Timestamp;
use std::{path::PathBuf, sync::Arc};

/// The unit of comparison.
const PIECE: ByteLen = ByteLen::mib(1);
/// The journal is replayed, then orphans are completed; no volume needs more steps.
const MOST_SETTLING: usize = 4;

/// An edit of a card: verified, and not written yet.
pub struct CardEdit {
    planned: Planned,
    place: Span,
    title: String,
    edits: Vec<FileEdit>,
    options: EditOptions,
    /// The state after a power loss during the write.
    pub after_a_cut: AfterACut,
    /// The number of bytes to write, as known in advance.
    pub written: ByteLen,
    /// True if the volume was not unmounted, and is recovered first.
    pub recovers_journal_first: bool,
}

/// The result of editing a card.
#[derive(Clone, Debug)]
pub struct CardEdited {
    /// How much was written.
    pub written: ByteLen,
    /// The mount points that a desktop mounted meanwhile, and that were unmounted again.
    pub unmounted: Vec<PathBuf>,
}

/// The state of a card after a failed edit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum CardState {
    /// Nothing was written.
    Untouched,
    /// Its volume has the old files or the new ones.
    OldOrNew,
    /// Its volume must be checked: each name is the old or the new one.
    ToBeChecked,
    /// Everything was written, but the card has other data.
    Differs,
    /// Everything was written and verified, but the card can't be removed safely yet.
    Whole,
}

/// The reason why the files of a card could not be changed, and the state of the card.
#[derive(Debug)]
pub struct EditFailure {
    /// The error that ended the edit.
    pub error: Error,
    /// The state of the card.
    pub state: CardState,
}

impl CardEdit {
    /// Plans `edits` of the files of `part` of `card`, which is `store`. The volume is verified in full before and
    /// afterwards; nothing is written.
    ///
    /// # Errors
    /// As [`OpenVolume::edit`] and [`OpenVolume::commit`]; [`imbrik_store::Class::Corrupt`] for a volume that contradicts
    /// itself.
    pub fn new(
        card: Card,
        store: &Arc<dyn ReadAt>,
        survey: &Survey,
        part: &Part,
        edits: Vec<FileEdit>,
        now: Timestamp,
        cancel: &Cancel,
    ) -> Result<Self> {
        let title = part.full_title();
        let failed = |error: Error| error.at(&title);
        let volume = part
            .open(store)?
            .ok_or_else(|| failed(Error::unsupported("its content is unknown")))?;
        if let Some(why) = volume.examine()?.usage.whole_because {
            return Err(failed(Error::corrupt(why)));
        }
        let recovered = volume.recovered()?;
        if let Some(error) = recovered.recovery_error {
            return Err(failed(error));
        }
        let options = EditOptions { now: file_time(now), keeps_old: true };
        let (edited, commit) =
            plan(&recovered.volume, &edits, options, recovered.was_replayed).map_err(failed)?;
        let new =
            OpenVolume::known(Arc::clone(&edited.volume.store), recovered.volume.volume().clone());
        new.check_edited(&recovered.volume, cancel).map_err(failed)?;
        Ok(Self {
            planned: Planned::new(card, survey),
            place: part.span,
            title,
            edits,
            options,
            after_a_cut: commit.as_ref().map_or(AfterACut::OldOrNew, |commit| commit.after_a_cut),
            written: commit.as_ref().map_or(ByteLen::ZERO, len_of_commit),
            recovers_journal_first: recovered.was_replayed,
        })
    }

    /// Writes the changes: each step is flushed before the next, and everything is read back.
    ///
    /// # Errors
    /// When the card was exchanged, cannot be written, or does not keep its data.
    pub fn run(
        &self,
        host: &dyn Host,
        allow_fixed: bool,
        watch: Watch<'_>,
    ) -> std::result::Result<CardEdited, EditFailure> {
        let untouched = |error| EditFailure { error, state: CardState::Untouched };
        let target = claim(host, &self.planned, allow_fixed).map_err(untouched)?;
        let mut state = CardState::Untouched;
        match self.write(&*target, &mut state, watch) {
            Ok(written) => match target.let_go() {
                Ok(unmounted) => Ok(CardEdited { written, unmounted }),
                Err(error) => Err(EditFailure { error, state: CardState::Whole }),
            },
            Err(error) => Err(EditFailure { error: error.at(&self.title), state }),
        }
    }

    fn write(
        &self,
        target: &dyn TargetCard,
        state: &mut CardState,
        watch: Watch<'_>,
    ) -> Result<ByteLen> {
        let mut done = ByteLen::ZERO;
        let total = self.written;
        watch.observer.on(&Event::Started { step: Step::Writing, total });
        let mut tell = |len: ByteLen| {
            done = done.saturating_add(len);
            watch.observer.on(&Event::Advanced { done: done.min(total) });
        };
        for _ in 0..MOST_SETTLING {
            let Some((recovered, commit)) = self.volume(target)?.recovery()? else { break };
            // A cut leaves what its own system recovers just as well.
            *state = CardState::OldOrNew;
            write_commit(
                target.store(),
                self.place,
                &commit,
                &*recovered.store,
                watch.cancel,
                &mut tell,
            )?;
        }
        watch.cancel.check()?;
        // A journal makes all edits atomic; without one, each stage is written and flushed before the next.
        let stages: Vec<&[FileEdit]> = match self.after_a_cut {
            AfterACut::OldOrNew => vec![&self.edits],
            AfterACut::ToBeChecked => FileEdit::stages(&self.edits).collect(),
        };
        let mut written = Vec::new();
        for stage in stages {
            let volume = self.volume(target)?;
            let edited = volume.edit(stage, self.options)?;
            let commit = volume.commit(&edited)?;
            *state = match commit.after_a_cut {
                AfterACut::OldOrNew => CardState::OldOrNew,
                AfterACut::ToBeChecked => CardState::ToBeChecked,
            };
            write_commit(
                target.store(),
                self.place,
                &commit,
                &*edited.volume.store,
                watch.cancel,
                &mut tell,
            )?;
            written.push(edited);
        }
        watch.observer.on(&Event::Finished);
        *state = CardState::Differs;
        self.read_back(target, &written, watch)?;
        *state = CardState::Whole;
        Ok(done)
    }

    fn volume(&self, target: &dyn TargetCard) -> Result<OpenVolume> {
        let window = Window::new(target.medium()?, self.place)?;
        let volume = OpenVolume::open(Arc::new(window))?;
        volume.ok_or_else(|| Error::mismatch("its volume is no longer there"))
    }

    /// Compares the medium with the data of each stage, except for data that a later one overwrote.
    fn read_back(
        &self,
        target: &dyn TargetCard,
        stages: &[EditedVolume],
        watch: Watch<'_>,
    ) -> Result<()> {
        let medium = Window::new(target.medium()?, self.place)?;
        let (mut last, mut overwritten) = (Vec::new(), Vec::new());
        for stage in stages.iter().rev() {
            let spans = &stage.volume.rewritten;
            last.extend(without(spans, &overwritten).into_iter().map(|span| (stage, span)));
            overwritten.extend(spans);
            overwritten = joined(overwritten);
        }
        let total = last.iter().map(|(_, span)| span.len()).sum();
        watch.observer.on(&Event::Started { step: Step::ReadingCardBack, total });
        let mut done = ByteLen::ZERO;
        for (stage, span) in last {
            for_pieces(span, PIECE, |piece| {
                let len = piece.len().to_usize().unwrap_or(0);
                let found = read_vec(&medium, piece.start(), len)?;
                if found != read_vec(&*stage.volume.store, piece.start(), len)? {
                    let at = self.place.start().saturating_add(ByteLen::new(piece.start().get()));
                    let what = format!("the card does not hold what was written to it at {at}");
                    return Err(Error::mismatch(what));
                }
                done = done.saturating_add(piece.len());
                watch.observer.on(&Event::Advanced { done });
                Ok(())
            })?;
        }
        watch.observer.on(&Event::Finished);
        Ok(())
    }
}

/// The time of an edit.
fn file_time(now: Timestamp) -> FileTime {
    let nanoseconds = u32::try_from(now.subsec_nanosecond()).unwrap_or(0);
    FileTime { seconds: now.as_second(), nanoseconds }
}

/// The edited volume, and how it is written; that is not known yet where its journal has to be replayed
/// first.
fn plan(
    volume: &OpenVolume,
    edits: &[FileEdit],
    options: EditOptions,
    was_replayed: bool,
) -> Result<(EditedVolume, Option<Commit>)> {
    let edited = volume.edit(edits, options)?;
    let commit = match was_replayed {
        true => None,
        false => Some(volume.commit(&edited)?),
    };
    Ok((edited, commit))
}
