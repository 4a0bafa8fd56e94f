//! From a database's rows to written records: read on this thread, typed and written by
//! workers, taken in order by another.

use std::thread;

use barrow_core::export::{RecordWriter, RowBatch, Written};
use barrow_core::pool::{Feeder, Ordered, pool};
use barrow_targets::{Decoder, RawRows, Rows};

use super::output::Output;
use crate::error::Error;
use crate::observer::Watch;

/// Rows on their way.
#[derive(Default)]
struct Work {
    /// The number of the first row, 1-based.
    first: u64,
    raw: RawRows,
    written: Written,
}

/// Reads the rows of an open query, and takes their records into `output`.
///
/// # Errors
/// The database fails, a row cannot be written, or a file cannot.
pub(super) fn run<'o>(
    rows: Box<dyn Rows + '_>,
    decoder: &Decoder,
    writer: &RecordWriter<'_>,
    threads: usize,
    output: Output<'o>,
    watch: &dyn Watch,
) -> Result<Output<'o>, Error> {
    let (feeder, worker, ordered) = pool::<Work>(threads * 2 + 4);
    thread::scope(|scope| {
        for _ in 0..threads {
            let worker = worker.clone();
            scope.spawn(move || {
                let mut cells = RowBatch::default();
                worker.run(|work| {
                    decoder(&work.raw, &mut cells);
                    work.written.clear();
                    writer.write_all(&cells, &work.raw.text, work.first, &mut work.written);
                    Ok(())
                });
            });
        }
        drop(worker);
        let taking = scope.spawn(move || take(ordered, output, watch));
        let read = read(rows, feeder);
        let taken = taking
            .join()
            .map_err(|_| Error::failed("the thread that writes the files failed"))?;
        // What ended the writing is why the reading ended, if both did.
        match (taken, read) {
            (Ok(output), Ok(())) => Ok(output),
            (Err(error), _) | (Ok(_), Err(error)) => Err(error),
        }
    })
}

fn read(rows: Box<dyn Rows + '_>, mut feeder: Feeder<Work>) -> Result<(), Error> {
    let mut first = 1;
    rows.fetch(&mut |rows| {
        feeder.feed(|work| {
            work.first = first;
            first += rows.ends.len() as u64;
            std::mem::swap(&mut work.raw, rows);
            rows.clear();
            Ok(true)
        })
    })?;
    Ok(())
}

fn take<'o>(
    mut ordered: Ordered<Work>,
    mut output: Output<'o>,
    watch: &dyn Watch,
) -> Result<Output<'o>, Error> {
    while let Some(work) = ordered.next() {
        let work = work?;
        output.take(&work.written)?;
        watch.progress(work.written.bytes.len() as u64, output.counts.rows);
        ordered.give_back(work);
    }
    Ok(output)
}
