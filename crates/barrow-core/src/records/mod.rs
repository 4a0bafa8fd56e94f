//! From bytes to records, and from records to fields.

pub mod block;
pub mod checkpoint;
pub mod delimited;
pub mod ending;
pub mod file_format;
pub mod fixed;
pub mod framing;
pub mod header;
pub mod json;
pub mod layout;
pub mod lines;
pub mod mark;
pub mod opening;
pub mod prologue;
pub mod record_types;
pub mod rules;
pub mod span;
pub mod splitter;
