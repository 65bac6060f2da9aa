//! JSON Schemas (2020-12) of the project file and the schema, so that editors complete them.

use super::keys;
use crate::formats::KINDS;
use crate::settings::Setting;
use serde_json::{Map, Value, json};

/// The JSON Schema of `stitching.toml` (first) and of a schema file (second).
pub fn json_schema() -> (Value, Value) {
    let mut project = object(keys::PROJECT_TOP);
    project["properties"]["project"] = object(keys::PROJECT);
    project["properties"]["layer"] = json!({ "type": "array", "items": object(keys::LAYER) });
    project["properties"]["languages"] = object(keys::LANGUAGES);

    let mut rule = object(keys::RULE);
    let mut field = object(&[keys::FIELD, keys::RULE].concat());
    // A part of the value has its rule under its own name.
    field["additionalProperties"] = json!({ "$ref": "#/$defs/rule" });
    rule["title"] = json!("rule of a value or a part");
    let mut table = object(keys::TABLE);
    table["properties"]["fields"] = json!({ "type": "object", "additionalProperties": field });
    let formats: Vec<Value> = KINDS.iter().map(|kind| object(kind.settings)).collect();
    table["properties"]["format"] = json!({ "anyOf": [{ "type": "string" }, { "anyOf": formats }] });
    let mut schema = object(keys::SCHEMA_TOP);
    schema["properties"]["table"] = json!({ "type": "object", "additionalProperties": table });
    for (name, settings) in [
        ("companion", keys::COMPANION),
        ("computed", keys::COMPUTED),
        ("derived", keys::DERIVED),
        ("paired", keys::PAIRED),
        ("rule", keys::GAME_RULE),
        ("log", keys::LOG),
    ] {
        schema["properties"][name] = json!({ "type": "array", "items": object(settings) });
    }
    let mut transfer = object(keys::TRANSFER);
    let field = json!({ "anyOf": [{ "type": "string" }, object(keys::TRANSFER_FIELD)] });
    transfer["properties"]["set"] = json!({ "type": "object", "additionalProperties": field });
    schema["properties"]["transfer"] = json!({ "type": "array", "items": transfer });
    let mut recipe = object(keys::RECIPE);
    recipe["properties"]["parameter"] = json!({ "type": "array", "items": object(keys::PARAMETER) });
    let mut step = object(&keys::all_steps());
    step["properties"]["each"] = object(keys::EACH);
    recipe["properties"]["step"] = json!({ "type": "array", "items": step });
    schema["properties"]["recipe"] = json!({ "type": "array", "items": recipe });
    schema["$defs"] = json!({ "rule": rule });

    for (value, title) in [(&mut project, "stitching.toml"), (&mut schema, "a Stitching schema")] {
        value["$schema"] = json!("https://json-schema.org/draft/2020-12/schema");
        value["title"] = json!(title);
    }
    (project, schema)
}

fn object(docs: &[Setting]) -> Value {
    let mut properties = Map::new();
    for doc in docs {
        let kinds: Vec<&str> = doc.kind.split('|').collect();
        let kind = if let [one] = kinds[..] { json!(one) } else { json!(kinds) };
        properties.insert(doc.name.to_owned(), json!({ "type": kind, "description": doc.about }));
    }
    json!({ "type": "object", "properties": properties, "additionalProperties": false })
}
