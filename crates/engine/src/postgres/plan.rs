//! PostgreSQL's query plans, out of `EXPLAIN (FORMAT JSON)` (the server's documentation of EXPLAIN).

use kampf_contest::{Access, Came, JoinWay, QueryAct, QueryPlan, QueryStep};
use serde_json::Value;

/// The plan of the document that the server gave; none where it is not what it should be.
pub(super) fn plan(document: &Value) -> Option<QueryPlan> {
    let root = document.get(0)?.get("Plan")?;
    Some(QueryPlan { steps: vec![step(root)], own: Vec::new() })
}

fn step(node: &Value) -> QueryStep {
    let text = |key: &str| node.get(key).and_then(Value::as_str);
    let number = |key: &str| node.get(key).and_then(Value::as_f64);
    let owned = |key: &str| text(key).unwrap_or_default().to_owned();
    let mut below: Vec<QueryStep> = node.get("Plans").and_then(Value::as_array).into_iter().flatten().map(step).collect();
    let kind = text("Node Type").unwrap_or("step");
    let table = text("Relation Name").map(str::to_owned);
    let by = || text("Index Cond").or_else(|| text("Recheck Cond")).unwrap_or_default().to_owned();
    let mut filter = text("Filter").or_else(|| text("Join Filter")).map(str::to_owned);
    let act = match (kind, table) {
        ("Seq Scan", Some(table)) => QueryAct::Read { table, access: Access::Whole },
        ("Index Scan", Some(table)) if text("Index Cond").is_none() => {
            QueryAct::Read { table, access: Access::WholeInOrder { index: owned("Index Name") } }
        }
        ("Index Scan", Some(table)) => QueryAct::Read { table, access: Access::Index { index: owned("Index Name"), by: by() } },
        ("Index Only Scan", Some(table)) => QueryAct::Read { table, access: Access::IndexOnly { index: owned("Index Name"), by: by() } },
        // The index below it finds the rows, which are then read page by page.
        ("Bitmap Heap Scan", Some(table)) => match only_index(&mut below) {
            Some(index) => QueryAct::Read { table, access: Access::Index { index, by: by() } },
            None => QueryAct::Other { words: format!("reads pages of {table} that several indexes point to") },
        },
        ("Bitmap Index Scan", _) => {
            filter = None;
            QueryAct::Other { words: format!("finds pages by {}", owned("Index Name")) }
        }
        ("Nested Loop", _) => QueryAct::Join { way: JoinWay::Nested },
        ("Hash Join", _) => QueryAct::Join { way: JoinWay::Hash },
        ("Merge Join", _) => QueryAct::Join { way: JoinWay::Merge },
        ("Sort" | "Incremental Sort", _) => {
            let keys: Vec<&str> = node.get("Sort Key").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str).collect();
            let on_disk = (text("Sort Space Type") == Some("Disk")).then(|| number("Sort Space Used").unwrap_or_default() as u64);
            QueryAct::Sort { by: (!keys.is_empty()).then(|| keys.join(", ")), on_disk }
        }
        ("Aggregate" | "Group" | "Unique", _) => QueryAct::Group,
        ("Limit", _) => QueryAct::Limit,
        (kind, table) => {
            QueryAct::Other { words: table.map_or_else(|| kind.to_lowercase(), |table| format!("{} on {table}", kind.to_lowercase())) }
        }
    };
    let came = number("Actual Rows").map(|rows| {
        let times = number("Actual Loops").unwrap_or(1.0);
        let dropped = number("Rows Removed by Filter").or_else(|| number("Rows Removed by Join Filter")).unwrap_or_default();
        let nanos = number("Actual Total Time").unwrap_or_default() * 1e6;
        // Processes that share a step tell of their parts; it is done once all the same.
        match node.get("Parallel Aware").and_then(Value::as_bool) {
            Some(true) => Came { rows: rows * times, times: 1.0, dropped: dropped * times, nanos },
            _ => Came { rows, times, dropped, nanos: nanos * times },
        }
    });
    QueryStep {
        act,
        rows: number("Plan Rows"),
        cost: number("Total Cost"),
        width: node.get("Plan Width").and_then(Value::as_u64),
        came,
        filter,
        // One that does not depend on the row above is carried out once.
        repeated: text("Parent Relationship") == Some("SubPlan") && !text("Subplan Name").is_some_and(|name| name.contains("hashed")),
        below,
    }
}

/// The index that a bitmap is made of, where that is one.
fn only_index(below: &mut Vec<QueryStep>) -> Option<String> {
    let [step] = below.as_slice() else { return None };
    let QueryAct::Other { words } = &step.act else { return None };
    let index = words.strip_prefix("finds pages by ")?.to_owned();
    below.clear();
    Some(index)
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn a_plan_is_read_with_what_came_of_it() {
        let json = r#"[{"Plan": {"Node Type": "Limit", "Total Cost": 9.5, "Plan Rows": 10, "Plan Width": 8, "Actual Rows": 10, "Actual Loops": 1,
            "Plans": [{"Node Type": "Sort", "Parent Relationship": "Outer", "Sort Key": ["at DESC"], "Sort Space Type": "Disk", "Sort Space Used": 2048,
            "Plans": [{"Node Type": "Nested Loop", "Plans": [
              {"Node Type": "Seq Scan", "Relation Name": "hive", "Alias": "h", "Filter": "(open)", "Plan Rows": 5, "Actual Rows": 50, "Actual Loops": 2,
               "Actual Total Time": 1.5, "Rows Removed by Filter": 950},
              {"Node Type": "Bitmap Heap Scan", "Relation Name": "visit", "Recheck Cond": "(hive_id = h.id)", "Plans": [
                {"Node Type": "Bitmap Index Scan", "Index Name": "by_hive", "Index Cond": "(hive_id = h.id)"}]},
              {"Node Type": "Index Only Scan", "Relation Name": "visit", "Index Name": "by_all", "Index Cond": "(hive_id = h.id)", "Parent Relationship": "SubPlan",
               "Subplan Name": "SubPlan 1"}]}]}]}}]"#;
        let plan = plan(&serde_json::from_str(json).unwrap()).unwrap();
        assert_eq!(
            plan.reads(),
            [
                ("hive", &Access::Whole),
                ("visit", &Access::Index { index: "by_hive".into(), by: "(hive_id = h.id)".into() }),
                ("visit", &Access::IndexOnly { index: "by_all".into(), by: "(hive_id = h.id)".into() }),
            ]
        );
        let all = plan.all();
        assert_eq!(all[1].act, QueryAct::Sort { by: Some("at DESC".into()), on_disk: Some(2048) });
        assert_eq!(all[3].came, Some(Came { rows: 50.0, times: 2.0, dropped: 950.0, nanos: 3e6 }));
        assert_eq!((all[3].filter.as_deref(), all[5].repeated, all.len()), (Some("(open)"), true, 6));
    }

    #[test]
    fn what_is_no_plan_is_none() {
        for document in [json!(null), json!([]), json!({}), json!([{"Other": 1}])] {
            assert_eq!(plan(&document), None, "{document}");
        }
        assert_eq!(plan(&json!([{"Plan": {}}])).map(|plan| plan.steps.len()), Some(1));
    }
}
