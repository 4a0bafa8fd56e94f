//! `barrow load` into SQLite.

use rusqlite::types::Value::{self, Integer, Null, Real, Text};

use crate::market::{Market, said};

const SPEC: &str = r#"[source]
files = ["d.csv"]
[columns]
id = { type = "bigint", required = true }
name = "varchar(10)"
kg = "decimal(6,2)"
[target]
database = "sqlite:m.db"
table = "d"
create = true
"#;

fn text(text: &str) -> Value {
    Text(text.into())
}

#[test]
fn every_type_at_its_edges_is_in_the_table_as_it_was_in_the_file() {
    let spec = r#"[columns]
small = "smallint"
whole = "integer"
big = "bigint"
short = "decimal(15,4)"
long = { type = "decimal(38,10)", when_inexact = "text" }
single = "real"
double = "double"
truth = "boolean"
fixed = "char(3)"
some = "varchar(5)"
any = "text"
day = "date"
hour = "time"
moment = "timestamp"
[target]
database = "sqlite:m.db"
table = "edges"
create = true
"#;
    let file = "small,whole,big,short,long,single,double,truth,fixed,some,any,day,hour,moment\n\
        -32768,-2147483648,-9223372036854775808,-99999999999.9999,-9999999999999999999999999999.9999999999,1.5,-1.7976931348623157e308,true,abc,Zoë🥕x,\"a,\"\"b\"\"\nc\",0001-01-01,00:00:00,0001-01-01 00:00:00\n\
        32767,2147483647,9223372036854775807,0.0001,0.0000000001,-0.25,5e-324,F,,\"\",007,9999-12-31,23:59:59.999999999,9999-12-31 23:59:59.5\n\
        ,,,,,,,,,,,,,\n";
    let m = Market::with(&[("e.spec.toml", spec.as_bytes()), ("e.csv", file.as_bytes())]);
    let said = m.run("load e.spec.toml e.csv");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let rows = m.cells("SELECT * FROM edges");
    assert_eq!(
        rows[0],
        [
            Integer(-32768),
            Integer(-2_147_483_648),
            Integer(i64::MIN),
            Real(-99_999_999_999.999_9),
            text("-9999999999999999999999999999.9999999999"),
            Real(1.5),
            Real(f64::MIN),
            Integer(1),
            text("abc"),
            text("Zoë🥕x"),
            text("a,\"b\"\nc"),
            text("0001-01-01"),
            text("00:00:00"),
            text("0001-01-01 00:00:00"),
        ]
    );
    assert_eq!(
        rows[1],
        [
            Integer(32767),
            Integer(2_147_483_647),
            Integer(i64::MAX),
            Real(0.0001),
            text("0.0000000001"),
            Real(-0.25),
            Real(5e-324),
            Integer(0),
            Null,
            text(""),
            text("007"),
            text("9999-12-31"),
            text("23:59:59.999999999"),
            text("9999-12-31 23:59:59.5"),
        ]
    );
    assert_eq!(rows[2], vec![Null; 14]);
}

#[test]
fn many_records_over_many_blocks_are_all_there_and_in_order() {
    let mut file = String::from("id,name,kg\n");
    for id in 0..50_000 {
        file.push_str(&format!(
            "{id},\"n, {}\",{}.{:02}\n",
            id % 97,
            id % 1000,
            id % 100
        ));
    }
    let m = Market::with(&[("d.spec.toml", SPEC.as_bytes()), ("d.csv", file.as_bytes())]);
    assert_eq!(m.run("load d.spec.toml --threads 3").code, 0);
    let rows = m.cells("SELECT id, name, round(kg * 100) FROM d ORDER BY rowid");
    assert_eq!(rows.len(), 50_000);
    for (id, row) in rows.iter().enumerate() {
        let kg = (id % 1000 * 100 + id % 100) as f64;
        assert_eq!(
            *row,
            [
                Integer(id as i64),
                text(&format!("n, {}", id % 97)),
                Real(kg)
            ]
        );
    }
}

