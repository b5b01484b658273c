//! Handles on derived values.

use std::fmt;
use std::hash::{Hash, Hasher};
use std::marker::PhantomData;
use std::sync::Arc;

use serde::de::DeserializeOwned;

use crate::handle::error::{HandleError, checked_derived};
use crate::handle::keyed::KeyIndex;
use vestigum_spec::model::Model;

/// A handle on a derived value, or on that of one key.
pub struct DerivedHandle<T> {
    pub(crate) index: u32,
    pub(crate) fingerprint: u32,
    ty: PhantomData<fn() -> T>,
}

impl<T> DerivedHandle<T> {
    /// For generated code.
    #[doc(hidden)]
    pub const fn placed(index: u32, fingerprint: u32) -> DerivedHandle<T> {
        DerivedHandle { index, fingerprint, ty: PhantomData }
    }
}

impl<T: DeserializeOwned> DerivedHandle<T> {
    pub(crate) fn new(model: &Model, name: &str) -> Result<DerivedHandle<T>, HandleError> {
        Ok(DerivedHandle::placed(checked_derived::<T>(model, name, false)?, model.fingerprint))
    }
}

impl<T> Clone for DerivedHandle<T> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T> Copy for DerivedHandle<T> {}

impl<T> PartialEq for DerivedHandle<T> {
    fn eq(&self, other: &Self) -> bool {
        (self.fingerprint, self.index) == (other.fingerprint, other.index)
    }
}

impl<T> Eq for DerivedHandle<T> {}

impl<T> Hash for DerivedHandle<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        (self.fingerprint, self.index).hash(state);
    }
}

impl<T> fmt::Debug for DerivedHandle<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("DerivedHandle").field("index", &self.index).finish_non_exhaustive()
    }
}

/// A handle on a derived value that is kept per level or key.
pub struct DerivedPerKey<T> {
    model: Arc<Model>,
    index: u32,
    ty: PhantomData<fn() -> T>,
}

impl<T> Clone for DerivedPerKey<T> {
    fn clone(&self) -> Self {
        DerivedPerKey { model: self.model.clone(), index: self.index, ty: PhantomData }
    }
}

impl<T> fmt::Debug for DerivedPerKey<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("DerivedPerKey")
            .field("name", &self.model.derived[self.index as usize].name)
            .finish_non_exhaustive()
    }
}

impl<T: DeserializeOwned> DerivedPerKey<T> {
    pub(crate) fn new(model: &Arc<Model>, name: &str) -> Result<DerivedPerKey<T>, HandleError> {
        let index = checked_derived::<T>(model, name, true)?;
        Ok(DerivedPerKey { model: model.clone(), index, ty: PhantomData })
    }

    /// The value of one level or key.
    ///
    /// # Errors
    /// If there is no such level or key.
    pub fn at(&self, key: impl AsRef<str>) -> Result<DerivedHandle<T>, HandleError> {
        let (model, key) = (&*self.model, key.as_ref());
        let index = match model.derived_for(self.index, key) {
            Some(Ok(index)) => index,
            Some(Err((axis, nearest))) => {
                return Err(HandleError::UnknownKey { axis: axis.to_owned(), name: key.to_owned(), nearest });
            }
            // What has no keys was refused where the handle was made.
            None => self.index,
        };
        Ok(DerivedHandle::placed(index, model.fingerprint))
    }
}

/// A handle of generated code on a derived value that is kept for each `K`.
pub struct DerivedKeyed<T, K> {
    first: u32,
    fingerprint: u32,
    ty: PhantomData<fn(K) -> T>,
}

impl<T, K: KeyIndex> DerivedKeyed<T, K> {
    /// For generated code.
    #[doc(hidden)]
    pub const fn placed(first: u32, fingerprint: u32) -> DerivedKeyed<T, K> {
        DerivedKeyed { first, fingerprint, ty: PhantomData }
    }

    /// The value of one level or key.
    pub fn at(self, key: impl Into<K>) -> DerivedHandle<T> {
        DerivedHandle::placed(self.first + key.into().index(), self.fingerprint)
    }
}

impl<T, K> Clone for DerivedKeyed<T, K> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T, K> Copy for DerivedKeyed<T, K> {}

impl<T, K> fmt::Debug for DerivedKeyed<T, K> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("DerivedKeyed").field("first", &self.first).finish_non_exhaustive()
    }
}
