//! Runs a spec over bytes and gathers what comes out.
#![allow(dead_code, reason = "each test file uses some of it")]

use std::convert::Infallible;
use std::io::Write;
use std::path::Path;

use barrow_core::Error;
use barrow_core::counts::RunCounts;
use barrow_core::pipeline;
use barrow_core::pipeline::{Batch, Encoded, Failure, Options, Rows, RunContext, Sink};
use barrow_core::plan::Plan;
use barrow_core::reason::Reject;
use barrow_core::source::SourceFile;
use barrow_core::spec;
use barrow_core::values::Cell;
use barrow_core::words::WhenEmpty;

/// Everything that a run gave.
#[derive(Default)]
pub struct Out {
    /// Each good row's record number, line, offset in the file, and cells as text.
    pub rows: Vec<(u64, u64, u64, Vec<String>)>,
    pub rejects: Vec<Reject>,
    pub tally: RunCounts,
    pub trailer: Vec<u8>,
    pub lead: Vec<u8>,
    /// For each kind of record, how many columns are loaded.
    pub widths: Vec<usize>,
}

impl Out {
    pub fn cells(&self) -> Vec<Vec<&str>> {
        self.rows
            .iter()
            .map(|row| row.3.iter().map(String::as_str).collect())
            .collect()
    }

    /// Each reject's line with the words of its reasons.
    pub fn reasons(&self) -> Vec<(u64, Vec<&'static str>)> {
        let words = |r: &Reject| r.reasons.iter().map(|reason| reason.code.word()).collect();
        self.rejects.iter().map(|r| (r.line, words(r))).collect()
    }
}

impl Sink for Out {
    type Encoded = ();
    type Error = Infallible;

    fn take(&mut self, batch: &mut Encoded<()>) -> Result<(), Infallible> {
        self.tally.add(batch, batch.good() as u64, &[]);
        let block = &batch.block;
        let mut found = Vec::new();
        for (part, rows) in batch.parts.iter().enumerate() {
            for row in rows.good.iter().map(|row| *row as usize) {
                let index = rows.marks[row] as usize;
                let mark = block.marks[index];
                let cells = (0..self.widths[part])
                    .map(|c| shown(rows.cell(c, row), batch, rows))
                    .collect();
                let line = block.first_line + u64::from(mark.line);
                let offset = block.place(mark.start as usize);
                found.push((block.record_number(index), line, offset, cells));
            }
        }
        found.sort_by_key(|row| row.0);
        self.rows.extend(found);
        self.rejects.extend(batch.rejects.iter().cloned());
        if let Some(end) = &batch.block.last {
            self.trailer = end.trailer.clone();
        }
        if let Some(file) = batch.file() {
            self.lead = file.lead.clone();
        }
        Ok(())
    }
}

fn shown(cell: Cell, batch: &Batch, rows: &Rows) -> String {
    let bytes =
        |piece: barrow_core::values::Piece| piece.of(&batch.block.bytes, &rows.store).to_vec();
    match cell {
        Cell::Null => "NULL".into(),
        Cell::Bool(truth) => truth.to_string(),
        Cell::Int(n) | Cell::Decimal(n) => n.to_string(),
        Cell::Float(n) => n.to_string(),
        Cell::LongDecimal(piece) => {
            i128::from_le_bytes(bytes(piece).try_into().expect("16 bytes")).to_string()
        }
        Cell::Date(d) => format!("{:04}-{:02}-{:02}", d.year, d.month, d.day),
        Cell::Time(n) => n.to_string(),
        Cell::Timestamp(d, n) => format!("{:04}-{:02}-{:02}+{n}", d.year, d.month, d.day),
        Cell::Bytes(piece) => bytes(piece).iter().map(|b| format!("{b:02x}")).collect(),
        Cell::Text(piece) => String::from_utf8(bytes(piece)).expect("text is UTF-8"),
    }
}

/// The plan of a spec that is right.
pub fn plan(spec: &str) -> Plan {
    spec::read_plan(spec).unwrap_or_else(|p| panic!("{spec}\n{p:#?}"))
}

/// Reads `bytes` by `spec` in blocks of about `block_size` bytes.
pub fn try_read(spec: &str, bytes: &[u8], block_size: usize) -> Result<Out, Error> {
    let mut file = tempfile::NamedTempFile::new().expect("a temporary file");
    file.write_all(bytes).expect("room for a small file");
    read_file(spec, file.path(), block_size)
}

/// Reads a file that is there already.
pub fn read_path(spec: &str, path: &Path) -> Out {
    read_file(spec, path, 1 << 16).unwrap_or_else(|e| panic!("{e}"))
}

fn read_file(spec: &str, path: &Path, block_size: usize) -> Result<Out, Error> {
    let mut plan = plan(spec);
    // A property may make a file without a record.
    if !spec.contains("when_empty") {
        plan.source.when_empty = WhenEmpty::Skip;
    }
    let mut out = Out {
        widths: plan
            .record_types
            .iter()
            .map(|kind| kind.loaded().count())
            .collect(),
        ..Out::default()
    };
    let files = vec![SourceFile::local(path.to_path_buf())];
    let options = Options {
        threads: 2,
        block_size,
        context: RunContext {
            run: "7f3a".into(),
            now: "2031-04-30T06:07:08Z".parse().expect("a timestamp"),
        },
        ..Options::default()
    };
    match pipeline::run(&plan, files, options, &|_| {}, &mut out) {
        Ok(()) => Ok(out),
        Err(Failure::Source(error)) => Err(error),
        Err(Failure::Sink(never)) => match never {},
    }
}

/// Reads `bytes`, which can be read.
pub fn read(spec: &str, bytes: impl AsRef<[u8]>) -> Out {
    try_read(spec, bytes.as_ref(), 1 << 16).unwrap_or_else(|e| panic!("{e}"))
}

/// So many cases of a property. One that fails is kept beside the test's source, and is tried
/// first from then on.
pub fn cases(cases: u32) -> proptest::test_runner::Config {
    use proptest::test_runner::FileFailurePersistence;
    let kept = FileFailurePersistence::WithSource("proptest-regressions");
    proptest::test_runner::Config {
        cases,
        failure_persistence: Some(Box::new(kept)),
        ..Default::default()
    }
}
