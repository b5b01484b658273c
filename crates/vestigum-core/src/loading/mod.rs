//! Bringing an image under a spec.
//!
//! Nothing that an image of this game says stops it from being loaded: what is missing is filled with the default, what
//! the spec does not know is dropped, what lies outside its limits is brought inside, and all of it is reported.

mod levels;

use std::sync::Arc;

use crate::applying::chain::{Migrated, migrate};
use crate::image::blobs::Blobs;
use crate::image::reading::ImageReader;
use crate::image::report::{LoadError, LoadReport, Origin, PlaceChange};
use crate::image::{Gone, Image, SavedPlace};
use crate::origin::SavedOrigin;
use crate::outcome::Outcome;
use crate::progress::Progress;
use crate::spec::Spec;
use crate::state::State;
use crate::state::kept::Kept;
use crate::state::position::{Checkpoint, LevelPosition, Position};
use crate::suspension::fates::resumes_at_entry;
use crate::suspension::resuming::{go_back_to_entry, leave_level};
use vestigum_spec::model::Model;
use vestigum_spec::vocabulary::moment::Moment;
use vestigum_spec::vocabulary::owner::Owner;
use vestigum_spec::vocabulary::policy::{Accept, NewerSaves, Resume};
use vestigum_spec::vocabulary::span::Span;

/// Describes what a launch gives: the progress, what loading did, and what the moment `launch` did.
#[derive(Debug)]
pub struct Launched {
    /// The progress, standing where the image left it.
    pub progress: Progress,
    /// Says what loading did.
    pub report: LoadReport,
    /// Says what the rules of `launch` did.
    pub outcome: Outcome,
}

impl Progress {
    /// A fresh profile on a fresh device, launched for the first time.
    pub fn fresh(spec: &Spec) -> Progress {
        let mut progress = Progress::at(spec.model(), State::fresh(spec.model()));
        progress.begin();
        progress
    }

    /// Loads saved progress and launches it. Without an image the profile, or the device, is fresh.
    ///
    /// # Errors
    /// If an image is of another game, of a newer version, or belongs to the other owner. Nothing that an image of
    /// this game can say is an error: values that do not fit are brought inside and reported.
    pub fn launch(spec: &Spec, profile: Option<&Image>, device: Option<&Image>) -> Result<Launched, LoadError> {
        let (state, report) = load(spec, profile, device)?;
        let mut progress = Progress::at(spec.model(), state);
        let outcome = progress.begin();
        Ok(Launched { progress, report, outcome })
    }

    /// Loads saved progress without the moment `launch`: for tools that look at saves and repair them. The outcome is
    /// that of a launch without rules.
    ///
    /// # Errors
    /// As [`Progress::launch`].
    ///
    /// # Errors
    /// As [`Progress::launch`].
    pub fn load(spec: &Spec, profile: Option<&Image>, device: Option<&Image>) -> Result<Launched, LoadError> {
        let (state, report) = load(spec, profile, device)?;
        let progress = Progress::at(spec.model(), state);
        let outcome = Outcome::new(Moment::Launch, progress.place());
        Ok(Launched { progress, report, outcome })
    }
}

/// The state that the images tell of, ready for the moment `launch`. Images of older versions are migrated first; the
/// images themselves stay as they are.
///
/// # Errors
/// As [`Progress::launch`].
pub fn load(spec: &Spec, profile: Option<&Image>, device: Option<&Image>) -> Result<(State, LoadReport), LoadError> {
    load_with_origin(spec, profile, device).map(|(state, report, _)| (state, report))
}

/// Loads progress, and returns the origin of the player's save, if it has one.
///
/// # Errors
/// As [`Progress::launch`].
pub(crate) fn load_with_origin(
    spec: &Spec,
    profile: Option<&Image>,
    device: Option<&Image>,
) -> Result<(State, LoadReport, Option<SavedOrigin>), LoadError> {
    let data = &**spec.model();
    let mut report = LoadReport::default();
    if let Some(image) = device {
        acceptable(data, image, matches!(image.owner, Owner::Device))?;
        report.device_origin = Origin::Loaded { generation: image.generation };
    }
    if let Some(image) = profile {
        acceptable(data, image, matches!(image.owner, Owner::Profile(_)))?;
        report.origin = Origin::Loaded { generation: image.generation };
        report.older_version = Some(image.version).filter(|version| *version < data.version);
    }
    let Migrated { profile, device, .. } = migrate(spec.route(), spec.version(), profile, device, &mut report)?;
    let none = Blobs::default();
    let reader = ImageReader { model: data, state: State::fresh(data), report, blobs: &none };
    let mut loader = Loader { model: data, reader };
    if let Some(image) = &device {
        loader.reader.blobs = &image.blobs;
        let before = Told::of(&loader.reader.report);
        loader.reader.values(&image.values, |field| field.lasts == Span::Device);
        loader.reader.state.kept_of_device = other_build(spec, image, &loader.reader, before)?.map(Arc::new);
        loader.reader.state.moved = (!image.moved.is_empty()).then(|| Arc::new(image.moved.clone()));
    }
    if let Some(image) = &profile {
        loader.reader.blobs = &image.blobs;
        let before = Told::of(&loader.reader.report);
        loader.profile(image);
        loader.reader.state.kept = other_build(spec, image, &loader.reader, before)?.map(Arc::new);
    }
    let origin = profile.as_ref().and_then(|image| image.origin.as_deref().cloned());
    let ImageReader { state, report, .. } = loader.reader;
    Ok((state, report, origin))
}

/// Counts what a report has told so far.
#[derive(Clone, Copy)]
struct Told {
    dropped: usize,
    clamped: usize,
}

impl Told {
    fn of(report: &LoadReport) -> Told {
        Told { dropped: report.dropped.len(), clamped: report.clamped.len() }
    }
}

