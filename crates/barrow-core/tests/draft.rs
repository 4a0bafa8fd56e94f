//! Drafts of files that were made from known tables.

mod common;

use std::io::Write;

use barrow_core::draft::{self, Draft, Heading, Layout, Remark, Wanted};
use barrow_core::pipeline::Options;
use barrow_core::source::SourceFile;
use barrow_core::types::Type;
use common::read_path;
use proptest::prelude::*;

fn drafted(
    bytes: &[u8],
    block_size: usize,
    wanted: &Wanted,
) -> (tempfile::NamedTempFile, Result<Draft, String>) {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(bytes).unwrap();
    let files = [SourceFile::local(file.path().to_path_buf())];
    let options = Options {
        threads: 2,
        block_size,
        ..Options::default()
    };
    let draft = draft::draft(&files, wanted, options, &mut |_, _| {});
    (file, draft.map_err(|e| e.to_string()))
}

fn draft_of(bytes: &[u8], block_size: usize) -> (tempfile::NamedTempFile, Draft) {
    let wanted = Wanted {
        table: "t".into(),
        ..Wanted::default()
    };
    let (file, draft) = drafted(bytes, block_size, &wanted);
    let draft = draft.unwrap_or_else(|e| panic!("{e}\n{}", String::from_utf8_lossy(bytes)));
    (file, draft)
}

/// The rows that a draft of a text reads, all columns as text; none is rejected.
fn rows_of(text: &str) -> (Draft, Vec<Vec<String>>) {
    let (path, draft) = draft_of(text.as_bytes(), 1 << 16);
    let out = read_path(&draft.text, path.path());
    assert!(out.rejects.is_empty(), "{:?}\n{}", out.rejects, draft.text);
    let rows = out.rows.into_iter().map(|row| row.3).collect();
    (draft, rows)
}

fn types(draft: &Draft) -> Vec<String> {
    let columns = draft.columns.iter();
    columns.map(|c| c.choice.ty.to_string()).collect()
}

fn names(draft: &Draft) -> Vec<&str> {
    draft.columns.iter().map(|c| c.name.as_str()).collect()
}

fn remarks(draft: &Draft) -> Vec<String> {
    draft.remarks().map(Remark::line).collect()
}

fn says(draft: &Draft, words: &str) -> bool {
    let found = remarks(draft).iter().any(|line| line.contains(words));
    assert!(found, "no remark says {words:?}\n{}", draft.text);
    assert!(draft.text.contains(&format!("# ! {}", remarks(draft)[0])));
    found
}

/// A column of values beside another, so that there is a delimiter.
fn column(values: &[&str]) -> String {
    let lines: String = values.iter().map(|v| format!("{v}|x\n")).collect();
    format!("name|b\n{lines}")
}

#[test]
fn types_have_room_for_the_next_file() {
    let uuids = &[
        "00112233-4455-6677-8899-aabbccddeeff",
        "00112233-4455-6677-8899-aabbccddeefe",
    ];
    // (values, with room, tight)
    let cases: &[(&[&str], &str, &str)] = &[
        (&["1", "-32768", "1"], "integer", "smallint"),
        (&["1", "40000"], "bigint", "integer"),
        (&["1", "600000000", "1"], "bigint", "integer"),
        (&["1", "3000000000"], "bigint", "bigint"),
        (
            &["1", "99999999999999999999"],
            "varchar(100)",
            "varchar(20)",
        ),
        (&["1.5", "-22.25"], "double", "decimal(4,2)"),
        (&["10.00", "2.00"], "decimal(10,2)", "decimal(4,2)"),
        (&["1,5", "22,2"], "decimal(10,1)", "decimal(3,1)"),
        (&["1.204,50", "3,00"], "decimal(10,2)", "decimal(6,2)"),
        (
            &["123456789012.50", "1.00"],
            "decimal(15,2)",
            "decimal(14,2)",
        ),
        (&["0.1234567890123456", "2.5"], "double", "double"),
        (&["1e-05", "2.5"], "double", "double"),
        (&["2031-04-01", "2031-12-31"], "date", "date"),
        (&["01.04.2031", "31.12.2031"], "date", "date"),
        (&["10:30", "23:59"], "time", "time"),
        (
            &["2031-04-01 10:30:00", "2031-04-01 10:30:00.5"],
            "timestamp",
            "timestamp",
        ),
        (
            &["2031-04-01T10:30:00Z", "2031-04-01T10:30:00+02:00"],
            "timestamptz",
            "timestamptz",
        ),
        (&["true", "False"], "boolean", "boolean"),
        (&["Y", "N"], "boolean", "boolean"),
        (uuids, "uuid", "uuid"),
        (&["{\"a\": 1}", "[]"], "json", "json"),
        (&["007", "12"], "varchar(40)", "varchar(3)"),
        (&["A", "B"], "varchar(40)", "char(1)"),
        (&["carrots", "sweet peas"], "varchar(40)", "varchar(10)"),
        (&["1", "x"], "varchar(40)", "char(1)"),
        (&["1E3", "12"], "varchar(40)", "varchar(3)"),
        (
            &["+49301234567", "+4312345678"],
            "varchar(100)",
            "varchar(12)",
        ),
    ];
    for (values, roomy, tight) in cases {
        let file = column(values);
        for (wanted, is_tight) in [(roomy, false), (tight, true)] {
            let asked = Wanted {
                table: "t".into(),
                tight: is_tight,
                ..Wanted::default()
            };
            let (_, draft) = drafted(file.as_bytes(), 1 << 16, &asked);
            let draft = draft.unwrap();
            assert_eq!(types(&draft)[0], *wanted, "{values:?}\n{}", draft.text);
        }
    }
}

