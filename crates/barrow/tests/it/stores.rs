//! Files in object stores: found, read, known again, written, and never half.

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use barrow_test_stores::{Fault, Faults, Keys, Options, Server};
use rusqlite::Connection;

use crate::market::{Market, Said, said};

const SPEC: &str = "[source]\nfiles = [\"s3://market/out/sales-*.csv\"]\n\
    [columns]\nid = \"bigint\"\nnote = \"varchar(40)\"\n\
    [target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\n";

/// A store, and a folder with a spec.
struct Place {
    market: Market,
    server: Server,
}

fn place(spec: &str) -> Place {
    Place {
        market: Market::with(&[("d.spec.toml", spec.as_bytes())]),
        server: Server::start(Options::default()).unwrap(),
    }
}

/// With a few files that are there.
fn with_files(spec: &str) -> Place {
    let place = place(spec);
    for number in [1, 2, 10] {
        let key = format!("out/sales-{number}.csv");
        place.server.put("market", &key, records(number * 100, 3));
    }
    place.server.put("market", "out/other.csv", "x\n");
    place
}

fn records(from: u32, count: u32) -> String {
    let mut text = String::from("id,note\n");
    (from..from + count).for_each(|id| text += &format!("{id},note {id}\n"));
    text
}

impl Place {
    fn command(&self, words: &str) -> Command {
        let mut command = self.market.command(words);
        let keys = Keys::default();
        command
            .env("AWS_ENDPOINT_URL", self.server.address())
            .env("AWS_ALLOW_HTTP", "true")
            .env("AWS_ACCESS_KEY_ID", keys.id)
            .env("AWS_SECRET_ACCESS_KEY", keys.secret)
            .env("AWS_REGION", keys.region)
            .env("HOME", self.market.path(""));
        command
    }

    fn run(&self, words: &str) -> Said {
        said(self.command(words))
    }

    fn loads(&self, words: &str) -> Said {
        let said = self.run(words);
        assert_eq!(said.code, 0, "{words}\n{}{}", said.out, said.err);
        said
    }

    fn fails(&self, words: &str, says: &str) {
        let said = self.run(words);
        assert_ne!(said.code, 0, "{words}\n{}", said.out);
        assert!(said.err.contains(says), "{words}: {}", said.err);
        assert!(said.err.lines().count() <= 3, "{}", said.err);
    }

    fn gets(&self) -> Vec<String> {
        let all = self.server.take_requests();
        all.into_iter()
            .filter(|line| line.contains(".csv"))
            .collect()
    }
}

#[test]
fn a_glob_is_loaded_in_natural_order_and_known_again_without_being_read() {
    let p = with_files(SPEC);
    let first = p.loads("load d.spec.toml");
    let at = |name: &str| {
        first
            .out
            .find(name)
            .unwrap_or_else(|| panic!("{}", first.out))
    };
    assert!(at("sales-2.csv") < at("sales-10.csv"), "{}", first.out);
    assert_eq!(p.market.count("SELECT count(*) FROM d"), 9);
    p.gets();
    let again = p.loads("load d.spec.toml");
    assert!(again.out.contains("nothing is new"), "{}", again.out);
    assert_eq!(p.gets(), Vec::<String>::new());
    // One that is new is the only one that is read.
    p.server.put("market", "out/sales-3.csv", records(300, 2));
    p.loads("load d.spec.toml");
    assert_eq!(p.market.count("SELECT count(*) FROM d"), 11);
    let read = p.gets();
    assert!(
        !read.is_empty() && read.iter().all(|line| line.contains("sales-3.csv")),
        "{read:?}"
    );
    let checked = p.loads("check d.spec.toml");
    assert!(checked.out.contains("already loaded"), "{}", checked.out);
}

