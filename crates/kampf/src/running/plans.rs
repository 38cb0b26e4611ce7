//! What engines mean to do with the statements of contenders.

use kampf_contest::{EngineError, Execution, IndexCandidate, QueryPlan, Touch, bare_references, candidates};
use kampf_runner::{Contest, Entry, EntryWay, Setup};
use kampf_schema::{HopKind, Index, Schema, ValueRef};

use crate::output::{PlanTelling, list, reference_text};
use crate::project::Project;

/// What plans of a contest's statements are told with.
pub(crate) struct Planning<'p> {
    schema: &'p Schema,
    candidates: Vec<IndexCandidate>,
    rows: RowsOf<'p>,
}

/// How many rows a table has.
type RowsOf<'p> = Box<dyn Fn(&str) -> Option<u64> + 'p>;

/// What plans of a contest's statements are told with.
pub(crate) fn planning<'p>(project: &'p Project, contest: &Contest) -> Planning<'p> {
    // The most telling first: what a plan lacks is seldom the reference alone.
    let bare = bare_references(&project.schema);
    let is_bare =
        |one: &IndexCandidate| bare.iter().any(|(table, columns)| *table == one.table && one.index == Index::of(columns.iter().copied()));
    let of_need = |need| {
        let mut all = candidates(&project.schema, need, project.engine.dialect());
        all.sort_by_key(is_bare);
        all
    };
    Planning {
        schema: &project.schema,
        candidates: contest.job.need().map(of_need).unwrap_or_default(),
        rows: Box::new(|table| project.schema.find(table).map(|table| project.blueprint.rows(table))),
    }
}

/// The references that a contest goes along and that have no index, in a sentence.
pub(crate) fn without_index(project: &Project, contest: &Contest) -> Option<String> {
    let bare = bare_references(&project.schema);
    let hops = contest.job.need().into_iter().flat_map(|need| &need.sources).filter_map(|source| source.hop.as_ref());
    let along = hops.filter(|hop| hop.kind == HopKind::Many).map(|hop| (hop.to, hop.to_columns.clone()));
    let mut said: Vec<String> = along.filter(|one| bare.contains(one)).map(|one| reference_text(&project.schema, &one)).collect();
    said.sort_unstable();
    said.dedup();
    (!said.is_empty()).then(|| format!("Without an index: {}. `--index derived` tries some.", list(&said)))
}

impl Planning<'_> {
    pub(crate) fn telling(&self) -> PlanTelling<'_> {
        PlanTelling { schema: self.schema, rows: &self.rows, candidates: &self.candidates }
    }
}

/// A statement of a contender, the first of its shape, with what an engine means to do with it.
pub(crate) struct Planned {
    pub(crate) shape: String,
    /// Rows that the first one gave.
    pub(crate) answer: f64,
    pub(crate) plan: QueryPlan,
}

/// The statements of a call of a contender over the first parameters, those of one shape once. The truth says whether each is carried
/// out once more to see what comes of its steps. None for a program.
pub(crate) fn planned(
    project: &Project,
    setup: &Setup<'_>,
    contest: &Contest,
    entry: &Entry,
    carried_out: bool,
) -> Result<Vec<Planned>, EngineError> {
    let (EntryWay::Plan(plan), Some(place)) = (&entry.way, setup.place_of(entry)) else { return Ok(Vec::new()) };
    let parameters = contest.sets_on(setup, entry.variant.as_deref(), &contest.parameter_sets(setup, 0)).swap_remove(0);
    let connection = project.engine.connect(&place.url, &project.settings)?;
    let mut session = connection.session();
    let mut execution = Execution::new((**plan).clone(), project.engine.dialect());
    session.begin_reading()?;
    session.observe();
    let called = execution.call(session.as_mut(), &parameters, &mut Touch::default());
    let observed = session.observed();
    session.end_reading()?;
    called?;
    let mut planned: Vec<Planned> = Vec::new();
    for statement in observed {
        let shape = shape_of(&statement.sql);
        // BEGIN and COMMIT have no plan.
        if planned.iter().any(|known| known.shape == shape) || !shape.contains(char::is_whitespace) {
            continue;
        }
        let parameters: Vec<ValueRef<'_>> = statement.parameters.iter().map(|value| value.as_ref()).collect();
        let plan = session.explain(&statement.sql, &parameters, carried_out)?;
        planned.push(Planned { shape, answer: statement.rows as f64, plan });
    }
    Ok(planned)
}

/// The text with every list of placeholders as one, and every list of rows of placeholders.
pub(crate) fn shape_of(sql: &str) -> String {
    let values = collapsed(sql, placeholder);
    collapsed(&values, |text| {
        let inside = text.strip_prefix('(')?;
        let end = placeholder(inside)?;
        let behind = inside[end..].strip_prefix(", …").unwrap_or(&inside[end..]).strip_prefix(')')?;
        Some(text.len() - behind.len())
    })
}

/// The length of the placeholder that a text begins with: `?`, `?1` or `$1`.
fn placeholder(text: &str) -> Option<usize> {
    let digits = |text: &str| text.len() - text.trim_start_matches(|c: char| c.is_ascii_digit()).len();
    match text.chars().next()? {
        '?' => Some(1 + digits(&text[1..])),
        '$' if digits(&text[1..]) > 0 => Some(1 + digits(&text[1..])),
        _ => None,
    }
}

/// The text with only the first of several items in a row; `item` gives the length of one that a text begins with.
fn collapsed(text: &str, item: impl Fn(&str) -> Option<usize>) -> String {
    let mut short = String::with_capacity(text.len().min(4096));
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        let Some(length) = item(rest) else {
            short.push(first);
            rest = &rest[first.len_utf8()..];
            continue;
        };
        short.push_str(&rest[..length]);
        rest = &rest[length..];
        let mut more = false;
        while let Some(length) = rest.strip_prefix(", ").and_then(|next| Some(2 + item(next)?)) {
            (more, rest) = (true, &rest[length..]);
        }
        if more {
            short.push_str(", …");
        }
    }
    short
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_of_keys_have_one_shape() {
        assert_eq!(shape_of("a IN (?1, ?2, ?3)"), "a IN (?1, …)");
        assert_eq!(shape_of("a IN (?1)"), "a IN (?1)");
        assert_eq!(shape_of("f(x, ?1) AND y IN (?2, ?3)"), "f(x, ?1) AND y IN (?2, …)");
        assert_eq!(shape_of("a IN ($1, $2)"), "a IN ($1, …)");
        assert_eq!(shape_of("(a, b) IN (($1, $2), ($3, $4), ($5, $6))"), "(a, b) IN (($1, …), …)");
        assert_eq!(shape_of("(a, b) IN (VALUES (?1, ?2))"), "(a, b) IN (VALUES (?1, …))");
    }
}
