//! From typed cells to what SQLite binds, row by row; done by the workers, so
//! that the thread that talks to SQLite only binds and steps.

use std::io::Write;

use barrow_core::pipeline::{Batch, Rows};
use barrow_core::types::Type;
use barrow_core::values::canonical::{put_clock, put_day};
use barrow_core::values::{Cell, Piece};

use super::types::Affinity;
use crate::encoded::{self, EncodedBatch, EncodedPart, Slot};
use crate::table::TableColumn;

/// Every whole number up to here has its own 64-bit floating point number.
const WHOLE: u64 = 1 << 53;

/// A number of SQLite's that gives a decimal back as it was.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Exact {
    /// A whole number of 64 bits.
    Whole(i64),
    /// The floating point number nearest to a decimal of at most 15 digits.
    Float(f64),
}

/// The number of SQLite's that gives back `n` divided by ten to the power of `scale`, if one
/// does: a whole number of 64 bits, or one of at most 15 significant digits.
///
/// ```
/// use barrow_targets::sqlite::{Exact, exact_number};
/// assert_eq!(exact_number(1250, 2), Some(Exact::Float(12.5)));
/// assert_eq!(exact_number(1_234_567_890_123_456_700, 2), Some(Exact::Whole(12_345_678_901_234_567)));
/// assert_eq!(exact_number(1_234_567_890_123_456_789, 2), None);
/// ```
pub fn exact_number(n: i128, scale: u32) -> Option<Exact> {
    let (mut digits, mut after) = (n, scale);
    while after > 0 && digits % 10 == 0 {
        digits /= 10;
        after -= 1;
    }
    if after == 0 {
        return i64::try_from(digits).ok().map(Exact::Whole);
    }
    if digits.unsigned_abs() >= 1_000_000_000_000_000 {
        return None;
    }
    // Up to here ten to the power of it is exact, so that the division rounds once.
    let number = match after {
        ..=22 => digits as f64 / 10f64.powi(after as i32),
        _ => format!("{digits}e-{after}").parse().ok()?,
    };
    Some(Exact::Float(number))
}

/// How one column's cells become SQLite's values; chosen once.
#[derive(Debug, Clone, Copy)]
pub struct Encoding {
    scale: u32,
    /// Ten to the power of `scale`.
    unit: f64,
    affinity: Affinity,
    /// Whether a decimal is stored as a number, and not as text.
    as_number: bool,
    /// Whether a timestamp ends with a Z, in a table of an earlier version.
    has_z: bool,
    /// Whether fractions of a second have three, six or nine digits, in such a table.
    has_zeros: bool,
    /// Whether sixteen bytes are a UUID.
    is_uuid: bool,
    /// Whether SQLite puts a number of its own in place of null.
    is_numbered: bool,
}

/// Encodes the good rows of one of a batch's parts, one after the other.
pub fn encode(columns: &[Encoding], part: usize, batch: &mut EncodedBatch) {
    let mut slots = match encoded::spare(batch, part) {
        EncodedPart::Slots(slots) => slots,
        _ => Vec::new(),
    };
    let Batch { block, parts, .. } = &mut batch.batch;
    let rows = &mut parts[part];
    slots.clear();
    slots.resize(rows.good.len() * columns.len(), Slot::Null);
    let Rows {
        cells,
        height,
        good,
        store,
        ..
    } = rows;
    for (number, column) in columns.iter().enumerate() {
        let cells = &cells[number * *height..][..*height];
        let slots = slots.iter_mut().skip(number).step_by(columns.len());
        for (row, slot) in good.iter().zip(slots) {
            *slot = column.slot(cells[*row as usize], &block.bytes, store);
        }
    }
    batch.encoded[part] = EncodedPart::Slots(slots);
}

impl Encoding {
    /// For a column of `ty` in the spec, and the table's, whose times may be in the form of
    /// earlier versions.
    pub fn new(ty: Type, column: Option<&TableColumn>, older_times: bool) -> Encoding {
        let declared = column.map_or("", |column| column.declared.as_str());
        let (precision, scale) = match ty {
            Type::Decimal { precision, scale } => (precision, u32::from(scale)),
            _ => (0, 0),
        };
        let affinity = Affinity::of(declared);
        // A column without a type keeps what it is given: numbers, so that they
        // compare as numbers, unless some would be rounded.
        let as_number = match affinity {
            Affinity::Text => false,
            Affinity::Blob => precision <= 15,
            Affinity::Integer | Affinity::Real | Affinity::Numeric => true,
        };
        Encoding {
            scale,
            unit: 10f64.powi(scale as i32),
            affinity,
            as_number,
            has_z: older_times && ty == Type::TimestampTz,
            has_zeros: older_times,
            is_uuid: ty == Type::Uuid,
            is_numbered: column.is_some_and(|column| column.numbered),
        }
    }

