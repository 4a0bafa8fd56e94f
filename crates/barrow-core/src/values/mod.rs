//! From fields to typed values.

mod boolean;
pub(crate) mod cell;
mod document;
mod form;
pub(crate) mod kind;
pub(crate) mod limits;
mod mend;
mod moment;
pub mod notation;
mod nulls;
mod number;
mod options;
mod pattern;
pub(crate) mod reader;
mod show;
mod standard;
pub(crate) mod steps;
mod text;
pub(crate) mod trim;

pub use cell::{Cell, Day, Piece};
pub use form::NumberForm;
pub use limits::Valued;
pub use number::scaled;
pub use options::{BadOption, LimitOptions, Policies, ReaderOptions, StepOptions};
pub use reader::ColumnReader;
pub use show::{decimal, shown};
pub use standard::Standard;
