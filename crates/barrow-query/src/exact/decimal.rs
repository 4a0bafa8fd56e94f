//! Decimals as whole numbers times a power of ten.

/// Every whole number below has its own floating point number, and 15 digits tell it.
const SHORT: f64 = 1e15;

/// The powers of ten that floating point has exactly, as far as they are needed.
pub const UNITS: [f64; 16] = [
    1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15,
];

/// Where floating point numbers are one apart and no more: added to a number of less than 2^51
/// and taken away again, it leaves the nearest whole number.
const WHOLES: f64 = 6_755_399_441_055_744.0;

/// The whole number nearest to one of less than 2^51. Two additions: a conversion to an integer
/// and back, which has limits to look at, took a sum of two columns 1.1 times as long.
#[inline]
pub fn nearest_whole(number: f64) -> f64 {
    (number + WHOLES) - WHOLES
}

/// The whole number that gives this floating point number when it is divided by `unit`, if one
/// of at most 15 digits does.
#[inline]
pub fn digits(number: f64, unit: f64) -> Option<f64> {
    let near = nearest_whole(number * unit);
    (near.abs() < SHORT && near / unit == number).then_some(near)
}

/// A whole number divided by ten to the power of `scale`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Decimal {
    /// The digits.
    pub digits: i128,
    /// How many of them stand after the mark.
    pub scale: u32,
}

impl Decimal {
    /// Text that is nothing but a decimal: `-12.50`, of up to 38 digits.
    pub fn of_text(text: &str) -> Option<Decimal> {
        let (sign, plain) = match text.strip_prefix('-') {
            Some(rest) => (-1, rest),
            None => (1, text),
        };
        let (whole, fraction) = plain.split_once('.').unwrap_or((plain, ""));
        let is_digits = |part: &str| part.bytes().all(|b| b.is_ascii_digit());
        let has_mark = whole.len() < plain.len();
        if whole.is_empty()
            || (has_mark && fraction.is_empty())
            || whole.len() + fraction.len() > 38
            || !is_digits(whole)
            || !is_digits(fraction)
        {
            return None;
        }
        let digits = whole.bytes().chain(fraction.bytes());
        let digits = digits.fold(0i128, |n, digit| n * 10 + i128::from(digit - b'0'));
        Some(Decimal {
            digits: sign * digits,
            scale: fraction.len() as u32,
        })
    }

    /// The decimal of at most 15 digits that has this floating point number, if one has. One
    /// with at least `scale` digits after the mark is found first.
    #[inline]
    pub fn of_float(number: f64, scale: u32) -> Option<Decimal> {
        let from = (scale as usize).min(15);
        (from..16).find_map(|scale| {
            Some(Decimal {
                digits: i128::from(digits(number, UNITS[scale])? as i64),
                scale: scale as u32,
            })
        })
    }

    /// The same number with more digits after the mark; none where it has too many digits
    /// then.
    #[inline]
    pub fn at_scale(self, scale: u32) -> Option<i128> {
        match scale.checked_sub(self.scale)? {
            0 => Some(self.digits),
            more => self.digits.checked_mul(10i128.checked_pow(more)?),
        }
    }

    /// The floating point number that gives it back, where it has at most 15 digits.
    pub fn short(self) -> Option<f64> {
        let mut number = self;
        while number.scale > 0 && number.digits % 10 == 0 {
            number.digits /= 10;
            number.scale -= 1;
        }
        let digits = number.digits as f64;
        let unit = *UNITS.get(number.scale as usize)?;
        (digits.abs() < SHORT).then_some(digits / unit)
    }

    /// The nearest floating point number to this one divided by `count`.
    pub fn divided(self, count: u64) -> f64 {
        // More digits than a floating point number tells apart, and a last one that says
        // whether anything comes after them.
        let unit = i128::from(count);
        let (mut whole, mut rest) = (self.digits / unit, self.digits % unit);
        let (mut scale, sign) = (self.scale, if self.digits < 0 { "-" } else { "" });
        while rest != 0 && whole.unsigned_abs() < 1_000_000_000_000_000_000_000_000 {
            let Some(more) = rest.checked_mul(10) else {
                break;
            };
            whole = whole * 10 + more / unit;
            rest = more % unit;
            scale += 1;
        }
        let more = if rest == 0 { "" } else { "1" };
        let scale = scale + more.len() as u32;
        let text = format!("{sign}{}{more}e-{scale}", whole.unsigned_abs());
        text.parse().unwrap_or(f64::NAN)
    }
}

impl std::fmt::Display for Decimal {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&barrow_core::values::decimal(
            self.digits,
            self.scale as usize,
        ))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_float_is_the_decimal_that_it_is_written_as() {
        let digits = |n: f64| Decimal::of_float(n, 0).map(|d| d.to_string());
        assert_eq!(digits(0.1).as_deref(), Some("0.1"));
        assert_eq!(
            digits(-1234567890123.45).as_deref(),
            Some("-1234567890123.45")
        );
        assert_eq!(digits(0.1 + 0.2), None);
        assert_eq!(digits(f64::NAN), None);
    }

    #[test]
    fn a_quotient_is_the_nearest_number() {
        let divided = |text: &str, count| Decimal::of_text(text).unwrap().divided(count);
        assert_eq!(divided("1", 3), 1.0 / 3.0);
        assert_eq!(divided("-2.00", 3), -2.0 / 3.0);
        assert_eq!(divided("0.30", 3), 0.1);
        assert_eq!(divided(&"9".repeat(38), 7), 1e38 / 7.0);
    }
}
