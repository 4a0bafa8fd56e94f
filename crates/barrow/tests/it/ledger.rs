//! Once and only once: what the ledger knows, runs that go on, loads side by side, and
//! rejects that are mended. The same cases on every kind of database.

use std::process::{Child, Stdio};
use std::time::Duration;

use serde_json::Value;

use crate::databases::{Database, Kind, on_every_database, wait_until_free};
use crate::market::{Said, said};

on_every_database! {
    a_file_is_loaded_once_whatever_its_name,
    another_content_of_the_same_name_is_loaded_with_a_notice,
    a_table_that_is_emptied_takes_its_files_again,
    runs_that_failed_are_noted,
    a_run_that_is_killed_again_and_again_loads_every_record_once,
    a_packed_run_goes_on_with_its_rejects,
    two_loads_of_one_file_at_once_load_it_once,
    loads_share_a_list_of_files,
    rejects_are_mended_in_two_steps,
    rejects_that_are_deleted_are_given_up,
    a_mend_that_is_killed_loads_nothing_twice,
    rejects_are_rows_of_a_table,
    a_file_beyond_its_tolerance_is_left_out_whole,
    files_are_moved_or_deleted_once_they_are_in,
}

fn spec(target: &str, more: &str) -> String {
    format!(
        "[source]\nfiles = [\"*.csv\"]\n{more}\n[columns]\n\
         id = {{ type = \"bigint\", required = true }}\nnote = \"varchar(20)\"\n\
         [target]\ntable = \"d\"\ncreate = true\n{target}\n"
    )
}

fn database(kind: Kind, spec: &str, files: &[(&str, &str)]) -> Database {
    let mut all: Vec<(&str, &[u8])> = vec![("d.spec.toml", spec.as_bytes())];
    all.extend(files.iter().map(|(name, text)| (*name, text.as_bytes())));
    Database::new(kind, &all)
}

fn done(said: &Said) -> Value {
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    said.json()
}

fn load(d: &Database, words: &str) -> Value {
    done(&d.run(&format!("load d.spec.toml --report json {words}")))
}

fn runs(d: &Database, words: &str) -> Vec<Value> {
    let json = done(&d.run(&format!("ledger --report json {words}")));
    json["runs"].as_array().unwrap().clone()
}

fn run_of(d: &Database, run: &str) -> Value {
    done(&d.run(&format!("ledger {run} --report json")))
}

fn ids(d: &Database) -> Vec<String> {
    d.rows("SELECT id FROM d ORDER BY id")
}

/// `barrow mend`, with nothing but the run: the note beside the rejects says the rest, but
/// for the password.
fn mend_command(d: &Database, words: &str) -> std::process::Command {
    let mut command = d.market.command(&format!("mend {words}"));
    command.env("MYSQL_PWD", "crumbs");
    command
}

fn mend(d: &Database, words: &str) -> Said {
    said(mend_command(d, words))
}

/// Records with these numbers.
fn records(ids: std::ops::Range<u64>) -> String {
    let mut file = String::from("id,note\n");
    ids.for_each(|id| file += &format!("{id},note {id}\n"));
    file
}

