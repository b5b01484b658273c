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
            pub fn place(&self) -> Place {
                self.progress().place()
            }

            /// The level overview, in the order of the levels; see [`Progress::board`].
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
            pub fn entries(&self) -> Vec<Entry> {
                self.progress().entries()
            }

            /// Reads a value; see [`Progress::get`].
            ///
            /// # Panics
            /// If the handle is of another spec.
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
            pub fn filled<T: ?Sized>(&self, at: Handle<T>) -> bool {
                self.progress().filled(at)
            }

            /// Reads a field by name; see [`Progress::value`].
            ///
            /// # Errors
            /// As [`Progress::value`].
            pub fn value(&self, field: &str, keys: &[&str]) -> Result<Value, AccessError> {
                self.progress().value(field, keys)
            }

            /// Computes a derived value; see [`Progress::derived`].
            ///
            /// # Errors
            /// As [`Progress::derived`].
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
            pub fn read_as<T: DeserializeOwned>(&self, field: &str, keys: &[&str]) -> Result<T, AccessError> {
                self.progress().read_as(field, keys)
            }

            /// Returns what resetting would change.
            ///
            /// # Errors
            /// As [`Progress::reset`].
            pub fn preview_reset(&self, reset: &Reset) -> Result<Vec<Change>, AccessError> {
                self.progress().preview_reset(reset)
            }

            /// Returns what a save would write now: the player's progress as it would be after quitting.
            pub fn suspend(&self) -> Suspended {
                self.progress().suspend()
            }
        }
    };
}

reads!(Session);
reads!(Peek);
