//! Whether every level has its file, and every file a level.

use rustc_hash::{FxHashMap, FxHashSet};

use vestigum_core::{Diagnostic, Spec};
use vestigum_spec::diagnostic::SourceSpan;
use vestigum_spec::model::Model;
use vestigum_spec::model::level::Level;
use vestigum_spec::{codes, nearest};

use super::{AssetFiles, Finding};

/// At most 20 levels without a file are named, and at most 20 files of no level: more are another mistake than that.
const NAMED: usize = 20;

pub(super) fn findings(spec: &Spec, files: &AssetFiles<'_>) -> Vec<Finding> {
    let model = &**spec.model();
    let (Some(folder), Some(said)) = (model.assets.as_deref(), &model.document.assets) else { return Vec::new() };
    let top = match files(folder) {
        Ok(files) => files,
        Err(why) => {
            let message = format!("the files of the levels cannot be looked at: {why}");
            let help = "the folder is named from where the spec is";
            let diagnostic = Diagnostic::warning(codes::NO_ASSET, said.span, message).help(help);
            return vec![Finding { subject: "assets".into(), diagnostic }];
        }
    };
    let top: Vec<&str> = top.iter().map(String::as_str).filter(|name| !name.starts_with('.')).collect();
    let mut inner = FxHashMap::default();
    let mut used: FxHashSet<&str> = FxHashSet::default();
    let mut found = Vec::new();
    let mut without = 0;
    // What a player makes of a level is in the save.
    for level in model.shipped_levels() {
        let missing = match (&level.asset, level.asset().rsplit_once('/')) {
            (None, _) => {
                let own: Vec<&str> = top.iter().copied().filter(|name| stem(name) == level.id()).collect();
                used.extend(&own);
                own.is_empty().then(|| (level.id(), top.iter().map(|name| stem(name)).collect::<Vec<_>>()))
            }
            (Some(asset), None) => {
                let named = top.iter().copied().find(|name| name == asset);
                used.extend(named);
                named.is_none().then(|| (asset.as_str(), top.clone()))
            }
            (Some(_), Some((path, file))) => {
                let of = inner.entry(path).or_insert_with(|| files(&format!("{folder}/{path}")).unwrap_or_default());
                (!of.iter().any(|name| name == file)).then(|| (file, of.iter().map(String::as_str).collect()))
            }
        };
        without += usize::from(missing.is_some());
        if let Some((wanted, known)) = missing.filter(|_| without <= NAMED) {
            let diagnostic = no_asset(model, level, folder, near(wanted, known));
            found.push(Finding { subject: level.id().to_owned(), diagnostic });
        }
    }
    if without > NAMED {
        let message = format!("{} more levels have no file in `{folder}`", without - NAMED);
        found.push(Finding {
            subject: "assets".into(),
            diagnostic: Diagnostic::warning(codes::NO_ASSET, said.span, message),
        });
    }
    let unused = top.iter().copied().filter(|name| !used.contains(name));
    let unused =
        unused.map(|name| Finding { subject: name.to_owned(), diagnostic: no_level(model, folder, said.span, name) });
    found.extend(unused.take(NAMED));
    found
}

/// The name of a file up to the first dot.
fn stem(name: &str) -> &str {
    name.split_once('.').map_or(name, |(stem, _)| stem)
}

fn near<'n>(name: &str, known: impl IntoIterator<Item = &'n str>) -> Option<String> {
    nearest(name, known).map(str::to_owned)
}

fn no_asset(spec: &Model, level: &Level, folder: &str, near: Option<String>) -> Diagnostic {
    let document = &spec.document;
    let declared = document.levels.iter().find(|(name, _)| *name.value == *level.id());
    let asset = declared.and_then(|(_, entry)| entry.asset.as_ref());
    let named = document.order.iter().find(|name| *name.value == *level.id());
    let span = asset.or(declared.map(|(name, _)| name)).or(named).map(|word| word.span).unwrap_or_default();
    let wanted = match &level.asset {
        Some(asset) => format!("`{folder}/{asset}` is not there"),
        None => format!("no file in `{folder}` is called `{}`, with any extension", level.id()),
    };
    let error = Diagnostic::warning(codes::NO_ASSET, span, format!("`{}` has no file: {wanted}", level.id()));
    match near {
        Some(near) => error.help(format!("is it `{near}`? Upper and lower case count")),
        None => error.help("add the file, or say which it is with `asset`"),
    }
}

fn no_level(spec: &Model, folder: &str, span: SourceSpan, name: &str) -> Diagnostic {
    let error = Diagnostic::warning(codes::UNUSED_ASSET, span, format!("`{folder}/{name}` is the file of no level"));
    match near(stem(name), spec.shipped_levels().iter().map(Level::id)) {
        Some(level) => error.help(format!("is it the file of `{level}`? Then say so with `asset = \"{name}\"`")),
        None => error.help("add the level to the spec, or take the file out of the folder"),
    }
}
