//! How files are laid out, told from the start of the first one.

mod comments;
mod delimited;
mod fixed;
mod header;
mod json;
mod not_a_table;
mod record_types;
mod single;
mod uneven;

use self::comments::{comment, doubt_comments};
use self::single::{one_column, one_text, single, unquoted};
use self::uneven::{commented, is_record, uneven};
use std::collections::HashSet;

pub use delimited::Delimited;
pub use fixed::Spot;
pub use json::{KeyFound, find_keys};

use super::Wanted;
use super::names;
use super::remark::Remark;
use super::sample::{self, Sample};
use crate::error::Error;
use crate::escape::escape_for_display;
use crate::source::{Compression, SourceFile};
use delimited::Candidate;
use header::Verdict;

/// How files are laid out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Layout {
    /// Fields are set apart.
    Delimited(Delimited),
    /// Fields have set widths.
    Fixed,
    /// Neither: each line is one text.
    Lines,
    /// Records name their fields: JSON objects.
    Json,
}

/// What is done with the first line behind the preamble.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Heading {
    /// There is no header.
    None,
    /// Columns are found by its names.
    Names,
    /// It is read past, and columns are found by their place.
    Skip,
}

/// The columns of one record type, or of all records.
#[derive(Debug, Clone)]
pub struct Part {
    /// The record type's name and condition, where there are several.
    pub told_by: Option<(String, String)>,
    /// The header's names, or names made up.
    pub header: Vec<String>,
    /// The columns' names, fit for SQL.
    pub names: Vec<String>,
    /// Where the fields stand, in a fixed layout.
    pub spots: Vec<Spot>,
    /// The columns' keys, where records name their fields.
    pub keys: Vec<KeyFound>,
}

/// All that is told from the start of the first file.
#[derive(Debug, Clone)]
pub struct Shape {
    /// The encoding's label, and why it was taken.
    pub encoding: (String, Vec<String>),
    /// Whether all of the first file is ASCII, which most encodings read alike.
    pub is_ascii: bool,
    /// How the first file is packed.
    pub packing: Compression,
    /// The layout.
    pub layout: Layout,
    /// The share of records with the usual number of fields, in percent.
    pub share: u64,
    /// Lines before the header.
    pub preamble: u64,
    /// The header.
    pub heading: Heading,
    /// The columns; several where there are record types.
    pub parts: Vec<Part>,
    /// What a comment starts with.
    pub comment: Option<String>,
    /// Lines after the data.
    pub trailer: u64,
    /// Whether records may lack their last fields.
    pub is_ragged: bool,
    /// A ruler over some lines of a fixed layout.
    pub ruler: Vec<String>,
    /// What was not decided, or on weak grounds.
    pub remarks: Vec<Remark>,
}

impl Shape {
    /// Whether columns are found by the header's names.
    pub fn by_name(&self) -> bool {
        self.heading == Heading::Names
    }

    /// Whether there are several record types.
    pub fn has_types(&self) -> bool {
        self.parts.len() > 1
    }
}

/// Looks at the start of a file, whose encoding is told by its first `told_by` bytes.
///
/// # Errors
/// It cannot be read, is empty, or is no table.
pub fn find(source: &SourceFile, wanted: &Wanted, told_by: u64) -> Result<Shape, Error> {
    if !wanted.lines
        && let Some(shape) = json::tell(source, told_by)?
    {
        return Ok(shape);
    }
    not_a_table::refuse(source)?;
    let sample = sample::read(source, told_by)?;
    let mut shape = Shape {
        encoding: (
            sample.start.charset.name().to_ascii_lowercase(),
            sample.start.notes.clone(),
        ),
        is_ascii: sample.start.is_ascii,
        packing: sample.packing,
        layout: Layout::Lines,
        share: 100,
        preamble: 0,
        heading: Heading::None,
        parts: Vec::new(),
        comment: None,
        trailer: 0,
        is_ragged: false,
        ruler: Vec::new(),
        remarks: Vec::new(),
    };
    if let Some(rival) = &sample.start.rival {
        let label = rival.label.to_ascii_lowercase();
        shape.remarks.push(Remark::of_file(
            format!(
                "the encoding is {} or {label}: \"{}\" or \"{}\"",
                shape.encoding.0,
                escape_for_display(rival.here.as_bytes()),
                escape_for_display(rival.there.as_bytes())
            ),
            format!("encoding = \"{label}\""),
        ));
    }
    if wanted.lines {
        shape.parts = vec![part(None, vec!["line".into()], Vec::new())];
        return Ok(shape);
    }
    if !tell(&sample, &mut shape) {
        return Err(no_layout(source, &sample));
    }
    Ok(shape)
}

fn no_layout(source: &SourceFile, sample: &Sample) -> Error {
    let first = sample.lines.iter().find(|line| !line.trim().is_empty());
    let shown = first.map_or_else(String::new, |line| {
        crate::escape::visible_short(line.as_bytes(), 60)
    });
    Error::NoFile(format!(
        "{} is not recognised as a table: neither a delimiter nor fixed widths explain \
         nine lines in ten\n  its first line: {shown}\n  --lines drafts one column of text, a line each",
        source.name()
    ))
}

