//! The way from a value to a part of it: an item of a list, an entry of a map, a member of a struct.

use std::fmt;
use std::sync::Arc;

use crate::value::Value;
use crate::value::limits::Limits;
use crate::value::types::Type;

/// One step from a value to a part of it.
///
/// ```
/// use vestigum_spec::Part;
///
/// let health = [Part::Item(1), Part::member("health")];
/// assert_eq!(health.map(|part| part.to_string()).concat(), "[1].health");
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Part {
    /// The item of a list at a position that counts from 1.
    Item(usize),
    /// The entry of a map under a key.
    Entry(Arc<str>),
    /// A member of a struct.
    Member(Arc<str>),
}

impl Part {
    /// The entry of a map.
    pub fn entry(key: &str) -> Part {
        Part::Entry(key.into())
    }

    /// The member of a struct.
    pub fn member(name: &str) -> Part {
        Part::Member(name.into())
    }
}

/// As expressions write it: `[1]`, `['ring']`, `.health`.
impl fmt::Display for Part {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Part::Item(position) => write!(f, "[{position}]"),
            Part::Entry(key) => write!(f, "['{}']", key.replace('\'', "''")),
            Part::Member(name) => write!(f, ".{name}"),
        }
    }
}

/// A part as it is named behind a field.
pub fn part_name(field: &str, path: &[Part]) -> String {
    path.iter().fold(field.to_owned(), |name, part| name + &part.to_string())
}

/// The type of a part and what it may be.
///
/// # Errors
/// The first part that values of the type do not have, by its place in the path, and why.
pub fn part_type(ty: &Type, limits: &Limits, path: &[Part]) -> Result<(Type, Limits), (usize, String)> {
    let (mut ty, mut limits) = (ty.clone(), limits.clone());
    for (at, part) in path.iter().enumerate() {
        (ty, limits) = match (part, &ty) {
            (Part::Item(0), Type::List(_)) => return Err((at, "positions count from 1".into())),
            (Part::Item(_), Type::List(inner)) | (Part::Entry(_), Type::Map(inner)) => {
                ((**inner).clone(), limits.of_items())
            }
            (Part::Member(name), Type::Struct(of)) => match of.position(name).map(|index| &of.members[index]) {
                Some(member) => (member.ty.clone(), limits.of_member(member)),
                None => {
                    let known: Vec<&str> = of.members().map(super::types::Member::name).collect();
                    return Err((at, format!("a {} has no member `{name}`; it has: {}", of.name, known.join(", "))));
                }
            },
            (Part::Member(name), Type::Vec2 | Type::Vec3) => {
                return Err((at, format!("`.{name}` of a {ty} can be read; it is written as a whole, as in `[3, 4]`")));
            }
            (part, ty) => {
                let wanted = match part {
                    Part::Item(_) => "a list",
                    Part::Entry(_) => "a map",
                    Part::Member(_) => "a struct",
                };
                return Err((at, format!("`{part}` is a part of {wanted}, and this is of type {ty}")));
            }
        };
    }
    Ok((ty, limits))
}

impl Value {
    /// The part at the end of a path; none where an item or an entry is not there.
    pub fn part(&self, path: &[Part]) -> Option<&Value> {
        path.iter().try_fold(self, |value, part| match (part, value) {
            (Part::Item(position), Value::List(list)) => list.get(position.checked_sub(1)?),
            (Part::Entry(key), Value::Map(map)) => map.get(key),
            (Part::Member(name), Value::Struct(ty, members)) => members.get(ty.position(name)?),
            _ => None,
        })
    }

    /// Returns the part to be changed where it is.
    #[doc(hidden)]
    pub fn part_mut(&mut self, path: &[Part]) -> Option<&mut Value> {
        path.iter().try_fold(self, |value, part| match (part, value) {
            (Part::Item(position), Value::List(list)) => list.get_mut(position.checked_sub(1)?),
            (Part::Entry(key), Value::Map(map)) => map.get_mut(key),
            (Part::Member(name), Value::Struct(ty, members)) => Arc::make_mut(members).get_mut(ty.position(name)?),
            _ => None,
        })
    }
}
