//! Reading the values of an image under a model.
//!
//! Nothing that an image of this game says stops it from being loaded: what is missing is filled with the default, what
//! the model does not know is dropped, what lies outside its limits is brought inside, and all of it is reported.

use std::sync::Arc;

use crate::image::blobs::{BlobRef, Blobs};
use crate::image::report::{Clamped, Dropped, LoadReport, LostBlob, SavedMark, SavedName, SavedThing};
use crate::image::{Image, SavedPlace};
use crate::state::State;
use vestigum_spec::model::Model;
use vestigum_spec::model::entry::{EntrySlot, entry_of};
use vestigum_spec::model::field::Field;
use vestigum_spec::value::Value;
use vestigum_spec::value::decode::decode;
use vestigum_spec::value::tree::{Tree, Values};
use vestigum_spec::value::types::Type;
use vestigum_spec::vocabulary::names::is_made_name;
use vestigum_spec::vocabulary::owner::Owner;
use vestigum_spec::vocabulary::span::Span;

/// The values and marks of an image, read by the shape of the version that wrote it, and what did not fit. The place is
/// left out: the shape has no rules to leave a level by.
pub(crate) fn read_shape(spec: &Model, image: &Image) -> (State, LoadReport) {
    let mut loader =
        ImageReader { model: spec, state: State::fresh(spec), report: LoadReport::default(), blobs: &image.blobs };
    match image.owner {
        Owner::Device => loader.values(&image.values, |field| field.lasts == Span::Device),
        Owner::Profile(_) => loader.player(image),
    }
    (loader.state, loader.report)
}

/// An image on its way into a state.
pub(crate) struct ImageReader<'a> {
    pub model: &'a Model,
    pub state: State,
    pub report: LoadReport,
    /// The blobs of the image that is read.
    pub blobs: &'a Blobs,
}

