//! Levels and what leads from one to the other.

use std::collections::{HashMap, HashSet};

use vestigum_core::{LockReason, Progress, Spec, Value};
use vestigum_spec::model::level::Opening;
use vestigum_spec::vocabulary::place::Place;
use vestigum_verify::lint::never_open;

use super::wording;

/// The levels of a spec, what opens which, and where a player stands.
#[derive(Clone, Debug, PartialEq)]
pub struct LevelMap {
    /// The title of the game.
    pub title: String,
    /// The levels, in the order of the spec; those that a player made come last.
    pub levels: Vec<MapLevel>,
    /// Says what leads from one level to another.
    pub ways: Vec<Way>,
    /// Whether a player's progress is shown on it.
    pub has_player: bool,
}

/// A level of the map.
#[derive(Clone, Debug, PartialEq)]
pub struct MapLevel {
    /// Its id.
    pub id: String,
    /// Says what players call it.
    pub title: String,
    /// Its checkpoints, in the order of the way.
    pub checkpoints: Vec<String>,
    /// When it opens, as the spec says it, if the spec says a condition.
    pub opens: Option<String>,
    /// Says what a newcomer still needs besides other levels, in a few words: "4 stars".
    pub needs: Option<String>,
    /// When the overview of the game does not show it, as the spec says it.
    pub hidden: Option<String>,
    /// Whether it can never open, whatever is played.
    pub unreachable: bool,
    /// Says how it stands for the player whose progress is shown.
    pub player: Option<PlayerLevel>,
}

/// Describes how a level stands for one player.
#[derive(Clone, Debug, PartialEq)]
pub struct PlayerLevel {
    /// Open, completed or locked.
    pub standing: Standing,
    /// Says what is missing, if it is locked.
    pub why: Option<String>,
    /// Whether the player is in it, and at which checkpoint.
    pub here: Option<Option<String>>,
    /// Says what the player has in it: each value that is there, with its name.
    pub values: Vec<(String, String)>,
}

/// Whether a player may enter a level.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// It was completed, and may be entered again.
    Completed,
    /// It may be entered.
    Open,
    /// It may not be entered yet.
    Locked,
}

impl Standing {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Standing::Completed => "completed",
            Standing::Open => "open",
            Standing::Locked => "locked",
        }
    }

    /// The sign for it.
    pub fn sign(self) -> &'static str {
        match self {
            Standing::Completed => "✓",
            Standing::Open => "○",
            Standing::Locked => "×",
        }
    }
}

/// Describes what leads from one level to another.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way {
    /// The index of the level where it begins.
    pub from: usize,
    /// The index of the level where it ends.
    pub to: usize,
    /// Says what it is.
    pub kind: WayKind,
    /// Whether another way may do instead.
    pub either: bool,
}

/// Describes what a way between levels is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WayKind {
    /// Completing the one opens the other, as far as levels are asked for.
    Opens,
    /// Leaving the one by this exit opens the other and leads to it.
    Exit(String),
    /// Completing the one leads to the other, which something else opens.
    LeadsOn,
}

