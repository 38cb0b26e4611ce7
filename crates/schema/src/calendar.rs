//! Dates and timestamps as counts, and their one text form.
//!
//! Dates are days since 1970-01-01, timestamps microseconds since then in UTC, both in the proleptic Gregorian calendar.
//! The conversion is the one of Howard Hinnant, "chrono-compatible low-level date algorithms" (2013).

const MICROS_PER_DAY: i64 = 86_400_000_000;

/// Days since 1970-01-01 of a date. The month is 1 to 12 and the day 1 to 31; other numbers give a neighbouring date.
pub fn days_from_civil(year: i32, month: u32, day: u32) -> i32 {
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let year_of_era = year.rem_euclid(400);
    let month = i32::try_from(month).unwrap_or(1);
    let day_of_year = (153 * (if month > 2 { month - 3 } else { month + 9 }) + 2) / 5 + i32::try_from(day).unwrap_or(1) - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year;
    era * 146_097 + day_of_era - 719_468
}

/// Year, month and day of a number of days since 1970-01-01.
pub fn civil_from_days(days: i32) -> (i32, u32, u32) {
    let days = i64::from(days) + 719_468;
    let era = days.div_euclid(146_097);
    let day_of_era = days.rem_euclid(146_097);
    let year_of_era = (day_of_era - day_of_era / 1_460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted_month = (5 * day_of_year + 2) / 153;
    let day = (day_of_year - (153 * shifted_month + 2) / 5 + 1) as u32;
    let month = (if shifted_month < 10 { shifted_month + 3 } else { shifted_month - 9 }) as u32;
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    (year as i32, month, day)
}

/// The text of a date or timestamp, without memory of its own being asked for: loading many of them is mostly that.
#[derive(Clone, Copy, Debug)]
pub struct TimeText {
    bytes: [u8; 40],
    length: usize,
}

impl TimeText {
    /// That of a date, as [`format_date`] gives it.
    pub fn date(days: i32) -> TimeText {
        let mut text = TimeText { bytes: [0; 40], length: 0 };
        text.put_date(days);
        text
    }

    /// That of a timestamp, as [`format_timestamp`] gives it.
    pub fn timestamp(micros: i64) -> TimeText {
        let days = micros.div_euclid(MICROS_PER_DAY);
        let rest = micros.rem_euclid(MICROS_PER_DAY);
        let (seconds, fraction) = (rest / 1_000_000, rest % 1_000_000);
        let mut text = TimeText::date(days as i32);
        for (before, part) in [(b' ', seconds / 3600), (b':', seconds / 60 % 60), (b':', seconds % 60)] {
            text.put(before);
            text.digits(part as u32, 2);
        }
        text.put(b'.');
        text.digits(fraction as u32, 6);
        text
    }

    /// The text.
    pub fn as_str(&self) -> &str {
        std::str::from_utf8(&self.bytes[..self.length]).unwrap_or_default()
    }

    fn put(&mut self, byte: u8) {
        self.bytes[self.length] = byte;
        self.length += 1;
    }

    fn put_date(&mut self, days: i32) {
        let (year, month, day) = civil_from_days(days);
        if year < 0 {
            self.put(b'-');
        }
        let digits = if year.unsigned_abs() < 10_000 { 4 - usize::from(year < 0) } else { year.unsigned_abs().ilog10() as usize + 1 };
        self.digits(year.unsigned_abs(), digits);
        self.put(b'-');
        self.digits(month, 2);
        self.put(b'-');
        self.digits(day, 2);
    }

    fn digits(&mut self, number: u32, digits: usize) {
        let mut rest = number;
        for place in (0..digits).rev() {
            self.bytes[self.length + place] = b'0' + (rest % 10) as u8;
            rest /= 10;
        }
        self.length += digits;
    }
}

/// `2026-03-01`.
pub fn format_date(days: i32) -> String {
    TimeText::date(days).as_str().to_owned()
}

/// `2026-03-01 07:30:00.000000`: always 26 characters for years 0 to 9999, so that the texts sort as the times do.
pub fn format_timestamp(micros: i64) -> String {
    TimeText::timestamp(micros).as_str().to_owned()
}

/// Reads `2026-03-01`; nothing else. `None` also for a date that does not exist.
pub fn parse_date(text: &str) -> Option<i32> {
    let bytes = text.as_bytes();
    if bytes.len() != 10 || bytes[4] != b'-' || bytes[7] != b'-' {
        return None;
    }
    let year = digits(&bytes[0..4])? as i32;
    let (month, day) = (digits(&bytes[5..7])?, digits(&bytes[8..10])?);
    let days = days_from_civil(year, month, day);
    (civil_from_days(days) == (year, month, day)).then_some(days)
}

/// Reads a date, then optionally a space or `T`, hours and minutes, seconds, a fraction of up to six digits, and `Z`.
pub fn parse_timestamp(text: &str) -> Option<i64> {
    let day_part = text.get(..10)?;
    let midnight = i64::from(parse_date(day_part)?) * MICROS_PER_DAY;
    let bytes = text.as_bytes();
    let mut rest = &bytes[10..];
    if let [head @ .., b'Z'] = rest {
        rest = head;
    }
    if rest.is_empty() {
        return Some(midnight);
    }
    if rest.len() < 6 || !matches!(rest[0], b' ' | b'T') || rest[3] != b':' {
        return None;
    }
    let (hours, minutes) = (digits(&rest[1..3])?, digits(&rest[4..6])?);
    rest = &rest[6..];
    let mut seconds = 0;
    let mut fraction = 0;
    if let [b':', tens, ones, tail @ ..] = rest {
        seconds = digits(&[*tens, *ones])?;
        rest = tail;
        if let [b'.', tail @ ..] = rest {
            if tail.is_empty() || tail.len() > 6 {
                return None;
            }
            fraction = digits(tail)? * 10_u32.pow(6 - tail.len() as u32);
            rest = &[];
        }
    }
    if !rest.is_empty() || hours > 23 || minutes > 59 || seconds > 59 {
        return None;
    }
    let in_day = i64::from(hours * 3600 + minutes * 60 + seconds) * 1_000_000 + i64::from(fraction);
    Some(midnight + in_day)
}

fn digits(bytes: &[u8]) -> Option<u32> {
    bytes.iter().try_fold(0_u32, |sum, byte| byte.is_ascii_digit().then(|| sum * 10 + u32::from(byte - b'0')))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_day_of_a_thousand_years_comes_back_and_follows_the_one_before() {
        let mut expected = (1600, 1, 1);
        for days in days_from_civil(1600, 1, 1)..days_from_civil(2600, 1, 1) {
            assert_eq!(civil_from_days(days), expected);
            assert_eq!(parse_date(&format_date(days)), Some(days));
            let (year, month, day) = expected;
            let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
            let length = [31, if leap { 29 } else { 28 }, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31][month as usize - 1];
            expected = match (month, day) {
                (12, 31) => (year + 1, 1, 1),
                (_, last) if last == length => (year, month + 1, 1),
                _ => (year, month, day + 1),
            };
        }
        assert_eq!(days_from_civil(1970, 1, 1), 0);
        assert_eq!(days_from_civil(2000, 3, 1), 11_017);
    }

    #[test]
    fn timestamps_are_read_in_the_forms_databases_write() {
        let micros = parse_timestamp("2026-03-01 07:30:05.25").unwrap();
        assert_eq!(format_timestamp(micros), "2026-03-01 07:30:05.250000");
        assert_eq!(parse_timestamp("2026-03-01T07:30:05.25Z"), Some(micros));
        assert_eq!(parse_timestamp("2026-03-01 07:30").map(format_timestamp).as_deref(), Some("2026-03-01 07:30:00.000000"));
        assert_eq!(parse_timestamp("2026-03-01").map(format_timestamp).as_deref(), Some("2026-03-01 00:00:00.000000"));
        assert_eq!(format_timestamp(-1), "1969-12-31 23:59:59.999999");
        // As the standard library formats the parts, for any number.
        for days in [-800_000, -719_529, -719_528, 0, 2_932_896, 2_932_897, i32::MAX, i32::MIN] {
            let (year, month, day) = civil_from_days(days);
            assert_eq!(format_date(days), format!("{year:04}-{month:02}-{day:02}"));
        }
        for wrong in ["", "2026-13-01", "2026-02-30", "2026-03-01 24:00", "2026-03-01 07:30:05.", "2026-03-01x07:30", "ünïcödé 12"] {
            assert_eq!(parse_timestamp(wrong), None, "{wrong}");
        }
    }
}
