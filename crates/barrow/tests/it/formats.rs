//! `barrow load` and `barrow peek` on packed, fixed and encoded files.

use std::io::Write;

use rusqlite::types::Value::{Integer, Real, Text};

use crate::market::Market;

const SPEC: &str = "[source]\nfiles = [\"d.csv\"]\n[columns]\nid = \"integer\"\nname = \"text\"\n\
    [target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\n[rejects]\nmax_rejects = 9\n";

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    out.write_all(bytes).unwrap();
    out.finish().unwrap()
}

fn packed(bytes: &[u8]) -> Vec<(&'static str, Vec<u8>)> {
    let (one, two) = bytes.split_at(bytes.len() / 2);
    let mut bzip2 = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::fast());
    bzip2.write_all(bytes).unwrap();
    let mut xz = liblzma::write::XzEncoder::new(Vec::new(), 1);
    xz.write_all(bytes).unwrap();
    // Without a checksum of its own, zstd cannot tell that a byte was changed.
    let mut zstd = zstd::Encoder::new(Vec::new(), 1).unwrap();
    zstd.include_checksum(true).unwrap();
    zstd.write_all(bytes).unwrap();
    vec![
        ("gzip", gzip(bytes)),
        ("gzip of several members", [gzip(one), gzip(two)].concat()),
        ("zstd", zstd.finish().unwrap()),
        ("bzip2", bzip2.finish().unwrap()),
        ("xz", xz.finish().unwrap()),
    ]
}

fn file() -> Vec<u8> {
    let mut file = String::from("id,name\n");
    for id in 0..20_000 {
        file.push_str(&format!("{id},grower {}\n", id * 7919 % 10_007));
    }
    file.into_bytes()
}

#[test]
fn packed_files_are_told_by_their_content() {
    for (packing, bytes) in packed(&file()) {
        let m = Market::with(&[("d.spec.toml", SPEC.as_bytes()), ("d.csv", &bytes)]);
        let said = m.run("load d.spec.toml");
        assert_eq!(said.code, 0, "{packing}: {}", said.err);
        assert_eq!(
            m.count("SELECT count(*) + sum(id) FROM d"),
            20_000 + 199_990_000,
            "{packing}"
        );
    }
}

#[test]
fn a_packed_file_that_is_cut_off_or_damaged_is_an_error_and_nothing_is_kept() {
    for (packing, bytes) in packed(&file()) {
        let mut damaged = bytes.clone();
        let middle = damaged.len() / 2;
        damaged[middle..middle + 40].fill(0xA5);
        for bytes in [&bytes[..middle], &damaged] {
            let m = Market::with(&[("d.spec.toml", SPEC.as_bytes()), ("d.csv", bytes)]);
            let said = m.run("load d.spec.toml");
            assert_eq!(said.code, 1, "{packing}: {}", said.out);
            assert!(
                said.err.contains("damaged or cut off after"),
                "{packing}: {}",
                said.err
            );
            assert!(
                said.err.contains("nothing of this load was committed"),
                "{}",
                said.err
            );
            assert!(!m.path("m.db").exists() || m.count("SELECT count(*) FROM sqlite_master") == 0);
        }
    }
    let spec = SPEC.replace("[columns]", "compression = \"zstd\"\n[columns]");
    let m = Market::with(&[
        ("d.spec.toml", spec.as_bytes()),
        ("d.csv", &gzip(b"id,name\n")),
    ]);
    assert!(
        m.run("load d.spec.toml")
            .err
            .contains("packed with \"gzip\"")
    );
}

#[test]
fn rejects_of_a_packed_file_are_plain_and_the_same_spec_reads_them() {
    let spec = SPEC.replace("[columns]", "compression = \"gzip\"\n[columns]");
    let bytes = gzip(b"id,name\n1,a\nx,b\n");
    let m = Market::with(&[("d.spec.toml", spec.as_bytes()), ("d.csv", &bytes)]);
    assert_eq!(m.run("load d.spec.toml").code, 0);
    let kept = format!("{}/d.csv", m.rejects());
    assert_eq!(m.read(&kept), b"id,name\nx,b\n");
    m.write(&kept, b"id,name\n2,b\n");
    let said = m.run(&format!("load d.spec.toml {kept}"));
    assert!(
        said.code == 0 && said.out.contains("it is not packed"),
        "{}",
        said.out
    );
    assert_eq!(m.count("SELECT count(*) FROM d"), 2);
}

#[test]
fn rejects_are_in_the_files_own_encoding() {
    let spec = SPEC.replace("[columns]", "encoding = \"shift_jis\"\n[columns]");
    let m = Market::with(&[
        ("d.spec.toml", spec.as_bytes()),
        ("d.csv", b"id,name\n1,\x83\x7C\nx,\x83\x65\x83\x7C\n"),
    ]);
    assert_eq!(m.run("load d.spec.toml").code, 0);
    assert_eq!(m.cells("SELECT name FROM d"), [[Text("ポ".into())]]);
    assert_eq!(
        m.read(&format!("{}/d.csv", m.rejects())),
        b"id,name\nx,\x83\x65\x83\x7C\n"
    );
}

