//! Levels that older versions exported: they go the way of the saves of their version.

use std::collections::BTreeMap;

use crate::image::{Image, SavedPlace};
use crate::loading::load;
use crate::progress::made::{Exported, MadeLevelError};
use crate::spec::Spec;
use vestigum_spec::value::tree::{Moved, Tree, Values};
use vestigum_spec::vocabulary::owner::Owner;

impl Spec {
    /// Brings a level that an older version exported ([`Progress::export_level`](crate::Progress::export_level)) to the spec's version, as the migrations bring saves.
    /// The text of a level of this version, or of a newer one, comes back as it is. A session does this by itself.
    ///
    /// # Errors
    /// If the text is no exported level, was changed, or is of another game; if its version was never frozen, or was frozen
    /// without levels that players make; and if a value of it would be dropped or brought inside, though no step says so.
    ///
    /// # Example
    ///
    /// ```
    /// use vestigum_core::{History, Progress, Spec};
    ///
    /// let spec = |version: u8, field: &str, rest: &str| format!("
    ///     [game]
    ///     id = 'fellpost'
    ///     version = {version}
    ///     [levels]
    ///     order = ['mill_lane']
    ///     made = {{ max = 2, carries = ['{field}'] }}
    ///     [field.{field}]
    ///     type = 'text'
    ///     per = 'level'
    ///     lasts = 'profile'
    ///     after_failure = 'keep'
    ///     {rest}");
    /// let first = Spec::from_toml(&spec(1, "tune", ""))?;
    /// let mut ada = Progress::fresh(&first);
    /// let level = ada.make_level()?;
    /// ada.write("tune", &[&*level], "march".into())?;
    /// let post = ada.export_level(&level)?;
    ///
    /// let rename = "[[migration]]\nto = 2\nsteps = [{ rename = 'field', from = 'tune', to = 'song' }]";
    /// let history = History::default().freeze(&first)?.history;
    /// let second = Spec::from_named_toml_with_history("fellpost.toml", &spec(2, "song", rename), history)?;
    /// let mut bo = Progress::fresh(&second);
    /// assert!(bo.import_level(&post).is_err());
    /// let level = bo.import_level(&second.upgrade_level(&post)?)?;
    /// assert_eq!(bo.value("song", &[&*level])?.as_text(), "march");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn upgrade_level(&self, text: &str) -> Result<String, MadeLevelError> {
        let tree = Exported::tree(text)?;
        let exported = Exported::verified(&tree)?;
        let model = self.model();
        exported.of_game(&model.id)?;
        let found = exported.version;
        if found >= model.version {
            return Ok(text.to_owned());
        }
        let unmigrated = |why: String| MadeLevelError::Unmigrated { found, why };
        let old = self.history().and_then(|history| history.model(found));
        let old =
            old.ok_or_else(|| unmigrated("it was never frozen, or the game was built without its history".into()))?;
        let fields = old.made_fields.as_ref().filter(|_| !old.made_levels.is_empty());
        let fields = fields.ok_or_else(|| unmigrated("players made no levels in it".into()))?;
        let level = old.level(old.made_levels.start).id.clone();
        let entry = |tree: Tree| Tree::Map(BTreeMap::from([(level.clone(), tree)]));
        let mut values: Values =
            exported.values.iter().map(|(name, tree)| (name.clone(), entry(tree.clone()))).collect();
        values.insert(old.field(fields.made).name.clone(), entry(Tree::Bool(true)));
        let image = Image {
            game: model.id.to_string(),
            version: found,
            shape: None,
            owner: Owner::Profile("level".into()),
            generation: 0,
            saved_at: String::new(),
            place: SavedPlace::Menu,
            made: BTreeMap::new(),
            values,
            marks: None,
            moved: Moved::new(),
            origin: None,
            blobs: Default::default(),
        };
        let (state, report) = load(self, Some(&image), None).map_err(|error| unmigrated(error.to_string()))?;
        // All of it is taken or nothing.
        if let Some(dropped) = report.dropped.first() {
            return Err(unmigrated(format!("{} would be dropped: {}", dropped.what, dropped.why)));
        }
        if let Some(clamped) = report.clamped.first() {
            return Err(unmigrated(format!("{} would become {}, and is {}", clamped.name, clamped.is, clamped.was)));
        }
        let now = model.made_levels.clone().find(|level| state.has_level(model, *level));
        let now = now.ok_or_else(|| unmigrated("a step drops the level".into()))?;
        Ok(Exported::of(model, |field| state.value(field.slot_at(&[now]))).written())
    }
}
