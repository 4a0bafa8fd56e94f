//! What the ledger keeps of a run that is in progress, to go on with.

use barrow_core::counts::Counted;
use barrow_core::records::checkpoint::Checkpoint;
use barrow_core::rejects::Written;
use barrow_targets::Swap;
use serde::{Deserialize, Serialize};

/// What a run needs to go on once it was interrupted.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(crate) struct State {
    /// What it has counted.
    pub counted: Counted,
    /// How far its rejects are written.
    pub written: Written,
    /// Whether the last of the files is not read to its end.
    pub is_in_a_file: bool,
    /// What that file was like up to where it is committed.
    #[serde(default)]
    pub checkpoint: Option<Checkpoint>,
    /// Tables that are loaded and have not taken others' places yet.
    #[serde(default)]
    pub swaps: Vec<Swap>,
    /// Tables that the run makes beside others, as long as nothing of it is loaded.
    #[serde(default)]
    pub beside: Vec<String>,
    /// Whether the statements of `[target] after` are still to be run, where the server runs
    /// them after the commit.
    #[serde(default)]
    pub owes_after: bool,
}

impl State {
    /// Of a run whose rows are committed, and whose statements are still to be run.
    pub fn owing() -> State {
        State {
            owes_after: true,
            ..State::default()
        }
    }
}
