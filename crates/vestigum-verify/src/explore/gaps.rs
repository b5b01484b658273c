//! Names what an answer has not looked at.
//!
//! A proof and a search follow the play of one player, in this build, on one installation. Other things reach a save, too: a
//! code, a sync, another player who changes what belongs to the device, a save that an earlier version made. Where one of them
//! can affect what is asked and was not followed, the answer names it.

use std::fmt;
use std::sync::Arc;

use vestigum_core::{Span, Spec};
use vestigum_spec::document::StepEntry;
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::field::{Field, FieldId};

use super::question::{Asked, Question};
use super::writes::Written;

/// Something that can change what is asked, and that an answer has not looked at.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Gap {
    /// Play writes these fields and no `[[source]]` gives them: what they can be is not known.
    Written(Vec<Arc<str>>),
    /// A code carries these fields: a player can redeem any value of them.
    Carried(Vec<Arc<str>>),
    /// These fields count time.
    Clocks(Vec<Arc<str>>),
    /// Players make levels and remove them, and these fields have an entry for each level.
    MadeLevels(Vec<Arc<str>>),
    /// Another player on the same device changes these fields between two sessions, or at the same time.
    Players(Vec<Arc<str>>),
    /// A sync takes these fields from another installation.
    Syncs(Vec<Arc<str>>),
    /// A save of an earlier version was made before these fields had the values that this version gives them.
    OlderSaves(Vec<Arc<str>>),
}

impl Gap {
    /// Says whether the answer is not known because of it. Of the others the answer is known, for what was looked at, and names them.
    pub fn withholds(&self) -> bool {
        match self {
            Gap::Written(_) | Gap::Carried(_) | Gap::Clocks(_) | Gap::MadeLevels(_) => true,
            Gap::Players(_) | Gap::Syncs(_) | Gap::OlderSaves(_) => false,
        }
    }

    /// Says what it is, in a word or two: as in *all of it but syncs*.
    pub fn word(&self) -> &'static str {
        match self {
            Gap::Written(_) => "writes of play",
            Gap::Carried(_) => "codes",
            Gap::Clocks(_) => "time",
            Gap::MadeLevels(_) => "made levels",
            Gap::Players(_) => "other players",
            Gap::Syncs(_) => "syncs",
            Gap::OlderSaves(_) => "older saves",
        }
    }

    /// The fields that it is about.
    pub fn fields(&self) -> &[Arc<str>] {
        match self {
            Gap::Written(fields)
            | Gap::Carried(fields)
            | Gap::Clocks(fields)
            | Gap::MadeLevels(fields)
            | Gap::Players(fields)
            | Gap::Syncs(fields)
            | Gap::OlderSaves(fields) => fields,
        }
    }
}

impl fmt::Display for Gap {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let fields: Vec<String> = self.fields().iter().map(|name| format!("`{name}`")).collect();
        let fields = match &fields[..] {
            [one] => one.clone(),
            [many @ .., last] => format!("{} and {last}", many.join(", ")),
            [] => "it".to_owned(),
        };
        match self {
            Gap::Written(_) => write!(f, "play writes {fields}, and no [[source]] says what it gives"),
            Gap::Carried(_) => write!(f, "a code carries {fields}"),
            Gap::Clocks(_) => write!(f, "time passes in {fields}"),
            Gap::MadeLevels(_) => write!(f, "players make and remove levels, which have entries of {fields}"),
            Gap::Players(_) => write!(f, "another player on this device changes {fields}"),
            Gap::Syncs(_) => write!(f, "a sync brings {fields} from another installation"),
            Gap::OlderSaves(_) => write!(f, "a save of an earlier version has other values of {fields}"),
        }
    }
}

/// The names of fields, as gaps tell them.
pub(super) fn names<'a>(fields: impl Iterator<Item = &'a Field>) -> Vec<Arc<str>> {
    let mut names: Vec<Arc<str>> = Vec::new();
    for field in fields {
        if !names.contains(&field.name) {
            names.push(field.name.clone());
        }
    }
    names
}

