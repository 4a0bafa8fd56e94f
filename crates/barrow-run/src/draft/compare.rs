//! What files have and a spec does not: new or missing columns, values that its types do
//! not take.

use barrow_core::counts::{ReasonKind, RunCounts};
use barrow_core::draft::{Chosen, Draft};
use barrow_core::escape::escape_for_display;
use barrow_core::format::KeyTree;
use barrow_core::pipeline;
use barrow_core::pipeline::{Encoded, Sink};
use barrow_core::plan::{ColumnPlan, Place};
use barrow_core::reason::Code;
use barrow_core::records::block::BLOCK;
use barrow_core::records::header::fold;
use barrow_core::records::splitter::Splitter;
use barrow_core::source::SourceFile;
use barrow_core::types::Type;

use super::compare_keys::{self, NewColumn, paths_of};
use super::wider::{same_sort, wider};
use crate::account::RunAccount;
use crate::error::Error;
use crate::observer::Watch;
use crate::spec_file::Spec;
use crate::words::number;

/// How files differ from a spec.
#[derive(Default)]
pub struct Drift {
    /// Columns of the spec that the files lack.
    pub missing: Vec<String>,
    /// Columns of the files that the spec lacks.
    pub new: Vec<NewColumn>,
    /// Columns whose values the spec does not take.
    pub changed: Vec<Changed>,
    /// A column that has another name in the files: its own, the spec's name for the
    /// header, and the header's.
    pub renamed: Option<(String, String, String)>,
    /// The encoding that the files are in, and the spec's.
    pub encoding: Option<(String, String)>,
    /// Words that stand for null in the files.
    pub nulls: Vec<String>,
    /// Whether the records were read by the spec.
    pub was_read: bool,
    /// Whether records name their fields, and there is no header.
    pub is_of_keys: bool,
}

/// A column whose values its spec does not take.
pub struct Changed {
    /// The spec's column.
    pub name: String,
    /// Its type in the spec.
    pub ty: Type,
    /// What a draft makes of it, if the files have it.
    pub drafted: Option<Chosen>,
    /// Why, in plain lines.
    pub why: Vec<String>,
    /// Whether another type would take the values.
    pub by_type: bool,
    /// Whether records lack its key.
    pub is_lacking: bool,
    /// Words among the rejected values that stand for null.
    pub nulls: Vec<String>,
}

/// Counts what the spec rejects, column by column.
struct Counter<'w>(RunAccount<'w>);

impl Sink for Counter<'_> {
    type Encoded = ();
    type Error = Error;

    fn take(&mut self, batch: &mut Encoded<()>) -> Result<(), Error> {
        self.0.batch(batch, batch.good() as u64, &[])?;
        self.0.advance(batch);
        Ok(())
    }
}

impl Drift {
    /// Compares files with a spec.
    pub(crate) fn find(
        spec: &Spec,
        files: &[SourceFile],
        drafted: &Draft,
        options: pipeline::Options,
        watch: &dyn Watch,
    ) -> Result<Drift, Error> {
        if spec.plan.has_kinds() {
            return Err(Error::request(
                "a spec with several record types is not compared with files",
                "barrow check says how it reads them",
            ));
        }
        let columns = &spec.plan.record_types[0].columns;
        let mut drift = Drift {
            encoding: other_encoding(spec, drafted),
            is_of_keys: spec.plan.records.format.names_fields(),
            nulls: drafted
                .judgement
                .nulls
                .iter()
                .map(|w| (*w).to_string())
                .collect(),
            ..Drift::default()
        };
        let no_keys = KeyTree::default();
        let keys = spec.plan.record_types[0].keys.as_ref().unwrap_or(&no_keys);
        if spec.plan.records.format.names_fields() {
            drift.missing = compare_keys::missing(columns, keys, drafted);
            drift.new = compare_keys::new(columns, keys, drafted);
        } else {
            let splitter = Splitter::new(&spec.plan, Vec::new(), BLOCK);
            for file in files {
                if let Some(header) = splitter.header_names(file)? {
                    drift.compare_header(&header, columns, drafted);
                }
            }
        }
        drift.find_renamed(columns);
        if drift.missing.is_empty() {
            let sources = files.to_vec();
            let account = RunAccount::open(sources, RunCounts::default(), None, watch);
            let mut counter = Counter(account);
            // What is new in the files is what is looked for.
            let plan = spec.plan_past_new_columns()?;
            let flowed = pipeline::run(&plan, files.to_vec(), options, &|_| {}, &mut counter);
            counter.0.end();
            flowed?;
            drift.was_read = true;
            for column in columns {
                drift.compare_values(column, keys, &counter.0.tally, drafted);
            }
        }
        Ok(drift)
    }

    /// Whether the files are as the spec says.
    pub fn is_none(&self) -> bool {
        self.missing.is_empty()
            && self.new.is_empty()
            && self.changed.is_empty()
            && self.encoding.is_none()
    }

    /// A missing column and a new one of the same type are probably one column under another name.
    fn find_renamed(&mut self, columns: &[ColumnPlan]) {
        let ([missing], [new]) = (self.missing.as_slice(), self.new.as_slice()) else {
            return;
        };
        let Some(column) = columns.iter().find(|column| column.name == *missing) else {
            return;
        };
        if let Place::Named(from) = &column.place
            && same_sort(column.ty, new.chosen.choice.ty)
        {
            let to = original(&new.chosen).to_string();
            self.renamed = Some((missing.clone(), from.clone(), to));
        }
    }

