//! The words of `[export]`, and of keys that only say how a file is written.

use super::words;

words! {
    /// Which fields are quoted in a file that is written.
    QuoteWhen {
        /// Those that could not be read otherwise.
        Needed = "needed",
        /// Those, and all of columns of text.
        Text = "text",
        /// All but null.
        Always = "always",
    }
}

words! {
    /// What is done with a row that has a value which cannot be written.
    WhenUnfit {
        /// The export stops, and nothing of it is left.
        Stop = "stop",
        /// The row is left out, counted, and told.
        Reject = "reject",
    }
}

words! {
    /// What is done with characters that the encoding lacks.
    WhenUnencodable {
        /// The row is unfit.
        Unfit = "unfit",
        /// `replacement` takes their place.
        Replace = "replace",
    }
}

words! {
    /// How null stands in an object that is written.
    Nulls {
        /// As `null`.
        Write = "write",
        /// Without its key.
        LeaveOut = "leave_out",
    }
}

words! {
    /// At which end of its width a value stands.
    Align {
        /// At the left.
        Left = "left",
        /// At the right.
        Right = "right",
    }
}
