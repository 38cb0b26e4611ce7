//! Names: the nearest known one, for "did you mean", and the words that one is made of.

/// The candidate that reads most like `word`, where one is near enough to be meant.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let lower = word.to_lowercase();
    candidates
        .into_iter()
        .map(|candidate| (strsim::damerau_levenshtein(&lower, &candidate.to_lowercase()), candidate))
        .filter(|(distance, candidate)| *distance <= 1 + candidate.len().min(word.len()) / 4)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}

/// So many names are listed.
const FEW: usize = 32;

/// A hint for a word that is not among the candidates: the nearest one, or all of them where they are few.
pub fn did_you_mean<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<String> {
    let candidates: Vec<&str> = candidates.into_iter().collect();
    if let Some(near) = nearest(word, candidates.iter().copied()) {
        return Some(format!("did you mean `{near}`?"));
    }
    match candidates.len() {
        0 => None,
        1 => Some(format!("there is only `{}`", candidates[0])),
        2..=FEW => Some(format!("there is {}", candidates.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", "))),
        _ => Some(format!("there are {} names; none is near", candidates.len())),
    }
}

/// The words of a name: `createdAt`, `created_at` and `CREATED AT` all give "created" and "at".
pub fn name_words(name: &str) -> Vec<String> {
    let mut words: Vec<String> = vec![String::new()];
    let mut before = ' ';
    for c in name.chars() {
        if !c.is_alphanumeric() {
            words.push(String::new());
        } else {
            if c.is_uppercase() && before.is_lowercase() {
                words.push(String::new());
            }
            if let Some(word) = words.last_mut() {
                word.extend(c.to_lowercase());
            }
        }
        before = c;
    }
    words.retain(|word| !word.is_empty());
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn near_names_are_offered_and_far_ones_listed() {
        assert_eq!(nearest("inspektion", ["inspection", "hive"]), Some("inspection"));
        assert_eq!(nearest("zebra", ["inspection", "hive"]), None);
        assert_eq!(did_you_mean("zebra", ["inspection", "hive"]).as_deref(), Some("there is `inspection`, `hive`"));
        assert_eq!(did_you_mean("zebra", []), None);
    }
}