fn a_file_is_loaded_once_whatever_its_name(kind: Kind) {
    let d = database(kind, &spec("", ""), &[("a.csv", "id,note\n1,a\n")]);
    let first = load(&d, "");
    d.market.write("b.csv", b"id,note\n1,a\n");
    d.market.write("c.csv", b"id,note\n2,c\n");
    d.market.write("e.csv", b"id,note\n2,c\n");
    let second = load(&d, "");
    assert_eq!(second["loaded"], 1);
    let skipped = second["skipped_files"].as_array().unwrap();
    let run = first["run"].as_str().unwrap();
    assert_eq!(
        (&skipped[0]["file"], &skipped[0]["run"]),
        (&"a.csv".into(), &run.into())
    );
    assert_eq!(
        (&skipped[1]["file"], &skipped[1]["run"]),
        (&"b.csv".into(), &run.into())
    );
    assert_eq!(
        (&skipped[2]["file"], &skipped[2]["same_as"]),
        (&"e.csv".into(), &"c.csv".into())
    );
    assert_eq!(ids(&d), ["1", "2"]);
    // Nothing is new.
    let said = d.run("load d.spec.toml");
    assert_eq!(said.code, 0);
    assert!(said.out.contains("nothing is new"), "{}", said.out);
    assert_eq!(load(&d, "a.csv --again")["loaded"], 1);
    assert_eq!(ids(&d), ["1", "1", "2"]);
    // Into another table it is another matter.
    assert_eq!(load(&d, "a.csv --table other")["loaded"], 1);
    let listed = runs(&d, "");
    assert_eq!(listed.len(), 4);
    assert_eq!(listed[0]["table"], "other", "the newest is first");
    assert_eq!(runs(&d, "--table d").len(), 3);
    assert_eq!(runs(&d, "--limit 2").len(), 2);
    let has_more =
        |words: &str| done(&d.run(&format!("ledger --report json {words}")))["has_more"].clone();
    assert_eq!(
        (has_more("--limit 3"), has_more("--limit 4")),
        (true.into(), false.into())
    );
    assert_eq!(runs(&d, "--since 2999-01-01").len(), 0);
    assert_eq!(runs(&d, "--failed").len(), 0);
    let whole = run_of(&d, &run[..6]);
    let file = &whole["files_of_the_run"][0];
    assert_eq!(file["bytes"], 12);
    assert_eq!(file["counts"]["loaded"], 1);
    assert_eq!(whole["counts"]["records"], 1);
    assert_eq!(whole["counts"]["other_lines"], 1);
    assert_eq!(d.run("ledger nosuch").code, 2);
    // People may ask it with SQL.
    let sql = "SELECT r.loaded, f.file_name FROM barrow_runs r JOIN barrow_files f ON f.run = r.run \
               WHERE r.table_name = 'other' AND r.started_at > '2020-01-01 00:00:00'";
    assert_eq!(d.rows(sql), ["1|a.csv"]);
}

fn another_content_of_the_same_name_is_loaded_with_a_notice(kind: Kind) {
    let d = database(kind, &spec("", ""), &[("a.csv", "id,note\n1,a\n")]);
    load(&d, "");
    d.market.write("a.csv", b"id,note\n2,a\n");
    // The rows of before would stay beside those of now: that is for the spec to say.
    let said = d.run("load d.spec.toml");
    assert_eq!(said.code, 2, "{}", said.out);
    for words in [
        "1 row of its earlier content",
        "when_changed = \"load\"",
        "truncate",
        "merge",
    ] {
        assert!(said.err.contains(words), "{words}: {}", said.err);
    }
    assert_eq!(ids(&d), ["1"]);
    let more = "when_changed = \"load\"";
    d.market.write("d.spec.toml", spec("", more).as_bytes());
    let json = load(&d, "");
    let note = json["files"][0]["notes"][0].as_str().unwrap();
    assert!(
        note.contains("another content of this name was loaded"),
        "{note}"
    );
    assert_eq!(ids(&d), ["1", "2"]);
    // Without a ledger nobody knows, and that is said.
    let without = spec("ledger = false", "");
    d.market.write("d.spec.toml", without.as_bytes());
    let said = d.run("load d.spec.toml");
    assert!(said.out.contains("without a ledger"), "{}", said.out);
    assert_eq!(ids(&d), ["1", "2", "2"]);
}

fn a_table_that_is_emptied_takes_its_files_again(kind: Kind) {
    let d = database(
        kind,
        &spec("", "when_changed = \"load\""),
        &[("a.csv", "id,note\n1,a\n")],
    );
    load(&d, "");
    d.market.write("a.csv", b"id,note\n2,b\n");
    load(&d, "--mode truncate");
    d.market.write("a.csv", b"id,note\n1,a\n");
    assert_eq!(load(&d, "")["loaded"], 1);
    assert_eq!(ids(&d), ["1", "2"]);
    // A table that is emptied anew with each load is loaded each time.
    assert_eq!(load(&d, "--mode truncate")["loaded"], 1);
    assert_eq!(load(&d, "--mode truncate")["loaded"], 1);
    assert_eq!(ids(&d), ["1"]);
    // So is one that was dropped.
    d.sql(&["DROP TABLE d"]);
    assert_eq!(load(&d, "")["loaded"], 1);
    assert_eq!(ids(&d), ["1"]);
}

