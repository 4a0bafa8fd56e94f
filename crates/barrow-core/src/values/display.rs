//! A typed value as people read it.

use crate::types::Type;
use crate::values::cell::{Cell, Day};

/// The value as text; none for null. Text comes as it is.
pub fn shown(cell: Cell, ty: Type, block: &[u8], store: &[u8]) -> Option<String> {
    let scale = match ty {
        Type::Decimal { scale, .. } => usize::from(scale),
        _ => 0,
    };
    Some(match cell {
        Cell::Null => return None,
        Cell::Bool(truth) => truth.to_string(),
        Cell::Int(n) => n.to_string(),
        Cell::Float(n) => n.to_string(),
        Cell::Decimal(n) => decimal(i128::from(n), scale),
        Cell::LongDecimal(piece) => {
            let bytes = piece.of(block, store).try_into();
            decimal(bytes.map_or(0, i128::from_le_bytes), scale)
        }
        Cell::Date(day) => date(day),
        Cell::Time(nanos) => time(nanos),
        Cell::Timestamp(day, nanos) => {
            let utc = if ty == Type::TimestampTz { "Z" } else { "" };
            format!("{} {}{utc}", date(day), time(nanos))
        }
        Cell::Bytes(piece) if ty == Type::Uuid => {
            let uuid = uuid::Uuid::from_slice(piece.of(block, store));
            uuid.map_or_else(|_| String::new(), |uuid| uuid.hyphenated().to_string())
        }
        Cell::Bytes(piece) => {
            let digits = piece.of(block, store).iter().map(|b| format!("{b:02x}"));
            digits.collect()
        }
        Cell::Text(piece) => String::from_utf8_lossy(piece.of(block, store)).into_owned(),
    })
}

/// A number divided by ten to the power of `scale`.
pub fn decimal(n: i128, scale: usize) -> String {
    let digits = format!("{:0width$}", n.unsigned_abs(), width = scale + 1);
    let (whole, fraction) = digits.split_at(digits.len() - scale);
    let sign = if n < 0 { "-" } else { "" };
    let mark = if scale > 0 { "." } else { "" };
    format!("{sign}{whole}{mark}{fraction}")
}

fn date(day: Day) -> String {
    format!("{:04}-{:02}-{:02}", day.year, day.month, day.day)
}

fn time(nanos: u64) -> String {
    let (seconds, fraction) = (nanos / 1_000_000_000, nanos % 1_000_000_000);
    let clock = format!(
        "{:02}:{:02}:{:02}",
        seconds / 3600,
        seconds / 60 % 60,
        seconds % 60
    );
    match fraction {
        0 => clock,
        _ => format!("{clock}.{}", format!("{fraction:09}").trim_end_matches('0')),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_shown_whole() {
        let ty = Type::Decimal {
            precision: 8,
            scale: 2,
        };
        assert_eq!(
            shown(Cell::Decimal(-5), ty, &[], &[]).as_deref(),
            Some("-0.05")
        );
        assert_eq!(
            shown(Cell::Time(1_500_000_000), Type::Time, &[], &[]).as_deref(),
            Some("00:00:01.5")
        );
        assert_eq!(shown(Cell::Null, ty, &[], &[]), None);
    }
}
