//! What became of saves of older versions, on the page.

use serde::Serialize;
use vestigum_core::Spec;
use vestigum_verify::proof::{FieldProof, FieldVerdict, Proof, VersionProof};

#[derive(Serialize)]
pub(super) struct VersionView {
    from: i64,
    to: i64,
    images: usize,
    holds: bool,
    fields: Vec<FieldView>,
    fresh: Vec<String>,
    places: Vec<PlaceView>,
    failures: Vec<String>,
}

#[derive(Serialize)]
struct FieldView {
    field: String,
    now: String,
    class: &'static str,
    became: String,
    example: String,
}

#[derive(Serialize)]
struct PlaceView {
    from: String,
    to: String,
    why: Option<String>,
}

pub(super) fn view(spec: &Spec, proof: &Proof) -> Vec<VersionView> {
    proof.versions.iter().map(|version| version_view(spec.version(), version)).collect()
}

fn version_view(to: i64, version: &VersionProof) -> VersionView {
    let moved = version.places.iter().filter(|place| place.place != place.now || place.why.is_some());
    let places = moved.map(|place| PlaceView {
        from: place.place.to_string(),
        to: place.now.to_string(),
        why: place.why.clone(),
    });
    VersionView {
        from: version.version,
        to,
        images: version.images,
        holds: version.failures.is_empty() && version.lost().next().is_none(),
        fields: version.fields.iter().map(field_view).collect(),
        fresh: version.new.iter().filter(|new| new.filled_with.is_empty()).map(|new| new.name.to_string()).collect(),
        places: places.collect(),
        failures: version.failures.clone(),
    }
}

fn field_view(field: &FieldProof) -> FieldView {
    let steps: Vec<String> = field.became.iter().map(|(version, became)| format!("{became} in {version}")).collect();
    let (class, became) = match field.verdict {
        FieldVerdict::Lost => ("bad", "lost".to_owned()),
        _ if !field.lost.is_empty() => {
            let lost: Vec<String> = field.lost.iter().map(ToString::to_string).collect();
            ("bad", format!("lost in part: {}", lost.join(", ")))
        }
        FieldVerdict::Dropped if steps.is_empty() => ("open", "dropped".to_owned()),
        FieldVerdict::Dropped => ("open", steps.join(", ")),
        FieldVerdict::Code => ("open", "the game's code takes it".to_owned()),
        FieldVerdict::Kept if steps.is_empty() => ("good", "carried".to_owned()),
        FieldVerdict::Kept => ("good", steps.join(", ")),
    };
    let clamped = if field.clamped > 0 { format!(", clamped in {} saves", field.clamped) } else { String::new() };
    let now = match field.verdict {
        FieldVerdict::Dropped | FieldVerdict::Lost => String::new(),
        FieldVerdict::Kept | FieldVerdict::Code => {
            field.now.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
        }
    };
    let example = field.example.as_ref().filter(|_| field.verdict == FieldVerdict::Kept).map(|example| {
        match (example.from == example.to, example.was == example.is) {
            (true, true) => example.is.clone(),
            (true, false) => format!("{} → {}", example.was, example.is),
            (false, _) => format!("{} {} → {} {}", example.from, example.was, example.to, example.is),
        }
    });
    FieldView {
        field: field.field.to_string(),
        now,
        class,
        became: format!("{became}{clamped}"),
        example: example.unwrap_or_default(),
    }
}
