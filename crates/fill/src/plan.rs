//! Working the plan out: makers, links, unique rules and checks of all tables.

use std::collections::HashMap;
use std::sync::Arc;

use kampf_schema::expr::{Recipe, RecipeSource, RowCount, read_recipe};
use kampf_schema::{ColumnForm, ColumnId, LogicalType, Rule, Schema, Table, TableId, Value};

use crate::bounds::{Bounds, bounds};
use crate::connect::{Connecting, counted_too};
use crate::count::{CountedRows, count_all};
use crate::derived::Derived;
use crate::guards::guard;
use crate::guess;
use crate::link::{How, Link};
use crate::maker::{ListForm, Maker};
use crate::order::{FillError, FillSubject, Order};
use crate::origins::{OfTable, check_circles};
use crate::others::Origin;
use crate::random::{Permutation, key};
use crate::recipe::maker;
use crate::relate::{KnownFamilies, said};
use crate::seeds::{self, Given};
use crate::tables::{ColumnPlan, TablePlan, Way};
use crate::ties::tenants;
use crate::unique::{Draft, Filled, ValueSource, faithful, settle, settle_once};

/// The plans of all tables.
pub(crate) struct Planned {
    pub(crate) tables: Vec<TablePlan>,
    /// Row counts as asked for or guessed.
    pub(crate) counts: Vec<RowCount>,
    /// What there is to say about them.
    pub(crate) notes: Vec<String>,
}

/// Plans all tables.
pub(crate) fn tables(schema: &Schema, order: &Order) -> Result<Planned, FillError> {
    let mut notes = Vec::new();
    let mut kept = schema.clone();
    need_what_is_referred_to(&mut kept);
    let mut given = seeds::keep(&kept);
    for (table, kept) in schema.tables.iter().zip(&given) {
        if kept.len() < table.seeds.len() {
            notes.push(format!("{} of {} rows that the schema file puts into `{}` are kept", kept.len(), table.seeds.len(), table.name));
        }
    }
    for (table, given) in kept.tables.iter_mut().zip(&given) {
        table.seeds = given.to_vec();
    }
    let schema = &kept;
    // Where nobody asked for a number of rows, one is found that all rules allow.
    let mut fewer = HashMap::new();
    loop {
        let counts = counts(schema, order, &mut given, &fewer, &mut notes)?;
        match all(schema, order, &given, &counts) {
            Ok(tables) => return Ok(Planned { tables, counts: counts.into_iter().map(|counted| counted.asked).collect(), notes }),
            Err(error) => {
                let FillSubject::Rows(id) = error.subject else { return Err(error) };
                let rows = counts[id.0].rows;
                let less = error.room.filter(|room| *room < rows).unwrap_or(rows / 2).max(given[id.0].len() as u64);
                if order.is_asked(id) || less == 0 || less >= rows {
                    return Err(error);
                }
                fewer.insert(id, less);
            }
        }
    }
}

/// Columns that may be null, but that a column refers to which may not, get no nulls: every row of theirs can be a parent.
fn need_what_is_referred_to(schema: &mut Schema) {
    loop {
        let needed: Vec<(TableId, ColumnId)> = schema
            .tables
            .iter()
            .flat_map(|table| table.references.iter().map(move |reference| (table, reference)))
            .flat_map(|(table, reference)| {
                let pairs = reference.columns.iter().zip(&reference.parent_columns);
                pairs.filter(|(own, _)| !table.columns[**own].nullable).map(|(_, theirs)| (reference.parent, *theirs))
            })
            .filter(|(parent, column)| schema.table(*parent).columns[*column].nullable)
            .collect();
        if needed.is_empty() {
            return;
        }
        for (parent, column) in needed {
            schema.tables[parent.0].columns[column].nullable = false;
        }
    }
}

