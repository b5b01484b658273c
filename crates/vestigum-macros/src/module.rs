//! The module of a spec.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use proc_macro2::TokenStream;
use quote::quote;

use vestigum_spec::history::choices;
use vestigum_spec::model::Model;
use vestigum_spec::model::level::Level;
use vestigum_spec::{CheckedSpec, History};

use crate::comments::comment;
use crate::enums::{self, Name, Names};
use crate::names::{camel, ident};
use crate::{fields, structs};

/// A spec in a file, with its history if there is one beside it.
pub(crate) struct Read {
    pub spec: CheckedSpec,
    pub text: String,
    pub has_history: bool,
}

/// Reads a spec, or says what the compiler says.
pub(crate) fn read(folder: &str, path: &str) -> Result<Read, String> {
    let full = Path::new(folder).join(path);
    let unreadable = |error| format!("cannot read the spec at {}: {error}", full.display());
    let text = fs::read_to_string(&full).map_err(unreadable)?;
    let beside = full.with_extension("history.json");
    let history = match fs::read_to_string(&beside) {
        Ok(text) => Some(text),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => None,
        Err(error) => return Err(format!("cannot read the history at {}: {error}", beside.display())),
    };
    let rendered = |findings: vestigum_spec::Diagnostics| format!("\n{}\n", vestigum_render::render(&findings, false));
    let spec = match &history {
        Some(history) => {
            let name = Path::new(path).with_extension("history.json");
            let history = History::from_json(&name.display().to_string(), history).map_err(rendered)?;
            CheckedSpec::from_named_toml_with_history(path, &text, history).map_err(rendered)?
        }
        None => CheckedSpec::from_named_toml(path, &text).map_err(rendered)?,
    };
    Ok(Read { spec, text, has_history: history.is_some() })
}

/// Returns what is in the module of the spec in a file, or what the compiler says.
pub(crate) fn of_file(folder: &str, path: &str) -> Result<TokenStream, String> {
    let Read { spec, text, has_history } = read(folder, path)?;
    let enums = enums_of(spec.model(), &text);
    unambiguous(spec.model(), &enums)?;
    Ok(written(&spec, &enums, path, has_history, &text))
}

/// All enums of the spec, in the order of the document.
fn enums_of(model: &Model, text: &str) -> Vec<Names> {
    let levels =
        model.levels.iter().map(|level| Name { name: level.id().to_owned(), title: Some(level.title().to_owned()) });
    let mut found = vec![Names {
        ident: "Level".into(),
        doc: "The levels, in the order of the spec.".into(),
        names: levels.collect(),
        titled: true,
        is_axis: true,
        what: "level".into(),
    }];
    for level in model.levels.iter().filter(|level| level.checkpoints().len() > 0) {
        found.push(Names {
            ident: format!("{}Checkpoint", camel(level.id())),
            doc: format!("The checkpoints of {}, in the order of the way.", level.title()),
            names: level.checkpoints().map(Name::plain).collect(),
            titled: false,
            is_axis: false,
            what: format!("checkpoint of {}", level.id()),
        });
    }
    for set in model.key_sets.iter().filter(|set| set.max().is_none()) {
        let said = comment(text, &format!("keys.{}", set.name()), None);
        found.push(Names {
            ident: camel(set.name()),
            doc: if said.is_empty() { format!("The keys of the set `{}`.", set.name()) } else { said },
            names: set.names().map(Name::plain).collect(),
            titled: false,
            is_axis: true,
            what: set.name().to_owned(),
        });
    }
    let mut choice = |ident: String, of: &str, ty| {
        if let Some(names) = choices(ty) {
            found.push(Names {
                ident,
                doc: format!("What `{of}` can be, in declared order."),
                names: names.iter().map(|chosen| Name::plain(chosen.name())).collect(),
                titled: false,
                is_axis: false,
                what: format!("choice of {of}"),
            });
        }
    };
    for of in &model.structs {
        for member in of.members() {
            let ident = structs::choice_of_member(of, member.name());
            choice(ident, &format!("{}.{}", of.name(), member.name()), member.ty());
        }
    }
    model.fields.iter().for_each(|field| choice(camel(field.name()), field.name(), field.ty()));
    let mut exits: Vec<&str> = model.levels.iter().flat_map(Level::exits).collect();
    exits.sort_unstable();
    exits.dedup();
    if !exits.is_empty() {
        found.push(Names {
            ident: "Exit".into(),
            doc: "The exits of all levels.".into(),
            names: exits.into_iter().map(Name::plain).collect(),
            titled: false,
            is_axis: false,
            what: "exit".into(),
        });
    }
    if !model.codes.is_empty() {
        found.push(Names {
            ident: "Code".into(),
            doc: "The codes.".into(),
            names: model.codes.iter().map(|code| Name::plain(code.name())).collect(),
            titled: false,
            is_axis: false,
            what: "code".into(),
        });
    }
    if !model.own_moments.is_empty() {
        found.push(Names {
            ident: "Own".into(),
            doc: "The game's own moments.".into(),
            names: model.own_moments.iter().map(|name| Name::plain(name)).collect(),
            titled: false,
            is_axis: false,
            what: "moment of the game's own".into(),
        });
    }
    found
}

