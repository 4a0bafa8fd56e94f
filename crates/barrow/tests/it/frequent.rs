//! Tables that refuse many rows: which ones stay out is the same as if each had been
//! tried in its turn, however the rows are sent.

use std::collections::HashSet;

use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;

use crate::databases::{Database, Kind, on_every_database};

on_every_database! {
    any_refusals_are_those_of_one_row_after_the_other,
    many_refusals_are_found_in_many_batches,
    the_first_of_two_rows_goes_in_though_the_second_was_sent_before_it,
}

const SPEC: &str = "[source]\nfiles = [\"d.csv\"]\n[columns]\nid = \"bigint\"\nstall = \"integer\"\n\
    code = \"varchar(20)\"\nkg = \"integer\"\n[target]\ntable = \"d\"\n[rejects]\nmax_rejects = \"100%\"\n";

/// A table with a key, another one that may be null, a foreign key and a check. Stalls 1
/// to 5 are there, and rows with ids below 0.
fn table(d: &Database) {
    d.sql(&[
        "CREATE TABLE stalls (stall INTEGER PRIMARY KEY)",
        "INSERT INTO stalls VALUES (1), (2), (3), (4), (5)",
        "CREATE TABLE d (id BIGINT PRIMARY KEY, stall INTEGER, code VARCHAR(20) UNIQUE, \
         kg INTEGER CHECK (kg >= 0), FOREIGN KEY (stall) REFERENCES stalls (stall))",
        "INSERT INTO d VALUES (-1, 1, 'x1', 0), (-2, 1, 'x2', 0), (-3, 1, NULL, 0)",
    ]);
}

/// A row of the file: its id, and its stall, code and weight, which may be empty.
type Row = (i64, Option<u8>, Option<String>, Option<i8>);

fn line((id, stall, code, kg): &Row) -> String {
    let text = |value: Option<String>| value.unwrap_or_default();
    let stall = text(stall.map(|stall| stall.to_string()));
    let kg = text(kg.map(|kg| kg.to_string()));
    format!("{id},{stall},{},{kg}\n", text(code.clone()))
}

/// The places of the rows that stay out, counted from 1, where each is tried in its turn.
fn one_after_the_other(rows: &[Row]) -> Vec<u64> {
    let mut ids = HashSet::from([-1, -2, -3]);
    let mut codes = HashSet::from(["x1".to_string(), "x2".to_string()]);
    let mut refused = Vec::new();
    for (place, (id, stall, code, kg)) in rows.iter().enumerate() {
        let is_known = ids.contains(id) || code.as_ref().is_some_and(|code| codes.contains(code));
        let is_stray = stall.is_some_and(|stall| !(1..=5).contains(&stall));
        if is_known || is_stray || kg.is_some_and(|kg| kg < 0) {
            refused.push(place as u64 + 1);
        } else {
            ids.insert(*id);
            codes.extend(code.clone());
        }
    }
    refused
}

/// Loads rows, and holds what became of them against the order.
fn holds(kind: Kind, rows: &[Row]) {
    let file: String = rows.iter().map(line).collect();
    let file = format!("id,stall,code,kg\n{file}");
    let files = [("d.spec.toml", SPEC.as_bytes()), ("d.csv", file.as_bytes())];
    let d = Database::new(kind, &files);
    table(&d);
    let said = d.run("load d.spec.toml --report json");
    let wanted = one_after_the_other(rows);
    assert_eq!(said.json()["rejected"], wanted.len(), "{}", said.err);
    if !wanted.is_empty() {
        let found: Vec<u64> = d.reasons().into_iter().map(|(record, _)| record).collect();
        assert_eq!(found, wanted);
    }
    let out: HashSet<u64> = wanted.into_iter().collect();
    let places = rows.iter().zip(1..);
    let mut inside: Vec<(i64, String)> = places
        .filter(|(_, place)| !out.contains(place))
        .map(|(row, _)| (row.0, line(row)))
        .collect();
    inside.sort();
    let found = d.rows("SELECT id, stall, code, kg FROM d WHERE id >= 0 ORDER BY id");
    let found: Vec<String> = found
        .iter()
        .map(|row| row.replace('~', "").replace('|', ",") + "\n")
        .collect();
    let inside: Vec<String> = inside.into_iter().map(|(_, line)| line).collect();
    assert_eq!(found, inside);
}

