//! Checking a script against a spec: names get their meaning and conditions their types, before anything runs.

use std::sync::Arc;

use indexmap::IndexSet;
use thiserror::Error;

use vestigum_core::image::blobs::BlobError;
use vestigum_core::{Diagnostic, Diagnostics, Image, Owner, Part, Progress, Spec, Type};
use vestigum_spec::codes;
use vestigum_spec::diagnostic::{LineStarts, SourceSpan};
use vestigum_spec::model::axis::Axis;
use vestigum_spec::model::entry::entry_of;
use vestigum_spec::model::expression::Expression;
use vestigum_spec::model::field::{Field, FieldId};
use vestigum_spec::model::promise::Promise;
use vestigum_spec::reading::{Scope, compile};
use vestigum_spec::value::parts::{part_name, part_type};

use super::action::{Action, EntryTarget, Redeems, ScriptStep, count, mentioned, numbers_of};
use super::script;
use super::target::{Bracketed, TargetStep, WriteTarget};
use super::written::{Given, How, Statement, StatementKind, Word, WrittenPlaythrough};

/// Describes what is in the files that scripts import, by the name of the script and the path in it.
pub type Files = dyn Fn(&str, &str) -> Result<Vec<u8>, ImportError> + Send + Sync;

/// Describes why a file cannot be imported, in words.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("{0}")]
pub struct ImportError(pub String);

impl From<&str> for ImportError {
    fn from(why: &str) -> ImportError {
        ImportError(why.to_owned())
    }
}

impl From<String> for ImportError {
    fn from(why: String) -> ImportError {
        ImportError(why)
    }
}

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
    pub(super) steps: Vec<ScriptStep>,
    /// The columns of the timeline: what `watch` names, or the fields that the statements name.
    pub(super) columns: Vec<Arc<Expression>>,
    /// The promises that it does not keep.
    pub(super) without: Vec<String>,
}

