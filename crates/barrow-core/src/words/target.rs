//! The words of `[target]` and `[rejects]`.

use super::words;

words! {
    /// What becomes of the rows that the table already has.
    Mode {
        /// They stay.
        Append = "append",
        /// They go, in the same transaction.
        Truncate = "truncate",
        /// The table itself is made anew.
        Replace = "replace",
        /// They stay, and those whose key comes again are updated.
        Merge = "merge",
    }
}

/// How often a load commits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Every {
    /// Once, at the end: all or nothing.
    All,
    /// After so many records.
    Records(u64),
}

words! {
    /// What a tolerance is for.
    Per {
        /// All files of a load together.
        Run = "run",
        /// Each file by itself: one beyond it is left out, and the others load.
        File = "file",
    }
}
