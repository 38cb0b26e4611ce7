//! Ways of writing, for people.

use kampf_contest::{BatchPlan, Commit, WritePlan, WriteStep};
use kampf_runner::WriteJob;

use crate::output::{count, counted};

/// What a way does besides its statements: how many go together, how many there are, and what holds them.
pub(super) fn notes(plan: &WritePlan, job: &WriteJob) -> Vec<String> {
    let new: Vec<u64> = job.write.new_tables().iter().map(|(_, rows)| *rows).collect();
    let mut notes = Vec::new();
    for step in &plan.steps {
        let WriteStep::Insert(insert) = step else { continue };
        let rows = new[insert.place];
        match insert.batch {
            BatchPlan::Values(size) => {
                let statements = counted(step.statements(&new), "statement", "statements");
                notes.push(format!("{} rows of {} a statement, {statements}", count(size.into()), insert.table));
            }
            BatchPlan::Sent(size) => {
                let trips = counted(rows.div_ceil(size.max(1).into()), "trip", "trips");
                notes.push(format!("{} statements for {} a trip, {trips}", count(size.into()), insert.table));
            }
            BatchPlan::Single | BatchPlan::Bulk => {}
        }
    }
    let own: u64 = plan.steps.iter().map(|step| step.statements(&new)).sum();
    notes.push(match plan.commit {
        Some(Commit::Once) => format!("{}, and BEGIN and COMMIT around them", counted(own, "statement", "statements")),
        Some(Commit::Each) => format!("{}, each a transaction by itself", counted(own, "statement", "statements")),
        None => counted(own, "statement", "statements"),
    });
    notes
}
