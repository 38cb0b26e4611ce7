//! Servers of PostgreSQL that tests start themselves from the installed programs.

mod shared;

use kampf_contest::Flow;
use kampf_engine::{Connection, Engine, Ground, Served, Setting, engine};
use kampf_fill::{Blueprint, Order};
use kampf_schema::{Schema, ValueRef, ddl};

pub(crate) fn postgres() -> &'static dyn Engine {
    engine("postgres").unwrap()
}

/// Whether there is a server to be started.
pub(crate) fn installed() -> bool {
    super::is_here(postgres())
}

/// A dataset: with a server of its own, which ends with the thread that started it, or in a database of the shared one.
pub(crate) struct Loaded {
    pub(crate) folder: tempfile::TempDir,
    pub(crate) served: Option<Box<dyn Served>>,
    /// Where the shared server's owner reaches the dataset's database.
    shared: Option<String>,
}

impl Loaded {
    /// With a server of its own, for tests that look into a server or do to it what others would notice.
    pub(crate) fn alone(schema: &Schema, blueprint: &Blueprint, settings: &[(&str, &str)]) -> Loaded {
        let mut chosen = postgres().settings();
        for (name, value) in settings {
            let setting = chosen.iter_mut().find(|setting| setting.name == *name).unwrap();
            *setting = Setting { value: (*value).to_owned(), chosen: true, ..setting.clone() };
        }
        Loaded::at(None, schema, blueprint, &chosen)
    }

    /// On the shared server, as on one of somebody else's.
    pub(crate) fn shared(schema: &Schema, blueprint: &Blueprint) -> Loaded {
        Loaded::at(Some(shared::database()), schema, blueprint, &postgres().settings())
    }

    fn at(shared: Option<String>, schema: &Schema, blueprint: &Blueprint, settings: &[Setting]) -> Loaded {
        let mut loaded = Loaded { folder: tempfile::tempdir().unwrap(), served: None, shared };
        let place = loaded.place();
        postgres().load(&place, schema, blueprint, settings, &mut |_| {}).unwrap_or_else(|error| panic!("{error}\n{:?}", error.sql));
        loaded.served = Some(postgres().serve(&place, settings).unwrap());
        loaded
    }

    fn place(&self) -> Ground<'_> {
        Ground { folder: self.folder.path(), server: self.shared.as_deref(), name: "test", owner: "test", variant: None }
    }

    pub(crate) fn served(&self) -> &dyn Served {
        self.served.as_deref().unwrap()
    }

    pub(crate) fn connect(&self) -> Box<dyn Connection> {
        postgres().connect(self.served().url(), &[]).unwrap()
    }

    /// Where the server's owner reaches it, as a user would name it.
    pub(crate) fn own_url(&self) -> String {
        self.shared.clone().unwrap_or_else(|| as_owner(self.served().url()))
    }

    /// Carries out statements as the server's owner.
    pub(crate) fn execute(&self, statements: &[&str]) {
        carry_out(&self.own_url(), statements);
    }
}

impl Drop for Loaded {
    fn drop(&mut self) {
        self.served = None;
        let _ = postgres().remove(&self.place());
    }
}

/// An empty database of the shared server, on which a test puts datasets as on a server of somebody else's. Holds the URL by which its
/// owner reaches it.
pub(crate) struct Database(pub(crate) String);

impl Database {
    pub(crate) fn new() -> Database {
        Database(shared::database())
    }

    /// Loads other rows there, as on a server of somebody else's, has them looked at, and removes them.
    pub(crate) fn beside(&self, schema: &Schema, blueprint: &Blueprint, shown: &str, look: impl FnOnce(&dyn Connection)) {
        let folder = tempfile::tempdir().unwrap();
        let place = Ground { folder: folder.path(), server: Some(&self.0), name: "beside", owner: "test", variant: None };
        postgres().load(&place, schema, blueprint, &[], &mut |_| {}).unwrap_or_else(|error| panic!("{error} {:?}\n{shown}", error.sql));
        let served = postgres().serve(&place, &[]).unwrap();
        let connection = postgres().connect(served.url(), &[]).unwrap();
        look(connection.as_ref());
        drop((connection, served));
        postgres().remove(&place).unwrap();
    }

    /// Carries out statements as the server's owner.
    pub(crate) fn execute(&self, statements: &[&str]) {
        carry_out(&self.0, statements);
    }
}

fn carry_out(url: &str, statements: &[&str]) {
    let connection = postgres().connect(url, &[]).unwrap();
    let mut session = connection.session();
    for sql in statements {
        let statement = session.prepare(sql, &[]).unwrap_or_else(|error| panic!("{error}: {sql}"));
        session.run(statement, &[], &mut |_: &[ValueRef<'_>]| Flow::More).unwrap_or_else(|error| panic!("{error}: {sql}"));
    }
}

pub(crate) const APIARY: &str = "CREATE TABLE strain (id INTEGER PRIMARY KEY, name VARCHAR(80) NOT NULL, origin VARCHAR(80));
    CREATE TABLE hive (id INTEGER PRIMARY KEY, strain_id INTEGER NOT NULL REFERENCES strain, label TEXT NOT NULL);
    CREATE TABLE inspection (id INTEGER PRIMARY KEY, hive_id INTEGER NOT NULL REFERENCES hive, temper INTEGER NOT NULL, note TEXT);
    CREATE INDEX inspection_hive ON inspection (hive_id);";

pub(crate) fn apiary() -> (Schema, Blueprint) {
    let schema = ddl::read(APIARY).unwrap().schema;
    let blueprint = Blueprint::new(&schema, &Order::default()).unwrap();
    (schema, blueprint)
}

/// The URL of a throwaway server as its owner reaches it, instead of those who may only read.
pub(crate) fn as_owner(url: &str) -> String {
    url.replacen("//kampf_reader@", "//kampf@", 1)
}
