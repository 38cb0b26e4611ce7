//! What a contest is limited to.

use std::collections::{BTreeMap, BTreeSet};

use super::entry::{Choice, Opt};
use super::label::Label;

/// The options a contest is limited to, a choice that is not in it allows all; and what is tried besides what always is.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Restriction {
    allowed: BTreeMap<Choice, Vec<Opt>>,
    tried: BTreeSet<Choice>,
    /// What the user names and has enter.
    labels: Vec<Opt>,
}

impl Restriction {
    /// Allows an option, and of its choice no others than those allowed.
    pub fn allow(&mut self, option: Opt) {
        self.allowed.entry(option.choice).or_default().push(option);
    }

    /// Has the other options of a choice enter too, which only do so where there is reason to.
    pub fn try_others(&mut self, choice: Choice) {
        self.tried.insert(choice);
    }

    /// Whether an option may be taken.
    pub fn allows(&self, option: Opt) -> bool {
        self.allowed.get(&option.choice).is_none_or(|allowed| allowed.iter().any(|one| one.covers(option)))
    }

    /// Whether an option that is not what everybody has enters.
    pub(crate) fn enters(&self, option: Opt) -> bool {
        option.entry().enters || option.label.is_some() || self.tried.contains(&option.choice) || self.allowed.contains_key(&option.choice)
    }

    /// What is asked for of an option that the user names.
    pub(crate) fn labelled(&self, option: Opt) -> Vec<Opt> {
        let allowed = self.allowed.get(&option.choice).into_iter().flatten().copied().filter(|one| one.label.is_some());
        let mut all: Vec<Opt> = self.labels.iter().copied().filter(|one| one.choice == option.choice).chain(allowed).collect();
        let mut seen = BTreeSet::new();
        all.retain(|one| seen.insert(*one));
        all
    }

    /// What is allowed of a choice that the user names.
    pub fn labels(&self, choice: Choice) -> impl Iterator<Item = Label> + '_ {
        self.allowed.get(&choice).into_iter().flatten().filter_map(|one| one.label())
    }

    /// Has something enter that the user names.
    pub fn label(&mut self, option: Opt) {
        self.labels.push(option);
    }

    /// The sizes that are asked for of an option.
    pub(crate) fn sizes(&self, option: Opt) -> Vec<u32> {
        let allowed = self.allowed.get(&option.choice).into_iter().flatten();
        allowed.filter(|one| option.covers(**one)).filter_map(|one| one.size()).collect()
    }
}
