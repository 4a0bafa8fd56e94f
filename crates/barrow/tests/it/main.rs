//! Drives the built program on files in a temporary folder.

mod check;
mod databases;
mod demo;
mod draft;
mod export;
mod formats;
mod frequent;
mod ledger;
mod load;
mod market;
mod meaning;
mod refusals;
mod servers;
mod targets;
mod values;
