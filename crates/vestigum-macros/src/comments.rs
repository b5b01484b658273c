//! What a document says about a thing: the comment behind its heading or key, or the lines right above it.

/// The comment of a `[section]`, or of a `key =` in a section; empty if there is none.
pub(crate) fn comment(text: &str, section: &str, key: Option<&str>) -> String {
    let heading = format!("[{section}]");
    let lines: Vec<&str> = text.lines().map(str::trim).collect();
    let Some(at) = lines.iter().position(|line| begins_with(line, &heading)) else { return String::new() };
    let at = match key {
        None => at,
        Some(key) => {
            let below = lines[at + 1..].iter().take_while(|line| !line.starts_with('['));
            let has_key = |line: &&str| line.split_once('=').is_some_and(|(name, _)| name.trim() == key);
            match below.clone().position(has_key) {
                Some(offset) => at + 1 + offset,
                None => return String::new(),
            }
        }
    };
    if let Some(behind) = behind(lines[at]) {
        return behind.to_owned();
    }
    let above = lines[..at].iter().rev().take_while(|line| line.starts_with('#'));
    let mut above: Vec<&str> = above.map(|line| line.trim_start_matches('#').trim()).collect();
    above.reverse();
    // A line that divides the document says nothing about what follows.
    if above.iter().any(|line| line.contains("──") || line.contains("---") || line.contains("===")) {
        return String::new();
    }
    above.join(" ")
}

fn begins_with(line: &str, heading: &str) -> bool {
    line.strip_prefix(heading).is_some_and(|rest| rest.trim().is_empty() || rest.trim().starts_with('#'))
}

/// The comment at the end of a line.
fn behind(line: &str) -> Option<&str> {
    let mut quote = None;
    for (at, c) in line.char_indices() {
        match (c, quote) {
            ('#', None) => return Some(line[at..].trim_start_matches('#').trim()),
            ('"' | '\'', None) => quote = Some(c),
            (c, Some(open)) if c == open => quote = None,
            _ => {}
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_comment_is_found_behind_its_heading_or_right_above_it() {
        let text = "# ── The run ──\n[field.score]   # what was delivered\ntype = \"int\"\n\n# Lives.\n# A fall costs one.\n\
                    [field.lanterns]\n[derived]\nrank = \"1\" # 'a' #\n# divided ───\n[field.other]\n";
        assert_eq!(comment(text, "field.score", None), "what was delivered");
        assert_eq!(comment(text, "field.lanterns", None), "Lives. A fall costs one.");
        assert_eq!(comment(text, "derived", Some("rank")), "'a' #");
        assert_eq!(comment(text, "derived", Some("gone")), "");
        assert_eq!(comment(text, "field.other", None), "");
        assert_eq!(comment(text, "field.gone", None), "");
    }
}
