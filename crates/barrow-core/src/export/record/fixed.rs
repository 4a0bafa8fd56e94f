//! Fields of a set width.

use super::{Line, RecordWriter, Scratch, Unwritten, blank, text_of};
use crate::export::fixed::Fixed;
use crate::export::marks::is_blank;
use crate::export::refusal::{Refusal, refusal};
use crate::reason::Code;
use crate::words::Align;

impl RecordWriter<'_> {
    pub(super) fn fixed_header(&self, fixed: &Fixed, names: &[String]) -> Result<String, String> {
        let mut line = String::new();
        for slot in &fixed.slots {
            pad_to(&mut line, slot.place.start);
            let name = names.get(slot.field).map_or("", String::as_str);
            if name.contains(|c| self.breaks(c)) {
                return Err(format!("the column's name {name:?} has a record's end"));
            }
            line.extend(name.chars().take(slot.place.len()));
        }
        pad_to(&mut line, fixed.width);
        Ok(line)
    }

    pub(super) fn fixed(
        &self,
        fixed: &Fixed,
        line: &Line<'_>,
        scratch: &mut Scratch,
        out: &mut Vec<u8>,
    ) -> Result<(), Unwritten> {
        let start = out.len();
        let whole = |e| (None, e);
        // How much of the width is filled, in what the layout counts.
        let mut filled = 0;
        for slot in &fixed.slots {
            fixed
                .fill(slot.place.start - filled, &fixed.space, out)
                .map_err(whole)?;
            filled = slot.place.end;
            let wide = slot.place.len();
            let Some(place) = self.fields.get(slot.field).copied().flatten() else {
                fixed.fill(wide, &fixed.space, out).map_err(whole)?;
                continue;
            };
            let own = |e| (Some(place), e);
            let mut raw = std::mem::take(&mut scratch.raw);
            raw.clear();
            let written = self.field(line, place, &mut raw, scratch);
            scratch.raw = raw;
            let field = written?;
            if self.columns[place].is_bytes() {
                out.extend_from_slice(&scratch.raw);
                continue;
            }
            let text = text_of(Some(place), &scratch.raw)?;
            if field.is_free && text.contains(|c| self.breaks(c)) {
                let says = "holds a line end, which would end the record";
                return Err((Some(place), refusal(Code::NotAllowed, says, text)));
            }
            scratch.bytes.clear();
            scratch.replaced += self.encoded(text, &mut scratch.bytes).map_err(own)?;
            let taken = match fixed.by_bytes {
                true => scratch.bytes.len(),
                false => text.chars().count(),
            };
            if taken > wide {
                let says = format!("{taken} wide, and its field is {wide}");
                return Err((Some(place), refusal(Code::TooLong, says, text)));
            }
            let pad = if field.is_null {
                &fixed.space
            } else {
                &slot.pad
            };
            if slot.align == Align::Left {
                out.extend_from_slice(&scratch.bytes);
            }
            fixed.fill(wide - taken, pad, out).map_err(own)?;
            if slot.align == Align::Right {
                out.extend_from_slice(&scratch.bytes);
            }
        }
        let rest = fixed.width.saturating_sub(filled);
        fixed.fill(rest, &fixed.space, out).map_err(whole)?;
        if self.ending.is_empty() {
            return Ok(());
        }
        fixed.is_one_record(&out[start..]).map_err(whole)?;
        self.is_a_line(&out[start..]).map_err(whole)
    }

    /// A record of a fixed layout that would be skipped as a blank line or a comment.
    fn is_a_line(&self, record: &[u8]) -> Result<(), Refusal> {
        let text = self.charset.text_of_raw(record);
        if is_blank(text.as_bytes()) {
            return Err(blank());
        }
        if text.starts_with('\u{FEFF}') {
            let says = "the record starts with what would be read as a byte order mark";
            return Err(refusal(Code::NotAllowed, says, &text));
        }
        match &self.plan.records.comment {
            Some(comment) if text.starts_with(comment.as_str()) => {
                let says = "the record would be skipped as a comment";
                Err(refusal(Code::NotAllowed, says, &text))
            }
            _ => Ok(()),
        }
    }
}

fn pad_to(line: &mut String, width: usize) {
    let has = line.chars().count();
    line.extend(std::iter::repeat_n(' ', width.saturating_sub(has)));
}
