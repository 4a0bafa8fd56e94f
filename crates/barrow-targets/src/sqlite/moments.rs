//! Moments with a zone in the text of a query.
//!
//! A column of moments is UTC, written `2031-04-03 08:05:09`, so that text sorts as time does.
//! A literal with a zone is not: where it is compared with such a column it becomes one of UTC,
//! and anywhere else it is an error, since SQL would compare it as text.

use barrow_core::escape::escape_for_display;
use jiff::Timestamp;
use jiff::tz::Offset;

use super::tokens::{Kind, Token, tokens};
use crate::error::Error;

/// The query with its moments in UTC. `is_moment` says of a column's name whether it is of
/// moments.
///
/// # Errors
/// A moment with a zone is not compared with a column of moments.
pub fn in_utc(sql: &str, is_moment: impl Fn(&str) -> bool) -> Result<String, Error> {
    let tokens = tokens(sql);
    let mut out = String::with_capacity(sql.len());
    let mut from = 0;
    for (place, token) in tokens.iter().enumerate() {
        let Kind::Text(text) = &token.kind else {
            continue;
        };
        let Some(utc) = utc_of(text) else { continue };
        let compared = compared_with(&tokens, place);
        if !compared.is_some_and(|name| is_moment(&name)) {
            return Err(Error::spec(format!(
                "'{}' has a zone, and is not compared with a column of moments: these are UTC \
                 without a zone here, so say '{utc}'",
                escape_for_display(text.as_bytes())
            )));
        }
        out.push_str(&sql[from..token.start]);
        out.push('\'');
        out.push_str(&utc);
        out.push('\'');
        from = token.end;
    }
    out.push_str(&sql[from..]);
    Ok(out)
}

/// The column that the text at a place is compared with, if that can be told.
fn compared_with(tokens: &[Token], place: usize) -> Option<String> {
    Around(tokens)
        .before(place)
        .or_else(|| Around(tokens).behind(place))
}

/// What stands around a place.
struct Around<'t>(&'t [Token]);

impl Around<'_> {
    fn kind(&self, place: usize) -> Option<&Kind> {
        self.0.get(place).map(|token| &token.kind)
    }

    fn is_word(&self, place: usize, word: &str) -> bool {
        matches!(self.kind(place), Some(Kind::Name(name)) if name.eq_ignore_ascii_case(word))
    }

    fn is_operator(&self, place: usize) -> bool {
        matches!(self.kind(place), Some(Kind::Sign('=' | '<' | '>' | '!')))
    }

    fn name(&self, place: usize) -> Option<String> {
        match self.kind(place) {
            Some(Kind::Name(name)) => Some(name.clone()),
            _ => None,
        }
    }

    /// The name before an operator, or before the list or the range that the text is in.
    fn before(&self, place: usize) -> Option<String> {
        let mut at = place.checked_sub(1)?;
        if self.is_operator(at) {
            while self.is_operator(at) {
                at = at.checked_sub(1)?;
            }
            return self.name(at);
        }
        if self.is_word(at, "IS") {
            return self.name(at.checked_sub(1)?);
        }
        let is_of_list = |at: usize| {
            matches!(self.kind(at), Some(Kind::Text(_) | Kind::Sign(',' | '(')))
                || self.is_word(at, "AND")
        };
        while is_of_list(at) {
            at = at.checked_sub(1)?;
        }
        if !(self.is_word(at, "IN") || self.is_word(at, "BETWEEN")) {
            return None;
        }
        at = at.checked_sub(1)?;
        if self.is_word(at, "NOT") {
            at = at.checked_sub(1)?;
        }
        self.name(at)
    }

    /// The name behind an operator, which may have a table's before it.
    fn behind(&self, place: usize) -> Option<String> {
        let mut at = place + 1;
        if !self.is_operator(at) {
            return None;
        }
        while self.is_operator(at) {
            at += 1;
        }
        while matches!(self.kind(at + 1), Some(Kind::Sign('.'))) {
            at += 2;
        }
        self.name(at)
    }
}