/// Rows of which some have a key that is there, or comes twice, a stall that is not, or a
/// weight that is not allowed: one in so many of each.
fn rows(
    count: i64,
    keys: u32,
    codes: u32,
    stalls: u32,
    weights: u32,
) -> impl Strategy<Value = Vec<Row>> {
    let some = |one_in: u32| prop::bool::weighted(1.0 / f64::from(one_in.max(1))).boxed();
    let odd = move |one_in: u32| {
        if one_in == 0 {
            Just(false).boxed()
        } else {
            some(one_in)
        }
    };
    let chances = (
        odd(keys),
        odd(codes),
        odd(stalls),
        odd(weights),
        any::<u16>(),
    );
    let row = move |(id, (key, code, stall, weight, by)): (i64, (bool, bool, bool, bool, u16))| {
        let by = i64::from(by);
        (
            if key { by % (id + 4) - 3 } else { id },
            Some(if stall { 9 } else { (by % 5 + 1) as u8 }).filter(|_| by % 7 > 0),
            match code {
                true => Some(format!("x{}", by % (id + 2))),
                false => Some(format!("x{}", id + 5)).filter(|_| by % 3 > 0),
            },
            Some(if weight { -1 } else { (by % 100) as i8 }).filter(|_| by % 11 > 0),
        )
    };
    prop::collection::vec(chances, count as usize)
        .prop_map(move |each| (0..).zip(each).map(row).collect())
}

/// One by a strategy, the same in every run.
fn one<S: Strategy>(strategy: S) -> S::Value {
    let mut runner = TestRunner::deterministic();
    strategy.new_tree(&mut runner).expect("a value").current()
}

fn any_refusals_are_those_of_one_row_after_the_other(kind: Kind) {
    // Of one sort, of all, few and many: keys that come again although the row before
    // them was refused for another reason are among them.
    holds(kind, &one(rows(3_000, 20, 0, 0, 0)));
    holds(kind, &one(rows(3_000, 0, 30, 0, 0)));
    holds(kind, &one(rows(3_000, 0, 0, 25, 0)));
    holds(kind, &one(rows(3_000, 40, 50, 0, 0)));
    holds(kind, &one(rows(2_000, 10, 12, 14, 16)));
    holds(kind, &one(rows(400, 2, 2, 2, 2)));
}

fn many_refusals_are_found_in_many_batches(kind: Kind) {
    holds(kind, &one(rows(150_000, 900, 0, 1_100, 0)));
}

/// A row whose key came before, with a row that stayed out, shares its code with a later
/// one of which nothing is suspected: were that one sent first and kept, the wrong one of
/// the two would stay out.
fn the_first_of_two_rows_goes_in_though_the_second_was_sent_before_it(kind: Kind) {
    let row = |id: i64| {
        let key = if id % 50 == 20 { 1 } else { id };
        let stall = if id % 50 == 10 { 9 } else { 1 };
        (key, Some(stall), None, Some(1))
    };
    let mut rows: Vec<Row> = (0..2_000).map(row).collect();
    rows.push((3_000, Some(9), None, Some(1)));
    rows.push((3_000, Some(1), Some("x9".into()), Some(1)));
    rows.extend((2_000..2_100).map(row));
    rows.push((4_000, Some(1), Some("x9".into()), Some(1)));
    assert!(one_after_the_other(&rows).contains(&(rows.len() as u64)));
    holds(kind, &rows);
}

