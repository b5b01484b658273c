//! The map as a Mermaid flowchart, which many forges and wikis draw where it stands in Markdown.

use std::fmt::Write as _;

use super::graph::{LevelMap, WayKind};

impl LevelMap {
    /// The map as a Mermaid flowchart.
    pub fn as_mermaid(&self) -> String {
        let mut chart = String::from("flowchart LR\n");
        for (index, level) in self.levels.iter().enumerate() {
            let needs = level.needs.as_ref().map(|needs| format!("<br/>needs {}", escaped(needs))).unwrap_or_default();
            let never = if level.unreachable { "<br/>can never open" } else { "" };
            let standing =
                level.player.as_ref().map(|player| format!("<br/>{}", player.standing.word())).unwrap_or_default();
            // The ids of levels may be words of the language, so numbers stand for them.
            let _ = writeln!(chart, "    l{index}[\"{}{needs}{never}{standing}\"]", escaped(&level.title));
        }
        for way in &self.ways {
            let (from, to) = (way.from, way.to);
            let _ = match &way.kind {
                WayKind::Opens if way.either => writeln!(chart, "    l{from} -->|or| l{to}"),
                WayKind::Opens => writeln!(chart, "    l{from} --> l{to}"),
                WayKind::Exit(exit) => writeln!(chart, "    l{from} -->|\"{}\"| l{to}", escaped(exit)),
                WayKind::LeadsOn => writeln!(chart, "    l{from} -.-> l{to}"),
            };
        }
        let hidden: Vec<String> = (0..)
            .zip(&self.levels)
            .filter(|(_, level)| level.hidden.is_some())
            .map(|(index, _): (usize, _)| format!("l{index}"))
            .collect();
        if !hidden.is_empty() {
            let _ = writeln!(chart, "    classDef hidden stroke-dasharray: 4 3\n    class {} hidden", hidden.join(","));
        }
        chart
    }
}

/// A text inside quotes: signs that the language or HTML would take for its own are written as entities.
fn escaped(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '"' | '#' | '<' | '>' | '&' | '`' | '\\' | '[' | ']' => {
                let _ = write!(out, "#{};", u32::from(c));
            }
            c if c.is_control() => out.push(' '),
            c => out.push(c),
        }
    }
    out
}
