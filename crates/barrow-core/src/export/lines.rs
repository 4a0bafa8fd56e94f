//! The lines around the records: titles, counts and sums, by templates.

use crate::plan::{ColumnPlan, Plan};
use crate::types::Type;
use crate::values::decimal;
use crate::words::PreambleKey;

/// What the templates may tell of a file, once its records are written.
#[derive(Debug, Clone, Default)]
pub struct StatedTotals {
    /// How many rows it has.
    pub rows: u64,
    /// The sum of each of [`Lines::summed`]; none where it is beyond 128 bits.
    pub sums: Vec<Option<i128>>,
    /// When it was written, in UTC.
    pub now: String,
    /// The file's name.
    pub file: String,
}

/// The templates of a format.
pub struct Lines {
    preamble: Vec<Vec<Part>>,
    trailer: Vec<Vec<Part>>,
    summed: Vec<usize>,
}

enum Part {
    Text(String),
    Rows,
    Now,
    File,
    /// The sum at this place, with so many decimals.
    Sum(usize, usize),
}

impl Lines {
    /// The templates of a checked spec.
    ///
    /// # Errors
    /// Everything wrong with them.
    pub fn new<'c>(
        plan: &Plan,
        columns: impl Iterator<Item = &'c ColumnPlan>,
    ) -> Result<Lines, Vec<String>> {
        let columns: Vec<&ColumnPlan> = columns.collect();
        let mut problems = Vec::new();
        let mut read = |templates: &[String], place: &str| -> Vec<Vec<Part>> {
            let lines = templates.iter().filter_map(|template| {
                let parts = parts(template, &columns);
                parts
                    .map_err(|e| problems.push(format!("[export] {place}: {e}")))
                    .ok()
            });
            lines.collect()
        };
        let mut lines = Lines {
            preamble: read(&plan.export.preamble, "preamble"),
            trailer: read(&plan.export.trailer, "trailer"),
            summed: Vec::new(),
        };
        lines.take_up_sums();
        let known_only_after = |part: &Part| matches!(part, Part::Rows | Part::Sum(..));
        if lines.preamble.iter().flatten().any(known_only_after) {
            problems.push(
                "[export] preamble: rows and sums are known once the records are written, so \
                 write them in the trailer"
                    .into(),
            );
        }
        let wanted = match plan.records.preamble {
            PreambleKey::Lines(lines) => Some(lines as usize),
            PreambleKey::Auto => None,
        };
        let counts = [
            ("preamble", wanted, lines.preamble.len()),
            ("trailer", Some(plan.records.trailer), lines.trailer.len()),
        ];
        for (name, wanted, found) in counts {
            if wanted.is_some_and(|wanted| wanted != found) {
                let wanted = wanted.unwrap_or(0);
                problems.push(format!(
                    "[records] {name} = {wanted}, and [export] {name} has {found}: say each line \
                     that is to be written"
                ));
            }
        }
        for template in plan.export.preamble.iter().chain(&plan.export.trailer) {
            if template.contains(['\n', '\r']) {
                problems.push(format!(
                    "[export]: {template:?} has a line end within; write one text for each line"
                ));
            }
        }
        // A last line that is read past is not counted, and a record is taken for it.
        let comment = plan.records.comment.as_deref();
        for template in &plan.export.trailer {
            if template.trim().is_empty() || comment.is_some_and(|c| template.starts_with(c)) {
                problems.push(format!(
                    "[export] trailer: {template:?} would be skipped as a blank line or a comment"
                ));
            }
        }
        match problems.is_empty() {
            true => Ok(lines),
            false => Err(problems),
        }
    }

    /// The written columns that are summed, as places.
    pub fn summed(&self) -> &[usize] {
        &self.summed
    }

    /// From columns to sums: each column is summed once.
    fn take_up_sums(&mut self) {
        for part in self.trailer.iter_mut().flatten() {
            if let Part::Sum(at, _) = part {
                let known = self.summed.iter().position(|column| column == at);
                let sum = known.unwrap_or_else(|| {
                    self.summed.push(*at);
                    self.summed.len() - 1
                });
                *at = sum;
            }
        }
    }

    /// The lines before the header.
    pub fn preamble(&self, told: &StatedTotals) -> Vec<String> {
        self.preamble
            .iter()
            .map(|line| written(line, told))
            .collect()
    }

    /// The lines after the records.
    ///
    /// # Errors
    /// A sum is beyond 128 bits.
    pub fn trailer(&self, told: &StatedTotals) -> Result<Vec<String>, String> {
        let sums = self.trailer.iter().flatten();
        let lost = sums.filter_map(|part| match part {
            Part::Sum(at, _) if told.sums.get(*at).copied().flatten().is_none() => Some(*at),
            _ => None,
        });
        if lost.count() > 0 && told.rows > 0 {
            return Err("a sum of the trailer is beyond 128 bits".into());
        }
        Ok(self
            .trailer
            .iter()
            .map(|line| written(line, told))
            .collect())
    }
}

fn written(line: &[Part], told: &StatedTotals) -> String {
    let part = |part: &Part| match part {
        Part::Text(text) => text.clone(),
        Part::Rows => told.rows.to_string(),
        Part::Now => told.now.clone(),
        Part::File => told.file.clone(),
        Part::Sum(at, scale) => {
            let sum = told.sums.get(*at).copied().flatten().unwrap_or(0);
            decimal(sum, *scale)
        }
    };
    line.iter().map(part).collect()
}

/// Reads a template: `TOTAL {rows} {sum:weight_kg}`; `{{` is a brace.
fn parts(template: &str, columns: &[&ColumnPlan]) -> Result<Vec<Part>, String> {
    let mut parts = Vec::new();
    let mut rest = template;
    while let Some(at) = rest.find(['{', '}']) {
        let (before, from) = rest.split_at(at);
        parts.push(Part::Text(before.into()));
        if let Some(after) = from.strip_prefix("{{").or_else(|| from.strip_prefix("}}")) {
            parts.push(Part::Text(from[..1].into()));
            rest = after;
            continue;
        }
        let inner = from.strip_prefix('{').and_then(|from| from.split_once('}'));
        let Some((name, after)) = inner else {
            return Err(format!("\"{template}\" has a brace without its other half"));
        };
        parts.push(named(name, columns)?);
        rest = after;
    }
    parts.push(Part::Text(rest.into()));
    Ok(parts)
}

fn named(name: &str, columns: &[&ColumnPlan]) -> Result<Part, String> {
    match name {
        "rows" => return Ok(Part::Rows),
        "now" => return Ok(Part::Now),
        "file" => return Ok(Part::File),
        _ => {}
    }
    let Some(column) = name.strip_prefix("sum:") else {
        return Err(format!(
            "{{{name}}} is not known; there are {{rows}}, {{sum:COLUMN}}, {{now}} and {{file}}"
        ));
    };
    let at = columns.iter().position(|c| c.name == column);
    let at = at.ok_or_else(|| format!("{{{name}}} names no column that is written"))?;
    match columns[at].ty {
        Type::Decimal { scale, .. } => Ok(Part::Sum(at, usize::from(scale))),
        Type::SmallInt | Type::Integer | Type::BigInt => Ok(Part::Sum(at, 0)),
        ty => Err(format!("{{{name}}}: a {ty} has no exact sum")),
    }
}
