//! Names for people: what comes from saves and players may hold anything.

use std::borrow::Cow;

/// Limits how many characters of a name are shown.
const SHOWN: usize = 80;

/// Returns whether a character would change how the text around it is drawn: control characters, line and paragraph separators, marks that turn
/// the direction of writing, and marks without a width.
pub fn is_unseen(character: char) -> bool {
    character.is_control()
        || matches!(
            character,
            '\u{061c}'
                | '\u{200b}'..='\u{200f}'
                | '\u{2028}'..='\u{202e}'
                | '\u{2060}'..='\u{206f}'
                | '\u{feff}'
                | '\u{fff9}'..='\u{fffb}'
        )
}

/// Returns a name as a line of text shows it: one that is long is cut short, and what would change the line is escaped.
///
/// ```
/// use vestigum_spec::vocabulary::shown::shown;
///
/// assert_eq!(shown("ada"), "ada");
/// assert_eq!(shown("a\nb"), "a\\nb");
/// assert_eq!(shown("\u{202e}ada"), "\\u{202e}ada");
/// assert!(shown(&"x".repeat(5_000_000)).ends_with("… (5000000 characters)"));
/// ```
pub fn shown(name: &str) -> Cow<'_, str> {
    // A name of so few bytes has no more characters.
    let long = name.len() > SHOWN && name.char_indices().nth(SHOWN).is_some();
    if !long && !name.contains(is_unseen) {
        return Cow::Borrowed(name);
    }
    let mut shown = String::new();
    for character in name.chars().take(SHOWN) {
        match is_unseen(character) {
            true => shown.extend(character.escape_default()),
            false => shown.push(character),
        }
    }
    if long {
        shown.push_str(&format!("… ({} characters)", name.chars().count()));
    }
    Cow::Owned(shown)
}
