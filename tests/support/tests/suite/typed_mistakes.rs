//! A crate of its own outside this workspace that depends on `vestigum`: what is right compiles in each edition, and what people
//! get wrong does not, with a message that says what it is.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

use serde_json::Value as Json;

const RIGHT: &str = r#"
fn main() -> Result<(), Box<dyn std::error::Error>> {
    let mut game = vestigum::Session::launch(p::spec(), vestigum::MemoryStore::default(), "ada")?;
    game.enter(p::Level::MillLane)?;
    game.set(p::LETTERS, 60)?;
    game.list_mut(p::TEAM).push(p::Hound { name: "Rook".into(), ..p::Hound::default() })?;
    game.complete()?;
    assert_eq!(game.get(p::BEST.at(p::Level::MillLane)), 60);
    game.quit()?;
    Ok(())
}
"#;

/// Holds what is written in `main`, and what the compiler must say.
const WRONG: [(&str, &str, &[&str]); 8] = [
    ("misspelt_level", "let _ = p::BEST.at(p::Level::MilLane);", &["MilLane", "p::Level", "MillLane"]),
    ("wrong_type", "let _ = game().set(p::LETTERS, \"sixty\");", &["mismatched types", "expected `i64`, found `&str`"]),
    ("missing_member", "let _ = p::Hound { name: \"Rook\".into() };", &["missing field `health`"]),
    ("key_of_another_set", "let _ = p::BEST.at(p::Gate::Upper);", &["Gate", "Level", "is not satisfied"]),
    ("level_of_another_spec", "let _ = p::BEST.at(other::Level::MillLane);", &["other::Level", "is not satisfied"]),
    ("no_such_field", "let _ = game().get(p::LETERS);", &["cannot find value `LETERS`", "LETTERS"]),
    ("written_derived", "let _ = game().set(p::DONE, 3);", &["mismatched types", "DerivedHandle"]),
    ("no_text_number", "let _ = game().add(p::NAME, 1);", &["Number", "str"]),
];

/// Names that Rust, or the code that is made, has a meaning for.
const ODD: &str = r#"
[keys.option]
names = ["none", "some", "self"]
[struct.string]
type = "text"
self = { type = "choice", of = ["ok", "err", "crate"], default = "err" }
vec = { type = "list of vec2", default = [[1, 2]] }
[struct.result]
box = "string"
[field.hash]
type = "choice"
of = ["debug", "clone", "static"]
lasts = "device"
[field.spec]
type = "result"
lasts = "run"
after_failure = "keep"
[field.placed]
type = "set of text"
per = ["option", "level"]
lasts = "run"
after_failure = "keep"
[derived]
fn = { per = "option", value = "1" }
"#;

/// Specs with mistakes, and what stands in the compiler's error.
const SPECS: [(&str, &str, &[&str]); 4] = [
    (
        "unknown_key",
        "[field.score]\ntyp = \"int\"\n",
        &["did you mean `type`?", "typ = \"int\"", "unknown_key.toml:6:1"],
    ),
    ("unknown_name", "[run]\nover_when = \"lifes == 0\"\n", &["nothing is called `lifes`", "error[V004]"]),
    ("two_types", "[keys.level_]\nnames = [\"a\"]\n", &["two things of the spec would both be the Rust type `Level`"]),
    ("two_variants", "[keys.gate]\nnames = [\"up_per\", \"upPer\"]\n", &["would both be `Gate::UpPer`"]),
];

const HEAD: &str = "[game]\nid = \"fellpost\"\n[levels]\norder = [\"mill_lane\"]\n";
const SPEC: &str = r#"
[struct.hound]
name = "text"
health = { type = "int", default = 10 }
[keys.gate]
names = ["upper", "lower"]
[field.letters]
type = "int"
lasts = "visit"
after_failure = "keep"
[field.name]
type = "text"
lasts = "profile"
after_failure = "keep"
[field.text]
type = "text"
lasts = "profile"
after_failure = "keep"
[field.team]
type = "list of hound"
lasts = "run"
after_failure = "keep"
[field.best]
type = "int"
per = "level"
lasts = "profile"
on.complete = { max = "letters" }
[field.passed]
type = "bool"
per = "gate"
lasts = "profile"
after_failure = "keep"
[derived]
done = "count(completed)"
"#;

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap()
}

