//! The words of `[target]` and `[rejects]`.

use super::words;

words! {
    /// How a table is emptied when its rows are replaced.
    EmptyWith {
        /// Row by row, within the transaction: others see the old rows until the commit.
        Delete = "delete",
        /// By the server's own statement, fast whatever the table's size: others wait.
        Truncate = "truncate",
    }
}

words! {
    /// What is done where deleting rows takes rows of other tables along.
    WhenCascading {
        /// The load stops.
        Stop = "stop",
        /// They go, and are counted.
        Allow = "allow",
    }
}

words! {
    /// What is done with a decimal that SQLite's numbers cannot hold.
    WhenInexact {
        /// It is rejected.
        Reject = "reject",
        /// The whole column is text, which SQL compares as text.
        Text = "text",
    }
}

words! {
    /// What becomes of the rows that the table already has.
    Mode {
        /// They stay.
        Append = "append",
        /// They are deleted, in the same transaction.
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
