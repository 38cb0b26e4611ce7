//! The ways out: everything that leaves for people or programs goes through here, where what came from files, data, programs and servers
//! is made harmless to a terminal. What is said beside a result is without passwords of URLs.

use std::io::Write;

use super::redact::{redact, replaced, secrets_in_line};
use super::style::{Look, paint};
use crate::arguments::Format;
use crate::problem::Problem;

/// Prints a result. A reader that went away has read enough.
pub(crate) fn print(text: &str) -> Result<(), Problem> {
    write_out(&clean(text))
}

/// Prints a result in the form that was asked for.
pub(crate) fn print_as(format: Format, text: &str) -> Result<(), Problem> {
    match format {
        Format::Text => print(text),
        Format::Json => print_json(text),
    }
}

/// Prints a result for programs.
pub(crate) fn print_json(json: &str) -> Result<(), Problem> {
    // JSON writes the common control characters as escapes; a terminal knows some more.
    let mut text = String::with_capacity(json.len() + 1);
    for c in json.chars() {
        match c {
            '\n' | '\t' => text.push(c),
            c if is_harmful(c) => text.push_str(&format!("\\u{:04x}", u32::from(c))),
            c => text.push(c),
        }
    }
    text.truncate(text.trim_end().len());
    if !text.is_empty() {
        text.push('\n');
    }
    write_out(&text)
}

fn write_out(text: &str) -> Result<(), Problem> {
    let mut out = anstream::stdout().lock();
    match out.write_all(text.as_bytes()).and_then(|()| out.flush()) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
            Err(Problem::surroundings(format!("cannot write the result: {error}")).because(error))
        }
        _ => Ok(()),
    }
}

/// Says something beside the result.
pub(crate) fn say(quiet: bool, text: &str) {
    if !quiet {
        let _ = writeln!(anstream::stderr(), "{}", clean(&redact(text)));
    }
}

/// Says what went wrong.
pub(crate) fn complain(problem: &Problem) {
    let _ = write!(anstream::stderr(), "{}", clean(&redact(&format!("{} {problem}", paint(Look::Bad, "kampf:")))));
}

/// Says that a fault of Kampf's own ended it: nobody who uses it can mend that.
pub(crate) fn complain_of_fault(what: &str) {
    complain_line(&format!(
        "kampf: this is a fault of Kampf's own, and ended it: {}\n  please report it, with the command line, kampf.toml, the schema as far as you may show it, and \
         what `kampf --version` says ({}); nothing that was loaded or saved before is lost",
        what.trim(),
        env!("CARGO_PKG_VERSION")
    ));
}

/// Says what is wrong with a command line, in which a password may stand anywhere.
pub(crate) fn complain_line(text: &str) {
    let text: Vec<String> = text.lines().map(|line| replaced(line, &secrets_in_line(line)).into_owned()).collect();
    let _ = writeln!(anstream::stderr(), "{}", clean(&text.join("\n")));
}

/// A text as it may leave: with no control characters but line ends, tabs and Kampf's own colours.
pub(crate) fn clean(text: &str) -> String {
    let mut clean = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        let own = if c == '\u{1b}' { OWN_COLOURS.iter().find(|code| rest.starts_with(**code)) } else { None };
        let length = own.map_or(c.len_utf8(), |code| code.len());
        match (own, c) {
            (Some(code), _) => clean.push_str(code),
            (None, '\n' | '\t') => clean.push(c),
            (None, c) => push_shown(&mut clean, c),
        }
        rest = &rest[length..];
    }
    clean
}

/// A name or value as it is shown: control characters written out. What is painted or stands in a table has gone through this.
pub(crate) fn shown(text: &str) -> String {
    let mut shown = String::with_capacity(text.len());
    text.chars().for_each(|c| push_shown(&mut shown, c));
    shown
}

/// What a program, a server or a saved result says, as a part of a line: it cannot begin a line of its own, nor colour anything.
pub(crate) fn one_line(text: &str) -> String {
    let lines: Vec<&str> = text.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
    shown(&lines.join(" "))
}

fn push_shown(text: &mut String, c: char) {
    if is_harmful(c) { text.extend(c.escape_default()) } else { text.push(c) }
}

/// The codes that [`paint`] writes.
const OWN_COLOURS: [&str; 6] = ["\u{1b}[0m", "\u{1b}[1m", "\u{1b}[2m", "\u{1b}[31m", "\u{1b}[32m", "\u{1b}[33m"];

/// Whether a character can move the cursor, start a command of the terminal, or change the order in which others are shown.
fn is_harmful(c: char) -> bool {
    c.is_control() || matches!(c, '\u{200e}' | '\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_terminal_would_obey_is_written_out_and_own_colours_stay() {
        let painted = paint(Look::Good, "hive\u{1b}]0;owned\u{7}");
        let text = format!("{painted} \u{1b}[2J\u{9b}2J a\rb\t\u{202e}c\n");
        let own = paint(Look::Good, "hive\\u{1b}]0;owned\\u{7}");
        assert_eq!(clean(&text), format!("{own} \\u{{1b}}[2J\\u{{9b}}2J a\\rb\t\\u{{202e}}c\n"));
        assert_eq!(one_line("no table\n  Take evil: \u{1b}[32mbest\r\n\n"), "no table Take evil: \\u{1b}[32mbest");
        assert_eq!(clean("plain, with ümlauts and 蜂"), "plain, with ümlauts and 蜂");
        for look in [Look::Title, Look::Good, Look::Bad, Look::Quiet, Look::Bar, Look::Strong, Look::Plain] {
            assert_eq!(clean(&paint(look, "x")), paint(look, "x"));
        }
    }
}
