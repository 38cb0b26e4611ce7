//! The columns that values are made from.

use std::collections::HashMap;

use kampf_schema::expr::Name;
use kampf_schema::{ColumnId, LogicalType, Schema, Table, TableId, did_you_mean};

use crate::link::How;
use crate::order::{FillError, FillSubject};
use crate::others::Origin;
use crate::recipe::{Columns, RecipeError};
use crate::tables::TablePlan;
use crate::unique::ValueSource;

/// The columns that recipes of a table can name.
pub(crate) struct OfTable<'a> {
    pub(crate) schema: &'a Schema,
    pub(crate) table: TableId,
    pub(crate) own: ColumnId,
    /// By which of its references the rows of each table are counted.
    pub(crate) counted: &'a [Option<usize>],
}

impl Columns for OfTable<'_> {
    fn counted_by(&self) -> Result<usize, RecipeError> {
        self.counted[self.table.0].ok_or_else(|| {
            let name = &self.schema.table(self.table).name;
            let message = format!("rows of `{name}` are not counted for each row of a parent, so none stands before another");
            RecipeError { message, hint: Some("say so under [rows], like \"3 per hive\"".to_owned()), span: None }
        })
    }

    fn nullable(&self) -> bool {
        self.schema.table(self.table).columns[self.own].nullable
    }

    fn counted(&self, child: &Name) -> Result<(TableId, usize), RecipeError> {
        let own = self.schema.table(self.table);
        let wrong = |message: String, hint: Option<String>| RecipeError { message, hint, span: Some(child.span) };
        let Some(id) = self.schema.find(&child.text) else {
            let names = self.schema.tables.iter().map(|table| table.name.as_str());
            return Err(wrong(format!("there is no table `{}`", child.text), did_you_mean(&child.text, names)));
        };
        let by = self.counted[id.0].filter(|&at| self.schema.table(id).references[at].parent == self.table);
        by.map(|at| (id, at)).ok_or_else(|| {
            let message = format!("rows of `{}` are not counted for each row of `{}`", self.schema.table(id).name, own.name);
            wrong(message, Some(format!("say so under [rows], like \"3 per {}\"", own.name)))
        })
    }

    fn origin(&self, path: &[Name]) -> Result<(Origin, LogicalType), RecipeError> {
        let table = self.schema.table(self.table);
        let wrong = |message: String, name: &Name, candidates: Vec<String>| RecipeError {
            message,
            hint: did_you_mean(&name.text, candidates.iter().map(String::as_str)),
            span: Some(name.span),
        };
        let names = |table: &Table| table.columns.iter().map(|column| column.name.clone()).collect::<Vec<_>>();
        match path {
            [column] => match table.find(&column.text) {
                Some(at) if at == self.own => Err(wrong("a column cannot be made from itself".to_owned(), column, Vec::new())),
                Some(at) => Ok((Origin::Own(at), table.columns[at].kind)),
                None => Err(wrong(format!("`{}` has no column `{}`", table.name, column.text), column, names(table))),
            },
            [parent, column] => {
                let is = |name: &str| name.eq_ignore_ascii_case(&parent.text);
                let of_column = |reference: &kampf_schema::Reference| {
                    reference.columns.iter().any(|&at| {
                        let name = &table.columns[at].name;
                        is(name) || ["_id", "_uuid", "_key", "Id", "ID"].iter().any(|ending| name.strip_suffix(ending).is_some_and(is))
                    })
                };
                let link = table
                    .references
                    .iter()
                    .position(of_column)
                    .or_else(|| table.references.iter().position(|reference| is(&self.schema.table(reference.parent).name)));
                let Some(link) = link else {
                    let parents = table.references.iter().map(|reference| self.schema.table(reference.parent).name.clone()).collect();
                    return Err(wrong(format!("`{}` refers to nothing that is called `{}`", table.name, parent.text), parent, parents));
                };
                let of = self.schema.table(table.references[link].parent);
                match of.find(&column.text) {
                    Some(at) => Ok((Origin::Parent(link, at), of.columns[at].kind)),
                    None => Err(wrong(format!("`{}` has no column `{}`", of.name, column.text), column, names(of))),
                }
            }
            _ => Err(RecipeError {
                message: "a column is named by itself, or behind a parent and a point".to_owned(),
                hint: None,
                span: path.first().map(|name| name.span),
            }),
        }
    }
}

type Node = (TableId, ColumnId);

/// What the values of a column are made from.
fn made_from(plans: &[TablePlan], (table, column): Node) -> Vec<Node> {
    let plan = &plans[table.0];
    // An earlier row of the same table is no circle.
    let of_parent = |link: usize, theirs: ColumnId| {
        let parent = plan.references[link].parent;
        let earlier = parent == table && matches!(plan.links[link].how, How::Earlier);
        (!earlier).then_some((parent, theirs))
    };
    let of_origin = |origin| match origin {
        Origin::Own(other) => Some((table, other)),
        // Where each row must refer to one of the table, the first refers to itself.
        Origin::Parent(link, theirs) if plan.references[link].parent == table && !plan.links[link].nullable => Some((table, theirs)),
        Origin::Parent(link, theirs) => of_parent(link, theirs),
    };
    let column = &plan.columns[column];
    let mut from: Vec<Node> = column.maker.origins().into_iter().filter_map(of_origin).collect();
    match &column.source {
        ValueSource::Computed(term) => from.extend(term.column_set().into_iter().map(|other| (table, other))),
        ValueSource::Linked(link, place) => from.extend(of_parent(*link, plan.references[*link].parent_columns[*place])),
        _ => {}
    }
    from
}

/// Values that are made from each other in a circle.
pub(crate) fn check_circles(schema: &Schema, plans: &[TablePlan]) -> Result<(), FillError> {
    // Columns under one guard are made together: the first stands for all of them.
    let group = |(table, column): Node| plans[table.0].columns[column].guard.map(|guard| &plans[table.0].guards[guard].columns);
    let first = |node: Node| (node.0, group(node).map_or(node.1, |columns| columns[0]));
    let edges = |node: Node| -> Vec<Node> {
        match group(node) {
            None => made_from(plans, node).into_iter().map(first).collect(),
            Some(columns) => {
                let from = columns.iter().flat_map(|&column| made_from(plans, (node.0, column)));
                from.map(first).filter(|other| *other != node).collect()
            }
        }
    };
    // 1 while what a node is made from is looked at, 2 when that is done.
    let mut state: HashMap<Node, u8> = HashMap::new();
    for id in schema.ids() {
        for column in 0..schema.table(id).columns.len() {
            let mut stack = vec![(first((id, column)), false)];
            while let Some((node, done)) = stack.pop() {
                if done {
                    state.insert(node, 2);
                    continue;
                }
                match state.get(&node) {
                    Some(2) => continue,
                    Some(_) => {
                        let table = schema.table(node.0);
                        let message = format!(
                            "the values of `{}.{}` are made from themselves, by way of others",
                            table.name, table.columns[node.1].name
                        );
                        return Err(FillError::new(FillSubject::Values(node.0, node.1), message).hint("make one of them from nothing else"));
                    }
                    None => {}
                }
                state.insert(node, 1);
                stack.push((node, true));
                stack.extend(edges(node).into_iter().filter(|next| state.get(next) != Some(&2)).map(|next| (next, false)));
            }
        }
    }
    Ok(())
}