/// The counts of all tables. Given rows that leave no room for others are left out.
fn counts(
    schema: &Schema,
    order: &Order,
    given: &mut [Given],
    fewer: &HashMap<TableId, u64>,
    notes: &mut Vec<String>,
) -> Result<Vec<CountedRows>, FillError> {
    let counted = |given: &[Given]| {
        let given: Vec<u64> = given.iter().map(|rows| rows.len() as u64).collect();
        count_all(schema, order, &given, fewer)
    };
    let counts = counted(given)?;
    let mut dropped = false;
    for id in schema.ids() {
        let rows = given[id.0].len() as u64;
        if rows > 0 && counts[id.0].rows > rows && seeds::crowded(schema, id, given, |other| counts[other.0].rows) {
            let table = &schema.table(id).name;
            notes.push(format!("the rows that the schema file puts into `{table}` leave no room for others; they are left out"));
            given[id.0] = Vec::new().into();
            dropped = true;
        }
    }
    if dropped { counted(given) } else { Ok(counts) }
}

fn all(schema: &Schema, order: &Order, given: &[Given], counts: &[CountedRows]) -> Result<Vec<TablePlan>, FillError> {
    let given_rows: Vec<u64> = given.iter().map(|rows| rows.len() as u64).collect();
    let counted_too = counted_too(schema);
    let mut links: Vec<Option<Vec<Link>>> = vec![None; schema.tables.len()];
    let mut made_by = vec![Vec::new(); schema.tables.len()];
    let (families, tenants) = (KnownFamilies::default(), tenants(schema));
    for id in schema.parents_first() {
        let connecting = Connecting {
            schema,
            order,
            counts,
            given: &given_rows,
            counted_too: &counted_too,
            done: &links,
            families: &families,
            tenants: &tenants,
        };
        let (own, by) = connecting.links(id)?;
        links[id.0] = Some(own);
        made_by[id.0] = by;
    }
    let counted: Vec<Option<usize>> = counts.iter().map(|counted| counted.spread.as_ref().map(|(at, _)| *at)).collect();
    let mut plans = Vec::new();
    for (id, (links, made_by)) in schema.ids().zip(links.into_iter().zip(made_by)) {
        let planning =
            Planning { schema, order, id, rows: counts[id.0].rows, guessed: counts[id.0].guessed, given: &given[id.0], counted: &counted };
        plans.push(planning.table(links.unwrap_or_default(), &made_by)?);
    }
    check_circles(schema, &plans)?;
    Ok(plans)
}

struct Planning<'a> {
    schema: &'a Schema,
    order: &'a Order,
    id: TableId,
    rows: u64,
    guessed: bool,
    given: &'a Given,
    /// By which of its references the rows of each table are counted.
    counted: &'a [Option<usize>],
}

