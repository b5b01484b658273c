//! The fates of one field in words: what every moment does to it, why, and where the spec says so.
//!
//! ```
//! use vestigum_core::Spec;
//! use vestigum_verify::fate_words::FateWords;
//!
//! let spec = Spec::from_toml(r#"
//!     [game]
//!     id = "fellpost"
//!     [levels]
//!     order = ["mill_lane"]
//!     [field.score]
//!     type = "int"
//!     lasts = "run"
//!     after_failure = "entry"
//! "#)?;
//! let words = FateWords::of(&spec, "score").unwrap();
//! let death = words.iter().find(|words| words.moment == "death").unwrap();
//! assert_eq!(death.what, "goes back to what it was when the level was entered");
//! assert_eq!(death.why, "a failure, and `after_failure` says \"entry\"");
//! # Ok::<(), vestigum_core::Diagnostics>(())
//! ```

use vestigum_core::suspension::fates::{LeftByQuitting, left_by_quitting, resembled_failure};
use vestigum_core::{Moment, Span, Spec};
use vestigum_spec::diagnostic::{SourceSpan, position};
use vestigum_spec::document::{FieldEntry, RuleEntry};
use vestigum_spec::model::fates::{Effect, Rule};
use vestigum_spec::model::field::Field;
use vestigum_spec::nearest;
use vestigum_spec::vocabulary::fate::{Operation, PlainFate};
use vestigum_spec::vocabulary::policy::Resume;

use crate::fate_table::{CellFate, FateCell, FateTable, columns};

/// Describes what a moment does to a field.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct FateWords {
    /// The moment, or `quit` or `crash`.
    pub moment: String,
    /// The cell of the fate table.
    pub cell: FateCell,
    /// Says what becomes of the value: it goes on from "the value".
    pub what: String,
    /// Says why.
    pub why: String,
    /// Says where the spec says it: its rules, or the words that decide where no rule does. Empty where nothing says anything.
    pub places: Vec<SourceSpan>,
}

impl FateWords {
    /// Every moment of a field, in the order of the columns of the fate table.
    ///
    /// # Errors
    /// If there is no such field.
    pub fn of(spec: &Spec, field: &str) -> Result<Vec<FateWords>, UnknownField> {
        let known = || spec.fields().map(Field::name);
        let Some(field) = spec.fields().find(|known| known.name() == field) else {
            return Err(UnknownField { name: field.to_owned(), nearest: nearest(field, known()).map(str::to_owned) });
        };
        let row = FateTable::row_of(spec, field);
        let entry = spec.model().document.fields.iter().find(|(name, _)| name.value == field.name());
        let told = Told { spec, field, entry: entry.map(|(_, entry)| entry) };
        let moments = columns(spec);
        let said = moments.iter().map(|moment| told.at(*moment)).chain([told.quit(), told.crash(&row.cells)]);
        let names = moments.iter().map(|moment| spec.moment_name(*moment).to_owned());
        let names = names.chain(["quit".to_owned(), "crash".to_owned()]);
        Ok(names
            .zip(row.cells.iter().cloned())
            .zip(said)
            .map(|((moment, cell), Said { what, why, places })| FateWords { moment, cell, what, why, places })
            .collect())
    }

    /// Returns whether the value stays because nothing says anything else.
    pub fn is_silent(&self) -> bool {
        self.cell.fate == CellFate::Plain(PlainFate::Keep) && !self.cell.guarded && self.why == SILENT
    }

    /// The lines of the spec, from 1, that say it. `source` is the text of the spec.
    pub fn lines(&self, source: &str) -> Vec<usize> {
        let mut lines: Vec<usize> = self.places.iter().map(|place| position(source, place.start).0).collect();
        lines.dedup();
        lines
    }
}

/// A field that the spec does not have.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("there is no field `{}`{}", name.escape_debug(), nearest.as_ref().map(|name| format!("; did you mean `{name}`?")).unwrap_or_default())]
pub struct UnknownField {
    /// The name.
    pub name: String,
    /// The field that was probably meant.
    pub nearest: Option<String>,
}

/// Says why a value stays where no word of the spec is about it.
const SILENT: &str = "nothing speaks of it";

struct Said {
    what: String,
    why: String,
    places: Vec<SourceSpan>,
}

struct Told<'s> {
    spec: &'s Spec,
    field: &'s Field,
    /// Says what the document says; the built-in fields have nothing there.
    entry: Option<&'s FieldEntry>,
}

