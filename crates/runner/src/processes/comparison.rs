//! An answer compared with the right one while it comes.

use kampf_contest::{Agreement, Answer, Reference, compare};
use kampf_schema::Value;

use super::talk::{Flow, Talk};
use crate::policy::CheckedVerdict;
use crate::trouble::Trouble;

/// Rows of a contender's answer that are looked at where so many are right: enough to tell a join that doubles rows from one that
/// never ends.
pub fn most_rows(right: usize) -> usize {
    right.saturating_mul(2).saturating_add(1_000)
}

/// Bytes of an answer's values that are taken where the right ones come to so many.
fn most_bytes(right: u64) -> u64 {
    right.saturating_mul(4).saturating_add(16 << 20)
}

/// Room that rows take.
pub(crate) fn bytes_of(rows: &[Vec<Value>]) -> u64 {
    rows.iter().flatten().map(|value| value.as_ref().size() + 8).sum()
}

/// Asks a contender for its answers and compares them with the right ones.
pub(crate) fn compared(
    talk: &mut Talk<'_>,
    sets: &[Vec<Value>],
    right: &[Reference],
    limit: Option<u64>,
) -> Result<CheckedVerdict, Trouble> {
    let mut comparison = Comparison::new(right, limit);
    talk.answers(sets, &mut |set, part| comparison.take(set, part))?;
    Ok(comparison.verdict())
}

/// Takes the answers to parameter sets in their order and compares each as soon as it is there. One that is far longer or larger than
/// is right is not taken to its end, so that no answer takes more memory than the right one allows.
pub(crate) struct Comparison<'r> {
    references: &'r [Reference],
    limit: Option<u64>,
    /// The set whose answer is coming, what came of it, and the room that takes.
    set: usize,
    answer: Answer,
    bytes: u64,
    most_bytes: Option<u64>,
    verdict: CheckedVerdict,
}

impl<'r> Comparison<'r> {
    pub(crate) fn new(references: &'r [Reference], limit: Option<u64>) -> Comparison<'r> {
        Comparison { references, limit, set: 0, answer: Answer::default(), bytes: 0, most_bytes: None, verdict: CheckedVerdict::Agrees }
    }

    /// Takes rows of the answer to a set.
    ///
    /// # Errors
    /// When the answer is so large that it cannot be the right one.
    pub(crate) fn take(&mut self, set: usize, part: Answer) -> Result<Flow, Trouble> {
        self.judge_up_to(set);
        if self.verdict != CheckedVerdict::Agrees {
            return Ok(Flow::Stop);
        }
        let right = self.references[set].answer(self.limit);
        let most = *self.most_bytes.get_or_insert_with(|| most_bytes(bytes_of(right)));
        self.bytes += bytes_of(&part.rows);
        if self.bytes > most {
            return Err(Trouble::Refused("its answer is many times larger than the right one".to_owned()));
        }
        self.answer.rows.extend(part.rows);
        self.answer.came = part.came.or(self.answer.came);
        Ok(if self.answer.rows.len() > most_rows(right.len()) { Flow::Stop } else { Flow::More })
    }

    /// What all answers come to.
    pub(crate) fn verdict(mut self) -> CheckedVerdict {
        self.judge_up_to(self.references.len());
        self.verdict
    }

    /// Judges the answers to all sets before one; those of which nothing came are empty.
    fn judge_up_to(&mut self, set: usize) {
        while self.set < set && self.verdict == CheckedVerdict::Agrees {
            self.verdict = match compare(&self.references[self.set], self.limit, &self.answer) {
                Agreement::Same => CheckedVerdict::Agrees,
                Agreement::Differs(difference) => CheckedVerdict::Disagrees(self.set, Box::new(difference)),
                Agreement::Undecided(why) => CheckedVerdict::Undecided(why),
            };
            self.set += 1;
            self.answer = Answer::default();
            (self.bytes, self.most_bytes) = (0, None);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rows(count: i64) -> Vec<Vec<Value>> {
        (0..count).map(|row| vec![Value::Integer(row)]).collect()
    }

    fn references(counts: &[i64]) -> Vec<Reference> {
        counts.iter().map(|&count| Reference { rows: rows(count), keys: rows(count), complete: true, ..Reference::default() }).collect()
    }

    #[test]
    fn each_answer_is_judged_when_the_next_begins_and_empty_ones_too() {
        let references = references(&[3, 0, 2]);
        let mut right = Comparison::new(&references, None);
        for (set, part) in [(0, &rows(3)[..1]), (0, &rows(3)[1..]), (2, &rows(2))] {
            assert_eq!(right.take(set, part.to_vec().into()), Ok(Flow::More));
        }
        assert_eq!(right.verdict(), CheckedVerdict::Agrees);
        let mut short = Comparison::new(&references, None);
        assert_eq!(short.take(0, rows(2).into()), Ok(Flow::More));
        assert_eq!(short.take(2, rows(2).into()), Ok(Flow::Stop), "the first one is short");
        assert!(matches!(short.verdict(), CheckedVerdict::Disagrees(0, _)));
        assert!(matches!(Comparison::new(&references, None).verdict(), CheckedVerdict::Disagrees(0, _)), "nothing came at all");
    }

    #[test]
    fn what_is_far_too_long_or_large_is_not_taken_to_its_end() {
        let references = references(&[10]);
        let mut long = Comparison::new(&references, None);
        assert_eq!(long.take(0, rows(1_020).into()), Ok(Flow::More));
        assert_eq!(long.take(0, rows(1).into()), Ok(Flow::Stop));
        let CheckedVerdict::Disagrees(0, difference) = long.verdict() else { panic!("it is not right") };
        assert!(difference.found_rows > most_rows(difference.expected_rows));
        let mut large = Comparison::new(&references, None);
        let megabyte = Value::from("x".repeat(1 << 20).as_str());
        let taken: Result<Vec<Flow>, Trouble> = (0..20).map(|_| large.take(0, vec![vec![megabyte.clone()]].into())).collect();
        assert!(taken.is_err_and(|trouble| trouble.to_string().contains("many times larger")));
        // A limit is a part of what is right.
        let mut limited = Comparison::new(&references, Some(4));
        assert_eq!(limited.take(0, rows(4).into()), Ok(Flow::More));
        assert_eq!(limited.verdict(), CheckedVerdict::Agrees);
    }
}
