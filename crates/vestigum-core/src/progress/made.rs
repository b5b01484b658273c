//! Levels that players make: made, removed, and handed from one player to another.

use std::collections::BTreeMap;
use std::sync::Arc;

use serde::Serialize;
use thiserror::Error;

use crate::outcome::Change;
use crate::progress::Progress;
use vestigum_spec::model::Model;
use vestigum_spec::model::field::Field;
use vestigum_spec::nearest::did_you_mean;
use vestigum_spec::value::Value;
use vestigum_spec::value::decode::decode;
use vestigum_spec::value::tree::{Tree, Values};

/// The most bytes that an exported level may have.
pub const LEVEL_MAX_LEN: usize = 64 << 20;

/// The number of the format of exported levels.
const FORMAT: i64 = 1;

/// Describes why a level was not made, removed, exported or imported. Nothing has changed.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum MadeLevelError {
    /// The session was ended by `quit`.
    #[error("the session has quit; launch first")]
    Closed,
    /// Players make no levels in this game: `[levels] made` is not said.
    #[error("players make no levels in this game")]
    NoneInGame,
    /// As many levels are made as there can be.
    #[error("all {max} level slots are used; remove a level first")]
    Full {
        /// Says how many there can be.
        max: u32,
    },
    /// No level has that name.
    #[error("no level is called `{name}`{}", did_you_mean(.nearest))]
    UnknownLevel {
        /// The name asked for.
        name: String,
        /// The level that was probably meant.
        nearest: Option<String>,
    },
    /// The level belongs to the game.
    #[error("`{level}` belongs to the game: players remove and export the levels that they made")]
    Shipped {
        /// The level.
        level: String,
    },
    /// No level is made under that name.
    #[error("there is no level `{level}`: it was not made, or it was removed")]
    NotMade {
        /// The level.
        level: String,
    },
    /// The text is too long for a level.
    #[error("the level has {bytes} bytes, and {LEVEL_MAX_LEN} are the most")]
    TooLarge {
        /// Says how many bytes it has.
        bytes: usize,
    },
    /// The text is no exported level.
    #[error("it is not an exported level: {why}")]
    NoLevel {
        /// Says what is wrong with it.
        why: String,
    },
    /// The level was changed after it was exported.
    #[error("the level was changed after it was exported: its digest does not fit")]
    Edited,
    /// The level is of another game.
    #[error("the level is of the game `{found}`, and this is `{wanted}`")]
    OtherGame {
        /// The game that exported it.
        found: String,
        /// This game.
        wanted: String,
    },
    /// A newer version of the game exported it.
    #[error("version {found} of the game exported the level, and this is version {known}")]
    NewerVersion {
        /// The version that exported it.
        found: i64,
        /// This version.
        known: i64,
    },
    /// An older version of the game exported the level, and what levels carry has changed since.
    #[error(
        "version {found} of the game exported the level, and this is version {known}: bring it to this version with `Spec::upgrade_level` first"
    )]
    OlderVersion {
        /// The version that exported it.
        found: i64,
        /// This version.
        known: i64,
    },
    /// An older version of the game exported the level, and it cannot be brought to this one.
    #[error("version {found} of the game exported the level, and it cannot be brought to this version: {why}")]
    Unmigrated {
        /// The version that exported it.
        found: i64,
        /// Says why not.
        why: String,
    },
    /// A value of the level is not one that the field takes.
    #[error("`{field}` of the level does not fit: {why}")]
    Misfit {
        /// The field.
        field: String,
        /// Says why not.
        why: String,
    },
}

/// A level on its way from one player to another.
#[derive(Serialize)]
pub(crate) struct Exported<'a> {
    level_format: i64,
    game: &'a str,
    pub version: i64,
    pub values: Values,
    digest: String,
}

