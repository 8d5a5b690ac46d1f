//! The JSON that programs read: documented in `docs/json.md`, versioned by the field `imbrik`.

use crate::failure::Failure;
use imbrik_core::{
    card::{Bus, Card, Standing, Use, standing},
    image::Sum,
    layout::{Part, Survey},
    units::Span,
};
use serde_json::{Map, Value, json};

/// The version of everything in here.
pub(crate) const VERSION: u32 = 1;

/// An object of `command` with the fields of `more`.
pub(crate) fn object(command: &str, result: &str, more: Value) -> Value {
    let mut object = Map::new();
    object.insert("imbrik".to_owned(), json!(VERSION));
    object.insert("command".to_owned(), json!(command));
    object.insert("result".to_owned(), json!(result));
    if let Value::Object(more) = more {
        object.extend(more);
    }
    Value::Object(object)
}

pub(crate) fn failure(command: &str, failure: &Failure) -> Value {
    object(
        command,
        "failed",
        json!({
            "exit": failure.exit.code(),
            "what": failure.what,
            "state": failure.state,
            "next": failure.next,
        }),
    )
}

pub(crate) fn card(card: &Card, survey: Option<&Survey>) -> Value {
    let uses = card.uses.iter().map(|used| match used {
        Use::Mounted { device, at } => json!({ "device": device, "mounted_at": at }),
        Use::Swap { device } => json!({ "device": device, "swap": true }),
        Use::Held { device, by } => json!({ "device": device, "held_by": by }),
    });
    let (target, reason) = match standing(card, false) {
        Standing::Ready => ("ready", None),
        Standing::Mounted(_) => ("mounted", None),
        Standing::Fixed(why) => ("fixed", Some(why.to_owned())),
        Standing::Refused(reason) => ("refused", Some(reason.to_string())),
    };
    json!({
        "id": card.id,
        "path": card.path.to_string_lossy(),
        "size": card.size.get(),
        "sector_size": card.sector.bytes(),
        "model": card.model,
        "serial": card.serial,
        "bus": bus(&card.bus),
        "bus_megabits": match card.bus { Bus::Usb(speed) => speed, _ => None },
        "removable": card.removable,
        "read_only": card.read_only,
        "uses": uses.collect::<Vec<_>>(),
        "target": target,
        "reason": reason,
        "content": survey.map(content),
    })
}

fn bus(bus: &Bus) -> &'static str {
    match bus {
        Bus::Usb(_) => "usb",
        Bus::SdSlot => "sd-slot",
        Bus::Emmc => "emmc",
        Bus::Nvme => "nvme",
        Bus::Ata => "sata",
        Bus::Scsi => "scsi",
        Bus::Virtual => "virtual",
        Bus::Loop(_) => "loop",
        Bus::Rack => "rack",
        Bus::Other => "other",
    }
}

/// What is on a card or in an image.
pub(crate) fn content(survey: &Survey) -> Value {
    json!({
        "table": survey.table.as_ref().map(|table| json!({
            "kind": table.name(),
            "id": table.id(),
        })),
        "host": survey.host,
        "system": survey.system,
        "label": survey.label(),
        "blank": survey.is_blank,
        "partitions": survey.parts.iter().map(part).collect::<Vec<_>>(),
        "findings": survey.findings,
    })
}

fn part(part: &Part) -> Value {
    json!({
        "number": part.number,
        "start": part.span.start().get(),
        "size": part.span.len().get(),
        "type": part.kind.map(|kind| kind.to_string()),
        "name": part.name,
        "volume": part.volume.as_ref().map(|volume| json!({
            "kind": volume.kind.to_string(),
            "label": volume.label,
            "uuid": volume.uuid,
            "size": volume.size.get(),
        })),
    })
}

/// `{"sha256": "…"}`
pub(crate) fn sums(sums: &[Sum]) -> Value {
    sums.iter()
        .map(|sum| (sum.kind.name().to_owned(), json!(sum.hex)))
        .collect::<Map<_, _>>()
        .into()
}

/// `[[first byte, bytes], …]`
pub(crate) fn spans(spans: &[Span]) -> Value {
    spans.iter().map(|span| json!([span.start().get(), span.len().get()])).collect()
}
