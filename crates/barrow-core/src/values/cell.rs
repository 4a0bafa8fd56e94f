//! A typed value of a row.

/// A day of the calendar (proleptic Gregorian), kept as it is written: it
/// orders, compares and prints without arithmetic.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Day {
    /// 1 to 9999.
    pub year: i16,
    /// 1 to 12.
    pub month: u8,
    /// 1 to 31.
    pub day: u8,
}

impl Day {
    /// The day, if the calendar has it and its year is 1 to 9999.
    #[inline]
    pub fn new(year: i16, month: u8, day: u8) -> Option<Day> {
        const DAYS: [u8; 13] = [0, 31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
        if !(1..=9999).contains(&year) || !(1..=12).contains(&month) || day == 0 {
            return None;
        }
        let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
        let last = DAYS[month as usize] + u8::from(month == 2 && leap);
        (day <= last).then_some(Day { year, month, day })
    }

    /// The day that is so many days after 1970-01-01, if its year is 1 to 9999.
    pub fn of_number(number: i32) -> Option<Day> {
        // The way back of what `number` counts.
        let days = i64::from(number) + 719_468;
        let era = days.div_euclid(146_097);
        let in_era = days.rem_euclid(146_097);
        let year = (in_era - in_era / 1_460 + in_era / 36_524 - in_era / 146_096) / 365;
        let in_year = in_era - (365 * year + year / 4 - year / 100);
        let month = (5 * in_year + 2) / 153;
        let day = (in_year - (153 * month + 2) / 5 + 1) as u8;
        let month = if month < 10 { month + 3 } else { month - 9 } as u8;
        let year = year + era * 400 + i64::from(month <= 2);
        Day::new(i16::try_from(year).ok()?, month, day)
    }

    /// How many days the day is after 1970-01-01; before it, less than zero.
    pub fn number(self) -> i32 {
        // Counted from March, so that a leap day is the last of its year; 400 years
        // have 146,097 days, and 719,468 lie between 0000-03-01 and 1970-01-01.
        let year = i32::from(self.year) - i32::from(self.month <= 2);
        let month = (i32::from(self.month) + 9) % 12;
        let in_year = (153 * month + 2) / 5 + i32::from(self.day) - 1;
        year * 365 + year.div_euclid(4) - year.div_euclid(100) + year.div_euclid(400) + in_year
            - 719_468
    }
}

/// Where a piece of text or bytes stands: in the block, or in the batch's own
/// store for values that differ from what the file says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Piece {
    start: u32,
    len: u32,
}

impl Piece {
    /// The bit of `start` that says it counts from the start of the store.
    /// Blocks stay below 2 GiB, so it is free.
    const STORE: u32 = 1 << 31;

    /// A piece of the block's bytes.
    pub fn in_block(start: usize, len: usize) -> Piece {
        Piece {
            start: start as u32,
            len: len as u32,
        }
    }

    /// A piece of the batch's store.
    ///
    /// # Panics
    /// The place is beyond 2 GiB, which no batch's store is: better no value than another's.
    pub fn in_store(start: usize, len: usize) -> Piece {
        assert!(
            start < Piece::STORE as usize,
            "a batch's store is beyond 2 GiB"
        );
        Piece {
            start: start as u32 | Piece::STORE,
            len: len as u32,
        }
    }

    /// How many bytes it has.
    #[inline]
    pub fn length(self) -> usize {
        self.len as usize
    }

    /// The bytes themselves.
    #[inline]
    pub fn of<'b>(self, block: &'b [u8], store: &'b [u8]) -> &'b [u8] {
        let from = if self.start & Piece::STORE == 0 {
            block
        } else {
            store
        };
        let start = (self.start & !Piece::STORE) as usize;
        &from[start..start + self.len as usize]
    }
}

/// A typed value. Sixteen bytes; text is a place, not a copy.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Cell {
    /// Null.
    Null,
    /// A truth value.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// A binary floating point number, always finite.
    Float(f64),
    /// A decimal, times ten to the power of its column's scale.
    Decimal(i64),
    /// The same for one that needs 128 bits: 16 bytes, little end first.
    LongDecimal(Piece),
    /// A day.
    Date(Day),
    /// A time of day, in nanoseconds since midnight.
    Time(u64),
    /// A day and a time of day, the latter in nanoseconds since midnight. For a
    /// moment in time they are those of UTC.
    Timestamp(Day, u64),
    /// UTF-8 text.
    Text(Piece),
    /// Bytes; for a UUID its sixteen.
    Bytes(Piece),
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_are_counted_as_the_calendar_does() {
        let first = jiff::civil::date(1970, 1, 1);
        let mut date = jiff::civil::date(1, 1, 1);
        while date.year() < 9999 {
            let day = Day::new(date.year(), date.month() as u8, date.day() as u8);
            let wanted = first.until(date).map(|span| span.get_days());
            assert_eq!(day.map(Day::number), wanted.ok(), "{date}");
            assert_eq!(day.and_then(|d| Day::of_number(d.number())), day);
            date = date.saturating_add(jiff::Span::new().days(37));
        }
    }

    #[test]
    fn a_cell_is_sixteen_bytes() {
        assert_eq!(size_of::<Cell>(), 16);
    }

    #[test]
    fn the_calendar_agrees_with_jiff_on_every_day() {
        for year in -1..=10_000i16 {
            for month in 0..=13u8 {
                for day in 0..=32u8 {
                    let theirs = (1..=9999).contains(&year)
                        && jiff::civil::Date::new(year, month as i8, day as i8).is_ok();
                    assert_eq!(
                        Day::new(year, month, day).is_some(),
                        theirs,
                        "{year}-{month}-{day}"
                    );
                }
            }
        }
    }
}
