//! The way back: a run's rows are taken out again, and the ledger says so. The same cases on
//! every kind of database.

use fastrand::Rng;

use crate::databases::{Database, Kind, on_every_database};

on_every_database! {
    a_run_is_undone_and_its_files_count_as_new,
    what_cannot_be_undone_is_refused_with_what_can_be_done,
    the_rows_of_a_changed_file_are_replaced,
    loads_and_undos_at_random_come_to_one_load,
    a_merge_does_not_compare_the_runs_column,
    the_runs_column_is_the_loads_own,
}

const SPEC: &str = "[source]\nfiles = [\"d*.csv\"]\n[columns]\nid = \"integer\"\n\
    crop = \"varchar(20)\"\n[target]\ntable = \"d\"\ncreate = true\nrun_column = \"loaded_by\"\n\
    [rejects]\nmax_rejects = 5\n";

fn market(kind: Kind, spec: &str) -> Database {
    let files: [(&str, &[u8]); 3] = [
        ("d.spec.toml", spec.as_bytes()),
        ("d1.csv", b"id,crop\n1,kale\n2,leek\nx,bad\n"),
        ("d2.csv", b"id,crop\n3,bean\n"),
    ];
    Database::new(kind, &files)
}

/// The run of a load, which is done.
fn load(d: &Database, words: &str) -> String {
    let said = d.run(&format!("load d.spec.toml {words} --report json"));
    assert_eq!(said.code, 0, "{words}\n{}{}", said.out, said.err);
    said.json()["run"].as_str().unwrap_or_default().to_string()
}

fn a_run_is_undone_and_its_files_count_as_new(kind: Kind) {
    let d = market(kind, SPEC);
    let first = load(&d, "d1.csv");
    let second = load(&d, "d2.csv");
    let by = "SELECT id, loaded_by FROM d ORDER BY id";
    assert_eq!(
        d.rows(by),
        [
            format!("1|{first}"),
            format!("2|{first}"),
            format!("3|{second}")
        ]
    );
    // A look first: nothing changes.
    let said = d.run(&format!("undo {} --check", &first[..6]));
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert!(
        said.out.contains("d: 2 rows would be deleted"),
        "{}",
        said.out
    );
    assert_eq!(d.count("SELECT count(*) FROM d"), 3);
    let again = d.run("load d.spec.toml");
    assert!(again.out.contains("already loaded"), "{}", again.out);
    let undone = d.run(&format!("undo {first} --report json"));
    assert_eq!(undone.code, 0, "{}{}", undone.out, undone.err);
    let undone = undone.json();
    assert_eq!(undone["tables"][0]["rows_deleted"], 2, "{undone}");
    assert_eq!(
        (&undone["files_new_again"], &undone["open_rejects"]),
        (&1.into(), &1.into())
    );
    assert_eq!(d.rows(by), [format!("3|{second}")]);
    // It is told, cannot be undone twice, and its rejects are closed.
    let ledger = d.run(&format!("ledger {first}"));
    assert!(ledger.out.contains("undone"), "{}", ledger.out);
    let twice = d.run(&format!("undo {first}"));
    assert!(
        twice.code == 2 && twice.err.contains("it is undone"),
        "{}",
        twice.err
    );
    assert_ne!(d.run(&format!("mend {first}")).code, 0);
    let third = load(&d, "");
    assert_eq!(
        d.rows(by),
        [
            format!("1|{third}"),
            format!("2|{third}"),
            format!("3|{second}")
        ]
    );
    // What mended it goes with it.
    let rejects = format!("rejects/{third}/d1.csv");
    d.market.write(&rejects, b"id,crop\n9,good\n");
    let mend = d.run(&format!("mend {third} --report json"));
    assert_eq!(mend.code, 0, "{}{}", mend.out, mend.err);
    let mend = mend.json()["run"].as_str().unwrap_or_default().to_string();
    let alone = d.run(&format!("undo {mend}"));
    assert!(
        alone.code == 2 && alone.err.contains(&format!("barrow undo {third}")),
        "{}",
        alone.err
    );
    let undone = d.run(&format!("undo {third}"));
    assert!(
        undone.code == 0 && undone.out.contains(&mend),
        "{}{}",
        undone.out,
        undone.err
    );
    assert_eq!(d.rows(by), [format!("3|{second}")]);
}

