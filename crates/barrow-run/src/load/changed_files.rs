//! Files that come again with other content, and the runs whose rows go then.

use barrow_core::words::{Mode, WhenChanged};
use barrow_targets::Session;
use barrow_targets::ledger::{self, File, Run};

use super::known_files::KnownFiles;
use super::request::LoadRequest;
use crate::error::Error;

impl KnownFiles {
    /// The runs whose rows are deleted, since the spec says so and all of their files have changed.
    ///
    /// # Errors
    /// A run loaded other files too, whose rows cannot be told from those of one that has
    /// changed.
    pub(super) fn replaced(
        &self,
        request: &LoadRequest<'_>,
        session: &mut dyn Session,
    ) -> Result<Vec<Run>, Error> {
        let mut runs: Vec<Run> = Vec::new();
        // The other modes see to the rows of before.
        let is_asked = request.spec.plan.source.when_changed == WhenChanged::Replace;
        if !is_asked || request.job.mode != Mode::Append {
            return Ok(runs);
        }
        for file in &self.changed_files {
            let Some(run) = self.runs.get(&file.run) else {
                continue;
            };
            if runs.iter().any(|known| known.run == run.run) {
                continue;
            }
            let is_changed = |other: &File| {
                let same = |known: &File| known.run == other.run && known.number == other.number;
                other.counts.loaded == 0 || self.changed_files.iter().any(same)
            };
            let files = ledger::files_of(session, &run.run)?;
            if let Some(other) = files.iter().find(|other| !is_changed(other)) {
                return Err(Error::request(
                    format!(
                        "{} has changed, and run {}, which loaded it, loaded {} too, which has not: \
                         their rows cannot be separated",
                        file.name, run.run, other.name
                    ),
                    format!(
                        "take the run's rows out, and load its files again: barrow undo {}; or load \
                         each file in its own run",
                        run.run
                    ),
                ));
            }
            runs.push(run.clone());
        }
        Ok(runs)
    }
}
