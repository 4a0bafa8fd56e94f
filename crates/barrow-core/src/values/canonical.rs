//! Values in the notation that files and databases share: plain digits, days and times as
//! ISO 8601 has them. For what writes a great many values: nothing is allocated.

use crate::values::Day;

/// A whole number: `-12`.
#[inline]
pub fn put_whole(n: i64, out: &mut Vec<u8>) {
    out.extend_from_slice(itoa::Buffer::new().format(n).as_bytes());
}

/// A decimal that was multiplied by ten to the power of `scale`: `-0.05`, with at least
/// one digit before the mark.
#[inline]
pub fn put_decimal(n: i64, scale: usize, out: &mut Vec<u8>) {
    let mut buffer = itoa::Buffer::new();
    let digits = buffer.format(n.unsigned_abs()).as_bytes();
    if n < 0 {
        out.push(b'-');
    }
    let whole = digits.len().saturating_sub(scale);
    out.extend_from_slice(if whole == 0 { b"0" } else { &digits[..whole] });
    if scale > 0 {
        out.push(b'.');
        out.resize(out.len() + scale.saturating_sub(digits.len()), b'0');
        out.extend_from_slice(&digits[whole..]);
    }
}

/// A day: `0987-06-05`.
#[inline]
pub fn put_day(day: Day, out: &mut Vec<u8>) {
    let [a, b, c, d, e, f, g, h] = day_digits(day);
    out.extend_from_slice(&[a, b, c, d, b'-', e, f, b'-', g, h]);
}

/// A day's digits alone: `09870605`.
#[inline]
pub fn day_digits(day: Day) -> [u8; 8] {
    let year = day.year.unsigned_abs();
    let ([a, b], [c, d]) = (two((year / 100) as u8), two((year % 100) as u8));
    let ([e, f], [g, h]) = (two(day.month), two(day.day));
    [a, b, c, d, e, f, g, h]
}

/// The whole seconds of a time of day, given in nanoseconds since midnight: `09:08:07`.
/// Returns the nanoseconds that are left.
#[inline]
pub fn put_clock(nanos: u64, out: &mut Vec<u8>) -> u32 {
    let [a, b, c, d, e, f] = clock_digits(nanos);
    out.extend_from_slice(&[a, b, b':', c, d, b':', e, f]);
    (nanos % 1_000_000_000) as u32
}

/// The digits alone of a time of day's whole seconds: `090807`.
#[inline]
pub fn clock_digits(nanos: u64) -> [u8; 6] {
    let seconds = (nanos / 1_000_000_000) as u32;
    let ([a, b], [c, d]) = (two((seconds / 3600) as u8), two((seconds / 60 % 60) as u8));
    let [e, f] = two((seconds % 60) as u8);
    [a, b, c, d, e, f]
}

#[inline]
fn two(n: u8) -> [u8; 2] {
    [b'0' + n / 10, b'0' + n % 10]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(put: impl FnOnce(&mut Vec<u8>)) -> String {
        let mut out = Vec::new();
        put(&mut out);
        String::from_utf8(out).unwrap()
    }

    #[test]
    fn numbers_are_plain() {
        assert_eq!(text(|out| put_whole(i64::MIN, out)), "-9223372036854775808");
        let decimal = |n, scale| text(|out| put_decimal(n, scale, out));
        assert_eq!(decimal(0, 0), "0");
        assert_eq!(decimal(0, 2), "0.00");
        assert_eq!(decimal(-5, 2), "-0.05");
        assert_eq!(decimal(123, 2), "1.23");
        assert_eq!(decimal(-7, 0), "-7");
        assert_eq!(decimal(i64::MIN, 18), "-9.223372036854775808");
        assert_eq!(decimal(1, 20), "0.00000000000000000001");
    }

    #[test]
    fn days_and_times_have_all_their_zeros() {
        let day = |y, m, d| text(|out| put_day(Day::new(y, m, d).unwrap(), out));
        assert_eq!(day(1, 2, 3), "0001-02-03");
        assert_eq!(day(9999, 12, 31), "9999-12-31");
        let clock = |nanos| text(|out| assert_eq!(put_clock(nanos, out), 5));
        assert_eq!(clock(5), "00:00:00");
        assert_eq!(clock(86_399_000_000_005), "23:59:59");
        assert_eq!(clock(3_723_000_000_005), "01:02:03");
    }
}
