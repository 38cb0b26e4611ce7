//! kampf.toml as it is written.

use std::time::Duration;

use kampf_contest::{Choice, ChoiceOption, Expect, Loading, Quantity, Restriction};
use kampf_schema::ddl::{SqlDialect, is_type};
use kampf_schema::{Span, did_you_mean};
use kampf_verdict::{Require, Required};
use toml::de::DeTable;

use super::keys::KeysConfig;
use super::numbers::{factor, few, many, share, sizes, unit};
use super::option::option;
use super::own::{OwnConfig, own};
use super::reader::{Reader, integer, pairs, span};
use super::variant::IndexConfig;
use super::written::Written;
use crate::arguments::{duration, size};
use crate::problem::{Problem, Source};

/// The file, read and checked for form; names in it are not yet looked up.
#[derive(Clone, Debug)]
pub(crate) struct Config {
    pub(crate) source: Source,
    /// Files and folders with the statements that make the schema, in their order.
    pub(crate) schema: Vec<Written>,
    /// What kind of SQL they are written in; where it is not said, they say it themselves.
    pub(crate) dialect: Option<SqlDialect>,
    /// What types mean that the files use and do not explain.
    pub(crate) types: Vec<(String, String)>,
    pub(crate) engine: Option<Written>,
    pub(crate) settings: Vec<(Written, String)>,
    pub(crate) seed: u64,
    pub(crate) rows: Vec<(Written, Written)>,
    pub(crate) values: Vec<(Written, Written)>,
    /// How many times as many rows as guessed.
    pub(crate) scale: Option<f64>,
    /// References that the schema does not declare: columns, and the columns that they lead to.
    pub(crate) references: Vec<(Written, Written)>,
    pub(crate) relations: Vec<(Written, Written)>,
    /// Of each table the relations that are loaded whenever an entity of it is.
    pub(crate) entities: Vec<(Written, Vec<Written>)>,
    /// Answers that a contender keeps at most, where it keeps any.
    pub(crate) entries: Option<u32>,
    /// Shares of the calls that such a contender answers without asking the database, each raced by itself; one that is usual where
    /// none is given.
    pub(crate) hit_rates: Vec<f64>,
    /// How much longer trips to the server take, one race for each; empty where nothing is added.
    pub(crate) round_trips: Vec<Duration>,
    /// Whether contenders and server are kept on one core.
    pub(crate) pin: bool,
    /// The same rows under other indexes.
    pub(crate) indexes: Vec<IndexConfig>,
    /// The same rows with other keys.
    pub(crate) keys: Vec<KeysConfig>,
    pub(crate) keep: Keep,
    pub(crate) contests: Vec<ContestConfig>,
}

/// What is kept of what was loaded.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Keep {
    /// Datasets besides the current one.
    pub(crate) datasets: u32,
    /// Variants of a dataset besides those that are asked for.
    pub(crate) variants: u32,
    /// Bytes of all that is not asked for together.
    pub(crate) disk: Option<u64>,
}

impl Default for Keep {
    fn default() -> Keep {
        Keep { datasets: 2, variants: 8, disk: None }
    }
}

/// One contest.
#[derive(Clone, Debug)]
pub(crate) struct ContestConfig {
    pub(crate) name: String,
    pub(crate) span: Span,
    pub(crate) about: Option<String>,
    pub(crate) from: Option<Written>,
    pub(crate) give: Vec<Written>,
    pub(crate) filter: Option<Written>,
    /// What rows are grouped by; none where they are not.
    pub(crate) group: Option<Vec<Written>>,
    pub(crate) distinct: bool,
    pub(crate) expect: Expect,
    pub(crate) order: Vec<Written>,
    pub(crate) limit: Option<(u64, Span)>,
    /// Rows of a page, where the answer is read page after page, and how many pages are.
    pub(crate) page: Option<u32>,
    pub(crate) pages: Option<u32>,
    /// Rows that are read at a time where they are not read at once.
    pub(crate) chunk: Vec<u32>,
    /// The variants that contenders run on besides the plain schema.
    pub(crate) index: Vec<Written>,
    /// The tables that are raced with other keys too.
    pub(crate) keys: Vec<Written>,
    pub(crate) ordered: bool,
    pub(crate) parameters: Vec<(String, Written)>,
    pub(crate) choices: Restriction,
    /// Relations that are loaded in one way whatever else a contender does.
    pub(crate) loading: Vec<(Written, Loading)>,
    /// Whether the application keeps nothing of its rows, so that raw is a choice like others.
    pub(crate) keeps_nothing: bool,
    pub(crate) require: Require,
    pub(crate) contenders: Vec<OwnConfig>,
}

