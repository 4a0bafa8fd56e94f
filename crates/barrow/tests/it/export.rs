//! The way out: tables and queries as files, and files in other formats. The same cases on
//! every kind of database.

use std::io::Read;
use std::process::Stdio;

use serde_json::Value;

use crate::databases::{Database, Kind, on_every_database};
use crate::market::{Market, Said};

on_every_database! {
    every_type_goes_out_and_comes_back,
    a_query_that_writes_is_refused,
    many_rows_go_out_in_their_order,
    an_export_in_parts_is_read_back_by_its_list,
    what_does_not_fit_stops_the_export_or_is_left_out,
    an_export_without_a_spec_makes_one,
    an_export_is_in_the_ledger_and_may_be_loaded,
}

const TYPES: &str = r#"[source]
files = ["d.csv"]
[columns]
id     = "bigint"
small  = "smallint"
price  = { type = "decimal(20,4)", decimal_mark = ",", when_inexact = "text" }
ratio  = "double"
fresh  = { type = "boolean", true_values = ["ja"], false_values = ["nein"] }
letter = "char(3)"
name   = "varchar(20)"
note   = "text"
day    = { type = "date", format = "%d/%m/%Y" }
hour   = "time"
at     = "timestamp"
moment = "timestamptz"
doc    = "json"
mark   = "uuid"
raw    = "bytes"
[delimited]
delimiter = ";"
[target]
table = "d"
create = true
"#;

const ROWS: &str = "id;small;price;ratio;fresh;letter;name;note;day;hour;at;moment;doc;mark;raw\n\
9223372036854775807;-32768;-1234567890123456,7891;0.1;ja;ab;Zoë;\"two\nlines; \"\"quoted\"\"\";01/02/0001;23:59:59.5;2031-04-03 08:05:09.25;2031-04-03 08:05:09+00:00;{\"a\": 1};6f9619ff-8b86-d011-b42d-00c04fc964ff;00ff\n\
-1;5;0,0000;-2.5e100;nein;c;;\"\";31/12/9999;00:00:00;1970-01-01 00:00:00;1970-01-01 00:00:00+00:00;[];00000000-0000-0000-0000-000000000000;0x\n\
;;;;;;;;;;;;;;\n";

fn database(kind: Kind, spec: &str, file: &str) -> Database {
    Database::new(
        kind,
        &[("d.spec.toml", spec.as_bytes()), ("d.csv", file.as_bytes())],
    )
}

fn done(said: &Said) -> Value {
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    said.json()
}

fn text(m: &Market, name: &str) -> String {
    String::from_utf8(m.read(name)).unwrap()
}

fn every_type_goes_out_and_comes_back(kind: Kind) {
    let d = database(kind, TYPES, ROWS);
    done(&d.run("load d.spec.toml --report json"));
    let json = done(&d.run("export d.spec.toml -o out.csv --report json"));
    assert_eq!((&json["written"], &json["unfit"]), (&3.into(), &0.into()));
    done(&d.run("load d.spec.toml out.csv --table e --report json"));
    let all = |table: &str| d.rows(&format!("SELECT * FROM {table} ORDER BY id"));
    assert_eq!(all("e"), all("d"));
    assert_eq!(all("d").len(), 3);
    // In the format's own notation, line by line.
    let out = text(&d.market, "out.csv");
    assert!(
        out.starts_with("id;small;price;ratio;fresh;letter"),
        "{out}"
    );
    assert!(out.contains(";-1234567890123456,7891;0.1;ja;ab;Zoë;\"two\nlines; \"\"quoted\"\"\";01/02/0001;23:59:59.5;"), "{out}");
    assert!(out.contains("\n-1;5;0,0000;"), "{out}");
    assert!(out.contains(";nein;c;;\"\";31/12/9999;"), "{out}");
    assert!(out.contains(";;;;;;;;;;;;;;\n"), "{out}");
}

