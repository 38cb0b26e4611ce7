//! Words, names and places that nobody has, made from syllables.

use crate::random::{Random, key};

const STARTS: [&str; 24] =
    ["b", "br", "d", "f", "fl", "g", "gr", "h", "k", "kl", "l", "m", "n", "p", "r", "s", "sch", "st", "t", "tr", "v", "w", "z", ""];
const MIDDLES: [&str; 12] = ["a", "e", "i", "o", "u", "au", "ei", "ie", "ä", "ö", "ü", "oa"];
const ENDS: [&str; 16] = ["l", "n", "r", "m", "s", "t", "nd", "rn", "lm", "ch", "ft", "", "", "", "sk", "rt"];
const PLACES: [&str; 12] = ["moor", "feld", "au", "bach", "hain", "ried", "tal", "wald", "berg", "see", "rode", "furt"];
const WORDS: u64 = 2048;

/// The words of a dataset.
#[derive(Clone, Debug)]
pub(crate) struct Vocabulary {
    words: Vec<String>,
}

impl Vocabulary {
    pub(crate) fn new(seed: u64) -> Vocabulary {
        let key = key(seed, "words");
        let mut words: Vec<String> = Vec::with_capacity(WORDS as usize);
        let mut seen = std::collections::HashSet::new();
        let mut number = 0;
        while words.len() < WORDS as usize {
            let mut random = Random::at(key, number);
            number += 1;
            let word = made_up(&mut random, 1 + (number % 3) as usize);
            if word.chars().count() > 1 && seen.insert(word.clone()) {
                words.push(word);
            }
        }
        Vocabulary { words }
    }

    /// A word; those at the front of the vocabulary come more often.
    pub(crate) fn word(&self, random: &mut Random) -> &str {
        let place = random.unit();
        &self.words[(place * place * place * WORDS as f64) as usize]
    }

    pub(crate) fn words(&self, random: &mut Random, count: u64, out: &mut String) {
        for at in 0..count {
            if at > 0 {
                out.push(' ');
            }
            out.push_str(self.word(random));
        }
    }

    /// Text of exactly so many characters.
    pub(crate) fn text(&self, random: &mut Random, characters: u64, out: &mut String) {
        let start = out.len();
        let mut length = 0;
        while length < characters {
            if length > 0 {
                out.push(' ');
                length += 1;
            }
            let word = self.word(random);
            out.push_str(word);
            length += word.chars().count() as u64;
        }
        cut(out, start, characters);
        if out[start..].ends_with(' ') {
            out.pop();
            out.push('.');
        }
    }

    pub(crate) fn name(&self, random: &mut Random, out: &mut String) {
        capital(&made_up(random, 2), out);
        out.push(' ');
        let syllables = 1 + random.below(2) as usize;
        capital(&(made_up(random, syllables) + "er"), out);
    }

    pub(crate) fn place(&self, random: &mut Random, out: &mut String) {
        let syllables = 1 + random.below(2) as usize;
        capital(&made_up(random, syllables), out);
        out.push_str(PLACES[random.below(PLACES.len() as u64) as usize]);
    }
}

/// Shortens the text that begins at `start` to so many characters.
pub(crate) fn cut(out: &mut String, start: usize, characters: u64) {
    if let Some((end, _)) = out[start..].char_indices().nth(characters as usize) {
        out.truncate(start + end);
    }
}

fn made_up(random: &mut Random, syllables: usize) -> String {
    let mut word = String::new();
    for _ in 0..syllables {
        word.push_str(STARTS[random.below(STARTS.len() as u64) as usize]);
        word.push_str(MIDDLES[random.below(MIDDLES.len() as u64) as usize]);
        word.push_str(ENDS[random.below(ENDS.len() as u64) as usize]);
    }
    word
}

fn capital(word: &str, out: &mut String) {
    let mut letters = word.chars();
    if let Some(first) = letters.next() {
        out.extend(first.to_uppercase());
    }
    out.push_str(letters.as_str());
}
