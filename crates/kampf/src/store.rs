//! What is kept beside a project, under `.kampf/`: loaded data by fingerprint, and results.

use std::fs::{self, File};
use std::path::{Path, PathBuf};

use kampf_contest::EngineErrorKind;
use kampf_engine::{Engine, LoadEvent, Place, Served, TableSize};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use crate::problem::{Problem, SURROUNDINGS};
use crate::project::Project;

/// A dataset that is loaded, whole and reachable.
pub(crate) struct Dataset {
    /// Keeps it reachable.
    pub(crate) served: Box<dyn Served>,
    pub(crate) record: DatasetRecord,
    /// Whether it was there already.
    pub(crate) reused: bool,
}

/// What a dataset's folder says about it. It is written last, so a folder without it is not whole.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct DatasetRecord {
    pub(crate) format: String,
    pub(crate) version: u32,
    pub(crate) fingerprint: String,
    pub(crate) engine: String,
    pub(crate) engine_version: String,
    /// The server it is on, without a password, where that is not Kampf's own.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(crate) server: Option<String>,
    pub(crate) seconds: f64,
    pub(crate) tables: Vec<TableRecord>,
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct TableRecord {
    pub(crate) name: String,
    pub(crate) rows: u64,
    pub(crate) bytes: u64,
    pub(crate) digest: String,
}

const FORMAT: &str = "kampf-dataset";
const RECORD: &str = "dataset.json";
/// Datasets kept besides the current one, the most recently used.
const KEPT: usize = 2;

