//! The command line's form.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use kampf_fill::{LEAST_SCALE, MOST_SCALE};

/// What stands at the end of the help.
const ENDS: &str = "Examples:
  kampf demo                           the whole example, in 40 seconds
  kampf new mine --schema schema.sql   a folder for tables of yours, then: cd mine && kampf race

Exit status:
  0  done
  1  the answer is no: contenders disagree, a regression, or with --require a requirement missed
  2  the command line or a file is wrong
  3  the surroundings failed, or it was interrupted before there was a result";

/// Races the ways of answering a need from a database against each other, and says which to choose and why.
#[derive(Debug, Parser)]
#[command(name = "kampf", version, about, max_term_width = 100, propagate_version = true, after_help = ENDS)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Task,
    #[command(flatten)]
    pub(crate) general: General,
}

#[derive(Args, Clone, Debug)]
#[command(next_help_heading = "Common options")]
pub(crate) struct General {
    /// The file that describes the project
    #[arg(short, long, global = true, default_value = "kampf.toml", value_name = "FILE")]
    pub(crate) file: PathBuf,
    /// Another engine than the file's: its name, the URL of a server, or `all` (fill, check, race) for every one that can be had here
    #[arg(long, global = true, value_name = "ENGINE")]
    pub(crate) engine: Option<String>,
    /// Where datasets and results are kept: DIR/.kampf, instead of beside the file
    #[arg(long, global = true, value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
    /// How many times as many rows as guessed, for tables that the file says nothing about
    #[arg(long, global = true, value_name = "TIMES", value_parser = times)]
    pub(crate) scale: Option<f64>,
    /// What results look like on standard output
    #[arg(long, global = true, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
    /// Whether to use colour
    #[arg(long, global = true, value_enum, default_value_t = Color::Auto, value_name = "WHEN")]
    pub(crate) color: Color,
    /// Say only results and errors
    #[arg(short, long, global = true, conflicts_with = "verbose")]
    pub(crate) quiet: bool,
    /// Say more: what was passed over, and why
    #[arg(short, long, global = true)]
    pub(crate) verbose: bool,
}

impl General {
    /// The folder in which data and results are kept.
    pub(crate) fn home(&self) -> PathBuf {
        let beside = || self.file.parent().map(PathBuf::from).unwrap_or_default();
        self.data.clone().unwrap_or_else(beside)
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people
    Text,
    /// For programs
    Json,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    /// On a terminal, unless NO_COLOR is set
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Task {
    /// The whole example: makes the apiary data, checks and races its contests
    #[command(
        after_help = "Examples:\n  kampf demo                           three contests, in 40 seconds\n  kampf demo apiary --everything       all of them, in a folder of that name"
    )]
    Demo(Demo),
    /// Make a folder to start from
    #[command(
        after_help = "Examples:\n  kampf new shelves                    a small schema to play with\n  kampf new mine --schema schema.sql   guessed rows and contests for tables of yours"
    )]
    New(New),
    /// Generate the rows and load them
    #[command(
        after_help = "Examples:\n  kampf fill                           says where the database is\n  kampf fill --preview hive            some rows of a table, and how each column is made"
    )]
    Fill(Fill),
    /// The contenders of a contest and the SQL each sends
    #[command(
        after_help = "Examples:\n  kampf show calmest-hives --only 'computed.*'   some of them, with their SQL\n  kampf show --words                             what the words of their names mean"
    )]
    Show(Show),
    /// Whether all contenders give the same answer
    #[command(
        after_help = "Examples:\n  kampf check                                    all contests\n  kampf check apiary-sizes --answer              the answer itself"
    )]
    Check(Check),
    /// Measure the contenders against each other and decide
    #[command(
        after_help = "Examples:\n  kampf race calmest-hives                       until one can be taken\n  kampf race one-hive --engine postgres --round-trip 0.5ms,5ms   what a network changes"
    )]
    Race(Race),
    /// Every statement of one run of one contender
    #[command(
        after_help = "Examples:\n  kampf trace calmest-hives lazy.database.all.managed\n  kampf trace weighing-grid batched.database.needed.plain+chunks:25"
    )]
    Trace(Trace),
    /// The results that were saved, or one of them again
    #[command(
        after_help = "Examples:\n  kampf results                        a list\n  kampf results latest                 the last one again"
    )]
    Results(Results),
    /// Two saved results: what moved, what stood still, what cannot be told
    #[command(
        after_help = "Examples:\n  kampf compare OLD.json latest        the last result against an earlier one\n  kampf compare OLD NEW --allow 5%     with results that `kampf results` lists"
    )]
    Compare(Compare),
    /// The words of the command line for a shell, on standard output
    #[command(
        after_help = "Examples:\n  kampf completions bash > ~/.local/share/bash-completion/completions/kampf\n  kampf completions zsh > ~/.zfunc/_kampf      with fpath+=(~/.zfunc) before compinit in ~/.zshrc"
    )]
    Completions(Completions),
    /// Manual pages, one for each command
    #[command(
        after_help = "Examples:\n  kampf man ~/.local/share/man/man1    then: man kampf-race\n  kampf man pages && man pages/kampf-new.1"
    )]
    Man(Man),
    /// The JSON Schema of kampf.toml for editors, on standard output
    #[command(
        after_help = "Examples:\n  kampf file-schema > kampf.schema.json          then `#:schema ./kampf.schema.json` as the first line of kampf.toml\n  kampf file-schema | head"
    )]
    FileSchema,
    #[command(hide = true)]
    Contender,
}

