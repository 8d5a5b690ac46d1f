//! Sizes and durations, as people write them.

use imbrik_core::units::ByteLen;
use std::{str::FromStr, time::Duration};

/// A size with a unit: 16GB and 500M are powers of 1000, 8GiB of 1024, 512B are bytes. A number without a unit is
/// refused, because it is ambiguous.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Size(pub(crate) ByteLen);

impl Size {
    /// The same, without an incomplete sector at the end.
    pub(crate) fn whole_sectors(self, sector: u64) -> ByteLen {
        ByteLen::new(self.0.get() - self.0.get() % sector.max(1))
    }
}

impl FromStr for Size {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let text = text.trim();
        let digits = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let (number, unit) = text.split_at(digits);
        let (base, power) = match unit.trim().to_ascii_lowercase().as_str() {
            "" => {
                return Err(format!(
                    "{text} has no unit: write {text}MB, {text}GB or {text}B (bytes)"
                ));
            }
            "b" | "byte" | "bytes" => (1000, 0),
            "k" | "kb" => (1000, 1),
            "m" | "mb" => (1000, 2),
            "g" | "gb" => (1000, 3),
            "t" | "tb" => (1000, 4),
            "kib" => (1024, 1),
            "mib" => (1024, 2),
            "gib" => (1024, 3),
            "tib" => (1024, 4),
            _ => {
                return Err(format!(
                    "'{unit}' is not a unit: write MB, GB or TB, or MiB, GiB or TiB"
                ));
            }
        };
        let unit = u128::pow(base, power);
        let (whole, part) = number.split_once('.').unwrap_or((number, ""));
        let wrong = || format!("'{text}' is not a size: write it like 16GB or 500MB");
        let digits =
            u32::try_from(part.len()).ok().filter(|digits| *digits <= 9).ok_or_else(wrong)?;
        let scaled = format!("{whole}{part}").parse::<u128>().map_err(|_| wrong())?;
        let bytes = scaled.checked_mul(unit).ok_or_else(wrong)? / 10u128.pow(digits);
        u64::try_from(bytes).map(|bytes| Self(ByteLen::new(bytes))).map_err(|_| wrong())
    }
}

/// A duration with units: 90s, 30min or 1h30m. A number without a unit is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Patience(pub(crate) Duration);

impl FromStr for Patience {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let text = text.trim();
        let wrong = || format!("'{text}' is not a duration: write it like 90s, 30min or 1h30m");
        let mut all = Some(0u64);
        let mut rest = text;
        while !rest.is_empty() || text.is_empty() {
            let digits = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
            let (number, others) = rest.split_at(digits);
            let letters = others.find(|c: char| c.is_ascii_digit()).unwrap_or(others.len());
            let (unit, left) = others.split_at(letters);
            rest = left;
            let seconds = match unit.trim().to_ascii_lowercase().as_str() {
                "s" | "sec" => 1u64,
                "m" | "min" => 60,
                "h" => 3600,
                "" if number == "0" => 0,
                "" => {
                    return Err(format!(
                        "{text} has no unit: write {number}s, {number}min or {number}h"
                    ));
                }
                _ => return Err(format!("'{unit}' is not a unit of time: write s, min or h")),
            };
            let part = number.parse::<u64>().ok().and_then(|number| number.checked_mul(seconds));
            all = all.zip(part).and_then(|(all, part)| all.checked_add(part));
        }
        Ok(Self(Duration::from_secs(all.ok_or_else(wrong)?)))
    }
}

/// The size of a card: its exact size, or "64 card" for any card sold as 64 GB.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct CardSize(pub(crate) Size);

impl FromStr for CardSize {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let text = text.trim();
        let Some(name) = text.strip_suffix("card").map(str::trim) else {
            return text.parse().map(Self);
        };
        // "64 card" and "64GB card": cards sold under that name may be up to a tenth smaller.
        let bare = name.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.');
        let named: Size = if bare { format!("{name}GB").parse()? } else { name.parse()? };
        Ok(Self(Size(ByteLen::new(named.0.get() / 10 * 9))))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_read_as_people_write_them() {
        let read = |text: &str| text.parse::<Size>().map(|size| size.0.get()).ok();
        assert_eq!(read("16GB"), Some(16_000_000_000));
        assert_eq!(read("1.5 gb"), Some(1_500_000_000));
        assert_eq!(read("8GiB"), Some(8 << 30));
        assert_eq!(read("512B"), Some(512));
        assert_eq!(read("0.1K"), Some(100));
        for text in
            ["", "512", "GB", "16 XB", "-1GB", "1.2.3G", "99999999999999999999TB", "1.0123456789G"]
        {
            assert_eq!(read(text), None, "{text}");
        }
    }

    #[test]
    fn durations_have_units() {
        let read = |text: &str| text.parse::<Patience>().map(|time| time.0.as_secs()).ok();
        assert_eq!(read("90s"), Some(90));
        assert_eq!(read("30 min"), Some(1800));
        assert_eq!(read("1h30m"), Some(5400));
        assert_eq!(read("2h 15min 10s"), Some(8110));
        assert_eq!(read("0"), Some(0));
        for text in ["", "90", "s", "1h30", "1.5h", "-1s", "2d", "99999999999999999999s", "h1"] {
            assert_eq!(read(text), None, "{text}");
        }
    }

    #[test]
    fn size_on_the_label_is_used_for_cards() {
        let read = |text: &str| text.parse::<CardSize>().ok();
        let size = |bytes| Some(CardSize(Size(ByteLen::new(bytes))));
        assert_eq!(read("64 card"), size(57_600_000_000));
        assert_eq!(read("128GB card"), size(115_200_000_000));
        assert_eq!(read("16GB"), size(16_000_000_000));
        assert_eq!(read("card"), None);
        assert_eq!(read("large"), None);
    }
}
