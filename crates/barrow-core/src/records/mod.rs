//! From bytes to blocks of whole records, and from records to fields.

pub mod block;
pub mod ending;
pub mod fields;
pub mod file;
pub mod fixed;
pub mod header;
mod join;
pub mod judge;
pub mod kinds;
pub mod scan;
pub mod splitter;
pub mod start;
pub mod widths;
