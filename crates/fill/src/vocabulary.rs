//! Words, names and places that nobody has, made from syllables.

use std::sync::Arc;

use crate::random::{Random, key};

const STARTS: [&str; 24] =
    ["b", "br", "d", "f", "fl", "g", "gr", "h", "k", "kl", "l", "m", "n", "p", "r", "s", "sch", "st", "t", "tr", "v", "w", "z", ""];
const MIDDLES: [&str; 12] = ["a", "e", "i", "o", "u", "au", "ei", "ie", "ä", "ö", "ü", "oa"];
const ENDS: [&str; 16] = ["l", "n", "r", "m", "s", "t", "nd", "rn", "lm", "ch", "ft", "", "", "", "sk", "rt"];
const PLACES: [&str; 12] = ["moor", "feld", "au", "bach", "hain", "ried", "tal", "wald", "berg", "see", "rode", "furt"];
const WAYS: [&str; 6] = ["weg", "gasse", "allee", "ring", "pfad", "zeile"];
/// How many words there are.
const WORDS: usize = 4096;
/// The word of the n-th rank comes about as often as 1/(n + 2.7), as in natural texts (Zipf's law as Mandelbrot put it, 1953).
const OFFSET: f64 = 2.7;
const SLOTS: usize = 1 << 15;
/// Words by which numbers are spelled; a power of two.
const SPELLING: usize = 1024;

/// Where a word lies among all letters.
#[derive(Clone, Copy, Debug)]
struct TownWord {
    start: u32,
    bytes: u16,
    characters: u16,
}

/// The words of a dataset. They lie together, small enough for a processor's nearest memory.
#[derive(Clone, Debug)]
pub(crate) struct Vocabulary {
    letters: Arc<str>,
    places: Arc<[TownWord]>,
    /// A word for each of so many equal chances: the common ones stand there often.
    slots: Arc<[u16]>,
    /// Short words in plain letters by which numbers are spelled.
    spelling: Arc<[u16]>,
}

impl Vocabulary {
    pub(crate) fn new(seed: u64) -> Vocabulary {
        let key = key(seed, "words");
        let mut words: Vec<String> = Vec::with_capacity(WORDS);
        let mut seen = std::collections::HashSet::new();
        let mut number = 0;
        while words.len() < WORDS {
            let mut random = Random::at(key, number);
            // Common words are short.
            let syllables = 1 + random.below(1 + (words.len() as u64).ilog2_or_0() / 4) as usize;
            number += 1;
            let word = made_up(&mut random, syllables);
            if word.chars().count() > 1 && seen.insert(word.clone()) {
                words.push(word);
            }
        }
        let weight = |rank: usize| 1.0 / (rank as f64 + 1.0 + OFFSET);
        let all: f64 = (0..WORDS).map(weight).sum();
        let mut slots = Vec::with_capacity(SLOTS);
        let mut sum = 0.0;
        for rank in 0..WORDS {
            sum += weight(rank);
            let end = (sum / all * SLOTS as f64) as usize;
            slots.resize(end.max(slots.len() + 1).min(SLOTS), rank as u16);
        }
        slots.resize(SLOTS, 0);
        let mut letters = String::new();
        let places = words.iter().map(|word| {
            let start = letters.len() as u32;
            letters.push_str(word);
            TownWord { start, bytes: word.len() as u16, characters: word.chars().count() as u16 }
        });
        let places: Vec<TownWord> = places.collect();
        let is_short = |at: &u16| words[usize::from(*at)].is_ascii() && words[usize::from(*at)].len() <= 9;
        let mut spelling: Vec<u16> = (0..WORDS as u16).filter(is_short).collect();
        spelling.truncate(SPELLING);
        Vocabulary { letters: letters.into(), places: places.into(), slots: slots.into(), spelling: spelling.into() }
    }

