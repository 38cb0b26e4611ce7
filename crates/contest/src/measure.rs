//! What is counted of a call, in one registry that everything else reads: the protocol's names, documents, requirements, columns of
//! tables, comparisons.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

/// Something that is counted over one call. In the order in which tables show it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Measure {
    /// Statements carried out, begin and commit included.
    Statements,
    /// Waits for the server.
    RoundTrips,
    /// Rows delivered.
    Rows,
    /// Bytes of values delivered.
    Bytes,
    /// Bytes over the wire, in both directions.
    WireBytes,
    /// Rows that statements say they have written.
    RowsWritten,
    /// Bytes of the log that changes are written to first.
    LogBytes,
    /// Most live heap bytes less those at the start.
    HeapPeak,
    /// Objects built.
    Objects,
    /// Heap allocations.
    Allocations,
    /// Most bytes held by the engine's library in the process.
    EngineBytes,
    /// The share of a call's time that is spent in the engine and on the way.
    Waiting,
    /// Bytes that an answer holds which is kept.
    KeptBytes,
}

/// What a number counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Quantity {
    /// Things.
    Number,
    /// Bytes.
    Bytes,
    /// Thousandths of the whole.
    Share,
}

/// How the same measure in two results is compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Grain {
    /// It is the same from run to run: any more is more.
    Exact,
    /// It varies with the rows of a round: more than a share allowed is more.
    Allowed,
    /// It says nothing by itself, so it is not compared.
    Never,
}

/// Where a number was counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum How {
    /// In the contender's process, by Kampf's own code.
    Inside,
    /// Where it left the process.
    Wire,
    /// By a program from outside, whose word nothing confirms.
    Reported,
    /// As growth of a program's whole process, by the runner.
    Resident,
    /// As what a server would have needed.
    Modelled,
}

/// What is known of a measure.
#[derive(Debug)]
pub struct MeasureEntry {
    /// Its name in the protocol and in documents.
    pub name: &'static str,
    /// Its name in `[contest.X.require]`; none where nothing can be required of it.
    pub required_as: Option<&'static str>,
    /// What it is called in sentences.
    pub word: &'static str,
    /// What a column of it is called; none where tables do not show it.
    pub column: Option<&'static str>,
    /// How soon a table leaves its column out where there is no room: 0 never, then the higher the sooner.
    pub yields: u8,
    /// What it counts.
    pub unit: Quantity,
    /// Whether it is the same in any language, and not a property of Kampf's own layers.
    pub travels: bool,
    /// How it is compared.
    pub grain: Grain,
    /// What it means.
    pub about: &'static str,
}

const fn entry(name: &'static str, word: &'static str, about: &'static str) -> MeasureEntry {
    let (unit, grain) = (Quantity::Number, Grain::Exact);
    MeasureEntry { name, required_as: None, word, column: None, yields: 0, unit, travels: false, grain, about }
}

static STATEMENTS: MeasureEntry = MeasureEntry {
    required_as: Some("statements"),
    column: Some("statements"),
    yields: 1,
    travels: true,
    ..entry("statements", "statements", "Statements of a call, begin and commit included")
};
static ROUND_TRIPS: MeasureEntry = MeasureEntry {
    required_as: Some("round_trips"),
    column: Some("trips"),
    yields: 6,
    travels: true,
    ..entry("round_trips", "round trips", "Waits for the server in a call")
};
static ROWS: MeasureEntry = MeasureEntry {
    required_as: Some("rows"),
    column: Some("rows"),
    yields: 2,
    travels: true,
    ..entry("rows", "rows", "Rows delivered in a call")
};
static BYTES: MeasureEntry = MeasureEntry {
    column: Some("bytes"),
    yields: 7,
    unit: Quantity::Bytes,
    travels: true,
    grain: Grain::Allowed,
    ..entry("bytes", "bytes", "Bytes of the values delivered in a call")
};
static WIRE_BYTES: MeasureEntry = MeasureEntry {
    column: Some("on the wire"),
    yields: 9,
    unit: Quantity::Bytes,
    travels: true,
    grain: Grain::Never,
    ..entry(
        "wire_bytes",
        "bytes on the wire",
        "Bytes between contender and server in a call, in both directions; left out where there is no wire",
    )
};
static HEAP_PEAK: MeasureEntry = MeasureEntry {
    required_as: Some("memory"),
    column: Some("held at most"),
    yields: 3,
    unit: Quantity::Bytes,
    grain: Grain::Allowed,
    ..entry("heap_peak_bytes", "memory", "Most bytes held at once in a call")
};
static OBJECTS: MeasureEntry = MeasureEntry {
    column: Some("objects"),
    yields: 10,
    grain: Grain::Allowed,
    ..entry("objects", "objects", "Entities, maps or records built in a call")
};
static ALLOCATIONS: MeasureEntry = MeasureEntry { grain: Grain::Allowed, ..entry("allocations", "allocations", "Allocations in a call") };
static ENGINE_BYTES: MeasureEntry = MeasureEntry {
    unit: Quantity::Bytes,
    grain: Grain::Never,
    ..entry("engine_bytes", "memory of the engine's library", "Most bytes that the engine's library held in a call")
};

