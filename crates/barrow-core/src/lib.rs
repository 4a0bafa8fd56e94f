//! The heart of Barrow: from the bytes of a flat file to typed rows and rejects.
//!
//! No terminal, no command line, no database. Data flows one way:
//!
//! ```text
//! files → bytes → blocks → records → fields → values → batches → sink
//! ```

pub mod columns;
pub mod conditions;
pub mod draft;
pub mod error;
pub mod export;
pub mod flow;
pub mod format;
pub mod keys;
pub mod look;
pub mod nearest;
pub mod plan;
pub mod pool;
pub mod problem;
pub mod reason;
pub mod records;
pub mod rejects;
pub mod repair;
pub mod seen;
pub mod source;
pub mod spec;
pub mod tally;
pub mod types;
pub mod values;
pub mod visible;
pub mod words;

pub use error::Error;
