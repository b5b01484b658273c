//! Rust types for the types of a spec, and structs for its structs.

use proc_macro2::TokenStream;
use quote::quote;

use vestigum_spec::value::types::StructType;
use vestigum_spec::{Type, Value};

use crate::comments::comment;
use crate::names::{camel, ident};

/// The Rust type of a value. `choice` is the name of the enum for a choice in it.
pub(crate) fn rust_type(ty: &Type, choice: &str) -> TokenStream {
    match ty {
        Type::Bool => quote!(bool),
        Type::Int => quote!(i64),
        Type::Float => quote!(f64),
        Type::Text => quote!(::std::string::String),
        Type::Bytes => quote!(::std::vec::Vec<u8>),
        Type::Vec2 => quote!([f64; 2]),
        Type::Vec3 => quote!([f64; 3]),
        Type::Choice(_) => {
            let name = ident(choice);
            quote!(#name)
        }
        Type::Struct(of) => {
            let name = ident(&camel(of.name()));
            quote!(#name)
        }
        Type::List(inner) => {
            let inner = rust_type(inner, choice);
            quote!(::std::vec::Vec<#inner>)
        }
        Type::Set(inner) => {
            let item = rust_type(inner, choice);
            if is_ordered(inner) { quote!(::std::collections::BTreeSet<#item>) } else { quote!(::std::vec::Vec<#item>) }
        }
        Type::Map(inner) => {
            let inner = rust_type(inner, choice);
            quote!(::std::collections::BTreeMap<::std::string::String, #inner>)
        }
    }
}

/// Returns whether the Rust type has an order.
fn is_ordered(ty: &Type) -> bool {
    match ty {
        Type::Bool | Type::Int | Type::Text | Type::Bytes | Type::Choice(_) => true,
        Type::Float | Type::Vec2 | Type::Vec3 | Type::Struct(_) => false,
        Type::List(inner) | Type::Set(inner) | Type::Map(inner) => is_ordered(inner),
    }
}

/// The name of the enum for the choice of a member.
pub(crate) fn choice_of_member(of: &StructType, member: &str) -> String {
    format!("{}{}", camel(of.name()), camel(member))
}

pub(crate) fn write(of: &StructType, text: &str) -> TokenStream {
    let name = ident(&camel(of.name()));
    let said = comment(text, &format!("struct.{}", of.name()), None);
    let doc = if said.is_empty() { format!("The struct `{}` of the spec.", of.name()) } else { said };
    let members = of.members().map(|member| {
        let (field, word) = (ident(member.name()), member.name());
        let ty = rust_type(member.ty(), &choice_of_member(of, word));
        let said = comment(text, &format!("struct.{}", of.name()), Some(word));
        let mut doc = if said.is_empty() { String::new() } else { format!("{said}\n\n") };
        doc.push_str(&format!("`{}`", member.ty()));
        if let Some((lowest, highest)) = member.range() {
            doc.push_str(&format!(", from {lowest} to {highest}"));
        }
        doc.push('.');
        quote! { #[doc = #doc] #[serde(rename = #word)] pub #field: #ty }
    });
    let defaults = of.members().map(|member| {
        let field = ident(member.name());
        let value = literal(member.default(), &choice_of_member(of, member.name()));
        quote! { #field: #value }
    });
    quote! {
        #[doc = #doc]
        #[derive(Clone, Debug, PartialEq, g::serde::Serialize, g::serde::Deserialize)]
        #[serde(crate = "::vestigum::generated::serde")]
        pub struct #name {
            #(#members),*
        }

        /// Each member at the default that the spec declares.
        impl ::core::default::Default for #name {
            fn default() -> Self {
                #name { #(#defaults),* }
            }
        }
    }
}

/// A value as an expression of its Rust type.
fn literal(value: &Value, choice: &str) -> TokenStream {
    match value {
        Value::Unfilled => quote!(::core::option::Option::None),
        Value::Bool(bool) => quote!(#bool),
        Value::Int(int) => quote!(#int),
        Value::Float(float) => {
            let float = float.get();
            quote!(#float)
        }
        Value::Text(text) => {
            let text = &**text;
            quote!(::std::string::String::from(#text))
        }
        Value::Bytes(bytes) => {
            let bytes = bytes.iter();
            quote!(::std::vec![#(#bytes),*])
        }
        Value::Vec2(_) | Value::Vec3(_) => {
            let numbers = value.as_vector().iter().map(|number| number.get());
            quote!([#(#numbers),*])
        }
        Value::Choice(chosen) => {
            let (name, variant) = (ident(choice), ident(&camel(chosen.name())));
            quote!(#name::#variant)
        }
        Value::Struct(of, members) => {
            let name = ident(&camel(of.name()));
            let members = of.members().zip(members.iter()).map(|(member, value)| {
                let field = ident(member.name());
                let value = literal(value, &choice_of_member(of, member.name()));
                quote!(#field: #value)
            });
            quote!(#name { #(#members),* })
        }
        Value::List(items) => {
            let items = items.iter().map(|item| literal(item, choice));
            quote!(::core::iter::FromIterator::from_iter([#(#items),*]))
        }
        Value::Set(items) => {
            let items = items.iter().map(|item| literal(item, choice));
            quote!(::core::iter::FromIterator::from_iter([#(#items),*]))
        }
        Value::Map(entries) => {
            let entries = entries.iter().map(|(key, item)| {
                let (key, item) = (&**key, literal(item, choice));
                quote!((::std::string::String::from(#key), #item))
            });
            quote!(::core::iter::FromIterator::from_iter([#(#entries),*]))
        }
    }
}
