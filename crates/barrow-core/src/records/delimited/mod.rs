//! Records whose fields are set apart by a delimiter.

pub mod fields;
pub(super) mod join;
pub mod judge;
pub mod scan;
