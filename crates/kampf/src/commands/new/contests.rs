//! Contests for somebody's schema: of different kinds, on the tables that matter most.

use kampf_schema::{Column, ColumnId, HopKind, LogicalType, NamedRelation, Relations, Schema, Table, TableId, name_words};

use crate::output::shown;
use crate::project::{Scalar, TomlText};

/// Values of a row that are given at most.
const GIVEN: usize = 4;
/// Numbers of children that are given at most.
const COUNTED: usize = 2;

/// What contests are chosen from.
struct Choosing<'a> {
    schema: &'a Schema,
    relations: &'a Relations,
    /// Tables whose rows can be told apart, those with most rows first.
    largest: Vec<TableId>,
    /// The same, those that most others refer to first.
    central: Vec<TableId>,
    /// Names that are taken.
    names: Vec<String>,
}

/// Writes the contests that suit a schema: a filtered list, a page about one row, numbers for each parent, the newest children, a grid with
/// names from two hops away, and rows by month, as far as there are tables for them.
pub(super) fn contests(text: &mut TomlText, schema: &Schema, relations: &Relations, rows: &dyn Fn(TableId) -> u64) {
    let known = |id: &TableId| !schema.table(*id).primary_key.is_empty();
    let mut largest: Vec<TableId> = schema.ids().filter(known).collect();
    let referring = |id: TableId| {
        let references = schema.ids().filter(|other| *other != id).flat_map(|other| &schema.table(other).references);
        references.filter(|reference| reference.parent == id).count()
    };
    let mut central = largest.clone();
    let depths = depths(schema);
    largest.sort_by_cached_key(|&id| std::cmp::Reverse((rows(id), depths[id.0])));
    // Of tables of few words nobody opens a page.
    central.sort_by_cached_key(|&id| std::cmp::Reverse((rows(id) >= 50 && referring(id) > 0, referring(id), rows(id))));
    let mut choosing = Choosing { schema, relations, largest, central, names: Vec::new() };
    choosing.filtered(text);
    choosing.one(text);
    choosing.for_each_parent(text);
    choosing.newest(text);
    choosing.grid(text);
    choosing.per_month(text);
}

