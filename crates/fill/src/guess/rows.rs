//! Row counts where none are given, from a table's place in the schema.

use kampf_schema::expr::{Children, Name, RowCount};
use kampf_schema::{Column, ColumnId, LogicalType, Reference, Schema, Span, Table, TableId, Value, name_words};

use crate::ties::{tenants, way};

/// Rows of a table that others refer to and that refers to nothing.
const ROOT: u64 = 500;
/// Rows of a table of few words that others refer to.
const LOOKUP: u64 = 24;
/// Rows of a table that has nothing to do with others.
const LONELY: u64 = 2_000;
/// Rows up to which a table counts as small.
const SMALL: u64 = 100;
/// Guessed counts grow from parents to children up to a share of this, between these two; who wants more says so.
const ALTOGETHER: u64 = 600_000;
const LEAST_MOST: u64 = 2_000;
const MOST_MOST: u64 = 50_000;

/// What a scale may be.
pub const LEAST_SCALE: f64 = 0.001;
/// See [`LEAST_SCALE`].
pub const MOST_SCALE: f64 = 1e6;

/// Tables above one that its guess is worked out by; no schema is as deep.
const HIGHEST: usize = 64;

/// Guesses for the tables of a schema, with what all of them need to know of it.
pub struct RowGuesses<'s> {
    schema: &'s Schema,
    /// Rows of a table at most.
    most: u64,
    /// Rows of a table that others refer to and that refers to nothing; of one that has nothing to do with others.
    root: u64,
    lonely: u64,
    /// Children of a parent.
    each: u64,
    /// Whether another table refers to each.
    referred: Vec<bool>,
    /// Whether a junction refers to each.
    paired: Vec<bool>,
    /// Tables to whose rows those of others belong.
    tenants: Vec<TableId>,
}

impl<'s> RowGuesses<'s> {
    /// Looks the schema over.
    pub fn of(schema: &'s Schema) -> RowGuesses<'s> {
        let (mut referred, mut paired) = (vec![false; schema.tables.len()], vec![false; schema.tables.len()]);
        for id in schema.ids() {
            let others = schema.table(id).references.iter().filter(|reference| reference.parent != id);
            others.for_each(|reference| referred[reference.parent.0] = true);
            let pairs = schema.table(id).references.iter().filter(|_| is_junction(schema.table(id)));
            pairs.for_each(|reference| paired[reference.parent.0] = true);
        }
        RowGuesses { schema, most: 0, each: 0, root: ROOT, lonely: LONELY, referred, paired, tenants: tenants(schema) }.scaled(1.0)
    }

    /// The same for so many times as many rows. Tables grow by their place: those of few words and those that come with their rows stay as
    /// they are, those at the top grow with the square root, those below them more, those at the bottom as much as that.
    pub fn scaled(self, scale: f64) -> RowGuesses<'s> {
        let scale = if scale.is_finite() { scale.clamp(LEAST_SCALE, MOST_SCALE) } else { 1.0 };
        let times = |rows: u64, by: f64| libm::round(rows as f64 * by).max(1.0) as u64;
        let most = (ALTOGETHER / self.schema.tables.len().max(1) as u64).clamp(LEAST_MOST, MOST_MOST);
        let (most, root) = (times(most, scale), times(ROOT, scale.sqrt()));
        // The deeper the schema, the fewer children each has, so that those at the bottom are the most.
        let levels = levels(self.schema).max(1);
        let each = libm::pow(most as f64 / root as f64, 1.0 / levels as f64) as u64;
        RowGuesses { most, each: each.clamp(2, times(10, scale.sqrt()).max(10)), root, lonely: times(LONELY, scale), ..self }
    }

    /// The scale at which all tables together have about so many rows.
    pub fn scale_for(schema: &'s Schema, rows: u64) -> f64 {
        let sum = |scale: f64| {
            let guesses = RowGuesses::of(schema).scaled(scale);
            schema.ids().map(|id| guesses.count(id, &mut Vec::new()).1).fold(0_u64, u64::saturating_add)
        };
        // Rows grow with the scale: half the way between too few and too many, in the logarithm.
        let (mut low, mut high) = (LEAST_SCALE, MOST_SCALE);
        for _ in 0..60 {
            let middle = (low * high).sqrt();
            if sum(middle) < rows { low = middle } else { high = middle }
        }
        high
    }

    /// The guess for a table, where nobody says anything about any table.
    pub fn rows(&self, table: TableId) -> RowCount {
        self.count(table, &mut Vec::new()).0
    }

