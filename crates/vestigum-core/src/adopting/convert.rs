//! From the value of an old save to the value of a field.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::adopting::number::Number;
use vestigum_spec::value::Finite;
use vestigum_spec::value::tree::Tree;
use vestigum_spec::value::types::{StructType, Type};

/// Describes what is done with a value on its way.
#[derive(Clone, Debug, Default)]
pub(super) struct Conversion {
    /// Numbers are multiplied by this.
    pub(super) times: Option<Number>,
    /// And this is added.
    pub(super) plus: Option<Number>,
    /// Says what the old save writes where there is no value.
    pub(super) none: Option<Tree>,
    /// Texts that are called otherwise.
    pub(super) names: BTreeMap<String, String>,
    /// Members of structs that the old save calls otherwise: by their names now.
    pub(super) members: BTreeMap<String, String>,
    /// For a map made of a list: the member that is the key of each item.
    pub(super) by: Option<String>,
    /// And the member that is its value; the whole item where none is named.
    pub(super) each: Option<String>,
    /// Instead of the value itself, whether this holds of it.
    pub(super) asks: Option<Asks>,
}

/// The value for a field, and what of the old one nothing was made of: the ways to it.
pub(super) struct Made {
    pub(super) tree: Tree,
    pub(super) unused: Vec<Vec<String>>,
}

impl From<Tree> for Made {
    fn from(tree: Tree) -> Made {
        Made { tree, unused: Vec::new() }
    }
}

/// Describes what is asked of a value.
#[derive(Clone, Debug)]
pub(super) enum Asks {
    /// Whether it is more than this.
    Above(Limit),
    /// Whether it is this or more.
    AtLeast(Limit),
    /// Whether the list has this item.
    Holds(Item),
    /// Whether it is exactly this.
    Is(Tree),
}

#[derive(Clone, Copy, Debug)]
pub(super) enum Limit {
    Number(Number),
    /// The position of the entry's key, counted from 1.
    Position,
}

#[derive(Clone, Debug)]
pub(super) enum Item {
    Text(String),
    /// Says what the old save calls the entry's key.
    Star,
}

/// The key of the entry for which a value is taken.
pub(super) struct Key {
    /// Says what the old save calls it.
    pub(super) old: String,
    /// Its position, counted from 1; 0 for a level that stands outside the order.
    pub(super) position: usize,
}

impl Conversion {
    /// The value for a field of a type; `key` is the one of a starred entry. Or what is wrong with it, in words.
    pub(super) fn of(&self, tree: &Tree, ty: &Type, key: Option<&Key>) -> Result<Made, String> {
        if self.none.as_ref().is_some_and(|none| same(none, tree)) {
            return Ok(Tree::Null.into());
        }
        let Some(asks) = &self.asks else {
            let mut unused = Vec::new();
            let tree = self.value(tree, ty, &mut Vec::new(), &mut unused)?;
            return Ok(Made { tree, unused });
        };
        self.asked(asks, tree, key).map(|holds| Tree::Bool(holds).into())
    }

    /// Says whether an item of a list is one that a path names: the others are read by no path.
    pub(super) fn names_item(&self, item: &Tree, key: Option<&Key>) -> bool {
        let text = || match (&self.by, item) {
            (Some(by), Tree::Map(members)) => members.get(&**by).and_then(|member| self.text_of(member)),
            (Some(_) | None, _) => self.text_of(item),
        };
        match (&self.asks, key) {
            (Some(Asks::Holds(Item::Text(wanted))), _) => text().as_deref() == Some(wanted),
            (Some(Asks::Holds(Item::Star)), Some(key)) => text().as_deref() == Some(&*key.old),
            (Some(Asks::Holds(Item::Star)), None) => false,
            (Some(Asks::Above(_) | Asks::AtLeast(_) | Asks::Is(_)) | None, _) => true,
        }
    }

    pub(super) fn asks_items(&self) -> bool {
        matches!(self.asks, Some(Asks::Holds(_)))
    }