#[test]
fn one_name_a_beginning_and_a_list_mean_what_they_say() {
    let p = with_files(SPEC);
    let records = |words: &str| {
        let said = p.loads(&format!("check d.spec.toml {words} --report json"));
        said.json()["records"].as_u64().unwrap()
    };
    assert_eq!(records("s3://market/out/sales-1.csv"), 3);
    assert_eq!(records("s3://market/out/sales-"), 9);
    p.market.write(
        "list",
        b"s3://market/out/sales-2.csv\ns3://market/out/sales-10.csv\n",
    );
    assert_eq!(records("@list"), 6);
    // A name is a name: what merely begins so is not meant.
    p.server
        .put("market", "out/sales-5.csv.bak", "id,note\n5,old\n");
    p.fails(
        "load d.spec.toml s3://market/out/sales-5.csv",
        "sales-5.csv.bak is there",
    );
    p.fails("load d.spec.toml s3://market/out", "s3://market/out/");
}

#[test]
fn content_that_moved_is_known_and_content_that_changed_stops_the_load() {
    let p = with_files(SPEC);
    p.loads("load d.spec.toml");
    p.server.put("market", "in/sales-1.csv", records(100, 3));
    let moved = p.loads("load d.spec.toml s3://market/in/sales-1.csv");
    assert!(moved.out.contains("nothing is new"), "{}", moved.out);
    p.server.put("market", "out/sales-1.csv", records(100, 4));
    p.fails("load d.spec.toml", "changed since its rows were loaded");
    assert_eq!(p.market.count("SELECT count(*) FROM d"), 9);
    // The same content, written again, has another tag in some stores, and is the same here.
    p.server.put("market", "out/sales-1.csv", records(100, 3));
    assert!(p.loads("load d.spec.toml").out.contains("nothing is new"));
}

#[test]
fn after_a_load_objects_are_moved_or_deleted() {
    let p = with_files(&SPEC.replace(
        "[columns]",
        "after_load = { move_to = \"done\" }\n[columns]",
    ));
    p.server.put("market", "out/done/sales-2.csv", "another\n");
    p.loads("load d.spec.toml");
    let keys = p.server.keys("market");
    let there: Vec<&str> = keys.iter().map(String::as_str).collect();
    assert_eq!(
        there,
        [
            "out/done/sales-1.csv",
            "out/done/sales-10.csv",
            "out/done/sales-2-2.csv",
            "out/done/sales-2.csv",
            "out/other.csv",
        ]
    );
    let p = with_files(&SPEC.replace("[columns]", "after_load = \"delete\"\n[columns]"));
    p.loads("load d.spec.toml");
    assert_eq!(p.server.keys("market"), ["out/other.csv"]);
    assert_eq!(p.market.count("SELECT count(*) FROM d"), 9);
}

#[test]
fn an_export_is_there_whole_or_not_at_all_and_is_read_back() {
    let p = with_files(SPEC);
    p.loads("load d.spec.toml");
    p.loads("export d.spec.toml -o s3://market/exp/d.csv.gz");
    p.loads("export d.spec.toml -o s3://market/exp/p.csv --split-rows 4 --list s3://market/exp/l");
    p.loads("export d.spec.toml -o s3://market/by/p.csv --split-by note");
    p.fails(
        "export d.spec.toml -o s3://market/exp/d.csv.gz",
        "is there already",
    );
    let list = p.server.get("market", "exp/l").unwrap();
    assert_eq!(
        String::from_utf8_lossy(&list),
        "s3://market/exp/p-1.csv\ns3://market/exp/p-2.csv\ns3://market/exp/p-3.csv\n"
    );
    assert_eq!(
        p.server
            .keys("market")
            .iter()
            .filter(|key| key.starts_with("by/"))
            .count(),
        9
    );
    let back = p
        .loads("check d.spec.toml s3://market/exp/d.csv.gz --report json")
        .json();
    assert_eq!(back["records"], 9);
    assert_eq!(p.server.open_uploads(), 0);
    // A query that fails in its midst leaves nothing.
    let said = p.run(
        "export --database sqlite:m.db --query SELECT+abs(-9223372036854775807-(id>=1000))+a+FROM+d \
         -o s3://market/exp/half.csv",
    );
    assert_ne!(said.code, 0);
    assert!(p.server.get("market", "exp/half.csv").is_none());
    assert_eq!(p.server.open_uploads(), 0);
}

