//! Which contenders enter, and why others do not.

mod nature;
mod rules;
mod writes;

use std::collections::{BTreeMap, HashMap};
use std::fmt;
use std::hash::{DefaultHasher, Hash, Hasher};

use kampf_schema::Schema;

use crate::choice::{Choice, ChoiceOption, Choices, Hydration, Loading, Opt, Restriction, Ways};
use crate::dialect::Dialect;
use crate::need::Need;
use crate::plan::Plan;
use crate::planner::plan;
use nature::Nature;

/// A combination that is not derived.
#[derive(Clone, Debug, PartialEq)]
pub struct NotDerived {
    /// The combination.
    pub choices: Choices,
    /// Why.
    pub reason: &'static str,
}

impl fmt::Display for NotDerived {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}: {}", self.choices, self.reason)
    }
}

/// The derived contenders of a contest.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Field {
    /// Those that enter by default, from the naive end on.
    pub entered: Vec<Choices>,
    /// Every valid combination of choices that say what is asked for and made of it, each carried out in the usual manner.
    pub valid: Vec<Choices>,
    /// The other combinations of these.
    pub not_derived: Vec<NotDerived>,
    /// For each valid one, in the same order, the place of the other manners in which it can be carried out.
    manner_of: Vec<usize>,
    manners: Vec<Vec<Choices>>,
}

/// The choices in which others differ that are raced around one, those that may gain most first. Where work is done is none: it is the first thing that
/// a field tells, and what the application does itself is far behind wherever it matters.
const AROUND: [Choice; 14] = [
    Choice::Columns,
    Choice::Hydration,
    Choice::Loading,
    Choice::Filters,
    Choice::Habit,
    Choice::Fetch,
    Choice::Statement,
    Choice::Unit,
    Choice::Index,
    Choice::Keys,
    Choice::Commit,
    Choice::Batch,
    Choice::Back,
    Choice::Hang,
];

/// For each choice that applies to a need, in the order of names, the options that may be taken.
struct Axes {
    axes: Vec<Vec<Opt>>,
}

impl Field {
    /// The field of a need.
    ///
    /// The default entry begins with the naive end (the first option of every choice), moves the work to the database, tries
    /// every other way of loading there, and then, at the leanest loading, each step down in hydration, fetching only needed
    /// columns from the first hydration that allows it. So every member but the first differs from another in one choice.
    pub fn of(schema: &Schema, need: &Need, dialect: &Dialect, restriction: &Restriction) -> Field {
        let nature = Nature::of(schema, need, dialect);
        let (ways, manners) = (Axes::of(&nature, need, restriction, false), Axes::of(&nature, need, restriction, true));
        let mut field = Field::default();
        let mut known: HashMap<u64, Vec<(Choices, Plan)>> = HashMap::new();
        let mut same = BTreeMap::new();
        for choices in ways.combinations() {
            let of_choices = Ways::of(&choices);
            let plan = plan(schema, need, dialect, of_choices);
            let mut options = choices.options().filter(|option| !option.choice().entry().is_manner);
            let refusal = options.find_map(|option| rules::refusal(option, &nature, &of_choices, &plan));
            let refusal = refusal.or_else(|| manners.refusal(&nature, choices, manners.first(), &plan));
            let alike = known.entry(print_of(&plan)).or_default();
            let twin = alike.iter().find(|(_, other)| *other == plan).map(|(choices, _)| *choices);
            match (refusal, twin) {
                (Some(reason), _) => field.not_derived.push(NotDerived { choices, reason }),
                (None, Some(twin)) => {
                    same.insert(choices, twin);
                    field.not_derived.push(NotDerived { choices, reason: "it does the very same as another contender" });
                }
                (None, None) => {
                    field.add_manners(manners.of_plan(&nature, choices, &plan));
                    alike.push((choices, plan));
                    field.valid.push(choices);
                }
            }
        }
        field.leave_out_loading(&ways, &mut same);
        let (entered, comfortable) = ways.default_entry(&nature, &field.valid, &same);
        field.entered = entered;
        let comfortable = comfortable.and_then(|member| field.valid.iter().position(|choices| *choices == member));
        field.carry_out(&manners);
        if let Some(at) = comfortable {
            field.enter_manners(at, &manners, restriction);
        }
        field
    }

