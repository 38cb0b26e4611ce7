//! A schema of Kampf's own on a server that is there already.
//!
//! Each dataset has a schema with a mark as its comment, which says what it is and whose; its tables have one too. Whoever uses it
//! holds a lock on the server, so that no other Kampf, in whatever folder or on whatever machine, takes it away meanwhile. Nothing is
//! dropped with what hangs on it.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use kampf_contest::{EngineError, EngineErrorKind};
use kampf_fill::Blueprint;
use kampf_schema::Schema;
use tokio_postgres::error::SqlState;

use super::connect::{self, Link};
use super::error::engine_error;
use super::load;
use crate::engine::{Ground, Served, Setting, Swept};
use crate::event::{LoadEvent, Loaded};
use crate::fault::step;
use crate::throwaway::{encoded, fnv, unreachable};

/// How the comment on a schema of Kampf's own making begins; then follows what it is, and after [`OF`] whose.
const MARK: &str = "made by Kampf: ";
const OF: &str = " for ";
/// What the mark says until everything is in.
const UNFINISHED: &str = "unfinished";
/// Settings that a session may choose; the others are the server's own business.
const OF_A_SESSION: [&str; 5] = ["work_mem", "effective_cache_size", "random_page_cost", "max_parallel_workers_per_gather", "jit"];

/// The name of a dataset on its server.
fn dataset_name(place: &Ground<'_>) -> String {
    place.variant.map_or_else(|| place.name.to_owned(), |variant| format!("{}_{variant}", place.name))
}

/// The schema that a dataset's tables are in.
fn schema_name(dataset: &str) -> String {
    format!("kampf_{dataset}")
}

/// What the comment on a schema says.
struct Mark {
    what: String,
    owner: String,
}

impl Mark {
    fn read(comment: &str) -> Option<Mark> {
        let (what, owner) = comment.strip_prefix(MARK)?.split_once(OF)?;
        Some(Mark { what: what.to_owned(), owner: owner.to_owned() })
    }
}

/// The comment on a schema as a statement. Names and owners are words without quotes.
fn comment(schema: &str, what: &str, owner: &str) -> String {
    format!("COMMENT ON SCHEMA {schema} IS '{MARK}{what}{OF}{owner}'")
}

/// The comment on a schema; none where there is no such schema.
fn found(link: &Link, schema: &str) -> Result<Option<String>, EngineError> {
    let sql = "SELECT coalesce(obj_description(oid, 'pg_namespace'), '') FROM pg_namespace WHERE nspname = $1";
    Ok(link.query(sql, &[&schema])?.first().map(|row| row.get(0)))
}

/// The key of the lock on a schema.
fn key(schema: &str) -> i64 {
    i64::from_ne_bytes(fnv(schema.as_bytes()).to_ne_bytes())
}

/// How long a lock is tried for: the server lets go of those of a connection only when it has seen that to its end.
const A_MOMENT: Duration = Duration::from_secs(2);