fn runs_that_failed_are_noted(kind: Kind) {
    let d = database(kind, &spec("", ""), &[("a.csv", "id,note\n1,a\n")]);
    load(&d, "");
    d.market.write("b.csv", b"id,note\n2,b\nx,c\n");
    assert_eq!(d.run("load d.spec.toml").code, 3);
    assert_eq!(ids(&d), ["1"]);
    let failed = runs(&d, "--failed");
    assert_eq!(failed.len(), 1);
    let run = &failed[0];
    assert_eq!(run["outcome"], "rolled back");
    let counts = &run["counts"];
    assert_eq!(
        (
            &counts["loaded"],
            &counts["rolled_back"],
            &counts["rejected"]
        ),
        (&0.into(), &1.into(), &1.into())
    );
    assert_eq!(run["reasons"][0]["code"], "not-a-number");
    // It is not in the table, so it is loaded once it is corrected, or allowed.
    assert_eq!(load(&d, "--max-rejects 1")["loaded"], 1);
    assert_eq!(ids(&d), ["1", "2"]);
}

fn quietly(mut command: std::process::Command) -> Child {
    command
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap()
}

/// Starts a command, and kills it after so many milliseconds, unless it is done before.
fn killed(d: &Database, words: &str, after: u64) -> bool {
    let mut child = quietly(d.command(words));
    std::thread::sleep(Duration::from_millis(after));
    let done = child
        .try_wait()
        .unwrap()
        .is_some_and(|status| status.success());
    let _ = child.kill();
    child.wait().unwrap();
    wait_until_free(d);
    done
}

fn a_run_that_is_killed_again_and_again_loads_every_record_once(kind: Kind) {
    let (mut kills, mut most) = (0, 0);
    for seed in 0.. {
        let here = interrupted_until_done(kind, seed * 7 + u64::from(std::process::id()));
        kills += here;
        most = most.max(here);
        if kills >= 30 {
            break;
        }
        assert!(seed < 20, "too fast to be killed: {kills} kills");
    }
    assert!(most > 2, "one run is to be killed several times: {most}");
}

/// Runs a load until it is done, each time killed at another moment, and looks at all that
/// it leaves. Returns how often it was killed.
fn interrupted_until_done(kind: Kind, seed: u64) -> u64 {
    const RECORDS: u64 = 300_000;
    let target = "commit_every = 2000\n[rejects]\nmax_rejects = \"10%\"";
    // A reject in every 5,000 records.
    let mut file = String::from("id,note\n");
    for id in 0..RECORDS {
        file += &match id % 5_000 {
            4_321 => format!("x{id},bad\n"),
            _ => format!("{id},note {id}\n"),
        };
    }
    let (one, two) = file.split_at(file.find("\n150000,").unwrap() + 1);
    let two = format!("id,note\n{two}");
    let d = database(kind, &spec(target, ""), &[("a.csv", one), ("b.csv", &two)]);
    let mut kills = 0;
    for round in 0..100u64 {
        // Moments that differ from run to run.
        let after = 8 + (round * 31 + seed * 17) % 60;
        if killed(&d, "load d.spec.toml", after) {
            break;
        }
        kills += 1;
    }
    let last = load(&d, "");
    assert!(last["run"] == "" || last["loaded"].as_u64() > Some(0));
    let wanted: Vec<String> = {
        let mut ids: Vec<String> = (0..RECORDS)
            .filter(|id| id % 5_000 != 4_321)
            .map(|id| id.to_string())
            .collect();
        ids.sort();
        ids
    };
    let mut found = ids(&d);
    found.sort();
    assert_eq!(found.len(), wanted.len(), "after {kills} kills");
    assert_eq!(found, wanted);
    // One run has it all, and its books balance. Those that were killed before they had
    // committed anything are known to have failed.
    let (listed, failed): (Vec<Value>, Vec<Value>) = runs(&d, "")
        .into_iter()
        .partition(|run| run["outcome"] == "committed");
    assert_eq!(listed.len(), 1, "{listed:?}");
    for run in failed {
        assert_eq!(
            (&run["outcome"], &run["counts"]["loaded"]),
            (&"failed".into(), &0.into())
        );
    }
    let (run, counts) = (&listed[0], &listed[0]["counts"]);
    assert_eq!(run["outcome"], "committed");
    assert_eq!(counts["loaded"], RECORDS - RECORDS / 5_000);
    assert_eq!(counts["rejected"], RECORDS / 5_000);
    assert_eq!(counts["filtered"], 0);
    assert_eq!(counts["other_lines"], 2);
    assert_eq!(counts["records"], RECORDS);
    let of: u64 = run["reasons"]
        .as_array()
        .unwrap()
        .iter()
        .map(|r| r["count"].as_u64().unwrap())
        .sum();
    assert_eq!(of, RECORDS / 5_000);
    // The rejects were kept once as well.
    let id = run["run"].as_str().unwrap();
    let reasons = d.market.read(&format!("rejects/{id}/reasons.jsonl"));
    let reasons = String::from_utf8(reasons).unwrap();
    assert_eq!(reasons.lines().count() as u64, RECORDS / 5_000);
    kills
}

