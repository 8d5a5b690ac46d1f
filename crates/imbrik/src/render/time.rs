//! Times as people read them.

use super::size;
use imbrik_core::{image::Manifest, units::ByteLen};
use jiff::{Timestamp, tz::TimeZone};
use std::time::Duration;

/// Characters of a note that are shown in a plan.
const NOTE: usize = 48;

/// "under 0.1 s", "0.4 s", "41 s", "3 min 20 s", "1 h 12 min".
pub(crate) fn span(duration: Duration) -> String {
    let seconds = duration.as_secs_f64();
    let whole = seconds.round() as u64;
    match whole {
        0 if seconds < 0.1 => "under 0.1 s".to_owned(),
        0..10 => format!("{seconds:.1} s"),
        10..60 => format!("{whole} s"),
        60..3600 => match whole % 60 {
            0 => format!("{} min", whole / 60),
            rest => format!("{} min {rest} s", whole / 60),
        },
        _ => format!("{} h {} min", whole / 3600, whole % 3600 / 60),
    }
}

/// "about 3 min": for estimates.
pub(crate) fn roughly(seconds: f64) -> String {
    match seconds {
        ..5.0 => "a few seconds".to_owned(),
        ..55.0 => format!("about {} s", (seconds / 5.0).round() as u64 * 5),
        ..5400.0 => format!("about {} min", (seconds / 60.0).round().max(1.0) as u64),
        _ => format!("about {:.1} h", seconds / 3600.0),
    }
}

/// "hive-07, saved 2026-11-23 07:20: before the update", in local time.
pub(crate) fn saved(manifest: &Manifest) -> String {
    saved_with(manifest, manifest.note.clone())
}

/// The same with the beginning of the note.
pub(crate) fn saved_in_short(manifest: &Manifest) -> String {
    let note = manifest.note.as_ref().map(|note| match note.char_indices().nth(NOTE) {
        Some((end, _)) => format!("{} …", note[..end].trim_end()),
        None => note.clone(),
    });
    saved_with(manifest, note)
}

fn saved_with(manifest: &Manifest, note: Option<String>) -> String {
    let of = manifest.name().map_or(String::new(), |name| format!("{name}, "));
    let note = note.map_or(String::new(), |note| format!(": {note}"));
    let fitted = manifest.fitted.as_ref().map_or(String::new(), |fitted| {
        format!(", fitted from a card of {}", size::short(ByteLen::new(fitted.card_size)))
    });
    let in_use = if manifest.in_use { " while it was in use" } else { "" };
    format!("{of}saved {}{in_use}{fitted}{note}", date_and_time(manifest.made_at))
}

/// "2026-11-23 07:20", in the time of the place.
pub(crate) fn date_and_time(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
}

/// "2026-11-23 07:20:41", in the time of the place.
pub(crate) fn to_the_second(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M:%S").to_string()
}

/// "12 days ago", "3 h ago".
pub(crate) fn ago(at: Timestamp, now: Timestamp) -> String {
    let seconds = now.as_second().saturating_sub(at.as_second());
    match seconds {
        ..0 => "in the future, by this machine's clock".to_owned(),
        0..5400 => format!("{} min ago", seconds / 60),
        5400..172_800 => format!("{} h ago", seconds / 3600),
        _ => format!("{} days ago", seconds / 86_400),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_are_shown_in_everyday_units() {
        let of = |seconds| span(Duration::from_secs_f64(seconds));
        assert_eq!(of(0.003), "under 0.1 s");
        assert_eq!(of(0.42), "0.4 s");
        assert_eq!(of(9.96), "10 s");
        assert_eq!(of(59.6), "1 min");
        assert_eq!(of(200.0), "3 min 20 s");
        assert_eq!(of(4350.0), "1 h 12 min");
        assert_eq!(roughly(2.0), "a few seconds");
        assert_eq!(roughly(41.0), "about 40 s");
        assert_eq!(roughly(170.0), "about 3 min");
        assert_eq!(roughly(9000.0), "about 2.5 h");
    }
}
