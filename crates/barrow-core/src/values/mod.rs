//! From fields to typed values.

mod boolean;
mod cell;
mod change;
mod document;
mod form;
mod kind;
mod limits;
mod mend;
mod moment;
pub mod notation;
mod nulls;
mod number;
mod options;
mod pattern;
mod reader;
mod rows;
mod show;
mod standard;
mod steps;
mod text;
mod trim;

pub use cell::{Cell, Day, Piece};
pub use change::{Change, What};
pub use form::NumberForm;
pub use limits::Valued;
pub use number::scaled;
pub use options::{BadOption, Given, LimitOptions, Policies, ReaderOptions, StepOptions};
pub use reader::ColumnReader;
pub use rows::{Fault, Fields, Results};
pub use show::{decimal, shown};
pub use standard::Standard;
