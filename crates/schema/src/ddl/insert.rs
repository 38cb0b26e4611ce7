//! Rows that the file itself puts in.

use sqlparser::tokenizer::Token;

use super::draft::{Seed, SeedRows};
use super::read::{DdlError, Replay};
use super::tokens::Tokens;

/// A table's rows beyond this many are data, not seed.
pub(super) const MOST_ROWS: usize = 2_000;

impl Replay<'_> {
    /// Behind INSERT or REPLACE.
    pub(super) fn insert(&mut self, tokens: &mut Tokens<'_>) -> Result<(), DdlError> {
        while tokens.takes_any(&["OR", "REPLACE", "IGNORE", "LOW_PRIORITY", "DELAYED", "HIGH_PRIORITY", "ABORT", "ROLLBACK", "FAIL"]) {}
        tokens.takes(&["INTO"]);
        let name = tokens.object()?;
        let columns = match tokens.group() {
            Some(list) => Some(list.items().into_iter().map(|mut item| item.name().map(|name| name.text)).collect::<Result<Vec<_>, _>>()?),
            None => None,
        };
        let Some(at) = self.find(&name.text) else {
            self.pass_over();
            return Ok(());
        };
        if !tokens.takes_any(&["VALUES", "VALUE"]) {
            self.warn(self.statement_span, format!("the rows that this puts into `{}` are left out: they come from a query", name.text));
            return Ok(());
        }
        let mut rows = Vec::new();
        while let Some(row) = tokens.group() {
            rows.push(row.items().into_iter().map(|item| value(&item)).collect());
            if !tokens.symbol(&Token::Comma) {
                break;
            }
        }
        self.put(at, SeedRows { columns, rows });
        Ok(())
    }

    pub(super) fn put(&mut self, at: usize, mut rows: SeedRows) {
        let table = &mut self.tables[at];
        // Once a column is there that the list does not name, rows without a list would no longer fit.
        if rows.columns.is_none() && table.columns.iter().all(|column| column.computed.is_none()) {
            rows.columns = Some(table.columns.iter().map(|column| column.name.text.clone()).collect());
        }
        let room = MOST_ROWS - table.seeded;
        // Said once: what follows for the same table has no room at all.
        let too_many = rows.rows.len() > room && room > 0;
        let name = table.name.text.clone();
        rows.rows.truncate(room);
        table.seeded += rows.rows.len();
        if !rows.rows.is_empty() {
            table.seeds.push(rows);
        }
        if too_many {
            let what = format!("of the rows that the file gives for `{name}` the first {MOST_ROWS} are kept; others are generated");
            self.warn(self.statement_span, what);
        }
    }
}

/// A fixed value; none for one that is computed.
fn value(item: &Tokens<'_>) -> Option<Seed> {
    let mut item = item.clone();
    if matches!(item.peek(), Token::Word(word) if word.value.starts_with('_')) && matches!(item.ahead(1), Token::SingleQuotedString(_)) {
        item.next();
    }
    let minus = item.symbol(&Token::Minus);
    item.symbol(&Token::Plus);
    let seed = match item.next() {
        Token::Number(text, _) => Seed::Number(if minus { format!("-{text}") } else { text }),
        Token::SingleQuotedString(text)
        | Token::EscapedStringLiteral(text)
        | Token::DoubleQuotedString(text)
        | Token::NationalStringLiteral(text) => Seed::Text(text),
        Token::DollarQuotedString(text) => Seed::Text(text.value),
        Token::HexStringLiteral(text) => Seed::Bytes(text),
        Token::SingleQuotedByteStringLiteral(bits) => Seed::Number(i64::from_str_radix(&bits, 2).ok()?.to_string()),
        Token::Word(word) if word.quote_style == Some('"') => Seed::Text(word.value),
        Token::Word(word) => match word.value.to_ascii_uppercase().as_str() {
            "NULL" => Seed::Null,
            "TRUE" => Seed::Boolean(true),
            "FALSE" => Seed::Boolean(false),
            _ => return None,
        },
        _ => return None,
    };
    // A cast behind it changes nothing that matters here.
    (item.is_done() || *item.peek() == Token::DoubleColon).then_some(seed)
}
