//! Takes images from the version that wrote them to the spec's, one version after the other.
//!
//! A player's image and the device's walk together, because a migration can move a value from one to the other; either
//! may be there already.

use std::any::Any;
use std::borrow::Cow;
use std::panic::{AssertUnwindSafe, catch_unwind};

use crate::applying::apply::{MigrationNotes, OldValues, apply, leaving, takes_from_players};
use crate::applying::hook::{Hook, HookError, Hooks};
use crate::applying::levels::{moved, moving, renamed};
use crate::applying::origins::OriginStep;
use crate::image::reading::read_shape;
use crate::image::report::{LoadError, LoadReport, MigrationStep};
use crate::image::{Image, SavedPlace};
use vestigum_spec::migration::MigrationPlan;
use vestigum_spec::migration::Updates;
use vestigum_spec::model::Model;
use vestigum_spec::value::tree::{Tree, Values};
use vestigum_spec::vocabulary::owner::Owner;

/// The images that a launch loads: those it found, or new ones made of older ones.
pub struct Migrated<'a> {
    pub profile: Option<Cow<'a, Image>>,
    pub device: Option<Cow<'a, Image>>,
}

/// Describes what images are migrated by.
#[derive(Clone, Copy)]
pub struct Route<'a> {
    /// Says what the spec means now.
    pub model: &'a Model,
    /// The ways of older versions to it.
    pub updates: &'a Updates,
    /// The game's code.
    pub hooks: &'a Hooks,
}

/// Brings images of older versions up to a version on the way.
pub fn migrate<'a>(
    route: Route<'_>,
    version: i64,
    profile: Option<&'a Image>,
    device: Option<&'a Image>,
    report: &mut LoadReport,
) -> Result<Migrated<'a>, LoadError> {
    let mut migrated = Migrated { profile: profile.map(Cow::Borrowed), device: device.map(Cow::Borrowed) };
    let oldest = [profile, device].into_iter().flatten().map(|image| image.version).min();
    let Some(oldest) = oldest.filter(|oldest| *oldest < version) else { return Ok(migrated) };
    let Route { model, updates, .. } = route;
    let Some(history) = updates.history.as_ref().filter(|history| !history.is_empty()) else {
        // What an older version meant is not known: its values must not be taken for something else.
        return Err(LoadError::NoHistory { found: oldest, known: version });
    };
    if let Some(first) = history.oldest().filter(|first| oldest < *first) {
        return Err(LoadError::UnknownVersion { found: oldest, oldest: first });
    }
    let mut notes = MigrationNotes::default();
    let mut loosely = false;
    for to in oldest + 1..=version {
        let Some(plans) = updates.plans_to(to) else { continue };
        let waiting: Vec<&Image> = migrated.images().filter(|image| image.version == to - 1).collect();
        report.unfrozen |=
            waiting.iter().any(|image| image.shape.as_ref().is_some_and(|id| history.shape(to - 1, id).is_none()));
        let mut ids = waiting.iter().map(|image| image.shape.as_deref());
        let id = ids.next().flatten().filter(|id| ids.all(|other| other == Some(id)));
        let frozen = plans.from_shape(id);
        loosely |= waiting.iter().any(|image| !holds_all(&frozen.old, image));
        let loose = loosely.then(|| updates.loose(model).plan_to(to, model)).flatten();
        report.unfrozen |= loose.is_some();
        let (plan, new) = loose.unwrap_or_else(|| (frozen, updates.target(plans, model)));
        migrated.step(route, plan, new, &mut notes)?;
        report.migrated.push(MigrationStep { to, told: plan.told.clone(), device_first: takes_from_players(plan) });
    }
    // Notes about names that later versions have dropped would say nothing to a reader of this version.
    report.filled.extend(notes.filled.into_iter().filter(|name| model.find_field(name).is_some()));
    report.dropped.extend(notes.dropped);
    report.clamped.extend(notes.clamped);
    report.lost_blobs.extend(notes.lost_blobs);
    report.moved_levels.extend(notes.moved_levels);
    Ok(migrated)
}

/// Checks that a shape has a place for everything that an image holds.
fn holds_all(shape: &Model, image: &Image) -> bool {
    let (_, read) = read_shape(shape, image);
    read.dropped.is_empty() && read.clamped.is_empty()
}

