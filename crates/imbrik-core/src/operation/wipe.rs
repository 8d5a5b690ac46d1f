//! Overwriting all of a card with zeros.

use super::write::{CardWriting, WriteFailure, WriteOptions, WrittenToCard};
use crate::{
    card::{Card, Host},
    layout::{Survey, View},
    transfer::{OnDamage, Origin, Planned},
};
use imbrik_store::{Concatenated, Tally, error::Result, progress::Watch, units::Span};
use std::sync::Arc;

/// A card to wipe, with what is on it now. Nothing has been written.
pub struct WipePlan {
    planned: Planned,
    survey: Survey,
}

impl WipePlan {
    /// Examines `card`. Whether it may be written is checked again by [`WipePlan::run`].
    ///
    /// # Errors
    /// When it can't be opened.
    pub fn new(host: &dyn Host, card: Card) -> Result<Self> {
        let survey = Survey::of(&*host.open_source(&card)?)?;
        Ok(Self { planned: Planned::new(card, &survey), survey })
    }

    /// What is on the card.
    #[must_use]
    pub fn survey(&self) -> &Survey {
        &self.survey
    }

    /// Writes zeros to every sector, its start first, and reads them back unless `options` disable that. Sectors that
    /// are zero already are not written.
    ///
    /// # Errors
    /// With the state of the card.
    pub fn run(
        &self,
        host: &dyn Host,
        options: WriteOptions,
        watch: Watch<'_>,
    ) -> std::result::Result<WrittenToCard, WriteFailure> {
        let card = &self.planned.card;
        let mut zeros = Concatenated::new(card.sector);
        zeros.push_zeros(card.size);
        let view = View::on_card_of(card.size, Arc::new(zeros));
        let place = Span::whole(card.size);
        let writing = CardWriting { view: &view, place, options, tally: Tally::default() };
        writing.run(host, &self.planned, Origin::Card(OnDamage::Stop), watch)
    }
}
