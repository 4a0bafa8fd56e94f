//! Encodings, fixed widths, joins, preambles: a case a test.

mod common;

use barrow_core::Error;
use barrow_core::source::Charset;
use common::{plan, read, try_read};

const AB: &str = "[columns]\na = \"text\"\nb = \"text\"\n";

fn source(keys: &str, rest: &str) -> String {
    format!("[source]\n{keys}\n{rest}")
}

#[test]
fn single_bytes_are_split_as_they_are_and_decoded_field_by_field() {
    let spec = source(
        "encoding = \"windows-1252\"",
        "[delimited]\ndelimiter = \"þ\"\nquote = \"\"\n[columns]\na = { type = \"varchar(3)\", null_values = [\"né\"] }\nb = { type = \"text\", from = \"Größe\" }\n",
    );
    let out = read(&spec, b"a\xFEGr\xF6\xDFe\nZo\xEB\xFE\x80 5\nn\xE9\xFEx\n");
    assert_eq!(out.cells(), [["Zoë", "€ 5"], ["NULL", "x"]]);
    assert_eq!(out.rows[1].2, 16);
}

#[test]
fn a_second_byte_that_looks_like_the_delimiter_does_not_split() {
    // ポ is 83 7C in Shift_JIS, and 7C is the delimiter.
    let spec = source(
        "encoding = \"shift_jis\"",
        "[delimited]\ndelimiter = \"|\"\n[columns]\na = \"text\"\nb = \"integer\"\n",
    );
    for size in [1, 5, 64, 4096] {
        let bytes = b"a|b\n\x83\x7C|1\nx\x83\x7C\x83\x7C|y\nz|3\n";
        let out = try_read(&spec, bytes, size).unwrap();
        assert_eq!(out.cells(), [["ポ", "1"], ["z", "3"]]);
        assert_eq!(out.rejects[0].raw, b"x\x83\x7C\x83\x7C|y\n");
        let reason = &out.rejects[0].reasons[0];
        assert_eq!(
            (out.rejects[0].offset, out.rejects[0].line, reason.offset),
            (9, 3, 15)
        );
    }
}

#[test]
fn utf16_with_a_byte_order_mark_over_many_blocks_keeps_its_places() {
    let text: String = (0..3_000)
        .map(|i| {
            if i % 100 == 7 {
                format!("{i},\"ö\n{i}\",x\r\n")
            } else {
                format!("{i},é{i},1\r\n")
            }
        })
        .collect();
    let bytes: Vec<u8> = std::iter::once(0xFEFFu16)
        .chain("id,t,n\r\n".encode_utf16())
        .chain(text.encode_utf16())
        .flat_map(u16::to_le_bytes)
        .collect();
    let spec = source(
        "encoding = \"utf-16le\"",
        "[columns]\nid = \"integer\"\nt = \"text\"\nn = \"integer\"\n",
    );
    let out = try_read(&spec, &bytes, 1000).unwrap();
    assert_eq!((out.rows.len(), out.rejects.len()), (2_970, 30));
    for reject in &out.rejects {
        let at = reject.offset as usize;
        assert_eq!(reject.raw, bytes[at..at + reject.raw.len()]);
        let before: Vec<u16> = bytes[2..at]
            .chunks(2)
            .map(|c| u16::from_le_bytes([c[0], c[1]]))
            .collect();
        let before = String::from_utf16(&before).unwrap();
        assert_eq!(reject.line as usize, before.matches('\n').count() + 1);
    }
    assert_eq!(out.lead[..2], [0xFF, 0xFE]);
    let auto = try_read(&spec.replace("utf-16le", "auto"), &bytes, 1000).unwrap();
    assert_eq!(auto.rows, out.rows);
    assert!(auto.tally.files[0].notes[0].contains("byte order mark"));
}

