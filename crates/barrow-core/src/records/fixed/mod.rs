//! Records whose fields have a set width.

pub mod characters;
pub mod cut;
pub mod widths;
