//! What a level needs, in the few words that fit on a map.

use vestigum_core::progress::locks::Comparison;
use vestigum_core::{LockReason, Value};

/// Returns what a lock asks for besides other levels: "4 stars". Nothing if it asks for levels alone.
pub(super) fn besides_levels(lock: &LockReason) -> Option<String> {
    match lock {
        LockReason::All(parts) => joined(parts, " and "),
        LockReason::Any(parts) => joined(parts, " or "),
        LockReason::Complete { .. } | LockReason::Exit { .. } | LockReason::Hidden => None,
        LockReason::Needs { label, needed: Value::Bool(true), .. } => Some(label.to_string()),
        LockReason::Needs { label, by, needed, .. } => Some(match by {
            Comparison::AtLeast => format!("{needed} {label}"),
            Comparison::Above => format!("over {needed} {label}"),
            Comparison::AtMost => format!("at most {needed} {label}"),
            Comparison::Below => format!("under {needed} {label}"),
            Comparison::Equal => format!("{label}: {needed}"),
        }),
        LockReason::Condition { text, .. } => Some(text.clone()),
        // Nothing is missing but a moment outside a level.
        LockReason::NotMade | LockReason::Soon => None,
    }
}

fn joined(parts: &[LockReason], between: &str) -> Option<String> {
    let parts: Vec<String> = parts.iter().filter_map(besides_levels).collect();
    (!parts.is_empty()).then(|| parts.join(between))
}

/// A text in at most `width` characters; what is cut off is an ellipsis.
pub(super) fn cut(text: &str, width: usize) -> String {
    if text.chars().count() <= width {
        return text.to_owned();
    }
    let kept: String = text.chars().take(width.saturating_sub(1)).collect();
    format!("{}…", kept.trim_end())
}

/// A text in lines of at most `width` characters where its words allow that, and at most `most` lines: the last one has the rest.
pub(super) fn wrapped(text: &str, width: usize, most: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split(' ') {
        let full = lines.len() >= most;
        match lines.last_mut() {
            Some(line) if full || line.chars().count() + 1 + word.chars().count() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}
