//! Exact numbers from a row's cells, whatever the cells' types.

use barrow_core::reason::Code;
use barrow_core::values::Cell;

use crate::encoded::lines::Fault;

/// A whole number or decimal as a whole number times ten to the power of minus `scale`;
/// none for another value.
pub fn scaled(cell: Cell, scale: u32, block: &[u8], store: &[u8]) -> Option<(i128, u32)> {
    match cell {
        Cell::Int(n) => Some((i128::from(n), 0)),
        Cell::Bool(truth) => Some((i128::from(truth), 0)),
        Cell::Decimal(n) => Some((i128::from(n), scale)),
        Cell::LongDecimal(piece) => {
            let bytes = piece.of(block, store).try_into().ok()?;
            Some((i128::from_le_bytes(bytes), scale))
        }
        _ => None,
    }
}

/// The same number with at most `most` digits after the mark.
///
/// # Errors
/// Digits would be lost.
pub fn with_scale(number: (i128, u32), most: u32) -> Result<(i128, u32), Fault> {
    let (n, scale) = number;
    if scale <= most {
        return Ok(number);
    }
    let unit = 10i128.pow(scale - most);
    match n % unit {
        0 => Ok((n / unit, most)),
        _ => Err(Fault::new(
            Code::TooPrecise,
            format!("the table's column has room for {most} digits after the mark"),
        )),
    }
}

/// Nanoseconds as microseconds, where the column has `digits` after the second.
///
/// # Errors
/// Digits would be lost.
pub fn micros(nanos: u64, digits: u32) -> Result<u64, Fault> {
    let unit = 10u64.pow(9 - digits.min(6));
    match nanos % unit {
        0 => Ok(nanos / 1_000),
        _ => Err(Fault::new(
            Code::TooPrecise,
            format!("the table's column has room for {digits} digits of a second"),
        )),
    }
}

/// A number as the nearest floating point number that gives it back.
///
/// # Errors
/// It has more digits than such a number holds.
pub fn float(number: (i128, u32)) -> Result<f64, Fault> {
    let (n, scale) = number;
    if n.unsigned_abs() < 1_000_000_000_000_000 && scale <= 22 {
        return Ok(n as f64 / 10f64.powi(scale as i32));
    }
    Err(Fault::new(
        Code::TooPrecise,
        "the table's column holds floating point numbers, which would round it to 15 digits",
    ))
}

/// A number as one of 32 bits, where that is the same; a `real` of a spec was read as
/// one already.
///
/// # Errors
/// It would be rounded.
pub fn narrow(n: f64, is_real: bool) -> Result<f32, Fault> {
    let short = n as f32;
    if f64::from(short) == n || is_real {
        return Ok(short);
    }
    Err(Fault::new(
        Code::TooPrecise,
        "the table's column holds numbers of 32 bits, which would round it",
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digits_are_dropped_only_if_they_are_zeros() {
        assert_eq!(with_scale((12_500, 3), 1), Ok((125, 1)));
        assert_eq!(with_scale((125, 1), 4), Ok((125, 1)));
        assert!(with_scale((12_501, 3), 1).is_err());
        assert_eq!(micros(1_500_000_000, 1), Ok(1_500_000));
        assert!(micros(1_550_000_000, 1).is_err() && micros(1, 6).is_err());
        assert_eq!(float((-5, 2)), Ok(-0.05));
        assert!(float((i128::from(i64::MAX), 2)).is_err());
    }
}
