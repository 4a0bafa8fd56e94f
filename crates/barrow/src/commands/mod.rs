//! One file for each command.

pub mod check;
pub mod ddl;
pub mod demo;
pub mod draft;
pub mod drift;
pub mod job;
pub mod load;
pub mod peek;
pub mod sides;
