//! A JSON Schema of the spec (draft 2020-12), by which editors complete and check it.

use serde_json::{Map, Value, json};

use super::{Key, SECTIONS_OF_ONE, Takes, all, of_section};

/// The schema.
pub fn schema() -> Value {
    let object = |section: &str| json!({ "type": "object", "properties": keys(section), "additionalProperties": false });
    let list = |section: &str| json!({ "type": "array", "items": object(section) });
    let mut properties = keys(super::TOP);
    for section in SECTIONS_OF_ONE {
        properties.insert(section.into(), object(section));
    }
    properties.insert("columns".into(), columns());
    properties.insert("check".into(), list("check"));
    properties.insert("control_total".into(), list("control_total"));
    properties.insert("references".into(), list("references"));
    properties.insert("record_type".into(), record_types());
    properties.insert(
        "stores".into(),
        json!({ "type": "object", "additionalProperties": object("stores") }),
    );
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A spec of Lucky Barrow",
        "type": "object", "properties": properties, "additionalProperties": false,
    })
}

fn keys(section: &str) -> Map<String, Value> {
    of_section(section)
        .into_iter()
        .map(|key| (key.name.to_string(), described(key)))
        .collect()
}

/// A column: its type alone, or a table of keys.
fn columns() -> Value {
    let mut properties = keys("columns");
    for key in all().filter(|key| key.stands_on_columns()) {
        properties.entry(key.name).or_insert_with(|| described(key));
    }
    let table =
        json!({ "type": "object", "properties": properties, "additionalProperties": false });
    json!({
        "type": "object",
        "additionalProperties": { "anyOf": [{ "type": "string" }, table] },
    })
}

fn record_types() -> Value {
    let mut properties = keys("record_type");
    properties.insert("columns".into(), columns());
    let check =
        json!({ "type": "object", "properties": keys("check"), "additionalProperties": false });
    properties.insert("check".into(), json!({ "type": "array", "items": check }));
    json!({
        "type": "array",
        "items": { "type": "object", "properties": properties, "additionalProperties": false },
    })
}

/// What a key takes, and what it means.
fn described(key: &Key) -> Value {
    let text = json!({ "type": "string" });
    let count = json!({ "type": "integer", "minimum": 0 });
    let or = |words: &[&str], other: Value| json!({ "anyOf": [{ "enum": words }, other] });
    let mut schema = match key.takes {
        Takes::Text => text,
        Takes::Texts => {
            json!({ "anyOf": [text, { "type": "array", "items": { "type": "string" } }] })
        }
        Takes::Flag => json!({ "type": "boolean" }),
        Takes::Count => count,
        Takes::CountOrText => json!({ "anyOf": [count, text] }),
        Takes::Words(words) => json!({ "enum": words }),
        Takes::WordsOrText(words) => or(words, text),
        Takes::WordsOrCount(words) => or(words, count),
        Takes::WordsOrAny(words) => or(words, json!({ "type": "object" })),
        Takes::Any => json!({}),
    };
    if let Some(schema) = schema.as_object_mut() {
        schema.insert("description".into(), json!(key.plain_meaning()));
    }
    schema
}
