//! Files that are asked in place: what is read for it, what is refused, and what is said.

use std::io::{Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::process::Stdio;

use serde_json::{Value, json};

use crate::market::{Market, Said, said};

const SALES: &str = "[source]\nfiles = [\"s*.csv\"]\n[columns]\nid = \"bigint\"\n\
    crop = \"varchar(20)\"\nprice = \"decimal(8,2)\"\nsold_on = \"date\"\n\
    [rejects]\nmax_rejects = \"100%\"\n[target]\ntable = \"sales\"\n";

const FIRST: &str = "id,crop,price,sold_on\n1,kale,0.10,2031-04-01\n2,leek,0.20,2031-04-02\n\
    3,kale,x,2031-04-03\n";

const SECOND: &str = "id,crop,price,sold_on\n4,bean,7.00,2031-13-04\n5,kale,0.70,2031-04-05\n";

fn market() -> Market {
    Market::with(&[
        ("s.spec.toml", SALES.as_bytes()),
        ("s1.csv", FIRST.as_bytes()),
        ("s2.csv", SECOND.as_bytes()),
    ])
}

/// Opens a pipe without waiting for its other end (O_NONBLOCK of Linux).
const NO_WAIT: i32 = 0o4000;

/// Asks with these words before the SQL.
fn ask(market: &Market, words: &str, sql: &str) -> Said {
    let mut command = market.command(&format!("query {words}"));
    command.arg(sql);
    said(command)
}

/// The rows of an answer.
fn rows(market: &Market, words: &str, sql: &str) -> Value {
    let said = ask(market, &format!("{words} --report json"), sql);
    assert_eq!(said.code, 0, "{sql}\n{}{}", said.out, said.err);
    said.json()["rows"].clone()
}

#[test]
fn sums_of_decimals_are_exact_and_rejects_are_those_of_the_columns_read() {
    let m = market();
    let answer = ask(
        &m,
        "s.spec.toml --report json",
        "SELECT sum(price), avg(price) FROM sales",
    );
    let answer = answer.json();
    assert_eq!(answer["rows"], json!([[8.0, 2.0]]));
    let table = &answer["tables"][0];
    assert_eq!(table["columns_read"], json!(["price"]));
    assert_eq!(
        (&table["records"], &table["rejected"]),
        (&json!(5), &json!(1))
    );
    assert_eq!(table["reasons"][0]["code"], "not-a-number");
    // The bad price does not matter here, and neither does the bad day.
    let crops = "SELECT crop, count(*) FROM sales GROUP BY 1 ORDER BY 1";
    assert_eq!(
        rows(&m, "s.spec.toml", crops),
        json!([["bean", 1], ["kale", 3], ["leek", 1]])
    );
    assert_eq!(
        rows(&m, "s.spec.toml", "SELECT count(*) FROM sales"),
        json!([[5]])
    );
}

#[test]
fn a_file_whose_other_columns_are_missing_answers() {
    let m = market();
    m.write("s2.csv", b"crop,id\nbean,4\n");
    assert_eq!(
        rows(&m, "s.spec.toml", "SELECT max(id) FROM sales"),
        json!([[4]])
    );
    let said = ask(&m, "s.spec.toml", "SELECT max(price) FROM sales");
    assert_eq!(said.code, 2, "{}", said.err);
    assert!(
        said.err.contains("s2.csv") && said.err.contains("price"),
        "{}",
        said.err
    );
}

#[test]
fn rejects_are_a_table() {
    let m = market();
    let sql = "SELECT file, line, record, \"column\", code, value FROM rejects ORDER BY file";
    assert_eq!(
        rows(&m, "s.spec.toml", sql),
        json!([
            ["s1.csv", 4, 3, "price", "not-a-number", "x"],
            ["s2.csv", 2, 1, "sold_on", "not-a-date", "2031-13-04"],
        ])
    );
    // Asked of the table and of the rejects at once, and with a condition.
    let sql =
        "SELECT (SELECT count(*) FROM rejects WHERE code = 'not-a-date'), count(*) FROM sales";
    assert_eq!(rows(&m, "s.spec.toml", sql), json!([[1, 5]]));
}

#[test]
fn every_record_says_where_it_is_from() {
    let m = market();
    let sql = "SELECT _file, _line, _record, id FROM sales WHERE id > 3";
    assert_eq!(
        rows(&m, "s.spec.toml", sql),
        json!([["s2.csv", 2, 1, 4], ["s2.csv", 3, 2, 5]])
    );
    let all = ask(
        &m,
        "s.spec.toml --report json",
        "SELECT * FROM sales LIMIT 1",
    )
    .json();
    assert_eq!(
        all["columns"].as_array().map(Vec::len),
        Some(4),
        "they are not among *"
    );
}

#[test]
fn a_row_that_two_conditions_find_is_one_row() {
    let m = market();
    let sql = "SELECT id FROM sales WHERE id >= 5 OR crop = 'leek' OR (id <= 2 AND crop = 'kale') ORDER BY id";
    assert_eq!(rows(&m, "s.spec.toml", sql), json!([[1], [2], [5]]));
}

#[test]
fn a_file_that_is_excluded_by_its_name_is_not_opened() {
    let m = market();
    // Reading it would be an error: it is no text.
    m.write("s3.csv.gz", b"\x1f\x8bno gzip");
    let spec = SALES.replace("s*.csv", "s*");
    let spec = spec.replace("[source]\n", "[source]\ncompression = \"auto\"\n");
    m.write(
        "x.spec.toml",
        spec.replace("\"s*\"", "\"s1.csv\", \"s2.csv\", \"s3.csv.gz\"")
            .as_bytes(),
    );
    for (condition, wanted) in [
        ("_file = 's1.csv'", 3),
        ("_file LIKE 'S_.csv'", 5),
        ("_file GLOB '*[12].csv' AND _file < 's3'", 5),
        ("'s2.csv' <= _file AND _file < 's3'", 2),
        ("_file IN ('s1.csv', 's2.csv')", 5),
        ("_file <> 's3.csv.gz'", 5),
    ] {
        let sql = format!("SELECT count(*) FROM sales WHERE {condition}");
        assert_eq!(
            rows(&m, "x.spec.toml", &sql),
            json!([[wanted]]),
            "{condition}"
        );
    }
    assert_eq!(ask(&m, "x.spec.toml", "SELECT count(*) FROM sales").code, 1);
}

#[test]
fn nothing_but_reading_is_done() {
    let m = market();
    m.sql("CREATE TABLE t (a)");
    let inside = m.path("inside.db");
    for sql in [
        "ATTACH 'inside.db' AS x".to_string(),
        format!("ATTACH '{}' AS x", inside.display()),
        "DETACH loaded".into(),
        "PRAGMA writable_schema = 1".into(),
        "SELECT * FROM pragma_database_list".into(),
        "SELECT load_extension('x')".into(),
        "INSERT INTO sales (id) VALUES (1)".into(),
        "DELETE FROM sales".into(),
        "UPDATE sales SET id = 1".into(),
        "INSERT INTO loaded.t VALUES (1)".into(),
        "CREATE TABLE x (a)".into(),
        "CREATE TEMP TABLE x (a)".into(),
        "CREATE VIRTUAL TABLE x USING files0".into(),
        "DROP TABLE sales".into(),
        "VACUUM INTO 'inside.db'".into(),
        "BEGIN".into(),
        "SELECT 1; SELECT 2".into(),
        "SELECT 1; DROP TABLE loaded.t".into(),
        "".into(),
        "/* nothing */".into(),
        "SELECT".into(),
    ] {
        for more in ["", "--report json", "-o out.csv"] {
            let said = ask(&m, &format!("s.spec.toml --with sqlite:m.db {more}"), &sql);
            assert_eq!(said.code, 2, "{sql} {more}\n{}{}", said.out, said.err);
            assert!(
                said.err.contains("what to do"),
                "{sql} {more}\n{}",
                said.err
            );
        }
    }
    assert!(!inside.exists() && !m.path("out.csv").exists());
    assert_eq!(m.count("SELECT count(*) FROM t"), 0);
}

#[test]
fn names_and_values_are_shown_and_never_obeyed() {
    let name = "a\"; DROP TABLE x; --";
    let spec = format!(
        "[source]\nfiles = [\"h.csv\"]\n[columns]\n'{name}' = \"text\"\n\"_line\" = \"text\"\n\
         [target]\ntable = '{name}'\n"
    );
    let file = "\"a\"\"; DROP TABLE x; --\",_line\n\u{1b}[31mred,\"x\ty\"\n";
    let m = Market::with(&[("h.spec.toml", spec.as_bytes()), ("h.csv", file.as_bytes())]);
    let sql = "SELECT *, _record FROM \"a\"\"; DROP TABLE x; --\"";
    assert_eq!(
        rows(&m, "h.spec.toml", sql),
        json!([["\u{1b}[31mred", "x\ty", 1]])
    );
    let said = ask(&m, "h.spec.toml", sql);
    assert!(
        !said.out.contains('\u{1b}') && said.out.contains("[31mred"),
        "{}",
        said.out
    );
    let said = ask(&m, "h.spec.toml --as 't;\u{7}'", "SELECT * FROM nothing");
    assert!(!said.err.contains('\u{7}'), "{}", said.err);
}

#[test]
fn mistakes_in_the_sql_are_helped() {
    let m = market();
    for (sql, wanted) in [
        ("SELECT * FROM sale", "did you mean sales?"),
        ("SELECT corp FROM sales", "did you mean crop?"),
        (
            "SELECT zzzzzz FROM sales",
            "the columns are id, crop, price, sold_on",
        ),
        ("SELECT * FROM x.y.z", "the SQL is that of SQLite"),
        ("SELEC 1", "the SQL is that of SQLite"),
    ] {
        let said = ask(&m, "s.spec.toml", sql);
        assert_eq!(said.code, 2, "{sql}\n{}", said.err);
        assert!(said.err.contains(wanted), "{sql}\n{}", said.err);
    }
    for words in ["s.spec.toml", "s1.csv s.spec.toml", ""] {
        let said = m.run(&format!("query {words}"));
        assert_eq!(said.code, 2, "{words}\n{}", said.err);
    }
    let said = ask(&m, "s.spec.toml --as a --as b", "SELECT 1");
    assert_eq!(said.code, 2, "{}", said.err);
    let said = ask(&m, "s.spec.toml s.spec.toml", "SELECT 1");
    assert!(said.code == 2 && said.err.contains("--as"), "{}", said.err);
}

#[test]
fn files_are_held_against_each_other_and_against_a_database() {
    let m = market();
    m.sql("CREATE TABLE sales (id, crop); INSERT INTO sales VALUES (1, 'kale'), (5, 'leek')");
    let sql = "SELECT s.id, s.crop, l.crop FROM sales s JOIN loaded.sales l USING (id) \
        WHERE s.crop <> l.crop";
    assert_eq!(
        rows(&m, "s.spec.toml --with sqlite:m.db", sql),
        json!([[5, "kale", "leek"]])
    );
    let sql = "SELECT a.id, b.id FROM a JOIN b ON a.crop = b.crop AND a.id < b.id ORDER BY 1, 2";
    let words = "s.spec.toml s1.csv s.spec.toml s2.csv --as a --as b";
    assert_eq!(rows(&m, words, sql), json!([[1, 5], [3, 5]]));
    let said = ask(&m, "s.spec.toml --with sqlite:none.db", "SELECT 1");
    assert_eq!(said.code, 1, "{}", said.err);
    assert!(!m.path("none.db").exists());
    let said = ask(&m, "s.spec.toml --with postgres://u:crumbs@h/d", "SELECT 1");
    assert!(
        said.code == 2 && !said.err.contains("crumbs"),
        "{}",
        said.err
    );
}

#[test]
fn a_join_reads_no_file_once_a_row_of_another() {
    let m = Market::with(&[]);
    let spec = |name: &str| {
        format!(
            "[source]\nfiles = [\"{name}.csv\"]\n[columns]\nk = \"integer\"\nv = \"text\"\n[target]\ntable = \"{name}\"\n"
        )
    };
    for name in ["a", "b"] {
        let lines: String = (0..2000)
            .map(|n| format!("{n},{name}{}\n", n % 7))
            .collect();
        m.write(&format!("{name}.csv"), format!("k,v\n{lines}").as_bytes());
        m.write(&format!("{name}.spec.toml"), spec(name).as_bytes());
    }
    let words = "a.spec.toml b.spec.toml --report json";
    for (sql, wanted) in [
        ("SELECT count(*) FROM a JOIN b USING (k)", 2000),
        ("SELECT count(*) FROM a JOIN b ON a.k = b.k + 1", 1999),
        (
            "SELECT count(*) FROM a WHERE k IN (SELECT k FROM b WHERE v = 'b3')",
            286,
        ),
        (
            "SELECT count(*) FROM a LEFT JOIN b ON b.k = a.k AND b.v = 'b0' WHERE b.k IS NULL",
            1714,
        ),
        (
            "SELECT count(*) FROM a WHERE NOT EXISTS (SELECT 1 FROM b WHERE b.k = a.k * 2)",
            1000,
        ),
        (
            "SELECT count(*) FROM a x JOIN a y ON x.v = y.v AND x.k + 7 = y.k",
            1993,
        ),
        (
            "SELECT count(*) FROM a, b WHERE a.k < 20 AND b.k < a.k",
            190,
        ),
    ] {
        let said = ask(&m, words, sql);
        let answer = said.json();
        assert_eq!(answer["rows"], json!([[wanted]]), "{sql}");
        for table in answer["tables"].as_array().expect("tables") {
            assert!(
                table["records"].as_u64() <= Some(2000),
                "{sql}\n{}",
                said.out
            );
        }
    }
}

#[test]
fn record_types_are_tables_of_their_own() {
    let spec = "[source]\nfiles = [\"d.csv\"]\n[records]\nheader = \"none\"\n\
        [rejects]\nmax_rejects = 1\n\
        [[record_type]]\nname = \"day\"\nif = \"field(1) = 'D'\"\n[record_type.columns]\n\
        mark = { type = \"char(1)\", load = false }\nday = \"date\"\n\
        [[record_type]]\nname = \"sale\"\nif = \"field(1) = 'S'\"\n[record_type.columns]\n\
        mark = { type = \"char(1)\", load = false }\ncrop = \"text\"\nprice = \"decimal(6,2)\"\n\
        day = { type = \"date\", value = \"{day.day}\" }\n";
    let file = "D,2031-04-01\nS,kale,1.10\nS,leek,x\nD,2031-04-02\nS,kale,2.20\n";
    let m = Market::with(&[("d.spec.toml", spec.as_bytes()), ("d.csv", file.as_bytes())]);
    let sql = "SELECT day, sum(price) FROM sale GROUP BY day";
    let said = ask(&m, "d.spec.toml --report json", sql);
    assert_eq!(
        said.json()["rows"],
        json!([["2031-04-01", 1.1], ["2031-04-02", 2.2]])
    );
    assert_eq!(
        rows(&m, "d.spec.toml", "SELECT count(*) FROM day"),
        json!([[2]])
    );
    assert_eq!(
        rows(&m, "d.spec.toml", "SELECT count(*) FROM sale"),
        json!([[3]])
    );
}

#[test]
fn more_rejects_than_the_limit_are_an_exit_code() {
    let m = market();
    m.write(
        "n.spec.toml",
        SALES
            .replace("max_rejects = \"100%\"", "max_rejects = 0")
            .as_bytes(),
    );
    let said = ask(&m, "n.spec.toml", "SELECT sum(price) FROM sales");
    assert_eq!(said.code, 3, "{}{}", said.out, said.err);
    assert!(said.err.contains("1 record rejected"), "{}", said.err);
    assert_eq!(
        ask(&m, "n.spec.toml", "SELECT count(crop) FROM sales").code,
        0
    );
    // Quiet about all but that.
    let said = ask(&m, "n.spec.toml -q", "SELECT sum(price) FROM sales");
    assert!(
        said.code == 3 && said.err.contains("1 record rejected"),
        "{}",
        said.err
    );
    assert_eq!(
        ask(&m, "n.spec.toml -q", "SELECT count(crop) FROM sales").err,
        ""
    );
}

#[test]
fn files_without_a_spec_are_the_table_file() {
    let m = market();
    let said = ask(
        &m,
        "s1.csv s2.csv",
        "SELECT count(*) AS n FROM file WHERE crop = 'kale'",
    );
    assert_eq!(said.code, 0, "{}", said.err);
    assert_eq!(said.out.lines().last(), Some("3"), "{}", said.out);
    assert!(said.err.contains("no spec was given"), "{}", said.err);
    let joined = "SELECT count(*) FROM one JOIN sales USING (id)";
    assert_eq!(
        rows(&m, "s1.csv s.spec.toml --as one", joined),
        json!([[3]])
    );
    assert_eq!(ask(&m, "none.csv", "SELECT 1").code, 1);
}

#[test]
fn standard_input_is_read_once() {
    let m = market();
    let ask = |sql: &str| {
        let mut command = m.command("query s.spec.toml - --report json");
        command
            .arg(sql)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let mut child = command.spawn().expect("the program runs");
        let mut input = child.stdin.take().expect("an input");
        input.write_all(FIRST.as_bytes()).expect("it is read");
        drop(input);
        let output = child.wait_with_output().expect("it ends");
        (
            output.status.code(),
            String::from_utf8_lossy(&output.stdout).into_owned(),
        )
    };
    let (code, out) = ask("SELECT count(*) FROM sales");
    assert!(code == Some(0) && out.contains("[3]"), "{out}");
    for twice in [
        "SELECT count(*) FROM sales a JOIN sales b ON a.crop < b.crop",
        "SELECT count(*) FROM sales UNION ALL SELECT count(*) FROM sales",
        "SELECT (SELECT max(id) FROM sales), (SELECT min(id) FROM sales)",
        "SELECT id, (SELECT max(id) FROM sales) FROM sales",
        "WITH c AS (SELECT * FROM sales) SELECT count(*) FROM c UNION ALL SELECT id FROM c",
    ] {
        let (code, out) = ask(twice);
        assert_eq!(code, Some(2), "{twice}: {out}");
        assert!(out.contains("more than once"), "{twice}: {out}");
    }
}

#[test]
fn a_pipe_that_has_a_name_is_read_once() {
    let m = market();
    for (sql, wanted) in [
        ("SELECT count(*) FROM sales", 0),
        ("SELECT count(*) FROM sales a JOIN sales b USING (id)", 2),
        (
            "SELECT count(*) FROM sales UNION ALL SELECT count(*) FROM sales",
            2,
        ),
    ] {
        let pipe = m.path("pipe.csv");
        let _ = std::fs::remove_file(&pipe);
        let made = std::process::Command::new("mkfifo").arg(&pipe).status();
        assert!(made.expect("mkfifo runs").success());
        let writer = std::thread::spawn(move || {
            // Whoever does not read all of it has had enough.
            let _ = std::fs::write(&pipe, FIRST);
        });
        let said = ask(&m, "s.spec.toml pipe.csv --report json", sql);
        assert_eq!(said.code, wanted, "{sql}: {}{}", said.out, said.err);
        // Where nobody read it, its writer still waits for a reader.
        while !writer.is_finished() {
            let _ = std::fs::File::options()
                .read(true)
                .custom_flags(NO_WAIT)
                .open(m.path("pipe.csv"));
        }
    }
}

#[test]
fn a_packed_file_that_is_not_read_to_its_end_is_not_verified() {
    let m = market();
    let lines: String = (0..200_000)
        .map(|n| format!("{n},kale,0.10,2031-04-01\n"))
        .collect();
    let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packer
        .write_all(format!("id,crop,price,sold_on\n{lines}").as_bytes())
        .expect("room");
    m.write("w.csv.gz", &packer.finish().expect("room"));
    let notes =
        |sql: &str| ask(&m, "s.spec.toml w.csv.gz --report json", sql).json()["notes"].to_string();
    assert!(notes("SELECT id FROM sales LIMIT 3").contains("not verified"));
    assert_eq!(notes("SELECT count(*) FROM sales"), "[]");
}

#[test]
fn a_file_that_changes_is_no_answer() {
    let m = market();
    let lines: String = (0..400_000)
        .map(|n| format!("{n},kale,0.10,2031-04-01\n"))
        .collect();
    m.write(
        "s1.csv",
        format!("id,crop,price,sold_on\n{lines}").as_bytes(),
    );
    std::fs::remove_file(m.path("s2.csv")).expect("it was there");
    let mut command = m.command("query s.spec.toml -o -");
    command
        .arg("SELECT * FROM sales")
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    let mut child = command.spawn().expect("the program runs");
    let mut out = child.stdout.take().expect("an output");
    // It waits for its rows to be taken, with most of the file unread.
    let mut some = [0; 10_000];
    out.read_exact(&mut some).expect("rows come");
    let mut file = std::fs::OpenOptions::new()
        .append(true)
        .open(m.path("s1.csv"))
        .expect("a file");
    file.write_all(b"1,kale,0.10,2031-04-01\n").expect("room");
    drop(file);
    let mut rest = Vec::new();
    out.read_to_end(&mut rest).expect("the rest comes");
    let output = child.wait_with_output().expect("it ends");
    let words = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(1), "{words}");
    assert!(
        words.contains("s1.csv: it changed while it was read"),
        "{words}"
    );
}

