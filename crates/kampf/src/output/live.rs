//! A race while it runs: a view that is redrawn on a terminal, sparse lines elsewhere.
//!
//! It is drawn only when the runner says that something happened, which it does between measured spans; no clock draws it.

use std::io::IsTerminal;
use std::time::{Duration, Instant};

use indicatif::ProgressBar;
use kampf_race::{Departure, Finding, Forecaster, Nanos, Race, Standing, Why};
use kampf_result::numbers::{behind, duration, interval, percent, wait};
use kampf_runner::{Checking, Event, HeatBegins, RoundBegins};
use kampf_verdict::Forecast;
use unicode_width::UnicodeWidthStr;

use super::forecast_text::{EARLIEST, forecast_text};
use super::out::{clean, one_line, say};
use super::progress::line;
use super::style::{Look, paint};

/// Contenders shown by name; the others are counted.
const SHOWN: usize = 10;
/// Drops shown, the last ones.
const DROPS: usize = 3;
/// Cells of the axis on which intervals are drawn, as many as there is room for between these.
const CELLS: std::ops::RangeInclusive<usize> = 21..=41;
/// Columns that a row has besides a contender's name and the axis: its time, how far it is behind, a word, an interval.
const BESIDE_AXIS: usize = 60;
/// A wider margin that is foretold too.
const WIDER: f64 = 0.1;
/// Between two forecasts at least so much time passes: one takes some milliseconds.
const FORECAST_EVERY: Duration = Duration::from_millis(500);
/// Turns of short calls are not worth drawing one by one.
const TURN_EVERY: Duration = Duration::from_millis(200);
/// How often something is said where it is not drawn.
const NOW_AND_THEN: Duration = Duration::from_secs(10);

/// Progress of a check and a race.
pub(crate) struct RaceProgress {
    bar: ProgressBar,
    contest: String,
    sparse: bool,
    margin: f64,
    /// When something was said last where it is not drawn.
    said: Instant,
    /// The title that is drawn and what stands below it, and when it was drawn with another turn.
    drawn: Option<(String, String)>,
    turned: Instant,
    drops: Vec<String>,
    forecaster: Option<Forecaster>,
    forecast: Option<(Instant, Vec<Forecast>)>,
}

/// What is said of a program that does not wait for its turn.
pub(crate) fn halted_text(name: &str) -> String {
    format!("{name} works while others have their turn, so it is stopped meanwhile")
}

impl RaceProgress {
    pub(crate) fn new(contest: &str, quiet: bool, margin: f64) -> RaceProgress {
        RaceProgress {
            bar: line(quiet),
            contest: contest.to_owned(),
            sparse: !quiet && !std::io::stderr().is_terminal(),
            margin,
            said: Instant::now(),
            drawn: None,
            turned: Instant::now(),
            drops: Vec::new(),
            forecaster: None,
            forecast: None,
        }
    }

    pub(crate) fn take(&mut self, event: &Event<'_>) {
        let contest = self.contest.clone();
        match event {
            Event::Proving(name, at, all) => self.say(&format!("{contest}: checking on few rows {at} of {all}, {name}"), *at == 1),
            Event::Checking(Checking { name, at, all, at_most }) => {
                let rest = at_most.map(|rest| format!("; {} more at most", wait(rest.as_secs_f64()))).unwrap_or_default();
                self.say(&format!("{contest}: checking {at} of {all}, {name}{rest}"), *at == 1);
            }
            Event::Round(round) => self.round(round),
            Event::Turn(turn, turns) => self.turn(*turn, *turns),
            Event::Heat(HeatBegins { anchor, entered }) => {
                let who = match entered {
                    [] => "nobody new enters".to_owned(),
                    [one] => format!("{one} enters"),
                    many => format!("{} enter", many.len()),
                };
                self.drops.push(format!("another heat, around {anchor}: {who}"));
                self.say(&format!("{contest}: another heat, around {anchor}: {who}"), true);
            }
            // By how much, the table says: one figure of each.
            Event::LeftOut(name) => {
                self.drops.push(format!("{name}  outclassed in the check"));
                self.say(&format!("{contest}: {name} is outclassed in the check"), true);
            }
            Event::Dropped(round, drop) => self.dropped(round, drop),
            Event::Failed(name, reason) => {
                let reason = one_line(reason);
                self.drops.push(format!("{name}  failed: {reason}"));
                self.say(&format!("{contest}: {name}: {reason}"), true);
            }
            Event::Halted(name) => self.say(&format!("{contest}: {}", halted_text(name)), true),
            Event::Confirming => self.say(&format!("{contest}: asking the survivors once more"), false),
        }
    }

