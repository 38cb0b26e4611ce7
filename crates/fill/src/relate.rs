//! Which references lead to kin: to rows of the same tenant, of the same thing, or to those that what a row tells of has.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::Arc;

use kampf_schema::expr::{Argument, RecipeSource};
use kampf_schema::{Reference, Schema, TableId};

use crate::count::CountedRows;
use crate::kin::{Chain, Families, Kin, Leads, MOST_KIN, Thread};
use crate::link::{Among, Chained, How, Link, ReferenceId};
use crate::names::is_of_all;
use crate::order::{FillError, FillSubject, Order};
use crate::ties::{answer, any_way, history, way};

/// Rows of tables by whom they belong to, as far as any table asked for them.
pub(crate) type KnownFamilies = RefCell<HashMap<(TableId, TableId, Vec<ReferenceId>), Arc<Families>>>;

/// What is known when the references of a table are related.
pub(crate) struct Relating<'a> {
    pub(crate) schema: &'a Schema,
    pub(crate) order: &'a Order,
    pub(crate) counts: &'a [CountedRows],
    /// Given rows of each table.
    pub(crate) given: &'a [u64],
    /// Links of the tables planned so far.
    pub(crate) done: &'a [Option<Vec<Link>>],
    pub(crate) families: &'a KnownFamilies,
    pub(crate) tenants: &'a [TableId],
}

