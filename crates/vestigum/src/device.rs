//! The device's progress while sessions run: one process has one.

use vestigum_core::{Progress, Spec, Value};

/// The values of the device that all sessions on one store share. Each session takes them over before it does
/// anything, and leaves what it made of them.
#[derive(Default)]
pub(crate) struct LiveDevice {
    sessions: usize,
    spec: Option<Spec>,
    values: Vec<Value>,
    version: u64,
}

impl LiveDevice {
    /// Whether any session runs.
    pub fn is_live(&self) -> bool {
        self.sessions > 0
    }

    /// Whether the sessions that run go by that spec too.
    pub fn fits(&self, spec: &Spec) -> bool {
        !self.is_live() || self.spec.as_ref().is_some_and(|live| live.to_toml() == spec.to_toml())
    }

    /// Puts the values of the sessions that run into one that begins.
    pub fn lend(&self, progress: &mut Progress) {
        if self.is_live() {
            progress.take_device_values(&self.values);
        }
    }

    /// A session begins with what it loaded, or with what it was lent and its rules made of that.
    pub fn join(&mut self, progress: &Progress) -> u64 {
        self.sessions += 1;
        self.spec = Some(progress.spec().clone());
        self.leave_values(progress);
        self.version
    }

    /// A session ends.
    pub fn part(&mut self) {
        self.sessions -= 1;
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
