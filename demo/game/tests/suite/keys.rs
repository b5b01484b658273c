//! The game, played by keys and judged by what is on the screen.

use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

use fellpost::App;
use proptest::prelude::*;
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::buffer::Cell;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::style::Color;
use vestigum::{DirStore, MemoryStore, Store};
use vestigum_testing::watched_store::WatchedStore;

/// A column and a row of the screen.
type At = (usize, usize);

struct Player {
    app: App,
    terminal: Terminal<TestBackend>,
}

impl Player {
    fn new(store: impl Store + 'static) -> Player {
        Player::sized(store, 80, 24)
    }

    fn sized(store: impl Store + 'static, width: u16, height: u16) -> Player {
        let terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        Player { app: App::new(store, "memory", true), terminal }
    }

    fn press(&mut self, key: KeyCode) {
        self.app.key(key.into());
    }

    /// Types signs; `⏎` and `⎋` are keys of their own.
    fn keys(&mut self, keys: &str) {
        for sign in keys.chars() {
            self.press(match sign {
                '⏎' => KeyCode::Enter,
                '⎋' => KeyCode::Esc,
                '↓' => KeyCode::Down,
                '↑' => KeyCode::Up,
                sign => KeyCode::Char(sign),
            });
        }
    }

    fn screen(&mut self) -> String {
        self.terminal.draw(|frame| self.app.draw(frame)).unwrap();
        let buffer = self.terminal.backend().buffer();
        let rows = buffer.content().chunks(usize::from(buffer.area.width));
        rows.map(|row| row.iter().map(Cell::symbol).collect::<String>() + "\n").collect()
    }

    #[track_caller]
    fn sees(&mut self, text: &str) {
        let screen = self.screen();
        assert!(screen.contains(text), "`{text}` is not on the screen:\n{screen}");
    }

    #[track_caller]
    fn waits_for(&mut self, text: &str) {
        for _ in 0..500 {
            if self.screen().contains(text) {
                return;
            }
            std::thread::sleep(Duration::from_millis(10));
            self.app.tick(Duration::from_millis(1));
        }
        self.sees(text);
    }

    /// Delivers at every door there is a way to.
    fn delivers_all(&mut self) {
        while self.walks_to("✉") {}
    }

    /// Walks to the nearest of these signs by what is on the screen: steps, and jumps over what is in the way. False if there is none.
    fn walks_to(&mut self, signs: &str) -> bool {
        self.walks(signs, |_, sign| signs.contains(sign))
    }

    fn walks(&mut self, signs: &str, there: impl Fn(At, char) -> bool) -> bool {
        let screen: Vec<Vec<char>> = self.screen().lines().map(|row| row.chars().take(62).collect()).collect();
        let at = |(x, y): At| screen.get(y).and_then(|row| row.get(x)).copied().unwrap_or('▒');
        let here = (0..screen.len()).flat_map(|y| (0..62).map(move |x| (x, y))).find(|spot| at(*spot) == '☻').unwrap();
        let stands = |sign: char| "·∙✉⚐⚑☼┆=".contains(sign) || signs.contains(sign);
        let passes = |sign: char| "·∙✉⚐⚑☼┆=≈ω".contains(sign);
        let mut from: BTreeMap<At, (At, Vec<KeyCode>)> = BTreeMap::new();
        let mut open = VecDeque::from([here]);
        while let Some((x, y)) = open.pop_front() {
            if there((x, y), at((x, y))) {
                let mut keys = Vec::new();
                let mut spot = (x, y);
                while spot != here {
                    let (before, pressed) = &from[&spot];
                    keys.splice(0..0, pressed.iter().copied());
                    spot = *before;
                }
                keys.into_iter().for_each(|key| self.press(key));
                return true;
            }
            for (key, dx, dy) in
                [(KeyCode::Right, 1, 0), (KeyCode::Left, -1, 0), (KeyCode::Up, 0, -1), (KeyCode::Down, 0, 1)]
            {
                let by = |steps: isize| (x.saturating_add_signed(dx * steps), y.saturating_add_signed(dy * steps));
                let mut reach = |spot, keys| {
                    if spot != here && !from.contains_key(&spot) {
                        from.insert(spot, ((x, y), keys));
                        open.push_back(spot);
                    }
                };
                if stands(at(by(1))) {
                    reach(by(1), vec![key]);
                }
                if passes(at(by(1))) && stands(at(by(2))) {
                    reach(by(2), vec![KeyCode::Char(' '), key]);
                }
            }
        }
        false
    }
}

/// A new carrier on Mill Lane.
fn ada(store: impl Store + 'static) -> Player {
    let mut player = Player::new(store);
    player.sees("Nobody yet");
    player.keys("nada⏎");
    player.sees("ada's round");
    player.sees("complete Mill Lane");
    player.keys("⏎");
    player.sees("0 of 11");
    player
}

