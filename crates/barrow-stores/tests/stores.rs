//! Stores and web servers as sources, against the project's own store.

use std::io::{Read, Write};
use std::path::Path;
use std::time::Duration;

use barrow_core::plan::StorePlan;
use barrow_core::source::content::sample_of;
use barrow_core::source::{Elsewhere, SourceFile};
use barrow_stores::Stores;
use barrow_test_stores::{Fault, Faults, Keys, Options, Server};

fn server() -> Server {
    Server::start(Options::default()).unwrap()
}

fn stores(server: &Server) -> Stores {
    let keys = Keys::default();
    let plan = |name: &str| StorePlan {
        name: name.into(),
        endpoint: Some(server.address()),
        region: Some(keys.region.clone()),
        allow_http: true,
        access_key: Some(keys.id.clone()),
        secret_key: Some(keys.secret.clone()),
        give_up_after: Some(Duration::from_millis(1500)),
        ..StorePlan::default()
    };
    Stores::new(&[plan("s3"), plan("https")], &|_| None).unwrap()
}

fn names(found: &[SourceFile]) -> Vec<String> {
    found.iter().map(|file| file.name()).collect()
}

fn content(file: &SourceFile) -> Vec<u8> {
    let mut bytes = Vec::new();
    file.open().unwrap().read_to_end(&mut bytes).unwrap();
    bytes
}

fn fault(stores: &Stores, address: &str) -> String {
    stores.find(address).unwrap_err().to_string()
}

#[test]
fn names_globs_and_beginnings_mean_their_objects() {
    let server = server();
    for key in [
        "out/w-2.csv",
        "out/w-10.csv",
        "out/w-1.csv.bak",
        "out/deep/w-3.csv",
        "out/odd[1].csv",
        "out/odd1.csv",
        "out/",
        "top.csv",
    ] {
        server.put("market", key, if key.ends_with('/') { "" } else { "x" });
    }
    let stores = stores(&server);
    let found = |address: &str| -> Vec<String> {
        let all = names(&stores.find(&format!("s3://market/{address}")).unwrap());
        let own = |name: &String| name.trim_start_matches("s3://market/").to_string();
        all.iter().map(own).collect()
    };
    assert_eq!(found("top.csv"), ["top.csv"]);
    assert_eq!(found("out/w-*.csv"), ["out/w-2.csv", "out/w-10.csv"]);
    assert_eq!(found("out/*/w-?.csv"), ["out/deep/w-3.csv"]);
    assert_eq!(
        found("out/w-"),
        ["out/w-1.csv.bak", "out/w-2.csv", "out/w-10.csv"]
    );
    assert_eq!(found("out/deep/"), ["out/deep/w-3.csv"]);
    assert_eq!(found("out/odd[1].csv"), ["out/odd[1].csv"]);
    assert_eq!(found("out/odd[0-9].csv"), ["out/odd1.csv"]);
    assert_eq!(found("").len(), 7, "what stands for a folder is none");
    assert!(fault(&stores, "s3://market/out/w-1.csv").contains("w-1.csv.bak is there"));
    assert!(fault(&stores, "s3://market/out/deep").contains("s3://market/out/deep/)"));
    assert!(fault(&stores, "s3://market/none-*").contains("there is no file"));
    assert!(fault(&stores, "s3://none/w.csv").contains("there is no bucket none"));
}

#[test]
fn more_objects_than_a_page_has_are_all_found() {
    let server = server();
    for number in 0..2500 {
        server.put("market", &format!("p/{number}"), "x");
    }
    let found = stores(&server).find("s3://market/p/").unwrap();
    assert_eq!(found.len(), 2500);
    assert_eq!(found[10].name(), "s3://market/p/10");
    let asked = server.take_requests();
    assert_eq!(asked.len(), 3, "{asked:?}");
}

