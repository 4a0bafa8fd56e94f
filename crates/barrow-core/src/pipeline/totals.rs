//! Totals that a file states of itself, against what was found in it.

use crate::escape::visible_short;
use crate::pipeline::batch::{Batch, Difference};
use crate::plan::{Plan, RecordTypePlan, TotalAt, TotalOf, TotalPlan};
use crate::records::block::FileEnd;
use crate::records::ending::Found;
use crate::records::file_format::FileFormat;
use crate::records::layout::named_fields;
use crate::records::mark::{Mark, State};
use crate::source::Charset;
use crate::values::{Cell, NumberForm, Valued, decimal, scaled};
use crate::words::FilePart;
use crate::words::Word;

/// Counts what a batch's records add to each total. Every record of the file
/// counts, whether it loads or not.
pub fn count(plan: &Plan, batch: &mut Batch) {
    for total in &plan.totals {
        let added = match total.of {
            TotalOf::Records => Some(records(total, batch)),
            TotalOf::Sum { column, .. } => {
                let number = total.kind.unwrap_or(0);
                sum(&plan.record_types[number], column, batch, number)
            }
        };
        batch.totals.push(added);
    }
}

fn records(total: &TotalPlan, batch: &Batch) -> i128 {
    let count = match total.kind {
        Some(kind) => (batch.parts[kind].height + batch.parts[kind].misshapen.len()) as u64,
        // Later parts of a record that is too long are no records of their own.
        None => {
            let marks = batch.block.marks.iter();
            let own = marks.filter(|mark| mark.state != State::TooLongRest);
            own.map(Mark::records).sum()
        }
    };
    i128::from(count)
}

fn sum(kind: &RecordTypePlan, column: usize, batch: &Batch, number: usize) -> Option<i128> {
    let rows = &batch.parts[number];
    let slot = kind.slot(column)?;
    let mut sum = 0i128;
    for row in 0..rows.height {
        let valued = Valued {
            cell: rows.cell(slot, row),
            block: &batch.block.bytes,
            store: &rows.store,
        };
        let value = match valued.cell {
            Cell::Null => 0,
            Cell::Int(n) => i128::from(n),
            _ => valued.decimal().unwrap_or(0),
        };
        sum = sum.checked_add(value)?;
    }
    Some(sum)
}

/// Gathers the totals of a file, block after block.
#[derive(Debug, Default)]
pub struct Totals {
    sums: Vec<Option<i128>>,
}

impl Totals {
    /// Takes up a batch, in the order of the file; on the file's last one, notes
    /// the differences in it.
    pub fn take(&mut self, plan: &Plan, batch: &mut Batch) {
        if plan.totals.is_empty() {
            return;
        }
        self.sums.resize(plan.totals.len(), Some(0));
        for (sum, added) in self.sums.iter_mut().zip(&batch.totals) {
            *sum = match (*sum, added) {
                (Some(sum), Some(added)) => sum.checked_add(*added),
                _ => None,
            };
        }
        if let (Some(end), Some(file)) = (&batch.block.last, batch.block.file.clone()) {
            let sums = std::mem::take(&mut self.sums);
            if file.is_rejects {
                return;
            }
            let each = plan.totals.iter().zip(sums);
            batch.differences = each
                .filter_map(|(total, sum)| compare(plan, total, sum, &file, end))
                .collect();
        }
    }
}

