//! PostgreSQL: a throwaway server of the dataset's own, or a schema of Kampf's own on a server that is there.

mod connect;
mod dialect;
mod error;
mod load;
mod server;
mod session;
mod tls;
mod values;
mod wire;

use kampf_contest::{Dialect, EngineError, EngineErrorKind, Session};
use kampf_fill::Blueprint;
use kampf_schema::Schema;

use crate::engine::{Connection, Endpoint, Engine, Loaded, Place, Served, Setting, TableSize, Work};
use crate::load::LoadEvent;
use connect::Link;
use error::engine_error;
use server::{Home, Programs, Server, encoded, unreachable};

/// The engine.
pub(crate) struct Postgres;

/// How the comment on a schema of Kampf's own making begins.
const MARK: &str = "made by Kampf: ";

/// Settings that a session may choose on a server of somebody else's; the others are the server's own business.
const OF_A_SESSION: [&str; 5] = ["work_mem", "effective_cache_size", "random_page_cost", "max_parallel_workers_per_gather", "jit"];

impl Engine for Postgres {
    fn name(&self) -> &'static str {
        "postgres"
    }

    fn version(&self, server: Option<&str>) -> Result<String, EngineError> {
        match server {
            Some(url) => Link::open(url)?.version(),
            None => Programs::find().map(|programs| programs.version),
        }
    }

    fn dialect(&self) -> &'static Dialect {
        &dialect::POSTGRES
    }

    fn trips_are_modelled(&self) -> bool {
        false
    }

    fn calls_to_settle(&self) -> u64 {
        // The server compares a plan for the values with one for any values during the first five executions.
        5
    }

    fn settings(&self) -> Vec<Setting> {
        // PostgreSQL's own defaults.
        [
            ("shared_buffers", "128MB"),
            ("work_mem", "4MB"),
            ("effective_cache_size", "4GB"),
            ("random_page_cost", "4"),
            ("max_parallel_workers_per_gather", "2"),
            ("jit", "on"),
            ("log_statement", "none"),
        ]
        .map(|(name, value)| Setting::default(name, value))
        .into()
    }

    fn load(
        &self,
        place: &Place<'_>,
        schema: &Schema,
        blueprint: &Blueprint,
        settings: &[Setting],
        progress: &mut dyn FnMut(LoadEvent<'_>),
    ) -> Result<Vec<Loaded>, EngineError> {
        if let Some(url) = place.server {
            return load_into(url, place.name, schema, blueprint, progress);
        }
        let programs = Programs::find()?;
        let home = Home::of(place.folder)?;
        home.create(&programs)?;
        let server = home.start(&programs, settings)?;
        let link = Link::open(&server.url())?;
        let loaded = load::load(&link, schema, blueprint, progress)?;
        link.execute("CHECKPOINT")?;
        drop(link);
        drop(server);
        Home::of(place.folder)?.settle(&programs)?;
        Ok(loaded)
    }

    fn serve(&self, place: &Place<'_>, settings: &[Setting]) -> Result<Box<dyn Served>, EngineError> {
        if let Some(url) = place.server {
            let mut url = format!("{url}{}", if url.contains('?') { "&" } else { "?" });
            let mut own = String::new();
            for setting in settings.iter().filter(|setting| setting.chosen) {
                if !OF_A_SESSION.contains(&setting.name.as_str()) {
                    let message = format!("{} is for its owner to set on a server that is there already", setting.name);
                    return Err(EngineError { kind: EngineErrorKind::Value, message, sql: None });
                }
                own += &format!(" -c {}={}", setting.name, setting.value);
            }
            url += &format!("options={}", encoded(&format!("-c search_path={}{own}", schema_name(place.name))));
            let link = Link::open(&with_password(&url)?)?;
            link.version()?;
            if mark(&link, place.name)?.as_deref() != Some(&format!("{MARK}{}", place.name)) {
                return Err(unreachable(&format!("the schema {} that Kampf made is gone from the server", schema_name(place.name))));
            }
            return Ok(Box::new(Elsewhere { url: with_password(&url)? }));
        }
        let server = Home::of(place.folder)?.start(&Programs::find()?, settings)?;
        Ok(Box::new(Own { url: server.url(), server }))
    }

    fn shown(&self, url: &str) -> String {
        connect::without_password(url)
    }

    fn endpoint(&self, url: &str) -> Option<Endpoint> {
        connect::endpoint(url)
    }

    fn redirected(&self, url: &str, endpoint: &Endpoint) -> String {
        connect::redirected(url, endpoint)
    }

    fn connect(&self, url: &str, _: &[Setting]) -> Result<Box<dyn Connection>, EngineError> {
        Ok(Box::new(PostgresConnection { link: Link::open(url)? }))
    }

    fn remove(&self, place: &Place<'_>) -> Result<bool, EngineError> {
        if let Some(url) = place.server {
            let link = Link::open(url)?;
            return match mark(&link, place.name)? {
                Some(mark) if mark.starts_with(MARK) => {
                    link.execute(&format!("DROP SCHEMA {} CASCADE", schema_name(place.name))).map(|()| true)
                }
                Some(_) => Err(not_ours(place.name)),
                None => Ok(true),
            };
        }
        Ok(Home::of(place.folder)?.remove())
    }

    fn library_peak(&self, _: bool) -> Option<u64> {
        None
    }
}

/// The schema that a dataset's tables are in on somebody else's server.
fn schema_name(dataset: &str) -> String {
    format!("kampf_{dataset}")
}

