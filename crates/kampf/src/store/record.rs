//! What a dataset's folder says about it.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::LazyLock;
use std::time::{SystemTime, UNIX_EPOCH};

use kampf_engine::{Engine, Ground, fault};
use serde::{Deserialize, Serialize};

use super::folder::{Lock, is_part_of, own_folder, write_whole};
use crate::problem::Problem;
use crate::project::Project;

/// Says that a dataset is whole, and what is in it. It is written last, so a folder without it is not whole.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct DatasetRecord {
    format: String,
    version: u32,
    pub(crate) fingerprint: String,
    pub(crate) engine: String,
    pub(crate) engine_version: String,
    /// What it is called where several are together.
    name: String,
    /// The server it is on, without a password, where that is not Kampf's own.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    server: Option<String>,
    /// What the engine said of the data when it was loaded; it says something else once anybody has changed it.
    pub(super) stamp: String,
    /// How long it took to make, and of that the load itself, without starting a server.
    pub(crate) seconds: f64,
    pub(crate) load_seconds: f64,
    /// When that load was timed, in seconds since 1970: of loads that were timed together the same.
    #[serde(default)]
    pub(crate) timed: u64,
    pub(crate) tables: Vec<TableRecord>,
    /// The same rows under other indexes or with other keys, which lie beside it.
    #[serde(default)]
    pub(crate) variants: Vec<VariantRecord>,
}

/// What is known of a variant that was loaded.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct VariantRecord {
    /// What it is found by among those of its dataset; other indexes have another word.
    pub(crate) word: String,
    /// What it was called when it was loaded, and what it is.
    pub(crate) name: String,
    pub(crate) about: String,
    pub(super) stamp: String,
    /// How long the load took, without starting a server.
    pub(crate) seconds: f64,
    /// When that was, as of the dataset.
    #[serde(default)]
    pub(crate) timed: u64,
    pub(crate) tables: Vec<TableRecord>,
    /// The indexes that it has besides those of the schema.
    pub(crate) indexes: Vec<IndexRecord>,
    /// When it was last used, in seconds since 1970.
    pub(super) used: u64,
}

/// An index of a variant.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct IndexRecord {
    pub(crate) name: String,
    pub(crate) bytes: u64,
    /// How long it took to make.
    pub(crate) seconds: f64,
}

impl VariantRecord {
    /// All that it takes on disk.
    pub(crate) fn bytes(&self) -> u64 {
        self.tables.iter().map(|table| table.bytes).sum()
    }

    /// What all of its indexes take, those of the schema too.
    pub(crate) fn all_index_bytes(&self) -> u64 {
        self.tables.iter().map(|table| table.index_bytes).sum()
    }

    /// How long its indexes took to make.
    pub(crate) fn index_seconds(&self) -> f64 {
        self.indexes.iter().fold(0.0, |sum, index| sum + index.seconds)
    }

    /// What its indexes take.
    pub(crate) fn index_bytes(&self) -> u64 {
        self.indexes.iter().map(|index| index.bytes).sum()
    }
}

#[derive(Clone, Debug, Serialize, Deserialize)]
pub(crate) struct TableRecord {
    pub(crate) name: String,
    pub(crate) rows: u64,
    pub(crate) bytes: u64,
    /// Of these what its indexes take.
    pub(crate) index_bytes: u64,
    pub(crate) digest: String,
}

/// Says, before anything is loaded, where it will be, so that what a kill leaves behind can be removed.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub(super) struct Begun {
    pub(super) engine: String,
    pub(super) name: String,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub(super) server: Option<String>,
}

const FORMAT: &str = "kampf-dataset";
const VERSION: u32 = 3;
const RECORD: &str = "dataset.json";
const BEGUN: &str = "dataset.begun";
/// What Kampf puts into a dataset's folder besides the engines' files, and halves of these.
const FILES: [&str; 2] = [RECORD, BEGUN];

/// What a dataset is, besides what is measured while it is loaded.
pub(super) struct Identity<'a> {
    pub(super) fingerprint: &'a str,
    pub(super) engine_version: &'a str,
    pub(super) stamp: String,
    pub(super) seconds: f64,
    pub(super) load_seconds: f64,
    pub(super) tables: Vec<TableRecord>,
}

/// When this command first asked for it, in seconds since 1970.
pub(crate) fn now() -> u64 {
    static FIRST: LazyLock<u64> = LazyLock::new(|| SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs()));
    *FIRST
}

