//! From typed cells to the rows of a binary COPY; done by the workers.
//!
//! The form is that of "Binary Format" (COPY, in the server's manual): for each row
//! the number of fields in 16 bits, and for each field its length in 32 bits and its bytes,
//! big-endian; a length of -1 is null.

use std::ops::{DivAssign, Rem};

use barrow_core::reason::Code;
use barrow_core::types::Type;
use barrow_core::utf8::count_characters;
use barrow_core::values::{Cell, shown};

use super::types::Wire;
use crate::decimal_scaling::{float, micros, narrow, scaled, with_scale};
use crate::encoded::lines::{Encoded, Fault};

/// How one column's cells become fields; chosen once.
#[derive(Debug, Clone, Copy)]
pub struct Field {
    wire: Wire,
    ty: Type,
    scale: u32,
}

/// 2000-01-01, from which the server counts days, in days after 1970-01-01.
const EPOCH: i32 = 10_957;

/// Microseconds of a day.
const DAY: i64 = 86_400_000_000;

impl Field {
    /// For values of `ty` that go to a column by `wire`.
    pub fn new(ty: Type, wire: Wire) -> Field {
        let scale = match ty {
            Type::Decimal { scale, .. } => u32::from(scale),
            _ => 0,
        };
        Field { wire, ty, scale }
    }

    /// Whether fields are big-endian integers, whose order is that of what they stand for.
    pub fn is_whole(&self) -> bool {
        matches!(
            self.wire,
            Wire::Int2 | Wire::Int4 | Wire::Int8 | Wire::Date | Wire::Time(_) | Wire::Timestamp(_)
        )
    }

    /// Adds a cell's length and bytes.
    ///
    /// # Errors
    /// The column has no room for the value as it is.
    #[inline]
    pub fn put(
        &self,
        cell: Cell,
        block: &[u8],
        store: &[u8],
        out: &mut Vec<u8>,
    ) -> Result<(), Fault> {
        match (self.wire, cell) {
            (_, Cell::Null) => out.extend_from_slice(&(-1i32).to_be_bytes()),
            (Wire::Text(most), Cell::Text(piece)) => text(piece.of(block, store), most, out)?,
            (Wire::Int4, Cell::Int(n)) => match i32::try_from(n) {
                Ok(n) => field(out, n.to_be_bytes()),
                Err(_) => return Err(beyond("integer")),
            },
            (Wire::Int8, Cell::Int(n)) => field(out, n.to_be_bytes()),
            (Wire::Numeric(most), Cell::Decimal(n)) if self.scale <= most => {
                short_numeric(n, self.scale, out);
            }
            (Wire::Date, Cell::Date(day)) => field(out, (day.number() - EPOCH).to_be_bytes()),
            (Wire::Timestamp(digits), Cell::Timestamp(day, nanos)) => {
                let micros = micros(nanos, digits)? as i64;
                let days = i64::from(day.number() - EPOCH);
                field(out, (days * DAY + micros).to_be_bytes());
            }
            (Wire::Bool, Cell::Bool(truth)) => field(out, [u8::from(truth)]),
            (Wire::Float8, Cell::Float(n)) => field(out, n.to_be_bytes()),
            _ => self.other(cell, block, store, out)?,
        }
        Ok(())
    }

