//! `barrow draft`: from files to a spec, to a table, with no hand in between.

use rusqlite::types::Value::{self, Integer, Null, Real, Text};

use crate::market::Market;

fn text(text: &str) -> Value {
    Text(text.into())
}

/// Drafts files of the demo and loads them by the draft, which rejects nothing.
fn drafted(m: &Market, files: &str) {
    let said = m.run(&format!(
        "draft {files} --database sqlite:m.db --table t -o t.spec.toml"
    ));
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let said = m.run("load t.spec.toml --report json");
    let spec = String::from_utf8(m.read("t.spec.toml")).unwrap();
    assert_eq!(
        (said.code, &said.json()["rejected"]),
        (0, &0.into()),
        "{spec}\n{}",
        said.err
    );
}

fn demo() -> Market {
    let m = Market::with(&[]);
    assert_eq!(m.run("demo market").code, 0);
    m
}

#[test]
fn every_demo_file_is_drafted_and_loads_as_it_is() {
    type Case<'c> = (&'c str, i64, &'c str, Vec<Value>);
    let cases: [Case<'_>; 5] = [
        (
            "market/deliveries-w14.psv market/deliveries-w15.psv",
            42,
            "SELECT delivery_id, grower_name, placed_on, arrived, weight_kg, organic, note FROM t \
             WHERE delivery_id = 1403",
            vec![
                Integer(1403),
                text("Lower Field"),
                text("2031-04-02"),
                text("2031-04-02 09:26:00"),
                Integer(54),
                Integer(1),
                text("left at the \"far\" gate"),
            ],
        ),
        (
            "market/growers.csv",
            4,
            "SELECT * FROM t WHERE name LIKE 'Zo%'",
            vec![text("Zoë Lark"), text("Böhm's Acre"), text("since 2019")],
        ),
        (
            "market/prices-week2.tsv.gz market/prices-week9.tsv.gz market/prices-week10.tsv.gz",
            24,
            "SELECT product, unit, price, valid_from FROM t WHERE valid_from = '2031-02-10' LIMIT 1",
            vec![
                text("carrots"),
                text("tray"),
                Real(9.81),
                text("2031-02-10"),
            ],
        ),
        (
            "market/stalls.csv",
            5,
            "SELECT count(DISTINCT stall) FROM t",
            vec![Integer(5)],
        ),
        (
            "market/orders.csv",
            9,
            "SELECT customer, crates, basket FROM t WHERE order_no = 5003",
            vec![text("Bram Vale"), Null, text("{}")],
        ),
    ];
    let m = demo();
    for (files, rows, sql, wanted) in cases {
        drafted(&m, files);
        assert_eq!(m.count("SELECT count(*) FROM t"), rows, "{files}");
        assert_eq!(m.cells(sql)[0], wanted, "{files}");
        m.sql("DROP TABLE t");
        std::fs::remove_file(m.path("t.spec.toml")).unwrap();
    }
    // Its lines are of three record types.
    drafted(&m, "market/tickets.txt");
    assert_eq!(m.count("SELECT count(*) FROM t_d"), 6);
    assert_eq!(m.count("SELECT count(*) FROM t_t"), 12);
    let first = "SELECT column_2, column_3 FROM t_d LIMIT 1";
    assert_eq!(m.cells(first)[0], [text("2031-04-01"), text("Bram Vale")]);
}

