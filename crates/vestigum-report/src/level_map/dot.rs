//! The map in the language of Graphviz.

use std::fmt::Write as _;

use super::graph::{LevelMap, WayKind};

impl LevelMap {
    /// The map in the DOT language, for `dot -Tsvg`.
    pub fn as_dot(&self) -> String {
        let mut dot = format!("digraph {} {{\n", quoted(&self.title));
        dot.push_str("  rankdir=LR;\n  node [shape=box, style=rounded, fontname=\"sans-serif\"];\n  edge [fontname=\"sans-serif\", fontsize=10];\n");
        for level in &self.levels {
            let mut label = level.title.clone();
            let notes = [
                level.needs.as_ref().map(|needs| format!("needs {needs}")),
                level.unreachable.then(|| "can never open".to_owned()),
                level.player.as_ref().map(|player| player.standing.word().to_owned()),
                level.player.as_ref().and_then(|player| player.here.as_ref()).map(|_| "the player is here".to_owned()),
            ];
            notes.into_iter().flatten().for_each(|note| label.push_str(&format!("\n{note}")));
            let style = match (level.unreachable, level.hidden.is_some()) {
                (true, _) => ", color=red, style=\"rounded,dashed\"",
                (false, true) => ", style=\"rounded,dashed\"",
                (false, false) => "",
            };
            let tip = level.opens.as_ref().map(|opens| format!(", tooltip={}", quoted(&format!("opens when {opens}"))));
            let _ =
                writeln!(dot, "  {} [label={}{style}{}];", quoted(&level.id), quoted(&label), tip.unwrap_or_default());
        }
        for way in &self.ways {
            let more = match &way.kind {
                WayKind::Opens if way.either => " [label=\"or\"]".to_owned(),
                WayKind::Opens => String::new(),
                WayKind::Exit(exit) => format!(" [label={}]", quoted(exit)),
                WayKind::LeadsOn => " [style=dashed]".to_owned(),
            };
            let (from, to) = (quoted(&self.levels[way.from].id), quoted(&self.levels[way.to].id));
            let _ = writeln!(dot, "  {from} -> {to}{more};");
        }
        dot.push_str("}\n");
        dot
    }
}

fn quoted(text: &str) -> String {
    let escaped = text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n");
    format!("\"{escaped}\"")
}
