//! Exact numbers: decimals, and fractions where decimals do not suffice.

use std::cmp::Ordering;

use num_bigint::BigInt;
use num_rational::BigRational;
use num_traits::Zero;

/// An exact number.
#[derive(Debug, Clone, PartialEq)]
pub enum Number {
    /// `n` divided by ten to the power of the scale.
    Short(i128, u32),
    /// Anything else.
    Exact(Box<BigRational>),
}

impl Number {
    /// A whole number.
    pub fn whole(n: i64) -> Number {
        Number::Short(i128::from(n), 0)
    }

    /// Reads digits with a decimal point or without, or none if they are no number.
    pub fn parse(text: &str) -> Option<Number> {
        let (mantissa, exponent) = match text.split_once(['e', 'E']) {
            Some((mantissa, exponent)) => (mantissa, exponent.parse::<i32>().ok()?),
            None => (text, 0),
        };
        let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
        let digits = format!("{whole}{fraction}");
        let scale = fraction.len() as i32 - exponent;
        if let (Ok(n), Ok(scale)) = (digits.parse(), u32::try_from(scale)) {
            return Some(Number::Short(n, scale));
        }
        let n = digits.parse::<BigInt>().ok()?;
        let power = BigInt::from(10).pow(scale.unsigned_abs());
        Some(Number::exact(match scale {
            0.. => BigRational::new(n, power),
            _ => BigRational::from_integer(n * power),
        }))
    }

    /// The decimal with the fewest digits that reads back as `n`: mostly what the
    /// file says.
    pub fn float(n: f64) -> Option<Number> {
        Number::parse(&format!("{n:e}"))
    }

    fn exact(n: BigRational) -> Number {
        Number::Exact(Box::new(n))
    }

    fn rational(&self) -> BigRational {
        match self {
            Number::Short(n, scale) => {
                BigRational::new(BigInt::from(*n), BigInt::from(10).pow(*scale))
            }
            Number::Exact(n) => n.as_ref().clone(),
        }
    }

    /// Both with the same scale, where that fits.
    fn aligned(&self, other: &Number) -> Option<(i128, i128, u32)> {
        let (Number::Short(a, s), Number::Short(b, t)) = (self, other) else {
            return None;
        };
        let scale = *s.max(t);
        let up = |n: &i128, from: &u32| n.checked_mul(10i128.checked_pow(scale - from)?);
        Some((up(a, s)?, up(b, t)?, scale))
    }

    /// The sum.
    pub fn plus(&self, other: &Number) -> Number {
        let short = self
            .aligned(other)
            .and_then(|(a, b, scale)| Some(Number::Short(a.checked_add(b)?, scale)));
        short.unwrap_or_else(|| Number::exact(self.rational() + other.rational()))
    }

    /// The number with the other sign.
    pub fn negated(&self) -> Number {
        match self {
            Number::Short(n, scale) if *n != i128::MIN => Number::Short(-n, *scale),
            other => Number::exact(-other.rational()),
        }
    }

    /// The product.
    pub fn times(&self, other: &Number) -> Number {
        let short = match (self, other) {
            (Number::Short(a, s), Number::Short(b, t)) => {
                a.checked_mul(*b).map(|n| Number::Short(n, s + t))
            }
            _ => None,
        };
        short.unwrap_or_else(|| Number::exact(self.rational() * other.rational()))
    }

    /// The quotient; none of a division by zero.
    pub fn over(&self, other: &Number) -> Option<Number> {
        let divisor = other.rational();
        (!divisor.is_zero()).then(|| Number::exact(self.rational() / divisor))
    }

    /// The number without its sign.
    pub fn without_sign(&self) -> Number {
        match self.compare(&Number::whole(0)) {
            Ordering::Less => self.negated(),
            _ => self.clone(),
        }
    }

    /// How two numbers compare.
    pub fn compare(&self, other: &Number) -> Ordering {
        match self.aligned(other) {
            Some((a, b, _)) => a.cmp(&b),
            None => self.rational().cmp(&other.rational()),
        }
    }

    /// The number, where it is whole and fits.
    pub fn as_whole(&self) -> Option<i64> {
        i64::try_from(self.as_integer()?).ok()
    }

    /// The number, where it is whole and fits 128 bits.
    pub fn as_integer(&self) -> Option<i128> {
        let n = self.rational();
        if !n.is_integer() {
            return None;
        }
        i128::try_from(n.to_integer()).ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn number(text: &str) -> Number {
        Number::parse(text).unwrap()
    }

    #[test]
    fn arithmetic_is_exact_whatever_the_size() {
        let big = "99999999999999999999999999999999999999";
        let sum = number(big).plus(&number(big));
        let wanted = number("199999999999999999999999999999999999998");
        assert_eq!(sum.compare(&wanted), Ordering::Equal);
        let product = number(big).times(&number("0.1"));
        let wanted = number("9999999999999999999999999999999999999.9");
        assert_eq!(product.compare(&wanted), Ordering::Equal);
        let third = number("1").over(&number("3")).unwrap();
        let one = third.plus(&third).plus(&third);
        assert_eq!(one.compare(&number("1")), Ordering::Equal);
        assert!(number("1").over(&number("0.00")).is_none());
        assert_eq!(
            number("0.1").plus(&number("0.2")).compare(&number("0.3")),
            Ordering::Equal
        );
        assert_eq!(
            Number::float(0.1).unwrap().compare(&number("0.1")),
            Ordering::Equal
        );
        assert_eq!(
            Number::float(1e300).unwrap().compare(&number("1e299")),
            Ordering::Greater
        );
        assert_eq!(
            number("-1.50").without_sign().compare(&number("1.5")),
            Ordering::Equal
        );
    }

    #[test]
    fn a_whole_number_is_one_in_any_writing() {
        assert_eq!(number("12.00").as_whole(), Some(12));
        assert_eq!(number("12.50").as_whole(), None);
        assert_eq!(number("1e30").as_whole(), None);
    }

    proptest! {
        #[test]
        fn short_numbers_agree_with_fractions(
            a in any::<i64>(), s in 0u32..12, b in any::<i64>(), t in 0u32..12,
        ) {
            let (a, b) = (Number::Short(a.into(), s), Number::Short(b.into(), t));
            let (x, y) = (a.rational(), b.rational());
            prop_assert_eq!(a.plus(&b).rational(), &x + &y);
            prop_assert_eq!(a.times(&b).rational(), &x * &y);
            prop_assert_eq!(a.compare(&b), x.cmp(&y));
        }
    }
}
