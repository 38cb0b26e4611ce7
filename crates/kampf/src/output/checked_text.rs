//! How it is known that answers are right.

use kampf_runner::{Checks, Known};

use super::{count, rows_of};

/// How the answers are known, in words that follow "checked".
pub(crate) fn checked_text(checks: &Checks) -> String {
    let twin = checks.twin.as_ref().map(|twin| format!("on a twin of {}", rows_of(twin.rows)));
    match (&checks.known, twin) {
        (Known::Plainly, _) => "on all rows by plain evaluation".to_owned(),
        (Known::Sampled(0), None) => "against the leanest derived contender".to_owned(),
        (Known::Sampled(rows), None) => format!("on {} sampled rows, and against the leanest derived contender", count(*rows)),
        (Known::Sampled(0), Some(twin)) => format!("{twin}, and against each other here"),
        (Known::Sampled(rows), Some(twin)) => format!("{twin}, and {} sampled rows here", count(*rows)),
        (Known::By(name), _) => format!("against {name}"),
    }
}

/// What few rows do not show of the need, in words; none where they show it.
pub(crate) fn not_proven_text(checks: &Checks) -> Option<String> {
    let twin = checks.twin.as_ref().filter(|twin| checks.known != Known::Plainly && !twin.not_proven.is_empty())?;
    Some(format!("Not proven on the twin: {}.", twin.not_proven.join(", and ")))
}