fn a_packed_run_goes_on_with_its_rejects(kind: Kind) {
    use std::io::Write;
    let target = "commit_every = 1000\n[rejects]\nmax_rejects = \"10%\"";
    let mut file = records(0..40_000);
    file += "x,bad\n";
    file += &records(40_000..80_000)["id,note\n".len()..];
    let pack = |text: &str| {
        let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        packed.write_all(text.as_bytes()).unwrap();
        packed.finish().unwrap()
    };
    let d = database(kind, &spec(target, ""), &[]);
    d.market.write("a.csv", &pack(&file));
    // It stops at a row that the table cannot even be asked about: a trigger that fails
    // as a server does is not to be had, so the program is killed on its way.
    let mut interrupted = false;
    for after in [60, 90, 120, 150, 200, 40, 30, 20] {
        if killed(&d, "load d.spec.toml --threads 1", after) {
            break;
        }
        let run = d.run("ledger --report json").json()["runs"][0].clone();
        if run["outcome"] == "in progress" && run["counts"]["loaded"].as_u64() > Some(0) {
            interrupted = true;
            break;
        }
    }
    let json = load(&d, "");
    if interrupted {
        let words = json["resumed"].as_str().unwrap();
        assert!(
            words.contains("goes on") && words.contains("a.csv"),
            "{words}"
        );
        assert_eq!(json["loaded"], 80_000);
    }
    let sql = "SELECT count(*), count(DISTINCT id), min(id), max(id) FROM d";
    assert_eq!(d.rows(sql), ["80000|80000|0|79999"]);
    let run = runs(&d, "")[0]["run"].as_str().unwrap().to_string();
    let reasons = d.market.read(&format!("rejects/{run}/reasons.jsonl"));
    let reasons = String::from_utf8(reasons).unwrap();
    assert!(
        reasons.contains("\"record\":40001") && reasons.lines().count() == 1,
        "{reasons}"
    );
}

#[test]
fn packed_files_are_known_again() {
    use std::io::Write;
    let d = database(Kind::Sqlite, &spec("", ""), &[]);
    let text = records(0..20_000);
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gzip.write_all(text.as_bytes()).unwrap();
    let mut bzip2 = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::fast());
    bzip2.write_all(text.as_bytes()).unwrap();
    let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 1);
    xz.write_all(text.as_bytes()).unwrap();
    let packed = [
        gzip.finish().unwrap(),
        bzip2.finish().unwrap(),
        xz.finish().unwrap(),
        zstd::stream::encode_all(text.as_bytes(), 1).unwrap(),
        text.into_bytes(),
    ];
    for (number, bytes) in packed.iter().enumerate() {
        d.market.write(&format!("{number}.csv"), bytes);
    }
    assert_eq!(load(&d, "")["loaded"], 100_000);
    let again = load(&d, "");
    assert_eq!(again["skipped_files"].as_array().unwrap().len(), 5);
    assert_eq!(d.count("SELECT count(*) FROM d"), 100_000);
}

