//! Sizes as people read them.

use imbrik_core::units::ByteLen;

/// "16 GB": powers of 1000, as printed on cards.
pub(crate) fn short(len: ByteLen) -> String {
    len.decimal()
}

/// "16 GB (14.9 GiB)": as printed on cards, and as many programs count.
pub(crate) fn both(len: ByteLen) -> String {
    match len.get() {
        ..1000 => len.decimal(),
        _ => format!("{} ({})", len.decimal(), len.binary()),
    }
}

/// "93.5 MB/s".
pub(crate) fn rate(bytes: u64, seconds: f64) -> String {
    format!("{}/s", short(ByteLen::new((bytes as f64 / seconds.max(1e-9)) as u64)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn small_sizes_have_a_single_unit() {
        assert_eq!(both(ByteLen::new(512)), "512 bytes");
        assert_eq!(both(ByteLen::new(16_000_000_000)), "16 GB (14.9 GiB)");
        assert_eq!(rate(93_500_000, 1.0), "93.5 MB/s");
    }
}
