//! SQLite, built in.
//!
//! Everything happens in one transaction (or one for each `commit_every` records), by
//! prepared statements of many rows. A statement that the table refuses is
//! rolled back by SQLite as a whole ("INSERT OR ABORT"), and its rows are then
//! tried one by one, so that only the refused ones stay out.

mod connect;
mod describe;
mod dialect;
mod encode;
mod errors;
mod foresight;
mod insert;
mod load;
mod long_decimals;
mod merging;
mod moments;
mod prepared;
mod query_rows;
mod raw;
mod row_function;
mod session;
mod sql;
mod tokens;
mod types;

pub use self::connect::Sqlite;
pub use self::dialect::DIALECT;
pub use self::encode::{Exact, exact_number};
pub use self::foresight::foresight;
pub use self::moments::in_utc;
pub use self::types::spec_type;
