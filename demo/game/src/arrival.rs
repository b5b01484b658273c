//! A path was completed: what that came to, and the name of the carrier for the ranking.

use ratatui::crossterm::event::KeyCode;
use ratatui::prelude::*;
use vestigum::{Outcome, Session};

use crate::board::ranking;
use crate::look::{Ink, Look, Typed, clock, stars};
use crate::progress::{self as p, Level};
use crate::{Go, Trouble};

/// The longest name in a ranking, as the spec says.
const NAME: usize = 12;

pub(crate) struct Arrival {
    level: Level,
    outcome: Box<Outcome>,
    /// The place in the ranking, counted from 0, until it has a name.
    unnamed: Option<usize>,
    name: Typed,
}

impl Arrival {
    pub(crate) fn new(game: &Session, level: Level, outcome: Box<Outcome>) -> Arrival {
        let unnamed = outcome.ranked.iter().find_map(|ranked| ranked.ranked.place()).map(|place| place - 1);
        Arrival { level, outcome, unnamed, name: Typed::new(game.profile(), NAME) }
    }

    /// The path to which this one leads.
    pub(crate) fn next(&self) -> Option<&str> {
        self.outcome.next_level()
    }

    pub(crate) fn key(&mut self, game: &mut Session, key: KeyCode) -> Result<Go, Trouble> {
        match (self.unnamed, key) {
            (Some(place), KeyCode::Enter) => {
                let name = self.name.text.clone();
                game.list_mut(p::BEST_WALKS.at(self.level)).update(place, |walk| walk.carrier = name)?;
                game.save();
                self.unnamed = None;
            }
            (Some(_), key) => self.name.key(key),
            (None, KeyCode::Enter | KeyCode::Esc) => return Ok(Go::On),
            (None, _) => {}
        }
        Ok(Go::Stay)
    }

    pub(crate) fn draw(&self, game: &Session, look: Look, frame: &mut Frame<'_>, area: Rect) {
        let stars = stars(game.get(p::STARS.at(self.level)));
        let mut drawn = vec![Line::default(), look.line(Ink::LIGHT, format!("   {stars}")), Line::default()];
        for record in self.outcome.records() {
            let name = record.field.replace('_', " ");
            let shown =
                |value: &vestigum::Value| match &*record.field == "best_time" && !value.to_string().starts_with("no") {
                    true => clock(value.as_int()),
                    false => value.to_string(),
                };
            drawn.push(
                look.line(
                    Ink::GOOD,
                    format!(" record  {name:<26} {} → {}", shown(&record.before), shown(&record.after)),
                ),
            );
        }
        for level in &self.outcome.opened {
            let title = level.parse::<Level>().map_or("?", Level::title);
            drawn.push(look.line(Ink::STRONG, format!(" open    {title}")));
        }
        drawn.push(Line::default());
        if let Some(place) = self.unnamed {
            drawn.push(look.line(Ink::PLAIN, format!(" Place {} of the ranking. Your name:", place + 1)));
            drawn.push(Line::from(vec![look.text(Ink::PLAIN, "   "), self.name.drawn(look)]));
            drawn.push(look.keys(&[("enter", "write it")]));
        } else {
            drawn.extend(ranking(game, self.level, look));
            drawn.push(Line::default());
            drawn.push(look.keys(&[("enter", "to the paths")]));
        }
        look.note(frame, area, (60, 22), &format!("{}: arrived", self.level.title()), drawn);
    }
}
