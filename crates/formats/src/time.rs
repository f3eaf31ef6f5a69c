//! Calendar dates as seconds since 1970, as directories of all kinds store them.

/// Seconds from 1970-01-01 00:00 UTC to a date and time of the Gregorian calendar, read as UTC. Months and
/// days count from 1.
pub fn seconds((year, month, day): (i64, u8, u8), (hour, minute, second): (u8, u8, u8)) -> i64 {
    // Years that begin in March put the leap day last, so that days before a month are a linear formula.
    let (y, m) = if month > 2 { (year, i64::from(month) - 3) } else { (year - 1, i64::from(month) + 9) };
    let days =
        365 * y + y.div_euclid(4) - y.div_euclid(100) + y.div_euclid(400) + (153 * m + 2) / 5 + i64::from(day) - 1;
    (days - 719_468) * 86_400 + i64::from(hour) * 3600 + i64::from(minute) * 60 + i64::from(second)
}

/// The date (year, month, day) and time (hour, minute, second) in UTC of `seconds` since 1970-01-01 00:00.
pub fn date(seconds: i64) -> ((i64, u8, u8), (u8, u8, u8)) {
    let (day_number, time) = (seconds.div_euclid(86_400) + 719_468, seconds.rem_euclid(86_400));
    let era = day_number.div_euclid(146_097);
    let day_of_era = day_number.rem_euclid(146_097);
    let year_of_era = (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month_index = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * month_index + 2) / 5 + 1;
    let month = if month_index < 10 { month_index + 3 } else { month_index - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    ((year, month as u8, day as u8), ((time / 3600) as u8, (time / 60 % 60) as u8, (time % 60) as u8))
}

/// A date and a time as DOS stores them: a local time of an unknown place, read as UTC.
pub fn dos(date: u16, clock: u16) -> Option<i64> {
    let (year, month, day) = (1980 + i64::from(date >> 9), (date >> 5 & 15) as u8, (date & 31) as u8);
    let (hour, minute, second) = ((clock >> 11) as u8, (clock >> 5 & 63) as u8, (clock & 31) as u8 * 2);
    let is_one = (1..=12).contains(&month) && day > 0 && hour < 24 && minute < 60 && second < 60;
    is_one.then(|| seconds((year, month, day), (hour, minute, second)))
}

/// A moment as DOS stores it, date and time: the nearest that it can. Odd seconds are lost.
pub fn to_dos(seconds: i64) -> (u16, u16) {
    let ((year, month, day), (hour, minute, second)) = date(seconds);
    match year {
        ..1980 => (1 << 5 | 1, 0),
        2108.. => (127 << 9 | 12 << 5 | 31, 23 << 11 | 59 << 5 | 29),
        _ => (
            ((year - 1980) as u16) << 9 | u16::from(month) << 5 | u16::from(day),
            u16::from(hour) << 11 | u16::from(minute) << 5 | u16::from(second / 2),
        ),
    }
}

/// `2026-11-23 07:14:05`, UTC.
pub fn text(seconds: i64) -> String {
    let ((y, mo, d), (h, mi, s)) = date(seconds);
    format!("{y:04}-{mo:02}-{d:02} {h:02}:{mi:02}:{s:02}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn known_moments() {
        assert_eq!(seconds((1970, 1, 1), (0, 0, 0)), 0);
        assert_eq!(seconds((2000, 2, 29), (12, 0, 0)), 951_825_600);
        assert_eq!(seconds((2009, 2, 13), (23, 31, 30)), 1_234_567_890);
        assert_eq!(text(1_234_567_890), "2009-02-13 23:31:30");
        assert_eq!(text(-1), "1969-12-31 23:59:59");
    }

    #[test]
    fn moments_as_dos_has_them() {
        let moment = seconds((2026, 11, 23), (7, 14, 5));
        assert_eq!(to_dos(moment), (46 << 9 | 11 << 5 | 23, 7 << 11 | 14 << 5 | 2));
        assert_eq!(dos(to_dos(moment).0, to_dos(moment).1), Some(moment - 1));
        assert_eq!(dos(to_dos(0).0, 0), Some(seconds((1980, 1, 1), (0, 0, 0))));
        assert_eq!(dos(0, 0), None);
    }

    proptest::proptest! {
        #[test]
        fn there_and_back(s in -60_000_000_000i64..300_000_000_000) {
            let (d, t) = date(s);
            proptest::prop_assert_eq!(seconds(d, t), s);
        }
    }
}
