//! From names to sources, columns and aggregates.

use kampf_schema::expr::{self, Expr, Kinds, Mistake, Name, Node, Written, WrittenSource};
use kampf_schema::{ColumnId, Hop, HopKind, LogicalType, NamedRelation, Relations, Schema, Span, TableId, did_you_mean, nearest};

use super::related::no_value;
use super::unreadable;
use crate::form::ListForm;
use crate::need::{Aggregate, AggregateOver, Fold, Given, Group, Leaf, ListOver, OrderBy, Source, is_fuzzy, list_form};

/// What a need cannot say is written as SQL.
pub(super) const OWN_SQL: &str = "or write it as SQL of your own, under [contest.….contender.…]";

/// What values are asked of.
pub(super) enum Standing {
    /// Each root row.
    Row,
    /// Each group.
    Group(Group),
}

pub(super) struct Resolver<'a> {
    pub(super) schema: &'a Schema,
    pub(super) relations: &'a Relations,
    pub(super) sources: Vec<Source>,
    pub(super) aggregates: Vec<AggregateOver>,
    pub(super) lists: Vec<ListOver>,
    /// What is given so far; its names may be sorted by.
    pub(super) given: Vec<Given>,
    pub(super) standing: Standing,
    parameters: &'a [String],
    /// The type of each parameter, and whether it is a list, as soon as that is known.
    pub(super) kinds: Vec<Option<(LogicalType, bool)>>,
    /// Which parameters are used anywhere.
    pub(super) used: Vec<bool>,
}

/// Where an expression stands.
#[derive(Clone, Copy)]
pub(super) struct Place {
    /// The source whose row is at hand.
    pub(super) source: usize,
    /// Whether it is asked of a group, where there are groups.
    pub(super) of_group: bool,
    /// Whether names of given values are seen.
    pub(super) sees_given: bool,
}

/// A step to a related table, and what it is called.
#[derive(Clone)]
pub(super) struct Step {
    pub(super) name: String,
    pub(super) hop: Hop,
}

pub(super) const AT_ROOT: Place = Place { source: 0, of_group: false, sees_given: false };

