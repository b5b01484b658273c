//! Why there is no such handle.

use thiserror::Error;

use crate::handle::field_value::FieldValue;
use crate::handle::shape;
use vestigum_spec::model::Model;
use vestigum_spec::model::field::Field;
use vestigum_spec::nearest::{did_you_mean, suggestion};
use vestigum_spec::value::types::Type;

/// Describes why there is no such handle.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum HandleError {
    /// No field has that name.
    #[error("no field is called `{name}`{}", did_you_mean(.nearest))]
    UnknownField {
        /// The name asked for.
        name: String,
        /// The field that was probably meant.
        nearest: Option<String>,
    },
    /// The field and the Rust type have other shapes.
    #[error("`{name}` is of type {found}, and `{wanted}` does not fit: {why}; read it with `{call}`")]
    WrongType {
        /// The field.
        name: String,
        /// Its type.
        found: Type,
        /// The Rust type.
        wanted: String,
        /// Says what does not fit.
        why: String,
        /// The call that makes a handle on it.
        call: String,
    },
    /// The field has other keys than the handle.
    #[error("`{name}` has {}: read it with `{call}`", keys_of(.keys))]
    WrongKey {
        /// The field.
        name: String,
        /// Says what names its key has; nothing if it has one value.
        keys: Vec<String>,
        /// The call that reads it.
        call: String,
    },
    /// It is a derived value.
    #[error("`{name}` is a derived value, computed from fields: read it with `{call}`")]
    Derived {
        /// The name asked for.
        name: String,
        /// The call that makes a handle on it.
        call: String,
    },
    /// It is a field.
    #[error("`{name}` is a field: read it with `{call}`")]
    IsField {
        /// The name asked for.
        name: String,
        /// The call that makes a handle on it.
        call: String,
    },
    /// No level, checkpoint or key has that name.
    #[error("no {axis} is called `{name}`{}", did_you_mean(.nearest))]
    UnknownKey {
        /// Says what the key is one of.
        axis: String,
        /// The name asked for.
        name: String,
        /// The name that was probably meant.
        nearest: Option<String>,
    },
}

fn keys_of(keys: &[String]) -> String {
    match keys {
        [] => "one value".into(),
        keys => format!("a value for each {}", keys.join(" and each ")),
    }
}

/// The call that makes a handle on a field.
pub(crate) fn call_for(model: &Model, field: &Field) -> String {
    let (name, ty) = (&field.name, shape::usual(&field.ty));
    let ty = if field.optional { format!("Option<{ty}>") } else { ty };
    let open = field.axes.iter().any(|axis| model.is_open(*axis));
    match field.names_in_key() {
        0 => format!("spec.field::<{ty}>(\"{name}\")"),
        // What names play makes is in the progress and not in the spec.
        _ if open => format!("game.read_as::<{ty}>(\"{name}\", &[…])"),
        names => format!("spec.field_per::<{ty}, {names}>(\"{name}\")"),
    }
}

fn call_for_derived(model: &Model, name: &str) -> String {
    let index = model.derived_ids.get(name).copied().unwrap_or_default();
    let derived = &model.derived[index as usize];
    let ty = shape::usual(derived.expression.ty());
    let per = if derived.axis.is_some() { "_per" } else { "" };
    format!("spec.derived{per}::<{ty}>(\"{name}\")")
}

/// The field, if the Rust type fits it and its key has that number of names.
pub(crate) fn checked<'s, T: FieldValue + ?Sized>(
    model: &'s Model,
    name: &str,
    names: usize,
) -> Result<&'s Field, HandleError> {
    let Some(field) = model.find_field(name) else {
        if model.derived_ids.contains_key(name) {
            let call = call_for_derived(model, name);
            return Err(HandleError::Derived { name: name.to_owned(), call });
        }
        let nearest = model.suggested_field(name);
        return Err(HandleError::UnknownField { name: name.to_owned(), nearest });
    };
    let call = || call_for(model, field);
    if let Some(why) = T::misfit(field) {
        let wanted = shape::short_name(std::any::type_name::<T>());
        let (name, found) = (name.to_owned(), field.ty.clone());
        return Err(HandleError::WrongType { name, found, wanted, why, call: call() });
    }
    let open = names > 0 && field.axes.iter().any(|axis| model.is_open(*axis));
    if field.names_in_key() != names || open {
        let keys = field.axes.iter().map(|axis| model.axis_word(*axis).to_owned()).collect();
        return Err(HandleError::WrongKey { name: name.to_owned(), keys, call: call() });
    }
    Ok(field)
}

/// The place of a derived value, if a Rust type reads it and it is kept for keys or not.
pub(crate) fn checked_derived<T: serde::de::DeserializeOwned>(
    model: &Model,
    name: &str,
    keyed: bool,
) -> Result<u32, HandleError> {
    let Some(index) = model.derived_ids.get(name).copied() else {
        if let Some(field) = model.find_field(name) {
            return Err(HandleError::IsField { name: name.to_owned(), call: call_for(model, field) });
        }
        let nearest = suggestion(name, model.derived_ids.keys().map(|name| &**name));
        return Err(HandleError::UnknownField { name: name.to_owned(), nearest });
    };
    let derived = &model.derived[index as usize];
    let call = || call_for_derived(model, name);
    if let Some(why) = shape::unreadable::<T>(derived.expression.ty()) {
        let wanted = shape::short_name(std::any::type_name::<T>());
        let (name, found) = (name.to_owned(), derived.expression.ty().clone());
        return Err(HandleError::WrongType { name, found, wanted, why, call: call() });
    }
    if derived.axis.is_some() != keyed {
        let keys = derived.axis.iter().map(|axis| model.axis_word(*axis).to_owned()).collect();
        return Err(HandleError::WrongKey { name: name.to_owned(), keys, call: call() });
    }
    Ok(index)
}
