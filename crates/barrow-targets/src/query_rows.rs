//! Rows on their way out of a database: first as the database gives them, many at a time,
//! then typed by the workers.

use crate::error::Error;

/// Bytes that fill a batch.
pub const FULL: usize = 256 << 10;

/// Rows as a database gives them, which only its decoder knows to read.
#[derive(Debug, Default)]
pub struct RawRows {
    /// Their bytes.
    pub bytes: Vec<u8>,
    /// Their text, one value after the other, where it is kept apart: so it is looked
    /// through once for what is not UTF-8, and not value by value.
    pub text: Vec<u8>,
    /// Where each ends.
    pub ends: Vec<u32>,
}

impl RawRows {
    /// Makes room for others.
    pub fn clear(&mut self) {
        self.bytes.clear();
        self.text.clear();
        self.ends.clear();
    }

    /// Ends a row. True where the batch is full.
    #[inline]
    pub fn end_row(&mut self) -> bool {
        self.ends.push(self.bytes.len() as u32);
        self.bytes.len() + self.text.len() >= FULL
    }
}

/// Takes a little-endian number of 32 bits off the front.
pub fn length(bytes: &mut &[u8]) -> u32 {
    let (four, rest) = bytes.split_first_chunk().unwrap_or((&[0; 4], &[]));
    *bytes = rest;
    u32::from_le_bytes(*four)
}

/// Takes so many bytes off the front.
pub fn take<'b>(bytes: &mut &'b [u8], count: usize) -> &'b [u8] {
    let (taken, rest) = bytes.split_at(count.min(bytes.len()));
    *bytes = rest;
    taken
}

/// For each wanted column, its place among those that a query has.
///
/// # Errors
/// The query lacks one.
pub fn places<'n>(
    wanted: impl Iterator<Item = &'n str>,
    found: &[String],
) -> Result<Vec<usize>, Error> {
    let mut lacking = Vec::new();
    let place = |name: &str| {
        let exact = found.iter().position(|f| f == name);
        exact.or_else(|| found.iter().position(|f| f.eq_ignore_ascii_case(name)))
    };
    let places: Vec<usize> = wanted
        .filter_map(|name| {
            let at = place(name);
            if at.is_none() {
                lacking.push(barrow_core::escape::escape_for_display(name.as_bytes()));
            }
            at
        })
        .collect();
    if lacking.is_empty() {
        return Ok(places);
    }
    let found: Vec<String> = found
        .iter()
        .map(|f| barrow_core::escape::escape_for_display(f.as_bytes()))
        .collect();
    Err(Error::spec(format!(
        "the query has no column {}; it has {}",
        lacking.join(", "),
        found.join(", ")
    ))
    .advice("name them in the query, or take them out of the spec"))
}

/// A query that writes, or does anything but read.
pub fn writes() -> Error {
    Error::spec("an export only reads, and this is no query that reads")
        .advice("say a SELECT, without INTO")
}