impl Told<'_> {
    fn at(&self, moment: Moment) -> Said {
        let fate = self.spec.fate(self.field, moment);
        if (moment == Moment::Launch || moment.begins_run()) && self.field.needs_level() {
            let why = format!("it lasts {} {}, and there is no level here", article(self.field), self.field.lasts());
            return Said { what: "is not there".into(), why, places: self.lasts() };
        }
        if fate.rules.is_empty() {
            return self.fallback(moment);
        }
        let rules: Vec<String> = fate.rules.iter().map(|rule| self.rule(moment, rule)).collect();
        let always = fate.rules.last().is_some_and(|rule| rule.when.is_none());
        let mut what = rules.join("; else ");
        let rest = self.fallback(moment);
        if !always {
            what.push_str(&format!("; else {}", rest.what));
        }
        if self.field.is_keyed() && fate.fallback != PlainFate::Keep {
            what.push_str(&format!("; entries that are not meant: {}", rest.what));
        }
        let name = self.spec.moment_name(moment);
        let several = if fate.rules.len() > 1 { ", the first rule that holds" } else { "" };
        let places = self.entry.and_then(|entry| entry.on.iter().find(|(on, _)| on.value == name));
        let places = places.map(|(word, rules)| {
            rules.iter().map(RuleEntry::offset).map(|at| SourceSpan::new(at, at)).chain([word.span]).collect()
        });
        let mut places: Vec<SourceSpan> = places.unwrap_or_default();
        places.sort_unstable();
        Said { what, why: format!("`on.{name}`{several}"), places }
    }

    /// Returns what happens where no rule decides.
    fn fallback(&self, moment: Moment) -> Said {
        let fate = self.spec.fate(self.field, moment).fallback;
        let meant = self.spec.model().meant(moment, fate);
        let given_up = if meant == fate { "" } else { "; the checkpoint is given up first" };
        let lasts = self.field.lasts();
        let what = self.plain(meant);
        if moment.ends(lasts) && fate != PlainFate::Keep {
            let why = format!("it lasts {} {lasts}, which ends here{given_up}", article(self.field));
            return Said { what, why, places: self.lasts() };
        }
        match self.field.after_failure().filter(|_| moment.is_failure()) {
            Some(says) => {
                let why = format!("a failure, and `after_failure` says \"{}\"{given_up}", says.word());
                let places = self.entry.and_then(|entry| entry.after_failure.as_ref());
                Said { what, why, places: places.map(|word| word.span).into_iter().collect() }
            }
            None => Said { what, why: SILENT.into(), places: Vec::new() },
        }
    }

    fn lasts(&self) -> Vec<SourceSpan> {
        let says = match self.entry {
            Some(entry) => entry.lasts.as_ref(),
            None => self.spec.model().document.levels_last.as_ref(),
        };
        says.map(|word| word.span).into_iter().collect()
    }

    fn rule(&self, moment: Moment, rule: &Rule) -> String {
        let does = match &rule.does {
            Effect::Plain(fate) => self.plain(self.spec.model().meant(moment, *fate)),
            Effect::Operation(operation, operand) => {
                let operand = operand.source();
                match operation {
                    Operation::Set => format!("becomes `{operand}`"),
                    Operation::Add => match operand.strip_prefix('-') {
                        Some(less) => format!("goes down by {less}"),
                        None => format!("goes up by `{operand}`"),
                    },
                    Operation::Max => format!("becomes `{operand}` if that is higher"),
                    Operation::Min => format!("becomes `{operand}` if that is lower"),
                    Operation::Union => format!("takes in what is in `{operand}`"),
                    Operation::Rank => format!("takes in `{operand}` where it ranks"),
                }
            }
        };
        match &rule.when {
            None => does,
            Some(when) => format!("{does} when `{}`", when.source()),
        }
    }

    fn plain(&self, fate: PlainFate) -> String {
        match fate {
            PlainFate::Keep => "stays as it is".into(),
            PlainFate::Checkpoint => "goes back to what it was at the last checkpoint".into(),
            PlainFate::Entry => "goes back to what it was when the level was entered".into(),
            PlainFate::Reset if self.field.default().is_container() || !self.field.default().is_filled() => {
                "goes back to its default".into()
            }
            PlainFate::Reset => format!("goes back to its default, {}", self.field.default()),
        }
    }

    fn quit(&self) -> Said {
        let resume = self.spec.resume();
        let failure = resembled_failure(resume);
        let name = self.spec.moment_name(failure);
        let resumes =
            format!("`[save] resume` is \"{}\", so quitting in a level leaves what {name} leaves", resume.word());
        match left_by_quitting(self.spec.model(), self.field) {
            LeftByQuitting::As(moment) => {
                let said = self.at(moment);
                Said { why: format!("{resumes}: {}", said.why), ..said }
            }
            LeftByQuitting::Fate(fate) => {
                let why = match (self.field.lasts(), resume) {
                    (Span::Device, _) => "the device keeps it".into(),
                    (Span::Session, _) => "it lasts a session, which ends here".into(),
                    (Span::Attempt, _) => {
                        "an attempt is not saved, and begins again where the level was entered".into()
                    }
                    (Span::Visit | Span::Run | Span::Profile, Resume::None | Resume::Entry | Resume::Checkpoint) => {
                        format!("{resumes}, without its price")
                    }
                };
                Said { what: self.plain(fate), why, places: Vec::new() }
            }
        }
    }

    fn crash(&self, cells: &[FateCell]) -> Said {
        let saves: Vec<&str> = self.spec.save_at().iter().map(|moment| self.spec.moment_name(*moment)).collect();
        let at = if saves.is_empty() {
            "quit and reset".to_owned()
        } else {
            format!("{}, quit and reset", saves.join(", "))
        };
        match cells.last().map(|cell| cell.fate) {
            Some(CellFate::Saved) => {
                let why = format!("the game saves at {at}; what changed after that is lost");
                Said { what: "is as the last save left it".into(), why, places: Vec::new() }
            }
            Some(CellFate::Plain(PlainFate::Keep)) => Said {
                what: "stays as it is".into(),
                why: "it changes only where the game saves".into(),
                places: Vec::new(),
            },
            Some(CellFate::None | CellFate::Plain(_) | CellFate::Rule(_)) | None => {
                let said = self.quit();
                Said { why: format!("it is not saved: {}", said.why), ..said }
            }
        }
    }
}

fn article(field: &Field) -> &'static str {
    field.lasts().article()
}
