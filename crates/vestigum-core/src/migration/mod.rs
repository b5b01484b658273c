//! Migration: how saves of older versions come to this one.
//!
//! A spec that was read with its [history](crate::history) takes every older image through the versions between, one
//! after the other. `names` knows what became of names, `steps` reads what the document says, `plan` works out where every
//! field's values come from and finds what was forgotten, `apply` takes an image one version on. Old images are never
//! touched: loading makes new ones of them, which replace the old as the newest only when the game saves.
//!
//! ```
//! use vestigum_core::{History, Progress, Spec};
//!
//! let old = Spec::from_toml(r#"
//!     [game]
//!     id = "fellpost"
//!     [levels]
//!     order = ["old_mill", "heather_rise"]
//!     [field.best]
//!     type = "int"
//!     lasts = "profile"
//!     after_failure = "keep"
//! "#)?;
//! let mut game = Progress::fresh(&old);
//! game.write("best", &[], 80.into())?;
//! let saved = game.suspend().profile_image("ada");
//!
//! let spec = Spec::from_named_toml_with_history("fellpost.toml", r#"
//!     [game]
//!     id = "fellpost"
//!     version = 2
//!     [levels]
//!     order = ["mill_lane", "heather_rise"]
//!     [field.best_letters]
//!     type = "int"
//!     per = "level"
//!     lasts = "profile"
//!     after_failure = "keep"
//!     [[migration]]
//!     to = 2
//!     steps = [
//!       { rename = "level", from = "old_mill", to = "mill_lane" },
//!       { fill = "best_letters[mill_lane]", with = "best" },
//!     ]
//! "#, History::default().freeze(&old)?.history)?;
//! let game = Progress::launch(&spec, Some(&saved), None)?;
//! assert_eq!(game.progress.value("best_letters", &["mill_lane"])?.as_int(), 80);
//! assert_eq!(game.report.migrated[0].to_string(), "migrated to version 2: the level old_mill is mill_lane now; best_letters[mill_lane] is best");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod apply;
mod hook;
mod names;
mod plan;
mod steps;
mod way;

use std::borrow::Cow;
use std::fmt;
use std::sync::Arc;

use crate::codes;
use crate::diagnostic::{Diagnostic, SourceSpan};
use crate::history::History;
use crate::image::{Image, LoadError, LoadReport, Owner, SavedPlace, Tree, Values};
use crate::spec::{Spec, SpecData};

use apply::{Notes, Source, apply, leaving, takes_from_players};
pub use hook::HookError;
pub(crate) use hook::Hooks;
pub(crate) use plan::Need;
use plan::{Pair, Plan, plan};
use steps::Steps;
pub(crate) use way::{Way, ways};

/// The way from every frozen version to the spec's, a plan for each version on it.
#[derive(Clone, Debug, Default)]
pub(crate) struct Migrations(Arc<Vec<Plan>>);

/// A migration that was taken.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Step {
    /// The version it led to.
    pub to: i64,
    /// What its steps say, in words.
    pub told: Arc<[String]>,
}

impl fmt::Display for Step {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "migrated to version {}", self.to)?;
        for (index, step) in self.told.iter().enumerate() {
            write!(f, "{} {step}", if index == 0 { ":" } else { ";" })?;
        }
        Ok(())
    }
}

/// The images that a launch loads: those it found, or new ones made of older ones.
pub(crate) struct Migrated<'a> {
    pub profile: Option<Cow<'a, Image>>,
    pub device: Option<Cow<'a, Image>>,
}

/// Plans the way from every frozen version to the spec. What the spec does not say about it comes back.
pub(crate) fn prepare(
    spec: &mut SpecData,
    history: Option<Arc<History>>,
    text: &str,
    errors: &mut Vec<Diagnostic>,
) -> Vec<Need> {
    let Some(history) = history else { return Vec::new() };
    spec.history = Some(history.clone());
    if !check_versions(spec, &history, errors) {
        return Vec::new();
    }
    let Some((oldest, newest)) = history.oldest().zip(history.newest()) else { return Vec::new() };
    let mut needs = Vec::new();
    let mut plans = Vec::new();
    let mut dropped: Vec<(String, i64)> = Vec::new();
    for to in oldest + 1..=spec.version {
        let Some(old) = history.spec(to - 1) else { break };
        // A version that has shipped is what was frozen of it, whatever the spec says now.
        let frozen = history.spec(to);
        let new = frozen.map_or(&*spec, |frozen| &frozen.0);
        let (plan, found) = between(spec, old, new, frozen.is_none(), text, &dropped, errors);
        dropped.extend(
            old.0
                .fields
                .iter()
                .filter(|field| plan.carrier(field.id).is_none())
                .map(|field| (field.name.to_string(), to)),
        );
        needs.extend(found);
        plans.push(plan);
    }
    if newest == spec.version
        && let Some(frozen) = history.spec(newest)
    {
        let place = |name: &str| field_place(spec, name);
        let pair = Pair { old: frozen, new: spec, raised: false, at: version_place(spec), place: &place };
        needs.extend(plan(&pair, Steps::default()).1);
    }
    spec.migrations = Migrations(Arc::new(plans));
    needs
}

