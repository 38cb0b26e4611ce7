//! What the runner and a contender say to each other: lines of JSON with `"kampf":1` and a message.
//!
//! docs/protocol.md specifies every field. Anything else on a contender's standard output is its log, but for what was meant as a line of
//! the protocol and is none: that is answered.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

/// The protocol's version, on every line.
pub const VERSION: u32 = 1;

/// How every line begins that is written here; those of programs may have room between their parts, or another order.
pub const PREFIX: &str = "{\"kampf\":1,";

/// Bytes of a line at most, without its end; a contender sends more rows as more lines.
pub const LONGEST_LINE: usize = 64 << 20;

/// A line of the protocol.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
struct Line<M> {
    kampf: u32,
    #[serde(flatten)]
    message: M,
}

/// From the runner to a contender.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Request {
    /// The first message: what to do and on what.
    Hello(Box<Hello>),
    /// Do it so many times.
    Run(Run),
    /// No more.
    Stop {},
}

/// What a contender is told first.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Hello {
    /// The contest's name.
    pub contest: String,
    /// The contender's own name.
    pub contender: String,
    /// The need as the user wrote it, for programs that want to show or check it.
    pub need: Json,
    /// The engine's name.
    pub engine: String,
    /// Where the data is: for SQLite the path of the file, else a URL.
    pub url: String,
    /// The same over TCP with a password, where `url` leads to a socket of the machine, which some drivers do not know.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tcp_url: Option<String>,
    /// Limits on the process.
    pub limits: Limits,
    /// What a contender of Kampf's own is to carry out; programs from outside do not need it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plan: Option<Json>,
}

/// Limits that the runner sets on a contender's process.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Limits {
    /// Bytes of memory.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub memory_bytes: Option<u64>,
    /// Milliseconds for one `run`.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub run_ms: Option<u64>,
}

/// What a run is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Mode {
    /// Send the answers.
    Answer,
    /// Count.
    Count,
    /// Measure.
    Time,
}

/// One run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Run {
    /// Its number, to be repeated in the reply.
    pub id: u64,
    /// What it is for.
    pub mode: Mode,
    /// The parameter sets, each with its values in the order of the need's parameters.
    pub parameters: Vec<Vec<Json>>,
    /// How often to go through all sets.
    pub passes: u64,
    /// Calls with one set that are measured as one span; 1 unless a call is very short.
    #[serde(default = "one")]
    pub calls_per_span: u64,
    /// The rows that a call puts in, by tables, parents first; empty where none are new.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub new_rows: Vec<NewRows>,
}

/// Rows of a table that are to be put in.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct NewRows {
    /// The table.
    pub table: String,
    /// The rows, each with the values of all columns in their order; null where the database makes one, or it is the key of a row that is new too.
    pub rows: Vec<Vec<Json>>,
    /// The row that each hangs on, by its place in the rows of the table before that they hang on; empty where they hang on none that is new.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub under: Vec<usize>,
}

fn one() -> u64 {
    1
}

/// From a contender to the runner.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Reply {
    /// Connected and ready to run.
    Ready(Ready),
    /// Some rows of an answer, in order.
    Rows(Rows),
    /// A run is done.
    Ran(Ran),
    /// It cannot be done.
    Failed(Failed),
}

/// What a contender can do.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Ready {
    /// The modes it knows.
    pub can: Vec<Mode>,
}

/// Rows of an answer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Rows {
    /// The run.
    pub id: u64,
    /// Place of the parameter set, from 0.
    pub set: usize,
    /// The rows, each with its values in `give` order.
    #[serde(default)]
    pub rows: Vec<Vec<Json>>,
    /// How many rows came, where the need expects another number: that is the answer, without rows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub came: Option<u64>,
}

