//! What lies over the board: settings of the device, the post office with its codes, and resets with a preview.

use ratatui::crossterm::event::KeyCode;
use ratatui::prelude::*;
use vestigum::{Reset, Session};

use crate::Trouble;
use crate::look::{Ink, Look, Typed};
use crate::progress::{self as p, Level, Pace};

/// The longest postcard that can be typed.
const POSTCARD: usize = 40;

pub(crate) enum Desk {
    Settings,
    Post { own: String, typed: Typed, said: String },
    Resets { level: Level, chosen: usize, said: String },
}

/// Returns what can be reset, with what the menu calls it.
fn resets(level: Level) -> [(String, Reset); 5] {
    let ranking = Reset::Field { name: "best_walks".into(), keys: vec![level.name().into()] };
    [
        (format!("the path {}", level.title()), Reset::Level(level.name().into())),
        (format!("the ranking of {}", level.title()), ranking),
        ("this run: score and lanterns".into(), Reset::Run),
        ("this carrier, wholly".into(), Reset::Profile),
        ("the settings of this device".into(), Reset::Device),
    ]
}

impl Desk {
    pub(crate) fn post_office(game: &Session) -> Result<Desk, Trouble> {
        Ok(Desk::Post { own: game.code(p::Code::Postcard)?, typed: Typed::new("", POSTCARD), said: String::new() })
    }

    pub(crate) fn resets(level: Level) -> Desk {
        Desk::Resets { level, chosen: 0, said: String::new() }
    }

    /// Takes a key; true when the desk is left.
    pub(crate) fn key(&mut self, game: &mut Session, key: KeyCode) -> Result<bool, Trouble> {
        if key == KeyCode::Esc {
            // Only what has changed is written: settings, a reset, what a postcard gave.
            game.save();
            return Ok(true);
        }
        match self {
            Desk::Settings => match (key, game.get(p::PACE)) {
                (KeyCode::Char('c'), _) => drop(game.set(p::COLOUR, !game.get(p::COLOUR))?),
                (KeyCode::Char('t'), _) => drop(game.set(p::TIPS, !game.get(p::TIPS))?),
                (KeyCode::Char('s'), Pace::Calm) => drop(game.set(p::PACE, Pace::Brisk)?),
                (KeyCode::Char('s'), Pace::Brisk) => drop(game.set(p::PACE, Pace::Calm)?),
                _ => {}
            },
            Desk::Post { typed, said, .. } => match key {
                KeyCode::Enter => {
                    *said = match game.redeem(p::Code::Postcard, &typed.text) {
                        Ok(redeemed) if redeemed.changes.is_empty() => "It tells nothing new.".into(),
                        Ok(redeemed) => redeemed.changes.iter().map(|change| format!("{change}. ")).collect(),
                        Err(why) => format!("{why}"),
                    };
                }
                key => typed.key(key),
            },
            Desk::Resets { level, chosen, said } => match key {
                KeyCode::Up => (*chosen, *said) = (chosen.saturating_sub(1), String::new()),
                KeyCode::Down => (*chosen, *said) = ((*chosen + 1).min(resets(*level).len() - 1), String::new()),
                KeyCode::Char('y') => {
                    let changes = game.reset(&resets(*level)[*chosen].1)?;
                    *said = format!("Done: {} values were reset.", changes.len());
                }
                _ => {}
            },
        }
        Ok(false)
    }

    pub(crate) fn draw(&self, game: &Session, look: Look, frame: &mut Frame<'_>, area: Rect) {
        match self {
            Desk::Settings => {
                let on = |on: bool| if on { "on" } else { "off" };
                let keys = [
                    ("c", format!("colours {}", on(game.get(p::COLOUR)))),
                    ("s", format!("sheep {}", game.get(p::PACE))),
                    ("t", format!("tips on the way {}", on(game.get(p::TIPS)))),
                    ("esc", "back".into()),
                ];
                look.note(
                    frame,
                    area,
                    (46, 7),
                    "Options, for all who play here",
                    keys.iter().map(|(key, does)| look.keys(&[(key, does)])).collect(),
                );
            }
            Desk::Post { own, typed, said } => {
                let text = |text: &str| look.line(Ink::PLAIN, text.to_owned());
                let drawn = vec![
                    text("Your postcard tells of gates and secret ways. Read it out:"),
                    look.line(Ink::GOOD, format!("   {own}")),
                    Line::default(),
                    text("A postcard from another carrier:"),
                    Line::from(vec![look.text(Ink::PLAIN, "   "), typed.drawn(look)]),
                    look.line(Ink::LIGHT, said.clone()),
                    Line::default(),
                    look.keys(&[("enter", "take it"), ("esc", "back")]),
                ];
                look.note(frame, area, (72, 12), "Post office", drawn);
            }
            Desk::Resets { level, chosen, said } => {
                let mut drawn: Vec<Line<'_>> = Vec::new();
                for (number, (name, _)) in resets(*level).into_iter().enumerate() {
                    let ink = if number == *chosen { Ink::CHOSEN } else { Ink::PLAIN };
                    drawn.push(look.line(ink, format!(" {name:<40} ")));
                }
                drawn.push(Line::default());
                drawn.extend(preview(game, &resets(*level)[*chosen].1, look));
                drawn.push(look.line(Ink::GOOD, said.clone()));
                drawn.push(look.keys(&[("y", "reset"), ("esc", "back")]));
                look.note(frame, area, (72, 20), "Reset, and what it would take", drawn);
            }
        }
    }
}

/// The first values that a reset would take, and how many more.
fn preview<'a>(game: &Session, reset: &Reset, look: Look) -> Vec<Line<'a>> {
    const SHOWN: usize = 8;
    match game.preview_reset(reset) {
        Err(why) => vec![look.line(Ink::BAD, why.to_string())],
        Ok(changes) if changes.is_empty() => {
            vec![look.line(Ink::DIM, "Nothing: all of it is as for a newcomer.")]
        }
        Ok(changes) => {
            let value = |value: &vestigum::Value| value.to_string().chars().take(22).collect::<String>();
            let row = |change: &vestigum::Change| {
                let (name, before, after) = (change.name().to_string(), value(&change.before), value(&change.after));
                look.line(Ink::PLAIN, format!(" {name:<26} {before:>22} → {after}"))
            };
            let mut drawn: Vec<Line<'_>> = changes.iter().take(SHOWN).map(row).collect();
            if changes.len() > SHOWN {
                drawn.push(look.line(Ink::DIM, format!(" and {} more", changes.len() - SHOWN)));
            }
            drawn
        }
    }
}
