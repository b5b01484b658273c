//! What stands in the box of a level.

use super::graph::{LevelMap, MapLevel};
use super::wording::wrapped;

/// A line in the box of a level.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Line {
    pub kind: LineKind,
    pub text: String,
}

/// Describes what a line tells.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum LineKind {
    Title,
    /// Says where the player is.
    Here,
    /// Says what is needed or missing.
    Needs,
    /// That it can never open.
    Warning,
    /// Says what the player has there, which checkpoints there are, or that the game does not show it at first.
    Quiet,
    /// Says where else a way leads, or comes from.
    Elsewhere,
}

/// A box names at most 2 ways that no line shows.
const MOST_ELSEWHERE: usize = 2;

/// One thing takes at most 3 lines.
const MOST_ROWS: usize = 3;

/// The lines of a level's box, the most telling first. `room` is how many characters of usual text fit into one.
pub(super) fn lines(map: &LevelMap, unlinked: &[usize], index: usize, room: usize) -> Vec<Line> {
    let level = &map.levels[index];
    let mut lines = vec![Line { kind: LineKind::Title, text: titled(level) }];
    // What does not fit into one line goes on in the next, up to a limit; what is left then is cut where it is drawn.
    let mut say = |kind, text: String| {
        lines.extend(wrapped(&text, room, MOST_ROWS).into_iter().map(|text| Line { kind, text }));
    };
    if level.unreachable {
        say(LineKind::Warning, "can never open".into());
    }
    match &level.player {
        Some(player) => {
            if let Some(checkpoint) = &player.here {
                let at = checkpoint.as_ref().map(|name| format!(" at {name}")).unwrap_or_default();
                say(LineKind::Here, format!("▶ here{at}"));
            }
            match &player.why {
                Some(why) => say(LineKind::Needs, why.clone()),
                None => {
                    let values: Vec<String> =
                        player.values.iter().map(|(name, value)| together(&format!("{name} {value}"))).collect();
                    if !values.is_empty() {
                        say(LineKind::Quiet, values.join(", "));
                    }
                }
            }
        }
        None => {
            if let Some(needs) = &level.needs {
                say(LineKind::Needs, format!("needs {needs}"));
            }
            if !level.checkpoints.is_empty() {
                say(LineKind::Quiet, level.checkpoints.join(" · "));
            }
        }
    }
    if level.player.is_none() && map.ways.iter().filter(|way| way.to == index && way.either).count() > 1 {
        say(LineKind::Quiet, "one way in is enough".into());
    }
    if level.hidden.is_some() && level.player.is_none() {
        say(LineKind::Quiet, "hidden at first".into());
    }
    let elsewhere: Vec<String> = unlinked
        .iter()
        .map(|way| &map.ways[*way])
        .filter_map(|way| {
            let other = |level: usize| map.levels[level].title.as_str();
            let exit = way.exit().map(|exit| format!("{exit} ")).unwrap_or_default();
            match (way.from == index, way.to == index) {
                (true, true) => Some(format!("{exit}↻ itself")),
                (true, false) => Some(format!("{exit}→ {}", other(way.to))),
                // A way that leads back is told where it begins.
                (false, true) if way.from < way.to => Some(format!("← {}", other(way.from))),
                (false, _) => None,
            }
        })
        .collect();
    let more = elsewhere.len().saturating_sub(MOST_ELSEWHERE);
    for text in elsewhere.into_iter().take(MOST_ELSEWHERE) {
        say(LineKind::Elsewhere, text);
    }
    if more > 0 {
        say(LineKind::Elsewhere, format!("and {more} more"));
    }
    lines
}

/// A text that is not broken into lines.
fn together(text: &str) -> String {
    text.replace(' ', "\u{a0}")
}

/// The title, behind the sign of how the level stands.
fn titled(level: &MapLevel) -> String {
    match &level.player {
        Some(player) => format!("{} {}", player.standing.sign(), level.title),
        None => level.title.clone(),
    }
}
