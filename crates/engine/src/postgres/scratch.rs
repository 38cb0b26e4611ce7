//! A copy of a dataset that may be written to: a cluster of its own beside a throwaway one, or a schema of its own on a server that is there.

use std::fs;
use std::os::unix::fs::{MetadataExt, lchown};
use std::path::{Path, PathBuf};

use kampf_contest::EngineError;
use kampf_schema::Schema;

use super::connect::{self, Link};
use super::dialect::POSTGRES;
use super::elsewhere;
use super::server::{Programs, Server, WRITER, database_of, home_of};
use crate::engine::{Ground, SCRATCH_TABLE, Scratch, ScratchOrder, Served, Setting};
use crate::throwaway::{io, unreachable};

/// How the folder of a scratch's cluster is called in the dataset's; its word follows.
pub(super) const FOLDER: &str = "scratch.";

/// What such a cluster waits for; the dataset's own waits for nothing.
const DURABLE: [(&str, &str); 3] = [("fsync", "on"), ("full_page_writes", "on"), ("synchronous_commit", "on")];

/// The words of the scratches in a dataset's folder.
pub(super) fn words(dataset: &Path) -> Vec<String> {
    let entries = fs::read_dir(dataset).into_iter().flatten().flatten();
    entries.filter_map(|entry| entry.file_name().to_str()?.strip_prefix(FOLDER).map(str::to_owned)).collect()
}

/// Removes a scratch by its word; false where there is none.
pub(super) fn remove(dataset: &Path, word: &str) -> Result<bool, EngineError> {
    let folder = dataset.join(format!("{FOLDER}{word}"));
    if !folder.is_dir() {
        return Ok(false);
    }
    home_of(&folder)?.remove()?;
    fs::remove_dir_all(&folder).map_err(|error| io("remove", &folder, error))?;
    Ok(true)
}

/// Opens a scratch, and nothing else.
pub(super) fn open(url: &str) -> Result<Link, EngineError> {
    let link = Link::open(url)?;
    let rows = link.query("SELECT to_regclass('kampf_scratch') IS NOT NULL", &[])?;
    if rows.first().is_some_and(|row| row.get(0)) {
        Ok(link)
    } else {
        Err(unreachable("this is no scratch of Kampf's, and nothing else is written to"))
    }
}

/// A cluster of its own, copied from a throwaway one.
pub(super) struct InCluster {
    url: String,
    own_url: String,
    link: Link,
    /// None while it is dropped.
    server: Option<Server>,
    dataset: PathBuf,
    word: String,
}

impl InCluster {
    pub(super) fn of(place: &Ground<'_>, served: &dyn Served, order: &ScratchOrder<'_>) -> Result<InCluster, EngineError> {
        // Nobody writes to the dataset, so that its files are whole from here on.
        served.checkpoint()?;
        let made = InCluster::made(place, order);
        made.inspect_err(|_| drop(remove(place.folder, order.word)))
    }

    fn made(place: &Ground<'_>, order: &ScratchOrder<'_>) -> Result<InCluster, EngineError> {
        let folder = place.folder.join(format!("{FOLDER}{}", order.word));
        fs::create_dir(&folder).map_err(|error| io("make", &folder, error))?;
        let home = home_of(&folder)?;
        copy(&home_of(place.folder)?.data(), &home.data()).map_err(|error| io("copy the dataset to", &home.data(), error))?;
        let mut settings: Vec<Setting> = order.settings.to_vec();
        if order.durable {
            settings.extend(DURABLE.map(|(name, value)| Setting::default(name, value)));
        }
        let server = Programs::find()?.start(&home, &settings)?;
        let database = database_of(place.variant);
        let own_url = server.own_url(&database);
        let link = Link::open(&own_url)?;
        let known = link.query("SELECT 1 FROM pg_roles WHERE rolname = $1", &[&WRITER])?;
        if known.is_empty() {
            link.execute(&format!("CREATE ROLE {WRITER} LOGIN"))?;
        }
        prepare(&link, order)?;
        link.execute(&format!(
            "GRANT CONNECT ON DATABASE {database} TO {WRITER}; GRANT USAGE ON SCHEMA public TO {WRITER}; \
             GRANT SELECT ON ALL TABLES IN SCHEMA public TO {WRITER}; GRANT USAGE ON ALL SEQUENCES IN SCHEMA public TO {WRITER}"
        ))?;
        for &table in order.touched {
            let name = (POSTGRES.quote)(&order.schema.table(table).name);
            link.execute(&format!("GRANT INSERT, UPDATE, DELETE ON {name} TO {WRITER}"))?;
        }
        link.execute("CHECKPOINT")?;
        let (dataset, word) = (place.folder.to_owned(), order.word.to_owned());
        Ok(InCluster { url: server.writer_url(&database), own_url, link, server: Some(server), dataset, word })
    }
}