/// Whether a save of the frozen shape loses nothing under the spec, without a step.
pub(crate) fn is_compatible(frozen: &Spec, spec: &Spec) -> bool {
    let pair = Pair { old: frozen, new: &spec.0, raised: false, at: SourceSpan::default(), place: &|_| None };
    plan(&pair, Steps::default()).1.is_empty()
}

/// The plan from one version to the next, by the steps of the document.
fn between(
    spec: &SpecData,
    old: &Spec,
    new: &SpecData,
    is_current: bool,
    text: &str,
    dropped: &[(String, i64)],
    errors: &mut Vec<Diagnostic>,
) -> (Plan, Vec<Need>) {
    let entry = spec.document.migrations.iter().find(|entry| entry.to.value == new.version);
    let steps = match entry {
        Some(entry) => steps::Reader { old: &old.0, new, text, dropped_before: dropped, errors }.read(entry),
        None => Steps::default(),
    };
    let place = |name: &str| if is_current { field_place(spec, name) } else { None };
    let at = entry.map_or_else(|| version_place(spec), |entry| entry.to.span);
    plan(&Pair { old, new, raised: true, at, place: &place }, steps)
}

/// Where the document says its version.
fn version_place(spec: &SpecData) -> SourceSpan {
    let game = &spec.document.game;
    game.version.as_ref().map_or(game.span, |version| version.span)
}

fn field_place(spec: &SpecData, name: &str) -> Option<SourceSpan> {
    spec.document.fields.iter().find(|(field, _)| field.value == name).map(|(field, _)| field.span)
}

/// Whether the versions of the spec, its history and its migrations follow each other.
fn check_versions(spec: &SpecData, history: &History, errors: &mut Vec<Diagnostic>) -> bool {
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

impl Migrations {
    /// The plan that leads to a version.
    fn to(&self, version: i64) -> Option<&Plan> {
        self.0.iter().find(|plan| plan.to == version)
    }
}

/// Brings images of older versions to the version of the spec.
pub(crate) fn migrate<'a>(
    spec: &Spec,
    profile: Option<&'a Image>,
    device: Option<&'a Image>,
    report: &mut LoadReport,
) -> Result<Migrated<'a>, LoadError> {
    migrate_to(spec, spec.version(), profile, device, report)
}

/// Images that were brought to a newer version, and what that did.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Upgraded {
    /// The player's image.
    pub profile: Option<Image>,
    /// The device's image. One is made if a migration moves something to a device that has none yet.
    pub device: Option<Image>,
    /// What the migrations did. The origins are left to those who know them.
    pub report: LoadReport,
}

/// Brings images to a version that is frozen, or to the spec's, and no further: for tools that look at what each
/// migration does. A launch does the same by itself.
///
/// # Errors
/// If a version is not known, or the game's code is needed or fails. The images are untouched in any case.
pub fn upgrade(
    spec: &Spec,
    version: i64,
    profile: Option<&Image>,
    device: Option<&Image>,
) -> Result<Upgraded, LoadError> {
    let mut report = LoadReport::default();
    let migrated = migrate_to(spec, version, profile, device, &mut report)?;
    Ok(Upgraded {
        profile: migrated.profile.map(Cow::into_owned),
        device: migrated.device.map(Cow::into_owned),
        report,
    })
}

/// Brings images up to a version on the way.
fn migrate_to<'a>(
    spec: &Spec,
    version: i64,
    profile: Option<&'a Image>,
    device: Option<&'a Image>,
    report: &mut LoadReport,
) -> Result<Migrated<'a>, LoadError> {
    let mut migrated = Migrated { profile: profile.map(Cow::Borrowed), device: device.map(Cow::Borrowed) };
    let oldest = [profile, device].into_iter().flatten().map(|image| image.version).min();
    let Some(oldest) = oldest.filter(|oldest| *oldest < version) else { return Ok(migrated) };
    let Some(history) = spec.history().filter(|history| !history.is_empty()) else {
        // Without a migration there is nothing to say about older versions: what is missing is filled when it is loaded.
        let asked = spec.0.document.migrations.iter().any(|entry| entry.to.value > oldest);
        return if asked { Err(LoadError::NoHistory { found: oldest, known: version }) } else { Ok(migrated) };
    };
    if let Some(first) = history.oldest().filter(|first| oldest < *first) {
        return Err(LoadError::UnknownVersion { found: oldest, oldest: first });
    }
    let mut notes = Notes::default();
    for to in oldest + 1..=version {
        let Some(plan) = spec.0.migrations.to(to) else { continue };
        let new = history.spec(to).map_or(&*spec.0, |frozen| &frozen.0);
        migrated.step(spec, plan, new, &mut notes)?;
        report.migrated.push(Step { to, told: plan.told.clone() });
    }
    // Those of names that later versions have given up tell nobody anything.
    report.filled.extend(notes.filled.into_iter().filter(|name| spec.0.find_field(name).is_some()));
    report.dropped.extend(notes.dropped);
    report.clamped.extend(notes.clamped);
    Ok(migrated)
}

