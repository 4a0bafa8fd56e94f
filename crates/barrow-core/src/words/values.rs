//! The words of `[values]` and of columns: how values are written, and what is done with
//! those that will not do.

use super::words;

words! {
    /// Where a number's sign stands.
    Sign {
        /// Before the digits.
        Leading = "leading",
        /// After the digits.
        Trailing = "trailing",
        /// In the last digit.
        Overpunched = "overpunched",
        /// Parentheses around a negative number.
        Parentheses = "parentheses",
        /// Before, after, or parentheses.
        Any = "any",
    }
}

words! {
    /// What an empty field in quotes is.
    QuotedEmpty {
        /// Text, and empty.
        Text = "text",
        /// Null.
        Null = "null",
    }
}

words! {
    /// What is done with a value that is not written as its type is.
    WhenUnreadable {
        /// Its record is rejected.
        Reject = "reject",
        /// It is null.
        Null = "null",
        /// The column's default takes its place.
        Default = "default",
    }
}

words! {
    /// What is done with text beyond its length.
    WhenTooLong {
        /// Its record is rejected.
        Reject = "reject",
        /// It is cut.
        Cut = "cut",
        /// It is null.
        Null = "null",
    }
}

words! {
    /// What is done with a number or date beyond its bounds.
    WhenOutOfRange {
        /// Its record is rejected.
        Reject = "reject",
        /// It is null.
        Null = "null",
        /// The nearest bound takes its place.
        Clamp = "clamp",
    }
}

words! {
    /// What is done with a number that has too many digits after the mark.
    WhenTooPrecise {
        /// Its record is rejected.
        Reject = "reject",
        /// It is rounded, half away from zero.
        Round = "round",
        /// It is null.
        Null = "null",
    }
}

words! {
    /// What is done with a value that `one_of` or `matches` does not allow.
    WhenNotAllowed {
        /// Its record is rejected.
        Reject = "reject",
        /// It is null.
        Null = "null",
        /// The column's default takes its place.
        Default = "default",
    }
}

words! {
    /// What is done with a value that the lookup lacks.
    WhenNotListed {
        /// Its record is rejected.
        Reject = "reject",
        /// It is null.
        Null = "null",
        /// It is kept as it is.
        Keep = "keep",
    }
}

words! {
    /// What letters become.
    Case {
        /// What they are.
        Keep = "keep",
        /// Capitals.
        Upper = "upper",
        /// Small letters.
        Lower = "lower",
    }
}

words! {
    /// What runs of blanks within a text become.
    InnerBlanks {
        /// What they are.
        Keep = "keep",
        /// One space each.
        Collapse = "collapse",
    }
}

words! {
    /// What control characters within a text become.
    Controls {
        /// What they are.
        Keep = "keep",
        /// Nothing.
        Remove = "remove",
    }
}

words! {
    /// How a text's characters are composed.
    NormalForm {
        /// As they are.
        Keep = "keep",
        /// In Unicode's form NFC.
        Nfc = "nfc",
    }
}

words! {
    /// What a text's length counts.
    LengthIn {
        /// Characters.
        Characters = "characters",
        /// Bytes of UTF-8.
        Bytes = "bytes",
    }
}

words! {
    /// How a number is written in its bytes.
    Form {
        /// As text.
        Text = "text",
        /// Two digits a byte, the sign in the last half byte.
        Packed = "packed",
        /// Two's complement, big end first.
        Binary = "binary",
        /// In hexadecimal digits.
        Hexadecimal = "hexadecimal",
        /// Bytes in base64.
        Base64 = "base64",
    }
}

words! {
    /// Which ends of a field lose their blanks.
    Trim {
        /// Neither.
        None = "none",
        /// The start.
        Left = "left",
        /// The end.
        Right = "right",
        /// Both.
        Both = "both",
    }
}
