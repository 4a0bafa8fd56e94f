//! What a load does, the same on every kind of database: one list of cases.

use std::io::Write;
use std::process::Stdio;
use std::time::Duration;

use crate::databases::{Database, Kind, on_every_database, wait_until_free};

on_every_database! {
    every_type_at_its_edges,
    refusals_of_every_sort_stay_out_and_all_else_loads,
    scattered_refusals_are_found_one_by_one,
    keys_that_come_twice_are_found_in_a_plain_table,
    refusals_are_found_among_many_batches_of_two_files,
    rows_are_appended,
    a_table_is_emptied_and_filled_in_one,
    a_table_is_made_anew,
    a_table_that_others_name_is_not_made_anew,
    rows_are_merged_by_their_key,
    rows_of_the_same_key_are_merged_one_after_the_other,
    a_merge_tells_the_rows_that_a_trigger_passes_over,
    a_merge_tells_the_updates_that_a_trigger_passes_over,
    a_merge_needs_a_unique_key,
    a_value_without_room_is_shown,
    beyond_the_tolerance_nothing_is_changed,
    commits_on_the_way_stay,
    a_load_that_is_killed_leaves_the_table_as_it_was_or_complete,
    the_table_fills_the_columns_that_the_spec_lacks,
    names_that_try_to_leave_their_quotes,
    records_of_two_kinds_find_each_other,
    check_and_ddl_know_the_table,
    a_type_that_does_not_go_into_the_column_is_told_before,
    a_table_that_was_made_fits_every_type_again,
    a_spec_without_types_takes_those_of_the_table,
}

fn spec(columns: &str, target: &str) -> String {
    format!(
        "[source]\nfiles = [\"d.csv\"]\n[columns]\n{columns}\n[target]\ntable = \"d\"\n{target}\n\
         [rejects]\nmax_rejects = 1000000\n"
    )
}

fn database(kind: Kind, spec: &str, file: &str) -> Database {
    Database::new(
        kind,
        &[("d.spec.toml", spec.as_bytes()), ("d.csv", file.as_bytes())],
    )
}

fn loaded(database: &Database, words: &str) -> serde_json::Value {
    let said = database.run(&format!("load d.spec.toml --report json {words}"));
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    said.json()
}

fn every_type_at_its_edges(kind: Kind) {
    // Type, what the file has, and what each database gives back as text.
    let nines = "99999999999999999999999999999999999999";
    let small = "0.00000000000000000000000000000000000001";
    let cases: Vec<(&str, &str, [&str; 3])> = vec![
        ("smallint", "-32768", ["-32768"; 3]),
        ("smallint", "32767", ["32767"; 3]),
        ("integer", "-2147483648", ["-2147483648"; 3]),
        (
            "bigint",
            "-9223372036854775808",
            ["-9223372036854775808"; 3],
        ),
        ("bigint", "9223372036854775807", ["9223372036854775807"; 3]),
        ("decimal(8,2)", "-123456.78", ["-123456.78"; 3]),
        ("decimal(8,4)", "0.0001", ["0.0001"; 3]),
        ("decimal(38,0)", nines, [nines; 3]),
        ("decimal(38,38)", small, [small; 3]),
        ("double", "1e300", ["1e300"; 3]),
        ("double", "0.1", ["0.1"; 3]),
        ("real", "0.5", ["0.5"; 3]),
        ("boolean", "true", ["1", "t", "1"]),
        ("boolean", "false", ["0", "f", "0"]),
        ("char(2)", "ab", ["ab"; 3]),
        (
            "varchar(4)",
            "\u{1F33C}\u{1F33D}ü\u{1F955}",
            ["\u{1F33C}\u{1F33D}ü\u{1F955}"; 3],
        ),
        ("text", "\"a\tb\\N\nc\"", ["a\tb\\N\nc"; 3]),
        ("text", "\"\"", [""; 3]),
        ("text", "", ["~"; 3]),
        ("bigint", "", ["~"; 3]),
        ("date", "0001-01-01", ["0001-01-01"; 3]),
        ("date", "9999-12-31", ["9999-12-31"; 3]),
        ("time", "23:59:59.999999", ["23:59:59.999999"; 3]),
        (
            "timestamp",
            "0001-01-01 00:00:00",
            [
                "0001-01-01 00:00:00",
                "0001-01-01 00:00:00",
                "0001-01-01 00:00:00.000000",
            ],
        ),
        (
            "timestamp",
            "9999-12-31 23:59:59.999999",
            ["9999-12-31 23:59:59.999999"; 3],
        ),
        (
            "timestamptz",
            "2031-04-28T10:30:00+02:00",
            [
                "2031-04-28 08:30:00",
                "2031-04-28 08:30:00+00",
                "2031-04-28 08:30:00.000000",
            ],
        ),
        ("json", "\"{\"\"a\"\": 1}\"", ["{\"a\": 1}"; 3]),
        (
            "uuid",
            "0190a4c1-7d00-7abc-8def-0123456789ab",
            ["0190a4c1-7d00-7abc-8def-0123456789ab"; 3],
        ),
    ];
    let columns: Vec<String> = (0..cases.len())
        .map(|i| {
            format!(
                "c{i} = {{ type = \"{}\", quoted_empty = \"text\" }}",
                cases[i].0
            )
        })
        .map(
            |line| match line.contains("\"text\", quoted") || line.contains("char(") {
                true => line,
                false => line.replace(", quoted_empty = \"text\"", ""),
            },
        )
        .collect();
    let header: Vec<String> = (0..cases.len()).map(|i| format!("c{i}")).collect();
    let values: Vec<&str> = cases.iter().map(|case| case.1).collect();
    let file = format!("{}\n{}\n", header.join(","), values.join(","));
    let d = database(
        kind,
        &spec(
            &columns.join("\n"),
            "create = true\nwhen_inexact = \"text\"",
        ),
        &file,
    );
    assert_eq!(loaded(&d, "")["loaded"], 1);
    for (place, case) in cases.iter().enumerate() {
        let wanted = d.each(case.2[0], case.2[1], case.2[2]);
        let found = &d.rows(&format!("SELECT c{place} FROM d"))[0];
        // Large numbers may be written out in full.
        match (case.0, found.parse::<f64>()) {
            ("double", Ok(n)) => assert_eq!(n, wanted.parse::<f64>().unwrap(), "{case:?}"),
            _ => assert_eq!(found, wanted, "{case:?}"),
        }
    }
}