    fn count(&self, table: TableId, above: &mut Vec<TableId>) -> (RowCount, u64) {
        let (schema, most) = (self.schema, self.most);
        let model = schema.table(table);
        let seeds = model.seeds.len() as u64;
        if let Some(room) = most_by_rules(model) {
            let rows = room.min(if self.is_lookup(table) { LOOKUP } else { most }).max(seeds).max(1);
            return (RowCount::Fixed(rows), rows);
        }
        let parent = if above.len() < HIGHEST { self.main_parent(table, above) } else { None };
        // What ships with its rows is complete, unless it is only a beginning of what comes with time or hangs on what grows.
        if seeds >= 5 || seeds > 0 && (self.is_lookup(table) || parent.is_none() && !grows(model)) {
            return (RowCount::Fixed(seeds), seeds);
        }
        let Some(reference) = parent else {
            let rows = match (self.referred[table.0], self.is_lookup(table)) {
                (true, true) => LOOKUP,
                (true, false) => self.root,
                (false, _) if is_settings(model) => 40,
                (false, _) => self.lonely,
            };
            let rows = rows.max(seeds);
            return (RowCount::Fixed(rows), rows);
        };
        above.push(table);
        let (_, parents) = self.count(reference.parent, above);
        above.pop();
        let name = Name { text: schema.table(reference.parent).name.clone(), span: Span::default() };
        let per = |children: Children| RowCount::Per { children, share: 100, parent: name.clone() };
        if model.is_unique_key(&reference.columns) {
            return (per(Children::Between(Value::Integer(1), Value::Integer(1))), parents);
        }
        let each: u64 = if is_junction(model) { self.partners(table, reference, above) } else { self.each };
        let wanted = parents * each;
        if wanted > most {
            return match (most / parents.max(1)).min(each) {
                0 | 1 => (per(Children::Poisson(Value::Integer(1))), parents),
                fewer => (per(Children::About(Value::Integer(fewer as i64))), parents * fewer),
            };
        }
        // Some have very many: what people do is spread unevenly. But no tenant is without what others of its rows refer to.
        let mean = Value::Integer(each as i64);
        let is_needed = self.referred[table.0] && self.tenants.contains(&reference.parent) || self.is_paired(table);
        let children = match () {
            () if is_junction(model) && each == 1 => Children::Between(mean.clone(), mean),
            () if is_junction(model) || is_needed => Children::About(mean),
            () => Children::Heavy(mean),
        };
        (per(children), wanted)
    }

    /// How many rows of a junction each parent has: three, or as many as there are to be paired with of the same tenant at least.
    fn partners(&self, table: TableId, counted: &Reference, above: &mut Vec<TableId>) -> u64 {
        let model = self.schema.table(table);
        let mut most = 3;
        for &tenant in &self.tenants {
            let others = model.references.iter().filter(|other| other.parent != counted.parent && other.parent != tenant);
            for other in others.filter(|_| way(self.schema, counted.parent, tenant).is_some()) {
                let Some(way) = way(self.schema, other.parent, tenant) else { continue };
                above.push(table);
                let fewest = self.fewest(other.parent, &way, above);
                above.pop();
                // A mean of so many may be half as many again.
                most = most.min(fewest * 2 / 3).max(1);
            }
        }
        most
    }

    /// How many rows of a table a tenant has at least, by a way of references.
    fn fewest(&self, table: TableId, way: &[usize], above: &mut Vec<TableId>) -> u64 {
        let mut at = table;
        way.iter().fold(1, |fewest, &reference| {
            let least = match self.count(at, above).0 {
                RowCount::Per { children: Children::About(Value::Integer(mean)), .. } => mean.unsigned_abs() / 2,
                _ => 1,
            };
            at = self.schema.table(at).references[reference].parent;
            fewest * least
        })
    }

    /// Whether rows of a table are paired with others of the same tenant.
    fn is_paired(&self, table: TableId) -> bool {
        self.paired[table.0] && self.tenants.iter().any(|&tenant| way(self.schema, table, tenant).is_some())
    }

    /// Whether a table stays small however much there is of the rest.
    fn is_small(&self, table: TableId) -> bool {
        let model = self.schema.table(table);
        let seeds = model.seeds.len();
        self.is_lookup(table)
            || is_settings(model)
            || most_by_rules(model).is_some_and(|rows| rows <= SMALL)
            || seeds > 0 && seeds as u64 <= SMALL && model.references.is_empty() && !grows(model)
    }

    /// The reference by which children are counted: that to the largest parent that is needed and leads to no circle. Of things of a few kinds
    /// there are not so many for each kind, unless a rule says so.
    fn main_parent(&self, table: TableId, above: &[TableId]) -> Option<&'s Reference> {
        let model = self.schema.table(table);
        // Of a key that is made of references there are only so many.
        let refers = |column: &ColumnId| model.references.iter().any(|reference| reference.columns.contains(column));
        let keys = model.uniques.iter().map(|unique| &unique.columns).chain([&model.primary_key]).filter(|key| !key.is_empty());
        let is_bound = keys.into_iter().any(|key| key.iter().all(&refers));
        let needed = |reference: &&Reference| {
            reference.parent != table
                && !above.contains(&reference.parent)
                && reference.columns.iter().all(|&column| !model.columns[column].nullable)
                && (is_bound || !self.is_small(reference.parent))
        };
        let size = |reference: &Reference| {
            depth(self.schema, reference.parent, &mut vec![table]) * 2 + u64::from(!self.is_lookup(reference.parent))
        };
        let mut best: Option<(&Reference, u64)> = None;
        for reference in model.references.iter().filter(needed) {
            let size = size(reference);
            if best.is_none_or(|(_, known)| size > known) {
                best = Some((reference, size));
            }
        }
        best.map(|(reference, _)| reference)
    }

    /// A table of few words: small, or named like one, and referred to by others.
    fn is_lookup(&self, table: TableId) -> bool {
        let model = self.schema.table(table);
        if !self.referred[table.0] || !model.references.iter().all(|reference| reference.parent == table) {
            return false;
        }
        model.columns.len() <= 3 && !grows(model)
            || name_words(&model.name).iter().any(|word| names_a_lookup(word.strip_suffix('s').unwrap_or(word)))
    }
}

