//! Where loads, the ledger and the table meet: what is in the table is what the ledger says,
//! whatever runs at the same time.

use std::process::{Child, Stdio};

use serde_json::Value;

use crate::databases::{Database, Kind, on_every_database};
use crate::market::Said;

on_every_database! {
    replaces_at_once_leave_one_of_them_whole,
    truncates_at_once_leave_one_of_them_whole,
    first_loads_at_once_all_stay,
    a_refused_first_piece_keeps_the_ledger_true,
    an_empty_delivery_empties_nothing,
    a_committed_part_that_changed_is_not_gone_on_with,
    a_load_that_was_rolled_back_is_mended,
    an_original_that_changed_is_not_mended,
    files_left_out_whole_are_to_be_loaded_again,
    open_rejects_of_a_loaded_file_are_told,
    a_table_among_several_is_found_in_the_ledger,
    names_that_differ_in_case_are_told_apart,
    children_before_their_parents_load_alike,
    a_change_of_capitals_is_a_change,
    the_same_standard_input_twice_is_told_as_it_is,
}

fn spec(target: &str, rejects: &str) -> String {
    format!(
        "[source]\nfiles = [\"*.csv\"]\n[columns]\nid = \"bigint\"\nnote = \"varchar(20)\"\n\
         [target]\ntable = \"d\"\n{target}\n[rejects]\n{rejects}\n"
    )
}

fn database(kind: Kind, spec: &str, files: &[(&str, &str)]) -> Database {
    let mut all: Vec<(&str, &[u8])> = vec![("d.spec.toml", spec.as_bytes())];
    all.extend(files.iter().map(|(name, text)| (*name, text.as_bytes())));
    Database::new(kind, &all)
}

fn records(ids: std::ops::Range<u64>) -> String {
    let mut file = String::from("id,note\n");
    ids.for_each(|id| file += &format!("{id},note\n"));
    file
}

fn load(d: &Database, words: &str) -> Value {
    let said = d.run(&format!("load d.spec.toml --report json {words}"));
    assert_eq!(said.code, 0, "{words}: {}{}", said.out, said.err);
    said.json()
}

fn mend(d: &Database, words: &str) -> Said {
    let mut command = d.market.command(&format!("mend {words}"));
    command.env("MYSQL_PWD", "crumbs");
    crate::market::said(command)
}

fn at_once(d: &Database, all: &[&str]) {
    let start = |words: &&str| {
        let mut command = d.command(words);
        command.stdout(Stdio::null()).stderr(Stdio::null());
        command.spawn().unwrap()
    };
    let loads: Vec<Child> = all.iter().map(start).collect();
    for mut load in loads {
        assert!(load.wait().unwrap().success());
    }
}

/// How many rows the ledger says are in the table.
fn kept(d: &Database) -> u64 {
    d.rows("SELECT COALESCE(SUM(loaded), 0) FROM barrow_files WHERE outcome = 'committed'")[0]
        .parse::<f64>()
        .unwrap() as u64
}

fn one_of_them(kind: Kind, mode: &str) {
    let spec = spec(&format!("create = true\nmode = \"{mode}\""), "");
    let files = [
        ("a.csv", records(0..3_000)),
        ("b.csv", records(10_000..14_000)),
    ];
    let files = [
        ("a.csv", files[0].1.as_str()),
        ("b.csv", files[1].1.as_str()),
    ];
    let d = database(kind, &spec, &files);
    load(&d, "a.csv");
    for _ in 0..4 {
        at_once(&d, &["load d.spec.toml a.csv", "load d.spec.toml b.csv"]);
        let found = d.rows("SELECT count(*), min(id) FROM d");
        assert!(found == ["3000|0"] || found == ["4000|10000"], "{found:?}");
        assert_eq!(kept(&d), d.count("SELECT count(*) FROM d"));
    }
    let beside = d.each(
        "SELECT count(*) FROM sqlite_master WHERE name LIKE 'd_barrow%'",
        "SELECT count(*) FROM pg_class WHERE relname LIKE 'd_barrow%'",
        "SELECT count(*) FROM information_schema.tables WHERE table_schema = database() AND table_name LIKE 'd_barrow%'",
    );
    assert_eq!(d.count(beside), 0, "a table beside it is left");
}

