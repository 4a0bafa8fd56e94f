//! The spec of an export that has none: RFC 4180, in UTF-8, with a header.

use std::fmt::Write;

use barrow_core::types::Type;

/// A spec that reads and writes a table's columns. `file` and `into` are named in it where
/// they are known.
pub fn spec(
    columns: &[(String, Type)],
    file: Option<&str>,
    into: Option<&str>,
    table: Option<&str>,
) -> String {
    let mut text = String::from("# Made by barrow export.\n");
    if let Some(file) = file {
        let _ = writeln!(text, "[source]\nfiles = [{}]\n", quoted(file));
    }
    text += "[records]\nending = \"crlf\"\n\n[columns]\n";
    for (name, ty) in columns {
        let _ = writeln!(text, "{} = \"{ty}\"", quoted(name));
    }
    if into.is_some() || table.is_some() {
        text += "\n[target]\n";
        if let Some(into) = into {
            text += "# Where it came from; a load back into it would double its rows.\n";
            let _ = writeln!(text, "# database  = {}", quoted(into));
        }
        if let Some(table) = table {
            let _ = writeln!(text, "table = {}", quoted(table));
        }
    }
    text
}

/// Text as a TOML string (TOML 1.0, "String").
fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => {
                out.push('\\');
                out.push(c);
            }
            c if c.is_control() => {
                let _ = write!(out, "\\u{:04X}", u32::from(c));
            }
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_cannot_leave_their_quotes() {
        let columns = [("a\"] = 1\n[x".to_string(), Type::BigInt)];
        let text = spec(&columns, Some("o.csv"), Some("sqlite:m.db"), Some("t"));
        let plan = barrow_core::spec::read_plan(&text).unwrap();
        assert_eq!(plan.record_types[0].columns[0].name, "a\"] = 1\n[x");
        assert_eq!(plan.files, ["o.csv"]);
    }
}
