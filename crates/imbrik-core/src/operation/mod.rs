//! Complete operations: from options, over a plan that can be shown or refused, to an outcome. Nothing is printed or
//! asked here: refusals, notes and outcomes are values.
//!
//! An image restored onto a card, with nothing but this crate:
//!
//! ```no_run
//! use imbrik_core::{
//!     card::{Host, Rack},
//!     image::Image,
//!     operation::{CardTarget, RestoreOptions, RestorePlan, Source, SourceOptions, WriteOptions},
//!     progress::{Cancel, Unobserved, Watch},
//! };
//! use std::path::Path;
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let cancel = Cancel::new();
//! let rack = Rack::open(Path::new("rack"))?;
//! let card = rack.list()?.cards.remove(0);
//! let image = Image::open(Path::new("hive-07.img.zst"), None)?;
//! let source = Source::of_image(&image, &SourceOptions::default())?;
//! let target = CardTarget::look(&rack, card)?;
//! let plan = RestorePlan::new(&source, &target, &RestoreOptions::new(&cancel))?;
//! println!("{} are written", plan.plan.view.written());
//! let watch = Watch { observer: &Unobserved, cancel: &cancel };
//! let written = plan.write(&rack, &target, &source, WriteOptions::default(), watch)?;
//! println!("{} were found there already", written.found);
//! # Ok(())
//! # }
//! ```

mod check;
mod comeback;
mod compare;
mod edit;
mod edit_card;
mod image;
mod mend;
mod repack;
mod restore;
mod source;
mod weigh;
mod wipe;
mod write;

pub use check::{CheckedContent, CheckedImage, ExpectedSum, ImageCheck, Verdict, damage_in};
pub use comeback::wait_for_source;
pub use compare::{Compared, Comparison};
pub use edit::EditPlan;
pub use edit_card::{CardEdit, CardEdited, CardState, EditFailure};
pub use image::{ImageContent, ImagePlan};
pub use mend::{MendPlan, MendRefusal};
pub use repack::RepackPlan;
pub use restore::{CardTarget, PlanRefusal, RestoreOptions, RestorePlan, SizeNote, Sizes};
pub use source::{Source, SourceOptions, SourceRefusal};
pub use weigh::{Shortfall, WeighOptions, WeighPlan, WeighRefusal, Weighed};
pub use wipe::WipePlan;
pub use write::{LeftOnCard, WriteFailure, WriteOptions, WrittenToCard, with_first_tile};
