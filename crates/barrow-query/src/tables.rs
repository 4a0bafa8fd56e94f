//! The tables that a spec is: one for each record type that is loaded.

use std::path::Path;
use std::sync::Arc;
use std::time::SystemTime;

use barrow_core::escape::escape_for_display;
use barrow_core::plan::{ColumnPlan, Plan, RecordTypePlan};
use barrow_core::source::SourceFile;
use barrow_core::types::Type;
use barrow_core::words::WhenInexact;
use barrow_run::{Error, Spec};

/// What of a file tells that it is still the same.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Seen {
    size: Option<u64>,
    modified: Option<SystemTime>,
}

impl Seen {
    fn of(file: &SourceFile) -> Seen {
        Seen {
            size: file.size(),
            modified: file.modified(),
        }
    }
}

/// Files that are read by a spec, as they are when the query begins.
pub struct Files {
    /// The spec.
    pub spec: Spec,
    /// The files, in the order of a load.
    pub files: Vec<SourceFile>,
    seen: Vec<Seen>,
    /// How many threads read values.
    pub threads: Option<usize>,
}

impl Files {
    /// The files that are given, or the spec's where none is.
    ///
    /// # Errors
    /// As [`Spec::files`].
    pub fn new(spec: Spec, given: &[String], threads: Option<usize>) -> Result<Files, Error> {
        let files = spec.files(given)?;
        Ok(Files {
            seen: files.iter().map(Seen::of).collect(),
            files,
            spec,
            threads,
        })
    }

    /// Whether the file at a place is what it was when the query began.
    pub fn is_still(&self, place: usize) -> bool {
        match (self.files.get(place), self.seen.get(place)) {
            // A pipe is another after each byte.
            (Some(file), Some(seen)) => !file.is_repeatable() || Seen::of(file) == *seen,
            _ => true,
        }
    }

    /// About how many records there are, by the files' sizes.
    fn estimated_records(&self) -> f64 {
        let bytes: u64 = self.seen.iter().filter_map(|seen| seen.size).sum();
        // A record of 60 bytes is an ordinary one, and what is packed unpacks to some more.
        (bytes as f64 / 60.0).max(100.0)
    }
}

/// A column of a table.
#[derive(Debug, Clone)]
pub struct TableColumn {
    /// Its name.
    pub name: String,
    /// Its type.
    pub ty: Type,
    /// Whether it is a decimal that the spec has as text, since it may have more digits than
    /// SQLite's numbers hold.
    pub is_text: bool,
}

impl TableColumn {
    /// The word that declares it, as in a table that was loaded.
    fn declared(&self) -> String {
        barrow_targets::sqlite::DIALECT.column_type(&barrow_targets::Column {
            name: self.name.clone(),
            ty: self.ty,
            required: false,
            inexact_as_text: self.is_text,
            one_of: Vec::new(),
        })
    }
}

/// What every record has beside its columns; not among those of `*`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Extra {
    /// The file as people named it.
    File,
    /// The record's first line, 1-based.
    Line,
    /// The record's number in its file, 1-based.
    Record,
}

impl Extra {
    /// All of them.
    const ALL: [Extra; 3] = [Extra::File, Extra::Line, Extra::Record];

    /// Its name, and its type in SQL.
    pub fn words(self) -> (&'static str, &'static str) {
        match self {
            Extra::File => ("_file", "TEXT"),
            Extra::Line => ("_line", "INTEGER"),
            Extra::Record => ("_record", "INTEGER"),
        }
    }
}

/// One record type of a spec as a table.
pub struct FileTable {
    /// The table's name.
    pub name: String,
    /// The record type, by its place in the plan.
    pub record_type: usize,
    /// Where its rows come from.
    pub files: Arc<Files>,
    /// Its columns, in order.
    pub columns: Vec<TableColumn>,
    /// Those that stand after them, hidden. A column of the spec of the same name wins.
    pub extras: Vec<Extra>,
    /// About how many rows it has.
    pub estimated_rows: f64,
}

impl FileTable {
    /// The tables of a spec. `name` is that of its table, where it has only one.
    ///
    /// # Errors
    /// Several record types and one name.
    pub fn of(files: &Arc<Files>, name: Option<&str>) -> Result<Vec<FileTable>, Error> {
        let plan = &files.spec.plan;
        let loaded: Vec<usize> = (0..plan.record_types.len())
            .filter(|number| plan.record_types[*number].load)
            .collect();
        if let (Some(name), true) = (name, loaded.len() > 1) {
            return Err(Error::request(
                format!(
                    "{} has {} record types, so its tables cannot be named {}",
                    files.spec.name(),
                    loaded.len(),
                    escape_for_display(name.as_bytes())
                ),
                "each is a table by its own name: leave --as out",
            ));
        }
        let one = |number: &usize| FileTable::one(files, *number, name, loaded.len() == 1);
        Ok(loaded.iter().map(one).collect())
    }

    fn one(files: &Arc<Files>, number: usize, name: Option<&str>, alone: bool) -> FileTable {
        let plan = &files.spec.plan;
        let kind = &plan.record_types[number];
        let columns: Vec<TableColumn> = kind.loaded().map(column).collect();
        let is_own = |extra: &Extra| {
            let own = extra.words().0;
            columns.iter().any(|c| c.name.eq_ignore_ascii_case(own))
        };
        FileTable {
            name: name.map_or_else(
                || table_name(plan, kind, &files.spec.path, alone),
                str::to_string,
            ),
            record_type: number,
            extras: Extra::ALL
                .into_iter()
                .filter(|extra| !is_own(extra))
                .collect(),
            columns,
            files: files.clone(),
            estimated_rows: files.estimated_records(),
        }
    }

    /// Whether it has this name, as SQL compares names.
    pub fn is_called(&self, name: &str) -> bool {
        self.name.eq_ignore_ascii_case(name)
    }

    /// Each column's name, and its declaration in SQL.
    pub fn declared(&self) -> Vec<(String, String)> {
        let own = self.columns.iter();
        let own = own.map(|column| (column.name.clone(), column.declared()));
        let extras = self.extras.iter().map(|extra| {
            let (name, word) = extra.words();
            (name.to_string(), format!("{word} HIDDEN"))
        });
        own.chain(extras).collect()
    }
}

fn column(column: &ColumnPlan) -> TableColumn {
    TableColumn {
        name: column.name.clone(),
        ty: column.ty,
        is_text: column.when_inexact == WhenInexact::Text
            && matches!(
                column.ty,
                Type::Decimal {
                    precision: 16..,
                    ..
                }
            ),
    }
}

/// A record type's table: its own, else the spec's, which several cannot have at once.
fn table_name(plan: &Plan, kind: &RecordTypePlan, spec: &Path, alone: bool) -> String {
    let own = kind.table.clone();
    let of_spec = plan.target.table.clone().filter(|_| alone);
    let named = own.or(of_spec).or(kind.name.clone());
    named.unwrap_or_else(|| {
        let file = spec.file_name().unwrap_or_default().to_string_lossy();
        file.split('.').next().unwrap_or("file").to_string()
    })
}