fn two_loads_of_one_file_at_once_load_it_once(kind: Kind) {
    for target in ["", "commit_every = 1000"] {
        let d = database(kind, &spec(target, ""), &[("a.csv", &records(0..50_000))]);
        d.sql(&["CREATE TABLE d (id BIGINT NOT NULL, note VARCHAR(20))"]);
        let loads: Vec<Child> = (0..3)
            .map(|_| quietly(d.command("load d.spec.toml")))
            .collect();
        for mut load in loads {
            assert!(load.wait().unwrap().success());
        }
        assert_eq!(
            d.rows("SELECT count(*), count(DISTINCT id) FROM d"),
            ["50000|50000"]
        );
        assert_eq!(runs(&d, "").len(), 1);
    }
}

fn loads_share_a_list_of_files(kind: Kind) {
    const FILES: u64 = 40;
    const EACH: u64 = 3_000;
    let texts: Vec<(String, String)> = (0..FILES)
        .map(|n| (format!("w{n}.csv"), records(n * EACH..(n + 1) * EACH)))
        .collect();
    let files: Vec<(&str, &str)> = texts
        .iter()
        .map(|(n, t)| (n.as_str(), t.as_str()))
        .collect();
    let d = database(kind, &spec("", ""), &files);
    let list: String = (0..FILES).map(|n| format!("w{n}.csv\n")).collect();
    d.market.write("list", list.as_bytes());
    let words = "load d.spec.toml @list --share";
    let mut loads: Vec<Child> = (0..4).map(|_| quietly(d.command(words))).collect();
    std::thread::sleep(Duration::from_millis(150));
    // One of them dies; the others take over what it had.
    let _ = loads[0].kill();
    for (at, mut load) in loads.into_iter().enumerate() {
        let status = load.wait().unwrap();
        assert!(at == 0 || status.success(), "load {at}");
    }
    let sql = "SELECT count(*), count(DISTINCT id), min(id), max(id) FROM d";
    let all = FILES * EACH;
    assert_eq!(d.rows(sql), [format!("{all}|{all}|0|{}", all - 1)]);
    assert_eq!(
        d.count("SELECT count(*) FROM barrow_files WHERE outcome = 'committed'"),
        FILES
    );
    assert_eq!(
        d.count("SELECT count(DISTINCT path) FROM barrow_files"),
        FILES
    );
    // What cannot be shared is said.
    assert_eq!(
        d.run("load d.spec.toml @list --share --mode truncate").code,
        2
    );
}

/// 10,000 records, of which 40 are no numbers.
fn with_forty_faults() -> String {
    let mut file = String::from("id,note\n");
    for id in 0..10_000 {
        file += &match id % 250 {
            100 => format!("{id}?,bad\n"),
            _ => format!("{id},note {id}\n"),
        };
    }
    file
}

/// Corrects the first so many bad records of a file of rejects.
fn correct(d: &Database, file: &str, count: usize) {
    let text = String::from_utf8(d.market.read(file)).unwrap();
    d.market
        .write(file, text.replacen("?,bad", ",mended", count).as_bytes());
}

