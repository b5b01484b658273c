//! From a projection to the bytes of its image in one pass, without a tree in between.
//!
//! What this writes is byte for byte what [`Image::encoded`](crate::Image::encoded) writes of the image of the same projection;
//! random specs and plays hold the two against each other.

use std::cell::RefCell;
use std::io::Write;
use std::ops::Range;

use crate::image::Image;
use crate::image::blobs::Blobs;
use crate::image::encoded::EncodedImage;
use crate::image::write::{entry_tree, saved_place};
use crate::origin::SavedOrigin;
use crate::state::{NotedSlots, State};
use crate::suspension::Suspended;
use vestigum_spec::model::Model;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::field::Field;
use vestigum_spec::model::members::{MemberNames, Names, quote};
use vestigum_spec::value::Value;
use vestigum_spec::value::tree::Tree;
use vestigum_spec::vocabulary::owner::Owner;
use vestigum_spec::vocabulary::span::Span;

impl Suspended {
    /// The image of an owner's progress, as a store writes it. `saved_at` is the time as the caller's clock tells it (RFC 3339).
    pub fn encoded(&self, owner: &Owner, saved_at: String) -> EncodedImage {
        self.encoded_with(owner, saved_at, None)
    }

    /// Encodes an owner's progress with what each installation gave to it, if that is given.
    pub fn encoded_with(&self, owner: &Owner, saved_at: String, origin: Option<&SavedOrigin>) -> EncodedImage {
        let (model, state) = (&*self.model, &self.state);
        let kept = match owner {
            Owner::Profile(_) => &state.kept,
            Owner::Device => &state.kept_of_device,
        };
        if kept.is_some() {
            let image = match owner {
                Owner::Profile(name) => self.profile_image(name),
                Owner::Device => self.device_image(),
            };
            return Image { saved_at, origin: origin.cloned().map(Box::new), ..image }.encoded();
        }
        let sets = model.key_sets.iter().zip(&state.made);
        let made: Vec<Option<Names>> =
            sets.map(|(set, made)| (!made.is_empty()).then(|| Names::of_set(set, made))).collect();
        let json = Vec::with_capacity(256 + 16 * model.slots);
        let (noted, texts) = (NotedSlots::default(), vec![0..0; model.fields.len()]);
        let blobs = RefCell::default();
        let mut writer = Writer { model, state, names: model.members(), made: &made, noted, texts, json, blobs };
        writer.content(owner);
        if let Some(origin) = origin {
            writer.raw(",\"origin\":");
            writer.serialized(&origin.to_tree());
        }
        EncodedImage::new(owner.clone(), saved_at, writer.json, writer.blobs.into_inner())
    }
}

struct Writer<'a> {
    model: &'a Model,
    state: &'a State,
    names: &'a MemberNames,
    /// For each key set its names, if play has made some.
    made: &'a [Option<Names>],
    /// The slots that a mark may have another value for.
    noted: NotedSlots,
    /// Says where the text of each field stands that was written so far. A mark that has nothing noted for a field is the same
    /// text again.
    texts: Vec<Range<usize>>,
    json: Vec<u8>,
    blobs: RefCell<Blobs>,
}

