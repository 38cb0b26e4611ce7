//! `kampf race --self-test`: does the race tell apart what is equal, and does it find what is not?

use std::time::Duration;

use kampf_contest::{Hydration, own_sql};
use kampf_engine::{Connection, Effort};
use kampf_race::{Finding, Interval, Standing, share_interval};
use kampf_result::Circumstance;
use kampf_runner::{Contest, Entry, EntryWay, Event, Inbox, Job, RaceReport, Setup};
use kampf_schema::TableId;
use serde_json::json;

use super::interrupts::{heed, inbox};
use super::{Ending, Teller, print, print_json, say};
use crate::arguments::{Format, General, Race};
use crate::output::{Column, Look, Page, count, interval, one_line, paint, percent, share};
use crate::problem::Problem;
use crate::project::{Project, resolve};
use crate::running::{Arrangement, Disturbance, RaceRules, filled_with, open, race_alone, setup};
use crate::store::engine_problem;

/// Names that the same SQL is entered under.
const NAMES: usize = 12;
/// Shares of rows that are added for the planted differences.
const PLANTED: [f64; 3] = [0.05, 0.10, 0.30];
/// Rows that the planted read begins with, where there are so many.
const MOST_ROWS: u64 = 40_000;
/// With fewer rows a call is over before there is anything to measure.
const LEAST_ROWS: u64 = 1_000;
/// A planted difference of 5 % could never be found at a margin of 5 %.
const MARGIN: f64 = 0.02;
/// Time for the rounds of a race where none is given.
const TIME: Duration = Duration::from_secs(60);
/// The chance that a printed share lies outside its interval.
const ALPHA: f64 = 0.05;

/// What came of the races between equals.
struct Equals {
    contest: String,
    contender: String,
    races: u64,
    /// Races in which any was told from the leader.
    separated: u64,
    rounds: Vec<usize>,
    /// Races that found all of them tied.
    tied: u64,
    noise: Option<f64>,
}

/// What came of the races with planted differences.
struct Planted {
    table: String,
    rows: u64,
    races: u64,
    kinds: Vec<Kind>,
    unit: &'static str,
}

/// One planted difference.
struct Kind {
    added: f64,
    /// The true ratio of work, by the database's own counter.
    work: f64,
    found: u64,
    /// Measured ratios, with the interval where there was one.
    measured: Vec<(f64, Option<Interval>)>,
}

pub(super) fn run(general: &General, arguments: &Race) -> Result<Ending, Problem> {
    if general.engine.as_deref() == Some("all") {
        return Err(Problem::wrong("a self-test runs on one engine").hint("name it: --engine sqlite"));
    }
    let inbox = inbox()?;
    let hear = &mut Teller::of(general);
    let mut project = open(general, general.engine.as_deref(), hear)?;
    project.race_seed = arguments.seed.unwrap_or(project.race_seed);
    let configs = project.contests(&arguments.contests)?;
    let config = configs.first().ok_or_else(|| Problem::wrong("there is no contest"))?;
    let selected = resolve(&project, config, &arguments.selection)?.contest;
    let dataset = filled_with(&project, &[], hear)?;
    heed(&inbox)?;
    let mut setup = setup(&project, &dataset, &arguments.bounds)?;
    let is_pinned = arguments.pin || project.config.pin;
    let circumstance = Circumstance { engine: project.engine.name().to_owned(), is_pinned, ..Circumstance::default() };
    // Kept until the end: it holds what was arranged.
    let _arrangement = Arrangement::of(&circumstance, &project, &dataset, &mut setup)?;
    let _disturbance = arguments.disturbed.then(Disturbance::begins).transpose()?;
    let test = SelfTest { general, arguments, inbox: &inbox, setup: &setup };
    let equals = test.equals(&selected)?;
    let connection = project.engine.connect(&setup.place.url, &project.settings).map_err(|error| engine_problem(&error))?;
    let planted = if inbox.is_interrupted() { None } else { test.planted(&project, connection.as_ref())? };
    drop(connection);
    dataset.verify()?;
    if general.format == Format::Json {
        print_json(&format!("{:#}", as_json(&equals, planted.as_ref())))?;
    } else {
        let mut page = Page::new();
        equals_text(&mut page, &equals);
        match &planted {
            Some(planted) => planted_text(&mut page, planted),
            None => page.paragraph("No differences were planted: no table has a thousand rows, or it was interrupted.", 2),
        }
        print(&page.into_text())?;
    }
    Ok(if inbox.is_interrupted() { Ending::Failed } else { Ending::Done })
}

