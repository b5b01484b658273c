//! Enums for names: levels, keys, choices, checkpoints, exits, the game's own moments.

use proc_macro2::TokenStream;
use quote::quote;

use crate::names::{camel, ident};

/// A name and how players see it.
pub(crate) struct Name {
    pub name: String,
    pub title: Option<String>,
}

impl Name {
    pub(crate) fn plain(name: &str) -> Name {
        Name { name: name.to_owned(), title: None }
    }
}

/// An enum to be written.
pub(crate) struct Names {
    pub ident: String,
    pub doc: String,
    pub names: Vec<Name>,
    /// Whether each has a title.
    pub titled: bool,
    /// Whether fields are kept for each of them.
    pub is_axis: bool,
    /// Says what one of them is, for messages.
    pub what: String,
}

/// The enum, with everything that is asked of it.
pub(crate) fn write(names: &Names) -> TokenStream {
    let Names { doc, what, .. } = names;
    let ident = ident(&names.ident);
    let count = names.names.len();
    let variants: Vec<_> = names.names.iter().map(|name| self::ident(&camel(&name.name))).collect();
    let words: Vec<&str> = names.names.iter().map(|name| name.name.as_str()).collect();
    let titles: Vec<&str> =
        names.names.iter().map(|name| name.title.as_deref().unwrap_or(name.name.as_str())).collect();
    let docs: Vec<String> = titles.iter().zip(&words).map(|(title, word)| format!("{title} (`{word}`).")).collect();
    let title = names.titled.then(|| {
        quote! {
            /// The name that players see: the title, or the id where there is none.
            pub const fn title(self) -> &'static str {
                match self { #(#ident::#variants => #titles),* }
            }
        }
    });
    let key = names.is_axis.then(|| {
        let count = count as u32;
        quote! {
            impl g::KeyIndex for #ident {
                const COUNT: u32 = #count;
                fn index(self) -> u32 { self as u32 }
            }
        }
    });
    let unknown = format!("no {what} is called `{{}}`");
    quote! {
        #[doc = #doc]
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, g::serde::Serialize, g::serde::Deserialize)]
        #[serde(crate = "::vestigum::generated::serde")]
        pub enum #ident {
            #(#[doc = #docs] #[serde(rename = #words)] #variants),*
        }

        impl #ident {
            /// All of them, in declared order.
            pub const ALL: [#ident; #count] = [#(#ident::#variants),*];

            /// The name that the spec and saves use.
            pub const fn name(self) -> &'static str {
                match self { #(#ident::#variants => #words),* }
            }

            #title
        }

        #key

        impl ::core::convert::AsRef<str> for #ident {
            fn as_ref(&self) -> &str { self.name() }
        }

        impl ::core::fmt::Display for #ident {
            fn fmt(&self, f: &mut ::core::fmt::Formatter<'_>) -> ::core::fmt::Result {
                f.pad(self.name())
            }
        }

        impl ::core::str::FromStr for #ident {
            type Err = UnknownName;
            fn from_str(name: &str) -> ::core::result::Result<Self, UnknownName> {
                let found = Self::ALL.into_iter().find(|known| known.name() == name);
                found.ok_or_else(|| UnknownName(::std::format!(#unknown, name.escape_debug())))
            }
        }
    }
}
