//! Talking to one contender.

use std::time::{Duration, Instant};

use kampf_contest::{Answer, Form, answer_row_from_json, value_to_json};
use kampf_protocol::{Hello, Limits, Mode, NewRows, Reply, Request, Run};
use kampf_schema::{TableId, Value};
use serde_json::Value as Json;

use super::environment::cleaned;
use super::inbox::Inbox;
use super::process::{Launch, Process};
use crate::contender::{OwnContender, OwnTask};
use crate::contest::{Contest, Entry, EntryWay, Program, Setup};
use crate::policy::{Done, RunOrder};
use crate::trouble::Trouble;

/// A contender in a process of its own, connected and ready.
pub(crate) struct Talk<'a> {
    process: Process<'a>,
    timeout: Duration,
    /// The same for answers.
    longest: Duration,
    runs: u64,
    forms: Vec<Form>,
    is_program: bool,
    modes: Vec<Mode>,
    /// What the next run puts in.
    new_rows: Vec<NewRows>,
    /// Processor time of a program when its last run had ended.
    used_ns: Option<u64>,
}

/// Whether more rows of an answer are wanted.
pub(crate) use kampf_contest::Flow;

/// Takes rows as they come: the place of the parameter set, and a part of its answer.
pub(crate) type TakeRows<'t> = &'t mut dyn FnMut(usize, Answer) -> Result<Flow, Trouble>;

/// What a contender of Kampf's own is told to carry out; none of a program.
fn task(setup: &Setup<'_>, contest: &Contest, entry: &Entry) -> Option<OwnTask> {
    match (&entry.way, contest.job.write(), setup.scratch) {
        (EntryWay::Plan(plan), ..) => {
            Some(OwnTask::Read { plan: plan.clone(), is_own_sql: entry.choices.is_none(), hit_rate: setup.hit_rate })
        }
        (EntryWay::Write(plan), Some(job), Some(scratch)) => {
            let columns = |table: TableId| setup.schema.table(table).columns.iter().map(|column| column.kind).collect();
            let touched = job.touched.iter().map(|&table| setup.schema.table(table).name.clone()).collect();
            let new = job.write.new_tables().into_iter().map(|(table, _)| columns(table)).collect();
            Some(OwnTask::Write { plan: plan.clone(), new, touched, durable: scratch.durable })
        }
        _ => None,
    }
}

