//! MariaDB and MySQL, by the server's own bulk statement.
//!
//! The workers write the rows as lines; the sink sends those of some batches as local data,
//! under a savepoint. Of local data the server turns errors into warnings, passes over
//! rows and changes values, all without an error ("LOAD DATA INFILE", error handling): so a
//! piece counts only if every row went in and there is no warning, and is taken back
//! otherwise. The rows that the table refuses are found by sending smaller pieces
//! ([`crate::isolate`]).

mod begin;
mod connect;
mod describe;
mod dialect;
mod encode;
mod errors;
mod privileges;
mod query_rows;
mod send;
mod session;
mod sql;
mod types;
mod warnings;

pub use self::connect::MariaDb;
pub use self::dialect::DIALECT;
