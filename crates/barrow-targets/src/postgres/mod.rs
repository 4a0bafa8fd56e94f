//! PostgreSQL, by its binary COPY.
//!
//! The workers make the rows' bytes; the sink sends those of some batches in one COPY, as
//! they come, under a savepoint. Rows that the table refuses are taken back with their
//! piece and found by sending smaller ones ([`crate::isolate`]); where many are
//! refused, the server is asked which ones are suspect.

mod begin;
mod conflict_probe;
mod connect;
mod copy;
mod describe;
mod dialect;
mod encode;
mod errors;
mod keys;
mod passfile;
mod predict;
mod privileges;
mod query_rows;
mod send;
mod session;
mod sql;
mod types;

pub use self::connect::Postgres;
pub use self::dialect::DIALECT;
