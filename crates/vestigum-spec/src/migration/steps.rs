//! The steps of one migration: what they name is looked up in the version before and in the version they lead to.

use std::sync::Arc;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan, Spanned};
use crate::document::{MigrationEntry, StepEntry, Word};
use crate::history::shape::choices;
use crate::migration::names::{ChoiceOwner, FieldStep, Renames};
use crate::migration::plan::{Fill, MemberFill, OwnerKind};
use crate::migration::wording::{lasting, moved, told};
use crate::model::Model;
use crate::model::field::FieldId;
use crate::value::types::{Member, StructType};
use crate::vocabulary::span::Span;

/// The words for what can be renamed and dropped.
pub const KINDS: [&str; 7] = ["field", "level", "checkpoint", "key set", "key", "choice", "struct field"];

/// Describes what the steps of one migration say.
#[derive(Debug, Default)]
pub(crate) struct ReadSteps {
    pub said: Renames,
    pub fills: Vec<Fill>,
    pub member_fills: Vec<MemberFill>,
    /// Old fields that change their owner.
    pub moved: Vec<FieldId>,
    /// Fields that the game's own code makes, by name.
    pub hooked: Vec<String>,
    /// The steps that could be taken, as a report tells them.
    pub told: Vec<String>,
    /// For each step of the document whether it could be taken.
    pub applied: Vec<bool>,
}

/// Looks up what the steps name.
pub(crate) struct StepReader<'a> {
    pub old: &'a Model,
    pub new: &'a Model,
    /// The text of the spec.
    pub text: &'a str,
    /// Fields that earlier migrations dropped, and which.
    pub dropped_before: &'a [(String, i64)],
    pub errors: &'a mut Vec<Diagnostic>,
}

