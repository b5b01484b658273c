//! Which screen is shown, the sign while something is saved, and leaving without losing anything.

use std::time::Duration;

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::prelude::*;
use vestigum::{Place, QuitError, Saver, Session, Store};

use crate::arrival::Arrival;
use crate::board::Board;
use crate::look::{HEIGHT, Ink, Look, WIDTH, lines};
use crate::progress as p;
use crate::title::Title;
use crate::walk::Walk;
use crate::{Go, Trouble, walk_view};

/// Says how long leaving waits for the last save.
const LEAVING: Duration = Duration::from_secs(2);

/// Says how long the sign stays after a save, so that it can be seen.
const SIGN: Duration = Duration::from_millis(600);

/// The game: keys and time go in, pictures come out.
///
/// ```
/// use fellpost::App;
/// use ratatui::crossterm::event::KeyCode;
/// use vestigum::MemoryStore;
///
/// let mut app = App::new(MemoryStore::default(), "memory", true);
/// for key in ['n', 'a', 'd', 'a'].map(KeyCode::Char).into_iter().chain([KeyCode::Enter]) {
///     app.key(key.into());
/// }
/// assert_eq!(app.session().map(|game| game.profile()), Some("ada"));
/// ```
pub struct App {
    saver: Saver,
    /// Says where the saves are, for the title.
    saves: String,
    /// Whether colours are wanted at all.
    colour: bool,
    screen: Screen,
    over: bool,
}

enum Screen {
    Title(Title),
    Playing(Box<Playing>),
}

struct Playing {
    game: Session,
    view: View,
    /// Says how long the sign is still shown.
    sign: Duration,
    /// Whether the game ends after the last save, or goes back to the title.
    quits: bool,
}

enum View {
    Board(Board),
    Walk(Walk),
    Arrival(Arrival),
    RunOver,
    /// The last save is under way.
    Leaving,
    /// It failed, and why.
    Stuck(String),
}

impl App {
    /// The game on a store; `saves` is what the title calls it. Without `colour` the game does without, whatever the player says.
    pub fn new(store: impl Store + 'static, saves: &str, colour: bool) -> App {
        let saver = Saver::new(store);
        let screen = Screen::Title(Title::new(&saver, ""));
        App { saver, saves: saves.to_owned(), colour, screen, over: false }
    }

    /// Returns whether the player has left the game.
    pub fn is_over(&self) -> bool {
        self.over
    }

    /// The session, while somebody plays.
    pub fn session(&self) -> Option<&Session> {
        match &self.screen {
            Screen::Title(_) => None,
            Screen::Playing(playing) => Some(&playing.game),
        }
    }

    /// Takes a key. What cannot be done is said on the screen.
    pub fn key(&mut self, key: KeyEvent) {
        let leaves = key.code == KeyCode::Char('c') && key.modifiers.contains(KeyModifiers::CONTROL);
        match &mut self.screen {
            Screen::Title(title) if leaves || (key.code == KeyCode::Char('q') && !title.asks()) => self.over = true,
            Screen::Title(title) => match title.key(&self.saver, key.code) {
                Ok(None) => {}
                Ok(Some(game)) => self.screen = Screen::Playing(Box::new(Playing::new(game))),
                Err(why) => *title = Title::new(&self.saver, why.to_string()),
            },
            // Who leaves after a save has failed knows what is lost.
            Screen::Playing(playing) if leaves && matches!(playing.view, View::Stuck(_)) => self.over = true,
            Screen::Playing(playing) if leaves => (playing.quits, playing.view) = (true, View::Leaving),
            Screen::Playing(playing) => {
                let went = playing.key(key.code);
                playing.go(went);
            }
        }
    }

    /// Lets time pass.
    pub fn tick(&mut self, passed: Duration) {
        let Screen::Playing(playing) = &mut self.screen else { return };
        if let View::Leaving = playing.view {
            return self.home();
        }
        let went = playing.tick(passed);
        playing.go(went);
    }

    /// Quits the session; if that cannot be saved, nothing is lost and the player chooses.
    fn home(&mut self) {
        let title = Screen::Title(Title::new(&self.saver, ""));
        let Screen::Playing(playing) = std::mem::replace(&mut self.screen, title) else { return };
        let Playing { game, sign, quits, .. } = *playing;
        match game.quit_within(LEAVING) {
            Ok(_) if quits => self.over = true,
            Ok(_) => self.screen = Screen::Title(Title::new(&self.saver, "Saved.")),
            Err(QuitError { error, session, .. }) => {
                let view = View::Stuck(error.to_string());
                self.screen = Screen::Playing(Box::new(Playing { game: *session, view, sign, quits }));
            }
        }
    }

