//! Fields of a set width.

/// Where the fields of a fixed layout stand.
#[derive(Debug)]
pub struct FixedPlan {
    /// For each field, its first character or byte, 0-based, and its width.
    pub slices: Vec<(usize, usize)>,
    /// For each field, whether it is text.
    pub text: Vec<bool>,
    /// How wide a whole record is.
    pub width: usize,
}