impl LevelMap {
    /// The map of a spec, for a newcomer.
    ///
    /// ```
    /// use vestigum_core::Spec;
    /// use vestigum_report::level_map::{LevelMap, WayKind};
    ///
    /// let spec = Spec::from_toml(r#"
    ///     [game]
    ///     id = "fellpost"
    ///     [levels]
    ///     order = ["mill_lane", "tarn_steps"]
    ///     [level.mill_lane]
    ///     title = "Mill Lane"
    /// "#)?;
    /// let map = LevelMap::of(&spec);
    /// assert_eq!(map.levels[0].title, "Mill Lane");
    /// assert_eq!((map.ways[0].from, map.ways[0].to, &map.ways[0].kind), (0, 1, &WayKind::Opens));
    /// # Ok::<(), vestigum_core::Diagnostics>(())
    /// ```
    pub fn of(spec: &Spec) -> LevelMap {
        let fresh = Progress::fresh(spec);
        let never: HashSet<String> = never_open(spec).into_iter().collect();
        let shipped = spec.model().shipped_levels();
        let ids: HashMap<&str, usize> = shipped.iter().enumerate().map(|(index, level)| (level.id(), index)).collect();
        let index = |id: &str| ids.get(id).copied();
        // The exits by the level that they lead to, in the order of the levels where they begin.
        let mut exits: Vec<Vec<(usize, &str)>> = vec![Vec::new(); shipped.len()];
        for (from, level) in shipped.iter().enumerate() {
            for (exit, to) in &level.exits {
                if let Some(exits) = exits.get_mut(*to as usize) {
                    exits.push((from, exit));
                }
            }
        }
        let mut levels = Vec::new();
        let mut ways: Vec<Way> = Vec::new();
        for (to, level) in shipped.iter().enumerate() {
            let lock = fresh.full_lock_reason(level.id()).ok().flatten();
            // The ways to this level.
            let mut here: Vec<Way> = Vec::new();
            if let Some(lock) = &lock {
                ways_of(lock, to, false, &index, &mut here);
            }
            // A level that is open at once may still be where an exit leads.
            for (from, exit) in &exits[to] {
                let kind = WayKind::Exit((*exit).to_owned());
                if !here.iter().any(|way| way.from == *from && way.kind == kind) {
                    here.push(Way { from: *from, to, kind, either: false });
                }
            }
            ways.extend(here);
            let opens = match &spec.model().openings[to] {
                Opening::When(condition) => Some(condition.source().to_owned()),
                Opening::Always | Opening::After(_) | Opening::ByExit | Opening::Made => None,
            };
            levels.push(MapLevel {
                id: level.id().to_owned(),
                title: level.title().to_owned(),
                checkpoints: level.checkpoints().map(str::to_owned).collect(),
                opens,
                needs: lock.as_ref().and_then(wording::besides_levels),
                hidden: spec.model().hidden[to].as_ref().map(|hidden| hidden.source().to_owned()),
                unreachable: never.contains(level.id()),
                player: None,
            });
        }
        let led: HashSet<(usize, usize)> = ways.iter().map(|way| (way.from, way.to)).collect();
        for (from, level) in shipped.iter().enumerate() {
            let next = level.next.map(|next| next as usize).filter(|next| *next < levels.len());
            if let Some(to) = next.filter(|to| !led.contains(&(from, *to))) {
                ways.push(Way { from, to, kind: WayKind::LeadsOn, either: false });
            }
        }
        LevelMap { title: spec.title().to_owned(), levels, ways, has_player: false }
    }

    /// Draws the map with a player on it: where they are, and how each level stands for them. The levels that they made come last.
    pub fn with_player(spec: &Spec, progress: &Progress) -> LevelMap {
        let mut map = LevelMap::of(spec);
        map.has_player = true;
        let place = progress.place();
        for row in progress.full_board() {
            let why = progress.full_lock_reason(&row.level).ok().flatten().map(|lock| lock.to_string());
            let standing = match (row.completed, row.open) {
                (true, _) => Standing::Completed,
                (false, true) => Standing::Open,
                (false, false) => Standing::Locked,
            };
            let here = match &place {
                Place::InLevel { level, checkpoint } if *level == row.level => {
                    Some(checkpoint.as_ref().map(ToString::to_string))
                }
                Place::InLevel { .. } | Place::Menu | Place::RunOver => None,
            };
            // A value at its default says nothing.
            let at_default =
                |name: &str, value: &Value| spec.fields().any(|field| field.name() == name && field.default() == value);
            let values = row.values.iter().filter(|(name, value)| value.is_filled() && !at_default(name, value));
            let player = Some(PlayerLevel {
                standing,
                why,
                here,
                values: values.map(|(name, value)| (name.to_string(), in_short(value))).collect(),
            });
            match map.levels.iter_mut().find(|level| level.id == *row.level) {
                Some(level) => level.player = player,
                None => map.levels.push(MapLevel {
                    id: row.level.to_string(),
                    title: row.title,
                    checkpoints: Vec::new(),
                    opens: None,
                    needs: None,
                    hidden: None,
                    unreachable: false,
                    player,
                }),
            }
        }
        map
    }
}

/// A value in a few characters: of a container how much is in it.
fn in_short(value: &Value) -> String {
    if value.is_container() { value.brief() } else { value.to_string() }
}

/// The levels that a lock names, as ways from them.
fn ways_of(lock: &LockReason, to: usize, either: bool, index: &impl Fn(&str) -> Option<usize>, ways: &mut Vec<Way>) {
    let (level, kind) = match lock {
        LockReason::All(parts) => return parts.iter().for_each(|part| ways_of(part, to, either, index, ways)),
        LockReason::Any(parts) => return parts.iter().for_each(|part| ways_of(part, to, true, index, ways)),
        LockReason::Complete { level, .. } => (level, WayKind::Opens),
        LockReason::Exit { level, exit, .. } => (level, WayKind::Exit(exit.to_string())),
        LockReason::Needs { .. }
        | LockReason::Condition { .. }
        | LockReason::Hidden
        | LockReason::NotMade
        | LockReason::Soon => return,
    };
    if let Some(from) = index(level) {
        let way = Way { from, to, kind, either };
        if !ways.contains(&way) {
            ways.push(way);
        }
    }
}