    #[inline]
    fn slot(&self, cell: Cell, block: &[u8], store: &mut Vec<u8>) -> Slot {
        match cell {
            Cell::Null if self.is_numbered => Slot::Numbered,
            Cell::Null => Slot::Null,
            Cell::Bool(truth) => Slot::Int(i64::from(truth)),
            Cell::Int(n) if self.affinity != Affinity::Real || n.unsigned_abs() <= WHOLE => {
                Slot::Int(n)
            }
            Cell::Int(_) => Slot::Lossy,
            Cell::Float(n) if self.affinity == Affinity::Text => made(store, |s| put_float(s, n)),
            Cell::Float(n) => Slot::Float(n),
            Cell::Decimal(n) => self.decimal(n, store),
            Cell::LongDecimal(piece) => {
                match piece.of(block, store).try_into().map(i128::from_le_bytes) {
                    Ok(number) => self.long_decimal(number, store),
                    Err(_) => Slot::Lossy,
                }
            }
            Cell::Date(day) => made(store, |s| put_day(day, s)),
            Cell::Time(nanos) => made(store, |s| self.put_time(s, nanos)),
            Cell::Timestamp(day, nanos) => made(store, |s| {
                put_day(day, s);
                s.push(b' ');
                self.put_time(s, nanos);
                if self.has_z {
                    s.push(b'Z');
                }
            }),
            Cell::Text(piece) => Slot::Text(piece),
            Cell::Bytes(piece) if self.is_uuid => put_uuid(store, piece),
            Cell::Bytes(piece) => Slot::Bytes(piece),
        }
    }

    /// A time of day, whose fraction has no zeros at its end: so text sorts as times do.
    fn put_time(&self, store: &mut Vec<u8>, nanos: u64) {
        let fraction = put_clock(nanos, store);
        if fraction == 0 {
            return;
        }
        put(store, format_args!(".{fraction:09}"));
        let mut digits = 9u32;
        if self.has_zeros {
            digits = [3, 6]
                .into_iter()
                .find(|n| fraction.is_multiple_of(10u32.pow(9 - n)))
                .unwrap_or(9);
        } else {
            while digits > 1 && fraction.is_multiple_of(10u32.pow(10 - digits)) {
                digits -= 1;
            }
        }
        store.truncate(store.len() - (9 - digits as usize));
    }

    #[inline]
    fn decimal(&self, n: i64, store: &mut Vec<u8>) -> Slot {
        if self.as_number && n.unsigned_abs() < 1_000_000_000_000_000 {
            // Both are exact, so the division rounds once: the nearest number
            // to the decimal, which gives back its 15 digits.
            return match self.scale {
                0 => Slot::Int(n),
                1..=22 => Slot::Float(n as f64 / self.unit),
                _ => self.long_decimal(i128::from(n), store),
            };
        }
        self.long_decimal(i128::from(n), store)
    }

    /// Text where the column keeps it; a number where that is exact.
    fn long_decimal(&self, n: i128, store: &mut Vec<u8>) -> Slot {
        if !self.as_number {
            return made(store, |s| put_decimal(s, n, self.scale));
        }
        match exact_number(n, self.scale) {
            Some(Exact::Whole(n))
                if self.affinity == Affinity::Real && n.unsigned_abs() > WHOLE =>
            {
                Slot::Lossy
            }
            Some(Exact::Whole(n)) => Slot::Int(n),
            Some(Exact::Float(n)) => Slot::Float(n),
            None => Slot::Lossy,
        }
    }
}

fn made(store: &mut Vec<u8>, put: impl FnOnce(&mut Vec<u8>)) -> Slot {
    let at = store.len();
    put(store);
    Slot::Text(Piece::in_store(at, store.len() - at))
}

/// A UUID in its usual form: five groups of small hexadecimal digits.
fn put_uuid(store: &mut Vec<u8>, piece: Piece) -> Slot {
    let bytes: Result<[u8; 16], _> = piece.of(&[], store).try_into();
    let Ok(bytes) = bytes else {
        return Slot::Lossy;
    };
    made(store, |s| {
        for (place, byte) in bytes.iter().enumerate() {
            if matches!(place, 4 | 6 | 8 | 10) {
                s.push(b'-');
            }
            put(s, format_args!("{byte:02x}"));
        }
    })
}

fn put(store: &mut Vec<u8>, text: std::fmt::Arguments<'_>) {
    // Writing to a vector cannot fail.
    let _ = store.write_fmt(text);
}

