//! A spec that was read and checked, before anything runs it.

use std::sync::Arc;

use crate::codes;
use crate::diagnostic::{Diagnostic, Diagnostics};
use crate::document::{self, Document};
use crate::history::History;
use crate::history::shape::Shape;
use crate::migration::needs::Need;
use crate::migration::prepare::{Updates, prepare};
use crate::migration::version_step::VersionStep;
use crate::model::Model;
use crate::reading;

/// A checked spec: what its document means, and how saves of older versions come to it. Cloning one costs two counters.
///
/// A game uses `vestigum::Spec`, which has one inside and can be played.
///
/// ```
/// use vestigum_spec::CheckedSpec;
///
/// let spec = CheckedSpec::from_named_toml("fellpost.toml", "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]")?;
/// assert_eq!(spec.model().levels[0].id(), "mill_lane");
/// # Ok::<(), vestigum_spec::Diagnostics>(())
/// ```
#[derive(Clone, Debug)]
pub struct CheckedSpec {
    model: Arc<Model>,
    updates: Arc<Updates>,
}

/// Describes what reading a document found.
#[derive(Debug)]
#[non_exhaustive]
pub struct ReadSpec {
    /// The spec, if the document is sound enough to be one.
    pub spec: Option<CheckedSpec>,
    /// Everything that is wrong with the document.
    pub errors: Vec<Diagnostic>,
    /// Says what its history asks for.
    pub needs: Vec<Need>,
}

impl CheckedSpec {
    /// Reads a spec from TOML and checks it; `name` is the name that messages give the document.
    ///
    /// # Errors
    /// Everything that is wrong with the document, at once, each with its place and a help line.
    pub fn from_named_toml(name: &str, text: &str) -> Result<CheckedSpec, Diagnostics> {
        let ReadSpec { spec, mut errors, .. } = CheckedSpec::read(text, None);
        // A game that was built without its history would refuse the saves of its older versions.
        if let Some(spec) = &spec
            && let Some(first) = spec.model.document.migrations.first()
        {
            let message = "there are migrations, and no history that tells what saves they come from";
            errors.push(Diagnostic::error(codes::NO_HISTORY, first.to.span, message).help(
                "a game reads both, with `Spec::from_toml_with_history`; the program finds `SPEC.history.json` beside the spec",
            ));
        }
        CheckedSpec::without_errors(name, text, spec, errors)
    }

    /// Reads a spec with the history of its versions.
    ///
    /// # Errors
    /// As [`CheckedSpec::from_named_toml`]; and if a save of an older version would lose something that no migration speaks of.
    pub fn from_named_toml_with_history(name: &str, text: &str, history: History) -> Result<CheckedSpec, Diagnostics> {
        let ReadSpec { spec, mut errors, needs } = CheckedSpec::read(text, Some(Arc::new(history)));
        errors.extend(needs.into_iter().filter(|need| !need.follows).map(|need| need.diagnostic));
        CheckedSpec::without_errors(name, text, spec, errors)
    }

    fn without_errors(
        name: &str,
        text: &str,
        spec: Option<CheckedSpec>,
        errors: Vec<Diagnostic>,
    ) -> Result<CheckedSpec, Diagnostics> {
        spec.filter(|_| errors.is_empty()).ok_or_else(|| Diagnostics::new(name, text, errors))
    }

    /// Reads a spec and says everything that is wrong with it, for tools that show all of it.
    pub fn read(text: &str, history: Option<Arc<History>>) -> ReadSpec {
        let (document, mut errors) = document::read::read(text);
        let model = reading::resolve(&document, text, &mut errors);
        let Some(mut model) = model.filter(|_| errors.is_empty()) else {
            return ReadSpec { spec: None, errors, needs: Vec::new() };
        };
        model.shape = Shape::of(&model).id().into();
        let (updates, needs) = prepare(&model, history, text, &mut errors);
        ReadSpec { spec: Some(CheckedSpec::of(model, updates)), errors, needs }
    }

    /// The spec that a changed document gives; none if it is not sound. Whatever the change does to the shape, saves of
    /// older versions are migrated as before.
    pub fn of_document(&self, document: &Document) -> Option<CheckedSpec> {
        let mut errors = Vec::new();
        let mut model = reading::resolve(document, "", &mut errors)?;
        if !errors.is_empty() {
            return None;
        }
        model.shape = Shape::of(&model).id().into();
        let (updates, _) = prepare(&model, self.updates.history.clone(), "", &mut Vec::new());
        Some(CheckedSpec::of(model, updates))
    }

    fn of(model: Model, updates: Updates) -> CheckedSpec {
        CheckedSpec { model: Arc::new(model), updates: Arc::new(updates) }
    }

    /// Returns what the document means.
    pub fn model(&self) -> &Arc<Model> {
        &self.model
    }

    /// Follows single fields from a frozen shape on, one version after the other.
    pub fn version_steps<'a>(&'a self, from: i64, shape: &'a str) -> impl Iterator<Item = VersionStep<'a>> {
        let plans = self.updates.plans.iter().filter(move |plans| plans.to > from);
        plans.map(move |plans| {
            let plan = plans.from_shape(Some(shape).filter(|_| plans.to == from + 1));
            let new = self.updates.target(plans, &self.model);
            VersionStep { to: plans.to, old: &plan.old, new, plan }
        })
    }

    /// The ways of older versions to this one.
    pub fn updates(&self) -> &Updates {
        &self.updates
    }
}

impl AsRef<CheckedSpec> for CheckedSpec {
    fn as_ref(&self) -> &CheckedSpec {
        self
    }
}