#[test]
fn three_parts_of_which_the_second_has_its_columns_in_another_order() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("p1.csv", b"id,name\n1,a\n"),
        ("p2.csv", b"name,more,id\nb,x,2\n"),
        ("p10.csv", b"id,name\n3,c\n"),
    ]);
    let said = m.run("load d.spec.toml p*.csv");
    assert_eq!(said.code, 2, "{}", said.out);
    assert!(
        said.err.contains("not in the spec: \"more\""),
        "{}",
        said.err
    );
    let spec = SPEC.replace(
        "[columns]",
        "[records]\nwhen_new_column = \"ignore\"\n[columns]",
    );
    m.write("d.spec.toml", spec.as_bytes());
    let said = m.run("load d.spec.toml p*.csv");
    assert!(said.out.contains("does not name \"more\""), "{}", said.out);
    let row = |id, name: &str| [Integer(id), Text(name.into())];
    assert_eq!(
        m.cells("SELECT * FROM d ORDER BY rowid"),
        [row(1, "a"), row(2, "b"), row(3, "c")]
    );
}

#[test]
fn fixed_widths_load_with_their_implied_decimals() {
    let m = Market::with(&[
        ("t.spec.toml", b"[source]\nfiles = [\"t.txt\"]\n[records]\nlayout = \"fixed\"\n[columns]\n\
            id = { type = \"integer\", width = 4 }\nkg = { type = \"decimal(8,2)\", width = 6, implied_decimals = 2, sign = \"overpunched\" }\n\
            [target]\ndatabase = \"sqlite:m.db\"\ntable = \"t\"\ncreate = true\n"),
        ("t.txt", b"000100123E\n   200123N\n"),
    ]);
    assert_eq!(m.run("load t.spec.toml").code, 0);
    assert_eq!(
        m.cells("SELECT * FROM t"),
        [[Integer(1), Real(12.35)], [Integer(2), Real(-12.35)]]
    );
}

#[test]
fn peek_shows_values_nulls_and_rejects_in_their_place() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        ("d.csv", b"id,name\n1,a\nx,b\n3,\n4,\"\"\n5,e\n"),
    ]);
    let said = m.run("peek d.spec.toml --records 4");
    assert_eq!(said.code, 0, "{}", said.err);
    let lines: Vec<&str> = said.out.lines().map(str::trim).collect();
    assert!(
        lines[1].starts_with("integer") && lines[1].ends_with("text"),
        "{}",
        said.out
    );
    assert!(
        lines.contains(
            &"2  rejected, line 3: id: not a number: a whole number (integer) was expected  \"x\""
        ),
        "{}",
        said.out
    );
    assert!(
        said.out.contains('∅') && said.out.contains("\"\""),
        "{}",
        said.out
    );
    assert!(!lines.iter().any(|l| l.starts_with("5 ")), "{}", said.out);
    let json = m
        .run("peek d.spec.toml --from 3 --records 2 --report json")
        .json();
    assert_eq!(json["records"][0]["values"], serde_json::json!(["3", null]));
    assert_eq!(json["records"][1]["values"], serde_json::json!(["4", ""]));
}

#[test]
fn peek_folds_wide_tables() {
    let names: Vec<String> = (0..30).map(|i| format!("column_{i}")).collect();
    let columns: String = names.iter().map(|n| format!("{n} = \"text\"\n")).collect();
    let file = format!(
        "{}\n{}\n",
        names.join(","),
        vec!["x".repeat(50); 30].join(",")
    );
    let m = Market::with(&[
        (
            "w.spec.toml",
            format!("[source]\nfiles = [\"w.csv\"]\n[columns]\n{columns}").as_bytes(),
        ),
        ("w.csv", file.as_bytes()),
    ]);
    let mut command = m.command("peek w.spec.toml");
    command.env("COLUMNS", "80");
    let said = crate::market::said(command);
    assert!(
        said.out.lines().all(|l| l.chars().count() <= 80),
        "{}",
        said.out
    );
    assert!(said.out.contains("column_29") && said.out.contains("folded into 15 bands"));
    assert!(
        said.out.contains("30 values are cut after 30 characters"),
        "{}",
        said.out
    );
}

#[test]
fn peek_at_a_line_shows_what_is_invisible_and_what_is_wrong() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        (
            "d.csv",
            "id,name\r\n1,\"a\nb\"\r\nx\u{A0},\tb\r\n4,d".as_bytes(),
        ),
    ]);
    let said = m.run("peek d.spec.toml --at 4");
    for words in [
        "line 4: record 2",
        "x\\u{A0},\\tb\\r\\n",
        "^^^^^^^ id: not a number",
        "1       2",
    ] {
        assert!(said.out.contains(words), "{words}\n{}", said.out);
    }
    assert!(
        m.run("peek d.spec.toml --at 3")
            .out
            .contains("record 1, which starts on line 2")
    );
    assert!(
        m.run("peek d.spec.toml --at 1")
            .out
            .contains("not a record")
    );
    let beyond = m.run("peek d.spec.toml --at 99");
    assert!(
        beyond.code == 2 && beyond.err.contains("has 5 lines"),
        "{}",
        beyond.err
    );
    assert!(m.run("peek d.csv --records 2").out.contains("1,\"a\\n"));
}

