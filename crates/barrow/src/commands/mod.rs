//! One file for each command.

pub mod demo;
pub mod job;
pub mod load;
pub mod peek;
