//! Whole numbers, exact decimals, and binary floating point.

use super::cell::{Cell, Piece};
use crate::reason::Code;
use crate::types::Type;
use crate::values::value_parser::{Place, ValueParser};

/// How a number's digits are read.
#[derive(Debug, Clone, Copy)]
struct Digits {
    /// Between the whole and the fraction.
    mark: u8,
    /// Digits after the mark that are kept.
    scale: u32,
    /// All digits, at the most.
    precision: u32,
    /// Whether `1.5E3` is read.
    exponent: bool,
    /// Whether digits beyond the scale are rounded, and not refused.
    round: bool,
}

/// Whole numbers between two bounds.
#[derive(Debug)]
pub struct Whole {
    least: i64,
    most: i64,
    mark: u8,
}

impl Whole {
    /// The numbers that `ty` holds, with `mark` before a fraction.
    pub fn new(ty: Type, mark: u8) -> Whole {
        let (least, most) = match ty {
            Type::SmallInt => (i16::MIN as i64, i16::MAX as i64),
            Type::Integer => (i32::MIN as i64, i32::MAX as i64),
            _ => (i64::MIN, i64::MAX),
        };
        Whole { least, most, mark }
    }

    /// `1E3` is not read: where whole numbers are expected, an exponent mostly
    /// tells of digits that another program has lost.
    fn digits(&self, round: bool) -> Digits {
        Digits {
            mark: self.mark,
            scale: 0,
            precision: 38,
            exponent: false,
            round,
        }
    }

    /// What is neither plain digits nor short: `12.00` is whole, `12.50` is not,
    /// and what is a number, yet too large for 64 bits, is out of range.
    #[cold]
    fn unusual(&self, value: &[u8], cell: &mut Cell) -> Result<(), Code> {
        self.within(self.digits(false).number(value)?, cell)
    }

    fn within(&self, number: i128, cell: &mut Cell) -> Result<(), Code> {
        if number < i128::from(self.least) || number > i128::from(self.most) {
            return Err(Code::OutOfRange);
        }
        *cell = Cell::Int(number as i64);
        Ok(())
    }
}

impl ValueParser for Whole {
    #[inline]
    fn read(&self, value: &[u8], _: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        let (negative, digits) = signed(value);
        // 18 digits always fit 64 bits.
        if digits.is_empty() || digits.len() > 18 {
            return self.unusual(value, cell);
        }
        let mut number = 0i64;
        for byte in digits {
            let digit = byte.wrapping_sub(b'0');
            if digit > 9 {
                return self.unusual(value, cell);
            }
            number = number * 10 + i64::from(digit);
        }
        let number = if negative { -number } else { number };
        if number < self.least || number > self.most {
            return Err(Code::OutOfRange);
        }
        *cell = Cell::Int(number);
        Ok(())
    }

    fn nearest(&self, value: &[u8], code: Code, _: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        match code {
            Code::OutOfRange => {
                let bound = if signed(value).0 {
                    self.least
                } else {
                    self.most
                };
                *cell = Cell::Int(bound);
                Ok(())
            }
            Code::TooPrecise => self.within(self.digits(true).number(value)?, cell),
            _ => Err(code),
        }
    }
}

/// Exact decimals.
#[derive(Debug)]
pub struct Decimal {
    precision: u32,
    scale: u32,
    mark: u8,
}

impl Decimal {
    /// Decimals of `precision` digits, `scale` of them after the `mark`.
    pub fn new(precision: u8, scale: u8, mark: u8) -> Decimal {
        Decimal {
            precision: u32::from(precision),
            scale: u32::from(scale),
            mark,
        }
    }