#[test]
fn a_file_is_in_its_table_with_two_commands() {
    let m = Market::with(&[("auto-mpg2.csv", b"name,kg\nAda,1.50\nIvy,2.25\n")]);
    std::fs::create_dir(m.path("specs")).unwrap();
    let said = m.run("draft auto-mpg2.csv -o specs/a.spec.toml");
    assert_eq!(said.code, 0, "{}", said.err);
    let spec = String::from_utf8(m.read("specs/a.spec.toml")).unwrap();
    assert!(spec.contains("files    = [\"../auto-mpg2.csv\"]"), "{spec}");
    assert!(
        spec.contains("database = \"sqlite:auto_mpg2.db\""),
        "{spec}"
    );
    assert!(
        said.out.ends_with("next: barrow load specs/a.spec.toml\n"),
        "{}",
        said.out
    );
    let said = m.run("load specs/a.spec.toml");
    assert_eq!(said.code, 0, "{}", said.err);
    let database = rusqlite::Connection::open(m.path("specs/auto_mpg2.db")).unwrap();
    let sum: f64 = database
        .query_row("SELECT sum(kg) FROM auto_mpg2", [], |row| row.get(0))
        .unwrap();
    assert_eq!(sum, 3.75);
    // An address on the command line is from where the command runs.
    let said = m.run("draft auto-mpg2.csv --database sqlite:m.db -o specs/b.spec.toml");
    assert_eq!(said.code, 0, "{}", said.err);
    let spec = String::from_utf8(m.read("specs/b.spec.toml")).unwrap();
    assert!(spec.contains("database = \"sqlite:../m.db\""), "{spec}");
}

#[test]
fn what_was_not_plain_is_heard() {
    let m = Market::with(&[("d.csv", b"id,day\n1,03/04/2031\n2,05/06/2031\n")]);
    let said = m.run("draft d.csv -o d.spec.toml");
    let wanted = "1 remark to look at:\n  1  day: \"03/04/2031\": the day is taken to come first, \
                  and every value reads the other way too\n     to change it: format = \"%m/%d/%Y\"\n";
    assert_eq!(said.err, wanted);
    let said = m.run("load d.spec.toml");
    assert_eq!(said.code, 0, "{}", said.err);
    assert!(
        said.err
            .contains("d.spec.toml still has 1 remark of its draft, marked with !"),
        "{}",
        said.err
    );
    let said = m.run("draft d.csv -q -o e.spec.toml");
    assert_eq!(said.err, "");
}

#[test]
fn numbers_are_numbers_to_sqlite() {
    // More digits than an exact number has room for there.
    let m = Market::with(&[(
        "w.csv",
        b"station,wind\na,9.2\nb,1048.36000000000001\nc,101.5\n",
    )]);
    assert_eq!(
        m.run("draft w.csv --database sqlite:m.db -o w.spec.toml")
            .code,
        0
    );
    assert_eq!(m.run("load w.spec.toml").code, 0);
    let most = m.cells("SELECT max(wind), count(*) FILTER (WHERE wind < 100) FROM w");
    assert_eq!(most[0], [Real(1048.36), Integer(1)]);
}

#[test]
fn what_is_no_table_ends_with_one() {
    let m = Market::with(&[("flights.csv", b"PK\x03\x04\x14\0\0\0\x08\0flights.csv")]);
    let said = m.run("draft flights.csv");
    assert_eq!((said.code, said.out.as_str()), (1, ""));
    assert!(
        said.err
            .contains("flights.csv is a zip archive, and no table"),
        "{}",
        said.err
    );
    assert!(said.err.contains("unpack it first"), "{}", said.err);
}

#[test]
fn a_file_with_faults_is_drafted_with_their_lines() {
    let m = demo();
    let said = m.run("draft market/faults.csv");
    assert_eq!(said.code, 0, "{}", said.err);
    for line in [
        "line 5: a quote that nothing closes",
        "line 7: too few fields: 3 of 6",
        "line 8: text after a closing quote",
        "line 13: too many fields: 7 of 6",
        "line 3 \"2031-02-31\"",
        "line 14 \"twelve\"",
    ] {
        assert!(said.out.contains(line), "{line}\n{}", said.out);
    }
}

