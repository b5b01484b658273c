//! Names: what can be one, and how a key is written.

use std::borrow::Cow;

use crate::vocabulary::function::Function;
use crate::vocabulary::keyword::statement_words;

/// Words that expressions use themselves: what an expression names may not have them.
pub fn is_reserved(word: &str) -> bool {
    const OTHERS: [&str; 11] =
        ["or", "and", "not", "true", "false", "level", "checkpoint", "exit", "level_index", "checkpoint_index", "was"];
    OTHERS.contains(&word) || Function::named(word).is_some()
}

/// Words with which statements of a playthrough begin: fields and moments, with which some begin too, may not have them.
pub fn begins_a_statement(word: &str) -> bool {
    statement_words().any(|known| known == word)
}

/// Returns whether a key may be made at run time under that name: 1 to 60 characters of any script, none of them a control.
pub fn is_made_name(name: &str) -> bool {
    (1..=60).contains(&name.chars().count()) && !name.chars().any(char::is_control)
}

/// A key as expressions and playthroughs write it in brackets: in quotes if it is not a plain name.
pub fn key_text(name: &str) -> Cow<'_, str> {
    if is_name(name) && !is_reserved(name) {
        Cow::Borrowed(name)
    } else {
        Cow::Owned(format!("'{}'", name.replace('\'', "''")))
    }
}

/// Returns whether a text can be the name of something that a document declares.
pub fn is_name(text: &str) -> bool {
    let mut chars = text.chars();
    chars.next().is_some_and(|first| first.is_ascii_alphabetic() || first == '_')
        && chars.all(|c| c.is_ascii_alphanumeric() || c == '_')
}
