//! Derived values: each is compiled behind those that it reads, and one that is kept per level or key once for each of them.

use std::ops::Range;
use std::sync::Arc;

use indexmap::IndexSet;
use rustc_hash::FxHashMap;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::document::{DerivedEntry, Word};
use crate::model::axis::Axis;
use crate::model::field::Field;
use crate::model::level::Derived;
use crate::model::node::{EntryRef, Node, ReadAt};
use crate::model::{Readable, Types};
use crate::nearest::suggestion;
use crate::reading::compile::{Compiler, DerivedKey, Scope, Typed, compile};
use crate::reading::{Resolver, place_of};
use crate::syntax::parse::{Ast, Operator};
use crate::syntax::token::{Token, tokens};
use crate::value::Value;
use crate::value::types::Type;
use crate::vocabulary::function::Aggregate;

/// Says how deep derived values may read each other.
const DERIVED_DEPTH: usize = 100;

/// Says how many derived values all of them together may read, each counted with those that it reads in turn.
const DERIVED_READS: usize = 1_000_000;

/// Those that are still to be compiled, by name.
type Waiting<'d> = FxHashMap<&'d str, &'d (Word, DerivedEntry)>;

impl Resolver<'_> {
    /// The third stage: derived values, each behind those that it reads.
    pub(super) fn derived(&mut self, types: Types) -> Readable {
        let mut readable = Readable { types, derived: Vec::new(), derived_ids: FxHashMap::default() };
        let spec = &mut readable;
        let mut waiting = Waiting::default();
        for entry in &self.document.derived {
            let name = &entry.0;
            let taken = spec.tables.iter().any(|table| *table.name == *name.value);
            if taken || spec.find_field(&name.value).is_some() {
                let what = if taken { "table" } else { "field" };
                let message = format!("`{}` is the name of a {what} already", name.value);
                self.error(codes::BAD_NAME, name.span, message);
            } else if self.name("derived value", name) {
                waiting.insert(&name.value, entry);
            }
        }
        for (name, _) in &self.document.derived {
            self.derive(spec, &mut waiting, &name.value, &mut Vec::new());
        }
        readable
    }

    /// Compiles a derived value after those it reads.
    fn derive<'d>(&mut self, spec: &mut Readable, waiting: &mut Waiting<'d>, name: &str, path: &mut Vec<&'d str>) {
        let Some((key, (name, entry))) = waiting.get_key_value(name) else { return };
        let key = *key;
        if path.len() >= DERIVED_DEPTH {
            self.too_deep(name);
            waiting.remove(key);
            // Those that read it have nothing more to say.
            spec.derived_ids.insert(key.into(), u32::MAX);
            return;
        }
        if path.contains(&key) {
            let circle = path.iter().skip_while(|step| **step != key).chain([&key]).copied();
            let message = format!("these derived values need each other: {}", circle.collect::<Vec<_>>().join(" → "));
            self.error(codes::CYCLE, name.span, message);
            waiting.remove(key);
            return;
        }
        path.push(key);
        // What cannot be read names nothing; compiling it says what is wrong.
        let tokens = tokens(&entry.value.value).unwrap_or_default();
        for (at, (token, _)) in tokens.iter().enumerate() {
            let before = at.checked_sub(1).and_then(|at| tokens.get(at));
            let behind_dot = before.is_some_and(|(token, _)| *token == Token::Symbol("."));
            let of_literal = tokens.get(at + 1).is_some_and(|(token, _)| *token == Token::Symbol("="));
            // The name of a member means nothing else.
            if let (Token::Name(other), false) = (token, behind_dot || of_literal) {
                self.derive(spec, waiting, other, path);
            }
        }
        path.pop();
        if waiting.remove(key).is_none() {
            // A circle was found on the way; this keeps the message from being said once more.
            spec.derived_ids.insert(key.into(), u32::MAX);
            return;
        }
        let index = self.compiled(spec, name, entry).unwrap_or(u32::MAX);
        spec.derived_ids.insert(key.into(), index);
    }

    fn too_deep(&mut self, name: &Word) {
        let message = format!("derived values read each other more than {DERIVED_DEPTH} deep here");
        self.error(codes::OUT_OF_RANGE, name.span, message);
    }

    /// The place of the compiled value: behind its values for each key, where it has some.
    fn compiled(&mut self, spec: &mut Readable, name: &Word, entry: &DerivedEntry) -> Option<u32> {
        let place = place_of(self.text, &entry.value);
        let text = &entry.value.value;
        let label: Option<Arc<str>> = entry.label.as_deref().map(Into::into);
        let axis = match &entry.per {
            Some(per) => Some(self.derived_axis(spec, per)?),
            None => None,
        };
        let keys = axis.map_or(0, |axis| spec.axis_len(axis) as u32);
        let mut all = Vec::new();
        let mut read = self.derived_reads;
        for key in 0..keys {
            let scope = Scope::DerivedOf(match axis? {
                Axis::Keys(set) => DerivedKey::Key(set, key),
                Axis::Level | Axis::Checkpoint => DerivedKey::Level(key),
            });
            let expression = compile(spec, scope, text, None, &place, self.errors)?;
            read += expression.derived().len();
            if read > DERIVED_READS {
                let message = format!("derived values read more than {DERIVED_READS} others, counted for each key");
                self.error(codes::OUT_OF_RANGE, name.span, message).help = Some(
                    "a value for each key that asks all keys costs their number twice over: let the game work it out"
                        .into(),
                );
                return None;
            }
            let names = spec.key_names(axis?, key, &vec![IndexSet::new(); spec.key_sets.len()]);
            let called = format!("{}[{}]", name.value, names.join(", "));
            all.push(Derived {
                name: called.into(),
                label: label.clone(),
                expression,
                depth: 0,
                axis: None,
                keys: 0,
                is_of_key: true,
            });
        }
        // Without a key it is that of the level in which play stands, or of the key that `current` names.
        let means_one = match axis {
            Some(Axis::Keys(set)) => spec.key_sets[set as usize].current.is_some(),
            Some(Axis::Level | Axis::Checkpoint) | None => true,
        };
        let expression = match (means_one, all.last()) {
            (false, Some(last)) => last.expression.clone(),
            _ => compile(spec, Scope::Derived, text, None, &place, self.errors)?,
        };
        read += expression.derived().len();
        all.push(Derived {
            name: name.value.as_str().into(),
            label,
            expression,
            depth: 0,
            axis,
            keys,
            is_of_key: false,
        });
        self.derived_reads = read;
        for mut derived in all {
            let below = derived.expression.derived().iter().map(|index| spec.derived[*index as usize].depth).max();
            derived.depth = below.unwrap_or(0) + 1;
            if derived.depth > DERIVED_DEPTH {
                self.too_deep(name);
                return None;
            }
            spec.derived.push(derived);
        }
        Some(spec.derived.len() as u32 - 1)
    }

    fn derived_axis(&mut self, spec: &Readable, per: &Word) -> Option<Axis> {
        let set = spec.key_sets.iter().position(|set| *set.name == *per.value);
        let help = "a derived value is kept for each level, or for each key of a set that declares its names";
        match (per.value.as_str(), set) {
            ("level", _) => Some(Axis::Level),
            (_, Some(set)) if spec.key_sets[set].max.is_none() => Some(Axis::Keys(set as u32)),
            ("checkpoint", _) | (_, Some(_)) => {
                let message = format!("no derived value is kept per {}", per.value);
                self.error(codes::SHAPE, per.span, message).help = Some(help.into());
                None
            }
            (name, None) => {
                let names = spec.key_sets.iter().map(|set| &*set.name).chain(["level"]);
                let message = format!("there is no key set `{}`", name.escape_debug());
                let error = Diagnostic::error(codes::UNKNOWN_NAME, per.span, message);
                self.errors.push(error.help(help).suggest(name, names));
                None
            }
        }
    }
}

