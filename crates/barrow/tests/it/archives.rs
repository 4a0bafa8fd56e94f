//! Zips and tars: folders of files that are read where they lie.

use std::io::Write;

use barrow_test_stores::{Options, Server};

use crate::market::{Market, said};

const SPEC: &str = "[source]\nfiles = [\"week.zip\"]\n[columns]\nid = \"bigint\"\nnote = \"varchar(40)\"\n\
    [target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\n";

fn records(from: u32, count: u32) -> String {
    let mut text = String::from("id,note\n");
    (from..from + count).for_each(|id| text += &format!("{id},note {id}\n"));
    text
}

fn run_python(market: &Market, code: &str) {
    let mut python = std::process::Command::new("python3");
    python.args(["-c", code]).current_dir(market.path(""));
    let output = python.output().expect("Python");
    assert!(
        output.status.success(),
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
}

fn market() -> Market {
    Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("a/w2.csv", records(200, 20_000).as_bytes()),
        ("a/w10.csv", records(100_000, 3).as_bytes()),
        ("a/read me.txt", b"no data\n"),
    ])
}

const ADD: &str = "for n in ['a/w10.csv', 'a/w2.csv']: z.write(n)\nz.close()\n";

#[test]
fn every_way_to_pack_gives_the_same_files() {
    let python = "import zipfile, tarfile\n\
        for name, way in [('stored', 0), ('deflated', 8), ('bz', 12)]:\n\
        \x20z = zipfile.ZipFile(name + '.zip', 'w', way)\n\
        \x20for n in ['a/w10.csv', 'a/w2.csv']: z.write(n)\n\
        \x20z.close()\n\
        for end in ['tar', 'tar.gz', 'tar.bz2', 'tar.xz']:\n\
        \x20way = end.partition('.')[2]\n\
        \x20for form, mark in [(tarfile.PAX_FORMAT, 'p'), (tarfile.GNU_FORMAT, 'g'), (tarfile.USTAR_FORMAT, 'u')]:\n\
        \x20\x20with tarfile.open(mark + '.' + end, 'w:' + way, format=form) as t:\n\
        \x20\x20\x20t.add('a/w10.csv'); t.add('a/w2.csv')\n\
        z = zipfile.ZipFile('long.zip', 'w', 8, allowZip64=True)\n\
        with z.open('a/w10.csv', 'w', force_zip64=True) as f: f.write(open('a/w10.csv', 'rb').read())\n\
        with z.open('a/w2.csv', 'w', force_zip64=True) as f: f.write(open('a/w2.csv', 'rb').read())\n\
        z.close()\n";
    let m = market();
    run_python(&m, python);
    let archives = [
        "stored.zip",
        "deflated.zip",
        "bz.zip",
        "long.zip",
        "p.tar",
        "g.tar",
        "u.tar",
        "p.tar.gz",
        "g.tar.bz2",
        "u.tar.xz",
    ];
    for archive in archives {
        let said = m.run(&format!("check d.spec.toml {archive} --report json"));
        assert_eq!(said.code, 0, "{archive}: {}{}", said.out, said.err);
        let json = said.json();
        assert_eq!(json["records"], 20_003, "{archive}");
        assert_eq!(
            json["files"][0]["file"],
            format!("{archive}/a/w2.csv"),
            "{archive}"
        );
    }
    // The content is what it is, however it came: loaded once, and known ever after.
    assert_eq!(m.run("load d.spec.toml deflated.zip").code, 0);
    for archive in archives.iter().chain(&["a/w*.csv"]) {
        let again = m.run(&format!("load d.spec.toml {archive}"));
        assert!(
            again.out.contains("nothing is new"),
            "{archive}: {}{}",
            again.out,
            again.err
        );
    }
    assert_eq!(m.count("SELECT count(*) FROM d"), 20_003);
}

#[test]
fn members_are_named_as_files_are() {
    let m = market();
    run_python(
        &m,
        &format!(
            "import zipfile\nz = zipfile.ZipFile('week.zip', 'w', 8)\nz.write('a/read me.txt')\n\
         z.writestr('__MACOSX/a/._w2.csv', 'x')\n{ADD}"
        ),
    );
    let records = |words: &str| {
        let said = m.run(&format!("check d.spec.toml {words} --report json"));
        said.json()["records"]
            .as_u64()
            .unwrap_or_else(|| panic!("{}{}", said.out, said.err))
    };
    assert_eq!(records("week.zip/a/*.csv"), 20_003);
    assert_eq!(records("week.zip/a/w10.csv"), 3);
    let wrong = m.run("check d.spec.toml week.zip/a/none.csv");
    assert!(
        wrong.err.contains("week.zip has no file a/none.csv"),
        "{}",
        wrong.err
    );
    let drafted = m.run("draft week.zip/a/*.csv --table d");
    assert_eq!(drafted.code, 0, "{}", drafted.err);
    assert!(
        drafted.out.contains("files    = [\"week.zip/a/*.csv\"]"),
        "{}",
        drafted.out
    );
}

