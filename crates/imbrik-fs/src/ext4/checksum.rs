//! The checksums of ext volumes.
//!
//! With `metadata_csum` it is CRC-32C without the usual inversions, seeded with the checksum of the
//! UUID, or with `s_checksum_seed`. With `uninit_bg` alone, group descriptors carry a CRC-16.

/// CRC-32C as the kernel computes it: `seed` in, no inversion on either side.
pub(super) fn crc32c(seed: u32, bytes: &[u8]) -> u32 {
    !crc32c::crc32c_append(!seed, bytes)
}

/// CRC-16 (polynomial 0x8005, reflected), as `uninit_bg` uses it.
pub(super) fn crc16(seed: u16, bytes: &[u8]) -> u16 {
    bytes.iter().fold(seed, |crc, byte| {
        (0..8).fold(crc ^ u16::from(*byte), |crc, _| match crc & 1 {
            1 => (crc >> 1) ^ 0xa001,
            _ => crc >> 1,
        })
    })
}

/// CRC-32 with the bits in order (polynomial 0x04c11db7), as the journal's first checksums use it.
pub(super) fn crc32_be(seed: u32, bytes: &[u8]) -> u32 {
    bytes.iter().fold(seed, |crc, byte| {
        (0..8).fold(crc ^ (u32::from(*byte) << 24), |crc, _| match crc >> 31 {
            1 => (crc << 1) ^ 0x04c1_1db7,
            _ => crc << 1,
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_published_check_values() {
        assert_eq!(!crc32c(!0, b"123456789"), 0xe306_9283);
        assert_eq!(crc16(0, b"123456789"), 0xbb3d);
        assert_eq!(crc32_be(!0, b"123456789"), 0x0376_e6e7);
    }
}
