//! The device's progress while sessions run: one process has one.
//!
//! This is the one place that knows how the sessions of a process share it. A session takes the values over before it does
//! anything, and leaves what it made of them; a session that begins is lent them before its `launch`, because the saved
//! image may be older.

use std::sync::Arc;

use crate::image::Image;
use crate::image::encoded::EncodedImage;
use crate::image::report::LoadError;
use crate::progress::Progress;
use crate::spec::Spec;
use crate::state::State;
use crate::state::kept::Kept;
use crate::suspension::Suspended;
use vestigum_spec::document::write;
use vestigum_spec::model::Model;
use vestigum_spec::value::Value;
use vestigum_spec::value::tree::Moved;
use vestigum_spec::vocabulary::owner::Owner;

/// The values of the device that all sessions of a process share.
#[derive(Default)]
pub struct LiveDevice {
    sessions: usize,
    /// Says how many sessions have joined in all.
    joined: u64,
    model: Option<Arc<Model>>,
    values: Vec<Value>,
    version: u64,
}

impl LiveDevice {
    /// Returns whether any session runs.
    pub fn is_live(&self) -> bool {
        self.sessions > 0
    }

    /// Returns how many sessions have joined so far: what was read of the store before another one joined may be old.
    pub fn joined(&self) -> u64 {
        self.joined
    }

    /// Returns whether the sessions that run go by that spec too.
    pub fn fits(&self, spec: &Spec) -> bool {
        !self.is_live()
            || self.model.as_ref().is_some_and(|live| {
                Arc::ptr_eq(live, spec.model()) || write(&live.document) == write(&spec.model().document)
            })
    }

    /// The image of the device that a session launches with: what the sessions that run made of it, or what was saved.
    ///
    /// # Errors
    /// If the saved image cannot be loaded.
    pub fn image(&self, spec: &Spec, saved: Option<&Image>) -> Result<Option<Image>, LoadError> {
        if !self.is_live() {
            return Ok(saved.cloned());
        }
        let mut looked = Progress::load(spec, None, saved)?.progress;
        looked.take_device_values(&self.values);
        Ok(Some(looked.suspend().device_image()))
    }

    /// A session begins with what it loaded, or with what it was lent and its rules made of that. Answers the version of
    /// the values.
    pub fn join(&mut self, progress: &Progress) -> u64 {
        self.sessions += 1;
        self.joined += 1;
        self.model = Some(progress.model().clone());
        self.leave_values(progress)
    }

    /// A session ends.
    pub fn part(&mut self) {
        self.sessions = self.sessions.saturating_sub(1);
    }

    /// Brings a session up to date that has last seen the values of version `seen`.
    pub fn take_values(&self, progress: &mut Progress, seen: &mut u64) {
        if *seen != self.version {
            progress.take_device_values(&self.values);
            *seen = self.version;
        }
    }

    /// Keeps what a session that was up to date has made of the values; answers their version.
    pub fn leave_values(&mut self, progress: &Progress) -> u64 {
        if !progress.has_device_values(&self.values) {
            self.values = progress.device_values();
            self.version += 1;
        }
        self.version
    }
}

/// The device's values as a session saves them.
#[derive(Clone, Debug)]
pub struct DeviceSnapshot {
    model: Arc<Model>,
    values: Vec<Value>,
    moved: Option<Arc<Moved>>,
    kept: Option<Arc<Kept>>,
}

impl DeviceSnapshot {
    /// Returns what a session's progress has of the device.
    pub fn of(progress: &Progress) -> DeviceSnapshot {
        DeviceSnapshot {
            model: progress.model().clone(),
            values: progress.device_values(),
            moved: progress.state().moved.clone(),
            kept: progress.state().kept_of_device.clone(),
        }
    }

    /// Returns whether a session's progress still has the same.
    pub fn is_still(&self, progress: &Progress) -> bool {
        progress.has_device_values(&self.values) && progress.state().moved == self.moved
    }

    /// The device's image, as a store writes it.
    pub fn encoded(&self, saved_at: String) -> EncodedImage {
        let model = &self.model;
        let mut state = State::fresh(model);
        for (slot, value) in model.device_slots().zip(&self.values) {
            state.write(slot, value.clone());
        }
        state.moved.clone_from(&self.moved);
        state.kept_of_device.clone_from(&self.kept);
        Suspended::new(model, state).encoded(&Owner::Device, saved_at)
    }
}
