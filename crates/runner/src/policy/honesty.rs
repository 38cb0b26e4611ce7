//! Whether a contender's word is believed: held against the runner's clock, and against the right answer.

use std::time::Duration;

use kampf_protocol::Mode;
use kampf_race::{Nanos, median};
use kampf_schema::Value;

use super::pace::{SHORTEST_RUN_NS, SHORTEST_SPAN_NS};
use super::stage::{Done, RunOrder, Stage};
use crate::trouble::Trouble;

/// By so much, as a share of its spans, a run may last longer than they do.
pub(crate) const ALLOWED: f64 = 0.01;
/// Runs of no passes that a message's cost is the median of.
const MESSAGES: usize = 5;
/// A program that takes longer for nothing than this cannot be timed.
const LONGEST_MESSAGE: Duration = Duration::from_millis(50);
/// Spans are not made longer than this by the runner's clock, so that taking the time costs less than is allowed.
const LONGEST_SPAN_NS: Nanos = 1e6;
/// How much longer spans and runs become at a time, and how long runs become at most. What a busy machine adds to a run does not grow
/// with it; what is kept back does.
const GROWTH: f64 = 4.0;
const LONGEST_RUN_NS: Nanos = 1e9;
/// By so much at most a run is made longer than one whose length is not well known.
const LARGEST_STEP: f64 = 16.0;
/// Runs of a size that are given a chance to be believed, where they are no longer than this; a longer one is given one.
const TRIES: usize = 3;
const LONG_RUN_NS: Nanos = 200e6;

/// A run that was timed: what the contender says of it, beside what the runner's clock says.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct Account {
    /// Calls in all spans.
    calls: u64,
    /// The sum of the spans, as it was reported.
    said: Nanos,
    /// The time of the run by the runner's clock without what a message costs; none where it is not asked for.
    by_clock: Option<Nanos>,
}

impl Account {
    /// Of a run of so many calls, where a message costs so much; a contender of Kampf's own, whose code takes the time, has none.
    pub(crate) fn of(done: &Done, calls: u64, message: Option<Nanos>) -> Account {
        let said = done.ran.spans_ns.iter().map(|&span| span as Nanos).sum();
        Account { calls, said, by_clock: message.map(|message| (done.wall.as_nanos() as Nanos - message).max(1.0)) }
    }

    /// Of this run and another one.
    pub(crate) fn and(self, other: Account) -> Account {
        let by_clock = self.by_clock.zip(other.by_clock).map(|(own, other)| own + other);
        Account { calls: self.calls + other.calls, said: self.said + other.said, by_clock }
    }

    /// By how much the run lasted longer than its spans, as a share of them; negative where they claim more than has passed.
    pub(crate) fn excess(&self) -> f64 {
        self.by_clock.map_or(0.0, |by_clock| by_clock / self.said.max(1.0) - 1.0)
    }

    /// Whether the runner's clock bears out what is said.
    pub(crate) fn is_believed(&self) -> bool {
        self.excess().abs() <= ALLOWED
    }

    /// Nanoseconds of a call: as it is said where that is believed, else by the runner's clock.
    pub(crate) fn call_ns(&self) -> Nanos {
        let nanos = if self.is_believed() { self.said } else { self.by_clock.unwrap_or(self.said) };
        nanos / self.calls.max(1) as Nanos
    }

    /// What a figure that was reported is multiplied by to be what the runner's clock says.
    pub(crate) fn factor(&self) -> f64 {
        if self.is_believed() { 1.0 } else { self.by_clock.map_or(1.0, |by_clock| by_clock / self.said.max(1.0)) }
    }

    pub(crate) fn by_clock_a_call(&self) -> Nanos {
        self.by_clock.unwrap_or(self.said) / self.calls.max(1) as Nanos
    }

    /// Nanoseconds of a call in a part of these runs: all of them together are believed or not, and a part has the share that it has by the
    /// clock.
    pub(crate) fn share_of(&self, part: Account) -> Nanos {
        let believed = if self.is_believed() { self.by_clock.map_or(1.0, |by_clock| self.said / by_clock) } else { 1.0 };
        believed * part.by_clock_a_call()
    }

    /// Why it is not believed, with the figures.
    pub(crate) fn contradiction(&self) -> String {
        let [said, by_clock] = [self.said / self.calls.max(1) as Nanos, self.by_clock_a_call()].map(readable);
        format!("it says that a call takes {said}, and by the runner's clock it takes {by_clock}")
    }
}

/// A time with its unit and three digits; a program's wrong unit shows in them.
fn readable(nanos: Nanos) -> String {
    let (value, unit) = match nanos {
        n if n < 1e3 => (n, "ns"),
        n if n < 1e6 => (n / 1e3, "us"),
        n if n < 1e9 => (n / 1e6, "ms"),
        n => (n / 1e9, "s"),
    };
    let digits = if value < 10.0 { 2 } else { usize::from(value < 100.0) };
    format!("{value:.digits$} {unit}")
}

