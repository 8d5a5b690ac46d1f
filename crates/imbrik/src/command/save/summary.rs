//! The result of a save.

use crate::{
    card_sizes,
    packing::Destination,
    render::{Out, count, json, lost, quoted, size, time},
    running_card::Freezes,
    session::Session,
};
use imbrik_core::{
    card::Card,
    image::Pack,
    layout::{Occupancy, Part},
    store::Tally,
    transfer::Saved,
    units::ByteLen,
};
use std::time::Duration;

/// The completed save.
pub(super) struct Done<'a> {
    pub(super) card: &'a Card,
    /// How long it is, or the partition of it that was saved.
    pub(super) size: ByteLen,
    /// How long a card must be for the image, when it was fitted.
    pub(super) fitted: Option<ByteLen>,
    pub(super) only: Option<&'a Part>,
    /// The used space of the card; `None` if it was not examined.
    pub(super) occupancy: Option<&'a Occupancy>,
    pub(super) used: ByteLen,
    pub(super) pack: Pack,
    pub(super) saved: &'a Saved,
    /// The data reused from the earlier image, as JSON and as text.
    pub(super) reused: Option<json::Reused>,
    pub(super) reused_lines: Vec<String>,
    /// The times and durations of the freezes of a card in use.
    pub(super) frozen: Option<Freezes>,
    /// The number of bytes read from the card.
    pub(super) tally: &'a Tally,
    pub(super) took: Duration,
}

impl Done<'_> {
    fn json(&self, to: &Destination, next: String) -> json::Saved {
        let Done { card, saved, tally, .. } = self;
        let whole = self.occupancy.map_or(&[][..], |occupancy| &occupancy.read_whole);
        let findings = self.occupancy.map_or(&[][..], |occupancy| &occupancy.findings);
        json::Saved {
            card: card.path.to_string_lossy().into_owned(),
            card_size: self.size.get(),
            fitted_card_size: self.fitted.map(ByteLen::get),
            read_whole: whole.to_vec(),
            findings: json::told(findings),
            card_bytes_read: tally.read().get(),
            card_requests: tally.reads(),
            card_bytes_written: tally.written().get(),
            used_bytes: self.used.get(),
            made: to.made(saved, self.took, next),
            zero_bytes: saved.zeros.get(),
            unreadable: json::spans(&saved.unreadable),
            lost: lost::for_programs(&saved.lost),
            rescued_bytes: saved.rescued.get(),
            resumed_bytes: saved.resumed.get(),
            was_cut_short: saved.was_cut_short,
            reused: self.reused.clone(),
            frozen: self.frozen.as_ref().map(Freezes::json),
        }
    }

    /// A line to type next.
    fn next(&self, out: &Out, to: &Destination) -> String {
        if !self.saved.unreadable.is_empty() && self.fitted.is_none() && !to.is_pipe() {
            return to.next(out, "imbrik mend", &quoted(&self.card.path));
        }
        let place = self.only.map_or("CARD".to_owned(), |part| match part.number {
            Some(number) => format!("CARD --into {number}"),
            None => "CARD".to_owned(),
        });
        to.next(out, "imbrik restore", &place)
    }

    /// Reports a second image from the same read.
    pub(super) fn show_second(&self, session: &Session, to: &Destination) {
        let out = &session.out;
        if out.is_json() {
            let more = self.json(to, self.next(out, to));
            out.line(&json::object("save", "done", more).to_string());
            return;
        }
        let size = size::both(self.saved.image_len);
        out.line(&format!("Also      {}, {size}", to.title()));
        for sum in &self.saved.sums {
            out.line(&format!("{:<9} {}", sum.kind.to_string(), sum.hex));
        }
    }

    /// The most important in part of a line.
    fn in_brief(&self, to: &Destination) -> String {
        let name = to.path().file_name().unwrap_or_default();
        let mut text = format!(
            "{}: {} in use, {} read, {}",
            quoted(name.as_ref()),
            size::short(self.used),
            size::short(self.tally.read()),
            time::span(self.took)
        );
        if let Some(frozen) = &self.frozen {
            text.push_str(&frozen.in_brief());
        }
        if !self.saved.unreadable.is_empty() {
            text.push_str(", NOT ALL COULD BE READ");
        }
        text
    }

    /// Prints the summary.
    pub(super) fn show(&self, session: &Session, to: &Destination) {
        let Done { saved, tally, took, .. } = self;
        let out = &session.out;
        out.in_brief(self.in_brief(to));
        let lost: ByteLen = saved.unreadable.iter().map(|span| span.len()).sum();
        let next = self.next(out, to);
        if out.is_json() {
            out.line(&json::object("save", "done", self.json(to, next)).to_string());
            return;
        }
        let ratio = match 100.0 * saved.image_len.get() as f64 / self.size.get().max(1) as f64 {
            ..0.1 => "less than 0.1 %".to_owned(),
            percent => format!("{percent:.1} %"),
        };
        out.line("");
        out.line(&format!("Image     {}", to.title()));
        out.line(&format!(
            "Size      {}, {ratio} of {}{}",
            size::both(saved.image_len),
            size::short(self.size),
            to.holes(saved)
        ));
        out.line(&format!(
            "Used      {}; {} read from the card",
            size::both(self.used),
            size::short(tally.read())
        ));
        for line in self.frozen.iter().flat_map(Freezes::lines).chain(self.reused_lines.clone()) {
            out.line(&line);
        }
        if !saved.resumed.is_zero() {
            out.line(&format!(
                "Resumed   {} of the card were already in the image",
                size::both(saved.resumed)
            ));
        }
        if let Some(fitted) = self.fitted {
            out.line(&format!("Fits      {}", card_sizes::cards(fitted)));
        }
        for why in self.occupancy.into_iter().flat_map(Occupancy::notes) {
            out.line(&format!("Note      {why}"));
        }
        if let Some(line) = to.traffic(session, saved) {
            out.line(&line);
        }
        out.line(&format!("Time      {}", time::span(*took)));
        for sum in &saved.sums {
            out.line(&format!("{:<9} {}", sum.kind.to_string(), sum.hex));
        }
        if !saved.rescued.is_zero() {
            out.line(&format!(
                "Rescued   {} next to bad sectors, read in small requests",
                size::both(saved.rescued)
            ));
        }
        if !lost.is_zero() {
            out.line(&format!(
                "Lost      {} in {} could not be read, zeros in the image",
                size::both(lost),
                count(saved.unreadable.len() as u64, "place")
            ));
            for line in lost::lines(&saved.lost) {
                out.line(&format!("          {line}"));
            }
            if saved.was_cut_short {
                out.line(
                    "          Not every sector was fully retried: a longer --patience may recover more.",
                );
            }
        }
        if !to.is_pipe() {
            to.tell_what_belongs_to_it(out, self.pack);
            out.next(&next);
        }
    }
}
