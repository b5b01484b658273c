//! The types of fields.

use std::fmt;
use std::hash::{Hash, Hasher};
use std::sync::Arc;

use crate::value::class::Class;
use crate::value::containers::{List, Map, Set};
use crate::value::{Chosen, Value};

/// Says how deep containers and structs may stand in each other.
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
    /// Says what it is before anything was written.
    #[doc(hidden)]
    pub default: Value,
    /// Lowest and highest value, for numbers.
    #[doc(hidden)]
    pub range: Option<(Value, Value)>,
    /// The most characters, bytes or values, where the member says so; else the field decides.
    #[doc(hidden)]
    pub max_len: Option<usize>,
}

impl StructType {
    /// A struct of floats that have no range, as expressions over what an old save holds read it.
    #[doc(hidden)]
    pub fn of_floats<'a>(name: &str, members: impl IntoIterator<Item = &'a str>) -> StructType {
        let member = |name: &str| Member {
            name: name.into(),
            ty: Type::Float,
            default: Value::float(0.0),
            range: None,
            max_len: None,
        };
        StructType { name: name.into(), members: members.into_iter().map(member).collect() }
    }
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

    /// Returns what it is in a struct to which nothing was written.
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
    /// Returns what kind of type it is.
    #[doc(hidden)]
    pub fn class(&self) -> Class {
        match self {
            Type::Bool => Class::Bool,
            Type::Int => Class::Int,
            Type::Float => Class::Float,
            Type::Text => Class::Text,
            Type::Bytes => Class::Bytes,
            Type::Vec2 => Class::Vec2,
            Type::Vec3 => Class::Vec3,
            Type::Choice(_) => Class::Choice,
            Type::Struct(_) => Class::Struct,
            Type::List(_) => Class::List,
            Type::Set(_) => Class::Set,
            Type::Map(_) => Class::Map,
        }
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

    /// Returns whether a literal of another type takes this one on: a text the name of a choice, a list a set or a vector.
    pub(crate) fn is_taken_on(&self) -> bool {
        self.class().traits().is_taken_on
    }

    /// Returns whether the type has numbers: `add`, `sum` and arithmetic work on it.
    pub fn is_number(&self) -> bool {
        self.class().traits().is_number
    }

    /// Returns whether `max`, `min`, `<` and `>` mean something for it.
    pub fn is_ordered(&self) -> bool {
        self.class().traits().is_ordered
    }

    /// Returns whether `max_len` means something for it.
    pub fn has_length(&self) -> bool {
        let inside = |ty: &Arc<StructType>| ty.members.iter().any(|member| member.ty.has_length());
        self.class().traits().has_length || self.as_struct().is_some_and(inside)
    }

    /// Returns whether its values have items at positions or under keys.
    #[doc(hidden)]
    pub fn is_indexed(&self) -> bool {
        self.class().traits().is_indexed
    }

    /// Returns whether `union` means something for it.
    pub fn is_union(&self) -> bool {
        self.class().traits().is_union
    }

    /// Returns whether it is a struct or has structs inside.
    #[doc(hidden)]
    pub fn has_struct(&self) -> bool {
        self.as_struct().is_some() || self.inner().is_some_and(Type::has_struct)
    }

    /// Returns whether it is bytes or has bytes inside.
    pub(crate) fn has_bytes(&self) -> bool {
        let members = self.as_struct().into_iter().flat_map(|ty| ty.members());
        self.class() == Class::Bytes
            || self.inner().is_some_and(Type::has_bytes)
            || members.map(Member::ty).any(Type::has_bytes)
    }

    /// The struct that it is.
    #[doc(hidden)]
    pub fn as_struct(&self) -> Option<&Arc<StructType>> {
        if let Type::Struct(ty) = self { Some(ty) } else { None }
    }

    /// The names of the choice that it is.
    #[doc(hidden)]
    pub fn as_choice(&self) -> Option<&Arc<[Arc<Chosen>]>> {
        if let Type::Choice(names) = self { Some(names) } else { None }
    }

    /// The type of the items of a list, a set or a map; none for every other type.
    #[doc(hidden)]
    pub fn inner(&self) -> Option<&Type> {
        match self {
            Type::List(inner) | Type::Set(inner) | Type::Map(inner) => Some(inner),
            Type::Struct(_) | Type::Choice(_) => None,
            Type::Bool | Type::Int | Type::Float | Type::Text | Type::Bytes | Type::Vec2 | Type::Vec3 => None,
        }
    }

    /// The type of what `has` asks for and `remove` takes out: an item of a list or a set, a key of a map; none for every other type.
    #[doc(hidden)]
    pub fn asked_item(&self) -> Option<&Type> {
        if self.class() == Class::Map { Some(&Type::Text) } else { self.inner() }
    }

    /// The type without the containers around it.
    pub(crate) fn innermost(&self) -> &Type {
        self.inner().map_or(self, Type::innermost)
    }

    /// Returns the number of types inside one another: 1 for a type without others inside.
    pub(crate) fn nesting(&self) -> usize {
        let members = self.as_struct().into_iter().flat_map(|ty| ty.members());
        1 + members.map(Member::ty).chain(self.inner()).map(Type::nesting).max().unwrap_or(0)
    }

    /// The choice of that name.
    pub(crate) fn chosen(names: &[Arc<Chosen>], name: &str) -> Option<Value> {
        names.iter().find(|chosen| &*chosen.name == name).cloned().map(Value::Choice)
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Type::Struct(ty) => f.write_str(&ty.name),
            Type::List(inner) | Type::Set(inner) | Type::Map(inner) => write!(f, "{} of {inner}", self.class().word()),
            Type::Bool
            | Type::Int
            | Type::Float
            | Type::Text
            | Type::Bytes
            | Type::Vec2
            | Type::Vec3
            | Type::Choice(_) => f.write_str(self.class().word()),
        }
    }
}