const CHECKED: &str = "id = \"bigint\"\nstall = \"integer\"\nkg = \"decimal(8,2)\"";

/// A table that refuses in every way: a key, a foreign key, not null, a check, and a
/// trigger that raises at 13.
fn strict_table(d: &Database) {
    d.sql(&[
        "CREATE TABLE stalls (stall INTEGER PRIMARY KEY)",
        "INSERT INTO stalls VALUES (1)",
        "CREATE TABLE d (id BIGINT PRIMARY KEY, stall INTEGER NOT NULL, kg DECIMAL(8,2) CHECK (kg > 0), \
         FOREIGN KEY (stall) REFERENCES stalls (stall))",
    ]);
    match d.kind {
        Kind::Sqlite => d.sql(&["CREATE TRIGGER t BEFORE INSERT ON d WHEN new.kg = 13 \
                                 BEGIN SELECT RAISE(ABORT, 'not thirteen'); END"]),
        Kind::Postgres => d.sql(&[
            "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN \
             IF new.kg = 13 THEN RAISE 'not thirteen'; END IF; RETURN new; END $$",
            "CREATE TRIGGER t BEFORE INSERT ON d FOR EACH ROW EXECUTE FUNCTION f()",
        ]),
        Kind::MariaDb => d.sql(&["CREATE TRIGGER t BEFORE INSERT ON d FOR EACH ROW \
             IF new.kg = 13 THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'not thirteen'; END IF"]),
    }
}

fn refusals_of_every_sort_stay_out_and_all_else_loads(kind: Kind) {
    let mut file = String::from("id,stall,kg\n");
    for id in 1..=5_000 {
        file += &match id {
            700 | 4_999 => "1,1,1\n".to_string(),
            1_500 => format!("{id},99,1\n"),
            2_500 => format!("{id},1,-5\n"),
            3_500 => format!("{id},,1\n"),
            4_000 => format!("{id},1,13\n"),
            _ => format!("{id},1,1.25\n"),
        };
    }
    let d = database(kind, &spec(CHECKED, ""), &file);
    strict_table(&d);
    let json = loaded(&d, "");
    assert_eq!(
        (&json["loaded"], &json["rejected"]),
        (&4_994.into(), &6.into())
    );
    assert_eq!(json["tables"][0]["rows_after"], 4_994);
    // One reason for each sort, however many rows it is of.
    let reasons = json["reasons"].as_array().unwrap();
    assert_eq!(reasons.len(), 5, "{reasons:#?}");
    let twice = reasons
        .iter()
        .find(|r| r["code"] == "duplicate-key")
        .unwrap();
    assert_eq!(twice["count"], 2);
    assert_eq!(d.count("SELECT count(*) FROM d"), 4_994);
    assert_eq!(d.count("SELECT count(*) FROM d WHERE kg = 1.25"), 4_994);
    let reasons = d.reasons();
    let records: Vec<u64> = reasons.iter().map(|(record, _)| *record).collect();
    assert_eq!(records, [700, 1_500, 2_500, 3_500, 4_000, 4_999]);
    for (record, code) in &reasons {
        let wanted: &[&str] = match record {
            700 | 4_999 => &["duplicate-key"],
            3_500 => &["refused", "required"],
            _ => &["refused"],
        };
        assert!(wanted.contains(&code.as_str()), "{record}: {code}");
    }
    let raw = d.market.read(&format!("{}/d.csv", d.market.rejects()));
    assert_eq!(
        String::from_utf8(raw).unwrap(),
        "id,stall,kg\n1,1,1\n1500,99,1\n2500,1,-5\n3500,,1\n4000,1,13\n1,1,1\n"
    );
    let told = String::from_utf8(
        d.market
            .read(&format!("{}/reasons.jsonl", d.market.rejects())),
    )
    .unwrap();
    assert!(told.contains("not thirteen"), "{told}");
}