fn replaces_at_once_leave_one_of_them_whole(kind: Kind) {
    one_of_them(kind, "replace");
}

fn truncates_at_once_leave_one_of_them_whole(kind: Kind) {
    one_of_them(kind, "truncate");
}

fn first_loads_at_once_all_stay(kind: Kind) {
    for _ in 0..3 {
        let names: Vec<String> = (0..5).map(|n| format!("f{n}.csv")).collect();
        let texts: Vec<String> = (0..5).map(|n| records(n * 100..n * 100 + 100)).collect();
        let files: Vec<(&str, &str)> = names
            .iter()
            .map(String::as_str)
            .zip(texts.iter().map(String::as_str))
            .collect();
        let d = database(kind, &spec("create = true", ""), &files);
        let words: Vec<String> = names
            .iter()
            .map(|n| format!("load d.spec.toml {n}"))
            .collect();
        at_once(&d, &words.iter().map(String::as_str).collect::<Vec<_>>());
        assert_eq!(d.count("SELECT count(*) FROM d"), 500);
        assert_eq!(kept(&d), 500);
        assert_eq!(
            d.count("SELECT count(*) FROM barrow_files WHERE outcome = 'emptied'"),
            0
        );
    }
}

fn a_refused_first_piece_keeps_the_ledger_true(kind: Kind) {
    let spec = spec("mode = \"truncate\"", "max_rejects = 9");
    let d = database(
        kind,
        &spec,
        &[
            ("a.csv", "id,note\n1,a\n2,b\n"),
            ("b.csv", "id,note\n7,x\n7,y\n8,z\n"),
        ],
    );
    d.sql(&["CREATE TABLE d (id BIGINT PRIMARY KEY, note VARCHAR(20))"]);
    load(&d, "a.csv");
    // The table refuses a row of the very first piece.
    assert_eq!(load(&d, "b.csv")["rejected"], 1);
    assert_eq!(kept(&d), 2);
    // So what was emptied counts as new, and can be loaded again.
    assert_eq!(load(&d, "a.csv")["loaded"], 2);
    assert_eq!(load(&d, "a.csv")["loaded"], 2);
    assert_eq!(
        load(&d, "a.csv --mode append")["skipped_files"]
            .as_array()
            .unwrap()
            .len(),
        1
    );
    assert_eq!(d.count("SELECT count(*) FROM d"), 2);
    assert_eq!(kept(&d), 2);
}

fn an_empty_delivery_empties_nothing(kind: Kind) {
    for mode in ["truncate", "replace"] {
        let d = database(
            kind,
            &spec(&format!("create = true\nmode = \"{mode}\""), ""),
            &[("a.csv", "id,note\n1,a\n")],
        );
        load(&d, "");
        for file in ["", "id,note\n"] {
            d.market.write("a.csv", file.as_bytes());
            let said = d.run("load d.spec.toml");
            assert_eq!(said.code, 1, "{}{}", said.out, said.err);
            assert!(said.err.contains("when_empty"), "{}", said.err);
            assert_eq!(d.count("SELECT count(*) FROM d"), 1);
        }
        let skip = spec(&format!("create = true\nmode = \"{mode}\""), "").replacen(
            "[source]",
            "[source]\nwhen_empty = \"skip\"",
            1,
        );
        d.market.write("d.spec.toml", skip.as_bytes());
        let said = d.run("load d.spec.toml");
        assert_eq!(said.code, 2, "{}{}", said.out, said.err);
        assert!(said.err.contains("may_empty = true"), "{}", said.err);
        assert_eq!((d.count("SELECT count(*) FROM d"), kept(&d)), (1, 1));
        let may = skip.replacen("[target]", "[target]\nmay_empty = true", 1);
        d.market.write("d.spec.toml", may.as_bytes());
        load(&d, "");
        assert_eq!((d.count("SELECT count(*) FROM d"), kept(&d)), (0, 0));
    }
}