impl Writer<'_> {
    fn content(&mut self, owner: &Owner) {
        self.raw("\"game\":");
        self.declared(&self.model.id);
        let in_level = self.state.position.is_level();
        match owner {
            Owner::Profile(name) => {
                self.raw(",\"profile\":");
                self.text(name);
                self.version();
                self.raw(",\"place\":");
                let place = saved_place(self.model, &self.state.position);
                self.serialized(&place);
                self.made();
                self.raw(",\"values\":");
                let kept = |field: &Field| field.lasts != Span::Device && field.lasts.is_saved_at(in_level);
                let state = self.state;
                self.values(kept, |slot| state.value(slot));
                if in_level {
                    self.noted = state.noted_slots();
                    self.raw(",\"marks\":{\"entry\":");
                    self.values(|field| field.rewinds, |slot| state.at_entry(slot));
                    self.raw(",\"checkpoint\":");
                    self.values(|field| field.rewinds, |slot| state.at_checkpoint(slot));
                    self.raw("}");
                }
            }
            Owner::Device => {
                self.raw(",\"device\":true");
                self.version();
                self.raw(",\"place\":\"menu\",\"values\":");
                let state = self.state;
                self.values(|field| field.lasts == Span::Device, |slot| state.value(slot));
                if let Some(moved) = self.state.moved.as_deref().filter(|moved| !moved.is_empty()) {
                    self.raw(",\"moved\":{");
                    // In the order of the versions as texts, which is that of a map with names.
                    let mut versions: Vec<_> =
                        moved.iter().map(|(version, values)| (version.to_string(), values)).collect();
                    versions.sort_unstable_by(|one, other| one.0.cmp(&other.0));
                    for (index, (version, values)) in versions.into_iter().enumerate() {
                        self.comma(index);
                        self.name(&version);
                        self.serialized(&Tree::Map(values.clone()));
                    }
                    self.raw("}");
                }
            }
        }
    }

    fn version(&mut self) {
        self.raw(",\"version\":");
        self.int(self.model.version);
        if !self.model.shape.is_empty() {
            self.raw(",\"shape\":");
            self.declared(&self.model.shape);
        }
    }

    fn made(&mut self) {
        let mut sets: Vec<_> = self.model.key_sets.iter().zip(&self.state.made).collect();
        sets.retain(|(_, made)| !made.is_empty());
        if sets.is_empty() {
            return;
        }
        sets.sort_unstable_by(|one, other| one.0.name.cmp(&other.0.name));
        self.raw(",\"made\":{");
        for (index, (set, made)) in sets.into_iter().enumerate() {
            self.comma(index);
            self.name(&set.name);
            self.raw("[");
            for (index, name) in made.iter().enumerate() {
                self.comma(index);
                self.text(name);
            }
            self.raw("]");
        }
        self.raw("}");
    }

    /// Some fields in the order of their names: every scalar, and of keyed fields what is not at its default.
    fn values<'s>(&mut self, kept: impl Fn(&Field) -> bool, value: impl Fn(usize) -> &'s Value) {
        self.raw("{");
        let (model, names) = (self.model, self.names);
        let fields = model.fields_by_name.iter().map(|id| model.field(*id)).zip(names.fields.iter());
        // The first member has no comma.
        let mut commas = 1;
        for (field, (_, name)) in fields.filter(|(field, _)| kept(field)) {
            self.json.extend_from_slice(&name[std::mem::take(&mut commas)..]);
            let text = &mut self.texts[field.id.0 as usize];
            let begin = self.json.len();
            if text.start < text.end && self.noted.of(field.slots()).is_empty() {
                self.json.extend_from_within(text.clone());
                continue;
            }
            if field.is_blob() || field.axes.contains(&Axis::Checkpoint) {
                let tree = entry_tree(model, &self.state.made, field, &value, &self.blobs);
                self.serialized(&tree);
            } else if !field.is_keyed() {
                self.value(value(field.first_slot));
            } else {
                self.entries(field, &field.axes, field.first_slot, &value);
            }
            self.texts[field.id.0 as usize] = begin..self.json.len();
        }
        self.raw("}");
    }

    /// The entries of a field from an axis on: all but what is at its default. Answers whether there were any.
    fn entries<'s>(
        &mut self,
        field: &Field,
        axes: &[Axis],
        first_slot: usize,
        value: &impl Fn(usize) -> &'s Value,
    ) -> bool {
        self.raw("{");
        let [axis, inner @ ..] = axes else { return false };
        let names = match axis {
            Axis::Level => &self.names.levels,
            Axis::Keys(set) => {
                let set = *set as usize;
                self.made[set].as_ref().unwrap_or(&self.names.sets[set])
            }
            // Written by the tree: its keys have two names.
            Axis::Checkpoint => return false,
        };
        let mut any = false;
        if inner.is_empty() {
            for (key, name) in names.iter() {
                let value = value(first_slot + key as usize);
                if *value != field.default {
                    self.json.extend_from_slice(&name[usize::from(!any)..]);
                    self.value(value);
                    any = true;
                }
            }
        } else {
            let stride: usize = inner.iter().map(|axis| self.model.axis_len(*axis)).product();
            for (key, name) in names.iter() {
                let before = self.json.len();
                self.json.extend_from_slice(&name[usize::from(!any)..]);
                if self.entries(field, inner, first_slot + key as usize * stride, value) {
                    any = true;
                } else {
                    self.json.truncate(before);
                }
            }
        }
        self.raw("}");
        any
    }

    #[inline]
    fn value(&mut self, value: &Value) {
        match value {
            Value::Int(int) => self.int(*int),
            Value::Bool(bool) => self.raw(if *bool { "true" } else { "false" }),
            Value::Text(text) => self.text(text),
            Value::Unfilled
            | Value::Float(_)
            | Value::Bytes(_)
            | Value::Vec2(_)
            | Value::Vec3(_)
            | Value::Choice(_)
            | Value::Struct(..)
            | Value::List(_)
            | Value::Set(_)
            | Value::Map(_) => self.serialized(value),
        }
    }

    fn raw(&mut self, text: &str) {
        self.json.extend_from_slice(text.as_bytes());
    }

    fn comma(&mut self, index: usize) {
        if index > 0 {
            self.raw(",");
        }
    }

    fn int(&mut self, int: i64) {
        self.raw(itoa::Buffer::new().format(int));
    }

    /// The name of a member.
    fn name(&mut self, name: &str) {
        self.declared(name);
        self.raw(":");
    }

    /// A name that a spec declares. It has letters, digits and underscores, so nothing in it is escaped.
    fn declared(&mut self, name: &str) {
        self.raw("\"");
        self.raw(name);
        self.raw("\"");
    }

    fn text(&mut self, text: &str) {
        quote(&mut self.json, text);
    }

    /// Whatever is rare goes through serde.
    fn serialized<T: serde::Serialize + ?Sized>(&mut self, value: &T) {
        // Writing into memory fails only for maps whose keys are not text, and there are none.
        let _ = serde_json::to_writer(self.json.by_ref(), value);
    }
}
