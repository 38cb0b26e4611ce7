//! Which contenders are held against each other whoever leads.

use kampf_contest::{Choice, Choices, Opt};

/// Which contenders of a field are compared with which whoever leads, by their options: those with other keys with the one that has the schema's
/// own and differs in nothing else, at the most comfortable of those that run with any. None for those that do not count: who is not derived, and
/// who may not be chosen.
pub fn compared(field: impl Iterator<Item = Option<Choices>>) -> Vec<(usize, usize)> {
    let field: Vec<(usize, Choices)> = field.enumerate().filter_map(|(at, choices)| Some((at, choices?))).collect();
    let label = |choices: &Choices| choices.of(Choice::Keys).and_then(Opt::label);
    let twins = |own: &Choices| {
        let rest = own.without(Choice::Keys);
        let are = field.iter().filter(move |(_, other)| label(other).is_some() && other.without(Choice::Keys) == rest);
        are.map(|(at, _)| *at).collect::<Vec<usize>>()
    };
    let owns = field.iter().filter(|(_, choices)| label(choices).is_none() && !twins(choices).is_empty());
    let Some((base, own)) = owns.max_by_key(|(_, choices)| choices.ranks().iter().sum::<usize>()) else { return Vec::new() };
    twins(own).into_iter().map(|at| (at, *base)).collect()
}