#[derive(Args, Debug)]
pub(crate) struct Completions {
    /// For which shell
    pub(crate) shell: clap_complete::Shell,
}

#[derive(Args, Debug)]
pub(crate) struct Man {
    /// The folder for the pages, made when missing
    pub(crate) dir: PathBuf,
}

#[derive(Args, Debug)]
pub(crate) struct Demo {
    /// The folder to make it in
    #[arg(default_value = "kampf-demo")]
    pub(crate) dir: PathBuf,
    /// Race all of its contests, not only a few; that takes four minutes
    #[arg(long)]
    pub(crate) everything: bool,
}

#[derive(Args, Debug)]
pub(crate) struct New {
    /// The folder to make
    pub(crate) dir: PathBuf,
    /// A file of SQL statements that make your tables
    #[arg(long, value_name = "FILE")]
    pub(crate) schema: Option<PathBuf>,
    /// About how many rows all tables together are to have
    #[arg(long, value_name = "ROWS", value_parser = rows, requires = "schema")]
    pub(crate) rows: Option<u64>,
}

#[derive(Args, Debug)]
pub(crate) struct Fill {
    /// Remove the project's data instead, wherever Kampf put it
    #[arg(long, conflicts_with_all = ["preview", "digest"])]
    pub(crate) remove: bool,
    /// Fill nothing; show some rows of a table, and how each column is made and why
    #[arg(long, value_name = "TABLE", conflicts_with = "digest")]
    pub(crate) preview: Option<String>,
    /// Fill nothing; look at the rows as they are made and list what a person would not believe of them: times out of order, steps that do not
    /// continue, rows across tenants, shares of states. Exit with 1 where there is any
    #[arg(long, conflicts_with_all = ["preview", "digest", "remove"])]
    pub(crate) doubt: bool,
    /// Fill nothing; print a digest of each table's content, the same on every machine and engine
    #[arg(long)]
    pub(crate) digest: bool,
    /// Fill it once more for each other type of primary keys, of a table or of all, `*`, and show what each costs; no contest is needed
    #[arg(long, value_name = "TABLE", value_delimiter = ',', conflicts_with_all = ["remove", "preview", "digest", "doubt"])]
    pub(crate) keys: Vec<String>,
}

/// Which contenders take part.
#[derive(Args, Clone, Debug, Default)]
pub(crate) struct Selection {
    /// Enter every valid combination of the choices
    #[arg(long)]
    pub(crate) all: bool,
    /// Of those that would enter, keep only contenders whose name fits; * stands for anything; may be given several times; with --all
    /// of every valid combination
    #[arg(long, value_name = "PATTERN")]
    pub(crate) only: Vec<String>,
    /// Leave out contenders that are programs (`command` in kampf.toml); nothing of the project's is started then
    #[arg(long)]
    pub(crate) no_programs: bool,
    /// Other indexes to race besides the schema's own: variants of kampf.toml by their names, with commas between; `derived` works some
    /// out from the need and from what the engine's plans make of them
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) index: Vec<String>,
    /// Other primary keys to race besides the schema's own: of a table, `hive`, of one type alone, `hive:uuid7`, or of all tables, `*`; types are
    /// integer, uuid4, uuid7 and text
    #[arg(long, value_name = "TABLE", value_delimiter = ',')]
    pub(crate) keys: Vec<String>,
    /// The limit on memory, which joins are not to bring more than.
    #[arg(skip)]
    pub(crate) memory_limit: Option<u64>,
    /// Of the derived contenders only these.
    #[arg(skip)]
    pub(crate) exactly: Vec<kampf_contest::Choices>,
    /// Nothing but names is wanted, at once: no row is looked at.
    #[arg(skip)]
    pub(crate) names_only: bool,
    /// Contenders that are wanted besides, by their names, wherever among all combinations they are.
    #[arg(skip)]
    pub(crate) named: Vec<String>,
}

