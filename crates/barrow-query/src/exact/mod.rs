//! Decimals, exactly.
//!
//! A decimal of at most 15 digits, or a whole one of 64 bits, is a number of SQLite's, which
//! gives it back as it was: such numbers compare exactly. Any other is an error, or makes its
//! column text. `sum`, `total` and `avg` add up whole numbers and decimals of up to 38 digits
//! exactly. A sum that no number of SQLite's gives back is text where it is only shown, and an
//! error where SQL would compare it. What SQL computes between them (`price * 2`) is binary
//! floating point, as everywhere in SQLite.

pub mod decimal;
mod sums;

pub use sums::{LongSums, Sum};

use rusqlite::Connection;

/// Makes a connection sum decimals exactly.
///
/// # Errors
/// SQLite refuses a function.
pub fn register(connection: &Connection, long: &LongSums) -> rusqlite::Result<()> {
    sums::register(connection, long)
}
