//! Query plans in sentences.

use kampf_contest::{Access, Came, IndexCandidate, JoinWay, QueryAct, QueryPlan, QueryStep};
use kampf_result::numbers::{bytes, count, duration};
use kampf_schema::{ColumnId, Index, Schema, TableId};

use super::page::Page;
use super::style::{Look, paint};
use crate::arguments::PlanForm;

/// A reference by its table and columns: `inspection(hive_id)`.
pub(crate) fn reference_text(schema: &Schema, (table, columns): &(TableId, Vec<ColumnId>)) -> String {
    Index::of(columns.iter().copied()).on(schema.table(*table))
}

/// What sentences about plans are made with.
pub(crate) struct PlanTelling<'a> {
    pub(crate) schema: &'a Schema,
    /// How many rows a table has.
    pub(crate) rows: &'a dyn Fn(&str) -> Option<u64>,
    /// The indexes that could serve the need.
    pub(crate) candidates: &'a [IndexCandidate],
}

/// Tables of fewer rows are read whole as fast as anything is looked up in them.
const FEW_ROWS: u64 = 1_000;
/// An estimate that is wrong by less does not make another plan.
const FAR: f64 = 10.0;
/// More than this share of a table is read no faster by an index.
const SMALL_SHARE: f64 = 0.1;

/// Writes a plan below a statement, in words or as the engine says it, and what is to be pointed out in it. `answer` is how many rows the
/// statement gives each time.
pub(crate) fn plan_text(page: &mut Page, telling: &PlanTelling<'_>, form: PlanForm, plan: &QueryPlan, answer: f64) {
    match form {
        PlanForm::Engine => plan.own.iter().for_each(|line| page.line(paint(Look::Quiet, &format!("     plan: {}", short(line))))),
        PlanForm::Words => {
            for (depth, text) in telling.steps(plan) {
                let head = format!("     {}{} ", "  ".repeat(depth), if depth == 0 { "plan:" } else { "-" });
                page.hung(&paint(Look::Quiet, head.trim_end()), &paint(Look::Quiet, &text), head.len());
            }
        }
    }
    for point in telling.points(plan, answer) {
        page.hung(&format!("     {}", paint(Look::Bad, "!")), &point, 7);
    }
}

