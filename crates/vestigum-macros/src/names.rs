//! Rust names for the names of a spec.

use proc_macro2::{Ident, Span};

/// Words that cannot be names even with `r#` before them.
const NEVER_RAW: [&str; 5] = ["self", "Self", "super", "crate", "_"];

/// `mill_lane` as `MillLane`.
pub(crate) fn camel(name: &str) -> String {
    let words = name.split('_').filter(|word| !word.is_empty()).map(|word| {
        let mut letters = word.chars();
        letters.next().into_iter().flat_map(char::to_uppercase).chain(letters).collect::<String>()
    });
    let camel: String = words.collect();
    if camel.starts_with(|c: char| c.is_alphabetic()) { camel } else { format!("N{camel}") }
}

/// `best_letters` as `BEST_LETTERS`.
pub(crate) fn screaming(name: &str) -> String {
    name.to_uppercase()
}

/// A name as an identifier, with `r#` or a line behind it where Rust has the word for itself.
pub(crate) fn ident(name: &str) -> Ident {
    if NEVER_RAW.contains(&name) {
        return Ident::new(&format!("{name}_"), Span::call_site());
    }
    syn::parse_str(name).unwrap_or_else(|_| Ident::new_raw(name, Span::call_site()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_name_of_a_spec_is_a_name_in_rust() {
        let camels = [("mill_lane", "MillLane"), ("_1", "N1"), ("a__b", "AB"), ("self", "Self"), ("élan", "Élan")];
        camels.iter().for_each(|(name, expected)| assert_eq!(camel(name), *expected));
        let idents = [("type", "r#type"), ("self", "self_"), ("Self", "Self_"), ("letters", "letters")];
        idents.iter().for_each(|(name, expected)| assert_eq!(ident(name).to_string(), *expected));
    }
}
