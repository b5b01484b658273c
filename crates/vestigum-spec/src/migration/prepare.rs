//! Planning the way from every version that has shipped to the spec, when the spec is read.

use std::sync::{Arc, OnceLock};

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::history::History;
use crate::migration::completing::completed;
use crate::migration::loose::Loose;
use crate::migration::needs::{Need, needs};
use crate::migration::plan::{MigrationPlan, Pair, plan};
use crate::migration::steps::{ReadSteps, StepReader};
use crate::migration::wording::recorded_step;
use crate::model::Model;

/// The versions that players have, and the way from each of them to the spec's.
#[derive(Debug, Default)]
pub struct Updates {
    /// The shapes of the versions, if the spec was read with them.
    pub history: Option<Arc<History>>,
    /// The plans for each version on the way, the oldest first.
    pub plans: Vec<VersionPlans>,
    /// The way of saves that hold more than any frozen shape, made when the first of them comes.
    loose: OnceLock<Loose>,
}

/// The ways to one version from the shapes of the one before.
#[derive(Debug)]
pub struct VersionPlans {
    /// The version that they lead to.
    pub to: i64,
    /// From the union of the shapes.
    pub whole: MigrationPlan,
    /// From each shape, by the name that images give it, where there are several.
    shapes: Vec<(Arc<str>, MigrationPlan)>,
    /// Says that they lead to the spec as it is, and not to what was frozen of its version.
    to_spec: bool,
}

impl VersionPlans {
    /// The plan from a shape that images name, or from all of them as one.
    pub fn from_shape(&self, id: Option<&str>) -> &MigrationPlan {
        let found = self.shapes.iter().find(|(known, _)| Some(&**known) == id);
        found.map_or(&self.whole, |(_, plan)| plan)
    }
}

impl Updates {
    /// The plans that lead to a version.
    pub fn plans_to(&self, version: i64) -> Option<&VersionPlans> {
        self.plans.iter().find(|plans| plans.to == version)
    }

    /// The plan that leads to a version from all shapes of the one before.
    pub fn plan_to(&self, version: i64) -> Option<&MigrationPlan> {
        self.plans_to(version).map(|plans| &plans.whole)
    }

    /// Returns what the plans to a version lead to: the version as it shipped, or the spec.
    pub fn target<'a>(&'a self, plans: &VersionPlans, spec: &'a Model) -> &'a Model {
        let frozen = || self.history.as_ref()?.model(plans.to).map(|model| &**model);
        if plans.to_spec { spec } else { frozen().unwrap_or(spec) }
    }

    /// The way of saves that hold more than any frozen shape.
    pub fn loose(&self, spec: &Model) -> &Loose {
        self.loose
            .get_or_init(|| self.history.as_ref().map_or_else(Loose::default, |history| Loose::new(history, spec)))
    }
}

/// Plans the way from every frozen version to the model's. What its document does not say about it comes back.
pub(crate) fn prepare(
    model: &Model,
    history: Option<Arc<History>>,
    text: &str,
    errors: &mut Vec<Diagnostic>,
) -> (Updates, Vec<Need>) {
    let mut updates = Updates { history, ..Updates::default() };
    let needs = updates.plan(model, text, errors);
    (updates, needs)
}

impl Updates {
    fn plan(&mut self, model: &Model, text: &str, errors: &mut Vec<Diagnostic>) -> Vec<Need> {
        let Some(history) = self.history.clone() else { return Vec::new() };
        if !check_versions(model, &history, errors) || !check_shapes(model, &history, errors) {
            return Vec::new();
        }
        let Some(oldest) = history.oldest() else { return Vec::new() };
        let changed = check_shipped(model, &history, text, errors);
        let of_spec = own_needs(model, &history);
        let mut found_needs = Vec::new();
        let mut dropped: Vec<(String, i64)> = Vec::new();
        for to in oldest + 1..=model.version {
            let Some(old) = history.model(to - 1) else { break };
            let frozen = history.model(to);
            // A version that has shipped is what was frozen of it. The spec that has only grown since holds that and more.
            let to_spec = to == model.version && of_spec.is_empty();
            let new = frozen.filter(|_| !to_spec).map_or(model, |frozen| frozen);
            let mut between =
                Between { spec: model, new, is_current: frozen.is_none(), text, dropped: &dropped, errors };
            let (whole, found) = between.plan(old);
            let gone = old.fields.iter().filter(|field| whole.carrier(field.id).is_none());
            let gone: Vec<(String, i64)> = gone.map(|field| (field.name.to_string(), to)).collect();
            let mut shapes: Vec<(Arc<str>, MigrationPlan)> = Vec::new();
            for shape in history.shapes_of(to - 1).filter(|shape| shape.model.shape != old.shape) {
                // What a step names that this shape does not have is no step for its saves.
                let errors = &mut Vec::new();
                let mut of_shape = Between { spec: model, new, is_current: false, text, dropped: &dropped, errors };
                let (plan, _) = of_shape.plan(&shape.model);
                shapes.push((shape.model.shape.clone(), plan));
            }
            dropped.extend(gone);
            // What is put back says it again.
            found_needs.extend(found.into_iter().filter(|_| !changed.contains(&to)));
            self.plans.push(VersionPlans { to, whole, shapes, to_spec });
        }
        found_needs.extend(of_spec);
        found_needs
    }
}

