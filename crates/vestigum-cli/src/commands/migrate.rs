//! `vestigum migrate`: how saves of older versions come to this one, and the proof that none is lost.

use std::path::PathBuf;

use serde_json::{Value as Json, json};

use vestigum::{History, Place, Spec};
use vestigum_verify::proof::{FieldProof, FieldVerdict as Kept, NewField, Options, PlaceProof, VersionProof, prove};

use crate::show::{BACK, BAD, GOOD, Output, QUIET, RULE, STRONG, counted, paint, table, wrapped};
use crate::{Verdict, input};

#[derive(clap::Args)]
pub(crate) struct Arguments {
    /// The spec, a TOML document with its history beside it
    spec: PathBuf,
    /// Make saves of every frozen version, migrate and load them, and tell what becomes of each field
    #[arg(long)]
    prove: bool,
    /// Random saves to try of each version
    #[arg(long, value_name = "N", default_value_t = 100, requires = "prove")]
    random: usize,
    /// Seed of the random saves
    #[arg(long, value_name = "NUMBER", default_value_t = 1, requires = "prove")]
    seed: u64,
}

const NOTHING_OLDER: &str = "There is no older version to come from.";

pub(crate) fn run(out: &Output, arguments: &Arguments) -> Verdict {
    attempt(out, arguments).unwrap_or_else(|verdict| verdict)
}

fn attempt(out: &Output, arguments: &Arguments) -> Result<Verdict, Verdict> {
    let spec = input::spec(out, &arguments.spec)?;
    let Some(history) = spec.history().filter(|history| !history.is_empty()) else {
        let path = input::history_path(&arguments.spec);
        return Err(out.unusable(&format!(
            "there is no history {}; `vestigum freeze` begins one when a version ships",
            path.display()
        )));
    };
    if arguments.prove {
        let options = Options { random: arguments.random, seed: arguments.seed };
        return Ok(proof(out, &spec, &options));
    }
    way(out, &spec, history);
    Ok(Verdict::Fine)
}

/// The steps of every migration.
fn way(out: &Output, spec: &Spec, history: &History) {
    let first = history.versions().next().unwrap_or(spec.version());
    let steps = (first + 1..=spec.version()).map(|to| (to, spec.steps_to(to)));
    if out.json {
        let list = steps.map(|(to, steps)| json!({ "to": to, "steps": steps }));
        out.json(&json!({ "ok": true, "version": spec.version(), "migrations": list.collect::<Vec<_>>() }));
        return;
    }
    if first == spec.version() {
        out.line(NOTHING_OLDER);
        return;
    }
    for (to, steps) in steps {
        out.line(paint(STRONG, format_args!("version {} → {to}", to - 1)));
        for step in &steps {
            out.line(format_args!("   {step}"));
        }
        if steps.is_empty() {
            out.line(paint(QUIET, "   nothing but additions"));
        }
        out.line("");
    }
    out.line(paint(QUIET, "`vestigum migrate --prove` tries it on saves of every version."));
}

fn proof(out: &Output, spec: &Spec, options: &Options) -> Verdict {
    let proof = prove(spec, options);
    let verdict = if proof.holds() { Verdict::Fine } else { Verdict::Failed };
    if out.json {
        let versions: Vec<Json> = proof.versions.iter().map(as_json).collect();
        out.json(&json!({ "ok": proof.holds(), "version": spec.version(), "versions": versions }));
        return verdict;
    }
    if proof.versions.is_empty() {
        out.line(NOTHING_OLDER);
        return verdict;
    }
    for version in &proof.versions {
        show(out, spec, version);
    }
    let images: usize = proof.versions.iter().map(|version| version.images).sum();
    let failures: usize = proof.versions.iter().map(|version| version.failures.len()).sum();
    let lost: usize = proof.versions.iter().map(|version| version.lost().count()).sum();
    let mut versions: Vec<i64> = proof.versions.iter().map(|version| version.version).collect();
    versions.dedup();
    let shapes = match proof.versions.len() {
        shapes if shapes > versions.len() => format!(" in {shapes} shapes"),
        _ => String::new(),
    };
    let tried = format!("{} of {}{shapes}", counted(images, "save"), counted(versions.len(), "older version"));
    if proof.holds() {
        out.line(format_args!("{tried}: {}", paint(GOOD, "all come through, nothing is lost that no step drops")));
    } else {
        let failed = if failures > 0 { format!(", {}", counted(failures, "failure")) } else { String::new() };
        out.line(format_args!("{tried}: {}", paint(BAD, format_args!("{} lost{failed}", counted(lost, "field")))));
    }
    verdict
}

