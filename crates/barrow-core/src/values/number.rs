//! Whole numbers, exact decimals, and binary floating point.

use super::cell::{Cell, Piece};
use super::kind::{Kind, Place};
use crate::rejects::Code;
use crate::spec::Type;

/// Whole numbers between two bounds.
#[derive(Debug)]
pub struct Whole {
    least: i64,
    most: i64,
}

impl Whole {
    /// The numbers that `ty` holds.
    pub fn new(ty: Type) -> Whole {
        let (least, most) = match ty {
            Type::SmallInt => (i16::MIN as i64, i16::MAX as i64),
            Type::Integer => (i32::MIN as i64, i32::MAX as i64),
            _ => (i64::MIN, i64::MAX),
        };
        Whole { least, most }
    }

    /// What is neither plain digits nor short: `12.00` is whole, `12.50` is not,
    /// and what is a number, yet too large for 64 bits, is out of range.
    #[cold]
    fn unusual(&self, value: &[u8]) -> Result<Cell, Code> {
        match scaled(value, 0, 38)? {
            n if n >= i128::from(self.least) && n <= i128::from(self.most) => {
                Ok(Cell::Int(n as i64))
            }
            _ => Err(Code::OutOfRange),
        }
    }
}

impl Kind for Whole {
    #[inline]
    fn read(&self, value: &[u8], _: Place<'_>) -> Result<Cell, Code> {
        let (negative, digits) = signed(value);
        // 18 digits always fit 64 bits.
        if digits.is_empty() || digits.len() > 18 {
            return self.unusual(value);
        }
        let mut number = 0i64;
        for byte in digits {
            let digit = byte.wrapping_sub(b'0');
            if digit > 9 {
                return self.unusual(value);
            }
            number = number * 10 + i64::from(digit);
        }
        let number = if negative { -number } else { number };
        if number < self.least || number > self.most {
            return Err(Code::OutOfRange);
        }
        Ok(Cell::Int(number))
    }
}

/// Exact decimals.
#[derive(Debug)]
pub struct Decimal {
    precision: u32,
    scale: u32,
}

impl Decimal {
    /// Decimals of `precision` digits, `scale` of them after the mark.
    pub fn new(precision: u8, scale: u8) -> Decimal {
        Decimal {
            precision: u32::from(precision),
            scale: u32::from(scale),
        }
    }

    /// Up to 18 digits in all, which 64 bits hold; anything else is left to the
    /// long way round.
    #[inline]
    fn short(&self, value: &[u8]) -> Option<i64> {
        let (negative, digits) = signed(value);
        if digits.len() > 18 {
            return None;
        }
        let mut number = 0i64;
        let mut seen = 0;
        let mut after = None;
        for byte in digits {
            let digit = byte.wrapping_sub(b'0');
            if digit <= 9 {
                number = number * 10 + i64::from(digit);
                seen += 1;
            } else if *byte == b'.' && after.is_none() {
                after = Some(seen);
            } else {
                return None;
            }
        }
        let fraction = seen - after.unwrap_or(seen);
        if seen == 0 || fraction > self.scale {
            return None;
        }
        let missing = self.scale - fraction;
        if seen + missing > 18 {
            return None;
        }
        let number = number * POWERS[missing as usize];
        if self.precision < 18 && number >= POWERS[self.precision as usize] {
            return None;
        }
        Some(if negative { -number } else { number })
    }

    #[cold]
    fn long(&self, value: &[u8], place: Place<'_>) -> Result<Cell, Code> {
        let number = scaled(value, self.scale, self.precision)?;
        Ok(match i64::try_from(number) {
            Ok(short) => Cell::Decimal(short),
            Err(_) => {
                let at = place.store.len();
                place.store.extend_from_slice(&number.to_le_bytes());
                Cell::LongDecimal(Piece::in_store(at, 16))
            }
        })
    }
}

impl Kind for Decimal {
    #[inline]
    fn read(&self, value: &[u8], place: Place<'_>) -> Result<Cell, Code> {
        match self.short(value) {
            Some(number) => Ok(Cell::Decimal(number)),
            None => self.long(value, place),
        }
    }
}

/// Ten to the power of 0 to 18.
const POWERS: [i64; 19] = {
    let mut powers = [1i64; 19];
    let mut i = 1;
    while i < 19 {
        powers[i] = powers[i - 1] * 10;
        i += 1;
    }
    powers
};