/// Finds what the spec has no place for of the shapes that are frozen under its version's number.
fn own_needs(model: &Model, history: &History) -> Vec<Need> {
    let place = |name: &str| field_place(model, name);
    let mut found: Vec<Need> = Vec::new();
    for frozen in history.shapes_of(model.version) {
        let pair = Pair { old: &frozen.model, new: model, raised: false, at: version_place(model), place: &place };
        let needs = needs(&pair, &plan(&pair, ReadSteps::default()));
        for need in if needs.is_empty() { needs } else { completed(&pair, None, needs) } {
            if !found.iter().any(|known| known.diagnostic == need.diagnostic) {
                found.push(need);
            }
        }
    }
    found
}

/// Returns whether a save of the frozen shape loses nothing under the spec, without a step.
pub(crate) fn is_compatible(frozen: &Arc<Model>, spec: &Model) -> bool {
    let pair = Pair { old: frozen, new: spec, raised: false, at: SourceSpan::default(), place: &|_| None };
    needs(&pair, &plan(&pair, ReadSteps::default())).is_empty()
}

/// Plans the way from one version to the next, by the steps of the document.
struct Between<'a> {
    spec: &'a Model,
    new: &'a Model,
    is_current: bool,
    text: &'a str,
    /// Fields that are gone already, and since which version.
    dropped: &'a [(String, i64)],
    errors: &'a mut Vec<Diagnostic>,
}

impl Between<'_> {
    fn plan(&mut self, old: &Arc<Model>) -> (MigrationPlan, Vec<Need>) {
        let Between { spec, new, text, .. } = *self;
        let before = self.errors.len();
        let entry = spec.document.migrations.iter().find(|entry| entry.to.value == new.version);
        let steps = match entry {
            Some(entry) => {
                StepReader { old, new, text, dropped_before: self.dropped, errors: &mut *self.errors }.read(entry)
            }
            None => ReadSteps::default(),
        };
        let place = |name: &str| if self.is_current { field_place(spec, name) } else { None };
        let at = entry.map_or_else(|| version_place(spec), |entry| entry.to.span);
        let pair = Pair { old, new, raised: true, at, place: &place };
        let plan = plan(&pair, steps);
        // What a step would have said that cannot be read is not asked for again.
        let found = if self.errors.len() == before { needs(&pair, &plan) } else { Vec::new() };
        let needs = if found.is_empty() { found } else { completed(&pair, entry, found) };
        (plan, needs)
    }
}

/// Checks that the shapes of each version can be read as one.
fn check_shapes(spec: &Model, history: &History, errors: &mut Vec<Diagnostic>) -> bool {
    let before = errors.len();
    for frozen in history.versions().filter_map(|version| history.version(version)) {
        for conflict in &frozen.conflicts {
            let version = frozen.version;
            let message = format!("version {version} was frozen in several shapes that disagree: {conflict}");
            let help = format!(
                "saves of both say that they are of version {version}: give the branch that has not shipped another number. Take its line out of the history, raise its `version`, and freeze it again; if both have shipped, take out the line with fewer players: the next version reads its saves by name and reports what it drops"
            );
            errors.push(Diagnostic::error(codes::SHAPES_DISAGREE, version_place(spec), message).help(help));
        }
    }
    errors.len() == before
}

