//! The name that was probably meant.
//!
//! A game links this module, so it brings its own measure of likeness instead of a crate of many: that of Jaro and
//! Winkler, which counts letters in common near the same place, and a common beginning more.

/// Names are compared by their first 64 characters: a wrong one may be as long as a file.
const LONGEST: usize = 64;

/// Two names this like each other are taken for one that was misspelt.
const LIKE: f64 = 0.82;

/// As [`nearest`], for an error that outlives the names.
pub fn suggestion<'a>(wrong: &str, known: impl IntoIterator<Item = &'a str>) -> Option<String> {
    nearest(wrong, known).map(str::to_owned)
}

/// The name among `known` that `wrong` was probably meant to be.
///
/// ```
/// use vestigum_spec::nearest;
/// assert_eq!(nearest("lantern", ["letters", "lanterns"]), Some("lanterns"));
/// assert_eq!(nearest("xyz", ["letters", "lanterns"]), None);
/// ```
pub fn nearest<'a>(wrong: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let wrong: Vec<char> = wrong.chars().take(LONGEST).collect();
    let mut best: Option<(f64, &str)> = None;
    for name in known {
        let score = likeness(&wrong, &name.chars().collect::<Vec<_>>());
        if score >= LIKE && best.is_none_or(|(top, _)| score > top) {
            best = Some((score, name));
        }
    }
    best.map(|(_, name)| name)
}

/// Measures how like two names are, from 0 to 1.
pub(crate) fn alike(one: &str, other: &str) -> f64 {
    let chars = |name: &str| name.chars().take(LONGEST).collect::<Vec<char>>();
    likeness(&chars(one), &chars(other))
}

/// The end of a message about a name that is not known.
pub fn did_you_mean(nearest: &Option<String>) -> String {
    nearest.as_ref().map(|name| format!("; did you mean `{name}`?")).unwrap_or_default()
}

/// Measures how like two names are, from 0 to 1.
fn likeness(a: &[char], b: &[char]) -> f64 {
    let jaro = in_common(a, b);
    let beginning = a.iter().zip(b).take(4).take_while(|(a, b)| a == b).count();
    if jaro > 0.7 { jaro + 0.1 * beginning as f64 * (1.0 - jaro) } else { jaro }
}

/// The share of characters that both have near the same place, less those that stand in another order.
fn in_common(a: &[char], b: &[char]) -> f64 {
    if a.is_empty() && b.is_empty() {
        return 1.0;
    }
    let near = (a.len().max(b.len()) / 2).saturating_sub(1);
    let mut taken = vec![false; b.len()];
    let mut of_a = Vec::new();
    for (at, c) in a.iter().enumerate() {
        let around = at.saturating_sub(near)..b.len().min(at + near + 1);
        if let Some(found) = around.into_iter().find(|place| !taken[*place] && b[*place] == *c) {
            taken[found] = true;
            of_a.push(*c);
        }
    }
    if of_a.is_empty() {
        return 0.0;
    }
    let of_b = b.iter().zip(&taken).filter(|(_, taken)| **taken).map(|(c, _)| *c);
    let moved = of_a.iter().zip(of_b).filter(|(a, b)| **a != *b).count() / 2;
    let count = of_a.len() as f64;
    (count / a.len() as f64 + count / b.len() as f64 + (count - moved as f64) / count) / 3.0
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn likeness_is_the_measure_that_it_says(a in "[a-d]{0,12}", b in "[a-d]{0,12}") {
            let chars = |text: &str| text.chars().collect::<Vec<_>>();
            let ours = likeness(&chars(&a), &chars(&b));
            prop_assert!((ours - strsim::jaro_winkler(&a, &b)).abs() < 1e-12);
        }
    }
}
