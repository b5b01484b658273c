//! Why a playthrough failed, in lines for people.

use std::fmt;

use crate::playthrough::{Failure, Why};

/// What a piece of a line is, for those who colour it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tone {
    /// It is as it should be.
    Good,
    /// It is not as it should be.
    Bad,
    /// It matters most.
    Strong,
    /// What was said.
    Statement,
}

impl Failure {
    /// The lines that tell why it failed, below the statement. `paint` colours a piece.
    pub fn told(&self, paint: &dyn Fn(Tone, String) -> String) -> Vec<String> {
        match &self.why {
            Why::Expectation { parts, changes } => {
                let width = parts.iter().map(|part| part.part.chars().count()).max().unwrap_or(0);
                let parts = parts.iter().map(|part| {
                    let (sign, tone) = if part.holds { ("holds", Tone::Good) } else { ("fails", Tone::Bad) };
                    let values: Vec<String> =
                        part.values.iter().map(|(name, value)| format!("{name} is {value}")).collect();
                    format!("{}  {:width$}   {}", paint(tone, sign.to_owned()), part.part, values.join(", "))
                });
                let changes = changes.iter().map(|change| {
                    format!(
                        "{} was last changed at line {} by {}: {}",
                        change.name,
                        change.line,
                        paint(Tone::Statement, change.statement.clone()),
                        paint(Tone::Strong, change.before.difference(&change.after)),
                    )
                });
                parts.chain(changes).collect()
            }
            Why::NotRefused => vec![paint(Tone::Bad, "it was not refused".to_owned())],
            Why::Refused(why) => vec![format!("{} {why}", paint(Tone::Bad, "refused:".to_owned()))],
            Why::Unjudged(why) => vec![format!("{} {why}", paint(Tone::Bad, "cannot be judged:".to_owned()))],
            Why::Storage(why) => vec![format!("{} {why}", paint(Tone::Bad, "the saves:".to_owned()))],
        }
    }
}

/// The line, the statement, and why it failed.
impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "line {}: {}", self.line, self.statement)?;
        self.told(&|_, text| text).iter().try_for_each(|line| write!(f, "\n  {line}"))
    }
}
