//! An answer for people: its rows under the names that the need gives, with the rows of lists below the row that they belong to.

use kampf_contest::{Form, Item};
use kampf_schema::Value;

use super::{Column, Look, Page, paint, rows_of, shown};

/// Rows of an answer.
pub(crate) fn answer_text(page: &mut Page, items: &[Item], rows: &[Vec<Value>]) {
    if items.iter().all(|item| !matches!(item.form, Form::List(_))) {
        return page.table(&columns(items), &rows.iter().map(|row| row.iter().map(cell).collect()).collect::<Vec<_>>());
    }
    for row in rows {
        let plain = items.iter().zip(row).filter(|(item, _)| !matches!(item.form, Form::List(_)));
        let said: Vec<String> =
            plain.map(|(item, value)| format!("{} {}", paint(Look::Quiet, &shown(&item.name)), cell(value).1)).collect();
        page.paragraph(&said.join("  "), 2);
        for (item, value) in items.iter().zip(row) {
            let (Form::List(form), Value::List(rows)) = (&item.form, value) else { continue };
            let rows: Vec<Vec<Value>> = rows.iter().map(values).collect();
            page.line(format!("  {}", paint(Look::Quiet, &format!("{}, {}:", shown(&item.name), rows_of(rows.len() as u64)))));
            if rows.is_empty() {
                continue;
            }
            let mut below = Page::new();
            answer_text(&mut below, &form.items, &rows);
            below.into_text().lines().for_each(|line| page.line(format!("    {line}")));
        }
    }
}

/// The values of a row of a list.
fn values(row: &Value) -> Vec<Value> {
    match row {
        Value::List(values) => values.to_vec(),
        other => vec![other.clone()],
    }
}

fn columns(items: &[Item]) -> Vec<Column> {
    let is_number = |item: &Item| matches!(&item.form, Form::Value(kind) if kind.is_number());
    items.iter().map(|item| if is_number(item) { Column::right(shown(&item.name)) } else { Column::left(shown(&item.name)) }).collect()
}

fn cell(value: &Value) -> (Look, String) {
    match value {
        Value::Null => (Look::Quiet, "null".to_owned()),
        // Whole seconds are shown as such.
        Value::Timestamp(_) => (Look::Plain, value.to_string().trim_end_matches(".000000").to_owned()),
        other => (Look::Plain, shown(&other.to_string())),
    }
}
