//! What play writes, between the moments.

use std::sync::Arc;

use super::openings::opened_level;
use crate::handle::{Handle, Number, Scalar};
use crate::model::entry::EntrySlot;
use crate::model::field::{Field, FieldId};
use crate::outcome::{AccessError, AccessErrorKind, Written};
use crate::progress::Progress;
use crate::progress::display::exactly;
use crate::value::containers::Map;
use crate::value::limits::Limits;
use crate::value::tree::Tree;
use crate::value::types::Type;
use crate::value::{Value, sum};

impl Progress {
    /// Writes a value. It is brought into the field's limits, and the answer says so.
    ///
    /// # Errors
    /// If only rules write the field, if it lives inside a level and the player is in none, or after `quit`.
    ///
    /// # Panics
    /// If the handle is of another spec.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// let score = spec.int("score")?;
    /// assert!(!game.set(score, 60)?.clamped());
    /// assert!(game.set(score, 5000)?.clamped());         // its range ends at 1000
    /// assert_eq!(game.get(score), 1000);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[inline(always)]
    pub fn set<T: Scalar + ?Sized>(&mut self, at: Handle<T>, value: T::Write<'_>) -> Result<Written, AccessError> {
        self.check_handle(at.fingerprint);
        if self.is_plain(at)
            && let Some(place) = self.state.settled(at.slot as usize)
            && T::put(place, &value, at.lowest, at.highest)
        {
            return Ok(Written::default());
        }
        self.set_with_care(at, value)
    }

    /// Whether nothing has to be asked before a write through the handle but what the value is.
    #[inline(always)]
    fn is_plain<T: ?Sized>(&self, at: Handle<T>) -> bool {
        !self.closed && at.gate.lets(self.state.position.is_level())
    }

    #[cold]
    #[inline(never)]
    fn set_with_care<T: Scalar + ?Sized>(
        &mut self,
        at: Handle<T>,
        value: T::Write<'_>,
    ) -> Result<Written, AccessError> {
        self.put(at.field, at.slot as usize, |_, limits| T::fit(value, limits))
    }

    /// Adds to a number. The sum saturates.
    ///
    /// # Errors
    /// As [`Progress::set`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// let score = spec.int("score")?;
    /// game.add(score, 60)?;
    /// game.add(score, 40)?;
    /// assert_eq!(game.get(score), 100);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[inline(always)]
    pub fn add<T: Number>(&mut self, at: Handle<T>, by: T) -> Result<Written, AccessError> {
        self.check_handle(at.fingerprint);
        if self.is_plain(at)
            && let Some(place) = self.state.settled(at.slot as usize)
            && T::add_to(place, by, at.lowest, at.highest)
        {
            return Ok(Written::default());
        }
        self.add_with_care(at, by)
    }

    #[cold]
    #[inline(never)]
    fn add_with_care<T: Number>(&mut self, at: Handle<T>, by: T) -> Result<Written, AccessError> {
        self.put(at.field, at.slot as usize, |old, limits| {
            let (sum, cut) = T::plus(old, by);
            let (value, clamped) = T::fit(sum, limits);
            (value, clamped || cut)
        })
    }

    /// Writes a field by name; see [`Progress::value`] for `keys`. A key of an open set is made by its first write.
    ///
    /// # Errors
    /// As [`Progress::set`], and if there is no such field or key, or the value is of another type.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec, Value};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// game.write("best_time", &["mill_lane"], Value::Int(61_500))?;
    /// let refused = game.write("lanterns", &[], Value::Int(9));
    /// assert!(refused.is_err());                         // rules write it, play does not
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn write(&mut self, field: &str, keys: &[&str], value: Value) -> Result<Written, AccessError> {
        let id = self.find(field)?.id;
        let value = self.fitted(id, value)?;
        self.put_by_name(id, keys, |_, limits| limits.clamp(value))
    }