impl Choosing<'_> {
    fn table(&self, id: TableId) -> &Table {
        self.schema.table(id)
    }

    /// Begins a contest under a name that no other has.
    fn begin(&mut self, text: &mut TomlText, id: TableId, kind: &str, about: &str) -> String {
        let table = self.schema.table(id);
        let name = contest_name(&table.name, kind, &self.names);
        self.names.push(name.clone());
        text.blank();
        text.table(&["contest", &name]);
        text.value("about", Scalar::Text(about));
        text.value("from", Scalar::Text(&table.name));
        name
    }

    /// The parameters of a contest: each a value of a column.
    fn parameter(&self, text: &mut TomlText, contest: &str, name: &str, id: TableId, column: ColumnId) {
        let table = self.table(id);
        text.blank();
        text.table(&["contest", contest, "parameters"]);
        text.value(name, Scalar::Text(&format!("any({}.{})", part(&table.name), part(&table.columns[column].name))));
    }

    /// The primary key, as something to sort by.
    fn by_key(&self, id: TableId, descending: bool) -> Vec<String> {
        let table = self.table(id);
        let end = if descending { " desc" } else { "" };
        table.primary_key.iter().map(|&column| format!("{}{end}", part(&table.columns[column].name))).collect()
    }

    /// Columns of a table that a person would want to see, its key first.
    fn own(&self, id: TableId, most: usize) -> Vec<String> {
        let table = self.table(id);
        let is_shown = |&column: &ColumnId| !refers(table, column) && table.columns[column].kind != LogicalType::Blob;
        let columns = (0..table.columns.len()).filter(is_shown).take(most);
        let mut own: Vec<String> = columns.map(|column| part(&table.columns[column].name)).collect();
        if own.is_empty() {
            own.push(part(&table.columns[0].name));
        }
        own
    }

    /// The column by which a person knows a row: a text, else its key.
    fn title(&self, id: TableId) -> Option<String> {
        let table = self.table(id);
        let is_text = |&column: &ColumnId| {
            matches!(table.columns[column].kind, LogicalType::Text { .. }) && !refers(table, column) && !table.primary_key.contains(&column)
        };
        let text = (0..table.columns.len()).find(is_text);
        text.or(table.primary_key.first().copied()).map(|column| part(&table.columns[column].name))
    }

    /// Relations to one row of another table.
    fn to_one(&self, id: TableId) -> impl Iterator<Item = (&NamedRelation, TableId)> {
        self.relations.from(id).filter_map(move |relation| match relation.hops.as_slice() {
            [hop] if hop.kind == HopKind::One && hop.to != id => Some((relation, hop.to)),
            _ => None,
        })
    }

    /// The relation from a table to the rows of another that belong to it.
    fn to_many(&self, id: TableId, child: TableId) -> Option<&NamedRelation> {
        self.relations.from(id).find(|relation| matches!(relation.hops.as_slice(), [hop] if hop.kind == HopKind::Many && hop.to == child))
    }

    /// A value of each parent.
    fn parents(&self, id: TableId) -> Vec<String> {
        let titled = |(relation, to): (&NamedRelation, TableId)| Some(format!("{}.{}", part(&relation.name), self.title(to)?));
        self.to_one(id).filter_map(titled).take(GIVEN).collect()
    }

    /// A table with the relation to the parent by which its rows are shown.
    fn parent_of(&self, child: TableId) -> Option<(TableId, String)> {
        let parents = self.table(child).references.iter().map(|reference| reference.parent).filter(|&parent| parent != child);
        let known = parents.filter(|&parent| !self.table(parent).primary_key.is_empty());
        known.into_iter().find_map(|parent| Some((parent, part(&self.to_many(parent, child)?.name))))
    }

    /// Rows of a state, or of a parent, the newest first.
    fn filtered(&mut self, text: &mut TomlText) {
        let by_state = self.largest.iter().find_map(|&id| Some((id, state_of(self.table(id))?)));
        let by_parent = || {
            let refers = |&id: &TableId| self.table(id).references.iter().find(|reference| reference.columns.len() == 1);
            self.largest.iter().find_map(|id| Some((*id, refers(id)?.columns[0])))
        };
        let Some((id, column)) = by_state.or_else(by_parent) else { return };
        let by = self.table(id).columns[column].name.clone();
        let about = format!("The last 100 rows of {} of one {}, with what they belong to", shown(&self.table(id).name), shown(&by));
        let mut give = self.own(id, GIVEN);
        give.extend(self.parents(id));
        let name = self.begin(text, id, "by", &about);
        text.list("give", &give);
        text.value("where", Scalar::Text(&format!("{} = :one", part(&by))));
        text.list("order", &self.by_key(id, true));
        text.value("limit", Scalar::Number(100));
        self.parameter(text, &name, "one", id, column);
    }

    /// One row by its key, with what it belongs to and how much belongs to it.
    fn one(&mut self, text: &mut TomlText) {
        let Some((id, key)) = self.central.iter().find_map(|&id| Some((id, key_of(self.table(id))?))) else { return };
        let mut give = self.own(id, GIVEN + 2);
        give.extend(self.parents(id));
        let is_many = |relation: &&NamedRelation| relation.hops.iter().any(|hop| hop.kind == HopKind::Many);
        give.extend(self.relations.from(id).filter(is_many).take(COUNTED).map(|relation| format!("count({})", part(&relation.name))));
        let about = format!("One row of {} by its key, with what belongs to it", shown(&self.table(id).name));
        let filter = format!("{} = :key", part(&self.table(id).columns[key].name));
        let name = self.begin(text, id, "one", &about);
        text.list("give", &give);
        text.value("where", Scalar::Text(&filter));
        text.value("expect", Scalar::Text("1"));
        self.parameter(text, &name, "key", id, key);
    }

    /// How many children each parent has, with the mean of a number of theirs and the time of the last.
    fn for_each_parent(&mut self, text: &mut TomlText) {
        let Some((child, (parent, relation))) = self.largest.iter().find_map(|&child| Some((child, self.parent_of(child)?))) else {
            return;
        };
        let mut give: Vec<String> = self.own(parent, 1);
        give.extend(self.title(parent).filter(|title| !give.contains(title)));
        give.push(format!("count({relation}) as many"));
        let below = self.table(child);
        give.extend(number_of(below).map(|column| format!("avg({relation}.{}) as mean", part(&column.name))));
        give.extend(time_of(below).map(|column| format!("max({relation}.{}) as last", part(&column.name))));
        let about = format!("How many rows of {} each of {} has", shown(&below.name), shown(&self.table(parent).name));
        self.begin(text, parent, "numbers", &about);
        text.list("give", &give);
        let mut order = vec!["many desc".to_owned()];
        order.extend(self.by_key(parent, false));
        text.list("order", &order);
        text.value("limit", Scalar::Number(50));
    }

    /// Rows with the three newest that belong to each.
    fn newest(&mut self, text: &mut TomlText) {
        let timed = |&child: &TableId| Some((part(&time_of(self.table(child))?.name), child, self.parent_of(child)?));
        let Some((time, child, (parent, relation))) = self.largest.iter().find_map(timed) else { return };
        let mut inside = self.own(child, 3);
        if !inside.contains(&time) {
            inside.push(time.clone());
        }
        let mut give = self.own(parent, 2);
        give.push(format!("{relation} order {time} desc limit 3 {{ {} }} as newest", inside.join(", ")));
        let about = format!(
            "100 rows of {}, with the three newest rows of {} of each",
            shown(&self.table(parent).name),
            shown(&self.table(child).name)
        );
        self.begin(text, parent, "newest", &about);
        text.list("give", &give);
        text.list("order", &self.by_key(parent, false));
        text.value("limit", Scalar::Number(100));
    }

    /// A page of rows with names from two hops away.
    fn grid(&mut self, text: &mut TomlText) {
        let far = |&id: &TableId| {
            let two = |(near, middle): (&NamedRelation, TableId)| {
                let (next, end) = self.to_one(middle).find(|(_, end)| *end != id)?;
                Some((part(&near.name), self.title(middle)?, part(&next.name), self.title(end)?))
            };
            Some((id, self.to_one(id).find_map(two)?))
        };
        let Some((id, (near, title, next, name))) = self.largest.iter().find_map(far) else { return };
        let mut give = self.own(id, GIVEN);
        give.extend([format!("{near}.{title}"), format!("{near}.{next}.{name}")]);
        let about = format!("A page of {} with names from two hops away", shown(&self.table(id).name));
        self.begin(text, id, "grid", &about);
        text.list("give", &give);
        text.list("order", &self.by_key(id, true));
        text.value("limit", Scalar::Number(100));
    }

    /// How many rows there are for each month, and the mean of a number of theirs.
    fn per_month(&mut self, text: &mut TomlText) {
        let Some((id, time)) = self.largest.iter().find_map(|&id| Some((id, part(&time_of(self.table(id))?.name)))) else { return };
        let mut give = vec!["month".to_owned(), "count() as many".to_owned()];
        give.extend(number_of(self.table(id)).map(|column| format!("avg({}) as mean", part(&column.name))));
        let about = format!("How many rows of {} there are for each month", shown(&self.table(id).name));
        self.begin(text, id, "per-month", &about);
        text.list("group", &[format!("start_of(month, {time}) as month")]);
        text.list("give", &give);
        text.list("order", &["month".to_owned()]);
    }
}

