//! What contenders of Kampf's own have in common, whether they read or write.

use std::io::Write;
use std::time::Duration;

use kampf_contest::{EngineError, EngineErrorKind, value_from_json};
use kampf_protocol::{Failed, Reply, Run, reply_line};
use kampf_schema::{LogicalType, Value};
use rustix::time::{ClockId, clock_gettime};
use serde_json::Value as Json;

/// What serves runs.
pub(crate) trait Serving {
    /// Where replies go.
    fn output(&mut self) -> &mut dyn Write;

    /// Carries out a run and says what came of it.
    fn run(&mut self, run: &Run) -> std::io::Result<()>;

    fn say(&mut self, reply: &Reply) -> std::io::Result<()> {
        let output = self.output();
        output.write_all(reply_line(reply).as_bytes())?;
        output.flush()
    }

    fn refuse(&mut self, error: &EngineError) -> std::io::Result<()> {
        self.say(&Reply::Failed(Failed { reason: error.to_string(), out_of_memory: error.kind == EngineErrorKind::Memory }))
    }
}

/// The parameter sets of a run as values of their types.
pub(crate) fn sets_of(run: &Run, kinds: &[LogicalType]) -> Result<Vec<Vec<Value>>, Failed> {
    let set = |set: &Vec<Json>| set.iter().zip(kinds).map(|(json, kind)| value_from_json(json, Some(*kind))).collect::<Result<_, _>>();
    let sets: Result<Vec<Vec<Value>>, _> = run.parameters.iter().map(set).collect();
    sets.map_err(|error| Failed::of(format!("a parameter is wrong: {error}")))
}

pub(crate) fn nanos(time: Duration) -> u64 {
    u64::try_from(time.as_nanos()).unwrap_or(u64::MAX)
}

/// Processor time of this process, in nanoseconds.
pub(crate) fn processor_time() -> u64 {
    let time = clock_gettime(ClockId::ProcessCPUTime);
    u64::try_from(time.tv_sec).unwrap_or(0) * 1_000_000_000 + u64::try_from(time.tv_nsec).unwrap_or(0)
}
