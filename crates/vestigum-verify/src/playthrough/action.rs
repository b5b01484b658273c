//! What a playthrough does, as it is run: statements whose names have their meaning.

use std::sync::Arc;

use vestigum_core::{Image, Moment, Part, Reset, Spec, Value};
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::FieldId;
use vestigum_spec::model::node::Node;
use vestigum_spec::vocabulary::names::key_text;

use super::levels::CheckedChange;
use super::written::{How, ProfileChange};

/// A statement that can be run.
#[derive(Clone, Debug)]
pub(super) struct ScriptStep {
    pub line: usize,
    pub text: Arc<str>,
    pub depth: usize,
    pub action: Action,
}

#[derive(Clone, Debug)]
pub(super) enum Action {
    Launch,
    Quit,
    /// Any other moment without an argument.
    Moment(Moment),
    Enter {
        level: String,
        checkpoint: Option<String>,
        locked: bool,
    },
    Checkpoint(String),
    /// The level is completed by an exit.
    CompleteBy(String),
    /// A code is made and remembered.
    Code {
        code: String,
        variable: String,
    },
    /// A code is redeemed: one that was made before, or a text.
    Redeem {
        code: String,
        given: Redeems,
    },
    /// Milliseconds pass.
    Tick(u64),
    Write {
        entry: EntryTarget,
        how: How,
        value: Expression,
    },
    /// `raise` or `lower`
    Beat {
        entry: EntryTarget,
        higher: bool,
        value: Expression,
    },
    Insert {
        entry: EntryTarget,
        at: Option<String>,
        item: Expression,
    },
    Remove {
        entry: EntryTarget,
        item: Expression,
    },
    Reset(Reset),
    Board,
    Expect(Expression),
    Refuse(Box<Action>),
    /// A write that no progress would take: refusing it needs no run.
    NeverAccepted(String),
    Save,
    Crash,
    Damage {
        all: bool,
    },
    /// A saved image becomes the newest.
    Import(Box<Image>),
    Profile(String),
    /// Another device.
    Device(String),
    Sync,
    Profiles(ProfileChange),
    Level(CheckedChange),
    Repeat(u32, Vec<ScriptStep>),
}

/// The code that is redeemed.
#[derive(Clone, Debug)]
pub(super) enum Redeems {
    Variable(String),
    Text(String),
}

/// A field, the keys of an entry, and the way to a part of its value.
#[derive(Clone, Debug)]
pub(super) struct EntryTarget {
    pub field: String,
    pub keys: Vec<String>,
    pub path: Vec<Part>,
}

impl EntryTarget {
    pub(super) fn keys(&self) -> Vec<&str> {
        self.keys.iter().map(String::as_str).collect()
    }
}

/// Returns how many statements run if none fails, those of repeats each time.
pub(super) fn count(steps: &[ScriptStep]) -> u64 {
    let each = steps.iter().map(|step| match &step.action {
        Action::Repeat(times, inner) => u64::from(*times).saturating_mul(count(inner)),
        Action::Launch
        | Action::Quit
        | Action::Moment(_)
        | Action::Enter { .. }
        | Action::Checkpoint(_)
        | Action::CompleteBy(_)
        | Action::Code { .. }
        | Action::Redeem { .. }
        | Action::Tick(_)
        | Action::Write { .. }
        | Action::Beat { .. }
        | Action::Insert { .. }
        | Action::Remove { .. }
        | Action::Reset(_)
        | Action::Board
        | Action::Expect(_)
        | Action::Refuse(_)
        | Action::NeverAccepted(_)
        | Action::Save
        | Action::Crash
        | Action::Damage { .. }
        | Action::Import(_)
        | Action::Profile(_)
        | Action::Device(_)
        | Action::Sync
        | Action::Profiles(_)
        | Action::Level(_) => 1,
    });
    each.fold(0, u64::saturating_add)
}

/// The fields that a playthrough writes or expects something of, in the order in which it names them.
pub(super) fn mentioned(spec: &Spec, steps: &[ScriptStep], names: &mut Vec<String>) {
    let mut add = |name: &str| {
        if !names.iter().any(|known| known == name) {
            names.push(name.to_owned());
        }
    };
    for step in steps {
        match &step.action {
            Action::Write { entry, .. }
            | Action::Beat { entry, .. }
            | Action::Insert { entry, .. }
            | Action::Remove { entry, .. } => match &entry.keys[..] {
                [] => add(&entry.field),
                keys => {
                    let keys: Vec<_> = keys.iter().map(|key| key_text(key)).collect();
                    add(&format!("{}[{}]", entry.field, keys.join(", ")));
                }
            },
            Action::Expect(condition) => {
                for id in condition.reads() {
                    let field = spec.model().field(*id);
                    if !field.is_keyed() {
                        add(&field.name);
                    }
                }
            }
            Action::Repeat(_, inner) => {
                let mut inner_names = Vec::new();
                mentioned(spec, inner, &mut inner_names);
                inner_names.iter().for_each(|name| add(name));
            }
            Action::Redeem { code, .. } => {
                let carried = spec.model().find_code(code).map(|code| code.digits().iter());
                let fields = carried.into_iter().flatten().map(vestigum::spec::Digit::entry);
                fields.for_each(&mut add);
            }
            Action::Tick(_) => {
                let clocks = spec.model().clocks.iter().map(|id| spec.model().field(*id));
                clocks.filter(|clock| !clock.is_keyed()).for_each(|clock| add(&clock.name));
            }
            Action::Launch
            | Action::Quit
            | Action::Moment(_)
            | Action::Enter { .. }
            | Action::Checkpoint(_)
            | Action::CompleteBy(_)
            | Action::Code { .. }
            | Action::Reset(_)
            | Action::Board
            | Action::Refuse(_)
            | Action::NeverAccepted(_)
            | Action::Save
            | Action::Crash
            | Action::Damage { .. }
            | Action::Import(_)
            | Action::Profile(_)
            | Action::Device(_)
            | Action::Sync
            | Action::Profiles(_)
            | Action::Level(_) => {}
        }
    }
}

/// Gathers the whole numbers that statements write or add, by the field.
pub(super) fn numbers_of(steps: &[ScriptStep], spec: &Spec, numbers: &mut Vec<(FieldId, i64)>) {
    for step in steps {
        if let Action::Repeat(_, inner) = &step.action {
            numbers_of(inner, spec, numbers);
        }
        if let Action::Write { entry, value, .. } | Action::Beat { entry, value, .. } = &step.action
            && let (Some(field), Node::Const(Value::Int(number))) =
                (spec.model().find_field(&entry.field), value.node())
            && entry.path.is_empty()
        {
            numbers.push((field.id, *number));
        }
    }
}