    fn asked(&self, asks: &Asks, tree: &Tree, key: Option<&Key>) -> Result<bool, String> {
        match asks {
            Asks::Is(wanted) => Ok(same(wanted, tree)),
            Asks::Holds(_) => match tree {
                Tree::List(items) => Ok(items.iter().any(|item| self.names_item(item, key))),
                other => Err(format!("expected a list, found {}", other.kind())),
            },
            Asks::Above(limit) => self.compared(tree, *limit, key, Number::is_above),
            Asks::AtLeast(limit) => self.compared(tree, *limit, key, |value, limit| !limit.is_above(value)),
        }
    }

    /// Returns whether it depends on the position of the entry's key.
    pub(super) fn asks_position(&self) -> bool {
        matches!(self.asks, Some(Asks::Above(Limit::Position) | Asks::AtLeast(Limit::Position)))
    }

    fn compared(
        &self,
        tree: &Tree,
        limit: Limit,
        key: Option<&Key>,
        holds: fn(Number, Number) -> bool,
    ) -> Result<bool, String> {
        let limit = match limit {
            Limit::Number(number) => number,
            Limit::Position => Number::Int(key.map_or(0, |key| key.position as i128)),
        };
        let value = Number::of(tree).ok_or_else(|| format!("expected a number, found {}", tree.kind()))?;
        Ok(holds(self.scaled(value), limit))
    }

    fn scaled(&self, value: Number) -> Number {
        let times = self.times.map_or(value, |times| value.times(times));
        self.plus.map_or(times, |plus| times.plus(plus))
    }

    /// The value itself, as near as the type allows: whole numbers where the field has whole numbers, bools where a save writes 0
    /// and 1, numbers where it writes texts. What does not fit at all stays as it is, and loading says so. `at` is where it stands
    /// in the value that is taken.
    fn value(
        &self,
        tree: &Tree,
        ty: &Type,
        at: &mut Vec<String>,
        unused: &mut Vec<Vec<String>>,
    ) -> Result<Tree, String> {
        let is_plain = self.times.is_none() && self.plus.is_none();
        Ok(match (ty, tree) {
            (Type::Int, Tree::Int(_)) if is_plain => tree.clone(),
            (Type::Int, _) => match Number::of(tree) {
                Some(number) => Tree::Int(self.scaled(number).whole()?),
                None => tree.clone(),
            },
            (Type::Float, _) => match Number::of(tree) {
                Some(number) => Tree::Float(Finite::new(self.scaled(number).finite()?)),
                None => tree.clone(),
            },
            (Type::Bool, Tree::Int(int @ (0 | 1))) => Tree::Bool(*int == 1),
            (Type::Bool, Tree::Text(text)) if text.eq_ignore_ascii_case("true") || &**text == "1" => Tree::Bool(true),
            (Type::Bool, Tree::Text(text)) if text.eq_ignore_ascii_case("false") || &**text == "0" => Tree::Bool(false),
            (Type::Text | Type::Choice(_), _) => self.text_of(tree).map_or_else(|| tree.clone(), Tree::Text),
            (Type::Map(item), Tree::List(items)) if self.by.is_some() => self.keyed(items, item, at, unused)?,
            (Type::List(item) | Type::Set(item), Tree::List(items)) => {
                let item = |(index, tree): (usize, &Tree)| inside(at, index, |at| self.value(tree, item, at, unused));
                Tree::List(items.iter().enumerate().map(item).collect::<Result<_, _>>()?)
            }
            (Type::Map(item), Tree::Map(entries)) => {
                let entry = |(name, tree): (&Arc<str>, &Tree)| {
                    Ok((self.called(name), inside(at, name, |at| self.value(tree, item, at, unused))?))
                };
                Tree::Map(entries.iter().map(entry).collect::<Result<_, String>>()?)
            }
            (Type::Struct(structure), Tree::Map(entries)) => self.of_struct(structure, entries, at, unused)?,
            (
                Type::Bool
                | Type::Bytes
                | Type::Vec2
                | Type::Vec3
                | Type::Struct(_)
                | Type::List(_)
                | Type::Set(_)
                | Type::Map(_),
                _,
            ) => tree.clone(),
        })
    }

