//! Playing: the moments, and what play writes between them.

use vestigum_core::Progress;

use std::fmt;
use std::sync::Arc;
use std::time::Duration;

use serde::Serialize;

use vestigum_core::{
    AccessError, Call, Change, CodeError, Edit, FieldValue, Handle, Item, ListMut, MadeLevelError, MapMut, MapValue,
    Number, Outcome, Part, Plays, Redeemed, Refused, Reset, SetMut, SetValue, Update, Value, Written,
};

use super::Session;

impl Session {
    /// Says a moment; see [`Progress::apply`]. The methods below say one each.
    ///
    /// # Errors
    /// As [`Progress::apply`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{Call, MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// // Where the game has its moments as data: a replay, a network message, a script.
    /// for call in [Call::enter("mill_lane"), Call::Checkpoint("ford"), Call::Death, Call::Complete] {
    ///     let outcome = game.apply(call)?;
    ///     println!("{}", outcome.place);
    /// }
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn apply(&mut self, call: Call<'_>) -> Result<Outcome, Refused> {
        let outcome = self.act(|progress| progress.apply(call))?;
        if outcome.save_due {
            self.save();
        }
        Ok(outcome)
    }
}

macro_rules! moments {
    ($($(#[$doc:meta])* $name:ident($($argument:ident: $ty:ty),*) => $call:expr;)*) => {
        impl Session {
            $($(#[$doc])*
            ///
            /// # Errors
            #[doc = concat!("As [`Progress::", stringify!($name), "`].")]
            pub fn $name(&mut self $(, $argument: $ty)*) -> Result<Outcome, Refused> {
                self.apply($call)
            })*
        }
    };
}

moments! {
    /// "New game": a new run begins.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.new_run()?;                             // values of the run begin anew, records stay
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    new_run() => Call::NewRun;
    /// Play begins in a level that has finished loading.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.enter("mill_lane")?;                    // when the level has loaded
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    enter(level: impl AsRef<str>) => Call::enter(level.as_ref());
    /// Play begins at a checkpoint of a level.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.enter("mill_lane")?;
    /// game.checkpoint("ford")?;
    /// game.travel()?;
    /// game.enter_at("mill_lane", "ford")?;
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    enter_at(level: impl AsRef<str>, checkpoint: impl AsRef<str>) => Call::enter(level.as_ref()).at(checkpoint.as_ref());
    /// Enters a level whether it is open or not.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.enter_any("heather_rise", None)?;       // a console command: locks do not count
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    enter_any(level: impl AsRef<str>, checkpoint: Option<&str>) => Call::Enter { level: level.as_ref(), checkpoint, locked: false };
    /// A checkpoint was reached.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.enter("mill_lane")?;
    /// let reached = game.checkpoint("ford")?;
    /// assert!(reached.save_due);                   // the spec saves at checkpoints
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    checkpoint(name: impl AsRef<str>) => Call::Checkpoint(name.as_ref());
    /// The player died.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.enter("mill_lane")?;
    /// let fell = game.death()?;
    /// for change in &fell.changes {
    ///     println!("{change}");                    // "lanterns: 3 → 2"
    /// }
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    death() => Call::Death;
    /// The player starts the level again.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.enter("mill_lane")?;
    /// game.restart()?;
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    restart() => Call::Restart;
    /// The level was passed.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.enter("mill_lane")?;
    /// let done = game.complete()?;
    /// assert_eq!(done.next_level(), Some("heather_rise"));
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    complete() => Call::Complete;
    /// The level was passed through one of its exits.
    complete_by(exit: impl AsRef<str>) => Call::CompleteBy(exit.as_ref());
    /// The level was left without passing it and without failing.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.enter("mill_lane")?;
    /// game.travel()?;                              // to another level, or to the map
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    travel() => Call::Travel;
    /// The level was given up.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.enter("mill_lane")?;
    /// game.abandon()?;                             // "give up": a failure
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    abandon() => Call::Abandon;
    /// The run is over.
    game_over() => Call::GameOver;
    /// One of the game's own moments.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.own_moment("new_day")?;                 // named by `[moments] names`
    /// assert_eq!(game.value("days", &[])?, 1.into());
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    own_moment(name: impl AsRef<str>) => Call::Own(name.as_ref());
}

impl Session {
    /// Writes a value; see [`Progress::set`].
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
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// let score = spec.int("score")?;              // a handle, once
    /// game.set(score, 120)?;
    /// assert_eq!(game.get(score), 120);
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[inline]
    pub fn set<T: FieldValue + ?Sized>(&mut self, at: Handle<T>, value: T::Write<'_>) -> Result<Written, AccessError> {
        let written = match at.is_of_device() {
            true => self.act(|progress| progress.set(at, value)),
            false => self.act_alone(|progress| progress.set(at, value)),
        };
        self.saved(written)
    }

    /// Adds to a number; see [`Progress::add`].
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
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// let letters = spec.int("letters")?;
    /// game.enter("mill_lane")?;
    /// game.add(letters, 60)?;
    /// assert_eq!(game.get(letters), 60);
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    #[inline]
    pub fn add<T: Number>(&mut self, at: Handle<T>, by: T) -> Result<Written, AccessError> {
        let written = match at.is_of_device() {
            true => self.act(|progress| progress.add(at, by)),
            false => self.act_alone(|progress| progress.add(at, by)),
        };
        self.saved(written)
    }

    /// Writes a number or a choice if it is higher; see [`Progress::raise`].
    ///
    /// # Errors
    /// As [`Progress::raise`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// let score = spec.int("score")?;
    /// assert!(game.raise(score, 60)?.beaten());
    /// assert!(!game.raise(score, 40)?.beaten());   // the record stays
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn raise<T: FieldValue>(&mut self, at: Handle<T>, to: T::Write<'_>) -> Result<Written, AccessError> {
        self.act_on(at, |progress| progress.raise(at, to))
    }

    /// Writes a number or a choice if it is lower; see [`Progress::lower`].
    ///
    /// # Errors
    /// As [`Progress::lower`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// let time = spec.field_per::<Option<i64>, 1>("best_time")?.at("mill_lane")?;
    /// assert!(game.lower(time, Some(61_500))?.beaten());
    /// assert!(!game.lower(time, Some(70_000))?.beaten());
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn lower<T: FieldValue>(&mut self, at: Handle<T>, to: T::Write<'_>) -> Result<Written, AccessError> {
        self.act_on(at, |progress| progress.lower(at, to))
    }

    /// Puts an entry into a ranking, in its place; see [`Progress::rank`].
    ///
    /// # Errors
    /// As [`Progress::rank`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn rank<T: Item>(&mut self, at: Handle<Vec<T>>, entry: T) -> Result<Written, AccessError> {
        self.act_on(at, |progress| progress.rank(at, entry))
    }

    /// Returns which place an entry would take in a ranking; see [`Progress::place_in`].
    ///
    /// # Errors
    /// As [`Progress::place_in`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    pub fn place_in<T: Item>(&self, at: Handle<Vec<T>>, entry: &T) -> Result<Option<usize>, AccessError> {
        self.progress().place_in(at, entry)
    }

    /// Reads a value, lets a function change it, and writes it; see [`Progress::update`].
    ///
    /// # Errors
    /// As [`Session::set`].
    ///
    /// # Panics
    /// If the handle is of another spec.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// let score = spec.int("score")?;
    /// game.update(score, |score| *score = *score * 2 + 10)?;
    /// assert_eq!(game.get(score), 10);
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn update<T>(&mut self, at: Handle<T>, change: impl FnOnce(&mut T)) -> Result<Written, AccessError>
    where
        T: for<'a> FieldValue<Read<'a> = T, Write<'a> = T>,
    {
        self.act_on(at, |progress| progress.update(at, change))
    }

    /// A list, to be changed item by item; see [`Progress::list`].
    pub fn list_mut<T: Item>(&mut self, at: Handle<Vec<T>>) -> ListMut<'_, Session, T> {
        ListMut::new(self, at)
    }

    /// A set, to be changed item by item; see [`Progress::list`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// use std::collections::BTreeSet;
    /// let stamps = spec.field::<BTreeSet<String>>("stamps")?;
    /// game.set_of_mut(stamps).insert("post horn".to_owned())?;
    /// assert!(game.set_of(stamps).contains("post horn"));
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn set_of_mut<S: SetValue>(&mut self, at: Handle<S>) -> SetMut<'_, Session, S> {
        SetMut::new(self, at)
    }

    /// A map, to be changed entry by entry; see [`Progress::list`].
    pub fn map_mut<M: MapValue>(&mut self, at: Handle<M>) -> MapMut<'_, Session, M> {
        MapMut::new(self, at)
    }

    fn act_on<T: ?Sized>(
        &mut self,
        at: Handle<T>,
        act: impl FnOnce(&mut Progress) -> Result<Written, AccessError>,
    ) -> Result<Written, AccessError> {
        let written = if at.is_of_device() { self.act(act) } else { self.act_alone(act) };
        self.saved(written)
    }

    /// Saves at once where a write asks for it.
    #[inline(always)]
    pub(super) fn saved(&mut self, written: Result<Written, AccessError>) -> Result<Written, AccessError> {
        if written.as_ref().is_ok_and(Written::save_due) {
            self.save();
        }
        written
    }

    /// Adds the time that passed to every field that counts it; see [`Progress::tick`].
    ///
    /// # Errors
    /// As [`Progress::tick`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// use std::time::Duration;
    /// game.tick(Duration::from_millis(16))?;       // once a frame: every field with `counts` gets it
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn tick(&mut self, passed: Duration) -> Result<Written, AccessError> {
        if self.counts_on_device {
            self.act(|progress| progress.tick(passed))
        } else {
            self.act_alone(|progress| progress.tick(passed))
        }
    }

    /// Edits a field by name, or a part of its value; see [`Progress::edit`].
    ///
    /// # Errors
    /// As [`Progress::edit`].
    pub fn edit(&mut self, field: &str, keys: &[&str], path: &[Part], edit: Edit) -> Result<Written, AccessError> {
        self.write_field(field, |progress| progress.edit(field, keys, path, edit))
    }

    /// Writes a field by name; see [`Progress::write`].
    ///
    /// # Errors
    /// As [`Progress::write`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// use vestigum::Value;
    /// game.write("best_time", &["mill_lane"], Value::Int(61_500))?;  // names from data, a script or a console
    /// assert_eq!(game.value("best_time", &["mill_lane"])?, Value::Int(61_500));
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn write(&mut self, field: &str, keys: &[&str], value: Value) -> Result<Written, AccessError> {
        self.write_field(field, |progress| progress.write(field, keys, value))
    }

    /// Adds to a field by name; see [`Progress::write_add`].
    ///
    /// # Errors
    /// As [`Progress::write_add`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// use vestigum::Value;
    /// game.write_add("score", &[], Value::Int(60))?;
    /// assert_eq!(game.value("score", &[])?, Value::Int(60));
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn write_add(&mut self, field: &str, keys: &[&str], by: Value) -> Result<Written, AccessError> {
        self.write_field(field, |progress| progress.write_add(field, keys, by))
    }

    /// Puts a value into a list or a set; see [`Progress::insert`].
    ///
    /// # Errors
    /// As [`Progress::insert`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// use vestigum::Value;
    /// game.insert("stamps", &[], Value::from("post horn"))?;
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn insert(&mut self, field: &str, keys: &[&str], item: Value) -> Result<Written, AccessError> {
        self.write_field(field, |progress| progress.insert(field, keys, item))
    }

    /// Puts a value under a key of a map; see [`Progress::insert_at`].
    ///
    /// # Errors
    /// As [`Progress::insert_at`].
    pub fn insert_at(&mut self, field: &str, keys: &[&str], at: &str, item: Value) -> Result<Written, AccessError> {
        self.write_field(field, |progress| progress.insert_at(field, keys, at, item))
    }

    /// Takes a value out of a list, a set or a map; see [`Progress::remove`].
    ///
    /// # Errors
    /// As [`Progress::remove`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// use vestigum::Value;
    /// game.insert("stamps", &[], Value::from("post horn"))?;
    /// game.remove("stamps", &[], Value::from("post horn"))?;
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn remove(&mut self, field: &str, keys: &[&str], item: Value) -> Result<Written, AccessError> {
        self.write_field(field, |progress| progress.remove(field, keys, item))
    }

    /// Writes a Rust value into a field; see [`Progress::write_from`].
    ///
    /// # Errors
    /// As [`Progress::write_from`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// game.write_from("name", &[], &"Ada")?;
    /// assert_eq!(game.read_as::<String>("name", &[])?, "Ada");
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn write_from<T: Serialize>(&mut self, field: &str, keys: &[&str], value: &T) -> Result<Written, AccessError> {
        self.write_field(field, |progress| progress.write_from(field, keys, value))
    }

    /// Returns what changed since the last call, for a display; see [`Progress::drain_changes`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// # let score = spec.int("score")?;
    /// game.drain_changes();                        // what was there when the display was drawn
    /// game.add(score, 60)?;
    /// for update in game.drain_changes() {
    ///     println!("{}: {}", update.name(), update.after);
    /// }
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn drain_changes(&mut self) -> Vec<Update> {
        self.act_alone(Progress::drain_changes)
    }

    /// Writes the values of a code and saves at once; see [`Progress::redeem`].
    ///
    /// # Errors
    /// As [`Progress::redeem`].
    pub fn redeem(&mut self, name: impl AsRef<str>, code: impl fmt::Display) -> Result<Redeemed, CodeError> {
        let redeemed = self.act(|progress| progress.redeem(name, code))?;
        self.save();
        Ok(redeemed)
    }

    /// Makes a level and saves at once; see [`Progress::make_level`].
    ///
    /// # Errors
    /// As [`Progress::make_level`].
    pub fn make_level(&mut self) -> Result<Arc<str>, MadeLevelError> {
        let level = self.act(Progress::make_level)?;
        self.save();
        Ok(level)
    }

    /// Removes a level that a player made and saves at once, as a new generation; see [`Progress::remove_level`].
    ///
    /// # Errors
    /// As [`Progress::remove_level`].
    pub fn remove_level(&mut self, level: impl AsRef<str>) -> Result<Vec<Change>, MadeLevelError> {
        let changes = self.act(|progress| progress.remove_level(level))?;
        self.save();
        Ok(changes)
    }

    /// A level that a player made as a text for another player; see [`Progress::export_level`].
    ///
    /// # Errors
    /// As [`Progress::export_level`].
    pub fn export_level(&self, level: impl AsRef<str>) -> Result<String, MadeLevelError> {
        self.progress().export_level(level)
    }

    /// Makes a level of an exported one and saves at once; see [`Progress::import_level`]. One that an older version exported is brought to
    /// this version first.
    ///
    /// # Errors
    /// As [`Progress::import_level`] and [`Spec::upgrade_level`](crate::Spec::upgrade_level).
    pub fn import_level(&mut self, text: &str) -> Result<Arc<str>, MadeLevelError> {
        let text = self.spec.upgrade_level(text)?;
        let level = self.act(|progress| progress.import_level(&text))?;
        self.save();
        Ok(level)
    }

    /// Resets and saves at once, as a new generation: the one before can be restored.
    ///
    /// # Errors
    /// If there is no such level, field or key. Nothing has changed then.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Reset, Session, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
    /// let before = game.generation();
    /// game.reset(&Reset::Level("mill_lane".into()))?;    // saved at once; the generation before can be restored
    /// # game.quit()?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn reset(&mut self, reset: &Reset) -> Result<Vec<Change>, AccessError> {
        let changes = self.act(|progress| progress.reset(reset))?;
        self.save();
        Ok(changes)
    }
}

impl Plays for Session {
    fn progress(&self) -> &Progress {
        &self.progress
    }

    fn edit_at<T: ?Sized>(&mut self, at: Handle<T>, path: &[Part], edit: Edit) -> Result<Written, AccessError> {
        self.act_on(at, |progress| progress.edit_at(at, path, edit))
    }
}