    /// A number as one word, or two: different numbers are spelled differently, whatever stands before them. None for numbers with which
    /// no two words are left. Another key spells all numbers otherwise.
    pub(crate) fn spell(&self, number: u64, key: u64) -> Option<(&str, Option<&str>)> {
        let all = self.spelling.len() as u64;
        // One half of the words stands alone, the other half behind another word.
        let half = all / 2;
        let word = |at: u64| {
            let TownWord { start, bytes, .. } = self.places[usize::from(self.spelling[at as usize])];
            &self.letters[start as usize..start as usize + usize::from(bytes)]
        };
        // Halves and wholes are powers of two, in which an odd factor leaves no number out.
        let mixed = |number: u64, of: u64| (number.wrapping_mul(key | 1).wrapping_add(key >> 32)) & (of - 1);
        match number.checked_sub(half) {
            None => Some((word(mixed(number, half)), None)),
            Some(more) if more < half * all => {
                let more = mixed(more, half * all);
                Some((word(half + more / all), Some(word(more % all))))
            }
            Some(_) => None,
        }
    }

    /// A word; those at the front of the vocabulary come more often.
    pub(crate) fn word(&self, random: &mut Random) -> &str {
        self.counted_word(random).0
    }

    /// A word, and how many characters it has.
    #[inline]
    fn counted_word(&self, random: &mut Random) -> (&str, u64) {
        let at = (random.next() >> (64 - SLOTS.trailing_zeros())) as usize;
        let TownWord { start, bytes, characters } = self.places[usize::from(self.slots[at])];
        let start = start as usize;
        (&self.letters[start..start + usize::from(bytes)], u64::from(characters))
    }

    pub(crate) fn words(&self, random: &mut Random, count: u64, out: &mut String) {
        for at in 0..count {
            if at > 0 {
                out.push(' ');
            }
            out.push_str(self.word(random));
        }
    }

    /// Sentences of exactly so many characters.
    pub(crate) fn text(&self, random: &mut Random, characters: u64, out: &mut String) {
        let start = out.len();
        let mut length = 0;
        let mut left_in_sentence = 0;
        while length < characters {
            if length > 0 {
                if left_in_sentence == 0 {
                    out.push('.');
                    length += 1;
                }
                out.push(' ');
                length += 1;
            }
            let (word, own) = self.counted_word(random);
            if left_in_sentence == 0 {
                left_in_sentence = 4 + random.below(12);
                capital(word, out);
            } else {
                out.push_str(word);
            }
            left_in_sentence -= 1;
            length += own;
        }
        for _ in characters..length {
            out.pop();
        }
        // A text may not end in a space, which some engines and forms do not keep.
        if out.len() > start && out.ends_with(' ') {
            out.pop();
            out.push('.');
        }
    }

    pub(crate) fn first_name(&self, random: &mut Random, out: &mut String) {
        // There are fewer first names than people: the common ones are common.
        let rank = (random.unit() * random.unit() * 400.0) as u64;
        capital(&made_up(&mut Random::at(0x6669_7273, rank), 2), out);
    }

    pub(crate) fn last_name(&self, random: &mut Random, out: &mut String) {
        let rank = (random.unit() * random.unit() * 3000.0) as u64;
        let mut of_rank = Random::at(0x6c61_7374, rank);
        let syllables = 1 + of_rank.below(2) as usize;
        capital(&(made_up(&mut of_rank, syllables) + "er"), out);
    }

    pub(crate) fn name(&self, random: &mut Random, out: &mut String) {
        self.first_name(random, out);
        out.push(' ');
        self.last_name(random, out);
    }

    pub(crate) fn place(&self, random: &mut Random, out: &mut String) {
        let syllables = 1 + random.below(2) as usize;
        capital(&made_up(random, syllables), out);
        out.push_str(PLACES[random.below(PLACES.len() as u64) as usize]);
    }

    pub(crate) fn street(&self, random: &mut Random, out: &mut String) {
        let syllables = 1 + random.below(2) as usize;
        capital(&made_up(random, syllables), out);
        out.push_str(WAYS[random.below(WAYS.len() as u64) as usize]);
        *out += &format!(" {}", 1 + random.below(120));
    }

    /// Words joined by hyphens, in the letters that addresses may hold.
    pub(crate) fn slug(&self, random: &mut Random, count: u64, out: &mut String) {
        for at in 0..count {
            if at > 0 {
                out.push('-');
            }
            plain(self.word(random), out);
        }
    }
}

