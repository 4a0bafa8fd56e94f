//! Rows out of PostgreSQL: by a binary COPY, whose rows the workers read.

use std::io::BufRead;

use barrow_core::export::{RawValue, RowTyper};
use barrow_core::types::Type;
use barrow_core::values::{Cell, Day};
use postgres::Client;
use postgres::types::Type as Oid;

use super::DIALECT;
use super::copy::HEADER;
use super::errors::explained;
use crate::error::Error;
use crate::query_rows::{RawRows, places, take, writes};
use crate::session::{Decoder, OpenQuery, Rows};

/// A query that is open.
struct Copied<'s> {
    client: &'s mut Client,
    copy: String,
}

/// 2000-01-01, from which the server counts days, in days after 1970-01-01.
const EPOCH: i32 = 10_957;

/// Microseconds of a day.
const DAY: i64 = 86_400_000_000;

/// Whether we read the binary form of a type; others are asked for as text.
fn is_known(ty: &Oid) -> bool {
    let known = [
        Oid::BOOL,
        Oid::INT2,
        Oid::INT4,
        Oid::INT8,
        Oid::FLOAT4,
        Oid::FLOAT8,
        Oid::NUMERIC,
        Oid::TEXT,
        Oid::VARCHAR,
        Oid::BPCHAR,
        Oid::NAME,
        Oid::JSON,
        Oid::BYTEA,
        Oid::UUID,
        Oid::DATE,
        Oid::TIME,
        Oid::TIMESTAMP,
        Oid::TIMESTAMPTZ,
    ];
    known.contains(ty)
}

/// Opens a query, in a transaction that only reads.
pub fn open<'s>(
    client: &'s mut Client,
    sql: &str,
    columns: &[(String, Type)],
) -> Result<OpenQuery<'s>, Error> {
    let failed = |e| explained(&e, "asking the query");
    client
        .batch_execute("BEGIN TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
        .map_err(failed)?;
    let statement = client.prepare(sql).map_err(failed)?;
    let found = statement.columns();
    if found.is_empty() {
        return Err(writes());
    }
    let names: Vec<String> = found.iter().map(|c| c.name().to_string()).collect();
    let places = places(columns.iter().map(|(name, _)| name.as_str()), &names)?;
    // The statement's columns by other names: some may have none of their own.
    let own: Vec<String> = (0..found.len()).map(|at| format!("c{at}")).collect();
    let wanted: Vec<String> = places
        .iter()
        .map(|at| match is_known(found[*at].type_()) {
            true => own[*at].clone(),
            false => format!("{}::text", own[*at]),
        })
        .collect();
    let is_plain = places.iter().copied().eq(0..found.len())
        && found.iter().all(|column| is_known(column.type_()));
    let trimmed = sql.trim().trim_end_matches(';');
    let copy = match is_plain {
        true => format!("COPY ({trimmed}\n) TO STDOUT (FORMAT binary)"),
        false => format!(
            "COPY (SELECT {} FROM ({trimmed}\n) AS {}({})) TO STDOUT (FORMAT binary)",
            wanted.join(", "),
            DIALECT.quoted("barrow"),
            own.join(", ")
        ),
    };
    let oids = places.iter().map(|at| match is_known(found[*at].type_()) {
        true => found[*at].type_().clone(),
        false => Oid::TEXT,
    });
    let types: Vec<Type> = columns.iter().map(|(_, ty)| *ty).collect();
    Ok(OpenQuery {
        decoder: decoder(&types, oids.collect()),
        rows: Box::new(Copied { client, copy }),
    })
}

/// The columns of a query with the nearest types.
pub fn columns(client: &mut Client, sql: &str) -> Result<Vec<(String, Type)>, Error> {
    let statement = client
        .prepare(sql)
        .map_err(|e| explained(&e, "asking the query"))?;
    let column = statement.columns().iter().map(|column| {
        let ty = match *column.type_() {
            Oid::BOOL => Type::Boolean,
            Oid::INT2 => Type::SmallInt,
            Oid::INT4 => Type::Integer,
            Oid::INT8 => Type::BigInt,
            Oid::FLOAT4 => Type::Real,
            Oid::FLOAT8 => Type::Double,
            Oid::DATE => Type::Date,
            Oid::TIME => Type::Time,
            Oid::TIMESTAMP => Type::Timestamp,
            Oid::TIMESTAMPTZ => Type::TimestampTz,
            Oid::JSON | Oid::JSONB => Type::Json,
            Oid::UUID => Type::Uuid,
            Oid::BYTEA => Type::Bytes,
            _ => Type::Text,
        };
        (column.name().to_string(), ty)
    });
    Ok(column.collect())
}

impl Rows for Copied<'_> {
    fn fetch(self: Box<Self>, give: &mut dyn FnMut(&mut RawRows) -> bool) -> Result<(), Error> {
        self::give(self.client, &self.copy, give)
    }
}