#[test]
fn rejects_are_kept_as_they_came_and_load_once_corrected() {
    let file = "Title\r\nid,name,kg\r\n1,Ann,1.5\r\nx,Bo,1000000\r\n3,\"Cy\r\n4,Di,2\r\nTOTAL\r\n";
    let spec = SPEC.replace(
        "[columns]",
        "[records]\npreamble = 1\ntrailer = 1\n[columns]",
    );
    let m = Market::with(&[("d.spec.toml", spec.as_bytes()), ("d.csv", file.as_bytes())]);
    let report = m.run("load d.spec.toml --max-rejects 2 --report json");
    assert_eq!(report.code, 0, "{}", report.err);
    let json = report.json();
    assert_eq!(
        (
            json["records"].as_u64(),
            json["loaded"].as_u64(),
            json["rejected"].as_u64()
        ),
        (Some(4), Some(2), Some(2))
    );
    assert_eq!(json["other_lines"]["all"], 3);
    let folder = m.rejects();
    assert_eq!(
        String::from_utf8(m.read(&format!("{folder}/d.csv"))).unwrap(),
        "Title\r\nid,name,kg\r\nx,Bo,1000000\r\n3,\"Cy\r\nTOTAL\r\n"
    );
    let reasons = String::from_utf8(m.read(&format!("{folder}/reasons.jsonl"))).unwrap();
    let lines: Vec<serde_json::Value> = reasons
        .lines()
        .map(|l| serde_json::from_str(l).unwrap())
        .collect();
    let told: Vec<_> = lines
        .iter()
        .map(|l| {
            (
                l["line"].as_u64().unwrap(),
                l["offset"].as_u64().unwrap(),
                l["code"].as_str().unwrap(),
            )
        })
        .collect();
    assert_eq!(
        told,
        [
            (4, 30, "not-a-number"),
            (4, 35, "out-of-range"),
            (5, 44, "unclosed-quote")
        ]
    );
    assert_eq!(
        (&lines[0]["record"], &lines[0]["column"], &lines[0]["value"]),
        (&2.into(), &"id".into(), &"x".into())
    );

    let corrected = "Title\r\nid,name,kg\r\n2,Bo,10\r\n3,\"Cy\",1\r\nTOTAL\r\n";
    m.write("rejects/mended.csv", corrected.as_bytes());
    assert_eq!(m.run("load d.spec.toml rejects/mended.csv").code, 0);
    assert_eq!(m.count("SELECT count(*) FROM d"), 4);
}

#[test]
fn beyond_the_tolerance_nothing_is_kept_yet_all_is_told() {
    let mut file = String::from("id,name,kg\n");
    for id in 0..20_000 {
        file.push_str(if id % 1000 == 999 {
            "x,y,z\n"
        } else {
            "1,a,2\n"
        });
    }
    let m = Market::with(&[("d.spec.toml", SPEC.as_bytes()), ("d.csv", file.as_bytes())]);
    m.sql("CREATE TABLE d (id, name, kg); INSERT INTO d VALUES (0, 'before', 0)");
    let said = m.run("load d.spec.toml --max-rejects 19 --report json");
    assert_eq!(said.code, 3);
    let json = said.json();
    assert_eq!(
        (&json["rejected"], &json["loaded"], &json["rolled_back"]),
        (&20.into(), &0.into(), &19_980.into())
    );
    assert_eq!(json["tables"][0]["rows_after"], 1);
    assert_eq!(m.count("SELECT count(*) FROM d"), 1);
    assert_eq!(m.run("load d.spec.toml --max-rejects 0.09%").code, 3);
    assert_eq!(m.run("load d.spec.toml --max-rejects 0.1%").code, 0);
    assert_eq!(m.count("SELECT count(*) FROM d"), 19_981);
}

#[test]
fn append_truncate_and_replace() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("d.csv", b"id,name,kg\n1,a,1\n"),
    ]);
    m.sql("CREATE TABLE d (id INTEGER, name TEXT, kg, more TEXT DEFAULT 'x'); INSERT INTO d (id) VALUES (9)");
    assert_eq!(m.run("load d.spec.toml").code, 0);
    assert_eq!(m.count("SELECT count(*) FROM d WHERE more = 'x'"), 2);
    assert_eq!(m.run("load d.spec.toml --mode truncate").code, 0);
    assert_eq!(m.count("SELECT count(*) FROM d WHERE more = 'x'"), 1);
    let said = m.run("load d.spec.toml --mode replace --report json");
    assert_eq!(
        (said.code, &said.json()["tables"][0]["rows_before"]),
        (0, &1.into())
    );
    assert_eq!(
        m.cells("SELECT name, type FROM pragma_table_info('d')")[2],
        [text("kg"), text("DECIMAL(6,2)")]
    );
    m.write("d.csv", b"id,name,kg\nx,a,1\n");
    for mode in ["truncate", "replace"] {
        assert_eq!(m.run(&format!("load d.spec.toml --mode {mode}")).code, 3);
        assert_eq!(
            m.count("SELECT count(*) FROM d"),
            1,
            "{mode} was rolled back"
        );
    }
}

