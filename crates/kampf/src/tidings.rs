//! What goes on while data is filled and contests are raced, as those who do it tell it. What of that is shown, and how, is a matter of who listens.

use kampf_engine::LoadEvent;
use kampf_runner::Event;

/// Who listens.
pub(crate) trait Listener {
    /// Hears of something.
    fn hear(&mut self, tidings: Tidings<'_>);

    /// Hears a sentence.
    fn said(&mut self, text: String) {
        self.hear(Tidings::Said(text));
    }
}

/// Something that goes on.
pub(crate) enum Tidings<'a> {
    /// A sentence beside the result.
    Said(String),
    /// Sentences of which some are enough for most people.
    Warnings(&'a [String]),
    /// What was passed over, for those who want to know it.
    PassedOver(&'a [String]),
    /// Rows are looked after, and made where they are missing, until [`Tidings::Filled`].
    Fills,
    /// What a load is at.
    Load(LoadEvent<'a>),
    /// The rows are there, or cannot be.
    Filled,
    /// A contest is checked and raced with this margin, until [`Tidings::Raced`].
    Races(&'a str, f64),
    /// What its check or race is at.
    Race(&'a Event<'a>),
    /// It has come to its end.
    Raced,
}
