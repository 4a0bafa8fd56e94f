//! How a record is laid out: what sets its fields apart, and how it ends.

mod delimited;
mod ending;
mod fixed;

pub use delimited::{DelimitedPlan, Escape};
pub use ending::EndingPlan;
pub use fixed::FixedPlan;