fn part(told_by: Option<(String, String)>, header: Vec<String>, spots: Vec<Spot>) -> Part {
    Part {
        told_by,
        names: names::fit(&header),
        header,
        spots,
        keys: Vec::new(),
    }
}

/// Tells the layout; false if none explains the lines.
fn tell(sample: &Sample, shape: &mut Shape) -> bool {
    let all = &sample.lines;
    let comment = comment(all);
    let is_comment = |line: &String| {
        comment
            .as_ref()
            .is_some_and(|c| line.starts_with(c.as_str()))
    };
    // The lines that may be records, and where each stands.
    let mut places: Vec<usize> = (0..all.len())
        .filter(|place| !is_comment(&all[*place]) && !all[*place].trim().is_empty())
        .collect();
    // Some programs write the delimiter above the header: `sep=;`.
    let names_mark = |place: &usize| {
        let line = all[*place].to_ascii_lowercase();
        line.starts_with("sep=") && line.chars().count() == 5
    };
    let has_mark = places.len() > 1 && names_mark(&places[0]);
    if has_mark {
        places.remove(0);
        shape.preamble = places[0] as u64;
    }
    let lines: Vec<String> = places.iter().map(|place| all[*place].clone()).collect();
    if lines.is_empty() {
        return false;
    }
    shape.comment = comment.clone();
    let last_comment = all[..places[0]].iter().rev().find(|line| is_comment(line));
    let candidate = delimited::find(&lines);
    let marked = all[places[0]..].iter().filter(|line| is_comment(line));
    let marked: Vec<String> = marked.cloned().collect();
    doubt_comments(candidate.as_ref(), &marked, last_comment.is_some(), shape);
    // A table whose records all have one width is of one type.
    let is_table = candidate
        .as_ref()
        .is_some_and(|found| found.fits == lines.len());
    let delimiters = [",", ";", "|", "\t", "^", "~"];
    let mut delimiters = delimiters.iter().filter(|_| !is_table);
    let types = delimiters.find_map(|delimiter| {
        let candidate = delimited::with(&lines, delimiter)?;
        Some((record_types::delimited(&candidate)?, candidate))
    });
    if let Some((types, candidate)) = types {
        several(types, Layout::Delimited(candidate.how), shape);
        return true;
    }
    if candidate.is_none()
        && let Some(types) = record_types::fixed(&lines)
    {
        several(types, Layout::Fixed, shape);
        return true;
    }
    if candidate.as_ref().is_none_or(may_be_listing) {
        if one_column(&lines, candidate.as_ref()) {
            single(&lines, shape);
            return true;
        }
        let wins = |found: &fixed::Found| {
            let fields = candidate.as_ref().map_or(1, |candidate| candidate.width);
            found.spots.len() > fields && found.share >= 95
        };
        if let Some(found) = fixed::find(&lines).filter(wins) {
            listed(found, &places, shape);
            return true;
        }
        if candidate.is_none() && one_text(&lines) {
            single(&lines, shape);
            return true;
        }
    }
    match candidate {
        Some(candidate) => {
            separated(&candidate, &places, last_comment, shape);
            true
        }
        None => false,
    }
}

fn several(types: Vec<record_types::RecordType>, layout: Layout, shape: &mut Shape) {
    shape.layout = layout;
    shape.parts = types
        .into_iter()
        .map(|ty| {
            let header = (1..=ty.fields).map(|n| format!("column_{n}")).collect();
            part(Some((ty.name, ty.condition)), header, ty.spots)
        })
        .collect();
    let names: Vec<&str> = shape
        .parts
        .iter()
        .filter_map(|part| part.told_by.as_ref())
        .map(|(name, _)| name.as_str())
        .collect();
    shape.remarks.push(Remark::of_file(
        format!(
            "lines are taken for {} record types: {}",
            names.len(),
            names.join(", ")
        ),
        "the if of each [[record_type]]",
    ));
}

fn listed(found: fixed::Found, places: &[usize], shape: &mut Shape) {
    shape.layout = Layout::Fixed;
    shape.share = found.share;
    shape.is_ragged = found.is_ragged;
    shape.ruler = found.ruler;
    // The preamble counts lines of the file.
    let first = places
        .get(found.preamble)
        .copied()
        .unwrap_or(found.preamble);
    if found.preamble > 0 {
        shape.preamble = first as u64;
    }
    let made: Vec<String> = (1..=found.spots.len())
        .map(|n| format!("column_{n}"))
        .collect();
    if let Some(title) = &found.title {
        shape.remarks.push(Remark::of_file(
            format!(
                "the first line is taken as a title and skipped: \"{}\"",
                escape_for_display(title.as_bytes())
            ),
            format!("preamble = {}", shape.preamble.saturating_sub(1)),
        ));
    }
    doubt_header(found.header.is_some(), found.doubt, shape);
    let header = match found.header {
        Some(names) => {
            shape.heading = Heading::Skip;
            names
        }
        None => made,
    };
    shape.parts = vec![part(None, header, found.spots)];
}

