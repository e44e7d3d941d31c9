//! The nearest known word to a misspelt one.

/// The candidate nearest to `word`, if it is near enough to be what was meant.
///
/// Near enough is one mistyped letter in a word of up to five, two in longer ones; a difference in
/// case only is nearest of all. Longer words than [`LONGEST`] have none.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    measured(word, candidates).min().map(|(.., candidate)| candidate)
}

/// All candidates that are near enough with the number of slips, the likeliest first.
pub(crate) fn all_near<'a>(
    word: &str,
    candidates: impl IntoIterator<Item = &'a str>,
) -> Vec<(usize, &'a str)> {
    let mut near: Vec<_> = measured(word, candidates).collect();
    near.sort_unstable();
    near.into_iter().map(|(slips, _, candidate)| (slips, candidate)).collect()
}

/// Whether the words are the same but for one slip at most.
pub(crate) fn is_one_slip(a: &str, b: &str) -> bool {
    let letters = |text: &str| text.chars().take(LONGEST).collect::<Vec<char>>();
    distance_within(&letters(a), &letters(b), 1).is_some()
}

/// Candidates that are near enough, with how far they are and which slip it takes: letters swapped come before one
/// left out or put in, and that before one replaced.
fn measured<'a>(
    word: &str,
    candidates: impl IntoIterator<Item = &'a str>,
) -> impl Iterator<Item = (usize, u8, &'a str)> {
    let fits = word.len() <= LONGEST;
    let lower: Vec<char> = word.to_lowercase().chars().take(LONGEST).collect();
    let mut sorted = lower.clone();
    sorted.sort_unstable();
    let limit = if word.chars().count() <= 5 { 1 } else { 2 };
    let mut other: Vec<char> = Vec::new();
    let word = word.to_string();
    candidates
        .into_iter()
        .filter(move |candidate| fits && *candidate != word && candidate.len() <= LONGEST)
        .filter_map(move |candidate| {
            other.clear();
            match candidate.is_ascii() {
                true => other.extend(candidate.bytes().map(|b| char::from(b.to_ascii_lowercase()))),
                false => other.extend(candidate.to_lowercase().chars().take(LONGEST)),
            }
            let distance = distance_within(&lower, &other, limit)?;
            if distance >= other.len() {
                return None;
            }
            let replaced = other.len() == lower.len();
            other.sort_unstable();
            let slip = if other == sorted { 0 } else { 1 + u8::from(replaced) };
            Some((distance, slip, candidate))
        })
}

/// Bytes of a word that is compared with others.
const LONGEST: usize = 128;
/// Cells of a row of the table of distances.
const ROW: usize = LONGEST + 2;

/// How many letters are replaced, left out, put in or swapped with the next between two words, if that is no more than
/// `limit`.
fn distance_within(a: &[char], b: &[char], limit: usize) -> Option<usize> {
    // What both begin and end with makes no difference, and in many names it is most of them.
    let prefix = a.iter().zip(b).take_while(|(a, b)| a == b).count();
    let (a, b) = (&a[prefix..], &b[prefix..]);
    let suffix = a.iter().rev().zip(b.iter().rev()).take_while(|(a, b)| a == b).count();
    let (a, b) = (&a[..a.len() - suffix], &b[..b.len() - suffix]);
    if a.len().abs_diff(b.len()) > limit {
        return None;
    }
    // Three rows of the table of distances between their beginnings. What lies further from the diagonal than the limit
    // is further than the limit too, so only a band around it is worked out.
    let far = limit as u8 + 1;
    let (mut before, mut last, mut row) = ([far; ROW], [far; ROW], [far; ROW]);
    for (j, cell) in last.iter_mut().enumerate().take(b.len().min(limit) + 1) {
        *cell = j as u8;
    }
    for (i, &x) in a.iter().enumerate() {
        let first = i.saturating_sub(limit);
        let end = b.len().min(i + limit + 1);
        row[first] = if first == 0 { (i + 1).min(far.into()) as u8 } else { far };
        let mut least_of_row = row[first];
        for j in first..end {
            let y = b[j];
            let mut least = (last[j] + u8::from(x != y)).min(last[j + 1] + 1).min(row[j] + 1);
            if i > 0 && j > 0 && x == b[j - 1] && a[i - 1] == y {
                least = least.min(before[j - 1] + 1);
            }
            row[j + 1] = least.min(far);
            least_of_row = least_of_row.min(least);
        }
        if least_of_row >= far {
            return None;
        }
        if end < b.len() {
            row[end + 1] = far;
        }
        std::mem::swap(&mut before, &mut last);
        std::mem::swap(&mut last, &mut row);
    }
    Some(usize::from(last[b.len()])).filter(|distance| *distance <= limit)
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
            ("tdie_v", Some("tide_v")),
            ("buoy", None),
            ("lamp", None),
        ];
        for (word, wanted) in cases {
            assert_eq!(nearest(word, known), wanted, "{word}");
        }
    }

    #[test]
    fn distances_count_letters_and_swaps() {
        let cases = [
            ("tide", "tide", Some(0)),
            ("tide", "tied", Some(1)),
            ("tide", "tid", Some(1)),
            ("tide", "stride", Some(2)),
            ("lamp", "plam", Some(2)),
            ("lamp", "bell", None),
            ("fog_signal", "fgo_singal", Some(2)),
            ("", "ab", Some(2)),
        ];
        for (a, b, wanted) in cases {
            let letters = |text: &str| text.chars().collect::<Vec<char>>();
            assert_eq!(distance_within(&letters(a), &letters(b), 2), wanted, "{a} {b}");
            assert_eq!(distance_within(&letters(b), &letters(a), 2), wanted, "{b} {a}");
        }
    }
}
