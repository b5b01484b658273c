//! docs/updates.md, command by command, on a real repository.

use std::fs;
use std::path::Path;
use std::process::Command;

/// Names what a block of the page is for.
enum Block {
    /// A file with this content.
    File(String),
    /// Commands, and lines that their output holds.
    Console,
}

#[test]
fn every_command_of_the_page_on_updates_does_what_it_says() {
    let page = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/updates.md")).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let run = |command: &str| {
        let programs = Path::new(env!("CARGO_BIN_EXE_vestigum")).parent().unwrap().display().to_string();
        let path = format!("{programs}:{}", std::env::var("PATH").unwrap_or_default());
        let mut shell = Command::new("sh");
        shell.arg("-c").arg(command).current_dir(folder.path()).env("PATH", path).env("HOME", folder.path());
        let output = shell.env("GIT_CONFIG_GLOBAL", "/dev/null").output().unwrap();
        (output.status.success(), String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned())
    };
    for command in ["git init -q -b main .", "git config user.name ada", "git config user.email ada@fellpost.invalid"] {
        let (done, told) = run(command);
        assert!(done, "{command}: {told}");
    }
    let mut block: Option<Block> = None;
    let mut content = String::new();
    let (mut commands, mut told) = (0, None::<(String, String)>);
    for line in page.lines() {
        match (line.strip_prefix("```"), &block) {
            (Some(head), None) => {
                content.clear();
                block = match head.split_once(' ') {
                    Some((_, file)) => Some(Block::File(file.to_owned())),
                    None => Some(Block::Console).filter(|_| head == "console"),
                };
                assert!(block.is_some(), "a block says what it is: {line}");
            }
            (Some(_), Some(Block::File(file))) => {
                fs::write(folder.path().join(file), &content).unwrap();
                block = None;
            }
            (Some(_), Some(Block::Console)) => (block, told) = (None, None),
            (None, Some(Block::File(_))) => content.push_str(&format!("{line}\n")),
            (None, Some(Block::Console)) => match line.strip_prefix("$ ") {
                Some(command) => {
                    let (done, output) = run(command);
                    commands += 1;
                    let says_why = command.starts_with("vestigum check") && output.contains("error[");
                    assert!(done || says_why, "{command}\n{output}");
                    told = Some((command.to_owned(), output));
                }
                None => {
                    let (command, output) = told.as_ref().expect("output stands behind its command");
                    assert!(output.contains(line), "{command}\nexpected {line}\nfound {output}");
                }
            },
            (None, None) => {}
        }
    }
    assert!(commands >= 25, "only {commands} commands were run");
}