fn rejects_are_mended_in_two_steps(kind: Kind) {
    let target = "[rejects]\nmax_rejects = 40";
    let d = database(kind, &spec(target, ""), &[("a.csv", &with_forty_faults())]);
    let said = d.run("load d.spec.toml");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let folder = d.market.rejects();
    let run = folder.strip_prefix("rejects/").unwrap().to_string();
    assert!(
        said.out.contains(&format!("barrow mend {run}")),
        "{}",
        said.out
    );
    let file = format!("{folder}/a.csv");
    // As long as some are left, that is what the exit code says.
    let mended = |words: &str| {
        let said = mend(&d, &format!("{run} --report json {words}"));
        assert_eq!(said.code, 3, "{}{}", said.out, said.err);
        said.json()
    };
    // Nothing is corrected: a rehearsal says so, and so does a mend.
    assert_eq!(mended("--check")["mended"]["still_open"], 40);
    correct(&d, &file, 25);
    let before = d.market.read(&file);
    let json = mended("--check");
    assert_eq!(
        (&json["mended"]["mended"], &json["mended"]["still_open"]),
        (&25.into(), &15.into())
    );
    assert_eq!(d.market.read(&file), before);
    assert_eq!(d.count("SELECT count(*) FROM d"), 9_960);
    let json = mended("");
    assert_eq!(
        (&json["mended"]["mended"], &json["mended"]["still_open"]),
        (&25.into(), &15.into())
    );
    assert_eq!(d.count("SELECT count(*) FROM d"), 9_985);
    // What is left is in place, under its header, with new reasons.
    let left = String::from_utf8(d.market.read(&file)).unwrap();
    assert_eq!(left.lines().count(), 16);
    assert!(left.starts_with("id,note\n6350?,bad\n"), "{left}");
    assert_eq!(d.reasons().len(), 15);
    // Twice more, with nothing corrected: nothing changes.
    mended("");
    let json = mended("");
    assert_eq!(
        (&json["mended"]["mended"], &json["mended"]["still_open"]),
        (&0.into(), &15.into())
    );
    assert_eq!(d.count("SELECT count(*) FROM d"), 9_985);
    let kept = run_of(&d, &run);
    assert_eq!(
        (&kept["mended"], &kept["still_open"]),
        (&25.into(), &15.into())
    );
    // A file that was loaded as it is has nothing to mend, and is not taken away.
    let rejects = d.market.read(&file);
    d.market.write(&file, with_forty_faults().as_bytes());
    let said = mend(&d, &run);
    assert_eq!(said.code, 2, "{}{}", said.out, said.err);
    assert!(said.err.contains("as it is already"), "{}", said.err);
    assert!(d.market.path(&file).exists());
    d.market.write(&file, &rejects);
    // The others are corrected.
    correct(&d, &file, 15);
    let json = done(&mend(&d, &format!("{run} --report json")));
    assert_eq!(
        (&json["mended"]["mended"], &json["mended"]["given_up"]),
        (&15.into(), &0.into())
    );
    assert_eq!(
        d.rows("SELECT count(*), count(DISTINCT id) FROM d"),
        ["10000|10000"]
    );
    assert_eq!(d.count("SELECT count(*) FROM d WHERE note = 'mended'"), 40);
    assert!(
        !d.market.path(&folder).exists(),
        "nothing is left in the folder"
    );
    let kept = run_of(&d, &run);
    assert_eq!(kept["counts"]["loaded"], 9_960);
    assert_eq!(
        (&kept["mended"], &kept["given_up"], &kept["still_open"]),
        (&40.into(), &0.into(), &0.into())
    );
    let mends: Vec<u64> = kept["mends"]
        .as_array()
        .unwrap()
        .iter()
        .map(|m| m["counts"]["loaded"].as_u64().unwrap())
        .collect();
    assert_eq!(mends, [25, 0, 0, 15]);
    assert_eq!(mend(&d, &run).code, 2);
}

fn rejects_that_are_deleted_are_given_up(kind: Kind) {
    let target = "[rejects]\nmax_rejects = 40";
    let d = database(kind, &spec(target, ""), &[("a.csv", &with_forty_faults())]);
    load(&d, "");
    let folder = d.market.rejects();
    let run = folder.strip_prefix("rejects/").unwrap().to_string();
    let file = format!("{folder}/a.csv");
    let text = String::from_utf8(d.market.read(&file)).unwrap();
    d.market
        .write(&file, text.replace("100?,bad\n", "").as_bytes());
    let given_up = 40 - d.market.read(&file).iter().filter(|b| **b == b'?').count();
    let said = mend(&d, &format!("{run} --report json"));
    assert_eq!(said.code, 3, "{}{}", said.out, said.err);
    let json = said.json();
    assert!(given_up > 0);
    assert_eq!(json["mended"]["given_up"], given_up);
    assert_eq!(json["mended"]["still_open"], 40 - given_up);
    assert_eq!(run_of(&d, &run)["given_up"], given_up);
    assert_eq!(d.count("SELECT count(*) FROM d"), 9_960);
}

