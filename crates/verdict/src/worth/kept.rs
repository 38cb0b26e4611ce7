//! What keeping answers is good for.

use kampf_contest::Measure;
use kampf_race::Nanos;

use super::Race;

/// What it is worth that a contender keeps answers.
#[derive(Clone, Debug, PartialEq)]
pub struct KeptWorth {
    /// The contender.
    pub contender: usize,
    /// What a call takes at the share of hits that was given: that share of a hit, and the rest of a miss.
    pub mixed: Option<Nanos>,
    /// The best of those that keep nothing and may be chosen.
    pub best: Option<usize>,
    /// From which share of hits on it is faster than that one.
    pub wins: Option<Wins>,
    /// About how many bytes all answers hold that it keeps.
    pub bytes: Option<u64>,
    /// Of a miss, what is waiting for the server, which a hit spares; none where there is no wire.
    pub spared: Option<Nanos>,
}

/// From which share of hits on keeping answers is the best.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Wins {
    /// Even a miss takes no longer.
    Always,
    /// From this share on, between 0 and 1.
    From(f64),
    /// Not even a hit does.
    Never,
}

pub(super) fn kept(race: Race<'_>) -> Vec<KeptWorth> {
    let keeps = |at: usize| race.facts.contenders[at].kept;
    let others = race.eligible().filter(|&at| keeps(at).is_none() && race.placed[at].beside.is_none());
    let best = race.fastest(others);
    let of = |at: usize| {
        let (kept, measured) = (keeps(at)?, &race.facts.contenders[at].measured);
        let waits = measured.get(Measure::Waiting).filter(|_| measured.get(Measure::WireBytes).is_some());
        Some(KeptWorth {
            contender: at,
            mixed: race.facts.hit_rate.map(|rate| rate * kept.hit + (1.0 - rate) * kept.miss),
            best,
            wins: best.and_then(|best| race.time(best)).map(|best| wins(kept.hit, kept.miss, best)),
            bytes: measured.get(Measure::KeptBytes).map(|held| held.saturating_mul(kept.entries.into())),
            spared: waits.map(|thousandths| kept.miss * thousandths as f64 / 1_000.0),
        })
    };
    race.eligible().filter_map(of).collect()
}

/// A call takes `rate * hit + (1 - rate) * miss`: from where on that is less than the best of the others takes.
fn wins(hit: Nanos, miss: Nanos, best: Nanos) -> Wins {
    if hit >= best {
        Wins::Never
    } else if miss <= best {
        Wins::Always
    } else {
        Wins::From((miss - best) / (miss - hit))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_share_of_hits_from_which_keeping_answers_wins_lies_between_hit_and_miss() {
        assert_eq!(wins(1.0, 11.0, 6.0), Wins::From(0.5));
        assert_eq!((wins(1.0, 5.0, 6.0), wins(7.0, 9.0, 6.0)), (Wins::Always, Wins::Never));
    }
}