impl Migrated<'_> {
    /// Takes the images that are of the version before to the one that the plan leads to.
    fn step(&mut self, spec: &Spec, plan: &Plan, new: &SpecData, notes: &mut Notes) -> Result<(), LoadError> {
        let hook = spec.1.get(plan.to);
        if hook.is_none() && !plan.hooked.is_empty() && !spec.1.are_left_out() {
            return Err(LoadError::NoHook { to: plan.to, fields: plan.hooked.clone() });
        }
        let old = &*plan.old.0;
        let before = |image: &Option<Cow<'_, Image>>| image.as_deref().filter(|image| image.version < plan.to).cloned();
        let (profile, device) = (before(&self.profile), before(&self.device));
        let player = profile.as_ref().map(|image| Source::read(old, image, notes));
        let device_source = device.as_ref().map(|image| Source::read(old, image, notes));
        // A device that came here earlier has kept what it left to its players.
        let kept = || Some(self.device.as_ref()?.moved.get(&plan.to)?.clone());
        let lent = match &device_source {
            None => kept().map(|values| Source::read_part(old, &nobody(spec, plan, values), &mut Notes::default())),
            Some(_) => None,
        };
        // A device that nothing was saved of yet takes what players bring.
        let brought = (self.device.is_none() && profile.is_some() && takes_from_players(plan))
            .then(|| nobody(spec, plan, Values::new()));
        let given = |source: &Source, other: Option<&Source>| other.map(|other| source.with_moved(plan, other));
        if let (Some(image), Some(source)) = (&profile, &player) {
            let merged = given(source, device_source.as_ref().or(lent.as_ref()));
            let taken = apply(plan, new, image, merged.as_ref().unwrap_or(source), notes);
            self.profile = Some(Cow::Owned(hooked(hook, plan, image, taken)?));
        }
        if let Some(image) = device.as_ref().or(brought.as_ref()) {
            let source = device_source.unwrap_or_else(|| Source::read_part(old, image, notes));
            let merged = given(&source, player.as_ref());
            let mut taken = apply(plan, new, image, merged.as_ref().unwrap_or(&source), notes);
            let left = leaving(plan, image);
            if !left.is_empty() {
                taken.moved.insert(plan.to, left);
            }
            self.device = Some(Cow::Owned(hooked(hook, plan, image, taken)?));
        }
        Ok(())
    }
}

/// A device's image with these values, of the version before.
fn nobody(spec: &Spec, plan: &Plan, values: Values) -> Image {
    Image {
        game: spec.id().to_owned(),
        version: plan.to - 1,
        owner: Owner::Device,
        generation: 0,
        saved_at: String::new(),
        place: SavedPlace::Menu,
        made: Default::default(),
        values,
        marks: None,
        moved: Default::default(),
    }
}

/// Lets the game's code finish an image. What it says about whose image it is and of which version does not count.
fn hooked(hook: Option<&hook::Hook>, plan: &Plan, old: &Image, taken: Image) -> Result<Image, LoadError> {
    let Some(hook) = hook else { return Ok(taken) };
    let mut new = taken.clone();
    hook(old, &mut new).map_err(|HookError { field, why }| {
        let value = old.values.get(field.as_str()).map_or("not in the save".into(), shown);
        LoadError::Migration { to: plan.to, field, value, why }
    })?;
    let Image { game, version, owner, generation, saved_at, .. } = taken;
    Ok(Image { game, version, owner, generation, saved_at, ..new })
}

/// A value of an image as a message shows it.
fn shown(tree: &Tree) -> String {
    let text = serde_json::to_string(tree).unwrap_or_default();
    if text.chars().count() > 60 { format!("{}…", text.chars().take(59).collect::<String>()) } else { text }
}

/// What the migration to a version does, a sentence for each step.
pub fn steps_to(spec: &Spec, version: i64) -> Vec<String> {
    spec.0.migrations.to(version).map(|plan| plan.told.to_vec()).unwrap_or_default()
}
