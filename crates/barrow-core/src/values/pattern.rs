//! Date and time patterns, in strftime's directives.
//!
//! jiff reads every pattern. One whose parts all have a set width, such as
//! `%d/%m/%Y %H:%M:%S`, also has a fast path of ours: it takes a value only
//! where every part has its full width, and leaves all others to jiff.
//! Measured on the bench file, of whose ten columns two are temporal: without it,
//! typing takes 1.5 times as long (the median of five pairs).
//!
//! Two words of our own stand for what strftime has no directive for:
//! `unix_seconds` and `unix_milliseconds`.

use jiff::fmt::strtime::{self, BrokenDownTime};

use super::cell::Day;
use super::number::scaled;
use crate::reason::Code;
use crate::types::Type;

/// Nanoseconds in a second.
const SECOND: u64 = 1_000_000_000;

/// Nanoseconds in a day.
const DAY: i128 = 86_400 * SECOND as i128;

/// The first year that two digits name unless the spec says another: 69 to 99 are
/// of the 20th century (POSIX, strptime).
const YEARS_FROM: i16 = 1969;

/// What a pattern read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Moment {
    /// The day; none where the pattern has none.
    pub day: Option<Day>,
    /// Nanoseconds since midnight; zero where the pattern has no time.
    pub nanos: u64,
}

/// Why a pattern did not read a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unread {
    /// The value is not written so.
    Unlike,
    /// The value is written so, but there is no such day.
    NoSuchDay,
}

/// A pattern, ready to read with.
#[derive(Debug)]
pub struct Pattern {
    text: String,
    way: Way,
    /// Where two digits name a year: the first of the hundred.
    years_from: Option<i16>,
    /// Whether the year is written in full.
    full_year: bool,
}

/// How a pattern reads.
#[derive(Debug)]
enum Way {
    /// By our own reader, and by jiff what that does not take.
    Fixed(Fixed),
    /// By jiff.
    Jiff,
    /// As a number since 1970 in UTC, of which so many digits make a nanosecond.
    Unix(u32),
}

/// The letters of a pattern's directives, without flags and widths.
pub fn directives(text: &str) -> Vec<char> {
    let mut letters = Vec::new();
    let mut rest = text.chars();
    while let Some(c) = rest.next() {
        if c == '%' {
            letters.extend(rest.find(|c| c.is_ascii_alphabetic() || *c == '%'));
        }
    }
    letters
}

impl Pattern {
    /// Reads a pattern in strftime's directives, for a column of type `ty`.
    ///
    /// # Errors
    /// A plain sentence that says what is wrong with it.
    pub fn new(text: &str, ty: Type, years_from: Option<i16>) -> Result<Pattern, String> {
        let unix = match text {
            "unix_seconds" => Some(9),
            "unix_milliseconds" => Some(6),
            _ => None,
        };
        if let Some(digits) = unix {
            if ty == Type::Time {
                return Err(format!("\"{text}\" is for dates and timestamps"));
            }
            return Ok(Pattern {
                text: text.to_string(),
                way: Way::Unix(digits),
                years_from: None,
                full_year: false,
            });
        }
        Pattern::must_suit(text, ty)?;
        let letters = directives(text);
        let short = letters.iter().any(|c| matches!(c, 'y' | 'D')) && !letters.contains(&'C');
        let years_from = short.then(|| years_from.unwrap_or(YEARS_FROM));
        Ok(Pattern {
            text: text.to_string(),
            way: Fixed::new(text, years_from).map_or(Way::Jiff, Way::Fixed),
            years_from,
            full_year: letters.iter().any(|c| matches!(c, 'Y' | 'F')),
        })
    }

    /// A pattern must be one that jiff knows, and give all that its type needs.
    fn must_suit(text: &str, ty: Type) -> Result<(), String> {
        let zoned = jiff::civil::date(2031, 12, 28)
            .at(23, 58, 59, 0)
            .to_zoned_datetime(jiff::tz::TimeZone::UTC)
            .map_err(|e| e.to_string())?;
        let written = strtime::format(text, &zoned)
            .map_err(|e| format!("\"{text}\" is not a pattern: {e}"))?;
        let read = strtime::parse(text, &written)
            .map_err(|e| format!("\"{text}\" cannot be read by: {e}"))?;
        if ty != Type::Time && read.to_date().is_err() {
            return Err(format!("\"{text}\" lacks a year, a month or a day"));
        }
        if ty == Type::Time && read.hour().is_none() {
            return Err(format!("\"{text}\" lacks the hour"));
        }
        let letters = directives(text);
        if letters.contains(&'Q') {
            return Err(format!(
                "\"{text}\" reads a zone's name from the value; say the column's zone instead"
            ));
        }
        if ty != Type::TimestampTz && letters.contains(&'z') {
            return Err(format!(
                "\"{text}\" reads an offset, which a {ty} would lose; a timestamptz keeps the moment"
            ));
        }
        Ok(())
    }