/// The folder of locks, beside that of datasets.
pub(super) const LOCKS: &str = "locks";

/// The place of a dataset beside its project: a folder, and a lock in another one.
#[derive(Clone, Debug)]
pub(super) struct Slot {
    pub(super) folder: PathBuf,
    lock: PathBuf,
    pub(super) word: String,
}

impl Slot {
    pub(super) fn of(data: &Path, word: &str) -> Slot {
        Slot { folder: data.join(word), lock: data.with_file_name(LOCKS).join(word), word: word.to_owned() }
    }

    /// Every slot: real folders and locks whose whole names are what Kampf calls them. A lock may be all that a kill has left.
    pub(super) fn all(data: &Path) -> Vec<Slot> {
        let entries = |folder: &Path| fs::read_dir(folder).into_iter().flatten().flatten();
        let folders = entries(data).filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_dir()));
        let locks = entries(&data.with_file_name(LOCKS)).filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_file()));
        let words = folders.chain(locks).filter_map(|entry| entry.file_name().into_string().ok()).filter(|name| is_word(name, 16));
        let words: BTreeSet<String> = words.collect();
        words.into_iter().map(|word| Slot::of(data, &word)).collect()
    }

    pub(super) fn wait(&self, alone: bool, waiting: &mut dyn FnMut()) -> Result<Lock, Problem> {
        Lock::wait(&self.lock, alone, waiting)
    }

    /// The lock on the slot, alone, if nobody uses it.
    pub(super) fn take(&self) -> Result<Option<Lock>, Problem> {
        Lock::at_once(&self.lock, true)
    }

    fn read<T: for<'d> Deserialize<'d>>(&self, file: &str) -> Option<T> {
        serde_json::from_str(&fs::read_to_string(self.folder.join(file)).ok()?).ok()
    }

    /// The record, if the dataset is whole.
    pub(super) fn record(&self) -> Option<DatasetRecord> {
        self.read(RECORD).filter(|record: &DatasetRecord| record.format == FORMAT && record.version == VERSION)
    }

    /// Where a dataset is, whole or not.
    pub(super) fn begun(&self) -> Option<Begun> {
        self.read(BEGUN)
    }

    /// Notes where a dataset is going to be. The folder is made for it.
    pub(super) fn begin(&self, begun: &Begun) -> Result<(), Problem> {
        own_folder(&self.folder)?;
        write_whole(&self.folder.join(BEGUN), &json(begun))
    }

    /// Declares the dataset whole.
    pub(super) fn finish(&self, begun: &Begun, identity: Identity<'_>) -> Result<DatasetRecord, Problem> {
        let Identity { fingerprint, engine_version, stamp, seconds, load_seconds, tables } = identity;
        let record = DatasetRecord {
            format: FORMAT.to_owned(),
            version: VERSION,
            fingerprint: fingerprint.to_owned(),
            engine: begun.engine.clone(),
            engine_version: engine_version.to_owned(),
            name: begun.name.clone(),
            server: begun.server.clone(),
            stamp,
            seconds,
            load_seconds,
            timed: now(),
            tables,
            variants: Vec::new(),
        };
        self.note(&record)?;
        Ok(record)
    }

    /// Writes what is known of a dataset in place of what was known.
    pub(super) fn note(&self, record: &DatasetRecord) -> Result<(), Problem> {
        write_whole(&self.folder.join(RECORD), &json(record))
    }

    /// Declares the dataset not whole: the next command makes it anew.
    pub(super) fn break_off(&self) {
        let _ = fs::remove_file(self.folder.join(RECORD));
    }

    /// Notes that the dataset was used just now.
    pub(super) fn touch(&self) {
        let _ = fs::File::open(self.folder.join(RECORD)).and_then(|file| file.set_modified(std::time::SystemTime::now()));
    }

    /// When it was last used.
    pub(super) fn used(&self) -> std::time::SystemTime {
        let modified = fs::metadata(self.folder.join(RECORD)).and_then(|metadata| metadata.modified());
        modified.unwrap_or(std::time::UNIX_EPOCH)
    }

    /// Removes a dataset with all that belongs to it, its lock too; see [`Slot::clear`].
    pub(super) fn remove(&self, project: &Project, lock: Lock, owner: &str) -> Result<bool, Problem> {
        let cleared = self.clear(project, owner)?;
        if cleared {
            lock.remove();
        }
        Ok(cleared)
    }

    /// Removes a dataset whose lock is held. One on a server of somebody else's is only removed for a project that names that server;
    /// false where it is not, or where another Kampf uses it.
    pub(super) fn clear(&self, project: &Project, owner: &str) -> Result<bool, Problem> {
        let begun = self.begun();
        // Without a word on it there is a file at most.
        let engine = begun.as_ref().map_or(kampf_engine::usual().name(), |begun| begun.engine.as_str());
        let engine: &dyn Engine = kampf_engine::engine(engine).unwrap_or(project.engine);
        let server = match begun.as_ref().and_then(|begun| begun.server.as_deref()) {
            None => None,
            Some(there) => match project.server().filter(|url| engine.shown(url) == there) {
                Some(url) => Some(url),
                None => return Ok(false),
            },
        };
        let name = begun.as_ref().map_or(self.word.as_str(), |begun| begun.name.as_str());
        if self.folder.exists() {
            let place = Ground { folder: &self.folder, server, name, owner, variant: None };
            // In a folder or a server of their own all go together; on somebody else's each by itself.
            let variants = self.record().filter(|_| server.is_some()).map(|record| record.variants).unwrap_or_default();
            for variant in &variants {
                let of_variant = Ground { variant: Some(&variant.word), ..place };
                if !engine.remove(&of_variant).map_err(|error| super::engine_problem(&error))? {
                    return Ok(false);
                }
            }
            // Not whole from here on, wherever the removal may be broken off.
            let record = fs::read_to_string(self.folder.join(RECORD)).ok();
            self.break_off();
            fault::point("removal-begins").map_err(|error| Problem::file("cannot remove", &self.folder, &error))?;
            let removed = engine.remove(&place).map_err(|error| super::engine_problem(&error));
            if !matches!(removed, Ok(true)) {
                // Nothing was touched where another uses it, and a server drops a schema whole or not at all. What else was broken
                // off may be half gone.
                if matches!(removed, Ok(false)) || server.is_some() {
                    record.map_or(Ok(()), |record| write_whole(&self.folder.join(RECORD), &record))?;
                }
                return removed;
            }
            fault::point("engine-removed").map_err(|error| Problem::file("cannot remove", &self.folder, &error))?;
            self.remove_own()?;
        }
        Ok(true)
    }

    /// Removes the folder, and nothing that is not Kampf's: only files of its making may lie in it.
    fn remove_own(&self) -> Result<(), Problem> {
        let folder = &self.folder;
        let entries = fs::read_dir(folder).map_err(|error| Problem::file("cannot read", folder, &error))?;
        for entry in entries.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if !FILES.contains(&name.as_str()) && !kampf_engine::is_file_of_dataset(&name, is_variant_word) && !is_part_of(&name, &FILES) {
                return Err(Problem::surroundings(format!("{} holds {name}, which Kampf did not make", folder.display()))
                    .hint("move it away; Kampf removes only what it made"));
            }
        }
        fs::remove_dir_all(folder).map_err(|error| Problem::file("cannot remove", folder, &error))
    }
}

