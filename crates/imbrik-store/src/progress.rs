//! Progress and cancellation of long operations.

use crate::{
    error::{Error, Result},
    units::{ByteLen, Span},
};
use std::sync::{
    Arc, Mutex, PoisonError,
    atomic::{AtomicBool, Ordering},
};

/// The kind of work in a step, for display.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// An image that cannot be read at random is unpacked to a temporary file.
    Unpacking,
    /// A pipe is copied to a temporary file.
    TakingIn,
    /// An image is made of another one.
    Repacking,
    /// A card is read into an image.
    Saving,
    /// Unreadable ranges of a card are retried.
    TryingAgain,
    /// Data from a retry are added to an image.
    Mending,
    /// An image is written again with other files in it.
    Editing,
    /// An image for another size is made of an image.
    MinimumSizes,
    /// A written image is read and compared.
    ReadingImageBack,
    /// The checksum file is compared with the image.
    ComparingChecksums,
    /// Every tile of an image is decoded and compared with its digest.
    CheckingTiles,
    /// An image and a card are read and compared.
    ComparingWithCard,
    /// The capacity and speed of a card are measured; counted in steps, not in bytes.
    Weighing,
    /// All of a card that may be written is filled, read back and cleared.
    Filling,
    /// An image is written to a card.
    Writing,
    /// A written card is read from the medium and compared.
    ReadingCardBack,
    /// Files are read out of a volume.
    TakingOut,
    /// The files of two volumes are compared.
    ComparingFiles,
    /// A card that was pulled out is waited for; nothing is counted.
    WaitingForCard,
}

/// Something that happened on the way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Event {
    /// A step begins; it will cover `total` bytes.
    Started {
        /// The kind of work.
        step: Step,
        /// How many bytes it covers.
        total: ByteLen,
    },
    /// `done` bytes of the current step are dealt with.
    Advanced {
        /// Bytes since the step began, never more than its total.
        done: ByteLen,
    },
    /// A span of the source could not be read, and zeros take its place.
    Unreadable {
        /// Its range in the source.
        span: Span,
    },
    /// Unreadable ranges are retried: this many bytes are left.
    Trying {
        /// How many areas.
        areas: usize,
        /// Bytes in them.
        open: ByteLen,
        /// Bytes of all that is read, these included.
        of: ByteLen,
    },
    /// The current step is finished.
    Finished,
    /// One step more will follow than was thought.
    StepAdded,
}

/// Takes the events of a transfer. Called from one thread at a time, between pieces of work: an
/// observer that blocks holds up the transfer.
pub trait Observer: Sync {
    /// Receives an event.
    fn on(&self, event: &Event);
}

/// The observer of an operation, and its cancel token.
#[derive(Clone, Copy)]
pub struct Watch<'a> {
    /// Takes the events.
    pub observer: &'a dyn Observer,
    /// The request to stop.
    pub cancel: &'a Cancel,
}

/// An observer that ignores all events.
pub struct Unobserved;

impl Observer for Unobserved {
    fn on(&self, _: &Event) {}
}

/// Shows several steps to another observer as parts of one.
pub struct Merged<'a> {
    observer: &'a dyn Observer,
    /// The sum of the merged steps, and the total to show for it.
    total: ByteLen,
    shown: ByteLen,
    before: Mutex<ByteLen>,
    part: Mutex<ByteLen>,
}

impl<'a> Merged<'a> {
    /// Begins `step` of `shown` bytes. The merged steps add up to `total`, which can be more: bytes that are processed
    /// twice are still the same bytes.
    pub fn start(observer: &'a dyn Observer, step: Step, shown: ByteLen, total: ByteLen) -> Self {
        observer.on(&Event::Started { step, total: shown });
        Self { observer, total, shown, before: Mutex::default(), part: Mutex::default() }
    }

    /// The shown progress for `done` of the total.
    fn scaled(&self, done: ByteLen) -> ByteLen {
        let scaled = u128::from(done.get()).saturating_mul(self.shown.get().into());
        let scaled = scaled.checked_div(self.total.get().into()).unwrap_or(0);
        u64::try_from(scaled).map_or(self.shown, ByteLen::new).min(self.shown)
    }

    /// Reports the end of the step.
    pub fn finish(self) {
        self.observer.on(&Event::Finished);
    }
}

impl Observer for Merged<'_> {
    fn on(&self, event: &Event) {
        let mut before = self.before.lock().unwrap_or_else(PoisonError::into_inner);
        let mut part = self.part.lock().unwrap_or_else(PoisonError::into_inner);
        match event {
            Event::Started { total, .. } => *part = *total,
            Event::Advanced { done } => {
                let done = self.scaled(before.saturating_add(*done));
                self.observer.on(&Event::Advanced { done });
            }
            Event::Unreadable { .. } | Event::Trying { .. } | Event::StepAdded => {
                self.observer.on(event);
            }
            Event::Finished => *before = before.saturating_add(*part),
        }
    }
}

/// A request to stop, shared between the requester and the workers.
#[derive(Clone, Debug, Default)]
pub struct Cancel(Arc<AtomicBool>);

impl Cancel {
    /// Not asked to stop yet.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Asks to stop. Work ends at the next tile, with [`Error::cancelled`].
    pub fn request(&self) {
        self.0.store(true, Ordering::SeqCst);
    }

    /// The flag itself, for a signal handler.
    #[must_use]
    pub fn flag(&self) -> Arc<AtomicBool> {
        Arc::clone(&self.0)
    }

    /// Returns an error if it was cancelled.
    ///
    /// # Errors
    /// [`crate::Class::Cancelled`], and nothing else.
    pub fn check(&self) -> Result<()> {
        if self.0.load(Ordering::SeqCst) { Err(Error::cancelled()) } else { Ok(()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn merged_steps_never_exceed_the_total() {
        struct Seen(Mutex<Vec<Event>>);
        impl Observer for Seen {
            fn on(&self, event: &Event) {
                self.0.lock().unwrap().push(event.clone());
            }
        }
        let seen = Seen(Mutex::default());
        // A card of 400 bytes in an image of 150, which is hashed and then decoded.
        let (shown, total) = (ByteLen::new(400), ByteLen::new(550));
        let merged = Merged::start(&seen, Step::ReadingImageBack, shown, total);
        for (step, len) in [(Step::ComparingChecksums, 150), (Step::CheckingTiles, 400)] {
            merged.on(&Event::Started { step, total: ByteLen::new(len) });
            merged.on(&Event::Advanced { done: ByteLen::new(len / 2) });
            merged.on(&Event::Advanced { done: ByteLen::new(len) });
            merged.on(&Event::Finished);
        }
        merged.finish();
        let seen = seen.0.into_inner().unwrap();
        let done: Vec<u64> = seen
            .iter()
            .filter_map(|event| match event {
                Event::Advanced { done } => Some(done.get()),
                _ => None,
            })
            .collect();
        assert_eq!(done, [54, 109, 254, 400]);
        let step = Step::ReadingImageBack;
        assert_eq!(seen.first(), Some(&Event::Started { step, total: shown }));
        assert_eq!(seen.last(), Some(&Event::Finished));
    }
}
