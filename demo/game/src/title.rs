//! The title: who plays here, and what can be done with a carrier who does not play now.

use ratatui::crossterm::event::KeyCode;
use ratatui::prelude::*;
use vestigum::{Place, Profile, ProfileState, Profiles, Saver, Session, SessionError};

use crate::Trouble;
use crate::look::{Ink, Look, Typed, lines};
use crate::progress as p;

/// The longest name that can be typed.
const NAME: usize = 20;

const FELLS: [&str; 5] = [
    r"                 /\                                 /\",
    r"        /\      /  \        F E L L P O S T        /  \   /\",
    r"       /  \/\  /    \    /\                  /\   /    \ /  \",
    r"    /\/     \ \/     \  /  \   letters for  /  \_/      V    \  /\",
    r"___/         \        \/    \__every door__/                  \/  \___",
];

pub(crate) struct Title {
    profiles: Vec<Profile>,
    chosen: usize,
    asks: Option<Asks>,
    typed: Typed,
    news: String,
    /// The setting of the device; nobody has to play for it.
    pub(crate) colour: bool,
}

#[derive(Clone, Copy)]
enum Asks {
    /// The name of a new carrier.
    New,
    /// The name of a copy.
    Copy,
    /// Whether a carrier is to be deleted.
    Delete,
    /// Whether a carrier none of whose saves can be read is to begin anew.
    Anew,
}

impl Title {
    pub(crate) fn new(saver: &Saver, news: impl Into<String>) -> Title {
        let mut title = Title {
            profiles: Vec::new(),
            chosen: 0,
            asks: None,
            typed: Typed::new("", NAME),
            news: news.into(),
            colour: true,
        };
        title.list(saver);
        if let Ok(nobody) = Session::peek(p::spec(), saver.store(), "nobody") {
            title.colour = nobody.get(p::COLOUR);
        }
        title
    }

    fn list(&mut self, saver: &Saver) {
        match Profiles::new(p::spec(), saver).list() {
            Ok(profiles) => self.profiles = profiles,
            Err(why) => self.news = format!("The saves cannot be read: {why}"),
        }
        self.chosen = self.chosen.min(self.profiles.len().saturating_sub(1));
    }

    pub(crate) fn asks(&self) -> bool {
        self.asks.is_some()
    }

    /// The name of the chosen carrier, and whether there is something to play on with.
    fn chosen(&self) -> (String, Option<ProfileState>) {
        let chosen = self.profiles.get(self.chosen).cloned();
        chosen.map(|profile| (profile.name, Some(profile.state))).unwrap_or_default()
    }

    /// Takes a key; gives the session if somebody plays.
    pub(crate) fn key(&mut self, saver: &Saver, key: KeyCode) -> Result<Option<Session>, Trouble> {
        if let Some(asks) = self.asks.take() {
            return self.answer(saver, asks, key);
        }
        self.news.clear();
        self.typed = Typed::new("", NAME);
        let (name, state) = self.chosen();
        match (key, state) {
            (KeyCode::Up, _) => self.chosen = self.chosen.saturating_sub(1),
            (KeyCode::Down, _) => self.chosen = (self.chosen + 1).min(self.profiles.len().saturating_sub(1)),
            (KeyCode::Char('n'), _) | (KeyCode::Enter, None) => self.asks = Some(Asks::New),
            (KeyCode::Char('c'), Some(ProfileState::Saved)) => self.asks = Some(Asks::Copy),
            (KeyCode::Char('d'), Some(ProfileState::Saved)) => self.asks = Some(Asks::Delete),
            (KeyCode::Char('b'), Some(ProfileState::Deleted)) => {
                Profiles::new(p::spec(), saver).restore(&name)?;
                self.news = format!("{name} is back.");
                self.list(saver);
            }
            (
                KeyCode::Enter,
                Some(ProfileState::Saved | ProfileState::Unreadable(_) | ProfileState::Unavailable(_)),
            ) => match Session::launch(p::spec(), saver, &name) {
                Err(why @ SessionError::AllDamaged { .. }) => {
                    (self.news, self.asks) = (why.to_string(), Some(Asks::Anew));
                }
                launched => return Ok(Some(launched?)),
            },
            _ => {}
        }
        Ok(None)
    }

