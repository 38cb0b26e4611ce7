//! Checks that values are drawn again for until they hold.

use kampf_schema::{ColumnId, LogicalType, Rule, Value};

use crate::kinds::as_kind;
use crate::random::{Random, mix};

/// Checks that values are drawn for until they hold.
#[derive(Clone, Debug)]
pub(crate) struct Guard {
    pub(crate) columns: Vec<ColumnId>,
    pub(crate) rules: Vec<Rule>,
    /// Values that the checks speak of, for each column in order.
    pub(crate) hints: Vec<Vec<Value>>,
    /// What the checks compare each of them with on the same row.
    pub(crate) beside: Vec<Vec<Rule>>,
    /// The least and the largest value of each of them.
    pub(crate) within: Vec<(Option<Value>, Option<Value>)>,
    /// Other checks about them, which hold of themselves where values are made as the columns are meant to be.
    pub(crate) others: Vec<Rule>,
}

impl Guard {
    /// A value that the checks speak of, or one between two of them; where chance alone does not find what they want. In the end
    /// one next to what the column is compared with on this row.
    pub(crate) fn hinted(
        &self,
        at: usize,
        kind: LogicalType,
        key: u64,
        row: u64,
        attempt: u64,
        others: &dyn Fn(ColumnId) -> Value,
    ) -> Option<Value> {
        let mut random = Random::at(mix(key ^ attempt), row);
        if attempt < 4 || random.below(2) == 0 {
            return None;
        }
        let small = random.below(128) as i64 >> random.below(8);
        let small = if random.below(2) == 0 { small } else { -small };
        if attempt >= 32 && random.below(4) == 0 {
            // Few rules of arithmetic hold for none of the small numbers.
            return Some(as_kind(Value::Integer(small), kind)).filter(|value| kind.is_number() && self.is_within(at, value));
        }
        let beside: Vec<Value>;
        let mut hints = self.hints[at].as_slice();
        if attempt >= 16 && !self.beside[at].is_empty() && (hints.is_empty() || random.below(2) == 0) {
            beside =
                self.beside[at].iter().map(|term| as_kind(term.value_on(&others), kind)).filter(|value| *value != Value::Null).collect();
            hints = &beside;
        }
        if hints.is_empty() {
            return None;
        }
        let mut pick = || &hints[random.below(hints.len() as u64) as usize];
        let (one, other) = (pick(), pick());
        let between = |low: i128, high: i128, random: &mut Random| random.between(low.min(high) - 1, low.max(high) + 1);
        let hinted = match (one, other) {
            (Value::Integer(low), Value::Integer(high)) => Value::Integer(between((*low).into(), (*high).into(), &mut random) as i64),
            (Value::Date(low), Value::Date(high)) => Value::Date(between((*low).into(), (*high).into(), &mut random) as i32),
            (Value::Timestamp(low), Value::Timestamp(high)) => {
                Value::Timestamp(between((*low / 1_000_000).into(), (*high / 1_000_000).into(), &mut random) as i64 * 1_000_000)
            }
            (Value::Decimal(low, scale), Value::Decimal(high, _)) => {
                Value::Decimal(between(low.get(), high.get(), &mut random).into(), *scale)
            }
            (one, _) => one.clone(),
        };
        self.is_within(at, &hinted).then_some(hinted)
    }

    fn is_within(&self, at: usize, value: &Value) -> bool {
        let (least, most) = &self.within[at];
        least.as_ref().is_none_or(|least| least.as_ref().order(value.as_ref()).is_le())
            && most.as_ref().is_none_or(|most| most.as_ref().order(value.as_ref()).is_ge())
    }
}
