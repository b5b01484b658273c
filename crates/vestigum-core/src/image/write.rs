//! The image of a suspended game.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::sync::Arc;

use crate::image::blobs::{Blobs, blob_tree};
use crate::image::{Image, SavedMarks, SavedPlace};
use crate::state::position::{Checkpoint, Position};
use crate::suspension::Suspended;
use crate::suspension::fates::resumes_at_entry;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::{Axis, MadeKeys};
use vestigum_spec::model::field::Field;
use vestigum_spec::value::Value;
use vestigum_spec::value::tree::{Moved, Tree, Values};
use vestigum_spec::vocabulary::owner::Owner;
use vestigum_spec::vocabulary::policy::Resume;
use vestigum_spec::vocabulary::span::Span;

impl Suspended {
    /// The image of the profile's progress.
    pub fn profile_image(&self, profile: &str) -> Image {
        let spec = &*self.model;
        let in_level = self.state.position.is_level();
        let rewinding = |field: &Field| field.rewinds;
        let blobs = RefCell::default();
        let marks = in_level.then(|| SavedMarks {
            entry: values(spec, &self.state.made, rewinding, |slot| self.state.at_entry(slot), &blobs),
            checkpoint: values(spec, &self.state.made, rewinding, |slot| self.state.at_checkpoint(slot), &blobs),
        });
        let place = saved_place(spec, &self.state.position);
        let kept = |field: &Field| field.lasts != Span::Device && field.lasts.is_saved_at(in_level);
        self.image(Owner::Profile(profile.to_owned()), place, kept, marks, blobs)
    }

    /// The image of the device's progress.
    pub fn device_image(&self) -> Image {
        self.image(Owner::Device, SavedPlace::Menu, |field| field.lasts == Span::Device, None, RefCell::default())
    }

    /// Returns whether the spec has any device field, so that there is something to save for the device.
    pub fn has_device(&self) -> bool {
        self.model.fields.iter().any(|field| field.lasts == Span::Device)
    }

    fn image(
        &self,
        owner: Owner,
        place: SavedPlace,
        saved: impl Fn(&Field) -> bool,
        marks: Option<SavedMarks>,
        blobs: RefCell<Blobs>,
    ) -> Image {
        let sets = self.model.key_sets.iter().zip(&self.state.made);
        let made = match owner {
            Owner::Device => BTreeMap::new(),
            Owner::Profile(_) => sets
                .filter(|(_, made)| !made.is_empty())
                .map(|(set, made)| (set.name.clone(), made.iter().cloned().collect()))
                .collect(),
        };
        let moved = match owner {
            Owner::Device => self.state.moved.as_deref().cloned().unwrap_or_default(),
            Owner::Profile(_) => Moved::new(),
        };
        let kept = match owner {
            Owner::Profile(_) => self.state.kept.as_deref(),
            Owner::Device => self.state.kept_of_device.as_deref(),
        };
        let mut image = Image {
            game: self.model.id.to_string(),
            version: self.model.version,
            shape: Some(self.model.shape.clone()).filter(|shape| !shape.is_empty()),
            owner,
            generation: 0,
            saved_at: String::new(),
            place,
            made,
            values: values(&self.model, &self.state.made, saved, |slot| self.state.value(slot), &blobs),
            marks,
            moved,
            origin: None,
            blobs: blobs.into_inner(),
        };
        if let Some(kept) = kept {
            kept.write_back(&mut image);
        }
        image
    }
}

/// Returns where a projection leaves the player, as an image writes it.
pub(super) fn saved_place(spec: &Model, position: &Position) -> SavedPlace {
    match position {
        Position::Menu => SavedPlace::Menu,
        Position::RunOver => SavedPlace::RunOver,
        Position::Level(standing) => {
            let name = |checkpoint: &Checkpoint| checkpoint.name(spec, standing.level).to_string();
            SavedPlace::InLevel {
                level: spec.level(standing.level).id.to_string(),
                checkpoint: standing.checkpoint.as_ref().map(name),
                entered_at: standing.entered_at.as_ref().map(name),
                resume: if resumes_at_entry(spec) { Resume::Entry } else { spec.resume },
                gone: None,
            }
        }
    }
}

