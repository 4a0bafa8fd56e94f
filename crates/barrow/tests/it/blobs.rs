//! Files in containers of blobs (`az://`): the same as in buckets, by another protocol.

use barrow_test_stores::{Fault, Faults, Keys, Options, Server};

use crate::market::{Market, Said, said};

const SPEC: &str = "[source]\nfiles = [\"az://market/out/sales-*.csv\"]\n\
    [columns]\nid = \"bigint\"\nnote = \"varchar(40)\"\n\
    [target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\n";

/// A service with an account, and a folder with a spec.
struct Place {
    market: Market,
    server: Server,
    key: String,
}

fn place(spec: &str) -> Place {
    Place {
        market: Market::with(&[("d.spec.toml", spec.as_bytes())]),
        server: Server::start(Options::default()).unwrap(),
        key: Keys::default().as_base64(),
    }
}

fn records(from: u32, count: u32) -> String {
    let records = (from..from + count).map(|id| format!("{id},note {id}\n"));
    "id,note\n".to_string() + &records.collect::<String>()
}

impl Place {
    fn run(&self, words: &str) -> Said {
        let mut command = self.market.command(words);
        command
            .env("AZURE_STORAGE_ENDPOINT", self.server.address())
            .env("AZURE_ALLOW_HTTP", "true")
            .env("AZURE_STORAGE_ACCOUNT_NAME", "market-key")
            .env("AZURE_STORAGE_ACCOUNT_KEY", &self.key);
        said(command)
    }

    fn loads(&self, words: &str) -> Said {
        let said = self.run(words);
        assert_eq!(said.code, 0, "{words}\n{}{}", said.out, said.err);
        said
    }

    fn count(&self) -> i64 {
        self.market.count("SELECT count(*) FROM d")
    }

    fn reads(&self) -> usize {
        let asked = self.server.take_requests();
        asked.iter().filter(|line| line.contains(".csv")).count()
    }
}

#[test]
fn blobs_are_loaded_in_natural_order_and_known_again() {
    let p = place(SPEC);
    for number in [1, 2, 10] {
        let key = format!("out/sales-{number}.csv");
        p.server.put("market", &key, records(number * 100, 3));
    }
    p.server.put("market", "out/other & more.csv", "x\n");
    let first = p.loads("load d.spec.toml").out;
    assert!(
        first.find("sales-2.csv") < first.find("sales-10.csv"),
        "{first}"
    );
    assert_eq!(p.count(), 9);
    assert!(p.reads() > 0);
    assert!(p.loads("load d.spec.toml").out.contains("nothing is new"));
    assert_eq!(p.reads(), 0);
    p.server.put("market", "out/sales-2.csv", records(900, 2));
    let status = p.loads("status d.spec.toml").out;
    assert!(
        status.contains("1 changed") && status.contains("2 loaded"),
        "{status}"
    );
}

#[test]
fn a_large_blob_comes_whole_through_faults_and_not_at_all_where_it_changes() {
    let p = place(SPEC);
    p.server
        .put("market", "out/sales-1.csv", records(1, 600_000));
    let faults = |ways: Vec<Fault>| Faults {
        per_thousand: 200,
        seed: 3,
        ways,
        ..Faults::default()
    };
    p.server.fail(faults(vec![Fault::Change]));
    let said = p.run("load d.spec.toml");
    assert_eq!(said.code, 1, "{}", said.out);
    assert!(
        said.err.contains("it changed while it was read"),
        "{}",
        said.err
    );
    assert!(
        !p.market.path("m.db").exists()
            || p.market.count("SELECT count(*) FROM sqlite_master") == 0
    );
    p.server
        .fail(faults(vec![Fault::Drop(100_000), Fault::Status(503)]));
    p.loads("load d.spec.toml");
    assert_eq!(p.count(), 600_000);
}

#[test]
fn exports_and_rejects_are_written_and_loaded_files_move() {
    let spec = SPEC.replace(
        "[columns]",
        "after_load = { move_to = \"done\", even_with_rejects = true }\n[columns]",
    ) + "[rejects]\nfolder = \"az://market/rejects\"\nmax_rejects = 9\n";
    let p = place(&spec);
    // More than one block of an upload.
    let many = records(1, 700_000) + "x,wrong\n";
    p.server.put("market", "out/sales-1.csv", many);
    let run = p.loads("load d.spec.toml --report json").json();
    let run = run["run"].as_str().unwrap();
    let kept = p
        .server
        .get("market", &format!("rejects/{run}/sales-1.csv"));
    assert_eq!(kept.unwrap(), "id,note\nx,wrong\n");
    let there = p.server.keys("market");
    assert!(there.contains(&"out/done/sales-1.csv".into()), "{there:?}");
    assert!(!there.contains(&"out/sales-1.csv".into()), "{there:?}");
    p.loads("export d.spec.toml -o az://market/back/all.csv");
    let back = p.server.get("market", "back/all.csv").unwrap();
    assert!(back == records(1, 700_000), "{} bytes", back.len());
    let over = p.run("export d.spec.toml -o az://market/back/all.csv");
    assert_ne!(over.code, 0, "{}", over.out);
    assert!(over.err.contains("--overwrite"), "{}", over.err);
}

#[test]
fn what_is_refused_is_one_clear_line_without_the_key() {
    let mut p = place(SPEC);
    p.server.put("market", "out/sales-1.csv", records(1, 3));
    let missing = p.run("load d.spec.toml az://nowhere/out/sales-1.csv");
    assert!(missing.err.contains("nowhere"), "{}", missing.err);
    p.key = "YW5vdGhlci1zZWNyZXQ=".into();
    let refused = p.run("load d.spec.toml");
    for said in [missing, refused] {
        assert_eq!(said.code, 1, "{}{}", said.out, said.err);
        assert!(said.err.lines().count() <= 3, "{}", said.err);
        assert!(!said.err.contains(&p.key), "{}", said.err);
    }
}