/// Checks that the migrations to versions that have shipped still do what they did then to saves of the shapes that were known; answers
/// those that do not. Steps for shapes that were frozen later can be added.
fn check_shipped(spec: &Model, history: &History, text: &str, errors: &mut Vec<Diagnostic>) -> Vec<i64> {
    let mut changed = Vec::new();
    for version in history.versions() {
        let entry = spec.document.migrations.iter().find(|entry| entry.to.value == version);
        let said: Vec<String> = entry.iter().flat_map(|entry| &entry.steps).map(recorded_step).collect();
        let recorded: Vec<&String> =
            history.shapes_of(version).flat_map(|frozen| frozen.shape.migration.iter().flatten()).collect();
        let Some(new) = history.model(version) else { continue };
        let (mut put_back, mut take_out): (Vec<&str>, Vec<&str>) = (Vec::new(), Vec::new());
        for frozen in history.shapes_of(version) {
            let Some(shipped) = &frozen.shape.migration else { continue };
            put_back.extend(shipped.iter().filter(|step| !said.contains(step)).map(String::as_str));
            // What another shape of this version shipped with is said for its players.
            let added = |step: &String| !shipped.contains(step) && !recorded.contains(&step);
            if !said.iter().any(added) {
                continue;
            }
            let before = history
                .shapes_of(version - 1)
                .filter(|before| frozen.shape.from.contains(&before.model.shape.to_string()));
            for old in before {
                let new = if version == spec.version { spec } else { new };
                let mut unread = Vec::new();
                let mut reader = StepReader { old: &old.model, new, text, dropped_before: &[], errors: &mut unread };
                let applied = entry.map(|entry| reader.read(entry).applied).unwrap_or_default();
                let of_old = said.iter().zip(&applied).filter(|(step, applied)| **applied && added(step));
                take_out.extend(of_old.map(|(step, _)| step.as_str()));
            }
        }
        if put_back.is_empty() && take_out.is_empty() {
            continue;
        }
        let span = entry.map_or_else(|| version_place(spec), |entry| entry.to.span);
        let message = match entry {
            Some(_) => format!("the migration to version {version} has shipped, and its steps are others now"),
            None => format!("the migration to version {version} has shipped, and it is gone"),
        };
        let mut help = format!(
            "players of version {} who have played since have what the steps made then, and those who come later would have something else",
            version - 1
        );
        for (mut steps, what) in [(put_back, "put back"), (take_out, "take out")] {
            steps.sort_unstable();
            steps.dedup();
            if !steps.is_empty() {
                help.push_str(&format!("; {what} {}", steps.join(", ")));
            }
        }
        let next = spec.version.max(version) + i64::from(history.newest() == Some(spec.version));
        help.push_str(&format!("; what is to be different is said in the migration to version {next}"));
        errors.push(Diagnostic::error(codes::SHIPPED_STEPS, span, message).help(help));
        changed.push(version);
    }
    changed
}

/// Returns where the document says its version.
fn version_place(spec: &Model) -> SourceSpan {
    let game = &spec.document.game;
    game.version.as_ref().map_or(game.span, |version| version.span)
}

fn field_place(spec: &Model, name: &str) -> Option<SourceSpan> {
    spec.document.fields.iter().find(|(field, _)| field.value == name).map(|(field, _)| field.span)
}

/// Returns whether the versions of the spec, its history and its migrations follow each other.
fn check_versions(spec: &Model, history: &History, errors: &mut Vec<Diagnostic>) -> bool {
    let before = errors.len();
    let mut error = |span, message: String, help: String| {
        errors.push(Diagnostic::error(codes::VERSION, span, message).help(help));
    };
    let (Some(oldest), Some(newest)) = (history.oldest(), history.newest()) else { return true };
    if history.game() != &*spec.id {
        let span = spec.document.game.id.as_ref().map_or(spec.document.game.span, |id| id.span);
        let help = "a game keeps its id; its saves carry it".to_owned();
        error(
            span,
            format!("the history is of the game `{}`, and this spec is of `{}`", history.game(), spec.id),
            help,
        );
    }
    if spec.version < newest {
        let message = format!("version {newest} is frozen, and this spec says version {}", spec.version);
        error(
            version_place(spec),
            message,
            format!(
                "players have saves of version {newest}: set `version = {newest}`, or {} for a new one. A hotfix of version {} is made and frozen where that version stands in version control, and the history's lines are merged",
                newest + 1,
                spec.version
            ),
        );
    } else if spec.version > newest + 1 {
        let message = format!("version {} skips a version: the newest that was frozen is {newest}", spec.version);
        error(
            version_place(spec),
            message,
            format!("set `version = {}`; versions are raised when they ship, one at a time", newest + 1),
        );
    }
    let mut seen: Vec<i64> = Vec::new();
    for entry in &spec.document.migrations {
        let to = entry.to.value;
        if seen.contains(&to) {
            error(
                entry.to.span,
                format!("there is a migration to version {to} already"),
                "put its steps together".into(),
            );
        } else if to > spec.version {
            error(
                entry.to.span,
                format!("this migrates to version {to}, and the spec is of version {}", spec.version),
                format!("raise `version` to {to}, or lead it to {}", spec.version),
            );
        } else if to <= oldest {
            error(
                entry.to.span,
                format!("this migrates from version {}, which was never frozen", to - 1),
                format!("the history begins with version {oldest}, so the first migration leads to {}", oldest + 1),
            );
        }
        seen.push(to);
    }
    errors.len() == before
}