impl Script {
    /// Reads a script and checks it against a spec.
    ///
    /// # Errors
    /// Everything that is wrong with it, at once, each with its place.
    ///
    /// # Example
    ///
    /// ```
    /// use vestigum_verify::playthrough::Script;
    /// # let spec = vestigum::Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
    /// let script = Script::from_text("xp.play", "playthrough \"xp\"\nlaunch\nxp += 5\nquit", &spec)?;
    /// assert_eq!(script.playthroughs()[0].name(), "xp");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn from_text(name: &str, text: &str, spec: &Spec) -> Result<Script, Diagnostics> {
        Script::from_text_with(name, text, spec, &|_, _| Err("this script is read without files".into()))
    }

    /// Checks a script that imports saved images: `files` gets the name of the script and the path that stands in
    /// it, and answers with what is in the file, or what is wrong.
    ///
    /// # Errors
    /// As [`Script::from_text`].
    pub fn from_text_with(name: &str, text: &str, spec: &Spec, files: &Files) -> Result<Script, Diagnostics> {
        let (written, mut errors) = script::read(text);
        let mut checker = Checker {
            spec,
            lines: LineStarts::of(text),
            errors: &mut errors,
            watched: Vec::new(),
            without: Vec::new(),
            name,
            files,
            variables: Vec::new(),
            begun: false,
            has_device: false,
            statement: SourceSpan::default(),
        };
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
    /// Returns how many statements a run has if none fails, those of repeats each time.
    pub fn statements(&self) -> u64 {
        count(&self.steps)
    }

    /// The whole numbers that its statements write or add, by the field.
    pub(crate) fn numbers_written(&self, spec: &Spec) -> Vec<(FieldId, i64)> {
        let mut numbers = Vec::new();
        numbers_of(&self.steps, spec, &mut numbers);
        numbers
    }

    /// Returns what it proves.
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

/// Says how many columns a timeline gets by itself.
const COLUMNS: usize = 6;

pub(super) struct Checker<'s, 'a> {
    pub(super) spec: &'s Spec,
    pub(super) lines: LineStarts,
    pub(super) errors: &'a mut Vec<Diagnostic>,
    /// Says what the `watch` statements of the playthrough at hand name.
    pub(super) watched: Vec<Arc<Expression>>,
    /// The promises that its `without` statements name.
    pub(super) without: Vec<String>,
    pub(super) name: &'a str,
    pub(super) files: &'a Files,
    /// Under which names the playthrough at hand has made codes so far.
    pub(super) variables: Vec<String>,
    /// Whether the playthrough at hand has done anything, and whether it has named a device.
    pub(super) begun: bool,
    pub(super) has_device: bool,
    /// The statement at hand.
    pub(super) statement: SourceSpan,
}

impl<'s> Checker<'s, '_> {
    fn playthrough(&mut self, written: &WrittenPlaythrough, file: &Arc<str>) -> Playthrough {
        self.variables.clear();
        (self.begun, self.has_device) = (false, false);
        let steps = self.steps(&written.statements, 0);
        let mut columns = std::mem::take(&mut self.watched);
        if columns.is_empty() {
            let mut names: Vec<String> = Vec::new();
            mentioned(self.spec, &steps, &mut names);
            let compiled = names.iter().filter_map(|name| {
                compile(self.spec.model(), Scope::Play, name, None, &|span| span, &mut Vec::new()).map(Arc::new)
            });
            columns.extend(compiled.take(COLUMNS));
        }
        Playthrough {
            name: written.name.value.clone(),
            file: file.clone(),
            line: self.lines.line(written.name.span.start),
            columns,
            steps,
            without: std::mem::take(&mut self.without),
        }
    }

    fn without_promise(&mut self, name: &Word) {
        let promises = || self.spec.model().promises.iter().map(Promise::name);
        if promises().any(|known| known == name.value) {
            self.without.push(name.value.clone());
            return;
        }
        let error =
            Diagnostic::error(codes::UNKNOWN_NAME, name.span, format!("there is no promise \"{}\"", name.value));
        let error = error.suggest(&name.value, promises());
        self.errors.push(error);
    }

    fn steps(&mut self, statements: &[Statement], depth: usize) -> Vec<ScriptStep> {
        // A statement with an error is left out: the errors stop the script from running.
        let steps = statements.iter().filter_map(|statement| {
            self.statement = statement.text.span;
            let action = self.action(&statement.kind, false, depth)?;
            self.begun = true;
            let line = self.lines.line(statement.text.span.start);
            Some(ScriptStep { line, text: statement.text.value.as_str().into(), depth, action })
        });
        steps.collect()
    }

    fn action(&mut self, kind: &StatementKind, refused: bool, depth: usize) -> Option<Action> {
        Some(match kind {
            StatementKind::Launch => Action::Launch,
            StatementKind::Quit => Action::Quit,
            StatementKind::Moment(word) => Action::Moment(self.moment(word)?),
            StatementKind::Enter { level, checkpoint, locked } => {
                if !refused {
                    self.known_level(level, checkpoint.as_ref())?;
                }
                let checkpoint = checkpoint.as_ref().map(|word| word.value.clone());
                Action::Enter { level: level.value.clone(), checkpoint, locked: *locked }
            }
            StatementKind::Checkpoint(word) => Action::Checkpoint(word.value.clone()),
            StatementKind::CompleteBy(word) => {
                if !refused {
                    self.known_exit(word)?;
                }
                Action::CompleteBy(word.value.clone())
            }
            StatementKind::Code { code, variable } => {
                self.known_code(code)?;
                self.variables.push(variable.value.clone());
                Action::Code { code: code.value.clone(), variable: variable.value.clone() }
            }
            StatementKind::Redeem { code, given } => {
                self.known_code(code)?;
                let given = match given {
                    Given::Text(text) => Redeems::Text(text.clone()),
                    Given::Variable(word) => Redeems::Variable(self.known_variable(word)?),
                };
                Action::Redeem { code: code.value.clone(), given }
            }
            StatementKind::Tick(ms) => Action::Tick(*ms),
            StatementKind::Write { target, how, value } => {
                let field = self.known_field(&target.field)?;
                let (entry, ty) = match self.taken(field, target, refused)? {
                    Err(why) => return Some(Action::NeverAccepted(why)),
                    Ok(taken) => taken,
                };
                let number = match how {
                    How::Set => true,
                    How::Add | How::Subtract => ty.is_number(),
                };
                if !number {
                    return self.wrong(&entry, &target.field, format!("is of type {ty}; only numbers are added to"));
                }
                let value = self.expression(value, Some(&ty))?;
                Action::Write { entry, how: *how, value }
            }
            StatementKind::Beat { target, higher, value } => {
                let field = self.known_field(&target.field)?;
                let (entry, ty) = match self.taken(field, target, refused)? {
                    Err(why) => return Some(Action::NeverAccepted(why)),
                    Ok(taken) => taken,
                };
                if !ty.is_ordered() {
                    let message = format!("is of type {ty}; numbers and choices are raised and lowered");
                    return self.wrong(&entry, &target.field, message);
                }
                let value = self.expression(value, Some(&ty))?;
                Action::Beat { entry, higher: *higher, value }
            }
            StatementKind::Insert { target, at, item } => {
                let field = self.known_field(&target.field)?;
                let (entry, ty) = match self.taken(field, target, refused)? {
                    Err(why) => return Some(Action::NeverAccepted(why)),
                    Ok(taken) => taken,
                };
                let inner = match (&ty, at) {
                    (Type::List(inner) | Type::Set(inner), None) | (Type::Map(inner), Some(_)) => inner.clone(),
                    (Type::Map(_), None) => {
                        let message = "is a map: say under which key, in quotes".into();
                        return self.wrong(&entry, &target.field, message);
                    }
                    (ty, _) => {
                        let message = format!("is of type {ty}; values are inserted into lists, sets and maps");
                        return self.wrong(&entry, &target.field, message);
                    }
                };
                Action::Insert { entry, at: at.clone(), item: self.expression(item, Some(&inner))? }
            }
            StatementKind::Remove { target, item } => {
                let field = self.known_field(&target.field)?;
                let (entry, ty) = match self.taken(field, target, refused)? {
                    Err(why) => return Some(Action::NeverAccepted(why)),
                    Ok(taken) => taken,
                };
                let Some(asked) = ty.asked_item() else {
                    let message = format!("is of type {ty}; values are removed from lists, sets and maps");
                    return self.wrong(&entry, &target.field, message);
                };
                Action::Remove { entry, item: self.expression(item, Some(asked))? }
            }
            StatementKind::Reset(reset, span) => {
                // What does not exist cannot be reset; asking a fresh game tells.
                let asked = Progress::fresh(self.spec).preview_reset(reset);
                if let (Err(error), false) = (asked, refused) {
                    self.errors.push(Diagnostic::error(codes::UNKNOWN_NAME, *span, error.to_string()));
                    return None;
                }
                Action::Reset(reset.clone())
            }
            StatementKind::Board => Action::Board,
            StatementKind::Expect(condition) => Action::Expect(self.expression(condition, Some(&Type::Bool))?),
            StatementKind::Refuse(inner) => Action::Refuse(Box::new(self.action(&inner.kind, true, depth)?)),
            StatementKind::Save => Action::Save,
            StatementKind::Crash => Action::Crash,
            StatementKind::Damage(all) => Action::Damage { all: *all },
            StatementKind::Watch(words) => {
                let columns: Vec<Expression> = words.iter().filter_map(|word| self.expression(word, None)).collect();
                self.watched.extend(columns.into_iter().map(Arc::new));
                return None;
            }
            StatementKind::Without(name) => {
                self.without_promise(name);
                return None;
            }
            StatementKind::Import(path) => Action::Import(Box::new(self.import(path)?)),
            StatementKind::Profiles(change) => Action::Profiles(change.clone()),
            StatementKind::Level(change) => Action::Level(self.level_change(change)?),
            StatementKind::Profile(name) => {
                if let Err(error) = vestigum::checked_profile(&name.value) {
                    self.errors.push(Diagnostic::error(codes::STATEMENT, name.span, error.to_string()));
                    return None;
                }
                Action::Profile(name.value.clone())
            }
            StatementKind::Device(name) => {
                if self.begun && !self.has_device {
                    let error =
                        Diagnostic::error(codes::STATEMENT, name.span, "something was played on no device before");
                    let help = "let the playthrough begin with the name of its first device, as in `device laptop`";
                    self.errors.push(error.help(help));
                    return None;
                }
                self.has_device = true;
                Action::Device(name.value.clone())
            }
            StatementKind::Sync => {
                if self.spec.model().merging.is_none() {
                    let message = "the spec has no `[merge]`, so saves that both places changed could not be merged";
                    self.errors.push(
                        Diagnostic::error(codes::STATEMENT, self.statement, message).help("add `[merge]` to the spec"),
                    );
                    return None;
                }
                Action::Sync
            }
            StatementKind::Repeat(times, statements) => Action::Repeat(*times, self.steps(statements, depth + 1)),
        })
    }

    fn import(&mut self, path: &Word) -> Option<Image> {
        let read = (self.files)(self.name, &path.value);
        let image = read.map_err(|error| error.to_string());
        let image = image.and_then(|bytes| Image::from_json(&bytes).map_err(|error| error.to_string()));
        let why = match image.map(|image| self.with_blobs(path, image)) {
            Ok(image) if image.game != self.spec.id() => format!("it is of the game `{}`", image.game),
            Ok(image) if !image.lost_blobs().is_empty() => {
                let (blob, why) = &image.lost_blobs()[0];
                format!("its blob {} of {} bytes {why}", blob.digest, blob.len)
            }
            Ok(image) => return Some(image),
            Err(why) => why,
        };
        let message = format!("`{}` cannot be imported: {why}", path.value);
        self.errors.push(Diagnostic::error(codes::STATEMENT, path.span, message));
        None
    }

    /// An image with its blobs, which lie in the save folder that it is in: `saves/profiles/ada/3.json`, `saves/blobs`.
    fn with_blobs(&self, path: &Word, mut image: Image) -> Image {
        let below = match image.owner {
            Owner::Profile(_) => 3,
            Owner::Device => 2,
        };
        let parts: Vec<&str> = path.value.split('/').collect();
        let folder = parts[..parts.len().saturating_sub(below)].join("/");
        image.find_blobs(|blob| {
            let file = format!("{folder}{}blobs/{}", if folder.is_empty() { "" } else { "/" }, blob.digest);
            (self.files)(self.name, &file).map(Into::into).map_err(|_| BlobError::Missing)
        });
        image
    }

    fn wrong<T>(&mut self, entry: &EntryTarget, field: &Word, message: String) -> Option<T> {
        let message = format!("`{}` {message}", part_name(&entry.field, &entry.path));
        self.errors.push(Diagnostic::error(codes::WRONG_TYPE, field.span, message));
        None
    }

    /// The part that a statement writes and its type; or why no progress would ever take the write, if it should be refused.
    fn taken(
        &mut self,
        field: &Field,
        target: &WriteTarget,
        refused: bool,
    ) -> Option<Result<(EntryTarget, Type), String>> {
        match self.found(field, target) {
            Err(error) if refused => Some(Err(error.message)),
            Err(error) => {
                self.errors.push(error);
                None
            }
            Ok(found) => Some(Ok(found)),
        }
    }

    fn found(&self, field: &Field, target: &WriteTarget) -> Result<(EntryTarget, Type), Diagnostic> {
        if !field.written_by().play() {
            let message = format!("only rules write `{}`", field.name());
            let error = Diagnostic::error(codes::WRONG_TYPE, target.field.span, message);
            return Err(error.help("to let play write it too, declare it with `written_by = \"both\"`"));
        }
        let (keys, rest) = match &target.steps[..] {
            [TargetStep::Brackets(keys), rest @ ..] if field.is_keyed() && !self.is_part(field, keys) => {
                (self.keys(field, keys)?, rest)
            }
            steps => (Vec::new(), steps),
        };
        let path = rest.iter().map(part).collect::<Result<Vec<Part>, Diagnostic>>()?;
        let entry = EntryTarget { field: target.field.value.clone(), keys, path };
        match part_type(field.ty(), field.limits(), &entry.path) {
            Ok((ty, _)) => Ok((entry, ty)),
            Err((at, why)) => {
                let span = rest.get(at).map_or(target.field.span, TargetStep::span);
                let message = format!("there is no `{}`: {why}", part_name(&entry.field, &entry.path));
                Err(Diagnostic::error(codes::WRONG_TYPE, span, message))
            }
        }
    }

    /// Returns whether brackets behind a keyed field name a part of the value that it has where play stands, as in expressions: a
    /// position or a text that stands alone.
    fn is_part(&self, field: &Field, keys: &[Bracketed]) -> bool {
        let spec = self.spec.model();
        let literal = match keys {
            [Bracketed::Position(_)] => true,
            [Bracketed::Text(_)] => field.axes().iter().all(|axis| match axis {
                Axis::Level | Axis::Checkpoint => true,
                Axis::Keys(set) => spec.key_sets[*set as usize].current.is_some(),
            }),
            _ => false,
        };
        literal && field.ty().is_indexed()
    }

    /// The names of the keys of an entry, if there is one of these names.
    fn keys(&self, field: &Field, keys: &[Bracketed]) -> Result<Vec<String>, Diagnostic> {
        let span = match keys {
            [first, .., last] => first.span().to(last.span()),
            [only] => only.span(),
            [] => SourceSpan::default(),
        };
        let wrong = |message: String| Diagnostic::error(codes::UNKNOWN_NAME, span, message);
        let names: Option<Vec<&Word>> = keys.iter().map(Bracketed::key).collect();
        let names = names.ok_or_else(|| wrong(format!("`{}` takes the names of keys", field.name())))?;
        let plain: Vec<&str> = names.iter().map(|name| name.value.as_str()).collect();
        let none_made = vec![IndexSet::new(); self.spec.model().key_sets.len()];
        entry_of(self.spec.model(), field, &plain, &none_made).map_err(|error| wrong(error.to_string()))?;
        Ok(names.into_iter().map(|name| name.value.clone()).collect())
    }

    fn expression(&mut self, word: &Word, wanted: Option<&Type>) -> Option<Expression> {
        let start = word.span.start;
        compile(self.spec.model(), Scope::Play, &word.value, wanted, &|span| span.shifted(start), self.errors)
    }
}

/// The part that a step behind a field means.
fn part(step: &TargetStep) -> Result<Part, Diagnostic> {
    let wrong = || {
        let error = Diagnostic::error(codes::STATEMENT, step.span(), "one position or one key is wanted here");
        error.help("write a position as a number from 1, the key of a map in quotes")
    };
    match step {
        TargetStep::Member(name) => Ok(Part::member(&name.value)),
        TargetStep::Brackets(keys) => match &keys[..] {
            [Bracketed::Position(position)] => usize::try_from(position.value).map(Part::Item).map_err(|_| wrong()),
            [Bracketed::Text(key)] => Ok(Part::entry(&key.value)),
            _ => Err(wrong()),
        },
    }
}
