//! What is kept beside a project, under `.kampf/`: loaded data by fingerprint, and results.

mod folder;
mod record;
mod variants;

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use kampf_contest::{EngineErrorKind, generated_key};
use kampf_engine::{Ground, LoadEvent, Loaded, Scratch, ScratchOrder, Served, Swept, TableSize, fault};
use kampf_runner::WriteJob;
use kampf_schema::{TableId, Value};
use sha2::{Digest, Sha256};

use crate::problem::{Problem, WRONG};
use crate::project::{Project, Variant};
use folder::{Lock, own_folder, root};
use record::{Begun, Identity, LOCKS, Slot};

pub(crate) use folder::{sweep_parts, write_whole};
pub(crate) use record::{DatasetRecord, TableRecord, now};
pub(crate) use variants::VariantData;

/// A dataset that is loaded, whole and reachable.
pub(crate) struct Dataset {
    /// Keeps it reachable.
    pub(crate) served: Box<dyn Served>,
    pub(crate) record: DatasetRecord,
    /// Whether it was there already.
    pub(crate) reused: bool,
    /// The variants that were asked for, in that order.
    pub(crate) variants: Vec<VariantData>,
    /// Those of them that are twins.
    pub(crate) twins: Vec<Variant>,
    slot: Slot,
    /// Keeps it from being removed by another Kampf.
    _lock: Lock,
}

impl Dataset {
    /// Makes sure that nobody has changed the data since it was loaded; where somebody has, it is made anew next time.
    pub(crate) fn verify(&self) -> Result<(), Problem> {
        let variants = self.variants.iter().map(|variant| (&variant.served, &variant.record.stamp));
        let mut all = std::iter::once((&self.served, &self.record.stamp)).chain(variants);
        match all.find_map(|(served, known)| served.stamp().ok().filter(|stamp| stamp != known)) {
            Some(_) => {
                self.slot.break_off();
                Err(Problem::surroundings("the data was changed while it was in use, so nothing that was found counts")
                    .hint("a program of kampf.toml has written to it, or somebody else; the next command makes it anew"))
            }
            // A server that went away meanwhile has changed nothing.
            None => Ok(()),
        }
    }
}

impl Dataset {
    /// A copy of the dataset that a job may write to.
    pub(crate) fn scratch(&self, project: &Project, job: &WriteJob) -> Result<Box<dyn Scratch>, Problem> {
        variants::has_room(self.served.as_ref(), &self.record, 1)?;
        let store = Store::open(project)?;
        let place = self.record.place(&self.slot, project.server(), &store.owner);
        let word = nonce()?;
        let next = |&table: &TableId| {
            let column = generated_key(&project.schema, table)?;
            let rows = (0..project.blueprint.rows(table)).map(|row| project.blueprint.value(table, row, column));
            let largest = project.blueprint.ceiling(table, column).or_else(|| rows.max_by(|one, other| one.as_ref().order(other.as_ref())));
            let next = match largest {
                Some(Value::Integer(largest)) => largest.saturating_add(1).max(1),
                _ => 1,
            };
            Some((table, column, next))
        };
        let made: Vec<(TableId, usize, i64)> = job.touched.iter().filter_map(next).collect();
        let order = ScratchOrder {
            schema: &project.schema,
            blueprint: &project.blueprint,
            settings: &project.settings,
            touched: &job.touched,
            made: &made,
            durable: project.config.durable,
            word: &word,
        };
        project.engine.scratch(&place, self.served.as_ref(), &order).map_err(|error| engine_problem(&error))
    }
}