    /// Elsewhere than on a terminal what passes is said now and then, so that nobody wonders.
    fn say(&mut self, message: &str, lasting: bool) {
        if self.sparse && (lasting || self.said.elapsed() >= NOW_AND_THEN) {
            say(false, message);
            self.said = Instant::now();
        }
        self.bar.set_message(clean(message));
        self.bar.tick();
    }

    /// The turn goes into the title of what is drawn: all else is as it was at the beginning of the round.
    fn turn(&mut self, turn: usize, turns: usize) {
        if self.bar.is_hidden() || self.turned.elapsed() < TURN_EVERY {
            return;
        }
        self.turned = Instant::now();
        let Some((title, rest)) = &self.drawn else { return };
        let room = super::style::terminal_width(&std::io::stderr()).unwrap_or(100) - 1;
        let title = cut(format!("{title}  turn {turn} of {turns} {}", dots(turn, turns)), room);
        self.bar.set_message(clean(&format!("{title}\n{rest}")));
        self.bar.tick();
    }

    fn dropped(&mut self, round: &RoundBegins<'_>, drop: &Departure) {
        let name = &round.names[drop.contender];
        let how = match drop.why {
            Why::Outclassed { .. } => format!("outclassed after round {}", drop.round),
            Why::Slower => {
                // As it stood when it left: against a leader that came since, it may not be sure.
                let left =
                    round.race.standings().into_iter().find(|standing| standing.contender == drop.contender).and_then(|one| one.left);
                let sure = left.and_then(|(_, gap)| gap.interval).map(|sure| format!(", {}", interval(sure.low, sure.high)));
                format!("slower after round {}{}", drop.round, sure.unwrap_or_default())
            }
        };
        self.drops.push(format!("{name}  {how}"));
        if self.sparse {
            say(false, &format!("{}: {name} is {how}", self.contest));
        }
    }

    fn round(&mut self, round: &RoundBegins<'_>) {
        let number = round.race.rounds() + 1;
        let leader = round.race.leader().map(|leader| round.names[leader].as_str());
        let (racing, running) = (round.race.racing().len(), round.race.running().len());
        if self.sparse {
            if number == 1 || number.is_multiple_of(10) || self.said.elapsed() >= NOW_AND_THEN {
                self.said = Instant::now();
                let leads = leader.map(|leader| format!(", {leader} leads")).unwrap_or_default();
                let expected = self.expected(round).map(|text| format!("; {text}")).unwrap_or_default();
                let left = seconds(round.left);
                let rests = resting(racing, running);
                say(false, &format!("{}: round {number}, {racing} racing{rests}{leads}, {left} left{expected}", self.contest));
            }
            return;
        }
        if self.bar.is_hidden() {
            return;
        }
        let mut lines = vec![format!(
            "{}  round {number}, {racing} of {} racing{}, {} left",
            paint(Look::Title, &self.contest),
            round.names.len(),
            resting(racing, running),
            seconds(round.left),
        )];
        if let Some(expected) = self.expected(round) {
            lines.push(paint(Look::Quiet, &format!("  {expected}")));
        }
        let standings: Vec<Standing> =
            in_order(round.race.standings().into_iter().filter(|standing| standing.left.is_none() && standing.rounds > 0).collect());
        // One figure of each, as at the end: the leader's median times the ratio to it.
        let best = standings.iter().find(|standing| standing.finding == Finding::Leads).and_then(|leader| leader.median);
        let widest = standings.iter().take(SHOWN).map(|standing| round.names[standing.contender].width()).max().unwrap_or(0);
        let any = standings.iter().any(|standing| standing.gap.is_some_and(|gap| gap.interval.is_some()));
        let room = super::style::terminal_width(&std::io::stderr()).unwrap_or(100) - 1;
        let cells = room.saturating_sub(widest + BESIDE_AXIS).clamp(*CELLS.start(), *CELLS.end());
        let scale = any.then(|| (scale(&standings), cells));
        for standing in standings.iter().take(SHOWN) {
            let name = &round.names[standing.contender];
            let space = " ".repeat(widest - name.width());
            lines.push(format!("  {}{space}  {}", paint(Look::Strong, name), self.standing(round.race, standing, best, scale)));
        }
        if standings.len() > SHOWN {
            lines.push(format!("  and {} more", standings.len() - SHOWN));
        }
        if any {
            let legend = format!("  │ the leader   ╎ a margin of {}   ├─●─┤ where the true difference surely lies", percent(self.margin));
            lines.push(paint(Look::Quiet, &legend));
        }
        if !self.drops.is_empty() {
            let earlier = self.drops.len().saturating_sub(DROPS);
            let before = if earlier > 0 { format!(", {earlier} earlier ones") } else { String::new() };
            lines.push(paint(Look::Quiet, &format!("  out of the race{before}:")));
            lines.extend(self.drops[earlier..].iter().map(|drop| paint(Look::Quiet, &format!("    {drop}"))));
        }
        let title = lines[0].clone();
        let cut: Vec<String> = lines.into_iter().map(|line| cut(line, room)).collect();
        self.drawn = Some((title, cut[1..].join("\n")));
        self.bar.set_message(clean(&cut.join("\n")));
        self.bar.tick();
    }

