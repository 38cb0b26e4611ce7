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
    /// Most live heap bytes less those at the start.
    HeapPeak,
    /// Objects built.
    Objects,
    /// Heap allocations.
    Allocations,
    /// Most bytes held by the engine's library in the process.
    EngineBytes,
}

/// What a number counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unit {
    /// Things.
    Number,
    /// Bytes.
    Bytes,
}

/// How the same measure in two results is compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Grain {
    /// It is the same from run to run: any more is more.
    Exact,
    /// It varies with the rows of a round: more than a share allowed is more.
    Allowed,
}

/// Where a number was counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum How {
    /// In the contender's process, by Kampf's own code.
    Inside,
    /// Where it left the process.
    Wire,
    /// By an outside program, which is believed.
    Reported,
    /// As growth of a whole process.
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
    pub unit: Unit,
    /// Whether it is the same in any language, and not a property of Kampf's own layers.
    pub travels: bool,
    /// How it is compared.
    pub grain: Grain,
    /// What it means.
    pub about: &'static str,
}

const fn entry(name: &'static str, word: &'static str, about: &'static str) -> MeasureEntry {
    let (unit, grain) = (Unit::Number, Grain::Exact);
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
    unit: Unit::Bytes,
    travels: true,
    grain: Grain::Allowed,
    ..entry("bytes", "bytes", "Bytes of the values delivered in a call")
};
static WIRE_BYTES: MeasureEntry = MeasureEntry {
    column: Some("on the wire"),
    yields: 9,
    unit: Unit::Bytes,
    travels: true,
    grain: Grain::Allowed,
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
    unit: Unit::Bytes,
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
    unit: Unit::Bytes,
    grain: Grain::Allowed,
    ..entry("engine_bytes", "memory of the engine's library", "Most bytes that the engine's library held in a call")
};

impl Measure {
    /// All of them, in the order of tables.
    pub const ALL: [Measure; 9] = [
        Measure::Statements,
        Measure::RoundTrips,
        Measure::Rows,
        Measure::Bytes,
        Measure::WireBytes,
        Measure::HeapPeak,
        Measure::Objects,
        Measure::Allocations,
        Measure::EngineBytes,
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

/// A number, and where it was counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Counted {
    /// The number.
    pub value: u64,
    /// Where it was counted.
    pub how: How,
}

/// Who counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Counter {
    /// An outside program, which counts by itself.
    pub is_program: bool,
    /// The engine has no round trips; what it counts is a model.
    pub trips_are_modelled: bool,
}

/// What was counted over one call; what is not in it is not known.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Measured {
    counted: BTreeMap<Measure, Counted>,
}

impl Measured {
    /// From numbers by their names in the protocol, as somebody counted them. Names that are not known say nothing.
    pub fn of<'a>(numbers: impl IntoIterator<Item = (&'a str, u64)>, by: Counter) -> Measured {
        let known = |(name, value): (&str, u64)| Some((Measure::from_name(name)?, value));
        let numbers: BTreeMap<Measure, u64> = numbers.into_iter().filter_map(known).collect();
        let has = |measure| numbers.contains_key(&measure);
        let inside = if by.is_program { How::Reported } else { How::Inside };
        let how = |measure| match measure {
            Measure::RoundTrips if by.trips_are_modelled && !by.is_program => How::Modelled,
            Measure::Statements | Measure::RoundTrips | Measure::WireBytes if has(Measure::WireBytes) && !by.is_program => How::Wire,
            // A program that counts no allocations tells what its whole process takes.
            Measure::HeapPeak if by.is_program && !has(Measure::Allocations) => How::Resident,
            _ => inside,
        };
        Measured { counted: numbers.iter().map(|(&measure, &value)| (measure, Counted { value, how: how(measure) })).collect() }
    }

    /// Adds a number, or replaces it.
    pub fn set(&mut self, measure: Measure, counted: Counted) {
        self.counted.insert(measure, counted);
    }

    /// A number; none where it is not known.
    pub fn get(&self, measure: Measure) -> Option<u64> {
        self.counted.get(&measure).map(|counted| counted.value)
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
            let measured = Measured::of(names.iter().map(|&name| (name, 1)), Counter { is_program, trips_are_modelled });
            measured.iter().map(|(measure, counted)| (measure, counted.how)).collect::<Vec<_>>()
        };
        let own = ["statements", "round_trips", "heap_peak_bytes", "weather"];
        use Measure::{Allocations, HeapPeak, RoundTrips, Statements, WireBytes};
        assert_eq!(how(&own, false, true), [(Statements, How::Inside), (RoundTrips, How::Modelled), (HeapPeak, How::Inside)]);
        let wire = ["statements", "round_trips", "wire_bytes"];
        assert_eq!(how(&wire, false, false), [(Statements, How::Wire), (RoundTrips, How::Wire), (WireBytes, How::Wire)]);
        assert_eq!(how(&own, true, true), [(Statements, How::Reported), (RoundTrips, How::Reported), (HeapPeak, How::Resident)]);
        assert_eq!(how(&["heap_peak_bytes", "allocations"], true, true), [(HeapPeak, How::Reported), (Allocations, How::Reported)]);
    }
}