#[test]
fn forms_that_people_write_are_read() {
    // (values, type, how the first reads)
    let cases: &[(&[&str], &str, &str)] = &[
        (&["12%", "7%", "7%"], "integer", "12"),
        (&["$1,204.50", "$3.25"], "decimal(10,2)", "120450"),
        (&["€ 5", "€ 7", "€ 5"], "integer", "5"),
        (&["(17.25)", "3.00"], "decimal(10,2)", "-1725"),
        (&["5-", "7", "7"], "integer", "-5"),
        (&["Jan 1 2031", "Dec 31 2031"], "date", "2031-01-01"),
        (
            &["1 January 2031", "31 December 2031"],
            "date",
            "2031-01-01",
        ),
        (
            &["05/Jan/2031:10:00:00 +0100", "06/Jan/2031:10:00:00 +0100"],
            "timestamptz",
            "2031-01-05+32400000000000",
        ),
        (
            &[
                "Sun, 05 Jan 2031 10:00:00 +0100",
                "Mon, 06 Jan 2031 10:00:00 +0100",
            ],
            "timestamptz",
            "2031-01-05+32400000000000",
        ),
        (
            &["2031-01-05T10:00:00.123Z", "2031-01-05T10:00:01Z"],
            "timestamptz",
            "2031-01-05+36000123000000",
        ),
        (&["10:30 PM", "1:05 AM"], "time", "81000000000000"),
        (&["12:30", "13:45:10"], "time", "45000000000000"),
        (&["2031-032", "2031-365"], "date", "2031-02-01"),
    ];
    for (values, ty, first) in cases {
        let (draft, rows) = rows_of(&column(values));
        assert_eq!(types(&draft)[0], *ty, "{values:?}\n{}", draft.text);
        assert_eq!(rows[0][0], *first, "{values:?}\n{}", draft.text);
    }
}

#[test]
fn numbers_that_may_be_dates_are_numbers_with_a_remark() {
    let remark = |values: &[&str], words: &str| {
        let (_, draft) = draft_of(column(values).as_bytes(), 1 << 16);
        assert_eq!(types(&draft)[0], "bigint");
        says(&draft, words)
    };
    assert!(remark(&["20310105", "20311231"], "format = \"%Y%m%d\""));
    assert!(remark(&["1925000000", "1925003600"], "unix_seconds"));
    assert!(remark(
        &["1925000000000", "1925003600000"],
        "unix_milliseconds"
    ));
}

#[test]
fn what_stands_around_numbers_must_be_one_thing() {
    let (_, draft) = draft_of(column(&["$5", "€5", "$7"]).as_bytes(), 1 << 16);
    assert!(types(&draft)[0].starts_with("varchar"));
    says(&draft, "not all of one measure: 2 with \"$\", 1 with \"€\"");
    let (_, draft) = draft_of(column(&["12%", "0.5", "7"]).as_bytes(), 1 << 16);
    assert!(types(&draft)[0].starts_with("varchar"), "{}", draft.text);
}

#[test]
fn a_header_may_have_a_column_without_a_name() {
    let (draft, rows) = rows_of("\"\",\"kg\",\"grower\"\n\"1\",2.5,\"Ada\"\n\"2\",1,\"Ivy\"\n");
    assert_eq!(draft.shape.heading, Heading::Names);
    assert!(
        draft
            .text
            .contains("column_1 = { type = \"bigint\", from = \"\" }"),
        "{}",
        draft.text
    );
    assert_eq!(rows, [["1", "2.5", "Ada"], ["2", "1", "Ivy"]]);
    // Two without a name are found by their place.
    let (draft, rows) = rows_of("id,,\n1,a,x\n2,b,y\n");
    assert_eq!(names(&draft), ["id", "column_2", "column_3"]);
    assert_eq!(draft.shape.heading, Heading::Skip);
    assert_eq!(rows.len(), 2);
    says(&draft, "the header has an empty name more than once");
}

#[test]
fn a_delimiter_at_the_end_of_lines_makes_no_column() {
    let (draft, rows) = rows_of("id,kg,\n1,2.5,\n2,1.5,\n");
    assert_eq!(rows, [["1", "25"], ["2", "15"]], "{}", draft.text);
    assert!(draft.text.contains("load = false"), "{}", draft.text);
    // In the header alone, and in the records alone.
    let (draft, rows) = rows_of("id,kg,\n1,2.5\n2,1.5\n3,1.5\n");
    assert_eq!((names(&draft), rows.len()), (vec!["id", "kg"], 3));
    let (draft, rows) = rows_of("id,kg\n1,2.5,\n2,1.5,\n3,1.5,\n");
    assert_eq!(rows[0], ["1", "25"], "{}", draft.text);
}