    /// Adds a cell whose column is of another type than usual.
    fn other(&self, cell: Cell, block: &[u8], store: &[u8], out: &mut Vec<u8>) -> Encoded {
        let number =
            || scaled(cell, self.scale, block, store).ok_or_else(|| Fault::strange(self.ty));
        match (self.wire, cell) {
            (Wire::Float4, Cell::Float(n)) => {
                field(out, narrow(n, self.ty == Type::Real)?.to_be_bytes());
            }
            (Wire::Float8, _) => field(out, float(number()?)?.to_be_bytes()),
            (Wire::Float4, _) => {
                field(out, narrow(float(number()?)?, false)?.to_be_bytes());
            }
            (Wire::Int2, _) => {
                let n = whole(number()?)?;
                let n = i16::try_from(n).map_err(|_| beyond("smallint"))?;
                field(out, n.to_be_bytes());
            }
            (Wire::Int4, _) => {
                let n = whole(number()?)?;
                let n = i32::try_from(n).map_err(|_| beyond("integer"))?;
                field(out, n.to_be_bytes());
            }
            (Wire::Int8, _) => {
                let n = whole(number()?)?;
                let n = i64::try_from(n).map_err(|_| beyond("bigint"))?;
                field(out, n.to_be_bytes());
            }
            (Wire::Numeric(most), _) => {
                let (n, scale) = with_scale(number()?, most)?;
                numeric(n, scale, out);
            }
            (Wire::Date, Cell::Timestamp(day, 0)) => {
                field(out, (day.number() - EPOCH).to_be_bytes());
            }
            (Wire::Date, Cell::Timestamp(..)) => {
                return Err(Fault::new(
                    Code::TooPrecise,
                    "the table's column is a date, which would lose the time of day",
                ));
            }
            (Wire::Timestamp(_), Cell::Date(day)) => {
                field(out, (i64::from(day.number() - EPOCH) * DAY).to_be_bytes());
            }
            (Wire::Time(digits), Cell::Time(nanos)) => {
                field(out, (micros(nanos, digits)? as i64).to_be_bytes());
            }
            (Wire::Jsonb, Cell::Text(piece)) => {
                let document = piece.of(block, store);
                no_nul(document)?;
                one_of_each_key(document)?;
                // The first byte is the form's version.
                length(out, document.len() + 1);
                out.push(1);
                out.extend_from_slice(document);
            }
            (Wire::Bytea | Wire::Uuid, Cell::Bytes(piece)) => {
                let bytes = piece.of(block, store);
                length(out, bytes.len());
                out.extend_from_slice(bytes);
            }
            (Wire::Padded(most), Cell::Text(piece)) => {
                let value = piece.of(block, store);
                if value.last() == Some(&b' ') && count_characters(value) != most {
                    return Err(Fault::new(
                        Code::NotAllowed,
                        "the table's column cannot distinguish spaces at a value's end from its own",
                    ));
                }
                text(value, most, out)?;
            }
            (Wire::Xml, Cell::Text(piece)) => {
                let document = piece.of(block, store);
                in_utf8(document)?;
                text(document, usize::MAX, out)?;
            }
            (Wire::Text(most) | Wire::Padded(most), _) => {
                let words = shown(cell, self.ty, block, store).unwrap_or_default();
                text(words.as_bytes(), most, out)?;
            }
            _ => return Err(Fault::strange(self.ty)),
        }
        Ok(())
    }
}

/// A key that comes twice in an object of JSON, of which the server keeps the last alone
/// ("JSON Types", jsonb).
fn one_of_each_key(document: &[u8]) -> Result<(), Fault> {
    match serde_json::from_slice::<Keys>(document) {
        Err(error) if error.is_data() => Err(Fault::new(
            Code::NotAllowed,
            format!("the table's column would lose a key: {}", words(&error)),
        )),
        // What is no JSON was told where it was read.
        _ => Ok(()),
    }
}

/// An error's own words, without the place.
fn words(error: &serde_json::Error) -> String {
    let words = error.to_string();
    let place = words.rfind(" at line ").unwrap_or(words.len());
    words[..place].to_string()
}

/// A document of JSON, of which only the keys are looked at.
struct Keys;

impl<'de> serde::Deserialize<'de> for Keys {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Keys, D::Error> {
        from.deserialize_any(KeysOf)
    }
}

struct KeysOf;

impl<'de> serde::de::Visitor<'de> for KeysOf {
    type Value = Keys;

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("a document of JSON")
    }

    fn visit_bool<E>(self, _: bool) -> Result<Keys, E> {
        Ok(Keys)
    }

    fn visit_i64<E>(self, _: i64) -> Result<Keys, E> {
        Ok(Keys)
    }

    fn visit_u64<E>(self, _: u64) -> Result<Keys, E> {
        Ok(Keys)
    }

    fn visit_f64<E>(self, _: f64) -> Result<Keys, E> {
        Ok(Keys)
    }

    fn visit_str<E>(self, _: &str) -> Result<Keys, E> {
        Ok(Keys)
    }

    fn visit_unit<E>(self) -> Result<Keys, E> {
        Ok(Keys)
    }

    fn visit_seq<A: serde::de::SeqAccess<'de>>(self, mut list: A) -> Result<Keys, A::Error> {
        while list.next_element::<Keys>()?.is_some() {}
        Ok(Keys)
    }

    fn visit_map<A: serde::de::MapAccess<'de>>(self, mut object: A) -> Result<Keys, A::Error> {
        let mut seen = std::collections::HashSet::new();
        while let Some(key) = object.next_key::<String>()? {
            object.next_value::<Keys>()?;
            if let Some(key) = seen.replace(key) {
                let shown = barrow_core::escape::visible_short(key.as_bytes(), 60);
                return Err(serde::de::Error::custom(format!("\"{shown}\" comes twice")));
            }
        }
        Ok(Keys)
    }
}

