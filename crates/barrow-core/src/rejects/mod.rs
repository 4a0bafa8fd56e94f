//! Records that did not load: why, and where they are kept.

mod keep;
mod reason;

pub use keep::{Keeper, NOTE, REASONS, Written};
pub use reason::{Code, Reason, Reject};