#[test]
fn an_object_says_what_it_is_and_is_read_from_any_place() {
    let server = server();
    let bytes: Vec<u8> = (0..9_000_000u32).map(|n| (n / 3) as u8).collect();
    server.put("market", "out/Größe 1.csv", bytes.clone());
    let stores = stores(&server);
    let file = stores
        .find("s3://market/out/Größe 1.csv")
        .unwrap()
        .remove(0);
    assert_eq!(file.size(), Some(bytes.len() as u64));
    assert_eq!(file.file_name().to_str(), Some("Größe 1.csv"));
    assert_eq!(
        file.identity().to_str(),
        Some("s3://market/out/Größe 1.csv")
    );
    assert!(file.modified().is_some() && file.version().is_some() && file.exists());
    assert!(content(&file) == bytes);
    for from in [0, 1, 4 << 20, 8_999_999, 9_000_000, 9_000_001] {
        let mut rest = Vec::new();
        file.open_at(from).unwrap().read_to_end(&mut rest).unwrap();
        assert!(rest == bytes[(from as usize).min(bytes.len())..], "{from}");
    }
    // The sample is that of a file of this machine.
    let own = sample_of(&bytes[..], bytes.len() as u64).unwrap();
    assert_eq!(file.fingerprint().unwrap(), Some(own.clone()));
    assert!(file.is_still(&own).unwrap());
    server.put("market", "out/Größe 1.csv", "other");
    assert!(!file.is_still(&own).unwrap());
    let error = file.open().unwrap().read(&mut [0; 9]).unwrap_err();
    assert_eq!(error.to_string(), "it changed while it was read");
}

#[test]
fn an_object_moves_within_its_bucket_and_takes_nobodys_place() {
    let server = server();
    let stores = stores(&server);
    for (text, folder, expected) in [
        ("1", "done", "s3://market/in/done/w.csv"),
        ("2", "done", "s3://market/in/done/w-2.csv"),
        ("3", "s3://market/old/", "s3://market/old/w.csv"),
        ("4", "s3://market", "s3://market/w.csv"),
    ] {
        server.put("market", "in/w.csv", text);
        let file = stores.find("s3://market/in/w.csv").unwrap().remove(0);
        assert_eq!(file.move_to(folder, Path::new("")).unwrap(), expected);
        let key = expected.trim_start_matches("s3://market/");
        assert_eq!(server.get("market", key).unwrap(), text);
        assert!(server.get("market", "in/w.csv").is_none());
    }
    server.put("market", "in/w.csv", "5");
    let file = stores.find("s3://market/in/w.csv").unwrap().remove(0);
    let error = file.move_to("s3://other/done", Path::new("")).unwrap_err();
    assert!(
        error.to_string().contains("within its own bucket"),
        "{error}"
    );
    file.delete().unwrap();
    assert!(!file.exists());
}

#[test]
fn an_upload_is_whole_or_not_there() {
    let server = server();
    server.put("market", "there", "x");
    let stores = stores(&server);
    let large: Vec<u8> = (0..20_000_000u32).map(|n| (n * 7) as u8).collect();
    for (key, bytes) in [("small", &b"a few"[..]), ("none", b""), ("large", &large)] {
        let mut upload = stores.upload(&format!("s3://market/{key}")).unwrap();
        for piece in bytes.chunks(777_777) {
            upload.write_all(piece).unwrap();
            assert!(
                server.get("market", key).is_none(),
                "{key} is seen too soon"
            );
        }
        upload.finish().unwrap();
        assert!(server.get("market", key).unwrap() == bytes, "{key}");
    }
    let mut upload = stores.upload("s3://market/given-up").unwrap();
    upload.write_all(&large).unwrap();
    drop(upload);
    assert!(server.get("market", "given-up").is_none());
    assert_eq!(server.open_uploads(), 0);
    // A part that is refused is tried again.
    server.fail(Faults {
        next: vec![Fault::Status(503), Fault::Status(500)],
        ..Faults::default()
    });
    let mut upload = stores.upload("s3://market/again").unwrap();
    upload.write_all(&large).unwrap();
    upload.settle().unwrap();
    upload.finish().unwrap();
    assert!(server.get("market", "again").unwrap() == large);
    assert!(stores.exists("s3://market/again").unwrap());
    stores.delete("s3://market/again").unwrap();
    stores.delete("s3://market/again").unwrap();
    assert!(!stores.exists("s3://market/again").unwrap());
    for address in ["s3://market/", "s3://market/a/", "https://market.example/a"] {
        assert!(stores.upload(address).is_err(), "{address}");
    }
}

#[test]
fn what_is_given_up_says_why() {
    let server = server();
    server.put("market", "w.csv", "x\n");
    let stores = stores(&server);
    let file = stores.find("s3://market/w.csv").unwrap().remove(0);
    for (faults, says) in [
        (
            vec![Fault::Status(503)],
            "the service is too busy (503 SlowDown): ask less often",
        ),
        (
            vec![Fault::Status(500)],
            "the service failed (500 InternalError): try again",
        ),
        (vec![Fault::Stall(0)], "nothing came for 0.5 s"),
        (
            vec![Fault::Status(403)],
            "access is denied (403 InternalError): try again",
        ),
    ] {
        server.fail(Faults {
            per_thousand: 1000,
            ways: faults,
            ..Faults::default()
        });
        let error = file.open().unwrap().read(&mut [0; 2]).unwrap_err();
        assert_eq!(error.to_string(), says);
    }
}

