//! The fields of a document: their types, spans, limits and defaults.

use rustc_hash::FxHashMap;

use crate::codes;
use crate::document::{FieldEntry, Literal, Word};
use crate::model::axis::Axis;
use crate::model::field::{Field, FieldId, RANKING};
use crate::model::{Names, Types};
use crate::reading::Resolver;
use crate::reading::blobs::is_blob;
use crate::reading::rankings::is_ranking;
use crate::value::class::Class;
use crate::value::limits::Limits;
use crate::value::types::Type;
use crate::value::{Value, below};
use crate::vocabulary::fate::PlainFate;
use crate::vocabulary::span::{Lasts, Span, WrittenBy};

/// The most characters, bytes or values that `max_len` can allow.
pub const MAX_LEN: i64 = 64 << 20;

impl Resolver<'_> {
    /// The second stage: names become fields with types.
    pub(super) fn types(&mut self, names: Names) -> Types {
        let mut types = Types {
            names,
            fields: Vec::new(),
            field_ids: FxHashMap::default(),
            completed: FieldId(0),
            opened: FieldId(0),
            fields_by_name: Vec::new(),
            device_fields: Vec::new(),
            clocks: Vec::new(),
            made_fields: None,
            slots: 0,
        };
        let spec = &mut types;
        for (name, entry) in &self.document.fields {
            let makes = !spec.made_levels.is_empty();
            if matches!(name.value.as_str(), "completed" | "opened") || (makes && name.value == "made") {
                let of = if name.value == "made" { "where players make levels" } else { "every game has it" };
                let message = format!("`{}` is built in: {of}", name.value);
                self.error(codes::BAD_NAME, name.span, message);
                continue;
            }
            if self.name_of_statement("field", name) {
                let field = self.field(spec, name, entry);
                add_field(spec, field);
            }
        }
        let lasts = match spec.lasts {
            Lasts::Profile => Span::Profile,
            Lasts::Run => Span::Run,
        };
        for name in ["completed", "opened"] {
            let id = add_field(
                spec,
                Field {
                    axes: vec![Axis::Level],
                    lasts,
                    built_in: true,
                    written_by: WrittenBy::Rules,
                    ..plain(name, Type::Bool)
                },
            );
            match name {
                "completed" => spec.completed = id,
                _ => spec.opened = id,
            }
        }
        if !types.made_levels.is_empty() {
            add_field(
                &mut types,
                Field {
                    axes: vec![Axis::Level],
                    lasts: Span::Profile,
                    built_in: true,
                    written_by: WrittenBy::Rules,
                    ..plain("made", Type::Bool)
                },
            );
        }
        self.made(&mut types);
        self.currents(&mut types);
        let mut by_name: Vec<FieldId> = types.fields.iter().map(|field| field.id).collect();
        by_name.sort_unstable_by(|one, other| types.field(*one).name.cmp(&types.field(*other).name));
        Types { fields_by_name: by_name, ..types }
    }

    fn field(&mut self, spec: &Names, name: &Word, entry: &FieldEntry) -> Field {
        let ty = match &entry.ty {
            None => {
                let words: Vec<&str> = Class::single().map(Class::word).collect();
                self.error(codes::SHAPE, name.span, format!("`{}` has no type", name.value)).help =
                    Some(format!("add `type`, one of: {}, a struct, or a container of them", words.join(", ")));
                Type::Int
            }
            Some(word) => {
                let choice = self.choice(name, entry, word);
                self.field_type(spec, word, choice.as_ref())
            }
        };
        if entry.lasts.is_none() {
            self.error(codes::SHAPE, name.span, format!("`{}` does not say how long it lasts", name.value)).help =
                Some("add `lasts`, one of: attempt, visit, session, run, profile, device".into());
        }
        let lasts = self.choose("lasts", entry.lasts.as_ref());
        let axes = self.axes(spec, entry);
        let open = |axis: &Axis| matches!(axis, Axis::Keys(set) if spec.key_sets[*set as usize].max.is_some());
        if lasts == Some(Span::Device)
            && let Some(at) = axes.iter().position(open)
        {
            let message = "names made at run time belong to a player, and a device field is shared by all";
            self.error(codes::SHAPE, entry.per[at].span, message).help =
                Some("give the key set its `names`, or let the field last a profile".into());
        }
        let after_failure = self.choose_of("after_failure", entry.after_failure.as_ref(), PlainFate::follows_failure);
        // What counts time is written while the game is played, whatever rules do.
        let by_default = match (entry.on.is_empty(), &entry.counts) {
            (true, _) => WrittenBy::Play,
            (false, Some(_)) => WrittenBy::Both,
            (false, None) => WrittenBy::Rules,
        };
        let written_by = self.choose("written_by", entry.written_by.as_ref()).unwrap_or(by_default);
        if let Some(lasts) = lasts {
            self.decided(name, entry, lasts, written_by);
        }
        let limits = match &entry.ty {
            Some(word) if is_ranking(word) => self.ranking(name, entry, &ty),
            Some(word) if is_blob(word) => self.blob(name, entry),
            _ => self.limits(name, entry, &ty),
        };
        let default = self.default(name, entry, &ty, &limits);
        let lasts = lasts.unwrap_or(Span::Profile);
        let counts = self.counts(spec, name, entry, &ty, written_by, &axes);
        self.saves(name, entry, lasts, written_by);
        self.thumbnail(name, entry, lasts);
        let after_failure = after_failure.filter(|_| lasts.can_rewind() && lasts != Span::Attempt);
        Field {
            lasts,
            axes,
            after_failure,
            written_by,
            limits,
            default,
            optional: entry.optional,
            label: entry.label.as_deref().map(Into::into),
            saves: entry.save,
            thumbnail: entry.thumbnail,
            counts,
            rewinds: lasts == Span::Visit || lasts == Span::Attempt || after_failure.is_some_and(PlainFate::rewinds),
            ..plain(&name.value, ty)
        }
    }

    /// `after_failure` is said where it is a decision, and only there.
    fn decided(&mut self, name: &Word, entry: &FieldEntry, lasts: Span, written_by: WrittenBy) {
        match &entry.after_failure {
            None if matches!(lasts, Span::Visit | Span::Run | Span::Profile) && written_by.play() => {
                let field = &name.value;
                let error = self.error(
                    codes::UNDECIDED,
                    name.span,
                    format!("`{field}` does not say what a failure does to it"),
                );
                error.label = format!("play writes it, and it lasts a {lasts}");
                error.help = Some(
                    "add `after_failure`: \"keep\", \"checkpoint\" (as at the last checkpoint) or \"entry\" (as when the level was entered)".into(),
                );
            }
            Some(word) if lasts == Span::Attempt => {
                let message = "an attempt ends at every failure, so `after_failure` would never be asked";
                self.error(codes::IDLE_RULE, word.span, message).help = Some("leave `after_failure` out".into());
            }
            Some(word) if !lasts.can_rewind() && word.value != "keep" => {
                let message = format!("{lasts} fields are never rewound");
                self.error(codes::IDLE_RULE, word.span, message).help = Some("leave `after_failure` out".into());
            }
            _ => {}
        }
    }

    pub(super) fn limits(&mut self, name: &Word, entry: &FieldEntry, ty: &Type) -> Limits {
        if let (Some(by), false) = (entry.by.first(), entry.ty.as_ref().is_some_and(is_ranking)) {
            let message = format!("`{}` is of type {ty}, and only a ranking is sorted", name.value);
            self.error(codes::SHAPE, by.span, message).help = Some(format!("write `type = \"{RANKING} of …\"`"));
        }
        let max_len = match &entry.max_len {
            None => Limits::DEFAULT_MAX_LEN,
            Some(len) if !ty.has_length() => {
                self.error(codes::WRONG_TYPE, len.span, format!("a field of type {ty} has no length"));
                Limits::DEFAULT_MAX_LEN
            }
            Some(len) => match usize::try_from(len.value).ok().filter(|len| (1..=MAX_LEN as usize).contains(len)) {
                Some(len) => len,
                None => {
                    self.error(codes::OUT_OF_RANGE, len.span, format!("`max_len` goes from 1 to {MAX_LEN}"));
                    Limits::DEFAULT_MAX_LEN
                }
            },
        };
        let limits = Limits::new(None, max_len);
        let Some(range) = &entry.range else { return limits };
        if !ty.is_number() {
            let message = format!("`{}` is of type {ty}; only numbers have a range", name.value);
            self.error(codes::WRONG_TYPE, range.span, message);
            return limits;
        }
        let (lowest, highest) = &range.value;
        let lowest = self.typed(ty, lowest);
        let highest = self.typed(ty, highest);
        if let (Some(lowest), Some(highest)) = (lowest, highest) {
            if below(&highest, &lowest) {
                self.error(codes::OUT_OF_RANGE, range.span, "this range ends before it begins").help =
                    Some(format!("write `range = [{highest}, {lowest}]`"));
            } else {
                return Limits::new(Some((lowest, highest)), max_len);
            }
        }
        limits
    }

    fn typed(&mut self, ty: &Type, literal: &Literal) -> Option<Value> {
        let value = literal.value.clone().completed(ty).fitted(ty);
        if value.is_none() {
            let message = format!("expected a value of type {ty}, found {}", literal.value);
            let error = self.error(codes::WRONG_TYPE, literal.span, message);
            if let Type::Choice(names) = ty {
                let names: Vec<&str> = names.iter().map(|chosen| chosen.name()).collect();
                error.help = Some(format!("the choices are: {}", names.join(", ")));
            }
        }
        value
    }

    pub(super) fn default(&mut self, name: &Word, entry: &FieldEntry, ty: &Type, limits: &Limits) -> Value {
        let Some(literal) = &entry.default else {
            if entry.optional {
                return Value::Unfilled;
            }
            let (value, outside) = limits.clamp(ty.zero());
            if outside && entry.range.is_some() {
                let message = format!("`{}` begins at {}, which is outside its range", name.value, ty.zero());
                let span = entry.range.as_ref().map_or(name.span, |range| range.span);
                self.error(codes::OUT_OF_RANGE, span, message).help = Some(format!("add `default = {value}`"));
            }
            return value;
        };
        if entry.optional {
            self.error(codes::SHAPE, literal.span, "an optional field begins without a value, so it has no default");
        }
        let Some(value) = self.typed(ty, literal) else { return ty.zero() };
        let (inside, outside) = limits.clamp(value);
        if outside {
            self.error(codes::OUT_OF_RANGE, literal.span, "the default lies outside these limits");
        }
        inside
    }
}

