//! The choices a developer makes, and the options of each: words, ranks and meanings, which everything else reads.
//!
//! Names of contenders, `[contest.X.choices]`, the field, the ladder, the verdict by choice, documents and their JSON Schema take
//! words, order and meaning from here. When a choice changes anything, and which options go together, is said beside the field
//! (`field/rules.rs`). A further choice is a file of its own here, a line in `entry.rs`, three here, and its rules; one among what the
//! user names has no enum, and labels instead.

mod back;
mod batch;
mod cache;
mod choices;
mod columns;
mod commit;
mod entry;
mod fetch;
mod filters;
mod habit;
mod hang;
mod hydration;
mod index;
mod keys;
mod label;
mod loading;
mod path;
mod restriction;
mod statement;
mod unit;
mod ways;
mod words;
mod work;

pub use back::Back;
pub use batch::Batch;
pub use cache::Cache;
pub use choices::Choices;
pub use columns::Columns;
pub use commit::Commit;
pub use entry::{Choice, ChoiceEntry, ChoiceOption, Opt, OptionEntry};
pub use fetch::Fetch;
pub use filters::Filters;
pub use habit::Habit;
pub use hang::Hang;
pub use hydration::Hydration;
pub use label::Label;
pub use loading::Loading;
pub use path::Path;
pub use restriction::Restriction;
pub use statement::Statement;
pub use unit::Unit;
pub(crate) use ways::Ways;
pub use work::Work;

impl Choice {
    /// What is known of it.
    pub fn entry(self) -> &'static ChoiceEntry {
        match self {
            Choice::Loading => &loading::LOADING,
            Choice::Work => &work::WORK,
            Choice::Columns => &columns::COLUMNS,
            Choice::Hydration => &hydration::HYDRATION,
            Choice::Filters => &filters::FILTERS,
            Choice::Habit => &habit::HABIT,
            Choice::Fetch => &fetch::FETCH,
            Choice::Statement => &statement::STATEMENT,
            Choice::Unit => &unit::UNIT,
            Choice::Cache => &cache::CACHE,
            Choice::Index => &index::INDEX,
            Choice::Keys => &keys::KEYS,
            Choice::Path => &path::PATH,
            Choice::Batch => &batch::BATCH,
            Choice::Commit => &commit::COMMIT,
            Choice::Back => &back::BACK,
            Choice::Hang => &hang::HANG,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_registry_agrees_with_the_enums_and_no_word_is_taken_twice() {
        assert_eq!(
            Loading::ALL.iter().map(|one| one.word()).collect::<Vec<_>>(),
            ["lazy", "batched", "joined", "grouped", "ranked", "computed", "nested"]
        );
        assert_eq!(Hydration::ALL.iter().map(|one| one.word()).collect::<Vec<_>>(), ["managed", "plain", "map", "record", "raw"]);
        assert_eq!(Work::ALL.len() + Columns::ALL.len(), Choice::Work.entry().options.len() + Choice::Columns.entry().options.len());
        // What everybody has does not stand in names.
        let stands = |option: &Opt| option.choice().entry().usual != Some(option.rank());
        let mut words: Vec<&str> = Choice::ALL.into_iter().flat_map(Choice::options).filter(stands).map(Opt::word).collect();
        let all = words.len();
        words.sort_unstable();
        words.dedup();
        assert_eq!(words.len(), all, "a name is read by its words alone");
        let mut turns: Vec<usize> = Choice::ALL.iter().map(|choice| choice.entry().turn).collect();
        turns.sort_unstable();
        assert_eq!(turns, (0..Choice::ALL.len()).collect::<Vec<_>>());
    }

    #[test]
    fn choices_are_a_map_from_choice_to_option_and_read_words_of_before() {
        let choices = Choices::default().with(Loading::Lazy).with(Work::App).with(Hydration::Managed);
        assert_eq!(choices.to_string(), "lazy.app.managed");
        let json = serde_json::to_string(&choices).unwrap();
        assert_eq!(json, r#"{"loading":"lazy","work":"app","hydration":"managed"}"#);
        let read = |json: &str| serde_json::from_str::<Choices>(json);
        assert_eq!(read(&json).unwrap(), choices);
        assert_eq!(read(r#"{"loading":"lazy","work":"app","columns":null,"hydration":"tracked"}"#).unwrap(), choices);
        assert!(read(r#"{"loading":"sideways"}"#).unwrap_err().to_string().contains("`sideways` is not an option of loading"));
        assert!(read(r#"{"weather":"fine"}"#).unwrap_err().to_string().contains("there is no choice `weather`"));
        assert_eq!((choices.get::<Columns>(), choices.get::<Work>()), (None, Some(Work::App)));
        let other = choices.with(Hydration::Raw);
        assert_eq!((choices.distance(&other), choices.difference(&other)), (1, Some((Hydration::Managed.opt(), Hydration::Raw.opt()))));
        assert_eq!(choices.difference(&other.with(Work::Database)), None);
        assert_eq!(other.with(Loading::Computed).ranks(), [0, 5, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
        let chunks = other.with_opt(Fetch::Chunks.opt().of_size(500)).with(Statement::Built);
        assert_eq!(chunks.to_string(), "lazy.app.raw+chunks:500+built");
        assert_eq!(read(&serde_json::to_string(&chunks).unwrap()).unwrap(), chunks);
        assert!(read(r#"{"fetch":"chunks:0"}"#).is_err() && read(r#"{"fetch":"whole:5"}"#).is_err());
        let (indexed, plain) =
            (other.with_opt(Choice::Index.option("by_hive").unwrap()), other.with_opt(Choice::Index.option("none").unwrap()));
        assert_eq!((indexed.to_string(), plain.to_string()), ("lazy.app.raw@by_hive".into(), "lazy.app.raw".into()));
        assert_eq!(read(&serde_json::to_string(&indexed).unwrap()).unwrap(), indexed);
        assert_eq!(
            indexed.difference(&plain).map(|(one, none)| (one.to_string(), none.to_string())),
            Some(("by_hive".into(), "none".into()))
        );
        assert!(read(r#"{"index":"by hive"}"#).is_err() && Choice::Index.option("by_hive:5").is_none());
    }
}
