//! A stage on which a script is played: contenders that take as long as they are told to, and say of it what they are told to.

use std::collections::BTreeSet;
use std::time::Duration;

use kampf_contest::{Counter, Reference};
use kampf_protocol::{Counts, Mode, Ran};
use kampf_race::Nanos;
use kampf_schema::Value;

use crate::policy::check::{CheckedVerdict, Known};
use crate::policy::stage::{Compared, Contestant, Done, Right, RunOrder, Stage, Started};
use crate::trouble::Trouble;

/// A contender of the script.
#[derive(Clone)]
pub(in crate::policy) struct Actor {
    pub(in crate::policy) name: &'static str,
    pub(in crate::policy) is_program: bool,
    /// What really passes: at the start, for a message, for a call, beside each span.
    pub(in crate::policy) start: Duration,
    pub(in crate::policy) message: Nanos,
    pub(in crate::policy) call: Nanos,
    pub(in crate::policy) beside_span: Nanos,
    /// From this start on it does as `lie` says; the check starts everybody twice.
    pub(in crate::policy) lies_from: usize,
    pub(in crate::policy) lie: Lie,
    /// What it counts of a call with a parameter.
    pub(in crate::policy) statements: fn(i64) -> u64,
    pub(in crate::policy) growth: Option<u64>,
    pub(in crate::policy) can: Vec<Mode>,
    /// At this start it cannot be run.
    pub(in crate::policy) breaks_at: Option<usize>,
    /// From this start on its answers are wrong.
    pub(in crate::policy) wrong_from: usize,
    /// From this start on messages cost so much more, as on a machine that is busier than before.
    pub(in crate::policy) slower_from: Option<(usize, Nanos)>,
    /// This run of the second start, after the first call, goes through without what a message costs.
    pub(in crate::policy) quick_run: Option<usize>,
    /// In the runs of this start the machine is busy with other things for so long.
    pub(in crate::policy) held_up: Option<(usize, Nanos)>,
    /// It keeps its answers: a call with parameters that its process was asked before takes this share of others.
    pub(in crate::policy) kept: f64,
    /// So much longer its first runs take, as of what gets warm with time: half as much with each run.
    pub(in crate::policy) cold: f64,
    /// So much it uses the processor between two runs.
    pub(in crate::policy) idle: Nanos,
}

/// What is untrue of what a contender says of its timed runs.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(in crate::policy) enum Lie {
    Nothing,
    /// Its spans, times this.
    Spans(f64),
    /// Of three passes over eight sets it puts most of the time into the last one.
    Shifted,
    /// It leaves spans out.
    Missing,
    /// It does nothing in timed calls, and says so by its rows.
    Idle,
    /// The rows of its counted calls are too many.
    Counted,
}

pub(in crate::policy) fn own(name: &'static str, milliseconds: f64) -> Actor {
    Actor {
        name,
        is_program: false,
        start: Duration::from_millis(2),
        message: 50e3,
        call: milliseconds * 1e6,
        beside_span: 30.0,
        lies_from: 0,
        lie: Lie::Nothing,
        statements: |_| 1,
        growth: None,
        can: vec![Mode::Answer, Mode::Count, Mode::Time],
        breaks_at: None,
        wrong_from: usize::MAX,
        slower_from: None,
        quick_run: None,
        held_up: None,
        kept: 1.0,
        cold: 0.0,
        idle: 0.0,
    }
}

pub(in crate::policy) fn program(name: &'static str, milliseconds: f64) -> Actor {
    Actor { is_program: true, growth: Some(4096), ..own(name, milliseconds) }
}

pub(in crate::policy) fn lying(actor: Actor, lie: Lie) -> Actor {
    Actor { lie, ..actor }
}

pub(in crate::policy) struct Script {
    actors: Vec<Actor>,
    contestants: Vec<Contestant>,
    starts: Vec<usize>,
    /// Timed runs since the last start.
    runs: Vec<usize>,
    /// The parameters that each process was asked.
    seen: Vec<BTreeSet<i64>>,
    /// Who is on the stage.
    there: BTreeSet<usize>,
    clock: Nanos,
    has_parameters: bool,
    /// How many were there at once.
    pub(in crate::policy) most_there: usize,
    /// How many may be alive at once, as the stage says, and as it is.
    pub(in crate::policy) most_alive: usize,
    pub(in crate::policy) connections: usize,
    /// The user wants to stop when so many have been started.
    pub(in crate::policy) stops_after: Option<usize>,
    /// From so many starts on, the right answers to new parameters cannot be had.
    pub(in crate::policy) no_right_after: Option<usize>,
    /// How the right answers are known, and whether what differs is decided.
    pub(in crate::policy) known: Known,
    pub(in crate::policy) decides: bool,
    /// Everything that was asked for: who, mode, passes, calls a span, sets.
    pub(in crate::policy) asked: Vec<(usize, Mode, u64, u64, usize)>,
    /// Who had to stand still, each time.
    pub(in crate::policy) halted: Vec<usize>,
    /// Whose answers to how many sets were compared.
    pub(in crate::policy) compared: Vec<(usize, usize)>,
}