/// Returns what is carried along of an image that another build of this version wrote, because this one has no place for it.
///
/// # Errors
/// If there is something of the kind, and the spec does not keep it.
fn other_build(spec: &Spec, image: &Image, reader: &ImageReader<'_>, before: Told) -> Result<Option<Kept>, LoadError> {
    let model = reader.model;
    let Some(shape) = image.shape.as_ref().filter(|_| image.version == model.version) else { return Ok(None) };
    let report = LoadReport {
        dropped: reader.report.dropped[before.dropped..].to_vec(),
        clamped: reader.report.clamped[before.clamped..].to_vec(),
        ..LoadReport::default()
    };
    if report.dropped.is_empty() && report.clamped.is_empty() {
        return Ok(None);
    }
    let history = spec.history();
    let known = *shape == model.shape || history.is_some_and(|history| history.shape(model.version, shape).is_some());
    let shipped = history.is_some_and(|history| history.version(model.version).is_some());
    match model.newer {
        Some(NewerSaves::Keep) => Ok(Some(Kept::of(model, image, &reader.state, &report))),
        // While a version is made, saves of yesterday's spec are read as far as they go.
        Some(NewerSaves::Refuse) | None if known || (model.newer.is_none() && !shipped) => Ok(None),
        Some(NewerSaves::Refuse) | None => {
            let dropped = report.dropped.iter().map(|dropped| dropped.what.to_string());
            let clamped = report.clamped.iter().map(|clamped| format!("{} {}", clamped.name, clamped.was.brief()));
            Err(LoadError::newer_build(model.version, image, dropped.chain(clamped)))
        }
    }
}

fn acceptable(spec: &Model, image: &Image, owner_fits: bool) -> Result<(), LoadError> {
    if image.game != *spec.id {
        return Err(LoadError::OtherGame { found: image.game.clone(), wanted: spec.id.to_string() });
    }
    if image.version > spec.version {
        return Err(LoadError::NewerVersion {
            owner: image.owner.to_string(),
            found: image.version,
            known: spec.version,
        });
    }
    if !owner_fits {
        return Err(LoadError::OtherOwner { found: image.owner.to_string() });
    }
    Ok(())
}

/// Describes where an image says that the player stood.
struct SavedPosition<'a> {
    level: &'a str,
    checkpoint: Option<&'a str>,
    entered_at: Option<&'a str>,
    resume: Resume,
    gone: Option<&'a Gone>,
}

struct Loader<'a> {
    model: &'a Model,
    reader: ImageReader<'a>,
}

impl Loader<'_> {
    fn profile(&mut self, image: &Image) {
        self.reader.player(image);
        match &image.place {
            // A deleted player has nothing to load; stores do not offer such an image to a launch.
            SavedPlace::Menu | SavedPlace::Deleted => {}
            SavedPlace::RunOver => self.reader.state.position = Position::RunOver,
            SavedPlace::InLevel { level, checkpoint, entered_at, resume, gone } => {
                let saved = SavedPosition {
                    level,
                    checkpoint: checkpoint.as_deref(),
                    entered_at: entered_at.as_deref(),
                    resume: *resume,
                    gone: gone.as_ref(),
                };
                self.stand(image, saved);
            }
        }
    }

    /// Puts the player back into the level, or as near as this spec allows.
    fn stand(&mut self, image: &Image, saved: SavedPosition<'_>) {
        let spec = self.model;
        let SavedPosition { level, checkpoint: at, entered_at, resume, gone } = saved;
        let (index, of) = match gone {
            Some(Gone::Level { version }) => (None, format!(" of version {version}")),
            Some(Gone::Checkpoint { .. }) | None => {
                let index = spec.level_ids.get(level).copied();
                (index.filter(|index| self.reader.state.has_level(spec, *index)), String::new())
            }
        };
        let (Some(index), false) = (index, spec.resume == Resume::None) else {
            let why = match index {
                None => format!("there is no level `{level}`{of} any more"),
                Some(_) => "levels are not resumed any more".to_owned(),
            };
            leave_level(self.model, &mut self.reader.state, index);
            self.changed(image, why);
            return;
        };
        let entered = entered_at.and_then(|name| self.checkpoint(index, name));
        let reached = at.and_then(|name| self.checkpoint(index, name));
        let lost = match gone {
            Some(Gone::Checkpoint { name, version }) => Some(format!("`{name}` of version {version}")),
            Some(Gone::Level { .. }) | None => at.filter(|_| reached.is_none()).map(|name| format!("`{name}`")),
        };
        let to_entry = resumes_at_entry(spec) && resume == Resume::Checkpoint;
        let checkpoint = if lost.is_some() || to_entry { entered.clone() } else { reached };
        self.reader.state.position = Position::Level(LevelPosition { level: index, checkpoint, entered_at: entered });
        if lost.is_some() || to_entry {
            go_back_to_entry(self.model, &mut self.reader.state);
            let why = match lost {
                Some(checkpoint) => format!("`{level}` has no checkpoint {checkpoint} any more"),
                None => "levels are resumed at their entry now".to_owned(),
            };
            self.changed(image, why);
        }
    }

    fn checkpoint(&self, level: u32, name: &str) -> Option<Checkpoint> {
        let listed = &self.model.level(level).checkpoints;
        match listed.get_index_of(name) {
            Some(index) => Some(Checkpoint::Listed(index as u32)),
            None if listed.is_empty() && self.model.accept == Accept::Any => Some(Checkpoint::Named(name.into())),
            None => None,
        }
    }

    fn changed(&mut self, image: &Image, why: String) {
        let to = self.reader.state.position.named(self.model);
        self.reader.report.place = Some(PlaceChange { from: image.place.to_string(), to, why });
    }
}
