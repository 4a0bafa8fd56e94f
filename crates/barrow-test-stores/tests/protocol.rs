//! The store, asked as any client asks: by HTTP, in plain bytes.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use barrow_test_stores::{Fault, Faults, Options, Server};

fn open() -> Server {
    Server::start(Options {
        keys: None,
        ..Options::default()
    })
    .unwrap()
}

/// The status, the headers in small letters, and the body.
fn ask(server: &Server, line: &str, headers: &str, body: &str) -> (u16, String, Vec<u8>) {
    let host = server.address();
    let host = host.trim_start_matches("http://");
    let mut stream = TcpStream::connect(host).unwrap();
    let length = body.len();
    write!(
        stream,
        "{line} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\nContent-Length: {length}\r\n{headers}\r\n{body}"
    )
    .unwrap();
    let mut answer = Vec::new();
    // A line that is cut ends with an error.
    let _ = stream.read_to_end(&mut answer);
    let end = answer
        .windows(4)
        .position(|four| four == b"\r\n\r\n")
        .unwrap_or(answer.len());
    let head = String::from_utf8_lossy(&answer[..end]).to_lowercase();
    let status = head
        .split_whitespace()
        .nth(1)
        .and_then(|word| word.parse().ok());
    let body = answer.get(end + 4..).unwrap_or_default().to_vec();
    (status.unwrap_or(0), head, body)
}

fn text(body: &[u8]) -> String {
    String::from_utf8_lossy(body).into_owned()
}

fn header(head: &str, name: &str) -> String {
    let line = head
        .lines()
        .find_map(|line| line.strip_prefix(&format!("{name}: ")));
    line.unwrap_or_default().to_string()
}

#[test]
fn ranges_and_conditions_are_those_of_http() {
    let server = open();
    server.put("market", "a b.csv", "0123456789");
    let get = |headers: &str| ask(&server, "GET /market/a%20b.csv", headers, "");
    let (status, head, body) = get("");
    assert_eq!((status, text(&body).as_str()), (200, "0123456789"));
    let tag = header(&head, "etag");
    let modified = header(&head, "last-modified");
    for (headers, status, body) in [
        ("Range: bytes=2-4\r\n".to_string(), 206, "234"),
        ("Range: bytes=8-\r\n".into(), 206, "89"),
        ("Range: bytes=-3\r\n".into(), 206, "789"),
        ("Range: bytes=5-99\r\n".into(), 206, "56789"),
        ("Range: bytes=10-\r\n".into(), 416, ""),
        (format!("If-Match: {tag}\r\n"), 200, "0123456789"),
        ("If-Match: \"other\"\r\n".into(), 412, ""),
        (format!("If-None-Match: {tag}\r\n"), 304, ""),
        (
            format!("If-Unmodified-Since: {modified}\r\n"),
            200,
            "0123456789",
        ),
        (
            "If-Unmodified-Since: mon, 01 jan 2001 00:00:00 gmt\r\n".into(),
            412,
            "",
        ),
    ] {
        let found = get(&headers);
        assert_eq!(
            (found.0, text(&found.2).as_str()),
            (status, body),
            "{headers}"
        );
    }
    assert_eq!(
        header(&get("Range: bytes=2-4\r\n").1, "content-range"),
        "bytes 2-4/10"
    );
    let head = ask(&server, "HEAD /market/a%20b.csv", "", "");
    assert_eq!(
        (head.0, header(&head.1, "content-length").as_str()),
        (200, "10")
    );
    assert!(head.2.is_empty());
}

#[test]
fn objects_are_listed_in_pages_and_by_folders() {
    let server = open();
    for key in ["a/1", "a/2", "a/3", "b&c", "d/e/f"] {
        server.put("market", key, "x");
    }
    let list =
        |query: &str| text(&ask(&server, &format!("GET /market?list-type=2{query}"), "", "").2);
    let keys = |text: &str| -> Vec<String> {
        text.split("<Key>")
            .skip(1)
            .map(|rest| rest.split('<').next().unwrap().into())
            .collect()
    };
    assert_eq!(keys(&list("")), ["a/1", "a/2", "a/3", "b&amp;c", "d/e/f"]);
    let first = list("&prefix=a/&max-keys=2");
    assert_eq!(keys(&first), ["a/1", "a/2"]);
    assert!(first.contains("<IsTruncated>true"));
    let token = first
        .split("<NextContinuationToken>")
        .nth(1)
        .unwrap()
        .split('<')
        .next()
        .unwrap();
    let second = list(&format!("&prefix=a/&continuation-token={token}"));
    assert_eq!(keys(&second), ["a/3"]);
    assert!(second.contains("<IsTruncated>false"));
    let folders = list("&delimiter=/");
    assert_eq!(keys(&folders), ["b&amp;c"]);
    assert!(folders.contains("<Prefix>a/</Prefix>") && folders.contains("<Prefix>d/</Prefix>"));
    assert_eq!(ask(&server, "GET /none?list-type=2", "", "").0, 404);
}