fn a_query_that_writes_is_refused(kind: Kind) {
    let d = database(kind, TYPES, ROWS);
    done(&d.run("load d.spec.toml --report json"));
    let queries = [
        "DELETE FROM d",
        "INSERT INTO d (id) VALUES (5)",
        "UPDATE d SET id = 1",
        "CREATE TABLE f (id INTEGER)",
        "DROP TABLE d",
        d.each(
            "INSERT INTO d (id) VALUES (5) RETURNING id",
            "WITH gone AS (DELETE FROM d RETURNING id) SELECT id FROM gone",
            "INSERT INTO d (id) VALUES (5) RETURNING id",
        ),
        d.each(
            "PRAGMA user_version = 5",
            "SELECT 1 INTO f",
            "SELECT id FROM d INTO OUTFILE '/tmp/barrow-out'",
        ),
    ];
    for query in queries {
        let mut command = d.command("export");
        command.args(["--query", query]);
        let said = crate::market::said(command);
        assert_ne!(said.code, 0, "{query}: {}", said.out);
        assert_eq!(said.out, "", "{query}");
    }
    assert_eq!(d.count("SELECT count(*) FROM d"), 3);
    let said = d.run("export --table nowhere");
    assert_eq!(said.code, 2);
    assert!(said.err.contains("no table nowhere"), "{}", said.err);
}

const SIMPLE: &str = "[source]\nfiles = [\"d.csv\"]\n[columns]\nid = { type = \"bigint\", required = true }\n\
                      note = \"varchar(20)\"\n[target]\ntable = \"d\"\ncreate = true\n";

fn many(count: u64) -> String {
    let mut file = String::from("id,note\n");
    (0..count).for_each(|id| file += &format!("{id},note {}\n", id % 7));
    file
}

fn many_rows_go_out_in_their_order(kind: Kind) {
    let file = many(60_000);
    let d = database(kind, SIMPLE, &file);
    done(&d.run("load d.spec.toml --report json"));
    let mut command = d.command("export d.spec.toml -o out.csv.gz --threads 3");
    command.args(["--order-by", "id"]);
    assert_eq!(crate::market::said(command).code, 0);
    let mut out = String::new();
    let packed = d.market.read("out.csv.gz");
    flate2::read::GzDecoder::new(packed.as_slice())
        .read_to_string(&mut out)
        .unwrap();
    assert_eq!(out, file);
    let mut command = d.command("export d.spec.toml");
    command.args(["--where", "id < 3", "--order-by", "id DESC"]);
    let said = crate::market::said(command);
    assert_eq!(said.out, "id,note\n2,note 2\n1,note 1\n0,note 0\n");
    let mut command = d.command("export");
    command.args([
        "--query",
        "SELECT note, count(*) AS many FROM d GROUP BY note ORDER BY note",
    ]);
    let said = crate::market::said(command);
    assert!(
        said.out
            .starts_with("note,many\r\nnote 0,8572\r\nnote 1,8572\r\n"),
        "{}",
        said.out
    );
}

fn an_export_in_parts_is_read_back_by_its_list(kind: Kind) {
    let d = database(kind, SIMPLE, &many(1_000));
    done(&d.run("load d.spec.toml --report json"));
    for (words, parts) in [
        ("--split-rows 300", 4),
        ("--split-size 5000", 3),
        ("--split-by note", 7),
    ] {
        let words =
            format!("export d.spec.toml -o p.csv {words} --list list --overwrite --report json");
        let json = done(&d.run(&words));
        let files = json["files"].as_array().unwrap();
        assert_eq!(files.len(), parts, "{words}");
        let rows: u64 = files.iter().map(|f| f["rows"].as_u64().unwrap()).sum();
        assert_eq!(rows, 1_000);
        // Each has its own header.
        for line in text(&d.market, "list").lines() {
            assert!(text(&d.market, line).starts_with("id,note\n"), "{line}");
        }
        done(&d.run("load d.spec.toml @list --table e --mode truncate --report json"));
        let all = |table: &str| d.rows(&format!("SELECT * FROM {table} ORDER BY id"));
        assert_eq!(all("e"), all("d"));
    }
    assert!(text(&d.market, "p-note_3-4.csv").lines().count() > 100);
}

