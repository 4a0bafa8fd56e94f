//! Whether values are numbers, and with which marks.

use super::{Profile, Room};

/// How a number's marks may be read.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Marks {
    /// Values that are numbers with these marks.
    pub fits: u64,
    /// The most digits before the mark.
    pub whole: u32,
    /// The most digits after it.
    pub fraction: u32,
    /// Values that have a group mark.
    pub grouped: u64,
    /// Values of three groups or more that have three digits each, the first too: addresses
    /// and telephone numbers look so.
    pub alike: u64,
}

/// The four usual ways to write a number: decimal mark and group mark.
pub const MARKS: [(&str, &str); 4] = [(".", ""), (",", ""), (".", ","), (",", ".")];

/// How a batch's short whole numbers follow each other.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Course {
    /// There are none.
    #[default]
    NoNumbers,
    /// Each is larger than the one before it: the first, and the last.
    Rises(i64, i64),
    /// One is not.
    Falls,
}

/// So many digits are held by 64 bits, and by a float without loss.
const SHORT: usize = 15;

/// What a batch's short whole numbers come to.
#[derive(Default)]
pub(super) struct Whole {
    times: u64,
    digits: u32,
    range: Option<(i64, i64)>,
    /// Whether one was not larger than the one before it.
    falls: bool,
}

impl Whole {
    #[inline]
    fn take(&mut self, number: i64, digits: u32, times: u64) {
        self.times += times;
        self.digits = self.digits.max(digits);
        match &mut self.range {
            // Each rises above all before: then it is the largest so far.
            Some((_, most)) if number > *most => *most = number,
            Some((least, _)) => {
                self.falls = true;
                *least = number.min(*least);
            }
            None => self.range = Some((number, number)),
        }
    }

    /// How the numbers follow each other.
    pub(super) fn course(&self) -> Course {
        match self.range {
            None => Course::NoNumbers,
            Some(_) if self.falls => Course::Falls,
            Some((first, last)) => Course::Rises(first, last),
        }
    }

    /// How many there were.
    pub(super) fn times(&self) -> u64 {
        self.times
    }
}

impl Profile {
    /// Adds what was gathered apart, for speed.
    pub(super) fn settle(&mut self, room: &Room) {
        let Whole {
            times,
            digits,
            range,
            ..
        } = room.whole;
        self.whole += times;
        for marks in &mut self.marks {
            marks.fits += times;
            marks.whole = marks.whole.max(digits);
        }
        if let Some((least, most)) = range {
            self.widen(least.into(), most.into());
        }
    }

    fn widen(&mut self, low: i128, high: i128) {
        let (least, most) = self.range.unwrap_or((low, high));
        self.range = Some((least.min(low), most.max(high)));
    }

    /// Takes a value up as a number, if it is one in any of the usual ways.
    #[inline]
    pub(super) fn number(&mut self, value: &[u8], times: u64, room: &mut Room) -> bool {
        let (minus, digits) = match value {
            [sign @ (b'-' | b'+'), rest @ ..] => (*sign == b'-', rest),
            _ => (false, value),
        };
        if !matches!(digits.first(), Some(b'0'..=b'9' | b'.' | b',')) {
            return false;
        }
        match Short::of(digits) {
            Some(short) => self.short(&short, minus, digits, times, room),
            None => self.careful(value, digits, times),
        }
        .unwrap_or_else(|| self.marked(value, digits, times))
    }

    /// Takes up a number of a few digits; none for what has to be looked at with care.
    #[inline]
    fn short(
        &mut self,
        short: &Short,
        minus: bool,
        digits: &[u8],
        times: u64,
        room: &mut Room,
    ) -> Option<bool> {
        let Some(mark) = short.mark else {
            if digits.len() > 1 && digits[0] == b'0' {
                self.leading_zeros += times;
            }
            let number = if minus { -short.number } else { short.number };
            room.whole.take(number, short.whole, times);
            return Some(true);
        };
        let after = digits.len() - mark - 1;
        // A point before three digits may part groups.
        if mark == 0 || after == 0 || after == 3 {
            return None;
        }
        let trailing = digits.iter().rev().take_while(|b| **b == b'0').count();
        let fraction = after - trailing.min(after);
        for place in [0, 2] {
            let marks = &mut self.marks[place];
            marks.fits += times;
            marks.whole = marks.whole.max(short.whole);
            marks.fraction = marks.fraction.max(fraction as u32);
        }
        if mark > 1 && digits[0] == b'0' {
            self.leading_zeros += times;
        }
        let size = short.number as f64 / TENS[after];
        self.magnitude(if minus { -size } else { size });
        Some(true)
    }

    /// Takes up many digits, or a number with an exponent; none for another.
    fn careful(&mut self, value: &[u8], digits: &[u8], times: u64) -> Option<bool> {
        let others = |b: &u8| !matches!(b, b'0'..=b'9' | b'.' | b',');
        let other = digits.iter().find(|b| others(b));
        if other.is_some_and(|b| !matches!(b, b'e' | b'E')) {
            return Some(false);
        }
        let text = std::str::from_utf8(value).ok()?;
        if digits.iter().all(u8::is_ascii_digit) {
            let zeros = digits.iter().take_while(|b| **b == b'0').count();
            if digits.len() > 1 && zeros > 0 {
                self.leading_zeros += times;
            }
            for marks in &mut self.marks {
                marks.fits += times;
                marks.whole = marks.whole.max((digits.len() - zeros) as u32);
            }
            self.whole += times;
            if let Ok(number) = text.parse::<i128>() {
                self.widen(number, number);
            }
            self.parsed(text);
            return Some(true);
        }
        if other.is_some() {
            let is_one = digits.len() > 2 && text.parse::<f64>().is_ok_and(f64::is_finite);
            if is_one {
                self.exponents += times;
                self.parsed(text);
            }
            return Some(is_one);
        }
        None
    }

