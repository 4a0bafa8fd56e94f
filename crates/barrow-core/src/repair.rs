//! What was done to a value or a record because the spec asked for it.

use std::fmt;

use serde::{Deserialize, Serialize};

/// One thing that was done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Change {
    /// The row in the block's typed rows, 0-based.
    pub row: u32,
    /// The column among those that are read, 0-based; none for the whole record.
    pub column: Option<u32>,
    /// What was done.
    pub what: RepairKind,
}

/// What can be done to a value or a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub enum RepairKind {
    /// Lines made one record.
    Joined,
    /// Missing fields became null.
    FilledUp,
    /// Surplus fields were dropped.
    SurplusDropped,
    /// A fixed record was cut at its width.
    TooWide,
    /// A fixed record was filled up.
    TooShort,
    /// Bytes that do not decode were replaced by the stand-in.
    BytesReplaced,
    /// A field with bytes that do not decode became null.
    BytesNulled,
    /// Null was replaced by the default.
    DefaultForNull,
    /// A value that cannot be read became null.
    UnreadableNulled,
    /// A value that cannot be read was replaced by the default.
    UnreadableDefaulted,
    /// Text was cut to so many characters.
    Cut(u32),
    /// Text was cut to so many bytes.
    CutBytes(u32),
    /// Text that is too long became null.
    TooLongNulled,
    /// A number out of range became null.
    OutOfRangeNulled,
    /// A value out of range became the nearest bound.
    Clamped,
    /// A number was rounded to so many digits after the mark.
    Rounded(u8),
    /// A number with too many digits after the mark became null.
    TooPreciseNulled,
    /// A value that is not allowed became null.
    NotAllowedNulled,
    /// A value that is not allowed was replaced by the default.
    NotAllowedDefaulted,
    /// A value that the lookup lacks became null.
    NotListedNulled,
    /// A value that the lookup lacks was kept as it is.
    NotListedKept,
    /// Characters were replaced by others.
    Swapped,
    /// Control characters were removed.
    ControlsRemoved,
    /// Runs of blanks became one space.
    BlanksCollapsed,
    /// Characters were composed (Unicode's form NFC).
    Composed,
    /// Letters became capital or small.
    CaseChanged,
}

impl fmt::Display for RepairKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            RepairKind::Joined => "lines joined to one record",
            RepairKind::FilledUp => "too few fields, filled up with nulls",
            RepairKind::SurplusDropped => "too many fields, the surplus dropped",
            RepairKind::TooWide => "too wide, the surplus dropped",
            RepairKind::TooShort => "too short, filled up with nulls",
            RepairKind::BytesReplaced => "bytes that do not decode, replaced",
            RepairKind::BytesNulled => "bytes that do not decode, made null",
            RepairKind::DefaultForNull => "null, the default put in",
            RepairKind::UnreadableNulled => "unreadable, made null",
            RepairKind::UnreadableDefaulted => "unreadable, the default put in",
            RepairKind::Cut(1) => "cut to 1 character",
            RepairKind::Cut(most) => return write!(f, "cut to {most} characters"),
            RepairKind::CutBytes(most) => return write!(f, "cut to {most} bytes"),
            RepairKind::TooLongNulled => "too long, made null",
            RepairKind::OutOfRangeNulled => "out of range, made null",
            RepairKind::Clamped => "out of range, set to the nearest bound",
            RepairKind::Rounded(0) => "rounded to a whole number",
            RepairKind::Rounded(scale) => return write!(f, "rounded to {scale} decimals"),
            RepairKind::TooPreciseNulled => "too precise, made null",
            RepairKind::NotAllowedNulled => "not allowed, made null",
            RepairKind::NotAllowedDefaulted => "not allowed, the default put in",
            RepairKind::NotListedNulled => "not in the lookup, made null",
            RepairKind::NotListedKept => "not in the lookup, kept",
            RepairKind::Swapped => "characters swapped",
            RepairKind::ControlsRemoved => "control characters removed",
            RepairKind::BlanksCollapsed => "inner spaces collapsed",
            RepairKind::Composed => "composed to NFC",
            RepairKind::CaseChanged => "case changed",
        })
    }
}

/// What was changed because the spec asked for it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Repairs(Vec<Repair>);

impl Repairs {
    /// Notes one.
    pub fn note(&mut self, what: RepairKind, column: Option<&str>, line: u64) {
        match self
            .0
            .iter_mut()
            .find(|r| r.what == what && r.column.as_deref() == column)
        {
            Some(repair) => repair.count += 1,
            None => self.0.push(Repair {
                what,
                column: column.map(String::from),
                count: 1,
                file: String::new(),
                line,
            }),
        }
    }

    /// Adds those of another batch, which is from `file`.
    pub fn add(&mut self, other: &Repairs, file: &str) {
        for repair in &other.0 {
            let same = |r: &&mut Repair| r.what == repair.what && r.column == repair.column;
            match self.0.iter_mut().find(same) {
                Some(known) => known.count += repair.count,
                None => self.0.push(Repair {
                    file: file.to_string(),
                    ..repair.clone()
                }),
            }
        }
    }

    /// Each kind, in the order of its first.
    pub fn iter(&self) -> std::slice::Iter<'_, Repair> {
        self.0.iter()
    }

    /// All of them.
    pub fn all(&self) -> u64 {
        self.0.iter().map(|r| r.count).sum()
    }

    /// Forgets them all.
    pub fn clear(&mut self) {
        self.0.clear();
    }
}

/// One kind of repair.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Repair {
    /// What was done.
    pub what: RepairKind,
    /// The column it was done to; none where it was the record.
    pub column: Option<String>,
    /// How often.
    pub count: u64,
    /// The file of the first; empty while it is a batch's own.
    pub file: String,
    /// The line of the first, 1-based.
    pub line: u64,
}