fn scattered_refusals_are_found_one_by_one(kind: Kind) {
    // Every 37th weight is not allowed, every 101st stall is not there, every 53rd id
    // came before.
    let mut file = String::from("id,stall,kg\n");
    let mut wanted = Vec::new();
    for id in 1..=20_000u64 {
        let kg = if id % 37 == 0 { "-1" } else { "1" };
        let stall = if id % 101 == 0 { 2 } else { 1 };
        let key = if id % 53 == 0 { 1 } else { id };
        if kg == "-1" || stall == 2 || key == 1 && id != 1 {
            wanted.push(id);
        }
        file += &format!("{key},{stall},{kg}\n");
    }
    let d = database(kind, &spec(CHECKED, ""), &file);
    strict_table(&d);
    let json = loaded(&d, "");
    assert_eq!(json["rejected"], wanted.len());
    let records: Vec<u64> = d.reasons().into_iter().map(|(record, _)| record).collect();
    assert_eq!(records, wanted);
    let ids = d.rows("SELECT id FROM d ORDER BY id");
    let good = (1..=20_000u64).filter(|id| !wanted.contains(id));
    assert_eq!(ids, good.map(|id| id.to_string()).collect::<Vec<_>>());
}

fn keys_that_come_twice_are_found_in_a_plain_table(kind: Kind) {
    // Without triggers a server may take rows in by the hundred.
    let is_twice = |id: u64| id.is_multiple_of(97) || (5_000..5_010).contains(&id);
    let mut file = String::from("id,note\n");
    for id in 1..=20_000u64 {
        let key = if is_twice(id) { id - 1 } else { id };
        file += &format!("{key},a\n");
    }
    // A row whose twin stayed out is the first of its key after all.
    let twice = |id: &u64| is_twice(*id) && !(5_001..5_010).contains(id);
    let wanted: Vec<u64> = (1..=20_000).filter(twice).collect();
    let d = database(kind, &spec(SIMPLE, "create = true\nkey = [\"id\"]"), &file);
    let json = loaded(&d, "");
    assert_eq!(json["rejected"], wanted.len());
    let records: Vec<u64> = d.reasons().into_iter().map(|(record, _)| record).collect();
    assert_eq!(records, wanted);
    let rows = 20_000 - wanted.len() as u64;
    assert_eq!(d.count("SELECT count(DISTINCT id) FROM d"), rows);
}

/// Two files of some megabytes, so that batches go to a server by the dozen: what is wrong
/// stands in the first and the last record of each file, and here and there between.
fn refusals_are_found_among_many_batches_of_two_files(kind: Kind) {
    const RECORDS: u64 = 60_000;
    let wide = "n".repeat(70);
    let too_wide = "n".repeat(71);
    let mut files = [String::new(), String::new()];
    let (mut wanted, mut ids) = (Vec::new(), Vec::new());
    for (number, file) in files.iter_mut().enumerate() {
        *file += "id,note\n";
        for record in 1..=RECORDS {
            let id = number as u64 * RECORDS + record;
            let (key, note, code) = match record {
                1 => ("x".into(), &wide, Some("not-a-number")),
                RECORDS => ("0".into(), &wide, Some("duplicate-key")),
                _ if record % 9_973 == 0 => ("0".into(), &wide, Some("duplicate-key")),
                // SQLite holds to no lengths.
                _ if record % 7_001 == 0 => {
                    let code = (kind != Kind::Sqlite).then_some("too-long");
                    (id.to_string(), &too_wide, code)
                }
                _ if record % 5_003 == 0 => ("1.5".into(), &wide, Some("too-precise")),
                _ => (id.to_string(), &wide, None),
            };
            *file += &format!("{key},{note}\n");
            match code {
                Some(code) => wanted.push((record, code.to_string())),
                None => ids.push(id),
            }
        }
    }
    let spec = spec("id = \"bigint\"\nnote = \"varchar(100)\"", "");
    let d = database(kind, &spec, &files[0]);
    d.market.write("e.csv", files[1].as_bytes());
    d.sql(&[
        "CREATE TABLE d (id BIGINT PRIMARY KEY, note VARCHAR(70))",
        "INSERT INTO d VALUES (0, 'there already')",
    ]);
    let json = loaded(&d, "d.csv e.csv");
    assert_eq!(json["records"], 2 * RECORDS);
    assert_eq!(json["loaded"], ids.len());
    assert_eq!(d.reasons(), wanted);
    assert_eq!(
        d.rows("SELECT count(*), sum(id) FROM d"),
        [format!("{}|{}", ids.len() + 1, ids.iter().sum::<u64>())]
    );
    let first = files[0].lines().nth(1).expect("a record");
    let last = files[0].lines().next_back().expect("a record");
    let kept = d.market.read(&format!("{}/d.csv", d.market.rejects()));
    let kept = String::from_utf8(kept).expect("UTF-8");
    assert!(kept.starts_with(&format!("id,note\n{first}\n")));
    assert!(kept.ends_with(&format!("\n{last}\n")));
}

