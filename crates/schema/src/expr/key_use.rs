//! What an expression makes of keys: whether it would say the same if they were of another type.

use super::tree::{Comparison, Expr, Function, Node};
use crate::model::TableId;
use crate::value::Value;

/// What an expression is where keys may be of another type.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyUse {
    /// No key, whatever keys are asked for in it.
    Plain,
    /// A key of a table, or null.
    Key(TableId),
    /// A parameter, by its number: what it is compared with says what it is.
    Open(usize),
    /// Null.
    Nothing,
}

/// Why keys of another type would make it say something else, in words behind what does so.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ByValue(pub &'static str);

/// What an expression's leaves are.
pub trait KeyLeaves<L> {
    /// What a leaf is.
    ///
    /// # Errors
    /// Where a key's value counts inside of it.
    fn leaf(&mut self, leaf: &L) -> Result<KeyUse, ByValue>;

    /// Hears that a parameter stands for a key of a table.
    fn meets(&mut self, parameter: usize, table: TableId);
}

/// What is said of an expression in which a key's value counts.
const COMPARES: ByValue = ByValue("compares a key with something that is none");
const ORDERS: ByValue = ByValue("asks which of two keys is the larger one");
const COMPUTES: ByValue = ByValue("computes with a key");

impl<L> Expr<L> {
    /// What the expression is where keys may be of another type: it may ask whether a key is there and whether two of one table are the same.
    ///
    /// # Errors
    /// Where a key's value counts.
    pub fn key_use(&self, leaves: &mut dyn KeyLeaves<L>) -> Result<KeyUse, ByValue> {
        match &self.node {
            Node::Leaf(leaf) => leaves.leaf(leaf),
            Node::Literal(Value::Null) => Ok(KeyUse::Nothing),
            Node::Literal(_) => Ok(KeyUse::Plain),
            Node::Compare(Comparison::Equal | Comparison::Unequal, left, right) | Node::Same(left, right) | Node::InList(left, right) => {
                alike([left.as_ref(), right.as_ref()], leaves).map(|_| KeyUse::Plain)
            }
            Node::In(value, others) => alike(std::iter::once(value.as_ref()).chain(others), leaves).map(|_| KeyUse::Plain),
            Node::Call(Function::Coalesce, parts) => alike(parts, leaves),
            Node::Call(Function::NullIf, parts) => {
                let whole = alike(parts, leaves)?;
                Ok(if matches!(whole, KeyUse::Key(_)) { whole } else { KeyUse::Plain })
            }
            Node::Case(cases, otherwise) => {
                for (condition, _) in cases {
                    condition.key_use(leaves)?;
                }
                alike(cases.iter().map(|(_, value)| value).chain(otherwise.as_deref()), leaves)
            }
            Node::IsNull(_) | Node::Not(_) | Node::And(_) | Node::Or(_) | Node::Call(Function::Known | Function::Unknown, _) => {
                self.parts().into_iter().try_for_each(|part| part.key_use(leaves).map(drop)).map(|()| KeyUse::Plain)
            }
            Node::Compare(..) | Node::Between(..) | Node::Call(Function::Greatest | Function::Least, _) => {
                self.without_keys(ORDERS, leaves)
            }
            Node::Call(..) | Node::Arithmetic(..) | Node::Match(..) | Node::Fits(..) => self.without_keys(COMPUTES, leaves),
        }
    }

    /// What it is where no part of it may be a key.
    fn without_keys(&self, otherwise: ByValue, leaves: &mut dyn KeyLeaves<L>) -> Result<KeyUse, ByValue> {
        for part in self.parts() {
            if let KeyUse::Key(_) = part.key_use(leaves)? {
                return Err(otherwise);
            }
        }
        Ok(KeyUse::Plain)
    }
}

/// What several values are together that must be of one type: keys of one table, or no keys at all.
fn alike<'e, L: 'e>(parts: impl IntoIterator<Item = &'e Expr<L>>, leaves: &mut dyn KeyLeaves<L>) -> Result<KeyUse, ByValue> {
    let uses = parts.into_iter().map(|part| part.key_use(leaves)).collect::<Result<Vec<_>, _>>()?;
    let Some(key) = uses.iter().copied().find(|one| matches!(one, KeyUse::Key(_))) else {
        return Ok(if let [alone] = uses[..] { alone } else { KeyUse::Plain });
    };
    for one in uses {
        match (key, one) {
            (KeyUse::Key(table), KeyUse::Open(parameter)) => leaves.meets(parameter, table),
            (_, KeyUse::Nothing) => {}
            (_, one) if one == key => {}
            _ => return Err(COMPARES),
        }
    }
    Ok(key)
}
