//! Probing: does anything notice when a rule is weakened?
//!
//! A spec is weakened in one place at a time (`weaken`): a rule is taken out, its guard dropped, `max` swapped for
//! `set`, `keep` for `entry`, a span made longer or shorter, the bound of a condition moved by one. Then every playthrough
//! and every promise is tried on it. What nobody notices is a rule that no test pins; `apart` searches for the shortest
//! playthrough that would.
//!
//! ```
//! use vestigum_core::Spec;
//! use vestigum_verify::playthrough::Script;
//! use vestigum_verify::probe::{Probe, ProbeVerdict};
//!
//! let text = r#"
//!     [game]
//!     id = "fellpost"
//!     [levels]
//!     order = ["mill_lane"]
//!     [field.falls]
//!     type = "int"
//!     lasts = "profile"
//!     on.death = { add = 1 }
//! "#;
//! let spec = Spec::from_toml(text)?;
//! let play = "playthrough \"nothing is expected\"\nlaunch\nenter mill_lane\ndeath";
//! let probe = Probe::new(&spec, vec![("falls.play".into(), play.into())])?;
//! let first = &probe.weakened()[0];
//! let ProbeVerdict::Unnoticed(play) = probe.verdict(first) else { panic!("nobody expects anything") };
//! assert!(play.contains("expect falls == 1"), "{play}");
//! # Ok::<(), vestigum_core::Diagnostics>(())
//! ```

mod apart;
mod stories;
mod threads;
mod weaken;

pub use threads::probe_all;
pub use weaken::Weakened;

use vestigum_core::{Diagnostics, Spec};
use vestigum_spec::model::field::FieldId;

use crate::explore::{Search, SearchBounds, questions};
use crate::playthrough::{Files, MemorySaves, Script, run};

/// A spec, and everything that could notice a change of it.
pub struct Probe {
    spec: Spec,
    scripts: Vec<(String, String)>,
    /// The numbers that playthroughs write, by the field.
    written: Vec<(FieldId, i64)>,
    bounds: SearchBounds,
    files: Box<Files>,
}

/// Describes what became of a weakened spec.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ProbeVerdict {
    /// Noticed by this playthrough or promise.
    Noticed(String),
    /// By none. The shortest playthrough that would notice it.
    Unnoticed(String),
    /// By none, and no play was found that tells the two apart: probably they mean the same.
    Alike,
    /// Not known: there was no time to try everything that could notice it.
    NotTried,
}

/// There was no time left.
pub(crate) struct Late;

/// Says whether there is no time left.
pub(crate) type Stop<'a> = dyn Fn() -> bool + Sync + 'a;

/// Says how many states a promise is tried on for each weakened spec.
const PROMISE_STATES: usize = 3_000;

impl Probe {
    /// A probe with the texts of the playthroughs and the names of their files.
    ///
    /// # Errors
    /// If a playthrough cannot be read under the spec as it is.
    pub fn new(spec: &Spec, scripts: Vec<(String, String)>) -> Result<Probe, Diagnostics> {
        Probe::with_files(spec, scripts, Box::new(|_, _| Err("the probe has no files".into())))
    }

    /// A probe whose playthroughs import saved images: `files` reads them, as for [`Script::from_text_with`].
    ///
    /// # Errors
    /// As [`Probe::new`].
    pub fn with_files(spec: &Spec, scripts: Vec<(String, String)>, files: Box<Files>) -> Result<Probe, Diagnostics> {
        let mut written = Vec::new();
        for (name, text) in &scripts {
            let script = Script::from_text_with(name, text, spec, &files)?;
            written.extend(script.playthroughs().iter().flat_map(|playthrough| playthrough.numbers_written(spec)));
        }
        written.sort_unstable();
        written.dedup();
        let bounds = SearchBounds { states: PROMISE_STATES, ..SearchBounds::default() };
        Ok(Probe { spec: spec.clone(), scripts, written, bounds, files })
    }

    /// The first playthrough or promise that fails on the spec as it is. It would notice everything, so there is nothing
    /// to learn before it is fixed.
    pub fn failing(&self) -> Option<String> {
        self.noticed(&self.spec, &|| false).unwrap_or_default()
    }

    /// Every way in which the spec can be weakened in one place.
    pub fn weakened(&self) -> Vec<Weakened> {
        weaken::weakened(&self.spec)
    }

    /// Returns whether anything notices the change, and if nothing does, what would.
    pub fn verdict(&self, weakened: &Weakened) -> ProbeVerdict {
        self.verdict_within(weakened, &|| false)
    }

    /// Says whether anything notices the change, as long as there is time.
    pub(crate) fn verdict_within(&self, weakened: &Weakened, stop: &Stop<'_>) -> ProbeVerdict {
        let tried = || {
            if let Some(by) = self.noticed(&weakened.spec, stop)? {
                return Ok::<_, Late>(ProbeVerdict::Noticed(by));
            }
            let apart = match stories::told_apart(&self.spec, weakened) {
                Some(play) => Some(play),
                None => apart::apart(&self.spec, weakened, &self.written, stop)?,
            };
            Ok(apart.map_or(ProbeVerdict::Alike, ProbeVerdict::Unnoticed))
        };
        // Its only error is that there was no time.
        tried().unwrap_or(ProbeVerdict::NotTried)
    }

    /// The first playthrough or promise that fails.
    fn noticed(&self, spec: &Spec, stop: &Stop<'_>) -> Result<Option<String>, Late> {
        for (name, text) in &self.scripts {
            // A statement that has no meaning any more is noticed as well.
            let Ok(script) = Script::from_text_with(name, text, spec, &self.files) else {
                return Ok(Some(name.clone()));
            };
            for playthrough in script.playthroughs() {
                if stop() {
                    return Err(Late);
                }
                if !run(spec, playthrough, &mut MemorySaves::default()).passed() {
                    return Ok(Some(format!("{name}: {}", playthrough.name())));
                }
            }
        }
        for question in questions(spec).iter().filter(|question| question.is_promise()) {
            let mut search = Search::new(spec, question, self.bounds.clone());
            while search.frontier() > 0 {
                if stop() {
                    return Err(Late);
                }
                search.round();
            }
            if search.into_ending().broken().is_some() {
                return Ok(Some(format!("promise: {}", question.name())));
            }
        }
        Ok(None)
    }
}
