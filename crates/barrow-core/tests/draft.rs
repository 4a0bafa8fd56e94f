//! Drafts of files that were made from known tables.

mod common;

use std::io::Write;

use barrow_core::draft::{self, Draft, Into};
use barrow_core::flow::Options;
use barrow_core::source::SourceFile;
use barrow_core::spec::Type;
use common::read_path;
use proptest::prelude::*;

fn draft_of(bytes: &[u8], block_size: usize) -> (tempfile::NamedTempFile, Draft) {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(bytes).unwrap();
    let files = [SourceFile::Path(file.path().to_path_buf())];
    let into = Into {
        table: "t".into(),
        ..Into::default()
    };
    let options = Options {
        threads: 2,
        block_size,
        ..Options::default()
    };
    let draft = draft::draft(&files, &into, options, &mut |_, _| {});
    (file, draft.unwrap_or_else(|e| panic!("{e}")))
}

fn types(draft: &Draft) -> Vec<String> {
    let columns = draft.columns.iter();
    columns.map(|c| c.choice.ty.to_string()).collect()
}

fn remarks(draft: &Draft) -> Vec<&str> {
    let columns = draft.columns.iter();
    columns
        .flat_map(|c| &c.remarks)
        .map(String::as_str)
        .collect()
}

#[test]
fn the_narrowest_type_that_holds_every_value_is_taken() {
    let uuids = &[
        "00112233-4455-6677-8899-aabbccddeeff",
        "00112233-4455-6677-8899-aabbccddeefe",
    ];
    let cases: &[(&[&str], &str)] = &[
        (&["1", "-32768"], "smallint"),
        (&["1", "40000"], "integer"),
        (&["1", "3000000000"], "bigint"),
        (&["1", "99999999999999999999"], "decimal(20,0)"),
        (&["1.5", "-22.25"], "decimal(4,2)"),
        (&["1.500", "2.000"], "decimal(2,1)"),
        (&["1,5", "22,25"], "decimal(4,2)"),
        (&["1.204,50", "3,00"], "decimal(5,1)"),
        (&["1e5", "2.5"], "double"),
        (&["2031-04-01", "2031-12-31"], "date"),
        (&["01.04.2031", "31.12.2031"], "date"),
        (&["01/04/31", "31/12/31"], "date"),
        (&["10:30", "23:59"], "time"),
        (
            &["2031-04-01 10:30:00", "2031-04-01 10:30:00.5"],
            "timestamp",
        ),
        (
            &["2031-04-01T10:30:00Z", "2031-04-01T10:30:00+02:00"],
            "timestamptz",
        ),
        (&["true", "False"], "boolean"),
        (&["Y", "N"], "boolean"),
        (uuids, "uuid"),
        (&["{\"a\": 1}", "[]"], "json"),
        (&["007", "12"], "varchar(10)"),
        (&["A", "B"], "char(1)"),
        (&["carrots", "sweet peas"], "varchar(10)"),
        (&["1", "x"], "char(1)"),
    ];
    for (values, ty) in cases {
        // A second column, so that there is a delimiter.
        let lines: String = values.iter().map(|v| format!("{v}|x\n")).collect();
        let (_, draft) = draft_of(format!("name|b\n{lines}").as_bytes(), 1 << 16);
        assert_eq!(types(&draft)[0], *ty, "{values:?}\n{}", draft.text);
    }
}

#[test]
fn what_cannot_be_decided_is_said() {
    let (_, draft) = draft_of(b"day,b\n03/04/2031,x\n05/06/2031,y\n", 1 << 16);
    assert_eq!(
        remarks(&draft),
        ["undecided: every value also fits %m/%d/%Y"]
    );
    assert!(draft.text.contains("# ! undecided"), "{}", draft.text);
    let (_, draft) = draft_of(b"day,b\n03/04/2031,x\n25/06/2031,y\n", 1 << 16);
    assert!(remarks(&draft).is_empty());
    let (_, draft) = draft_of(b"n|b\n1,204|x\n2,500|y\n", 1 << 16);
    assert!(
        remarks(&draft)[0].contains("also reads with"),
        "{}",
        draft.text
    );
}

