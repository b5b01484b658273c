//! The level overview: what is open, what is not and why, and the records of the chosen path.

use ratatui::crossterm::event::KeyCode;
use ratatui::prelude::*;
use vestigum::{BoardRow, LockReason, Session};

use crate::desk::Desk;
use crate::look::{Ink, Look, clock, lines, stars};
use crate::progress::{self as p, Level};
use crate::{Go, Trouble};

pub(crate) struct Board {
    chosen: usize,
    /// Says what lies over the board.
    desk: Option<Desk>,
    pub(crate) news: String,
}

impl Board {
    /// The board with a path chosen, if it is on it.
    pub(crate) fn at(game: &Session, level: Option<&str>, news: impl Into<String>) -> Board {
        let chosen = game.board().iter().position(|row| Some(&*row.level) == level).unwrap_or(0);
        Board { chosen, desk: None, news: news.into() }
    }

    pub(crate) fn key(&mut self, game: &mut Session, key: KeyCode) -> Result<Go, Trouble> {
        let rows = game.board();
        if let Some(desk) = &mut self.desk {
            if desk.key(game, key)? {
                self.desk = None;
                self.chosen = self.chosen.min(game.board().len().saturating_sub(1));
            }
            return Ok(Go::Stay);
        }
        let Some(row) = rows.get(self.chosen) else { return Ok(Go::Stay) };
        match key {
            KeyCode::Up | KeyCode::Char('w') => self.chosen = self.chosen.saturating_sub(1),
            KeyCode::Down | KeyCode::Char('s') => self.chosen = (self.chosen + 1).min(rows.len() - 1),
            KeyCode::Enter => match &row.lock {
                Some(why) => self.news = format!("{} is closed: {why}.", row.title),
                None => {
                    game.enter(&row.level)?;
                    return Ok(Go::On);
                }
            },
            KeyCode::Char('o') => self.desk = Some(Desk::Settings),
            KeyCode::Char('p') => self.desk = Some(Desk::post_office(game)?),
            KeyCode::Char('r') => self.desk = Some(Desk::resets(row.level.parse()?)),
            KeyCode::Char('q') | KeyCode::Esc => return Ok(Go::Home),
            _ => {}
        }
        Ok(Go::Stay)
    }

    pub(crate) fn draw(&self, game: &Session, look: Look, frame: &mut Frame<'_>, area: Rect) {
        let [above, below] = area.layout(&Layout::vertical([Constraint::Min(0), Constraint::Length(2)]));
        let [left, right] = above.layout(&Layout::horizontal([Constraint::Length(46), Constraint::Min(0)]));
        let board = game.board();
        let room = look.frame(frame, left, &format!("{}'s round", game.profile()));
        lines(frame, room, self.rows(game, &board, look));
        if let Some(row) = board.get(self.chosen) {
            let room = look.frame(frame, right, &format!("Best of {}", row.title));
            lines(frame, room, records(game, row, look));
        }
        let keys = [("enter", "walk"), ("p", "post office"), ("o", "options"), ("r", "reset"), ("q", "go home")];
        let said = vec![look.line(Ink::LIGHT, self.news.clone()), look.keys(&keys)];
        lines(frame, Rect { x: below.x + 1, width: below.width.saturating_sub(2), ..below }, said);
        if let Some(desk) = &self.desk {
            desk.draw(game, look, frame, area);
        }
    }

