//! From the rounds' values to what to choose: the same for a race that has just been run and for one that was saved.

mod mattered;
mod replay;
mod requirements;
mod trade_offs;

#[cfg(test)]
mod tests;

use kampf_contest::{ByHand, Hydration};

use crate::document::{ContenderPart, ContestPart, Outcome, VerdictPart};
pub(crate) use requirements::Require;

/// A contender is hardly slower than the fastest within a tenth, or within a millisecond.
const HARDLY_SHARE: f64 = 1.10;
const HARDLY_NS: f64 = 1e6;

/// Works out everything that follows from what was measured: how each contender stands, what to choose, what the choices did.
/// Contenders come to stand best first.
pub(crate) fn decide(part: &mut ContestPart) {
    let decided = replay::stand(part);
    part.verdict = if part.require.is_empty() { by_speed(part, decided) } else { by_requirements(part, decided) };
    trade_offs::mark(&mut part.contenders, part.race.margin);
    part.mattered = mattered::work_out(part);
}

/// Whether a contender was timed and gave the right answer.
pub(crate) fn is_eligible(contender: &ContenderPart) -> bool {
    contender.latency_ns.median.is_some() && !matches!(contender.outcome, Outcome::Disagrees | Outcome::Failed)
}

fn named(contenders: &[ContenderPart], outcome: Outcome) -> Vec<String> {
    contenders.iter().filter(|contender| contender.outcome == outcome).map(|contender| contender.name.clone()).collect()
}

/// How the race ended, whatever is chosen.
fn ended(contenders: &[ContenderPart], decided: bool) -> VerdictPart {
    VerdictPart {
        decided,
        leader: named(contenders, Outcome::Standing).into_iter().next(),
        tied: named(contenders, Outcome::Tied),
        alike: named(contenders, Outcome::Unresolved),
        ..VerdictPart::default()
    }
}

/// Among those that meet the requirements the one that leaves least to do. The others are marked as ruled out, with the reason.
fn by_requirements(part: &mut ContestPart, decided: bool) -> VerdictPart {
    let verdict = ended(&part.contenders, decided);
    let eligible: Vec<&ContenderPart> = part.contenders.iter().filter(|contender| is_eligible(contender)).collect();
    let meeting = eligible.iter().copied().filter(|contender| part.require.misses(contender).is_empty());
    let choose = meeting.min_by(|left, right| comfort(left, right)).map(|contender| contender.name.clone());
    let nearest = if choose.is_none() { part.require.nearest(&eligible) } else { Vec::new() };
    for contender in part.contenders.iter_mut().filter(|contender| is_eligible(contender)) {
        let missed = part.require.misses(contender);
        if !missed.is_empty() {
            contender.outcome = Outcome::RuledOut;
            contender.reason = Some(missed.join("; "));
        }
    }
    VerdictPart { requirements_met: Some(choose.is_some()), choose, nearest, ..verdict }
}

/// The fastest; of several that are tied the one that leaves least to do. Nobody where the race did not decide.
fn by_speed(part: &ContestPart, decided: bool) -> VerdictPart {
    let contenders = &part.contenders;
    let verdict = ended(contenders, decided);
    let first = contenders.iter().filter(|contender| matches!(contender.outcome, Outcome::Standing | Outcome::Tied));
    let Some(chosen) = first.min_by(|left, right| comfort(left, right)).filter(|_| decided) else { return verdict };
    let best = contenders.iter().find(|contender| contender.outcome == Outcome::Standing).and_then(|best| best.latency_ns.median);
    let best = best.unwrap_or(f64::INFINITY);
    let near = contenders.iter().filter(|contender| is_eligible(contender) && is_hardly_slower(contender, best));
    let comfortable = near
        .min_by(|left, right| comfort(left, right))
        .filter(|near| near.name != chosen.name && near.by_hand.is_some() && is_less_work(near, chosen));
    let comfortable = comfortable.map(|contender| contender.name.clone());
    VerdictPart { choose: Some(chosen.name.clone()), comfortable, ..verdict }
}

/// Whether a contender takes hardly longer than so many nanoseconds.
pub(crate) fn is_hardly_slower(contender: &ContenderPart, best: f64) -> bool {
    contender.latency_ns.median.is_some_and(|median| median <= (best * HARDLY_SHARE).max(best + HARDLY_NS))
}

/// Order of comfort: least by hand, then the form that does most by itself, then the faster.
pub(crate) fn comfort(left: &ContenderPart, right: &ContenderPart) -> std::cmp::Ordering {
    let form = |contender: &ContenderPart| contender.choices.and_then(|choices| choices.get()).unwrap_or(Hydration::Raw);
    let median = |contender: &ContenderPart| contender.latency_ns.median.unwrap_or(f64::INFINITY);
    by_hand(left).cmp(&by_hand(right)).then(form(left).cmp(&form(right))).then(median(left).total_cmp(&median(right)))
}

/// What a contender leaves to the developer; a program leaves everything.
fn by_hand(contender: &ContenderPart) -> ByHand {
    contender.by_hand.unwrap_or(ByHand { statements: usize::MAX, columns: usize::MAX, characters: usize::MAX })
}

/// Whether there are fewer statements or columns; a few characters less are no comfort.
pub(crate) fn is_less_work(left: &ContenderPart, right: &ContenderPart) -> bool {
    let (left, right) = (by_hand(left), by_hand(right));
    (left.statements, left.columns) < (right.statements, right.columns)
}
