//! The way out: what is written reads back the same, in any format.

mod common;

use std::io::Write;

use barrow_core::export::{
    Compressor, Lines, RawValue, RecordWriter, RowBatch, RowTyper, StatedTotals, Written,
};
use barrow_core::plan::Plan;
use barrow_core::types::Type;
use barrow_core::values::Cell;
use common::{plan, read, try_read};
use proptest::prelude::*;

/// A value that a database may give.
#[derive(Debug, Clone)]
enum Value {
    Null,
    Int(i64),
    Float(f64),
    Decimal(i128, u32),
    Text(String),
    Bytes(Vec<u8>),
}

impl Value {
    fn loose(&self) -> RawValue<'_> {
        match self {
            Value::Null => RawValue::Null,
            Value::Int(n) => RawValue::Int(*n),
            Value::Float(n) => RawValue::Float(*n),
            Value::Decimal(n, scale) => match i64::try_from(*n) {
                Ok(n) => RawValue::Decimal(n, *scale),
                Err(_) => RawValue::LongDecimal(n.to_le_bytes(), *scale),
            },
            Value::Text(text) => RawValue::Text(text),
            Value::Bytes(bytes) => RawValue::Bytes(bytes),
        }
    }
}

/// Types the rows, and writes them: the whole file, the records that were written as the
/// reader shows them, and how many were unfit.
fn written(plan: &Plan, rows: &[Vec<Value>]) -> (Vec<u8>, Vec<Vec<String>>, Written) {
    let writer = RecordWriter::new(plan).unwrap_or_else(|p| panic!("{p:?}"));
    let lines = Lines::new(plan, writer.columns()).unwrap_or_else(|p| panic!("{p:?}"));
    let writer = writer.summing(lines.summed().to_vec());
    let types: Vec<Type> = writer.columns().map(|c| c.ty).collect();
    let typing = RowTyper::new(&types);
    let mut cells = RowBatch::default();
    typing.begin(&mut cells);
    for values in rows {
        for (column, value) in values.iter().enumerate() {
            typing.put(&mut cells, column, value.loose());
        }
    }
    let mut out = Written::default();
    writer.write_all(&cells, &[], 1, &mut out);
    let unfit: Vec<u64> = out.unfit.iter().map(|u| u.row).collect();
    let kept = (0..rows.len()).filter(|row| !unfit.contains(&(*row as u64 + 1)));
    let shown = kept.map(|row| {
        let row = cells.row(row).iter().zip(&types);
        row.map(|(cell, ty)| shown(*cell, *ty, &cells.store))
            .collect()
    });
    let shown: Vec<Vec<String>> = shown.collect();
    let mut told = StatedTotals {
        rows: shown.len() as u64,
        ..StatedTotals::default()
    };
    let width = lines.summed().len();
    told.sums = (0..width)
        .map(|at| Some(out.summed.iter().skip(at).step_by(width.max(1)).sum()))
        .collect();
    let mut file = Vec::new();
    if plan.export.byte_order_mark {
        file.extend(writer.byte_order_mark().unwrap());
    }
    for line in lines.preamble(&told) {
        file.extend(writer.line(&line).unwrap());
    }
    file.extend(writer.header().unwrap().unwrap_or_default());
    file.extend_from_slice(&out.bytes);
    for line in lines.trailer(&told).unwrap() {
        file.extend(writer.line(&line).unwrap());
    }
    (file, shown, out)
}

/// A cell as the tests' reader shows it.
fn shown(cell: Cell, ty: Type, store: &[u8]) -> String {
    let bytes = |piece: barrow_core::values::Piece| piece.of(&[], store).to_vec();
    match cell {
        Cell::Null => "NULL".into(),
        Cell::Bool(truth) => truth.to_string(),
        Cell::Int(n) | Cell::Decimal(n) => n.to_string(),
        Cell::Float(n) => n.to_string(),
        Cell::LongDecimal(piece) => {
            i128::from_le_bytes(bytes(piece).try_into().unwrap()).to_string()
        }
        Cell::Date(d) => format!("{:04}-{:02}-{:02}", d.year, d.month, d.day),
        Cell::Time(n) => n.to_string(),
        Cell::Timestamp(d, n) => format!("{:04}-{:02}-{:02}+{n}", d.year, d.month, d.day),
        Cell::Bytes(piece) => bytes(piece).iter().map(|b| format!("{b:02x}")).collect(),
        Cell::Text(piece) => {
            let text = String::from_utf8(bytes(piece)).unwrap();
            match ty {
                Type::Char(_) => text.trim_end_matches(' ').to_string(),
                _ => text,
            }
        }
    }
}