impl Migrated<'_> {
    fn images(&self) -> impl Iterator<Item = &Image> {
        [self.profile.as_deref(), self.device.as_deref()].into_iter().flatten()
    }

    /// Takes the images that are of the version before to the one that the plan leads to.
    fn step(
        &mut self,
        route: Route<'_>,
        plan: &MigrationPlan,
        new: &Model,
        notes: &mut MigrationNotes,
    ) -> Result<(), LoadError> {
        let hook = route.hooks.get(plan.to);
        if hook.is_none() && !plan.hooked.is_empty() && !route.hooks.are_left_out() {
            return Err(LoadError::NoHook { to: plan.to, fields: plan.hooked.clone() });
        }
        let old = &*plan.old;
        let before = |image: &Option<Cow<'_, Image>>| image.as_deref().filter(|image| image.version < plan.to).cloned();
        let (profile, device) = (before(&self.profile), before(&self.device));
        let moves = profile.as_ref().map(|image| moving(plan, image)).unwrap_or_default();
        let profile = profile.map(|image| if moves.is_empty() { image } else { moved(old, &image, &moves) });
        notes.moved_levels.extend(moves.iter().cloned());
        let player = profile.as_ref().map(|image| OldValues::read(plan, image, notes));
        let device_source = device.as_ref().map(|image| OldValues::read(plan, image, notes));
        // A device that came here earlier has kept what it left to its players.
        let kept = || Some(self.device.as_ref()?.moved.get(&plan.to)?.clone());
        let lent = match &device_source {
            None => kept().map(|values| {
                OldValues::read_part(
                    old,
                    &empty_device_image(route.model, plan, values, self.device.as_deref()),
                    &mut MigrationNotes::default(),
                )
            }),
            Some(_) => None,
        };
        // A device that nothing was saved of yet takes what players bring.
        let brought = (self.device.is_none() && profile.is_some() && takes_from_players(plan))
            .then(|| empty_device_image(route.model, plan, Values::new(), None));
        // What a device that came here earlier did not wait for.
        if let (Some(source), None, Some(image)) = (&player, &device_source, &self.device) {
            source.not_taken(plan, new, image, notes);
        }
        let given = |source: &OldValues, other: Option<&OldValues>| other.map(|other| source.with_moved(plan, other));
        if let (Some(image), Some(source)) = (&profile, &player) {
            let merged = given(source, device_source.as_ref().or(lent.as_ref()));
            let mut taken = apply(plan, new, image, merged.as_ref().unwrap_or(source), notes);
            if let Some(origin) = &image.origin {
                let migrate = |values: Values| {
                    let values = renamed(old, &values, &moves);
                    let asked = Image { place: SavedPlace::Menu, marks: None, origin: None, values, ..image.clone() };
                    let untold = &mut MigrationNotes::default();
                    let source = OldValues::read(plan, &asked, untold);
                    let merged = given(&source, device_source.as_ref().or(lent.as_ref()));
                    apply(plan, new, &asked, merged.as_ref().unwrap_or(&source), untold).values
                };
                let step = OriginStep { plan, new, values: &image.values, migrate: &migrate };
                taken.origin = Some(Box::new(step.taken(origin)));
            }
            self.profile = Some(Cow::Owned(hooked(hook, plan, image, taken)?));
        }
        if let Some(image) = device.as_ref().or(brought.as_ref()) {
            let source = device_source.unwrap_or_else(|| OldValues::read_part(old, image, notes));
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

/// A device's image with these values, of the version before, and with the blobs of another one.
fn empty_device_image(model: &Model, plan: &MigrationPlan, values: Values, device: Option<&Image>) -> Image {
    Image {
        game: model.id.to_string(),
        version: plan.to - 1,
        shape: None,
        owner: Owner::Device,
        generation: 0,
        saved_at: String::new(),
        place: SavedPlace::Menu,
        made: Default::default(),
        values,
        marks: None,
        moved: Default::default(),
        origin: None,
        blobs: device.map(|device| device.blobs.clone()).unwrap_or_default(),
    }
}

/// Lets the game's code finish an image. The owner and the version that it names do not count.
fn hooked(hook: Option<&Hook>, plan: &MigrationPlan, old: &Image, taken: Image) -> Result<Image, LoadError> {
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
    let Image { game, version, shape, owner, generation, saved_at, origin, .. } = taken;
    Ok(Image { game, version, shape, owner, generation, saved_at, origin, ..new })
}

/// Returns what a panic says.
fn told(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().copied().or(panic.downcast_ref::<String>().map(String::as_str));
    text.unwrap_or("no message").to_owned()
}

/// A value of an image as a message shows it.
fn shown(tree: &Tree) -> String {
    let text = serde_json::to_string(tree).unwrap_or_default();
    if text.chars().count() > 60 { format!("{}…", text.chars().take(59).collect::<String>()) } else { text }
}