/// The values of some fields, as an image writes them: every scalar, also at its default, so that a later change of
/// defaults does not rewrite history; entries of keyed fields only where they differ from it.
pub fn values<'s>(
    spec: &Model,
    made: &MadeKeys,
    kept: impl Fn(&Field) -> bool,
    value: impl Fn(usize) -> &'s Value,
    blobs: &RefCell<Blobs>,
) -> Values {
    let mut out = Values::new();
    for field in spec.fields.iter().filter(|field| kept(field)) {
        out.insert(field.name.clone(), entry_tree(spec, made, field, &value, blobs));
    }
    out
}

/// The value of a field, or the entries of a keyed one. The bytes of blobs go to `blobs`.
pub(super) fn entry_tree<'s>(
    spec: &Model,
    made: &MadeKeys,
    field: &Field,
    value: &impl Fn(usize) -> &'s Value,
    blobs: &RefCell<Blobs>,
) -> Tree {
    let tree = |value: &Value| if field.is_blob() { blob_tree(value, blobs) } else { Tree::of(value) };
    if !field.is_keyed() {
        return tree(value(field.first_slot));
    }
    if field.axes.contains(&Axis::Checkpoint) {
        let mut entries = Values::new();
        for slot in field.slots().filter(|slot| *value(*slot) != field.default) {
            place_entry(&mut entries, &spec.entry_names(field, slot, made), tree(value(slot)));
        }
        return Tree::Map(entries);
    }
    let keyed = Keyed { spec, made, default: &field.default, value, tree: &tree };
    Tree::Map(keyed.entries(&field.axes, field.first_slot))
}

/// The entries of a field whose axes have one name for each key.
struct Keyed<'a, F, T> {
    spec: &'a Model,
    made: &'a MadeKeys,
    default: &'a Value,
    value: &'a F,
    tree: &'a T,
}

impl<'s, F: Fn(usize) -> &'s Value, T: Fn(&Value) -> Tree> Keyed<'_, F, T> {
    fn entries(&self, axes: &[Axis], first_slot: usize) -> Values {
        let [axis, inner @ ..] = axes else { return Values::new() };
        let stride: usize = inner.iter().map(|axis| self.spec.axis_len(*axis)).product();
        let entry = |key: u32| {
            let slot = first_slot + key as usize * stride;
            if inner.is_empty() {
                let value = (self.value)(slot);
                return (value != self.default).then(|| (self.tree)(value));
            }
            let entries = self.entries(inner, slot);
            (!entries.is_empty()).then_some(Tree::Map(entries))
        };
        let named = |name: &Arc<str>, key: u32| Some((name.clone(), entry(key)?));
        match axis {
            // In the order of their names, which is the one the map wants.
            Axis::Level => {
                let levels = self.spec.levels_by_name.iter();
                levels.filter_map(|level| named(&self.spec.level(*level).id, *level)).collect()
            }
            Axis::Keys(set) => {
                let names = self.spec.key_sets[*set as usize].all_names(&self.made[*set as usize]);
                names.iter().zip(0..).filter_map(|(name, key)| named(name, key)).collect()
            }
            Axis::Checkpoint => Values::new(),
        }
    }
}

/// Puts an entry where its keys say: a map for each axis.
pub(crate) fn place_entry(entries: &mut Values, names: &[Arc<str>], tree: Tree) {
    match names {
        [] => {}
        [last] => drop(entries.insert(last.clone(), tree)),
        [first, rest @ ..] => {
            let inner = entries.entry(first.clone()).or_insert_with(|| Tree::Map(Values::new()));
            if let Tree::Map(inner) = inner {
                place_entry(inner, rest, tree);
            }
        }
    }
}
