//! The public interface of the crates that others build on, as a list that is kept in version control.
//!
//! `cargo doc` knows what is public. This reads its pages and compares what they declare with the lists in docs/api, so that
//! the interface changes only on purpose:
//!
//! ```text
//! scripts/api          compares
//! scripts/api --write  writes the lists anew
//! ```

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

const CRATES: [&str; 2] = ["vestigum", "vestigum_verify"];

fn main() -> ExitCode {
    let mut arguments = std::env::args().skip(1);
    let docs = PathBuf::from(arguments.next().unwrap_or_else(|| "target/doc".into()));
    let write = arguments.next().is_some_and(|argument| argument == "--write");
    let mut same = true;
    for name in CRATES {
        let mut lines = BTreeSet::new();
        pages(&docs.join(name), name, &mut lines);
        let listed = lines.into_iter().collect::<Vec<_>>().join("\n") + "\n";
        let file = Path::new("docs/api").join(format!("{name}.txt"));
        if write {
            fs::write(&file, listed).unwrap_or_else(|error| panic!("cannot write {}: {error}", file.display()));
            continue;
        }
        let known = fs::read_to_string(&file).unwrap_or_default();
        for (sign, one, other) in [("-", &known, &listed), ("+", &listed, &known)] {
            let other: BTreeSet<&str> = other.lines().collect();
            for line in one.lines().filter(|line| !other.contains(line)) {
                println!("{sign} {line}");
                same = false;
            }
        }
    }
    if same {
        return ExitCode::SUCCESS;
    }
    println!("the public interface has changed: if it is meant, `scripts/api --write`, and tell it in CHANGELOG.md");
    ExitCode::FAILURE
}

/// Lists what the pages of a module declare.
fn pages(folder: &Path, module: &str, lines: &mut BTreeSet<String>) {
    let entries = fs::read_dir(folder).unwrap_or_else(|error| panic!("no pages in {}: {error}", folder.display()));
    for entry in entries {
        let path = entry.unwrap_or_else(|error| panic!("cannot read {}: {error}", folder.display())).path();
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        if path.is_dir() {
            // Only modules that can be named have a page of their own.
            if path.join("index.html").exists() {
                pages(&path, &format!("{module}::{name}"), lines);
            }
            continue;
        }
        let kinds = ["struct.", "enum.", "trait.", "fn.", "type.", "constant.", "macro."];
        let item = kinds.iter().find_map(|kind| name.strip_prefix(kind)?.strip_suffix(".html"));
        if let Some(item) = item {
            let page =
                fs::read_to_string(&path).unwrap_or_else(|error| panic!("cannot read {}: {error}", path.display()));
            page_of(&page, &format!("{module}::{item}"), lines);
        }
    }
}

fn page_of(page: &str, item: &str, lines: &mut BTreeSet<String>) {
    let declared = between(page, "<pre class=\"rust item-decl\"><code>", "</code></pre>").next();
    lines.extend(declared.map(|declared| format!("{item}: {}", text(declared))));
    // What every type has of itself says nothing.
    let own = page.split("id=\"synthetic-implementations\"").next().unwrap_or_default();
    let (inherent, traits) = own.split_once("id=\"trait-implementations\"").unwrap_or((own, ""));
    let methods = between(inherent, "<h4 class=\"code-header\">", "</h4>");
    lines.extend(methods.map(|method| format!("{item}: {}", text(method))));
    let implemented = between(traits, "<h3 class=\"code-header\">", "</h3>");
    let implemented = implemented.map(text).filter(|header| !header.contains("StructuralPartialEq"));
    lines.extend(implemented.map(|header| format!("{item}: {header}")));
}

fn between<'p>(page: &'p str, begin: &'p str, end: &'p str) -> impl Iterator<Item = &'p str> {
    page.split(begin).skip(1).filter_map(move |rest| rest.split(end).next())
}

/// The text of a piece of HTML, in one line.
fn text(html: &str) -> String {
    let mut plain = String::new();
    let mut inside = false;
    for c in html.chars() {
        match c {
            '<' => inside = true,
            '>' if inside => inside = false,
            c if !inside => plain.push(c),
            _ => {}
        }
    }
    let plain = plain.replace("&lt;", "<").replace("&gt;", ">").replace("&quot;", "\"").replace("&#39;", "'");
    let plain = plain.replace("&amp;", "&");
    // The button that hides the rest of a long item: "Show 13 fields".
    let mut words: Vec<&str> = plain.split_whitespace().collect();
    let button = |words: &[&str]| {
        let [show, count, what] = words else { return false };
        show.ends_with("Show") && count.parse::<u32>().is_ok() && ["fields", "variants"].contains(what)
    };
    while let Some(at) = words.windows(3).position(button) {
        let kept = words[at].trim_end_matches("Show");
        words.splice(at..at + 3, (!kept.is_empty()).then_some(kept));
    }
    words.join(" ")
}