#[test]
fn no_key_is_shown_and_every_refusal_is_one_line() {
    let p = with_files(SPEC);
    let mut wrong = p.command("load d.spec.toml");
    wrong.env("AWS_SECRET_ACCESS_KEY", "hushhush");
    let wrong = said(wrong);
    assert!(wrong.err.contains("access is denied (403"), "{}", wrong.err);
    assert!(!wrong.err.contains("hushhush"));
    let mut region = p.command("load d.spec.toml");
    region.env("AWS_REGION", "far-away");
    let region = said(region);
    assert!(region.err.contains("region us-east-1"), "{}", region.err);
    p.fails(
        "load d.spec.toml s3://elsewhere/a.csv",
        "there is no bucket elsewhere",
    );
    p.fails(
        "load d.spec.toml s3://market/none.csv",
        "there is no file s3://market/none.csv",
    );
    p.fails(
        "load d.spec.toml s3://market/out/none-*.csv",
        "there is no file",
    );
    p.fails("load d.spec.toml s3:///none.csv", "followed by a bucket");
    p.fails("load d.spec.toml ftp://market/none.csv", "not from ftp://");
    let mut plain = p.command("load d.spec.toml");
    plain.env_remove("AWS_ALLOW_HTTP");
    let plain = said(plain);
    assert!(plain.err.contains("allow_http = true"), "{}", plain.err);
}

#[test]
fn variables_of_the_cloud_that_are_no_addresses_stop_nothing() {
    let p = with_files(SPEC);
    let mut command = p.command("load d.spec.toml");
    for (name, value) in [
        ("AWS_EC2_METADATA_SERVICE_ENDPOINT_MODE", "IPv6"),
        ("AWS_STS_REGIONAL_ENDPOINTS", "regional"),
        ("AWS_IGNORE_CONFIGURED_ENDPOINT_URLS", "true"),
        ("AZURE_STORAGE_ENDPOINT", "none"),
        ("GOOGLE_BASE_URL", "none"),
        ("AWS_NOTE", "a\u{1}b"),
    ] {
        command.env(name, value);
    }
    let loaded = said(command);
    assert_eq!(loaded.code, 0, "{}{}", loaded.out, loaded.err);
    for (name, value) in [
        ("AWS_ENDPOINT_URL_S3", "127.0.0.1"),
        ("AWS_REGION", "a\u{1}b"),
    ] {
        let mut command = p.command("load d.spec.toml --again");
        command.env(name, value);
        let refused = said(command);
        assert_eq!(refused.code, 1, "{}{}", refused.out, refused.err);
        let told = ["begins with https://", "control characters"];
        assert!(
            told.iter().any(|words| refused.err.contains(words)),
            "{}",
            refused.err
        );
    }
}

#[test]
fn a_spec_says_how_a_store_is_asked() {
    let keys = Keys::default();
    let p = with_files(SPEC);
    let spec = format!(
        "{SPEC}[stores.market]\nendpoint = \"{}\"\nallow_http = true\nregion = \"us-east-1\"\n\
         access_key = \"${{MARKET_KEY}}\"\nsecret_key = \"${{MARKET_SECRET}}\"\n",
        p.server.address()
    );
    p.market.write("own.spec.toml", spec.as_bytes());
    let mut command = p.market.command("load own.spec.toml");
    command
        .env("MARKET_KEY", &keys.id)
        .env("MARKET_SECRET", &keys.secret);
    let said_ = said(command);
    assert_eq!(said_.code, 0, "{}", said_.err);
    let unset = p.market.run("load own.spec.toml");
    assert!(
        unset.err.contains("the environment has no MARKET_KEY"),
        "{}",
        unset.err
    );
    // A secret that stands in the spec is not repeated where the spec is wrong.
    let wrong = spec.replace(
        "\"${MARKET_SECRET}\"",
        "\"hushhush\"\nsecretkey = \"hushhush\"",
    );
    p.market.write("wrong.spec.toml", wrong.as_bytes());
    let said = p.market.run("load wrong.spec.toml");
    assert_eq!(said.code, 2);
    assert!(!said.err.contains("hushhush"), "{}", said.err);
}