impl<'a> Talk<'a> {
    pub(crate) fn start(inbox: &'a Inbox, setup: &Setup<'_>, contest: &Contest, entry: &Entry) -> Result<Talk<'a>, Trouble> {
        Talk::of_forms(inbox, setup, contest, entry, contest.job.forms_on(entry.variant.as_deref()))
    }

    /// The same with one that gives values of some forms.
    pub(crate) fn of_forms(
        inbox: &'a Inbox,
        setup: &Setup<'_>,
        contest: &Contest,
        entry: &Entry,
        forms: Vec<Form>,
    ) -> Result<Talk<'a>, Trouble> {
        let deadline = Instant::now() + setup.timeout;
        let place = setup.place_of(entry).ok_or_else(|| Trouble::NotStarted("the data of its variant was not loaded".to_owned()))?;
        if contest.job.write().is_some() && setup.scratch.is_none() {
            return Err(Trouble::NotStarted("there is no copy of the data to write to".to_owned()));
        }
        let (url, tcp_url) = (place.url.clone(), place.tcp_url.clone());
        let mut plan = None;
        let launch = match &entry.way {
            EntryWay::Plan(_) | EntryWay::Write(_) => {
                let task = task(setup, contest, entry).ok_or_else(|| Trouble::NotStarted("it has nothing to carry out".to_owned()))?;
                let own = OwnContender {
                    task,
                    settings: setup.settings.clone(),
                    parameters: contest.kinds_on(entry.variant.as_deref()),
                    simulated_trip_ns: setup.simulated_trip.map_or(0, |trip| u64::try_from(trip.as_nanos()).unwrap_or(u64::MAX)),
                };
                plan = Some(serde_json::to_value(&own).map_err(|error| Trouble::NotStarted(error.to_string()))?);
                Launch {
                    program: setup.binary.clone(),
                    arguments: vec!["contender".into()],
                    folder: None,
                    environment: cleaned(std::env::vars_os(), &[]),
                    memory_limit: setup.memory_limit,
                    core: setup.core,
                    warden: None,
                }
            }
            EntryWay::Program(..) if setup.simulated_trip.is_some() => {
                return Err(Trouble::Refused("a round trip that is only simulated cannot be added to a program".to_owned()));
            }
            EntryWay::Program(Program { words, folder, environment }) => {
                let (program, arguments) = words.split_first().ok_or_else(|| Trouble::NotStarted("its command is empty".to_owned()))?;
                Launch {
                    program: program.into(),
                    arguments: arguments.iter().map(Into::into).collect(),
                    folder: Some(folder.clone()),
                    environment: cleaned(std::env::vars_os(), environment),
                    memory_limit: setup.memory_limit,
                    core: setup.core,
                    warden: Some(setup.binary.clone()),
                }
            }
        };
        let is_program = plan.is_none();
        let process = Process::start(inbox, &launch, deadline)?;
        let mut talk = Talk {
            process,
            timeout: setup.timeout,
            longest: setup.timeout,
            runs: 0,
            forms,
            is_program,
            modes: Vec::new(),
            new_rows: Vec::new(),
            used_ns: None,
        };
        let hello = Hello {
            contest: contest.name.clone(),
            contender: entry.name.clone(),
            need: contest.need_text.clone(),
            engine: setup.engine.name().to_owned(),
            url,
            tcp_url,
            limits: Limits { memory_bytes: setup.memory_limit, run_ms: u64::try_from(setup.timeout.as_millis()).ok() },
            plan,
        };
        talk.process.send(&Request::Hello(Box::new(hello)), deadline, setup.timeout)?;
        match talk.process.receive(deadline, setup.timeout)? {
            Reply::Ready(ready) => talk.modes = ready.can,
            _ => return Err(Trouble::Broken("`ready` was expected first".to_owned())),
        }
        Ok(talk)
    }

    /// How long its answers may take from now on; as long as anything else where nothing is said.
    pub(crate) fn answers_within(&mut self, longest: Option<Duration>) {
        self.longest = longest.map_or(self.timeout, |longest| longest.min(self.timeout));
    }

    /// What it can do, as it says.
    pub(crate) fn modes(&self) -> &[Mode] {
        &self.modes
    }

    /// Carries out a run that gives no rows and waits for its end. The runner itself sleeps meanwhile.
    pub(crate) fn run(&mut self, asked: RunOrder<'_>) -> Result<Done, Trouble> {
        let none = &mut |_, _| Err(Trouble::Broken("rows came in a run that asks for none".to_owned()));
        let done = self.carry_out(asked, none)?;
        done.ok_or_else(|| Trouble::Broken("a run was left".to_owned()))
    }

    /// Has it write once, for one parameter set.
    pub(crate) fn write(&mut self, mode: Mode, set: &[Value], new_rows: Vec<NewRows>) -> Result<Done, Trouble> {
        self.new_rows = new_rows;
        let sets = [set.to_vec()];
        let done = self.run(RunOrder { mode, sets: &sets, passes: 1, calls_per_span: 1 });
        self.new_rows = Vec::new();
        done
    }

    /// Has it stand still until it is asked for something again.
    pub(crate) fn halt(&mut self) {
        self.process.halt();
    }

    /// Asks for the answers to all sets and hands rows on as they come, in the order of the sets. Nothing is asked of the contender
    /// after one that was not wanted to its end.
    pub(crate) fn answers(&mut self, sets: &[Vec<Value>], take: TakeRows<'_>) -> Result<(), Trouble> {
        self.carry_out(RunOrder { mode: Mode::Answer, sets, passes: 1, calls_per_span: 1 }, take).map(|_| ())
    }

    fn carry_out(
        &mut self,
        RunOrder { mode, sets, passes, calls_per_span }: RunOrder<'_>,
        take: TakeRows<'_>,
    ) -> Result<Option<Done>, Trouble> {
        self.runs += 1;
        let id = self.runs;
        let parameters: Vec<Vec<Json>> = sets.iter().map(|set| set.iter().map(|value| value_to_json(value.as_ref())).collect()).collect();
        let watch = self.is_program && mode == Mode::Count && self.process.reset_peak();
        let before = self.process.resident("VmRSS").filter(|_| watch);
        let used_ns = if self.is_program { self.process.processor_ns() } else { None };
        let idle_ns = used_ns.zip(self.used_ns).map(|(now, then)| now.saturating_sub(then));
        self.process.go_on();
        let start = Instant::now();
        let limit = if mode == Mode::Answer { self.longest } else { self.timeout };
        let deadline = start + limit;
        let new_rows = std::mem::take(&mut self.new_rows);
        self.process.send(&Request::Run(Run { id, mode, parameters, passes, calls_per_span, new_rows }), deadline, limit)?;
        let mut last = 0;
        loop {
            match self.process.receive(deadline, limit)? {
                Reply::Rows(rows) if rows.id == id && (last..sets.len()).contains(&rows.set) => {
                    last = rows.set;
                    let read = |row: &Vec<Json>| answer_row_from_json(row, &self.forms).map_err(|error| Trouble::Broken(error.to_string()));
                    let part = Answer { rows: rows.rows.iter().map(read).collect::<Result<_, _>>()?, came: rows.came };
                    if take(rows.set, part)? == Flow::Stop {
                        return Ok(None);
                    }
                }
                Reply::Rows(rows) if rows.id == id && rows.set < last => {
                    return Err(Trouble::Broken(format!("rows of set {} came after rows of set {last}; send the sets in order", rows.set)));
                }
                Reply::Ran(ran) if ran.id == id => {
                    let wall = start.elapsed();
                    let growth = before.and_then(|before| Some(self.process.resident("VmHWM")?.saturating_sub(before)));
                    self.used_ns = if self.is_program { self.process.processor_ns() } else { None };
                    return Ok(Some(Done { ran, wall, idle_ns, growth }));
                }
                other => {
                    return Err(Trouble::Broken(format!("an answer to run {id} was expected, not {other:?}").chars().take(200).collect()));
                }
            }
        }
    }
}