/// A document that names another encoding than the one it is sent in would be read by that
/// ("XML Type").
fn in_utf8(document: &[u8]) -> Result<(), Fault> {
    let start = document
        .strip_prefix("\u{FEFF}".as_bytes())
        .unwrap_or(document);
    let head = match (
        start.starts_with(b"<?xml"),
        memchr::memmem::find(start, b"?>"),
    ) {
        (true, Some(end)) => String::from_utf8_lossy(&start[..end]).into_owned(),
        _ => return Ok(()),
    };
    let named = head.split_once("encoding").map(|(_, after)| {
        let after = after.trim_start().trim_start_matches('=').trim_start();
        let after = after.trim_start_matches(['"', '\'']);
        after
            .split(['"', '\''])
            .next()
            .unwrap_or_default()
            .to_string()
    });
    match named {
        Some(name) if !matches!(name.to_ascii_lowercase().as_str(), "utf-8" | "utf8") => {
            Err(Fault::new(
                Code::NotAllowed,
                format!(
                    "the document says that it is in {}, and it is sent in UTF-8",
                    barrow_core::escape::visible_short(name.as_bytes(), 40)
                ),
            ))
        }
        _ => Ok(()),
    }
}

fn beyond(ty: &str) -> Fault {
    Fault::new(
        Code::OutOfRange,
        format!("the table's column is {ty}, which has no room for it"),
    )
}

fn whole(number: (i128, u32)) -> Result<i128, Fault> {
    with_scale(number, 0).map(|(n, _)| n)
}

#[inline]
fn field<const N: usize>(out: &mut Vec<u8>, bytes: [u8; N]) {
    length(out, N);
    out.extend_from_slice(&bytes);
}

#[inline]
fn length(out: &mut Vec<u8>, length: usize) {
    out.extend_from_slice(&(length as u32).to_be_bytes());
}

#[inline]
fn text(text: &[u8], most: usize, out: &mut Vec<u8>) -> Result<(), Fault> {
    no_nul(text)?;
    // A character is at least a byte, so only a longer text needs counting.
    if text.len() > most && count_characters(text) > most {
        return Err(Fault::new(
            Code::TooLong,
            format!("the table's column has room for {most} characters"),
        ));
    }
    length(out, text.len());
    out.extend_from_slice(text);
    Ok(())
}

/// Text of PostgreSQL has no NUL ("Character Types", section 8.3).
#[inline]
fn no_nul(text: &[u8]) -> Result<(), Fault> {
    match memchr::memchr(0, text) {
        None => Ok(()),
        Some(_) => Err(Fault::new(
            Code::NulCharacter,
            "PostgreSQL has no room for a NUL character in text",
        )),
    }
}

/// A numeric: groups of four digits, the weight of the first, the sign, and how many
/// digits stand after the mark (`numeric_send` in the server's source).
fn numeric(n: i128, scale: u32, out: &mut Vec<u8>) {
    let mut groups = [0u16; 24];
    let count = split_into_groups(n.unsigned_abs(), scale, &mut groups);
    finish_numeric(&mut groups[..count], n < 0, scale, out);
}

/// The same for a number that fits 64 bits, as nearly every decimal does.
#[inline]
fn short_numeric(n: i64, scale: u32, out: &mut Vec<u8>) {
    let mut groups = [0u16; 8];
    let count = split_into_groups(n.unsigned_abs(), scale, &mut groups);
    finish_numeric(&mut groups[..count], n < 0, scale, out);
}

/// Splits a number of `scale` digits after the mark into groups of four digits, the least
/// first, and returns how many there are. Digits after the mark come in whole groups: zeros
/// fill the last one up.
#[inline]
fn split_into_groups<N>(mut size: N, scale: u32, groups: &mut [u16]) -> usize
where
    N: Copy + PartialOrd + From<u16> + TryInto<u16> + Rem<Output = N> + DivAssign,
{
    let low = |size: N, unit: u16| (size % N::from(unit)).try_into().unwrap_or_default();
    let mut count = 0;
    let odd = scale % 4;
    if odd > 0 {
        let unit = 10u16.pow(odd);
        groups[0] = low(size, unit) * 10u16.pow(4 - odd);
        size /= N::from(unit);
        count = 1;
    }
    while size > N::from(0) {
        groups[count] = low(size, 10_000);
        size /= N::from(10_000);
        count += 1;
    }
    count
}