impl Script {
    pub(in crate::policy) fn new(actors: Vec<Actor>) -> Script {
        let contestant = |actor: &Actor| Contestant {
            name: actor.name.to_owned(),
            is_derived: !actor.is_program,
            leads: true,
            counter: Counter { is_program: actor.is_program, trips_are_modelled: true },
            calls_to_settle: 0,
            writes: false,
        };
        let contestants = actors.iter().map(contestant).collect();
        let (starts, runs) = (vec![0; actors.len()], vec![0; actors.len()]);
        Script {
            actors,
            contestants,
            starts,
            seen: vec![BTreeSet::new(); runs.len()],
            runs,
            there: BTreeSet::new(),
            clock: 0.0,
            has_parameters: false,
            most_there: 0,
            most_alive: 16,
            connections: 16,
            stops_after: None,
            no_right_after: None,
            known: Known::Plainly,
            decides: false,
            asked: Vec::new(),
            halted: Vec::new(),
            compared: Vec::new(),
        }
    }

    pub(in crate::policy) fn with_parameters(mut self) -> Script {
        self.has_parameters = true;
        self
    }

    /// How often a contender was started.
    pub(in crate::policy) fn starts_of(&self, at: usize) -> usize {
        self.starts[at]
    }

    fn all_starts(&self) -> usize {
        self.starts.iter().sum()
    }

    /// The luck of a process: up to a hundredth, another for each start of each contender.
    fn luck(&self, at: usize) -> f64 {
        let name = self.actors[at].name.bytes().fold(7u64, |sum, byte| sum.wrapping_mul(31).wrapping_add(u64::from(byte)));
        let mixed = (name + self.starts[at] as u64 + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
        1.0 + 0.01 * ((mixed ^ (mixed >> 29)).wrapping_mul(0xBF58_476D_1CE4_E5B9) as f64 / u64::MAX as f64)
    }
}

/// The parameter at the edge.
const EDGE: i64 = -1;

/// The number in a parameter set.
fn number(set: &[Value]) -> i64 {
    match set {
        [Value::Integer(number)] => *number,
        _ => 3,
    }
}

/// How many rows are right for a parameter set.
fn right_rows(set: &[Value]) -> u64 {
    1 + number(set).unsigned_abs() % 7
}

impl Stage for Script {
    fn contestants(&self) -> &[Contestant] {
        &self.contestants
    }

    fn sets(&self, round: u64) -> Vec<Vec<Value>> {
        match self.has_parameters {
            true => (0..8).map(|set| vec![Value::Integer((round as i64 % 1000) * 8 + set)]).collect(),
            false => vec![Vec::new()],
        }
    }

    fn right(&mut self, sets: &[Vec<Value>]) -> Result<Right, Trouble> {
        if self.no_right_after.is_some_and(|after| self.all_starts() >= after) {
            return Err(Trouble::Refused("the server went away".to_owned()));
        }
        let rows = |set: &Vec<Value>| (0..right_rows(set)).map(|row| vec![Value::Integer(row as i64)]).collect::<Vec<_>>();
        let reference = |set: &Vec<Value>| Reference { rows: rows(set), complete: true, ..Reference::default() };
        Ok(Right { references: sets.iter().map(reference).collect(), known: self.known.clone() })
    }

    fn edges(&self) -> Vec<Vec<Value>> {
        if self.has_parameters { vec![vec![Value::Integer(EDGE)]] } else { Vec::new() }
    }

    fn decide(&mut self, sets: &[Vec<Value>]) -> Result<Option<Vec<Reference>>, Trouble> {
        let Right { references, .. } = self.right(sets)?;
        Ok(self.decides.then_some(references))
    }

    fn agree(&self, right: &Reference, other: &Reference) -> bool {
        right == other
    }

    fn remarks(&self, _: &[Reference]) -> Vec<&'static str> {
        Vec::new()
    }

    fn all_rows(&self) -> u64 {
        20_000
    }

    fn rows_of(&self, reference: &Reference) -> u64 {
        reference.rows.len() as u64
    }

    fn most_alive(&self) -> usize {
        self.most_alive
    }

    fn may_be_crowded(&self) -> bool {
        self.connections < self.most_alive
    }

