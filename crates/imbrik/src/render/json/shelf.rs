//! The objects of `imbrik shelf`.

#[cfg(test)]
use schemars::JsonSchema;
use serde::Serialize;

/// The files for saving a card onto a shelf every night.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfNightly {
    /// Files for systemd.
    pub(crate) units: Vec<ShelfUnit>,
    /// With `--cron`, a line for its table; otherwise null.
    pub(crate) cron: Option<String>,
}

/// A file for systemd.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfUnit {
    /// Its name; once it is in place, where that is.
    pub(crate) path: String,
    pub(crate) text: String,
}

/// An image on a shelf.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfImage {
    pub(crate) image: String,
    /// The card that it is of: the host, or else its label; followed by `#` and its code where cards share a name.
    pub(crate) card: String,
    /// Six hexadecimal digits that identify the card, whatever its name.
    pub(crate) card_code: String,
    pub(crate) made_at: String,
    pub(crate) card_size: u64,
    pub(crate) image_bytes: u64,
    /// The disk space that no other file shares with it, and that removing it would free.
    pub(crate) own_bytes: u64,
    /// The number of bytes of the card that could not be read.
    pub(crate) unreadable_bytes: u64,
    pub(crate) note: Option<String>,
    pub(crate) pinned: bool,
    /// When all of it was last read; null when that never was.
    pub(crate) checked_at: Option<String>,
    /// The result of the last check.
    pub(crate) intact: Option<bool>,
    /// The effect of the next run of the retention rules.
    pub(crate) status: ShelfStatus,
}

/// The reason for keeping an image, or that it will be removed.
#[derive(Clone, Copy, Serialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum ShelfStatus {
    Newest,
    Pinned,
    LastChecked,
    Rule,
    /// It is damaged, and left to its owner.
    Damaged,
    /// It is dated in the future, so that no rule applies to it.
    FutureDate,
    Remove,
}

/// A file that looks like an image and is not listed.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfUnrecognised {
    pub(crate) path: String,
    pub(crate) why: String,
}

/// A shelf and its images.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfListed {
    pub(crate) shelf: String,
    /// The rules for keeping images, as text.
    pub(crate) rules: String,
    pub(crate) due_days: u32,
    pub(crate) images: Vec<ShelfImage>,
    pub(crate) unrecognised: Vec<ShelfUnrecognised>,
    pub(crate) free_bytes: Option<u64>,
    /// The number of days until the disk is full, at the pace of the last month; null if unknown.
    pub(crate) full_in_days: Option<f64>,
}

/// A shelf that was made, or its rules.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfRules {
    pub(crate) shelf: String,
    pub(crate) rules: String,
    pub(crate) due_days: u32,
}

/// Images that go, or went.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfThinned {
    pub(crate) shelf: String,
    pub(crate) removed: Vec<String>,
    /// Leftovers of incomplete images, which are removed as well.
    pub(crate) unfinished: Vec<String>,
    pub(crate) kept: u64,
    /// The disk space that no other file shares with any single one of them; space shared among them is additional.
    pub(crate) own_bytes: u64,
}

/// Images that were checked.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfChecked {
    pub(crate) shelf: String,
    pub(crate) images: Vec<ShelfCheckedImage>,
    /// How many others there are.
    pub(crate) not_checked: u64,
}

/// The result for one image.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfCheckedImage {
    pub(crate) image: String,
    pub(crate) intact: bool,
    /// The problem, if there is any.
    pub(crate) why: Option<String>,
}

/// The overdue cards and images.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfDue {
    pub(crate) shelf: String,
    pub(crate) overdue: Vec<ShelfOverdue>,
}

/// Something that is overdue.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfOverdue {
    pub(crate) what: ShelfOverdueKind,
    /// The card, when it is about one.
    pub(crate) card: Option<String>,
    /// The image, when it is about one.
    pub(crate) image: Option<String>,
    /// A sentence.
    pub(crate) text: String,
}

/// The kind of problem.
#[derive(Clone, Copy, Serialize)]
#[serde(rename_all = "kebab-case")]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) enum ShelfOverdueKind {
    /// A card has no image that is new enough.
    Image,
    /// An image was not checked for a month.
    Check,
    /// An image is damaged.
    Damaged,
    /// A file is not a readable image.
    Unreadable,
}

/// An image that was pinned or left to the rules, or the line for a sticker.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShelfMarked {
    pub(crate) image: String,
    pub(crate) pinned: bool,
    /// The line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) label: Option<String>,
}

/// The images of a card on a shelf.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct CardOnShelf {
    /// The newest intact image.
    pub(crate) newest: String,
    pub(crate) made_at: String,
    /// How many there are of this very card.
    pub(crate) images: u64,
}

/// The shelf, and how much of the card has changed since.
#[derive(Serialize)]
#[cfg_attr(test, derive(JsonSchema))]
pub(crate) struct ShownOnShelf {
    #[serde(flatten)]
    pub(crate) on_shelf: CardOnShelf,
    /// The maximum number of used bytes that differ from the newest image; null if that requires reading everything.
    pub(crate) changed_at_most: Option<u64>,
}
