//! Delimited files, a case a test: what is read, what is rejected, and where.

mod common;

use barrow_core::Error;
use common::{read, try_read};

const AB: &str = "[columns]\na = \"text\"\nb = \"text\"\n";
const AB_BARE: &str = "[records]\nheader = \"none\"\n[columns]\na = \"text\"\nb = \"text\"\n";

#[test]
fn quoted_fields_hold_delimiters_line_ends_and_quotes() {
    let out = read(AB, "a,b\n\"1,2\",\"x\ny\"\n\"say \"\"hi\"\"\",\"\"\n,\n");
    assert_eq!(
        out.cells(),
        [["1,2", "x\ny"], ["say \"hi\"", ""], ["NULL", "NULL"]]
    );
    let places: Vec<_> = out.rows.iter().map(|r| (r.0, r.1, r.2)).collect();
    assert_eq!(places, [(1, 2, 4), (2, 4, 16), (3, 5, 32)]);
}

#[test]
fn every_record_end_and_a_last_line_without_one() {
    let wanted = [["1", "2"], ["3", "4"]];
    assert_eq!(read(AB, "a,b\n1,2\n3,4").cells(), wanted);
    assert_eq!(read(AB, "a,b\r\n1,2\r\n3,4\r\n").cells(), wanted);
    assert_eq!(read(AB, "a,b\r1,2\r3,4").cells(), wanted);
    assert_eq!(read(AB, "a,b\n1,2\r\n3,4\n").cells(), wanted);
    let own = format!("[records]\nending = \"~|~\"\n{AB}");
    assert_eq!(read(&own, "a,b~|~1,2~|~3,4~|~").cells(), wanted);
    let lf = format!("[records]\nending = \"lf\"\n{AB}");
    assert_eq!(read(&lf, "a,b\n1,2\r\n").cells(), [["1", "2\r"]]);
}

#[test]
fn a_byte_order_mark_is_no_part_of_the_first_name() {
    let out = read(AB, "\u{FEFF}a,b\n1,2\n");
    assert_eq!(out.cells(), [["1", "2"]]);
    assert_eq!(out.rows[0].2, 7);
    assert_eq!(out.lead, "\u{FEFF}a,b\n".as_bytes());
}

#[test]
fn empty_files_and_headers_alone_have_no_records() {
    for bytes in ["", "\u{FEFF}", "a,b", "a,b\n"] {
        assert!(read(AB, bytes).rows.is_empty(), "{bytes:?}");
    }
    assert!(read(AB_BARE, "").rows.is_empty());
}

#[test]
fn a_file_that_ends_inside_quotes_costs_one_record() {
    let out = read(AB, "a,b\n1,\"x\n2,y\n3,z\n");
    assert_eq!(out.cells(), [["2", "y"], ["3", "z"]]);
    assert_eq!(out.reasons(), [(2, vec!["unclosed-quote"])]);
    assert_eq!(out.rejects[0].raw, b"1,\"x\n");
}

#[test]
fn a_stray_quote_costs_one_record_though_later_ones_are_quoted() {
    let mut bytes = String::from("a,b\n");
    for id in 1..=10_000 {
        match id {
            5_000 => bytes.push_str("5000,\"stray\n"),
            _ if id % 10 == 0 => bytes.push_str(&format!("{id},\"a, \"\"b\"\"\"\n")),
            _ => bytes.push_str(&format!("{id},x\n")),
        }
    }
    let out = read(AB, &bytes);
    assert_eq!(out.rows.len(), 9_999);
    assert_eq!(out.reasons(), [(5_001, vec!["unclosed-quote"])]);
}

#[test]
fn a_stray_quote_that_a_later_quote_closes_makes_a_record_of_other_fields() {
    // The quote before "," closes the stray one: that is well-formed.
    let out = read(AB, "a,b\n1,\"stray\n2,\",y\"\n3,z\n");
    assert_eq!(out.cells(), [["3", "z"]]);
    assert_eq!(out.reasons(), [(2, vec!["too-many-fields"])]);
}

#[test]
fn text_after_a_closing_quote_is_told_with_its_field() {
    let out = read(AB, "a,b\n1,\"x\" y\n2,z\n");
    assert_eq!(out.cells(), [["2", "z"]]);
    let reason = &out.rejects[0].reasons[0];
    assert_eq!(
        (reason.code.word(), reason.field, reason.offset),
        ("text-after-quote", Some(2), 6)
    );
    assert_eq!(reason.value.as_deref(), Some("\"x\" y"));
}

#[test]
fn a_quote_inside_an_unquoted_field_is_text() {
    assert_eq!(read(AB, "a,b\n5\" pipe,6'\n").cells(), [["5\" pipe", "6'"]]);
}