    /// One contender: its time, how far behind it is, the interval on an axis of a scale, what that says so far.
    fn standing(&self, race: &Race, standing: &Standing, best: Option<Nanos>, scale: Option<(f64, usize)>) -> String {
        let ratio = standing.gap.map_or(1.0, |gap| gap.ratio);
        let time = best.map_or_else(String::new, |best| duration(best * ratio));
        let Some(gap) = standing.gap else { return format!("{time:>8}  leads") };
        let drawn = match (scale, gap.interval) {
            (Some((scale, cells)), Some(interval)) => {
                axis([interval.low.ln(), gap.ratio.ln(), interval.high.ln()], (scale, cells), self.margin)
            }
            (Some((_, cells)), None) => " ".repeat(cells),
            // Nobody has an interval yet, so there is no axis either.
            (None, _) => String::new(),
        };
        let sure = gap.interval.map_or(String::new(), |sure| interval(sure.low, sure.high));
        let word = match standing.finding {
            _ if race.is_beside(standing.contender) => "beside",
            Finding::Tied => "tied",
            Finding::Slower | Finding::Outclassed => "slower",
            Finding::NotFaster => "not faster",
            _ if gap.interval.is_none() => "too early to tell",
            _ => "open",
        };
        format!("{time:>8}  {:>7}  {}  {word}  {}", behind(gap.ratio), paint(Look::Bar, &drawn), paint(Look::Quiet, &sure))
    }

    /// Rounds that a decision will still take.
    fn expected(&mut self, round: &RoundBegins<'_>) -> Option<String> {
        let race = round.race;
        if race.rounds() < EARLIEST || race.racing().len() < 2 {
            return None;
        }
        if self.forecast.as_ref().is_none_or(|(at, _)| at.elapsed() >= FORECAST_EVERY) {
            let forecaster = self.forecaster.get_or_insert_with(|| Forecaster::new(race));
            let margins = std::iter::once(self.margin).chain((self.margin < WIDER).then_some(WIDER));
            let forecasts = margins.map(|margin| Forecast { margin, rounds: forecaster.rounds(race, margin) }).collect();
            self.forecast = Some((Instant::now(), forecasts));
        }
        let forecasts = self.forecast.as_ref().map_or(&[][..], |(_, forecasts)| forecasts);
        forecast_text(forecasts, race.rounds(), round.round.as_secs_f64(), "")
    }
}

