//! What a check says of files is what a load of them then does: the same counts, the same
//! files passed over, the same exit code.

use serde_json::Value;

use crate::databases::{Database, Kind, on_every_database};
use crate::market::Said;

on_every_database! {
    a_check_says_what_a_load_does,
    a_check_knows_what_is_loaded_already,
    a_file_that_has_changed_stops_both,
    a_file_that_another_load_has_is_told,
}

const FILE: &str = "id,c,t\n1,abc,x\n2,\"ab \",y\n3,abc,\"a\u{0}b\"\n,q,z\n1,r,w\n";

fn spec(source: &str, target: &str, rejects: &str) -> String {
    format!(
        "[source]\nfiles = [\"d.csv\"]\n{source}\n[columns]\nid = \"integer\"\nc = \"char(3)\"\n\
         t = \"text\"\n[target]\ntable = \"d\"\n{target}\n[rejects]\n{rejects}\n"
    )
}

/// What counts of a report: the exit code, the rows, the rejects, and the files passed over.
fn told(said: &Said) -> (i32, Option<(Value, Value, usize)>) {
    let json: Option<Value> = serde_json::from_str(&said.out).ok();
    let json = json.filter(|json| json["kind"] != "error");
    let counts = json.map(|json| {
        let skipped = json["skipped_files"].as_array().map_or(0, Vec::len);
        (json["loaded"].clone(), json["rejected"].clone(), skipped)
    });
    (said.code, counts)
}

/// Checks, then loads, and returns what both said; a load that stops says no counts.
fn both(d: &Database, name: &str) -> (i32, Option<(Value, Value, usize)>) {
    let check = d.run("check d.spec.toml --report json");
    let load = d.run("load d.spec.toml --report json");
    let (checked, loaded) = (told(&check), told(&load));
    let says = format!(
        "{name} ({:?}):\n{}{}\n{}{}",
        d.kind, check.out, check.err, load.out, load.err
    );
    assert_eq!(checked.0, loaded.0, "{says}");
    if loaded.1.is_some() {
        assert_eq!(checked.1, loaded.1, "{says}");
    } else {
        // The same words, too, for people and for programs.
        let checked = check.json();
        let stops = match checked["kind"] == "error" {
            true => &checked,
            false => &checked["stops"],
        };
        let (stops, ended) = (&stops["error"], &load.json()["error"]);
        assert_eq!(stops["kind"], ended["kind"], "{says}");
        assert_eq!(stops["advice"], ended["advice"], "{says}");
        let first = load.err.lines().next().unwrap_or_default();
        assert!(check.err.contains(first), "{says}");
    }
    loaded
}

fn a_check_says_what_a_load_does(kind: Kind) {
    let many = "max_rejects = 50";
    let tables = [
        ("none that is made", "", "create = true", many, 0),
        ("none that is not made", "", "", many, 2),
        (
            "CREATE TABLE d (id INTEGER NOT NULL, c VARCHAR(3), t VARCHAR(5))",
            "",
            "",
            many,
            0,
        ),
        (
            "CREATE TABLE d (id INTEGER PRIMARY KEY, c VARCHAR(2), t VARCHAR(5) UNIQUE)",
            "",
            "",
            many,
            0,
        ),
        (
            "CREATE TABLE d (id INTEGER NOT NULL, c VARCHAR(3), t VARCHAR(5))",
            "",
            "",
            "max_rejects = 0",
            3,
        ),
        (
            "CREATE TABLE d (id INTEGER NOT NULL, c VARCHAR(3), t VARCHAR(5))",
            "",
            "",
            "max_rejects = 0\nper = \"file\"",
            3,
        ),
        ("CREATE TABLE d (id INTEGER)", "", "", many, 2),
    ];
    for (table, source, target, rejects, code) in tables {
        let files: [(&str, &[u8]); 2] = [
            ("d.spec.toml", spec(source, target, rejects).as_bytes()),
            ("d.csv", FILE.as_bytes()),
        ]
        .map(|(name, bytes)| (name, Box::leak(bytes.to_vec().into_boxed_slice()) as &[u8]));
        let d = Database::new(kind, &files);
        if table.starts_with("CREATE") {
            d.sql(&[table]);
        }
        let ends = both(&d, &format!("{table} {rejects}")).0;
        // There is not even a file of that name.
        let is_gone = kind == Kind::Sqlite && table == "none that is not made";
        assert_eq!(ends, if is_gone { 1 } else { code }, "{table} {rejects}");
    }
    // Files without a record, and without a byte.
    for file in ["", "id,c,t\n"] {
        for (source, target, code) in [
            ("", "create = true", 1),
            ("when_empty = \"skip\"", "create = true", 0),
            (
                "when_empty = \"skip\"",
                "create = true\nmode = \"truncate\"",
                2,
            ),
            (
                "when_empty = \"skip\"",
                "create = true\nmode = \"truncate\"\nmay_empty = true",
                0,
            ),
        ] {
            let spec = spec(source, target, many);
            let d = Database::new(
                kind,
                &[("d.spec.toml", spec.as_bytes()), ("d.csv", file.as_bytes())],
            );
            d.sql(&[
                "CREATE TABLE d (id INTEGER, c CHAR(3), t VARCHAR(9))",
                "INSERT INTO d VALUES (7, 'a', 'b')",
            ]);
            assert_eq!(both(&d, &format!("{file:?} {source} {target}")).0, code);
            let rows = u64::from(!(target.contains("may_empty") && code == 0));
            assert_eq!(
                d.count("SELECT count(*) FROM d"),
                rows,
                "{file:?} {source} {target}"
            );
        }
    }
}