/// A number times ten to the power of `scale`, exact, of at most `precision`
/// digits. Zeros beyond the scale say nothing and are no loss.
fn scaled(value: &[u8], scale: u32, precision: u32) -> Result<i128, Code> {
    let (negative, digits) = signed(value);
    let (whole, fraction) = match memchr::memchr(b'.', digits) {
        Some(mark) => (&digits[..mark], &digits[mark + 1..]),
        None => (digits, &digits[..0]),
    };
    let all_digits = |part: &[u8]| part.iter().all(u8::is_ascii_digit);
    if whole.len() + fraction.len() == 0 || !all_digits(whole) || !all_digits(fraction) {
        return Err(Code::NotANumber);
    }
    let kept = fraction.len().min(scale as usize);
    let (fraction, beyond) = fraction.split_at(kept);
    if beyond.iter().any(|d| *d != b'0') {
        return Err(Code::TooPrecise);
    }
    let padding = std::iter::repeat_n(&b'0', scale as usize - kept);
    let significant = whole
        .iter()
        .chain(fraction)
        .chain(padding)
        .skip_while(|d| **d == b'0');
    let mut number = 0i128;
    for (count, digit) in significant.enumerate() {
        if count >= precision as usize {
            return Err(Code::OutOfRange);
        }
        number = number * 10 + i128::from(digit - b'0');
    }
    Ok(if negative { -number } else { number })
}

/// Takes a leading sign off.
#[inline]
fn signed(value: &[u8]) -> (bool, &[u8]) {
    match value.first() {
        Some(b'-') => (true, &value[1..]),
        Some(b'+') => (false, &value[1..]),
        _ => (false, value),
    }
}

/// Binary floating point.
#[derive(Debug)]
pub struct Float {
    single: bool,
}

impl Float {
    /// 32 bits where `single`, else 64.
    pub fn new(single: bool) -> Float {
        Float { single }
    }

    #[cold]
    fn unusual(&self, value: &[u8]) -> Result<Cell, Code> {
        let plain = |b: &u8| matches!(b, b'0'..=b'9' | b'+' | b'-' | b'.' | b'e' | b'E');
        if !value.iter().all(plain) {
            return Err(Code::NotANumber);
        }
        let number: f64 = std::str::from_utf8(value)
            .ok()
            .and_then(|text| text.parse().ok())
            .ok_or(Code::NotANumber)?;
        let digits = value
            .split(|b| matches!(b, b'e' | b'E'))
            .next()
            .unwrap_or_default();
        if number == 0.0 && digits.iter().any(|b| matches!(b, b'1'..=b'9')) {
            return Err(Code::OutOfRange);
        }
        self.within(number)
    }

    /// What the type can hold: a number that would become infinite is out of
    /// range, and so is one that would become zero.
    #[inline]
    fn within(&self, number: f64) -> Result<Cell, Code> {
        let kept = if self.single {
            f64::from(number as f32)
        } else {
            number
        };
        if !kept.is_finite() || (kept == 0.0 && number != 0.0) {
            return Err(Code::OutOfRange);
        }
        Ok(Cell::Float(number))
    }
}

