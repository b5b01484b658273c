//! Lists, sets and maps through handles, item by item: what is not asked for is neither read nor written.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::hash::{BuildHasher, Hash};
use std::marker::PhantomData;

use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::handle::Handle;
use crate::outcome::Written;
use crate::progress::Progress;
use vestigum_spec::value::Value;
use vestigum_spec::value::edit::Edit;
use vestigum_spec::value::parts::Part;
use vestigum_spec::value::serial::{Misfit, from_value, to_value};
use vestigum_spec::value::types::Type;
use vestigum_spec::{AccessError, AccessErrorKind};

/// Rust types of items: what serde reads and writes.
pub trait Item: Serialize + DeserializeOwned + 'static {}

impl<T: Serialize + DeserializeOwned + 'static> Item for T {}

/// Rust types that a set is read as.
pub trait SetValue {
    /// The type of its items.
    type Item: Item;
}

impl<T: Item + Ord> SetValue for BTreeSet<T> {
    type Item = T;
}

impl<T: Item + Eq + Hash, S: BuildHasher> SetValue for HashSet<T, S> {
    type Item = T;
}

impl<T: Item> SetValue for Vec<T> {
    type Item = T;
}

/// Rust types that a map is read as.
pub trait MapValue {
    /// The type of its values.
    type Item: Item;
}

impl<K: Item + Ord, T: Item> MapValue for BTreeMap<K, T> {
    type Item = T;
}

impl<K: Item + Eq + Hash, T: Item, S: BuildHasher> MapValue for HashMap<K, T, S> {
    type Item = T;
}

/// Describes what plays: progress, or a session that also saves it.
pub trait Plays {
    #[doc(hidden)]
    fn progress(&self) -> &Progress;
    #[doc(hidden)]
    fn edit_at<T: ?Sized>(&mut self, at: Handle<T>, path: &[Part], edit: Edit) -> Result<Written, AccessError>;
}

impl Plays for Progress {
    fn progress(&self) -> &Progress {
        self
    }

    fn edit_at<T: ?Sized>(&mut self, at: Handle<T>, path: &[Part], edit: Edit) -> Result<Written, AccessError> {
        self.edit_handle(at, path, edit)
    }
}

/// The item that a value is. Its shape was checked where the handle was made.
fn read<T: Item>(value: &Value) -> T {
    from_value(value).unwrap_or_else(|why| {
        panic!("{value} is refused by `{}`: {why}", crate::handle::shape::short_name(std::any::type_name::<T>()))
    })
}

/// A value in the shape that the spec gives it.
pub(super) fn written<T: Item>(game: &Progress, at: &Handle<impl ?Sized>, item: &T) -> Result<Value, AccessError> {
    to_value(item).map_err(|Misfit(why)| {
        AccessErrorKind::Shape { field: game.model.field(at.field).name.to_string(), why }.into()
    })
}

/// The items of a list or a set: a `Vec` reads both, so both views do.
fn items(value: &Value) -> impl Iterator<Item = &Value> {
    let list = match value {
        Value::List(list) => Some(list.iter()),
        _ => None,
    };
    let set = match value {
        Value::Set(set) => Some(set.iter()),
        _ => None,
    };
    list.into_iter().flatten().chain(set.into_iter().flatten())
}

/// A list of progress, item by item. Positions count from 0, as in Rust.
pub struct ListView<'a, T> {
    value: &'a Value,
    ty: PhantomData<fn() -> T>,
}

impl<'a, T: Item> ListView<'a, T> {
    /// Returns how many items it has.
    pub fn len(&self) -> usize {
        self.value.len()
    }

    /// Returns whether it has none.
    pub fn is_empty(&self) -> bool {
        self.value.is_empty()
    }

    /// The item at a position.
    pub fn get(&self, index: usize) -> Option<T> {
        items(self.value).nth(index).map(read)
    }

    /// The items from the first to the last.
    pub fn iter(&self) -> impl Iterator<Item = T> + use<'a, T> {
        items(self.value).map(read)
    }
}

/// A list of progress that is changed item by item.
pub struct ListMut<'a, G, T> {
    game: &'a mut G,
    at: Handle<Vec<T>>,
}

