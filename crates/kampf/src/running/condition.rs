//! What a contest's condition takes of the rows, told from the generated rows without asking a database.

use kampf_contest::{Leaf, LeftPart, Need, RowSource, evaluate};
use kampf_engine::GeneratedRows;
use kampf_runner::{Checks, Contest, EntryWay};
use kampf_schema::Value;
use kampf_schema::expr::{Comparison, Expr, Node};

use crate::output::{count, percent};
use crate::project::{MOST_ROWS, Project, SAMPLE, Sampled, bare};

/// Which share of the rows a condition takes, over the parameter sets of the first round.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct TakenShare {
    table: String,
    least: f64,
    most: f64,
    /// Told from a sample.
    is_about: bool,
}

impl TakenShare {
    /// In a sentence.
    pub(crate) fn text(&self) -> String {
        let about = if self.is_about { "about " } else { "" };
        // Of a row by its key there is no share to speak of.
        if self.most > 0.0 && self.most < 0.0005 {
            return format!("The condition takes next to none of the rows of {}.", self.table);
        }
        let share = match (self.least, self.most) {
            (least, most) if percent(least) == percent(most) => percent(most),
            (least, most) => format!("{} to {}", percent(least), percent(most)),
        };
        format!("The condition takes {about}{share} of the rows of {}.", self.table)
    }

    /// The share as two numbers, the least and the most.
    pub(crate) fn shares(&self) -> (f64, f64) {
        (self.least, self.most)
    }
}

/// Which share of the rows a contest's condition takes. None where it has none, or where that would take long to tell.
pub(crate) fn taken(project: &Project, contest: &Contest) -> Option<TakenShare> {
    let need = contest.job.need().filter(|need| !need.filter.is_empty())?;
    let sets = contest.parameter_sets_of(&project.blueprint, project.race_seed, 0);
    let all = project.blueprint.rows(need.root());
    let leaves = need.filter.iter().flat_map(|part| part.condition.leaves());
    let is_own = leaves.into_iter().all(|leaf| matches!(leaf, Leaf::Column { source: 0, .. } | Leaf::Parameter(_)));
    let bare = bare(need);
    let read: u64 = bare.tables().into_iter().map(|table| project.blueprint.rows(table)).sum();
    let step = if is_own { all.div_ceil(SAMPLE).max(1) } else { 1 };
    if all == 0 || (!is_own && read.saturating_mul(sets.len() as u64) > MOST_ROWS) {
        return None;
    }
    let rows = Sampled { rows: GeneratedRows(&project.blueprint), root: need.root(), step };
    let share = |set: &Vec<Value>| {
        let taken = evaluate(&project.schema, &bare, &rows, set).ok()?.rows.len();
        Some(taken as f64 / rows.count(need.root()) as f64)
    };
    let shares: Vec<f64> = sets.iter().map(share).collect::<Option<_>>()?;
    Some(TakenShare {
        table: project.schema.table(need.root()).name.clone(),
        least: shares.iter().copied().fold(f64::INFINITY, f64::min),
        most: shares.iter().copied().fold(0.0, f64::max),
        is_about: step > 1,
    })
}

/// What an engine cannot say of a contest's need, so that the application does it, and what that costs in rows.
pub(crate) fn left_to_app(project: &Project, contest: &Contest) -> Vec<String> {
    let Some(need) = contest.job.need() else { return Vec::new() };
    let plans = contest.entries.iter().filter_map(|entry| match &entry.way {
        EntryWay::Plan(plan) => Some(plan),
        EntryWay::Write(_) | EntryWay::Program(_) => None,
    });
    let mut said: Vec<String> = Vec::new();
    for left in plans.flat_map(|plan| &plan.left) {
        let what = match left.what {
            LeftPart::Condition(part) => format!("`{}`", need.said(&project.schema, &need.filter[part].condition)),
            LeftPart::Order => "the order".to_owned(),
            LeftPart::Grouping => "grouping".to_owned(),
            LeftPart::Aggregate(at) => format!("`{}`", need.said(&project.schema, &Node::Leaf(Leaf::Aggregate(at)).into())),
            LeftPart::List(at) => format!("`{}`", need.said(&project.schema, &Node::Leaf(Leaf::List(at)).into())),
        };
        let cost = cost(project, contest, need, left.what).map_or(String::new(), |cost| format!("; {cost}"));
        let text = format!("{} is left to the application: {} {}{cost}.", what, project.engine.name(), left.why);
        if !said.contains(&text) {
            said.push(text);
        }
    }
    said
}

/// What it costs in rows that a part is left to the application, over the first parameter set.
fn cost(project: &Project, contest: &Contest, need: &Need, left: LeftPart) -> Option<String> {
    let name = |source: usize| &project.schema.table(need.sources[source].table).name;
    let mut rest = bare(need);
    match left {
        LeftPart::Condition(part) => {
            rest.filter.remove(part);
        }
        LeftPart::Aggregate(_) | LeftPart::List(_) => {
            let over = match left {
                LeftPart::List(at) => need.lists[at].over,
                LeftPart::Aggregate(at) => need.aggregates[at].over,
                _ => 0,
            };
            let rows = project.blueprint.rows(need.sources[over].table);
            return Some(format!("up to {} rows of {} are fetched for it", count(rows), name(over)));
        }
        LeftPart::Order if need.group.is_none() && need.most().is_none() => return None,
        LeftPart::Order | LeftPart::Grouping => {}
    }
    let rows = Sampled::few(project, need)?;
    let sets = contest.parameter_sets_of(&project.blueprint, project.race_seed, 0);
    let taken = |need: &Need| Some(evaluate(&project.schema, need, &rows, sets.first()?).ok()?.rows.len() as u64 * rows.step);
    let fetched = format!("about {} rows of {} are fetched for it", count(taken(&rest)?), name(0));
    Some(if need.group.is_some() {
        format!("{fetched}, to be grouped there")
    } else {
        let needed = taken(&bare(need))?.min(need.most().unwrap_or(u64::MAX));
        format!("{fetched}, of which {} are needed", count(needed))
    })
}

