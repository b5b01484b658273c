//! Players: listed, made, copied, renamed, deleted and brought back.
//!
//! Deleting a player writes one more image, which says that the player is deleted; the generations before it stay, and can be
//! brought back, until they are purged. So every change is one commit, and a power cut leaves it done or not begun. A rename is a
//! copy, a deletion and a purge of the old name: it can be used again at once, and has nothing to bring back. Cut short, a rename
//! leaves both names. What a purge leaves is that last image, which holds nothing of the player but the name.

use std::sync::Arc;
use std::time::{Duration, SystemTime};

use thiserror::Error;

use vestigum_core::image::SavedPlace;
use vestigum_core::image::report::Origin;
use vestigum_core::{Image, Owner, Place, Progress, Span, Spec, Value};
use vestigum_spec::model::field::Counts;

use crate::clock::rfc3339;
use crate::error::SessionError;
use crate::recovery::{newest_image, newest_readable};
use crate::saver::{FollowError, Saver, as_play};
use crate::session::Running;
use crate::store::{Patience, Store, StoreError, checked_profile, prune_all};

/// A player, as a title screen lists it.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct Profile {
    /// The name.
    pub name: String,
    /// Whether there is something to play on with.
    pub state: ProfileState,
    /// When it was saved, as the clock of the game told it (RFC 3339); empty if no save can be read.
    pub saved_at: String,
    /// Says where play goes on; of a deleted player, where it went on before.
    pub place: Option<Place>,
    /// The title of the level in which it goes on.
    pub level: Option<String>,
    /// The time played, if a field of the profile counts it everywhere: the first one that the spec names.
    pub played: Option<Duration>,
    /// The picture of where the player is, if a field of the spec is the `thumbnail` and something was written to it.
    pub thumbnail: Option<Arc<[u8]>>,
}

/// Whether there is something to play on with.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ProfileState {
    /// It can be played.
    Saved,
    /// It was deleted and can be brought back.
    Deleted,
    /// No save can be loaded, and why.
    Unreadable(String),
    /// The saves cannot be read now, and why: they may be whole, and a launch is refused until they can be read.
    Unavailable(String),
}

/// Describes why a player was not changed. Nothing was.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum ProfileError {
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The player's saves cannot be used now: a session runs, or none of them can be read.
    #[error(transparent)]
    Session(#[from] SessionError),
    /// There is no such player.
    #[error("there is no player `{}`", .name.escape_debug())]
    Unknown {
        /// The name.
        name: String,
    },
    /// The name is taken.
    #[error("there is a player `{}` already{}", .name.escape_debug(), if *.deleted { ", deleted and not purged" } else { "" })]
    Taken {
        /// The name.
        name: String,
        /// Whether that one is deleted.
        deleted: bool,
    },
    /// Only a deleted player is brought back or purged.
    #[error("the player `{}` is not deleted", .name.escape_debug())]
    NotDeleted {
        /// The name.
        name: String,
    },
}

/// The players of a store: what a title screen offers.
///
/// ```
/// use vestigum::{MemoryStore, ProfileState, Profiles, Saver, Session, Spec};
///
/// let spec = Spec::from_toml("[game]\nid = \"fellpost\"\n[field.xp]\ntype = \"int\"\nlasts = \"profile\"\nafter_failure = \"keep\"")?;
/// let saver = Saver::new(MemoryStore::default());
/// Session::launch(&spec, &saver, "ada")?.quit()?;
///
/// let profiles = Profiles::new(&spec, &saver);
/// profiles.copy("ada", "bo")?;
/// profiles.delete("ada")?;
/// let states: Vec<ProfileState> = profiles.list()?.into_iter().map(|profile| profile.state).collect();
/// assert_eq!(states, [ProfileState::Deleted, ProfileState::Saved]);
/// profiles.restore("ada")?;
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub struct Profiles {
    spec: Spec,
    saver: Saver,
}

impl Profiles {
    /// The players of a store, or of the saver through which sessions reach it.
    pub fn new(spec: &Spec, saver: impl Into<Saver>) -> Profiles {
        Profiles { spec: spec.clone(), saver: saver.into() }
    }

