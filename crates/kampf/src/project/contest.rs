//! From a contest's texts to its field.

use std::collections::BTreeMap;
use std::path::Path;

use kampf_contest::{
    ByHand, Choice, Choices, Dialect, Expect, Field, Form, Given, Hydration, KeyedNeed, Leaf, Measure, Need, NeedPart, NeedText, Plan,
    derive, own_sql, resolve as resolve_need,
};
use kampf_runner::{Contest, Entry, EntryWay, FullerNeed, Job, KeyedContest, Program, ReadJob, more_than};
use kampf_schema::expr::{Expr, Node};
use kampf_schema::{Column, Schema, did_you_mean};
use kampf_verdict::Required;
use serde_json::json;

use super::config::ContestConfig;
use super::file::OwnSql;
use super::keys::wanted_keys;
use super::multiplied::Multiplied;
use super::own::OwnWay;
use super::parameters::parameters;
use super::sample::rows_taken;
use super::selected::{Selected, chosen, only, unmatched};
use super::variant::wanted_variants;
use super::writes;
use super::written::Written;
use super::{Project, need_part};
use crate::arguments::Selection;
use crate::problem::Problem;

/// A need over the keys of a variant.
struct OverKeys<'p> {
    schema: &'p Schema,
    need: Need,
    keys: KeyedNeed,
    field: Field,
}

/// Resolves a contest and picks its field.
pub(crate) fn resolve(project: &Project, config: &ContestConfig, selection: &Selection) -> Result<Selected, Problem> {
    if let Some(write) = &config.write {
        return writes::resolve(project, config, write, selection);
    }
    let need = need(project, config, &project.schema)?;
    let dialect = project.engine.dialect();
    let mut options = config.choices.clone();
    if config.page.is_some() || need.as_ref().is_some_and(|need| is_large(project, need)) {
        options.try_others(Choice::Fetch);
    }
    if !config.require.fresh {
        options.try_others(Choice::Cache);
    }
    let (wanted, mut lacking) = wanted_variants(project, config, selection)?;
    for variant in &wanted {
        options.label(Choice::Index.option(variant).ok_or_else(|| Problem::wrong(format!("`{variant}` cannot name a variant")))?);
    }
    let needs = needs_over_keys(project, config, selection, need.as_ref(), &mut lacking);
    needs.keys().filter_map(|name| Choice::Keys.option(name)).for_each(|option| options.label(option));
    let on_variant = |(name, (need, keys)): (String, (Need, KeyedNeed))| {
        let schema = &project.variant(&name)?.schema;
        let field = Field::of(schema, &need, dialect, &options);
        Some((name, OverKeys { schema, need, keys, field }))
    };
    let keyed: BTreeMap<String, OverKeys<'_>> = needs.into_iter().filter_map(on_variant).collect();
    let field = need.as_ref().map(|need| Field::of(&project.schema, need, dialect, &options)).unwrap_or_default();
    let entering = Entering { project, config, selection, field: &field, wanted: &wanted, keyed: &keyed };
    let mut held_back = Vec::new();
    let mut entries = need.as_ref().map(|need| entering.derived(need, &mut held_back, &mut lacking)).unwrap_or_default();
    let mut left_out = Vec::new();
    entries.extend(entering.own(need.as_ref(), &mut left_out)?);
    let all = entries.len();
    let unmatched = unmatched(selection, &field, &entries);
    only(selection, &mut entries);
    if entries.is_empty() {
        return Err(entering.nobody(all > 0));
    }
    let order_appended = need.iter().flat_map(|need| appended(project, need)).collect();
    let parameters = parameters(project, config, need.as_ref())?;
    let over_keys = |(name, OverKeys { schema, need, keys, field }): (String, OverKeys<'_>)| {
        let reference = reference(schema, &need, &field, dialect);
        (name, KeyedContest { need, reference, keys })
    };
    let contest = Contest {
        name: config.name.clone(),
        need_text: need_text(config),
        parameters,
        entries,
        job: Job::Read(Box::new(ReadJob {
            ordered: config.ordered,
            reference: need.as_ref().and_then(|need| reference(&project.schema, need, &field, dialect)),
            need,
            keyed: keyed.into_iter().map(over_keys).collect(),
        })),
    };
    Ok(Selected { contest, field, restriction: options, order_appended, left_out, held_back, unmatched, lacking })
}

/// What contenders are made from.
struct Entering<'a> {
    project: &'a Project,
    config: &'a ContestConfig,
    selection: &'a Selection,
    field: &'a Field,
    /// The variants of other indexes that they run on, and those of other keys.
    wanted: &'a [String],
    keyed: &'a BTreeMap<String, OverKeys<'a>>,
}

