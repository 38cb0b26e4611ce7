//! Working the plan out: makers, links, unique rules and checks of all tables.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use kampf_schema::expr::{Name, Recipe, RowCount, Source as Written, read_recipe};
use kampf_schema::{ColumnId, Form, LogicalType, Rule, Schema, Table, TableId, Term, Value, did_you_mean};

use crate::blueprint::{Blueprint, ColumnPlan, FillError, FillSubject, Guard, Order, TablePlan, Way, as_kind};
use crate::bounds::{Bounds, bounds};
use crate::connect::{Connecting, counted_too};
use crate::count::{Counted, count_all};
use crate::guess;
use crate::link::{How, Link};
use crate::maker::{Derived, ListForm, Maker, Origin};
use crate::random::{Permutation, key};
use crate::recipe::{Columns, RecipeError, maker};
use crate::seeds::{self, Given};
use crate::unique::{Draft, Source, faithful, settle, settle_once};

/// Rows of each table that the checks are tried on.
const TRIED: u64 = 48;

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
    let mut given = seeds::keep(schema);
    for (table, kept) in schema.tables.iter().zip(&given) {
        if kept.len() < table.seeds.len() {
            notes.push(format!("{} of {} rows that the schema file puts into `{}` are kept", kept.len(), table.seeds.len(), table.name));
        }
    }
    let mut kept = schema.clone();
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
                if order.rows.contains_key(&id) || less == 0 || less >= rows {
                    return Err(error);
                }
                fewer.insert(id, less);
            }
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
) -> Result<Vec<Counted>, FillError> {
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

fn all(schema: &Schema, order: &Order, given: &[Given], counts: &[Counted]) -> Result<Vec<TablePlan>, FillError> {
    let given_rows: Vec<u64> = given.iter().map(|rows| rows.len() as u64).collect();
    let counted_too = counted_too(schema);
    let mut links: Vec<Option<Vec<Link>>> = vec![None; schema.tables.len()];
    let mut made_by = vec![Vec::new(); schema.tables.len()];
    for id in schema.parents_first() {
        let connecting = Connecting { schema, order, counts, given: &given_rows, counted_too: &counted_too, done: &links };
        let (own, by) = connecting.links(id)?;
        links[id.0] = Some(own);
        made_by[id.0] = by;
    }
    let mut plans = Vec::new();
    for (id, (links, made_by)) in schema.ids().zip(links.into_iter().zip(made_by)) {
        let planning = Planning { schema, order, id, rows: counts[id.0].rows, guessed: counts[id.0].guessed, given: &given[id.0] };
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
        self.unknown_checks()?;
        // What a user says about a column is not bound by what was understood of its checks.
        for (at, check) in table.checks.iter().enumerate() {
            let Ok(rule) = &check.rule else { continue };
            if !guarded.contains(&at)
                && rule.column_set().iter().any(|&column| {
                    self.order.values.contains_key(&(self.id, column)) || matches!(drafts[column].source, Source::Computed(_))
                })
            {
                guarded.push(at);
            }
        }
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
        guard(table, &mut plan, &guarded);
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
            && column.form == Form::Plain;
        let draft =
            |maker, source| Draft { maker, from_user: asked.is_some(), free: free && asked.is_none(), instead: None, source, longest };
        let way = |how: String, why: &str| Way { how, more: "", is_recipe: false, why: why.to_owned(), null_share: 0 };
        if let Some((link, place)) = made_by {
            let parent = &self.schema.table(table.references[link].parent).name;
            let chosen = match &links[link].how {
                How::Spread(_) => "children counted per parent",
                How::Scatter => "any of them",
                How::Uneven(..) => "some much more often than others",
                How::OneToOne(_) => "each once at most",
                How::Earlier => "a row before it",
                How::Pair { .. } | How::Within { .. } => "all pairs different",
                How::Cousin { .. } => "one with the same parent",
                How::Implied => "as another reference says",
                How::Never => "none",
            };
            let why = if asked.is_some() { "set" } else { "a reference" };
            return Ok((draft(Maker::Fixed(Value::Null), Source::Linked(link, place)), way(format!("a row of {parent}: {chosen}"), why)));
        }
        if let (Some(Ok(term)), None) = (&column.computed, asked) {
            return Ok((
                draft(Maker::Fixed(Value::Null), Source::Computed(term.clone())),
                way("computed from other columns".to_owned(), "the schema"),
            ));
        }
        let guessed;
        let (recipe, why): (&Recipe, String) = match asked {
            Some(recipe) => (recipe, "set".to_owned()),
            None if bounds.unknown => return Ok((draft(Maker::Fixed(Value::Null), Source::Drawn), way("null".to_owned(), "a check"))),
            None => {
                let guess = guess::recipe(self.schema, self.id, at, bounds);
                guessed = read_recipe(&guess.recipe).map_err(|error| {
                    FillError::new(
                        subject.clone(),
                        format!("the guess `{}` for `{}.{}` is wrong: {}", guess.recipe, table.name, column.name, error.message),
                    )
                    .hint(format!("say how to make it: `\"{}.{}\" = \"…\"` under [values]", table.name, column.name))
                })?;
                (&guessed, format!("guessed from {}", guess.why))
            }
        };
        let columns = OfTable { schema: self.schema, table: self.id, own: at };
        let made = maker(recipe, column.kind, &columns);
        let mut maker = made.map_err(|error| {
            let problem = FillError::new(subject.clone(), error.message);
            FillError { span: error.span, hint: error.hint, ..problem }
        })?;
        if let (Maker::List(_, _, _, form), Form::Array(_)) = (&mut maker, column.form) {
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
        if asked.is_some() && !column.nullable && (recipe.null_share > 0 || recipe.source == Written::Literal(Value::Null)) {
            return Err(FillError::new(subject, format!("`{}.{}` cannot be null", table.name, column.name)).hint("leave out `or null`"));
        }
        let plain = Recipe { null_share: 0, ..recipe.clone() };
        Ok((draft(maker, Source::Drawn), Way { is_recipe: true, ..way(plain.to_string(), &why) }))
    }

    /// A column that may be null and that values are made from which then are null too.
    fn null_origin(&self, maker: &Maker, links: &[Link]) -> Option<String> {
        let Maker::From(derived) = maker else { return None };
        if !matches!(**derived, Derived::After(..) | Derived::Step(..) | Derived::Linear { .. } | Derived::Slug(_) | Derived::Same(_)) {
            return None;
        }
        let table = self.model();
        maker.origins().into_iter().find_map(|origin| {
            let (of, at, linked) = match origin {
                Origin::Own(at) => (table, at, true),
                Origin::Parent(link, at) => (self.schema.table(table.references[link].parent), at, !links[link].nullable),
            };
            (of.columns[at].nullable || !linked).then(|| format!("{}.{}", of.name, of.columns[at].name))
        })
    }

    /// Checks that are not understood, and about whose columns the user says nothing.
    fn unknown_checks(&self) -> Result<(), FillError> {
        let table = self.model();
        for check in &table.checks {
            let Err(unknown) = &check.rule else { continue };
            let named: Vec<ColumnId> =
                (0..table.columns.len()).filter(|&column| mentions(&check.sql, &table.columns[column].name)).collect();
            if named.iter().any(|&column| self.order.values.contains_key(&(self.id, column))) {
                continue;
            }
            let example = named.first().map_or("…", |&column| table.columns[column].name.as_str());
            let sql = check.sql.split_whitespace().collect::<Vec<_>>().join(" ");
            return Err(FillError::new(
                FillSubject::Schema(check.span),
                format!("the check `{sql}` of `{}` has {unknown} in it, which is not known here", table.name),
            )
            .hint(format!("say under [values] how to meet it, like `\"{}.{example}\" = \"…\"`", table.name)));
        }
        Ok(())
    }

    /// Makes values differ where unique rules want it.
    fn differ(&self, drafts: &mut [Draft], links: &[Link]) -> Result<(), FillError> {
        let table = self.model();
        let given = self.given.len() as u64;
        if let [column] = table.primary_key[..]
            && matches!(drafts[column].source, Source::Drawn)
            && table.columns[column].kind == LogicalType::Integer
            && !drafts[column].from_user
        {
            let room = table.columns[column].limits.map_or(u64::MAX, |(_, high)| high.unsigned_abs());
            if self.rows <= room && !self.is_bound(column) {
                drafts[column].source = Source::RowNumber(1);
            }
        }
        let mut rules: Vec<Vec<ColumnId>> = table.uniques.iter().map(|unique| unique.columns.clone()).collect();
        rules.push(table.primary_key.clone());
        rules.extend(
            (0..table.columns.len())
                .filter(|&column| self.order.values.get(&(self.id, column)).is_some_and(|recipe| recipe.unique))
                .map(|column| vec![column]),
        );
        let mut partial = Vec::new();
        for index in &table.unique_indexes {
            let columns = faithful(index, drafts);
            match &index.among {
                None => rules.push(columns),
                Some(among) => partial.push((columns, among)),
            }
        }
        rules.retain(|rule| !rule.is_empty());
        rules.sort_by_key(Vec::len);
        let settled = |drafts: &mut [Draft], rule: &[ColumnId]| {
            let names: Vec<&str> = rule.iter().map(|&column| table.columns[column].name.as_str()).collect();
            let seed = key(self.order.seed, &format!("{}.{}", table.name, names.join("+")));
            settle(table, rule, drafts, links, self.rows, given, seed)
        };
        for rule in rules {
            settled(drafts, &rule).map_err(|column| self.too_alike(&rule, column))?;
        }
        for (rule, among) in partial {
            let once = rule.iter().any(|&column| matches!(drafts[column].source, Source::Linked(..)))
                && settle_once(table, &rule, among, drafts, links);
            if !once && !rule.is_empty() {
                settled(drafts, &rule).map_err(|column| self.too_alike(&rule, column))?;
            }
        }
        // Numbers in order begin behind those that are given.
        for (column, draft) in drafts.iter_mut().enumerate() {
            if let Source::RowNumber(first) = &mut draft.source {
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
            Source::Drawn | Source::Distinct | Source::Numbered | Source::DistinctWithin(_) | Source::NumberedWithin(_)
        );
        let null_share = match (asked, &draft.source) {
            (
                _,
                Source::Linked(..)
                | Source::Computed(_)
                | Source::Once { .. }
                | Source::RowNumber(_)
                | Source::Ordinal(_)
                | Source::Digit { .. },
            ) => 0,
            (Some(recipe), _) => recipe.null_share,
            (None, _) if free && column.nullable && !bounds.known => guess::null_share(column),
            _ => 0,
        };
        way.null_share = match &draft.source {
            Source::Linked(link, _) if column.nullable => links[*link].null_share,
            _ => null_share,
        };
        if let Some(recipe) = &draft.instead {
            way = Way { how: recipe.clone(), why: "guessed from a unique rule".to_owned(), ..way };
        }
        let fixed = |how: String, why: &str| Way { how, more: "", is_recipe: false, why: why.to_owned(), null_share: 0 };
        let numbered = |way: &mut Way, what: &'static str| way.more = what;
        match &draft.source {
            Source::RowNumber(first) => way = fixed(format!("{first}, {}, {} …", first + 1, first + 2), "a key"),
            Source::Distinct => numbered(&mut way, ", each once"),
            Source::Numbered => numbered(&mut way, ", numbered"),
            Source::Ordinal(_) => way = fixed("1, 2, 3 … within its parent".to_owned(), "a unique rule"),
            Source::DistinctWithin(_) | Source::NumberedWithin(_) => numbered(&mut way, ", each once within its parent"),
            Source::Digit { .. } => numbered(&mut way, ", each combination once"),
            Source::Once { inside, outside, .. } => {
                let text = |value: &Option<Value>| value.as_ref().map_or_else(|| "a value".to_owned(), ToString::to_string);
                way = fixed(format!("{} for one row of each parent, else {}", text(inside), text(outside)), "a unique rule");
            }
            _ => {}
        }
        let distinct = match draft.source {
            Source::Distinct => draft.maker.capacity().map(|room| Permutation::new(room, key)),
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
        matches!(self.source, Source::Distinct | Source::Numbered)
    }
}

/// Whether a condition's text names a column.
fn mentions(sql: &str, column: &str) -> bool {
    sql.split(|c: char| !(c.is_alphanumeric() || c == '_')).any(|word| word.eq_ignore_ascii_case(column))
}

/// Puts the columns of some checks under guards: those that share a column under the same one.
fn guard(table: &Table, plan: &mut TablePlan, checks: &[usize]) {
    let mut guards: Vec<(BTreeSet<ColumnId>, Vec<usize>)> = Vec::new();
    for &at in checks {
        let Ok(rule) = &table.checks[at].rule else { continue };
        let mut columns: BTreeSet<ColumnId> = rule.column_set().into_iter().collect();
        // What a column is made from is drawn anew with it, and so is what a reference brings along.
        let mut more: Vec<ColumnId> = columns.iter().copied().collect();
        while let Some(column) = more.pop() {
            let own = plan.columns[column]
                .maker
                .origins()
                .into_iter()
                .filter_map(|origin| if let Origin::Own(other) = origin { Some(other) } else { None });
            let computed = if let Source::Computed(term) = &plan.columns[column].source { term.column_set() } else { Vec::new() };
            for other in own.chain(computed) {
                if columns.insert(other) {
                    more.push(other);
                }
            }
        }
        let mut checks = vec![at];
        guards.retain(|(other, theirs)| {
            let apart = other.is_disjoint(&columns);
            if !apart {
                columns.extend(other);
                checks.extend(theirs);
            }
            apart
        });
        guards.push((columns, checks));
    }
    plan.columns.iter_mut().for_each(|column| column.guard = None);
    plan.guards = guards
        .into_iter()
        .enumerate()
        .map(|(at, (columns, checks))| {
            columns.iter().for_each(|&column| plan.columns[column].guard = Some(at));
            let rules: Vec<Rule> = checks.iter().filter_map(|&check| table.checks[check].rule.clone().ok()).collect();
            let columns: Vec<ColumnId> = columns.into_iter().collect();
            let hints = columns.iter().map(|&column| hints(table, column, &rules)).collect();
            Guard { columns, rules, hints }
        })
        .collect();
}

/// The fixed values that rules compare a column with.
fn hints(table: &Table, column: ColumnId, rules: &[Rule]) -> Vec<Value> {
    fn walk(rule: &Rule, column: ColumnId, found: &mut Vec<Value>) {
        let mut pair = |terms: &[&Term]| {
            let names = terms.iter().any(|term| term.column_set().contains(&column));
            let literals = terms.iter().filter_map(|term| if let Term::Literal(value) = term { Some(value.clone()) } else { None });
            if names {
                found.extend(literals);
            }
        };
        match rule {
            Rule::Compare(_, left, right) | Rule::Same(left, right) => pair(&[left, right]),
            Rule::In(term, list) => pair(&std::iter::once(term).chain(list).collect::<Vec<_>>()),
            Rule::Not(inner) => walk(inner, column, found),
            Rule::And(rules) | Rule::Or(rules) => rules.iter().for_each(|rule| walk(rule, column, found)),
            Rule::IsNull(_) | Rule::Matches(..) | Rule::Truth(_) => {}
        }
    }
    let mut found = Vec::new();
    rules.iter().for_each(|rule| walk(rule, column, &mut found));
    let kind = table.columns[column].kind;
    let mut fitting: Vec<Value> = found.into_iter().map(|value| as_kind(value, kind)).filter(|value| *value != Value::Null).collect();
    fitting.retain(|value| matches!(value, Value::Text(_)) == matches!(kind, LogicalType::Text { .. }));
    fitting.dedup();
    fitting
}

/// Tries all checks on some rows of each table. Those that were thought to hold and do not come under a guard; where a guard
/// cannot make them hold either, nobody can.
pub(crate) fn prove(schema: &Schema, order: &Order, blueprint: &mut Blueprint) -> Result<(), FillError> {
    for id in schema.ids() {
        let table = schema.table(id);
        let known: Vec<usize> = (0..table.checks.len()).filter(|&at| table.checks[at].rule.is_ok()).collect();
        if known.is_empty() {
            continue;
        }
        let mut under: Vec<usize> = known
            .iter()
            .copied()
            .filter(|&at| {
                blueprint.tables[id.0]
                    .guards
                    .iter()
                    .any(|guard| table.checks[at].rule.as_ref().is_ok_and(|rule| guard.rules.contains(rule)))
            })
            .collect();
        let failing = |blueprint: &Blueprint, checks: &[usize]| {
            let plan = &blueprint.tables[id.0];
            let (given, rows) = (plan.given.len() as u64, plan.rows);
            let step = ((rows - given.min(rows)) / TRIED).max(1);
            let tried = (given..rows).step_by(usize::try_from(step).unwrap_or(1));
            let mut found = BTreeSet::new();
            for row in tried {
                let value = |column: ColumnId| blueprint.value(id, row, column);
                found.extend(checks.iter().copied().filter(|&at| table.checks[at].rule.as_ref().is_ok_and(|rule| !rule.allows(&value))));
            }
            found
        };
        let first = failing(blueprint, &known);
        if first.iter().any(|at| !under.contains(at)) {
            under.extend(first.iter().filter(|at| !under.contains(at)).copied().collect::<Vec<_>>());
            guard(table, &mut blueprint.tables[id.0], &under);
            if let Some(&at) = failing(blueprint, &known).first() {
                return Err(cannot(table, id, order, at));
            }
        } else if let Some(&at) = first.first() {
            return Err(cannot(table, id, order, at));
        }
    }
    Ok(())
}

fn cannot(table: &Table, id: TableId, order: &Order, at: usize) -> FillError {
    let check = &table.checks[at];
    let sql = check.sql.split_whitespace().collect::<Vec<_>>().join(" ");
    let columns = check.rule.as_ref().map(Rule::column_set).unwrap_or_default();
    if let Some(&column) = columns.iter().find(|&&column| order.values.contains_key(&(id, column))) {
        let message = format!("nothing that this makes for `{}.{}` fulfils the check `{sql}`", table.name, table.columns[column].name);
        return FillError::new(FillSubject::Values(id, column), message).hint("let it make what the check allows, or leave the line out");
    }
    let example = columns.first().map_or("…", |&column| table.columns[column].name.as_str());
    FillError::new(FillSubject::Schema(check.span), format!("no values were found for `{}` that fulfil the check `{sql}`", table.name))
        .hint(format!("say under [values] how to meet it, like `\"{}.{example}\" = \"…\"`", table.name))
}

/// The columns that recipes of a table can name.
struct OfTable<'a> {
    schema: &'a Schema,
    table: TableId,
    own: ColumnId,
}

impl Columns for OfTable<'_> {
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

/// Values that are made from each other in a circle.
fn check_circles(schema: &Schema, plans: &[TablePlan]) -> Result<(), FillError> {
    type Node = (TableId, ColumnId);
    let edges = |(table, column): Node| -> Vec<Node> {
        let plan = &plans[table.0].columns[column];
        let mut edges: Vec<Node> = Vec::new();
        for origin in plan.maker.origins() {
            match origin {
                Origin::Own(other) => edges.push((table, other)),
                // An earlier row of the same table is no circle.
                Origin::Parent(link, other) => {
                    let parent = plans[table.0].references[link].parent;
                    if parent != table || !matches!(plans[table.0].links[link].how, How::Earlier) {
                        edges.push((parent, other));
                    }
                }
            }
        }
        match &plan.source {
            Source::Computed(term) => edges.extend(term.column_set().into_iter().map(|other| (table, other))),
            Source::Linked(link, place) => {
                let reference = &plans[table.0].references[*link];
                if reference.parent != table || !matches!(plans[table.0].links[*link].how, How::Earlier) {
                    edges.push((reference.parent, reference.parent_columns[*place]));
                }
            }
            _ => {}
        }
        edges
    };
    // 1 while what a node is made from is looked at, 2 when that is done.
    let mut state: HashMap<Node, u8> = HashMap::new();
    for id in schema.ids() {
        for column in 0..schema.table(id).columns.len() {
            let mut stack = vec![((id, column), false)];
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