/// Reads the copy, and parts its rows: so many fields in 16 bits, and for each its length
/// in 32 bits and its bytes ("Binary Format").
fn give(
    client: &mut Client,
    copy: &str,
    give: &mut dyn FnMut(&mut RawRows) -> bool,
) -> Result<(), Error> {
    let mut reader = client
        .copy_out(copy)
        .map_err(|e| explained(&e, "reading the rows"))?;
    let mut raw = RawRows::default();
    // What was read and not parted yet, which begins after the rows that are whole.
    let mut head = HEADER.len();
    loop {
        let chunk = reader.fill_buf().map_err(read_failed)?;
        if chunk.is_empty() {
            break;
        }
        let passed = head.min(chunk.len());
        head -= passed;
        raw.bytes.extend_from_slice(&chunk[passed..]);
        let count = chunk.len();
        reader.consume(count);
        if !part(&mut raw, give) {
            return Ok(());
        }
    }
    if !raw.ends.is_empty() {
        give(&mut raw);
    }
    drop(reader);
    let ended = client.batch_execute("ROLLBACK");
    ended.map_err(|e| explained(&e, "ending the query"))
}

/// Marks the rows that are whole; gives them once they fill a batch. False where nobody
/// wants more.
fn part(raw: &mut RawRows, give: &mut dyn FnMut(&mut RawRows) -> bool) -> bool {
    let mut at = raw.ends.last().map_or(0, |end| *end as usize);
    while let Some(end) = row_end(&raw.bytes, at) {
        raw.ends.push(end as u32);
        at = end;
    }
    if at < crate::query_rows::FULL {
        return true;
    }
    let rest = raw.bytes.split_off(at);
    let wanted = give(raw);
    raw.clear();
    raw.bytes.extend_from_slice(&rest);
    wanted
}

/// Where the row that starts at `at` ends, if it is there whole. The copy's end, -1
/// fields, is no row.
fn row_end(bytes: &[u8], mut at: usize) -> Option<usize> {
    let fields = i16::from_be_bytes(*bytes.get(at..)?.first_chunk()?);
    at += 2;
    if fields < 0 {
        return None;
    }
    for _ in 0..fields {
        let length = i32::from_be_bytes(*bytes.get(at..)?.first_chunk()?);
        at += 4 + usize::try_from(length).unwrap_or(0);
    }
    (at <= bytes.len()).then_some(at)
}

fn read_failed(error: std::io::Error) -> Error {
    match error
        .get_ref()
        .and_then(|e| e.downcast_ref::<postgres::Error>())
    {
        Some(error) => explained(error, "reading the rows"),
        None => Error::new(format!("reading the rows: {error}"))
            .advice("the server went away; run this again when it is back"),
    }
}

fn decoder(types: &[Type], oids: Vec<Oid>) -> Decoder {
    let typing = RowTyper::new(types);
    Box::new(move |raw, cells| {
        typing.begin(cells);
        let mut bytes = raw.bytes.as_slice();
        for _ in 0..raw.ends.len() {
            take(&mut bytes, 2);
            for (column, oid) in oids.iter().enumerate() {
                let length = take(&mut bytes, 4)
                    .try_into()
                    .map_or(-1, i32::from_be_bytes);
                let value = match usize::try_from(length) {
                    Ok(length) => loose(take(&mut bytes, length), oid),
                    Err(_) => RawValue::Null,
                };
                typing.put(cells, column, value);
            }
        }
    })
}

fn loose<'b>(bytes: &'b [u8], oid: &Oid) -> RawValue<'b> {
    let typed = |cell: Option<Cell>, ty: Type| match cell {
        Some(cell) => RawValue::Typed(cell, ty),
        None => RawValue::Lost("beyond the years 0001 to 9999, or infinite"),
    };
    let eight = || bytes.try_into().map_or(0, i64::from_be_bytes);
    match *oid {
        Oid::BOOL => RawValue::Typed(Cell::Bool(bytes == [1]), Type::Boolean),
        Oid::INT2 => RawValue::Int(bytes.try_into().map_or(0, i16::from_be_bytes).into()),
        Oid::INT4 => RawValue::Int(bytes.try_into().map_or(0, i32::from_be_bytes).into()),
        Oid::INT8 => RawValue::Int(eight()),
        Oid::FLOAT4 => RawValue::Float(bytes.try_into().map_or(0.0, f32::from_be_bytes).into()),
        Oid::FLOAT8 => RawValue::Float(f64::from_bits(eight() as u64)),
        Oid::NUMERIC => numeric(bytes),
        Oid::DATE => {
            let days = bytes.try_into().map_or(i32::MAX, i32::from_be_bytes);
            let day = days.checked_add(EPOCH).and_then(Day::of_number);
            typed(day.map(Cell::Date), Type::Date)
        }
        // The server has a moment more than a clock has.
        Oid::TIME if eight() >= DAY => RawValue::Lost("24:00:00, which no clock shows"),
        Oid::TIME => RawValue::Typed(Cell::Time(eight().max(0) as u64 * 1000), Type::Time),
        Oid::TIMESTAMP => typed(timestamp(eight()), Type::Timestamp),
        Oid::TIMESTAMPTZ => typed(timestamp(eight()), Type::TimestampTz),
        Oid::BYTEA => RawValue::Bytes(bytes),
        Oid::UUID => bytes
            .try_into()
            .map_or(RawValue::Bytes(bytes), RawValue::Uuid),
        _ => match std::str::from_utf8(bytes) {
            Ok(text) => RawValue::Text(text),
            Err(_) => RawValue::Bytes(bytes),
        },
    }
}