#[test]
fn names_of_rows_that_the_header_does_not_count_come_first() {
    let (draft, rows) = rows_of("kg price\nAda 2.5 10\nIvy 1.5 12\nBo 3.5 9\n");
    assert_eq!(names(&draft), ["column_1", "kg", "price"]);
    assert_eq!(rows[2], ["Bo", "35", "9"]);
    says(&draft, "found by their place");
}

#[test]
fn a_name_that_comes_twice_is_found_by_its_place() {
    let (draft, rows) = rows_of("id,kg,kg\n1,2.5,3.5\n2,1.5,4.5\n");
    assert_eq!(names(&draft), ["id", "kg", "kg_2"]);
    assert_eq!(rows, [["1", "25", "35"], ["2", "15", "45"]]);
    says(&draft, "the header has \"kg\" more than once");
}

#[test]
fn a_file_may_have_one_column() {
    let (draft, rows) = rows_of("weight\n12.5\n7.5\n3.5\n");
    assert_eq!(
        (names(&draft), types(&draft)),
        (vec!["weight"], vec!["decimal(10,1)".into()])
    );
    assert_eq!(rows.len(), 3);
    let (draft, rows) = rows_of("\"\"\n\"1\"\n\"2\"\n");
    assert_eq!(rows.len(), 3, "{}", draft.text);
    // A comma that the start of the file does not have is found in all of it.
    let many: String = (0..4_000).map(|n| format!("word{n}\n")).collect();
    let (draft, rows) = rows_of(&format!("{many}one, two\n"));
    assert_eq!(
        (rows.len(), rows[4_000][0].as_str()),
        (4_001, "one, two"),
        "{}",
        draft.text
    );
}

#[test]
fn a_header_stands_below_comments_which_are_no_preamble() {
    let (draft, rows) = rows_of(
        "# made by hand\n#\nid,kg\n1,2.5\n# a note\n2,1.5\n3,1.5\n4,2.5\n5,2.5\n6,2.5\n7,2.5\n8,2.5\n9,2.5\n",
    );
    assert_eq!(
        (draft.shape.preamble, draft.shape.comment.as_deref()),
        (0, Some("#"))
    );
    assert_eq!((names(&draft), rows.len()), (vec!["id", "kg"], 9));
    // The last comment names the columns.
    let (draft, rows) = rows_of("# codes\n#code\tname\nNR\tNorrey\nTA\tTansy\nFE\tFen\n");
    assert_eq!(
        (names(&draft), rows.len()),
        (vec!["code", "name"], 3),
        "{}",
        draft.text
    );
    assert_eq!(draft.shape.heading, Heading::None);
}

#[test]
fn a_record_that_starts_as_a_comment_does_is_not_lost_unsaid() {
    let (draft, rows) = rows_of("item,kg\nA1,1.5\n#9,2.5\nB2,3.5\nC3,1.5\nD4,2.5\n");
    assert_eq!(
        (rows.len(), rows[1][0].as_str()),
        (5, "#9"),
        "{}",
        draft.text
    );
    says(
        &draft,
        "1 line that starts with # looks like a record, and is read as a record",
    );
    // With comments above there is no telling both apart.
    let (draft, rows) = rows_of(
        "# ours\nitem,kg\nA1,1.5\n#9,2.5\nB2,3.5\nC3,1.5\nD4,2.5\nE5,1.5\nF6,1.5\nG7,2.5\n",
    );
    assert_eq!(rows.len(), 7, "{}", draft.text);
    says(
        &draft,
        "1 line that starts with # looks like a record, and is skipped as a comment",
    );
}

#[test]
fn a_line_that_names_the_delimiter_is_read_past() {
    let (draft, rows) = rows_of("sep=;\nid;kg\n1;2,5\n2;3,5\n");
    assert_eq!((names(&draft), rows.len()), (vec!["id", "kg"], 2));
    assert_eq!(draft.shape.preamble, 1);
}

#[test]
fn where_nothing_tells_the_first_line_is_a_record() {
    let (draft, rows) = rows_of("Ada,Fen\nIvy,Norrey\nBo,Lane\n");
    assert_eq!(rows.len(), 3);
    says(&draft, "it is not clear whether the first line is a header");
    let (draft, rows) = rows_of("grower,code\nAda,AD\nIvy,IV\nBo,BO\n");
    assert_eq!(rows.len(), 3, "{}", draft.text);
    says(&draft, "the first line is taken as the header: ");
}

#[test]
fn marks_are_decided_by_a_sister_or_the_delimiter() {
    // 1.204 alone may be either; beside 3,50 it is a thousand and more.
    let (draft, rows) = rows_of("a;b\n1.204;3,50\n2.500;4,25\n");
    assert_eq!(rows[0], ["1204", "350"], "{}", draft.text);
    assert!(remarks(&draft).is_empty(), "{}", draft.text);
    let (draft, rows) = rows_of("a,b\n\"23,288\",1.50\n\"1,204\",2.25\n");
    assert_eq!(rows[0][0], "23288", "{}", draft.text);
    assert!(remarks(&draft).is_empty(), "{}", draft.text);
    let (draft, _) = rows_of("n|b\n1,204|x\n2,500|y\n");
    says(&draft, "may have a decimal mark or a group mark");
    assert!(
        draft.text.contains("[values]\ndecimal_mark = \",\""),
        "{}",
        draft.text
    );
}

