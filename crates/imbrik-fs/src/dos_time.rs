//! Dates and times as FAT and exFAT keep them: 16 bits each, in steps of two seconds from 1980 on.
//!
//! ```text
//! date: year since 1980 (7 bits), month (4), day (5)     time: hours (5), minutes (6), seconds / 2 (5)
//! ```

use crate::files::FileTime;

/// The first and the last second that can be recorded, since 1970: 1980-01-01 and 2107-12-31.
const RANGE: (i64, i64) = (315_532_800, 4_354_819_199);

/// The nearest second to `seconds` that can be recorded.
pub(crate) fn recordable(seconds: i64) -> i64 {
    seconds.clamp(RANGE.0, RANGE.1)
}

/// Date and time of `seconds` since 1970, of a clock without a zone. A time out of range becomes the first or the last
/// one that can be recorded.
pub(crate) fn dos_time(seconds: i64) -> (u16, u16) {
    let stamp = jiff::Timestamp::from_second(recordable(seconds));
    let Ok(stamp) = stamp else { return (0x21, 0) };
    let now = stamp.to_zoned(jiff::tz::TimeZone::UTC);
    let year = u16::try_from(now.year().saturating_sub(1980).clamp(0, 127)).unwrap_or(0);
    let part = |value: i8| u16::try_from(value).unwrap_or(0);
    let date = year << 9 | part(now.month()) << 5 | part(now.day());
    let time = part(now.hour()) << 11 | part(now.minute()) << 5 | (part(now.second()) / 2);
    (date, time)
}

/// Converts a date and a time; `None` if they are invalid.
pub(crate) fn file_time(date: u16, time: u16) -> Option<FileTime> {
    let part = |value: u16| i8::try_from(value).ok();
    let year = i16::try_from(date >> 9).ok()?.checked_add(1980)?;
    let day = jiff::civil::Date::new(year, part(date >> 5 & 0xf)?, part(date & 0x1f)?).ok()?;
    let (hour, minute) = (part(time >> 11)?, part(time >> 5 & 0x3f)?);
    let second = part(time & 0x1f)?.checked_mul(2)?;
    let at = day.to_datetime(jiff::civil::Time::new(hour, minute, second, 0).ok()?);
    let zoned = at.to_zoned(jiff::tz::TimeZone::UTC).ok()?;
    Some(FileTime { seconds: zoned.timestamp().as_second(), nanoseconds: 0 })
}

/// `file_time` and `hundredths` of a second more, of which two seconds have 200.
pub(crate) fn with_hundredths(file_time: FileTime, hundredths: u8) -> FileTime {
    let rest = u32::from(hundredths % 100).saturating_mul(10_000_000);
    let seconds = file_time.seconds.saturating_add(i64::from(hundredths / 100));
    FileTime { seconds, nanoseconds: rest }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn times_out_of_range_are_clamped_to_the_limits() {
        let back = |seconds| {
            let (date, time) = dos_time(seconds);
            file_time(date, time).unwrap().seconds
        };
        // 1979-06-15, 1960, and 2200.
        for early in [298_252_800, -315_619_200, i64::MIN] {
            assert_eq!(back(early), 315_532_800);
        }
        assert_eq!((back(7_258_118_400), back(i64::MAX)), (4_354_819_198, 4_354_819_198));
    }

    proptest! {
        #[test]
        fn timestamp_survives_with_two_second_resolution(seconds in 315_532_800i64..4_354_819_200) {
            let (date, time) = dos_time(seconds);
            let back = file_time(date, time).unwrap();
            prop_assert_eq!(back.seconds, seconds - seconds % 2);
        }

        #[test]
        fn any_bits_parse_as_a_timestamp_or_none(date in any::<u16>(), time in any::<u16>()) {
            if let Some(found) = file_time(date, time) {
                prop_assert_eq!(dos_time(found.seconds), (date, time));
            }
        }
    }
}
