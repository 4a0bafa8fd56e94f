//! What remarks say of counts.

use crate::escape::escape_for_display;

pub(super) fn values_of(count: u64) -> String {
    match count {
        1 => "1 value".into(),
        count => format!("{count} values"),
    }
}

pub(super) fn are(count: u64) -> String {
    format!(
        "{} {}",
        values_of(count),
        if count == 1 { "is" } else { "are" }
    )
}

pub(super) fn have(count: u64) -> String {
    format!(
        "{} {}",
        values_of(count),
        if count == 1 { "has" } else { "have" }
    )
}

pub(super) fn no_number(count: u64) -> String {
    match count {
        1 => "1 value is not a number".into(),
        count => format!("{count} values are not numbers"),
    }
}

/// The first values that stand against a type, with their lines.
pub(super) fn named(count: u64, lines: &[(String, u64, String)]) -> String {
    let named: Vec<String> = lines
        .iter()
        .map(|(file, line, text)| {
            format!(
                "{file} line {line} \"{}\"",
                escape_for_display(text.as_bytes())
            )
        })
        .collect();
    let more = if count as usize > lines.len() {
        ", …"
    } else {
        ""
    };
    format!("{}{more}", named.join(", "))
}
