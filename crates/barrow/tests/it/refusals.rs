//! Rows that SQLite's table refuses, and a database that others use.

use crate::market::{Market, said};

const SPEC: &str = r#"[source]
files = ["d.csv"]
[columns]
id = "bigint"
stall = "integer"
kg = "decimal(6,2)"
[target]
database = "sqlite:m.db"
table = "d"
[rejects]
max_rejects = 1000
"#;

/// 5,000 records; the ids of some and the stalls and weights of others will not do.
fn file() -> String {
    let mut file = String::from("id,stall,kg\n");
    for id in 1..=5_000 {
        match id {
            700 | 4_999 => file.push_str("1,1,1\n"),
            1_500 => file.push_str("1500,99,1\n"),
            2_500 => file.push_str("2500,1,-5\n"),
            3_500 => file.push_str("3500,,1\n"),
            _ => file.push_str(&format!("{id},1,1\n")),
        }
    }
    file
}

#[test]
fn refused_rows_become_rejects_and_the_rest_loads() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("d.csv", file().as_bytes()),
    ]);
    m.sql(
        "CREATE TABLE stalls (stall INTEGER PRIMARY KEY); INSERT INTO stalls VALUES (1);
         CREATE TABLE d (id BIGINT PRIMARY KEY, stall INTEGER NOT NULL REFERENCES stalls, kg CHECK (kg > 0))",
    );
    let said = m.run("load d.spec.toml --report json");
    assert_eq!(said.code, 0, "{}", said.err);
    let json = said.json();
    assert_eq!(
        (&json["loaded"], &json["rejected"]),
        (&4_995.into(), &5.into())
    );
    assert_eq!(m.count("SELECT count(*) FROM d"), 4_995);
    let reasons = String::from_utf8(m.read(&format!("{}/reasons.jsonl", m.rejects()))).unwrap();
    let told: Vec<(u64, String)> = reasons
        .lines()
        .map(|l| serde_json::from_str::<serde_json::Value>(l).unwrap())
        .map(|l| {
            (
                l["record"].as_u64().unwrap(),
                l["code"].as_str().unwrap().to_string(),
            )
        })
        .collect();
    let wanted = [
        (700, "duplicate-key"),
        (1_500, "refused"),
        (2_500, "refused"),
        (3_500, "refused"),
        (4_999, "duplicate-key"),
    ];
    assert_eq!(
        told,
        wanted.map(|(record, code)| (record, code.to_string()))
    );
    assert_eq!(
        String::from_utf8(m.read(&format!("{}/d.csv", m.rejects()))).unwrap(),
        "id,stall,kg\n1,1,1\n1500,99,1\n2500,1,-5\n3500,,1\n1,1,1\n"
    );
}

#[test]
fn a_table_that_would_pass_over_rows_in_silence_is_not_let() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("d.csv", file().as_bytes()),
    ]);
    m.sql("CREATE TABLE d (id BIGINT UNIQUE ON CONFLICT IGNORE, stall, kg)");
    assert_eq!(
        m.run("load d.spec.toml --report json").json()["rejected"],
        2
    );
    assert_eq!(m.count("SELECT count(*) FROM d"), 4_998);
}

#[test]
fn triggers_that_refuse_or_pass_over_a_row_make_it_a_reject() {
    for action in ["RAISE(IGNORE)", "RAISE(FAIL, 'no')", "RAISE(ABORT, 'no')"] {
        let m = Market::with(&[
            ("d.spec.toml", SPEC.as_bytes()),
            ("d.csv", file().as_bytes()),
        ]);
        m.sql(&format!(
            "CREATE TABLE d (id, stall, kg);
             CREATE TRIGGER t BEFORE INSERT ON d WHEN new.kg < 0 BEGIN SELECT {action}; END"
        ));
        let json = m.run("load d.spec.toml --report json").json();
        assert_eq!(
            (&json["loaded"], &json["rejected"]),
            (&4_999.into(), &1.into()),
            "{action}"
        );
        assert_eq!(m.count("SELECT count(*) FROM d"), 4_999, "{action}");
        assert_eq!(
            m.count("SELECT count(DISTINCT id) FROM d"),
            4_997,
            "{action}"
        );
    }
}