fn text() -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        6 => "[a-z]{1,4}",
        1 => Just(" ".to_string()),
        1 => Just(",".to_string()),
        1 => Just("|".to_string()),
        1 => Just("\"".to_string()),
        1 => Just("'".to_string()),
        1 => Just("\\".to_string()),
        1 => Just("\n".to_string()),
        1 => Just("\r".to_string()),
        1 => Just("#".to_string()),
        1 => Just("~".to_string()),
        1 => Just("é".to_string()),
        1 => Just("N/A".to_string()),
        1 => Just("\u{A0}".to_string()),
        1 => Just("梅".to_string()),
        1 => Just("{".to_string()),
    ];
    proptest::collection::vec(piece, 0..5).prop_map(|pieces| pieces.concat())
}

fn date() -> impl Strategy<Value = String> {
    (1970i32..2068, 1..13u32, 1..29u32).prop_map(|(y, m, d)| format!("{y:04}-{m:02}-{d:02}"))
}

fn time() -> impl Strategy<Value = String> {
    (0..24u32, 0..60u32, 0..60u32).prop_map(|(h, m, s)| format!("{h:02}:{m:02}:{s:02}"))
}

/// A column of each sort: its spec without a width, and how its values are made.
fn columns() -> Vec<(&'static str, usize, BoxedStrategy<Value>)> {
    let text = || text().prop_map(Value::Text).boxed();
    let decimal = |most: i128, scale: u32| {
        (-most..most)
            .prop_map(move |n| Value::Decimal(n, scale))
            .boxed()
    };
    let moments = || {
        (date(), time())
            .prop_map(|(d, t)| Value::Text(format!("{d} {t}")))
            .boxed()
    };
    vec![
        (
            "type = \"bigint\"",
            20,
            any::<i64>().prop_map(Value::Int).boxed(),
        ),
        ("type = \"text\"", 40, text()),
        ("type = \"varchar(12)\"", 12, text()),
        ("type = \"char(3)\"", 3, text()),
        (
            "type = \"decimal(12,3)\", decimal_mark = \",\", group_mark = \".\"",
            18,
            decimal(10i128.pow(12), 3),
        ),
        (
            "type = \"decimal(9,2)\", implied_decimals = 2, sign = \"overpunched\"",
            10,
            decimal(10i128.pow(9), 2),
        ),
        (
            "type = \"decimal(7,2)\", sign = \"trailing\"",
            10,
            decimal(10i128.pow(7), 2),
        ),
        (
            "type = \"decimal(30,5)\", sign = \"parentheses\"",
            34,
            decimal(10i128.pow(30), 5),
        ),
        (
            "type = \"boolean\", true_values = [\"ja\"], false_values = [\"nein\"]",
            5,
            (0..2i64).prop_map(Value::Int).boxed(),
        ),
        (
            "type = \"date\", format = \"%d/%m/%y\"",
            8,
            date().prop_map(Value::Text).boxed(),
        ),
        ("type = \"date\"", 10, date().prop_map(Value::Text).boxed()),
        (
            "type = \"time\", format = \"%H.%M.%S\"",
            8,
            time().prop_map(Value::Text).boxed(),
        ),
        (
            "type = \"timestamp\", format = \"%Y%m%dT%H%M%S\"",
            15,
            moments(),
        ),
        (
            "type = \"timestamptz\", time_zone = \"Europe/Berlin\"",
            30,
            moments(),
        ),
        (
            "type = \"timestamptz\", format = \"unix_seconds\"",
            14,
            moments(),
        ),
        (
            "type = \"double\"",
            26,
            any::<f64>()
                .prop_filter("a number", |n| n.is_finite())
                .prop_map(Value::Float)
                .boxed(),
        ),
        (
            "type = \"bytes\", stored_as = \"base64\"",
            20,
            proptest::collection::vec(any::<u8>(), 0..12)
                .prop_map(Value::Bytes)
                .boxed(),
        ),
        (
            "type = \"uuid\"",
            36,
            proptest::collection::vec(any::<u8>(), 16)
                .prop_map(Value::Bytes)
                .boxed(),
        ),
        (
            "type = \"varchar(20)\", lookup = { k = \"kale\", l = \"leeks\" }, when_not_in_lookup = \"keep\"",
            20,
            prop_oneof![
                Just("kale".to_string()),
                Just("k".to_string()),
                "[a-z]{0,3}"
            ]
            .prop_map(Value::Text)
            .boxed(),
        ),
        (
            "type = \"varchar(20)\", replace = [[\"'\", \"\\\"\"], [\"\\\"\", \"'\"]]",
            20,
            text(),
        ),
        (
            "type = \"integer\", stored_as = \"hexadecimal\"",
            10,
            any::<i32>().prop_map(|n| Value::Int(n.into())).boxed(),
        ),
    ]
}