#[test]
fn a_reader_that_goes_away_ends_it() {
    let m = market();
    let lines: String = (0..300_000)
        .map(|n| format!("{n},kale,0.10,2031-04-01\n"))
        .collect();
    m.write(
        "s1.csv",
        format!("id,crop,price,sold_on\n{lines}").as_bytes(),
    );
    for words in ["-o -", "--limit 1000000", "--report json"] {
        let mut command = m.command(&format!("query s.spec.toml -q {words}"));
        command
            .arg("SELECT id, crop FROM sales")
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let mut child = command.spawn().expect("the program runs");
        let mut out = child.stdout.take().expect("an output");
        let mut some = [0; 100];
        out.read_exact(&mut some).expect("rows come");
        drop(out);
        let output = child.wait_with_output().expect("it ends");
        assert_eq!(output.status.code(), Some(0), "{words}");
        assert_eq!(String::from_utf8_lossy(&output.stderr), "", "{words}");
    }
}

#[test]
fn the_rows_are_shown_up_to_a_limit_and_it_is_said() {
    let m = market();
    let lines: String = (0..300)
        .map(|n| format!("{n},kale,0.10,2031-04-01\n"))
        .collect();
    m.write(
        "s1.csv",
        format!("id,crop,price,sold_on\n{lines}").as_bytes(),
    );
    let sql = "SELECT id FROM sales";
    let said = ask(&m, "s.spec.toml", sql);
    // A name, a rule and 100 rows.
    assert_eq!(said.out.lines().count(), 102, "{}", said.out);
    assert!(
        said.err.contains("the first 100 rows are shown"),
        "{}",
        said.err
    );
    let said = ask(&m, "s.spec.toml --limit 1000", sql);
    assert_eq!(said.out.lines().count(), 304, "{}", said.out);
    assert!(!said.err.contains("are shown"), "{}", said.err);
    let answer = ask(&m, "s.spec.toml --limit 7 --report json", sql).json();
    assert_eq!(answer["rows"].as_array().map(Vec::len), Some(7));
    assert_eq!(
        (&answer["more"], &answer["row_count"]),
        (&json!(true), &json!(7))
    );
}

