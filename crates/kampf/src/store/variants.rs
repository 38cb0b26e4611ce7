//! Variants of a dataset: the same rows under other indexes or with other keys, loaded beside it.

use std::path::Path;

use kampf_contest::{EngineError, EngineErrorKind};
use kampf_engine::{LoadEvent, Served, Setting};
use kampf_fill::Blueprint;
use kampf_schema::Schema;

use super::record::{DatasetRecord, IndexRecord, Slot, VariantRecord, is_variant_word, now};
use super::{Reached, Store, engine_problem, tables};
use crate::output::bytes;
use crate::problem::Problem;
use crate::project::Variant;

/// A variant that is loaded and reachable.
pub(crate) struct VariantData {
    pub(crate) name: String,
    pub(crate) served: Box<dyn Served>,
    pub(crate) record: VariantRecord,
}

impl Store<'_> {
    /// The variants that are wanted, if all are there as they were loaded.
    pub(super) fn found_variants(
        &self,
        served: &dyn Served,
        record: &DatasetRecord,
        wanted: &[&Variant],
    ) -> Result<Option<Vec<VariantData>>, Problem> {
        let mut found = Vec::new();
        for variant in wanted {
            let Some(data) = find(served, record, variant).map_err(|error| engine_problem(&error))? else { return Ok(None) };
            found.push(data);
        }
        Ok(Some(found))
    }

    /// Notes that some variants were used just now: those that were not used for longest make room. Whoever shares the lock writes the same
    /// but for that.
    pub(super) fn note_use(&self, slot: &Slot, record: &DatasetRecord, wanted: &[&Variant]) -> Result<(), Problem> {
        const LONG_AGO: u64 = 60;
        let words: Vec<String> = wanted.iter().map(|variant| variant.word()).collect();
        let is_old = |one: &VariantRecord| words.contains(&one.word) && one.used + LONG_AGO < now();
        if !record.variants.iter().any(is_old) {
            return Ok(());
        }
        let mut noted = record.clone();
        noted.variants.iter_mut().filter(|one| words.contains(&one.word)).for_each(|one| one.used = now());
        slot.note(&noted)
    }

    /// The words of variants that are there and that the record does not name: half made by a Kampf that was killed, or only loaded for their time.
    pub(super) fn unnamed(&self, served: &dyn Served, record: &DatasetRecord) -> Result<Vec<String>, Problem> {
        let there = served.variants().map_err(|error| engine_problem(&error))?;
        // What is called otherwise is somebody else's, and stays.
        let is_unnamed = |word: &String| is_variant_word(word) && !record.variants.iter().any(|one| one.word == *word);
        Ok(there.into_iter().filter(is_unnamed).collect())
    }

    /// Loads the variants that are missing, one after the other, and removes what the record does not name. Nobody else uses the slot.
    pub(super) fn with_variants(
        &self,
        slot: &Slot,
        (served, mut record): Reached,
        wanted: &[&Variant],
        progress: &mut dyn FnMut(LoadEvent<'_>),
    ) -> Result<Reached, Problem> {
        let mut missing = Vec::new();
        for &variant in wanted {
            if find(served.as_ref(), &record, variant).map_err(|error| engine_problem(&error))?.is_none() {
                missing.push(variant);
            }
        }
        let words: Vec<String> = wanted.iter().map(|variant| variant.word()).collect();
        record.variants.iter_mut().filter(|one| words.contains(&one.word)).for_each(|one| one.used = now());
        let unnamed = self.unnamed(served.as_ref(), &record)?;
        if missing.is_empty() && unnamed.is_empty() {
            return Ok((served, record));
        }
        // One more is loaded for its time alone.
        let large = missing.iter().filter(|variant| variant.twin.is_none()).count();
        let more = large + usize::from(missing.iter().any(|variant| variant.is_timed()));
        if more > 0 {
            has_room(served.as_ref(), &record, more)?;
        }
        // Stamps are taken anew below, which is not to make anything whole that somebody has changed.
        let is_sound =
            |one: &VariantRecord| served.beside(&one.word).and_then(|beside| beside.stamp()).is_ok_and(|stamp| stamp == one.stamp);
        let (sound, changed): (Vec<VariantRecord>, Vec<VariantRecord>) =
            std::mem::take(&mut record.variants).into_iter().partition(is_sound);
        record.variants = sound;
        // Its server is wanted by the load.
        drop(served);
        for word in unnamed.iter().chain(changed.iter().map(|variant| &variant.word)) {
            self.remove_variant(slot, &record, word)?;
        }
        let mut failed = None;
        self.make_room(slot, &mut record, &words)?;
        for &variant in &missing {
            if variant.twin.is_none() {
                progress(LoadEvent::Variant(&variant.name));
            }
            match self.load_variant(slot, &record, variant, progress) {
                Ok(loaded) => {
                    record.variants.retain(|one| one.word != loaded.word);
                    record.variants.push(VariantRecord { used: now(), ..loaded });
                }
                Err(problem) => {
                    failed = Some(problem);
                    break;
                }
            }
        }
        if failed.is_none() && missing.iter().any(|variant| variant.is_timed()) {
            // Where that cannot be done, the load that was needed has been timed all the same.
            let _ = self.time_loads(slot, &mut record, wanted, progress);
        }
        // What one of a server's databases takes moves the stamp of all of them.
        let place = record.place(slot, self.project.server(), &self.owner);
        let served = self.project.engine.serve(&place, &self.settings(&record, wanted)).map_err(|error| engine_problem(&error))?;
        record.stamp = served.stamp().map_err(|error| engine_problem(&error))?;
        let mut stamped = Vec::new();
        for variant in std::mem::take(&mut record.variants) {
            match served.beside(&variant.word).and_then(|beside| beside.stamp()) {
                Ok(stamp) => stamped.push(VariantRecord { stamp, ..variant }),
                // Half of one that could not be loaded, or one that somebody has removed.
                Err(error) if error.kind == EngineErrorKind::Gone => {}
                Err(error) => return Err(engine_problem(&error)),
            }
        }
        record.variants = stamped;
        slot.note(&record)?;
        failed.map_or(Ok((served, record)), Err)
    }

    /// Loads everything with other keys twice more, the plain rows too, one after the other, and lets it be gone: what a load takes by itself is as
    /// much a matter of what the machine does meanwhile. Where one of each takes long, once has to do.
    fn time_loads(
        &self,
        slot: &Slot,
        record: &mut DatasetRecord,
        wanted: &[&Variant],
        progress: &mut dyn FnMut(LoadEvent<'_>),
    ) -> Result<(), Problem> {
        let keyed: Vec<&Variant> = wanted.iter().copied().filter(|variant| variant.is_timed()).collect();
        let known = |record: &DatasetRecord, word: &str| record.variants.iter().find(|one| one.word == word).map(|one| one.seconds);
        let words: Vec<String> = keyed.iter().map(|variant| variant.word()).collect();
        let first: Vec<f64> = words.iter().filter_map(|word| known(record, word)).collect();
        if record.load_seconds + first.iter().sum::<f64>() > LONG_LOADS {
            return Ok(());
        }
        let project = self.project;
        let (mut plain, mut others) = (vec![record.load_seconds], first.into_iter().map(|seconds| vec![seconds]).collect::<Vec<_>>());
        for _ in 0..2 {
            plain.push(self.timed(slot, record, (&project.schema, &project.blueprint), progress)?);
            for (variant, seconds) in keyed.iter().zip(&mut others) {
                seconds.push(self.timed(slot, record, (&variant.schema, variant.rows(&project.blueprint)), progress)?);
            }
        }
        let middle = |seconds: &[f64]| kampf_race::median(seconds).unwrap_or_default();
        (record.load_seconds, record.timed) = (middle(&plain), now());
        for (word, seconds) in words.iter().zip(&others) {
            let of_word = record.variants.iter_mut().filter(|one| one.word == *word);
            of_word.for_each(|one| (one.seconds, one.timed) = (middle(seconds), now()));
        }
        Ok(())
    }

    /// Loads rows beside a dataset, says how long that took, and removes them.
    fn timed(
        &self,
        slot: &Slot,
        record: &DatasetRecord,
        (schema, rows): (&Schema, &Blueprint),
        progress: &mut dyn FnMut(LoadEvent<'_>),
    ) -> Result<f64, Problem> {
        let project = self.project;
        let mut place = record.place(slot, project.server(), &self.owner);
        place.variant = Some(TIMED);
        let mut seconds = 0.0;
        let mut heard = |event: LoadEvent<'_>| match event {
            LoadEvent::Loaded(took) => seconds = took.as_secs_f64(),
            event => progress(event),
        };
        let loaded = project.engine.load(&place, schema, rows, &project.settings, &mut heard);
        let removed = project.engine.remove(&place);
        loaded.and(removed).map_err(|error| engine_problem(&error))?;
        Ok(seconds)
    }

    fn load_variant(
        &self,
        slot: &Slot,
        record: &DatasetRecord,
        variant: &Variant,
        progress: &mut dyn FnMut(LoadEvent<'_>),
    ) -> Result<VariantRecord, Problem> {
        let project = self.project;
        let word = variant.word();
        let mut place = record.place(slot, project.server(), &self.owner);
        place.variant = Some(&word);
        let mut seconds = 0.0;
        let own = |name: &str| variant.added.iter().any(|(_, index)| index.name.as_deref() == Some(name));
        let (mut made, mut refused): (Vec<(String, f64)>, Option<String>) = (Vec::new(), None);
        let mut heard = |event: LoadEvent<'_>| match event {
            LoadEvent::Indexed(name, took) if own(name) => made.push((name.to_owned(), took.as_secs_f64())),
            LoadEvent::Loaded(took) => seconds = took.as_secs_f64(),
            LoadEvent::Refused(name, why) if own(name) => refused = Some(why.to_owned()),
            event => progress(event),
        };
        let mut load = || {
            let loaded = project.engine.load(&place, &variant.schema, variant.rows(&project.blueprint), &project.settings, &mut heard)?;
            let served = project.engine.serve(&place, &project.settings)?;
            let connection = project.engine.connect(served.url(), &project.settings)?;
            Ok((loaded, connection.sizes()?, connection.index_sizes()?))
        };
        let (loaded, sizes, index_sizes) = load().map_err(|error: EngineError| {
            // Half of it is of no use; the others stay.
            let _ = project.engine.remove(&place);
            let problem = engine_problem(&error);
            match error.kind {
                EngineErrorKind::Constraint if variant.twin.is_none() => problem.hint(format!(
                    "the rows are not unique in it; leave out `unique` under [index.{}], or have the schema say that they are",
                    variant.name
                )),
                _ if variant.twin.is_some() => Problem { message: format!("{}: {}", variant.about(), problem.message), ..problem },
                _ if variant.keys.is_some() => Problem { message: format!("@{}: {}", variant.name, problem.message), ..problem },
                _ => Problem { message: format!("[index.{}]: {}", variant.name, problem.message), ..problem },
            }
        })?;
        // What it is for is not there then.
        if let Some(why) = refused {
            let _ = project.engine.remove(&place);
            return Err(Problem::wrong(format!("[index.{}] cannot be made: {why}", variant.name)));
        }
        let index = |(name, seconds): (String, f64)| {
            let bytes = index_sizes.iter().find(|size| size.name == name).map_or(0, |size| size.bytes);
            IndexRecord { name, bytes, seconds }
        };
        Ok(VariantRecord {
            word: word.clone(),
            name: variant.name.clone(),
            about: variant.about(),
            stamp: String::new(),
            seconds,
            timed: now(),
            tables: tables(&loaded, &sizes),
            indexes: made.into_iter().map(index).collect(),
            used: 0,
        })
    }

    /// Removes variants that are not wanted and for which there is no room, those first that were not used for longest.
    fn make_room(&self, slot: &Slot, record: &mut DatasetRecord, wanted: &[String]) -> Result<(), Problem> {
        let keep = self.project.config.keep;
        let mut others: Vec<(u64, String, u64)> =
            record.variants.iter().filter(|one| !wanted.contains(&one.word)).map(|one| (one.used, one.word.clone(), one.bytes())).collect();
        others.sort_by_key(|(used, ..)| std::cmp::Reverse(*used));
        let mut bytes = 0_u64;
        for (at, (_, word, size)) in others.into_iter().enumerate() {
            bytes = bytes.saturating_add(size);
            if at < keep.variants as usize && keep.disk.is_none_or(|most| bytes <= most) {
                continue;
            }
            if self.remove_variant(slot, record, &word)? {
                record.variants.retain(|one| one.word != word);
            }
        }
        Ok(())
    }

    /// Removes what there is of a variant; false where another Kampf is using it.
    fn remove_variant(&self, slot: &Slot, record: &DatasetRecord, word: &str) -> Result<bool, Problem> {
        let mut place = record.place(slot, self.project.server(), &self.owner);
        place.variant = Some(word);
        self.project.engine.remove(&place).map_err(|error| engine_problem(&error))
    }

    /// The engine's settings under which all that is wanted fits into what a server keeps in memory, unless the user chose that.
    pub(super) fn settings(&self, record: &DatasetRecord, wanted: &[&Variant]) -> Vec<Setting> {
        let settings = &self.project.settings;
        if wanted.is_empty() {
            return settings.clone();
        }
        let words: Vec<String> = wanted.iter().map(|variant| variant.word()).collect();
        let variants = record.variants.iter().filter(|one| words.contains(&one.word)).map(VariantRecord::bytes).sum::<u64>();
        self.project.engine.settings_for(settings, record.own_bytes() + variants)
    }
}

/// Seconds of one load of each up to which they are repeated.
const LONG_LOADS: f64 = 5.0;

/// The word of what is only loaded to see how long that takes.
const TIMED: &str = "71bed000";

/// A variant as it was loaded; none where it was not, or is not as it was.
fn find(served: &dyn Served, record: &DatasetRecord, variant: &Variant) -> Result<Option<VariantData>, EngineError> {
    let word = variant.word();
    let Some(record) = record.variants.iter().find(|one| one.word == word) else { return Ok(None) };
    let beside = match served.beside(&word) {
        Err(error) if error.kind == EngineErrorKind::Gone => return Ok(None),
        beside => beside?,
    };
    let is_as_loaded = beside.stamp()? == record.stamp;
    Ok(is_as_loaded.then(|| VariantData { name: variant.name.clone(), served: beside, record: record.clone() }))
}

/// Makes sure that the disk has room for so many more of a dataset.
pub(super) fn has_room(served: &dyn Served, record: &DatasetRecord, more: usize) -> Result<(), Problem> {
    // A server of somebody else's says nothing of its disk.
    let place = served.place();
    let Ok(disk) = rustix::fs::statvfs(Path::new(&place)) else { return Ok(()) };
    short_of(disk.f_bavail.saturating_mul(disk.f_frsize), record.own_bytes(), more, &place).map_or(Ok(()), Err)
}

/// What is to be said where so many bytes are left and so many more of a dataset of a size are to be made.
fn short_of(free: u64, dataset: u64, more: usize, place: &str) -> Option<Problem> {
    // An index takes less than its table, and is sorted on disk before it is written.
    let needed = dataset.saturating_mul(2).saturating_mul(more as u64);
    let variants = if more == 1 { "another variant".to_owned() } else { format!("{more} more variants") };
    let what = format!("the disk of {place} has {} left, and {variants} may take {}", bytes(free), bytes(needed));
    let hint = "make room, race fewer variants at a time, or fill fewer rows; what was loaded is left as it is";
    (free <= needed).then(|| Problem::surroundings(what).hint(hint))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_disk_that_is_short_is_told_before_anything_is_loaded() {
        assert!(short_of(5_000, 1_000, 2, "here").is_none());
        let problem = short_of(4_000, 1_000, 2, "here").unwrap();
        assert!(problem.message.contains("the disk of here has 3.9 KiB left, and 2 more variants may take 3.9 KiB"), "{problem}");
        assert!(short_of(u64::MAX, u64::MAX, usize::MAX, "here").is_some());
    }
}