fn what_cannot_be_undone_is_refused_with_what_can_be_done(kind: Kind) {
    let d = market(kind, &SPEC.replace("run_column = \"loaded_by\"\n", ""));
    let run = load(&d, "");
    let said = d.run(&format!("undo {run}"));
    assert!(
        said.code == 2 && said.err.contains("run_column"),
        "{}",
        said.err
    );
    assert_eq!(d.count("SELECT count(*) FROM d"), 3);
    let said = d.run(&format!("undo {run} --forget"));
    assert!(
        said.code == 0 && said.out.contains("no row was deleted"),
        "{}{}",
        said.out,
        said.err
    );
    assert_eq!(d.count("SELECT count(*) FROM d"), 3);
    load(&d, "");
    assert_eq!(
        d.count("SELECT count(*) FROM d"),
        6,
        "its files count as new"
    );
    let said = d.run("undo nothing");
    assert!(
        said.code == 2 && said.err.contains("there is no run"),
        "{}",
        said.err
    );
    // Merged rows cannot be told from those of before.
    let merge = SPEC.replace(
        "create = true",
        "create = true\nmode = \"merge\"\nkey = [\"id\"]",
    );
    let d = market(kind, &merge);
    let run = load(&d, "");
    let said = d.run(&format!("undo {run}"));
    assert!(
        said.code == 2 && said.err.contains("merged"),
        "{}",
        said.err
    );
    // A row that another table refers to keeps all of them.
    let d = market(
        kind,
        &SPEC.replace("create = true", "create = true\nkey = [\"id\"]"),
    );
    let run = load(&d, "");
    d.sql(&[
        "CREATE TABLE part (id INTEGER, FOREIGN KEY (id) REFERENCES d (id))",
        "INSERT INTO part VALUES (2)",
    ]);
    let said = d.run(&format!("undo {run}"));
    assert!(
        said.code == 1 && said.err.contains("nothing was undone"),
        "{}",
        said.err
    );
    assert_eq!(d.count("SELECT count(*) FROM d"), 3);
    assert!(d.run("load d.spec.toml").out.contains("already loaded"));
}

fn the_rows_of_a_changed_file_are_replaced(kind: Kind) {
    let spec = SPEC.replace("[source]\n", "[source]\nwhen_changed = \"replace\"\n");
    let d = market(kind, &spec);
    let first = load(&d, "d1.csv");
    let second = load(&d, "d2.csv");
    d.market.write("d1.csv", b"id,crop\n1,kale\n7,new\n");
    let said = d.run("load d.spec.toml --report json");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let json = said.json();
    let third = json["run"].as_str().unwrap_or_default().to_string();
    let by = "SELECT id, loaded_by FROM d ORDER BY id";
    assert_eq!(
        d.rows(by),
        [
            format!("1|{third}"),
            format!("3|{second}"),
            format!("7|{third}")
        ]
    );
    assert_eq!(json["tables"][0]["rows_after"], 3, "{json}");
    assert!(d.run(&format!("ledger {first}")).out.contains("undone"));
    // A load that is rolled back leaves the rows of before.
    d.market
        .write("d1.csv", b"id,crop\nx,1\nx,2\nx,3\nx,4\nx,5\nx,6\n8,n\n");
    let said = d.run("load d.spec.toml");
    assert_eq!(said.code, 3, "{}{}", said.out, said.err);
    assert_eq!(
        d.rows(by),
        [
            format!("1|{third}"),
            format!("3|{second}"),
            format!("7|{third}")
        ]
    );
    // Of a run of two files one alone has no rows of its own.
    let d = market(kind, &spec);
    load(&d, "");
    d.market.write("d2.csv", b"id,crop\n4,other\n");
    for command in ["load", "check"] {
        let said = d.run(&format!("{command} d.spec.toml"));
        assert!(
            said.code == 2 && said.err.contains("barrow undo"),
            "{command}\n{}{}",
            said.out,
            said.err
        );
    }
    assert_eq!(d.count("SELECT count(*) FROM d"), 3);
}

