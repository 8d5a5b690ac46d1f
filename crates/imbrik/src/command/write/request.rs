//! The plan for one card: as it was, or with volumes of other sizes.

use super::{Source, UNTOUCHED};
use crate::{
    args::WriteArgs,
    failure::{Explain, Failure, Outcome},
    resolve,
    session::Session,
};
use imbrik_core::{
    Class, Error,
    fs::reshaped_kinds,
    layout::{Fit, Occupancy, Plan, Target},
    units::ByteLen,
};
use std::sync::Arc;

/// Less than this is not worth growing a volume for.
const LEAST_ROOM: ByteLen = ByteLen::mib(1);

/// What a plan is to be made of.
pub(super) struct Request<'a> {
    pub(super) args: &'a WriteArgs,
    pub(super) source: &'a Source<'a>,
    pub(super) target: Target,
    /// Whether a whole card is written, and not a partition of it.
    pub(super) is_whole: bool,
}

impl Request<'_> {
    pub(super) fn plan(&self, session: &Session) -> Outcome<Plan> {
        let (content, survey) = (&self.source.content, &self.source.survey);
        let occupancy = self.source.occupancy.as_ref();
        let refused = |error: Error| {
            let error = match (error.class(), self.is_whole) {
                (Class::NoRoom, false) => {
                    let what = error.to_string().replacen("the card is", "the partition is", 1);
                    Error::new(Class::NoRoom, what)
                }
                _ => error,
            };
            let next = match error.class() {
                Class::NoRoom if self.is_whole => "Use a larger card.",
                Class::NoRoom => "Name a larger partition.",
                Class::Refused => {
                    "Get the whole image again; `imbrik check` tells whether it is whole."
                }
                Class::Corrupt if self.args.shape.fill => {
                    "Leave --fill out, and it keeps its size; --as-found keeps faults in folders, links \
                     and attributes instead."
                }
                Class::Unsupported if self.args.shape.fill => {
                    "Leave --fill out, and it keeps its size."
                }
                Class::Unsupported => "Use a card with sectors of the same size.",
                _ => "",
            };
            Failure::from(error).state(UNTOUCHED).next(next)
        };
        // A name that makes no sense is told, also where nothing would come of it.
        let take_from = self.parts(&self.args.shape.shares.take_from)?;
        let named = match &self.args.shape.shares.give_to {
            Some(name) => Some(self.part(name)?),
            None => None,
        };
        let plain = Plan::restore(Arc::clone(content), survey, occupancy, self.target);
        let size = self.target.size;
        let fit = |occupancy: &Occupancy, fit: &Fit| {
            Plan::fit(
                Arc::clone(content),
                survey,
                occupancy,
                fit,
                session.work(self.args.shape.shares.as_found),
            )
        };
        let plain = match (plain, occupancy.filter(|_| self.may_resize())) {
            // A smaller card is used when the data fit.
            (Err(error), Some(occupancy)) if error.class() == Class::NoRoom => {
                let smaller = Fit::Card { size, take_from, give_to: None };
                return fit(occupancy, &smaller).map_err(|why| match why.class() {
                    Class::NoRoom | Class::Cancelled => refused(why),
                    _ => refused(Error::new(Class::NoRoom, format!("{error}; {why}"))),
                });
            }
            (plain, _) => plain.map_err(refused)?,
        };
        let asked = self.args.shape.fill || named.is_some();
        let Some(occupancy) = occupancy.filter(|_| asked || self.fills_of_itself()) else {
            return match asked {
                false => Ok(plain),
                true => Err(Failure::refused("an exact image stays as it is, to the byte")
                    .state(UNTOUCHED)
                    .next("Leave --fill out.")),
            };
        };
        let Some(index) = named.or_else(|| survey.last_reshapable()) else {
            return match asked {
                false => Ok(plain),
                true => Err(Failure::refused(format!(
                    "no volume can grow: none is one of {}",
                    reshaped_kinds()
                ))
                .state(UNTOUCHED)
                .next("Leave --fill out, and all keep their sizes.")),
            };
        };
        let room = size.saturating_sub(survey.needed());
        if room < LEAST_ROOM {
            if asked {
                session.out.note("There is nothing to fill: the card is as large as the image.");
            }
            return Ok(plain);
        }
        let larger = Fit::Card { size, take_from: Vec::new(), give_to: Some(index) };
        match fit(occupancy, &larger) {
            Ok(plan) => Ok(plan),
            Err(error) if asked || error.class() == Class::Cancelled => {
                let words = format!("the volume cannot grow: {error}");
                Err(refused(Error::new(error.class(), words)))
            }
            Err(error) => {
                session.out.warn(&format!("the last volume keeps its size: {error}."));
                Ok(plain)
            }
        }
    }

    /// The place in [`imbrik_core::layout::Survey::parts`] of the partition called `name`.
    fn part(&self, name: &str) -> Outcome<usize> {
        resolve::part_index(&self.source.survey, name, &self.source.path()).state(UNTOUCHED)
    }

    fn parts(&self, names: &[String]) -> Outcome<Vec<usize>> {
        names.iter().map(|name| self.part(name)).collect()
    }

    /// Whether a volume may get another size without having been asked for.
    fn may_resize(&self) -> bool {
        self.source.is_plain && !self.args.shape.keep_size && self.is_whole
    }

    /// Whether the last volume took what its card had.
    fn fills_of_itself(&self) -> bool {
        self.may_resize() && self.source.fills
    }
}