impl<'a> Resolver<'a> {
    pub(super) fn new(schema: &'a Schema, relations: &'a Relations, root: TableId, parameters: &'a [String]) -> Resolver<'a> {
        Resolver {
            schema,
            relations,
            sources: vec![Source {
                parent: 0,
                hop: None,
                table: root,
                name: schema.table(root).name.clone(),
                filter: None,
                fixed: None,
                by_habit: false,
            }],
            aggregates: Vec::new(),
            lists: Vec::new(),
            given: Vec::new(),
            standing: Standing::Row,
            parameters,
            kinds: vec![None; parameters.len()],
            used: vec![false; parameters.len()],
        }
    }

    /// A value to give or to group by, and its type.
    pub(super) fn value(&mut self, written: &Expr<Written>) -> Result<(Expr<Leaf>, LogicalType), Mistake> {
        let of_group = matches!(self.standing, Standing::Group(_));
        self.checked(written, Place { of_group, ..AT_ROOT })
    }

    /// A condition on root rows.
    pub(super) fn condition(&mut self, written: &Expr<Written>) -> Result<Expr<Leaf>, Mistake> {
        self.condition_at(written, AT_ROOT)
    }

    fn condition_at(&mut self, written: &Expr<Written>, place: Place) -> Result<Expr<Leaf>, Mistake> {
        let (condition, kind) = self.checked(written, place)?;
        if kind != LogicalType::Boolean || matches!(written.node, Node::Literal(_)) {
            return Err(Mistake::new(written.span, "a condition is needed here").hint("compare it with something, like `… > 5`"));
        }
        Ok(condition)
    }

    /// A term to sort by.
    pub(super) fn order(&mut self, text: &str) -> Result<OrderBy<Leaf>, Mistake> {
        let read = expr::read_order(text).map_err(|error| unreadable(error, text))?;
        let of_group = matches!(self.standing, Standing::Group(_));
        let place = Place { of_group, sees_given: true, ..AT_ROOT };
        let (value, _) = self.checked(&read.key, place).map_err(|mistake| match mistake.hint {
            None if !self.given.is_empty() => mistake.hint("sort by a column, a path, an aggregate, or a name from `give`"),
            _ => mistake,
        })?;
        if value.leaves().into_iter().any(|leaf| matches!(leaf, Leaf::List(_))) {
            return Err(Mistake::new(read.key.span, "rows are not sorted by a list").hint("sort by an aggregate over its rows"));
        }
        if value.leaves().is_empty() {
            return Err(Mistake::new(read.key.span, "this is the same for all rows").hint("sort by something of the row"));
        }
        Ok(OrderBy { value, descending: read.descending, appended: false })
    }

    pub(super) fn checked(&mut self, written: &Expr<Written>, place: Place) -> Result<(Expr<Leaf>, LogicalType), Mistake> {
        let found = written.try_map(&mut |leaf| self.leaf(leaf, place))?;
        let (value, kind) = expr::check(&found, None, self)?;
        self.lists_stand_behind_in(&value)?;
        Ok((value, kind))
    }

    /// A list is no value.
    fn lists_stand_behind_in(&self, value: &Expr<Leaf>) -> Result<(), Mistake> {
        match &value.node {
            Node::InList(value, _) => self.lists_stand_behind_in(value),
            Node::Leaf(Leaf::Parameter(at)) if self.kinds[*at].is_some_and(|(_, is_list)| is_list) => {
                let name = &self.parameters[*at];
                Err(Mistake::new(value.span, format!("`:{name}` is a list")).hint(format!("ask `in :{name}`, or `if(:{name}, …)`")))
            }
            _ => value.parts().into_iter().try_for_each(|part| self.lists_stand_behind_in(part)),
        }
    }

    fn leaf(&mut self, leaf: &Written, place: Place) -> Result<Expr<Leaf>, Mistake> {
        match leaf {
            Written::Path(names) => self.path(names, place),
            Written::Parameter(name) => Ok(at(Leaf::Parameter(self.parameter(name)?), name.span)),
            Written::Aggregate(aggregate) => self.aggregate(aggregate, place),
            Written::Exists(source) => {
                let over = self.source(source, place.source)?;
                let fold = Fold { function: Aggregate::Exists, distinct: false, of: None, order: Vec::new(), kind: LogicalType::Boolean };
                Ok(at(self.over(AggregateOver { at: place.source, over, fold }), source.span))
            }
            Written::Pick(pick) => self.pick(pick, place),
            Written::List(list) => Err(no_value(list)),
            Written::If(parameter, _) => {
                Err(Mistake::new(parameter.span, "`if(…)` stands only as a part that `and` joins, at the top of `where`")
                    .hint(format!("for a choice inside use `:{parameter} is null or …`")))
            }
        }
    }

    pub(super) fn parameter(&mut self, name: &Name) -> Result<usize, Mistake> {
        match self.parameters.iter().position(|known| *known == name.text) {
            Some(at) => {
                self.used[at] = true;
                Ok(at)
            }
            None => {
                let mut mistake = Mistake::new(name.span, format!("the parameter `:{}` has no value", name.text));
                mistake.hint = did_you_mean(&name.text, self.parameters.iter().map(String::as_str))
                    .or_else(|| Some(format!("give it one under [contest.….parameters], like `{} = \"1..100\"`", name.text)));
                Err(mistake)
            }
        }
    }

    /// A name of something given, a term of the group, or a column of the row or of a row to one.
    fn path(&mut self, names: &[Name], place: Place) -> Result<Expr<Leaf>, Mistake> {
        let text = joined(names);
        let span = names[0].span.join(names[names.len() - 1].span);
        let called = |given: &&Given| given.name == text || (names.len() == 1 && given.name == names[0].text);
        // As with names of the schema: letters for letters, else upper and lower case alike, but for a column that is called just so.
        let root = self.schema.table(self.sources[place.source].table);
        let is_column = names.len() == 1 && root.columns.iter().any(|column| column.name == names[0].text);
        let alike = |given: &&Given| !is_column && given.name.eq_ignore_ascii_case(&text);
        if place.sees_given
            && let Some(given) = self.given.iter().find(called).or_else(|| self.given.iter().find(alike))
        {
            return Ok(Expr { span, ..given.value.clone() });
        }
        if place.of_group
            && let Standing::Group(group) = &self.standing
        {
            let position = |is: &dyn Fn(&&Given) -> bool| group.keys.iter().position(|key| is(&key));
            if let Some(key) = position(&called).or_else(|| position(&alike)) {
                return Ok(at(Leaf::Key(key), span));
            }
            let keys: Vec<String> = group.keys.iter().map(|key| format!("`{}`", key.name)).collect();
            // A name that is not there at all is a mistake of another kind.
            let known = keys.is_empty() || self.column(names, AT_ROOT).is_ok();
            let message = if keys.is_empty() {
                format!("`{text}` is a value of each row, and all rows become one here")
            } else {
                format!("`{text}` is not what rows are grouped by")
            };
            let mut mistake = Mistake::new(span, message).hint(format!("aggregate it, like `max({text})`, or add it to `group`"));
            if !known {
                mistake = self.column(names, AT_ROOT).err().unwrap_or(mistake);
                mistake.hint = did_you_mean(&text, group_names(&self.standing)).or(mistake.hint);
            }
            return Err(mistake);
        }
        let (source, column) = self.column(names, place)?;
        Ok(at(Leaf::Column { source, column }, span))
    }

    /// A column, over relations to one.
    fn column(&mut self, names: &[Name], place: Place) -> Result<(usize, ColumnId), Mistake> {
        let Some((last, relations)) = names.split_last() else { return Err(Mistake::new(Span::default(), "a path has a name")) };
        let from = self.sources[place.source].table;
        let hops = self.hops(relations, from)?;
        let table = hops.last().map_or(from, |step| step.hop.to);
        let model = self.schema.table(table);
        let text = joined(names);
        let Some(column) = model.find(&last.text) else {
            if self.relations.get(table, &last.text).is_some() {
                let hint = format!("give one of its columns, `{text}.…`, its rows, `{text} {{ … }}`, or `count({text})`");
                return Err(Mistake::new(last.span, format!("`{}` is a relation, not a value", last.text)).hint(hint));
            }
            let known = model.columns.iter().map(|column| column.name.as_str());
            let mut mistake = Mistake::new(last.span, format!("`{}` has no column `{}`", model.name, last.text));
            let known: Vec<&str> = known.chain(self.relations.from(table).map(|relation| relation.name.as_str())).collect();
            mistake.is_unknown = true;
            mistake.hint = did_you_mean(&last.text, known.iter().copied());
            // Whoever compares with a word that is like no name may mean a text.
            if relations.is_empty() && nearest(&last.text, known).is_none() {
                let text = format!("a text stands in single quotes: '{}'", last.text.replace('\'', "''"));
                mistake.hint = Some(mistake.hint.map_or_else(|| text.clone(), |hint| format!("{hint}; {text}")));
            }
            return Err(mistake);
        };
        if hops.iter().any(|step| step.hop.kind == HopKind::Many) {
            let span = names[0].span.join(last.span);
            return Err(Mistake::new(span, format!("`{text}` has many values for one row")).hint(self.of_many(names, &text)));
        }
        Ok((self.reach(place.source, &hops), column))
    }

    /// What to ask of many values: an aggregate, one of them, or all.
    fn of_many(&self, names: &[Name], text: &str) -> String {
        let Some((last, relations)) = names.split_last() else { return OWN_SQL.to_owned() };
        let path = joined(relations);
        format!("aggregate them, like `max({text})`, take one, like `last({path} order …).{last}`, or list them, `{path} {{ {last} }}`")
    }

    /// Whether the way to a source goes over a relation to many.
    pub(super) fn leads_to_many(&self, over: usize, from: usize) -> bool {
        let mut at = over;
        while at != from && at != 0 {
            if self.sources[at].hop.as_ref().is_some_and(|hop| hop.kind == HopKind::Many) {
                return true;
            }
            at = self.sources[at].parent;
        }
        false
    }

    /// The form of a list.
    pub(super) fn form_of(&self, list: usize) -> ListForm {
        list_form(&self.lists[list], &|value| is_fuzzy(&self.aggregates, &|value| self.kind_of(value), value))
    }

    /// The type of an expression, as far as it is known.
    pub(super) fn kind_of(&self, value: &Expr<Leaf>) -> LogicalType {
        value.kind(&|leaf| self.of(leaf)).unwrap_or(LogicalType::TEXT)
    }

    /// The source behind some steps, found or added.
    pub(super) fn reach(&mut self, from: usize, hops: &[Step]) -> usize {
        let mut parent = from;
        for Step { name, hop } in hops {
            let same = |known: &Source| known.parent == parent && known.hop.as_ref() == Some(hop) && known.filter.is_none();
            parent = self.sources.iter().position(same).unwrap_or_else(|| {
                self.sources.push(Source::along(parent, hop, name));
                self.sources.len() - 1
            });
        }
        parent
    }

    /// The rows of a written source. Its condition is resolved at rows that are not yet chosen by it.
    pub(super) fn source(&mut self, written: &WrittenSource, from: usize) -> Result<usize, Mistake> {
        let hops = self.hops(&written.path, self.sources[from].table)?;
        let Some(filter) = &written.filter else { return Ok(self.reach(from, &hops)) };
        // The condition is seen from a source of its own: what hangs on the rows that fulfil it is not what it is asked of.
        let Some((Step { name, hop }, before)) = hops.split_last() else {
            return Err(Mistake::new(written.span, "a relation is needed here"));
        };
        let parent = self.reach(from, before);
        let (own, aggregates) = (self.sources.len(), self.aggregates.len());
        self.sources.push(Source::along(parent, hop, name));
        let condition = self.condition_at(filter, Place { source: own, ..AT_ROOT })?;
        self.sources[own].filter = Some(condition);
        // The same source may be there already, with the same behind it.
        let known = (1..own).find(|&known| self.is_same(known, own));
        if let Some(known) = known {
            self.sources.truncate(own);
            self.aggregates.truncate(aggregates);
            return Ok(known);
        }
        Ok(own)
    }

    /// Whether two sources under conditions are the same, each seen from its own place.
    fn is_same(&self, one: usize, other: usize) -> bool {
        let (left, right) = (&self.sources[one], &self.sources[other]);
        if (left.parent, &left.hop, left.table) != (right.parent, &right.hop, right.table) {
            return false;
        }
        match (&left.filter, &right.filter) {
            (Some(left), Some(right)) => self.told(left, one) == self.told(right, other),
            (None, None) => true,
            _ => false,
        }
    }

    /// A condition in words that do not depend on the numbers of sources behind `own`.
    fn told(&self, condition: &Expr<Leaf>, own: usize) -> String {
        let way = |source: usize| {
            let mut hops = Vec::new();
            let mut at = source;
            while at != own && at != 0 {
                let source = &self.sources[at];
                let filter = source.filter.as_ref().map(|filter| self.told(filter, at));
                hops.push(format!("{:?}{filter:?}", source.hop));
                at = source.parent;
            }
            hops.join("<")
        };
        let told = condition.map(&mut |leaf| {
            let text = match leaf {
                Leaf::Column { source, column } => format!("{}#{column}", way(*source)),
                Leaf::Aggregate(at) => {
                    let AggregateOver { over, fold, .. } = &self.aggregates[*at];
                    let of = fold.of.as_ref().map(|of| self.told(of, *over));
                    format!("{:?}{}{}{of:?}", fold.function, fold.distinct, way(*over))
                }
                other => format!("{other:?}"),
            };
            Node::<String>::Leaf(text).into()
        });
        format!("{:?}", told.node)
    }

    /// An aggregate at its place among all, equal ones once.
    pub(super) fn over(&mut self, aggregate: AggregateOver) -> Leaf {
        let at = self.aggregates.iter().position(|known| *known == aggregate).unwrap_or_else(|| {
            self.aggregates.push(aggregate);
            self.aggregates.len() - 1
        });
        Leaf::Aggregate(at)
    }

    pub(super) fn hops(&self, names: &[Name], from: TableId) -> Result<Vec<Step>, Mistake> {
        let mut table = from;
        let mut path = Vec::new();
        for name in names {
            let relation = self
                .relations
                .find(self.schema, table, &name.text)
                .map_err(|error| Mistake { hint: error.hint, ..Mistake::new(name.span, error.message) })?;
            path.extend(self.steps(relation));
            table = relation.hops.last().map_or(table, |hop| hop.to);
        }
        Ok(path)
    }

    /// The steps of a relation: one under its name, several under those of their tables and the last under its own.
    pub(super) fn steps(&self, relation: &NamedRelation) -> Vec<Step> {
        let many = relation.hops.len();
        let name = |at: usize, hop: &Hop| if at + 1 == many { relation.name.clone() } else { self.schema.table(hop.to).name.clone() };
        relation.hops.iter().enumerate().map(|(at, hop)| Step { name: name(at, hop), hop: hop.clone() }).collect()
    }

    /// Whether a path in an aggregate goes to many rows: over a relation, or to a column of it.
    pub(super) fn goes_to_many(&self, names: &[Name], from: TableId) -> bool {
        let Some((last, before)) = names.split_last() else { return false };
        let Ok(hops) = self.hops(before, from) else { return false };
        let table = hops.last().map_or(from, |step| step.hop.to);
        hops.iter().any(|step| step.hop.kind == HopKind::Many)
            || self.relations.get(table, &last.text).is_some_and(|relation| is_many(&relation.hops))
    }
}

impl Kinds<Leaf> for Resolver<'_> {
    fn of(&self, leaf: &Leaf) -> Option<LogicalType> {
        Some(match leaf {
            Leaf::Column { source, column } => self.schema.table(self.sources[*source].table).columns[*column].kind,
            Leaf::Aggregate(at) => self.aggregates[*at].fold.kind,
            Leaf::Parameter(at) => return self.kinds[*at].map(|(kind, _)| kind),
            Leaf::Key(at) => return if let Standing::Group(group) = &self.standing { Some(group.keys[*at].kind()) } else { None },
            Leaf::List(_) => return None,
            Leaf::Total(at) => return if let Standing::Group(group) = &self.standing { Some(group.totals[*at].kind) } else { None },
        })
    }