impl StepReader<'_> {
    pub(crate) fn read(&mut self, entry: &MigrationEntry) -> ReadSteps {
        let mut steps = ReadSteps::default();
        // Checkpoints and fills are read by what has become of levels and key sets.
        let first = |step: &StepEntry| {
            let (StepEntry::Rename { what, .. } | StepEntry::Drop { what, .. }) = step else { return false };
            matches!(what.value.as_str(), "level" | "key set")
        };
        let (names, rest): (Vec<_>, Vec<_>) = entry.steps.iter().enumerate().partition(|(_, step)| first(&step.value));
        let mut of_members = Vec::new();
        steps.applied = vec![false; entry.steps.len()];
        for (at, Spanned { value: step, span }) in names.into_iter().chain(rest) {
            let waiting = of_members.len();
            // What cannot be taken has been reported.
            let taken = match step {
                StepEntry::Rename { what, of, from, to } => self.names(&mut steps, what, of.as_ref(), from, Some(to)),
                StepEntry::Drop { what, of, name } => self.names(&mut steps, what, of.as_ref(), name, None),
                StepEntry::Fill { target, with } => self.fill(&mut steps, &mut of_members, target, with),
                StepEntry::Move { field, to } => self.moves(&mut steps, field, to, *span),
                StepEntry::Hook { field } => self.hook(&mut steps, field),
            };
            steps.applied[at] = taken.is_some();
            of_members.iter_mut().skip(waiting).for_each(|(.., step)| *step = at);
        }
        for (target, to, with, at) in of_members {
            // What cannot be taken has been reported.
            steps.applied[at] = self.fill_members(&mut steps, target, to, with).is_some();
        }
        for Spanned { value: step, .. } in &entry.steps {
            if let StepEntry::Rename { what, of: Some(of), to, .. } = step {
                self.new_name(&steps, what, of, to);
            }
        }
        let taken = entry.steps.iter().zip(&steps.applied).filter(|(_, applied)| **applied);
        steps.told.extend(taken.map(|(step, _)| told(&step.value)));
        self.owners(entry, &steps);
        for fill in &steps.fills {
            self.reads(entry, &steps, fill);
        }
        steps
    }

    pub(super) fn error(&mut self, span: SourceSpan, message: impl Into<String>) -> &mut Diagnostic {
        self.errors.push(Diagnostic::error(codes::BAD_STEP, span, message));
        let last = self.errors.len() - 1;
        &mut self.errors[last]
    }

    fn unknown<'k, T>(
        &mut self,
        version: i64,
        what: &str,
        word: &Word,
        known: impl IntoIterator<Item = &'k str>,
    ) -> Option<T> {
        self.unknown_of(version, what, None, word, known)
    }

    fn unknown_of<'k, T>(
        &mut self,
        version: i64,
        what: &str,
        of: Option<&str>,
        word: &Word,
        known: impl IntoIterator<Item = &'k str>,
    ) -> Option<T> {
        let of = of.map(|of| format!(" of `{}`", of.escape_debug())).unwrap_or_default();
        let message = format!("version {version} has no {what} `{}`{of}", word.value.escape_debug());
        let error = Diagnostic::error(codes::BAD_STEP, word.span, message);
        let before = self.dropped_before.iter().find(|(name, _)| what == "field" && *name == word.value);
        let field = self.new.find_field(&word.value).filter(|_| what == "field");
        let level = self.new.level_ids.get(&*word.value).filter(|_| what == "level");
        let is_old = version == self.old.version;
        self.errors.push(match (before, field) {
            (Some((_, dropped)), _) => error.help(format!("it is gone since version {dropped}")),
            (None, Some(field)) if is_old && field.lasts == Span::Session => {
                error.help(format!("it lasts a session in version {}, so no save holds it", self.new.version))
            }
            _ if is_old && (field.is_some() || level.is_some()) => error.help(format!(
                "version {} has one; a step comes from the names of version {version}",
                self.new.version
            )),
            _ => error.suggest(&word.value, known),
        });
        None
    }

    /// A field of the old version.
    fn old_field(&mut self, word: &Word) -> Option<FieldId> {
        let old = self.old;
        match old.find_field(&word.value) {
            Some(field) => Some(field.id),
            None => self.unknown(old.version, "field", word, old.fields.iter().map(|field| &*field.name)),
        }
    }

    /// A field of the new version that is saved.
    fn new_field(&mut self, word: &Word) -> Option<FieldId> {
        let new = self.new;
        match new.find_field(&word.value) {
            Some(field) if field.lasts == Span::Session => {
                let message = format!("`{}` lasts a session, so no save holds it", word.value);
                self.error(word.span, message);
                None
            }
            Some(field) => Some(field.id),
            None => self.unknown(new.version, "field", word, new.fields.iter().map(|field| &*field.name)),
        }
    }

    fn level(&mut self, word: &Word, old: bool) -> Option<u32> {
        let spec = if old { self.old } else { self.new };
        match spec.level_ids.get(word.value.as_str()) {
            Some(level) => Some(*level),
            None => self.unknown(spec.version, "level", word, spec.levels.iter().map(|level| &*level.id)),
        }
    }

    fn set(&mut self, word: &Word, old: bool) -> Option<u32> {
        let spec = if old { self.old } else { self.new };
        match spec.key_sets.iter().position(|set| *set.name == *word.value) {
            Some(set) => Some(set as u32),
            None => self.unknown(spec.version, "key set", word, spec.key_sets.iter().map(|set| &*set.name)),
        }
    }

    /// Returns whether what is moved belongs to its new owner in the new version.
    fn owners(&mut self, entry: &MigrationEntry, steps: &ReadSteps) {
        for was in steps.moved.iter().map(|was| self.old.field(*was)) {
            let now = match steps.said.fields.get(&was.id) {
                Some(FieldStep::Renamed(now)) => Some(self.new.field(*now)),
                Some(FieldStep::Dropped) => None,
                None => self.new.find_field(&was.name),
            };
            let Some(now) = now.filter(|now| OwnerKind::of(now) == OwnerKind::of(was)) else { continue };
            let moves = |step: &&Spanned<StepEntry>| matches!(&step.value, StepEntry::Move { field, .. } if *field.value == *was.name);
            let span = entry.steps.iter().find(moves).map_or(entry.to.span, |step| step.span);
            let (is, version) = (lasting(now.lasts), self.new.version);
            let message = format!("`{}` is moved, and {is} in version {version}", now.name);
            self.error(span, message).help = Some("let it last as long as its new owner, or take this step out".into());
        }
    }

    /// Returns whether everything that a fill reads is there, and whose it is.
    fn reads(&mut self, entry: &MigrationEntry, steps: &ReadSteps, fill: &Fill) {
        let field = self.new.field(fill.field);
        for read in fill.expression.reads().iter().map(|read| self.old.field(*read)) {
            let name = &*read.name;
            if steps.said.fields.get(&read.id) == Some(&FieldStep::Dropped) {
                let dropped = entry.steps.iter().find(
                    |step| matches!(&step.value, StepEntry::Drop { what, name: of, .. } if what.value == "field" && of.value == name),
                );
                let span = dropped.map_or(fill.span, |step| step.span);
                self.error(span, format!("`{name}` is dropped here, and a fill reads it")).help =
                    Some(format!("take this step out: `{name}` is not lost, it goes into `{}`", fill.shown));
            }
            if OwnerKind::of(read) != OwnerKind::of(field) && !steps.moved.contains(&read.id) {
                let (whose, other, to) = match OwnerKind::of(field) {
                    OwnerKind::Device => ("the device's", "a player's", "device"),
                    OwnerKind::Player => ("a player's", "the device's", "profile"),
                };
                let message = format!("`{}` is {whose} and `{name}` is {other}: the two are saved apart", field.name);
                self.error(fill.span, message).help =
                    Some(format!("move the value as well: add `{}`", moved(name, to)));
            }
        }
    }

    /// `rename` and `drop`.
    fn names(
        &mut self,
        steps: &mut ReadSteps,
        what: &Word,
        of: Option<&Word>,
        from: &Word,
        to: Option<&Word>,
    ) -> Option<()> {
        let owner = match what.value.as_str() {
            "field" | "level" | "key set" => None,
            "checkpoint" => Some("level"),
            "key" => Some("key set"),
            "choice" => Some("field"),
            "struct field" => Some("struct"),
            other => {
                let message = format!("nothing of the kind `{}` can be renamed or dropped", other.escape_debug());
                let error = Diagnostic::error(codes::BAD_STEP, what.span, message);
                let error = error.help(format!("the kinds are: {}", KINDS.join(", "))).suggest(other, KINDS);
                self.errors.push(error);
                return None;
            }
        };
        match (owner, of) {
            (Some(owner), None) => {
                let message = format!("this step does not say which {owner} the {} belongs to", what.value);
                self.error(what.span, message).help =
                    Some(format!("add `of`, the name that the {owner} has in version {}", self.old.version));
                return None;
            }
            (None, Some(of)) => {
                self.error(of.span, format!("a {} belongs to nothing, so it has no `of`", what.value));
                return None;
            }
            _ => {}
        }
        let of = of.unwrap_or(from);
        let twice = match what.value.as_str() {
            "field" => {
                let old = self.old_field(from)?;
                let step = match to {
                    Some(to) => FieldStep::Renamed(self.new_field(to)?),
                    None => FieldStep::Dropped,
                };
                steps.said.fields.insert(old, step).is_some()
            }
            "level" => {
                let old = self.level(from, true)?;
                let new = to.map(|to| self.level(to, false)).map_or(Some(None), |new| new.map(Some))?;
                if let (Some(new), Some(to)) = (new, to)
                    && self.old.is_made_level(old) != self.new.is_made_level(new)
                {
                    let message =
                        format!("only one of `{}` and `{}` is a level that players make", from.value, to.value);
                    self.error(to.span, message).help = Some("drop the level, or give it another name".into());
                    return None;
                }
                steps.said.levels.insert(old, new).is_some()
            }
            "checkpoint" => {
                let level = self.level(of, true)?;
                let listed = &self.old.level(level).checkpoints;
                let Some(index) = listed.iter().position(|name| **name == *from.value) else {
                    let listed = listed.iter().map(|name| &**name);
                    return self.unknown_of(self.old.version, "checkpoint", Some(&of.value), from, listed);
                };
                let new = match to {
                    Some(to) => Some(self.checkpoint_now(steps, level, to)?),
                    None => None,
                };
                steps.said.checkpoints.insert((level, index as u32), new).is_some()
            }
            "key set" => {
                let old = self.set(from, true)?;
                let Some(to) = to else {
                    self.error(from.span, "a key set is not dropped by itself").help =
                        Some("drop or fill the fields that are kept for each of its keys".into());
                    return None;
                };
                let new = self.set(to, false)?;
                steps.said.sets.insert(old, new).is_some()
            }
            "key" => {
                let set = self.set(of, true)?;
                let keys = &self.old.key_sets[set as usize];
                let now = self.new.key_sets.iter().find(|now| now.name == keys.name);
                let made = keys.max.is_some() || now.is_some_and(|now| now.max.is_some());
                if to.is_none() && made && from.value == "*" {
                    return match steps.said.rest.insert(set) {
                        true => Some(()),
                        false => {
                            self.error(from.span, format!("another step drops the rest of `{}` already", of.value));
                            None
                        }
                    };
                }
                if keys.max.is_none() && !keys.names.contains(from.value.as_str()) {
                    return self.unknown(self.old.version, &keys.name, from, keys.names());
                }
                let name = |word: &Word| Arc::<str>::from(word.value.as_str());
                steps.said.keys.insert((set, name(from)), to.map(name)).is_some()
            }
            "choice" => {
                let (owner, names) = match StepReader::member_of(self.old, of) {
                    Some((ty, member)) => {
                        (ChoiceOwner::Member(ty.name.clone(), member.name.clone()), choices(&member.ty))
                    }
                    None => {
                        let field = self.old_field(of)?;
                        (ChoiceOwner::Field(field), choices(&self.old.field(field).ty))
                    }
                };
                let names = names.unwrap_or_default();
                let Some(chosen) = names.iter().find(|chosen| *chosen.name == *from.value) else {
                    let names = names.iter().map(|chosen| &*chosen.name);
                    return self.unknown_of(self.old.version, "choice", Some(&of.value), from, names);
                };
                let to = to.map(|to| Arc::<str>::from(to.value.as_str()));
                steps.said.choices.insert((owner, chosen.name.clone()), to).is_some()
            }
            _ => {
                let old = self.old;
                let Some(ty) = old.structs.iter().find(|ty| *ty.name == *of.value) else {
                    return self.unknown(old.version, "struct", of, old.structs.iter().map(|ty| &*ty.name));
                };
                let Some(index) = ty.position(&from.value) else {
                    let members = ty.members.iter().map(|member| &*member.name);
                    return self.unknown_of(old.version, "struct field", Some(&of.value), from, members);
                };
                let to = to.map(|to| Arc::<str>::from(to.value.as_str()));
                steps.said.members.insert((ty.name.clone(), ty.members[index].name.clone()), to).is_some()
            }
        };
        if twice {
            self.error(
                from.span,
                format!("another step says already what becomes of the {} `{}`", what.value, from.value),
            );
        }
        Some(())
    }

    /// The new name of a key, choice or struct field: what it belongs to must have it.
    fn new_name(&mut self, steps: &ReadSteps, what: &Word, of: &Word, to: &Word) -> Option<()> {
        let (old, new) = (self.old, self.new);
        let (of, known): (&str, Vec<&str>) = match what.value.as_str() {
            "key" => {
                let set = old.key_sets.iter().position(|set| *set.name == *of.value)?;
                let same = || new.key_sets.iter().position(|set| *set.name == *of.value).map(|set| set as u32);
                let set = &new.key_sets[steps.said.sets.get(&(set as u32)).copied().or_else(same)? as usize];
                // Open sets take any name.
                if set.max.is_some() {
                    return None;
                }
                (&set.name, set.names().collect())
            }
            "choice" if StepReader::member_of(new, of).is_some() => {
                let (_, member) = StepReader::member_of(new, of)?;
                (of.value.as_str(), choices(&member.ty)?.iter().map(|chosen| &*chosen.name).collect())
            }
            "choice" => {
                let was = old.find_field(&of.value)?;
                let field = match steps.said.fields.get(&was.id) {
                    Some(FieldStep::Renamed(now)) => new.field(*now),
                    Some(FieldStep::Dropped) => return None,
                    None => new.find_field(&of.value)?,
                };
                (&field.name, choices(&field.ty)?.iter().map(|chosen| &*chosen.name).collect())
            }
            "struct field" => {
                let ty = new.structs.iter().find(|ty| *ty.name == *of.value)?;
                (&ty.name, ty.members.iter().map(|member| &*member.name).collect())
            }
            _ => return None,
        };
        if known.contains(&to.value.as_str()) {
            return Some(());
        }
        self.unknown_of(new.version, &what.value, Some(of), to, known)
    }

    /// The member that `struct.member` names in a version.
    fn member_of<'m>(spec: &'m Model, of: &Word) -> Option<(&'m StructType, &'m Member)> {
        let (ty, member) = of.value.split_once('.')?;
        let ty = spec.structs.iter().find(|known| *known.name == *ty)?;
        Some((ty, &ty.members[ty.position(member)?]))
    }

    /// A checkpoint of the level that an old level has become, by its place.
    fn checkpoint_now(&mut self, steps: &ReadSteps, level: u32, to: &Word) -> Option<u32> {
        let new = self.new;
        let same = || new.level_ids.get(&self.old.level(level).id).copied();
        let Some(now) = steps.said.levels.get(&level).copied().unwrap_or_else(same) else {
            let id = &self.old.level(level).id;
            let (message, help) = match steps.said.levels.contains_key(&level) {
                true => (format!("`{id}` is dropped here, and its checkpoints with it"), "take this step out"),
                false => (format!("version {} has no level `{id}`", new.version), "say what has become of the level"),
            };
            self.error(to.span, message).help = Some(help.into());
            return None;
        };
        let listed = &new.level(now).checkpoints;
        match listed.iter().position(|name| **name == *to.value) {
            Some(index) => Some(index as u32),
            None => {
                let listed = listed.iter().map(|name| &**name);
                self.unknown_of(new.version, "checkpoint", Some(&new.level(now).id), to, listed)
            }
        }
    }

    fn moves(&mut self, steps: &mut ReadSteps, word: &Word, to: &Word, span: SourceSpan) -> Option<()> {
        let id = self.old_field(word)?;
        let wanted = match to.value.as_str() {
            "device" => OwnerKind::Device,
            "profile" => OwnerKind::Player,
            other => {
                let message =
                    format!("a value is moved to the `device` or to the `profile`, not to `{}`", other.escape_debug());
                self.error(to.span, message);
                return None;
            }
        };
        let old = self.old.field(id);
        if OwnerKind::of(old) == wanted {
            self.error(
                span,
                format!("`{}` belongs to the {} already in version {}", old.name, to.value, self.old.version),
            );
            return None;
        }
        if steps.moved.contains(&id) {
            self.error(word.span, format!("another step moves `{}` already", old.name));
            return None;
        }
        steps.moved.push(id);
        Some(())
    }

    fn hook(&mut self, steps: &mut ReadSteps, word: &Word) -> Option<()> {
        if self.old.find_field(&word.value).is_none() {
            self.new_field(word)?;
        }
        steps.hooked.push(word.value.clone());
        Some(())
    }
}
