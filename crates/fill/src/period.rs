//! Points in time.

use crate::random::Random;

/// Timestamps are whole seconds, as most that applications write are.
pub(crate) const SECOND: i64 = 1_000_000;
pub(crate) const MILLI: i64 = 1_000;
pub(crate) const DAY: i64 = 86_400 * SECOND;

/// A span of time and how points of it are drawn: days or microseconds.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Period {
    pub(crate) low: i64,
    pub(crate) high: i64,
    pub(crate) manner: TimeManner,
    pub(crate) hours: Option<Hours>,
}

/// The hours of a day in which things happen, in microseconds from midnight.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Hours {
    pub(crate) from: i64,
    pub(crate) to: i64,
}

impl Hours {
    /// The same day, as far into these hours as the time was into the day: earlier times stay earlier ones.
    pub(crate) fn of_day(self, micros: i64) -> i64 {
        let (day, rest) = (micros.div_euclid(DAY), micros.rem_euclid(DAY) / SECOND);
        let into = i128::from(rest) * i128::from(self.to - self.from) / i128::from(DAY / SECOND);
        day * DAY + self.from + into as i64 / SECOND * SECOND
    }
}

#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum TimeManner {
    Even,
    /// The later, the more: nearly half of all in the last fifth.
    Recent,
    /// Mondays to Fridays, in the hours of the day.
    Office,
}

impl Period {
    /// A point of it; `day` units are a day, and points lie on whole seconds, or whole days.
    pub(crate) fn draw(&self, random: &mut Random, day: i64) -> i64 {
        let unit = if day == 1 { 1 } else { SECOND };
        let (low, high) = (self.low / unit, self.high / unit);
        let even = |random: &mut Random| random.between(low.into(), high.into()) as i64;
        let at = match self.manner {
            TimeManner::Even => even(random) * unit,
            TimeManner::Recent => {
                let back = random.unit();
                let back = back * back;
                (high - ((high - low) as f64 * back) as i64) * unit
            }
            TimeManner::Office => {
                let at = even(random) * unit;
                let days = at.div_euclid(day);
                // 1970-01-01 was a Thursday; Saturdays and Sundays go to the Friday before, or the Monday after.
                let weekday = (days + 3).rem_euclid(7);
                let workday = match weekday {
                    5 => days - 1,
                    6 => days + 1,
                    _ => days,
                };
                let workday = if (workday * day) < self.low || (workday + 1) * day - 1 > self.high + day { days } else { workday };
                if day == 1 {
                    return workday;
                }
                // Most between eight and eighteen, around two peaks.
                let peak = if random.below(2) == 0 { 10.0 } else { 14.5 };
                let hours = (peak + 1.6 * random.normal()).clamp(7.0, 19.99);
                (workday * day + (hours * 3600.0) as i64 * SECOND).clamp(self.low, self.high.max(self.low))
            }
        };
        match self.hours {
            Some(hours) if day != 1 => hours.of_day(at).clamp(self.low, self.high.max(self.low)),
            _ => at,
        }
    }
}
