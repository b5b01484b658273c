//! Checking a script against a spec: names get their meaning and conditions their types, before anything runs.

use std::sync::Arc;

use crate::codes;
use crate::diagnostic::{Diagnostic, Diagnostics, SourceSpan, position};
use crate::expression::{Expression, Scope, compile};
use crate::moment::Moment;
use crate::spec::{Field, Spec};

use super::script::{self, How, Kind, Statement, Word, Written};

/// A script that fits its spec.
#[derive(Clone, Debug)]
pub struct Script {
    name: Arc<str>,
    playthroughs: Vec<Playthrough>,
}

/// One playthrough of a script.
#[derive(Clone, Debug)]
pub struct Playthrough {
    pub(super) name: String,
    pub(super) file: Arc<str>,
    pub(super) line: usize,
    pub(super) steps: Vec<Step>,
    /// The columns of the timeline: what `watch` names, or the fields that the statements name.
    pub(super) columns: Vec<Arc<Expression>>,
}

/// A statement that can be run.
#[derive(Clone, Debug)]
pub(super) struct Step {
    pub line: usize,
    pub text: Arc<str>,
    pub depth: usize,
    pub action: Action,
}

#[derive(Clone, Debug)]
pub(super) enum Action {
    Moment(Moment),
    Enter {
        level: String,
        checkpoint: Option<String>,
        locked: bool,
    },
    Checkpoint(String),
    Write {
        field: String,
        key: Option<String>,
        how: How,
        value: Expression,
    },
    Expect(Expression),
    Refuse(Box<Action>),
    /// A write that no progress would take: refusing it needs no run.
    NeverAccepted(String),
    Save,
    Crash,
    Profile(String),
    Repeat(u32, Vec<Step>),
}

impl Script {
    /// Reads a script and checks it against a spec.
    ///
    /// # Errors
    /// Everything that is wrong with it, at once, each with its place.
    pub fn from_text(name: &str, text: &str, spec: &Spec) -> Result<Script, Diagnostics> {
        let (written, mut errors) = script::read(text);
        let mut checker = Checker { spec, text, errors: &mut errors, watched: Vec::new() };
        let name: Arc<str> = name.into();
        let playthroughs = written.iter().map(|written| checker.playthrough(written, &name)).collect();
        if errors.is_empty() { Ok(Script { name, playthroughs }) } else { Err(Diagnostics::new(&name, text, errors)) }
    }

    /// The name of the file.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The playthroughs in the order of the file.
    pub fn playthroughs(&self) -> &[Playthrough] {
        &self.playthroughs
    }
}

impl Playthrough {
    /// What it proves.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The file it stands in.
    pub fn file(&self) -> &str {
        &self.file
    }

    /// The line on which it begins.
    pub fn line(&self) -> usize {
        self.line
    }
}

/// How many columns a timeline gets by itself.
const COLUMNS: usize = 6;

struct Checker<'a> {
    spec: &'a Spec,
    text: &'a str,
    errors: &'a mut Vec<Diagnostic>,
    /// What the `watch` statements of the playthrough at hand name.
    watched: Vec<Arc<Expression>>,
}

