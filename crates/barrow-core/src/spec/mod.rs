//! The spec: as written, then checked, then the plan that the reader follows.

pub mod check;
pub mod keys;
mod other_words;
pub mod raw;
pub mod read;
mod read_tables;
mod read_target;
pub mod stores;
mod texts;
pub mod toml_table;

pub use check::{SettingsPlan, leaves_types, plan as read_plan, plan_of as read_plan_of, settings};
pub use keys::SETTINGS;
pub use raw::{Known, KnownColumn};
pub use read::bytes_of;
pub use texts::{SpecTexts, TakenKey};