    fn add_manners(&mut self, manners: Vec<Choices>) {
        let known = self.manners.iter().position(|known| *known == manners).unwrap_or_else(|| {
            self.manners.push(manners);
            self.manners.len() - 1
        });
        self.manner_of.push(known);
    }

    /// Every valid combination, one by one: there may be very many.
    pub fn all(&self) -> impl Iterator<Item = Choices> + '_ {
        self.valid.iter().zip(&self.manner_of).flat_map(|(member, &manners)| {
            std::iter::once(*member).chain(self.manners[manners].iter().map(|manner| manner.options().fold(*member, Choices::with_opt)))
        })
    }

    /// Whether a combination is a valid one.
    pub fn holds(&self, choices: &Choices) -> bool {
        let of_kind = |choices: &Choices, is_manner: bool| {
            let options = choices.options().filter(|option| option.choice().entry().is_manner == is_manner);
            options.fold(Choices::default(), Choices::with_opt)
        };
        let (wanted, manner) = (of_kind(choices, false), of_kind(choices, true));
        let Some(at) = self.valid.iter().position(|member| of_kind(member, false) == wanted) else { return false };
        of_kind(&self.valid[at], true) == manner || self.manners[self.manner_of[at]].contains(&manner)
    }

    /// The valid combinations that differ from one in a single choice of those that are worth a look at anybody ([`AROUND`]), those that may gain most
    /// first: leaner options before others, fewer columns before leaner hydration before fewer trips. What enters only where there is reason to is none.
    pub fn neighbours(&self, of: &Choices, restriction: &Restriction) -> Vec<Choices> {
        let difference = |other: &Choices| of.difference(other).filter(|(own, _)| AROUND.contains(&own.choice()));
        let may_enter = |option: Opt| option.choice().entry().usual == Some(option.rank()) || restriction.enters(option);
        let is_neighbour = |other: &Choices| difference(other).is_some_and(|(_, option)| may_enter(option));
        let mut neighbours: Vec<Choices> = self.all().filter(is_neighbour).collect();
        neighbours.sort_by_key(|other| {
            let (own, option) = difference(other)?;
            let turn = AROUND.iter().position(|choice| *choice == own.choice());
            Some((option.rank() < own.rank(), turn, option))
        });
        neighbours
    }

    /// How many valid combinations there are.
    pub fn count(&self) -> usize {
        self.valid.len() + self.manner_of.iter().map(|&at| self.manners[at].len()).sum::<usize>()
    }

    /// Gives every member the usual manner.
    fn carry_out(&mut self, manners: &Axes) {
        let usual = manners.first();
        let with = |member: &mut Choices| *member = usual.options().fold(*member, Choices::with_opt);
        self.valid.iter_mut().for_each(with);
        self.entered.iter_mut().for_each(with);
        self.not_derived.iter_mut().for_each(|not| with(&mut not.choices));
    }

    /// The other manners that enter, each at one comfortable member; other schemas at the naive end as well.
    fn enter_manners(&mut self, at: usize, manners: &Axes, restriction: &Restriction) {
        let (member, usual) = (self.valid[at], manners.first());
        let others = manners.axes.iter().flat_map(|options| options.iter().skip(1)).filter(|option| restriction.enters(**option));
        let others = others.filter(|option| self.manners[self.manner_of[at]].contains(&usual.with_opt(**option)));
        let naive = self.entered.first().copied().filter(|naive| *naive != member);
        for &option in others {
            // What another schema is worth is seen at the naive end too.
            let naive = naive.filter(|_| option.entry().is_named);
            self.entered.extend(naive.into_iter().chain([member]).map(|at| at.with_opt(option)));
        }
    }

    /// Where every way of loading comes to the same, none of them stands in the name.
    fn leave_out_loading(&mut self, axes: &Axes, same: &mut BTreeMap<Choices, Choices>) {
        let options = axes.options(Choice::Loading);
        if options.len() < 2 {
            return;
        }
        for member in &mut self.valid {
            let variants: Vec<Choices> = options.iter().map(|&option| member.with_opt(option)).collect();
            if !variants.iter().all(|variant| variant == member || same.get(variant) == Some(member)) {
                continue;
            }
            let bare = member.without(Choice::Loading);
            self.not_derived.retain(|not| !variants.contains(&not.choices));
            same.values_mut().filter(|known| *known == member).for_each(|known| *known = bare);
            same.insert(*member, bare);
            *member = bare;
        }
    }
}

