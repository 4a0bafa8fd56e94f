//! Laws of records that name their fields: whatever the bytes, nothing falls over, every record
//! is a row or a reject, and what a parser that knows nothing of us reads is what we read.

mod common;

use std::convert::Infallible;
use std::io::Write;

use barrow_core::Error;
use barrow_core::pipeline::{Encoded, Failure, Options, Sink, run};
use barrow_core::reason::Code;
use barrow_core::source::SourceFile;
use barrow_core::spec::read_plan;
use barrow_core::values::{Valued, shown};
use proptest::prelude::*;
use serde_json::{Map, Value};

const SPEC: &str = "[source]\nwhen_empty = \"skip\"\n[records]\nlayout = \"json\"\n\
    when_new_column = \"ignore\"\n[columns]\na = { type = \"text\", optional = true }\n\
    b = { type = \"text\", from = \"/b/c\", optional = true }\n\
    d = { type = \"json\", optional = true }\n";

/// What was read: rows as text, and the codes and bytes of rejects.
#[derive(Default)]
struct Read {
    rows: Vec<Vec<Option<String>>>,
    rejects: Vec<(Code, Vec<u8>)>,
    records: u64,
}

impl Sink for Read {
    type Encoded = ();
    type Error = Infallible;

    fn take(&mut self, batch: &mut Encoded<()>) -> Result<(), Infallible> {
        self.records += batch.block.marks.len() as u64;
        let plan = read_plan(SPEC).unwrap();
        let kind = &plan.record_types[0];
        for rows in &batch.parts {
            for row in 0..rows.height {
                let cell = |slot: usize| {
                    let value = Valued {
                        cell: rows.cell(slot, row),
                        block: &batch.block.bytes,
                        store: &rows.store,
                    };
                    let ty = kind.columns[kind.read[slot]].ty;
                    shown(value.cell, ty, value.block, value.store)
                };
                self.rows.push((0..kind.read.len()).map(cell).collect());
            }
        }
        for reject in &batch.rejects {
            let code = reject
                .reasons
                .first()
                .map_or(Code::RecordTooLong, |reason| reason.code);
            self.rejects.push((code, reject.raw.clone()));
        }
        Ok(())
    }
}

fn read(bytes: &[u8], block_size: usize) -> Read {
    try_read(bytes, block_size).unwrap_or_else(|error| panic!("{error}"))
}

fn try_read(bytes: &[u8], block_size: usize) -> Result<Read, Error> {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(bytes).unwrap();
    let options = Options {
        threads: 1,
        block_size,
        ..Options::default()
    };
    let mut found = Read::default();
    let files = vec![SourceFile::local(file.path())];
    let plan = read_plan(SPEC).unwrap();
    match run(&plan, files, options, &|_| {}, &mut found) {
        Ok(()) => Ok(found),
        Err(Failure::Source(error)) => Err(error),
        Err(Failure::Sink(never)) => match never {},
    }
}

/// Any JSON value, not too deep.
fn value() -> impl Strategy<Value = Value> {
    let leaf = prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        any::<i64>().prop_map(Value::from),
        any::<String>().prop_map(Value::from),
    ];
    leaf.prop_recursive(3, 12, 4, |inner| {
        let key = prop_oneof![Just("c".to_string()), any::<String>()];
        prop_oneof![
            prop::collection::vec(inner.clone(), 0..4).prop_map(Value::from),
            prop::collection::btree_map(key, inner, 0..4)
                .prop_map(|map| Value::from(map.into_iter().collect::<Map<_, _>>())),
        ]
    })
}

fn object() -> impl Strategy<Value = Value> {
    let key = prop_oneof![
        Just("a".to_string()),
        Just("b".to_string()),
        Just("d".to_string()),
        any::<String>(),
    ];
    prop::collection::btree_map(key, value(), 0..6)
        .prop_map(|map| Value::from(map.into_iter().collect::<Map<_, _>>()))
}

/// A value as a text column has it: the text of a string, and all else as it is written.
fn as_text(value: Option<&Value>) -> Option<String> {
    match value? {
        Value::Null => None,
        Value::String(text) => Some(text.clone()),
        other => Some(other.to_string()),
    }
}

proptest! {
    #![proptest_config(common::cases(200))]

    #[test]
    fn objects_have_the_values_that_another_parser_finds(
        objects in prop::collection::vec(object(), 1..12),
        frames in 0..3,
        block_size in prop_oneof![Just(1usize), Just(64), Just(4096)],
    ) {
        let lines: Vec<String> = objects.iter().map(Value::to_string).collect();
        let file = match frames {
            0 => lines.join("\n"),
            1 => lines.iter().map(|line| format!("\u{1e}{line}\n")).collect(),
            _ => format!("[{}]", lines.join(",\n")),
        };
        let found = read(file.as_bytes(), block_size);
        prop_assert_eq!(found.rejects.len(), 0, "{:?}", found.rejects);
        let expected: Vec<Vec<Option<String>>> = objects
            .iter()
            .map(|object| {
                let whole = object.get("d").filter(|value| !value.is_null());
                vec![
                    as_text(object.get("a")),
                    as_text(object.pointer("/b/c")),
                    whole.map(Value::to_string),
                ]
            })
            .collect();
        prop_assert_eq!(found.rows, expected);
    }

    #[test]
    fn whatever_the_bytes_every_record_is_a_row_or_a_reject(
        bytes in prop::collection::vec(
            prop_oneof![
                Just(b"{\"a\":".to_vec()), Just(b"\"x\"".to_vec()), Just(b"}".to_vec()),
                Just(b"\n".to_vec()), Just(b"[".to_vec()), Just(b"]".to_vec()),
                Just(b",".to_vec()), Just(b"\x1e".to_vec()), Just(b"\\ud800".to_vec()),
                Just(b"1".to_vec()), prop::collection::vec(any::<u8>(), 0..4),
            ],
            0..60,
        ),
        block_size in prop_oneof![Just(1usize), Just(16), Just(4096)],
    ) {
        let bytes = bytes.concat();
        let found = match try_read(&bytes, block_size) {
            Ok(found) => found,
            // An array must be whole: then it is none for another parser either.
            Err(error) => {
                prop_assert!(serde_json::from_slice::<Value>(&bytes).is_err(), "{}", error);
                prop_assert!(try_read(&bytes, 7).is_err());
                return Ok(());
            }
        };
        if bytes.trim_ascii_start().starts_with(b"[") && found.rejects.is_empty() {
            prop_assert!(serde_json::from_slice::<Vec<Value>>(&bytes).is_ok());
        }
        prop_assert_eq!(found.records, (found.rows.len() + found.rejects.len()) as u64);
        // Rows are the records that another parser takes for objects.
        if !bytes.iter().any(|byte| matches!(byte, b'[' | 0x1E)) && found.rejects.is_empty() {
            let lines = bytes.split(|byte| *byte == b'\n');
            let objects = lines.filter(|line| {
                matches!(serde_json::from_slice(line), Ok(Value::Object(_)))
            });
            prop_assert_eq!(objects.count(), found.rows.len());
        }
        // However it is cut into blocks, it is the same.
        let other = read(&bytes, 7);
        prop_assert_eq!((other.rows, other.rejects), (found.rows, found.rejects));
    }
}