/// The keys of the file besides its schema.
const OTHERS: [&str; 16] = [
    "cache",
    "conditions",
    "contest",
    "dialect",
    "engine",
    "entities",
    "index",
    "keep",
    "keys",
    "references",
    "relations",
    "rows",
    "scale",
    "seed",
    "types",
    "values",
];

impl Config {
    pub(crate) fn read(source: &Source) -> Result<Config, Problem> {
        let parsed = DeTable::parse(&source.text).map_err(|error| {
            let place = error.span().map_or(Span::default(), span);
            Problem::wrong(format!("this is not TOML: {}", error.message().replace('\n', ", "))).at(source.place(place))
        })?;
        let mut top = Reader::new(source, "", parsed.get_ref());
        let schema = top.one_or_more("schema")?;
        if schema.is_empty() {
            if let Some((near, place)) = top.near("schema", &OTHERS) {
                return Err(Problem::wrong(format!("`{near}` is not a key of kampf.toml"))
                    .at(source.place(place))
                    .hint("did you mean `schema`?"));
            }
            return Err(Problem::wrong(format!("{} names no schema", source.path.display()))
                .hint("write `schema = \"….sql\"`: a file of SQL statements that make your tables"));
        }
        let dialect = match top.string("dialect")? {
            None => None,
            Some(word) => Some(SqlDialect::from_word(&word.value).ok_or_else(|| {
                Problem::wrong(format!("there is no dialect `{}`", word.value))
                    .at(source.place(word.span))
                    .maybe_hint(did_you_mean(&word.value, SqlDialect::ALL.iter().map(|dialect| dialect.word())))
            })?),
        };
        let mut types = Vec::new();
        for (name, means) in pairs(&mut top, source, "types", false)? {
            if !is_type(&means.value) {
                return Err(Problem::wrong(format!("`{}` is no type that is known", means.value))
                    .at(source.place(means.span))
                    .hint("one of: integer, decimal, real, text, boolean, date, timestamp, uuid, blob, json"));
            }
            types.push((name.value, means.value));
        }
        let mut engine = None;
        let mut settings = Vec::new();
        if let Some((key, value)) = top.get("engine") {
            if value.get_ref().is_str() {
                engine = Some(top.text((key, value))?);
            } else {
                let mut table = top.inner((key, value))?;
                engine = table.string("name")?;
                if let Some(inner) = table.table("settings")? {
                    for item in inner.items() {
                        let text = integer(item.1.get_ref()).map(|number| number.to_string());
                        let text = match (text, item.1.get_ref().as_integer()) {
                            (Some(text), _) => text,
                            (None, Some(number)) => number.as_str().replace('_', ""),
                            (None, None) => inner.text(item)?.value,
                        };
                        settings.push((Written::new(&source.text, span(item.0.span()), item.0.get_ref()), text));
                    }
                }
                table.finish()?;
            }
        }
        let seed = top.number("seed")?.map_or(1, |(seed, _)| seed);
        let rows = pairs(&mut top, source, "rows", true)?;
        let values = pairs(&mut top, source, "values", false)?;
        let scale = factor(source, &mut top, "scale")?;
        let references = pairs(&mut top, source, "references", false)?;
        let relations = pairs(&mut top, source, "relations", false)?;
        let mut entities = Vec::new();
        if let Some(all) = top.table("entities")? {
            for item in all.items() {
                let mut table = all.inner(item)?;
                entities.push((Written::new(&source.text, span(item.0.span()), item.0.get_ref()), table.strings("always")?));
                table.finish()?;
            }
        }
        let (mut hit_rates, mut pin, mut round_trips) = (Vec::new(), false, Vec::new());
        let mut entries = None;
        if let Some(mut cache) = top.table("cache")? {
            entries = many(source, &mut cache, "entries")?;
            cache.finish()?;
        }
        if let Some(mut conditions) = top.table("conditions")? {
            if let Some((_, place)) = conditions.place("transaction") {
                return Err(Problem::wrong("a transaction around each call is a choice of the contender")
                    .at(source.place(place))
                    .hint("leave the line out; `unit = [\"one\"]` under [contest.….choices] has every contender hold its calls together"));
            }
            for written in conditions.one_or_more("hit_rate")? {
                let rate = share(&written.value).map_err(|message| Problem::wrong(message).at(source.place(written.span)))?;
                hit_rates.push(rate);
            }
            pin = conditions.truth("pin")?.unwrap_or(false);
            for written in conditions.one_or_more("round_trip")? {
                let trip = duration(&written.value).map_err(|message| Problem::wrong(message).at(source.place(written.span)))?;
                round_trips.push(trip);
            }
            conditions.finish()?;
        }
        let indexes = super::variant::indexes(source, &mut top)?;
        let keys = super::keys::keys(source, &mut top)?;
        let mut keep = Keep::default();
        if let Some(mut table) = top.table("keep")? {
            keep.datasets = few(source, &mut table, "datasets")?.unwrap_or(keep.datasets);
            keep.variants = few(source, &mut table, "variants")?.unwrap_or(keep.variants);
            keep.disk = unit(source, &mut table, "disk", size)?;
            table.finish()?;
        }
        let mut contests = Vec::new();
        if let Some(all) = top.table("contest")? {
            for item in all.items() {
                contests.push(contest(source, item.0.get_ref(), span(item.0.span()), all.inner(item)?)?);
            }
        }
        top.finish()?;
        Ok(Config {
            source: source.clone(),
            schema,
            dialect,
            types,
            engine,
            settings,
            seed,
            rows,
            values,
            scale,
            references,
            relations,
            entities,
            entries,
            hit_rates,
            round_trips,
            pin,
            indexes,
            keys,
            keep,
            contests,
        })
    }
}