fn a_mend_that_is_killed_loads_nothing_twice(kind: Kind) {
    let target = "[rejects]\nmax_rejects = 100000";
    let mut text = String::from("id,note\n");
    (0..30_000).for_each(|id| text += &format!("{id}?,bad\n"));
    let d = database(kind, &spec(target, ""), &[("a.csv", &text)]);
    load(&d, "");
    let folder = d.market.rejects();
    let run = folder.strip_prefix("rejects/").unwrap().to_string();
    let file = format!("{folder}/a.csv");
    correct(&d, &file, 29_000);
    for after in [5, 20, 40, 60, 80, 100, 120, 140, 160, 200, 240, 280, 320] {
        let mut child = quietly(mend_command(&d, &run));
        std::thread::sleep(Duration::from_millis(after));
        let _ = child.kill();
        child.wait().unwrap();
        wait_until_free(&d);
        let rows = d.count("SELECT count(*) FROM d");
        assert!(rows == 0 || rows == 29_000, "{rows} rows after {after} ms");
    }
    let last = mend(&d, &run);
    assert_eq!(last.code, 3, "{}{}", last.out, last.err);
    assert_eq!(
        d.rows("SELECT count(*), count(DISTINCT id) FROM d"),
        ["29000|29000"]
    );
    let left = String::from_utf8(d.market.read(&file)).unwrap();
    assert_eq!(left.lines().count(), 1_001);
    assert_eq!(d.reasons().len(), 1_000);
    let kept = run_of(&d, &run);
    assert_eq!(
        (&kept["mended"], &kept["still_open"], &kept["given_up"]),
        (&29_000.into(), &1_000.into(), &0.into())
    );
}

fn rejects_are_rows_of_a_table(kind: Kind) {
    let target = "[rejects]\nmax_rejects = 1\ntable = \"rejected \\\" d\"";
    let d = database(kind, &spec(target, ""), &[("a.csv", "id,note\n1,a\nx,b\n")]);
    load(&d, "");
    let folder = d.market.rejects();
    let run = folder.strip_prefix("rejects/").unwrap().to_string();
    let table = d.each(
        "\"rejected \"\" d\"",
        "\"rejected \"\" d\"",
        "`rejected \" d`",
    );
    let raw = d.each(
        "CAST(raw AS TEXT)",
        "convert_from(raw, 'UTF8')",
        "CONVERT(raw USING utf8mb4)",
    );
    let sql = format!(
        "SELECT run, file, line, byte_offset, column_name, code, value, {raw} FROM {table} ORDER BY run, line"
    );
    let wanted = format!("{run}|a.csv|3|12|id|not-a-number|x|x,b\n");
    assert_eq!(d.rows(&sql), [wanted]);
    // A load that is undone leaves its rejects there too.
    d.market.write("b.csv", b"id,note\ny,b\nz,c\n");
    assert_eq!(d.run("load d.spec.toml").code, 3);
    assert_eq!(d.rows(&sql).len(), 3);
    assert_eq!(ids(&d), ["1"]);
    // Those that are mended are no longer there.
    d.market
        .write(&format!("{folder}/a.csv"), b"id,note\n2,b\n");
    done(&mend(&d, &format!("{run} --report json")));
    assert_eq!(d.rows(&sql).len(), 2);
    assert_eq!(ids(&d), ["1", "2"]);
}

fn a_file_beyond_its_tolerance_is_left_out_whole(kind: Kind) {
    let target = "[rejects]\nmax_rejects = 1\nper = \"file\"";
    let files = [
        ("a.csv", "id,note\n1,a\nx,b\n"),
        ("b.csv", "id,note\n2,a\nx,b\ny,b\n3,c\n"),
        ("c.csv", "id,note\n4,a\n"),
    ];
    let d = database(kind, &spec(target, ""), &files);
    let said = d.run("load d.spec.toml --report json");
    assert_eq!(said.code, 3, "{}", said.err);
    let json = said.json();
    assert_eq!(ids(&d), ["1", "4"]);
    let count = |key: &str| json[key].as_u64().unwrap();
    assert_eq!(
        (count("loaded"), count("rolled_back"), count("rejected")),
        (2, 2, 3)
    );
    assert_eq!(json["rejected_files"][0]["file"], "b.csv");
    assert_eq!(json["tables"][0]["rows_after"], 2);
    // The others are not loaded again, and that one is once it is corrected.
    d.market.write("b.csv", b"id,note\n2,a\n5,b\ny,b\n3,c\n");
    let run = json["run"].as_str().unwrap();
    let again = done(&d.run("load d.spec.toml --report json"));
    assert_eq!(again["loaded"], 3);
    assert_eq!(ids(&d), ["1", "2", "3", "4", "5"]);
    // Only the rejects of the file that is in are open: the other's never were.
    assert_eq!(run_of(&d, run)["still_open"], 1);
    d.market
        .write(&format!("rejects/{run}/a.csv"), b"id,note\n6,b\n");
    let mended = done(&mend(&d, &format!("{run} --report json")));
    assert_eq!(
        (&mended["mended"]["mended"], &mended["mended"]["still_open"]),
        (&1.into(), &0.into())
    );
    assert_eq!(ids(&d), ["1", "2", "3", "4", "5", "6"]);
}