fn a_check_knows_what_is_loaded_already(kind: Kind) {
    let spec = spec("", "create = true", "max_rejects = 9");
    let d = Database::new(
        kind,
        &[
            ("d.spec.toml", spec.as_bytes()),
            ("d.csv", b"id,c,t\n1,a,b\n"),
        ],
    );
    both(&d, "first");
    let again = both(&d, "again").1.unwrap();
    assert_eq!((&again.0, again.2), (&Value::from(0), 1));
    let said = d.run("check d.spec.toml");
    assert!(said.out.contains("already loaded, in run"), "{}", said.out);
    // Such a file is checked all the same where that is asked for.
    let said = d.run("check d.spec.toml --again --report json");
    assert_eq!((said.code, &said.json()["loaded"]), (0, &1.into()));
    // Without a database a check says that it knows of none.
    let said = d.market.run("check d.spec.toml");
    assert!(said.out.contains("no database was named"), "{}", said.out);
}

fn a_file_that_has_changed_stops_both(kind: Kind) {
    let spec = spec("", "create = true", "max_rejects = 9");
    let d = Database::new(
        kind,
        &[
            ("d.spec.toml", spec.as_bytes()),
            ("d.csv", b"id,c,t\n1,a,b\n"),
        ],
    );
    both(&d, "first");
    d.market.write("d.csv", b"id,c,t\n1,a,b\n2,a,b\n");
    assert_eq!(both(&d, "changed").0, 2);
    assert_eq!(d.count("SELECT count(*) FROM d"), 1);
}

fn a_file_that_another_load_has_is_told(kind: Kind) {
    let spec = spec("", "create = true", "max_rejects = 9");
    let d = Database::new(
        kind,
        &[
            ("d.spec.toml", spec.as_bytes()),
            ("d.csv", b"id,c,t\n1,a,b\n"),
        ],
    );
    assert_eq!(d.run("load d.spec.toml").code, 0);
    let mut long = String::from("id,c,t\n");
    (0..400_000).for_each(|id| long += &format!("{id},a,b\n"));
    d.market.write("e.csv", long.as_bytes());
    let mut load = d.command("load d.spec.toml e.csv");
    load.stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null());
    let mut load = load.spawn().unwrap();
    let mut is_told = false;
    while load.try_wait().unwrap().is_none() && !is_told {
        let said = d.run("check d.spec.toml e.csv");
        is_told = said.out.contains("another load is reading it now");
    }
    load.wait().unwrap();
    // A small machine may be done with it before the check looks.
    let said = d.run("check d.spec.toml e.csv");
    assert!(
        is_told || said.out.contains("already loaded"),
        "{}",
        said.out
    );
}

#[test]
fn a_check_takes_a_key_s_column_by_its_exact_name() {
    // Two columns that differ in case alone: the key is on the one that the spec leaves out.
    let d = Database::new(
        Kind::Postgres,
        &[
            ("d.csv", &b"id\n1\n1\n2\n"[..]),
            (
                "d.spec.toml",
                b"[source]\nfiles = [\"d.csv\"]\n[columns]\nid = \"integer\"\n\
                  [target]\ntable = \"d\"\n",
            ),
        ],
    );
    d.sql(&["CREATE TABLE d (id integer, \"Id\" text UNIQUE)"]);
    let said = d.run("check d.spec.toml --report json");
    assert_eq!(
        (said.code, &said.json()["rejected"]),
        (0, &0.into()),
        "{}",
        said.out
    );
    let said = d.run("load d.spec.toml --report json");
    assert_eq!(
        (said.code, &said.json()["loaded"]),
        (0, &3.into()),
        "{}",
        said.err
    );
}