#[test]
fn a_profile_of_the_shared_files_is_taken() {
    let p = with_files(SPEC);
    let keys = Keys::default();
    let profile = format!(
        "[market]\naws_access_key_id = {}\naws_secret_access_key = {}\n",
        keys.id, keys.secret
    );
    p.market.write(".aws/credentials", profile.as_bytes());
    let mut command = p.command("load d.spec.toml");
    command
        .env_remove("AWS_ACCESS_KEY_ID")
        .env_remove("AWS_SECRET_ACCESS_KEY")
        .env("AWS_PROFILE", "market");
    let said = said(command);
    assert_eq!(said.code, 0, "{}", said.err);
}

/// A file of several pieces, and what it has.
fn large(p: &Place) -> i64 {
    let text = records(1, 600_000);
    assert!(text.len() > 10_000_000);
    p.server.put("market", "out/sales-1.csv", text);
    600_000
}

#[test]
fn an_object_that_changes_while_it_is_read_is_an_error_and_leaves_nothing() {
    let p = place(SPEC);
    large(&p);
    p.server.fail(Faults {
        // The sample is taken of one piece after the other; the change comes after that.
        per_thousand: 40,
        ways: vec![Fault::Change],
        seed: 5,
        ..Faults::default()
    });
    let said = p.run("load d.spec.toml");
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    assert!(
        said.err.contains("it changed while it was read"),
        "{}",
        said.err
    );
    p.server.fail(Faults::default());
    p.loads("load d.spec.toml");
    assert_eq!(p.market.count("SELECT count(*) FROM d"), 600_000);
}

#[test]
fn whatever_fails_on_the_way_a_load_is_whole_or_leaves_nothing() {
    let spec = format!("{SPEC}[stores.s3]\ngive_up_after = \"1500 ms\"\n");
    let p = place(&spec);
    let rows = large(&p);
    let (mut whole, mut failed) = (0, 0);
    for seed in 0..25 {
        let change = seed % 5 == 4;
        p.server.fail(Faults {
            per_thousand: if change { 60 } else { 250 },
            ways: match change {
                true => vec![Fault::Change],
                false => Vec::new(),
            },
            seed,
            ..Faults::default()
        });
        let said = p.run("load d.spec.toml --again --mode truncate");
        let there = match p.market.path("m.db").exists() {
            true => p
                .market
                .cells("SELECT count(*) FROM sqlite_master WHERE name = 'd'")
                .len(),
            false => 0,
        };
        match said.code {
            0 => {
                whole += 1;
                assert_eq!(
                    p.market.count("SELECT count(*) FROM d"),
                    rows,
                    "seed {seed}"
                );
                assert_eq!(
                    p.market.count("SELECT sum(id) FROM d"),
                    rows * (rows + 1) / 2
                );
            }
            _ => {
                failed += 1;
                assert!(said.err.lines().count() <= 2, "seed {seed}: {}", said.err);
                assert!(
                    there == 0 || whole == 0 || p.market.count("SELECT count(*) FROM d") == rows
                );
            }
        }
    }
    assert!(whole >= 15 && failed >= 1, "{whole} whole, {failed} failed");
}

#[test]
fn requests_that_come_late_are_asked_for_ahead() {
    let p = place(SPEC);
    let rows = large(&p);
    p.server.fail(Faults {
        delay: Duration::from_millis(50),
        ..Faults::default()
    });
    p.loads("load d.spec.toml");
    assert_eq!(p.market.count("SELECT count(*) FROM d"), rows);
}

