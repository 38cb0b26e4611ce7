//! Making rows on one core while the engine loads them on another.

use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use kampf_contest::EngineError;
use kampf_fill::{Batch, Blueprint};
use kampf_schema::{Schema, TableId};

use crate::engine::Loaded;

/// What happens during a load.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum LoadEvent<'a> {
    /// Rows of a table went in: its name, rows so far, rows in all.
    Rows(&'a str, u64, u64),
    /// All rows are in; indexes are being made.
    Indexes,
    /// Statistics are being gathered.
    Statistics,
    /// Another Kampf is using the dataset; this one waits for it.
    Waiting,
}

/// Batches waiting to be loaded at a time; more would only cost memory.
const WAITING: usize = 3;

/// Hands all batches of all tables, parents first, to `take`.
pub(crate) fn pump(
    schema: &Schema,
    blueprint: &Blueprint,
    progress: &mut dyn FnMut(LoadEvent<'_>),
    mut take: impl FnMut(TableId, &Batch) -> Result<(), EngineError>,
) -> Result<Vec<Loaded>, EngineError> {
    std::thread::scope(|scope| {
        let (made_in, made): (SyncSender<(TableId, Batch, u64)>, Receiver<_>) = sync_channel(WAITING);
        let (used_in, used) = sync_channel::<Batch>(WAITING + 2);
        scope.spawn(move || {
            for table in schema.parents_first() {
                let mut first = 0;
                loop {
                    let mut batch = used.try_recv().unwrap_or_default();
                    let rows = blueprint.batch(table, first, &mut batch);
                    let digest = batch.digest(first);
                    // The other end is gone when loading failed.
                    if rows == 0 || made_in.send((table, batch, digest)).is_err() {
                        break;
                    }
                    first += rows as u64;
                }
            }
        });
        let mut loaded: Vec<Loaded> = schema.tables.iter().map(|table| Loaded { table: table.name.clone(), rows: 0, digest: 0 }).collect();
        for (table, batch, digest) in made {
            take(table, &batch)?;
            let done = &mut loaded[table.0];
            done.rows += batch.rows() as u64;
            done.digest = done.digest.wrapping_add(digest);
            progress(LoadEvent::Rows(&done.table, done.rows, blueprint.rows(table)));
            let _ = used_in.try_send(batch);
        }
        Ok(loaded)
    })
}
