//! The time of a save, as images write it.

use std::time::SystemTime;

/// The last millisecond that has a year of four digits: 9999-12-31T23:59:59.999Z.
const LAST: i128 = 253_402_300_799_999;
/// The first one: 0000-01-01T00:00:00.000Z.
const FIRST: i128 = -62_167_219_200_000;

/// The time in UTC as RFC 3339 writes it, with milliseconds: `2026-11-25T18:15:14.003Z`. A clock before the year 0 or
/// beyond the year 9999 counts as the end that it is nearer to.
pub fn rfc3339(time: SystemTime) -> String {
    let milliseconds = match time.duration_since(SystemTime::UNIX_EPOCH) {
        Ok(after) => after.as_millis() as i128,
        Err(before) => -(before.duration().as_nanos().div_ceil(1_000_000) as i128),
    };
    let milliseconds = milliseconds.clamp(FIRST, LAST) as i64;
    let (days, of_day) = (milliseconds.div_euclid(86_400_000), milliseconds.rem_euclid(86_400_000));
    let (year, month, day) = date(days);
    let (hours, minutes, seconds) = (of_day / 3_600_000, of_day / 60_000 % 60, of_day / 1000 % 60);
    format!("{year:04}-{month:02}-{day:02}T{hours:02}:{minutes:02}:{seconds:02}.{:03}Z", of_day % 1000)
}

/// Year, month and day of a day counted from 1970-01-01. Years are counted from March, so that the day that not every
/// year has is the last one.
fn date(days: i64) -> (i64, i64, i64) {
    // From 0000-03-01, in periods of 400 years, which all have the same number of days.
    let days = days + 719_468;
    let (period, day) = (days.div_euclid(146_097), days.rem_euclid(146_097));
    let year = (day - day / 1_460 + day / 36_524 - day / 146_096) / 365;
    let of_year = day - (365 * year + year / 4 - year / 100);
    let month = (5 * of_year + 2) / 153;
    let of_month = of_year - (153 * month + 2) / 5 + 1;
    let calendar_month = if month < 10 { month + 3 } else { month - 9 };
    (period * 400 + year + i64::from(calendar_month <= 2), calendar_month, of_month)
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn it_is_what_a_calendar_says(milliseconds in (FIRST as i64)..=(LAST as i64)) {
            let offset = Duration::from_millis(milliseconds.unsigned_abs());
            let epoch = SystemTime::UNIX_EPOCH;
            let time = if milliseconds < 0 { epoch - offset } else { epoch + offset };
            let calendar = jiff::Timestamp::from_millisecond(milliseconds).unwrap();
            prop_assert_eq!(rfc3339(time), format!("{calendar:.3}"));
        }
    }

    #[test]
    fn a_clock_beyond_what_can_be_written_is_its_end() {
        let far = Duration::from_secs(1 << 40);
        assert_eq!(rfc3339(SystemTime::UNIX_EPOCH + far), "9999-12-31T23:59:59.999Z");
        assert_eq!(rfc3339(SystemTime::UNIX_EPOCH - far), "0000-01-01T00:00:00.000Z");
    }
}
