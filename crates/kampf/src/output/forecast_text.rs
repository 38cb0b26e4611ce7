//! How long a decision would take, in the same words while a race runs and at its end.

use kampf_verdict::Forecast;

use kampf_result::numbers::{about, count, percent, wait};

/// Nobody is told to wait longer, and what is farther away cannot be known.
pub(crate) const PATIENCE: f64 = 600.0;
/// Before this many rounds nothing is foretold.
pub(crate) const EARLIEST: usize = 5;

/// How long a decision would take: for the margin asked for, and for a wider one where that takes less than half as long. The first
/// of the forecasts is for the margin asked for; how to ask for it is said behind it.
pub(crate) fn forecast_text(forecasts: &[Forecast], rounds: usize, round_seconds: f64, ask: &str) -> Option<String> {
    let (first, wider) = forecasts.split_first()?;
    if rounds < EARLIEST || round_seconds <= 0.0 {
        return Some("it is too early to say how long a decision takes".to_owned());
    }
    let more = |forecast: &Forecast| {
        let more = forecast.rounds?.saturating_sub(rounds).max(1);
        Some((more, more as f64 * round_seconds)).filter(|(_, seconds)| *seconds <= PATIENCE)
    };
    let asked = more(first);
    let mut text = match asked {
        Some((more, seconds)) => {
            let rounds = if more == 1 { "round" } else { "rounds" };
            format!("a decision takes at least {} more {rounds}, about {}{ask}", count(about(more)), wait(seconds))
        }
        None => "a decision takes more than 10 minutes at this noise".to_owned(),
    };
    let sooner = wider.iter().find_map(|forecast| {
        let (wide, seconds) = more(forecast)?;
        asked.is_none_or(|(more, _)| wide * 2 < more).then_some((forecast.margin, seconds))
    });
    if let Some((margin, seconds)) = sooner {
        let margin = percent(margin).replace(' ', "");
        text += &format!("; --margin {margin} would be settled in about {}", wait(seconds));
    }
    Some(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(forecasts: &[(f64, Option<usize>)], rounds: usize, seconds: f64) -> String {
        let forecasts: Vec<Forecast> = forecasts.iter().map(|&(margin, rounds)| Forecast { margin, rounds }).collect();
        forecast_text(&forecasts, rounds, seconds, "").unwrap_or_default()
    }

    #[test]
    fn a_forecast_says_at_least_and_nothing_beyond_what_it_can_know() {
        assert_eq!(text(&[(0.05, Some(133)), (0.1, Some(100))], 13, 0.3), "a decision takes at least 120 more rounds, about 36 s");
        assert_eq!(
            text(&[(0.05, Some(733)), (0.1, Some(63)), (0.2, Some(14))], 13, 0.5),
            "a decision takes at least 720 more rounds, about 6 min; --margin 10% would be settled in about 25 s"
        );
        assert_eq!(
            text(&[(0.02, None), (0.05, None), (0.1, Some(63))], 13, 0.4),
            "a decision takes more than 10 minutes at this noise; --margin 10% would be settled in about 20 s"
        );
        assert_eq!(text(&[(0.02, Some(3000))], 13, 1.0), "a decision takes more than 10 minutes at this noise");
        assert_eq!(text(&[(0.02, Some(14))], 13, 1.0), "a decision takes at least 1 more round, about 1 s");
        assert_eq!(text(&[(0.02, None)], 3, 1.0), "it is too early to say how long a decision takes");
        assert_eq!(forecast_text(&[], 9, 1.0, ""), None);
    }
}