/// Has a contender that was started carry out a timed run, and sees that every span is there.
pub(crate) fn timed(stage: &mut dyn Stage, at: usize, sets: &[Vec<Value>], passes: u64, calls_per_span: u64) -> Result<Done, Trouble> {
    let done = stage.run(at, RunOrder { mode: Mode::Time, sets, passes, calls_per_span })?;
    let expected = passes.saturating_mul(sets.len() as u64);
    if done.ran.spans_ns.len() as u64 != expected {
        return Err(Trouble::NotBelieved(format!("it reports {} spans of a run of {expected}", done.ran.spans_ns.len())));
    }
    Ok(done)
}

/// Holds the rows that a run has delivered in so many passes against the rows of the right answer, which are those of one.
pub(crate) fn rows_are_right(found: u64, passes: u64, right: u64, what: &str) -> Result<(), Trouble> {
    if found == right.saturating_mul(passes) {
        return Ok(());
    }
    Err(Trouble::NotBelieved(match passes {
        1 => format!("it reports {found} rows of its {what}, where the checked answer has {right}"),
        _ => format!("it reports {found} rows of {passes} {what}es, where the checked answer has {right} each time"),
    }))
}

/// What the check finds out about how a program is to be timed.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Believed {
    /// Nanoseconds that a message to it and back takes.
    pub(crate) message: Nanos,
    /// Calls that a span has at least, so that taking the time costs little.
    pub(crate) calls_per_span: u64,
    /// Nanoseconds that a run lasts at least.
    pub(crate) run: Nanos,
    /// Nanoseconds of a call.
    pub(crate) call_ns: Nanos,
}

/// The cost of a message to a program that was started and back: that of a run without passes.
fn message_cost(stage: &mut dyn Stage, at: usize, sets: &[Vec<Value>]) -> Result<Nanos, Trouble> {
    let mut costs = Vec::with_capacity(MESSAGES);
    for _ in 0..MESSAGES {
        let done = timed(stage, at, sets, 0, 1)?;
        rows_are_right(done.ran.rows, 1, 0, "run without passes")?;
        costs.push(done.wall.as_nanos() as Nanos);
    }
    let cost = median(&costs).unwrap_or(0.0);
    if cost > LONGEST_MESSAGE.as_nanos() as Nanos {
        return Err(Trouble::NotBelieved(format!(
            "a run without passes takes it {}, so its times cannot be held against a clock",
            readable(cost)
        )));
    }
    Ok(cost)
}

/// Finds out whether a program that was started is believed: its runs grow until what a message costs and what a span costs beside
/// itself are less than is allowed, or it shows that they never will be. `rows` are those of one pass.
pub(crate) fn believe(stage: &mut dyn Stage, at: usize, sets: &[Vec<Value>], rows: u64) -> Result<Believed, Trouble> {
    let message = message_cost(stage, at, sets)?;
    let calls_in = |passes: u64, calls_per_span: u64| passes.saturating_mul(calls_per_span).saturating_mul(sets.len() as u64);
    let try_once = |stage: &mut dyn Stage, passes: u64, calls_per_span: u64| {
        let done = timed(stage, at, sets, passes, calls_per_span)?;
        rows_are_right(done.ran.rows, passes.saturating_mul(calls_per_span), rows, "timed pass")?;
        Ok(Account::of(&done, calls_in(passes, calls_per_span), Some(message)))
    };
    // Runs are planned by the runner's clock alone: what a program says could make them as long as it likes.
    let mut run = SHORTEST_RUN_NS.max(message / ALLOWED);
    let mut account = try_once(stage, 1, 1)?;
    // Of a run that is hardly longer than a message not much follows for a longer one.
    let mut passes = 1;
    while account.by_clock.unwrap_or(0.0) < run / 2.0 {
        passes = (passes as f64 * (run / account.by_clock.unwrap_or(1.0)).clamp(2.0, LARGEST_STEP)) as u64;
        account = try_once(stage, passes, 1)?;
    }
    let mut calls_per_span = (SHORTEST_SPAN_NS / account.by_clock_a_call()).ceil().max(1.0);
    let believed = |account: &Account, calls_per_span: f64, run: Nanos| Believed {
        message,
        calls_per_span: calls_per_span as u64,
        run,
        call_ns: account.call_ns(),
    };
    if calls_per_span == 1.0 && account.by_clock.unwrap_or(0.0) >= run && account.is_believed() {
        return Ok(believed(&account, calls_per_span, run));
    }
    loop {
        for _ in 0..TRIES {
            let pass = account.by_clock_a_call() * calls_in(1, calls_per_span as u64) as Nanos;
            let passes = (1.05 * run / pass).ceil().max(1.0) as u64;
            account = try_once(stage, passes, calls_per_span as u64)?;
            if account.is_believed() {
                return Ok(believed(&account, calls_per_span, run));
            }
            if account.by_clock.unwrap_or(0.0) > LONG_RUN_NS {
                break;
            }
        }
        let spans_grow = account.by_clock_a_call() * calls_per_span < LONGEST_SPAN_NS;
        if !spans_grow && account.by_clock.unwrap_or(0.0) >= LONGEST_RUN_NS {
            return Err(Trouble::NotBelieved(account.contradiction()));
        }
        if spans_grow {
            calls_per_span *= GROWTH;
        }
        run = (run * GROWTH).min(LONGEST_RUN_NS.max(run));
    }
}

