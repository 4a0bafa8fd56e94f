//! From fields to typed values.

mod accepted_forms;
mod boolean;
pub mod canonical;
pub(crate) mod cell;
mod display;
mod document;
mod form;
pub(crate) mod limits;
pub(crate) mod moment;
mod nulls;
mod number;
mod options;
mod pattern;
mod policy;
pub(crate) mod reader;
pub(crate) mod steps;
mod text;
pub(crate) mod trim;
pub(crate) mod value_parser;

pub use accepted_forms::Standard;
pub use cell::{Cell, Day, Piece};
pub use display::{decimal, shown};
pub use form::NumberForm;
pub use limits::Valued;
pub use number::scaled;
pub use options::{BadOption, LimitOptions, Policies, ReaderOptions, StepOptions};
pub use reader::ColumnReader;