const SIMPLE: &str = "id = { type = \"bigint\", required = true }\nnote = \"varchar(20)\"";

fn rows_are_appended(kind: Kind) {
    let d = database(kind, &spec(SIMPLE, "create = true"), "id,note\n1,a\n2,b\n");
    assert_eq!(loaded(&d, "")["tables"][0]["rows_before"], 0);
    let json = loaded(&d, "--again");
    assert_eq!(json["tables"][0]["rows_before"], 2);
    assert_eq!(json["tables"][0]["rows_after"], 4);
    assert_eq!(
        d.rows("SELECT id, note FROM d ORDER BY id, note"),
        ["1|a", "1|a", "2|b", "2|b"]
    );
}

fn a_table_is_emptied_and_filled_in_one(kind: Kind) {
    let d = database(kind, &spec(SIMPLE, "create = true"), "id,note\n1,a\n2,b\n");
    loaded(&d, "");
    d.market.write("d.csv", b"id,note\n3,c\n");
    let json = loaded(&d, "--mode truncate");
    assert_eq!(json["tables"][0]["rows_before"], 2);
    assert_eq!(json["tables"][0]["rows_after"], 1);
    assert_eq!(d.rows("SELECT id FROM d"), ["3"]);
    // A load that fails leaves the rows that were there.
    d.market.write("d.csv", b"id,note\nx,c\n");
    let said = d.run("load d.spec.toml --mode truncate --max-rejects 0");
    assert_eq!(said.code, 3, "{}", said.err);
    assert_eq!(d.rows("SELECT id FROM d"), ["3"]);
}

fn a_table_is_made_anew(kind: Kind) {
    let d = database(
        kind,
        &spec(SIMPLE, "create = true\nkey = [\"id\"]"),
        "id,note\n1,a\n2,b\n",
    );
    d.sql(&["CREATE TABLE d (other INTEGER)", "INSERT INTO d VALUES (7)"]);
    let said = d.run("load d.spec.toml d.csv --mode replace --max-rejects 0");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(d.rows("SELECT id, note FROM d ORDER BY id"), ["1|a", "2|b"]);
    // And again, over a table that has the same key.
    d.market.write("d.csv", b"id,note\n3,c\n");
    assert_eq!(loaded(&d, "--mode replace")["tables"][0]["rows_after"], 1);
    assert_eq!(d.rows("SELECT id FROM d"), ["3"]);
    d.market.write("d.csv", b"id,note\n4,c\n4,d\n");
    assert_eq!(
        d.run("load d.spec.toml --mode replace --max-rejects 0")
            .code,
        3
    );
    assert_eq!(d.rows("SELECT id FROM d"), ["3"]);
    let tables = d.each(
        "SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'barrow%s'",
        "SELECT count(*) FROM pg_tables WHERE schemaname = 'public' AND tablename NOT LIKE 'barrow%s'",
        "SELECT count(*) FROM information_schema.tables WHERE table_schema = database() \
         AND table_name NOT LIKE 'barrow%s'",
    );
    assert_eq!(d.count(tables), 1, "nothing is left beside the table");
}

fn a_table_that_others_name_is_not_made_anew(kind: Kind) {
    let d = database(
        kind,
        &spec(SIMPLE, "create = true\nkey = [\"id\"]"),
        "id,note\n1,a\n",
    );
    loaded(&d, "");
    d.sql(&[
        "CREATE TABLE notes (id BIGINT, FOREIGN KEY (id) REFERENCES d (id))",
        "INSERT INTO notes VALUES (1)",
    ]);
    d.market.write("d.csv", b"id,note\n2,b\n");
    let said = d.run("load d.spec.toml --mode replace");
    assert_ne!(said.code, 0, "{}", said.out);
    assert_eq!(d.rows("SELECT id, note FROM d"), ["1|a"]);
    assert_eq!(d.count("SELECT count(*) FROM notes"), 1);
}

