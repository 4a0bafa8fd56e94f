//! Places where the reading was once wrong: headers, comments and trailers beyond the longest
//! record, characters cut in two, values at the ends of their types, and the order of steps.

mod common;

use barrow_core::spec;
use common::{read, try_read};

/// The same whatever the size of a block.
fn same(spec: &str, file: &[u8]) -> common::Out {
    let out = try_read(spec, file, 1 << 16).unwrap();
    for size in [7, 64, 1 << 20] {
        let other = try_read(spec, file, size).unwrap();
        assert_eq!(other.rows, out.rows, "{size}");
        assert_eq!(other.reasons(), out.reasons(), "{size}");
        assert_eq!(other.tally.left_out(), out.tally.left_out(), "{size}");
    }
    out
}

const SHORT: &str = "[records]\nmax_record_size = 100\n";

#[test]
fn a_header_may_be_longer_than_the_longest_record() {
    let names: Vec<String> = (0..300).map(|n| format!("c{n:04}")).collect();
    let spec = format!(
        "{SHORT}when_new_column = \"ignore\"\n[columns]\nc0000 = \"text\"\nc0299 = \"text\"\n"
    );
    let fields = |text: &str| vec![text; 300].join(",");
    let file = format!(
        "{}\n{}\n",
        names.join(","),
        fields("").replacen(',', "a,", 1)
    );
    let spec_long = spec.replace("max_record_size = 100", "max_record_size = 1000");
    let out = same(&spec_long, file.as_bytes());
    assert_eq!(out.cells(), [["a", "NULL"]]);
    assert_eq!(out.tally.left_out().header, 1);
}

#[test]
fn a_comment_may_be_longer_than_the_longest_record() {
    let spec = format!("{SHORT}comment = \"#\"\n[columns]\na = \"text\"\n");
    let file = format!(
        "a\nx\n#{}\ny\n#{}\nz\n",
        "c".repeat(5_000),
        "d".repeat(200_000)
    );
    let out = same(&spec, file.as_bytes());
    assert_eq!(out.cells(), [["x"], ["y"], ["z"]]);
    assert_eq!(out.tally.left_out().comments, 2);
    assert_eq!(out.rows[2].1, 6, "its line");
}

#[test]
fn numbers_go_on_after_a_record_that_is_too_long() {
    let spec = format!(
        "{SHORT}trailer = 1\n[columns]\na = \"text\"\nn = {{ type = \"bigint\", value = \"{{record}}\" }}\n"
    );
    let file = format!("a\nx\n{}\nz\nTOTAL\n", "y".repeat(300_000));
    let out = same(&spec, file.as_bytes());
    assert_eq!(out.cells(), [["x", "1"], ["z", "3"]]);
    assert_eq!(out.rejects[0].record, 2);
    assert_eq!(out.tally.left_out().trailer, 1);
    // One that is too long is a trailer all the same, once.
    let file = format!("a\nx\nTOTAL{}\n", "y".repeat(300_000));
    let out = same(&spec, file.as_bytes());
    assert_eq!((out.rows.len(), out.tally.left_out().lines()), (1, 2));
    assert_eq!(out.tally.all_records(), 1);
}

#[test]
fn bytes_that_continue_no_character_are_not_dropped() {
    let spec = "[records]\nlayout = \"fixed\"\nheader = \"none\"\n[columns]\n\
                a = { type = \"text\", start = 1, width = 3 }\nb = { type = \"text\", start = 4, width = 3 }\n";
    let out = same(spec, b"abcdef\n\x80abcdef\nabcde\x80\n");
    assert_eq!(out.cells(), [["abc", "def"]]);
    let raw: Vec<&[u8]> = out.rejects.iter().map(|r| r.raw.as_slice()).collect();
    assert_eq!(raw, [b"\x80abcdef\n".as_slice(), b"abcde\x80\n"]);
}

#[test]
fn widths_by_bytes_need_an_encoding_of_bytes() {
    for encoding in ["utf-16le", "utf-16be", "iso-2022-jp"] {
        let text = format!(
            "[source]\nencoding = \"{encoding}\"\n[records]\nlayout = \"fixed\"\n[fixed]\nmeasure = \"bytes\"\n[columns]\n\
             a = {{ type = \"text\", start = 1, width = 4 }}\n"
        );
        let problems = spec::read_plan(&text).unwrap_err();
        assert!(
            problems.iter().any(|p| p.label == "not by bytes"),
            "{encoding}: {problems:?}"
        );
    }
}

#[test]
fn rejects_of_an_encoding_with_a_state_are_the_bytes_of_the_file() {
    let spec = "[source]\nencoding = \"iso-2022-jp\"\n[columns]\nn = \"bigint\"\nt = \"text\"\n";
    // RFC 1468: ESC $ B begins kanji of two bytes, ESC ( B ends them. 語 is 38 6C, 日 46 7C.
    let word = |n: usize| {
        let kanji: Vec<u8> = b"\x38\x6C\x46\x7C".repeat(n % 7 + 1);
        [b"\x1b$B".as_slice(), &kanji, b"\x1b(B"].concat()
    };
    let mut file = b"n,t\n".to_vec();
    let mut wrong: Vec<Vec<u8>> = Vec::new();
    for n in 0..3_000 {
        let mark: &[u8] = if n % 50 == 0 { b"x" } else { b"" };
        let line = [mark, n.to_string().as_bytes(), b",", &word(n), b"\n"].concat();
        file.extend(&line);
        if n % 50 == 0 {
            wrong.push(line);
        }
    }
    let out = same(spec, &file);
    let raw: Vec<Vec<u8>> = out.rejects.iter().map(|r| r.raw.clone()).collect();
    assert_eq!(raw, wrong);
}

