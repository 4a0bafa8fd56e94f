//! Quotes that nothing closes cost one line each, and text that runs over lines is believed.

mod common;

use common::{Out, try_read};

const TYPED: &str = "[columns]\nid = { type = \"bigint\", required = true }\nname = \"text\"\n\
    crates = \"smallint\"\n";
const TEXTS: &str = "[columns]\na = \"text\"\nb = \"text\"\nc = \"text\"\n";

/// The same whatever the size of a block.
fn read(spec: &str, file: &str) -> Out {
    let out = try_read(spec, file.as_bytes(), 1 << 16).unwrap();
    for size in [1, 7, 64] {
        let other = try_read(spec, file.as_bytes(), size).unwrap();
        assert_eq!(other.rows, out.rows, "{size}");
        let told = |out: &Out| {
            let told = out
                .reasons()
                .into_iter()
                .filter(|(_, words)| !words.is_empty());
            told.collect::<Vec<_>>()
        };
        assert_eq!(told(&other), told(&out), "{size}");
        assert_eq!(other.tally.rejected(), out.tally.rejected(), "{size}");
    }
    out
}

fn unclosed(lines: &[u64]) -> Vec<(u64, Vec<&'static str>)> {
    lines.iter().map(|n| (*n, vec!["unclosed-quote"])).collect()
}

/// A thousand records, of which the tenth opens a quote that the nine hundredth closes.
fn with_two_stray_quotes(head: &str) -> String {
    let mut file = format!("{head}\n");
    for n in 1..=1_000 {
        file += &match n {
            10 => "10,\"bolt,3\n".to_string(),
            // A ragged line among them does not hide the others.
            20 => "x,y\n".to_string(),
            900 => "900,bolt\",4\n".to_string(),
            n => format!("{n},bolt,3\n"),
        };
    }
    file
}

#[test]
fn what_may_be_two_stray_quotes_is_rejected_whole_and_counts_its_records() {
    let out = read(TYPED, &with_two_stray_quotes("id,name,crates"));
    assert_eq!(out.rows.len(), 9 + 100);
    assert_eq!(out.reasons(), [(11, vec!["doubtful-quote"])]);
    assert_eq!(out.rejects[0].records, 890);
    assert_eq!(
        out.rejects[0].raw.iter().filter(|b| **b == b'\n').count(),
        891
    );
    assert_eq!((out.tally.records(), out.tally.rejected()), (999, 890));
    // Records after it go on from what it counted.
    assert_eq!(out.rows.last().map(|row| row.0), Some(999));
    assert!(out.tally.files[0].notes.is_empty());
}

#[test]
fn where_nothing_but_the_number_of_fields_tells_quotes_are_believed_and_it_is_said() {
    let believe = format!("[delimited]\nwhen_doubtful = \"believe\"\n{TYPED}");
    for (spec, head) in [(TEXTS, "a,b,c"), (believe.as_str(), "id,name,crates")] {
        let out = read(spec, &with_two_stray_quotes(head));
        assert_eq!((out.rows.len(), out.rejects.len()), (110, 0));
        assert_eq!(
            out.tally.files[0].notes,
            ["the record of line 11 holds 890 lines that look like records"]
        );
    }
}

#[test]
fn records_over_one_line_only_lose_one_line_to_a_stray_quote() {
    let spec = format!("[delimited]\nspan_lines = false\n{TYPED}");
    let out = read(&spec, &with_two_stray_quotes("id,name,crates"));
    assert_eq!(out.rows.len(), 998);
    let wanted = [(11, vec!["unclosed-quote"]), (21, vec!["too-few-fields"])];
    assert_eq!(out.reasons(), wanted);
    let both = format!("[records]\nwhen_short = \"join\"\n{spec}");
    let problems = barrow_core::spec::read_plan(&both).unwrap_err();
    assert!(problems[0].message.contains("one line"), "{problems:?}");
}