impl Selection {
    /// Has what stands behind an at sign take part: other indexes by the name of their variant, or other keys, `hive:uuid7`.
    pub(crate) fn name_variant(&mut self, variant: &str) {
        let names = if is_of_keys(variant) { &mut self.keys } else { &mut self.index };
        if !names.iter().any(|name| name == variant) {
            names.push(variant.to_owned());
        }
    }

    /// The same under limits.
    pub(crate) fn within(&self, bounds: &Bounds) -> Selection {
        Selection { memory_limit: bounds.memory_limit, ..self.clone() }
    }
}

/// Whether the name of a variant is one of keys: a table and a type, with a colon between.
pub(crate) fn is_of_keys(variant: &str) -> bool {
    variant.contains(':')
}

/// Limits on each contender.
#[derive(Args, Clone, Debug)]
pub(crate) struct Bounds {
    /// Longest time for a single run of a contender
    #[arg(long, value_name = "TIME", default_value = "30s", value_parser = duration)]
    pub(crate) timeout: std::time::Duration,
    /// Most memory of a contender's process
    #[arg(long, value_name = "SIZE", value_parser = size)]
    pub(crate) memory_limit: Option<u64>,
}

#[derive(Args, Debug)]
pub(crate) struct Show {
    /// The contest; without one, all contests are listed
    pub(crate) contest: Option<String>,
    /// List the relations that the schema gives, with their names
    #[arg(long)]
    pub(crate) relations: bool,
    /// The statements that make the tables, keys and indexes as the engine gets them: of the schema, or of a variant, `@by_hive`, `@hive:uuid7`
    #[arg(long, value_name = "@VARIANT", num_args = 0..=1, default_missing_value = "", conflicts_with_all = ["contest", "relations", "words", "plan"])]
    pub(crate) ddl: Option<String>,
    /// Explain the ways: what managed, lazy, computed and the other words of contenders' names stand for
    #[arg(long, conflicts_with_all = ["contest", "relations"])]
    pub(crate) words: bool,
    /// With the engine's plan for each statement, in words, or in its own lines with `engine`; fills the database first
    #[arg(long, value_name = "FORM", value_enum, num_args = 0..=1, default_missing_value = "words", requires = "contest")]
    pub(crate) plan: Option<PlanForm>,
    #[command(flatten)]
    pub(crate) selection: Selection,
}

#[derive(Args, Debug)]
pub(crate) struct Check {
    /// The contests; all of them where none is given
    pub(crate) contests: Vec<String>,
    /// Print the agreed answer, lists below their rows; with --format json one JSON array of values a row
    #[arg(long)]
    pub(crate) answer: bool,
    /// Wait for every answer to its end: else one that has proven itself on few rows is stopped where it takes more than a second and twenty
    /// times as long as the best
    #[arg(long)]
    pub(crate) whole: bool,
    #[command(flatten)]
    pub(crate) selection: Selection,
    #[command(flatten)]
    pub(crate) bounds: Bounds,
}