impl Entering<'_> {
    /// Those that follow from the need.
    fn derived(&self, need: &Need, held_back: &mut Vec<(String, String)>, lacking: &mut Vec<String>) -> Vec<Entry> {
        let Entering { project, config, selection, .. } = *self;
        let dialect = project.engine.dialect();
        let limits = [config.require.limit(Required::Count(Measure::HeapPeak)), selection.memory_limit.map(|limit| limit as f64)];
        let most_bytes = limits.into_iter().flatten().reduce(f64::min).unwrap_or(MOST_BYTES);
        let mut entries = Vec::new();
        for choices in &chosen(self.field, selection) {
            let variant = choices.variant().map(|label| label.to_string());
            let over = variant.as_ref().and_then(|name| self.keyed.get(name));
            // Engines tell less of some types than of others: which of two uuids is the larger one, say.
            if over.is_some_and(|over| !over.field.holds(choices)) {
                if !selection.all {
                    lacking.push(format!("without {choices}: it is not derived over such keys"));
                }
                continue;
            }
            let (schema, need) = over.map_or((&project.schema, need), |over| (over.schema, &over.need));
            let mut plan = derive(schema, need, dialect, choices);
            plan.manner.entries = project.config.entries.unwrap_or(plan.manner.entries);
            if let Some(multiplied) = multiplied(project, need, &plan)
                .filter(|multiplied| !selection.all && (multiplied.bytes > most_bytes || multiplied.is_out_of_proportion()))
            {
                held_back.push((choices.to_string(), multiplied.text()));
                continue;
            }
            let by_hand = Some(ByHand::of(choices, &plan, dialect));
            let way = EntryWay::Plan(Box::new(plan));
            entries.push(Entry { name: choices.to_string(), choices: Some(*choices), way, by_hand, variant });
        }
        entries
    }

    /// Those of the user's own.
    fn own(&self, need: Option<&Need>, left_out: &mut Vec<String>) -> Result<Vec<Entry>, Problem> {
        let Entering { project, config, selection, .. } = *self;
        let mut entries = Vec::new();
        for own in &config.contenders {
            // What keys are decides what its values are read as.
            let mut on_keys: Vec<(&String, EntryWay)> = Vec::new();
            let (way, by_hand) = match &own.way {
                OwnWay::Program(..) if selection.no_programs => continue,
                OwnWay::Program(words, environment) => {
                    let folder = Path::new(".").join(&project.folder);
                    (EntryWay::Program(Program { words: words.clone(), folder, environment: environment.clone() }), None)
                }
                OwnWay::Sql(texts, hydration, commit) => {
                    self.only_reads(texts, commit.is_some())?;
                    let Some(sql) = texts.of(project.engine.name()) else {
                        left_out.push(own.name.clone());
                        continue;
                    };
                    let plan = |need: Option<&Need>| self.own_plan(need, sql, *hydration);
                    for (name, over) in self.keyed.iter().filter(|_| selection.all) {
                        on_keys.push((name, EntryWay::Plan(Box::new(plan(Some(&over.need))?))));
                    }
                    let plan = plan(need)?;
                    let columns = plan.give.len();
                    (EntryWay::Plan(Box::new(plan)), Some(ByHand::of_sql(&sql.value, columns, *hydration)))
                }
            };
            // What somebody wrote is as good as its indexes too, but two of each for every variant are only worth it to who asks for all.
            let on_indexes = self.wanted.iter().filter(|_| selection.all).map(|variant| (variant, way.clone()));
            for (variant, way) in on_indexes.chain(on_keys) {
                let name = format!("{}@{variant}", own.name);
                entries.push(Entry { name, choices: None, way, by_hand, variant: Some(variant.clone()) });
            }
            entries.push(Entry { name: own.name.clone(), choices: None, way, by_hand, variant: None });
        }
        Ok(entries)
    }

    /// Refuses what only SQL that writes can say.
    fn only_reads(&self, sql: &OwnSql, has_commit: bool) -> Result<(), Problem> {
        let source = &self.project.config.source;
        let wrong = |span, what: String| Problem::wrong(what).at(source.place(span));
        if let Some((name, _)) = sql.by_table.first() {
            let known = did_you_mean(&name.value, kampf_engine::names());
            return Err(wrong(name.span, format!("there is no engine `{}`", name.value)).maybe_hint(known));
        }
        if let Some(more) = sql.more.first() {
            return Err(wrong(more.span, "one statement answers a need; several follow each other only where rows are written".to_owned())
                .hint("write one statement"));
        }
        match has_commit {
            true => Err(wrong(self.config.span, "`commit` says something of contests that write alone".to_owned()).hint("remove it")),
            false => Ok(()),
        }
    }

    fn own_plan(&self, need: Option<&Need>, sql: &Written, hydration: Hydration) -> Result<Plan, Problem> {
        let names: Vec<String> = self.config.parameters.iter().map(|(name, _)| name.clone()).collect();
        own_sql(need, &sql.value, &names, hydration).map_err(|error| {
            let place = self.project.config.source.place(sql.place(error.span));
            if error.name.starts_with(['?', '$']) {
                return Problem::wrong(format!("nothing is bound to `{}`", error.name))
                    .at(place)
                    .hint("a parameter is written by its name: `:name`; `kampf show` prints SQL that way");
            }
            Problem::wrong(format!("the parameter `:{}` has no value", error.name))
                .at(place)
                .hint(format!("give it one under [contest.{}.parameters]", self.config.name))
        })
    }

    /// What to say where nobody is left; the truth says whether there was anybody before names were asked for.
    fn nobody(&self, was_anybody: bool) -> Problem {
        let name = &self.config.name;
        if was_anybody {
            let problem = Problem::wrong(format!("no contender of `{name}` fits {}", self.selection.only.join(" or ")));
            return problem.hint(format!(
                "`kampf show {name} --all` lists them all; --only keeps some of those that enter, with --all of all; * stands for anything"
            ));
        }
        let header = |problem: Problem| problem.at(self.project.config.source.place(self.config.span));
        match self.field.not_derived.first() {
            Some(not) => header(Problem::wrong(format!("`{name}` has no contender: {}", not.reason)))
                .hint("leave [contest.….loading] and [contest.….choices] more to Kampf; `kampf show --all` tells of each"),
            None => header(Problem::wrong(format!("`{name}` has no contender")))
                .hint("give it a need (`from` and `give`), or SQL of your own under [contest.….contender.…]"),
        }
    }
}