fn rows_are_merged_by_their_key(kind: Kind) {
    let target = "create = true\nmode = \"merge\"\nkey = [\"id\"]";
    let mut file = String::from("id,note\n");
    (0..1_000).for_each(|id| file += &format!("{id},note {id}\n"));
    let d = database(kind, &spec(SIMPLE, target), &file);
    assert_eq!(loaded(&d, "")["merged"]["new"], 1_000);
    let mut file = String::from("id,note\n");
    for id in 900..1_100 {
        file += &match id {
            950..960 => format!("{id},\n"),
            960..970 => format!("{id},NOTE {id}\n"),
            _ => format!("{id},note {id}\n"),
        };
    }
    d.market.write("d.csv", file.as_bytes());
    let json = loaded(&d, "");
    let merged = &json["merged"];
    assert_eq!(
        (&merged["new"], &merged["changed"], &merged["same"]),
        (&100.into(), &20.into(), &80.into())
    );
    assert_eq!(json["tables"][0]["rows_after"], 1_100);
    assert_eq!(d.count("SELECT count(*) FROM d"), 1_100);
    assert_eq!(d.count("SELECT count(*) FROM d WHERE note IS NULL"), 10);
    assert_eq!(
        d.rows("SELECT note FROM d WHERE id IN (899, 965, 1099) ORDER BY id"),
        ["note 899", "NOTE 965", "note 1099"]
    );
    let text = d.run("load d.spec.toml --again");
    assert!(
        text.out.contains("0 new, 0 changed, 200 the same"),
        "{}",
        text.out
    );
}

fn rows_of_the_same_key_are_merged_one_after_the_other(kind: Kind) {
    let target = "create = true\nmode = \"merge\"\nkey = [\"id\"]";
    let file = "id,note\n1,a\n2,b\n1,c\n1,c\n3,d\n2,e\n";
    let d = database(kind, &spec(SIMPLE, target), file);
    let merged = &loaded(&d, "")["merged"];
    assert_eq!(
        (&merged["new"], &merged["changed"], &merged["same"]),
        (&3.into(), &2.into(), &1.into())
    );
    assert_eq!(
        d.rows("SELECT id, note FROM d ORDER BY id"),
        ["1|c", "2|e", "3|d"]
    );
}

fn a_merge_tells_the_rows_that_a_trigger_passes_over(kind: Kind) {
    let d = database(
        kind,
        &spec(SIMPLE, "mode = \"merge\"\nkey = [\"id\"]"),
        "id,note\n1,a\n2,b\n3,c\n4,d\n",
    );
    d.sql(&["CREATE TABLE d (id BIGINT PRIMARY KEY, note VARCHAR(20))"]);
    match kind {
        Kind::Sqlite => d.sql(&["CREATE TRIGGER t BEFORE INSERT ON d WHEN new.id = 3 \
             BEGIN SELECT RAISE(IGNORE); END"]),
        Kind::Postgres => d.sql(&[
            "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN \
             IF new.id = 3 THEN RETURN NULL; END IF; RETURN new; END $$",
            "CREATE TRIGGER t BEFORE INSERT ON d FOR EACH ROW EXECUTE FUNCTION f()",
        ]),
        // A trigger there can only refuse.
        Kind::MariaDb => d.sql(&["CREATE TRIGGER t BEFORE INSERT ON d FOR EACH ROW \
             IF new.id = 3 THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'no'; END IF"]),
    }
    let json = loaded(&d, "");
    assert_eq!((&json["loaded"], &json["rejected"]), (&3.into(), &1.into()));
    assert_eq!(json["merged"]["new"], 3);
    assert_eq!(json["merged"]["same"], 0);
    assert_eq!(d.reasons(), [(3, "refused".to_string())]);
    assert_eq!(d.rows("SELECT id FROM d ORDER BY id"), ["1", "2", "4"]);
}

fn a_merge_tells_the_updates_that_a_trigger_passes_over(kind: Kind) {
    let d = database(
        kind,
        &spec(SIMPLE, "mode = \"merge\"\nkey = [\"id\"]"),
        "id,note\n1,a\n2,new\n3,new\n4,d\n5,new\n",
    );
    d.sql(&[
        "CREATE TABLE d (id BIGINT PRIMARY KEY, note VARCHAR(20))",
        "INSERT INTO d VALUES (1, 'a'), (2, 'b'), (3, 'c'), (4, 'd')",
    ]);
    match kind {
        Kind::Sqlite => d.sql(&["CREATE TRIGGER t BEFORE UPDATE ON d WHEN new.id = 3 \
             BEGIN SELECT RAISE(IGNORE); END"]),
        Kind::Postgres => d.sql(&[
            "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN \
             IF new.id = 3 THEN RETURN NULL; END IF; RETURN new; END $$",
            "CREATE TRIGGER t BEFORE UPDATE ON d FOR EACH ROW EXECUTE FUNCTION f()",
        ]),
        // A trigger there can only refuse.
        Kind::MariaDb => d.sql(&["CREATE TRIGGER t BEFORE UPDATE ON d FOR EACH ROW \
             IF new.id = 3 THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'no'; END IF"]),
    }
    let json = loaded(&d, "");
    assert_eq!((&json["loaded"], &json["rejected"]), (&4.into(), &1.into()));
    let merged = &json["merged"];
    assert_eq!(
        (&merged["new"], &merged["changed"], &merged["same"]),
        (&1.into(), &1.into(), &2.into())
    );
    assert_eq!(d.reasons(), [(3, "refused".to_string())]);
    assert_eq!(
        d.rows("SELECT id, note FROM d ORDER BY id"),
        ["1|a", "2|new", "3|c", "4|d", "5|new"]
    );
}

