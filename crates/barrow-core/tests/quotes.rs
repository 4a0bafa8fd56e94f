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
        assert_eq!(other.reasons(), out.reasons(), "{size}");
    }
    out
}

fn unclosed(lines: &[u64]) -> Vec<(u64, Vec<&'static str>)> {
    lines.iter().map(|n| (*n, vec!["unclosed-quote"])).collect()
}

#[test]
fn two_stray_quotes_cost_no_record_between_them() {
    for (spec, odd) in [(TYPED, "10"), (TEXTS, "10"), (TYPED, "x,y,z"), (TEXTS, "x")] {
        let mut file = String::from(match spec {
            TYPED => "id,name,crates\n",
            _ => "a,b,c\n",
        });
        for n in 1..=1_000 {
            file += &match n {
                10 => "10,\"bolt,3\n".to_string(),
                // A ragged line among them does not hide the others.
                20 if odd != "10" => format!("{odd}\n"),
                900 => "900,bolt\",4\n".to_string(),
                n => format!("{n},bolt,3\n"),
            };
        }
        let out = read(spec, &file);
        let wrong = usize::from(odd != "10");
        assert_eq!(out.rows.len(), 999 - wrong, "{odd}");
        assert_eq!(out.reasons()[0], (11, vec!["unclosed-quote"]));
        assert_eq!(out.rejects[0].raw, b"10,\"bolt,3\n");
        assert_eq!(out.rejects.len(), 1 + wrong);
    }
}

#[test]
fn ditto_marks_are_no_quotes_around_anything() {
    let out = read(
        TYPED,
        "id,name,crates\n1,plum,3\n2,\",4\n3,\",5\n4,kale,6\n",
    );
    assert_eq!(out.cells(), [["1", "plum", "3"], ["4", "kale", "6"]]);
    assert_eq!(out.reasons(), unclosed(&[3, 4]));
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
fn kinds_of_record_are_told_apart_within_quotes_too() {
    let spec = "[records]\nheader = \"none\"\n\
        [[record_type]]\nname = \"order\"\nif = \"field(1) = 'O'\"\ntable = \"orders\"\n[record_type.columns]\n\
        mark = { type = \"text\", load = false }\ncustomer = \"text\"\n\
        [[record_type]]\nname = \"line\"\nif = \"field(1) = 'L'\"\ntable = \"lines\"\n[record_type.columns]\n\
        mark = { type = \"text\", load = false }\nproduce = \"text\"\ncrates = \"integer\"\n";
    let out = read(
        spec,
        "O,\"Ivy\nL,kale,4\nL,leeks,2\nO,Bram\"\nL,\"run\nover\",1\n",
    );
    let wanted: [&[&str]; 4] = [
        &["kale", "4"],
        &["leeks", "2"],
        &["Bram\""],
        &["run\nover", "1"],
    ];
    assert_eq!(out.cells(), wanted);
    assert_eq!(out.reasons(), unclosed(&[1]));
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