#[test]
fn a_quote_not_closed_within_the_longest_record_costs_its_line_or_is_one_record() {
    let typed = AB.replacen("text", "bigint", 1);
    let spec = format!("[records]\nmax_record_size = 1000\n{typed}");
    let mut bytes = b"a,b\n1,\"x\n".to_vec();
    for id in 2..2_000 {
        bytes.extend_from_slice(format!("{id},y\n").as_bytes());
    }
    bytes.extend_from_slice(b"2000,\"q\"\n");
    let out = read(&spec, &bytes);
    assert_eq!(out.rows.len(), 1_999);
    assert_eq!(out.reasons(), [(2, vec!["unclosed-quote"])]);
    // Where all columns are text, nothing tells records from a long value.
    let spec = format!("[records]\nmax_record_size = 1000\n{AB}");
    let out = read(&spec, &bytes);
    assert_eq!((out.rows.len(), out.tally.rejected()), (0, 1));
    assert_eq!(out.reasons()[0], (2, vec!["record-too-long"]));
}

#[test]
fn a_record_longer_than_the_longest_is_kept_whole_and_reading_goes_on() {
    let spec = format!("[records]\nmax_record_size = 1000\n{AB}");
    let long = format!("1,{}\n", "x".repeat(300_000));
    let out = try_read(&spec, format!("a,b\n{long}2,y\n").as_bytes(), 4096).unwrap();
    assert_eq!(out.cells(), [["2", "y"]]);
    assert_eq!(out.rows[0].0, 2);
    assert_eq!(out.rows[0].1, 3);
    assert_eq!(out.reasons()[0], (2, vec!["record-too-long"]));
    let kept: Vec<u8> = out.rejects.iter().flat_map(|r| r.raw.clone()).collect();
    assert_eq!(kept, long.as_bytes());
    assert_eq!((out.tally.records(), out.tally.rejected()), (2, 1));
}

#[test]
fn preamble_header_trailer_comments_and_blank_lines_are_left_out_and_counted() {
    let spec = format!("[records]\npreamble = 2\ntrailer = 2\ncomment = \"#\"\n{AB}");
    let bytes = "Title, \"x\nOther\n# c\na,b\n\n1,2\n#no\n3,4\n  \nTOTAL,2\nend\n\n";
    let out = read(&spec, bytes);
    assert_eq!(out.cells(), [["1", "2"], ["3", "4"]]);
    assert_eq!(out.trailer, b"TOTAL,2\nend\n\n");
    let left = out.tally.left_out();
    assert_eq!((left.preamble, left.header, left.trailer), (2, 1, 2));
    assert_eq!((left.comments, left.blank), (2, 3));
    assert_eq!((out.tally.all_records(), left.lines()), (2, 10));
}

#[test]
fn a_long_stretch_without_records_is_handed_on_and_counted() {
    let spec = format!("[records]\ncomment = \"#\"\ntrailer = 1\n{AB}");
    let bytes = format!(
        "a,b\n1,2\n{}3,4\nTOTAL\n",
        "# nothing here\n\n".repeat(5_000)
    );
    let out = try_read(&spec, bytes.as_bytes(), 512).unwrap();
    assert_eq!(out.cells(), [["1", "2"], ["3", "4"]]);
    assert_eq!(out.rows[1].1, 10_003);
    let left = out.tally.left_out();
    assert_eq!((left.comments, left.blank, left.trailer), (5_000, 5_000, 1));
}

#[test]
fn blank_lines_may_be_rejected() {
    let spec = format!("[records]\nwhen_blank = \"reject\"\n{AB}");
    assert_eq!(
        read(&spec, "a,b\n\n1,2\n").reasons(),
        [(2, vec!["blank-line"])]
    );
}

#[test]
fn too_few_and_too_many_fields() {
    let out = read(AB, "a,b\n1\n1,2,3\n4,5\n");
    assert_eq!(
        out.reasons(),
        [(2, vec!["too-few-fields"]), (3, vec!["too-many-fields"])]
    );
    let spec = format!("[records]\nwhen_short = \"null\"\nwhen_long = \"drop\"\n{AB}");
    let out = read(&spec, "a,b\n1\n1,2,3\n4,5\n");
    assert_eq!(out.cells(), [["1", "NULL"], ["1", "2"], ["4", "5"]]);
    assert_eq!(out.tally.repairs.all(), 2);
}

#[test]
fn a_reject_has_no_repairs_and_a_missing_field_the_place_of_its_record() {
    let spec = "[records]\nwhen_short = \"null\"\n[columns]\na = \"integer\"\nb = { type = \"text\", required = true }\nc = \"text\"\n";
    let out = read(spec, "a,b,c\n1,x,y\n2\n3,z\n");
    assert_eq!(out.cells(), [["1", "x", "y"], ["3", "z", "NULL"]]);
    assert_eq!(out.tally.repairs.all(), 1);
    assert_eq!(out.tally.repairs.iter().next().unwrap().line, 4);
    let reason = &out.rejects[0].reasons[0];
    assert_eq!((reason.code.word(), reason.offset), ("required", 12));
}