static WAITING: MeasureEntry = MeasureEntry {
    column: Some("waiting"),
    yields: 5,
    unit: Quantity::Share,
    grain: Grain::Never,
    ..entry("waiting", "waiting", "Thousandths of a call's time that are spent in the engine and on the way; the rest is the layer's own")
};
static KEPT_BYTES: MeasureEntry = MeasureEntry {
    unit: Quantity::Bytes,
    grain: Grain::Allowed,
    ..entry("kept_bytes", "memory of a kept answer", "Bytes that an answer holds which is kept between calls; left out where none is")
};

static ROWS_WRITTEN: MeasureEntry = MeasureEntry {
    required_as: Some("rows_written"),
    column: Some("written"),
    yields: 4,
    travels: true,
    ..entry(
        "rows_written",
        "rows written",
        "Rows that the statements of a call say they have put in, changed or deleted; left out where none write",
    )
};
static LOG_BYTES: MeasureEntry = MeasureEntry {
    column: Some("log"),
    yields: 8,
    unit: Quantity::Bytes,
    travels: true,
    grain: Grain::Allowed,
    ..entry(
        "log_bytes",
        "bytes of the log",
        "Bytes that a call adds to the log which changes are written to first; left out where none write or the engine does not tell",
    )
};

impl Measure {
    /// All of them, in the order of tables.
    pub const ALL: [Measure; 13] = [
        Measure::Statements,
        Measure::RoundTrips,
        Measure::Rows,
        Measure::Bytes,
        Measure::WireBytes,
        Measure::RowsWritten,
        Measure::LogBytes,
        Measure::HeapPeak,
        Measure::Objects,
        Measure::Allocations,
        Measure::EngineBytes,
        Measure::Waiting,
        Measure::KeptBytes,
    ];

    /// What is known of it.
    pub fn entry(self) -> &'static MeasureEntry {
        match self {
            Measure::Statements => &STATEMENTS,
            Measure::RoundTrips => &ROUND_TRIPS,
            Measure::Rows => &ROWS,
            Measure::Bytes => &BYTES,
            Measure::WireBytes => &WIRE_BYTES,
            Measure::HeapPeak => &HEAP_PEAK,
            Measure::Objects => &OBJECTS,
            Measure::Allocations => &ALLOCATIONS,
            Measure::EngineBytes => &ENGINE_BYTES,
            Measure::Waiting => &WAITING,
            Measure::KeptBytes => &KEPT_BYTES,
            Measure::RowsWritten => &ROWS_WRITTEN,
            Measure::LogBytes => &LOG_BYTES,
        }
    }

    /// The measure of a name in the protocol and in documents.
    pub fn from_name(name: &str) -> Option<Measure> {
        Measure::ALL.into_iter().find(|measure| measure.entry().name == name)
    }

    /// Whether two runs of the same give the same number, so that a requirement can be judged by one of them.
    pub fn is_exact(self) -> bool {
        self.entry().grain == Grain::Exact
    }
}

/// What was counted over one call or, with several parameter sets, over one call with each; and where.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Counted {
    /// The mean over the calls.
    pub mean: f64,
    /// The least of a call.
    pub least: u64,
    /// The most of a call: what is required, compared and ranked is the worst.
    pub most: u64,
    /// Where it was counted.
    pub how: How,
}

impl Counted {
    /// The same number in every call.
    pub fn always(value: u64, how: How) -> Counted {
        Counted { mean: value as f64, least: value, most: value, how }
    }

    /// Over the numbers of several calls; none without any.
    fn over(values: &[u64], how: How) -> Option<Counted> {
        let (least, most) = (*values.iter().min()?, *values.iter().max()?);
        let mean = values.iter().map(|&value| value as f64).sum::<f64>() / values.len() as f64;
        Some(Counted { mean, least, most, how })
    }

    /// Whether calls differ in it.
    pub fn differs(&self) -> bool {
        self.least != self.most
    }
}

/// Who counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Counter {
    /// An outside program, which counts by itself.
    pub is_program: bool,
    /// The engine has no round trips; what it counts is a model.
    pub trips_are_modelled: bool,
}

/// What was counted; what is not in it is not known.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Measured {
    counted: BTreeMap<Measure, Counted>,
}