/// The project's dataset: the one that is there when it fits, else a new one. `progress` hears of a load.
pub(crate) fn dataset(project: &Project, progress: &mut dyn FnMut(LoadEvent<'_>)) -> Result<Dataset, Problem> {
    let root = root(&project.folder)?;
    let version = project.engine.version(project.server()).map_err(|error| engine_problem(&error))?;
    let fingerprint = fingerprint(&project.essence(&version));
    let name = &fingerprint[..16];
    let folder = std::path::absolute(root.join("data").join(name)).unwrap_or_else(|_| root.join("data").join(name));
    let place = Place { folder: &folder, server: project.server(), name };
    let lock_path = root.join("lock");
    let lock = File::create(&lock_path).map_err(|error| Problem::file("cannot write", &lock_path, &error))?;
    // Two commands at once: the second waits for the first's load and then finds it whole.
    lock.lock().map_err(|error| Problem::file("cannot lock", &lock_path, &error))?;
    if let Some(record) = whole(&folder, &fingerprint) {
        let served = loop {
            match project.engine.serve(&place, &project.settings) {
                Err(error) if error.kind == EngineErrorKind::Busy => progress(LoadEvent::Waiting),
                served => break served,
            }
            std::thread::sleep(std::time::Duration::from_millis(300));
        };
        match served {
            Ok(served) => {
                let _ = File::open(folder.join(RECORD)).and_then(|file| file.set_modified(std::time::SystemTime::now()));
                return Ok(Dataset { served, record, reused: true });
            }
            // A wrong setting is no reason to make the data anew.
            Err(error) if error.kind == EngineErrorKind::Value => return Err(engine_problem(&error)),
            Err(_) => {}
        }
    }
    if folder.exists() {
        remove(project.engine, &place)?;
    }
    fs::create_dir_all(&folder).map_err(|error| Problem::file("cannot make", &folder, &error))?;
    let begun = std::time::Instant::now();
    let loaded = project.engine.load(&place, &project.schema, &project.blueprint, &project.settings, progress).map_err(|error| {
        let _ = remove(project.engine, &place);
        engine_problem(&error)
    })?;
    let served = project.engine.serve(&place, &project.settings).map_err(|error| engine_problem(&error))?;
    let sizes = project
        .engine
        .connect(served.url(), &project.settings)
        .and_then(|connection| connection.sizes())
        .map_err(|error| engine_problem(&error))?;
    let bytes = |table: &str| sizes.iter().find(|size: &&TableSize| size.table == table).map_or(0, |size| size.bytes);
    let record = DatasetRecord {
        format: FORMAT.to_owned(),
        version: 1,
        fingerprint: fingerprint.clone(),
        engine: project.engine.name().to_owned(),
        engine_version: version,
        server: project.server().map(|_| served.place()),
        seconds: begun.elapsed().as_secs_f64(),
        tables: loaded
            .iter()
            .map(|loaded| TableRecord {
                name: loaded.table.clone(),
                rows: loaded.rows,
                bytes: bytes(&loaded.table),
                digest: format!("{:016x}", loaded.digest),
            })
            .collect(),
    };
    write_whole(&folder.join(RECORD), &serde_json::to_string_pretty(&record).unwrap_or_default())?;
    forget_old(&root.join("data"), &folder);
    Ok(Dataset { served, record, reused: false })
}

pub(crate) fn engine_problem(error: &kampf_contest::EngineError) -> Problem {
    use kampf_contest::EngineErrorKind as Kind;
    let problem = Problem::surroundings(error.to_string());
    match error.kind {
        Kind::Full => problem.hint("make room on the disk and run the command again; nothing else was touched"),
        Kind::Constraint => Problem { exit: crate::problem::WRONG, ..problem }.hint("change the recipe of that column under [values]"),
        Kind::Statement | Kind::Value => Problem { exit: crate::problem::WRONG, ..problem },
        Kind::Unreachable | Kind::Busy => problem,
    }
}

/// `.kampf/` beside the project, made when missing, with a note that keeps it out of version control.
fn root(folder: &Path) -> Result<PathBuf, Problem> {
    let root = folder.join(".kampf");
    let ignore = root.join(".gitignore");
    if !ignore.exists() {
        fs::create_dir_all(&root).map_err(|error| Problem::file("cannot make", &root, &error))?;
        fs::write(&ignore, "*\n").map_err(|error| Problem::file("cannot write", &ignore, &error))?;
    }
    Ok(root)
}

fn fingerprint(essence: &str) -> String {
    Sha256::digest(essence.as_bytes()).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The record of a folder that is whole and has this fingerprint.
fn whole(folder: &Path, fingerprint: &str) -> Option<DatasetRecord> {
    let text = fs::read_to_string(folder.join(RECORD)).ok()?;
    let record: DatasetRecord = serde_json::from_str(&text).ok()?;
    (record.format == FORMAT && record.version == 1 && record.fingerprint == fingerprint).then_some(record)
}

/// Removes a dataset with all that belongs to it; one that another Kampf uses is left alone.
fn remove(engine: &dyn Engine, place: &Place<'_>) -> Result<(), Problem> {
    if engine.remove(place).map_err(|error| engine_problem(&error))? {
        return remove_own(place.folder);
    }
    Err(Problem::surroundings(format!("another kampf is using {}", place.folder.display())).hint("wait until it has ended"))
}

/// Removes a dataset's folder, and nothing that is not one: only files of Kampf's making may lie in it.
fn remove_own(folder: &Path) -> Result<(), Problem> {
    let entries = fs::read_dir(folder).map_err(|error| Problem::file("cannot read", folder, &error))?;
    for entry in entries.flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if name != RECORD && !name.starts_with("dataset.") {
            return Err(Problem::surroundings(format!("{} holds {name}, which Kampf did not make", folder.display()))
                .hint("move it away; Kampf removes only what it made"));
        }
    }
    fs::remove_dir_all(folder).map_err(|error| Problem::file("cannot remove", folder, &error))
}

/// Keeps the current dataset and the last few before it.
fn forget_old(data: &Path, current: &Path) {
    let Ok(entries) = fs::read_dir(data) else { return };
    let mut old: Vec<(std::time::SystemTime, PathBuf)> = entries
        .flatten()
        .map(|entry| entry.path())
        .filter(|path| path != current)
        .map(|path| {
            let used = fs::metadata(path.join(RECORD)).and_then(|metadata| metadata.modified());
            (used.unwrap_or(std::time::UNIX_EPOCH), path)
        })
        .collect();
    old.sort();
    let surplus = old.len().saturating_sub(KEPT);
    for (_, path) in old.into_iter().take(surplus) {
        // What lies on a server of the user's stays until it is removed by `kampf fill --remove`, which knows the URL.
        let engine = fs::read_to_string(path.join(RECORD)).ok().and_then(|text| serde_json::from_str::<DatasetRecord>(&text).ok());
        let engine = engine.filter(|record| record.server.is_none()).and_then(|record| kampf_engine::engine(&record.engine));
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        if let Some(engine) = engine {
            let _ = remove(engine, &Place { folder: &path, server: None, name: &name });
        }
    }
}

/// Writes a file so that it is there whole or not at all.
pub(crate) fn write_whole(path: &Path, text: &str) -> Result<(), Problem> {
    let folder = path.parent().unwrap_or(Path::new("."));
    let failed = |error: &std::io::Error| Problem { exit: SURROUNDINGS, ..Problem::file("cannot write", path, error) };
    let mut file = tempfile::NamedTempFile::new_in(folder).map_err(|error| failed(&error))?;
    std::io::Write::write_all(&mut file, text.as_bytes()).map_err(|error| failed(&error))?;
    file.as_file().sync_all().map_err(|error| failed(&error))?;
    file.persist(path).map_err(|error| failed(&error.error))?;
    Ok(())
}

/// Removes all datasets of a project: those beside it, and what the project's engine holds for it elsewhere.
pub(crate) fn remove_all(project: &Project) -> Result<usize, Problem> {
    let data = project.folder.join(".kampf").join("data");
    let mut removed = 0;
    for entry in fs::read_dir(&data).into_iter().flatten().flatten() {
        let folder = std::path::absolute(entry.path()).unwrap_or_else(|_| entry.path());
        let record = fs::read_to_string(folder.join(RECORD)).ok().and_then(|text| serde_json::from_str::<DatasetRecord>(&text).ok());
        let name = entry.file_name().to_string_lossy().into_owned();
        let (engine, server) = match &record {
            // One on a server can only be removed by a project that names that server.
            Some(record) if record.server.is_some() => (Some(project.engine), project.server()),
            Some(record) => (kampf_engine::engine(&record.engine), None),
            None => (Some(project.engine), project.server()),
        };
        let Some(engine) = engine else { continue };
        if record.as_ref().is_some_and(|record| record.server.is_some()) && server.is_none() {
            return Err(Problem::wrong(format!("{name} is on a server that the project does not name"))
                .hint("name it: `kampf fill --remove --engine postgres://…`"));
        }
        remove(engine, &Place { folder: &folder, server, name: &name })?;
        removed += 1;
    }
    Ok(removed)
}

/// Saves a result document and gives its path.
pub(crate) fn save_result(home: &Path, text: &str) -> Result<PathBuf, Problem> {
    let folder = root(home)?.join("results");
    fs::create_dir_all(&folder).map_err(|error| Problem::file("cannot make", &folder, &error))?;
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    let micros = i64::try_from(now.as_micros()).unwrap_or(0);
    let stamp = kampf_schema::format_timestamp(micros)[..23].replace([':', ' ', '.'], "-");
    let path = folder.join(format!("{stamp}.json"));
    write_whole(&path, text)?;
    Ok(path)
}