#[test]
fn files_that_differ_are_told_apart() {
    let m = Market::with(&[
        ("a.csv", b"id,name\n1,x\n"),
        ("b.csv", b"id,nome,kg\n1,x,2\n"),
    ]);
    let said = m.run("draft a.csv b.csv");
    assert_eq!(said.code, 1);
    assert!(
        said.err
            .contains("b.csv: lacks \"name\"; has \"nome\", \"kg\" too"),
        "{}",
        said.err
    );
}

const SPEC: &str = "# Ours, by hand.\n[source]\nfiles = [\"d.csv\"]\n\n[columns]\n\
    id   = \"smallint\"                          # the key\n\
    name = { type = \"varchar(4)\", from = \"Name\" }  # who\n\
    kg   = { type = \"decimal(3,1)\", min = 0 }\n\
    day  = \"date\"\n\n[target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\n";

#[test]
fn drift_is_told_and_written_with_the_rest_untouched() {
    let m = Market::with(&[("d.spec.toml", SPEC.as_bytes())]);
    m.write("d.csv", b"id,Name,kg,day\n1,Ada,1.5,2031-04-01\n");
    let said = m.run("draft --compare d.spec.toml");
    assert_eq!(
        said.out, "d.spec.toml reads all 1 record as they are\n",
        "{}",
        said.err
    );
    let said = m.run("draft --update d.spec.toml");
    assert!(said.out.contains("nothing was changed"), "{}", said.out);
    m.write(
        "d.csv",
        b"id,Name,kg,day,stall\n1,Ada,1.5,01/04/2031\n70000,Ivy Sedge,1204.25,28/04/2031,7\n2,Bo,1,29/04/2031,8\n",
    );
    let said = m.run("draft --compare d.spec.toml");
    assert_eq!(said.code, 4);
    for line in [
        "new       \"stall\": smallint",
        "changed   id smallint → integer: 1 out of range for smallint, first: d.csv line 3 \"70000\"",
        "changed   name varchar(4) → varchar(10): 1 too long",
        "changed   kg decimal(3,1) → decimal(6,2): 1 too precise",
        "changed   day date, written otherwise: 2 not a date in %Y-%m-%d",
    ] {
        assert!(said.out.contains(line), "{line}\n{}", said.out);
    }
    assert_eq!(m.read("d.spec.toml"), SPEC.as_bytes());
    let said = m.run("draft --update d.spec.toml");
    assert_eq!(said.code, 0, "{}", said.err);
    let wanted = SPEC
        .replace("\"smallint\"  ", "\"integer\"  ")
        .replace("varchar(4)", "varchar(10)")
        .replace("decimal(3,1)", "decimal(6,2)")
        .replace(
            "day  = \"date\"\n",
            "day  = { type = \"date\", format = \"%d/%m/%Y\" }\nstall = { type = \"smallint\" }\n",
        );
    assert_eq!(String::from_utf8(m.read("d.spec.toml")).unwrap(), wanted);
    let said = m.run("check d.spec.toml --report json").json();
    assert_eq!(
        (&said["rolled_back"], &said["rejected"]),
        (&2.into(), &1.into())
    );
    m.write("d.csv", b"id,Name,kg\n1,Ada,1.5\n");
    let said = m.run("draft --compare d.spec.toml --report json");
    assert_eq!(
        (said.code, &said.json()["missing"]),
        (4, &serde_json::json!(["day", "stall"]))
    );
    let said = m.run("draft --compare d.spec.toml");
    assert!(
        said.out.contains("missing   day: a header lacks it"),
        "{}",
        said.out
    );
}

#[test]
fn a_spec_is_never_written_over() {
    let m = Market::with(&[("d.csv", b"id,name\n1,x\n"), ("d.spec.toml", b"# mine\n")]);
    let said = m.run("draft d.csv -o d.spec.toml");
    assert_eq!(said.code, 2);
    assert_eq!(m.read("d.spec.toml"), b"# mine\n");
    // In another folder the spec finds its files all the same.
    std::fs::create_dir(m.path("specs")).unwrap();
    assert_eq!(
        m.run("draft d.csv --database sqlite:m.db -o specs/d.spec.toml")
            .code,
        0
    );
    let said = m.run("load specs/d.spec.toml");
    assert_eq!(said.code, 0, "{}", said.err);
}

