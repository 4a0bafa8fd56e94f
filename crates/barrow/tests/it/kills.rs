//! Loads that are killed (kill -9) at any moment, in every mode: nothing is lost, nothing is
//! there twice, and the ledger says what is in the table.

use std::process::{Child, Stdio};
use std::time::Duration;

use crate::databases::{Database, Kind, on_every_database, wait_until_free};

on_every_database! {
    loads_that_append_are_killed,
    loads_that_append_as_they_go_are_killed,
    loads_that_truncate_are_killed,
    loads_that_truncate_as_they_go_are_killed,
    loads_that_replace_are_killed,
    loads_that_merge_are_killed,
    two_loads_at_once_are_killed,
}

/// So many kills each mode has to stand.
const KILLS: u32 = 20;
/// Records of a file.
const MANY: u64 = 30_000;

/// A load whose first piece has a row that the table refuses: its key comes twice.
fn file(from: u64) -> String {
    let mut text = String::from("id,note\n");
    text += &format!("{from},first\n{from},again\n");
    (from + 1..from + MANY).for_each(|id| text += &format!("{id},note {id}\n"));
    text
}

fn spec(target: &str) -> String {
    format!(
        "[source]\nfiles = [\"a.csv\"]\n[columns]\nid = \"bigint\"\nnote = \"varchar(20)\"\n[target]\ntable = \"d\"\n\
         key = [\"id\"]\n{target}\n[rejects]\nmax_rejects = 5\n"
    )
}

/// A table with the rows of a first file, which a load brought.
fn begun(kind: Kind, target: &str) -> Database {
    let (spec, old, new) = (spec(target), file(0), file(1_000_000));
    let d = Database::new(
        kind,
        &[
            ("d.spec.toml", spec.as_bytes()),
            ("old.csv", old.as_bytes()),
            ("a.csv", new.as_bytes()),
        ],
    );
    d.sql(&["CREATE TABLE d (id BIGINT NOT NULL PRIMARY KEY, note VARCHAR(20))"]);
    let said = d.run("load d.spec.toml old.csv");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    d
}

fn started(d: &Database, words: &str) -> Child {
    let mut command = d.command(words);
    command.stdout(Stdio::null()).stderr(Stdio::null());
    command.spawn().unwrap()
}

/// How many rows the ledger says are in the table, of files that are in it whole or in part.
fn booked(d: &Database) -> u64 {
    d.rows("SELECT COALESCE(SUM(loaded), 0) FROM barrow_files WHERE outcome IN ('committed', 'in progress')")
        [0]
    .parse::<f64>()
    .unwrap() as u64
}

fn rows(d: &Database) -> (u64, u64) {
    (
        d.count("SELECT count(*) FROM d WHERE id < 1000000"),
        d.count("SELECT count(*) FROM d WHERE id >= 1000000"),
    )
}

/// Kills loads until enough were, and looks after each what there is. `may_be` says which
/// numbers of old and of new rows are right while a load is interrupted, and `done` once
/// one has ended.
fn killed(kind: Kind, target: &str, may_be: impl Fn(u64, u64) -> bool, done: (u64, u64)) {
    let mut kills = 0;
    let mut d = begun(kind, target);
    for round in 0..400u64 {
        let mut load = started(&d, "load d.spec.toml");
        std::thread::sleep(Duration::from_millis(4 + (round * 37) % 170));
        let is_done = load
            .try_wait()
            .unwrap()
            .is_some_and(|status| status.success());
        let _ = load.kill();
        load.wait().unwrap();
        wait_until_free(&d);
        let (old, new) = rows(&d);
        assert!(
            may_be(old, new),
            "after kill {kills}: {old} old rows and {new} new ones"
        );
        if !is_done {
            kills += 1;
        }
        if is_done || kills >= KILLS || round % 7 == 6 {
            // A load that is left alone ends well, whatever was before it.
            let said = d.run("load d.spec.toml");
            assert_eq!(said.code, 0, "{}{}", said.out, said.err);
            assert_eq!(rows(&d), done, "after {kills} kills");
            if !target.contains("merge") {
                assert_eq!(booked(&d), done.0 + done.1, "after {kills} kills");
            }
            let beside = d.each(
                "SELECT count(*) FROM sqlite_master WHERE name LIKE 'd_barrow%'",
                "SELECT count(*) FROM pg_class WHERE relname LIKE 'd_barrow%'",
                "SELECT count(*) FROM information_schema.tables WHERE table_schema = database() \
                 AND table_name LIKE 'd_barrow%'",
            );
            assert_eq!(d.count(beside), 0, "a table beside it is left");
            if kills >= KILLS {
                return;
            }
            d = begun(kind, target);
        }
    }
    panic!("too fast to be killed: {kills} kills");
}

fn loads_that_append_are_killed(kind: Kind) {
    let whole = |old, new| old == MANY && (new == 0 || new == MANY);
    killed(kind, "mode = \"append\"", whole, (MANY, MANY));
}

fn loads_that_append_as_they_go_are_killed(kind: Kind) {
    let part = |old, new| old == MANY && new <= MANY;
    killed(
        kind,
        "mode = \"append\"\ncommit_every = 1000",
        part,
        (MANY, MANY),
    );
}

fn loads_that_truncate_are_killed(kind: Kind) {
    let whole = |old, new| (old, new) == (MANY, 0) || (old, new) == (0, MANY);
    killed(kind, "mode = \"truncate\"", whole, (0, MANY));
}

fn loads_that_truncate_as_they_go_are_killed(kind: Kind) {
    let part = |old, new| (old, new) == (MANY, 0) || old == 0 && new <= MANY;
    killed(
        kind,
        "mode = \"truncate\"\ncommit_every = 1000",
        part,
        (0, MANY),
    );
}

fn loads_that_replace_are_killed(kind: Kind) {
    let whole = |old, new| (old, new) == (MANY, 0) || (old, new) == (0, MANY);
    killed(kind, "mode = \"replace\"", whole, (0, MANY));
}

fn loads_that_merge_are_killed(kind: Kind) {
    let whole = |old, new| old == MANY && (new == 0 || new == MANY);
    killed(kind, "mode = \"merge\"", whole, (MANY, MANY));
}

fn two_loads_at_once_are_killed(kind: Kind) {
    let d = begun(kind, "mode = \"append\"");
    d.market.write("b.csv", file(2_000_000).as_bytes());
    let mut kills = 0;
    for round in 0..400u64 {
        let mut loads =
            ["a.csv", "b.csv"].map(|name| started(&d, &format!("load d.spec.toml {name}")));
        std::thread::sleep(Duration::from_millis(4 + (round * 41) % 150));
        for load in &mut loads {
            if load.try_wait().unwrap().is_none() {
                kills += 1;
            }
            let _ = load.kill();
            load.wait().unwrap();
        }
        wait_until_free(&d);
        let (old, new) = rows(&d);
        assert!(
            old == MANY && new % MANY == 0,
            "after {kills} kills: {old}, {new}"
        );
        if kills >= KILLS {
            break;
        }
        if new == 2 * MANY {
            // Both are in: the table and its books are emptied for more.
            d.sql(&[
                "DELETE FROM d WHERE id >= 1000000",
                "DELETE FROM barrow_files WHERE file_name <> 'old.csv'",
            ]);
        }
    }
    assert!(kills >= KILLS, "too fast to be killed: {kills} kills");
    for name in ["a.csv", "b.csv"] {
        let said = d.run(&format!("load d.spec.toml {name}"));
        assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    }
    assert_eq!(rows(&d), (MANY, 2 * MANY));
    assert_eq!(booked(&d), 3 * MANY);
}
