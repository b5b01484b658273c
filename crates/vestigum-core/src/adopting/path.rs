//! Paths into an old save: names and positions with dots between them, and a `*` for each name that is not the same everywhere.
//!
//! `relics[id = "LAMP"]` is the item of a list whose member `id` is that text; `relics[id = "*"]` is each of them, by that member.

use std::fmt;

use vestigum_spec::value::tree::Tree;

/// A path into a tree.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct TreePath {
    parts: Vec<Part>,
}

/// One part of a path.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Part {
    /// A name or a position, with a star or without.
    Name(String),
    /// The items whose member has this text.
    Item { member: String, is: String },
}

/// Describes what a path leads to.
#[derive(Clone)]
pub(super) struct Found<'t> {
    /// Says where it is, without a `*`.
    pub(super) at: Vec<String>,
    /// Holds what stands for each `*`, in their order.
    pub(super) stars: Vec<String>,
    pub(super) tree: &'t Tree,
}

impl TreePath {
    /// A path as it is written, or the part that is wrong with it.
    pub(super) fn read(text: &str) -> Result<TreePath, String> {
        let (mut parts, mut part, mut inside, mut quoted) = (Vec::new(), String::new(), false, false);
        for c in text.chars() {
            match c {
                '"' | '\'' if inside => quoted = !quoted,
                '[' if !quoted => inside = true,
                ']' if !quoted => inside = false,
                '.' if !inside => {
                    parts.push(std::mem::take(&mut part));
                    continue;
                }
                _ => {}
            }
            part.push(c);
        }
        parts.push(part);
        TreePath::of_parts(parts)
    }

    pub(super) fn of_parts(written: Vec<String>) -> Result<TreePath, String> {
        let mut parts = Vec::new();
        for part in written {
            if part.is_empty() {
                return Err("a part of the path is empty".into());
            }
            let Some((name, rest)) = part.split_once('[') else {
                parts.push(Part::Name(part));
                continue;
            };
            let item = rest.strip_suffix(']').and_then(|item| item.split_once('='));
            let Some((member, is)) = item else {
                return Err("expected an item as `relics[id = \"LAMP\"]`".into());
            };
            let is = is.trim().trim_matches(['"', '\'']).to_owned();
            if !name.is_empty() {
                parts.push(Part::Name(name.to_owned()));
            }
            parts.push(Part::Item { member: member.trim().to_owned(), is });
        }
        if parts.iter().any(|part| part.text().matches('*').count() > 1) {
            return Err("a part of a path has one `*` at most".into());
        }
        Ok(TreePath { parts })
    }

    /// Counts its stars.
    pub(super) fn stars(&self) -> usize {
        self.parts.iter().filter(|part| part.text().contains('*')).count()
    }

    /// Everything in a tree to which the path leads.
    pub(super) fn find<'t>(&self, tree: &'t Tree) -> Vec<Found<'t>> {
        let mut found = vec![Found { at: Vec::new(), stars: Vec::new(), tree }];
        for part in &self.parts {
            found = found.into_iter().flat_map(|found| step(found, part)).collect();
        }
        found
    }
}

impl Part {
    fn text(&self) -> &str {
        match self {
            Part::Name(text) | Part::Item { is: text, .. } => text,
        }
    }
}

/// One part further.
fn step<'t>(found: Found<'t>, part: &Part) -> Vec<Found<'t>> {
    let children: Vec<(String, &'t Tree)> = match (found.tree, part) {
        // Nothing else can be meant by a part without a star.
        (Tree::Map(entries), Part::Name(part)) if !part.contains('*') => {
            entries.get(&**part).map(|tree| (part.clone(), tree)).into_iter().collect()
        }
        (tree, _) => children(tree),
    };
    let further = children.into_iter().filter_map(|(name, tree)| {
        let star = match part {
            Part::Name(part) => starred(part, &name)?,
            Part::Item { member, is } => {
                let Tree::Map(members) = tree else { return None };
                starred(is, &text(members.get(&**member)?)?)?
            }
        };
        let at = found.at.iter().cloned().chain([name]).collect();
        Some(Found { at, stars: found.stars.iter().cloned().chain(star).collect(), tree })
    });
    further.collect()
}

