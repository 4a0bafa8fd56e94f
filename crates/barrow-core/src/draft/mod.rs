//! Drafts: a first spec, proposed from the whole of the files.
//!
//! The layout is told from the start of the first file; then every record of every
//! file is read as text, and what its values are like is gathered in the workers. All
//! columns are judged together, a type is chosen for each, and a spec is written with
//! its evidence, and with remarks on what was not plain.

mod evidence;
mod gather;
mod infer;
mod inferred;
mod judge;
mod layout;
mod names;
mod patterns;
mod profile;
mod remark;
mod sample;
mod sections;
mod value_kind;
mod write;

pub use inferred::{Chosen, Inferred};
pub use judge::Judgement;
pub use layout::{Delimited, Heading, Layout, Part, Shape};
pub use names::table_name;
pub use profile::Profile;
pub use remark::Remark;

use self::layout::find_keys;
use crate::error::Error;
use crate::pipeline::Options;
use crate::records::block::BLOCK;
use crate::records::splitter::Splitter;
use crate::source::SourceFile;
use gather::{Differ, Gathered, as_text, gather};

/// What a draft comes to.
#[derive(Debug)]
pub struct Draft {
    /// How the files are read.
    pub shape: Shape,
    /// The columns, in the order of the first file; of all record types, one after the
    /// other.
    pub columns: Vec<Chosen>,
    /// What holds for all of them.
    pub judgement: Judgement,
    /// Records that were read.
    pub records: u64,
    /// Records of the wrong shape, and the lines and words of the first of them.
    pub misshapen: (u64, Vec<(String, u64, String)>),
    /// The spec's text.
    pub text: String,
}

impl Draft {
    /// What was not decided, or on weak grounds: of the file first, then of its columns.
    pub fn remarks(&self) -> impl Iterator<Item = &Remark> {
        let of_columns = self.columns.iter().flat_map(|column| &column.remarks);
        self.shape.remarks.iter().chain(of_columns)
    }
}

/// What a draft is written for.
#[derive(Debug, Clone, Default)]
pub struct Wanted {
    /// The words that name the files, as they stand in the spec.
    pub files: Vec<String>,
    /// The database's URL.
    pub into: Option<String>,
    /// The table.
    pub table: String,
    /// Keys of `[values]` that are said even where the usual holds, as others say otherwise.
    pub stated: Vec<String>,
    /// Types as narrow as the values are, without room for others.
    pub tight: bool,
    /// Each line is one text, whatever is in it.
    pub lines: bool,
    /// What is found is compared with a spec, so nothing may be left open.
    pub compares: bool,
}

/// By so much of a file it is taken for UTF-8 at first: all of its values are decoded
/// anyway, which tells. To look through all of it before took 4 % of a draft's time.
const TOLD_SOON: u64 = 4 << 20;

/// Proposes a spec for `files`. `told` is called with bytes read and records so far.
///
/// # Errors
/// A file cannot be read, is no table, or the files' headers differ.
pub fn draft(
    files: &[SourceFile],
    wanted: &Wanted,
    options: Options,
    told: &mut dyn FnMut(u64, u64),
) -> Result<Draft, Error> {
    let first = files
        .first()
        .ok_or_else(|| Error::NoFile("there are no files to draft a spec from".into()))?;
    let soon = if wanted.compares { u64::MAX } else { TOLD_SOON };
    let mut shape = layout::find(first, wanted, soon)?;
    // What is not UTF-8 so far is told by all of the file.
    if shape.encoding.0 != "utf-8" {
        shape = layout::find(first, wanted, u64::MAX)?;
    }
    if shape.layout == Layout::Json {
        find_keys(&mut shape, files)?;
    }
    same_headers(&shape, files)?;
    let mut gathered = gather(&shape, files, &options, false, told)?;
    if gathered.has_bad_bytes() && soon < u64::MAX && shape.encoding.0 == "utf-8" {
        let by_all = layout::find(first, wanted, u64::MAX)?;
        // Where it is UTF-8 all the same, the bytes are faults.
        if by_all.encoding.0 != shape.encoding.0 {
            shape = by_all;
            same_headers(&shape, files)?;
            gathered = gather(&shape, files, &options, false, told)?;
        }
    }
    // What the sample could not tell, the whole did: all is read once more.
    if gathered.corrects(&mut shape) {
        gathered = gather(&shape, files, &options, false, told)?;
    }
    // Numbers that rose, and then fell back among those before them.
    if gathered.distinct.contains(&Differ::Unknown) {
        gathered = gather(&shape, files, &options, true, told)?;
    }
    let distinct: Vec<bool> = gathered
        .distinct
        .iter()
        .map(|d| *d == Differ::All)
        .collect();
    let delimiter = match &shape.layout {
        Layout::Delimited(how) => how.delimiter.as_str(),
        Layout::Fixed | Layout::Lines | Layout::Json => "",
    };
    let mut judgement = judge::judge(&gathered.profiles, delimiter);
    // Fields of set widths lose their spaces anyway.
    judgement.trims &= shape.layout != Layout::Fixed;
    let columns = choose_all(&shape, &gathered, &distinct, &judgement, wanted);
    offer_trailer(&mut shape, &gathered);
    say_spaces(&mut shape, &gathered, &judgement);
    shape.remarks.extend(gathered.other_widths(&shape));
    let text = write::spec(&shape, &columns, &judgement, &gathered, wanted);
    Ok(Draft {
        shape,
        columns: columns.into_iter().flatten().collect(),
        judgement,
        records: gathered.seen.records,
        misshapen: (gathered.seen.misshapen, gathered.seen.named),
        text,
    })
}