#[test]
fn ditto_marks_may_be_quotes_around_something() {
    let file = "id,name,crates\n1,plum,3\n2,\",4\n3,\",5\n4,kale,6\n";
    let out = read(TYPED, file);
    assert_eq!(out.cells(), [["1", "plum", "3"], ["4", "kale", "6"]]);
    assert_eq!(out.reasons(), [(3, vec!["doubtful-quote"])]);
    assert_eq!(out.tally.rejected(), 2);
}

#[test]
fn text_whose_lines_have_the_fields_of_a_record_is_one_value() {
    let two = "[columns]\nid = \"bigint\"\ncomment = \"text\"\n";
    let texts = "[columns]\nauthor = \"text\"\ncomment = \"text\"\n";
    for (spec, key, text) in [
        (two, "1", "sizes:\n10,big\nend"),
        (two, "1", "weight\n10,000 kg\nok"),
        (two, "1", "7,seven\n8,eight\n9,nine\n"),
        (texts, "Ann", "Hello\nDear Sir,\nthank you"),
    ] {
        let head = if spec == two {
            "id,comment"
        } else {
            "author,comment"
        };
        let out = read(spec, &format!("{head}\n{key},\"{text}\"\n2,x\n"));
        assert_eq!(out.cells(), [[key, text], ["2", "x"]]);
    }
}

#[test]
fn a_well_formed_record_that_is_too_long_is_passed_over_to_its_own_end() {
    let spec = format!("[records]\nmax_record_size = 500\n{TYPED}");
    // Long within quotes, within quotes after others, and behind them.
    let lines = "7,seven,7\n".repeat(80);
    let prose = "so to speak\n".repeat(80);
    for long in [
        format!("1,\"{prose}{lines}\"\"{lines}\",3\n"),
        format!("1,\"a\n8,eight,8\nb\",\"{prose}\"\n"),
        format!("\"1\",\"{prose}\",3,\"{lines}\"\n"),
        format!("1,\"a\n8,eight,8\nb\",{}\n", "3".repeat(600)),
    ] {
        let out = read(&spec, &format!("id,name,crates\n{long}2,plum,4\n"));
        assert_eq!(out.cells(), [["2", "plum", "4"]], "{long}");
        assert_eq!(out.reasons()[0], (2, vec!["record-too-long"]));
        assert_eq!(out.tally.rejected(), 1);
        let lines = long.matches('\n').count() as u64;
        assert_eq!(out.rows[0].1, 2 + lines, "{long}");
        let kept: Vec<u8> = out.rejects.iter().flat_map(|r| r.raw.clone()).collect();
        assert_eq!(kept, long.as_bytes());
    }
}

#[test]
fn a_stray_quote_costs_one_line_whatever_stands_after_it() {
    for after in ["", "# a remark", "short", "too,many,fields,here"] {
        let mut file = format!("a,b,c\n\"10,x,y\n{after}\n");
        for n in 0..490 {
            file += &format!("{n},p,q\n");
        }
        file += "491,\"p\",q\n";
        let spec = format!("[records]\ncomment = \"#\"\n{TEXTS}");
        let out = read(&spec, &file);
        let ragged = usize::from(!after.is_empty() && !after.starts_with('#'));
        assert_eq!(out.rows.len(), 491, "{after}");
        assert_eq!(out.rejects.len(), 1 + ragged, "{after}");
        assert_eq!(out.reasons()[0], (2, vec!["unclosed-quote"]));
    }
}

#[test]
fn missing_fields_that_may_be_null_do_not_swallow_records() {
    let spec = format!("[records]\nwhen_short = \"null\"\n{TEXTS}");
    let out = read(&spec, "a,b,c\n\"10,x,y\n\n11,p,q\n12,\"p\",q\n13,p\n");
    assert_eq!(out.rows.len(), 3);
    assert_eq!(out.reasons(), unclosed(&[2]));
}

