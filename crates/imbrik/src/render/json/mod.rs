//! The JSON that programs read: every object that is printed is one of the types here, which
//! `docs/json.md` and `docs/json.schema.json` are made from. Versioned by the field `imbrik`.

mod files;
#[cfg(test)]
mod schema;
mod shelf;
mod types;

use crate::{exit::Exit, failure::Failure, pipe};
pub(crate) use files::*;
use imbrik_core::{
    card::{self, Bus as CardBus, Standing, Use, standing},
    image::Sum,
    layout::{Part, Survey},
    units::Span,
};
use serde::Serialize;
use serde_json::Value;
pub(crate) use shelf::*;
use std::path::Path;
pub(crate) use types::*;

/// The version of everything in here.
pub(crate) const VERSION: u32 = 1;

/// The first fields of every object.
#[derive(Serialize)]
struct Envelope<'a, T> {
    imbrik: u32,
    command: &'a str,
    result: &'a str,
    #[serde(flatten)]
    more: T,
}

/// The texts of findings.
pub(crate) fn told(findings: &[impl ToString]) -> Vec<String> {
    findings.iter().map(ToString::to_string).collect()
}

/// An object of `command` with the fields of `more`.
pub(crate) fn object(command: &str, result: &str, more: impl Serialize) -> Value {
    let object = Envelope { imbrik: VERSION, command, result, more };
    // Only a map with keys that are no text, or a failing serialiser, could not become a value.
    serde_json::to_value(object).unwrap_or_default()
}

pub(crate) fn failed(failure: &Failure) -> Failed {
    Failed {
        exit: failure.exit.code(),
        what: failure.what.clone(),
        state: failure.state.clone(),
        next: failure.next.clone(),
        card: None,
        image: None,
    }
}

pub(crate) fn failure(command: &str, failure: &Failure) -> Value {
    object(command, "failed", failed(failure))
}

/// An absolute path; `-` is unchanged.
pub(crate) fn path(path: &Path) -> String {
    let absolute = match pipe::is_pipe(path) {
        true => None,
        false => std::path::absolute(path).ok(),
    };
    absolute.as_deref().unwrap_or(path).to_string_lossy().into_owned()
}

/// The bytes of a name in hexadecimal, when they are no UTF-8.
pub(crate) fn hex_unless_text(bytes: &[u8]) -> Option<String> {
    let is_text = std::str::from_utf8(bytes).is_ok();
    (!is_text).then(|| bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

/// The word for how a command ended that found nothing wrong or something that differs.
pub(crate) fn result(exit: Exit) -> &'static str {
    if exit == Exit::Done { "done" } else { "differs" }
}

/// A card and, with `survey`, its content.
pub(crate) fn card(card: &card::Card, survey: Option<Option<&Survey>>) -> Card {
    let device = |device: &String| device.clone();
    let uses = card.uses.iter().map(|used| match used {
        Use::Mounted { device: on, at } => {
            InUse::Mounted { device: device(on), mounted_at: at.to_string_lossy().into_owned() }
        }
        Use::Swap { device: on } => InUse::Swap { device: device(on), swap: true },
        Use::Held { device: on, by } => InUse::Held { device: device(on), held_by: by.clone() },
    });
    let (target, reason) = match standing(card, false) {
        Standing::Ready => (MayBeWritten::Ready, None),
        Standing::Mounted(_) => (MayBeWritten::Mounted, None),
        Standing::Fixed(why) => (MayBeWritten::Fixed, Some(why.to_owned())),
        Standing::Refused(reason) => (MayBeWritten::Refused, Some(reason.to_string())),
    };
    Card {
        id: card.id.clone(),
        path: card.path.to_string_lossy().into_owned(),
        size: card.size.get(),
        sector_size: card.sector.bytes(),
        model: card.model.clone(),
        serial: card.serial.clone(),
        bus: bus(&card.bus),
        bus_megabits: match card.bus {
            CardBus::Usb(speed) => speed,
            _ => None,
        },
        removable: card.removable,
        read_only: card.read_only,
        uses: uses.collect(),
        target,
        reason,
        content: survey.map(|survey| survey.map(content)),
        shelf: None,
    }
}

fn bus(bus: &CardBus) -> Bus {
    match bus {
        CardBus::Usb(_) => Bus::Usb,
        CardBus::SdSlot => Bus::SdSlot,
        CardBus::Emmc => Bus::Emmc,
        CardBus::Nvme => Bus::Nvme,
        CardBus::Ata => Bus::Sata,
        CardBus::Scsi => Bus::Scsi,
        CardBus::Virtual => Bus::Virtual,
        CardBus::Loop(_) => Bus::Loop,
        CardBus::Rack => Bus::Rack,
        CardBus::Other => Bus::Other,
    }
}

/// The content of a card or an image.
pub(crate) fn content(survey: &Survey) -> Content<Partition> {
    content_with(survey, |_, part| part)
}

/// The same with more about each partition, by its place in the survey.
pub(crate) fn content_with<P>(survey: &Survey, more: impl Fn(usize, Partition) -> P) -> Content<P> {
    let partitions = survey.parts.iter().enumerate();
    Content {
        table: survey
            .table
            .as_ref()
            .map(|table| Table { kind: table.name().to_owned(), id: table.id() }),
        host: survey.host.clone(),
        system: survey.system.clone(),
        label: survey.label().map(str::to_owned),
        blank: survey.is_blank,
        partitions: partitions.map(|(index, part)| more(index, partition(part))).collect(),
        findings: told(&survey.findings),
    }
}

fn partition(part: &Part) -> Partition {
    Partition {
        number: part.number,
        start: part.span.start().get(),
        size: part.span.len().get(),
        kind: part.kind.map(|kind| kind.to_string()),
        name: part.name.clone(),
        volume: part.volume.as_ref().map(|volume| Volume {
            kind: volume.kind.to_string(),
            label: volume.label.clone(),
            uuid: volume.uuid.clone(),
            size: volume.size.get(),
        }),
    }
}

/// `{"sha256": "…"}`
pub(crate) fn sums(sums: &[Sum]) -> Sums {
    sums.iter().map(|sum| (sum.kind.name().to_owned(), sum.hex.clone())).collect()
}

/// `[[place, bytes], …]`
pub(crate) fn places(places: &[(String, imbrik_core::units::ByteLen)]) -> Vec<(String, u64)> {
    places.iter().map(|(place, len)| (place.clone(), len.get())).collect()
}

/// `[[first byte, bytes], …]`
pub(crate) fn spans(spans: &[Span]) -> Vec<SpanPair> {
    spans.iter().map(|span| [span.start().get(), span.len().get()]).collect()
}