/// The end of a run.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Ran {
    /// The run.
    pub id: u64,
    /// Nanoseconds of each span, in order.
    #[serde(default)]
    pub spans_ns: Vec<u64>,
    /// Nanoseconds of processor time in all spans together.
    #[serde(default)]
    pub cpu_ns: u64,
    /// Rows of the answers.
    pub rows: u64,
    /// What was counted, per call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub counts: Option<Counts>,
    /// Of a contender that keeps answers, what calls took that found one kept and that did not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kept: Option<KeptTimes>,
    /// Of a counted call, how many bytes were held after how many rows, from the first row on.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub held: Vec<(u64, u64)>,
}

/// Times of calls where answers are kept, of each span.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct KeptTimes {
    /// Nanoseconds of a call whose answer was kept.
    pub hits_ns: Vec<u64>,
    /// Nanoseconds of one whose answer was not.
    pub misses_ns: Vec<u64>,
    /// The share of calls that find their answer kept, as the runner asks for.
    pub hit_rate: f64,
}

/// What a contender counts over one call, by names that docs/protocol.md lists. What it cannot count it leaves out.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Counts {
    numbers: BTreeMap<String, Option<u64>>,
}

impl Counts {
    /// All numbers that are there, by name.
    pub fn iter(&self) -> impl Iterator<Item = (&str, u64)> {
        self.numbers.iter().filter_map(|(name, number)| Some((name.as_str(), (*number)?)))
    }

    /// Adds a number that is not there.
    pub fn complete(&mut self, name: &str, number: u64) {
        self.numbers.entry(name.to_owned()).or_default().get_or_insert(number);
    }
}

impl<N: Into<String>> FromIterator<(N, Option<u64>)> for Counts {
    fn from_iter<I: IntoIterator<Item = (N, Option<u64>)>>(numbers: I) -> Counts {
        let known = numbers.into_iter().filter(|(_, number)| number.is_some());
        Counts { numbers: known.map(|(name, number)| (name.into(), number)).collect() }
    }
}

/// Why something cannot be done.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Failed {
    /// In words.
    pub reason: String,
    /// Whether it is for want of memory.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub out_of_memory: bool,
}

impl Failed {
    /// For a reason that has nothing to do with memory.
    pub fn of(reason: impl Into<String>) -> Failed {
        Failed { reason: reason.into(), out_of_memory: false }
    }
}

/// What a line of a contender's output is.
#[derive(Clone, Debug, PartialEq)]
pub enum Received {
    /// A reply.
    Reply(Reply),
    /// Its log.
    Log,
    /// A line that begins like one of the protocol but is not.
    Broken(String),
}

/// A request as a line, with its end of line.
pub fn request_line(request: &Request) -> String {
    line(request)
}

/// A reply as a line, with its end of line.
pub fn reply_line(reply: &Reply) -> String {
    line(reply)
}

fn line<M: Serialize>(message: &M) -> String {
    let mut text = serde_json::to_string(&Line { kampf: VERSION, message }).expect("messages hold nothing that JSON cannot");
    text.push('\n');
    text
}

/// Whether a line of a contender, whole or only begun, begins as those of the protocol do, or nearly: `{`, then the word kampf in
/// quotes of either kind, with room anywhere between.
pub fn begins_like_reply(line: &[u8]) -> bool {
    let Some(rest) = without_mark(line).strip_prefix(b"{").map(<[u8]>::trim_ascii_start) else { return false };
    [&b"\"kampf\""[..], b"'kampf'"].into_iter().any(|key| rest.starts_with(key))
}

/// A line without a byte-order mark and room before it.
fn without_mark(line: &[u8]) -> &[u8] {
    line.strip_prefix("\u{feff}".as_bytes()).unwrap_or(line).trim_ascii_start()
}

/// Whether a whole line of a contender has to be read: it may be a reply, or meant as one. What is not is its log.
pub fn may_be_reply(line: &[u8]) -> bool {
    if line.starts_with(PREFIX.as_bytes()) || begins_like_reply(line) {
        return true;
    }
    const KEY: &[u8] = b"\"kampf\"";
    without_mark(line).starts_with(b"{") && line.windows(KEY.len()).any(|window| window == KEY)
}