/// The largest number that engines take as a limit.
const MOST_LIMIT: u64 = i64::MAX.unsigned_abs();

fn contest(source: &Source, name: &str, place: Span, mut table: Reader<'_>) -> Result<ContestConfig, Problem> {
    if name.is_empty() || name.contains(|c: char| c.is_whitespace() || c.is_control() || c == '/') {
        return Err(Problem::wrong("a contest's name is one word, like `calmest-hives`").at(source.place(place)));
    }
    let mut config = ContestConfig {
        name: name.to_owned(),
        span: place,
        about: table.string("about")?.map(|about| about.value),
        from: table.string("from")?,
        give: table.strings("give")?,
        filter: table.string("where")?,
        group: table.optional_strings("group")?,
        distinct: table.truth("distinct")?.unwrap_or(false),
        expect: match table.string("expect")? {
            None => Expect::Many,
            Some(written) => expected(source, &written)?,
        },
        order: table.strings("order")?,
        limit: table.number("limit")?,
        page: many(source, &mut table, "page")?,
        pages: many(source, &mut table, "pages")?,
        chunk: sizes(source, &mut table, "chunk")?,
        index: table.strings("index")?,
        keys: table.strings("keys")?,
        ordered: table.truth("ordered")?.unwrap_or(false),
        parameters: Vec::new(),
        choices: Restriction::default(),
        loading: Vec::new(),
        keeps_nothing: false,
        require: Require::default(),
        contenders: Vec::new(),
    };
    if let Some((limit, place)) = config.limit
        && limit > MOST_LIMIT
    {
        return Err(Problem::wrong(format!("a limit of {limit} is more than engines take"))
            .at(source.place(place))
            .hint(format!("give at most {MOST_LIMIT}, or leave the line out: all rows are given then")));
    }
    if config.page.is_none() && config.pages.is_some() {
        return Err(Problem::wrong(format!("`{name}` says how many pages there are, and not how many rows a page has"))
            .at(source.place(place))
            .hint("add `page = 25`, or so many rows as a page has"));
    }
    if let Some(parameters) = table.table("parameters")? {
        for item in parameters.items() {
            let text = match item.1.get_ref() {
                toml::de::DeValue::String(_) => parameters.text(item)?,
                toml::de::DeValue::Array(_) | toml::de::DeValue::Table(_) => {
                    return Err(Problem::wrong(format!(
                        "the parameter `{}` is said by one text: how its values are drawn",
                        item.0.get_ref()
                    ))
                    .at(source.place(span(item.1.span())))
                    .hint("`pick('a', 'b')` draws one of some values for each call, `some(hive.id, 20)` a list of twenty"));
                }
                // A plain number, truth or date is a fixed value as it stands.
                _ => Written::new(&source.text, span(item.1.span()), source.text.get(item.1.span()).unwrap_or_default()),
            };
            config.parameters.push((item.0.get_ref().to_string(), text));
        }
    }
    if let Some(mut choices) = table.table("choices")? {
        for choice in Choice::ALL {
            for written in choices.strings(choice.word())? {
                config.choices.allow(option(source, choice, &written)?);
            }
        }
        choices.finish()?;
    }
    for (path, word) in pairs(&mut table, source, "loading", false)? {
        let rank = option(source, Choice::Loading, &word)?.rank();
        config.loading.push((path, Loading::ALL[rank]));
    }
    if let Some(written) = table.string("keeps")? {
        if written.value != "nothing" {
            return Err(Problem::wrong(format!("`keeps` is `nothing` or is left out, not `{}`", written.value))
                .at(source.place(written.span))
                .hint("keeps = \"nothing\" says that the application uses each row in place, so that raw can be chosen"));
        }
        config.keeps_nothing = true;
    }
    if let Some(mut require) = table.table("require")? {
        for required in Required::all() {
            let key = required.key();
            let limit = match required {
                Required::Count(measure) if measure.entry().unit == Quantity::Bytes => {
                    unit(source, &mut require, key, size)?.map(|size| size as f64)
                }
                Required::Count(_) => require.number(key)?.map(|(number, _)| number as f64),
                _ => unit(source, &mut require, key, duration)?.map(|time: Duration| time.as_nanos() as f64),
            };
            if let Some(limit) = limit {
                config.require.set(required, limit);
            }
        }
        config.require.fresh = require.truth("fresh")?.unwrap_or(true);
        require.finish()?;
    }
    if let Some(contenders) = table.table("contender")? {
        for item in contenders.items() {
            config.contenders.push(own(source, item.0.get_ref(), span(item.0.span()), contenders.inner(item)?)?);
        }
    }
    table.finish()?;
    Ok(config)
}