impl PlanTelling<'_> {
    /// The steps in sentences, each with its depth, the last step first.
    pub(crate) fn steps(&self, plan: &QueryPlan) -> Vec<(usize, String)> {
        let mut lines = Vec::new();
        plan.steps.iter().for_each(|step| self.step(step, 0, &mut lines));
        lines
    }

    fn step(&self, step: &QueryStep, depth: usize, lines: &mut Vec<(usize, String)>) {
        let mut text = self.act(step);
        if let Some(filter) = step.filter.as_ref().filter(|_| !matches!(step.act, QueryAct::Other { .. })) {
            text += &format!(", keeps those with {}", short(filter));
        }
        if step.repeated {
            text += ", again for each row above";
        }
        lines.push((depth, text));
        step.below.iter().for_each(|below| self.step(below, depth + 1, lines));
    }

    fn act(&self, step: &QueryStep) -> String {
        match &step.act {
            QueryAct::Read { table, access } => self.read(table, access, step),
            QueryAct::Join { way: JoinWay::Nested } => "for each row of the first that follows, the others:".to_owned(),
            QueryAct::Join { way: JoinWay::Hash } => "joins both by a hash of one of them:".to_owned(),
            QueryAct::Join { way: JoinWay::Merge } => "joins both along their order:".to_owned(),
            QueryAct::Sort { by, on_disk } => {
                let by = by.as_ref().map_or_else(String::new, |by| format!(" by {}", short(by)));
                let where_to = on_disk.map_or_else(String::new, |kib| format!(", {} of it on disk", bytes(kib.saturating_mul(1024))));
                format!("sorts{by}{where_to}{}", expected(step))
            }
            QueryAct::Group => format!("makes groups{}", expected(step)),
            QueryAct::Limit => format!("ends after so many rows{}", expected(step)),
            QueryAct::Other { words } => format!("{}{}", short(words), expected(step)),
        }
    }

    fn read(&self, table: &str, access: &Access, step: &QueryStep) -> String {
        let by = |by: &str| if by.is_empty() { String::new() } else { format!(" ({})", short(bare(by))) };
        match access {
            Access::Whole => {
                let rows = (self.rows)(table).map_or_else(String::new, |rows| format!(", {}", about_rows(rows as f64)));
                let found = match (step.came, step.rows) {
                    (Some(came), _) if came.dropped > 0.0 => format!(", to find {}", count(came.rows.round() as u64)),
                    (Some(_), _) => String::new(),
                    (None, Some(expected)) if (self.rows)(table).is_some_and(|rows| expected < rows as f64 / 2.0) => {
                        format!(", to find about {}", count(expected.round() as u64))
                    }
                    _ => String::new(),
                };
                format!("reads all of {table}{rows}{found}{}", times(step))
            }
            Access::WholeInOrder { index } => format!("reads {table} in the order of {index}{}", expected(step)),
            Access::Index { index, by: key } => format!("looks up in {index} of {table}{}{}", by(key), expected(step)),
            Access::IndexOnly { index, by: key } if key.is_empty() => {
                format!("reads the index {index} alone, and {table} not{}", expected(step))
            }
            Access::IndexOnly { index, by: key } => format!("looks up in {index} alone{}, and in {table} not{}", by(key), expected(step)),
            Access::Key { by: key } => format!("finds {table} by its key{}{}", by(key), expected(step)),
            Access::MadeForIt { by: key } => format!("reads all of {table} to make an index for this one statement{}", by(key)),
        }
    }

    /// What is to be pointed out in a plan, in sentences. `answer` is how many rows the statement gives each time.
    pub(crate) fn points(&self, plan: &QueryPlan, answer: f64) -> Vec<String> {
        let mut points: Vec<String> = Vec::new();
        plan.steps.iter().for_each(|step| self.points_of(step, false, answer, &mut points));
        let mut seen = std::collections::BTreeSet::new();
        points.retain(|point| seen.insert(point.clone()));
        points
    }

    /// The same for a step and those below; one that is cut short gives fewer rows than it could.
    fn points_of(&self, step: &QueryStep, is_cut: bool, answer: f64, points: &mut Vec<String>) {
        let mut add = |point: String| points.push(point);
        if let QueryAct::Read { table, access: access @ (Access::Whole | Access::WholeInOrder { .. } | Access::MadeForIt { .. }) } =
            &step.act
            && let Some(spared) = self.spared(table, access, step, answer)
        {
            add(spared);
        }
        if let QueryAct::Sort { on_disk: Some(kib), .. } = step.act {
            add(format!("{} are sorted on disk: that is more than the memory for it holds", bytes(kib.saturating_mul(1024))));
        }
        if let (Some(rows), Some(came)) = (step.rows, step.came)
            && is_far(rows, came.rows)
            && !(is_cut && came.rows < rows)
        {
            add(format!(
                "{} rows were expected where {} came ({}): the plan was made for others",
                count(rows.round() as u64),
                count(came.rows.round() as u64),
                self.act(step).split(',').next().unwrap_or_default()
            ));
        }
        if let Some(Came { times, .. }) = step.came.filter(|came| step.repeated && came.times > 1.0) {
            add(format!("a part of it is done {} times, once for each row above it", count(times.round() as u64)));
        }
        let is_cut = match step.act {
            QueryAct::Limit => true,
            // These take all rows before they give any.
            QueryAct::Sort { .. } | QueryAct::Group => false,
            _ => is_cut,
        };
        step.below.iter().for_each(|below| self.points_of(below, is_cut, answer, points));
    }

    /// The index that would spare reading all of a table.
    fn spared(&self, table: &str, access: &Access, step: &QueryStep, answer: f64) -> Option<String> {
        let rows = (self.rows)(table).filter(|rows| *rows >= FEW_ROWS)?;
        let found = step.came.map(|came| came.rows).or(step.rows).unwrap_or(answer);
        let is_few = found <= rows as f64 * SMALL_SHARE || matches!(access, Access::MadeForIt { .. });
        let candidate = self.candidates.iter().find(|one| self.schema.table(one.table).name == table).filter(|_| is_few)?;
        let on = candidate.index.on(self.schema.table(candidate.table));
        Some(match access {
            Access::WholeInOrder { .. } => format!("an index on {on} would find the rows without looking at others of {table}"),
            _ => format!("an index on {on} would spare reading all {} of {table}", about_rows(rows as f64)),
        })
    }

    /// What another plan does otherwise at each table: before and after.
    pub(crate) fn changes(&self, before: &QueryPlan, after: &QueryPlan) -> Vec<(String, String)> {
        let read = |plan: &QueryPlan| -> Vec<(String, Access, String)> {
            let read = |step: &QueryStep| match &step.act {
                QueryAct::Read { table, access } => Some((table.clone(), access.clone(), self.read(table, access, step))),
                _ => None,
            };
            plan.all().into_iter().filter_map(read).collect()
        };
        // Other estimates are no other plan.
        let (before, after) = (read(before), read(after));
        let has = |plan: &[(String, Access, String)], table: &str, access: &Access| {
            plan.iter().any(|(known, other, _)| known == table && other == access)
        };
        let mut changes: Vec<(String, String)> = Vec::new();
        for (table, _, text) in before.iter().filter(|(table, access, _)| !has(&after, table, access)) {
            let other = after.iter().find(|(known, access, _)| known == table && !has(&before, known, access));
            if let Some((.., other)) = other
                && !changes.iter().any(|(known, other)| known == text || other == text)
            {
                changes.push((text.clone(), other.clone()));
            }
        }
        changes
    }
}

