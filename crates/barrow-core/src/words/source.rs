//! The words of `[source]`.

use super::words;

words! {
    /// What is done with a field whose bytes do not decode.
    WhenUndecodable {
        /// Its record is rejected.
        Reject = "reject",
        /// It is null.
        Null = "null",
        /// `replacement` takes their place.
        Replace = "replace",
        /// The load stops.
        Stop = "stop",
    }
}

words! {
    /// What is done with a file that has no byte, or no record.
    WhenEmpty {
        /// The load stops.
        Stop = "stop",
        /// It is skipped, with a remark.
        Skip = "skip",
    }
}

words! {
    /// What is done with a file whose name was loaded before, with other content, where the
    /// rows of then stay in the table.
    WhenChanged {
        /// The load stops.
        Stop = "stop",
        /// It is loaded too.
        Load = "load",
        /// It is loaded, and the rows of its earlier content are deleted in the same transaction.
        Replace = "replace",
    }
}

/// What becomes of a file once its rows are committed.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Afterwards {
    /// What is done with it.
    pub what: Disposal,
    /// Also with a file that has rejects.
    pub even_with_rejects: bool,
}

/// What is done with a file that is loaded.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Disposal {
    /// It stays where it is.
    #[default]
    Keep,
    /// It is deleted.
    Delete,
    /// It is moved to a folder.
    MoveTo(String),
}