/// The project's dataset with some of its variants: the one that is there when it fits, else a new one. `progress` hears of a load.
pub(crate) fn dataset(project: &Project, wanted: &[&Variant], progress: &mut dyn FnMut(LoadEvent<'_>)) -> Result<Dataset, Problem> {
    let store = Store::open(project)?;
    let version = project.engine.version(project.server()).map_err(|error| engine_problem(&error))?;
    let fingerprint = fingerprint(&project.essence(&version));
    let slot = Slot::of(&store.data, &fingerprint[..16]);
    store.sweep(&slot);
    let mut may_tidy_up = true;
    loop {
        let lock = slot.wait(false, &mut || progress(LoadEvent::Waiting))?;
        let mut alone = None;
        if let Some((served, record)) = store.found(&slot, &fingerprint, wanted, progress)?
            && let Some(variants) = store.found_variants(served.as_ref(), &record, wanted)?
        {
            if !may_tidy_up || store.unnamed(served.as_ref(), &record)?.is_empty() {
                slot.touch();
                store.note_use(&slot, &record, wanted)?;
                return Ok(Dataset { served, record, reused: true, variants, twins: Vec::new(), slot, _lock: lock });
            }
            // What is half made is removed by whoever is alone, and waits for that.
            may_tidy_up = false;
            drop((served, variants, lock));
            alone = slot.take()?;
            if alone.is_none() {
                continue;
            }
        } else {
            drop(lock);
        }
        // Two commands at once: the second waits for the first's load and then finds it whole.
        let lock = match alone {
            Some(lock) => lock,
            None => slot.wait(true, &mut || progress(LoadEvent::Waiting))?,
        };
        let (reused, found) = match store.found(&slot, &fingerprint, wanted, progress)? {
            Some(found) => (true, found),
            None => (false, store.make(&slot, &fingerprint, &version, progress)?),
        };
        let (served, record) = store.with_variants(&slot, found, wanted, progress)?;
        let Some(variants) = store.found_variants(served.as_ref(), &record, wanted)? else {
            return Err(Problem::surroundings("the data was changed while it was loaded").hint("run the command again"));
        };
        lock.share()?;
        // In the moment in which the lock was nobody's, another may have removed it.
        if slot.record().is_some_and(|record| record.fingerprint == fingerprint) {
            store.forget_old(&slot);
            return Ok(Dataset { served, record, reused, variants, twins: Vec::new(), slot, _lock: lock });
        }
    }
}

/// A dataset that can be reached, and what its folder says of it.
type Reached = (Box<dyn Served>, DatasetRecord);

/// What a project keeps.
struct Store<'p> {
    project: &'p Project,
    /// `.kampf/data/`; its path is whole, so that a contender finds it from wherever it runs.
    data: PathBuf,
    /// A word for the project's folder on this machine.
    owner: String,
}