#[test]
fn an_extract_is_written_in_any_format() {
    let m = market();
    let sql = "SELECT crop, sum(price) AS total FROM sales GROUP BY 1 ORDER BY 1";
    let said = ask(&m, "s.spec.toml -o out.csv", sql);
    assert_eq!(said.code, 0, "{}", said.err);
    assert_eq!(
        m.read("out.csv"),
        b"crop,total\r\nbean,7\r\nkale,0.8\r\nleek,0.2\r\n"
    );
    let said = ask(&m, "s.spec.toml -o out.csv", sql);
    assert_eq!(said.code, 2, "it is there: {}", said.err);
    let format =
        "[records]\nlayout = \"json\"\n[columns]\ncrop = \"text\"\ntotal = \"decimal(8,2)\"\n";
    m.write("j.spec.toml", format.as_bytes());
    let said = ask(&m, "s.spec.toml --to j.spec.toml -o -", sql);
    assert_eq!(said.code, 0, "{}", said.err);
    let lines: Vec<Value> = said
        .out
        .lines()
        .map(|line| serde_json::from_str(line).expect(line))
        .collect();
    assert_eq!(lines[0], json!({"crop": "bean", "total": 7.00}));
    let said = ask(&m, "s.spec.toml -o parts.csv.gz --split-rows 2", sql);
    assert_eq!(said.code, 0, "{}", said.err);
    assert!(m.path("parts-1.csv.gz").exists() && m.path("parts-2.csv.gz").exists());
    // A failure leaves no file.
    m.write("s3.csv", b"other\n1\n");
    let said = ask(&m, "s.spec.toml -o broken.csv", "SELECT * FROM sales");
    assert_eq!(said.code, 2, "{}", said.err);
    assert!(!m.path("broken.csv").exists());
}

