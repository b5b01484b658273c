//! How a walk is drawn.

use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::text::{Line, Span};
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
    let mut said = vec![look.line(Ink::Light, walk.news.clone()), Line::default()];
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
        rows.push(look.line(Ink::Dim, "r and g cost what a fall costs, but no lantern"));
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
            Tile::Ground => ("·", Ink::Dim),
            Tile::Rock => ("▒", Ink::Rock),
            Tile::Water => ("≈", Ink::Water),
            Tile::Plank => ("=", Ink::Wood),
            Tile::Door(door) if delivered.contains(&door) => ("∙", Ink::Good),
            Tile::Door(_) => ("✉", Ink::Light),
            Tile::Checkpoint(number) if reached == Some(number) => ("⚑", Ink::Good),
            Tile::Checkpoint(_) => ("⚐", Ink::Strong),
            Tile::Gate(gate) if game.get(p::GATE_OPEN.at(gate)) && !walk.waits() => ("┆", Ink::Good),
            Tile::Gate(_) => ("╫", Ink::Bad),
            Tile::Lantern if game.get(p::LANTERN_FOUND.at(walk.level)) => ("·", Ink::Dim),
            Tile::Lantern => ("☼", Ink::Light),
            Tile::Exit => ("⌂", Ink::Good),
            Tile::Cellar if game.get(p::KNOWS_CELLAR) => ("∩", Ink::Good),
            Tile::Cellar => ("▒", Ink::Rock),
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
        true => Some((if walk.ready { "☺" } else { "☻" }, Ink::Carrier)),
        false => walk.sheep.iter().any(|(sheep, _)| *sheep == spot).then_some(("ω", Ink::Sheep)),
    }
}

fn bag<'a>(walk: &Walk, game: &Session, look: Look) -> Vec<Line<'a>> {
    let row = |name: &str, value: String| {
        Line::from(vec![look.text(Ink::Dim, format!("{name:<8}")), look.text(Ink::Strong, value)])
    };
    let letters = game.get(p::LETTERS);
    let best = game.get(p::BEST_TIME.at(walk.level)).map_or_else(|| "–".into(), clock);
    vec![
        row("letters", format!("{letters}")),
        row("", format!("{} of {}", letters / 10, walk.path.doors)),
        row("best", format!("{}", game.get(p::BEST_LETTERS.at(walk.level)))),
        row("", stars(game.get(p::STARS.at(walk.level)))),
        row("time", clock(game.get(p::TIME))),
        row("best", best),
        row("score", format!("{}", game.get(p::SCORE))),
        row("streak", format!("{}", game.get(p::STREAK))),
        row("stamps", format!("{}", game.get(p::STAMPS))),
        row("today", format!("{}", game.get(p::TODAY))),
        Line::default(),
        look.line(Ink::Light, "☼".repeat(usize::try_from(game.get(p::LANTERNS)).unwrap_or(0))),
    ]
}

fn tips<'a>(look: Look) -> [Line<'a>; 2] {
    let row = |signs: &[(Ink, &str, &str)]| {
        let sign = |(ink, sign, means): &(Ink, &str, &str)| {
            [look.text(*ink, format!("{sign} ")), look.text(Ink::Dim, format!("{means}   "))]
        };
        Line::from(signs.iter().flat_map(sign).collect::<Vec<_>>())
    };
    let door = (Ink::Light, "✉", "a door waits for letters");
    let (gate, out) = ((Ink::Bad, "╫", "gate, for stamps"), (Ink::Good, "⌂", "the way out"));
    let (flag, lantern) = ((Ink::Strong, "⚐", "checkpoint"), (Ink::Light, "☼", "lantern"));
    [
        row(&[door, (Ink::Water, "≈", "water: jump over it"), (Ink::Wood, "=", "a plank holds once")]),
        row(&[flag, (Ink::Sheep, "ω", "sheep"), lantern, gate, out]),
    ]
}
