//! The expression grammar: needs (`give`, `where`, `order`), value recipes and row counts.
//!
//! One parser reads them all and notes the place of every part, so that an error can point at it. What a text means for a
//! schema is found out by those who use the tree; here only its form counts.
//!
//! ```text
//! condition = both { "or" both }            both    = negated { "and" negated }
//! negated   = { "not" } test                test    = "(" condition ")" | operand [ comparison ]
//! operand   = literal | ":" name | name "(" [ operand { "," operand } ] ")" | path
//! give      = operand [ "as" name ]         order   = operand [ "asc" | "desc" ]
//! recipe    = [ "unique" ] source [ "in" literal ".." literal ] [ "or" "null" number "%" ]
//! source    = literal [ ".." literal ] | name [ "(" [ argument { "," argument } ] ")" ]
//!           | "{" [ name ":" recipe { "," name ":" recipe } ] "}"
//! argument  = literal [ number ] | literal ".." literal | name [ "." name ] | recipe
//!           | literal ":" recipe | "else" ":" recipe
//! rows      = number | children "per" [ number "%" "of" ] name
//! children  = number [ ".." number ] | "poisson" "(" number ")" | "heavy" "(" number ")"
//! ```

mod print;
mod read;
mod recipe;
mod tree;

pub use read::{ReadError, read_condition, read_give, read_order};
pub use recipe::{Argument, Children, Recipe, RowCount, Source, read_recipe, read_row_count};
pub use tree::{Comparison, Expr, Give, Name, Node, OrderTerm, TextMatch};

#[cfg(test)]
mod tests;