#[test]
fn peek_says_where_it_stops_showing_a_very_long_line() {
    let m = Market::with(&[
        ("d.spec.toml", SPEC.as_bytes()),
        (
            "d.csv",
            format!("name,id\n{},x\n", "é".repeat(9_000)).as_bytes(),
        ),
    ]);
    let said = m.run("peek d.spec.toml --at 2");
    assert!(said.out.contains("é…"), "{}", said.out);
    assert!(
        said.out
            .contains("field 2, beyond what is shown: not a number"),
        "{}",
        said.out
    );
}

/// Text in four bytes a character.
fn in_utf32(text: &str, big: bool) -> Vec<u8> {
    let units = text.chars().map(u32::from);
    let bytes = |unit: u32| match big {
        true => unit.to_be_bytes(),
        false => unit.to_le_bytes(),
    };
    units.flat_map(bytes).collect()
}

#[test]
fn four_bytes_a_character_are_told_loaded_rejected_and_written() {
    let crops: String = (0..3_000).fold("crop,kg\n".to_string(), |text, n| {
        let kg = if n == 1_234 {
            "much".to_string()
        } else {
            n.to_string()
        };
        text + &format!("ポ\u{1F955} {n},{kg}\n")
    });
    let records = crops.lines().skip(1).map(|line| {
        let (crop, kg) = line.split_once(',').expect("two fields");
        let kg = if kg == "much" { "\"much\"" } else { kg };
        format!("{{\"crop\": \"{crop}\", \"kg\": {kg}}}\n")
    });
    let objects: String = records.collect();
    for (big, label) in [(false, "utf-32le"), (true, "utf-32be")] {
        for mark in ["", "\u{FEFF}"] {
            for (name, text) in [("crops.csv", &crops), ("crops.jsonl", &objects)] {
                let file = in_utf32(&format!("{mark}{text}"), big);
                let m = Market::with(&[(name, &file)]);
                let draft = m.run(&format!("draft {name} -o c.spec.toml --table crops"));
                assert_eq!(draft.code, 0, "{}{}", draft.out, draft.err);
                let spec = String::from_utf8_lossy(&m.read("c.spec.toml")).into_owned();
                assert!(spec.contains(label), "{label} {mark:?}: {spec}");
                // The one value that is no number.
                let mut typed: String = spec
                    .lines()
                    .map(|line| match line.starts_with("kg = ") {
                        true => "kg = \"integer\"\n".to_string(),
                        false => format!("{line}\n"),
                    })
                    .collect();
                typed = typed.replace("sqlite:crops.db", "sqlite:m.db");
                m.write("c.spec.toml", typed.as_bytes());
                let load = m.run("load c.spec.toml --max-rejects 1");
                assert_eq!(load.code, 0, "{name} {label}: {}{}", load.out, load.err);
                assert_eq!(m.count("SELECT count(*) FROM crops"), 2_999);
                let last =
                    "SELECT count(*) FROM crops WHERE crop = 'ポ\u{1F955} 2999' AND kg = 2999";
                assert_eq!(m.count(last), 1);
                // Rejects are the file's own bytes, under its mark.
                let line = text.lines().find(|line| line.contains("much")).expect("it");
                let kept = m.read(&format!("{}/{name}", m.rejects()));
                let raw = in_utf32(&format!("{line}\n"), big);
                assert!(kept.ends_with(&raw), "{name} {label}");
                let export = m.run("export c.spec.toml -o out.csv");
                assert_eq!(export.code, 0, "{}", export.err);
                let line = text
                    .lines()
                    .nth(10)
                    .expect("a line")
                    .replace(": ", ":")
                    .replace(", ", ",");
                let raw = in_utf32(&format!("{line}\n"), big);
                let out = m.read("out.csv");
                assert!(
                    out.windows(raw.len()).any(|piece| piece == raw),
                    "{name} {label} {line}"
                );
            }
        }
    }
    let m = Market::with(&[("c.csv", b"a\n1\n")]);
    m.write("c.spec.toml", b"[source]\nfiles = [\"c.csv\"]\nencoding = \"utf-32\"\n[records]\nlayout = \"fixed\"\n[fixed]\nmeasure = \"bytes\"\n[columns]\na = { type = \"text\", start = 1, width = 4 }\n");
    let bytes = m.run("check c.spec.toml");
    assert!(
        bytes.code == 2 && bytes.err.contains("cannot be cut by bytes"),
        "{}",
        bytes.err
    );
}