impl Exported<'_> {
    /// Gathers what levels carry, with the values that they have.
    pub(crate) fn of<'s>(spec: &'s Model, value: impl Fn(&Field) -> &'s Value) -> Exported<'s> {
        let given = spec.fields.iter().filter(|field| spec.is_given(field.id));
        let filled = given.map(|field| (field.name.clone(), value(field))).filter(|(_, value)| value.is_filled());
        let values: Values = filled.map(|(name, value)| (name, Tree::of(value))).collect();
        let digest = Exported::digested(&spec.id, spec.version, &values);
        Exported { level_format: FORMAT, game: &spec.id, version: spec.version, values, digest }
    }

    pub(crate) fn written(&self) -> String {
        // Names, numbers and trees: writing them does not fail.
        serde_json::to_string(self).unwrap_or_default()
    }

    /// A text as a tree, which takes no more memory than an image may.
    pub(crate) fn tree(text: &str) -> Result<Tree, MadeLevelError> {
        if text.len() > LEVEL_MAX_LEN {
            return Err(MadeLevelError::TooLarge { bytes: text.len() });
        }
        Tree::from_json(text.as_bytes()).map_err(|error| MadeLevelError::NoLevel { why: error.to_string() })
    }

    /// The parts of a text that nobody has changed.
    pub(crate) fn verified(tree: &Tree) -> Result<Exported<'_>, MadeLevelError> {
        let no_level = |why: String| MadeLevelError::NoLevel { why };
        let exported = Exported::read(tree).map_err(no_level)?;
        if exported.level_format != FORMAT {
            return Err(no_level(format!("it has format {}, and {FORMAT} is known", exported.level_format)));
        }
        if exported.digest != Exported::digested(exported.game, exported.version, &exported.values) {
            return Err(MadeLevelError::Edited);
        }
        Ok(exported)
    }

    pub(crate) fn of_game(&self, game: &str) -> Result<(), MadeLevelError> {
        match self.game == game {
            true => Ok(()),
            false => Err(MadeLevelError::OtherGame { found: self.game.to_owned(), wanted: game.to_owned() }),
        }
    }

    /// Returns what the digest is of: everything but itself.
    fn digested(game: &str, version: i64, values: &Values) -> String {
        // Names, numbers and trees: writing them does not fail.
        let content = serde_json::to_vec(&(FORMAT, game, version, values)).unwrap_or_default();
        blake3::hash(&content).to_hex().as_str()[..32].to_owned()
    }

    /// Another player sent it, so nothing of it is believed: it is read from a tree, which takes no more memory than an image may.
    fn read(tree: &Tree) -> Result<Exported<'_>, String> {
        let Tree::Map(parts) = tree else { return Err(format!("it is {}", tree.kind())) };
        let names = ["level_format", "game", "version", "values", "digest"];
        if let Some(other) = parts.keys().find(|name| !names.contains(&&***name)) {
            return Err(format!("it has no part `{}`", other.escape_debug()));
        }
        match names.map(|name| parts.get(name)) {
            [
                Some(Tree::Int(level_format)),
                Some(Tree::Text(game)),
                Some(Tree::Int(version)),
                Some(Tree::Map(values)),
                Some(Tree::Text(digest)),
            ] => Ok(Exported {
                level_format: *level_format,
                game,
                version: *version,
                values: values.clone(),
                digest: digest.to_string(),
            }),
            _ => Err(format!("it wants these parts: {}", names.join(", "))),
        }
    }
}