#[test]
fn the_order_of_day_and_month_is_decided_by_a_sister() {
    let (draft, rows) = rows_of("a,b\n03/04/2031,12/25/2031\n05/06/2031,01/02/2031\n");
    assert_eq!(rows[0], ["2031-03-04", "2031-12-25"], "{}", draft.text);
    assert!(draft.text.contains("date = \"%m/%d/%Y\""), "{}", draft.text);
    assert!(remarks(&draft).is_empty());
    let (draft, _) = rows_of("day,b\n03/04/2031,x\n05/06/2031,y\n");
    says(&draft, "format = \"%m/%d/%Y\"");
}

#[test]
fn null_words_are_those_that_a_sister_proves() {
    let text = "n,town,iso\n1.5,Fen,FE\nNA,NA,NA\n2.5,Lane,LA\n3.5,Moor,MO\n";
    let (draft, rows) = rows_of(text);
    assert!(
        draft.text.contains("null_values = [\"\", \"NA\"]"),
        "{}",
        draft.text
    );
    // A town that is NA is none; a country of two capitals may well be.
    assert_eq!(rows[1], ["NULL", "NULL", "NA"], "{}", draft.text);
    says(&draft, "1 value is \"NA\" and so null");
    says(&draft, "looks like the other values, and kept as text");
    // Nothing proves it: kept, and said.
    let (draft, rows) = rows_of("town,b\nFen,1\nnone,2\nLane,3\n");
    assert_eq!(rows[1][0], "none");
    says(&draft, "1 value is \"none\" and kept as text");
}

#[test]
fn truth_values_of_one_word_are_proven_by_a_sister() {
    let (draft, rows) = rows_of("a,b\nyes,no\nno,no\nyes,no\n");
    assert_eq!(types(&draft), ["boolean", "boolean"]);
    assert_eq!(rows[0], ["true", "false"]);
    let (draft, _) = rows_of("a,b\nyes,1\nyes,1\n");
    assert!(types(&draft)[0].starts_with("varchar"));
}

#[test]
fn texts_keep_their_spaces_unless_the_format_has_them() {
    let (draft, rows) = rows_of("n,town\n1,Fen \n2,Lane\n3,Moor\n");
    assert_eq!(rows[0][1], "Fen ");
    says(&draft, "1 value has spaces at an end, which are kept");
    let (draft, rows) = rows_of("n, town, kg\n1, \"Fen, low\", 2.5\n2, Lane, 3.5\n3, Moor, 1.5\n");
    assert!(
        draft.text.contains("spaces_after_delimiter = \"skip\""),
        "{}",
        draft.text
    );
    assert_eq!(rows[0], ["1", "Fen, low", "25"]);
    let (draft, rows) = rows_of("n|town\n 1 | Fen \n 2 | Lane \n 3 | Moor \n");
    assert_eq!(rows[0], ["1", "Fen"], "{}", draft.text);
}

#[test]
fn fields_empty_in_quotes_are_null_only_where_no_text_is() {
    let (draft, rows) = rows_of("n,a\n\"1\",\"\"\n\"\",\"\"\n\"3\",\"x\"\n");
    assert_eq!(rows[1], ["NULL", ""], "{}", draft.text);
    says(&draft, "quoted_empty = \"null\"");
}

#[test]
fn records_that_lack_their_last_fields_are_told_and_not_filled_up() {
    let text: String = (0..30)
        .map(|n| {
            if n % 3 == 0 {
                format!("{n},a\n")
            } else {
                format!("{n},a,note {n}\n")
            }
        })
        .collect();
    let (path, draft) = draft_of(format!("id,b,note\n{text}").as_bytes(), 1 << 16);
    says(&draft, "10 of 30 records have another number of fields");
    says(&draft, "when_short = \"null\"");
    let out = read_path(&draft.text, path.path());
    assert_eq!(
        (out.rows.len(), out.rejects.len()),
        (20, 10),
        "{}",
        draft.text
    );
    // Without a header nothing says how many they should have.
    let (draft, rows) = rows_of(&text);
    assert_eq!((rows.len(), rows[0][2].as_str()), (30, "NULL"));
    says(&draft, "when_short = \"reject\"");
    // One odd line among many stays a fault.
    let odd: String = (0..300).map(|n| format!("{n},a,note\n")).collect();
    let (path, draft) = draft_of(format!("id,b,note\n{odd}7,a\n{odd}").as_bytes(), 1 << 16);
    let out = read_path(&draft.text, path.path());
    assert_eq!(
        (out.rows.len(), out.rejects.len()),
        (600, 1),
        "{}",
        draft.text
    );
    assert!(
        draft.text.contains("line 302: too few fields"),
        "{}",
        draft.text
    );
}

#[test]
fn a_last_record_that_is_a_total_is_offered_as_a_trailer() {
    let (draft, rows) = rows_of("grower,kg\nAda,2.50\nIvy,3.50\nTotal,6.00\n");
    assert_eq!(rows.len(), 3);
    says(&draft, "trailer = 1");
}

