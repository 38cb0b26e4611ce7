//! What kampf.toml says, checked for what goes together; names in it are not yet looked up.

use std::time::Duration;

use kampf_contest::{Choice, ChoiceOption, Expect, Loading, Restriction};
use kampf_schema::Span;
use kampf_schema::ddl::SqlDialect;
use kampf_verdict::Require;
use toml::de::DeTable;

use super::file::{
    BatchForm, ContestTable, EngineForm, Factor, Few, Many, Named, PlainText, ProjectFile, Reader, Share, Size, Time, all, entries, span,
};
use super::keys::{KeysConfig, keys};
use super::option::option;
use super::own::{OwnConfig, own};
use super::variant::{IndexConfig, index};
use super::written::Written;
use crate::problem::{Problem, TextFile};

/// The file, read and checked for form; names in it are not yet looked up.
#[derive(Clone, Debug)]
pub(crate) struct Config {
    pub(crate) source: TextFile,
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
    /// Whether a commit waits until it is on the disk, where contenders write.
    pub(crate) durable: bool,
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
    /// What is written; none where rows are read.
    pub(crate) write: Option<WriteConfig>,
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

/// What a contest writes.
#[derive(Clone, Debug)]
pub(crate) struct WriteConfig {
    /// `insert`, `update` or `delete`.
    pub(crate) word: &'static str,
    pub(crate) table: Written,
    pub(crate) count: Option<(u64, Span)>,
    pub(crate) set: Vec<Written>,
    pub(crate) also: Vec<Written>,
    /// Numbers of rows or statements that go together.
    pub(crate) sizes: Vec<u32>,
}

impl Config {
    pub(crate) fn read(source: &TextFile) -> Result<Config, Problem> {
        let parsed = DeTable::parse(&source.text).map_err(|error| {
            let place = error.span().map_or(Span::default(), span);
            Problem::wrong(format!("this is not TOML: {}", error.message().replace('\n', ", "))).at(source.place(place))
        })?;
        let reader = Reader::new(source, "", parsed.get_ref());
        let others: Vec<&str> = ProjectFile::KEYS.iter().copied().filter(|key| *key != "schema").collect();
        let near = if reader.has("schema") { None } else { reader.near("schema", &others) };
        if let Some((near, place)) = near {
            return Err(Problem::wrong(format!("`{near}` is not a key of kampf.toml"))
                .at(source.place(place))
                .hint("did you mean `schema`?"));
        }
        if !reader.has("schema") {
            return Err(no_schema(source));
        }
        Config::of(source, ProjectFile::of(reader)?)
    }