fn put_decimal(store: &mut Vec<u8>, n: i128, scale: u32) {
    let unit = 10u128.pow(scale);
    let sign = if n < 0 { "-" } else { "" };
    let (whole, fraction) = (n.unsigned_abs() / unit, n.unsigned_abs() % unit);
    match scale {
        0 => put(store, format_args!("{sign}{whole}")),
        _ => put(
            store,
            format_args!("{sign}{whole}.{fraction:0width$}", width = scale as usize),
        ),
    }
}

/// The shortest digits that read back as the same number.
fn put_float(store: &mut Vec<u8>, n: f64) {
    if n == 0.0 || (1e-5..1e16).contains(&n.abs()) {
        put(store, format_args!("{n}"));
    } else {
        put(store, format_args!("{n:e}"));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(slot: Slot, store: &[u8]) -> String {
        match slot {
            Slot::Text(piece) => String::from_utf8_lossy(piece.of(&[], store)).into_owned(),
            other => format!("{other:?}"),
        }
    }

    fn column(declared: &str) -> TableColumn {
        TableColumn {
            name: "a".into(),
            declared: declared.into(),
            ty: None,
            required: false,
            generated: false,
            numbered: declared == "rowid",
            not_null: false,
        }
    }

    #[test]
    fn null_is_not_a_number_of_the_databases_own() {
        let slot = |declared| {
            let encoding = Encoding::new(Type::BigInt, Some(&column(declared)), false);
            encoding.slot(Cell::Null, &[], &mut Vec::new())
        };
        assert_eq!(
            (slot("rowid"), slot("integer")),
            (Slot::Numbered, Slot::Null)
        );
    }

    fn decimal(scale: u8, declared: &str, n: i128) -> String {
        let encoding = Encoding::new(
            Type::Decimal {
                precision: 38,
                scale,
            },
            Some(&column(declared)),
            false,
        );
        let mut store = Vec::new();
        let slot = match i64::try_from(n) {
            Ok(short) => encoding.decimal(short, &mut store),
            Err(_) => encoding.long_decimal(n, &mut store),
        };
        text(slot, &store)
    }

    #[test]
    fn decimals_are_bound_exactly_or_not_at_all() {
        assert_eq!(decimal(2, "DECIMAL(8,2)", 1250), "Float(12.5)");
        assert_eq!(decimal(2, "DECIMAL(8,2)", -1), "Float(-0.01)");
        assert_eq!(decimal(2, "DECIMAL_TEXT(38,2)", -1), "-0.01");
        assert_eq!(decimal(2, "NUMERIC", 12_345_678_901_234_567), "Lossy");
        assert_eq!(decimal(30, "NUMERIC", 5 * 10i128.pow(29)), "Float(0.5)");
        assert_eq!(decimal(30, "NUMERIC", -5), "Float(-5e-30)");
        assert_eq!(
            decimal(18, "NUMERIC", 3 * 10i128.pow(36)),
            "Int(3000000000000000000)"
        );
        assert_eq!(decimal(0, "NUMERIC", 1 << 64), "Lossy");
        assert_eq!(
            decimal(2, "NUMERIC", 12_345_678_901_234_500),
            "Int(123456789012345)"
        );
        let most = 99_999_999_999_999_999_999_999_999_999_999_999_999i128;
        assert_eq!(decimal(38, "TEXT", -most), format!("-0.{most}"));
        assert_eq!(decimal(0, "TEXT", most), most.to_string());
    }

    #[test]
    fn times_have_the_digits_they_need_and_sort_as_text() {
        let time = |older: bool, nanos: u64| {
            let encoding = Encoding::new(Type::Time, None, older);
            let mut store = Vec::new();
            encoding.put_time(&mut store, nanos);
            String::from_utf8(store).unwrap()
        };
        for (nanos, now, older) in [
            (0, "00:00:00", "00:00:00"),
            (86_399_500_000_000, "23:59:59.5", "23:59:59.500"),
            (1_000, "00:00:00.000001", "00:00:00.000001"),
            (1_200_000, "00:00:00.0012", "00:00:00.001200"),
            (1, "00:00:00.000000001", "00:00:00.000000001"),
        ] {
            assert_eq!(
                (time(false, nanos), time(true, nanos)),
                (now.into(), older.into())
            );
        }
        let mut nanos: Vec<u64> = (0..2_000)
            .map(|n| n * 7_919 % 1_009 * 10u64.pow((n % 10) as u32))
            .collect();
        nanos.sort_unstable();
        let texts: Vec<String> = nanos.iter().map(|nanos| time(false, *nanos)).collect();
        assert!(texts.is_sorted());
    }

    #[test]
    fn a_float_in_a_column_of_text_reads_back() {
        for n in [0.1, 1e300, -5e-324, 1e16, 123_456_789.012_345_68] {
            let mut store = Vec::new();
            put_float(&mut store, n);
            assert_eq!(String::from_utf8(store).unwrap().parse::<f64>().unwrap(), n);
        }
    }
}