#[test]
fn the_encodings_of_old_programs_are_told() {
    let text = "name,kg\nMärz,1.5\nGrüße,2.5\nZoë,3.5\nÄpfel,1.5\n";
    let page = |c: char| match c {
        'ä' => 0x84,
        'ü' => 0x81,
        'ß' => 0xE1,
        'ë' => 0x89,
        'Ä' => 0x8E,
        c => c as u8,
    };
    let bytes: Vec<u8> = text.chars().map(page).collect();
    let (path, draft) = draft_of(&bytes, 1 << 16);
    assert_eq!(draft.shape.encoding.0, "ibm850");
    let out = read_path(&draft.text, path.path());
    assert_eq!(out.cells()[1][0], "Grüße");
    // A letter that is another by another page.
    let (_, draft) = draft_of(b"name,kg\n\x86pple,1.5\n\x86ker,2.5\n", 1 << 16);
    says(&draft, "\"åpple\" or \"ćpple\"");
}

#[test]
fn an_encoding_that_shows_late_is_told_all_the_same() {
    let mut file = b"id,name\n".to_vec();
    for id in 0..300_000 {
        file.extend_from_slice(format!("{id},Lower Field\n").as_bytes());
    }
    assert!(file.len() > 4 << 20);
    file.extend_from_slice(b"300000,Zo\xEB Lark\n300001,Fran\xE7ois Dell\n");
    let (path, draft) = draft_of(&file, 1 << 16);
    assert_eq!(draft.shape.encoding.0, "windows-1252");
    let out = read_path(&draft.text, path.path());
    assert_eq!((out.rows.len(), out.rejects.len()), (300_002, 0));
    assert_eq!(out.rows[300_000].3[1], "Zoë Lark");
}

#[test]
fn two_line_elements_are_of_two_record_types() {
    let text = "1 00010U 31001.50000000  .00001 0\n2 00010  51.6400 247.4627 0006\n\
        1 00011U 31002.50000000 -.00002 0\n2 00011  98.7000 100.1000 0014\n\
        1 00012U 31003.25000000  .00000 0\n2 00012  28.5000  12.7500 0100\n";
    let (draft, rows) = rows_of(text);
    let told = draft
        .shape
        .parts
        .iter()
        .filter_map(|part| part.told_by.as_ref());
    assert_eq!(told.count(), 2, "{}", draft.text);
    assert_eq!(rows.len(), 6);
    assert!(
        draft.text.contains("if = \"slice(1, 2) = '2 '\""),
        "{}",
        draft.text
    );
}

#[test]
fn header_and_detail_records_are_drafted_each() {
    let text =
        "H|2031-04-01|Fen\nD|1|carrots|2.50\nD|2|leeks|1.00\nD|3|peas|7.25\nD|4|chard|1.00\nT|4\n";
    let (draft, rows) = rows_of(text);
    assert_eq!(rows.len(), 6);
    assert!(draft.text.contains("table = \"t_d\""), "{}", draft.text);
    assert_eq!(types(&draft)[1], "date");
    assert_eq!(
        types(&draft)[3..7],
        ["varchar(40)", "bigint", "varchar(40)", "decimal(10,2)"]
    );
    says(&draft, "3 record types: h, d, t");
}

#[test]
fn what_is_no_table_is_refused() {
    let refused = |bytes: &[u8]| drafted(bytes, 1 << 16, &Wanted::default()).1.unwrap_err();
    assert!(refused(b"PK\x03\x04\x14\0\0\0\x08\0flights.csv").contains("is a zip archive"));
    assert!(refused(b"%PDF-1.7\n%\xE2\xE3\n1 0 obj").contains("pdf"));
    assert!(refused(b"{\n  \"a\": 1,\n  \"b\": [2]\n}\n").contains("JSON document"));
    let prose = "It came in the morning, and nobody had seen it before.\nThe growers went home late;\n\
        since there was much to do, they said nothing at all.\nThen all was quiet again.\n\
        Somebody laughed, somebody else did not: so it goes.\n";
    assert!(refused(prose.as_bytes()).contains("--lines drafts one column of text"));
    let lines = Wanted {
        lines: true,
        table: "t".into(),
        ..Wanted::default()
    };
    let (path, draft) = drafted(prose.as_bytes(), 1 << 16, &lines);
    let draft = draft.unwrap();
    assert_eq!(draft.shape.layout, Layout::Lines);
    assert_eq!(read_path(&draft.text, path.path()).rows.len(), 5);
}

#[test]
fn values_that_stand_against_all_others_make_text_and_are_named() {
    let mut file = String::from("id,n\n");
    for id in 0..5_000 {
        file += &format!("{id},{}\n", id % 7);
    }
    let last = format!("{file}5000,seven\n");
    for block in [1_000, 1 << 16] {
        let (path, draft) = draft_of(last.as_bytes(), block);
        assert_eq!(types(&draft), ["bigint", "varchar(40)"]);
        says(&draft, "line 5002 \"seven\"");
        let out = read_path(&draft.text, path.path());
        assert_eq!((out.rows.len(), out.rejects.len()), (5_001, 0));
    }
}

