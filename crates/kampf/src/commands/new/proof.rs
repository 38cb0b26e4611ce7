//! Whether a new folder can be filled.

use kampf_engine::Ground;
use kampf_fill::{Blueprint, FillError, FillSubject, Order};
use kampf_schema::expr::RowCount;
use kampf_schema::{Schema, TableId};

/// Rows of a table that are loaded to see whether they go in.
const TRIED: u64 = 40;
/// Rows of all tables that are loaded where fewer of each cannot be.
const MOST: u64 = 50_000;

/// What a fault is about.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Place {
    /// The schema's file.
    Schema,
    /// The number of rows of a table.
    Rows(TableId),
    /// How values are made.
    Values,
}

/// What stands in the way of filling a schema.
#[derive(Clone, Debug)]
pub(super) struct Fault {
    pub(super) place: Place,
    pub(super) what: String,
    pub(super) hint: Option<String>,
}

impl Fault {
    fn of(error: &FillError) -> Fault {
        let place = match &error.subject {
            FillSubject::Rows(table) => Place::Rows(*table),
            FillSubject::Values(..) => Place::Values,
            // A check that is not met is met by saying how values are made.
            FillSubject::Schema(_) if error.by_recipe => Place::Values,
            FillSubject::Schema(_) => Place::Schema,
        };
        Fault { place, what: error.message.clone(), hint: error.hint.clone() }
    }
}

/// What stands in the way of filling a schema, found by planning it whole and loading a few rows of each table.
pub(super) fn fault(schema: &Schema, order: &Order, planned: &Result<Blueprint, FillError>) -> Option<Fault> {
    let planned = match planned {
        Ok(planned) => planned,
        Err(error) => return Some(Fault::of(error)),
    };
    let few = |table: TableId| RowCount::Fixed(planned.rows(table).min(TRIED));
    let order = Order { rows: schema.ids().map(|table| (table, few(table))).collect(), ..order.clone() };
    let all: u64 = schema.ids().map(|table| planned.rows(table)).sum();
    // Few parents may not be enough for what few children want.
    match Blueprint::new(schema, &order) {
        Ok(few) => load(schema, &few),
        Err(_) if all <= MOST => load(schema, planned),
        Err(_) => None,
    }
}

fn load(schema: &Schema, blueprint: &Blueprint) -> Option<Fault> {
    let usual = kampf_engine::usual();
    // Where there is no room for a temporary folder, nothing is known of the schema.
    let folder = tempfile::tempdir().ok()?;
    let place = Ground { folder: folder.path(), server: None, name: "new", owner: "new", variant: None };
    let error = usual.load(&place, schema, blueprint, &usual.settings(), &mut |_| {}).err()?;
    Some(Fault {
        place: Place::Values,
        what: format!("the first rows do not go in: {}", error.message),
        hint: Some("say under [values] how the columns that this is about are made, or leave the rule out of the schema".to_owned()),
    })
}
