//! Handles on fields that have a value for each key of something.

use std::fmt;
use std::hash::{Hash, Hasher};
use std::marker::PhantomData;
use std::sync::Arc;

use indexmap::IndexSet;

use crate::handle::error::{HandleError, checked};
use crate::handle::field_value::FieldValue;
use crate::handle::{Handle, Placed};
use vestigum_spec::model::Model;
use vestigum_spec::model::entry::{EntrySlot, entry_of};
use vestigum_spec::model::field::FieldId;
use vestigum_spec::{AccessError, AccessErrorKind};

/// A handle on a field that has a value for each key of something. `N` is how many names a key has: one for a level or a key
/// of a set, two for a checkpoint (its level and its own), and the sum where a field is kept by several.
pub struct PerKey<T: ?Sized, const N: usize = 1> {
    model: Arc<Model>,
    field: FieldId,
    ty: PhantomData<fn() -> Box<T>>,
}

impl<T: ?Sized, const N: usize> Clone for PerKey<T, N> {
    fn clone(&self) -> Self {
        PerKey { model: self.model.clone(), field: self.field, ty: PhantomData }
    }
}

impl<T: ?Sized, const N: usize> fmt::Debug for PerKey<T, N> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("PerKey").field("field", &self.model.field(self.field).name).finish_non_exhaustive()
    }
}

/// The names of a key: one text, or an array of them.
pub trait KeyNames<const N: usize> {
    #[doc(hidden)]
    fn names(&self) -> [&str; N];
}

impl<S: AsRef<str> + ?Sized> KeyNames<1> for &S {
    fn names(&self) -> [&str; 1] {
        [(**self).as_ref()]
    }
}

impl<const N: usize> KeyNames<N> for [&str; N] {
    fn names(&self) -> [&str; N] {
        *self
    }
}

impl<T: FieldValue + ?Sized, const N: usize> PerKey<T, N> {
    pub(crate) fn new(model: &Arc<Model>, name: &str) -> Result<PerKey<T, N>, HandleError> {
        let field = checked::<T>(model, name, N.max(1))?;
        Ok(PerKey { model: model.clone(), field: field.id, ty: PhantomData })
    }

    /// The entry of one key.
    ///
    /// # Errors
    /// If there is no such level, checkpoint or key.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let mut game = Progress::fresh(&spec);
    /// let best = spec.field_per::<i64, 1>("best_letters")?;    // the name and the type are checked here
    /// let here = best.at("mill_lane")?;                        // and the level here
    /// assert_eq!(game.get(here), 0);
    /// assert!(best.at("mil_lane").is_err());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn at(&self, key: impl KeyNames<N>) -> Result<Handle<T>, HandleError> {
        let model = &*self.model;
        let field = model.field(self.field);
        let none_made = vec![IndexSet::new(); model.key_sets.len()];
        match entry_of(model, field, &key.names(), &none_made).map_err(AccessError::into_kind) {
            Ok(EntrySlot::Slot(slot)) => Ok(Handle::at(model, field, slot)),
            Err(AccessErrorKind::UnknownKey { axis, name, nearest }) => {
                Err(HandleError::UnknownKey { axis, name, nearest })
            }
            // Keys that play makes and keys of another number were refused where the handle was made.
            Ok(EntrySlot::NotMade) | Err(_) => {
                let name = key.names().join(", ");
                Err(HandleError::UnknownKey { axis: field.name.to_string(), name, nearest: None })
            }
        }
    }
}

/// A key of generated code: a level, a key of a set, a checkpoint, or several of them.
pub trait KeyIndex: Copy {
    /// Says how many there are.
    #[doc(hidden)]
    const COUNT: u32;
    /// Returns which of them it is.
    #[doc(hidden)]
    fn index(self) -> u32;
}

impl<A: KeyIndex, B: KeyIndex> KeyIndex for (A, B) {
    const COUNT: u32 = A::COUNT * B::COUNT;
    fn index(self) -> u32 {
        self.0.index() * B::COUNT + self.1.index()
    }
}

impl<A: KeyIndex, B: KeyIndex, C: KeyIndex> KeyIndex for (A, B, C) {
    const COUNT: u32 = A::COUNT * B::COUNT * C::COUNT;
    fn index(self) -> u32 {
        (self.0, (self.1, self.2)).index()
    }
}

/// A handle of generated code on a field that has a value for each `K`.
pub struct Keyed<T: ?Sized, K> {
    placed: Placed,
    ty: PhantomData<fn(K) -> Box<T>>,
}

impl<T: ?Sized, K: KeyIndex> Keyed<T, K> {
    /// For generated code.
    #[doc(hidden)]
    pub const fn placed(placed: Placed) -> Keyed<T, K> {
        Keyed { placed, ty: PhantomData }
    }

    /// The entry of one key.
    #[inline]
    pub fn at(self, key: impl Into<K>) -> Handle<T> {
        Handle::placed(Placed { slot: self.placed.slot + key.into().index(), ..self.placed })
    }
}

impl<T: ?Sized, K> Clone for Keyed<T, K> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T: ?Sized, K> Copy for Keyed<T, K> {}

impl<T: ?Sized, K> PartialEq for Keyed<T, K> {
    fn eq(&self, other: &Self) -> bool {
        self.placed == other.placed
    }
}

impl<T: ?Sized, K> Eq for Keyed<T, K> {}

impl<T: ?Sized, K> Hash for Keyed<T, K> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        (self.placed.fingerprint, self.placed.slot).hash(state);
    }
}

impl<T: ?Sized, K> fmt::Debug for Keyed<T, K> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Keyed").field("slot", &self.placed.slot).finish_non_exhaustive()
    }
}
