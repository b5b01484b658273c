//! The path of an entry in an origin.

use crate::origin::EntryPath;
use crate::origin::paths::path_of;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::MadeKeys;
use vestigum_spec::model::field::Field;

/// Returns the path of an entry: `best_letters/mill_lane`.
pub(crate) fn entry_path(model: &Model, field: &Field, slot: usize, made: &MadeKeys) -> EntryPath {
    if !field.is_keyed() {
        return field.name.clone();
    }
    path_of(&field.name, &model.entry_names(field, slot, made))
}