struct SelfTest<'a> {
    general: &'a General,
    arguments: &'a Race,
    inbox: &'a Inbox,
    setup: &'a Setup<'a>,
}

impl SelfTest<'_> {
    /// Races a field once. Each race has a seed of its own.
    fn race(&self, contest: &Contest, number: u64) -> Result<RaceReport, Problem> {
        let rules = RaceRules::exact(self.arguments.margin.unwrap_or(MARGIN), self.arguments.rounds as usize);
        let (time, seed) = (self.arguments.time.unwrap_or(TIME), self.setup.seed.wrapping_add(number));
        race_alone((self.inbox, self.setup), contest, &rules, (time, seed), &mut |event| {
            if let Event::Failed(name, reason) = event {
                say(self.general.quiet, &format!("{name}: {}", one_line(&reason)));
            }
        })
    }

    /// Races a field as often as asked for, and gives how many races came to their end: unfinished ones say nothing about a whole
    /// race.
    fn races(&self, field: &Contest, mut take: impl FnMut(u64, &RaceReport)) -> Result<u64, Problem> {
        for number in 0..u64::from(self.arguments.races) {
            if self.inbox.is_interrupted() {
                return Ok(number);
            }
            let report = self.race(field, number)?;
            if report.interrupted {
                return Ok(number);
            }
            take(number, &report);
        }
        Ok(u64::from(self.arguments.races))
    }

    /// The leanest contender under many names.
    fn equals(&self, contest: &Contest) -> Result<Equals, Problem> {
        let entry = contest.entries.iter().rfind(|entry| entry.keeps_nothing()).or(contest.entries.last());
        let entry = entry.ok_or_else(|| Problem::wrong(format!("`{}` has no contender", contest.name)))?;
        let entries = (1..=NAMES).map(|number| Entry { name: format!("same-{number}"), ..entry.clone() }).collect();
        let field = Contest { entries, ..contest.clone() };
        let mut equals = Equals {
            contest: contest.name.clone(),
            contender: entry.name.clone(),
            races: 0,
            separated: 0,
            rounds: Vec::new(),
            tied: 0,
            noise: None,
        };
        let of = self.arguments.races;
        equals.races = self.races(&field, |number, report| {
            let standings = report.race.standings();
            let apart: Vec<&Standing> = standings.iter().filter(|standing| is_told_apart(standing.finding)).collect();
            let separated = apart.len();
            equals.separated += u64::from(separated > 0);
            equals.tied += u64::from(report.race.is_decided() && separated == 0);
            equals.rounds.push(report.race.rounds());
            equals.noise = equals.noise.or(report.race.noise());
            let names = apart.iter().map(|standing| {
                let gap = standing.gap.map_or(String::new(), |gap| format!(" {}", share(gap.ratio - 1.0)));
                format!("{}{gap}", report.entrants[standing.contender].name)
            });
            let names = names.collect::<Vec<_>>().join(", ");
            let told = if separated > 0 { format!("{separated} told apart ({names})") } else { "none told apart".to_owned() };
            say(self.general.quiet, &format!("equals, race {} of {of}: {} rounds, {told}", number + 1, report.race.rounds()));
        })?;
        Ok(equals)
    }

    /// The same read over more rows. None where there is no table with enough.
    fn planted(&self, project: &Project, connection: &dyn Connection) -> Result<Option<Planted>, Problem> {
        let Some(table) = project.schema.ids().max_by_key(|&table| project.blueprint.rows(table)) else { return Ok(None) };
        let most = PLANTED.iter().copied().fold(0.0, f64::max);
        let rows = ((project.blueprint.rows(table) as f64 / (1.0 + most)) as u64).min(MOST_ROWS);
        if rows < LEAST_ROWS {
            return Ok(None);
        }
        let sql: Vec<String> =
            [0.0].iter().chain(&PLANTED).map(|added| read(project, table, (rows as f64 * (1.0 + added)).round() as u64)).collect();
        let work =
            sql.iter().map(|sql| connection.work_of(sql)).collect::<Result<Vec<Effort>, _>>().map_err(|error| engine_problem(&error))?;
        let kind = |(added, work_of): (f64, &Effort)| Kind { added, work: work_of.amount / work[0].amount, found: 0, measured: Vec::new() };
        let mut planted = Planted {
            table: project.schema.table(table).name.clone(),
            rows,
            races: 0,
            kinds: PLANTED.into_iter().zip(&work[1..]).map(kind).collect(),
            unit: work[0].unit,
        };
        let field = field(&sql)?;
        let of = self.arguments.races;
        planted.races = self.races(&field, |number, report| {
            let standings = report.race.standings();
            let mut found = Vec::new();
            for (at, kind) in planted.kinds.iter_mut().enumerate() {
                let Some(standing) = standings.iter().find(|standing| standing.contender == at + 1) else { continue };
                // Against another leader than the one with fewest rows a ratio says nothing about what was planted.
                kind.measured.extend(standing.gap.filter(|gap| gap.leader == 0).map(|gap| (gap.ratio, gap.interval)));
                if is_told_apart(standing.finding) {
                    kind.found += 1;
                    found.push(share(kind.added));
                }
            }
            let found = if found.is_empty() { "nothing".to_owned() } else { found.join(", ") };
            say(self.general.quiet, &format!("planted, race {} of {of}: {} rounds, found {found}", number + 1, report.race.rounds()));
        })?;
        Ok(Some(planted))
    }
}

