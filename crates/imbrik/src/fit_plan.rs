//! The plan for an image of another size: common to `save --fit` and `fit`.

use crate::{
    failure::{Failure, Outcome},
    session::Session,
};
use imbrik_core::{
    Class, Error,
    fs::resizable_kinds,
    layout::{Fit, Part, Survey},
    operation::{ImageContent, ImagePlan},
    store::ReadAt,
    units::ByteLen,
};
use std::sync::Arc;

const UNTOUCHED: &str = "Nothing was written.";
pub(crate) const OTHERWISE: &str =
    "The image can be restored unchanged to a card of the same size or a bigger one.";

/// Resizes one volume so that it has this free space: the named one, or the last possible one.
pub(crate) fn smallest(
    survey: &Survey,
    named: Option<usize>,
    room: Option<ByteLen>,
) -> Outcome<Fit> {
    let part = named.or_else(|| survey.last_resizable()).ok_or_else(|| {
        match survey.parts.iter().any(Part::is_resizable) {
            true => Failure::refused("only its swap can be resized")
                .state(UNTOUCHED)
                .next("To shrink it, give the size: --to SIZE"),
            false => Failure::refused(format!(
                "no volume on it can be resized: that works for {}",
                resizable_kinds()
            ))
            .state(UNTOUCHED),
        }
    })?;
    Ok(Fit::Smallest { part, room })
}

/// The plan for a card or an image, or a refusal with alternatives.
pub(crate) fn plan(
    session: &Session,
    content: &Arc<dyn ReadAt>,
    survey: &Survey,
    fit: Fit,
    as_found: bool,
) -> Outcome<ImagePlan> {
    session.out.note("Checking every file of the volumes to resize first ...");
    let is_smallest = matches!(fit, Fit::Smallest { .. });
    let options = session.resize_options(as_found);
    ImagePlan::new(content, survey, ImageContent::Fitted(fit), options)
        .map_err(|error| refusal(error, is_smallest))
}

fn refusal(error: Error, is_smallest: bool) -> Failure {
    let next = match (error.class(), is_smallest) {
        (Class::NoRoom, true) => "Ask for less room.",
        (Class::NoRoom, false) => "Give a larger size; `--smallest` shows how small it can be.",
        (Class::Corrupt, _) => {
            "Check that volume with the filesystem checker of its own system and save the card again, \
             or restore the image unchanged; --as-found keeps faults in folders, links and \
             attributes."
        }
        (Class::Unsupported, _) => OTHERWISE,
        _ => "",
    };
    Failure::from(error).state(UNTOUCHED).next(next)
}
