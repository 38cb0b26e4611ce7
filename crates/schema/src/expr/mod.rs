//! Conditions and values: of needs, of checks in a schema, of SQL statements; and value recipes and row counts.
//!
//! One tree ([`Expr`], over what stands at its leaves), one evaluator ([`Scope`]), one type check ([`check`]). The parser of needs
//! notes the place of every part, so that an error can point at it.
//!
//! ```text
//! condition = both { "or" both }            both    = negated { "and" negated }
//! negated   = { "not" } test
//! test      = sum [ ( "=" | "<>" | "<" | "<=" | ">" | ">=" ) sum | "is" [ "not" ] "null" | [ "not" ] more ]
//! more      = "in" ( "(" sum { "," sum } ")" | parameter ) | "between" sum "and" sum
//!           | ( "like" | "contains" | "starts" | "ends" ) sum | "matches" text
//! sum       = product { ( "+" | "-" | "||" ) product }
//! product   = unary { ( "*" | "/" | "%" ) unary }
//! unary     = { "-" } primary
//! primary   = literal | parameter | path | "(" condition ")" | function | aggregate | pick | "exists" "(" source ")"
//!           | "if" "(" parameter "," condition ")"
//!           | "case" "when" condition "then" condition { "when" … } [ "else" condition ] "end"
//! function  = name "(" condition { "," condition } ")" | "extract" "(" part "from" condition ")" | "start_of" "(" part "," condition ")"
//! aggregate = name "(" [ [ "distinct" ] condition [ "from" source ] | source ] ")"
//! pick      = ( "first" | "last" ) "(" source "order" order { "," order } ")" "." path
//! source    = path [ "where" condition ]
//! list      = source [ "order" order { "," order } ] [ "limit" number ] "{" give { "," give } "}"
//! parameter = ":" name                      path    = name { "." name }
//! give      = ( condition | list ) [ "as" name ]
//! order   = condition [ "asc" | "desc" ]
//! recipe    = [ "unique" ] value [ "in" literal ".." literal ] [ "or" "null" number "%" ]
//! value     = literal [ ".." literal ] | name [ "(" [ argument { "," argument } ] ")" ]
//!           | "{" [ name ":" recipe { "," name ":" recipe } ] "}"
//! argument  = literal [ number ] | literal ".." literal | name [ "." name ] | name number | recipe
//!           | literal ":" recipe | "else" ":" recipe
//! rows      = number | children "per" [ number "%" "of" ] name
//! children  = number [ ".." number ] | "poisson" "(" number ")" | "heavy" "(" number ")"
//! ```

mod check;
mod evaluate;
mod functions;
mod grammar;
mod key_use;
mod kind;
mod pattern;
mod print;
mod read;
mod recipe;
mod rule;
mod tree;
mod written;

pub use check::{Kinds, Mistake, check};
pub use evaluate::Scope;
pub use grammar::{read_condition, read_give, read_order};
pub use key_use::{ByValue, KeyLeaves, KeyUse};
pub use kind::{fit, kind_of, parse_uuid};
pub use pattern::Pattern;
pub(crate) use pattern::glob;
pub use read::ReadError;
pub use recipe::{Argument, Children, Recipe, RecipeSource, RowCount, read_recipe, read_row_count};
pub use rule::{Row, Rule};
pub use tree::{Comparison, Expr, Function, Name, Node, Operator, Part, TextMatch};
pub use written::{Give, OrderTerm, Written, WrittenAggregate, WrittenList, WrittenPick, WrittenSource};

#[cfg(test)]
mod tests;