fn what_does_not_fit_stops_the_export_or_is_left_out(kind: Kind) {
    let d = database(
        kind,
        SIMPLE,
        "id,note\n1,plums\n2,pears and plums\n3,figs\n",
    );
    done(&d.run("load d.spec.toml --report json"));
    let fixed = "[records]\nlayout = \"fixed\"\n[columns]\nid = { type = \"bigint\", width = 4, pad = \"0\" }\n\
                 note = { type = \"varchar(20)\", width = 6 }\n[target]\ntable = \"d\"\n";
    d.market.write("f.spec.toml", fixed.as_bytes());
    let said = d.run("export f.spec.toml -o out.txt");
    assert_eq!(said.code, 1);
    assert!(
        said.err.contains("row 2, column note: \"pears and plums\""),
        "{}",
        said.err
    );
    let left: Vec<String> = std::fs::read_dir(d.market.path("."))
        .unwrap()
        .map(|e| e.unwrap().file_name().to_string_lossy().into_owned())
        .filter(|name| name.contains("out"))
        .collect();
    assert_eq!(left, [""; 0], "nothing is left");
    let reject = format!("{fixed}[export]\nwhen_unfit = \"reject\"\n");
    d.market.write("f.spec.toml", reject.as_bytes());
    assert_eq!(
        d.run("export f.spec.toml -o out.txt").code,
        3,
        "beyond the limit"
    );
    assert!(!d.market.path("out.txt").exists());
    d.market.write(
        "f.spec.toml",
        format!("{reject}[rejects]\nmax_rejects = 1\n").as_bytes(),
    );
    let json = done(&d.run("export f.spec.toml -o out.txt --report json"));
    assert_eq!(json["unfit_rows"][0]["row"], 2);
    assert_eq!(text(&d.market, "out.txt"), "0001plums \n0003figs  \n");
    // A file that is there is not written over, unless that is said.
    assert_eq!(d.run("export f.spec.toml -o out.txt").code, 2);
    assert_eq!(d.run("export f.spec.toml -o out.txt --overwrite").code, 0);
}

fn an_export_without_a_spec_makes_one(kind: Kind) {
    let d = database(kind, TYPES, ROWS);
    done(&d.run("load d.spec.toml --report json"));
    done(&d.run("export --table d -o plain.csv --spec-out plain.spec.toml --report json"));
    assert!(text(&d.market, "plain.csv").starts_with("id,small,price,"));
    let spec = text(&d.market, "plain.spec.toml");
    assert!(!spec.contains("crumbs"), "no password: {spec}");
    d.sql(&["CREATE TABLE e AS SELECT * FROM d", "DELETE FROM e"]);
    done(&d.run("load plain.spec.toml --table e --report json"));
    let all = |table: &str| d.rows(&format!("SELECT * FROM {table} ORDER BY id"));
    assert_eq!(all("e"), all("d"));
}

fn an_export_is_in_the_ledger_and_may_be_loaded(kind: Kind) {
    let d = database(kind, SIMPLE, &many(10));
    done(&d.run("load d.spec.toml --report json"));
    done(&d.run("export d.spec.toml -o out.csv --report json"));
    let json = done(&d.run("ledger --report json"));
    let run = &json["runs"][0];
    assert_eq!(
        (&run["outcome"], &run["mode"]),
        (&"exported".into(), &"export".into())
    );
    assert_eq!(run["counts"]["loaded"], 10);
    let id = run["run"].as_str().unwrap();
    let whole = done(&d.run(&format!("ledger {id} --report json")));
    let hash = whole["files_of_the_run"][0]["content"].as_str().unwrap();
    assert_eq!(hash, &blake3_of(&d.market.read("out.csv"))[..32]);
    assert_eq!(
        done(&d.run("ledger --failed --report json"))["runs"]
            .as_array()
            .unwrap()
            .len(),
        0
    );
    // It has the content of the file that was loaded: that one is in the table.
    let again = done(&d.run("load d.spec.toml out.csv --report json"));
    assert_eq!(again["skipped_files"].as_array().unwrap().len(), 1);
    d.sql(&["UPDATE d SET note = 'other'"]);
    done(&d.run("export d.spec.toml -o other.csv --report json"));
    assert_eq!(
        done(&d.run("load d.spec.toml other.csv --report json"))["loaded"],
        10
    );
}

fn blake3_of(bytes: &[u8]) -> String {
    blake3::hash(bytes).to_hex().to_string()
}