    /// Returns all players, in the order of their names; deleted ones too, until they are purged. One whose saves cannot be read now is
    /// listed as [`ProfileState::Unavailable`], and keeps nobody else from being listed.
    ///
    /// # Errors
    /// If the store cannot tell who has saves.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, ProfileState, Profiles, Saver, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let saver = Saver::new(MemoryStore::default());
    /// let profiles = Profiles::new(&spec, &saver);
    /// # profiles.create("ada")?;
    /// for player in profiles.list()? {
    ///     match player.state {
    ///         ProfileState::Saved => println!("{}: {:?}", player.name, player.level),
    ///         other => println!("{}: {other:?}", player.name),
    ///     }
    /// }
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn list(&self) -> Result<Vec<Profile>, StoreError> {
        let patience = Patience::with(self.saver.store());
        let mut listed = Vec::new();
        for owner in patience.owners()? {
            if let Owner::Profile(name) = owner {
                listed.extend(profile(&patience, &self.spec, &name));
            }
        }
        Ok(listed)
    }

    /// Makes a player who has played nothing. Launching makes one, too, when it saves.
    ///
    /// # Errors
    /// If the name is taken or cannot be one, or the store fails.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Profiles, Saver, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let saver = Saver::new(MemoryStore::default());
    /// let profiles = Profiles::new(&spec, &saver);
    /// profiles.create("ada")?;
    /// assert_eq!(profiles.list()?[0].name, "ada");
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn create(&self, name: &str) -> Result<(), ProfileError> {
        let _changing = self.changing(name)?;
        create(self.saver.store(), &self.spec, name)
    }

    /// Makes a player of that name who has what another has.
    ///
    /// # Errors
    /// If there is nothing to copy, a session of it runs, the name is taken or cannot be one, or the store fails.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Profiles, Saver, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let saver = Saver::new(MemoryStore::default());
    /// let profiles = Profiles::new(&spec, &saver);
    /// # profiles.create("ada")?;
    /// profiles.copy("ada", "bo")?;                 // "save as", with all that ada has
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn copy(&self, from: &str, to: &str) -> Result<(), ProfileError> {
        let _changing = (self.changing(from)?, self.other(from, to)?);
        copy(self.saver.store(), from, to)
    }

    /// Gives a player another name. Older generations are not taken along, and the old name has nothing to bring back: it can be used
    /// again.
    ///
    /// # Errors
    /// As [`Profiles::copy`].
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Profiles, Saver, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let saver = Saver::new(MemoryStore::default());
    /// let profiles = Profiles::new(&spec, &saver);
    /// # profiles.create("ada")?;
    /// profiles.rename("ada", "Ada of the Fells")?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn rename(&self, from: &str, to: &str) -> Result<(), ProfileError> {
        let _changing = (self.changing(from)?, self.other(from, to)?);
        rename(self.saver.store(), &self.spec, from, to)
    }

    /// Deletes a player, who can be brought back until it is purged. One whose saves are all damaged can be deleted, too; nothing of it
    /// can be brought back.
    ///
    /// # Errors
    /// If there is no such player, a session of it runs, its saves cannot be read now, or the store fails.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Profiles, Saver, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let saver = Saver::new(MemoryStore::default());
    /// let profiles = Profiles::new(&spec, &saver);
    /// # profiles.create("ada")?;
    /// profiles.delete("ada")?;
    /// profiles.restore("ada")?;                    // until it is purged
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn delete(&self, name: &str) -> Result<(), ProfileError> {
        let _changing = self.changing(name)?;
        delete(self.saver.store(), &self.spec, name)
    }

    /// Brings a deleted player back.
    ///
    /// # Errors
    /// If the player is not deleted, none of its saves can be read, or the store fails.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Profiles, Saver, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let saver = Saver::new(MemoryStore::default());
    /// let profiles = Profiles::new(&spec, &saver);
    /// # profiles.create("ada")?;
    /// # profiles.delete("ada")?;
    /// profiles.restore("ada")?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn restore(&self, name: &str) -> Result<(), ProfileError> {
        let _changing = self.changing(name)?;
        restore(self.saver.store(), &self.spec, name)
    }

    /// Gives up what is left of a deleted player. The name can be used again.
    ///
    /// # Errors
    /// If the player is not deleted, or the store fails.
    ///
    /// # Example
    ///
    /// ```
    /// # use vestigum::{MemoryStore, Profiles, Saver, Spec};
    /// # let spec = Spec::from_toml(include_str!(concat!(env!("CARGO_MANIFEST_DIR"), "/docs/example.toml")))?;
    /// # let saver = Saver::new(MemoryStore::default());
    /// let profiles = Profiles::new(&spec, &saver);
    /// # profiles.create("ada")?;
    /// profiles.delete("ada")?;
    /// profiles.purge("ada")?;                      // nothing can be brought back
    /// profiles.create("ada")?;
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn purge(&self, name: &str) -> Result<(), ProfileError> {
        let _changing = self.changing(name)?;
        purge(self.saver.store(), name)
    }

    /// No session of that player runs until what this gives is dropped.
    fn changing(&self, name: &str) -> Result<Running, ProfileError> {
        checked_profile(name)?;
        Ok(Running::begin(self.saver.clone(), owner(name))?)
    }

    /// Keeps sessions of a second player from running; it must not be the first.
    fn other(&self, first: &str, name: &str) -> Result<Running, ProfileError> {
        if first == name {
            return Err(ProfileError::Taken { name: name.to_owned(), deleted: false });
        }
        self.changing(name)
    }
}

