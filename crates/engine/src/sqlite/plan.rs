//! SQLite's query plans. The lines are those of `EXPLAIN QUERY PLAN`, as its documentation describes them ("The EXPLAIN QUERY PLAN Command");
//! what is not known of them is kept in the engine's words.

use kampf_contest::{Access, JoinWay, QueryAct, QueryPlan, QueryStep};

/// A line of a plan: its number, that of the line that it belongs to, and what it says.
pub(super) struct Line {
    pub(super) id: i64,
    pub(super) parent: i64,
    pub(super) detail: String,
}

/// The plan of some lines. `table_of` gives the table that a statement calls by a name.
pub(super) fn plan(lines: &[Line], table_of: &dyn Fn(&str) -> String) -> QueryPlan {
    let mut own = Vec::new();
    let steps = below(lines, 0, 0, table_of, &mut own);
    QueryPlan { steps, own }
}

/// Deeper plans are flattened: statements of users are nested as deep as SQLite allows.
const DEEPEST: usize = 60;

fn below(lines: &[Line], parent: i64, depth: usize, table_of: &dyn Fn(&str) -> String, own: &mut Vec<String>) -> Vec<QueryStep> {
    let mut steps: Vec<QueryStep> = Vec::new();
    for line in lines.iter().filter(|line| line.parent == parent && line.id != line.parent) {
        own.push(format!("{}{}", "  ".repeat(depth), line.detail));
        let inner = if depth < DEEPEST { below(lines, line.id, depth + 1, table_of, own) } else { Vec::new() };
        let mut step = step(&line.detail, table_of);
        step.below = inner;
        steps.push(step);
    }
    joined(steps)
}

/// Tables that are read beside each other are joined: each for every row of those before it. What sorts or groups works on all of that,
/// one after the other.
fn joined(steps: Vec<QueryStep>) -> Vec<QueryStep> {
    let is_read = |step: &QueryStep| matches!(step.act, QueryAct::Read { .. });
    let is_over_all = |step: &QueryStep| matches!(step.act, QueryAct::Sort { .. } | QueryAct::Group);
    let (over_all, others): (Vec<QueryStep>, Vec<QueryStep>) = steps.into_iter().partition(is_over_all);
    let (reads, mut inner): (Vec<QueryStep>, Vec<QueryStep>) = others.into_iter().partition(is_read);
    if reads.len() > 1 {
        inner.insert(0, QueryStep { below: reads, ..QueryStep::of(QueryAct::Join { way: JoinWay::Nested }) });
    } else {
        inner.splice(0..0, reads);
    }
    for step in over_all {
        inner = vec![QueryStep { below: inner, ..step }];
    }
    inner
}

fn step(detail: &str, table_of: &dyn Fn(&str) -> String) -> QueryStep {
    let other = || QueryStep::of(QueryAct::Other { words: detail.to_lowercase() });
    let read = |alias: &str, access: Access| QueryStep::of(QueryAct::Read { table: table_of(alias), access });
    if let Some(rest) = detail.strip_prefix("USE TEMP B-TREE FOR ") {
        return QueryStep::of(match rest {
            rest if rest.ends_with("ORDER BY") => QueryAct::Sort { by: None, on_disk: None },
            _ => QueryAct::Group,
        });
    }
    if detail.starts_with("CORRELATED ") {
        return QueryStep { repeated: true, ..other() };
    }
    let (verb, rest) = detail.split_once(' ').unwrap_or((detail, ""));
    let rest = rest.strip_suffix(" LEFT-JOIN").unwrap_or(rest);
    let (alias, how) = rest.split_once(" USING ").unwrap_or((rest, ""));
    let by = how.rsplit_once(" (").and_then(|(_, by)| by.strip_suffix(')')).unwrap_or_default().to_owned();
    let named = |how: &str| how.split_once("INDEX ").map(|(_, rest)| rest.split(" (").next().unwrap_or(rest).to_owned());
    match (verb, named(how)) {
        ("SCAN", None) if how.is_empty() && !rest.contains(' ') => read(alias, Access::Whole),
        ("SCAN", Some(index)) if how.starts_with("COVERING INDEX ") => read(alias, Access::IndexOnly { index, by: String::new() }),
        ("SCAN", Some(index)) if how.starts_with("INDEX ") => read(alias, Access::WholeInOrder { index }),
        ("SEARCH", _) if how.starts_with("AUTOMATIC ") => read(alias, Access::MadeForIt { by }),
        ("SEARCH", Some(index)) if how.starts_with("COVERING INDEX ") => read(alias, Access::IndexOnly { index, by }),
        ("SEARCH", Some(index)) if how.starts_with("INDEX ") => read(alias, Access::Index { index, by }),
        ("SEARCH", _) if how.starts_with("INTEGER PRIMARY KEY") || how.starts_with("PRIMARY KEY") => read(alias, Access::Key { by }),
        _ => other(),
    }
}