#[test]
fn every_so_many_records_is_committed_and_stays() {
    let mut file = String::from("id,name,kg\n");
    for id in 0..60_000 {
        file.push_str(&format!("{id},a,1\n"));
    }
    file.push_str("x,a,1\n");
    let spec = SPEC.replace("create = true", "create = true\ncommit_every = 5000");
    let m = Market::with(&[("d.spec.toml", spec.as_bytes()), ("d.csv", file.as_bytes())]);
    let said = m.run("load d.spec.toml --report json");
    assert_eq!(said.code, 3);
    let kept = m.count("SELECT count(*) FROM d");
    assert!((5_000..60_000).contains(&kept), "{kept}");
    assert_eq!(said.json()["loaded"].as_i64(), Some(kept));
    assert_eq!(said.json()["tables"][0]["rows_after"].as_i64(), Some(kept));
}

#[test]
fn wrong_command_lines_and_specs_exit_with_2() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("d.csv", b"id,nam,kg\n1,a,1\n"),
    ]);
    let said = m.run("load d.spec.toml");
    assert_eq!(said.code, 2);
    assert!(said.err.contains("nearest is \"nam\""), "{}", said.err);
    assert!(
        !m.path("m.db").exists(),
        "a database that got nothing is not left behind"
    );
    for words in [
        "load",
        "load d.spec.toml --max-rejects many",
        "load d.spec.toml --database nonsense",
        "lode",
    ] {
        assert_eq!(m.run(words).code, 2, "{words}");
    }
    m.write("bad.spec.toml", b"[records]\nheadr = 1\n[colums]\n");
    let said = m.run("load bad.spec.toml");
    assert_eq!(said.code, 2);
    assert!(
        said.err.contains("nearest known name is \"header\"") && said.err.contains("\"columns\"")
    );
}

#[test]
fn a_table_that_does_not_fit_is_told_before_anything_is_read() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("d.csv", b"id,name,kg\n1,a,1\n"),
    ]);
    m.sql("CREATE TABLE d (id INTEGER, nam TEXT, kg INTEGER AS (1), need TEXT NOT NULL)");
    let said = m.run("load d.spec.toml");
    assert_eq!(said.code, 2);
    for words in [
        "the nearest is nam",
        "kg: the table computes it",
        "need: the table requires it",
    ] {
        assert!(said.err.contains(words), "{words}: {}", said.err);
    }
    m.sql("DROP TABLE d; CREATE TABLE d (id INTEGER, name NUMERIC, kg)");
    let said = m.run("load d.spec.toml");
    assert!(
        said.code == 2 && said.err.contains("007 into 7"),
        "{}",
        said.err
    );
    m.sql("DROP TABLE d; CREATE VIEW d AS SELECT 1 AS id");
    assert!(m.run("load d.spec.toml").err.contains("is a view"));
}

#[test]
fn files_and_databases_that_are_not_there_exit_with_1() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("not.db", b"this is plain text, not a database at all"),
    ]);
    for words in [
        "load d.spec.toml",
        "load none.spec.toml",
        "load d.spec.toml none*.csv",
        "load d.spec.toml @none",
    ] {
        assert_eq!(m.run(words).code, 1, "{words}");
    }
    m.write("d.csv", b"id,name,kg\n1,a,1\n");
    let said = m.run("load d.spec.toml --database sqlite:not.db");
    assert_eq!(said.code, 1);
    assert!(said.err.contains("not a SQLite database"), "{}", said.err);
    assert_eq!(
        m.read("not.db"),
        b"this is plain text, not a database at all"
    );
    m.write("e.spec.toml", SPEC.replace("create = true", "").as_bytes());
    let said = m.run("load e.spec.toml");
    assert!(
        said.code == 1 && said.err.contains("there is no database"),
        "{}",
        said.err
    );
    // Where nothing is to be made, nobody is told how to have it made.
    for words in [
        "ledger --database sqlite:none.db",
        "undo x --database sqlite:none.db",
    ] {
        let said = m.run(words);
        assert_eq!(said.code, 1, "{words}: {}", said.err);
        let says = said.err.contains("there is no database none.db");
        assert!(
            says && !said.err.contains("create = true"),
            "{words}: {}",
            said.err
        );
    }
}