/// How many statements put rows into the table: those that failed count, too, since a
/// sequence does not go back.
fn counted(columns: &str, tables: &[&str], lines: impl Iterator<Item = String>) -> (u64, u64) {
    let names: Vec<&str> = columns
        .lines()
        .filter_map(|c| c.split(' ').next())
        .collect();
    let spec = format!(
        "[source]\nfiles = [\"d.csv\"]\n[columns]\n{columns}\n[target]\ntable = \"d\"\n\
         [rejects]\nmax_rejects = \"10%\"\n"
    );
    let file = format!("{}\n{}", names.join(","), lines.collect::<String>());
    let files = [("d.spec.toml", spec.as_bytes()), ("d.csv", file.as_bytes())];
    let d = Database::new(Kind::Postgres, &files);
    d.sql(tables);
    d.sql(&[
        "CREATE SEQUENCE statements",
        "CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS \
         $$ BEGIN PERFORM nextval('statements'); RETURN NULL; END $$",
        "CREATE TRIGGER t BEFORE INSERT ON d FOR EACH STATEMENT EXECUTE FUNCTION f()",
    ]);
    let said = d.run("load d.spec.toml --report json");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let rejected = said.json()["rejected"].as_u64().expect("a number");
    (rejected, d.count("SELECT last_value FROM statements"))
}

/// With a refusal in 200 rows, PostgreSQL is sent each refused row by itself and all
/// others at once. By pieces it takes at least three statements for each: the one that
/// fails, the rows before, and the rest.
#[test]
fn postgres_is_asked_for_keys_of_every_sort() {
    let id = "id = \"bigint\"\nnote = \"varchar(40)\"";
    let lines = |key: fn(u64) -> String| {
        let one = move |n: u64| {
            format!(
                "{},a\n",
                if n.is_multiple_of(200) {
                    key(n / 400 + 1)
                } else {
                    key(n)
                }
            )
        };
        (1..=20_000u64).map(one)
    };
    let partitions = [
        "CREATE TABLE d (id bigint PRIMARY KEY, note text) PARTITION BY RANGE (id)",
        "CREATE TABLE d1 PARTITION OF d FOR VALUES FROM (0) TO (20)",
        "CREATE TABLE d2 PARTITION OF d FOR VALUES FROM (20) TO (40)",
        "CREATE TABLE d3 PARTITION OF d FOR VALUES FROM (40) TO (MAXVALUE)",
    ];
    let number: fn(u64) -> String = |n| n.to_string();
    let stalls =
        (1..=20_000u64).map(|n| format!("{n},{}\n", if n.is_multiple_of(200) { 7 } else { 1 }));
    let two = "CREATE TABLE d (id bigint, note text, PRIMARY KEY (note, id))";
    let text = "CREATE DOMAIN \"a key\" AS varchar(20); CREATE TABLE d (id \"a key\" COLLATE \"C\" UNIQUE, note text)";
    let foreign = [
        "CREATE SCHEMA \"the yard\"",
        "CREATE TABLE \"the yard\".stalls (\"no.\" bigint PRIMARY KEY)",
        "INSERT INTO \"the yard\".stalls VALUES (1)",
        "CREATE TABLE d (id bigint, stall integer REFERENCES \"the yard\".stalls)",
    ];
    let cases = [
        counted(
            id,
            &["CREATE TABLE d (id bigint PRIMARY KEY, note text)"],
            lines(number),
        ),
        counted(
            id,
            &[
                "CREATE TABLE d (id bigint, note text)",
                "CREATE UNIQUE INDEX ON d (id DESC)",
            ],
            lines(number),
        ),
        counted(id, &[two], lines(number)),
        counted(
            "id = \"varchar(20)\"\nnote = \"text\"",
            &[text],
            lines(|n| format!("n{n}")),
        ),
        counted(id, &partitions, lines(number)),
        counted("id = \"bigint\"\nstall = \"integer\"", &foreign, stalls),
    ];
    for (number, (rejected, statements)) in cases.into_iter().enumerate() {
        assert_eq!(rejected, 100, "case {number}");
        assert!(statements < 250, "case {number}: {statements} statements");
    }
}