/// The comment on a dataset's schema; none where there is no such schema.
fn mark(link: &Link, dataset: &str) -> Result<Option<String>, EngineError> {
    let sql = "SELECT coalesce(obj_description(oid, 'pg_namespace'), '') FROM pg_namespace WHERE nspname = $1";
    let found = link.runtime.block_on(link.client().query_opt(sql, &[&schema_name(dataset)]));
    Ok(found.map_err(|error| engine_error(&error, Some(sql)))?.map(|row| row.get(0)))
}

fn not_ours(dataset: &str) -> EngineError {
    unreachable(&format!(
        "the server has a schema {} that Kampf did not make, so it is left alone; rename it or use another database",
        schema_name(dataset)
    ))
}

/// Loads into a schema of its own on a server that is there.
fn load_into(
    url: &str,
    dataset: &str,
    schema: &Schema,
    blueprint: &Blueprint,
    progress: &mut dyn FnMut(LoadEvent<'_>),
) -> Result<Vec<Loaded>, EngineError> {
    let link = Link::open(url)?;
    link.version()?;
    let name = schema_name(dataset);
    match mark(&link, dataset)? {
        Some(mark) if mark.starts_with(MARK) => link.execute(&format!("DROP SCHEMA {name} CASCADE"))?,
        Some(_) => return Err(not_ours(dataset)),
        None => {}
    }
    // Marked before anything is in it, so that a half-made one is known too; marked as whole at the end.
    link.execute(&format!(
        "BEGIN; CREATE SCHEMA {name}; COMMENT ON SCHEMA {name} IS '{MARK}unfinished'; COMMIT; SET search_path = {name}"
    ))?;
    let loaded = load::load(&link, schema, blueprint, progress)?;
    link.execute(&format!("COMMENT ON SCHEMA {name} IS '{MARK}{dataset}'"))?;
    Ok(loaded)
}

/// The URL with the password that the environment or the password file gives, so that contenders need neither.
fn with_password(url: &str) -> Result<String, EngineError> {
    let config = connect::read_url(url)?;
    Ok(match (config.config.get_password(), connect::password_for(&config.config)) {
        (None, Some(password)) => format!("{url}&password={}", encoded(&password)),
        _ => url.to_owned(),
    })
}

/// A throwaway server at work.
struct Own {
    url: String,
    server: Server,
}

impl Served for Own {
    fn url(&self) -> &str {
        &self.url
    }

    fn tcp_url(&self) -> Option<String> {
        self.server.tcp_url()
    }

    fn place(&self) -> String {
        self.server.place()
    }

    fn pin(&self, core: usize) -> bool {
        self.server.pin(core)
    }
}

/// A server of somebody else's.
struct Elsewhere {
    url: String,
}

impl Served for Elsewhere {
    fn url(&self) -> &str {
        &self.url
    }

    fn tcp_url(&self) -> Option<String> {
        None
    }

    fn place(&self) -> String {
        connect::without_password(&self.url)
    }

    fn pin(&self, _: usize) -> bool {
        false
    }
}

struct PostgresConnection {
    link: Link,
}

impl Connection for PostgresConnection {
    fn session(&self) -> Box<dyn Session + '_> {
        Box::new(session::PostgresSession::new(&self.link))
    }

    fn settings(&self) -> Result<Vec<Setting>, EngineError> {
        let sql = "SELECT name, current_setting(name) FROM pg_settings";
        let rows = self.link.runtime.block_on(self.link.client().query(sql, &[])).map_err(|error| engine_error(&error, Some(sql)))?;
        let real = |setting: Setting| {
            let found = rows.iter().find(|row| row.get::<_, &str>(0) == setting.name);
            Setting { value: found.map_or_else(String::new, |row| row.get(1)), ..setting }
        };
        Ok(Postgres.settings().into_iter().map(real).collect())
    }

    fn sizes(&self) -> Result<Vec<TableSize>, EngineError> {
        let sql = "SELECT relname::text, pg_total_relation_size(oid) FROM pg_class
            WHERE relkind = 'r' AND relnamespace = current_schema()::regnamespace";
        let rows = self.link.runtime.block_on(self.link.client().query(sql, &[])).map_err(|error| engine_error(&error, Some(sql)))?;
        Ok(rows.iter().map(|row| TableSize { table: row.get(0), bytes: row.get::<_, i64>(1).unsigned_abs() }).collect())
    }

    fn work_of(&self, sql: &str) -> Result<Work, EngineError> {
        let sql = format!("EXPLAIN (ANALYZE, COSTS OFF, TIMING OFF, SUMMARY OFF) {sql}");
        let rows = self.link.runtime.block_on(self.link.client().query(&sql, &[])).map_err(|error| engine_error(&error, Some(&sql)))?;
        let scanned = rows.iter().filter_map(|row| scanned_rows(row.get(0))).sum();
        Ok(Work { amount: scanned, unit: "rows read by PostgreSQL's scans" })
    }
}

/// Rows that a line of an analysed plan says a scan has read, all its loops together; none for lines of other steps.
fn scanned_rows(line: &str) -> Option<f64> {
    let (_, actual) = line.split_once(" Scan")?.1.split_once("actual rows=")?;
    let (rows, loops) = actual.split_once(" loops=")?;
    Some(rows.parse::<f64>().ok()? * loops.trim_end_matches(')').parse::<f64>().ok()?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_of_scans_are_read_from_an_analysed_plan() {
        assert_eq!(scanned_rows("        ->  Seq Scan on weighing (actual rows=15000 loops=1)"), Some(15_000.0));
        assert_eq!(scanned_rows("  ->  Index Scan using hive_pkey on hive (actual rows=0.50 loops=12)"), Some(6.0));
        assert_eq!(scanned_rows("Aggregate (actual rows=1 loops=1)"), None);
        assert_eq!(scanned_rows("  Filter: (a > 1)"), None);
    }
}