#[test]
fn a_value_that_stands_against_all_others_is_named_with_its_line() {
    let mut file = String::from("id,n\n");
    for id in 0..5_000 {
        file += &format!("{id},{}\n", id % 7);
    }
    let last = format!("{file}5000,seven\n");
    for block in [1_000, 1 << 16] {
        let (path, draft) = draft_of(last.as_bytes(), block);
        assert_eq!(types(&draft), ["smallint", "smallint"]);
        let remarks = remarks(&draft);
        assert!(remarks[0].contains("line 5002 \"seven\""), "{remarks:?}");
        let out = read_path(&draft.text, path.path());
        assert_eq!((out.rows.len(), out.rejects.len()), (5_000, 1));
    }
}

#[test]
fn titles_totals_comments_and_headerless_files_are_told() {
    let file = "Tansy Lane\nWeek 14\nid|grower|kg\n1|Ada|1.5\n2|\"Bram | Co\"|2\nTOTAL|2\n";
    let (path, draft) = draft_of(file.as_bytes(), 1 << 16);
    let shape = &draft.shape;
    assert_eq!(
        (shape.preamble, shape.trailer, shape.has_header),
        (2, 1, true)
    );
    let out = read_path(&draft.text, path.path());
    assert_eq!(out.cells(), [["1", "Ada", "15"], ["2", "Bram | Co", "20"]]);
    let file = b"# a list\n1;Ada;x\n2;Bram;y\n3;Zoe;z\n4;Ivy;z\n";
    let (path, draft) = draft_of(file, 1 << 16);
    assert!(!draft.shape.has_header);
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

/// Whether `found` is no wider than it must be for values of `made`.
fn is_narrow(made: Type, found: Type) -> bool {
    match (made, found) {
        (Type::Text, found) => found.is_text(),
        // Few digits fit a narrower type, and without decimals it is whole.
        (Type::Decimal { .. }, Type::Decimal { precision, scale }) => precision <= 10 && scale <= 2,
        (Type::Decimal { .. }, Type::SmallInt | Type::Integer) => true,
        // One word alone is no truth value yet.
        (Type::Boolean, found) => found == Type::Boolean || found.is_text(),
        (made, found) => made == found,
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]
    #[test]
    fn what_was_written_is_drafted_and_reads_back(
        table in table(),
        delimiter in prop_oneof![Just(','), Just(';'), Just('\t'), Just('|')],
        preamble in 0usize..3, latin in any::<bool>(), crlf in any::<bool>(),
    ) {
        let end = if crlf { "\r\n" } else { "\n" };
        let field = |text: &str| match text.contains([delimiter, '"', '\'', '\n']) {
            true => format!("\"{}\"", text.replace('"', "\"\"")),
            false => text.to_string(),
        };
        let line = |fields: Vec<String>| fields.join(&delimiter.to_string()) + end;
        let mut file: String = (0..preamble).map(|n| format!("Title {n}{end}")).collect();
        file += &line((0..table.len()).map(|c| format!("Column {c}")).collect());
        let rows = table[0].values.len();
        for row in 0..rows {
            let value = |c: &Made| c.values[row].as_ref().map_or(String::new(), |v| field(&v.0));
            file += &line(table.iter().map(value).collect());
        }
        let bytes: Vec<u8> = match latin {
            true => file.chars().map(|c| c as u8).collect(),
            false => file.clone().into_bytes(),
        };
        let (path, draft) = draft_of(&bytes, 512);
        let out = read_path(&draft.text, path.path());
        let context = || format!("{}\n{file}", draft.text);
        prop_assert!(out.rejects.is_empty(), "{:?}\n{}", out.rejects, context());
        prop_assert_eq!(out.rows.len(), rows, "{}", context());
        for (place, column) in table.iter().enumerate() {
            let found = draft.columns[place].choice.ty;
            let all_null = column.values.iter().all(Option::is_none);
            let narrow = all_null || is_narrow(column.ty, found);
            prop_assert!(narrow, "{} as {found}\n{}", column.ty, context());
            let same_scale = matches!((column.ty, found), (Type::Decimal { .. }, Type::Decimal { scale: 2, .. }));
            if column.ty != found && !found.is_text() && !same_scale {
                continue;
            }
            for (row, value) in column.values.iter().enumerate() {
                let wanted = match value {
                    None => "NULL",
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
    assert!(types[3].starts_with("decimal"), "{types:?}");
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