    /// Adds to a field by name.
    ///
    /// # Errors
    /// As [`Progress::write`], and if the field is no number.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec, Value};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// game.write_add("score", &[], Value::Int(60))?;
    /// assert_eq!(game.value("score", &[])?, Value::Int(60));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn write_add(&mut self, field: &str, keys: &[&str], by: Value) -> Result<Written, AccessError> {
        let id = self.find(field)?.id;
        let by = self.fitted(id, by)?;
        if !self.model.field(id).ty.is_number() {
            return Err(self.no_such_operation(id, "added to"));
        }
        self.put_by_name(id, keys, |old, limits| {
            let (sum, cut) = if old.is_filled() { sum(&old, &by) } else { (by, false) };
            let (value, clamped) = limits.clamp(sum);
            (value, clamped || cut)
        })
    }

    /// Puts a value into a list, at its end, or into a set. A full one stays as it is, and the answer says that the value
    /// was [clamped](Written::clamped).
    ///
    /// # Errors
    /// As [`Progress::write`], and if the field is neither.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec, Value};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// let owl = Value::Text("owl".into());
    /// game.insert("stamps", &[], owl.clone())?;
    /// game.insert("stamps", &[], owl)?;                  // a set has it once
    /// assert_eq!(game.value("stamps", &[])?.len(), 1);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn insert(&mut self, field: &str, keys: &[&str], item: Value) -> Result<Written, AccessError> {
        let id = self.find(field)?.id;
        let (Type::List(inner) | Type::Set(inner)) = self.model.field(id).ty.clone() else {
            return Err(self.no_such_operation(id, "inserted into without a key"));
        };
        let item = self.fitted_to(id, item, &inner)?;
        let is_set = matches!(self.model.field(id).ty, Type::Set(_));
        self.put_by_name(id, keys, |old, limits| {
            let (item, cut) = limits.clamp_item(item);
            // What is in a full container stays: the new value is the one that finds no room.
            let room = limits.has_room(&old);
            let container = match old {
                Value::Set(set) if !room && !set.contains(&item) => return (Value::Set(set), true),
                Value::List(list) if !room => return (Value::List(list), true),
                Value::Set(mut set) => {
                    set.insert(item);
                    Value::Set(set)
                }
                Value::List(mut list) => {
                    list.push(item);
                    Value::List(list)
                }
                // An optional list or set that is not filled yet.
                _ if is_set => Value::Set([item].into_iter().collect()),
                _ => Value::List([item].into_iter().collect()),
            };
            (container, cut)
        })
    }

    /// Puts a value under a key of a map. A full one takes no new key, and the answer says that the value was
    /// [clamped](Written::clamped).
    ///
    /// # Errors
    /// As [`Progress::write`], and if the field is no map.
    pub fn insert_at(&mut self, field: &str, keys: &[&str], at: &str, item: Value) -> Result<Written, AccessError> {
        let id = self.find(field)?.id;
        let Type::Map(inner) = self.model.field(id).ty.clone() else {
            return Err(self.no_such_operation(id, "inserted into with a key"));
        };
        let item = self.fitted_to(id, item, &inner)?;
        let written: Arc<str> = at.into();
        self.put_by_name(id, keys, |old, limits| {
            let at = limits.shortened_key(&written);
            let (item, cut) = limits.clamp_item(item);
            let cut = cut || at != written;
            let room = limits.has_room(&old);
            let mut map = match old {
                Value::Map(map) if !room && !map.contains_key(&at) => return (Value::Map(map), true),
                Value::Map(map) => map,
                _ => Map::default(),
            };
            map.insert(at, item);
            (Value::Map(map), cut)
        })
    }

    /// Takes a value out of a set, the first equal one out of a list, or the entry under a text out of a map. Taking out
    /// what is not there changes nothing.
    ///
    /// # Errors
    /// As [`Progress::write`], and if the field is none of these.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec, Value};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// let owl = Value::Text("owl".into());
    /// game.insert("stamps", &[], owl.clone())?;
    /// game.remove("stamps", &[], owl)?;
    /// assert!(game.value("stamps", &[])?.is_empty());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn remove(&mut self, field: &str, keys: &[&str], item: Value) -> Result<Written, AccessError> {
        let id = self.find(field)?.id;
        let item = match self.model.field(id).ty.clone() {
            Type::List(inner) | Type::Set(inner) => self.fitted_to(id, item, &inner)?,
            Type::Map(_) => self.fitted_to(id, item, &Type::Text)?,
            Type::Bool
            | Type::Int
            | Type::Float
            | Type::Text
            | Type::Bytes
            | Type::Vec2
            | Type::Vec3
            | Type::Choice(_)
            | Type::Struct(_) => return Err(self.no_such_operation(id, "removed from")),
        };
        self.put_by_name(id, keys, |old, _| {
            let new = match old {
                Value::Set(mut set) => {
                    set.remove(&item);
                    Value::Set(set)
                }
                Value::List(mut list) => {
                    if let Some(at) = list.iter().position(|known| *known == item) {
                        list.remove(at);
                    }
                    Value::List(list)
                }
                Value::Map(mut map) => {
                    map.remove(item.as_text());
                    Value::Map(map)
                }
                other => other,
            };
            (new, false)
        })
    }

    fn fitted(&self, field: FieldId, value: Value) -> Result<Value, AccessError> {
        let ty = self.model.field(field).ty.clone();
        self.fitted_to(field, value, &ty)
    }

    fn fitted_to(&self, field: FieldId, value: Value, ty: &Type) -> Result<Value, AccessError> {
        let name = || self.model.field(field).name.to_string();
        value.clone().fitted(ty).ok_or_else(|| match exactly(&Tree::of(&value), ty, &name()) {
            // Of a struct it says which member is the matter.
            Err(misfits) if ty.has_struct() => AccessErrorKind::Shape { field: name(), why: misfits.join("; ") }.into(),
            _ => AccessErrorKind::WrongType { field: name(), wanted: ty.clone(), value: value.to_string() }.into(),
        })
    }

    fn no_such_operation(&self, field: FieldId, what: &'static str) -> AccessError {
        let field = self.model.field(field);
        AccessErrorKind::NoSuchOperation { field: field.name.to_string(), ty: field.ty.clone(), what }.into()
    }

    /// Nothing is made and nothing written unless play may write the field.
    fn put_by_name(
        &mut self,
        id: FieldId,
        keys: &[&str],
        new: impl FnOnce(Value, &Limits) -> (Value, bool),
    ) -> Result<Written, AccessError> {
        let spec = self.model.clone();
        let field = spec.field(id);
        let found = self.entry(field, keys)?;
        if !self.takes(field) {
            return Err(self.why_not(id));
        }
        let slot = match found {
            EntrySlot::Slot(slot) => slot,
            EntrySlot::NotMade => self.make_keys(field, keys)?,
        };
        // Taken out, a container that no mark shares is changed where it is.
        let old = self.state.take(slot);
        let (value, clamped) = new(old, &field.limits);
        self.state.write(slot, value);
        Ok(self.written(self.model.opens_levels(id), clamped))
    }

    #[inline(always)]
    fn written(&mut self, judge: bool, clamped: bool) -> Written {
        Written { clamped, opened: if judge { self.opened_now() } else { None } }
    }

    #[inline(always)]
    fn takes(&self, field: &Field) -> bool {
        !self.closed && field.played && (!field.in_level || self.state.position.is_level())
    }

    /// Writes what `new` makes of the old value, if play may write the field where it is now.
    #[inline(always)]
    fn put(
        &mut self,
        id: FieldId,
        slot: usize,
        new: impl FnOnce(&Value, &Limits) -> (Value, bool),
    ) -> Result<Written, AccessError> {
        let field = self.model.field(id);
        if !self.takes(field) {
            return Err(self.why_not(id));
        }
        let (value, clamped) = new(self.state.value(slot), &field.limits);
        let judge = self.model.opens_levels(id);
        self.state.write(slot, value);
        Ok(self.written(judge, clamped))
    }

    #[cold]
    #[inline(never)]
    fn why_not(&self, field: FieldId) -> AccessError {
        let field = self.model.field(field);
        let name = field.name.to_string();
        if self.closed {
            AccessErrorKind::Closed.into()
        } else if !field.written_by.play() {
            AccessErrorKind::RulesOnly { field: name }.into()
        } else {
            AccessErrorKind::NotInLevel { field: name, lasts: field.lasts, place: self.place() }.into()
        }
    }

    #[cold]
    #[inline(never)]
    fn opened_now(&mut self) -> Option<Box<[Arc<str>]>> {
        let opened: Vec<Arc<str>> = self.judge_openings().iter().filter_map(opened_level).collect();
        (!opened.is_empty()).then(|| opened.into())
    }
}
