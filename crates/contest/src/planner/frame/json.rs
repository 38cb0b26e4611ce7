//! Lists as JSON texts of the row at hand.

use kampf_schema::LogicalType;
use kampf_schema::expr::{Expr, Node};

use super::{Frame, ToOne};
use crate::need::Leaf;
use crate::planner::forms::aggregates_of;
use crate::statement::{JsonItem, Select, Selected, Table, Term};

/// A list as a JSON text: what each row holds, in order.
pub(in crate::planner) struct JsonList {
    /// Its place among the need's.
    pub(in crate::planner) list: usize,
    pub(in crate::planner) items: Vec<JsonPart>,
}

/// One item of a row in a JSON text.
pub(in crate::planner) enum JsonPart {
    Value(Expr<Leaf>),
    List(JsonList),
}

impl Frame<'_> {
    /// A list as a JSON array of arrays, by a sub-select.
    pub(in crate::planner) fn json(&mut self, json: &JsonList) -> Select {
        let list = &self.ground.need.lists[json.list];
        let mut inner = self.chain(list.at, list.over, true);
        let values = json.items.iter().filter_map(|item| if let JsonPart::Value(value) = item { Some(value) } else { None });
        let values: Vec<&Expr<Leaf>> = values.collect();
        inner.pick_laterally(&aggregates_of(self.ground.need, list.over, values));
        let mut items = Vec::new();
        for item in &json.items {
            items.push(match item {
                JsonPart::Value(value) => JsonItem { value: inner.say(value, ToOne::Join), is_json: false },
                JsonPart::List(json) => {
                    let select = Box::new(inner.json(json));
                    JsonItem { value: Node::Leaf(Term::Select(select, LogicalType::TEXT)).into(), is_json: true }
                }
            });
        }
        let mut order = inner.sort_keys(list.over, &list.order);
        let mut select = match list.limit {
            None => inner.select,
            Some(limit) => {
                // Rows are cut in a select of their own, and then put together.
                let alias = inner.alias_of(list.over).unwrap_or_default().to_owned();
                let mut cut = inner.select;
                (cut.order, cut.limit) = (order.clone(), Some(limit));
                let kind = |value: &Expr<Term>| value.kind(&|term: &Term| Some(term.kind())).unwrap_or(LogicalType::TEXT);
                let mut output = |value: &mut Expr<Term>, name: String| {
                    let known = cut.columns.iter().flatten().find(|column| column.value == *value);
                    let name = known.and_then(|column| column.name.clone()).unwrap_or(name);
                    let outside = Node::Leaf(Term::Column { table: Some(alias.clone()), name: name.clone(), kind: kind(value) }).into();
                    let value = std::mem::replace(value, outside);
                    if !cut.columns.iter().flatten().any(|column| column.name.as_ref() == Some(&name)) {
                        cut.columns.push(vec![Selected { value, name: Some(name) }]);
                    }
                };
                (1..).zip(&mut items).for_each(|(number, item)| output(&mut item.value, format!("item_{number}")));
                (1..).zip(&mut order).for_each(|(number, key)| output(&mut key.value, format!("sort_{number}")));
                Select::from(Table::Derived { select: Box::new(cut), alias, lateral: false })
            }
        };
        select.columns = vec![vec![Selected { value: Node::Leaf(Term::JsonRows { items, order }).into(), name: None }]];
        select
    }
}