impl Readable {
    /// The value for one key of a derived value that is kept per level or key, or what the key should be one of and the name
    /// that was probably meant.
    pub fn derived_for(&self, id: u32, key: &str) -> Option<Result<u32, (&str, Option<String>)>> {
        let (mut ids, axis) = (self.keyed_derived(id)?, self.derived[id as usize].axis?);
        let place = match axis {
            Axis::Keys(set) => {
                let names = &self.key_sets[set as usize].names;
                let place = names.get_index_of(key).map(|place| place as u32);
                place.ok_or_else(|| suggestion(key, names.iter().map(|name| &**name)))
            }
            Axis::Level | Axis::Checkpoint => self.find_level(key),
        };
        Some(place.map(|place| ids.nth(place as usize).unwrap_or(id)).map_err(|near| (self.axis_word(axis), near)))
    }

    /// The values for each key of a derived value that is kept per level or key.
    pub fn keyed_derived(&self, id: u32) -> Option<Range<u32>> {
        let derived = self.derived.get(id as usize)?;
        derived.axis.map(|_| id - derived.keys..id)
    }
}

impl Compiler<'_> {
    /// A derived value without a key.
    pub(super) fn derived_here(&mut self, index: u32, name: &str, span: SourceSpan) -> Option<Typed> {
        let spec = self.spec;
        // A derived value that could not be compiled was reported where it stands.
        let derived = spec.derived.get(index as usize)?;
        match (derived.axis, self.scope.derived_key()) {
            (Some(axis), Some(key)) => match (axis, key) {
                (Axis::Level, DerivedKey::Level(level)) => return self.derived_at(index, level, span),
                (Axis::Keys(set), DerivedKey::Key(of, key)) if of == set => return self.derived_at(index, key, span),
                _ => return self.which_key(axis, name, span),
            },
            (Some(axis @ Axis::Keys(set)), None) if spec.key_sets[set as usize].current.is_none() => {
                return self.which_key(axis, name, span);
            }
            (None, Some(_)) if derived.expression.needs_level() => {
                let message =
                    format!("`{name}` is that of the level in which play stands, and here each level has its own");
                let error = self.error(codes::NO_LEVEL, span, message);
                return self
                    .fail(error.help(format!("give `{name}` a value for each level as well, with `per = \"level\"`")));
            }
            _ => {}
        }
        if derived.expression.needs_level() {
            self.level_is_meant(name, span)?;
        }
        self.derived(index, span)
    }

    fn which_key<T>(&mut self, axis: Axis, name: &str, span: SourceSpan) -> Option<T> {
        let axis = self.spec.axis_word(axis);
        let error = self
            .error(codes::NO_LEVEL, span, format!("`{name}` has a value for each {axis}"))
            .label(format!("which {axis}?"))
            .help(format!("name one in brackets, as in `{name}[…]`"));
        self.fail(error)
    }

    /// `medal[mill_lane]`
    pub(super) fn derived_entry(&mut self, index: u32, name: &str, keys: &[Ast], span: SourceSpan) -> Option<Typed> {
        let axis = self.spec.derived.get(index as usize)?.axis?;
        let [key] = keys else {
            let message = format!("`{name}` takes a {}, found {}", self.spec.axis_word(axis), keys.len());
            let error = self.error(codes::WRONG_TYPE, span, message);
            return self.fail(error);
        };
        let key = match axis {
            Axis::Keys(set) => {
                let name = self.key_name(set, key)?;
                self.declared_key(set, name, key.span)?
            }
            Axis::Level | Axis::Checkpoint => self.level(name, key)?,
        };
        match key {
            Some(key) => self.derived_at(index, key, span),
            None => self.derived_here(index, name, span),
        }
    }

    fn derived_at(&mut self, index: u32, key: u32, span: SourceSpan) -> Option<Typed> {
        let mut keys = self.spec.keyed_derived(index)?;
        self.derived(keys.nth(key as usize)?, span)
    }

    fn derived(&mut self, index: u32, span: SourceSpan) -> Option<Typed> {
        let spec = self.spec;
        let derived = &spec.derived[index as usize];
        for read in &derived.expression.reads {
            self.may_read(spec.field(*read), span)?;
        }
        self.reads.extend_from_slice(&derived.expression.reads);
        self.derived.extend_from_slice(&derived.expression.derived);
        self.derived.push(index);
        Some((Node::Derived(index), derived.expression.ty.clone()))
    }

    /// A function over the values of all keys.
    pub(super) fn over_derived(&mut self, over: Aggregate, keys: Range<u32>, argument: &Ast) -> Option<Typed> {
        let axis = self.spec.derived.get(keys.end as usize).and_then(|derived| derived.axis);
        let mut nodes = Vec::new();
        // Those of levels that players make are there while their level is: what says so stands beside each.
        let mut made = Vec::new();
        let mut ty = Type::Int;
        for (key, index) in (0..).zip(keys) {
            let (node, found) = self.derived(index, argument.span)?;
            ty = found;
            match self.is_made(key).filter(|_| axis == Some(Axis::Level)) {
                Some(is_made) => made.push((is_made, node)),
                None => nodes.push(node),
            }
        }
        let number = |int| Node::Const(Value::Int(int));
        let count = || {
            let one = |(is_made, _): &(Node, Node)| Node::If(Box::new([is_made.clone(), number(1), number(0)]));
            summed([number(nodes.len() as i64)].into_iter().chain(made.iter().map(one)), number(0))
        };
        let fits = match over {
            Aggregate::Sum => ty.is_number(),
            Aggregate::Highest | Aggregate::Lowest => ty.is_ordered(),
            Aggregate::Count | Aggregate::Size => true,
        };
        if !fits {
            return self.wrong_type(argument, &ty, "a value that is a number");
        }
        Some(match over {
            Aggregate::Size => (count(), Type::Int),
            // Each of them has a value.
            Aggregate::Count if ty != Type::Bool => (count(), Type::Int),
            Aggregate::Count => {
                let one = |node| Node::If(Box::new([node, number(1), number(0)]));
                let both = |(is_made, node)| Node::Binary(Operator::And, Box::new(is_made), Box::new(node));
                (summed(nodes.into_iter().chain(made.into_iter().map(both)).map(one), number(0)), Type::Int)
            }
            Aggregate::Sum => {
                let zero = || Node::Const(ty.zero());
                let or_zero = |(is_made, node)| Node::If(Box::new([is_made, node, zero()]));
                (summed(nodes.into_iter().chain(made.into_iter().map(or_zero)), zero()), ty)
            }
            Aggregate::Highest | Aggregate::Lowest => {
                // In place of one that is not there stands another that is.
                let other = nodes.first().cloned().unwrap_or_else(|| Node::Const(ty.zero()));
                nodes
                    .extend(made.into_iter().map(|(is_made, node)| Node::If(Box::new([is_made, node, other.clone()]))));
                (if over == Aggregate::Highest { Node::Highest(nodes) } else { Node::Lowest(nodes) }, ty)
            }
        })
    }

    /// Makes the node that says whether a level is made, of one that players make.
    fn is_made(&mut self, level: u32) -> Option<Node> {
        let slot = self.spec.made_slot(level)?;
        let made = self.spec.made_fields.as_ref()?.made;
        self.reads.push(made);
        Some(Node::Read(ReadAt::Now, made, EntryRef::Slot(slot)))
    }

    /// Returns whether a name is that of a derived value that could not be compiled: that was reported where it stands.
    pub(super) fn was_reported(&self, name: &str) -> bool {
        self.spec.derived_ids.get(name).is_some_and(|id| self.spec.derived.len() <= *id as usize)
    }

    /// Returns whether a name is a field or a derived value with a value for each of something.
    pub(super) fn is_keyed_name(&self, name: &str) -> bool {
        let derived = || self.spec.derived_ids.get(name).and_then(|id| self.spec.keyed_derived(*id)).is_some();
        self.spec.find_field(name).map_or_else(derived, Field::is_keyed)
    }

    pub(super) fn type_of_entries(&self, name: &str) -> Option<Type> {
        let spec = self.spec;
        let derived = || Some(spec.derived.get(*spec.derived_ids.get(name)? as usize)?.expression.ty.clone());
        spec.find_field(name).map(|field| field.ty.clone()).or_else(derived)
    }

    /// `level` and `level_index` where a derived value is worked out for one key.
    pub(super) fn key_of_derived(&mut self, word: &str, span: SourceSpan) -> Option<Typed> {
        let Some(level) = self.scope.derived_key().and_then(DerivedKey::level) else {
            let error = self.error(codes::NO_LEVEL, span, format!("`{word}` means nothing here: no level is meant"));
            return self.fail(error);
        };
        let spec = self.spec;
        Some(if word == "level" {
            (Node::Const(Value::Text(spec.level(level).id.clone())), Type::Text)
        } else {
            let listed = (level as usize) < spec.in_order;
            (Node::Const(Value::Int(if listed { i64::from(level) + 1 } else { 0 })), Type::Int)
        })
    }
}

/// The sum of many, one after the other.
fn summed(mut nodes: impl Iterator<Item = Node>, zero: Node) -> Node {
    let first = nodes.next().unwrap_or(zero);
    let rest: Vec<(Operator, Node)> = nodes.map(|node| (Operator::Plus, node)).collect();
    if rest.is_empty() { first } else { Node::Chain(Box::new(first), rest.into()) }
}