/// A crate with a program for each case.
fn written(edition: &str) -> PathBuf {
    let folder = Path::new(env!("CARGO_TARGET_TMPDIR")).join(format!("dependant_{edition}"));
    let programs = folder.join("src/bin");
    fs::create_dir_all(&programs).unwrap();
    let manifest = format!(
        "[package]\nname = \"dependant\"\nversion = \"0.1.0\"\nedition = \"{edition}\"\n[workspace]\n[dependencies]\n\
         vestigum = {{ path = {:?} }}\n",
        root().join("crates/vestigum")
    );
    fs::write(folder.join("Cargo.toml"), manifest).unwrap();
    fs::copy(root().join("Cargo.lock"), folder.join("Cargo.lock")).unwrap();
    fs::write(folder.join("progress.toml"), format!("{HEAD}{SPEC}")).unwrap();
    let modules = "vestigum::spec! { mod p = \"progress.toml\"; }\nvestigum::spec! { mod other = \"progress.toml\" }\n";
    let game = "fn game() -> vestigum::Session {\n    \
                vestigum::Session::launch(p::spec(), vestigum::MemoryStore::default(), \"ada\").unwrap()\n}\n";
    fs::write(programs.join("right.rs"), format!("{modules}{RIGHT}")).unwrap();
    fs::write(folder.join("odd.toml"), format!("{HEAD}{ODD}")).unwrap();
    let odd = "vestigum::spec! { mod p = \"odd.toml\"; }\nfn main() {\n    let _ = (p::PLACED.at((p::Option::None, p::Level::MillLane)), \
               p::FN.at(p::Option::Self_));\n    assert_eq!(p::String::default().self_, p::StringSelf::Err);\n}\n";
    fs::write(programs.join("odd.rs"), odd).unwrap();
    for (name, code, _) in WRONG {
        let text = format!("#![allow(dead_code)]\n{modules}{game}fn main() {{\n    {code}\n}}\n");
        fs::write(programs.join(format!("{name}.rs")), text).unwrap();
    }
    for (name, spec, _) in SPECS {
        fs::write(folder.join(format!("{name}.toml")), format!("{HEAD}{spec}")).unwrap();
        let text = format!("vestigum::spec! {{ pub mod p = \"{name}.toml\"; }}\nfn main() {{}}\n");
        fs::write(programs.join(format!("{name}.rs")), text).unwrap();
    }
    folder
}

/// Returns what the compiler says about each program.
fn compiled(folder: &Path) -> BTreeMap<String, String> {
    let output = Command::new(env!("CARGO"))
        .args(["check", "--offline", "--keep-going", "--bins", "--message-format", "json"])
        .current_dir(folder)
        .env("CARGO_TARGET_DIR", Path::new(env!("CARGO_TARGET_TMPDIR")).join("dependant_target"))
        .env_remove("RUSTFLAGS")
        .output()
        .unwrap();
    let mut said: BTreeMap<String, String> = BTreeMap::new();
    for line in String::from_utf8_lossy(&output.stdout).lines() {
        let Ok(message) = serde_json::from_str::<Json>(line) else { continue };
        let target = message["target"]["name"].as_str().unwrap_or_default().to_owned();
        let text = message["message"]["rendered"].as_str().filter(|_| message["message"]["level"] == "error");
        said.entry(target).or_default().push_str(text.unwrap_or_default());
    }
    assert!(said.contains_key("right"), "nothing was compiled:\n{}", String::from_utf8_lossy(&output.stderr));
    said
}

#[test]
fn a_crate_that_depends_on_this_one_is_told_its_mistakes() {
    for edition in ["2021", "2024"] {
        let said = compiled(&written(edition));
        for right in ["right", "odd"] {
            assert_eq!(said.get(right).map(String::as_str), Some(""), "{right}, edition {edition}");
        }
        let wrong = WRONG.iter().map(|(name, _, expected)| (name, expected));
        for (name, expected) in wrong.chain(SPECS.iter().map(|(name, _, expected)| (name, expected))) {
            let said = said.get(*name).map_or("", |said| said);
            for part in *expected {
                assert!(said.contains(part), "{name}, edition {edition}: `{part}` is not said:\n{said}");
            }
        }
    }
}