/// Whether a contender was told from the leader.
fn is_told_apart(finding: Finding) -> bool {
    matches!(finding, Finding::Slower | Finding::Outclassed)
}

/// A statement that reads so many rows of a table and gives the same answer whatever they are.
fn read(project: &Project, table: TableId, rows: u64) -> String {
    let quote = project.engine.dialect().quote;
    let table = project.schema.table(table);
    let last = table.columns.last().map(|column| quote(&column.name)).unwrap_or_default();
    let from = quote(&table.name);
    format!("SELECT sum(CASE WHEN read.it IS NULL THEN 0 ELSE 0 END) AS zero FROM (SELECT {last} AS it FROM {from} LIMIT {rows}) AS read")
}

fn field(sql: &[String]) -> Result<Contest, Problem> {
    let entry = |(at, sql): (usize, &String)| {
        let plan = own_sql(None, sql, &[], Hydration::Record)
            .map_err(|error| Problem::wrong(format!("the parameter `:{}` has no value", error.name)))?;
        Ok(Entry { name: format!("read-{}", at + 1), choices: None, way: EntryWay::Plan(Box::new(plan)), by_hand: None, variant: None })
    };
    Ok(Contest {
        name: "planted".to_owned(),
        job: Job::Read(Box::default()),
        need_text: serde_json::Value::Null,
        parameters: Vec::new(),
        entries: sql.iter().enumerate().map(entry).collect::<Result<_, Problem>>()?,
    })
}

