//! The widths of a fixed layout, and what fills them up.

use std::ops::Range;

use super::encode::Encode;
use super::refusal::{Refusal, refusal};
use crate::format::{FixedFormat, RecordEnd};
use crate::plan::{Place, Plan, RecordTypePlan};
use crate::reason::Code;
use crate::source::Charset;
use crate::words::Align;

/// A fixed layout as it is written.
pub struct Fixed {
    /// Its fields, in the order of their places.
    pub slots: Vec<Slot>,
    /// How wide a record is.
    pub width: usize,
    /// Whether widths count bytes, and not characters.
    pub by_bytes: bool,
    /// A space in the encoding.
    pub space: Vec<u8>,
    /// The bytes of which none may stand in a record, or it would end there.
    ends: Vec<u8>,
}

/// A field of a fixed layout.
pub struct Slot {
    /// Which field of the record it is.
    pub field: usize,
    /// Where it stands, 0-based, in what the layout counts.
    pub place: Range<usize>,
    /// At which end of it a value stands.
    pub align: Align,
    /// What fills it up, in the encoding.
    pub pad: Vec<u8>,
}

impl Fixed {
    /// The layout of a kind of records, which end with `ending`.
    pub fn new(
        plan: &Plan,
        kind: &RecordTypePlan,
        format: FixedFormat,
        encode: &Encode,
        ending: &str,
        problems: &mut Vec<String>,
    ) -> Fixed {
        let mut encoded = |text: &str, what: &str| {
            let mut bytes = Vec::new();
            if encode.write(text, &mut bytes).is_err() {
                problems.push(format!("the encoding lacks the character of {what}"));
            }
            bytes
        };
        let mut slots = Vec::new();
        for column in &kind.columns {
            let Place::Field(field) = column.place else {
                continue;
            };
            let Some((start, wide)) = kind.slice(field) else {
                continue;
            };
            let is_number = column.ty.is_number();
            // Zeros stand between a number and its sign, and are put there.
            let pad = column.pad.filter(|pad| *pad != '0' || !is_number);
            slots.push(Slot {
                field,
                place: start..start + wide,
                align: column.align.unwrap_or(match is_number {
                    true => Align::Right,
                    false => Align::Left,
                }),
                pad: encoded(
                    &pad.unwrap_or(' ').to_string(),
                    &format!("column {}'s pad", column.name),
                ),
            });
        }
        slots.sort_by_key(|slot| slot.place.start);
        let space = encoded(" ", "a space");
        let ends = match ending {
            "" => Vec::new(),
            ending => ends(plan, encode, ending),
        };
        Fixed {
            slots,
            width: kind.fixed.as_ref().map_or(0, |fixed| fixed.width),
            by_bytes: format.counts_bytes(),
            space,
            ends,
        }
    }

    /// A record that would end before its end.
    ///
    /// # Errors
    /// It has a byte of a record's end.
    pub fn is_one_record(&self, record: &[u8]) -> Result<(), Refusal> {
        if record.iter().any(|byte| self.ends.contains(byte)) {
            let says = "the record has bytes of a record's end, and would end there";
            return Err(refusal(Code::NotAllowed, says, ""));
        }
        Ok(())
    }

    /// Fills so much of the width with a character that is given in its encoding.
    ///
    /// # Errors
    /// A number of bytes that cannot be filled with it.
    pub fn fill(&self, count: usize, pad: &[u8], out: &mut Vec<u8>) -> Result<(), Refusal> {
        let size = if self.by_bytes { pad.len().max(1) } else { 1 };
        if !count.is_multiple_of(size) {
            let says = format!("{count} bytes are left, which its padding of {size} does not fill");
            return Err(refusal(Code::TooLong, says, ""));
        }
        (0..count / size).for_each(|_| out.extend_from_slice(pad));
        Ok(())
    }
}

/// The bytes with which a record's end may start. In an encoding of several bytes a
/// character, other characters have these bytes too: there text is looked at before it is
/// encoded, and nothing else stands between.
fn ends(plan: &Plan, encode: &Encode, ending: &str) -> Vec<u8> {
    let charset = plan.source.charset.as_ref().unwrap_or(&Charset::Utf8);
    if matches!(charset, Charset::Whole(_)) {
        return Vec::new();
    }
    let mut texts = vec![ending.to_string()];
    if plan.records.ending == RecordEnd::Auto {
        texts.extend(["\n".into(), "\r".into(), "\u{85}".into()]);
    }
    let first = |text: &String| {
        let mut bytes = Vec::new();
        // Only an encoding that has the character could end a record with it.
        encode.write(text, &mut bytes).ok()?;
        (bytes.len() == 1 || text == ending).then(|| bytes[0])
    };
    texts.iter().filter_map(first).collect()
}
