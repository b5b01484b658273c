//! What can be read through a handle.

use serde::de::DeserializeOwned;

use crate::evaluation::judge::ExpressionValue;
use crate::handle::Handle;
use crate::handle::derived::DerivedHandle;
use crate::handle::field_value::FieldValue;
use crate::progress::Progress;
use vestigum_spec::value::serial::from_value;

mod sealed {
    pub trait Sealed {}
    impl<T: ?Sized> Sealed for crate::handle::Handle<T> {}
    impl<T> Sealed for crate::handle::derived::DerivedHandle<T> {}
}

/// A handle that can be read: on a field, or on a derived value.
pub trait Reads: sealed::Sealed + Copy {
    /// Describes what a read gives.
    type Value<'a>;
    #[doc(hidden)]
    fn read(self, game: &Progress) -> Self::Value<'_>;
}

impl<T: FieldValue + ?Sized> Reads for Handle<T> {
    type Value<'a> = T::Read<'a>;

    #[inline(always)]
    fn read(self, game: &Progress) -> T::Read<'_> {
        T::read(game.held_at(self.fingerprint, self.slot), &game.model, self.field)
    }
}

/// Outside a level, what speaks of one is worked out of defaults.
impl<T: DeserializeOwned> Reads for DerivedHandle<T> {
    type Value<'a> = T;

    fn read(self, game: &Progress) -> T {
        game.check_handle(self.fingerprint);
        let derived = &game.model.derived[self.index as usize];
        let value = derived.expression.value(&game.env());
        from_value(&value)
            .unwrap_or_else(|why| panic!("`{}` is {value}, which the Rust type refuses: {why}", derived.name))
    }
}
