//! A look into files for programs, as docs/json.md describes it.

use barrow_core::reason::Reject;
use barrow_core::types::Type;
use serde::{Serialize, Serializer};
use serde_json::json;

use super::{Entry, Lines, RecordTypeColumns, Records};
use crate::report::FORMAT;

impl Serialize for Records {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        records_document(self).serialize(serializer)
    }
}

impl Serialize for Lines {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        lines_document(self).serialize(serializer)
    }
}

fn records_document(view: &Records) -> serde_json::Value {
    let column = |(n, t): &(String, Type)| json!({ "name": n, "type": t.to_string() });
    let columns = |kind: &RecordTypeColumns| kind.columns.iter().map(column).collect::<Vec<_>>();
    let kind =
        |kind: &RecordTypeColumns| json!({ "record_type": kind.name, "columns": columns(kind) });
    let record_types: Vec<_> = view.record_types.iter().map(kind).collect();
    let entry = |entry| entry_document(entry, &view.record_types);
    let records: Vec<_> = view.entries.iter().map(entry).collect();
    json!({ "format": FORMAT, "kind": "records", "record_types": record_types, "records": records, "notes": view.notes })
}

fn entry_document(entry: &Entry, record_types: &[RecordTypeColumns]) -> serde_json::Value {
    let reasons = |reject: &Reject| {
        let reason = |r: &barrow_core::reason::Reason| json!({ "code": r.code.word(), "column": r.column, "value": r.value, "says": r.says });
        reject.reasons.iter().map(reason).collect::<Vec<_>>()
    };
    json!({
        "file": entry.file, "record": entry.record, "line": entry.line,
        "record_type": entry.values.as_ref().ok().and(record_types[entry.kind].name.as_deref()),
        "values": entry.values.as_ref().ok(), "rejected": entry.values.as_ref().err().map(reasons),
    })
}

fn lines_document(view: &Lines) -> serde_json::Value {
    let lines: Vec<_> = view
        .lines
        .iter()
        .map(|l| json!({ "line": l.number, "shown": l.shown }))
        .collect();
    let record = view.record.as_ref().map(|record| {
        let fields = record.fields.iter().map(|f| {
            json!({ "field": f.field, "column": f.column, "start": f.start, "length": f.length,
                    "troubles": f.troubles })
        });
        json!({
            "record": record.record, "first_line": record.first_line,
            "fields": fields.collect::<Vec<_>>(), "troubles": record.troubles,
        })
    });
    json!({ "format": FORMAT, "kind": "lines", "file": view.file, "at": view.at, "lines": lines, "record": record })
}
