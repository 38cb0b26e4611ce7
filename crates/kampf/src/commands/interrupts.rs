//! The user's wish to stop. Before there is anything to keep, while rows are made, it ends the program.

use std::io::IsTerminal;
use std::sync::Once;
use std::sync::atomic::{AtomicBool, Ordering};

use kampf_runner::{Inbox, ending_signals};
use signal_hook::iterator::Signals;
use signal_hook::low_level::emulate_default_handler;

use crate::output::say;
use crate::problem::{Problem, SURROUNDINGS};

/// Whether rows are being made.
static FILLING: AtomicBool = AtomicBool::new(false);
/// Whether somebody else looks after signals, who has something to keep.
static HEEDED: AtomicBool = AtomicBool::new(false);

/// Rows are being made for as long as this is there: a signal then ends the program, and says what becomes of them.
pub(super) struct Filling;

impl Filling {
    pub(super) fn begins() -> Filling {
        static ONCE: Once = Once::new();
        ONCE.call_once(|| {
            // Where signals cannot be caught, one ends the program all the same, without a word.
            if let Ok(signals) = Signals::new(ending_signals()) {
                let _ = std::thread::Builder::new().spawn(|| listen(signals));
            }
        });
        FILLING.store(true, Ordering::SeqCst);
        Filling
    }
}

impl Drop for Filling {
    fn drop(&mut self) {
        FILLING.store(false, Ordering::SeqCst);
    }
}

/// Has an inbox heed Ctrl-C from now on. A fill is not to wait for its end: until then the signal ends the program.
pub(super) fn heed(inbox: &Inbox) -> Result<(), Problem> {
    HEEDED.store(true, Ordering::SeqCst);
    inbox.heed_signals().map_err(|error| Problem::surroundings(format!("cannot listen for signals: {error}")).because(error))
}

/// Where the user's wish to stop arrives.
pub(super) fn inbox() -> Result<Inbox, Problem> {
    Inbox::new().map_err(|error| Problem::surroundings(format!("cannot listen for signals: {error}")).because(error))
}

fn listen(mut signals: Signals) {
    for signal in signals.forever() {
        if HEEDED.load(Ordering::SeqCst) {
            continue;
        }
        if FILLING.load(Ordering::SeqCst) {
            if std::io::stderr().is_terminal() {
                // The line that tells how far it was.
                say(false, "");
            }
            say(false, "interrupted while rows were made; the next command removes what is there of them and begins anew");
            std::process::exit(SURROUNDINGS.into());
        }
        // As if nobody had listened.
        let _ = emulate_default_handler(signal);
    }
}
