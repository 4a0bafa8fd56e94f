//! Where the bytes come from.

pub mod files;
pub mod open;

pub use files::{SourceFile, find};
