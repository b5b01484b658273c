//! From the value of an old save to the value of a field.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::adopting::path::number;
use crate::value::Finite;
use crate::value::tree::Tree;
use crate::value::types::Type;

/// What is done with a value on its way.
#[derive(Clone, Debug, Default)]
pub(super) struct Conversion {
    /// Numbers are multiplied by this.
    pub(super) times: Option<f64>,
    /// And this is added.
    pub(super) plus: Option<f64>,
    /// What the old save writes where there is no value.
    pub(super) none: Option<Tree>,
    /// Texts that are called otherwise.
    pub(super) names: BTreeMap<String, String>,
    /// Instead of the value itself, whether this holds of it.
    pub(super) asks: Option<Asks>,
}

/// What is asked of a value.
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
    Number(f64),
    /// The position of the entry's key, counted from 1.
    Position,
}

#[derive(Clone, Debug)]
pub(super) enum Item {
    Text(String),
    /// What the old save calls the entry's key.
    Star,
}

/// The key of the entry for which a value is taken.
pub(super) struct Key {
    /// What the old save calls it.
    pub(super) old: String,
    /// Its position, counted from 1; 0 for a level that stands outside the order.
    pub(super) position: usize,
}

impl Conversion {
    /// The value for a field of a type; `key` is the one of a starred entry. Or what is wrong with it, in words.
    pub(super) fn of(&self, tree: &Tree, ty: &Type, key: Option<&Key>) -> Result<Tree, String> {
        if self.none.as_ref() == Some(tree) {
            return Ok(Tree::Null);
        }
        match &self.asks {
            None => self.value(tree, ty),
            Some(Asks::Is(wanted)) => Ok(Tree::Bool(tree == wanted)),
            Some(Asks::Holds(item)) => {
                let wanted = match (item, key) {
                    (Item::Text(text), _) => text.as_str(),
                    (Item::Star, Some(key)) => key.old.as_str(),
                    (Item::Star, None) => return Ok(Tree::Bool(false)),
                };
                match tree {
                    Tree::List(items) => {
                        Ok(Tree::Bool(items.iter().any(|item| self.text_of(item) == Some(wanted.into()))))
                    }
                    other => Err(format!("{} is no list", other.kind())),
                }
            }
            Some(Asks::Above(limit)) => self.compared(tree, *limit, key, |value, limit| value > limit),
            Some(Asks::AtLeast(limit)) => self.compared(tree, *limit, key, |value, limit| value >= limit),
        }
    }

    /// Whether it depends on the position of the entry's key.
    pub(super) fn asks_position(&self) -> bool {
        matches!(self.asks, Some(Asks::Above(Limit::Position) | Asks::AtLeast(Limit::Position)))
    }

    fn compared(
        &self,
        tree: &Tree,
        limit: Limit,
        key: Option<&Key>,
        holds: fn(f64, f64) -> bool,
    ) -> Result<Tree, String> {
        let limit = match limit {
            Limit::Number(number) => number,
            Limit::Position => key.map_or(0.0, |key| key.position as f64),
        };
        let value = as_number(tree).ok_or_else(|| format!("{} is no number", tree.kind()))?;
        Ok(Tree::Bool(holds(self.scaled(value), limit)))
    }

    fn scaled(&self, value: f64) -> f64 {
        value * self.times.unwrap_or(1.0) + self.plus.unwrap_or(0.0)
    }

    /// The value itself, as near as the type allows: whole numbers where the field has whole numbers, bools where a save writes 0
    /// and 1, numbers where it writes texts. What does not fit at all stays as it is, and loading says so.
    fn value(&self, tree: &Tree, ty: &Type) -> Result<Tree, String> {
        let is_plain = self.times.is_none() && self.plus.is_none();
        Ok(match (ty, tree) {
            (Type::Int, Tree::Int(_)) if is_plain => tree.clone(),
            (Type::Int, _) => match as_number(tree) {
                Some(number) => Tree::Int(self.scaled(number).round() as i64),
                None => tree.clone(),
            },
            (Type::Float, _) => match as_number(tree) {
                Some(number) => Tree::Float(Finite::new(self.scaled(number))),
                None => tree.clone(),
            },
            (Type::Bool, Tree::Int(int @ (0 | 1))) => Tree::Bool(*int == 1),
            (Type::Bool, Tree::Text(text)) if text.eq_ignore_ascii_case("true") || &**text == "1" => Tree::Bool(true),
            (Type::Bool, Tree::Text(text)) if text.eq_ignore_ascii_case("false") || &**text == "0" => Tree::Bool(false),
            (Type::Text | Type::Choice(_), _) => self.text_of(tree).map_or_else(|| tree.clone(), Tree::Text),
            (Type::List(item) | Type::Set(item), Tree::List(items)) => {
                Tree::List(items.iter().map(|tree| self.value(tree, item)).collect::<Result<_, _>>()?)
            }
            (Type::Map(item), Tree::Map(entries)) => {
                let entry = |(name, tree): (&Arc<str>, &Tree)| Ok((self.called(name), self.value(tree, item)?));
                Tree::Map(entries.iter().map(entry).collect::<Result<_, String>>()?)
            }
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

fn as_number(tree: &Tree) -> Option<f64> {
    match tree {
        Tree::Int(int) => Some(*int as f64),
        Tree::Float(float) => Some(float.get()),
        Tree::Text(text) => number(text),
        Tree::Null | Tree::Bool(_) | Tree::List(_) | Tree::Map(_) => None,
    }
}