impl Relating<'_> {
    /// Lets the references of a table that lead to any row so far lead to kin.
    pub(crate) fn relate(&self, id: TableId, links: &mut [Link]) -> Result<(), FillError> {
        for at in 0..links.len() {
            if let Some(with) = self.asked_same(id, at)? {
                let kin = self.same(id, at, with, links)?;
                links[at].kin = Some(Among::Kin(kin));
            }
        }
        self.threads(id, links);
        self.of_what_is_told(id, links);
        for &tenant in self.tenants {
            self.of_tenant(id, tenant, links);
        }
        Ok(())
    }

    fn reference(&self, id: TableId, at: ReferenceId) -> &Reference {
        &self.schema.table(id).references[at]
    }

    /// Whether rows of a table can be kept by whom they belong to, or others by them.
    fn are_few(&self, id: TableId) -> bool {
        self.counts[id.0].rows <= MOST_KIN
    }

    /// Whether a reference may lead to kin: nobody has said how its parents are chosen, and nothing else decides it.
    fn is_open(&self, id: TableId, at: ReferenceId, link: &Link) -> bool {
        let columns = &self.reference(id, at).columns;
        columns.len() == 1 && link.kin.is_none() && !self.order.values.contains_key(&(id, columns[0]))
    }

    /// Answers are to what hangs on the same thing.
    fn threads(&self, id: TableId, links: &mut [Link]) {
        for (at, link) in links.iter_mut().enumerate() {
            let Some(answer) = answer(self.schema, id, at) else { continue };
            let thing = self.reference(id, answer.on).parent;
            if matches!(link.how, How::Earlier) && self.is_open(id, at, link) && self.are_few(id) && self.are_few(thing) {
                let (rows, heads) = (self.counts[id.0].rows, self.counts[thing.0].rows);
                let said = format!("an earlier one of the same {}", self.schema.table(thing).name);
                link.kin = Some(Among::Thread(Thread::new(answer.on, self.given[id.0], rows, heads, said)));
            }
        }
    }

    /// Who took a step is who has what it is a step of.
    fn of_what_is_told(&self, id: TableId, links: &mut [Link]) {
        let Some(history) = history(self.schema, id) else { return };
        let told = self.reference(id, history.reference).parent;
        let Some(theirs) = self.done[told.0].as_ref().filter(|_| links[history.reference].spread().is_some()) else { return };
        for (at, link) in links.iter_mut().enumerate() {
            let parent = self.reference(id, at).parent;
            if at == history.reference || parent == id || !matches!(link.how, How::Scatter) || !self.is_open(id, at, link) {
                continue;
            }
            let same = (0..theirs.len()).find(|&there| self.reference(told, there).parent == parent && !theirs[there].nullable);
            if let Some(there) = same {
                let way = Chain(vec![Arc::new(Chained { links: theirs.as_slice().into(), at: there })]);
                let said = format!("that of its {}", self.schema.table(told).name);
                link.kin = Some(Among::Kin(Kin { by: history.reference, way, families: None, tenant: None, said }));
            }
        }
    }

    /// Rows of a tenant refer to rows of that tenant.
    fn of_tenant(&self, id: TableId, tenant: TableId, links: &mut [Link]) {
        let Some(by) = self.belongs_by(id, tenant, links) else { return };
        for at in 0..links.len() {
            let is_free = match links[at].how {
                How::Scatter => true,
                // Pairs of which one half leads to the tenant: all of one parent's have the same.
                How::Within { spread } => spread == by && self.reference(id, at).parent != tenant,
                _ => false,
            };
            if self.reference(id, at).parent == id || !is_free || !self.is_open(id, at, &links[at]) || hangs_on(links, by, at) {
                continue;
            }
            let strict = |from: TableId| if from == tenant { Some(Vec::new()) } else { way(self.schema, from, tenant) };
            if let Some(kin) = self.kin(id, by, at, tenant, &strict) {
                links[at].kin = Some(Among::Kin(kin));
            }
        }
    }

    /// The reference by which rows belong to a tenant: that by which they are counted, else one to something of the tenant's, else that to the
    /// tenant itself.
    fn belongs_by(&self, id: TableId, tenant: TableId, links: &[Link]) -> Option<ReferenceId> {
        let leads = |at: &ReferenceId| {
            let Reference { parent, columns, .. } = self.reference(id, *at);
            let is_plain = *parent != id && columns.len() == 1 && !links[*at].nullable;
            is_plain && (*parent == tenant || way(self.schema, *parent, tenant).is_some())
        };
        let all = || (0..links.len()).filter(leads);
        let counted = all().find(|&at| links[at].spread().is_some());
        let owned = || all().filter(|&at| !is_of_all(self.schema.table(self.reference(id, at).parent)));
        counted.or_else(|| owned().find(|&at| self.reference(id, at).parent != tenant)).or_else(|| owned().next())
    }

    /// The kin to which a reference leads for rows that belong to somebody by another one.
    fn kin(
        &self,
        id: TableId,
        by: ReferenceId,
        at: ReferenceId,
        head: TableId,
        way: &dyn Fn(TableId) -> Option<Vec<ReferenceId>>,
    ) -> Option<Kin> {
        let (from, parent) = (self.reference(id, by).parent, self.reference(id, at).parent);
        let own = self.chain(from, &way(from)?)?;
        let families = if parent == head { None } else { Some(self.families(parent, head, way(parent)?)?) };
        let said = format!("one of the same {}", self.schema.table(head).name);
        Some(Kin { by, way: own, families, tenant: Some(head), said })
    }

    /// A way from a table as links; none where a table on it is planned later.
    fn chain(&self, from: TableId, way: &[ReferenceId]) -> Option<Chain> {
        let mut at = from;
        let hops = way.iter().map(|&reference| {
            let links: Arc<[Link]> = self.done[at.0].as_deref()?.into();
            at = self.reference(at, reference).parent;
            Some(Arc::new(Chained { links, at: reference }) as Arc<dyn Leads>)
        });
        hops.collect::<Option<_>>().map(Chain)
    }

    fn families(&self, of: TableId, head: TableId, way: Vec<ReferenceId>) -> Option<Arc<Families>> {
        if !self.are_few(of) || !self.are_few(head) {
            return None;
        }
        let chain = self.chain(of, &way)?;
        let new = || Arc::new(Families::new(chain, self.given[of.0], self.counts[of.0].rows, self.counts[head.0].rows));
        Some(Arc::clone(self.families.borrow_mut().entry((of, head, way)).or_insert_with(new)))
    }

    /// The table that a recipe of a reference's column says the row and its parent have in common.
    fn asked_same(&self, id: TableId, at: ReferenceId) -> Result<Option<TableId>, FillError> {
        let asked =
            self.reference(id, at).columns.iter().find_map(|&column| self.order.values.get(&(id, column)).map(|recipe| (column, recipe)));
        let Some((column, recipe)) = asked else { return Ok(None) };
        let RecipeSource::Call { name, arguments } = &recipe.source else { return Ok(None) };
        let ([Argument::Path(path)], true) = (arguments.as_slice(), name.text.eq_ignore_ascii_case("same")) else { return Ok(None) };
        let [with] = path.as_slice() else { return Ok(None) };
        self.schema.find(&with.text).map(Some).ok_or_else(|| {
            let names = self.schema.tables.iter().map(|table| table.name.as_str());
            let error = FillError::new(FillSubject::Values(id, column), format!("there is no table `{}`", with.text));
            FillError { span: Some(with.span), hint: kampf_schema::did_you_mean(&with.text, names), ..error }
        })
    }

    /// Parents that have a row of another table in common with the child, as a recipe asks for.
    fn same(&self, id: TableId, at: ReferenceId, head: TableId, links: &[Link]) -> Result<Kin, FillError> {
        let any = |from: TableId| if from == head { Some(Vec::new()) } else { any_way(self.schema, from, head) };
        let parent = self.reference(id, at).parent;
        let is_plain = |by: &ReferenceId| self.reference(id, *by).parent != id && self.reference(id, *by).columns.len() == 1;
        // Two that would each be chosen by the other are chosen by neither.
        let by = (0..links.len()).filter(|by| is_plain(by) && !hangs_on(links, *by, at));
        let nearest = by.filter_map(|by| Some((any(self.reference(id, by).parent)?.len(), by))).min();
        let kin = nearest.and_then(|(_, by)| self.kin(id, by, at, head, &any));
        let is_free = matches!(links[at].how, How::Scatter) && parent != id;
        kin.filter(|_| is_free).ok_or_else(|| {
            let (table, parent, head) = (self.schema.table(id), &self.schema.table(parent).name, &self.schema.table(head).name);
            let message = match is_free {
                true => format!("rows of `{}` and of `{parent}` do not both lead to one of `{head}` by other references", table.name),
                false => format!("which row of `{parent}` it is follows from the counts and rules of `{}` already", table.name),
            };
            FillError::new(FillSubject::Values(id, self.reference(id, at).columns[0]), message).hint("remove this line")
        })
    }
}

/// Whether a link is another one, or is chosen by it in its turn.
fn hangs_on(links: &[Link], mut at: ReferenceId, other: ReferenceId) -> bool {
    for _ in links {
        match &links[at].kin {
            _ if at == other => return true,
            Some(Among::Kin(kin)) => at = kin.by,
            _ => return false,
        }
    }
    true
}

/// The way by which a parent is chosen, in words.
pub(crate) fn said(link: &Link) -> Option<&str> {
    match (link.kin.as_ref()?, &link.how) {
        (Among::Kin(kin), How::Scatter | How::Within { .. }) => Some(&kin.said),
        (Among::Thread(thread), How::Earlier) => Some(&thread.said),
        _ => None,
    }
}
