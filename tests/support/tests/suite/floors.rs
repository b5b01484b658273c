//! The modules of a crate stand on floors, and a module uses only modules of lower floors. ARCHITECTURE.md lists the floors
//! from the ground up; these tests read that list and every `use` of the sources.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The names in the first column of the table below a heading of ARCHITECTURE.md, in their order.
fn listed(heading: &str) -> Vec<String> {
    let text = fs::read_to_string(root().join("ARCHITECTURE.md")).unwrap();
    let (_, section) = text.split_once(&format!("### {heading}\n")).unwrap_or_else(|| panic!("no `### {heading}`"));
    let table = section.lines().skip_while(|line| !line.starts_with('|')).take_while(|line| line.starts_with('|'));
    table.filter_map(|row| row.strip_prefix("| `")?.split('`').next().map(str::to_owned)).collect()
}

/// The source files below a folder.
fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut files = Vec::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            files.extend(sources(&path));
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            files.push(path);
        }
    }
    files
}

/// Lists what a source file names by `crate::`, without comments and tests.
fn named(source: &str) -> Vec<&str> {
    let code = source.split("#[cfg(test)]").next().unwrap_or_default();
    let first = |path: &'_ str| path.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(path.len());
    let mut names = Vec::new();
    for (at, found) in code.match_indices("crate::") {
        let line = code[..at].rsplit('\n').next().unwrap_or_default();
        let path = &code[at + found.len()..];
        match path.strip_prefix('{') {
            _ if line.trim_start().starts_with("//") => {}
            None => names.push(&path[..first(path)]),
            Some(group) => {
                // The first names of a group; what stands in braces inside it belongs to them.
                let mut depth = 0usize;
                let mut start = 0;
                for (index, c) in group.char_indices() {
                    match c {
                        ',' | '}' if depth == 0 => {
                            let name = group[start..index].trim();
                            names.push(&name[..first(name)]);
                            start = index + 1;
                        }
                        _ => {}
                    }
                    match c {
                        '{' => depth += 1,
                        '}' if depth == 0 => break,
                        '}' => depth -= 1,
                        _ => {}
                    }
                }
            }
        }
    }
    names
}

/// Every arrow of a crate that does not lead downwards, and every module that has no floor.
fn wrong_arrows(krate: &str) -> Vec<String> {
    let floors = listed(&format!("The floors of `{krate}`"));
    let floor: BTreeMap<&str, usize> = floors.iter().enumerate().map(|(floor, name)| (name.as_str(), floor)).collect();
    let folder = root().join("crates").join(krate).join("src");
    let mut wrong = Vec::new();
    let mut seen = Vec::new();
    for file in sources(&folder) {
        let inside = file.strip_prefix(&folder).unwrap().to_str().unwrap().to_owned();
        let module = inside.split('/').next().unwrap().trim_end_matches(".rs").to_owned();
        if matches!(module.as_str(), "lib" | "main") {
            continue;
        }
        let Some(own) = floor.get(module.as_str()) else {
            wrong.push(format!("{krate}: ARCHITECTURE.md gives `{module}` no floor"));
            continue;
        };
        let source = fs::read_to_string(&file).unwrap();
        for other in named(&source).into_iter().filter(|other| *other != module) {
            match floor.get(other) {
                Some(other_floor) if other_floor < own => {}
                // What stands in lib.rs and main.rs is on no floor.
                None if !folder.join(other).exists() && !folder.join(format!("{other}.rs")).exists() => {}
                _ => wrong.push(format!("{krate}: {inside} uses `{other}`, which is not below `{module}`")),
            }
        }
        if source.contains("super::super::super") {
            wrong.push(format!("{krate}: {inside} reaches another module by `super`"));
        }
        seen.push(module);
    }
    let gone = floors.iter().filter(|name| !seen.contains(name));
    wrong.extend(gone.map(|name| format!("{krate}: ARCHITECTURE.md lists `{name}`, and there is no such module")));
    wrong
}

#[test]
fn a_module_uses_only_modules_of_lower_floors() {
    let crates = [
        "vestigum-spec",
        "vestigum-core",
        "vestigum",
        "vestigum-sqlite",
        "vestigum-postgres",
        "vestigum-bevy",
        "vestigum-verify",
        "vestigum-report",
        "vestigum-editor",
        "vestigum-cli",
    ];
    let wrong: Vec<String> = crates.iter().flat_map(|krate| wrong_arrows(krate)).collect();
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

/// A game links what the lower crates link, so no crate uses one above it, not even for a feature.
#[test]
fn a_crate_uses_only_crates_below_it() {
    let crates = listed("The crates");
    for (floor, krate) in crates.iter().enumerate() {
        let manifest = fs::read_to_string(root().join("crates").join(krate).join("Cargo.toml")).unwrap();
        let (_, after) = manifest.split_once("[dependencies]\n").unwrap();
        let wanted = after.lines().take_while(|line| !line.starts_with("[dev-dependencies]"));
        for name in wanted.filter_map(|line| line.split(['.', ' ']).next()).filter(|name| name.starts_with("vestigum"))
        {
            let found = crates.iter().position(|known| known == name);
            assert!(found.is_some_and(|found| found < floor), "{krate} uses {name}");
        }
    }
}