fn a_committed_part_that_changed_is_not_gone_on_with(kind: Kind) {
    let spec = spec("create = true\ncommit_every = 1000", "");
    let text = records(0..600_000);
    let d = database(kind, &spec, &[("a.csv", &text)]);
    let mut load = d.command("load d.spec.toml --threads 1");
    let mut load = load
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    // Killed once some of it is committed.
    for _ in 0..2_000 {
        std::thread::sleep(std::time::Duration::from_millis(3));
        let said = d.run("ledger --report json");
        // The database may not be there yet.
        let so_far = match said.code {
            0 => said.json()["runs"][0]["counts"]["loaded"].as_u64(),
            _ => None,
        };
        if so_far > Some(0) || load.try_wait().unwrap().is_some() {
            break;
        }
    }
    let _ = load.kill();
    load.wait().unwrap();
    crate::databases::wait_until_free(&d);
    let rows = d.count("SELECT count(*) FROM d");
    assert!(
        rows > 0 && rows < 600_000,
        "{rows}: it was to be killed on its way"
    );
    d.market
        .write("a.csv", text.replacen("\n5,note", "\n5,nota", 1).as_bytes());
    let said = d.run("load d.spec.toml");
    assert_ne!(said.code, 0, "{}", said.out);
    assert!(said.err.contains("has changed"), "{}", said.err);
    assert_eq!(d.count("SELECT count(*) FROM d"), rows);
    // As it was, it goes on.
    d.market.write("a.csv", text.as_bytes());
    let said = d.run("load d.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(
        d.rows("SELECT count(*), count(DISTINCT id) FROM d"),
        ["600000|600000"]
    );
}

/// A load of two files that is rolled back; returns the run.
fn rolled_back(d: &Database) -> String {
    let said = d.run("load d.spec.toml");
    assert_eq!(said.code, 3, "{}{}", said.out, said.err);
    let run = d
        .market
        .rejects()
        .strip_prefix("rejects/")
        .unwrap()
        .to_string();
    assert!(
        said.out.contains(&format!("barrow mend {run}")),
        "{}",
        said.out
    );
    run
}

const TWO: [(&str, &str); 2] = [
    ("a.csv", "id,note\n1,a\nx,b\n3,c\n"),
    ("b.csv", "id,note\n4,d\n"),
];

fn a_load_that_was_rolled_back_is_mended(kind: Kind) {
    let d = database(kind, &spec("create = true", ""), &TWO);
    let run = rolled_back(&d);
    // Nothing is corrected yet: the same limit holds.
    let said = mend(&d, &run);
    assert_ne!(said.code, 0, "{}", said.out);
    let file = format!("rejects/{run}/a.csv");
    let text = String::from_utf8(d.market.read(&file)).unwrap();
    assert_eq!(text, "id,note\nx,b\n");
    d.market.write(&file, b"id,note\n2,b\n");
    let said = mend(&d, &run);
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(d.rows("SELECT id FROM d ORDER BY id"), ["1", "2", "3", "4"]);
    // And then both files are in the table.
    let again = load(&d, "");
    assert_eq!(
        (
            &again["loaded"],
            again["skipped_files"].as_array().unwrap().len()
        ),
        (&0.into(), 2)
    );
}

fn an_original_that_changed_is_not_mended(kind: Kind) {
    let d = database(kind, &spec("create = true", ""), &TWO);
    let run = rolled_back(&d);
    d.market
        .write(&format!("rejects/{run}/a.csv"), b"id,note\n2,b\n");
    d.market.write("b.csv", b"id,note\n5,d\n");
    let said = mend(&d, &run);
    assert_ne!(said.code, 0, "{}", said.out);
    assert!(
        said.err.contains("b.csv") && said.err.contains("changed"),
        "{}",
        said.err
    );
}