#[test]
fn the_content_decides_where_the_spec_leaves_it_to_it() {
    let spec = source("encoding = \"auto\"", AB);
    for (bytes, wanted, why) in [
        ("a,b\nZoë,1\n".as_bytes().to_vec(), "Zoë", "valid UTF-8"),
        (
            b"a,b\nZo\xEB,1\nCaf\xE9 M\xFCller,d\xE9j\xE0 vu\n".to_vec(),
            "Zoë",
            "windows-1252",
        ),
        (
            "a,b\nZoe,1\n"
                .encode_utf16()
                .flat_map(u16::to_be_bytes)
                .collect(),
            "Zoe",
            "UTF-16BE",
        ),
    ] {
        let out = read(&spec, &bytes);
        assert_eq!(out.rows[0].3[0], wanted);
        assert!(
            out.tally.files[0].notes[0].contains(why),
            "{:?}",
            out.tally.files[0].notes
        );
    }
}

#[test]
fn undecodable_bytes_by_each_policy() {
    let bytes = b"a,b\nx\xFF,1\ny,2\n";
    let by = |policy: &str| {
        let stand_in = if policy == "replace" {
            "replacement = \"?\""
        } else {
            ""
        };
        source(&format!("when_undecodable = \"{policy}\"\n{stand_in}"), AB)
    };
    let out = read(&by("reject"), bytes);
    assert_eq!(out.reasons(), [(2, vec!["bad-bytes"])]);
    assert_eq!(out.rejects[0].reasons[0].value.as_deref(), Some("x\\xFF"));
    let out = read(&by("null"), bytes);
    assert_eq!((out.cells()[0][0], out.tally.repairs.all()), ("NULL", 1));
    let out = read(&by("replace"), bytes);
    assert_eq!((out.cells()[0][0], out.tally.repairs.all()), ("x?", 1));
    let error = try_read(&by("stop"), bytes, 100).err().unwrap();
    assert!(
        matches!(&error, Error::Undecodable { line: 2, .. }),
        "{error}"
    );
    let out = read(
        &by("replace").replace("[source]", "[source]\nencoding = \"shift_jis\""),
        bytes,
    );
    assert_eq!(out.cells()[0][0], "x?");
}

#[test]
fn another_encoding_than_the_spec_says_is_hinted_at_or_an_error() {
    let spec = source("encoding = \"windows-1252\"", AB);
    let out = read(&spec, "a,b\nZoë,1\n");
    assert!(out.tally.files[0].notes[0].contains("valid UTF-8"));
    let error = try_read(AB, b"\xFF\xFEa\0,\0b\0\n\0", 100).err().unwrap();
    assert!(
        error.to_string().contains("byte order mark of UTF-16LE"),
        "{error}"
    );
}

#[test]
fn fixed_widths_in_sequence_with_gaps_and_in_characters() {
    let spec = "[records]\nlayout = \"fixed\"\n[columns]\na = { type = \"text\", width = 3 }\nb = { type = \"integer\", width = 4 }\nc = { type = \"text\", start = 10, width = 2 }\n";
    let out = read(spec, "abc  12..xy\nZoë 007..éé\n     12..zz\n");
    assert_eq!(
        out.cells(),
        [
            ["abc", "12", "NULL"],
            ["Zoë", "7", "NULL"],
            ["NULL", "12", "NULL"]
        ]
        .map(|r| [
            r[0],
            r[1],
            ["xy", "éé", "zz"][if r[0] == "abc" {
                0
            } else if r[0] == "Zoë" {
                1
            } else {
                2
            }]
        ])
    );
    let out = read(spec, "abc  12..x\nabc  12..xyz\nabc  1\nabc\n");
    assert_eq!(
        out.reasons().iter().map(|r| r.1[0]).collect::<Vec<_>>(),
        [
            "record-too-short",
            "record-too-wide",
            "record-too-short",
            "record-too-short"
        ]
    );
    let lax = spec.replace(
        "[columns]",
        "when_short = \"null\"\nwhen_long = \"drop\"\n[columns]",
    );
    let out = read(&lax, "abc  12..x\nabc  12..xyz\nabc  1\nabc\n");
    assert_eq!(
        out.cells(),
        [
            ["abc", "12", "x"],
            ["abc", "12", "xy"],
            ["abc", "NULL", "NULL"]
        ]
    );
    assert_eq!(
        out.reasons(),
        [(3, vec!["record-too-short"])],
        "a number cut short is another number"
    );
}