/// What came or was expected of a step, and how often.
fn expected(step: &QueryStep) -> String {
    match (step.came, step.rows) {
        (Some(came), _) => format!(": {}{}", about_rows(came.rows), times(step)),
        (None, Some(rows)) => format!(": about {}", about_rows(rows)),
        (None, None) => String::new(),
    }
}

fn times(step: &QueryStep) -> String {
    match step.came {
        Some(came) if came.times > 1.0 => format!(", {} times, {} in all", count(came.times.round() as u64), duration(came.nanos)),
        Some(came) if came.nanos > 0.0 => format!(", {}", duration(came.nanos)),
        _ => String::new(),
    }
}

fn about_rows(rows: f64) -> String {
    let rounded = rows.round().max(0.0) as u64;
    super::rows_of(rounded)
}

fn is_far(expected: f64, came: f64) -> bool {
    let (expected, came) = (expected.max(1.0), came.max(1.0));
    (expected - came).abs() > 100.0 && (expected / came > FAR || came / expected > FAR)
}

/// A condition without the parentheses around all of it.
fn bare(condition: &str) -> &str {
    let Some(inner) = condition.strip_prefix('(').and_then(|rest| rest.strip_suffix(')')) else { return condition };
    let mut depth = 0_i32;
    let closes_before = inner.chars().any(|c| {
        depth += i32::from(c == '(') - i32::from(c == ')');
        depth < 0
    });
    if closes_before { condition } else { inner }
}