/// A contest's name for a table: one word, like no other.
fn contest_name(table: &str, kind: &str, taken: &[String]) -> String {
    let word = |c: char| if c.is_whitespace() || c == '/' || shown(c.encode_utf8(&mut [0; 4])).len() != c.len_utf8() { '-' } else { c };
    let name = format!("{}-{kind}", table.chars().map(word).collect::<String>());
    let numbered = (2..).map(|number| format!("{name}-{number}"));
    std::iter::once(name.clone()).chain(numbered).find(|name| !taken.contains(name)).unwrap_or(name)
}

/// How many tables each table lies below: those at the bottom grow largest.
fn depths(schema: &Schema) -> Vec<usize> {
    let mut depths = vec![0_usize; schema.tables.len()];
    for id in schema.parents_first() {
        let parents = schema.table(id).references.iter().filter(|reference| reference.parent != id);
        depths[id.0] = parents.map(|reference| 1 + depths[reference.parent.0]).max().unwrap_or(0);
    }
    depths
}

fn refers(table: &Table, column: ColumnId) -> bool {
    table.references.iter().any(|reference| reference.columns.contains(&column))
}

/// A column of a few values that lists are filtered by.
fn state_of(table: &Table) -> Option<ColumnId> {
    const STATES: [&str; 9] = ["status", "state", "kind", "type", "category", "role", "level", "priority", "stage"];
    let is_state = |&column: &ColumnId| {
        let model = &table.columns[column];
        let is_named = name_words(&model.name).last().is_some_and(|word| STATES.contains(&word.as_str()));
        let is_text = matches!(model.kind, LogicalType::Text { .. } | LogicalType::Integer);
        !refers(table, column) && !table.primary_key.contains(&column) && (!model.words.is_empty() || is_named && is_text)
    };
    (0..table.columns.len()).find(is_state)
}

/// When a row came to be, as far as types tell.
fn time_of(table: &Table) -> Option<&Column> {
    table.columns.iter().find(|column| matches!(column.kind, LogicalType::Date | LogicalType::Timestamp))
}

/// A number that a mean can be made of.
fn number_of(table: &Table) -> Option<&Column> {
    let is_amount = |column: &ColumnId| {
        let model = &table.columns[*column];
        let is_key = name_words(&model.name).last().is_some_and(|word| matches!(word.as_str(), "id" | "code" | "version" | "position"));
        model.kind.is_number() && !refers(table, *column) && !table.primary_key.contains(column) && !is_key
    };
    (0..table.columns.len()).find(is_amount).map(|column| &table.columns[column])
}

/// The one column that a row is found by.
fn key_of(table: &Table) -> Option<ColumnId> {
    let [key] = table.primary_key.as_slice() else { return None };
    Some(*key).filter(|&key| table.columns[key].kind != LogicalType::Blob)
}

/// A name inside an expression, quoted where it must be.
fn part(name: &str) -> String {
    kampf_schema::expr::Name { text: name.to_owned(), span: kampf_schema::Span::default() }.to_string()
}
