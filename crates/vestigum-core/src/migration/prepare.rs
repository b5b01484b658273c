//! Planning the way from every version that has shipped to the spec, when the spec is read.

use std::sync::Arc;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::history::History;
use crate::migration::needs::{Need, needs};
use crate::migration::plan::{MigrationPlan, Pair, plan};
use crate::migration::steps::{ReadSteps, StepReader};
use crate::migration::wording::recorded;
use crate::model::Model;

/// The versions that players have, and the way from each of them to the spec's.
#[derive(Debug, Default)]
pub struct Updates {
    /// The shapes of the versions, if the spec was read with them.
    pub history: Option<Arc<History>>,
    /// A plan for each version on the way, the oldest first.
    pub plans: Vec<MigrationPlan>,
}

impl Updates {
    /// The plan that leads to a version.
    pub fn plan_to(&self, version: i64) -> Option<&MigrationPlan> {
        self.plans.iter().find(|plan| plan.to == version)
    }
}

/// Plans the way from every frozen version to the model's. What its document does not say about it comes back.
pub fn prepare(
    model: &Model,
    history: Option<Arc<History>>,
    text: &str,
    errors: &mut Vec<Diagnostic>,
) -> (Updates, Vec<Need>) {
    let mut updates = Updates { history, plans: Vec::new() };
    let needs = updates.plan(model, text, errors);
    (updates, needs)
}

impl Updates {
    fn plan(&mut self, model: &Model, text: &str, errors: &mut Vec<Diagnostic>) -> Vec<Need> {
        let Some(history) = self.history.clone() else { return Vec::new() };
        if !check_versions(model, &history, errors) {
            return Vec::new();
        }
        let Some((oldest, newest)) = history.oldest().zip(history.newest()) else { return Vec::new() };
        let changed = check_shipped(model, &history, errors);
        let mut found_needs = Vec::new();
        let mut dropped: Vec<(String, i64)> = Vec::new();
        for to in oldest + 1..=model.version {
            let Some(old) = history.model(to - 1) else { break };
            // A version that has shipped is what was frozen of it, whatever the spec says now.
            let frozen = history.model(to);
            let new = frozen.map_or(model, |frozen| frozen);
            let (plan, found) = between(model, old, new, frozen.is_none(), text, &dropped, errors);
            let gone = old.fields.iter().filter(|field| plan.carrier(field.id).is_none());
            dropped.extend(gone.map(|field| (field.name.to_string(), to)));
            // What is put back says it again.
            found_needs.extend(found.into_iter().filter(|_| !changed.contains(&to)));
            self.plans.push(plan);
        }
        if newest == model.version
            && let Some(frozen) = history.model(newest)
        {
            let place = |name: &str| field_place(model, name);
            let pair = Pair { old: frozen, new: model, raised: false, at: version_place(model), place: &place };
            found_needs.extend(needs(&pair, &plan(&pair, ReadSteps::default())));
        }
        found_needs
    }
}

/// Whether a save of the frozen shape loses nothing under the spec, without a step.
pub fn is_compatible(frozen: &Arc<Model>, spec: &Model) -> bool {
    let pair = Pair { old: frozen, new: spec, raised: false, at: SourceSpan::default(), place: &|_| None };
    needs(&pair, &plan(&pair, ReadSteps::default())).is_empty()
}

/// The plan from one version to the next, by the steps of the document.
fn between(
    spec: &Model,
    old: &Arc<Model>,
    new: &Model,
    is_current: bool,
    text: &str,
    dropped: &[(String, i64)],
    errors: &mut Vec<Diagnostic>,
) -> (MigrationPlan, Vec<Need>) {
    let before = errors.len();
    let entry = spec.document.migrations.iter().find(|entry| entry.to.value == new.version);
    let steps = match entry {
        Some(entry) => StepReader { old, new, text, dropped_before: dropped, errors }.read(entry),
        None => ReadSteps::default(),
    };
    let place = |name: &str| if is_current { field_place(spec, name) } else { None };
    let at = entry.map_or_else(|| version_place(spec), |entry| entry.to.span);
    let pair = Pair { old, new, raised: true, at, place: &place };
    let plan = plan(&pair, steps);
    // What a step would have said that cannot be read is not asked for again.
    let needs = if errors.len() == before { needs(&pair, &plan) } else { Vec::new() };
    (plan, needs)
}

/// Whether the migrations to versions that have shipped still say what they said then; answers those that do not.
fn check_shipped(spec: &Model, history: &History, errors: &mut Vec<Diagnostic>) -> Vec<i64> {
    let mut changed = Vec::new();
    for version in history.versions() {
        let Some(shipped) = history.steps_to(version) else { continue };
        let entry = spec.document.migrations.iter().find(|entry| entry.to.value == version);
        let said = recorded(entry);
        if said == shipped {
            continue;
        }
        let span = entry.map_or_else(|| version_place(spec), |entry| entry.to.span);
        let message = match entry {
            Some(_) => format!("the migration to version {version} has shipped, and its steps are others now"),
            None => format!("the migration to version {version} has shipped, and it is gone"),
        };
        let only = |these: &[String], those: &[String]| {
            these.iter().filter(|step| !those.contains(step)).cloned().collect::<Vec<_>>().join(", ")
        };
        let mut help = format!(
            "players of version {} who have played since have what the steps made then, and those who come later would have something else",
            version - 1
        );
        for (steps, what) in [(only(shipped, &said), "put back"), (only(&said, shipped), "take out")] {
            if !steps.is_empty() {
                help.push_str(&format!("; {what} {steps}"));
            }
        }
        let next = spec.version.max(version) + i64::from(history.newest() == Some(spec.version));
        help.push_str(&format!("; what is to be different is said in the migration to version {next}"));
        errors.push(Diagnostic::error(codes::SHIPPED_STEPS, span, message).help(help));
        changed.push(version);
    }
    changed
}

/// Where the document says its version.
fn version_place(spec: &Model) -> SourceSpan {
    let game = &spec.document.game;
    game.version.as_ref().map_or(game.span, |version| version.span)
}

fn field_place(spec: &Model, name: &str) -> Option<SourceSpan> {
    spec.document.fields.iter().find(|(field, _)| field.value == name).map(|(field, _)| field.span)
}

/// Whether the versions of the spec, its history and its migrations follow each other.
fn check_versions(spec: &Model, history: &History, errors: &mut Vec<Diagnostic>) -> bool {
    let before = errors.len();
    let mut error = |span, message: String, help: String| {
        errors.push(Diagnostic::error(codes::VERSION, span, message).help(help));
    };
    let (Some(oldest), Some(newest)) = (history.oldest(), history.newest()) else { return true };
    if history.game() != &*spec.id {
        let span = spec.document.game.id.as_ref().map_or(spec.document.game.span, |id| id.span);
        let help = "a game keeps its id; its saves bear it".to_owned();
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
                "players have saves of version {newest}: set `version = {newest}`, or {} for a new one",
                newest + 1
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