#[derive(Args, Debug)]
pub(crate) struct Race {
    /// The contests; all of them where none is given
    pub(crate) contests: Vec<String>,
    /// Most time for a contest: check, rounds, and asking the survivors once more; one round is always run, and a race that is decided
    /// ends earlier [default: 30s, or what the least rounds of a large field need, up to 60s]
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub(crate) time: Option<std::time::Duration>,
    /// At most so many rounds
    #[arg(long, default_value_t = 400, value_parser = clap::value_parser!(u32).range(1..=100_000))]
    pub(crate) rounds: u32,
    /// A difference below this counts as none; a smaller margin takes more rounds [default: 5%, in a self-test 2%]
    #[arg(long, value_name = "SHARE", value_parser = share)]
    pub(crate) margin: Option<f64>,
    /// Drop nobody, however slow, and go on until everybody is told from the best and every time known to the margin
    #[arg(long)]
    pub(crate) exact: bool,
    /// Race two contenders alone, like two versions of a stack, until their difference is known to the margin; one table over all contests
    #[arg(long, value_name = "OLD,NEW", value_delimiter = ',', num_args = 1, conflicts_with_all = ["exact", "all", "only", "require", "self_test"])]
    pub(crate) pair: Vec<String>,
    /// Seed of drawn parameters and of the order within rounds [default: the file's]
    #[arg(long)]
    pub(crate) seed: Option<u64>,
    /// Make every trip to the server take so much longer; several values, with commas between, race one after the other
    #[arg(long, value_name = "TIME", value_parser = duration, value_delimiter = ',')]
    pub(crate) round_trip: Vec<std::time::Duration>,
    /// Keep contenders and the throwaway server on one core of the processor
    #[arg(long)]
    pub(crate) pin: bool,
    /// Exit with 1 when no contender of a contest surely meets its requirements
    #[arg(long)]
    pub(crate) require: bool,
    /// Test the race itself, here and now: is the same SQL under twelve names told apart, and are planted differences found?
    #[arg(long, conflicts_with_all = ["round_trip", "require", "exact"])]
    pub(crate) self_test: bool,
    /// Time for the rounds of all contests together, whatever `time` says
    #[arg(skip)]
    pub(crate) together: Option<std::time::Duration>,
    /// With a load beside the self-test that comes and goes: a busy process of Kampf's own, for 0.1 to 2 seconds at a time
    #[arg(long, requires = "self_test")]
    pub(crate) disturbed: bool,
    /// Races of each kind in the self-test
    #[arg(long, default_value_t = 5, requires = "self_test", value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub(crate) races: u32,
    #[command(flatten)]
    pub(crate) selection: Selection,
    #[command(flatten)]
    pub(crate) bounds: Bounds,
}

#[derive(Args, Debug)]
pub(crate) struct Trace {
    /// The contest
    pub(crate) contest: String,
    /// The contender, by its name
    pub(crate) contender: String,
    /// How query plans are told: in words, or in the engine's own lines
    #[arg(long, value_name = "FORM", value_enum, default_value_t = PlanForm::Words)]
    pub(crate) plan: PlanForm,
}

/// How query plans are told.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub(crate) enum PlanForm {
    /// In sentences, with what is to be pointed out
    Words,
    /// In the engine's own lines
    Engine,
}

#[derive(Args, Debug)]
pub(crate) struct Results {
    /// A result to show again: its file, its name in the list, or `latest`
    pub(crate) result: Option<PathBuf>,
}

#[derive(Args, Debug)]
pub(crate) struct Compare {
    /// The earlier result: a file, a name that `kampf results` lists, or `latest`
    pub(crate) old: PathBuf,
    /// The later result
    pub(crate) new: PathBuf,
    /// A move by no more than this is none
    #[arg(long, value_name = "SHARE", default_value = "3%", value_parser = share)]
    pub(crate) allow: f64,
    /// Let only what the old result chose decide the exit status
    #[arg(long)]
    pub(crate) chosen: bool,
    /// Exit with 1 also when nothing could be told
    #[arg(long)]
    pub(crate) strict: bool,
}

/// Reads `150ms`, `1.5 s`, `2min`, `0`. Without a unit nobody can tell what is meant.
pub(crate) fn duration(text: &str) -> Result<std::time::Duration, String> {
    let (number, unit) = number_and_unit(text)?;
    let seconds = match unit {
        "" if number > 0.0 => return Err(format!("`{text}` has no unit: {text}ms, {text}us or {text}s?")),
        "us" | "µs" => number / 1e6,
        "ms" => number / 1e3,
        "s" | "" => number,
        "min" | "m" => number * 60.0,
        other => return Err(format!("`{other}` is not a unit of time; use us, ms, s or min")),
    };
    let duration = std::time::Duration::try_from_secs_f64(seconds).ok().filter(|duration| *duration <= LONGEST);
    duration.ok_or_else(|| format!("`{text}` is too long; at most 1000 days can be waited for"))
}