    /// Each path with its stars; a closed one with what it waits for.
    fn rows<'a>(&self, game: &Session, board: &[BoardRow], look: Look) -> Vec<Line<'a>> {
        let mut drawn = Vec::new();
        for (number, row) in board.iter().enumerate() {
            let ink = match (number == self.chosen, &row.lock) {
                (true, _) => Ink::CHOSEN,
                (false, Some(_)) => Ink::DIM,
                (false, None) => Ink::STRONG,
            };
            let (sign, sign_ink) = match (&row.lock, row.completed) {
                (Some(_), _) => ("╳", Ink::BAD),
                (None, true) => ("●", Ink::GOOD),
                (None, false) => ("○", Ink::LIGHT),
            };
            let level: Option<Level> = row.level.parse().ok();
            let earned = level.map_or_else(String::new, |level| stars(game.get(p::STARS.at(level))));
            let best = level.and_then(|level| game.get(p::BEST_TIME.at(level))).map_or_else(String::new, clock);
            drawn.push(Line::from(vec![
                look.text(sign_ink, format!(" {sign} ")),
                look.text(ink, format!(" {:<16}", row.title)),
                look.text(Ink::LIGHT, format!("  {earned}")),
                look.text(Ink::DIM, format!("  {best:>8}")),
            ]));
            // One line, and a path leads on to the next.
            let why = row.lock.as_ref().map(|why| fitted(&why.to_string(), 36)).unwrap_or_default();
            let way = if number + 1 < board.len() { "┊" } else { " " };
            drawn.push(Line::from(vec![look.text(Ink::DIM, format!(" {way}    ")), look.text(Ink::BAD, why)]));
        }
        drawn.push(Line::default());
        let (total, done) = (game.get(p::TOTAL_STARS), game.get(p::PATHS_DONE));
        drawn.push(Line::from(
            look.text(Ink::PLAIN, format!(" paths {done}, stars {total}, falls {}", game.get(p::FALLS))),
        ));
        let (stamps, score, best) = (game.get(p::STAMPS), game.get(p::SCORE), game.get(p::BEST_SCORE));
        drawn.push(look.line(Ink::PLAIN, format!(" stamps {stamps}, score {score} (best {best})")));
        let lanterns = "☼".repeat(usize::try_from(game.get(p::LANTERNS)).unwrap_or(0));
        drawn.push(look.line(Ink::LIGHT, format!(" {lanterns}")));
        drawn
    }
}

/// A text that is too long ends with a sign of it.
fn fitted(text: &str, width: usize) -> String {
    match text.chars().count() > width {
        true => text.chars().take(width - 1).chain(['…']).collect(),
        false => text.to_owned(),
    }
}

/// The records of a path, and all that a closed one waits for, line by line.
fn records<'a>(game: &Session, row: &BoardRow, look: Look) -> Vec<Line<'a>> {
    let Ok(level) = row.level.parse::<Level>() else { return Vec::new() };
    let (stars, best) = (stars(game.get(p::STARS.at(level))), game.get(p::BEST_LETTERS.at(level)));
    let mut drawn = vec![look.line(Ink::LIGHT, format!("{stars}  {best} letters")), Line::default()];
    if game.list(p::BEST_WALKS.at(level)).is_empty() {
        drawn.push(look.line(Ink::DIM, "Nobody has walked it yet."));
    }
    drawn.extend(ranking(game, level, look));
    let waits: Vec<String> = match &row.lock {
        None => return drawn,
        Some(LockReason::All(reasons)) => reasons.iter().map(ToString::to_string).collect(),
        Some(one) => vec![one.to_string()],
    };
    drawn.extend([Line::default(), look.line(Ink::BAD, "Closed until you")]);
    drawn.extend(waits.into_iter().map(|wait| look.line(Ink::PLAIN, format!("  {wait}"))));
    drawn
}

/// The best walks of a path.
pub(crate) fn ranking<'a>(game: &Session, level: Level, look: Look) -> Vec<Line<'a>> {
    let row = |(number, walk): (usize, p::Walk)| {
        let carrier = if walk.carrier.is_empty() { "–" } else { &walk.carrier };
        let shown = format!("{}  {carrier:<12} {:>4} {:>8}", number + 1, walk.letters, clock(walk.time));
        look.line(Ink::PLAIN, shown)
    };
    game.list(p::BEST_WALKS.at(level)).iter().enumerate().map(row).collect()
}