fn files_left_out_whole_are_to_be_loaded_again(kind: Kind) {
    let d = database(kind, &spec("create = true", "per = \"file\""), &TWO);
    let said = d.run("load d.spec.toml");
    assert_eq!(said.code, 3, "{}{}", said.out, said.err);
    assert_eq!(d.rows("SELECT id FROM d"), ["4"]);
    let run = d
        .market
        .rejects()
        .strip_prefix("rejects/")
        .unwrap()
        .to_string();
    let said = mend(&d, &run);
    assert_ne!(said.code, 0, "{}", said.out);
    assert!(
        said.err.contains("correct") && said.err.contains("load"),
        "{}",
        said.err
    );
    d.market.write("a.csv", b"id,note\n1,a\n2,b\n3,c\n");
    load(&d, "");
    assert_eq!(d.count("SELECT count(*) FROM d"), 4);
}

fn open_rejects_of_a_loaded_file_are_told(kind: Kind) {
    let d = database(kind, &spec("create = true", "max_rejects = 5"), &TWO[..1]);
    load(&d, "");
    let run = d
        .market
        .rejects()
        .strip_prefix("rejects/")
        .unwrap()
        .to_string();
    let other = spec("create = true", "max_rejects = 5\n# corrected");
    d.market.write("d.spec.toml", other.as_bytes());
    for command in ["load", "check"] {
        let said = d.run(&format!("{command} d.spec.toml"));
        let wanted = format!("1 reject is open, and the spec has changed since: barrow mend {run}");
        assert!(said.out.contains(&wanted), "{command}: {}", said.out);
    }
}

fn a_table_among_several_is_found_in_the_ledger(kind: Kind) {
    let spec = "[source]\nfiles = [\"d.txt\"]\n[records]\nheader = \"none\"\n[target]\ncreate = true\n\
        [[record_type]]\nname = \"t\"\nif = \"field(1) = 'T'\"\ntable = \"tickets\"\n[record_type.columns]\nk = \"text\"\nid = \"integer\"\n\
        [[record_type]]\nname = \"w\"\nif = \"field(1) = 'W'\"\ntable = \"days\"\n[record_type.columns]\nk = \"text\"\nid = \"integer\"\n";
    let d = Database::new(
        kind,
        &[("d.spec.toml", spec.as_bytes()), ("d.txt", b"T,1\nW,2\n")],
    );
    let said = d.run("load d.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    for (table, runs) in [("tickets", 1), ("days", 1), ("ticket", 0), ("day", 0)] {
        let said = d.run(&format!("ledger --table {table} --report json"));
        assert_eq!(
            said.json()["runs"].as_array().map(Vec::len),
            Some(runs),
            "{table}"
        );
    }
}

fn names_that_differ_in_case_are_told_apart(kind: Kind) {
    if kind == Kind::Sqlite {
        // Its names are the same in capitals and small letters.
        return;
    }
    let d = database(kind, &spec("", ""), &[("a.csv", "id,note\n1,a\n")]);
    let (d_small, d_large) = d.each(("", ""), ("d", "\"D\""), ("d", "D"));
    for table in [d_large, d_small] {
        d.sql(&[&format!(
            "CREATE TABLE {table} (id BIGINT, note VARCHAR(20))"
        )]);
    }
    load(&d, "");
    let count = |table: &str| d.count(&format!("SELECT count(*) FROM {table}"));
    assert_eq!((count(d_small), count(d_large)), (1, 0));
    load(&d, "--table D");
    assert_eq!((count(d_small), count(d_large)), (1, 1));
    if kind == Kind::Postgres {
        d.sql(&[
            "DROP TABLE d",
            "CREATE TABLE d (\"Note\" VARCHAR(20), id BIGINT, note VARCHAR(20))",
        ]);
        load(&d, "--again");
        assert_eq!(d.rows("SELECT note, \"Note\" FROM d"), ["a|~"]);
    }
}