/// Marks a scratch, and has the database make the values that it is to make.
fn prepare(link: &Link, order: &ScratchOrder<'_>) -> Result<(), EngineError> {
    let quote = POSTGRES.quote;
    // Marked in the same transaction: what has no mark is somebody else's, and would keep the schema from being removed.
    link.execute(&format!("{SCRATCH_TABLE}; COMMENT ON TABLE kampf_scratch IS '{}'", super::load::TABLE_MARK))?;
    for &(table, column, next) in order.made {
        let model = order.schema.table(table);
        let (table, column) = (quote(&model.name), quote(&model.columns[column].name));
        link.execute(&format!(
            "ALTER TABLE {table} ALTER COLUMN {column} SET NOT NULL; \
             ALTER TABLE {table} ALTER COLUMN {column} ADD GENERATED BY DEFAULT AS IDENTITY (START WITH {next})"
        ))?;
    }
    Ok(())
}

/// Has all references of a schema of Kampf's own wait for the end of a transaction where it asks them to, as the runner's does that takes back what was
/// written.
fn let_references_wait(link: &Link) -> Result<(), EngineError> {
    let sql = "SELECT conrelid::regclass::text, quote_ident(conname::text) FROM pg_constraint
        WHERE contype = 'f' AND connamespace = current_schema()::regnamespace";
    for row in link.query(sql, &[])? {
        let (table, name): (&str, &str) = (row.get(0), row.get(1));
        link.execute(&format!("ALTER TABLE {table} ALTER CONSTRAINT {name} DEFERRABLE"))?;
    }
    Ok(())
}

/// Copies the files of a cluster that is at work and that nobody writes to, with whom they belong to.
fn copy(from: &Path, to: &Path) -> std::io::Result<()> {
    let about = fs::metadata(from)?;
    fs::create_dir_all(to)?;
    fs::set_permissions(to, about.permissions())?;
    let is_root = rustix::process::geteuid().is_root();
    let owned = |path: &Path, about: &fs::Metadata| if is_root { lchown(path, Some(about.uid()), Some(about.gid())) } else { Ok(()) };
    owned(to, &about)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let (source, target) = (entry.path(), to.join(entry.file_name()));
        let about = entry.metadata()?;
        if entry.file_name() == "postmaster.pid" {
            continue;
        }
        if about.is_dir() {
            copy(&source, &target)?;
        } else if about.is_file() {
            fs::copy(&source, &target)?;
            owned(&target, &about)?;
        }
    }
    Ok(())
}

/// Bytes of the write-ahead log so far, and of a database.
fn log_bytes(link: &Link) -> Result<Option<u64>, EngineError> {
    let rows = link.query("SELECT (pg_current_wal_insert_lsn() - '0/0')::int8", &[])?;
    Ok(rows.first().map(|row| row.get::<_, i64>(0).unsigned_abs()))
}

fn table_bytes(link: &Link) -> Result<u64, EngineError> {
    let sql = "SELECT coalesce(sum(pg_total_relation_size(oid)), 0)::int8 FROM pg_class
        WHERE relkind = 'r' AND relnamespace = current_schema()::regnamespace";
    Ok(link.query(sql, &[])?.first().map_or(0, |row| row.get::<_, i64>(0).unsigned_abs()))
}

