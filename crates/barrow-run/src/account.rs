//! The account of a run: what was counted, which rejects were written, how long each file
//! took. A load, a check, a conversion and a comparison keep the same one.

use std::path::PathBuf;
use std::time::{Duration, Instant};

use barrow_core::counts::RunCounts;
use barrow_core::pipeline::Batch;
use barrow_core::reason::Reject;
use barrow_core::rejects::RejectWriter;
use barrow_core::source::SourceFile;

use crate::error::Error;
use crate::observer::{Watch, size_of};

/// The account of a run.
pub(crate) struct RunAccount<'w> {
    /// What was counted.
    pub tally: RunCounts,
    /// Where rejects are written, if they are.
    pub rejects: Option<RejectWriter>,
    /// The file of rejects of the file that comes now, if it has any.
    pub kept_in: Option<String>,
    /// How long each file took.
    pub times: Vec<Duration>,
    sources: Vec<SourceFile>,
    watch: &'w dyn Watch,
    clock: Instant,
    /// How long all files took so far.
    timed: Duration,
}

impl<'w> RunAccount<'w> {
    /// Opens the account of a run that reads these files.
    pub fn open(
        sources: Vec<SourceFile>,
        tally: RunCounts,
        rejects: Option<RejectWriter>,
        watch: &'w dyn Watch,
    ) -> RunAccount<'w> {
        watch.begin(size_of(&sources));
        RunAccount {
            tally,
            rejects,
            kept_in: None,
            times: Vec::new(),
            sources,
            watch,
            clock: Instant::now(),
            timed: Duration::ZERO,
        }
    }

    /// How long the run has taken so far.
    pub fn elapsed(&self) -> Duration {
        self.clock.elapsed()
    }

    /// Writes a batch's rejects, those that came back from the table too, and counts it:
    /// `loaded` of its rows are loaded.
    ///
    /// # Errors
    /// The rejects cannot be written.
    pub fn batch(&mut self, batch: &Batch, loaded: u64, refused: &[Reject]) -> Result<(), Error> {
        self.write_rejects(batch, refused)?;
        self.tally.add(batch, loaded, refused);
        Ok(())
    }

    /// Counts a batch whose rejects come from elsewhere, corrected: `rejected` of its
    /// records are not loaded now.
    pub fn batch_but_rejects(&mut self, batch: &Batch, loaded: u64, rejected: u64) {
        self.tally.add_but_rejects(batch, loaded, rejected);
    }

    /// Notes how long a file took, if the batch is its last, and tells the observer how far
    /// the run is.
    pub fn advance(&mut self, batch: &Batch) {
        if batch.block.last.is_some() {
            let so_far = self.clock.elapsed();
            self.times.push(so_far.saturating_sub(self.timed));
            self.timed = so_far;
            if let Some(file) = self.tally.files.last() {
                self.watch.file_done(file);
            }
        }
        self.watch.progress(batch.block.taken, self.tally.records());
    }

    /// Ends the reading.
    pub fn end(&mut self) {
        self.watch.end();
    }

    /// Writes what rejects are still to be written to the disk.
    ///
    /// # Errors
    /// They cannot be written.
    pub fn finish_rejects(&mut self) -> Result<(), Error> {
        match &mut self.rejects {
            Some(rejects) => Ok(rejects.finish()?),
            None => Ok(()),
        }
    }

    /// The folder of the rejects, if there are any.
    pub fn rejects_folder(&self) -> Option<PathBuf> {
        let folder = self.rejects.as_ref()?.folder()?;
        Some(folder.to_path_buf())
    }

    fn write_rejects(&mut self, batch: &Batch, refused: &[Reject]) -> Result<(), Error> {
        let (Some(writer), Some(file)) = (&mut self.rejects, batch.file()) else {
            return Ok(());
        };
        let rejects = in_order(batch, refused);
        if !rejects.is_empty() {
            let name = self.sources[file.index].file_name();
            writer.keep(file, &name, rejects)?;
        }
        if let Some(name) = writer.current() {
            self.kept_in = Some(name.to_string_lossy().into_owned());
        }
        if let Some(end) = &batch.block.last {
            writer.end_file(file.index, end)?;
        }
        Ok(())
    }
}

/// A batch's rejects, and those that came back from the table, in the order of the file.
pub(crate) fn in_order<'r>(batch: &'r Batch, refused: &'r [Reject]) -> Vec<&'r Reject> {
    let mut rejects: Vec<&Reject> = batch.rejects.iter().chain(refused).collect();
    if !refused.is_empty() {
        rejects.sort_by_key(|reject| reject.offset);
    }
    rejects
}