fn children_before_their_parents_load_alike(kind: Kind) {
    let spec = "[source]\nfiles = [\"d.csv\"]\n[columns]\nid = \"integer\"\nof = \"integer\"\n[target]\ntable = \"d\"\n\
                [rejects]\nmax_rejects = 100000\n";
    // A row is taken if those before it have its parent, whatever comes after it.
    let mut found = Vec::new();
    for rows in ["1,\n2,1\n3,9\n9,\n4,9\n", "1,\n2,1\n9,\n3,9\n4,9\n"] {
        for many in [0, 5_000] {
            let mut file = String::from("id,of\n");
            file += rows;
            (100..100 + many).for_each(|id| file += &format!("{id},1\n"));
            let d = Database::new(
                kind,
                &[("d.spec.toml", spec.as_bytes()), ("d.csv", file.as_bytes())],
            );
            d.sql(&[d.each(
                "CREATE TABLE d (id INTEGER PRIMARY KEY, of INTEGER REFERENCES d (id))",
                "CREATE TABLE d (id INTEGER PRIMARY KEY, of INTEGER REFERENCES d (id))",
                "CREATE TABLE d (id INTEGER PRIMARY KEY, of INTEGER, FOREIGN KEY (of) REFERENCES d (id)) ENGINE=InnoDB",
            )]);
            let said = d.run("load d.spec.toml --report json");
            assert_eq!(said.code, 0, "{}{}", said.out, said.err);
            found.push(said.json()["rejected"].as_u64().unwrap());
        }
    }
    // SQLite holds to foreign keys only where a session asks for it; ours does not ask.
    let first = if kind == Kind::Sqlite { found[0] } else { 1 };
    assert_eq!(found, [first, first, 0, 0]);
}

fn a_change_of_capitals_is_a_change(kind: Kind) {
    let spec = spec("mode = \"merge\"\nkey = [\"id\"]", "");
    let d = database(kind, &spec, &[("a.csv", "id,note\n1,plum\n2,fig\n")]);
    d.sql(&[d.each(
        "CREATE TABLE d (id BIGINT PRIMARY KEY, note VARCHAR(20) COLLATE NOCASE)",
        "CREATE TABLE d (id BIGINT PRIMARY KEY, note VARCHAR(20))",
        "CREATE TABLE d (id BIGINT PRIMARY KEY, note VARCHAR(20)) COLLATE utf8mb4_general_ci",
    )]);
    load(&d, "");
    d.market.write("a.csv", b"id,note\n1,Plum\n2,fig\n");
    let merged = load(&d, "")["merged"].clone();
    assert_eq!(
        (&merged["changed"], &merged["same"]),
        (&1.into(), &1.into())
    );
    assert_eq!(d.rows("SELECT note FROM d ORDER BY id"), ["Plum", "fig"]);
}

fn the_same_standard_input_twice_is_told_as_it_is(kind: Kind) {
    use std::io::Write;
    let d = database(kind, &spec("create = true", ""), &[]);
    let mut ends = Vec::new();
    for _ in 0..2 {
        let mut command = d.command("load d.spec.toml -");
        command
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let mut child = command.spawn().unwrap();
        child
            .stdin
            .take()
            .unwrap()
            .write_all(b"id,note\n1,a\n")
            .unwrap();
        let output = child.wait_with_output().unwrap();
        let all = [output.stdout, output.stderr].concat();
        ends.push((
            output.status.code(),
            String::from_utf8_lossy(&all).into_owned(),
        ));
    }
    assert_eq!(ends[0].0, Some(0), "{}", ends[0].1);
    assert_ne!(ends[1].0, Some(0), "{}", ends[1].1);
    assert!(!ends[1].1.contains("another load"), "{}", ends[1].1);
    assert!(ends[1].1.contains("--again"), "{}", ends[1].1);
    assert_eq!(d.count("SELECT count(*) FROM d"), 1);
}
