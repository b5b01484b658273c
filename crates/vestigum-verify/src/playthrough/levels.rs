//! What a playthrough does with the levels that players make.

use std::collections::BTreeMap;

use vestigum_core::progress::made::MadeLevelError;
use vestigum_core::{Progress, Spec};
use vestigum_spec::diagnostic::{Diagnostic, SourceSpan};
use vestigum_spec::syntax::Token;

use super::action::Redeems;
use super::statements::{line_tokens, name};
use super::written::{Given, Line, Word, error};

/// Describes what is done with a level that a player makes. `G` is where a text comes from that is brought in.
#[derive(Clone, Debug)]
pub(super) enum LevelChange<L, G> {
    /// `make_level`
    Make,
    /// `remove_level made_1`
    Remove(L),
    /// `export_level made_1 as post`
    Export { level: L, variable: String },
    /// `import_level post`, or a text in quotes
    Import(G),
}

pub(super) type WrittenChange = LevelChange<Word, Given>;
pub(super) type CheckedChange = LevelChange<String, Redeems>;

/// `export_level made_1 as post`
pub(super) fn export(rest: Line<'_>) -> Result<WrittenChange, Diagnostic> {
    const HELP: &str = "write `export_level made_1 as post`, and bring it in with `import_level post`";
    let (level, behind) = rest.split();
    let (word, variable) = behind.split();
    if level.text.is_empty() || word.text != "as" {
        return Err(error(rest.span(), "which level, and what is it called here?").help(HELP));
    }
    Ok(LevelChange::Export { level: level.word(), variable: name(variable, "what is it called here?", HELP)?.value })
}

/// `import_level post`
pub(super) fn import(line: Line<'_>, rest: Line<'_>) -> Result<WrittenChange, Diagnostic> {
    const HELP: &str = "write `import_level post` for one that `export_level` gave, or its text in quotes";
    let tokens = line_tokens(rest)?;
    let at: SourceSpan = if rest.text.is_empty() { line.span() } else { rest.span() };
    match &tokens[..] {
        [(Token::Name(_), _)] => Ok(LevelChange::Import(Given::Variable(rest.word()))),
        [(Token::Text(text), _)] => Ok(LevelChange::Import(Given::Text(text.clone()))),
        _ => Err(error(at, "which level is brought in?").help(HELP)),
    }
}

/// Does it, and says what came of it.
pub(super) fn change(
    spec: &Spec,
    progress: &mut Progress,
    texts: &mut BTreeMap<String, String>,
    change: &CheckedChange,
) -> Result<String, MadeLevelError> {
    Ok(match change {
        LevelChange::Make => format!("{} is made", progress.make_level()?),
        LevelChange::Remove(level) => {
            let changes = progress.remove_level(level)?;
            let s = if changes.len() == 1 { "" } else { "s" };
            format!("{} value{s} gone with it", changes.len())
        }
        LevelChange::Export { level, variable } => {
            let text = progress.export_level(level)?;
            let told = format!("{variable} has {} bytes", text.len());
            texts.insert(variable.clone(), text);
            told
        }
        LevelChange::Import(given) => {
            let text = match given {
                Redeems::Text(text) => text.clone(),
                Redeems::Variable(variable) => texts.get(variable).cloned().unwrap_or_default(),
            };
            format!("{} is made of it", progress.import_level(&spec.upgrade_level(&text)?)?)
        }
    })
}

impl<L, G> LevelChange<L, G> {
    /// Returns whether something of the player's is another thing afterwards, so that it is saved.
    pub(super) fn is_saved(&self) -> bool {
        match self {
            LevelChange::Make | LevelChange::Remove(_) | LevelChange::Import(_) => true,
            LevelChange::Export { .. } => false,
        }
    }
}