#[test]
fn the_ends_of_the_types_load() {
    let spec = "[columns]\na = { type = \"timestamptz\" }\nb = { type = \"timestamp\", format = \"unix_seconds\" }\n";
    let out = read(
        spec,
        "a,b\n9999-12-31 23:59:59Z,0\n9999-12-31T00:00:00Z,253402300799\n2031-04-28T23:59:59.600Z,-1\n",
    );
    assert!(out.rejects.is_empty(), "{:?}", out.reasons());
    assert_eq!(
        out.cells()[0][0],
        format!("9999-12-31+{}", 86_399_000_000_000u64)
    );
    assert_eq!(
        out.cells()[1],
        [
            "9999-12-31+0".to_string(),
            format!("9999-12-31+{}", 86_399_000_000_000u64)
        ]
    );
    assert_eq!(
        out.cells()[2][0],
        format!("2031-04-28+{}", 86_399_600_000_000u64)
    );
    assert_eq!(
        out.cells()[2][1],
        format!("1969-12-31+{}", 86_399_000_000_000u64)
    );
}

#[test]
fn a_second_with_a_fraction_of_sixty_is_no_leap_second() {
    let spec = "[columns]\na = { type = \"timestamp\", format = \"%d.%m.%Y %H:%M:%S%.f\" }\n";
    let out = read(
        spec,
        "a\n28.04.2031 00:00:59.600\n28.04.2031 00:00:58.600\n28.04.2031 00:00:59.160\n",
    );
    assert!(out.rejects.is_empty(), "{:?}", out.reasons());
    assert_eq!(
        out.cells()[0][0],
        format!("2031-04-28+{}", 59_600_000_000u64)
    );
}

#[test]
fn a_decimal_mark_beyond_ascii_is_the_only_one() {
    let spec = "[columns]\na = { type = \"decimal(6,2)\", decimal_mark = \"٫\" }\n";
    let out = read(spec, "a\n1٫50\n1.50\n2\n");
    assert_eq!(out.cells(), [["150"], ["200"]]);
    assert_eq!(out.reasons(), [(3, vec!["not-a-number"])]);
}

#[test]
fn two_quotes_with_nothing_between_go_through_every_step() {
    let spec = "[columns]\nid = \"integer\"\na = { type = \"text\", lookup = { \"\" = \"none\", x = \"cross\" } }\n";
    let out = read(spec, "id,a\n1,\"\"\n2,x\n");
    assert_eq!(out.cells(), [["1", "none"], ["2", "cross"]]);
}

#[test]
fn the_first_thing_that_is_wrong_is_the_reason() {
    let spec = "[columns]\na = { type = \"text\", required = true, lookup = { x = \"y\" } }\nb = { type = \"text\", required = true }\n";
    let out = read(spec, b"a,b\nzz,1\nx,\xFF\n");
    assert_eq!(
        out.reasons(),
        [(2, vec!["not-in-lookup"]), (3, vec!["bad-bytes"])]
    );
}

#[test]
fn computed_columns_that_double_one_another_are_bounded() {
    let mut text = String::from("[records]\nmax_record_size = 1000\n[columns]\na = \"text\"\n");
    for n in 1..60 {
        let before = if n == 1 {
            "a".to_string()
        } else {
            format!("c{}", n - 1)
        };
        text += &format!("c{n} = {{ type = \"text\", value = \"{{{before}}}{{{before}}}\" }}\n");
    }
    let out = read(&text, "a\nxxxx\n");
    assert!(out.rows.is_empty());
    assert_eq!(out.reasons(), [(2, vec!["too-long"])]);
}

#[test]
fn bounds_that_overflow_are_told() {
    for columns in [
        "a = { type = \"text\", start = 18446744073709551615, width = 2 }",
        "a = { type = \"text\", start = 1, width = 18446744073709551615 }",
        "a = { type = \"text\", start = 0, width = 1 }",
    ] {
        let text = format!("[records]\nlayout = \"fixed\"\n[columns]\n{columns}\n");
        assert!(spec::read_plan(&text).is_err(), "{columns}");
    }
    for year in ["19500", "-1", "99999999999"] {
        let text = format!(
            "[columns]\na = {{ type = \"date\", format = \"%d/%m/%y\", two_digit_years_from = {year} }}\n"
        );
        assert!(spec::read_plan(&text).is_err(), "{year}");
    }
}

#[test]
fn a_file_without_a_record_stops_unless_it_is_skipped() {
    let stop = "[source]\nwhen_empty = \"stop\"\n[columns]\na = \"text\"\n";
    for file in ["", "a\n", "a\n\n"] {
        let error = try_read(stop, file.as_bytes(), 64)
            .map(|_| ())
            .unwrap_err()
            .to_string();
        assert!(error.contains("when_empty"), "{file:?}: {error}");
        let skip = stop.replace("stop", "skip");
        assert!(
            try_read(&skip, file.as_bytes(), 64)
                .unwrap()
                .rows
                .is_empty()
        );
    }
}

#[test]
fn a_new_column_stops_unless_it_is_ignored() {
    let stop = "[columns]\na = \"text\"\n";
    let error = try_read(stop, b"a,b\n1,2\n", 64)
        .map(|_| ())
        .unwrap_err()
        .to_string();
    assert!(error.contains("not in the spec: \"b\""), "{error}");
    let ignore = "[records]\nwhen_new_column = \"ignore\"\n[columns]\na = \"text\"\n";
    assert_eq!(read(ignore, "a,b\n1,2\n").cells(), [["1"]]);
    let passed = "[columns]\na = \"text\"\nb = { type = \"text\", load = false }\n";
    assert_eq!(read(passed, "a,b\n1,2\n").cells(), [["1"]]);
}
