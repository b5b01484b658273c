//! What reads progress: the same for a session and for a look at what was saved.

use serde::de::DeserializeOwned;

use vestigum_core::{
    AccessError, BoardRow, Change, CodeError, Entry, Handle, Item, ListView, LockReason, MapValue, MapView, Place,
    Progress, Reads, Refused, Reset, SetValue, SetView, Spec, Suspended, Value,
};

use super::{Peek, Session};

macro_rules! reads {
    ($reader:ident) => {
        impl $reader {
            fn progress(&self) -> &Progress {
                &self.progress
            }

            /// The spec it runs.
            pub fn spec(&self) -> &Spec {
                &self.spec
            }

            /// Returns where the player stands.
            ///
            /// # Example
            ///
            /// ```
            /// # use vestigum::{MemoryStore, Session, Spec};
            /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
            /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
            /// game.enter("mill_lane")?;
            /// println!("{}", game.place());
            /// # game.quit()?;
            /// # Ok::<(), Box<dyn std::error::Error>>(())
            /// ```
            pub fn place(&self) -> Place {
                self.progress().place()
            }

            /// The level overview, in the order of the levels; see [`Progress::board`].
            ///
            /// # Example
            ///
            /// ```
            /// # use vestigum::{MemoryStore, Session, Spec};
            /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
            /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
            /// for row in game.board() {
            ///     println!("{}: {}", row.title, if row.lock.is_none() { "open" } else { "locked" });
            /// }
            /// # game.quit()?;
            /// # Ok::<(), Box<dyn std::error::Error>>(())
            /// ```
            pub fn board(&self) -> Vec<BoardRow> {
                self.progress().board()
            }

            /// The level overview with the levels that are hidden; see [`Progress::full_board`].
            pub fn full_board(&self) -> Vec<BoardRow> {
                self.progress().full_board()
            }

            /// Returns what is missing before a level opens; see [`Progress::lock_reason`].
            ///
            /// # Errors
            /// As [`Progress::lock_reason`].
            ///
            /// # Example
            ///
            /// ```
            /// # use vestigum::{MemoryStore, Session, Spec};
            /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
            /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
            /// if let Some(reason) = game.lock_reason("heather_rise")? {
            ///     println!("{reason}");                    // what is missing, in words
            /// }
            /// # game.quit()?;
            /// # Ok::<(), Box<dyn std::error::Error>>(())
            /// ```
            pub fn lock_reason(&self, level: &str) -> Result<Option<LockReason>, Refused> {
                self.progress().lock_reason(level)
            }

            /// The code of the values as they are now; see [`Progress::code`].
            ///
            /// # Errors
            /// As [`Progress::code`].
            pub fn code(&self, name: impl AsRef<str>) -> Result<String, CodeError> {
                self.progress().code(name)
            }

            /// Every value; see [`Progress::entries`].
            ///
            /// # Example
            ///
            /// ```
            /// # use vestigum::{MemoryStore, Session, Spec};
            /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
            /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
            /// for entry in game.entries() {
            ///     println!("{entry:?}");
            /// }
            /// # game.quit()?;
            /// # Ok::<(), Box<dyn std::error::Error>>(())
            /// ```
            pub fn entries(&self) -> Vec<Entry> {
                self.progress().entries()
            }

            /// Reads a value; see [`Progress::get`].
            ///
            /// # Panics
            /// If the handle is of another spec.
            ///
            /// # Example
            ///
            /// ```
            /// # use vestigum::{MemoryStore, Session, Spec};
            /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
            /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
            /// let best = spec.int_per_level("best_letters")?.at("mill_lane")?;
            /// assert_eq!(game.get(best), 0);               // the default of a newcomer
            /// # game.quit()?;
            /// # Ok::<(), Box<dyn std::error::Error>>(())
            /// ```
            #[inline(always)]
            pub fn get<H: Reads>(&self, at: H) -> H::Value<'_> {
                self.progress().get(at)
            }

            /// A list, item by item; see [`Progress::list`].
            ///
            /// # Panics
            /// If the handle is of another spec.
            pub fn list<T: Item>(&self, at: Handle<Vec<T>>) -> ListView<'_, T> {
                self.progress().list(at)
            }

            /// A set, item by item; see [`Progress::set_of`].
            ///
            /// # Panics
            /// If the handle is of another spec.
            pub fn set_of<S: SetValue>(&self, at: Handle<S>) -> SetView<'_, S::Item> {
                self.progress().set_of(at)
            }

            /// A map, entry by entry; see [`Progress::map`].
            ///
            /// # Panics
            /// If the handle is of another spec.
            pub fn map<M: MapValue>(&self, at: Handle<M>) -> MapView<'_, M::Item> {
                self.progress().map(at)
            }

            /// Returns whether an optional field has a value.
            ///
            /// # Panics
            /// If the handle is of another spec.
            ///
            /// # Example
            ///
            /// ```
            /// # use vestigum::{MemoryStore, Session, Spec};
            /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
            /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
            /// let time = spec.field_per::<Option<i64>, 1>("best_time")?.at("mill_lane")?;
            /// assert!(!game.filled(time));                 // never completed yet
            /// # game.quit()?;
            /// # Ok::<(), Box<dyn std::error::Error>>(())
            /// ```
            pub fn filled<T: ?Sized>(&self, at: Handle<T>) -> bool {
                self.progress().filled(at)
            }

            /// Reads a field by name; see [`Progress::value`].
            ///
            /// # Errors
            /// As [`Progress::value`].
            ///
            /// # Example
            ///
            /// ```
            /// # use vestigum::{MemoryStore, Session, Spec};
            /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
            /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
            /// use vestigum::Value;
            /// assert_eq!(game.value("lanterns", &[])?, Value::Int(3));
            /// # game.quit()?;
            /// # Ok::<(), Box<dyn std::error::Error>>(())
            /// ```
            pub fn value(&self, field: &str, keys: &[&str]) -> Result<Value, AccessError> {
                self.progress().value(field, keys)
            }

            /// Computes a derived value; see [`Progress::derived`].
            ///
            /// # Errors
            /// As [`Progress::derived`].
            ///
            /// # Example
            ///
            /// ```
            /// # use vestigum::{MemoryStore, Session, Spec};
            /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
            /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
            /// use vestigum::Value;
            /// assert_eq!(game.derived("paths_done")?, Value::Int(0));
            /// # game.quit()?;
            /// # Ok::<(), Box<dyn std::error::Error>>(())
            /// ```
            pub fn derived(&self, name: &str) -> Result<Value, AccessError> {
                self.progress().derived(name)
            }

            /// Computes a derived value for one level or key; see [`Progress::derived_of`].
            ///
            /// # Errors
            /// As there.
            pub fn derived_of(&self, name: &str, key: &str) -> Result<Value, AccessError> {
                self.progress().derived_of(name, key)
            }

            /// Reads a field as a Rust value; see [`Progress::read_as`].
            ///
            /// # Errors
            /// As [`Progress::read_as`].
            ///
            /// # Example
            ///
            /// ```
            /// # use vestigum::{MemoryStore, Session, Spec};
            /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
            /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
            /// let name: String = game.read_as("name", &[])?;
            /// # game.quit()?;
            /// # Ok::<(), Box<dyn std::error::Error>>(())
            /// ```
            pub fn read_as<T: DeserializeOwned>(&self, field: &str, keys: &[&str]) -> Result<T, AccessError> {
                self.progress().read_as(field, keys)
            }

            /// Returns what resetting would change.
            ///
            /// # Errors
            /// As [`Progress::reset`].
            ///
            /// # Example
            ///
            /// ```
            /// # use vestigum::{MemoryStore, Session, Spec};
            /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
            /// # let game = Session::launch(&spec, MemoryStore::default(), "ada")?;
            /// use vestigum::Reset;
            /// for change in game.preview_reset(&Reset::Level("mill_lane".into()))? {
            ///     println!("{change}");                    // "best_letters[mill_lane]: 60 → 0"
            /// }
            /// # game.quit()?;
            /// # Ok::<(), Box<dyn std::error::Error>>(())
            /// ```
            pub fn preview_reset(&self, reset: &Reset) -> Result<Vec<Change>, AccessError> {
                self.progress().preview_reset(reset)
            }

            /// Returns what a save would write now: the player's progress as it would be after quitting.
            ///
            /// # Example
            ///
            /// ```
            /// # use vestigum::{MemoryStore, Session, Spec};
            /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
            /// # let mut game = Session::launch(&spec, MemoryStore::default(), "ada")?;
            /// let score = spec.int("score")?;
            /// game.set(score, 120)?;
            /// let saved = game.suspend();                  // nothing is written
            /// assert_eq!(saved.relaunched().get(score), 120);
            /// # game.quit()?;
            /// # Ok::<(), Box<dyn std::error::Error>>(())
            /// ```
            pub fn suspend(&self) -> Suspended {
                self.progress().suspend()
            }
        }
    };
}

reads!(Session);
reads!(Peek);
