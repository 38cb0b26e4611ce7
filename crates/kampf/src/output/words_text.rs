//! The page of words (docs/words.md) as plain text: its marks and the comments of its making are for other readers.

use super::{Column, Look, Page, paint};

/// A page of Markdown, as far as docs/words.md uses it: headings, paragraphs, tables, code that is moved in, strong words.
pub(crate) fn words_text(markdown: &str) -> String {
    let mut page = Page::new();
    let mut lines = markdown.lines().peekable();
    let mut was_blank = true;
    while let Some(line) = lines.next() {
        let is_blank = line.trim().is_empty();
        match line {
            _ if line.starts_with("<!--") => continue,
            _ if is_blank && was_blank => continue,
            _ if is_blank => page.blank(),
            _ if line.starts_with('#') => page.line(paint(Look::Title, &plain(line.trim_start_matches('#').trim()))),
            _ if line.starts_with('|') => {
                let mut rows = vec![cells(line)];
                while let Some(next) = lines.next_if(|next| next.starts_with('|')) {
                    rows.push(cells(next));
                }
                table(&mut page, &rows);
            }
            _ if line.starts_with("    ") => page.line(line),
            _ => {
                let mut text = line.to_owned();
                while let Some(next) = lines.next_if(|next| is_text(next)) {
                    text = format!("{text} {}", next.trim());
                }
                page.paragraph(&plain(&text), if text.starts_with("- ") { 2 } else { 0 });
            }
        }
        was_blank = is_blank;
    }
    page.into_text()
}

/// Whether a line goes on with the paragraph before.
fn is_text(line: &str) -> bool {
    !line.trim().is_empty() && !["#", "|", "    ", "- ", "<!--"].iter().any(|start| line.starts_with(start))
}

/// A text without marks: of a link its words stay.
fn plain(text: &str) -> String {
    let mut left = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('[') {
        let link = rest[at..].find("](").and_then(|middle| Some((middle, middle + rest[at + middle..].find(')')?)));
        let Some((middle, end)) = link else { break };
        left.push_str(&rest[..at]);
        left.push_str(&rest[at + 1..at + middle]);
        rest = &rest[at + end + 1..];
    }
    left.push_str(rest);
    left.replace("**", "").replace('`', "")
}

fn cells(line: &str) -> Vec<String> {
    line.trim_matches('|').split('|').map(|cell| plain(cell.trim())).collect()
}

/// A table; one whose first cells stand for the rows below them too as lists under those.
fn table(page: &mut Page, rows: &[Vec<String>]) {
    let [head, _, rows @ ..] = rows else { return };
    if rows.iter().any(|row| row.first().is_some_and(String::is_empty)) {
        return lists(page, rows);
    }
    let columns: Vec<Column> = head.iter().map(|name| Column::left(name.as_str())).collect();
    let look = |at: usize| if at == 0 { Look::Strong } else { Look::Plain };
    let row = |row: &Vec<String>| (0..columns.len()).map(|at| (look(at), row.get(at).cloned().unwrap_or_default())).collect();
    page.table(&columns, &rows.iter().map(row).collect::<Vec<_>>());
}

fn lists(page: &mut Page, rows: &[Vec<String>]) {
    let width = |at: usize| rows.iter().filter_map(|row| row.get(at)).map(|cell| cell.chars().count()).max().unwrap_or(0);
    let (first, second) = (width(1), width(2));
    for row in rows {
        let cell = |at: usize| row.get(at).map_or("", String::as_str);
        if !cell(0).is_empty() {
            page.line(paint(Look::Strong, cell(0)));
        }
        let head = format!("  {:first$}  {:second$} ", cell(1), cell(2));
        page.hung(&head, cell(3), first + second + 6);
    }
}