#[test]
fn record_types_tell_lines_that_look_like_records() {
    let spec = "[records]\nheader = \"none\"\n\
        [[record_type]]\nname = \"order\"\nif = \"field(1) = 'O'\"\ntable = \"orders\"\n[record_type.columns]\n\
        mark = { type = \"text\", load = false }\ncustomer = \"text\"\n\
        [[record_type]]\nname = \"line\"\nif = \"field(1) = 'L'\"\ntable = \"lines\"\n[record_type.columns]\n\
        mark = { type = \"text\", load = false }\nproduce = \"text\"\ncrates = \"integer\"\n";
    let out = read(
        spec,
        "O,\"Ivy\nL,kale,4\nL,leeks,2\nO,Bram\"\nL,\"run\nover\",1\n",
    );
    assert_eq!(out.cells(), [["run\nover", "1"]]);
    assert_eq!(out.reasons(), [(1, vec!["doubtful-quote"])]);
    assert_eq!(out.tally.rejected(), 4);
}

#[test]
fn text_over_several_lines_is_believed() {
    // Lines that look like no record, though they have delimiters, and as many as a record.
    for text in [
        "one\ntwo",
        "12 High St, Leeds\nLS1 4AB, UK",
        "first\n\nlast",
        "a, b, c\nd, e, f\ng, h, i",
        "dear all,\nthree, two, one\nyours",
        "\n",
    ] {
        for spec in [TYPED, TEXTS] {
            let head = if spec == TYPED {
                "id,name,crates"
            } else {
                "a,b,c"
            };
            let file = format!("{head}\n1,\"{text}\",2\n3,plum,4\n");
            let out = read(spec, &file);
            assert_eq!(
                out.cells(),
                [["1", text, "2"], ["3", "plum", "4"]],
                "{text}"
            );
            // The last field, and the first of the next record, are quoted too.
            let file = format!("{head}\n1,\"{text}\",\"2\"\n\"3\",\"plum\",4\n");
            assert_eq!(read(spec, &file).rows.len(), 2, "{text}");
        }
    }
}

#[test]
fn an_escape_of_several_bytes_needs_no_quote() {
    for ending in ["auto", "lf"] {
        let spec = format!(
            "[records]\nheader = \"none\"\nending = \"{ending}\"\n[delimited]\nquote = \"\"\n\
             escape = \"§\"\n[columns]\na = \"text\"\nb = \"text\"\n"
        );
        let out = read(&spec, "£a,b\nx£,y\np§,q,r\n");
        assert_eq!(out.cells(), [["£a", "b"], ["x£", "y"], ["p,q", "r"]]);
    }
}

#[test]
fn an_escape_makes_a_record_end_of_its_own_ordinary() {
    let spec = "[records]\nheader = \"none\"\nending = \"XX\"\n[delimited]\nescape = \"!\"\n\
        [columns]\na = \"text\"\nb = \"text\"\n";
    let out = read(spec, "a!XXb,cXX\"d!XXe!\"f\",gXX");
    assert_eq!(out.cells(), [["aXXb", "c"], ["dXXe\"f", "g"]]);
}

#[test]
fn a_quote_opens_after_spaces_that_are_skipped() {
    let spec = "[records]\nheader = \"names\"\n[delimited]\nspaces_after_delimiter = \"skip\"\n\
        [columns]\nid = \"integer\"\nname = \"text\"\nkg = \"decimal(5,1)\"\n";
    let file = "id, name,   kg\n1, \"Fen, \"\"low\"\"\", 2.5\n2, Lane ,3.5\n3, \"over\nlines\",  1.5\n4,  , 0.5\n";
    let out = read(spec, file);
    assert!(out.rejects.is_empty(), "{:?}", out.rejects);
    let wanted = [
        ["1", "Fen, \"low\"", "25"],
        ["2", "Lane ", "35"],
        ["3", "over\nlines", "15"],
        ["4", "NULL", "5"],
    ];
    assert_eq!(out.cells(), wanted);
    // Without the key the spaces are the field's, and a quote after them is text.
    let out = read(
        &spec
            .replace("skip", "keep")
            .replace("header = \"names\"", "header = \"skip\""),
        "a,b,c\n1, \"x\",2.5\n",
    );
    assert_eq!(out.cells(), [["1", " \"x\"", "25"]]);
}
