//! Dates, times of day and timestamps.

use jiff::civil::DateTime;
use jiff::tz::{AmbiguousOffset, TimeZone};

use super::cell::{Cell, Day};
use super::pattern::{Moment, Pattern, Unread, directives};
use crate::reason::Code;
use crate::types::Type;
use crate::values::value_parser::{Place, ValueParser};

/// Patterns of timestamps where the spec names none.
const TIMESTAMP: &[&str] = &["%Y-%m-%d %H:%M:%S%.f", "%Y-%m-%dT%H:%M:%S%.f"];
/// Patterns of moments in time where the spec names none.
pub const MOMENT: &[&str] = &["%Y-%m-%d %H:%M:%S%.f%:z", "%Y-%m-%dT%H:%M:%S%.f%:z"];
/// Patterns of times where the spec names none.
const TIME: &[&str] = &["%H:%M:%S%.f", "%H:%M"];
/// Patterns of dates where the spec names none.
const DATE: &[&str] = &["%Y-%m-%d"];

/// Patterns, tried in order.
#[derive(Debug)]
pub struct Patterns(Vec<Pattern>);

/// The patterns that a column is read by: its own, or the ones of ISO 8601.
fn given(patterns: &[String], ty: Type, zone: bool) -> Vec<&str> {
    match (patterns, ty) {
        ([_, ..], _) => patterns.iter().map(String::as_str).collect(),
        ([], Type::Date) => DATE.to_vec(),
        ([], Type::Time) => TIME.to_vec(),
        ([], Type::TimestampTz) if zone => [MOMENT, TIMESTAMP].concat(),
        ([], Type::TimestampTz) => MOMENT.to_vec(),
        ([], _) => TIMESTAMP.to_vec(),
    }
}

impl Patterns {
    /// These patterns, or the ones of ISO 8601 where there are none.
    ///
    /// # Errors
    /// What is wrong with the first pattern that is wrong.
    pub fn new(patterns: &[String], ty: Type, years_from: Option<i16>) -> Result<Patterns, String> {
        given(patterns, ty, false)
            .into_iter()
            .map(|p| Pattern::new(p, ty, years_from))
            .collect::<Result<_, _>>()
            .map(Patterns)
    }

    /// The patterns, as a message names them.
    pub fn expected(&self) -> String {
        let all: Vec<_> = self.0.iter().map(Pattern::text).collect();
        all.join(" or ")
    }

    #[inline]
    fn read(&self, value: &[u8], unlike: Code) -> Result<Moment, Code> {
        let mut code = unlike;
        for pattern in &self.0 {
            match pattern.read(value) {
                Ok(moment) => return Ok(moment),
                Err(Unread::NoSuchDay) => code = Code::NoSuchDate,
                Err(Unread::Unlike) => {}
            }
        }
        Err(code)
    }
}

/// Reads days.
#[derive(Debug)]
pub struct Dates(pub Patterns);

impl ValueParser for Dates {
    #[inline]
    fn read(&self, value: &[u8], _: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        match self.0.read(value, Code::NotADate)? {
            // A time of day would be lost in a date.
            Moment { nanos: 1.., .. } => return Err(Code::TooPrecise),
            Moment { day: Some(day), .. } => *cell = Cell::Date(day),
            Moment { day: None, .. } => return Err(Code::NotADate),
        }
        Ok(())
    }
}

/// Reads times of day.
#[derive(Debug)]
pub struct Times(pub Patterns);

impl ValueParser for Times {
    #[inline]
    fn read(&self, value: &[u8], _: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        let moment = self.0.read(value, Code::NotATime)?;
        *cell = Cell::Time(moment.nanos);
        Ok(())
    }
}

/// Reads timestamps.
#[derive(Debug)]
pub struct Timestamps(pub Patterns);

impl ValueParser for Timestamps {
    #[inline]
    fn read(&self, value: &[u8], _: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        match self.0.read(value, Code::NotATimestamp)? {
            Moment {
                day: Some(day),
                nanos,
            } => *cell = Cell::Timestamp(day, nanos),
            Moment { day: None, .. } => return Err(Code::NotATimestamp),
        }
        Ok(())
    }
}

