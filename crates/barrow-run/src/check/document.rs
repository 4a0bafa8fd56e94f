//! A check for programs, as docs/json.md describes it.

use serde::{Serialize, Serializer};
use serde_json::{Value, json};

use super::column_comparison::{Side, Weight};
use super::{CheckReport, Connection};
use crate::report::{FORMAT, error_document};

impl Serialize for CheckReport {
    /// The document of a load, with the columns, and why a load would stop.
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let summary = serde_json::to_value(&self.summary).map_err(serde::ser::Error::custom)?;
        let mut document = match summary {
            Value::Null => json!({ "format": FORMAT }),
            summary => summary,
        };
        document["kind"] = "check".into();
        let one = |(file, keys): &(String, Vec<String>)| json!({ "file": file, "keys": keys });
        document["settings"] = self.settings.iter().map(one).collect();
        document["columns"] = columns(&self.columns);
        document["stops"] = self.stops.as_ref().map(error_document).into();
        document.serialize(serializer)
    }
}

impl Serialize for Connection {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        document(self).serialize(serializer)
    }
}

/// Header, spec and table side by side.
fn columns(record_types: &[(String, Vec<Side>)]) -> Value {
    let pair = |pair: &Option<(String, String)>| {
        pair.as_ref()
            .map(|(name, ty)| json!({ "name": name, "type": ty }))
    };
    let each = record_types.iter().flat_map(|(kind, sides)| {
        sides.iter().map(move |side| {
            json!({
                "record_type": (!kind.is_empty()).then_some(kind),
                "header": side.header, "spec": pair(&side.spec), "table": pair(&side.table),
                "verdict": side.verdict.words,
                "fits": side.verdict.weight == Weight::Fine,
            })
        })
    });
    each.collect()
}

fn document(connection: &Connection) -> Value {
    let url = connection.url.to_string();
    let Some(server_info) = &connection.server_info else {
        return json!({
            "format": FORMAT, "kind": "connection",
            "database": url, "is_there": false, "missing": [],
        });
    };
    let tables: Vec<Value> = server_info
        .tables
        .iter()
        .map(|r| {
            json!({
                "table": r.table, "is_there": r.is_there, "select": r.select, "insert": r.insert,
                "update": r.update, "delete": r.delete, "create": r.create,
            })
        })
        .collect();
    json!({
        "format": FORMAT, "kind": "connection",
        "database": url, "is_there": true, "server": server_info.server, "user": server_info.user,
        "encrypted": server_info.encrypted, "tables": tables,
        "ledger": (!server_info.ledger.is_empty()).then(|| json!({ "is_there": server_info.has_ledger() })),
        "missing": connection.missing,
    })
}