/// Whether a word names what people have, of whom there are many however few columns they have.
fn tells_of_people(word: &str) -> bool {
    matches!(word, "email" | "mail" | "login" | "phone" | "password" | "surname" | "lastname" | "username" | "birthday" | "birthdate")
}

/// Whether rows come with time, or are people: of those there are many, and more and more.
fn grows(table: &Table) -> bool {
    let is_time = |column: &Column| matches!(column.kind, LogicalType::Timestamp | LogicalType::Date);
    let is_of_people = |column: &Column| name_words(&column.name).iter().any(|word| tells_of_people(word));
    table.columns.iter().any(|column| is_time(column) || is_of_people(column))
}

/// Whether a word, without an s at its end, names tables of few words.
fn names_a_lookup(word: &str) -> bool {
    matches!(
        word,
        "type"
            | "statu"
            | "status"
            | "state"
            | "kind"
            | "categorie"
            | "category"
            | "role"
            | "level"
            | "unit"
            | "country"
            | "countrie"
            | "currency"
            | "language"
            | "priority"
            | "region"
            | "class"
            | "classe"
            | "group"
    )
}

/// How many tables lie one on top of the other, at most.
fn levels(schema: &Schema) -> u64 {
    let mut levels = vec![0_u64; schema.tables.len()];
    for id in schema.parents_first() {
        let table = schema.table(id);
        let needed = table.references.iter().filter(|reference| {
            reference.parent != id
                && reference.columns.iter().all(|&column| !table.columns[column].nullable)
                && !table.is_unique_key(&reference.columns)
        });
        levels[id.0] = needed.map(|reference| 1 + levels[reference.parent.0]).max().unwrap_or(0);
    }
    levels.into_iter().max().unwrap_or(0)
}

/// How many tables lie above a table, one on top of the other; those that are already above it count as nothing.
fn depth(schema: &Schema, table: TableId, above: &mut Vec<TableId>) -> u64 {
    // Deep enough to tell tables apart; going through all ways of a large schema would take too long.
    if above.len() > 4 || above.contains(&table) {
        return 0;
    }
    above.push(table);
    let model = schema.table(table);
    let parents = model.references.iter().filter(|reference| reference.columns.iter().all(|&column| !model.columns[column].nullable));
    let deepest = parents.map(|reference| 1 + depth(schema, reference.parent, above)).max().unwrap_or(0);
    above.pop();
    deepest
}

/// Names and values: settings.
fn is_settings(table: &Table) -> bool {
    table.columns.len() <= 4
        && name_words(&table.name).iter().any(|word| {
            matches!(word.as_str(), "setting" | "settings" | "config" | "configuration" | "option" | "options" | "preferences" | "version")
        })
}

/// Mostly references.
fn is_junction(table: &Table) -> bool {
    table.references.len() > 1 && table.columns.len() <= table.references.len() + 2
}

/// Most rows that rules of few values allow: a check of one value under a key makes a table of one row.
fn most_by_rules(table: &Table) -> Option<u64> {
    let (bounds, _) = crate::bounds::bounds(table);
    let room = |column: usize| -> Option<u64> {
        if table.references.iter().any(|reference| reference.columns.contains(&column)) {
            return None;
        }
        if let Some(values) = &bounds[column].one_of {
            return Some(values.len() as u64);
        }
        match (&bounds[column].least, &bounds[column].most, table.columns[column].kind) {
            (Some(Value::Integer(low)), Some(Value::Integer(high)), _) => u64::try_from(high.saturating_sub(*low).saturating_add(1)).ok(),
            (_, _, LogicalType::Boolean) => Some(2),
            _ => None,
        }
    };
    let keys = table.uniques.iter().map(|unique| &unique.columns).chain([&table.primary_key]).filter(|key| !key.is_empty());
    let rooms = keys.filter_map(|key| {
        let nullable = key.iter().any(|&column| table.columns[column].nullable);
        let all = key.iter().map(|&column| room(column)).try_fold(1_u64, |all, room| room.map(|room| all.saturating_mul(room)));
        all.filter(|_| !nullable)
    });
    rooms.min().filter(|&rooms| rooms < MOST_MOST)
}
