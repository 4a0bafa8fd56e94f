//! How a file holds its objects, told by its start.

/// How a file holds its objects.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Frames {
    /// One a line.
    Lines,
    /// Each after a record separator.
    Sequence,
    /// In one array.
    Array,
}

/// The record separator of a text sequence.
pub const SEPARATOR: u8 = 0x1E;

impl Frames {
    /// Told by a file's first bytes, without its byte order mark. `None` where they are too
    /// few.
    pub fn of(bytes: &[u8], whole: bool) -> Option<Frames> {
        match bytes.iter().find(|byte| !byte.is_ascii_whitespace()) {
            Some(b'[') => Some(Frames::Array),
            Some(&SEPARATOR) => Some(Frames::Sequence),
            Some(_) => Some(Frames::Lines),
            None => whole.then_some(Frames::Lines),
        }
    }
}
