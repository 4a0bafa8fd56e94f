//! The JSON Schema of the spec takes every spec of the demo, and tells a slip.

use std::path::Path;

use barrow_core::spec::keys::schema;
use serde_json::Value;

fn json(text: &str) -> Value {
    let table: toml::Table = text.parse().expect("TOML");
    // Dates of TOML are text in JSON.
    let value = toml::Value::Table(table);
    serde_json::from_str(&serde_json::to_string(&value).expect("JSON")).expect("JSON")
}

#[test]
fn the_specs_of_the_demo_are_valid_and_slips_are_not() {
    let schema = jsonschema::validator_for(&schema()).expect("it is a schema");
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let mut found = 0;
    for entry in std::fs::read_dir(folder).expect("the demo") {
        let path = entry.expect("a file").path();
        let name = path
            .file_name()
            .unwrap_or_default()
            .to_string_lossy()
            .into_owned();
        if !name.ends_with(".spec.toml") {
            continue;
        }
        let text = std::fs::read_to_string(&path).expect("text");
        let errors: Vec<String> = schema
            .iter_errors(&json(&text))
            .map(|e| e.to_string())
            .collect();
        // One spec has slips in it, for the tour.
        let has_slips = name == "slips.spec.toml";
        assert_eq!(!errors.is_empty(), has_slips, "{name}: {errors:?}");
        found += 1;
    }
    assert!(found >= 8, "{found} specs");
    for slip in [
        "[source]\nencodng = \"utf-8\"\n",
        "[records]\nlayout = \"excel\"\n",
        "[target]\ncreate = \"yes\"\n",
        "[columns]\na = { type = \"text\", width = -1 }\n",
        "[delimiter]\nx = 1\n",
    ] {
        assert!(!schema.is_valid(&json(slip)), "{slip}");
    }
}