    /// The pattern as it is written.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Reads a value.
    ///
    /// # Errors
    /// Why it was not read.
    #[inline]
    pub fn read(&self, value: &[u8]) -> Result<Moment, Unread> {
        if let Way::Fixed(fixed) = &self.way
            && let Some(moment) = fixed.read(value)
        {
            return Ok(moment);
        }
        self.read_slowly(value)
    }

    fn read_slowly(&self, value: &[u8]) -> Result<Moment, Unread> {
        match self.way {
            Way::Unix(digits) => since_1970(value, digits),
            _ => self.read_with_jiff(value).map(|(moment, _)| moment),
        }
    }

    /// What jiff reads, with the offset from UTC in seconds, if the pattern has one.
    ///
    /// # Errors
    /// Why it was not read.
    pub fn read_with_jiff(&self, value: &[u8]) -> Result<(Moment, Option<i32>), Unread> {
        let mut read = strtime::parse(&self.text, value).map_err(|_| Unread::Unlike)?;
        if self.took_a_leap_second(&read, value) {
            return Err(Unread::Unlike);
        }
        if let (Some(from), Some(year)) = (self.years_from, read.year()) {
            let year = in_hundred(from, year.rem_euclid(100));
            read.set_year(Some(year)).map_err(|_| Unread::NoSuchDay)?;
        }
        // jiff takes 31 for the year 31; a file that has it means another one.
        if let (true, Some(year @ ..1000)) = (self.full_year, read.year())
            && memchr::memmem::find(value, format!("{year:04}").as_bytes()).is_none()
        {
            return Err(Unread::Unlike);
        }
        let time = read.to_time().map_err(|_| Unread::Unlike)?;
        let nanos = time.hour() as u64 * 3600 + time.minute() as u64 * 60 + time.second() as u64;
        let day = match read.year().or(read.iso_week_year()) {
            None => None,
            Some(_) => {
                let date = read.to_date().map_err(|_| Unread::NoSuchDay)?;
                let day = Day::new(date.year(), date.month() as u8, date.day() as u8);
                Some(day.ok_or(Unread::NoSuchDay)?)
            }
        };
        let moment = Moment {
            day,
            nanos: nanos * SECOND + time.subsec_nanosecond() as u64,
        };
        Ok((moment, read.offset().map(|offset| offset.seconds())))
    }

    /// jiff reads a 60th second as the 59th. That would be another value than
    /// the file's, and nothing is altered in silence.
    fn took_a_leap_second(&self, read: &BrokenDownTime, value: &[u8]) -> bool {
        // The 60 that was taken for a 59 is the one that says the same as a 59 there.
        let says_the_same = |at: usize| {
            let mut other = value.to_vec();
            other[at..at + 2].copy_from_slice(b"59");
            strtime::parse(&self.text, &other)
                .is_ok_and(|other| format!("{other:?}") == format!("{read:?}"))
        };
        read.second() == Some(59) && memchr::memmem::find_iter(value, b"60").any(says_the_same)
    }
}

/// The year of the hundred from `from` on that ends with two digits.
fn in_hundred(from: i16, digits: i16) -> i16 {
    from + (digits - from).rem_euclid(100)
}

/// Seconds or milliseconds since 1970 in UTC, with a fraction or without.
fn since_1970(value: &[u8], digits: u32) -> Result<Moment, Unread> {
    let nanos = match scaled(value, digits, 38) {
        Ok(nanos) => nanos,
        Err(Code::OutOfRange) => return Err(Unread::NoSuchDay),
        Err(_) => return Err(Unread::Unlike),
    };
    // Not by way of jiff's moments, which end on the last day but one of 9999.
    let (days, nanos) = (nanos.div_euclid(DAY), nanos.rem_euclid(DAY));
    let day = i32::try_from(days).ok().and_then(Day::of_number);
    let (day, nanos) = (day.ok_or(Unread::NoSuchDay)?, nanos as u64);
    Ok(Moment {
        day: Some(day),
        nanos,
    })
}