/// Frees the room of rows that are gone, in all tables of a schema.
fn vacuum(link: &Link, schema: &Schema) -> Result<(), EngineError> {
    schema.tables.iter().try_for_each(|table| link.execute(&format!("VACUUM {}", (POSTGRES.quote)(&table.name))))
}

impl Scratch for InCluster {
    fn url(&self) -> &str {
        &self.url
    }

    fn own_url(&self) -> &str {
        &self.own_url
    }

    fn log_bytes(&self) -> Result<Option<u64>, EngineError> {
        log_bytes(&self.link)
    }

    fn bytes(&self) -> Result<u64, EngineError> {
        table_bytes(&self.link)
    }

    fn settle(&self) -> Result<(), EngineError> {
        Ok(())
    }

    fn undo_begins(&self) -> &'static [&'static str] {
        &["SET LOCAL lock_timeout = '5s'", "SET LOCAL synchronous_commit = off", "SET LOCAL session_replication_role = replica"]
    }

    fn pin(&self, core: usize) -> bool {
        self.server.as_ref().is_some_and(|server| server.pin(core))
    }

    fn make_room(&self) -> Result<(), EngineError> {
        self.link.execute("VACUUM")
    }
}

impl Drop for InCluster {
    fn drop(&mut self) {
        self.server = None;
        // What is left, the next command removes.
        let _ = remove(&self.dataset, &self.word);
    }
}

/// A schema of its own on a server that is there, with the same rows.
pub(super) struct InSchema {
    url: String,
    own_url: String,
    link: Link,
    schema: Schema,
    /// Holds the lock, until the schema is removed.
    served: Option<elsewhere::Elsewhere>,
    origin: String,
    place: (PathBuf, String, String),
    word: String,
}

impl InSchema {
    pub(super) fn of(origin: &str, place: &Ground<'_>, order: &ScratchOrder<'_>) -> Result<InSchema, EngineError> {
        let of_word = Ground { variant: Some(order.word), ..*place };
        let made = || {
            elsewhere::load_into(origin, &of_word, order.schema, order.blueprint, &mut |_| {})?;
            let served = elsewhere::serve_for_writing(origin, &of_word, order.settings)?;
            let own_url = connect::with_password(served.url())?;
            let link = Link::open(&own_url)?;
            prepare(&link, order)?;
            let_references_wait(&link)?;
            Ok(InSchema {
                url: own_url.clone(),
                own_url,
                link,
                schema: order.schema.clone(),
                served: Some(served),
                origin: origin.to_owned(),
                place: (place.folder.to_owned(), place.name.to_owned(), place.owner.to_owned()),
                word: order.word.to_owned(),
            })
        };
        made().inspect_err(|_: &EngineError| drop(elsewhere::remove(origin, &of_word)))
    }
}

impl Scratch for InSchema {
    fn url(&self) -> &str {
        &self.url
    }

    fn own_url(&self) -> &str {
        &self.own_url
    }

    fn log_bytes(&self) -> Result<Option<u64>, EngineError> {
        // Others write to the same log.
        Ok(None)
    }

    fn bytes(&self) -> Result<u64, EngineError> {
        table_bytes(&self.link)
    }

    fn settle(&self) -> Result<(), EngineError> {
        Ok(())
    }

    fn undo_begins(&self) -> &'static [&'static str] {
        // The user of somebody else's server may not turn rules off.
        &["SET LOCAL lock_timeout = '5s'", "SET LOCAL synchronous_commit = off", "SET CONSTRAINTS ALL DEFERRED"]
    }

    fn pin(&self, _: usize) -> bool {
        false
    }

    fn make_room(&self) -> Result<(), EngineError> {
        vacuum(&self.link, &self.schema)
    }
}

impl Drop for InSchema {
    fn drop(&mut self) {
        self.served = None;
        let (folder, name, owner) = &self.place;
        let place = Ground { folder, server: Some(&self.origin), name, owner, variant: Some(&self.word) };
        let _ = elsewhere::remove(&self.origin, &place);
    }
}
