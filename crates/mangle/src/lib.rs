//! What tests draw by chance: seeds that are fixed, so that nothing fails by chance, and odd inputs made of ordinary ones.
//!
//! An ordinary text is cut, doubled, spliced with another and strewn with words that its language knows and with what no language likes:
//! numbers at the ends of their types, quotes without a partner, deep nesting, characters that are none. What is made follows from a
//! seed, so that a failure can be had again.

use std::io::Write;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::OnceLock;

use proptest::test_runner::{Config, FileFailurePersistence, RngSeed};

/// The seed of all that tests draw by chance: always the same, or the number in `KAMPF_SEED`. It is told once by each program.
///
/// # Panics
/// Where `KAMPF_SEED` is no number.
pub fn seed() -> u64 {
    static SEED: OnceLock<u64> = OnceLock::new();
    *SEED.get_or_init(|| {
        let word = std::env::var("KAMPF_SEED").unwrap_or_else(|_| "0".to_owned());
        let seed = word.parse().unwrap_or_else(|_| panic!("KAMPF_SEED is a whole number from 0 on, not `{word}`"));
        // Not by a macro, whose words the tests' runner would keep to itself.
        let _ = writeln!(std::io::stderr(), "what is drawn by chance begins at seed {seed} (another: KAMPF_SEED={})", seed + 1);
        seed
    })
}

/// How a property is tried: with as many inputs, from the fixed seed; one that fails is kept beside the test and tried first from then on.
pub fn property(usual: u32) -> Config {
    Config {
        cases: u32::try_from(cases(usual as usize)).unwrap_or(u32::MAX),
        rng_seed: RngSeed::Fixed(seed()),
        failure_persistence: Some(Box::new(FileFailurePersistence::WithSource("regressions"))),
        ..Config::default()
    }
}

/// How often something is tried by chance: as often as usual, or as many times that as `KAMPF_TIMES` says.
///
/// # Panics
/// Where `KAMPF_TIMES` is no number.
pub fn often(usual: u64) -> u64 {
    let word = std::env::var("KAMPF_TIMES").unwrap_or_else(|_| "1".to_owned());
    usual * word.parse::<u64>().unwrap_or_else(|_| panic!("KAMPF_TIMES is a whole number from 1 on, not `{word}`"))
}

/// How many inputs a test tries: `KAMPF_CASES`, or the number given.
pub fn cases(usual: usize) -> usize {
    std::env::var("KAMPF_CASES").ok().and_then(|cases| cases.parse().ok()).unwrap_or(usual)
}

/// Room that Kampf gives itself for whatever somebody's text nests.
const STACK: usize = 256 << 20;

/// Works with as much room on the stack as Kampf gives itself: what nests deeply takes more of it where code is not optimised.
///
/// # Panics
/// When the work does.
pub fn with_room<T: Send>(work: impl FnOnce() -> T + Send) -> T {
    std::thread::scope(|scope| {
        let running = std::thread::Builder::new().stack_size(STACK).spawn_scoped(scope, work).expect("a thread can be started");
        running.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
}

/// Gives odd inputs to a reader that says whether it takes one. Where it panics, the test fails with the input that did it. Gives how
/// many were taken.
///
/// # Panics
/// When the reader does.
pub fn try_all(inputs: impl Iterator<Item = String> + Send, mut takes: impl FnMut(&str) -> bool + Send) -> usize {
    let work = || {
        let mut taken = 0;
        for input in inputs {
            match catch_unwind(AssertUnwindSafe(|| takes(&input))) {
                Ok(is_taken) => taken += usize::from(is_taken),
                Err(_) => return Err(input),
            }
        }
        Ok(taken)
    };
    let ended = with_room(work);
    ended.unwrap_or_else(|input| panic!("this input was too much:\n{input:?}"))
}

/// What no reader likes.
const ODD: [&str; 48] = [
    "9223372036854775807",
    "9223372036854775808",
    "-9223372036854775808",
    "18446744073709551616",
    "99999999999999999999999999999999999999999",
    "170141183460469231731687303715884105727",
    "2147483648",
    "4294967296",
    "65536",
    "-1",
    "0",
    "-0",
    "1e999",
    "1e-999",
    "0.0000000000000000000000000000000001",
    ".5",
    "1.",
    "0x",
    "NaN",
    "inf",
    "''",
    "'",
    "\"",
    "`",
    "\\",
    "\\u",
    "--",
    "/*",
    "*/",
    "$$",
    "$1",
    ";",
    "(",
    ")",
    "[",
    "]",
    "{",
    "}",
    ",",
    "..",
    "%",
    "\u{0}",
    "\u{feff}",
    "\u{202e}",
    "\u{301}",
    "ß",
    "\u{10ffff}",
    "9999-12-31 23:59:59.999999",
];

/// Pairs that nest.
const NESTS: [(&str, &str); 6] = [("(", ")"), ("[", "]"), ("{", "}"), ("not ", ""), ("-", ""), ("case when ", " end")];

/// Makes odd inputs of a corpus.
#[derive(Clone, Debug)]
pub struct Mangler<'a> {
    corpus: &'a [&'a str],
    words: &'a [&'a str],
    state: u64,
}

