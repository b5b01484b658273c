//! Taking images from the version that wrote them to the spec's, one version after the other.
//!
//! A player's image and the device's walk together, because a migration can move a value from one to the other; either
//! may be there already.

use std::any::Any;
use std::borrow::Cow;
use std::panic::{AssertUnwindSafe, catch_unwind};

use crate::image::{Image, LoadError, LoadReport, Owner, SavedPlace, Tree, Values};
use crate::spec::{Spec, SpecData};

use super::Step;
use super::apply::{Notes, Source, apply, leaving, takes_from_players};
use super::hook::{Hook, HookError};
use super::plan::Plan;

/// The images that a launch loads: those it found, or new ones made of older ones.
pub(crate) struct Migrated<'a> {
    pub profile: Option<Cow<'a, Image>>,
    pub device: Option<Cow<'a, Image>>,
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

/// Brings images up to a version on the way.
pub(super) fn migrate_to<'a>(
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
        // What an older version meant is not known: its values must not be taken for something else.
        return Err(LoadError::NoHistory { found: oldest, known: version });
    };
    if let Some(first) = history.oldest().filter(|first| oldest < *first) {
        return Err(LoadError::UnknownVersion { found: oldest, oldest: first });
    }
    let mut notes = Notes::default();
    for to in oldest + 1..=version {
        let Some(plan) = spec.0.migrations.to(to) else { continue };
        let new = history.spec(to).map_or(&*spec.0, |frozen| &frozen.0);
        migrated.step(spec, plan, new, &mut notes)?;
        report.migrated.push(Step { to, told: plan.told.clone(), device_first: takes_from_players(plan) });
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
        // What a device that came here earlier did not wait for.
        if let (Some(source), None, Some(image)) = (&player, &device_source, &self.device) {
            source.not_taken(plan, new, image, notes);
        }
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
fn hooked(hook: Option<&Hook>, plan: &Plan, old: &Image, taken: Image) -> Result<Image, LoadError> {
    let Some(hook) = hook else { return Ok(taken) };
    let mut new = taken.clone();
    // The image is a copy, which is thrown away when the code fails, in whatever way.
    let done = catch_unwind(AssertUnwindSafe(|| hook(old, &mut new)));
    done.map_err(|panic| LoadError::HookPanicked { to: plan.to, why: told(&*panic) })?.map_err(
        |HookError { field, why }| {
            let value = old.values.get(field.as_str()).map_or("not in the save".into(), shown);
            LoadError::Migration { to: plan.to, field, value, why }
        },
    )?;
    let Image { game, version, owner, generation, saved_at, .. } = taken;
    Ok(Image { game, version, owner, generation, saved_at, ..new })
}

/// What a panic says.
fn told(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().copied().or(panic.downcast_ref::<String>().map(String::as_str));
    text.unwrap_or("no message").to_owned()
}

/// A value of an image as a message shows it.
fn shown(tree: &Tree) -> String {
    let text = serde_json::to_string(tree).unwrap_or_default();
    if text.chars().count() > 60 { format!("{}…", text.chars().take(59).collect::<String>()) } else { text }
}
