//! Files as virtual tables of SQLite's: read by the same flow as a load, and no more of them
//! than a query needs.

mod constraint;
mod cursor;
mod flow;
mod given;
mod kept;
mod prune;
mod scan_plan;
mod table;
pub mod value;

pub use flow::Batches;
pub use given::Given;
pub use table::{FilesTable, quoted};
