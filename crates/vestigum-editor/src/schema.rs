//! The JSON Schema of a spec, for editors that know TOML by a schema.

use serde_json::{Map, Value as Json, json};

use vestigum_spec::reading::ELSEWHERE;

use crate::keys::{Form, Holds, SpecKey, Stands, TABLES};

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
    let stand = |stands: Stands| keys.iter().filter(move |key| key.stands == stands).map(|key| key.name);
    let always: Vec<&str> = stand(Stands::Always).collect();
    let one_of: Vec<Json> = stand(Stands::AsOneOf).map(|name| json!({ "required": [name] })).collect();
    let mut table = json!({ "type": "object", "properties": properties, "additionalProperties": false });
    if !always.is_empty() {
        table["required"] = json!(always);
    }
    if !one_of.is_empty() {
        table["oneOf"] = json!(one_of);
    }
    table
}

/// The pattern of a name.
const NAME: &str = "^[A-Za-z_][A-Za-z0-9_]*$";

/// A table whose keys are names of the author's.
fn named(each: Json) -> Json {
    json!({ "type": "object", "propertyNames": { "pattern": NAME }, "additionalProperties": each })
}

/// A table whose keys name entries of fields: `letters` or `letters[mill_lane]`.
fn by_entry(each: Json) -> Json {
    json!({ "type": "object", "additionalProperties": each })
}

fn held(holds: &Holds) -> Json {
    let text = || json!({ "type": "string" });
    let name = || json!({ "type": "string", "pattern": NAME });
    let list = |of: Json| json!({ "type": "array", "items": of });
    match holds {
        Holds::Text | Holds::Name(_) | Holds::Expression => text(),
        Holds::NewName => name(),
        // A struct may have any name but the words that other languages have for types.
        Holds::Type => json!({ "type": "string", "not": { "pattern": foreign_type() } }),
        Holds::Code => json!({ "type": "string", "pattern": "^[Vv][0-9]{3}$" }),
        Holds::NewNames => list(name()),
        Holds::Names(_) => list(text()),
        Holds::OneOrMore(_) | Holds::SortedBy => json!({ "anyOf": [text(), list(text())] }),
        Holds::Words(words) => json!({ "type": "string", "enum": words() }),
        Holds::Int => json!({ "type": "integer" }),
        Holds::Count(least, i64::MAX) => json!({ "type": "integer", "minimum": least }),
        Holds::Count(least, most) => json!({ "type": "integer", "minimum": least, "maximum": most }),
        Holds::Number => json!({ "type": "number" }),
        Holds::Numbers => list(json!({ "type": "number" })),
        Holds::Bool => json!({ "type": "boolean" }),
        Holds::Value => json!({}),
        Holds::Range => json!({ "type": "array", "items": { "type": "number" }, "minItems": 2, "maxItems": 2 }),
        Holds::Values(_) => by_entry(json!({})),
        Holds::NewNamesTo(_) => named(text()),
        Holds::NumbersOf(_) => named(list(json!({ "type": "number" }))),
        Holds::Table(keys) => keyed(keys),
        Holds::Either(either) => json!({ "anyOf": either.iter().map(held).collect::<Vec<_>>() }),
        Holds::List(of) => list(held(of)),
        Holds::Rules(rule) => named(held(rule)),
    }
}

/// Matches a type in the words of another language, alone or inside a container.
fn foreign_type() -> String {
    let words: Vec<&str> = ELSEWHERE.iter().map(|(word, _)| *word).collect();
    format!("(^| of )({})( of |$)", words.join("|"))
}