fn a_value_without_room_is_shown(kind: Kind) {
    let columns = "id = \"bigint\"\nnote = \"text\"\nkg = \"decimal(20,4)\"";
    let file = "id,note,kg\n1,far too long,1\n2,short,1\n3,short,12345678901234.5678\n";
    let d = database(kind, &spec(columns, ""), file);
    // SQLite holds to no lengths, and keeps numbers of 15 digits.
    let table = d.each("NUMERIC", "NUMERIC(20,2)", "DECIMAL(20,2)");
    d.sql(&[&format!(
        "CREATE TABLE d (id BIGINT, note VARCHAR(8), kg {table})"
    )]);
    let json = loaded(&d, "");
    let told: Vec<(String, String, String)> = json["reasons"]
        .as_array()
        .unwrap()
        .iter()
        .map(|reason| {
            let word = |found: &serde_json::Value| found.as_str().unwrap_or_default().to_string();
            let value = word(&reason["first"]["value"]);
            (word(&reason["column"]), word(&reason["code"]), value)
        })
        .collect();
    let told: Vec<(&str, &str, &str)> = told
        .iter()
        .map(|(column, code, value)| (&column[..], &code[..], &value[..]))
        .collect();
    let kg = ("kg", "too-precise", "12345678901234.5678");
    let note = ("note", "too-long", "far too long");
    match kind {
        Kind::Sqlite => assert_eq!(told, [("kg", "inexact", kg.2)]),
        Kind::Postgres | Kind::MariaDb => assert_eq!(told, [note, kg]),
    }
}

fn a_merge_needs_a_unique_key(kind: Kind) {
    let d = database(
        kind,
        &spec(SIMPLE, "mode = \"merge\"\nkey = [\"id\"]"),
        "id,note\n1,a\n",
    );
    d.sql(&["CREATE TABLE d (id BIGINT, note VARCHAR(20))"]);
    for command in ["check", "load"] {
        let said = d.run(&format!("{command} d.spec.toml"));
        assert_eq!(said.code, 2, "{command}: {}", said.err);
        assert!(said.err.contains("may have the same id"), "{}", said.err);
    }
    d.sql(&["CREATE UNIQUE INDEX d_id ON d (id)"]);
    assert_eq!(d.run("check d.spec.toml").code, 0);
    assert_eq!(loaded(&d, "")["merged"]["new"], 1);
}

fn beyond_the_tolerance_nothing_is_changed(kind: Kind) {
    let d = database(kind, &spec(SIMPLE, "create = true"), "id,note\n1,a\nx,b\n");
    let said = d.run("load d.spec.toml --max-rejects 0");
    assert_eq!(said.code, 3, "{}", said.err);
    let there = d.each(
        "SELECT count(*) FROM sqlite_master WHERE name = 'd'",
        "SELECT count(*) FROM pg_tables WHERE tablename = 'd'",
        "SELECT count(*) FROM information_schema.tables WHERE table_schema = database() \
         AND table_name = 'd'",
    );
    assert_eq!(d.count(there), 0, "the table that was made is gone");
    loaded(&d, "");
    assert_eq!(d.run("load d.spec.toml --again --max-rejects 0").code, 3);
    assert_eq!(d.rows("SELECT id FROM d"), ["1"]);
}

/// Records that fill several blocks.
fn many(count: u64) -> String {
    let mut file = String::from("id,note\n");
    (0..count).for_each(|id| file += &format!("{id},a note of some length\n"));
    file.replace("some length", "len")
}

fn commits_on_the_way_stay(kind: Kind) {
    let target = "create = true\ncommit_every = 10000";
    let mut file = many(200_000);
    file += "x,b\n";
    let d = database(kind, &spec(SIMPLE, target), &file);
    let said = d.run("load d.spec.toml --max-rejects 0");
    assert_eq!(said.code, 3, "{}", said.err);
    let rows = d.count("SELECT count(*) FROM d");
    assert!((10_000..200_000).contains(&rows), "{rows}");
    assert!(said.out.contains("rolled back"), "{}", said.out);
}