impl Measured {
    /// From numbers by their names in the protocol, as somebody counted them over calls. Names that are not known say nothing, nor
    /// does a number that is missing for one of the calls.
    pub fn of<'a, C: IntoIterator<Item = (&'a str, u64)>>(calls: impl IntoIterator<Item = C>, by: Counter) -> Measured {
        let mut numbers: BTreeMap<Measure, Vec<u64>> = BTreeMap::new();
        let mut many = 0;
        for call in calls {
            many += 1;
            for (measure, value) in call.into_iter().filter_map(|(name, value)| Some((Measure::from_name(name)?, value))) {
                numbers.entry(measure).or_default().push(value);
            }
        }
        numbers.retain(|_, values| values.len() == many);
        let on_wire = numbers.contains_key(&Measure::WireBytes);
        let how = |measure| match measure {
            _ if by.is_program => How::Reported,
            Measure::RoundTrips if by.trips_are_modelled => How::Modelled,
            Measure::Statements | Measure::RoundTrips | Measure::WireBytes if on_wire => How::Wire,
            _ => How::Inside,
        };
        let counted = numbers.into_iter().filter_map(|(measure, values)| Some((measure, Counted::over(&values, how(measure))?)));
        Measured { counted: counted.collect() }
    }

    /// Adds what the runner saw of a program from outside where the program does not count it: by how much its resident memory grew
    /// in each call.
    pub fn add_growth(&mut self, growth: &[u64]) {
        if let Some(counted) = Counted::over(growth, How::Resident) {
            self.counted.entry(Measure::HeapPeak).or_insert(counted);
        }
    }

    /// Adds a number, or replaces it.
    pub fn set(&mut self, measure: Measure, counted: Counted) {
        self.counted.insert(measure, counted);
    }

    /// The most of a call; none where it is not known.
    pub fn get(&self, measure: Measure) -> Option<u64> {
        self.counted.get(&measure).map(|counted| counted.most)
    }

    /// All that was counted of something.
    pub fn counted(&self, measure: Measure) -> Option<Counted> {
        self.counted.get(&measure).copied()
    }

    /// Where it was counted.
    pub fn how(&self, measure: Measure) -> Option<How> {
        self.counted.get(&measure).map(|counted| counted.how)
    }

    /// All that is known.
    pub fn iter(&self) -> impl Iterator<Item = (Measure, Counted)> + '_ {
        self.counted.iter().map(|(&measure, &counted)| (measure, counted))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_unique_and_lead_back() {
        for measure in Measure::ALL {
            assert_eq!(Measure::from_name(measure.entry().name), Some(measure));
        }
        assert_eq!(Measure::from_name("weather"), None);
    }

    #[test]
    fn where_a_number_was_counted_follows_from_who_counted() {
        let how = |names: &[&str], is_program, trips_are_modelled| {
            let measured = Measured::of([names.iter().map(|&name| (name, 1))], Counter { is_program, trips_are_modelled });
            measured.iter().map(|(measure, counted)| (measure, counted.how)).collect::<Vec<_>>()
        };
        let own = ["statements", "round_trips", "heap_peak_bytes", "weather"];
        use Measure::{HeapPeak, RoundTrips, Statements, WireBytes};
        assert_eq!(how(&own, false, true), [(Statements, How::Inside), (RoundTrips, How::Modelled), (HeapPeak, How::Inside)]);
        let wire = ["statements", "round_trips", "wire_bytes"];
        assert_eq!(how(&wire, false, false), [(Statements, How::Wire), (RoundTrips, How::Wire), (WireBytes, How::Wire)]);
        assert_eq!(how(&own, true, true), [(Statements, How::Reported), (RoundTrips, How::Reported), (HeapPeak, How::Reported)]);
    }

    #[test]
    fn over_several_calls_the_mean_the_least_and_the_most_are_kept_and_the_worst_counts() {
        let by = Counter { is_program: true, trips_are_modelled: false };
        let calls = [vec![("statements", 3), ("rows", 10)], vec![("statements", 6)], vec![("statements", 3), ("rows", 12)]];
        let mut measured = Measured::of(calls, by);
        let expected = Counted { mean: 4.0, least: 3, most: 6, how: How::Reported };
        assert_eq!((measured.counted(Measure::Statements), measured.get(Measure::Statements)), (Some(expected), Some(6)));
        assert!(expected.differs() && !Counted::always(3, How::Inside).differs());
        assert_eq!(measured.get(Measure::Rows), None, "one call did not say");
        measured.add_growth(&[4096, 8192]);
        assert_eq!((measured.get(Measure::HeapPeak), measured.how(Measure::HeapPeak)), (Some(8192), Some(How::Resident)));
        // What the program itself has counted is not replaced.
        let mut measured = Measured::of([[("heap_peak_bytes", 7)]], by);
        measured.add_growth(&[]);
        measured.add_growth(&[4096]);
        assert_eq!((measured.get(Measure::HeapPeak), measured.how(Measure::HeapPeak)), (Some(7), Some(How::Reported)));
        assert_eq!(Measured::of(Vec::<Vec<(&str, u64)>>::new(), by), Measured::default());
    }
}
