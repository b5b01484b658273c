//! The JSON Schema of a spec, for editors that know TOML by a schema.

use serde_json::{Map, Value as Json, json};

use crate::keys::{Form, Holds, SpecKey, TABLES};

/// Says where the schema is kept, as the first line of a new spec names it.
pub const SCHEMA_FILE: &str = "vestigum.schema.json";

/// The schema, by JSON Schema 2020-12. What is between two names (that a field is known, that an expression is sound) it cannot say:
/// `check` does.
///
/// ```
/// let schema = vestigum_editor::schema::schema();
/// assert_eq!(schema["properties"]["game"]["required"][0], "id");
/// ```
pub fn schema() -> Json {
    let mut properties = Map::new();
    for table in TABLES {
        let mut said = match &table.form {
            Form::One(keys) => keyed(keys),
            Form::Named(keys) => named(keyed(keys)),
            Form::Several(keys) => json!({ "type": "array", "items": keyed(keys) }),
            Form::Free(holds) => named(held(holds)),
            Form::NamedFree(holds) => named(named(held(holds))),
        };
        said["description"] = json!(table.about);
        properties.insert(table.name.into(), said);
    }
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A Vestigum spec",
        "description": "What player progress persists between levels, deaths, checkpoints and sessions.",
        "type": "object",
        "properties": properties,
        "required": ["game"],
        "additionalProperties": false,
    })
}

/// A table with these keys and no others.
fn keyed(keys: &[SpecKey]) -> Json {
    let properties: Map<String, Json> = keys
        .iter()
        .map(|key| {
            let mut said = held(&key.holds);
            said["description"] = json!(key.about);
            (key.name.to_owned(), said)
        })
        .collect();
    let needed: Vec<&str> = keys.iter().filter(|key| key.needed).map(|key| key.name).collect();
    let mut table = json!({ "type": "object", "properties": properties, "additionalProperties": false });
    if !needed.is_empty() {
        table["required"] = json!(needed);
    }
    table
}

/// A table whose keys are names of the author's.
fn named(each: Json) -> Json {
    json!({ "type": "object", "additionalProperties": each })
}

fn held(holds: &Holds) -> Json {
    let text = || json!({ "type": "string" });
    let list = |of: Json| json!({ "type": "array", "items": of });
    match holds {
        Holds::Text | Holds::NewName | Holds::Name(_) | Holds::Type | Holds::Expression => text(),
        Holds::Code => json!({ "type": "string", "pattern": "^[Vv][0-9]{3}$" }),
        Holds::NewNames | Holds::Names(_) => list(text()),
        Holds::OneOrMore(_) | Holds::SortedBy => json!({ "anyOf": [text(), list(text())] }),
        Holds::Words(words) => json!({ "type": "string", "enum": words() }),
        Holds::Int => json!({ "type": "integer" }),
        Holds::Number => json!({ "type": "number" }),
        Holds::Numbers => list(json!({ "type": "number" })),
        Holds::Bool => json!({ "type": "boolean" }),
        Holds::Value => json!({}),
        Holds::Range => json!({ "type": "array", "items": { "type": "number" }, "minItems": 2, "maxItems": 2 }),
        Holds::Values(_) => named(json!({})),
        Holds::NewNamesTo(_) => named(text()),
        Holds::NumbersOf(_) => named(list(json!({ "type": "number" }))),
        Holds::Table(keys) => keyed(keys),
        Holds::Either(either) => json!({ "anyOf": either.iter().map(held).collect::<Vec<_>>() }),
        Holds::List(of) => list(held(of)),
        Holds::Rules(rule) => named(held(rule)),
    }
}