#[test]
fn the_first_undecodable_field_of_the_file_is_where_a_load_stops() {
    let spec = format!("[source]\nwhen_undecodable = \"stop\"\n{AB}");
    let error = try_read(&spec, b"a,b\nx,\xFF\n\xFE,y\n", 100)
        .err()
        .unwrap();
    assert!(
        matches!(&error, Error::Undecodable { line: 2, .. }),
        "{error}"
    );
}

#[test]
fn every_bad_field_of_a_record_is_told() {
    let spec = "[columns]\na = \"integer\"\nb = \"date\"\nc = \"decimal(4,2)\"\nd = { type = \"char(1)\", required = true }\n";
    let out = read(spec, "a,b,c,d\nx,2031-02-30,1.005,\n1,2031-02-28,1.5,y\n");
    assert_eq!(
        out.reasons(),
        [(
            2,
            vec!["not-a-number", "no-such-date", "too-precise", "required"]
        )]
    );
    let offsets: Vec<_> = out.rejects[0].reasons.iter().map(|r| r.offset).collect();
    assert_eq!(offsets, [8, 10, 21, 27]);
    assert_eq!(out.cells(), [["1", "2031-02-28", "150", "y"]]);
}

#[test]
fn bytes_that_are_not_utf8_are_a_reason_of_their_own() {
    let spec = "[columns]\na = \"text\"\nb = \"integer\"\n";
    let out = read(spec, b"a,b\ncaf\xE9,\xFF1\nok,1\n");
    assert_eq!(out.reasons(), [(2, vec!["bad-bytes", "bad-bytes"])]);
    assert_eq!(out.rejects[0].reasons[0].value.as_deref(), Some("caf\\xE9"));
    assert_eq!(out.cells(), [["ok", "1"]]);
}

#[test]
fn an_escape_makes_the_next_character_ordinary() {
    let spec = format!("[delimited]\ndelimiter = \"|\"\nquote = \"'\"\nescape = \"\\\\\"\n{AB}");
    let out = read(
        &spec,
        "a|b\nx\\|y|'it\\'s'\n\\N|back\\\\slash\none\\\nline|2\n",
    );
    assert_eq!(
        out.cells(),
        [["x|y", "it's"], ["\\N", "back\\slash"], ["one\nline", "2"]]
    );
    let lines: Vec<_> = out.rows.iter().map(|r| r.1).collect();
    assert_eq!(lines, [2, 3, 4]);
}

#[test]
fn delimiters_of_several_characters_and_no_quotes_at_all() {
    let spec = format!("[delimited]\ndelimiter = \"||\"\nquote = \"\"\n{AB}");
    assert_eq!(
        read(&spec, "a||b\n\"1||2\n||\n").cells(),
        [["\"1", "2"], ["NULL", "NULL"]]
    );
    let spec = format!("[delimited]\ndelimiter = \"\\u0001\"\n{AB}");
    assert_eq!(
        read(&spec, "a\u{1}b\n1\u{1}\"2\u{1}\"\n").cells(),
        [["1", "2\u{1}"]]
    );
    let spec = format!("[delimited]\ndelimiter = \"||\"\n{AB}");
    assert_eq!(read(&spec, "a||b\n1|||\"2\"\n").cells(), [["1", "|\"2\""]]);
}

#[test]
fn columns_by_place_and_fields_read_past() {
    let spec = "[records]\nheader = \"skip\"\nwhen_new_column = \"ignore\"\n[columns]\nb = { type = \"text\", position = 2 }\nc = { load = false }\nd = \"text\"\n";
    let out = read(spec, "w,x,y,z\n1,2,3,4\n");
    assert_eq!(out.cells()[0][..2], ["2", "4"]);
}

#[test]
fn a_file_shorter_than_its_preamble_or_trailer_is_told() {
    for (spec, bytes) in [
        ("[records]\npreamble = 3\n", "one\ntwo\n"),
        ("[records]\ntrailer = 2\n", "a,b\nTOTAL\n"),
        ("[records]\npreamble = 1\n", "Title\n"),
    ] {
        let error = try_read(&format!("{spec}{AB}"), bytes.as_bytes(), 100)
            .err()
            .unwrap();
        assert!(matches!(error, Error::TooShort { .. }), "{spec}: {error}");
    }
}

#[test]
fn a_header_without_the_columns_is_told_before_anything_is_read() {
    let error = try_read(AB, b"a,bb\n1,2\n", 100).err().unwrap();
    assert!(error.to_string().contains("nearest is \"bb\""), "{error}");
}