#[test]
fn titles_totals_comments_and_headerless_files_are_told() {
    let file = "Tansy Lane\nWeek 14\nid|grower|kg\n1|Ada|1.5\n2|\"Bram | Co\"|2.5\nTOTAL|2\n";
    let (path, draft) = draft_of(file.as_bytes(), 1 << 16);
    let shape = &draft.shape;
    assert_eq!(
        (shape.preamble, shape.trailer, shape.heading),
        (2, 1, Heading::Names)
    );
    let out = read_path(&draft.text, path.path());
    assert_eq!(out.cells(), [["1", "Ada", "15"], ["2", "Bram | Co", "25"]]);
    let file = b"# a list\n1;Ada;x\n2;Bram;y\n3;Zoe;z\n4;Ivy;z\n";
    let (path, draft) = draft_of(file, 1 << 16);
    assert_eq!(draft.shape.heading, Heading::None);
    let out = read_path(&draft.text, path.path());
    let found = (out.rows.len(), out.tally.left_out().comments);
    assert_eq!(found, (4, 1), "{}", draft.text);
}

#[test]
fn fixed_widths_are_found_and_drawn() {
    let file = "0001Ada Moor    0012.502031-04-01\n0002Bram        0150.002031-04-02\n\
        0003Wren Cottage0003.252031-04-03\n0004Ivy         0007.752031-04-04\n";
    let (path, draft) = draft_of(file.as_bytes(), 1 << 16);
    assert!(
        draft.text.contains("layout   = \"fixed\""),
        "{}",
        draft.text
    );
    assert!(draft.text.contains("# ....+....1....+"), "{}", draft.text);
    let out = read_path(&draft.text, path.path());
    assert!(out.rejects.is_empty());
    assert_eq!(out.rows[1].3[1], "Bram");
}

#[test]
fn a_listing_of_padded_columns_is_read_as_it_was() {
    let rows = [
        ["Ada Moor", "carrots", "12", "1.50", "2031-04-01", "first"],
        [
            "Ivy",
            "sweet peas",
            "7",
            "12.25",
            "2031-04-02",
            "second, late",
        ],
        ["Wren Cottage", "leeks", "110", "0.75", "2031-04-03", ""],
        ["Bo", "chard", "3", "110.00", "2031-04-04", "x"],
    ];
    let line = |row: &[&str; 6]| {
        format!(
            "{:<13} {:<11} {:>6} {:>8} {:<11} {}\n",
            row[0], row[1], row[2], row[3], row[4], row[5]
        )
    };
    let head = line(&["grower", "product", "crates", "price", "day", "note"]);
    let text: String = [head].into_iter().chain(rows.iter().map(line)).collect();
    let (draft, found) = rows_of(&text);
    assert_eq!(
        names(&draft),
        ["grower", "product", "crates", "price", "day", "note"]
    );
    let numbers = [["12", "150"], ["7", "1225"], ["110", "75"], ["3", "11000"]];
    for (place, row) in found.iter().enumerate() {
        assert_eq!(row[0], rows[place][0], "{}", draft.text);
        assert_eq!(row[1], rows[place][1]);
        assert_eq!(row[2..4], numbers[place]);
        assert_eq!(row[4], rows[place][4]);
        assert_eq!(row[5].replace("NULL", ""), rows[place][5]);
    }
}

/// A column of a made-up table: its type and its values, as the file writes them and
/// as they read.
#[derive(Debug, Clone)]
struct Made {
    ty: Type,
    values: Vec<Option<(String, String)>>,
}

fn made(rows: usize) -> impl Strategy<Value = Made> {
    let of = move |ty: Type, value: BoxedStrategy<(String, String)>| {
        proptest::collection::vec(proptest::option::weighted(0.9, value), rows)
            .prop_map(move |values| Made { ty, values })
    };
    let whole = |n: i64| (n.to_string(), n.to_string());
    let decimal = |n: i64| {
        let sign = if n < 0 { "-" } else { "" };
        let written = format!("{sign}{}.{:02}", n.abs() / 100, n.abs() % 100);
        (written, n.to_string())
    };
    let date = |(y, m, d): (u16, u8, u8)| {
        let written = format!("{d:02}.{m:02}.{y:04}");
        (written, format!("{y:04}-{m:02}-{d:02}"))
    };
    let truth = |t: bool| (if t { "yes" } else { "no" }.to_string(), t.to_string());
    let text = "[a-zé][a-zäö ,;|\"']{0,18}[a-z]";
    let money = Type::Decimal {
        precision: 10,
        scale: 2,
    };
    prop_oneof![
        of(Type::SmallInt, (-300i64..300).prop_map(whole).boxed()),
        of(
            Type::BigInt,
            (3_000_000_000i64..9_000_000_000).prop_map(whole).boxed()
        ),
        of(
            money,
            (-99_999_999i64..99_999_999).prop_map(decimal).boxed()
        ),
        of(
            Type::Date,
            (1u16..9999, 1u8..=12, 1u8..=28).prop_map(date).boxed()
        ),
        of(Type::Boolean, any::<bool>().prop_map(truth).boxed()),
        of(Type::Text, text.prop_map(|t| (t.clone(), t)).boxed()),
    ]
}