impl<'a> Mangler<'a> {
    /// Of a corpus of ordinary texts and the words of their language.
    ///
    /// # Panics
    /// Without a text to begin with.
    pub fn new(corpus: &'a [&'a str], words: &'a [&'a str], seed: u64) -> Mangler<'a> {
        assert!(!corpus.is_empty(), "a corpus has a text");
        Mangler { corpus, words, state: seed.wrapping_add(self::seed() << 32).wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1 }
    }

    /// A number below an end (xorshift, Marsaglia 2003).
    fn below(&mut self, end: usize) -> usize {
        self.state ^= self.state << 13;
        self.state ^= self.state >> 7;
        self.state ^= self.state << 17;
        (self.state >> 11) as usize % end.max(1)
    }

    fn word(&mut self) -> &'a str {
        match self.below(3) {
            0 => ODD[self.below(ODD.len())],
            _ if !self.words.is_empty() => self.words[self.below(self.words.len())],
            _ => ODD[self.below(ODD.len())],
        }
    }

    /// Where a text may be cut: at a character, mostly where a word begins.
    fn cut(&mut self, text: &str) -> usize {
        let at = self.below(text.len() + 1);
        let is_edge = |at: &usize| {
            let (before, after) = (text[..*at].chars().next_back(), text[*at..].chars().next());
            before.is_none_or(char::is_alphanumeric) != after.is_none_or(char::is_alphanumeric)
        };
        let mut places = (at..=text.len()).filter(|at| text.is_char_boundary(*at));
        let first = places.next().unwrap_or(text.len());
        if self.below(8) == 0 { first } else { std::iter::once(first).chain(places).find(is_edge).unwrap_or(first) }
    }

    fn range(&mut self, text: &str) -> std::ops::Range<usize> {
        let start = self.cut(text);
        let rest = &text[start..];
        // Mostly a word, sometimes any part.
        let length =
            if self.below(4) == 0 { self.cut(rest) } else { rest.find([' ', ',', '\n', '(', ')']).map_or(rest.len(), |at| at.max(1)) };
        let end = (start + length.min(rest.len())..=text.len()).find(|at| text.is_char_boundary(*at)).unwrap_or(text.len());
        start..end
    }

    /// One change.
    fn change(&mut self, text: &mut String) {
        match self.below(10) {
            0 => {
                let range = self.range(text);
                text.replace_range(range, "");
            }
            1 => {
                let range = self.range(text);
                let copy = text[range.clone()].to_owned();
                let times = 1 + self.below(3);
                text.insert_str(range.end, &copy.repeat(times));
            }
            2 => {
                let at = self.cut(text);
                text.truncate(at);
            }
            3 => {
                let other = self.corpus[self.below(self.corpus.len())];
                let (from, to) = (self.cut(other), self.cut(text));
                text.truncate(to);
                text.push_str(&other[from..]);
            }
            4 => {
                let (open, close) = NESTS[self.below(NESTS.len())];
                let depth = if self.below(50) == 0 { 5_000 } else { 1 + self.below(70) };
                let range = self.range(text);
                text.insert_str(range.end, &close.repeat(depth));
                text.insert_str(range.start, &open.repeat(depth));
            }
            5 | 6 => {
                let (at, word) = (self.cut(text), self.word());
                text.insert_str(at, &format!(" {word} "));
            }
            7 => {
                let (one, other) = (self.range(text), self.range(text));
                if one.end <= other.start {
                    let (left, right) = (text[one.clone()].to_owned(), text[other.clone()].to_owned());
                    text.replace_range(other, &left);
                    text.replace_range(one, &right);
                }
            }
            _ => {
                let (range, word) = (self.range(text), self.word());
                text.replace_range(range, word);
            }
        }
    }
}

impl Iterator for Mangler<'_> {
    type Item = String;

    fn next(&mut self) -> Option<String> {
        let mut text = self.corpus[self.below(self.corpus.len())].to_owned();
        for _ in 0..1 + self.below(6) {
            self.change(&mut text);
        }
        Some(text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const CORPUS: [&str; 2] = ["select label, frames from hive where id = 7", "ümlauts and 蜂 (nested, 1.5)"];

    #[test]
    fn inputs_differ_follow_from_the_seed_and_keep_something_of_their_corpus() {
        let made = |seed: u64| Mangler::new(&CORPUS, &["hive", "frames"], seed).take(2000).collect::<Vec<String>>();
        let inputs = made(1);
        assert_eq!(inputs, made(1));
        assert_ne!(inputs, made(2));
        let mut different: Vec<&String> = inputs.iter().collect();
        different.sort_unstable();
        different.dedup();
        assert!(different.len() > 1600, "{}", different.len());
        let known = inputs.iter().filter(|input| input.contains("label") || input.contains("nested")).count();
        assert!(known > 1000, "{known}");
        assert!(inputs.iter().any(|input| input.contains(&"(".repeat(60))));
    }

    #[test]
    #[should_panic(expected = "this input was too much:\n\"bee\"")]
    fn an_input_that_is_too_much_is_named() {
        try_all(["wax", "bee"].into_iter().map(str::to_owned), |input| {
            assert_ne!(input, "bee");
            true
        });
    }
}