/// `groups` stand with the least first.
#[inline]
fn finish_numeric(groups: &mut [u16], is_negative: bool, scale: u32, out: &mut Vec<u8>) {
    let after = scale.div_ceil(4) as usize;
    let weight = groups.len() as i16 - after as i16 - 1;
    let zeros = groups.iter().take_while(|group| **group == 0).count();
    let leading = groups.iter().rev().take_while(|group| **group == 0).count();
    let kept = match zeros == groups.len() {
        true => &groups[..0],
        false => &groups[zeros..groups.len() - leading],
    };
    let weight = if kept.is_empty() {
        0
    } else {
        weight - leading as i16
    };
    let sign: u16 = if is_negative { 0x4000 } else { 0 };
    length(out, 8 + kept.len() * 2);
    out.extend_from_slice(&(kept.len() as u16).to_be_bytes());
    out.extend_from_slice(&weight.to_be_bytes());
    out.extend_from_slice(&sign.to_be_bytes());
    out.extend_from_slice(&(scale as u16).to_be_bytes());
    for group in kept.iter().rev() {
        out.extend_from_slice(&group.to_be_bytes());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Reads a numeric's bytes back as text, group by group.
    fn read(bytes: &[u8]) -> String {
        let word = |at: usize| i16::from_be_bytes([bytes[at], bytes[at + 1]]);
        let (count, weight, sign, scale) = (word(4), word(6), word(8), word(10));
        let group = |place: i16| match (0..count).contains(&place) {
            true => format!("{:04}", word(12 + 2 * place as usize)),
            false => "0000".into(),
        };
        let whole: String = (0..=weight.max(0))
            .map(|p| if weight < 0 { "0000".into() } else { group(p) })
            .collect();
        let after: String = (1..=(scale + 3) / 4).map(|p| group(weight + p)).collect();
        let whole = match whole.trim_start_matches('0') {
            "" => "0",
            whole => whole,
        };
        let sign = if sign == 0x4000 { "-" } else { "" };
        match scale {
            0 => format!("{sign}{whole}"),
            scale => format!("{sign}{whole}.{}", &after[..scale as usize]),
        }
    }

    #[test]
    fn numerics_are_exact() {
        let most = 99_999_999_999_999_999_999_999_999_999_999_999_999i128;
        for (n, scale, wanted) in [
            (0, 2, "0.00"),
            (125, 2, "1.25"),
            (-1, 2, "-0.01"),
            (-1, 6, "-0.000001"),
            (3_909_344, 4, "390.9344"),
            (100_000_000, 0, "100000000"),
            (10_000, 4, "1.0000"),
            (123_456_789, 5, "1234.56789"),
            (1, 38, "0.00000000000000000000000000000000000001"),
            (most, 0, "99999999999999999999999999999999999999"),
            (-most, 38, "-0.99999999999999999999999999999999999999"),
        ] {
            let mut out = Vec::new();
            numeric(n, scale, &mut out);
            assert_eq!(read(&out), wanted);
            if let Ok(short) = i64::try_from(n)
                && scale < 19
            {
                let mut again = Vec::new();
                short_numeric(short, scale, &mut again);
                assert_eq!(out, again);
            }
        }
    }

    #[test]
    fn what_has_no_room_is_told() {
        let cell = Cell::Int(40_000);
        let put = |ty: &str, wire, cell| {
            let field = Field::new(Type::parse(ty).unwrap(), wire);
            field
                .put(cell, b"a\0b\xC3\xBC", &[], &mut Vec::new())
                .map_err(|fault| fault.code)
        };
        assert_eq!(put("integer", Wire::Int2, cell), Err(Code::OutOfRange));
        assert_eq!(put("integer", Wire::Int4, cell), Ok(()));
        assert_eq!(
            put("decimal(8,2)", Wire::Int4, Cell::Decimal(150)),
            Err(Code::TooPrecise)
        );
        assert_eq!(
            put("decimal(8,2)", Wire::Numeric(1), Cell::Decimal(150)),
            Ok(())
        );
        assert_eq!(
            put("decimal(8,2)", Wire::Numeric(1), Cell::Decimal(155)),
            Err(Code::TooPrecise)
        );
        assert_eq!(
            put("time", Wire::Time(6), Cell::Time(1)),
            Err(Code::TooPrecise)
        );
        let text = |start, len| Cell::Text(barrow_core::values::Piece::in_block(start, len));
        assert_eq!(
            put("text", Wire::Text(9), text(0, 2)),
            Err(Code::NulCharacter)
        );
        assert_eq!(put("text", Wire::Text(2), text(2, 3)), Ok(()));
        assert_eq!(put("text", Wire::Text(1), text(2, 3)), Err(Code::TooLong));
    }
}