#[test]
fn bytes_of_a_fixed_layout_in_an_encoding_of_several() {
    let spec = source(
        "encoding = \"shift_jis\"",
        "[records]\nlayout = \"fixed\"\n[fixed]\nmeasure = \"bytes\"\n[columns]\na = { type = \"text\", width = 4 }\nb = { type = \"integer\", width = 2 }\n",
    );
    assert_eq!(
        read(&spec, b"\x83\x7C\x83\x65 1\nab  12\n").cells(),
        [["ポテ", "1"], ["ab", "12"]]
    );
}

#[test]
fn records_without_an_end() {
    let spec = "[records]\nlayout = \"fixed\"\nending = \"none\"\nrecord_width = 6\n[columns]\na = { type = \"text\", width = 3 }\nb = { type = \"integer\", width = 2 }\n";
    for size in [1, 7, 100] {
        let out = try_read(spec, b"abc12.def34.x", size).unwrap();
        assert_eq!(out.cells(), [["abc", "12"], ["def", "34"]]);
        assert_eq!(out.reasons(), [(3, vec!["record-too-short"])]);
        assert_eq!(out.rejects[0].offset, 12);
    }
    let spec = spec.replace("record_width = 6", "record_width = 5");
    assert_eq!(
        read(&spec, "äbc12é  34").cells(),
        [["äbc", "12"], ["é", "34"]]
    );
}

#[test]
fn ebcdic_with_zoned_packed_and_binary_numbers() {
    let spec = source(
        "encoding = \"ebcdic-037\"",
        "[records]\nlayout = \"fixed\"\nending = \"none\"\n[fixed]\nmeasure = \"bytes\"\n[columns]\nname = { type = \"text\", width = 6 }\nzoned = { type = \"decimal(7,2)\", width = 5, sign = \"overpunched\", implied_decimals = 2 }\npacked = { type = \"decimal(7,2)\", width = 4, stored_as = \"packed\", implied_decimals = 2 }\nbinary = { type = \"integer\", width = 4, stored_as = \"binary\" }\n",
    );
    let mut bytes = Vec::new();
    // "Moor  ", 123.45 and -123.45, -98765.43, 258.
    bytes.extend_from_slice(
        b"\xD4\x96\x96\x99\x40\x40\xF1\xF2\xF3\xF4\xD5\x98\x76\x54\x3D\x00\x00\x01\x02",
    );
    bytes.extend_from_slice(
        b"\xC1\x84\x81\x40\x40\x40\xF0\xF0\xF0\xF0\xC1\x00\x00\x00\x0C\xFF\xFF\xFF\xFE",
    );
    bytes.extend_from_slice(
        b"\xC1\x84\x81\x40\x40\x40\xF0\xF0\xF0\xF0\xC1\x00\x00\x00\x00\xFF\xFF\xFF\xFE",
    );
    let out = read(&spec, &bytes);
    assert_eq!(
        out.cells(),
        [
            ["Moor", "-12345", "-9876543", "258"],
            ["Ada", "1", "0", "-2"]
        ]
    );
    assert_eq!(out.reasons(), [(3, vec!["not-a-number"])]);
    assert_eq!(out.rejects[0].raw, bytes[38..]);
    // A number that is bytes is shown as bytes.
    let reason = &out.rejects[0].reasons[0];
    assert_eq!(
        (reason.value.as_deref(), reason.offset),
        (Some("\\x00\\x00\\x00\\x00"), 49)
    );
}

