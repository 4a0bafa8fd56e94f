//! What is known of a file that may be loaded.

use std::time::SystemTime;

/// A file, and what is known of it.
#[derive(Debug)]
pub struct FileStatus {
    /// Its name for people.
    pub file: String,
    /// Its size in bytes, where that is known without reading it.
    pub size: Option<u64>,
    /// When it was written.
    pub modified: Option<SystemTime>,
    /// What is known of it.
    pub state: State,
    /// The run that this is known from.
    pub run: Option<String>,
    /// When that began, UTC: `2031-04-03 08:05`.
    pub when: Option<String>,
    /// How many rows of it are in the table.
    pub loaded: u64,
    /// How many rejects of its run are open.
    pub open_rejects: u64,
    /// How many rejects of its run were given up.
    pub given_up: u64,
}

/// What is known of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum State {
    /// Nothing: a load loads it.
    New,
    /// Its content is in the table: a load skips it.
    Loaded,
    /// Other content of it is in the table.
    Changed,
    /// Another load has it now.
    InProgress,
    /// A run that committed as it went was interrupted in it.
    Interrupted,
    /// It has the content of another file of these.
    SameAs(String),
}

impl State {
    /// As people and programs read it.
    pub fn word(&self) -> &'static str {
        match self {
            State::New => "new",
            State::Loaded => "loaded",
            State::Changed => "changed",
            State::InProgress => "in progress",
            State::Interrupted => "interrupted",
            State::SameAs(_) => "same content",
        }
    }
}