fn show(out: &Output, spec: &Spec, version: &VersionProof) {
    let now = spec.version();
    let stopped = match version.places.len() {
        0 => String::new(),
        places => format!(", one of them stopped at each of {places} places"),
    };
    out.line(format_args!(
        "{}   {}",
        paint(STRONG, format_args!("version {}{} → {now}", version.version, shape(version))),
        paint(QUIET, format_args!("{}{stopped}", counted(version.images, "save"))),
    ));
    out.line("");
    let heading = ["field".into(), format!("in version {now}"), "what becomes of it".into(), "for example".into()];
    let rows = version.fields.iter().map(|field| {
        let example = match (&field.example, field.verdict) {
            (Some(example), Kept::Kept) if example.from == example.to => match example.was == example.is {
                true => example.is.clone(),
                false => format!("{} → {}", example.was, example.is),
            },
            (Some(example), Kept::Kept) => {
                format!("{} {} → {} {}", example.from, example.was, example.to, example.is)
            }
            _ => String::new(),
        };
        vec![field.field.to_string(), held(field), became(field), paint(QUIET, example)]
    });
    out.line(table(&heading, rows.collect(), 3));
    for field in version.fields.iter().filter(|field| !field.lost.is_empty()) {
        let lost: Vec<String> = field.lost.iter().map(ToString::to_string).collect();
        out.line(paint(BAD, format_args!("lost: {}", lost.join(", "))));
    }
    let shown = |new: &&NewField| version.fields.iter().any(|field| field.now.iter().any(|now| now.field == new.name));
    let unshown = version.new.iter().filter(|new| !shown(new));
    let (filled, fresh): (Vec<_>, Vec<_>) = unshown.partition(|new| !new.filled_with.is_empty());
    for new in filled {
        out.line(format_args!("{} {}: {}", paint(RULE, "new"), new.name, short(&new.filled_with.join("; "))));
    }
    if !fresh.is_empty() {
        let names: Vec<&str> = fresh.into_iter().map(|new| &*new.name).collect();
        // The word stands in colour, and takes no part in the width.
        let told = wrapped(&format!("new at the default: {}", names.join(", ")), 110);
        for (index, line) in told.iter().enumerate() {
            match line.strip_prefix("new ").filter(|_| index == 0) {
                Some(rest) => out.line(format_args!("{} {rest}", paint(RULE, "new"))),
                None => out.line(format_args!("    {line}")),
            }
        }
    }
    let (kept, changed): (Vec<&PlaceProof>, Vec<&PlaceProof>) =
        version.places.iter().partition(|place| place.place == place.now && place.why.is_none());
    let (renamed, lost): (Vec<&PlaceProof>, Vec<&PlaceProof>) =
        changed.into_iter().filter(|place| !follows(version, place)).partition(|place| place.why.is_none());
    let mut told: Vec<String> = renamed.iter().map(|place| format!("{} → {}", place.place, place.now)).collect();
    if !kept.is_empty() {
        told.push(paint(QUIET, format_args!("{} as before", counted(kept.len(), "place"))));
    }
    if !told.is_empty() {
        out.line(format_args!("{} {}", paint(RULE, "places"), told.join(", ")));
    }
    for place in lost {
        let why = place.why.as_deref().unwrap_or_default();
        out.line(format_args!("{} {} → {}: {}", paint(RULE, "places"), place.place, place.now, paint(BACK, why)));
    }
    for failure in version.failures.iter().take(10) {
        out.line(paint(BAD, failure));
    }
    out.line("");
}