fn a_load_that_is_killed_leaves_the_table_as_it_was_or_complete(kind: Kind) {
    let d = database(kind, &spec(SIMPLE, ""), &many(150_000));
    d.sql(&["CREATE TABLE d (id BIGINT, note VARCHAR(20))"]);
    for round in 0..20u64 {
        d.sql(&["DELETE FROM d", "INSERT INTO d VALUES (-1, 'before')"]);
        let mode = if round % 2 == 0 { "append" } else { "truncate" };
        let mut child = d
            .command(&format!("load d.spec.toml --again --mode {mode}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        // Moments that differ from run to run, over the time that a load takes.
        let moment = round * 37 + u64::from(std::process::id()) % 29;
        std::thread::sleep(Duration::from_millis(moment));
        child.kill().unwrap();
        child.wait().unwrap();
        // A server may need a moment to see that its client is gone.
        let (before, complete) = match mode {
            "append" => (1, 150_001),
            _ => (1, 150_000),
        };
        let rows = d.count("SELECT count(*) FROM d");
        assert!(
            rows == before || rows == complete,
            "{rows} rows, {mode} after {moment} ms"
        );
        wait_until_free(&d);
    }
}

fn the_table_fills_the_columns_that_the_spec_lacks(kind: Kind) {
    let d = database(kind, &spec("note = \"text\"", ""), "note\na\nb\n");
    d.sql(&[d.each(
        "CREATE TABLE d (id INTEGER PRIMARY KEY, note TEXT, clerk TEXT NOT NULL DEFAULT 'Ivy')",
        "CREATE TABLE d (id BIGINT GENERATED ALWAYS AS IDENTITY, note TEXT, clerk TEXT NOT NULL DEFAULT 'Ivy', \
         twice TEXT GENERATED ALWAYS AS (note || note) STORED)",
        "CREATE TABLE d (id BIGINT AUTO_INCREMENT PRIMARY KEY, note TEXT, clerk VARCHAR(9) NOT NULL DEFAULT 'Ivy', \
         twice TEXT AS (CONCAT(note, note)) STORED)",
    )]);
    loaded(&d, "");
    assert_eq!(
        d.rows("SELECT id, note, clerk FROM d ORDER BY id"),
        ["1|a|Ivy", "2|b|Ivy"]
    );
    // Named in the spec, the counter is loaded.
    let with_id = spec("id = \"bigint\"\nnote = \"text\"", "").replacen(
        "[source]\n",
        "[source]\nwhen_changed = \"load\"\n",
        1,
    );
    d.market.write("d.spec.toml", with_id.as_bytes());
    d.market.write("d.csv", b"id,note\n40,c\n");
    loaded(&d, "");
    assert_eq!(d.rows("SELECT id FROM d WHERE note = 'c'"), ["40"]);
    if kind == Kind::MariaDb {
        // Null would get a number of the server's own.
        d.market.write("d.csv", b"id,note\n,d\n0,e\n");
        let json = loaded(&d, "");
        assert_eq!((&json["loaded"], &json["rejected"]), (&1.into(), &1.into()));
        assert_eq!(d.rows("SELECT id FROM d WHERE note IN ('d', 'e')"), ["0"]);
    }
}

fn names_that_try_to_leave_their_quotes(kind: Kind) {
    let spec = "[source]\nfiles = [\"d.csv\"]\n[columns]\n\"a\\\"; DROP TABLE d; --\" = \"text\"\n\
                \"b`'\\\\\" = \"text\"\n[target]\ntable = \"d'\\\"`; x\"\ncreate = true\n";
    let file = "\"a\"\"; DROP TABLE d; --\",b`'\\\n'); DROP TABLE d; --,\"\\'\"\"`\"\n";
    let d = database(kind, spec, file);
    d.sql(&["CREATE TABLE d (id INTEGER)"]);
    loaded(&d, "");
    let sql = d.each(
        "SELECT \"a\"\"; DROP TABLE d; --\", \"b`'\\\" FROM \"d'\"\"`; x\"",
        "SELECT \"a\"\"; DROP TABLE d; --\", \"b`'\\\" FROM \"d'\"\"`; x\"",
        "SELECT `a\"; DROP TABLE d; --`, `b``'\\` FROM `d'\"``; x`",
    );
    assert_eq!(d.rows(sql), ["'); DROP TABLE d; --|\\'\"`"]);
    assert_eq!(d.count("SELECT count(*) FROM d"), 0);
}

fn records_of_two_kinds_find_each_other(kind: Kind) {
    let spec = r#"[source]
files = ["d.csv"]
[records]
header = "none"
[[record_type]]
name = "slip"
if = "field(1) = 'S'"
table = "slips"
key = ["slip"]
[record_type.columns]
mark = { type = "text", load = false }
slip = { type = "bigint", required = true }
[[record_type]]
name = "line"
if = "field(1) = 'L'"
table = "lines"
[record_type.columns]
mark = { type = "text", load = false }
kg = "decimal(6,2)"
slip = { type = "bigint", value = "{slip.slip}" }
[target]
[rejects]
max_rejects = 10
"#;
    let mut file = String::new();
    for slip in 1..=3_000 {
        // A slip that comes twice, and whose lines then belong to the first.
        let number = if slip == 2_000 { 1_999 } else { slip };
        file += &format!("S,{number}\nL,1.50\nL,2\n");
    }
    let d = database(kind, spec, &file);
    d.sql(&[
        "CREATE TABLE slips (slip BIGINT PRIMARY KEY)",
        "CREATE TABLE `lines` (slip BIGINT, kg DECIMAL(6,2), FOREIGN KEY (slip) REFERENCES slips (slip))"
            .replace('`', d.each("\"", "\"", "`"))
            .as_str(),
    ]);
    let said = d.run("load d.spec.toml --report json");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(said.json()["rejected"], 1);
    assert_eq!(d.count("SELECT count(*) FROM slips"), 2_999);
    let quote = d.each("\"", "\"", "`");
    assert_eq!(
        d.count(&format!(
            "SELECT count(*) FROM {quote}lines{quote} WHERE kg = 1.5"
        )),
        3_000
    );
}

fn check_and_ddl_know_the_table(kind: Kind) {
    let columns = "id = { type = \"bigint\", required = true }\nnote = \"varchar(20)\"\ngrade = { type = \"char(1)\", one_of = [\"A\"] }";
    let d = database(
        kind,
        &spec(columns, "create = true\nkey = [\"id\"]"),
        "id,note,grade\n1,a note of 17 char,A\n",
    );
    let ddl = d.run("ddl d.spec.toml");
    assert_eq!(ddl.code, 0, "{}", ddl.err);
    d.sql(&[ddl.out.trim().trim_end_matches(';')]);
    let said = d.run("check d.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(said.out.matches("fits").count(), 3, "{}", said.out);
    let altered = d.run("ddl d.spec.toml --alter");
    assert!(
        altered.out.contains("fits as it is"),
        "{}{}",
        altered.out,
        altered.err
    );
    let wider =
        spec(&columns.replace("varchar(20)", "varchar(30)"), "").replace("\"d.csv\"", "\"w.csv\"");
    d.market.write("d.spec.toml", wider.as_bytes());
    d.market.write(
        "w.csv",
        b"id,note,grade\n2,a note that is much too long,A\n",
    );
    let said = d.run("check d.spec.toml");
    let wanted = match kind {
        Kind::Sqlite => "which SQLite does not hold to",
        _ => "does not fit: the longest has 28 characters, and the table's 20",
    };
    assert!(said.out.contains(wanted), "{}{}", said.out, said.err);
    let altered = d.run("ddl d.spec.toml --alter");
    if kind != Kind::Sqlite {
        let statement = altered
            .out
            .lines()
            .find(|line| line.starts_with("ALTER"))
            .unwrap();
        d.sql(&[statement.trim_end_matches(';')]);
        assert!(
            d.run("ddl d.spec.toml --alter")
                .out
                .contains("fits as it is")
        );
        assert_eq!(loaded(&d, "")["loaded"], 1);
    }
}

fn a_table_that_was_made_fits_every_type_again(kind: Kind) {
    let types = [
        "smallint",
        "integer",
        "bigint",
        "decimal(8,2)",
        "decimal(38,10)",
        "real",
        "double",
        "boolean",
        "char(3)",
        "varchar(40)",
        "text",
        "date",
        "time",
        "timestamp",
        "timestamptz",
        "json",
        "uuid",
        "bytes",
    ];
    let columns: Vec<String> = types
        .iter()
        .enumerate()
        .map(|(place, ty)| format!("c{place} = \"{ty}\""))
        .collect();
    let header: Vec<String> = (0..types.len()).map(|place| format!("c{place}")).collect();
    let file = format!("{}\n", header.join(","));
    let spec = spec(&columns.join("\n"), "create = true");
    let spec = spec.replacen("[source]\n", "[source]\nwhen_empty = \"skip\"\n", 1);
    let d = database(kind, &spec, &file);
    loaded(&d, "");
    let altered = d.run("ddl d.spec.toml --alter");
    assert!(
        altered.out.contains("fits as it is"),
        "{}{}",
        altered.out,
        altered.err
    );
    let said = d.run("check d.spec.toml");
    assert!(!said.out.contains("may not fit"), "{}", said.out);
    loaded(&d, "");
}

fn a_spec_without_types_takes_those_of_the_table(kind: Kind) {
    let spec =
        "[source]\nfiles = [\"d.csv\"]\n[target]\ntable = \"d\"\n[rejects]\nmax_rejects = 9\n";
    let d = database(
        kind,
        spec,
        "id,placed_on,kg\n1,2031-04-28,1.5\nx,2031-04-28,1\n3,2031-02-30,1\n",
    );
    d.sql(&["CREATE TABLE d (id BIGINT, placed_on DATE, kg DECIMAL(6,2))"]);
    let said = d.run("load d.spec.toml --report json");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(
        (&said.json()["loaded"], &said.json()["rejected"]),
        (&1.into(), &2.into())
    );
    assert_eq!(d.rows("SELECT id FROM d"), ["1"]);
}

fn a_type_that_does_not_go_into_the_column_is_told_before(kind: Kind) {
    let d = database(
        kind,
        &spec("id = \"text\"\nkg = \"text\"", ""),
        "id,kg\n1,2\n",
    );
    d.sql(&["CREATE TABLE d (id INTEGER, kg DECIMAL(6,2))"]);
    let said = d.run("load d.spec.toml");
    assert_eq!(said.code, 2, "{}{}", said.out, said.err);
    assert_eq!(d.count("SELECT count(*) FROM d"), 0);
    let mut child = d
        .command("check d.spec.toml -")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut input = child.stdin.take().unwrap();
    input.write_all(b"id,kg\n1,2\n").unwrap();
    drop(input);
    assert_eq!(child.wait_with_output().unwrap().status.code(), Some(2));
}