/// The longest pattern with a fast path, in bytes of what it reads.
const WIDTH: usize = 32;

/// A pattern in which every part has a set place.
///
/// What it reads is compared with a template as a whole: taking the template off
/// leaves zero where a literal stands and 0 to 9 where a digit does.
#[derive(Debug)]
struct Fixed {
    length: usize,
    /// Literals, and `0` for each digit.
    template: [u8; WIDTH],
    /// How much more than the template a byte may be: 9 for a digit, else 0.
    room: [u8; WIDTH],
    parts: Parts,
    fraction: bool,
    /// Where the year has two digits: the first of the hundred.
    years_from: Option<i16>,
}

/// Where each part of a moment starts.
#[derive(Debug, Default)]
struct Parts {
    year: Option<usize>,
    month: Option<usize>,
    day: Option<usize>,
    hour: Option<usize>,
    minute: Option<usize>,
    second: Option<usize>,
}

impl Fixed {
    fn new(pattern: &str, years_from: Option<i16>) -> Option<Fixed> {
        let pattern = pattern
            .replace("%D", "%m/%d/%y")
            .replace("%F", "%Y-%m-%d")
            .replace("%T", "%H:%M:%S")
            .replace("%R", "%H:%M");
        let (pattern, fraction) = match pattern.strip_suffix("%.f") {
            Some(rest) => (rest, true),
            None => (pattern.as_str(), false),
        };
        let mut fixed = Fixed {
            length: 0,
            template: [0; WIDTH],
            room: [0; WIDTH],
            parts: Parts::default(),
            fraction,
            years_from,
        };
        let mut bytes = pattern.bytes();
        while let Some(byte) = bytes.next() {
            if byte == b'%' {
                fixed.digits(bytes.next()?)?;
            } else {
                // jiff lets other white space stand for any run of it.
                if byte.is_ascii_whitespace() && byte != b' ' {
                    return None;
                }
                *fixed.template.get_mut(fixed.length)? = byte;
                fixed.length += 1;
            }
        }
        let p = &fixed.parts;
        let days = [p.year, p.month, p.day].iter().flatten().count();
        let minutes = p.second.is_none() || p.minute.is_some();
        let hours = p.minute.is_none() || p.hour.is_some();
        let fractions = !fraction || p.second.is_some();
        (matches!(days, 0 | 3) && minutes && hours && fractions).then_some(fixed)
    }

    /// Takes up a directive that reads digits only.
    fn digits(&mut self, directive: u8) -> Option<()> {
        let p = &mut self.parts;
        let (part, width) = match directive {
            b'Y' if self.years_from.is_none() => (&mut p.year, 4),
            b'y' => (&mut p.year, 2),
            b'm' => (&mut p.month, 2),
            b'd' => (&mut p.day, 2),
            b'H' => (&mut p.hour, 2),
            b'M' => (&mut p.minute, 2),
            b'S' => (&mut p.second, 2),
            _ => return None,
        };
        if part.replace(self.length).is_some() || self.length + width > WIDTH {
            return None;
        }
        self.template[self.length..self.length + width].fill(b'0');
        self.room[self.length..self.length + width].fill(9);
        self.length += width;
        Some(())
    }

    #[inline]
    fn read(&self, value: &[u8]) -> Option<Moment> {
        let (value, fraction) = if self.fraction && value.len() > self.length {
            let (value, rest) = value.split_at(self.length);
            (value, fraction(rest)?)
        } else {
            (value, 0)
        };
        if value.len() != self.length {
            return None;
        }
        let mut digits = self.template;
        put(&mut digits, value);
        // How far any byte is beyond its room; branches would cost more.
        let mut beyond = 0;
        for ((digit, zero), room) in digits.iter_mut().zip(&self.template).zip(&self.room) {
            *digit = digit.wrapping_sub(*zero);
            beyond |= digit.saturating_sub(*room);
        }
        if beyond != 0 {
            return None;
        }
        let p = &self.parts;
        let day = match (p.year, p.month, p.day) {
            (Some(y), Some(m), Some(d)) => {
                let year = match self.years_from {
                    None => i16::from(two(&digits, y)) * 100 + i16::from(two(&digits, y + 2)),
                    Some(from) => in_hundred(from, i16::from(two(&digits, y))),
                };
                Some(Day::new(year, two(&digits, m), two(&digits, d))?)
            }
            _ => None,
        };
        let part = |at: Option<usize>| at.map_or(0, |at| two(&digits, at));
        let (hour, minute, second) = (part(p.hour), part(p.minute), part(p.second));
        if hour > 23 || minute > 59 || second > 59 {
            return None;
        }
        let seconds = u64::from(hour) * 3600 + u64::from(minute) * 60 + u64::from(second);
        Some(Moment {
            day,
            nanos: seconds * SECOND + fraction,
        })
    }
}