/// That no two things have one Rust name.
fn unambiguous(model: &Model, enums: &[Names]) -> Result<(), String> {
    let mut types: BTreeMap<String, String> = BTreeMap::new();
    types.insert("Checkpoint".into(), "all checkpoints".into());
    types.insert("UnknownName".into(), "the error for a name".into());
    let structs = model.structs.iter().map(|of| (camel(of.name()), format!("the struct `{}`", of.name())));
    let enums_of = enums.iter().map(|names| (names.ident.clone(), names.doc.clone()));
    for (ident, what) in enums_of.chain(structs) {
        if let Some(other) = types.insert(ident.clone(), what.clone()) {
            return Err(format!("two things of the spec would both be the Rust type `{ident}`: {other}, and {what}"));
        }
    }
    for names in enums {
        let mut variants = BTreeMap::new();
        for name in &names.names {
            if let Some(other) = variants.insert(camel(&name.name), &name.name) {
                let ident = &names.ident;
                return Err(format!("`{other}` and `{}` would both be `{ident}::{}`", name.name, camel(&name.name)));
            }
        }
    }
    Ok(())
}

fn written(spec: &CheckedSpec, enums: &[Names], path: &str, has_history: bool, text: &str) -> TokenStream {
    let model = spec.model();
    let text_of =
        |path: &str| quote!(::core::include_str!(::core::concat!(::core::env!("CARGO_MANIFEST_DIR"), "/", #path)));
    let spec_text = text_of(path);
    let read = if has_history {
        let history_path = Path::new(path).with_extension("history.json").display().to_string();
        let history_text = text_of(&history_path);
        quote! {
            g::History::from_json(#history_path, #history_text)
                .and_then(|history| g::Spec::from_named_toml_with_history(#path, TEXT, history))
        }
    } else {
        quote!(g::Spec::from_named_toml(#path, TEXT))
    };
    let all_enums = enums.iter().map(enums::write);
    let all_structs = model.structs.iter().map(|of| structs::write(of, text));
    let consts = model.fields.iter().filter_map(|field| fields::field(model, field, text));
    let derived = (0u32..).zip(&model.derived).filter(|(_, derived)| !derived.is_of_key);
    let derived = derived.map(|(index, derived)| fields::derived(model, index, derived, text));
    let doc = format!(
        "The spec of {}, version {}, as Rust types: `{path}`.\n\n[`spec`] is the spec itself; a constant stands for each field and \
         derived value, an enum for each list of names, a struct for each struct.",
        model.title.as_str(),
        model.version,
    );
    let checkpoints = checkpoints(model);
    quote! {
        #![doc = #doc]
        #![allow(clippy::all, dead_code, reason = "generated from a spec")]
        use ::vestigum::generated as g;

        /// The spec, with its history where there is one. It is read once.
        pub fn spec() -> &'static g::Spec {
            static SPEC: ::std::sync::OnceLock<g::Spec> = ::std::sync::OnceLock::new();
            SPEC.get_or_init(|| {
                const TEXT: &str = #spec_text;
                let read = #read;
                // The compiler has read the same text.
                read.unwrap_or_else(|findings| ::core::panic!("{findings}"))
            })
        }

        /// No such name is in the spec.
        #[derive(Clone, Debug, PartialEq, Eq)]
        pub struct UnknownName(::std::string::String);

        impl ::core::fmt::Display for UnknownName {
            fn fmt(&self, f: &mut ::core::fmt::Formatter<'_>) -> ::core::fmt::Result {
                f.write_str(&self.0)
            }
        }

        impl ::core::error::Error for UnknownName {}

        #(#all_enums)*
        #checkpoints
        #(#all_structs)*
        #(#consts)*
        #(#derived)*
    }
}

/// The key of fields that are kept for each checkpoint: any checkpoint of any level that lists some.
fn checkpoints(model: &Model) -> Option<TokenStream> {
    if model.checkpoint_keys.is_empty() {
        return None;
    }
    let count = model.checkpoint_keys.len() as u32;
    let levels = model.levels.iter().zip(0u32..).filter(|(level, _)| level.checkpoints().len() > 0);
    let conversions = levels.filter_map(|(level, index)| {
        let name = ident(&format!("{}Checkpoint", camel(level.id())));
        let first = model.checkpoint_key(index, 0)?;
        Some(quote! {
            impl ::core::convert::From<#name> for Checkpoint {
                fn from(checkpoint: #name) -> Checkpoint {
                    Checkpoint(#first + checkpoint as u32)
                }
            }
        })
    });
    Some(quote! {
        /// A checkpoint of some level: the key of fields that are kept for each checkpoint.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub struct Checkpoint(u32);

        impl g::KeyIndex for Checkpoint {
            const COUNT: u32 = #count;
            fn index(self) -> u32 { self.0 }
        }

        #(#conversions)*
    })
}
