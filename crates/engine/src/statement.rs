//! Places in statements, for errors.

use kampf_schema::LineColumn;

/// Characters of a statement that are shown.
const SHOWN: usize = 30;

/// Where an offset is in a statement, and what stands there, as a part of a message.
pub(crate) fn place_in(sql: &str, offset: usize) -> String {
    let place = LineColumn::of(sql, offset);
    let at = place.offset_in(sql);
    let near: String = sql[at..].lines().next().unwrap_or_default().chars().take(SHOWN).collect();
    let near = if near.is_empty() { "its end".to_owned() } else { format!("`{near}`") };
    format!(" (line {}, column {} of the statement: {near})", place.line, place.column)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_is_named_by_line_column_and_what_stands_there() {
        let sql = "SELECT ü,\n  honey FROM hive";
        assert_eq!(place_in(sql, sql.find("honey").unwrap()), " (line 2, column 3 of the statement: `honey FROM hive`)");
        assert_eq!(place_in(sql, sql.len()), " (line 2, column 18 of the statement: its end)");
    }
}