fn equals_text(page: &mut Page, equals: &Equals) {
    page.line(paint(Look::Title, "Are equals told apart?"));
    page.paragraph(
        &format!(
            "{} of {} was entered under {NAMES} names: whoever is called slower is called so wrongly.",
            equals.contender, equals.contest
        ),
        2,
    );
    if equals.races == 0 {
        page.paragraph("No race came to its end.", 2);
        return;
    }
    let sure = share_interval(equals.separated, equals.races, ALPHA);
    let look = if equals.separated == 0 { Look::Good } else { Look::Bad };
    page.paragraph(
        &format!(
            "  {} of {} races told any of them apart; the true share is {} to {} (95 %).",
            paint(look, &equals.separated.to_string()),
            equals.races,
            percent(sure.low),
            percent(sure.high)
        ),
        4,
    );
    let rounds = kampf_race::median(&equals.rounds.iter().map(|&rounds| rounds as f64).collect::<Vec<_>>()).unwrap_or(0.0);
    let noise = equals.noise.map(|noise| format!("; one run varies by {}", percent(noise))).unwrap_or_default();
    page.paragraph(&format!("  {} of them found all twelve tied. {} rounds a race{noise}.", equals.tied, count(rounds as u64)), 4);
    page.paragraph(&format!("  What the design promises: at most {} of races, whatever the noise.", percent(ALPHA)), 4);
    page.blank();
}

fn planted_text(page: &mut Page, planted: &Planted) {
    page.line(paint(Look::Title, "Are differences found?"));
    page.paragraph(
        &format!(
            "The same read over more rows of {} (from {} on); the true work is what the database itself counts, in {}.",
            planted.table,
            count(planted.rows),
            planted.unit
        ),
        2,
    );
    let columns = [
        Column::right("  rows"),
        Column::right("true work"),
        Column::right("found in"),
        Column::right("measured"),
        Column::right("surely, first race"),
    ];
    let rows: Vec<_> = planted
        .kinds
        .iter()
        .map(|kind| {
            let ratios: Vec<f64> = kind.measured.iter().map(|(ratio, _)| *ratio).collect();
            let measured = kampf_race::median(&ratios).map_or_else(|| "-".to_owned(), |ratio| share(ratio - 1.0));
            let sure =
                kind.measured.first().and_then(|(_, sure)| *sure).map_or_else(|| "-".to_owned(), |sure| interval(sure.low, sure.high));
            let look = if kind.found == planted.races { Look::Good } else { Look::Plain };
            vec![
                (Look::Strong, format!("  {}", share(kind.added))),
                (Look::Plain, share(kind.work - 1.0)),
                (look, format!("{} of {} races", kind.found, planted.races)),
                (Look::Plain, measured),
                (Look::Quiet, sure),
            ]
        })
        .collect();
    page.table(&columns, &rows);
    page.blank();
}

fn as_json(equals: &Equals, planted: Option<&Planted>) -> serde_json::Value {
    let sure = share_interval(equals.separated, equals.races, ALPHA);
    let planted = planted.map(|planted| {
        let kinds: Vec<_> = planted
            .kinds
            .iter()
            .map(|kind| {
                let measured: Vec<_> = kind
                    .measured
                    .iter()
                    .map(|(ratio, sure)| json!({"ratio": ratio, "low": sure.map(|sure| sure.low), "high": sure.map(|sure| sure.high)}))
                    .collect();
                json!({"rows": 1.0 + kind.added, "work": kind.work, "found": kind.found, "measured": measured})
            })
            .collect();
        json!({"table": planted.table, "rows": planted.rows, "races": planted.races, "counter": planted.unit, "differences": kinds})
    });
    json!({
        "format": "kampf-self-test", "version": 1, "kampf": env!("CARGO_PKG_VERSION"),
        "equals": {
            "contest": equals.contest, "contender": equals.contender, "names": NAMES, "races": equals.races, "separated": equals.separated,
            "low": sure.low, "high": sure.high, "tied": equals.tied, "rounds": equals.rounds, "noise": equals.noise,
        },
        "planted": planted,
    })
}