impl ImageReader<'_> {
    /// Reads what an image of a player holds: names, values and marks.
    pub(crate) fn player(&mut self, image: &Image) {
        let in_level = matches!(image.place, SavedPlace::InLevel { .. });
        self.made(image);
        self.values(&image.values, |field| field.lasts != Span::Device && field.lasts.is_saved_at(in_level));
        if in_level {
            self.marks(image);
        }
        self.clear_levels_not_made();
    }

    /// Drops what an image keeps for a level that its player has not made.
    fn clear_levels_not_made(&mut self) {
        let spec = self.model;
        for (id, slot) in self.state.without_level(spec) {
            let field = spec.field(id);
            if *self.state.value(slot) != field.default {
                let names = spec.entry_names(field, slot, &self.state.made);
                let names: Vec<&str> = names.iter().map(|name| &**name).collect();
                self.drop(SavedThing::Value(saved_name(&field.name, &names)), "its level was not made");
            }
            self.state.write_through(slot, field.default.clone());
        }
    }

    /// The values of the fields that are wanted.
    pub(crate) fn values(&mut self, values: &Values, wanted: impl Fn(&Field) -> bool) {
        let spec = self.model;
        for field in spec.fields.iter().filter(|field| wanted(field)) {
            let Some(tree) = values.get(&field.name) else {
                self.report.filled.push(field.name.clone());
                continue;
            };
            for (slot, value) in self.entries(field, tree) {
                self.state.write(slot, value);
            }
        }
        for name in values.keys() {
            if !spec.find_field(name).is_some_and(&wanted) {
                self.drop(SavedThing::Value(saved_name(name, &[])), "the spec saves no such field");
            }
        }
    }

    fn drop(&mut self, what: SavedThing, why: &str) {
        self.report.dropped.push(Dropped { what, why: why.to_owned() });
    }

    /// The names that were made at run time, as far as the spec still has their sets and room for them.
    fn made(&mut self, image: &Image) {
        for (set, names) in &image.made {
            let found = self.model.key_sets.iter().position(|declared| declared.name == *set);
            let Some(index) = found else {
                self.drop(SavedThing::KeySet(set.clone()), "there is no such key set");
                continue;
            };
            // A set that declares its names has those; what was kept under others says so itself.
            let Some(max) = self.model.key_sets[index].max else { continue };
            for name in names {
                if self.state.made[index].len() < max as usize && is_made_name(name) {
                    self.state.made[index].insert(name.clone());
                } else {
                    let what = SavedThing::Key { set: set.clone(), name: name.clone() };
                    self.drop(what, &format!("there is no room for it in `{set}`"));
                }
            }
        }
    }

    /// The slots of a field that an image names, and their values.
    fn entries(&mut self, field: &Field, tree: &Tree) -> Vec<(usize, Value)> {
        let mut out = Vec::new();
        if field.is_keyed() {
            let depth = field.names_in_key();
            self.keyed(field, tree, depth, &mut Vec::new(), &mut out);
        } else if let Some(value) = self.value(field, &[], tree) {
            out.push((field.first_slot, value));
        }
        out
    }

    /// Goes down one map for each axis.
    fn keyed<'t>(
        &mut self,
        field: &Field,
        tree: &'t Tree,
        depth: usize,
        names: &mut Vec<&'t str>,
        out: &mut Vec<(usize, Value)>,
    ) {
        let shown = |names: &[&str]| SavedThing::Value(saved_name(&field.name, names));
        if depth == 0 {
            match entry_of(self.model, field, names, &self.state.made) {
                Ok(EntrySlot::Slot(slot)) => {
                    let value = plain(field, tree).or_else(|| self.value(field, names, tree));
                    out.extend(value.map(|value| (slot, value)));
                }
                Ok(EntrySlot::NotMade) => self.drop(shown(names), "its key was not made"),
                Err(error) => self.drop(shown(names), &error.to_string()),
            }
            return;
        }
        let Tree::Map(entries) = tree else {
            self.drop(shown(names), &format!("it is {}, and a value for each key is wanted", tree.kind()));
            return;
        };
        for (name, tree) in entries {
            names.push(name);
            self.keyed(field, tree, depth - 1, names, out);
            names.pop();
        }
    }

    fn value(&mut self, field: &Field, names: &[&str], tree: &Tree) -> Option<Value> {
        if field.optional && *tree == Tree::Null {
            return Some(Value::Unfilled);
        }
        if field.is_blob()
            && let Some(blob) = BlobRef::of(tree)
        {
            return self.blob(field, names, blob);
        }
        let dropped = &mut self.report.dropped;
        let value = decode(tree, &field.ty, "", &mut |inside, why| {
            let name = SavedName { inside, ..saved_name(&field.name, names) };
            dropped.push(Dropped { what: SavedThing::Value(name), why });
        })?;
        if field.limits.is_too_long(&value) {
            self.too_long(field, names, value.len() as u64);
            return None;
        }
        let (inside, clamped) = field.limits.clamp(value.clone());
        if clamped {
            let name = saved_name(&field.name, names);
            self.report.clamped.push(Clamped { name, was: value, is: inside.clone() });
        }
        Some(inside)
    }

    /// The bytes of a blob, if they are there and the field holds as many.
    fn blob(&mut self, field: &Field, names: &[&str], blob: BlobRef) -> Option<Value> {
        let name = saved_name(&field.name, names);
        match self.blobs.get(&blob.digest) {
            Ok(_) if blob.len > field.limits.max_len as u64 => {
                self.too_long(field, names, blob.len);
                None
            }
            Ok(bytes) => Some(Value::Bytes(bytes.clone())),
            Err(why) => {
                self.report.lost_blobs.push(LostBlob { name, blob, why });
                None
            }
        }
    }

    /// Half of a blob would be worth nothing.
    fn too_long(&mut self, field: &Field, names: &[&str], len: u64) {
        let why = format!("it has {len} bytes, and the field holds at most {}", field.limits.max_len);
        self.drop(SavedThing::Value(saved_name(&field.name, names)), &why);
    }

    fn marks(&mut self, image: &Image) {
        let Some(marks) = &image.marks else { return };
        let spec = self.model;
        for field in spec.fields.iter().filter(|field| field.rewinds) {
            let mut entry: Vec<Value> =
                self.told_of_mark(SavedMark::Entry, |reader| reader.marked(field, &marks.entry));
            let mut checkpoint =
                self.told_of_mark(SavedMark::Checkpoint, |reader| reader.marked(field, &marks.checkpoint));
            for slot in field.slots().rev() {
                let (Some(entry), Some(checkpoint)) = (entry.pop(), checkpoint.pop()) else { break };
                if field.lasts == Span::Attempt {
                    self.state.write(slot, entry.clone());
                }
                self.state.write_marks(slot, entry, checkpoint);
            }
        }
    }

    /// Reads a mark. What it drops, clamps or has lost is told with the mark's name, but for what the value beside it does too.
    fn told_of_mark<T>(&mut self, mark: SavedMark, read: impl FnOnce(&mut Self) -> T) -> T {
        let LoadReport { dropped, clamped, lost_blobs, .. } = &self.report;
        let (dropped, clamped, lost) = (dropped.len(), clamped.len(), lost_blobs.len());
        let done = read(self);
        let report = &mut self.report;
        for mut of_mark in report.dropped.split_off(dropped) {
            if !report.dropped.contains(&of_mark) {
                if let SavedThing::Value(name) = &mut of_mark.what {
                    name.mark = Some(mark);
                }
                report.dropped.push(of_mark);
            }
        }
        for mut of_mark in report.clamped.split_off(clamped) {
            // Another value is another one that was brought inside.
            if !report.clamped.contains(&of_mark) {
                of_mark.name.mark = Some(mark);
                report.clamped.push(of_mark);
            }
        }
        for mut of_mark in report.lost_blobs.split_off(lost) {
            if !report.lost_blobs.contains(&of_mark) {
                of_mark.name.mark = Some(mark);
                report.lost_blobs.push(of_mark);
            }
        }
        done
    }

    /// All entries of a field in a mark. A field that the mark does not know is at its value.
    fn marked(&mut self, field: &Field, values: &Values) -> Vec<Value> {
        let Some(tree) = values.get(&field.name) else {
            return field.slots().map(|slot| self.state.value(slot).clone()).collect();
        };
        let mut out = vec![field.default.clone(); field.slots];
        for (slot, value) in self.entries(field, tree) {
            out[slot - field.first_slot] = value;
        }
        out
    }
}

/// A number or a bool that fits as it is: nothing has to be reported.
fn plain(field: &Field, tree: &Tree) -> Option<Value> {
    match (tree, &field.ty) {
        (Tree::Bool(bool), Type::Bool) => Some(Value::Bool(*bool)),
        (Tree::Int(int), Type::Int) => (field.limits.clamp_int(*int) == *int).then_some(Value::Int(*int)),
        _ => None,
    }
}

fn saved_name(field: &Arc<str>, names: &[&str]) -> SavedName {
    SavedName::of(field, names.iter().copied().map(Arc::from))
}
