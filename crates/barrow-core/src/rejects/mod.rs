//! Records that did not load: why, and where they are kept.

mod writer;

pub use writer::{MANIFEST, RejectWriter, Written};
