//! Records that name their fields.

use crate::market::Market;

const SPEC: &str = "[source]\nfiles = [\"d.jsonl\"]\n[records]\nlayout = \"json\"\n[columns]\n\
    id = { type = \"bigint\", required = true }\n\
    grower = { type = \"varchar(40)\", from = [\"/grower/name\", \"grower_name\"] }\n\
    kg = { type = \"decimal(38,10)\", decimal_mark = \",\", optional = true }\n\
    organic = { type = \"boolean\", true_values = [\"ja\"], false_values = [\"nein\"], optional = true }\n\
    tags = { type = \"json\", optional = true }\n\
    note = { type = \"text\", optional = true }\n\
    [target]\ndatabase = \"sqlite:m.db\"\ntable = \"d\"\ncreate = true\nwhen_inexact = \"text\"\n[rejects]\nmax_rejects = 99\n";

fn market(file: &[u8]) -> Market {
    Market::with(&[("d.spec.toml", SPEC.as_bytes()), ("d.jsonl", file)])
}

fn rows(m: &Market) -> Vec<String> {
    let cells = m.cells(
        "SELECT id || '|' || coalesce(grower, '∅') || '|' || coalesce(kg, '∅') || '|' || \
         coalesce(organic, '∅') || '|' || coalesce(tags, '∅') || '|' || coalesce(note, '∅') FROM d \
         ORDER BY id",
    );
    let text = |row: &Vec<rusqlite::types::Value>| match &row[0] {
        rusqlite::types::Value::Text(text) => text.clone(),
        other => format!("{other:?}"),
    };
    cells.iter().map(text).collect()
}

