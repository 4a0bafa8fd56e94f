//! The words of `[records]`, `[delimited]`, `[fixed]` and `[[control_total]]`.

use super::words;

words! {
    /// How records are laid out.
    Layout {
        /// Fields are set apart by a delimiter.
        Delimited = "delimited",
        /// Fields have a set width.
        Fixed = "fixed",
        /// Records are JSON objects, which name their fields.
        Json = "json",
    }
}

words! {
    /// The part of a file that states a total.
    FilePart {
        /// The lines before the header.
        Preamble = "preamble",
        /// The header.
        Header = "header",
        /// The lines after the data.
        Trailer = "trailer",
    }
}

/// Lines before the header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PreambleKey {
    /// As many as come before the line with the columns' names.
    Auto,
    /// This many.
    Lines(u64),
}

words! {
    /// What the header line is for.
    Header {
        /// Columns are found by its names.
        Names = "names",
        /// It is read past.
        Skip = "skip",
        /// There is none.
        None = "none",
    }
}

words! {
    /// What is done with a record that has too few fields.
    WhenShort {
        /// It is rejected.
        Reject = "reject",
        /// The missing fields are null.
        Null = "null",
        /// The next lines are joined to it until it has all its fields.
        Join = "join",
    }
}

words! {
    /// What is done with a record whose quotes may be stray, though it is well-formed.
    WhenDoubtful {
        /// It is rejected.
        Reject = "reject",
        /// It is read as its quotes say.
        Believe = "believe",
    }
}

words! {
    /// What is done with a record that has too many fields.
    WhenLong {
        /// It is rejected.
        Reject = "reject",
        /// The surplus is dropped.
        Drop = "drop",
    }
}

words! {
    /// What is done with a blank line.
    WhenBlank {
        /// It is left out.
        Skip = "skip",
        /// It is rejected.
        Reject = "reject",
    }
}

words! {
    /// What is done with a column of a file that the spec does not name.
    WhenNewColumn {
        /// The load stops.
        Stop = "stop",
        /// It is not read, with a remark.
        Ignore = "ignore",
    }
}

words! {
    /// What the widths of a fixed layout count.
    Measure {
        /// Characters.
        Characters = "characters",
        /// Bytes of the file.
        Bytes = "bytes",
    }
}

words! {
    /// What spaces between a delimiter and the field after it are.
    Spaces {
        /// Part of the field.
        Keep = "keep",
        /// Nothing: a quote after them opens the field.
        Skip = "skip",
    }
}