/// Reads how many times as many: `100`, `0.5`.
pub(crate) fn times(text: &str) -> Result<f64, String> {
    let number = text.trim().replace('_', "").parse::<f64>().ok().filter(|number| (LEAST_SCALE..=MOST_SCALE).contains(number));
    number.ok_or_else(|| format!("a number from 0.001 to 1000000 is expected, like 100, not `{text}`"))
}

/// Reads a number of rows: `5000000`, `5_000_000`.
fn rows(text: &str) -> Result<u64, String> {
    let number = text.trim().replace('_', "").parse::<u64>().ok().filter(|number| (1..=1_000_000_000_000).contains(number));
    number.ok_or_else(|| format!("a number of rows is expected, like 5_000_000, not `{text}`"))
}

/// Longer than anybody waits, and clocks can be asked for it.
const LONGEST: std::time::Duration = std::time::Duration::from_secs(1000 * 24 * 3600);

/// Reads `2%`, `0.5 %`; more than nothing and at most 100 %.
pub(crate) fn share(text: &str) -> Result<f64, String> {
    match number_and_unit(text)? {
        (number, "%") if number > 0.0 && number <= 100.0 => Ok(number / 100.0),
        (_, "%") => Err(format!("`{text}` is not between 0 % and 100 %")),
        (_, "") => Err(format!("`{text}` does not end in %; write it like 2%")),
        (_, other) => Err(format!("`{text}` is not a share: `{other}` is not %")),
    }
}

/// Reads `64 MiB`, `10kB`, `1GiB`, `512 B`, `0`.
pub(crate) fn size(text: &str) -> Result<u64, String> {
    let (number, unit) = number_and_unit(text)?;
    let factor = match unit.to_lowercase().as_str() {
        "" if number > 0.0 => return Err(format!("`{text}` has no unit: {text} KiB, {text} MiB or {text} GiB?")),
        "" | "b" => 1.0,
        "kb" => 1e3,
        "kib" | "k" => 1024.0,
        "mb" => 1e6,
        "mib" | "m" => 1024.0 * 1024.0,
        "gb" => 1e9,
        "gib" | "g" => 1024.0 * 1024.0 * 1024.0,
        _ => return Err(format!("`{unit}` is not a unit of size; use KiB, MiB or GiB")),
    };
    let bytes = number * factor;
    if bytes < 9e18 { Ok(bytes as u64) } else { Err(format!("`{text}` is too large")) }
}

fn number_and_unit(text: &str) -> Result<(f64, &str), String> {
    let text = text.trim();
    let end = text.find(|c: char| !(c.is_ascii_digit() || c == '.' || c == '_')).unwrap_or(text.len());
    let number = text[..end].replace('_', "").parse::<f64>().map_err(|_| format!("`{text}` does not begin with a number"))?;
    Ok((number, text[end..].trim()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_and_sizes_are_read_with_their_units() {
        assert_eq!(duration("150ms").unwrap().as_millis(), 150);
        assert_eq!(duration("1.5 s").unwrap().as_millis(), 1500);
        assert_eq!(duration("2min").unwrap().as_secs(), 120);
        assert!(duration("9999999999999999999s").is_err() && duration("1441000 min").is_err() && duration("1440000 min").is_ok());
        assert!(duration("fast").is_err() && duration("1 year").is_err() && duration("").is_err() && duration("1e400").is_err());
        assert_eq!((size("32 MiB"), size("10kB"), size("7 B")), (Ok(32 << 20), Ok(10_000), Ok(7)));
        for without in ["20", "5", " 0.5 "] {
            assert!(duration(without).unwrap_err().contains("has no unit") && size(without).unwrap_err().contains("has no unit"));
        }
        assert_eq!((duration("0"), size("0")), (Ok(std::time::Duration::ZERO), Ok(0)));
        assert_eq!((share("2%"), share("0.5 %")), (Ok(0.02), Ok(0.005)));
        assert!(share("2").is_err() && share("0%").is_err() && share("200%").is_err());
        assert!(size("1 stone").is_err() && size("99999999999 GiB").is_err());
    }

    #[test]
    fn the_command_line_is_well_formed() {
        <Arguments as clap::CommandFactory>::command().debug_assert();
    }
}