trait Log2 {
    fn ilog2_or_0(self) -> u64;
}

impl Log2 for u64 {
    fn ilog2_or_0(self) -> u64 {
        if self == 0 { 0 } else { u64::from(self.ilog2()) }
    }
}

/// A text in small letters without accents, what is no letter or digit left out or made a hyphen.
pub(crate) fn plain(text: &str, out: &mut String) {
    let start = out.len();
    for c in text.chars() {
        match c {
            'ä' | 'Ä' => out.push_str("ae"),
            'ö' | 'Ö' => out.push_str("oe"),
            'ü' | 'Ü' => out.push_str("ue"),
            c if c.is_ascii_alphanumeric() => out.push(c.to_ascii_lowercase()),
            _ if out.len() > start && !out.ends_with('-') => out.push('-'),
            _ => {}
        }
    }
    while out.len() > start && out.ends_with('-') {
        out.pop();
    }
}

/// Shortens the text that begins at `start` to so many characters.
pub(crate) fn cut(out: &mut String, start: usize, characters: u64) {
    // Most texts are short enough in bytes already.
    if (out.len() - start) as u64 <= characters {
        return;
    }
    if let Some((end, _)) = out[start..].char_indices().nth(usize::try_from(characters).unwrap_or(usize::MAX)) {
        out.truncate(start + end);
    }
}

fn made_up(random: &mut Random, syllables: usize) -> String {
    let mut word = String::new();
    let mut pick = |from: &[&'static str]| from[random.below(from.len() as u64) as usize];
    for _ in 0..syllables {
        word += pick(&STARTS);
        word += pick(&MIDDLES);
        word += pick(&ENDS);
    }
    word
}

pub(crate) fn capital(word: &str, out: &mut String) {
    let mut letters = word.chars();
    if let Some(first) = letters.next() {
        out.extend(first.to_uppercase());
        out.push_str(letters.as_str());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_have_the_length_asked_for_and_common_words_are_common() {
        let words = Vocabulary::new(1);
        let mut counts = std::collections::HashMap::new();
        for row in 0..2000 {
            let mut random = Random::at(5, row);
            let mut text = "before".to_owned();
            words.text(&mut random, 1 + row % 90, &mut text);
            assert_eq!(text["before".len()..].chars().count() as u64, 1 + row % 90);
            assert!(!text.ends_with(' '));
            *counts.entry(words.word(&mut random).to_owned()).or_insert(0) += 1;
        }
        let mut counts: Vec<i32> = counts.into_values().collect();
        counts.sort_unstable_by(|left, right| right.cmp(left));
        assert!(counts[0] > 40 && counts[0] > 5 * counts[20] && counts.len() > 500, "{counts:?}");
    }

    #[test]
    fn numbers_are_spelled_differently_as_long_as_there_are_words() {
        for seed in 1..4 {
            let words = Vocabulary::new(seed);
            assert_eq!(words.spelling.len(), SPELLING);
            let mut seen = std::collections::HashSet::new();
            for number in 0..30_000 {
                let (last, before) = words.spell(number, 0x9e37_79b9_7f4a_7c15 ^ seed).unwrap();
                let text = before.map_or_else(|| last.to_owned(), |before| format!("{before} {last}"));
                assert!(text.is_ascii() && text.len() <= 19, "{text}");
                // The last word says whether another one belongs to it.
                assert!(seen.insert((last.to_owned(), before.map(str::to_owned))), "{number}: {text}");
                assert!(!seen.contains(&(last.to_owned(), None)) || before.is_none(), "{number}: {text}");
            }
            let half = SPELLING as u64 / 2;
            assert!(words.spell(half * SPELLING as u64 + half - 1, 5).is_some() && words.spell(half * SPELLING as u64 + half, 5).is_none());
        }
    }

    #[test]
    fn addresses_hold_plain_letters_only() {
        let mut out = String::new();
        plain("Größe, über 7!", &mut out);
        assert_eq!(out, "groe-e-ueber-7");
    }
}