impl<G: Plays, T: Item> ListMut<'_, G, T> {
    /// Puts an item behind the last; in a ranking, in its place. A full list stays as it is, and the answer says that the item was
    /// [clamped](Written::clamped).
    ///
    /// # Errors
    /// As [`Progress::set`].
    pub fn push(&mut self, item: T) -> Result<Written, AccessError> {
        let item = written(self.game.progress(), &self.at, &item)?;
        self.game.edit_at(self.at, &[], Edit::Insert(item))
    }

    /// Writes the item at a position.
    ///
    /// # Errors
    /// As [`Progress::set`], and if there is no such position.
    pub fn set(&mut self, index: usize, item: T) -> Result<Written, AccessError> {
        let item = written(self.game.progress(), &self.at, &item)?;
        self.game.edit_at(self.at, &[Part::Item(index + 1)], Edit::Set(item))
    }

    /// Changes the item at a position.
    ///
    /// # Errors
    /// As [`ListMut::set`].
    pub fn update(&mut self, index: usize, change: impl FnOnce(&mut T)) -> Result<Written, AccessError> {
        let value = self.game.progress().state.value(self.at.slot as usize);
        match value.part(&[Part::Item(index + 1)]).map(read) {
            Some(mut item) => {
                change(&mut item);
                self.set(index, item)
            }
            None => self.game.edit_at(self.at, &[Part::Item(index + 1)], Edit::Set(Value::Unfilled)),
        }
    }

    /// Takes the item at a position out.
    ///
    /// # Errors
    /// As [`ListMut::set`].
    pub fn remove(&mut self, index: usize) -> Result<Written, AccessError> {
        self.game.edit_at(self.at, &[], Edit::RemoveAt(index + 1))
    }
}

/// A set of progress, item by item.
pub struct SetView<'a, T> {
    value: &'a Value,
    item: &'a Type,
    ty: PhantomData<fn() -> T>,
}

impl<'a, T: Item> SetView<'a, T> {
    /// Returns how many items it has.
    pub fn len(&self) -> usize {
        self.value.len()
    }

    /// Returns whether it has none.
    pub fn is_empty(&self) -> bool {
        self.value.is_empty()
    }

    /// Returns whether an item is in it.
    pub fn contains<Q: Serialize + ?Sized>(&self, item: &Q) -> bool {
        let Some(wanted) = to_value(item).ok().and_then(|wanted| wanted.fitted(self.item)) else { return false };
        match self.value {
            Value::Set(set) => set.contains(&wanted),
            other => items(other).any(|known| *known == wanted),
        }
    }

    /// The items in their order.
    pub fn iter(&self) -> impl Iterator<Item = T> + use<'a, T> {
        items(self.value).map(read)
    }
}

/// A set of progress that is changed item by item.
pub struct SetMut<'a, G, S: SetValue> {
    game: &'a mut G,
    at: Handle<S>,
}

impl<G: Plays, S: SetValue> SetMut<'_, G, S> {
    /// Puts an item in. A full set takes no new one, and the answer says that it was [clamped](Written::clamped).
    ///
    /// # Errors
    /// As [`Progress::set`].
    pub fn insert(&mut self, item: S::Item) -> Result<Written, AccessError> {
        let item = written(self.game.progress(), &self.at, &item)?;
        self.game.edit_at(self.at, &[], Edit::Insert(item))
    }

    /// Takes an item out. Taking out what is not there changes nothing.
    ///
    /// # Errors
    /// As [`Progress::set`].
    pub fn remove(&mut self, item: &S::Item) -> Result<Written, AccessError> {
        let item = written(self.game.progress(), &self.at, item)?;
        self.game.edit_at(self.at, &[], Edit::Remove(item))
    }
}

/// A map of progress, entry by entry.
pub struct MapView<'a, T> {
    value: &'a Value,
    ty: PhantomData<fn() -> T>,
}

impl<'a, T: Item> MapView<'a, T> {
    /// Returns how many entries it has.
    pub fn len(&self) -> usize {
        self.value.len()
    }

    /// Returns whether it has none.
    pub fn is_empty(&self) -> bool {
        self.value.is_empty()
    }

    /// The value under a key.
    pub fn get(&self, key: &str) -> Option<T> {
        self.value.entry(key).map(read)
    }

    /// Returns whether there is a value under a key.
    pub fn contains(&self, key: &str) -> bool {
        self.value.entry(key).is_some()
    }

    /// The entries in the order of their keys.
    pub fn iter(&self) -> impl Iterator<Item = (&'a str, T)> + use<'a, T> {
        let entries = match self.value {
            Value::Map(map) => Some(map.iter()),
            _ => None,
        };
        entries.into_iter().flatten().map(|(key, value)| (&**key, read(value)))
    }
}

/// A map of progress that is changed entry by entry.
pub struct MapMut<'a, G, M: MapValue> {
    game: &'a mut G,
    at: Handle<M>,
}