/// What to say of a contest whose answer is empty whatever was drawn: such a race says little about one that is not.
pub(crate) fn empty_answer(project: &Project, contest: &Contest, checks: &Checks) -> Option<String> {
    let answers = &checks.references;
    let says = |reference: &kampf_contest::Reference| {
        !reference.answer(contest.job.limit()).is_empty() || reference.came(contest.job.limit()).is_some()
    };
    if answers.is_empty() || answers.iter().any(says) {
        return None;
    }
    let sets = match answers.len() {
        1 => String::new(),
        sets => format!(" with all {sets} parameter sets"),
    };
    let mut said = Vec::new();
    if let Some(need) = contest.job.need() {
        if project.blueprint.rows(need.root()) == 0 {
            said.push(format!("{} has no rows", project.schema.table(need.root()).name));
        }
        let drawn = contest.parameter_sets_of(&project.blueprint, project.race_seed, 0);
        need.filter.iter().for_each(|part| ranges(project, need, &part.condition, &drawn, &mut said));
    }
    let why = if said.is_empty() { String::new() } else { format!(": {}", said.join("; ")) };
    Some(format!("the answer is empty{sets}{why}"))
}

/// Where the columns of a condition lie, and what is asked of them.
fn ranges(project: &Project, need: &Need, condition: &Expr<Leaf>, drawn: &[Vec<Value>], said: &mut Vec<String>) {
    let asked = |operand: &Expr<Leaf>| match &operand.node {
        Node::Literal(value) => Some(value.clone()),
        Node::Leaf(Leaf::Parameter(at)) => drawn.first().and_then(|set| set.get(*at).cloned()),
        _ => None,
    };
    let mut say = |leaf: &Leaf, asked: Option<(Comparison, Value)>| {
        let Some((name, low, high)) = range(project, need, leaf) else { return };
        let what = asked.and_then(|(comparison, value)| nothing(comparison, &value, &low, &high));
        let what = what.map_or(String::new(), |what| format!("; {what}"));
        let (low, high) = (shown(&low), shown(&high));
        let text = if low == high { format!("{name} is always {low}{what}") } else { format!("{name} goes from {low} to {high}{what}") };
        if !said.contains(&text) {
            said.push(text);
        }
    };
    match &condition.node {
        Node::And(parts) | Node::Or(parts) => parts.iter().for_each(|part| ranges(project, need, part, drawn, said)),
        Node::Compare(comparison, left, right) if left.as_leaf().is_some() => {
            if let Some(leaf) = left.as_leaf() {
                say(leaf, asked(right).map(|value| (*comparison, value)));
            }
        }
        _ => condition.leaves().into_iter().for_each(|leaf| say(leaf, None)),
    }
}

/// What of a column's values a comparison asks for in vain, where its range says so.
fn nothing(comparison: Comparison, value: &Value, low: &Value, high: &Value) -> Option<String> {
    let is_below = |one: &Value, other: &Value| one.as_ref().order(other.as_ref()).is_lt();
    let (below_all, above_all, text) = (is_below(value, low), is_below(high, value), shown(value));
    match comparison {
        Comparison::Greater if !is_below(value, high) => Some(format!("nothing is above {text}")),
        Comparison::GreaterOrEqual if above_all => Some(format!("nothing is {text} or above")),
        Comparison::Less if !is_below(low, value) => Some(format!("nothing is below {text}")),
        Comparison::LessOrEqual if below_all => Some(format!("nothing is {text} or below")),
        Comparison::Equal if below_all || above_all => Some(format!("none is {text}")),
        _ => None,
    }
}

/// The smallest and the largest value of a column, over a sample of its rows.
fn range(project: &Project, need: &Need, leaf: &Leaf) -> Option<(String, Value, Value)> {
    let Leaf::Column { source, column } = leaf else { return None };
    let table = need.sources[*source].table;
    let rows = project.blueprint.rows(table);
    let step = rows.div_ceil(SAMPLE).max(1);
    let values = (0..rows).step_by(usize::try_from(step).ok()?).map(|row| project.blueprint.value(table, row, *column));
    let mut ends: Option<(Value, Value)> = None;
    for value in values.filter(|value| *value != Value::Null) {
        ends = Some(match ends {
            None => (value.clone(), value),
            Some((low, high)) if value.as_ref().order(low.as_ref()).is_lt() => (value, high),
            Some((low, high)) if value.as_ref().order(high.as_ref()).is_gt() => (low, value),
            Some(ends) => ends,
        });
    }
    let (low, high) = ends?;
    let model = project.schema.table(table);
    let name = match source {
        0 => model.columns[*column].name.clone(),
        _ => format!("{}.{}", model.name, model.columns[*column].name),
    };
    Some((name, low, high))
}

/// A value as people read it.
fn shown(value: &Value) -> String {
    match value {
        Value::Integer(number) if *number >= 0 => count(number.unsigned_abs()),
        Value::Text(text) => format!("'{}'", text.chars().take(24).collect::<String>()),
        other => other.to_string(),
    }
}