#[test]
fn parts_of_odd_values_lose_no_row() {
    let m = market();
    m.sql("DELETE FROM d");
    for (id, note) in [
        "NULL", "'1'", "'2'", "'kale'", "'Kale'", "'1'", "'a/b'", "'a_b'",
    ]
    .iter()
    .enumerate()
    {
        m.sql(&format!("INSERT INTO d VALUES ({id}, {note})"));
    }
    let said = m.run(
        "export d.spec.toml -o p.csv --split-by note --order-by note --list list --report json",
    );
    let json = done(&said);
    // Seven values: one of them null, one in two rows.
    assert_eq!(json["files"].as_array().unwrap().len(), 7);
    let mut rows: Vec<String> = text(&m, "list")
        .lines()
        .flat_map(|file| {
            let whole = text(&m, file);
            whole
                .lines()
                .skip(1)
                .map(str::to_string)
                .collect::<Vec<_>>()
        })
        .collect();
    rows.sort();
    assert_eq!(
        rows,
        [
            "0,", "1,1", "2,2", "3,kale", "4,Kale", "5,1", "6,a/b", "7,a_b"
        ]
    );
    // A list that is there is not written over unless that is said.
    let said = m.run("export d.spec.toml -o q.csv --list list");
    assert_eq!(said.code, 2, "{}{}", said.out, said.err);
    assert!(!m.path("q.csv").exists());
}

fn market() -> Market {
    let m = Market::with(&[
        (
            "d.spec.toml",
            format!("{SIMPLE}database = \"sqlite:m.db\"\n").as_bytes(),
        ),
        ("d.csv", many(200_000).as_bytes()),
    ]);
    assert_eq!(m.run("load d.spec.toml").code, 0);
    m
}

#[test]
fn a_full_disk_and_a_reader_that_goes_away() {
    let m = market();
    let said = m.run("export d.spec.toml -o /dev/full");
    assert_eq!(said.code, 1);
    assert!(
        said.err.contains("/dev/full") && said.err.contains("nothing is left"),
        "{}",
        said.err
    );
    // Whoever reads has had enough: that is no failure, and nothing is said.
    let mut child = m
        .command("export d.spec.toml -q")
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut first = [0; 16];
    child.stdout.take().unwrap().read_exact(&mut first).unwrap();
    assert_eq!(&first, b"id,note\n0,note 0");
    let ended = child.wait_with_output().unwrap();
    assert!(ended.status.success());
    assert_eq!(String::from_utf8_lossy(&ended.stderr), "");
}

#[test]
fn a_file_is_written_anew_in_another_format() {
    let from = "[source]\nfiles = [\"d.psv\"]\nencoding = \"windows-1252\"\n[records]\npreamble = 1\n\
                [delimited]\ndelimiter = \"|\"\n[columns]\nid = \"integer\"\ngrower = { type = \"varchar(20)\", from = \"Grower\" }\n\
                kg = { type = \"varchar(10)\" }\n";
    let to = "[records]\nlayout = \"fixed\"\ntrailer = 1\n[export]\ntrailer = [\"{rows} {sum:kg}\"]\n[columns]\n\
              grower = { type = \"text\", width = 8 }\nkg = { type = \"decimal(6,2)\", width = 7 }\nid = { type = \"integer\", width = 4 }\n";
    let m = Market::with(&[
        ("from.spec.toml", from.as_bytes()),
        ("to.spec.toml", to.as_bytes()),
        (
            "d.psv",
            b"Titles\nid|Grower|kg\n1|Zo\xEB|12.5\nx|Ada|1\n2|Ada|-0.25\n",
        ),
    ]);
    let said = m.run("convert from.spec.toml --to to.spec.toml -o out.txt");
    assert_eq!(said.code, 3, "one reject is too many: {}", said.out);
    // What was read is written or it is not, and the sum is told.
    for line in ["  read      2", "  written   0", "  rolled back  2"] {
        assert!(said.out.contains(line), "{line}: {}", said.out);
    }
    assert!(!m.path("out.txt").exists());
    let said = m.run("convert from.spec.toml --to to.spec.toml -o out.txt --max-rejects 1");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert!(said.out.contains("first: line 4"), "{}", said.out);
    // The same for a program, and beside rows that go to standard output.
    let words =
        "convert from.spec.toml --to to.spec.toml -o again.txt --max-rejects 1 --report json";
    let json = done(&m.run(words));
    assert_eq!(json["reading"]["rejected"], 1);
    let said = m.run("convert from.spec.toml --to to.spec.toml -o - --max-rejects 1");
    assert_eq!(said.out, text(&m, "again.txt"));
    assert!(said.err.contains("first: line 4"), "{}", said.err);
    assert_eq!(
        text(&m, "out.txt"),
        "Zoë       12.50   1\nAda       -0.25   2\n2 12.25\n"
    );
    // What is no number in the other format is told by its row.
    m.write("d.psv", b"Titles\nid|Grower|kg\n1|Ada|many\n");
    let said = m.run("convert from.spec.toml --to to.spec.toml -o other.txt");
    assert_eq!(said.code, 1);
    assert!(
        said.err.contains("row 1, column kg: \"many\""),
        "{}",
        said.err
    );
    // A column that the one lacks is told before.
    m.write("to.spec.toml", to.replace("id = ", "number = ").as_bytes());
    let said = m.run("convert from.spec.toml --to to.spec.toml -o other.txt");
    assert_eq!(said.code, 2);
    assert!(said.err.contains("has no column number"), "{}", said.err);
}