#[test]
fn delimited_ebcdic_is_split_in_its_own_bytes() {
    let spec = source("encoding = \"ebcdic-1047\"", AB);
    let code = |text: &str| {
        Charset::new("ebcdic-1047", false)
            .unwrap()
            .bytes_of(text)
            .unwrap()
    };
    let bytes = [
        code("a,b"),
        vec![0x15],
        code("Ada,\"x,y\""),
        vec![0x15],
        code("  "),
        vec![0x15],
    ]
    .concat();
    let out = read(&spec, &bytes);
    assert_eq!(out.cells(), [["Ada", "x,y"]]);
    assert_eq!(out.tally.left_out().blank, 1);
}

#[test]
fn keys_that_mean_nothing_in_a_layout_are_told() {
    let text = "[source]\nreplacement = \"?\"\n[records]\nlayout = \"fixed\"\n[delimited]\nquote = \"'\"\n[columns]\na = { type = \"text\", width = 2 }\n";
    let problems = barrow_core::spec::read_plan(text).unwrap_err();
    let told: Vec<_> = problems.iter().map(|p| p.message.as_str()).collect();
    assert_eq!(
        told,
        [
            "replacement is for when_undecodable = \"replace\"",
            "[delimited] quote is for layout = \"delimited\"",
        ]
    );
    let text =
        "[records]\nrecord_width = 9\n[fixed]\nmeasure = \"bytes\"\n[columns]\na = \"text\"\n";
    assert_eq!(barrow_core::spec::read_plan(text).unwrap_err().len(), 2);
}

#[test]
fn contradictions_of_fixed_layouts() {
    let fixed = |columns: &str| format!("[records]\nlayout = \"fixed\"\n[columns]\n{columns}");
    for (spec, says) in [
        (fixed("a = \"text\""), "has no width"),
        (fixed("a = { type = \"text\", width = 0 }"), "at least 1 wide"),
        (fixed("a = { type = \"text\", start = 1, width = 4 }\nb = { type = \"text\", start = 3, width = 2 }"), "both have place 3"),
        (fixed("a = { type = \"text\", width = 2, implied_decimals = 2 }"), "is for numbers"),
        (fixed("a = { type = \"integer\", width = 2, stored_as = \"packed\", sign = \"trailing\" }"), "sign in itself"),
        (fixed("a = { type = \"text\", width = 2, from = \"A\" }"), "found by start and width"),
        ("[columns]\na = { type = \"text\", width = 2 }".into(), "is for fixed layouts"),
        ("[records]\nending = \"none\"\n[columns]\na = \"text\"".into(), "need a fixed layout"),
        ("[records]\nlayout = \"fixed\"\nrecord_width = 3\n[columns]\na = { type = \"text\", width = 4 }".into(), "reach to 4"),
        ("[source]\nencoding = \"utf8x\"\n[columns]\na = \"text\"".into(), "not the name of an encoding"),
    ] {
        let problems = barrow_core::spec::read_plan(&spec).unwrap_err();
        assert!(problems.iter().any(|p| p.message.contains(says)), "{spec}\n{problems:?}");
    }
}

#[test]
fn broken_text_is_joined_and_counted() {
    let spec = "[records]\nwhen_short = \"join\"\n[columns]\nid = \"integer\"\nnote = \"text\"\nkg = \"integer\"\n";
    let mut bytes = String::from("id,note,kg\n");
    for id in 1..=1_000 {
        match id {
            100 | 900 => bytes.push_str(&format!("{id},broken\nover\nlines,{id}\n")),
            _ => bytes.push_str(&format!("{id},whole,{id}\n")),
        }
    }
    for size in [50, 1 << 16] {
        let out = try_read(spec, bytes.as_bytes(), size).unwrap();
        assert_eq!(
            (out.rows.len(), out.rejects.len(), out.tally.repairs.all()),
            (1_000, 0, 2)
        );
        assert_eq!(out.rows[99].3[1], "broken\nover\nlines");
        assert_eq!(
            (out.rows[99].1, out.rows[100].1, out.rows[999].1),
            (101, 104, 1_005)
        );
    }
}

