//! Colour and width.

use std::io::IsTerminal;

use anstyle::{AnsiColor, Style};

use super::out::shown;
use crate::arguments::Color;

/// What a piece of text is, which decides its look.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Look {
    Title,
    Good,
    Bad,
    Quiet,
    Bar,
    Strong,
    Plain,
}

/// Decides once whether colour is used, for standard output and standard error alike.
pub(crate) fn choose_color(color: Color) {
    match color {
        Color::Always => anstream::ColorChoice::Always.write_global(),
        Color::Never => anstream::ColorChoice::Never.write_global(),
        Color::Auto => {}
    }
}

/// Text with its look; the stream it is printed to takes the colour away where it does not belong.
pub(crate) fn paint(look: Look, text: &str) -> String {
    let style = match look {
        Look::Title => Style::new().bold().fg_color(Some(AnsiColor::Yellow.into())),
        Look::Good => Style::new().bold().fg_color(Some(AnsiColor::Green.into())),
        Look::Bad => Style::new().bold().fg_color(Some(AnsiColor::Red.into())),
        Look::Quiet => Style::new().dimmed(),
        Look::Bar => Style::new().fg_color(Some(AnsiColor::Yellow.into())),
        Look::Strong => Style::new().bold(),
        Look::Plain => Style::new(),
    };
    if text.is_empty() { String::new() } else { format!("{style}{}{style:#}", shown(text)) }
}

/// Quiet text, each word on its own, so that wrapping does not tear the colour.
pub(crate) fn quiet_words(text: &str) -> String {
    text.split(' ').map(|word| paint(Look::Quiet, word)).collect::<Vec<_>>().join(" ")
}

/// Columns to write in: those of the terminal, else what COLUMNS says, else 100.
pub(crate) fn width() -> usize {
    let asked = || std::env::var("COLUMNS").ok()?.parse::<usize>().ok().map(|columns| columns.clamp(40, 200));
    terminal_width(&std::io::stdout()).or_else(asked).unwrap_or(100)
}

/// Columns of the terminal that a stream goes to; none where it goes elsewhere.
pub(crate) fn terminal_width(stream: &impl IsTerminal) -> Option<usize> {
    let (width, _) = terminal_size::terminal_size().filter(|_| stream.is_terminal())?;
    Some(usize::from(width.0).clamp(40, 200))
}
