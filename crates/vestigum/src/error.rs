//! Why a session could not begin.

use std::sync::Arc;

use thiserror::Error;

use vestigum_core::{LoadError, Owner};

use crate::store::StoreError;

/// Describes why a session could not begin or end.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum SessionError {
    /// The store failed.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A session of this process runs for that player already.
    #[error("a session of {owner} runs already; quit it first")]
    AlreadyRunning {
        /// The player.
        owner: Owner,
    },
    /// A session of this process runs on the same store, by another spec.
    #[error("another session of this process uses these saves with another spec; all sessions on a store share one")]
    OtherSpec,
    /// An earlier session of that player in this process handed a save over that is still not durable.
    #[error("the last session's save is not durable yet, so it cannot be loaded: {0}")]
    Unsettled(Arc<StoreError>),
    /// The newest image cannot be loaded by this game. Nothing was overwritten.
    #[error(transparent)]
    Load(#[from] LoadError),
    /// A newer game wrote the newest image. Nothing was overwritten.
    #[error(
        "generation {generation} of {owner} has format {format}, which a newer version of the game wrote; update the game to play on, nothing was overwritten"
    )]
    NewerFormat {
        /// Whose image.
        owner: Owner,
        /// Its generation.
        generation: u64,
        /// Its format.
        format: i64,
    },
    /// The player was deleted. Nothing was overwritten.
    #[error("{owner} was deleted; it can be brought back, and purged to use the name again")]
    Deleted {
        /// The player.
        owner: Owner,
    },
    /// An update moves values of the player to the device, and a roster has none to keep them. Nothing was overwritten.
    #[error(
        "an update moves values of {owner} to the device, and a server has none to keep them; let the update give them to another field of the player"
    )]
    MovesToDevice {
        /// The player.
        owner: Owner,
    },
    /// The game merges saves of several places, so what a tool writes has to say what it changed, and only the spec tells. Nothing was
    /// written.
    #[error(
        "the saves of {owner} say what each installation gave to them; name the spec, so that this change is told, too"
    )]
    NeedsSpec {
        /// Whose saves.
        owner: Owner,
    },
    /// There are images, and none can be read. Nothing was overwritten.
    #[error("no save of {owner} can be read:{}\nnothing was overwritten; `saves verify` tells more, and a game begins anew only if it is asked to", damaged_list(.damaged))]
    AllDamaged {
        /// Whose images.
        owner: Owner,
        /// The generations and what is wrong with each.
        damaged: Vec<(u64, String)>,
    },
}

fn damaged_list(damaged: &[(u64, String)]) -> String {
    damaged.iter().map(|(generation, why)| format!("\n  generation {generation}: {why}")).collect()
}