#[test]
fn a_record_with_quotes_is_joined_too() {
    let spec =
        "[records]\nwhen_short = \"join\"\n[columns]\na = \"text\"\nb = \"text\"\nc = \"text\"\n";
    let bytes = "a,b,c\n\"1,x\",bro\nken,y\n2,bro\nken,\"q\nr\"\n3,s,t\n";
    for size in [1, 30, 4096] {
        let out = try_read(spec, bytes.as_bytes(), size).unwrap();
        assert_eq!(
            out.cells(),
            [
                ["1,x", "bro\nken", "y"],
                ["2", "bro\nken", "q\nr"],
                ["3", "s", "t"]
            ]
        );
        assert_eq!((out.rejects.len(), out.tally.repairs.all()), (0, 2));
        assert_eq!(out.rows.iter().map(|r| r.1).collect::<Vec<_>>(), [2, 4, 7]);
    }
}

#[test]
fn a_join_that_fails_costs_the_first_line_only() {
    let spec =
        "[records]\nwhen_short = \"join\"\n[columns]\na = \"text\"\nb = \"text\"\nc = \"text\"\n";
    let out = read(spec, "a,b,c\n1,x\n2,y,z\n3\n4,p,q,r\n5,s,t\n6,u");
    assert_eq!(out.cells(), [["2", "y", "z"], ["5", "s", "t"]]);
    let told: Vec<_> = out
        .reasons()
        .into_iter()
        .map(|(line, words)| (line, words[0]))
        .collect();
    assert_eq!(
        told,
        [
            (2, "too-few-fields"),
            (4, "too-few-fields"),
            (5, "too-many-fields"),
            (7, "too-few-fields")
        ]
    );
    let long = format!("a,b,c\n1,{}x,y\n2,y,z\n", "l\n".repeat(30));
    assert_eq!(read(spec, &long).cells().last().unwrap(), &["2", "y", "z"]);
}

#[test]
fn the_preamble_is_found_by_the_columns_names() {
    let spec = format!("[records]\npreamble = \"auto\"\n{AB}");
    let out = read(&spec, "Tansy Lane\nmade a, b\n\na,b\n1,2\n");
    assert_eq!(out.cells(), [["1", "2"]]);
    assert_eq!(out.tally.left_out().preamble, 3);
    let error = try_read(&spec, "x\n".repeat(200).as_bytes(), 64)
        .err()
        .unwrap();
    assert!(
        error.to_string().contains("none of the first 100 lines"),
        "{error}"
    );
}

#[test]
fn columns_found_in_another_case_are_said() {
    let out = read(AB, "A, B \n1,2\n");
    assert_eq!(out.cells(), [["1", "2"]]);
    assert_eq!(out.tally.files[0].notes.len(), 2);
}

#[test]
fn a_plan_knows_how_it_is_measured() {
    let spec = "[records]\nlayout = \"fixed\"\n[fixed]\nmeasure = \"bytes\"\n[columns]\na = { type = \"text\", width = 2 }\n";
    assert!(plan(spec).records.format.fixed().unwrap().counts_bytes());
}

#[test]
fn a_header_of_a_fixed_layout_is_read_past() {
    let spec = "[records]\nlayout = \"fixed\"\nheader = \"skip\"\n[columns]\n\
                a = { type = \"text\", width = 3 }\nb = { type = \"integer\", width = 2 }\n";
    let out = read(spec, "a  b \nkal12\n");
    assert_eq!(out.cells(), [["kal", "12"]]);
    assert_eq!(out.tally.left_out().header, 1);
}