/// Remarks on a header that is not plain.
fn doubt_header(is_header: bool, doubt: Option<String>, shape: &mut Shape) {
    let Some(why) = doubt else { return };
    shape.remarks.push(match is_header {
        true => Remark::of_file(
            format!("the first line is taken as the header: {why}"),
            "header = \"none\"",
        ),
        false => Remark::of_file(
            "it is not clear whether the first line is a header, so it is read as a record",
            "header = \"names\", with its names as `from` of the columns",
        ),
    });
}

/// Whether what was taken for a delimiter may stand in a listing: commas in names, as in
/// `Moor, Ada   12`, or spaces.
fn may_be_listing(candidate: &Candidate) -> bool {
    let gaps = || {
        let rest = candidate.rest();
        let has_gap = |text: &&String| text.trim().contains("  ");
        let lasts = rest
            .iter()
            .filter_map(|record| record.fields.as_ref()?.last());
        lasts.filter(has_gap).count() * 10 >= rest.len() * 8
    };
    match candidate.how.delimiter.as_str() {
        ":" | " " => true,
        "," => candidate.width == 2 && gaps(),
        _ => false,
    }
}

/// Whether nearly all lines but the first are so.
fn nearly_all(lines: &[String], is: &dyn Fn(&str) -> bool) -> bool {
    let rows = &lines[1.min(lines.len() - 1)..];
    let alike = rows.iter().filter(|line| is(unquoted(line))).count();
    alike * 100 >= rows.len() * 98
}

/// Sets the header by a verdict, or names that are made up.
fn headed(verdict: Verdict, names: Vec<String>, shape: &mut Shape) {
    let is_header = matches!(verdict, Verdict::Header | Verdict::LikelyHeader(_));
    let doubt = match verdict {
        Verdict::LikelyHeader(why) => Some(why),
        Verdict::Unknown => Some(String::new()),
        _ => None,
    };
    doubt_header(is_header, doubt, shape);
    if !is_header {
        let made = (1..=names.len()).map(|n| format!("column_{n}")).collect();
        shape.parts = vec![part(None, made, Vec::new())];
        return;
    }
    let mut seen = HashSet::new();
    let twice: Vec<String> = names
        .iter()
        .filter(|name| !seen.insert(name.as_str()))
        .map(|name| match name.as_str() {
            "" => "an empty name".to_string(),
            name => format!("\"{}\"", escape_for_display(name.as_bytes())),
        })
        .collect();
    shape.heading = match twice.is_empty() {
        true => Heading::Names,
        false => Heading::Skip,
    };
    if let Some(first) = twice.first() {
        shape.remarks.push(Remark::of_file(
            format!("the header has {first} more than once, so columns are found by their place"),
            "`position` of each column",
        ));
    }
    shape.parts = vec![part(None, names, Vec::new())];
}

fn separated(
    candidate: &Candidate,
    places: &[usize],
    last_comment: Option<&String>,
    shape: &mut Shape,
) {
    let rest = candidate.rest();
    let width = candidate.width;
    shape.layout = Layout::Delimited(candidate.how.clone());
    shape.is_ragged = candidate.is_ragged;
    let explained = candidate.fits
        + if candidate.is_ragged {
            candidate.short
        } else {
            0
        };
    shape.share = (explained * 100 / rest.len().max(1)) as u64;
    if candidate.is_ragged {
        shape.remarks.push(Remark::of_file(
            format!(
                "the last fields are missing in {} of the first {} records: they are null",
                candidate.short,
                rest.len()
            ),
            "when_short = \"reject\"",
        ));
    }
    // Lines above the header; comments and empty lines are passed over by themselves.
    if candidate.titles > 0 {
        let line = candidate.records[candidate.titles].line;
        shape.preamble = places[line] as u64;
    }
    let is_ragged = candidate.is_ragged;
    let wide = |fields: &&Vec<String>| {
        fields.len() == width || (is_ragged && (2..width).contains(&fields.len()))
    };
    let rows: Vec<&[String]> = rest[1..]
        .iter()
        .filter_map(|record| record.fields.as_ref())
        .filter(wide)
        .map(Vec::as_slice)
        .collect();
    let Some(mut head) = rest.first().and_then(|record| record.fields.clone()) else {
        headed(Verdict::Unknown, vec![String::new(); width], shape);
        return;
    };
    if head.len() != width && !(candidate.is_ragged && is_record(&head, width, &rows)) {
        return uneven(head, width, &rows, shape);
    }
    head.resize(width, String::new());
    let verdict = header::judge(&head, &rows);
    // The line above the data names the columns, as a comment.
    if !matches!(verdict, Verdict::Header | Verdict::LikelyHeader(_))
        && let Some(names) = last_comment.and_then(|line| commented(line, candidate))
    {
        shape.parts = vec![part(None, names, Vec::new())];
        return;
    }
    headed(verdict, head, shape);
}
