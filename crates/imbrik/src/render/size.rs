//! Sizes as people read them.

use imbrik_core::units::ByteLen;

const DECIMAL: [&str; 7] = ["bytes", "kB", "MB", "GB", "TB", "PB", "EB"];
const BINARY: [&str; 7] = ["bytes", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"];

/// "16 GB": powers of 1000, as printed on cards.
pub(crate) fn short(len: ByteLen) -> String {
    scaled(len.get(), 1000.0, &DECIMAL)
}

/// "16 GB (14.9 GiB)": as printed on cards, and as many programs count.
pub(crate) fn both(len: ByteLen) -> String {
    if len.get() < 1000 {
        return len.to_string();
    }
    format!("{} ({})", short(len), scaled(len.get(), 1024.0, &BINARY))
}

/// "93.5 MB/s".
pub(crate) fn rate(bytes: u64, seconds: f64) -> String {
    format!("{}/s", short(ByteLen::new((bytes as f64 / seconds.max(1e-9)) as u64)))
}

/// Three digits that count: "1.5", "14.9", "312".
fn scaled(bytes: u64, step: f64, units: &[&str; 7]) -> String {
    let mut value = bytes as f64;
    let mut unit = 0;
    // 999.5 would be shown as 1000.
    while value >= 999.5 && unit + 1 < units.len() {
        value /= step;
        unit += 1;
    }
    let digits = match value {
        _ if unit == 0 => 0,
        ..9.995 => 2,
        9.995..99.95 => 1,
        _ => 0,
    };
    let number = format!("{value:.digits$}");
    let number = match number.contains('.') {
        true => number.trim_end_matches('0').trim_end_matches('.'),
        false => &number,
    };
    match (number, units[unit]) {
        ("1", "bytes") => "1 byte".to_owned(),
        (number, unit) => format!("{number} {unit}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_read_as_people_say_them() {
        let cases = [
            (0, "0 bytes"),
            (1, "1 byte"),
            (512, "512 bytes"),
            (1_000, "1 kB (0.98 KiB)"),
            (15_931_539_456, "15.9 GB (14.8 GiB)"),
            (16_000_000_000, "16 GB (14.9 GiB)"),
            (999_600, "1 MB (976 KiB)"),
            (312_000_000, "312 MB (298 MiB)"),
            (u64::MAX, "18.4 EB (16 EiB)"),
        ];
        for (bytes, expected) in cases {
            assert_eq!(both(ByteLen::new(bytes)), expected);
        }
        assert_eq!(rate(93_500_000, 1.0), "93.5 MB/s");
    }
}