#[test]
fn a_web_file_is_read_by_ranges_or_from_a_copy() {
    let server = server();
    let bytes: Vec<u8> = (0..5_000_000u32).map(|n| (n / 5) as u8).collect();
    let stores = stores(&server);
    let own = sample_of(&bytes[..], bytes.len() as u64).unwrap();
    for path in ["/a/w%201.csv", "/plain/w 1.csv", "/gzip/w 1.csv"] {
        server.put_file(&path.replace("%20", " "), bytes.clone());
        let address = format!("{}{}", server.address(), path.replace(' ', "%20"));
        let file = stores.find(&address).unwrap().remove(0);
        assert!(content(&file) == bytes, "{path}");
        assert_eq!(file.file_name().to_str(), Some("w 1.csv"), "{path}");
        assert_eq!(file.fingerprint().unwrap(), Some(own.clone()), "{path}");
        assert!(
            file.modified().is_some() && file.version().is_some(),
            "{path}"
        );
        let mut rest = Vec::new();
        file.open_at(4_999_990)
            .unwrap()
            .read_to_end(&mut rest)
            .unwrap();
        assert!(rest == bytes[4_999_990..], "{path}");
        assert!(file.delete().is_err());
    }
    server.put_file("/none.csv", "");
    let empty = stores
        .find(&format!("{}/none.csv", server.address()))
        .unwrap()
        .remove(0);
    assert_eq!(content(&empty), b"");
}

#[test]
fn a_key_that_the_client_would_name_otherwise_is_refused_and_no_other_is_read() {
    let server = server();
    server.put("market", "b.csv", "the other one");
    server.put("market", "in/b.csv", "another");
    let stores = stores(&server);
    for address in [
        "s3://market//b.csv",
        "s3://market/in//b.csv",
        "s3://market/in/./b.csv",
        "s3://market/in/../b.csv",
        "s3://market//b*.csv",
    ] {
        let told = stores.find(address).map(|found| names(&found));
        assert!(
            !matches!(&told, Ok(found) if !found.is_empty()),
            "{address}: {told:?}"
        );
    }
    assert_eq!(
        content(&stores.find("s3://market/b.csv").unwrap()[0]),
        b"the other one"
    );
}

/// A web server that gives ranges of a file of which half is rewritten after some requests,
/// and that has these validators. It stops with the test.
fn changing(validator: &'static str, size: usize) -> String {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}/w.csv", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        let mut bodies = 0;
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { return };
            let mut request = Vec::new();
            let mut byte = [0];
            while !request.ends_with(b"\r\n\r\n") {
                match stream.read(&mut byte) {
                    Ok(1) => request.push(byte[0]),
                    _ => break,
                }
            }
            let request = String::from_utf8_lossy(&request).to_ascii_lowercase();
            // After its second answer with bytes, the file is another one of the same size.
            let file = vec![if bodies < 2 { b'a' } else { b'b' }; size];
            let range = request
                .lines()
                .find_map(|line| line.strip_prefix("range: bytes="));
            let (from, to) = match range.and_then(|range| range.split_once('-')) {
                Some((from, to)) => (
                    from.parse().unwrap(),
                    to.trim().parse::<usize>().unwrap().min(size - 1) + 1,
                ),
                None => (0, size),
            };
            let status = match range {
                Some(_) => format!(
                    "206 Partial Content\r\nContent-Range: bytes {from}-{}/{size}",
                    to - 1
                ),
                None => "200 OK".into(),
            };
            let head = format!(
                "HTTP/1.1 {status}\r\nContent-Length: {}\r\nAccept-Ranges: bytes\r\n{validator}Connection: close\r\n\r\n",
                to - from
            );
            let _ = stream.write_all(head.as_bytes());
            if !request.starts_with("head") {
                bodies += 1;
                let _ = stream.write_all(&file[from..to]);
            }
        }
    });
    address
}

#[test]
fn two_versions_of_a_web_file_are_never_mixed() {
    for validator in [
        "",
        "ETag: W/\"1\"\r\n",
        "Last-Modified: Wed, 02 Apr 2031 10:00:00 GMT\r\n",
    ] {
        let address = changing(validator, 9 << 20);
        let server = server();
        let stores = stores(&server);
        let file = &stores.find(&address).unwrap()[0];
        for _ in 0..2 {
            let read = content(file);
            assert_eq!(read.len(), 9 << 20);
            let first = read[0];
            assert!(
                read.iter().all(|byte| *byte == first),
                "{validator:?}: two versions"
            );
        }
    }
}