/// Reads moments in time, by their offset from UTC or as a zone's local time.
#[derive(Debug)]
pub struct Moments {
    patterns: Vec<MomentPattern>,
    zone: Option<TimeZone>,
}

/// A pattern of a moment in time.
#[derive(Debug)]
struct MomentPattern {
    text: String,
    /// What reads it, without the offset at its end if it has one there.
    pattern: Pattern,
    offset: OffsetPlace,
}

/// Where an offset from UTC stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum OffsetPlace {
    /// Nowhere: it is a zone's local time.
    None,
    /// Nowhere: the value is in UTC.
    Utc,
    /// At the end, where we read it ourselves.
    End,
    /// Elsewhere, where jiff reads it.
    Within,
}

impl Moments {
    /// By these patterns, or the ones of ISO 8601; local times are those of `time_zone`.
    ///
    /// # Errors
    /// The key, and what is wrong with it.
    pub fn new(
        patterns: &[String],
        years_from: Option<i16>,
        zone: Option<&str>,
    ) -> Result<Moments, (&'static str, String)> {
        let zone = match zone {
            None => None,
            Some(name) => Some(TimeZone::get(name).map_err(|_| {
                (
                    "time_zone",
                    format!("\"{name}\" is not a zone of the IANA database"),
                )
            })?),
        };
        let patterns = given(patterns, Type::TimestampTz, zone.is_some())
            .into_iter()
            .map(|text| MomentPattern::new(text, years_from))
            .collect::<Result<Vec<_>, _>>()
            .map_err(|message| ("format", message))?;
        let local = patterns.iter().find(|p| p.offset == OffsetPlace::None);
        if let (Some(local), None) = (local, &zone) {
            return Err((
                "format",
                format!(
                    "\"{}\" has no offset such as %:z, so the column needs the zone of its local \
                     times, such as time_zone = \"Europe/Berlin\"",
                    local.text
                ),
            ));
        }
        Ok(Moments { patterns, zone })
    }

    /// The patterns, as a message names them.
    pub fn expected(&self) -> String {
        let all: Vec<_> = self.patterns.iter().map(|p| p.text.as_str()).collect();
        all.join(" or ")
    }

    fn moment(&self, pattern: &MomentPattern, value: &[u8]) -> Result<Cell, Code> {
        let unread = |unread| match unread {
            Unread::NoSuchDay => Code::NoSuchDate,
            Unread::Unlike => Code::NotATimestamp,
        };
        let (moment, offset) = match pattern.offset {
            OffsetPlace::None => (pattern.pattern.read(value).map_err(unread)?, None),
            OffsetPlace::Utc => (pattern.pattern.read(value).map_err(unread)?, Some(0)),
            OffsetPlace::Within => pattern.pattern.read_with_jiff(value).map_err(unread)?,
            OffsetPlace::End => {
                let (value, offset) = offset_at_end(value).ok_or(Code::NotATimestamp)?;
                (pattern.pattern.read(value).map_err(unread)?, Some(offset))
            }
        };
        let offset = match (offset, &self.zone) {
            (Some(seconds), _) => seconds,
            (None, Some(zone)) => {
                let local = local(moment).ok_or(Code::NotATimestamp)?;
                match zone.to_ambiguous_timestamp(local).offset() {
                    AmbiguousOffset::Unambiguous { offset } => offset.seconds(),
                    AmbiguousOffset::Gap { .. } => return Err(Code::NoSuchTime),
                    AmbiguousOffset::Fold { .. } => return Err(Code::AmbiguousTime),
                }
            }
            (None, None) => return Err(Code::NotATimestamp),
        };
        let day = moment.day.ok_or(Code::NotATimestamp)?;
        let (day, nanos) = in_utc(day, moment.nanos, offset).ok_or(Code::OutOfRange)?;
        Ok(Cell::Timestamp(day, nanos))
    }
}