/// What the server cannot be asked for is found by pieces: keys of expressions, those of
/// some rows only, columns that the spec lacks, and tables that may not be read.
#[test]
fn postgres_is_not_asked_for_what_it_cannot_say() {
    let id = "id = \"bigint\"\nnote = \"varchar(40)\"";
    let lines = || (1..=4_000u64).map(|n| format!("{},a{n}\n", if n % 100 == 0 { 1 } else { n }));
    let cases: [&[&str]; 3] = [
        &[
            "CREATE TABLE d (id bigint, note text)",
            "CREATE UNIQUE INDEX ON d ((id + 1))",
        ],
        &[
            "CREATE TABLE d (id bigint, note text)",
            "CREATE UNIQUE INDEX ON d (id) WHERE id < 9",
        ],
        &[
            "CREATE TABLE d (id bigint, note text, more text NOT NULL DEFAULT 'x', UNIQUE (id, more))",
        ],
    ];
    for (number, tables) in cases.into_iter().enumerate() {
        let (rejected, _) = counted(id, tables, lines());
        assert_eq!(rejected, 40, "case {number}");
    }
}

#[test]
fn a_user_who_may_not_read_what_a_foreign_key_names_loads_all_the_same() {
    let spec = SPEC.replace("table = \"d\"", "table = \"d\"\nledger = false");
    let stall = |id: i64| if id % 50 == 10 { 9 } else { 1 };
    let lines: String = (0..2_000)
        .map(|id| format!("{id},{},,\n", stall(id)))
        .collect();
    let file = format!("id,stall,code,kg\n{lines}");
    let files = [("d.spec.toml", spec.as_bytes()), ("d.csv", file.as_bytes())];
    let d = Database::new(Kind::Postgres, &files);
    table(&d);
    let user = format!("clerk_{}", d.count("SELECT pg_backend_pid()"));
    d.sql(&[
        &format!("CREATE ROLE {user} LOGIN"),
        &format!("GRANT SELECT, INSERT ON d TO {user}"),
    ]);
    let mut command = d
        .market
        .command("load d.spec.toml --report json --database");
    command.arg(d.url().replace("barrow@", &format!("{user}@")));
    let said = crate::market::said(command);
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(said.json()["rejected"], 40);
    assert_eq!(d.count("SELECT count(*) FROM d WHERE id >= 0"), 1_960);
    d.sql(&[
        &format!("DROP OWNED BY {user}"),
        &format!("DROP ROLE {user}"),
    ]);
}

/// Codes that are the same for the table and have other bytes: which of two rows comes
/// first counts for them, too.
#[test]
fn keys_that_only_the_server_knows_to_be_the_same_keep_their_order() {
    let row = |id: i64| match id % 50 {
        10 => format!("{id},9,,\n"),
        20 => "1,1,,\n".into(),
        30 => format!("{id},1,plum,\n"),
        _ => format!("{id},1,,\n"),
    };
    let odd = ["3000,9,,\n", "3000,1,Quince,\n"].map(str::to_string);
    let lines = (1..2_000).map(row).chain(odd);
    let lines = lines.chain((2_001..2_100).map(row));
    let lines: String = lines.chain(["4000,1,quince,\n".to_string()]).collect();
    let file = format!("id,stall,code,kg\n{lines}");
    let files = [("d.spec.toml", SPEC.as_bytes()), ("d.csv", file.as_bytes())];
    let d = Database::new(Kind::Postgres, &files);
    d.sql(&[
        "CREATE COLLATION \"any case\" (provider = icu, locale = 'und-u-ks-level2', deterministic = false)",
        "CREATE TABLE stalls (stall INTEGER PRIMARY KEY)",
        "INSERT INTO stalls VALUES (1)",
        "CREATE TABLE d (id BIGINT PRIMARY KEY, stall INTEGER REFERENCES stalls, \
         code VARCHAR(20) COLLATE \"any case\" UNIQUE, kg INTEGER)",
    ]);
    let said = d.run("load d.spec.toml --report json");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let codes = d.rows("SELECT id, code FROM d WHERE code IS NOT NULL ORDER BY id");
    assert_eq!(codes, ["30|plum", "3000|Quince"]);
    // Of 2,098 records 42 have no stall, 42 an id that was there and 41 a code.
    assert_eq!(said.json()["rejected"], 1 + 42 + 42 + 41 + 1);
}