#[test]
fn an_evening_and_the_next_one() {
    let saves = tempfile::tempdir().unwrap();
    let mut player = ada(DirStore::open(saves.path()).unwrap());
    for _ in 0..3 {
        assert!(player.walks_to("✉"));
    }
    player.sees("3 of 11");
    assert!(player.walks_to("⚐"));
    player.sees("Checkpoint: the ford");
    assert!(player.walks_to("✉"));
    player.sees("4 of 11");
    // Into the water: what was delivered since the checkpoint can be delivered again.
    assert!(player.walks_to("≈"));
    player.sees("letters 40 → 30, score 40 → 0, a lantern is broken");
    player.sees("3 of 11");
    player.sees("☼☼ ");
    player.delivers_all();
    player.sees("11 of 11");
    player.app.tick(Duration::from_millis(61_000));
    assert!(player.walks_to("⌂"));
    player.sees("Mill Lane: arrived");
    player.sees("open    Heather Rise");
    player.sees("best letters               0 → 110");
    player.sees("Place 1 of the ranking. Your name: ");
    player.keys(" of Fellpost⏎");
    player.sees("1  ada of Fellp  110   1:01.0");
    player.keys("⏎");
    player.sees("paths 1, stars 3, falls 1");
    player.keys("q");
    player.app.tick(Duration::ZERO);
    player.sees("Saved.");
    player.sees("at the post office, 1 min");
    drop(player);
    let mut player = Player::new(DirStore::open(saves.path()).unwrap());
    player.keys("⏎");
    player.sees("★★★");
    player.sees("stamps 11, score 80 (best 80)");
    player.sees("ada of Fellp");
}

#[test]
fn a_game_that_dies_goes_on_at_its_checkpoint() {
    let saves = tempfile::tempdir().unwrap();
    let mut player = ada(DirStore::open(saves.path()).unwrap());
    assert!(player.walks_to("✉") && player.walks_to("⚐") && player.walks_to("✉"));
    player.sees("2 of 11");
    assert!(player.app.session().unwrap().settle(Duration::from_secs(5)).is_ok());
    drop(player);
    let mut player = Player::new(DirStore::open(saves.path()).unwrap());
    player.sees("Mill Lane, at the ford");
    player.keys("⏎");
    player.sees("1 of 11");
    player.sees("⚐");
    player.delivers_all();
    player.sees("11 of 11");
}

#[test]
fn a_gate_opens_when_it_is_durable_and_not_before() {
    let store = WatchedStore::new(MemoryStore::default(), 1);
    let mut player = ada(store.clone());
    player.delivers_all();
    assert!(player.walks_to("⌂"));
    player.keys("⏎⏎↑⏎");
    player.delivers_all();
    assert!(player.walks_to("⌂"));
    player.keys("⏎⏎⏎");
    player.sees("Heather Rise");
    player.sees("stamps  22");
    assert!(player.app.session().unwrap().settle(Duration::from_secs(5)).is_ok());
    store.hold(true);
    assert!(player.walks_to("╫"));
    player.sees("waits until that is on the disk");
    player.app.tick(Duration::from_millis(50));
    player.sees("◍ saving");
    assert!(player.walks_to("╫"));
    player.sees("stamps  10");
    player.sees("╫");
    store.hold(false);
    player.waits_for("The gate is open for good");
    player.sees("┆");
    assert!(player.walks_to("☼"));
    player.sees("A lantern! It is yours for good.");
    player.sees("☼☼☼☼");
}

#[test]
fn the_last_lantern_ends_the_round_and_a_new_one_begins() {
    let mut player = ada(MemoryStore::default());
    for _ in 0..3 {
        assert!(player.walks_to("≈"));
    }
    player.sees("The last lantern is broken");
    player.keys("⏎");
    player.sees("☼☼☼");
    player.sees("paths 0, stars 0, falls 3");
}

#[test]
fn the_cellar_is_found_and_told_on_a_postcard() {
    let store = MemoryStore::default();
    let mut player = ada(store.clone());
    assert!(!player.screen().contains('∩'));
    // At the right end of the fifth row of the path, the wall is none.
    assert!(player.walks("", |spot, _| spot == (59, 6)));
    player.press(KeyCode::Right);
    player.sees("open    The Millrace");
    player.keys("⏎⏎");
    player.sees("The Millrace");
    player.keys("p");
    let screen = player.screen();
    let card = screen.lines().skip_while(|row| !row.contains("Read it out")).nth(1).unwrap();
    let card: String = card.trim_matches(|sign: char| !sign.is_ascii_alphanumeric()).into();
    player.keys("⎋q");
    player.app.tick(Duration::ZERO);
    player.keys("nbo⏎p");
    player.keys("xx⏎");
    player.sees("characters");
    player.press(KeyCode::Backspace);
    player.press(KeyCode::Backspace);
    player.keys(&format!("{}⏎", card.to_lowercase()));
    player.sees("knows_cellar");
    player.keys("⏎");
    player.sees("redeemed");
    player.keys("⎋⏎");
    player.sees("∩");
}