/// Tries for the lock on a schema, which the connection then holds to its end.
fn lock(link: &Link, schema: &str, alone: bool) -> Result<bool, EngineError> {
    let sql = if alone { "SELECT pg_try_advisory_lock($1)" } else { "SELECT pg_try_advisory_lock_shared($1)" };
    let deadline = Instant::now() + A_MOMENT;
    loop {
        let locked = link.query(sql, &[&key(schema)])?.first().is_some_and(|row| row.get(0));
        if locked || Instant::now() > deadline {
            return Ok(locked);
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn unlock(link: &Link, schema: &str) -> Result<(), EngineError> {
    link.query("SELECT pg_advisory_unlock($1)", &[&key(schema)]).map(|_| ())
}

/// A connection that makes or removes schemas of Kampf's own.
fn writing(url: &str) -> Result<Link, EngineError> {
    let link = Link::open(url)?;
    let rows = link.query("SELECT current_setting('transaction_read_only')", &[])?;
    if rows.first().is_none_or(|row| row.get::<_, &str>(0) == "off") {
        return Ok(link);
    }
    Err(unreachable(
        "the sessions of this user may only read there, so Kampf can make and remove no schema of its own: the server is a standby, or \
         default_transaction_read_only is set; name a server or a user that may write",
    ))
}

pub(super) fn load_into(
    url: &str,
    place: &Ground<'_>,
    schema: &Schema,
    blueprint: &Blueprint,
    progress: &mut dyn FnMut(LoadEvent<'_>),
) -> Result<Vec<Loaded>, EngineError> {
    connect::suitable_version(url)?;
    let link = writing(url)?;
    // What a Kampf that was killed has left half made.
    drop_marked(&link, place.owner, true)?;
    let dataset = dataset_name(place);
    let name = schema_name(&dataset);
    if !lock(&link, &name, true)? {
        return Err(in_use(&name));
    }
    match found(&link, &name)?.as_deref().map(Mark::read) {
        Some(Some(_)) => drop_schema(&link, &name)?,
        Some(None) => {
            return Err(unreachable(&format!(
                "the server has a schema {name} that Kampf did not make, so it is left alone; rename it or use another database"
            )));
        }
        None => {}
    }
    // Marked before anything is in it, so that a half-made one is known too; marked as whole at the end.
    let sql = format!("BEGIN; CREATE SCHEMA {name}; {}; COMMIT; SET search_path = {name}", comment(&name, UNFINISHED, place.owner));
    if let Err(error) = link.tried(&sql)? {
        let remedy = match error.code() {
            Some(&SqlState::INSUFFICIENT_PRIVILEGE) => {
                "; the user needs the right to make a schema of its own: GRANT CREATE ON DATABASE … TO …"
            }
            _ => "",
        };
        let error = engine_error(error, Some(&sql));
        return Err(EngineError { message: format!("{}{remedy}", error.message), ..error });
    }
    step("schema-made")?;
    let loaded = load::load(&link, schema, blueprint, progress)?;
    link.execute(&comment(&name, &dataset, place.owner))?;
    step("schema-whole")?;
    // At its end at the latest a connection tells what it has counted.
    drop(link);
    wait_for_counts(&Link::open(url)?, &name, loaded.iter().map(|loaded| loaded.rows).sum())?;
    Ok(loaded)
}

/// How long the server may take to count what was loaded.
const COUNTING: Duration = Duration::from_secs(10);

/// Waits until the server has counted the rows that were loaded, which it does in its own time: the stamp is made of such counts. One
/// that is set not to count is not waited for.
fn wait_for_counts(link: &Link, schema: &str, rows: u64) -> Result<(), EngineError> {
    let sql = "SELECT coalesce(sum(pg_stat_get_tuples_inserted(oid)), 0)::int8, current_setting('track_counts')
        FROM pg_class WHERE relkind = 'r' AND relnamespace = (SELECT oid FROM pg_namespace WHERE nspname = $1)";
    let deadline = Instant::now() + COUNTING;
    loop {
        let found = link.query(sql, &[&schema])?;
        let is_there = |row: &tokio_postgres::Row| row.get::<_, i64>(0).unsigned_abs() >= rows || row.get::<_, &str>(1) == "off";
        if found.first().is_none_or(is_there) || Instant::now() > deadline {
            return Ok(());
        }
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn in_use(schema: &str) -> EngineError {
    let message = format!("another kampf is using the schema {schema}");
    EngineError { kind: EngineErrorKind::Busy, message, sql: None, cause: None }
}

pub(super) fn serve(url: &str, place: &Ground<'_>, settings: &[Setting]) -> Result<Elsewhere, EngineError> {
    serve_dataset(url, dataset_name(place), settings, "on")
}

/// The same where sessions may write.
pub(super) fn serve_for_writing(url: &str, place: &Ground<'_>, settings: &[Setting]) -> Result<Elsewhere, EngineError> {
    serve_dataset(url, dataset_name(place), settings, "off")
}

fn serve_dataset(origin: &str, dataset: String, settings: &[Setting], reads_only: &str) -> Result<Elsewhere, EngineError> {
    let mut own = String::new();
    for setting in settings.iter().filter(|setting| setting.chosen) {
        if !OF_A_SESSION.contains(&setting.name.as_str()) {
            let message = format!("{} is for its owner to set on a server that is there already", setting.name);
            return Err(EngineError { kind: EngineErrorKind::Value, message, sql: None, cause: None });
        }
        own += &format!(" -c {}={}", setting.name, setting.value.replace('\\', "\\\\").replace(' ', "\\ "));
    }
    let name = schema_name(&dataset);
    let options = format!("-c search_path={name} -c default_transaction_read_only={reads_only} -c TimeZone=UTC{own}");
    let url = connect::with_password(&format!("{origin}{}options={}", if origin.contains('?') { "&" } else { "?" }, encoded(&options)))?;
    let link = Link::open(&url)?;
    link.version()?;
    // Locked first: then nobody removes it between the look and the use.
    if !lock(&link, &name, false)? {
        return Err(in_use(&name));
    }
    match found(&link, &name)?.as_deref().and_then(Mark::read) {
        Some(mark) if mark.what == dataset => Ok(Elsewhere { url, link, origin: origin.to_owned(), dataset, settings: settings.to_vec() }),
        _ => Err(EngineError {
            kind: EngineErrorKind::Gone,
            message: format!("the schema {name} that Kampf made is gone from the server"),
            sql: None,
            cause: None,
        }),
    }
}

/// Removes a dataset; false where another Kampf is using it.
pub(super) fn remove(url: &str, place: &Ground<'_>) -> Result<bool, EngineError> {
    let link = writing(url)?;
    let name = schema_name(&dataset_name(place));
    if !lock(&link, &name, true)? {
        return Ok(false);
    }
    match found(&link, &name)?.as_deref().map(Mark::read) {
        Some(Some(_)) => drop_schema(&link, &name)?,
        Some(None) => return Err(unreachable(&format!("the server has a schema {name} that Kampf did not make, so it is left alone"))),
        None => {}
    }
    Ok(true)
}

pub(super) fn sweep(url: &str, owner: &str) -> Result<Swept, EngineError> {
    drop_marked(&writing(url)?, owner, false)
}

/// Drops an owner's schemas that nobody uses; where asked to, only those that were never finished.
fn drop_marked(link: &Link, owner: &str, unfinished: bool) -> Result<Swept, EngineError> {
    let sql = "SELECT nspname::text, obj_description(oid, 'pg_namespace') FROM pg_namespace
        WHERE nspname LIKE 'kampf\\_%' AND obj_description(oid, 'pg_namespace') IS NOT NULL";
    // A dataset and its variants are schemas by themselves, and one dataset to whoever removes it.
    let [mut removed, mut in_use, mut of_others] = [(); 3].map(|()| BTreeSet::new());
    let dataset = |name: &str| name.split('_').take(3).collect::<Vec<_>>().join("_");
    for row in link.query(sql, &[])? {
        let (name, comment): (String, String) = (row.get(0), row.get(1));
        let plain = name.bytes().all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'_');
        let Some(mark) = Mark::read(&comment).filter(|_| plain) else { continue };
        if mark.owner != owner {
            of_others.insert(dataset(&name));
            continue;
        }
        if unfinished && mark.what != UNFINISHED {
            continue;
        }
        if lock(link, &name, true)? {
            drop_schema(link, &name)?;
            unlock(link, &name)?;
            removed.insert(dataset(&name));
        } else {
            in_use.insert(dataset(&name));
        }
    }
    Ok(Swept { removed: removed.len(), in_use: in_use.len(), of_others: of_others.len() })
}

/// Drops a schema with the tables that Kampf made in it, and refuses where anything else is in it or hangs on it.
fn drop_schema(link: &Link, name: &str) -> Result<(), EngineError> {
    let sql = "SELECT quote_ident(relname::text) FROM pg_class
        WHERE relnamespace = (SELECT oid FROM pg_namespace WHERE nspname = $1) AND relkind = 'r' AND obj_description(oid, 'pg_class') = $2";
    let tables: Vec<String> =
        link.query(sql, &[&name, &load::TABLE_MARK])?.iter().map(|row| format!("{name}.{}", row.get::<_, &str>(0))).collect();
    let tables = if tables.is_empty() { String::new() } else { format!("DROP TABLE {}; ", tables.join(", ")) };
    let sql = format!("BEGIN; {tables}DROP SCHEMA {name}; COMMIT");
    let Err(error) = link.tried(&sql)? else { return Ok(()) };
    link.execute("ROLLBACK")?;
    if error.code() != Some(&SqlState::DEPENDENT_OBJECTS_STILL_EXIST) {
        return Err(engine_error(error, Some(&sql)));
    }
    let what = error.as_db_error().and_then(|error| error.detail()).unwrap_or_default().replace('\n', "; ");
    Err(unreachable(&format!(
        "something that Kampf did not make is in the schema {name} or hangs on its tables, so that it stays with all that is in it; \
         drop what is not Kampf's yourself first: {what}"
    )))
}

/// A dataset on somebody else's server, in use.
pub(super) struct Elsewhere {
    url: String,
    /// Holds the lock.
    link: Link,
    /// What it was reached by, to reach others beside it.
    origin: String,
    dataset: String,
    settings: Vec<Setting>,
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

    fn stamp(&self) -> Result<String, EngineError> {
        // What the server counts of changes to each table; another file where one was emptied or written anew.
        let sql = "SELECT c.relname::text, pg_relation_filenode(c.oid)::int8, pg_relation_size(c.oid),
                pg_stat_get_tuples_inserted(c.oid), pg_stat_get_tuples_updated(c.oid), pg_stat_get_tuples_deleted(c.oid)
            FROM pg_class c WHERE c.relkind = 'r' AND c.relnamespace = current_schema()::regnamespace ORDER BY 1";
        let rows = self.link.query(sql, &[])?;
        let lines = rows.iter().map(|row| {
            let numbers: Vec<String> = (1..6).map(|at| row.get::<_, Option<i64>>(at).unwrap_or(0).to_string()).collect();
            format!("{} {}", row.get::<_, &str>(0), numbers.join(" "))
        });
        Ok(format!("{:016x}", fnv(lines.collect::<Vec<_>>().join("\n").as_bytes())))
    }

    fn caution(&self) -> Option<String> {
        Some(format!(
            "on {} contenders have the rights of its user; their sessions are read-only, which programs could change: name a user that \
             may only read and make one schema",
            self.place()
        ))
    }

    fn beside(&self, variant: &str) -> Result<Box<dyn Served>, EngineError> {
        Ok(Box::new(serve_dataset(&self.origin, format!("{}_{variant}", self.dataset), &self.settings, "on")?))
    }

    fn variants(&self) -> Result<Vec<String>, EngineError> {
        let start = schema_name(&format!("{}_", self.dataset));
        let rows = self.link.query("SELECT nspname::text FROM pg_namespace WHERE starts_with(nspname, $1)", &[&start])?;
        Ok(rows.iter().map(|row| row.get::<_, &str>(0)[start.len()..].to_owned()).collect())
    }

    fn pin(&self, _: usize) -> bool {
        false
    }
}