fn table() -> impl Strategy<Value = Vec<Made>> {
    (20usize..60).prop_flat_map(|rows| proptest::collection::vec(made(rows), 2..7))
}

/// Whether `found` is a type for values of `made`, with room.
fn suits(made: Type, found: Type) -> bool {
    match (made, found) {
        (Type::Text, found) => found.is_text(),
        (Type::SmallInt | Type::BigInt, found) => matches!(found, Type::Integer | Type::BigInt),
        (Type::Decimal { .. }, Type::Decimal { precision, scale }) => precision >= 10 && scale == 2,
        // One word alone is no truth value yet.
        (Type::Boolean, found) => found == Type::Boolean || found.is_text(),
        (made, found) => made == found,
    }
}

/// How a made-up table is written.
#[derive(Debug, Clone)]
struct Manner {
    delimiter: char,
    end: &'static str,
    titles: usize,
    comments: usize,
    latin: bool,
    decimal_comma: bool,
    unnamed_first: bool,
    delimiter_at_end: bool,
    spaces: bool,
    all_quoted: bool,
    null_word: &'static str,
}

fn manner() -> impl Strategy<Value = Manner> {
    let marks = (
        prop_oneof![Just(','), Just(';'), Just('\t'), Just('|')],
        prop_oneof![Just("\n"), Just("\r\n")],
        0usize..3,
        prop_oneof![4 => Just(0usize), 1 => 1usize..3],
    );
    let flags = (
        any::<bool>(),
        any::<bool>(),
        any::<bool>(),
        any::<bool>(),
        any::<bool>(),
        any::<bool>(),
    );
    (
        marks,
        flags,
        prop_oneof![Just(""), Just("NA"), Just("n/a"), Just("-")],
    )
        .prop_map(
            |((delimiter, end, titles, comments), flags, null_word)| Manner {
                delimiter,
                end,
                // Comments stand above a header, or titles do.
                titles: if comments > 0 { 0 } else { titles },
                comments,
                latin: flags.0,
                decimal_comma: flags.1 && delimiter != ',',
                unnamed_first: flags.2,
                delimiter_at_end: flags.3,
                spaces: flags.4 && delimiter != '\t',
                all_quoted: flags.5,
                null_word,
            },
        )
}

impl Manner {
    fn field(&self, text: &str) -> String {
        let must = text.contains([self.delimiter, '"', '\'', '\n']);
        match must || (self.all_quoted && !text.is_empty()) {
            true => format!("\"{}\"", text.replace('"', "\"\"")),
            false => text.to_string(),
        }
    }

    fn line(&self, mut fields: Vec<String>) -> String {
        if self.delimiter_at_end {
            fields.push(String::new());
        }
        let space = if self.spaces { " " } else { "" };
        fields.join(&format!("{}{space}", self.delimiter)) + self.end
    }

    fn value(&self, column: &Made, row: usize) -> String {
        let is_text = column.ty == Type::Text;
        match &column.values[row] {
            None if is_text => String::new(),
            None => self.field(self.null_word),
            Some((written, _))
                if self.decimal_comma && matches!(column.ty, Type::Decimal { .. }) =>
            {
                self.field(&written.replace('.', ","))
            }
            Some((written, _)) => self.field(written),
        }
    }

    fn file(&self, table: &[Made]) -> Vec<u8> {
        let mut file: String = (0..self.titles)
            .map(|n| format!("Title {n}{}", self.end))
            .collect();
        file += &(0..self.comments)
            .map(|n| format!("# Comment {n}{}", self.end))
            .collect::<String>();
        let name = |c: usize| match c {
            0 if self.unnamed_first => self.field(""),
            c => self.field(&format!("Column {c}")),
        };
        file += &self.line((0..table.len()).map(name).collect());
        for row in 0..table[0].values.len() {
            file += &self.line(table.iter().map(|c| self.value(c, row)).collect());
        }
        match self.latin {
            true => file.chars().map(|c| c as u8).collect(),
            false => file.into_bytes(),
        }
    }
}

proptest! {
    #![proptest_config(common::cases(256))]
    #[test]
    fn what_was_written_is_drafted_and_reads_back(table in table(), manner in manner()) {
        let bytes = manner.file(&table);
        let (path, draft) = draft_of(&bytes, 512);
        let out = read_path(&draft.text, path.path());
        let context = || format!("{}\n{}", draft.text, String::from_utf8_lossy(&bytes));
        let rows = table[0].values.len();
        prop_assert!(out.rejects.is_empty(), "{:?}\n{}", out.rejects, context());
        prop_assert_eq!(out.rows.len(), rows, "{}", context());
        for (place, column) in table.iter().enumerate() {
            let found = draft.columns[place].choice.ty;
            let all_null = column.values.iter().all(Option::is_none);
            let suits = all_null || suits(column.ty, found);
            prop_assert!(suits, "{} as {found}\n{}", column.ty, context());
            for (row, value) in column.values.iter().enumerate() {
                let word = match manner.null_word {
                    // Where no other value says what the column holds, the word is one.
                    word if all_null && column.ty != Type::Text && out.rows[row].3[place] == word => word,
                    _ => "NULL",
                };
                let wanted = match value {
                    None => word,
                    Some((written, _)) if found.is_text() => written,
                    Some((_, read)) => read,
                };
                prop_assert_eq!(&out.rows[row].3[place], wanted, "{}", context());
            }
        }
    }
}