#[test]
fn settings_are_for_all_who_play_on_the_device() {
    let store = MemoryStore::default();
    let mut player = ada(store.clone());
    player.sees("a plank holds once");
    let coloured = |player: &mut Player| {
        player.screen();
        player.terminal.backend().buffer().content().iter().any(|cell| cell.fg != Color::Reset)
    };
    assert!(coloured(&mut player));
    player.keys("pgocst");
    player.sees("colours off");
    player.sees("sheep brisk");
    player.keys("⎋q");
    player.app.tick(Duration::ZERO);
    assert!(!coloured(&mut player));
    player.keys("nbo⏎⏎");
    assert!(!coloured(&mut player) && !player.screen().contains("a plank holds once"));
    // What a player asked for on the command line comes first.
    assert!(!coloured(&mut Player { app: App::new(MemoryStore::default(), "", false), ..player }));
}

#[test]
fn a_reset_shows_what_it_would_take() {
    let mut player = ada(MemoryStore::default());
    player.delivers_all();
    assert!(player.walks_to("⌂"));
    player.keys("⏎⏎↑r");
    player.sees("best_letters[mill_lane]");
    player.sees("110 → 0");
    player.keys("↓y");
    player.sees("Done: 1 values were reset.");
    player.keys("↓↓");
    player.sees("and 2 more");
    player.keys("y⎋");
    player.sees("paths 0, stars 0");
}

#[test]
fn carriers_are_copied_deleted_and_brought_back() {
    let mut player = ada(MemoryStore::default());
    player.keys("pgq");
    player.app.tick(Duration::ZERO);
    player.keys("cbo⏎");
    player.sees("bo has what ada has.");
    player.keys("cbo⏎");
    player.sees("there is a player `bo` already");
    player.keys("dn");
    player.sees("at the post office");
    player.keys("dy");
    player.sees("ada is deleted, and can be brought back.");
    player.keys("⏎");
    assert!(player.app.session().is_none());
    player.keys("b⏎");
    player.sees("ada's round");
}

#[test]
fn what_cannot_be_saved_is_told_and_not_lost() {
    let store = WatchedStore::new(MemoryStore::default(), 1);
    let mut player = ada(store.clone());
    store.cut_off(true);
    assert!(player.walks_to("✉") && player.walks_to("⚐"));
    player.waits_for("not saved:");
    player.keys("ph");
    player.app.tick(Duration::ZERO);
    player.sees("Nothing is lost while the game runs.");
    player.keys("⎋");
    player.sees("1 of 11");
    store.cut_off(false);
    player.keys("ph");
    player.app.tick(Duration::ZERO);
    player.sees("Mill Lane, at the ford");
    player.keys("⏎");
    player.app.key(KeyEvent::new(KeyCode::Char('c'), KeyModifiers::CONTROL));
    player.app.tick(Duration::ZERO);
    assert!(player.app.is_over());
}

#[test]
fn a_small_terminal_says_what_is_needed_and_a_large_one_is_used_in_its_middle() {
    let mut small = Player::sized(MemoryStore::default(), 70, 20);
    small.sees("Fellpost needs 80 columns and 24 rows; here are 70 and 20.");
    Player::sized(MemoryStore::default(), 1, 1).screen();
    let mut large = Player::sized(MemoryStore::default(), 120, 40);
    large.keys("na⏎⏎");
    let screen = large.screen();
    assert!(
        screen.lines().take(8).all(|row| row.trim().is_empty()) && screen.contains("            ╭ Mill Lane"),
        "{screen}"
    );
}

fn any_key() -> impl Strategy<Value = KeyCode> {
    let arrows = [KeyCode::Left, KeyCode::Right, KeyCode::Up, KeyCode::Down, KeyCode::Enter, KeyCode::Esc];
    let letters = prop::sample::select("nacdbpghrqoywasx ".chars().map(KeyCode::Char).collect::<Vec<_>>());
    prop_oneof![4 => prop::sample::select(arrows.to_vec()), 3 => letters, 1 => Just(KeyCode::Backspace)]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 25, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever is pressed: the game draws, the letters are those of the doors, and a new start has what was saved.
    #[test]
    fn any_keys_leave_a_game_that_goes_on(keys in prop::collection::vec((any_key(), 0u64..600), 1..200)) {
        let store = MemoryStore::default();
        let mut player = Player::new(store.clone());
        player.keys("na⏎");
        for (key, ms) in keys {
            player.press(key);
            player.app.tick(Duration::from_millis(ms));
            let screen = player.screen();
            if let Some(game) = player.app.session() {
                let letters = game.value("letters", &[]).unwrap().as_int();
                let doors = game.set_of(game.spec().field::<std::collections::BTreeSet<i64>>("doors").unwrap());
                prop_assert_eq!(letters, 10 * doors.len() as i64, "{}", screen);
            }
            if player.app.is_over() {
                break;
            }
        }
        drop(player);
        let mut player = Player::new(store);
        player.keys("⏎");
        player.screen();
    }
}