#[test]
fn long_decimals_add_up_to_the_digit_or_are_an_error() {
    let spec = "[source]\nfiles = [\"n.csv\"]\n[columns]\nn = \"decimal(30,2)\"\n[target]\ntable = \"n\"\n";
    let file = "n\n9.00\n10.00\n-12345678901234567890.11\n12345678901234567890.12\n12345678901234567890.13\n";
    let text = format!("{spec}when_inexact = \"text\"\n");
    let m = Market::with(&[
        ("n.spec.toml", spec.as_bytes()),
        ("text.spec.toml", text.as_bytes()),
        ("n.csv", file.as_bytes()),
    ]);
    // No number of SQLite's holds them: an error with its line, or text.
    for sql in [
        "SELECT sum(n) FROM n",
        "SELECT n FROM n WHERE n > 9 ORDER BY n",
    ] {
        let said = ask(&m, "n.spec.toml", sql);
        assert_eq!(said.code, 2, "{}{}", said.out, said.err);
        assert!(said.err.contains("n.csv, line 4"), "{}", said.err);
        assert!(said.err.contains("when_inexact = \"text\""), "{}", said.err);
    }
    let said = ask(&m, "text.spec.toml --report json", "SELECT sum(n) FROM n");
    assert!(said.out.contains("12345678901234567909.14"), "{}", said.out);
    assert!(said.out.contains("more than 15 digits"), "{}", said.out);
    // As JSON it is a number to the digit.
    let sql = "SELECT n FROM n WHERE n = '12345678901234567890.12'";
    let said = ask(&m, "text.spec.toml --report json", sql);
    assert!(
        said.out.contains("[12345678901234567890.12]"),
        "{}",
        said.out
    );
    // Rows that hold what a number gives back are read as numbers.
    let few = "SELECT n FROM n WHERE _line < 4 AND n > 9 ORDER BY n";
    m.write("n.csv", b"n\n9.00\n10.00\n100.50\n");
    assert_eq!(rows(&m, "n.spec.toml", few), json!([[10]]));
}

#[test]
fn no_option_is_passed_over() {
    let m = market();
    for words in [
        "--limit 1 -o out.csv",
        "--split-rows 1",
        "--list parts",
        "--split-by crop",
    ] {
        let said = ask(
            &m,
            &format!("s.spec.toml {words}"),
            "SELECT id, crop FROM sales",
        );
        assert_eq!(said.code, 2, "{words}\n{}{}", said.out, said.err);
    }
    let said = ask(
        &m,
        "s.spec.toml --as Rejects",
        "SELECT count(*) FROM rejects",
    );
    assert!(
        said.err.contains("so the rejects are no table"),
        "{}",
        said.err
    );
    assert_eq!(
        said.out.lines().last().map(str::trim),
        Some("5"),
        "{}",
        said.out
    );
}
