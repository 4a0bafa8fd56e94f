//! The heart of Barrow: from the bytes of a flat file to typed rows and rejects.
//!
//! No terminal, no command line, no database. Data flows one way:
//!
//! ```text
//! files → bytes → blocks → records → fields → values → batches → sink
//! ```

pub mod column_stats;
pub mod columns;
pub mod conditions;
pub mod counts;
pub mod draft;
pub mod duplicates;
pub mod error;
pub mod escape;
pub mod export;
pub mod format;
pub mod inspect;
pub mod nearest;
pub mod pipeline;
pub mod plan;
pub mod pool;
pub mod problem;
pub mod reason;
pub mod records;
pub mod rejects;
pub mod repair;
pub mod source;
pub mod spec;
pub mod types;
pub mod utf8;
pub mod values;
pub mod words;

pub use error::Error;
