//! Parts of an earlier image that turned out to be damaged while a new one was made of it.

use imbrik_store::units::{Span, joined};
use std::sync::{Mutex, PoisonError};

/// Ranges of a card whose content in an image does not match its digest. Shared by all readers of the image.
#[derive(Debug, Default)]
pub(super) struct DamagedSpans(Mutex<Vec<Span>>);

impl DamagedSpans {
    pub(super) fn add(&self, span: Span) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(span);
    }

    /// Returns whether something in `span` is damaged.
    pub(super) fn touches(&self, span: Span) -> bool {
        let damaged = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        damaged.iter().any(|one| one.intersect(span).is_some())
    }

    /// All ranges, in order and joined.
    pub(super) fn list(&self) -> Vec<Span> {
        joined(self.0.lock().unwrap_or_else(PoisonError::into_inner).clone())
    }
}