/// The columns of a table, by their place in the list, and its rows.
type Table = (Vec<usize>, Vec<Vec<Value>>);

fn table(counts: std::ops::Range<usize>) -> impl Strategy<Value = Table> {
    let all = columns().len();
    proptest::collection::vec(0..all, counts).prop_flat_map(|places| {
        let columns = columns();
        let row: Vec<BoxedStrategy<Value>> = places
            .iter()
            .map(|place| {
                prop_oneof![1 => Just(Value::Null), 6 => columns[*place].2.clone()].boxed()
            })
            .collect();
        (Just(places), proptest::collection::vec(row, 0..12))
    })
}

/// Reads a file in small blocks, and holds it against the rows that were written.
fn reads_back(spec: &str, file: &[u8], wanted: &[Vec<String>]) {
    let out = try_read(spec, file, 64).unwrap_or_else(|e| panic!("{spec}\n{e}"));
    assert_eq!(
        out.rejects.len(),
        0,
        "{spec}\n{:?}\n{:?}",
        String::from_utf8_lossy(file),
        out.rejects
    );
    let found: Vec<Vec<String>> = out.rows.iter().map(|row| row.3.clone()).collect();
    assert_eq!(found, wanted, "{spec}\n{:?}", String::from_utf8_lossy(file));
}

fn one<T: Clone + std::fmt::Debug + 'static>(all: Vec<T>) -> impl Strategy<Value = T> {
    proptest::sample::select(all)
}

