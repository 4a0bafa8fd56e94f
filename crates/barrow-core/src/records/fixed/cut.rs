//! Cuts records of a fixed layout into fields.

use super::characters::borders;
use crate::format::FieldSlices;
use crate::reason::Code;
use crate::records::mark::Mark;
use crate::records::span::Span;
use crate::repair::RepairKind;
use crate::words::{WhenLong, WhenShort};

/// What is fixed for a file's records.
pub struct Cutter<'p> {
    /// Where the fields stand.
    pub fixed: &'p FieldSlices,
    /// Records that end too soon.
    pub when_short: WhenShort,
    /// Records that go on too long.
    pub when_long: WhenLong,
    /// Whether widths count characters of several bytes.
    pub by_characters: bool,
}

/// A record that is not as wide as it should be.
pub struct Misfit {
    /// Too short or too wide.
    pub code: Code,
    /// What is wrong.
    pub says: String,
    /// What was expected.
    pub expected: String,
}

impl Cutter<'_> {
    /// Cuts the record at `mark` and adds its fields to `fields`.
    ///
    /// # Errors
    /// It is too short or too wide, and the spec does not say what to do.
    pub fn cut(
        &self,
        bytes: &[u8],
        mark: &Mark,
        fields: &mut Vec<Span>,
        mut repaired: impl FnMut(RepairKind),
    ) -> Result<(), Misfit> {
        let record = &bytes[mark.range()];
        let start = mark.start as usize;
        if self.by_characters && !record.is_ascii() {
            let mut borders: Vec<usize> = borders(record).collect();
            borders.push(record.len());
            let width = borders.len() - 1;
            return self.cut_at(width, fields, &mut repaired, |place| {
                start + borders[place.min(width)]
            });
        }
        let width = record.len();
        self.cut_at(width, fields, &mut repaired, |place| {
            start + place.min(width)
        })
    }

    fn cut_at(
        &self,
        width: usize,
        fields: &mut Vec<Span>,
        repaired: &mut impl FnMut(RepairKind),
        border: impl Fn(usize) -> usize,
    ) -> Result<(), Misfit> {
        if width > self.fixed.width {
            if self.when_long != WhenLong::Drop {
                return Err(self.misfit(Code::RecordTooWide, width));
            }
            repaired(RepairKind::TooWide);
        }
        if width < self.fixed.width && self.when_short != WhenShort::Null {
            return Err(self.misfit(Code::RecordTooShort, width));
        }
        let before = fields.len();
        let mut lacking = false;
        for ((start, length), is_text) in self.fixed.slices.iter().zip(&self.fixed.text) {
            let end = start + length;
            // Blanks at a line's end get lost, so text that is cut short is whole;
            // a number would be another one.
            if end > width && *start < width && !is_text {
                fields.truncate(before);
                return Err(self.misfit(Code::RecordTooShort, width));
            }
            lacking |= *start >= width;
            fields.push(match *start >= width {
                true => Span::MISSING,
                false => Span::plain(border(*start), border(end)),
            });
        }
        if lacking {
            repaired(RepairKind::TooShort);
        }
        Ok(())
    }

    fn misfit(&self, code: Code, width: usize) -> Misfit {
        let wanted = self.fixed.width;
        Misfit {
            code,
            says: format!("{}: {width} of {wanted}", code.words()),
            expected: format!("{wanted} wide"),
        }
    }
}