    fn digits(&self, round: bool) -> Digits {
        Digits {
            mark: self.mark,
            scale: self.scale,
            precision: self.precision,
            exponent: true,
            round,
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
            } else if *byte == self.mark && after.is_none() {
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

    fn put(number: i128, place: Place<'_>, cell: &mut Cell) {
        *cell = match i64::try_from(number) {
            Ok(short) => Cell::Decimal(short),
            Err(_) => {
                let at = place.store.len();
                place.store.extend_from_slice(&number.to_le_bytes());
                Cell::LongDecimal(Piece::in_store(at, 16))
            }
        };
    }

    #[cold]
    fn long(&self, value: &[u8], place: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        Decimal::put(self.digits(false).number(value)?, place, cell);
        Ok(())
    }
}

impl ValueParser for Decimal {
    #[inline]
    fn read(&self, value: &[u8], place: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        let Some(number) = self.short(value) else {
            return self.long(value, place, cell);
        };
        *cell = Cell::Decimal(number);
        Ok(())
    }

    fn nearest(
        &self,
        value: &[u8],
        code: Code,
        place: Place<'_>,
        cell: &mut Cell,
    ) -> Result<(), Code> {
        let number = match code {
            Code::OutOfRange => {
                let most = 10i128.pow(self.precision) - 1;
                if signed(value).0 { -most } else { most }
            }
            Code::TooPrecise => self.digits(true).number(value)?,
            _ => return Err(code),
        };
        Decimal::put(number, place, cell);
        Ok(())
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

/// An exponent beyond this says no more than this one does.
const FAR: i64 = 1_000_000_000;

impl Digits {
    /// A number times ten to the power of the scale, exact. Zeros beyond the
    /// scale say nothing and are no loss; other digits are one, unless they are
    /// rounded: half away from zero.
    fn number(self, value: &[u8]) -> Result<i128, Code> {
        let (negative, rest) = signed(value);
        let (rest, exponent) = self.exponent(rest)?;
        let (whole, fraction) = match memchr::memchr(self.mark, rest) {
            Some(mark) => (&rest[..mark], &rest[mark + 1..]),
            None => (rest, &rest[..0]),
        };
        let all_digits = |part: &[u8]| part.iter().all(u8::is_ascii_digit);
        if whole.len() + fraction.len() == 0 || !all_digits(whole) || !all_digits(fraction) {
            return Err(Code::NotANumber);
        }
        let digits = || whole.iter().chain(fraction).copied();
        let zeros = digits().take_while(|d| *d == b'0').count() as i64;
        let count = (whole.len() + fraction.len()) as i64;
        if zeros == count {
            return Ok(0);
        }
        // How many of the digits, counted from the first, are kept.
        let kept = whole.len() as i64 + exponent + i64::from(self.scale);
        let beyond = digits().skip(kept.clamp(0, count) as usize);
        let up = self.round && kept >= 0 && digits().nth(kept as usize) >= Some(b'5');
        if !self.round && beyond.into_iter().any(|d| d != b'0') {
            return Err(Code::TooPrecise);
        }
        if kept - zeros > i64::from(self.precision) {
            return Err(Code::OutOfRange);
        }
        let padded = digits().chain(std::iter::repeat(b'0'));
        let kept = padded
            .skip(zeros as usize)
            .take((kept - zeros).max(0) as usize);
        let number = kept.fold(0i128, |n, digit| n * 10 + i128::from(digit - b'0'));
        let number = number + i128::from(up);
        if up && number >= 10i128.pow(self.precision) {
            return Err(Code::OutOfRange);
        }
        Ok(if negative { -number } else { number })
    }

    /// Parts `1.5E3` into `1.5` and 3.
    fn exponent(self, digits: &[u8]) -> Result<(&[u8], i64), Code> {
        let Some(at) = digits.iter().position(|b| matches!(b, b'e' | b'E')) else {
            return Ok((digits, 0));
        };
        let (negative, power) = signed(&digits[at + 1..]);
        if !self.exponent || power.is_empty() || !power.iter().all(u8::is_ascii_digit) {
            return Err(Code::NotANumber);
        }
        let power = power
            .iter()
            .fold(0, |n, digit| FAR.min(n * 10 + i64::from(digit - b'0')));
        Ok((&digits[..at], if negative { -power } else { power }))
    }
}

/// A number times ten to the power of `scale`, exact, of at most `precision`
/// digits, with a decimal point or without.
///
/// # Errors
/// It is no number, too precise, or too large.
pub fn scaled(value: &[u8], scale: u32, precision: u32) -> Result<i128, Code> {
    let digits = Digits {
        mark: b'.',
        scale,
        precision,
        exponent: true,
        round: false,
    };
    digits.number(value)
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
    mark: u8,
}

impl Float {
    /// 32 bits where `single`, else 64; `mark` stands before the fraction.
    pub fn new(single: bool, mark: u8) -> Float {
        Float { single, mark }
    }

    /// What the standard library reads, which may be infinite, or zero for a
    /// number that is too small.
    fn parsed(&self, value: &[u8]) -> Result<f64, Code> {
        let plain = |b: &u8| match *b {
            b if b == self.mark => true,
            b => matches!(b, b'0'..=b'9' | b'+' | b'-' | b'e' | b'E'),
        };
        if !value.iter().all(plain) {
            return Err(Code::NotANumber);
        }
        let text = String::from_utf8_lossy(value).replace(char::from(self.mark), ".");
        text.parse().map_err(|_| Code::NotANumber)
    }

    #[cold]
    fn unusual(&self, value: &[u8], cell: &mut Cell) -> Result<(), Code> {
        let number = self.parsed(value)?;
        let digits = value
            .split(|b| matches!(b, b'e' | b'E'))
            .next()
            .unwrap_or_default();
        if number == 0.0 && digits.iter().any(|b| matches!(b, b'1'..=b'9')) {
            return Err(Code::OutOfRange);
        }
        self.within(number, cell)
    }

    /// What the type can hold: a number that would become infinite is out of
    /// range, and so is one that would become zero.
    #[inline]
    fn within(&self, number: f64, cell: &mut Cell) -> Result<(), Code> {
        let kept = if self.single {
            f64::from(number as f32)
        } else {
            number
        };
        if !kept.is_finite() || (kept == 0.0 && number != 0.0) {
            return Err(Code::OutOfRange);
        }
        *cell = Cell::Float(number);
        Ok(())
    }
}

impl ValueParser for Float {
    #[inline]
    fn read(&self, value: &[u8], _: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        let (negative, digits) = signed(value);
        // At most 15 digits and a power of ten below 10^22 are both exact in 64
        // bits, so one division rounds once, as IEEE 754 asks.
        if digits.is_empty() || digits.len() > 16 {
            return self.unusual(value, cell);
        }
        let mut number = 0u64;
        let mut seen = 0;
        let mut after = None;
        for byte in digits {
            let digit = byte.wrapping_sub(b'0');
            if digit <= 9 {
                number = number * 10 + u64::from(digit);
                seen += 1;
            } else if *byte == self.mark && after.is_none() {
                after = Some(seen);
            } else {
                return self.unusual(value, cell);
            }
        }
        if seen == 0 || seen > 15 {
            return self.unusual(value, cell);
        }
        let fraction = seen - after.unwrap_or(seen);
        let number = number as f64 / POWERS[fraction] as f64;
        self.within(if negative { -number } else { number }, cell)
    }

    fn nearest(&self, value: &[u8], code: Code, _: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        let number = self.parsed(value)?;
        let most = if self.single {
            f64::from(f32::MAX)
        } else {
            f64::MAX
        };
        match code {
            // What is too small for the type is nearest to zero.
            Code::OutOfRange if number.abs() < 1.0 => *cell = Cell::Float(0.0),
            Code::OutOfRange => *cell = Cell::Float(most.copysign(number)),
            _ => return Err(code),
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(kind: &impl ValueParser, value: &str) -> Result<String, Code> {
        let mut store = Vec::new();
        let cell = kind.cell(value.as_bytes(), Place::test(&mut store))?;
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
        let small = Whole::new(Type::SmallInt, b'.');
        let big = Whole::new(Type::BigInt, b'.');
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
            let kind = Decimal::new(*precision, *scale, b'.');
            assert_eq!(read(&kind, value), wanted.map(String::from), "{value}");
        }
    }

    #[test]
    fn floats_reject_what_is_not_a_finite_number() {
        let double = Float::new(false, b'.');
        let single = Float::new(true, b'.');
        assert_eq!(read(&double, "1e308"), Ok(1e308.to_string()));
        assert_eq!(read(&double, "1e309"), Err(Code::OutOfRange));
        assert_eq!(read(&double, "1e-400"), Err(Code::OutOfRange));
        assert_eq!(read(&double, "inf"), Err(Code::NotANumber));
        assert_eq!(read(&double, "NaN"), Err(Code::NotANumber));
        assert_eq!(read(&double, "0e0"), Ok("0".into()));
        assert_eq!(read(&single, "1e39"), Err(Code::OutOfRange));
        assert_eq!(read(&double, "-"), Err(Code::NotANumber));
    }

    #[test]
    fn exponents_move_the_mark_and_lose_nothing() {
        let cases: &[(&str, Result<&str, Code>)] = &[
            ("1.5E3", Ok("150000")),
            ("1.5e+3", Ok("150000")),
            ("15e-1", Ok("150")),
            ("1234.5E-1", Ok("12345")),
            ("1234.56E-1", Err(Code::TooPrecise)),
            ("5E-3", Err(Code::TooPrecise)),
            ("0E99999999999999999999", Ok("0")),
            ("1E99999999999999999999", Err(Code::OutOfRange)),
            ("1E-99999999999999999999", Err(Code::TooPrecise)),
            ("0.00001E6", Ok("1000")),
            ("1E", Err(Code::NotANumber)),
            ("E5", Err(Code::NotANumber)),
            ("1E2E3", Err(Code::NotANumber)),
        ];
        for (value, wanted) in cases {
            let kind = Decimal::new(8, 2, b'.');
            assert_eq!(read(&kind, value), wanted.map(String::from), "{value}");
        }
    }

    #[test]
    fn the_mark_may_be_another() {
        assert_eq!(read(&Decimal::new(8, 2, b','), "1,5"), Ok("150".into()));
        assert_eq!(
            read(&Decimal::new(8, 2, b','), "1.5"),
            Err(Code::NotANumber)
        );
        assert_eq!(
            read(&Whole::new(Type::Integer, b','), "12,0"),
            Ok("12".into())
        );
        assert_eq!(read(&Float::new(false, b','), "1,5e3"), Ok("1500".into()));
        assert_eq!(
            read(&Float::new(false, b','), "1.5e3"),
            Err(Code::NotANumber)
        );
    }

    #[test]
    fn the_nearest_is_rounded_half_away_from_zero_or_a_bound() {
        let nearest = |kind: &dyn Fn(Code, &mut Cell) -> Result<(), Code>, code| {
            let mut cell = Cell::Null;
            kind(code, &mut cell).map(|()| cell)
        };
        let decimal = |value: &'static str| {
            move |code, cell: &mut Cell| {
                let mut store = Vec::new();
                let kind = Decimal::new(5, 2, b'.');
                kind.nearest(value.as_bytes(), code, Place::test(&mut store), cell)
            }
        };
        let rounded = |value| nearest(&decimal(value), Code::TooPrecise);
        assert_eq!(rounded("1.005"), Ok(Cell::Decimal(101)));
        assert_eq!(rounded("-1.005"), Ok(Cell::Decimal(-101)));
        assert_eq!(rounded("1.00499999"), Ok(Cell::Decimal(100)));
        assert_eq!(rounded("5E-3"), Ok(Cell::Decimal(1)));
        assert_eq!(rounded("4E-4"), Ok(Cell::Decimal(0)));
        assert_eq!(rounded("999.995"), Err(Code::OutOfRange));
        let clamped = |value| nearest(&decimal(value), Code::OutOfRange);
        assert_eq!(clamped("1000"), Ok(Cell::Decimal(99_999)));
        assert_eq!(clamped("-1000"), Ok(Cell::Decimal(-99_999)));
        let single = |value: &'static str| {
            move |code, cell: &mut Cell| {
                let mut store = Vec::new();
                Float::new(true, b'.').nearest(
                    value.as_bytes(),
                    code,
                    Place::test(&mut store),
                    cell,
                )
            }
        };
        let most = Cell::Float(-f64::from(f32::MAX));
        assert_eq!(nearest(&single("-1e99"), Code::OutOfRange), Ok(most));
        assert_eq!(
            nearest(&single("1e-99"), Code::OutOfRange),
            Ok(Cell::Float(0.0))
        );
    }

    proptest! {
        #[test]
        fn a_short_decimal_is_what_the_long_way_makes_of_it(
            number in any::<i64>(), mark in 0usize..20, one in 0u8..=38, two in 1u8..=38,
        ) {
            let (scale, precision) = (one.min(two), one.max(two));
            let mut text = number.to_string();
            if mark < text.len() { text.insert(text.len() - mark, '.'); }
            let kind = Decimal::new(precision, scale, b'.');
            let long = kind.digits(false).number(text.as_bytes());
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
            let kind = Float::new(false, b'.');
            let read = kind.cell(text.as_bytes(), Place::test(&mut store));
            prop_assert_eq!(read, Ok(Cell::Float(wanted)));
        }
    }
}
