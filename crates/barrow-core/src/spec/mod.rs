//! The spec: as written, then checked, then the plan that the reader follows.

pub mod check;
mod other_words;
pub mod read;
pub mod section;
pub mod written;

pub use check::{leaves_types, plan as read_plan, plan_with as read_plan_with};
pub use read::bytes_of;
pub use written::{Known, KnownColumn};
