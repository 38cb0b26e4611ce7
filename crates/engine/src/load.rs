//! Making rows on one core while the engine loads them on another.

use std::sync::mpsc::sync_channel;

use kampf_contest::{EngineError, EngineErrorKind};
use kampf_fill::{Batch, Blueprint};
use kampf_schema::{Schema, TableId};

use crate::event::{LoadEvent, Loaded};

/// Batches waiting to be loaded at a time; more would only cost memory.
const WAITING: usize = 3;

/// Makes all batches of all tables, parents first, and has `prepare` bring them into the engine's own form, on one thread; `take`
/// loads them on this one. Either gives a batch that it has no more need of back.
pub(crate) fn pump<P: Send>(
    schema: &Schema,
    blueprint: &Blueprint,
    progress: &mut dyn FnMut(LoadEvent<'_>),
    mut prepare: impl FnMut(TableId, Batch) -> Result<(P, Option<Batch>), EngineError> + Send,
    mut take: impl FnMut(TableId, P) -> Result<Option<Batch>, EngineError>,
) -> Result<Vec<Loaded>, EngineError> {
    std::thread::scope(|scope| {
        let (made_in, made) = sync_channel::<Result<Made<P>, EngineError>>(WAITING);
        let (used_in, used) = sync_channel::<Batch>(WAITING + 2);
        let makes = move || {
            let mut spare = None;
            for table in schema.parents_first() {
                let mut first = 0;
                loop {
                    let mut batch = spare.take().or_else(|| used.try_recv().ok()).unwrap_or_default();
                    let rows = blueprint.batch(table, first, &mut batch) as u64;
                    if rows == 0 {
                        spare = Some(batch);
                        break;
                    }
                    let digest = batch.digest(first);
                    let prepared = prepare(table, batch).map(|(prepared, batch)| {
                        spare = batch;
                        Made { table, prepared, rows, digest }
                    });
                    // The other end is gone when loading failed.
                    if made_in.send(prepared).is_err() {
                        return;
                    }
                    first += rows;
                }
            }
        };
        std::thread::Builder::new().spawn_scoped(scope, makes).map_err(|error| EngineError {
            kind: EngineErrorKind::Unreachable,
            message: format!("a thread that makes rows cannot be started: {error}"),
            sql: None,
            cause: Some(std::sync::Arc::new(error)),
        })?;
        let mut loaded: Vec<Loaded> = schema.tables.iter().map(|table| Loaded { table: table.name.clone(), rows: 0, digest: 0 }).collect();
        for made in made {
            let Made { table, prepared, rows, digest } = made?;
            let batch = take(table, prepared)?;
            let done = &mut loaded[table.0];
            done.rows += rows;
            done.digest = done.digest.wrapping_add(digest);
            progress(LoadEvent::Rows(&done.table, done.rows, blueprint.rows(table)));
            if let Some(batch) = batch {
                let _ = used_in.try_send(batch);
            }
        }
        Ok(loaded)
    })
}

/// A batch ready to be loaded.
struct Made<P> {
    table: TableId,
    prepared: P,
    rows: u64,
    digest: u64,
}
