//! From a database's rows to written records: read on this thread, typed and written by
//! workers, taken in order by another.

use std::collections::BTreeMap;
use std::thread;

use barrow_core::export::{Cells, RecordWriter, Written};
use barrow_targets::{Decoder, RawRows, Session};
use crossbeam_channel::{Receiver, Sender, bounded};

use super::Output;
use crate::failure::Failure;
use crate::view::progress::Progress;

/// Rows on their way, with their place in the order.
struct Work {
    order: u64,
    first: u64,
    raw: RawRows,
    written: Written,
}

/// Reads the rows of the query that was asked, and takes their records into `output`.
///
/// # Errors
/// The database fails, a row cannot be written, or a file cannot.
pub fn run<'o>(
    target: &mut dyn Session,
    decoder: &Decoder,
    writer: &RecordWriter<'_>,
    threads: usize,
    output: Output<'o>,
    progress: &Progress,
) -> Result<Output<'o>, Failure> {
    let batches = threads * 2 + 4;
    let (give_free, free) = bounded::<Work>(batches);
    let (give_raw, raw) = bounded::<Work>(batches);
    let (give_done, done) = bounded::<Work>(batches);
    for _ in 0..batches {
        let _ = give_free.send(Work {
            order: 0,
            first: 0,
            raw: RawRows::default(),
            written: Written::default(),
        });
    }
    thread::scope(|scope| {
        for _ in 0..threads {
            let (raw, give_done) = (raw.clone(), give_done.clone());
            scope.spawn(move || work(decoder, writer, &raw, &give_done));
        }
        drop((raw, give_done));
        let taking = scope.spawn(move || take(&done, &give_free, output, progress));
        let read = read(target, &free, give_raw);
        let taken = taking
            .join()
            .map_err(|_| Failure::not_done("the thread that writes the files failed"))?;
        // What ended the writing is why the reading ended, if both did.
        match (taken, read) {
            (Ok(output), Ok(())) => Ok(output),
            (Err(failure), _) | (Ok(_), Err(failure)) => Err(failure),
        }
    })
}

fn read(
    target: &mut dyn Session,
    free: &Receiver<Work>,
    give_raw: Sender<Work>,
) -> Result<(), Failure> {
    let (mut order, mut first) = (0, 1);
    target.give_out(&mut |rows| {
        let Ok(mut work) = free.recv() else {
            return false;
        };
        work.order = order;
        work.first = first;
        order += 1;
        first += rows.ends.len() as u64;
        std::mem::swap(&mut work.raw, rows);
        rows.clear();
        give_raw.send(work).is_ok()
    })?;
    Ok(())
}

fn work(decoder: &Decoder, writer: &RecordWriter<'_>, raw: &Receiver<Work>, done: &Sender<Work>) {
    let mut cells = Cells::default();
    while let Ok(mut work) = raw.recv() {
        decoder(&work.raw, &mut cells);
        work.written.clear();
        let numbered = (0..cells.height() as u32).zip(work.first..);
        writer.write(&cells, &work.raw.text, numbered, &mut work.written);
        if done.send(work).is_err() {
            return;
        }
    }
}

fn take<'o>(
    done: &Receiver<Work>,
    free: &Sender<Work>,
    mut output: Output<'o>,
    progress: &Progress,
) -> Result<Output<'o>, Failure> {
    let mut early = BTreeMap::new();
    let mut next = 0;
    while let Ok(work) = done.recv() {
        early.insert(work.order, work);
        while let Some(work) = early.remove(&next) {
            next += 1;
            output.take(&work.written)?;
            progress.advance(work.written.bytes.len() as u64, output.counts.rows);
            let _ = free.send(work);
        }
    }
    if !early.is_empty() {
        return Err(Failure::not_done(
            "a part of what was to be written is missing, for a worker failed",
        ));
    }
    Ok(output)
}