impl<G: Plays, M: MapValue> MapMut<'_, G, M> {
    /// Puts a value under a key. A full map takes no new key, and the answer says that the value was
    /// [clamped](Written::clamped).
    ///
    /// # Errors
    /// As [`Progress::set`].
    pub fn insert(&mut self, key: &str, item: M::Item) -> Result<Written, AccessError> {
        let item = written(self.game.progress(), &self.at, &item)?;
        self.game.edit_at(self.at, &[], Edit::InsertAt(key.into(), item))
    }

    /// Changes the value under a key.
    ///
    /// # Errors
    /// As [`Progress::set`], and if there is nothing under it.
    pub fn update(&mut self, key: &str, change: impl FnOnce(&mut M::Item)) -> Result<Written, AccessError> {
        let path = [Part::entry(key)];
        let value = self.game.progress().state.value(self.at.slot as usize);
        let item = match value.part(&path).map(read) {
            Some(mut item) => {
                change(&mut item);
                written(self.game.progress(), &self.at, &item)?
            }
            None => Value::Unfilled,
        };
        self.game.edit_at(self.at, &path, Edit::Set(item))
    }

    /// Takes the entry under a key out. Taking out what is not there changes nothing.
    ///
    /// # Errors
    /// As [`Progress::set`].
    pub fn remove(&mut self, key: &str) -> Result<Written, AccessError> {
        self.game.edit_at(self.at, &[], Edit::Remove(Value::text(key)))
    }
}

impl Progress {
    /// A list, item by item.
    ///
    /// # Panics
    /// If the handle is of another spec.
    ///
    /// # Example
    ///
    /// ```
    /// # use std::collections::{BTreeMap, BTreeSet};
    /// # use vestigum_core::{Progress, Spec};
    /// let spec = Spec::from_toml(r#"
    ///     [game]
    ///     id = "fellpost"
    ///     [levels]
    ///     order = ["mill_lane"]
    ///     [field.route]
    ///     type = "list of text"
    ///     lasts = "run"
    ///     after_failure = "keep"
    ///     [field.stamps]
    ///     type = "set of text"
    ///     lasts = "profile"
    ///     after_failure = "keep"
    ///     [field.satchel]
    ///     type = "map of int"
    ///     lasts = "run"
    ///     after_failure = "keep"
    /// "#)?;
    /// let route = spec.field::<Vec<String>>("route")?;
    /// let stamps = spec.field::<BTreeSet<String>>("stamps")?;
    /// let satchel = spec.field::<BTreeMap<String, i64>>("satchel")?;
    /// let mut game = Progress::fresh(&spec);
    ///
    /// game.list_mut(route).push("ford".into())?;
    /// game.list_mut(route).update(0, |stop| stop.push('s'))?;
    /// assert_eq!(game.list(route).get(0).as_deref(), Some("fords"));
    ///
    /// game.set_of_mut(stamps).insert("owl".into())?;
    /// assert!(game.set_of(stamps).contains("owl"));
    ///
    /// game.map_mut(satchel).insert("ring", 2)?;
    /// game.map_mut(satchel).update("ring", |weight| *weight += 1)?;
    /// assert_eq!(game.map(satchel).get("ring"), Some(3));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn list<T: Item>(&self, at: Handle<Vec<T>>) -> ListView<'_, T> {
        ListView { value: self.held(at), ty: PhantomData }
    }

    /// A list, to be changed item by item; see [`Progress::list`].
    pub fn list_mut<T: Item>(&mut self, at: Handle<Vec<T>>) -> ListMut<'_, Progress, T> {
        ListMut { game: self, at }
    }

    /// A set, item by item; see [`Progress::list`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn set_of<S: SetValue>(&self, at: Handle<S>) -> SetView<'_, S::Item> {
        let item = match &self.model.field(at.field).ty {
            Type::Set(item) | Type::List(item) => item,
            other => other,
        };
        SetView { value: self.held(at), item, ty: PhantomData }
    }

    /// A set, to be changed item by item; see [`Progress::list`].
    pub fn set_of_mut<S: SetValue>(&mut self, at: Handle<S>) -> SetMut<'_, Progress, S> {
        SetMut { game: self, at }
    }

    /// A map, entry by entry; see [`Progress::list`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn map<M: MapValue>(&self, at: Handle<M>) -> MapView<'_, M::Item> {
        MapView { value: self.held(at), ty: PhantomData }
    }

    /// A map, to be changed entry by entry; see [`Progress::list`].
    pub fn map_mut<M: MapValue>(&mut self, at: Handle<M>) -> MapMut<'_, Progress, M> {
        MapMut { game: self, at }
    }

    fn held<T: ?Sized>(&self, at: Handle<T>) -> &Value {
        self.check_handle(at.fingerprint);
        self.state.value(at.slot as usize)
    }
}

/// For a session, which has its own way to write.
#[doc(hidden)]
impl<'a, G: Plays, T: Item> ListMut<'a, G, T> {
    pub fn new(game: &'a mut G, at: Handle<Vec<T>>) -> Self {
        ListMut { game, at }
    }
}

#[doc(hidden)]
impl<'a, G: Plays, S: SetValue> SetMut<'a, G, S> {
    pub fn new(game: &'a mut G, at: Handle<S>) -> Self {
        SetMut { game, at }
    }
}

#[doc(hidden)]
impl<'a, G: Plays, M: MapValue> MapMut<'a, G, M> {
    pub fn new(game: &'a mut G, at: Handle<M>) -> Self {
        MapMut { game, at }
    }
}
