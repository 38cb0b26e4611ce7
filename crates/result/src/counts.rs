//! What was counted, as fields of a contender and of what is required.

use std::collections::BTreeMap;

use kampf_contest::{Counted, How, Measure, Measured};
use kampf_verdict::{Require, Required};
use serde::de::{Error, IgnoredAny, MapAccess, Visitor};
use serde::ser::SerializeMap;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// The fields of a contender that are counts: every measure by its name, null where it is not known.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct CountsPart {
    /// Means over calls with each parameter set.
    means: BTreeMap<Measure, f64>,
}

/// The least and the most of a call, where calls differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RangePart {
    least: u64,
    most: u64,
}

impl CountsPart {
    pub(crate) fn of(measured: &Measured) -> CountsPart {
        CountsPart { means: measured.iter().map(|(measure, counted)| (measure, counted.mean)).collect() }
    }

    /// With where each was counted, and how far calls differ; what nothing is said of was counted inside, and the same in all.
    pub(crate) fn measured(&self, counted: &BTreeMap<String, How>, ranges: &BTreeMap<String, RangePart>) -> Measured {
        let mut measured = Measured::default();
        for (&measure, &mean) in &self.means {
            let name = measure.entry().name;
            let how = counted.get(name).copied().unwrap_or(How::Inside);
            let RangePart { least, most } = ranges.get(name).copied().unwrap_or(RangePart { least: mean as u64, most: mean as u64 });
            measured.set(measure, Counted { mean, least, most, how });
        }
        measured
    }
}

/// Where each was counted, by name.
pub(crate) fn counted_part(measured: &Measured) -> BTreeMap<String, How> {
    measured.iter().map(|(measure, counted)| (measure.entry().name.to_owned(), counted.how)).collect()
}

/// How far calls differ, by name.
pub(crate) fn range_part(measured: &Measured) -> BTreeMap<String, RangePart> {
    let differing = measured.iter().filter(|(_, counted)| counted.differs());
    differing.map(|(measure, Counted { least, most, .. })| (measure.entry().name.to_owned(), RangePart { least, most })).collect()
}

impl Serialize for CountsPart {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        for measure in Measure::ALL {
            let name = measure.entry().name;
            match self.means.get(&measure) {
                Some(mean) if mean.fract() == 0.0 => map.serialize_entry(name, &(*mean as u64))?,
                // Without a wire there is nothing to say of it.
                None if measure == Measure::WireBytes => {}
                mean => map.serialize_entry(name, &mean)?,
            }
        }
        map.end()
    }
}

impl<'de> Deserialize<'de> for CountsPart {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<CountsPart, D::Error> {
        struct Fields;

        impl<'de> Visitor<'de> for Fields {
            type Value = CountsPart;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("counts by name")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<CountsPart, A::Error> {
                let mut part = CountsPart::default();
                while let Some(name) = map.next_key::<String>()? {
                    match Measure::from_name(&name) {
                        Some(measure) => {
                            let mean: Option<f64> = map.next_value()?;
                            part.means.extend(mean.map(|mean| (measure, mean)));
                        }
                        None => drop(map.next_value::<IgnoredAny>()?),
                    }
                }
                Ok(part)
            }
        }

        deserializer.deserialize_map(Fields)
    }
}

/// What is required, by name.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RequirePart(pub Require);

impl Serialize for RequirePart {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(None)?;
        for (required, limit) in self.0.limits() {
            match required {
                Required::Count(_) => map.serialize_entry(&required.name(), &(limit as u64))?,
                _ => map.serialize_entry(&required.name(), &limit)?,
            }
        }
        map.end()
    }
}

impl<'de> Deserialize<'de> for RequirePart {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<RequirePart, D::Error> {
        let mut require = Require::default();
        for (name, limit) in BTreeMap::<String, Option<f64>>::deserialize(deserializer)? {
            let required = Required::all().find(|required| required.name() == name);
            let required = required.ok_or_else(|| D::Error::custom(format!("`{name}` cannot be required")))?;
            if let Some(limit) = limit {
                require.set(required, limit);
            }
        }
        Ok(RequirePart(require))
    }
}
