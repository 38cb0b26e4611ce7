//! What keeping answers is good for, in words.

use kampf_result::RacedContest;
use kampf_result::numbers::{bytes, count, duration, percent};
use kampf_verdict::{KeptWorth, Wins};

use super::page::Page;
use super::style::{Look, paint};

/// For each contender that keeps answers: a hit, a miss, and from which share of hits on it would be the best.
pub(crate) fn cache_text(page: &mut Page, contest: &RacedContest) {
    if contest.verdict.worth.kept.is_empty() {
        return;
    }
    page.blank();
    page.line(paint(Look::Title, "Answers kept"));
    for worth in &contest.verdict.worth.kept {
        let name = paint(Look::Strong, contest.name_of(worth.contender));
        page.hung(&format!("  {name} "), &sentences(contest, worth), 4);
    }
}

fn sentences(contest: &RacedContest, worth: &KeptWorth) -> String {
    let Some(kept) = contest.facts.contenders[worth.contender].kept else { return String::new() };
    let mixed = worth.mixed.zip(contest.facts.hit_rate);
    let mixed = mixed.map_or_else(String::new, |(mixed, rate)| format!(", and at {} hits a call {}", percent(rate), duration(mixed)));
    let mut said = vec![format!("a hit takes {}, a miss {}{mixed}.", duration(kept.hit), duration(kept.miss))];
    if let Some((best, from)) = worth.best.zip(worth.wins) {
        let best = contest.name_of(best);
        said.push(match from {
            Wins::Always => format!("Even a miss takes no longer than {best}, the best of the others."),
            Wins::From(share) => format!("It is faster than {best}, the best of the others, from {} hits on.", percent(share)),
            Wins::Never => format!("It is never faster than {best}, the best of the others."),
        });
    }
    said.extend(worth.bytes.map(|all| format!("{} such answers hold about {}.", count(kept.entries.into()), bytes(all))));
    said.extend(worth.spared.map(|spared| format!("Of a miss {} is waiting for the server, which a hit spares.", duration(spared))));
    said.push("What is kept is as old as it is.".to_owned());
    said.join(" ")
}