proptest! {
    #![proptest_config(common::cases(400))]

    #[test]
    fn delimited_files_read_back(
        (places, rows) in table(1..6),
        (encoding, ending, delimiter) in (
            one(vec!["utf-8", "windows-1252", "utf-16le", "shift_jis", "ebcdic-037"]),
            one(vec!["auto", "lf", "crlf", "~"]),
            one(vec![",", "|", "\\t", "||"]),
        ),
        (quote, escape, when) in (
            one(vec!["\\\"", "'", ""]),
            one(vec!["doubled", "\\\\"]),
            one(vec!["needed", "text", "always"]),
        ),
        (nulls, empty, comment, header) in (
            one(vec!["[\"\"]", "[\"N/A\"]", "[\"-\", \"\"]"]),
            one(vec!["text", "null"]),
            any::<bool>(),
            any::<bool>(),
        ),
        mark in any::<bool>(),
        spaces in one(vec!["keep", "skip"]),
    ) {
        let escape = if quote.is_empty() && escape == "doubled" { "doubled" } else { escape };
        let comment = if comment { "comment = \"#\"\n" } else { "" };
        let header = if header { "names" } else { "none" };
        let mark = mark && encoding.starts_with("utf");
        let mut spec = format!(
            "[source]\nencoding = \"{encoding}\"\n[records]\nheader = \"{header}\"\n\
             ending = \"{ending}\"\n{comment}[delimited]\ndelimiter = \"{delimiter}\"\n\
             quote = \"{quote}\"\nescape = \"{escape}\"\nquote_when = \"{when}\"\n\
             spaces_after_delimiter = \"{spaces}\"\n\
             [values]\nnull_values = {nulls}\nquoted_empty = \"{empty}\"\n\
             [export]\nwhen_unfit = \"reject\"\nbyte_order_mark = {mark}\n[columns]\n"
        );
        for (at, place) in places.iter().enumerate() {
            spec += &format!("c{at} = {{ {} }}\n", columns()[*place].0);
        }
        // Some of these contradict themselves: an escape where nothing quotes, for one.
        let plan = barrow_core::spec::read_plan(&spec);
        prop_assume!(plan.as_ref().is_ok_and(|plan| RecordWriter::new(plan).is_ok()));
        let plan = plan.map_err(|e| TestCaseError::fail(format!("{e:?}")))?;
        let (file, wanted, out) = written(&plan, &rows);
        reads_back(&spec, &file, &wanted);
        // Where nothing is in the way, every value can be written but texts that mean null.
        let free = encoding.starts_with("utf") && !quote.is_empty() && nulls == "[\"\"]" && empty == "text";
        for unfit in out.unfit.iter().filter(|_| free) {
            let fine = ["too long", "read back", "null", "blank", "lookup", "carriage"];
            prop_assert!(fine.iter().any(|word| unfit.why.says.contains(word)), "{unfit:?}");
        }
    }

    #[test]
    fn fixed_files_read_back(
        (places, rows) in table(1..6),
        encoding in one(vec!["utf-8", "windows-1252", "shift_jis", "ebcdic-037"]),
        ending in one(vec!["auto", "lf", "none", "~"]),
        measure in one(vec!["characters", "bytes"]),
        header in any::<bool>(),
    ) {
        let header = if header && ending != "none" { "skip" } else { "none" };
        let mut spec = format!(
            "[source]\nencoding = \"{encoding}\"\n[records]\nlayout = \"fixed\"\nheader = \"{header}\"\n\
             ending = \"{ending}\"\n[fixed]\nmeasure = \"{measure}\"\n\
             [export]\nwhen_unfit = \"reject\"\n[columns]\n"
        );
        for (at, place) in places.iter().enumerate() {
            let (column, width, _) = &columns()[*place];
            spec += &format!("c{at} = {{ {column}, width = {width} }}\n");
        }
        let plan = barrow_core::spec::read_plan(&spec);
        let plan = plan.map_err(|e| TestCaseError::fail(format!("{e:?}")))?;
        let (file, wanted, _) = written(&plan, &rows);
        reads_back(&spec, &file, &wanted);
    }

    #[test]
    fn packed_and_binary_numbers_read_back(rows in proptest::collection::vec((-99999i64..99999, any::<i16>()), 0..20)) {
        let spec = "[source]\nencoding = \"ebcdic-500\"\n[records]\nlayout = \"fixed\"\nending = \"none\"\n\
                    [fixed]\nmeasure = \"bytes\"\n[columns]\n\
                    a = { type = \"decimal(5,2)\", width = 3, stored_as = \"packed\", implied_decimals = 2 }\n\
                    b = { type = \"smallint\", width = 2, stored_as = \"binary\" }\n\
                    c = { type = \"char(2)\", width = 2 }\n";
        let plan = plan(spec);
        let rows: Vec<Vec<Value>> = rows
            .into_iter()
            .map(|(a, b)| vec![Value::Decimal(a.into(), 2), Value::Int(b.into()), Value::Text("ab".into())])
            .collect();
        let (file, wanted, out) = written(&plan, &rows);
        prop_assert_eq!(out.unfit.len(), 0);
        prop_assert_eq!(file.len(), rows.len() * 7);
        reads_back(spec, &file, &wanted);
    }
}

fn int(n: i64) -> Value {
    Value::Int(n)
}

fn words(text: &str) -> Value {
    Value::Text(text.into())
}