/// Names one of several shapes of a version: ", shape 8923b819"
fn shape(version: &VersionProof) -> String {
    let short = |shape: &String| format!(", shape {}", shape.get(..8).unwrap_or(shape));
    version.shape.as_ref().map(short).unwrap_or_default()
}

/// Returns whether a place has changed its name only with its level, which is told already.
fn follows(version: &VersionProof, place: &PlaceProof) -> bool {
    let (Place::InLevel { level, checkpoint: Some(at) }, Place::InLevel { level: level_now, checkpoint: Some(at_now) }) =
        (&place.place, &place.now)
    else {
        return false;
    };
    let at_entry =
        |place: &Place, of: &str| matches!(place, Place::InLevel { level, checkpoint: None } if **level == *of);
    let same = |known: &PlaceProof| at_entry(&known.place, level) && at_entry(&known.now, level_now);
    place.why.is_none() && at == at_now && version.places.iter().any(same)
}

fn held(field: &FieldProof) -> String {
    match field.verdict {
        Kept::Dropped | Kept::Lost => "—".into(),
        Kept::Kept | Kept::Code => field.now.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
    }
}

/// "renamed in 3", "carried"
fn became(field: &FieldProof) -> String {
    let clamped = match field.clamped {
        0 => String::new(),
        count => paint(BACK, format_args!(", clamped in {count} saves")),
    };
    match field.verdict {
        Kept::Lost => paint(BAD, "LOST"),
        _ if !field.lost.is_empty() => paint(BAD, "lost in part"),
        Kept::Dropped if field.became.is_empty() => paint(BACK, "dropped"),
        Kept::Dropped => paint(BACK, steps(field)),
        Kept::Code => paint(BACK, "the game's code takes it"),
        Kept::Kept if field.became.is_empty() => format!("{}{clamped}", paint(GOOD, "carried")),
        Kept::Kept => format!("{}{clamped}", paint(GOOD, steps(field))),
    }
}

fn steps(field: &FieldProof) -> String {
    let steps: Vec<String> = field.became.iter().map(|(version, became)| format!("{became} in {version}")).collect();
    steps.join(", ")
}

fn short(text: &str) -> String {
    if text.chars().count() <= 90 { text.to_owned() } else { text.chars().take(89).collect::<String>() + "…" }
}

fn as_json(version: &VersionProof) -> Json {
    let fields = version.fields.iter().map(|field| {
        let became = field.became.iter().map(|(to, became)| json!({ "version": to, "what": became.to_string() }));
        let verdict = match field.verdict {
            Kept::Kept => "kept",
            Kept::Dropped => "dropped",
            Kept::Code => "code",
            Kept::Lost => "lost",
        };
        json!({
            "field": &*field.field, "now": texts(&field.now), "became": became.collect::<Vec<_>>(), "verdict": verdict,
            "lost": texts(&field.lost), "clamped": field.clamped,
            "example": field.example.as_ref().map(|example| json!({
                "from": example.from.to_string(), "was": example.was, "to": example.to.to_string(), "is": example.is,
            })),
        })
    });
    let places = version
        .places
        .iter()
        .map(|place| json!({ "place": place.place.to_string(), "now": place.now.to_string(), "why": place.why }));
    let new = version.new.iter().map(|new| json!({ "field": &*new.name, "filled_with": new.filled_with }));
    json!({
        "version": version.version, "shape": version.shape, "images": version.images, "fields": fields.collect::<Vec<_>>(),
        "places": places.collect::<Vec<_>>(), "new": new.collect::<Vec<_>>(), "failures": version.failures,
    })
}

fn texts<T: ToString>(list: &[T]) -> Vec<String> {
    list.iter().map(ToString::to_string).collect()
}
