//! The spec: as written, then checked, then the plan that the reader follows.

pub mod check;
pub mod nearest;
mod other_words;
pub mod plan;
pub mod policy;
pub mod problem;
pub mod read;
pub mod section;
pub mod tolerance;
pub mod types;
pub mod written;

pub use check::{leaves_types, plan as read_plan, plan_with as read_plan_with};
pub use plan::Plan;
pub use problem::Problem;
pub use read::bytes_of;
pub use types::Type;
pub use written::{Known, KnownColumn};