#[test]
fn a_file_has_its_titles_its_sums_and_its_mark() {
    let spec = "[source]\nencoding = \"utf-8\"\n[records]\npreamble = 2\ntrailer = 1\n\
                [delimited]\ndelimiter = \"|\"\n\
                [export]\npreamble = [\"Tansy Lane\", \"{{deliveries}}\"]\n\
                trailer = [\"{rows}|{sum:kg}|{sum:kg}\"]\nbyte_order_mark = true\n\
                [columns]\nid = \"integer\"\nkg = { type = \"decimal(8,2)\", from = \"Weight\" }\n";
    let plan = plan(spec);
    let rows = [
        vec![int(1), Value::Decimal(1250, 2)],
        vec![int(2), Value::Decimal(-5, 1)],
        vec![int(3), Value::Null],
    ];
    let (file, wanted, _) = written(&plan, &rows);
    let text = "\u{FEFF}Tansy Lane\n{deliveries}\nid|Weight\n1|12.50\n2|-0.50\n3|\n3|12.00|12.00\n";
    assert_eq!(String::from_utf8(file.clone()).unwrap(), text);
    reads_back(spec, &file, &wanted);
}

#[test]
fn values_that_would_not_be_read_back_are_told() {
    let spec = "[source]\nencoding = \"windows-1252\"\n[delimited]\nquote = \"\"\n[export]\nwhen_unfit = \"reject\"\n\
                [columns]\na = { type = \"varchar(6)\", trim = \"both\", null_values = [\"\", \"N/A\"] }\n\
                b = { type = \"smallint\", max = 5, required = true }\n";
    let plan = plan(spec);
    let cases = [
        (words("a,b"), int(1), "delimiter"),
        (words("a\nb"), int(1), "record's end"),
        (words(" a"), int(1), "read back as a"),
        (words("N/A"), int(1), "read back as null"),
        (words(""), int(1), "read back as null"),
        (words("梅"), int(1), "lacks the character"),
        (words("leeks and"), int(1), "too long"),
        (words("a"), int(9), "out of range"),
        (words("a"), words("many"), "not a number"),
        (words("a"), int(70_000), "out of range"),
        (words("a"), Value::Null, "required"),
        (Value::Bytes(vec![0xFF]), int(1), "bytes, where"),
        (words("a"), Value::Bytes(vec![1, 2]), "bytes, where"),
    ];
    let rows: Vec<Vec<Value>> = cases
        .iter()
        .map(|(a, b, _)| vec![a.clone(), b.clone()])
        .collect();
    let (file, _, out) = written(&plan, &rows);
    assert_eq!(file, b"a,b\n");
    for (unfit, (a, b, words)) in out.unfit.iter().zip(&cases) {
        assert!(
            unfit.why.says.contains(words),
            "{a:?} {b:?}: {}",
            unfit.why.says
        );
    }
    assert_eq!(out.unfit.len(), cases.len());
}

#[test]
fn policies_change_what_does_not_fit_and_are_counted() {
    let spec = "[export]\nwhen_unencodable = \"replace\"\nreplacement = \"*\"\n[source]\nencoding = \"windows-1252\"\n\
                [columns]\na = { type = \"varchar(3)\", when_too_long = \"cut\" }\n\
                b = { type = \"decimal(4,1)\", when_too_precise = \"round\", when_out_of_range = \"null\" }\n\
                c = { type = \"smallint\", max = 5, when_out_of_range = \"clamp\" }\n";
    let plan = plan(spec);
    let rows = [
        vec![words("leeks"), Value::Decimal(125, 2), int(9)],
        vec![words("梅"), Value::Decimal(99999, 0), int(1)],
    ];
    let (file, _, out) = written(&plan, &rows);
    assert_eq!(file, b"a,b,c\nlee,1.3,5\n*,,1\n");
    assert_eq!(
        (out.unfit.len(), out.repairs.all(), out.replaced),
        (0, 4, 1)
    );
}