#[test]
fn a_trigger_that_undoes_everything_is_an_error() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("d.csv", file().as_bytes()),
    ]);
    m.sql(
        "CREATE TABLE d (id, stall, kg);
         CREATE TRIGGER t BEFORE INSERT ON d WHEN new.kg < 0 BEGIN SELECT RAISE(ROLLBACK, 'no'); END",
    );
    let said = m.run("load d.spec.toml");
    assert_eq!(said.code, 1);
    assert!(said.err.contains("undid the whole load"), "{}", said.err);
    assert_eq!(m.count("SELECT count(*) FROM d"), 0);
}

#[test]
fn a_number_that_the_column_would_round_is_refused() {
    let spec = SPEC.replace("decimal(6,2)", "decimal(20,2)");
    let m = Market::with(&[
        ("d.spec.toml", spec.as_bytes()),
        (
            "d.csv",
            b"id,stall,kg\n1,1,123456789012345678.25\n2,1,1234567890123.25\n",
        ),
    ]);
    m.sql("CREATE TABLE d (id, stall, kg NUMERIC)");
    let json = m.run("load d.spec.toml --report json").json();
    assert_eq!(json["reasons"][0]["code"], "inexact");
    assert_eq!(
        m.count("SELECT count(*) FROM d WHERE kg = 1234567890123.25"),
        1
    );
}

#[test]
fn a_locked_database_is_told_and_left_alone() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("d.csv", file().as_bytes()),
    ]);
    m.sql("CREATE TABLE d (id, stall, kg)");
    let other = rusqlite::Connection::open(m.path("m.db")).unwrap();
    other
        .execute_batch("BEGIN IMMEDIATE; INSERT INTO d VALUES (0, 0, 0)")
        .unwrap();
    let said = said(m.command("load d.spec.toml"));
    assert_eq!(said.code, 1);
    assert!(
        said.err.contains("locked by another program"),
        "{}",
        said.err
    );
    other.execute_batch("ROLLBACK").unwrap();
    assert_eq!(m.count("SELECT count(*) FROM d"), 0);
}

#[test]
fn a_load_that_is_killed_leaves_the_table_as_it_was() {
    let mut big = file();
    for id in 10_000..400_000 {
        big.push_str(&format!("{id},1,1\n"));
    }
    let m = Market::with(&[("d.spec.toml", SPEC.as_bytes()), ("d.csv", big.as_bytes())]);
    m.sql("CREATE TABLE d (id, stall, kg); INSERT INTO d VALUES (0, 0, 0)");
    for wait in [5, 20, 60, 120, 180] {
        let mut child = m
            .command("load d.spec.toml")
            .stdout(std::process::Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(std::time::Duration::from_millis(wait));
        child.kill().unwrap();
        let finished = child.wait().unwrap().success();
        let rows = m.count("SELECT count(*) FROM d");
        assert!(
            rows == 395_001 || (rows == 1 && !finished),
            "{rows} rows after {wait} ms"
        );
        m.sql("DELETE FROM d WHERE id <> 0 OR stall <> 0");
    }
}

#[test]
fn a_commit_that_fails_says_what_stays() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("d.csv", file().as_bytes()),
    ]);
    m.sql(
        "CREATE TABLE stalls (stall INTEGER PRIMARY KEY); INSERT INTO stalls VALUES (1);
         CREATE TABLE d (id, stall REFERENCES stalls DEFERRABLE INITIALLY DEFERRED, kg)",
    );
    let said = m.run("load d.spec.toml");
    assert_eq!(said.code, 1);
    assert!(
        said.err.contains("FOREIGN KEY constraint failed"),
        "{}",
        said.err
    );
    assert!(
        said.err.contains("nothing of this load was committed"),
        "{}",
        said.err
    );
    assert_eq!(m.count("SELECT count(*) FROM d"), 0);
}
