//! Drives the built program on files in a temporary folder.

mod agree;
mod archives;
mod bends;
mod check;
mod databases;
mod demo;
mod draft;
mod export;
mod formats;
mod frequent;
mod json;
mod kills;
mod ledger;
mod load;
mod market;
mod meaning;
mod people;
mod refusals;
mod seams;
mod secrets;
mod servers;
mod status;
mod stores;
mod targets;
mod values;
mod web;
