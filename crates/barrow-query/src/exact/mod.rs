//! Decimals, exactly: a comparison for those that stand as text, and sums.
//!
//! A decimal of at most 15 digits is a number of SQLite's, which gives it back as it was: such
//! numbers compare exactly. A longer one is text, and compares by the collation `decimal`.
//! `sum`, `total` and `avg` add up whole numbers and decimals of up to 38 digits exactly:
//! a sum of more than 15 digits is given as text, which SQL compares as text. What SQL computes between them (`price * 2`) is binary floating point, as everywhere in SQLite.

pub mod decimal;
mod sums;

pub use sums::Sum;

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use rusqlite::Connection;

/// Makes a connection compare and sum decimals exactly. `long` becomes true once a sum is given
/// as text.
///
/// # Errors
/// SQLite refuses a function.
pub fn register(connection: &Connection, long: &Arc<AtomicBool>) -> rusqlite::Result<()> {
    collate(connection)?;
    sums::register(connection, long)
}

/// Makes a connection compare decimals that stand as text.
///
/// # Errors
/// SQLite refuses the collation.
pub fn collate(connection: &Connection) -> rusqlite::Result<()> {
    connection.create_collation("decimal", decimal::compare)
}
