//! Why a playthrough failed, in lines for people.

use std::fmt;

use vestigum_core::evaluation::judge::Judged;

use crate::playthrough::{Failure, LastChange, Why};

/// Describes what a piece of a line is, for those who colour it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    /// It is as it should be.
    Good,
    /// It is not as it should be.
    Bad,
    /// It matters most.
    Strong,
    /// Says what was said.
    Statement,
}

impl Failure {
    /// The lines that tell why it failed, below the statement. `paint` colours a piece.
    pub fn told(&self, paint: &dyn Fn(Tone, String) -> String) -> Vec<String> {
        match &self.why {
            Why::Expectation { parts, changes } => {
                let width = parts.iter().map(|part| part.part.chars().count()).max().unwrap_or(0);
                let parts_told = parts.iter().map(|part| {
                    let (sign, tone) = if part.holds { ("holds", Tone::Good) } else { ("fails", Tone::Bad) };
                    format!("{}  {:width$}", paint(tone, sign.to_owned()), part.part).trim_end().to_owned()
                });
                parts_told.chain(values(parts, changes, paint)).collect()
            }
            Why::Promise(broken) => {
                let first = format!("{} {}", paint(Tone::Bad, "broken promise:".to_owned()), broken.name);
                let told = [first, broken.what.clone()].into_iter().chain(broken.beyond.clone());
                told.chain(values(&[], &broken.changes, paint)).collect()
            }
            Why::NotRefused => vec![paint(Tone::Bad, "it was not refused".to_owned())],
            Why::Refused(why) => vec![format!("{} {why}", paint(Tone::Bad, "refused:".to_owned()))],
            Why::Unjudged(why) => vec![format!("{} {why}", paint(Tone::Bad, "cannot be judged:".to_owned()))],
            Why::Storage(why) => vec![format!("{} {why}", paint(Tone::Bad, "the saves:".to_owned()))],
        }
    }
}

/// The values that an expectation reads, each as it was before its last change beside what it is, and what changed it.
fn values(parts: &[Judged], changes: &[LastChange], paint: &dyn Fn(Tone, String) -> String) -> Vec<String> {
    let mut rows: Vec<[String; 4]> = Vec::new();
    let read = parts.iter().flat_map(|part| &part.values);
    let changed = changes.iter().map(|change| (&change.name, &change.after));
    for (name, now) in read.map(|(name, now)| (name, now)).chain(changed) {
        if rows.iter().any(|row| row[0] == *name) {
            continue;
        }
        let change = changes.iter().find(|change| change.name == *name);
        let (before, by) = match change {
            None => (String::new(), String::new()),
            Some(change) => {
                // How much is in a container says too little.
                let what = if now.is_container() {
                    format!("  {}", change.before.difference(&change.after))
                } else {
                    String::new()
                };
                (change.before.brief(), format!("line {}: {}{what}", change.line, change.statement))
            }
        };
        rows.push([name.clone(), before, now.brief(), by]);
    }
    if rows.is_empty() {
        return Vec::new();
    }
    rows.insert(0, ["", "before", "now", "last changed by"].map(str::to_owned));
    let wide = |column: usize| rows.iter().map(|row| row[column].chars().count()).max().unwrap_or(0);
    let [name, before, now] = [wide(0), wide(1), wide(2)];
    let row = |(index, [of, was, is, by]): (usize, &[String; 4])| {
        let (was, is) = (format!("{was:>before$}"), format!("{is:>now$}"));
        let (is, by) = match index {
            0 => (is, by.clone()),
            _ if by.is_empty() => (paint(Tone::Strong, is), String::new()),
            _ => (paint(Tone::Strong, is), paint(Tone::Statement, by.clone())),
        };
        format!("       {of:name$}  {was}  {is}  {by}").trim_end().to_owned()
    };
    rows.iter().enumerate().map(row).collect()
}

/// The line, the statement, and why it failed.
impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "line {}: {}", self.line, self.statement)?;
        self.told(&|_, text| text).iter().try_for_each(|line| write!(f, "\n  {line}"))
    }
}
