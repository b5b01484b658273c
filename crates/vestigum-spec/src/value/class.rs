//! The kinds of types: their words, and what is true of each.

use std::sync::Arc;

use crate::value::types::Type;
use crate::words;

words! {
    /// A kind of types.
    pub enum Class {
        /// `true` or `false`.
        Bool = "bool",
        /// A whole number.
        Int = "int",
        /// A finite number.
        Float = "float",
        /// Text.
        Text = "text",
        /// Bytes.
        Bytes = "bytes",
        /// Two finite numbers.
        Vec2 = "vec2",
        /// Three finite numbers.
        Vec3 = "vec3",
        /// One of a few names.
        Choice = "choice",
        /// Named members; a document says the name of the struct.
        Struct = "struct",
        /// Values in order.
        List = "list",
        /// Values without order, each once.
        Set = "set",
        /// Values by text keys.
        Map = "map",
    }
}

/// Describes what is true of a kind, whatever is inside.
#[derive(Clone, Copy)]
pub(crate) struct Traits {
    /// `add`, `sum` and arithmetic work on it.
    pub is_number: bool,
    /// `max`, `min`, `<` and `>` mean something for it.
    pub is_ordered: bool,
    /// `max_len` means something for it.
    pub has_length: bool,
    /// Its values have items at positions or under keys.
    pub is_indexed: bool,
    /// `union` means something for it.
    pub is_union: bool,
    /// A literal of another type takes it on: a text the name of a choice, a list a set or a vector.
    pub is_taken_on: bool,
}

impl Class {
    pub(crate) const fn traits(self) -> Traits {
        const NONE: Traits = Traits {
            is_number: false,
            is_ordered: false,
            has_length: false,
            is_indexed: false,
            is_union: false,
            is_taken_on: false,
        };
        match self {
            Class::Bool => NONE,
            Class::Int | Class::Float => Traits { is_number: true, is_ordered: true, ..NONE },
            Class::Text => Traits { has_length: true, ..NONE },
            Class::Bytes => Traits { has_length: true, is_taken_on: true, ..NONE },
            Class::Choice => Traits { is_ordered: true, is_taken_on: true, ..NONE },
            Class::Vec2 | Class::Vec3 | Class::Struct => Traits { is_taken_on: true, ..NONE },
            Class::List => Traits { has_length: true, is_indexed: true, is_taken_on: true, ..NONE },
            Class::Set => Traits { has_length: true, is_union: true, is_taken_on: true, ..NONE },
            Class::Map => Traits { has_length: true, is_indexed: true, is_union: true, is_taken_on: true, ..NONE },
        }
    }

    /// The type that the word says by itself; none where more is said: the names of a choice, the items of a container.
    pub fn plain(self) -> Option<Type> {
        match self {
            Class::Bool => Some(Type::Bool),
            Class::Int => Some(Type::Int),
            Class::Float => Some(Type::Float),
            Class::Text => Some(Type::Text),
            Class::Bytes => Some(Type::Bytes),
            Class::Vec2 => Some(Type::Vec2),
            Class::Vec3 => Some(Type::Vec3),
            Class::Choice | Class::Struct | Class::List | Class::Set | Class::Map => None,
        }
    }

    /// The container of this kind that has such items: `list of int`. None for what is not a container.
    pub fn of(self, inner: Type) -> Option<Type> {
        match self {
            Class::List => Some(Type::List(Arc::new(inner))),
            Class::Set => Some(Type::Set(Arc::new(inner))),
            Class::Map => Some(Type::Map(Arc::new(inner))),
            Class::Bool | Class::Int | Class::Float | Class::Text | Class::Bytes => None,
            Class::Vec2 | Class::Vec3 | Class::Choice | Class::Struct => None,
        }
    }

    /// The kinds whose word begins a type without `of`: `bool`, and the others up to `choice`.
    pub fn single() -> impl Iterator<Item = Class> {
        Class::ALL.iter().copied().filter(|class| class.plain().is_some() || *class == Class::Choice)
    }

    /// The containers: their words stand before `of`.
    pub fn containers() -> impl Iterator<Item = Class> {
        Class::ALL.iter().copied().filter(|class| class.of(Type::Bool).is_some())
    }
}