#[test]
fn widths_are_kept_whatever_is_in_them() {
    let spec = "[records]\nlayout = \"fixed\"\n[export]\nwhen_unfit = \"reject\"\n[columns]\n\
                a = { type = \"text\", width = 4 }\n\
                b = { type = \"integer\", start = 7, width = 4 }\n\
                c = { type = \"integer\", width = 4, pad = \"0\" }\n\
                d = { type = \"text\", width = 4, align = \"right\", pad = \".\", trim = \"none\", when_too_long = \"reject\" }\n";
    let spec = spec.replace(
        "trim = \"none\", when_too_long = \"reject\"",
        "trim = \"both\"",
    );
    let plan = plan(&spec);
    let rows = [
        vec![words("né"), int(-5), int(-5), words("abcd")],
        vec![words("leeks"), int(1), int(1), words("abcd")],
        vec![words("a"), int(12345), int(1), words("abcd")],
        vec![words("a\nb"), int(1), int(1), words("abcd")],
    ];
    let (file, _, out) = written(&plan, &rows);
    assert_eq!(String::from_utf8(file).unwrap(), "né      -5-005abcd\n");
    let says: Vec<&str> = out.unfit.iter().map(|u| u.why.says.as_str()).collect();
    assert_eq!(says[0], "5 wide, and its field is 4");
    assert_eq!(says[1], "5 wide, and its field is 4");
    assert!(says[2].contains("line end"));
}

#[test]
fn a_header_that_would_be_read_otherwise_is_told() {
    let spec = "[delimited]\nquote = \"\"\n[columns]\na = { type = \"text\", from = \"a,b\" }\n";
    let plan = plan(spec);
    let writer = RecordWriter::new(&plan).unwrap();
    assert!(writer.header().unwrap_err().contains("delimiter"));
}

#[test]
fn every_packing_is_unpacked_again() {
    use barrow_core::source::Compression;
    for packing in [
        Compression::None,
        Compression::Gzip,
        Compression::Zstd,
        Compression::Bzip2,
        Compression::Xz,
    ] {
        let mut packer = Compressor::new(packing, Vec::new()).unwrap();
        packer.write_all(b"a,b\n1,x\n2,y\n").unwrap();
        let file = packer.finish().unwrap();
        assert_eq!(Compression::of(&file), packing);
        let out = read("[columns]\na = \"integer\"\nb = \"text\"\n", &file);
        assert_eq!(out.cells(), [["1", "x"], ["2", "y"]]);
    }
}

#[test]
fn what_cannot_be_written_is_told_before() {
    let problems = |spec: &str| {
        let plan = plan(spec);
        match RecordWriter::new(&plan) {
            Err(problems) => problems.join("; "),
            Ok(writer) => Lines::new(&plan, writer.columns())
                .err()
                .unwrap_or_default()
                .join("; "),
        }
    };
    let column = "[columns]\na = \"text\"\nb = \"date\"\n";
    let cases = [
        (
            "[columns]\na = { type = \"text\", lookup = { y = \"Y\", yes = \"Y\" } }\n".to_string(),
            "both mean",
        ),
        (
            "[columns]\na = { type = \"text\", replace = [[\"a\", \"x\"], [\"b\", \"x\"]] }\n"
                .into(),
            "both mean",
        ),
        (
            format!("[records]\npreamble = 1\n{column}"),
            "[records] preamble = 1",
        ),
        (
            format!("[export]\ntrailer = [\"x\"]\n{column}"),
            "[records] trailer = 0",
        ),
        (
            format!("[records]\ntrailer = 1\n[export]\ntrailer = [\"{{sum:b}}\"]\n{column}"),
            "no exact sum",
        ),
        (
            format!("[records]\ntrailer = 1\n[export]\ntrailer = [\"{{sum:z}}\"]\n{column}"),
            "no column",
        ),
        (
            format!("[records]\npreamble = 1\n[export]\npreamble = [\"{{rows}}\"]\n{column}"),
            "write them in the trailer",
        ),
        (
            "[columns]\na = { type = \"boolean\", true_values = [\"Y\"] }\n".into(),
            "false_values",
        ),
    ];
    for (spec, words) in cases {
        let found = problems(&spec);
        assert!(found.contains(words), "{spec}\n{found}");
    }
}