/// Those that are the least behind first.
fn in_order(mut standings: Vec<Standing>) -> Vec<Standing> {
    let behind =
        |standing: &Standing| standing.gap.map_or(if standing.finding == Finding::Leads { 1.0 } else { f64::INFINITY }, |gap| gap.ratio);
    standings.sort_by(|one, other| behind(one).total_cmp(&behind(other)));
    standings
}

impl Drop for RaceProgress {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

/// The turns of a round, those that have begun filled.
fn dots(turn: usize, turns: usize) -> String {
    if turns > 12 { String::new() } else { format!("{}{}", "●".repeat(turn), "○".repeat(turns.saturating_sub(turn))) }
}

/// How many need not run for now, being surely not faster than the leader.
fn resting(racing: usize, running: usize) -> String {
    if racing > running { format!(" ({} resting)", racing - running) } else { String::new() }
}

fn seconds(duration: Duration) -> String {
    format!("{:.0} s", duration.as_secs_f64())
}

/// What the longer arm of the axis stands for, in logarithms: enough for the widest interval of those that are open.
fn scale(standings: &[Standing]) -> f64 {
    let leader = leader(*CELLS.end());
    let arm = (CELLS.end() - 1 - leader) as f64 / leader as f64;
    let open = standings.iter().filter(|standing| standing.finding == Finding::Open).filter_map(|standing| standing.gap?.interval);
    let widest = open.map(|interval| interval.high.ln().max(-interval.low.ln() * arm)).fold(0.0, f64::max);
    [0.03, 0.05, 0.1, 0.2, 0.5, 1.0].into_iter().find(|scale| *scale >= widest).unwrap_or(2.0)
}

/// The cell that stands for the leader: most are slower.
fn leader(cells: usize) -> usize {
    cells / 4
}

/// The low end, the median and the high end of an interval, on an axis of so many cells with the leader; the margin is marked on it.
fn axis([low, middle, high]: [f64; 3], (scale, count): (f64, usize), margin: f64) -> String {
    let leader = leader(count);
    let place = |value: f64| leader as f64 + value / scale * (count - 1 - leader) as f64;
    let cell = |value: f64| place(value).round().clamp(0.0, (count - 1) as f64) as usize;
    let beyond = |value: f64| place(value) < -0.5 || place(value) > count as f64 - 0.5;
    let mut cells = vec![' '; count];
    for edge in [-(1.0 + margin).ln(), (1.0 + margin).ln()] {
        cells[cell(edge)] = '╎';
    }
    cells[leader] = '│';
    cells[cell(low)..=cell(high)].fill('─');
    cells[cell(low)] = if beyond(low) { '◂' } else { '├' };
    cells[cell(high)] = if beyond(high) { '▸' } else { '┤' };
    cells[cell(middle)] = '●';
    cells.into_iter().collect()
}

/// A line with at most so many columns, its colours closed.
fn cut(line: String, room: usize) -> String {
    let plain = anstream::adapter::strip_str(&line).to_string();
    if plain.width() <= room {
        return line;
    }
    let mut out = String::new();
    for sign in plain.chars() {
        if out.width() + 1 >= room {
            break;
        }
        out.push(sign);
    }
    out.push('…');
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn intervals_are_drawn_around_their_median_on_an_axis() {
        assert_eq!(axis([-0.02, 0.01, 0.04], (0.1, 41), 0.02), "    ├────────●────────┤                  ");
        assert_eq!(axis([0.03, 0.06, 0.09], (0.1, 41), 0.02).chars().filter(|&sign| sign == '╎').count(), 2);
        assert!(axis([0.05, 0.3, 0.9], (0.1, 41), 0.02).ends_with('●'));
        assert!(axis([0.05, 0.08, 0.9], (0.1, 41), 0.02).ends_with('▸'));
        assert!(axis([-0.9, -0.03, 0.01], (0.1, 41), 0.02).starts_with('◂'));
        // On a narrow terminal it is shorter.
        assert_eq!(axis([-0.02, 0.01, 0.04], (0.1, 21), 0.02), "  ├────●───┤         ");
    }

    #[test]
    fn long_lines_are_cut_to_the_terminal() {
        assert_eq!(cut("short".to_owned(), 10), "short");
        assert_eq!(cut(paint(Look::Bad, "a long line of words"), 8).width(), 8);
    }
}