#[cfg(test)]
mod tests {
    use kampf_protocol::Ran;

    use super::*;

    fn account(said: u64, wall: f64, message: Option<Nanos>) -> Account {
        let ran = Ran { spans_ns: vec![said / 4; 4], ..Ran::default() };
        Account::of(&Done { ran, wall: Duration::from_nanos(wall as u64), idle_ns: None, growth: None }, 8, message)
    }

    #[test]
    fn spans_within_a_hundredth_of_the_clock_are_believed_and_others_count_with_its_time() {
        let message = Some(50e3);
        let right = account(10_000_000, 10.05e6, message);
        assert!(right.is_believed());
        assert_eq!((right.call_ns(), right.factor()), (1.25e6, 1.0));
        for (said, wall) in [(10_000_000, 10.14e6), (10_000_000, 9.96e6)] {
            assert!(account(said, wall, message).is_believed(), "{wall}");
        }
        let short = account(10_000_000, 20.05e6, message);
        assert!(!short.is_believed());
        assert_eq!((short.call_ns(), short.factor(), short.excess()), (2.5e6, 2.0, 1.0));
        let long = account(10_000_000, 5.05e6, message);
        assert_eq!((long.is_believed(), long.call_ns(), long.factor()), (false, 0.625e6, 0.5));
        // Nothing said, and a clock that has not moved beyond a message.
        let nothing = account(0, 8.05e6, message);
        assert_eq!((nothing.is_believed(), nothing.call_ns()), (false, 1e6));
        assert!(account(10_000_000, 1.0, message).call_ns() > 0.0);
        // Kampf's own are not held against it.
        let own = account(10_000_000, 90e6, None);
        assert_eq!((own.is_believed(), own.call_ns(), own.factor()), (true, 1.25e6, 1.0));
    }

    #[test]
    fn a_part_has_the_share_of_the_time_that_it_has_by_the_clock() {
        let message = Some(50e3);
        // It says that the first took hardly anything, and the second all of it.
        let (one, other) = (account(800_000, 5.1e6, message), account(9_200_000, 5.0e6, message));
        let all = one.and(other);
        assert!(all.is_believed() && !one.is_believed());
        assert!((all.share_of(one) / 631_250.0 - 1.0).abs() < 1e-9, "{}", all.share_of(one));
        assert!((all.share_of(one) + all.share_of(other) - 1.25e6).abs() < 1.0);
        // Kampf's own are not held against it, and one that is not believed has the clock's time.
        let own = account(10_000_000, 90e6, None).and(account(20_000_000, 90e6, None));
        assert_eq!(own.share_of(account(10_000_000, 90e6, None)), 1.25e6);
        let short = account(10_000_000, 20.05e6, message);
        assert_eq!(short.share_of(short), 2.5e6);
    }

    #[test]
    fn a_contradiction_has_both_figures_in_their_units() {
        let said = |said: u64, wall: f64| account(said, wall, Some(0.0)).contradiction();
        assert_eq!(said(8_000, 8e6), "it says that a call takes 1.00 us, and by the runner's clock it takes 1.00 ms");
        assert_eq!(said(800, 99.6e9), "it says that a call takes 100 ns, and by the runner's clock it takes 12.4 s");
        assert_eq!(said(98_400, 2_000.0), "it says that a call takes 12.3 us, and by the runner's clock it takes 250 ns");
        assert_eq!([0.4, 9.99, 99.96, 123.4].map(readable), ["0.40 ns", "9.99 ns", "100.0 ns", "123 ns"]);
    }

    #[test]
    fn rows_are_those_of_the_right_answer_or_it_is_said() {
        assert_eq!((rows_are_right(7, 1, 7, "first call"), rows_are_right(21, 3, 7, "timed pass")), (Ok(()), Ok(())));
        let said = |found, passes, what| rows_are_right(found, passes, 7, what).unwrap_err().to_string();
        assert_eq!(said(0, 1, "first call"), "it reports 0 rows of its first call, where the checked answer has 7");
        assert_eq!(said(7, 3, "timed pass"), "it reports 7 rows of 3 timed passes, where the checked answer has 7 each time");
    }
}