#[test]
fn each_case_a_line() {
    let cases: &[(&str, Result<&str, &str>)] = &[
        (r#"{"id":1,"grower":{"name":"Ada"}}"#, Ok("1|Ada|∅|∅|∅|∅")),
        (r#"{"grower_name":"B","id":2}"#, Ok("2|B|∅|∅|∅|∅")),
        (
            r#" { "id" : 3 , "grower" : { "name" : "A\u00e9\ud83e\udd55\n\/" } } "#,
            Ok("3|Aé🥕\n/|∅|∅|∅|∅"),
        ),
        (
            r#"{"id":4,"grower":{"name":"x"},"kg":1.50}"#,
            Ok("4|x|1.5000000000|∅|∅|∅"),
        ),
        (
            r#"{"id":5,"grower":{"name":"x"},"kg":1234567890123456789012345678.0123456789}"#,
            Ok("5|x|1234567890123456789012345678.0123456789|∅|∅|∅"),
        ),
        (
            r#"{"id":6,"grower":{"name":"x"},"kg":"7,5"}"#,
            Ok("6|x|7.5000000000|∅|∅|∅"),
        ),
        (
            r#"{"id":7,"grower":{"name":"x"},"kg":"7.5"}"#,
            Err("not-a-number"),
        ),
        (
            r#"{"id":8,"grower":{"name":"x"},"kg":25e-1}"#,
            Ok("8|x|2.5000000000|∅|∅|∅"),
        ),
        (
            r#"{"id":9,"grower":{"name":"x"},"organic":true}"#,
            Ok("9|x|∅|1|∅|∅"),
        ),
        (
            r#"{"id":10,"grower":{"name":"x"},"organic":"nein"}"#,
            Ok("10|x|∅|0|∅|∅"),
        ),
        (
            r#"{"id":11,"grower":{"name":"x"},"organic":"true"}"#,
            Err("not-a-boolean"),
        ),
        (
            r#"{"id":12,"grower":{"name":"x"},"tags":[1, {"a":"b"}]}"#,
            Ok(r#"12|x|∅|∅|[1, {"a":"b"}]|∅"#),
        ),
        (
            r#"{"id":13,"grower":{"name":"x"},"tags":"t"}"#,
            Ok(r#"13|x|∅|∅|"t"|∅"#),
        ),
        (
            r#"{"id":14,"grower":{"name":"x"},"tags":null,"note":""}"#,
            Ok("14|x|∅|∅|∅|"),
        ),
        (
            r#"{"id":15,"grower":{"name":"x"},"note":{"a":1}}"#,
            Ok(r#"15|x|∅|∅|∅|{"a":1}"#),
        ),
        (r#"{"id":16,"grower":{"name":null}}"#, Ok("16|∅|∅|∅|∅|∅")),
        (
            r#"{"id":9223372036854775807,"grower":{"name":"x"}}"#,
            Ok("9223372036854775807|x|∅|∅|∅|∅"),
        ),
        (
            r#"{"id":9223372036854775808,"grower":{"name":"x"}}"#,
            Err("out-of-range"),
        ),
        (r#"{"id":1.5,"grower":{"name":"x"}}"#, Err("too-precise")),
        (r#"{"id":null,"grower":{"name":"x"}}"#, Err("required")),
        (r#"{"grower":{"name":"x"}}"#, Err("no-such-key")),
        (r#"{"id":1}"#, Err("no-such-key")),
        (r#"{"id":1,"grower":{"name":"x"}"#, Err("not-an-object")),
        (
            r#"{"id":1,"grower":{"name":"x"}}}"#,
            Err("text-after-object"),
        ),
        (
            r#"{"id":1,"grower":{"name":"x"}} // x"#,
            Err("text-after-object"),
        ),
        (r#"{"id":1,"grower":{"name":"x"},}"#, Err("not-an-object")),
        (r#"{'id':1,"grower":{"name":"x"}}"#, Err("not-an-object")),
        (r#"{"id":01,"grower":{"name":"x"}}"#, Err("not-an-object")),
        (r#"{"id":+1,"grower":{"name":"x"}}"#, Err("not-an-object")),
        (r#"{"id":NaN,"grower":{"name":"x"}}"#, Err("not-an-object")),
        (
            "{\"id\":1,\"grower\":{\"name\":\"a\tb\"}}",
            Err("not-an-object"),
        ),
        (
            r#"{"id":1,"id":1,"grower":{"name":"x"}}"#,
            Err("doubled-key"),
        ),
        (
            r#"{"id":1,"grower":{"name":"x","name":"y"}}"#,
            Err("doubled-key"),
        ),
        (
            r#"{"id":1,"grower":{"name":"\ud800"}}"#,
            Err("lone-surrogate"),
        ),
        (r#"{"id":1,"grower":{"name":"\x"}}"#, Err("not-an-object")),
        (r#"[{"id":1}]"#, Err("not-an-object")),
        ("null", Err("not-an-object")),
        ("5", Err("not-an-object")),
    ];
    for (record, expected) in cases {
        // A line before, so that the first line says what the file is.
        let file = format!("{{\"id\":0,\"grower_name\":\"\"}}\n{record}\n");
        let m = market(file.as_bytes());
        let said = m.run("load d.spec.toml --report json");
        assert_eq!(said.code, 0, "{record}: {}{}", said.out, said.err);
        match expected {
            Ok(row) => {
                let rows = rows(&m);
                assert_eq!(rows.get(1).map(String::as_str), Some(*row), "{record}");
            }
            Err(code) => {
                let reasons = m.read(&format!("{}/reasons.jsonl", m.rejects()));
                let reasons = String::from_utf8_lossy(&reasons);
                assert!(
                    reasons.contains(&format!("\"code\":\"{code}\"")),
                    "{record}: {reasons}"
                );
                let kept = m.read(&format!("{}/d.jsonl", m.rejects()));
                assert_eq!(kept, format!("{record}\n").as_bytes(), "{record}");
            }
        }
    }
}

#[test]
fn one_a_line_in_a_sequence_or_in_an_array_is_the_same() {
    let objects = [
        r#"{"id":1,"grower_name":"a, }]"}"#,
        r#"{"id":2,"grower_name":"\"{"}"#,
        r#"{"id":"x","grower_name":"b"}"#,
        r#"{"id":3,"grower_name":"c","tags":[[1],{"a":[]}]}"#,
    ];
    let sequence: String = objects
        .iter()
        .map(|object| format!("\u{1e}{object}\n"))
        .collect();
    let utf16: Vec<u8> = format!("\u{feff}{}\n", objects.join("\n"))
        .encode_utf16()
        .flat_map(u16::to_le_bytes)
        .collect();
    let files: Vec<Vec<u8>> = vec![
        objects.join("\n").into_bytes(),
        format!("\u{feff}{}\r\n\r\n", objects.join("\r\n")).into_bytes(),
        sequence.into_bytes(),
        format!("[{}]", objects.join(",")).into_bytes(),
        format!("[\n  {}\n]\n", objects.join(",\n  ")).into_bytes(),
        utf16,
    ];
    for (number, file) in files.iter().enumerate() {
        let m = market(file);
        if number == 5 {
            let spec = SPEC.replace("[records]", "encoding = \"utf-16le\"\n[records]");
            m.write("d.spec.toml", spec.as_bytes());
        }
        let said = m.run("load d.spec.toml --report json");
        assert_eq!(said.code, 0, "{number}: {}{}", said.out, said.err);
        let json = said.json();
        assert_eq!(
            (json["records"].as_u64(), json["loaded"].as_u64()),
            (Some(4), Some(3)),
            "{number}"
        );
        assert_eq!(rows(&m)[2], "3|c|∅|∅|[[1],{\"a\":[]}]|∅", "{number}");
        // The rejects are read by the same spec, and mended.
        let run = json["run"].as_str().unwrap();
        let kept = format!("{}/d.jsonl", m.rejects());
        let text = m.read(&kept);
        let corrected: Vec<u8> = match number {
            5 => String::from_utf16_lossy(
                &text
                    .chunks(2)
                    .map(|b| u16::from_le_bytes([b[0], b[1]]))
                    .collect::<Vec<_>>(),
            )
            .replace("\"x\"", "9")
            .encode_utf16()
            .flat_map(u16::to_le_bytes)
            .collect(),
            _ => String::from_utf8_lossy(&text)
                .replace("\"x\"", "9")
                .into_bytes(),
        };
        m.write(&kept, &corrected);
        let mended = m.run(&format!("mend {run}"));
        assert_eq!(mended.code, 0, "{number}: {}{}", mended.out, mended.err);
        assert_eq!(m.count("SELECT sum(id) FROM d"), 15, "{number}");
    }
}

#[test]
fn a_key_that_nobody_names_stops_the_load_or_is_ignored() {
    let file = b"{\"id\":1,\"grower_name\":\"a\"}\n{\"id\":2,\"grower_name\":\"b\",\"more\":1}\n";
    let m = market(file);
    let said = m.run("load d.spec.toml");
    assert_eq!(said.code, 1);
    assert!(
        said.err.contains("line 2: the key \"more\""),
        "{}",
        said.err
    );
    let spec = SPEC.replace(
        "\"json\"\n[columns]",
        "\"json\"\nwhen_new_column = \"ignore\"\n[columns]",
    );
    m.write("d.spec.toml", spec.as_bytes());
    assert_eq!(m.run("load d.spec.toml").code, 0);
    assert_eq!(m.count("SELECT count(*) FROM d"), 2);
}

#[test]
fn keys_that_mean_nothing_are_told() {
    let m = market(b"{}\n");
    let spec = SPEC
        .replace("\"json\"\n", "\"json\"\nheader = \"names\"\npreamble = 1\n")
        .replace("id = { ", "id = { position = 1, ");
    m.write("d.spec.toml", spec.as_bytes());
    let said = m.run("load d.spec.toml");
    assert_eq!(said.code, 2);
    for says in [
        "[records] header",
        "[records] preamble",
        "position is for records",
    ] {
        assert!(said.err.contains(says), "{says}: {}", said.err);
    }
    let m = Market::with(&[(
        "d.spec.toml",
        b"[source]\nfiles = [\"a\"]\n[columns]\na = { type = \"text\", optional = true, from = [\"a\", \"b\"] }\n",
    )]);
    let said = m.run("load d.spec.toml");
    assert!(
        said.err.contains("optional is for layout") && said.err.contains("several names"),
        "{}",
        said.err
    );
}

#[test]
fn objects_are_drafted_by_all_of_every_file() {
    let mut file = String::new();
    for id in 1..=200 {
        file += &format!(
            "{{\"id\":{id},\"grower\":{{\"name\":\"G{id}\",\"home\":{{\"town\":\"T\"}}}},\"kg\":{id}.50,\
             \"tags\":[{id}],\"ok\":{}}}\n",
            id % 2 == 0
        );
    }
    file += "{\"id\":201,\"grower\":{\"name\":\"G\",\"home\":{\"town\":\"T\"}},\"kg\":1.25,\"tags\":[],\"ok\":true,\"/late\":\"2031-04-01\"}\n";
    let m = Market::with(&[("d.jsonl", file.as_bytes())]);
    let said = m.run("draft d.jsonl -o e.spec.toml");
    assert_eq!(said.code, 0, "{}", said.err);
    let text = String::from_utf8(m.read("e.spec.toml")).unwrap();
    for line in [
        "layout   = \"json\"",
        "id = { type = \"bigint\" }",
        "grower_name = { type = \"varchar(40)\", from = \"/grower/name\" }",
        "grower_home_town = { type = ",
        "from = \"/grower/home/town\"",
        "kg = { type = \"decimal(",
        "tags = { type = \"json\" }",
        "ok = { type = \"boolean\" }",
        "missing in 200 records",
        "from = \"/~1late\", optional = true",
    ] {
        assert!(text.contains(line), "{line}\n{text}");
    }
    let loaded = m.run("load e.spec.toml");
    assert_eq!(loaded.code, 0, "{}{}", loaded.out, loaded.err);
    assert!(loaded.out.contains("loaded    201"), "{}", loaded.out);
}

/// A table of every sort of value, out of chance.
fn table(seed: u64) -> String {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    let mut next = move |below: u64| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state % below
    };
    let words = [
        "",
        "a",
        "x,y",
        "\"q\"",
        "line\nend",
        "tab\t",
        "é🥕",
        "\u{1f}",
        "null",
        "\\",
        "/",
    ];
    let mut text = String::from("id,note,kg,ok,day\n");
    for id in 0..40 {
        let note = words[next(words.len() as u64) as usize];
        let note = match next(4) {
            0 => String::new(),
            _ => format!("\"{}\"", note.replace('"', "\"\"")),
        };
        let kg = match next(3) {
            0 => String::new(),
            _ => format!("{}.{:02}", next(1_000_000), next(100)),
        };
        let ok = ["", "true", "false"][next(3) as usize];
        text += &format!(
            "{id},{note},{kg},{ok},2031-{:02}-{:02}\n",
            1 + next(12),
            1 + next(28)
        );
    }
    text
}

#[test]
fn what_is_written_as_objects_comes_back_the_same() {
    let columns = "[columns]\nid = \"bigint\"\nnote = \"text\"\nkg = \"decimal(12,2)\"\nok = \"boolean\"\n\
        day = \"date\"\n[values]\nquoted_empty = \"text\"\n";
    let nested = "[columns]\nid = { type = \"bigint\", from = \"/key/id\", required = true }\n\
        note = { type = \"text\", from = \"/key/note\", optional = true }\n\
        kg = { type = \"decimal(12,2)\", from = \"/w/0\", optional = true }\n\
        ok = { type = \"boolean\", from = \"/w/1\", optional = true }\nday = { type = \"date\", required = true }\n";
    for seed in 1..12 {
        let csv = table(seed);
        let m = Market::with(&[
            (
                "csv.spec.toml",
                format!("[source]\nfiles = [\"d.csv\"]\n{columns}").as_bytes(),
            ),
            (
                "json.spec.toml",
                format!("[records]\nlayout = \"json\"\n{nested}").as_bytes(),
            ),
            (
                "less.spec.toml",
                format!("[records]\nlayout = \"json\"\n{nested}[export]\nnulls = \"leave_out\"\n")
                    .as_bytes(),
            ),
            ("d.csv", csv.as_bytes()),
        ]);
        let run = |words: &str| {
            let said = m.run(words);
            assert_eq!(said.code, 0, "{words} {seed}: {}{}", said.out, said.err);
        };
        run("convert csv.spec.toml --to csv.spec.toml -o plain.csv");
        for format in ["json", "less"] {
            run(&format!(
                "convert csv.spec.toml --to {format}.spec.toml -o {format}.jsonl"
            ));
            run(&format!(
                "convert {format}.spec.toml {format}.jsonl --to csv.spec.toml -o {format}.csv"
            ));
            assert_eq!(
                m.read(&format!("{format}.csv")),
                m.read("plain.csv"),
                "{format} {seed}"
            );
            run(&format!(
                "convert {format}.spec.toml {format}.jsonl --to {format}.spec.toml -o again.jsonl --overwrite"
            ));
            assert_eq!(
                m.read("again.jsonl"),
                m.read(&format!("{format}.jsonl")),
                "{format} {seed}"
            );
        }
        let less = m.read("less.jsonl");
        assert!(!String::from_utf8_lossy(&less).contains(":null"), "{seed}");
    }
}

#[test]
fn no_bytes_make_it_fall_over() {
    let good = b"{\"id\":1,\"grower\":{\"name\":\"a\\u00e9\"},\"tags\":[{\"b\":[1,2]}]}\n";
    let mut state = 7u64;
    let mut next = move |below: usize| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state % below as u64) as usize
    };
    let mut file = Vec::new();
    for number in 0..3000 {
        let mut line = good.to_vec();
        if number % 10 == 0 {
            file.extend_from_slice(&line);
        }
        for _ in 0..1 + next(3) {
            let at = next(line.len());
            match next(3) {
                0 => line[at] = next(256) as u8,
                1 => {
                    line.remove(at);
                }
                _ => line.insert(at, b"{}[]\",:\\ux0"[next(11)]),
            }
        }
        file.extend_from_slice(&line);
    }
    for start in [&b""[..], b"[", b"\x1e"] {
        let m = market(&[start, &file].concat());
        let said = m.run("load d.spec.toml --max-rejects 100000 --report json --threads 2");
        let json = said.json();
        if said.code == 0 {
            let count = |key: &str| json[key].as_u64().unwrap();
            assert_eq!(
                count("records"),
                count("loaded") + count("rejected"),
                "{json}"
            );
            // A fault in a line costs that line.
            assert!(!start.is_empty() || count("loaded") >= 300, "{json}");
        } else {
            // A key that nobody names stops it, and an array that is none.
            let says = ["the key", "its array", "the array"];
            let is_told = says.iter().any(|says| said.out.contains(says));
            assert!(is_told, "{}", said.out);
        }
    }
}

#[test]
fn record_types_are_told_by_a_key() {
    let spec = "[source]\nfiles = [\"d.jsonl\"]\n[records]\nlayout = \"json\"\n\
        when_new_column = \"ignore\"\n\
        [target]\ndatabase = \"sqlite:m.db\"\ncreate = true\n\
        [[record_type]]\nname = \"sale\"\nif = \"field('/head/kind') = 'sale'\"\ntable = \"sales\"\n\
        [record_type.columns]\nid = \"bigint\"\nkg = \"decimal(8,2)\"\n\
        [[record_type]]\nname = \"note\"\nif = \"field('/head/kind') = 'note'\"\ntable = \"notes\"\n\
        [record_type.columns]\nid = \"bigint\"\ntext = \"text\"\n";
    let file = "{\"head\":{\"kind\":\"sale\"},\"id\":1,\"kg\":2.5}\n\
        {\"id\":2,\"text\":\"t\",\"head\":{\"kind\":\"note\"}}\n\
        {\"head\":{},\"id\":3}\n{\"head\":{\"kind\":\"sale\"},\"id\":4,\"kg\":3}\n";
    let m = Market::with(&[
        ("d.spec.toml", spec.as_bytes()),
        ("d.jsonl", file.as_bytes()),
    ]);
    let said = m.run("load d.spec.toml --max-rejects 1");
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert_eq!(m.count("SELECT sum(id) FROM sales"), 5);
    assert_eq!(m.count("SELECT sum(id) FROM notes"), 2);
}