/// A number that equal plans have in common.
fn print_of(plan: &Plan) -> u64 {
    let mut hasher = DefaultHasher::new();
    plan.hydration.word().hash(&mut hasher);
    (plan.nodes.len(), plan.layouts.len(), plan.aggregates.len(), plan.root.columns.len()).hash(&mut hasher);
    plan.nodes.iter().for_each(|node| (node.layout, node.offset, node.with, &node.path).hash(&mut hasher));
    plan.root.columns.iter().for_each(|column| column.name.hash(&mut hasher));
    hasher.finish()
}

impl Axes {
    /// The choices of what is asked for and made of it, or those of the manner.
    fn of(nature: &Nature, need: &Need, restriction: &Restriction, manner: bool) -> Axes {
        let options = |choice: Choice| {
            let sized = |option: Opt| {
                if option.entry().is_named {
                    return restriction.labelled(option);
                }
                if !option.entry().has_size {
                    return vec![option];
                }
                let asked = restriction.sizes(option);
                let sizes = if asked.is_empty() { &need.portions } else { &asked };
                sizes.iter().map(|&size| option.of_size(size)).collect()
            };
            let options = choice.options().filter(|option| rules::is_option(*option, nature)).flat_map(sized);
            let mut options: Vec<Opt> = options.filter(|option| restriction.allows(*option)).collect();
            // What everybody has comes first.
            options.sort_by_key(|option| choice.entry().usual.is_some_and(|usual| usual != option.rank()));
            options
        };
        // A choice among what the user names is one where anything is named.
        let is_there = |choice: &Choice| {
            let mut named = choice.options().filter(|option| option.entry().is_named).peekable();
            named.peek().is_none() || named.any(|option| !restriction.labelled(option).is_empty())
        };
        let choices = Choice::ALL.into_iter().filter(|choice| choice.entry().is_manner == manner && rules::applies(*choice, nature));
        let choices = choices.filter(is_there);
        Axes { axes: choices.map(options).collect() }
    }

    /// The first option of each choice.
    fn first(&self) -> Choices {
        self.axes.iter().filter_map(|options| options.first()).fold(Choices::default(), |choices, option| choices.with_opt(*option))
    }

    /// The manners in which a plan can be carried out besides the first options of all.
    fn of_plan(&self, nature: &Nature, choices: Choices, plan: &Plan) -> Vec<Choices> {
        let usual = self.first();
        self.combinations().filter(|manner| *manner != usual && self.refusal(nature, choices, *manner, plan).is_none()).collect()
    }