impl Selected {
    /// What did not enter although it was asked for, in words.
    pub(crate) fn passed_over(&self, engine: &str) -> Vec<String> {
        let own = self.left_out.iter().map(|name| format!("`{name}` has no SQL for {engine} and is left out"));
        let unmatched = self.unmatched.iter().map(|(pattern, of_all)| match of_all {
            0 => format!("no contender fits --only {pattern}"),
            _ => format!("--only {pattern} fits none of those that enter; with --all it fits {of_all}"),
        });
        let held_back = self.held_back.iter().map(|(name, text)| format!("`{name}` enters only with --all: {text}"));
        own.chain(held_back).chain(unmatched).chain(self.lacking.iter().cloned()).collect()
    }
}

/// Bytes that a join may bring by estimate, where memory is limited neither by `require` nor by `--memory-limit`.
const MOST_BYTES: f64 = 1_073_741_824.0;

/// By how much the joins of a contender multiply rows.
pub(crate) fn multiplied(project: &Project, need: &Need, plan: &Plan) -> Option<Multiplied> {
    let is_cut = plan.limit.is_none() && plan.filter.is_none() && plan.group.is_none();
    Multiplied::of(project, plan, need.most().filter(|_| is_cut))
}

/// Answers of more rows are read in other ways too than all at once.
const MANY_ROWS: u64 = 10_000;

/// Whether the answer has many rows, as far as that is seen at once.
fn is_large(project: &Project, need: &Need) -> bool {
    let most = need.most().unwrap_or(u64::MAX).min(project.blueprint.rows(need.root()));
    most > MANY_ROWS && need.group.is_none() && rows_taken(project, need).is_some_and(|rows| rows.min(most) > MANY_ROWS)
}

/// A contest's need over the keys of each variant of these that is wanted, where it says the same over other keys; what is said of the others
/// goes to what is lacking.
fn needs_over_keys(
    project: &Project,
    config: &ContestConfig,
    selection: &Selection,
    need: Option<&Need>,
    lacking: &mut Vec<String>,
) -> BTreeMap<String, (Need, KeyedNeed)> {
    let (names, said) = wanted_keys(project, config, selection);
    lacking.extend(said);
    let mut keyed = BTreeMap::new();
    for name in names {
        let Some((variant, keys)) = project.variant(&name).and_then(|variant| Some((variant, variant.keys.as_ref()?))) else { continue };
        let over = match need {
            None => Err("own SQL alone competes, of which nobody knows what is a key in it".to_owned()),
            Some(need) if !keys.concern(&need.tables()) => Err("no such key is in the tables that it reads".to_owned()),
            Some(need) => {
                KeyedNeed::of(need, &keys.columns, &|value| need.said(&project.schema, value)).map_err(|why| format!("{why}, by its value"))
            }
        };
        match over {
            Ok(over) => match self::need(project, config, &variant.schema) {
                Ok(Some(need)) => drop(keyed.insert(name, (need, over))),
                Ok(None) => {}
                Err(problem) => lacking.push(format!("not raced over @{name}: {}", problem.message)),
            },
            Err(why) => lacking.push(format!("not raced over @{name}: {why}")),
        }
    }
    keyed
}

