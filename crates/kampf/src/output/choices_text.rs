//! What is known of each choice, a line each.

use kampf_contest::Choices;
use kampf_verdict::{ByChoice, ChoiceEnd, Cost, End, OtherOption, made_before};

use super::forecast_text::PATIENCE;
use super::numbers::{about, behind, between, count, list, percent};
use super::page::Page;
use super::style::{Look, paint};
use crate::raced::RacedContest;

/// The choices that were raced, in the order in which they are made.
pub(crate) fn choices_text(page: &mut Page, contest: &RacedContest) {
    if contest.verdict.by_choice.is_empty() {
        return;
    }
    page.line(paint(Look::Title, "By choice"));
    let widest = contest.verdict.by_choice.iter().map(|one| one.choice.word().len()).max().unwrap_or(0);
    // On another schema few are raced: what was raced on the plain one alone is said once.
    let on_plain = |one: &&ByChoice| {
        let is_named = contest.facts.contenders[one.base].choices.is_some_and(|base| base.variant().is_some());
        is_named && one.end(contest.facts.settings.margin) == ChoiceEnd::Alone
    };
    let elsewhere: Vec<String> = contest.verdict.by_choice.iter().filter(on_plain).map(|one| one.choice.word().to_owned()).collect();
    for one in contest.verdict.by_choice.iter().filter(|one| !on_plain(one)) {
        let word = one.choice.word();
        let space = " ".repeat(widest - word.len());
        let head = format!("  {}{space}", paint(Look::Strong, word));
        page.hung(&head, &words(contest, one), widest + 3);
    }
    if !elsewhere.is_empty() {
        page.paragraph(&format!("  {}: raced on the plain schema alone (--all)", list(&elsewhere)), widest + 3);
    }
    page.blank();
}

fn words(contest: &RacedContest, one: &ByChoice) -> String {
    let margin = contest.facts.settings.margin;
    let option = paint(Look::Good, &one.option.to_string());
    match one.end(margin) {
        ChoiceEnd::NoDifference => {
            let most = one.others.iter().filter_map(|other| at_most(&other.cost)).fold(1.0, f64::max);
            let names: Vec<String> =
                std::iter::once(one.option).chain(one.others.iter().map(|other| other.option)).map(|option| option.to_string()).collect();
            format!("makes no difference: {} are within {}", list(&names), percent(most - 1.0))
        }
        ChoiceEnd::Decided => format!("{option}, decided: {}", costs(contest, one)),
        ChoiceEnd::Known | ChoiceEnd::Alone => format!("{option}: {}", costs(contest, one)),
        ChoiceEnd::Open => format!("{} so far: {}", paint(Look::Strong, &one.option.to_string()), costs(contest, one)),
    }
}

fn at_most(cost: &Cost) -> Option<f64> {
    match cost {
        Cost::AtMost(most) => Some(*most),
        _ => None,
    }
}

/// What the other options cost: those that are slower first, the largest last.
fn costs(contest: &RacedContest, one: &ByChoice) -> String {
    let mut slower: Vec<(&OtherOption, f64)> =
        one.others.iter().filter_map(|other| if let Cost::AtLeast(least) = other.cost { Some((other, least)) } else { None }).collect();
    slower.sort_by(|(_, one), (_, other)| one.total_cmp(other));
    let mut parts: Vec<String> = Vec::new();
    if let Some(((first, least), rest)) = slower.split_first() {
        let rest = rest.iter().map(|(other, least)| format!(", {} {}", other.option, behind(*least)));
        parts.push(format!("{} costs at least {}{}", first.option, behind(*least), rest.collect::<String>()));
    }
    let margin = contest.facts.settings.margin;
    for other in &one.others {
        let word = other.option.to_string();
        match other.cost {
            Cost::AtLeast(_) => {}
            Cost::AtMost(most) if most <= 1.0 + margin => {
                parts.push(format!("{word} costs nothing to speak of (at most {})", behind(most.max(1.001))));
            }
            Cost::AtMost(most) => parts.push(format!("{word} costs at most {}", behind(most))),
            Cost::Open { interval: Some(sure), rounds } => {
                let lies = between(sure.low, sure.high);
                parts.push(format!("{} is open, {lies}{}", paint(Look::Strong, &word), settles(contest, rounds)));
            }
            Cost::Open { interval: None, .. } | Cost::Elsewhere => {}
        }
    }
    parts.extend(too_few(contest, one));
    parts.extend(elsewhere(contest, one));
    parts.join("; ")
}

/// The options that were raced only with other ways of loading or other places of work.
fn elsewhere(contest: &RacedContest, one: &ByChoice) -> Option<String> {
    let names = one.others.iter().filter(|other| other.cost == Cost::Elsewhere).map(|other| other.option.to_string());
    let names: Vec<String> = names.collect();
    let base = contest.facts.contenders[one.base].choices?;
    let before = made_before(one.choice).filter_map(|choice| base.of(choice)).fold(Choices::default(), Choices::with_opt);
    let were = if names.len() == 1 { "was" } else { "were" };
    (!names.is_empty()).then(|| format!("{} {were} not raced with {} (--all)", list(&names), before))
}

/// The options of which too few rounds tell anything.
fn too_few(contest: &RacedContest, one: &ByChoice) -> Option<String> {
    let open = one.others.iter().filter_map(|other| match other.cost {
        Cost::Open { interval: None, rounds } => Some((paint(Look::Strong, &other.option.to_string()), rounds)),
        _ => None,
    });
    let (names, rounds): (Vec<String>, Vec<Option<usize>>) = open.unzip();
    // All of them are settled after the most rounds that any needs, where that is known of each.
    let most = rounds.into_iter().collect::<Option<Vec<usize>>>().and_then(|rounds| rounds.into_iter().max());
    let are = if names.len() == 1 { "is" } else { "are" };
    (!names.is_empty()).then(|| format!("{} {are} open, with too few rounds{}", list(&names), settles(contest, most)))
}

/// What would settle an option that is open.
fn settles(contest: &RacedContest, rounds: Option<usize>) -> String {
    let more = rounds.map(|rounds| rounds.saturating_sub(contest.facts.rounds).max(1));
    match (contest.verdict.end, more) {
        // A race that is over does not go on for what changes nobody to take.
        (End::Decided | End::Alone | End::Nothing, _) => " (--exact tells)".to_owned(),
        (_, Some(more)) if more as f64 * contest.course.round_seconds > PATIENCE => " (more than 10 minutes)".to_owned(),
        (_, Some(1)) => " (at least one more round)".to_owned(),
        (_, Some(more)) => format!(" (at least {} more rounds)", count(about(more))),
        (_, None) => String::new(),
    }
}