/// The difference between what a file states and what was found, if there is one.
fn compare(
    plan: &Plan,
    total: &TotalPlan,
    found: Option<i128>,
    file: &FileFormat,
    end: &FileEnd,
) -> Option<Difference> {
    let (of, scale, form) = match total.of {
        TotalOf::Records => ("records".to_string(), 0, None),
        TotalOf::Sum { column, scale } => {
            let column = &plan.record_types[total.kind.unwrap_or(0)].columns[column];
            let form = column.reader.as_ref().and_then(|reader| reader.form());
            (column.name.clone(), scale, form)
        }
    };
    let found = match found {
        Some(found) => decimal(found, scale as usize),
        None => "more than 38 digits".into(),
    };
    let of = match total
        .kind
        .and_then(|kind| plan.record_types[kind].name.as_deref())
    {
        Some(kind) => format!("{of} of record type {kind}"),
        _ => of,
    };
    let stated = stated(total, file, end).and_then(|text| match number(&text, scale, form) {
        Some(number) => Ok(decimal(number, scale as usize)),
        None => Err(format!(
            "\"{}\", which is not a number",
            visible_short(text.as_bytes(), 40)
        )),
    });
    if stated.as_ref() == Ok(&found) {
        return None;
    }
    Some(Difference {
        file: file.name.clone(),
        of,
        place: format!("{}, line {}", total.part.word(), total.line + 1),
        stated: stated.unwrap_or_else(|words| words),
        found,
    })
}

/// A stated number, times ten to the power of the scale.
fn number(text: &str, scale: u32, form: Option<&NumberForm>) -> Option<i128> {
    let text = text.trim();
    let plain = match form {
        Some(form) if !form.is_bytes() => form.plain(text.as_bytes()).ok()?,
        _ => text.as_bytes().to_vec(),
    };
    let mark = form.map_or(b'.', NumberForm::mark);
    let plain: Vec<u8> = plain
        .into_iter()
        .map(|b| if b == mark { b'.' } else { b })
        .collect();
    scaled(&plain, scale, 38).ok()
}

/// The text of a stated total.
///
/// # Errors
/// What is there instead.
fn stated(total: &TotalPlan, file: &FileFormat, end: &FileEnd) -> Result<String, String> {
    let lines = lines(total.part, file, end);
    let line = lines
        .get(total.line)
        .ok_or("nothing: there is no such line")?;
    let found = match &total.at {
        TotalAt::Field(place) => {
            // Delimiter and quote are bytes of the file, so the text becomes these again.
            let bytes = file
                .rules
                .charset
                .bytes_of(line)
                .unwrap_or_else(|| line.clone().into());
            let spans = named_fields(&file.rules.format, &bytes, 0..bytes.len());
            spans
                .get(*place)
                .map(|span| text_of(&file.rules.charset, &bytes[span.range()]))
        }
        TotalAt::Slice(start, width) => {
            let text: String = line.chars().skip(*start).take(*width).collect();
            (!text.is_empty()).then_some(text)
        }
        TotalAt::Matches(regex) => {
            let group = regex.captures(line).and_then(|found| found.name("total"));
            group.map(|group| group.as_str().to_string())
        }
    };
    found.ok_or_else(|| {
        format!(
            "nothing: the line is \"{}\"",
            visible_short(line.as_bytes(), 60)
        )
    })
}

fn text_of(charset: &Charset, bytes: &[u8]) -> String {
    let mut text = Vec::new();
    let _ = charset.decode(bytes, Some("\u{FFFD}"), &mut text);
    String::from_utf8_lossy(&text).into_owned()
}

/// The lines of a part of the file, as text and without their ends.
fn lines(part: FilePart, file: &FileFormat, end: &FileEnd) -> Vec<String> {
    let raw = match part {
        FilePart::Trailer => &end.trailer,
        FilePart::Preamble | FilePart::Header => &file.lead,
    };
    let text = file.rules.charset.text_of_raw(raw);
    // The text's line ends are those of what is split.
    let bytes = file
        .rules
        .charset
        .bytes_of(&text)
        .unwrap_or_else(|| text.clone().into());
    let mut lines = Vec::new();
    let mut at = 0;
    while at < bytes.len() {
        let Found::End(stop, next) = file.ending.line_end(&bytes, at, true) else {
            break;
        };
        lines.push(text_of(&file.rules.charset, &bytes[at..stop]));
        at = next.max(at + 1);
    }
    match part {
        // The header is the last line of what stands before the data.
        FilePart::Header => lines.split_off(lines.len().saturating_sub(1)),
        _ => lines,
    }
}