/// Loads, undos and kills in any order: in the end the table is as one load leaves it.
fn loads_and_undos_at_random_come_to_one_load(kind: Kind) {
    let d = market(kind, SPEC);
    let mut text = String::from("id,crop\n");
    (0..40_000).for_each(|n| text += &format!("{n},kale\n"));
    d.market.write("d1.csv", text.as_bytes());
    let mut rng = Rng::with_seed(kind as u64);
    for _ in 0..50 {
        let runs = d.run("ledger --report json");
        let runs = if runs.code == 0 {
            runs.json()["runs"].clone()
        } else {
            serde_json::Value::Null
        };
        let committed = runs
            .as_array()
            .into_iter()
            .flatten()
            .find(|run| run["outcome"] == "committed")
            .and_then(|run| run["run"].as_str().map(str::to_string));
        let words = match committed {
            Some(run) if rng.u8(..3) > 0 => format!("undo {run}"),
            _ => "load d.spec.toml".to_string(),
        };
        let mut command = d.command(&words);
        command
            .stdout(std::process::Stdio::null())
            .stderr(std::process::Stdio::null());
        let mut child = command.spawn().expect("the program runs");
        if rng.bool() {
            std::thread::sleep(std::time::Duration::from_millis(rng.u64(1..60)));
            let _ = child.kill();
        }
        child.wait().expect("it ends");
    }
    let said = d.run("load d.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(d.count("SELECT count(*) FROM d"), 40_001);
    assert_eq!(d.count("SELECT count(DISTINCT id) FROM d"), 40_000);
    assert!(d.run("load d.spec.toml").out.contains("already loaded"));
}

fn a_merge_does_not_compare_the_runs_column(kind: Kind) {
    let merge = SPEC.replace(
        "create = true",
        "create = true\nmode = \"merge\"\nkey = [\"id\"]",
    );
    let d = market(kind, &merge);
    let first = load(&d, "");
    d.market.write("d2.csv", b"id,crop\n3,peas\n");
    let said = d.run("load d.spec.toml --again --report json");
    let json = said.json();
    let merged = &json["merged"];
    assert_eq!(
        (&merged["new"], &merged["changed"], &merged["same"]),
        (&0.into(), &1.into(), &2.into()),
        "{json}"
    );
    let second = json["run"].as_str().unwrap_or_default();
    assert_eq!(
        d.rows("SELECT id, loaded_by FROM d ORDER BY id"),
        [
            format!("1|{first}"),
            format!("2|{first}"),
            format!("3|{second}")
        ]
    );
}

fn the_runs_column_is_the_loads_own(kind: Kind) {
    let d = market(kind, SPEC);
    d.sql(&["CREATE TABLE d (id INTEGER, crop VARCHAR(20), loaded_by VARCHAR(40))"]);
    // The columns are left to the table, which has that one too.
    let columns = SPEC.find("[columns]").unwrap_or(0)..SPEC.find("[target]").unwrap_or(0);
    let mut bare = SPEC.to_string();
    bare.replace_range(columns, "");
    let bare = bare.replace("[target]", &format!("[target]\ndatabase = \"{}\"", d.url()));
    d.market.write("d.spec.toml", bare.as_bytes());
    let run = load(&d, "d2.csv");
    assert_eq!(d.rows("SELECT id, loaded_by FROM d"), [format!("3|{run}")]);
    d.market
        .write("d.spec.toml", SPEC.replace("loaded_by", "Crop").as_bytes());
    let said = d.run("load d.spec.toml");
    assert!(
        said.code == 2 && said.err.contains("a column of the file"),
        "{}",
        said.err
    );
}
