//! Which files are waiting.

use serde_json::Value;

use crate::market::Market;

const SPEC: &str = "[source]\nfiles = [\"*.csv\"]\n[columns]\nid = \"bigint\"\n\
    [target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\n[rejects]\nmax_rejects = 9\n";

fn states(market: &Market) -> Vec<(String, String)> {
    let said = market.run("status d.spec.toml --report json");
    assert_eq!(said.code, 0, "{}", said.err);
    let json = said.json();
    let files = json["files"].as_array().unwrap();
    let word = |file: &Value, key: &str| file[key].as_str().unwrap().to_string();
    files
        .iter()
        .map(|file| (word(file, "file"), word(file, "state")))
        .collect()
}

fn pairs(states: &[(String, String)]) -> Vec<(&str, &str)> {
    states
        .iter()
        .map(|(file, state)| (file.as_str(), state.as_str()))
        .collect()
}

#[test]
fn every_file_has_a_state_and_a_load_does_what_it_says() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("a.csv", b"id\n1\n2\n"),
        ("b.csv", b"id\n3\nx\n"),
    ]);
    assert_eq!(pairs(&states(&m)), [("a.csv", "new"), ("b.csv", "new")]);
    assert!(!m.path("m.db").exists(), "nothing is made");
    assert_eq!(m.run("load d.spec.toml").code, 0);
    m.write("a.csv", b"id\n1\n2\n4\n");
    m.write("c.csv", b"id\n5\n");
    m.write("e.csv", b"id\n5\n");
    let found = states(&m);
    assert_eq!(
        pairs(&found),
        [
            ("a.csv", "changed"),
            ("b.csv", "loaded"),
            ("c.csv", "new"),
            ("e.csv", "same content"),
        ]
    );
    let text = m.run("status d.spec.toml").out;
    assert!(text.contains("1 reject open (barrow mend "), "{text}");
    assert!(
        text.contains("4 files, 26 B: 1 new (5 B), 1 changed (9 B), 1 loaded"),
        "{text}"
    );
    // A load says the same.
    let load = m.run("load d.spec.toml");
    assert!(load.err.contains("a.csv"), "{}", load.err);
    let checked = m.run("check d.spec.toml");
    assert!(
        checked.err.contains("changed since its rows were loaded"),
        "{}",
        checked.err
    );
}

#[test]
fn what_was_interrupted_is_told_and_several_specs_are() {
    let going = SPEC.replace("create = true", "create = true\ncommit_every = 1000");
    let mut file = String::from("id\n");
    (0..200_000).for_each(|id| file += &format!("{id}\n"));
    file += "x\nx\nx\n";
    let m = Market::with(&[
        (
            "d.spec.toml",
            going
                .replace("max_rejects = 9", "max_rejects = 0")
                .as_bytes(),
        ),
        ("e.spec.toml", SPEC.replace("\"d\"", "\"e\"").as_bytes()),
        ("a.csv", file.as_bytes()),
    ]);
    assert_eq!(m.run("load d.spec.toml --threads 1").code, 3);
    assert_eq!(pairs(&states(&m)), [("a.csv", "interrupted")]);
    let both = m.run("status d.spec.toml e.spec.toml").out;
    assert!(
        both.contains("table d") && both.contains("table e"),
        "{both}"
    );
    let both = m.run("status d.spec.toml e.spec.toml --report json").json();
    assert_eq!(both.as_array().map(Vec::len), Some(2));
}

#[test]
fn a_mode_that_empties_the_table_is_told() {
    let m = Market::with(&[
        (
            "d.spec.toml",
            SPEC.replace("create", "mode = \"truncate\"\ncreate")
                .as_bytes(),
        ),
        ("a.csv", b"id\n1\n"),
    ]);
    assert_eq!(m.run("load d.spec.toml").code, 0);
    assert_eq!(pairs(&states(&m)), [("a.csv", "loaded")]);
    let text = m.run("status d.spec.toml").out;
    assert!(text.contains("mode = \"truncate\""), "{text}");
}
