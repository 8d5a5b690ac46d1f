//! The request for the plan of one card, and the text for its refusal.

use super::{Source, UNTOUCHED};
use crate::{
    args::WriteArgs,
    failure::{Explain, Failure, Outcome},
    identity, resolve,
    session::Session,
};
use imbrik_core::{
    Class, Error,
    layout::Identity,
    operation::{CardTarget, PlanRefusal, RestoreOptions, RestorePlan, SizeNote, Sizes},
};

/// The input of a plan.
pub(super) struct Request<'a> {
    pub(super) args: &'a WriteArgs,
    pub(super) source: &'a Source<'a>,
    pub(super) target: &'a CardTarget,
    /// The identity of the copy, and whether it was typed just now.
    pub(super) identity: Identity,
    pub(super) is_typed: bool,
}

impl Request<'_> {
    pub(super) fn plan(self, session: &Session) -> Outcome<RestorePlan> {
        let shape = &self.args.shape;
        // An invalid name is reported even if it would not be used.
        let sizes = Sizes {
            keep: shape.keep_size,
            fill: shape.fill,
            take_from: self.parts(&shape.shares.take_from)?,
            give_to: shape.shares.give_to.as_ref().map(|name| self.part(name)).transpose()?,
        };
        let options = RestoreOptions {
            sizes,
            identity: self.identity.clone(),
            wipe: self.args.wipe,
            resize: session.resize_options(shape.shares.as_found),
        };
        let plan = session.waiting("planning the card", || {
            RestorePlan::new(&self.source.known, self.target, &options)
        });
        let plan = plan.map_err(|refusal| self.refused(refusal))?;
        for note in &plan.notes {
            match note {
                SizeNote::NothingToFill => {
                    session.out.note("There is nothing to fill: the card is as large as the image.")
                }
                SizeNote::LastKeepsItsSize(error) => {
                    session.out.warn(&format!("the last volume keeps its size: {error}."));
                }
                _ => {}
            }
        }
        Ok(plan)
    }

    fn refused(&self, refusal: PlanRefusal) -> Failure {
        let next = match &refusal {
            PlanRefusal::Exact => "Leave --fill out.",
            PlanRefusal::NoneCanGrow => "Leave --fill out to keep all sizes.",
            PlanRefusal::Identity(_) if self.is_typed => {
                "Run it again and type another name, or press Enter for a copy of the same board."
            }
            PlanRefusal::Identity(error) => identity::hint(error),
            PlanRefusal::Failed(error) => self.next_after(error.class()),
            _ => "",
        };
        let failure = match refusal {
            PlanRefusal::Failed(error)
                if error.class() == Class::NoRoom && self.target.into.is_some() =>
            {
                let what = error.to_string().replacen("the card is", "the partition is", 1);
                Failure::from(Error::new(Class::NoRoom, what))
            }
            PlanRefusal::Failed(error) | PlanRefusal::Identity(error) => Failure::from(error),
            other => Failure::refused(other.to_string()),
        };
        failure.state(UNTOUCHED).next(next)
    }

    fn next_after(&self, class: Class) -> &'static str {
        let is_whole = self.target.into.is_none();
        match class {
            Class::NoRoom if is_whole => "Use a larger card.",
            Class::NoRoom => "Name a larger partition.",
            Class::Refused => "Get the image again, and check it with `imbrik check`.",
            Class::Corrupt if self.args.shape.fill => {
                "Leave --fill out to keep its size; or --as-found keeps faults in folders, links and \
                 attributes."
            }
            Class::Unsupported if self.args.shape.fill => "Leave --fill out to keep its size.",
            Class::Unsupported => "Use a card with sectors of the same size.",
            _ => "",
        }
    }

    /// The place in [`imbrik_core::layout::Survey::parts`] of the partition called `name`.
    fn part(&self, name: &str) -> Outcome<usize> {
        resolve::part_index(&self.source.known.survey, name, &self.source.path()).state(UNTOUCHED)
    }

    fn parts(&self, names: &[String]) -> Outcome<Vec<usize>> {
        names.iter().map(|name| self.part(name)).collect()
    }
}