/// The table that a statement calls by a name: the one whose own name stands before it, `hive AS h`, `"hive" "h"`; itself where it is one.
pub(super) fn table_called(sql: &str, alias: &str, tables: &[String]) -> String {
    let bare = |word: &str| word.trim_matches(['"', '`', '[', ']', ',', '(', ')', ';']).to_owned();
    if let Some(table) = tables.iter().find(|table| table.eq_ignore_ascii_case(alias)) {
        return table.clone();
    }
    let words: Vec<String> = sql.split_whitespace().map(bare).collect();
    let before = |at: usize| {
        let at = at.checked_sub(1)?;
        let at = if words[at].eq_ignore_ascii_case("as") { at.checked_sub(1)? } else { at };
        tables.iter().find(|table| table.eq_ignore_ascii_case(&words[at])).cloned()
    };
    let mut called = (0..words.len()).filter(|&at| words[at] == alias);
    called.find_map(before).unwrap_or_else(|| alias.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(lines: &[(i64, i64, &str)]) -> QueryPlan {
        let lines: Vec<Line> = lines.iter().map(|&(id, parent, detail)| Line { id, parent, detail: detail.to_owned() }).collect();
        plan(&lines, &|alias| if alias == "h" { "hive".to_owned() } else { alias.to_owned() })
    }

    #[test]
    fn each_way_of_reading_is_known() {
        let cases = [
            ("SCAN h", Access::Whole),
            ("SCAN h USING INDEX by_label", Access::WholeInOrder { index: "by_label".into() }),
            ("SCAN h USING COVERING INDEX by_label", Access::IndexOnly { index: "by_label".into(), by: String::new() }),
            ("SEARCH h USING INDEX by_label (label=? AND id>?)", Access::Index { index: "by_label".into(), by: "label=? AND id>?".into() }),
            (
                "SEARCH h USING COVERING INDEX by_label (label=?) LEFT-JOIN",
                Access::IndexOnly { index: "by_label".into(), by: "label=?".into() },
            ),
            ("SEARCH h USING INTEGER PRIMARY KEY (rowid=?)", Access::Key { by: "rowid=?".into() }),
            ("SEARCH h USING AUTOMATIC COVERING INDEX (apiary_id=?)", Access::MadeForIt { by: "apiary_id=?".into() }),
        ];
        for (line, access) in cases {
            let plan = told(&[(2, 0, line)]);
            assert_eq!(plan.reads(), [("hive", &access)], "{line}");
        }
        assert!(told(&[(2, 0, "SCAN CONSTANT ROW")]).reads().is_empty());
    }

    #[test]
    fn joins_sorts_and_what_is_repeated_have_their_places() {
        let plan = told(&[
            (3, 0, "SCAN apiary"),
            (5, 0, "SEARCH h USING INDEX by_apiary (apiary_id=?)"),
            (9, 0, "CORRELATED SCALAR SUBQUERY 1"),
            (12, 9, "SEARCH visit USING COVERING INDEX by_hive (hive_id=?)"),
            (20, 0, "USE TEMP B-TREE FOR ORDER BY"),
            (21, 0, "USE TEMP B-TREE FOR GROUP BY"),
        ]);
        assert!(plan.uses("by_hive") && plan.uses("by_apiary") && !plan.uses("by"));
        let acts: Vec<bool> = plan.all().iter().map(|step| step.repeated).collect();
        assert_eq!(acts.iter().filter(|repeated| **repeated).count(), 1);
        let [QueryStep { act: QueryAct::Group, below: grouped, .. }] = plan.steps.as_slice() else { panic!("{:?}", plan.steps) };
        let [QueryStep { act: QueryAct::Sort { by: None, on_disk: None }, below: sorted, .. }] = grouped.as_slice() else {
            panic!("{grouped:?}")
        };
        assert_eq!((sorted.len(), &sorted[0].act), (2, &QueryAct::Join { way: JoinWay::Nested }));
        assert_eq!(plan.own[3], "  SEARCH visit USING COVERING INDEX by_hive (hive_id=?)");
        // A line that belongs to itself, or to none, ends nowhere.
        assert!(told(&[(1, 1, "SCAN h"), (2, 7, "SCAN h")]).steps.is_empty());
    }

    #[test]
    fn a_table_is_found_by_what_the_statement_calls_it() {
        let tables = ["hive".to_owned(), "odd name".to_owned()];
        let sql = "SELECT h.id FROM \"hive\" AS h JOIN hive g ON (g.id = h.id)";
        assert_eq!((table_called(sql, "h", &tables), table_called(sql, "g", &tables)), ("hive".into(), "hive".into()));
        assert_eq!((table_called(sql, "HIVE", &tables), table_called(sql, "x", &tables)), ("hive".into(), "x".into()));
    }
}
