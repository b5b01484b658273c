//! Paths into an old save: names and positions with dots between them, and at most one `*` for a name that is not the same everywhere.

use std::fmt;
use std::sync::Arc;

use crate::value::tree::Tree;

/// A path into a tree.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct TreePath {
    parts: Vec<String>,
}

/// What a path leads to.
pub(super) struct Found<'t> {
    /// Where it is, without a `*`.
    pub(super) at: Vec<String>,
    /// What stands for the `*`.
    pub(super) star: Option<String>,
    pub(super) tree: &'t Tree,
}

impl TreePath {
    /// A path as it is written, or the part that is wrong with it.
    pub(super) fn read(text: &str) -> Result<TreePath, String> {
        TreePath::of_parts(text.split('.').map(str::to_owned).collect())
    }

    pub(super) fn of_parts(parts: Vec<String>) -> Result<TreePath, String> {
        if parts.iter().any(String::is_empty) {
            return Err("a part of the path is empty".into());
        }
        if parts.iter().map(|part| part.matches('*').count()).sum::<usize>() > 1 {
            return Err("a path has one `*` at most".into());
        }
        Ok(TreePath { parts })
    }

    pub(super) fn has_star(&self) -> bool {
        self.parts.iter().any(|part| part.contains('*'))
    }

    /// Everything in a tree to which the path leads.
    pub(super) fn find<'t>(&self, tree: &'t Tree) -> Vec<Found<'t>> {
        let mut found = vec![Found { at: Vec::new(), star: None, tree }];
        for part in &self.parts {
            found = found.into_iter().flat_map(|found| step(found, part)).collect();
        }
        found
    }

    /// Whether what stands at a place belongs to what the path leads to: the place itself, or anything in it.
    pub(super) fn covers(&self, at: &[String]) -> bool {
        at.len() >= self.parts.len() && self.parts.iter().zip(at).all(|(part, name)| starred(part, name).is_some())
    }
}

/// One part further.
fn step<'t>(found: Found<'t>, part: &str) -> Vec<Found<'t>> {
    let children: Vec<(String, &'t Tree)> = match found.tree {
        // Nothing else can be meant by a part without a star.
        Tree::Map(entries) if !part.contains('*') => {
            entries.get(part).map(|tree| (part.to_owned(), tree)).into_iter().collect()
        }
        tree => children(tree),
    };
    let further = children.into_iter().filter_map(|(name, tree)| {
        let star = starred(part, &name)?;
        let at = found.at.iter().cloned().chain([name]).collect();
        Some(Found { at, star: star.or_else(|| found.star.clone()), tree })
    });
    further.collect()
}

/// What is in a map or a list, by name or position.
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
        f.write_str(&self.parts.join("."))
    }
}

/// A text that stands for a number, where a save writes numbers as texts.
pub(super) fn number(text: &Arc<str>) -> Option<f64> {
    text.trim().parse().ok().filter(|number: &f64| number.is_finite())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(path: &str, json: &str) -> Vec<(String, Option<String>)> {
        let tree = Tree::from_json(json.as_bytes()).unwrap();
        let found = TreePath::read(path).unwrap().find(&tree).into_iter().map(|found| (found.at.join("."), found.star));
        found.collect()
    }

    #[test]
    fn a_path_leads_through_maps_and_lists_by_name_and_by_star() {
        let one = |at: &str, star: Option<&str>| (at.to_owned(), star.map(str::to_owned));
        assert_eq!(found("a.1.b", r#"{"a": [{}, {"b": 4}]}"#), [one("a.1.b", None)]);
        assert_eq!(found("a.*", r#"{"a": [7, 8]}"#), [one("a.0", Some("0")), one("a.1", Some("1"))]);
        let flat = r#"{"Level1_Best": 4, "Level12_Best": 5, "Level_Best": 6, "Best": 7}"#;
        assert_eq!(found("Level*_Best", flat), [one("Level12_Best", Some("12")), one("Level1_Best", Some("1"))]);
        assert_eq!(found("a.b", r#"{"a": 3}"#), []);
        assert!(TreePath::read("a..b").is_err() && TreePath::read("*.*").is_err() && TreePath::read("").is_err());
    }

    #[test]
    fn what_a_path_covers_is_all_that_is_in_what_it_leads_to() {
        let path = TreePath::read("levels.*.best").unwrap();
        let covers = |at: &str| path.covers(&at.split('.').map(str::to_owned).collect::<Vec<_>>());
        assert!(
            covers("levels.one.best")
                && covers("levels.one.best.deep")
                && !covers("levels.one")
                && !covers("levels.one.time")
        );
    }
}
