//! Drives the built program on files in a temporary folder.

mod demo;
mod load;
mod market;
mod refusals;
