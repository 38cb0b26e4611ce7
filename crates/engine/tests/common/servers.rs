//! Servers of PostgreSQL that tests start themselves from the installed programs.

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

/// A dataset of its own with its server. The server ends with the thread that started it, so each test has its own.
pub(crate) struct Loaded {
    pub(crate) folder: tempfile::TempDir,
    pub(crate) served: Option<Box<dyn Served>>,
}

impl Loaded {
    pub(crate) fn new(schema: &Schema, blueprint: &Blueprint, settings: &[(&str, &str)]) -> Loaded {
        let folder = tempfile::tempdir().unwrap();
        let mut chosen = postgres().settings();
        for (name, value) in settings {
            let setting = chosen.iter_mut().find(|setting| setting.name == *name).unwrap();
            *setting = Setting { value: (*value).to_owned(), chosen: true, ..setting.clone() };
        }
        let place = Ground { folder: folder.path(), server: None, name: "test", owner: "test", variant: None };
        postgres().load(&place, schema, blueprint, &chosen, &mut |_| {}).unwrap_or_else(|error| panic!("{error}\n{:?}", error.sql));
        let served = postgres().serve(&place, &chosen).unwrap();
        Loaded { folder, served: Some(served) }
    }

    /// A server on which tests put datasets of their own, beside a small one that it was made for.
    pub(crate) fn small() -> Loaded {
        let schema = ddl::read("CREATE TABLE hive (id INTEGER PRIMARY KEY);").unwrap().schema;
        Loaded::new(&schema, &Blueprint::new(&schema, &Order::default()).unwrap(), &[])
    }

    /// Loads other rows there, as on a server of somebody else's, has them looked at, and removes them.
    pub(crate) fn beside(&self, schema: &Schema, blueprint: &Blueprint, shown: &str, look: impl FnOnce(&dyn Connection)) {
        let (folder, url) = (tempfile::tempdir().unwrap(), self.own_url());
        let place = Ground { folder: folder.path(), server: Some(&url), name: "beside", owner: "test", variant: None };
        postgres().load(&place, schema, blueprint, &[], &mut |_| {}).unwrap_or_else(|error| panic!("{error} {:?}\n{shown}", error.sql));
        let served = postgres().serve(&place, &[]).unwrap();
        let connection = postgres().connect(served.url(), &[]).unwrap();
        look(connection.as_ref());
        drop((connection, served));
        postgres().remove(&place).unwrap();
    }

    pub(crate) fn served(&self) -> &dyn Served {
        self.served.as_deref().unwrap()
    }

    pub(crate) fn connect(&self) -> Box<dyn Connection> {
        postgres().connect(self.served().url(), &[]).unwrap()
    }

    /// Where the server's owner reaches it, as a user would name it.
    pub(crate) fn own_url(&self) -> String {
        as_owner(self.served().url())
    }

    /// Carries out statements as the server's owner.
    pub(crate) fn execute(&self, statements: &[&str]) {
        let connection = postgres().connect(&self.own_url(), &[]).unwrap();
        let mut session = connection.session();
        for sql in statements {
            let statement = session.prepare(sql, &[]).unwrap_or_else(|error| panic!("{error}: {sql}"));
            session.run(statement, &[], &mut |_: &[ValueRef<'_>]| Flow::More).unwrap_or_else(|error| panic!("{error}: {sql}"));
        }
    }
}

impl Drop for Loaded {
    fn drop(&mut self) {
        self.served = None;
        let _ = postgres().remove(&Ground { folder: self.folder.path(), server: None, name: "test", owner: "test", variant: None });
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