#[test]
fn the_disk_fills_and_nothing_is_half_loaded() {
    let mut file = String::from("id,name,kg\n");
    for id in 0..100_000 {
        file.push_str(&format!("{id},abcdefghij,1\n"));
    }
    let m = Market::with(&[("d.spec.toml", SPEC.as_bytes()), ("d.csv", file.as_bytes())]);
    m.sql("CREATE TABLE d (id, name, kg); INSERT INTO d VALUES (0, 'before', 0)");
    // A limit on the size of files, met as a failed write and not as a signal.
    let mut command = std::process::Command::new("bash");
    let program = m.command("load d.spec.toml");
    command.args([
        "-c",
        "trap '' XFSZ; ulimit -f 200; exec \"$0\" load d.spec.toml",
    ]);
    command.arg(program.get_program()).current_dir(m.path(""));
    let said = said(command);
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    assert!(
        said.err.contains("nothing of this load was committed"),
        "{}",
        said.err
    );
    assert_eq!(m.count("SELECT count(*) FROM d"), 1);
}

#[test]
fn names_from_data_cannot_leave_their_place() {
    let spec = SPEC
        .replace("name = ", "\"na\\\"me; DROP TABLE d; --\" = ")
        .replace("table = \"d\"", "table = \"t'\\\"; --\"");
    let m = Market::with(&[
        ("d.spec.toml", spec.as_bytes()),
        (
            "d.csv",
            b"id,\"na\"\"me; DROP TABLE d; --\",kg\n1,'; DROP --,1\nx\x1b[31m,\x07,1\n",
        ),
    ]);
    let said = m.run("load d.spec.toml --max-rejects 1");
    assert_eq!(said.code, 0, "{}", said.err);
    assert!(
        said.out.contains("x\\x1B[31m") && !said.out.contains('\x1b'),
        "{}",
        said.out
    );
    assert_eq!(
        m.cells("SELECT * FROM \"t'\"\"; --\"")[0][1],
        text("'; DROP --")
    );
}

#[test]
fn several_files_are_bound_each_by_its_own_header_and_told_line_by_line() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("w10.csv", b"id,name,kg\n3,c,3\n"),
        ("w2.csv", b"kg,id,name\n1,1,a\n2,2,b\n"),
        ("list", b"w10.csv\nw2.csv\n"),
    ]);
    let said = m.run("load d.spec.toml w*.csv --report json");
    let json = said.json();
    assert_eq!(
        (&json["files"][0]["file"], &json["files"][0]["records"]),
        (&"w2.csv".into(), &2.into())
    );
    assert_eq!(
        m.cells("SELECT id, name FROM d ORDER BY rowid"),
        [
            [Integer(1), text("a")],
            [Integer(2), text("b")],
            [Integer(3), text("c")]
        ]
    );
    assert_eq!(m.run("load d.spec.toml @list --mode truncate").code, 0);
    assert_eq!(m.cells("SELECT id FROM d ORDER BY rowid")[0], [Integer(3)]);
}

#[test]
fn standard_input_is_a_file_like_any_other() {
    use std::io::Write;
    let m = Market::with(&[("d.spec.toml", SPEC.as_bytes())]);
    let mut command = m.command("load d.spec.toml -");
    command
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::null());
    let mut child = command.spawn().unwrap();
    child
        .stdin
        .take()
        .unwrap()
        .write_all(b"id,name,kg\n1,a,1\n")
        .unwrap();
    assert!(child.wait().unwrap().success());
    assert_eq!(m.count("SELECT count(*) FROM d"), 1);
}