/// Lists what a search for the answer to a question leaves out. `matter` are the fields on which the answer depends, and `tried` says of
/// those that play writes at will whether the search writes everything that play can write.
pub(super) fn of_search(
    spec: &Spec,
    question: &Question,
    matter: &[FieldId],
    tried: &dyn Fn(FieldId) -> Written,
) -> Vec<Gap> {
    match question.asked {
        // A play that completes a level does so, whatever else happens; where none is found, `Search::end` says what it depends on.
        Asked::Reachable => return Vec::new(),
        Asked::NeverFalls(_)
        | Asked::ValueNeverFalls(_)
        | Asked::Holds(..)
        | Asked::Can(..)
        | Asked::Completable
        | Asked::NoBetterLeft(_)
        | Asked::NothingGained(_) => {}
    }
    let model = &**spec.model();
    let fields = || matter.iter().map(|id| model.field(*id));
    let mut gaps = Vec::new();
    let mut add = |gap: fn(Vec<Arc<str>>) -> Gap, of: Vec<Arc<str>>| {
        if !of.is_empty() {
            gaps.push(gap(of));
        }
    };
    // What play writes into a record itself, it writes with failing and without.
    let is_record = |field: &&Field| matches!(question.asked, Asked::NothingGained(of) if of == field.id);
    add(Gap::Written, names(fields().filter(|field| tried(field.id) == Written::InPart && !is_record(field))));
    add(Gap::Carried, names(fields().filter(|field| model.is_carried(field.id))));
    add(Gap::Clocks, names(fields().filter(|field| field.counts.is_some())));
    // What is compared is play with failing and without, of the same player in the same game.
    if matches!(question.asked, Asked::NothingGained(_)) {
        return gaps;
    }
    let per_level = |field: &&Field| {
        field.axes.contains(&Axis::Level) && !field.built_in || question.reads().contains(&field.id) && field.built_in
    };
    if !model.made_levels.is_empty() {
        add(Gap::MadeLevels, names(fields().filter(per_level)));
    }
    let of_device = |field: &&Field| field.lasts == Span::Device;
    if !fields().all(|field| of_device(&field)) {
        add(Gap::Players, names(fields().filter(of_device)));
    }
    if model.merging.is_some() {
        add(Gap::Syncs, names(fields().filter(|field| field.lasts != Span::Device && field.lasts.is_saved())));
    }
    add(Gap::OlderSaves, names(fields().filter(|field| is_made_by_update(spec, field))));
    gaps
}

/// Says whether some save of an earlier build has no value of a field, or another one than this build would give it: the field was
/// added since, or a step of a migration makes its values.
pub(super) fn is_made_by_update(spec: &Spec, field: &Field) -> bool {
    let Some(history) = &spec.updates().history else { return false };
    if field.built_in || !field.lasts.is_saved() {
        return false;
    }
    let migrations = &spec.model().document.migrations;
    let mut name: Arc<str> = field.name.clone();
    let mut later = i64::MAX;
    // Backwards, under the names that the field had.
    for version in history.versions().rev() {
        let mut between: Vec<_> =
            migrations.iter().filter(|at| at.to.value > version && at.to.value <= later).collect();
        between.sort_by_key(|migration| std::cmp::Reverse(migration.to.value));
        for migration in between {
            let made = |step: &StepEntry| match step {
                StepEntry::Fill { target, .. } => is_of(&target.value, &name),
                StepEntry::Hook { field } => *field.value == *name,
                StepEntry::Rename { .. } | StepEntry::Drop { .. } | StepEntry::Move { .. } => false,
            };
            if migration.steps.iter().any(|step| made(&step.value)) {
                return true;
            }
            for step in &migration.steps {
                if let StepEntry::Rename { what, from, to, .. } = &step.value
                    && what.value == "field"
                    && *to.value == *name
                {
                    name = from.value.as_str().into();
                    break;
                }
            }
        }
        later = version;
        if history.models_of(version).iter().any(|model| model.find_field(&name).is_none()) {
            return true;
        }
    }
    false
}

/// Says whether the target of a fill is an entry or a member of a field.
fn is_of(target: &str, field: &str) -> bool {
    let rest = target.strip_prefix(field);
    rest.is_some_and(|rest| !rest.starts_with(|c: char| c.is_alphanumeric() || c == '_'))
}
