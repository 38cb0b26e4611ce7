//! Datasets of SQLite in folders of their own.

use kampf_engine::{Connection, Engine, Ground, engine};
use kampf_fill::Blueprint;
use kampf_schema::Schema;

pub(crate) fn sqlite() -> &'static dyn Engine {
    engine("sqlite").unwrap()
}

/// A loaded file in a folder of its own.
pub(crate) struct Loaded(pub(crate) tempfile::TempDir);

impl Loaded {
    pub(crate) fn new(schema: &Schema, blueprint: &Blueprint) -> Loaded {
        let loaded = Loaded(tempfile::tempdir().unwrap());
        sqlite().load(&loaded.place(), schema, blueprint, &[], &mut |_| {}).unwrap();
        loaded
    }

    fn place(&self) -> Ground<'_> {
        Ground { folder: self.0.path(), server: None, name: "test", owner: "test", variant: None }
    }

    pub(crate) fn connect(&self) -> Box<dyn Connection> {
        sqlite().connect(sqlite().serve(&self.place(), &[]).unwrap().url(), &[]).unwrap()
    }
}