    /// Why a plan cannot be carried out in a manner.
    fn refusal(&self, nature: &Nature, choices: Choices, manner: Choices, plan: &Plan) -> Option<&'static str> {
        let ways = Ways::of(&manner.options().fold(choices, Choices::with_opt));
        manner.options().find_map(|option| rules::refusal(option, nature, &ways, plan))
    }

    /// All combinations, the option of the last choice changing fastest, made one at a time: each on one schema, so that it deviates from the
    /// plain one in one thing.
    fn combinations(&self) -> impl Iterator<Item = Choices> + '_ {
        let all = self.axes.iter().map(Vec::len).product::<usize>();
        let combinations = (0..all).map(|number| {
            let mut rest = number;
            let mut choices = Choices::default();
            for options in self.axes.iter().rev() {
                choices = choices.with_opt(options[rest % options.len()]);
                rest /= options.len();
            }
            choices
        });
        combinations.filter(|choices| choices.options().filter(|option| option.label().is_some()).count() <= 1)
    }

    /// The options of a choice that may be taken; none where it does not apply.
    fn options(&self, choice: Choice) -> &[Opt] {
        self.axes.iter().find(|options| options.first().is_some_and(|first| first.choice() == choice)).map_or(&[], Vec::as_slice)
    }

    /// Who enters by default, and the comfortable one among them at which single deviations are tried.
    fn default_entry(&self, nature: &Nature, valid: &[Choices], same: &BTreeMap<Choices, Choices>) -> (Vec<Choices>, Option<Choices>) {
        let mut entered: Vec<Choices> = Vec::new();
        // What does the very same as another enters as that.
        let known = |choices: Choices| same.get(&choices).copied().unwrap_or(choices);
        let mut enter = |choices: Choices| {
            let choices = known(choices);
            if !valid.contains(&choices) {
                return false;
            }
            if !entered.contains(&choices) {
                let between = bridge(&entered, choices, valid);
                entered.extend(between);
                entered.push(choices);
            }
            true
        };
        if self.axes.iter().any(Vec::is_empty) {
            return (entered, None);
        }
        let last = |choices: Choices, choice| self.options(choice).last().map_or(choices, |&option| choices.with_opt(option));
        // The first hydration that is valid at the naive end; without a primary key nothing can be managed.
        let first = self.axes.iter().fold(Choices::default(), |choices, options| choices.with_opt(options[0]));
        let hydrations = self.options(Choice::Hydration);
        let naive = hydrations.iter().map(|&hydration| first.with_opt(hydration)).find(|choices| valid.contains(&known(*choices)));
        let Some(mut at) = naive.or_else(|| valid.first().copied()) else { return (entered, None) };
        enter(at);
        at = last(at, Choice::Work);
        enter(at);
        for &loading in self.options(Choice::Loading) {
            enter(at.with_opt(loading));
        }
        let is_valid = |loading: &Opt| valid.contains(&known(at.with_opt(*loading)));
        at = self.leanest_loading(nature, is_valid).map_or(at, |loading| at.with_opt(loading));
        enter(at);
        let needed = last(at, Choice::Columns).of(Choice::Columns);
        let first = hydrations.iter().position(|&hydration| Some(hydration) == at.of(Choice::Hydration)).unwrap_or(0);
        let mut comfortable = None;
        for &hydration in &hydrations[first..] {
            let next = at.with_opt(hydration);
            let lean = needed.map_or(next, |needed| next.with_opt(needed));
            if at.of(Choice::Columns) != needed {
                enter(next);
            }
            if enter(lean) {
                at = lean;
                if hydration != Hydration::Managed.opt() {
                    comfortable = comfortable.or(Some(lean));
                }
            } else {
                at = next;
            }
        }
        // A loading that makes no entities enters where it is comfortable.
        if let (Some(member), Some(&nested)) =
            (&comfortable, self.options(Choice::Loading).last().filter(|&&last| last == Loading::Nested.opt()))
        {
            enter(member.with_opt(nested));
        }
        // What everybody has is tried in its other options at one comfortable member.
        for choice in Choice::ALL.into_iter().filter(|choice| choice.entry().usual.is_some()) {
            for &option in self.options(choice).iter().skip(1) {
                if let Some(member) = &comfortable {
                    // What entities are used to is loaded in some way also where nothing related is asked for.
                    let is_alone = choice == Choice::Habit && known(*member).of(Choice::Loading).is_none();
                    for &loading in self.options(Choice::Loading).iter().filter(|_| is_alone) {
                        enter(member.with_opt(option).with_opt(loading));
                    }
                    enter(member.with_opt(option));
                }
            }
        }
        let comfortable = comfortable.map(known).or(entered.last().copied());
        (entered, comfortable)
    }

    /// The last loading that may be taken so far; with references to one row only, the join.
    fn leanest_loading(&self, nature: &Nature, is_valid: impl Fn(&Opt) -> bool) -> Option<Opt> {
        let options = self.options(Choice::Loading);
        let joined = options.iter().find(|&&loading| !nature.has_many && loading == Loading::Joined.opt());
        joined.or_else(|| options.iter().rev().find(|option| is_valid(option))).or(options.last()).copied()
    }
}

/// The members between those that have entered and one that differs from all of them in more than one choice, so that each step is
/// one choice; none where there is no such way.
fn bridge(entered: &[Choices], to: Choices, valid: &[Choices]) -> Vec<Choices> {
    if entered.is_empty() || entered.iter().any(|member| member.distance(&to) <= 1) {
        return Vec::new();
    }
    // Breadth first, from the member to those that have entered.
    let mut ways: Vec<Vec<Choices>> = vec![vec![to]];
    let mut seen = vec![to];
    while !ways.is_empty() {
        let mut longer = Vec::new();
        for way in &ways {
            let at = way[way.len() - 1];
            if entered.iter().any(|member| member.distance(&at) == 1) {
                return way[1..].iter().rev().copied().collect();
            }
            for &next in valid.iter().filter(|next| next.distance(&at) == 1) {
                if !seen.contains(&next) {
                    seen.push(next);
                    longer.push(way.iter().copied().chain([next]).collect());
                }
            }
        }
        ways = longer;
    }
    Vec::new()
}
