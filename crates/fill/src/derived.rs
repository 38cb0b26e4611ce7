//! Values made from other columns of the row, or from one of its parent.

use kampf_schema::{TableId, Value, ValueRef};

use crate::after::{After, Step};
use crate::batch::Batch;
use crate::maker::{Maker, NumberKind, bounded};
use crate::others::{Origin, Others};
use crate::path::{Path, Previous};
use crate::random::Random;
use crate::vocabulary::{Vocabulary, cut, plain};

/// Values made from others.
#[derive(Clone, Debug)]
pub(crate) enum Derived {
    After(After),
    Step(Step),
    Path(Path),
    Previous(Previous),
    /// slope * other + intercept, and a normal deviation.
    Linear {
        of: Origin,
        slope: f64,
        intercept: f64,
        noise: f64,
        bounds: Option<(f64, f64)>,
        kind: NumberKind,
    },
    /// By the value of another column; the last one, without a value, for all others.
    When(Origin, Vec<(Option<Value>, Maker, u32)>),
    /// An address or login from names.
    Email(Vec<Origin>),
    /// Names of a person, one after the other.
    Joined(Vec<Origin>),
    Slug(Origin),
    /// How many rows of another table belong to the row: by which of its references.
    Count(TableId, usize),
    /// The same value.
    Same(Origin),
}

impl Derived {
    pub(crate) fn make(&self, random: &mut Random, row: u64, words: &Vocabulary, others: &dyn Others, out: &mut Batch) {
        match self {
            Derived::After(after) => out.push(after.make(random, others).as_ref()),
            Derived::Step(step) => out.push(step.make(random, others).as_ref()),
            Derived::Path(path) => out.push(path.make(others).as_ref()),
            Derived::Previous(previous) => out.push(previous.make(others).as_ref()),
            Derived::Linear { of, slope, intercept, noise, bounds, kind } => match others.value(*of).as_ref().as_real() {
                Some(other) => out.push(kind.value(bounded(slope * other + intercept + noise * random.normal(), *bounds)).as_ref()),
                None => out.push(ValueRef::Null),
            },
            Derived::When(of, cases) => {
                let other = others.value(*of);
                let fits = |value: &Option<Value>| value.as_ref().is_none_or(|value| value.as_ref().order(other.as_ref()).is_eq());
                match cases.iter().find(|(value, ..)| fits(value)) {
                    Some((_, _, null_share)) if random.chance(*null_share) => out.push(ValueRef::Null),
                    Some((_, maker, _)) => maker.make(random, row, words, others, out),
                    None => out.push(ValueRef::Null),
                }
            }
            Derived::Email(of) => {
                let names = known(of, others);
                out.push_text(|out| {
                    let start = out.len();
                    for name in names.iter().flat_map(|name| name.split(' ')) {
                        if out.len() > start {
                            out.push('.');
                        }
                        plain(name, out);
                    }
                    out.push_str("@example.org");
                });
            }
            Derived::Joined(of) => {
                let whole = known(of, others).join(" ");
                out.push_text(|out| out.push_str(&whole));
            }
            Derived::Count(child, reference) => out.push(ValueRef::Integer(others.children(*child, *reference) as i64)),
            Derived::Slug(of) => {
                let other = others.value(*of);
                match other {
                    Value::Null => out.push(ValueRef::Null),
                    other => out.push_text(|out| {
                        let start = out.len();
                        plain(&other.to_string(), out);
                        cut(out, start, 48);
                    }),
                }
            }
            Derived::Same(of) => out.push(others.value(*of).as_ref()),
        }
    }
}

/// The values at some origins as texts, without those that are null.
fn known(of: &[Origin], others: &dyn Others) -> Vec<String> {
    of.iter().map(|origin| others.value(*origin)).filter(|value| *value != Value::Null).map(|value| value.to_string()).collect()
}
