//! The macros of Vestigum, which the crates `vestigum` and `vestigum-verify` re-export.
//!
//! [`spec!`] reads a spec when the game compiles and writes a module of types, [`tests!`] writes the tests of a spec. `module` puts
//! the types together, `enums`, `structs` and `fields` write their parts, `names` makes Rust names of the spec's, `comments`
//! finds what the document says about a thing, and `plays` finds playthroughs.

#![forbid(unsafe_code)]

mod comments;
mod enums;
mod fields;
mod module;
mod names;
mod plays;
mod structs;

use proc_macro2::{Span, TokenStream};
use quote::quote_spanned;
use syn::parse::{Parse, ParseStream};
use syn::{Attribute, Ident, LitStr, Token, Visibility, parse_macro_input};

/// `pub mod progress = "fellpost.toml";`
struct Asked {
    attributes: Vec<Attribute>,
    visibility: Visibility,
    name: Ident,
    path: LitStr,
}

impl Parse for Asked {
    fn parse(input: ParseStream<'_>) -> syn::Result<Asked> {
        let attributes = input.call(Attribute::parse_outer)?;
        let visibility = input.parse()?;
        input.parse::<Token![mod]>()?;
        let name = input.parse()?;
        input.parse::<Token![=]>()?;
        let path = input.parse()?;
        input.parse::<Option<Token![;]>>()?;
        if input.is_empty() {
            Ok(Asked { attributes, visibility, name, path })
        } else {
            Err(input.error("one module is made of one spec, as in `pub mod progress = \"fellpost.toml\";`"))
        }
    }
}

/// The spec in a file as a module of Rust types. A mistake in the spec is an error of the compiler, with the text of the spec.
///
/// ```text
/// vestigum::spec! {
///     pub mod progress = "fellpost.toml";
/// }
/// ```
///
/// The path begins at the folder of the crate's `Cargo.toml`; the history, if there is one, is read from beside the spec. The
/// module has
///
/// - `spec()`, ready with its history;
/// - an enum for the levels (`Level`), one for the keys of each set, one for each choice, one for the checkpoints of each level
///   that lists some (`MillLaneCheckpoint`), one for the exits of all levels (`Exit`), one for the codes (`Code`), and one for the
///   game's own moments (`Own`): each with `ALL`, `name()`, `Display`, `FromStr`, `Ord` in declared order and serde, and levels
///   with `title()`;
/// - a struct for each struct of the spec, with serde and a `Default` of the declared defaults;
/// - a constant for each field and derived value, typed by its value and by what it is kept for: `LETTERS`,
///   `BEST_LETTERS.at(Level::MillLane)`.
#[proc_macro]
pub fn spec(input: proc_macro::TokenStream) -> proc_macro::TokenStream {
    let Asked { attributes, visibility, name, path } = parse_macro_input!(input as Asked);
    let folder = std::env::var("CARGO_MANIFEST_DIR").unwrap_or_default();
    let module = match module::of_file(&folder, &path.value()) {
        Ok(inner) => quote::quote! {
            #(#attributes)*
            #visibility mod #name {
                #inner
            }
        },
        // The module is there and empty, so that the compiler does not take its name for that of a crate.
        Err(message) => {
            let error = failed(&message, path.span());
            quote::quote!(#error #visibility mod #name {})
        }
    };
    module.into()
}

/// Tests of a spec: that it is sound, one for each of its playthroughs (`plays::…`) and promises (`promises::…`), named after
/// them, and one of the saves of older versions, if it has a history.
///
/// ```text
/// vestigum_verify::tests!("progress.toml");
/// ```
///
/// With `deny_open` behind the path, a promise whose answer is not known, or leaves something out, fails its test, too:
/// `tests!("progress.toml", deny_open)`. Otherwise its test passes and prints why.
///
/// The path begins at the folder of the crate's `Cargo.toml`. The playthroughs are those in the folder of the spec and in the
/// folders beside it. A file that is changed builds the tests anew; after a new file, save the one with this line.
#[proc_macro]
pub fn tests(input: proc_macro::TokenStream) -> proc_macro::TokenStream {
    let Tested { path, deny_open } = parse_macro_input!(input as Tested);
    let folder = std::env::var("CARGO_MANIFEST_DIR").unwrap_or_default();
    plays::of_file(&folder, &path.value(), deny_open).unwrap_or_else(|message| failed(&message, path.span())).into()
}

/// Holds what `tests!` is given: the path of a spec, and whether open answers fail.
struct Tested {
    path: LitStr,
    deny_open: bool,
}

impl Parse for Tested {
    fn parse(input: ParseStream<'_>) -> syn::Result<Tested> {
        let path = input.parse()?;
        if input.is_empty() {
            return Ok(Tested { path, deny_open: false });
        }
        input.parse::<Token![,]>()?;
        if input.is_empty() {
            return Ok(Tested { path, deny_open: false });
        }
        let word: Ident = input.parse()?;
        if word != "deny_open" {
            return Err(syn::Error::new(word.span(), "expected `deny_open`: then open answers fail their tests"));
        }
        input.parse::<Option<Token![,]>>()?;
        Ok(Tested { path, deny_open: true })
    }
}

fn failed(message: &str, span: Span) -> TokenStream {
    quote_spanned! { span => ::core::compile_error!(#message); }
}