#[test]
fn uploads_are_put_together_and_objects_copied_and_deleted() {
    let server = open();
    server.put("market", "old", "x");
    let (_, _, begun) = ask(&server, "POST /market/new?uploads", "", "");
    let begun = text(&begun);
    let id = begun
        .split("<UploadId>")
        .nth(1)
        .unwrap()
        .split('<')
        .next()
        .unwrap()
        .to_string();
    let mut parts = String::new();
    for (number, body) in [(1, "first,"), (2, "second")] {
        let line = format!("PUT /market/new?partNumber={number}&uploadId={id}");
        let (status, head, _) = ask(&server, &line, "", body);
        assert_eq!(status, 200);
        let tag = header(&head, "etag");
        parts += &format!("<Part><PartNumber>{number}</PartNumber><ETag>{tag}</ETag></Part>");
    }
    assert!(server.get("market", "new").is_none());
    let complete = format!("POST /market/new?uploadId={id}");
    let wrong = parts.replace("<PartNumber>2", "<PartNumber>3");
    assert_eq!(ask(&server, &complete, "", &wrong).0, 400);
    assert_eq!(ask(&server, &complete, "", &parts).0, 200);
    assert_eq!(server.get("market", "new").unwrap(), "first,second");
    assert_eq!(ask(&server, &complete, "", &parts).0, 404);
    assert_eq!(server.open_uploads(), 0);
    let copied = ask(
        &server,
        "PUT /market/copy",
        "x-amz-copy-source: /market/new\r\n",
        "",
    );
    assert_eq!(copied.0, 200);
    assert_eq!(server.get("market", "copy").unwrap(), "first,second");
    assert_eq!(
        ask(&server, "PUT /market/copy", "if-none-match: *\r\n", "z").0,
        412
    );
    assert_eq!(ask(&server, "DELETE /market/copy", "", "").0, 204);
    let many = "<Delete><Object><Key>new</Key></Object><Object><Key>old</Key></Object></Delete>";
    assert_eq!(ask(&server, "POST /market?delete", "", many).0, 200);
    assert!(server.keys("market").is_empty());
}

#[test]
fn what_is_not_signed_is_refused_and_failures_come_on_demand() {
    let signed = Server::start(Options::default()).unwrap();
    signed.put("market", "a", "x");
    let refused = ask(&signed, "GET /market/a", "", "");
    assert_eq!(refused.0, 403);
    assert!(text(&refused.2).contains("<Code>AccessDenied</Code>"));
    let server = open();
    server.put("market", "a", "0123456789".repeat(1000));
    let fail = |fault: Fault| {
        server.fail(Faults {
            next: vec![fault],
            ..Faults::default()
        });
        ask(&server, "GET /market/a", "", "")
    };
    assert_eq!(fail(Fault::Status(503)).0, 503);
    assert_eq!(fail(Fault::Drop(10)).2, b"0123456789");
    let before = header(&ask(&server, "GET /market/a", "", "").1, "etag");
    let changed = fail(Fault::Change);
    assert_ne!(header(&changed.1, "etag"), before);
    server.fail(Faults {
        delay: Duration::from_millis(80),
        ..Faults::default()
    });
    let clock = Instant::now();
    ask(&server, "GET /market/a", "", "");
    assert!(clock.elapsed() >= Duration::from_millis(80));
}

#[test]
fn a_folder_is_taken_in_and_web_servers_have_their_habits() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir_all(folder.path().join("market/out")).unwrap();
    std::fs::write(folder.path().join("market/out/w.csv"), "x\n").unwrap();
    let server = Server::start(Options {
        keys: None,
        folder: Some(folder.path().to_path_buf()),
        ..Options::default()
    })
    .unwrap();
    assert_eq!(server.get("market", "out/w.csv").unwrap(), "x\n");
    for path in ["/w.csv", "/plain/w.csv", "/gzip/w.csv"] {
        server.put_file(path, "0123456789");
    }
    let ranged = ask(&server, "GET /w.csv", "Range: bytes=0-1\r\n", "");
    assert_eq!((ranged.0, ranged.2.as_slice()), (206, &b"01"[..]));
    let plain = ask(&server, "GET /plain/w.csv", "Range: bytes=0-1\r\n", "");
    assert_eq!((plain.0, plain.2.as_slice()), (200, &b"0123456789"[..]));
    let gzip = ask(&server, "GET /gzip/w.csv", "", "");
    assert_eq!(header(&gzip.1, "content-encoding"), "gzip");
    assert!(gzip.2.starts_with(b"\x1f\x8b"));
    let moved = ask(&server, "GET /moved/w.csv", "", "");
    assert_eq!(
        (moved.0, header(&moved.1, "location").as_str()),
        (302, "/w.csv")
    );
    assert_eq!(ask(&server, "GET /endless/w.csv", "", "").0, 302);
    assert_eq!(ask(&server, "GET /none.csv", "", "").0, 404);
}
