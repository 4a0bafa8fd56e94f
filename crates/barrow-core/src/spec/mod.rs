//! The spec: as written, then checked, then the plan that the reader follows.

pub mod check;
pub mod keys;
mod other_words;
pub mod raw;
pub mod read;
mod read_tables;
pub mod stores;
pub mod toml_table;

pub use check::{leaves_types, plan as read_plan, plan_with as read_plan_with};
pub use raw::{Known, KnownColumn};
pub use read::bytes_of;