    /// A struct of the members that it has; the others of the old value are for nobody.
    fn of_struct(
        &self,
        structure: &StructType,
        entries: &BTreeMap<Arc<str>, Tree>,
        at: &mut Vec<String>,
        unused: &mut Vec<Vec<String>>,
    ) -> Result<Tree, String> {
        let mut members = BTreeMap::new();
        let was = |name: &Arc<str>| self.members.get(&**name).map_or(&**name, String::as_str).to_owned();
        let known: Vec<String> = structure.members.iter().map(|member| was(&member.name)).collect();
        for (member, old) in structure.members.iter().zip(&known) {
            if let Some(tree) = entries.get(&**old) {
                let value = inside(at, old, |at| self.value(tree, &member.ty, at, unused))?;
                members.insert(member.name.clone(), value);
            }
        }
        for name in entries.keys().filter(|name| !known.iter().any(|known| **known == ***name)) {
            unused.push(at.iter().cloned().chain([name.to_string()]).collect());
        }
        Ok(Tree::Map(members))
    }

    /// A map of a list: each item by one of its members.
    fn keyed(
        &self,
        items: &[Tree],
        ty: &Type,
        at: &mut Vec<String>,
        unused: &mut Vec<Vec<String>>,
    ) -> Result<Tree, String> {
        let by = self.by.as_deref().unwrap_or_default();
        let mut map = BTreeMap::new();
        for (index, item) in items.iter().enumerate() {
            let way = at.clone();
            let path = |name: &str| way.iter().cloned().chain([index.to_string(), name.to_owned()]).collect::<Vec<_>>();
            let Tree::Map(members) = item else {
                return Err(format!("item {index} is {}, and has no `{by}`", item.kind()));
            };
            let Some(key) = members.get(by).and_then(|key| self.text_of(key)) else {
                return Err(format!("item {index} has no `{by}` that is a text or a whole number"));
            };
            let value = match &self.each {
                None => inside(at, index, |at| self.value(item, ty, at, unused))?,
                Some(each) => {
                    let Some(tree) = members.get(&**each) else {
                        return Err(format!("item {index} has no `{each}`"));
                    };
                    let others = members.keys().filter(|name| ***name != *by && ***name != **each);
                    unused.extend(others.map(|name| path(name)));
                    self.value(tree, ty, &mut path(each), unused)?
                }
            };
            // The member that is the key is taken by being it.
            unused.retain(|unused| *unused != path(by));
            if map.insert(key.clone(), value).is_some() {
                return Err(format!("two items have the `{by}` {key}"));
            }
        }
        Ok(Tree::Map(map))
    }

    /// A text, or a number as one, by the name that it has now.
    fn text_of(&self, tree: &Tree) -> Option<Arc<str>> {
        match tree {
            Tree::Text(text) => Some(self.called(text)),
            Tree::Int(int) => Some(self.called(&int.to_string().into())),
            Tree::Null | Tree::Bool(_) | Tree::Float(_) | Tree::List(_) | Tree::Map(_) => None,
        }
    }

    fn called(&self, text: &Arc<str>) -> Arc<str> {
        self.names.get(&**text).map_or_else(|| text.clone(), |now| now.as_str().into())
    }
}

/// Does something one step further inside.
fn inside<T>(at: &mut Vec<String>, name: impl ToString, each: impl FnOnce(&mut Vec<String>) -> T) -> T {
    at.push(name.to_string());
    let done = each(at);
    at.pop();
    done
}

/// Compares two values; numbers are the same whichever way they are written.
fn same(one: &Tree, other: &Tree) -> bool {
    match (one, other) {
        (Tree::Int(_) | Tree::Float(_), Tree::Int(_) | Tree::Float(_)) => {
            let (Some(one), Some(other)) = (Number::of(one), Number::of(other)) else { return false };
            !one.is_above(other) && !other.is_above(one)
        }
        (one, other) => one == other,
    }
}
