//! What stands between the objects of an array: RFC 8259, section 5 has a comma between two
//! of them, a bracket before the first and behind the last, and nothing else.

/// What was found between objects so far.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub struct ArrayMarks {
    /// Whether the file is one array.
    pub(super) is_array: bool,
    /// Whether an object was found.
    has_records: bool,
    /// Whether the last record was not closed, so that what stands behind it may be part of
    /// it; then whether it ends in the bracket that closes the array.
    broken: Option<bool>,
    opened: u8,
    commas: u8,
    closed: u8,
    /// What is wrong, and the line from the start of the bytes, 0-based.
    fault: Option<(ArrayFault, u32)>,
}

/// What is wrong with an array as a whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ArrayFault {
    /// The file ends before the bracket that closes it.
    CutOff,
    /// Two objects have no comma between them, or several.
    Commas,
    /// A comma stands before its first object or behind its last.
    LoneComma,
    /// Something follows the bracket that closes it.
    MoreBehind,
}

impl ArrayFault {
    /// What is wrong, in words.
    pub fn says(self) -> &'static str {
        match self {
            ArrayFault::CutOff => "the file ends within its array, so it may be cut off",
            ArrayFault::Commas => "its array does not have one comma between two objects",
            ArrayFault::LoneComma => "its array has a comma with no object beside it",
            ArrayFault::MoreBehind => "something follows the array, which is not read",
        }
    }
}

impl ArrayMarks {
    /// Whether a byte belongs to the array and not to an object; then it is noted.
    pub(super) fn takes(&mut self, byte: u8) -> bool {
        let count = match byte {
            b',' => &mut self.commas,
            b']' => &mut self.closed,
            b'[' if !self.has_records && self.opened == 0 => &mut self.opened,
            _ => return false,
        };
        *count = count.saturating_add(1);
        self.is_array
    }

    /// Takes up a record, which begins on `line`.
    pub(super) fn record(&mut self, record: &[u8], is_closed: bool, line: u32) {
        if self.closed > 0 && self.broken.is_none() {
            self.fail(ArrayFault::MoreBehind, line);
        } else if !self.has_records && self.commas > 0 {
            self.fail(ArrayFault::LoneComma, line);
        } else if self.has_records && self.commas != 1 && self.broken.is_none() {
            self.fail(ArrayFault::Commas, line);
        }
        let ends = record.last().copied();
        let is_closed = is_closed
            && match record[0] {
                b'{' => ends == Some(b'}'),
                b'[' => ends == Some(b']'),
                _ => true,
            };
        self.broken = (!is_closed).then_some(ends == Some(b']'));
        self.has_records = true;
        (self.commas, self.closed) = (0, 0);
    }

    /// Takes up the file's end, on `line`.
    pub(super) fn ends(&mut self, line: u32) {
        let closed = self.closed + u8::from(self.broken == Some(true));
        if closed == 0 {
            self.fail(ArrayFault::CutOff, line);
        } else if self.closed > 1 {
            self.fail(ArrayFault::MoreBehind, line);
        } else if self.commas > 0 && self.broken.is_none() {
            self.fail(ArrayFault::LoneComma, line);
        }
    }

    fn fail(&mut self, fault: ArrayFault, line: u32) {
        if self.is_array {
            self.fault.get_or_insert((fault, line));
        }
    }

    /// What is wrong, and the line from the start of the bytes, 0-based.
    pub fn fault(&self) -> Option<(ArrayFault, u32)> {
        self.fault
    }
}
