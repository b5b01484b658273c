//! A counterexample as a playthrough that fails when it is run.

use std::sync::Arc;

use vestigum_core::Spec;

use super::act::{Act, statements};
use super::answer::Seen;
use super::question::{Broken, Question};
use super::writes::PlayWrites;

/// The shortest way to break a promise.
#[derive(Clone, Debug)]
pub struct Counterexample {
    name: Arc<str>,
    what: String,
    play: String,
    steps: usize,
    seen: Seen,
}

impl Counterexample {
    /// The promise.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Returns what happens, in words.
    pub fn what(&self) -> &str {
        &self.what
    }

    /// A playthrough that fails when it is run, as the text of a `.play` file.
    pub fn play(&self) -> &str {
        &self.play
    }

    /// Returns how many steps it takes from a fresh profile.
    pub fn steps(&self) -> usize {
        self.steps
    }

    /// Returns what the search had seen when it found it.
    pub fn seen(&self) -> Seen {
        self.seen
    }

    /// A name for the file, made from that of the promise.
    pub fn file_name(&self) -> String {
        let mut name = String::new();
        for c in self.name.chars().flat_map(char::to_lowercase) {
            let c = if c.is_ascii_alphanumeric() { c } else { '_' };
            if c != '_' || !(name.is_empty() || name.ends_with('_')) {
                name.push(c);
            }
        }
        let name: String = name.trim_end_matches('_').chars().take(60).collect();
        format!("{}.play", if name.is_empty() { "promise" } else { &name })
    }
}

pub(super) fn tell(
    spec: &Spec,
    question: &Question,
    acts: &[Act],
    writes: &PlayWrites,
    broken: &Broken,
    seen: Seen,
) -> Counterexample {
    let name = question.name.clone();
    // A name may have line breaks; what stands in a line may not.
    let shown: String = name.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    let mut lines = vec![
        format!("# {}: {}", if question.is_promise() { "Broken promise" } else { "Asked of every game" }, shown),
        format!("# {}.", capital(&broken.what).replace(char::is_control, " ")),
    ];
    lines.extend(broken.note.map(|note| format!("# {note}")));
    match acts.len() {
        0 => {}
        1 => lines.push("# It takes one step.".into()),
        steps => lines.push(format!("# There is no shorter way than these {steps} steps.")),
    }
    lines.push(String::new());
    lines.extend(played(spec, &shown, acts, writes));
    lines.push(format!("expect {}", broken.expect));
    let play = lines.join("\n") + "\n";
    Counterexample { name, what: broken.what.clone(), play, steps: acts.len(), seen }
}

/// A play that shows that something can be done.
#[derive(Clone, Debug)]
pub struct Witness {
    play: String,
    steps: usize,
}

impl Witness {
    /// The play, as the text of a `.play` file.
    pub fn play(&self) -> &str {
        &self.play
    }

    /// Returns how many steps it takes from a fresh profile. It need not be the shortest.
    pub fn steps(&self) -> usize {
        self.steps
    }
}

/// Returns a play that ends where something holds.
pub(super) fn witness(spec: &Spec, question: &Question, acts: &[Act], expect: &str) -> Witness {
    let mut lines = played(spec, &question.name, acts, &PlayWrites::default());
    lines.push(format!("expect {expect}"));
    Witness { play: lines.join("\n") + "\n", steps: acts.len() }
}

/// The lines of a playthrough of these acts.
fn played(spec: &Spec, name: &str, acts: &[Act], writes: &PlayWrites) -> Vec<String> {
    let mut lines = vec![format!("playthrough \"{}\"", name.replace('"', "'")), "launch".into()];
    let mut level = None;
    let mut players = 0;
    for act in acts {
        let inside = level.is_some() && !leaves(*act);
        let indent = if inside { "  " } else { "" };
        lines.extend(
            statements(spec, *act, level, writes, &mut players)
                .iter()
                .map(|line| format!("{indent}{line}").trim_end().to_owned()),
        );
        match act {
            Act::Enter(entered) => level = Some(*entered),
            act if leaves(*act) => level = None,
            Act::Newcomer => level = None,
            Act::Exit(_) | Act::Checkpoint(_) | Act::Moment(_) | Act::Relaunch | Act::Take(_) | Act::Write(_) => {}
        }
    }
    lines
}

/// Returns whether the level is left. A death that ends the run leaves it too; that changes only how the text is indented.
fn leaves(act: Act) -> bool {
    use vestigum_core::Moment::{Abandon, Complete, GameOver, Travel};
    match act {
        Act::Exit(_) => true,
        Act::Moment(moment) => moment.begins_run() || matches!(moment, Complete | Travel | Abandon | GameOver),
        Act::Enter(_) | Act::Checkpoint(_) | Act::Relaunch | Act::Newcomer | Act::Take(_) | Act::Write(_) => false,
    }
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map(|first| first.to_uppercase().chain(chars).collect()).unwrap_or_default()
}