impl Planning<'_> {
    fn model(&self) -> &Table {
        self.schema.table(self.id)
    }

    fn table(&self, links: Vec<Link>, made_by: &[Option<(usize, usize)>]) -> Result<TablePlan, FillError> {
        let table = self.model();
        let (bounds, mut guarded) = bounds(table);
        let mut drafts = Vec::new();
        let mut ways = Vec::new();
        for column in 0..table.columns.len() {
            let (draft, way) = self.draft(column, &bounds[column], made_by[column], &links)?;
            drafts.push(draft);
            ways.push(way);
        }
        // What a user says about a column is not bound by what was understood of its checks.
        for (at, check) in table.checks.iter().enumerate() {
            let Ok(rule) = &check.rule else { continue };
            if !guarded.contains(&at)
                && rule.column_set().iter().any(|&column| {
                    self.order.values.contains_key(&(self.id, column)) || matches!(drafts[column].source, ValueSource::Computed(_))
                })
            {
                guarded.push(at);
            }
        }
        let asking = guarded.iter().filter_map(|&at| table.checks[at].rule.as_ref().ok());
        asking.flat_map(Rule::column_set).for_each(|column| drafts[column].checked = true);
        self.differ(&mut drafts, &links)?;
        let columns =
            drafts.into_iter().zip(ways).enumerate().map(|(at, (draft, way))| self.column(at, draft, way, &bounds[at], &links)).collect();
        let mut plan = TablePlan {
            rows: self.rows,
            given: Arc::clone(self.given),
            columns,
            links,
            references: table.references.clone(),
            guards: Vec::new(),
        };
        guard(self.schema, self.id, &mut plan, &guarded);
        Ok(plan)
    }

    /// What makes a column, as long as no unique rule says otherwise.
    fn draft(&self, at: ColumnId, bounds: &Bounds, made_by: Option<(usize, usize)>, links: &[Link]) -> Result<(Draft, Way), FillError> {
        let table = self.model();
        let column = &table.columns[at];
        let subject = FillSubject::Values(self.id, at);
        let asked = self.order.values.get(&(self.id, at));
        let longest = if let LogicalType::Text { .. } = column.kind { bounds.longest } else { None };
        // What checks say nothing about may look otherwise where rules want it.
        let free = bounds.one_of.is_none()
            && bounds.shape.is_none()
            && !bounds.lower
            && !bounds.upper
            && bounds.shortest <= 1
            && column.form == ColumnForm::Plain;
        let draft = |maker, source| Draft {
            maker,
            from_user: asked.is_some(),
            free: free && asked.is_none(),
            checked: false,
            instead: None,
            source,
            longest,
        };
        let way = |how: String, why: &str| Way { how, more: "", is_recipe: false, why: why.to_owned(), null_share: 0 };
        if let Some((link, place)) = made_by {
            let parent = &self.schema.table(table.references[link].parent).name;
            let chosen = match &links[link].how {
                How::Spread(_) => "children counted per parent",
                How::Scatter => "any of them",
                How::Uneven(..) => "some much more often than others",
                How::OneToOne(_) => "each once at most",
                How::Earlier => "a row before it",
                How::Pair { .. } | How::Within { .. } | How::With { .. } => "all pairs different",
                How::Cousin { .. } => "one with the same parent",
                How::Implied => "as another reference says",
                How::Never => "none",
            };
            let chosen = said(&links[link]).unwrap_or(chosen);
            let why = match () {
                () if asked.is_some() => "set",
                () if said(&links[link]).is_some() => "guessed from what the two have in common",
                () => "a reference",
            };
            return Ok((
                draft(Maker::Fixed(Value::Null), ValueSource::Linked(link, place)),
                way(format!("a row of {parent}: {chosen}"), why),
            ));
        }
        if let (Some(Ok(term)), None) = (&column.computed, asked) {
            return Ok((
                draft(Maker::Fixed(Value::Null), ValueSource::Computed(term.clone())),
                way("computed from other columns".to_owned(), "the schema"),
            ));
        }
        let guessed;
        let (recipe, why): (&Recipe, String) = match asked {
            Some(recipe) => (recipe, "set".to_owned()),
            None if bounds.unknown => return Ok((draft(Maker::Fixed(Value::Null), ValueSource::Drawn), way("null".to_owned(), "a check"))),
            None => {
                let guess = guess::recipe(self.schema, self.id, at, bounds, self.counted);
                guessed = read_recipe(&guess.recipe).map_err(|error| {
                    FillError::new(
                        subject.clone(),
                        format!("the guess `{}` for `{}.{}` is wrong: {}", guess.recipe, table.name, column.name, error.message),
                    )
                    .recipe(format!("say how to make it: `\"{}.{}\" = \"…\"` under [values]", table.name, column.name))
                })?;
                (&guessed, format!("guessed from {}", guess.why))
            }
        };
        let columns = OfTable { schema: self.schema, table: self.id, own: at, counted: self.counted };
        let made = maker(recipe, column.kind, &columns);
        let mut maker = made.map_err(|error| {
            let problem = FillError::new(subject.clone(), error.message);
            FillError { span: error.span, hint: error.hint, ..problem }
        })?;
        if let (Maker::List(_, _, _, form), ColumnForm::Array(_)) = (&mut maker, column.form) {
            *form = ListForm::Braces;
        }
        if let (Maker::Code(shape), Some(longest)) = (&mut maker, longest) {
            *shape = shape.clone().shortened(longest);
        }
        if !column.nullable
            && let Some(name) = self.null_origin(&maker, links)
        {
            return Err(FillError::new(
                subject,
                format!("`{}.{}` cannot be null, but `{name}`, from which it is made, can", table.name, column.name),
            )
            .hint("make it from another column"));
        }
        if asked.is_some() && !column.nullable && (recipe.null_share > 0 || recipe.source == RecipeSource::Literal(Value::Null)) {
            return Err(FillError::new(subject, format!("`{}.{}` cannot be null", table.name, column.name)).hint("leave out `or null`"));
        }
        let plain = Recipe { null_share: 0, ..recipe.clone() };
        Ok((draft(maker, ValueSource::Drawn), Way { is_recipe: true, ..way(plain.to_string(), &why) }))
    }

    /// A column that may be null and that values are made from which then are null too.
    fn null_origin(&self, maker: &Maker, links: &[Link]) -> Option<String> {
        let Maker::From(derived) = maker else { return None };
        if !matches!(**derived, Derived::After(..) | Derived::Step(..) | Derived::Linear { .. } | Derived::Slug(_) | Derived::Same(_)) {
            return None;
        }
        let table = self.model();
        let names = |origin| {
            let (of, at, linked) = match origin {
                Origin::Own(at) => (table, at, true),
                Origin::Parent(link, at) => (self.schema.table(table.references[link].parent), at, !links[link].nullable),
            };
            (of.columns[at].nullable || !linked).then(|| format!("{}.{}", of.name, of.columns[at].name))
        };
        let origins = maker.origins();
        let can_be_null: Vec<String> = origins.iter().copied().filter_map(names).collect();
        // Of several times one that is always known is enough.
        let all = can_be_null.len() == origins.len() || !matches!(**derived, Derived::After(_));
        can_be_null.into_iter().next().filter(|_| all)
    }

    /// Makes values differ where unique rules want it.
    fn differ(&self, drafts: &mut [Draft], links: &[Link]) -> Result<(), FillError> {
        let table = self.model();
        let given = self.given.len() as u64;
        if let [column] = table.primary_key[..]
            && matches!(drafts[column].source, ValueSource::Drawn)
            && table.columns[column].kind == LogicalType::Integer
            && !drafts[column].from_user
        {
            let room = table.columns[column].limits.map_or(u64::MAX, |(_, high)| high.unsigned_abs());
            if self.rows <= room && !self.is_bound(column) {
                drafts[column].source = ValueSource::RowNumber(1);
            }
        }
        // What the database would number is numbered, a key or not.
        for (column, draft) in drafts.iter_mut().enumerate() {
            if table.columns[column].numbered
                && table.columns[column].kind == LogicalType::Integer
                && matches!(draft.source, ValueSource::Drawn)
                && !draft.from_user
            {
                draft.source = ValueSource::RowNumber(1);
            }
        }
        let mut rules: Vec<Vec<ColumnId>> = table.uniques.iter().map(|unique| unique.columns.clone()).collect();
        rules.push(table.primary_key.clone());
        rules.extend(
            (0..table.columns.len())
                .filter(|&column| self.order.values.get(&(self.id, column)).is_some_and(|recipe| recipe.unique))
                .map(|column| vec![column]),
        );
        let mut rules: Vec<(Vec<ColumnId>, Option<&Rule>)> = rules.into_iter().map(|rule| (rule, None)).collect();
        rules.extend(table.unique_indexes.iter().map(|index| (faithful(index, drafts), index.among.as_ref())));
        rules.retain(|(rule, _)| !rule.is_empty());
        // What makes rows differ in fewer columns makes them differ in more.
        rules.sort_by_key(|(rule, among)| (rule.len(), among.is_some()));
        let settled = |drafts: &mut [Draft], rule: &[ColumnId]| {
            let names: Vec<&str> = rule.iter().map(|&column| table.columns[column].name.as_str()).collect();
            let seed = key(self.order.seed, &format!("{}.{}", table.name, names.join("+")));
            let left_out = self.given.iter().any(|row| rule.iter().any(|&column| row[column].is_none()));
            settle(self.schema, table, rule, drafts, links, Filled { rows: self.rows, given, left_out }, seed)
        };
        for (rule, among) in rules {
            let once = among.is_some_and(|among| settle_once(table, &rule, among, drafts, links));
            if !once {
                settled(drafts, &rule).map_err(|column| self.too_alike(&rule, column))?;
            }
        }
        // Numbers in order begin behind those that are given.
        for (column, draft) in drafts.iter_mut().enumerate() {
            if let ValueSource::RowNumber(first) = &mut draft.source {
                *first = if given > 0 { seeds::largest(self.given, column) + 1 } else { 1 };
            }
        }
        Ok(())
    }

    fn is_bound(&self, column: ColumnId) -> bool {
        let (bounds, _) = bounds(self.model());
        bounds[column].one_of.is_some() || matches!(&bounds[column].least, Some(Value::Integer(low)) if *low > 1)
    }

    fn too_alike(&self, rule: &[ColumnId], column: ColumnId) -> FillError {
        let table = self.model();
        let names: Vec<&str> = rule.iter().map(|&column| table.columns[column].name.as_str()).collect();
        let message = format!("{} rows of `{}` cannot all differ in {}", self.rows, table.name, names.join(", "));
        let subject = if self.order.values.contains_key(&(self.id, column)) {
            FillSubject::Values(self.id, column)
        } else {
            FillSubject::Rows(self.id)
        };
        let fewer = if self.guessed { "give the table fewer rows" } else { "ask for fewer rows" };
        FillError::new(subject, message).hint(format!(
            "{fewer} under [rows], or give `\"{}.{}\"` more different values under [values]",
            table.name, table.columns[column].name
        ))
    }

    fn column(&self, at: ColumnId, draft: Draft, mut way: Way, bounds: &Bounds, links: &[Link]) -> ColumnPlan {
        let table = self.model();
        let column = &table.columns[at];
        let key = key(self.order.seed, &format!("{}.{}", table.name, column.name));
        let asked = self.order.values.get(&(self.id, at));
        let free = matches!(
            draft.source,
            ValueSource::Drawn
                | ValueSource::Distinct
                | ValueSource::Numbered
                | ValueSource::DistinctWithin(_)
                | ValueSource::NumberedWithin(_)
        );
        let null_share = match (asked, &draft.source) {
            (
                _,
                ValueSource::Linked(..)
                | ValueSource::Computed(_)
                | ValueSource::Once { .. }
                | ValueSource::RowNumber(_)
                | ValueSource::Ordinal(_)
                | ValueSource::Digit { .. },
            ) => 0,
            (Some(recipe), _) => recipe.null_share,
            // A history has no holes.
            (None, _) if draft.maker.is_of_history() => 0,
            (None, _) if free && column.nullable && !bounds.known => guess::null_share(table, column),
            _ => 0,
        };
        way.null_share = match &draft.source {
            ValueSource::Linked(link, _) if column.nullable => links[*link].null_share,
            _ => null_share,
        };
        if let Some(recipe) = &draft.instead {
            way = Way { how: recipe.clone(), why: "guessed from a unique rule".to_owned(), ..way };
        }
        let fixed = |how: String, why: &str| Way { how, more: "", is_recipe: false, why: why.to_owned(), null_share: 0 };
        let numbered = |way: &mut Way, what: &'static str| way.more = what;
        match &draft.source {
            ValueSource::RowNumber(first) => way = fixed(format!("{first}, {}, {} …", first + 1, first + 2), "a key"),
            ValueSource::Distinct => numbered(&mut way, ", each once"),
            ValueSource::Numbered => numbered(&mut way, ", numbered"),
            ValueSource::Ordinal(_) => way = fixed("1, 2, 3 … within its parent".to_owned(), "a unique rule"),
            ValueSource::DistinctWithin(_) | ValueSource::NumberedWithin(_) => numbered(&mut way, ", each once within its parent"),
            ValueSource::Digit { .. } => numbered(&mut way, ", each combination once"),
            ValueSource::Once { inside, outside, .. } => {
                let text = |value: &Option<Value>| value.as_ref().map_or_else(|| "a value".to_owned(), ToString::to_string);
                way = fixed(format!("{} for one row of each parent, else {}", text(inside), text(outside)), "a unique rule");
            }
            _ => {}
        }
        let distinct = match draft.source {
            ValueSource::Distinct => draft.maker.capacity().map(|room| Permutation::new(room, key)),
            _ => None,
        };
        let taken = if draft.differs_by_value() { seeds::taken(self.given, at) } else { None };
        ColumnPlan {
            key,
            null_share,
            maker: draft.maker,
            source: draft.source,
            distinct,
            longest: draft.longest,
            kind: column.kind,
            taken,
            free: asked.is_none(),
            guard: None,
            way,
        }
    }
}

impl Draft {
    fn differs_by_value(&self) -> bool {
        matches!(self.source, ValueSource::Distinct | ValueSource::Numbered)
    }
}
