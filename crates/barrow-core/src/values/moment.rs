//! Dates, times of day and timestamps.

use super::cell::Cell;
use super::kind::{Kind, Place};
use super::pattern::{Moment, Pattern, Unread};
use crate::rejects::Code;
use crate::spec::Type;

/// Patterns of timestamps where the spec names none.
const TIMESTAMP: &[&str] = &["%Y-%m-%d %H:%M:%S%.f", "%Y-%m-%dT%H:%M:%S%.f"];
/// Patterns of times where the spec names none.
const TIME: &[&str] = &["%H:%M:%S%.f", "%H:%M"];
/// Patterns of dates where the spec names none.
const DATE: &[&str] = &["%Y-%m-%d"];

/// Patterns, tried in order.
#[derive(Debug)]
pub struct Patterns(Vec<Pattern>);

impl Patterns {
    /// These patterns, or the ones of ISO 8601 where there are none.
    ///
    /// # Errors
    /// What is wrong with the first that will not do.
    pub fn new(patterns: &[String], ty: Type) -> Result<Patterns, String> {
        let usual = match ty {
            Type::Date => DATE,
            Type::Time => TIME,
            _ => TIMESTAMP,
        };
        let given: Vec<&str> = match patterns {
            [] => usual.to_vec(),
            given => given.iter().map(String::as_str).collect(),
        };
        given
            .into_iter()
            .map(|p| Pattern::new(p, ty != Type::Time))
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

impl Kind for Dates {
    #[inline]
    fn read(&self, value: &[u8], _: Place<'_>) -> Result<Cell, Code> {
        match self.0.read(value, Code::NotADate)? {
            // A time of day would be lost in a date.
            Moment { nanos: 1.., .. } => Err(Code::TooPrecise),
            Moment { day: Some(day), .. } => Ok(Cell::Date(day)),
            Moment { day: None, .. } => Err(Code::NotADate),
        }
    }
}

/// Reads times of day.
#[derive(Debug)]
pub struct Times(pub Patterns);

impl Kind for Times {
    #[inline]
    fn read(&self, value: &[u8], _: Place<'_>) -> Result<Cell, Code> {
        let moment = self.0.read(value, Code::NotATime)?;
        Ok(Cell::Time(moment.nanos))
    }
}

/// Reads timestamps.
#[derive(Debug)]
pub struct Timestamps(pub Patterns);

impl Kind for Timestamps {
    #[inline]
    fn read(&self, value: &[u8], _: Place<'_>) -> Result<Cell, Code> {
        match self.0.read(value, Code::NotATimestamp)? {
            Moment {
                day: Some(day),
                nanos,
            } => Ok(Cell::Timestamp(day, nanos)),
            Moment { day: None, .. } => Err(Code::NotATimestamp),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::values::cell::Day;

    #[test]
    fn patterns_are_tried_in_order() {
        let patterns = ["%d/%m/%Y".to_string(), "%Y-%m-%d".to_string()];
        let dates = Dates(Patterns::new(&patterns, Type::Date).unwrap());
        let read = |value: &str| dates.read(value.as_bytes(), Place::test(&mut Vec::new()));
        let day = Cell::Date(Day::new(2031, 4, 3).unwrap());
        assert_eq!(read("03/04/2031"), Ok(day));
        assert_eq!(read("2031-04-03"), Ok(day));
        assert_eq!(read("31/02/2031"), Err(Code::NoSuchDate));
        assert_eq!(read("soon"), Err(Code::NotADate));
    }

    #[test]
    fn a_date_does_not_lose_a_time_of_day() {
        let patterns = ["%Y-%m-%d %H:%M".to_string()];
        let dates = Dates(Patterns::new(&patterns, Type::Date).unwrap());
        let read = |value: &str| dates.read(value.as_bytes(), Place::test(&mut Vec::new()));
        assert!(read("2031-04-03 00:00").is_ok());
        assert_eq!(read("2031-04-03 10:30"), Err(Code::TooPrecise));
    }
}