fn timestamp(micros: i64) -> Option<Cell> {
    let days = i32::try_from(micros.div_euclid(DAY)).ok()?;
    let day = days.checked_add(EPOCH).and_then(Day::of_number)?;
    Some(Cell::Timestamp(day, micros.rem_euclid(DAY) as u64 * 1000))
}

/// A numeric: how many groups of four digits, the power of 10,000 of the first, the sign,
/// the scale that is shown, and the groups, 16 bits each (numeric_send, numeric.c).
fn numeric(bytes: &[u8]) -> RawValue<'static> {
    let beyond = RawValue::Lost("a number beyond 38 digits");
    let Some((head, groups)) = bytes.split_first_chunk::<8>() else {
        return beyond;
    };
    let part = |at: usize| i16::from_be_bytes([head[at], head[at + 1]]);
    let (count, weight, sign, scale) = (part(0), part(2), part(4), part(6));
    if sign as u16 == 0xC000 {
        return RawValue::Lost("not a number (NaN)");
    }
    if !matches!(sign as u16, 0 | 0x4000) {
        return RawValue::Lost("an infinite number");
    }
    let scale = u32::from(scale as u16);
    // The last group stands for so many powers of ten. It may end in zeros beyond the scale,
    // and there may be more such groups.
    let mut power = 4 * (i32::from(weight) + 1 - i32::from(count)) + scale as i32;
    let mut groups: Vec<i128> = groups
        .chunks_exact(2)
        .take(count as usize)
        .map(|group| i16::from_be_bytes([group[0], group[1]]).into())
        .collect();
    while power <= -4 && groups.pop().is_some() {
        power += 4;
    }
    let last = groups.len().saturating_sub(1);
    let mut n: i128 = 0;
    for (at, group) in groups.iter().enumerate() {
        let beyond_scale = match at == last && power < 0 {
            true => 10i128.pow(power.unsigned_abs()),
            false => 1,
        };
        let more = n
            .checked_mul(10_000 / beyond_scale)
            .and_then(|n| n.checked_add(group / beyond_scale));
        let Some(more) = more else { return beyond };
        n = more;
    }
    let scaled = match 10i128.checked_pow(power.max(0).unsigned_abs()) {
        Some(by) => n.checked_mul(by),
        None => (n == 0).then_some(0),
    };
    match scaled {
        Some(n) => {
            let n = if sign as u16 == 0x4000 { -n } else { n };
            match i64::try_from(n) {
                Ok(n) => RawValue::Decimal(n, scale),
                Err(_) => RawValue::LongDecimal(n.to_le_bytes(), scale),
            }
        }
        None => beyond,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(parts: &[i16]) -> String {
        let bytes: Vec<u8> = parts.iter().flat_map(|p| p.to_be_bytes()).collect();
        match numeric(&bytes) {
            RawValue::Decimal(n, scale) => barrow_core::values::decimal(n.into(), scale as usize),
            RawValue::LongDecimal(n, scale) => {
                barrow_core::values::decimal(i128::from_le_bytes(n), scale as usize)
            }
            RawValue::Lost(why) => why.into(),
            other => format!("{other:?}"),
        }
    }

    #[test]
    fn numerics_one_by_one() {
        assert_eq!(read(&[2, 0, 0, 2, 123, 4500]), "123.45");
        assert_eq!(read(&[2, 0, 0x4000, 2, 123, 4500]), "-123.45");
        assert_eq!(read(&[0, 0, 0, 2]), "0.00");
        assert_eq!(read(&[1, 2, 0, 0, 5]), "500000000");
        // numeric(38,10): 28 digits before the mark and ten after it are ten groups.
        let nines = [
            10, 6, 0, 10, 9999, 9999, 9999, 9999, 9999, 9999, 9999, 9999, 9999, 9900,
        ];
        let edge = format!("{}.{}", "9".repeat(28), "9".repeat(10));
        assert_eq!(read(&nines), edge);
        assert_eq!(read(&[1, -2, 0, 8, 7]), "0.00000007");
        assert_eq!(read(&[0, 0, 0xC000u16 as i16, 0]), "not a number (NaN)");
    }

    #[test]
    fn rows_are_parted_where_they_end() {
        let row: &[u8] = b"\0\x02\0\0\0\x01a\xFF\xFF\xFF\xFF";
        let two = [row, row].concat();
        assert_eq!(row_end(&two, 0), Some(11));
        assert_eq!(row_end(&two, 11), Some(22));
        assert_eq!(row_end(&two[..21], 11), None);
        assert_eq!(row_end(b"\xFF\xFF", 0), None);
    }
}