#[test]
fn hostile_keys_and_contents_do_no_harm() {
    let p = place(&SPEC.replace("sales-*.csv", "*"));
    p.server
        .put("market", "out/a b;rm -rf 'x' é\".csv", records(1, 2));
    p.server.put("market", "out/.hidden.csv", records(10, 2));
    p.server.put(
        "market",
        &format!("out/{}.csv", "n".repeat(800)),
        records(20, 2),
    );
    let said = p.loads("load d.spec.toml");
    assert!(!said.out.contains('\u{1b}'), "{}", said.out);
    assert_eq!(p.market.count("SELECT count(*) FROM d"), 6);
    // Rejects of such names have files of names that a folder may hold.
    p.server.put("market", "out/../x.csv", "id,note\nx,y\n");
    let outside = p.run("load d.spec.toml s3://market/out/../x.csv");
    assert_ne!(outside.code, 0);
    p.server.put("market", "r/a|b.csv", "id,note\nx,y\n");
    let said = p.run("load d.spec.toml s3://market/r/* --max-rejects 5");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert!(p.market.path(&p.market.rejects()).join("a|b.csv").exists());
    // A key that has control characters is named, visibly, and nothing is read past it.
    p.server.put("market", "r/a\u{1b}b.csv", "id,note\nx,y\n");
    let said = p.run("load d.spec.toml s3://market/r/*");
    assert_ne!(said.code, 0);
    assert!(said.err.contains("\\x1B"), "{}", said.err);
    assert!(!said.err.contains('\u{1b}'), "{}", said.err);
}

#[test]
fn loads_share_a_bucket() {
    let p = place(SPEC);
    for number in 0..40 {
        let key = format!("out/sales-{number}.csv");
        p.server.put("market", &key, records(number * 100, 20));
    }
    let mut all: Vec<_> = (0..3)
        .map(|_| {
            let mut command = p.command("load d.spec.toml --share");
            command.stdout(std::process::Stdio::null()).spawn().unwrap()
        })
        .collect();
    for child in &mut all {
        assert!(child.wait().unwrap().success());
    }
    assert_eq!(p.market.count("SELECT count(*) FROM d"), 800);
    assert_eq!(p.market.count("SELECT count(DISTINCT id) FROM d"), 800);
}

#[test]
fn what_is_committed_as_it_goes_is_gone_on_with() {
    let p = place(&SPEC.replace("create = true", "create = true\ncommit_every = 5000"));
    let rows = large(&p);
    p.server.fail(Faults {
        next: (0..65).map(|_| Fault::Drop(u64::MAX)).collect(),
        per_thousand: 1000,
        ways: vec![Fault::Stall(0)],
        ..Faults::default()
    });
    // The sample and the file's start come; all else stalls until the load is killed.
    let mut command = p.command("load d.spec.toml");
    let mut load = command.stdout(Stdio::null()).spawn().unwrap();
    let committed = || {
        let ledger = Connection::open(p.market.path("m.db")).ok()?;
        let sql = "SELECT committed_to FROM barrow_files";
        ledger.query_row(sql, [], |row| row.get::<_, i64>(0)).ok()
    };
    let since = Instant::now();
    while committed().is_none_or(|place| place <= 100_000) {
        assert!(
            since.elapsed() < Duration::from_secs(50),
            "{committed:?}",
            committed = committed()
        );
        std::thread::sleep(Duration::from_millis(20));
    }
    load.kill().unwrap();
    load.wait().unwrap();
    let committed = committed().unwrap();
    p.server.fail(Faults::default());
    p.gets();
    p.loads("load d.spec.toml");
    // Its start was read, for the header, and then nothing before the last 64 KiB that were
    // whole.
    let ranges = p.gets().into_iter().filter_map(|line| {
        let (from, to) = line.split_once(" bytes=")?.1.split_once('-')?;
        Some((from.parse().ok()?, to.parse().ok()?))
    });
    let ranges: Vec<(i64, i64)> = ranges.filter(|(from, to)| to - from >= 4096).collect();
    let from = committed / 65_536 * 65_536;
    assert_eq!(ranges[..2], [(0, 262_143), (from, from + 262_143)]);
    assert!(
        ranges[1..].iter().all(|range| range.0 >= from),
        "{ranges:?}"
    );
    assert_eq!(p.market.count("SELECT count(*) FROM d"), rows);
    assert_eq!(p.market.count("SELECT count(DISTINCT id) FROM d"), rows);
    // The whole is known by its content, as if it had been read at once.
    let bytes = p.server.get("market", "out/sales-1.csv").unwrap();
    p.server.put("market", "out/sales-2.csv", bytes);
    let said = p.loads("load d.spec.toml");
    assert!(said.out.contains("nothing is new"), "{}", said.out);
}

