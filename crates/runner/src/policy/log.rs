//! Everything that went into a race, so that it can be told again without somebody.

use kampf_race::{Nanos, Race, RaceSettings};

use super::race::HeatRun;

/// What a race was told, in its order.
#[derive(Clone, Debug)]
pub(super) struct Log {
    settings: RaceSettings,
    beside: Vec<bool>,
    /// Who is compared with whom besides.
    compared: Vec<(usize, usize)>,
    /// Who could not be run, and after how many rounds that was found.
    failed: Vec<(usize, usize)>,
    /// Who did not start, being outclassed in the check.
    left_out: Vec<usize>,
    rounds: Vec<Round>,
    /// The heats after the first, and of those that entered for each whether they run beside the race.
    heats: Vec<(HeatRun, Vec<bool>)>,
}

/// The values of a round, and of whom it is open then if they are good enough.
#[derive(Clone, Debug)]
pub(super) struct Round {
    pub(super) values: Vec<Option<Nanos>>,
    pub(super) held: Vec<(usize, bool)>,
}

impl Log {
    pub(super) fn new(settings: RaceSettings, beside: Vec<bool>, compared: Vec<(usize, usize)>) -> Log {
        Log { settings, beside, compared, failed: Vec::new(), left_out: Vec::new(), rounds: Vec::new(), heats: Vec::new() }
    }

    pub(super) fn fails(&mut self, at: usize, rounds: usize) {
        self.failed.push((at, rounds));
    }

    pub(super) fn leaves_out(&mut self, at: usize) {
        self.left_out.push(at);
    }

    /// Takes somebody back who was left out.
    pub(super) fn takes_in(&mut self, at: usize) {
        self.left_out.retain(|one| *one != at);
    }

    pub(super) fn left_out(&self) -> &[usize] {
        &self.left_out
    }

    /// A heat begins after the rounds so far.
    pub(super) fn begins(&mut self, heat: HeatRun, beside: Vec<bool>) {
        self.heats.push((heat, beside));
    }

    pub(super) fn heats(&self) -> Vec<HeatRun> {
        self.heats.iter().map(|(heat, _)| heat.clone()).collect()
    }

    pub(super) fn records(&mut self, round: Round) {
        self.rounds.push(round);
    }

    /// Forgets everything about a contender: from now on it is one that never could be run.
    pub(super) fn forgets(&mut self, at: usize) {
        self.failed.retain(|(one, _)| *one != at);
        self.failed.push((at, 0));
        self.takes_in(at);
        for round in &mut self.rounds {
            // Who entered later has no place in it.
            round.values.get_mut(at).into_iter().for_each(|value| *value = None);
            round.held.retain(|(one, _)| *one != at);
        }
    }

    /// The race as it follows from the log.
    pub(super) fn race(&self) -> Race {
        let mut race = Race::new(self.beside.len(), self.settings);
        self.beside.iter().enumerate().filter(|(_, beside)| **beside).for_each(|(at, _)| race.put_beside(at));
        self.compared.iter().for_each(|&(contender, base)| race.compare(contender, base));
        for (number, round) in self.rounds.iter().enumerate() {
            self.tells(&mut race, number);
            round.held.iter().for_each(|&(at, is_open)| race.hold(at, is_open));
            race.record(&round.values);
        }
        self.tells(&mut race, self.rounds.len());
        race
    }

    /// Tells a race what came after so many rounds: who enters, who is out.
    fn tells(&self, race: &mut Race, rounds: usize) {
        let mut there = self.beside.len();
        let fails = |race: &mut Race, those: std::ops::Range<usize>, at_once: bool| {
            let failed = self.failed.iter().filter(|(at, after)| those.contains(at) && (*after == rounds || (at_once && *after < rounds)));
            failed.for_each(|(at, _)| race.fail(*at));
            self.left_out.iter().filter(|at| at_once && those.contains(at)).for_each(|&at| race.leave_out(at));
        };
        // Those of the first heat are there from the beginning.
        fails(race, 0..there, rounds == 0);
        for (heat, beside) in self.heats.iter().filter(|(heat, _)| heat.after <= rounds) {
            let is_now = heat.after == rounds;
            if is_now {
                for is_beside in beside {
                    let at = race.enter();
                    if *is_beside {
                        race.put_beside(at);
                    }
                }
            }
            fails(race, there..there + beside.len(), is_now);
            there += beside.len();
            if is_now {
                race.begin_heat(heat.anchor, &heat.members);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use kampf_race::Finding;

    use super::*;

    /// Rounds of three contenders, the last of which fails after some.
    fn told(fast: Option<f64>, rounds: usize) -> Log {
        let settings = RaceSettings { rests: true, ..RaceSettings::default() };
        let mut log = Log::new(settings, vec![false, false, false, true], Vec::new());
        for round in 0..rounds {
            let luck = |salt: usize| 1.0 + 0.01 * ((round * 7 + salt * 3) % 11) as f64 / 11.0;
            if round == 5 {
                log.fails(2, round);
            }
            let values =
                vec![fast.map(|fast| fast * luck(1)), Some(2.0 * luck(2)), Some(2.1 * luck(3)).filter(|_| round < 5), Some(1.9 * luck(4))];
            log.records(Round { values, held: vec![(1, round < 3)] });
        }
        log
    }

    #[test]
    fn a_log_gives_the_race_that_was_told() {
        let log = told(Some(1.0), 20);
        let mut race = Race::new(4, log.settings);
        race.put_beside(3);
        for (number, round) in log.rounds.iter().enumerate() {
            if number == 5 {
                race.fail(2);
            }
            round.held.iter().for_each(|&(at, open)| race.hold(at, open));
            race.record(&round.values);
        }
        assert_eq!(log.race().standings(), race.standings());
        assert_eq!(race.leader(), Some(0));
        assert_eq!(race.standings()[2].finding, Finding::Failed);
    }

    #[test]
    fn who_is_forgotten_never_was_there() {
        let mut log = told(Some(1.0), 20);
        assert_eq!(log.race().standings()[1].finding, Finding::Slower);
        log.forgets(0);
        // As if it had failed before the first round.
        let mut without = told(None, 20);
        without.fails(0, 0);
        assert_eq!(log.race().standings(), without.race().standings());
        assert_eq!((log.race().leader(), log.race().rounds()), (Some(1), 20));
        assert_eq!(log.race().standings()[0].rounds, 0);
        // Who was left out stays out until it is taken in again.
        log.leaves_out(1);
        assert_eq!((log.left_out(), log.race().standings()[1].finding), (&[1][..], Finding::Outclassed));
        log.takes_in(1);
        assert!(log.left_out().is_empty());
    }
}
