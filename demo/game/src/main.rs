//! `fellpost`: the game in a terminal. See the library of this crate for how it is made.

use std::error::Error;
use std::process::ExitCode;
use std::time::{Duration, Instant};

use clap::Parser;
use fellpost::App;
use ratatui::crossterm::event::{self, Event, KeyEventKind};
use vestigum::DirStore;

/// One frame, in which a key is waited for.
const FRAME: Duration = Duration::from_millis(33);

/// Deliver letters over the fells. What you reach stays, also when the game is killed.
#[derive(Parser)]
struct Arguments {
    /// The folder with the saves; it is made if there is none
    #[arg(long, default_value = "fellpost-saves")]
    saves: String,
    /// No colours, also if the variable NO_COLOR is set
    #[arg(long)]
    plain: bool,
}

fn main() -> ExitCode {
    match run(&Arguments::parse()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(why) => {
            eprintln!("fellpost: {why}");
            ExitCode::FAILURE
        }
    }
}

fn run(arguments: &Arguments) -> Result<(), Box<dyn Error>> {
    let plain = arguments.plain || std::env::var_os("NO_COLOR").is_some_and(|set| !set.is_empty());
    let store = DirStore::open(&arguments.saves)?;
    let mut app = App::new(store, &arguments.saves, !plain);
    let mut terminal = ratatui::try_init()?;
    let played = play(&mut terminal, &mut app);
    ratatui::restore();
    played
}

fn play(terminal: &mut ratatui::DefaultTerminal, app: &mut App) -> Result<(), Box<dyn Error>> {
    let mut last = Instant::now();
    while !app.is_over() {
        terminal.draw(|frame| app.draw(frame))?;
        if event::poll(FRAME)?
            && let Event::Key(key) = event::read()?
            && key.kind != KeyEventKind::Release
        {
            app.key(key);
        }
        // A process that was stopped for a while has not played.
        app.tick(last.elapsed().min(Duration::from_secs(1)));
        last = Instant::now();
    }
    Ok(())
}
