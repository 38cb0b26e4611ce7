//! What keeping answers is good for.

use kampf_contest::Measure;
use kampf_race::Nanos;
use kampf_result::numbers::{bytes, count, duration, percent};
use kampf_result::{RacedContest, Shown};

use super::page::Page;
use super::style::{Look, paint};

/// For each contender that keeps answers: a hit, a miss, and from which share of hits on it would be the best.
pub(crate) fn cache_text(page: &mut Page, contest: &RacedContest) {
    let keepers: Vec<Shown<'_>> = contest.contenders().filter(|one| one.extra.kept.is_some() && one.facts.is_eligible()).collect();
    if keepers.is_empty() {
        return;
    }
    let others = contest.contenders().filter(|one| one.extra.kept.is_none() && one.placed.beside.is_none() && one.facts.is_eligible());
    let best = others.filter_map(|one| Some((one.placed.shown?, one))).min_by(|(one, _), (other, _)| one.total_cmp(other));
    page.blank();
    page.line(paint(Look::Title, "Answers kept"));
    for one in keepers {
        let Some(kept) = one.extra.kept else { continue };
        let mut text = format!("a hit takes {}, a miss {}", duration(kept.hit_ns), duration(kept.miss_ns));
        if let Some(rate) = contest.circumstance.hit_rate {
            let mixed = rate * kept.hit_ns + (1.0 - rate) * kept.miss_ns;
            text += &format!(", and at {} hits a call {}", percent(rate), duration(mixed));
        }
        text += ". ";
        if let Some((time, best)) = &best {
            text += &format!("{} ", wins(best_from(kept.hit_ns, kept.miss_ns, *time), &best.facts.name));
        }
        let measured = &one.facts.measured;
        if let Some(held) = measured.get(Measure::KeptBytes) {
            let all = held.saturating_mul(kept.entries.into());
            text += &format!("{} such answers hold about {}. ", count(kept.entries.into()), bytes(all));
        }
        if let Some(waiting) = measured.get(Measure::Waiting).filter(|_| measured.get(Measure::WireBytes).is_some()) {
            let spared = kept.miss_ns * waiting as f64 / 1_000.0;
            text += &format!("Of a miss {} is waiting for the server, which a hit spares. ", duration(spared));
        }
        text += "What is kept is as old as it is.";
        page.hung(&format!("  {} ", paint(Look::Strong, &one.facts.name)), &text, 4);
    }
}

/// From which share of hits on keeping answers is the best.
#[derive(Clone, Copy, Debug, PartialEq)]
enum From {
    Always,
    Share(f64),
    Never,
}

/// A call takes `rate * hit + (1 - rate) * miss`: from where on that is less than the best of the others takes.
fn best_from(hit: Nanos, miss: Nanos, best: Nanos) -> From {
    if hit >= best {
        From::Never
    } else if miss <= best {
        From::Always
    } else {
        From::Share((miss - best) / (miss - hit))
    }
}

fn wins(from: From, best: &str) -> String {
    match from {
        From::Always => format!("Even a miss takes no longer than {best}, the best of the others."),
        From::Share(share) => format!("It is faster than {best}, the best of the others, from {} hits on.", percent(share)),
        From::Never => format!("It is never faster than {best}, the best of the others."),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_share_of_hits_from_which_keeping_answers_wins_lies_between_hit_and_miss() {
        assert_eq!(best_from(1.0, 11.0, 6.0), From::Share(0.5));
        assert_eq!((best_from(1.0, 5.0, 6.0), best_from(7.0, 9.0, 6.0)), (From::Always, From::Never));
    }
}
