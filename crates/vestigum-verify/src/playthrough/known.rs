//! The names that a statement says: what each means, or that nothing has it.

use vestigum_core::{Diagnostic, Moment};
use vestigum_spec::codes;
use vestigum_spec::model::field::Field;
use vestigum_spec::vocabulary::keyword::statement_words;

use super::action::Redeems;
use super::check::Checker;
use super::levels::{CheckedChange, LevelChange, WrittenChange};
use super::written::{Given, Word};

impl<'s> Checker<'s, '_> {
    pub(super) fn moment(&mut self, word: &Word) -> Option<Moment> {
        let found = self.spec.moment(&word.value);
        if found.is_none() {
            let own = self.spec.model().own_moments.iter().map(|name| &**name);
            let error =
                Diagnostic::error(codes::STATEMENT, word.span, format!("there is no statement `{}`", word.value));
            self.errors.push(error.suggest(&word.value, statement_words().chain(own)));
        }
        found
    }

    pub(super) fn known_level(&mut self, level: &Word, checkpoint: Option<&Word>) -> Option<()> {
        let Some(found) = self.spec.levels().find(|found| found.id() == level.value) else {
            let message = format!("no level is called `{}`", level.value);
            let error = Diagnostic::error(codes::UNKNOWN_NAME, level.span, message);
            self.errors.push(error.suggest(&level.value, self.spec.levels().map(vestigum::spec::Level::id)));
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

    pub(super) fn known_code(&mut self, word: &Word) -> Option<()> {
        let nearest = match self.spec.model().find_code(&word.value) {
            Ok(_) => return Some(()),
            Err(nearest) => nearest,
        };
        let message = format!("no code is called `{}`", word.value);
        let help =
            nearest.map_or("codes are declared in `[code.NAME]`".into(), |name| format!("did you mean `{name}`?"));
        self.errors.push(Diagnostic::error(codes::UNKNOWN_NAME, word.span, message).help(help));
        None
    }

    /// The name under which a statement before this one has made a code.
    pub(super) fn known_variable(&mut self, word: &Word) -> Option<String> {
        if self.variables.contains(&word.value) {
            return Some(word.value.clone());
        }
        let message = format!("nothing was made as `{}` before", word.value);
        let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message)
            .help("`code NAME as VARIABLE` makes a code and `export_level LEVEL as VARIABLE` a level; a known text stands in quotes");
        self.errors.push(error.suggest(&word.value, self.variables.iter().map(String::as_str)));
        None
    }

    pub(super) fn level_change(&mut self, change: &WrittenChange) -> Option<CheckedChange> {
        Some(match change {
            LevelChange::Make => LevelChange::Make,
            LevelChange::Remove(level) => LevelChange::Remove(self.known_made(level)?),
            LevelChange::Export { level, variable } => {
                let level = self.known_made(level)?;
                self.variables.push(variable.clone());
                LevelChange::Export { level, variable: variable.clone() }
            }
            LevelChange::Import(Given::Text(text)) => LevelChange::Import(Redeems::Text(text.clone())),
            LevelChange::Import(Given::Variable(word)) => {
                LevelChange::Import(Redeems::Variable(self.known_variable(word)?))
            }
        })
    }

    /// A level that players make, whether it is made or not.
    pub(super) fn known_made(&mut self, word: &Word) -> Option<String> {
        self.known_level(word, None)?;
        Some(word.value.clone())
    }

    /// An exit of some level: which one it is of depends on where play stands.
    pub(super) fn known_exit(&mut self, word: &Word) -> Option<()> {
        let exits = || self.spec.levels().flat_map(vestigum::spec::Level::exits);
        if exits().any(|exit| exit == word.value) {
            return Some(());
        }
        let message = format!("no level has an exit `{}`", word.value);
        let help = "exits are named in `[level.NAME]`, as in `exits = { cellar = \"millrace\" }`";
        let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message).help(help);
        self.errors.push(error.suggest(&word.value, exits()));
        None
    }

    pub(super) fn known_field(&mut self, word: &Word) -> Option<&'s Field> {
        let found = self.spec.model().find_field(&word.value);
        if found.is_none() {
            let message = format!("no field is called `{}`", word.value);
            let error = Diagnostic::error(codes::UNKNOWN_NAME, word.span, message);
            self.errors.push(error.suggest(&word.value, self.spec.fields().map(Field::name)));
        }
        found
    }
}