/// Reads a line of a contender. One that is nearly of the protocol, with room between its parts or its keys in another order, is
/// understood, or it is said what is wrong with it.
pub fn read_reply(line: &str) -> Received {
    // As promised to the letter: read without a tree between, as an answer may be long.
    if let Some(rest) = line.strip_prefix(PREFIX)
        && let Ok(reply) = serde_json::from_str(&format!("{{{rest}"))
    {
        return Received::Reply(reply);
    }
    if !may_be_reply(line.as_bytes()) {
        return Received::Log;
    }
    let text = line.trim_start_matches('\u{feff}').trim();
    let mut fields = match serde_json::from_str::<Json>(text) {
        Ok(Json::Object(fields)) => fields,
        Err(error) if begins_like_reply(line.as_bytes()) => return Received::Broken(format!("a line that is not JSON: {error}")),
        _ => return Received::Log,
    };
    let known = ["ready", "rows", "ran", "failed"];
    let said: Vec<&str> = known.into_iter().filter(|name| fields.contains_key(*name)).collect();
    match fields.get("kampf") {
        Some(Json::Number(version)) if version.as_u64() == Some(VERSION.into()) => {}
        Some(Json::Number(version)) => {
            return Received::Broken(format!("it speaks version {version} of the protocol, and this Kampf speaks version {VERSION}"));
        }
        // Somebody's log about Kampf.
        Some(_) if said.is_empty() && !begins_like_reply(line.as_bytes()) => return Received::Log,
        Some(other) => return Received::Broken(format!("`kampf` is {other} in a line, where it is the version, {VERSION}")),
        None => return Received::Log,
    }
    match said.as_slice() {
        [name] => {
            let body = fields.remove(*name).unwrap_or_default();
            let message = serde_json::from_value(Json::Object([((*name).to_owned(), body)].into_iter().collect()));
            message.map_or_else(|error| Received::Broken(format!("`{name}`: {error}")), Received::Reply)
        }
        [] => Received::Broken(format!("a line without any of {}", known.map(|name| format!("`{name}`")).join(", "))),
        [one, other, ..] => Received::Broken(format!("`{one}` and `{other}` in one line")),
    }
}