/// A condition without the lists of values that engines write out in full.
fn short(text: &str) -> String {
    const SHOWN: usize = 100;
    match text.char_indices().nth(SHOWN) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use kampf_contest::IndexCandidate;
    use kampf_schema::ddl;

    use super::*;

    fn read(table: &str, access: Access) -> QueryStep {
        QueryStep::of(QueryAct::Read { table: table.to_owned(), access })
    }

    #[test]
    fn a_plan_is_told_with_what_came_of_it_and_what_would_spare_it() {
        let schema = ddl::read("CREATE TABLE visit (id integer PRIMARY KEY, hive_id integer);").unwrap().schema;
        let candidates = [IndexCandidate { table: TableId(0), index: Index::of([1]), sought: 1 }];
        let telling = PlanTelling { schema: &schema, rows: &|_| Some(203_000), candidates: &candidates };
        let came = Came { rows: 1.0, times: 1.0, dropped: 202_999.0, nanos: 0.0 };
        let whole = QueryStep { rows: Some(1.0), came: Some(came), filter: Some("(hive_id = 7)".into()), ..read("visit", Access::Whole) };
        let sort = QueryAct::Sort { by: Some("at".into()), on_disk: Some(2_048) };
        let plan = QueryPlan { steps: vec![QueryStep { below: vec![whole], ..QueryStep::of(sort) }], own: Vec::new() };
        assert_eq!(
            telling.steps(&plan),
            [
                (0, "sorts by at, 2.0 MiB of it on disk".to_owned()),
                (1, "reads all of visit, 203,000 rows, to find 1, keeps those with (hive_id = 7)".to_owned())
            ]
        );
        assert_eq!(
            telling.points(&plan, 1.0),
            [
                "2.0 MiB are sorted on disk: that is more than the memory for it holds",
                "an index on visit(hive_id) would spare reading all 203,000 rows of visit"
            ]
        );
        let by = QueryStep { rows: Some(5_000.0), ..read("visit", Access::Index { index: "by_hive".into(), by: "(hive_id = 7)".into() }) };
        let after = QueryPlan { steps: vec![by], own: Vec::new() };
        assert_eq!(telling.points(&after, 1.0), [""; 0]);
        let changes = telling.changes(&plan, &after);
        assert_eq!(changes.len(), 1);
        assert_eq!(changes[0].1, "looks up in by_hive of visit (hive_id = 7): about 5,000 rows");
        assert!(telling.changes(&plan, &plan).is_empty());
    }

    #[test]
    fn what_is_cut_short_is_no_wrong_estimate_and_other_estimates_are_no_other_plan() {
        let schema = ddl::read("CREATE TABLE visit (id integer PRIMARY KEY, hive_id integer);").unwrap().schema;
        let telling = PlanTelling { schema: &schema, rows: &|_| Some(203_000), candidates: &[] };
        let came = |rows: f64| Some(Came { rows, times: 1.0, dropped: 0.0, nanos: 0.0 });
        let ordered = |rows: f64, came: Option<Came>| QueryStep {
            rows: Some(rows),
            came,
            ..read("visit", Access::WholeInOrder { index: "visit_pkey".into() })
        };
        let limited = |below: QueryStep| QueryPlan {
            steps: vec![QueryStep { below: vec![below], ..QueryStep::of(QueryAct::Limit) }],
            own: Vec::new(),
        };
        assert_eq!(telling.points(&limited(ordered(50_000.0, came(100.0))), 100.0), [""; 0]);
        let more = telling.points(&limited(ordered(100.0, came(50_000.0))), 100.0);
        assert!(more[0].starts_with("100 rows were expected where 50,000 came"), "{more:?}");
        assert!(telling.changes(&limited(ordered(10.0, None)), &limited(ordered(11.0, None))).is_empty());
        assert_eq!(
            (bare("(a = 1)"), bare("((a)::text = 'x'::text)"), bare("(a = 1) AND (b = 2)")),
            ("a = 1", "(a)::text = 'x'::text", "(a = 1) AND (b = 2)")
        );
    }

    #[test]
    fn estimates_that_are_far_off_are_told_and_near_ones_not() {
        assert!(is_far(1.0, 5_000.0) && is_far(5_000.0, 1.0) && !is_far(1.0, 60.0) && !is_far(5_000.0, 900.0));
    }
}
