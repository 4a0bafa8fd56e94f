//! What a spec says of values and records, seen from the table.

use rusqlite::types::Value::{self, Blob, Integer, Null, Real, Text};

use crate::market::Market;

fn text(text: &str) -> Value {
    Text(text.into())
}

const ORDERS: &str = r#"[source]
files = ["o.txt"]
[records]
header = "none"
trailer = 1
[delimited]
delimiter = "|"
[[record_type]]
name = "order"
if = "field(1) = 'O'"
table = "orders"
[record_type.columns]
mark = { type = "char(1)", load = false }
order_no = { type = "integer", required = true }
customer = "varchar(20)"
[[record_type]]
name = "line"
if = "field(1) = 'L'"
table = "lines"
[record_type.columns]
mark = { type = "char(1)", load = false }
produce = "varchar(20)"
crates = "integer"
order_no = { type = "integer", value = "{order.order_no}", required = true }
came_from = { type = "text", value = "{file}:{line} of {run}" }
[[control_total]]
in = "trailer"
record_type = "line"
sum = "crates"
field = 2
[target]
database = "sqlite:m.db"
create = true
"#;

const ORDER_FILE: &str = "O|5001|Ivy\nL|kale|4\nL|leeks|2\nO|5002|Bram\nL|dahlias|1\nZ|7\n";

#[test]
fn kinds_of_record_go_to_their_tables_in_one_transaction() {
    let m = Market::with(&[
        ("o.spec.toml", ORDERS.as_bytes()),
        ("o.txt", ORDER_FILE.as_bytes()),
    ]);
    m.sql(
        "CREATE TABLE orders (order_no INTEGER PRIMARY KEY, customer TEXT);
         CREATE TABLE lines (produce TEXT, crates INTEGER,
           order_no INTEGER REFERENCES orders (order_no), came_from TEXT);",
    );
    let said = m.run("load o.spec.toml --report json");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let json = said.json();
    let run = json["run"].as_str().unwrap();
    assert_eq!(json["tables"][1]["table"], "lines");
    assert_eq!(json["tables"][1]["rows_after"], 3);
    let orders = m.cells("SELECT * FROM orders");
    assert_eq!(
        orders,
        [[Integer(5001), text("Ivy")], [Integer(5002), text("Bram")]]
    );
    let lines = m.cells("SELECT produce, order_no, came_from FROM lines");
    let from = |line: u8| text(&format!("o.txt:{line} of {run}"));
    assert_eq!(lines[1], [text("leeks"), Integer(5001), from(3)]);
    assert_eq!(lines[2], [text("dahlias"), Integer(5002), from(5)]);

    // The orders are there already: they are refused, and nothing is kept of it.
    let said = m.run("load o.spec.toml --again --report json");
    assert_eq!(said.code, 3);
    let reasons = &said.json()["reasons"];
    assert_eq!(
        (&reasons[0]["code"], &reasons[0]["count"]),
        (&"duplicate-key".into(), &2.into())
    );
    assert_eq!(m.count("SELECT count(*) FROM lines"), 3);
}

#[test]
fn a_total_that_differs_keeps_nothing_and_shows_both_figures() {
    let file = ORDER_FILE.replace("Z|7", "Z|8");
    let m = Market::with(&[
        ("o.spec.toml", ORDERS.as_bytes()),
        ("o.txt", file.as_bytes()),
    ]);
    let said = m.run("load o.spec.toml --max-rejects 100");
    assert_eq!(said.code, 1);
    assert!(
        said.out
            .contains("crates of record type line: 8 stated (trailer, line 1), 7 found"),
        "{}",
        said.out
    );
    assert!(said.out.contains("rolled back  5"), "{}", said.out);
    assert!(!m.path("m.db").exists());
    let json = m.run("load o.spec.toml --report json").json();
    assert_eq!(json["outcome"], "totals differ");
    let wanted = serde_json::json!({
        "file": "o.txt", "of": "crates of record type line", "place": "trailer, line 1",
        "stated": "8", "found": "7",
    });
    assert_eq!(json["totals_that_differ"][0], wanted);
}