/// The columns of each part.
fn choose_all(
    shape: &Shape,
    gathered: &Gathered,
    distinct: &[bool],
    judgement: &Judgement,
    wanted: &Wanted,
) -> Vec<Vec<Chosen>> {
    let mut from = 0;
    let each = shape.parts.iter().map(|part| {
        let range = from..from + part.names.len();
        from = range.end;
        let profiles = &gathered.profiles[range.clone()];
        infer::columns(
            shape,
            part,
            profiles,
            &distinct[range],
            judgement,
            wanted.tight,
        )
    });
    each.collect()
}

/// Spaces that are taken off texts are said.
fn say_spaces(shape: &mut Shape, gathered: &Gathered, judgement: &Judgement) {
    if let Layout::Delimited(how) = &shape.layout
        && how.skips_spaces
    {
        shape.remarks.push(Remark::of_file(
            "spaces after a delimiter are not part of the field",
            "spaces_after_delimiter = \"keep\"",
        ));
    }
    let has_spaces = |profile: &Profile| {
        profile.blanks > 0 && judge::class(profile, judgement) == judge::Class::Text
    };
    if judgement.trims && gathered.profiles.iter().any(has_spaces) {
        shape.remarks.push(Remark::of_file(
            "there are spaces around numbers and dates, so they are not part of texts either",
            "trim = \"none\"",
        ));
    }
}

/// A last record that looks like a total counts as a record until the spec says it is a trailer.
fn offer_trailer(shape: &mut Shape, gathered: &Gathered) {
    if shape.trailer > 0 || shape.has_types() {
        return;
    }
    if let Some(text) = gathered.last_total() {
        shape.remarks.push(Remark::of_file(
            format!(
                "the last record looks like a total (\"{}\") and is read as a record",
                crate::escape::escape_for_display(text.as_bytes())
            ),
            "trailer = 1",
        ));
    }
}

/// Files that are drafted together have the same columns, in any order.
fn same_headers(shape: &Shape, files: &[SourceFile]) -> Result<(), Error> {
    if !shape.by_name() {
        return Ok(());
    }
    let plan = as_text(shape)?;
    let splitter = Splitter::new(&plan, Vec::new(), BLOCK);
    let mut differences = Vec::new();
    for file in files.iter().skip(1) {
        let names = splitter.header_names(file)?.unwrap_or_default();
        let list = |names: Vec<&String>| {
            let quoted = names
                .into_iter()
                .map(|n| format!("\"{}\"", crate::escape::escape_for_display(n.as_bytes())));
            quoted.collect::<Vec<_>>().join(", ")
        };
        let lacks: Vec<&String> = shape.parts[0]
            .header
            .iter()
            .filter(|n| !names.contains(n))
            .collect();
        let more: Vec<&String> = names
            .iter()
            .filter(|n| !shape.parts[0].header.contains(n))
            .collect();
        if !lacks.is_empty() || !more.is_empty() {
            let mut words = format!("  {}:", file.name());
            if !lacks.is_empty() {
                words += &format!(" lacks {}", list(lacks));
            }
            if !more.is_empty() {
                let and = if words.contains("lacks") {
                    "; has"
                } else {
                    " has"
                };
                words += &format!("{and} {} too", list(more));
            }
            differences.push(words);
        }
    }
    if differences.is_empty() {
        return Ok(());
    }
    Err(Error::NoFile(format!(
        "the files' headers differ from that of {}, so one spec cannot read them all\n{}",
        files[0].name(),
        differences.join("\n")
    )))
}