impl MomentPattern {
    fn new(text: &str, years_from: Option<i16>) -> Result<MomentPattern, String> {
        let before = text.strip_suffix("%:z").or(text.strip_suffix("%z"));
        let within = |text: &str| directives(text).contains(&'z');
        let (read_by, offset) = match before {
            Some(before) if !within(before) => (before, OffsetPlace::End),
            _ if within(text) => (text, OffsetPlace::Within),
            _ if text.starts_with("unix_") => (text, OffsetPlace::Utc),
            _ => (text, OffsetPlace::None),
        };
        Ok(MomentPattern {
            text: text.to_string(),
            pattern: Pattern::new(read_by, Type::TimestampTz, years_from)?,
            offset,
        })
    }
}

/// A local day and time in UTC, if its year there is 1 to 9999. `offset` is in seconds.
///
/// Not by way of jiff's moments, which end on the last day but one of 9999: the last one is
/// what many programs write for "never ends".
fn in_utc(day: Day, nanos: u64, offset: i32) -> Option<(Day, u64)> {
    const DAY: i64 = 86_400_000_000_000;
    let at = nanos as i64 - i64::from(offset) * 1_000_000_000;
    let days = i64::from(day.number()) + at.div_euclid(DAY);
    let day = Day::of_number(i32::try_from(days).ok()?)?;
    Some((day, at.rem_euclid(DAY) as u64))
}

/// A day and its time as jiff has them.
fn local(moment: Moment) -> Option<DateTime> {
    let day = moment.day?;
    let (seconds, nanos) = (moment.nanos / 1_000_000_000, moment.nanos % 1_000_000_000);
    DateTime::new(
        day.year,
        day.month as i8,
        day.day as i8,
        (seconds / 3600) as i8,
        (seconds / 60 % 60) as i8,
        (seconds % 60) as i8,
        nanos as i32,
    )
    .ok()
}

/// Parts a value from the offset at its end: `Z`, `+02`, `+0200` or `+02:00`
/// (RFC 3339, section 5.6, and ISO 8601). In seconds.
fn offset_at_end(value: &[u8]) -> Option<(&[u8], i32)> {
    if let [rest @ .., b'Z' | b'z'] = value {
        return Some((rest, 0));
    }
    let tail = value.len().saturating_sub(6);
    let at = tail
        + value[tail..]
            .iter()
            .rposition(|b| matches!(b, b'+' | b'-'))?;
    let (hours, minutes) = match &value[at + 1..] {
        [a, b] => ([*a, *b], [b'0', b'0']),
        [a, b, c, d] | [a, b, b':', c, d] => ([*a, *b], [*c, *d]),
        _ => return None,
    };
    let two = |digits: [u8; 2]| {
        let all = digits.iter().all(u8::is_ascii_digit);
        all.then(|| i32::from(digits[0] - b'0') * 10 + i32::from(digits[1] - b'0'))
    };
    let (hours, minutes) = (two(hours)?, two(minutes)?);
    let seconds = hours * 3600 + minutes * 60;
    let sign = if value[at] == b'-' { -1 } else { 1 };
    (hours < 24 && minutes < 60).then_some((&value[..at], sign * seconds))
}

