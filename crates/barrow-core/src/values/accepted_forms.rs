//! Reads values in the standard notation, as databases write them: a decimal point, ISO
//! 8601 dates, moments in UTC unless they say an offset.

use crate::reason::Code;
use crate::types::Type;
use crate::values::options::ReaderOptions;
use crate::values::reader::ColumnReader;
use crate::values::{Cell, Piece};

/// Reads the values of one type.
#[derive(Debug)]
pub struct Standard(Option<ColumnReader>);

impl Standard {
    /// For values of a type.
    pub fn new(ty: Type) -> Standard {
        let options = ReaderOptions {
            zone: (ty == Type::TimestampTz).then(|| "UTC".to_string()),
            ..ReaderOptions::default()
        };
        Standard(ColumnReader::new(ty, options).ok())
    }

    /// Reads a value; what it names is put into `store`.
    ///
    /// # Errors
    /// It is none of the type.
    pub fn read(&self, text: &str, store: &mut Vec<u8>) -> Result<Cell, Code> {
        let reader = self.0.as_ref().ok_or(Code::NotAllowed)?;
        if reader.ty().is_text() && text.is_empty() {
            return Ok(Cell::Text(Piece::in_store(store.len(), 0)));
        }
        let mut cell = Cell::Null;
        reader.read_text(text.as_bytes(), store, &mut cell, |_| {})?;
        Ok(cell)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::values::shown;

    #[test]
    fn what_databases_write_is_read() {
        let cases = [
            (
                Type::Decimal {
                    precision: 8,
                    scale: 2,
                },
                "-12.5",
                "-12.50",
            ),
            (
                Type::TimestampTz,
                "2031-04-03 08:05:09.500000",
                "2031-04-03 08:05:09.5Z",
            ),
            (
                Type::TimestampTz,
                "2031-04-03 10:05:09+02:00",
                "2031-04-03 08:05:09Z",
            ),
            (Type::Time, "08:05:09.000000", "08:05:09"),
            (Type::Boolean, "1", "true"),
            (Type::Text, "", ""),
        ];
        for (ty, text, wanted) in cases {
            let mut store = Vec::new();
            let cell = Standard::new(ty).read(text, &mut store).unwrap();
            assert_eq!(shown(cell, ty, &[], &store).as_deref(), Some(wanted));
        }
    }
}