    /// What the file says, where its parts go together.
    fn of(source: &TextFile, file: ProjectFile) -> Result<Config, Problem> {
        let schema = all(file.schema);
        if schema.is_empty() {
            return Err(no_schema(source));
        }
        let (engine, settings) = match file.engine {
            None => (None, Vec::new()),
            Some(EngineForm::Name(name)) => (Some(name), Vec::new()),
            Some(EngineForm::WithSettings(table)) => (table.name, entries(table.settings)),
        };
        let texts = |named: Option<Named<PlainText>>| entries(named).into_iter().map(|(name, text)| (name, text.0)).collect();
        let (cache, conditions) = (file.cache.unwrap_or_default(), file.conditions.unwrap_or_default());
        let keep = file.keep.unwrap_or_default();
        let usual = Keep::default();
        Ok(Config {
            source: source.clone(),
            schema,
            dialect: file.dialect.map(|dialect| dialect.0),
            types: entries(file.types).into_iter().map(|(name, means)| (name.value, means.0)).collect(),
            engine,
            settings: settings.into_iter().map(|(name, setting)| (name, setting.0)).collect(),
            seed: file.seed.map_or(1, |seed| seed.value),
            rows: entries(file.rows).into_iter().map(|(name, count)| (name, count.0)).collect(),
            values: texts(file.values),
            scale: file.scale.map(|Factor(times)| times),
            references: texts(file.references),
            relations: texts(file.relations),
            entities: entries(file.entities).into_iter().map(|(name, table)| (name, table.always.unwrap_or_default())).collect(),
            entries: cache.entries.map(|Many(entries)| entries),
            hit_rates: all(conditions.hit_rates).into_iter().map(|Share(rate)| rate).collect(),
            round_trips: all(conditions.round_trips).into_iter().map(|Time(trip)| trip).collect(),
            pin: conditions.pin.unwrap_or(false),
            durable: conditions.durable.unwrap_or(true),
            indexes: entries(file.index).into_iter().map(|(name, table)| index(source, name, table)).collect::<Result<_, _>>()?,
            keys: entries(file.keys).into_iter().map(|(table, types)| keys(table, types)).collect(),
            keep: Keep {
                datasets: keep.datasets.map_or(usual.datasets, |Few(number)| number),
                variants: keep.variants.map_or(usual.variants, |Few(number)| number),
                disk: keep.disk.map(|Size(bytes)| bytes),
            },
            contests: entries(file.contests).into_iter().map(|(name, table)| contest(source, &name, table)).collect::<Result<_, _>>()?,
        })
    }
}

fn no_schema(source: &TextFile) -> Problem {
    Problem::wrong(format!("{} names no schema", source.path.display()))
        .hint("write `schema = \"….sql\"`: a file of SQL statements that make your tables")
}

/// The largest number that engines take as a limit.
const MOST_LIMIT: u64 = i64::MAX.unsigned_abs();

fn contest(source: &TextFile, name: &Written, table: ContestTable) -> Result<ContestConfig, Problem> {
    let (place, name) = (name.span, name.value.as_str());
    if name.is_empty() || name.contains(|c: char| c.is_whitespace() || c.is_control() || c == '/') {
        return Err(Problem::wrong("a contest's name is one word, like `calmest-hives`").at(source.place(place)));
    }
    if let Some(limit) = table.limit.filter(|limit| limit.value > MOST_LIMIT) {
        return Err(Problem::wrong(format!("a limit of {} is more than engines take", limit.value))
            .at(source.place(limit.span))
            .hint(format!("give at most {MOST_LIMIT}, or leave the line out: all rows are given then")));
    }
    if table.page.is_none() && table.pages.is_some() {
        return Err(Problem::wrong(format!("`{name}` says how many pages there are, and not how many rows a page has"))
            .at(source.place(place))
            .hint("add `page = 25`, or so many rows as a page has"));
    }
    let write = write(source, name, place, &table)?;
    let loading = |(path, word): (Written, PlainText)| {
        let rank = option(source, Choice::Loading, &word.0)?.rank();
        Ok((path, Loading::ALL[rank]))
    };
    let number = |many: Option<Many>| many.map(|Many(number)| number);
    Ok(ContestConfig {
        name: name.to_owned(),
        span: place,
        about: table.about.map(|about| about.value),
        from: table.from,
        write,
        give: table.give.unwrap_or_default(),
        filter: table.filter,
        group: table.group,
        distinct: table.distinct.unwrap_or(false),
        expect: table.expect.map_or(Expect::Many, |expect| expect.0),
        order: table.order.unwrap_or_default(),
        limit: table.limit.map(|limit| (limit.value, limit.span)),
        page: number(table.page),
        pages: number(table.pages),
        chunk: all(table.chunk).into_iter().map(|Many(number)| number).collect(),
        index: table.index.unwrap_or_default(),
        keys: table.keys.unwrap_or_default(),
        ordered: table.ordered.unwrap_or(false),
        parameters: entries(table.parameters).into_iter().map(|(name, parameter)| (name.value, parameter.0)).collect(),
        choices: table.choices.map(|choices| choices.restriction()).unwrap_or_default(),
        loading: entries(table.loading).into_iter().map(loading).collect::<Result<_, Problem>>()?,
        keeps_nothing: table.keeps.is_some(),
        require: table.require.map(|require| require.0).unwrap_or_default(),
        contenders: entries(table.contenders).into_iter().map(|(name, table)| own(source, &name, table)).collect::<Result<_, _>>()?,
    })
}

/// What a contest writes, where it says so; and nothing of what only one that reads can say.
fn write(source: &TextFile, name: &str, place: Span, table: &ContestTable) -> Result<Option<WriteConfig>, Problem> {
    let words = [("insert", &table.insert), ("update", &table.update), ("delete", &table.delete)];
    let mut said = words.into_iter().filter_map(|(word, table)| Some((word, table.as_ref()?)));
    let wrong = |span: Span, message: String, hint: &str| Err(Problem::wrong(message).at(source.place(span)).hint(hint));
    let Some((word, of)) = said.next() else {
        let stray = [
            table.count.as_ref().map(|count| ("count", count.span)),
            table.set.as_ref().and_then(|set| Some(("set", set.first()?.span))),
            table.also.as_ref().and_then(|also| Some(("also", also.first()?.span))),
            table.batch.as_ref().map(|_| ("batch", place)),
        ];
        return match stray.into_iter().flatten().next() {
            Some((key, span)) => {
                wrong(span, format!("`{name}` writes nothing, so `{key}` says nothing"), "add `insert`, `update` or `delete`")
            }
            None => Ok(None),
        };
    };
    if let Some((other, of)) = said.next() {
        return wrong(of.span, format!("`{name}` has both `{word}` and `{other}`"), "a contest does one thing; make two of it");
    }
    let reads = [
        table.from.as_ref().map(|from| ("from", from.span)),
        table.give.as_ref().and_then(|give| Some(("give", give.first()?.span))),
        table.group.as_ref().and_then(|group| Some(("group", group.first()?.span))),
        table.order.as_ref().and_then(|order| Some(("order", order.first()?.span))),
        table.limit.map(|limit| ("limit", limit.span)),
        table.page.map(|_| ("page", place)),
        table.chunk.as_ref().map(|_| ("chunk", place)),
        table.distinct.map(|_| ("distinct", place)),
        table.expect.map(|_| ("expect", place)),
        table.keeps.map(|_| ("keeps", place)),
        table.index.as_ref().and_then(|index| Some(("index", index.first()?.span))),
        table.keys.as_ref().and_then(|keys| Some(("keys", keys.first()?.span))),
        table.loading.as_ref().map(|_| ("loading", place)),
    ];
    if let Some((key, span)) = reads.into_iter().flatten().next() {
        return wrong(
            span,
            format!("`{name}` writes, and `{key}` says how rows are read"),
            "remove it, or make a contest of its own that reads",
        );
    }
    let only =
        [("count", "insert", table.count.as_ref().map(|count| count.span)), ("batch", "insert", table.batch.as_ref().map(|_| place))];
    if let Some((key, of, Some(span))) = only.into_iter().find(|(_, of, span)| *of != word && span.is_some()) {
        return wrong(span, format!("`{key}` is said of `{of}` alone"), "remove it");
    }
    if word == "delete"
        && let Some(set) = table.set.as_ref().and_then(|set| set.first())
    {
        return wrong(set.span, "what is deleted is not set to anything".to_owned(), "remove `set`");
    }
    if word == "update"
        && let Some(also) = table.also.as_ref().and_then(|also| also.first())
    {
        return wrong(
            also.span,
            "nothing else goes with an update".to_owned(),
            "remove `also`; a cascade of the schema is looked at anyway",
        );
    }
    Ok(Some(WriteConfig {
        word,
        table: of.clone(),
        count: table.count.map(|count| (count.value, count.span)),
        set: table.set.clone().unwrap_or_default(),
        also: table.also.clone().unwrap_or_default(),
        sizes: all(table.batch.clone()).into_iter().map(|BatchForm(size)| size).collect(),
    }))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::file::OwnSql;
    use super::super::own::OwnWay;
    use super::*;

    fn read(text: &str) -> Result<Config, Problem> {
        Config::read(&TextFile { path: std::path::Path::new("kampf.toml").into(), text: text.into() })
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
                OwnWay::Sql(sql, ..) => Ok(sql),
                OwnWay::Program(..) => panic!("it is SQL"),
            }
        };
        let text = |sql: &OwnSql, engine: &str| sql.of(engine).map(|written| written.value.clone());
        let plain = own("sql = \"SELECT 1\"").unwrap();
        assert_eq!((text(&plain, "sqlite"), text(&plain, "postgres")), (Some("SELECT 1".into()), Some("SELECT 1".into())));
        let one = own("sql.postgres = \"SELECT 2\"").unwrap();
        assert_eq!((text(&one, "sqlite"), text(&one, "postgres")), (None, Some("SELECT 2".into())));
        let other = own("sql.postgresql = \"SELECT 2\"").unwrap();
        assert_eq!(text(&other, "postgres"), Some("SELECT 2".into()));
        let both = own("sql.any = \"SELECT 1\"\nsql.postgres = \"SELECT 2\"").unwrap();
        assert_eq!((text(&both, "sqlite"), text(&both, "postgres")), (Some("SELECT 1".into()), Some("SELECT 2".into())));
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