/// How many rows must come.
fn expected(source: &Source, written: &Written) -> Result<Expect, Problem> {
    let word = written.value.split_whitespace().collect::<Vec<_>>().join(" ");
    let found = Expect::ALL.into_iter().find(|expect| expect.word() == word);
    found.ok_or_else(|| {
        let words = Expect::ALL.map(|expect| format!("`{}`", expect.word())).join(", ");
        Problem::wrong(format!("`{}` is not a number of rows to expect", written.value))
            .at(source.place(written.span))
            .hint(format!("write one of {words}: \"of many\" takes the first and lets others be there"))
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::own::{OwnSql, OwnWay};
    use super::*;

    fn read(text: &str) -> Result<Config, Problem> {
        Config::read(&Source { path: "kampf.toml".into(), text: text.into() })
    }

    #[test]
    fn an_engine_is_a_name_a_url_or_a_table_with_settings() {
        let engine = |text: &str| read(&format!("schema = \"a.sql\"\n{text}")).unwrap();
        assert_eq!(engine("engine = \"postgres\"").engine.unwrap().value, "postgres");
        let chosen = engine("[engine]\nname = \"postgres\"\n[engine.settings]\nwork_mem = \"64MB\"\nrandom_page_cost = 1_1");
        let settings: Vec<(&str, &str)> = chosen.settings.iter().map(|(name, value)| (name.value.as_str(), value.as_str())).collect();
        assert_eq!((settings.len(), chosen.engine.unwrap().value.as_str()), (2, "postgres"));
        assert!(settings.contains(&("work_mem", "64MB")) && settings.contains(&("random_page_cost", "11")), "{settings:?}");
    }

    #[test]
    fn circumstances_are_one_or_several() {
        let given = |text: &str| read(&format!("schema = \"a.sql\"\n[conditions]\n{text}"));
        assert_eq!(given("round_trip = \"0.5ms\"").unwrap().round_trips, [Duration::from_micros(500)]);
        let several = given("pin = true\nround_trip = [\"0\", \"2ms\"]").unwrap();
        assert_eq!((several.round_trips, several.pin), (vec![Duration::ZERO, Duration::from_millis(2)], true));
        for wrong in ["round_trip = \"soon\"", "round_trip = [1]", "pin = \"yes\"", "trips = \"1ms\""] {
            let problem = given(wrong).unwrap_err();
            assert!(problem.place.is_some(), "{wrong}: {problem}");
        }
    }

    #[test]
    fn own_sql_is_for_any_engine_or_for_one() {
        let own = |text: &str| -> Result<OwnSql, Problem> {
            let config = read(&format!("schema = \"a.sql\"\n[contest.c]\n[contest.c.contender.mine]\n{text}"))?;
            match config.contests[0].contenders[0].way.clone() {
                OwnWay::Sql(sql, _) => Ok(sql),
                OwnWay::Program(..) => panic!("it is SQL"),
            }
        };
        let text = |sql: &OwnSql, engine: &str| sql.of(engine).map(|written| written.value.clone());
        let plain = own("sql = \"SELECT 1\"").unwrap();
        assert_eq!((text(&plain, "sqlite"), text(&plain, "postgres")), (Some("SELECT 1".into()), Some("SELECT 1".into())));
        let one = own("sql.postgres = \"SELECT 2\"").unwrap();
        assert_eq!((text(&one, "sqlite"), text(&one, "postgres")), (None, Some("SELECT 2".into())));
        let both = own("sql.any = \"SELECT 1\"\nsql.postgres = \"SELECT 2\"").unwrap();
        assert_eq!((text(&both, "sqlite"), text(&both, "postgres")), (Some("SELECT 1".into()), Some("SELECT 2".into())));
        assert!(own("sql.postgrs = \"SELECT 2\"").unwrap_err().to_string().contains("did you mean `postgres`?"));
        assert!(own("sql = 3").is_err());
    }

    proptest! {
        #![proptest_config(kampf_mangle::property(300))]
        #[test]
        fn no_file_makes_the_reader_panic(
            parts in prop::collection::vec(
                prop::sample::select(vec![
                    "schema", "engine", "=", "\"a.sql\"", "[rows]", "[contest.a]", "[contest.a.contender.b]", "\n", "from", "give", "[", "]", "sql",
                    "sql.postgres", "round_trip", "[conditions]", "'", "\"\"\"", "1_0", "-3", "true", "1979-05-27", "ü", ".", "{", "}", ",",
                ]),
                0..30,
            )
        ) {
            let text = parts.join(" ");
            for text in [text.clone(), format!("schema = \"a.sql\"\n{text}"), text.replace(' ', "")] {
                if let Err(problem) = read(&text) {
                    prop_assert!(!problem.to_string().is_empty());
                }
            }
        }
    }
}