#[test]
fn keys_that_rise_and_keys_that_fall_back_are_told_apart() {
    let told = |ids: Vec<u64>| {
        let rows: String = ids.iter().map(|id| format!("{id},a\n")).collect();
        let (_file, draft) = draft_of(format!("id,note\n{rows}").as_bytes(), 200);
        draft.columns[0].evidence.contains("all distinct")
    };
    assert!(told((1..2_000).collect()));
    // Falls back behind what came first, to numbers that were not there.
    assert!(told((1_000..2_000).chain(1..1_000).collect()));
    // Falls back among the numbers before, once without and once with a repeat.
    assert!(told(
        (1..2_000).map(|n| n * 2).chain([3_001, 3_003]).collect()
    ));
    assert!(!told(
        (1..2_000).map(|n| n * 2).chain([3_001, 3_002]).collect()
    ));
    assert!(!told((1..2_000).chain([700]).collect()));
    // Words among them are told apart from each other, and from the numbers.
    let words = |last: &str| {
        let rows: String = (1..2_000).map(|id| format!("{id},a\n")).collect();
        let file = format!("id,note\n{rows}x7,a\n{last},a\n");
        let (_file, draft) = draft_of(file.as_bytes(), 200);
        draft.columns[0].evidence.contains("all distinct")
    };
    assert!(words("x8") && words("2000.5"));
    assert!(!words("x7") && !words("1999"));
    // In no order at all.
    assert!(told((1..2_000).map(|n| n * 7_919 % 10_007).collect()));
    assert!(!told((1..2_000).map(|n| n * 7_919 % 1_009).collect()));
}

#[test]
fn addresses_and_telephone_numbers_are_no_grouped_numbers() {
    let mut file = String::from("host,ip,tel,sum\n");
    for n in 100..250 {
        file += &format!("h{n},192.168.100.{n},555.100.{n},1.204.{n}\n");
    }
    file += "h,192.168.100.250,555.100.250,204\n";
    let (_, draft) = draft_of(file.as_bytes(), 1 << 16);
    let types = types(&draft);
    assert!(
        types[1].starts_with("varchar") && types[2].starts_with("varchar"),
        "{types:?}"
    );
    // What has values without groups among them is a number.
    assert!(types[3].ends_with("int"), "{types:?}");
}

#[test]
fn a_first_line_of_any_length_is_a_header() {
    let names: Vec<String> = (0..60_000).map(|n| format!("column{n:06}")).collect();
    let file = format!(
        "{}\n{}\n",
        names.join(","),
        vec!["1"; names.len()].join(",")
    );
    assert!(names.join(",").len() > 512 << 10);
    let (_, draft) = draft_of(file.as_bytes(), 1 << 16);
    assert_eq!((draft.columns.len(), draft.records), (60_000, 1));
    assert_eq!(draft.columns[59_999].name, "column059999");
}

#[test]
fn the_header_wins_where_most_lines_have_as_many_fields() {
    // Commas without quotes in one line of 25, or in one of 10; a line that is short.
    for every in [25, 10, 4] {
        let mut file = String::from("id,city,street,qty\n");
        for n in 1..=200 {
            file += &match n {
                _ if n % every == 0 => format!("{n},Town{n},Street {}, back,{}\n", n % 7, n % 9),
                77 | 78 | 79 | 81 | 82 => format!("{n},Town{n}\n"),
                _ => format!("{n},Town{n},Street {},{}\n", n % 7, n % 9),
            };
        }
        let (path, draft) = draft_of(file.as_bytes(), 1 << 16);
        assert_eq!(
            names(&draft),
            ["id", "city", "street", "qty"],
            "{}",
            draft.text
        );
        assert_eq!(draft.shape.heading, Heading::Names);
        assert!(!draft.text.contains("when_short"), "{}", draft.text);
        let wrong = 200 / every + 5;
        says(
            &draft,
            &format!("{wrong} of 200 records have another number of fields"),
        );
        let out = read_path(&draft.text, path.path());
        assert_eq!(
            (out.rows.len(), out.rejects.len()),
            (200 - wrong, wrong),
            "{every}"
        );
        assert!(out.rows.iter().all(|row| row.3[1].starts_with("Town")));
    }
}

#[test]
fn truth_values_are_listed_in_all_of_their_spellings() {
    for words in [["Ja", "ja", "Nein", "nein"], ["JA", "ja", "NEIN", "Nein"]] {
        let lines: String = (0..100)
            .map(|n| format!("{n},{}\n", words[n % 4]))
            .collect();
        let (draft, rows) = rows_of(&format!("id,ok\n{lines}"));
        assert_eq!(types(&draft), ["bigint", "boolean"], "{}", draft.text);
        assert_eq!(rows.len(), 100);
        for (n, row) in rows.iter().enumerate() {
            assert_eq!(row[1], (n % 4 < 2).to_string());
        }
    }
}
