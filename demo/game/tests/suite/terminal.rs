//! The program itself, in a terminal, with a kill in the middle.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::thread::sleep;
use std::time::{Duration, Instant};

/// A terminal window of its own server, which goes with it.
struct Terminal {
    socket: PathBuf,
}

impl Terminal {
    fn open(folder: &Path, command: &str) -> Terminal {
        let terminal = Terminal { socket: folder.join("terminal") };
        terminal.tmux(&["-f", "/dev/null", "new-session", "-d", "-x", "80", "-y", "24", command]);
        terminal
    }

    fn tmux(&self, arguments: &[&str]) -> String {
        let output =
            Command::new("tmux").env("LC_ALL", "C.UTF-8").arg("-S").arg(&self.socket).args(arguments).output().unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// Presses keys one by one.
    fn keys(&self, keys: &[&str]) {
        for key in keys {
            self.tmux(&["send-keys", key]);
        }
    }

    #[track_caller]
    fn waits_for(&self, text: &str) {
        let begun = Instant::now();
        loop {
            let screen = self.tmux(&["capture-pane", "-p"]);
            if screen.contains(text) {
                return;
            }
            assert!(begun.elapsed() < Duration::from_secs(30), "`{text}` is not in the terminal:\n{screen}");
            sleep(Duration::from_millis(20));
        }
    }

    /// Kills the game as nothing can be killed more.
    fn kill_the_game(&self) {
        let pid = self.tmux(&["display-message", "-p", "#{pane_pid}"]);
        assert!(Command::new("kill").args(["-9", pid.trim()]).status().unwrap().success());
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        self.tmux(&["kill-server"]);
    }
}

#[test]
fn a_game_that_is_killed_goes_on_at_its_checkpoint() {
    if Command::new("tmux").arg("-V").output().is_err() {
        assert!(std::env::var_os("VESTIGUM_NEEDS_TMUX").is_none(), "tmux is not installed");
        return println!("SKIPPED: tmux is not installed");
    }
    let folder = tempfile::tempdir().unwrap();
    let game = format!("exec {} --saves {}", env!("CARGO_BIN_EXE_fellpost"), folder.path().join("saves").display());
    let terminal = Terminal::open(folder.path(), &game);
    terminal.waits_for("Nobody yet");
    terminal.keys(&["n", "a", "d", "a", "Enter"]);
    terminal.waits_for("ada's round");
    terminal.keys(&["Enter"]);
    terminal.waits_for("0 of 11");
    // To the first door, down the lane, over the brook and up to the ford.
    terminal.keys(&["Right", "Right", "Right", "Right", "Right", "Left"]);
    terminal.waits_for("1 of 11");
    terminal.keys(&["Down"; 8]);
    terminal.keys(&["Space"]);
    terminal.keys(&["Right"; 6]);
    terminal.keys(&["Up"; 6]);
    terminal.keys(&["Right"; 6]);
    terminal.keys(&["Down"; 3]);
    terminal.waits_for("Checkpoint: the ford");
    // Until the sign that it saves is gone.
    sleep(Duration::from_secs(2));
    terminal.kill_the_game();
    drop(terminal);

    let terminal = Terminal::open(folder.path(), &game);
    terminal.waits_for("Mill Lane, at the ford");
    terminal.keys(&["Enter"]);
    terminal.waits_for("1 of 11");
}
