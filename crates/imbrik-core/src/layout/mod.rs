//! The present and the future content of a card: survey, plan and view.

mod finding;
mod fit;
mod identity;
mod lost;
mod occupancy;
mod plan;
mod private;
mod start;
mod survey;
mod view;
mod warning;

pub use finding::Finding;
pub use fit::{Fit, WORTH_GROWING};
pub use identity::{Guesses, Identity, LeavePrivate, PartEdit, Uninspected};
pub use lost::{Lost, LostWhat, lost_in};
pub use occupancy::Occupancy;
pub(crate) use occupancy::SHORTEST_HOLE;
pub use plan::{Change, Plan, TargetSize};
pub use private::{FoundBy, Inspection, Private, PrivateKind, Remedy, private_in};
pub use start::{Reference, Room, references, room};
pub use survey::{Part, Survey, gap_in_use, table_behind_a_preface};
pub use view::{Content, Segment, View};
pub use warning::Warning;