/// Copies a value to the start of `digits`, by pieces whose size is known, which
/// may overlap: a copy of any size is a call, and most of a date's reading.
#[inline]
fn put(digits: &mut [u8; WIDTH], value: &[u8]) {
    if let (Some(first), Some(last)) = (value.first_chunk::<16>(), value.last_chunk::<16>()) {
        digits[..16].copy_from_slice(first);
        digits[value.len() - 16..value.len()].copy_from_slice(last);
    } else if let (Some(first), Some(last)) = (value.first_chunk::<8>(), value.last_chunk::<8>()) {
        digits[..8].copy_from_slice(first);
        digits[value.len() - 8..value.len()].copy_from_slice(last);
    } else {
        digits[..value.len()].copy_from_slice(value);
    }
}

/// The number that two digits make.
#[inline]
fn two(digits: &[u8; WIDTH], at: usize) -> u8 {
    // The mask changes nothing: it says that the place is within the array.
    digits[at % WIDTH] * 10 + digits[(at + 1) % WIDTH]
}

/// A fraction of a second with its dot, in nanoseconds; nine digits at most.
fn fraction(rest: &[u8]) -> Option<u64> {
    let (b'.', digits) = rest.split_first()? else {
        return None;
    };
    if digits.is_empty() || digits.len() > 9 {
        return None;
    }
    let mut nanos = 0;
    for digit in digits {
        if !digit.is_ascii_digit() {
            return None;
        }
        nanos = nanos * 10 + u64::from(digit - b'0');
    }
    Some(nanos * 10u64.pow(9 - digits.len() as u32))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn read(pattern: &str, value: &str) -> Result<Moment, Unread> {
        let has_day = pattern.to_ascii_lowercase().contains('y') || pattern.contains("unix");
        let ty = if has_day { Type::Timestamp } else { Type::Time };
        Pattern::new(pattern, ty, None)
            .unwrap()
            .read(value.as_bytes())
    }

    fn day(year: i16, month: u8, day: u8) -> Option<Day> {
        Day::new(year, month, day)
    }

    #[test]
    fn patterns_one_by_one() {
        let at = |d, h: u64, m: u64, s: u64, nanos: u64| {
            Ok(Moment {
                day: d,
                nanos: (h * 3600 + m * 60 + s) * SECOND + nanos,
            })
        };
        let cases = [
            ("%Y-%m-%d", "2031-02-28", at(day(2031, 2, 28), 0, 0, 0, 0)),
            ("%Y-%m-%d", "2031-02-29", Err(Unread::NoSuchDay)),
            ("%Y-%m-%d", "2032-02-29", at(day(2032, 2, 29), 0, 0, 0, 0)),
            ("%Y-%m-%d", "0001-01-01", at(day(1, 1, 1), 0, 0, 0, 0)),
            ("%Y-%m-%d", "0000-01-01", Err(Unread::NoSuchDay)),
            ("%Y-%m-%d", "2031/02/28", Err(Unread::Unlike)),
            ("%d/%m/%Y", "1/2/2031", at(day(2031, 2, 1), 0, 0, 0, 0)),
            ("%d/%m/%Y", "01/02/31", Err(Unread::Unlike)),
            ("%d/%m/%Y", "1/2/0031", at(day(31, 2, 1), 0, 0, 0, 0)),
            ("%d %b %Y", "07 Mar 2031", at(day(2031, 3, 7), 0, 0, 0, 0)),
            ("%H:%M", "23:59", at(None, 23, 59, 0, 0)),
            ("%H:%M:%S", "23:59:60", Err(Unread::Unlike)),
            ("%H:%M:%S", "24:00:00", Err(Unread::Unlike)),
            ("%H:%M:%S%.f", "01:02:03.5", at(None, 1, 2, 3, 500_000_000)),
            ("%H:%M:%S%.f", "01:02:03", at(None, 1, 2, 3, 0)),
            ("%H:%M:%S%.f", "01:02:03.", Err(Unread::Unlike)),
            ("%I:%M %p", "12:05 AM", at(None, 0, 5, 0, 0)),
            ("%I:%M:%S %p", "12:05:09 pm", at(None, 12, 5, 9, 0)),
            ("%d %B %Y", "7 March 2031", at(day(2031, 3, 7), 0, 0, 0, 0)),
            ("%d.%m.%y", "31.12.60", at(day(2060, 12, 31), 0, 0, 0, 0)),
            ("%d.%m.%y", "31.12.69", at(day(1969, 12, 31), 0, 0, 0, 0)),
            ("%d %b %y", "29 Feb 00", at(day(2000, 2, 29), 0, 0, 0, 0)),
            ("unix_seconds", "0", at(day(1970, 1, 1), 0, 0, 0, 0)),
            ("unix_seconds", "-1", at(day(1969, 12, 31), 23, 59, 59, 0)),
            (
                "unix_seconds",
                "1924992000.5",
                at(day(2031, 1, 1), 0, 0, 0, 500_000_000),
            ),
            (
                "unix_milliseconds",
                "1924992000250",
                at(day(2031, 1, 1), 0, 0, 0, 250_000_000),
            ),
            ("unix_seconds", "soon", Err(Unread::Unlike)),
            ("unix_seconds", "99999999999999", Err(Unread::NoSuchDay)),
        ];
        for (pattern, value, wanted) in cases {
            assert_eq!(read(pattern, value), wanted, "{pattern} {value}");
        }
    }

    #[test]
    fn a_pattern_must_have_what_its_type_needs() {
        let wrong = [
            ("%H:%M", Type::Date),
            ("%Y-%m", Type::Date),
            ("%!", Type::Date),
            ("%Y-%m-%d %H:%M %z", Type::Timestamp),
            ("%Y-%m-%d %H:%M %Q", Type::TimestampTz),
            ("%Y-%m-%d", Type::Time),
            ("unix_seconds", Type::Time),
        ];
        for (text, ty) in wrong {
            assert!(Pattern::new(text, ty, None).is_err(), "{text} {ty}");
        }
    }

    #[test]
    fn two_digits_name_a_year_of_the_spec_s_hundred() {
        for (pattern, value) in [("%d.%m.%y", "29.02.{}"), ("%d %b %y", "29 Feb {}")] {
            let pattern = Pattern::new(pattern, Type::Date, Some(1930)).unwrap();
            let year = |digits: &str| {
                let value = value.replace("{}", digits);
                pattern.read(value.as_bytes()).map(|m| m.day.unwrap().year)
            };
            assert_eq!(year("32"), Ok(1932));
            assert_eq!(year("96"), Ok(1996));
            assert_eq!(year("28"), Ok(2028));
            assert_eq!(year("30"), Err(Unread::NoSuchDay));
        }
    }

    proptest! {
        #[test]
        fn the_fast_path_agrees_with_jiff(
            which in 0usize..8, y in 0i16..=9999, m in 0u8..=13, d in 0u8..=32,
            h in 0u8..=25, min in 0u8..=61, s in 0u8..=61, nanos in 0u32..=999_999_999,
            noise in proptest::option::of((0usize..29, any::<char>())),
        ) {
            let patterns = [
                "%Y-%m-%d", "%d/%m/%Y", "%Y%m%d", "%Y-%m-%d %H:%M:%S%.f", "%FT%T%.f", "%H:%M:%S",
                "%d.%m.%y", "%D",
            ];
            let ty = if which == 5 { Type::Time } else { Type::Timestamp };
            let pattern = Pattern::new(patterns[which], ty, Some(1950)).unwrap();
            let mut value = match which {
                0 => format!("{y:04}-{m:02}-{d:02}"),
                1 => format!("{d:02}/{m:02}/{y:04}"),
                2 => format!("{y:04}{m:02}{d:02}"),
                3 => format!("{y:04}-{m:02}-{d:02} {h:02}:{min:02}:{s:02}.{nanos:09}"),
                4 => format!("{y:04}-{m:02}-{d:02}T{h:02}:{min:02}:{s:02}"),
                5 => format!("{h:02}:{min:02}:{s:02}"),
                6 => format!("{d:02}.{m:02}.{:02}", y % 100),
                _ => format!("{m:02}/{d:02}/{:02}", y % 100),
            };
            if let Some((at, c)) = noise && at <= value.len() { value.insert(at, c); }
            let Way::Fixed(fixed) = &pattern.way else { panic!("no fast path") };
            if let Some(read) = fixed.read(value.as_bytes()) {
                prop_assert_eq!(Ok((read, None)), pattern.read_with_jiff(value.as_bytes()));
            }
        }
    }
}