    /// Takes a number with marks up, by each of the usual ways to write one.
    fn marked(&mut self, value: &[u8], digits: &[u8], times: u64) -> bool {
        let mut fits = false;
        for (place, (decimal, group)) in MARKS.iter().enumerate() {
            if let Some((whole, fraction, grouped)) =
                parted(digits, decimal.as_bytes()[0], group.bytes().next())
            {
                let marks = &mut self.marks[place];
                marks.fits += times;
                marks.whole = marks.whole.max(whole);
                marks.fraction = marks.fraction.max(fraction);
                if grouped {
                    marks.grouped += times;
                    let groups = digits.split(|b| Some(*b) == group.bytes().next());
                    let (mut count, mut are_alike) = (0, true);
                    for part in groups {
                        count += 1;
                        are_alike &= part.len() == 3;
                    }
                    marks.alike += times * u64::from(are_alike && count > 2);
                }
                fits = true;
            }
        }
        if fits {
            if digits.len() > 1 && digits[0] == b'0' && digits[1].is_ascii_digit() {
                self.leading_zeros += times;
            }
            if let Ok(text) = std::str::from_utf8(value) {
                self.parsed(&text.replace(',', "."));
            }
        }
        fits
    }

    fn parsed(&mut self, value: &str) {
        if let Ok(number) = value.parse::<f64>() {
            self.magnitude(number);
        }
    }

    #[inline]
    fn magnitude(&mut self, number: f64) {
        let (least, most) = self.numbers.unwrap_or((number, number));
        self.numbers = Some((least.min(number), most.max(number)));
    }
}

/// Powers of ten that a float holds.
const TENS: [f64; SHORT + 1] = [
    1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15,
];

/// Digits with at most one point among them.
struct Short {
    number: i64,
    /// Where the point stands.
    mark: Option<usize>,
    /// Digits before it that count.
    whole: u32,
}

impl Short {
    /// None for what has other marks, or too many digits.
    #[inline]
    fn of(digits: &[u8]) -> Option<Short> {
        if digits.len() > SHORT {
            return None;
        }
        let mut mark = None;
        let mut number = 0i64;
        let mut zeros = 0;
        for (place, byte) in digits.iter().enumerate() {
            match byte {
                b'0'..=b'9' => {
                    zeros += usize::from(*byte == b'0' && number == 0 && mark.is_none());
                    number = number * 10 + i64::from(byte - b'0');
                }
                b'.' if mark.is_none() => mark = Some(place),
                _ => return None,
            }
        }
        Some(Short {
            number,
            mark,
            whole: (mark.unwrap_or(digits.len()) - zeros) as u32,
        })
    }
}

/// How many significant digits stand before the decimal mark and after it, and
/// whether a group mark stands among them; none for what is no such number.
fn parted(digits: &[u8], decimal: u8, group: Option<u8>) -> Option<(u32, u32, bool)> {
    let (whole, fraction) = match digits.iter().position(|b| *b == decimal) {
        Some(at) => (&digits[..at], &digits[at + 1..]),
        None => (digits, &digits[..0]),
    };
    if !fraction.iter().all(u8::is_ascii_digit) || digits.len() == 1 {
        return None;
    }
    let mut count = 0;
    let mut groups = 0;
    let mut fits = true;
    let mut start = 0;
    loop {
        let end = group
            .and_then(|group| whole[start..].iter().position(|b| *b == group))
            .map_or(whole.len(), |at| start + at);
        let part = &whole[start..end];
        if !part.iter().all(u8::is_ascii_digit) {
            return None;
        }
        // The first group may be shorter; a later one has three digits.
        fits &= match groups {
            0 => (1..=3).contains(&part.len()),
            _ => part.len() == 3,
        };
        groups += 1;
        count += part.len();
        if end == whole.len() {
            break;
        }
        start = end + 1;
    }
    let grouped = groups > 1;
    if grouped && !fits {
        return None;
    }
    let zeros = whole.iter().take_while(|b| **b == b'0').count();
    let fraction = fraction.len() - fraction.iter().rev().take_while(|b| **b == b'0').count();
    Some(((count - zeros) as u32, fraction as u32, grouped))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_numbers() {
        let short = |text: &str| {
            Short::of(text.as_bytes()).map(|short| (short.number, short.mark, short.whole))
        };
        assert_eq!(short("4425"), Some((4425, None, 4)));
        assert_eq!(short("0042"), Some((42, None, 2)));
        assert_eq!(short("0"), Some((0, None, 0)));
        assert_eq!(short("100.50"), Some((10050, Some(3), 3)));
        assert_eq!(short("0.05"), Some((5, Some(1), 0)));
        assert_eq!(short("1.2.3"), None);
        assert_eq!(short("1,5"), None);
        assert_eq!(short("1234567890123456"), None);
    }

    #[test]
    fn groups_have_three_digits() {
        assert_eq!(parted(b"1.234,50", b',', Some(b'.')), Some((4, 1, true)));
        assert_eq!(parted(b"12.34,50", b',', Some(b'.')), None);
        assert_eq!(parted(b"1234,5", b',', None), Some((4, 1, false)));
    }
}