    fn compare_header(&mut self, header: &[String], columns: &[ColumnPlan], drafted: &Draft) {
        let named = |column: &ColumnPlan| match &column.place {
            Place::Named(name) => Some(name.clone()),
            Place::Field(_) | Place::Key(_) | Place::Computed => None,
        };
        for column in columns {
            if let Some(name) = named(column)
                && !header.iter().any(|h| fold(h) == fold(&name))
                && !self.missing.contains(&column.name)
            {
                self.missing.push(column.name.clone());
            }
        }
        for name in header {
            let known = columns
                .iter()
                .filter_map(named)
                .any(|n| fold(&n) == fold(name));
            let told = self.new.iter().any(|new| original(&new.chosen) == name);
            if !known && !told {
                let chosen = drafted
                    .columns
                    .iter()
                    .find(|chosen| original(chosen) == name);
                self.new.extend(chosen.map(|chosen| NewColumn {
                    chosen: chosen.clone(),
                    optional: false,
                }));
            }
        }
    }

    fn compare_values(
        &mut self,
        column: &ColumnPlan,
        keys: &KeyTree,
        tally: &RunCounts,
        drafted: &Draft,
    ) {
        let reasons = tally.reason_kinds();
        let mine: Vec<&ReasonKind> = reasons
            .into_iter()
            .filter(|kind| kind.column.as_deref() == Some(column.name.as_str()))
            .collect();
        if mine.is_empty() {
            return;
        }
        let why = mine.iter().map(|kind| {
            let value = kind.value.as_deref().map(|value| format!(" \"{value}\""));
            format!(
                "{} {}, first: {} line {}{}",
                number(kind.count),
                kind.says,
                kind.file,
                number(kind.line),
                value.unwrap_or_default()
            )
        });
        let found = compare_keys::paths(drafted);
        let is_it = |(place, chosen): &(usize, &Chosen)| match &column.place {
            Place::Named(name) => fold(original(chosen)) == fold(name),
            Place::Field(field) => place == field,
            Place::Key(_) => found
                .get(*place)
                .is_some_and(|path| paths_of(column, keys).contains(path)),
            Place::Computed => false,
        };
        // A column that is found by several keys takes the values of all of them.
        let all = drafted.columns.iter().enumerate().filter(is_it);
        let all = all.map(|(_, chosen)| chosen.clone());
        let chosen = all.reduce(|one, other| Chosen {
            choice: wider(one.choice.ty, &other.choice),
            ..one
        });
        self.changed.push(Changed {
            name: column.name.clone(),
            ty: column.ty,
            drafted: chosen,
            why: why.collect(),
            by_type: mine.iter().any(|kind| is_of_type(kind.code)),
            is_lacking: mine.iter().any(|kind| kind.code == Code::NoSuchKey),
            nulls: self
                .nulls
                .iter()
                .filter(|_| !column.ty.is_text() && mine.iter().any(|kind| is_unread(kind.code)))
                .cloned()
                .collect(),
        });
    }

    /// What differs, one line each.
    pub fn words(&self) -> Vec<String> {
        let shown = |text: &str| escape_for_display(text.as_bytes());
        let mut words = Vec::new();
        if let Some((found, said)) = &self.encoding {
            words.push(format!(
                "encoding  {said} → {found}: the files are in another"
            ));
        }
        if let Some((name, from, to)) = &self.renamed {
            words.push(format!(
                "renamed   {}: \"{}\" → \"{}\"? the one is missing, the other new",
                shown(name),
                shown(from),
                shown(to)
            ));
            return words;
        }
        for name in &self.missing {
            let why = match self.is_of_keys {
                true => "no record has it",
                false => "a header lacks it",
            };
            words.push(format!("missing   {}: {why}", shown(name)));
        }
        for new in &self.new {
            let name = shown(original(&new.chosen));
            let some = if new.optional {
                ", not in every record"
            } else {
                ""
            };
            words.push(format!(
                "new       \"{name}\": {}{some}",
                new.chosen.choice.ty
            ));
        }
        for changed in &self.changed {
            let now = match (&changed.drafted, changed.by_type) {
                (Some(chosen), true) => {
                    let wider = wider(changed.ty, &chosen.choice);
                    match wider.ty == changed.ty {
                        true => format!("{}, written otherwise", changed.ty),
                        false => format!("{} → {}", changed.ty, wider.ty),
                    }
                }
                _ => changed.ty.to_string(),
            };
            let why = changed.why.join("; ");
            words.push(format!("changed   {} {now}: {why}", shown(&changed.name)));
        }
        words
    }
}

pub(super) fn original(chosen: &Chosen) -> &str {
    chosen.from.as_deref().unwrap_or(&chosen.name)
}

/// The encoding that the files are in and the spec's, where they read the files otherwise.
fn other_encoding(spec: &Spec, drafted: &Draft) -> Option<(String, String)> {
    let said = spec.plan.source.charset.as_ref()?;
    let found = &drafted.shape.encoding.0;
    let differs = !drafted.shape.is_ascii && !said.name().eq_ignore_ascii_case(found);
    differs.then(|| (found.clone(), said.name().to_ascii_lowercase()))
}

/// Whether a fault is that a value is not written as its type is.
fn is_unread(code: Code) -> bool {
    matches!(
        code,
        Code::NotANumber
            | Code::NotADate
            | Code::NotATime
            | Code::NotATimestamp
            | Code::NotABoolean
            | Code::NotAUuid
            | Code::NotJson
    )
}

/// Whether a fault is one that another type or writing would take.
fn is_of_type(code: Code) -> bool {
    matches!(
        code,
        Code::NotANumber
            | Code::NotADate
            | Code::NotATime
            | Code::NotATimestamp
            | Code::NoSuchDate
            | Code::NotABoolean
            | Code::NotJson
            | Code::NotAUuid
            | Code::NotBytes
            | Code::OutOfRange
            | Code::TooLong
            | Code::TooPrecise
    )
}