/// Describes what a store has of a player.
enum Found {
    /// Nothing, or what a purge leaves.
    Nothing,
    Saved(Box<Image>),
    Deleted,
}

fn owner(name: &str) -> Owner {
    Owner::Profile(name.to_owned())
}

fn find(patience: &Patience<'_>, name: &str) -> Result<Found, ProfileError> {
    match newest_readable(patience, &owner(name), &[]) {
        Ok(found) => Ok(found.image.map_or(Found::Nothing, |image| Found::Saved(Box::new(image)))),
        Err(SessionError::Deleted { .. }) => Ok(Found::Deleted),
        Err(error) => Err(error.into()),
    }
}

fn commit(store: &dyn Store, image: &Image) -> Result<(), ProfileError> {
    let follows = Patience::with(store).generations(&image.owner)?.last().copied().unwrap_or(0);
    store.commit(follows, image)?;
    Ok(())
}

/// The newest image of a deleted player in which it was not.
///
/// # Errors
/// If a generation cannot be read now: it may be the one.
fn before_deletion(patience: &Patience<'_>, name: &str) -> Result<Option<Image>, StoreError> {
    let owner = owner(name);
    for generation in patience.generations(&owner)?.into_iter().rev() {
        match patience.read(&owner, generation) {
            Ok(image) if image.place == SavedPlace::Deleted => {}
            Ok(image) => return Ok(Some(image)),
            Err(StoreError::Damaged { .. } | StoreError::NoGeneration { .. }) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(None)
}

fn free(store: &dyn Store, name: &str) -> Result<(), ProfileError> {
    checked_profile(name)?;
    match find(&Patience::with(store), name)? {
        Found::Nothing => Ok(()),
        Found::Saved(_) => Err(ProfileError::Taken { name: name.to_owned(), deleted: false }),
        Found::Deleted => Err(ProfileError::Taken { name: name.to_owned(), deleted: true }),
    }
}

fn saved(store: &dyn Store, name: &str) -> Result<Image, ProfileError> {
    match find(&Patience::with(store), name)? {
        Found::Saved(image) => Ok(*image),
        Found::Nothing | Found::Deleted => Err(ProfileError::Unknown { name: name.to_owned() }),
    }
}

fn deleted(store: &dyn Store, name: &str) -> Result<(), ProfileError> {
    match find(&Patience::with(store), name)? {
        Found::Deleted => Ok(()),
        Found::Saved(_) => Err(ProfileError::NotDeleted { name: name.to_owned() }),
        Found::Nothing => Err(ProfileError::Unknown { name: name.to_owned() }),
    }
}

fn profile(patience: &Patience<'_>, spec: &Spec, name: &str) -> Option<Profile> {
    let (image, state) = match find(patience, name) {
        Ok(Found::Nothing) => return None,
        Ok(Found::Saved(image)) => (Some(*image), ProfileState::Saved),
        Ok(Found::Deleted) => match before_deletion(patience, name) {
            Ok(image) => (image, ProfileState::Deleted),
            Err(error) => (None, ProfileState::Unavailable(error.to_string())),
        },
        Err(ProfileError::Store(error) | ProfileError::Session(SessionError::Store(error))) => {
            (None, ProfileState::Unavailable(error.to_string()))
        }
        Err(error) => (None, ProfileState::Unreadable(error.to_string())),
    };
    let mut listed = Profile {
        name: name.to_owned(),
        state,
        saved_at: String::new(),
        place: None,
        level: None,
        played: None,
        thumbnail: None,
    };
    let Some(image) = image else { return Some(listed) };
    listed.saved_at.clone_from(&image.saved_at);
    match Progress::load(spec, Some(&image), None) {
        Ok(launched) => {
            let place = launched.progress.place();
            listed.level = match &place {
                Place::InLevel { level, .. } => launched.progress.level_title(level),
                Place::Menu | Place::RunOver => None,
            };
            listed.place = Some(place);
            listed.played = played(spec, &launched.progress);
            listed.thumbnail = thumbnail(spec, &launched.progress);
        }
        Err(error) => listed.state = ProfileState::Unreadable(error.to_string()),
    }
    Some(listed)
}

fn played(spec: &Spec, progress: &Progress) -> Option<Duration> {
    let everywhere = spec.fields().find(|field| {
        field.lasts() == Span::Profile && field.counts() == Some(Counts::Everywhere) && field.axes().is_empty()
    })?;
    let ms = progress.value(everywhere.name(), &[]).ok()?.as_int();
    u64::try_from(ms).ok().map(Duration::from_millis)
}

fn thumbnail(spec: &Spec, progress: &Progress) -> Option<Arc<[u8]>> {
    let field = spec.fields().find(|field| field.is_thumbnail())?;
    match progress.value(field.name(), &[]).ok()? {
        Value::Bytes(bytes) if !bytes.is_empty() => Some(bytes),
        _ => None,
    }
}

/// Commits a change of a player as one more save by play, on top of what is there.
fn play(store: &dyn Store, spec: &Spec, image: Image) -> Result<(), ProfileError> {
    let found = newest_image(&Patience::with(store), &image.owner, &[]);
    let (newest, lost) = match found {
        Ok(found) => (found.image, matches!(found.origin, Origin::Recovered { .. })),
        // Nothing of it can be read.
        Err(SessionError::AllDamaged { .. }) => (None, true),
        Err(error) => return Err(error.into()),
    };
    let image = as_play(spec, store, newest.as_ref(), lost, image).map_err(|error| match error {
        FollowError::Load(error) => ProfileError::Session(error.into()),
        FollowError::Store(error) => error.into(),
    })?;
    commit(store, &image)
}

fn create(store: &dyn Store, spec: &Spec, name: &str) -> Result<(), ProfileError> {
    free(store, name)?;
    let mut image = Progress::fresh(spec).suspend().profile_image(name);
    image.saved_at = rfc3339(SystemTime::now());
    play(store, spec, image)
}

fn copy(store: &dyn Store, from: &str, to: &str) -> Result<(), ProfileError> {
    let image = saved(store, from)?;
    free(store, to)?;
    commit(store, &Image { owner: owner(to), ..image })
}

fn rename(store: &dyn Store, spec: &Spec, from: &str, to: &str) -> Result<(), ProfileError> {
    copy(store, from, to)?;
    delete(store, spec, from)?;
    purge(store, from)
}

fn delete(store: &dyn Store, spec: &Spec, name: &str) -> Result<(), ProfileError> {
    let image = match saved(store, name) {
        Err(ProfileError::Session(SessionError::AllDamaged { .. })) => {
            Progress::fresh(spec).suspend().profile_image(name)
        }
        image => image?,
    };
    play(store, spec, image.deleted(rfc3339(SystemTime::now())))
}

fn restore(store: &dyn Store, spec: &Spec, name: &str) -> Result<(), ProfileError> {
    deleted(store, name)?;
    match before_deletion(&Patience::with(store), name)? {
        Some(image) => play(store, spec, image),
        None => Err(ProfileError::Unknown { name: name.to_owned() }),
    }
}

fn purge(store: &dyn Store, name: &str) -> Result<(), ProfileError> {
    deleted(store, name)?;
    let owner = owner(name);
    // The newest one says that the player was deleted, and was read just now.
    let newest = Patience::with(store).generations(&owner)?.last().copied().unwrap_or(0);
    store.remove_before(&owner, newest)?;
    // And the pictures that nobody else has.
    prune_all(store, &owner, 1)?;
    Ok(())
}
