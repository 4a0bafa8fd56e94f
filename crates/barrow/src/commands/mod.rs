//! One file for each command: arguments become a request, and what comes of it is printed.

pub mod check;
mod check_connect;
mod check_each;
mod check_one;
pub mod convert;
pub mod ddl;
pub mod demo;
pub mod draft;
mod draft_each;
pub mod export;
pub mod help;
pub mod help_files;
pub mod ledger;
pub mod load;
mod load_common;
mod load_together;
pub mod mend;
pub mod peek;
pub mod query;
mod spec;
pub mod status;
pub mod undo;