impl Kind for Float {
    #[inline]
    fn read(&self, value: &[u8], _: Place<'_>) -> Result<Cell, Code> {
        let (negative, digits) = signed(value);
        // At most 15 digits and a power of ten below 10^22 are both exact in 64
        // bits, so one division rounds once, as IEEE 754 asks.
        if digits.is_empty() || digits.len() > 16 {
            return self.unusual(value);
        }
        let mut number = 0u64;
        let mut seen = 0;
        let mut after = None;
        for byte in digits {
            let digit = byte.wrapping_sub(b'0');
            if digit <= 9 {
                number = number * 10 + u64::from(digit);
                seen += 1;
            } else if *byte == b'.' && after.is_none() {
                after = Some(seen);
            } else {
                return self.unusual(value);
            }
        }
        if seen == 0 || seen > 15 {
            return self.unusual(value);
        }
        let fraction = seen - after.unwrap_or(seen);
        let number = number as f64 / POWERS[fraction] as f64;
        self.within(if negative { -number } else { number })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(kind: &impl Kind, value: &str) -> Result<String, Code> {
        let mut store = Vec::new();
        let cell = kind.read(value.as_bytes(), Place::test(&mut store))?;
        Ok(match cell {
            Cell::Int(n) => n.to_string(),
            Cell::Decimal(n) => n.to_string(),
            Cell::LongDecimal(piece) => {
                i128::from_le_bytes(piece.of(&[], &store).try_into().unwrap()).to_string()
            }
            Cell::Float(n) => n.to_string(),
            other => panic!("not a number: {other:?}"),
        })
    }

    #[test]
    fn whole_numbers_at_their_edges() {
        let small = Whole::new(Type::SmallInt);
        let big = Whole::new(Type::BigInt);
        let cases: &[(&Whole, &str, Result<&str, Code>)] = &[
            (&small, "32767", Ok("32767")),
            (&small, "-32768", Ok("-32768")),
            (&small, "32768", Err(Code::OutOfRange)),
            (&small, "-32769", Err(Code::OutOfRange)),
            (&small, "+7", Ok("7")),
            (&small, "007", Ok("7")),
            (&small, "12.00", Ok("12")),
            (&small, "12.50", Err(Code::TooPrecise)),
            (&small, "1e3", Err(Code::NotANumber)),
            (&small, "-", Err(Code::NotANumber)),
            (&small, "--5", Err(Code::NotANumber)),
            (&small, "1 2", Err(Code::NotANumber)),
            (&big, "9223372036854775807", Ok("9223372036854775807")),
            (&big, "-9223372036854775808", Ok("-9223372036854775808")),
            (&big, "9223372036854775808", Err(Code::OutOfRange)),
            (&big, "-9223372036854775809", Err(Code::OutOfRange)),
            (
                &big,
                "99999999999999999999999999999999999999999",
                Err(Code::OutOfRange),
            ),
            (&big, "000000000000000000000000000000000000000001", Ok("1")),
        ];
        for (kind, value, wanted) in cases {
            assert_eq!(read(*kind, value), wanted.map(String::from), "{value}");
        }
    }

    #[test]
    fn decimals_are_exact_or_rejected() {
        let cases: &[(u8, u8, &str, Result<&str, Code>)] = &[
            (8, 2, "1.5", Ok("150")),
            (8, 2, "-1.50", Ok("-150")),
            (8, 2, ".5", Ok("50")),
            (8, 2, "5.", Ok("500")),
            (8, 2, "1.500", Ok("150")),
            (8, 2, "1.505", Err(Code::TooPrecise)),
            (8, 2, "999999.99", Ok("99999999")),
            (8, 2, "1000000", Err(Code::OutOfRange)),
            (8, 2, "1.2.3", Err(Code::NotANumber)),
            (8, 2, ".", Err(Code::NotANumber)),
            (8, 2, "1,5", Err(Code::NotANumber)),
            (
                38,
                0,
                "99999999999999999999999999999999999999",
                Ok("99999999999999999999999999999999999999"),
            ),
            (
                38,
                0,
                "100000000000000000000000000000000000000",
                Err(Code::OutOfRange),
            ),
            (
                38,
                10,
                "-1234567890123456789012345678.0123456789",
                Ok("-12345678901234567890123456780123456789"),
            ),
            (38, 38, "0.00000000000000000000000000000000000001", Ok("1")),
            (18, 18, "1", Err(Code::OutOfRange)),
            (1, 0, "9", Ok("9")),
            (1, 0, "10", Err(Code::OutOfRange)),
        ];
        for (precision, scale, value, wanted) in cases {
            let kind = Decimal::new(*precision, *scale);
            assert_eq!(read(&kind, value), wanted.map(String::from), "{value}");
        }
    }

    #[test]
    fn floats_reject_what_is_not_a_finite_number() {
        let double = Float::new(false);
        let single = Float::new(true);
        assert_eq!(read(&double, "1e308"), Ok(1e308.to_string()));
        assert_eq!(read(&double, "1e309"), Err(Code::OutOfRange));
        assert_eq!(read(&double, "1e-400"), Err(Code::OutOfRange));
        assert_eq!(read(&double, "inf"), Err(Code::NotANumber));
        assert_eq!(read(&double, "NaN"), Err(Code::NotANumber));
        assert_eq!(read(&double, "0e0"), Ok("0".into()));
        assert_eq!(read(&single, "1e39"), Err(Code::OutOfRange));
        assert_eq!(read(&double, "-"), Err(Code::NotANumber));
    }

    proptest! {
        #[test]
        fn a_short_decimal_is_what_the_long_way_makes_of_it(
            number in any::<i64>(), mark in 0usize..20, one in 0u8..=38, two in 1u8..=38,
        ) {
            let (scale, precision) = (one.min(two), one.max(two));
            let mut text = number.to_string();
            if mark < text.len() { text.insert(text.len() - mark, '.'); }
            let kind = Decimal::new(precision, scale);
            let long = scaled(text.as_bytes(), u32::from(scale), u32::from(precision));
            prop_assert_eq!(read(&kind, &text), long.map(|n| n.to_string()));
        }

        #[test]
        fn a_float_is_what_the_standard_library_reads(
            number in -1e20..1e20f64, shift in 0..30, digits in 0usize..18,
        ) {
            let number = number / 10f64.powi(shift);
            let text = format!("{number:.digits$}");
            let wanted: f64 = text.parse().unwrap();
            let mut store = Vec::new();
            let kind = Float::new(false);
            let read = kind.read(text.as_bytes(), Place::test(&mut store));
            prop_assert_eq!(read, Ok(Cell::Float(wanted)));
        }
    }
}
