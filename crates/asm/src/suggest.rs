//! The nearest known word to a misspelt one.

/// The candidate nearest to `word`, if it is near enough to be what was meant.
///
/// Near enough is one mistyped letter in a word of up to four, two in longer ones; a difference in
/// case only is nearest of all.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let lower = word.to_lowercase();
    let limit = if word.chars().count() <= 4 { 1 } else { 2 };
    candidates
        .into_iter()
        .filter(|candidate| *candidate != word)
        .map(|candidate| {
            let distance = if candidate.to_lowercase() == lower {
                0
            } else {
                strsim::damerau_levenshtein(&lower, &candidate.to_lowercase())
            };
            (distance, candidate)
        })
        .filter(|(distance, candidate)| *distance <= limit && *distance < candidate.chars().count())
        .min_by_key(|(distance, candidate)| (*distance, *candidate))
        .map(|(_, candidate)| candidate)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn near_words_are_found_and_far_ones_are_not() {
        let known = ["tide_v", "lamp", "fog_signal"];
        let cases = [
            ("tide_V", Some("tide_v")),
            ("lmap", Some("lamp")),
            ("fog_singal", Some("fog_signal")),
            ("buoy", None),
            ("lamp", None),
        ];
        for (word, wanted) in cases {
            assert_eq!(nearest(word, known), wanted, "{word}");
        }
    }
}
