//! From fields to typed values.

mod boolean;
mod cell;
mod kind;
mod moment;
mod nulls;
mod number;
mod pattern;
mod reader;
mod text;

pub use cell::{Cell, Day, Piece};
pub use reader::{BadOption, ColumnReader, Fault, Fields, ReaderOptions};