fn add_field(spec: &mut Types, field: Field) -> FieldId {
    let id = FieldId(spec.fields.len() as u32);
    let dims: Vec<u32> = field.axes.iter().map(|axis| spec.axis_len(*axis) as u32).collect();
    let slots = dims.iter().fold(1usize, |slots, dim| slots.saturating_mul(*dim as usize));
    spec.field_ids.insert(field.name.clone(), id);
    let (played, in_level) = (field.written_by.play(), field.lasts.is_of_visit());
    if field.lasts == Span::Device {
        spec.device_fields.push(id);
    }
    if field.counts.is_some() {
        spec.clocks.push(id);
    }
    spec.fields.push(Field { id, first_slot: spec.slots, slots, dims, played, in_level, ..field });
    spec.slots = spec.slots.saturating_add(slots);
    id
}

fn plain(name: &str, ty: Type) -> Field {
    Field {
        id: FieldId(0),
        name: name.into(),
        default: ty.zero(),
        ty,
        lasts: Span::Profile,
        after_failure: None,
        written_by: WrittenBy::Play,
        limits: Limits::new(None, Limits::DEFAULT_MAX_LEN),
        optional: false,
        label: None,
        saves: false,
        thumbnail: false,
        counts: None,
        axes: Vec::new(),
        dims: Vec::new(),
        first_slot: 0,
        slots: 1,
        rewinds: false,
        built_in: false,
        played: true,
        in_level: false,
    }
}