    fn settle(&mut self, leaf: &Leaf, kind: LogicalType, is_list: bool, place: Span) -> Result<(), Mistake> {
        let Leaf::Parameter(at) = leaf else { return Ok(()) };
        match self.kinds[*at] {
            None => self.kinds[*at] = Some((kind, is_list)),
            Some((_, known)) if known != is_list => {
                return Err(Mistake::new(place, format!("`:{}` is a list in one place and one value in another", self.parameters[*at])));
            }
            Some((known, _)) if !known.comparable_with(kind) => {
                return Err(Mistake::new(place, format!("`:{}` is {known} elsewhere and {kind} here", self.parameters[*at])));
            }
            Some(_) => {}
        }
        Ok(())
    }
}

pub(super) fn at(leaf: Leaf, span: Span) -> Expr<Leaf> {
    Expr { node: Node::Leaf(leaf), span }
}

pub(super) fn is_many(hops: &[Hop]) -> bool {
    hops.iter().any(|hop| hop.kind == HopKind::Many)
}

fn group_names(standing: &Standing) -> Vec<&str> {
    match standing {
        Standing::Group(group) => group.keys.iter().map(|key| key.name.as_str()).collect(),
        Standing::Row => Vec::new(),
    }
}

pub(super) fn joined(names: &[Name]) -> String {
    names.iter().map(Name::to_string).collect::<Vec<_>>().join(".")
}