impl ValueParser for Moments {
    fn read(&self, value: &[u8], _: Place<'_>, cell: &mut Cell) -> Result<(), Code> {
        let mut code = Code::NotATimestamp;
        for pattern in &self.patterns {
            match self.moment(pattern, value) {
                Ok(moment) => {
                    *cell = moment;
                    return Ok(());
                }
                Err(Code::NotATimestamp) => {}
                Err(other) => code = other,
            }
        }
        Err(code)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_are_tried_in_order() {
        let patterns = ["%d/%m/%Y".to_string(), "%Y-%m-%d".to_string()];
        let dates = Dates(Patterns::new(&patterns, Type::Date, None).unwrap());
        let read = |value: &str| dates.cell(value.as_bytes(), Place::test(&mut Vec::new()));
        let day = Cell::Date(Day::new(2031, 4, 3).unwrap());
        assert_eq!(read("03/04/2031"), Ok(day));
        assert_eq!(read("2031-04-03"), Ok(day));
        assert_eq!(read("31/02/2031"), Err(Code::NoSuchDate));
        assert_eq!(read("soon"), Err(Code::NotADate));
    }

    #[test]
    fn a_date_does_not_lose_a_time_of_day() {
        let patterns = ["%Y-%m-%d %H:%M".to_string()];
        let dates = Dates(Patterns::new(&patterns, Type::Date, None).unwrap());
        let read = |value: &str| dates.cell(value.as_bytes(), Place::test(&mut Vec::new()));
        assert!(read("2031-04-03 00:00").is_ok());
        assert_eq!(read("2031-04-03 10:30"), Err(Code::TooPrecise));
    }

    fn moment(patterns: &[&str], zone: Option<&str>, value: &str) -> Result<(Day, u64), Code> {
        let patterns: Vec<String> = patterns.iter().map(|p| (*p).to_string()).collect();
        let kind = Moments::new(&patterns, None, zone).unwrap();
        match kind.cell(value.as_bytes(), Place::test(&mut Vec::new()))? {
            Cell::Timestamp(day, nanos) => Ok((day, nanos / 1_000_000_000)),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn offsets_lead_to_utc() {
        let at = |y, m, d, seconds| Ok((Day::new(y, m, d).unwrap(), seconds));
        let cases = [
            ("2031-04-03 10:30:00+02:00", at(2031, 4, 3, 8 * 3600 + 1800)),
            ("2031-04-03T10:30:00.5Z", at(2031, 4, 3, 10 * 3600 + 1800)),
            (
                "2031-01-01 00:30:00+0100",
                at(2030, 12, 31, 23 * 3600 + 1800),
            ),
            ("2031-04-03 23:30:00-01", at(2031, 4, 4, 1800)),
            ("2031-04-03 10:30:00", Err(Code::NotATimestamp)),
            ("2031-04-03 10:30:00+25:00", Err(Code::NotATimestamp)),
            ("2031-04-03", Err(Code::NotATimestamp)),
            ("2031-02-30 10:30:00Z", Err(Code::NoSuchDate)),
            ("0001-01-01 00:30:00+01:00", Err(Code::OutOfRange)),
            ("9999-12-31 23:59:59Z", at(9999, 12, 31, 86_399)),
            ("9999-12-31 23:59:59-01:00", Err(Code::OutOfRange)),
        ];
        for (value, wanted) in cases {
            assert_eq!(moment(&[], None, value), wanted, "{value}");
        }
        let within = moment(&["%z %d.%m.%Y %H:%M"], None, "+0200 03.04.2031 10:30");
        assert_eq!(within, at(2031, 4, 3, 8 * 3600 + 1800));
        assert_eq!(moment(&["unix_seconds"], None, "60"), at(1970, 1, 1, 60));
        let last = moment(&["unix_seconds"], None, "253402300799");
        assert_eq!(last, at(9999, 12, 31, 86_399));
        let later = moment(&["unix_seconds"], None, "253402300800");
        assert_eq!(later, Err(Code::NoSuchDate));
    }

    #[test]
    fn local_times_are_those_of_the_zone() {
        // Berlin's clocks went from 2:00 to 3:00 on 28 March 2021, and from 3:00
        // back to 2:00 on 31 October 2021 (Directive 2000/84/EC).
        let berlin = |value| moment(&[], Some("Europe/Berlin"), value);
        let at = |m, d, seconds| Ok((Day::new(2021, m, d).unwrap(), seconds));
        assert_eq!(berlin("2021-03-28 01:59:59"), at(3, 28, 3599));
        assert_eq!(berlin("2021-03-28 02:30:00"), Err(Code::NoSuchTime));
        assert_eq!(berlin("2021-03-28 03:00:00"), at(3, 28, 3600));
        assert_eq!(berlin("2021-10-31 02:30:00"), Err(Code::AmbiguousTime));
        assert_eq!(berlin("2021-10-31 02:30:00+01:00"), at(10, 31, 5400));
    }

    #[test]
    fn a_moment_needs_an_offset_or_a_zone() {
        let wrong = Moments::new(&["%Y-%m-%d".to_string()], None, None).unwrap_err();
        assert!(wrong.1.contains("has no offset"), "{}", wrong.1);
        let wrong = Moments::new(&[], None, Some("Tansy/Lane")).unwrap_err();
        assert_eq!(wrong.0, "time_zone");
    }
}