    fn answer(&mut self, saver: &Saver, asks: Asks, key: KeyCode) -> Result<Option<Session>, Trouble> {
        let players = Profiles::new(p::spec(), saver);
        let (name, _) = self.chosen();
        if key == KeyCode::Esc {
            return Ok(None);
        }
        match (asks, key) {
            (Asks::New, KeyCode::Enter) => {
                players.create(&self.typed.text)?;
                return Ok(Some(Session::launch(p::spec(), saver, &self.typed.text)?));
            }
            (Asks::Copy, KeyCode::Enter) => {
                players.copy(&name, &self.typed.text)?;
                self.news = format!("{} has what {name} has.", self.typed.text);
                self.list(saver);
            }
            (Asks::New | Asks::Copy, key) => {
                self.typed.key(key);
                self.asks = Some(asks);
            }
            (Asks::Delete, KeyCode::Char('y')) => {
                players.delete(&name)?;
                self.news = format!("{name} is deleted, and can be brought back.");
                self.list(saver);
            }
            (Asks::Anew, KeyCode::Char('y')) => return Ok(Some(Session::launch_anew(p::spec(), saver, &name)?)),
            (Asks::Delete | Asks::Anew, _) => {}
        }
        Ok(None)
    }

    pub(crate) fn draw(&self, saves: &str, look: Look, frame: &mut Frame<'_>, area: Rect) {
        let [art, list, below] =
            area.layout(&Layout::vertical([Constraint::Length(6), Constraint::Min(0), Constraint::Length(4)]));
        let art = Rect { x: art.x + 4, width: art.width.saturating_sub(4), ..art };
        lines(frame, art, FELLS.iter().map(|row| look.line(Ink::LIGHT, *row)).collect());
        let room = look.frame(frame, Rect { x: list.x + 3, width: list.width - 6, ..list }, "Carriers");
        let mut drawn: Vec<Line<'_>> = Vec::new();
        for (number, profile) in self.profiles.iter().enumerate() {
            let ink = if number == self.chosen { Ink::CHOSEN } else { Ink::STRONG };
            let (about, about_ink) = about(profile);
            drawn.push(Line::from(vec![
                look.text(ink, format!(" {:<NAME$} ", profile.name)),
                look.text(about_ink, format!(" {about}")),
            ]));
        }
        if self.profiles.is_empty() {
            drawn.push(look.line(Ink::PLAIN, " Nobody yet. Press n for a new carrier."));
        }
        // The chosen one is always in sight.
        let above = (self.chosen + 1).saturating_sub(usize::from(room.height));
        lines(frame, room, drawn.into_iter().skip(above).collect());
        let keys: &[(&str, &str)] = match self.profiles.get(self.chosen).map(|profile| &profile.state) {
            None => &[("n", "new"), ("q", "quit")],
            Some(ProfileState::Saved) => {
                &[("enter", "go on"), ("n", "new"), ("c", "copy"), ("d", "delete"), ("↑ ↓", "choose"), ("q", "quit")]
            }
            Some(ProfileState::Deleted) => &[("b", "bring back"), ("n", "new"), ("↑ ↓", "choose"), ("q", "quit")],
            Some(ProfileState::Unreadable(_) | ProfileState::Unavailable(_)) => {
                &[("enter", "look why"), ("n", "new"), ("↑ ↓", "choose"), ("q", "quit")]
            }
        };
        let typed = |asks: &str| Line::from(vec![look.text(Ink::PLAIN, asks.to_owned()), self.typed.drawn(look)]);
        let asked = match self.asks {
            Some(Asks::New) => typed("The new carrier's name: "),
            Some(Asks::Copy) => typed("The name of the copy: "),
            Some(Asks::Delete) => look.line(Ink::BAD, "Delete this carrier? y for yes"),
            Some(Asks::Anew) => {
                look.line(Ink::BAD, "Begin anew, and leave the damaged files where they are? y for yes")
            }
            None => look.keys(keys),
        };
        let said = look.line(Ink::LIGHT, self.news.clone());
        let place = look.line(Ink::DIM, format!("saved in {saves}"));
        lines(frame, Rect { x: below.x + 4, width: below.width - 8, ..below }, vec![said, asked, place]);
    }
}

/// Returns where a carrier is, and for how long.
fn about(profile: &Profile) -> (String, Ink) {
    let played = profile.played.map_or(0, |played| played.as_secs() / 60);
    let at = match (&profile.place, &profile.level) {
        (Some(Place::InLevel { checkpoint: Some(checkpoint), .. }), Some(level)) => {
            format!("{level}, at the {checkpoint}")
        }
        (_, Some(level)) => level.clone(),
        (Some(Place::RunOver), None) => "out of lanterns".into(),
        (_, None) => "at the post office".into(),
    };
    match &profile.state {
        ProfileState::Saved => (format!("{at}, {played} min"), Ink::PLAIN),
        ProfileState::Deleted => ("deleted".into(), Ink::DIM),
        ProfileState::Unreadable(_) => ("cannot be read".into(), Ink::BAD),
        ProfileState::Unavailable(_) => ("cannot be read now".into(), Ink::BAD),
    }
}