#[test]
fn files_of_the_demo_come_out_as_they_went_in() {
    let m = Market::with(&[]);
    assert_eq!(m.run("demo tour").code, 0);
    let run = |words: &str| {
        let mut command = m.command(words);
        command.current_dir(m.path("tour"));
        crate::market::said(command)
    };
    // The file's own header and line ends, which this spec leaves to the reader.
    let growers = text(&m, "tour/growers.spec.toml")
        .replace("[delimited]", "[records]\nending = \"crlf\"\n\n[delimited]")
        .replace("required = true }", "required = true, from = \"Name\" }");
    m.write("tour/growers.spec.toml", growers.as_bytes());
    assert_eq!(run("load growers.spec.toml").code, 0);
    for (spec, file) in [("stalls", "stalls.csv"), ("growers", "growers.csv")] {
        let said = run(&format!("export {spec}.spec.toml -o out-{file}"));
        assert_eq!(said.code, 0, "{}", said.err);
        let (out, own) = (
            m.read(&format!("tour/out-{file}")),
            m.read(&format!("tour/{file}")),
        );
        assert_eq!(out, own, "{file}");
    }
    let mut command = m.command("export deliveries.spec.toml -o again.psv --where");
    command.arg("source_file = 'deliveries-w14.psv'");
    command.current_dir(m.path("tour"));
    assert_eq!(crate::market::said(command).code, 0);
    assert_eq!(m.read("tour/again.psv"), m.read("tour/deliveries-w14.psv"));
}

#[test]
fn an_error_is_a_document_and_leaves_the_rows_alone() {
    let spec = "[source]\nfiles = [\"d.csv\"]\n[columns]\na = \"integer\"\n\
        [target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\n";
    let m = Market::with(&[("d.spec.toml", spec.as_bytes()), ("d.csv", b"a\n1\n")]);
    // A file that is there would be written over: nothing goes to the file, and the
    // document is where the report would be.
    m.write("out.csv", b"old");
    let said = m.run("export d.spec.toml -o out.csv --report json");
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    let json = said.json();
    assert_eq!(
        (&json["format"], &json["kind"]),
        (&1.into(), &"error".into())
    );
    assert!(
        said.err.contains(json["error"]["says"].as_str().unwrap()),
        "{}",
        said.err
    );
    // Rows go to standard output: the document does not.
    let said = m.run("export d.spec.toml --report json");
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    assert_eq!(said.out, "");
    let alone: serde_json::Value = serde_json::from_str(&said.err).expect("nothing but it");
    assert_eq!(alone["kind"], "error");
}

#[test]
fn decimals_are_converted_with_all_their_digits() {
    let m = Market::with(&[(
        "d.csv",
        b"short,long\n1.50,12345678901234567890.2500000000\n-0.05,-0.0000000001\n,\n7.25,1\n",
    )]);
    let columns = "short = \"decimal(8,2)\"\nlong = \"decimal(38,10)\"\n";
    m.write(
        "from.spec.toml",
        format!("[source]\nfiles = [\"d.csv\"]\n[columns]\n{columns}").as_bytes(),
    );
    for (types, expected) in [
        (
            ["text", "text"],
            "short,long\n1.50,12345678901234567890.2500000000\n-0.05,-0.0000000001\n,\n7.25,1.0000000000\n",
        ),
        (
            ["decimal(10,4)", "decimal(38,12)"],
            "short,long\n1.5000,12345678901234567890.250000000000\n-0.0500,-0.000000000100\n,\n7.2500,1.000000000000\n",
        ),
        (
            ["double", "text"],
            "short,long\n1.5,12345678901234567890.2500000000\n-0.05,-0.0000000001\n,\n7.25,1.0000000000\n",
        ),
    ] {
        let [short, long] = types;
        m.write(
            "to.spec.toml",
            format!("[columns]\nshort = \"{short}\"\nlong = \"{long}\"\n").as_bytes(),
        );
        let said = m.run("convert from.spec.toml --to to.spec.toml -o - -q");
        assert_eq!(
            (said.code, said.out.as_str()),
            (0, expected),
            "{types:?} {}",
            said.err
        );
    }
    // A digit that the other format has no room for is a fault, and not dropped.
    m.write(
        "to.spec.toml",
        b"[columns]\nshort = \"decimal(8,1)\"\nlong = \"text\"\n",
    );
    let said = m.run("convert from.spec.toml --to to.spec.toml -o x.csv");
    assert_eq!(said.code, 1);
    assert!(said.err.contains("-0.05"), "{}", said.err);
}