impl Checker<'_> {
    fn playthrough(&mut self, written: &Written, file: &Arc<str>) -> Playthrough {
        let steps = self.steps(&written.statements, 0);
        let mut columns = std::mem::take(&mut self.watched);
        if columns.is_empty() {
            let mut names: Vec<String> = Vec::new();
            mentioned(self.spec, &steps, &mut names);
            let compiled = names.iter().filter_map(|name| {
                compile(&self.spec.0, Scope::Play, name, None, &|span| span, &mut Vec::new()).map(Arc::new)
            });
            columns.extend(compiled.take(COLUMNS));
        }
        Playthrough {
            name: written.name.value.clone(),
            file: file.clone(),
            line: position(self.text, written.name.span.start).0,
            columns,
            steps,
        }
    }

    fn steps(&mut self, statements: &[Statement], depth: usize) -> Vec<Step> {
        // A statement with an error is left out: the errors stop the script from running.
        let steps = statements.iter().filter_map(|statement| {
            let action = self.action(&statement.kind, false, depth)?;
            let line = position(self.text, statement.text.span.start).0;
            Some(Step { line, text: statement.text.value.as_str().into(), depth, action })
        });
        steps.collect()
    }

    fn action(&mut self, kind: &Kind, refused: bool, depth: usize) -> Option<Action> {
        Some(match kind {
            Kind::Moment(word) => Action::Moment(self.moment(word)?),
            Kind::Enter { level, checkpoint, locked } => {
                if !refused {
                    self.known_level(level, checkpoint.as_ref())?;
                }
                let checkpoint = checkpoint.as_ref().map(|word| word.value.clone());
                Action::Enter { level: level.value.clone(), checkpoint, locked: *locked }
            }
            Kind::Checkpoint(word) => Action::Checkpoint(word.value.clone()),
            Kind::Write { field, key, how, value } => self.write(field, key.as_ref(), *how, value, refused)?,
            Kind::Expect(condition) => Action::Expect(self.expression(condition, Some(&crate::value::Type::Bool))?),
            Kind::Refuse(inner) => Action::Refuse(Box::new(self.action(&inner.kind, true, depth)?)),
            Kind::Save => Action::Save,
            Kind::Crash => Action::Crash,
            Kind::Watch(words) => {
                let columns: Vec<Expression> = words.iter().filter_map(|word| self.expression(word, None)).collect();
                self.watched.extend(columns.into_iter().map(Arc::new));
                return None;
            }
            Kind::Profile(name) => Action::Profile(name.value.clone()),
            Kind::Repeat(times, statements) => Action::Repeat(*times, self.steps(statements, depth + 1)),
        })
    }

    fn moment(&mut self, word: &Word) -> Option<Moment> {
        let found = self.spec.moment(&word.value);
        if found.is_none() {
            let built_in = Moment::BUILT_IN.into_iter().filter_map(|moment| moment.word());
            let own = self.spec.0.own_moments.iter().map(|name| &**name);
            let error =
                Diagnostic::error(codes::STATEMENT, word.span, format!("there is no statement `{}`", word.value));
            let others = ["enter_any", "expect", "refuse", "save", "crash", "watch", "profile", "repeat"];
            self.errors.push(error.suggest(&word.value, built_in.chain(own).chain(others)));
        }
        found
    }

    fn known_level(&mut self, level: &Word, checkpoint: Option<&Word>) -> Option<()> {
        let Some(found) = self.spec.levels().find(|found| found.id() == level.value) else {
            let message = format!("no level is called `{}`", level.value);
            let error = Diagnostic::error(codes::UNKNOWN_NAME, level.span, message);
            self.errors.push(error.suggest(&level.value, self.spec.levels().map(|level| level.id())));
            return None;
        };
        if let Some(word) = checkpoint
            && found.checkpoints().len() > 0
            && !found.checkpoints().any(|name| name == word.value)
        {
            let message = format!("`{}` has no checkpoint `{}`", level.value, word.value);
            let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message);
            self.errors.push(error.suggest(&word.value, found.checkpoints()));
            return None;
        }
        Some(())
    }

    fn write(&mut self, field: &Word, key: Option<&Word>, how: How, value: &Word, refused: bool) -> Option<Action> {
        let Some(found) = self.spec.0.find_field(&field.value) else {
            let error =
                Diagnostic::error(codes::UNKNOWN_NAME, field.span, format!("no field is called `{}`", field.value));
            self.errors.push(error.suggest(&field.value, self.spec.fields().map(Field::name)));
            return None;
        };
        let problem = self.problem(found, field.span, key);
        if let Some(error) = problem {
            if refused {
                return Some(Action::NeverAccepted(error.message));
            }
            self.errors.push(error);
            return None;
        }
        let ty = found.ty().clone();
        let value = self.expression(value, Some(&ty))?;
        if how != How::Set && !ty.is_number() {
            let message = format!("`{}` is of type {ty}; only numbers are added to", field.value);
            self.errors.push(Diagnostic::error(codes::WRONG_TYPE, field.span, message));
            return None;
        }
        Some(Action::Write { field: field.value.clone(), key: key.map(|key| key.value.clone()), how, value })
    }

    /// Why no progress would ever take a write to this field and key.
    fn problem(&self, field: &Field, span: SourceSpan, key: Option<&Word>) -> Option<Diagnostic> {
        let name = field.name();
        if !field.written_by().play() {
            let error = Diagnostic::error(codes::WRONG_TYPE, span, format!("only rules write `{name}`"));
            return Some(error.help("to let play write it too, declare it with `written_by = \"both\"`"));
        }
        let key = key?;
        if !field.is_per_level() {
            return Some(Diagnostic::error(
                codes::WRONG_TYPE,
                key.span,
                format!("`{name}` has one value, so it takes no level"),
            ));
        }
        let known = self.spec.levels().any(|level| level.id() == key.value);
        let error = || {
            let message = format!("no level is called `{}`", key.value);
            let error = Diagnostic::error(codes::UNKNOWN_NAME, key.span, message);
            error.suggest(&key.value, self.spec.levels().map(|level| level.id()))
        };
        (!known).then(error)
    }

    fn expression(&mut self, word: &Word, wanted: Option<&crate::value::Type>) -> Option<Expression> {
        let start = word.span.start;
        compile(&self.spec.0, Scope::Play, &word.value, wanted, &|span| span.shifted(start), self.errors)
    }
}

/// The fields that a playthrough writes or expects something of, in the order in which it names them.
fn mentioned(spec: &Spec, steps: &[Step], names: &mut Vec<String>) {
    let mut add = |name: &str| {
        if !names.iter().any(|known| known == name) {
            names.push(name.to_owned());
        }
    };
    for step in steps {
        match &step.action {
            Action::Write { field, .. } => add(field),
            Action::Expect(condition) => {
                for id in condition.reads() {
                    let field = spec.0.field(*id);
                    if !field.per_level {
                        add(&field.name);
                    }
                }
            }
            Action::Repeat(_, inner) => {
                let mut inner_names = Vec::new();
                mentioned(spec, inner, &mut inner_names);
                inner_names.iter().for_each(|name| add(name));
            }
            _ => {}
        }
    }
}
