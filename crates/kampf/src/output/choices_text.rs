//! What is known of each choice, a line each.

use kampf_contest::{Choice, Opt};
use kampf_result::RacedContest;
use kampf_result::numbers::{about, behind, between, count, list, percent};
use kampf_verdict::{ByChoice, ChoiceEnd, Cost, End, OtherOption};

use super::forecast_text::PATIENCE;
use super::page::Page;
use super::style::{Look, paint};

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
        is_named && one.choice != Choice::Index && one.others.iter().all(|other| other.also.iter().any(is_schema))
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
        ChoiceEnd::Known => format!("{option}: {}", costs(contest, one)),
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
        let rest = rest.iter().map(|(other, least)| format!(", {}{} {}", other.option, also(other), behind(*least)));
        parts.push(format!("{}{} costs at least {}{}", first.option, also(first), behind(*least), rest.collect::<String>()));
    }
    let margin = contest.facts.settings.margin;
    for other in &one.others {
        let (word, also) = (other.option.to_string(), also(other));
        match other.cost {
            Cost::AtLeast(_) => {}
            Cost::AtMost(most) if most <= 1.0 + margin => {
                parts.push(format!("{word}{also} costs nothing to speak of (at most {})", behind(most.max(1.001))));
            }
            Cost::AtMost(most) => parts.push(format!("{word}{also} costs at most {}", behind(most))),
            Cost::Less(sure) => parts.push(format!("{word}{also} takes less, {}", between(sure.low, sure.high))),
            Cost::Open { interval: Some(sure), rounds } => {
                let lies = between(sure.low, sure.high);
                parts.push(format!("{}{also} is open, {lies}{}", paint(Look::Strong, &word), settles(contest, rounds)));
            }
            Cost::Open { interval: None, .. } => {}
        }
    }
    parts.extend(too_few(contest, one));
    parts.join("; ")
}

/// What else is different where an option was raced, as nobody was raced that has it alone.
fn also(other: &OtherOption) -> String {
    let word = |option: &Opt| if is_schema(option) && option.rank() == 0 { "the plain schema".to_owned() } else { option.to_string() };
    let words: Vec<String> = other.also.iter().map(word).collect();
    if words.is_empty() { String::new() } else { format!(" (with {})", list(&words)) }
}

fn is_schema(option: &Opt) -> bool {
    matches!(option.choice(), Choice::Index | Choice::Keys)
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
