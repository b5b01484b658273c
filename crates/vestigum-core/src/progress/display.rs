//! Telling a display what there is and what changed, and reading and writing whole Rust values.

use std::fmt;
use std::sync::Arc;

use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::handle::field_value::typed;
use crate::outcome::Written;
use crate::progress::Progress;
use vestigum_spec::model::entry::keys_of;
use vestigum_spec::value::Value;
use vestigum_spec::value::serial::{Misfit, from_value, to_value};
use vestigum_spec::vocabulary::key::{EntryName, Keys};
use vestigum_spec::{AccessError, AccessErrorKind};

/// A value that is not what a display was last told.
#[derive(Clone, Debug, PartialEq)]
pub struct Update {
    /// The field.
    pub field: Arc<str>,
    /// The key of the entry, for a keyed field.
    pub keys: Keys,
    /// Says what the display was told; for the first time, the default.
    pub before: Value,
    /// Says what the value is now.
    pub after: Value,
}

impl Update {
    /// The field and the key of the entry.
    pub fn name(&self) -> EntryName {
        EntryName { field: self.field.clone(), keys: self.keys.clone() }
    }
}

/// One value, and the values to come back to.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    /// The field.
    pub field: Arc<str>,
    /// The key of the entry, for a keyed field.
    pub keys: Keys,
    /// The value.
    pub value: Value,
    /// In a level, for a field that can be rewound: the values at the level's entry and at the last checkpoint.
    pub marks: Option<(Value, Value)>,
}

impl Entry {
    /// The field and the key of the entry.
    pub fn name(&self) -> EntryName {
        EntryName { field: self.field.clone(), keys: self.keys.clone() }
    }
}

/// Its name: `best_letters[mill_lane]`.
impl fmt::Display for Entry {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.name().fmt(f)
    }
}

impl Progress {
    /// Every value: of all fields in the order of the spec, and of all entries of keyed ones.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// for entry in game.entries() {
    ///     println!("{} = {}", entry.name(), entry.value);
    /// }
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn entries(&self) -> Vec<Entry> {
        let spec = &*self.model;
        let in_level = self.state.position.level().is_some();
        let mut entries = Vec::new();
        for field in &spec.fields {
            for slot in field.slots() {
                let keys = keys_of(spec, field, slot, &self.state.made);
                // A key of an open set that was not made yet has no name.
                if field.is_keyed() && keys.is_empty() {
                    continue;
                }
                let marks = (in_level && field.rewinds)
                    .then(|| (self.state.at_entry(slot).clone(), self.state.at_checkpoint(slot).clone()));
                entries.push(Entry { field: field.name.clone(), keys, value: self.state.value(slot).clone(), marks });
            }
        }
        entries
    }

    /// Returns what changed since the last call, by play and by rules alike, for a display that shows progress. The first call
    /// tells every value that is not at its default.
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(r#"
    /// #     [game]
    /// #     id = "fellpost"
    /// #     [field.xp]
    /// #     type = "int"
    /// #     lasts = "profile"
    /// #     after_failure = "keep"
    /// # "#)?;
    /// let mut game = Progress::fresh(&spec);
    /// assert!(game.drain_changes().is_empty());
    /// let xp = spec.int("xp")?;
    /// game.add(xp, 10)?;
    /// game.add(xp, 5)?;
    /// let updates = game.drain_changes();
    /// assert_eq!((&*updates[0].field, updates[0].after.as_int()), ("xp", 15));
    /// assert!(game.drain_changes().is_empty());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// game.set(spec.int("score")?, 60)?;
    /// for update in game.drain_changes() {
    ///     println!("{}: {} → {}", update.name(), update.before, update.after);
    /// }
    /// assert!(game.drain_changes().is_empty());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn drain_changes(&mut self) -> Vec<Update> {
        let spec = self.model.clone();
        let baseline = self.state.drain_baseline().unwrap_or_else(|| {
            let defaults = |field: &vestigum_spec::model::field::Field| {
                field.slots().map(|slot| (slot, field.default.clone())).collect::<Vec<_>>()
            };
            spec.fields.iter().flat_map(defaults).collect()
        });
        let mut fields = spec.fields.iter().peekable();
        let mut updates = std::mem::take(&mut self.gone);
        for (slot, before) in baseline {
            // Slots ascend, and fields lie in their order.
            while fields.next_if(|field| field.slots().end <= slot).is_some() {}
            let Some(field) = fields.peek() else { break };
            let after = self.state.value(slot);
            if *after != before {
                let keys = keys_of(&spec, field, slot, &self.state.made);
                updates.push(Update { field: field.name.clone(), keys, before, after: after.clone() });
            }
        }
        updates
    }

    /// Reads a field as a Rust value: a struct as a Rust struct with members of the same names, a map as a map. Bytes
    /// are read as base64 text.
    ///
    /// # Errors
    /// As [`Progress::value`], and if the Rust type has another shape.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// use std::collections::BTreeMap;
    /// #[derive(serde::Deserialize, serde::Serialize, Debug, PartialEq)]
    /// struct Parcel {
    ///     weight: i64,
    ///     fragile: bool,
    /// }
    ///
    /// let satchel = BTreeMap::from([("ring".to_owned(), Parcel { weight: 1, fragile: true })]);
    /// game.write_from("satchel", &[], &satchel)?;
    /// assert_eq!(game.read_as::<BTreeMap<String, Parcel>>("satchel", &[])?, satchel);
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn read_as<T: DeserializeOwned>(&self, field: &str, keys: &[&str]) -> Result<T, AccessError> {
        let value = self.value(field, keys)?;
        from_value(&value).map_err(|Misfit(why)| AccessErrorKind::Shape { field: field.to_owned(), why }.into())
    }

    /// Writes a Rust value into a field; the counterpart of [`Progress::read_as`].
    ///
    /// # Errors
    /// As [`Progress::write`], and if the Rust value has another shape than the field: nothing is left out.
    pub fn write_from<T: Serialize>(&mut self, field: &str, keys: &[&str], value: &T) -> Result<Written, AccessError> {
        let shape = |Misfit(why)| AccessErrorKind::Shape { field: field.to_owned(), why };
        let ty = self.find(field)?.ty.clone();
        let value = to_value(value).and_then(|value| typed(value, &ty, field)).map_err(shape)?;
        self.write(field, keys, value)
    }
}
