//! Dates, times and timestamps by a pattern.

use jiff::civil::{self, DateTime};
use jiff::fmt::strtime;
use jiff::tz::TimeZone;

use crate::reason::Code;
use crate::types::Type;
use crate::values::canonical::{put_clock, put_day};
use crate::values::{Cell, Day};

/// How a column's moments are written.
#[derive(Debug)]
pub enum MomentForm {
    /// `2031-04-03`, `08:05:09.5`, `2031-04-03 08:05:09.5`, and `+00:00` after a moment.
    Usual,
    /// By a pattern of strftime; a moment is written in the zone.
    Pattern(String, TimeZone),
    /// Seconds since 1970 in UTC, times ten to the power of this.
    Unix(u32),
}

impl MomentForm {
    /// By the first of a column's patterns.
    pub fn new(patterns: &[String], zone: Option<&str>) -> MomentForm {
        let zone = zone.and_then(|name| TimeZone::get(name).ok());
        match (patterns.first().map(String::as_str), zone) {
            (None, None) => MomentForm::Usual,
            (Some("unix_seconds"), _) => MomentForm::Unix(0),
            (Some("unix_milliseconds"), _) => MomentForm::Unix(3),
            (Some(pattern), zone) => {
                MomentForm::Pattern(pattern.into(), zone.unwrap_or(TimeZone::UTC))
            }
            (None, Some(zone)) => MomentForm::Pattern("%Y-%m-%d %H:%M:%S%.f%:z".into(), zone),
        }
    }

    /// Writes a cell of a temporal type.
    ///
    /// # Errors
    /// The pattern has no room for it.
    pub fn write(&self, cell: Cell, ty: Type, out: &mut Vec<u8>) -> Result<(), Code> {
        match self {
            MomentForm::Usual => usual(cell, ty, out),
            MomentForm::Pattern(pattern, zone) => {
                let at = date_time(cell).ok_or(Code::NotATimestamp)?;
                let written = match ty {
                    Type::TimestampTz => {
                        let utc = at
                            .to_zoned_datetime(TimeZone::UTC)
                            .map_err(|_| Code::OutOfRange)?;
                        strtime::format(pattern, &utc.with_time_zone(zone.clone()))
                    }
                    _ => strtime::format(pattern, at),
                };
                let written = written.map_err(|_| Code::OutOfRange)?;
                out.extend_from_slice(written.as_bytes());
                Ok(())
            }
            MomentForm::Unix(digits) => {
                let at = date_time(cell).ok_or(Code::NotATimestamp)?;
                let utc = at
                    .to_zoned_datetime(TimeZone::UTC)
                    .map_err(|_| Code::OutOfRange)?;
                let nanos = utc.timestamp().as_nanosecond();
                let scale = 9 - *digits as usize;
                let text = crate::values::decimal(nanos, scale);
                let text = text.trim_end_matches('0').trim_end_matches('.');
                out.extend_from_slice(text.as_bytes());
                Ok(())
            }
        }
    }
}

/// Writes a cell in the usual notation.
///
/// # Errors
/// It is no moment.
pub fn usual(cell: Cell, ty: Type, out: &mut Vec<u8>) -> Result<(), Code> {
    match cell {
        Cell::Date(day) => put_day(day, out),
        Cell::Time(nanos) => put_time(nanos, out),
        Cell::Timestamp(day, nanos) => {
            put_day(day, out);
            out.push(b' ');
            put_time(nanos, out);
            if ty == Type::TimestampTz {
                out.extend_from_slice(b"+00:00");
            }
        }
        _ => return Err(Code::NotATimestamp),
    }
    Ok(())
}

fn put_time(nanos: u64, out: &mut Vec<u8>) {
    let fraction = put_clock(nanos, out);
    if fraction > 0 {
        let digits = format!(".{fraction:09}");
        out.extend_from_slice(digits.trim_end_matches('0').as_bytes());
    }
}

fn date_time(cell: Cell) -> Option<DateTime> {
    let time = |nanos: u64| {
        let (seconds, fraction) = (
            (nanos / 1_000_000_000) as i32,
            (nanos % 1_000_000_000) as i32,
        );
        let (hour, minute) = ((seconds / 3600) as i8, (seconds / 60 % 60) as i8);
        civil::Time::new(hour, minute, (seconds % 60) as i8, fraction).ok()
    };
    let day = |day: Day| civil::Date::new(day.year, day.month as i8, day.day as i8).ok();
    match cell {
        Cell::Date(date) => Some(day(date)?.at(0, 0, 0, 0)),
        // A time has no day; any will do for its pattern.
        Cell::Time(nanos) => Some(civil::date(1970, 1, 1).to_datetime(time(nanos)?)),
        Cell::Timestamp(date, nanos) => Some(day(date)?.to_datetime(time(nanos)?)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(patterns: &[&str], zone: Option<&str>, cell: Cell, ty: Type) -> String {
        let patterns: Vec<String> = patterns.iter().map(|p| (*p).to_string()).collect();
        let mut out = Vec::new();
        MomentForm::new(&patterns, zone)
            .write(cell, ty, &mut out)
            .unwrap();
        String::from_utf8(out).unwrap()
    }

    #[test]
    fn moments_one_by_one() {
        let day = Day::new(2031, 4, 3).unwrap();
        let at = Cell::Timestamp(day, 29_109_500_000_000);
        let cases = [
            (&[][..], None, Cell::Date(day), Type::Date, "2031-04-03"),
            (&["%d/%m/%y"], None, Cell::Date(day), Type::Date, "03/04/31"),
            (&[], None, at, Type::Timestamp, "2031-04-03 08:05:09.5"),
            (
                &[],
                None,
                at,
                Type::TimestampTz,
                "2031-04-03 08:05:09.5+00:00",
            ),
            (
                &[],
                Some("Europe/Berlin"),
                at,
                Type::TimestampTz,
                "2031-04-03 10:05:09.5+02:00",
            ),
            (
                &["unix_seconds"],
                None,
                at,
                Type::TimestampTz,
                "1932969909.5",
            ),
            (
                &["unix_milliseconds"],
                None,
                at,
                Type::Timestamp,
                "1932969909500",
            ),
            (
                &["%H.%M"],
                None,
                Cell::Time(29_100_000_000_000),
                Type::Time,
                "08.05",
            ),
        ];
        for (patterns, zone, cell, ty, wanted) in cases {
            assert_eq!(written(patterns, zone, cell, ty), wanted);
        }
    }
}
