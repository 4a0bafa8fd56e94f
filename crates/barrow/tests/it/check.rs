//! `barrow check` and `barrow ddl`.

use crate::market::Market;

const SPEC: &str = r#"[source]
files = ["d.csv"]
[records]
when_new_column = "ignore"
[columns]
id = { type = "bigint", required = true }
grower = { type = "varchar(40)", from = "Grower" }
grade = { type = "char(1)", one_of = ["A", "B"] }
kg = "decimal(6,2)"
[target]
database = "sqlite:m.db"
table = "d"
key = ["id"]
create = true
"#;

const FILE: &[u8] =
    b"id,Grower,grade,kg,extra\n1,Ada,A,1.5,\n2,Bram,C,x,\n1,Zoe,B,2,\n3,Ivy,A,3,\n1,Eve,A,4,\n";

fn market() -> Market {
    Market::with(&[("d.spec.toml", SPEC.as_bytes()), ("d.csv", FILE)])
}

#[test]
fn a_check_says_what_a_load_would_and_loads_nothing() {
    let m = market();
    let said = m.run("check d.spec.toml --max-rejects 1 --rejects would");
    assert_eq!(said.code, 3, "{}{}", said.out, said.err);
    for line in [
        "id       id bigint            ·       the table would be made",
        "extra    ·                    ·       not read",
        "would load       0",
        "would roll back  2   good records of a load that would be rolled back",
        "would reject     3   more than the limit of 1",
        "2 records of the same id again; first: line 4, which has the key of line 2",
        "a load would commit nothing, unless with --max-rejects 3",
    ] {
        assert!(said.out.contains(line), "{line}\n{}", said.out);
    }
    assert!(!m.path("m.db").exists());
    let kept = std::fs::read_dir(m.path("would"))
        .unwrap()
        .next()
        .unwrap()
        .unwrap()
        .path();
    assert_eq!(
        std::fs::read(kept.join("d.csv")).unwrap(),
        b"id,Grower,grade,kg,extra\n2,Bram,C,x,\n"
    );
    // A load rejects the same records, for the same reasons and by its table's key.
    let said = m.run("load d.spec.toml --max-rejects 3 --report json");
    assert_eq!((said.code, &said.json()["loaded"]), (0, &2.into()));
}

#[test]
fn header_spec_and_table_are_held_against_each_other() {
    let m = market();
    m.sql(
        "CREATE TABLE d (ID BIGINT, grower VARCHAR(10), grades TEXT, kg DECIMAL(6,2),
         clerk TEXT NOT NULL, at TIMESTAMP DEFAULT CURRENT_TIMESTAMP)",
    );
    let said = m.run("check d.spec.toml --report json");
    assert_eq!(said.code, 2, "{}", said.err);
    let json = said.json();
    let verdicts: Vec<&str> = json["columns"]
        .as_array()
        .unwrap()
        .iter()
        .map(|c| c["verdict"].as_str().unwrap())
        .collect();
    let wanted = [
        "fits",
        "fits: 40 characters into varchar(10), which SQLite does not hold to",
        "missing in the table; the nearest is grades",
        "fits",
        "not read",
        "filled by the table",
        "required by the table, and not loaded",
        "filled by the table",
    ];
    assert_eq!(verdicts, wanted);
    // The records were read all the same, and what a load would say stands at the end.
    assert_eq!(json["reasons"].as_array().unwrap().len(), 2);
    assert!(
        said.err.contains("the table d does not fit the spec"),
        "{}",
        said.err
    );
}

#[test]
fn a_header_that_lacks_a_column_is_shown_beside_the_spec() {
    let m = market();
    m.write("d.csv", b"id,Growr,grade,kg\n1,Ada,A,1.5\n");
    let said = m.run("check d.spec.toml");
    assert_eq!(said.code, 2);
    assert!(
        said.out
            .contains("the header has no \"Grower\"; the nearest is \"Growr\""),
        "{}",
        said.out
    );
    assert!(
        said.out
            .contains("Growr    ·                    ·       not read"),
        "{}",
        said.out
    );
}

#[test]
fn what_is_odd_in_a_spec_is_told_on_the_way() {
    let m = market();
    m.write(
        "odd.spec.toml",
        b"[values]\nnull_values = [\"0\"]\n[columns]\nid = \"integer\"\nplaced = { type = \"date\", format = \"%d/%m/%y\" }\n",
    );
    m.write("o.csv", b"id,placed\n1,01/04/31\n");
    let said = m.run("check odd.spec.toml o.csv");
    assert_eq!(said.code, 0, "{}", said.err);
    assert!(
        said.err.contains("means null, and would be a value"),
        "{}",
        said.err
    );
    assert!(said.err.contains("one of 1969 to 2068"), "{}", said.err);
    assert!(said.out.contains("no database"), "{}", said.out);
}