#[test]
fn sums_are_of_what_was_written() {
    let spec = "[records]\ntrailer = 1\n[export]\ntrailer = [\"{sum:a} {sum:b}\"]\n[columns]\n\
                a = { type = \"decimal(4,1)\", when_too_precise = \"round\" }\n\
                b = { type = \"smallint\", max = 5, when_out_of_range = \"clamp\" }\n";
    let plan = plan(spec);
    let rows = [
        vec![Value::Decimal(125, 2), int(9)],
        vec![Value::Decimal(10, 1), int(70_000)],
        vec![Value::Null, int(-1)],
    ];
    let (file, _, out) = written(&plan, &rows);
    assert_eq!(
        String::from_utf8(file).unwrap(),
        "a,b\n1.3,5\n1.0,5\n,-1\n2.3 9\n"
    );
    assert_eq!(out.repairs.all(), 3);
}

#[test]
fn what_no_type_of_ours_has_is_never_written_as_its_description() {
    let plan = plan("[export]\nwhen_unfit = \"reject\"\n[columns]\na = \"text\"\n");
    let writer = RecordWriter::new(&plan).unwrap();
    let typing = RowTyper::new(&[Type::Text]);
    let uuid = [7u8; 16];
    let values = [
        RawValue::Lost("a date beyond 0001 to 9999"),
        RawValue::Float(f64::NAN),
        RawValue::Float(f64::NEG_INFINITY),
        RawValue::Bytes(&[0xFF]),
        RawValue::Uuid(uuid),
    ];
    let mut cells = RowBatch::default();
    typing.begin(&mut cells);
    for value in values {
        typing.put(&mut cells, 0, value);
    }
    let mut out = Written::default();
    writer.write_all(&cells, &[], 0, &mut out);
    assert_eq!(out.unfit.len(), 4);
    assert_eq!(out.bytes, b"07070707-0707-0707-0707-070707070707\n");
}

#[test]
fn bytes_of_a_record_s_end_end_no_record() {
    let spec = "[records]\nlayout = \"fixed\"\nending = \"lf\"\n[fixed]\nmeasure = \"bytes\"\n\
                [export]\nwhen_unfit = \"reject\"\n[columns]\n\
                a = { type = \"smallint\", width = 2, stored_as = \"binary\", max = 300 }\n\
                b = { type = \"text\", width = 2 }\n";
    let plan = plan(spec);
    // 10 and 266 have the byte of a line feed; 400 is beyond the column's bounds.
    let rows: Vec<Vec<Value>> = [9, 10, 266, 400, 11]
        .map(|n| vec![int(n), words("x")])
        .to_vec();
    let (file, wanted, out) = written(&plan, &rows);
    assert_eq!(file, b"\0\x09x \n\0\x0Bx \n");
    assert_eq!(out.unfit.len(), 3);
    reads_back(spec, &file, &wanted);
}

#[test]
fn whatever_is_typed_is_quoted_where_it_would_be_read_otherwise() {
    let table = [vec![Value::Int(-5), Value::Decimal(175, 2), words("plum")]];
    for (keys, form) in [
        // The delimiter, a comment's start and the quote itself may stand in a number.
        ("[delimited]\ndelimiter = \"-\"\n", "header = \"none\""),
        ("[delimited]\ndelimiter = \".\"\n", "header = \"none\""),
        ("[delimited]\nquote = \"5\"\n", "header = \"none\""),
        ("", "header = \"none\"\ncomment = \"-\""),
    ] {
        let spec = format!(
            "[records]\n{form}\n{keys}[columns]\na = \"integer\"\nb = \"decimal(6,2)\"\nc = \"text\"\n"
        );
        let plan = plan(&spec);
        let (file, shown, out) = written(&plan, &table);
        // Written, and read back the same; or told.
        if out.unfit.is_empty() {
            reads_back(&spec, &file, &shown);
        }
        assert_eq!(shown.len() + out.unfit.len(), 1, "{spec}");
    }
    let spec =
        "[records]\nheader = \"none\"\ncomment = \"-\"\n[columns]\na = \"integer\"\nb = \"text\"\n";
    let (file, _, _) = written(
        &plan(spec),
        &[vec![int(-5), words("a")], vec![int(5), words("b")]],
    );
    assert_eq!(String::from_utf8(file).unwrap(), "\"-5\",a\n5,b\n");
}