/// A text, or a number as one.
fn text(tree: &Tree) -> Option<String> {
    match tree {
        Tree::Text(text) => Some(text.to_string()),
        Tree::Int(int) => Some(int.to_string()),
        Tree::Null | Tree::Bool(_) | Tree::Float(_) | Tree::List(_) | Tree::Map(_) => None,
    }
}

/// Returns what is in a map or a list, by name or position.
pub(super) fn children(tree: &Tree) -> Vec<(String, &Tree)> {
    match tree {
        Tree::Map(entries) => entries.iter().map(|(name, tree)| (name.to_string(), tree)).collect(),
        Tree::List(items) => items.iter().enumerate().map(|(position, tree)| (position.to_string(), tree)).collect(),
        Tree::Null | Tree::Bool(_) | Tree::Int(_) | Tree::Float(_) | Tree::Text(_) => Vec::new(),
    }
}

/// `None` where a name does not fit a part, and what stands for the star, if the part has one.
fn starred(part: &str, name: &str) -> Option<Option<String>> {
    match part.split_once('*') {
        None => (part == name).then_some(None),
        Some((before, after)) => {
            let star = name.strip_prefix(before)?.strip_suffix(after)?;
            (!star.is_empty()).then(|| Some(star.to_owned()))
        }
    }
}

impl fmt::Display for TreePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, part) in self.parts.iter().enumerate() {
            match part {
                Part::Name(name) if index == 0 => f.write_str(name)?,
                Part::Name(name) => write!(f, ".{name}")?,
                Part::Item { member, is } => write!(f, "[{member} = \"{is}\"]")?,
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(path: &str, json: &str) -> Vec<(String, Option<String>)> {
        let tree = Tree::from_json(json.as_bytes()).unwrap();
        let found = TreePath::read(path).unwrap().find(&tree).into_iter();
        found.map(|found| (found.at.join("."), found.stars.first().cloned())).collect()
    }

    #[test]
    fn a_path_leads_through_maps_and_lists_by_name_and_by_star() {
        let one = |at: &str, star: Option<&str>| (at.to_owned(), star.map(str::to_owned));
        assert_eq!(found("a.1.b", r#"{"a": [{}, {"b": 4}]}"#), [one("a.1.b", None)]);
        assert_eq!(found("a.*", r#"{"a": [7, 8]}"#), [one("a.0", Some("0")), one("a.1", Some("1"))]);
        let flat = r#"{"Level1_Best": 4, "Level12_Best": 5, "Level_Best": 6, "Best": 7}"#;
        assert_eq!(found("Level*_Best", flat), [one("Level12_Best", Some("12")), one("Level1_Best", Some("1"))]);
        assert_eq!(found("a.b", r#"{"a": 3}"#), []);
        assert!(TreePath::read("a..b").is_err() && TreePath::read("a**").is_err() && TreePath::read("").is_err());
    }

    #[test]
    fn an_item_is_found_by_a_member_and_several_stars_keep_their_order() {
        let json = r#"{"relics": [{"id": "LAMP", "lvl": 2}, {"id": "ROPE", "lvl": 3}, 7], "a": {"x": {"p": 1}, "y": {"p": 2}}}"#;
        let one = |at: &str, star: Option<&str>| (at.to_owned(), star.map(str::to_owned));
        assert_eq!(found("relics[id = \"ROPE\"].lvl", json), [one("relics.1.lvl", None)]);
        assert_eq!(
            found("relics[id = '*'].lvl", json),
            [one("relics.0.lvl", Some("LAMP")), one("relics.1.lvl", Some("ROPE"))]
        );
        let tree = Tree::from_json(json.as_bytes()).unwrap();
        let stars = TreePath::read("*.*.p").unwrap().find(&tree).into_iter().map(|found| found.stars.join("/"));
        assert_eq!(stars.collect::<Vec<_>>(), ["a/x", "a/y"]);
        assert!(TreePath::read("relics[id]").is_err());
        assert_eq!(TreePath::read("relics[id = \"a.b\"].lvl").unwrap().to_string(), "relics[id = \"a.b\"].lvl");
    }
}