#[test]
fn rejects_are_kept_at_an_address_and_mended_there() {
    let spec = format!("{SPEC}[rejects]\nfolder = \"s3://market/rejects\"\nmax_rejects = 9\n");
    let p = place(&spec);
    p.server
        .put("market", "out/sales-1.csv", "id,note\n1,a\nx,b\ny,c\n4,d\n");
    let said = p.loads("load d.spec.toml --report json").json();
    let run = said["run"].as_str().unwrap().to_string();
    assert_eq!(said["rejects"], format!("s3://market/rejects/{run}"));
    let key = format!("rejects/{run}/sales-1.csv");
    assert_eq!(p.server.get("market", &key).unwrap(), "id,note\nx,b\ny,c\n");
    assert!(!p.market.path("rejects").exists());
    let ledger = p.market.cells("SELECT rejects_folder FROM barrow_runs");
    assert!(
        format!("{ledger:?}").contains(&format!("s3://market/rejects/{run}")),
        "{ledger:?}"
    );
    // One is corrected, and the other is still wrong.
    p.server.put("market", &key, "id,note\n2,b\ny,c\n");
    let mended = p.run(&format!("mend {run} --rejects s3://market/rejects"));
    assert_eq!(mended.code, 3, "{}", mended.err);
    assert!(
        mended.out.contains(&format!("s3://market/{key}")),
        "{}",
        mended.out
    );
    assert_eq!(p.market.count("SELECT count(*) FROM d"), 3);
    assert_eq!(p.server.get("market", &key).unwrap(), "id,note\ny,c\n");
    p.server.put("market", &key, "id,note\n3,c\n");
    p.loads(&format!("mend s3://market/rejects/{run}"));
    assert_eq!(p.market.count("SELECT count(*) FROM d"), 4);
    assert_eq!(p.server.keys("market"), ["out/sales-1.csv"]);
    p.fails(
        &format!("mend s3://market/rejects/{run}"),
        "there are no rejects at",
    );
}

#[test]
fn a_load_from_a_store_that_was_rolled_back_is_mended() {
    let p = place(SPEC);
    p.server
        .put("market", "out/sales-1.csv", "id,note\n1,a\nx,b\n3,c\n");
    let said = p.run("load d.spec.toml --report json");
    assert_eq!(said.code, 3);
    let run = said.json()["run"].as_str().unwrap().to_string();
    p.market
        .write(&format!("rejects/{run}/sales-1.csv"), b"id,note\n2,b\n");
    p.loads(&format!("mend {run}"));
    assert_eq!(p.market.count("SELECT sum(id) FROM d"), 6);
    assert!(p.loads("load d.spec.toml").out.contains("nothing is new"));
}

/// Google's store speaks the same protocol to its clients as the stand-in, unsigned.
#[test]
fn another_clouds_address_is_read_as_well() {
    let spec = SPEC.replace("s3://", "gs://");
    let p = place("");
    let open = Server::start(Options {
        keys: None,
        ..Options::default()
    })
    .unwrap();
    open.put("market", "out/sales-1.csv", records(100, 3));
    open.put("market", "out/sales-2.csv", records(200, 3));
    let spec = format!(
        "{spec}[stores.gs]\nendpoint = \"{}\"\nanonymous = true\nallow_http = true\n",
        open.address()
    );
    p.market.write("d.spec.toml", spec.as_bytes());
    p.loads("load d.spec.toml");
    assert_eq!(p.market.count("SELECT count(*) FROM d"), 6);
    assert!(p.loads("load d.spec.toml").out.contains("nothing is new"));
    p.fails(
        "load d.spec.toml az://market/a.csv",
        "AZURE_STORAGE_ACCOUNT_NAME",
    );
}
