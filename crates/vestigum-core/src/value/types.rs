//! The types of fields.

use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use crate::value::containers::{List, Map, Set};
use crate::value::{Chosen, Value};

/// How deep containers and structs may stand in each other.
pub const MAX_NESTING: usize = 4;

/// The type of a field.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Type {
    /// `true` or `false`.
    Bool,
    /// A whole number, 64 bits, signed.
    Int,
    /// A finite number.
    Float,
    /// Text.
    Text,
    /// Bytes: a replay, a picture, whatever the game makes of them.
    Bytes,
    /// Two finite numbers.
    Vec2,
    /// Three finite numbers.
    Vec3,
    /// One of a few names, in their declared order.
    Choice(Arc<[Arc<Chosen>]>),
    /// Named members of their own types.
    Struct(Arc<StructType>),
    /// Values in order.
    List(Arc<Type>),
    /// Values without order, each once.
    Set(Arc<Type>),
    /// Values by text keys.
    Map(Arc<Type>),
}

/// A named struct type.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct StructType {
    #[doc(hidden)]
    pub name: Arc<str>,
    #[doc(hidden)]
    pub members: Vec<Member>,
}

/// One member of a struct type.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Member {
    #[doc(hidden)]
    pub name: Arc<str>,
    #[doc(hidden)]
    pub ty: Type,
    /// What it is before anything was written.
    #[doc(hidden)]
    pub default: Value,
    /// Lowest and highest value, for numbers.
    #[doc(hidden)]
    pub range: Option<(Value, Value)>,
    /// The most characters, bytes or values, where the member says so; else the field decides.
    #[doc(hidden)]
    pub max_len: Option<usize>,
}

impl Member {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its type.
    pub fn ty(&self) -> &Type {
        &self.ty
    }

    /// What it is in a struct to which nothing was written.
    pub fn default(&self) -> &Value {
        &self.default
    }

    /// Its lowest and its highest value, where it has a range.
    pub fn range(&self) -> Option<(&Value, &Value)> {
        self.range.as_ref().map(|(lowest, highest)| (lowest, highest))
    }

    /// The most characters, bytes or values that it holds, where the member says so; else `max_len` of the field decides.
    pub fn max_len(&self) -> Option<usize> {
        self.max_len
    }
}

// Two equal types have equal hashes; what members begin with and may be is left out.
impl Hash for StructType {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.name.hash(state);
        self.members.iter().for_each(|member| (&member.name, &member.ty).hash(state));
    }
}

impl StructType {
    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its members, in the order of the spec.
    pub fn members(&self) -> impl ExactSizeIterator<Item = &Member> {
        self.members.iter()
    }

    #[doc(hidden)]
    pub fn position(&self, member: &str) -> Option<usize> {
        self.members.iter().position(|known| &*known.name == member)
    }
}