/// A moment with a zone as one of UTC: `2031-04-03T10:05:09+02:00`, `2031-04-03 08:05Z`.
fn utc_of(text: &str) -> Option<String> {
    let bytes = text.as_bytes();
    let digit = |at: usize| bytes.get(at).is_some_and(u8::is_ascii_digit);
    let is_dated = bytes.len() >= 17
        && [0, 1, 2, 3, 5, 6, 8, 9, 11, 12, 14, 15]
            .into_iter()
            .all(digit)
        && bytes[4] == b'-'
        && bytes[7] == b'-'
        && matches!(bytes[10], b' ' | b'T' | b't')
        && bytes[13] == b':';
    if !is_dated || !text.is_ascii() {
        return None;
    }
    let zone = 16 + text[16..].find(['Z', 'z', '+', '-'])?;
    let (local, zone) = (text[..zone].trim_end(), &text[zone..]);
    let local: jiff::civil::DateTime = local.replacen(['T', 't'], " ", 1).parse().ok()?;
    let minutes = match zone {
        "Z" | "z" => 0,
        _ => {
            let sign = if zone.starts_with('-') { -1 } else { 1 };
            let digits: String = zone[1..].chars().filter(char::is_ascii_digit).collect();
            let number: i32 = digits.parse().ok()?;
            sign * match digits.len() {
                1 | 2 => number * 60,
                4 => number / 100 * 60 + number % 100,
                _ => return None,
            }
        }
    };
    let zone = Offset::from_seconds(minutes * 60).ok()?;
    let moment: Timestamp = zone.to_timestamp(local).ok()?;
    let utc = Offset::UTC.to_datetime(moment);
    let whole = utc.strftime("%Y-%m-%d %H:%M:%S").to_string();
    Some(match utc.subsec_nanosecond() {
        0 => whole,
        nanos => format!("{whole}.{}", format!("{nanos:09}").trim_end_matches('0')),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(sql: &str) -> Result<String, Error> {
        in_utc(sql, |name| name.eq_ignore_ascii_case("at"))
    }

    #[test]
    fn moments_become_utc_where_they_are_compared_with_a_column_of_them() {
        for (sql, wanted) in [
            ("at > '2031-01-01 12:00:00Z'", "at > '2031-01-01 12:00:00'"),
            (
                "t.at >= '2031-01-01T12:00:00.50+02:00'",
                "t.at >= '2031-01-01 10:00:00.5'",
            ),
            (
                "'2031-01-01 00:30-01'<t.\"at\"",
                "'2031-01-01 01:30:00'<t.\"at\"",
            ),
            (
                "at NOT BETWEEN '2031-01-01 12:00Z' AND '2031-01-02 12:00+0530'",
                "at NOT BETWEEN '2031-01-01 12:00:00' AND '2031-01-02 06:30:00'",
            ),
            (
                "at IN ('2031-01-01 12:00:00z', 'x')",
                "at IN ('2031-01-01 12:00:00', 'x')",
            ),
            (
                "at IS '2031-01-01 12:00:00 Z' -- 'x'",
                "at IS '2031-01-01 12:00:00' -- 'x'",
            ),
        ] {
            assert_eq!(of(sql).unwrap(), wanted);
        }
        for plain in [
            "at > '2031-01-01 12:00:00' AND note = 'it''s 2031-01-01 12:00:00Z'",
            "note = '2031-01-01'",
            "/* '2031-01-01 12:00:00Z' */ at > 5",
        ] {
            assert_eq!(of(plain).unwrap(), plain);
        }
    }

    #[test]
    fn anywhere_else_a_zone_is_an_error() {
        for sql in [
            "note = '2031-01-01 12:00:00Z'",
            "coalesce(at, '2031-01-01 12:00:00Z') > 5",
            "max(at) > '2031-01-01 12:00:00Z'",
            "SELECT '2031-01-01 12:00:00Z'",
        ] {
            let error = of(sql).unwrap_err();
            assert!(error.to_string().contains("has a zone"), "{sql}: {error}");
        }
    }
}