#[test]
fn what_is_asked_of_a_loaded_table_compares_numbers_and_moments() {
    let spec = "[source]\nfiles = [\"d.csv\"]\n[columns]\nid = \"bigint\"\namt = \"decimal(18,2)\"\n\
                at = \"timestamptz\"\n[target]\ntable = \"d\"\ncreate = true\n";
    let file = "id,amt,at\n1,5.00,2031-01-01T12:00:00Z\n2,-3.00,2031-01-01T12:00:00.5Z\n3,1000.00,2030-01-01T00:00:00Z\n";
    let d = database(Kind::Sqlite, spec, file);
    done(&d.run("load d.spec.toml --report json"));
    let ids = |words: &[&str]| {
        let mut command = d.command("export d.spec.toml -o -");
        command.args(words);
        let said = crate::market::said(command);
        assert_eq!(said.code, 0, "{words:?}: {}", said.err);
        let ids: Vec<String> = said
            .out
            .lines()
            .skip(1)
            .map(|line| line[..1].to_string())
            .collect();
        ids.join(" ")
    };
    assert_eq!(ids(&["--where", "amt > 6"]), "3");
    assert_eq!(ids(&["--where", "amt = 5"]), "1");
    assert_eq!(ids(&["--order-by", "amt"]), "2 1 3");
    assert_eq!(ids(&["--order-by", "at"]), "3 1 2");
    assert_eq!(ids(&["--where", "at > '2031-01-01 13:00:00+01:00'"]), "2");
    let mut command = d.command("export d.spec.toml -o -");
    command.args(["--where", "max(at, '2031-01-01 12:00:00Z') = at"]);
    let said = crate::market::said(command);
    assert!(
        said.code == 2 && said.err.contains("has a zone"),
        "{}",
        said.err
    );
}

#[test]
fn decimals_that_are_text_are_not_compared_as_text() {
    let spec = "[source]\nfiles = [\"n.csv\"]\n[columns]\nid = \"integer\"\namt = { type = \"decimal(30,2)\", when_inexact = \"text\" }\n[target]\ntable = \"n\"\ncreate = true\ndatabase = \"sqlite:m.db\"\n";
    let m = Market::with(&[
        ("n.spec.toml", spec.as_bytes()),
        (
            "n.csv",
            b"id,amt\n1,9.00\n2,10.00\n3,12345678901234567890.12\n",
        ),
    ]);
    let said = m.run("load n.spec.toml");
    assert!(
        said.code == 0 && said.err.is_empty(),
        "{}{}",
        said.out,
        said.err
    );
    let export = |words: &[&str]| {
        let mut command = m.command("export n.spec.toml -o -");
        command.args(words);
        crate::market::said(command)
    };
    for words in [["--where", "amt > 6"], ["--order-by", "amt DESC"]] {
        let said = export(&words);
        assert_eq!(said.code, 2, "{words:?}: {}{}", said.out, said.err);
        assert!(said.err.contains("CAST(amt AS REAL)"), "{}", said.err);
    }
    let said = export(&["--where", "CAST(amt AS REAL) > 9", "--order-by", "id DESC"]);
    assert_eq!(said.code, 0, "{}", said.err);
    assert_eq!(said.out, "id,amt\n3,12345678901234567890.12\n2,10.00\n");
    // The spec does not ask for text any more: the table has it all the same.
    m.write(
        "n.spec.toml",
        spec.replace(", when_inexact = \"text\"", "").as_bytes(),
    );
    m.write("n.csv", b"id,amt\n4,9.00\n");
    let said = m.run("load n.spec.toml --again");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert!(said.err.contains("decimals as text"), "{}", said.err);
}
