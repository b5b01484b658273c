//! What play writes, between the moments.

use std::sync::Arc;

use super::openings::opened_level;
use crate::handle::Handle;
use crate::handle::field_value::{FieldValue, Number};
use crate::outcome::Written;
use crate::progress::Progress;
use crate::progress::collections::{Item, written};
use vestigum_spec::model::entry::EntrySlot;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::placed::Gate;
use vestigum_spec::value::Value;
use vestigum_spec::value::decode::exactly;
use vestigum_spec::value::edit::{Edit, Unfit};
use vestigum_spec::value::parts::{Part, part_name, part_type};
use vestigum_spec::value::serial::Misfit;
use vestigum_spec::value::tree::Tree;
use vestigum_spec::value::types::Type;
use vestigum_spec::vocabulary::fate::Operation;
use vestigum_spec::vocabulary::span::Span;
use vestigum_spec::{AccessError, AccessErrorKind};

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
    pub fn set<T: FieldValue + ?Sized>(&mut self, at: Handle<T>, value: T::Write<'_>) -> Result<Written, AccessError> {
        if let Some(place) = self.plain_place(at.fingerprint, at.slot, at.gate)
            && T::put(place, &value, at.lowest, at.highest)
        {
            return Ok(Written::default());
        }
        self.set_with_care(at, value)
    }

    /// The value that a write through a handle changes, where nothing has to be asked before it but what the new value is.
    #[cfg_attr(not(debug_assertions), inline(always))]
    fn plain_place(&mut self, fingerprint: u32, slot: u32, gate: Gate) -> Option<&mut Value> {
        let in_level = self.state.position.is_level();
        // One comparison notices the handle of another spec and the end of the session; which of them it is, is asked when it is one.
        if fingerprint != self.open_to || !gate.lets(in_level) {
            self.check_handle_with_care(fingerprint);
            return None;
        }
        self.state.settled(slot as usize, in_level)
    }

    #[cold]
    #[inline(never)]
    fn check_handle_with_care(&self, fingerprint: u32) {
        self.check_handle(fingerprint);
    }

    #[cold]
    #[inline(never)]
    fn set_with_care<T: FieldValue + ?Sized>(
        &mut self,
        at: Handle<T>,
        value: T::Write<'_>,
    ) -> Result<Written, AccessError> {
        let field = self.model.field(at.field);
        if !self.takes(field) {
            return Err(self.why_not(at.field));
        }
        self.there(field, at.slot as usize)?;
        let (value, clamped) = T::fit(value, field)
            .map_err(|Misfit(why)| AccessErrorKind::Shape { field: field.name.to_string(), why })?;
        if clamped && field.is_blob() {
            return Err(Progress::too_long(field));
        }
        let slot = at.slot as usize;
        let save_due = field.saves && value != *self.state.value(slot);
        self.state.write(slot, value);
        Ok(self.written(self.model.opens_levels(at.field), clamped, save_due))
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
        if let Some(place) = self.plain_place(at.fingerprint, at.slot, at.gate)
            && T::add_to(place, by, at.lowest, at.highest)
        {
            return Ok(Written::default());
        }
        self.add_with_care(at, by)
    }

    #[cold]
    #[inline(never)]
    fn add_with_care<T: Number>(&mut self, at: Handle<T>, by: T) -> Result<Written, AccessError> {
        let (sum, cut) = T::plus(self.state.value(at.slot as usize), by);
        let written = self.set_with_care(at, sum)?;
        Ok(Written { clamped: written.clamped || cut, ..written })
    }

    /// Writes a number or a choice if it is higher than what is there, or if nothing is: a record as it happens. The answer says
    /// whether it was [beaten](Written::beaten).
    ///
    /// # Errors
    /// As [`Progress::set`], and if the field has no order.
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
    /// let best_time = spec.field_per::<Option<i64>, 1>("best_time")?.at("mill_lane")?;
    /// assert!(game.lower(best_time, Some(61_500))?.beaten());      // the first time there is
    /// assert!(!game.lower(best_time, Some(70_000))?.beaten());
    /// assert_eq!(game.get(best_time), Some(61_500));
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn raise<T: FieldValue>(&mut self, at: Handle<T>, to: T::Write<'_>) -> Result<Written, AccessError> {
        self.beat(at, to, Edit::Raise)
    }

    /// Writes a number or a choice if it is lower than what is there, or if nothing is; see [`Progress::raise`].
    ///
    /// # Errors
    /// As [`Progress::raise`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn lower<T: FieldValue>(&mut self, at: Handle<T>, to: T::Write<'_>) -> Result<Written, AccessError> {
        self.beat(at, to, Edit::Lower)
    }

    /// Puts an entry into a ranking, in its place: behind those that are as good. The answer tells [which](Written::ranked); the last
    /// entry of a full ranking goes.
    ///
    /// # Errors
    /// As [`Progress::set`], and if the field is no ranking.
    ///
    /// # Panics
    /// If the handle is of another spec.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// let spec = Spec::from_toml(r#"
    ///     [game]
    ///     id = "fellpost"
    ///     [levels]
    ///     order = ["mill_lane"]
    ///     [struct.walk]
    ///     carrier = "text"
    ///     letters = "int"
    ///     [field.best_walks]
    ///     type = "ranking of walk"
    ///     by = "highest letters"
    ///     max_len = 2
    ///     lasts = "profile"
    ///     after_failure = "keep"
    /// "#)?;
    /// # #[derive(serde::Serialize, serde::Deserialize)]
    /// struct Walk { carrier: String, letters: i64 }
    /// let best_walks = spec.field::<Vec<Walk>>("best_walks")?;
    /// let mut game = Progress::fresh(&spec);
    /// for (letters, place) in [(40, Some(1)), (60, Some(1)), (40, None)] {
    ///     let walk = Walk { carrier: String::new(), letters };
    ///     assert_eq!(game.place_in(best_walks, &walk)?, place);
    ///     let ranked = game.rank(best_walks, walk)?.ranked().unwrap();
    ///     assert_eq!(ranked.place(), place);
    /// }
    /// // The name is entered afterwards.
    /// game.list_mut(best_walks).update(0, |walk| walk.carrier = "Ib".into())?;
    /// assert_eq!(game.value("best_walks", &[])?.to_string(), "[{ carrier = 'Ib', letters = 60 }, { carrier = '', letters = 40 }]");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn rank<T: Item>(&mut self, at: Handle<Vec<T>>, entry: T) -> Result<Written, AccessError> {
        self.check_ranking(at)?;
        let entry = written(self, &at, &entry)?;
        self.edit_handle(at, &[], Edit::Insert(entry))
    }

    /// Returns which place an entry would take in a ranking, counted from 1; none if it would not come in.
    ///
    /// # Errors
    /// If the field is no ranking, or the entry has another shape.
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn place_in<T: Item>(&self, at: Handle<Vec<T>>, entry: &T) -> Result<Option<usize>, AccessError> {
        self.check_ranking(at)?;
        let entry = written(self, &at, entry)?;
        let of = self.model.field(at.field);
        let item = of.operand_type(Operation::Rank);
        let entry = entry
            .clone()
            .fitted(item)
            .ok_or_else(|| Progress::unfit(&of.name, &of.ty, Unfit::Value(entry, item.clone())))?;
        Ok(of.limits.place_in(self.state.value(at.slot as usize), entry))
    }

    fn check_ranking<T>(&self, at: Handle<Vec<T>>) -> Result<(), AccessError> {
        self.check_handle(at.fingerprint);
        let of = self.model.field(at.field);
        if of.ranking().is_some() {
            return Ok(());
        }
        let what = "ranked into: it is not a ranking";
        Err(AccessErrorKind::NoSuchOperation { field: of.name.to_string(), ty: of.ty.clone(), what }.into())
    }

    /// Reads a value, lets a function change it, and writes it.
    ///
    /// # Errors
    /// As [`Progress::set`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn update<T>(&mut self, at: Handle<T>, change: impl FnOnce(&mut T)) -> Result<Written, AccessError>
    where
        T: for<'a> FieldValue<Read<'a> = T, Write<'a> = T>,
    {
        let mut value = self.get(at);
        change(&mut value);
        self.set(at, value)
    }

    fn beat<T: FieldValue>(
        &mut self,
        at: Handle<T>,
        to: T::Write<'_>,
        edit: fn(Value) -> Edit,
    ) -> Result<Written, AccessError> {
        self.check_handle(at.fingerprint);
        let field = self.model.field(at.field);
        let shape = |Misfit(why)| AccessErrorKind::Shape { field: field.name.to_string(), why };
        let (value, clamped) = T::fit(to, field).map_err(shape)?;
        let written = self.edit_handle(at, &[], edit(value))?;
        Ok(Written { clamped: clamped && written.beaten, ..written })
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
        self.edit(field, keys, &[], Edit::Set(value))
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
        self.edit(field, keys, &[], Edit::Add(by))
    }

    /// Puts a value into a list, at its end, into a set, or into a ranking, in its place. A full list or set stays as it is, and the answer says that the value
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
        self.edit(field, keys, &[], Edit::Insert(item))
    }

    /// Puts a value under a key of a map. A full one takes no new key, and the answer says that the value was
    /// [clamped](Written::clamped).
    ///
    /// # Errors
    /// As [`Progress::write`], and if the field is no map.
    pub fn insert_at(&mut self, field: &str, keys: &[&str], at: &str, item: Value) -> Result<Written, AccessError> {
        self.edit(field, keys, &[], Edit::InsertAt(at.into(), item))
    }

    /// Takes a value out of a set, the first equal one out of a list, or the entry under a text out of a map. Taking out
    /// what is not there changes nothing.
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
    /// game.remove("stamps", &[], owl)?;
    /// assert!(game.value("stamps", &[])?.is_empty());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn remove(&mut self, field: &str, keys: &[&str], item: Value) -> Result<Written, AccessError> {
        self.edit(field, keys, &[], Edit::Remove(item))
    }

    /// Edits a field by name, or a part of its value: an item, an entry, a member. `path` leads from the value to
    /// that part; an empty one means the whole.
    ///
    /// # Errors
    /// As [`Progress::write`], and if the type has no such operation or there is no such part: a write makes no item.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Edit, Part, Progress, Spec, Value};
    /// let spec = Spec::from_toml(r#"
    ///     [game]
    ///     id = "fellpost"
    ///     [levels]
    ///     order = ["mill_lane"]
    ///     [struct.hound]
    ///     name = "text"
    ///     health = { type = "int", default = 10, range = [0, 10] }
    ///     [field.team]
    ///     type = "list of hound"
    ///     default = [{ name = "Rook" }]
    ///     lasts = "run"
    ///     after_failure = "keep"
    /// "#)?;
    /// let mut game = Progress::fresh(&spec);
    /// let health = [Part::Item(1), Part::member("health")];
    /// game.edit("team", &[], &health, Edit::Add(Value::Int(-4)))?;
    /// assert_eq!(game.value("team", &[])?.part(&health), Some(&Value::Int(6)));
    /// assert!(game.edit("team", &[], &[Part::Item(2)], Edit::Add(Value::Int(1))).is_err());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn edit(&mut self, field: &str, keys: &[&str], path: &[Part], edit: Edit) -> Result<Written, AccessError> {
        let field = self.find(field)?;
        let (id, found) = (field.id, self.entry(field, keys)?);
        self.edit_entry(id, found, keys, path, edit)
    }

    /// Ranks an entry through a handle.
    pub(crate) fn edit_handle<T: ?Sized>(
        &mut self,
        at: Handle<T>,
        path: &[Part],
        edit: Edit,
    ) -> Result<Written, AccessError> {
        self.check_handle(at.fingerprint);
        self.edit_entry(at.field, EntrySlot::Slot(at.slot as usize), &[], path, edit)
    }

    fn edit_entry(
        &mut self,
        id: FieldId,
        found: EntrySlot,
        keys: &[&str],
        path: &[Part],
        edit: Edit,
    ) -> Result<Written, AccessError> {
        let of = self.model.field(id);
        let name = part_name(&of.name, path);
        let no_part = |why: String| AccessErrorKind::NoPart { part: name.clone(), why };
        let (ty, limits) = part_type(&of.ty, &of.limits, path).map_err(|(_, why)| no_part(why))?;
        let part = match found {
            EntrySlot::Slot(slot) => self.state.value(slot).part(path),
            // The name is made with the first write, also of a member.
            EntrySlot::NotMade => of.default.part(path),
        };
        let Some(part) = part else {
            let whole = match found {
                EntrySlot::Slot(slot) => self.state.value(slot),
                EntrySlot::NotMade => &of.default,
            };
            if !whole.is_filled() {
                let why = format!("`{}` has no value yet: write a whole one first", of.name);
                return Err(no_part(why).into());
            }
            return Err(no_part("there is nothing of that kind: `insert` adds items and entries".into()).into());
        };
        if let Edit::RemoveAt(position) = edit
            && let Value::List(list) = part
            && !(1..=list.len()).contains(&position)
        {
            return Err(no_part(format!("it has {}, and not the one at {position}", part.counted(part.len()))).into());
        }
        let edit = edit.fitted(&ty).map_err(|unfit| Progress::unfit(&name, &ty, unfit))?;
        if let Edit::Set(value) = &edit
            && of.limits.is_too_long(value)
        {
            return Err(Progress::too_long(of));
        }
        let raises = edit.raises();
        let field_limits = of.limits.clone();
        let (mut beaten, mut ranked) = (false, None);
        let written = self.put_entry(id, found, keys, |mut whole| {
            let Some(part) = whole.part_mut(path) else { return (whole, false) };
            let old = std::mem::take(part);
            let before = raises.then(|| old.clone());
            let edited = edit.made(old, &ty, &limits);
            beaten = before.is_some_and(|before| before != edited.value);
            ranked = edited.ranked;
            *part = edited.value;
            // An entry of a ranking that was written anew has another place.
            if field_limits.ranking.is_some() && !path.is_empty() {
                whole = field_limits.clamp(whole).0;
            }
            (whole, edited.clamped)
        })?;
        Ok(Written { beaten, ranked, ..written })
    }

    fn too_long(field: &Field) -> AccessError {
        AccessErrorKind::BlobTooLong { field: field.name.to_string(), most: field.limits.max_len }.into()
    }

    fn unfit(name: &str, ty: &Type, unfit: Unfit) -> AccessError {
        let field = name.to_owned();
        match unfit {
            Unfit::Operation(what) => AccessErrorKind::NoSuchOperation { field, ty: ty.clone(), what }.into(),
            Unfit::Value(value, wanted) => match exactly(&Tree::of(&value), &wanted, name) {
                // Of a struct it says which member is the matter.
                Err(misfits) if wanted.has_struct() => AccessErrorKind::Shape { field, why: misfits.join("; ") }.into(),
                _ => AccessErrorKind::WrongType { field, wanted, value: value.to_string() }.into(),
            },
        }
    }

    /// Nothing is made and nothing written unless play may write the field.
    fn put_entry(
        &mut self,
        id: FieldId,
        found: EntrySlot,
        keys: &[&str],
        new: impl FnOnce(Value) -> (Value, bool),
    ) -> Result<Written, AccessError> {
        let spec = self.model.clone();
        let field = spec.field(id);
        if !self.takes(field) {
            return Err(self.why_not(id));
        }
        let slot = match found {
            EntrySlot::Slot(slot) => {
                self.there(field, slot)?;
                slot
            }
            EntrySlot::NotMade => {
                // A level that is not made has no entries, whatever their other keys are.
                let level = keys.iter().find_map(|name| spec.find_level(name).ok());
                if let Some(level) = level.filter(|level| field.is_per_level() && !self.state.has_level(&spec, *level))
                {
                    return Err(self.no_level(level));
                }
                self.make_keys(field, keys)?
            }
        };
        // Taken out, a container that no mark shares is changed where it is.
        let old = self.state.take(slot);
        let before = field.saves.then(|| old.clone());
        let (value, clamped) = new(old);
        let save_due = before.is_some_and(|before| before != value);
        self.state.write(slot, value);
        Ok(self.written(self.model.opens_levels(id), clamped, save_due))
    }

    #[inline(always)]
    pub(super) fn written(&mut self, judge: bool, clamped: bool, save_due: bool) -> Written {
        Written { clamped, beaten: false, save_due, ranked: None, opened: if judge { self.opened_now() } else { None } }
    }

    /// Returns whether the entry is there: what is kept for a level that players make is there while it is made.
    fn there(&self, field: &Field, slot: usize) -> Result<(), AccessError> {
        let level = field.level_of(&self.model, slot).filter(|_| !self.state.has_entry(&self.model, field, slot));
        match level {
            None => Ok(()),
            Some(level) if field.lasts == Span::Device => {
                let (field, level) = (field.name.to_string(), self.model.level(level).id.to_string());
                Err(AccessErrorKind::MadeByOne { field, level }.into())
            }
            Some(level) => Err(self.no_level(level)),
        }
    }

    fn no_level(&self, level: u32) -> AccessError {
        AccessErrorKind::LevelNotMade { level: self.model.level(level).id.to_string() }.into()
    }

    #[inline(always)]
    fn takes(&self, field: &Field) -> bool {
        !self.is_closed() && field.played && (!field.in_level || self.state.position.is_level())
    }

    #[cold]
    #[inline(never)]
    fn why_not(&self, field: FieldId) -> AccessError {
        let field = self.model.field(field);
        let name = field.name.to_string();
        if self.is_closed() {
            AccessErrorKind::Closed.into()
        } else if !field.written_by.play() {
            AccessErrorKind::RulesOnly { field: name }.into()
        } else {
            AccessErrorKind::NotInLevel { field: name, lasts: field.lasts, place: self.place() }.into()
        }
    }

    #[cold]
    #[inline(never)]
    fn opened_now(&mut self) -> Option<Arc<[Arc<str>]>> {
        let opened: Vec<Arc<str>> = self.judge_openings().iter().filter_map(opened_level).collect();
        (!opened.is_empty()).then(|| opened.into())
    }
}