    fn start(&mut self, at: usize) -> Result<Started, Trouble> {
        if self.stops_after.is_some_and(|after| self.all_starts() >= after) {
            return Err(Trouble::Interrupted);
        }
        self.there.remove(&at);
        if self.there.len() == self.connections {
            return Err(Trouble::Refused("too many connections".to_owned()));
        }
        self.starts[at] += 1;
        self.runs[at] = 0;
        self.seen[at].clear();
        let actor = &self.actors[at];
        if actor.breaks_at == Some(self.starts[at]) {
            return Err(Trouble::Ended("ended with status 1".to_owned(), String::new()));
        }
        self.clock += actor.start.as_nanos() as Nanos;
        self.there.insert(at);
        self.most_there = self.most_there.max(self.there.len());
        Ok(Started { took: actor.start, can: actor.can.clone() })
    }

    fn compare(&mut self, at: usize, _: &[Vec<Value>], right: &[Reference], longest: Option<Duration>) -> Result<Compared, Trouble> {
        assert!(self.there.contains(&at), "{at} was not started");
        let took = self.actors[at].call * right.len() as f64;
        if let Some(longest) = longest.filter(|longest| took > longest.as_nanos() as Nanos) {
            self.clock += longest.as_nanos() as Nanos;
            self.there.remove(&at);
            return Err(Trouble::TimedOut(longest));
        }
        self.clock += took;
        self.compared.push((at, right.len()));
        let difference = || kampf_contest::Difference {
            row: 0,
            column: None,
            expected: None,
            found: None,
            expected_rows: 1,
            found_rows: 2,
            came: None,
            inside: None,
            table: None,
        };
        let verdict = match self.starts[at] >= self.actors[at].wrong_from {
            true => CheckedVerdict::Disagrees(0, Box::new(difference())),
            false => CheckedVerdict::Agrees,
        };
        if verdict != CheckedVerdict::Agrees {
            self.there.remove(&at);
        }
        Ok(Compared { verdict, took: Duration::from_nanos(took as u64) })
    }

    fn run(&mut self, at: usize, asked: RunOrder<'_>) -> Result<Done, Trouble> {
        assert!(self.there.contains(&at), "{at} was not started");
        let (actor, start) = (&self.actors[at], self.starts[at]);
        let lie = if start >= actor.lies_from { actor.lie } else { Lie::Nothing };
        let rows: u64 = asked.sets.iter().map(|set| right_rows(set)).sum();
        let mut ran = Ran { id: 1, ..Ran::default() };
        let runs = self.asked.iter().filter(|(one, mode, ..)| *one == at && *mode == Mode::Time).count();
        let mut wall = if actor.quick_run == Some(runs) { 0.0 } else { actor.message };
        wall += actor.slower_from.filter(|(from, _)| start >= *from).map_or(0.0, |(_, more)| more);
        if asked.mode == Mode::Count {
            wall += actor.call;
            ran.rows = rows + u64::from(lie == Lie::Counted);
            let statements = (actor.statements)(number(&asked.sets[0]));
            ran.counts = Some([("statements", Some(statements))].into_iter().collect::<Counts>());
            if !actor.is_program {
                ran.spans_ns = vec![actor.call as u64];
            }
        } else {
            let known = asked.sets.iter().filter(|set| !self.seen[at].insert(number(set))).count();
            let kept = 1.0 - (1.0 - actor.kept) * known as f64 / asked.sets.len() as f64;
            let warmth = 1.0 + actor.cold * 0.5f64.powi(i32::try_from(self.runs[at]).unwrap_or(0));
            let call = if lie == Lie::Idle { 50.0 } else { actor.call * self.luck(at) * kept * warmth };
            let spans = asked.passes as usize * asked.sets.len();
            let span = call * asked.calls_per_span as f64;
            wall += spans as f64 * (span + actor.beside_span);
            let said = match lie {
                Lie::Spans(factor) => span * factor,
                Lie::Shifted if self.runs[at] == 0 => span,
                Lie::Shifted => span * if (self.runs[at] - 1) / 8 < 2 { 0.5 } else { 2.0 },
                _ => span,
            };
            ran.spans_ns = vec![said as u64; if lie == Lie::Missing { spans / 2 } else { spans }];
            ran.rows = if lie == Lie::Idle { 0 } else { rows * asked.passes * asked.calls_per_span };
        }
        wall += actor.held_up.filter(|(when, _)| *when == start).map_or(0.0, |(_, nanos)| nanos);
        self.clock += wall;
        self.runs[at] += usize::from(asked.mode == Mode::Time);
        self.asked.push((at, asked.mode, asked.passes, asked.calls_per_span, asked.sets.len()));
        Ok(Done {
            ran,
            wall: Duration::from_nanos(wall as u64),
            idle_ns: actor.is_program.then_some(actor.idle as u64),
            growth: actor.growth.filter(|_| asked.mode == Mode::Count),
        })
    }

    fn halt(&mut self, at: usize) {
        self.halted.push(at);
    }

    fn end(&mut self, at: usize) {
        self.there.remove(&at);
    }

    fn now(&self) -> Duration {
        Duration::from_nanos(self.clock as u64)
    }

    fn reference_loop(&mut self) -> Nanos {
        self.clock += 1e6;
        1e6
    }
}