    /// Draws the game, in the middle of a larger terminal.
    pub fn draw(&self, frame: &mut Frame<'_>) {
        let area = frame.area();
        if area.width < WIDTH || area.height < HEIGHT {
            let needs = format!(
                "Fellpost needs {WIDTH} columns and {HEIGHT} rows; here are {} and {}.",
                area.width, area.height
            );
            return lines(frame, area, vec![Line::from(needs)]);
        }
        let area = area.centered(Constraint::Length(WIDTH), Constraint::Length(HEIGHT));
        let look = |wants: bool| Look { colour: self.colour && wants };
        match &self.screen {
            Screen::Title(title) => title.draw(&self.saves, look(title.colour), frame, area),
            Screen::Playing(playing) => playing.draw(look(playing.game.get(p::COLOUR)), frame, area),
        }
    }
}

impl Playing {
    fn new(game: Session) -> Playing {
        let report = game.load_report();
        let news = if report.is_clean() { String::new() } else { report.to_string() };
        let view = where_it_is(&game, None, &news);
        Playing { game, view, sign: Duration::ZERO, quits: false }
    }

    fn go(&mut self, went: Result<Go, Trouble>) {
        self.view = match went {
            Ok(Go::Stay) => return,
            Ok(Go::On) => {
                let next = if let View::Arrival(arrival) = &self.view { arrival.next() } else { None };
                where_it_is(&self.game, next, "")
            }
            Ok(Go::Arrived(level, outcome)) => View::Arrival(Arrival::new(&self.game, level, outcome)),
            Ok(Go::Home) => View::Leaving,
            Err(why) => where_it_is(&self.game, None, &why.to_string()),
        };
    }

    fn key(&mut self, key: KeyCode) -> Result<Go, Trouble> {
        match &mut self.view {
            View::Board(board) => board.key(&mut self.game, key),
            View::Walk(walk) => walk.key(&mut self.game, key),
            View::Arrival(arrival) => arrival.key(&mut self.game, key),
            View::RunOver if key == KeyCode::Enter => {
                self.game.new_run()?;
                self.game.save();
                Ok(Go::On)
            }
            View::Stuck(_) if key == KeyCode::Enter => Ok(Go::Home),
            View::Stuck(_) if key == KeyCode::Esc => Ok(Go::On),
            View::RunOver | View::Leaving | View::Stuck(_) => Ok(Go::Stay),
        }
    }

    fn tick(&mut self, passed: Duration) -> Result<Go, Trouble> {
        self.sign = if self.game.settled() { self.sign.saturating_sub(passed) } else { SIGN };
        match &mut self.view {
            View::Walk(walk) => walk.tick(&mut self.game, passed),
            // Menus count, too: what counts in levels alone stands still here.
            View::Board(_) | View::Arrival(_) | View::RunOver => {
                self.game.tick(passed)?;
                Ok(Go::Stay)
            }
            View::Leaving | View::Stuck(_) => Ok(Go::Stay),
        }
    }

    fn draw(&self, look: Look, frame: &mut Frame<'_>, area: Rect) {
        let [above, room] = area.layout(&Layout::vertical([Constraint::Length(1), Constraint::Min(0)]));
        match &self.view {
            View::Board(board) => board.draw(&self.game, look, frame, room),
            View::Walk(walk) => walk_view::draw(walk, &self.game, look, frame, room),
            View::Arrival(arrival) => arrival.draw(&self.game, look, frame, room),
            View::RunOver => run_over(&self.game, look, frame, room),
            View::Leaving => {
                look.note(frame, room, (40, 5), "Going home", vec![look.line(Ink::PLAIN, "Saving, and then out.")]);
            }
            View::Stuck(why) => {
                let keys = look.keys(&[("enter", "try again"), ("esc", "play on"), ("ctrl-c", "leave without")]);
                let lost = look.line(Ink::PLAIN, "Nothing is lost while the game runs.");
                look.note(frame, room, (70, 10), "Not saved", vec![look.line(Ink::BAD, why), lost, keys]);
            }
        }
        let sign = match self.game.save_failure() {
            Some(why) => look.line(Ink::BAD, format!("not saved: {why} ")),
            None if !self.sign.is_zero() => look.line(Ink::GOOD, "◍ saving "),
            None => Line::default(),
        };
        frame.render_widget(sign.right_aligned(), above);
    }
}

/// Returns what is shown of a session by where it is: a path, the end of a run, or the board with `next` chosen and `news` said.
fn where_it_is(game: &Session, next: Option<&str>, news: &str) -> View {
    match (game.place(), Walk::of(game, news)) {
        (Place::InLevel { .. }, Some(walk)) => View::Walk(walk),
        (Place::RunOver, _) => View::RunOver,
        (Place::Menu | Place::InLevel { .. }, _) => View::Board(Board::at(game, next, news)),
    }
}

fn run_over(game: &Session, look: Look, frame: &mut Frame<'_>, area: Rect) {
    let drawn = vec![
        look.line(Ink::BAD, "It is dark on the fells, and this round is over."),
        Line::default(),
        look.line(Ink::PLAIN, format!("score  {}   (best {})", game.get(p::SCORE), game.get(p::BEST_SCORE))),
        look.line(Ink::PLAIN, "Stars, records, stamps and gates are yours for good."),
        Line::default(),
        look.keys(&[("enter", "a new round, with three lanterns")]),
    ];
    look.note(frame, area, (56, 9), "The last lantern is broken", drawn);
}