#[test]
fn an_update_follows_names_encodings_nulls_and_evidence() {
    let m = Market::with(&[("d.csv", b"id,Name,kg\n1,Ada,1.5\n2,Ivy,2.5\n")]);
    assert_eq!(
        m.run("draft d.csv --tight --database sqlite:m.db -o d.spec.toml")
            .code,
        0
    );
    let spec = || String::from_utf8(m.read("d.spec.toml")).unwrap();
    // A column under another name.
    m.write("d.csv", b"id,Grower,kg\n1,Ada,1.5\n2,Ivy,2.5\n");
    let said = m.run("draft --compare d.spec.toml");
    assert!(
        said.out.contains("renamed   name: \"Name\" → \"Grower\"?"),
        "{}",
        said.out
    );
    let said = m.run("draft --compare d.spec.toml --report json").json();
    assert_eq!(said["renamed"]["to"], "Grower");
    assert_eq!(m.run("draft --update d.spec.toml").code, 0);
    assert!(spec().contains("from = \"Grower\""), "{}", spec());
    assert_eq!(m.run("draft --compare d.spec.toml").code, 0);
    // Another encoding, a word for null, and a larger number.
    m.write(
        "d.csv",
        b"id,Grower,kg\n1,Zo\xEB,1.5\n2,Ivy,NA\n70000,Bo,2.5\n",
    );
    let said = m.run("draft --compare d.spec.toml");
    assert!(
        said.out.contains("encoding  utf-8 → windows-1252"),
        "{}",
        said.out
    );
    assert_eq!(m.run("draft --update d.spec.toml").code, 0);
    let text = spec();
    assert!(text.contains("encoding = \"windows-1252\""), "{text}");
    assert!(text.contains("null_values = [\"\", \"NA\"]"), "{text}");
    assert!(text.contains("# 3 values, 0 null; 1 to 70000"), "{text}");
    assert!(!text.contains("# 2 values, 0 null; 1 to 2"), "{text}");
    assert_eq!(m.run("draft --compare d.spec.toml").code, 0, "{text}");
    let said = m.run("load d.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
}

#[test]
fn a_spec_is_as_private_as_its_writer_makes_new_files() {
    use std::os::unix::fs::PermissionsExt;
    let m = Market::with(&[("d.csv", b"a,b\n1,x\n")]);
    for (mask, mode) in [("077", 0o600), ("022", 0o644)] {
        let spec = format!("d{mask}.spec.toml");
        let script = format!("umask {mask}; exec \"$0\" draft d.csv -q -o {spec}");
        let mut shell = std::process::Command::new("sh");
        shell.args(["-c", &script, env!("CARGO_BIN_EXE_barrow")]);
        let status = shell.current_dir(m.path("")).status().unwrap();
        assert!(status.success());
        let found = m.path(&spec).metadata().unwrap().permissions().mode();
        assert_eq!(found & 0o777, mode, "umask {mask}");
    }
}

#[test]
fn records_that_name_their_fields_are_compared_by_key() {
    let spec = "# Ours.\n[source]\nfiles = [\"d.jsonl\"]\n[records]\nlayout = \"json\"\n\n[columns]\n\
        id     = \"smallint\"           # the key\n\
        grower = { type = \"varchar(6)\", from = [\"/grower/name\", \"by\"] }\n\
        tags   = \"json\"\n\
        note   = { type = \"text\", optional = true }\n\n\
        [target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\n";
    let m = Market::with(&[("d.spec.toml", spec.as_bytes())]);
    let record = |id: u32, more: &str| {
        format!(
            "{{\"id\": {id}, \"grower\": {{\"name\": \"Ada\"}}, \"tags\": {{\"a\": 1}}{more}}}\n"
        )
    };
    m.write("d.jsonl", record(1, "").as_bytes());
    let same = m.run("draft --compare d.spec.toml");
    assert_eq!(
        (same.code, same.out.as_str()),
        (0, "d.spec.toml reads all 1 record as they are\n")
    );
    // A wider number, a longer name, a key more in some records, one less in others.
    let lacking = "{\"id\": 3, \"by\": \"Wren Cottage\"}\n";
    let drifted = record(70_000, ", \"stall\": 4") + &record(2, "") + lacking;
    m.write("d.jsonl", drifted.as_bytes());
    let said = m.run("draft --compare d.spec.toml");
    assert_eq!(said.code, 4, "{}", said.err);
    for line in [
        "new       \"stall\": smallint, not in every record",
        "changed   id smallint → integer: 1 out of range for smallint, first: d.jsonl line 1",
        "changed   grower varchar(6)",
        "changed   tags json: 1 the record has no such key",
    ] {
        assert!(said.out.contains(line), "{line}\n{}", said.out);
    }
    let said = m.run("draft --update d.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let text = String::from_utf8(m.read("d.spec.toml")).expect("text");
    assert!(
        text.starts_with("# Ours.\n") && text.contains("# the key"),
        "{text}"
    );
    assert!(
        text.contains("stall = { type = \"smallint\", optional = true }"),
        "{text}"
    );
    assert!(
        text.contains("tags   = { type = \"json\", optional = true }"),
        "{text}"
    );
    let check = m.run("check d.spec.toml --report json");
    assert_eq!(
        (check.code, &check.json()["rejected"]),
        (0, &0.into()),
        "{text}{}",
        check.out
    );
    assert_eq!(m.run("draft --compare d.spec.toml").code, 0);
    // A key that none has.
    m.write("d.jsonl", b"{\"grower\": {\"name\": \"Ada\"}, \"no\": 1}\n");
    let said = m.run("draft --compare d.spec.toml");
    assert!(
        said.code == 4 && said.out.contains("missing   id: no record has it"),
        "{}",
        said.out
    );
    m.write("d.jsonl", b"id,grower\n1,Ada\n");
    let other = m.run("draft --compare d.spec.toml");
    assert!(
        other.code == 2 && other.err.contains("the files are not JSON"),
        "{}",
        other.err
    );
}

#[test]
fn the_schema_beside_drafts_is_made_once_and_is_no_data() {
    let m = Market::with(&[
        ("a.json", b"{\"id\": 1}\n{\"id\": 2}\n"),
        ("b.json", b"{\"id\": 3}\n"),
    ]);
    let first = m.run("draft *.json -o all.spec.toml --table t");
    assert!(
        first.code == 0 && first.out.contains(".barrow.schema.json: written"),
        "{}",
        first.out
    );
    let text = m.read("all.spec.toml");
    assert!(text.starts_with(b"#:schema ./.barrow.schema.json\n"));
    let schema: serde_json::Value =
        serde_json::from_slice(&m.read(".barrow.schema.json")).expect("JSON");
    assert!(schema["properties"]["extends"].is_object());
    let load = m.run("load all.spec.toml --report json");
    assert_eq!(
        (load.code, &load.json()["loaded"]),
        (0, &3.into()),
        "{}{}",
        load.out,
        load.err
    );
    m.write(".barrow.schema.json", b"{}\n");
    std::fs::create_dir(m.path("deep")).expect("a folder");
    let second = m.run("draft a.json -o deep/a.spec.toml");
    assert!(
        second.code == 0 && !second.out.contains("schema"),
        "{}",
        second.out
    );
    assert!(
        m.read("deep/a.spec.toml")
            .starts_with(b"#:schema ../.barrow.schema.json\n")
    );
    assert_eq!(m.read(".barrow.schema.json"), b"{}\n");
}