fn files_are_moved_or_deleted_once_they_are_in(kind: Kind) {
    let moving = spec(
        "[rejects]\nmax_rejects = 1",
        "after_load = { move_to = \"done\" }",
    );
    let files = [
        ("a.csv", "id,note\n1,a\n"),
        ("b.csv", "id,note\n2,a\nx,b\n"),
    ];
    let d = database(kind, &moving, &files);
    let json = load(&d, "");
    assert!(d.market.path("done/a.csv").exists() && !d.market.path("a.csv").exists());
    assert!(d.market.path("b.csv").exists(), "it has rejects");
    assert_eq!(json["after_load"].as_array().unwrap().len(), 2);
    // A load that is undone moves nothing.
    d.market.write("c.csv", b"id,note\nx,a\ny,b\n");
    assert_eq!(d.run("load d.spec.toml").code, 3);
    assert!(d.market.path("c.csv").exists());
    d.market.write("c.csv", b"id,note\n3,a\nz,b\n");
    let deleting = spec(
        "[rejects]\nmax_rejects = 1",
        "after_load = { delete = true, even_with_rejects = true }",
    );
    d.market.write("d.spec.toml", deleting.as_bytes());
    load(&d, "");
    assert!(!d.market.path("b.csv").exists() && !d.market.path("c.csv").exists());
    assert_eq!(ids(&d), ["1", "2", "3"]);
    // A failure there is told, and undoes nothing.
    d.market.write("d.spec.toml", moving.as_bytes());
    d.market.write("e.csv", b"id,note\n4,a\n");
    std::fs::remove_dir_all(d.market.path("done")).unwrap();
    d.market.write("done", b"a file");
    let said = d.run("load d.spec.toml --report json");
    assert_eq!(said.code, 1);
    assert_eq!(said.json()["after_load"][0]["failed"], true);
    assert_eq!(ids(&d), ["1", "2", "3", "4"]);
    // Of loads that share the files, each takes away what it loaded, and does not miss what
    // another did.
    std::fs::remove_file(d.market.path("done")).unwrap();
    for id in 5..25 {
        let text = format!("id,note\n{id},a\n");
        d.market.write(&format!("s{id}.csv"), text.as_bytes());
    }
    let loads: Vec<Child> = (0..3)
        .map(|_| quietly(d.command("load d.spec.toml --share")))
        .collect();
    for mut load in loads {
        assert!(load.wait().unwrap().success());
    }
    let left = (5..25).filter(|id| d.market.path(&format!("s{id}.csv")).exists());
    assert_eq!(left.count(), 0);
    let sql = "SELECT count(*), count(DISTINCT id) FROM d WHERE id >= 5";
    assert_eq!(d.rows(sql), ["20|20"]);
}

#[test]
fn a_ledger_of_a_later_program_is_refused_and_not_misread() {
    let m = crate::market::Market::with(&[
        ("d.csv", &b"id,note\n1,a\n"[..]),
        (
            "d.spec.toml",
            b"[source]\nfiles = [\"d.csv\"]\n[columns]\nid = \"integer\"\nnote = \"text\"\n\
              [target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\n",
        ),
    ]);
    assert_eq!(m.run("load d.spec.toml").code, 0);
    m.sql("UPDATE barrow_runs SET outcome = 'put_by'");
    // Read as a failed run, its file would be loaded a second time.
    for command in [
        "load d.spec.toml",
        "ledger --database sqlite:m.db",
        "check d.spec.toml",
    ] {
        let said = m.run(command);
        assert_eq!(said.code, 1, "{command}: {}", said.out);
        assert!(said.err.contains("put_by"), "{command}: {}", said.err);
    }
    assert_eq!(m.count("SELECT count(*) FROM d"), 1);
}
