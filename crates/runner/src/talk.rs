//! Talking to one contender.

use std::time::{Duration, Instant};

use kampf_contest::{answer_row_from_json, value_to_json};
use kampf_protocol::{Hello, Limits, Mode, Ran, Reply, Request, Run};
use kampf_schema::{LogicalType, Value};
use serde_json::Value as Json;

use crate::contender::OwnContender;
use crate::contest::{Contest, Entry, EntryWay, Setup};
use crate::process::{Inbox, Launch, Process, Trouble};

/// A contender in a process of its own, connected and ready.
pub(crate) struct Talk<'a> {
    process: Process<'a>,
    timeout: Duration,
    runs: u64,
    kinds: Vec<Option<LogicalType>>,
    is_program: bool,
    modes: Vec<Mode>,
}

/// What came of a run.
pub(crate) struct Done {
    pub(crate) ran: Ran,
    /// Time from sending the request to its reply, by the runner's own clock.
    pub(crate) wall: Duration,
    /// The answers, one per parameter set.
    pub(crate) answers: Vec<Vec<Vec<Value>>>,
}

impl<'a> Talk<'a> {
    pub(crate) fn start(inbox: &'a Inbox, setup: &Setup<'_>, contest: &Contest, entry: &Entry) -> Result<Talk<'a>, Trouble> {
        let (program, arguments, folder, plan) = match &entry.way {
            EntryWay::Plan(plan) => {
                let own = OwnContender {
                    plan: (**plan).clone(),
                    settings: setup.settings.clone(),
                    parameters: contest.parameters.iter().map(|parameter| parameter.kind).collect(),
                    simulated_trip_ns: setup.simulated_trip.map_or(0, |trip| u64::try_from(trip.as_nanos()).unwrap_or(u64::MAX)),
                };
                let plan = serde_json::to_value(&own).map_err(|error| Trouble::NotStarted(error.to_string()))?;
                (setup.binary.clone(), vec!["contender".to_owned()], None, Some(plan))
            }
            EntryWay::Program(..) if setup.simulated_trip.is_some() => {
                return Err(Trouble::Refused("a round trip that is only simulated cannot be added to a program".to_owned()));
            }
            EntryWay::Program(words, folder) => {
                let (program, arguments) = words.split_first().ok_or_else(|| Trouble::NotStarted("its command is empty".to_owned()))?;
                (program.into(), arguments.to_vec(), Some(folder.clone()), None)
            }
        };
        let is_program = plan.is_none();
        let launch = Launch { program, arguments, folder, memory_limit: setup.memory_limit, core: setup.core };
        let process = Process::start(inbox, &launch)?;
        let kinds = contest.need.iter().flat_map(|need| &need.give).map(|given| Some(given.kind)).collect();
        let mut talk = Talk { process, timeout: setup.timeout, runs: 0, kinds, is_program, modes: Vec::new() };
        talk.process.send(&Request::Hello(Box::new(Hello {
            contest: contest.name.clone(),
            contender: entry.name.clone(),
            need: contest.need_text.clone(),
            engine: setup.engine.name().to_owned(),
            url: setup.url.clone(),
            tcp_url: setup.tcp_url.clone(),
            limits: Limits { memory_bytes: setup.memory_limit, run_ms: u64::try_from(setup.timeout.as_millis()).ok() },
            plan,
        })))?;
        match talk.process.receive(Instant::now() + setup.timeout, setup.timeout)? {
            Reply::Ready(ready) => talk.modes = ready.can,
            _ => return Err(Trouble::Broken("`ready` was expected first".to_owned())),
        }
        Ok(talk)
    }

    pub(crate) fn can(&self, mode: Mode) -> bool {
        self.modes.contains(&mode)
    }

    /// Carries out a run and waits for its end. The runner itself sleeps meanwhile.
    pub(crate) fn run(&mut self, mode: Mode, sets: &[Vec<Value>], passes: u64, calls_per_span: u64) -> Result<Done, Trouble> {
        self.runs += 1;
        let id = self.runs;
        let parameters: Vec<Vec<Json>> = sets.iter().map(|set| set.iter().map(|value| value_to_json(value.as_ref())).collect()).collect();
        let watch = self.is_program && mode == Mode::Count && self.process.reset_peak();
        let before = self.process.resident("VmRSS").filter(|_| watch);
        let start = Instant::now();
        self.process.send(&Request::Run(Run { id, mode, parameters, passes, calls_per_span }))?;
        let mut answers: Vec<Vec<Vec<Value>>> = vec![Vec::new(); sets.len()];
        loop {
            match self.process.receive(start + self.timeout, self.timeout)? {
                Reply::Rows(rows) if rows.id == id && rows.set < answers.len() => {
                    for row in &rows.rows {
                        let row = answer_row_from_json(row, &self.kinds).map_err(|error| Trouble::Broken(error.to_string()))?;
                        answers[rows.set].push(row);
                    }
                }
                Reply::Ran(mut ran) if ran.id == id => {
                    let wall = start.elapsed();
                    let peak = before.and_then(|before| Some(self.process.resident("VmHWM")?.saturating_sub(before)));
                    if let (Some(counts), Some(peak)) = (&mut ran.counts, peak)
                        && counts.heap_peak_bytes.is_none()
                    {
                        counts.heap_peak_bytes = Some(peak);
                    }
                    return Ok(Done { ran, wall, answers });
                }
                other => {
                    return Err(Trouble::Broken(format!("an answer to run {id} was expected, not {other:?}").chars().take(200).collect()));
                }
            }
        }
    }
}