fn need(project: &Project, config: &ContestConfig, schema: &Schema) -> Result<Option<Need>, Problem> {
    let source = &project.config.source;
    let at_header = |problem: Problem| problem.at(source.place(config.span));
    let Some(from) = &config.from else {
        let stray = [
            !config.give.is_empty(),
            config.filter.is_some(),
            !config.order.is_empty(),
            config.limit.is_some(),
            config.group.is_some(),
            config.distinct,
            config.expect != Expect::Many,
        ];
        if stray.contains(&true) {
            return Err(
                at_header(Problem::wrong(format!("`{}` does not say from which table", config.name))).hint("add `from = \"table\"`")
            );
        }
        if config.contenders.len() < 2 {
            return Err(at_header(Problem::wrong(format!("`{}` has nothing to compare", config.name)))
                .hint("give it a need (`from` and `give`), or at least two contenders of your own"));
        }
        return Ok(None);
    };
    if config.give.is_empty() {
        return Err(at_header(Problem::wrong(format!("`{}` does not say what to give", config.name)))
            .hint("add `give = [\"column\", …]`: columns, paths like `strain.name`, aggregates like `count(inspection)`"));
    }
    let text = NeedText {
        from: from.value.clone(),
        give: config.give.iter().map(|give| give.value.clone()).collect(),
        filter: config.filter.as_ref().map(|filter| filter.value.clone()),
        group: config.group.as_ref().map(|group| group.iter().map(|term| term.value.clone()).collect()),
        distinct: config.distinct,
        expect: config.expect,
        order: config.order.iter().map(|order| order.value.clone()).collect(),
        limit: config.limit.map(|(limit, _)| limit),
        page: config.page,
        pages: config.pages,
        chunk: config.chunk.clone(),
        parameters: config.parameters.iter().map(|(name, _)| name.clone()).collect(),
        loading: config.loading.iter().map(|(path, loading)| (path.value.clone(), *loading)).collect(),
        always: project.always.clone(),
    };
    resolve_need(schema, &project.relations, &text).map(Some).map_err(|error| {
        let span = match (need_part(config, error.part), config.limit) {
            (Some(written), _) => written.place(error.span),
            (None, Some((_, limit))) if error.part == NeedPart::Limit => limit,
            _ => config.span,
        };
        Problem::wrong(error.message).at(source.place(span)).maybe_hint(error.hint)
    })
}

/// The need with its sort keys given too, then what says which root row it is, and a larger limit; with the leanest plan for it and the most
/// comfortable one.
fn reference(schema: &Schema, need: &Need, field: &Field, dialect: &Dialect) -> Option<FullerNeed> {
    let mut longer = need.clone();
    longer.limit = need.most().map(more_than);
    longer.expect = Expect::Many;
    for (at, by) in need.order.iter().enumerate() {
        let kind = need.kind_of(schema, &by.value);
        longer.give.push(Given { name: format!("sort key {}", at + 1), value: by.value.clone(), form: Form::Value(kind) });
    }
    let root = schema.table(need.root());
    let identity = if need.group.is_none() { root.primary_key.clone() } else { Vec::new() };
    for &column in &identity {
        let value = Expr::from(Node::Leaf(Leaf::Column { source: 0, column }));
        let Column { name, kind, .. } = &root.columns[column];
        longer.give.push(Given { name: format!("key {name}"), value, form: Form::Value(*kind) });
    }
    // A derived row may hold a column once that is given twice; the plan knows where each value is.
    let mut choices: Vec<Choices> = field.valid.last().into_iter().chain(field.valid.first()).copied().collect();
    choices.dedup();
    let plans: Vec<Plan> = choices.iter().map(|choices| derive(schema, &longer, dialect, choices)).collect();
    (!plans.is_empty()).then_some(FullerNeed { need: longer, plans, identity })
}

fn appended(project: &Project, need: &Need) -> Vec<String> {
    need.order.iter().filter(|by| by.appended).map(|by| need.said(&project.schema, &by.value)).collect()
}

fn need_text(config: &ContestConfig) -> serde_json::Value {
    json!({
        "from": config.from.as_ref().map(|from| &from.value),
        "give": config.give.iter().map(|give| &give.value).collect::<Vec<_>>(),
        "where": config.filter.as_ref().map(|filter| &filter.value),
        "group": config.group.as_ref().map(|group| group.iter().map(|term| &term.value).collect::<Vec<_>>()),
        "distinct": config.distinct,
        "expect": config.expect.word(),
        "order": config.order.iter().map(|order| &order.value).collect::<Vec<_>>(),
        "limit": config.limit.map(|(limit, _)| limit),
        "page": config.page,
        "pages": config.pages,
        "parameters": config.parameters.iter().map(|(name, _)| name).collect::<Vec<_>>(),
    })
}