#[test]
fn corrected_rejects_are_not_held_to_the_totals_of_the_whole_file() {
    let spec = "[records]\ntrailer = 1\n[columns]\nid = \"integer\"\n[[control_total]]\nin = \"trailer\"\n\
        matches = \"(?<total>[0-9]+) records\"\n[target]\ndatabase = \"sqlite:m.db\"\ntable = \"t\"\n\
        create = true\n";
    let m = Market::with(&[
        ("t.spec.toml", spec.as_bytes()),
        ("t.csv", b"id\n1\nx\n3\n3 records\n"),
    ]);
    assert_eq!(m.run("load t.spec.toml t.csv --max-rejects 1").code, 0);
    let kept = format!("{}/t.csv", m.rejects());
    m.write(
        &kept,
        &String::from_utf8(m.read(&kept))
            .unwrap()
            .replace('x', "2")
            .into_bytes(),
    );
    let said = m.run(&format!("load t.spec.toml {kept}"));
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert!(said.out.contains("it holds rejects"), "{}", said.out);
    assert_eq!(m.count("SELECT count(*) FROM t"), 3);
}

#[test]
fn two_kinds_may_share_a_table_that_is_made_for_both() {
    let spec = ORDERS
        .replace("table = \"orders\"", "")
        .replace("table = \"lines\"", "")
        .replace("[target]\n", "[target]\ntable = \"all_of_it\"\n");
    let m = Market::with(&[
        ("o.spec.toml", spec.as_bytes()),
        ("o.txt", ORDER_FILE.as_bytes()),
    ]);
    let said = m.run("load o.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let rows =
        m.cells("SELECT order_no, customer, produce FROM all_of_it ORDER BY order_no, produce");
    assert_eq!(rows[0], [Integer(5001), text("Ivy"), Null]);
    assert_eq!(rows[1], [Integer(5001), Null, text("kale")]);
    assert_eq!(rows.len(), 5);
}

#[test]
fn json_uuids_bytes_and_moments_are_kept_in_sqlite() {
    let spec = r#"[delimited]
delimiter = "|"
quote = ""
[columns]
doc = "json"
id = "uuid"
raw = { type = "bytes", stored_as = "base64" }
at = "timestamptz"
[target]
database = "sqlite:m.db"
table = "t"
create = true
"#;
    let file = "doc|id|raw|at\n\
        {\"id\": 7, \"a\": [1.50]}|{00112233-4455-6677-8899-AABBCCDDEEFF}|AAH/|2031-04-03T10:00:00.25+02:00\n\
        |||\n";
    let m = Market::with(&[("t.spec.toml", spec.as_bytes()), ("t.csv", file.as_bytes())]);
    let said = m.run("load t.spec.toml t.csv");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let rows = m.cells("SELECT * FROM t");
    let wanted = [
        text("{\"id\": 7, \"a\": [1.50]}"),
        text("00112233-4455-6677-8899-aabbccddeeff"),
        Blob(vec![0, 1, 255]),
        text("2031-04-03 08:00:00.25"),
    ];
    assert_eq!(rows[0], wanted);
    assert_eq!(rows[1], [Null, Null, Null, Null]);
    // SQLite's own functions read the moment.
    assert_eq!(
        m.count("SELECT unixepoch(at) FROM t LIMIT 1"),
        1_932_969_600
    );
}

#[test]
fn repairs_and_left_out_records_are_in_the_summary() {
    let spec = r#"[records]
keep_if = "state <> 'VOID'"
[values]
decimal_mark = ","
[columns]
id = "integer"
state = { type = "text", load = false }
kg = { type = "decimal(6,2)", when_unreadable = "null", when_too_precise = "round" }
[target]
database = "sqlite:m.db"
table = "t"
create = true
"#;
    let file = "id,state,kg\n1,NEW,\"1,255\"\n2,VOID,x\n3,NEW,x\n4,NEW,?\n";
    let m = Market::with(&[("t.spec.toml", spec.as_bytes()), ("t.csv", file.as_bytes())]);
    let said = m.run("load t.spec.toml t.csv");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    for line in [
        "  records   4",
        "  loaded    3",
        "  filtered  1   by keep_if",
        "  other lines: 1 header",
        "  repaired  3",
        "       1  kg  rounded to 2 decimals   first: line 2",
        "       2  kg  unreadable, made null   first: line 4",
    ] {
        assert!(said.out.contains(line), "{line}\n{}", said.out);
    }
    let rows = m.cells("SELECT * FROM t");
    assert_eq!(
        rows,
        [
            [Integer(1), Real(1.26)],
            [Integer(3), Null],
            [Integer(4), Null]
        ]
    );
}

#[test]
fn the_first_place_of_a_repair_names_its_file() {
    let spec = "[columns]\na = { type = \"integer\", when_unreadable = \"null\" }\n[target]\n\
        database = \"sqlite:m.db\"\ntable = \"t\"\ncreate = true\n";
    let files = [
        ("t.spec.toml", spec.as_bytes()),
        ("a.csv", b"a\n1\n"),
        ("b.csv", b"a\n2\nx\n"),
    ];
    let m = Market::with(&files);
    let said = m.run("load t.spec.toml a.csv b.csv");
    assert!(
        said.out
            .contains("unreadable, made null   first: b.csv line 3"),
        "{}",
        said.out
    );
}

#[test]
fn peek_shows_each_kind_with_its_columns() {
    let m = Market::with(&[
        ("o.spec.toml", ORDERS.as_bytes()),
        ("o.txt", ORDER_FILE.as_bytes()),
    ]);
    let said = m.run("peek o.spec.toml");
    assert_eq!(said.code, 0, "{}", said.err);
    assert!(
        said.out.contains("record type order\n") && said.out.contains("record type line\n"),
        "{}",
        said.out
    );
    let json = m.run("peek o.spec.toml --report json").json();
    assert_eq!(json["record_types"][1]["columns"][2]["name"], "order_no");
    assert_eq!(json["records"][2]["record_type"], "line");
    assert_eq!(json["records"][2]["values"][2], "5001");
    let said = m.run("peek o.spec.toml --at 3 --report json");
    assert!(
        said.out.contains("produce") && !said.out.contains("customer"),
        "{}",
        said.out
    );
}

#[test]
fn what_contradicts_itself_is_told_at_its_place() {
    let cases = [
        (
            "commit_every = 100\n",
            "totals are compared at a file's end",
        ),
        (
            "[columns]\na = \"text\"\n",
            "[columns] is for one record type",
        ),
        (
            "[[check]]\nthat = \"1 = 1\"\n",
            "[[check]] is for one record type",
        ),
    ];
    for (more, says) in cases {
        let m = Market::with(&[("o.spec.toml", format!("{ORDERS}{more}").as_bytes())]);
        let said = m.run("load o.spec.toml");
        assert_eq!(said.code, 2, "{more}");
        assert!(said.err.contains(says), "{more}\n{}", said.err);
    }
    for (from, to, says) in [
        ("field(1) = 'O'", "field(1) = O", "there is no \"O\" here"),
        (
            "{order.order_no}",
            "{order.order}",
            "the record type order has no column order",
        ),
        (
            "name = \"line\"",
            "name = \"order\"",
            "there are two record types order",
        ),
        (
            "sum = \"crates\"",
            "sum = \"crate\"",
            "there is no column crate",
        ),
        (
            "record_type = \"line\"",
            "record_type = \"lines\"",
            "there is no record type lines",
        ),
        ("trailer = 1", "trailer = 0", "the spec says there is none"),
        (
            "header = \"none\"",
            "header = \"names\"",
            "find their columns by place",
        ),
    ] {
        let m = Market::with(&[("o.spec.toml", ORDERS.replace(from, to).as_bytes())]);
        let said = m.run("load o.spec.toml");
        assert_eq!(said.code, 2, "{to}");
        assert!(said.err.contains(says), "{to}\n{}", said.err);
    }
}