/// Reads a line of the runner.
///
/// # Errors
/// What the line should have been.
pub fn read_request(line: &str) -> Result<Request, String> {
    if !line.starts_with(PREFIX) {
        return Err(format!("a line of the protocol begins with {PREFIX}"));
    }
    serde_json::from_str::<Line<Request>>(line).map(|line| line.message).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_are_lines_that_begin_as_promised_and_read_back() {
        let run = Request::Run(Run {
            id: 3,
            mode: Mode::Time,
            parameters: vec![vec![Json::from(7)]],
            passes: 2,
            calls_per_span: 1,
            new_rows: Vec::new(),
        });
        let text = request_line(&run);
        assert_eq!(text, "{\"kampf\":1,\"run\":{\"id\":3,\"mode\":\"time\",\"parameters\":[[7]],\"passes\":2,\"calls_per_span\":1}}\n");
        assert_eq!(read_request(&text), Ok(run));
        assert_eq!(request_line(&Request::Stop {}), "{\"kampf\":1,\"stop\":{}}\n");
        let ran = Reply::Ran(Ran { id: 3, spans_ns: vec![5], rows: 1, ..Ran::default() });
        assert_eq!(read_reply(&reply_line(&ran)), Received::Reply(ran));
        assert_eq!(read_reply("hello"), Received::Log);
        let counted = "{\"kampf\":1,\"ran\":{\"id\":3,\"rows\":1,\"counts\":{\"statements\":2,\"rows\":null,\"weather\":7}}}";
        let Received::Reply(Reply::Ran(Ran { counts: Some(mut counts), .. })) = read_reply(counted) else { panic!("it is a reply") };
        counts.complete("rows", 5);
        counts.complete("statements", 9);
        assert_eq!(counts.iter().collect::<Vec<_>>(), [("rows", 5), ("statements", 2), ("weather", 7)]);
        assert!(matches!(read_reply("{\"kampf\":1,\"nothing\":{}}"), Received::Broken(_)));
        assert!(read_request("{}").is_err());
    }

    #[test]
    fn lines_that_are_nearly_the_protocol_s_are_understood_or_answered_and_never_log() {
        let ran = Received::Reply(Reply::Ran(Ran { id: 3, rows: 1, ..Ran::default() }));
        for nearly in [
            r#"{"kampf": 1, "ran": {"id": 3, "rows": 1}}"#,
            r#"{"ran":{"rows":1,"id":3},"kampf":1}"#,
            "\u{feff}  { \"kampf\" : 1 , \"ran\" : { \"id\" : 3 , \"rows\" : 1 } }\r",
            r#"{"kampf":1,"took":"long","ran":{"id":3,"rows":1}}"#,
        ] {
            assert_eq!(read_reply(nearly), ran, "{nearly}");
        }
        let broken = |line: &str| match read_reply(line) {
            Received::Broken(what) => what,
            other => panic!("{line}: {other:?}"),
        };
        for (line, says) in [
            (r#"{"kampf":2,"ran":{"id":3,"rows":1}}"#, "it speaks version 2 of the protocol, and this Kampf speaks version 1"),
            (r#"{"kampf": 1.5, "ran":{"id":3,"rows":1}}"#, "it speaks version 1.5 of the protocol, and this Kampf speaks version 1"),
            (r#"{"kampf":"1","ran":{"id":3,"rows":1}}"#, "`kampf` is \"1\" in a line, where it is the version, 1"),
            (r#"{"kampf":1,"run":{"id":3}}"#, "a line without any of `ready`, `rows`, `ran`, `failed`"),
            (r#"{"kampf":1}"#, "a line without any of `ready`, `rows`, `ran`, `failed`"),
            (r#"{"kampf":1,"ran":{"id":3,"rows":1},"failed":{"reason":"x"}}"#, "`ran` and `failed` in one line"),
            (r#"{"kampf":1,"ran":{"id":3,"rows":"many"}}"#, "`ran`: invalid type: string \"many\", expected u64"),
            (r#"{"kampf":1,"ran":{"id":-3,"rows":1}}"#, "`ran`: invalid value: integer `-3`, expected u64"),
        ] {
            assert_eq!(broken(line), says, "{line}");
        }
        // As some languages print their own maps.
        assert!(broken("{'kampf': 1, 'ran': {'id': 3}}").starts_with("a line that is not JSON: key must be a string"));
        assert!(broken(r#"{"kampf":1,"ran":{"id":3,"rows":1}"#).starts_with("a line that is not JSON: EOF"));
        for log in [
            "hello",
            "",
            "[1, 2]",
            "{}",
            r#"{"level":"info","message":"the word \"kampf\" is log"}"#,
            r#"{"level":"info","kampf":"begins"}"#,
            r#"{"service":{"kampf":1}}"#,
            r#"the line {"kampf":1,"ran":{"id":3,"rows":1}} is not one"#,
        ] {
            assert_eq!(read_reply(log), Received::Log, "{log}");
        }
        assert!(begins_like_reply(b" {  'kampf'") && !begins_like_reply(b"{\"level\"") && !begins_like_reply(b"kampf"));
    }

    proptest::proptest! {
        #![proptest_config(kampf_mangle::property(256))]
        #[test]
        fn no_line_makes_the_reader_panic(text in ".{0,40}") {
            let _ = read_reply(&text);
            let _ = read_reply(&format!("{PREFIX}{text}"));
            let _ = read_request(&format!("{PREFIX}{text}"));
        }
    }
}
