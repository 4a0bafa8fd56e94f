//! One file for each command.

mod beside;
pub mod check;
pub mod convert;
pub mod ddl;
pub mod demo;
pub mod draft;
pub mod drift;
pub mod export;
pub mod job;
pub mod ledger;
pub mod load;
pub mod mend;
pub mod peek;
pub mod sides;
mod spec_file;
