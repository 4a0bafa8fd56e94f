//! Writes a row of an answer as JSON.

use std::io::Write;

use barrow_core::escape::hexadecimal;
use barrow_core::types::Type;
use rusqlite::types::Value;
use serde_json::value::RawValue;

use crate::Column;

/// Appends a row as a list of JSON, as `docs/json.md` describes it: a boolean as `true` or
/// `false`, a decimal with all its digits, binary data in hexadecimal.
///
/// ```
/// use barrow_query::{Column, Value, write_row};
///
/// let columns = ["crop", "weight"].map(|name| Column { name: name.into(), ty: None });
/// let mut out = Vec::new();
/// write_row(&["kale".to_string().into(), Value::Real(2.5)], &columns, &mut out);
/// assert_eq!(out, br#"["kale", 2.5]"#);
/// ```
pub fn write_row(row: &[Value], columns: &[Column], out: &mut Vec<u8>) {
    out.push(b'[');
    for (place, (value, column)) in row.iter().zip(columns).enumerate() {
        if place > 0 {
            out.extend_from_slice(b", ");
        }
        write_value(value, column.ty, out);
    }
    out.push(b']');
}

/// Writing to memory does not fail.
fn write_value(value: &Value, ty: Option<Type>, out: &mut Vec<u8>) {
    let _ = match (value, ty) {
        (Value::Null, _) => out.write_all(b"null"),
        (Value::Integer(n), Some(Type::Boolean)) => write!(out, "{}", *n != 0),
        (Value::Integer(n), _) => write!(out, "{n}"),
        (Value::Real(n), _) if !n.is_finite() => write!(out, "\"{n}\""),
        (Value::Real(n), _) => serde_json::to_writer(&mut *out, n).map_err(Into::into),
        (Value::Text(text), Some(Type::Decimal { .. })) if is_number(text) => {
            out.write_all(text.as_bytes())
        }
        (Value::Text(text), _) => serde_json::to_writer(&mut *out, text).map_err(Into::into),
        (Value::Blob(bytes), _) => write!(out, "\"{}\"", hexadecimal(bytes)),
    };
}

/// Whether text is a number of JSON as it stands (RFC 8259, section 6). A column that a database
/// declares as decimal may have any text, such as `null`.
fn is_number(text: &str) -> bool {
    let is_digit = |byte: &u8| byte.is_ascii_digit();
    text.as_bytes().last().is_some_and(is_digit)
        && text.starts_with(|c: char| c == '-' || c.is_ascii_digit())
        && serde_json::from_str::<&RawValue>(text).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_of_value_is_json() {
        let decimal = Some(Type::Decimal {
            precision: 30,
            scale: 2,
        });
        let cases = [
            (Value::Null, None, "null"),
            (Value::Integer(1), Some(Type::Boolean), "true"),
            (Value::Integer(-7), None, "-7"),
            (Value::Real(0.1), None, "0.1"),
            (Value::Real(f64::INFINITY), None, "\"inf\""),
            (
                Value::Text("9007199254740993.25".into()),
                decimal,
                "9007199254740993.25",
            ),
            (Value::Text("007".into()), decimal, "\"007\""),
            (Value::Text("null".into()), decimal, "\"null\""),
            (
                Value::Text("{\"a\":1}".into()),
                decimal,
                "\"{\\\"a\\\":1}\"",
            ),
            (Value::Text("5 ".into()), decimal, "\"5 \""),
            (Value::Text("-0.50".into()), decimal, "-0.50"),
            (Value::Text("7".into()), None, "\"7\""),
            (Value::Text("a\"\u{1}é".into()), None, "\"a\\\"\\u0001é\""),
            (Value::Blob(vec![0, 0xAB]), None, "\"00ab\""),
        ];
        for (value, ty, expected) in cases {
            let column = Column {
                name: "c".into(),
                ty,
            };
            let mut out = Vec::new();
            write_row(&[value], &[column], &mut out);
            assert_eq!(String::from_utf8_lossy(&out), format!("[{expected}]"));
        }
    }
}