#[test]
fn rows_that_the_reader_would_leave_out_are_told() {
    let kept = "[records]\nheader = \"none\"\nkeep_if = \"a > 3\"\n[columns]\na = \"integer\"\n";
    let checked =
        "[records]\nheader = \"none\"\n[columns]\na = \"integer\"\n[[check]]\nthat = \"a > 3\"\n";
    for spec in [kept, checked] {
        let Ok(plan) = barrow_core::spec::read_plan(spec) else {
            panic!("{spec}");
        };
        let (file, shown, out) = written(&plan, &[vec![int(4)], vec![int(3)]]);
        assert_eq!((shown.len(), out.unfit.len()), (1, 1), "{spec}");
        reads_back(spec, &file, &shown);
    }
}

#[test]
fn a_mark_of_text_at_the_start_of_a_file_stays_text() {
    let spec = "[records]\nheader = \"none\"\n[columns]\na = \"text\"\nb = \"integer\"\n";
    let (file, shown, out) = written(&plan(spec), &[vec![words("\u{feff}plum"), int(5)]]);
    assert!(out.unfit.is_empty());
    reads_back(spec, &file, &shown);
}

#[test]
fn null_alone_in_a_record_is_no_blank_line() {
    let spec = "[records]\nheader = \"none\"\n[columns]\na = \"text\"\n";
    let (file, shown, out) = written(&plan(spec), &[vec![words("x")], vec![Value::Null]]);
    assert_eq!(shown.len() + out.unfit.len(), 2);
    if out.unfit.is_empty() {
        reads_back(spec, &file, &shown);
    } else {
        assert_eq!(file, b"x\n");
    }
}

#[test]
fn a_record_that_looks_like_several_is_told_what_would_help() {
    let row = [Value::Null, Value::Text("x\n1,y\n2,z".into())];
    for (when, helps) in [("needed", true), ("always", false)] {
        let plan = plan(&format!(
            "[delimited]\nquote_when = \"{when}\"\n[columns]\na = \"integer\"\nb = \"text\"\n"
        ));
        let (_, _, out) = written(&plan, &[row.to_vec()]);
        let says = &out.unfit[0].why.says;
        assert!(says.contains("look like records"), "{says}");
        assert_eq!(says.contains("say [delimited] quote_when"), helps, "{says}");
        assert_eq!(says.contains("a null without quotes"), !helps, "{says}");
    }
}

#[test]
fn a_record_that_looks_like_several_is_told_with_any_ending() {
    for ending in ["~", "|;", "lf", "auto"] {
        let spec = format!(
            "[records]\nending = \"{ending}\"\n[delimited]\nquote_when = \"always\"\n\
             [columns]\na = \"integer\"\nb = \"text\"\n"
        );
        let end = if ending.len() > 2 || ending == "lf" {
            "\n"
        } else {
            ending
        };
        let text = format!("x{end}1,y{end}2,z");
        let (_, _, out) = written(&plan(&spec), &[vec![Value::Null, words(&text)]]);
        assert_eq!(out.unfit.len(), 1, "{ending}");
    }
}

#[test]
fn a_record_that_looks_like_several_is_written_where_quotes_are_believed() {
    let text = "x\n1,y\n2,z";
    for spec in [
        "[columns]\na = \"text\"\nb = \"text\"\n",
        "[delimited]\nwhen_doubtful = \"believe\"\n[columns]\na = \"integer\"\nb = \"text\"\n",
    ] {
        let (file, shown, out) = written(&plan(spec), &[vec![Value::Null, words(text)]]);
        assert!(out.unfit.is_empty(), "{spec}");
        reads_back(spec, &file, &shown);
    }
    let spec = "[delimited]\nspan_lines = false\n[columns]\na = \"text\"\nb = \"text\"\n";
    let (_, _, out) = written(&plan(spec), &[vec![Value::Null, words(text)]]);
    assert!(out.unfit[0].why.says.contains("span_lines is false"));
}
