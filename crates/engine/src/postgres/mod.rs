//! PostgreSQL: a throwaway server of the dataset's own, or a schema of Kampf's own on a server that is there.

mod connect;
mod dialect;
mod elsewhere;
mod error;
mod load;
mod plan;
mod scratch;
mod server;
mod session;
mod tls;
mod values;
mod wire;

use std::path::PathBuf;
use std::rc::Rc;

use kampf_contest::{Dialect, EngineError, EngineErrorKind, Session};
use kampf_fill::Blueprint;
use kampf_schema::Schema;

use crate::engine::{Connection, Effort, Endpoint, Engine, Ground, IndexSize, Scratch, ScratchOrder, Served, Setting, Swept, TableSize};
use crate::event::{LoadEvent, Loaded};
use crate::fault::step;
use crate::session::Connected;
use crate::throwaway;
use connect::Link;
use server::{KIND, Programs, Server, database_of, home_of};

/// The engine.
pub(crate) struct Postgres;

impl Engine for Postgres {
    fn name(&self) -> &'static str {
        "postgres"
    }

    fn version(&self, server: Option<&str>) -> Result<String, EngineError> {
        match server {
            Some(url) => connect::suitable_version(url),
            None => Programs::find().map(|programs| programs.version),
        }
    }

    fn schemes(&self) -> &'static [&'static str] {
        &["postgres", "postgresql"]
    }

    fn is_own_variable(&self, name: &str) -> bool {
        name.starts_with("PG")
    }

    fn is_own_file(&self, name: &str, is_word: fn(&str) -> bool) -> bool {
        name == server::FOLDER || name.strip_prefix(scratch::FOLDER).is_some_and(is_word)
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

    fn settings_for(&self, settings: &[Setting], bytes: u64) -> Vec<Setting> {
        let raised = |setting: &Setting| {
            let own = setting.name == "shared_buffers" && !setting.chosen;
            let now = setting.value.strip_suffix("MB").and_then(|number| number.parse::<u64>().ok()).filter(|_| own);
            let Some(now) = now else { return setting.clone() };
            // A tenth more for catalogs and what is read at the same time; a quarter of the memory is what the server's manual calls reasonable.
            let wanted = (bytes / 10 * 11).div_ceil(1 << 20).min(memory().map_or(now, |memory| memory / (4 << 20)));
            Setting { value: format!("{}MB", now.max(wanted)), ..setting.clone() }
        };
        settings.iter().map(raised).collect()
    }

    fn load(
        &self,
        place: &Ground<'_>,
        schema: &Schema,
        blueprint: &Blueprint,
        settings: &[Setting],
        progress: &mut dyn FnMut(LoadEvent<'_>),
    ) -> Result<Vec<Loaded>, EngineError> {
        if let Some(url) = place.server {
            return elsewhere::load_into(url, place, schema, blueprint, progress);
        }
        let programs = Programs::find()?;
        let home = home_of(place.folder)?;
        step("home-made")?;
        if place.variant.is_none() {
            programs.create(&home)?;
            step("cluster-made")?;
        }
        let server = programs.start(&home, settings)?;
        let database = database_of(place.variant);
        let first = Link::open(&server.own_url(&database_of(None)))?;
        match place.variant {
            None => server.make_reader(&first)?,
            Some(_) => {
                // One that is there is not whole, or not what it was.
                first.execute(&format!("DROP DATABASE IF EXISTS {database}"))?;
                first.execute(&format!("CREATE DATABASE {database} TEMPLATE template0"))?;
            }
        }
        drop(first);
        let link = Link::open(&server.own_url(&database))?;
        let loaded = load::load(&link, schema, blueprint, progress)?;
        server.let_read(&link, &database)?;
        step("reader-made")?;
        link.execute("CHECKPOINT")?;
        drop(link);
        drop(server);
        programs.settle(&home_of(place.folder)?)?;
        Ok(loaded)
    }

    fn serve(&self, place: &Ground<'_>, settings: &[Setting]) -> Result<Box<dyn Served>, EngineError> {
        if let Some(url) = place.server {
            return Ok(Box::new(elsewhere::serve(url, place, settings)?));
        }
        let server = Programs::find()?.start(&home_of(place.folder)?, settings)?;
        Ok(Box::new(Own::of(server.into(), database_of(place.variant), place.folder.to_owned())))
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

    fn remove(&self, place: &Ground<'_>) -> Result<bool, EngineError> {
        if let Some(url) = place.server {
            return elsewhere::remove(url, place);
        }
        if let Some(word) = place.variant {
            if scratch::remove(place.folder, word)? {
                return Ok(true);
            }
            let server = Programs::find()?.start(&home_of(place.folder)?, &[])?;
            let link = Link::open(&server.own_url(&database_of(None)))?;
            link.execute(&format!("DROP DATABASE IF EXISTS {}", database_of(place.variant)))?;
            link.execute("CHECKPOINT")?;
            return Ok(true);
        }
        home_of(place.folder)?.remove()
    }

    fn sweep(&self, server: Option<&str>, owner: &str) -> Result<Swept, EngineError> {
        match server {
            Some(url) => elsewhere::sweep(url, owner),
            None => Ok(Swept { removed: throwaway::sweep(&KIND), ..Swept::default() }),
        }
    }

    fn scratch(&self, place: &Ground<'_>, served: &dyn Served, order: &ScratchOrder<'_>) -> Result<Box<dyn Scratch>, EngineError> {
        match place.server {
            Some(url) => Ok(Box::new(scratch::InSchema::of(url, place, order)?)),
            None => Ok(Box::new(scratch::InCluster::of(place, served, order)?)),
        }
    }

    fn connect_scratch(&self, url: &str, _: &[Setting], _: bool, _: Option<&[String]>) -> Result<Box<dyn Connection>, EngineError> {
        Ok(Box::new(PostgresConnection { link: scratch::open(url)? }))
    }

    fn library_peak(&self, _: bool) -> Option<u64> {
        None
    }
}

/// Bytes of memory that may be used here: this machine's, or what a control group allows where that is less, and no more than three times what is free
/// just now (proc_meminfo(5), and "memory.max" of the kernel's "Control Group v2").
fn memory() -> Option<u64> {
    let text = std::fs::read_to_string("/proc/meminfo").ok()?;
    let bytes = |name: &str| {
        let line = text.lines().find_map(|line| line.strip_prefix(name))?;
        line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok()?.checked_mul(1024)
    };
    let own = std::fs::read_to_string("/proc/self/cgroup").unwrap_or_default();
    let group = own.lines().find_map(|line| line.strip_prefix("0::/")).unwrap_or_default();
    // Each group is bound by those above it.
    let groups = std::path::Path::new("/sys/fs/cgroup").join(group);
    let limits = groups.ancestors().take_while(|group| group.starts_with("/sys/fs/cgroup"));
    let limit = limits.filter_map(|group| std::fs::read_to_string(group.join("memory.max")).ok()?.trim().parse::<u64>().ok()).min();
    // A quarter of it all is taken at most: where less is free than that, three quarters of what is.
    let free = bytes("MemAvailable:").map_or(u64::MAX, |free| free.saturating_mul(3));
    Some(bytes("MemTotal:")?.min(limit.unwrap_or(u64::MAX)).min(free))
}

/// A throwaway server at work.
struct Own {
    url: String,
    server: Rc<Server>,
    database: String,
    /// The dataset's folder.
    folder: PathBuf,
}

impl Own {
    fn of(server: Rc<Server>, database: String, folder: PathBuf) -> Own {
        Own { url: server.url(&database), server, database, folder }
    }
}

impl Served for Own {
    fn url(&self) -> &str {
        &self.url
    }

    fn tcp_url(&self) -> Option<String> {
        self.server.tcp_url(&self.database)
    }

    fn place(&self) -> String {
        self.server.place()
    }

    fn stamp(&self) -> Result<String, EngineError> {
        // Whatever writes takes the next transaction number of the whole server, and reading never does.
        let rows = Link::open(&self.server.own_url(&self.database))?.query("SELECT txid_snapshot_xmax(txid_current_snapshot())", &[])?;
        Ok(rows.first().map_or(0, |row| row.get::<_, i64>(0)).to_string())
    }

    fn beside(&self, variant: &str) -> Result<Box<dyn Served>, EngineError> {
        let own = Own::of(Rc::clone(&self.server), database_of(Some(variant)), self.folder.clone());
        let known = Link::open(&self.server.own_url(&database_of(None)))?
            .query("SELECT 1 FROM pg_database WHERE datname = $1", &[&own.database])?;
        if known.is_empty() {
            let message = format!("the database {} that Kampf made is gone from its server", own.database);
            return Err(EngineError { kind: EngineErrorKind::Gone, message, sql: None, cause: None });
        }
        Ok(Box::new(own))
    }

    fn variants(&self) -> Result<Vec<String>, EngineError> {
        let sql = "SELECT datname::text FROM pg_database WHERE starts_with(datname, $1)";
        let start = database_of(Some(""));
        let rows = Link::open(&self.server.own_url(&database_of(None)))?.query(sql, &[&start])?;
        let databases = rows.iter().map(|row| row.get::<_, &str>(0)[start.len()..].to_owned());
        Ok(databases.chain(scratch::words(&self.folder)).collect())
    }

    fn checkpoint(&self) -> Result<(), EngineError> {
        Link::open(&self.server.own_url(&self.database))?.execute("CHECKPOINT")
    }

    fn pin(&self, core: usize) -> bool {
        self.server.pin(core)
    }
}

struct PostgresConnection {
    link: Link,
}

impl Connection for PostgresConnection {
    fn room(&self) -> Result<Option<usize>, EngineError> {
        let sql = "SELECT current_setting('max_connections')::bigint - current_setting('superuser_reserved_connections')::bigint \
                   - (SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend')";
        let rows = self.link.query(sql, &[])?;
        Ok(rows.first().map(|row| usize::try_from(row.get::<_, i64>(0)).unwrap_or(0)))
    }

    fn session(&self) -> Box<dyn Session + '_> {
        Box::new(Connected::new(session::PostgresDriver::new(&self.link)))
    }

    fn settings(&self) -> Result<Vec<Setting>, EngineError> {
        let sql = "SELECT name, current_setting(name) FROM pg_settings";
        let rows = self.link.query(sql, &[])?;
        let real = |setting: Setting| {
            let found = rows.iter().find(|row| row.get::<_, &str>(0) == setting.name);
            Setting { value: found.map_or_else(String::new, |row| row.get(1)), ..setting }
        };
        Ok(Postgres.settings().into_iter().map(real).collect())
    }

    fn sizes(&self) -> Result<Vec<TableSize>, EngineError> {
        let sql = "SELECT relname::text, pg_total_relation_size(oid), pg_indexes_size(oid) FROM pg_class
            WHERE relkind = 'r' AND relnamespace = current_schema()::regnamespace";
        let rows = self.link.query(sql, &[])?;
        let bytes = |row: &tokio_postgres::Row, at: usize| row.get::<_, i64>(at).unsigned_abs();
        Ok(rows.iter().map(|row| TableSize { table: row.get(0), bytes: bytes(row, 1), index_bytes: bytes(row, 2) }).collect())
    }

    fn index_sizes(&self) -> Result<Vec<IndexSize>, EngineError> {
        let sql = "SELECT relname::text, pg_relation_size(oid) FROM pg_class
            WHERE relkind = 'i' AND relnamespace = current_schema()::regnamespace";
        let rows = self.link.query(sql, &[])?;
        Ok(rows.iter().map(|row| IndexSize { name: row.get(0), bytes: row.get::<_, i64>(1).unsigned_abs() }).collect())
    }

    fn work_of(&self, sql: &str) -> Result<Effort, EngineError> {
        let sql = format!("EXPLAIN (ANALYZE, COSTS OFF, TIMING OFF, SUMMARY OFF) {sql}");
        let rows = self.link.query(&sql, &[])?;
        let scanned = rows.iter().filter_map(|row| scanned_rows(row.get(0))).sum();
        Ok(Effort { amount: scanned, unit: "rows read by PostgreSQL's scans" })
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
