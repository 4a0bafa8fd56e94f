//! Files of web servers, with all their habits.

use std::process::Command;

use barrow_test_stores::{Fault, Faults, Options, Server};

use crate::market::{Market, Said, said};

const SPEC: &str = "[columns]\nid = \"bigint\"\nnote = \"varchar(40)\"\n\
    [target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\n\
    [stores.https]\ngive_up_after = \"2 s\"\n";

struct Web {
    market: Market,
    server: Server,
}

fn web() -> Web {
    Web {
        market: Market::with(&[("d.spec.toml", SPEC.as_bytes())]),
        server: Server::start(Options::default()).unwrap(),
    }
}

fn records(from: u32, count: u32) -> String {
    let mut text = String::from("id,note\n");
    (from..from + count).for_each(|id| text += &format!("{id},note {id}\n"));
    text
}

impl Web {
    fn command(&self, path: &str) -> Command {
        let address = self.server.address();
        self.market
            .command(&format!("load d.spec.toml {address}{path}"))
    }

    fn load(&self, path: &str) -> Said {
        said(self.command(path))
    }

    fn rows(&self) -> i64 {
        self.market.count("SELECT count(*) FROM d")
    }
}

#[test]
fn a_file_is_read_in_ranges_and_known_again_by_its_tag() {
    let w = web();
    w.server.put_file("/week/sales.csv", records(1, 200_000));
    let said = w.load("/week/sales.csv");
    assert_eq!(said.code, 0, "{}", said.err);
    assert_eq!(w.rows(), 200_000);
    w.server.take_requests();
    assert!(w.load("/week/sales.csv").out.contains("nothing is new"));
    assert_eq!(
        w.server.take_requests().len(),
        1,
        "one question, and no content"
    );
    // The same content by another way is known by itself.
    assert!(
        w.load("/moved/week/sales.csv")
            .out
            .contains("nothing is new")
    );
}

#[test]
fn a_server_without_ranges_or_one_that_encodes_gives_the_same() {
    let w = web();
    w.server.put_file("/plain/a.csv", records(1, 1000));
    w.server.put_file("/gzip/b.csv", records(5000, 1000));
    for path in ["/plain/a.csv", "/gzip/b.csv"] {
        let said = w.load(path);
        assert_eq!(said.code, 0, "{path}: {}", said.err);
    }
    assert_eq!(w.rows(), 2000);
    for path in ["/plain/a.csv", "/gzip/b.csv"] {
        assert!(w.load(path).out.contains("nothing is new"), "{path}");
    }
}

#[test]
fn a_line_that_breaks_is_taken_up_again() {
    let w = web();
    w.server.put_file("/a.csv", records(1, 300_000));
    w.server
        .put_file("/plain/b.csv", records(1_000_000, 300_000));
    for (path, rows) in [("/a.csv", 300_000), ("/plain/b.csv", 600_000)] {
        w.server.fail(Faults {
            next: vec![Fault::Drop(100_000), Fault::Status(503), Fault::Drop(1_000)],
            ..Faults::default()
        });
        let said = w.load(path);
        assert_eq!(said.code, 0, "{path}: {}", said.err);
        assert_eq!(w.rows(), rows, "{path}");
    }
}

#[test]
fn a_file_that_changes_while_it_is_read_leaves_nothing() {
    let w = web();
    w.server.put_file("/a.csv", records(1, 600_000));
    w.server.fail(Faults {
        per_thousand: 30,
        ways: vec![Fault::Change],
        seed: 11,
        ..Faults::default()
    });
    let said = w.load("/a.csv");
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    assert!(
        said.err.contains("it changed while it was read"),
        "{}",
        said.err
    );
}

#[test]
fn every_failure_is_one_line_without_a_secret() {
    let w = web();
    w.server.put_file("/a.csv", records(1, 2));
    for (path, says) in [
        ("/none.csv?sig=hushhush", "there is no file"),
        ("/endless/a.csv", "redirected more than 10 times"),
    ] {
        let said = w.load(path);
        assert_eq!(said.code, 1, "{path}");
        assert!(said.err.contains(says), "{path}: {}", said.err);
        assert!(!said.err.contains("hushhush"), "{}", said.err);
    }
    w.server.fail(Faults {
        per_thousand: 1000,
        ways: vec![Fault::Status(500)],
        ..Faults::default()
    });
    let said = w.load("/a.csv");
    assert!(
        said.err.contains("the service failed (500)"),
        "{}",
        said.err
    );
    w.server.fail(Faults::default());
    // A signature stands neither in what is said nor in the ledger, and is not part of what
    // the file is known by.
    assert_eq!(w.load("/a.csv?X-Amz-Signature=hushhush&id=5").code, 0);
    let again = w.load("/a.csv?X-Amz-Signature=hush2hush&id=5");
    assert!(again.out.contains("nothing is new"), "{}", again.out);
    assert!(!again.out.contains("hush"), "{}", again.out);
    let ledger = w.market.cells("SELECT path || file_name FROM barrow_files");
    assert!(!format!("{ledger:?}").contains("hush"), "{ledger:?}");
    let drafted = w
        .market
        .run(&format!("draft {}/a.csv?sig=hushhush", w.server.address()));
    assert!(!(drafted.out + &drafted.err).contains("hush"));
}

#[test]
fn a_certificate_that_nobody_signed_is_not_trusted() {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let certified = rcgen::generate_simple_self_signed(vec!["localhost".into()]).unwrap();
    let key = rustls::pki_types::PrivateKeyDer::try_from(certified.signing_key.serialize_der());
    let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(vec![certified.cert.der().clone()], key.unwrap())
        .unwrap();
    let config = std::sync::Arc::new(config);
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let mut stream = stream;
            let mut server = rustls::ServerConnection::new(config.clone()).unwrap();
            while server.is_handshaking() && server.complete_io(&mut stream).is_ok() {}
        }
    });
    let m = Market::with(&[("d.spec.toml", SPEC.as_bytes())]);
    let said = m.run(&format!("load d.spec.toml https://localhost:{port}/a.csv"));
    assert_eq!(said.code, 1);
    assert!(said.err.contains("cannot be trusted"), "{}", said.err);
}

#[test]
fn a_proxy_of_the_usual_variables_is_used() {
    let w = web();
    w.server.put_file("/week/sales.csv", records(1, 100));
    let mut command = w
        .market
        .command("load d.spec.toml http://market.example/week/sales.csv");
    command.env("http_proxy", w.server.address());
    let said = said(command);
    assert_eq!(said.code, 0, "{}", said.err);
    assert_eq!(w.rows(), 100);
    let asked = w.server.take_requests();
    assert!(
        asked.iter().all(|line| line.contains("market.example")),
        "{asked:?}"
    );
}
