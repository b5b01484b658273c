//! How a walk is drawn.

use ratatui::prelude::*;
use vestigum::Session;

use crate::look::{Ink, Look, clock, lines, stars};
use crate::path::{Spot, Tile};
use crate::progress::{self as p};
use crate::walk::Walk;

pub(crate) fn draw(walk: &Walk, game: &Session, look: Look, frame: &mut Frame<'_>, area: Rect) {
    let [above, below] = area.layout(&Layout::vertical([Constraint::Length(14), Constraint::Min(0)]));
    let [left, right] = above.layout(&Layout::horizontal([Constraint::Length(62), Constraint::Min(0)]));
    let room = look.frame(frame, left, walk.level.title());
    frame.render_widget(ratatui::widgets::Paragraph::new(tiles(walk, game, look)), room);
    let room = look.frame(frame, right, "Bag");
    lines(frame, room, bag(walk, game, look));
    let mut said = vec![look.line(Ink::LIGHT, walk.news.clone()), Line::default()];
    if game.get(p::TIPS) {
        said.extend(tips(look));
    }
    said.push(look.keys(&[("arrows", "walk"), ("space, arrow", "jump over a tile"), ("p", "pause")]));
    lines(frame, Rect { x: below.x + 1, width: below.width.saturating_sub(2), ..below }, said);
    if walk.paused {
        let rows = [
            ("enter", "walk on"),
            ("r", "begin the path again"),
            ("g", "give the path up"),
            ("h", "go home: save, and the title"),
        ];
        let mut rows: Vec<Line<'_>> = rows.iter().map(|row| look.keys(&[*row])).collect();
        rows.push(look.line(Ink::DIM, "r and g cost what a fall costs, but no lantern"));
        look.note(frame, left, (52, 8), "Pause", rows);
    }
}

fn tiles<'a>(walk: &Walk, game: &Session, look: Look) -> Vec<Line<'a>> {
    let mut rows: Vec<Vec<Span<'a>>> = Vec::new();
    let (delivered, reached) = (game.set_of(p::DOORS), walk.reached(game));
    for (spot, _) in walk.path.tiles() {
        if rows.len() <= spot.y {
            rows.push(Vec::new());
        }
        let (sign, ink) = match walk.tile(spot) {
            Tile::Ground => ("·", Ink::DIM),
            Tile::Rock => ("▒", Ink::ROCK),
            Tile::Water => ("≈", Ink::WATER),
            Tile::Plank => ("=", Ink::WOOD),
            Tile::Door(door) if delivered.contains(&door) => ("∙", Ink::GOOD),
            Tile::Door(_) => ("✉", Ink::LIGHT),
            Tile::Checkpoint(number) if reached == Some(number) => ("⚑", Ink::GOOD),
            Tile::Checkpoint(_) => ("⚐", Ink::STRONG),
            Tile::Gate(gate) if game.get(p::GATE_OPEN.at(gate)) && !walk.waits() => ("┆", Ink::GOOD),
            Tile::Gate(_) => ("╫", Ink::BAD),
            Tile::Lantern if game.get(p::LANTERN_FOUND.at(walk.level)) => ("·", Ink::DIM),
            Tile::Lantern => ("☼", Ink::LIGHT),
            Tile::Exit => ("⌂", Ink::GOOD),
            Tile::Cellar if game.get(p::KNOWS_CELLAR) => ("∩", Ink::GOOD),
            Tile::Cellar => ("▒", Ink::ROCK),
        };
        let (sign, ink) = match on(walk, spot) {
            Some(above) => above,
            None => (sign, ink),
        };
        rows[spot.y].push(look.text(ink, sign));
    }
    rows.into_iter().map(Line::from).collect()
}

/// Whoever stands on a tile.
fn on(walk: &Walk, spot: Spot) -> Option<(&'static str, Ink)> {
    match walk.at == spot {
        true => Some((if walk.ready { "☺" } else { "☻" }, Ink::CARRIER)),
        false => walk.sheep.iter().any(|(sheep, _)| *sheep == spot).then_some(("ω", Ink::STRONG)),
    }
}

fn bag<'a>(walk: &Walk, game: &Session, look: Look) -> Vec<Line<'a>> {
    let row = |name: &str, value: String| {
        Line::from(vec![look.text(Ink::DIM, format!("{name:<8}")), look.text(Ink::STRONG, value)])
    };
    let letters = game.get(p::LETTERS);
    let best = game.get(p::BEST_TIME.at(walk.level)).map_or_else(|| "–".into(), clock);
    vec![
        row("letters", format!("{letters}")),
        row("", format!("{} of {}", game.set_of(p::DOORS).len(), walk.path.doors)),
        row("best", format!("{}", game.get(p::BEST_LETTERS.at(walk.level)))),
        row("", stars(game.get(p::STARS.at(walk.level)))),
        row("time", clock(game.get(p::TIME))),
        row("best", best),
        row("score", format!("{}", game.get(p::SCORE))),
        row("streak", format!("{}", game.get(p::STREAK))),
        row("stamps", format!("{}", game.get(p::STAMPS))),
        row("today", format!("{}", game.get(p::TODAY))),
        Line::default(),
        look.line(Ink::LIGHT, "☼".repeat(usize::try_from(game.get(p::LANTERNS)).unwrap_or(0))),
    ]
}

fn tips<'a>(look: Look) -> [Line<'a>; 2] {
    let row = |signs: &[(Ink, &str, &str)]| {
        let sign = |(ink, sign, means): &(Ink, &str, &str)| {
            [look.text(*ink, format!("{sign} ")), look.text(Ink::DIM, format!("{means}   "))]
        };
        Line::from(signs.iter().flat_map(sign).collect::<Vec<_>>())
    };
    let door = (Ink::LIGHT, "✉", "a door waits for letters");
    let (gate, out) = ((Ink::BAD, "╫", "gate, for stamps"), (Ink::GOOD, "⌂", "the way out"));
    let (flag, lantern) = ((Ink::STRONG, "⚐", "checkpoint"), (Ink::LIGHT, "☼", "lantern"));
    [
        row(&[door, (Ink::WATER, "≈", "water: jump over it"), (Ink::WOOD, "=", "a plank holds once")]),
        row(&[flag, (Ink::STRONG, "ω", "sheep"), lantern, gate, out]),
    ]
}