impl<'p> Store<'p> {
    fn open(project: &'p Project) -> Result<Store<'p>, Problem> {
        let data = root(&project.home)?.join("data");
        own_folder(&data)?;
        own_folder(&data.with_file_name(LOCKS))?;
        let data = std::path::absolute(&data).unwrap_or(data);
        Ok(Store { project, owner: owner(&data), data })
    }

    /// The dataset of a slot, if it is whole, of this fingerprint, and as it was loaded.
    fn found(
        &self,
        slot: &Slot,
        fingerprint: &str,
        wanted: &[&Variant],
        progress: &mut dyn FnMut(LoadEvent<'_>),
    ) -> Result<Option<Reached>, Problem> {
        let Some(record) = slot.record().filter(|record| record.fingerprint == fingerprint) else { return Ok(None) };
        let project = self.project;
        let place = record.place(slot, project.server(), &self.owner);
        let settings = self.settings(&record, wanted);
        let served = loop {
            match project.engine.serve(&place, &settings) {
                Err(error) if error.kind == EngineErrorKind::Busy => progress(LoadEvent::Waiting),
                served => break served,
            }
            std::thread::sleep(Duration::from_millis(300));
        };
        let served = match served {
            Ok(served) => served,
            Err(error) if error.kind == EngineErrorKind::Gone => return Ok(None),
            // A wrong setting, or a server that does not answer, is no reason to make the data anew.
            Err(error) => {
                let problem = engine_problem(&error);
                let hint =
                    problem.hint.clone().unwrap_or_else(|| "the data was left as it is; `kampf fill --remove` removes it".to_owned());
                return Err(problem.hint(hint));
            }
        };
        if served.stamp().map_err(|error| engine_problem(&error))? != record.stamp {
            progress(LoadEvent::Changed);
            return Ok(None);
        }
        Ok(Some((served, record)))
    }

    /// Loads a dataset into a slot that nobody else uses, in place of what is there.
    fn make(&self, slot: &Slot, fingerprint: &str, version: &str, progress: &mut dyn FnMut(LoadEvent<'_>)) -> Result<Reached, Problem> {
        let project = self.project;
        progress(LoadEvent::Begins);
        self.clear(slot)?;
        let server = project.server();
        // On a server several folders of one project have each its own.
        let name = match server {
            Some(_) => format!("{}_{}", slot.word, nonce()?),
            None => slot.word.clone(),
        };
        let begun = Begun { engine: project.engine.name().to_owned(), name, server: server.map(|url| project.engine.shown(url)) };
        slot.begin(&begun)?;
        fault::point("begun").map_err(|error| Problem::file("cannot fill", &slot.folder, &error))?;
        let place = Ground { folder: &slot.folder, server, name: &begun.name, owner: &self.owner, variant: None };
        let started = Instant::now();
        let mut load_seconds = 0.0;
        let mut heard = |event: LoadEvent<'_>| {
            if let LoadEvent::Loaded(took) = event {
                load_seconds = took.as_secs_f64();
            }
            progress(event);
        };
        let mut load = || {
            let loaded = project.engine.load(&place, &project.schema, &project.blueprint, &project.settings, &mut heard)?;
            let served = project.engine.serve(&place, &project.settings)?;
            let sizes = project.engine.connect(served.url(), &project.settings)?.sizes()?;
            let stamp = served.stamp()?;
            Ok((loaded, served, sizes, stamp))
        };
        let (loaded, served, sizes, stamp) = load().map_err(|error: kampf_contest::EngineError| {
            let _ = self.clear(slot);
            engine_problem(&error)
        })?;
        fault::point("loaded").map_err(|error| Problem::file("cannot fill", &slot.folder, &error))?;
        let (seconds, tables) = (started.elapsed().as_secs_f64(), tables(&loaded, &sizes));
        let record = slot.finish(&begun, Identity { fingerprint, engine_version: version, stamp, seconds, load_seconds, tables })?;
        Ok((served, record))
    }

    /// Removes what is in a slot whose lock is held, and keeps the lock.
    fn clear(&self, slot: &Slot) -> Result<(), Problem> {
        if !slot.folder.exists() || slot.clear(self.project, &self.owner)? {
            return Ok(());
        }
        Err(Problem::surroundings(format!("another kampf is using {}", slot.folder.display())).hint("wait until it has ended"))
    }

    /// Removes what was left half made by a Kampf that was killed, other than what is going to be made.
    fn sweep(&self, current: &Slot) {
        for slot in Slot::all(&self.data) {
            if slot.word == current.word || slot.record().is_some() {
                continue;
            }
            if let Ok(Some(lock)) = slot.take()
                && slot.record().is_none()
            {
                let _ = slot.remove(self.project, lock, &self.owner);
            }
        }
    }

    /// Keeps the current dataset, and the last ones before it for which there is room.
    fn forget_old(&self, current: &Slot) {
        let others = Slot::all(&self.data).into_iter().filter(|slot| slot.word != current.word);
        let mut old: Vec<(Slot, DatasetRecord)> = others.filter_map(|slot| slot.record().map(|record| (slot, record))).collect();
        old.sort_by_key(|(slot, _)| std::cmp::Reverse(slot.used()));
        let keep = self.project.config.keep;
        let mut bytes = 0_u64;
        let mut is_surplus = |(at, (_, record)): &(usize, (Slot, DatasetRecord))| {
            bytes = bytes.saturating_add(record.bytes());
            *at >= keep.datasets as usize || keep.disk.is_some_and(|most| bytes > most)
        };
        for (_, (slot, _)) in old.into_iter().enumerate().filter(|one| is_surplus(one)) {
            // What lies on a server of the user's stays until it is removed by `kampf fill --remove`, which knows the URL.
            if slot.begun().is_some_and(|begun| begun.server.is_none())
                && let Ok(Some(lock)) = slot.take()
            {
                let _ = slot.remove(self.project, lock, &self.owner);
            }
        }
    }
}

/// Tables as they were loaded, with the room that they take.
fn tables(loaded: &[Loaded], sizes: &[TableSize]) -> Vec<TableRecord> {
    let of = |table: &str| sizes.iter().find(|size| size.table == table);
    let record = |loaded: &Loaded| TableRecord {
        name: loaded.table.clone(),
        rows: loaded.rows,
        bytes: of(&loaded.table).map_or(0, |size| size.bytes),
        index_bytes: of(&loaded.table).map_or(0, |size| size.index_bytes),
        digest: format!("{:016x}", loaded.digest),
    };
    loaded.iter().map(record).collect()
}

pub(crate) fn engine_problem(error: &kampf_contest::EngineError) -> Problem {
    use kampf_contest::EngineErrorKind as Kind;
    let problem = Problem::surroundings(error.to_string()).because(error.clone());
    match error.kind {
        Kind::Full => problem.hint("make room on the disk and run the command again; nothing else was touched"),
        Kind::Constraint => Problem { exit: WRONG, ..problem }.hint("change the recipe of that column under [values]"),
        Kind::Statement | Kind::Value => Problem { exit: WRONG, ..problem },
        Kind::Unreachable | Kind::Gone | Kind::Busy | Kind::Memory | Kind::Refused | Kind::Password => problem,
    }
}

fn fingerprint(essence: &str) -> String {
    Sha256::digest(essence.as_bytes()).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A word for the project's folder on this machine, the same after all that Kampf keeps in it is gone.
fn owner(data: &Path) -> String {
    let machine = std::fs::read_to_string("/etc/machine-id").unwrap_or_default();
    let host = rustix::system::uname();
    let folder = std::fs::canonicalize(data).unwrap_or_else(|_| data.to_owned());
    let host = host.nodename().to_string_lossy();
    fingerprint(&format!("{}\n{host}\n{}", machine.trim(), folder.display()))[..16].to_owned()
}

/// Eight letters and digits that another folder's dataset will not have.
fn nonce() -> Result<String, Problem> {
    let random =
        getrandom::u32().map_err(|error| Problem::surroundings(format!("the system gives no random number: {error}")).because(error))?;
    Ok(format!("{random:08x}"))
}

/// Removes all datasets of a project: those beside it, and what its server holds for it.
pub(crate) fn remove_all(project: &Project) -> Result<Swept, Problem> {
    let store = Store::open(project)?;
    let mut swept = Swept::default();
    for slot in Slot::all(&store.data) {
        let elsewhere = slot.begun().and_then(|begun| begun.server);
        if let Some(server) = elsewhere.filter(|server| project.server().is_none_or(|url| project.engine.shown(url) != *server)) {
            return Err(Problem::wrong(format!("{} is on {server}, which the project does not name", slot.word))
                .hint("name it: `kampf fill --remove --engine URL`"));
        }
        let was_there = slot.folder.exists();
        let removed = match slot.take()? {
            Some(lock) => slot.remove(project, lock, &store.owner)?,
            None => false,
        };
        match (removed, was_there) {
            (true, true) => swept.removed += 1,
            (true, false) => {}
            (false, _) => swept.in_use += 1,
        }
    }
    let there = project.engine.sweep(project.server(), &store.owner).map_err(|error| engine_problem(&error))?;
    swept.removed += there.removed;
    swept.in_use = swept.in_use.max(there.in_use);
    swept.of_others = there.of_others;
    Ok(swept)
}

/// Saves a result document and gives its path.
pub(crate) fn save_result(home: &Path, text: &str) -> Result<PathBuf, Problem> {
    let folder = root(home)?.join("results");
    own_folder(&folder)?;
    sweep_parts(&folder);
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    let micros = i64::try_from(now.as_micros()).unwrap_or(0);
    let stamp = kampf_schema::format_timestamp(micros)[..23].replace([':', ' ', '.'], "-");
    let path = folder.join(format!("{stamp}.json"));
    write_whole(&path, text)?;
    Ok(path)
}
