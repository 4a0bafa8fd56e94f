//! Fields that are set apart by a delimiter, in quotes where they have to be.

use super::{Line, RecordWriter, Scratch, Unwritten, blank, text_of};
use crate::export::column::ColumnWriter;
use crate::export::marks::{Marks, is_blank};
use crate::export::refusal::refusal;
use crate::reason::Code;
use crate::values::Cell;
use crate::words::{QuoteWhen, QuotedEmpty};

impl RecordWriter<'_> {
    pub(super) fn delimited(
        &self,
        marks: &Marks,
        line: &Line<'_>,
        scratch: &mut Scratch,
        out: &mut Vec<u8>,
    ) -> Result<(), Unwritten> {
        if !self.encode.is_plain() {
            return self.delimited_and_encoded(marks, line, scratch, out);
        }
        // A misfit's cell is null, and not its value.
        let quick = marks.is_quick && line.misfits.is_empty();
        let start = out.len();
        for (at, column) in self.fields.iter().enumerate() {
            match marks.delimiter.as_bytes() {
                _ if at == 0 => {}
                // Nearly all are one byte, for which a copy is a detour.
                [byte] => out.push(*byte),
                several => out.extend_from_slice(several),
            }
            let Some(place) = *column else { continue };
            let quickly = quick
                && (at > 0 || marks.is_first_quick)
                && self.columns[place].write_quickly(line.value(place), &marks.special, out);
            if !quickly {
                self.delimited_field(marks, line, (at, place), scratch, out)?;
            }
        }
        if is_blank(&out[start..]) {
            let quoted = self.unblanked(marks, line, text_of(None, &out[start..])?)?;
            out.truncate(start);
            out.extend_from_slice(quoted.as_bytes());
        }
        self.is_one_record(&out[start..]).map_err(|e| (None, e))
    }

    /// The same in an encoding in which text is not written as it is.
    fn delimited_and_encoded(
        &self,
        marks: &Marks,
        line: &Line<'_>,
        scratch: &mut Scratch,
        out: &mut Vec<u8>,
    ) -> Result<(), Unwritten> {
        let mut record = Vec::new();
        for (at, column) in self.fields.iter().enumerate() {
            if at > 0 {
                record.extend_from_slice(marks.delimiter.as_bytes());
            }
            if let Some(place) = *column {
                self.delimited_field(marks, line, (at, place), scratch, &mut record)?;
            }
        }
        let mut text = text_of(None, &record)?.to_string();
        if is_blank(text.as_bytes()) {
            text = self.unblanked(marks, line, &text)?;
        }
        self.is_one_record(text.as_bytes()).map_err(|e| (None, e))?;
        scratch.replaced += self.encoded(&text, out).map_err(|e| (None, e))?;
        Ok(())
    }

    /// Writes a field in UTF-8, in quotes where it has to be.
    fn delimited_field(
        &self,
        marks: &Marks,
        line: &Line<'_>,
        (at, place): (usize, usize),
        scratch: &mut Scratch,
        out: &mut Vec<u8>,
    ) -> Result<(), Unwritten> {
        let writer = &self.columns[place];
        let from = out.len();
        let field = self.field(line, place, out, scratch)?;
        // Nothing between two quotes may be read as null.
        let loses = field.is_empty_text && !writer.keeps_empty();
        let always = match marks.when {
            _ if loses => false,
            QuoteWhen::Needed => false,
            QuoteWhen::Text => writer.plan.ty.is_text() && !field.is_null,
            QuoteWhen::Always => !field.is_null,
        };
        let is_plain = !(field.is_free || marks.is_unusual || at == 0 && marks.comment.is_some());
        if is_plain && !always {
            return Ok(());
        }
        let text = text_of(Some(place), &out[from..])?;
        let must = (field.is_empty_text && writer.keeps_empty()) || marks.must_quote(text, at == 0);
        if !must && !always {
            return Ok(());
        }
        if must && marks.quote.is_none() {
            marks
                .escapes(text, at == 0)
                .map_err(|says| (Some(place), refusal(Code::NotAllowed, says, text)))?;
        }
        scratch.field.clear();
        marks.put(text, must || always, &mut scratch.field);
        out.truncate(from);
        out.extend_from_slice(scratch.field.as_bytes());
        Ok(())
    }

    /// A record that would be a blank line, with its only field in quotes.
    fn unblanked(&self, marks: &Marks, line: &Line<'_>, text: &str) -> Result<String, Unwritten> {
        let only = match self.fields.as_slice() {
            [Some(only)] => Some(&self.columns[*only]),
            _ => None,
        };
        let reads_null = |column: &ColumnWriter<'_>| {
            !column.plan.ty.is_text() || column.quoted_empty() == QuotedEmpty::Null
        };
        let is_null = only.is_some() && line.value(0).cell == Cell::Null && text.is_empty();
        match (only, marks.quote) {
            (Some(column), Some(quote))
                if (!is_null && (!text.is_empty() || column.keeps_empty()))
                    || (is_null && reads_null(column)) =>
            {
                Ok(format!("{quote}{text}{quote}"))
            }
            _ => Err((None, blank())),
        }
    }
}

/// The line of the columns' names.
///
/// # Errors
/// A name that would not be read as it is.
pub fn header(marks: &Marks, names: &[String]) -> Result<String, String> {
    let mut line = String::new();
    for (at, name) in names.iter().enumerate() {
        if at > 0 {
            line.push_str(&marks.delimiter);
        }
        let must = marks.must_quote(name, at == 0);
        if must && marks.quote.is_none() {
            let escapes = marks.escapes(name, at == 0);
            escapes.map_err(|says| format!("the column's name {name:?} {says}"))?;
        }
        marks.put(name, must || marks.when != QuoteWhen::Needed, &mut line);
    }
    Ok(line)
}