impl Progress {
    /// Makes a level: the first of `made_1`, `made_2`, … that is free. It is open, leads nowhere, and everything that is kept per
    /// level is at its default there; what `[levels] made` carries is written next, as any value.
    ///
    /// # Errors
    /// If players make no levels in this game, all are made, or after `quit`.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum_core::{Progress, Spec};
    /// let spec = Spec::from_toml(r#"
    ///     [game]
    ///     id = "fellpost"
    ///     [levels]
    ///     order = ["mill_lane"]
    ///     made = { max = 6, title = "path_title", carries = ["layout"] }
    ///     [field.path_title]
    ///     type = "text"
    ///     per = "level"
    ///     lasts = "profile"
    ///     after_failure = "keep"
    ///     [field.layout]
    ///     type = "bytes"
    ///     per = "level"
    ///     lasts = "profile"
    ///     after_failure = "keep"
    /// "#)?;
    /// let title = spec.field_per::<String, 1>("path_title")?;
    /// let mut ada = Progress::fresh(&spec);
    /// let level = ada.make_level()?;
    /// ada.set(title.at(&level)?, "Bog Loop".into())?;
    /// assert_eq!(ada.board()[1].title, "Bog Loop");
    ///
    /// // Another player gets it, as a level of their own.
    /// let post = ada.export_level(&level)?;
    /// let mut bo = Progress::fresh(&spec);
    /// let imported = bo.import_level(&post)?;
    /// assert_eq!(bo.get(title.at(&imported)?), "Bog Loop");
    /// bo.remove_level(&imported)?;
    /// assert!(bo.enter(&imported).is_err());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn make_level(&mut self) -> Result<Arc<str>, MadeLevelError> {
        let level = self.free_level()?;
        let slot = self.model.made_slot(level);
        self.state.write_through(slot.unwrap_or_default(), Value::Bool(true));
        // It is open at once, also for a player who stands in another level, where nothing is judged.
        self.open(level);
        self.judge_openings();
        Ok(self.model.level(level).id.clone())
    }

    /// Removes a level that a player made, and everything that is kept for it. If the player stands in it, the visit ends as at a
    /// reset of the level. Says what changed.
    ///
    /// # Errors
    /// If it is not a level that a player made, or after `quit`.
    pub fn remove_level(&mut self, level: impl AsRef<str>) -> Result<Vec<Change>, MadeLevelError> {
        let level = self.made_level(level.as_ref())?;
        let (spec, mut changes) = (self.model.clone(), Vec::new());
        if let Some(fields) = &spec.made_fields {
            let field = spec.field(fields.made);
            self.back_to_default(field, field.slot_at(&[level]), &mut changes);
        }
        self.clear_removed(&mut changes);
        // A player who stood in it is in the menu now.
        changes.extend(self.judge_openings());
        Ok(changes)
    }

    /// A level that a player made as a text for another player: what `[levels] made` carries, with a digest. Records and whatever else
    /// is kept per level stay behind.
    ///
    /// # Errors
    /// If it is not a level that a player made, if it has more than 64 MiB as a text, or after `quit`.
    pub fn export_level(&self, level: impl AsRef<str>) -> Result<String, MadeLevelError> {
        let level = self.made_level(level.as_ref())?;
        let text = Exported::of(&self.model, |field| self.state.value(field.slot_at(&[level]))).written();
        // What goes out can come in.
        if text.len() > LEVEL_MAX_LEN { Err(MadeLevelError::TooLarge { bytes: text.len() }) } else { Ok(text) }
    }

    /// Makes a level of a text that [`Progress::export_level`] gave. All of it is taken or nothing: a field that the text does not
    /// have is at its default.
    ///
    /// # Errors
    /// If the text is too long, no exported level, changed, of another game or a newer version, if a value does not fit its field, and as
    /// [`Progress::make_level`]. One that an older version exported fits as far as nothing was renamed since; [`Spec::upgrade_level`](crate::Spec::upgrade_level) brings it here.
    pub fn import_level(&mut self, text: &str) -> Result<Arc<str>, MadeLevelError> {
        let level = self.free_level()?;
        let tree = Exported::tree(text)?;
        let exported = Exported::verified(&tree)?;
        let spec = self.model.clone();
        exported.of_game(&spec.id)?;
        if exported.version > spec.version {
            return Err(MadeLevelError::NewerVersion { found: exported.version, known: spec.version });
        }
        let mut values = BTreeMap::new();
        for (name, tree) in &exported.values {
            let misfit = |why: String| match exported.version < spec.version {
                true => MadeLevelError::OlderVersion { found: exported.version, known: spec.version },
                false => MadeLevelError::Misfit { field: name.to_string(), why },
            };
            let field = spec.find_field(name).filter(|field| spec.is_given(field.id));
            let field = field.ok_or_else(|| misfit("levels carry no such field".into()))?;
            values.insert(field.slot_at(&[level]), fitting(field, tree).map_err(misfit)?);
        }
        let made = self.make_level()?;
        for (slot, value) in values {
            self.state.write_through(slot, value);
        }
        Ok(made)
    }

    /// The title that players see: of a level that a player made the one that it was given.
    pub fn level_title(&self, level: &str) -> Option<String> {
        let index = self.model.find_level(level).ok()?;
        Some(self.title_of(index))
    }

    pub(super) fn title_of(&self, level: u32) -> String {
        let spec = &*self.model;
        let given = spec.made_fields.as_ref().filter(|_| spec.is_made_level(level)).and_then(|fields| fields.title);
        let given = given.map(|title| self.state.value(spec.field(title).slot_at(&[level])));
        match given {
            Some(Value::Text(title)) if !title.is_empty() => title.to_string(),
            _ => spec.level(level).title().to_owned(),
        }
    }

    /// Gives up everything that is kept for levels that are not made any more.
    pub(super) fn clear_removed(&mut self, changes: &mut Vec<Change>) {
        let spec = self.model.clone();
        if self.state.position.level().is_some_and(|level| !self.state.has_level(&spec, level)) {
            self.end_visit(changes);
        }
        for (field, slot) in self.state.without_level(&spec) {
            self.back_to_default(spec.field(field), slot, changes);
        }
    }

    fn free_level(&self) -> Result<u32, MadeLevelError> {
        if self.is_closed() {
            return Err(MadeLevelError::Closed);
        }
        let spec = &*self.model;
        let mut levels = spec.made_levels.clone();
        let max = levels.len() as u32;
        if max == 0 {
            return Err(MadeLevelError::NoneInGame);
        }
        levels.find(|level| !self.state.has_level(spec, *level)).ok_or(MadeLevelError::Full { max })
    }

    fn made_level(&self, name: &str) -> Result<u32, MadeLevelError> {
        if self.is_closed() {
            return Err(MadeLevelError::Closed);
        }
        let spec = &*self.model;
        let unknown = |nearest| MadeLevelError::UnknownLevel { name: name.to_owned(), nearest };
        let level = spec.find_level(name).map_err(unknown)?;
        if !spec.is_made_level(level) {
            return Err(MadeLevelError::Shipped { level: name.to_owned() });
        }
        if !self.state.has_level(spec, level) {
            return Err(MadeLevelError::NotMade { level: name.to_owned() });
        }
        Ok(level)
    }
}

/// The value that a field takes from an exported level, whole and inside its limits.
fn fitting(field: &Field, tree: &Tree) -> Result<Value, String> {
    let mut misfits = Vec::new();
    let value =
        decode(tree, &field.ty, "", &mut |inside, why| misfits.push(format!("{inside} {why}").trim().to_owned()));
    match value.filter(|_| misfits.is_empty()) {
        None => Err(match misfits.is_empty() {
            true => format!("it is {}, and a value of type {} is wanted", tree.kind(), field.type_name()),
            false => misfits.join("; "),
        }),
        Some(value) => match field.limits.clamp(value) {
            (value, false) => Ok(value),
            (_, true) => Err("it lies outside the limits of the field".into()),
        },
    }
}