#[test]
fn an_archive_in_a_store_is_read_where_it_lies() {
    let m = market();
    run_python(
        &m,
        &format!("import zipfile\nz = zipfile.ZipFile('week.zip', 'w', 8)\n{ADD}"),
    );
    let server = Server::start(Options {
        keys: None,
        ..Options::default()
    })
    .unwrap();
    server.put("market", "in/week.zip", m.read("week.zip"));
    server.put_file("/week.zip", m.read("week.zip"));
    let load = |words: &str| {
        let mut command = m.command(&format!("load d.spec.toml {words}"));
        command
            .env("AWS_ENDPOINT_URL", server.address())
            .env("AWS_ALLOW_HTTP", "true")
            .env("AWS_SKIP_SIGNATURE", "true");
        said(command)
    };
    let first = load("s3://market/in/week.zip/a/w10.csv");
    assert_eq!(first.code, 0, "{}", first.err);
    assert_eq!(load("s3://market/in/*.zip").code, 0);
    assert_eq!(m.count("SELECT count(*) FROM d"), 20_003);
    server.take_requests();
    assert!(
        load("s3://market/in/week.zip")
            .out
            .contains("nothing is new")
    );
    assert!(
        load(&format!("{}/week.zip", server.address()))
            .out
            .contains("nothing is new")
    );
}

#[test]
fn what_cannot_be_read_says_so_and_harms_nothing() {
    let m = market();
    run_python(
        &m,
        &format!(
            "import zipfile, zlib, struct\nz = zipfile.ZipFile('week.zip', 'w', 8)\n{ADD}\
         whole = open('week.zip', 'rb').read()\n\
         def write(name, data): open(name, 'wb').write(bytes(data))\n\
         write('cut.zip', whole[:-30])\n\
         b = bytearray(whole); b[2000] ^= 0xFF; write('damaged.zip', b)\n\
         b = bytearray(whole); at = b.find(b'PK\\x01\\x02')\n\
         b[at + 8] |= 1; b[6] |= 1; write('secret.zip', b)\n\
         b = bytearray(whole); at = b.find(b'PK\\x01\\x02')\n\
         b[at + 10] = 98; b[8] = 98; write('strange.zip', b)\n\
         b = bytearray(whole); at = b.find(b'PK\\x01\\x02')\n\
         b[at + 16] ^= 1; write('sum.zip', b)\n\
         write('none.zip', b'id,note\\n1,2\\n')\n\
         z = zipfile.ZipFile('empty.zip', 'w'); z.close()\n\
         z = zipfile.ZipFile('outside.zip', 'w')\n\
         z.writestr('../../../etc/w.csv', 'id,note\\nx,y\\n')\n\
         z.writestr('/etc/..', 'id,note\\nz,y\\n')\n\
         z.close()\n\
         z = zipfile.ZipFile('bomb.zip', 'w', 8)\n\
         with z.open('b.csv', 'w') as f:\n\
         \x20for _ in range(300): f.write(bytes(1 << 20))\n\
         z.close()\n\
         open('cut.tgz', 'wb').write(b'')\n"
        ),
    );
    for (archive, says) in [
        ("cut.zip", "cannot be read as an archive"),
        ("none.zip", "cannot be read as an archive"),
        ("empty.zip", "has no file"),
        ("secret.zip", "encrypted"),
        ("strange.zip", "method"),
        ("sum.zip", "checksum"),
        ("none.tar", "there is no file"),
    ] {
        let said = m.run(&format!("load d.spec.toml {archive}"));
        assert_ne!(said.code, 0, "{archive}");
        assert!(said.err.contains(says), "{archive}: {}", said.err);
        assert!(said.err.lines().count() <= 3, "{archive}: {}", said.err);
    }
    for archive in ["damaged.zip", "bomb.zip"] {
        assert_ne!(
            m.run(&format!("load d.spec.toml {archive}")).code,
            0,
            "{archive}"
        );
    }
    assert!(
        !m.path("m.db").exists()
            || m.cells("SELECT name FROM sqlite_master WHERE name='d'")
                .is_empty()
    );
    let _ = std::fs::remove_dir_all(m.path("rejects"));
    let said = m.run("load d.spec.toml outside.zip --max-rejects 9");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    let kept = m.path(&m.rejects());
    assert!(
        kept.join("w.csv").exists() && kept.join("file").exists(),
        "{kept:?}"
    );
}

#[test]
fn a_tar_in_a_pipe_says_what_to_do() {
    let m = market();
    let mut child = m
        .command("load d.spec.toml -")
        .stdin(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .stdout(std::process::Stdio::null())
        .spawn()
        .unwrap();
    child
        .stdin
        .take()
        .unwrap()
        .write_all(b"PK\x05\x06")
        .unwrap();
    assert!(!child.wait().unwrap().success());
}
