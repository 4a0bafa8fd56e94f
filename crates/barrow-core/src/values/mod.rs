//! From fields to typed values.

mod boolean;
mod cell;
mod form;
mod kind;
mod moment;
mod nulls;
mod number;
mod pattern;
mod reader;
mod show;
mod text;

pub use cell::{Cell, Day, Piece};
pub use form::NumberForm;
pub use reader::{BadOption, Change, ColumnReader, Fault, Fields, ReaderOptions, Results};
pub use show::shown;