impl DatasetRecord {
    /// All that it takes on disk, its variants included.
    pub(crate) fn bytes(&self) -> u64 {
        self.own_bytes() + self.variants.iter().map(VariantRecord::bytes).sum::<u64>()
    }

    /// What it takes without its variants.
    pub(crate) fn own_bytes(&self) -> u64 {
        self.tables.iter().map(|table| table.bytes).sum()
    }

    /// Of that what its indexes take.
    pub(crate) fn own_index_bytes(&self) -> u64 {
        self.tables.iter().map(|table| table.index_bytes).sum()
    }

    /// The dataset's place for its engine.
    pub(super) fn place<'a>(&'a self, slot: &'a Slot, server: Option<&'a str>, owner: &'a str) -> Ground<'a> {
        Ground { folder: &slot.folder, server, name: &self.name, owner, variant: None }
    }
}

/// Whether a text is the word of a variant, as Kampf makes them.
pub(super) fn is_variant_word(text: &str) -> bool {
    is_word(text, 8)
}

/// Whether a text is a word of so many digits and letters as Kampf makes them.
fn is_word(text: &str, length: usize) -> bool {
    text.len() == length && text.bytes().all(|byte| byte.is_ascii_digit() || (b'a'..=b'f').contains(&byte))
}

fn json(value: &impl Serialize) -> String {
    serde_json::to_string_pretty(value).unwrap_or_default()
}