impl Type {
    /// The words that specs may use for types without a name of their own.
    pub const WORDS: [&'static str; 8] = ["bool", "int", "float", "text", "bytes", "vec2", "vec3", "choice"];

    /// The type of a word that says everything by itself: all of [`Type::WORDS`] but `choice`.
    pub fn from_word(word: &str) -> Option<Type> {
        Some(match word {
            "bool" => Type::Bool,
            "int" => Type::Int,
            "float" => Type::Float,
            "text" => Type::Text,
            "bytes" => Type::Bytes,
            "vec2" => Type::Vec2,
            "vec3" => Type::Vec3,
            _ => return None,
        })
    }

    /// The value of this type before anything was written: each member of a struct is at its default.
    pub fn zero(&self) -> Value {
        match self {
            Type::Bool => Value::Bool(false),
            Type::Int => Value::Int(0),
            Type::Float => Value::float(0.0),
            Type::Text => Value::text(""),
            Type::Bytes => Value::Bytes(Arc::default()),
            Type::Vec2 => Value::vec2(0.0, 0.0),
            Type::Vec3 => Value::vec3(0.0, 0.0, 0.0),
            Type::Choice(names) => names.first().cloned().map_or(Value::Unfilled, Value::Choice),
            Type::Struct(ty) => {
                Value::Struct(ty.clone(), Arc::new(ty.members.iter().map(|member| member.default.clone()).collect()))
            }
            Type::List(_) => Value::List(List::default()),
            Type::Set(_) => Value::Set(Set::default()),
            Type::Map(_) => Value::Map(Map::default()),
        }
    }

    /// Whether a literal of another type takes this one on: a text the name of a choice, a list a set or a vector.
    pub(crate) fn is_taken_on(&self) -> bool {
        match self {
            Type::Bool | Type::Int | Type::Float | Type::Text => false,
            Type::Bytes | Type::Vec2 | Type::Vec3 | Type::Choice(_) | Type::Struct(_) => true,
            Type::List(_) | Type::Set(_) | Type::Map(_) => true,
        }
    }

    /// Whether the type has numbers: `add`, `sum` and arithmetic work on it.
    pub fn is_number(&self) -> bool {
        matches!(self, Type::Int | Type::Float)
    }

    /// Whether `max`, `min`, `<` and `>` mean something for it.
    pub fn is_ordered(&self) -> bool {
        self.is_number() || matches!(self, Type::Choice(_))
    }

    /// Whether `max_len` means something for it.
    pub fn has_length(&self) -> bool {
        matches!(self, Type::Text | Type::Bytes | Type::List(_) | Type::Set(_) | Type::Map(_))
            || matches!(self, Type::Struct(ty) if ty.members.iter().any(|member| member.ty.has_length()))
    }

    /// Whether its values have items at positions or under keys.
    #[doc(hidden)]
    pub fn is_indexed(&self) -> bool {
        matches!(self, Type::List(_) | Type::Map(_))
    }

    /// Whether `union` means something for it.
    pub fn is_union(&self) -> bool {
        matches!(self, Type::Set(_) | Type::Map(_))
    }

    /// Whether it is a struct or has structs inside.
    pub(crate) fn has_struct(&self) -> bool {
        match self {
            Type::Struct(_) => true,
            Type::List(inner) | Type::Set(inner) | Type::Map(inner) => inner.has_struct(),
            Type::Bool
            | Type::Int
            | Type::Float
            | Type::Text
            | Type::Bytes
            | Type::Vec2
            | Type::Vec3
            | Type::Choice(_) => false,
        }
    }

    /// Whether it is bytes or has bytes inside.
    pub(crate) fn has_bytes(&self) -> bool {
        match self {
            Type::Bytes => true,
            Type::List(inner) | Type::Set(inner) | Type::Map(inner) => inner.has_bytes(),
            Type::Struct(ty) => ty.members.iter().any(|member| member.ty.has_bytes()),
            Type::Bool | Type::Int | Type::Float | Type::Text | Type::Vec2 | Type::Vec3 | Type::Choice(_) => false,
        }
    }

    /// How deep it goes: 1 for a type without others inside.
    pub(crate) fn nesting(&self) -> usize {
        match self {
            Type::List(inner) | Type::Set(inner) | Type::Map(inner) => 1 + inner.nesting(),
            Type::Struct(ty) => 1 + ty.members.iter().map(|member| member.ty.nesting()).max().unwrap_or(0),
            Type::Bool
            | Type::Int
            | Type::Float
            | Type::Text
            | Type::Bytes
            | Type::Vec2
            | Type::Vec3
            | Type::Choice(_) => 1,
        }
    }

    /// The choice of that name.
    pub(crate) fn chosen(names: &[Arc<Chosen>], name: &str) -> Option<Value> {
        names.iter().find(|chosen| &*chosen.name == name).cloned().map(Value::Choice)
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Type::Bool => f.write_str("bool"),
            Type::Int => f.write_str("int"),
            Type::Float => f.write_str("float"),
            Type::Text => f.write_str("text"),
            Type::Bytes => f.write_str("bytes"),
            Type::Vec2 => f.write_str("vec2"),
            Type::Vec3 => f.write_str("vec3"),
            Type::Choice(_) => f.write_str("choice"),
            Type::Struct(ty) => f.write_str(&ty.name),
            Type::List(inner) => write!(f, "list of {inner}"),
            Type::Set(inner) => write!(f, "set of {inner}"),
            Type::Map(inner) => write!(f, "map of {inner}"),
        }
    }
}
