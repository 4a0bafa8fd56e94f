//! Records that did not load: why, and where they are kept.

mod keep;

pub use keep::{RejectWriter, MANIFEST, Written};
