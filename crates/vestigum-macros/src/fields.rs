//! Constants for fields and derived values.

use proc_macro2::TokenStream;
use quote::quote;

use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::level::Derived;
use vestigum_spec::model::placed::{Gate, Placed};
use vestigum_spec::{Span, Type};

use crate::comments::comment;
use crate::names::{camel, ident, screaming};
use crate::structs::rust_type;

/// The Rust type of a key.
fn key_type(model: &Model, axis: Axis) -> TokenStream {
    match axis {
        Axis::Level => quote!(Level),
        Axis::Checkpoint => quote!(Checkpoint),
        Axis::Keys(set) => {
            let name = ident(&camel(model.key_sets[set as usize].name()));
            quote!(#name)
        }
    }
}

/// The constant of a field; none where names that play makes are its keys.
pub(crate) fn field(model: &Model, field: &Field, text: &str) -> Option<TokenStream> {
    if field.axes().iter().any(|axis| model.is_open(*axis)) {
        return None;
    }
    let name = ident(&screaming(field.name()));
    let ty = rust_type(field.ty(), &camel(field.name()));
    let ty = match (field.ty(), field.is_optional()) {
        (_, true) => quote!(::core::option::Option<#ty>),
        // Read by reference.
        (Type::Text, false) => quote!(str),
        (Type::Bytes, false) => quote!([u8]),
        _ => ty,
    };
    let Placed { slot, field: FieldId(id), fingerprint, gate: Gate(gate), of_device, lowest, highest } =
        Placed::of(model, field);
    let placed = quote! {
        g::Placed {
            slot: #slot, field: g::FieldId(#id), fingerprint: #fingerprint, gate: g::Gate(#gate), of_device: #of_device,
            lowest: #lowest, highest: #highest,
        }
    };
    let doc = doc_of_field(model, field, text);
    let keys: Vec<TokenStream> = field.axes().iter().map(|axis| key_type(model, *axis)).collect();
    Some(match &keys[..] {
        [] => quote! { #[doc = #doc] pub const #name: g::Handle<#ty> = g::Handle::placed(#placed); },
        [key] => quote! { #[doc = #doc] pub const #name: g::Keyed<#ty, #key> = g::Keyed::placed(#placed); },
        keys => quote! { #[doc = #doc] pub const #name: g::Keyed<#ty, (#(#keys),*)> = g::Keyed::placed(#placed); },
    })
}

fn doc_of_field(model: &Model, field: &Field, text: &str) -> String {
    let mut doc = comment(text, &format!("field.{}", field.name()), None);
    if !doc.is_empty() {
        doc.push_str("\n\n");
    }
    let axes: Vec<&str> = field.axes().iter().map(|axis| model.axis_word(*axis)).collect();
    let per = if axes.is_empty() { String::new() } else { format!(" for each {}", axes.join(" and ")) };
    let lasts = match field.lasts() {
        Span::Device => "lasts as long as the device".to_owned(),
        span @ (Span::Attempt | Span::Visit | Span::Session | Span::Run | Span::Profile) => {
            format!("lasts {} {span}", span.article())
        }
    };
    doc.push_str(&format!("`{}`{per}, {lasts}", field.ty()));
    if let Some(fate) = field.after_failure() {
        doc.push_str(&format!("; after a failure: {}", fate.word()));
    }
    if !field.written_by().play() {
        doc.push_str("; only rules write it");
    }
    doc.push('.');
    doc
}

/// The constant of a derived value.
pub(crate) fn derived(model: &Model, index: u32, derived: &Derived, text: &str) -> TokenStream {
    let name = ident(&screaming(derived.name()));
    // A choice that an expression makes is one of some field, whose enum has the same names: as text it is any of them.
    let ty = match derived.ty() {
        Type::Choice(_) => quote!(::std::string::String),
        ty => rust_type(ty, "String"),
    };
    let said = comment(text, "derived", Some(derived.name()));
    let mut doc = if said.is_empty() { String::new() } else { format!("{said}\n\n") };
    doc.push_str(&format!("Derived: `{}`.", derived.source()));
    let fingerprint = model.fingerprint;
    match (derived.axis(), model.keyed_derived(index)) {
        (Some(axis), Some(of_keys)) => {
            let (key, first) = (key_type(model, axis), of_keys.start);
            quote! {
                #[doc = #doc]
                pub const #name: g::DerivedKeyed<#ty, #key> = g::DerivedKeyed::placed(#first, #fingerprint);
            }
        }
        _ => quote! {
            #[doc = #doc]
            pub const #name: g::DerivedHandle<#ty> = g::DerivedHandle::placed(#index, #fingerprint);
        },
    }
}
