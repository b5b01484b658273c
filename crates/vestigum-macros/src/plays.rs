//! Tests for the playthroughs and promises of a spec.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use proc_macro2::TokenStream;
use quote::quote;

use crate::module::{Read, read};
use crate::names::ident;

pub(crate) fn of_file(folder: &str, path: &str, deny_open: bool) -> Result<TokenStream, String> {
    let Read { spec, has_history, .. } = read(folder, path)?;
    let full = Path::new(folder).join(path);
    let unreadable = |error: std::io::Error| format!("cannot read what is beside {}: {error}", full.display());
    let mut plays = Vec::new();
    let mut files = Vec::new();
    let mut known = BTreeMap::new();
    for file in vestigum_render::scripts_beside(&full).map_err(unreadable)? {
        let text = fs::read_to_string(&file).map_err(unreadable)?;
        let file = file.display().to_string();
        for name in playthroughs(&text) {
            let test = ident(&unused(&mut known, name));
            plays.push(quote! {
                #[test]
                fn #test() {
                    ::vestigum_verify::testing::assert_play(super::SPEC, #file, #name);
                }
            });
        }
        files.push(file);
    }
    let mut known = BTreeMap::new();
    let promises = spec.model().promises.iter().map(|promise| {
        let name = promise.name();
        let test = ident(&unused(&mut known, name));
        let assert = ident(if deny_open { "assert_promise_known" } else { "assert_promise" });
        quote! {
            #[test]
            fn #test() {
                ::vestigum_verify::testing::#assert(super::SPEC, #name);
            }
        }
    });
    let promises: Vec<TokenStream> = promises.collect();
    let migrates = has_history.then(|| {
        quote! {
            #[test]
            fn no_update_loses_a_save() {
                ::vestigum_verify::testing::assert_migrates(SPEC);
            }
        }
    });
    let module = |name: &str, tests: &[TokenStream]| {
        let name = ident(name);
        (!tests.is_empty()).then(|| quote! { mod #name { #(#tests)* } })
    };
    let (plays, promises) = (module("plays", &plays), module("promises", &promises));
    Ok(quote! {
        const SPEC: &str = ::core::concat!(::core::env!("CARGO_MANIFEST_DIR"), "/", #path);
        // What is named here builds the tests anew when it changes.
        const _: &[&[u8]] = &[
            ::core::include_bytes!(::core::concat!(::core::env!("CARGO_MANIFEST_DIR"), "/", #path)),
            #(::core::include_bytes!(#files)),*
        ];

        #[test]
        fn the_spec_is_sound() {
            ::vestigum_verify::testing::assert_sound(SPEC);
        }

        #migrates
        #plays
        #promises
    })
}

/// The names of the playthroughs of a file.
fn playthroughs(text: &str) -> impl Iterator<Item = &str> {
    text.trim_start_matches('\u{feff}').lines().filter_map(|line| {
        let rest = line.trim().strip_prefix("playthrough")?.trim().strip_prefix('"')?;
        rest.split('"').next()
    })
}

/// A name for a test that no other has.
fn unused(known: &mut BTreeMap<String, usize>, name: &str) -> String {
    let mut test = String::new();
    for c in name.chars().flat_map(char::to_lowercase) {
        match c {
            c if c.is_alphanumeric() => test.push(c),
            _ if test.ends_with('_') || test.is_empty() => {}
            _ => test.push('_'),
        }
    }
    let mut test = test.trim_end_matches('_').to_owned();
    if !test.starts_with(char::is_alphabetic) {
        test.insert_str(0, "n_");
    }
    let count = known.entry(test.clone()).or_default();
    *count += 1;
    if *count == 1 { test } else { format!("{test}_{count}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_test_is_named_after_what_it_proves() {
        let mut known = BTreeMap::new();
        let names = ["A replay lowers no record!", "a replay -- lowers no record", "3 stars", "…"];
        let tests = names.map(|name| unused(&mut known, name));
        assert_eq!(tests, ["a_replay_lowers_no_record", "a_replay_lowers_no_record_2", "n_3_stars", "n_"]);
        assert_eq!(
            playthroughs("# a\nplaythrough \"one\"\n  launch\n playthrough  \"two\" # b\n").collect::<Vec<_>>(),
            ["one", "two"]
        );
    }
}