#[test]
fn types_may_be_left_to_the_table() {
    let m = market();
    m.sql("CREATE TABLE d (id INTEGER NOT NULL, kg DECIMAL(4,1), at DATE, odd GEOMETRY)");
    let spec = "[target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\n";
    m.write(
        "all.spec.toml",
        format!("{spec}[records]\nwhen_new_column = \"ignore\"\n[columns]\nid = {{}}\nkg = {{ min = 1 }}\n").as_bytes(),
    );
    m.write("d.csv", b"id,kg,at,odd\n1,1.55,,\n2,0.5,,\n,1,,\n4,2.5,,\n");
    let said = m.run("load all.spec.toml d.csv --max-rejects 3 --report json");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let json = said.json();
    let codes: Vec<&str> = json["reasons"]
        .as_array()
        .unwrap()
        .iter()
        .map(|r| r["code"].as_str().unwrap())
        .collect();
    assert_eq!(codes, ["too-precise", "out-of-range", "refused"]);
    // A spec without columns takes all of the table's; a type that is none is told.
    m.write("none.spec.toml", spec.as_bytes());
    let said = m.run("check none.spec.toml d.csv");
    assert_eq!(said.code, 2);
    assert!(
        said.err
            .contains("GEOMETRY in the table is none of a spec's"),
        "{}",
        said.err
    );
    m.sql("DROP TABLE d; CREATE TABLE d (id INTEGER NOT NULL, kg DECIMAL(4,1), at DATE)");
    m.write(
        "none.spec.toml",
        format!("{spec}[records]\nwhen_new_column = \"ignore\"\n").as_bytes(),
    );
    let said = m.run("load none.spec.toml d.csv --again --max-rejects 3 --report json");
    let codes = said.json()["reasons"].clone();
    assert_eq!(codes[1]["code"], "required", "{codes}");
}

#[test]
fn ddl_is_what_a_load_would_make_and_what_would_make_a_table_fit() {
    let m = market();
    let said = m.run("ddl d.spec.toml");
    let wanted = "CREATE TABLE \"d\" (\n  \"id\" BIGINT NOT NULL,\n  \"grower\" VARCHAR(40),\n  \
        \"grade\" CHAR(1) CHECK (\"grade\" IN ('A', 'B')),\n  \"kg\" DECIMAL(6,2),\n  \
        PRIMARY KEY (\"id\")\n);\n";
    assert_eq!((said.code, said.out.as_str()), (0, wanted));
    m.sql(&said.out);
    assert_eq!(
        m.run("ddl d.spec.toml --alter").out,
        "-- the table d fits as it is\n"
    );
    m.sql("ALTER TABLE d DROP COLUMN kg");
    let said = m.run("ddl d.spec.toml --alter");
    let wanted =
        "-- kg: the table has no such column\nALTER TABLE \"d\" ADD COLUMN \"kg\" DECIMAL(6,2);\n";
    assert_eq!(said.out, wanted);
    m.sql(&said.out);
    assert_eq!(
        m.run("ddl d.spec.toml --alter").out,
        "-- the table d fits as it is\n"
    );
    assert!(
        m.run("ddl d.spec.toml --for mariadb")
            .out
            .starts_with("CREATE TABLE `d` (")
    );
    assert!(
        m.run("ddl d.spec.toml --for postgres")
            .out
            .contains("\"kg\" numeric(6,2)")
    );
}

#[test]
fn keys_that_come_twice_are_found_among_many() {
    let mut file = String::from("id,Grower,grade,kg\n");
    for id in 0..900_000 {
        file += &format!("{id},Ada,A,1\n");
    }
    file += "7,Ada,A,1\n";
    let m = Market::with(&[("d.spec.toml", SPEC.as_bytes()), ("d.csv", file.as_bytes())]);
    let said = m.run("check d.spec.toml --report json");
    assert_eq!(said.code, 3);
    let wanted = serde_json::json!({
        "key": ["id"], "count": 1, "first": { "line": 900_002, "same_as_line": 9 },
    });
    assert_eq!(said.json()["keys_twice"][0], wanted);
}

#[test]
fn a_width_that_no_value_fills_is_told() {
    let spec = r#"[records]
layout = "fixed"
[columns]
grower = { type = "varchar(12)", width = 12 }
grade = { type = "char(1)", width = 1 }
"#;
    let m = Market::with(&[
        ("d.spec.toml", spec.as_bytes()),
        ("d.txt", b"Lower Field A\nTansy Lane  B\n"),
    ]);
    let said = m.run("check d.spec.toml d.txt");
    assert!(
        said.out
            .contains("no value fills its width of 12: the longest has 11"),
        "{}{}",
        said.out,
        said.err
    );
    assert!(!said.out.contains("width of 1:"), "{}", said.out);
}

#[test]
fn a_column_that_a_load_stops_for_does_not_fit() {
    let m = Market::with(&[
        (
            "d.spec.toml",
            b"[source]\nfiles = [\"d.csv\"]\n[columns]\nv = \"json\"\n[target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\n",
        ),
        ("d.csv", b"v\n1.10\n"),
    ]);
    m.sql("CREATE TABLE d (v JSON)");
    let said = m.run("check d.spec.toml --report json");
    assert_eq!(said.code, 2, "{}", said.err);
    assert_eq!(
        said.json()["columns"][0]["verdict"],
        "SQLite would turn its text into numbers"
    );
    assert_eq!(m.run("load d.spec.toml").code, 2);
}
